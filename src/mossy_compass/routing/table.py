"""Route tables: longest prefix first (RFC 1812 5.2.4.3), then preference, then metric, then equal sharing."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from mossy_compass.marks import Mark
from mossy_compass.model.network import RouteAction
from mossy_compass.packet.address import BITS, Address, Prefix


class Hop(NamedTuple):
    """One way out of a route.

    Attributes:
        interface: leaving interface.
        address: next router; None when the destination itself is on the segment.
        mark: where it was written, for a static route.
        via: for a recursive next hop, the address that was written.

    """

    interface: str
    address: Address | None = None
    mark: Mark | None = None
    via: Address | None = None

    def words(self) -> str:
        """``by up to 10.40.0.1``, or ``by up, on the segment``."""
        if self.address is None:
            return f"by {self.interface}, on the segment"
        recursive = f" (towards {self.via})" if self.via else ""
        return f"by {self.interface} to {self.address}{recursive}"


class Route(NamedTuple):
    """A row of a route table.

    Attributes:
        prefix: destinations that it is for.
        origin: local, connected, static, gateway, lease, ospf, ospf inter-area, ospf external 1 or 2, rip.
        preference: lower wins among routes to the same prefix.
        metric: lower wins among routes of the same preference.
        hops: ways out; several are shared among.
        action: forward, discard or unreachable.
        mark: where it was written; None for a learned route.
        detail: for a learned route, from whom.

    """

    prefix: Prefix
    origin: str
    preference: int
    metric: int
    hops: tuple[Hop, ...]
    action: RouteAction = RouteAction.FORWARD
    mark: Mark | None = None
    detail: str = ""

    def words(self) -> str:
        """Origin and prefix, as ``static route 10.40.0.0/13`` or ``default route (static)``."""
        if self.prefix.is_default:
            return f"default route ({self.origin})"
        return f"{self.origin} route {self.prefix}"


class Loser(NamedTuple):
    """A route that could have served, and why it does not."""

    route: Route
    why: str


class RouteTable:
    """The routes of one device.

    Routes are offered with ``add``; the table keeps for each prefix the best, joins equal ones, and remembers
    the others with the reason. ``lookup`` costs one dictionary access for each prefix length in use.
    """

    __slots__ = ("_best", "_lengths", "_losers", "inactive")

    def __init__(self) -> None:
        self._best: dict[tuple[int, int], dict[int, Route]] = {}
        self._lengths: dict[int, list[tuple[int, dict[int, Route]]]] = {4: [], 6: []}
        self._losers: dict[Prefix, list[Loser]] = {}
        self.inactive: list[Loser] = []

    def learn(self, routes: Iterable[Route]) -> None:
        """Offer many routes, of which no two are for the same prefix."""
        for route in routes:
            self.add(route)

    def add(self, route: Route) -> None:
        """Offer a route."""
        family, value, length = route.prefix
        key = (family, length)
        rows = self._best.get(key)
        if rows is None:
            rows = self._best[key] = {}
            self._lengths[family].append((BITS[family] - length, rows))
            self._lengths[family].sort(key=lambda pair: pair[0])
        bits = value >> (BITS[family] - length)
        held = rows.get(bits)
        if held is None:
            rows[bits] = route
            return
        rank, other = (route.preference, route.metric), (held.preference, held.metric)
        if rank < other:
            rows[bits] = route
            self._lose(held, route)
        elif rank > other:
            self._lose(route, held)
        elif held.action is RouteAction.FORWARD and route.action is RouteAction.FORWARD:
            rows[bits] = held._replace(hops=tuple(dict.fromkeys((*held.hops, *route.hops))))
        else:
            self._losers.setdefault(route.prefix, []).append(Loser(route, "an equal route was written above it"))

    def _lose(self, loser: Route, winner: Route) -> None:
        if loser.preference != winner.preference:
            why = f"preference {loser.preference} is higher than {winner.preference} of the {winner.origin} route"
        else:
            why = f"metric {loser.metric} is higher than {winner.metric}"
        self._losers.setdefault(loser.prefix, []).append(Loser(loser, why))

    def lookup(self, address: Address) -> Route | None:
        """The route that serves an address; None when there is none."""
        value = address[1]
        for shift, rows in self._lengths[address[0]]:
            route = rows.get(value >> shift)
            if route is not None:
                return route
        return None

    def losers(self, address: Address) -> list[Loser]:
        """Every other route that holds the address, nearest first, each with the reason why it lost."""
        winner = self.lookup(address)
        out: list[Loser] = []
        for shift, rows in self._lengths[address.family]:
            route = rows.get(address.value >> shift)
            if route is None:
                continue
            if route is not winner and winner is not None:
                out.append(Loser(route, f"prefix length {route.prefix.length} is shorter than {winner.prefix.length}"))
            out += self._losers.get(route.prefix, [])
        out += [entry for entry in self.inactive if entry.route.prefix.holds(address)]
        return out

    def exact(self, prefix: Prefix) -> Route | None:
        """The best route to exactly this prefix."""
        rows = self._best.get((prefix.family, prefix.length), {})
        return rows.get(prefix.value >> (BITS[prefix.family] - prefix.length))

    def __iter__(self) -> Iterator[Route]:
        """The best routes, by family, address and length."""
        found = [route for rows in self._best.values() for route in rows.values()]
        return iter(sorted(found, key=lambda r: r.prefix))

    def __len__(self) -> int:
        return sum(len(rows) for rows in self._best.values())

    def all_losers(self) -> list[Loser]:
        """Every active route that another one beats, by prefix."""
        return [entry for prefix in sorted(self._losers) for entry in self._losers[prefix]]
