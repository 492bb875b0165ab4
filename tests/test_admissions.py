"""What let a packet pass or stopped it, is counted, logged and told of wherever it was met; and what was passed over in silence."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.exchange import syslog
from mossy_compass.plan.ids import TableKind, list_id
from mossy_compass.report.evidence import affected
from mossy_compass.report.record import journey_dict
from mossy_compass.walk.evidence import Counters, decided_by
from mossy_compass.walk.question import Options
from mossy_compass.walk.retold import WRITTEN, StageTold, stages_told
from tests.effort import examples
from tests.test_laws import networks

# clerk behind gate, shop beyond it; where lists stand, and what they say, is written in
BASE = """\
mossy-network: 1
NAMESlists: {LISTS}
devices:
  gate:
    kind: KIND
    interfaces:
      lan: {address: 10.40.1.1/24, zone: house, filter: {LAN}}
      out: {address: 198.51.100.1/24, zone: world, filter: {OUT}}
    KEYS
  clerk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  shop: {kind: host, address: 198.51.100.10/24, gateway: 198.51.100.1, serves: [https]}
segments: {lan: [clerk, gate/lan], out: [shop, gate/out]}
"""
NOTE = "{id: seen, note: tcp, log: yes}"


def build(**parts: str) -> mc.Plan:
    text = BASE
    for key, value in {"NAMES": "", "LISTS": "", "KIND": "router", "LAN": "", "OUT": "", "KEYS": "", **parts}.items():
        text = text.replace(f"{{{key}}}", f"{{{value}}}").replace(key, value)
    reading = mc.read_bytes(text.encode(), "a.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    return mc.Plan(reading.network)


NOTED: list[tuple[dict[str, str], str, str]] = [
    # a list of its own, with a rule that decides after it, or none and the end of the list
    ({"LISTS": f"a: [{NOTE}, {{permit: any}}]", "LAN": "arriving: a"}, "a", "noted"),
    ({"LISTS": f"a: [{NOTE}]", "LAN": "arriving: a", "KEYS": "settings: {end-of-list: permit}"}, "a", "noted"),
    ({"LISTS": f"a: [{NOTE}]", "OUT": "leaving: a"}, "a", "noted"),
    # of two lists the first, whether the second decides or its end does
    ({"LISTS": f"a: [{NOTE}], b: [{{permit: any}}]", "LAN": "arriving: [a, b]"}, "a", "noted"),
    ({"LISTS": f"a: [{NOTE}], b: [{{permit: udp}}]", "LAN": "arriving: [a, b]"}, "a", "noted"),
    ({"LISTS": f"b: [{{permit: udp}}], a: [{NOTE}]", "LAN": "arriving: [b, a]"}, "a", "noted"),
    # a list that classifies, whose entry steers, goes on, or finds nobody
    ({"LISTS": f"a: [{NOTE}, {{permit: any}}]", "KEYS": "policy-routes: [{list: a, arriving: lan, candidates: [{leaving: out}]}]"}, "a", "noted"),
    ({"LISTS": f"a: [{NOTE}, {{deny: any}}]", "KEYS": "policy-routes: [{list: a, arriving: lan, candidates: [{leaving: out}]}]"}, "a", "noted"),
    # a crossing, and everywhere
    ({"LISTS": f"a: [{NOTE}]", "KEYS": "crossings: [{from: house, into: world, lists: a}]"}, "a", "noted"),
    ({"LISTS": f"a: [{NOTE}]", "KEYS": "everywhere: a"}, "a", "noted"),
    # handing on is told of like a note: to the next list, and out of the last one
    ({"LISTS": "a: [{id: seen, hand-on: tcp, log: yes}], b: [{permit: any}]", "LAN": "arriving: [a, b]"}, "a", "handed on"),
    ({"LISTS": "a: [{id: seen, hand-on: tcp, log: yes}]", "LAN": "arriving: a"}, "a", "handed on"),
    # what a classifying list says
    ({"LISTS": "a: [{id: seen, permit: tcp, log: yes}]", "KEYS": "policy-routes: [{list: a, arriving: lan, candidates: [{leaving: out}]}]"}, "a", "classified"),
    ({"LISTS": "a: [{id: seen, deny: tcp, log: yes}]", "KEYS": "policy-routes: [{list: a, arriving: lan, candidates: [{leaving: out}]}]"}, "a", "classified"),
]  # fmt: skip


@pytest.mark.parametrize("parts, name, did", NOTED)
def test_what_is_met_and_decides_nothing_is_counted_and_logged(parts: dict[str, str], name: str, did: str) -> None:
    journey = mc.trace(build(**parts), "clerk", "shop", "https")
    counters = Counters()
    counters.add(journey)
    assert counters.of("gate", list_id(name), "seen").packets == 1
    (line,) = [x for x in syslog.lines([journey]) if 'rule="seen"' in x]
    assert f'list="{name}"' in line
    assert f'verdict="{did}"' in line
    assert [(part.way, part.did) for part in decided_by([journey], name, "seen")] == [("there", did)]
    assert f"{name} rule seen" in journey.explain()  # the line that it writes
    assert f"{did} by {name} rule seen" in journey.explain(details=True)


def test_a_note_that_is_not_met_is_not_counted() -> None:
    plan = build(LISTS="a: [{permit: tcp}, {id: seen, note: tcp, log: yes}]", LAN="arriving: a")
    counters = Counters()
    counters.add(mc.trace(plan, "clerk", "shop", "https"))
    counters.add(mc.trace(plan, "clerk", "shop", "ping"))
    assert counters.of("gate", list_id("a"), "seen").packets == 0


def told(journey: mc.Journey, device: str, stage: str) -> StageTold | None:
    """What a stage of the way there says."""
    assert journey.plan is not None
    for number, hop in enumerate(journey.there.hops):
        if hop.device == device:
            found = (t for t in stages_told(journey.plan, hop, journey.there.came_to(number)) if t.stage == stage)
            return next(found, None)
    return None


TRANSLATE = "translate: [{id: book, arriving: out, to: shop, service: https, goes-to: 10.40.1.10}, {id: old, to: shop, service: https, goes-to: 10.40.1.10, disabled: yes}]"
OVER: list[tuple[dict[str, str], str, list[tuple[str, str, str]]]] = [
    # every list of a place, those that handed on and those that came to their end
    (
        {"LISTS": "a: [{id: x, deny: udp}, {hand-on: tcp}], b: [{id: y, deny: icmp}], c: [{id: z, deny: udp}, {permit: any}]", "LAN": "arriving: [a, b, c]"},
        "arriving list",
        [("a", "x", "protocol"), ("b", "y", "protocol"), ("c", "z", "protocol")],
    ),
    # translations that miss by interface, and disabled ones
    ({"KEYS": TRANSLATE}, "translate destination", [("translate of gate", "book", "arriving"), ("translate of gate", "old", "disabled")]),
    # entries: refused by a list, not met, and none matched
    (
        {"LISTS": "a: [{id: no, deny: tcp}]", "KEYS": "policy-routes: [{id: e, list: a, candidates: [{leaving: out}]}, {id: f, protocol: udp, candidates: [{leaving: out}]}]"},
        "policy route",
        [("policy-routes", "e", "list"), ("policy-routes", "f", "protocol")],
    ),
    (
        {"LISTS": "a: [{id: no, permit: udp}]", "KEYS": "policy-routes: [{id: e, list: a, candidates: [{leaving: out}]}, {id: f, protocol: tcp, candidates: [{leaving: out, next-hop: 198.51.100.10}]}]"},
        "policy route",
        [("a", "no", "protocol"), ("policy-routes", "e", "list")],
    ),
]  # fmt: skip


@pytest.mark.parametrize("parts, stage, wanted", OVER)
def test_what_was_passed_over_is_told_with_its_reason(
    parts: dict[str, str], stage: str, wanted: list[tuple[str, str, str]]
) -> None:
    journey = mc.trace(build(**parts), "clerk", "shop", "https")
    found = told(journey, "gate", stage)
    assert found is not None
    assert [(t.table.name, over.id, over.miss.key) for t in found.asked for over in t.over] == wanted
    text = journey.explain(details=True, width=400)
    data = json.dumps(journey_dict(journey, details=True))
    for _, row, _ in wanted:
        assert f" {row} " in text
        assert f'"rule": "{row}"' in data


def test_a_refusing_list_is_named_with_its_rule() -> None:
    lists = {"LISTS": "a: [{id: no, deny: tcp}], b: [{permit: udp}]"}
    entries = "policy-routes: [{id: e, list: a, candidates: [{leaving: out}]}, {id: f, list: b, candidates: [{leaving: out}]}]"
    text = mc.trace(build(**lists, KEYS=entries), "clerk", "shop", "https").explain(details=True, width=400)
    assert "passed over entry e of policy-routes (a.yaml:9): list: rule no of list a refuses it" in text
    assert "passed over entry f of policy-routes (a.yaml:9): list: no rule of list b permits it" in text


def test_built_in_rules_that_are_switched_off_are_told_of_own_packets() -> None:
    """A list for own packets that ends in silence is not the whole of it."""
    plan = build(LISTS="mine: [{permit: tcp}]", KIND="firewall", KEYS="from-self: mine\n    built-in: {own-pings: no}")
    text = mc.trace(plan, "gate", "shop", "ping").explain(details=True, width=400)
    assert "passed over rule own-pings of built-in from-self gate permit: disabled: the rule is disabled" in text


@pytest.mark.parametrize(
    "parts, stage, words",
    [
        ({}, "arriving list", "no-list: permit"),
        ({}, "crossing", "through: permit"),
        ({}, "leaving list", "no-list: permit"),
        ({"KIND": "firewall"}, "crossing", "outbound: permit"),
        ({"LISTS": "a: [{permit: any}]", "LAN": "arriving: a"}, "arriving list", ""),
    ],
)
def test_defaults_that_let_pass_in_silence_are_told_when_asked(parts: dict[str, str], stage: str, words: str) -> None:
    journey = mc.trace(build(**parts), "clerk", "shop", "https")
    found = told(journey, "gate", stage)
    assert found is not None
    assert (words in found.end.words) if found.end is not None else not words
    counters = Counters()
    counters.add(journey)
    assert not any(key[1].kind is TableKind.DEFAULT for key in counters.hits)


def agrees(plan: mc.Plan, leg: mc.Leg) -> None:
    """What is told afterwards is what was ruled: the same rulings in order, and the row that was met is the one that decided."""
    for number, hop in enumerate(leg.hops):
        every = list(stages_told(plan, hop, leg.came_to(number)))
        assert [t.ruling for t in every if t.ruling is not None] == list(hop.rulings)
        for one in every:
            met = [(t.table.id, t.row.id) for t in one.asked if t.row is not None]
            if one.ruling is None:
                assert not met
                continue
            undecided = [(m.table, m.row) for m in one.ruling.decision.met if m.verdict.value != "note"]
            kind = one.ruling.table.kind
            decided = kind in WRITTEN and one.ruling.row not in ("", "end-of-list")
            expected = [*undecided, *([(one.ruling.table, one.ruling.row)] if decided and one.asked else [])]
            assert set(expected) == set(met)


@examples(14, 240, suppress_health_check=[HealthCheck.too_slow])
@given(networks(), st.sampled_from(["ping", "https", "udp/53"]), st.sampled_from([4, 6]))
def test_what_is_told_afterwards_is_what_was_ruled(network: mc.Network, service: str, family: Any) -> None:
    plan = mc.Plan(network)
    ends = [n for n in network.devices if n[0] == "h"]
    for sender in ends:
        for target in ends:
            for leg in mc.trace(plan, sender, target, service, family=family).legs:
                agrees(plan, leg)


def test_what_is_told_afterwards_of_the_demo_is_what_was_ruled(demo: mc.Plan) -> None:
    hosts = [n for n, d in demo.network.devices.items() if d.layer3]
    for sender in hosts[:8]:
        for target in hosts:
            if demo.network.devices[target].own_addresses():
                for leg in mc.trace(demo, sender, target, "https").legs:
                    if leg.packet.protocol:
                        agrees(demo, leg)


STATEFUL = "stateful: [tcp, icmp]"
HEADLINES: list[tuple[dict[str, str], str, str]] = [
    ({}, "https", "; no list is attached where it passed"),
    ({"LISTS": "a: [{permit: any}]", "OUT": "leaving: a"}, "https", ", let through by a rule 10 (a.yaml:2)"),
    # only the answer meets one: a rule of it, or a session that lets it pass over it
    (
        {"LISTS": "a: [{permit: any}]", "OUT": "arriving: a"},
        "https",
        "; no list is attached on the way there, and its answer is let through by a rule 10 (a.yaml:2)",
    ),
    (
        {"LISTS": "a: [{deny: any}]", "OUT": "arriving: a", "KEYS": STATEFUL},
        "https",
        "; no list is attached on the way there, and its answer is let past a of gate by its session 1",
    ),
    (
        {"LISTS": "a: [{deny: any}], b: [{permit: any}]", "OUT": "arriving: [b, a]", "LAN": "leaving: a", "KEYS": STATEFUL},
        "ping",
        "; no list is attached on the way there, and its answer is let past b, a of gate by its session 1",
    ),
    ({"KEYS": STATEFUL}, "https", "; no list is attached where it passed"),
    # an empty list counts for nothing, and is named
    (
        {"LISTS": "a: []", "LAN": "arriving: a"},
        "https",
        "; no list with a rule is attached where it passed (a is empty and ignored)",
    ),
]


@pytest.mark.parametrize("parts, service, words", HEADLINES)
def test_the_headline_says_what_let_it_pass_both_ways(parts: dict[str, str], service: str, words: str) -> None:
    journey = mc.trace(build(**parts), "clerk", "shop", service)
    assert journey.answered
    assert words in str(journey).replace(" [service.open]", "").replace(" [echo.answered]", "")


def test_a_session_that_lets_a_further_packet_past_a_list_is_named() -> None:
    """A flow that is known already, when its list is shut: its next packet goes through by its session alone."""
    opened = {"LISTS": "a: [{permit: any}]", "LAN": "arriving: a", "KEYS": STATEFUL}
    lab = mc.Lab(build(**opened).network)
    flow = mc.Flow("clerk", "shop", "ping", Options(source_port=7))
    assert "let through by a rule 10" in str(lab.send(flow))
    lab.change(build(**(opened | {"LISTS": "a: [{deny: any}]"})).network)
    assert "let past a of gate by its session 1" in str(lab.send(flow))


BY_NAME: list[tuple[str, str, str, str]] = [
    # a permit by name: it waits for an address where it would have matched otherwise, and nowhere else
    ("a: [{permit: tcp, name: shop.example}]", "arriving: a", "name.unlearned", "a rule 10 waits for an address of shop.example"),
    ("a: [{permit: udp, name: shop.example}]", "arriving: a", "filter.end", ""),
    ("a: [{permit: tcp, name: mill.example}]", "arriving: a", "filter.end", ""),
    ("a: [{deny: any}, {permit: tcp, name: shop.example}]", "arriving: a", "filter.rule", ""),
    ("a: [{permit: tcp, name: shop.example}], b: [{deny: any}]", "arriving: [a, b]", "name.unlearned", "a rule 10 waits"),
    ("b: [{deny: tcp}], a: [{permit: tcp, name: shop.example}]", "arriving: [b, a]", "filter.rule", ""),
    # a deny by name that stopped nothing is told in the first lines
    (
        "a: [{deny: tcp, name: shop.example}, {permit: any}]",
        "arriving: a",
        "service.open",
        "although a rule 10 waits for an address",
    ),
    ("a: [{deny: tcp, name: mill.example}, {permit: any}]", "arriving: a", "service.open", ""),
    ("a: [{permit: any}, {deny: tcp, name: shop.example}]", "arriving: a", "service.open", ""),
    ("a: [{reject: tcp, name: shop.example}], b: [{permit: any}]", "arriving: [a, b]", "service.open", "so it stopped nothing"),
]


@pytest.mark.parametrize("lists, place, cause, words", BY_NAME)
def test_rules_by_name_that_know_no_address(lists: str, place: str, cause: str, words: str) -> None:
    names = "names: {shop.example: 198.51.100.10, mill.example: 198.51.100.77}\n"
    plan = build(NAMES=names, LISTS=lists, LAN=place, KEYS="settings: {name-rules: learned}")
    journey = mc.trace(plan, "clerk", "shop", "https")
    assert journey.cause == cause
    shown = journey.explain(width=400)
    assert (words in shown) if words else "waits for an address" not in shown
    assert any(words.removeprefix("although ") in line for line in shown.splitlines()[:3]) if words else True


def test_a_rule_by_name_asks_a_far_resolver_as_the_device_would() -> None:
    text = """\
mossy-network: 1
lists: {a: [{permit: tcp, name: shop.example}, {permit: udp}]}
devices:
  gate:
    kind: router
    resolvers: [RESOLVERS]
    interfaces:
      lan: {address: 10.40.1.1/24, filter: {arriving: a}}
      out: {address: 198.51.100.1/24}
  clerk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  world: {kind: internet, interfaces: {a: 198.51.100.2/24}, routes: [{prefix: 10.40.0.0/16, next-hop: 198.51.100.1}],
    records: {shop.example: 198.51.100.10}, hosts: {namer: {address: 203.0.113.53, serves: [domain]}}}
  shop: {kind: host, address: 198.51.100.10/24, gateway: 198.51.100.1, serves: [https]}
  other: {kind: host, address: 198.51.100.11/24, gateway: 198.51.100.1, records: {mill.example: 198.51.100.10}}
segments: {lan: [clerk, gate/lan], out: [shop, other, world, gate/out]}
"""
    for resolvers, cause in [
        ("203.0.113.53", "service.open"),
        ("198.51.100.11, 203.0.113.53", "name.unlearned"),  # the first answers, and has no such record
        ("198.51.100.10, 203.0.113.53", "service.open"),  # nobody there is one
    ]:
        reading = mc.read_bytes(text.replace("RESOLVERS", resolvers).encode(), "r.yaml")
        assert reading.network is not None, [p.line() for p in reading.problems]
        assert mc.trace(mc.Plan(reading.network), "clerk", "shop", "https").cause == cause


NEAR: list[tuple[dict[str, str], tuple[str, str, str], str]] = [
    # the nearest rule may stand in a list that was asked before
    (
        {"LISTS": "a: [{permit: tcp, to: clerk}], b: [{permit: udp, to: clerk}]", "LAN": "arriving: [a, b]"},
        ("clerk", "shop", "https"),
        "a rule 10 (a.yaml:2) would permit it, if its to matched",
    ),
    # a destination rule comes after the list at the door
    (
        {
            "LISTS": "a: [{permit: tcp, to: clerk}]",
            "OUT": "arriving: a",
            "KEYS": "translate: [{id: book, arriving: out, to: self, service: tcp/80, goes-to: {address: 10.40.1.10, port: 8080}}]",
        },
        ("shop", "gate/out", "tcp/80"),
        "translation rule book of gate would turn it into 10.40.1.10:8080; this list is asked before that",
    ),
    # a list for own packets, and a built-in rule that is off
    (
        {"LISTS": "mine: [{permit: tcp}]", "KIND": "firewall", "KEYS": "from-self: mine\n    built-in: {own-pings: no}"},
        ("gate", "shop", "ping"),
        "built-in rule own-pings of gate would permit it, and is switched off",
    ),
]


@pytest.mark.parametrize("parts, question, words", NEAR)
def test_what_is_near_may_stand_elsewhere(parts: dict[str, str], question: tuple[str, str, str], words: str) -> None:
    journey = mc.trace(build(**parts), *question)
    assert journey.cause == "filter.end"
    assert words in journey.explain(width=400)


def test_a_translation_rule_that_changes_nothing_applies_all_the_same() -> None:
    plan = build(KEYS="translate: [{id: same, to: shop, service: https, goes-to: shop}]")
    journey = mc.trace(plan, "clerk", "shop", "https")
    assert "destination 198.51.100.10 stays by translation rule same of gate" in journey.explain(width=400)
    counters = Counters()
    counters.add(journey)
    assert [h.connections for key, h in counters.hits.items() if key[2] == "same"] == [1]


def test_a_rule_is_told_at_each_place_where_it_is_met() -> None:
    """One list at two interfaces of one device, and at another device: a flow that meets it thrice counts once."""
    text = """
mossy-network: 1
lists: {seen: [{id: all, permit: any}]}
devices:
  one: {kind: router, interfaces: {a: {address: 10.41.1.1/24, filter: {arriving: seen}}, b: {address: 10.41.2.1/24, filter: {leaving: seen}}},
        routes: [{prefix: 10.41.3.0/24, next-hop: 10.41.2.2}]}
  two: {kind: firewall, interfaces: {b: {address: 10.41.2.2/24, zone: near}, c: {address: 10.41.3.1/24, zone: far}},
        routes: [{prefix: 10.41.1.0/24, next-hop: 10.41.2.1}], crossings: [{from: near, into: far, lists: seen}]}
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  ben: {kind: host, address: 10.41.3.10/24, gateway: 10.41.3.1, serves: [https]}
segments: {x: [one/a, ann], y: [one/b, two/b], z: [two/c, ben]}
"""
    found = mc.read_bytes(text.encode(), "n.yaml")
    assert found.network is not None, found.problems
    journey = mc.trace(mc.Plan(found.network), "ann", "ben", "https")
    parts = list(decided_by([journey], "seen", "all"))
    assert [(p.way, p.place) for p in parts] == [
        ("there", "one, a arriving"),
        ("there", "one, b leaving"),
        ("there", "two, b into c"),
    ]
    told = affected([journey], "seen", "all")
    assert told.about.startswith("seen rule all decides on 1 of the tested flows, at 3 places")
