"""Route tables: longest prefix first (RFC 1812 5.2.4.3), then preference, then metric, then equal sharing.

Rows are kept by family and prefix length, and looked up from the longest length that
occurs. What lost against a better route is kept with its reason; so is what is inactive. A
table of many routers may stay in arrays until a row is asked for.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple, TypeVar

from mossy_compass.marks import Mark
from mossy_compass.model.network import RouteAction
from mossy_compass.packet.address import BITS, FAMILIES, Address, Prefix, Span, Spans

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


class NextHop(NamedTuple):
    """One way out of a route.

    Attributes:
        interface: leaving interface.
        address: next router; None when the destination itself is on the segment.
        mark: where it was written, for a static route.
        via: for a recursive next hop, the address that was written.
        group: the group of uplinks whose members share flows here; empty for none.
        tunnel: the interface is a tunnel, which takes whatever is led there.

    """

    interface: str
    address: Address | None = None
    mark: Mark | None = None
    via: Address | None = None
    group: str = ""
    tunnel: bool = False

    def __eq__(self, other: object) -> bool:
        return isinstance(other, NextHop) and self[:2] == other[:2] and self[3] == other[3]

    def __hash__(self) -> int:
        return hash((self[0], self[1], self[3]))

    def words(self) -> str:
        """``by up to 10.40.0.1``, or ``by up, on the segment``."""
        if self.address is None:
            return f"by {self.interface}, a tunnel" if self.tunnel else f"by {self.interface}, on the segment"
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

    """

    prefix: Prefix
    origin: str
    preference: int
    metric: int
    hops: tuple[NextHop, ...]
    action: RouteAction = RouteAction.FORWARD
    mark: Mark | None = None

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Route) and self[:6] == other[:6]

    def __hash__(self) -> int:
        return hash(self[:6])

    def words(self) -> str:
        """Origin and prefix, as ``static route 10.40.0.0/13`` or ``default route (static)``."""
        if self.prefix.is_default:
            return f"default route ({self.origin})"
        return f"{self.origin} route {self.prefix}"


class Loser(NamedTuple):
    """A route that could have served, and why it does not.

    Attributes:
        inactive: it waits for something (a port, an address, a next hop); else another route is better.

    """

    route: Route
    why: str
    inactive: bool = False

    @property
    def words(self) -> str:
        """The reason, with ``inactive:`` before it where the route waits for something."""
        return f"inactive: {self.why}" if self.inactive else self.why


_Way = tuple[RouteAction, tuple[NextHop, ...], int]
"""What packets feel of a route: what becomes of them, and the ways out; apart for each family."""


class PrefixIndex(dict[tuple[int, int], dict[int, int]]):
    """Prefixes by family and length, then by their leading bits, to a number."""

    __slots__ = ("_order",)

    def order(self) -> Sequence[tuple[Prefix, int]]:
        """Every prefix with its number, by family, address and length; put in order once for all who share the index."""
        if not hasattr(self, "_order"):
            every = (
                (Prefix(family, bits << (BITS[family] - length), length), number)
                for (family, length), some in self.items()
                for bits, number in some.items()
            )
            self._order: Sequence[tuple[Prefix, int]] = sorted(every)
        return self._order


class Bulk:
    """Very many learned routes of one router, kept as arrays and made into rows when they are asked for.

    Attributes:
        index: the numbers of the prefixes, shared by all routers of an area.
        metrics: by number; below 0 where the router has no such route.
        groups: which set of hops leads there, by number.
        hops: the sets of hops.

    """

    __slots__ = ("groups", "hops", "index", "metrics", "origin", "preference")

    def __init__(
        self,
        index: PrefixIndex,
        metrics: NDArray[np.int64],
        groups: NDArray[np.intp],
        hops: Sequence[tuple[NextHop, ...]],
        origin: str,
        preference: int,
    ) -> None:
        self.index = index
        self.metrics = metrics
        self.groups = groups
        self.hops = hops
        self.origin = origin
        self.preference = preference

    def route(self, family: int, length: int, bits: int) -> Route | None:
        """The row for a prefix; None when there is none."""
        number = self.index.get((family, length), {}).get(bits)
        if number is None or self.metrics[number] < 0:
            return None
        prefix = Prefix(family, bits << (BITS[family] - length), length)
        return Route(prefix, self.origin, self.preference, int(self.metrics[number]), self.hops[self.groups[number]])

    def take(self, family: int, length: int, bits: int) -> Route | None:
        """The same, and forget it."""
        found = self.route(family, length, bits)
        if found is not None:
            self.metrics[self.index[family, length][bits]] = -1
        return found

    def same_as(self, other: Bulk) -> bool:
        """Whether others are the same routes, written into the arrays in the same order."""
        mine, its = (self.origin, self.preference, self.hops), (other.origin, other.preference, other.hops)
        if mine != its or len(self.metrics) != len(other.metrics):
            return False
        return bool((self.metrics == other.metrics).all() and (self.groups == other.groups).all()) and self.index == other.index

    def ways(self) -> set[NextHop]:
        """Every way out that some row uses."""
        used = set(self.groups[self.metrics >= 0].tolist())
        return {hop for number in used for hop in self.hops[number]}

    def __iter__(self) -> Iterator[Route]:
        for prefix, number in self.index.order():
            if self.metrics[number] >= 0:
                hops = self.hops[self.groups[number]]
                yield Route(prefix, self.origin, self.preference, int(self.metrics[number]), hops)

    def by_way(self) -> Iterator[tuple[Prefix, _Way]]:
        """Every prefix with how its packets are sent, as ``_way`` says of its row."""
        metrics, groups = self.metrics.tolist(), self.groups.tolist()
        ways: dict[tuple[int, int], _Way] = {}
        for prefix, number in self.index.order():
            if metrics[number] >= 0:
                kind = groups[number], prefix.family
                if kind not in ways:
                    ways[kind] = RouteAction.FORWARD, self.hops[kind[0]], prefix.family
                yield prefix, ways[kind]

    def __len__(self) -> int:
        return int((self.metrics >= 0).sum())


_NOTHING: Mapping[int, int] = {}

ORIGINS = ("local", "connected", "static", "lease", "ospf", "rip")
"""Which origin goes first where two have one preference; what is nearer to the device's own configuration does."""


def _group(route: Route) -> str:
    """The origin without its kind: OSPF's kinds are told apart by its own rules (RFC 2328 section 16.4), not here."""
    if route.origin == "gateway":  # a host's static default route under its own name
        return "static"
    return next((o for o in ORIGINS if route.origin.startswith(o)), route.origin)


def _rank(route: Route) -> tuple[int, int, int]:
    """Preference first; then the origin, since metrics of different protocols say nothing about one another."""
    group = _group(route)
    return route.preference, ORIGINS.index(group) if group in ORIGINS else len(ORIGINS), route.metric


_K = TypeVar("_K", bound=Hashable)


def _way(route: Route | None) -> _Way | None:
    """What two routes have in common that send packets the same ways."""
    return None if route is None else (route.action, route.hops, route.prefix.family)


def _run(out: list[Span], first: int, last: int) -> None:
    """One more run at the end of some, joined to the one before where they touch."""
    if first > last:
        return
    if out and out[-1].last + 1 == first:
        out[-1] = Span(out[-1].first, last)
    else:
        out.append(Span(first, last))


def _runs(every: Iterable[tuple[Prefix, _K]], none: _K) -> dict[_K, Spans]:
    """All addresses by something of the route that serves them.

    Args:
        every: the prefix of each route, with what is meant, in order.
        none: what is so where there is no route.

    """
    out: dict[_K, list[Span]] = {}
    rows: dict[int, list[tuple[int, int, list[Span]]]] = {4: [], 6: []}
    for prefix, what in every:
        first = prefix.value + FAMILIES[prefix.family].first
        rows[prefix.family].append((first, first + (1 << BITS[prefix.family] - prefix.length) - 1, out.setdefault(what, [])))
    for family, (first, last) in FAMILIES.items():
        # Around what is gone through: where it ends, and what it is.
        held = [(last, out.setdefault(none, []))]
        at = first
        for start, final, mine in rows[family]:
            while start > held[-1][0]:
                end, runs = held.pop()
                _run(runs, at, end)
                at = max(at, end + 1)
            _run(held[-1][1], at, start - 1)
            at = start
            held.append((final, mine))
        while held:
            end, runs = held.pop()
            _run(runs, at, end)
            at = max(at, end + 1)
    return {key: tuple(runs) for key, runs in out.items()}


class RouteTable:
    """The routes of one device.

    Routes are offered with ``add``; the table keeps for each prefix the best, joins equal ones, and remembers
    the others with the reason. ``lookup`` costs one or two dictionary accesses for each prefix length in use.
    """

    __slots__ = ("_alike", "_best", "_bulk", "_lengths", "_losers", "inactive")

    def __init__(self) -> None:
        self._best: dict[tuple[int, int], dict[int, Route]] = {}
        self._lengths: dict[int, list[tuple[int, dict[int, Route], Mapping[int, int]]]] = {4: [], 6: []}
        self._losers: dict[Prefix, list[Loser]] = {}
        self._bulk: dict[int, Bulk] = {}
        self._alike: dict[_Way | None, Spans] | None = None
        self.inactive: list[Loser] = []

    def learn(self, bulk: Bulk) -> None:
        """Offer very many routes of one family of addresses at once; a second lot of a family is taken row by row.

        What other routes are for the same prefix compete with them as with any.
        """
        self._alike = None
        for (family, length), rows in list(self._best.items()):
            for bits in list(rows):
                found = bulk.take(family, length, bits)
                if found is not None:
                    self._offer(found, rows, bits)
        for family in {kind for kind, _ in bulk.index}:
            if family in self._bulk:
                for route in bulk:
                    self.add(route)
                return
            self._bulk[family] = bulk
        for key in bulk.index:
            self._rows(*key)
        for family, shelves in self._lengths.items():
            self._lengths[family] = [(shift, rows, self._known(family, BITS[family] - shift)) for shift, rows, _ in shelves]

    def _known(self, family: int, length: int) -> Mapping[int, int]:
        """Whether there is any route of a family and length."""
        return self._bulk[family].index.get((family, length), _NOTHING) if family in self._bulk else _NOTHING

    def _rows(self, family: int, length: int) -> dict[int, Route]:
        """The routes of a family and length, by the bits of their prefix."""
        rows = self._best.get((family, length))
        if rows is None:
            rows = self._best[family, length] = {}
            self._lengths[family].append((BITS[family] - length, rows, self._known(family, length)))
            self._lengths[family].sort(key=lambda shelf: shelf[0])
        return rows

    def add(self, route: Route) -> None:
        """Offer a route."""
        family, value, length = route.prefix
        bits = value >> (BITS[family] - length)
        rows = self._rows(family, length)
        if family in self._bulk:
            learned = self._bulk[family].take(family, length, bits)
            if learned is not None:
                self._offer(learned, rows, bits)
        self._offer(route, rows, bits)

    def _offer(self, route: Route, rows: dict[int, Route], bits: int) -> None:
        """Put a route in its place; the better one by preference, then metric, stays, equal ones share."""
        self._alike = None
        held = rows.get(bits)
        if held is None:
            rows[bits] = route
            return
        rank, other = _rank(route), _rank(held)
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
        """Note a route that is not used, and which one is used instead."""
        if loser.preference == winner.preference and _group(loser) != _group(winner):
            why = f"at one preference, {_group(winner)} comes before {_group(loser)}: routes of different origin never share"
        elif loser.preference != winner.preference:
            why = f"preference {loser.preference} is higher than {winner.preference} of the {winner.origin} route"
        else:
            why = f"metric {loser.metric} is higher than {winner.metric}"
        self._losers.setdefault(loser.prefix, []).append(Loser(loser, why))

    def same_as(self, other: RouteTable) -> bool:
        """Whether another table has the same routes, and the same ones that lost for the same reasons."""
        ours, theirs = (self._best, self._losers, self.inactive), (other._best, other._losers, other.inactive)
        return (
            ours == theirs
            and self._bulk.keys() == other._bulk.keys()
            and all(bulk.same_as(other._bulk[family]) for family, bulk in self._bulk.items())
        )

    def lookup(self, address: Address) -> Route | None:
        """The route that serves an address; None when there is none."""
        family, value = address
        for shift, rows, known in self._lengths[family]:
            bits = value >> shift
            route = rows.get(bits)
            if route is None and bits in known:
                route = self._bulk[family].route(family, BITS[family] - shift, bits)
            if route is not None:
                return route
        return None

    def served(self, wanted: Callable[[Route | None], bool]) -> Spans:
        """The addresses whose route is one that is wanted, on one line for both families.

        Args:
            wanted: takes the route that serves an address, None where none does.

        """
        return _runs(((route.prefix, wanted(route)) for route in self), wanted(None)).get(True, ())

    def served_as(self, address: Address) -> Spans:
        """The addresses that are sent the same ways as one is, on one line for both families: those that no route serves, if none serves it.

        It is asked for again and again where very many packets are followed, so all of them are found at once, and kept.
        """
        return self._ways()[_way(self.lookup(address))]

    def by_way(self) -> Iterator[tuple[tuple[NextHop, ...], Spans]]:
        """The ways by which routes lead on, each with the addresses that are sent there."""
        for way, spans in self._ways().items():
            if way is not None and way[0] is RouteAction.FORWARD:
                yield way[1], spans

    def _ways(self) -> dict[_Way | None, Spans]:
        """All addresses by how they are sent."""
        if self._alike is None:
            every = [(route.prefix, _way(route)) for route in self.single()]
            for bulk in self._bulk.values():
                every += bulk.by_way()
            every.sort(key=lambda entry: entry[0])
            self._alike = _runs(every, None)
        return self._alike

    def losers(self, address: Address) -> list[Loser]:
        """Every other route that holds the address, nearest first, each with the reason why it lost."""
        winner = self.lookup(address)
        out: list[Loser] = []
        for shift, _, _ in self._lengths[address.family]:
            length = BITS[address.family] - shift
            route = self.exact(Prefix(address.family, address.value >> shift << shift, length))
            if route is None:
                continue
            if winner is not None and route.prefix != winner.prefix:
                out.append(Loser(route, f"prefix length {length} is shorter than {winner.prefix.length}"))
            out += self._losers.get(route.prefix, [])
        out += [entry for entry in self.inactive if entry.route.prefix.holds(address)]
        return out

    def exact(self, prefix: Prefix) -> Route | None:
        """The best route to exactly this prefix."""
        family, value, length = prefix
        bits = value >> (BITS[family] - length)
        route = self._best.get((family, length), {}).get(bits)
        if route is None and family in self._bulk:
            return self._bulk[family].route(family, length, bits)
        return route

    def __iter__(self) -> Iterator[Route]:
        """The best routes, by family, address and length."""
        found = [route for rows in self._best.values() for route in rows.values()]
        for bulk in self._bulk.values():
            found += list(bulk)
        return iter(sorted(found, key=lambda r: r.prefix))

    def single(self) -> Iterator[Route]:
        """The best routes but those that were learned in bulk; what was written is among these."""
        for rows in self._best.values():
            yield from rows.values()

    def onward(self, family: int) -> set[NextHop]:
        """Every way out by which routes of a family lead to other devices."""
        out: set[NextHop] = set()
        for (kind, _), rows in self._best.items():
            if kind == family:
                out |= {h for r in rows.values() if r.origin not in ("local", "connected") for h in r.hops}
        if family in self._bulk:
            out |= self._bulk[family].ways()
        return out

    def __len__(self) -> int:
        return sum(len(rows) for rows in self._best.values()) + sum(map(len, self._bulk.values()))

    def all_losers(self) -> list[Loser]:
        """Every active route that another one beats, by prefix."""
        return [entry for prefix in sorted(self._losers) for entry in self._losers[prefix]]
