"""The advice of findings, followed: what is said to have no effect can go, and what is said to mend does, and nothing else changes.

The first half is a law over random networks, the second a table: a network with one fault, its finding, the advice as an edit, and
questions with their answers before and after.
"""

from __future__ import annotations

import random
import re
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.lab.findings import findings
from mossy_compass.model.terms import Term
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import TCP, UDP
from mossy_compass.state.state import State
from mossy_compass.walk.journey import Leg, Way
from mossy_compass.walk.walk import Emission, follow
from tests.effort import examples
from tests.test_effects import network_of
from tests.test_laws import networks

OF_A_LIST = re.compile(r"rule (\S+) of '(\w+)'")
OF_A_ROUTE = re.compile(r"(\w+): the route to (\S+) is never used")
OF_A_DEVICE = re.compile(r"(?:translation rule|policy route) (\S+) of (\w+)")
CAN_GO = {
    *("rule.never", "rule.shadowed", "rule.redundant", "rule.source-nowhere"),
    *("policy.shadowed", "policy.source-nowhere", "policy.never-arrives"),
    *("translate.shadowed", "translate.source-nowhere", "translate.never-arrives"),
    "route.inactive",
}
"""Findings that say of a rule that it decides nothing, or nothing that would not be decided so without it."""


def without(network: mc.Network, problem: mc.Problem) -> mc.Network | None:
    """A network without what a finding is about; None where several routes could be meant."""
    if problem.code == "route.inactive":
        found = OF_A_ROUTE.search(problem.message)
        if found is None:  # a host's gateway
            return None
        name, prefix = found.groups()
        device = network.devices[name]
        same = [r for r in device.routes if str(r.prefix) == prefix]
        connected = any(str(a.prefix) == prefix for i in device.interfaces.values() for a in i.addresses)
        if len(same) != 1 or connected:
            return None
        left = tuple(r for r in device.routes if r is not same[0])
        return replace(network, devices={**network.devices, name: replace(device, routes=left)})
    if problem.code.startswith("rule."):
        ident, name = OF_A_LIST.search(problem.message).groups()  # type: ignore[union-attr]
        entry = network.lists[name]
        if problem.code == "rule.source-nowhere" and len(entry.rules) == 1:  # it is not said that it could go; empty lists pass
            return None
        shorter = replace(entry, rules=tuple(r for r in entry.rules if r.id != ident))
        if shorter == entry:  # another finding about it is followed already
            return None
        return replace(network, lists={**network.lists, name: shorter})
    ident, name = OF_A_DEVICE.search(problem.message).groups()  # type: ignore[union-attr]
    device = network.devices[name]
    if problem.code.startswith("policy."):
        made = replace(device, policy_routes=tuple(e for e in device.policy_routes if e.id != ident))
    else:
        made = replace(device, translate=tuple(t for t in device.translate if t.id != ident))
    return replace(network, devices={**network.devices, name: made})


def with_idle_rules(network: mc.Network, chance: random.Random) -> mc.Network:
    """A network whose translation rules and policy routes are there twice, some with a narrower condition."""
    narrower = Term("10.44.0.10", (mc.parse_prefix("10.44.0.10/32").span,))
    devices = dict(network.devices)
    for name, device in network.devices.items():
        rules = [replace(t, id=f"{t.id}b", sources=t.sources if chance.random() < 0.5 else (narrower,)) for t in device.translate]
        entries = [
            replace(
                e,
                id=f"{e.id}b",
                rule=replace(e.rule, id=f"{e.id}b", sources=e.rule.sources if chance.random() < 0.5 else (narrower,)),
            )
            for e in device.policy_routes
        ]
        devices[name] = replace(device, translate=(*device.translate, *rules), policy_routes=(*device.policy_routes, *entries))
    return replace(network, devices=devices)


def fate(leg: Leg) -> object:
    """What becomes of a packet, and on which way; not which rule says so."""
    return leg.fate, tuple((h.device, h.arriving, h.leaving) for h in leg.hops), leg.hops[-1].rulings[-1:] and leg.packet


def fates(plan: mc.Plan, chance: random.Random) -> list[object]:
    """Journeys between all hosts, and single packets drawn by chance."""
    hosts = [n for n, d in plan.network.devices.items() if d.kind.value == "host"]
    found: list[object] = []
    for sender in hosts:
        for target in (t for t in plan.network.devices if t != sender):
            for service in ("https", "udp/53", "ssh", "ping"):
                journey = mc.trace(plan, sender, target, service)
                found.append((journey.answered, journey.symptom, tuple(fate(leg) for leg in journey.every_leg)))
    addresses = [a for d in plan.network.devices.values() for a, _ in d.own_addresses() if not a.is_link_local]
    for _ in range(60):
        sender = chance.choice(hosts)
        source = chance.choice([a for a, _ in plan.network.devices[sender].own_addresses() if not a.is_link_local])
        target_address = chance.choice([a for a in addresses if a.family == source.family])
        protocol = chance.choice((TCP, UDP))
        packet = Packet(protocol, source, target_address, chance.choice((53, 49152)), chance.choice((22, 53, 443, 3389)))
        packet = packet._replace(flags=chance.choice(("SYN", "ACK")) if protocol == TCP else "")
        leg, _ = follow(plan, State(), Emission(packet, sender, Way.THERE), None)
        found.append(fate(leg))
    return found


@examples(3, 150)
@given(networks(), st.integers(0, 1000))
def test_what_is_said_to_have_no_effect_can_go(network: mc.Network, seed: int) -> None:
    network = with_idle_rules(network, random.Random(seed))
    plan = mc.Plan(network)
    told = [p for p in findings(plan) if p.code in CAN_GO]
    before = fates(plan, random.Random(seed)) if told else []
    chance = random.Random(seed)
    every = [[p] for p in told] + [told, [p for p in told if chance.random() < 0.5]]
    for some in every if told else ():
        shorter = network
        for problem in some:
            shorter = without(shorter, problem) or shorter
        assert fates(mc.Plan(shorter), random.Random(seed)) == before, some


BASE = """
mossy-network: 1
lists:
  in: [{id: 10, permit: tcp, service: https}, {id: 20, permit: any, from: bench}]
  spare: [{id: 10, deny: tcp, service: ssh}, {id: 20, permit: any}]
  strangers: [{id: 10, permit: tcp, to: ann, service: ssh}]
devices:
  gate:
    kind: firewall
    interfaces:
      house: {address: 10.41.1.1/24}
      lab: {address: 10.41.4.1/24}
      one: {address: 198.51.100.2/24, outside: yes}
      two: {address: 203.0.113.2/24, outside: yes}
    routes: [{prefix: default, next-hop: 198.51.100.1}]
    translate: [{id: hide, source: local-networks, leaving: one}]
    stateful: [tcp, udp, icmp]
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1, serves: [ssh, https]}
  bench: {kind: host, address: 10.41.4.10/24, gateway: 10.41.4.1, serves: [ssh, https, telnet]}
  world:
    kind: internet
    interfaces: {a: 198.51.100.1/24, b: 203.0.113.1/24}
    hosts: {press: {address: 192.0.2.80, serves: [ssh, https, telnet]}}
segments: {house: [gate/house, ann], lab: [gate/lab, bench], one: [gate/one, world/a], two: [gate/two, world/b]}
"""
HOUSE, LAB, ONE = "house: {address: 10.41.1.1/24", "lab: {address: 10.41.4.1/24", "one: {address: 198.51.100.2/24, outside: yes"
HIDE = "translate: [{id: hide, source: local-networks, leaving: one}]"
IN = "in: [{id: 10, permit: tcp, service: https}, {id: 20, permit: any, from: bench}]"
Edit = tuple[str, str]


def listed(at: str, words: str) -> Edit:
    """An interface with a filter."""
    return at, f"{at}, filter: {{{words}}}"


# what is wrong with the base; the code; the advice in a few words; the same as an edit of the base with the fault; questions with
# their answers before and after
ADVICE: list[tuple[list[Edit], str, str, list[Edit], list[tuple[str, str, str, bool, bool]]]] = [
    (
        [listed(HOUSE, "arriving: other"), (IN, "other: [{id: 10, deny: tcp, from: bench, service: ssh}, {id: 20, permit: any}]")],
        "list.wrong-side",
        "Attach it to what arrives by lab",
        [(", filter: {arriving: other}", ""), listed(LAB, "arriving: other")],
        [("bench", "ann", "ssh", True, False), ("bench", "ann", "https", True, True)],
    ),
    (
        [listed(HOUSE, "arriving: other"), (IN, "other: [{id: 10, deny: tcp, from: bench, service: ssh}, {id: 20, permit: any}]")],
        "list.wrong-side",
        "or to what leaves by house",
        [("arriving: other", "leaving: other")],
        [("bench", "ann", "ssh", True, False), ("bench", "ann", "https", True, True)],
    ),
    (
        [(HIDE, f"{HIDE}\n    policy-routes: [{{id: p, from: ann, arriving: lab, candidates: [{{discard: yes}}]}}]")],
        "policy.never-arrives",
        "Say arriving: house",
        [("arriving: lab", "arriving: house")],
        [("ann", "press", "https", True, False), ("bench", "press", "https", True, True)],
    ),
    (
        [(HIDE, f"{HIDE}\n    policy-routes: [{{id: p, from: ann, arriving: lab, candidates: [{{discard: yes}}]}}]")],
        "policy.never-arrives",
        "or leave it out",
        [(", arriving: lab", "")],
        [("ann", "press", "https", True, False), ("bench", "press", "https", True, True)],
    ),
    (
        [(HIDE, "translate: [{id: hide, source: ann, arriving: lab, leaving: one}, {id: lab, source: 10.41.4.0/24, leaving: one}]")],
        "translate.never-arrives",
        "Say arriving: house",
        [("source: ann, arriving: lab", "source: ann, arriving: house")],
        [("ann", "press", "https", False, True), ("bench", "press", "https", True, True)],
    ),
    (
        [(HIDE, f"{HIDE}\n    policy-routes: [{{id: p, from: ann, to: outside, candidates: [203.0.113.1]}}]")],
        "policy.untranslated",
        "Add {source: ..., leaving: two} to translate",
        [(HIDE, HIDE[:-1] + ", {id: also, source: ann, leaving: two}]")],
        [("ann", "press", "https", False, True), ("bench", "press", "https", True, True)],
    ),
    (
        [
            listed(HOUSE, "arriving: in"),
            (IN, "in: [{id: 10, deny: tcp, service: ssh}, {id: 20, permit: any}]"),
        ],
        "rule.any-local",
        "Say to: outside",
        [("{id: 10, deny: tcp, service: ssh}, {id: 20, permit: any}]\n  spare", "{id: 10, deny: tcp, to: outside, service: ssh}, {id: 20, permit: any}]\n  spare")],
        [("ann", "bench", "ssh", False, True), ("ann", "press", "ssh", False, False), ("ann", "press", "https", True, True)],
    ),
    (
        [
            listed(HOUSE, "arriving: in"),
            (IN, "in: [{id: 10, deny: tcp, to: 10.41.4.0/24}, {id: 20, permit: tcp, service: ssh}]"),
        ],
        "rule.partly-covered",
        "Exchange the two",
        [("{id: 10, deny: tcp, to: 10.41.4.0/24}, {id: 20, permit: tcp, service: ssh}", "{id: 20, permit: tcp, service: ssh}, {id: 30, deny: tcp, to: 10.41.4.0/24}")],
        [("ann", "bench", "ssh", False, True), ("ann", "bench", "https", False, False), ("ann", "press", "ssh", True, True)],
    ),
    (
        [
            listed(HOUSE, "arriving: in"),
            (IN, "in: [{id: 10, permit: tcp}, {id: 20, deny: tcp, service: ssh}]"),
        ],
        "rule.shadowed",
        "Move it up",
        [("{id: 10, permit: tcp}, {id: 20, deny: tcp, service: ssh}", "{id: 5, deny: tcp, service: ssh}, {id: 10, permit: tcp}")],
        [("ann", "bench", "ssh", True, False), ("ann", "bench", "https", True, True)],
    ),
    (
        [
            listed(HOUSE, "arriving: in"),
            (IN, "in: [{id: 10, permit: tcp}, {id: 20, deny: tcp, service: ssh}, {id: 30, permit: udp}]"),
        ],
        "rule.shadowed",
        "it would be reached if rule 10 were disabled",
        [("{id: 10, permit: tcp}", "{id: 10, permit: tcp, disabled: yes}")],
        [("ann", "bench", "ssh", True, False), ("ann", "bench", "https", True, False)],
    ),
    (
        [
            listed(HOUSE, "arriving: [in, spare]"),
            (IN, "in: [{id: 10, permit: tcp}]"),
        ],
        "rule.shadowed",
        "Move it into 'in', above rule 10",
        [("in: [", "in: [{id: 5, deny: tcp, service: ssh}, "), ("spare: [{id: 10, deny: tcp, service: ssh}, ", "spare: [")],
        [("ann", "bench", "ssh", True, False), ("ann", "bench", "https", True, True)],
    ),
    (
        [("stateful: [tcp, udp, icmp]", "stateful: [tcp, udp]")],
        "session.not-inspected",
        "Add icmp to stateful",
        [("stateful: [tcp, udp]", "stateful: [tcp, udp, icmp]")],
        [("ann", "press", "ping", False, True), ("press", "198.51.100.2", "ping", False, False)],
    ),
    (
        [("stateful: [tcp, udp, icmp]", "stateful: [tcp, udp]"), listed(ONE, "arriving: strangers")],
        "session.not-inspected",
        "permit icmp: [echo-reply]",
        [("strangers: [", "strangers: [{id: 5, permit: icmp, icmp: [echo-reply]}, ")],
        [("ann", "press", "ping", False, True), ("press", "198.51.100.2", "ping", False, False)],
    ),
    (
        [(HIDE, "")],
        "subnet.no-way-back",
        "or translate its sources before they leave",
        [("    stateful", f"    {HIDE[:-1]}, {{id: also, source: local-networks, leaving: two}}]\n    stateful")],
        [("ann", "press", "https", False, True), ("bench", "press", "https", False, True)],
    ),
    (
        [(HIDE, "")],
        "subnet.no-way-back",
        "Add a route to 10.41.1.0/24 at world",
        [("    hosts: {press", "    routes: [{prefix: 10.41.1.0/24, next-hop: 198.51.100.2}]\n    hosts: {press")],
        [("ann", "press", "https", False, True), ("bench", "press", "https", False, False)],
    ),
    (
        [(HIDE, "translate: [{id: hide, source: local-networks, leaving: one, becomes: 192.0.2.9}]")],
        "translate.led-nowhere",
        "a route to 192.0.2.9 by gate at its neighbours",
        [("    hosts: {press", "    routes: [{prefix: 192.0.2.9/32, next-hop: 198.51.100.2}]\n    hosts: {press")],
        [("ann", "press", "https", False, True)],
    ),
    (
        [(HIDE, "translate: [{id: hide, source: local-networks, leaving: one, becomes: 192.0.2.9}]")],
        "translate.led-nowhere",
        "Give addresses of the segment",
        [("becomes: 192.0.2.9", "becomes: 198.51.100.9")],
        [("ann", "press", "https", False, True)],
    ),
    (
        [listed(HOUSE, "arriving: in"), (IN, "in: [{id: 10, deny: tcp}, {id: 20, deny: udp}]")],
        "list.only-denies",
        "Add {permit: any} at the end",
        [("{id: 20, deny: udp}", "{id: 20, deny: udp}, {permit: any}")],
        [("ann", "bench", "ping", False, True), ("ann", "bench", "ssh", False, False)],
    ),
    (
        [listed(ONE, "arriving: strangers"), ("[{id: 10, permit: tcp, to: ann, service: ssh}]", "[{id: 10, permit: icmp}]")],
        "rule.wide-answers",
        "Say icmp: [echo-reply, unreachable, time-exceeded]",
        [("{id: 10, permit: icmp}", "{id: 10, permit: icmp, icmp: [echo-reply, unreachable, time-exceeded]}")],
        [("ann", "press", "ping", True, True), ("press", "198.51.100.2", "ping", True, False)],
    ),
    (
        [listed(ONE, "arriving: strangers"), ("stateful: [tcp, udp, icmp]", "stateful: none")],
        "list.cuts-errors",
        "Permit icmp with icmp: [unreachable, time-exceeded]",
        [("strangers: [", "strangers: [{id: 5, permit: icmp, icmp: [unreachable, time-exceeded]}, ")],
        [("press", "198.51.100.2", "ping", False, False)],
    ),
    (
        [("segments:", "  shed: {kind: host, address: 10.41.1.11/24}\nsegments:"), ("house: [gate/house, ann]", "house: [gate/house, ann, shed]")],
        "host.no-gateway",
        "Add gateway: ADDRESS",
        [("address: 10.41.1.11/24}", "address: 10.41.1.11/24, gateway: 10.41.1.1}")],
        [("shed", "press", "https", False, True)],
    ),
    (
        [],
        "idle.unattached",
        "Attach it: filter: {arriving: spare}",
        [listed(HOUSE, "arriving: spare")],
        [("ann", "bench", "ssh", True, False), ("ann", "bench", "https", True, True)],
    ),
]  # fmt: skip


def edited(text: str, edits: list[Edit]) -> str:
    """A text after some edits, each of which must be there to be made."""
    for old, new in edits:
        assert text.count(old) >= 1, old
        text = text.replace(old, new, 1)
    return text


def told(text: str) -> list[mc.Problem]:
    """Every finding about a network."""
    reading = mc.read_bytes(text.encode(), "n.yaml")
    assert reading.network is not None, reading.problems
    return [*reading.problems, *findings(mc.Plan(reading.network), reading.problems)]


@pytest.mark.parametrize(("fault", "code", "advice", "mended", "asked"), ADVICE, ids=[f"{c[1]}, {c[2][:24]}" for c in ADVICE])
def test_advice_that_is_followed_helps(
    fault: list[Edit], code: str, advice: str, mended: list[Edit], asked: list[tuple[str, str, str, bool, bool]]
) -> None:
    faulty = edited(BASE, fault)
    after = edited(faulty, mended)
    found = [p for p in told(faulty) if p.code == code and advice in p.remedy]
    assert found, [f"{p.code}: {p.remedy}" for p in told(faulty)]
    left = told(after)
    assert found[0].message not in [p.message for p in left]
    new = {(p.code, p.message) for p in left if p.severity.value != "note"} - {(p.code, p.message) for p in told(faulty)}
    assert not new, new
    plans = [mc.Plan(network_of(text)) for text in (faulty, after)]
    for sender, target, service, *wanted in asked:
        assert [mc.trace(plan, sender, target, service).answered for plan in plans] == wanted, (sender, target, service)
