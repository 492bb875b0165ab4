"""A journey as plain data, as ``journey.schema.json`` describes it.

Plain data has the record's own names, and nothing that could be computed from the rest
without the plan. Its shape is published as a JSON Schema; a test validates every golden
journey against it.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from mossy_compass.marks import Mark
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, WITH_PORTS, protocol_name
from mossy_compass.plan.ids import TableKind
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because
from mossy_compass.report.words import spoken
from mossy_compass.walk.journey import Hop, Journey, Leg, Ruling

if TYPE_CHECKING:
    from mossy_compass.walk.journey_types import (
        BecauseDict,
        HopDict,
        JourneyDict,
        LegDict,
        MarkDict,
        PacketDict,
        PassedOverDict,
        RulingDict,
    )
    from mossy_compass.walk.retold import TableAsked

FORMAT = 1


def journey_dict(journey: Journey, details: bool = False) -> JourneyDict:
    """The record as plain data; with ``details`` what was passed over too."""
    plan = journey.plan if details else None
    lookup = journey.lookup
    return {
        "mossy-journey": FORMAT,
        "from": journey.sender,
        "to": journey.target,
        "to-device": journey.target_owner,
        "service": journey.what,
        "fate": journey.fate.value,
        "cause": journey.cause,
        "because": because_dict(journey.because),
        "note": journey.note,
        "root": journey.root,
        "decided-on": journey.lost,
        "symptom": journey.symptom.value,
        "symptom-note": journey.symptom_note,
        "seen-as": journey.seen_as,
        "although": [because_dict(b) for b in journey.although],
        "nearest": [spoken(b) for b in journey.near],
        "latency-ms": round(journey.latency_ms, 6),
        "lookup": None
        if lookup is None
        else {
            "name": lookup.name,
            "resolver": lookup.resolver,
            "addresses": list(lookup.addresses),
            "journey": journey_dict(lookup.journey, details),
        },
        "onward": None if journey.onward is None else journey_dict(journey.onward, details),
        "legs": [leg_dict(leg, plan) for leg in (*journey.legs, *([journey.later] if journey.later else []))],
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


def ruling_dict(ruling: Ruling, device: str, plan: Plan | None, asked: Sequence[TableAsked] = ()) -> RulingDict:
    """A ruling as plain data.

    Args:
        ruling: what a stage did.
        device: where.
        plan: to be asked what was passed over; None: that is not told.
        asked: the tables that the stage went through.

    """
    out: RulingDict = {
        "stage": str(ruling.stage),
        "did": ruling.did.value,
        "saw": packet_dict(ruling.saw),
        "gave": packet_dict(ruling.gave),
        "because": because_dict(ruling.because),
        "note": ruling.note,
        "cause": ruling.cause,
    }
    if ruling.logged:
        out["log"] = ruling.logged
    if plan is not None and asked:
        out["passed-over"] = _passed_over(asked)
        out["noted"] = [because_dict(m.because) for m in ruling.admissions(device) if not m.decides]
    if plan is not None and ruling.table.kind is TableKind.ROUTE:
        out["routes-passed-over"] = [
            {
                "route": over.route.words(),
                "ways": [h.words() for h in over.route.hops],
                "reason": over.words,
                "place": mark_dict(over.route.mark) if over.route.mark else None,
            }
            for over in plan.routes_passed_over(device, ruling)
        ]
    return out


def _passed_over(asked: Sequence[TableAsked]) -> list[PassedOverDict]:
    """The rows of some tables that were passed over."""
    return [
        {
            "list": one.table.name,
            "rule": over.id,
            "verdict": over.verdict,
            "place": mark_dict(over.row.mark),
            "condition": over.miss.key,
            "reason": over.words,
        }
        for one in asked
        for over in one.over
    ]


def _hop_dict(hop: Hop, plan: Plan | None, came: Packet) -> HopDict:
    """A hop as plain data; with the plan, also the rows that were passed over, and the stages that let it pass in silence."""
    out: HopDict = {
        "device": hop.device,
        "kind": hop.kind,
        "arriving": hop.arriving,
        "leaving": hop.leaving,
        "next-device": hop.next_device,
        "segment": hop.segment,
        "bridges": list(hop.bridges),
        "latency-ms": hop.latency_ms,
        "rulings": [],
    }
    if hop.outer is not None:
        out["outer"] = leg_dict(hop.outer, plan)
    if hop.outer is not None and hop.outer.pieces:
        out["pieces"] = [leg_dict(leg, plan) for leg in hop.outer.pieces]
    if hop.error is not None:
        out["error"] = leg_dict(hop.error, plan)
    if hop.exchange:
        out["exchange"] = [leg_dict(leg, plan) for leg in hop.exchange]
    if plan is None:
        out["rulings"] = [ruling_dict(r, hop.device, None) for r in hop.rulings]
        return out
    from mossy_compass.walk.retold import stages_told  # only where details are asked for

    out["silent"] = []
    for told in stages_told(plan, hop, came):
        if told.ruling is not None:
            out["rulings"].append(ruling_dict(told.ruling, hop.device, plan, told.asked))
        else:
            end = because_dict(told.end) if told.end is not None else None
            out["silent"].append({"stage": told.stage, "because": end, "passed-over": _passed_over(told.asked)})
    return out


def leg_dict(leg: Leg, plan: Plan | None) -> LegDict:
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
        "hops": [_hop_dict(hop, plan, leg.came_to(number)) for number, hop in enumerate(leg.hops)],
    }
