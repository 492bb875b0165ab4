"""From a question to a journey: the packet's way there, and whatever comes home."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from mossy_compass.errors import AddressError, QuestionError
from mossy_compass.marks import hint, nearest
from mossy_compass.model.check import attached
from mossy_compass.model.network import Device, FarHost, Network, Verdict
from mossy_compass.packet.address import Address, parse_address
from mossy_compass.packet.packet import DEFAULT_TTL, FIRST_DYNAMIC_PORT, Packet, answer_to, echo_request, icmp_error, refusal_of
from mossy_compass.packet.service import BUILT_IN_SERVICES, ICMP, ICMP6, TCP, WITH_PORTS, Service, parse_service
from mossy_compass.plan.plan import Plan
from mossy_compass.routing.table import Hop as RouteHop
from mossy_compass.state.sessions import SessionTable
from mossy_compass.walk.journey import Because, Fate, Hop, Journey, Leg, Ruling, Symptom, Way
from mossy_compass.walk.stages import STAGES, End, Passage

Chooser = Callable[[str, tuple[RouteHop, ...]], int | None]


@dataclass(frozen=True, slots=True)
class Question:
    """A test packet to be sent, resolved to addresses.

    Attributes:
        sender: name of the device or far host.
        device: the device that sends.
        target: what was asked for.
        packet: the packet; None when no packet could be made, and then ``stuck`` says why.

    """

    sender: str
    device: str
    target: str
    what: str
    packet: Packet | None
    stuck: tuple[str, Because, str] | None = None
    destination: Address | None = None


def _sender(network: Network, name: str) -> tuple[Device, FarHost | None]:
    device, _, port = name.partition("/")
    if device in network.devices:
        found = network.devices[device]
        if not found.layer3:
            raise QuestionError(f"{device} is a switch: it has no address to send from.")
        if port and port not in found.interfaces:
            raise QuestionError(f"{device} has no interface '{port}'.", nearest(port, found.interfaces))
        return found, None
    far = network.far_host(name)
    if far is not None:
        return far
    known = [n for n, d in network.devices.items() if d.layer3] + [f for d in network.devices.values() for f in d.far_hosts]
    raise QuestionError(f"there is no device '{name}' to send from. {hint(name, known, 'devices')}")


def addresses_of(network: Network, target: str) -> tuple[Address, ...]:
    """The addresses that a device, far host, name record or address text stands for.

    Raises:
        QuestionError: it is none of these.

    """
    device, _, port = target.partition("/")
    if device in network.devices:
        found = network.devices[device]
        if port and port not in found.interfaces:
            raise QuestionError(f"{device} has no interface '{port}'.", nearest(port, found.interfaces))
        own = [a for a, name in found.own_addresses() if not port or name == port]
        if not own:
            raise QuestionError(f"{target} has no address to send to.")
        return tuple(own)
    far = network.far_host(target)
    if far is not None:
        return far[1].addresses
    if target in network.names:
        return network.names[target]
    try:
        return (parse_address(target),)
    except AddressError:
        if (target[:1].isdigit() and target.replace(".", "").isdigit()) or ":" in target:
            raise
    return ()


def service_of(network: Network, text: str) -> Service | None:
    """The service that a test asks for; None for an echo request. A named service stands for its first member.

    Raises:
        QuestionError: no such service.

    """
    if text in ("ping", "echo", "icmp", "icmp6"):
        return None
    if text in network.services and network.services[text].services:
        return network.services[text].services[0]
    if text in BUILT_IN_SERVICES:
        return BUILT_IN_SERVICES[text][0]
    try:
        return parse_service(text)
    except AddressError as fault:
        if "/" in text:
            raise
        known = {*network.services, *BUILT_IN_SERVICES, "ping"}
        raise QuestionError(
            f"there is no service '{text}'. {hint(text, known, 'services')} Or write protocol/port, like tcp/443."
        ) from fault


def ask(
    plan: Plan,
    sender: str,
    target: str,
    service: str = "ping",
    *,
    from_port: int | None = None,
    source: str | None = None,
    ttl: int = DEFAULT_TTL,
    family: int | None = None,
) -> Question:
    """Make the test packet that a question describes.

    Args:
        sender: device, ``device/interface`` for its address, or far host.
        target: device, ``device/interface``, far host, name, or address.
        service: ``tcp/443``, a service name, or ``ping``.
        from_port: source port, or the identifier of an echo request.
        source: source address, instead of the one that the sender would choose.
        ttl: time to live, 1 to 255.
        family: 4 or 6, to choose among the target's addresses.

    Raises:
        QuestionError: the network has no such sender or service, or the numbers are out of range.

    """
    network = plan.network
    device, far = _sender(network, sender)
    if not 1 <= ttl <= 255:
        raise QuestionError(f"a TTL is 1 to 255, not {ttl}.")
    if from_port is not None and not 0 <= from_port <= 65535:
        raise QuestionError(f"a source port is 0 to 65535, not {from_port}.")
    wanted = service_of(network, service)
    if wanted is not None and wanted.protocol in WITH_PORTS and wanted.ports is None:
        raise QuestionError(f"'{service}' needs a port; write one like {service}/443.")
    if (
        wanted is not None
        and wanted.ports is not None
        and wanted.ports.first != wanted.ports.last
        and wanted.protocol in WITH_PORTS
    ):
        wanted = Service(wanted.protocol, wanted.ports._replace(last=wanted.ports.first))
    what = str(wanted) if wanted else "ping"
    found = addresses_of(network, target)
    if not found:
        known = [*network.devices, *network.names, *(f for d in network.devices.values() for f in d.far_hosts)]
        because = Because("name", f"no record for '{target}'")
        return Question(sender, device.name, target, what, None, ("name.unknown", because, hint(target, known, "names")))
    here = plan.device(device.name)
    given = parse_address(source) if source else None
    families = (
        [family]
        if family
        else (
            [given.family]
            if given
            else ([4] if wanted and wanted.protocol == ICMP else [6] if wanted and wanted.protocol == ICMP6 else [])
        )
    )
    own_families = {a.family for a in (far.addresses if far else here.own)}
    usable = [a for a in found if (not families or a.family in families) and a.family in own_families] or [
        a for a in found if not families or a.family in families
    ]
    if not usable:
        raise QuestionError(f"{target} has no IPv{families[0]} address; it has {', '.join(map(str, found))}.")
    destination = usable[0]
    start: Address | None = given or (next((a for a in far.addresses if a.family == destination.family), None) if far else None)
    if start is None:
        _, _, port = sender.partition("/")
        start = here.source_for(port, destination.family) if port else _choose_source(plan, device.name, destination)
    if start is None:
        because = Because("device", f"{sender} has no IPv{destination.family} address", device.mark)
        return Question(sender, device.name, target, what, None, ("source.none", because, ""), destination)
    if start.family != destination.family:
        raise QuestionError(f"source {start} and destination {destination} are of different families.")
    if wanted is None:
        packet = echo_request(start, destination, 1 if from_port is None else from_port, ttl)
    elif wanted.protocol in (ICMP, ICMP6):
        if wanted.protocol != (ICMP if destination.family == 4 else ICMP6):
            raise QuestionError(f"{wanted} does not go with {destination}.")
        packet = Packet(
            wanted.protocol,
            start,
            destination,
            1 if from_port is None else from_port,
            0,
            wanted.ports.first if wanted.ports else 8 << 8,
            ttl=ttl,
        )
    else:
        to_port = wanted.ports.first if wanted.ports else 0
        own_port = (FIRST_DYNAMIC_PORT if from_port is None else from_port) if wanted.protocol in WITH_PORTS else 0
        packet = Packet(wanted.protocol, start, destination, own_port, to_port, -1, "SYN" if wanted.protocol == TCP else "", ttl)
    return Question(sender, device.name, target, what, packet, None, destination)


def _choose_source(plan: Plan, device: str, destination: Address) -> Address | None:
    here = plan.device(device)
    route = here.table.lookup(destination)
    if route is not None and route.hops:
        hop = route.hops[0]
        return here.source_for(hop.interface, destination.family, hop.address or destination)
    for port in here.device.interfaces:
        found = here.source_for(port, destination.family)
        if found is not None:
            return found
    return None


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
        last.device,
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
) -> Journey:
    """Send one test packet, and its answer home; the arguments are those of ``ask``.

    Args:
        plan: a compiled plan, or a network, which is then compiled for this one packet.

    """
    ready = plan if isinstance(plan, Plan) else Plan(plan)
    question = ask(ready, sender, target, service, from_port=from_port, source=source, ttl=ttl, family=family)
    return trace_question(ready, question)[0]


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
    name = end.replier or last.device
    about = last.rulings[0].saw if last.rulings else arrived
    here = plan.device(name)
    route = here.table.lookup(about.source)
    source = None
    if route is not None and route.hops:
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


def _although(plan: Plan, *legs: Leg | None) -> tuple[Because, ...]:
    """Lists that would have stopped the packet, but are attached nowhere."""
    there = legs[0]
    if there is None or there.fate not in (Fate.DELIVERED, Fate.REFUSED):
        return ()
    out = []
    places = attached(plan.network)
    for name, where in places.items():
        if where:
            continue
        for hop in there.hops:
            device = plan.device(hop.device)
            if device.device.kind.value not in ("router", "firewall") or not hop.rulings:
                continue
            table = device.read_list(name)
            packet = hop.rulings[0].saw
            found = table.first(packet, hop.arriving, hop.leaving)
            if found is not None and found.rule.verdict in (Verdict.DENY, Verdict.REJECT):
                out.append(
                    Because(
                        "idle",
                        f"list {name} rule {found.rule.id} would {found.rule.verdict.value} it, but {name} is attached nowhere",
                        found.rule.mark,
                    )
                )
                break
            if found is None and table.rules and device.setting("end-of-list")[0] != "permit":
                out.append(
                    Because("idle", f"the end of list {name} would deny it, but {name} is attached nowhere", table.source.mark)
                )
                break
    return tuple(out)
