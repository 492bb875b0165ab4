"""What came of a drill, as text of 100 columns: what fails first is what is read first."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from mossy_compass.lab.drill import Report, Result, Untested
from mossy_compass.lab.expect import Outcome
from mossy_compass.lab.steps import Compare
from mossy_compass.report import changetext, sentences
from mossy_compass.report.text import journey as journey_text
from mossy_compass.report.text import rows_of

MOST_FAILURES = 5
"""So many flows of one expectation are shown; the rest are counted."""
MOST_UNTESTED = 6
MOST_LEFT = 3
"""So much of what an expectation could not test is named; ``--details`` names all."""
MOST_LINES = 60
"""A drill of more steps shows those that hold together; ``--details`` shows each."""


def head(report: Report) -> str:
    """The answer in a line."""
    expected = report.expectations
    bad = sum(not r.ok and not r.broken for r in expected)
    tests = sum(r.tests for r in report.results)
    broken = sum(r.broken for r in report.results)
    name = report.drill.name or report.drill.title
    left = sum(len(r.left) for r in report.results)
    flows = f" ({tests} flow{'s' * (tests != 1)} tested{f', {left} not' if left else ''})"
    stopped = "; it was ended at the first failure" if report.stopped else ""
    if not expected and not broken:
        return f"{name}: nothing was expected, so nothing was tested{stopped}."
    parts = [_hold(len(expected), bad)] if bad or report.ok else []
    parts += [f"{len(report.edited)} edit{'s are' if len(report.edited) > 1 else ' is'} not in force"] if report.edited else []
    parts += [f"{broken} step{'s' * (broken != 1)} cannot be done"] if broken else []
    told = ", and ".join(p for p in (", ".join(parts[:-1]), *parts[-1:]) if p)
    return f"{name}: {told}{flows}{stopped}."


def _hold(expected: int, bad: int) -> str:
    """How many expectations hold, or do not."""
    if expected == 1:
        return "the one expectation " + ("does not hold" if bad else "holds")
    return (
        f"{bad} of {expected} expectations {'do' if bad > 1 else 'does'} not hold" if bad else f"all {expected} expectations hold"
    )


def whole(report: Report, details: bool = False) -> RenderableType:
    """The answer, a line a step, failing ones with their journeys, and what was never tested."""
    parts: list[RenderableType] = [Text(head(report), style="bold green" if report.ok else "bold red")]
    if report.drill.about:
        parts.append(Padding(Text(report.drill.about, style="dim"), (0, 0, 0, 2)))
    each = details or len(report.results) <= MOST_LINES
    for some in _runs(report.results, each):
        parts += step(some[0], details) if len(some) == 1 else [_alike(some)]
    chance = tuple(o for r in report.results for o in r.chance)
    if chance and not each:
        parts.append(_chance(chance))
    parts += _untested(report.untested, details)
    if report.edited:
        parts += [Text(""), Text("Edited, and never put in force:", style="bold"), *(Text(f"  {words}") for words in report.edited)]
    return Group(*parts)


def _runs(results: Sequence[Result], each: bool) -> Iterator[list[Result]]:
    """The steps one by one; in a long drill, expectations that hold and of which nothing is to be said run together."""
    run: list[Result] = []
    for result in results:
        if not each and result.expects and result.ok and not result.said and not result.left:
            run.append(result)
            continue
        if run:
            yield run
            run = []
        yield [result]
    if run:
        yield run


def _alike(results: Sequence[Result]) -> Text:
    """Expectations that hold, in one line."""
    first, last = results[0], results[-1]
    words = f"to {last.number}: {len(results)} expectations hold; --details shows each"
    return Text.assemble((f"{'ok':<7}", "green"), (f"{first.number:>4}  ", "dim"), words)


def line(result: Result) -> RenderableType:
    """A step in a line: how it went, its number, what it says, how many flows; where it is longer, the rest stands under its words."""
    word, style = ("ok", "green") if result.ok else ("FAILS", "bold red")
    if not result.expects:
        word, style = "", ""
    if result.broken:
        word, style = "BROKEN", "bold red"
    text = Text(result.step.words)
    if result.tests > 1:
        text.append(f" ({result.tests} flows)", style="dim")
    if result.said and result.ok:
        text.append(f": {result.said}", style="dim")
    cells = Text(word, style=style), Text(f"{result.number:>4}", style="dim"), text
    return rows_of([cells], ("", "", ""), (6, 5, None))


def step(result: Result, details: bool) -> Iterator[RenderableType]:
    """A step, with what is to be said of it."""
    yield line(result)
    if not result.ok:
        if result.step.about:
            yield _under(f'why it is wanted: "{result.step.about}"')
        if result.said:
            yield _under(result.said)
        if result.step.mark.line:
            yield _under(f"written at {result.step.mark}")
    for outcome in result.failures[:MOST_FAILURES]:
        yield _failure(outcome, details)
    for words in result.unforced:
        yield _under(words)
    more = len(result.failures) - MOST_FAILURES
    if more > 0:
        yield _under(f"... and {more} more flow{'s' * (more > 1)}; --format json has them all")
    if result.left:
        yield _under(f"not tested: {_few(result.left, MOST_LEFT if not details else len(result.left))}")
    if result.chance:
        yield Padding(_chance(result.chance), (0, 0, 0, 13))
    if isinstance(result.step, Compare) and result.changes:
        yield Padding(changetext.cells(result.changes), (0, 0, 0, 13))


def _few(words: Sequence[str], most: int) -> str:
    """The first of some, with the number of the others."""
    more = len(words) - most
    return "; ".join(words[:most]) + (f"; and {more} more" if more > 0 else "")


def _under(words: str) -> RenderableType:
    """A line below a step's own."""
    return Padding(Text(words), (0, 0, 0, 13))


def _failure(outcome: Outcome, details: bool) -> RenderableType:
    """A flow that is not as it was wanted: what is wrong, its headline, and the two lines below it; or all of it."""
    parts: list[RenderableType] = [Text("; ".join(outcome.wrong), style="red")]
    if details:
        parts.append(journey_text(outcome.journey))
    else:
        parts.append(Text(sentences.headline(outcome.journey)))
        extra = sentences.extras(outcome.journey)[:2]
        if extra:
            parts.append(Padding(rows_of(extra, ("dim", ""), (8, None)), (0, 0, 0, 2)))
    return Padding(Group(*parts), (0, 0, 0, 13))


def _chance(outcomes: tuple[Outcome, ...]) -> RenderableType:
    """Flows that do not arrive, and that nothing forbids."""
    first = outcomes[0]
    others = len(outcomes) - 1
    more = f", and {others} more flow{'s' * (others > 1)} likewise" if others else ""
    words = (
        f"by chance: {first.flow} does not arrive, since {first.journey.because.words} [{first.journey.cause}]{more};"
        " no rule decided it"
    )
    return Text(words, style="yellow")


def _untested(found: Untested, details: bool) -> Iterator[RenderableType]:
    """What no step met: rules, devices, services."""
    most = 10_000 if details else MOST_UNTESTED
    rows = []
    if found.rules:
        rows.append(("rules", _listed([f"{table}/{row} at {device}" for device, table, row, _ in found.rules], most)))
    if found.devices:
        rows.append(("devices", _listed(list(found.devices), most)))
    if found.services:
        rows.append(("services", _listed([f"{host} {word}" for host, word in found.services], most)))
    if rows:
        yield Text("")
        yield Text("Never tested:", style="bold")
        yield Padding(rows_of(rows, ("dim", ""), (9, None)), (0, 0, 0, 2))


def _listed(names: list[str], most: int) -> str:
    """The first names, with the number of the rest."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return f"{len(names)}: {', '.join(names[:most])}{more}"
