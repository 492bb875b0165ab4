"""Tunnels: what goes in by routes and by selectors, what ends one, sizes, what is lost on the way, and what may not pass in the clear."""

from __future__ import annotations

import json
import random
from collections.abc import Mapping

import pytest
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.lab.forms import Sets, room
from mossy_compass.lab.lab import Flow, Lab
from mossy_compass.packet.address import parse_address
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.wrapping import Wrapping, inner_mtu, outer_size, wrapped
from mossy_compass.plan.facts import Moment
from mossy_compass.report.tunnelstext import tunnels
from mossy_compass.walk.journey import Way
from mossy_compass.walk.question import Options
from mossy_compass.walk.walk import Emission
from tests.test_alike import behaves_alike

TWO = """\
mossy-network: 1
devices:
  desk: {kind: host, address: [10.40.1.10/24, "2001:db8:1::10/64"], gateway: [10.40.1.1, "2001:db8:1::1"]}
  gate:
    kind: router
    interfaces:
      house: {address: [10.40.1.1/24, "2001:db8:1::1/64"]}
      fibre: {address: [192.0.2.2/30, "2001:db8:f::2/64"]#FIBRE}
      sister: {tunnel: {to: #TO, by: fibre, kind: #KIND#SELECTORS}#SISTER}
    probes: {there: {target: pot#PROBE}}
    routes:
      - {prefix: default, next-hop: 192.0.2.1}
      - {prefix: default6, next-hop: "2001:db8:f::1"}
#ROUTES
    translate: [#TRANSLATE]
    settings: {lists-see-inner: #SEES}
  world:
    kind: router
    interfaces: {f: [192.0.2.1/30, "2001:db8:f::1/64"], g: {address: [198.51.100.1/30, "2001:db8:e::1/64"]#MIDDLE}}
    routes: [#WORLD]
  annex:
    kind: router
    interfaces:
      shed: {address: [10.44.1.1/24, "2001:db8:4::1/64"]}
      up: {address: [198.51.100.2/30, "2001:db8:e::2/64"]#UP}
      home: {tunnel: {to: #BACK, by: up, kind: #OTHER#MIRRORED}#HOME}
    routes:
      - {prefix: default, next-hop: 198.51.100.1}
      - {prefix: default6, next-hop: "2001:db8:e::1"}
#ANNEX
  pot: {kind: host, address: [10.44.1.10/24, "2001:db8:4::10/64"], gateway: [10.44.1.1, "2001:db8:4::1"], serves: [https]}
lists:
  no-wrapping: [{deny: #PROTOCOL}, {permit: any}]
  no-web: [{id: 10, deny: tcp, service: https}, {id: 20, permit: any}]
segments:
  house: [desk, gate/house]
  fibre: {members: [gate/fibre, world/f], latency: 20}
  up: {members: [annex/up, world/g], latency: 8}
  shed: [annex/shed, pot]
"""
ROUTED = {
    "ROUTES": '      - {prefix: 10.44.0.0/16, leaving: sister}\n      - {prefix: "2001:db8:4::/48", leaving: sister}',
    "ANNEX": '      - {prefix: 10.40.0.0/16, leaving: home}\n      - {prefix: "2001:db8:1::/48", leaving: home}',
}
SELECTED = {
    "SELECTORS": ", selectors: [{from: 10.40.1.0/24, to: 10.44.0.0/16}]",
    "MIRRORED": ", selectors: {from: 10.44.0.0/16, to: 10.40.1.0/24}",
}
USUAL = {
    "FIBRE": "", "TO": "198.51.100.2", "KIND": "gre", "SELECTORS": "", "SISTER": "", "ROUTES": "", "TRANSLATE": "", "SEES": "yes",
    "MIDDLE": "", "WORLD": "", "UP": "", "BACK": "192.0.2.2", "OTHER": "gre", "MIRRORED": "", "HOME": "", "ANNEX": "",
    "PROTOCOL": "gre", "PROBE": "",
}  # fmt: skip


def text(*changes: Mapping[str, str]) -> str:
    out = TWO
    for word, value in {k: v for c in (USUAL, *changes) for k, v in c.items()}.items():
        out = out.replace(f"#{word}", value)
    return out


def load(*changes: Mapping[str, str]) -> mc.Network:
    read = mc.read_bytes(text(*changes).encode(), "n.yaml")
    assert read.network is not None, [p.line() for p in read.errors]
    return read.network


@pytest.mark.parametrize(
    ("kind", "family", "mtu"),
    [
        (Wrapping.IP, 4, 1480),  # RFC 2003 section 3.1: one IP header more
        (Wrapping.IP, 6, 1460),  # RFC 2473 section 3
        (Wrapping.GRE, 4, 1476),  # RFC 2784 section 2: four bytes
        (Wrapping.GRE, 6, 1456),
        (Wrapping.VXLAN, 4, 1450),  # RFC 7348 section 5
        (Wrapping.VXLAN, 6, 1430),
        (Wrapping.ESP, 4, 1446),  # RFC 4303 section 2 with RFC 4106
        (Wrapping.ESP, 6, 1426),
    ],
)
def test_what_goes_into_a_packet_of_1500_bytes(kind: Wrapping, family: int, mtu: int) -> None:
    assert inner_mtu(kind, family, 1500) == mtu
    assert outer_size(kind, family, mtu) <= 1500 < outer_size(kind, family, mtu + 1)


@given(st.sampled_from(list(Wrapping)), st.sampled_from([4, 6]), st.integers(68, 9000))
def test_the_longest_packet_fits_and_one_byte_more_does_not(kind: Wrapping, family: int, outer: int) -> None:
    most = inner_mtu(kind, family, outer)
    assert most < outer
    if most > 0:
        assert outer_size(kind, family, most) <= outer < outer_size(kind, family, most + 1)


def test_a_flow_of_vxlan_keeps_its_port_and_flows_differ() -> None:
    ends = [parse_address(a) for a in ("192.0.2.2", "198.51.100.2")]
    inner = [Packet(6, ends[0], ends[1], port, 443, flags="SYN") for port in range(50_000, 50_020)]
    outer = [wrapped(Wrapping.VXLAN, p, ends[0], ends[1]) for p in inner]
    assert {(p.protocol, p.to_port) for p in outer} == {(17, 4789)}
    assert len({p.from_port for p in outer}) > 15
    assert wrapped(Wrapping.VXLAN, inner[0]._replace(ttl=3), ends[0], ends[1]) == outer[0]


KINDS = [("gre", "gre", 88), ("ip-in-ip", "4", 84), ("vxlan", "udp", 114), ("esp", "esp", 120)]


@pytest.mark.parametrize(("kind", "protocol", "size"), KINDS)
@pytest.mark.parametrize("way", [ROUTED, SELECTED], ids=["routed", "selected"])
def test_there_and_back_through_each_kind(kind: str, protocol: str, size: int, way: Mapping[str, str]) -> None:
    both = {"KIND": kind, "OTHER": kind}
    journey = mc.trace(load(way, both), "desk", "pot", "https")
    assert journey.answered
    assert [h.device for h in journey.there.hops] == ["desk", "gate", "annex", "pot"]
    assert [h.device for h in journey.there.every_hop] == ["desk", "gate", "gate", "world", "annex", "annex", "pot"]
    outer = journey.there.hops[1].outer
    assert outer is not None
    assert (str(outer.packet.source), str(outer.packet.destination), outer.packet.size) == ("192.0.2.2", "198.51.100.2", size)
    assert journey.there.hops[2].arriving == "home"
    assert journey.latency_ms == 56
    # the packet itself is the one that was sent, a hop less for each router that passed it on
    assert journey.there.arrived.source == journey.there.packet.source
    assert journey.there.arrived.ttl == journey.there.packet.ttl - 2
    # a list outside that forbids the outer packets ends it, and is what is told
    stopped = mc.trace(load(way, both, {"UP": ", filter: {arriving: no-wrapping}", "PROTOCOL": protocol}), "desk", "pot", "https")
    assert (stopped.cause, stopped.there.end, stopped.deciding.end) == ("filter.rule", "gate", "annex")
    assert "as the outer packet" in str(stopped)
    assert ", by no-wrapping rule 10" in str(stopped)
    assert not stopped.answered
    # on the way back too
    lost = mc.trace(load(way, both, {"FIBRE": ", filter: {arriving: no-wrapping}", "PROTOCOL": protocol}), "desk", "pot", "https")
    assert (lost.cause, lost.lost, lost.deciding.end) == ("filter.rule", "back", "gate")
    assert "of tunnel home of annex" in str(lost)


@pytest.mark.parametrize(
    ("changes", "target", "cause", "end"),
    [
        # the packets inside meet the lists of the tunnel's interface at both ends
        ({"HOME": ", filter: {arriving: no-web}"}, "pot", "filter.rule", "annex"),
        ({"SISTER": ", filter: {leaving: no-web}"}, "pot", "filter.rule", "gate"),
        ({"SISTER": ", filter: {arriving: no-web}"}, "pot", "service.open", "pot"),
        # outer and inner are two things: a list for the web says nothing of GRE
        ({"UP": ", filter: {arriving: no-web}"}, "pot", "service.open", "pot"),
        # IPv6 within IPv4, and the reverse
        ({}, "2001:db8:4::10", "service.open", "pot"),
        ({"TO": "2001:db8:e::2", "BACK": "2001:db8:f::2"}, "pot", "service.open", "pot"),
        # the two ends do not fit
        ({"BACK": "192.0.2.1"}, "pot", "tunnel.mismatch", "annex"),
        ({"OTHER": "vxlan"}, "pot", "service.closed", "annex"),
        ({"TO": "198.51.100.1"}, "pot", "service.closed", "world"),
        ({"TO": "203.0.113.7"}, "pot", "route.none", "world"),
        # recursion, by a route for the other end and by the default route
        ({"ROUTES": "      - {prefix: 198.51.100.0/24, leaving: sister}\n      - {prefix: 10.44.0.0/16, leaving: sister}"}, "pot", "tunnel.recursion", "gate"),
        # an interface without an address cannot be an end
        ({"TO": "2001:db8:e::2", "BACK": "2001:db8:f::2", "FIBRE": ', state: disabled'}, "pot", "interface.down", "gate"),
        ({"UP": ", state: disabled"}, "pot", "interface.down", "world"),
    ],
)  # fmt: skip
def test_what_becomes_of_a_packet_that_is_led_into_a_tunnel(changes: Mapping[str, str], target: str, cause: str, end: str) -> None:
    journey = mc.trace(load(ROUTED, changes), "desk", target, "https")
    assert (journey.cause, journey.deciding.end) == (cause, end), str(journey)


def test_it_is_down_while_its_probe_is() -> None:
    other = "      - {prefix: 10.44.0.0/16, next-hop: 192.0.2.1, preference: 5}"
    waits = {"SELECTORS": ", while: there", "ROUTES": f"{ROUTED['ROUTES']}\n{other}"}
    lab = Lab(
        load(
            ROUTED, waits, {"WORLD": "{prefix: 10.44.0.0/16, next-hop: 198.51.100.2}, {prefix: 10.40.0.0/16, next-hop: 192.0.2.2}"}
        )
    )
    assert lab.test(Flow("desk", "pot", "tcp/443")).there.hops[1].leaving == "sister"
    lab.fail("host pot")
    lab.settle()
    assert lab.plan.domains.link("gate", "sister").why == "probe there is down"
    assert lab.test(Flow("desk", "pot", "tcp/443")).there.hops[1].leaving == "fibre"


HIDE = "{id: hide, source: 10.40.1.0/24, leaving: fibre, becomes: interface}"
PLAIN = "{id: plain, source: 10.40.1.0/24, to: 10.44.0.0/16, leaving: fibre, becomes: exempt}"
OPEN = {"WORLD": "{prefix: 10.44.0.0/16, next-hop: 198.51.100.2}, {prefix: 10.40.0.0/16, next-hop: 192.0.2.2}"}


@pytest.mark.parametrize(
    ("changes", "sender", "target", "cause", "tunnelled"),
    [
        ({}, "desk", "pot", "service.open", True),
        ({}, "pot", "desk", "service.closed", True),
        # what no selector is about goes its way: to an address of the router beyond
        ({}, "desk", "198.51.100.1", "service.closed", False),
        # the first selector decides
        ({"SELECTORS": ", selectors: [{does: bypass, to: 10.44.1.10}, {from: 10.40.1.0/24, to: 10.44.0.0/16}]"}, "desk", "pot", "tunnel.clear", False),
        ({"SELECTORS": ", selectors: [{does: discard, to: 10.44.1.10}, {from: 10.40.1.0/24, to: 10.44.0.0/16}]"}, "desk", "pot", "tunnel.discard", False),
        ({"SELECTORS": ", selectors: [{from: 10.40.1.0/24, to: 10.44.0.0/16}, {does: discard}]"}, "desk", "pot", "service.open", True),
        # the other end protects less, more, nothing, the wrong way round
        ({"MIRRORED": ", selectors: {from: 10.44.1.10, to: 10.40.1.10}"}, "desk", "pot", "service.open", True),
        ({"MIRRORED": ", selectors: {from: 10.44.1.11, to: 10.40.1.0/24}"}, "desk", "pot", "tunnel.selector", True),
        ({"MIRRORED": ", selectors: {from: 10.40.1.0/24, to: 10.44.0.0/16}"}, "desk", "pot", "tunnel.selector", True),
        ({"MIRRORED": ", selectors: {}"}, "desk", "pot", "service.open", True),
        ({"MIRRORED": ""}, "desk", "pot", "tunnel.clear", True),  # its answer comes in the clear
        ({"SELECTORS": ""}, "desk", "pot", "tunnel.clear", False),
        # translated before the selectors were asked: it leaves in the clear, and is nobody's whom the far end protects
        ({"TRANSLATE": HIDE}, "desk", "pot", "service.open", False),
        ({"TRANSLATE": f"{PLAIN}, {HIDE}"}, "desk", "pot", "service.open", True),
        ({"TRANSLATE": f"{HIDE}, {PLAIN}"}, "desk", "pot", "service.open", False),
    ],
)  # fmt: skip
def test_selectors(changes: Mapping[str, str], sender: str, target: str, cause: str, tunnelled: bool) -> None:
    journey = mc.trace(load(SELECTED, OPEN, changes), sender, target, "https")
    assert journey.cause == cause, str(journey)
    assert any(h.outer is not None for h in journey.there.hops) == tunnelled


def test_what_leaves_in_the_clear_is_the_cause_where_it_is_lost_by_it() -> None:
    journey = mc.trace(load(SELECTED, {"TRANSLATE": HIDE}), "desk", "pot", "https")
    assert journey.cause == "route.none"
    assert "gate translated source 10.40.1.10 to 192.0.2.2 before selector 1 of tunnel sister of gate" in str(journey)
    advice = journey.explain()
    assert "becomes: exempt" in advice
    mended = mc.trace(load(SELECTED, {"TRANSLATE": f"{PLAIN}, {HIDE}"}), "desk", "pot", "https")
    assert mended.answered  # following the advice helps


def test_the_selectors_of_two_tunnels_are_asked_in_their_order_and_their_outer_packets_pass_by() -> None:
    every = {"SELECTORS": ", selectors: {}", "MIRRORED": ", selectors: {}"}
    journey = mc.trace(load(every), "desk", "pot", "https")
    assert journey.answered  # the outer packet is between addresses that the selectors hold too, and does not go in again
    assert [h.outer is not None for h in journey.there.hops] == [False, True, False, False]


def test_sizes_and_who_is_told() -> None:
    network = load(ROUTED)
    fits = mc.trace(network, "desk", "pot", size=1476)
    assert fits.answered
    told = mc.trace(network, "desk", "pot", size=1477)
    assert (told.cause, told.symptom.value) == ("mtu.exceeded", "unreachable")
    # a narrow cable below: the outer packet is lost in the middle, and the sender learns nothing
    narrow = load(ROUTED, {"MIDDLE": ", mtu: 1400"})
    lost = mc.trace(narrow, "desk", "pot", size=1400)
    assert (lost.cause, lost.deciding.end, lost.symptom.value) == ("mtu.exceeded", "world", "silence")
    assert mc.trace(narrow, "desk", "pot", size=1376).answered
    # an MTU that is written holds
    assert mc.trace(load(ROUTED, {"SISTER": ", mtu: 1300"}), "desk", "pot", size=1301).cause == "mtu.exceeded"
    # and below a jumbo interface there is more room
    wide = load(ROUTED, {"FIBRE": ", mtu: 9000"})
    assert wide.devices["gate"].interfaces["sister"].mtu == 8976


BIG = Flow("desk", "pot", "ping", Options(size=1400))


def test_a_way_that_is_too_narrow_is_learned_and_the_next_sender_is_told() -> None:
    """RFC 1191 sections 4 and 6.3."""
    lab = Lab(load(ROUTED, {"MIDDLE": ", mtu: 1400"}))
    lab.keep("before")
    first = lab.send(BIG)
    assert (first.cause, first.deciding.end, first.symptom.value) == ("mtu.exceeded", "world", "silence")
    assert "remembers for 10 min that at most 1376 bytes go into tunnel sister" in str(first.told[0].words)
    assert "error about it, icmp 192.0.2.1 > 192.0.2.2 too-big:" in first.explain(details=True)
    told = lab.send(BIG)
    assert (told.cause, told.deciding.end, told.symptom.value) == ("mtu.exceeded", "gate", "unreachable")
    assert "sister of gate has learned that at most 1376 bytes go in" in str(told).replace("\n", " ")
    assert lab.test(Flow("desk", "pot", "ping", Options(size=1376))).answered
    assert "of its way learned: 1376" in tunnels(lab.plan, "gate", lab.state).rows[0][1]
    lab.wait(599_999)
    assert lab.test(BIG).deciding.end == "gate"
    lab.wait(1)
    assert lab.test(BIG).deciding.end == "world"
    lab.back_to("before")
    assert lab.test(BIG).deciding.end == "world"


@pytest.mark.parametrize(("kind", "inside"), [("gre", 1376), ("ip-in-ip", 1380), ("vxlan", 1350), ("esp", 1346)])
def test_what_is_said_of_a_narrow_way_is_what_is_learned(kind: str, inside: int) -> None:
    lab = Lab(load(ROUTED, {"MIDDLE": ", mtu: 1400", "KIND": kind, "OTHER": kind}))
    first = lab.send(BIG)
    assert f"at most {inside} bytes go into tunnel sister" in first.told[0].words
    assert lab.state.associations.mtus == {("gate", "sister"): (inside, 600_000)}
    assert lab.test(Flow("desk", "pot", "ping", Options(size=inside))).answered
    assert lab.test(Flow("desk", "pot", "ping", Options(size=inside + 1))).deciding.end == "gate"


@pytest.mark.parametrize(
    ("changes", "end", "words"),
    [
        ({"SEES": "yes, path-mtu: ignore"}, "world", "takes no notice for tunnel sister (path-mtu: ignore)"),
        # the error does not get home: nobody learns
        ({"FIBRE": ", filter: {arriving: no-wrapping}", "PROTOCOL": "icmp"}, "world", "of tunnel sister is lost at gate: no-wrapping rule 10"),
        # its own interface is too narrow: the device knows that by itself
        ({"FIBRE": ", mtu: 1300", "SISTER": ", mtu: 1476", "MIDDLE": ""}, "gate", "at most 1276 bytes go into tunnel sister"),
    ],
)  # fmt: skip
def test_who_learns_of_a_narrow_way(changes: Mapping[str, str], end: str, words: str) -> None:
    lab = Lab(load(ROUTED, {"MIDDLE": ", mtu: 1400"}, changes))
    first = lab.send(BIG)
    assert any(words in b.words for b in first.told), [b.words for b in first.told]
    again = lab.send(BIG)
    assert again.deciding.end == end
    assert (again.symptom.value == "unreachable") is (end == "gate")


DIVIDED = {"SELECTORS": ", df: clear", "MIRRORED": ", df: clear", "MIDDLE": ", mtu: 1400"}


@pytest.mark.parametrize(
    ("kind", "changes", "cause", "words"),
    [
        ("gre", {}, "echo.answered", ""),
        ("ip-in-ip", {}, "echo.answered", ""),
        ("esp", {}, "echo.answered", ""),
        ("gre", {"UP": ", filter: {arriving: pieces}"}, "filter.rule", "pieces rule 10"),
        ("gre", {"MIDDLE": ", mtu: 1400, filter: {leaving: pieces}"}, "echo.answered", ""),  # it was whole there
        # IPv6 is divided by who sends it alone (RFC 8200 section 4.5)
        ("gre", {"TO": "2001:db8:e::2", "BACK": "2001:db8:f::2"}, "mtu.exceeded", "world/g"),
        ("gre", {"TO": "2001:db8:e::2", "BACK": "2001:db8:f::2", "MIDDLE": "", "FIBRE": ", mtu: 1300", "SISTER": ", mtu: 1456"}, "echo.answered", ""),
        ("gre", {"SELECTORS": "", "MIRRORED": ""}, "mtu.exceeded", "world/g"),
        ("gre", {"SELECTORS": ", df: copy"}, "mtu.exceeded", "world/g"),
    ],
)  # fmt: skip
def test_outer_packets_may_be_divided_and_later_pieces_may_meet_other_rules(
    kind: str, changes: Mapping[str, str], cause: str, words: str
) -> None:
    source = text(ROUTED, DIVIDED, {"KIND": kind, "OTHER": kind}, changes)
    source = source.replace("lists:\n", "lists:\n  pieces: [{id: 10, deny: any, fragments: yes}, {id: 20, permit: any}]\n")
    read = mc.read_bytes(source.encode(), "n.yaml")
    assert read.network is not None, [p.line() for p in read.errors]
    journey = mc.trace(read.network, "desk", "pot", "ping", size=1400)
    assert journey.cause == cause, str(journey)
    assert words in str(journey)
    if cause == "echo.answered":
        outer = journey.there.hops[1].outer
        assert outer is not None
        assert [(p.fate.value, p.end) for p in outer.pieces] == [("delivered", "annex")]
        assert "bytes go on in pieces of at most" in " ".join(journey.explain().split())
        assert journey.there.hops[2].rulings is not outer.pieces[0].hops[-1].rulings
        json.dumps(journey.to_dict(details=True))
    elif "pieces" in words:
        assert "a later piece of it, from annex on:" in journey.explain()


def test_what_carries_ipv6_is_divided_below_1280_bytes() -> None:
    """RFC 2473 section 7.1, RFC 8200 section 5: nobody is told that less fits."""
    network = load(ROUTED, {"MIDDLE": ", mtu: 1290"})
    assert mc.trace(network, "desk", "2001:db8:4::10", "ping", size=1280).answered
    lost = mc.trace(network, "desk", "2001:db8:4::10", "ping", size=1281)
    assert (lost.cause, lost.deciding.end) == ("mtu.exceeded", "world")
    assert mc.trace(network, "desk", "pot", "ping", size=1280).cause == "mtu.exceeded"


def test_the_flag_that_lets_inner_packets_past_the_lists() -> None:
    listed = {"SISTER": ", filter: {arriving: no-web}"}
    assert mc.trace(load(ROUTED, listed), "pot", "desk", "https").cause == "filter.rule"
    past = load(ROUTED, listed, {"SEES": "no"})
    assert mc.trace(past, "pot", "desk", "https").cause == "service.closed"
    rows = tunnels(mc.Plan(past), "gate").rows
    assert rows[0][4].splitlines() == ["arriving: no-web, not asked", "lists-see-inner: no"]
    # the lists of an interface that is no tunnel are asked as ever
    assert (
        mc.trace(load(ROUTED, {"FIBRE": ", filter: {arriving: no-wrapping}", "SEES": "no"}), "pot", "desk", "https").cause
        == "filter.rule"
    )


def test_what_passes_below_counts_is_compared_and_can_be_asked_for() -> None:
    lab = Lab(load(ROUTED, {"UP": ", filter: {arriving: no-wrapping}", "PROTOCOL": "esp"}))
    journey = lab.test(Flow("desk", "pot", "tcp/443"))
    assert any(m.table.name == "no-wrapping" and m.row == "20" for m in journey.there.admissions())
    assert {"gate", "world", "annex"} <= lab.passed
    flows = [Flow("desk", "pot", "tcp/443", Options(family=4))]
    lab.keep("before", flows)
    lab.fail("link up")
    assert lab.compare("before", flows).changed
    record = journey.to_dict()
    outer = record["legs"][0]["hops"][1]["outer"]
    assert outer["cause"] == "tunnel.end"
    json.dumps(record)
    assert "within gre 192.0.2.2 > 198.51.100.2, 88 bytes" in journey.explain()
    assert "within gre 192.0.2.2 > 198.51.100.2, 88 bytes" in journey.explain(details=True)


@pytest.mark.parametrize(
    ("changes", "code", "words"),
    [
        ({"TO": "192.0.2.2"}, "tunnel.self", "is gate itself"),
        ({"TO": "10.40.0.0/16"}, "tunnel.end", "is not one address"),
        ({"TO": "nobody-here"}, "name.unknown", "nobody-here"),
        ({"KIND": "rope"}, "value.wrong", "rope"),
        ({"SISTER": ", leased: yes"}, "tunnel.port", "has no VLAN, no lease"),
        ({"SELECTORS": ", while: ther"}, "probe.unknown", "no probe 'ther'"),
        ({"KIND": "vxlan", "SELECTORS": ", df: clear"}, "tunnel.df", "whose ends divide nothing"),
        ({"SELECTORS": ", df: never"}, "value.wrong", "never"),
        ({"SELECTORS": ", selectors: {from: hose}"}, "name.unknown", "hose"),
        ({"SELECTORS": ", selectors: {does: wrap}"}, "value.wrong", "wrap"),
    ],
)
def test_what_cannot_be_meant_is_refused(changes: Mapping[str, str], code: str, words: str) -> None:
    found = mc.read_bytes(text(ROUTED, changes).encode(), "n.yaml")
    assert found.network is None
    assert any(p.code == code and words in p.message for p in found.errors), [p.line() for p in found.errors]


@pytest.mark.parametrize(
    ("changes", "code", "words"),
    [
        (ROUTED, "", ""),
        (SELECTED, "", ""),
        ({"KIND": "esp"}, "tunnel.unlike", "says kind esp, and its other end annex/home says gre"),
        ({"BACK": "192.0.2.1"}, "tunnel.unlike", "annex has no tunnel to 192.0.2.2"),
        ({**ROUTED, "SISTER": "}\n      again: {tunnel: {to: 198.51.100.2, by: fibre}"}, "tunnel.twice", "everything comes out of sister"),
        ({"TO": "203.0.113.7"}, "tunnel.nobody", "nobody here has 203.0.113.7"),
        ({**SELECTED, "MIRRORED": ""}, "tunnel.unlike", "annex/home has no selectors"),
        ({**SELECTED, "MIRRORED": ", selectors: {from: 10.44.0.0/16}"}, "tunnel.unlike", "has none that protects 10.44.0.0/16 to 10.40.1.0/24"),
    ],
)  # fmt: skip
def test_what_check_says_of_two_ends(changes: Mapping[str, str], code: str, words: str) -> None:
    found = mc.read_bytes(text(changes).encode(), "n.yaml")
    assert found.network is not None
    told = [p for p in found.problems if p.code.startswith("tunnel.")]
    assert bool(told) == bool(code), [p.line() for p in told]
    assert not code or any(p.code == code and words in p.message for p in told), [p.line() for p in told]


@pytest.mark.parametrize(("count", "wide", "told"), [(4, False, False), (5, False, True), (5, True, False), (9, False, True)])
def test_selectors_of_single_hosts_are_told_where_they_are_many(count: int, wide: bool, told: bool) -> None:
    lines = [f"{{from: 10.40.1.{n + 10}, to: 10.44.0.0/16}}" for n in range(count)]
    mirrored = [f"{{from: 10.44.0.0/16, to: 10.40.1.{n + 10}}}" for n in range(count)]
    if wide:
        lines, mirrored = [*lines, "{from: 10.40.9.0/24, to: 10.44.0.0/16}"], [*mirrored, "{from: 10.44.0.0/16, to: 10.40.9.0/24}"]
    changes = {"SELECTORS": f", selectors: [{', '.join(lines)}]", "MIRRORED": f", selectors: [{', '.join(mirrored)}]"}
    found = mc.read_bytes(text(changes).encode(), "n.yaml")
    assert found.network is not None
    assert {p.code for p in found.problems if p.code.startswith("tunnel.")} == ({"tunnel.fine"} if told else set())


def test_an_own_order_must_ask_the_selectors() -> None:
    order = "[arrive, recall, to self, forwarding, route, time to live, send]"
    own = text(SELECTED).replace(
        "    settings: {lists-see-inner: yes}", f"    settings: {{lists-see-inner: yes}}\n    order: {order}"
    )
    found = mc.read_bytes(own.encode(), "n.yaml")
    assert any(p.code == "tunnel.order" for p in found.errors)
    whole = own.replace("time to live, send]", "time to live, tunnel, send]")
    read = mc.read_bytes(whole.encode(), "n.yaml")
    assert read.network is not None
    assert mc.trace(read.network, "desk", "pot", "https").answered


def test_ospf_speaks_over_a_tunnel() -> None:
    spoken = text({"SISTER": ", address: 10.47.0.1/30, ospf: 0", "HOME": ", address: 10.47.0.2/30, ospf: 0"}).replace(
        'house: {address: [10.40.1.1/24, "2001:db8:1::1/64"]}',
        'house: {address: [10.40.1.1/24, "2001:db8:1::1/64"], ospf: {passive: yes}}',
    )
    spoken = spoken.replace(
        'shed: {address: [10.44.1.1/24, "2001:db8:4::1/64"]}',
        'shed: {address: [10.44.1.1/24, "2001:db8:4::1/64"], ospf: {passive: yes}}',
    )
    read = mc.read_bytes(spoken.encode(), "n.yaml")
    assert read.network is not None, [p.line() for p in read.errors]
    journey = mc.trace(read.network, "desk", "pot", "https", family=4)
    assert journey.answered
    assert journey.there.hops[1].leaving == "sister"


@pytest.mark.parametrize(
    ("way", "changes"),
    [
        (ROUTED, {}),
        (ROUTED, {"HOME": ", filter: {arriving: no-web}"}),
        (SELECTED, {}),
        (SELECTED, {"SELECTORS": ", selectors: [{does: bypass, to: 10.44.1.10}, {from: 10.40.1.0/24, to: 10.44.0.0/16}, {does: discard}]"}),
        (SELECTED, {"TRANSLATE": HIDE, **OPEN}),
        (SELECTED, {"MIRRORED": ", selectors: {from: 10.44.1.11, to: 10.40.1.0/24}"}),
    ],
)  # fmt: skip
def test_packets_of_a_cell_are_treated_alike(way: Mapping[str, str], changes: Mapping[str, str]) -> None:
    plan, chance, sets, tried = mc.Plan(load(way, changes)), random.Random(1), Sets(room()), 0
    for one, other, service in (
        ("desk", "pot", "https"),
        ("pot", "desk", "ping"),
        ("desk", "annex", "ssh"),
        ("annex", "gate", "ping"),
    ):
        asked = mc.ask(plan, one, other, service)
        assert asked.packet is not None
        tried += behaves_alike(plan, sets, Emission(asked.packet, asked.device, Way.THERE), Moment(), chance, 2)
    assert tried


def test_an_answer_that_is_lost_with_its_outer_packet_is_not_taken_for_one_that_went_elsewhere() -> None:
    other = {
        "HOME": "}\n      other: {tunnel: {to: 192.0.2.2, by: up, kind: vxlan}",
        "ANNEX": ROUTED["ANNEX"].replace("home", "other"),
    }
    journey = mc.trace(load(ROUTED, other), "desk", "pot", "https", family=4)
    assert (journey.cause, journey.lost, journey.deciding.end) == ("service.closed", "back", "gate")


def test_a_strict_check_of_sources_lets_pass_what_selectors_led_another_way() -> None:
    strict = text(SELECTED, OPEN).replace(
        "settings: {lists-see-inner: yes}", "settings: {lists-see-inner: yes, source-check: strict}"
    )
    read = mc.read_bytes(strict.encode(), "n.yaml")
    assert read.network is not None
    assert mc.trace(read.network, "desk", "pot", "https", family=4).answered
    assert mc.trace(read.network, "pot", "desk", "ping").answered
    # what comes by the wrong side in the clear is stopped as ever
    assert mc.trace(read.network, "pot", "desk", "ping", source="10.40.1.77").cause == "source.check"


def test_findings_know_where_a_tunnel_leads() -> None:
    keeps = text(ROUTED).replace("  gate:\n    kind: router", "  gate:\n    kind: firewall\n    stateful: [tcp, udp, icmp]")
    read = mc.read_bytes(keeps.replace("house: {address", "house: {outside: no, address").encode(), "n.yaml")
    assert read.network is not None, [p.line() for p in read.errors]
    told = [*read.problems, *mc.findings(mc.Plan(read.network))]
    assert [p.line() for p in told if p.code == "session.one-way"] == []
    # into a tunnel goes what is led there: what its other end would send elsewhere does not come from here
    hidden = mc.read_bytes(
        text(ROUTED, {"TRANSLATE": HIDE, "WORLD": "{prefix: 10.44.0.0/16, next-hop: 198.51.100.2}"}).encode(), "n.yaml"
    )
    assert hidden.network is not None
    told = [*hidden.problems, *mc.findings(mc.Plan(hidden.network))]
    assert [p.line() for p in told if p.code == "subnet.no-way-back" and "10.40.1.0/24" in p.message] == []
