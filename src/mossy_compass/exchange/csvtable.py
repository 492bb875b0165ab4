"""Grids as CSV (RFC 4180)."""

from __future__ import annotations

import csv
import io

from mossy_compass.walk.grid import Grid


def grid_csv(grid: Grid) -> str:
    """One line for each test: who, to whom, which service, how it ended, because of what."""
    stream = io.StringIO()
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(
        ["from", "to", "service", "answered", "fate", "cause", "decided-on", "where", "because", "place", "symptom", "path"]
    )
    for c in grid.cells:
        answered = "yes" if c.answered else "no"
        row = [c.source, c.target, c.service, answered, c.fate, c.cause, c.lost, c.where, c.because, c.place, c.symptom]
        writer.writerow([*row, " > ".join(c.path)])
    return stream.getvalue()
