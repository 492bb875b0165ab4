"""Where the parts of a drawn network stand. Positions only, in points; ``drawing`` puts ink on them.

A segment with one router or switch hangs under it on a stem of its own, its hosts as rows. What joins several devices is
arranged: devices and shared segments in columns, cables as lines at right angles, each upright piece in a track between two
columns. Ports are rows inside the box of their device, on the side where the line leaves; a cable has one label, at one end. So
nothing needs to be pushed apart afterwards. Text is set in one monospaced face, so that every size is known without drawing.
The same network gives the same picture, with a journey or without.
"""

from __future__ import annotations

import math
import textwrap
from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from mossy_compass.model.network import Device, Interface, Kind, Network, PortState, Segment
from mossy_compass.report.columns import Joint, heights, ordered, parts_of, roots, tracks
from mossy_compass.report.sheet import (
    FONT,
    ROW,
    SMALL,
    Box,
    Label,
    Line,
    Picture,
    Port,
    Rect,
    SheetRow,
    Tie,
    end_words,
    host_part,
    subnets,
    text_width,
)

MOST_WIDE = 990.0
"""Points across that fit on a wide screen, at a size of text that can be read there: for grids."""
SCREEN = (800.0, 416.0)
"""Points of a usual screen, 1280 by 800 pixels, without margin, title, headline and legend."""
BADGE = 28.0
"""Points kept free in every row of a host for the badge of a journey's end, beside the margin of its box."""
_ROWS = 12
_LINE, _HOST = SMALL * 1.3, ROW * 1.42
_HEAD = 4 + FONT * 1.3
_GAP, _STEM, _TRACK, _PAD = 10.0, 3.2, 6.0, 4.0
_MOST_ROOTS = 18
Each = Callable[[Sequence[str]], Iterable[str]]
"""Goes through the roots that are tried, with a bar where somebody waits."""


@dataclass(slots=True)
class _Link:
    """A line to be: between two nodes of the arrangement.

    Attributes:
        ends: keys of the nodes; the left one first once columns are known.
        ports: the interface at each end; empty for a shared segment.
        segment: name of the cable.
        words: its label: name, then subnets; nothing for a line to a shared segment, whose box says both.
        why: why nothing passes.
        labelled: number of the end at which its label stands.
        at: height of each end below the top of its node.

    """

    ends: tuple[str, str]
    ports: tuple[str, str]
    segment: str
    words: tuple[str, ...] = ()
    why: str = ""
    labelled: int = 1
    at: list[float] = field(default_factory=lambda: [0.0, 0.0])


@dataclass(slots=True)
class _Node:
    """A box of the arrangement with what hangs under it.

    Attributes:
        box: the device, or the shared segment.
        device: the device; None for a segment.
        hanging: segments under it, each with the words of the port and why nothing passes.

    """

    box: Box
    device: Device | None = None
    hanging: list[tuple[str, tuple[str, ...], str, Box]] = field(default_factory=list)

    @property
    def inset(self) -> float:
        """How far what hangs under it stands to the right of its left edge: past the stems."""
        return _PAD + _STEM * len(self.hanging) + 3

    @property
    def width(self) -> float:
        """Points across, with what hangs under it and the words on its stems."""
        below = [self.inset + max(box.rect.w, *(text_width(w, SMALL) for w in words)) for _, words, _, box in self.hanging]
        return max(self.box.rect.w, *below) if below else self.box.rect.w

    @property
    def height(self) -> float:
        """Points downwards, likewise."""
        return self.box.rect.h + sum(4 + _LINE * len(words) + box.rect.h for _, words, _, box in self.hanging)


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


# --- what there is -----------------------------------------------------------------------------------------------


def _gathered(network: Network, only: Collection[str] | None) -> tuple[dict[str, _Node], list[_Link]]:
    """The nodes of the arrangement, with what hangs under them, and the links between them."""
    shown = {n: d for n, d in network.devices.items() if only is None or n in only}
    plugs = Counter(name for segment in network.segments.values() for name, _ in segment.members)
    nodes = {n: _Node(_device_box(d), d) for n, d in shown.items() if d.kind is not Kind.HOST or plugs[n] != 1}
    links = [link for segment in network.segments.values() for link in _of_segment(network, segment, shown, nodes)]
    return nodes, links


def _of_segment(network: Network, segment: Segment, shown: Mapping[str, Device], nodes: dict[str, _Node]) -> Iterator[_Link]:
    """The links of a segment: one between its two ends, or those to a box of its own; it hangs under what alone is on it."""
    members = [(d, i) for d, i in segment.members if d in shown]
    ends = [(d, i) for d, i in members if d in nodes]
    states = {m: _down_words(segment, shown[m[0]].interfaces[m[1]]) for m in members}
    if len(members) == len(ends) == len(segment.members) == 2 and ends[0][0] != ends[1][0]:
        why = ", ".join(dict.fromkeys(w for w in states.values() if w))
        words = (segment.name + (f" [{why}]" if why else ""), *subnets(network, segment.members))
        yield _Link((ends[0][0], ends[1][0]), (ends[0][1], ends[1][1]), segment.name, words, why)
        return
    if not members:
        return
    box = _segment_box(network, segment, [m for m in members if m not in ends], states)
    if len(ends) == 1:
        (name, port), why = ends[0], states[ends[0]]
        first, *below = end_words(shown[name], port)
        nodes[name].hanging.append((segment.name, (first + (f" [{why}]" if why else ""), *below), why, box))
        return
    nodes[f"segment {segment.name}"] = _Node(box)
    for name, port in ends:
        why = states[name, port]
        yield _Link((name, f"segment {segment.name}"), (port, ""), segment.name, (f"[{why}]",) if why else (), why)


def _down_words(segment: Segment, interface: Interface) -> str:
    """Why an interface's cable carries nothing; empty when it does."""
    if segment.down:
        return "cut"
    return "" if interface.state is PortState.UP else interface.state.value


_WIDE_ROW = 30
"""So many signs of a list of tunnels stand in one row of a box."""


def _device_box(device: Device) -> Box:
    """The box of a device, with its tunnels; its size follows when it is known which ports stand at which side."""
    words = (device.name, device.kind.value + (f", {device.zone}" if device.zone else ""))
    far: list[SheetRow] = []
    for host in device.far_hosts.values():
        first, *more = map(str, host.addresses)
        far.append(SheetRow(host.name, f"{host.name} {first}"))
        far += [SheetRow("", f"{' ' * len(host.name)} {address}") for address in more]
    names = [i.name for i in device.interfaces.values() if i.tunnel is not None]
    tunnels = textwrap.wrap(f"{'tunnels' if len(names) > 1 else 'tunnel'} {', '.join(names)}", _WIDE_ROW) if names else []
    if len(tunnels) == 1 and not device.zone:
        words, tunnels = (device.name, f"{device.kind.value}, {tunnels[0]}"), []
    return Box(device.name, device.kind.value, (*words, *tunnels), Rect(0, 0, 0, 0), far)


def _segment_box(network: Network, segment: Segment, hosts: list[tuple[str, str]], states: dict[tuple[str, str], str]) -> Box:
    """A segment as a box with the hosts on it; their addresses are shortened to what the subnet leaves open."""
    rows = []
    for name, port in hosts:
        words = " ".join([name, *map(host_part, network.devices[name].interfaces[port].addresses)])
        down = states[name, port]
        rows.append(SheetRow(name, words + (f" [{down}]" if down else ""), down=bool(down)))
    lines = (segment.name, *subnets(network, segment.members))
    box = Box(segment.name, "segment", lines, Rect(0, 0, 0, 0), rows, down=segment.down)
    across, deep = _grid(rows)
    box.rect.w = max(_head_width(lines), across) + 2 * _PAD
    box.rect.h = _head_height(lines) + deep + 4
    return box


def _grid(rows: Sequence[SheetRow]) -> tuple[float, float]:
    """Points across and downwards of rows of hosts; long lists go into columns."""
    columns, deep = _columns(rows)
    return columns * _row_width(rows), deep * _HOST


def _columns(rows: Sequence[SheetRow]) -> tuple[int, int]:
    """Into how many columns rows go, and how many of them are in one."""
    columns = math.ceil(len(rows) / _ROWS) or 1
    return columns, math.ceil(len(rows) / columns)


def _row_width(rows: Sequence[SheetRow]) -> float:
    """Points across of the widest row, with room for a badge."""
    return max((text_width(r.words, ROW) for r in rows), default=-BADGE) + BADGE


def _head_width(lines: Sequence[str]) -> float:
    """Points across of a box's name and what is said under it."""
    return max(text_width(line, SMALL if n else FONT) for n, line in enumerate(lines))


def _head_height(lines: Sequence[str]) -> float:
    """Points downwards of the same."""
    return _HEAD + (len(lines) - 1) * _LINE


# --- one arrangement ---------------------------------------------------------------------------------------------


@dataclass(slots=True)
class _Arranged:
    """A part of the network with a place for everything, in points to the right and downwards.

    Attributes:
        boxes, lines, labels: with their places.
        width, height: of all of it.
        bad: how far from what is wanted: over a screen, then crossings, then length of lines.

    """

    boxes: dict[str, Box]
    lines: list[Line]
    labels: list[Label]
    width: float
    height: float
    bad: tuple[float, int, float]


def _arrange(nodes: dict[str, _Node], links: list[_Link], root: str) -> _Arranged:
    """The arrangement from one root."""
    columns, crossings = ordered(root, [n.ends for n in links])
    if not links:
        columns = [[root]]
    level = {key: number for number, column in enumerate(columns) for key in column}
    place = {key: k for column in columns for k, key in enumerate(column)}
    for link in links:
        one, other = ((level[end], place[end]) for end in link.ends)
        if one > other:
            link.ends, link.ports = link.ends[::-1], link.ports[::-1]
    _choose_labels(links, level)
    sides = _sides(links, level, place)
    for key in level:
        _size(nodes[key], sides.get((key, False), []), sides.get((key, True), []))
    joints = [Joint(*link.ends, *link.at) for link in links]
    top = heights(columns, {k: nodes[k].height for k in level}, joints, _GAP)
    boxes, lines, labels = dict[str, Box](), list[Line](), list[Label]()
    x = 0.0
    for number, column in enumerate(columns):
        right = x
        for key in column:
            _settle(nodes[key], key, x, top[key], boxes, lines, labels)
            right = max(right, x + nodes[key].width)
        x = _wire([n for n in links if level[n.ends[0]] == number], nodes, (level, top), right, lines, labels)
    return _measured(boxes, lines, labels, crossings)


def _measured(boxes: dict[str, Box], lines: list[Line], labels: list[Label], crossings: int) -> _Arranged:
    """What was placed, with its size, and how far it is from what is wanted."""
    length = sum(abs(a[1] - b[1]) for n in lines for a, b in zip(n.points, n.points[1:], strict=False))
    rects = [b.rect for b in boxes.values()] + [n.rect for n in labels]
    corners = [x for line in lines for x, _ in line.points]
    width, height = max(*(r.x + r.w / 2 for r in rects), *corners, 0.0), max(r.y + r.h / 2 for r in rects)
    over = max(0.0, width / SCREEN[0] - 1) + max(0.0, height / SCREEN[1] - 1)
    return _Arranged(boxes, lines, labels, width, height, (round(over, 2), crossings, length + width + height))


def _choose_labels(links: Sequence[_Link], level: dict[str, int]) -> None:
    """Let the labels between two columns stand at the end where boxes have fewer lines, since each takes height there."""
    for number in set(level.values()):
        mine = [n for n in links if level[n.ends[0]] == number and level[n.ends[1]] == number + 1]
        counts = [defaultdict[str, int](int), defaultdict[str, int](int)]
        for link in mine:
            for end in (0, 1):
                counts[end][link.ends[end]] += 1
        most = [max(c.values(), default=0) for c in counts]
        for link in mine:
            link.labelled = 0 if most[0] < most[1] else 1
    for link in links:
        if level[link.ends[0]] == level[link.ends[1]]:
            link.labelled = 0


def _sides(links: Sequence[_Link], level: dict[str, int], place: dict[str, int]) -> dict[tuple[str, bool], list[tuple[_Link, int]]]:
    """The ends of links at each side of each node, from the top: in the order of what is at the other end."""
    out: dict[tuple[str, bool], list[tuple[_Link, int]]] = defaultdict(list)
    for link in links:
        same = level[link.ends[0]] == level[link.ends[1]]
        out[link.ends[0], True].append((link, 0))
        out[link.ends[1], same].append((link, 1))

    def rank(key: str) -> Callable[[tuple[_Link, int]], tuple[float, str]]:
        """Where the other end of a link stands."""

        def order(held: tuple[_Link, int]) -> tuple[float, str]:
            link, end = held
            other = link.ends[1 - end]
            if level[other] == level[key]:  # within one column: those that go up first, the nearest of them last
                return (-1e6 - place[other] if place[other] < place[key] else 1e6 - place[other]), link.segment
            return float(place[other]), link.segment

        return order

    for (key, _), held in out.items():
        held.sort(key=rank(key))
    return out


def _port(node: _Node, link: _Link, end: int) -> tuple[str, ...]:
    """What is written of a link's port within its node; nothing in a shared segment."""
    return end_words(node.device, link.ports[end]) if node.device is not None else ("",)


def _size(node: _Node, left: list[tuple[_Link, int]], right: list[tuple[_Link, int]]) -> None:
    """Size a box, and give each of its ports a height: rows one below the other at each side, with room for labels."""
    box = node.box
    box.ports.clear()
    across, deep = _grid(box.rows)
    head = _head_height(box.lines) + deep * bool(box.rows)
    low = head
    first = head if node.device is not None else 6.0  # a segment has no words of ports: its lines may come in anywhere
    for held, at_right in ((left, False), (right, True)):
        y = first
        for link, end in held:
            words = _port(node, link, end)
            label = len(link.words) if link.labelled == end else 0
            y += max(_LINE / 2, _LINE * 1.25 * bool(label))
            link.at[end] = y
            y += max(_LINE / 2 + (len(words) - 1) * _LINE, 3.5 + _LINE * (label - 1) if label else 0)
            if words != ("",):
                box.ports.append(Port(words, at_right, y=link.at[end]))
        low = max(low, y)
    if node.device is not None:
        box.rect.w = max(_head_width(box.lines), across * bool(box.rows), _ports_width(box.ports), 60.0) + 2 * _PAD
    box.rect.h = low + 4


def _ports_width(ports: Sequence[Port]) -> float:
    """Points across of ports at both sides, where words at one height must stand beside each other."""
    words = [(p.right, p.y + _LINE * n, text_width(w, SMALL)) for p in ports for n, w in enumerate(p.words)]
    alone = max((w for _, _, w in words), default=0.0)
    pairs = (a + b + 10 for right, y, a in words if not right for other, z, b in words if other and abs(y - z) < _LINE)
    return max(alone, *pairs, 0.0)


def _settle(node: _Node, key: str, x: float, y: float, boxes: dict[str, Box], lines: list[Line], labels: list[Label]) -> None:
    """Give a box its place, and what hangs under it; ``x`` and ``y`` are its upper left corner."""
    _put(node.box, x, y)
    boxes[key] = node.box
    y += node.box.rect.h
    count = len(node.hanging)
    for number, (segment, words, why, box) in enumerate(node.hanging):
        stem = x + _PAD + _STEM * (count - 1 - number)
        left = x + node.inset
        y += 4
        for n, line in enumerate(words):
            wide = text_width(line, SMALL)
            labels.append(Label(line, Rect(left + 1 + wide / 2, y + _LINE * (n + 0.5), wide, SMALL), bool(why) and n == 0))
        y += _LINE * len(words)
        _put(box, left, y)
        boxes[f"segment {segment}"] = box
        at = y + min(box.rect.h / 2, _HEAD - 4)
        lines.append(
            Line(key, f"segment {segment}", segment, why, [(stem, node.box.rect.y + node.box.rect.h / 2), (stem, at), (left, at)])
        )
        y += box.rect.h


def _put(box: Box, x: float, y: float) -> None:
    """Give a box its upper left corner, and its rows and ports theirs."""
    box.rect.x, box.rect.y = x + box.rect.w / 2, y + box.rect.h / 2
    columns, deep = _columns(box.rows)
    wide = (box.rect.w - 2 * _PAD) / columns
    for number, row in enumerate(box.rows):
        row.x = x + _PAD + (number // deep) * wide
        row.right = row.x + wide
        row.y = y + _head_height(box.lines) + (number % deep + 0.5) * _HOST
    for port in box.ports:
        port.x = x + box.rect.w - _PAD + 1 if port.right else x + _PAD - 1
        port.y += y


def _wire(
    links: Sequence[_Link],
    nodes: dict[str, _Node],
    places: tuple[dict[str, int], dict[str, float]],
    right: float,
    lines: list[Line],
    labels: list[Label],
) -> float:
    """Lay the links that begin in a column, and set their labels; gives where the next column begins.

    Args:
        links: those of the column, to itself or to the next.
        nodes: of the part; those of this column have their place.
        places: the column and the top of every node.
        right: how far the column reaches.
        lines, labels: where they are put.

    """
    level, top = places
    spans = [(top[n.ends[0]] + n.at[0], top[n.ends[1]] + n.at[1]) for n in links]
    taken = tracks(spans)

    def edge(link: _Link) -> float:
        """The right edge of the box that a link begins at."""
        rect = nodes[link.ends[0]].box.rect
        return rect.x + rect.w / 2

    def wide(end: int) -> float:
        """Points across of the widest label at an end."""
        return max((max(text_width(w, SMALL) for w in n.words) + 7 for n in links if n.words and n.labelled == end), default=6.0)

    start = max([right + 4, *(edge(n) + wide(0) for n in links if n.words and n.labelled == 0)])
    following = start + _TRACK * (max(taken, default=-1) + 1) + wide(1)
    for link, (y, end_y), track in zip(links, spans, taken, strict=True):
        same = level[link.ends[0]] == level[link.ends[1]]
        first, upright = edge(link), start + _TRACK * (max(track, 0) + 0.5)
        rect = nodes[link.ends[1]].box.rect
        last = rect.x + rect.w / 2 if same else following
        points = (
            [(first, y), (last, end_y)] if track < 0 and not same else [(first, y), (upright, y), (upright, end_y), (last, end_y)]
        )
        if track < 0 and not same:  # level within the tolerance: drawn level
            points[1] = (last, y)
        lines.append(Line(*link.ends, link.segment, link.why, points))
        at = y if link.labelled == 0 else points[-1][1]
        for number, words in enumerate(link.words):
            width = text_width(words, SMALL)
            middle = first + 4 + width / 2 if link.labelled == 0 else following - 4 - width / 2
            height = at - _LINE * 0.8 if number == 0 else at + 2.5 + _LINE * (number - 0.4)
            labels.append(Label(words, Rect(middle, height, width, SMALL), bool(link.why) and number == 0))
    return following


# --- the best of several -----------------------------------------------------------------------------------------


def place(network: Network, only: Collection[str] | None = None, each: Each = iter) -> Picture:
    """Lay a network out.

    Args:
        network: what to draw.
        only: names of the devices to draw; all when None.
        each: goes through the arrangements that are tried, for a bar where somebody waits.

    """
    nodes, links = _gathered(network, only)
    made: list[_Arranged] = []
    for part in parts_of(list(nodes), [n.ends for n in links]):
        keys = set(part)
        held, own = {k: nodes[k] for k in part}, [n for n in links if n.ends[0] in keys]
        tried = [(_arrange(held, own, root).bad, root) for root in each(roots(part, [n.ends for n in own], _MOST_ROOTS))]
        made.append(_arrange(held, own, min(tried)[1]))  # boxes are placed anew each time: the best one is made last
    picture = _framed(made)
    picture.ties = list(_ties(network, picture.home))
    return picture


def _ties(network: Network, home: Mapping[str, str]) -> Iterator[Tie]:
    """The tunnels of which both ends are drawn, each once; one whose other end says something else is drawn from its own side."""
    seen: set[frozenset[tuple[str, str]]] = set()
    for device in (d for d in network.devices.values() if d.name in home):
        for interface in device.interfaces.values():
            tunnel = interface.tunnel
            other = network.owner_of(tunnel.to) if tunnel is not None else None
            if tunnel is None or other is None or other not in home or other == device.name:
                continue
            own, there = device.addresses_at(tunnel.by), network.devices.get(other)
            twins = [i for i in there.interfaces.values() if i.tunnel is not None] if there is not None else []
            if not twins:  # it only stands for the other end, or says nothing of a tunnel
                continue
            twin = next((i for i in twins if i.tunnel is not None and i.tunnel.kind is tunnel.kind and i.tunnel.to in own), None)
            pair = frozenset(((device.name, interface.name), (other, twin.name if twin is not None else "")))
            if pair not in seen:
                seen.add(pair)
                yield Tie(home[device.name], home[other])


def _framed(made: Sequence[_Arranged]) -> Picture:
    """The parts beside and below one another, in a picture with a margin whose heights are counted upwards."""
    margin, x, y, deep, wide = 8.5, 0.0, 0.0, 0.0, 0.0
    boxes, lines, labels = dict[str, Box](), list[Line](), list[Label]()
    for part in made:
        if x and x + part.width > SCREEN[0]:
            x, y, deep = 0.0, y + deep + 24, 0.0
        _move(part, x + margin, y + margin)
        boxes |= part.boxes
        lines += part.lines
        labels += part.labels
        deep, wide = max(deep, part.height), max(wide, x + part.width)
        x += part.width + 30
    width, height = max(wide, 60.0) + 2 * margin, max(y + deep, 40.0) + 2 * margin
    for box in boxes.values():
        box.rect.y = height - box.rect.y
        for row in box.rows:
            row.y = height - row.y
        for port in box.ports:
            port.y = height - port.y
    for label in labels:
        label.rect.y = height - label.rect.y
    for line in lines:
        line.points = [(px, height - py) for px, py in line.points]
    home = {n: n for n, b in boxes.items() if b.kind != "segment"}
    home |= {row.device: key for key, box in boxes.items() for row in box.rows if row.device}
    return Picture(boxes, lines, labels, home, width, height)


def _move(part: _Arranged, dx: float, dy: float) -> None:
    """Move everything of a part."""
    for box in part.boxes.values():
        box.rect.x, box.rect.y = box.rect.x + dx, box.rect.y + dy
        for row in box.rows:
            row.x, row.right, row.y = row.x + dx, row.right + dx, row.y + dy
        for port in box.ports:
            port.x, port.y = port.x + dx, port.y + dy
    for label in part.labels:
        label.rect.x, label.rect.y = label.rect.x + dx, label.rect.y + dy
    for line in part.lines:
        line.points = [(x + dx, y + dy) for x, y in line.points]


def count(network: Network, only: Collection[str] | None = None) -> int:
    """How many boxes a picture of the network, or of some of its devices, has."""
    nodes, _ = _gathered(network, only)
    return len(nodes) + sum(len(n.hanging) for n in nodes.values())
