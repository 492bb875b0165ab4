"""A flow before, while and after something fails, as a table with a column for each moment; and as plain data."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby
from typing import Any

from rich.console import Group, RenderableType
from rich.text import Text

from mossy_compass.lab.moments import FlowMoment, Moments, When
from mossy_compass.model.durations import duration_words
from mossy_compass.report import sentences
from mossy_compass.report.text import table

FORMAT = 1


def moments(found: Moments) -> RenderableType:
    """The answer in a line, the moments beside each other, and why the first that is lost is."""
    parts: list[RenderableType] = [Text(head(found), style="bold green" if found.ok else "bold red"), Text("")]
    rows = [
        ("time", [duration_words(m.at) if m.at else "0 s" for m in found.moments]),
        ("new flows", [_fares(m) for m in found.moments]),
        ("way", ["\n".join(name for name, _ in groupby(m.cell.path)) for m in found.moments]),
        ("leave by", ["\n".join(_parting(m, found)) or "-" for m in found.moments]),
        ("seen as", [_source(m) or "-" for m in found.moments]),
        ("open before", [_open(m) for m in found.moments]),
        ("probes", ["\n".join(m.verdicts) or "-" for m in found.moments]),
    ]
    shown = [(name, *cells) for name, cells in rows if set(cells) != {"-"}]
    parts.append(table(("", *(m.phase.value for m in found.moments)), shown))
    return Group(*parts, *_lost(found))


def _lost(found: Moments) -> Iterator[RenderableType]:
    """Why the first new flow that is lost is, and what was open before."""
    lost = next((m for m in found.moments if not m.cell.answered), None)
    if lost is not None:
        yield Text("")
        yield Text(f"{lost.phase.value}: {sentences.headline(lost.journey)}")
    cut = next((m for m in found.moments if m.opened is not None), None)
    if cut is not None and cut.opened is not None and found.moments[0].cell.answered:
        leg = cut.opened.deciding
        yield Text(
            f"{cut.phase.value}, within what was open: {leg.fate.value} at {leg.end}, {cut.opened.because.words} [{cut.opened.cause}]"
        )


def head(found: Moments) -> str:
    """The answer in a line or two."""
    flow, what = found.flow, " and ".join(found.failed)
    first, failed, last = found.moments[0], found.of(When.FAILED), found.moments[-1]
    assert failed is not None
    ends = f"{flow.source} → {flow.target}, {flow.service}"
    if not first.cell.answered:
        return f"{ends}: not answered even before {what} fails: {first.cell.cause} at {first.cell.where}."
    settled = found.settled
    if not settled.cell.answered:
        now = f"does not survive {what}: {settled.cell.fate} at {settled.cell.where} [{settled.cell.cause}]"
    elif not failed.cell.answered:
        now = f"survives {what}: lost for {duration_words(settled.at - failed.at)}, until probes notice, then answered{_by(settled, found)}"
    elif failed.exits != first.exits or settled.exits != first.exits:
        later = f", and{_by(settled, found)} once probes notice" if settled.exits != failed.exits else ""
        now = f"survives {what}: answered at once{_by(failed, found)}{later}"
    else:
        now = f"is not touched by {what}"
    after = (
        "afterwards all is as before" if _same(first, last) else f"afterwards it is {_fares(last)}{_by(last, found)}, not as before"
    )
    return f"{ends}: {now}; {after}. {_kept(found)}"


def _kept(found: Moments) -> str:
    """What becomes of what was open before."""
    if found.moments[0].untried:
        return ""
    lost = [m for m in found.moments if not m.goes_on]
    if not lost:
        return "What was open goes on all the while."
    if found.moments[-1].goes_on:
        until = next(m for m in found.moments[found.moments.index(lost[-1]) + 1 :] if m.goes_on)
        return f"What was open is lost {_WHEN[lost[0].phase]}, and goes on {_WHEN[until.phase]}."
    return f"What was open is lost {_WHEN[lost[0].phase]}, and does not come back."


_WHEN = {
    When.BEFORE: "from the first",
    When.FAILED: "when it fails",
    When.NOTICED: "once probes notice",
    When.RESTORED: "when it works again",
    When.REST: "once all is at rest again",
}


def _same(one: FlowMoment, other: FlowMoment) -> bool:
    """Whether new flows fare alike, by the same way."""
    return (one.cell.words, one.exits, one.cell.seen_as) == (other.cell.words, other.exits, other.cell.seen_as)


def _fares(moment: FlowMoment) -> str:
    """How a new flow fares."""
    cell = moment.cell
    return "answered" if cell.answered else f"{cell.fate} at {cell.where}\n{cell.words}"


def _parting(moment: FlowMoment, found: Moments) -> list[str]:
    """The interfaces by which it leaves, as far as they are not those of every other moment."""
    some = [set(m.exits) for m in found.moments if m.cell.answered]
    common = set.intersection(*some) if some else set(moment.exits)
    return [e.replace(" ", "/") for e in moment.exits if e not in common][:1]


def _by(moment: FlowMoment, found: Moments) -> str:
    """The first interface that is another than at other moments."""
    return "".join(f" by {port}" for port in _parting(moment, found))


def _source(moment: FlowMoment) -> str:
    """The address that the far end sees, without a port."""
    seen = moment.cell.seen_as
    return seen.partition(":")[0] if seen.count(":") == 1 else seen


def _open(moment: FlowMoment) -> str:
    """How what was opened before fares."""
    if moment.untried:
        return "-"
    if moment.opened is None:
        return "goes on"
    leg = moment.opened.deciding
    return f"lost at {leg.end}\n{moment.opened.cause}"


def moments_dict(found: Moments, details: bool = False) -> dict[str, Any]:
    """The same as plain data."""
    return {
        "mossy-moments": FORMAT,
        "answer": head(found),
        "ok": found.ok,
        "failed": list(found.failed),
        "moments": [
            {
                "when": m.phase.value,
                "milliseconds": m.at,
                "answered": m.cell.answered,
                "journey": m.journey.to_dict(details),
                "open-before": None if m.untried else m.goes_on,
                "open-lost-by": m.opened.cause if m.opened is not None else "",
                "probes": list(m.verdicts),
            }
            for m in found.moments
        ],
    }
