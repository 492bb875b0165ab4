"""What a drawn network is made of: boxes, rows, lines and labels with their places, in points, and the words on them.

The widths of words are computed and not measured: the face is monospaced, so a width is a
count of characters. That keeps the layout free of the drawing library, and the same on
every machine.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, field

from mossy_compass.model.network import Device, Network
from mossy_compass.packet.address import InterfaceAddress

FONT = 9.0
SMALL = 7.2
_WIDE = 0.602


@dataclass(slots=True)
class Rect:
    """A rectangle by its centre.

    Attributes:
        x, y: its centre, in points from the lower left.
        w, h: width and height in points.

    """

    x: float
    y: float
    w: float
    h: float

    def overlaps(self, other: Rect, pad: float = 0.0) -> bool:
        """True when the two, each widened by half of ``pad``, share a point."""
        return abs(self.x - other.x) * 2 < self.w + other.w + 2 * pad and abs(self.y - other.y) * 2 < self.h + other.h + 2 * pad


@dataclass(slots=True)
class Row:
    """A host inside a segment's box.

    Attributes:
        device: name of the host.
        words: what is written.
        x, y: where it begins, and the middle of its height.
        down: drawn as out of order.

    """

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
    """A few words beside a line.

    Attributes:
        words: lines of text.
        rect: where they stand.

    """

    words: str
    rect: Rect


@dataclass(slots=True)
class Line:
    """A cable between two boxes, by their keys.

    Attributes:
        start, end: keys of the boxes that it joins.
        segment: name of the cable.
        why_down: why nothing passes; empty when something does.
        bow: how far its middle is pushed aside, in points, where several lie side by side.

    """

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
