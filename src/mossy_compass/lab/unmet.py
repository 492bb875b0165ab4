"""What is written and no packet of anybody ever meets: rules, translations, policy routes, routes; and why not.

Everything that every device here can send is followed as sets, over every moment that rules tell apart, and what it meets is noted;
then the answers. What is left is told with a packet that it is about, and where that one goes instead.
"""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import replace
from functools import partial
from typing import NamedTuple

from mossy_compass.errors import TooLarge
from mossy_compass.headers.sets import Set
from mossy_compass.lab.cells import Fared, Stayed, as_many, flood_from
from mossy_compass.lab.circumstances import Circumstances, Memories, every_case
from mossy_compass.lab.couldmeet import could_meet, given_by
from mossy_compass.lab.forms import Form, Sets, room, sent_by
from mossy_compass.lab.unalike import says, with_those_that_say
from mossy_compass.lab.whole import wholes
from mossy_compass.marks import Mark, Problem, Severity
from mossy_compass.model.check import place_words, standing_lists
from mossy_compass.model.network import Kind, Network, PolicyRoute, Verdict
from mossy_compass.packet.address import Address, parse_address
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.actions import Decision
from mossy_compass.plan.alike import Met
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.ids import POLICY_ROUTES
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Did, Fate
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.crossings import offers_table
from mossy_compass.plan.stages.routes import policy_rows
from mossy_compass.plan.stages.tunnel import selector_row, tunnels_of
from mossy_compass.proof.space import FOR_A_NETWORK, with_room
from mossy_compass.walk.grid import fronts_of
from mossy_compass.walk.journey import Hop, Journey, Ruling
from mossy_compass.walk.question import Question
from mossy_compass.walk.sent import sent
from mossy_compass.walk.weather import in_weather

LATE = 1000
"""A packet of a conversation by which its application is known, whenever that becomes known."""
MOST_FOLLOWED = 10_000
"""So many stays of packets at devices are looked at for one moment."""
MOST_TRIED, MOST_TRIED_OF_ONE = 60, 12
"""So many packets are tried for one row before everything is followed, and so many of one sender."""
MOST_ANSWERED = 400
"""So many sets of packets that arrive are asked for the ways of their answers, kind by kind; of others, one packet each."""
_OF_THE_SENT = {"service", "source", "destination", "from-port", "source-bits", "destination-bits", "identifier"}
NEVER = frozenset(
    (
        *("rule.never", "rule.shadowed", "rule.source-nowhere", "policy.shadowed", "policy.source-nowhere", "policy.never-arrives"),
        *("translate.shadowed", "translate.source-nowhere", "translate.never-arrives", "route.inactive", "idle.no-stage"),
    )
)
"""Codes of findings which say themselves that something is never met."""
_REMEDIES = {
    "idle.rule": "See whether it stands where it should, or take it out.",
    "idle.translation": "See whether its packets come there, or take it out.",
    "idle.policy": "See whether its packets come there, or take it out.",
    "idle.route": "Take it out, unless it is for when something fails.",
    "idle.candidate": "Put it first, or take it out.",
    "idle.offer": "Take it out, unless it is for somebody who is not modelled.",
    "idle.selector": "See whether its packets come there, or take it out.",
    "idle.name": "See what is said of those; or take it out with them.",
}
_OF_THE_CASE = {"hours", "application", "last-resort"}


class Meetable(NamedTuple):
    """Something that somebody wrote for packets to meet.

    Attributes:
        code: of the finding that nothing meets it.
        words: what it is called, and where it stands.
        mark: where it is written.
        row: its conditions; None for a route.
        devices: where packets would meet it.
        keys: what is noted where a packet does: a place in the file, or a way.
        about: of a route, the condition that its prefix is.
        lists_at: of a rule of a list, where that stands: device, the word for the way, interface.
        instead: why nothing can meet it, where that is known from what is written.

    """

    code: str
    words: str
    mark: Mark
    row: Row | None
    devices: tuple[str, ...]
    keys: tuple[object, ...]
    about: tuple[Condition, ...] = ()
    instead: str = ""
    lists_at: tuple[tuple[str, str, str], ...] = ()

    @property
    def conditions(self) -> tuple[Condition, ...]:
        """What it asks of a packet."""
        return self.row.conditions if self.row is not None else self.about

    def ports(self, device: str, way: str) -> frozenset[str]:
        """The interfaces of a device by which packets that meet it must come (``arriving``) or go (``leaving``); empty for any."""
        stands = {(name, by) for name, by, _ in self.lists_at}
        if stands - {(device, way)}:  # it stands elsewhere too, which is enough
            return frozenset()
        said = [set(values) for c in self.conditions if c.fields == (way,) for _, values in c.parts]
        return frozenset().union(*said, (port for _, _, port in self.lists_at))


class Unmet(NamedTuple):
    """What nobody's packets meet.

    Attributes:
        found: one finding each.
        written: how many things were looked for.
        met: how many of them are met.
        sources: how many devices send.
        kinds: how many kinds of packets were told apart.
        cases: how many moments and circumstances were looked at.
        left: what was not looked at, a few words each.
        unknown: of what it is not known whether something meets it, since not everything was looked at.
        looked_for: whether packets meet what is written at a place; None where that is not known.

    """

    found: tuple[Problem, ...]
    written: int
    met: int
    sources: int
    kinds: int
    cases: int
    left: tuple[str, ...]
    unknown: tuple[str, ...] = ()
    looked_for: Mapping[Mark, bool | None] = {}


Watch = Callable[[list[Circumstances]], Iterable[Circumstances]]


def unmet(of: Plan, known: Iterable[Problem] = (), lines: Mapping[str, list[str]] | None = None, watch: Watch = iter) -> Unmet:
    """What is written and met by no packet that any device here can send, on its way there or of its answer.

    Args:
        of: the network, compiled.
        known: what was found already: of what can never be met by that, nothing is said again.
        lines: the lines of the files that marks point into.
        watch: takes the moments and circumstances, and gives them one by one; for a progress bar.

    Raises:
        QuestionError: more moments and circumstances come of it than are looked at.
        TooLarge: the sets need more memory than they are given.

    """
    plan = in_weather(of)
    cases = every_case(plan)
    everything, never = list(_written(plan)), {p.mark for p in known if p.code in NEVER}
    search = _Meetings(plan, [w for w in everything if w.mark not in never], cases)
    with_room(partial(search.run, watch), FOR_A_NETWORK)
    # Nothing is said to be met by nothing while something was not looked at, unless what is written says so by itself.
    found = tuple(
        search.told(w, lines or {}) for w in search.open if (w.instead or not search.left) and not search.within_another(w)
    )
    unknown = tuple(w.words for w in search.open if not w.instead) if search.left else ()
    lost = [*search.open, *(w for w in everything if w.mark in never)]
    if not search.left:
        found += tuple(replace(p, source=_line_of(p.mark, lines or {})) for p in _only_unmet(plan, search.met))
    return Unmet(
        found=found,
        written=len(everything),
        met=len(everything) - len(search.open) - len(never & {w.mark for w in everything}),
        sources=len(search.starts),
        kinds=search.kinds,
        cases=len(cases),
        left=tuple(dict.fromkeys(search.left)),
        unknown=unknown,
        looked_for={w.mark: (False if w.mark in never or not search.left else None) if w in lost else True for w in everything},
    )


def _written(plan: Plan) -> Iterator[Meetable]:
    """Everything that packets could meet: rules of lists that stand somewhere, and what is written at devices."""
    yield from _rules(plan)
    for name in plan.network.devices:
        here = plan.device(name)
        yield from _translations(here)
        yield from _steered(here)
        yield from _asked_for(here)
        yield from _routes(here)


def _rules(plan: Plan) -> Iterator[Meetable]:
    """The rules of lists that stand somewhere."""
    network = plan.network
    where: dict[str, dict[str, str]] = {}
    stands: dict[str, list[tuple[str, str, str]]] = {}
    off: dict[str, set[bool]] = {}
    for device in network.devices.values():
        for names, place, way in standing_lists(device):
            for name in names:
                where.setdefault(name, {})[place_words(device.name, place, way)] = device.name
                stands.setdefault(name, []).append((device.name, way, place))
                off.setdefault(name, set()).add(way == "everywhere" and not device.gates.everywhere_on)
    for name, places in where.items():
        if name not in network.lists:
            continue
        devices = tuple(dict.fromkeys(places.values()))
        rows = {r.id: r for r in plan.device(devices[0]).read_list(name).rows}
        at = f"{' and '.join(list(places)[:2])}{' and elsewhere' if len(places) > 2 else ''}"
        why = "it stands where nothing is asked (enabled: no)" if off[name] == {True} else ""
        for rule in network.lists[name].rules:
            if not rule.disabled and rule.verdict is not Verdict.NOTE:
                words = f"{name} rule {rule.id} (at {at})"
                yield Meetable(
                    "idle.rule", words, rule.mark, rows.get(rule.id), devices, (rule.mark,), (), why, tuple(stands[name])
                )


def _translations(here: DevicePlan) -> Iterator[Meetable]:
    """The translation rules of a device."""
    rows = {r.id: r for t in here.translations.values() for r in t.rows}
    for rule in here.device.translate:
        if not rule.disabled:
            words = f"translation {rule.id} of {here.name}"
            yield Meetable("idle.translation", words, rule.mark, rows.get(rule.id), (here.name,), (rule.mark,))


def _steered(here: DevicePlan) -> Iterator[Meetable]:
    """The policy routes of a device, with their candidates."""
    rows = {r.id: r for r in policy_rows(here).rows} if here.device.policy_routes else {}
    for entry in here.device.policy_routes:
        if not entry.rule.disabled:
            row, mark = rows.get(entry.rule.id), entry.rule.mark
            yield Meetable("idle.policy", f"policy route {entry.rule.id} of {here.name}", mark, row, (here.name,), (mark,))
            yield from _candidates(here.name, entry, row)


def _routes(here: DevicePlan) -> Iterator[Meetable]:
    """The static routes of a device, of the table that forwarding asks."""
    for route in here.device.routes:
        if route.table == "main" and route.origin == "static":
            best = here.table.exact(route.prefix)
            in_force = best is not None and (best.preference, best.metric) == (route.preference, route.metric)
            others = "" if in_force or best is None else f"{best.words()} is in force there, which is better"
            served = here.table.served(lambda r, best=best: r is best) if in_force else (route.prefix.span,)  # type: ignore[misc]
            about = (Condition("to", (("destination", served),)),)
            ways = [way for way in (route.next_hop, route.leaving) if way is not None and in_force]
            keys = (route.mark, *((here.name, route.prefix, way) for way in ways))
            words = f"the static route to {route.prefix} of {here.name}"
            yield Meetable("idle.route", words, route.mark, None, (here.name,), keys, about, others)


def _candidates(device: str, entry: PolicyRoute, row: Row | None) -> Iterator[Meetable]:
    """The candidates of a policy route that stand behind one that waits for nothing: what waits for a probe is for when it fails."""
    of = f"policy route {entry.rule.id} of {device}"
    for number, way in enumerate(entry.candidates):
        if any(not earlier.probe for earlier in entry.candidates[:number]):
            words = f"candidate {number + 1} of {of}"
            yield Meetable("idle.candidate", words, way.mark, row, (device,), ((entry.rule.mark, number),))


def _asked_for(here: DevicePlan) -> Iterator[Meetable]:
    """What a device offers by an interface, and the selectors of its tunnels."""
    for offer in here.device.gates.offers:
        table = offers_table(here, offer.interface)
        row = next((r for r in table.rows if r.mark == offer.mark), None) if table is not None else None
        words = f"the offer of {offer.word} by {here.name}/{offer.interface}"
        why = "" if row is not None else "nothing is asked there"
        yield Meetable("idle.offer", words, offer.mark, row, (here.name,), (offer.mark,), (), why)
    for port, tunnel in tunnels_of(here):
        for number, selector in enumerate(tunnel.selectors, 1):
            row = selector_row(here, selector)
            words = f"selector {number} of {here.name}/{port.name}"
            yield Meetable("idle.selector", words, selector.mark, row, (here.name,), (selector.mark,))


def _only_unmet(plan: Plan, met: Collection[object]) -> Iterator[Problem]:
    """Groups, services, windows and applications that are named by nothing but what no packet meets."""
    network = plan.network
    rows, elsewhere = _that_name(network)
    groups = (
        ("group", network.groups),
        ("service", network.services),
        ("window", network.hours),
        ("application", network.applications),
    )
    for kind, parts in groups:
        for name, part in parts.items():
            words = with_those_that_say((network,), {name}) if kind in ("group", "service") else {name}
            named = [(what, mark) for what, row, mark in rows if any(says(row, word) for word in words)]
            if not named or any(mark in met for _, mark in named) or any(says(e, word) for e in elsewhere for word in words):
                continue
            more = f" and {len(named) - 3} more" if len(named) > 3 else ""
            message = (
                f"{kind} {name} is named by nothing that any packet meets, only by {', '.join(w for w, _ in named[:3])}{more}."
            )
            yield Problem("idle.name", Severity.NOTE, part.mark, message, _REMEDIES["idle.name"])


def _that_name(network: Network) -> tuple[list[tuple[str, object, Mark]], list[object]]:
    """What may name a group or the like: rows of which it is told whether they are met, each in words; and everything else."""
    rows: list[tuple[str, object, Mark]] = [
        (f"{name} rule {rule.id}", rule, rule.mark) for name, listed in network.lists.items() for rule in listed.rules
    ]
    elsewhere: list[object] = [r for e in network.lists.values() for r in e.rules if r.verdict is Verdict.NOTE]
    for device in network.devices.values():
        rows += [(f"translation {t.id} of {device.name}", t, t.mark) for t in device.translate]
        rows += [(f"policy route {e.rule.id} of {device.name}", e, e.rule.mark) for e in device.policy_routes]
        elsewhere.append(replace(device, translate=(), policy_routes=()))
    return rows, elsewhere


class _Meetings:
    """What has been met so far, and what is left."""

    def __init__(self, plan: Plan, written: list[Meetable], cases: list[Circumstances]) -> None:
        self.plan, self.written, self.cases = plan, written, cases
        self.starts: dict[str, tuple[Address, ...]] = {}
        for device in sorted(plan.network.devices.values(), key=lambda d: d.kind is not Kind.HOST):
            own = [a for a, _ in device.own_addresses() if not a.is_link_local]
            own += [a for far in device.far_hosts.values() if not far.off for a in far.addresses]
            if own:
                self.starts[device.name] = tuple(own)
        # Of the Internet people know the hosts there, and not its own end of a cable.
        self.far = {
            d.name: [a for far in d.far_hosts.values() if not far.off for a in far.addresses] for d in plan.network.devices.values()
        }
        self.given = given_by(plan.network)
        self.memories = Memories(plan)
        self.beside: dict[str, set[str]] = {}
        for segment in plan.network.segments.values():
            members = {name for name, _ in segment.members}
            for name in members:
                self.beside.setdefault(name, set()).update(members)
        # What is met is, and what was tried need not be again, whatever room for sets there is.
        self.met: set[object] = set()
        self.were_tried: set[tuple[object, ...]] = set()
        self.begin()

    def begin(self) -> None:
        """Nothing is followed yet."""
        self.kinds = 0
        self.left: list[str] = []

    @property
    def open(self) -> list[Meetable]:
        """What nothing has met."""
        return [w for w in self.written if not self.met.intersection(w.keys)]

    def within_another(self, written: Meetable) -> bool:
        """Whether nothing meets what it is a part of, which is told of that."""
        return written.code == "idle.candidate" and not self.met.intersection(
            key[0] for key in written.keys if isinstance(key, tuple)
        )

    @property
    def sought(self) -> list[Meetable]:
        """What nothing has met, and something could."""
        return [w for w in self.open if not w.instead]

    def run(self, watch: Watch, size: int) -> None:
        """Send what is likely to meet something, then follow everything that can be sent, until all is met."""
        self.begin()
        self.sets = Sets(room(size))
        space = self.sets.space
        self.sent = {name: sent_by(space, [a.key for a in own]) for name, own in self.starts.items()}
        own = dict.fromkeys(a for some in self.starts.values() for a in some)
        fronts = dict.fromkeys(map(parse_address, fronts_of(self.plan.network)))
        self.targets = [self.sets.to((a,)) for a in {**own, **fronts}]
        for written in self.sought:
            if written.keys not in self.were_tried and not self.met.intersection(written.keys):
                self.were_tried.add(written.keys)
                self._try(written)
        arrived: list[tuple[Fared, Circumstances]] = []
        for case in watch(sorted(self.cases, key=lambda c: -sum(_at(w.conditions, c) for w in self.open))):
            if self.sought:
                arrived += self._case(case)
        self._answered(arrived)
        self.left = self.left if self.sought else []

    def _try(self, written: Meetable) -> None:
        """Send packets that it is about, and such as are answered with those."""
        fit = [c for c in self.cases if c.only is None and _at(written.conditions, c)] or self.cases[:1]
        cases = [fit[0], *[c for c in fit if c.learned or c.agreed][:1]]
        # Whoever stands beside it is the likeliest to meet it.
        near = {name for device in written.devices for name in self.beside.get(device, ())}
        senders = sorted(self.sent, key=lambda name: name not in near)
        tried: Counter[str] = Counter()
        for form in (Form(), Form().reversed()):
            about = self._about(written, form)
            towards = [held for to in self.targets if (held := about & to).satisfiable()]
            for opening, case, name in itertools.product((self.sets.opening, ~self.sets.opening), cases, senders):
                mine = about & opening & self.sent[name]
                for held in towards if mine.satisfiable() else ():
                    if tried[name] >= MOST_TRIED_OF_ONE:
                        break
                    facts = self.sets.space.witness(held & mine)
                    if facts is not None:
                        tried[name] += 1
                        self._walk(facts.packet, case)
                    if self.met.intersection(written.keys) or tried.total() > MOST_TRIED:
                        return

    def _about(self, written: Meetable, form: Form) -> Set:
        """The packets that meet its conditions as they are sent, or by the answers to them, as far as that can be said of a packet."""
        held, facts = self.sets.space.possible, Facts(Packet(0, Address(4, 0), Address(4, 0)), None)
        for condition in written.conditions:
            if condition.fields and set(condition.fields) <= _OF_THE_SENT:
                held = held & self.sets.of(Met((condition,)), facts, form)
        return held

    def _case(self, case: Circumstances) -> list[tuple[Fared, Circumstances]]:
        """Follow everything at one moment; gives what arrives somewhere."""
        memory, found = self.memories.of(case), []
        could = self.sets.space.union(could_meet(self.sets, w.conditions, self.given) for w in self.sought)
        now = could & case.packets(self.plan.network, self.sets)
        starts = [(name, mine & now) for name, mine in self.sent.items()]
        pieces = flood_from(self.plan, self.sets, starts, case.moment, memory, True, (), self._stayed, MOST_FOLLOWED)
        for piece in as_many(pieces, self._more):
            self.kinds += 1
            # What comes of a packet beside its own way: an answer, or an error.
            facts = self.sets.space.witness(piece.held) if piece.answered else None
            if facts is not None:
                self._walk(facts.packet, case)
            if piece.end[1] in (Fate.DELIVERED.value, Fate.REFUSED.value):
                found.append((piece, case))
            if self.kinds % 50 == 0 and not self.sought:
                break
        return found

    def _more(self, error: TooLarge) -> None:
        """There are more kinds of packets than are looked at."""
        self.left.append(f"packets of some kinds, since {error}")

    def _answered(self, arrived: list[tuple[Fared, Circumstances]]) -> None:
        """Every kind of answers to what arrives."""
        for number, (piece, case) in enumerate(arrived):
            if not self.sought:
                return
            if number == MOST_ANSWERED:
                self.left.append(f"answers to {len(arrived) - number} more kinds of packets, but for one of each")
                return
            for mine in self.sent.values():
                held = piece.held & mine & self.sets.opening
                if held.satisfiable():
                    self._answers(held, case)

    def _stayed(self, done: Stayed) -> None:
        """Note what a set of packets met at a device."""
        for ruling in done.stay.rulings:
            self._ruled(done.stay.here.name, ruling)

    def _ruled(self, device: str, ruling: Ruling) -> None:
        """Note what a ruling rests on."""
        for because in _within(ruling.because):
            if because.mark is not None:
                self.met.add(because.mark)
            if ruling.hop is not None and because.code == "route":
                prefix = because.named["prefix"]
                self.met |= {(device, prefix, ruling.hop.address), (device, prefix, ruling.hop.interface)}
        if ruling.decision.table == POLICY_ROUTES:
            self._steered(device, ruling.decision)

    def _steered(self, device: str, decision: Decision) -> None:
        """Note which candidate of a policy route was the way."""
        note = decision.note
        passed = note.values[0] if note is not None and note.code == "note.candidate" else ()
        if decision.did is not Did.FELL_THROUGH and decision.because.code != "policy.unavailable":
            entry = next(e for e in self.plan.network.devices[device].policy_routes if e.rule.id == decision.row)
            self.met.add((entry.rule.mark, len(passed)))

    def _saw(self, journey: Journey) -> None:
        """Note what a journey met, there, back and in errors."""
        for leg in journey.every_leg:
            for hop in leg.every_hop:
                for ruling in hop.rulings:
                    self._ruled(hop.device, ruling)

    def _walk(self, packet: Packet, case: Circumstances) -> None:
        """One packet, with what comes of it."""
        memory = self.memories.of(case)
        with memory.unchanged():
            self._saw(sent(self.plan, self._question(packet, case), memory)[0])

    def _answers(self, held: Set, case: Circumstances) -> None:
        """Every kind of answers to some packets of one sender."""
        memory = self.memories.of(case)
        kinds = wholes(self.plan, self.sets, held, lambda p: self._question(p, case), memory, lambda f: f.packet)
        for whole in as_many(kinds, self._more):
            for journey in whole.journeys:
                self._saw(journey)

    def _question(self, packet: Packet, case: Circumstances) -> Question:
        """The question that has a packet, of whoever has its source; to where it goes is no matter of names."""
        device = next(name for name, own in self.starts.items() if packet.source in own)
        far = self.plan.network.devices[device].far_hosts
        sender = next((f.name for f in far.values() if packet.source in f.addresses), device)
        to = packet.destination
        return Question(sender, device, str(to), packet.what(), packet, None, to, None, case.moment)

    # what is told

    def told(self, written: Meetable, lines: Mapping[str, list[str]]) -> Problem:
        """The finding about something that nothing meets."""
        line = _line_of(written.mark, lines)
        message = f"{written.words} is met by no packet that anybody here can send: {self._why(written)}."
        return Problem(written.code, Severity.NOTE, written.mark, message, _REMEDIES[written.code], line)

    def _why(self, written: Meetable) -> str:
        """Why nothing meets it, in words: nobody sends such packets, or a packet of them and where it goes instead."""
        if written.instead:
            return written.instead
        if written.code == "idle.candidate":
            return "one before it is to be had for each that comes"
        if any(set(c.fields) & {"relation", "session"} for c in written.conditions):
            return (
                "nothing that is asked there is in the state that it wants, for what belongs to sessions passes without being asked"
            )
        held = self._about(written, Form())
        case = next((c for c in self.cases if _at(written.conditions, c)), self.cases[0])
        near, found = self._before(written), dict[tuple[bool, bool, bool], str]()
        for is_near, journey in itertools.islice(self._examples(held, near, case), MOST_TRIED):
            there = next((h for h in journey.there.every_hop if h.device in written.devices), None)
            if there is None:
                found.setdefault((not is_near, True, False), self._elsewhere(journey, written))
                continue
            amiss = _amiss(written, there)
            told = self._beside(journey, there, case, amiss)
            if not amiss and there.leaving in (written.ports(there.device, "leaving") or (there.leaving,)):
                return told
            # What is sent from before the interface that it stands at tells most; then what comes to the device at all, and ends there.
            found.setdefault((not is_near, False, bool(amiss)), told)
        return found[min(found)] if found else self._nobody(written)

    def _examples(self, held: Set, near: Collection[str], case: Circumstances) -> Iterator[tuple[bool, Journey]]:
        """Packets of a set, walked: one for each target and sender, those who are near first; and whether its sender is."""
        senders = [(name, self._known(name)) for name in self.sent]
        senders = [(name, mine) for name, mine in senders if (held & mine).satisfiable()]
        targets = [to for to in (*self.targets, self.sets.space.possible) if (held & to).satisfiable()]
        for is_near in (True, False):
            some = [(name, mine) for name, mine in senders if (name in near) == is_near]
            for to, (_, mine) in itertools.product(targets, some):
                opening = held & to & mine & self.sets.opening
                facts = self.sets.space.witness(opening if opening.satisfiable() else held & to & mine)
                if facts is not None:
                    memory = self.memories.of(case)
                    with memory.unchanged():
                        journey = sent(self.plan, self._question(facts.packet, case), memory)[0]
                    yield is_near, journey

    def _known(self, name: str) -> Set:
        """What a device sends, or what the hosts send for which it stands."""
        far = self.far[name]
        return sent_by(self.sets.space, [a.key for a in far]) if far else self.sent[name]

    def _before(self, written: Meetable) -> set[str]:
        """Who stands on the segment of an interface by which packets must come to meet it."""
        domains = self.plan.domains
        ports = ((device, port) for device in written.devices for port in written.ports(device, "arriving"))
        return {name for at in ports if (domain := domains.of(*at)) is not None for name, _ in domain.members if name != at[0]}

    def _nobody(self, written: Meetable) -> str:
        """That nobody sends such packets; by whom they would have to be sent, where that is why."""
        for condition in written.conditions:
            if set(condition.fields) <= {"source", "source-bits"} and condition.fields:
                held = self.sets.space.of_condition(condition)
                if not any((held & mine).satisfiable() for mine in self.sent.values()):
                    return "no device here has an address that its source means"
        return "no device here sends packets that it is about"

    def _beside(self, journey: Journey, there: Hop, case: Circumstances, amiss: str) -> str:
        """That packets come there, and what is done with them instead."""
        written = [r.because for r in there.rulings if r.because.mark is not None]
        told = [b for b in written if b.kind != "route"] or written
        met, why = (list(dict.fromkeys(b.cited() for b in told if _is_row(b) == row)) for row in (True, False))
        took = "; ".join([f"it meets {' and '.join(met[:3])}"] * bool(met) + why[:1]) or "nothing is asked about it"
        when = f" ({case.words})" if case.words else ""
        by_which = f" by {there.arriving}" if there.arriving is not None else ""
        return f"{journey.there.packet}{when} comes to {there.device}{by_which}{amiss}, and there {took}"

    def _elsewhere(self, journey: Journey, written: Meetable) -> str:
        """That packets do not come there, and where they go."""
        path = " > ".join(dict.fromkeys(h.device for h in journey.there.every_hop))
        because = journey.there.because
        end = f"{journey.there.fate.value} there{' by ' if _is_row(because) else ': '}{because.cited()}"
        return f"{journey.there.packet} does not come to {' or '.join(written.devices[:3])}; it goes {path}, and is {end}"


def _is_row(because: Because) -> bool:
    """Whether a reason is the name of something that packets meet, and no sentence of its own."""
    return because.code in (
        "rule",
        "rule.built-in",
        "list.end",
        "translation",
        "translation.hairpin",
        "policy",
        "route",
        "selector",
    )


def _amiss(written: Meetable, there: Hop) -> str:
    """By which interfaces a packet does not come to a device, or leave it, and would have to; empty where it does, or ends before."""
    arriving, leaving = (sorted(written.ports(there.device, way)) for way in ("arriving", "leaving"))
    if arriving and there.arriving not in arriving:
        return f", not by {' or '.join(arriving[:3])}"
    if leaving and there.leaving is not None and there.leaving not in leaving:
        return f", and leaves by {there.leaving}, not by {' or '.join(leaving[:3])}"
    return ""


def _line_of(mark: Mark, lines: Mapping[str, list[str]]) -> str | None:
    """The line that a place is in; None where it is not known."""
    source = lines.get(mark.file, [])
    return source[mark.line - 1] if 0 < mark.line <= len(source) else None


def _at(conditions: Iterable[Condition], case: Circumstances) -> bool:
    """Whether the conditions of a row about times and the like hold in a case."""
    facts = Facts(Packet(0, Address(4, 0), Address(4, 0)), None, None, None, case.moment, LATE)
    return all(c.holds(facts) for c in conditions if c.fields and set(c.fields) <= _OF_THE_CASE)


def _within(because: Because) -> Iterator[Because]:
    """A reason, and the reasons that it names."""
    yield because
    for value in because.values:
        if isinstance(value, Because):
            yield from _within(value)
