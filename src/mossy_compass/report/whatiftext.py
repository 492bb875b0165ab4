"""What every failure does, as text, data and a picture: worst first, and what everything hangs on before all."""

from __future__ import annotations

from typing import Any

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from mossy_compass.lab.sweep import Case, Sweep
from mossy_compass.report.text import rows_of, some_of, table
from mossy_compass.walk.grid import Cell, cell_dict, differences

MOST_CASES = 12
MOST_FLOWS = 4


def head(found: Sweep, name: str) -> str:
    """The answer in a line."""
    harmful = [c for c in found.cases if c.lost or c.error]
    single = found.single_points
    if not found.answered:
        return f"{name}: no failure can cost anything: none of the {len(found.flows)} flows is answered even now."
    flows = f"some of the {found.answered} flows that are answered" if found.answered != 1 else "the one flow that is answered"
    words = f"{name}: {len(harmful)} of {len(found.cases)} failures cost {flows}"
    if single:
        words += f"; everything hangs on {some_of([c.words for c in single], 3)}"
    elif not harmful:
        flows = (
            f"all {found.answered} flows that are answered survive"
            if found.answered != 1
            else "the one flow that is answered survives"
        )
        words = f"{name}: {flows} each of {len(found.cases)} failures"
    return words + "."


def whole(found: Sweep, name: str, details: bool = False) -> RenderableType:
    """The answer, then failure by failure what is lost, and by what other way flows go."""
    parts: list[RenderableType] = [Text(head(found, name), style="bold"), Text("")]
    rows = [_row(c) for c in found.cases if not c.harmless]
    if rows:
        parts.append(
            table(("without", "flows lost", "another way", "gained", "first of what is lost, or goes another way"), rows, 4)
        )
    quiet = [c.words for c in found.cases if c.harmless]
    if quiet:
        parts += [Text(""), Text(f"Nothing changes without {some_of(quiet, 6)}.", style="dim")]
    most, flows = (len(found.cases), found.answered) if details else (3, MOST_FLOWS)
    parts += [part for case in [c for c in found.cases if c.lost][:most] for part in _lost(case, flows)]
    return Group(*parts)


def _row(case: Case) -> tuple[str, ...]:
    """What a failure does, in numbers, with one flow of those."""
    return case.words, str(len(case.lost)), str(len(case.moved)), str(len(case.gained)), case.error or _first(case)


def _lost(case: Case, most: int) -> list[RenderableType]:
    """The flows that a failure costs, at most so many of them."""
    count = len(case.lost)
    lines = [(f"{new.source} → {new.target}, {new.service}", new.reason) for _, new in case.lost[:most]]
    if count > most:
        lines.append(("", f"... and {count - most} more; --details shows all"))
    title = f"Without {case.words}, {count} flow{'s are' if count > 1 else ' is'} lost:"
    return [Text(""), Text(title, style="bold"), Padding(rows_of(lines, ("", ""), (36, None)), (0, 0, 0, 2))]


def _first(case: Case) -> str:
    """One flow that a failure changes."""
    if case.lost:
        new = case.lost[0][1]
        return f"{new.source} → {new.target}, {new.service}: {new.words}"
    if case.moved:
        old, new = case.moved[0]
        what, before, after = differences(old, new)[0]
        return f"{new.source} → {new.target}, {new.service}: {what} {before}, then {after}"
    if case.gained:
        new = case.gained[0][1]
        return f"{new.source} → {new.target}, {new.service}: answered then"
    new = case.other[0][1]
    return f"{new.source} → {new.target}, {new.service}: {new.words} then"


def as_dict(found: Sweep, name: str) -> dict[str, Any]:
    """The same as plain data."""

    def pairs(held: tuple[tuple[Cell, Cell], ...]) -> list[dict[str, Any]]:
        """Flows before and after."""
        return [{"before": cell_dict(a), "after": cell_dict(b)} for a, b in held]

    return {
        "mossy-what-if": 1,
        "answer": head(found, name),
        "flows": len(found.flows),
        "answered": found.answered,
        "failures": [
            {
                "without": [str(f) for f in c.faults],
                "lost": pairs(c.lost),
                "another-way": pairs(c.moved),
                "gained": pairs(c.gained),
                "another-reason": pairs(c.other),
                "error": c.error,
            }
            for c in found.cases
        ],
    }
