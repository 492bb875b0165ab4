"""Where a change sends destinations another way, device by device: told for every route, whether a test takes it or not."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from mossy_compass.errors import NotConverged
from mossy_compass.packet.address import Address, Prefix, prefix_of
from mossy_compass.plan.plan import Plan
from mossy_compass.routing.table import Route, RouteTable

MAIN = "main"
"""The table that forwarding asks."""
MOST_ROUTES = 1_000_000
"""So many rows of tables are gone through where two are not the same; of more, routes are not compared, and that is told."""


class WayEffect(NamedTuple):
    """A destination that a device sends another way than before.

    Attributes:
        device: which.
        prefix: the destination.
        before, after: the route that serves it; None where none does. It may be one to a wider prefix.
        table: the name of the route table.

    """

    device: str
    prefix: Prefix
    before: Route | None
    after: Route | None
    table: str = MAIN


class Ways(NamedTuple):
    """What a change does to routes.

    Attributes:
        found: the destinations that are sent another way, by device.
        unknown: why nothing can be said: ``unsettled`` where redistribution has no stable state, ``many`` where there are too
            many rows; empty where it can.

    """

    found: tuple[WayEffect, ...] = ()
    unknown: str = ""

    def __bool__(self) -> bool:
        return bool(self.found)


def ways(before: Plan, after: Plan) -> Ways:
    """Where devices that are in both versions send destinations another way; their own addresses are left out.

    Args:
        before, after: the network, as it was and as it would be.

    """
    try:
        tables = [(n, before.device(n).table_named(t), after.device(n).table_named(t), t) for n, t in _tables(before, after)]
    except NotConverged:
        return Ways((), "unsettled")
    tables = [entry for entry in tables if not entry[1].same_as(entry[2])]
    if sum(len(one) + len(other) for _, one, other, _ in tables) > MOST_ROUTES:
        return Ways((), "many")
    return Ways(tuple(effect for entry in tables for effect in _of_table(*entry)))


def _tables(before: Plan, after: Plan) -> Iterator[tuple[str, str]]:
    """Every route table of the devices that are in both versions: the main one, and those that policy routes may ask."""
    for name, device in after.network.devices.items():
        earlier = before.network.devices.get(name)
        if earlier is not None and device.layer3 and earlier.layer3:
            named = dict.fromkeys(table for plan in (before, after) for table in plan.routing.table_names(name))
            yield from ((name, table) for table in named)


def _of_table(name: str, before: RouteTable, after: RouteTable, table: str) -> Iterator[WayEffect]:
    """The destinations of one table of a device."""
    old, new = ({r.prefix: r for r in table if r.origin != "local"} for table in (before, after))
    for prefix in dict.fromkeys([*old, *new]):
        was, now = old.get(prefix), new.get(prefix)
        if was == now:
            continue
        # Without its own row a destination is served by the next wider one, and that may lead the same way.
        was, now = was or _wider(old, prefix), now or _wider(new, prefix)
        if _way(was) != _way(now):
            yield WayEffect(name, prefix, was, now, table)


def _wider(rows: dict[Prefix, Route], prefix: Prefix) -> Route | None:
    """The route to the narrowest prefix that holds another one whole."""
    address = Address(prefix.family, prefix.value)
    return next((rows[p] for length in range(prefix.length - 1, -1, -1) if (p := prefix_of(address, length)) in rows), None)


def _way(route: Route | None) -> object:
    """What packets feel of a route: the ways out of it, or that there is none."""
    return None if route is None else (frozenset(route.hops), route.action)
