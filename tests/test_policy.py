"""Policy routes in full: what follows where nothing is to be had, what a list denies, what picks an uplink by the way."""

from __future__ import annotations

import random

import pytest

import mossy_compass as mc
from mossy_compass.lab.conversation import parse_then
from mossy_compass.lab.forms import Sets, room
from mossy_compass.plan.facts import Moment
from mossy_compass.walk.journey import Journey, Way
from mossy_compass.walk.walk import Emission
from tests.test_alike import behaves_alike

THREE = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
    stateful: [tcp, udp, icmp]
    settings: {inbound: permit#SETTINGS}
    interfaces:
      house: {address: 10.41.1.1/24, outside: no#HOUSE}
      fibre: {address: 198.51.100.2/30, outside: yes, state: #FIBRE}
      radio: {address: 198.51.100.6/30, outside: yes, state: #RADIO}
      dish: {address: 198.51.100.10/30, outside: yes#DISH}
    uplinks: {spare: [radio, dish]}
    routes:
      - {prefix: default, next-hop: 198.51.100.1}
      - {prefix: default, next-hop: 198.51.100.5, metric: 5}
      - {prefix: default, next-hop: 198.51.100.9, preference: 9}
#ROUTES
    policy-routes:
#ENTRIES
  north: {kind: router, interfaces: {gate: 198.51.100.1/30, far: 203.0.113.1/24}, routes: [{prefix: 10.41.0.0/16, next-hop: 198.51.100.2}]}
  south: {kind: router, interfaces: {gate: 198.51.100.5/30, far: 203.0.113.2/24}, routes: [{prefix: 10.41.0.0/16, next-hop: 198.51.100.6}]}
  west: {kind: router, interfaces: {gate: 198.51.100.9/30, far: 203.0.113.3/24}, routes: [{prefix: 10.41.0.0/16, next-hop: 198.51.100.10}]}
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1, serves: [ssh]}
  amy: {kind: host, address: 10.41.1.11/24, gateway: 10.41.1.1}
  far: {kind: host, address: 203.0.113.9/24, gateway: 203.0.113.1, serves: [https, ssh, domain]}
segments:
  h: [gate/house, ann, amy]
  f: [gate/fibre, north/gate]
  r: [gate/radio, south/gate]
  d: [gate/dish, west/gate]
  p: [north/far, south/far, west/far, far]
lists:
  chosen: [{deny: tcp, to-port: 22}, {permit: tcp}, {deny: any}]
  also: [{reject: tcp, to-port: 22}, {permit: any}]
  in: [#RULE{permit: any}]
"""


def text(*entries: str, routes: tuple[str, ...] = (), rule: str = "", settings: str = "", **parts: str) -> str:
    filled = {"FIBRE": "up", "RADIO": "up", "DISH": "", "HOUSE": ", filter: {arriving: in}" if rule else "", **parts}
    made = THREE.replace("#ENTRIES", "\n".join(f"      - {e}" for e in entries))
    made = made.replace("#ROUTES", "\n".join(f"      - {r}" for r in routes)).replace("#RULE", rule and f"{rule}, ")
    made = made.replace("#SETTINGS", settings and f", {settings}")
    for key, value in filled.items():
        made = made.replace(f"#{key}", value)
    return made if entries else made.replace("    policy-routes:\n\n", "")


def three(*entries: str, **more: object) -> mc.Plan:
    found = mc.read_bytes(text(*entries, **more).encode(), "three.yaml")  # type: ignore[arg-type]
    assert found.network is not None, found.problems
    return mc.Plan(found.network)


def left_by(journey: Journey) -> str:
    """The interface by which the way there left the gate; empty where it did not."""
    return next((h.leaving or "" for h in journey.there.hops if h.device == "gate" and h.next_device), "")


LOST = "{next-hop: 198.51.100.77, leaving: radio}"  # on the segment, and nobody has it
AWAY = ("{prefix: default, next-hop: 198.51.100.5, table: away}", "{prefix: 203.0.113.9/32, action: leave-table, table: away}")
WAYS = [
    # entries, further parts, service; the interface it leaves by, or the cause
    (["{candidates: [{next-hop: 198.51.100.5}]}"], {}, "https", "radio"),
    ([f"{{candidates: [{LOST}]}}"], {}, "https", "fibre"),  # the route table
    ([f"{{candidates: [{LOST}], none-available: table}}", "{candidates: [{next-hop: 198.51.100.9}]}"], {}, "https", "fibre"),
    ([f"{{candidates: [{LOST}], none-available: next}}", "{candidates: [{next-hop: 198.51.100.9}]}"], {}, "https", "dish"),
    ([f"{{candidates: [{LOST}], none-available: next}}"], {}, "https", "fibre"),
    ([f"{{candidates: [{LOST}], none-available: next}}", f"{{candidates: [{LOST}], none-available: drop}}"], {}, "https", "route.unavailable"),
    ([f"{{candidates: [{LOST}], none-available: drop}}"], {}, "https", "route.unavailable"),
    ([f"{{candidates: [{LOST}, {{next-hop: 198.51.100.9}}], none-available: drop}}"], {}, "https", "dish"),
    (["{candidates: [{next-hop: 198.51.100.5}], none-available: next}", "{candidates: [{next-hop: 198.51.100.9}]}"], {}, "https", "radio"),
    (["{list: also, candidates: [{next-hop: 198.51.100.5}]}", "{candidates: [{next-hop: 198.51.100.9}]}"], {"settings": "classifier-deny: table"}, "ssh", "fibre"),
    # by an uplink the best of its routes counts, even where nobody answers for that
    (["{candidates: [{uplink: dish}]}"], {"routes": ("{prefix: 203.0.113.0/24, next-hop: 198.51.100.77, leaving: dish, preference: 99}",)}, "https", "neighbour.silent"),
    ([f"{{service: ssh, candidates: [{LOST}], none-available: next}}", "{candidates: [{next-hop: 198.51.100.9}]}"], {}, "https", "dish"),
    # a list that classifies
    (["{list: chosen, candidates: [{next-hop: 198.51.100.5}]}", "{candidates: [{next-hop: 198.51.100.9}]}"], {}, "https", "radio"),
    (["{list: chosen, candidates: [{next-hop: 198.51.100.5}]}", "{candidates: [{next-hop: 198.51.100.9}]}"], {}, "ssh", "dish"),
    (["{list: chosen, candidates: [{next-hop: 198.51.100.5}]}", "{candidates: [{next-hop: 198.51.100.9}]}"],
     {"settings": "classifier-deny: table"}, "ssh", "fibre"),
    (["{list: chosen, candidates: [{next-hop: 198.51.100.5}]}", "{candidates: [{next-hop: 198.51.100.9}]}"],
     {"settings": "classifier-deny: table"}, "https", "radio"),
    # named tables
    (["{candidates: [{table: away}]}"], {"routes": AWAY[:1]}, "https", "radio"),
    (["{candidates: [{table: away}, {next-hop: 198.51.100.9}]}"], {"routes": AWAY}, "https", "dish"),
    (["{candidates: [{table: away}]}"], {"routes": AWAY}, "https", "fibre"),
    (["{candidates: [{table: away}], none-available: next}", "{candidates: [{next-hop: 198.51.100.9}]}"], {"routes": AWAY}, "https", "dish"),
    (["{candidates: [{table: away}, {next-hop: 198.51.100.9}]}"],
     {"routes": ("{prefix: default, action: discard, table: away}",)}, "https", "route.discard"),  # that has decided
    # uplinks
    (["{candidates: [{uplink: radio}]}"], {}, "https", "radio"),
    (["{candidates: [{uplink: spare}]}"], {}, "https", "radio"),
    (["{candidates: [{uplink: spare}]}"], {"RADIO": "disabled"}, "https", "dish"),
    (["{candidates: [{uplink: radio}]}"], {"RADIO": "disabled"}, "https", "fibre"),
    (["{candidates: [{uplink: house}], none-available: drop}"], {}, "https", "route.unavailable"),  # no route leads out there
    # a rule of a list
    ([], {"rule": "{permit: tcp, to-port: 443, uplink: dish}"}, "https", "dish"),
    ([], {"rule": "{permit: tcp, to-port: 443, uplink: dish}"}, "ssh", "fibre"),
    ([], {"rule": "{permit: tcp, uplink: spare}", "RADIO": "disabled"}, "https", "dish"),
    ([], {"rule": "{permit: tcp, uplink: radio}", "RADIO": "disabled"}, "https", "fibre"),
    (["{candidates: [{next-hop: 198.51.100.5}]}"], {"rule": "{permit: tcp, to-port: 443, uplink: dish}"}, "https", "dish"),  # before entries
    (["{candidates: [{next-hop: 198.51.100.5}]}"], {"rule": "{permit: tcp, to-port: 443, uplink: dish}"}, "ssh", "radio"),
    ([], {"rule": "{permit: tcp, disabled: yes, uplink: dish}"}, "https", "fibre"),
]  # fmt: skip


@pytest.mark.parametrize(("entries", "more", "service", "way"), WAYS)
def test_which_way_a_packet_takes(entries: list[str], more: dict[str, object], service: str, way: str) -> None:
    journey = mc.trace(three(*entries, **more), "ann", "far", service)
    assert (left_by(journey) or journey.cause) == way, journey.explain()
    assert journey.answered is ("." not in way)


def test_the_reason_names_every_candidate_that_was_passed_over() -> None:
    journey = mc.trace(three(f"{{id: one, candidates: [{LOST}], none-available: drop}}"), "ann", "far", "https")
    assert "policy route one of gate says drop where no candidate is available" in str(journey)
    assert "next hop 198.51.100.77 by radio is not available: it is on no connected subnet" in journey.note
    assert journey.symptom.value == "unreachable"
    on = mc.trace(three(f"{{id: one, candidates: [{LOST}], none-available: next}}"), "ann", "far", "https").explain(details=True)
    assert "no candidate is available (next hop 198.51.100.77 by radio is not available: it is on no connected subnet)" in " ".join(
        on.split()
    )


@pytest.mark.parametrize(("value", "way"), [("no", "fibre"), ("yes", "radio")])
def test_answers_meet_entries_only_by_setting(value: str, way: str) -> None:
    plan = three("{candidates: [{next-hop: 198.51.100.5}], from: ann}", settings=f"answers-policy-routes: {value}")
    journey = mc.trace(plan, "far", "ann", "ssh")
    assert journey.back is not None
    assert [h.leaving for h in journey.back.hops if h.device == "gate"] == [way]


def test_what_follows_of_a_session_leaves_by_the_same_uplink() -> None:
    lab = mc.Lab(three(rule="{permit: tcp, to-port: 443, uplink: dish}").network)
    held = lab.converse(mc.Flow("ann", "far", "https"))
    for words in ("data", "data", "fin"):
        exchange = held.next(parse_then(words, lab.network))[-1]
        assert exchange.journey is not None
        assert exchange.journey.later is not None
        assert [h.leaving for h in exchange.journey.later.hops if h.device == "gate"] == ["dish"]


@pytest.mark.parametrize(
    ("made", "code", "says"),
    [
        (text(rule="{permit: tcp, uplink: dsh}"), "rule.uplink", "has none of that name"),
        (text("{candidates: [{uplink: dsh}]}"), "interface.unknown", "dsh"),
        (text("{candidates: [{uplink: dish, discard: yes}]}"), "policy.candidate", "Write one way"),
        (text("{candidates: [{uplink: dish}], none-available: perhaps}"), "value.wrong", "table, next, drop"),
        (text(rule="{deny: tcp, uplink: dish}"), "", "uplink: is for what a rule permits"),
        (text(routes=("{prefix: 10.0.0.0/8, action: leave-table}",)), "route.action", "leave-table is for a named table"),
        (text(routes=("{prefix: 10.0.0.0/8, action: leave-table, next-hop: 198.51.100.5, table: away}",)), "route.action", "goes nowhere"),
    ],
)  # fmt: skip
def test_what_cannot_be_meant_is_refused(made: str, code: str, says: str) -> None:
    found = mc.read_bytes(made.encode(), "n.yaml")
    assert found.network is None
    assert any((not code or p.code == code) and says in p.message + p.remedy for p in found.errors), found.errors


def test_an_uplink_in_a_list_that_is_asked_too_late_is_a_finding() -> None:
    late = text(rule="{permit: tcp, uplink: dish}", HOUSE="", DISH=", filter: {leaving: in}")
    found = mc.read_bytes(late.encode(), "n.yaml")
    assert "rule.idle-uplink" in {p.code for p in found.problems}
    both = mc.read_bytes(text(rule="{permit: tcp, uplink: dish}", DISH=", filter: {leaving: in}").encode(), "n.yaml")
    assert "rule.idle-uplink" not in {p.code for p in both.problems}


LAW = [pytest.param(n, marks=() if n in (5, 20) else pytest.mark.slow) for n in (3, 5, 8, 11, 16, 20, 23, 27)]


@pytest.mark.parametrize("number", LAW)
def test_packets_of_a_cell_are_treated_alike(number: int) -> None:
    entries, more, _, _ = WAYS[number]
    assert isinstance(more, dict)
    plan, chance, sets, tried = three(*entries, **more), random.Random(number), Sets(room()), 0
    for one, other, service in (("ann", "far", "https"), ("amy", "far", "ssh"), ("far", "ann", "ssh"), ("ann", "far", "udp/53")):
        asked = mc.ask(plan, one, other, service)
        assert asked.packet is not None
        tried += behaves_alike(plan, sets, Emission(asked.packet, asked.device, Way.THERE), Moment(), chance, 2)
    assert tried
