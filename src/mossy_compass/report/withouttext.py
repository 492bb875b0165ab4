"""What was proven as things are and without each of what can fail, as text and as plain data: the answer first."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from mossy_compass.lab.without import AfterFailure, Withstood
from mossy_compass.report import provetext, text

MOST_SHOWN = 12
MOST_NAMED = 3


def whole(found: Withstood) -> RenderableType:
    """The answer, the failures that it does not survive with a packet, and what it rests on as things are."""
    parts: list[RenderableType] = [Text(head(found), style="bold")]
    if found.now.holds is not False:
        broken = _with(found, False)
        rows = [(t.words, _answer(t)) for t in (*broken, *_with(found, None))]
        more = len(rows) - MOST_SHOWN
        if rows:
            said = [*rows[:MOST_SHOWN], *([("", f"and {more} more; --format json has them all")] if more > 0 else [])]
            parts.append(Padding(text.table(("without", "then"), said), (0, 0, 0, 2)))
        first = broken[0].proof if broken else None
        if first is not None:
            parts += [Text(""), Text(f"One of them, without {broken[0].words}:"), text.head(first.against[0].journey), Text("")]
        parts.append(Text("As things are:"))
    else:
        parts.append(Text("No failure was tried, since it does not hold even now."))
    return Group(*parts, *provetext.rests_on(found.now))


def head(found: Withstood) -> str:
    """The answer: whether it holds now, and whatever fails."""
    words, count = found.now.claim.words, len(found.without)
    failures = f"{count} failure{'s' if count != 1 else ''}"
    broken, unknown = _with(found, False), _with(found, None)
    if broken and found.now.holds is None:
        return f"{words}: NO, not without {_named(broken)}; as things are it is not known."
    if found.now.holds is not True:
        return provetext.head(found.now)
    if broken:
        return f"{words}: NOT ALWAYS. As things are it holds, but not without {_named(broken)} ({len(broken)} of {failures})."
    if unknown:
        return f"{words}: NOT KNOWN without {_named(unknown)}; it holds as things are, and nothing against it was walked."
    holds = "whatever packet is sent" if found.now.claim.never else "every packet of it is answered"
    return f"{words}: YES, {holds}, and after {'each of ' if count > 1 else ''}{failures}."


def _with(found: Withstood, holds: bool | None) -> list[AfterFailure]:
    """The failures after which it holds, does not, or is not known."""
    return [t for t in found.without if t.holds is holds]


def _named(some: Sequence[AfterFailure]) -> str:
    """The first failures, and how many more."""
    return text.some_of([t.words for t in some], MOST_NAMED)


def _answer(tried: AfterFailure) -> str:
    """What comes of it then, without the claim's own words."""
    if tried.proof is None:
        return f"NOT KNOWN; {tried.error}"
    return provetext.head(tried.proof).removeprefix(f"{tried.proof.claim.words}: ")


def as_dict(found: Withstood) -> dict[str, object]:
    """The same as plain data."""
    return {
        "claim": found.now.claim.words,
        "holds": found.holds,
        "now": provetext.proof_dict(found.now),
        "without": [
            {
                "failures": [str(f) for f in t.faults],
                "holds": t.holds,
                "error": t.error or None,
                "proof": provetext.proof_dict(t.proof) if t.proof is not None else None,
            }
            for t in found.without
        ],
    }
