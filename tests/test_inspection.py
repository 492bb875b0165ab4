"""Inspection where an interface asks for it, where answers leave, and switches of rules: what holds, and what stands beside it."""

from __future__ import annotations

import random
import re
from datetime import UTC, datetime

import pytest

import mossy_compass as mc
from mossy_compass.lab.conversation import parse_then
from mossy_compass.lab.forms import Sets, room
from mossy_compass.lab.seen import seen as seen_by
from mossy_compass.model.network import Kind
from mossy_compass.plan.facts import Moment
from mossy_compass.walk.journey import Way
from mossy_compass.walk.walk import Emission
from tests.test_alike import behaves_alike

THREE = """\
mossy-network: 1
devices:
  gate:
    kind: router
#DEVICE
    interfaces:
      house: {address: 10.41.1.1/24#HOUSE}
      lab: {address: 10.41.2.1/24#LAB}
      world: {address: 198.51.100.2/24, filter: {arriving: nothing}#WORLD}
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1, serves: [ssh]}
  bob: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1, serves: [ssh]}
  far: {kind: host, address: 198.51.100.9/24, gateway: 198.51.100.2, serves: [https, domain]}
segments: {x: [gate/house, ann], y: [gate/lab, bob], z: [gate/world, far]}
lists:
  nothing: [{deny: any}]
"""


def three(house: str = "", lab: str = "", world: str = "", device: str = "") -> mc.Plan:
    text = THREE
    for word, said in (("HOUSE", house), ("LAB", lab), ("WORLD", world)):
        text = text.replace(f"#{word}", f", {said}" if said else "")
    found = mc.read_bytes(text.replace("#DEVICE", f"    {device}" if device else "").encode(), "three.yaml")
    assert found.network is not None, found.problems
    return mc.Plan(found.network)


AT_HOUSE, OUT = "stateful: {arriving: [tcp]}", "stateful: {leaving: [tcp, udp]}"
WHERE = [
    # house, lab, world, device; asker, service, answered
    (AT_HOUSE, "", "", "", "ann", "https", True),
    (AT_HOUSE, "", "", "", "bob", "https", False),  # another interface
    (AT_HOUSE, "", "", "", "ann", "udp/53", False),  # another protocol
    (AT_HOUSE, "", "", "", "ann", "ping", False),
    (AT_HOUSE, AT_HOUSE, "", "", "bob", "https", True),
    (AT_HOUSE, "", "", "stateful: [udp]", "ann", "udp/53", True),  # the device's own go on
    (AT_HOUSE, "", "", "stateful: [udp]", "bob", "https", False),
    ("", "", OUT, "", "ann", "https", True),
    ("", "", OUT, "", "bob", "udp/53", True),
    ("", "", OUT, "", "gate", "udp/53", True),  # what the device itself asks it knows anyway
    ("", "", "stateful: {arriving: [tcp]}", "", "ann", "https", False),  # the wrong way round
    ("stateful: {leaving: [tcp]}", "", "", "", "ann", "https", False),
    ("stateful: {arriving: [any]}", "", "", "", "ann", "ping", True),
    ("stateful: {arriving: [none]}", "", "", "", "ann", "https", False),
]


@pytest.mark.parametrize(("house", "lab", "world", "device", "asker", "service", "answered"), WHERE)
def test_inspection_stands_where_it_is_written(
    house: str, lab: str, world: str, device: str, asker: str, service: str, answered: bool
) -> None:
    journey = mc.trace(three(house, lab, world, device), asker, "far", service)
    assert journey.answered is answered, str(journey)
    if not answered:
        assert "not inspected" in str(journey) or "keeps no sessions" in str(journey)
    elif asker != "gate":
        assert "session 1" in " ".join(r.because.words for h in journey.back.hops for r in h.rulings)  # type: ignore[union-attr]


def test_the_reason_names_where_it_is_inspected() -> None:
    journey = mc.trace(three(AT_HOUSE), "bob", "far", "https")
    assert "tcp that arrives by lab and leaves by world is not inspected (stateful: house arriving)" in str(journey)


def test_a_session_that_nobody_inspects_is_left_to_the_filters() -> None:
    """Bob's question opens nothing at house, and ann's answer arrives there: it is no stranger to a session, but a packet of none."""
    assert mc.trace(three(AT_HOUSE), "bob", "ann", "ssh").answered


def test_a_firewall_inspects_nothing_by_default_where_an_interface_says_what() -> None:
    text = THREE.replace("kind: router", "kind: firewall").replace("#DEVICE", "    settings: {inbound: permit, through: permit}")
    whole = mc.read_bytes(text.replace("#HOUSE", "").replace("#LAB", "").replace("#WORLD", "").encode(), "w.yaml").network
    one = mc.read_bytes(
        text.replace("#HOUSE", f", {AT_HOUSE}").replace("#LAB", "").replace("#WORLD", "").encode(), "o.yaml"
    ).network
    assert whole is not None
    assert one is not None
    assert mc.trace(mc.Plan(whole), "bob", "far", "https").answered
    assert not mc.trace(mc.Plan(one), "bob", "far", "https").answered
    assert mc.trace(mc.Plan(one), "ann", "far", "https").answered


def test_only_inspected_sessions_are_remembered() -> None:
    lab = mc.Lab(three(AT_HOUSE).network)
    lab.send(mc.Flow("bob", "far", "https"))
    assert not lab.state.sessions("gate")
    lab.send(mc.Flow("ann", "far", "https"))
    assert [s.arriving for s in lab.state.sessions("gate")] == ["house"]


@pytest.mark.parametrize("text", ["{}", "{arriving: []}", "{arriving: [tpc]}", "{arriving: [tcp, none]}", "{entering: [tcp]}"])
def test_what_says_nothing_is_refused_at_its_place(text: str) -> None:
    filled = THREE.replace("#HOUSE", f", stateful: {text}").replace("#LAB", "").replace("#WORLD", "").replace("#DEVICE", "")
    found = mc.read_bytes(filled.encode(), "n.yaml")
    assert found.network is None
    assert {p.mark.line for p in found.errors} == {7}


# where answers leave

TWO = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
    stateful: [tcp, icmp]
    interfaces:
      house: {address: 10.41.1.1/24, outside: no}
      fibre: {address: 198.51.100.2/24, outside: yes}
      radio: {address: 192.0.2.2/29, outside: yes, state: #RADIO}
    routes:
      - {prefix: default, next-hop: 198.51.100.1}
#ROUTE
    settings: {inbound: permit, session-exit: #EXIT}
    policy-routes:
      - {arriving: house, candidates: [{next-hop: 198.51.100.1}]}
    serves: [ssh]
  north: {kind: router, interfaces: {gate: 198.51.100.1/24}}
  south:
    kind: router
    interfaces: {gate: 192.0.2.1/29, far: 203.0.113.1/24}
    routes: [{prefix: 10.41.0.0/16, next-hop: 192.0.2.2}, {prefix: 198.51.100.0/24, next-hop: 192.0.2.2}]
  east: {kind: router, interfaces: {gate: 192.0.2.3/29}}
  web: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1, serves: [https]}
  reader: {kind: host, address: 203.0.113.10/24, gateway: 203.0.113.1}
segments: {x: [gate/house, web], n: [gate/fibre, north/gate], s: [gate/radio, south/gate, east/gate], f: [south/far, reader]}
"""


def two(exit: str, route: str = "", radio: str = "up") -> mc.Network:
    text = TWO.replace("#EXIT", exit).replace("#RADIO", radio).replace("#ROUTE", f"      - {route}" if route else "")
    found = mc.read_bytes(text.encode(), "two.yaml")
    assert found.network is not None, found.problems
    return found.network


EXITS = [
    # setting, route by radio, target, where the answer leaves, to whom
    ("routed", "", "web", "fibre", "north"),
    ("arrived", "", "web", "radio", "south"),  # no route leads there: to who handed it over
    ("arrived", "{prefix: default, next-hop: 192.0.2.3, metric: 9}", "web", "radio", "east"),  # a worse route that leads there
    ("arrived", "{prefix: 203.0.113.0/24, next-hop: 192.0.2.1, preference: 9}", "web", "radio", "south"),
    ("handed", "{prefix: default, next-hop: 192.0.2.3, metric: 9}", "web", "radio", "south"),
    ("routed", "", "198.51.100.2", "fibre", "north"),  # the device's own answers
    ("handed", "", "198.51.100.2", "radio", "south"),
    ("arrived", "", "198.51.100.2", "radio", "south"),
]


@pytest.mark.parametrize(("exit", "route", "target", "leaving", "neighbour"), EXITS)
def test_where_answers_leave(exit: str, route: str, target: str, leaving: str, neighbour: str) -> None:
    service = "https" if target == "web" else "ssh"
    journey = mc.trace(mc.Plan(two(exit, route)), "reader", target, service)
    assert journey.back is not None
    hop = next(h for h in journey.back.hops if h.device == "gate")
    assert (hop.leaving, hop.next_device) == (leaving, neighbour)
    assert journey.answered is (neighbour == "south")


def test_what_is_asked_from_inside_leaves_as_routes_say() -> None:
    for exit in ("arrived", "handed"):
        there = mc.trace(mc.Plan(two(exit)), "web", "203.0.113.10", "ping").there
        assert [h.leaving for h in there.hops if h.device == "gate"] == ["fibre"]


def test_an_answer_whose_way_is_down_goes_as_routes_say_and_that_is_told() -> None:
    lab = mc.Lab(two("arrived"))
    held = lab.converse(mc.Flow("reader", "web", "https"))
    assert held.journey.answered
    held.next(parse_then("data", lab.network))
    lab.fail("gate/radio")
    (answer,) = held.next(parse_then("answer data", lab.network))
    assert answer.journey is not None
    assert answer.journey.later is not None
    hop = next(h for h in answer.journey.later.hops if h.device == "gate")
    assert hop.leaving == "fibre"
    assert any("radio, by which session 1 was opened, is down" in str(r.note) for r in hop.rulings)


def test_an_answer_lost_by_another_way_is_explained_by_where_its_session_was_opened() -> None:
    journey = mc.trace(mc.Plan(two("routed")), "reader", "web", "https")
    assert "session 1 of gate was opened by radio, and its answer left there by fibre" in str(journey)
    mended = mc.trace(mc.Plan(two("arrived")), "reader", "web", "https")
    assert mended.answered


def test_an_order_without_policy_routes_and_this_setting_is_told() -> None:
    order = "arrive, recall, inspection, translate destination, to self, forwarding, route, time to live, crossing, translate source, send"
    text = TWO.replace("#EXIT", "handed").replace("#RADIO", "up").replace("#ROUTE", f"    order: [{order}]")
    before, _, after = text.partition("    policy-routes:\n")
    text = before + after.partition("\n")[2]
    told = [p for p in mc.read_bytes(text.encode(), "n.yaml").problems if "policy route" in p.message]
    assert [p.mark.line for p in told] == [text[: text.index("order:")].count("\n") + 1]


# switches

SHOP = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
#DEVICE
    routes: [{prefix: default, next-hop: 198.51.100.9}]
    interfaces:
      house: {address: 10.41.1.1/24, outside: no#HOUSE}
      world: {address: 198.51.100.2/24, outside: yes#WORLD}
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  amy: {kind: host, address: 10.41.1.11/24, gateway: 10.41.1.1}
  far: {kind: host, address: 198.51.100.9/24, gateway: 198.51.100.2, serves: [https, smtp]}
segments: {x: [gate/house, ann, amy], z: [gate/world, far]}
lists:
  out:
#RULES
"""


def shop(*rules: str, house: str = ", filter: {arriving: out}", world: str = "", device: str = "") -> mc.Reading:
    text = SHOP.replace("#RULES", "\n".join(f"    - {r}" for r in rules)).replace("#HOUSE", house).replace("#WORLD", world)
    return mc.read_bytes(text.replace("#DEVICE", f"    {device}" if device else "").encode(), "shop.yaml")


PLAIN, SWITCH = "{permit: tcp, to-port: 25}", "{permit: any, from: ann, translate: yes}"
SWITCHES = [
    # rules, keyword arguments, (asker, service) and the source that far sees; None where it does not get there
    ((PLAIN, SWITCH), {}, ("ann", "https"), "198.51.100.2"),
    ((PLAIN, SWITCH), {}, ("ann", "smtp"), "10.41.1.10"),  # let pass by the rule above, which has no switch
    ((SWITCH, PLAIN), {}, ("ann", "smtp"), "198.51.100.2"),
    ((PLAIN, SWITCH), {}, ("amy", "smtp"), "10.41.1.11"),
    ((PLAIN, SWITCH), {}, ("amy", "https"), None),
    ((PLAIN, SWITCH.replace("yes", "no")), {}, ("ann", "https"), "10.41.1.10"),
    ((SWITCH,), {"house": "", "world": ", filter: {leaving: out}"}, ("ann", "https"), "198.51.100.2"),
    ((SWITCH,), {"house": "", "device": "crossings: [{from: house, into: world, lists: out}]"}, ("ann", "https"), "198.51.100.2"),
    ((SWITCH,), {"house": "", "device": "everywhere: out"}, ("ann", "https"), "198.51.100.2"),
    # a rule of the table is asked first
    ((SWITCH,), {"device": "translate: [{leaving: world, becomes: 198.51.100.7}]"}, ("ann", "https"), "198.51.100.7"),
    ((SWITCH,), {"device": "translate: [{leaving: world, source: ann, becomes: exempt}]"}, ("ann", "https"), "10.41.1.10"),
    ((SWITCH,), {"device": "translate: [{leaving: world, source: amy}]"}, ("ann", "https"), "198.51.100.2"),
]


@pytest.mark.parametrize(("rules", "where", "asked", "seen"), SWITCHES)
def test_what_a_rule_with_a_switch_let_pass_is_translated(
    rules: tuple[str, ...], where: dict[str, str], asked: tuple[str, str], seen: str | None
) -> None:
    network = shop(*rules, **where).network
    assert network is not None
    plan = mc.Plan(network)
    journey = mc.trace(plan, asked[0], "far", asked[1])
    if seen is None:
        assert journey.lost == "there"
        return
    assert str(journey.there.arrived.source) == seen
    assert journey.answered  # put back by its session, or by the route
    seen_as = [h for h in seen_by(plan) if h.host == asked[0]]
    if asked[1] == "https":
        assert [str(s.outer) for s in seen_as] == [seen]


def test_the_switch_is_named_with_its_rule_and_counted() -> None:
    network = shop(PLAIN, SWITCH).network
    assert network is not None
    journey = mc.trace(mc.Plan(network), "ann", "far", "https")
    words = [r.because.words for h in journey.there.hops for r in h.rulings]
    assert "the switch translate of rule 20 of 'out' at gate" in words
    lab = mc.Lab(network)
    for _ in range(3):
        lab.send(mc.Flow("ann", "far", "https"))
    lab.send(mc.Flow("ann", "far", "smtp"))
    assert [m.row for m in lab.state.mappings("gate")] == ["out 20"] * 3


def test_a_private_source_without_a_switch_is_told_with_the_rule_that_let_it_pass() -> None:
    found = shop(PLAIN, SWITCH).network
    assert found is not None
    text = SHOP.replace("#RULES", f"    - {PLAIN}\n    - {SWITCH}").replace("#HOUSE", ", filter: {arriving: out}")
    text = text.replace("#WORLD", "").replace("#DEVICE", "").replace("gateway: 198.51.100.2", "gateway: 198.51.100.77")
    text = text.replace(
        "serves: [https, smtp]}", "serves: [https, smtp]}\n  other: {kind: router, interfaces: {a: 198.51.100.77/24}}"
    )
    network = mc.read_bytes(text.replace("gate/world, far", "gate/world, far, other/a").encode(), "n.yaml").network
    assert network is not None
    told = mc.trace(mc.Plan(network), "ann", "far", "smtp")
    assert "out rule 10 let it pass at gate, and does not say translate" in str(told)
    assert mc.trace(mc.Plan(network), "ann", "far", "https").answered


@pytest.mark.parametrize(
    ("rule", "where", "told"),
    [
        (SWITCH, {"house": "", "device": "to-self: out"}, True),
        (SWITCH, {"device": "to-self: out"}, False),  # it stands where packets pass, too
        (SWITCH, {}, False),
        (SWITCH.replace("any, ", "any, disabled: yes, "), {"house": "", "device": "to-self: out"}, False),
        # as a classifier alone it says who takes a way, and lets nobody pass
        (SWITCH, {"house": "", "device": "policy-routes: [{id: 10, list: out, candidates: [{discard: yes}]}]"}, True),
    ],
)
def test_a_switch_without_effect_is_a_finding(rule: str, where: dict[str, str], told: bool) -> None:
    found = shop(rule, **where)
    assert ("translate.idle-switch" in {p.code for p in found.problems}) is told, found.problems


@pytest.mark.parametrize("verdict", ["deny", "reject", "note", "hand-on"])
def test_only_a_permit_has_a_switch(verdict: str) -> None:
    found = shop(f"{{{verdict}: any, translate: yes}}")
    assert [(p.mark.line, "translate: is for what a rule permits" in p.message) for p in found.errors] == [(16, True)]


def test_two_rules_that_differ_in_their_switch_are_not_redundant() -> None:
    plan = mc.Plan(shop("{permit: tcp, from: ann, to-port: 443, translate: yes}", "{permit: any}").network)  # type: ignore[arg-type]
    assert "rule.redundant" not in {p.code for p in mc.findings(plan)}
    same = mc.Plan(shop("{permit: tcp, from: ann, to-port: 443}", "{permit: any}").network)  # type: ignore[arg-type]
    assert "rule.redundant" in {p.code for p in mc.findings(same)}


PLANS = [
    lambda: three(AT_HOUSE, "", OUT),
    lambda: mc.Plan(two("arrived")),
    lambda: mc.Plan(two("handed")),
    lambda: mc.Plan(shop(PLAIN, SWITCH).network),  # type: ignore[arg-type]
]


LAW = [pytest.param(n, marks=() if n == 1 else pytest.mark.slow) for n in range(len(PLANS))]


@pytest.mark.parametrize("number", LAW)
def test_packets_of_a_cell_are_treated_alike(number: int) -> None:
    plan, chance, sets = PLANS[number](), random.Random(number), Sets(room())
    names = [n for n, d in plan.network.devices.items() if d.kind is Kind.HOST]
    tried = 0
    for one in names:
        for other in names:
            asked = mc.ask(plan, one, other, chance.choice(["https", "ssh", "smtp", "ping", "udp/53"]))
            if one != other and asked.packet is not None:
                tried += behaves_alike(plan, sets, Emission(asked.packet, asked.device, Way.THERE), Moment(), chance, 2)
    assert tried


# forwarded ports and their permits

FORWARD = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
#DEVICE
    interfaces:
      house: {address: 10.41.1.1/24, outside: no}
      world: {address: 198.51.100.2/24, outside: yes#WORLD}
    routes: [{prefix: default, next-hop: 198.51.100.1}]
    translate:
      - {#TO, service: [https, ssh], arriving: world, goes-to: shop#RULE}
  carrier: {kind: internet, interfaces: {gate: 198.51.100.1/24}, hosts: {press: {address: 203.0.113.20}, reader: {address: 203.0.113.21}}}
  shop: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1, serves: [https, ssh]}
segments: {x: [gate/house, shop], z: [gate/world, carrier/gate]}
lists:
  in: #LIST
"""
LISTED = {"WORLD": ", filter: {arriving: in}"}
PERMITS = [
    # parts of the file, the services that nobody is let in for
    ({"LIST": "[]"}, ["https", "ssh"]),
    ({"LIST": "[{permit: tcp, to: 198.51.100.2, to-port: 443}]", **LISTED}, ["ssh"]),
    ({"LIST": "[{permit: tcp, to: 198.51.100.2}]", **LISTED}, []),
    ({"LIST": "[{permit: tcp, to: shop}]", **LISTED}, ["https", "ssh"]),  # the list sees the outer address
    ({"LIST": "[{permit: tcp, from: reader, to: 198.51.100.2}]", **LISTED}, []),  # somebody is let in
    ({"LIST": "[{deny: tcp, from: reader}, {permit: tcp, from: reader}]", **LISTED}, ["https", "ssh"]),
    ({"LIST": "[{permit: tcp, from: 203.0.113.0/24, hours: day}]\nhours: {day: {from: '08:00', until: '18:00'}}", **LISTED}, []),
    ({"LIST": "[{permit: tcp, to: shop, to-port: 22}]", "DEVICE": "crossings: [{from: world, into: house, lists: in}]"}, ["https"]),
    ({"LIST": "[{permit: tcp, to: shop}]", "RULE": ", lists: in"}, []),
    ({"LIST": "[{permit: tcp, to: 198.51.100.2}]", "RULE": ", lists: in"}, ["https", "ssh"]),
    ({"LIST": "[]", "DEVICE": "settings: {translation-opens: yes}"}, []),
    ({"LIST": "[]", "DEVICE": "settings: {inbound: permit}"}, []),
    ({"LIST": "[]", "RULE": ", disabled: yes"}, []),
    ({"LIST": "[{permit: tcp, from: reader}]", "RULE": ", source: press", **LISTED}, ["https", "ssh"]),
    ({"LIST": "[{permit: tcp, to: 198.51.100.7}]", "TO": "to: 198.51.100.7", **LISTED}, []),
    ({"LIST": "[{permit: tcp, to: self}]", "TO": "to: self", **LISTED}, []),
    # Of the device's own addresses who comes from the world asks for the one that is there.
    ({"LIST": "[{permit: tcp, to: 198.51.100.2}]", "TO": "to: self", **LISTED}, []),
    ({"LIST": "[{permit: tcp, to: 10.41.1.1}]", "TO": "to: self", **LISTED}, ["https", "ssh"]),
    ({"LIST": "[{permit: tcp, to: 198.51.100.9}]", "TO": "to: 198.51.100.8/29", **LISTED}, []),
    ({"LIST": "[{permit: tcp, to: 198.51.100.17}]", "TO": "to: 198.51.100.8/29", **LISTED}, ["https", "ssh"]),
]
ASKED_FOR = {"to: 198.51.100.7": "198.51.100.7", "to: 198.51.100.8/29": "198.51.100.9"}


def forward(parts: dict[str, str]) -> mc.Reading:
    text = FORWARD
    filled = {"TO": "to: 198.51.100.2", "DEVICE": "", "WORLD": "", "RULE": "", **parts}
    filled["DEVICE"] = f"    {filled['DEVICE']}" if filled["DEVICE"] else ""
    for key, value in filled.items():
        text = text.replace(f"#{key}", value)
    return mc.read_bytes(text.encode(), "forward.yaml")


@pytest.mark.parametrize(("parts", "lacking"), PERMITS)
def test_a_forwarded_port_without_its_permit_is_told_and_nobody_is_let_in(parts: dict[str, str], lacking: list[str]) -> None:
    found = forward(parts)
    assert found.network is not None, found.problems
    plan = mc.Plan(found.network)
    told = [p for p in mc.findings(plan) if p.code == "translate.no-permit"]
    ports = {"https": "tcp/443", "ssh": "tcp/22"}
    assert [[s for s in ports if ports[s] in p.message] for p in told] == ([lacking] if lacking else [])
    target = ASKED_FOR.get(parts.get("TO", ""), "198.51.100.2")
    at = datetime(2026, 6, 1, 12, tzinfo=UTC) if "hours" in parts["LIST"] else None
    for service in lacking if "disabled" not in parts.get("RULE", "") else ():  # by walking: nobody gets to the shop
        assert not [s for s in ("press", "reader") if mc.trace(plan, s, target, service).there.end == "shop"]
    for service in (s for s in ports if s not in lacking and "disabled" not in parts.get("RULE", "")):
        ends = [mc.trace(plan, s, target, service, at=at).there.end for s in ("press", "reader")]
        assert "shop" in ends


@pytest.mark.parametrize("parts", [PERMITS[0][0], PERMITS[1][0], PERMITS[3][0], PERMITS[7][0], PERMITS[9][0], PERMITS[17][0]])
def test_the_advice_about_a_forwarded_port_helps(parts: dict[str, str]) -> None:
    found = forward(parts)
    assert found.network is not None
    (told,) = [p for p in mc.findings(mc.Plan(found.network)) if p.code == "translate.no-permit"]
    address = re.findall(r"to (\d[\d.]+\d)", told.remedy)[0]
    mended = {**parts, "LIST": f"[{{permit: tcp, to: {address}}}]"}
    if "Attach" in told.remedy:
        mended |= LISTED
    again = forward(mended)
    assert again.network is not None
    assert not [p for p in mc.findings(mc.Plan(again.network)) if p.code == "translate.no-permit"]
    assert mc.trace(mc.Plan(again.network), "press", "198.51.100.2", "ssh").answered


@pytest.mark.parametrize(("pool", "source", "told"), [("198.51.100.8/31", "", False), ("198.51.100.8/31", ", source: ann", False)])
def test_a_pool_that_is_large_enough_is_not_told(pool: str, source: str, told: bool) -> None:
    rule = f"translate: [{{leaving: world, becomes: {{pool: [{pool}]}}{source}}}]"
    network = shop("{permit: any}", device=rule).network
    assert network is not None
    assert ("translate.small-pool" in {p.code for p in mc.findings(mc.Plan(network))}) is told


def test_a_pool_that_hosts_must_share_is_told() -> None:
    text = SHOP.replace("#RULES", "    - {permit: any}").replace("#HOUSE", "").replace("#WORLD", "")
    text = text.replace("#DEVICE", "    translate: [{leaving: world, becomes: {pool: [198.51.100.8/31]}}]")
    text = text.replace("  far:", "  abe: {kind: host, address: 10.41.1.12/24, gateway: 10.41.1.1}\n  far:").replace(
        "ann, amy", "ann, amy, abe"
    )
    for address, told in (("10.41.1.12/24, gateway: 10.41.1.1", True), ("198.51.100.12/24, gateway: 198.51.100.2", False)):
        moved = text.replace("10.41.1.12/24, gateway: 10.41.1.1", address)
        if not told:  # it lives where the rule's packets go
            moved = moved.replace("ann, amy, abe", "ann, amy").replace("gate/world, far", "gate/world, far, abe")
        network = mc.read_bytes(moved.encode(), "n.yaml").network
        assert network is not None
        assert ("translate.small-pool" in {p.code for p in mc.findings(mc.Plan(network))}) is told
    # of one address nobody expects another, and what is switched off is used by nobody
    for old, new in (("198.51.100.8/31]", "198.51.100.8]"), ("[198.51.100.8/31]}", "[198.51.100.8/31]}, disabled: yes")):
        found = mc.read_bytes(text.replace(old, new).encode(), "n.yaml").network
        assert found is not None
        assert "translate.small-pool" not in {p.code for p in mc.findings(mc.Plan(found))}
