"""Whole journeys of sets: packets of one set fare alike, there and back; together the sets are everything, and none twice."""

from __future__ import annotations

import random
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.headers.sets import Set
from mossy_compass.lab.forms import Sets, room, sent_by
from mossy_compass.lab.whole import wholes
from mossy_compass.packet.address import Address, Span
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Moment, Relation
from mossy_compass.plan.plan import Plan
from mossy_compass.state.state import State
from mossy_compass.walk.journey import Journey, Way
from mossy_compass.walk.many import by_every_choice
from mossy_compass.walk.question import Question
from mossy_compass.walk.sent import sent
from tests.cells import drawn
from tests.conftest import DATA
from tests.effort import at_length, examples
from tests.test_laws import networks

EXAMPLES = [
    Path(__file__).parents[1] / f"examples/mistakes/{n}.yaml" for n in ("office", "open-office", "firewall", "rules", "names")
]


def question_of(plan: Plan, sender: str, packet: Packet) -> Question:
    return Question(sender, sender, str(packet.destination), packet.what(), packet, None, packet.destination)


def told(journey: Journey) -> object:
    """What must be the same for all packets of a set: every decision at every device there and back, and how it ended.

    The way home of an error is no part of it.
    """
    legs = [
        (
            leg.way,
            leg.fate,
            leg.cause,
            [(h.device, h.leaving, [(r.stage, r.table, r.row, r.cause) for r in h.rulings]) for h in leg.hops],
        )
        for leg in (journey.there, journey.back, journey.later)
        if leg is not None and leg.way is not Way.ERROR and leg.packet.quoted is None
    ]
    return legs, journey.answered, journey.cause


def everything(sets: Sets, plan: Plan, name: str, targets: list[Address]) -> Set:
    held = sent_by(sets.space, [a.key for a, _ in plan.network.devices[name].own_addresses() if not a.is_link_local])
    held = held & sets.space.of_condition(Condition("relation", (("relation", frozenset((Relation.OPENING,))),)))
    spans = tuple(Span(a.key, a.key) for a in targets)
    return held & sets.space.of_condition(Condition("to", (("destination", spans),)))


def fares_alike(plan: Plan, sets: Sets, name: str, held: Set, chance: random.Random, draws: int, moment: Moment) -> int:
    """Divide what a host sends into sets, and walk packets that are drawn from them; gives how many sets there were."""
    left, count = held, 0

    def ask(packet: Packet) -> Question:
        return question_of(plan, name, packet)._replace(moment=moment)

    for whole in wholes(plan, sets, held, ask, State(), lambda facts: facts.packet):
        count += 1
        assert whole.held.satisfiable()
        assert not (whole.held & ~left).satisfiable()
        left = left & ~whole.held
        for _ in range(draws):
            facts = drawn(sets.space, whole.held, chance)
            assert facts is not None
            found, _ = by_every_choice(lambda choose, p=facts.packet: sent(plan, ask(p), State(), choose)[0])  # type: ignore[misc]
            assert [told(j) for _, j in found] == [told(j) for j in whole.journeys], (name, whole.packet, facts.packet)
    assert not left.satisfiable()
    return count


def hosts(plan: Plan) -> list[str]:
    return [n for n, d in plan.network.devices.items() if d.kind.value == "host" and d.own_addresses()]


@pytest.mark.parametrize("path", [DATA / "fernhollow.yaml", DATA / "grounds.yaml", *EXAMPLES], ids=lambda p: p.stem)
def test_packets_of_a_set_fare_alike_there_and_back(path: Path) -> None:
    plan, chance, sets = mc.Plan(mc.load(path)), random.Random(5), Sets(room(64))
    names = hosts(plan)
    for _ in range(6 if at_length() else 2):
        name, other = chance.choice(names), chance.choice(names)
        targets = [a for a, _ in plan.network.devices[other].own_addresses() if not a.is_link_local]
        if other != name:
            assert fares_alike(plan, sets, name, everything(sets, plan, name, targets), chance, 2, Moment()) > 0


@examples(6, 40)
@given(networks(), st.integers(0, 1000))
def test_packets_of_a_set_fare_alike_in_any_network(network: mc.Network, seed: int) -> None:
    plan, chance, sets = mc.Plan(network), random.Random(seed), Sets(room())
    names = hosts(plan)
    if len(names) < 2:
        return
    name, other = chance.sample(names, 2)
    targets = [a for a, _ in plan.network.devices[other].own_addresses() if not a.is_link_local]
    fares_alike(plan, sets, name, everything(sets, plan, name, targets), chance, 3, Moment())
