"""Examples of findings and of changes: walked before they are shown, of a host that is there, and of another one where the first is not sent."""

from __future__ import annotations

import random
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.lab.examples import walker
from mossy_compass.lab.findings import findings
from mossy_compass.model.network import Verdict
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.ids import list_id
from mossy_compass.proof.effects import effects
from mossy_compass.proof.likely import Look
from mossy_compass.state.state import State
from mossy_compass.walk.journey import Way
from mossy_compass.walk.question import Options
from mossy_compass.walk.trace import trace_one
from mossy_compass.walk.walk import Emission, follow
from tests.effort import examples
from tests.test_advice import fates
from tests.test_effects import network_of
from tests.test_laws import networks

TWO_GATES = """
mossy-network: 1
lists:
  house:
    - {id: 10, permit: tcp, service: https}
    - {id: 20, permit: tcp, from: 10.41.1.0/24, service: https}
    - {id: 30, deny: any}
devices:
  gate:
    kind: firewall
    interfaces:
      a: {address: 10.41.1.1/24, filter: {arriving: house}}
      b: {address: 10.41.2.1/24}
  side:
    kind: router
    interfaces: {a: 10.41.1.2/24, b: 10.41.2.2/24}
  abe: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.2}
  #AMY
  far: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1, serves: [https, ssh]}
segments: {house: [gate/a, side/a, abe#MEMBER], yard: [gate/b, side/b, far]}
"""
AMY = TWO_GATES.replace("#AMY", "amy: {kind: host, address: 10.41.1.11/24, gateway: 10.41.1.1}").replace("#MEMBER", ", amy")
ALONE = TWO_GATES.replace("  #AMY\n", "").replace("#MEMBER", "")


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        (AMY, "tcp 10.41.1.11:49152 > 10.41.2.10:443"),
        (ALONE, "(no host found that sends one there)"),  # abe's packets go by the other gate
    ],
)
def test_an_example_is_one_that_somebody_sends(text: str, shown: str) -> None:
    (found,) = (p for p in findings(mc.Plan(network_of(text))) if p.code == "rule.shadowed")
    assert shown in found.message
    assert ("no host" in found.message) is ("no host" in shown)


@pytest.mark.parametrize(("text", "sent"), [(AMY, True), (ALONE, False)])
@pytest.mark.parametrize(
    "edit",
    [
        ("permit: tcp, service: https}", "permit: tcp, service: [https, ssh]}"),  # a rule is another
        ("filter: {arriving: house}", "filter: {}"),  # the list goes from its place
    ],
)
def test_what_changes_is_shown_by_what_somebody_sends(text: str, sent: bool, edit: tuple[str, str]) -> None:
    one, other = mc.Plan(network_of(text)), mc.Plan(network_of(text.replace(*edit)))
    for before, after in ((one, other), (other, one)):
        found = effects(before, after, walker(after, before))
        turns = [*(t for e in found.lists for t in e.turns), *(t for e in found.places for t in e.turns)]
        assert turns
        assert {t.witness.sent for t in turns} == {sent}
        for turn in turns if sent else ():
            source, packet = "amy", turn.witness.facts.packet
            fates = [
                trace_one(p, source, str(packet.destination), packet.what(), Options(source=str(packet.source))).there.cause
                for p in (before, after)
            ]
            stopped = [cause.startswith("filter") for cause in fates]
            assert stopped == [turn.before != "permit", turn.after != "permit"], (turn, fates)


def test_a_walk_says_no_more_than_it_shows() -> None:
    """Neither another device's list, nor another rule, nor another way; and of what answers something nothing is said."""
    plan = mc.Plan(network_of(AMY))
    asked = mc.ask(plan, "amy", "far", "https").packet
    assert asked is not None
    facts, comes = Facts(asked, None), walker(plan)
    facts.relation = Relation.OPENING
    house = frozenset((("gate", list_id("house")),))
    assert comes(facts, (Look(house),))
    assert comes(facts, (Look(house, frozenset(("10",))),))
    assert not comes(facts, (Look(house, frozenset(("20",))),))
    assert not comes(facts, (Look(frozenset((("side", list_id("house")),))),))
    assert comes(facts, (Look(device="gate", came=("a",), goes=("b",)),))
    assert not comes(facts, (Look(device="gate", came=("b",)),))
    assert not comes(facts, (Look(device="gate", came=("a",), goes=("a",)),))
    assert not comes(facts, (Look(device="side"),))
    assert comes(facts, (Look(house), Look(device="side")))
    assert not comes(facts, (Look(device="side"), Look(house, frozenset(("20",)))))
    facts.relation = Relation.ANSWERING
    assert comes(facts, (Look(house),)) is None


def test_every_way_of_equal_ones_is_looked_at() -> None:
    """A router with two ways of one cost: the list stands on the second."""
    text = """
mossy-network: 1
lists: {late: [{id: 10, permit: tcp}, {id: 20, permit: tcp, service: ssh}]}
devices:
  fork: {kind: router, interfaces: {a: 10.41.1.1/24, b: 10.41.2.1/24, c: 10.41.3.1/24},
         routes: [{prefix: 10.41.4.0/24, next-hop: 10.41.2.2}, {prefix: 10.41.4.0/24, next-hop: 10.41.3.2}]}
  left: {kind: router, interfaces: {b: 10.41.2.2/24, d: 10.41.4.1/24}, routes: [{prefix: 0.0.0.0/0, next-hop: 10.41.2.1}]}
  right: {kind: router, interfaces: {c: {address: 10.41.3.2/24, filter: {arriving: late}}, d: 10.41.4.2/24},
          routes: [{prefix: 0.0.0.0/0, next-hop: 10.41.3.1}]}
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  bob: {kind: host, address: 10.41.4.10/24, gateway: 10.41.4.1, serves: [ssh]}
segments: {h: [fork/a, ann], x: [fork/b, left/b], y: [fork/c, right/c], z: [left/d, right/d, bob]}
"""
    (found,) = (p for p in findings(mc.Plan(network_of(text))) if p.code == "rule.shadowed")
    assert "tcp 10.41.1.10:49152 > 10.41.4.10:22 SYN" in found.message
    assert "no host" not in found.message


def edited_list(network: mc.Network, chance: random.Random) -> mc.Network:
    """A network with a rule less, another verdict, rules turned round, or a rule disabled, in one of its lists."""
    name = chance.choice(list(network.lists))
    rules = list(network.lists[name].rules)
    at = chance.randrange(len(rules)) if rules else 0
    kind = chance.randrange(4)
    if kind == 0:
        del rules[at : at + 1]
    elif kind == 1:
        rules = rules[::-1]
    elif rules:
        verdict = chance.choice((Verdict.PERMIT, Verdict.DENY, Verdict.HAND_ON))
        rules[at] = replace(rules[at], verdict=verdict) if kind == 2 else replace(rules[at], disabled=True)
    return replace(network, lists={**network.lists, name: replace(network.lists[name], rules=tuple(rules))})


@examples(12, 200)
@given(networks(), st.integers(0, 1000))
def test_in_any_network_what_changes_is_told_and_what_is_shown_changes(network: mc.Network, seed: int) -> None:
    """Where nothing is told every journey is the same; an example that somebody sends meets the two verdicts where it is said to."""
    if not network.lists:
        return
    before, after = mc.Plan(network), mc.Plan(edited_list(network, random.Random(seed)))
    found = effects(before, after, walker(after, before))
    if not found:
        assert fates(before, random.Random(seed)) == fates(after, random.Random(seed))
    for effect in found.lists:
        for turn in effect.turns:
            for plan, verdict in ((before, turn.before), (after, turn.after)) if turn.witness.sent else ():
                ends = [stopped(plan, turn.witness.facts.packet, way, effect.devices) for way in range(4)]
                assert (verdict != "permit") in ends or not {True, False}.intersection(ends), (turn, ends)


def stopped(plan: mc.Plan, packet: Packet, way: int, devices: tuple[str, ...]) -> bool | None:
    """Whether a filter of some devices stops a packet that somebody sends by one of equal ways; None where it comes to none of them."""
    owner = next(n for n, d in plan.network.devices.items() if packet.source in [a for a, _ in d.own_addresses()])
    leg, _ = follow(plan, State(), Emission(packet, owner, Way.THERE), lambda d, hops, p: min(way, len(hops) - 1))
    if not {h.device for h in leg.hops}.intersection(devices):
        return None
    return leg.end in devices and leg.cause.startswith("filter")
