"""OSPF and RIP: cases worked by hand with the RFC section, and agreement of the shortest paths with networkx."""

from __future__ import annotations

from typing import Any

import networkx as nx
import pytest
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.packet.address import parse_prefix
from mossy_compass.routing.compute import Routing
from mossy_compass.routing.ospf import Ospf
from mossy_compass.routing.redistribution import External
from tests.conftest import DATA
from tests.effort import examples

Ways = dict[str, tuple[str, int, list[str]]]


def routes(routing: Routing, device: str) -> Ways:
    """Prefix to origin, metric and next hops, of what was learned."""
    return {
        str(r.prefix): (r.origin, r.metric, sorted(str(h.address) for h in r.hops))
        for r in routing.table(device)
        if r.origin.startswith(("ospf", "rip"))
    }


def build(text: str) -> Routing:
    reading = mc.read_bytes(text.encode(), "o.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    return Routing(reading.network)


TRIANGLE = """\
mossy-network: 1
devices:
  a:
    kind: router
    interfaces:
      b: {address: 10.40.0.1/30, ospf: {cost: 5, network: point-to-point}}
      c: {address: 10.40.0.5/30, ospf: {cost: 20, network: point-to-point}}
      lan: {address: 10.40.1.1/24, ospf: {cost: 3, passive: yes}}
  b:
    kind: router
    interfaces:
      a: {address: 10.40.0.2/30, ospf: {cost: 7, network: point-to-point}}
      c: {address: 10.40.0.9/30, ospf: {cost: 8, network: point-to-point}}
      lo: {address: 10.40.9.2/24, loopback: yes, ospf: 0}
  c:
    kind: router
    interfaces:
      a: {address: 10.40.0.6/30, ospf: {cost: 15, network: point-to-point}}
      b: {address: 10.40.0.10/30, ospf: {cost: 8, network: point-to-point}}
      lan: {address: 10.40.3.1/24, ospf: {cost: 4}}
      lo: {address: 10.40.8.3/24, loopback: yes, ospf: {network: point-to-point}}
segments:
  ab: [a/b, b/a]
  ac: [a/c, c/a]
  bc: [b/c, c/b]
  alan: [a/lan]
  clan: [c/lan]
"""


def test_one_area_point_to_point() -> None:
    """RFC 2328 16.1: costs are those of the sending side; a stub network adds its own."""
    routing = build(TRIANGLE)
    # a to c's lan: by b 5 + 8 + 4 = 17, straight 20 + 4 = 24
    assert routes(routing, "a") == {
        "10.40.3.0/24": ("ospf", 17, ["10.40.0.2"]),
        "10.40.0.8/30": ("ospf", 13, ["10.40.0.2"]),
        "10.40.9.2/32": ("ospf", 5, ["10.40.0.2"]),  # 12.4.1: a loopback is announced as a host, at cost 0
        "10.40.8.0/24": ("ospf", 23, ["10.40.0.2"]),  # unless it is said to be a network of its own: 13 + 10
    }
    # c to a's lan: straight 15 + 3 = 18, by b 8 + 7 + 3 = 18: both (16.1.1, equal cost)
    assert routes(routing, "c")["10.40.1.0/24"] == ("ospf", 18, ["10.40.0.5", "10.40.0.9"])
    # c to the a-b link: by b 8 + 7 (b's own end) = 15, by a 15 + 5 = 20
    assert routes(routing, "c")["10.40.0.0/30"] == ("ospf", 15, ["10.40.0.9"])


def test_what_is_down_is_not_announced() -> None:
    routing = build(TRIANGLE.replace("ab: [a/b, b/a]", "ab: {members: [a/b, b/a], state: down}"))
    assert routes(routing, "a")["10.40.3.0/24"] == ("ospf", 24, ["10.40.0.6"])
    assert "10.40.0.0/30" not in routes(routing, "c")


BROADCAST = """\
mossy-network: 1
devices:
  a: {kind: router, interfaces: {m: {address: 10.40.1.1/24, ospf: {cost: 10}}, x: {address: 10.40.10.1/24, ospf: {passive: yes}}}}
  b: {kind: router, interfaces: {m: {address: 10.40.1.2/24, ospf: {cost: 20}}, x: {address: 10.40.20.1/24, ospf: {passive: yes}}}}
  c: {kind: router, interfaces: {m: {address: 10.40.1.3/24, ospf: {cost: 30}}, y: {address: 10.40.20.2/24, ospf: {passive: yes}}}}
segments:
  meadow: [a/m, b/m, c/m]
  ax: [a/x]
  shared: [b/x, c/y]
"""


def test_broadcast_network_costs_nothing_on_the_way_in() -> None:
    """RFC 2328 12.4.2: from a network to its routers the cost is 0, so a reaches both at 10 and shares between them."""
    routing = build(BROADCAST)
    assert routes(routing, "a")["10.40.20.0/24"] == ("ospf", 20, ["10.40.1.2", "10.40.1.3"])
    assert routes(routing, "b")["10.40.10.0/24"] == ("ospf", 30, ["10.40.1.1"])
    assert routes(routing, "c")["10.40.10.0/24"] == ("ospf", 40, ["10.40.1.1"])


@pytest.mark.parametrize(
    "old, new, why",
    [
        ("10.40.1.1/24, ospf: {cost: 10}", "10.40.1.1/24, ospf: {cost: 10, area: 7}", "areas 7 and 0 differ"),
        ("10.40.1.1/24, ospf: {cost: 10}", "10.40.1.1/24, ospf: {passive: yes}", "passive"),
        ("10.40.1.1/24, ospf: {cost: 10}", "10.40.1.1/24, ospf: {network: point-to-point}", "one end is point-to-point"),
        ("10.40.1.1/24, ospf: {cost: 10}", "10.40.1.1/24, mtu: 1400, ospf: {cost: 10}", "MTU 1400 and 1500 differ"),
        ("10.40.1.1/24, ospf: {cost: 10}", "10.40.1.1/25, ospf: {cost: 10}", "subnets or masks differ"),
        ("a: {kind: router,", "a: {kind: router, ospf: {areas: {0: normal}},", ""),
    ],
)
def test_who_becomes_a_neighbour(old: str, new: str, why: str) -> None:
    """RFC 2328 10.5 and 10.6."""
    routing = build(BROADCAST.replace(old, new, 1))
    silent = [s for s in routing.settled()[0][4].silent if "a" in (s.one[0], s.other[0])]
    assert all(why in s.why for s in silent)
    if not why:
        assert silent == []
        return
    assert len(silent) == 2
    assert "10.40.20.0/24" not in routes(routing, "a")


AREAS = """\
mossy-network: 1
devices:
  core: {kind: router, interfaces: {e: {address: 10.40.0.1/30, ospf: {cost: 10}}, w: {address: 10.40.0.5/30, ospf: {cost: 10}}, out: 198.51.100.2/30}, ospf: {default-route: {metric: 7}, redistribute: {static: {metric: 50, type: 1}, connected: 90}}, routes: [{prefix: default, next-hop: 198.51.100.1}, {prefix: 192.0.2.0/24, next-hop: 198.51.100.1}]}
  east: {kind: router, interfaces: {c: {address: 10.40.0.2/30, ospf: {cost: 10}}, d: {address: 10.40.1.1/30, ospf: {area: 1, cost: 4}}}}
  west: {kind: router, interfaces: {c: {address: 10.40.0.6/30, ospf: {cost: 10}}, d: {address: 10.40.2.1/30, ospf: {area: 2, cost: 6}}}, ospf: {areas: {2: STUB}}}
  far-east: {kind: router, interfaces: {u: {address: 10.40.1.2/30, ospf: {area: 1, cost: 4}}, lan: {address: 10.40.11.1/24, ospf: {area: 1, cost: 1}}}}
  far-west: {kind: router, interfaces: {u: {address: 10.40.2.2/30, ospf: {area: 2, cost: 6}}, lan: {address: 10.40.12.1/24, ospf: {area: 2, cost: 1}}}, ospf: {areas: {2: STUB}}}
  upstream: {kind: router, interfaces: {in: 198.51.100.1/30}}
segments:
  ce: [core/e, east/c]
  cw: [core/w, west/c]
  ed: [east/d, far-east/u]
  wd: [west/d, far-west/u]
  el: [far-east/lan]
  wl: [far-west/lan]
  out: [core/out, upstream/in]
"""


def test_areas_summaries_and_externals() -> None:
    """RFC 2328 16.2 (summaries through the backbone) and 16.4 (external type 1 adds the way, type 2 does not)."""
    got = routes(build(AREAS.replace("STUB", "normal")), "far-east")
    assert got == {
        "10.40.0.0/30": ("ospf inter-area", 14, ["10.40.1.1"]),  # 4 + 10
        "10.40.0.4/30": ("ospf inter-area", 24, ["10.40.1.1"]),  # 4 + 10 + 10
        "10.40.2.0/30": ("ospf inter-area", 30, ["10.40.1.1"]),  # 4 + 10 + 10 + 6
        "10.40.12.0/24": ("ospf inter-area", 31, ["10.40.1.1"]),
        "0.0.0.0/0": ("ospf external 2", 7, ["10.40.1.1"]),
        "192.0.2.0/24": ("ospf external 1", 64, ["10.40.1.1"]),  # 4 + 10 to core, and 50
        "198.51.100.0/30": ("ospf external 2", 90, ["10.40.1.1"]),
    }


def test_stub_areas() -> None:
    """RFC 2328 12.4.3.1: a stub hears no externals but a default, at cost 1 from its border; a totally stub nothing else."""
    stub = routes(build(AREAS.replace("STUB", "stub")), "far-west")
    assert stub["0.0.0.0/0"] == ("ospf inter-area", 7, ["10.40.2.1"])
    assert stub["10.40.11.0/24"] == ("ospf inter-area", 31, ["10.40.2.1"])
    assert "192.0.2.0/24" not in stub
    total = routes(build(AREAS.replace("STUB", "totally-stub")), "far-west")
    assert total == {"0.0.0.0/0": ("ospf inter-area", 7, ["10.40.2.1"])}


def test_areas_without_a_backbone_do_not_hear_of_each_other() -> None:
    """RFC 2328 3.1: summaries go through area 0."""
    text = AREAS.replace("STUB", "normal").replace("ospf: {cost: 10}", "ospf: {area: 3, cost: 10}")
    assert "10.40.12.0/24" not in routes(build(text), "far-east")


def test_intra_area_beats_inter_area_at_any_cost() -> None:
    """RFC 2328 11: path types first, cost second."""
    text = """\
mossy-network: 1
devices:
  a: {kind: router, interfaces: {b: {address: 10.40.0.1/30, ospf: {area: 0, cost: 1}}, b1: {address: 10.40.1.1/30, ospf: {area: 1, cost: 500}}}}
  b: {kind: router, interfaces: {a: {address: 10.40.0.2/30, ospf: {area: 0, cost: 1}}, a1: {address: 10.40.1.2/30, ospf: {area: 1, cost: 1}}, lan: {address: 10.40.9.1/24, ospf: {area: 1, cost: 1}}}}
segments: {x: [a/b, b/a], y: [a/b1, b/a1], z: [b/lan]}
"""
    assert routes(build(text), "a")["10.40.9.0/24"] == ("ospf", 501, ["10.40.1.2"])


def test_version_3_uses_link_local_next_hops() -> None:
    """RFC 5340 2.5 and 4.8.2."""
    text = """\
mossy-network: 1
devices:
  a: {kind: router, interfaces: {b: {address: ["2001:db8:1::1/64", "fe80::a/64"], ospf: 0}}}
  b: {kind: router, interfaces: {a: {address: ["2001:db8:1::2/64", "fe80::b/64"], ospf: 0}, lan: {address: "2001:db8:2::1/64", ospf: {cost: 2}}}}
segments: {x: [a/b, b/a], z: [b/lan]}
"""
    assert routes(build(text), "a") == {"2001:db8:2::/64": ("ospf", 12, ["fe80::b"])}


@st.composite
def graphs(draw: st.DrawFn) -> list[tuple[int, int, int, int]]:
    count = draw(st.integers(2, 9))
    edges = [(n, draw(st.integers(0, n - 1)), draw(st.integers(1, 5)), draw(st.integers(1, 5))) for n in range(1, count)]
    pairs = st.tuples(st.integers(0, count - 1), st.integers(0, count - 1), st.integers(1, 5), st.integers(1, 5))
    return edges + [e for e in draw(st.lists(pairs, max_size=12)) if e[0] != e[1]]


@examples(60, 180)
@given(graphs(), st.booleans())
def test_distances_and_equal_ways_agree_with_networkx(edges: list[tuple[int, int, int, int]], broadcast: bool) -> None:
    """On random graphs with parallel links: the cost to every router's loopback, and the set of first hops."""
    count = 1 + max(max(a, b) for a, b, _, _ in edges)
    builder = mc.Builder("random")
    ports: dict[int, dict[str, Any]] = {
        n: {"lo": {"address": f"10.99.0.{n}/32", "loopback": True, "ospf": 0}} for n in range(count)
    }
    kind = "broadcast" if broadcast else "point-to-point"
    graph: nx.DiGraph[int] = nx.DiGraph()
    ends: dict[tuple[int, int], list[tuple[str, int]]] = {}
    for number, (a, b, out, back) in enumerate(edges):
        for here, there, cost, host in ((a, b, out, 1), (b, a, back, 2)):
            address = f"10.40.{number}.{host}/24"
            ports[here][f"p{number}"] = {"address": address, "ospf": {"cost": cost, "network": kind}}
            ends.setdefault((here, there), []).append((f"10.40.{number}.{3 - host}", cost))
            if cost < graph.get_edge_data(here, there, {"weight": 99})["weight"]:
                graph.add_edge(here, there, weight=cost)
        builder.segment(f"s{number}", f"r{a}/p{number}", f"r{b}/p{number}")
    for n in range(count):
        builder.router(f"r{n}", **ports[n])
    routing = Routing(builder.finish())
    for source in range(count):  # the arrays and the general way of computing give the same rows
        general = {g: (cost, set(hops)) for g, (cost, hops, _) in routing.settled()[0][4].ways(f"r{source}").items() if hops}
        rows = {r.prefix: (r.metric, set(r.hops)) for r in routing.table(f"r{source}") if r.origin == "ospf"}
        assert rows == {g: v for g, v in general.items() if routing.table(f"r{source}").exact(g).origin == "ospf"}  # type: ignore[arg-type, union-attr]
    lengths = dict(nx.all_pairs_dijkstra_path_length(graph))
    for source in range(count):
        table = routing.table(f"r{source}")
        for target in range(count):
            if source == target:
                continue
            route = table.exact(parse_prefix(f"10.99.0.{target}/32"))
            assert route is not None
            assert route.metric == lengths[source][target]
            best = {
                hop
                for (here, there), some in ends.items()
                for hop, cost in some
                if here == source and cost + lengths[there][target] == lengths[source][target]
            }
            assert {str(h.address) for h in route.hops} == best


# --- RIP ---------------------------------------------------------------------------------------------------


def chain(length: int, **keys: Any) -> Routing:
    """r0 - r1 - ... each with a RIP link to the next, and a subnet behind r0."""
    b = mc.Builder("chain")
    for n in range(length):
        ports: dict[str, Any] = {}
        if n:
            ports["left"] = {"address": f"10.40.{n - 1}.2/30", "rip": "active"}
        if n < length - 1:
            ports["right"] = {"address": f"10.40.{n}.1/30", "rip": "active"}
        if n == 0:
            ports["lan"] = {"address": "10.44.0.1/24", "rip": "passive"}
        b.router(f"r{n}", keys=keys.get(f"r{n}"), **ports)
        if n:
            b.segment(f"s{n}", f"r{n - 1}/right", f"r{n}/left")
    b.segment("lan", "r0/lan")
    return Routing(b.finish())


def test_rip_counts_hops_and_gives_up_at_sixteen() -> None:
    """RFC 2453 3.5 and 3.6: a connected network has metric 1, each router adds 1, 16 is unreachable."""
    routing = chain(18)
    assert routes(routing, "r1")["10.44.0.0/24"] == ("rip", 2, ["10.40.0.1"])
    assert routes(routing, "r14")["10.44.0.0/24"] == ("rip", 15, ["10.40.13.1"])
    assert "10.44.0.0/24" not in routes(routing, "r15")


def test_rip_keeps_one_of_equal_ways() -> None:
    """RFC 2453 3.9.2 replaces a route only by a better one; here the lowest neighbour's address stands for the first heard."""
    text = """\
mossy-network: 1
devices:
  a: {kind: router, interfaces: {m: {address: 10.40.1.1/24, rip: active}}}
  b: {kind: router, interfaces: {m: {address: 10.40.1.2/24, rip: active}, x: {address: 10.40.2.1/24, rip: passive}}}
  c: {kind: router, interfaces: {m: {address: 10.40.1.3/24, rip: active}, x: {address: 10.40.2.2/24, rip: passive}}}
segments: {m: [a/m, b/m, c/m], x: [b/x, c/x]}
"""
    assert routes(build(text), "a") == {"10.40.2.0/24": ("rip", 2, ["10.40.1.2"])}


def test_rip_default_and_redistribution() -> None:
    routing = chain(
        4,
        r0={
            "rip": {"default-route": "yes", "redistribute": {"static": 5}},
            "routes": [{"prefix": "192.0.2.0/24", "action": "discard"}],
        },
    )
    assert routes(routing, "r2")["192.0.2.0/24"] == ("rip", 7, ["10.40.1.1"])
    assert routes(routing, "r3")["0.0.0.0/0"] == ("rip", 4, ["10.40.2.1"])


CIRCLE = """\
mossy-network: 1
devices:
  a: {kind: router, interfaces: {o: {address: 10.40.1.1/24, ospf: 0}, r: {address: 10.40.2.1/24, rip: active}}, ospf: {redistribute: {rip: 20}, preference: PREF}, rip: {redistribute: {ospf: 2}}}
  b: {kind: router, interfaces: {o: {address: 10.40.1.2/24, ospf: 0}, r: {address: 10.40.2.2/24, rip: active}}, ospf: {redistribute: {rip: 20}, preference: PREF}, rip: {redistribute: {ospf: 2}}}
  x: {kind: router, interfaces: {r: {address: 10.40.2.9/24, rip: active}, s: {address: 10.40.9.1/24, rip: passive}}}
segments: {o: [a/o, b/o], r: [a/r, b/r, x/r], s: [x/s]}
"""


def test_two_ways_redistribution_is_a_race() -> None:
    """Each of a and b prefers what the other announces to what made it announce: whoever speaks first stays with RIP."""
    routing = build(CIRCLE.replace("PREF", "110"))
    assert routes(routing, "a")["10.40.9.0/24"] == ("rip", 2, ["10.40.2.9"])
    assert routes(routing, "b")["10.40.9.0/24"] == ("ospf external 2", 20, ["10.40.1.1"])
    assert any("no longer announces 10.40.9.0/24 into ospf" in line for line in routing.race)
    settled = build(CIRCLE.replace("PREF", "130"))
    assert routes(settled, "a")["10.40.9.0/24"] == ("rip", 2, ["10.40.2.9"])
    assert routes(settled, "b")["10.40.9.0/24"] == ("rip", 2, ["10.40.2.9"])
    assert settled.race == ()


def test_what_never_settles_is_refused_with_its_cycle(monkeypatch: pytest.MonkeyPatch) -> None:
    """A device that announces a route exactly while nobody does has no stable state in any order."""

    def contrary(self: Routing, device: Any, table: Any) -> Any:
        prefix = parse_prefix("10.45.0.0/16")
        if device.name == "a" and not any(prefix == e.prefix for e in told[-1].externals):
            yield External("a", prefix, 2, 20)

    told: list[Ospf] = []
    plain = Routing._protocols

    def noted(self: Routing, state: Any) -> Any:
        made = plain(self, state)
        told.append(made[0][4])
        return made

    monkeypatch.setattr(Routing, "_told_by", contrary)
    monkeypatch.setattr(Routing, "_protocols", noted)
    with pytest.raises(mc.NotConverged, match="does not settle") as caught:
        build(CIRCLE.replace("PREF", "110")).table("a")
    assert caught.value.cycle == ("a announces 10.45.0.0/16 into ospf", "a no longer announces 10.45.0.0/16 into ospf")


def test_the_grounds() -> None:
    """The shipped routing demo, spot by spot."""
    routing = Routing(mc.load(DATA / "grounds.yaml"))
    assert routes(routing, "orchard")["0.0.0.0/0"] == ("ospf inter-area", 11, ["10.40.0.9"])
    assert routes(routing, "north")["10.40.30.0/24"] == ("ospf external 1", 50, ["10.40.0.1", "10.40.1.2"])
    assert routes(routing, "quarry")["10.40.20.0/24"] == ("rip", 3, ["10.40.0.13"])
    assert routes(routing, "meadow-house")["0.0.0.0/0"] == ("ospf external 2", 5, ["10.40.1.1", "10.40.1.2"])
