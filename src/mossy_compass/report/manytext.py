"""Every path of a question, and many of its flows, as text and as plain data.

The first line says whether all ways and flows end alike, since that is the question: equal
ways that end differently are a fault that shows only now and then. Each outcome is then
told once, by one journey that has it, with the choices that lead there.
"""

from __future__ import annotations

from typing import Any

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from mossy_compass.report import sentences
from mossy_compass.report.text import rows_of
from mossy_compass.walk.many import Flows, Path, Paths

Question = tuple[str, str, str]


def _ends(question: Question) -> str:
    """Who asks whom for what."""
    return f"{question[0]} → {question[1]}, {question[2]}"


def _choices(path: Path) -> str:
    """The choices that make a path differ from others, in words."""
    return "; ".join(f"{c.device} {c.hop.words()}" for c in path.choices) or "no device has a choice"


def paths(found: Paths, question: Question) -> RenderableType:
    """First whether the fates differ, then each fate with its paths."""
    outcomes = found.outcomes()
    number = len(found.paths)
    count = f"{number} paths" if number != 1 else "1 path"
    more = "" if found.whole else f" (there are more than {number}: only these were followed)"
    if len(outcomes) == 1:
        (fate, cause), _ = next(iter(outcomes.items()))
        line = f"{_ends(question)}: {count}, there and back, and every one ends alike: {fate.upper()} [{cause}]{more}"
    else:
        parts = ", ".join(f"{len(some)} {fate.upper()} [{cause}]" for (fate, cause), some in outcomes.items())
        line = f"{_ends(question)}: {count}, there and back, and THEIR FATES DIFFER: {parts}{more}"
    blocks: list[RenderableType] = [Text(line)]
    for some in outcomes.values():
        blocks.append(Padding(Text(sentences.headline(some[0].journey)), (0, 0, 0, 2)))
        rows: list[tuple[str, str]] = []
        for path in some[:16]:
            there, back = path.journey.there, path.journey.back
            words = sentences.path_line(there) + (f"\nback {sentences.path_line(back)}" if back else "")
            rows.append(("-", f"{words}\n({_choices(path)})"))
        if len(some) > 16:
            rows.append(("", f"... and {len(some) - 16} more paths that end so; --format json has them"))
        blocks.append(Padding(rows_of(rows, ("", ""), (1, None)), (0, 0, 0, 4)))
    return Group(*blocks)


def paths_dict(found: Paths, question: Question) -> dict[str, Any]:
    """Every path as plain data."""
    return {
        "mossy-paths": 1,
        "question": {"from": question[0], "to": question[1], "service": question[2]},
        "whole": found.whole,
        "outcomes": [{"fate": f, "cause": c, "paths": len(some)} for (f, c), some in found.outcomes().items()],
        "paths": [
            {
                "choices": [{"device": c.device, "member": c.member + 1, "of": c.count, "way": c.hop.words()} for c in p.choices],
                "journey": p.journey.to_dict(),
            }
            for p in found.paths
        ],
    }


def flows(found: Flows, question: Question) -> RenderableType:
    """First how the flows ended, then how each device with a choice shared them."""
    ends = ", ".join(f"{n} {fate.upper()} [{cause}]" for fate, cause, n in found.outcomes)
    blocks: list[RenderableType] = [Text(f"{_ends(question)}: of {found.count} flows {ends}")]
    if not found.shares:
        blocks.append(Padding(Text("No device on the way has equal routes to choose among."), (0, 0, 0, 2)))
    for share in found.shares:
        total = sum(n for _, n in share.counts)
        alone = sum(1 for _, n in share.counts if n) == 1
        words = " (all by one way: see the setting sharing, and which fields these flows differ in)" if alone else ""
        blocks.append(Padding(Text(f"{share.device}, on the way {share.way}, shares {total} flows{words}:"), (0, 0, 0, 2)))
        rows = [(f"{n}", f"{100 * n / total:.1f} %", hop.words()) for hop, n in share.counts]
        blocks.append(Padding(rows_of(rows, ("", "", ""), (7, 7, None)), (0, 0, 0, 4)))
    return Group(*blocks)


def flows_dict(found: Flows, question: Question) -> dict[str, Any]:
    """Many flows as plain data."""
    return {
        "mossy-flows": 1,
        "question": {"from": question[0], "to": question[1], "service": question[2]},
        "count": found.count,
        "outcomes": [{"fate": f, "cause": c, "flows": n} for f, c, n in found.outcomes],
        "shares": [
            {"device": s.device, "way": s.way, "members": [{"way": h.words(), "flows": n} for h, n in s.counts]}
            for s in found.shares
        ],
    }
