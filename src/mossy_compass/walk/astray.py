"""What lies behind the loss of a packet that was led astray: a way that is out of use, or that nobody has written.

What such a packet meets afterwards (a router of strangers without a route, a list that was never meant for it) is only what
follows: nothing done there would bring it home.
"""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Iterator

from mossy_compass.marks import Mark
from mossy_compass.model.network import Device, Kind
from mossy_compass.packet.address import BITS, Address, Prefix, prefix_of
from mossy_compass.packet.wrapping import Wrapping
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Fate
from mossy_compass.routing.table import Loser
from mossy_compass.walk.journey import Hop, Leg, Ruling, Way
from mossy_compass.walk.learned import PROTOCOLS, speaks, spoken, unannounced

ASTRAY = ("route.none", "loop", "neighbour.silent")
"""Causes of loss that a packet meets where it should never have gone."""
CIRCLED = ("source.own", "ttl.expired", "session.none")
"""Causes that it meets likewise where it comes a second time: the sender's own system, or a firewall that takes it for another."""


def stood_in(plan: Plan, leg: Leg) -> Iterator[Because]:
    """The routes that a packet took only because a better one is inactive, each with that one.

    Args:
        plan: the network.
        leg: the packet's way.

    """
    said: set[tuple[str, Prefix]] = set()
    for hop in leg.hops:
        for ruling in hop.rulings:
            if ruling.hop is None or ruling.because.code != "route":
                continue
            for loser in _better_but_inactive(plan, hop.device, ruling):
                prefix = loser.route.prefix
                if (hop.device, prefix) not in said:
                    said.add((hop.device, prefix))
                    values = hop.device, *ruling.because.values, loser.route.origin, prefix, loser.why
                    yield Because("told.inactive", values, _written(plan, hop.device, loser))


def led_astray(plan: Plan, leg: Leg, there: Leg | None = None) -> Because | None:
    """Why a packet that was lost was not on its way to its goal; None where it was.

    A default route is no such way: another that stands in for it leads to the same places. What a lesser route leads into is
    told of a connected subnet whatever stopped the packet there, for there is no other way into that; of other routes only
    where it got lost, since they may well stand in for one another.

    Args:
        plan: the network.
        leg: the way of a packet that was lost.
        there: for an answer, the way of the packet that it answers.

    """
    goal = leg.arrived.destination
    if leg.way in (Way.EXCHANGE, Way.OUTER) and leg.cause in ("service.closed", "service.silent", "tunnel.mismatch"):
        return _other_end(plan, leg)
    if leg.fate in (Fate.DELIVERED, Fate.REFUSED) or goal in plan.device(leg.end).own:
        return None
    if leg.because.code == "route.inactive":  # which says so itself
        return None
    if leg.because.code == "neighbour.silent":
        silent = _owner_down(plan, leg.because.named["address"])
        if silent is not None:
            return silent
    off_link, turned = _off_link(plan, leg, goal), _turned_back(leg)
    if off_link is not None:
        return off_link
    # A firewall beside the way there does not know what an answer belongs to.
    parted = _parted(leg, there) if there is not None and leg.cause == "session.none" else None
    circled = leg.end in {hop.device for hop in leg.hops[:-1]}
    astray = leg.cause in ASTRAY or (circled and leg.cause in CIRCLED) or parted is not None
    for found in stood_in(plan, leg):
        if found.named["prefix"].is_default:
            continue
        if astray or found.named["origin"] == "connected":
            return Because("root.inactive", found.values, found.mark)
    return (_of_goal(plan, leg, goal) or turned or parted) if astray else None


def _of_goal(plan: Plan, leg: Leg, goal: Address) -> Because | None:
    """Why no router has a way to where a packet was to go; None where it got to no router that was to know one."""
    silent = leg.because.named["address"] if leg.because.code == "neighbour.silent" else goal
    devices = [plan.network.devices[hop.device] for hop in leg.hops]
    if silent != goal or not devices[-1].settings.forwarding:
        return None
    found = _stranded(plan, leg, goal)
    if found is not None and not found.named["device"]:  # a router's interface may only be down
        found = _cut_off(plan, goal) or found
    if found is None and any(speaks(device, protocol) for device in devices for protocol in PROTOCOLS):
        routers = routers_of(plan, goal)
        found = _cut_off(plan, goal) or _unheard(plan, leg, routers) or unannounced(plan, leg, goal, routers)
    return found or _to_strangers(plan, leg, goal)


def _owner_down(plan: Plan, address: Address) -> Because | None:
    """The interface of whoever has an address that is silent, where that is down."""
    owners = _owners(plan, address)
    ports = [(device.name, port) for device in owners for held, port in device.own_addresses() if held == address]
    links = [plan.domains.link(*port) for port in ports]
    if len(ports) == 1 and not links[0].up:
        return Because("root.down", (*ports[0], links[0].why), links[0].mark)
    return None


def _other_end(plan: Plan, leg: Leg) -> Because | None:
    """Why the other end of a tunnel takes nothing of it: it is down, or was given the keys that are to be exchanged."""
    here = plan.network.devices[leg.end]
    for port in here.interfaces.values():
        if port.tunnel is None or port.tunnel.to != leg.arrived.source:
            continue
        link = plan.domains.link(here.name, port.name)
        if not link.up:
            return Because("root.down", (here.name, port.name, link.why), link.mark or port.mark)
        if leg.way is Way.EXCHANGE and port.tunnel.kind is Wrapping.ESP and not port.tunnel.exchanged:
            return Because("root.by-hand", (port.name, here.name), port.tunnel.mark)
    return None


def _better_but_inactive(plan: Plan, device: str, ruling: Ruling) -> Iterator[Loser]:
    """Routes that would have taken a packet, were they active: the more specific ones, and those that wait for a probe."""
    inactive = plan.device(device).table.inactive
    if not inactive:
        return
    taken: Prefix = ruling.because.named["prefix"]
    # A route that waits for a probe is meant to be there, and to be missed when it is not.
    watched = {r.mark for r in plan.network.devices[device].routes if r.probe}
    for loser in inactive:
        prefix = loser.route.prefix
        better = prefix.length > taken.length or (prefix == taken and loser.route.mark in watched)
        if better and prefix.holds(ruling.saw.destination):
            yield loser


def _written(plan: Plan, device: str, loser: Loser) -> Mark | None:
    """Where it is written that a route is out of use: of a connected one where its link is broken."""
    if loser.route.origin != "connected":
        return loser.route.mark
    return plan.domains.link(device, loser.route.hops[0].interface).mark or loser.route.mark


def _cut_off(plan: Plan, goal: Address) -> Because | None:
    """That no router is on the subnet of an address any more, though one would be if its interface were up."""
    found: Because | None = None
    for name in routers_of(plan, goal):
        table = plan.device(name).table
        route = table.lookup(goal)
        if route is not None and route.origin in ("connected", "local"):
            return None
        lost = next((e for e in table.inactive if e.route.origin == "connected" and e.route.prefix.holds(goal)), None)
        if lost is not None and found is None:
            found = Because("root.cut-off", (name, lost.route.prefix, lost.why), _written(plan, name, lost))
    return found


def routers_of(plan: Plan, goal: Address) -> list[str]:
    """The routers that have an interface on the subnet of an address, up or not.

    Args:
        plan: the network.
        goal: the address.

    """
    subnets = plan.once("subnets of routers", lambda: _subnets(plan))
    return [n for length in subnets if length <= BITS[goal.family] for n in subnets[length].get(prefix_of(goal, length), ())]


def _subnets(plan: Plan) -> dict[int, dict[Prefix, list[str]]]:
    """The routers that have an interface on each subnet, by the length of its prefix; up or not."""
    found: dict[int, dict[Prefix, list[str]]] = defaultdict(lambda: defaultdict(list))
    for device in plan.network.devices.values():
        for interface in device.interfaces.values() if device.kind in (Kind.ROUTER, Kind.FIREWALL) else ():
            for entry in interface.addresses:
                found[entry.length][entry.prefix].append(device.name)
    return found


def _stranded(plan: Plan, leg: Leg, goal: Address) -> Because | None:
    """That whoever has an address is on a segment where no router has its subnet: a mask, an address or a cable is wrong."""
    owners = _owners(plan, goal)
    if leg.cause == "neighbour.silent" or len(owners) != 1:
        return None
    owner = owners[0]
    port = next((i for i in owner.interfaces.values() if any(a.address == goal for a in i.addresses)), None)
    domain = plan.domains.of(owner.name, port.name) if port is not None else None
    if port is None or domain is None or domain.proxies:
        return None
    beside = [
        (plan.network.devices[d], i) for d, i in domain.members if d != owner.name and plan.network.devices[d].settings.forwarding
    ]
    held = [
        (d, i, a)
        for d, i in beside
        for a in d.interfaces[i].addresses
        if a.address.family == goal.family and not a.address.is_link_local
    ]
    if any(a.prefix.holds(goal) for _, _, a in held):
        return None
    if not held:
        return Because("root.stranded", (owner.name, goal, domain.name, "", "", None), port.mark)
    device, name, entry = held[0]
    return Because("root.stranded", (owner.name, goal, domain.name, device.name, name, entry), device.interfaces[name].mark)


def _unheard(plan: Plan, leg: Leg, routers: list[str]) -> Because | None:
    """The router that nobody hears, as every interface by which it speaks to others is down: that of the goal's subnet, or the last one."""
    for name in (*([leg.end] if leg.cause == "route.none" else []), *(routers if len(routers) == 1 else [])):
        ports = plan.network.devices[name].interfaces.values()
        speaking = [i.name for i in ports if any(spoken(i, protocol) for protocol in PROTOCOLS)]
        links = [plan.domains.link(name, port) for port in speaking]
        if speaking and not any(link.up for link in links):
            return Because("root.unheard", (name, speaking[0], links[0].why), links[0].mark)
    return None


def _to_strangers(plan: Plan, leg: Leg, goal: Address) -> Because | None:
    """That one's own router sent a packet for a private address to strangers, for it knows no way but the default (RFC 1918)."""
    if not goal.is_private or any(a.is_private for a in plan.device(leg.end).own):
        return None
    for hop in reversed(leg.hops[:-1]):
        if not any(a.is_private for a in plan.device(hop.device).own):
            continue
        taken = _taken(hop)
        if taken is not None and taken.named["prefix"].is_default and plan.network.devices[hop.device].settings.forwarding:
            return Because("root.strangers", (hop.device, goal), taken.mark)
        return None
    return None


def _owners(plan: Plan, address: Address) -> list[Device]:
    """The devices that have an address; a far host is none."""
    return [plan.network.devices[name] for name in plan.owners(address) if name in plan.network.devices]


def _taken(hop: Hop) -> Because | None:
    """The route that a packet took at a device; None where no table decided."""
    return next((r.because for r in hop.rulings if r.hop is not None and r.because.code == "route"), None)


def _turned_back(leg: Leg) -> Because | None:
    """The router that first sent a packet back to where it had been, and by which route."""
    seen: set[str] = set()
    for hop, following in itertools.pairwise(leg.hops):
        seen.add(hop.device)
        taken = _taken(hop)
        if following.device in seen and taken is not None and leg.cause != "loop":  # which tells every route of its circle
            origin, prefix = taken.values
            return Because("root.turned-back", (hop.device, following.device, origin, prefix), taken.mark)
    return None


def _parted(leg: Leg, there: Leg) -> Because | None:
    """Where an answer left the way on which the opening packet came, towards a firewall that has not seen that one."""
    passed = {hop.device for hop in there.hops}
    if leg.end in passed:
        return None
    for hop, following in itertools.pairwise(leg.hops):
        taken = _taken(hop)
        if following.device not in passed and hop.device in passed and taken is not None:
            return Because("root.parted", (hop.device, following.device, *taken.values), taken.mark)
    return None


def _off_link(plan: Plan, leg: Leg, goal: Address) -> Because | None:
    """That a host sent a packet to its gateway although its goal is beside it, which sees it there: the two masks do not agree."""
    sender, owners = plan.network.devices[leg.hops[0].device], plan.owners(goal)
    taken = next((r.hop for r in leg.hops[0].rulings if r.hop is not None), None)
    if taken is None or taken.address in (None, goal) or sender.settings.forwarding or len(owners) != 1:
        return None
    domain, port = plan.domains.of(sender.name, taken.interface), sender.interfaces[taken.interface]
    source = leg.packet.source
    held = next((a for a in port.addresses if a.address == source), None)
    if domain is None or held is None or goal not in domain.owners:
        return None
    beside = (a for d, i in domain.members if d == owners[0] for a in plan.network.devices[d].interfaces[i].addresses)
    # Two subnets may well share a segment; then neither end sees the other there.
    if not any(a.address == goal and a.prefix.holds(source) for a in beside):
        return None
    return Because("root.off-link", (sender.name, held, owners[0], goal, domain.name), port.mark)
