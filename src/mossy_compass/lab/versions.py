"""Two versions of a network, compared for all packets: which end otherwise, from who sends them to the answer.

Of each kind of packets one is walked in both versions (``whole.py``), so that what is shown was seen, and what is not shown fares as
before: every packet that opens something, by every equal way, at every moment that rules can tell apart.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import NamedTuple

from mossy_compass.errors import QuestionError, TooLarge
from mossy_compass.headers.sets import Set
from mossy_compass.headers.spans import merge
from mossy_compass.lab.circumstances import Circumstances, Memories, every_case_of
from mossy_compass.lab.ends import FlowEnd, meant
from mossy_compass.lab.expect import ARRIVED
from mossy_compass.lab.forms import Sets, holding, room, sent_by
from mossy_compass.lab.inwords import Arrives, by_protocol, by_service, shortest
from mossy_compass.lab.never import TAKEN
from mossy_compass.lab.passing import Passing
from mossy_compass.lab.proofs import addresses_meant, device_of, packets_of, services_in
from mossy_compass.lab.unalike import felt
from mossy_compass.lab.whole import MOST_STAYS, Whole, as_known, whole
from mossy_compass.model.network import Kind, Network, link_locals
from mossy_compass.packet.address import Address, Span, parse_address
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.actions import Half
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.ids import TableId, TableKind
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import REASONS, Because
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.routes import policy_rows
from mossy_compass.proof.effects import paired
from mossy_compass.proof.space import FOR_A_NETWORK, with_room
from mossy_compass.walk.grid import Cell, cell_of, differences, fronts_of, services_at
from mossy_compass.walk.journey import Journey, Symptom
from mossy_compass.walk.question import Question

CLOSES, OPENS, LETS_IN, BY_ANOTHER, ANOTHER_WAY, KEEPS_OUT = range(6)
"""What becomes of packets: they are answered no more, or now; something else decides; or they go another way. Of those that open nothing:
they get to whom they are sent now, or no more. The worst first."""
STRAYS = (LETS_IN, KEEPS_OUT)
MOST_WORDS = 8
"""So many services are named where only a part of each is meant; more are told by those of which there is nothing."""
ELSEWHERE = "nobody's address"


class Which(NamedTuple):
    """Packets, in words.

    Attributes:
        sources: who sends them.
        targets: to whom; ``ELSEWHERE`` for addresses that nobody here has.
        services: of which services.
        all_but: of all but those.
        part: of what is meant then it is only a part: to some of the addresses, from some addresses or source ports.

    """

    sources: tuple[str, ...]
    targets: tuple[str, ...]
    services: tuple[Arrives, ...]
    all_but: bool
    part: bool


class Turned(NamedTuple):
    """Packets that end otherwise, all in the same way.

    Attributes:
        kind: ``CLOSES`` and so on.
        before, after: one of them in each version.
        journeys: the same, walked.
        which: all of them, in words.
        when: at which moments; empty for always.

    """

    kind: int
    before: Cell
    after: Cell
    journeys: tuple[Journey, Journey]
    which: tuple[Which, ...]
    when: str

    @property
    def pairs(self) -> set[tuple[str, str]]:
        """Who sends them to whom."""
        return {(source, target) for which in self.which for source in which.sources for target in which.targets}


class ToldHome(NamedTuple):
    """Packets that are lost as before, and whose senders see something else of it: the error about them fares otherwise.

    Attributes:
        journeys: of one of them, in each version.
        kinds: of how many kinds of packets that was seen.
        which: all of them, in words, where errors were followed for all packets; else empty.
        when: at which moments; empty for always.

    """

    journeys: tuple[Journey, Journey]
    kinds: int
    which: tuple[Which, ...]
    when: str

    @property
    def seen(self) -> tuple[str, str]:
        """What the sender saw, and what it sees now."""
        one, other = self.journeys
        return one.symptom.value, other.symptom.value

    @property
    def lost(self) -> tuple[str, Because] | None:
        """Where the error is lost in the one version in which nobody hears of it, and why; None where nothing is sent."""
        back = next((j.back for j in self.journeys if j.symptom is Symptom.SILENCE), None)
        return (back.end, back.because) if back is not None else None


class Compared(NamedTuple):
    """What two versions do to packets otherwise.

    Attributes:
        turned: the packets that end otherwise, the worst first.
        senders: how many devices send.
        kinds: how many kinds of packets were told apart.
        cases: how many moments and circumstances were looked at.
        left: whose packets were not compared, and what is not known of some, a few words each.
        one_sided: who sends in one version alone, with which address.
        told_home: packets that end alike, and whose senders see something else of it.
        errors: for this all packets of each kind were looked at, and not the walked one alone.

    """

    turned: tuple[Turned, ...]
    senders: int
    kinds: int
    cases: int
    left: tuple[str, ...]
    one_sided: tuple[str, ...] = ()
    told_home: tuple[ToldHome, ...] = ()
    errors: bool = False


_Words = tuple[tuple[Arrives, ...], bool, bool]
"""Services, whether all but those are meant, and whether of these it is only a part."""
Watch = Callable[[list[str]], Iterable[str]]


def compare_all(
    before: Plan,
    after: Plan,
    sources: Sequence[str] = (),
    targets: Sequence[str] = (),
    services: Sequence[str] = (),
    watch: Watch = iter,
    most_stays: int = MOST_STAYS * 2,
    errors: bool = False,
) -> Compared:
    """Tell which packets end otherwise in a later version of a network, of all that hosts and routers can send in both.

    Of those that open nothing (later packets of TCP, answers that nobody asked for, pieces, but no resets) it is told whether they get to
    whom they are sent, and nothing else; and not where those that open something turn with them.

    Args:
        before, after: the versions, in the weather that is meant.
        sources, targets: hosts, groups, segments, zones, addresses; everybody when left out.
        services: names, or such as ``tcp/443``; all packets when left out.
        watch: takes the names of the senders, and gives them one by one; for a progress bar.
        most_stays: so many stays of packets at devices are looked at for each sender, in both versions together; of more it is said
            that they are left out.
        errors: ICMP errors are followed home for every kind of packet; else for the walked ones alone.

    Raises:
        QuestionError: nobody is meant, or more moments and circumstances come of it than are looked at.
        TooLarge: the sets need more memory than they are given.

    """
    search = _Versions(before, after, sources, targets, services, most_stays, errors)
    with_room(partial(search.run, watch), FOR_A_NETWORK)
    left = tuple(dict.fromkeys((*search.left, *search.cut, *search.doubts)))
    return Compared(
        search.turned, len(search.starts), search.kinds, len(search.cases), left, tuple(search.one_sided), search.told_home, errors
    )


class _Group(NamedTuple):
    """Packets that turn alike: the first of them, and the sets, each with the number of its case; -1 for all cases. ``kind`` tells
    whether they open something.
    """

    kind: int
    cells: tuple[Cell, Cell]
    journeys: tuple[Journey, Journey]
    sets: list[tuple[Set, int]]


class _Versions:
    """What has been found so far."""

    def __init__(
        self,
        before: Plan,
        after: Plan,
        sources: Sequence[str],
        targets: Sequence[str],
        services: Sequence[str],
        most: int = MOST_STAYS * 2,
        errors: bool = False,
    ) -> None:
        self.most, self.errors = most, errors
        self.plans = before, after
        self.networks = before.network, after.network
        self.asked = sources, targets, services
        self.cases = every_case_of(self.plans)
        self.memories = tuple(map(Memories, self.plans))
        self.felt = felt(before, after)
        self.passing = Passing(before, before.network.devices.keys() - self.felt.alike)
        self.left: list[str] = []
        self.one_sided: list[str] = []
        self.hosts, self.starts = self._senders(sources)
        self.targets = self._targets()
        self.was = _renamed(before, after)

    def _senders(self, words: Sequence[str]) -> tuple[dict[str, tuple[Address, ...]], dict[str, list[str]]]:
        """Every name that sends, with its addresses in both versions; and the names by the device that sends for them."""
        hosts = self._hosts(words)
        starts: dict[str, list[str]] = {}
        for name in hosts:
            owners = {device_of(network, name) for network in self.networks}
            if len(owners) == 1:
                starts.setdefault(owners.pop(), []).append(name)
            else:
                self.left.append(f"packets from {name} (it stands at {' and at '.join(sorted(owners))})")
        if not starts:
            raise QuestionError("nobody of those who are meant sends in both versions, so that there is nothing to compare.")
        return hosts, starts

    def _hosts(self, words: Sequence[str]) -> dict[str, tuple[Address, ...]]:
        """Every name that sends, with its addresses in both versions; what is in one alone is noted."""
        wanted = {a for word in words for n, end in self._meant(word, True) for a in addresses_meant(n, end)}
        before, after = (dict(_who_sends(network)) for network in self.networks)
        hosts: dict[str, tuple[Address, ...]] = {}
        for name in dict.fromkeys((*before, *after)):
            one, other = before.get(name, ()), after.get(name, ())
            own = [a for a in dict.fromkeys((*one, *other)) if not words or a in wanted]
            both = tuple(a for a in own if a in one and a in other)
            self.one_sided += [f"{name} {a} (only {'before' if a in one else 'after'})" for a in own if a not in both]
            if both:
                hosts[name] = both
        return hosts

    def _meant(self, word: str, sends: bool) -> list[tuple[Network, FlowEnd]]:
        """The ends that a word stands for in each version; one of them may not know it."""
        found: list[tuple[Network, FlowEnd]] = []
        faults: list[QuestionError] = []
        for network in self.networks:
            try:
                ends = meant(network, word, sends, True)
            except QuestionError as fault:
                faults.append(fault)
                continue
            self.left += ends.left
            found += [(network, end) for end in ends.ends]
        if len(faults) == len(self.networks):
            raise faults[-1]
        return found

    def _targets(self) -> dict[str, tuple[Address, ...]]:
        """Whom packets go to, by name, in either version; what translation sends on, by its address."""
        found: dict[str, dict[Address, None]] = {}
        for network in self.networks:
            for name, own in _who_sends(network):
                found.setdefault(name, {}).update(dict.fromkeys(own))
            for device in network.devices.values():
                near = [a for port in device.interfaces.values() for a in link_locals(device.name, port)]
                if near:
                    found.setdefault(f"{device.name} (link-local)", {}).update(dict.fromkeys(near))
            for front in fronts_of(network):
                address = parse_address(front)
                if not any(address in own for own in found.values()):
                    found.setdefault(front, {})[address] = None
        return {name: tuple(own) for name, own in found.items()}

    def _wanted(self, strays: bool = False) -> Set:
        """The packets that are asked about: those that open something, or those that open nothing."""
        _, targets, services = self.asked
        sets = self.sets
        held = sets.strays if strays else sets.opening
        if targets:
            held = held & sets.to([a for word in targets for n, e in self._meant(word, False) for a in addresses_meant(n, e)])
        if services:
            held = held & packets_of(sets, [s for n in self.networks for word in services for s in services_in(n, word)])
        return held

    def run(self, watch: Watch, size: int) -> None:
        """Compare what each device sends."""
        self.sets = Sets(room(size))
        self.groups: dict[object, _Group] = {}
        self.doubts: list[str] = []
        self.cut: list[str] = []
        self.heard: dict[object, _Group] = {}
        self.kinds = 0
        self.most_stays = self.most
        wanted = [self._wanted(strays) & self.felt.packets(self.sets) for strays in (False, True)]
        known = self.sets.to([a for own in self.targets.values() for a in own])
        for device in watch(list(self.starts)):
            names = self.starts[device]
            own = [a for n in names for a in self.hosts[n]]
            mine = sent_by(self.sets.space, [a.key for a in own]) & self._passing(device, own)
            for some in wanted:
                sent, settled = mine & some, self.sets.nothing
                for number, case in enumerate(self.cases):
                    now = self._about(case, sent & ~settled)
                    # What goes to somebody first: an example is best one that people know. Of what opens nothing only that can arrive.
                    for part in (now & known, now & ~known) if some is wanted[0] else (now & known,):
                        settled = settled | self._case(device, part, number)
        turned = sorted((self.told(some) for some in self.groups.values()), key=lambda t: (t.kind, -len(t.pairs)))
        self.turned = tuple(_without_followers(turned))
        self.told_home = tuple(self._told_home(some) for some in self.heard.values())

    def _passing(self, device: str, own: Sequence[Address]) -> Set:
        """The packets of a sender that can come past a device that is not alike, as routes lead."""
        return self.sets.space.of_condition(Condition("to", (("destination", self.passing.sent_by(device, own)),)))

    def _about(self, case: tuple[Circumstances, ...], held: Set) -> Set:
        """Those of some packets that a case is about."""
        for one, network in zip(case, self.networks, strict=True):
            held = held & one.packets(network, self.sets)
        return held

    def _case(self, device: str, held: Set, number: int) -> Set:
        """Compare packets at one moment; gives those that fare so at any moment."""
        settled, stays = self.sets.nothing, 0
        case = self.cases[number]
        ask = [partial(self._question, device, one) for one in case]
        memories = [self.memories[n].of(one) for n, one in enumerate(case)]
        while held.satisfiable():
            facts = self.sets.space.witness(held)
            assert facts is not None
            wished = as_known(facts)
            packet = wished if holding(self.sets.space, held, wished, facts.relation) else facts.packet
            try:
                was = whole(self.plans[0], self.sets, held, ask[0](packet), memories[0], self.errors)
                now = was
                if any(h.device not in self.felt.alike for j in was.journeys for leg in j.every_leg for h in leg.every_hop):
                    now = whole(self.plans[1], self.sets, was.held, ask[1](packet), memories[1], self.errors)
            except TooLarge as error:
                self.cut.append(f"some packets of {device}: {error}")
                return settled
            assert holding(self.sets.space, now.held, packet, facts.relation), packet
            held = held & ~now.held
            self.kinds += 1
            stays += was.stays + now.stays
            if stays > self.most_stays:
                self.cut.append(f"some packets of {device}: more than {stays // 2} stays of packets at devices come of it")
                # What makes one sender's packets too many (each port another kind, in a circle) makes those of the next too many too.
                self.most_stays = max(self.most_stays // 4, self.most // 100)
                return settled
            always = not (was.of_case or now.of_case)
            settled = settled | now.held if always else settled
            if now is not was:
                self._weigh(was, now, -1 if always else number)
        return settled

    def _question(self, device: str, case: Circumstances, packet: Packet) -> Question:
        """The question that has a packet."""
        return Question(
            self._sender(packet),
            device,
            str(packet.destination),
            packet.what(),
            packet,
            None,
            packet.destination,
            None,
            case.moment,
        )

    def _sender(self, packet: Packet) -> str:
        """Who sends a packet."""
        return next(name for name, own in self.hosts.items() if packet.source in own)

    def _weigh(self, was: Whole, now: Whole, number: int) -> None:
        """Note packets that fare otherwise; doubts of both versions are told where they could matter."""
        if not was.packet.opening:
            self._weigh_strays(was, now, number)
            return
        found = self._apart(was.journeys, now.journeys)
        if found is None:
            later = {self._told(j, False): j for j in now.journeys}
            pairs = ((j, later[self._told(j, True)]) for j in was.journeys)
            self._hear(next(((one, other) for one, other in pairs if one.symptom != other.symptom), None), now.held, number)
        self.doubts += [f"{was.packet}: {doubt}" for doubt in (*was.doubts, *now.doubts)] if found is None else []
        if found is None:
            return
        ends = self._sender(was.packet), str(was.packet.destination), was.packet.what()
        cells = cell_of(found[0], *ends), cell_of(found[1], *ends)
        old, new = cells
        if old.answered != new.answered:
            kind = CLOSES if old.answered else OPENS
        else:
            same = self._reason(found[0], True) == self._reason(found[1], False)
            kind = ANOTHER_WAY if same and old.symptom == new.symptom and differences(old, new) else BY_ANOTHER
        # What is lost or found by one line of the file is one thing to tell; what was lost before and is now is told by its causes.
        by = new if kind == CLOSES else old
        decided = (by.where, by.place, by.lost) if kind in (CLOSES, OPENS) else _parting(old, new) if kind == ANOTHER_WAY else ()
        key = kind, old.words, new.words, decided
        group = self.groups.setdefault(key, _Group(kind, (old, new), found, []))
        group.sets.append((now.held, number))

    def _hear(self, found: tuple[Journey, Journey] | None, held: Set, number: int) -> None:
        """Note packets whose senders see something else, if one does; by what they see, and where the error about it is lost."""
        if found is not None:
            told = ToldHome(found, 1, (), "")
            cells = tuple(cell_of(j, "", "", "") for j in found)
            group = self.heard.setdefault((told.seen, told.lost), _Group(BY_ANOTHER, (cells[0], cells[1]), found, []))
            group.sets.append((held, number))

    def _told_home(self, group: _Group) -> ToldHome:
        """The same in words; whose they are where the error about each of them was followed."""
        turned = self.told(group) if self.errors else None
        which, when = (turned.which, turned.when) if turned is not None else ((), "")
        return ToldHome(group.journeys, len(group.sets), which, when)

    def _weigh_strays(self, was: Whole, now: Whole, number: int) -> None:
        """Note packets that open nothing, where they get to whom they are sent in one of the versions alone."""
        arrived = [{_arrived(j) for j in one.journeys} for one in (was, now)]
        if arrived[0] == arrived[1]:
            self.doubts += [f"{was.packet}: {doubt}" for doubt in (*was.doubts, *now.doubts)]
            return
        kind = LETS_IN if any(arrived[1] - arrived[0]) else KEEPS_OUT
        one, other = (
            next((j for j in some.journeys if _arrived(j) not in others), some.journeys[0])
            for some, others in ((was, arrived[1]), (now, arrived[0]))
        )
        ends = self._sender(was.packet), str(was.packet.destination), was.packet.what()
        old, new = cell_of(one, *ends), cell_of(other, *ends)
        by = old if kind == LETS_IN else new
        group = self.groups.setdefault((kind, by.words, by.where, by.place), _Group(kind, (old, new), (one, other), []))
        group.sets.append((now.held, number))

    def _apart(self, before: Sequence[Journey], after: Sequence[Journey]) -> tuple[Journey, Journey] | None:
        """A journey of each version that differ, by the same ways where there are as many; None where all are alike."""
        was = [self._told(j, True) for j in before]
        now = [self._told(j, False) for j in after]
        if set(was) == set(now):
            return None
        if len(was) == len(now):
            return next((b, a) for b, a, one, other in zip(before, after, was, now, strict=True) if one != other)
        old = next((j for j, told in zip(before, was, strict=True) if told not in now), before[0])
        return old, next((j for j, told in zip(after, now, strict=True) if told not in was), after[0])

    def _told(self, journey: Journey, earlier: bool) -> tuple[object, ...]:
        """What of a journey is compared: not what becomes of an error about it, which is told apart from how it ends."""
        cell = cell_of(journey, "", "", "")
        answered = journey.back is not None and journey.back.packet.quoted is None
        home = (cell.symptom, cell.exits) if answered else tuple(h.leaving for h in journey.there.every_hop)
        return (*self._reason(journey, earlier), cell.path, home, cell.seen_as)

    def _reason(self, journey: Journey, earlier: bool) -> tuple[object, ...]:
        """How a journey ended and by what, in the names of the earlier version: where rules are counted, their numbers move."""
        by = [journey.because, journey.culprit]
        if journey.back is not None and journey.back.packet.quoted is not None:
            by = by[:1]  # what lies behind it is why an error about it is lost
        if not earlier:
            by = [_in_old_words(b, self.was) for b in by]
        return journey.answered, journey.fate, journey.cause, journey.lost, journey.deciding.end, *by

    # in words

    def told(self, group: _Group) -> Turned:
        """Packets that turn alike, in words."""
        sets = self.sets
        everything = sets.space.union(held for held, _ in group.sets)
        elsewhere = sets.space.possible & ~sets.to([a for own in self.targets.values() for a in own])
        by_words: dict[tuple[str, _Words], list[str]] = {}
        for name, own in self.hosts.items():
            mine = everything & _from(sets, own)
            if not mine.satisfiable():
                continue
            rest = mine
            for target, addresses in self.targets.items():
                to = sets.to(addresses)
                if (mine & to).satisfiable():
                    words = self._services(target, own, mine & to, to, group.kind in STRAYS)
                    by_words.setdefault((target, words), []).append(name)
                    rest = rest & ~to
            if rest.satisfiable():
                words = self._services("", own, rest, elsewhere, group.kind in STRAYS)
                by_words.setdefault((ELSEWHERE, words), []).append(name)
        alike: dict[tuple[tuple[str, ...], _Words], list[str]] = {}
        for (target, words), names in by_words.items():
            alike.setdefault((tuple(names), words), []).append(target)
        which = tuple(Which(names, tuple(to), *words) for (names, words), to in alike.items())
        return Turned(group.kind, *group.cells, group.journeys, which, self._when(group))

    def _services(self, target: str, own: tuple[Address, ...], mine: Set, to: Set, strays: bool) -> _Words:
        """The services of packets to a target, or all but those; and whether of these it is only a part."""
        asked = self._wanted(strays) & to & sent_by(self.sets.space, [a.key for a in own])
        network = next((n for n in self.networks if target in n.devices or n.far_host(target)), self.networks[1])
        listens = services_at(network, target) if target in network.devices or network.far_host(target) else ["ping"]
        whole = list(by_protocol(self.sets, asked, mine)) if strays and not self.asked[2] else []
        if whole and not any(one.partly for one in whole):
            return tuple(whole), False, False
        words, all_but = shortest(network, self.sets, asked, mine, mine, listens)
        if self.asked[2] and words == (Arrives("everything", False, False),):
            return tuple(by_service(network, self.sets, asked, mine, mine, listens)), False, False
        if all_but or len(words) <= MOST_WORDS:
            return words, all_but, False
        # A part of nearly everything, as to one of several addresses: the few of which there is nothing are told.
        names = {one.words for one in words}
        without = tuple(one for one in by_service(network, self.sets, asked, asked, asked, listens) if one.words not in names)
        if without and len(without) < len(words):
            return without, True, True
        return tuple(by_protocol(self.sets, asked, mine)), False, False

    def _when(self, group: _Group) -> str:
        """At which moments and in which circumstances, in words; empty for always."""
        numbers = {number for _, number in group.sets}
        if -1 in numbers:
            return ""
        # A case that is about other packets, as those of another application, says nothing of these.
        meant = self.sets.space.union(held for held, _ in group.sets)
        concerned = {n for n, case in enumerate(self.cases) if self._about(case, meant).satisfiable()}
        if numbers == concerned:
            return ""
        words = [self.cases[n][1].words or self.cases[n][0].words for n in sorted(numbers)]
        named = "while no name was asked for" if any(c.learned for case in self.cases for c in case) else "as things usually are"
        first = words[0] or ("outside every window of time" if any(n.hours for n in self.networks) else named)
        more = len(numbers) - 1
        return first + (f", and {more} more of {len(concerned)} moments and circumstances" if first and more else "")


def _without_followers(turned: Sequence[Turned]) -> Iterator[Turned]:
    """Without packets that open nothing where what opens something turns with them: for the same ends and services, at the same times."""
    led: dict[tuple[int, str, str, str], list[Which]] = {}
    for one in turned:
        if one.kind in (CLOSES, OPENS):
            for which in one.which:
                for source, target in itertools.product(which.sources, which.targets):
                    led.setdefault((one.kind, one.when, source, target), []).append(which)
    for one in turned:
        if one.kind not in STRAYS:
            yield one
            continue
        kind = OPENS if one.kind == LETS_IN else CLOSES
        rest = tuple(
            which
            for which in one.which
            if not all(
                _leads((w for when in {"", one.when} for w in led.get((kind, when, *pair), ())), which)
                for pair in itertools.product(which.sources, which.targets)
            )
        )
        if rest:
            yield one._replace(which=rest)


def _leads(led: Iterable[Which], which: Which) -> bool:
    """Whether packets that open something turn for every service that others are of; a part leads no more than a part."""
    some = [w for w in led if which.part or not w.part]
    words = {one.words for one in which.services}
    if which.all_but:
        return any(w.all_but and {one.words for one in w.services} <= words for w in some)
    if any(w.all_but and not words & {one.words for one in w.services} for w in some):
        return True
    named = [one for w in some if not w.all_but for one in w.services]
    return all(any(n.words in (one.words, "everything") and (one.partly or not n.partly) for n in named) for one in which.services)


def _arrived(journey: Journey) -> str:
    """Who got a packet, be it that it refuses it or does not know what it answers; empty where it was lost on its way."""
    leg = journey.there
    return leg.end if leg.fate in ARRIVED or leg.cause.startswith(TAKEN) else ""


def _who_sends(network: Network) -> Iterator[tuple[str, tuple[Address, ...]]]:
    """Every name that has addresses: devices, hosts first, and far hosts."""
    for device in sorted(network.devices.values(), key=lambda d: d.kind is not Kind.HOST):
        own = tuple(dict.fromkeys(a for a, _ in device.own_addresses() if not a.is_link_local))
        if own:
            yield device.name, own
        yield from ((far.name, far.addresses) for far in device.far_hosts.values() if not far.off)


def _parting(old: Cell, new: Cell) -> tuple[object, ...]:
    """Where two ways part, and where they meet again; or what else of a journey is another."""
    what, was, now = differences(old, new)[0]
    if what != "way":
        return what, was, now
    one, other = list(old.path), list(new.path)
    while len(one) > 1 and len(other) > 1 and one[:2] == other[:2]:
        one, other = one[1:], other[1:]
    while len(one) > 1 and len(other) > 1 and one[-2:] == other[-2:]:
        one, other = one[:-1], other[:-1]
    return what, tuple(one), tuple(other)


def _from(sets: Sets, own: Iterable[Address]) -> Set:
    """The packets from some addresses."""
    return sets.space.of_condition(Condition("from", (("source", merge(Span(a.key, a.key) for a in own)),)))


_Row = tuple[str, str, str]
"""A row: of a list, a translation or a policy route; the name of the list or device; its id."""


def _renamed(before: Plan, after: Plan) -> dict[_Row, str]:
    """What rows are called that had another id before."""
    plans = before, after
    rows: dict[tuple[str, str], list[Sequence[Row]]] = {}
    for name, there in after.attached.items():
        device = next((d for d, *_ in there if d in before.network.devices), None)
        if device is not None and name in before.network.lists and after.network.devices[device].layer3:
            rows["list", name] = [plan.device(device).read_list(name).rows for plan in plans]
    for name in after.network.devices:
        if all(name in plan.network.devices and plan.network.devices[name].layer3 for plan in plans):
            for kind, half in (("translation", Half.SOURCE), ("translation to", Half.DESTINATION)):
                rows[kind, name] = [plan.device(name).translations[half].rows for plan in plans]
            rows["policy", name] = [policy_rows(plan.device(name)).rows for plan in plans]
    return {
        (kind.partition(" ")[0], name, new): old
        for (kind, name), both in rows.items()
        for new, old in paired(*both).items()
        if old != new
    }


def _in_old_words(because: Because, was: Mapping[_Row, str]) -> Because:
    """A reason with the ids that its rows had before, and the reasons within it."""
    names = REASONS[because.code].names
    values = {n: _in_old_words(v, was) if isinstance(v, Because) else v for n, v in zip(names, because.values, strict=True)}
    if "row" in values:
        table = values.get("table")
        by_list = values.get("list") or (table.name if isinstance(table, TableId) and table.kind is TableKind.LIST else "")
        kind = "list" if by_list else "policy" if because.code.startswith("policy") else "translation"
        values["row"] = was.get((kind, str(by_list or values.get("device")), str(values["row"])), values["row"])
    return because._replace(values=tuple(values.values()))
