"""Today's answers of a grid as a drill to start from: what is answered shall be, what does not arrive shall not."""

from __future__ import annotations

import os
from pathlib import Path

from mossy_compass.files.edit import flow
from mossy_compass.walk.grid import Grid


def as_drill(grid: Grid, network: str, drill: str) -> str:
    """A drill file's text: a table of intents, to be read, thinned out and given reasons.

    A test whose packet arrives and whose answer is lost is neither of the two; it is written with its cause.

    Args:
        grid: the tests.
        network: the network file.
        drill: the file that it is written to, since the network is named from beside it.

    """
    beside = os.path.relpath(Path(network).resolve(), Path(drill).resolve().parent)
    lines = [
        "# Today's answers. Strike what nobody wants to hold, and say why the rest does.",
        "mossy-drill: 1",
        f"network: {flow(beside)}",
        "steps:",
        "  - table:",
    ]
    odd = []
    for cell in grid.cells:
        ends = {"source": cell.source, "target": cell.target, "service": cell.service}
        if cell.answered:
            lines.append(f"      - {flow({**ends, 'wanted': True})}")
        elif cell.lost == "there" and cell.fate not in ("delivered", "refused"):
            lines.append(f"      - {flow({**ends, 'wanted': False, 'why': f'today: {cell.cause}'})}")
        else:
            odd.append({"from": cell.source, "to": cell.target, "service": cell.service, "cause": cell.cause})
    if len(lines) == 5:
        lines.pop()
    return "\n".join([*lines, *(f"  - expect: {flow(o)}" for o in odd)]) + "\n"
