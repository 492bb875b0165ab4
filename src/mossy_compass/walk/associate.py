"""An association is made when a packet wants into a tunnel whose keys are exchanged: what is asked, answered, and agreed on.

The exchange is packets of the two devices like any others (RFC 7296 section 1.2): UDP from port 500 to port 500, and once more to
4500 where an address was translated on the way (section 2.23), by which ESP then goes within UDP (RFC 3948).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

from mossy_compass.headers.spans import intersect
from mossy_compass.model.durations import parse_duration
from mossy_compass.model.network import Tunnel
from mossy_compass.packet.address import Address, Spans
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import UDP
from mossy_compass.packet.wrapping import AROUND_PORT, KEY_PORT
from mossy_compass.plan.alike import Met
from mossy_compass.plan.asopened import lists_at
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Association
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Did, Fate, setting
from mossy_compass.plan.stages.tunnel import agreeing, exchanging, protecting
from mossy_compass.state.state import State
from mossy_compass.walk.journey import UNWRAPPED, Leg

TAKEN = ("exchange.taken", "answer.arrived", UNWRAPPED)
"""The causes of an end at which the other device has what was sent in an exchange."""

Send = Callable[[Packet, str], Leg]
"""Sends a packet of a device, and gives its way."""


class Lost(NamedTuple):
    """Why a packet did not come out of a tunnel.

    Attributes:
        cause, because, remark: as of the end of a leg.
        outer: the way of the packet that was lost with it; None where none was sent.

    """

    cause: str
    because: Because
    remark: Because | None = None
    outer: Leg | None = None


class Agreed(NamedTuple):
    """What came of an exchange.

    Attributes:
        held: the association; None where there is none.
        legs: the ways of its packets.
        lost: why there is none.

    """

    held: Association | None
    legs: tuple[Leg, ...] = ()
    lost: Lost | None = None


def tunnel_of(here: DevicePlan, port: str) -> Tunnel:
    """The tunnel that an interface is."""
    tunnel = here.device.interfaces[port].tunnel
    assert tunnel is not None
    return tunnel


def associated(plan: Plan, state: State, here: DevicePlan, port: str, packet: Packet, send: Send) -> Agreed:
    """The association that a packet goes by: one that is there, or one that is made now; it is written.

    Args:
        plan: the network.
        state: what devices remember.
        here: who sends into the tunnel.
        port: the tunnel.
        packet: what goes in.
        send: sends the packets of the exchange.

    """
    ends = _inside(packet)
    held = state.associations.between(here.name, port, *ends)
    if held is not None:
        return Agreed(_found_again(plan, state, held, send))
    tunnel = tunnel_of(here, port)
    mine = protecting(here, tunnel, *ends)
    own = here.address_on(tunnel.by, tunnel.to.family)
    if mine is None:
        because = Because("association.none", (port, here.name, *ends), tunnel.mark)
        return Agreed(None, (), Lost("tunnel.selector", because))
    if own is None:
        return Agreed(
            None, (), Lost("source.none", Because("address.none", (f"{here.name}/{tunnel.by}", tunnel.to.family), tunnel.mark))
        )
    asked = Packet(UDP, own, tunnel.to, KEY_PORT, KEY_PORT)
    there, back = _both_ways(asked, here, send)
    legs = (there,) if back is None else (there, back)
    if back is None or back.cause not in TAKEN:
        return Agreed(None, legs, _lost(legs[-1]))
    other = plan.device(there.end)
    end = exchanging(other, there.arrived)
    if end is None:  # a session of an exchange before lets it in, and there is no such tunnel any more
        because = Because("tunnel.none", (other.name, there.arrived, ()), other.device.mark)
        refused = _refused(there, because)
        return Agreed(None, (refused,), Lost("tunnel.mismatch", because, None, refused))
    twin = tunnel_of(other, end)
    theirs = protecting(other, twin, *reversed(ends))
    why = _unlike(here, port, other, end, ends, theirs)
    if why is not None:
        refused = _refused(there, why)
        return Agreed(None, (refused,), Lost("tunnel.mismatch", why, None, refused))
    assert theirs is not None
    translated = _ends(there.arrived) != _ends(there.packet)
    if translated:  # from now on everything goes by the other port, so that ESP, which has none, gets through
        there, back = _both_ways(asked._replace(from_port=AROUND_PORT, to_port=AROUND_PORT), here, send)
        legs = (*legs, there) if back is None else (*legs, there, back)
        if back is None or back.cause not in TAKEN:
            return Agreed(None, legs, _lost(legs[-1]))
    until = _until(state, here, other)
    selected = intersect(mine[0], theirs[1]), intersect(mine[1], theirs[0])
    to_port, seen_port = (AROUND_PORT, there.arrived.from_port) if translated else (0, 0)
    behind = there.arrived.source != there.packet.source
    one = Association(
        0, here.name, port, other.name, end, *selected, tunnel.to, to_port, behind, True, state.now, until, lists_at(here, port)
    )
    far = (other.name, end, here.name, port, selected[1], selected[0], there.arrived.source, seen_port)
    view = Association(0, *far, back.arrived.source != back.packet.source, False, state.now, until, lists_at(other, end))
    return Agreed(state.associations.make(one, view), legs)


def _inside(packet: Packet) -> tuple[Address, Address]:
    """Between whom a packet inside goes; an error goes by what carries the answers to what it quotes (RFC 4301 section 6.2)."""
    about = packet.quoted
    return (about.destination, about.source) if about is not None else (packet.source, packet.destination)


def _both_ways(asked: Packet, here: DevicePlan, send: Send) -> tuple[Leg, Leg | None]:
    """What is asked, and what comes back; None where it did not get there."""
    there = send(asked, here.name)
    if there.cause not in TAKEN:
        return there, None
    came = there.arrived
    answer = came._replace(
        source=came.destination, destination=came.source, from_port=came.to_port, to_port=came.from_port, ttl=asked.ttl
    )
    return there, send(answer, there.end)


def _ends(packet: Packet) -> tuple[object, ...]:
    """Between whom a packet goes, with the ports."""
    return packet.source, packet.destination, packet.from_port, packet.to_port


def _lost(leg: Leg) -> Lost:
    """What was lost in an exchange is the reason that there is no association."""
    return Lost(leg.cause, leg.because, leg.remark, leg)


def _refused(there: Leg, why: Because) -> Leg:
    """The way of what asked, at whose end the other device does not agree."""
    last = there.hops[-1]
    ruling = last.rulings[-1]
    refused = ruling._replace(cause="tunnel.mismatch", decision=ruling.decision._replace(did=Did.DROPPED, because=why, note=None))
    hops = (*there.hops[:-1], last._replace(rulings=(*last.rulings[:-1], refused)))
    return there._replace(hops=hops, fate=Fate.DROPPED, cause="tunnel.mismatch", because=why, remark=None)


def _unlike(
    here: DevicePlan, port: str, other: DevicePlan, end: str, inside: tuple[Address, Address], theirs: tuple[Spans, Spans] | None
) -> Because | None:
    """What the two ends do not agree on; None where they do."""
    one, twin = tunnel_of(here, port), tunnel_of(other, end)
    if one.proposals and twin.proposals and not set(one.proposals) & set(twin.proposals):
        return Because("exchange.proposals", (here.name, one.proposals, other.name, twin.proposals), twin.mark)
    if theirs is None:
        return Because("exchange.selectors", (end, other.name, *inside), twin.mark)
    return None


def _until(state: State, *ends: DevicePlan) -> int | None:
    """When the association is over: the shorter of what both ends say."""
    lives = [parse_duration(h.settings.text("association-for")) for h in ends if h.settings.text("association-for") != "never"]
    return state.now + min(x for x in lives if x is not None) if lives else None


def _found_again(plan: Plan, state: State, held: Association, send: Send) -> Association:
    """An association that is there. Behind translation the other end keeps its mapping alive (RFC 3948 section 4), or has a new one."""
    other = state.associations.get(held.peer, held.number)
    if not held.to_port or other is None or not other.behind or held.peer not in plan.network.devices:
        return held
    there = plan.device(held.peer)
    tunnel = there.device.interfaces[held.peer_tunnel].tunnel if held.peer_tunnel in there.device.interfaces else None
    own = there.address_on(tunnel.by, tunnel.to.family) if tunnel is not None else None
    if own is None:
        return held
    leg = send(Packet(UDP, own, other.to, AROUND_PORT, other.to_port), held.peer)
    if leg.cause != UNWRAPPED or leg.end != held.device:
        return held
    return state.associations.seen_as(held, leg.arrived.source, leg.arrived.from_port)


def first_is_lost(here: DevicePlan) -> Because | None:
    """The setting by which the packet is lost for which keys are exchanged; None where it waits."""
    lost = here.settings.text("tunnel-first-packet") == "lose"
    return setting(here.settings, "tunnel-first-packet") if lost else None


def unknown_there(plan: Plan, state: State, here: DevicePlan, port: str, held: Association | None, outer: Leg) -> Lost | None:
    """That what came out of a tunnel belongs to no association of the device where it did; None where it does, or needs none.

    Args:
        plan: the network.
        state: what devices remember.
        here: who sent it into the tunnel.
        port: by which tunnel.
        held: by which association; None for keys that were given by hand.
        outer: the way of what carried it.

    """
    other = plan.device(outer.end)
    end = outer.hops[-1].rulings[-1].row.removeprefix("tunnel ")
    twin = tunnel_of(other, end)
    if held is None:
        if not twin.exchanged:
            return None
        because = Because("association.by-hand", (port, here.name, end, other.name), twin.mark)
    elif twin.exchanged and state.associations.get(other.name, held.number) is not None:
        return None
    else:
        because = Because("association.unknown", (held.number, port, here.name, other.name), twin.mark)
    return Lost("tunnel.unknown", because, None, _refused(outer, because)._replace(cause="tunnel.unknown"))


def alike_in(plan: Plan, here: DevicePlan, port: str, packet: Packet) -> Iterator[Met]:
    """For which packets a tunnel would be asked for the same association; nothing where it needs none.

    Args:
        plan: the network.
        here: who sends into the tunnel.
        port: which.
        packet: what goes in.

    """
    tunnel = tunnel_of(here, port)
    if not tunnel.exchanged:
        return
    yield from agreeing(here, tunnel, packet, mirrored=False)
    for device in plan.network.devices.values():
        for interface in device.interfaces.values():
            twin = interface.tunnel
            if twin is not None and twin.exchanged and any(a == tunnel.to for a, _ in device.own_addresses()):
                yield from agreeing(plan.device(device.name), twin, packet, mirrored=True)
