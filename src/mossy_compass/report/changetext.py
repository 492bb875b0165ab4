"""A change of a network file as text: what changes in the file, for the tests, and for each rule; worst first."""

from __future__ import annotations

import difflib
from collections.abc import Sequence

from rich.console import Group, RenderableType
from rich.text import Text

from mossy_compass.plan.effects import ListEffect
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.findings import example
from mossy_compass.report.text import table
from mossy_compass.walk.grid import Cell, Changes, Grid, differences


def difference(before: str, after: str, name: str) -> list[str]:
    """The lines that change, with three around them, as tools that compare texts write them."""
    lines = difflib.unified_diff(before.splitlines(), after.splitlines(), name, f"{name} (changed)", lineterm="", n=2)
    out = list(lines)
    while out and not out[-1].strip():
        out.pop()
    return out


def head(name: str, by: str, found: Changes | None, tests: int, effects: Sequence[ListEffect], written: bool) -> str:
    """The answer in a line: what the change does to everybody, and whether it is in the file."""
    done = "it is written" if written else "nothing is written; --write does it"
    if found is None:
        return f"{name} with {by}: there was nothing to test; {done}."
    opens = sum(new.answered and not old.answered for old, new in found.changed)
    closes = sum(old.answered and not new.answered for old, new in found.changed)
    others = len(found.changed) - opens - closes
    parts = [f"{closes} close" + "s" * (closes == 1)] if closes else []
    parts += [f"{opens} open" + "s" * (opens == 1)] if opens else []
    parts += [f"{others} {'has' if others == 1 else 'have'} another reason"] if others else []
    parts += [f"{len(found.rerouted)} go another way"] if found.rerouted else []
    if not parts:
        quiet = "no test changes" + (", but rules decide other packets" if effects else "")
        return f"{name} with {by}: {quiet} ({tests} tests); {done}."
    return f"{name} with {by}: of {tests} tests {', '.join(parts)}; {done}."


def whole(
    first: str, about: str, lines: Sequence[str], found: Changes | None, grid: Grid | None, effects: Sequence[ListEffect]
) -> RenderableType:
    """The answer, then what changes for tests, for packets, and in the file."""
    parts: list[RenderableType] = [Text(first, style="bold")]
    if about:
        parts.append(Text(f"  purpose  {about}", style="dim"))
    if found is not None and grid is not None and found:
        parts += [Text(""), Text("For the tests, closed ones first:", style="bold"), cells(found)]
    parts += [
        Text(""),
        Text("For packets, exactly:" if effects else "No rule of a list decides other packets than before.", style="bold"),
    ]
    parts += [part for effect in effects for part in _effect(effect)]
    parts += [Text(""), Text("In the file:", style="bold"), *map(_line, lines or ["  nothing"])]
    return Group(*parts)


def _line(line: str) -> Text:
    """A line of the difference in its colour."""
    style = {"+": "green", "-": "red", "@": "cyan"}.get(line[:1], "")
    return Text(line, style="bold" if line.startswith(("+++", "---")) else style, overflow="fold")


def cells(found: Changes) -> RenderableType:
    """The tests that change: what closes first, then what opens, then what has another reason or way."""

    def rank(pair: tuple[Cell, Cell]) -> int:
        """Closed before opened before the rest."""
        old, new = pair
        return 0 if old.answered and not new.answered else 1 if new.answered and not old.answered else 2

    rows = [
        (old.source, f"{old.target} {old.service}", old.words, new.words, new.reason)
        for old, new in sorted(found.changed, key=rank)[:MOST_SHOWN]
    ]
    for old, new in found.rerouted[: MOST_SHOWN - len(rows)]:
        what, was, now = differences(old, new)[0]
        rows.append((old.source, f"{old.target} {old.service}", old.words, new.words, f"{what}: {was}, now {now}"))
    made: list[RenderableType] = [table(("from", "to", "before", "after", "by"), rows, 4)]
    more = len(found.changed) + len(found.rerouted) - len(rows)
    if more > 0:
        made.append(Text(f"... and {more} more; --format json has them all", style="dim"))
    if found.come or found.gone:
        made.append(Text(f"{len(found.come)} tests are new, {len(found.gone)} are gone.", style="dim"))
    return Group(*made)


MOST_SHOWN = 20


def _effect(effect: ListEffect) -> list[RenderableType]:
    """What a change does to one list."""
    where = f" at {', '.join(effect.devices)}" if effect.devices else ", which stands nowhere"
    out: list[RenderableType] = [Text(f"list {effect.name}{where}:")]
    if effect.unknown:
        return [*out, Text(f"  {effect.unknown}")]
    for turn in effect.turns:
        out.append(Text.assemble("  ", (f"{turn.before} becomes {turn.after}", "bold"), f", for example {example(turn.witness)}"))
    rows = [
        (f"{row.row}{' (' + row.state + ')' if row.state else ''}", _shown(row.grew), _shown(row.shrank)) for row in effect.rows
    ]
    if not effect.turns:
        out.append(Text("  no packet gets another verdict; other rules decide:"))
    return [
        *out,
        table(("  rule", "decides now, and did not", "decided, and does not now"), [("  " + a, b, c) for a, b, c in rows]),
    ]


def _shown(facts: Facts | None) -> str:
    """An example; a dash for none."""
    return example(facts) if facts is not None else "-"
