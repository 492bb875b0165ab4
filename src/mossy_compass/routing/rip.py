"""RIP version 2 in its settled state (RFC 2453): hop counts, 16 is unreachable, one route for each prefix.

Distances are shortest paths over the links whose ends hear each other, a hop each. The protocol's
own rounds, timers and split horizon change how fast routers agree, and not what they agree on
(RFC 2453 section 3.4.3), so they are not played through.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator

from mossy_compass.model.network import Network
from mossy_compass.packet.address import Prefix
from mossy_compass.routing.domains import Domains, Port
from mossy_compass.routing.redistribution import Announced
from mossy_compass.routing.spf import Edge, Graph, least
from mossy_compass.routing.table import NextHop, Route

INFINITY = 16
"""RFC 2453 section 3.6: a metric of 16 means that there is no way."""


class Rip:
    """All RIP routers of a network.

    Attributes:
        neighbours: for each interface, the interfaces that it hears.

    """

    def __init__(self, network: Network, domains: Domains, announced: Iterable[Announced] = ()) -> None:
        self.network = network
        self.neighbours: dict[Port, list[Port]] = {}
        ports = list(_speakers(network, domains))
        # a router that only redistributes, with no interface that speaks, tells nobody anything
        self.routers = list(dict.fromkeys(d for d, _ in ports))
        self._index = {name: n for n, name in enumerate(self.routers)}
        self._own: dict[Prefix, dict[str, int]] = {}
        self._links: list[list[Edge]] = [[] for _ in self.routers]
        self._hold(ports, announced)
        for here in _active(network, domains, ports):
            for one, other in itertools.permutations(here, 2):
                self._pair(one, other)
        edges = least((n, link.neighbour, 1) for n, some in enumerate(self._links) for link in some)
        self._graph = Graph(len(self.routers), len(self.routers), edges, self._links) if self.routers else None

    def _pair(self, one: Port, other: Port) -> None:
        """Two interfaces on a segment hear one another where they have a subnet in common."""
        if one[0] == other[0]:
            return
        a, b = (self.network.devices[d].interfaces[i] for d, i in (one, other))
        mine = {y.prefix for y in a.addresses}
        address = next((x.address for x in b.addresses if x.address.family == 4 and x.prefix in mine), None)
        if address is not None:
            self.neighbours.setdefault(one, []).append(other)
            self._links[self._index[one[0]]].append(Edge(1, self._index[other[0]], NextHop(one[1], address)))

    def _hold(self, ports: Iterable[Port], announced: Iterable[Announced]) -> None:
        """The prefixes that each router has by itself, and those that it is told of by another protocol."""
        for name, port in ports:
            for entry in self.network.devices[name].interfaces[port].addresses:
                if entry.address.family == 4:
                    self._own.setdefault(entry.prefix, {})[name] = 1
        for told in announced:
            if told.router in self._index:
                held = self._own.setdefault(told.prefix, {})
                held[told.router] = min(told.metric, held.get(told.router, INFINITY))

    def routes(self, router: str) -> list[Route]:
        """What a router learns; of equal ways the one by the lowest neighbour's address, as RFC 2453 keeps but one."""
        if router not in self._index or self._graph is None:
            return []
        here = self._index[router]
        process = self.network.devices[router].rip
        preference = process.preference if process else 120
        groups, group_of = self._graph.first_hops(here)
        out = []
        for prefix, holders in self._own.items():
            if router in holders:
                continue
            found = [(self._graph.dist[here, self._index[name]] + metric, name) for name, metric in holders.items()]
            best = min(metric for metric, _ in found)
            if best >= INFINITY:
                continue
            hops = [h for metric, name in found if metric == best for h in groups[group_of[self._index[name]]]]
            hop = min(hops, key=lambda h: (h.address.value if h.address else 0, h.interface))
            out.append(Route(prefix, "rip", preference, int(best), (hop,)))
        return out


def _speakers(network: Network, domains: Domains) -> Iterator[Port]:
    """The interfaces that speak RIP and are up, by device; version 2 is for IPv4 alone (RFC 2453)."""
    for name in sorted(network.devices):
        for interface in network.devices[name].interfaces.values():
            four = any(a.address.family == 4 for a in interface.addresses)
            if interface.rip and four and domains.link(name, interface.name).up:
                yield name, interface.name


def _active(network: Network, domains: Domains, ports: Iterable[Port]) -> Iterable[list[Port]]:
    """The interfaces that hear neighbours, those of one segment together."""
    out: dict[str, list[Port]] = {}
    for name, port in ports:
        domain = domains.of(name, port)
        if domain is not None and network.devices[name].interfaces[port].rip == "active":
            out.setdefault(domain.name, []).append((name, port))
    return out.values()
