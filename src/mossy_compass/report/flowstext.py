"""Observed flows and what would become of them, as a table: those that would not pass come first."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType
from rich.text import Text

from mossy_compass.lab.observed import Answered
from mossy_compass.report import sentences, text

MOST_SHOWN = 200
"""So many rows are shown as text; JSON has all."""


def about(found: Sequence[Answered], others: int) -> str:
    """The answer in a sentence."""
    good = sum(f.passes for f in found)
    unknown = sum(f.journey is None for f in found)
    packets = sum(f.flow.packets for f in found)
    words = f"{good} of {len(found)} flows would pass ({packets} packets observed)"
    words += f"; {unknown} cannot be asked here" if unknown else ""
    return words + (f"; {others} packets are none of IP, or cut off, and were left out" if others else "")


def flows(found: Sequence[Answered], others: int) -> RenderableType:
    """The answer, and a row for each flow."""
    ordered = sorted(found, key=lambda f: f.passes)
    rows = [
        (
            f"{f.flow.source} > {f.flow.destination}",
            f.flow.service,
            str(f.flow.packets),
            "passes" if f.passes else "cannot be asked" if f.journey is None else "does not pass",
            _why(f),
        )
        for f in ordered[:MOST_SHOWN]
    ]
    left = len(found) - len(rows)
    head = Text(f"{about(found, others)}{':' if rows else '.'}", style="bold")
    table = text.table(("flow", "service", "packets", "fate", "by, and seen as"), rows, 4)
    return Group(head, *([table] if rows else []), *([Text(f"and {left} more; --format json has all")] if left else []))


def _why(fate: Answered) -> str:
    """What decides a flow, and as whom it is seen."""
    journey = fate.journey
    if journey is None:
        return fate.why
    if not fate.passes:
        return f"{sentences.outcome(journey)} [{journey.cause}]"
    permits = [because.cited() for leg in (journey.there,) for _, because in leg.permits()]
    seen = f"; seen as {journey.seen_as}" if journey.seen_as and not journey.seen_as.startswith(str(fate.flow.source)) else ""
    return (", ".join(permits) or "no rule was asked") + seen


def flows_dict(found: Sequence[Answered], others: int) -> dict[str, object]:
    """The same as plain data."""
    return {
        "mossy-flows": 1,
        "about": about(found, others),
        "left-out": others,
        "flows": [
            {
                "source": str(f.flow.source),
                "destination": str(f.flow.destination),
                "service": f.flow.service,
                "packets": f.flow.packets,
                "passes": f.passes,
                "cause": None if f.journey is None else f.journey.cause,
                "because": f.why if f.journey is None else f.journey.because.words,
                "seen-as": "" if f.journey is None else f.journey.seen_as,
            }
            for f in found
        ],
    }
