"""Networks with one thing broken, read as somebody would who was called at night: the fault stands on the first screen."""

from __future__ import annotations

import pytest

import mossy_compass as mc

SCREEN = 24
"""Lines of a screen."""

# desk and shelf on two VLANs of a trunk between two switches; core speaks OSPF with edge; gate translates for the world
BASE = """\
mossy-network: 1
groups: {staff: [10.40.10.0/24]}
lists:
  staff-in: [{id: 10, permit: any, from: staff}]
  world-in: [{id: 10, permit: icmp, icmp: [unreachable, time-exceeded]}]
devices:
  s1: {kind: switch, interfaces: {p1: {untagged: 10}, up: {tagged: [10, 20]}}}
  s2: {kind: switch, interfaces: {p1: {untagged: 20}, down: {tagged: [10, 20]}, core: {tagged: [10, 20]}}}
  desk: {kind: host, address: 10.40.10.10/24, gateway: 10.40.10.1}
  shelf: {kind: host, address: 10.40.20.10/24, gateway: 10.40.20.1, serves: [https]}
  core:
    kind: router
    interfaces:
      lan: {}
      staff: {parent: lan, vlan: 10, address: 10.40.10.1/24, filter: {arriving: staff-in}, ospf: {area: 0, passive: yes}}
      stock: {parent: lan, vlan: 20, address: 10.40.20.1/24, ospf: {area: 0, passive: yes}}
      edge: {address: 10.40.1.1/30, ospf: 0}
      side: {address: 10.40.5.1/30}
    routes: [{prefix: 10.40.99.0/24, action: discard}]
    policy-routes: []
  edge:
    kind: router
    interfaces: {core: {address: 10.40.1.2/30, ospf: 0}, far: {address: 10.40.30.1/24, ospf: {area: 0, passive: yes}}, gate: {address: 10.40.2.1/30, ospf: 0}}
  gate:
    kind: firewall
    stateful: [tcp, udp, icmp]
    interfaces:
      inside: {address: 10.40.2.2/30, ospf: 0}
      fibre: {address: 198.51.100.2/30, outside: yes, filter: {arriving: world-in}}
    ospf: {default-route: {always: yes}}
    routes: [{prefix: default, next-hop: 198.51.100.1}]
    translate: [{id: out, source: local-networks, leaving: fibre}]
  depot: {kind: host, address: 10.40.30.10/24, gateway: 10.40.30.1, serves: [https]}
  spare: {kind: router, interfaces: {core: 10.40.5.2/30, far: 10.40.6.1/24}, routes: [{prefix: default, next-hop: 10.40.5.1}]}
  world: {kind: internet, interfaces: {a: 198.51.100.1/30}, hosts: {almanac: {address: 203.0.113.80, serves: [https]}}}
segments:
  a: [desk, s1/p1]
  trunk: [s1/up, s2/down]
  b: [shelf, s2/p1]
  c: [s2/core, core/lan]
  e: [core/edge, edge/core]
  f: [edge/far, depot]
  g: [edge/gate, gate/inside]
  h: [core/side, spare/core]
  w: [gate/fibre, world/a]
"""


def explained(old: str, new: str, sender: str, target: str, service: str) -> tuple[mc.Journey, list[str]]:
    """The first screen of a trace through the network with one text exchanged."""
    assert BASE.count(old) == 1
    reading = mc.read_bytes(BASE.replace(old, new).encode(), "n.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    journey = mc.trace(mc.Plan(reading.network), sender, target, service)
    return journey, journey.explain().splitlines()[:SCREEN]


@pytest.mark.parametrize(
    "sender, target, service",
    [("desk", "shelf", "https"), ("desk", "depot", "https"), ("desk", "almanac", "https"), ("depot", "desk", "ping")],
)
def test_the_network_works_until_something_is_broken(sender: str, target: str, service: str) -> None:
    journey, lines = explained("s1: {kind", "s1: {kind", sender, target, service)
    assert journey.answered, lines
    assert not any("noted" in line for line in lines)


BROKEN: list[tuple[str, str, tuple[str, str, str], str, list[str]]] = [
    # what is broken: text before, and after; who asks whom; cause; what the first screen says
    # 1 a host takes another segment to be its own
    ("desk: {kind: host, address: 10.40.10.10/24", "desk: {kind: host, address: 10.40.10.10/16", ("desk", "shelf", "https"), "neighbour.silent", ["Use the same prefix length", "[segment.mask]", "n.yaml:9"]),
    # 2 the trunk does not carry a VLAN at one end
    ("down: {tagged: [10, 20]}", "down: {tagged: [20]}", ("desk", "shelf", "https"), "neighbour.silent", ["s2/down does not carry VLAN 10", "[vlan.not-carried]"]),
    # 3 OSPF at one end of a link alone
    ("core: {address: 10.40.1.2/30, ospf: 0}", "core: {address: 10.40.1.2/30}", ("desk", "depot", "https"), "route.none", ["edge/core", "[ospf.one-end]"]),
    # 4 OSPF in different areas
    ("core: {address: 10.40.1.2/30, ospf: 0}", "core: {address: 10.40.1.2/30, ospf: 1}", ("desk", "depot", "https"), "route.none", ["do not become neighbours", "[ospf.no-neighbour]"]),
    # 5 a list the wrong way round
    ("filter: {arriving: staff-in}", "filter: {leaving: staff-in}", ("shelf", "desk", "ping"), "filter.end", ["was it meant for what arrives by staff?", "(leaving by staff)"]),
    # 6 a route by an interface that names no next hop
    ("{prefix: 10.40.99.0/24, action: discard}", "{prefix: 10.40.6.0/24, leaving: side}", ("desk", "10.40.6.9", "ping"), "neighbour.silent", ["the route names no next hop", "interface-route: peer"]),
    # 7 the first candidate of a policy route is dead, and the second leads elsewhere
    ("policy-routes: []", "policy-routes: [{id: books, to: depot, candidates: [10.40.1.6, 10.40.5.2]}]", ("desk", "depot", "https"), "route.none|loop|neighbour.silent", ["policy route books of core: "]),
    # 8 the firewall does not inspect the protocol of the answer
    ("stateful: [tcp, udp, icmp]", "stateful: [tcp, udp]", ("desk", "almanac", "ping"), "session.none", ["icmp is not inspected there", "(arriving by fibre)", "name the protocol under 'stateful' too"]),
    # 9 a source is not translated
    ("source: local-networks, leaving: fibre", "source: 10.40.20.0/24, leaving: fibre", ("desk", "almanac", "https"), "route.none", ["private source 10.40.10.10 left gate untranslated", "misses by from", "widen the translation rule"]),
    # 10 the gateway is wrong
    ("10.40.10.10/24, gateway: 10.40.10.1", "10.40.10.10/24, gateway: 10.40.10.2", ("desk", "shelf", "https"), "neighbour.silent", ["10.40.10.2"]),
    # 11 a permit is missing, and the end of the list denies
    ("permit: any, from: staff", "permit: tcp, from: staff", ("desk", "shelf", "ping"), "filter.end", ["the end of list staff-in", "(arriving by staff)", "staff-in rule 10"]),
    # 12 a translating firewall has no way back inside
    ("inside: {address: 10.40.2.2/30, ospf: 0}", "inside: {address: 10.40.2.2/30}", ("edge", "almanac", "https"), "route.none|loop", []),
    # 13 the service is not there
    ("gateway: 10.40.20.1, serves: [https]", "gateway: 10.40.20.1, serves: [http]", ("desk", "shelf", "https"), "service.closed", ["shelf does not listen on tcp/443"]),
]  # fmt: skip


@pytest.mark.parametrize("old, new, question, cause, says", BROKEN, ids=[str(n) for n in range(1, len(BROKEN) + 1)])
def test_the_fault_stands_on_the_first_screen(
    old: str, new: str, question: tuple[str, str, str], cause: str, says: list[str]
) -> None:
    journey, lines = explained(old, new, *question)
    shown = " ".join(" ".join(lines).split())
    assert journey.cause in cause.split("|"), shown
    for words in says:
        assert words in shown
