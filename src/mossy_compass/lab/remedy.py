"""What would give a flow the end that is wanted: single changes, each tried, with everything else that it changes.

A proposal is a few steps of a change file, made from where and why the packet ended. Who reads and writes files does them; nothing is
told that was not walked afterwards.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, NamedTuple

from mossy_compass.errors import MossyError, QuestionError, TooLarge
from mossy_compass.lab.examples import walker
from mossy_compass.lab.expect import arrives, families
from mossy_compass.lab.findings import findings
from mossy_compass.lab.lab import Flow
from mossy_compass.lab.uncovered import uncovered
from mossy_compass.lab.versions import CLOSES, OPENS, Compared, compare_all
from mossy_compass.marks import Problem
from mossy_compass.model.network import Kind, Network, Rule, Verdict
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, WITH_PORTS, protocol_name
from mossy_compass.plan.conditions import Miss
from mossy_compass.plan.facts import Facts, Recollection
from mossy_compass.plan.ids import TableKind
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Did
from mossy_compass.proof.effects import Effects, effects
from mossy_compass.state.state import State
from mossy_compass.walk.grid import Cell, Changes, Grid, cell_of, compare, gathered
from mossy_compass.walk.journey import Hop, Journey, Leg, Ruling
from mossy_compass.walk.many import paths
from mossy_compass.walk.question import services_of
from mossy_compass.walk.trace import trace_one
from mossy_compass.walk.weather import in_weather

Step = Mapping[str, Any]
"""A step of a change file, as plain data."""
Make = Callable[[Sequence[Step]], Network | None]
"""Does steps on a network's text; None where they cannot be done, or give a network with errors."""
MOST_DEEP = 4
"""So many lists in a row are opened together; more is no single remedy any more."""
MOST_TRIED = 80
MOST_TOLD = 8
MOST_STAYS = 400
"""So many stays of packets at devices are looked at for each sender, when a remedy is followed for all packets."""
MOST_RULES = 20_000
"""In a network of more rules it is not looked what is found in the changed one: that would take longer than somebody waits."""


class Proposal(NamedTuple):
    """Something that could help.

    Attributes:
        words: what is done.
        steps: the same as steps of a change file.
        narrow: it is about this flow alone, and may be joined with others of its kind.

    """

    words: str
    steps: tuple[Step, ...]
    narrow: bool = False


class Remedy(NamedTuple):
    """Something that helps: it was tried.

    Attributes:
        words: what is done, one for each part.
        steps: of the change.
        journey: of the flow afterwards.
        changes: how the tests of a grid differ, without the flow itself.
        effects: what else it does to packets, exactly.
        tests: how many were tested.
        unknown: what of it no test looks at, and was not worked out exactly.
        new: what is found in the changed network, and was not before.
        radius: which packets end otherwise, of all that anybody can send; None where that could not be worked out.
        why_not: why it could not; empty where it could.

    """

    words: tuple[str, ...]
    steps: tuple[Step, ...]
    journey: Journey
    changes: Changes
    effects: Effects
    tests: int
    unknown: tuple[str, ...]
    new: tuple[Problem, ...] = ()
    radius: Compared | None = None
    why_not: str = ""

    @property
    def others(self) -> int:
        """How many other tests end differently or go another way."""
        return sum(map(len, (self.changes.changed, self.changes.rerouted, self.changes.come, self.changes.gone)))

    @property
    def followed(self) -> bool:
        """Whether it is known of all packets what becomes of them."""
        return self.radius is not None and not self.radius.left

    @property
    def wide(self) -> tuple[bool, int, int]:
        """How much opens or closes by it: whether that is not wholly known, for how many pairs, and how many services of these."""
        if self.radius is None:
            return True, 0, 0
        turned = [t for t in self.radius.turned if t.kind in (CLOSES, OPENS)]
        pairs = {pair for t in turned for pair in t.pairs}
        services = sum(MUCH if which.all_but else len(which.services) for t in turned for which in t.which)
        return not self.followed, len(pairs), services


MUCH = 1_000
"""All services but some count as so many."""


class Remedies(NamedTuple):
    """What helps, smallest first.

    Attributes:
        flow: which.
        wanted: whether it is to be answered, or not to arrive.
        before: its journey as things are.
        found: what helps.
        tried: how many proposals were tried.
        more: how many that help are not among these.
        farthest: where nothing helps, what took the packet or its answer farthest, in words, with its journey; None where nothing did.

    """

    flow: Flow
    wanted: bool
    before: Journey
    found: tuple[Remedy, ...]
    tried: int
    more: int
    farthest: tuple[tuple[str, ...], Journey] | None = None

    @property
    def so_already(self) -> bool:
        """Whether nothing has to be done."""
        return fits(self.before, self.wanted)


def fits(journey: Journey, wanted: bool) -> bool:
    """Whether a journey ends as it is wanted: answered, or not arrived."""
    return journey.answered if wanted else not arrives(journey)


def remedies(network: Network, flow: Flow, wanted: bool, make: Make, tests: Sequence[Flow]) -> Remedies:
    """Look for changes after which a flow ends as it is wanted.

    Args:
        network: the network.
        flow: which; of one service.
        wanted: whether it is to be answered, or not to arrive.
        make: does steps on the network's text.
        tests: flows that tell what else changes.

    Raises:
        QuestionError: there is no such sender, target or service.

    """
    plan = in_weather(Plan(network))
    before = _ask(plan, flow, wanted)
    if fits(before, wanted):
        return Remedies(flow, wanted, before, (), 0, 0)
    search = _Attempts(flow, wanted, make)
    search.run(plan, before)
    old = _grid(plan, tests)
    found = [_weighed(plan, old, flow, tests, *h) for h in _least(search.helping)]
    found.sort(key=lambda r: (len(r.unknown), r.others, _turns(r.effects), len(r.words)))
    sender = next((h.device for h in before.there.hops), "")
    plans = {id(h.steps): h.plan for h in search.helping}
    told = [_followed(r, plan, plans[id(r.steps)], sender) for r in found[:MOST_TOLD]]
    told.sort(key=lambda r: (not r.followed and len(r.unknown), r.wide, r.others, _turns(r.effects), len(r.words)))
    if told and sum(len(entry.rules) for entry in network.lists.values()) <= MOST_RULES:
        known = {(p.code, p.message) for p in findings(plan)}
        told = [r._replace(new=tuple(p for p in findings(plans[id(r.steps)]) if (p.code, p.message) not in known)) for r in told]
    farthest = search.farthest(before) if wanted and not told else None
    return Remedies(flow, wanted, before, tuple(told), search.tried, len(found) - len(told), farthest)


class _Attempts:
    """Changes that were tried for a flow.

    Attributes:
        helping: after which it ends as it is wanted.
        moved: after which it ends elsewhere than before, and not as it is wanted.
        tried: how many were tried.

    """

    def __init__(self, flow: Flow, wanted: bool, make: Make) -> None:
        self.flow, self.wanted, self.make = flow, wanted, make
        self.helping: list[_Tried] = []
        self.moved: list[_Tried] = []
        self.tried = 0

    def run(self, plan: Plan, before: Journey) -> None:
        """Try what could help, and what could help further where something about this flow alone has moved it."""
        queue = [_Tried((), (), plan, before)]
        seen: set[str] = set()
        while queue:
            last = queue.pop(0)
            for proposal in _proposals(last.plan, last.journey, self.wanted):
                done = (*last.steps, *proposal.steps)
                if (last.words and not proposal.narrow) or repr(done) in seen:
                    continue
                if self.tried >= MOST_TRIED:
                    return
                seen.add(repr(done))
                found = self._try((*last.words, proposal.words), done)
                if found is not None and _moved(last.journey, found.journey):
                    self.moved.append(found)
                    queue += [found] if proposal.narrow and len(found.words) < MOST_DEEP else []

    def _try(self, words: tuple[str, ...], steps: tuple[Step, ...]) -> _Tried | None:
        """What comes of a change that does not help; None of one that does, or cannot be made."""
        self.tried += 1
        changed = _made(self.make, steps)
        after = _asked(changed, self.flow, self.wanted) if changed is not None else None
        if changed is None or after is None:
            return None
        found = _Tried(words, steps, changed, after)
        if fits(after, self.wanted):
            self.helping.append(found)
            return None
        return found

    def farthest(self, before: Journey) -> tuple[tuple[str, ...], Journey] | None:
        """The change with which the packet, or its answer, came farthest; None where none took it anywhere else than where it ends now."""
        found = max(self.moved, key=lambda m: (_came(m.journey), -len(m.words)), default=None)
        return (found.words, found.journey) if found is not None and _came(found.journey) >= _came(before) else None


def _came(journey: Journey) -> tuple[int, int]:
    """How far a packet came, and its answer, in devices."""
    return len(journey.there.hops), len(journey.back.hops) if journey.back is not None else 0


class _Tried(NamedTuple):
    """A change that was tried: in words, its steps, the network with it, and the flow's journey there."""

    words: tuple[str, ...]
    steps: tuple[Step, ...]
    plan: Plan
    journey: Journey


def _least(helping: Sequence[_Tried]) -> list[_Tried]:
    """Those of which no part could be left out, each once."""
    parts = [frozenset(h.words) for h in helping]
    return [h for n, h in enumerate(helping) if parts[n] not in parts[:n] and not any(other < parts[n] for other in parts)]


def _ask(plan: Plan, flow: Flow, wanted: bool) -> Journey:
    """The journey of a flow: of all equal ways one that does not end as wanted, where there is one.

    What is not to arrive must not do so in either family.
    """
    first: Journey | None = None
    for one in [flow] if wanted else families(plan.network, flow):
        for path in paths(plan, one.source, one.target, one.service, one.options, State()).paths:
            if not fits(path.journey, wanted):
                return path.journey
            first = first or path.journey
    assert first is not None
    return first


def _asked(plan: Plan, flow: Flow, wanted: bool) -> Journey | None:
    """The same in a changed network; None where it cannot be asked there."""
    try:
        return _ask(plan, flow, wanted)
    except MossyError:
        return None


def _tested(plan: Plan, flow: Flow) -> Cell | None:
    """A test of a grid; None where it cannot be asked."""
    try:
        journey = trace_one(plan, flow.source, flow.target, flow.service, flow.options)
    except MossyError:
        return None
    return cell_of(journey, flow.source, flow.target, flow.label)


def _made(make: Make, steps: Sequence[Step]) -> Plan | None:
    """The plan of a changed network; None where there is none."""
    network = make(steps)
    return in_weather(Plan(network)) if network is not None else None


def _moved(before: Journey, after: Journey) -> bool:
    """Whether a packet, or its answer, came further than before, or was stopped by something else; or another one is left to be closed."""
    one, other = (
        (j.lost, j.deciding.end, j.deciding.cause, j.because, j.there.packet.destination, tuple(h.device for h in j.there.hops))
        for j in (before, after)
    )
    return one != other


def _grid(plan: Plan, tests: Sequence[Flow]) -> Grid:
    """What tests come to."""
    return gathered(cell for f in tests for cell in [_tested(plan, f)] if cell is not None)


def _weighed(
    plan: Plan,
    old: Grid,
    flow: Flow,
    tests: Sequence[Flow],
    words: tuple[str, ...],
    steps: tuple[Step, ...],
    after: Plan,
    journey: Journey,
) -> Remedy:
    """A remedy with everything else that it changes."""
    mine = (flow.source, flow.target)
    changes = compare(old, _grid(after, tests))
    same = {c.key for _, c in changes.changed if c.key[:2] == mine and _asks(plan.network, c.service, flow.service)}
    others = replace(changes, changed=tuple(pair for pair in changes.changed if pair[1].key not in same))
    return Remedy(
        words, steps, journey, others, effects(plan, after, walker(after, plan)), len(tests), uncovered(plan, after, changes)
    )


def _followed(remedy: Remedy, before: Plan, after: Plan, sender: str) -> Remedy:
    """A remedy with what it does to all packets; those of the flow's own sender come first, should they be too many."""
    try:
        radius = compare_all(before, after, watch=lambda names: sorted(names, key=lambda n: n != sender), most_stays=MOST_STAYS)
        return remedy._replace(radius=radius)
    except (QuestionError, TooLarge) as error:
        return remedy._replace(why_not=str(error))


def _asks(network: Network, label: str, service: str) -> bool:
    """Whether a test's label is of a service, by whatever name."""
    word = label.partition(" ")[0]
    return services_of(network, word) == services_of(network, service)


def _turns(found: Effects) -> int:
    """How many pairs of verdicts turn, and ways that change, beside one."""
    return sum(len(e.turns) for e in found.lists) + sum(len(p.turns) for p in found.places) + len(found.ways.found)


# --- proposals ---------------------------------------------------------------------------------------------------


def _proposals(plan: Plan, journey: Journey, wanted: bool) -> Iterator[Proposal]:
    """What could help, from where and why a packet ended; or from what let it pass, where it is not to arrive."""
    if not wanted:
        yield from _closing(plan, journey)
        return
    leg = journey.deciding
    hop = leg.hops[-1]
    ruling = next((r for r in reversed(hop.rulings) if r.cause), None)
    if ruling is None:
        return
    back = journey.lost == "back"
    if ruling.cause.startswith("filter") and ruling.table.kind is TableKind.LIST:
        yield from _opening(plan, hop, ruling, back)
    if back and plan.network.devices[hop.device].layer3:
        yield from _inspecting(plan, hop.device, ruling.saw)
    if ruling.cause in ("filter.default", "filter.inbound", "session.none") or (
        ruling.cause.startswith("filter") and ruling.table.kind is not TableKind.LIST
    ):
        yield from _attaching(plan, hop, ruling, back)
    if ruling.cause.startswith(("route.", "loop", "policy.")) or leg.cause == "loop":
        yield from _routing(plan, leg, ruling.saw.destination)
    if back:
        yield from _hiding(plan, journey)


def _opening(plan: Plan, hop: Hop, ruling: Ruling, back: bool) -> Iterator[Proposal]:
    """A list that stops a packet: a permit for it alone; what is nearly one; what stands in the way."""
    name, facts = ruling.table.name, _facts(hop, ruling)
    yield _alone(plan, ruling, "permit", back)
    rules, at = _place(plan, ruling)
    written = {r.id: (n, r) for n, r in enumerate(rules)}
    for row in plan.device(hop.device).read_list(name).rows:
        number, rule = written.get(row.id, (0, None))
        if rule is None or rule.verdict is not Verdict.PERMIT:
            continue
        missed = list(row.misses(facts))
        if not missed and number > at:
            step = {"move": {"what": f"lists/{name}/{row.id}", "before": rules[at].id}}
            yield Proposal(f"move rule {row.id} of list {name} above rule {rules[at].id}", (step,))
        if len(missed) == 1 and number < at:
            yield from _widening(plan, name, rule, missed[0], ruling.saw)
    yield from _disabling(plan, ruling)
    yield from _narrowing(plan, ruling)


def _place(plan: Plan, ruling: Ruling) -> tuple[Sequence[Rule], int]:
    """The rules of the list that ruled, and the place of the one that did; behind the last for the end of the list."""
    rules = plan.network.lists[ruling.table.name].rules
    return rules, next((n for n, r in enumerate(rules) if r.id == ruling.row), len(rules))


def _alone(plan: Plan, ruling: Ruling, verdict: str, back: bool) -> Proposal:
    """A rule for a packet alone, in front of the one that ruled."""
    name, (rules, at) = ruling.table.name, _place(plan, ruling)
    value = _value(plan, verdict, ruling.saw, back, _free(rules, at))
    where: dict[str, Any] = {"before": rules[at].id} if at < len(rules) else {}
    place = f"above rule {rules[at].id}" if at < len(rules) else "at its end"
    step = {"insert": {"into": f"lists/{name}", "value": value, **where}}
    return Proposal(f"{verdict} it in list {name}, {place}: {_flow(value)}", (step,), True)


def _disabling(plan: Plan, ruling: Ruling) -> Iterator[Proposal]:
    """The rule that ruled is disabled; nothing for the end of a list."""
    name, (rules, at) = ruling.table.name, _place(plan, ruling)
    if at < len(rules):
        yield Proposal(f"disable rule {rules[at].id} of list {name}", ({"disable": f"lists/{name}/{rules[at].id}"},))


def _narrowing(plan: Plan, ruling: Ruling) -> Iterator[Proposal]:
    """The rule that ruled could be about less: without the entry that the packet is met by, or that without a member."""
    name, (rules, at) = ruling.table.name, _place(plan, ruling)
    if at == len(rules):
        return
    rule, packet = rules[at], ruling.saw
    within = f"lists/{name}/{rule.id}"
    for key, terms, address in (("from", rule.sources, packet.source), ("to", rule.destinations, packet.destination)):
        for term in terms or ():
            if not term.holds(address):
                continue
            if len(terms or ()) > 1:
                words = f"take {term.words} out of {key} of rule {rule.id} of list {name}"
                yield Proposal(words, ({"remove": f"{within}/{key}/{term.words}"},))
            yield from _leaving(plan, term, address)
    words_of = rule.service_words.split(", ")
    for word in words_of if len(words_of) > 1 else ():
        if any(s is not None and s.covers(packet.protocol, packet.slot) for s in services_of(plan.network, word)):
            yield Proposal(
                f"take {word} out of service of rule {rule.id} of list {name}", ({"remove": f"{within}/service/{word}"},)
            )


def _leaving(plan: Plan, term: Term, address: Address) -> Iterator[Proposal]:
    """A group without the member that an address belongs to, and the groups within it."""
    group = plan.network.groups.get(term.words)
    for member in group.terms if group is not None else ():
        if member.holds(address):
            if group is not None and len(group.terms) > 1:
                words = f"take {member.words} out of group {term.words}"
                yield Proposal(words, ({"remove": f"groups/{term.words}/{member.words}"},))
            yield from _leaving(plan, member, address)


def _widening(plan: Plan, name: str, rule: Rule, miss: Miss, packet: Packet) -> Iterator[Proposal]:
    """A permit that one condition keeps from being met: who is missing joins the group that it names."""
    if miss.key == "disabled":
        yield Proposal(f"enable rule {rule.id} of list {name}", ({"enable": f"lists/{name}/{rule.id}"},))
    if miss.key not in ("from", "to"):
        return
    terms = rule.sources if miss.key == "from" else rule.destinations
    address = packet.source if miss.key == "from" else packet.destination
    for term in terms or ():
        if term.words in plan.network.groups:
            who = _called(plan, address)
            step = {"insert": {"into": f"groups/{term.words}", "value": who}}
            yield Proposal(f"put {who} into group {term.words}, which rule {rule.id} of list {name} permits", (step,))


def _inspecting(plan: Plan, device: str, answer: Packet) -> Iterator[Proposal]:
    """A device that stops an answer: it could keep sessions of the protocol."""
    tracked = plan.device(device).tracked
    if answer.protocol in tracked:
        return
    word = protocol_name(answer.protocol)
    words = f"keep sessions of {word} at {device}, so that answers pass"
    into = f"devices/{device}"
    every = [*(protocol_name(p) for p in sorted(tracked)), word]
    # As it is written: a list, nothing, or one word.
    yield Proposal(words, ({"insert": {"into": f"{into}/stateful", "value": word}},), True)
    yield Proposal(words, ({"insert": {"into": into, "name": "stateful", "value": every}},), True)
    yield Proposal(words, ({"replace": {"what": f"{into}/stateful", "with": every}},), True)


def _attaching(plan: Plan, hop: Hop, ruling: Ruling, back: bool) -> Iterator[Proposal]:
    """A default that stops a packet where no list lets it in: a list for it alone."""
    arriving = hop.arriving
    if arriving is None or plan.network.devices[hop.device].interfaces[arriving].arriving_lists:
        return
    outside = plan.device(hop.device).is_outside(arriving)
    yield _attached(plan, hop, _value(plan, "permit", ruling.saw, back, 10), not outside)


def _attached(plan: Plan, hop: Hop, value: dict[str, Any], rest: bool) -> Proposal:
    """A new list with one rule at the interface where a packet arrives; ``rest``: everything else goes on as before."""
    name = next(n for n in (f"added-{k}" for k in range(1, 1000)) if n not in plan.network.lists)
    steps = (
        {"insert": {"into": "lists", "name": name, "value": [value, *([{"id": 20, "permit": "any"}] if rest else [])]}},
        {"insert": {"into": f"devices/{hop.device}/interfaces/{hop.arriving}", "name": "filter", "value": {"arriving": name}}},
    )
    verb = "denies" if "deny" in value else "permits"
    words = f"attach a list to what arrives by {hop.device}/{hop.arriving} that {verb} it: {_flow(value)}"
    return Proposal(words, steps, True)


def _routing(plan: Plan, leg: Leg, destination: Address) -> Iterator[Proposal]:
    """A device that knows no way: a route to the subnet by a neighbour that does."""
    goal = next(
        (
            a.prefix
            for d in plan.network.devices.values()
            for i in d.interfaces.values()
            for a in i.addresses
            if a.prefix.holds(destination)
        ),
        None,
    )
    if goal is None:
        return
    for device in dict.fromkeys(h.device for h in leg.hops):
        here = plan.network.devices[device]
        if not here.layer3 or here.kind is Kind.INTERNET:  # nobody asks strangers for a route
            continue
        for port in here.interfaces.values():
            domain = plan.domains.of(device, port.name)
            for other, address in _neighbours(plan, device, domain, destination.family):
                words = f"a route at {device}: {goal} by {other} ({address})"
                value = {"prefix": str(goal), "next-hop": str(address)}
                into = f"devices/{device}"
                if here.routes:
                    yield Proposal(words, ({"insert": {"into": f"{into}/routes", "value": value}},), True)
                else:
                    yield Proposal(words, ({"insert": {"into": into, "name": "routes", "value": [value]}},), True)


def _neighbours(plan: Plan, device: str, domain: Any, family: int) -> Iterator[tuple[str, Address]]:
    """Routers and firewalls on a segment, with their addresses there."""
    for other in plan.network.devices.values():
        if other.name == device or not other.layer3 or other.kind is Kind.HOST:
            continue
        for port in other.interfaces.values():
            if domain is not None and plan.domains.of(other.name, port.name) == domain:
                yield from (
                    (other.name, a.address) for a in port.addresses if a.address.family == family and not a.address.is_link_local
                )


def _hiding(plan: Plan, journey: Journey) -> Iterator[Proposal]:
    """An answer that is lost outside: its source could be translated where it leaves one's own networks."""
    source = journey.there.packet.source
    for hop in journey.there.hops:
        here = plan.network.devices[hop.device]
        if hop.leaving is None or not here.layer3 or hop.arriving is None or not plan.device(hop.device).is_outside(hop.leaving):
            continue
        value = {"source": _called(plan, source), "leaving": hop.leaving}
        words = f"translate {value['source']} at {hop.device} as it leaves by {hop.leaving}"
        into = f"devices/{hop.device}"
        if here.translate:
            yield Proposal(words, ({"insert": {"into": f"{into}/translate", "value": value}},), True)
        else:
            yield Proposal(words, ({"insert": {"into": into, "name": "translate", "value": [value]}},), True)


def _closing(plan: Plan, journey: Journey) -> Iterator[Proposal]:
    """Every list that let a packet pass: a deny for it alone, or the permit disabled; a list for it alone where none is asked."""
    for hop in journey.there.hops:
        here = plan.network.devices[hop.device]
        passes = hop.arriving is not None and here.layer3 and here.kind in (Kind.ROUTER, Kind.FIREWALL)
        if (
            passes
            and not here.interfaces[hop.arriving or ""].arriving_lists
            and not plan.device(hop.device).is_outside(hop.arriving or "")
        ):
            yield _attached(
                plan, hop, _value(plan, "deny", hop.rulings[0].saw if hop.rulings else journey.there.packet, False, 10), True
            )
        for ruling in hop.rulings:
            if ruling.table.kind is not TableKind.LIST or ruling.did is not Did.PERMITTED:
                continue
            yield _alone(plan, ruling, "deny", False)
            yield from _disabling(plan, ruling)
            yield from _narrowing(plan, ruling)


def _facts(hop: Hop, ruling: Ruling) -> Facts:
    """What a list was asked with."""
    at = ruling.situation
    facts = Facts(ruling.saw, hop.arriving, Recollection(at.known.names), at.leaving, device=hop.device)
    facts.relation = at.relation
    return facts


def _value(plan: Plan, verdict: str, packet: Packet, back: bool, ident: str | int) -> dict[str, Any]:
    """A rule for a packet alone."""
    word = protocol_name(packet.protocol)
    value: dict[str, Any] = {
        "id": ident,
        verdict: word,
        "from": _called(plan, packet.source),
        "to": _called(plan, packet.destination),
    }
    if packet.protocol in WITH_PORTS and not packet.fragment:
        if back:
            value |= {"from-port": packet.from_port, "state": ["answering"]}
        else:
            value["service"] = f"{word}/{packet.to_port}"
    elif packet.protocol in (ICMP, ICMP6) and packet.icmp >= 0:
        value["icmp"] = [packet.what().partition("/")[2]]
    return value


def _called(plan: Plan, address: Address) -> str:
    """A host by its name, where that means this address alone; else the address."""
    owners = [d for d in plan.network.devices.values() if address in [a for a, _ in d.own_addresses()]]
    far = [h.name for d in plan.network.devices.values() for h in d.far_hosts.values() if h.addresses == (address,)]
    if len(far) == 1 and not owners:
        return far[0]
    if len(owners) == 1 and owners[0].kind is Kind.HOST:
        held = [a for a, _ in owners[0].own_addresses() if a.family == address.family and not a.is_link_local]
        if held == [address]:
            return owners[0].name
    return str(address)


def _free(rules: Sequence[Rule], at: int) -> str | int:
    """A number for a rule that stands in front of another: between its neighbours, where there is one; else a name."""
    numbers = [int(r.id) if r.id.isdigit() else None for r in rules]
    last = numbers[at - 1] if at else 0
    following = numbers[at] if at < len(rules) else None
    taken = {r.id for r in rules}
    if at == len(rules):
        top = max((n for n in numbers if n is not None), default=0)
        return top + 10
    if last is not None and following is not None and following - last > 1:
        return (last + following) // 2
    return next(n for n in (f"added-{k}" for k in range(1, 10_000)) if n not in taken)


def _flow(value: Mapping[str, Any]) -> str:
    """A rule as people write it."""
    return "{" + ", ".join(f"{k}: {_written(v)}" for k, v in value.items()) + "}"


def _written(value: Any) -> str:
    """A value as people write it."""
    return f"[{', '.join(map(str, value))}]" if isinstance(value, list) else str(value)
