"""The sentences: who, to whom, which service, in which direction, what happened, by which rule."""

from __future__ import annotations

from collections.abc import Callable

from mossy_compass.plan.causes import CAUSES
from mossy_compass.plan.reasons import Did, Fate
from mossy_compass.report import words
from mossy_compass.walk.journey import Hop, Journey, Leg, Lookup, Ruling, Way

WORDS = {
    Fate.DELIVERED: "DELIVERED",
    Fate.REFUSED: "REFUSED",
    Fate.REJECTED: "REJECTED",
    Fate.DROPPED: "DROPPED",
    Fate.EXPIRED: "EXPIRED",
    Fate.LOOPED: "LOOPED",
}


def who(journey: Journey) -> str:
    """``kiosk-1 → ledger (10.40.48.20), tcp/8443``."""
    destination = journey.there.packet.destination
    known = destination.value != 0
    target = journey.target
    if journey.target_owner and journey.target == str(destination):
        shown = f"{destination} ({journey.target_owner})"
    elif known and target != str(destination):
        shown = f"{target} ({destination})"
    else:
        shown = target
    return f"{journey.sender} → {shown}, {journey.what}"


def verdict_word(journey: Journey) -> str:
    """The word that the first line is about."""
    if journey.answered:
        return "DELIVERED"
    if journey.lost == "lookup":
        return "NAME NOT FOUND"
    if journey.lost == "back":
        return f"ANSWER {WORDS[journey.fate]}"
    return WORDS[journey.fate]


def headline(journey: Journey) -> str:
    """The answer in one sentence."""
    start = who(journey)
    leg = journey.deciding
    because = journey.because.cited()
    although = "".join(f"; although {b.cited()}" for b in journey.although)
    tail = f"{although}; {journey.sender} sees {journey.symptom.value} [{journey.cause}]"
    if journey.answered:
        permits = [b.cited() for _, b in journey.there.permits()]
        by = f", let through by {' and '.join(permits)}" if permits else "; no list is attached where it passed"
        return f"{start}: DELIVERED and answered: {because}{by}{although} [{journey.cause}]"
    if journey.lookup is not None and journey.lost == "lookup":
        return f"{start}: not sent, {_lookup_words(journey.lookup, journey)}{tail}"
    if journey.cause == "name.unknown":
        return f"{start}: DROPPED before it left: {because}{tail}"
    by = " by " if _by(journey) else ": "
    if journey.lost == "back":
        root = f": {journey.root}; it met " if journey.root and _by(journey) else f": {journey.root}, and " if journey.root else by
        return f"{start}: delivered, but the ANSWER is {WORDS[journey.fate]} on the way back at {leg.end}{root}{because}{tail}"
    if journey.fate is Fate.LOOPED:
        return f"{start}: LOOPED on the way there: {because}{tail}"
    if journey.fate is Fate.REFUSED:
        return f"{start}: REFUSED by the host {leg.end} after delivery: {because}{tail}"
    if journey.fate is Fate.DELIVERED or journey.cause == "service.silent":
        return (
            f"{start}: {'delivered, but UNANSWERED' if journey.fate is Fate.DELIVERED else 'arrived, but IGNORED'}: {because}{tail}"
        )
    return f"{start}: {WORDS[journey.fate]} on the way there at {leg.end}{by}{because}{tail}"


def _lookup_words(lookup: Lookup, journey: Journey) -> str:
    """Why a name was not found: the resolver does not know it, or the lookup itself did not get through."""
    asked = lookup.journey
    if asked.answered:
        return f"the LOOKUP was answered, but {journey.because.cited()}"
    inner = headline(asked)
    words = inner[len(who(asked)) + 2 :].rpartition("; ")[0]
    return f"the LOOKUP at {asked.there.packet.destination} failed: {words}"


def _by(journey: Journey) -> bool:
    return journey.because.code in ("rule", "list.end")


def extras(journey: Journey) -> list[tuple[str, str]]:
    """The lines under the first: label and sentence."""
    out = []
    if journey.lookup is not None:
        asked = journey.lookup
        said = ", ".join(asked.addresses) or "no address"
        words = f"{asked.name} asked at {asked.resolver}"
        out.append(("lookup", f"{words}: {said}" if asked.journey.answered else words))
    if journey.note:
        out.append(("why", journey.note))
    if journey.because.about and not journey.answered:
        out.append(("purpose", f'{journey.because.words}: "{journey.because.about}"'))
    out += [("nearest", words) for words in journey.nearest]
    if journey.symptom_note and not journey.answered:
        out.append(("sender", f"{journey.symptom.value}: {journey.symptom_note}"))
    if (
        journey.seen_as
        and not journey.seen_as.startswith(str(journey.there.packet.source))
        and f"[{journey.there.packet.source}]" not in journey.seen_as
    ):
        out.append(("seen as", f"{journey.seen_as} by {journey.target_owner or journey.there.end}"))
    if journey.latency_ms and journey.answered:
        out.append(("time", f"{journey.latency_ms:g} ms on the cables, there and back"))
    if not journey.answered:
        remedies = CAUSES[journey.cause].remedies
        if remedies:
            out.append(("usually", "; ".join(remedies)))
    return out


def hop_ports(hop: Hop, leg: Leg) -> str:
    """``visitors → up``: by which interface it came and left."""
    if hop.leaving and hop.next_device:
        return f"{hop.arriving} → {hop.leaving}" if hop.arriving else f"→ {hop.leaving}"
    return hop.arriving or "(made here)"


def _known(ruling: Ruling) -> str:
    return f"{ruling.because.cited()}: {words.relation(ruling.relation)}, lists passed over"


def _sent(ruling: Ruling) -> str:
    """Only what is worth a line: several who answer, or a proxy."""
    remark = ruling.remark
    told = remark is not None and (remark.get("proxy") or remark.get("others"))
    return ruling.note if told else ""


_BRIEF: dict[Did, Callable[[Ruling], str]] = {
    Did.PERMITTED: lambda r: f"{r.because.cited()} permits",
    Did.KNOWN: _known,
    Did.REWRITTEN: lambda r: f"{r.note} by {r.because.cited()}",
    Did.KEPT: lambda r: r.note,
    Did.ROUTED: lambda r: f"{r.because.cited()} {r.note}",
    Did.STEERED: lambda r: f"{r.because.cited()} {r.note}",
    Did.FELL_THROUGH: lambda r: f"{r.because.cited()}: {r.note}",
    Did.SENT: _sent,
}


def hop_words(hop: Hop, leg: Leg, last: bool) -> str:
    """What happened at one device, in a line or two."""
    parts: list[str] = []
    for ruling in hop.rulings:
        if ruling.cause:
            note = f": {ruling.note}" if ruling.note else ""
            parts.append(f"{ruling.did.upper()}: {ruling.because.cited()}{note}")
        elif ruling.did in _BRIEF:
            parts.append(_BRIEF[ruling.did](ruling))
    if last and leg.fate is Fate.LOOPED:
        parts.append(f"and round again: {leg.because.words}")
    return "; ".join(p for p in parts if p)


def leg_title(leg: Leg) -> str:
    """Heading of a leg."""
    name = {Way.THERE: "there", Way.BACK: "back", Way.ERROR: "error's way home"}[leg.way]
    return f"{name}: {leg.packet}"


def path_line(leg: Leg) -> str:
    """The devices passed, and how it ended: ``kiosk-1 > canopy > gate: dropped``."""
    path = " > ".join(hop.device for hop in leg.hops)
    if leg.fate is Fate.LOOPED and leg.hops[-1].next_device:
        path += f" > {leg.hops[-1].next_device} again"
    return f"{path}: {leg.fate.value}"
