"""The stages that find the way: the route, the choice among equal ways, and the neighbour who takes the packet."""

from __future__ import annotations

import zlib

from mossy_compass.model.network import RouteAction
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.order import Stage
from mossy_compass.routing.table import Hop, Route
from mossy_compass.state.sessions import Session, flow_of
from mossy_compass.walk.journey import Because, Fate
from mossy_compass.walk.passage import End, Passage

SHARING_FIELDS = {
    "source": ("source",),
    "source-destination": ("source", "destination"),
    "flow": ("protocol", "source", "from_port", "destination", "to_port"),
}


def share(packet: Packet, method: str, count: int, device: str) -> int:
    """Which of ``count`` equal members a packet takes at a device.

    The device's name and the stated fields are joined by ``|``; the CRC-32 of that text, modulo the count, is the
    member, counted from 0. So the same packet takes the same member on every machine and in every release of this
    format, and two devices in a row do not choose alike.
    """
    text = "|".join([device, *(str(getattr(packet, name)) for name in SHARING_FIELDS[method])])
    return zlib.crc32(text.encode()) % count


def route(p: Passage) -> End | None:
    """Longest prefix, then preference, then metric, then sharing."""
    destination = p.packet.destination
    found = p.here.table.lookup(destination)
    unreachable = "net-unreachable" if p.here.setting("sends-unreachable")[0] == "yes" else ""
    if found is None:
        cause, because, note = _no_route(p, destination)
        return p.end(Stage.ROUTE, "dropped", End(Fate.DROPPED, cause, because, note, unreachable), routes=p.here.table)
    because = Because("route", found.words(), found.mark)
    if found.action is not RouteAction.FORWARD:
        silent = found.action is RouteAction.DISCARD
        return p.end(
            Stage.ROUTE,
            "dropped",
            End(
                Fate.DROPPED,
                "route.discard" if silent else "route.unreachable",
                because,
                f"the route says {found.action}",
                "" if silent or not unreachable else "host-unreachable" if destination.family == 4 else unreachable,
            ),
            routes=p.here.table,
        )
    hop, note = pick(p, found)
    p.leaving, p.next_hop = hop.interface, hop.address
    if found.origin == "connected" and not p.packet.is_error and destination in (_network(found, destination), _broadcast(found)):
        return p.end(
            Stage.ROUTE,
            "dropped",
            End(
                Fate.DROPPED,
                "neighbour.silent",
                because,
                f"{destination} is the subnet's own or broadcast address, which no host bears",
            ),
        )
    p.rule(Stage.ROUTE, "routed", because, hop.words() + (f"; {note}" if note else ""), routes=p.here.table)
    return None


def _no_route(p: Passage, destination: Address) -> tuple[str, Because, str]:
    """Why there is no route: a port that is down, a route that waits for something, or none at all."""
    here, table = p.here, p.here.table
    losers = table.losers(destination)
    for loser in losers:
        for hop in loser.route.hops:
            port = _down_port(p, hop)
            if port is not None:
                interface = here.device.interfaces[port]
                state = p.plan.domains.link(here.name, port)
                words = f"{here.name}/{port} is down: {state.why}"
                return "interface.down", Because("interface", words, interface.mark), f"so its {loser.route.words()} is not used"
    if losers:
        route = losers[0].route
        words = f"{here.name} has no route to {destination}: its {route.words()} is {losers[0].why}"
        return "route.none", Because("route", words, route.mark or here.device.mark), ""
    routes = [str(r.prefix) for r in table if r.origin != "local"]
    note = f"it knows {', '.join(routes[:3])}" + (f" and {len(routes) - 3} more" if len(routes) > 3 else "")
    because = Because("device", f"{here.name} has no route to {destination}", here.device.mark)
    return "route.none", because, note if routes else "its route table is empty"


def _down_port(p: Passage, hop: Hop) -> str | None:
    """The interface that a way out needs, when that is down."""
    for interface in p.here.device.interfaces.values():
        named = interface.name == hop.interface
        behind = hop.address is not None and any(a.prefix.holds(hop.address) for a in interface.addresses)
        if (named or behind) and not p.plan.domains.link(p.here.name, interface.name).up:
            return interface.name
    return None


def _network(found: Route, destination: Address) -> Address | None:
    return Address(4, found.prefix.value) if destination.family == 4 and found.prefix.length < 31 else None


def _broadcast(found: Route) -> Address | None:
    prefix = found.prefix
    return Address(4, prefix.span.last) if prefix.family == 4 and prefix.length < 31 else None


def pick(p: Passage, found: Route) -> tuple[Hop, str]:
    """The member of an equal-cost route that this packet takes, and why."""
    if len(found.hops) == 1:
        return found.hops[0], ""
    method = p.here.setting("sharing")[0]
    number = p.choose(p.here.name, found.hops, p.packet) if p.choose else None
    why = "chosen for this walk"
    if number is None:
        number = share(p.packet, method, len(found.hops), p.here.name)
        why = f"sharing by {method}"
    others = ", ".join(h.words() for n, h in enumerate(found.hops) if n != number)
    return found.hops[number], f"member {number + 1} of {len(found.hops)}, {why}; also {others}"


def send(p: Passage) -> End | None:
    """Find who answers for the next hop on the segment, and whether the packet fits (RFC 1191: it is sent undivided).

    A stateful device notes the session.
    """
    assert p.leaving is not None
    link = p.plan.domains.link(p.here.name, p.leaving)
    if not link.up:
        return p.end(
            Stage.SEND,
            "dropped",
            End(
                Fate.DROPPED,
                "interface.down",
                Because("interface", f"{p.here.name}/{p.leaving} is down", p.here.device.interfaces[p.leaving].mark),
                link.why,
                _unreachable(p),
            ),
        )
    domain = p.plan.domains.of(p.here.name, p.leaving)
    target = p.next_hop or p.packet.destination
    answers = [a for a in p.plan.domains.answers(domain, target) if a.device != p.here.name] if domain else []
    if not answers or domain is None:
        segment = p.plan.domains.segment_of(p.here.name, p.leaving)
        where = f"on segment {domain.name}" if domain else "there"
        note = f"nobody {where} answers for {target}"
        owner = p.plan.owner(target)
        if owner is not None:
            note += f"; {owner} bears that address, but is not reached there"
        return p.end(
            Stage.SEND,
            "dropped",
            End(
                Fate.DROPPED,
                "neighbour.silent",
                Because("neighbour", f"{target} does not answer {p.here.name}", segment.mark if segment else None),
                note,
                _unreachable(p),
            ),
        )
    chosen = answers[0]
    cables = p.plan.domains.cables((p.here.name, p.leaving), (chosen.device, chosen.interface))
    mtu = min([p.here.device.interfaces[p.leaving].mtu, *(c.link.mtu for c in cables if c.link.mtu)])
    if p.packet.size > mtu:
        mark = next((c.mark for c in cables if c.link.mtu == mtu), p.here.device.interfaces[p.leaving].mark)
        note = f"the packet has {p.packet.size} bytes, at most {mtu} bytes go out by {p.leaving}, and it may not be divided"
        because = Because("interface", f"the MTU of {p.here.name}/{p.leaving} is {mtu} bytes", mark)
        reply = "too-big" if p.here.setting("sends-unreachable")[0] == "yes" else ""
        return p.end(Stage.SEND, "dropped", End(Fate.DROPPED, "mtu.exceeded", because, note, reply))
    p.latency_ms = sum(c.link.latency_ms for c in cables)
    p.next_device, p.next_interface, p.domain = chosen.device, chosen.interface, domain
    note = f"{chosen.device}/{chosen.interface} answers for {target}" + (" as proxy" if chosen.why == "proxy" else "")
    if len(answers) > 1:
        note += f"; so {'does' if len(answers) == 2 else 'do'} {', '.join(f'{a.device}/{a.interface}' for a in answers[1:])}: which of them gets it is chance"
    if domain.switches:
        note += (
            f"; {', '.join(domain.switches)} only bridge{'s' if len(domain.switches) == 1 else ''} it: no list is examined there"
        )
    p.rule(Stage.SEND, "sent", Because("neighbour", f"{p.leaving} to {chosen.device}"), note)
    _remember(p)
    return None


def _unreachable(p: Passage) -> str:
    return "host-unreachable" if p.here.setting("sends-unreachable")[0] == "yes" else ""


def _remember(p: Passage) -> None:
    """Note a session for a tracked protocol, and a translation for any."""
    if p.session is not None or p.packet.is_error or p.answering:
        return
    inner, outer = flow_of(p.came), flow_of(p.packet)
    tracked = p.packet.protocol in p.here.tracked
    if not tracked and inner == outer:
        return
    if p.sessions.continuing(p.here.name, inner) is not None:
        return
    number = p.sessions.next_number(p.here.name)
    assert p.leaving is not None
    by = p.opened_by or ("its own packet" if p.arriving is None else "no list")
    p.sessions = p.sessions.having(Session(number, p.here.name, inner, outer, p.arriving, p.leaving, tracked, by))
