"""A grid, and what changed in it, as text of 100 columns.

Columns are filled until the next one would be cut off, and then a new block begins with the
sources again. The reasons stand below, most frequent first: ten red cells are most often
one rule.
"""

from __future__ import annotations

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from mossy_compass.report.text import WIDTH, rows_of, table
from mossy_compass.walk.grid import Cell, Changes, Grid, differences, reasons


def _cell(words: str) -> Text:
    """A cell's word in the colour of its kind; the word alone tells it, too."""
    if words in ("yes", "-"):
        return Text(words, style="green" if words == "yes" else "dim")
    return Text(words, style="red")


def head(grid: Grid, name: str) -> str:
    """The answer in a line."""
    good = sum(c.answered for c in grid.cells)
    return f"{name}: {good} of {len(grid.cells)} tests are answered, {len(grid.cells) - good} are not."


def blocks(grid: Grid) -> list[RenderableType]:
    """The grid in as many pieces as the width asks for: sources down, services of a target across."""
    known = grid.by_key()
    sources = grid.sources
    first = max(len("from"), *map(len, sources)) + 2
    columns = grid.columns
    out: list[RenderableType] = []
    pending: list[tuple[str, str]] = []
    room = WIDTH - first

    def wide(column: tuple[str, str]) -> int:
        """How many columns of text a column of the grid takes."""
        cells = [known[s, *column].words for s in sources if (s, *column) in known]
        return max(len(column[0]), len(column[1]), *map(len, cells or ["-"])) + 2

    def flush() -> None:
        """Close the block and begin another, since the next column would be cut off at the edge."""
        if pending:
            rows = [[Text(s), *(_cell(known[s, *c].words if (s, *c) in known else "-") for c in pending)] for s in sources]
            made = table(["from", *(f"{t}\n{s}" for t, s in pending)], [])
            for row in rows:
                made.add_row(*row)
            out.extend([made, Text("")])
            pending.clear()

    left = room
    for column in columns:
        if wide(column) > left:
            flush()
            left = room
        pending.append(column)
        left -= wide(column)
    flush()
    return out


def why(cells: tuple[Cell, ...], most: int = 20) -> RenderableType:
    """The reasons behind the cells that are not answered, most frequent first."""
    found = reasons(cells)
    rows: list[tuple[str | Text, ...]] = []
    for some in found[:most]:
        others = len({c.because for c in some}) - 1
        more = f", and {others} such more" if others else ""
        seen = " or ".join(dict.fromkeys(c.symptom for c in some))
        rows.append((f"{len(some)}", Text(some[0].words, style="red"), f"{some[0].reason}{more}; the sender sees {seen}"))
    if len(found) > most:
        rows.append(("", "", f"... and {len(found) - most} more reasons; --format csv has every cell"))
    return rows_of(rows, ("", "", ""), (5, 18, None))


def whole(grid: Grid, name: str) -> RenderableType:
    """First the answer, then the grid, then the reasons."""
    parts: list[RenderableType] = [Text(head(grid, name)), Text(""), *blocks(grid)]
    if any(not c.answered for c in grid.cells):
        parts += [
            Text("Why not, by number of tests (back: means that the answer was lost):"),
            Padding(why(grid.cells), (0, 0, 0, 2)),
        ]
    return Group(*parts)


def changes(found: Changes, grid: Grid, name: str, baseline: str) -> RenderableType:
    """What differs from a baseline: opened and closed cells first."""
    if not found:
        return Group(Text(f"{name}: nothing changed since {baseline}: {len(grid.cells)} tests end as they did."))
    opened = [(a, b) for a, b in found.changed if b.answered and not a.answered]
    closed = [(a, b) for a, b in found.changed if a.answered and not b.answered]
    other = [(a, b) for a, b in found.changed if a.answered == b.answered]
    line = f"{name}: {len(found.changed)} of {len(grid.cells)} tests changed since {baseline}: "
    line += f"{len(closed)} no longer answered, {len(opened)} newly answered, {len(other)} with another reason; "
    line += f"{len(found.rerouted)} take another path, {len(found.come)} are new, {len(found.gone)} are gone."
    parts: list[RenderableType] = [Text(line)]
    for title, pairs in (("no longer answered", closed), ("newly answered", opened), ("another reason", other)):
        rows = [(_ends(b), f"was {a.words}: {a.reason}\nis {b.words}: {b.reason}") for a, b in pairs]
        parts += _part(title, rows)
    for title, what in (("another path", "way"), ("another exit interface", "leaving"), ("seen under another address", "seen as")):
        parts += _part(title, _otherwise(found, what))
    parts += _part("new", [(_ends(c), f"{c.words}: {c.reason}") for c in found.come])
    parts += _part("gone", [(_ends(c), f"was {c.words}") for c in found.gone])
    return Group(*parts)


def _otherwise(found: Changes, what: str) -> list[tuple[str, str]]:
    """The tests that end as before and differ in one respect, with what it was and is."""
    return [(_ends(b), f"was {x}\nis {y}") for a, b in found.rerouted for w, x, y in differences(a, b) if w == what]


def _part(title: str, rows: list[tuple[str, str]]) -> list[RenderableType]:
    """A titled block of rows; nothing where there are none."""
    if not rows:
        return []
    return [Text(f"{title}:", style="bold"), Padding(rows_of(rows, ("", ""), (30, None)), (0, 0, 0, 2))]


def _ends(cell: Cell) -> str:
    """Who asks whom for what."""
    return f"{cell.source} → {cell.target}, {cell.service}"
