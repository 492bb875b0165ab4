"""Ways that are out of use: where a packet took a lesser route because a better one waits, and where its goal is cut off.

What such a packet meets afterwards (a router of strangers without a route, a list that was never meant for it) is only what
follows: nothing done there would bring it home.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from mossy_compass.model.network import Kind
from mossy_compass.packet.address import BITS, Address, Prefix, prefix_of
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Fate
from mossy_compass.routing.table import Loser
from mossy_compass.walk.journey import Leg, Ruling

ASTRAY = (
    "route.none",
    "route.discard",
    "route.unreachable",
    "source.own",
    "source.check",
    "loop",
    "ttl.expired",
    "neighbour.silent",
)
"""Causes of loss that a packet meets where it should never have gone."""


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
                    yield Because("told.inactive", values, loser.route.mark)


def out_of_use(plan: Plan, leg: Leg) -> Because | None:
    """What lies behind the loss of a packet that was led astray, since the way to its goal is out of use; None where none is.

    A default route is no such way: another that stands in for it leads to the same places. What a lesser route leads into is
    told of a connected subnet whatever stopped the packet there, for there is no other way into that; of other routes only
    where it got lost, since they may well stand in for one another.

    Args:
        plan: the network.
        leg: the way of a packet that was lost.

    """
    goal = leg.arrived.destination
    if leg.fate in (Fate.DELIVERED, Fate.REFUSED) or goal in plan.device(leg.end).own:
        return None
    if leg.because.code == "route.inactive":  # which says so itself
        return None
    astray = leg.cause in ASTRAY
    for found in stood_in(plan, leg):
        if found.named["prefix"].is_default:
            continue
        if astray or found.named["origin"] == "connected":
            return Because("root.inactive", found.values, found.mark)
    return _cut_off(plan, goal) if astray else None


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


def _cut_off(plan: Plan, goal: Address) -> Because | None:
    """That no router is on the subnet of an address any more, though one would be if its interface were up."""
    subnets = plan.once("subnets of routers", lambda: _subnets(plan))
    found: Because | None = None
    for length in subnets:
        for name in subnets[length].get(prefix_of(goal, length), ()) if length <= BITS[goal.family] else ():
            table = plan.device(name).table
            route = table.lookup(goal)
            if route is not None and route.origin in ("connected", "local"):
                return None
            lost = next((e for e in table.inactive if e.route.origin == "connected" and e.route.prefix.holds(goal)), None)
            if lost is not None and found is None:
                found = Because("root.cut-off", (name, lost.route.prefix, lost.why), lost.route.mark)
    return found


def _subnets(plan: Plan) -> dict[int, dict[Prefix, list[str]]]:
    """The routers that have an interface on each subnet, by the length of its prefix; up or not."""
    found: dict[int, dict[Prefix, list[str]]] = defaultdict(lambda: defaultdict(list))
    for device in plan.network.devices.values():
        for interface in device.interfaces.values() if device.kind in (Kind.ROUTER, Kind.FIREWALL) else ():
            for entry in interface.addresses:
                found[entry.length][entry.prefix].append(device.name)
    return found
