"""What was proven, as text and as plain data: the answer, then a packet against it, or what stopped every packet."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from mossy_compass.lab.proofs import Against, Proof
from mossy_compass.plan.reasons import Fate
from mossy_compass.report import text
from mossy_compass.walk.journey import Symptom

MOST_SHOWN = 12
MOST_REASONS = 8
ASKED = "from the sources' own addresses, 64 bytes long, over every equal way"
NOT_ASKED = (
    "larger packets, other sources' addresses, what belongs to a conversation that somebody else began, other weather than now"
)


NOT_REACHED = "larger packets, other sources' addresses, tables that are full, other weather than now"


def proof(found: Proof) -> RenderableType:
    """The answer, with what it rests on."""
    return Group(Text(head(found), style="bold"), *rests_on(found))


def rests_on(found: Proof) -> list[RenderableType]:
    """What the answer rests on, and a packet against it."""
    rows = list(_rows(found))
    parts: list[RenderableType] = []
    parts.append(Padding(text.rows_of(rows, ("dim", ""), (9, None)), (0, 0, 0, 2)))
    if found.against:
        parts.append(text.head(found.against[0].journey))
    return parts


def head(found: Proof) -> str:
    """The answer."""
    if not found.claim.never:
        return _head_of_reaching(found)
    if found.against:
        first = found.against[0]
        pairs = len({(a.source, a.target) for a in found.against})
        if first.wrong:
            more = f"; {pairs - 1} more pair{'s' * (pairs > 2)} not as claimed" if pairs > 1 else ""
            return (
                f"{found.claim.words}: NO. {first.source} does not reach {first.target}, but {first.wrong[0]}{_when(first)}{more}."
            )
        more = f", and {pairs - 1} more pair{'s' * (pairs > 2)}" if pairs > 1 else ""
        return f"{found.claim.words}: NO. {first.source} reaches {first.target}{_when(first)}{more}."
    if found.holds is None:
        return f"{found.claim.words}: NOT KNOWN; nothing against it was walked, and not everything could be looked at."
    of_all = f"; whoever sends one that opens something sees {' or '.join(found.claim.seeing)}" if found.claim.seeing else ""
    return f"{found.claim.words}: YES, whatever packet is sent{of_all}."


def _head_of_reaching(found: Proof) -> str:
    """The answer of what should always reach."""
    words = found.claim.words
    if found.against:
        first = found.against[0]
        pairs = len({(a.source, a.target) for a in found.against})
        more = f", nor {'do' if pairs > 2 else 'does'} {pairs - 1} more pair{'s' * (pairs > 2)}" if pairs > 1 else ""
        if first.journey.answered:
            more = f"; {pairs - 1} more pair{'s' * (pairs > 2)} not as claimed" if pairs > 1 else ""
            return f"{words}: NO. {first.source} reaches {first.target}, but {first.wrong[0]}{_when(first)}{more}."
        return f"{words}: NO. {first.source} does not reach {first.target}{_when(first)}{more}."
    if found.holds is None:
        return f"{words}: NOT KNOWN; all that could be walked is answered, and not everything could be looked at."
    return f"{words}: YES, every packet of it is answered."


def _when(one: Against) -> str:
    """When packets get through, where that is not always."""
    return f" ({one.case})" if one.case else ""


def _rows(found: Proof) -> Iterator[tuple[str, str]]:
    """The lines that belong to the answer."""
    yield from _all_against(found)
    for words in found.doubtful[:MOST_SHOWN]:
        yield "in doubt", words
    for words in found.left[:MOST_SHOWN]:
        yield "not asked", words
    if found.elsewhere:
        ways = [f"past {' and '.join(found.claim.avoids)}"] if found.claim.avoids else []
        ways += [f"not past {' and '.join(found.claim.passes)}"] if found.claim.passes else []
        yield "besides", f"{_count(found.elsewhere, 'kind')} of packets get there {' or '.join(ways)}"
    if not found.against:
        yield from _reasons(found)
    if found.stray:
        yield "besides", f"packets that open nothing get there too, as {found.stray}"
    cases = f", {found.cases} moments and circumstances" if found.cases > 1 else ""
    yield (
        "asked",
        f"{_count(found.sources, 'source')}, {_count(found.targets, 'address', 'addresses')}{cases}; "
        f"{_what(found)} {ASKED}; {_count(found.kinds, 'kind')} of packets told apart",
    )
    if not found.claim.never and not found.reasons and not found.against:
        yield "let in", "no list decides about it on the way there"
    yield "beyond", f"not looked at: {NOT_ASKED if found.claim.never else NOT_REACHED}"


def _all_against(found: Proof) -> Iterator[tuple[str, str]]:
    """What speaks against a claim."""
    called, line = ("by", _gets_through) if found.claim.never else ("lost", _lost)
    if found.claim.never and any(one.wrong for one in found.against):
        called, line = "sees", _sees
    # What nobody listens for says little by its names: where more than some services are meant, one line for each pair.
    lines = list(dict.fromkeys(map(line, found.against)))
    for number, words in enumerate(lines[:MOST_SHOWN]):
        yield called if number == 0 else "", words
    if len(lines) > MOST_SHOWN:
        yield "", f"and {len(lines) - MOST_SHOWN} more"


def _reasons(found: Proof) -> Iterator[tuple[str, str]]:
    """What a claim that holds rests on, the most first."""
    did = "stopped" if found.claim.never else "let in"
    for number, (device, because, count) in enumerate(found.reasons[:MOST_REASONS]):
        yield did if number == 0 else "", f"at {device}: {because.cited()} ({_count(count, 'kind')} of packets)"
    if len(found.reasons) > MOST_REASONS:
        yield "", f"and {len(found.reasons) - MOST_REASONS} more reasons"


def _services(one: Against) -> str:
    """The services that packets are of."""
    if not one.services:
        return "other services"
    return ", ".join(one.services) + (" and others" if one.more else "")


def _gets_through(one: Against) -> str:
    """What gets through, and should not."""
    if one.journey.there.fate is Fate.DELIVERED:
        return f"{one.source} to {one.target}: {_services(one)}{_when(one)}"
    services = "other services" if one.more else _services(one)
    return f"{one.source} to {one.target}: {services}, where nobody listens{_when(one)}"


def _sees(one: Against) -> str:
    """What the sender of packets that do not arrive sees of it, and why."""
    port = f" from source port {one.port} and some others" if one.port >= 0 else ""
    told = one.journey.back
    lost = (
        f"; what was sent home about it is lost: {told.because.cited()}"
        if told is not None and one.journey.symptom is Symptom.SILENCE
        else ""
    )
    why = one.journey.there.because.cited()
    return f"{one.source} to {one.target}: {one.journey.symptom} for {_services(one)}{port}{_when(one)}: {why}{lost}"


def _lost(one: Against) -> str:
    """What does not fare as it should, and why."""
    port = f" from source port {one.port} and some others" if one.port >= 0 else ""
    why = one.wrong[0] if one.journey.answered else one.journey.because.cited()
    return f"{one.source} to {one.target}: {_services(one)}{port}{_when(one)}: {why}"


def _what(found: Proof) -> str:
    """Which packets were asked about."""
    if not found.claim.never and not found.claim.services:
        but = f" but {' and '.join(found.claim.but)}" if found.claim.but else ""
        return f"every source port, to what each target listens for{but},"
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
                "wrong": list(a.wrong),
                "source-port": a.port if a.port >= 0 else None,
                "journey": a.journey.to_dict(),
            }
            for a in found.against
        ],
        "doubtful": list(found.doubtful),
        "not-asked": list(found.left),
        "stopped" if found.claim.never else "let-in": [
            {"device": device, "because": because.words, "place": str(because.mark) if because.mark else None, "kinds": count}
            for device, because, count in found.reasons
        ],
        "stray": found.stray or None,
        "elsewhere": found.elsewhere,
        "sources": found.sources,
        "addresses": found.targets,
        "kinds": found.kinds,
        "cases": found.cases,
    }
