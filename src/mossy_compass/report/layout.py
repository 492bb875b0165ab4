"""Where the parts of a drawn network stand. Positions only, in points; ``drawing`` puts ink on them.

Hosts are rows inside the box of their segment, so that a crowd stays legible. Whatever routes or bridges is a
box of its own; a cable between two of them is a line. Text is set in one monospaced face, so that every size
is known without drawing. The same network gives the same picture.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Collection, Sequence
from typing import TYPE_CHECKING

from mossy_compass.model.network import Device, Interface, Kind, Network, PortState, Segment
from mossy_compass.report.labels import labels_of
from mossy_compass.report.sheet import FONT, SMALL, Box, Label, Line, Picture, Rect, Row, end_words, host_part, subnets, text_width

if TYPE_CHECKING:
    import networkx as nx

_ROWS = 12
_GAP = 12.0
_HOPELESS = 40
"""With so many labels in the way a larger sheet does not help: many lines meet in one place."""
_BASES = (1.0, 1.25, 1.6, 2.0, 2.5, 3.2, 4.0)
_SCALES = (1.0, 1.12, 1.25, 1.4, 1.6, 1.9, 2.3)
_SHAPES = ((1.0, 0.86), (1.2, 0.72), (0.9, 0.95), (0.82, 1.05))
_TALL = (0.7, 1.35)
_TRIES = [(s * across, s * along) for s in _SCALES for across, along in _SHAPES] + [(s * _TALL[0], s * _TALL[1]) for s in _SCALES]
"""How far the springs' places are stretched, across and along: about the shape of a screen, wider, narrower; at last upright."""
_LABELS_IN_ALL = 1500
"""Labels that are placed, over all tries: with many of them few tries must do, for a picture is waited for."""
MOST_WIDE = 990.0
"""Points across that fit on a screen, at a size of text that can be read there; a larger network grows downwards."""


def around(network: Network, centre: str, hops: int) -> set[str]:
    """The devices within so many segments of one.

    Args:
        network: the whole.
        centre: name of a device.
        hops: how many segments away is still near.

    """
    near = {centre}
    for _ in range(hops):
        near |= {d for s in network.segments.values() if near & {m for m, _ in s.members} for d, _ in s.members}
    return near


def _box(name: str, kind: str, lines: tuple[str, ...], rows: list[Row]) -> Box:
    """A box just large enough for its words, in points; long lists of hosts go into columns."""
    columns = math.ceil(len(rows) / _ROWS)
    deep = math.ceil(len(rows) / columns) if columns else 0
    wide = max((text_width(r.words, SMALL + 1) for r in rows), default=0.0) + 10
    head = max(text_width(line, FONT if n == 0 else SMALL) for n, line in enumerate(lines))
    width = max(head, wide * columns) + 14
    height = 12 + FONT * 1.35 + (len(lines) - 1) * SMALL * 1.4 + deep * (SMALL + 1) * 1.55
    return Box(name, kind, lines, Rect(0, 0, width, height), rows)


def _set_rows(box: Box) -> None:
    """Give each row of a box its place, once the box has its own."""
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
    """The devices to be drawn, and boxes for those that are not shown as a row of their segment."""
    shown = {n: d for n, d in network.devices.items() if only is None or n in only}
    plugs: dict[str, int] = defaultdict(int)
    for segment in network.segments.values():
        for name, _ in segment.members:
            plugs[name] += 1
    boxes: dict[str, Box] = {}
    for name, device in shown.items():
        if device.kind is not Kind.HOST or plugs[name] != 1:
            words = (name, device.kind.value + (f", {device.zone}" if device.zone else ""))
            far = [Row(f.name, " ".join([f.name, *map(str, f.addresses)])) for f in device.far_hosts.values()]
            boxes[name] = _box(name, device.kind.value, words, far)
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
    base = _base_scale(boxes, parts)
    best = (math.inf, math.inf, base, base)
    placed, limit = 0, math.inf
    for across, along in _TRIES:
        if across >= limit:  # stretched less it was too wide already
            continue
        wide = _arranged(boxes, parts, (base * across, base * along))
        poor = _HOPELESS
        if wide <= MOST_WIDE:
            labels, left_out, crossed = labels_of(network, boxes, lines)
            placed, poor = placed + len(labels) + left_out, left_out + crossed
        else:
            limit = across
        best = min(best, (max(0.0, wide - MOST_WIDE), poor, base * across, base * along))
        if not (best[0] or best[1]) or placed > _LABELS_IN_ALL:
            break
    _arranged(boxes, parts, _squeezed(boxes, parts, best[2:]) if best[0] else best[2:])
    labels, left_out, _ = labels_of(network, boxes, lines)
    for box in boxes.values():
        _set_rows(box)
    return _framed(boxes, lines, labels, left_out)


def _squeezed(
    boxes: dict[str, Box], parts: list[dict[str, tuple[float, float]]], scale: tuple[float, float]
) -> tuple[float, float]:
    """The scale at which a network too large for a screen is no wider than one: it grows downwards instead.

    A few steps come near, since boxes that are pushed apart take room again; what is wider then stays wider.
    """
    across, along = scale
    for _ in range(6):
        wide = _arranged(boxes, parts, (across, along))
        if wide <= MOST_WIDE:
            break
        across, along = across * MOST_WIDE / wide * 0.97, along * wide / MOST_WIDE
    return across, along


def _extent(rects: list[Rect]) -> tuple[float, float, float, float]:
    """The lower left corner of everything, and its width and height, with a margin of 18 points on each side."""
    left, low = min(r.x - r.w / 2 for r in rects) - 18, min(r.y - r.h / 2 for r in rects) - 18
    width = max(r.x + r.w / 2 for r in rects) + 18 - left
    height = max(r.y + r.h / 2 for r in rects) + 18 - low
    return left, low, width, height


def _framed(boxes: dict[str, Box], lines: list[Line], labels: list[Label], left_out: int) -> Picture:
    """Everything moved so that the picture begins at its lower left corner, with a margin around it."""
    rects = [b.rect for b in boxes.values()] + [n.rect for n in labels] or [Rect(0, 0, 100, 100)]
    left, low, width, height = _extent(rects)
    for rect in rects:
        rect.x, rect.y = rect.x - left, rect.y - low
    for row in (row for box in boxes.values() for row in box.rows):
        row.x, row.y = row.x - left, row.y - low
    home = {n: (n, b.rect.x, b.rect.y) for n, b in boxes.items() if b.kind != "segment"}
    for key, box in boxes.items():
        home |= {row.device: (key, row.x, row.y) for row in box.rows}
    return Picture(boxes, lines, labels, home, width, height, left_out)


def _down_words(segment: Segment, interface: Interface) -> str:
    """Why an interface's cable carries nothing; empty when it does."""
    if segment.down:
        return "cut"
    return "" if interface.state is PortState.UP else interface.state.value


def _wire(network: Network, shown: dict[str, Device], boxes: dict[str, Box]) -> list[Line]:
    """The lines: a cable between two boxes is one; a segment with hosts, or more ends, becomes a box of its own."""
    lines: list[Line] = []
    for segment in network.segments.values():
        members = [(d, i) for d, i in segment.members if d in shown]
        ends = [(d, i) for d, i in members if d in boxes]
        states = {m: _down_words(segment, shown[m[0]].interfaces[m[1]]) for m in members}
        direct = len(members) == len(ends) == len(segment.members) == 2 and ends[0][0] != ends[1][0]
        if direct:
            why = ", ".join(dict.fromkeys(w for w in states.values() if w))
            lines.append(Line(ends[0][0], ends[1][0], segment.name, why))
        elif members:
            key = f"segment {segment.name}"
            boxes[key] = _segment_box(network, segment, [m for m in members if m not in ends], states)
            lines += [Line(name, key, segment.name, states[name, port]) for name, port in ends]
    _bow(lines)
    return lines


def _bow(lines: Sequence[Line]) -> None:
    """Bend the lines between the same two boxes apart."""
    together: dict[tuple[str, ...], list[Line]] = defaultdict(list)
    for line in lines:
        together[tuple(sorted((line.start, line.end)))].append(line)
    for group in together.values():
        for number, line in enumerate(group):
            line.bow = (number - (len(group) - 1) / 2) * 34


def _segment_box(network: Network, segment: Segment, hosts: list[tuple[str, str]], states: dict[tuple[str, str], str]) -> Box:
    """A segment as a box with the hosts on it; their addresses are shortened to what the subnet leaves open."""
    rows = []
    for name, port in hosts:
        words = " ".join([name, *map(host_part, network.devices[name].interfaces[port].addresses)])
        down = states[name, port]
        rows.append(Row(name, words + (f" [{down}]" if down else ""), down=bool(down)))
    box = _box(segment.name, "segment", (segment.name, *subnets(network, segment.members)), rows)
    box.down = segment.down
    return box


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


def _arranged(boxes: dict[str, Box], parts: list[dict[str, tuple[float, float]]], scale: tuple[float, float]) -> float:
    """Set the boxes at a scale, part beside part and pushed apart; return how far they reach across, in points."""
    offset = 0.0
    for spots in parts:
        for name, (x, y) in spots.items():
            boxes[name].rect.x, boxes[name].rect.y = x * scale[0], y * scale[1]
        rects = [boxes[n].rect for n in spots]
        _push_apart(rects)
        left, low = min(r.x - r.w / 2 for r in rects), min(r.y - r.h / 2 for r in rects)
        for rect in rects:
            rect.x, rect.y = rect.x - left + offset, rect.y - low
        offset = max(r.x + r.w / 2 for r in rects) + 60
    return max(0.0, offset - 60)


def _room(network: Network, boxes: dict[str, Box], line: Line) -> float:
    """How long a line must be outside its boxes, so that what is written beside it finds a place."""
    ports = dict(network.segments[line.segment].members)
    ends = [end_words(network.devices[k], ports[k]) for k in (line.start, line.end) if boxes[k].kind != "segment"]
    wide = max(text_width(w, SMALL) for end in ends for w in end)
    return 45 + wide * 0.4 if len(ends) == 1 else 110 + wide * 0.8


def _reach(box: Box) -> float:
    """About how far a box extends from its middle, in points."""
    return (box.rect.w + box.rect.h) / 4


def _springs(graph: nx.Graph[str], names: list[str]) -> dict[str, tuple[float, float]]:
    """Places by springs whose lengths are those of the lines; flat networks are turned to lie, not stand."""
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
    return spots


def _push_apart(rects: list[Rect]) -> None:
    """Move boxes that overlap away from each other, the shorter way, until none do or the patience ends."""
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


def count(network: Network, only: Collection[str] | None = None) -> int:
    """How many boxes a picture of the network, or of some of its devices, has."""
    shown, boxes = _device_boxes(network, only)
    _wire(network, shown, boxes)
    return len(boxes)
