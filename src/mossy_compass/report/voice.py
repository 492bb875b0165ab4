"""What the records of the core are told by (``voice.py``): their words, their sentences, their plain data.

The core knows that its records can be told, and not how. This class is what it finds under
that name once the report is there; a test asks every record for every form, so that none is
forgotten.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from mossy_compass.report.record import journey_dict
from mossy_compass.report.sentences import headline
from mossy_compass.report.words import miss_words
from mossy_compass.report.words import spoken as because

if TYPE_CHECKING:  # a trace is told without grids, and begins sooner so
    from mossy_compass.walk.grid import Grid
    from mossy_compass.walk.journey import Journey


def explain(journey: Journey, details: bool, width: int) -> str:
    """The whole text of a journey."""
    from mossy_compass.report import text

    return text.as_text(text.journey(journey, details), width)


def table(grid: Grid) -> str:
    """A grid as ``mossy grid`` prints it."""
    from mossy_compass.report import gridtext, text

    return text.as_text(gridtext.whole(grid, "grid")).rstrip("\n")


__all__ = ["because", "explain", "headline", "journey_dict", "miss_words", "table"]
