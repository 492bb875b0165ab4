"""One fault at a time in a network that is whole: what the first lines then say is the fault, and where it is written.

The device that drops a packet is often the last to know why. So each row names the fault, a flow that it costs, and what must be
told: the cause, what lies behind it, and whether the line of the fault stands among the lines that are cited.
"""

from __future__ import annotations

import io
import random
import re
from collections.abc import Iterator, Sequence

import pytest
from rich.console import Console

import mossy_compass as mc
from mossy_compass.lab.expect import every_flow
from mossy_compass.lab.sweep import failures
from mossy_compass.plan.plan import Plan
from mossy_compass.report import text
from mossy_compass.walk.trace import trace_one
from mossy_compass.walk.weather import in_weather
from tests.conftest import DATA
from tests.effort import at_length

NURSERY = """\
mossy-network: 1
title: A nursery, its stall, and a tunnel between them
groups:
  staff: [10.40.1.0/24]
  sensors: [10.40.3.0/24]
  stall-net: [10.41.1.0/24]
services:
  readings: [tcp/8883]
  backup: [tcp/873]
lists:
  house-out:
    - {permit: tcp, service: [https, http], about: the web}
    - {permit: udp, service: domain}
    - {permit: icmp}
  sensors-in:
    - {permit: tcp, from: sensors, to: ledger, service: readings}
    - {permit: udp, to: resolver-x, service: [domain, ntp]}
  from-stall:
    - {permit: tcp, from: stall-net, to: ledger, service: backup}
    - {permit: icmp, from: stall-net}
  web-in:
    - {permit: tcp, to: 198.51.100.10, service: https}
    - {permit: udp, from: 203.0.113.20, to: self, service: udp/500}
    - {permit: esp, from: 203.0.113.20, to: self}
  from-house:
    - {permit: udp, from: 198.51.100.10, service: udp/500}
    - {permit: esp, from: 198.51.100.10}
  keepers:
    - {permit: tcp, from: staff, service: ssh}
    - {permit: udp, from: 203.0.113.20, service: udp/500}
    - {permit: esp, from: 203.0.113.20}
    - {permit: icmp}
devices:
  wall:
    kind: firewall
    interfaces:
      house: {address: 10.40.1.1/24, zone: house}
      yard: {address: 10.40.3.1/24, zone: yard, filter: {arriving: sensors-in}}
      shop: {address: 10.40.5.1/24, zone: shop}
      fibre: {address: 198.51.100.10/29, zone: world, outside: yes, filter: {arriving: web-in}}
      radio: {address: 192.0.2.6/30, zone: world, outside: yes}
      to-stall: {address: 10.41.255.1/30, zone: stall, tunnel: {to: 203.0.113.20, by: fibre, kind: esp, keys: exchanged}}
    stateful: [tcp, udp, icmp]
    probes:
      far: {target: 203.0.113.53, by: fibre}
    routes:
      - {prefix: default, next-hop: 198.51.100.9, while: far}
      - {prefix: default, next-hop: 192.0.2.5, metric: 10}
      - {prefix: 10.41.1.0/24, leaving: to-stall}
    crossings:
      - {from: house, into: world, lists: house-out}
      - {from: stall, into: house, lists: from-stall}
      - {from: any, into: self, lists: keepers}
    translate:
      - {id: web, arriving: fibre, to: 198.51.100.10, service: https, goes-to: web}
      - {id: out, source: 10.40.0.0/16, to: outside, leaving: fibre, becomes: interface}
      - {id: out2, source: 10.40.0.0/16, to: outside, leaving: radio, becomes: interface}
  stall:
    kind: firewall
    interfaces:
      till: 10.41.1.1/24
      line: {address: 203.0.113.20/29, outside: yes}
      home: {address: 10.41.255.2/30, tunnel: {to: 198.51.100.10, by: line, kind: esp, keys: exchanged}}
    stateful: [tcp, udp, icmp]
    to-self: from-house
    routes:
      - {prefix: default, next-hop: 203.0.113.17}
      - {prefix: 10.40.0.0/16, leaving: home}
    translate:
      - {source: 10.41.1.0/24, leaving: line, becomes: interface}
  world:
    kind: internet
    interfaces:
      a: 198.51.100.9/29
      b: 192.0.2.5/30
      c: 203.0.113.17/29
    hosts:
      resolver-x: {address: 203.0.113.53, serves: [domain, ntp]}
      shopper: 203.0.113.130
      seeds: {address: 203.0.113.140, serves: [https, ssh]}
  ledger: {kind: host, address: 10.40.1.20/24, gateway: 10.40.1.1, serves: [tcp/8883, tcp/873, ssh]}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  probe-1: {kind: host, address: 10.40.3.11/24, gateway: 10.40.3.1}
  web: {kind: host, address: 10.40.5.10/24, gateway: 10.40.5.1, serves: [https]}
  till-1: {kind: host, address: 10.41.1.11/24, gateway: 10.41.1.1}
segments:
  house: [desk, ledger, wall/house]
  yard: [probe-1, wall/yard]
  shop: [web, wall/shop]
  fibre: [wall/fibre, world/a]
  radio: [wall/radio, world/b]
  stall-line: [stall/line, world/c]
  stall: [till-1, stall/till]
"""

HERE, ELSEWHERE = True, False
FAULTS = [
    ('desk: {kind: host, address: 10.40.1.10/24', 'desk: {kind: host, address: 10.40.1.10/16', 'desk probe-1 ping', 'neighbour.silent', '', HERE),
    ('desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1', 'desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.3.1', 'desk resolver-x ping', 'route.none', '', HERE),
    ('desk: {kind: host, address: 10.40.1.10/24', 'desk: {kind: host, address: 10.40.11.10/24', 'ledger desk ping', 'route.none', 'root.stranded', ELSEWHERE),
    ('desk: {kind: host, address: 10.40.1.10/24', 'desk: {kind: host, address: 10.40.11.10/24', 'desk resolver-x ping', 'route.none', '', HERE),
    ('house: {address: 10.40.1.1/24', 'house: {address: 10.40.1.1/28', 'ledger resolver-x ping', 'source.own', 'root.stranded', HERE),
    ('house: {address: 10.40.1.1/24', 'house: {address: 10.40.1.1/28', 'ledger probe-1 ping', 'route.none', 'root.stranded', HERE),
    ('house: {address: 10.40.1.1/24', 'house: {address: 10.40.1.2/24', 'ledger resolver-x ping', 'neighbour.silent', '', ELSEWHERE),
    ('shop: {address: 10.40.5.1/24', 'shop: {address: 10.40.5.1/24, state: disabled', 'resolver-x 198.51.100.10 tcp/443', 'source.own', 'root.inactive', HERE),
    ('shop: {address: 10.40.5.1/24', 'shop: {address: 10.40.5.1/24, state: disabled', 'ledger web ping', 'route.none', 'root.inactive', HERE),
    ('shop: {address: 10.40.5.1/24', 'shop: {address: 10.40.5.1/24, state: disabled', 'web resolver-x ping', 'interface.down', '', HERE),
    ('fibre: {address: 198.51.100.10/29', 'fibre: {address: 198.51.100.11/29', 'ledger till-1 ping', 'filter.end', '', ELSEWHERE),
    ('fibre: {address: 198.51.100.10/29', 'fibre: {address: 198.51.100.11/29', 'ledger 198.51.100.10 ping', 'neighbour.silent', '', ELSEWHERE),
    ('to: 203.0.113.20, by: fibre, kind: esp', 'to: 203.0.113.21, by: fibre, kind: esp', 'ledger till-1 ping', 'neighbour.silent', '', HERE),
    ('to: 203.0.113.20, by: fibre, kind: esp', 'to: 203.0.113.21, by: fibre, kind: esp', 'till-1 ledger ping', 'tunnel.mismatch', '', HERE),
    ('to: 203.0.113.20, by: fibre, kind: esp, keys: exchanged', 'to: 203.0.113.20, by: fibre, kind: esp', 'ledger till-1 ping', 'tunnel.unknown', '', HERE),
    ('to: 203.0.113.20, by: fibre, kind: esp, keys: exchanged', 'to: 203.0.113.20, by: fibre, kind: esp', 'till-1 ledger ping', 'service.silent', 'root.by-hand', HERE),
    ('stateful: [tcp, udp, icmp]', 'stateful: [tcp, udp]', 'ledger resolver-x ping', 'session.none', 'root.not-inspected', HERE),
    ('stateful: [tcp, udp, icmp]', 'stateful: none', 'ledger resolver-x ping', 'filter.inbound', 'root.stateless', HERE),
    ('stateful: [tcp, udp, icmp]', 'stateful: none', 'ledger probe-1 ping', 'filter.end', 'root.stateless', HERE),
    ('{prefix: 10.41.1.0/24, leaving: to-stall}', '{prefix: 10.41.11.0/24, leaving: to-stall}', 'ledger till-1 ping', 'route.none', 'root.strangers', ELSEWHERE),
    ('{prefix: 10.41.1.0/24, leaving: to-stall}', '{prefix: 10.41.1.0/24, action: discard}', 'ledger till-1 ping', 'route.discard', '', HERE),
    ('{from: stall, into: house, lists: from-stall}', '{from: stall, into: house, lists: sensors-in}', 'till-1 ledger ping', 'filter.end', '', ELSEWHERE),
    ('{id: web, arriving: fibre, to: 198.51.100.10, service: https, goes-to: web}', '{id: web, arriving: fibre, to: 198.51.100.10, service: https, goes-to: 10.40.5.11}', 'resolver-x 198.51.100.10 tcp/443', 'neighbour.silent', '', HERE),
    ('{id: web, arriving: fibre, to: 198.51.100.10, service: https, goes-to: web}', '{id: web, arriving: fibre, to: 198.51.100.12, service: https, goes-to: web}', 'resolver-x 198.51.100.10 tcp/443', 'filter.end', '', HERE),
    ('{id: web, arriving: fibre, to: 198.51.100.10, service: https, goes-to: web}', '{id: web, arriving: radio, to: 198.51.100.10, service: https, goes-to: web}', 'resolver-x 198.51.100.10 tcp/443', 'filter.end', '', HERE),
    ('{id: out, source: 10.40.0.0/16, to: outside, leaving: fibre', '{id: out, source: 10.40.3.0/24, to: outside, leaving: fibre', 'ledger resolver-x ping', 'route.none', 'root.untranslated', HERE),
    ('{id: out, source: 10.40.0.0/16, to: outside, leaving: fibre', '{id: out, source: 10.40.0.0/16, to: outside, leaving: radio', 'ledger resolver-x ping', 'route.none', 'root.translated-nowhere', ELSEWHERE),
    ('{id: out, source: 10.40.0.0/16, to: outside, leaving: fibre, becomes: interface', '{id: out, source: 10.40.0.0/16, to: outside, leaving: fibre, becomes: exempt', 'ledger resolver-x ping', 'route.none', 'root.exempt', HERE),
    ('{id: out, source: 10.40.0.0/16, to: outside, leaving: fibre, becomes: interface', '{id: out, source: 10.40.0.0/16, leaving: fibre, becomes: 198.51.100.77', 'ledger resolver-x ping', 'route.none', 'root.unled', HERE),
    ('to-self: from-house', 'to-self: from-stall', 'ledger till-1 ping', 'filter.end', '', ELSEWHERE),
    ('{prefix: default, next-hop: 203.0.113.17}', '{prefix: default, next-hop: 203.0.113.18}', 'ledger till-1 ping', 'neighbour.silent', '', HERE),
    ('{prefix: 10.40.0.0/16, leaving: home}', '{prefix: 10.40.1.0/24, leaving: home}', 'web till-1 ping', 'route.none', 'root.strangers', ELSEWHERE),
    ('{prefix: 10.40.0.0/16, leaving: home}', '{prefix: 10.40.0.0/16, leaving: line}', 'ledger till-1 ping', 'neighbour.silent', '', HERE),
    ('serves: [tcp/8883, tcp/873, ssh]', 'serves: [tcp/8883, ssh]', 'desk ledger tcp/873', 'service.closed', '', HERE),
    ('house: [desk, ledger, wall/house]', 'house: [desk, wall/house]\n  attic: [ledger]', 'ledger resolver-x ping', 'neighbour.silent', '', ELSEWHERE),
    ('shop: [web, wall/shop]', 'shop: {members: [web, wall/shop], state: down}', 'resolver-x 198.51.100.10 tcp/443', 'source.own', 'root.inactive', HERE),
    ('shop: [web, wall/shop]', 'shop: {members: [web, wall/shop], state: down}', 'ledger web ping', 'route.none', 'root.inactive', HERE),
    ('shop: [web, wall/shop]', 'shop: {members: [web, wall/shop], state: down}', 'web resolver-x ping', 'interface.down', '', HERE),
    ('fibre: [wall/fibre, world/a]', 'fibre: {members: [wall/fibre, world/a], state: down}', 'resolver-x 198.51.100.10 tcp/443', 'interface.down', '', HERE),
    ('fibre: [wall/fibre, world/a]', 'fibre: {members: [wall/fibre, world/a], state: down}', 'ledger 198.51.100.10 ping', 'interface.down', 'root.inactive', HERE),
    ('stall-line: [stall/line, world/c]', 'stall-line: {members: [stall/line, world/c], state: down}', 'ledger till-1 ping', 'interface.down', '', HERE),
    ('stateful: [tcp, udp, icmp]', 'stateful: [tcp, udp, icmp]\n    settings: {forwarding: no}', 'resolver-x 198.51.100.10 tcp/443', 'forwarding.off', '', HERE),
    ('stateful: [tcp, udp, icmp]', 'stateful: [tcp, udp, icmp]\n    settings: {answers-ping: no}', 'ledger 198.51.100.10 ping', 'echo.ignored', '', HERE),
]  # fmt: skip
"""A line that is written elsewhere is one that the fault makes look wrong, where either of two could be mended."""


LAB = "lab: {address: 10.40.40.1/24,"
GLASS = "      - {prefix: 10.40.16.0/22, next-hop: 10.40.0.6, about: glasshouses}\n"
HERB = "      - {prefix: 10.40.48.0/24, next-hop: 10.40.0.10, about: herbarium}\n"
INSIDE = "      - {prefix: 10.40.0.0/13, next-hop: 10.40.0.2, about: everything inside}\n"
OUTSIDE = "      - {prefix: default, leaving: ways-out}\n"
BACK, NONE = "canopy leads it back to gate by its default route", ""

# the demo: what is taken out or changed, a flow, its cause, and what lies behind it in words
IN_THE_DEMO = [
    (GLASS, "", "sensor-fern 198.51.100.2 ping", "source.own", BACK),
    (GLASS, "", "sensor-fern lab-bench tcp/22", "session.none", "canopy leads it to gate by its default route, and the packet there came without gate"),
    (HERB, "", "ledger almanac tcp/443", "session.none", BACK),
    (HERB, "", "ledger almanac udp/123", "ttl.expired", BACK),
    (HERB, "", "kiosk-1 ledger tcp/8443", "loop", NONE),
    (INSIDE, "", "kiosk-1 catalogue tcp/80", "route.none", "gate has no route to 10.40.32.10 but the default, which leads to strangers"),
    (OUTSIDE, "", "kiosk-1 almanac tcp/443", "route.none", NONE),
    (OUTSIDE, "", "moor-store catalogue tcp/80", "route.none", "no route leads 198.51.100.10, which translation rule moor-out gives, to moor-gate"),
    (LAB, LAB.replace("/24", "/28"), "sensor-fern lab-bench ping", "loop", "lab-bench has 10.40.40.20 on segment laboratory, and canopy/lab there has 10.40.40.1/28"),
    (LAB, LAB.replace("/24", "/28"), "lab-bench ledger tcp/443", "session.none", "lab-bench has 10.40.40.20 on segment laboratory, and canopy/lab there has 10.40.40.1/28"),
    (LAB, LAB + " state: disabled,", "sensor-fern lab-bench ping", "loop", "canopy takes its default route, since its connected route 10.40.40.0/24 is inactive: lab is down (it is disabled)"),
    ("[10.40.32.10/24,", "[10.40.32.10/28,", "kiosk-1 tablet ping", "filter.rule", "tablet has 10.40.32.77 on the same segment visitor-net, but kiosk-1 has 10.40.32.10/28 and asks its gateway"),
    ("[10.40.32.10/24,", "[10.40.32.10/28,", "tablet kiosk-1 ping", "filter.rule", "tablet has 10.40.32.77 on the same segment visitor-net, but kiosk-1 has 10.40.32.10/28 and asks its gateway"),
]  # fmt: skip


def sent(words: str, flow: str) -> mc.Journey:
    reading = mc.read_bytes(words.encode(), "n.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    source, target, service = flow.split()
    return mc.trace(in_weather(Plan(reading.network)), source, target, service)


@pytest.mark.parametrize(("was", "now", "flow", "cause", "behind", "cited"), FAULTS)
def test_the_fault_is_what_is_told(was: str, now: str, flow: str, cause: str, behind: str, cited: bool) -> None:
    assert sent(NURSERY, flow).answered
    assert was in NURSERY
    faulty = NURSERY.replace(was, now, 1)
    journey = sent(faulty, flow)
    assert (journey.cause, journey.behind.code if journey.behind is not None else "") == (cause, behind), str(journey)
    shown = io.StringIO()
    Console(width=200, file=shown).print(text.head(journey))
    lines = {int(n) for n in re.findall(r"n\.yaml:(\d+)", shown.getvalue())}
    pairs = zip(NURSERY.splitlines(), faulty.splitlines(), strict=False)
    at = next(n for n, (good, bad) in enumerate(pairs, 1) if good != bad)
    assert (at in lines) is cited, shown.getvalue()


@pytest.mark.parametrize(("was", "now", "flow", "cause", "behind"), IN_THE_DEMO)
def test_what_is_taken_out_of_the_demo_is_missed_where_it_stood(
    demo_text: bytes, was: str, now: str, flow: str, cause: str, behind: str
) -> None:
    whole = demo_text.decode()
    assert whole.count(was) == 1
    assert sent(whole, flow).answered
    journey = sent(whole.replace(was, now), flow)
    assert (journey.cause, journey.behind.words if journey.behind is not None else "") == (cause, behind), str(journey)
    assert behind in str(journey)


def test_two_subnets_of_one_segment_are_no_fault(demo_text: bytes) -> None:
    """Each asks its gateway for the other, and what a list says there is what counts."""
    both = demo_text.decode().replace(
        "address: 10.40.32.77/24, gateway: 10.40.32.1", "address: 10.40.33.77/24, gateway: 10.40.33.1"
    )
    both = both.replace("visitors: {address: [10.40.32.1/24,", "visitors: {address: [10.40.32.1/24, 10.40.33.1/24,")
    journey = sent(both, "kiosk-1 tablet ping")
    assert (journey.cause, journey.behind) == ("filter.rule", None)


NORTH = "orchard: {address: 10.40.0.9/30,"


@pytest.mark.parametrize(
    ("was", "now", "flow", "cause", "behind"),
    [
        (NORTH, NORTH + " state: disabled,", "clerk apple-press ping", "loop", "orchard hears no router, and is heard by none, as up is down: the far end north/orchard is disabled"),
        (NORTH, NORTH + " state: disabled,", "apple-press almanac ping", "route.none", "orchard hears no router, and is heard by none, as up is down: the far end north/orchard is disabled"),
        # by the other neighbour it is heard still, whatever it knows of others
        ("meadow: {address: 10.40.1.1/24,", "meadow: {address: 10.40.1.1/24, state: disabled,", "clerk almanac ping", "echo.answered", ""),
    ],
)  # fmt: skip
def test_a_router_that_nobody_hears_is_named(was: str, now: str, flow: str, cause: str, behind: str) -> None:
    whole = (DATA / "grounds.yaml").read_text()
    assert whole.count(was) == 1
    journey = sent(whole.replace(was, now), flow)
    assert (journey.cause, journey.behind.words if journey.behind is not None else "") == (cause, behind), str(journey)


SCHOOL = """\
mossy-network: 1
title: A herb school on a hill
lists:
  pupils:
    - {permit: udp, to: namer, service: domain}
    - {permit: tcp, to: shelf, service: https}
    - {deny: any, to: local-networks}
    - {permit: any}
devices:
  arch:
    kind: router
    interfaces:
      trunk: {}
      rooms: {address: [10.42.10.1/24, "2001:db8:42:10::1/64"], parent: trunk, vlan: 10, filter: {arriving: pupils}, ospf: {area: 0, passive: yes}}
      staff: {address: 10.42.20.1/24, parent: trunk, vlan: 20, ospf: {area: 0, passive: yes}}
      hillside: {address: [10.42.0.1/30, "2001:db8:42::1/64"], ospf: {area: 0, network: point-to-point}}
    leases: {rooms: {range: 10.42.10.100-10.42.10.150, gateway: 10.42.10.1, resolvers: 10.42.30.53}}
    routes: [{prefix: default6, next-hop: "2001:db8:42::2"}]
  cellar:
    kind: switch
    interfaces: {up: {tagged: [10, 20]}, r1: {untagged: 10}, r2: {untagged: 10}, s1: {untagged: 20}}
  hill:
    kind: firewall
    interfaces:
      arch: {address: [10.42.0.2/30, "2001:db8:42::2/64"], ospf: {area: 0, network: point-to-point}}
      servers: {address: [10.42.30.1/24, "2001:db8:42:30::1/64"], ospf: {area: 0, passive: yes}}
      sky: {address: [198.51.100.2/30, "2001:db8:ff::2/64"], outside: yes}
    stateful: [tcp, udp, icmp, icmp6]
    ospf: {default-route: {metric: 5}}
    routes:
      - {prefix: default, next-hop: 198.51.100.1}
      - {prefix: default6, next-hop: "2001:db8:ff::1"}
      - {prefix: "2001:db8:42:10::/64", next-hop: "2001:db8:42::1"}
    translate: [{source: 10.42.0.0/16, leaving: sky, becomes: interface}]
  air:
    kind: internet
    interfaces: {a: [198.51.100.1/30, "2001:db8:ff::1/64"]}
    hosts: {herbal: {address: [203.0.113.7, "2001:db8:7::7"], serves: [https]}}
    routes: [{prefix: "2001:db8:42::/48", next-hop: "2001:db8:ff::2"}]
  pupil: {kind: host, leased: yes}
  board: {kind: host, address: [10.42.10.20/24, "2001:db8:42:10::20/64"], gateway: [10.42.10.1, "2001:db8:42:10::1"], resolvers: 10.42.30.53}
  teacher: {kind: host, address: 10.42.20.20/24, gateway: 10.42.20.1, resolvers: 10.42.30.53}
  namer: {kind: host, address: 10.42.30.53/24, gateway: 10.42.30.1, records: {shelf.example: 10.42.30.80, herbal.example: [203.0.113.7, "2001:db8:7::7"]}}
  shelf: {kind: host, address: [10.42.30.80/24, "2001:db8:42:30::80/64"], gateway: [10.42.30.1, "2001:db8:42:30::1"], serves: [https, ssh]}
segments:
  trunk: [arch/trunk, cellar/up]
  room-1: [cellar/r1, pupil]
  room-2: [cellar/r2, board]
  office: [cellar/s1, teacher]
  path: [arch/hillside, hill/arch]
  servers: [hill/servers, namer, shelf]
  sky: [hill/sky, air/a]
"""
UP, PASSIVE = "up: {tagged: [10, 20]}", 'hillside: {address: [10.42.0.1/30, "2001:db8:42::1/64"], ospf: {area: 0, '
LEAVES_OUT = "arch speaks OSPF, and does not announce 10.42.20.0/24 of staff by it (n.yaml:15)"
STAFF = "staff: {address: 10.42.20.1/24, parent: trunk, vlan: 20, ospf: {area: 0, passive: yes}}"
NOT_CARRIED = "cellar/up does not carry VLAN 10, which arch/trunk sends there with its tag on segment trunk: both devices have it"

# what is changed in the school, a flow, its cause, and what must be among the first lines
IN_THE_SCHOOL = [
    (UP, "up: {tagged: [20]}", "board herbal ping", "neighbour.silent", NOT_CARRIED),
    (UP, "up: {tagged: [20]}", "pupil herbal ping", "source.none", NOT_CARRIED),
    (UP, "up: {tagged: [20]}", "teacher pupil ping", "target.none", NOT_CARRIED),
    ("r1: {untagged: 10}", "r1: {untagged: 20}", "pupil herbal ping", "source.none", "arch leases addresses by rooms, on segment cellar vlan 10 (n.yaml:17)"),
    ("parent: trunk, vlan: 10", "parent: trunk, vlan: 11", "board herbal ping", "neighbour.silent", "cellar/up does not carry VLAN 11, which arch/trunk sends there with its tag on segment trunk: what is sent there gets no further"),
    (PASSIVE + "network: point-to-point", PASSIVE + "passive: yes", "pupil herbal ping", "route.none", "hill/arch seeks OSPF neighbours on segment path, and arch/hillside is passive there"),
    (PASSIVE + "network: point-to-point", PASSIVE + "passive: yes", "namer teacher ping", "route.none", "hill/arch seeks OSPF neighbours on segment path, and arch/hillside is passive there"),
    (PASSIVE, PASSIVE.replace("area: 0", "area: 1"), "namer teacher ping", "route.none", "do not become neighbours: areas 0 and 1 differ"),
    (STAFF, STAFF.replace(", ospf: {area: 0, passive: yes}", ""), "teacher herbal ping", "source.own", LEAVES_OUT),
    (STAFF, STAFF.replace(", ospf: {area: 0, passive: yes}", ""), "teacher namer ping", "route.none", LEAVES_OUT),
    ("ospf: {default-route: {metric: 5}}", "ospf: {}", "pupil herbal ping", "route.none", "hill has a default route, and does not announce it by OSPF (default-route) (n.yaml:29)"),
]  # fmt: skip


@pytest.mark.parametrize(("was", "now", "flow", "cause", "words"), IN_THE_SCHOOL)
def test_what_a_switch_a_lease_or_a_protocol_lacks_is_told(was: str, now: str, flow: str, cause: str, words: str) -> None:
    assert SCHOOL.count(was) == 1
    journey = sent(SCHOOL.replace(was, now), flow)
    shown = io.StringIO()
    Console(width=900, file=shown).print(text.head(journey))
    assert journey.cause == cause, str(journey)
    assert words in shown.getvalue()
    shown = io.StringIO()
    Console(width=900, file=shown).print(text.head(sent(SCHOOL, flow)))
    assert words not in shown.getvalue()


def test_what_is_announced_in_another_way_is_missed_by_nobody() -> None:
    mute = SCHOOL.replace(STAFF, STAFF.replace(", ospf: {area: 0, passive: yes}", ""))
    assert not sent(mute, "teacher herbal ping").answered
    told = mute.replace("    leases: {rooms", "    ospf: {redistribute: {connected: {}}}\n    leases: {rooms")
    assert sent(told, "teacher herbal ping").answered


def network_of(which: str) -> mc.Network:
    """One of the two networks above, or of those that are shipped."""
    words = {"nursery": NURSERY, "school": SCHOOL}.get(which) or (DATA / f"{which}.yaml").read_text()
    network = mc.read_bytes(words.encode(), "n.yaml").network
    assert network is not None
    return network


def lost_by(lab: mc.Lab, before: Sequence[mc.Flow]) -> Iterator[mc.Journey]:
    """The journeys of some flows that are not answered now."""
    plan = in_weather(lab.plan)
    found = (trace_one(plan, f.source, f.target, f.service, f.options) for f in before)
    yield from (journey for journey in found if not journey.answered)


@pytest.mark.scaled
@pytest.mark.parametrize("which", ["nursery", "school", "grounds", "fernhollow"])
def test_whatever_fails_is_named_by_everybody_who_misses_it(which: str) -> None:
    """Law: of every cable that is cut and every interface that is disabled, by each flow that was answered before."""
    network = network_of(which)
    flows = every_flow(network)[:: 1 if at_length() else 4]
    whole = in_weather(mc.Plan(network))
    answered = [f for f in flows if trace_one(whole, f.source, f.target, f.service, f.options).answered]
    assert answered
    found = 0
    for (fault,) in failures(network, ["link", "interface"])[:: 1 if at_length() else 3]:
        lab = mc.Lab(network)
        lab.fail(f"{fault.kind} {fault.name}")
        device, _, port = fault.name.partition("/")
        mark = place_of(network, fault.name)
        names = (f"{port} is down", fault.name, f"{port}, which") if port else (f"segment {device}",)
        for journey in lost_by(lab, answered):
            shown = io.StringIO()
            Console(width=900, file=shown).print(text.head(journey))
            said = shown.getvalue()
            assert f"n.yaml:{mark.line})" in said or any(name in said for name in names), f"{fault}: {said}"
            found += 1
    assert found > 9


def place_of(network: mc.Network, name: str) -> mc.Mark:
    """Where a cable or an interface is written."""
    device, _, port = name.partition("/")
    return network.devices[device].interfaces[port].mark if port else network.segments[device].mark


@pytest.mark.scaled
@pytest.mark.parametrize("which", ["nursery", "school", "grounds", "fernhollow"])
def test_of_two_faults_the_one_that_is_named_is_one_whose_mending_changes_the_journey(which: str) -> None:
    """Law: what lies behind a loss is no bystander."""
    network = network_of(which)
    every = [fault for (fault,) in failures(network, ["link", "interface"])]
    choose, tried = random.Random(7), 0
    for _ in range(14 if at_length() else 3):
        pair = choose.sample(every, 2)
        plans = []
        for faults in (pair, pair[1:], pair[:1]):  # both; without the first; without the second
            lab = mc.Lab(network)
            for fault in faults:
                lab.fail(f"{fault.kind} {fault.name}")
            plans.append(in_weather(lab.plan))
        for flow in every_flow(network)[:: 3 if at_length() else 9]:
            now, *mended = (trace_one(p, flow.source, flow.target, flow.service, flow.options) for p in plans)
            if now.behind is None or now.behind.mark is None:
                continue
            for fault, then in zip(pair, mended, strict=True):
                if place_of(network, fault.name) == now.behind.mark:
                    assert (then.answered, then.cause, then.behind) != (now.answered, now.cause, now.behind), f"{pair}: {now}"
                    tried += 1
    assert tried
