"""What else a reader should know of a journey: what is written and had no effect, what nearly matched, what was passed over unseen.

None of it decides anything, and all of it is found by asking the plan again, so it is looked for when somebody reads it: a sweep
of thousands of tests reads the verdict alone.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from mossy_compass.marks import Mark
from mossy_compass.model.network import Network, Verdict
from mossy_compass.model.settings import EndOfList
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6
from mossy_compass.plan.actions import Half, Rewrite
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Facts, Known, facts_of
from mossy_compass.plan.ids import TableKind, list_id
from mossy_compass.plan.order import Stage
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Fate
from mossy_compass.plan.rows import Row
from mossy_compass.plan.table import Near, Table
from mossy_compass.walk.astray import stood_in
from mossy_compass.walk.journey import Beside, Hop, Journey, Leg, Ruling, Way
from mossy_compass.walk.learned import kept_default
from mossy_compass.walk.walk import learns, left_in_clear, longest_inside

FILTERED = ("filter.rule", "filter.end", "filter.empty", "filter.none", "filter.inbound", "filter.outbound", "filter.through")
"""Causes of packets that a list, or the default where lists stand, has stopped."""


def beside(journey: Journey) -> Beside:
    """What stands beside the verdict of a journey.

    Args:
        journey: with the plan that it was walked on.

    """
    plan = journey.plan
    if plan is None:
        return Beside()
    return Beside(
        tuple(_although(plan, journey.there, journey.back)),
        _near(plan, journey.deciding),
        (
            *_suspects(plan, journey),
            *_before_translation(plan, journey.deciding),
            *_in_clear(plan, journey),
            *_told(plan, journey),
            *kept_default(plan, journey.deciding),
            *_sent_on(journey.deciding),
            *_beside(plan, journey.deciding),
            *_as_opened(journey.legs[:2]),
            *_path_mtu(plan, journey.legs[:2]),
            *_passed_candidates(journey.legs[:2]),
            *_out_of_force(plan, journey.deciding),
            *_unlogged(plan, journey.deciding),
        ),
    )


def beside_unsent(journey: Journey) -> Beside:
    """What stands beside the verdict on a packet that was never sent: what is wrong around who has no address."""
    plan = journey.plan
    return Beside(told=(*_suspects(plan, journey), *_lessors(plan, journey))) if plan is not None else Beside()


def _lessors(plan: Plan, journey: Journey) -> Iterator[Because]:
    """Who leases addresses elsewhere, where somebody gets none: perhaps one of the two is on the wrong segment."""
    if journey.remark is None or journey.remark.code != "note.lease":
        return
    without = (journey.remark.named["device"], journey.remark.named["port"])
    own = plan.domains.link(*without)
    if not own.up:
        yield Because("told.down", (*without, own.why), own.mark)
        return
    every = [(device, pool) for device in plan.network.devices.values() for pool in device.leases]
    for device, pool in every[:_MOST_BESIDE]:
        domain, link = plan.domains.of(device.name, pool.interface), plan.domains.link(device.name, pool.interface)
        if not link.up:
            yield Because("told.down", (device.name, pool.interface, link.why), link.mark)
        if domain is not None and without not in domain.members:
            yield Because("told.leases", (device.name, pool.interface, domain.name), pool.mark)


_UNREACHED = ("route.none", "neighbour.silent", "interface.down", "source.check", "source.own", "loop")
"""Causes that most often go back to a fault which no device on the way can see."""
_FAULTS = ("segment.mask", "vlan.not-carried", "ospf.no-neighbour", "ospf.one-end", "interface.same-subnet")
"""Findings about the network that are such faults."""
_FOLLOWING = ("host.gateway-silent", "route.next-hop-silent", "subnet.overlap")
"""Others, which follow from those as often as not: told where none of those fits."""
_MOST_SUSPECTS, _MOST_BESIDE = 2, 3


def _suspects(plan: Plan, journey: Journey) -> Iterator[Because]:
    """What is known to be wrong with the network where a packet was lost, and the list that stands on the wrong side."""
    leg = journey.deciding
    if leg.cause in FILTERED:
        yield from _misplaced(plan, leg)
    if leg.cause in ("source.none", "target.none"):
        touched = set(_around(plan, journey.sender if leg.cause == "source.none" else journey.target))
    elif leg.cause not in _UNREACHED or not leg.packet.protocol:
        return
    else:
        yield from _asked_on_link(plan, leg)
        touched = set(_touched(plan, leg))
    from mossy_compass.routing.findings import findings  # only for a packet that got nowhere

    known = plan.once("faults", lambda: tuple(p for p in findings(plan.routing) if p.code in (*_FAULTS, *_FOLLOWING)))
    fitting = [p for p in known if touched & {p.mark, *(mark for mark, _ in p.also)}]
    told = journey.behind is not None and journey.behind.code == "root.down"  # what follows from that is no other fault
    fitting = [p for p in fitting if p.code in _FAULTS] or ([] if told else fitting)
    for problem in fitting[:_MOST_SUSPECTS]:
        yield Because("told.fault", (problem.message, problem.remedy, problem.code), problem.mark)


def _touched(plan: Plan, leg: Leg) -> Iterator[Mark]:
    """Where the ports are written that the loss of a packet may go back to: those it passed, and those of the switches between.

    Where a device had no route, all its ports that speak a routing protocol, and those of whoever speaks it with them.
    """
    network = plan.network
    for hop in leg.hops:
        yield from (r.because.mark for r in hop.rulings if r.hop is not None and r.because.mark is not None)
        for port in (hop.arriving, hop.leaving):
            if port is not None and port in network.devices[hop.device].interfaces:
                yield network.devices[hop.device].interfaces[port].mark
    if leg.cause in ("route.none", "source.own", "loop") and any(
        p.ospf for hop in leg.hops for p in network.devices[hop.device].interfaces.values()
    ):
        yield from _of_speakers(network)
    for name in (leg.end, plan.owner(leg.arrived.destination) or ""):
        yield from _around(plan, name)


def _around(plan: Plan, name: str) -> Iterator[Mark]:
    """Where the ports of the switches are written that a device is behind."""
    device = plan.network.devices.get(name)
    for port in device.interfaces if device is not None else ():
        domain = plan.domains.of(name, port)
        for switch in domain.switches if domain is not None else ():
            yield from (p.mark for p in plan.network.devices[switch].interfaces.values())


def _of_speakers(network: Network) -> Iterator[Mark]:
    """Where it is written of interfaces that they speak OSPF."""
    for device in network.devices.values():
        for port in device.interfaces.values():
            if port.ospf:
                yield port.mark
                yield port.ospf.mark


def _before_translation(plan: Plan, leg: Leg) -> Iterator[Because]:
    """A destination rule that would have sent on what a list stopped: the list sees the packet as it was before."""
    last = leg.hops[-1].rulings[-1] if leg.hops[-1].rulings else None
    if last is None or leg.cause not in FILTERED or last.stage != Stage.ARRIVING_LIST:
        return
    here = plan.device(leg.end)
    row = here.translations[Half.DESTINATION].first(facts_of(last)) if here.device.translate else None
    action = row.actions[0] if row is not None and row.actions else None
    if row is not None and isinstance(action, Rewrite):
        port = last.saw.to_port + action.port_shift if action.port is None else action.port
        goal = action.address or (action.servers[0] if action.servers else None)
        if goal is not None:
            yield Because("told.before-translation", (row.id, here.name, goal, port, last.saw.protocol), row.mark)


def _asked_on_link(plan: Plan, leg: Leg) -> Iterator[Because]:
    """A route without a next hop, for which the destination itself was asked for on a segment where it does not live."""
    taken = next((r for r in leg.hops[-1].rulings if r.hop is not None), None)
    if leg.cause != "neighbour.silent" or taken is None or taken.hop is None or taken.hop.address is not None:
        return
    if taken.because.code == "route" and taken.because.named["origin"] == "static":
        values = leg.end, taken.saw.destination, taken.hop.interface, plan.device(leg.end).settings.asks_peer
        yield Because("told.on-link", values, taken.because.mark)


def _misplaced(plan: Plan, leg: Leg) -> Iterator[Because]:
    """The list that stopped a packet, where what its rules are about does not pass."""
    last = leg.hops[-1].rulings[-1] if leg.hops[-1].rulings else None
    if last is None or last.table.kind is not TableKind.LIST or last.stage not in _INTERFACE:
        return
    from mossy_compass.plan.sides import wrong_side  # only for a packet that a list stopped

    here, way = plan.device(leg.end), _INTERFACE[last.stage]
    port = last.arriving if way == "arriving" else last.leaving
    source = plan.network.lists.get(last.table.name)
    found = wrong_side(here, source, port, way) if source is not None and port is not None else None
    if found is not None:
        values = last.table.name, here.name, port, way, found.whose, found.behind, found.instead
        yield Because("told.wrong-side", values, found.mark)


_INTERFACE = {Stage.ARRIVING_LIST.value: "arriving", Stage.LEAVING_LIST.value: "leaving"}


def _passed_candidates(legs: Sequence[Leg]) -> Iterator[Because]:
    """The entries of policy routes whose first choice was not to be had: the packet went another way than they say first."""
    said: set[tuple[str, str]] = set()
    for leg in legs:
        for hop in leg.hops:
            for ruling in hop.rulings:
                if (hop.device, ruling.row) in said:
                    continue
                remark = ruling.remark
                passed = (
                    remark.named["passed"] if remark is not None and remark.code in ("note.steered", "note.no-candidate") else ()
                )
                if passed:
                    said.add((hop.device, ruling.row))
                    yield Because("told.passed-candidate", (ruling.row, hop.device, passed, ruling.taken.hop), ruling.because.mark)


def _out_of_force(plan: Plan, leg: Leg) -> Iterator[Because]:
    """What stands written at the devices of a way and is not in force: filtering that is off, hours without a time."""
    for hop in leg.hops:
        gates = plan.network.devices[hop.device].gates
        if gates.everywhere and not gates.everywhere_on and _would_stop(plan, hop, gates.everywhere):
            rules = sum(len(plan.network.lists[n].rules) for n in gates.everywhere)
            yield Because("told.filtering-off", (hop.device, gates.everywhere, rules), gates.everywhere_mark)
        for ruling in hop.rulings:
            if ruling.table.kind is TableKind.LIST and ruling.known.moment.now is None:
                yield from _timeless(plan, hop.device, ruling)


def _unlogged(plan: Plan, leg: Leg) -> Iterator[Because]:
    """A drop that leaves no trace, at a list where somebody took care to log something else."""
    last = leg.hops[-1].rulings[-1] if leg.hops[-1].rulings else None
    if last is None or last.logged or leg.cause not in FILTERED or last.table.kind is not TableKind.LIST:
        return
    table = plan.device(leg.end).rows_of(last.table)
    if table is not None and table.logs:
        yield Because("told.unlogged", (table.name, last.row), last.because.mark)


def _would_stop(plan: Plan, hop: Hop, names: Sequence[str]) -> bool:
    """Whether lists that are switched off would have stopped a packet as it came to a hop."""
    if not hop.rulings or hop.arriving is None:
        return False
    facts = facts_of(hop.rulings[0].between(hop.arriving, hop.leaving))
    for name in names:
        row = plan.device(hop.device).read_list(name).first(facts)
        if row is not None and row.verdict is not Verdict.HAND_ON:
            return row.verdict is not Verdict.PERMIT
    return False


def _timeless(plan: Plan, device: str, ruling: Ruling) -> Iterator[Because]:
    """A rule that missed by its hours alone, where the test gave no time."""
    table = plan.device(device).rows_of(ruling.table)
    facts = facts_of(ruling)
    for row in table.above_asking(facts, "hours") if table is not None else ():
        misses = list(row.misses(facts))
        if [m.key for m in misses] == ["hours"] and misses[0].condition is not None and table is not None:
            yield Because("told.no-time", (table.name, row.id, ", ".join(misses[0].condition.wants)), row.mark)
            return


def _near(plan: Plan, leg: Leg) -> tuple[Because, ...]:
    """What nearly had a packet that was stopped go on: the destination rules, the rules, and the permit that a deny hides."""
    last = leg.hops[-1].rulings[-1] if leg.hops[-1].rulings else None
    if last is None:
        return ()
    # What a device took for itself was perhaps meant to be sent on, whether nothing listens there or a list stopped it.
    itself = last.cause in ("service.closed", "service.silent") or (last.cause in FILTERED and last.stage == Stage.TO_SELF_LIST)
    itself = itself and leg.deciding.way not in (Way.EXCHANGE, Way.OUTER)  # nobody meant to send that on
    return (*(_near_translation(plan, leg.end, last) if itself else ()), *_near_rules(plan, leg, last))


def _near_rules(plan: Plan, leg: Leg, last: Ruling) -> tuple[Because, ...]:
    """For a packet that a list stopped: the rules that nearly permitted it, and the permit that a deny hides."""
    if last.table.kind is not TableKind.LIST or last.cause not in (*FILTERED, "session.none"):
        return ()
    table = plan.device(leg.end).rows_of(last.table)
    if table is None:
        return ()
    facts = facts_of(last)
    asked = _asked_before(plan, leg, last) or (table,)
    near = [(t, n) for t in asked for n in t.near(facts) if not _other_family(n, last.saw)]
    found = [(t, n) for t, n in near if t.id.kind is not TableKind.BUILT_IN]
    found.sort(key=lambda pair: (len(pair[1].misses), pair[1].misses[0].key not in ("from", "to", "disabled")))
    out = [Because("near", (t.name, n.row.id, n.misses, last.saw), n.row.mark) for t, n in found[:2]]
    off = [n.row for t, n in near if t.id.kind is TableKind.BUILT_IN and [m.key for m in n.misses] == ["disabled"]]
    out += [Because("near.built-in", (row.id, leg.end)) for row in off]
    hidden = table.later_permit(facts)
    below = Because("near.below", (table.name, hidden.id), hidden.mark) if hidden is not None else None
    return (*out, *((below,) if below is not None else ()))


def _asked_before(plan: Plan, leg: Leg, last: Ruling) -> tuple[Table, ...]:
    """The tables that were asked at the place where a packet was stopped, with the one that stopped it."""
    from mossy_compass.walk.retold import stages_told  # only for a packet that a list stopped

    number = len(leg.hops) - 1
    told = next((t for t in stages_told(plan, leg.hops[number], leg.came_to(number)) if t.ruling is last), None)
    return tuple(t.table for t in told.asked if isinstance(t.table, Table)) if told is not None else ()


def _near_translation(plan: Plan, device: str, last: Ruling) -> tuple[Because, ...]:
    """For a packet that a device took for itself: the destination rules that nearly sent it elsewhere."""
    here = plan.device(device)
    if not any(not t.of_source for t in here.device.translate):
        return ()
    found = here.translations[Half.DESTINATION].near(facts_of(last), 2)
    wanted = [n for n in found if len(n.misses) == 1]
    return tuple(Because("near.translation", (n.row.id, device, n.misses, last.saw), n.row.mark) for n in wanted)


def _other_family(near: Near, packet: Packet) -> bool:
    """True for a rule about the ICMP of the other family: no change of one condition makes the packet that."""
    other = ICMP6 if packet.source.family == 4 else ICMP
    conditions = [c for c in near.row.conditions if c.key == "protocol"]
    return any(c.wants == (str(other),) for c in conditions)


def _although(plan: Plan, there: Leg, back: Leg | None) -> Iterator[Because]:
    """What is written and would have changed the fate, but has no effect; and an address that was given twice."""
    yield from _given_twice(plan, there)
    if there.fate not in (Fate.DELIVERED, Fate.REFUSED):
        return
    # a list that did decide is not idle, whatever it was meant for
    yield from _unknown_names(plan, there)
    told = {r.table for leg in (there, back) if leg for h in leg.hops for r in h.rulings if r.table}
    for hop in there.hops:
        for name, idle in _idle_lists(plan, hop):
            found = None if list_id(name) in told else _would_deny(plan, hop, name, idle)
            if found is not None:
                told.add(list_id(name))
                yield found


def _unknown_names(plan: Plan, there: Leg) -> Iterator[Because]:
    """The denies by name that would have stopped a packet, had their device known an address of the name."""
    for number in range(len(there.hops)) if plan.asks_names else ():
        device = there.hops[number].device
        for waiting in waiting_for_names(plan, there, number):
            if waiting.row.verdict in (Verdict.DENY, Verdict.REJECT):
                learns = plan.device(device).settings.learns_names
                values = waiting.list_name, waiting.row.id, waiting.names, device, learns
                yield Because("although.unlearned", values, waiting.row.mark)


def _told(plan: Plan, journey: Journey) -> Iterator[Because]:
    """What else a reader should know: a route that was taken only because a better one is inactive."""
    behind = journey.behind.values if journey.behind is not None and journey.behind.code == "root.inactive" else None
    told = (found for leg in journey.legs[:2] for found in stood_in(plan, leg) if found.values != behind)
    yield from dict.fromkeys(told)


def _sent_on(leg: Leg) -> Iterator[Because]:
    """The rule by which a packet went to an address where nobody took it."""
    if leg.cause not in (*_UNREACHED, "service.closed", "service.silent"):
        return
    for hop in leg.hops:
        for ruling in hop.rulings:
            if ruling.because.code == "translation" and ruling.saw.destination != ruling.gave.destination:
                yield Because("told.sent-on", (ruling.row, hop.device, ruling.gave.destination), ruling.because.mark)


def _beside(plan: Plan, leg: Leg) -> Iterator[Because]:
    """The routers on the segment where a next hop is silent, with their addresses: the one that was meant may be among them."""
    last = leg.hops[-1].rulings[-1] if leg.hops[-1].rulings else None
    if last is None or last.because.code != "neighbour.silent":
        return
    silent, here = last.because.named["address"], leg.end
    found = plan.device(here).table.lookup(last.saw.destination)
    ports = {h.interface for h in found.hops if (h.via or h.address) == silent} if found is not None else set()
    if not ports or silent == last.saw.destination or plan.owner(silent):
        return
    domains = (plan.domains.of(here, port) for port in sorted(ports))
    others = ((plan.network.devices[d], i) for domain in domains if domain is not None for d, i in domain.members if d != here)
    held = ((d.name, a.address) for d, i in others if d.settings.forwarding for a in d.interfaces[i].addresses)
    beside = tuple((name, a) for name, a in held if a.family == silent.family and not a.is_link_local)[:_MOST_BESIDE]
    if beside:
        yield Because("told.beside", (beside,))


def _as_opened(legs: Sequence[Leg]) -> Iterator[Because]:
    """Lists that were met as an association holds them, and not as they are written now."""
    for leg in legs:
        for hop in leg.hops:
            for ruling in hop.rulings:
                if ruling.remark is not None and ruling.remark.code == "note.as-opened" and not ruling.cause:
                    number, name, _, none = ruling.remark.values
                    yield Because("told.as-opened", (hop.device, number, name, none), ruling.because.mark)


def _path_mtu(plan: Plan, legs: Sequence[Leg]) -> Iterator[Because]:
    """What became of the error about an outer packet that was too long: whether the tunnel's device learns of it."""
    for leg in legs:
        hop = leg.hops[-1]
        port, error, outer = hop.leaving, hop.error, hop.outer
        if outer is None or port is None:
            continue
        here = plan.device(hop.device)
        if learns(here, outer, error):
            values = hop.device, port, longest_inside(here, port, outer), here.settings.text("path-mtu")
            yield Because("told.path-mtu", values, outer.because.mark)
        elif error is not None:
            yield Because("told.path-mtu-lost", (hop.device, port, error.end, error.because), error.because.mark)


def _in_clear(plan: Plan, journey: Journey) -> Iterator[Because]:
    """What left in the clear past a tunnel that it belongs into, where that is not what it was lost by."""
    for leg in journey.legs[:2]:
        found = left_in_clear(plan, leg.hops)
        if found is not None and leg.behind != found:
            yield found


def _given_twice(plan: Plan, there: Leg) -> Iterator[Because]:
    """The other device that has the address which was asked for; None when the asked one got the packet."""
    yield from _gateway_twice(plan, there)
    address, last = there.arrived.destination, there.end
    owners = plan.owners(address)
    for name in owners if len(owners) > 1 else ():
        if name != last and name in plan.network.devices:
            yield Because("although.duplicate", (name, address), own_mark(plan, name, address))


def _gateway_twice(plan: Plan, there: Leg) -> Iterator[Because]:
    """A next hop on the way that several devices claim: nobody can say which of them got the packet, and its fate may follow."""
    for hop in there.hops:
        for ruling in hop.rulings:
            remark = ruling.remark
            if remark is not None and remark.code == "note.sent" and remark.named["claimants"]:
                other, _ = remark.named["claimants"][0]
                if remark.named["address"] != there.arrived.destination:
                    yield Because(
                        "although.duplicate", (other, remark.named["address"]), own_mark(plan, other, remark.named["address"])
                    )


def _idle_lists(plan: Plan, hop: Hop) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Lists that were not examined at a hop where their authors may have meant them: attached nowhere, or the wrong way round.

    For the latter, where they are attached: device, interface, and way.
    """
    if hop.kind not in ("router", "firewall"):
        return
    for name in plan.unattached:
        yield name, ()
    for place in ((hop.device, hop.leaving or "", "arriving"), (hop.device, hop.arriving or "", "leaving")):
        for name in plan.lists_at.get(place, ()):
            yield name, place


def _would_deny(plan: Plan, hop: Hop, name: str, idle: tuple[str, ...]) -> Because | None:
    """What a list would have done to a packet at a hop, where that is a no."""
    if not hop.rulings:
        return None
    here = plan.device(hop.device)
    table = here.read_list(name)
    facts = facts_of(hop.rulings[0].between(hop.arriving, hop.leaving))
    found = table.first(facts)
    if found is not None and found.verdict in (Verdict.DENY, Verdict.REJECT):
        return Because("although.rule", (name, found.id, found.verdict.value, idle), found.mark)
    # The end of a list denies whatever its rules do not name: that is worth a word where a rule is about nearly such a packet.
    if found is None and not idle and here.settings.end_of_list is not EndOfList.PERMIT and _nearly(table, facts):
        return Because("although.end", (name, idle), table.mark)
    return None


def _nearly(table: Table, facts: Facts) -> bool:
    """Whether a list has a permit that a packet misses by one condition alone."""
    return any(len(near.misses) == 1 for near in table.near(facts, most=1))


class Waiting(NamedTuple):
    """A rule by name that would have decided about a packet, had its device known an address of that name.

    Attributes:
        stage: where it was asked.
        list_name, row: the rule.
        names: what it asks for.

    """

    stage: str
    list_name: str
    row: Row
    names: tuple[str, ...]


def waiting_for_names(plan: Plan, leg: Leg, number: int, targets: Sequence[str] = ()) -> Iterator[Waiting]:
    """The rules by name that a packet missed at a hop for want of a known address alone, above whatever decided.

    Args:
        plan: the one that it was walked on.
        leg, number: the way, and the hop on it, counted from 0.
        targets: what else the destination was called by whoever sent it.

    """
    from mossy_compass.walk.retold import stages_told  # only where a list has rules by name

    hop = leg.hops[number]
    for told in stages_told(plan, hop, leg.came_to(number)):
        for asked in told.asked:
            for row in asked.table.above_asking(asked.facts, "name"):
                missed = list(row.misses(asked.facts))
                wants = missed[0].condition if [m.key for m in missed] == ["name"] else None
                if wants is None or knows_a_name(plan, hop.device, wants, hop.rulings[0].known):
                    continue
                if set(wants.wants) & {*plan.names_at(asked.facts.packet.destination), *targets}:
                    yield Waiting(told.stage, asked.table.name, row, wants.wants)


def knows_a_name(plan: Plan, device: str, condition: Condition, known: Known) -> bool:
    """Whether a device knows any address of the names that a condition asks for."""
    here = plan.device(device)
    if here.reader.names is not None:
        return any(values for _, values in condition.parts)
    return bool(known.learned & set(condition.wants))


def own_mark(plan: Plan, name: str, address: object) -> Mark | None:
    """Where a device's address is written."""
    for interface in plan.network.devices[name].interfaces.values():
        if any(a.address == address for a in interface.addresses):
            return interface.mark
    return None
