"""The sentences: who, to whom, which service, in which direction, what happened, by which rule.

The headline is one sentence that names the culprit with its place, and what the sender
sees. Everything else answers a question that the headline leaves open: what would have let
it pass, what else is wrong, what people usually do.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from mossy_compass.packet.service import protocol_name
from mossy_compass.plan.ids import TableKind
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Did, Fate
from mossy_compass.report import words
from mossy_compass.report.advice import remedies
from mossy_compass.walk.journey import Hop, Journey, Leg, Lookup, Ruling, Symptom, Way

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
    if journey.lost == "onward":
        return f"ONWARD {WORDS[journey.fate]}"
    if journey.lost == "later":
        return f"LATER {WORDS[journey.fate]}"
    return WORDS[journey.fate]


MOST_PERMITS = 3
"""So many rules that let a packet through stand in the first line; the hops show all of them."""


def headline(journey: Journey) -> str:
    """The answer in one sentence: who, to whom, which service, in which direction, what happened, by which rule."""
    twice = "".join(f"; although {b.cited()}" for b in journey.although if b.kind == "duplicate")
    sees = "" if journey.answered else f"; {journey.sender} sees {journey.symptom.value}"
    again = f"{journey.within}: " if journey.within and journey.later is None else ""
    return f"{who(journey)}: {again}{outcome(journey)}{twice}{sees} [{journey.cause}]"


def outcome(journey: Journey) -> str:
    """What happened, and by what, without the two ends."""
    because = journey.because.cited()
    if journey.within and journey.later is not None and journey.answered:
        return _later_arrived(journey, journey.later)
    if journey.lost == "onward" and journey.onward is not None:
        taken = "answered" if journey.symptom is Symptom.OPEN_ONLY else "taken"
        return f"{taken} by {journey.there.end} itself, but what it asks ONWARD ({who(journey.onward)}) is lost: {outcome(journey.onward)}"
    if journey.answered:
        onward = f"; onward {who(journey.onward)}: {outcome(journey.onward)}" if journey.onward is not None else ""
        itself = f" by {journey.there.end} itself" if onward else ""
        return f"DELIVERED and answered{itself}{_through(journey.there)}: {because}{_let_through(journey)}{onward}"
    if journey.lookup is not None and journey.lost == "lookup":
        return f"not sent, {_lookup_words(journey.lookup, journey)}"
    if journey.cause in ("name.unknown", "target.none"):
        return f"DROPPED before it left: {because}"
    if journey.lost == "back":
        word = WORDS[journey.fate] if journey.fate is not Fate.DELIVERED else "LOST"
        carrying = _carrying(journey, journey.back) if journey.back is not None else ""
        where = f"{journey.deciding.end}{_place(journey)}{carrying}"
        return f"delivered, but the ANSWER is {word} on the way back at {where}{_root(journey, carrying)}{because}"
    if journey.lost == "later":
        return f"answered at first, but {_later_lost(journey)}{because}"
    return f"{_on_the_way_there(journey)}{because}"


def _later_arrived(journey: Journey, later: Leg) -> str:
    """That a later packet of a conversation arrives, and as part of which sessions."""
    known = [f"session {r.session} of {h.device}" for h in later.hops for r in h.rulings if r.did is Did.KNOWN]
    part = f", as part of {' and '.join(dict.fromkeys(known))}" if known else ""
    return f"answered, and {journey.within} is DELIVERED to {whom(journey)}{part}"


def _later_lost(journey: Journey) -> str:
    """Where a later packet is lost, of a conversation or that which shows the application; ends where the reason follows."""
    end = journey.deciding.end
    if journey.within:
        return f"{journey.within} is {WORDS[journey.fate]} at {end}{_place(journey)}{_root(journey)}"
    shows = f"packet {journey.moment.known_from}, which shows the application, is {WORDS[journey.fate]} at {end}"
    return f"{shows}{' by ' if _by(journey) else ': '}"


def _through(leg: Leg) -> str:
    """The tunnels that a packet went through."""
    found = [f"{hop.leaving} of {hop.device}" for hop in leg.hops if hop.outer is not None]
    return f" through tunnel {' and '.join(found)}" if found else ""


def whom(journey: Journey) -> str:
    """Who got the later packet of a conversation: one of its two ends, by the name that it was asked by."""
    end = journey.homeward[-1].end
    if end == journey.there.hops[0].device:
        return journey.sender
    return journey.target_owner or end if end == journey.there.end else end


def _on_the_way_there(journey: Journey) -> str:
    """What happened to a packet of which its own way decided; ends where the reason follows."""
    end = journey.deciding.end
    if journey.fate is Fate.LOOPED:
        return f"LOOPED on the way there{_root(journey)}"
    if journey.fate is Fate.REFUSED and journey.deciding is journey.there:
        return f"REFUSED by the host {end} after delivery: "
    if journey.fate is Fate.DELIVERED:
        return "delivered, but UNANSWERED: "
    if journey.cause in ("service.silent", "answer.unasked") and journey.deciding is journey.there:
        return "arrived, but IGNORED: "
    carrying = _carrying(journey, journey.there)
    return f"{WORDS[journey.fate]} on the way there at {end}{_place(journey)}{carrying}{_root(journey, carrying)}"


def _carrying(journey: Journey, leg: Leg) -> str:
    """That a packet was lost with the outer one that carried it: whose tunnel, and what it was."""
    hop = leg.hops[-1]
    if hop.outer is None or leg.deciding is leg:
        return ""
    inner = _carrying(journey, hop.outer)
    port = journey.plan.network.devices[hop.device].interfaces.get(hop.leaving or "") if journey.plan is not None else None
    mark = port.tunnel.mark if port is not None and port.tunnel is not None else None
    tunnel = f"tunnel {hop.leaving} of {hop.device}{f' ({mark})' if mark is not None and mark.line else ''}"
    if hop.outer.way is Way.EXCHANGE:
        whose = "" if hop.outer.hops[0].device == hop.device else f" of {hop.outer.hops[0].device}"
        return f", as the exchange of keys ({hop.outer.packet}{whose}) for {tunnel}{inner}"
    return f", as the outer packet ({hop.outer.packet}) of {tunnel}{inner}"


def _root(journey: Journey, before: str = "") -> str:
    """What lies behind the loss of a packet, and how the reason follows from it, and from what was put in before."""
    if journey.behind is None:
        return f"{',' if before else ''} by " if _by(journey) else ": "
    return f": {journey.behind.cited()}; it met " if _by(journey) else f": {journey.behind.cited()}, and "


_PLACES: dict[str, Callable[[Ruling], str]] = {
    Stage.ARRIVING_LIST: lambda r: f" (arriving by {r.arriving})",
    Stage.LEAVING_LIST: lambda r: f" (leaving by {r.leaving})",
    Stage.CROSSING: lambda r: f" (from {r.arriving or 'itself'} into {r.leaving})",
    Stage.TO_SELF_LIST: lambda r: f" (for itself, arriving by {r.arriving})",
    Stage.FROM_SELF: lambda r: " (of its own)",
}


def _place(journey: Journey) -> str:
    """Where the list stands that stopped a packet: at which interface, in which direction."""
    rulings = journey.deciding.hops[-1].rulings
    if not rulings or rulings[-1].table.kind not in (TableKind.LIST, TableKind.BUILT_IN) or not rulings[-1].cause:
        return ""
    place = _PLACES.get(rulings[-1].stage)
    return place(rulings[-1]) if place is not None else ""


def _let_through(journey: Journey) -> str:
    """The rules and defaults that let it pass, and the sessions that let it pass over a list; that nothing was examined is said too."""
    there = _admitted(journey, journey.there)
    if there:
        return f", {there}"
    back = _admitted(journey, journey.back) if journey.back is not None else ""
    empty = _ignored(journey)
    no_list = f"; no list{' with a rule' * bool(empty)} is attached"
    shown = f" ({empty})" if empty else ""
    return f"{no_list} on the way there{shown}, and its answer is {back}" if back else f"{no_list} where it passed{shown}"


def _admitted(journey: Journey, leg: Leg) -> str:
    """What let a packet pass on one of its ways: rules, defaults, sessions; empty where nothing was examined."""
    permits = [b.cited() for _, b in leg.permits()]
    more = len(permits) - MOST_PERMITS
    words = permits if more <= 0 else [*permits[:MOST_PERMITS], f"{more} more"]
    let = [f"let through by {' and '.join(words)}"] if words else []
    return " and ".join([*let, *_by_sessions(journey, leg)] if leg.way is Way.BACK or not let else let)


def _by_sessions(journey: Journey, leg: Leg) -> Iterator[str]:
    """The lists that it was let past by a device's session."""
    if journey.plan is None or not any(r.did is Did.KNOWN for h in leg.hops for r in h.rulings):
        return
    from mossy_compass.walk.retold import lists_passed_over  # only where a session has let it pass

    for number, hop in enumerate(leg.hops):
        names = lists_passed_over(journey.plan, hop, leg.came_to(number))
        session = next((r.session for r in hop.rulings if r.did is Did.KNOWN), None)
        if names:
            yield f"let past {', '.join(names)} of {hop.device} by its session {session}"


def _ignored(journey: Journey) -> str:
    """The lists without a rule that stand on the way there and count for nothing."""
    if journey.plan is None:
        return ""
    network, names = journey.plan.network, []
    for hop in journey.there.hops:
        device = network.devices.get(hop.device)
        for port, way in ((hop.arriving, "arriving_lists"), (hop.leaving, "leaving_lists")):
            if device is not None and port is not None and port in device.interfaces:
                names += [n for n in getattr(device.interfaces[port], way) if n in network.lists and not network.lists[n].rules]
    words = ", ".join(dict.fromkeys(names))
    return f"{words} {'is' if len(set(names)) == 1 else 'are'} empty and ignored" if names else ""


def _lookup_words(lookup: Lookup, journey: Journey) -> str:
    """Why a name was not found: the resolver does not know it, or the lookup itself did not get through."""
    asked = lookup.journey
    if asked.answered:
        return f"the LOOKUP was answered, but {journey.because.cited()}"
    return f"the LOOKUP at {asked.there.packet.destination} failed: {outcome(asked)}"


def _by(journey: Journey) -> bool:
    """What a fate came from, with its place: a rule, an end of a list, a setting, a route."""
    return journey.because.code in ("rule", "rule.built-in", "list.end")


def extras(journey: Journey) -> list[tuple[str, str]]:
    """The lines under the first: label and sentence."""
    lost = not journey.answered
    about = journey.because.about if lost else ""
    sender = journey.symptom_note if lost else ""
    time = 0 if lost else journey.latency_ms
    lines = [
        *_lookup_line(journey),
        ("why", journey.note),
        ("purpose", about and f'{journey.because.words}: "{about}"'),
        *(("although", b.cited()) for b in journey.although if b.kind != "duplicate"),
        *(("noted", b.cited()) for b in journey.told),
        *(("nearest", words) for words in journey.nearest),
        ("sender", sender and f"{journey.symptom.value}: {sender}"),
        ("seen as", _seen_as(journey)),
        *(("logged", words) for words in logged(journey)),
        ("time", f"{time:g} ms on the cables, there and back" if time else ""),
        ("usually", "; ".join(remedies(journey))),
    ]
    return [(label, words) for label, words in lines if words]


def _seen_as(journey: Journey) -> str:
    """As whom the far end sees it, where that is not who sent it; of what was asked onward always."""
    if journey.onward is not None:
        return f"{journey.onward.seen_as} by {_who_sees(journey.onward)}" if journey.onward.seen_as else ""
    return f"{journey.seen_as} by {_who_sees(journey)}" if translated(journey) else ""


def _who_sees(journey: Journey) -> str:
    """Who sees a translated source: whom was asked, where that is who answers or where nobody does; a far host by its own name."""
    devices = journey.plan.network.devices if journey.plan is not None else {}
    hosts = devices[journey.there.end].far_hosts.values() if journey.there.end in devices else ()
    far = next((h.name for h in hosts if journey.there.arrived.destination in h.addresses), "")
    if far:
        return far
    return journey.there.end if journey.answered else journey.target_owner or journey.there.end


def _lookup_line(journey: Journey) -> list[tuple[str, str]]:
    """What became of the question that a name needed before any packet could be sent."""
    asked = journey.lookup
    if asked is None:
        return []
    said = ", ".join(asked.addresses) or "no address"
    words = f"{asked.name} asked at {asked.resolver}"
    return [("lookup", f"{words}: {said}" if asked.journey.answered else words)]


def translated(journey: Journey) -> bool:
    """True when the far end saw another source than the one that was sent."""
    sent, seen = journey.there.packet, journey.there.arrived
    return bool(journey.seen_as) and (sent.source, sent.from_port) != (seen.source, seen.from_port)


def logged(journey: Journey) -> list[str]:
    """The rules with ``log: yes`` that a packet met, there and back."""
    return [
        f"{m.because.cited()} at {m.device}: {m.did}{'' if m.logged == 'informational' else f' ({m.logged})'}"
        for leg in journey.whole
        for m in leg.admissions()
        if m.logged
    ]


def hop_ports(hop: Hop, leg: Leg) -> str:
    """``visitors → up``: by which interface it came and left."""
    if hop.leaving and hop.next_device:
        return f"{hop.arriving} → {hop.leaving}" if hop.arriving else f"→ {hop.leaving}"
    return hop.arriving or "(made here)"


def _known(ruling: Ruling) -> str:
    """Which session a ruling refers to, in a few words."""
    return f"{ruling.because.cited()}: {words.relation(ruling.relation)}, lists passed over"


def _kept(ruling: Ruling) -> str:
    """An address that stays as it is: by a rule that says so, or for want of one."""
    if ruling.because.code != "translation":
        return ruling.note
    half, address = "source", ruling.saw.source
    if ruling.stage == Stage.TRANSLATE_DESTINATION:
        half, address = "destination", ruling.saw.destination
    return f"{half} {address} stays as it is by {ruling.because.cited()}"


def _sent(ruling: Ruling) -> str:
    """Only what is worth a line: several who answer, or a proxy."""
    remark = ruling.remark
    if remark is not None and remark.code == "note.divided":
        return ruling.note
    if remark is not None and remark.code == "note.tunnelled":
        return f"{ruling.because.cited()}: {ruling.note}"
    told = remark is not None and (remark.named["proxy"] or remark.named["claimants"])
    return ruling.note if told else ""


_TOLD = ("note.as-opened", "note.other-names", "note.application-later", "note.profile")
"""Remarks about a permit that belong into its line: without them it would be taken for more, or less, than it is."""
_BRIEF: dict[Did, Callable[[Ruling], str]] = {
    Did.PERMITTED: lambda r: f"{r.because.cited()} permits" + (f": {r.note}" if r.remark and r.remark.code in _TOLD else ""),
    Did.KNOWN: _known,
    Did.REWRITTEN: lambda r: f"{r.note} by {r.because.cited()}",
    Did.KEPT: _kept,
    Did.ASSOCIATED: lambda r: r.because.cited(),
    Did.EXPECTS: lambda r: f"{r.because.cited()} {r.note}",
    Did.ROUTED: lambda r: f"{r.because.cited()} {r.note}",
    Did.STEERED: lambda r: f"{r.because.cited()} {r.note}",
    Did.FELL_THROUGH: lambda r: f"{r.because.cited()}: {r.note}",
    Did.SENT: _sent,
}


def hop_words(hop: Hop, leg: Leg, last: bool) -> str:
    """What happened at one device, in a line or two."""
    parts: list[str] = []
    for ruling in hop.rulings:
        if ruling.cause and last and leg.deciding is not leg:
            exchange = hop.outer is not None and hop.outer.way is Way.EXCHANGE
            parts.append(
                f"LOST with the {'exchange of keys for it' if exchange else 'packet that carries it'}: {leg.because.cited()}"
            )
        elif ruling.cause:
            note = f": {ruling.note}" if ruling.note else ""
            parts.append(f"{ruling.did.upper()}: {ruling.because.cited()}{note}")
        elif ruling.did in _BRIEF:
            parts.append(_BRIEF[ruling.did](ruling))
    if last and leg.cause == "loop":
        parts.append(f"and round again: {leg.because.words}")
    return "; ".join(p for p in parts if p)


def leg_title(leg: Leg) -> str:
    """Heading of a leg."""
    name = {
        Way.THERE: "there",
        Way.BACK: "back",
        Way.ERROR: "error's way home",
        Way.LATER: "later",
        Way.OUTER: "outer",
        Way.EXCHANGE: "exchange of keys",
    }[leg.way]
    return f"{name}: {leg.packet}"


def within_title(leg: Leg) -> str:
    """What heads the devices of a packet that it took to carry another on."""
    if leg.way is Way.EXCHANGE:
        return f"exchange of keys, {leg.packet}:"
    if leg.way is Way.ERROR:
        return f"error about it, {leg.packet}:"
    first = leg.hops[0]
    if first.arriving is not None:
        return f"a later piece of it, from {first.device} on:"
    return f"within {leg.packet}, {leg.packet.size} bytes:"


def _step(hop: Hop) -> str:
    """A device on a path, with what carried the packet on from there."""
    if hop.outer is None:
        return hop.device
    if hop.outer.way is Way.EXCHANGE:
        return f"{hop.device} > (exchange of keys)"
    kind = protocol_name(hop.outer.packet.protocol)
    past = ", ".join(h.device for h in hop.outer.hops[1:-1])
    return f"{hop.device} > ({kind} past {past})" if past else f"{hop.device} > ({kind})"


def path_line(leg: Leg) -> str:
    """The devices passed, and how it ended: ``kiosk-1 > canopy > gate: dropped``."""
    path = " > ".join(_step(hop) for hop in leg.hops)
    if leg.cause == "loop" and leg.hops[-1].next_device:
        path += f" > {leg.hops[-1].next_device} again"
    return f"{path}: {leg.fate.value}"
