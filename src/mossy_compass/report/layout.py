"""Where the parts of a drawn network stand. Positions only, in points; ``drawing`` puts ink on them.

Hosts are rows inside the box of their segment, so that a crowd stays legible. Whatever routes or bridges is a
box of its own; a cable between two of them is a line. Text is set in one monospaced face, so that every size
is known without drawing. The same network gives the same picture.
"""

from __future__ import annotations

import itertools
import math
from collections import defaultdict
from collections.abc import Collection, Iterable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from mossy_compass.model.network import Device, Interface, Kind, Network, PortState, Segment
from mossy_compass.packet.address import InterfaceAddress

if TYPE_CHECKING:
    import networkx as nx
    import numpy as np
    from numpy.typing import NDArray

FONT = 9.0
SMALL = 7.0
_WIDE = 0.602
_ROWS = 12
_GAP = 12.0
_NEAR_END = tuple(n * 0.04 for n in range(11))
_HOPELESS = 40
"""With so many labels in the way a larger sheet does not help: many lines meet in one place."""
_BASES = (1.0, 1.25, 1.6, 2.0, 2.5, 3.2, 4.0)
_SCALES = (1.0, 1.12, 1.25, 1.4, 1.6, 1.9, 2.3)
_MIDDLE = (0.5, *(0.5 + sign * n * 0.04 for n in range(1, 8) for sign in (-1, 1)))


@dataclass(slots=True)
class Rect:
    """A rectangle by its centre."""

    x: float
    y: float
    w: float
    h: float

    def overlaps(self, other: Rect, pad: float = 0.0) -> bool:
        """True when the two, each widened by half of ``pad``, share a point."""
        return abs(self.x - other.x) * 2 < self.w + other.w + 2 * pad and abs(self.y - other.y) * 2 < self.h + other.h + 2 * pad


@dataclass(slots=True)
class Row:
    """A host inside a segment's box."""

    device: str
    words: str
    x: float = 0.0
    y: float = 0.0
    down: bool = False


@dataclass(slots=True)
class Box:
    """A device, or a segment with the hosts on it.

    Attributes:
        kind: a device's kind, or ``segment``.
        lines: its name and what is said under it.
        rows: hosts on a segment, in columns.

    """

    name: str
    kind: str
    lines: tuple[str, ...]
    rect: Rect
    rows: list[Row] = field(default_factory=list)
    down: bool = False


@dataclass(slots=True)
class Label:
    """A few words beside a line."""

    words: str
    rect: Rect


@dataclass(slots=True)
class Line:
    """A cable between two boxes, by their keys."""

    start: str
    end: str
    segment: str
    why_down: str = ""
    bow: float = 0.0


@dataclass(slots=True)
class Picture:
    """Everything that is drawn, with its place.

    Attributes:
        boxes: by key: a device's name, or ``segment NAME``.
        home: for each device, the key of its box and its place within it.
        left_out: how many labels found no room.

    """

    boxes: dict[str, Box]
    lines: list[Line]
    labels: list[Label]
    home: dict[str, tuple[str, float, float]]
    width: float
    height: float
    left_out: int = 0

    def line_between(self, segment: str, *keys: str) -> Line | None:
        """The line that stands for a segment between two boxes, or a device and the segment's box."""
        return next((n for n in self.lines if n.segment == segment and {n.start, n.end} == set(keys)), None)


def text_width(words: str, size: float = FONT) -> float:
    """Width of a line of text in points."""
    return len(words) * size * _WIDE


def host_part(entry: InterfaceAddress) -> str:
    """An address without what its subnet says already: ``.10``, or ``::10``."""
    text = str(entry.address)
    if entry.address.family == 4:
        whole = max(0, min(3, entry.length // 8))
        return "." + ".".join(text.split(".")[whole:])
    tail = text.rsplit(":", 1)[-1]
    return f"::{tail}" if entry.length >= 64 else text


def end_words(device: Device, name: str) -> tuple[str, ...]:
    """What stands at a line's end: the interface and its role; under it its host parts, or its sub-interfaces."""
    interface = device.interfaces[name]
    zone = f" ({interface.zone})" if interface.zone and interface.zone != interface.name else ""
    parts = " ".join(map(host_part, interface.addresses))
    below = [f"{i.name} {' '.join(map(str, i.addresses))}" for i in device.interfaces.values() if i.parent == name]
    return (interface.name + zone, *([parts] if parts else []), *below)


def subnets(network: Network, members: Iterable[tuple[str, str]]) -> list[str]:
    """The subnets on a segment, IPv4 first."""
    found = {a.prefix for d, i in members for a in network.devices[d].interfaces[i].addresses if not a.address.is_link_local}
    return [str(p) for p in sorted(found)]


def around(network: Network, centre: str, hops: int) -> set[str]:
    """The devices within so many segments of one."""
    near = {centre}
    for _ in range(hops):
        near |= {d for s in network.segments.values() if near & {m for m, _ in s.members} for d, _ in s.members}
    return near


def _box(name: str, kind: str, lines: tuple[str, ...], rows: list[Row]) -> Box:
    columns = math.ceil(len(rows) / _ROWS)
    deep = math.ceil(len(rows) / columns) if columns else 0
    wide = max((text_width(r.words, SMALL + 1) for r in rows), default=0.0) + 10
    head = max(text_width(line, FONT if n == 0 else SMALL) for n, line in enumerate(lines))
    width = max(head, wide * columns) + 14
    height = 12 + FONT * 1.35 + (len(lines) - 1) * SMALL * 1.4 + deep * (SMALL + 1) * 1.55
    return Box(name, kind, lines, Rect(0, 0, width, height), rows)


def _set_rows(box: Box) -> None:
    if not box.rows:
        return
    columns = math.ceil(len(box.rows) / _ROWS)
    deep = math.ceil(len(box.rows) / columns)
    step = (SMALL + 1) * 1.55
    left, top = box.rect.x - box.rect.w / 2, box.rect.y + box.rect.h / 2
    first = top - 6 - FONT * 1.35 - (len(box.lines) - 1) * SMALL * 1.4 - step / 2
    for number, row in enumerate(box.rows):
        row.x = left + 7 + (number // deep) * ((box.rect.w - 14) / columns)
        row.y = first - (number % deep) * step


def _device_boxes(network: Network, only: Collection[str] | None) -> tuple[dict[str, Device], dict[str, Box]]:
    shown = {n: d for n, d in network.devices.items() if only is None or n in only}
    plugs: dict[str, int] = defaultdict(int)
    for segment in network.segments.values():
        for name, _ in segment.members:
            plugs[name] += 1
    boxes: dict[str, Box] = {}
    for name, device in shown.items():
        if device.kind is not Kind.HOST or plugs[name] != 1:
            words = (name, device.kind.value + (f", {device.zone}" if device.zone else ""))
            boxes[name] = _box(name, device.kind.value, words, [])
    return shown, boxes


def place(network: Network, only: Collection[str] | None = None) -> Picture:
    """Lay a network out.

    Args:
        network: what to draw.
        only: names of the devices to draw; all when None.

    """
    shown, boxes = _device_boxes(network, only)
    lines = _wire(network, shown, boxes)
    parts = _springs_of_parts(network, boxes, lines)
    tries: list[tuple[int, float]] = []
    base = _base_scale(boxes, parts)
    for scale in (base * step for step in _SCALES):
        tries.append((_arranged(network, boxes, lines, parts, scale)[1], scale))
        if not tries[-1][0] or tries[0][0] > _HOPELESS:
            break
    labels, left_out = _arranged(network, boxes, lines, parts, min(tries)[1])
    for box in boxes.values():
        _set_rows(box)
    home = {n: (n, b.rect.x, b.rect.y) for n, b in boxes.items() if b.kind != "segment"}
    for key, box in boxes.items():
        home |= {row.device: (key, row.x, row.y) for row in box.rows}
    rects = [b.rect for b in boxes.values()] + [n.rect for n in labels] or [Rect(0, 0, 100, 100)]
    left, low = min(r.x - r.w / 2 for r in rects) - 18, min(r.y - r.h / 2 for r in rects) - 18
    width = max(r.x + r.w / 2 for r in rects) + 18 - left
    height = max(r.y + r.h / 2 for r in rects) + 18 - low
    for rect in rects:
        rect.x, rect.y = rect.x - left, rect.y - low
    for box in boxes.values():
        for row in box.rows:
            row.x, row.y = row.x - left, row.y - low
    home = {n: (k, x - left, y - low) for n, (k, x, y) in home.items()}
    return Picture(boxes, lines, labels, home, width, height, left_out)


def _down_words(segment: Segment, interface: Interface) -> str:
    if segment.down:
        return "cut"
    return "" if interface.state is PortState.UP else interface.state.value


def _wire(network: Network, shown: dict[str, Device], boxes: dict[str, Box]) -> list[Line]:
    lines: list[Line] = []
    for segment in network.segments.values():
        members = [(d, i) for d, i in segment.members if d in shown]
        ends = [(d, i) for d, i in members if d in boxes]
        hosts = [(d, i) for d, i in members if d not in boxes]
        states = {m: _down_words(segment, shown[m[0]].interfaces[m[1]]) for m in members}
        if not hosts and len(segment.members) == 2 and len(ends) == 2 and ends[0][0] != ends[1][0]:
            why = ", ".join(dict.fromkeys(w for w in states.values() if w))
            lines.append(Line(ends[0][0], ends[1][0], segment.name, why))
            continue
        if not members:
            continue
        rows = []
        for name, port in hosts:
            words = " ".join([name, *map(host_part, shown[name].interfaces[port].addresses)])
            down = states[name, port]
            rows.append(Row(name, words + (f" [{down}]" if down else ""), down=bool(down)))
        key = f"segment {segment.name}"
        boxes[key] = _box(segment.name, "segment", (segment.name, *subnets(network, segment.members)), rows)
        boxes[key].down = segment.down
        lines += [Line(name, key, segment.name, states[name, port]) for name, port in ends]
    together: dict[tuple[str, ...], list[Line]] = defaultdict(list)
    for line in lines:
        together[tuple(sorted((line.start, line.end)))].append(line)
    for group in together.values():
        for number, line in enumerate(group):
            line.bow = (number - (len(group) - 1) / 2) * 34
    return lines


def _springs_of_parts(network: Network, boxes: dict[str, Box], lines: list[Line]) -> list[dict[str, tuple[float, float]]]:
    """Positions by Kamada and Kawai's springs, for each connected part of the network, largest first."""
    import networkx as nx

    graph: nx.Graph[str] = nx.Graph()
    graph.add_nodes_from(boxes)
    for line in lines:
        reach = _reach(boxes[line.start]) + _reach(boxes[line.end]) + _room(network, boxes, line)
        graph.add_edge(line.start, line.end, length=reach)
    parts = sorted(nx.connected_components(graph), key=lambda c: (-len(c), min(c)))
    return [_springs(graph.subgraph([n for n in boxes if n in part]), [n for n in boxes if n in part]) for part in parts]


def _base_scale(boxes: dict[str, Box], parts: list[dict[str, tuple[float, float]]]) -> float:
    """The scale at which few boxes need to be pushed: pushing many would undo what the springs have found."""
    for scale in _BASES:
        over = 0
        for spots in parts:
            rects = [Rect(x * scale, y * scale, boxes[n].rect.w, boxes[n].rect.h) for n, (x, y) in spots.items()]
            over += sum(a.overlaps(b, _GAP) for n, a in enumerate(rects) for b in rects[n + 1 :])
        if over * 8 <= len(boxes):
            return scale
    return _BASES[-1]


def _arranged(
    network: Network, boxes: dict[str, Box], lines: list[Line], parts: list[dict[str, tuple[float, float]]], scale: float
) -> tuple[list[Label], int]:
    """Set the boxes at a scale, part beside part and pushed apart, and give the labels that find a place, and how many do not."""
    offset = 0.0
    for spots in parts:
        for name, (x, y) in spots.items():
            boxes[name].rect.x, boxes[name].rect.y = x * scale, y * scale
        rects = [boxes[n].rect for n in spots]
        _push_apart(rects)
        left, low = min(r.x - r.w / 2 for r in rects), min(r.y - r.h / 2 for r in rects)
        for rect in rects:
            rect.x, rect.y = rect.x - left + offset, rect.y - low
        offset = max(r.x + r.w / 2 for r in rects) + 60
    return _labels(network, boxes, lines)


def _room(network: Network, boxes: dict[str, Box], line: Line) -> float:
    """How long a line must be outside its boxes, so that what is written beside it finds a place."""
    ports = dict(network.segments[line.segment].members)
    ends = [end_words(network.devices[k], ports[k]) for k in (line.start, line.end) if boxes[k].kind != "segment"]
    wide = max(text_width(w, SMALL) for end in ends for w in end)
    return 45 + wide * 0.4 if len(ends) == 1 else 110 + wide * 0.8


def _reach(box: Box) -> float:
    return (box.rect.w + box.rect.h) / 4


def _springs(graph: nx.Graph[str], names: list[str]) -> dict[str, tuple[float, float]]:
    import networkx as nx

    if len(names) == 1:
        return {names[0]: (0.0, 0.0)}
    lengths = dict(nx.all_pairs_dijkstra_path_length(graph, weight="length"))
    scale = max(max(row.values()) for row in lengths.values())
    made = nx.kamada_kawai_layout(graph, dist=lengths, pos=nx.circular_layout(nx.empty_graph(names)), scale=scale / 2)
    spots = {n: (float(made[n][0]), float(made[n][1])) for n in names}
    wide = max(x for x, _ in spots.values()) - min(x for x, _ in spots.values())
    high = max(y for _, y in spots.values()) - min(y for _, y in spots.values())
    if high > wide:
        spots = {n: (y, -x) for n, (x, y) in spots.items()}
    return {n: (x * 1.2, y * 0.72) for n, (x, y) in spots.items()}


def _push_apart(rects: list[Rect]) -> None:
    for _ in range(400):
        moved = False
        for number, one in enumerate(rects):
            for other in rects[number + 1 :]:
                if not one.overlaps(other, _GAP * 2):
                    continue
                moved = True
                across = (one.w + other.w) / 2 + 2 * _GAP - abs(one.x - other.x)
                along = (one.h + other.h) / 2 + 2 * _GAP - abs(one.y - other.y)
                if across < along:
                    step = (across / 2 + 0.5) * (1 if one.x >= other.x else -1)
                    one.x, other.x = one.x + step, other.x - step
                else:
                    step = (along / 2 + 0.5) * (1 if one.y >= other.y else -1)
                    one.y, other.y = one.y + step, other.y - step
        if not moved:
            return


def curve(picture_boxes: dict[str, Box], line: Line) -> list[tuple[float, float]]:
    """The points of a line, from one box's middle to the other's; bowed where several lie side by side."""
    a, b = picture_boxes[line.start].rect, picture_boxes[line.end].rect
    if not line.bow:
        return [(a.x, a.y), (b.x, b.y)]
    far = math.hypot(b.x - a.x, b.y - a.y) or 1.0
    across = (-(b.y - a.y) / far * line.bow, (b.x - a.x) / far * line.bow)
    if (line.start, line.end) != tuple(sorted((line.start, line.end))):
        across = (-across[0], -across[1])
    return [
        (a.x + (b.x - a.x) * t + across[0] * math.sin(math.pi * t), a.y + (b.y - a.y) * t + across[1] * math.sin(math.pi * t))
        for t in [n / 12 for n in range(13)]
    ]


@dataclass(slots=True)
class _Wanted:
    """A label that looks for a place beside its line; one that must be shown stands even where it is in the way."""

    words: tuple[str, ...]
    line: Line
    places: tuple[float, ...]
    backward: bool
    rank: tuple[int, int]
    must: bool = False


def _labels(network: Network, boxes: dict[str, Box], lines: list[Line]) -> tuple[list[Label], int]:
    """The words at the ends and in the middle of each line, and how many found no room and are left out.

    What is down is placed first, then the ends at boxes with few lines, then the middles, and last the ends where
    many lines meet.
    """
    paths = {id(line): curve(boxes, line) for line in lines}
    field = _Field(boxes, list(paths.values()))
    out: list[Label] = []
    left_out = 0
    for wanted in sorted(_wanted(network, boxes, lines), key=lambda w: w.rank):
        path = paths[id(wanted.line)]
        rect, free = field.place(wanted, path, _free_part(path, boxes[wanted.line.start].rect, boxes[wanted.line.end].rect))
        if free or wanted.must:
            out.append(Label("\n".join(wanted.words), rect))
            field.take(rect)
        else:
            left_out += 1
    return out, left_out


def _wanted(network: Network, boxes: dict[str, Box], lines: list[Line]) -> list[_Wanted]:
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

    def place(self, wanted: _Wanted, path: list[tuple[float, float]], free: tuple[float, float]) -> tuple[Rect, bool]:
        """The best place beside the line, and whether it is free."""
        import numpy as np

        width = max(text_width(w, SMALL) for w in wanted.words) + 4
        height = len(wanted.words) * SMALL * 1.3 + 2
        low, high = free
        spots, costs = [], []
        for number, spot in enumerate(wanted.places):
            x, y, angle = _along(path, low + (high - low) * ((1 - spot) if wanted.backward else spot))
            for side, far in ((1, 3), (-1, 3), (0, 0), (1, 12), (-1, 12)):
                away = -math.sin(angle) * side * (width / 2 + far), math.cos(angle) * side * (height / 2 + far)
                spots.append((x + away[0], y + away[1]))
                costs.append(number * 0.7 + (2.5 if side == 0 else far * 0.3))
        at, taken = np.array(spots), self._taken
        over = (np.abs(at[:, None, 0] - taken[None, :, 0]) * 2 < width + taken[None, :, 2] + 2) & (
            np.abs(at[:, None, 1] - taken[None, :, 1]) * 2 < height + taken[None, :, 3] + 2
        )
        blocked = over.sum(axis=1)
        others = self._pieces[self._owner != next(n for n, p in enumerate(self._paths) if p is path)]
        cost = np.array(costs) + 400.0 * blocked + 25.0 * _crossings(at, width, height, others)
        best = int(cost.argmin())
        return Rect(float(at[best, 0]), float(at[best, 1]), width, height), not blocked[best]


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
        x, y, _ = _along(points, t)
        return abs(x - rect.x) * 2 < rect.w + 34 and abs(y - rect.y) * 2 < rect.h + 18

    steps = [n / 60 for n in range(61)]
    low = next((t for t in steps if not inside(t, first)), 0.4)
    high = next((t for t in reversed(steps) if not inside(t, last)), 0.6)
    return (low, high) if low < high else (0.4, 0.6)


def _along(points: list[tuple[float, float]], t: float) -> tuple[float, float, float]:
    place = t * (len(points) - 1)
    number = min(int(place), len(points) - 2)
    (ax, ay), (bx, by) = points[number], points[number + 1]
    part = place - number
    return ax + (bx - ax) * part, ay + (by - ay) * part, math.atan2(by - ay, bx - ax)


def count(network: Network, only: Collection[str] | None = None) -> int:
    """How many boxes a picture of the network, or of some of its devices, has."""
    shown, boxes = _device_boxes(network, only)
    _wire(network, shown, boxes)
    return len(boxes)
