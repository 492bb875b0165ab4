"""Shortest paths for a whole area at once, by SciPy's Dijkstra, and the sets of equal first hops.

Nodes are numbered: first the routers, then the transit networks. A router's first hop towards a node is equal
to another's when both lie on a shortest path, that is, when the cost of the link and the distance from the
neighbour add up to the router's own distance (RFC 2328 section 16.1.1).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, NamedTuple

from mossy_compass.routing.table import NextHop

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


class Edge(NamedTuple):
    """A router's way to a neighbouring router: what it costs to send, who is there, by which interface.

    Attributes:
        cost: of sending there, as the sending side has it.
        neighbour: number of the router.
        hop: by which interface, to which address.

    """

    cost: int
    neighbour: int
    hop: NextHop


class Graph:
    """One area, or one RIP cloud.

    Attributes:
        routers: how many of the nodes are routers.
        links: for each router, its links to neighbouring routers.
        dist: distance from each router to each node; infinite where there is no way.

    """

    __slots__ = ("_groups", "dist", "links", "routers")

    def __init__(self, routers: int, nodes: int, edges: Mapping[tuple[int, int], int], links: list[list[Edge]]) -> None:
        import numpy as np
        from scipy.sparse import csr_array
        from scipy.sparse.csgraph import dijkstra

        self.routers = routers
        self.links = links
        count = len(edges)
        starts = np.fromiter((u for u, _ in edges), dtype=np.int32, count=count)
        ends = np.fromiter((v for _, v in edges), dtype=np.int32, count=count)
        costs = np.fromiter(edges.values(), dtype=np.float64, count=count)
        matrix = csr_array((costs, (starts, ends)), shape=(nodes, nodes))
        self.dist: NDArray[np.float64] = np.atleast_2d(dijkstra(matrix, directed=True, indices=np.arange(routers)))
        self._groups: dict[int, tuple[list[tuple[NextHop, ...]], NDArray[np.intp]]] = {}

    def first_hops(self, router: int) -> tuple[list[tuple[NextHop, ...]], NDArray[np.intp]]:
        """The different sets of equal first hops of a router, and for each node which of them leads there."""
        import numpy as np

        if router in self._groups:
            return self._groups[router]
        links, own = self.links[router], self.dist[router]
        if not links:
            return [()], np.zeros(len(own), dtype=np.intp)
        costs = np.array([n.cost for n in links], dtype=np.float64)
        onward = self.dist[[n.neighbour for n in links]]
        equal = (onward + costs[:, None] == own) & np.isfinite(own)
        packed = np.ascontiguousarray(np.packbits(equal, axis=0).T)
        keys = packed.view(np.dtype((np.void, packed.shape[1]))).ravel()
        _, first, inverse = np.unique(keys, return_index=True, return_inverse=True)
        groups = [tuple(links[k].hop for k in np.flatnonzero(equal[:, column])) for column in first]
        self._groups[router] = groups, inverse
        return self._groups[router]


def least(edges: Iterable[tuple[int, int, int]]) -> dict[tuple[int, int], int]:
    """Parallel links as one edge of the least cost, which is all that a distance needs."""
    out: dict[tuple[int, int], int] = {}
    for start, end, cost in edges:
        if cost < out.get((start, end), cost + 1):
            out[start, end] = cost
    return out
