"""OSPF in its settled state: OSPFv2 (RFC 2328) for IPv4 and OSPFv3 (RFC 5340) for IPv6, computed and not exchanged.

Done: several areas with summaries by border routers (RFC 2328 sections 12.4.3 and 16.2), stub and totally stub
areas, broadcast and point-to-point networks, passive interfaces, loopbacks as host routes (section 12.4.1),
external routes of type 1 and 2 (section 16.4), default origination, equal-cost paths. Not done: virtual links,
NSSA (RFC 3101), authentication, unnumbered links; the forwarding address of an external route is always 0.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

from mossy_compass.model.network import Interface, Network
from mossy_compass.packet.address import BITS, Address, Prefix
from mossy_compass.routing.domains import Domains, Port
from mossy_compass.routing.redistribution import External
from mossy_compass.routing.spf import Edge, Graph, least
from mossy_compass.routing.table import Bulk, NextHop, PrefixIndex, Route, RouteTable

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

Goal = Prefix | str
"""What a router computes a way to: a prefix, or by its name a router that announces external routes."""
Way = tuple[int, tuple[NextHop, ...], str]
"""How a router gets to a goal: cost, first hops, origin. A bare tuple, since there are millions."""
Nearest = tuple["NDArray[np.float64]", list[tuple[NextHop, ...]], "NDArray[np.intp]", "NDArray[np.intp]", "NDArray[np.intp]"]
Lead = tuple[Goal, int, tuple[NextHop, ...]]
"""A goal with the cost and the first hops of one way to it."""
INTRA, INTER = "ospf", "ospf inter-area"


class Silence(NamedTuple):
    """Two interfaces on one segment that speak OSPF and do not become neighbours, and why.

    Attributes:
        one, other: the two interfaces.
        why: the value that differs, and what each side has.

    """

    one: Port
    other: Port
    why: str


@dataclass(slots=True)
class Area:
    """One area: its routers, its graph, and what is attached to it.

    Attributes:
        number: of the area; 0 is the backbone.
        stub: no external routes come in (RFC 2328 section 3.6).
        routers: names, by number.
        index: numbers, by name.
        graph: links with their costs, by number.
        goals: prefixes that are reached within it.
        border: routers that are in the backbone, too.
        summary: what those tell of other areas.

    """

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


@dataclass(slots=True)
class Draft:
    """An area's graph while it is put together.

    Attributes:
        index: numbers of the routers.
        links: for each router, its ways to neighbours.
        nodes: how many nodes there are: routers, then broadcast segments.
        edges: from node, to node, cost.
        transit: the node of each broadcast segment, by segment and IPv4 subnet.
        met: interfaces that have a neighbour on a broadcast segment.

    """

    index: dict[str, int]
    links: list[list[Edge]]
    nodes: int
    edges: list[tuple[int, int, int]] = field(default_factory=list)
    transit: dict[tuple[str, Prefix | None], int] = field(default_factory=dict)
    met: set[Port] = field(default_factory=set)

    def transit_node(self, key: tuple[str, Prefix | None]) -> int:
        """The node of a broadcast segment, made when it is first asked for."""
        if key not in self.transit:
            self.transit[key] = self.nodes
            self.nodes += 1
        return self.transit[key]


def address_of(interface: Interface, family: int) -> Address | None:
    """The address that neighbours send to: for IPv6 the link-local one where there is one (RFC 5340 section 2.5)."""
    found = [a.address for a in interface.addresses if a.address.family == family]
    return next((a for a in found if family == 6 and a.is_link_local), found[0] if found else None)


def usable(network: Network, domains: Domains, port: Port, family: int) -> bool:
    """True when an interface speaks OSPF of that family and is up.

    Args:
        network: the whole.
        domains: who hears whom.
        port: device and interface.
        family: 4 or 6; OSPFv2 or OSPFv3.

    """
    interface = network.devices[port[0]].interfaces[port[1]]
    return interface.ospf is not None and address_of(interface, family) is not None and domains.link(*port).up


PASSIVE = "passive"
"""What ``hinders`` says of an interface that is meant to seek no neighbour: no fault, and no finding."""


class Hindrance(NamedTuple):
    """Why two interfaces on a segment do not become neighbours.

    Attributes:
        words: the reason; empty where nothing hinders them.
        areas: True where it is that their areas differ, which concerns two areas and not one.

    """

    words: str = ""
    areas: bool = False


def hinders(network: Network, one: Port, other: Port, family: int) -> Hindrance:
    """Why two interfaces on a segment do not become neighbours (RFC 2328 sections 10.5 and 10.6).

    Args:
        network: the whole.
        one, other: the two interfaces.
        family: 4 or 6; subnets matter for IPv4 alone.

    """
    a, b = (network.devices[d].interfaces[i] for d, i in (one, other))
    assert a.ospf is not None
    assert b.ospf is not None
    if a.ospf.area != b.ospf.area:
        return Hindrance(f"areas {a.ospf.area} and {b.ospf.area} differ", areas=True)
    if a.ospf.passive or b.ospf.passive:
        return Hindrance(PASSIVE)
    if a.ospf.point_to_point != b.ospf.point_to_point:
        return Hindrance("one end is point-to-point and the other broadcast")
    kinds = [_stub(network, p[0], a.ospf.area) for p in (one, other)]
    if ("stub" in kinds[0]) != ("stub" in kinds[1]):
        return Hindrance(f"area {a.ospf.area} is {kinds[0]} at {one[0]} and {kinds[1]} at {other[0]}")
    if a.mtu != b.mtu:
        return Hindrance(f"MTU {a.mtu} and {b.mtu} differ")
    if family == 4 and not a.ospf.point_to_point and not _share_subnet(a, b):
        return Hindrance("their subnets or masks differ")
    return Hindrance()


def _share_subnet(a: Interface, b: Interface) -> bool:
    """True when two interfaces have an IPv4 subnet in common, length and all: a hello says its mask (RFC 2328 10.5)."""
    masks = [{x.prefix for x in i.addresses if x.address.family == 4} for i in (a, b)]
    return bool(masks[0] & masks[1])


def _stub(network: Network, device: str, area: int) -> str:
    """Whether a device's side of an area is a stub (RFC 2328 section 3.6)."""
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
        self._asked: dict[int, NDArray[np.bool_]] = {}
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
                    if one[0] != other[0] and why.areas:
                        self.silent.append(Silence(one, other, why.words))

    def _area(self, number: int, ports: list[Port]) -> Area:
        """One area: its graph, and where each prefix is attached to it."""
        import numpy as np

        routers = list(dict.fromkeys(d for d, _ in ports))
        index = {name: n for n, name in enumerate(routers)}
        draft = Draft(index, [[] for _ in routers], len(routers))
        for name, one, other in self._in_earshot(ports):
            self._pair(draft, name, one, other)
        attached = [a for port in ports for a in self._attached(draft, port)]
        # One router that calls the area a stub makes it one here; where its neighbours disagree they are no neighbours
        # (RFC 2328 section 10.5), and that is told by ``hinders``.
        stub = next((k for k in (_stub(self.network, r, number) for r in routers) if k != "normal"), "normal")
        if stub == "normal":
            # A router that brings prefixes from outside is a goal itself: the way to it is the way to what it brings.
            attached += [(e.router, index[e.router], 0) for e in self.externals if e.router in index]
        # A prefix may be attached by several interfaces at one node, with one cost: once is enough.
        attached = list(dict.fromkeys(attached))
        goals = list(dict.fromkeys(g for g, _, _ in attached))
        number_of = {g: n for n, g in enumerate(goals)}
        return Area(
            number,
            stub,
            routers,
            index,
            Graph(len(routers), draft.nodes, least(draft.edges), draft.links),
            goals,
            np.array([number_of[g] for g, _, _ in attached], dtype=np.intp),
            np.array([n for _, n, _ in attached], dtype=np.intp),
            np.array([c for _, _, c in attached], dtype=np.float64),
            _by_prefix(goals),
        )

    def _in_earshot(self, ports: Iterable[Port]) -> Iterator[tuple[str, Port, Port]]:
        """Every two interfaces of different routers on one segment, both ways round, with the segment."""
        by_domain: dict[str, list[Port]] = {}
        for port in ports:
            domain = self.domains.of(*port)
            if domain is not None:
                by_domain.setdefault(domain.name, []).append(port)
        for name, here in by_domain.items():
            yield from ((name, one, other) for one, other in itertools.permutations(here, 2) if one[0] != other[0])

    def _pair(self, draft: Draft, segment: str, one: Port, other: Port) -> None:
        """Two interfaces that hear one another: neighbours with edges in the graph, or silent with a reason."""
        why = hinders(self.network, one, other, self.family)
        if why.words:
            if one < other:
                self.silent.append(Silence(one, other, why.words))
            return
        a, b = self._interface(one), self._interface(other)
        assert a.ospf is not None
        here, there = draft.index[one[0]], draft.index[other[0]]
        self.neighbours.setdefault(one, []).append(other)
        draft.links[here].append(Edge(a.ospf.cost, there, NextHop(one[1], address_of(b, self.family))))
        if a.ospf.point_to_point:
            draft.edges.append((here, there, a.ospf.cost))
            return
        # a broadcast segment is a node of its own; leaving it costs nothing (RFC 2328 section 2.1)
        draft.met.add(one)
        net = draft.transit_node((segment, next((x.prefix for x in a.addresses if x.address.family == self.family == 4), None)))
        draft.edges.append((here, net, a.ospf.cost))
        draft.edges.append((net, here, 0))

    def _attached(self, draft: Draft, port: Port) -> Iterator[tuple[Goal, int, int]]:
        """The prefixes of an interface: each with the node that it is attached to and the cost from there."""
        interface, here = self._interface(port), draft.index[port[0]]
        assert interface.ospf is not None
        domain = self.domains.of(*port)
        for entry in interface.addresses:
            if entry.address.family != self.family or (entry.address.family == 6 and entry.address.is_link_local):
                continue
            if interface.loopback and not interface.ospf.point_to_point:  # RFC 2328 section 12.4.1.1: as a host
                yield Prefix(self.family, entry.address.value, BITS[self.family]), here, 0
                continue
            net = (
                draft.transit.get((domain.name, entry.prefix if self.family == 4 else None))
                if domain and port in draft.met
                else None
            )
            yield (entry.prefix, here, interface.ospf.cost) if net is None else (entry.prefix, net, 0)

    def _interface(self, port: Port) -> Interface:
        """The interface of a port, by its names."""
        return self.network.devices[port[0]].interfaces[port[1]]

    # between areas

    def _summaries(self) -> None:
        """What border routers tell: into the backbone what their other areas hold, into those all the rest."""
        backbone = self.areas.get(0)
        if backbone is None or len(self.areas) < 2:
            return
        border = [r for r in backbone.routers if len(self._member[r]) > 1]
        inner = {r: self._intra(r, [a for a in self._member[r] if a is not backbone]) for r in border}
        _set_summary(backbone, border, inner)
        known = {router: self._known_to(router, backbone) for router in border}
        for area in self.areas.values():
            if area is not backbone:
                told = {r: self._told_into(area, known[r]) for r in border if r in area.index}
                _set_summary(area, list(told), told)

    def _known_to(self, router: str, backbone: Area) -> dict[Goal, float]:
        """What a border router knows: its own areas, and over the backbone what the other border routers tell."""
        ways = self._intra(router, self._member[router])
        rows = [n for n, b in enumerate(backbone.border) if b != router]
        if backbone.summary is None or not rows:
            return ways
        far = backbone.graph.dist[backbone.index[router], [backbone.index[backbone.border[n]] for n in rows]]
        best = (backbone.summary[rows] + far[:, None]).min(axis=0)
        for goal, cost in zip(backbone.summary_goals, best, strict=True):
            if goal not in ways and cost < float("inf"):
                ways[goal] = float(cost)
        return ways

    def _told_into(self, area: Area, known: Mapping[Goal, float]) -> dict[Goal, float]:
        """What a border router tells into an area that is not the backbone; a stub gets a default route besides or instead."""
        inside = set(area.goals)
        rest = {g: c for g, c in known.items() if g not in inside}
        if area.stub == "normal":
            return rest
        rest = {g: c for g, c in rest.items() if not isinstance(g, str)} if area.stub == "stub" else {}
        rest[Prefix(self.family, 0, 0)] = 1.0  # RFC 2328 section 12.4.3.1; StubDefaultCost of appendix C.2
        return rest

    def _intra(self, router: str, areas: Iterable[Area]) -> dict[Goal, float]:
        """Routes within areas, from the distances of their graphs."""
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
        found = self._nearest(area, router)
        *_, single, many = found
        return _leads(area, found, single), _leads(area, found, many)

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

    def _bulk(self, area: Area, router: str, preference: int) -> tuple[Bulk, list[Lead], list[Lead]]:
        """The routes within a router's only area as arrays; apart those to goals that are nearest at several places.

        Of those in the arrays the ones that external routes hang on are told too.
        """
        import numpy as np

        found = self._nearest(area, router)
        total, groups, group_of, single, many = found
        metrics = np.full(len(area.goals), -1, dtype=np.int64)
        which = np.zeros(len(area.goals), dtype=np.intp)
        metrics[area.goal_of[single]] = total[single]
        which[area.goal_of[single]] = group_of[area.node_of[single]]
        empty = np.array([not g for g in groups])
        metrics[empty[which]] = -1  # what the router itself holds has no hops
        named = single[self._named(area)[area.goal_of[single]]] if self.externals else single[:0]
        bulk = Bulk(area.prefixes, metrics, which, groups, INTRA, preference)
        return bulk, _leads(area, found, many), _leads(area, found, named)

    def _named(self, area: Area) -> NDArray[np.bool_]:
        """For each goal of an area whether an external route is told by it, or is for the same prefix."""
        import numpy as np

        if area.number not in self._asked:
            asked = {goal for e in self.externals for goal in (e.router, e.prefix)}
            self._asked[area.number] = np.array([goal in asked for goal in area.goals], dtype=np.bool_)
        return self._asked[area.number]

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

        In one area alone, without summaries, nearly all of it is offered as arrays.
        """
        process = self.network.devices[router].ospf
        preference = process.preference if process else 110
        areas = self._member.get(router, [])
        ways: dict[Goal, Way] = {}
        held: dict[Goal, Way] = {}
        if len(areas) == 1 and areas[0].summary is None:
            bulk, leads, named = self._bulk(areas[0], router, preference)
            table.learn(bulk)
            for goal, cost, hops in leads:
                _offer(ways, goal, cost, hops, INTRA)
            held = {goal: (cost, hops, INTRA) for goal, cost, hops in named}
        else:
            ways = self.ways(router)
        learned = [Route(g, way[2], preference, way[0], way[1]) for g, way in ways.items() if way[1] and not isinstance(g, str)]
        if self.externals and any(a.stub == "normal" for a in areas):
            learned += self._external(router, held | ways, preference)
        for route in learned:
            table.add(route)

    def _external(self, router: str, ways: Mapping[Goal, Way], preference: int) -> list[Route]:
        """External routes: by type, then metric, then the way to who told them (RFC 2328 section 16.4)."""
        best: dict[Prefix, tuple[tuple[int, int, int], tuple[NextHop, ...]]] = {}
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
    """Goals by their prefix."""
    out = PrefixIndex()
    for number, goal in enumerate(goals):
        if not isinstance(goal, str):
            out.setdefault((goal.family, goal.length), {})[goal.value >> (BITS[goal.family] - goal.length)] = number
    return out


def _offer(out: dict[Goal, Way], goal: Goal, cost: int, hops: tuple[NextHop, ...], origin: str) -> None:
    """Keep a way when it is cheaper than the one there is; join the first hops when it costs the same."""
    held = out.get(goal)
    if held is None or cost < held[0]:
        out[goal] = (cost, hops, origin)
    elif cost == held[0] and held[1] != hops:
        # What the router itself holds has no hops, and stays so.
        out[goal] = (cost, tuple(dict.fromkeys((*held[1], *hops))) if held[1] and hops else (), origin)


def _set_summary(area: Area, border: list[str], told: Mapping[str, Mapping[Goal, float]]) -> None:
    """What border routers say into an area of the others (RFC 2328 section 12.4.3)."""
    import numpy as np

    goals = list(dict.fromkeys(g for b in border for g in told[b]))
    area.border, area.summary_goals = border, goals
    if border and goals:
        area.summary = np.array([[told[b].get(g, np.inf) for g in goals] for b in border])


def _leads(area: Area, found: Nearest, rows: NDArray[np.intp]) -> list[Lead]:
    """The first hops on a shortest way to some places: a neighbour is one when the link's cost and its distance add up."""
    total, groups, group_of, _, _ = found
    columns = (area.goal_of[rows].tolist(), total[rows].tolist(), group_of[area.node_of[rows]].tolist())
    return [(area.goals[n], int(cost), groups[k]) for n, cost, k in zip(*columns, strict=True)]
