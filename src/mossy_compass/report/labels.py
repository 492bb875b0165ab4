"""Where the words beside the lines find room.

Places along the line are tried from best to worst, and what would be missed most is placed
first. A label may not touch a box or another label; one that crosses a line costs more than
one farther away, and one without any room is left out and counted.
"""

from __future__ import annotations

import itertools
import math
from collections import defaultdict
from dataclasses import dataclass
from typing import TYPE_CHECKING

from mossy_compass.model.network import Network
from mossy_compass.report.sheet import SMALL, Box, Label, Line, Rect, curve, end_words, subnets, text_width

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_NEAR_END = tuple(n * 0.04 for n in range(11))
_MIDDLE = (0.5, *(0.5 + sign * n * 0.04 for n in range(1, 8) for sign in (-1, 1)))


@dataclass(slots=True)
class _Wanted:
    """A label that looks for a place beside its line; one that must be shown stands even where it is in the way.

    Attributes:
        words: lines of text.
        line: the cable that it belongs to.
        places: parts of the line's length to try, best first.
        backward: counted from the far end.
        rank: what is placed earlier; lower first.
        must: shown even where it covers something.

    """

    words: tuple[str, ...]
    line: Line
    places: tuple[float, ...]
    backward: bool
    rank: tuple[int, int]
    must: bool = False


def labels_of(network: Network, boxes: dict[str, Box], lines: list[Line]) -> tuple[list[Label], int, int]:
    """The words at the ends and in the middle of each line, how many found no room and are left out, and how many lie on a line.

    What is down is placed first, then the ends at boxes with few lines, then the middles, and last the ends where
    many lines meet.

    Args:
        network: what is drawn.
        boxes: with their places.
        lines: between them.

    """
    paths = {id(line): curve(boxes, line) for line in lines}
    field = _Field(boxes, list(paths.values()))
    out: list[Label] = []
    left_out = crossed = 0
    for wanted in sorted(_wanted(network, boxes, lines), key=lambda w: w.rank):
        path = paths[id(wanted.line)]
        rect, free, lies_on_line = field.place(
            wanted, path, _free_part(path, boxes[wanted.line.start].rect, boxes[wanted.line.end].rect)
        )
        if free or wanted.must:
            out.append(Label("\n".join(wanted.words), rect))
            field.take(rect)
            crossed += lies_on_line
        else:
            left_out += 1
    return out, left_out, crossed


def _wanted(network: Network, boxes: dict[str, Box], lines: list[Line]) -> list[_Wanted]:
    """Every label that could be set, with its rank: what would be missed most comes first."""
    degree: dict[str, int] = defaultdict(int)
    for line in lines:
        degree[line.start] += 1
        degree[line.end] += 1
    out: list[_Wanted] = []
    for number, line in enumerate(lines):
        segment = network.segments[line.segment]
        ports = dict(segment.members)
        for key, near in ((line.start, False), (line.end, True)):
            if key in ports and boxes[key].kind != "segment":
                out.append(_Wanted(end_words(network.devices[key], ports[key]), line, _NEAR_END, near, (degree[key], number)))
        few = min(degree[line.start], degree[line.end])
        down = f" [{line.why_down}]" if line.why_down else ""
        if boxes[line.start].kind != "segment" and boxes[line.end].kind != "segment":
            words = (segment.name + down, *subnets(network, segment.members))
            out.append(_Wanted(words, line, _MIDDLE, False, (0 if down else few, number), bool(down)))
        elif down:
            out.append(_Wanted((down.strip(),), line, _MIDDLE, False, (0, number), True))
    return out


class _Field:
    """What a label must not stand on: boxes, other labels, and, if it can be helped, lines."""

    def __init__(self, boxes: dict[str, Box], paths: list[list[tuple[float, float]]]) -> None:
        import numpy as np

        badge = 16.0  # where a journey begins or ends, a badge stands over the box
        solid = [
            (b.rect.x, b.rect.y, b.rect.w, b.rect.h)
            if b.kind == "segment"
            else (b.rect.x, b.rect.y + badge / 2, max(b.rect.w, 90.0), b.rect.h + badge)
            for b in boxes.values()
        ]
        self._taken = np.array(solid, dtype=float).reshape(-1, 4)
        self._owner = np.array([n for n, p in enumerate(paths) for _ in p[1:]], dtype=int)
        self._paths = paths
        self._pieces = np.array([(*a, *b) for p in paths for a, b in itertools.pairwise(p)], dtype=float).reshape(-1, 4)

    def take(self, rect: Rect) -> None:
        """Nothing else may stand there."""
        import numpy as np

        self._taken = np.vstack([self._taken, (rect.x, rect.y, rect.w, rect.h)])

    def place(self, wanted: _Wanted, path: list[tuple[float, float]], free: tuple[float, float]) -> tuple[Rect, bool, bool]:
        """The best place beside the line, whether it is free, and whether another line goes through it.

        Args:
            wanted: the label.
            path: points of its line.
            free: from where to where the line is outside boxes, as fractions.

        """
        import numpy as np

        width = max(text_width(w, SMALL) for w in wanted.words) + 4
        height = len(wanted.words) * SMALL * 1.3 + 2
        low, high = free
        spots, costs = [], []
        for number, spot in enumerate(wanted.places):
            x, y, angle = _along(path, low + (high - low) * ((1 - spot) if wanted.backward else spot))
            for side, far in ((1, 6), (-1, 6), (1, 14), (-1, 14), (1, 26), (-1, 26)):
                clear = abs(math.sin(angle)) * width / 2 + abs(math.cos(angle)) * height / 2 + far
                away = -math.sin(angle) * side * clear, math.cos(angle) * side * clear
                spots.append((x + away[0], y + away[1]))
                costs.append(number * 0.7 + far * 0.3)
        at, taken = np.array(spots), self._taken
        over = (np.abs(at[:, None, 0] - taken[None, :, 0]) * 2 < width + taken[None, :, 2] + 2) & (
            np.abs(at[:, None, 1] - taken[None, :, 1]) * 2 < height + taken[None, :, 3] + 2
        )
        blocked = over.sum(axis=1)
        others = self._pieces[self._owner != next(n for n, p in enumerate(self._paths) if p is path)]
        crossed = _crossings(at, width, height, others)
        cost = np.array(costs) + 400.0 * blocked + 25.0 * crossed
        best = int(cost.argmin())
        return Rect(float(at[best, 0]), float(at[best, 1]), width, height), not blocked[best], bool(crossed[best])


def _crossings(at: NDArray[np.float64], width: float, height: float, pieces: NDArray[np.float64]) -> NDArray[np.int64]:
    """How many straight pieces go through each rectangle of one size (Liang and Barsky's clipping, all at once)."""
    import numpy as np

    low = np.zeros((len(at), len(pieces)))
    high = np.ones((len(at), len(pieces)))
    for axis, size in ((0, width), (1, height)):
        start = pieces[None, :, axis]
        step = pieces[None, :, axis + 2] - start
        flat = np.abs(step) < 1e-9
        safe = np.where(flat, 1.0, step)
        first, last = (at[:, None, axis] - size / 2 - start), (at[:, None, axis] + size / 2 - start)
        enter, leave = np.minimum(first / safe, last / safe), np.maximum(first / safe, last / safe)
        outside = flat & ((first > 0) | (last < 0))
        low = np.maximum(low, np.where(flat, np.where(outside, 2.0, 0.0), enter))
        high = np.minimum(high, np.where(flat, 1.0, leave))
    crossed: NDArray[np.int64] = (low < high).sum(axis=1)
    return crossed


def _free_part(points: list[tuple[float, float]], first: Rect, last: Rect) -> tuple[float, float]:
    """From where to where a line is outside the boxes at its ends, as fractions of it."""

    def inside(t: float, rect: Rect) -> bool:
        """Whether the point at this part of the line is under a box, or so near that words would touch it."""
        x, y, _ = _along(points, t)
        return abs(x - rect.x) * 2 < rect.w + 34 and abs(y - rect.y) * 2 < rect.h + 18

    steps = [n / 60 for n in range(61)]
    low = next((t for t in steps if not inside(t, first)), 0.4)
    high = next((t for t in reversed(steps) if not inside(t, last)), 0.6)
    return (low, high) if low < high else (0.4, 0.6)


def _along(points: list[tuple[float, float]], t: float) -> tuple[float, float, float]:
    """Where a line is after a part of its length, and its direction in radians."""
    place = t * (len(points) - 1)
    number = min(int(place), len(points) - 2)
    (ax, ay), (bx, by) = points[number], points[number + 1]
    part = place - number
    return ax + (bx - ax) * part, ay + (by - ay) * part, math.atan2(by - ay, bx - ax)
