"""Which packets end otherwise in another version of a network, of all packets: as text of 100 columns and as plain data."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from rich.console import RenderableType
from rich.padding import Padding
from rich.text import Text

from mossy_compass.lab.inwords import Arrives
from mossy_compass.lab.versions import ANOTHER_WAY, BY_ANOTHER, CLOSES, KEEPS_OUT, LETS_IN, OPENS, STRAYS, Compared, Turned, Which
from mossy_compass.report.text import some_of
from mossy_compass.walk.grid import Cell, cell_dict, differences
from mossy_compass.walk.journey import Symptom

SILENCE = Symptom.SILENCE.value

MOST_TURNED = 12
MOST_WHICH = 4
MOST_NAMED = 4
_KINDS = {
    CLOSES: "closes",
    OPENS: "opens",
    LETS_IN: "lets in what opens nothing",
    BY_ANOTHER: "another reason",
    ANOTHER_WAY: "another way",
    KEEPS_OUT: "keeps out what opens nothing",
}


def head(found: Compared) -> str:
    """What becomes of all packets, in a few words."""
    words = {
        CLOSES: "closes",
        OPENS: "opens",
        LETS_IN: "that opens nothing gets through",
        BY_ANOTHER: "ends for another reason",
        ANOTHER_WAY: "goes another way",
        KEEPS_OUT: "that opens nothing gets through no more",
    }
    said = []
    for kind, word in words.items():
        pairs = {pair for t in found.turned if t.kind == kind for pair in t.pairs}
        if pairs:
            said.append(f"something {word} for {_pairs(len(pairs))}")
    if said and found.told_home:
        said.append("senders are told otherwise of some that are lost")
    if not said and found.left:
        return "of what could be looked at no packet ends otherwise; NOT KNOWN is what is named below"
    if not said and found.told_home:
        return f"no packet of {found.senders} sender{'s' * (found.senders != 1)} ends otherwise, but senders are told otherwise of some that are lost"
    return (
        f"of all packets {', '.join(said)}"
        if said
        else f"no packet of {found.senders} sender{'s' * (found.senders != 1)} ends otherwise"
    )


def in_line(found: Compared) -> str:
    """What becomes of all packets in a sentence: what closes and opens by name, the rest as a number of pairs."""
    said, rest = [], []
    for kind, word in _KINDS.items():
        which = [w for t in found.turned if t.kind == kind for w in t.which]
        pairs = {pair for t in found.turned if t.kind == kind for pair in t.pairs}
        if which and kind in (CLOSES, OPENS):
            more = len(which) - MOST_WHICH
            said.append(f"{word} {'; '.join(map(_which, which[:MOST_WHICH]))}{f' and {more} more such' if more > 0 else ''}")
        elif kind in STRAYS and which:
            rest.append(f"{word}, for {_pairs(len(pairs))}")
        elif which:
            named = f" ({' → '.join(next(iter(pairs)))})" if len(pairs) == 1 else ""
            rest.append(f"{_pairs(len(pairs))}{named} {'have' if len(pairs) > 1 else 'has'} {word}")
    if found.left:
        return ", ".join([*said, *rest, "and there is more that could not be followed here"])
    return ", ".join([*said, "nothing else opens or closes" if said else "nothing opens or closes", *rest])


def _pairs(count: int) -> str:
    """How many pairs."""
    return f"{count} pair{'s' if count > 1 else ''} of sender and target"


def parts(found: Compared) -> list[RenderableType]:
    """The packets that end otherwise, the worst first, each kind with one that was walked in both versions."""
    out: list[RenderableType] = [Text("")]
    if found.turned:
        out.append(Text("For all packets, from sender to answer, closed ones first:", style="bold"))
        out += [line for turned in found.turned[:MOST_TURNED] for line in _lines(turned)]
    if len(found.turned) > MOST_TURNED:
        out.append(Text(f"... and {len(found.turned) - MOST_TURNED} more; --format json has them all", style="dim"))
    at = f", at {found.cases} moments and circumstances" if found.cases > 1 else ""
    tail = (
        f"Packets of every protocol, port and source port that {found.senders} device{'s' * (found.senders != 1)} can send from their own addresses in both "
        f"versions, 64 bytes long, over every equal way{at}; {found.kinds} kinds that could feel the difference were walked. "
        "Of what opens nothing (later packets, answers unasked, pieces; no resets) is told whether it gets there, where nothing opens or "
        "closes for the same service."
    )
    told = [which for t in found.turned for which in t.which] + [which for t in found.told_home for which in t.which]
    if any(map(_partly, told)):
        tail += " Partly: to some of the addresses, or from some source ports or addresses."
    if not found.errors:
        tail += " Errors on their way home are compared for the walked ones alone; --errors compares them all."
    if found.told_home:
        out += [Text("what senders are told of lost ones:", style="bold"), *map(_indented, _told_home(found))]
    if found.one_sided:
        more = f" and {len(found.one_sided) - MOST_NAMED} more" if len(found.one_sided) > MOST_NAMED else ""
        out.append(
            Text(f"Not compared, since one version alone has them: packets from {', '.join(found.one_sided[:MOST_NAMED])}{more}.")
        )
    return [*out, Text(tail, style="dim"), *(Text(f"Not known: {words}.") for words in found.left)]


def _told_home(found: Compared) -> Iterator[str]:
    """What senders see otherwise of packets that are lost as before, by what they see."""
    for told in found.told_home:
        (was, now), others = told.seen, told.kinds - 1
        yield from map(_which, told.which[:MOST_WHICH])
        unsaid = len(told.which) - MOST_WHICH
        if unsaid > 0:
            yield f"... and {unsaid} more such line{'s' if unsaid > 1 else ''}"
        more = f" (and so of {others} more kind{'s' if others > 1 else ''})" if others and not told.which else ""
        when = f" ({told.when})" if told.when else ""
        lost = (
            f"; the error about it {'is' if now == SILENCE else 'was'} lost at {told.lost[0]}: {told.lost[1].cited()}"
            if told.lost
            else ""
        )
        yield f"as {told.journeys[0].there.packet}{when}: lost as before; its sender saw {was}, and sees {now} now{more}{lost}"


def _lines(turned: Turned) -> list[RenderableType]:
    """One lot of packets: how they turn, which they are, and one of them."""
    old, new = turned.before, turned.after
    same = "still " if old.words == new.words else f"{_ended(old)} becomes "
    when = f" ({turned.when})" if turned.when else ""
    becomes = f"{old.words} becomes {new.words}" if turned.kind in STRAYS else f"{same}{_ended(new)}"
    lines: list[RenderableType] = [Text.assemble((f"{_KINDS[turned.kind]}: {becomes}", "bold"), when)]
    lines += [_indented(_which(which)) for which in turned.which[:MOST_WHICH]]
    more = len(turned.which) - MOST_WHICH
    lines += [_indented(f"... and {more} more such line{'s' if more > 1 else ''}")] if more > 0 else []
    if turned.kind == ANOTHER_WAY:
        why = "; ".join(f"{what}: {was}, now {now}" for what, was, now in differences(old, new)[:1])
    else:
        why = new.reason if new.reason != old.reason else f"its sender saw {old.symptom}, and sees {new.symptom} now"
    if turned.kind == LETS_IN:
        there = turned.journeys[1].there
        why = f"it gets to {there.end}: {there.because.cited()}"
    if turned.kind == OPENS:
        before = [because for _, because in turned.journeys[0].there.permits()]
        by = [because.cited() for _, because in turned.journeys[1].there.permits() if because not in before]
        why += f", let through by {' and '.join(by)}" if by else ""
    return [*lines, _indented(f"as {turned.journeys[1].there.packet}: {why}")]


def _ended(cell: Cell) -> str:
    """How a test of them ended, in a word."""
    return "answered" if cell.answered else cell.words


def _indented(words: str) -> RenderableType:
    """Words that stay two columns in where they go on in a next line."""
    return Padding(Text(words), (0, 0, 0, 2))


def _partly(which: Which) -> bool:
    """Whether only a part of some service is meant."""
    return which.part or any(one.partly for one in which.services)


def _which(which: Which) -> str:
    """Packets in a line."""
    services = _listed([_words(a) for a in which.services])
    return f"{_listed(which.sources)} → {_listed(which.targets)}: {'a part of ' if which.part else ''}{'all but ' if which.all_but else ''}{services}"


def _words(one: Arrives) -> str:
    """A service, and whether it is only a part of it."""
    return f"{one.words} (partly)" if one.partly else one.words


def _listed(names: tuple[str, ...] | list[str]) -> str:
    """The first names, and how many more."""
    return some_of(names, MOST_NAMED)


def _which_dict(which: Which) -> dict[str, Any]:
    """Packets in words, as plain data."""
    return {
        "sources": list(which.sources),
        "targets": list(which.targets),
        "all-but": which.all_but,
        "part": which.part,
        "services": [{"what": a.words, "partly": a.partly} for a in which.services],
    }


def as_dict(found: Compared) -> dict[str, Any]:
    """The same as plain data."""
    return {
        "turned": [
            {
                "what": _KINDS[t.kind],
                "before": cell_dict(t.before),
                "after": cell_dict(t.after),
                "packet": str(t.journeys[1].there.packet),
                "when": t.when or None,
                "which": [_which_dict(w) for w in t.which],
            }
            for t in found.turned
        ],
        "senders": found.senders,
        "kinds": found.kinds,
        "cases": found.cases,
        "not-known": list(found.left),
        "one-sided": list(found.one_sided),
        "told-home": [
            {
                "packet": str(t.journeys[0].there.packet),
                "before": t.seen[0],
                "after": t.seen[1],
                "kinds": t.kinds,
                "when": t.when or None,
                "which": [_which_dict(w) for w in t.which],
            }
            for t in found.told_home
        ],
    }
