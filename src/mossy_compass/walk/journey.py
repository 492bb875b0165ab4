"""The record of a test packet: typed values that text, JSON and pictures are made of."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

from mossy_compass.marks import Mark
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, WITH_PORTS, protocol_name
from mossy_compass.plan.match import ListTable, PassedOver
from mossy_compass.routing.table import Loser, RouteTable
from mossy_compass.walk.shapes import BecauseDict, JourneyDict, LegDict, MarkDict, PacketDict, RulingDict

FORMAT = 1


class Fate(StrEnum):
    """How a leg ended."""

    DELIVERED = "delivered"
    REFUSED = "refused"
    REJECTED = "rejected"
    DROPPED = "dropped"
    EXPIRED = "expired"
    LOOPED = "looped"


class Symptom(StrEnum):
    """What the sender sees."""

    ANSWERED = "answered"
    REFUSED = "refused"
    UNREACHABLE = "unreachable"
    SILENCE = "silence"
    NAME_NOT_FOUND = "name not found"


class Way(StrEnum):
    """Which leg of a journey."""

    THERE = "there"
    BACK = "back"
    ERROR = "error"


@dataclass(frozen=True, slots=True)
class Because:
    """What a ruling rests on.

    Attributes:
        kind: rule, default, setting, session, translation, route, neighbour, service, interface, device.
        words: it in a few words, as ``visitors-in rule 10``.
        mark: where it is written; None for a default or something computed.
        about: the author's own purpose text.

    """

    kind: str
    words: str
    mark: Mark | None = None
    about: str = ""

    def cited(self) -> str:
        """The words with the place: ``visitors-in rule 10 (file:line)``."""
        return f"{self.words} ({self.mark})" if self.mark and self.mark.line else self.words


@dataclass(frozen=True, slots=True)
class Ruling:
    """What one stage of one device did.

    Attributes:
        stage: which.
        did: one or two words: permitted, passed over, routed, rewritten, sent, dropped, delivered, ...
        saw: the packet before.
        gave: the packet after; the same where nothing was rewritten.
        because: what the ruling rests on.
        note: more, in a sentence; may be empty.
        cause: code of the cause, when this ruling ended the leg.

    """

    stage: str
    did: str
    saw: Packet
    gave: Packet
    because: Because
    note: str = ""
    cause: str = ""
    table: ListTable | None = field(default=None, compare=False, repr=False)
    arriving: str | None = field(default=None, compare=False, repr=False)
    leaving: str | None = field(default=None, compare=False, repr=False)
    routes: RouteTable | None = field(default=None, compare=False, repr=False)

    def routes_passed_over(self) -> tuple[Loser, ...]:
        """The routes that hold the destination too, each with the reason why it was not taken."""
        return tuple(self.routes.losers(self.saw.destination)) if self.routes else ()

    def passed_over(self) -> tuple[PassedOver, ...]:
        """The rules that were examined before the decision and did not match, each with its first unmet condition."""
        return self.table.passed_over(self.saw, self.arriving, self.leaving) if self.table else ()

    def noted(self) -> tuple[Because, ...]:
        """The `note` rules that matched."""
        found = self.table.noted(self.saw, self.arriving, self.leaving) if self.table else ()
        return tuple(
            Because("rule", f"{self.table.source.name if self.table else ''} rule {c.rule.id}", c.rule.mark, c.rule.about)
            for c in found
        )


@dataclass(frozen=True, slots=True)
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


@dataclass(frozen=True, slots=True)
class Leg:
    """One way of one packet.

    Attributes:
        way: there, back, or error for an ICMP error's way home.
        packet: as it set out.
        arrived: as it was at the end.
        hops: the devices passed.
        fate: how it ended.
        cause: code from the table of causes.
        because: what the end rests on.
        note: more about the end, in a sentence.
        root: what lies behind the reason: why an answer met a list at all; mostly empty.

    """

    way: Way
    packet: Packet
    arrived: Packet
    hops: tuple[Hop, ...]
    fate: Fate
    cause: str
    because: Because
    note: str = ""
    root: str = ""

    @property
    def end(self) -> str:
        """The device at which it ended."""
        return self.hops[-1].device

    def permits(self) -> list[tuple[str, Because]]:
        """The rules, or defaults of lists, that let it through, each with its device."""
        return [(h.device, r.because) for h in self.hops for r in h.rulings if r.did == "permitted"]


@dataclass(frozen=True, slots=True)
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


@dataclass(frozen=True, slots=True)
class Journey:
    """Everything that happened to one test packet.

    Attributes:
        sender: name of the device or far host that sent it.
        target: what was asked for: a name or an address.
        target_owner: who bears the destination address; None when nobody does.
        what: the service, as ``tcp/443``.
        there: the way there.
        back: the answer's, the refusal's, or the error's way home; None when nothing came back.
        fate: the fate of the whole: that of the way there, or of the way back when the answer was lost.
        cause, because, note, root: of that fate.
        lost: ``lookup``, ``there`` or ``back``: where it was decided.
        symptom: what the sender sees, with ``symptom_note`` in a few words.
        seen_as: source address and port that the far end saw; empty when it did not get there.
        although: what is written and would have changed the fate, but has no effect.
        nearest: where a list stopped it: the permits that missed by one condition, at most two.
        lookup: the journey that first asked for the target's address; None when no lookup was needed.

    """

    sender: str
    target: str
    target_owner: str | None
    what: str
    there: Leg
    back: Leg | None
    fate: Fate
    cause: str
    because: Because
    note: str
    root: str
    lost: str
    symptom: Symptom
    symptom_note: str
    seen_as: str
    although: tuple[Because, ...] = ()
    nearest: tuple[str, ...] = ()
    lookup: Lookup | None = None

    @property
    def latency_ms(self) -> float:
        """Time on the cables, there and back, in milliseconds."""
        return sum(hop.latency_ms for leg in self.legs for hop in leg.hops)

    @property
    def answered(self) -> bool:
        """True when the packet arrived and its answer came home."""
        return self.symptom is Symptom.ANSWERED

    @property
    def legs(self) -> tuple[Leg, ...]:
        """The legs that there were."""
        return (self.there,) if self.back is None else (self.there, self.back)

    def to_dict(self, details: bool = False) -> JourneyDict:
        """The record as plain data, as the published JSON Schema describes it.

        Args:
            details: add to each list's ruling the rules that were passed over, with the reasons.

        """
        return {
            "mossy-journey": FORMAT,
            "from": self.sender,
            "to": self.target,
            "to-device": self.target_owner,
            "service": self.what,
            "fate": self.fate.value,
            "cause": self.cause,
            "because": because_dict(self.because),
            "note": self.note,
            "root": self.root,
            "decided-on": self.lost,
            "symptom": self.symptom.value,
            "symptom-note": self.symptom_note,
            "seen-as": self.seen_as,
            "although": [because_dict(b) for b in self.although],
            "nearest": list(self.nearest),
            "latency-ms": round(self.latency_ms, 6),
            "lookup": None
            if self.lookup is None
            else {
                "name": self.lookup.name,
                "resolver": self.lookup.resolver,
                "addresses": list(self.lookup.addresses),
                "journey": self.lookup.journey.to_dict(details),
            },
            "legs": [leg_dict(leg, details) for leg in self.legs],
        }


def mark_dict(mark: Mark) -> MarkDict:
    """A place as plain data."""
    return {"file": mark.file, "line": mark.line, "column": mark.column}


def because_dict(because: Because) -> BecauseDict:
    """What a ruling rests on as plain data."""
    place = mark_dict(because.mark) if because.mark and because.mark.line else None
    return {"kind": because.kind, "words": because.words, "about": because.about, "place": place}


def packet_dict(packet: Packet) -> PacketDict:
    """A packet as plain data."""
    out: PacketDict = {
        "protocol": protocol_name(packet.protocol),
        "source": str(packet.source),
        "destination": str(packet.destination),
        "ttl": packet.ttl,
    }
    if packet.protocol in WITH_PORTS:
        out["from-port"], out["to-port"] = packet.from_port, packet.to_port
    if packet.protocol in (ICMP, ICMP6):
        out["icmp"] = packet.what().partition("/")[2]
        if packet.quoted is None:
            out["identifier"] = packet.from_port
    if packet.flags:
        out["flags"] = packet.flags
    if packet.quoted is not None:
        out["quoted"] = str(packet.quoted)
    return out


def ruling_dict(ruling: Ruling, details: bool) -> RulingDict:
    """A ruling as plain data."""
    out: RulingDict = {
        "stage": ruling.stage,
        "did": ruling.did,
        "saw": packet_dict(ruling.saw),
        "gave": packet_dict(ruling.gave),
        "because": because_dict(ruling.because),
        "note": ruling.note,
        "cause": ruling.cause,
    }
    if details and ruling.table is not None:
        out["passed-over"] = [
            {"rule": p.id, "verdict": p.verdict, "place": mark_dict(p.mark), "condition": p.miss.field, "reason": p.miss.words}
            for p in ruling.passed_over()
        ]
        out["noted"] = [because_dict(b) for b in ruling.noted()]
    if details and ruling.routes is not None:
        out["routes-passed-over"] = [
            {
                "route": over.route.words(),
                "ways": [h.words() for h in over.route.hops],
                "reason": over.why,
                "place": mark_dict(over.route.mark) if over.route.mark else None,
            }
            for over in ruling.routes_passed_over()
        ]
    return out


def leg_dict(leg: Leg, details: bool) -> LegDict:
    """A leg as plain data."""
    return {
        "way": leg.way.value,
        "fate": leg.fate.value,
        "cause": leg.cause,
        "because": because_dict(leg.because),
        "note": leg.note,
        "root": leg.root,
        "packet": packet_dict(leg.packet),
        "arrived": packet_dict(leg.arrived),
        "hops": [
            {
                "device": hop.device,
                "kind": hop.kind,
                "arriving": hop.arriving,
                "leaving": hop.leaving,
                "next-device": hop.next_device,
                "segment": hop.segment,
                "bridges": list(hop.bridges),
                "latency-ms": hop.latency_ms,
                "rulings": [ruling_dict(r, details) for r in hop.rulings],
            }
            for hop in leg.hops
        ],
    }
