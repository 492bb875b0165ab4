"""What a change does to verdicts, exactly: against lists gone through by hand, and at every kind of place."""

from __future__ import annotations

import json
import random
import re
from dataclasses import replace

import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.lab.differences import unlike
from mossy_compass.lab.expect import every_flow
from mossy_compass.lab.faults import KNOWN, apply
from mossy_compass.lab.sweep import failures
from mossy_compass.model.network import AccessList, Verdict
from mossy_compass.packet.address import from_key
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.actions import Consult, Stop
from mossy_compass.plan.conditions import Reader
from mossy_compass.plan.decide import decider
from mossy_compass.plan.facts import Facts, Moment, Relation
from mossy_compass.plan.ids import list_id
from mossy_compass.plan.places import every_place
from mossy_compass.plan.stages.lists import FILTER, SILENT, Place, rows_at
from mossy_compass.plan.table import Table, list_table
from mossy_compass.proof import ways as ways_module
from mossy_compass.proof.effects import END, alone, effects
from mossy_compass.proof.effects import _Asked as Asked
from mossy_compass.proof.effects import _difference as difference
from mossy_compass.proof.effects import _Ground as Ground
from mossy_compass.proof.effects import _turns as turns_between
from mossy_compass.proof.effects import _Version as Version
from mossy_compass.proof.exact import Around, examine, plainly_shadowed
from mossy_compass.proof.likely import Ends, Sides, everybody
from mossy_compass.proof.space import Space
from mossy_compass.proof.ways import ways
from mossy_compass.report import changetext
from mossy_compass.report.tables import lists as list_tables
from mossy_compass.report.text import as_text
from mossy_compass.walk.grid import Grid, cell_of, gathered
from mossy_compass.walk.question import Options
from mossy_compass.walk.trace import trace_one
from tests.conftest import DATA
from tests.effort import at_length, examples, seeds
from tests.test_exact import MOMENTS, WORDS, asked, possible
from tests.test_laws import networks
from tests.test_rows import OWN, lists, packet, where

NOBODY = Ends((), ())
NOWHERE = mc.Plan(mc.Network("", mc.Mark("", 0, 0), {}, {}, hours=WORDS.hours, applications=WORDS.applications))
READER = Reader(OWN, names=None)


def verdict_of(chain: list[AccessList], facts: Facts) -> str:
    """The verdict of lists in order; what none decides passes."""
    return outcome(chain, facts, Verdict.PERMIT)[0]


def outcome(chain: list[AccessList], facts: Facts, end: Verdict) -> tuple[str, str]:
    """The verdict, rule by rule, with what a rejection sends; a rule that hands on leaves its list, and where none decides the end does."""
    for source in chain:
        for row in list_table(source, READER).rows:
            if row.verdict is Verdict.NOTE or next(row.misses(facts), None) is not None:
                continue
            if row.verdict is Verdict.HAND_ON:
                break
            assert row.verdict is not None
            return row.verdict.value, row.answer
    return end.value, ""


@examples(13, 240)
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
    places = [Place(tuple(Consult(list_table(source, READER), FILTER) for source in chain), SILENT) for chain in (one, other)]
    fates = Ground(NOWHERE, "", places).fates
    before, after = (fates.of(place, fates.space.possible) for place in places)
    told = list(turns_between(fates.space, before, after, NOBODY))
    for turn in told:
        assert (verdict_of(one, turn.witness.facts), verdict_of(other, turn.witness.facts)) == (turn.before, turn.after)
    facts = asked(packet, arriving, relation, moment, frozenset())  # type: ignore[arg-type]
    facts.leaving = leaving
    if possible(packet, relation):
        was, now = verdict_of(one, facts), verdict_of(other, facts)
        assert was == now or (was, now) in {(t.before, t.after) for t in told}


@examples(50, 300)
@given(lists, st.randoms(use_true_random=False))
def test_a_rule_is_followed_wherever_it_goes(source: AccessList, chance: object) -> None:
    """Rules in another order, with other numbers: each is still the one that it was, and none is new or gone."""
    shuffled = list(source.rules)
    chance.shuffle(shuffled)  # type: ignore[attr-defined]
    counted = AccessList(source.name, tuple(replace(r, id=f"n{n}") for n, r in enumerate(shuffled)), source.mark)
    tables = list_table(source, READER), list_table(counted, READER)
    before, after = tables[0].rows, tables[1].rows
    space = Space((*before, *after), WORDS)
    rows, *_ = difference(Asked(before, after, (Version(alone(tables[0]), alone(tables[1])),), ("l", "l")), space, NOBODY)
    words = {r.id: r.conditions for r in before} | {r.id: r.conditions for r in after}
    for row in rows:
        assert row.state == ""
        assert (row.row == row.was == END) or words[row.row] == words[row.was]
        for example, table, ident in ((row.grew, counted, row.row), (row.shrank, source, row.was)):
            decided = list_table(table, READER).first(example.facts) if example is not None else None
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
        told = {(p.where, t.before, t.after): t.witness.facts for p in found.places for t in p.turns}
        assert (place, *verdicts) in told
        here = {s.words: s for s in every_place(other.device("door"))}
        for (words, _, later), witness in told.items():
            decision = decider(Table(list_id("place"), rows_at(here[words].place)))(witness)
            stopped = decision is not None and isinstance(decision.actions[0], Stop)
            assert stopped is (later != "permit"), words


def test_rules_without_numbers_keep_their_partners_when_one_is_put_above_them() -> None:
    """Each has the number of the next one then; none but the new one is told as new, and none of them as another."""
    rules = "".join(f"    - {{permit: tcp, from: 10.42.0.{n}}}\n" for n in range(1, 40))
    text = HALL.replace("lists:\n", f"lists:\n  long:\n{rules}").replace(IN, IN[:-1] + ", filter: {arriving: long}}")
    more = text.replace("  long:\n", "  long:\n    - {deny: tcp, from: 10.42.0.7}\n")
    (long,) = effects(mc.Plan(network_of(text)), mc.Plan(network_of(more))).lists
    assert [(row.row, row.was, row.state) for row in long.rows] == [("10", "10", "new"), ("80", "70", "")]
    assert [(turn.before, turn.after) for turn in long.turns] == [("permit", "deny")]


def test_a_list_that_becomes_empty_is_told_where_it_stands() -> None:
    """Its end denied the rest; an empty list stops nothing."""
    text = HALL.replace(IN, IN[:-1] + ", filter: {arriving: few}}")
    before, after = (
        mc.Plan(network_of(t)) for t in (text, text.replace("few: [{permit: tcp, from: ann, service: https}]", "few: []"))
    )
    for one, other, verdicts in ((before, after, ("deny", "permit")), (after, before, ("permit", "deny"))):
        (few,) = effects(one, other).lists
        assert verdicts in {(t.before, t.after) for t in few.turns}


@pytest.mark.parametrize(
    ("rule", "turns"),
    [
        ("{deny: tcp, from: 10.41.1.200, service: https}", True),  # one of the profile's
        ("{deny: tcp, from: 10.41.1.10, service: https}", False),  # he meets the other list
    ],
)
def test_the_list_of_a_profile_is_judged_for_its_members_alone(rule: str, turns: bool) -> None:
    profile = "profiles: {guests: {for: [10.41.1.128/25], arriving: in, mode: instead, lists: [wide]}}"
    text = (
        HALL.replace("#HERE", profile)
        .replace("  most:", "  wide: [{permit: any}]\n  most:")
        .replace(IN, IN[:-1] + ", filter: {arriving: most}}")
    )
    one, other = (mc.Plan(network_of(t)) for t in (text, text.replace("wide: [{permit: any}]", f"wide: [{rule}, {{permit: any}}]")))
    assert any(e.turns for e in effects(one, other).lists) is turns
    # What stands where the profile does not take them is judged for all others alone.
    lower = text.replace(
        "{deny: tcp, service: ssh}, {permit: any}]\ndevices", f"{{deny: tcp, service: ssh}}, {rule}, {{permit: any}}]\ndevices"
    )
    assert lower != text
    assert any(e.turns for e in effects(one, mc.Plan(network_of(lower))).lists) is not turns


def test_an_end_that_rejects_is_told_as_such() -> None:
    text = HALL.replace("#HERE", "settings: {end-of-list: reject}").replace(IN, IN[:-1] + ", filter: {arriving: few}}")
    (few,) = effects(mc.Plan(network_of(text)), mc.Plan(network_of(text.replace("service: https}]", "service: ssh}]")))).lists
    assert {(turn.before, turn.after) for turn in few.turns} == {("permit", "reject"), ("reject", "permit")}


def test_the_list_of_a_front_is_shown_among_the_places() -> None:
    front = "translate: [{id: shop, to: 192.0.2.1, service: https, goes-to: ann, lists: few}]"
    plan = mc.Plan(network_of(HALL.replace("#HERE", front)))
    places, *_ = list_tables(plan, "door")
    assert ("front shop", "few", "end-of-list: dropped") in places.rows
    assert len({standing.key for standing in every_place(plan.device("door"))}) == len(list(every_place(plan.device("door"))))


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
    packet = place.turns[0].witness.facts.packet
    assert (str(packet.source), str(packet.destination)) == ("10.41.1.10", "10.41.2.10")
    journey = mc.trace(after, "ann", "bob", "https")
    assert journey.answered, "the list lets ann's https pass, so the example must be something else"
    assert str(packet.to_port) != "443"


@pytest.mark.parametrize("name", ["fernhollow", "grounds", "starter"])
def test_nothing_is_told_of_what_is_the_same(name: str) -> None:
    plans = [mc.Plan(mc.load(DATA / f"{name}.yaml")) for _ in range(2)]
    assert not effects(plans[0], plans[1])


WORD = re.compile(r"[\w.:/-]+")


def mutant(text: str, chance: random.Random) -> str:
    """A file with a line less, a verdict turned round, two lines exchanged, or a word in another's place."""
    lines = text.split("\n")
    at = chance.randrange(len(lines))
    kind = chance.randrange(4)
    if kind == 0:
        del lines[at]
    elif kind == 1:
        turned = {"permit": "deny", "deny": "permit"}
        lines[at] = re.sub(r"\b(permit|deny)\b", lambda m: turned[m[0]], lines[at])
    elif kind == 2:
        lines[at : at + 2] = lines[at : at + 2][::-1]
    elif words := list(WORD.finditer(lines[at])):
        word = chance.choice(words)
        lines[at] = lines[at][: word.start()] + chance.choice(WORD.findall(text)) + lines[at][word.end() :]
    return "\n".join(lines)


FILTERING = ("lists", "groups", "services", "hours")
"""Sections of a file that change what packets meet, and not where they go."""


@pytest.mark.scaled
@pytest.mark.parametrize("seed", seeds(0, 2, 3))
def test_nothing_changes_that_is_not_told(seed: int) -> None:
    """Of files with a small change: where no place differs no flow ends differently, and where a flow is stopped or let through
    by another rule, in a network whose rules alone are others, the exact comparison says so too."""
    chance = random.Random(seed)
    text = (DATA / "fernhollow.yaml").read_text()
    before = mc.Plan(network_of(text))
    tests = [f for f in every_flow(before.network, ("kiosk-1", "lab-desk", "almanac"), (), (), Options()) if chance.random() < 0.5]
    whole, filtered = 0, 0
    for _ in range(40 if at_length() else 20):
        network = mc.read_bytes(mutant(text, chance).encode(), "n.yaml").network
        if network is None:
            continue
        after = mc.Plan(network)
        apart, exact = unlike(before.network, network), effects(before, after)
        whole += 1
        rules_alone = all(one.place.split("/")[0] in FILTERING for one in apart)
        for flow in tests:
            one, other = (fate_of(plan, flow) for plan in (before, after))
            assert one == other or apart, flow
            if one is None or other is None or not rules_alone:
                continue
            if one[0] != other[0] and ("filter" in one[1]) != ("filter" in other[1]):
                filtered += 1
                assert exact, (flow, one, other, apart)
    assert whole >= 5
    assert filtered or seed or not at_length()


def fate_of(plan: mc.Plan, flow: mc.Flow) -> tuple[bool, str] | None:
    """Whether a flow is answered, and why not; None where it cannot be asked for."""
    try:
        journey = trace_one(plan, flow.source, flow.target, flow.service, flow.options)
    except mc.QuestionError:
        return None
    return journey.answered, journey.cause


def test_changes_as_data_and_as_text_say_the_same() -> None:
    before = mc.Plan(network_of(HALL))
    after = mc.Plan(
        network_of(HALL.replace("#HERE", "everywhere: few").replace("deny: tcp, service: ssh", "deny: tcp, service: smtp"))
    )
    found = effects(before, after)
    apart = unlike(before.network, after.network)
    data = changetext.as_dict("first", "why", ["+ a line"], None, found, apart)
    assert json.loads(json.dumps(data)) == data
    assert (data["answer"], data["about"], data["file"], data["tests"]) == ("first", "why", ["+ a line"], [])
    assert [place["where"] for place in data["places"]] == [place.where for place in found.places]
    assert [(rule["list"], rule["devices"]) for rule in data["rules"]] == [("most", [])]
    words = " ".join(as_text(changetext.whole("first", "why", None, None, found, apart)).split())
    for place in data["places"]:
        assert place["where"] in words
        for verdict in place["verdicts"]:
            assert f"{verdict['before']} becomes {verdict['after']}" in words
    for one in data["differ"]:
        assert one["place"] in words
        assert one["what"] in words


def test_places_alike_are_told_together() -> None:
    """A firewall of many zones whose default turns: one line with the number of pairs, and not one for each."""
    count = 9
    ports = "".join(f"      p{n}: {{address: 10.42.{n}.1/24, zone: z{n}}}\n" for n in range(count))
    text = f"mossy-network: 1\ndevices:\n  fw:\n    kind: firewall\n    settings: {{through: permit}}\n    interfaces:\n{ports}"
    before, after = (mc.Plan(network_of(t)) for t in (text, text.replace("through: permit", "through: deny")))
    found = effects(before, after)
    assert len(found.places) == count * (count - 1)
    words = " ".join(as_text(changetext.whole("x", "", None, None, found)).split())
    assert (
        f"z0 into z1, z0 into z2, z0 into z3 and {count * (count - 1) - 3} more places: no list, else permit (through); now"
        in words
    )
    assert words.count("permit becomes deny") == 1


@pytest.mark.parametrize(
    ("came", "goes", "source", "destination"),
    [
        (("in",), (), "10.41.1.10", "10.41.2.10"),
        (("out",), (), "10.41.2.10", "10.41.1.10"),
        ((), ("in",), "10.41.2.10", "10.41.1.10"),
        (("in",), ("out",), "10.41.1.10", "10.41.2.10"),
        ((), (), "10.41.1.10", "10.41.1.10"),
    ],
)
def test_who_stands_on_which_side(came: tuple[str, ...], goes: tuple[str, ...], source: str, destination: str) -> None:
    plan = mc.Plan(network_of(HALL))
    ends = Sides(plan.network, plan.device("door")).ends(came, goes)
    assert (str(ends.sources[0]), str(ends.destinations[0])) == (source, destination)
    assert set(ends.sources) == set(ends.destinations) == set(everybody(plan.network))


# ways


@examples(12, 75, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(networks(), st.randoms(use_true_random=False))
def test_every_address_that_goes_another_way_is_told(network: mc.Network, chance: random.Random) -> None:
    """Around random failures: what a lookup answers otherwise is within a destination that is told, and what is told is so."""
    before = mc.Plan(network)
    kinds = [kind for kind in ("link", "device", "interface") if KNOWN[kind](network)]
    broken = chance.choice(failures(network, [chance.choice(kinds)]))
    after = mc.Plan(apply(network, broken), before)
    told = ways(before, after)
    assert not told.unknown
    for effect in told.found:
        for plan, route in ((before, effect.before), (after, effect.after)):
            held = [
                r for r in plan.device(effect.device).table_named(effect.table) if r.prefix.span.first <= effect.prefix.span.first
            ]
            held = [r for r in held if r.prefix.span.last >= effect.prefix.span.last and r.origin != "local"]
            assert route == max(held, key=lambda r: r.prefix.length, default=None)
    for name, device in network.devices.items():
        if not device.layer3:
            continue
        tables = [plan.device(name).table for plan in (before, after)]
        mine = [e.prefix for e in told.found if (e.device, e.table) == (name, "main")]
        for address in {from_key(end) for table in tables for route in table for end in route.prefix.span}:
            one, other = (table.lookup(address) for table in tables)
            if "local" in (one and one.origin, other and other.origin):
                continue
            same = (one and (set(one.hops), one.action)) == (other and (set(other.hops), other.action))
            assert same or any(prefix.holds(address) for prefix in mine), (name, str(address))


def test_a_route_that_is_not_missed_is_not_told() -> None:
    """Where a wider route leads the same way, nothing goes another way without the narrow one."""
    routes = "routes: [{prefix: default, next-hop: 10.41.2.9}, {prefix: 10.45.0.0/16, next-hop: NEXT}]"
    texts = [HALL.replace("#HERE", routes.replace("NEXT", hop)) for hop in ("10.41.2.9", "10.41.2.8")]
    narrow = HALL.replace("#HERE", "routes: [{prefix: default, next-hop: 10.41.2.9}]")
    plans = [mc.Plan(network_of(text)) for text in (*texts, narrow)]
    assert not ways(plans[0], plans[2])
    (effect,) = ways(plans[1], plans[2]).found
    assert (effect.device, str(effect.prefix)) == ("door", "10.45.0.0/16")
    assert effect.after is not None
    assert effect.after.prefix.is_default
    found = effects(plans[1], plans[2])
    words = as_text(changetext.whole("x", "", None, None, found))
    assert "door    10.45.0.0/16  static, by out to 10.41.2.8  default route (static), by out to 10.41.2.9" in words
    assert "routes lead elsewhere" in changetext.compared("a", "b", mc.compare(*(grid_of(p) for p in plans[1:])), 1, found)


def test_a_table_that_policy_routes_ask_is_compared_too() -> None:
    side = "routes: [{prefix: default, next-hop: NEXT, table: side}]\n    policy-routes: [{candidates: {table: side}}]"
    before, after = (mc.Plan(network_of(HALL.replace("#HERE", side.replace("NEXT", hop)))) for hop in ("10.41.2.9", "10.41.2.8"))
    (effect,) = ways(before, after).found
    assert (effect.table, str(effect.prefix)) == ("side", "0.0.0.0/0")
    words = as_text(changetext.whole("x", "", None, None, effects(before, after)))
    assert "door, table side  default      static, by out to 10.41.2.9  static, by out to 10.41.2.8" in words


def grid_of(plan: mc.Plan) -> Grid:
    return gathered([cell_of(mc.trace(plan, "ann", "bob", "https"), "ann", "bob", "https")])


def test_very_many_routes_are_not_compared_and_that_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ways_module, "MOST_ROUTES", 3)
    lost = "routes: [{prefix: 203.0.113.0/24, action: discard}]"
    plans = [mc.Plan(network_of(HALL.replace("#HERE", written))) for written in ("", lost)]
    assert not effects(plans[0], plans[0]).ways.unknown
    found = effects(plans[0], plans[1])
    assert found.ways.unknown == "many"
    assert "Routes are not compared: the tables that differ have more than 1,000,000 rows." in as_text(
        changetext.whole("x", "", None, None, found)
    )


@examples(18, 500)
@given(
    lists,
    st.lists(lists, max_size=2),
    packet(),
    where,
    where,
    st.sampled_from(list(Relation)),
    st.sampled_from(MOMENTS),
    st.sampled_from([Verdict.PERMIT, Verdict.DENY]),
)
def test_a_rule_that_could_go_could_go_where_other_lists_follow(
    source: AccessList,
    below: list[AccessList],
    packet: Packet,
    arriving: str | None,
    leaving: str | None,
    relation: Relation,
    moment: Moment,
    end: Verdict,
) -> None:
    """The advice is followed: without the rule no packet gets another verdict from this list, those after it, and their end."""
    if not possible(packet, relation):
        return
    facts = asked(packet, arriving, relation, moment, frozenset())
    facts.leaving = leaving
    after = Around(end, tuple(list_table(s, READER).rows for s in below))
    rules = list_table(source, READER).rows
    for row, witnessed in examine(rules, (after,), WORDS).redundant:
        without = replace(source, rules=tuple(r for r in source.rules if r.id != row.id))
        for tried in (facts, *([witnessed.facts] if witnessed is not None else [])):
            assert outcome([without, *below], tried, end) == outcome([source, *below], tried, end), row.id


TWO_LISTS = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
    interfaces:
      a: {address: 10.41.1.1/24, filter: {arriving: [first, second]}}
      b: 10.41.2.1/24
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  ben: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1, serves: [https, telnet]}
lists:
  first:
    - {id: 10, permit: tcp, service: https}
    - {id: 20, deny: tcp, service: telnet}
  second:
    - {id: 10, permit: any}
segments: {x: [gate/a, ann], y: [gate/b, ben]}
"""


@pytest.mark.parametrize(
    ("edit", "redundant", "shadowed"),
    [
        (("", ""), ["first 10"], []),
        (("[first, second]", "[first]"), ["first 20"], []),  # its own end denies the rest
        (("[first, second]", "[second, first]"), [], ["first 10", "first 20"]),  # nothing comes to it
        (("{id: 10, permit: any}", "{id: 10, permit: udp}"), ["first 20"], []),
        (("{id: 10, permit: any}", "{id: 10, permit: tcp, service: telnet}"), [], ["second 10"]),
        (("{id: 10, permit: any}", "{id: 10, permit: tcp, service: https}"), ["first 20"], ["second 10"]),  # one goes, not both
        (("{id: 10, permit: any}", "{id: 10, deny: tcp, service: [https, telnet]}"), ["first 20"], ["second 10"]),
        (("{id: 10, permit: any}", "{id: 10, deny: tcp, service: [https, telnet, ssh]}"), ["first 20", "second 10"], []),
        # A rule that hands on takes nothing from the list that is asked next.
        (("{id: 10, permit: tcp, service: https}", "{id: 10, hand-on: tcp, service: https}"), [], []),
        # Where it also says which packets take another way, its permits are not the same as nothing.
        (
            ("      b: 10.41.2.1/24\n", "      b: 10.41.2.1/24\n    policy-routes: [{list: first, candidates: [10.41.2.9]}]\n"),
            [],
            [],
        ),
        (
            ("      b: 10.41.2.1/24\n", "      b: 10.41.2.1/24\n    policy-routes: [{list: second, candidates: [10.41.2.9]}]\n"),
            ["first 10"],
            [],
        ),
        # Two places that differ: nothing may be said that holds at one alone.
        (("      b: 10.41.2.1/24", "      b: {address: 10.41.2.1/24, filter: {arriving: first}}"), [], []),
        (("      b: 10.41.2.1/24", "      b: {address: 10.41.2.1/24, filter: {arriving: second}}"), ["first 10"], []),
        (("    - {id: 10, permit: any}", "    - {id: 10, hand-on: tcp}\n    - {id: 20, permit: any}"), ["first 20"], []),
    ],
)
def test_what_could_go_is_judged_where_the_list_stands(edit: tuple[str, str], redundant: list[str], shadowed: list[str]) -> None:
    plan = mc.Plan(network_of(TWO_LISTS.replace(*edit)))
    for code, wanted in (("rule.redundant", redundant), ("rule.shadowed", shadowed)):
        found = [p.message for p in mc.findings(plan) if p.code == code]
        assert [f"{m.split(chr(39))[1]} {m.split()[1]}" for m in found] == wanted, code


def test_a_rule_that_a_list_before_shadows_is_told_with_that_list() -> None:
    text = TWO_LISTS.replace("{id: 10, permit: any}", "{id: 10, deny: tcp, service: [https, telnet]}")
    (found,) = (p for p in mc.findings(mc.Plan(network_of(text))) if p.code == "rule.shadowed")
    assert "rule 10 of 'second' can never match: rules 10 and 20 of 'first', asked before it, take all of it" in found.message
    assert "Move it into 'first', above rule 10, or remove it." in found.remedy


@examples(12, 500)
@given(
    lists,
    lists,
    lists,
    packet(),
    where,
    where,
    st.sampled_from(list(Relation)),
    st.sampled_from(MOMENTS),
    st.sampled_from([Verdict.PERMIT, Verdict.DENY]),
)
def test_what_the_lists_before_take_never_decides(
    before: AccessList,
    source: AccessList,
    below: AccessList,
    packet: Packet,
    arriving: str | None,
    leaving: str | None,
    relation: Relation,
    moment: Moment,
    end: Verdict,
) -> None:
    """A rule that is said to be shadowed, or to be spared, can go together with its likes' advice: one at a time, no fate changes."""
    if not possible(packet, relation):
        return
    facts = asked(packet, arriving, relation, moment, frozenset())
    facts.leaving = leaving
    rows = [list_table(s, READER).rows for s in (before, source, below)]
    found = examine(rows[1], (Around(end, (rows[2],), (("before", rows[0]),)),), WORDS)
    for ident in (*(s.row.id for s in found.shadowed), *(r.id for r, _ in found.redundant)):
        without = replace(source, rules=tuple(r for r in source.rules if r.id != ident))
        assert outcome([before, without, below], facts, end) == outcome([before, source, below], facts, end), ident


@examples(35, 500)
@given(lists)
def test_what_shows_without_sets_shows_with_them(source: AccessList) -> None:
    rows = list_table(source, READER).rows
    with_sets = examine(rows, vocabulary=WORDS)
    known = {r.id for r in with_sets.never} | {s.row.id for s in with_sets.shadowed}
    assert {s.row.id for s in plainly_shadowed(rows)} <= known


@examples(12, 300)
@given(
    st.lists(lists, min_size=1, max_size=3),
    st.lists(lists, min_size=3, max_size=3),
    st.integers(0, 2),
    st.booleans(),
    packet(),
    where,
    where,
    st.sampled_from(list(Relation)),
    st.sampled_from(MOMENTS),
)
def test_a_list_s_effect_is_its_effect_among_the_lists_around_it(
    chain: list[AccessList],
    others: list[AccessList],
    number: int,
    both: bool,
    packet: Packet,
    arriving: str | None,
    leaving: str | None,
    relation: Relation,
    moment: Moment,
) -> None:
    """One of several lists is another (or two are): each example changes its verdict there, and whatever changes is told."""
    chain = [replace(source, name=f"l{n}") for n, source in enumerate(chain)]
    number %= len(chain)
    changed = [
        replace(o if n == number or (both and n == 0) else s, name=s.name)
        for n, (s, o) in enumerate(zip(chain, others, strict=False))
    ]
    tables = [[list_table(s, READER) for s in some] for some in (chain, changed)]
    places = [Place(tuple(Consult(t, FILTER) for t in some), SILENT) for some in tables]
    facts = asked(packet, arriving, relation, moment, frozenset())
    facts.leaving = leaving
    was, now = verdict_of(chain, facts), verdict_of(changed, facts)
    told: set[tuple[str, str]] = set()
    for n in {number, *([0] if both else [])}:
        one, other = tables[0][n].rows, tables[1][n].rows
        space = Space([r for some in tables for t in some for r in t.rows], WORDS)
        rows, turns, _, idle = difference(Asked(one, other, (Version(places[0], places[1]),), (f"l{n}", f"l{n}")), space, NOBODY)
        assert not (idle and (rows or turns))
        for turn in turns:
            assert (verdict_of(chain, turn.witness.facts), verdict_of(changed, turn.witness.facts)) == (turn.before, turn.after)
        for row in rows:
            for example, some, ident in ((row.grew, changed, row.row), (row.shrank, chain, row.was)):
                if example is not None:
                    assert decides(some, n, example.facts) == ident
        told |= {(t.before, t.after) for t in turns}
    if possible(packet, relation) and was != now:
        assert (was, now) in told


def decides(chain: list[AccessList], number: int, facts: Facts) -> str:
    """Which rule of one of several lists decides a packet; the end of the list for none. It must come there."""
    for n, source in enumerate(chain):
        row = list_table(source, READER).first(facts)
        if n == number:
            return row.id if row is not None else END
        assert row is None or row.verdict is Verdict.HAND_ON, "a list before takes it"
    raise AssertionError


@pytest.mark.parametrize(
    ("edit", "told"),
    [
        # A rule below one that a list before decides changes nothing.
        (("    - {id: 10, permit: any}", "    - {id: 5, deny: tcp, service: telnet}\n    - {id: 10, permit: any}"), "no effect"),
        (("    - {id: 10, permit: any}", "    - {id: 5, deny: tcp, service: ssh}\n    - {id: 10, permit: any}"), "permit becomes deny"),
        # What the first list does not decide any more the second one does, and not the end.
        (("    - {id: 20, deny: tcp, service: telnet}\n", ""), "deny becomes permit"),
        (("    - {id: 10, permit: tcp, service: https}\n", ""), "no packet gets another verdict"),
        # What is handed on comes to the second list.
        (("permit: tcp, service: https", "hand-on: tcp, service: https"), "no packet gets another verdict"),
    ],
)  # fmt: skip
def test_a_change_to_one_of_two_lists_is_judged_where_they_stand(edit: tuple[str, str], told: str) -> None:
    found = effects(mc.Plan(network_of(TWO_LISTS)), mc.Plan(network_of(TWO_LISTS.replace(*edit))))
    said = "\n".join(as_text(part) for part in changetext._effect(found.lists[0]))
    assert told in said
    assert ("becomes" in told) is ("becomes" in said)
