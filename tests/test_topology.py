"""Who hears whom, what is up, who is leased what, who knows which name: cases over small networks."""

from __future__ import annotations

from typing import Any

import pytest

import mossy_compass as mc
from mossy_compass.routing.compute import Routing
from tests.conftest import DATA

VLANS = """\
mossy-network: 1
devices:
  r:
    kind: router
    interfaces:
      trunk: {}
      v10: {address: 10.40.10.1/24, parent: trunk, vlan: 10}
      v20: {address: 10.40.20.1/24, parent: trunk, vlan: 20}
  sw:
    kind: switch
    interfaces: {up: {tagged: [10, 20]}, a: {untagged: 10}, b: {untagged: 20}, over: {tagged: 10}}
  sw2:
    kind: switch
    interfaces: {up: {tagged: [10, 20]}, c: {untagged: 10}}
  a: {kind: host, address: 10.40.10.10/24, gateway: 10.40.10.1}
  b: {kind: host, address: 10.40.20.10/24, gateway: 10.40.20.1}
  c: {kind: host, address: 10.40.10.11/24, gateway: 10.40.10.1}
segments:
  t: [r/trunk, sw/up]
  t2: [sw/over, sw2/up]
  pa: [sw/a, a]
  pb: [sw/b, b]
  pc: [sw2/c, c]
"""
MEMBERS = """\
mossy-network: 1
devices:
  r:
    kind: router
    interfaces:
      p1: {untagged: 10}
      p2: {untagged: 10}
      house: {address: 10.40.10.1/24, vlan: 10}
  sw: {kind: switch, ports: [p1, p2, p3]}
  a: {kind: host, address: 10.40.10.10/24, gateway: 10.40.10.1}
  b: {kind: host, address: 10.40.10.11/24, gateway: 10.40.10.1}
  c: {kind: host, address: 10.40.10.12/24, gateway: 10.40.10.1}
segments:
  x: [r/p1, a]
  y: [r/p2, sw/p1]
  z: [sw/p2, b]
  w: [sw/p3, c]
"""


def plan(text: str) -> mc.Plan:
    reading = mc.read_bytes(text.encode(), "t.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    return mc.Plan(reading.network)


# network, changes, sender, target, answered, cause, devices passed there
PATHS: list[tuple[str, list[tuple[str, str]], str, str, bool, str, str]] = [
    (VLANS, [], "a", "c", True, "echo.answered", "a c"),
    (VLANS, [], "a", "b", True, "echo.answered", "a r b"),
    (VLANS, [("a: {untagged: 10}", "a: {untagged: 20}")], "a", "c", False, "neighbour.silent", "a"),
    (VLANS, [("up: {tagged: [10, 20]}, a", "up: {tagged: 10}, a")], "a", "b", False, "neighbour.silent", "a r"),
    (VLANS, [("pa: [sw/a, a]", "pa: {members: [sw/a, a], state: down}")], "a", "c", False, "interface.down", "a"),
    (VLANS, [("t: [r/trunk", "t: {members: [r/trunk"), ("sw/up]", "sw/up], state: down}")], "a", "b", False, "neighbour.silent", "a"),
    (MEMBERS, [], "a", "c", True, "echo.answered", "a c"),
    (MEMBERS, [], "b", "r", True, "echo.answered", "b r"),
    (MEMBERS, [("p1: {untagged: 10}", "p1: {untagged: 11}")], "a", "c", False, "neighbour.silent", "a"),
    # the far end of the host's own cable is shut: the host's interface is down, and its routes with it
    (MEMBERS, [("p1: {untagged: 10}", "p1: {untagged: 10, state: disabled}")], "a", "c", False, "interface.down", "a"),
    # a VLAN interface is down when no member port of the VLAN is up
    (MEMBERS, [("x: [r/p1, a]", "x: {members: [r/p1, a], state: down}"), ("y: [r/p2, sw/p1]", "y: {members: [r/p2, sw/p1], state: down}")], "b", "r/house", False, "neighbour.silent", "b"),
]  # fmt: skip


@pytest.mark.parametrize("case", range(len(PATHS)))
def test_who_hears_whom(case: int) -> None:
    text, changes, sender, target, answered, cause, passed = PATHS[case]
    for old, new in changes:
        assert old in text
        text = text.replace(old, new, 1)
    journey = mc.trace(plan(text), sender, target)
    assert (journey.answered, journey.cause, " ".join(h.device for h in journey.there.hops)) == (answered, cause, passed)


def test_switches_are_told_to_look_at_no_list() -> None:
    journey = mc.trace(plan(VLANS), "a", "c")
    assert journey.there.hops[0].bridges == ("sw", "sw2")
    assert "sw, sw2 only bridge it: no list is examined there" in journey.there.hops[0].rulings[-1].note
    assert plan(VLANS).domains.of("r", "v20").name == "sw vlan 20"  # type: ignore[union-attr]


@pytest.mark.parametrize(
    "old, new, code",
    [
        ("parent: trunk, vlan: 10", "parent: trunk", "vlan.tag"),
        ("parent: trunk, vlan: 10", "parent: tronk, vlan: 10", "interface.unknown"),
        ("parent: trunk, vlan: 10", "parent: v20, vlan: 10", "vlan.parent"),
        ("a: {untagged: 10}", "a: {untagged: 10, address: 10.40.10.9/24}", "switch.address"),
        ("trunk: {}", "trunk: {untagged: 3, address: 10.40.9.9/24}", "vlan.member"),
        ("trunk: {}", "trunk: {loopback: yes, untagged: 3}", "loopback.port"),
        ("a: {untagged: 10}", "a: {untagged: 5000}", "value.wrong"),
        ("kind: switch\n", "kind: switch\n    hosts: {x: 203.0.113.9}\n", "device.kind"),
        ("kind: router\n", "kind: router\n    ports: [p9]\n", "device.kind"),
        ("kind: router\n", "kind: router\n    uplinks: {both: [trunk, trnk]}\n", "interface.unknown"),
        ("kind: router\n", "kind: router\n    uplinks: {v10: [trunk]}\n", "name.twice"),
        ("kind: router\n", "kind: router\n    leases: {v10: 10.40.11.5-10.40.11.9}\n", "lease.range"),
        ("kind: router\n", "kind: router\n    leases: {v1: 10.40.10.5-10.40.10.9}\n", "interface.unknown"),
        ("kind: router\n", "kind: router\n    ospf: {areas: {0: stub}}\n", "ospf.backbone"),
        ("kind: router\n", "kind: router\n    ospf: {areas: {x: stub}}\n", "value.wrong"),
        ("kind: router\n", "kind: router\n    ospf: {preference: 9}\n", "idle.not-enabled"),
        ("kind: router\n", "kind: router\n    rip: {preference: 9}\n", "idle.not-enabled"),
        (
            "kind: router\n",
            "kind: router\n    uplinks: {both: [trunk]}\n    routes: [{prefix: default, leaving: both, next-hop: 10.40.10.9}]\n",
            "route.group",
        ),
        ("pa: [sw/a, a]", "pa: {members: [sw/a, a], latency: fast}", "value.wrong"),
    ],
)
def test_faults_of_the_ground(old: str, new: str, code: str) -> None:
    assert old in VLANS
    found = mc.read_bytes(VLANS.replace(old, new, 1).encode(), "t.yaml").problems
    assert code in [p.code for p in found], [p.line() for p in found]


# --- leases and names --------------------------------------------------------------------------------------

GROUNDS = (DATA / "grounds.yaml").read_text()


def test_leases_lowest_free_address_by_name_of_client() -> None:
    routing = plan(GROUNDS).routing
    assert {c: str(x.address) for (c, _), x in routing.leases.held.items()} == {
        "painter": "10.40.11.100/24",
        "stroller": "10.40.11.101/24",
    }
    taken = GROUNDS.replace("guests: {address: 10.40.11.1/24", "guests: {address: [10.40.11.1/24, 10.40.11.100/24]")
    assert str(plan(taken).routing.leases.held["painter", "nic"].address) == "10.40.11.101/24"


@pytest.mark.parametrize(
    "old, new, cause, says",
    [
        (
            "      guests: {range: 10.40.11.100-10.40.11.150",
            "      staff: {range: 10.40.10.100-10.40.10.150",
            "source.none",
            "nobody on segment shed vlan 11 leases",
        ),
        ("10.40.11.100-10.40.11.150", "10.40.11.100-10.40.11.100", "source.none", "is used up"),
        (
            "leased: yes}\n  painter",
            "leased: yes, settings: {leased-default-route: no}}\n  painter",
            "route.none",
            "it knows 10.40.11.0/24",
        ),
    ],
)
def test_no_lease_or_half_a_lease_is_the_cause(old: str, new: str, cause: str, says: str) -> None:
    assert old in GROUNDS
    journey = mc.trace(plan(GROUNDS.replace(old, new)), "stroller", "203.0.113.80")
    assert journey.cause == cause
    assert says in journey.note


def test_rules_that_name_a_leased_host_follow_its_lease() -> None:
    text = GROUNDS.replace(
        "devices:\n", "groups: {walkers: [stroller]}\nlists: {l: [{deny: any, from: walkers}, {permit: any}]}\ndevices:\n", 1
    )
    text = text.replace("vlan: 11, zone: guests", "vlan: 11, filter: {arriving: l}, zone: guests")
    ready = plan(text)
    assert mc.trace(ready, "stroller", "203.0.113.80").cause == "filter.rule"
    assert mc.trace(ready, "painter", "203.0.113.80").answered


def test_a_name_is_looked_up_over_the_network_first() -> None:
    journey = mc.trace(plan(GROUNDS), "stroller", "almanac.example", "https")
    assert journey.answered
    assert journey.lookup is not None
    assert (journey.lookup.resolver, journey.lookup.addresses) == ("10.40.10.53", ("203.0.113.80", "203.0.113.81"))
    assert [h.device for h in journey.lookup.journey.there.hops] == ["stroller", "meadow-house", "namekeeper"]


BLOCK = "lists: {l: [{deny: udp, service: domain}, {permit: any}]}\ndevices:\n"


@pytest.mark.parametrize(
    "old, new, target, cause, lost",
    [
        ("", "", "nobody.example", "name.unknown", "lookup"),
        ("vlan: 11, zone: guests", "vlan: 11, filter: {arriving: l}, zone: guests", "almanac.example", "filter.rule", "lookup"),
        (
            "  desk-2: [shed/s2, namekeeper]",
            "  desk-2: {members: [shed/s2, namekeeper], state: down}",
            "almanac.example",
            "neighbour.silent",
            "lookup",
        ),
        ("resolvers: 10.40.10.53}\n\n  shed", "resolvers: 10.40.10.20}\n\n  shed", "almanac.example", "service.closed", "lookup"),
    ],
)
def test_a_failed_lookup_is_told_as_such(old: str, new: str, target: str, cause: str, lost: str) -> None:
    from mossy_compass.report import sentences

    assert old in GROUNDS
    ready = plan(GROUNDS.replace("devices:\n", BLOCK, 1).replace(old, new, 1) if old else GROUNDS)
    journey = mc.trace(ready, "stroller", target, "https")
    assert (journey.cause, journey.lost, journey.symptom) == (cause, lost, "name not found")
    assert "not sent, the LOOKUP" in sentences.headline(journey)
    assert mc.trace(ready, "stroller", "203.0.113.80", "https").answered  # by address: it was the lookup


def test_the_second_resolver_is_asked_when_the_first_is_silent() -> None:
    text = GROUNDS.replace(
        "gateway: 10.40.10.1, resolvers: 10.40.10.53}", "gateway: 10.40.10.1, resolvers: [10.40.10.99, 10.40.10.53]}"
    )
    journey = mc.trace(plan(text), "clerk", "almanac.example", "https")
    assert journey.answered
    assert journey.lookup is not None
    assert journey.lookup.resolver == "10.40.10.53"


# --- routes ------------------------------------------------------------------------------------------------


def star(routes: list[dict[str, Any]], **keys: Any) -> Routing:
    """A router with three neighbours, n1 to n3."""
    b = mc.Builder("star")
    ports: dict[str, Any] = {f"p{n}": keys.pop(f"p{n}", f"10.40.{n}.1/24") for n in (1, 2, 3)}
    b.router("r", routes=routes, keys=keys, **ports)
    for n in (1, 2, 3):
        b.router(f"n{n}", up=f"10.40.{n}.2/24")
        b.segment(f"s{n}", f"r/p{n}", f"n{n}/up")
    return Routing(b.finish())


def ways(routing: Routing, address: str) -> list[str]:
    route = routing.table("r").lookup(mc.parse_address(address))
    return [h.words() for h in route.hops] if route else []


def via(prefix: str, hop: str, **more: Any) -> dict[str, Any]:
    return {"prefix": prefix, "next-hop": hop, **more}


@pytest.mark.parametrize(
    "routes, keys, address, expected",
    [
        ([via("10.50.0.0/16", "10.40.1.2"), via("10.50.1.0/24", "10.40.2.2")], {}, "10.50.1.1", ["by p2 to 10.40.2.2"]),
        ([via("10.50.0.0/16", "10.40.1.2", preference=5), via("10.50.0.0/16", "10.40.2.2")], {}, "10.50.1.1", ["by p2 to 10.40.2.2"]),
        ([via("10.50.0.0/16", "10.40.1.2", metric=5), via("10.50.0.0/16", "10.40.2.2")], {}, "10.50.1.1", ["by p2 to 10.40.2.2"]),
        ([via("10.50.0.0/16", "10.40.1.2"), via("10.50.0.0/16", "10.40.2.2")], {}, "10.50.1.1", ["by p1 to 10.40.1.2", "by p2 to 10.40.2.2"]),
        # recursive: the next hop is some routes away
        ([via("10.50.0.0/16", "10.60.0.9"), via("10.60.0.0/24", "10.40.3.2")], {}, "10.50.1.1", ["by p3 to 10.40.3.2 (towards 10.60.0.9)"]),
        # a next hop that only the route itself, or only a default route, leads to is none
        ([via("10.50.0.0/16", "10.50.0.9")], {}, "10.50.1.1", []),
        ([via("10.50.0.0/16", "10.60.0.9"), via("default", "10.40.3.2")], {}, "10.50.1.1", ["by p3 to 10.40.3.2"]),
        ([{"prefix": "10.50.0.0/16", "leaving": "p2"}], {}, "10.50.1.1", ["by p2, on the segment"]),
        ([{"prefix": "10.50.0.0/16", "leaving": "p2"}], {"settings": {"interface-route": "peer"}}, "10.50.1.1", ["by p2 to 10.40.2.2"]),
        ([{"prefix": "default", "leaving": "both"}], {"uplinks": {"both": ["p1", "p2"]}, "settings": {"interface-route": "peer"}}, "10.50.1.1", ["by p1 to 10.40.1.2", "by p2 to 10.40.2.2"]),
        # a member that is down is left out
        ([{"prefix": "default", "leaving": "both"}], {"uplinks": {"both": ["p1", "p2"]}, "settings": {"interface-route": "peer"}, "p1": {"address": "10.40.1.1/24", "state": "disabled"}}, "10.50.1.1", ["by p2 to 10.40.2.2"]),
        # written before the interface has an address: inactive
        ([{"prefix": "10.50.0.0/16", "leaving": "p2"}], {"p2": {}}, "10.50.1.1", []),
        # the standby takes over when the first is down
        ([via("default", "10.40.1.2"), via("default", "10.40.2.2", preference=9)], {"p1": {"address": "10.40.1.1/24", "state": "far-end-down"}}, "10.50.1.1", ["by p2 to 10.40.2.2"]),
    ],
)  # fmt: skip
def test_static_routes(routes: list[dict[str, Any]], keys: dict[str, Any], address: str, expected: list[str]) -> None:
    assert ways(star(routes, **keys), address) == expected


def test_each_loser_has_its_reason() -> None:
    routes = [
        via("10.50.1.0/24", "10.40.1.2"),
        via("10.50.1.0/24", "10.40.2.2", preference=9),
        via("10.50.1.0/24", "10.40.3.2", metric=7),
        via("10.50.0.0/16", "10.40.2.2"),
        via("10.0.0.0/8", "10.99.0.1"),
    ]
    why = {
        f"{x.route.prefix} {x.route.preference}/{x.route.metric}": x.words
        for x in star(routes).table("r").losers(mc.parse_address("10.50.1.1"))
    }
    assert why == {
        "10.50.1.0/24 9/0": "preference 9 is higher than 1 of the static route",
        "10.50.1.0/24 1/7": "metric 7 is higher than 0",
        "10.50.0.0/16 1/0": "prefix length 16 is shorter than 24",
        "10.0.0.0/8 1/0": "inactive: next hop 10.99.0.1 is on no connected subnet and no route leads to it",
    }


def test_another_table_is_apart_from_the_main_one() -> None:
    routing = star([via("10.50.0.0/16", "10.40.1.2", table="side")])
    assert routing.table_names("r") == ["main", "side"]
    assert ways(routing, "10.50.0.1") == []
    assert [str(r.prefix) for r in routing.table("r", "side")] == ["10.50.0.0/16"]


def test_learned_rows_compete_with_written_ones() -> None:
    """A static route beats an OSPF one by preference, and loses to it with a higher one; both are remembered."""
    for preference, winner, loser in ((1, "static", "ospf"), (200, "ospf", "static")):
        b = mc.Builder("x")
        route = via("10.44.0.0/24", "10.40.0.2", preference=preference)
        b.router("a", routes=[route], up={"address": "10.40.0.1/30", "ospf": 0})
        b.router("b", up={"address": "10.40.0.2/30", "ospf": 0}, lan={"address": "10.44.0.1/24", "ospf": {"passive": True}})
        b.segment("s", "a/up", "b/up")
        b.segment("l", "b/lan")
        table = Routing(b.finish()).table("a")
        found = table.lookup(mc.parse_address("10.44.0.9"))
        assert found is not None
        assert found.origin == winner
        assert [x.route.origin for x in table.losers(mc.parse_address("10.44.0.9"))] == [loser]
        assert len(table) == len(list(table)) == 3


# --- sharing -----------------------------------------------------------------------------------------------


PINNED = [[1, 0, 1, 1, 0, 0, 1, 0, 1, 0, 0, 0, 1, 1, 0, 1], [2, 1, 0, 2, 1, 1, 2, 0, 0, 1, 2, 1, 0, 2, 0, 1]]


def diamond(sharing: str, broken: bool = False) -> mc.Plan:
    b = mc.Builder("diamond")
    for host, net in (("left", 1), ("right", 2)):
        b.host(host, [f"10.44.{net}.10/24"], gateway=f"10.44.{net}.1")
    two = [via("10.44.2.0/24", "10.40.1.2"), via("10.44.2.0/24", "10.40.2.2")]
    b.router("in", routes=two, keys={"settings": {"sharing": sharing}}, lan="10.44.1.1/24", up="10.40.1.1/24", down="10.40.2.1/24")
    for n, name in ((1, "upper"), (2, "lower")):
        routes = [via("10.44.1.0/24", f"10.40.{n}.1"), via("10.44.2.0/24", f"10.40.{n + 2}.1")]
        b.router(name, routes=routes[: 1 if broken and n == 2 else 2], a=f"10.40.{n}.2/24", b=f"10.40.{n + 2}.2/24")
    b.router("out", routes=[via("10.44.1.0/24", "10.40.3.2")], up="10.40.3.1/24", down="10.40.4.1/24", lan="10.44.2.1/24")
    b.segment("l", "left", "in/lan")
    b.segment("u", "in/up", "upper/a")
    b.segment("d", "in/down", "lower/a")
    b.segment("uo", "upper/b", "out/up")
    b.segment("do", "lower/b", "out/down")
    b.segment("r", "right", "out/lan")
    return mc.Plan(b.finish())


def test_sharing_is_by_the_stated_hash_of_the_stated_fields() -> None:
    """Recomputed here from docs/routing.md: the salt is FNV-1a of the name; each value is mixed in by two multiplications."""
    bits = (1 << 64) - 1

    def by_hand(device: str, values: list[int]) -> int:
        state = 0xCBF29CE484222325
        for byte in device.encode():
            state = (state ^ byte) * 0x100000001B3 & bits
        for value in values:
            state = (state ^ value) * 0x9E3779B97F4A7C15 & bits
            state = (state ^ state >> 32) * 0xD6E8FEB86659FD93 & bits
            state ^= state >> 32
        return state

    source, destination = (mc.parse_address(a).value for a in ("10.44.1.10", "10.44.2.10"))
    fields = {
        "flow": [0, source, 0, destination, 6, -1, 443],
        "source": [0, source],
        "source-destination": [0, source, 0, destination],
    }
    for method, values in fields.items():
        ready = diamond(method)
        for port in (50000, 50001, 50002, 50003):
            expected = ("upper", "lower")[by_hand("in", [port if v == -1 else v for v in values]) % 2]
            journey = mc.trace(ready, "left", "right", "tcp/443", source_port=port)
            assert journey.there.hops[2].device == expected


def test_choices_are_the_same_for_ever() -> None:
    """Pinned: a release that chose otherwise would move flows from one uplink to another."""
    from mossy_compass.model.network import name_hash as salt_of
    from mossy_compass.model.settings import Sharing
    from mossy_compass.plan.balance import share

    packets = [mc.Packet(6, mc.Address(4, 10), mc.Address(4, 20), port, 443) for port in range(50000, 50016)]
    six = [mc.Packet(17, mc.Address(6, 1 << 100), mc.Address(6, 2 << 100), port, 53) for port in range(50000, 50016)]
    assert [share(p, Sharing.FLOW, 2, salt_of("gate")) for p in packets] == PINNED[0]
    assert [share(p, Sharing.FLOW, 3, salt_of("edge")) for p in six] == PINNED[1]


def test_choices_at_two_devices_in_a_row_are_independent() -> None:
    """Of 4,000 flows over 2 x 2 ways each way gets about a quarter: no device's choice follows from the other's."""
    from collections import Counter

    from mossy_compass.model.network import name_hash as salt_of
    from mossy_compass.model.settings import Sharing
    from mossy_compass.plan.balance import share

    for first, second in (("a", "b"), ("core-1", "core-2"), ("r1", "r2"), ("gate", "gate-2")):
        for varied in ("source_port", "source"):
            counts: Counter[tuple[int, int]] = Counter()
            for number in range(4000):
                packet = mc.Packet(6, mc.Address(4, 10 << 24), mc.Address(4, 20), 40000, 443)
                change = {"from_port": number} if varied == "source_port" else {"source": mc.Address(4, (10 << 24) + number)}
                packet = packet._replace(**change)
                counts[tuple(share(packet, Sharing.FLOW, 2, salt_of(n)) for n in (first, second))] += 1  # type: ignore[index]
            assert len(counts) == 4
            assert min(counts.values()) > 880  # five standard deviations below 1000
            assert max(counts.values()) < 1120


def test_every_path_says_when_fates_differ() -> None:
    from mossy_compass.report import manytext, text
    from mossy_compass.walk import many

    found = many.every_path(diamond("flow", broken=True), "left", "right")
    assert found.whole
    assert {k: len(v) for k, v in found.outcomes().items()} == {("answered", "echo.answered"): 1, ("dropped", "route.none"): 1}
    shown = text.as_text(manytext.paths(found, ("left", "right", "ping")))
    assert "THEIR FATES DIFFER" in shown.splitlines()[0]
    assert [c.hop.words() for p in found.paths for c in p.choices] == ["by up to 10.40.1.2", "by down to 10.40.2.2"]


@pytest.mark.parametrize("sharing, alone", [("flow", False), ("source", True)])
def test_flows_are_counted_by_member(sharing: str, alone: bool) -> None:
    from mossy_compass.walk import many

    found = many.flows(diamond(sharing), "left", "right", "tcp/443", 400)
    counts = sorted(n for s in found.shares for _, n in s.counts)
    assert sum(counts) == 400
    assert counts == [0, 400] if alone else counts[0] > 150
    assert found.outcomes == (("refused", "service.closed", 400),)
    with pytest.raises(mc.QuestionError):
        many.flows(diamond(sharing), "left", "right", "tcp/443", 0)


def test_large_packets_meet_the_smallest_mtu() -> None:
    text = GROUNDS.replace("state: up", "").replace(
        "fibre: {members: [edge/fibre, world/fibre], latency: 4 ms}", "fibre: {members: [edge/fibre, world/fibre], mtu: 1400}"
    )
    journey = mc.trace(plan(text), "clerk", "almanac", "https", size=1500)
    assert (journey.cause, journey.symptom) == ("mtu.exceeded", "unreachable")
    assert "cable fibre takes at most 1400 bytes" in journey.because.words
    assert "too-big" in journey.symptom_note
    assert mc.trace(plan(text), "clerk", "almanac", "https", size=1400).answered


def test_time_on_the_cables() -> None:
    assert mc.trace(plan(GROUNDS), "clerk", "almanac", "https").latency_ms == 8.0


def test_a_device_answers_itself() -> None:
    journey = mc.trace(plan(GROUNDS), "edge", "edge/anchor")
    assert journey.answered
    assert [h.device for h in journey.there.hops] == ["edge"]


# cables between switches

CABLES = """\
mossy-network: 1
devices:
  r: {kind: router, interfaces: {up: 10.41.9.1/24, lan: {parent: port, vlan: 7, address: 10.41.1.1/24}, port: {}, wide: {address: 10.41.2.1/24, vlan: 9}, w1: {untagged: 9}}}
  far: {kind: host, address: 10.41.9.9/24, gateway: 10.41.9.1}
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  ben: {kind: host, address: 10.41.1.11/24, gateway: 10.41.1.1}
  cat: {kind: host, address: 10.41.2.12/24, gateway: 10.41.2.1}
  s1: {kind: switch, interfaces: {trunk: {tagged: [7]}, a: {untagged: 7}, b: {tagged: [7]}, c: {tagged: [7]}}}
  s2: {kind: switch, interfaces: {a: {tagged: [7]}, ben: {untagged: 7}, c: {tagged: [7]}}}
  s3: {kind: switch, interfaces: {a: {tagged: [7]}, b: {tagged: [7]}}}
segments:
  up: {members: [r/up, far], latency: 3}
  trunk: {members: [r/port, s1/trunk], latency: 5}
  desk: {members: [s1/a, ann], latency: 1}
  long: {members: [s1/b, s2/a], latency: 100, mtu: 1000}
  last: {members: [s2/ben, ben], latency: 2#MTU}
  side: {members: [s1/c, s3/a], latency: 7}
  round: {members: [s3/b, s2/c], latency: 7}
  bay: {members: [r/w1, cat], latency: 11}
"""
CROSSED = [
    # from, to; milliseconds there and back, switches of the last hop
    ("ann", "ben", 2 * (1 + 100 + 2), ("s1", "s2")),  # over the fewest cables, not round by s3
    ("ben", "ann", 2 * (1 + 100 + 2), ("s2", "s1")),
    ("ann", "10.41.1.1", 2 * (1 + 5), ("s1",)),
    ("far", "ben", 2 * (3 + 5 + 100 + 2), ("s1", "s2")),
    ("cat", "10.41.2.1", 2 * 11, ()),  # the router bridges for itself
    ("far", "10.41.9.1", 2 * 3, ()),
]


@pytest.mark.parametrize(("one", "other", "time", "switches"), CROSSED)
def test_a_frame_takes_the_time_of_every_cable_that_it_crosses(
    one: str, other: str, time: float, switches: tuple[str, ...]
) -> None:
    reading = mc.read_bytes(CABLES.replace("#MTU", "").encode(), "c.yaml")
    assert reading.network is not None, reading.problems
    journey = mc.trace(reading.network, one, other, "ping", size=900)
    assert journey.answered
    assert journey.latency_ms == time
    assert journey.there.hops[-2].bridges == switches


NARROW = [
    # from, to, size, MTU of the last cable; whether it passes, the headline's words, what the sender sees
    ("ann", "ben", 1000, "", True, "", "answered"),
    ("ann", "ben", 1001, "", False, "the cable long takes at most 1000 bytes (c.yaml:15)", "silence"),
    ("far", "ben", 1001, "", False, "the cable long takes at most 1000 bytes", "silence"),
    ("ben", "ann", 1001, ", mtu: 900", False, "the cable last takes at most 900 bytes", "unreachable"),  # its own cable
    ("ann", "ben", 901, ", mtu: 900", False, "the cable last takes at most 900 bytes", "silence"),
    ("ann", "10.41.1.1", 1400, ", mtu: 900", True, "", "answered"),
    ("far", "ann", 1501, "", False, "the MTU of far/nic is 1500 bytes", "unreachable"),  # its own system says so
]


@pytest.mark.parametrize(("one", "other", "size", "mtu", "passes", "words", "symptom"), NARROW)
def test_the_narrowest_cable_between_decides_and_is_named(
    one: str, other: str, size: int, mtu: str, passes: bool, words: str, symptom: str
) -> None:
    reading = mc.read_bytes(CABLES.replace("#MTU", mtu).encode(), "c.yaml")
    assert reading.network is not None, reading.problems
    journey = mc.trace(reading.network, one, other, "ping", size=size)
    assert journey.answered is passes, str(journey)
    assert words in str(journey)
    assert journey.symptom.value == symptom
    assert passes or journey.cause == "mtu.exceeded"


def test_a_router_tells_of_its_own_cable_and_nobody_of_one_between_switches() -> None:
    text = CABLES.replace("#MTU", "").replace(
        "trunk: {members: [r/port, s1/trunk], latency: 5}", "trunk: {members: [r/port, s1/trunk], mtu: 800}"
    )
    network = mc.read_bytes(text.encode(), "c.yaml").network
    assert network is not None
    told = mc.trace(network, "far", "ben", "ping", size=900)
    assert told.symptom.value == "unreachable"
    assert "the cable trunk takes at most 800 bytes" in str(told)
    whole = mc.read_bytes(CABLES.replace("#MTU", "").encode(), "c.yaml").network
    assert whole is not None
    silent = mc.trace(whole, "far", "ben", "ping", size=1200)
    assert silent.symptom.value == "silence"
    assert "tells nobody" in silent.note
