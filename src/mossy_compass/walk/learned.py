"""What a routing protocol does not tell: why a router that speaks it has no route where another has one.

Told of a packet that got lost for want of that route, for the router where it is missed cannot know what nobody announces.
"""

from __future__ import annotations

from collections.abc import Iterator

from mossy_compass.model.network import Device, Interface
from mossy_compass.packet.address import Address
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because
from mossy_compass.walk.journey import Leg

PROTOCOLS = ("ospf", "rip")


def unannounced(plan: Plan, leg: Leg, goal: Address, routers: list[str]) -> Because | None:
    """The router of a packet's goal, where it speaks a protocol with those who miss the route, and leaves that subnet out of it.

    Args:
        plan: the network.
        leg: the way of a packet that was lost.
        goal: where it was to go.
        routers: who is on the subnet of the goal.

    """
    if len(routers) != 1 or routers[0] in {hop.device for hop in leg.hops}:
        return None
    owner = plan.network.devices[routers[0]]
    port = next(p for p in owner.interfaces.values() if any(a.prefix.holds(goal) for a in p.addresses))
    for protocol in PROTOCOLS:
        if _tells(owner, port, protocol) or not speaks(owner, protocol):
            continue
        if any(speaks(plan.network.devices[hop.device], protocol) for hop in leg.hops):
            subnet = next(a.prefix for a in port.addresses if a.prefix.holds(goal))
            return Because("root.unannounced", (owner.name, port.name, subnet, protocol.upper()), port.mark)
    return None


def kept_default(plan: Plan, leg: Leg) -> Iterator[Because]:
    """The routers that speak a protocol with one that lacks a default route, and do not announce theirs, or have lost it.

    Args:
        plan: the network.
        leg: the way of a packet that was lost for want of a route.

    """
    here, goal = plan.network.devices[leg.end], leg.arrived.destination
    for protocol in PROTOCOLS if leg.cause == "route.none" and plan.owner(goal) is not None else ():
        for device in plan.network.devices.values() if speaks(here, protocol) else ():
            if device.name == here.name or not speaks(device, protocol):
                continue
            process = device.ospf if protocol == "ospf" else device.rip
            found = plan.device(device.name).table.lookup(goal)
            if found is not None and found.prefix.is_default and not (process is not None and process.originate_default):
                mark = process.mark if process is not None else device.mark
                yield Because("told.default-kept", (device.name, protocol.upper()), mark)
            lost = next(
                (e for e in plan.device(device.name).table.inactive if e.route.prefix.is_default and e.route.prefix.holds(goal)),
                None,
            )
            if found is None and lost is not None and process is not None and process.originate_default:
                yield Because("told.default-lost", (device.name, lost.route.origin, lost.route.prefix, lost.why), lost.route.mark)


def speaks(device: Device, protocol: str) -> bool:
    """Whether a device speaks a protocol to others by any interface.

    Args:
        device: which.
        protocol: one of ``PROTOCOLS``.

    """
    return any(spoken(port, protocol) for port in device.interfaces.values())


def spoken(port: Interface, protocol: str) -> bool:
    """Whether an interface seeks neighbours of a protocol.

    Args:
        port: which.
        protocol: one of ``PROTOCOLS``.

    """
    if protocol == "rip":
        return port.rip == "active"
    return port.ospf is not None and not port.ospf.passive and not port.loopback


def _tells(device: Device, port: Interface, protocol: str) -> bool:
    """Whether a device announces the subnet of a port."""
    process = device.ospf if protocol == "ospf" else device.rip
    spoken = port.ospf is not None if protocol == "ospf" else port.rip is not None
    return spoken or (process is not None and "connected" in process.redistribute)
