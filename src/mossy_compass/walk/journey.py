"""The record of a test packet: typed values that text, JSON and pictures are made of.

A record holds ids, numbers, enums and values; its words are made elsewhere (``report/``), when they are asked for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from enum import StrEnum
from functools import cached_property
from typing import TYPE_CHECKING, Any, NamedTuple

from mossy_compass.model.network import Verdict
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.actions import Decision
from mossy_compass.plan.facts import SOME_TIME, Known, Moment, Relation, Session
from mossy_compass.plan.ids import TableId
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate
from mossy_compass.routing.table import NextHop
from mossy_compass.voice import voice

if TYPE_CHECKING:
    from mossy_compass.plan.plan import Plan
    from mossy_compass.walk.journey_types import JourneyDict


UNWRAPPED = "tunnel.end"
"""The cause of an outer packet's end where what it carried came out of it."""


class Symptom(StrEnum):
    """What the sender sees."""

    ANSWERED = "answered"
    REFUSED = "refused"
    UNREACHABLE = "unreachable"
    SILENCE = "silence"
    OPEN_ONLY = "an open connection, and nothing in it"
    NAME_NOT_FOUND = "name not found"


class Way(StrEnum):
    """What a leg is within its journey; ``outer`` is that of a packet which carries another, ``exchange`` one of keys for a tunnel."""

    THERE = "there"
    BACK = "back"
    ERROR = "error"
    LATER = "later"
    OUTER = "outer"
    EXCHANGE = "exchange"


def _words(because: Because | None) -> str:
    """A reason's words; empty for none."""
    return because.words if because else ""


class Situation(NamedTuple):
    """What else was known of a packet when a stage ruled: further facts that its tables may have asked about.

    Attributes:
        arriving, leaving: interfaces.
        relation: what the packet is to the device's sessions.
        of_session: the session that it belongs to.
        known: what else; enough to ask the table again.

    """

    arriving: str | None = None
    leaving: str | None = None
    relation: Relation = Relation.NONE
    of_session: Session | None = None
    known: Known = Known()


class Taken(NamedTuple):
    """The way that a route gave a packet.

    Attributes:
        hop: the one that was taken.
        ways: all equal ones.

    """

    hop: NextHop | None = None
    ways: tuple[NextHop, ...] = ()


class Beside(NamedTuple):
    """What stands beside a verdict.

    Attributes:
        although: what is written and would have changed the fate, but has no effect; an address that was given twice.
        near: the rules that nearly permitted a packet which a list stopped.
        told: what else a reader should know.

    """

    although: tuple[Because, ...] = ()
    near: tuple[Because, ...] = ()
    told: tuple[Because, ...] = ()


class Admission(NamedTuple):
    """One row, or default, that had a part in what became of a packet at a device.

    Counters, log lines, who a rule decides for, and what was never met are all made from these.

    Attributes:
        device, stage: where it was met.
        table, row: which; a default has the name of its setting as the row.
        did: what it did; a row that was met and left it undecided noted, handed on, or classified.
        because: the row as a reason.
        logged: severity of the log line that is written of it; empty for none.
        ruling: the ruling that it belongs to, with the packet and what else was known.

    """

    device: str
    stage: str
    table: TableId
    row: str
    did: Did
    because: Because
    logged: str
    ruling: Ruling

    @property
    def decides(self) -> bool:
        """Whether the stage ended by it."""
        return self.did not in _LEFT_OPEN

    @property
    def place(self) -> str:
        """Where its list stands, in words: a list may be asked at several places."""
        at = self.ruling.situation
        words = {
            Stage.ARRIVING_LIST: f"{at.arriving} arriving",
            Stage.LEAVING_LIST: f"{at.leaving} leaving",
            Stage.CROSSING: f"{at.arriving} into {at.leaving}",
            Stage.TO_SELF_LIST: "to itself",
            Stage.FROM_SELF: "of itself",
        }
        return f"{self.device}, {words.get(Stage(self.stage), self.stage)}"


_LEFT_OPEN = (Did.NOTED, Did.HANDED_ON, Did.CLASSIFIED)
_MET = {Verdict.NOTE: Did.NOTED, Verdict.HAND_ON: Did.HANDED_ON}


class Ruling(NamedTuple):
    """What one stage of one device did.

    Attributes:
        stage: which.
        decision: what it decided, and by which row of which table; the plan finds them again by their ids.
        saw: the packet before.
        gave: the packet after; the same where nothing was rewritten.
        cause: code of the cause, when this ruling ended the leg.
        situation: what else was known.
        taken: for a route, the way.

    """

    stage: str
    decision: Decision
    saw: Packet
    gave: Packet
    cause: str = ""
    situation: Situation = Situation()
    taken: Taken = Taken()

    def admissions(self, device: str) -> Iterator[Admission]:
        """What was met at its stage, in order, with what decided at the end.

        Args:
            device: where it was made.

        """
        for row in self.decision.met:
            did = _MET.get(row.verdict, Did.CLASSIFIED)
            yield Admission(device, self.stage, row.table, row.row, did, row.because, row.logged, self)
        if self.did is not Did.NOTED:
            yield Admission(device, self.stage, self.table, self.row, self.did, self.because, self.logged, self)

    def between(self, arriving: str | None, leaving: str | None) -> Ruling:
        """The same ruling, had these two interfaces been known."""
        return self._replace(situation=self.situation._replace(arriving=arriving, leaving=leaving))

    @property
    def did(self) -> Did:
        """What it did, in a word."""
        assert self.decision.did is not None  # what nobody needs to be told makes no ruling
        return self.decision.did

    @property
    def because(self) -> Because:
        """What it rests on."""
        return self.decision.because

    @property
    def remark(self) -> Because | None:
        """More to say; None mostly."""
        return self.decision.note

    @property
    def table(self) -> TableId:
        """Id of the table that was asked."""
        return self.decision.table

    @property
    def row(self) -> str:
        """Id of the row that decided."""
        return self.decision.row

    @property
    def logged(self) -> str:
        """Severity of the log line that is written of it; empty for none."""
        return self.decision.logged

    @property
    def arriving(self) -> str | None:
        """The interface that the packet came by; None for the device's own."""
        return self.situation.arriving

    @property
    def leaving(self) -> str | None:
        """The interface that it will leave by, where that is known."""
        return self.situation.leaving

    @property
    def relation(self) -> Relation:
        """What it is to the device's sessions."""
        return self.situation.relation

    @property
    def session(self) -> int | None:
        """Number of the session that it belongs to."""
        return self.situation.of_session.number if self.situation.of_session is not None else None

    @property
    def known(self) -> Known:
        """What else was known of it."""
        return self.situation.known

    @property
    def hop(self) -> NextHop | None:
        """The way that was taken, for a route."""
        return self.taken.hop

    @property
    def ways(self) -> tuple[NextHop, ...]:
        """All equal ways, for a route."""
        return self.taken.ways

    @property
    def note(self) -> str:
        """The remark in words; may be empty."""
        return _words(self.remark)

    def __repr__(self) -> str:
        return f"<Ruling {self.stage}: {self.did}>"


class Hop(NamedTuple):
    """One device on the way.

    Attributes:
        device, kind: which.
        arriving, leaving: interfaces; None at the ends.
        next_device: who got it; None at the end.
        segment: name of the broadcast domain that it left on.
        bridges: switches on that segment, which look at no list.
        rulings: one for each stage that had something to say.
        latency_ms: how long the cable to the next device takes, in milliseconds; of a tunnel, the way of the outer packet.
        outer: the way of the packet that carried it from here, where it went into a tunnel.
        exchange: the ways of the packets by which the tunnel's keys were exchanged for it; those that got there.
        error: the way home of the error about what carried it, where that was too long; None mostly.

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
    outer: Leg | None = None
    exchange: tuple[Leg, ...] = ()
    error: Leg | None = None

    @property
    def within(self) -> tuple[Leg, ...]:
        """The ways of other packets that it took to carry it on from here, and of an error about those."""
        carried = () if self.outer is None else (self.outer, *self.outer.pieces)
        return (*self.exchange, *carried, *(() if self.error is None else (self.error,)))

    def __repr__(self) -> str:
        return f"<Hop {self.device}: {self.arriving} to {self.leaving}>"


class Leg(NamedTuple):
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
        pieces: the ways of its later pieces from where it was divided on.

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
    pieces: tuple[Leg, ...] = ()

    @property
    def end(self) -> str:
        """The device at which it ended."""
        return self.hops[-1].device

    @property
    def deciding(self) -> Leg:
        """The leg whose end decided: itself, or that of the outer packet which was lost with it."""
        outer = self.hops[-1].outer
        return outer.deciding if outer is not None and outer.cause != UNWRAPPED else self

    @property
    def every_hop(self) -> tuple[Hop, ...]:
        """The devices that it passed, with those that the outer packets passed which carried it, and exchanges of keys."""
        if all(hop.outer is None and not hop.exchange for hop in self.hops):
            return self.hops
        return tuple(h for hop in self.hops for h in (hop, *(h for leg in hop.within for h in leg.every_hop)))

    @property
    def note(self) -> str:
        """The remark in words."""
        return _words(self.remark)

    @property
    def root(self) -> str:
        """What lies behind the reason, in words."""
        return _words(self.behind)

    def came_to(self, number: int) -> Packet:
        """The packet as it came to a hop, which is counted from 0."""
        before = self.hops[number - 1].rulings if number else ()
        return before[-1].gave if before else self.packet

    def admissions(self) -> Iterator[Admission]:
        """Every row and default that had a part in it, device by device, in order."""
        return (a for hop in self.every_hop for ruling in hop.rulings for a in ruling.admissions(hop.device))

    def permits(self) -> list[tuple[str, Because]]:
        """The rules, or defaults of lists, that let it through, each with its device."""
        return [(h.device, r.because) for h in self.every_hop for r in h.rulings if r.did is Did.PERMITTED]

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
        lost: ``lookup``, ``there``, ``back``, ``onward`` or ``later``: where it was decided.
        symptom: what the sender sees; ``said`` has more about it.
        seen_as: source address and port that the far end saw; empty when it did not get there.
        lookup: the journey that first asked for the target's address; None when no lookup was needed.
        later: the packet that shows the flow's application, where that is neither the first nor its answer; or a later one of a
            conversation.
        onward: what the device asked in its own name, to which the packet was redirected; None where nothing was.
        within: of a later packet of a conversation, what it is and when it was sent; empty for any other.
        moment: what held for the whole test: the time, the application, the uplink of last resort.
        plan: the plan that it was walked on, to ask why other rows were passed over; no part of the record.
        diagnosis: what stands beside the verdict (``although``, ``near``, ``told``), or what finds it when that is read.

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
    lookup: Lookup | None = None
    later: Leg | None = None
    onward: Journey | None = None
    within: str = ""
    moment: Moment = SOME_TIME
    plan: Plan | None = field(default=None, compare=False)
    diagnosis: Callable[[Journey], Beside] | Beside = field(default=Beside(), compare=False)

    @cached_property
    def beside(self) -> Beside:
        """What else there is to know; looked for when it is first read, and kept."""
        return self.diagnosis if isinstance(self.diagnosis, Beside) else self.diagnosis(self)

    def by_itself(self) -> Journey:
        """The record with what stands beside it, found by now, and without its plan, so that it can be sent to another process."""
        lookup = replace(self.lookup, journey=self.lookup.journey.by_itself()) if self.lookup is not None else None
        onward = self.onward.by_itself() if self.onward is not None else None
        return replace(self, plan=None, diagnosis=self.beside, lookup=lookup, onward=onward)

    @property
    def although(self) -> tuple[Because, ...]:
        """What is written and would have changed the fate, but has no effect; an address that was given twice."""
        return self.beside.although

    @property
    def near(self) -> tuple[Because, ...]:
        """The rules that nearly permitted a packet which a list stopped."""
        return self.beside.near

    @property
    def told(self) -> tuple[Because, ...]:
        """What else a reader should know."""
        return self.beside.told

    @property
    def there(self) -> Leg:
        """The way there."""
        return self.legs[0]

    @property
    def every_leg(self) -> tuple[Leg, ...]:
        """Every leg: those of the lookup first, then what was sent because of the packet, what was asked onward, then a later one."""
        lookup = self.lookup.journey.legs if self.lookup is not None else ()
        onward = self.onward.every_leg if self.onward is not None else ()
        return (*lookup, *self.legs, *onward, *([self.later] if self.later is not None else []))

    @property
    def homeward(self) -> tuple[Leg, ...]:
        """The way there and the way back: what decides; the other legs are what further devices sent because of these."""
        return tuple(leg for leg in (self.there, self.back, self.later) if leg is not None)

    @property
    def whole(self) -> tuple[Leg, ...]:
        """The same, with the way there and back of what was asked onward."""
        return (*self.homeward, *(self.onward.whole if self.onward is not None else ()))

    @property
    def deciding(self) -> Leg:
        """The leg whose fate is that of the whole."""
        if self.lost == "later" and self.later is not None:
            return self.later.deciding
        if self.lost == "onward" and self.onward is not None:
            return self.onward.deciding
        return (self.back if self.lost == "back" and self.back is not None else self.there).deciding

    @property
    def latency_ms(self) -> float:
        """Time on the cables, there and back, in milliseconds."""
        return sum(hop.latency_ms for leg in self.whole for hop in leg.hops)

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
    def culprit(self) -> Because:
        """What the fate goes back to: what lies behind the reason, or the reason itself."""
        return self.behind or self.because

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
