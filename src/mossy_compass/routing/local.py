"""Connected and static routes of one device."""

from __future__ import annotations

from mossy_compass.model.network import Device, RouteAction, StaticRoute
from mossy_compass.packet.address import Address
from mossy_compass.routing.domains import Domains
from mossy_compass.routing.table import Hop, Loser, Route, RouteTable


def connected(device: Device, domains: Domains, table: RouteTable) -> None:
    """Add the subnets of the interfaces that are up; remember the others as inactive."""
    for interface in device.interfaces.values():
        link = domains.link(device.name, interface.name)
        for entry in interface.addresses:
            route = Route(entry.prefix, "connected", 0, 0, (Hop(interface.name),), mark=interface.mark)
            if link.up:
                table.add(route)
            else:
                table.inactive.append(Loser(route, f"inactive: {interface.name} is down ({link.why})"))


def static(device: Device, domains: Domains, table: RouteTable, name: str = "main") -> None:
    """Add the static routes whose next hop can be found, recursively where need be (RFC 4271 9.1.2.1's rule)."""
    waiting = [r for r in device.routes if r.table == name]
    progress = True
    while waiting and progress:
        progress = False
        left = []
        for entry in waiting:
            hops, _ = resolve(device, domains, table, entry)
            if hops is None:
                left.append(entry)
                continue
            table.add(Route(entry.prefix, entry.origin, entry.preference, entry.metric, hops, entry.action, entry.mark))
            progress = True
        waiting = left
    for entry in waiting:
        _, why = resolve(device, domains, table, entry)
        route = Route(
            entry.prefix,
            entry.origin,
            entry.preference,
            entry.metric,
            (Hop(entry.leaving or "?", entry.next_hop, entry.mark),),
            entry.action,
            entry.mark,
        )
        table.inactive.append(Loser(route, f"inactive: {why}"))


def resolve(device: Device, domains: Domains, table: RouteTable, entry: StaticRoute) -> tuple[tuple[Hop, ...] | None, str]:
    """The ways out of a static route; or None and the reason."""
    if entry.action is not RouteAction.FORWARD:
        return (), ""
    if entry.leaving is not None:
        interface = device.interfaces[entry.leaving]
        link = domains.link(device.name, entry.leaving)
        if not link.up:
            return None, f"{entry.leaving} is down ({link.why})"
        if not any(a.address.family == entry.prefix.family for a in interface.addresses):
            return None, f"{entry.leaving} has no IPv{entry.prefix.family} address yet"
        return (Hop(entry.leaving, entry.next_hop, entry.mark),), ""
    assert entry.next_hop is not None
    return via(device, domains, table, entry.next_hop, entry)


def via(
    device: Device, domains: Domains, table: RouteTable, hop: Address, entry: StaticRoute
) -> tuple[tuple[Hop, ...] | None, str]:
    """The ways out towards a next hop that may be some routes away."""
    found = table.lookup(hop)
    for interface in device.interfaces.values():
        if any(a.prefix.holds(hop) for a in interface.addresses):
            link = domains.link(device.name, interface.name)
            if not link.up and (found is None or found.prefix.is_default):
                return None, f"{interface.name}, which next hop {hop} is behind, is down ({link.why})"
    if found is None or (found.prefix.is_default and found.origin != "connected"):
        return None, f"next hop {hop} is on no connected subnet and no route leads to it"
    if found.origin == "connected":
        return (Hop(found.hops[0].interface, hop, entry.mark),), ""
    if found.prefix == entry.prefix or found.action is not RouteAction.FORWARD:
        return (
            None,
            f"next hop {hop} is only reached by the route itself"
            if found.prefix == entry.prefix
            else f"the route to next hop {hop} says {found.action}",
        )
    return tuple(Hop(h.interface, h.address or hop, entry.mark, hop) for h in found.hops), ""
