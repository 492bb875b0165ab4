"""A packet that is sent, with whatever comes of it: answers, errors, what a device asks onward in its own name, a later packet.

Here the plan is taken as it stands; which probes are down in it is for ``weather.py`` to say.
"""

from __future__ import annotations

from collections.abc import Sequence

from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import TCP, protocol_name
from mossy_compass.plan.actions import Decision
from mossy_compass.plan.balance import Choose
from mossy_compass.plan.order import Stage
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Did, Fate
from mossy_compass.state.state import State
from mossy_compass.walk.diagnosis import beside_unsent
from mossy_compass.walk.journey import Hop, Journey, Leg, Ruling, Symptom, Way
from mossy_compass.walk.question import Options, Question, ask
from mossy_compass.walk.verdict import journey_of, with_onward
from mossy_compass.walk.walk import LIMIT, Emission, follow, walk

MOST_ONWARD = 8
"""So many devices ask onward for one another: more than a path has proxies. A circle of them would have no end."""


def sent(plan: Plan, question: Question, state: State, choose: Choose | None = None, depth: int = 0) -> tuple[Journey, State]:
    """Send a test packet and whatever comes of it, on a plan as it stands.

    Args:
        plan: the network; whoever calls has seen to it that its probes have been asked.
        question: as ``ask`` makes it.
        state: what devices remember of earlier packets; it is changed.
        choose: how equal ways are chosen; None: by the hash.
        depth: so many devices have asked onward before.

    """
    if question.packet is None:
        return stuck_at(plan, question), state
    first = Emission(question.packet, question.device, Way.THERE, leaving=question.leaving, next_hop=question.next_hop)
    asked: list[Journey] = []

    def answers(leg: Leg) -> bool:
        """Whether the device that took the first packet answers it: datagrams wait for the answer to what is asked onward."""
        onward = _onward(plan, question, state, choose, leg, depth + 1)
        asked.extend([onward] if onward is not None else [])
        return onward is None or leg.packet.protocol == TCP or onward.answered

    legs = walk(plan, state, first, choose, question.moment, answers if plan.asks_onward else None)
    journey = journey_of(plan, question, legs, _later(plan, question, state, choose, legs))
    return (with_onward(journey, asked[0]) if asked else journey), state


def _onward(plan: Plan, question: Question, state: State, choose: Choose | None, leg: Leg, depth: int) -> Journey | None:
    """What a device asks in its own name, to which a rule redirected a packet; None where none did."""
    if leg.fate is not Fate.DELIVERED:
        return None
    last = leg.hops[-1]
    moved = next((r for r in last.rulings if r.stage == Stage.TRANSLATE_DESTINATION and r.did is Did.REWRITTEN), None)
    rules = plan.network.devices[last.device].translate if moved is not None else ()
    if moved is None or not any(t.id == moved.row and t.onward and not t.of_source for t in rules):
        return None
    wanted = moved.saw
    service = f"{protocol_name(wanted.protocol)}/{wanted.to_port}"
    # Each conversation that it opens has a port of its own.
    options = Options(source_port=wanted.from_port % 65535 + 1, family=wanted.destination.family, size=wanted.size)
    asked = ask(plan, last.device, str(wanted.destination), service, options, choose=choose)
    if depth > MOST_ONWARD:
        end = leg._replace(
            fate=Fate.LOOPED, cause=LIMIT, because=Because(LIMIT, (MOST_ONWARD, "devices that ask onward")), remark=None
        )
        return journey_of(plan, asked, [end])
    return sent(plan, asked._replace(moment=question.moment), state, choose, depth)[0]


def _later(plan: Plan, question: Question, state: State, choose: Choose | None, legs: Sequence[Leg]) -> Leg | None:
    """The packet of an answered flow that shows its application, where that comes after the first answer.

    Odd packets are the asker's, even ones the answerer's. None where the answer has shown it already, or no rule asks.
    """
    moment = question.moment
    if moment.application is None or moment.known_from <= 2 or not plan.asks_application or len(legs) < 2:
        return None
    there, back = legs[0], legs[1]
    if there.fate is not Fate.DELIVERED or back.way is not Way.BACK or back.cause != "answer.arrived":
        return None
    source = there if moment.known_from % 2 else back
    packet = source.packet._replace(flags="ACK" if source.packet.flags else "")
    next_hop = question.next_hop if source is there else None
    leaving = question.leaving if source is there else None
    emission = Emission(packet, source.hops[0].device, Way.LATER, None, leaving, moment.known_from, next_hop)
    return follow(plan, state, emission, choose, moment)[0]


def stuck_at(plan: Plan, question: Question) -> Journey:
    """No packet could be made: the name is unknown, or the sender has no address."""
    assert question.stuck is not None
    cause, because, remark = question.stuck.cause, question.stuck.because, question.stuck.remark
    here = plan.network.devices[question.device]
    nothing = Address(4, 0)
    packet = Packet(0, nothing, question.destination or nothing)
    ruling = Ruling(stage="from self", decision=Decision(Did.DROPPED, because, (), remark), saw=packet, gave=packet, cause=cause)
    hop = Hop(
        device=here.name,
        kind=here.kind.value,
        arriving=None,
        leaving=None,
        next_device=None,
        segment=None,
        bridges=(),
        rulings=(ruling,),
    )
    leg = Leg(
        way=Way.THERE, packet=packet, arrived=packet, hops=(hop,), fate=Fate.DROPPED, cause=cause, because=because, remark=remark
    )
    return Journey(
        sender=question.sender,
        target=question.target,
        target_owner=None,
        what=question.what,
        legs=(leg,),
        back=None,
        fate=Fate.DROPPED,
        cause=cause,
        because=because,
        remark=remark,
        behind=None,
        lost="there",
        symptom=Symptom.NAME_NOT_FOUND if cause == "name.unknown" else Symptom.UNREACHABLE,
        said=Because("said.not-sent"),
        seen_as="",
        diagnosis=beside_unsent,
        plan=plan,
    )
