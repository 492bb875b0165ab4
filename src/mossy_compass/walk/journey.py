"""The record of a test packet: typed values that text, JSON and pictures are made of.

A record holds ids, numbers, enums and values; its words are made elsewhere (``report/``), when they are asked for.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from typing import TYPE_CHECKING, Any, NamedTuple

from mossy_compass.packet.packet import Packet
from mossy_compass.plan.facts import SOME_TIME, Known, Moment, Relation
from mossy_compass.plan.ids import NO_TABLE, TableId
from mossy_compass.plan.reasons import Because, Did, Fate
from mossy_compass.routing.table import NextHop
from mossy_compass.voice import voice

if TYPE_CHECKING:
    from mossy_compass.plan.plan import Plan
    from mossy_compass.walk.journey_types import JourneyDict


class Symptom(StrEnum):
    """What the sender sees."""

    ANSWERED = "answered"
    REFUSED = "refused"
    UNREACHABLE = "unreachable"
    SILENCE = "silence"
    NAME_NOT_FOUND = "name not found"


class Way(StrEnum):
    """What a leg is within its journey."""

    THERE = "there"
    BACK = "back"
    ERROR = "error"
    LATER = "later"


def _words(because: Because | None) -> str:
    """A reason's words; empty for none."""
    return because.words if because else ""


class Ruling(NamedTuple):
    """What one stage of one device did.

    Attributes:
        stage: which.
        did: in a word.
        saw: the packet before.
        gave: the packet after; the same where nothing was rewritten.
        because: what the ruling rests on.
        remark: more to say; None mostly.
        cause: code of the cause, when this ruling ended the leg.
        table, row: ids of the table that was asked and of the row that decided; the plan finds them again by these.
        arriving, leaving, relation, known: further facts that the table's rows may have asked about.
        session: number of the session that the packet belongs to.
        hop, ways: for a route, the way that was taken, and all equal ones.
        logged: severity of the log line that is written of it; empty for none.

    """

    stage: str
    did: Did
    saw: Packet
    gave: Packet
    because: Because
    remark: Because | None = None
    cause: str = ""
    table: TableId = NO_TABLE
    row: str = ""
    arriving: str | None = None
    leaving: str | None = None
    relation: Relation = Relation.NONE
    session: int | None = None
    hop: NextHop | None = None
    ways: tuple[NextHop, ...] = ()
    logged: str = ""
    known: Known = Known()

    @property
    def note(self) -> str:
        """The remark in words; may be empty."""
        return _words(self.remark)

    def __repr__(self) -> str:
        return f"<Ruling {self.stage}: {self.did}>"


@dataclass(frozen=True, slots=True, repr=False, kw_only=True)
class Hop:
    """One device on the way.

    Attributes:
        device, kind: which.
        arriving, leaving: interfaces; None at the ends.
        next_device: who got it; None at the end.
        segment: name of the broadcast domain that it left on.
        bridges: switches on that segment, which look at no list.
        rulings: one for each stage that had something to say.
        latency_ms: how long the cable to the next device takes, in milliseconds.

    """

    device: str
    kind: str
    arriving: str | None
    leaving: str | None
    next_device: str | None
    segment: str | None
    bridges: tuple[str, ...]
    rulings: tuple[Ruling, ...]
    latency_ms: float = 0.0

    def __repr__(self) -> str:
        return f"<Hop {self.device}: {self.arriving} to {self.leaving}>"


@dataclass(frozen=True, slots=True, repr=False, kw_only=True)
class Leg:
    """One way of one packet.

    Attributes:
        way: there, back, an error's way home, or a later packet of the flow, which shows its application.
        packet: as it set out.
        arrived: as it was at the end.
        hops: the devices passed.
        fate: how it ended.
        cause: code from the table of causes.
        because: what the end rests on.
        remark: more about the end.
        behind: what lies behind the reason: why an answer met a list at all; mostly None.
        parent: number of the leg that this one answers, counted from 0; None for the first.

    """

    way: Way
    packet: Packet
    arrived: Packet
    hops: tuple[Hop, ...]
    fate: Fate
    cause: str
    because: Because
    remark: Because | None = None
    behind: Because | None = None
    parent: int | None = None

    @property
    def end(self) -> str:
        """The device at which it ended."""
        return self.hops[-1].device

    @property
    def note(self) -> str:
        """The remark in words."""
        return _words(self.remark)

    @property
    def root(self) -> str:
        """What lies behind the reason, in words."""
        return _words(self.behind)

    def permits(self) -> list[tuple[str, Because]]:
        """The rules, or defaults of lists, that let it through, each with its device."""
        return [(h.device, r.because) for h in self.hops for r in h.rulings if r.did is Did.PERMITTED]

    def __repr__(self) -> str:
        return f"<Leg {self.way}: {self.packet}, {self.fate} at {self.end}>"


@dataclass(frozen=True, repr=False)
class Lookup:
    """How a name's address was asked for.

    Attributes:
        name: what was asked.
        resolver: address of the resolver that answered, or of the last that did not.
        addresses: what it said; empty when it did not.
        journey: the lookup packet's own journey.

    """

    name: str
    resolver: str
    addresses: tuple[str, ...]
    journey: Journey


@dataclass(frozen=True, repr=False, kw_only=True)
class Journey:
    """Everything that happened to one test packet.

    ``str(journey)`` is the answer in one sentence; ``journey.explain()`` is what ``mossy trace`` prints.

    Attributes:
        sender: name of the device or far host that sent it.
        target: what was asked for: a name or an address.
        target_owner: who has the destination address; None when nobody does.
        what: the service, as ``tcp/443``.
        legs: the way there first, then whatever was sent because of it.
        back: the answer's, the refusal's, or the error's way home; None when nothing came back.
        fate: the fate of the whole: that of the way there, or of the way back when the answer was lost.
        cause, because, remark, behind: of that fate.
        lost: ``lookup``, ``there``, ``back`` or ``later``: where it was decided.
        symptom: what the sender sees; ``said`` has more about it.
        seen_as: source address and port that the far end saw; empty when it did not get there.
        although: what is written and would have changed the fate, but has no effect.
        near: where a list stopped it: the rules that nearly permitted it, and the permit that a deny hides.
        told: what else a reader should know of it, though it did not decide alone.
        lookup: the journey that first asked for the target's address; None when no lookup was needed.
        later: the packet that shows the flow's application, where that is neither the first nor its answer.
        moment: what held for the whole test: the time, the application, the uplink of last resort.
        plan: the plan that it was walked on, to ask why other rows were passed over; no part of the record.

    """

    sender: str
    target: str
    target_owner: str | None
    what: str
    legs: tuple[Leg, ...]
    back: Leg | None
    fate: Fate
    cause: str
    because: Because
    remark: Because | None
    behind: Because | None
    lost: str
    symptom: Symptom
    said: Because | None
    seen_as: str
    although: tuple[Because, ...] = ()
    near: tuple[Because, ...] = ()
    told: tuple[Because, ...] = ()
    lookup: Lookup | None = None
    later: Leg | None = None
    moment: Moment = SOME_TIME
    plan: Plan | None = field(default=None, compare=False)

    @property
    def there(self) -> Leg:
        """The way there."""
        return self.legs[0]

    @property
    def homeward(self) -> tuple[Leg, ...]:
        """The way there and the way back: what decides; the other legs are what further devices sent because of these."""
        return tuple(leg for leg in (self.there, self.back, self.later) if leg is not None)

    @property
    def deciding(self) -> Leg:
        """The leg whose fate is that of the whole."""
        if self.lost == "later" and self.later is not None:
            return self.later
        return self.back if self.lost == "back" and self.back is not None else self.there

    @property
    def latency_ms(self) -> float:
        """Time on the cables, there and back, in milliseconds."""
        return sum(hop.latency_ms for leg in self.homeward for hop in leg.hops)

    @property
    def answered(self) -> bool:
        """True when the packet arrived and its sender received the answer to it."""
        return self.symptom is Symptom.ANSWERED

    @property
    def note(self) -> str:
        """The remark in words."""
        return _words(self.remark)

    @property
    def root(self) -> str:
        """What lies behind the reason, in words."""
        return _words(self.behind)

    @property
    def symptom_note(self) -> str:
        """More about what the sender sees, in words."""
        return _words(self.said)

    @property
    def nearest(self) -> tuple[str, ...]:
        """The rules that nearly permitted it, in words."""
        return tuple(b.words for b in self.near)

    def to_dict(self, details: bool = False) -> JourneyDict:
        """The record as plain data, as the published JSON Schema describes it.

        Args:
            details: add to each list's ruling the rules that were passed over, with the reasons.

        """
        found: Any = voice().journey_dict(self, details)
        return found  # type: ignore[no-any-return]

    def explain(self, details: bool = False, width: int = 100) -> str:
        """What ``mossy trace`` prints of it, as plain text of at most ``width`` columns."""
        return str(voice().explain(self, details, width))

    def __str__(self) -> str:
        return str(voice().headline(self))

    def __repr__(self) -> str:
        return f"<Journey {self.sender} to {self.target}, {self.what}: {self.symptom} [{self.cause}]>"
