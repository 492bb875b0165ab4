"""What a change does to verdicts, exactly: against lists gone through by hand, and at every kind of place."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.model.network import AccessList, Verdict
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.actions import Stop
from mossy_compass.plan.conditions import Reader
from mossy_compass.plan.effects import END, effects
from mossy_compass.plan.effects import _difference as difference
from mossy_compass.plan.effects import _Ground as Ground
from mossy_compass.plan.effects import _turns as turns_between
from mossy_compass.plan.exact import Space
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.likely import Ends
from mossy_compass.plan.stages.gates import every_place
from mossy_compass.plan.stages.lists import SILENT, Consult, Place
from mossy_compass.plan.table import list_table
from mossy_compass.report import changetext
from mossy_compass.report.text import as_text
from tests.conftest import DATA
from tests.test_exact import MOMENTS, WORDS, asked, possible
from tests.test_rows import OWN, lists, packet, where

NOBODY = Ends((), ())
NOWHERE = mc.Plan(mc.Network("", mc.Mark("", 0, 0), {}, {}, hours=WORDS.hours, applications=WORDS.applications))
READER = Reader(OWN, names=None)


def verdict_of(chain: list[AccessList], facts: Facts) -> str:
    """The verdict of lists in order, rule by rule: a rule that hands on leaves its list, and what none decides passes."""
    for source in chain:
        for row in list_table(source, READER).rows:
            if row.verdict is Verdict.NOTE or next(row.misses(facts), None) is not None:
                continue
            if row.verdict is Verdict.HAND_ON:
                break
            assert row.verdict is not None
            return row.verdict.value
    return "permit"


@settings(max_examples=150)
@given(
    st.lists(lists, max_size=2),
    st.lists(lists, max_size=2),
    packet(),
    where,
    where,
    st.sampled_from(list(Relation)),
    st.sampled_from(MOMENTS),
)
def test_the_verdicts_that_change_at_a_place_are_those_that_change(
    one: list[AccessList],
    other: list[AccessList],
    packet: Packet,
    arriving: str | None,
    leaving: str | None,
    relation: Relation,
    moment: object,
) -> None:
    """Every pair of verdicts that is told has its packet, and no packet changes its verdict that is of no such pair."""
    places = [Place([Consult(list_table(source, READER)) for source in chain], SILENT) for chain in (one, other)]
    ground = Ground(NOWHERE, "", places)
    before, after = (ground.fates(place, ground.space.possible) for place in places)
    told = list(turns_between(ground.space, before, after, NOBODY))
    for turn in told:
        assert (verdict_of(one, turn.witness), verdict_of(other, turn.witness)) == (turn.before, turn.after)
    facts = asked(packet, arriving, relation, moment, frozenset())  # type: ignore[arg-type]
    facts.leaving = leaving
    if possible(packet, relation):
        was, now = verdict_of(one, facts), verdict_of(other, facts)
        assert was == now or (was, now) in {(t.before, t.after) for t in told}


@settings(max_examples=100)
@given(lists, st.randoms(use_true_random=False))
def test_a_rule_is_followed_wherever_it_goes(source: AccessList, chance: object) -> None:
    """Rules in another order, with other numbers: each is still the one that it was, and none is new or gone."""
    shuffled = list(source.rules)
    chance.shuffle(shuffled)  # type: ignore[attr-defined]
    counted = AccessList(source.name, tuple(replace(r, id=f"n{n}") for n, r in enumerate(shuffled)), source.mark)
    before, after = list_table(source, READER).rows, list_table(counted, READER).rows
    space = Space((*before, *after), WORDS)
    rows, _ = difference(before, after, Verdict.DENY, space, NOBODY)
    words = {r.id: r.conditions for r in before} | {r.id: r.conditions for r in after}
    for row in rows:
        assert row.state == ""
        assert (row.row == row.was == END) or words[row.row] == words[row.was]
        for example, table, ident in ((row.grew, counted, row.row), (row.shrank, source, row.was)):
            decided = list_table(table, READER).first(example) if example is not None else None
            assert example is None or (decided.id if decided else END) == ident


HALL = """
mossy-network: 1
lists:
  few: [{permit: tcp, from: ann, service: https}]
  most: [{deny: tcp, service: ssh}, {permit: any}]
devices:
  door:
    kind: firewall
    interfaces:
      in: {address: 10.41.1.1/24, zone: house}
      out: {address: 10.41.2.1/24, zone: world, outside: yes}
    #HERE
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  bob: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1, serves: [https]}
segments: {in: [door/in, ann], out: [door/out, bob]}
"""


def network_of(text: str) -> mc.Network:
    found = mc.read_bytes(text.encode(), "hall.yaml")
    assert found.network is not None, found.problems
    return found.network


IN = "in: {address: 10.41.1.1/24, zone: house}"
PLACES = [
    ("an interface", (IN, IN[:-1] + ", filter: {arriving: few}}"), "in arriving", "permit", "deny"),
    ("what leaves", (IN, IN[:-1] + ", filter: {leaving: most}}"), "in leaving", "permit", "deny"),
    ("everywhere", ("#HERE", "everywhere: most"), "in arriving", "permit", "deny"),
    ("a crossing", ("#HERE", "crossings: [{from: house, into: world, lists: few}]"), "house into world", "permit", "deny"),
    ("a default", ("#HERE", "settings: {inbound: permit}"), "world into house", "deny", "permit"),
    ("to itself", ("#HERE", "to-self: most"), "out to itself", "deny", "permit"),
    ("its own", ("#HERE", "from-self: few"), "of itself", "permit", "deny"),
    ("offers", ("#HERE", "offers: {in: {ssh: ann}}"), "in to itself", "permit", "deny"),
    ("who is outside", ("zone: world, outside: yes", "zone: world, outside: no"), "world into house", "deny", "permit"),
]


@pytest.mark.parametrize(("edit", "place", "was", "now"), [c[1:] for c in PLACES], ids=[c[0] for c in PLACES])
def test_what_stands_otherwise_is_told_at_its_place(edit: tuple[str, str], place: str, was: str, now: str) -> None:
    """Nothing is in a rule here: the lists are the same, and stand elsewhere, or something else comes after them."""
    before, after = mc.Plan(network_of(HALL)), mc.Plan(network_of(HALL.replace(*edit)))
    for one, other, verdicts in ((before, after, (was, now)), (after, before, (now, was))):
        found = effects(one, other)
        assert not found.lists
        told = {(p.where, t.before, t.after): t.witness for p in found.places for t in p.turns}
        assert (place, *verdicts) in told
        here = {s.words: s for s in every_place(other.device("door"))}
        for (words, _, later), witness in told.items():
            decision = here[words].place.decide(witness)
            stopped = decision is not None and isinstance(decision.actions[0], Stop)
            assert stopped is (later != "permit"), words


def test_a_list_that_chooses_ways_is_told_as_one() -> None:
    text = HALL.replace("#HERE", "policy-routes: [{list: few, candidates: 10.41.2.10}]")
    before, after = mc.Plan(network_of(text)), mc.Plan(network_of(text.replace("service: https}]", "service: ssh}]")))
    found = effects(before, after)
    (few,) = found.lists
    assert (few.devices, few.chooses) == ((), ("door",))
    words = as_text(changetext.whole("x", "", None, None, found))
    assert "list few, by which door chooses ways:" in words
    assert "passed over becomes chosen, for example tcp 10.41.1.10:49152 > 10.41.2.10:22 SYN" in words
    assert "permit" not in words


def test_an_example_is_between_hosts_on_the_two_sides() -> None:
    before = mc.Plan(network_of(HALL))
    after = mc.Plan(network_of(HALL.replace("#HERE", "crossings: [{from: house, into: world, lists: few}]")))
    (place,) = effects(before, after).places
    packet = place.turns[0].witness.packet
    assert (str(packet.source), str(packet.destination)) == ("10.41.1.10", "10.41.2.10")
    journey = mc.trace(after, "ann", "bob", "https")
    assert journey.answered, "the list lets ann's https pass, so the example must be something else"
    assert str(packet.to_port) != "443"


@pytest.mark.parametrize("name", ["fernhollow", "grounds", "starter"])
def test_nothing_is_told_of_what_is_the_same(name: str) -> None:
    plans = [mc.Plan(mc.load(DATA / f"{name}.yaml")) for _ in range(2)]
    assert not effects(*plans)
