"""Ink on a layout: the network, and a journey's path on it. The one file that knows matplotlib.

Sizes are in points, and 72 of them are an inch at the resolution that ``DOTS`` gives; so
the smallest words are 11 pixels high on a screen. Colours are never the only sign: lines
differ in their dashes, firewalls in their border, fates in a badge of words.
"""

from __future__ import annotations

import io
import itertools
import math
import textwrap
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from mossy_compass.plan.reasons import Fate
from mossy_compass.report import drilltext, sentences
from mossy_compass.report.layout import BADGE, MOST_WIDE
from mossy_compass.report.sheet import DOTS, FONT, ROW, SMALL, Box, Line, Picture, Tie, text_width
from mossy_compass.report.timeline import Painted, Timeline, TimelineRow, timeline
from mossy_compass.safe import safe
from mossy_compass.walk.grid import Cell, Changes, Grid
from mossy_compass.walk.journey import Journey, Leg, Way

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from mossy_compass.lab.drill import Report
    from mossy_compass.lab.sweep import Sweep

INK = "#24312a"
PAPER = "#fbfaf4"
_FILL = {
    "router": ("#dfead6", "#4b6b3c"),
    "firewall": ("#f4dccb", "#9a4a1f"),
    "host": ("#ffffff", "#6b6f68"),
    "switch": ("#e6e6f2", "#5a5a8c"),
    "internet": ("#dcebf2", "#336b87"),
    "segment": ("#f3f0e3", "#a39b7b"),
}
_THERE, _BACK, _LATER, _DOWN = "#1f5fa8", "#b0721b", "#7b3f98", "#b3261e"
_FACE = "DejaVu Sans Mono"
PLAIN: Any = {"svg.hashsalt": "mossy", "svg.fonttype": "none", "text.parse_math": False}
"""The same bytes each time; text stays text, and a dollar sign is a dollar sign."""
MOST_PIXELS = 12_000


def _write(target: Axes | Figure, x: float, y: float, words: str, **style: Any) -> None:
    """Set words, made safe, in the one face of every picture; in the middle of their height unless told otherwise."""
    target.text(x, y, safe(words), **{"family": _FACE, "va": "center", **style})


@contextmanager
def _sheet(wide: float, high: float) -> Iterator[tuple[Figure, Axes]]:
    """An empty sheet, in points from its upper left corner."""
    import matplotlib
    from matplotlib.figure import Figure

    with matplotlib.rc_context(PLAIN):
        figure = Figure(figsize=(wide / 72, high / 72), facecolor=PAPER)
        axes = figure.add_axes((0, 0, 1, 1))
        axes.set_xlim(0, wide)
        axes.set_ylim(high, 0)
        axes.set_axis_off()
        yield figure, axes


def _bytes(figure: Figure, form: str, longest: float) -> bytes:
    """A figure as a file's bytes, at the size for a screen unless that would be too large to be opened."""
    stream = io.BytesIO()
    dots = min(DOTS, MOST_PIXELS * 72 / longest)
    # large areas of one colour: packing them harder takes a tenth of the whole time and saves little
    more: Any = (
        {"metadata": {"Date": None}} if form == "svg" else {"metadata": {"Software": None}, "pil_kwargs": {"compress_level": 2}}
    )
    figure.savefig(stream, format=form, dpi=dots, **more)
    return stream.getvalue()


def draw(axes: Axes, picture: Picture, journey: Journey | None = None) -> None:
    """Draw a laid-out network, and a journey's legs over it, on the given axes.

    Args:
        axes: matplotlib's, to be drawn on.
        picture: with a place for everything.
        journey: drawn over the network; None for none.

    """
    axes.set_xlim(0, picture.width)
    axes.set_ylim(0, picture.height)
    axes.set_axis_off()
    for line in picture.lines:
        _line(axes, line)
    for number, tie in enumerate(picture.ties):
        _tie(axes, picture, tie, number)
    for leg in _legs(journey) if journey else ():
        _leg(axes, picture, leg)
    for box in picture.boxes.values():
        _box(axes, box)
    for label in picture.labels:
        colour = _DOWN if label.down else _PALE
        _write(axes, label.rect.x, label.rect.y, label.words, size=SMALL, color=colour, ha="center", zorder=3)
    if journey:
        _ends(axes, picture, journey)


_PALE = "#59605a"
_TUNNEL = "#5f6f2e"


def _line(axes: Axes, line: Line) -> None:
    """A cable under everything else; one that carries nothing is dotted and red."""
    colour, style = (_DOWN, (0, (2, 3))) if line.why_down else ("#8b8f86", "solid")
    xs, ys = zip(*line.points, strict=True)
    axes.plot(xs, ys, color=colour, linestyle=style, linewidth=1.1, zorder=1)


def _tie(axes: Axes, picture: Picture, tie: Tie, number: int) -> None:
    """A tunnel: a bow between the boxes of its two ends, under everything else; what it is called stands in the boxes. Further ones bow further."""
    start, end = (picture.boxes[key].rect for key in (tie.start, tie.end))
    wide, high = end.x - start.x, end.y - start.y
    long = math.hypot(wide, high) or 1.0
    bow = min(42.0, long / 4) + 9.0 * (number % 3)
    # to the upper side, or to the left where one stands above the other, so that it is clear of the cable between them
    across, up = (-high / long, wide / long) if wide > 0 or (not wide and high < 0) else (high / long, -wide / long)
    top = start.x + wide / 2 + across * bow, start.y + high / 2 + up * bow
    steps = [n / 24 for n in range(25)]
    xs, ys = (
        [(1 - t) ** 2 * a + 2 * t * (1 - t) * (2 * m - (a + b) / 2) + t * t * b for t in steps]
        for a, m, b in ((start.x, top[0], end.x), (start.y, top[1], end.y))
    )
    axes.plot(xs, ys, color=_TUNNEL, linewidth=2.2, linestyle=(0, (1, 1.4)), zorder=0.8)


def _box(axes: Axes, box: Box) -> None:
    """A device, or a segment with its hosts."""
    from matplotlib.patches import FancyBboxPatch

    fill, edge = _FILL[box.kind]
    wall = box.kind == "firewall"
    r = box.rect
    axes.add_patch(
        FancyBboxPatch(
            (r.x - r.w / 2 + 3, r.y - r.h / 2 + 3),
            r.w - 6,
            r.h - 6,
            boxstyle="square,pad=3" if wall else "round,pad=3,rounding_size=3.5",
            facecolor=fill,
            edgecolor=_DOWN if box.down else edge,
            linestyle="--" if box.down else "-",
            linewidth=2.2 if wall else 1.1,
            zorder=4,
        )
    )
    y = r.y + r.h / 2 - 4 - FONT * 0.65
    for number, line in enumerate(box.lines):
        size, weight = (SMALL, "normal") if number else (FONT, "bold")
        _write(axes, r.x, y, line, size=size, weight=weight, color=INK if not number else _PALE, ha="center", zorder=5)
        y -= SMALL * 1.3 if number else FONT * 0.65 + SMALL * 0.65
    for row in box.rows:
        _write(axes, row.x, row.y, row.words, size=ROW, color=_DOWN if row.down else INK, ha="left", zorder=6)
    for port in box.ports:
        for number, words in enumerate(port.words):
            side = "right" if port.right else "left"
            _write(axes, port.x, port.y - SMALL * 1.3 * number, words, size=SMALL, color=INK, ha=side, zorder=5)


def _legs(journey: Journey) -> list[Leg]:
    """The legs that are drawn: there and home, and the way of a later packet where one decided."""
    later = [leg for leg in (journey.later,) if leg is not None]
    return [*journey.whole, *(leg for leg in later if leg not in journey.whole)]


def _route(picture: Picture, leg: Leg) -> list[list[_Point]]:
    """The strokes of a leg, one for each line that it goes along."""
    strokes: list[list[_Point]] = []
    for hop in leg.hops:
        if hop.outer is not None:  # what goes into a tunnel takes the way of the packet that carries it
            strokes += _route(picture, hop.outer)
        elif hop.next_device is not None and hop.segment is not None:
            stops = [hop.device, *(name for name in hop.bridges if name in picture.home), hop.next_device]
            for start, end in itertools.pairwise(stops):
                strokes += _crossing(picture, start, end, hop.segment.split(" ")[0])
    return strokes


def _crossing(picture: Picture, start: str, end: str, segment: str) -> Iterator[list[_Point]]:
    """The lines of a leg's way over one segment, each from the box where it begins; nothing within one box."""
    if start not in picture.home or end not in picture.home or picture.home[start] == picture.home[end]:
        return
    for left, right in itertools.pairwise(_shortest(picture, picture.home[start], picture.home[end], segment)):
        found = [n for n in picture.lines if {n.start, n.end} == {left, right}]
        line = next((n for n in found if n.segment == segment), found[0])
        yield line.points if line.start == left else line.points[::-1]


def _shortest(picture: Picture, start: str, end: str, segment: str) -> list[str]:
    """The boxes from one to another; through switches where there are some, by the named segment where it can be."""
    from collections import deque

    near: dict[str, list[str]] = {}
    for line in sorted(picture.lines, key=lambda n: n.segment != segment):
        near.setdefault(line.start, []).append(line.end)
        near.setdefault(line.end, []).append(line.start)
    came: dict[str, str] = {start: start}
    queue = deque([start])
    while queue and end not in came:
        here = queue.popleft()
        if here != start and picture.boxes[here].kind not in ("segment", "switch"):
            continue
        for other in near.get(here, ()):
            if other not in came:
                came[other] = here
                queue.append(other)
    if end not in came:
        return [start, end] if picture.line_between(segment, start, end) else []
    path = [end]
    while path[-1] != start:
        path.append(came[path[-1]])
    return path[::-1]


_WAYS: dict[Way, tuple[str, Any, float, float]] = {
    Way.THERE: (_THERE, "solid", 2.2, 2.5),
    Way.LATER: (_LATER, (0, (1.5, 1.5)), 1.5, 2.6),
}
"""Colour, stroke, width and layer of a leg's way; every other is one home. A later packet goes as dots on the first one's way."""


def _leg(axes: Axes, picture: Picture, leg: Leg) -> None:
    """A leg as a coloured way, with an arrow on each line."""
    colour, style, width, layer = _WAYS.get(leg.way, (_BACK, (0, (4, 2)), 2.2, 2.4))
    for path in _route(picture, leg):
        points = _shifted(path, 2.2)
        xs, ys = zip(*points, strict=True)
        axes.plot(xs, ys, color=colour, linewidth=width, linestyle=style, zorder=layer, solid_joinstyle="miter")
        (ax, ay), (bx, by) = max(itertools.pairwise(points), key=lambda p: abs(p[1][0] - p[0][0]) + abs(p[1][1] - p[0][1]))
        axes.annotate(
            "",
            xy=(ax + (bx - ax) * 0.62, ay + (by - ay) * 0.62),
            xytext=(ax + (bx - ax) * 0.5, ay + (by - ay) * 0.5),
            arrowprops={"arrowstyle": "-|>", "color": colour, "linewidth": 1.8, "mutation_scale": 11},
            zorder=3.5,
        )


_Point = tuple[float, float]


def _shifted(points: Sequence[_Point], side: float) -> list[_Point]:
    """A way moved to its own left, so that there and back do not hide each other; corners stay corners."""
    moved = []
    pieces = list(itertools.pairwise(points))
    for number, (x, y) in enumerate(points):
        dx = dy = 0.0
        for (ax, ay), (bx, by) in pieces[max(0, number - 1) : number + 1]:
            if abs(bx - ax) >= abs(by - ay):
                dy = side if bx > ax else -side
            else:
                dx = -side if by > ay else side
        moved.append((x + dx, y + dy))
    return moved


def _ends(axes: Axes, picture: Picture, journey: Journey) -> None:
    """Badges where the journey began and where it ended."""
    leg = journey.deciding
    good = journey.answered
    start = journey.sender if journey.sender in picture.home else journey.there.hops[0].device
    if start in picture.home:
        _badge(axes, picture, start, "start", _THERE)
    target = journey.target if journey.target in picture.home else _who_has(picture, journey) or journey.there.end
    end = target if good and target in picture.home else leg.end
    if end in picture.home:
        words = "answers" if good else sentences.verdict_word(journey).lower().removeprefix("answer ")
        _badge(axes, picture, end, words, "#2e7d32" if good else _DOWN, second=end == start)


def _who_has(picture: Picture, journey: Journey) -> str:
    """The far host whose row has the address that was asked for; a name may stand for it."""
    address = str(journey.there.packet.destination)
    held: dict[str, str] = {}
    for box in picture.boxes.values():
        name = ""
        for row in box.rows:
            name = row.device or name  # further addresses stand in rows below the name
            held |= dict.fromkeys(row.words.split()[1 if row.device else 0 :], name)
    return held.get(address, "")


def _badge(axes: Axes, picture: Picture, device: str, words: str, colour: str, second: bool = False) -> None:
    """A word on colour: at the end of a host's row, which has room for it, or on the upper edge of a device's box.

    A second one at the same place stands below the first, or beside it.
    """
    box = picture.boxes[picture.home[device]]
    row = next((r for r in box.rows if r.device == device), None)
    half = text_width(words, SMALL) / 2 + 2
    if row is not None:
        at = (row.right - BADGE + 2 + half, row.y - (SMALL + 4) * second)
    else:
        at = (box.rect.x + (box.rect.w / 2 - half) * second, box.rect.y + box.rect.h / 2 + 2.5)
    _write(
        axes,
        *at,
        words,
        size=SMALL,
        weight="bold",
        color="white",
        ha="center",
        zorder=8,
        bbox={"boxstyle": "round,pad=0.2", "facecolor": colour, "edgecolor": "white", "linewidth": 0.8},
    )


_KINDS = {
    "router": "router",
    "firewall": "firewall",
    "host": "host on several segments",
    "switch": "switch",
    "internet": "the world",
    "segment": "segment: subnets, hosts",
}
SWATCH = 11.0
"""Points of a sample of a colour in the legend."""


def _legend(picture: Picture, journey: Journey | None) -> str:
    """What the lines in this picture mean, and nothing that is not in it."""
    parts = ["at a line: port (zone), end of address"]
    if any(line.why_down for line in picture.lines) or any(box.down for box in picture.boxes.values()):
        parts.append("red, dotted: down, [why]")
    parts += ["olive: tunnel"] if picture.ties else []
    if journey:
        ways = {leg.way for leg in _legs(journey)}
        parts.append("blue: there" + ("; ochre, dashed: back" if ways - {Way.THERE, Way.LATER} else ""))
        parts += ["violet: later packet"] if Way.LATER in ways else []
    if picture.height > TALL or picture.width > MOST_WIDE:
        parts.append("for a part: --around DEVICE")
    return "; ".join(parts)


def _legend_line(figure: Figure, picture: Picture, words: str, wide: float, high: float) -> None:
    """The legend in one line: a sample of each colour with its word, then what the lines mean."""
    from matplotlib.patches import Rectangle

    x, y = 14.0, 10.0
    kinds = {b.kind for b in picture.boxes.values()}
    for kind, word in _KINDS.items():
        if kind in kinds:
            fill, edge = _FILL[kind]
            width = 2.0 if kind == "firewall" else 1.0
            sample = Rectangle((x / wide, (y - 4) / high), SWATCH / wide, 8 / high, facecolor=fill, edgecolor=edge, linewidth=width)
            figure.add_artist(sample)
            _write(figure, (x + SWATCH + 3) / wide, y / high, word, size=SMALL, color=_FAINT)
            x += SWATCH + 3 + text_width(word, SMALL) + 9
    _write(figure, (x + 6) / wide, y / high, words, size=SMALL, color=_FAINT)


def _legend_width(picture: Picture, words: str) -> float:
    """Points across of the legend."""
    kinds = {b.kind for b in picture.boxes.values()}
    return 36 + text_width(words, SMALL) + sum(SWATCH + 12 + text_width(w, SMALL) for k, w in _KINDS.items() if k in kinds)


_FAINT = "#6b6f68"
LONG = 240
"""A headline of more signs takes the whole width of a screen, for every line of it makes the picture higher."""
SCREEN = 820.0
TALL = 640.0
"""Points of height from which on a picture says how to draw a part of it."""


def render(picture: Picture, title: str, form: str, journey: Journey | None = None) -> bytes:
    """The picture as the bytes of a PNG or SVG file; the same input gives the same bytes.

    Args:
        picture: with a place for everything.
        title: the first line.
        form: ``png`` or ``svg``.
        journey: drawn over the network, its headline under the title.

    """
    import matplotlib
    from matplotlib.figure import Figure

    headline = safe(sentences.headline(journey)) if journey else ""
    legend = _legend(picture, journey)
    wide = max(
        picture.width, _legend_width(picture, legend), text_width(title, FONT + 3) + 28, SCREEN if len(headline) > LONG else 480.0
    )
    cut = textwrap.wrap(headline, int((wide - 28) / (FONT * 0.602)))
    top = 24 + len(cut) * FONT * 1.3
    foot = 18.0
    high = picture.height + top + foot
    with matplotlib.rc_context(PLAIN | {"path.simplify": False}):
        figure = Figure(figsize=(wide / 72, high / 72), facecolor=PAPER)
        axes = figure.add_axes((0, foot / high, picture.width / wide, picture.height / high))
        draw(axes, picture, journey)
        _write(figure, 14 / wide, 1 - 15 / high, title, size=FONT + 3, weight="bold", color=INK)
        fate = journey is None or (journey.fate is Fate.DELIVERED and journey.answered)
        for number, words in enumerate(cut):
            at = 1 - (30 + number * FONT * 1.35) / high
            _write(figure, 14 / wide, at, words, size=FONT, color="#2e7d32" if fate else _DOWN)
        _legend_line(figure, picture, legend, wide, high)
        return _bytes(figure, form, max(wide, high))


_CELL_H, _OVERHANG = 16.0, 84.0
_SLANT = 33
_Column = tuple[str, str]


def _panels(columns: list[_Column], room: int) -> list[list[_Column]]:
    """The columns in panels of so many at most, one below the other; what goes to one target stays together where it can."""
    out: list[list[_Column]] = []
    for _, group in itertools.groupby(columns, key=lambda c: c[0]):
        services = list(group)
        if not out or len(out[-1]) + len(services) > room:
            out.append([])
        for column in services:
            if len(out[-1]) == room:
                out.append([])
            out[-1].append(column)
    return [panel for panel in out if panel]


def _fill(cell: Cell | None) -> str:
    """The colour of a cell: answered, lost there, lost back, or none."""
    if cell is None:
        return "#e9e7df"
    return "#cfe6cf" if cell.answered else "#f6d5cf" if cell.lost == "there" else "#f7e3c3"


_LOST, _MOVED, _GAINED = "#e3a79b", "#f0d79a", "#a9cfa9"


def render_grid(grid: Grid, title: str, form: str, changes: Changes | None = None) -> bytes:
    """A grid as a picture: sources down, targets and services across, the cause in every cell that fails.

    What does not fit across a screen goes on below, in further panels with the same sources.

    Args:
        grid: the tests.
        title: the first line.
        form: ``png`` or ``svg``.
        changes: how it differs from an earlier one: then only rows and columns in which something does are drawn.

    """
    marks = _marks(changes) if changes is not None else None
    if marks:
        grid = _where_it_changes(grid, marks)
    left = max(text_width(s, SMALL) for s in grid.sources) + 26
    cell_w = max(44.0, max(text_width(c.words, SMALL) for c in grid.cells) + 8)
    panels = _panels(list(grid.columns), max(1, int((MOST_WIDE - left - _OVERHANG) / cell_w)))
    head = 24 + max(text_width(f"{t}  {s}", SMALL) for t, s in grid.columns) * math.sin(math.radians(_SLANT))
    deep = head + _CELL_H * len(grid.sources)
    wide = max(left + cell_w * max(map(len, panels)) + _OVERHANG, 600.0)
    high = 48 + deep * len(panels) + 34
    good = sum(c.answered for c in grid.cells)
    with _sheet(wide, high) as (figure, axes):
        _write(axes, 14, 18, title, size=FONT + 3, weight="bold", color=INK)
        _write(
            axes, 14, 36, f"{good} of {len(grid.cells)} tests are answered" if marks is None else _told(marks), size=FONT, color=INK
        )
        for number, panel in enumerate(panels):
            _panel(axes, grid, panel, left, 48 + deep * number + head, cell_w, marks)
        legend = _LEGEND if marks is None else _LEGEND_OF_CHANGES
        _write(axes, 14, high - 14, legend, size=SMALL, color="#6b6f68")
        return _bytes(figure, form, max(wide, high))


_LEGEND = "green: answered; red: lost on the way there; sand: delivered, the answer was lost (back:); grey: itself"
_LEGEND_OF_CHANGES = "framed: closed (red), opened (green), otherwise (sand), with what holds now; pale: as before"


def _marks(changes: Changes) -> dict[tuple[str, str, str], str]:
    """The colour of every cell that changed: closed, opened, or otherwise; new cells count by what they are."""
    made = {new.key: _MOVED for _, new in changes.rerouted}
    for old, new in changes.changed:
        made[new.key] = _MOVED if old.answered == new.answered else _GAINED if new.answered else _LOST
    made.update({cell.key: _GAINED if cell.answered else _MOVED for cell in changes.come})
    return made


def _told(marks: dict[tuple[str, str, str], str]) -> str:
    """How many cells changed, and how."""
    found = list(marks.values())
    counts = [(found.count(_LOST), "close"), (found.count(_GAINED), "open"), (found.count(_MOVED), "end differently")]
    return ", ".join(f"{number} tests {verb}" for number, verb in counts if number) or "every test ends as before"


def _where_it_changes(grid: Grid, marks: dict[tuple[str, str, str], str]) -> Grid:
    """The rows and columns of a grid in which something changed."""
    sources = {s for s, _, _ in marks}
    columns = {(t, w) for _, t, w in marks}
    held = tuple(c for c in grid.cells if c.source in sources and (c.target, c.service) in columns)
    return Grid(held, tuple(c for c in grid.columns if c in columns))


def _panel(
    axes: Axes,
    grid: Grid,
    columns: list[_Column],
    left: float,
    top: float,
    cell_w: float,
    marks: dict[tuple[str, str, str], str] | None = None,
) -> None:
    """Some of a grid's columns, with every source, from a place downwards; the headings stand above it."""
    from matplotlib.patches import Rectangle

    known = grid.by_key()
    for number, (target, service) in enumerate(columns):
        x = left + cell_w * (number + 0.35)
        _write(
            axes,
            x,
            top - 4,
            f"{target}  {service}",
            size=SMALL,
            rotation=_SLANT,
            ha="left",
            va="bottom",
            rotation_mode="anchor",
            color=INK,
        )
    for row, source in enumerate(grid.sources):
        y = top + _CELL_H * row
        _write(axes, left - 8, y + _CELL_H / 2, source, size=SMALL, ha="right", color=INK)
        for number, column in enumerate(columns):
            cell = known.get((source, *column))
            corner = (left + cell_w * number + 1, y + 1)
            mark = marks.get((source, *column)) if marks is not None else None
            fill, edge, ink = (_fill(cell), "none", INK) if marks is None else (mark or PAPER, INK if mark else "#dddad0", INK)
            if marks is not None and mark is None:
                ink = "#8d918a"
            axes.add_patch(Rectangle(corner, cell_w - 2, _CELL_H - 2, facecolor=fill, edgecolor=edge, linewidth=0.8))
            if cell is not None:
                _write(axes, left + cell_w * (number + 0.5), y + _CELL_H / 2, cell.words, size=SMALL, ha="center", color=ink)


_PAINT = {
    Painted.UP: "#a9cfa9",
    Painted.DOWN: "#e3a79b",
    Painted.FAULT: "#e3a79b",
    Painted.USED: "#c9d8ea",
    Painted.HOLDS: "#4b6b3c",
    Painted.BARRED: "#4b6b3c",
    Painted.FAILS: _DOWN,
    Painted.PASSES: _THERE,
    Painted.LOST: _DOWN,
    Painted.EVENT: INK,
}
_STEP = 16.0
_ROWS_HIGH = 395.0
"""Points for all rows of a drill's time, so that the picture fits a screen."""


def render_timeline(report: Report, title: str, form: str) -> bytes:
    """A drill over its time: what had failed, how probes were, which uplink was in use, what was sent, and what held.

    Args:
        report: what came of the drill.
        title: the first line.
        form: ``png`` or ``svg``.

    """
    made = timeline(report)
    labels = [_cut(r.label, 52) for r in made.rows]
    left = max((text_width(words, SMALL) for words in labels), default=60) + 26
    step = min(_STEP * 2, max(6.0, (SCREEN - left - 20) / max(made.end, 1)))
    wide, top = max(left + step * made.end + 20, 640.0), 78.0
    tall = max(11.5, min(15.0, _ROWS_HIGH / max(len(made.rows), 1)))
    high = top + tall * len(made.rows) + 34
    with _sheet(wide, high) as (figure, axes):
        _write(axes, 14, 16, title, size=FONT + 3, weight="bold", color=INK)
        _write(axes, 14, 34, drilltext.head(report), size=FONT, color=INK)
        _steps(axes, made, (left, step, top, high))
        for number, (row, label) in enumerate(zip(made.rows, labels, strict=True)):
            y = top + tall * (number + 0.5)
            _write(axes, left - 10, y, label, size=SMALL, ha="right", color=INK)
            axes.plot([left, left + step * made.end], [y, y], color="#e4e1d6", linewidth=0.6, zorder=0)
            _paint(axes, row, (left, step, y))
        legend = "dots: green answered, hollow kept out or lost, as was wanted; red not as wanted, or lost; blue delivered; black changed, cleared"
        more = f"; {made.left} more rows in the text" if made.left else ""
        _write(axes, 14, high - 14, legend + more, size=SMALL, color=_FAINT)
        return _bytes(figure, form, max(wide, high))


def _steps(axes: Axes, made: Timeline, at: tuple[float, float, float, float]) -> None:
    """The numbers of the steps, and what the clock says where it has gone on."""
    left, step, top, high = at
    for x, number in made.numbers:
        if step >= text_width("00", SMALL) or number % 2:
            _write(axes, left + step * x, top - 8, str(number), size=SMALL, ha="center", color=_PALE)
    free = 0.0
    for x, words in made.clock:
        along = left + step * x
        axes.plot([along, along], [top - 16, high - 26], color="#c9c5b4", linewidth=0.7, linestyle=(0, (2, 2)), zorder=0)
        if along >= free:
            _write(axes, along, top - 22, words, size=SMALL, ha="center", color=INK)
            free = along + text_width(words, SMALL) + 6


def _paint(axes: Axes, row: TimelineRow, at: tuple[float, float, float]) -> None:
    """The bars and dots of a row."""
    from matplotlib.patches import Rectangle

    left, step, y = at
    for bar in row.bars:
        width = step * (bar.end - bar.start)
        axes.add_patch(
            Rectangle((left + step * bar.start, y - 5), width, 10, facecolor=_PAINT[bar.kind], edgecolor="white", linewidth=0.6)
        )
        if text_width(bar.words, SMALL) < width:
            _write(axes, left + step * (bar.start + bar.end) / 2, y, bar.words, size=SMALL, ha="center", color=INK)
    for dot in row.dots:
        axes.plot(
            [left + step * dot.at],
            [y],
            marker="X" if dot.kind in (Painted.FAILS, Painted.LOST) else "o",
            markersize=6,
            color=_PAINT[dot.kind],
            markerfacecolor=PAPER if dot.kind is Painted.BARRED else _PAINT[dot.kind],
            zorder=3,
        )


def _cut(words: str, most: int) -> str:
    """Words of a row, cut where they are too long."""
    return words if len(words) <= most else f"{words[: most - 1]}…"


MOST_BARS = 60
"""So many failures are drawn, the worst; the text and the data have them all."""


def render_sweep(sweep: Sweep, title: str, form: str) -> bytes:
    """What each failure costs, as bars: flows that are lost, that go another way, and that are gained; worst first.

    Args:
        sweep: what every failure does.
        title: the first line.
        form: ``png`` or ``svg``.

    """
    from matplotlib.patches import Rectangle

    cases = [c for c in sweep.cases if not c.harmless][:MOST_BARS]
    left = max((text_width(c.words, SMALL) for c in cases), default=60) + 26
    most = max((len(c.lost) + len(c.moved) + len(c.gained) for c in cases), default=1) or 1
    wide = max(left + 560.0, 640.0)
    high = 60 + 20.0 * len(cases) + 40
    with _sheet(wide, high) as (figure, axes):
        _write(axes, 14, 18, title, size=FONT + 3, weight="bold", color=INK)
        harmful = sum(bool(c.lost or c.error) for c in sweep.cases)
        words = f"{harmful} of {len(sweep.cases)} failures cost some of the {sweep.answered} flows that are answered"
        _write(axes, 14, 38, words, size=FONT, color=INK)
        for row, case in enumerate(cases):
            y, x = 60 + 20.0 * row, left
            _write(axes, left - 10, y + 8, case.words, size=SMALL, ha="right", color=INK)
            for count, colour in ((len(case.lost), _LOST), (len(case.moved), _MOVED), (len(case.gained), _GAINED)):
                if count:
                    width = max(20.0, count / most * (wide - left - 60))
                    axes.add_patch(Rectangle((x, y), width, 16, facecolor=colour, edgecolor="none"))
                    _write(axes, x + width / 2, y + 8, str(count), size=SMALL, ha="center", color=INK)
                    x += width + 1
            if case.error:
                _write(axes, x + 4, y + 8, "routing does not settle", size=SMALL, color=INK)
        left_out = (
            f"; {sum(not c.harmless for c in sweep.cases) - len(cases)} more are not drawn" if len(cases) == MOST_BARS else ""
        )
        legend = f"flows: red lost, sand by another way, green gained; what changes nothing is not drawn{left_out}"
        _write(axes, 14, high - 14, legend, size=SMALL, color="#6b6f68")
        return _bytes(figure, form, max(wide, high))
