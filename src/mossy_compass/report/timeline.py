"""A drill over its time, as rows of bars and dots that ``drawing.py`` paints: what had failed, probes, uplinks, what was open, what was tested."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from mossy_compass.lab.drill import Report, Result
from mossy_compass.lab.expect import Wanted
from mossy_compass.lab.steps import ChangeStep, Clear, EditStep, ExpectFlows, Fail, PutStep, Restore, Say, Send, Within
from mossy_compass.model.durations import duration_words

WIDE = 3.0
"""A step in which time passes is drawn as wide as so many others."""
MOST_ROWS = 34
"""So many rows fit a screen; what is tested beyond them is counted."""


class Painted(StrEnum):
    """What a bar or a dot says, which is what it is painted by."""

    UP = "up"
    DOWN = "down"
    FAULT = "failed"
    USED = "in use"
    HOLDS = "holds"
    BARRED = "holds, and does not arrive"
    FAILS = "fails"
    PASSES = "passes"
    LOST = "lost"
    EVENT = "event"


class Bar(NamedTuple):
    """Something that lasts.

    Attributes:
        start, end: on the line of steps.
        kind: what it says.
        words: written into it.

    """

    start: float
    end: float
    kind: Painted
    words: str = ""


class Dot(NamedTuple):
    """Something that happens at a step.

    Attributes:
        at: on the line of steps.
        kind: what it says.

    """

    at: float
    kind: Painted


@dataclass
class TimelineRow:
    """A row of the picture.

    Attributes:
        label: what it is about.
        bars, dots: what is in it.

    """

    label: str
    bars: list[Bar] = field(default_factory=list)
    dots: list[Dot] = field(default_factory=list)


@dataclass
class Timeline:
    """A drill as a picture to be.

    Attributes:
        numbers: of the steps, each with where it stands.
        clock: what the lab's clock says, where it has gone on.
        rows: in their order.
        end: of the line of steps.
        left: so many rows were left out.

    """

    numbers: list[tuple[float, int]]
    clock: list[tuple[float, str]]
    rows: list[TimelineRow]
    end: float
    left: int = 0


def timeline(report: Report) -> Timeline:
    """A drill's results over its time.

    Args:
        report: what came of it.

    """
    places, numbers, clock, at, before = [], [], [], 0.0, 0
    for result in report.results:
        width = WIDE if result.at > before else 1.0
        places.append((at, at + width))
        numbers.append((at + width / 2, result.number))
        if result.at > before:
            clock.append((at + width, duration_words(result.at)))
        at, before = at + width, result.at
    rows = [
        *_faults(report.results, places, at),
        *_probes(report.results, places, at),
        *_uplinks(report.results, places, at),
        *_events(report.results, places),
        *_tested(report.results, places),
    ]
    return Timeline(numbers, clock, rows[:MOST_ROWS], at, max(0, len(rows) - MOST_ROWS))


Places = Sequence[tuple[float, float]]


def _middle(place: tuple[float, float]) -> float:
    """The middle of a step."""
    return (place[0] + place[1]) / 2


def _faults(results: Sequence[Result], places: Places, end: float) -> Iterator[TimelineRow]:
    """A bar for each thing that had failed, from the step where it did until it worked again."""
    open_since: dict[str, float] = {}
    rows: dict[str, TimelineRow] = {}
    for result, place in zip(results, places, strict=True):
        step = result.step
        if isinstance(step, Fail) and not result.broken:
            open_since |= dict.fromkeys(step.what, _middle(place))
        elif isinstance(step, Restore) and not result.broken:
            for what in step.what or tuple(open_since):
                if what in open_since:
                    rows.setdefault(what, TimelineRow(what)).bars.append(
                        Bar(open_since.pop(what), _middle(place), Painted.FAULT, "failed")
                    )
    for what, start in open_since.items():
        rows.setdefault(what, TimelineRow(what)).bars.append(Bar(start, end, Painted.FAULT, "failed"))
    yield from rows.values()


def _probes(results: Sequence[Result], places: Places, end: float) -> Iterator[TimelineRow]:
    """A bar for each time that a probe was up, or down."""
    changes: dict[str, list[tuple[float, bool]]] = {}
    before = 0
    for result, place in zip(results, places, strict=True):
        for change in result.verdicts:
            share = (change.at - before) / (result.at - before) if result.at > before else 0.5
            at = place[0] + (place[1] - place[0]) * share
            changes.setdefault(f"{change.device}/{change.probe}", []).append((at, change.up))
        before = result.at
    for name, found in changes.items():
        row, start, up = TimelineRow(f"probe {name}"), 0.0, not found[0][1]
        for at, now in (*found, (end, not found[-1][1])):
            row.bars.append(Bar(start, at, Painted.UP if up else Painted.DOWN, "up" if up else "down"))
            start, up = at, now
        yield row


def _uplinks(results: Sequence[Result], places: Places, end: float) -> Iterator[TimelineRow]:
    """A bar for each time that a group of uplinks was one way."""
    rows: dict[str, TimelineRow] = {}
    for result, place in zip(results, places, strict=True):
        moved = max((v.at for v in result.verdicts), default=None)
        at = place[0]
        if moved is not None and result.before < result.at:
            at += (place[1] - place[0]) * (moved - result.before) / (result.at - result.before)
        for group, used in result.used:
            row = rows.setdefault(group, TimelineRow(f"uplinks {group}"))
            if not row.bars:
                row.bars.append(Bar(0.0, end, Painted.USED, used))
            elif row.bars[-1].words != used:
                row.bars[-1] = row.bars[-1]._replace(end=at)
                row.bars.append(Bar(at, end, Painted.USED, used))
    yield from rows.values()


def _events(results: Sequence[Result], places: Places) -> Iterator[TimelineRow]:
    """Changes and clearings, and each conversation with what was sent in it."""
    rows: dict[str, TimelineRow] = {}
    for result, place in zip(results, places, strict=True):
        step = result.step
        if isinstance(step, ChangeStep | PutStep | Clear) and not isinstance(step, EditStep):
            rows.setdefault("clear" if isinstance(step, Clear) else "change", TimelineRow("changed, cleared")).dots.append(
                Dot(_middle(place), Painted.EVENT)
            )
        name = step.called if isinstance(step, Send) else step.name if isinstance(step, Say) else ""
        if name:
            row = rows.setdefault(f"conversation {name}", TimelineRow(f"conversation {name}"))
            row.dots.append(Dot(_middle(place), Painted.LOST if result.lost else Painted.PASSES))
    if "change" in rows and "clear" in rows:
        rows["change"].dots += rows.pop("clear").dots
    yield from rows.values()


def _tested(results: Sequence[Result], places: Places) -> Iterator[TimelineRow]:
    """A row for each pair of ends and service of which something was expected, and one for all else; with a dot wherever it was."""
    rows: dict[str, TimelineRow] = {}
    for result, place in zip(results, places, strict=True):
        step = result.step
        if not result.expects:
            continue
        label, kind = "expected of other things", Painted.HOLDS
        if isinstance(step, ExpectFlows):
            asked = step.expectation
            label = f"{asked.source} to {asked.target}" + (f" for {', '.join(asked.services)}" if asked.services else "")
            kind = Painted.BARRED if _barred(asked.wanted) else Painted.HOLDS
        elif isinstance(step, Within):
            label, kind = f"conversation {step.name}, expected", Painted.BARRED if _barred(step.wanted) else Painted.HOLDS
        rows.setdefault(label, TimelineRow(label)).dots.append(Dot(_middle(place), kind if result.ok else Painted.FAILS))
    yield from rows.values()


def _barred(wanted: Wanted) -> bool:
    """Whether it is wanted that a packet does not get there, or that no answer comes."""
    if wanted.reaches is not None:
        return not wanted.reaches
    ends = (wanted.fate, wanted.symptom, (wanted.cause or "").partition(".")[0])
    return any(e and e not in ("delivered", "answered", "service", "echo") for e in ends)
