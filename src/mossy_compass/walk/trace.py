"""From a question to a journey: the packet's way there, and whatever comes home."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from mossy_compass.marks import Mark, hint
from mossy_compass.model.network import Network, Verdict
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import DEFAULT_SIZE, DEFAULT_TTL, Packet, answer_to, icmp_error, refusal_of
from mossy_compass.packet.service import WITH_PORTS
from mossy_compass.plan.plan import Plan
from mossy_compass.routing.table import Hop as RouteHop
from mossy_compass.state.sessions import SessionTable
from mossy_compass.walk.ask import Question, addresses_of, ask
from mossy_compass.walk.journey import Because, Fate, Hop, Journey, Leg, Lookup, Ruling, Symptom, Way
from mossy_compass.walk.passage import End, Passage
from mossy_compass.walk.stages import STAGES

Chooser = Callable[[str, tuple[RouteHop, ...], Packet], int | None]
"""Takes a device, its equal ways and the packet, and gives the number of the way to take; None: by the hash."""


def walk_leg(
    plan: Plan, sessions: SessionTable, packet: Packet, device: str, way: Way, choose: Chooser | None = None
) -> tuple[Leg, SessionTable, End]:
    """Follow one packet from the device that makes it to its end.

    A loop is found when the packet comes to the same interface of the same device unchanged but for its TTL;
    the walk then goes on silently until the TTL runs out, to learn who would tell the sender.
    """
    hops: list[Hop] = []
    first = packet
    name, arriving = device, None
    seen: dict[tuple[str, str | None, Packet], int] = {}
    looped: int | None = None
    for _ in range(600):
        here = plan.device(name)
        passage = Passage(plan, here, sessions, packet, arriving, way is not Way.THERE)
        passage.choose = choose
        key = (name, arriving, packet._replace(ttl=0))
        if key in seen and looped is None:
            looped = seen[key]
        seen.setdefault(key, len(hops))
        end: End | None = None
        for stage in here.through if arriving is not None else here.origin:
            end = STAGES[stage](passage)
            if end is not None:
                break
        sessions = passage.sessions
        domain = passage.domain
        if looped is None or end is not None:
            hops.append(
                Hop(
                    name,
                    here.device.kind.value,
                    arriving,
                    passage.leaving,
                    passage.next_device,
                    domain.name if domain else None,
                    domain.switches if domain else (),
                    tuple(passage.rulings),
                    passage.latency_ms,
                )
            )
        if end is not None:
            if looped is not None:
                end = _loop(hops, looped, end)
            return (
                Leg(way, first, passage.packet, tuple(hops), end.fate, end.cause, end.because, end.note, end.root),
                sessions,
                end,
            )
        assert passage.next_device is not None
        packet, name, arriving = passage.packet, passage.next_device, passage.next_interface
    raise AssertionError("a packet outlived its TTL")


def _loop(hops: list[Hop], start: int, end: End) -> End:
    """The end of a packet that went in a circle: the circle is the cause, the TTL only ended it."""
    circle = [h.device for h in hops[start:-1]]
    last = hops.pop()
    path = " > ".join([*circle, circle[0]]) if circle else last.device
    marks = []
    for hop in hops[start:]:
        for ruling in hop.rulings:
            if ruling.did == "routed":
                marks.append(f"{hop.device}: {ruling.because.cited()}")
    because = Because(
        "route", f"{path} in a circle", next((r.because.mark for h in hops[start:] for r in h.rulings if r.did == "routed"), None)
    )
    return End(
        Fate.LOOPED,
        "loop",
        because,
        f"{'; '.join(marks)}; the TTL runs out at {last.device}",
        end.reply if end.cause == "ttl.expired" else "",
        (last.device, last.arriving),
    )


def trace_question(
    plan: Plan, question: Question, sessions: SessionTable | None = None, choose: Chooser | None = None
) -> tuple[Journey, SessionTable]:
    """Send the test packet and whatever comes home.

    Returns:
        The journey, and the sessions that it left behind.

    """
    sessions = sessions or SessionTable()
    if question.packet is None:
        return _stuck(plan, question), sessions
    packet = question.packet
    there, sessions, end = walk_leg(plan, sessions, packet, question.device, Way.THERE, choose)
    back: Leg | None = None
    reply = _reply(plan, there, end)
    if reply is not None:
        sent, origin = reply
        if origin == question.device and len(there.hops) == 1 and end.reply not in ("answer", "refusal"):
            reply = None
        else:
            way = Way.BACK if end.reply in ("answer", "refusal", "reset") else Way.ERROR
            back, sessions, _ = walk_leg(plan, sessions, sent, origin, way, choose)
    return _journey(plan, question, there, back, end), sessions


def trace(
    plan: Plan | Network,
    sender: str,
    target: str,
    service: str = "ping",
    *,
    from_port: int | None = None,
    source: str | None = None,
    ttl: int = DEFAULT_TTL,
    family: int | None = None,
    size: int = DEFAULT_SIZE,
    choose: Chooser | None = None,
) -> Journey:
    """Send one test packet, and its answer home; the arguments are those of ``ask``.

    A target that is a name, which only a resolver knows, is looked up first: that is a journey of its own.

    Args:
        plan: a compiled plan, or a network, which is then compiled for this one packet.
        choose: takes a device, its equal ways and the packet, and gives the number of the way to take; None lets the
            hash decide.

    """
    ready = plan if isinstance(plan, Plan) else Plan(plan)
    lookup, sessions, found = _look_up(ready, sender, target, family)
    if lookup is not None and not found:
        return _not_found(ready, sender, target, service, lookup)
    question = ask(
        ready, sender, target, service, from_port=from_port, source=source, ttl=ttl, family=family, size=size, addresses=found
    )
    journey = trace_question(ready, question, sessions, choose)[0]
    return journey if lookup is None else replace(journey, lookup=lookup)


def _look_up(plan: Plan, sender: str, target: str, family: int | None) -> tuple[Lookup | None, SessionTable, tuple[Address, ...]]:
    """Ask the sender's resolvers in their order, by UDP (RFC 1035 section 4.2.1), until one answers."""
    sessions = SessionTable()
    device = plan.network.devices.get(sender.partition("/")[0])
    if device is None or not device.resolvers or addresses_of(plan.network, target):
        return None, sessions, ()
    lookup: Lookup | None = None
    for resolver in device.resolvers:
        journey, sessions = trace_question(plan, ask(plan, sender, str(resolver), "udp/53"), sessions)
        records = plan.network.devices[journey.there.end].records or {} if journey.answered else {}
        found = tuple(a for a in records.get(target, ()) if family in (None, a.family))
        lookup = Lookup(target, str(resolver), tuple(map(str, found)), journey)
        if journey.answered:
            return lookup, sessions, found
    return lookup, sessions, ()


def _not_found(plan: Plan, sender: str, target: str, service: str, lookup: Lookup) -> Journey:
    """The journey of a packet that was never sent, since its name has no address."""
    asked = lookup.journey
    if asked.answered:
        resolver = plan.network.devices[asked.there.end]
        because = Because("name", f"{resolver.name} has no record for '{target}'", resolver.mark)
        cause, note = "name.unknown", str(hint(target, resolver.records or {}, "records"))
    else:
        because, cause = asked.because, asked.cause
        note = asked.note
    question = Question(sender, sender.partition("/")[0], target, service, None, (cause, because, note))
    return replace(_stuck(plan, question), lookup=lookup, lost="lookup", symptom=Symptom.NAME_NOT_FOUND, root=asked.root)


def _reply(plan: Plan, there: Leg, end: End) -> tuple[Packet, str] | None:
    """What goes home, and from which device."""
    if not end.reply:
        return None
    arrived = there.arrived
    last = there.hops[-1]
    if end.reply == "answer":
        return answer_to(arrived), last.device
    if end.reply in ("refusal", "reset"):
        return refusal_of(arrived), last.device
    name, came_by = end.replier or (last.device, last.arriving)
    about = last.rulings[0].saw if last.rulings else arrived
    here = plan.device(name)
    route = here.table.lookup(about.source)
    source = None
    if about.source in here.own:  # RFC 6724 section 5, rule 1: to itself from the same address
        source = about.source
    elif came_by is not None and here.setting("error-source")[0] == "arriving":
        source = here.source_for(came_by, about.source.family)
    elif route is not None and route.hops:
        source = here.source_for(route.hops[0].interface, about.source.family, route.hops[0].address or about.source)
    if source is None:
        source = next((a for a in here.own if a.family == about.source.family), None)
    return (icmp_error(about, source, end.reply), name) if source else None


def _stuck(plan: Plan, question: Question) -> Journey:
    """No packet could be made: the name is unknown, or the sender has no address."""
    assert question.stuck is not None
    cause, because, note = question.stuck
    here = plan.network.devices[question.device]
    nothing = Address(4, 0)
    packet = Packet(0, nothing, question.destination or nothing)
    ruling = Ruling("from self", "dropped", packet, packet, because, note, cause)
    leg = Leg(
        Way.THERE,
        packet,
        packet,
        (Hop(here.name, here.kind.value, None, None, None, None, (), (ruling,)),),
        Fate.DROPPED,
        cause,
        because,
        note,
    )
    symptom = Symptom.NAME_NOT_FOUND if cause == "name.unknown" else Symptom.UNREACHABLE
    return Journey(
        question.sender,
        question.target,
        None,
        question.what,
        leg,
        None,
        Fate.DROPPED,
        cause,
        because,
        note,
        "",
        "there",
        symptom,
        "no packet left",
        "",
    )


def _journey(plan: Plan, question: Question, there: Leg, back: Leg | None, end: End) -> Journey:
    packet = question.packet
    assert packet is not None
    lost, deciding = "there", there
    symptom, said = Symptom.SILENCE, ""
    if there.fate is Fate.DELIVERED and end.reply == "answer":
        if back is not None and back.fate is Fate.DELIVERED:
            symptom, said = Symptom.ANSWERED, f"{_kind(back.arrived)} from {back.arrived.source}"
        elif back is not None:
            lost, deciding = "back", back
    elif back is not None and back.fate is Fate.DELIVERED:
        said = f"{_kind(back.arrived)} from {back.arrived.source}"
        symptom = (
            Symptom.REFUSED
            if back.way is Way.BACK or end.reply == "port-unreachable" or end.fate is Fate.REFUSED
            else Symptom.UNREACHABLE
        )
    elif back is not None:
        said = f"the {'refusal' if back.way is Way.BACK else 'error message'} is lost on its way home at {back.end}: {back.because.cited()}"
    elif len(there.hops) == 1 and there.cause in ("route.none", "neighbour.silent", "interface.down", "route.unreachable"):
        symptom, said = Symptom.UNREACHABLE, f"{question.device}'s own system says so"
    arrived = there.fate in (Fate.DELIVERED, Fate.REFUSED) or there.cause == "service.silent"
    seen = there.arrived
    seen_as = ""
    if arrived:
        seen_as = (
            f"{seen.source}:{seen.from_port}"
            if seen.protocol in WITH_PORTS and seen.source.family == 4
            else f"[{seen.source}]:{seen.from_port}"
            if seen.protocol in WITH_PORTS
            else str(seen.source)
        )
    owner = plan.owner(packet.destination)
    return Journey(
        question.sender,
        question.target,
        owner,
        question.what,
        there,
        back,
        deciding.fate,
        deciding.cause,
        deciding.because,
        deciding.note,
        deciding.root or _untranslated(plan, there, back),
        lost,
        symptom,
        said,
        seen_as,
        _although(plan, there, back),
        _nearest(deciding),
    )


def _untranslated(plan: Plan, there: Leg, back: Leg | None) -> str:
    """Why an answer finds no way home: its private destination was never hidden behind a public one."""
    if back is None or back.cause != "route.none" or not back.packet.destination.is_private:
        return ""
    source = back.packet.destination
    for hop in there.hops:
        if any(r.stage == "translate source" and r.did == "kept" for r in hop.rulings):
            return f"private source {source} left {hop.device} untranslated"
    if not any(a.is_private for a in plan.device(back.end).own):
        return f"private source {source} was translated nowhere"
    return ""


def _kind(packet: Packet) -> str:
    if packet.flags:
        return {"SYN-ACK": "a SYN-ACK", "RST": "a reset"}.get(packet.flags, packet.flags)
    what = packet.what()
    return {"icmp/echo-reply": "an echo reply", "icmp6/echo-reply": "an echo reply"}.get(
        what, f"ICMP {what.partition('/')[2]}" if packet.icmp >= 0 else "an answer"
    )


def _nearest(leg: Leg) -> tuple[str, ...]:
    """For a packet that a list stopped: the permits that missed by one condition."""
    rulings = leg.hops[-1].rulings
    if not rulings or rulings[-1].table is None or rulings[-1].cause not in ("filter.end", "session.none", "filter.rule"):
        return ()
    last, table = rulings[-1], rulings[-1].table
    found = table.near_misses(last.saw, last.arriving, last.leaving)[:2]
    return tuple(
        f"{table.source.name} rule {n.id} ({n.mark}) would permit it, but for {n.miss.field}: {n.miss.words}" for n in found
    )


def _although(plan: Plan, there: Leg, back: Leg | None) -> tuple[Because, ...]:
    """What is written and would have changed the fate, but has no effect; and an address that was given twice."""
    out = []
    address = there.arrived.destination
    bearers = plan.bearers(address)
    if len(bearers) > 1:
        last = there.hops[-1].device
        for name in bearers:
            if name != last and name in plan.network.devices:
                words = f"{name} bears {address} too: it was given twice"
                out.append(Because("duplicate", words, _bearing_mark(plan, name, address)))
    if there.fate not in (Fate.DELIVERED, Fate.REFUSED):
        return tuple(out)
    for name, where in plan.attached.items():
        for hop in there.hops:
            device = plan.device(hop.device)
            if not hop.rulings or device.device.kind.value not in ("router", "firewall"):
                continue
            idle = _idle_at(hop, where)
            if idle is None:
                continue
            table = device.read_list(name)
            found = table.first(hop.rulings[0].saw, hop.arriving, hop.leaving)
            if found is not None and found.rule.verdict in (Verdict.DENY, Verdict.REJECT):
                words = f"list {name} rule {found.rule.id} would {found.rule.verdict.value} it: {name} {idle}"
                out.append(Because("idle", words, found.rule.mark))
                break
            if found is None and not where and table.rules and device.setting("end-of-list")[0] != "permit":
                words = f"the end of list {name} would deny it: {name} {idle}"
                out.append(Because("idle", words, table.source.mark))
                break
    return tuple(out)


def _idle_at(hop: Hop, where: Sequence[tuple[str, str, str]]) -> str | None:
    """Why a list was not examined at a hop where its author may have meant it: attached nowhere, or the wrong way round."""
    if not where:
        return "is attached nowhere"
    for device, interface, way in where:
        passed = {"arriving": hop.leaving, "leaving": hop.arriving}[way]
        if device == hop.device and interface == passed:
            sees, passes = ("leaves", "arrives") if way == "leaving" else ("arrives", "leaves")
            return f"is attached to what {sees} by {device}/{interface}, and this packet {passes} there"
    return None


def _bearing_mark(plan: Plan, name: str, address: Address) -> Mark | None:
    for interface in plan.network.devices[name].interfaces.values():
        if any(a.address == address for a in interface.addresses):
            return interface.mark
    return None
