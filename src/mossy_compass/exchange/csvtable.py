"""Grids as CSV (RFC 4180). A cell that a spreadsheet would take for a formula gets an apostrophe before it.

The apostrophe is what spreadsheets themselves take for "this is text". It is added for
names alone that begin with one of the signs that start a formula, a tab or a carriage
return, so that a file from somebody else's network cannot run anything on the desk where it
is opened.
"""

from __future__ import annotations

import csv
import io

from mossy_compass.walk.grid import Grid


def safe_cell(text: str) -> str:
    """A cell that is no formula, whatever it begins with; and without what steers a terminal."""
    shown = "".join(c if c.isprintable() else f"\\x{ord(c):02x}" for c in text)
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
