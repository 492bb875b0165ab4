"""The order of what is arranged: columns by distance from a root, few crossings, and heights that make lines level.

Nothing here knows words or boxes: a node has a height and ports at heights within it, a link joins two ports. The columns are the
levels of a search in breadth from a root, so every link joins neighbours or two of one column. The order within a column is that
of the means of the neighbours (barycentre), bettered by exchanging neighbours in it; the heights are one linear programme: the
least sum of upright pieces, with everything kept apart.
"""

from __future__ import annotations

import itertools
from collections import defaultdict, deque
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple

Edge = tuple[str, str]
SWEEPS = 6
"""So often the means are taken from left to right and back; more changed nothing in any network that was tried."""
PASSES = 6
"""So often neighbours in a column are tried the other way round."""


class Joint(NamedTuple):
    """A link for the heights: two nodes, and how far below their tops its ports are.

    Attributes:
        one, other: the nodes.
        down, other_down: the ports, in points below the top of each.

    """

    one: str
    other: str
    down: float
    other_down: float


def parts_of(nodes: Sequence[str], edges: Sequence[Edge]) -> list[list[str]]:
    """The connected parts, largest first."""
    near = _near(edges)
    seen: set[str] = set()
    out = []
    for node in nodes:
        if node not in seen:
            part = [n for level in levels(node, near) for n in level]
            seen |= set(part)
            out.append(part)
    return sorted(out, key=len, reverse=True)


def _near(edges: Sequence[Edge]) -> dict[str, list[str]]:
    """Who is joined with whom."""
    near: dict[str, list[str]] = defaultdict(list)
    for one, other in edges:
        near[one].append(other)
        near[other].append(one)
    return near


def levels(root: str, near: Mapping[str, Sequence[str]]) -> list[list[str]]:
    """Nodes by their distance from a root."""
    far = {root: 0}
    queue = deque([root])
    while queue:
        node = queue.popleft()
        for other in near.get(node, ()):
            if other not in far:
                far[other] = far[node] + 1
                queue.append(other)
    out: list[list[str]] = [[] for _ in range(max(far.values()) + 1)]
    for node, distance in far.items():
        out[distance].append(node)
    return out


def roots(part: Sequence[str], edges: Sequence[Edge], most: int) -> list[str]:
    """Nodes worth trying as a root: all, or of many those at the ends, in the middle, and with most links."""
    if len(part) <= most:
        return list(part)
    near = _near(edges)
    depth = {node: len(levels(node, near)) for node in part}
    ranked = sorted(part, key=lambda n: (depth[n], -len(near[n])))
    busy = sorted(part, key=lambda n: -len(near[n]))
    third = most // 3
    return list(dict.fromkeys([*ranked[:third], *ranked[-third:], *busy[:third]]))


def ordered(root: str, edges: Sequence[Edge]) -> tuple[list[list[str]], int]:
    """The columns from a root, each in an order with few crossings; and how many crossings are left."""
    near = _near(edges)
    columns = levels(root, near)
    level = {node: number for number, column in enumerate(columns) for node in column}
    best, least = [list(c) for c in columns], _crossings(columns, near, level)
    for sweep in range(SWEEPS):
        rightwards = sweep % 2 == 0
        for number in range(1, len(columns)) if rightwards else range(len(columns) - 2, -1, -1):
            beside = {n: k for k, n in enumerate(columns[number - 1 if rightwards else number + 1])}
            columns[number].sort(key=_mean(near, beside, {n: k for k, n in enumerate(columns[number])}))
        _exchange(columns, near, level)
        found = _crossings(columns, near, level)
        if found < least:
            best, least = [list(c) for c in columns], found
    return best, least


def _mean(near: Mapping[str, Sequence[str]], beside: Mapping[str, int], own: Mapping[str, int]) -> Callable[[str], float]:
    """The mean place of a node's neighbours in the column beside it; its own place where it has none there."""

    def mean(node: str) -> float:
        found = [beside[n] for n in near[node] if n in beside]
        return sum(found) / len(found) if found else float(own[node])

    return mean


def _exchange(columns: list[list[str]], near: Mapping[str, Sequence[str]], level: Mapping[str, int]) -> None:
    """Exchange neighbours in a column wherever that takes crossings away."""
    place = {node: k for column in columns for k, node in enumerate(column)}
    for _ in range(PASSES):
        better = False
        for column in columns:
            for k in range(len(column) - 1):
                one, other = column[k], column[k + 1]
                now, then = _between(one, other, near, level, place), _between(other, one, near, level, place)
                if then < now:
                    column[k], column[k + 1] = other, one
                    place[one], place[other] = k + 1, k
                    better = True
        if not better:
            return


def _between(upper: str, lower: str, near: Mapping[str, Sequence[str]], level: Mapping[str, int], place: Mapping[str, int]) -> int:
    """How often the links of two neighbours in a column cross, the one above the other."""
    found = 0
    for side in (-1, 1):
        ups = [place[n] for n in near[upper] if level[n] == level[upper] + side]
        downs = [place[n] for n in near[lower] if level[n] == level[lower] + side]
        found += sum(u > d for u in ups for d in downs)
    return found


def _crossings(columns: Sequence[Sequence[str]], near: Mapping[str, Sequence[str]], level: Mapping[str, int]) -> int:
    """How often links between neighbouring columns cross."""
    place = {node: k for column in columns for k, node in enumerate(column)}
    total = 0
    for number, column in enumerate(columns[:-1]):
        links = sorted((place[node], place[n]) for node in column for n in near[node] if level[n] == number + 1)
        seen: list[int] = []
        for _, end in links:
            total += sum(s > end for s in seen)
            seen.append(end)
    return total


def heights(columns: Sequence[Sequence[str]], height: Mapping[str, float], joints: Sequence[Joint], gap: float) -> dict[str, float]:
    """The top of every node, in points downwards, so that lines are as level as can be.

    Args:
        columns: nodes in their order.
        height: of each.
        joints: links with the heights of their ports.
        gap: that is kept between two of a column.

    """
    import numpy as np
    from scipy.optimize import linprog
    from scipy.sparse import coo_array

    nodes = [n for column in columns for n in column]
    number = {n: k for k, n in enumerate(nodes)}
    count = len(nodes)
    rows: list[tuple[int, int, float]] = []
    bounds: list[float] = []

    def less(terms: Sequence[tuple[int, float]], most: float) -> None:
        """A sum of variables is at most a number."""
        rows.extend((len(bounds), variable, factor) for variable, factor in terms)
        bounds.append(most)

    for column in columns:
        for upper, lower in itertools.pairwise(column):
            less([(number[upper], 1), (number[lower], -1)], -(height[upper] + gap))
    foot = count + len(joints)
    for node in nodes:
        less([(number[node], 1), (foot, -1)], -height[node])
    for k, joint in enumerate(joints):
        one, other, apart = number[joint.one], number[joint.other], joint.other_down - joint.down
        if one != other:
            less([(one, 1), (other, -1), (count + k, -1)], apart)
            less([(other, 1), (one, -1), (count + k, -1)], -apart)
    cost = np.concatenate([np.full(count, 1e-3), np.ones(len(joints)), [0.3]])
    matrix = coo_array(
        ([f for _, _, f in rows], ([r for r, _, _ in rows], [v for _, v, _ in rows])), shape=(len(bounds), foot + 1)
    ).tocsr()
    solve: Any = linprog  # its stubs know arrays, and not sparse ones
    found = solve(cost, A_ub=matrix, b_ub=np.array(bounds), bounds=(0, None), method="highs")
    return {node: round(float(found.x[k]), 2) for k, node in enumerate(nodes)}


def tracks(spans: Sequence[tuple[float, float]]) -> list[int]:
    """Which upright track each line between two columns takes, 0 for the leftmost; -1 for a level one, which needs none.

    Of lines that go down, one that begins lower turns earlier; of those that go up, one that begins higher: so none of two that
    keep their order crosses the other. Lines whose upright pieces do not meet share a track.
    """
    out = [-1] * len(spans)
    turning = [k for k, (a, b) in enumerate(spans) if abs(a - b) > LEVEL]
    downs = sorted((k for k in turning if spans[k][1] > spans[k][0]), key=lambda k: -spans[k][0])
    ups = sorted((k for k in turning if spans[k][1] < spans[k][0]), key=lambda k: spans[k][0])
    for lines in (downs, ups):
        taken: list[list[tuple[float, float]]] = []
        last = -1
        for k in lines:
            low, high = min(spans[k]) - APART, max(spans[k]) + APART
            last = next((t for t in range(max(last, 0), len(taken)) if all(high < a or b < low for a, b in taken[t])), len(taken))
            if last == len(taken):
                taken.append([])
            taken[last].append((low, high))
            out[k] = last
    return _beside(out, spans, downs, ups)


def _beside(out: list[int], spans: Sequence[tuple[float, float]], downs: Sequence[int], ups: Sequence[int]) -> list[int]:
    """The tracks of lines that go up, put beside those that go down where they would meet."""
    if not downs or not ups:
        return out
    meets = any(
        out[u] == out[d] and min(spans[u]) <= max(spans[d]) + APART and min(spans[d]) <= max(spans[u]) + APART
        for u in ups
        for d in downs
    )
    if meets:
        first = max(out[d] for d in downs) + 1
        for u in ups:
            out[u] += first
    return out


LEVEL, APART = 0.4, 4.0
"""Points: what differs less is level; what is nearer than the other would look like one line."""
