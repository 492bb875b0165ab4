"""What a packet did at a device serves the next one that is the same, and a device that a failure leaves alone serves on: nothing is told otherwise."""

from __future__ import annotations

import itertools
import json
import random
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.lab.expect import every_flow
from mossy_compass.lab.faults import Fault, apply, parse
from mossy_compass.lab.lab import Flow
from mossy_compass.lab.sweep import failures
from mossy_compass.packet.address import parse_address, parse_prefix
from mossy_compass.packet.packet import Packet
from mossy_compass.plan import plan as plan_module
from mossy_compass.plan.facts import Facts, Moment
from mossy_compass.plan.room import NEW, Room
from mossy_compass.report.record import journey_dict
from mossy_compass.routing.domains import Domains
from mossy_compass.routing.table import Bulk, Loser, NextHop, PrefixIndex, Route, RouteTable
from mossy_compass.state.state import State
from mossy_compass.walk.execute import Stay
from mossy_compass.walk.question import Options
from mossy_compass.walk.trace import trace_one
from mossy_compass.walk.weather import in_weather, with_down
from tests.conftest import DATA
from tests.effort import at_length, examples
from tests.test_laws import networks
from tests.twice import reusing

SHIPPED = ["fernhollow", "grounds", "starter"]


def cold(network: mc.Network, earlier: mc.Plan | None = None) -> mc.Plan:
    """A plan that keeps nothing, and takes nothing over."""
    made = mc.Plan(network, earlier)
    made.stays = None
    made._earlier = None
    return in_weather(made)


def warm(network: mc.Network) -> mc.Plan:
    """A plan that keeps every stay at once."""
    made = in_weather(mc.Plan(network))
    assert made.stays is not None
    made.stays.eager = True
    return made


def told(plan: mc.Plan, flow: Flow, state: State | None = None) -> Any:
    """Everything that is told of a flow."""
    try:
        return journey_dict(trace_one(plan, flow.source, flow.target, flow.service, flow.options, None, state), True)
    except (mc.QuestionError, mc.NotConverged) as fault:
        return str(fault)


def remembered(state: State) -> Any:
    """Everything that devices remember."""
    return state.now, [(d, state.sessions(d), state.mappings(d), state.ended(d), state.counts(d)) for d in state.devices()]


def kept_in(plan: mc.Plan) -> int:
    """How often a stay was met again."""
    assert plan.stays is not None
    return plan.stays.again


@pytest.mark.parametrize("name", SHIPPED)
def test_a_journey_that_was_walked_before_is_told_word_for_word(name: str) -> None:
    network = mc.load(DATA / f"{name}.yaml")
    flows = every_flow(network)
    plan, other = warm(network), cold(network)
    chosen = random.Random(name).sample(flows, min(60, len(flows)))
    for _ in range(2):
        for flow in chosen:
            assert told(plan, flow) == told(other, flow), flow
    assert kept_in(plan) > len(chosen)


@examples(10, 45, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(networks(), st.data())
def test_what_devices_remember_decides_as_ever(network: mc.Network, data: st.DataObject) -> None:
    """The same flows again and again, over what the earlier ones left behind, and with time between them."""
    flows = every_flow(network)
    plan, other, states = warm(network), cold(network), (State(), State())
    for flow, wait in data.draw(st.lists(st.tuples(st.sampled_from(flows), st.sampled_from([0, 90_000, 400_000])), max_size=12)):
        assert told(plan, flow, states[0]) == told(other, flow, states[1])
        for state in states:
            state.advance(state.now + wait)
        assert remembered(states[0]) == remembered(states[1])


TAKEN = """
mossy-network: 1
lists: {in: [{id: 10, permit: any}]}
devices:
  gate: {kind: firewall, interfaces: {lan: {address: 10.40.1.1/24, filter: {arriving: in}}, wan: {address: 192.0.2.1/24, outside: yes}},
         translate: [{source: 10.40.1.0/24, becomes: interface, leaving: wan}], settings: {SETTING}}
  ann: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  bob: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
  far: {kind: host, address: 192.0.2.9/24, serves: [https]}
segments: {lan: [gate/lan, ann, bob], wan: [gate/wan, far]}
"""
PLAIN = TAKEN.replace("translate: [{source: 10.40.1.0/24, becomes: interface, leaving: wan}], ", "")


@pytest.mark.parametrize("setting", ["", "session-limit: 1", "half-open-limit: 1", "history: 4"])
def test_ports_and_limits_are_asked_each_time(setting: str) -> None:
    """Two hosts with one source port: the second gets another port, or nothing, whatever was kept of the first."""
    network = mc.read_bytes(TAKEN.replace("SETTING", setting).encode(), "n.yaml").network
    assert network is not None
    plan, other, states = warm(network), cold(network), (State(), State())
    ends = []
    for source in ("ann", "bob", "ann", "bob", "ann"):
        flow = Flow(source, "far", "tcp/443")
        told(plan, flow)
        first, second = told(plan, flow, states[0]), told(other, flow, states[1])
        assert first == second
        ends.append(json.dumps(first["legs"][0]["arrived"]))
    assert len(set(ends)) > 1
    assert remembered(states[0]) == remembered(states[1])


def test_what_was_looked_up_since_is_known() -> None:
    """A rule by name lets nobody pass until the device has seen the lookup."""
    network = mc.load(DATA / "fernhollow.yaml")
    by_name = [f for f in every_flow(network) if f.target in network.names or "." in f.target][:6]
    plan, other, states = warm(network), cold(network), (State(), State())
    for flow in [*by_name, *by_name]:
        assert told(plan, flow, states[0]) == told(other, flow, states[1])


def test_what_is_met_once_is_not_kept_and_what_never_comes_again_ends_it() -> None:
    room = Room(8)
    assert room.get("a") is NEW
    assert room.get("a") is None
    room.keep("a", "stay")
    assert room.get("a") == "stay"
    for number in range(8):
        assert room.get(number) is NEW
    assert room.get("a") is NEW  # it was begun anew
    for number in range(100, 110):
        assert room.get(number) is NEW
    assert not room.most
    assert room.get(109) is NEW
    assert len(room) == 0


def test_a_closed_room_serves_and_takes_nothing_in() -> None:
    room = Room()
    room.eager = True
    assert room.get("a") is None
    room.keep("a", "stay")
    room.close()
    assert room.get("a") == "stay"
    assert room.get("b") is NEW
    assert len(room) == 1


def fares(plan: mc.Plan, packet: Packet, arriving: str | None, moment: Moment, **more: Any) -> Any:
    """What a device does with one packet, and remembers of it."""
    state = more.pop("state", None) or State()
    handed, choose = more.pop("handed", None), more.pop("choose", None)
    stay = Stay(plan.device("gate"), packet, arriving, state, choose, moment, more.pop("number", 1), handed)
    for name, value in more.items():
        setattr(stay.facts, name, value)
    end = stay.run()
    facts = {name: getattr(stay.facts, name) for name in Facts.__slots__ if name != "memory"}
    return stay.rulings, end, stay.handover, facts, state.sessions("gate")


DESK, SHOP = parse_address("10.40.1.10"), parse_address("10.40.2.10")
ASKED = """
mossy-network: 1
hours: {day: {days: [mon, tue, wed, thu, fri], from: "08:00", until: "18:00", zone: UTC}}
applications: {chat: {service: https}}
lists:
  in: [{id: 10, deny: any, application: chat}, {id: 20, permit: tcp, service: https, hours: day}, {id: 30, permit: icmp}, {id: 40, permit: tcp, service: ssh}]
devices:
  gate: {kind: firewall, interfaces: {lan: {address: 10.40.1.1/24, filter: {arriving: in}}, back: {address: 10.40.3.1/24}, srv: 10.40.2.1/24,
         other: 10.40.4.1/24}, settings: {session-exit: handed}, routes: [{prefix: 10.40.9.0/24, next-hop: 10.40.2.8}, {prefix: 10.40.9.0/24, next-hop: 10.40.4.8}]}
  ann: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  shop: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1}
  east: {kind: host, address: 10.40.2.8/24, gateway: 10.40.2.1}
  west: {kind: host, address: 10.40.4.8/24, gateway: 10.40.4.1}
  spare: {kind: host, address: 10.40.3.10/24, gateway: 10.40.3.1}
segments: {lan: [gate/lan, ann], back: [gate/back, spare], srv: [gate/srv, shop, east], other: [gate/other, west]}
"""
WEB = Packet(6, DESK, SHOP, 50000, 443, flags="SYN")
FAR = Packet(6, DESK, parse_address("10.40.9.9"), 50000, 22, flags="SYN")
OPEN = Moment(open=frozenset({"day"}))
CHAT = Moment(open=frozenset({"day"}), application=frozenset({"chat"}), known_from=2)
ONE: dict[str, Any] = {"packet": WEB, "arriving": "lan", "moment": OPEN}
APART: dict[str, tuple[dict[str, Any], dict[str, Any]]] = {
    "where it came by": (ONE, {**ONE, "arriving": "back"}),
    "the hours": (ONE, {**ONE, "moment": Moment()}),
    "which packet it is": ({**ONE, "moment": CHAT}, {**ONE, "moment": CHAT, "number": 2}),
    "who handed it over": ({**ONE, "handed": ("ann", "port")}, {**ONE, "handed": ("bob", "port")}),
    "where it must leave": ({**ONE, "arriving": None}, {**ONE, "arriving": None, "leaving": "other"}),
    "whom it is handed to": (
        {**ONE, "arriving": None, "leaving": "srv", "next_hop": parse_address("10.40.2.8")},
        {**ONE, "arriving": None, "leaving": "srv", "next_hop": SHOP},
    ),
    "which way was chosen": (
        {"packet": FAR, "arriving": "lan", "moment": OPEN, "choose": lambda *_: 0},
        {"packet": FAR, "arriving": "lan", "moment": OPEN, "choose": lambda *_: 1},
    ),
    "a way that was chosen, and the hash": (
        {"packet": FAR, "arriving": "lan", "moment": OPEN},
        {"packet": FAR, "arriving": "lan", "moment": OPEN, "choose": lambda _, hops, p: 1 - choice_by_hash(p)},
    ),
    "its size": (ONE, {**ONE, "packet": WEB._replace(size=1400)}),
    "its TTL": (ONE, {**ONE, "packet": WEB._replace(ttl=1)}),
}


def choice_by_hash(packet: Packet) -> int:
    """Which of its two equal ways a packet takes when nobody chooses."""
    found = fares(cold(asked_network()), packet, "lan", OPEN)
    return int(found[2].interface == "west")


def asked_network() -> mc.Network:
    reading = mc.read_bytes(ASKED.encode(), "n.yaml")
    assert reading.network is not None, [str(p) for p in reading.problems]
    return reading.network


@pytest.mark.parametrize("what", APART)
@pytest.mark.parametrize("turned", [False, True])
def test_a_packet_is_another_one_by_anything_that_it_is_judged_by(what: str, turned: bool) -> None:
    plan, other = warm(asked_network()), cold(asked_network())
    one, two = reversed(APART[what]) if turned else APART[what]
    before = fares(plan, **one)
    assert fares(plan, **two) == fares(other, **two)
    assert fares(plan, **one) == before == fares(other, **one)
    assert before != fares(plan, **two)


def test_a_drill_that_is_done_twice_on_the_same_devices_says_the_same() -> None:
    plans: dict[int, mc.Plan] = {}
    said = []
    for _ in range(2):
        with reusing(plans):
            said.append([(r.ok, r.said) for r in mc.run_drill(mc.read_drill(DATA / "fernhollow.drill.yaml")).results])
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(plan_module, "Room", lambda: None)
        said.append([(r.ok, r.said) for r in mc.run_drill(mc.read_drill(DATA / "fernhollow.drill.yaml")).results])
    assert said[0] == said[1] == said[2]
    assert any(kept_in(plan) for plan in plans.values() if plan.stays is not None)


@pytest.mark.slow
def test_the_tests_of_what_devices_remember_hold_on_kept_stays() -> None:
    """Everything that is asserted of second channels is so the second time as well; other files are for whoever changes what is kept."""
    command = [
        sys.executable,
        "-m",
        "pytest",
        "-q",
        "-p",
        "tests.twice",
        "-m",
        "not slow",
        "-n",
        "0",
        "tests/test_second_channels.py",
    ]
    done = subprocess.run(command, cwd=Path(__file__).parents[1], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout[-3000:]


def test_who_may_use_an_outer_end_hangs_on_whom_it_talks_to() -> None:
    """The same mapping, of as many sessions, whoever they are with: only those answer whom it was opened towards."""
    text = TAKEN.replace("SETTING", "mapping: endpoint-independent, filtering: address-dependent")
    text = text.replace("  far:", "  near: {kind: host, address: 192.0.2.8/24, serves: [https]}\n  far:").replace(
        "wan, far]", "wan, far, near]"
    )
    reading = mc.read_bytes(text.encode(), "n.yaml")
    assert reading.network is not None, [str(p) for p in reading.problems]
    plan, other = warm(reading.network), cold(reading.network)
    stray = Packet(6, parse_address("192.0.2.9"), parse_address("192.0.2.1"), 40000, 49152, flags="SYN")
    causes = []
    for towards in ("far", "near", "far"):
        states = State(), State()
        ends = [
            (told(made, Flow("ann", towards, "tcp/443"), state), fares(made, stray, "wan", Moment(), state=state))
            for made, state in zip((plan, other), states, strict=True)
        ]
        assert ends[0] == ends[1]
        causes.append(ends[0][1][1].cause)
    assert causes[0] == causes[2] != causes[1]


@pytest.mark.parametrize("first", [True, False])
def test_a_limit_that_was_reached_is_not_reached_for_ever(first: bool) -> None:
    network = mc.read_bytes(PLAIN.replace("SETTING", "session-limit: 1").encode(), "n.yaml").network
    assert network is not None
    plan, other = warm(network), cold(network)
    asked = Packet(6, parse_address("10.40.1.11"), parse_address("192.0.2.9"), 40000, 443, flags="SYN")
    causes = []
    for full in (first, not first, first):
        ends = []
        for made in (plan, other):
            state = State()
            if full:
                told(made, Flow("ann", "far", "tcp/443"), state)
            ends.append(fares(made, asked, "lan", Moment(), state=state))
        assert ends[0] == ends[1]
        causes.append(ends[0][1].cause if ends[0][1] is not None else "")
    assert sorted(set(causes)) == ["", "session.full"]


def test_the_session_that_is_over_is_known_each_time() -> None:
    """What lies behind the loss of a packet is told the second time as well."""
    network = mc.read_bytes(PLAIN.replace("SETTING", "").encode(), "n.yaml").network
    assert network is not None
    plan, other, found = warm(network), cold(network), []
    again = Packet(6, parse_address("10.40.1.10"), parse_address("192.0.2.9"), 49152, 443, flags="SYN")
    for made in (other, plan, plan):
        state = State()
        told(made, Flow("ann", "far", "tcp/443"), state)
        state.clear("gate")
        found.append(fares(made, again, "lan", Moment(), state=state))
    assert found[0][3]["gone"] is not None
    assert found[0] == found[1] == found[2]


def test_a_session_in_doubt_is_judged_each_time() -> None:
    """What is tried and undone is judged anew when it is sent in earnest, and that is written down."""
    network = mc.read_bytes(TAKEN.replace("SETTING", "").encode(), "n.yaml").network
    assert network is not None
    plan, other, states = warm(network), cold(network), (State(), State())
    for made, state in zip((plan, other), states, strict=True):
        told(made, Flow("ann", "far", "tcp/443"), state)
        state.doubt("gate", ["rules"])
        asked = Packet(6, parse_address("10.40.1.10"), parse_address("192.0.2.9"), 49152, 443, flags="ACK")
        for _ in range(3):
            with state.unchanged():
                fares(made, asked, "lan", Moment(), state=state)
        fares(made, asked, "lan", Moment(), state=state)
    assert remembered(states[0]) == remembered(states[1])
    assert not states[0].sessions("gate")[0].doubts


def test_what_a_tunnel_carries_does_not_go_into_it_again() -> None:
    """A packet of one's own that is in everything what the tunnel's outer packets are is selected; those are not."""
    reading = mc.read_bytes(SELECTED.encode(), "n.yaml")
    assert reading.network is not None, [str(p) for p in reading.problems]
    plan, other = warm(reading.network), cold(reading.network)
    flows = [
        Flow("gate", "192.0.2.9", "gre", Options(size=88, ttl=255)),
        Flow("ann", "10.44.1.9", "ping"),
        Flow("gate", "192.0.2.9", "gre", Options(size=88)),
    ]
    for flow in [*flows, *reversed(flows)]:
        assert told(plan, flow) == told(other, flow), flow


SELECTED = """
mossy-network: 1
devices:
  gate: {kind: router, interfaces: {lan: 10.40.1.1/24, wan: 192.0.2.1/24, tun: {tunnel: {to: 192.0.2.9, by: wan, kind: gre, selectors: [{to: any}]}}},
         routes: [{prefix: 10.44.0.0/16, leaving: tun}]}
  ann: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  far: {kind: router, interfaces: {wan: 192.0.2.9/24, shed: 10.44.1.9/24, tun: {tunnel: {to: 192.0.2.1, by: wan, kind: gre, selectors: [{from: any}]}}},
        routes: [{prefix: 10.40.0.0/16, leaving: tun}]}
segments: {lan: [gate/lan, ann], wan: [gate/wan, far/wan], shed: [far/shed]}
"""


def test_what_the_weather_changed_is_another_device() -> None:
    """In other weather a device of the same name has other rows, and what it kept before says nothing."""
    network = ring("mtu: 1500", STEERED)
    plan, other = warm(network), cold(network)
    flow = Flow("ann", "shop", "tcp/443")
    found = []
    for down in (frozenset(), frozenset({("gate", "p")}), frozenset()):
        mine, theirs = with_down(plan, down), with_down(other, down)
        for _ in range(2):
            found.append(told(mine, flow))
            assert found[-1] == told(theirs, flow)
    assert found[0] == found[1] == found[4] != found[2]


# what a failure leaves alone


def both(network: mc.Network, faults: tuple[Fault, ...], whole: mc.Plan) -> tuple[mc.Plan, mc.Plan]:
    """A network with failures: with what is taken over from before, and without."""
    left = apply(network, faults)
    return in_weather(mc.Plan(left, whole)), cold(left, whole)


def taken_over(plan: mc.Plan, whole: mc.Plan) -> Iterator[str]:
    """The devices whose plans are those of before."""
    return (name for name in plan.network.devices if plan.device(name) is whole.device(name))


@pytest.mark.parametrize("name", SHIPPED)
def test_devices_that_a_failure_leaves_alone_tell_what_they_would_anew(name: str) -> None:
    network = mc.load(DATA / f"{name}.yaml")
    whole, chance = warm(network), random.Random(name)
    flows = every_flow(network)
    cases = failures(network, ["link", "device", "interface"])
    shared = 0
    for faults in chance.sample(cases, min(14, len(cases))):
        plan, other = both(network, faults, whole)
        for flow in chance.sample(flows, min(14, len(flows))):
            assert told(plan, flow) == told(other, flow), (faults, flow)
        shared += len(list(taken_over(plan, whole)))
    assert shared or name == "starter"


@examples(2, 18, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(networks(), st.data())
def test_on_random_networks_too(network: mc.Network, data: st.DataObject) -> None:
    whole, flows = warm(network), every_flow(network)
    cases = failures(network, ["link", "device", "interface", "host", "service"])
    for faults in data.draw(st.lists(st.sampled_from(cases), min_size=1, max_size=4, unique=True)):
        plan, other = both(network, faults, whole)
        for flow in flows:
            assert told(plan, flow) == told(other, flow), (faults, flow)


RING = """
mossy-network: 1
names: {shop: 10.40.2.10}
devices:
  s1: {kind: switch, interfaces: {a: {}, b: {}, c: {}}}
  s2: {kind: switch, interfaces: {a: {}, b: {}, c: {}}}
  s3: {kind: switch, interfaces: {a: {}, b: {}, c: {}, d: {state: disabled}}}
  gate: {kind: router, interfaces: {lan: 10.40.1.1/24, up: {address: 10.40.8.1/30, SPEAKS}, side: {address: 10.40.9.1/30, SPEAKS}}, PROBED}
  core: {kind: router, interfaces: {up: {address: 10.40.8.2/30, SPEAKS}, side: {address: 10.40.9.2/30, SPEAKS}, srv: {address: 10.40.2.1/24, SPEAKS}, idle: 10.40.7.1/24},
         routes: [{prefix: 10.40.1.0/24, next-hop: 10.40.8.1}]}
  ann: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  bob: {kind: host, interfaces: {port: 10.40.1.11/24, idle: {address: 10.40.7.2/24, state: not-connected}}, gateway: 10.40.1.1, serves: [https]}
  shop: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https]}
segments:
  one: [ann, s1/c]
  two: [gate/lan, s2/c]
  three: [s1/a, s2/a, s3/d]
  four: [s1/b, s3/a]
  five: {members: [s3/b, s2/b], mtu: 900}
  up: [gate/up, core/up]
  side: [gate/side, core/side]
  srv: [core/srv, shop]
  bobs: [bob/port, s3/c]
  idle: [core/idle, bob/idle]
"""
STATIC = "routes: [{prefix: default, next-hop: 10.40.8.2}, {prefix: default, next-hop: 10.40.9.2, preference: 9}]"
PROBED = (
    "probes: {p: {target: 10.40.2.10, every: 5 s}}, routes: [{prefix: default, next-hop: 10.40.8.2, while: p},"
    " {prefix: default, next-hop: 10.40.9.2, preference: 9}]"
)
STEERED = (
    "probes: {p: {target: 10.40.2.10, every: 5 s}}, routes: [{prefix: default, next-hop: 10.40.9.2}],"
    " policy-routes: [{id: 10, to: any, candidates: [{next-hop: 10.40.8.2, while: p}]}]"
)
OVER = "routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.9.2}]"


def ring(speaks: str, probed: str) -> mc.Network:
    """Three switches in a ring, and two routers with two cables between them."""
    text = RING.replace("SPEAKS", speaks).replace("PROBED", probed)
    reading = mc.read_bytes(text.encode(), "n.yaml")
    assert reading.network is not None, [str(p) for p in reading.problems]
    return reading.network


@pytest.mark.scaled
@pytest.mark.parametrize(
    ("speaks", "probed"),
    [
        ("mtu: 1500", STATIC),
        ("mtu: 1500", PROBED),
        ("mtu: 1500", STEERED),
        ("ospf: 0", "ospf: {preference: 90}"),
        ("ospf: 0", OVER),
    ],
)
def test_a_cable_elsewhere_may_be_another_way_between_the_same_two(speaks: str, probed: str) -> None:
    """Frames go round the other side of a ring, over a cable that takes less; routes and probes hang on what is far away."""
    network = ring(speaks, probed)
    whole = warm(network)
    flows = [replace(f, options=replace(f.options, size=size)) for f in every_flow(network) for size in (64, 1200)]
    told_before = {flow: json.dumps(told(whole, flow), default=str) for flow in flows}
    changed = False
    worse = [(parse(network, "quality five latency 30 ms"),)]
    kinds = ["link", "device", "interface", "host", "service", "name"] if at_length() else ["link", "device"]
    for faults in [*failures(network, kinds), *worse]:
        plan, other = both(network, faults, whole)
        for flow in flows:
            found = told(plan, flow)
            assert found == told(other, flow), (faults, flow)
            changed |= faults == (Fault("link", "three"),) and json.dumps(found, default=str) != told_before[flow]
    assert changed


def test_the_very_same_words_must_stand_there() -> None:
    """What a failure cannot change is looked at as well, for whoever hands over another network."""
    network = ring("mtu: 1500", STATIC)
    whole = mc.Plan(network)
    gate, shop = network.devices["gate"], network.devices["shop"]
    elsewhere = replace(
        shop,
        interfaces={
            n: replace(i, addresses=network.devices["ann"].interfaces["nic"].addresses) for n, i in shop.interfaces.items()
        },
    )
    assert mc.Plan(replace(network, title="other"), whole).device("gate") is whole.device("gate")
    for other in (
        replace(network, lists=mc.load(DATA / "fernhollow.yaml").lists),
        replace(network, names={"shop": (parse_address("10.40.2.11"),)}),
        replace(network, local=()),
        replace(network, devices={**network.devices, "gate": replace(gate, about="other")}),
        replace(network, devices={**network.devices, "shop": elsewhere}),
        replace(network, devices={**network.devices, "shop": replace(shop, records={"shop.example": (SHOP,)})}),
    ):
        assert mc.Plan(other, whole).device("gate") is not whole.device("gate")


def test_a_name_that_a_device_has_learned_since_is_asked_for() -> None:
    """A rule by name lets the same packet pass once the lookup was seen."""
    text = ASKED.replace(
        "{id: 20, permit: tcp, service: https, hours: day}", "{id: 20, permit: tcp, service: https, name: shop.example}"
    )
    text = text.replace("settings: {", "settings: {name-rules: learned, ").replace(
        "hours: {day", "names: {shop.example: 10.40.2.10}\nhours: {day"
    )
    reading = mc.read_bytes(text.encode(), "n.yaml")
    assert reading.network is not None, [str(p) for p in reading.problems]
    plan, other = warm(reading.network), cold(reading.network)
    for known in (False, True, False):
        ends: dict[str, list[Any]] = {"lan": [], "back": []}
        for made, arriving in itertools.product((plan, other), ends):
            state = State()
            if known:
                state.learn("gate", "shop.example", [SHOP])
            stay = Stay(made.device("gate"), WEB, arriving, state, None, OPEN)
            ends[arriving].append((stay.run(), stay.rulings))
        assert all(one == two for one, two in ends.values())  # with what was known, to be asked again by it
        assert (ends["lan"][0][0] is None) is known


def lines(host: str, *, spare: str = "") -> mc.Network:
    """Two routers that a host's address is answered for by one of, and a spare interface whose cable's other end is shut."""
    text = f"""
mossy-network: 1
devices:
  gate: {{kind: router, interfaces: {{lan: 10.40.1.1/24, up: 10.40.8.1/24, spare: 10.40.7.1/24}}}}
  proxy: {{kind: router, interfaces: {{up: {{address: 10.40.8.2/24, answers-for: [{host}]}}, far: {{address: 10.40.9.1/24{spare}}}}}}}
  ann: {{kind: host, interfaces: {{a: 10.40.1.10/24, b: {{address: 10.40.7.2/24{spare}}}}}}}
segments: {{lan: [gate/lan, ann/a], up: [gate/up, proxy/up], spare: [gate/spare, ann/b], far: [proxy/far]}}
"""
    reading = mc.read_bytes(text.encode(), "n.yaml")
    assert reading.network is not None, [str(p) for p in reading.problems]
    return reading.network


def test_what_a_device_sees_of_its_segments() -> None:
    network = lines("10.40.8.77")
    gate = network.devices["gate"]

    def same(devices: dict[str, Any], **more: Any) -> bool:
        other = replace(network, devices={**network.devices, **devices}, **more)
        return Domains(network).same_around(Domains(other), gate)

    assert same({})
    assert same({"ann": replace(network.devices["ann"], about="elsewhere")})
    assert not same({"proxy": lines("10.40.8.78").devices["proxy"]})
    shut, gone = lines("10.40.8.77", spare=", state: disabled"), lines("10.40.8.77", spare=", state: not-connected")
    assert not same({"ann": shut.devices["ann"]})
    one, other = (replace(network, devices={**network.devices, "ann": n.devices["ann"]}) for n in (shut, gone))
    assert not Domains(one).same_around(Domains(other), gate)  # down for another reason
    assert not same({}, segments={**network.segments, "up": replace(network.segments["up"], down=True)})


def route(text: str, metric: int = 1, hop: str = "a", origin: str = "ospf", preference: int = 110) -> Route:
    """A route by one interface."""
    return Route(parse_prefix(text), origin, preference, metric, (NextHop(hop, parse_address("10.40.8.2")),))


def bulk(
    metrics: tuple[int, ...] = (1, 2), groups: tuple[int, ...] = (0, 0), hops: str = "ab", origin: str = "ospf", second: int = 2
) -> RouteTable:
    """A table of two learned routes."""
    index = {(4, 24): {parse_prefix(f"10.40.{n}.0/24").value >> 8: place for place, n in enumerate((1, second))}}
    ways = [(NextHop(name, parse_address("10.40.8.2")),) for name in hops]
    table = RouteTable()
    table.learn(Bulk(PrefixIndex(index), np.array(metrics), np.array(groups), ways, origin, 110))
    return table


def of(*routes: Route, waiting: str = "") -> RouteTable:
    """A table of some routes, and of one that waits for something."""
    table = RouteTable()
    for each in routes:
        table.add(each)
    if waiting:
        table.inactive.append(Loser(route("10.40.9.0/24"), waiting, True))
    return table


HELD = route("10.40.1.0/24")
TABLES: dict[str, RouteTable] = {
    "one route": of(HELD),
    "another way": of(route("10.40.1.0/24", hop="b")),
    "another metric": of(route("10.40.1.0/24", metric=2)),
    "one that lost": of(HELD, route("10.40.1.0/24", preference=200, origin="rip")),
    "one that lost for more": of(HELD, route("10.40.1.0/24", preference=210, origin="rip")),
    "one that waits": of(HELD, waiting="b is down"),
    "one that waits for something else": of(HELD, waiting="nobody is known by that address"),
    "nothing": of(),
    "learned": bulk(),
    "learned at another cost": bulk(metrics=(1, 3)),
    "learned, one of them": bulk(metrics=(1, -1)),
    "learned by another way": bulk(groups=(0, 1)),
    "learned by other ways": bulk(hops="ac"),
    "learned otherwise": bulk(origin="ospf inter-area"),
    "learned of another prefix": bulk(second=3),
    "more learned": bulk(metrics=(1, 2, 3), groups=(0, 0, 0)),
}


@pytest.mark.parametrize("one", TABLES)
def test_tables_are_the_same_only_in_everything(one: str) -> None:
    again = {"one route": of(HELD), "learned": bulk()}
    assert TABLES[one].same_as(again.get(one, TABLES[one]))
    assert [other for other in TABLES if TABLES[one].same_as(TABLES[other])] == [one]
