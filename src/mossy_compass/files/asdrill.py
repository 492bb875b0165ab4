"""Today's answers as a drill to start from: what is answered shall be, what does not arrive shall not."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence

from mossy_compass.files.edit import flow as written
from mossy_compass.lab.lab import Flow
from mossy_compass.walk.grid import Cell

HEAD = "# Today's answers. Strike what nobody wants to hold, and say why the rest does."


def as_drill(tested: Iterable[tuple[Flow, Cell]], network: str, drill: str, at: str | None = None) -> tuple[str, int]:
    """A drill file's text, and the number of its expectations: a table of intents, to be read, thinned out and given reasons.

    A test in both families whose answers differ, one whose packet arrives and whose answer is lost, and one that needs the uplink
    of last resort do not go into a line of the table; they are written as expectations of their own.

    Args:
        tested: every test in each of its families, with what it came to.
        network: the network file.
        drill: the file that it is written to, since the network is named from beside it.
        at: the time of the tests, as it was given.

    """
    beside = os.path.relpath(os.path.realpath(network), os.path.dirname(os.path.realpath(drill)))
    groups: dict[tuple[str, str, str], list[tuple[Flow, Cell]]] = {}
    unmade = 0
    for flow, cell in tested:
        if cell.cause == "source.none":  # no packet could be made of it, so nothing would be tested
            unmade += 1
            continue
        groups.setdefault((flow.source, flow.target, flow.service), []).append((flow, cell))
    table, apart = [], list[dict[str, object]]()
    for held in groups.values():
        line = _line(held)
        if line:
            table.append(line)
        else:
            apart += [_expectation(flow, cell) for flow, cell in held]
    said = [f"# {unmade} tests are left out: their sender has no address of the target's family."] if unmade else []
    lines = [HEAD, *said, "mossy-drill: 1", f"network: {written(beside)}"]
    if at is not None:
        lines.append(f"defaults: {written({'at': at})}")
    lines += ["steps:", *(["  - table:"] if table else []), *(f"      - {written(line)}" for line in table)]
    lines += [f"  - expect: {written(one)}" for one in apart]
    return "\n".join(lines) + "\n", len(table) + len(apart)


def _line(held: Sequence[tuple[Flow, Cell]]) -> dict[str, object]:
    """The tests of one pair and service as a line of a table; empty where they make none."""
    answers = {_wanted(cell) for _, cell in held}
    if len(answers) != 1 or None in answers or any(f.options.last_resort for f, _ in held):
        return {}
    flow, cell = held[0]
    line: dict[str, object] = {"source": flow.source, "target": flow.target, "service": flow.service, "wanted": cell.answered}
    return line if cell.answered else {**line, "why": f"today: {cell.cause}"}


def _wanted(cell: Cell) -> bool | None:
    """Whether a test was answered; None for one that arrived, and whose answer was lost."""
    if cell.answered:
        return True
    return False if cell.lost == "there" and cell.fate not in ("delivered", "refused") else None


def _expectation(flow: Flow, cell: Cell) -> dict[str, object]:
    """A test that is no line of a table."""
    out: dict[str, object] = {"from": flow.source, "to": flow.target, "service": flow.service, "cause": cell.cause}
    wanted = _wanted(cell)
    if wanted is not None:
        out["reaches"] = wanted
    if flow.options.family is not None:
        out["family"] = flow.options.family
    if flow.options.last_resort:
        out["last-resort"] = True
    return out
