"""What was proven, as text and as plain data: the answer, then a packet against it, or what stopped every packet."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from mossy_compass.lab.prove import Against, Proof
from mossy_compass.plan.reasons import Fate
from mossy_compass.report import text

MOST_SHOWN = 12
MOST_REASONS = 8
ASKED = "from the sources' own addresses, 64 bytes long, over every equal way"
NOT_ASKED = (
    "larger packets, other sources' addresses, what belongs to a conversation that somebody else began, other weather than now"
)


def proof(found: Proof) -> RenderableType:
    """The answer, with what it rests on."""
    parts: list[RenderableType] = [Text(head(found), style="bold")]
    rows = list(_rows(found))
    parts.append(Padding(text.rows_of(rows, ("dim", ""), (9, None)), (0, 0, 0, 2)))
    if found.against:
        parts.append(text.head(found.against[0].journey))
    return Group(*parts)


def head(found: Proof) -> str:
    """The answer."""
    if found.against:
        first = found.against[0]
        pairs = len({(a.source, a.target) for a in found.against})
        more = f", and {pairs - 1} more pair{'s' * (pairs > 2)}" if pairs > 1 else ""
        return f"{found.claim.words}: NO. {first.source} reaches {first.target}{_when(first)}{more}."
    if found.holds is None:
        return f"{found.claim.words}: NOT KNOWN; nothing against it was walked, and not everything could be looked at."
    return f"{found.claim.words}: YES, whatever packet is sent."


def _when(one: Against) -> str:
    """When packets get through, where that is not always."""
    return f" ({one.case})" if one.case else ""


def _rows(found: Proof) -> Iterator[tuple[str, str]]:
    """The lines that belong to the answer."""
    for number, one in enumerate(found.against[:MOST_SHOWN]):
        by = ", ".join(one.services) + (" and others" if one.more and one.services else "" if one.services else "other services")
        closed = "" if one.journey.there.fate is Fate.DELIVERED else ", where nobody listens"
        yield "by" if number == 0 else "", f"{one.source} to {one.target}: {by}{closed}{_when(one)}"
    if len(found.against) > MOST_SHOWN:
        yield "", f"and {len(found.against) - MOST_SHOWN} more"
    for words in found.doubtful[:MOST_SHOWN]:
        yield "in doubt", f"{words}: the sets say so, and no walk showed it"
    for words in found.left[:MOST_SHOWN]:
        yield "not asked", words
    if found.reasons and not found.against:
        for number, (device, because, count) in enumerate(found.reasons[:MOST_REASONS]):
            yield "stopped" if number == 0 else "", f"at {device}: {because.cited()} ({_count(count, 'kind')} of packets)"
        if len(found.reasons) > MOST_REASONS:
            yield "", f"and {len(found.reasons) - MOST_REASONS} more reasons"
    if found.stray:
        yield "besides", f"packets that open nothing get there too, as {found.stray}"
    cases = f", {found.cases} moments and circumstances" if found.cases > 1 else ""
    yield (
        "asked",
        f"{_count(found.sources, 'source')}, {_count(found.targets, 'address', 'addresses')}{cases}; "
        f"{_what(found)} {ASKED}; {_count(found.kinds, 'kind')} of packets told apart",
    )
    yield "beyond", f"not looked at: {NOT_ASKED}"


def _what(found: Proof) -> str:
    """Which packets were asked about."""
    if found.claim.services:
        return f"every source port of {' and '.join(found.claim.services)}"
    but = f" but {' and '.join(found.claim.but)}" if found.claim.but else ""
    return f"every protocol, port, ICMP kind and source port{but}"


def _count(number: int, one: str, many: str = "") -> str:
    """A number with its noun."""
    return f"{number} {one if number == 1 else many or one + 's'}"


def proof_dict(found: Proof) -> dict[str, object]:
    """The same as plain data."""
    return {
        "claim": found.claim.words,
        "holds": found.holds,
        "against": [
            {
                "source": a.source,
                "target": a.target,
                "services": list(a.services),
                "others": a.more,
                "when": a.case,
                "journey": a.journey.to_dict(),
            }
            for a in found.against
        ],
        "doubtful": list(found.doubtful),
        "not-asked": list(found.left),
        "stopped": [
            {"device": device, "because": because.words, "place": str(because.mark) if because.mark else None, "kinds": count}
            for device, because, count in found.reasons
        ],
        "stray": found.stray or None,
        "sources": found.sources,
        "addresses": found.targets,
        "kinds": found.kinds,
        "cases": found.cases,
    }
