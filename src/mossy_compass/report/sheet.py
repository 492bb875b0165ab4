"""What a drawn network is made of: boxes, rows, lines and labels with their places, in points, and the words on them.

The widths of words are computed and not measured: the face is monospaced, so a width is a
count of characters. That keeps the layout free of the drawing library, and the same on
every machine.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from mossy_compass.model.network import Device, Network
from mossy_compass.packet.address import InterfaceAddress

FONT = 9.0
SMALL = 7.2
ROW = 7.8
DOTS = 112.0
"""Sizes of type in points: names of boxes, what stands beside lines, and hosts; and pixels for each inch of 72 points, so that
the smallest words are 11 pixels high."""
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
class SheetRow:
    """A host inside a segment's box, or a far host in the box that stands for the world.

    Attributes:
        device: name of the host.
        words: what is written.
        x, y: where it begins, and the middle of its height.
        right: where it ends; a badge stands before that.
        down: drawn as out of order.

    """

    device: str
    words: str
    x: float = 0.0
    y: float = 0.0
    right: float = 0.0
    down: bool = False


@dataclass(slots=True)
class Port:
    """A port inside its device's box, on the side where its line leaves.

    Attributes:
        words: name and role with the end of the address; below it, sub-interfaces.
        right: it stands on the right side.
        x, y: the edge that its words begin or end at, and the height of its line.

    """

    words: tuple[str, ...]
    right: bool
    x: float = 0.0
    y: float = 0.0


@dataclass(slots=True)
class Box:
    """A device, or a segment with the hosts on it.

    Attributes:
        kind: a device's kind, or ``segment``.
        lines: its name and what is said under it.
        rows: hosts on a segment, in columns.
        ports: of a device, those whose lines leave at a side.

    """

    name: str
    kind: str
    lines: tuple[str, ...]
    rect: Rect
    rows: list[SheetRow] = field(default_factory=list)
    ports: list[Port] = field(default_factory=list)
    down: bool = False


@dataclass(slots=True)
class Label:
    """A few words beside a line.

    Attributes:
        words: one line of text.
        rect: where they stand.
        down: drawn as out of order.

    """

    words: str
    rect: Rect
    down: bool = False


@dataclass(slots=True)
class Line:
    """A cable between two boxes, by their keys.

    Attributes:
        start, end: keys of the boxes that it joins.
        segment: name of the cable.
        why_down: why nothing passes; empty when something does.
        points: its corners, from the edge of one box to that of the other; every piece is level or upright.

    """

    start: str
    end: str
    segment: str
    why_down: str = ""
    points: list[tuple[float, float]] = field(default_factory=list)


@dataclass(slots=True)
class Tie:
    """A tunnel between two devices, by the keys of their boxes.

    Attributes:
        start, end: of its two ends.

    """

    start: str
    end: str


@dataclass(slots=True)
class Picture:
    """Everything that is drawn, with its place.

    Attributes:
        boxes: by key: a device's name, or ``segment NAME``.
        home: for each device, the key of its box.
        width, height: of all, in points.
        ties: the tunnels.

    """

    boxes: dict[str, Box]
    lines: list[Line]
    labels: list[Label]
    home: dict[str, str]
    width: float
    height: float
    ties: list[Tie] = field(default_factory=list)

    def line_between(self, segment: str, *keys: str) -> Line | None:
        """The line that stands for a segment between two boxes, or a device and the segment's box."""
        return next((n for n in self.lines if n.segment == segment and {n.start, n.end} == set(keys)), None)


def text_width(words: str, size: float = FONT) -> float:
    """Width of a line of text in points. On a screen each letter of a monospaced face takes whole pixels."""
    scale = DOTS / 72
    return len(words) * round(size * scale * _WIDE) / scale


def host_part(entry: InterfaceAddress) -> str:
    """An address without what its subnet says already: ``.10``, or ``::10``."""
    text = str(entry.address)
    if entry.address.family == 4:
        whole = max(0, min(3, entry.length // 8))
        return "." + ".".join(text.split(".")[whole:])
    tail = text.rsplit(":", 1)[-1]
    return f"::{tail}" if entry.length >= 64 else text


def end_words(device: Device, name: str) -> tuple[str, ...]:
    """What is written of a port: the interface, its role and its host parts; under it its sub-interfaces."""
    interface = device.interfaces[name]
    zone = f" ({interface.zone})" if interface.zone and interface.zone != interface.name else ""
    parts = "".join(f" {host_part(a)}" for a in interface.addresses)
    below = [f"{i.name} {' '.join(map(str, i.addresses))}" for i in device.interfaces.values() if i.parent == name]
    return (interface.name + zone + parts, *below)


def subnets(network: Network, members: Iterable[tuple[str, str]]) -> list[str]:
    """The subnets on a segment, IPv4 first."""
    found = {a.prefix for d, i in members for a in network.devices[d].interfaces[i].addresses if not a.address.is_link_local}
    return [str(p) for p in sorted(found)]
