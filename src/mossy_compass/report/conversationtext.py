"""A conversation as text and as plain data: its headline is that of the first packet that failed, then what happened, in order."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from mossy_compass.lab.conversation import Conversation, Exchange
from mossy_compass.model.durations import duration_words
from mossy_compass.plan.facts import Ended, Phase, Session
from mossy_compass.report import sentences, text
from mossy_compass.report.record import journey_dict
from mossy_compass.report.words import ENDED
from mossy_compass.walk.journey import Journey
from mossy_compass.walk.journey_types import ExchangeDict, JourneyDict


def conversation(held: Conversation, unsent: Sequence[str] = (), details: bool = False) -> RenderableType:
    """The answer; then each packet with what it came to, and the sessions that it belongs to; then the way of the one that decides.

    Args:
        held: the conversation.
        unsent: what was not sent any more, since something failed before it.
        details: every ruling too.

    """
    rows = [("0 s", "the first packet", _came_to(held.first))]
    rows += [(duration_words(e.at), e.words, "; ".join(_of(e))) for e in held.exchanges]
    rows += [("", words, "not sent: what was before it failed") for words in unsent]
    widths = [min(40, max(len(r[n]) for r in rows)) for n in (0, 1)]
    table = text.rows_of([("", *r) for r in rows], ("", "dim", "", ""), (1, *widths, None))
    title = Padding(Text("what happened, by time after the first packet", style="bold"), (0, 0, 0, 2))
    shown = held.journey
    if shown.later is not None and not details:  # the first packet's ways are told by a trace without what follows
        ways = text.ways(replace(shown, legs=(shown.later,), back=None, later=None, lost="there", lookup=None))
    else:
        ways = text.ways(shown, details)
    return Group(text.head(shown), title, table, *ways)


def _came_to(journey: Journey) -> str:
    """What came of a packet, in few words."""
    if (journey.answered and journey.later is None) or (
        journey.lost != "later" and journey.back is not None and not journey.within
    ):
        return "delivered and answered" if journey.answered else f"its answer is lost at {journey.deciding.end} [{journey.cause}]"
    if journey.answered:
        return f"delivered to {sentences.whom(journey)}"
    return f"{sentences.WORDS[journey.fate]} at {journey.deciding.end} [{journey.cause}]"


def _of(exchange: Exchange) -> Iterator[str]:
    """What came of something, and which sessions it belongs to or ended."""
    if exchange.journey is not None:
        yield _came_to(exchange.journey)
    if exchange.seen_as:
        yield f"seen as {exchange.seen_as} by now, as somebody else"
    yield from _channel_words(exchange)
    for session in exchange.sessions:
        yield session_words(session)
    yield from (ended_words(e) for e in exchange.ended)
    if exchange.journey is None and not exchange.ended:
        yield "no session ended"


def _channel_words(exchange: Exchange) -> Iterator[str]:
    """What became of an announcement."""
    told = exchange.told
    if told is not None and told.arrived is not None:
        if told.arrived != told.told:
            yield f"it arrives as {told.arrived}"
        yield from (f"{device} expects it" for device, _ in told.read_by)
        yield from (f"{device} does not believe it" for device in told.refused_by)
        yield from (f"{device} translates its sender, and not what it tells" for device in told.astray)


def session_words(session: Session) -> str:
    """A session, and how far it is."""
    phase = f", {session.phase.value}" if session.phase is not Phase.NONE else ""
    return f"session {session.number} of {session.device}{phase}"


def ended_words(ended: Ended) -> str:
    """A session that is over, and how it ended."""
    return f"session {ended.session.number} of {ended.session.device} {ENDED[ended.why]}"


def conversation_dict(held: Conversation, unsent: Sequence[str] = (), details: bool = False) -> JourneyDict:
    """The journey that decides as plain data, with what happened beside it.

    Args:
        held: the conversation.
        unsent: what was not sent any more.
        details: every ruling too.

    """
    out = journey_dict(held.journey, details)
    out["exchanges"] = [_exchange_dict("the first packet", Exchange("the first packet", 0, held.first))]
    out["exchanges"] += [_exchange_dict(e.words, e) for e in held.exchanges]
    out["exchanges"] += [
        {"words": w, "at-ms": None, "fate": None, "cause": None, "seen-as": "", "sessions": [], "ended": []} for w in unsent
    ]
    return out


def _exchange_dict(words: str, exchange: Exchange) -> ExchangeDict:
    """One thing that happened as plain data."""
    journey = exchange.journey
    return {
        "words": words,
        "at-ms": exchange.at,
        "fate": None if journey is None else journey.fate.value,
        "cause": None if journey is None else journey.cause,
        "seen-as": exchange.seen_as,
        "sessions": [
            {"device": s.device, "session": s.number, "phase": s.phase.value, "ends-ms": s.ends} for s in exchange.sessions
        ],
        "ended": [{"device": e.session.device, "session": e.session.number, "why": e.why, "at-ms": e.at} for e in exchange.ended],
    }
