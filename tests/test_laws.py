"""Laws that hold for any network: of route tables against a plain judge, and of journeys against their own record."""

from __future__ import annotations

import ipaddress
import itertools
import json
import os
import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.model.network import RouteAction
from mossy_compass.packet.packet import Packet
from mossy_compass.report import sentences, text
from mossy_compass.routing.table import NextHop, Route, RouteTable
from mossy_compass.walk import many
from tests.conftest import DATA
from tests.effort import examples

# --- route tables ------------------------------------------------------------------------------------------


@st.composite
def prefixes(draw: st.DrawFn) -> mc.Prefix:
    if draw(st.booleans()):
        length = draw(st.integers(0, 32))
        value = (10 << 24) | draw(st.integers(0, 255)) << 16 | draw(st.integers(0, 3))
        return mc.Prefix(4, value >> (32 - length) << (32 - length), length)
    length = draw(st.sampled_from([0, 32, 48, 64, 127, 128]))
    value = 0x20010DB8 << 96 | draw(st.integers(0, 7)) << 64 | draw(st.integers(0, 3))
    return mc.Prefix(6, value >> (128 - length) << (128 - length), length)


@st.composite
def offers(draw: st.DrawFn) -> list[Route]:
    out = []
    for number, prefix in enumerate(draw(st.lists(prefixes(), max_size=14))):
        hop = NextHop(f"p{number}", mc.Address(prefix.family, number + 1))
        preference, metric = draw(st.integers(0, 2)), draw(st.integers(0, 2))
        out.append(Route(prefix, "static", preference, metric, (hop,)))
    return out


def judged(routes: list[Route], address: mc.Address) -> tuple[int, set[str]] | None:
    """Longest prefix, then preference, then metric, and every equal one: by ipaddress, looking at all of them."""
    asked = ipaddress.ip_address(str(address))
    holding = [r for r in routes if asked in ipaddress.ip_network(str(r.prefix))]
    if not holding:
        return None
    best = min((-r.prefix.length, r.preference, r.metric) for r in holding)
    ways = {h.interface for r in holding if (-r.prefix.length, r.preference, r.metric) == best for h in r.hops}
    return -best[0], ways


@examples(75, 450)
@given(offers(), st.lists(prefixes(), min_size=1, max_size=6))
def test_a_lookup_is_what_a_look_at_all_routes_gives(routes: list[Route], asked: list[mc.Prefix]) -> None:
    table = RouteTable()
    for route in routes:
        table.add(route)
    for prefix in asked:
        address = mc.Address(prefix.family, prefix.value)
        found = table.lookup(address)
        expected = judged(routes, address)
        assert (None if found is None else (found.prefix.length, {h.interface for h in found.hops})) == expected
        losers = table.losers(address)
        holding = [r for r in routes if r.prefix.holds(address)]
        named = {h.interface for r in holding for h in r.hops}
        told = {h.interface for x in losers for h in x.route.hops} | ({h.interface for h in found.hops} if found else set())
        assert told == named
        assert all(x.why for x in losers)
    assert len(table) == len(list(table)) == len({r.prefix for r in routes})


def test_a_discard_route_is_not_joined_with_an_equal_one() -> None:
    table = RouteTable()
    prefix = mc.parse_prefix("10.50.0.0/16")
    table.add(Route(prefix, "static", 1, 0, (NextHop("a", mc.parse_address("10.40.0.1")),)))
    table.add(Route(prefix, "static", 1, 0, (), RouteAction.DISCARD))
    found = table.lookup(mc.parse_address("10.50.0.1"))
    assert found is not None
    assert found.action is RouteAction.FORWARD
    assert [x.why for x in table.losers(mc.parse_address("10.50.0.1"))] == ["an equal route was written above it"]


# --- journeys ----------------------------------------------------------------------------------------------

VERDICTS = ("permit", "deny", "reject", "note", "hand-on")


@st.composite
def rules(draw: st.DrawFn) -> list[dict[str, Any]]:
    """Rules of a list, of both families."""
    out: list[dict[str, Any]] = []
    for _ in range(draw(st.integers(0, 4))):
        protocol = draw(st.sampled_from(["any", "tcp", "icmp", "udp", "icmp6"]))
        rule: dict[str, Any] = {draw(st.sampled_from(VERDICTS)): protocol}
        six = protocol == "icmp6" or (protocol != "icmp" and draw(st.booleans()))
        if draw(st.booleans()):
            rule["from"] = _subnet(draw(st.integers(0, 3)), six)
        if draw(st.booleans()):
            rule["to"] = _subnet(draw(st.integers(0, 3)), six)
        if draw(st.integers(0, 5)) == 0:
            rule["opening"] = "yes"
        out.append(rule)
    return out


def _subnet(number: int, six: bool) -> str:
    return f"2001:db8:44:{number}::/64" if six else f"10.44.{number}.0/24"


@st.composite
def networks(draw: st.DrawFn) -> mc.Network:
    """Two to four routers or firewalls in a ring or chain, of both families, with a host at each; random routes, lists,
    translation of sources and destinations, policy routes, and IPv6 gateways and next hops that are link-local."""
    count = draw(st.integers(2, 4))
    b = mc.Builder("random")
    lists = [f"l{number}" for number in range(draw(st.integers(0, 2)))]
    for name in lists:
        b.access_list(name, *draw(rules()))
    links = [(n, n + 1) for n in range(count - 1)] + ([(count - 1, 0)] if count > 2 and draw(st.booleans()) else [])
    for n in range(count):
        ports: dict[str, Any] = {"lan": {"address": [f"10.44.{n}.1/24", f"2001:db8:44:{n}::1/64", "fe80::1/64"]}}
        peers: list[tuple[str, str]] = []
        for number, (a, z) in enumerate(links):
            if n in (a, z):
                mine, other = (1, 2) if n == a else (2, 1)
                six = [f"2001:db8:40:{number}::{mine}/64", f"fe80::{mine}/64"]
                ports[f"e{number}"] = {"address": [f"10.40.{number}.{mine}/30", *six], "ospf": 0}
                peers += [(f"10.40.{number}.{other}", f"e{number}"), (f"fe80::{other}", f"e{number}")]
        for port in ports.values():
            if lists and draw(st.integers(0, 3)) == 0:
                port["filter"] = {
                    draw(st.sampled_from(["arriving", "leaving"])): draw(st.permutations(lists))[: draw(st.integers(1, 2))]
                }
            if draw(st.integers(0, 12)) == 0:
                port["state"] = "disabled"
        ports["lan"]["ospf"] = {"passive": True}
        keys = draw(device_keys(count, peers, lists))
        if draw(st.booleans()):
            b.firewall(f"r{n}", keys=keys, **ports)
        else:
            b.router(f"r{n}", keys=keys, **ports)
        gateway = [f"10.44.{n}.1", draw(st.sampled_from(["fe80::1", f"2001:db8:44:{n}::1"]))]
        b.host(f"h{n}", [f"10.44.{n}.10/24", f"2001:db8:44:{n}::10/64"], gateway=gateway, serves=["https", "udp/53"])
        b.segment(f"lan{n}", f"h{n}", f"r{n}/lan")
    for number, (a, z) in enumerate(links):
        b.segment(f"s{number}", f"r{a}/e{number}", f"r{z}/e{number}")
    return b.finish()


@st.composite
def device_keys(draw: st.DrawFn, count: int, peers: list[tuple[str, str]], lists: list[str]) -> dict[str, Any]:
    """Routes, translation, policy routes and inspection of one router."""
    four = [p for p in peers if ":" not in p[0]]
    routes = []
    for _ in range(draw(st.integers(0, 3))):
        hop, port = draw(st.sampled_from(peers))
        six = ["2001:db8:44::/56", "2001:db8:44:1::/64"]
        prefix = draw(st.sampled_from(six if ":" in hop else ["10.44.0.0/20", "10.44.1.0/24", "10.44.2.0/24", "10.44.1.0/26"]))
        routes.append({"prefix": prefix, "next-hop": hop, "leaving": port})
    keys: dict[str, Any] = {"routes": routes}
    translate: list[dict[str, Any]] = []
    if draw(st.integers(0, 3)) == 0:
        translate.append({"leaving": draw(st.sampled_from(["lan", peers[0][1]])), "becomes": "interface"})
    if draw(st.integers(0, 3)) == 0:
        translate.append(
            {"to": draw(st.sampled_from(["self", "10.44.1.10"])), "service": "https", "goes-to": f"10.44.{count - 1}.10"}
        )
    if translate:
        keys["translate"] = translate
    if draw(st.integers(0, 3)) == 0:
        hop = draw(st.sampled_from(four))[0]
        routes.append(
            draw(st.sampled_from([{"next-hop": hop}, {"action": "discard"}])) | {"prefix": "10.44.1.0/24", "table": "side"}
        )
        entry: dict[str, Any] = {
            "protocol": draw(st.sampled_from(["any", "tcp"])),
            "candidates": [draw(st.sampled_from([hop, {"table": "side"}]))],
        }
        classifier = draw(st.sampled_from([*lists, ""]))
        if classifier:
            entry["list"] = classifier
        keys["policy-routes"] = [entry]
        keys["settings"] = {"own-policy-routes": draw(st.sampled_from(["yes", "no"]))}
    if draw(st.integers(0, 2)) == 0:
        keys["stateful"] = draw(st.sampled_from([["any"], ["tcp"], ["none"]]))
    return keys


SCHEMA = jsonschema.Draft202012Validator(json.loads((DATA / "journey.schema.json").read_text()))


def consistent(plan: mc.Plan, leg: mc.Leg) -> None:
    """A leg's record agrees with itself: who got it comes next, packets are handed on, the TTL goes down."""
    for here, there in zip(leg.hops, leg.hops[1:], strict=False):
        assert here.next_device == there.device
        assert here.leaving is not None
        assert there.arriving is not None
        assert plan.domains.of(here.device, here.leaving) == plan.domains.of(there.device, there.arriving)
    ttl = leg.packet.ttl
    for hop in leg.hops:
        for ruling in hop.rulings:
            assert ruling.saw.ttl <= ttl
            ttl = ruling.saw.ttl
            assert ruling.hop is None or ruling.did in ("routed", "steered")
            if ruling.did == "routed":
                table = plan.device(hop.device).table
                route = table.lookup(ruling.saw.destination)
                rows = [r for r in table if r.prefix.holds(ruling.saw.destination)]
                assert route is not None
                assert route.prefix.length == max(r.prefix.length for r in rows)
                assert hop.leaving in {None, *(h.interface for h in route.hops)}  # None: its TTL ran out there
    ends = [r for h in leg.hops for r in h.rulings if r.cause]
    if leg.fate != "looped":
        assert [r.cause for r in ends] == [leg.cause]
        assert ends[0] is leg.hops[-1].rulings[-1]


def answered_means_answered(journey: mc.Journey) -> None:
    """Whatever the code does: answered is that some leg ended at the sender with the reverse of what it sent."""
    sent = journey.there.packet
    home = [
        leg.arrived
        for leg in journey.legs[1:]
        if leg.fate == "delivered" and leg.end == journey.there.hops[0].device and leg.arrived.quoted is None
    ]
    reverse = [
        p
        for p in home
        if (p.source, p.destination, p.protocol) == (sent.destination, sent.source, sent.protocol)
        and (p.icmp >= 0 or (p.from_port, p.to_port) == (sent.to_port, sent.from_port))
        and (p.icmp < 0 or p.from_port == sent.from_port)
        and p.flags != "RST"
    ]
    assert journey.answered == (journey.there.fate == "delivered" and bool(reverse))


def no_error_about_an_error(journey: mc.Journey) -> None:
    """RFC 1122 3.2.2: nor to or from an address that names no single host."""
    for leg in journey.legs:
        if leg.packet.quoted is not None:
            assert leg.packet.quoted.quoted is None
            assert not leg.packet.destination.special
            assert not leg.packet.source.special


@examples(7, 210, suppress_health_check=[HealthCheck.too_slow])
@given(networks(), st.sampled_from(["ping", "https", "tcp/22", "udp/53", "gre"]), st.integers(1, 5), st.sampled_from([4, 6]))
def test_journeys_on_random_networks_agree_with_themselves(network: mc.Network, service: str, ttl: int, family: int) -> None:
    plan = mc.Plan(network)
    hosts = [n for n in network.devices if n.startswith("h")]
    for target in hosts[1:]:
        for limit in (64, ttl):
            journey = mc.trace(plan, "h0", target, service, ttl=limit, family=family)
            assert journey.cause in mc.CAUSES
            for leg in journey.legs:
                consistent(plan, leg)
            answered_means_answered(journey)
            no_error_about_an_error(journey)
            data = journey.to_dict(details=True)
            SCHEMA.validate(data)
            line = sentences.headline(journey)
            assert line.startswith(f"h0 → {target} ")
            assert line.endswith(f"[{journey.cause}]")
            shown = text.as_text(text.journey(journey, details=True))
            assert max(map(len, shown.splitlines())) <= 100
            assert mc.trace(mc.Plan(network), "h0", target, service, ttl=limit, family=family).to_dict(details=True) == data


@examples(12, 75, suppress_health_check=[HealthCheck.too_slow])
@given(networks())
def test_the_journey_that_is_taken_is_one_of_all_paths(network: mc.Network) -> None:
    plan = mc.Plan(network)
    taken = mc.trace(plan, "h0", "h1", "https")
    paths = many.every_path(plan, "h0", "h1", "https").paths
    shapes = [tuple(h.device for leg in p.journey.legs for h in leg.hops) for p in paths]
    assert tuple(h.device for leg in taken.legs for h in leg.hops) in shapes
    assert len({tuple(c.member for c in p.choices) for p in paths}) == len(paths)


@examples(15, 90, suppress_health_check=[HealthCheck.too_slow])
@given(
    networks(),
    st.lists(
        st.tuples(st.integers(0, 3), st.integers(0, 3), st.sampled_from(["ping", "https", "udp/53", "gre"]), st.integers(1, 3)),
        max_size=12,
    ),
)
def test_no_two_live_sessions_share_an_outer_flow(network: mc.Network, asked: list[tuple[int, int, str, int]]) -> None:
    """Flows after flows over one state: at no device would the answers of two sessions be the same packet."""
    from mossy_compass.state.state import State

    plan, state = mc.Plan(network), State()
    hosts = [n for n in network.devices if n.startswith("h")]
    flows = [(hosts[one % len(hosts)], hosts[other % len(hosts)], service, port) for one, other, service, port in asked]
    for sender, target, service, port in flows:
        mc.trace_question(plan, mc.ask(plan, sender, target, service, source_port=port), state)
    for name in network.devices:
        sessions = state.sessions(name)
        assert len({s.outer for s in sessions}) == len({s.inner for s in sessions}) == len(sessions)
        # A number is given once, to a session that lives or to one that is over: a refused conversation is over at its host.
        numbers = [s.number for s in sessions] + [e.session.number for e in state.ended(name)]
        assert len(numbers) == len(set(numbers))
        # Of a flow that is opened again after it was over, the latest end alone is remembered.
        assert len(set(flows)) < len(flows) or sorted(numbers) == list(range(1, len(numbers) + 1))


@examples(12, 75, suppress_health_check=[HealthCheck.too_slow])
@given(networks(), st.sampled_from(["ping", "https"]))
def test_renaming_a_device_changes_names_and_hashes_only(network: mc.Network, service: str) -> None:
    """r1 under another name, which keeps its place in the order of names: the same fates where nothing is shared."""
    names = {"r1": "r1x"}
    devices = {names.get(n, n): replace(d, name=names.get(n, n)) for n, d in network.devices.items()}
    segments = {n: replace(s, members=tuple((names.get(d, d), i) for d, i in s.members)) for n, s in network.segments.items()}
    renamed = replace(network, devices=devices, segments=segments)
    for target in ("h1", list(network.devices)[-1]):
        one, other = (mc.trace(n, "h0", target, service) for n in (network, renamed))
        if any(len(r.ways) > 1 for leg in one.legs for h in leg.hops for r in h.rulings):
            continue
        assert [names.get(h.device, h.device) for leg in one.legs for h in leg.hops] == [
            h.device for leg in other.legs for h in leg.hops
        ]
        assert (one.cause, one.symptom, one.seen_as) == (other.cause, other.symptom, other.seen_as)


@pytest.mark.parametrize("name", ["fernhollow.yaml", "grounds.yaml", "starter.yaml"])
def test_a_blank_line_changes_places_and_nothing_else(name: str) -> None:
    written = (DATA / name).read_bytes()
    one, other = mc.read_bytes(written, name), mc.read_bytes(b"\n\n" + written, name)
    assert one.network == other.network
    assert one.network is not None
    assert other.network is not None
    hosts = [d.name for d in one.network.devices.values() if d.kind == "host"]
    for sender, target in itertools.pairwise(hosts):
        mine, theirs = (mc.trace(n, sender, target) for n in (one.network, other.network))
        assert mine == theirs
        assert mine.because.mark is None or mine.because.mark.line == 0 or mine.because.mark.line + 2 == theirs.because.mark.line  # type: ignore[union-attr]


def test_the_same_bytes_under_another_hash_seed(tmp_path: Path) -> None:
    """Sets and dictionaries of names must not decide anything: the same output in two processes with other seeds."""
    (tmp_path / "g.yaml").write_bytes((DATA / "grounds.yaml").read_bytes())
    (tmp_path / "f.yaml").write_bytes((DATA / "fernhollow.yaml").read_bytes())
    commands = (
        ["grid", "f.yaml", "--format", "json"],
        ["trace", "g.yaml", "--from", "clerk", "--to", "almanac", "--details"],
        ["check", "g.yaml", "--format", "json"],
        ["tables", "g.yaml", "edge"],
    )
    script = f"from mossy_compass.cli.main import main\nfor a in {commands!r}:\n    main(a, standalone_mode=False)\n    print('==')"
    script = script.replace(
        "main(a, standalone_mode=False)", "\n    try: main(a, standalone_mode=False)\n    except SystemExit: pass"
    )
    outputs = {
        subprocess.run(
            [sys.executable, "-c", script], cwd=tmp_path, capture_output=True, env={**os.environ, "PYTHONHASHSEED": seed}
        ).stdout
        for seed in ("1", "2")
    }
    assert len(outputs) == 1
    (output,) = outputs
    assert [len(part) > 1 for part in output.split(b"==\n")] == [True] * len(commands) + [False]


def test_a_packet_is_a_value() -> None:
    one = Packet(6, mc.parse_address("10.40.1.1"), mc.parse_address("10.40.1.2"), 1, 2)
    assert one == Packet(6, mc.parse_address("10.40.1.1"), mc.parse_address("10.40.1.2"), 1, 2)
    assert len({one, one._replace(ttl=3)}) == 2


# --- networks built in Python ------------------------------------------------------------------------------


def test_faults_of_a_built_network_cite_the_python_line() -> None:
    b = mc.Builder("faulty")
    b.router("r", a="10.40.1.300/24")
    b.segment("s", "r/a", "ghost")
    with pytest.raises(mc.NetworkFileError) as caught:
        b.finish()
    found = [(p.code, p.mark.file, p.mark.line) for p in caught.value.problems]
    first = test_faults_of_a_built_network_cite_the_python_line.__code__.co_firstlineno
    assert found == [("value.wrong", "test_laws.py", first + 2), ("device.unknown", "test_laws.py", first + 3)]


def test_a_built_network_is_the_same_as_a_written_one() -> None:
    b = mc.Builder("Two rooms", local=["10.40.0.0/13"])
    b.group("desks", "desk")
    b.service("print", "tcp/9100")
    b.name("press.example", "10.40.2.10")
    b.access_list("in", {"permit": "tcp", "from": "desks", "service": "print", "log": True})
    b.router("r", a={"address": "10.40.1.1/24", "filter": {"arriving": "in"}}, b="10.40.2.1/24")
    b.device("desk", kind="host", address="10.40.1.10/24", gateway="10.40.1.1")
    b.host("press", ["10.40.2.10/24"], gateway="10.40.2.1", serves=["print"])
    b.segment("left", "desk", "r/a")
    b.segment("right", "press", "r/b", about="copper")
    written = """\
mossy-network: 1
title: Two rooms
local: [10.40.0.0/13]
groups: {desks: [desk]}
services: {print: [tcp/9100]}
names: {press.example: 10.40.2.10}
lists: {in: [{permit: tcp, from: desks, service: print, log: yes}]}
devices:
  r: {kind: router, interfaces: {a: {address: 10.40.1.1/24, filter: {arriving: in}}, b: 10.40.2.1/24}}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  press: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: print}
segments: {left: [desk, r/a], right: {members: [press, r/b], about: copper}}
"""
    one, other = b.finish(), mc.read_bytes(written.encode(), "w.yaml").network
    assert other is not None
    for asked in (("desk", "press.example", "print"), ("desk", "press", "ping")):
        mine, theirs = (mc.trace(n, *asked) for n in (one, other))
        assert [h.device for leg in mine.legs for h in leg.hops] == [h.device for leg in theirs.legs for h in leg.hops]
        assert (mine.cause, mine.because.words) == (theirs.cause, theirs.because.words)


def test_a_name_that_is_taken_is_refused() -> None:
    b = mc.Builder("twice")
    b.router("r", a="10.40.1.1/24")
    b.router("r", a="10.40.1.2/24")
    with pytest.raises(mc.NetworkFileError, match="'r' is already one of the devices"):
        b.finish()
