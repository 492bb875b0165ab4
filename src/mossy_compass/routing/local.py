"""Connected and static routes of one device.

A static route is active while its way out is. Why an inactive one is so is kept beside the
table, since the packet that went elsewhere because of it will be asked about.
"""

from __future__ import annotations

from dataclasses import replace

from mossy_compass.model.network import Choosing, Device, Interface, RouteAction, StaticRoute
from mossy_compass.packet.address import BITS, Address, Prefix
from mossy_compass.routing.domains import Domains
from mossy_compass.routing.table import Loser, NextHop, Route, RouteTable
from mossy_compass.routing.uplinks import idle, serving, waits


def connected(device: Device, domains: Domains, table: RouteTable) -> None:
    """Add the subnets of the interfaces that are up; remember the others as inactive."""
    for interface in device.interfaces.values():
        link = domains.link(device.name, interface.name)
        for entry in interface.addresses:
            if entry.address.family == 6 and entry.address.is_link_local:
                continue  # it means something with an interface beside it alone (RFC 4007 section 4), so no table has it
            route = Route(entry.prefix, "connected", 0, 0, (NextHop(interface.name),), mark=interface.mark)
            if link.up:
                if entry.length < BITS[entry.address.family]:
                    table.add(route)
                own = Prefix(entry.address.family, entry.address.value, BITS[entry.address.family])
                table.add(Route(own, "local", 0, 0, (NextHop(interface.name),), RouteAction.LOCAL, interface.mark))
            else:
                table.inactive.append(Loser(route, f"{interface.name} is down ({link.why})", inactive=True))


def static(device: Device, domains: Domains, table: RouteTable, name: str = "main", asked: RouteTable | None = None) -> None:
    """Add the static routes of one table whose next hop can be found, recursively where need be.

    Args:
        asked: the table that next hops are looked up in; ``table`` itself when None. (RFC 4271 section 9.1.2.1
            has the rule that a next hop must not depend on the route itself.)

    """
    known = table if asked is None else asked
    waiting = [r for r in device.routes if r.table == name]
    progress = True
    while waiting and progress:
        progress = False
        left = []
        for entry in waiting:
            hops, _ = resolve(device, domains, known, entry)
            if hops is None:
                left.append(entry)
                continue
            table.add(Route(entry.prefix, entry.origin, entry.preference, entry.metric, hops, entry.action, entry.mark))
            progress = True
        waiting = left
    for entry in waiting:
        _, why = resolve(device, domains, known, entry)
        route = Route(
            entry.prefix,
            entry.origin,
            entry.preference,
            entry.metric,
            (NextHop(entry.leaving or "?", entry.next_hop, entry.mark),),
            entry.action,
            entry.mark,
        )
        table.inactive.append(Loser(route, why, inactive=True))


def resolve(device: Device, domains: Domains, table: RouteTable, entry: StaticRoute) -> tuple[tuple[NextHop, ...] | None, str]:
    """The ways out of a static route; or None and the reason.

    Args:
        device: whose route it is.
        domains: who hears whom.
        table: routes that are known so far.
        entry: the route as written.

    """
    why = waits(device, domains, entry.probe)
    if why:
        return None, why
    if entry.action is not RouteAction.FORWARD:
        return (), ""
    if entry.leaving is not None:
        return _by_name(device, domains, entry.leaving, entry)
    assert entry.next_hop is not None
    if entry.next_hop.family == 6 and entry.next_hop.is_link_local:
        return _link_local_hop(device, domains, entry)
    return via(device, domains, table, entry.next_hop, entry)


def _by_name(device: Device, domains: Domains, name: str, entry: StaticRoute) -> tuple[tuple[NextHop, ...] | None, str]:
    """The ways out by a named interface, or by the members of a group of uplinks that can serve: by all of them, or by the first."""
    group = device.groups.get(name)
    if group is None:
        hop, why = by_interface(device, domains, name, entry)
        return ((hop,) if hop is not None else None), why
    tried = [by_member(device, domains, name, member, entry) for member in serving(device, domains, name)]
    found = tuple(hop._replace(group=name) for hop, _ in tried if hop is not None)
    if found:
        return found if group.choose is Choosing.SHARE else found[:1], ""
    reasons = [w for w in (idle(device, domains, name, m) for m in device.uplinks[name]) if w] + [why for _, why in tried]
    return None, f"no member of {name} can serve: {'; '.join(reasons) or 'it has none'}"


def _link_local_hop(device: Device, domains: Domains, entry: StaticRoute) -> tuple[tuple[NextHop, ...] | None, str]:
    """The way to a link-local next hop: every interface has its fe80::/64, so there must be one interface only."""
    ports = [i.name for i in device.interfaces.values() if not i.loopback and any(a.address.family == 6 for a in i.addresses)]
    if len(ports) != 1:
        return None, f"next hop {entry.next_hop} is link-local, and the route does not say by which interface"
    link = domains.link(device.name, ports[0])
    return ((NextHop(ports[0], entry.next_hop, entry.mark),), "") if link.up else (None, f"{ports[0]} is down ({link.why})")


def by_member(device: Device, domains: Domains, group: str, member: str, entry: StaticRoute) -> tuple[NextHop | None, str]:
    """The way out by a member of a group: to whom the member hands, where that is written, and else as by any interface."""
    written = (a for a in device.member_hops.get((group, member), ()) if a.family == entry.prefix.family)
    hop = next(written, None)
    return by_interface(device, domains, member, entry if hop is None else replace(entry, next_hop=hop))


def by_interface(device: Device, domains: Domains, name: str, entry: StaticRoute) -> tuple[NextHop | None, str]:
    """The way out by an interface that is named without a next hop: a lease's gateway, the peer, or the destination itself."""
    interface, family = device.interfaces[name], entry.prefix.family
    link = domains.link(device.name, name)
    if not link.up:
        return None, f"{name} is down ({link.why})"
    if interface.tunnel is None and not any(a.address.family == family for a in interface.addresses):
        return None, f"{name} has no IPv{family} address yet"
    found = entry.next_hop or _leased_gateway(device, interface)
    if found is None and interface.tunnel is None and device.settings.asks_peer:
        found = _peer(domains, device, name, family)
    return NextHop(name, found, entry.mark, tunnel=interface.tunnel is not None), ""


def _leased_gateway(device: Device, interface: Interface) -> Address | None:
    """The gateway that an interface's lease names, where there is one."""
    if not interface.leased:
        return None
    hops = [r.next_hop for r in device.routes if r.origin == "lease" and r.next_hop]
    return next((h for h in hops if any(a.prefix.holds(h) for a in interface.addresses)), None)


def _peer(domains: Domains, device: Device, name: str, family: int) -> Address | None:
    """The address of the only other interface on a segment; None where there are several, or none of the family."""
    domain = domains.of(device.name, name)
    others = [m for m in domain.members if m != (device.name, name)] if domain else []
    if len(others) != 1:
        return None
    peer = domains.network.devices[others[0][0]].interfaces[others[0][1]]
    return next((a.address for a in peer.addresses if a.address.family == family), None)


def via(
    device: Device, domains: Domains, table: RouteTable, hop: Address, entry: StaticRoute
) -> tuple[tuple[NextHop, ...] | None, str]:
    """The ways out towards a next hop that may be some routes away (RFC 4271 section 5.1.3 has the idea).

    Args:
        device: whose route it is.
        domains: who hears whom.
        table: routes that are known so far.
        hop: the next hop as written.
        entry: the route as written.

    """
    found = table.lookup(hop)
    if found is None or (found.prefix.is_default and found.origin != "connected"):
        nowhere = f"next hop {hop} is on no connected subnet and no route leads to it"
        return None, _down_towards(device, domains, hop) or nowhere
    if found.origin == "connected":
        return (NextHop(found.hops[0].interface, hop, entry.mark),), ""
    if found.action is RouteAction.LOCAL:
        return None, f"next hop {hop} is {device.name} itself"
    if found.prefix == entry.prefix:
        return None, f"next hop {hop} is only reached by the route itself"
    if found.action is not RouteAction.FORWARD:
        return None, f"the route to next hop {hop} says {found.action}"
    return tuple(NextHop(h.interface, h.address or hop, entry.mark, hop) for h in found.hops), ""


def _down_towards(device: Device, domains: Domains, hop: Address) -> str:
    """Why a next hop cannot be reached, where the interface that it is behind is down."""
    for interface in device.interfaces.values():
        if any(a.prefix.holds(hop) for a in interface.addresses):
            link = domains.link(device.name, interface.name)
            if not link.up:
                return f"{interface.name}, which next hop {hop} is behind, is down ({link.why})"
    return ""
