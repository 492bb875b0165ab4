"""Packets of which a stay says that they are alike are alike; and a flood of sets says of every packet what its walk says."""

from __future__ import annotations

import random
from collections import deque
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.lab.cells import first_way, flood, stay_at
from mossy_compass.lab.forms import Sets, exactly, holding, room, sent_by
from mossy_compass.plan.balance import Choose
from mossy_compass.plan.facts import Moment, Relation
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.replies import reply_to
from mossy_compass.state.state import State
from mossy_compass.walk.journey import Leg, Way
from mossy_compass.walk.many import by_every_choice
from mossy_compass.walk.walk import MOST_LEGS, Emission, carried, follow, taken
from tests import brute
from tests.cells import drawn
from tests.conftest import DATA
from tests.effort import at_length, examples
from tests.test_laws import networks

EXAMPLES = [
    Path(__file__).parents[1] / f"examples/mistakes/{n}.yaml" for n in ("office", "open-office", "firewall", "rules", "names")
]
SERVICES = ("tcp/443", "udp/53", "ping", "tcp/22", "udp/4500")


@pytest.fixture(scope="module")
def sets() -> Sets:
    return Sets(room(64))  # all tests of the module are done in it


def hosts(plan: Plan) -> list[str]:
    return [n for n, d in plan.network.devices.items() if d.kind.value == "host" and d.own_addresses()]


@pytest.mark.scaled
def test_a_flood_of_sets_says_what_walks_say(sets: Sets) -> None:
    """Every packet that a host could send, on its way there, and beside it walks of packets drawn from the sets: at length the demo."""
    plan, chance = mc.Plan(mc.load(DATA / "fernhollow.yaml" if at_length() else EXAMPLES[0])), random.Random(7)
    for name in hosts(plan)[:1] if at_length() else hosts(plan)[:2]:
        everything = sent_by(sets.space, [a.key for a, _ in plan.network.devices[name].own_addresses()])
        left = everything
        for piece in flood(plan, sets, name, everything):
            assert piece.held.satisfiable()
            assert not (piece.held & ~left).satisfiable()
            left = left & ~piece.held
            for _ in range(2):
                facts = drawn(sets.space, piece.held, chance)
                assert facts is not None
                leg, _ = follow(plan, State(), Emission(facts.packet, name, Way.THERE), first_way)
                if leg.cause == "loop":  # sets go round until their TTL ends; the walk says that it goes round
                    assert piece.end[2] == "ttl.expired"
                    assert piece.path[: len(leg.hops)] == tuple(h.device for h in leg.hops)
                else:
                    assert (leg.hops[-1].device, leg.fate.value, leg.cause) == piece.end
                    assert tuple(h.device for h in leg.hops) == piece.path
        assert not left.satisfiable()


def with_equal_ways(seed: int) -> mc.Network:
    """A network with two equal ways, and other lists by each."""
    found = mc.read_bytes(brute.network_text(seed, timed=True).encode(), "n.yaml").network
    assert found is not None
    return found


@examples(3, 36)
@given(st.one_of(networks(), st.integers(0, 100_000).map(with_equal_ways)), st.integers(0, 1000))
def test_a_flood_by_every_equal_way_says_what_walks_by_each_say(sets: Sets, network: mc.Network, seed: int) -> None:
    plan, chance = mc.Plan(network), random.Random(seed)
    name = chance.choice([*hosts(plan) * 3, *network.devices])
    own = [a.key for a in brute.addresses(network, name)]
    if not own:
        return
    pieces = list(flood(plan, sets, name, sent_by(sets.space, own) & sets.opening, forks=True))
    some = [drawn(sets.space, piece.held, chance) for piece in chance.sample(pieces, min(len(pieces), 12))]
    likely = [packet for _, packet in brute.packets(network, [name])]
    for packet in (*(facts.packet for facts in some if facts is not None), *chance.sample(likely, min(len(likely), 40))):
        emission = Emission(packet, name, Way.THERE)

        def by(choose: Choose, emission: Emission = emission) -> Leg:
            """The way there by some choices."""
            return follow(plan, State(), emission, choose)[0]

        walks = by_every_choice(by)[0]
        ends = {(leg.hops[-1].device, leg.fate.value, leg.cause) for _, leg in walks}
        mine = exactly(sets.space, packet, Relation.OPENING)
        said = {p.end for p in pieces if (p.held & mine).satisfiable()}
        # Whoever comes by a device twice is known there the second time, which sets do not follow.
        if all(len({hop.device for hop in leg.hops}) == len(leg.hops) for _, leg in walks):
            assert ends == said, packet


def behaves_alike(plan: Plan, sets: Sets, first: Emission, moment: Moment, chance: random.Random, draws: int) -> int:
    """Walk a question to its last answer; at every stay draw packets from its cell, and let them stay there instead of it.

    Gives the number of packets that were tried.
    """
    state, queue, tried, legs = State(), deque([first]), 0, 0
    while queue and legs < MOST_LEGS:
        emission = queue.popleft()
        legs += 1
        packet, name, arriving = emission.packet, emission.device, None
        leaving, handed = emission.leaving, None
        for _ in range(80):
            kept = state.keep()
            done = stay_at(plan, sets, state, name, packet, arriving, None, emission.number, moment, leaving, handed)
            after, reached = state.keep(), len(done.stay.rulings)
            relation = done.stay.facts.relation
            if relation is Relation.NONE and packet.opening:  # it was stopped before anybody recalled it
                relation = Relation.OPENING
            assert packet.quoted is not None or holding(sets.space, done.cell, packet, relation), (name, packet)
            state.back_to(kept)
            # An error is what it quotes, and sets know nothing of that yet.
            for _ in range(draws if packet.quoted is None else 0):
                facts = drawn(sets.space, done.cell, chance)
                assert facts is not None
                other = stay_at(plan, sets, state, name, facts.packet, arriving, None, emission.number, moment, leaving, handed)
                assert other.said == done.said, (name, packet, facts.packet)
                assert _reply(other) == _reply(done), (name, packet, facts.packet)
                state.back_to(kept)
                tried += 1
            done = stay_at(plan, sets, state, name, packet, arriving, None, emission.number, moment, leaving, handed)
            assert (state.keep(), len(done.stay.rulings)) == (after, reached)
            leaving = None
            if done.end is not None:
                facts = done.stay.facts
                if facts.arriving is not None or done.end.reply.value in ("answer", "refusal"):
                    sent = reply_to(done.stay.here, facts, done.end.reply, first_way, done.end.answer)
                    if sent is not None:
                        way = facts.arriving if sent.packet.destination.is_link_local else None
                        queue.append(Emission(sent.packet, name, Way.BACK, 0, way, emission.number + 1))
                break
            neighbour = done.stay.handover
            assert neighbour is not None
            if neighbour.tunnel:
                through = carried(plan, state, done.stay, first_way, moment, ())
                if through.lost is not None or through.outer is None:
                    break
                neighbour = taken(neighbour, through.outer)
            handed = name, done.stay.facts.leaving or ""
            packet, name, arriving = done.stay.facts.packet, neighbour.device, neighbour.interface
    return tried


def _reply(stayed: object) -> object:
    """What goes home, as far as it is one thing for all packets of a cell: what kind, from whom of the device's own."""
    end, stay = stayed.end, stayed.stay  # type: ignore[attr-defined]
    if end is None:
        return None
    sent = reply_to(stay.here, stay.facts, end.reply, first_way, end.answer)
    if sent is None:
        return None
    own = sent.packet.source if sent.packet.source in stay.here.own and not sent.answers else None
    return sent.answers, sent.packet.flags, own


def questions(plan: Plan, chance: random.Random, count: int) -> list[Emission]:
    """Questions of hosts to hosts and devices, of some services, as the command would ask them."""
    found = []
    names = hosts(plan)
    targets = [n for n, d in plan.network.devices.items() if d.own_addresses()]
    for _ in range(count):
        asked = mc.ask(
            plan, chance.choice(names), chance.choice(targets), chance.choice(SERVICES), size=chance.choice((64, 64, 1600))
        )
        if asked.packet is not None:
            found.append(Emission(asked.packet, asked.device, Way.THERE, leaving=asked.leaving))
    return found


@pytest.mark.scaled
@pytest.mark.parametrize("path", [DATA / "fernhollow.yaml", DATA / "grounds.yaml", *EXAMPLES], ids=lambda p: p.stem)
def test_packets_of_a_cell_are_treated_alike(path: object, sets: Sets) -> None:
    plan, chance = mc.Plan(mc.load(path)), random.Random(3)  # type: ignore[arg-type]
    asked = questions(plan, chance, 16 if at_length() else 8)
    tried = sum(behaves_alike(plan, sets, q, Moment(), chance, 3) for q in asked)
    assert tried > len(asked)


@examples(4, 60)
@given(networks(), st.integers(0, 1000))
def test_packets_of_a_cell_are_treated_alike_in_any_network(network: mc.Network, seed: int) -> None:
    plan, chance, sets = mc.Plan(network), random.Random(seed), Sets(room())
    for question in questions(plan, chance, 2):
        behaves_alike(plan, sets, question, Moment(), chance, 2)


PAIRED = """\
mossy-network: 1
devices:
  gate:
    kind: router
    interfaces: {hall: 10.40.1.1/24, world: 198.51.100.2/24}
    translate: [{source: 10.40.1.0/24, leaving: world, becomes: {pair: 192.0.2.0/24}}]
  ann: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  bob: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
  far: {kind: router, interfaces: {a: 198.51.100.1/24}, routes: [{prefix: 192.0.2.0/24, next-hop: 198.51.100.2}]}
segments: {hall: [gate/hall, ann, bob], out: [gate/world, far/a]}
"""


@pytest.mark.parametrize(("sender", "target", "fixed"), [("far", "192.0.2.10", "destination"), ("ann", "far", "source")])
def test_of_fixed_pairs_each_address_is_a_kind_of_its_own(sender: str, target: str, fixed: str, sets: Sets) -> None:
    """The end that is translated: whoever sends it, or from which port, fares alike."""
    network = mc.read_bytes(PAIRED.encode(), "paired.yaml").network
    assert network is not None
    plan = Plan(network)
    question = mc.ask(plan, sender, target, "https")
    assert question.packet is not None
    packet, arriving = question.packet, "world" if sender == "far" else "hall"
    done = stay_at(plan, sets, State(), "gate", packet, arriving, None, 1, Moment())
    source, destination = (a._replace(value=a.value + 9) for a in (packet.source, packet.destination))
    assert holding(sets.space, done.cell, packet._replace(from_port=1), Relation.OPENING)
    assert holding(sets.space, done.cell, packet._replace(source=source), Relation.OPENING) is (fixed == "destination")
    assert not holding(sets.space, done.cell, packet._replace(destination=destination), Relation.OPENING)
