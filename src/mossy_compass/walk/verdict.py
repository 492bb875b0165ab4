"""From legs to the answer: how the whole ended, where that was decided, and who is to blame for it.

A device knows its packet and its own state alone; here the whole journey is looked at, so here it is known that a packet
was meant as an answer, and what its sender waited for. Answered means one thing: the sender of the question received a
packet whose flow is the reverse of what it sent.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from mossy_compass.marks import Mark
from mossy_compass.model.network import Verdict
from mossy_compass.model.settings import EndOfList
from mossy_compass.packet.address import Address
from mossy_compass.packet.flow import is_answer
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, WITH_PORTS
from mossy_compass.plan.actions import Half
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Facts, Known, facts_of
from mossy_compass.plan.ids import TableKind, list_id
from mossy_compass.plan.order import Stage
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Did, Fate
from mossy_compass.plan.table import Near, Table
from mossy_compass.routing.table import Loser
from mossy_compass.walk.journey import Hop, Journey, Leg, Ruling, Symptom, Way
from mossy_compass.walk.question import Question

ARRIVED = ("service.silent", "answer.unasked", "echo.ignored")
"""Causes of packets that got there all the same."""
OWN_SYSTEM = ("route.none", "neighbour.silent", "interface.down", "route.unreachable")
"""Causes that the sender's own system tells it of."""
FILTERED = ("filter.rule", "filter.end", "filter.empty", "filter.none", "filter.inbound", "filter.outbound", "filter.through")


def journey_of(plan: Plan, question: Question, legs: Sequence[Leg], later: Leg | None = None) -> Journey:
    """The record of a question whose packet was walked.

    Args:
        plan: the network.
        question: what was asked.
        legs: everything that was sent because of it, in order.
        later: the packet that shows the flow's application, where one was sent.

    """
    packet = question.packet
    assert packet is not None
    there, back, legs = _homeward(plan, question, legs)
    there = _unlearned(plan, there)
    symptom, said = _symptom(question, packet, there, back)
    # a delivered packet whose answer set out and was not received: its fate is decided on the way back
    answer = there.fate is Fate.DELIVERED and back is not None and back.way is Way.BACK
    lost = "back" if answer and symptom is not Symptom.ANSWERED else "there"
    deciding = back if lost == "back" and back is not None else there
    if later is not None and symptom is Symptom.ANSWERED and later.fate is not Fate.DELIVERED:
        lost, deciding, symptom, said = "later", later, Symptom.SILENCE, Because("said.later", (question.moment.known_from,))
    return Journey(
        sender=question.sender,
        target=question.target,
        target_owner=plan.owner(packet.destination),
        what=question.what,
        legs=(there, *legs[1:]),
        back=back,
        fate=deciding.fate,
        cause=deciding.cause,
        because=deciding.because,
        remark=deciding.remark,
        behind=deciding.behind or _untranslated(plan, there, back),
        lost=lost,
        symptom=symptom,
        said=said,
        seen_as=_seen_as(there),
        although=tuple(_although(plan, there, back)),
        near=_near(plan, deciding),
        told=(*_told(plan, legs), *_out_of_force(plan, deciding), *_unlogged(plan, deciding)),
        later=later,
        moment=question.moment,
        plan=plan,
    )


def _symptom(question: Question, packet: Packet, there: Leg, back: Leg | None) -> tuple[Symptom, Because | None]:
    """What the sender sees, from what really got to it."""
    if back is None:
        if len(there.hops) == 1 and there.cause in OWN_SYSTEM:
            return Symptom.UNREACHABLE, Because("said.own-system", (question.device,))
        return Symptom.SILENCE, None
    expected = there.fate is Fate.DELIVERED and back.way is Way.BACK
    if expected:
        received = _received(question, packet, back)
        return (Symptom.ANSWERED, Because("said.packet", (back.arrived,))) if received else (Symptom.SILENCE, None)
    if not _home(question, back):
        return Symptom.SILENCE, Because("said.lost", (back.way is Way.BACK, back.end, back.because))
    refused = back.way is Way.BACK or there.fate is Fate.REFUSED
    return (Symptom.REFUSED if refused else Symptom.UNREACHABLE), Because("said.packet", (back.arrived,))


def _homeward(plan: Plan, question: Question, legs: Sequence[Leg]) -> tuple[Leg, Leg | None, list[Leg]]:
    """The way there, and what was sent home because of it, with the blame for its loss put where it belongs."""
    out = list(legs)
    number = next((n for n, leg in enumerate(legs) if leg.parent == 0), None)
    if number is None:
        return out[0], None, out
    back = out[number]
    if back.way is Way.BACK:
        back = out[number] = blame(plan, question, out[0], back)
    return out[0], back, out


def _home(question: Question, leg: Leg) -> bool:
    """True when what was sent home got to the sender of the question."""
    return leg.end == question.device and leg.cause == "answer.arrived"


def _received(question: Question, packet: Packet, back: Leg) -> bool:
    """Whether the answer came back to who asked, from whom it was asked, and about the question's own flow."""
    return _home(question, back) and is_answer(back.arrived, packet)


def blame(plan: Plan, question: Question, there: Leg, back: Leg) -> Leg:
    """The true cause of a lost answer, which the device that dropped it could not know.

    Args:
        plan: the network.
        question: what was asked.
        there: the way of the question's packet.
        back: the way of what was sent home.

    """
    packet = question.packet
    assert packet is not None
    if back.cause == "answer.unasked" or (back.cause in ("service.closed", "service.silent", "answer.arrived")):
        return _elsewhere(plan, question, packet, back)
    if back.cause in FILTERED and back.arrived.quoted is None:
        return _unknown_answer(plan, back)
    return back


def _elsewhere(plan: Plan, question: Question, packet: Packet, back: Leg) -> Leg:
    """An answer that ended at another host, or at the right one under another name."""
    reset = back.arrived.flags == "RST"
    if back.end != question.device:
        mark = _own_mark(plan, back.end, back.arrived.destination)
        because = Because("answer.elsewhere", (back.end, back.arrived.destination), mark)
        return _recast(back, "answer.elsewhere", because)
    if not reset and back.arrived.quoted is None and not is_answer(back.arrived, packet):
        because = Because("answer.other", (back.arrived, packet))
        return _recast(back, "answer.other", because)
    return back


def _recast(leg: Leg, cause: str, because: Because) -> Leg:
    """The leg with another cause; its last ruling says so too, and what the device did stays."""
    last = leg.hops[-1]
    rulings = (*last.rulings[:-1], last.rulings[-1]._replace(cause=cause)) if last.rulings else ()
    hops = (*leg.hops[:-1], replace(last, rulings=rulings))
    fate = Fate.DROPPED if leg.fate is Fate.DELIVERED else leg.fate
    return replace(leg, cause=cause, because=because, hops=hops, fate=fate, remark=leg.remark)


def _unknown_answer(plan: Plan, back: Leg) -> Leg:
    """An answer that met a list: that it had to is the true cause where the device keeps sessions of anything."""
    here = plan.device(back.end)
    protocol = back.arrived.protocol
    if not here.tracked:
        return replace(back, behind=Because("root.stateless", (here.name,)))
    if protocol not in here.tracked:
        behind = Because("root.not-inspected", (protocol, tuple(sorted(here.tracked))))
    else:
        behind = Because("root.no-opening", (here.name, protocol))
    return replace(_recast(back, "session.none", back.because), behind=behind)


def _unlearned(plan: Plan, leg: Leg) -> Leg:
    """A packet that a list stopped, and that a rule by name would have let pass if the device knew an address of that name."""
    last = leg.hops[-1].rulings[-1] if leg.hops[-1].rulings else None
    if last is None or leg.cause not in FILTERED or last.table.kind is not TableKind.LIST:
        return leg
    here = plan.device(leg.end)
    table = here.rows_of(last.table)
    for near in table.near(facts_of(last)) if table is not None else ():
        wants = near.misses[0].condition if len(near.misses) == 1 and near.misses[0].key == "name" else None
        if wants is not None and table is not None and not _knows_a_name(plan, leg.end, wants, last.known):
            values = (table.name, near.row.id, wants.wants, here.name, here.settings.learns_names)
            recast = _recast(leg, "name.unlearned", leg.because)
            return replace(recast, behind=Because("root.unlearned", values, near.row.mark))
    return leg


def _knows_a_name(plan: Plan, device: str, condition: Condition, known: Known) -> bool:
    """Whether a device knows any address of the names that a condition asks for."""
    here = plan.device(device)
    if here.reader.names is not None:
        return any(values for _, values in condition.parts)
    return bool(known.learned & set(condition.wants))


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
    facts = facts_of(hop.rulings[0]._replace(arriving=hop.arriving, leaving=hop.leaving))
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


def _seen_as(there: Leg) -> str:
    """The source that the far end saw; empty where the packet did not get there."""
    if there.fate not in (Fate.DELIVERED, Fate.REFUSED) and there.cause not in ARRIVED:
        return ""
    seen = there.arrived
    if seen.protocol not in WITH_PORTS:
        return str(seen.source)
    return f"{seen.source}:{seen.from_port}" if seen.source.family == 4 else f"[{seen.source}]:{seen.from_port}"


def _untranslated(plan: Plan, there: Leg, back: Leg | None) -> Because | None:
    """Why an answer finds no way home: its private destination was never hidden behind a public one."""
    if back is None or back.cause not in ("route.none", "loop") or not back.packet.destination.is_private:
        return _no_route_in(plan, there, back)
    source = back.packet.destination
    for hop in there.hops:
        if any(r.did is Did.KEPT for r in hop.rulings):
            return Because("root.untranslated", (source, hop.device))
    if any(a.is_private for a in plan.device(back.end).own):
        return None
    uplink = _last_private(plan, there)
    return Because("root.translated-nowhere", (source, uplink.device if uplink else "", (uplink.leaving or "") if uplink else ""))


def _last_private(plan: Plan, there: Leg) -> Hop | None:
    """The last device on the way that still has a private address: it stands where translation was due (RFC 1918)."""
    for hop in reversed(there.hops):
        if hop.leaving and any(a.is_private for a in plan.device(hop.device).own):
            return hop
    return None


def _no_route_in(plan: Plan, there: Leg, back: Leg | None) -> Because | None:
    """An answer that a translating device put back, and then sent out again: it knows no way inside but the default."""
    for hop in back.hops if back is not None else ():
        rewritten = any(r.stage == Stage.TRANSLATE_DESTINATION and r.did is Did.REWRITTEN for r in hop.rulings)
        if rewritten and hop.leaving is not None and hop.leaving == hop.arriving:
            destination = hop.rulings[-1].saw.destination
            return Because("root.out-again", (hop.device, hop.arriving, destination), plan.device(hop.device).device.mark)
    return None


def _near(plan: Plan, leg: Leg) -> tuple[Because, ...]:
    """For a packet that a list stopped: the rules that nearly permitted it, and the permit that a deny hides."""
    rulings = leg.hops[-1].rulings
    if rulings and rulings[-1].cause in ("service.closed", "service.silent"):
        return _near_translation(plan, leg.end, rulings[-1])
    if (
        not rulings
        or rulings[-1].table.kind is not TableKind.LIST
        or not (rulings[-1].cause in FILTERED or rulings[-1].cause == "session.none")
    ):
        return ()
    last = rulings[-1]
    table = plan.device(leg.end).rows_of(last.table)
    if table is None:
        return ()
    facts = facts_of(last)
    found = [n for n in table.near(facts) if not _other_family(n, last.saw)]
    found.sort(key=lambda n: n.misses[0].key not in ("from", "to", "disabled"))
    out = [Because("near", (table.name, n.row.id, n.misses, last.saw), n.row.mark) for n in found[:2]]
    hidden = table.later_permit(facts)
    if hidden is not None:
        out.append(Because("near.below", (table.name, hidden.id), hidden.mark))
    return tuple(out)


def _near_translation(plan: Plan, device: str, last: Ruling) -> tuple[Because, ...]:
    """For a packet that a device took for itself: the destination rules that nearly sent it elsewhere."""
    here = plan.device(device)
    if not any(not t.becomes_interface for t in here.device.translate):
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
    told = {r.table for leg in (there, back) if leg for h in leg.hops for r in h.rulings if r.table}
    for hop in there.hops:
        for name, idle in _idle_lists(plan, hop):
            found = None if list_id(name) in told else _would_deny(plan, hop, name, idle)
            if found is not None:
                told.add(list_id(name))
                yield found


def _told(plan: Plan, legs: Sequence[Leg]) -> Iterator[Because]:
    """What else a reader should know: a default route that was taken only because a better route is inactive."""
    said: set[tuple[str, object]] = set()
    for leg in legs[:2]:
        for hop in leg.hops:
            for ruling in hop.rulings:
                if ruling.hop is None or ruling.because.code != "route" or not ruling.because.get("prefix").is_default:
                    continue
                for loser in _better_but_inactive(plan, hop.device, ruling.saw.destination):
                    prefix = loser.route.prefix
                    if (hop.device, prefix) not in said:
                        said.add((hop.device, prefix))
                        yield Because("told.inactive", (hop.device, loser.route.origin, prefix, loser.why), loser.route.mark)


def _better_but_inactive(plan: Plan, device: str, destination: Address) -> Iterator[Loser]:
    """Routes more specific than the default that would have taken a packet, were they active."""
    for loser in plan.device(device).table.inactive:
        if loser.route.prefix.holds(destination) and not loser.route.prefix.is_default:
            yield loser


def _given_twice(plan: Plan, there: Leg) -> Iterator[Because]:
    """The other device that has the address which was asked for; None when the asked one got the packet."""
    yield from _gateway_twice(plan, there)
    address, last = there.arrived.destination, there.end
    owners = plan.owners(address)
    for name in owners if len(owners) > 1 else ():
        if name != last and name in plan.network.devices:
            yield Because("although.duplicate", (name, address), _own_mark(plan, name, address))


def _gateway_twice(plan: Plan, there: Leg) -> Iterator[Because]:
    """A next hop on the way that several devices claim: nobody can say which of them got the packet, and its fate may follow."""
    for hop in there.hops:
        for ruling in hop.rulings:
            remark = ruling.remark
            if remark is not None and remark.code == "note.sent" and remark.get("others"):
                other, _ = remark.get("others")[0]
                if remark.get("address") != there.arrived.destination:
                    yield Because(
                        "although.duplicate", (other, remark.get("address")), _own_mark(plan, other, remark.get("address"))
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
    facts = facts_of(hop.rulings[0]._replace(arriving=hop.arriving, leaving=hop.leaving))
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


def _own_mark(plan: Plan, name: str, address: object) -> Mark | None:
    """Where a device's address is written."""
    for interface in plan.network.devices[name].interfaces.values():
        if any(a.address == address for a in interface.addresses):
            return interface.mark
    return None
