"""Remedies as text, smallest first, each with everything else that it changes; and as plain data."""

from __future__ import annotations

from typing import Any

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from mossy_compass.lab.remedy import Remedies, Remedy
from mossy_compass.proof.findings import example
from mossy_compass.report import sentences, versionstext
from mossy_compass.report.text import rows_of
from mossy_compass.walk.grid import cell_dict

FORMAT = 1
MOST_NAMED = 4
"""So many other tests are named."""


def remedies(found: Remedies) -> RenderableType:
    """The answer in a line, why it is so now, and what helps."""
    parts: list[RenderableType] = [Text(head(found), style="bold green" if found.found or found.so_already else "bold red")]
    parts.append(Text(f"now: {sentences.headline(found.before)}"))
    for number, remedy in enumerate(found.found, 1):
        parts += [Text(""), *_remedy(number, remedy)]
    if found.farthest is not None:
        words, journey = found.farthest
        parts += [Text(""), Text(f"farthest it came with this: {'; and '.join(words)}")]
        parts.append(rows_of([("   then", sentences.headline(journey))], ("dim", ""), (15, None)))
    if found.more:
        parts += [Text(""), Text(f"... and {found.more} more that change more.")]
    return Group(*parts)


def brief(found: Remedies) -> RenderableType:
    """The answer, and what helps, each with what else it changes among the tests."""
    parts: list[RenderableType] = [Text(head(found))]
    rows = [
        (f"{n}", f"{'; and '.join(r.words)}; {'; '.join(words for _, words in _radius(r))}") for n, r in enumerate(found.found, 1)
    ]
    return Group(*parts, Padding(rows_of(rows, ("dim", ""), (3, None)), (0, 0, 0, 2)))


def head(found: Remedies) -> str:
    """The answer in a line."""
    flow = found.flow
    what = "is answered" if found.wanted else "does not arrive"
    ends = f"{flow.source} → {flow.target}, {flow.label}"
    if found.so_already:
        return f"{ends}: it {what} already; nothing has to be done."
    if not found.found:
        tried = (
            f"{found.tried} change{'s were' if found.tried != 1 else ' was'} tried"
            if found.tried
            else "there is none that could be tried"
        )
        return f"{ends}: nothing was found after which it {what}; {tried}."
    count = len(found.found) + found.more
    first = ", the smallest first" if count > 1 else ""
    tried = f"{found.tried} {'were' if found.tried != 1 else 'was'} tried"
    return f"{ends}: {count} change{'s' * (count != 1)} after which it {what}{first} ({tried})."


def _remedy(number: int, remedy: Remedy) -> list[RenderableType]:
    """One, with what else it does."""
    words = "; and ".join(remedy.words)
    rows = [("then", sentences.headline(remedy.journey)), *_radius(remedy)]
    rows += [("" if n else "exactly", words) for n, words in enumerate(_exactly(remedy))]
    if remedy.unknown and not remedy.followed:
        rows.append(
            ("not known", f"what {', '.join(remedy.unknown[:MOST_NAMED])} does to others: no test that ends otherwise passes there")
        )
    rows += [("found", f"{p.message} [{p.code}]") for p in remedy.new[:MOST_NAMED]]
    body = rows_of([(f"   {label}", text) for label, text in rows], ("dim", ""), (15, None))
    return [Text.assemble((f"{number}  ", "bold"), (words, "bold")), body]


def _radius(remedy: Remedy) -> list[tuple[str, str]]:
    """What else it does: to all packets where they could be followed, else to tests too."""
    rows = [("all packets", versionstext.in_line(remedy.radius))] if remedy.radius is not None else []
    if remedy.why_not:
        rows.append(("all packets", f"not followed: {remedy.why_not}"))
    return rows if remedy.followed else [*rows, ("tests", _besides(remedy))]


def _besides(remedy: Remedy) -> str:
    """How many other tests change, and which first."""
    if not remedy.others:
        return f"none of {remedy.tests} other tests changes"
    changes = remedy.changes
    opens = [new for old, new in changes.changed if new.answered and not old.answered]
    closes = [new for old, new in changes.changed if old.answered and not new.answered]
    parts = [f"{len(some)} {verb}" for some, verb in ((opens, "open"), (closes, "close")) if some]
    rest = remedy.others - len(opens) - len(closes)
    parts += [f"{rest} have another reason or way"] if rest else []
    named = [f"{c.source} → {c.target} {c.service}" for c in (*closes, *opens)[:MOST_NAMED]]
    such = f": {', '.join(named)}{' ...' if len(opens) + len(closes) > MOST_NAMED else ''}" if named else ""
    return f"of {remedy.tests} other tests {', '.join(parts)}{such}"


def _exactly(remedy: Remedy) -> list[str]:
    """What turns for packets of any kind, list by list and place by place."""
    found = remedy.effects
    out = [f"list {e.name}: {t.before} becomes {t.after}, for example {example(t.witness)}" for e in found.lists for t in e.turns]
    out += [
        f"{p.device}, {p.where}: {t.before} becomes {t.after}, for example {example(t.witness)}"
        for p in found.places
        for t in p.turns
    ]
    ways = len(found.ways.found)
    out += [f"routes: {ways} destination{'s go' if ways > 1 else ' goes'} another way"] if ways else []
    more = len(out) - MOST_NAMED
    return out[:MOST_NAMED] + ([f"... and {more} more"] if more > 0 else [])


def remedies_dict(found: Remedies) -> dict[str, Any]:
    """The same as plain data."""
    return {
        "mossy-remedies": FORMAT,
        "answer": head(found),
        "wanted": "reaches" if found.wanted else "never-reaches",
        "already": found.so_already,
        "tried": found.tried,
        "more": found.more,
        "now": found.before.to_dict(),
        "farthest": {"words": list(found.farthest[0]), "then": found.farthest[1].to_dict()} if found.farthest is not None else None,
        "remedies": [
            {
                "words": list(r.words),
                "changes": [dict(s) for s in r.steps],
                "then": r.journey.to_dict(),
                "tests": r.tests,
                "others": r.others,
                "changed": [{"before": cell_dict(a), "after": cell_dict(b)} for a, b in (*r.changes.changed, *r.changes.rerouted)],
                "exactly": _exactly(r),
                "all-packets": versionstext.as_dict(r.radius) if r.radius is not None else None,
                "not-followed": r.why_not or None,
                "not-known": list(r.unknown),
                "findings": [{"code": p.code, "severity": p.severity.value, "message": p.message} for p in r.new],
            }
            for r in found.found
        ],
    }
