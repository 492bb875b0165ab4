"""Grids and flows as CSV (RFC 4180). A cell that a spreadsheet would take for a formula gets an apostrophe before it.

The apostrophe is what spreadsheets themselves take for "this is text". It is added for
names alone that begin with one of the signs that start a formula, a tab or a carriage
return, so that a file from somebody else's network cannot run anything on the desk where it
is opened.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable
from typing import TYPE_CHECKING

from mossy_compass.safe import safe_line
from mossy_compass.walk.grid import Cell, Changes, Grid

if TYPE_CHECKING:  # what asks of many flows takes long to load, and a grid has none
    from mossy_compass.lab.observed import Answered


def safe_cell(text: str) -> str:
    """A cell that is no formula, whatever it begins with; and without what steers a terminal."""
    shown = safe_line(text)
    return f"'{shown}" if shown[:1] in ("=", "+", "-", "@") else shown


def grid_csv(grid: Grid) -> str:
    """One line for each test: who, to whom, which service, how it ended, because of what."""
    stream = io.StringIO()
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(
        [
            "from",
            "to",
            "service",
            "answered",
            "fate",
            "cause",
            "decided-on",
            "where",
            "because",
            "place",
            "symptom",
            "path",
            "seen-as",
        ]
    )
    for c in grid.cells:
        answered = "yes" if c.answered else "no"
        row = [c.source, c.target, c.service, answered, c.fate, c.cause, c.lost, c.where, c.because, c.place, c.symptom]
        writer.writerow([safe_cell(cell) for cell in (*row, " > ".join(c.path), c.seen_as)])
    return stream.getvalue()


def changes_csv(found: Changes) -> str:
    """One line for each test that ends otherwise: how it ended before, and how it ends after."""
    stream = io.StringIO()
    writer = csv.writer(stream, lineterminator="\n")
    keys = ("answered", "fate", "cause", "because", "place", "path", "seen-as")
    writer.writerow(["from", "to", "service", *(f"{k} before" for k in keys), *(f"{k} after" for k in keys)])
    pairs: list[tuple[Cell | None, Cell | None]] = [*found.changed, *found.rerouted]
    pairs += [(None, c) for c in found.come]
    pairs += [(c, None) for c in found.gone]
    for old, new in pairs:
        one = new or old
        assert one is not None
        writer.writerow([safe_cell(cell) for cell in (one.source, one.target, one.service, *_ending(old), *_ending(new))])
    return stream.getvalue()


def _ending(cell: Cell | None) -> tuple[str, ...]:
    """How a test ended; nothing for one that is not in this version."""
    if cell is None:
        return ("",) * 7
    answered = "yes" if cell.answered else "no"
    return answered, cell.fate, cell.cause, cell.because, cell.place, " > ".join(cell.path), cell.seen_as


def flows_csv(found: Iterable[Answered]) -> str:
    """One line for each observed flow: whether it would pass, by what, seen as whom, by which uplink."""
    stream = io.StringIO()
    writer = csv.writer(stream, lineterminator="\n")
    for number, one in enumerate(found):
        row = one.to_dict()
        if not number:
            writer.writerow(row)
        words = {True: "yes", False: "no", None: ""}
        writer.writerow([safe_cell(words[v] if v is None or isinstance(v, bool) else str(v)) for v in row.values()])
    return stream.getvalue()
