"""Observed flows and what would become of them, as a table: those that would not pass come first."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from rich.console import Group, RenderableType
from rich.text import Text

from mossy_compass.lab.observed import Answered
from mossy_compass.report import sentences, text

MOST_SHOWN = 200
"""So many rows are shown as text; JSON has all."""
FIRST_OF_MANY, MOST_REASONS = 20, 30
"""Of more flows than those, the first, and what decides them."""


def about(found: Sequence[Answered], others: int) -> str:
    """The answer in a sentence."""
    good = sum(f.passes for f in found)
    unknown = sum(f.journey is None for f in found)
    packets = sum(f.flow.packets for f in found)
    words = f"{good} of {len(found)} flows would pass ({packets} packets observed)"
    words += f"; {unknown} cannot be asked here" if unknown else ""
    return words + (f"; {others} packets are none of IP, or cut off, and were left out" if others else "")


def flows(found: Sequence[Answered], others: int, in_person: Callable[[Answered], Answered]) -> RenderableType:
    """The answer, by what flows are decided where there are many, and a row for each flow, or for the first of many.

    Args:
        found: the flows.
        others: packets that were left out.
        in_person: gives a flow with its own journey.

    """
    ordered = sorted(found, key=lambda f: f.passes)
    many = len(found) > MOST_SHOWN
    rows = [
        (
            f"{f.flow.source} > {f.flow.destination}",
            f.flow.service,
            str(f.flow.packets),
            "passes" if f.passes else "cannot be asked" if f.journey is None else "does not pass",
            _why(f),
        )
        for f in map(in_person, ordered[: FIRST_OF_MANY if many else MOST_SHOWN])
    ]
    left = len(found) - len(rows)
    head = Text(f"{about(found, others)}{':' if rows else '.'}", style="bold")
    table = text.table(("flow", "service", "packets", "fate", "by, and seen as"), rows, 4)
    parts: list[RenderableType] = [head]
    if many:
        parts += [_by_reason(found), Text("")]
    parts += [table] if rows else []
    return Group(*parts, *([Text(f"and {left} more; --format csv or json has all")] if left else []))


def _by_reason(found: Sequence[Answered]) -> RenderableType:
    """How many flows one row, or one reason, decides; the most first, those that do not pass before those that do."""
    groups: dict[tuple[bool, str, str], list[Answered]] = {}
    for one in found:
        groups.setdefault((one.passes, *_decided(one)), []).append(one)
    ordered = sorted(groups.items(), key=lambda group: (group[0][0], -len(group[1])))
    rows = [
        (
            str(len(some)),
            "pass" if passes else "do not",
            what,
            where,
            f"{some[0].flow.source} > {some[0].flow.destination} {some[0].flow.service}",
        )
        for (passes, what, where), some in ordered[:MOST_REASONS]
    ]
    if len(ordered) > MOST_REASONS:
        rows.append(
            (str(sum(len(some) for _, some in ordered[MOST_REASONS:])), "", f"{len(ordered) - MOST_REASONS} other reasons", "", "")
        )
    return text.table(("flows", "fate", "by", "where", "the first of them"), rows, 4)


def _decided(one: Answered) -> tuple[str, str]:
    """What decides a flow, and where: the rules that let it through, or what it is lost by."""
    journey = one.journey
    if journey is None:
        return "cannot be asked", ""
    if one.passes:
        return "; ".join(p.words for p in one.permits[-2:]) or "no rule was asked", ""
    mark = journey.because.mark
    named = journey.because.kind in ("rule", "built-in") and mark is not None and mark.line
    return (journey.because.words if named else journey.cause), journey.deciding.end


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
    return {"mossy-flows": 1, "about": about(found, others), "left-out": others, "flows": [f.to_dict() for f in found]}
