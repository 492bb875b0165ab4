"""OSPF in its settled state: OSPFv2 (RFC 2328) for IPv4 and OSPFv3 (RFC 5340) for IPv6, computed and not exchanged.

Done: several areas with summaries by border routers (RFC 2328 sections 12.4.3 and 16.2), stub and totally stub
areas, broadcast and point-to-point networks, passive interfaces, loopbacks as host routes (section 12.4.1),
external routes of type 1 and 2 (section 16.4), default origination, equal-cost paths. Not done: virtual links,
NSSA (RFC 3101), authentication, unnumbered links; the forwarding address of an external route is always 0.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

from mossy_compass.model.network import Interface, Network
from mossy_compass.packet.address import BITS, Address, Prefix
from mossy_compass.routing.domains import Domain, Domains, Port
from mossy_compass.routing.spf import Graph, Link, least
from mossy_compass.routing.table import Bulk, Hop, PrefixIndex, Route, RouteTable
from mossy_compass.routing.told import External

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

Goal = Prefix | str
"""What a router computes a way to: a prefix, or by its name a router that announces external routes."""
Way = tuple[int, tuple[Hop, ...], str]
"""How a router gets to a goal: cost, first hops, origin. A bare tuple, since there are millions."""
Nearest = tuple["NDArray[np.float64]", list[tuple[Hop, ...]], "NDArray[np.intp]", "NDArray[np.intp]", "NDArray[np.intp]"]
Lead = tuple[Goal, int, tuple[Hop, ...]]
"""A goal with the cost and the first hops of one way to it."""
INTRA, INTER = "ospf", "ospf inter-area"


class Silence(NamedTuple):
    """Two interfaces on one segment that speak OSPF and do not become neighbours, and why."""

    one: Port
    other: Port
    why: str


@dataclass(slots=True)
class Area:
    """One area: its routers, its graph, and what is attached to it."""

    number: int
    stub: str
    routers: list[str]
    index: dict[str, int]
    graph: Graph
    goals: list[Goal]
    goal_of: NDArray[np.intp]
    node_of: NDArray[np.intp]
    cost_of: NDArray[np.float64]
    prefixes: PrefixIndex
    border: list[str] = field(default_factory=list)
    summary_goals: list[Goal] = field(default_factory=list)
    summary: NDArray[np.float64] | None = None

    def intra_costs(self, router: str) -> NDArray[np.float64]:
        """The least cost from a router to each of ``goals`` within the area."""
        import numpy as np

        best = np.full(len(self.goals), np.inf)
        np.minimum.at(best, self.goal_of, self.graph.dist[self.index[router], self.node_of] + self.cost_of)
        return best


def address_of(interface: Interface, family: int) -> Address | None:
    """The address that neighbours send to: for IPv6 the link-local one where there is one (RFC 5340 section 2.5)."""
    found = [a.address for a in interface.addresses if a.address.family == family]
    return next((a for a in found if family == 6 and a.is_link_local), found[0] if found else None)


def usable(network: Network, domains: Domains, port: Port, family: int) -> bool:
    """True when an interface speaks OSPF of that family and is up."""
    interface = network.devices[port[0]].interfaces[port[1]]
    return interface.ospf is not None and address_of(interface, family) is not None and domains.link(*port).up


PASSIVE = "passive"
"""What ``hinders`` says of an interface that is meant to seek no neighbour: no fault, and no finding."""


def hinders(network: Network, one: Port, other: Port, family: int) -> str:
    """Why two interfaces on a segment do not become neighbours (RFC 2328 sections 10.5 and 10.6); empty when they do."""
    a, b = (network.devices[d].interfaces[i] for d, i in (one, other))
    assert a.ospf is not None
    assert b.ospf is not None
    if a.ospf.area != b.ospf.area:
        return f"areas {a.ospf.area} and {b.ospf.area} differ"
    if a.ospf.passive or b.ospf.passive:
        return PASSIVE
    if a.ospf.point_to_point != b.ospf.point_to_point:
        return "one end is point-to-point and the other broadcast"
    kinds = [_stub(network, p[0], a.ospf.area) for p in (one, other)]
    if ("stub" in kinds[0]) != ("stub" in kinds[1]):
        return f"area {a.ospf.area} is {kinds[0]} at {one[0]} and {kinds[1]} at {other[0]}"
    if a.mtu != b.mtu:
        return f"MTU {a.mtu} and {b.mtu} differ"
    if family == 4 and not a.ospf.point_to_point:
        masks = [{x.prefix for x in i.addresses if x.address.family == 4} for i in (a, b)]
        if not masks[0] & masks[1]:
            return "their subnets or masks differ"
    return ""


def _stub(network: Network, device: str, area: int) -> str:
    process = network.devices[device].ospf
    return process.areas.get(area, "normal") if process else "normal"


class Ospf:
    """All areas of one address family.

    Attributes:
        areas: by number.
        neighbours: for each interface, the interfaces that it is a neighbour of.
        silent: pairs on one segment that are not neighbours though both speak.

    """

    def __init__(self, network: Network, domains: Domains, family: int, externals: Iterable[External] = ()) -> None:
        self.network = network
        self.domains = domains
        self.family = family
        self.externals = tuple(sorted(externals))
        self.neighbours: dict[Port, list[Port]] = {}
        self.silent: list[Silence] = []
        self.areas: dict[int, Area] = {}
        self._member: dict[str, list[Area]] = {}
        speakers: dict[int, list[Port]] = {}
        for name in sorted(network.devices):
            for interface in network.devices[name].interfaces.values():
                if interface.ospf and usable(network, domains, (name, interface.name), family):
                    speakers.setdefault(interface.ospf.area, []).append((name, interface.name))
        self._foreign_areas(speakers)
        for number, ports in sorted(speakers.items()):
            area = self._area(number, ports)
            self.areas[number] = area
            for name in area.routers:
                self._member.setdefault(name, []).append(area)
        self._summaries()

    # building

    def _foreign_areas(self, speakers: Mapping[int, list[Port]]) -> None:
        """Pairs on one segment that speak OSPF in different areas, and so never become neighbours."""
        here: dict[str, list[Port]] = {}
        for port in (p for ports in speakers.values() for p in ports):
            domain = self.domains.of(*port)
            if domain is not None:
                here.setdefault(domain.name, []).append(port)
        for ports in here.values():
            for number, one in enumerate(ports):
                for other in ports[number + 1 :]:
                    why = hinders(self.network, one, other, self.family)
                    if one[0] != other[0] and why.startswith("areas"):
                        self.silent.append(Silence(one, other, why))

    def _area(self, number: int, ports: list[Port]) -> Area:
        import numpy as np

        routers = list(dict.fromkeys(d for d, _ in ports))
        index = {name: n for n, name in enumerate(routers)}
        edges: list[tuple[int, int, int]] = []
        links: list[list[Link]] = [[] for _ in routers]
        attached: list[tuple[Goal, int, int]] = []
        nodes = len(routers)
        transit: dict[tuple[str, Prefix | None], int] = {}
        by_domain: dict[str, tuple[Domain, list[Port]]] = {}
        for port in ports:
            domain = self.domains.of(*port)
            if domain is not None:
                by_domain.setdefault(domain.name, (domain, []))[1].append(port)
        met: set[Port] = set()
        for name, (_, here) in by_domain.items():
            for one in here:
                for other in here:
                    if one == other or one[0] == other[0]:
                        continue
                    why = hinders(self.network, one, other, self.family)
                    if why:
                        if one < other:
                            self.silent.append(Silence(one, other, why))
                        continue
                    a, b = self._interface(one), self._interface(other)
                    assert a.ospf is not None
                    self.neighbours.setdefault(one, []).append(other)
                    links[index[one[0]]].append(Link(a.ospf.cost, index[other[0]], Hop(one[1], address_of(b, self.family))))
                    if a.ospf.point_to_point:
                        edges.append((index[one[0]], index[other[0]], a.ospf.cost))
                        continue
                    met.add(one)
                    key = (name, next((x.prefix for x in a.addresses if x.address.family == self.family == 4), None))
                    if key not in transit:
                        transit[key] = nodes
                        nodes += 1
                    edges.append((index[one[0]], transit[key], a.ospf.cost))
                    edges.append((transit[key], index[one[0]], 0))
        for port in ports:
            interface = self._interface(port)
            assert interface.ospf is not None
            for entry in interface.addresses:
                if entry.address.family != self.family or (entry.address.family == 6 and entry.address.is_link_local):
                    continue
                if interface.loopback and not interface.ospf.point_to_point:
                    host = Prefix(self.family, entry.address.value, BITS[self.family])
                    attached.append((host, index[port[0]], 0))
                    continue
                domain = self.domains.of(*port)
                net = transit.get((domain.name, entry.prefix if self.family == 4 else None)) if domain and port in met else None
                if net is not None:
                    attached.append((entry.prefix, net, 0))
                else:
                    attached.append((entry.prefix, index[port[0]], interface.ospf.cost))
        stub = next((k for k in (_stub(self.network, r, number) for r in routers) if k != "normal"), "normal")
        if stub == "normal":
            attached += [(e.router, index[e.router], 0) for e in self.externals if e.router in index]
        attached = list(dict.fromkeys(attached))
        goals = list(dict.fromkeys(g for g, _, _ in attached))
        number_of = {g: n for n, g in enumerate(goals)}
        return Area(
            number,
            stub,
            routers,
            index,
            Graph(len(routers), nodes, least(edges), links),
            goals,
            np.array([number_of[g] for g, _, _ in attached], dtype=np.intp),
            np.array([n for _, n, _ in attached], dtype=np.intp),
            np.array([c for _, _, c in attached], dtype=np.float64),
            _by_prefix(goals),
        )

    def _interface(self, port: Port) -> Interface:
        return self.network.devices[port[0]].interfaces[port[1]]

    # between areas

    def _summaries(self) -> None:
        """What border routers tell: into the backbone what their other areas hold, into those all the rest."""
        backbone = self.areas.get(0)
        if backbone is None or len(self.areas) < 2:
            return
        border = [r for r in backbone.routers if len(self._member[r]) > 1]
        known: dict[str, dict[Goal, float]] = {}
        inner: dict[str, dict[Goal, float]] = {}
        for router in border:
            inner[router] = self._intra(router, [a for a in self._member[router] if a is not backbone])
        _set_summary(backbone, border, inner)
        for router in border:
            ways = self._intra(router, self._member[router])
            if backbone.summary is not None:
                rows = [n for n, b in enumerate(backbone.border) if b != router]
                far = backbone.graph.dist[backbone.index[router], [backbone.index[backbone.border[n]] for n in rows]]
                if rows:
                    best = (backbone.summary[rows] + far[:, None]).min(axis=0)
                    for goal, cost in zip(backbone.summary_goals, best, strict=True):
                        if goal not in ways and cost < float("inf"):
                            ways[goal] = float(cost)
            known[router] = ways
        for area in self.areas.values():
            if area is backbone:
                continue
            inside = set(area.goals)
            told: dict[str, dict[Goal, float]] = {}
            for router in border:
                if router not in area.index:
                    continue
                rest = {g: c for g, c in known[router].items() if g not in inside}
                if area.stub != "normal":
                    rest = {g: c for g, c in rest.items() if not isinstance(g, str)} if area.stub == "stub" else {}
                    rest[Prefix(self.family, 0, 0)] = 1.0  # RFC 2328 section 12.4.3.1; StubDefaultCost of appendix C.2
                told[router] = rest
            _set_summary(area, list(told), told)

    def _intra(self, router: str, areas: Iterable[Area]) -> dict[Goal, float]:
        out: dict[Goal, float] = {}
        for area in areas:
            for goal, cost in zip(area.goals, area.intra_costs(router), strict=True):
                if cost < out.get(goal, float("inf")):
                    out[goal] = float(cost)
        return out

    # one router's view

    def ways(self, router: str) -> dict[Goal, Way]:
        """The best way to every goal within and between areas; what the router itself holds has no hops."""
        out: dict[Goal, Way] = {}
        areas = self._member.get(router, [])
        for area in areas:
            alone, several = self._within(area, router)
            if out or len(areas) > 1:
                several = [*alone, *several]
            else:
                out = {goal: (cost, hops, INTRA) for goal, cost, hops in alone}
            for goal, cost, hops in several:
                _offer(out, goal, cost, hops, INTRA)
        fresh: dict[Goal, Way] = {}
        for area in [a for a in areas if a.number == 0] or areas:
            for goal, cost, hops in self._told(area, router):
                if goal not in out:
                    _offer(fresh, goal, cost, hops, INTER)
        out |= fresh
        return out

    def _within(self, area: Area, router: str) -> tuple[list[Lead], list[Lead]]:
        """Ways inside an area: to goals that are nearest at one place, and to those that are so at several."""
        total, groups, group_of, single, many = self._nearest(area, router)
        goals = area.goals

        def leads(rows: NDArray[np.intp]) -> list[Lead]:
            columns = (area.goal_of[rows].tolist(), total[rows].tolist(), group_of[area.node_of[rows]].tolist())
            return [(goals[n], int(cost), groups[k]) for n, cost, k in zip(*columns, strict=True)]

        return leads(single), leads(many)

    def _nearest(self, area: Area, router: str) -> Nearest:
        """For each place that a goal is attached at: the cost, and whether it is the nearest, alone or with others."""
        import numpy as np

        here = area.index[router]
        groups, group_of = area.graph.first_hops(here)
        total = area.graph.dist[here, area.node_of] + area.cost_of
        best = np.full(len(area.goals), np.inf)
        np.minimum.at(best, area.goal_of, total)
        picked = np.flatnonzero((total == best[area.goal_of]) & np.isfinite(total))
        numbers = area.goal_of[picked]
        once = np.bincount(numbers, minlength=len(area.goals))[numbers] == 1
        return total, groups, group_of, picked[once], picked[~once]

    def _bulk(self, area: Area, router: str, preference: int) -> tuple[Bulk, list[Lead]]:
        """The routes within a router's only area as arrays, and apart those to goals that are nearest at several places."""
        import numpy as np

        total, groups, group_of, single, many = self._nearest(area, router)
        metrics = np.full(len(area.goals), -1, dtype=np.int64)
        which = np.zeros(len(area.goals), dtype=np.intp)
        metrics[area.goal_of[single]] = total[single]
        which[area.goal_of[single]] = group_of[area.node_of[single]]
        empty = np.array([not g for g in groups])
        metrics[empty[which]] = -1  # what the router itself holds has no hops
        leads = [
            (area.goals[n], int(cost), groups[k])
            for n, cost, k in zip(
                area.goal_of[many].tolist(), total[many].tolist(), group_of[area.node_of[many]].tolist(), strict=True
            )
        ]
        return Bulk(area.prefixes, metrics, which, groups, INTRA, preference), leads

    def _told(self, area: Area, router: str) -> Iterator[Lead]:
        """Ways to what the area's border routers tell of other areas (RFC 2328 section 16.2)."""
        import numpy as np

        if area.summary is None:
            return
        here = area.index[router]
        groups, group_of = area.graph.first_hops(here)
        rows = [n for n, b in enumerate(area.border) if b != router]
        if not rows:
            return
        nodes = np.array([area.index[area.border[n]] for n in rows])
        totals = area.summary[rows] + area.graph.dist[here, nodes][:, None]
        best = totals.min(axis=0)
        for row, column in zip(*np.nonzero((totals == best) & np.isfinite(best)), strict=True):
            yield area.summary_goals[column], int(best[column]), groups[group_of[nodes[row]]]

    def teach(self, router: str, table: RouteTable) -> None:
        """Offer a router's table what the router learns, one best route for each prefix.

        In one area alone, without summaries or external routes, nearly all of it is offered as arrays.
        """
        process = self.network.devices[router].ospf
        preference = process.preference if process else 110
        areas = self._member.get(router, [])
        ways: dict[Goal, Way] = {}
        if len(areas) == 1 and areas[0].summary is None and not self.externals:
            bulk, leads = self._bulk(areas[0], router, preference)
            table.learn(bulk)
            for goal, cost, hops in leads:
                _offer(ways, goal, cost, hops, INTRA)
        else:
            ways = self.ways(router)
        for goal, (cost, hops, origin) in ways.items():
            if hops and not isinstance(goal, str):
                table.add(Route(goal, origin, preference, cost, hops))
        if self.externals and any(a.stub == "normal" for a in areas):
            for route in self._external(router, ways, preference):
                table.add(route)

    def _external(self, router: str, ways: Mapping[Goal, Way], preference: int) -> list[Route]:
        best: dict[Prefix, tuple[tuple[int, int, int], tuple[Hop, ...]]] = {}
        for entry in self.externals:
            way = ways.get(entry.router)
            if entry.router == router or entry.prefix in ways or way is None or not way[1]:
                continue
            cost, hops, _ = way
            rank = (1, cost + entry.metric, 0) if entry.type == 1 else (2, entry.metric, cost)
            held = best.get(entry.prefix)
            if held is None or rank < held[0]:
                best[entry.prefix] = (rank, hops)
            elif rank == held[0]:
                best[entry.prefix] = (rank, tuple(dict.fromkeys((*held[1], *hops))))
        return [Route(prefix, f"ospf external {rank[0]}", preference, rank[1], hops) for prefix, (rank, hops) in best.items()]


def _by_prefix(goals: Iterable[Goal]) -> PrefixIndex:
    out: dict[tuple[int, int], dict[int, int]] = {}
    for number, goal in enumerate(goals):
        if not isinstance(goal, str):
            out.setdefault((goal.family, goal.length), {})[goal.value >> (BITS[goal.family] - goal.length)] = number
    return out


def _offer(out: dict[Goal, Way], goal: Goal, cost: int, hops: tuple[Hop, ...], origin: str) -> None:
    held = out.get(goal)
    if held is None or cost < held[0]:
        out[goal] = (cost, hops, origin)
    elif cost == held[0] and held[1] != hops:
        # What the router itself holds has no hops, and stays so.
        out[goal] = (cost, tuple(dict.fromkeys((*held[1], *hops))) if held[1] and hops else (), origin)


def _set_summary(area: Area, border: list[str], told: Mapping[str, Mapping[Goal, float]]) -> None:
    import numpy as np

    goals = list(dict.fromkeys(g for b in border for g in told[b]))
    area.border, area.summary_goals = border, goals
    if border and goals:
        area.summary = np.array([[told[b].get(g, np.inf) for g in goals] for b in border])
