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
from typing import TYPE_CHECKING, Any

from mossy_compass.plan.reasons import Fate
from mossy_compass.report import sentences
from mossy_compass.report.layout import MOST_WIDE
from mossy_compass.report.sheet import FONT, SMALL, Box, Line, Picture, Rect, curve, text_width
from mossy_compass.safe import safe
from mossy_compass.walk.grid import Cell, Changes, Grid
from mossy_compass.walk.journey import Journey, Leg, Way

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

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
_THERE, _BACK, _DOWN = "#1f5fa8", "#b0721b", "#b3261e"
_FACE = "DejaVu Sans Mono"
PLAIN: Any = {"svg.hashsalt": "mossy", "svg.fonttype": "none", "text.parse_math": False}
"""The same bytes each time; text stays text, and a dollar sign is a dollar sign."""
MOST_PIXELS = 12_000
DOTS = 112.0
"""Pixels for each inch of 72 points: the smallest words are 11 pixels high, and 1000 points fit on a screen."""


def _write(target: Axes | Figure, x: float, y: float, words: str, **style: Any) -> None:
    """Set words, made safe, in the one face of every picture; in the middle of their height unless told otherwise."""
    target.text(x, y, safe(words), **{"family": _FACE, "va": "center", **style})


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
        _line(axes, picture, line)
    for leg in journey.homeward if journey else ():
        _leg(axes, picture, leg)
    for box in picture.boxes.values():
        _box(axes, box)
    for label in picture.labels:
        _write(
            axes,
            label.rect.x,
            label.rect.y,
            label.words,
            size=SMALL,
            color=_DOWN if "[" in label.words else "#59605a",
            ha="center",
            linespacing=1.1,
            zorder=3,
            bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 0.2, "alpha": 0.7},
        )
    if journey:
        _ends(axes, picture, journey)


def _line(axes: Axes, picture: Picture, line: Line) -> None:
    """A cable under everything else; one that carries nothing is dotted and red."""
    points = curve(picture.boxes, line)
    colour, style = (_DOWN, (0, (2, 3))) if line.why_down else ("#8b8f86", "solid")
    axes.plot([x for x, _ in points], [y for _, y in points], color=colour, linestyle=style, linewidth=1.3, zorder=1)


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
            boxstyle="square,pad=3" if wall else "round,pad=3,rounding_size=5",
            facecolor=fill,
            edgecolor=_DOWN if box.down else edge,
            linestyle="--" if box.down else "-",
            linewidth=2.2 if wall else 1.1,
            zorder=4,
        )
    )
    y = r.y + r.h / 2 - 6 - FONT * 0.65
    for number, line in enumerate(box.lines):
        size, weight = (SMALL, "normal") if number else (FONT, "bold")
        _write(axes, r.x, y, line, size=size, weight=weight, color=INK, ha="center", zorder=5)
        y -= SMALL * 1.4 if number else FONT * 0.7 + SMALL * 0.75
    for row in box.rows:
        _write(axes, row.x, row.y, row.words, size=SMALL + 1, color=_DOWN if row.down else INK, ha="left", zorder=6)


def _route(picture: Picture, leg: Leg) -> list[list[tuple[float, float]]]:
    """The strokes of a leg, one for each segment that it crossed."""
    strokes = []
    for hop in leg.hops:
        if hop.next_device is None or hop.segment is None:
            continue
        path = _crossing(picture, hop.device, hop.next_device, hop.segment)
        if path:
            strokes.append(path)
    return strokes


def _crossing(picture: Picture, start: str, end: str, domain: str) -> list[tuple[float, float]]:
    """The points of a leg's way over one segment, through the boxes that stand for it."""
    if start not in picture.home or end not in picture.home:
        return []
    (a, ax, ay), (b, bx, by) = picture.home[start], picture.home[end]
    if a == b:
        return [(ax, ay), (bx, by)]
    keys = _shortest(picture, a, b, domain.split(" ")[0])
    points: list[tuple[float, float]] = [(ax, ay)]
    for left, right in itertools.pairwise(keys):
        found = [n for n in picture.lines if {n.start, n.end} == {left, right}]
        line = next((n for n in found if n.segment == domain.split(" ")[0]), found[0])
        part = curve(picture.boxes, line)
        points += part if line.start == left else part[::-1]
    return [*points, (bx, by)]


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


def _leg(axes: Axes, picture: Picture, leg: Leg) -> None:
    """A leg as a coloured way, with an arrow on each piece."""
    colour = _THERE if leg.way is Way.THERE else _BACK
    there = leg.way is Way.THERE
    for path in _route(picture, leg):
        for start, end in itertools.pairwise(path):
            (ax, ay), (bx, by) = _beside(start, end, 3.2)
            axes.plot(
                [ax, bx],
                [ay, by],
                color=colour,
                linewidth=2.6,
                linestyle="solid" if there else (0, (4, 2)),
                solid_capstyle="round",
                zorder=2.5 if there else 2.4,
            )
        middle = len(path) // 2
        (ax, ay), (bx, by) = _beside(path[middle - 1], path[middle], 3.2)
        axes.annotate(
            "",
            xy=(ax + (bx - ax) * 0.62, ay + (by - ay) * 0.62),
            xytext=(ax + (bx - ax) * 0.5, ay + (by - ay) * 0.5),
            arrowprops={"arrowstyle": "-|>", "color": colour, "linewidth": 2.0, "mutation_scale": 13},
            zorder=3.5,
        )


_Point = tuple[float, float]


def _beside(start: _Point, end: _Point, side: float) -> tuple[_Point, _Point]:
    """A piece of path moved to its own left, so that there and back do not hide each other."""
    (ax, ay), (bx, by) = start, end
    far = ((bx - ax) ** 2 + (by - ay) ** 2) ** 0.5 or 1.0
    dx, dy = -(by - ay) / far * side, (bx - ax) / far * side
    return (ax + dx, ay + dy), (bx + dx, by + dy)


def _ends(axes: Axes, picture: Picture, journey: Journey) -> None:
    """Badges where the journey began and where it ended."""
    leg = journey.deciding
    good = journey.answered
    if journey.sender in picture.home or journey.there.hops[0].device in picture.home:
        _badge(axes, picture, journey.there.hops[0].device, "start", _THERE)
    target = journey.target if journey.target in picture.home else journey.there.end
    if leg.end in picture.home:
        words = "answered" if good else sentences.verdict_word(journey).lower()
        _badge(axes, picture, target if good else leg.end, words, "#2e7d32" if good else _DOWN)


def _badge(axes: Axes, picture: Picture, device: str, words: str, colour: str) -> None:
    """A word on colour beside a device, or beside its row in a box."""
    key, x, y = picture.home[device]
    rect: Rect = picture.boxes[key].rect
    inside = any(row.device == device for row in picture.boxes[key].rows)
    at = (rect.x + rect.w / 2 + 2, y) if inside else (x, rect.y + rect.h / 2 + 3)
    _write(
        axes,
        *at,
        words,
        size=SMALL + 1,
        weight="bold",
        color="white",
        ha="center",
        zorder=8,
        bbox={"boxstyle": "round,pad=0.25", "facecolor": colour, "edgecolor": "white", "linewidth": 1.0},
    )


_KINDS = {
    "router": "green: router",
    "firewall": "orange with a thick border: firewall",
    "host": "white: host on several segments",
    "switch": "violet: switch",
    "internet": "blue box: the world outside, with the hosts that stand for it",
    "segment": "sand: segment, its subnets, and its hosts",
}


def _legend(picture: Picture, journey: Journey | None) -> str:
    """What everything in this picture means, and nothing that is not in it."""
    kinds = {b.kind for b in picture.boxes.values()}
    parts = [words for kind, words in _KINDS.items() if kind in kinds]
    parts.append("beside a line: interface (zone), and under it the end of its address; in its middle: segment and subnet")
    if any(line.why_down for line in picture.lines) or any(box.down for box in picture.boxes.values()):
        parts.append("red and dotted: down, [why]")
    if journey:
        parts.append("blue line: the way there" + ("; dashed ochre line: the way back" if len(journey.homeward) > 1 else ""))
    if picture.left_out:
        parts.append(f"{picture.left_out} labels found no room: mossy tables has them")
    return "; ".join(parts)


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
    wide = max(picture.width, 760.0)
    cut = textwrap.wrap(headline, int((wide - 28) / (FONT * 0.62)))
    legend = textwrap.wrap(_legend(picture, journey), int((wide - 28) / (SMALL * 0.62)))
    top = 34 + len(cut) * FONT * 1.5
    foot = 12 + len(legend) * SMALL * 1.5
    high = picture.height + top + foot
    with matplotlib.rc_context(PLAIN | {"path.simplify": False}):
        figure = Figure(figsize=(wide / 72, high / 72), facecolor=PAPER)
        left = (wide - picture.width) / 2 / wide
        axes = figure.add_axes((left, foot / high, picture.width / wide, picture.height / high))
        draw(axes, picture, journey)
        _write(figure, 14 / wide, 1 - 18 / high, title, size=FONT + 3, weight="bold", color=INK)
        fate = journey is None or (journey.fate is Fate.DELIVERED and journey.answered)
        for number, words in enumerate(cut):
            at = 1 - (36 + number * FONT * 1.5) / high
            _write(figure, 14 / wide, at, words, size=FONT, color="#2e7d32" if fate else _DOWN)
        for number, words in enumerate(legend):
            at = (foot - 8 - number * SMALL * 1.5) / high
            _write(figure, 14 / wide, at, words, size=SMALL, color="#6b6f68")
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
    import matplotlib
    from matplotlib.figure import Figure

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
    with matplotlib.rc_context(PLAIN):
        figure = Figure(figsize=(wide / 72, high / 72), facecolor=PAPER)
        axes = figure.add_axes((0, 0, 1, 1))
        axes.set_xlim(0, wide)
        axes.set_ylim(high, 0)
        axes.set_axis_off()
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


MOST_BARS = 60
"""So many failures are drawn, the worst; the text and the data have them all."""


def render_sweep(sweep: Sweep, title: str, form: str) -> bytes:
    """What each failure costs, as bars: flows that are lost, that go another way, and that are gained; worst first.

    Args:
        sweep: what every failure does.
        title: the first line.
        form: ``png`` or ``svg``.

    """
    import matplotlib
    from matplotlib.figure import Figure
    from matplotlib.patches import Rectangle

    cases = [c for c in sweep.cases if not c.harmless][:MOST_BARS]
    left = max((text_width(c.words, SMALL) for c in cases), default=60) + 26
    most = max((len(c.lost) + len(c.moved) + len(c.gained) for c in cases), default=1) or 1
    wide = max(left + 560.0, 640.0)
    high = 60 + 20.0 * len(cases) + 40
    with matplotlib.rc_context(PLAIN):
        figure = Figure(figsize=(wide / 72, high / 72), facecolor=PAPER)
        axes = figure.add_axes((0, 0, 1, 1))
        axes.set_xlim(0, wide)
        axes.set_ylim(high, 0)
        axes.set_axis_off()
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
