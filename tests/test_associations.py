"""Tunnels whose keys are exchanged: what an exchange needs, what is agreed on, how long it holds, and which lists it holds.

RFC 7296 has the exchange, RFC 3948 what is within UDP, RFC 4301 what is selected.
"""

from __future__ import annotations

import json
import random
from collections.abc import Mapping
from pathlib import Path

import pytest

import mossy_compass as mc
from mossy_compass.headers.spans import as_text
from mossy_compass.lab.agreed import one_sided
from mossy_compass.lab.claims import Claim
from mossy_compass.lab.conversation import parse_then
from mossy_compass.lab.forms import Sets, room
from mossy_compass.lab.lab import Flow, Lab
from mossy_compass.lab.prove import prove
from mossy_compass.packet.address import parse_address
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.wrapping import Wrapping, inner_mtu, outer_size
from mossy_compass.plan.actions import OpenSession
from mossy_compass.plan.alike_actions import alike_to_action
from mossy_compass.plan.facts import Facts, Moment, Relation
from mossy_compass.report.tunnelstext import tunnels
from mossy_compass.state.state import State
from mossy_compass.walk.question import Options
from tests.effort import at_length
from tests.test_cli import mossy
from tests.test_whole import everything, fares_alike

TEXT = """\
mossy-network: 1
devices:
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  loom: {kind: host, address: 10.40.1.70/24, gateway: 10.40.1.1, serves: [ssh]}
  gate:
    kind: router
    interfaces:
      house: {address: 10.40.1.1/24}
      fibre: {address: 192.0.2.2/30#FIBRE}
      sister: {tunnel: {to: #TO, by: fibre, kind: esp, #KEYS#PROPOSES#SELECTORS}#SISTER}
    routes: [{prefix: default, next-hop: 192.0.2.1}#ROUTES]
    settings: {#GATE}
  world:
    kind: router
    interfaces: {f: 192.0.2.1/30, g: {address: 198.51.100.1/30#MIDDLE}}
  annex:
    kind: router
    interfaces:
      shed: {address: 10.44.1.1/24}
      up: {address: 198.51.100.2/30#UP}
      home: {tunnel: {to: #BACK, by: up, kind: esp, #THEIRS#ANSWERS#MIRRORED}#HOME}
    routes: [{prefix: default, next-hop: 198.51.100.1}#RETURN]
    settings: {#ANNEX}
  pot: {kind: host, address: 10.44.1.10/24, gateway: 10.44.1.1, serves: [https, ssh]}
  fern: {kind: host, address: 10.44.1.20/24, gateway: 10.44.1.1, serves: [https]}
lists:
  no-keys: [{id: 10, deny: udp, to-port: 500}, {id: 20, permit: any}]
  no-around: [{id: 10, deny: udp, to-port: 4500}, {id: 20, permit: any}]
  no-esp: [{id: 10, deny: esp}, {id: 20, permit: any}]
  web: [{id: 10, permit: tcp, service: https}, {id: 20, permit: tcp, service: ssh, from: loom}, {id: 30, deny: any}]
segments:
  house: [desk, loom, gate/house]
  fibre: [gate/fibre, world/f]
  up: [annex/up, world/g]
  shed: [annex/shed, pot, fern]
"""
USUAL = {
    "TO": "198.51.100.2", "BACK": "192.0.2.2", "FIBRE": "", "KEYS": "keys: exchanged", "THEIRS": "keys: exchanged", "PROPOSES": "",
    "ANSWERS": "", "SELECTORS": ", selectors: {from: 10.40.1.0/24, to: 10.44.0.0/16}",
    "MIRRORED": ", selectors: {from: 10.44.0.0/16, to: 10.40.1.0/24}", "SISTER": "", "HOME": "", "ROUTES": "", "RETURN": "",
    "GATE": "", "ANNEX": "", "MIDDLE": "", "UP": "",
}  # fmt: skip
ROUTED = {
    "SELECTORS": "", "MIRRORED": "", "ROUTES": ", {prefix: 10.44.0.0/16, leaving: sister}",
    "RETURN": ", {prefix: 10.40.0.0/16, leaving: home}",
}  # fmt: skip
BOX = """\
  box:
    kind: firewall
    interfaces: {in: 10.41.0.1/30, out: {address: 192.0.2.2/30, outside: yes#BOX}}
    routes: [{prefix: default, next-hop: 192.0.2.1}]
    translate: [{id: hide, source: any, leaving: out, becomes: interface}#FRONT]
"""


def text(*changes: Mapping[str, str]) -> str:
    out = TEXT
    for word, value in {k: v for c in (USUAL, *changes) for k, v in c.items()}.items():
        out = out.replace(f"#{word}", value)
    return out


def behind(box: str = "", front: str = "", *changes: Mapping[str, str]) -> str:
    """The same, with a firewall before the gate that translates its address."""
    out = text(*changes).replace("192.0.2.2/30", "10.41.0.2/30").replace("next-hop: 192.0.2.1}", "next-hop: 10.41.0.1}")
    out = out.replace("  world:\n", BOX.replace("#BOX", box).replace("#FRONT", front) + "  world:\n")
    return out.replace("  fibre: [gate/fibre, world/f]", "  lan: [gate/fibre, box/in]\n  fibre: [box/out, world/f]")


def read(source: str) -> mc.Network:
    found = mc.read_bytes(source.encode(), "n.yaml")
    assert found.network is not None, [p.line() for p in found.errors]
    return found.network


def load(*changes: Mapping[str, str]) -> mc.Network:
    return read(text(*changes))


def told(journey: mc.Journey) -> str:
    """What is said of a journey, in one line."""
    return " ".join(journey.explain().split())


WEB = Flow("desk", "pot", "tcp/443")
BACK = Flow("pot", "desk", "ping")


@pytest.mark.parametrize("way", [{}, ROUTED], ids=["selected", "routed"])
def test_the_first_packet_makes_an_association_and_goes_in(way: Mapping[str, str]) -> None:
    lab = Lab(load(way))
    first = lab.send(WEB)
    assert first.answered
    hop = first.there.hops[1]
    assert [(str(leg.packet), leg.cause) for leg in hop.exchange] == [
        ("udp 192.0.2.2:500 > 198.51.100.2:500", "exchange.taken"),
        ("udp 198.51.100.2:500 > 192.0.2.2:500", "answer.arrived"),
    ]
    assert hop.outer is not None
    assert hop.outer.packet.protocol == 50
    assert "association 1 of tunnel sister is made with annex" in told(first)
    # both ends have it, each from its side
    held = [lab.state.associations.of(name)[0] for name in ("gate", "annex")]
    assert [(a.number, a.device, a.tunnel, a.peer, str(a.to), a.asked) for a in held] == [
        (1, "gate", "sister", "annex", "198.51.100.2", True),
        (1, "annex", "home", "gate", "192.0.2.2", False),
    ]
    assert (held[0].mine, held[0].far) == (held[1].far, held[1].mine)
    ends = "any to any" if way else "10.40.1.0/24 to 10.44.0.0/16"
    assert f"association 1: {ends}, 0 s old, 8 h left" in tunnels(lab.plan, "gate", lab.state).rows[0][2]
    # the next ones go by it, both ways
    for flow in (WEB, BACK):
        again = lab.send(flow)
        assert again.answered
        assert not any(h.exchange for leg in again.legs for h in leg.hops)
    assert [len(lab.state.associations.of(name)) for name in ("gate", "annex")] == [1, 1]


FAILS = [
    # what is in the way of the exchange, there and back
    ({"UP": ", filter: {arriving: no-keys}"}, "filter.rule", "annex", "as the exchange of keys (udp 192.0.2.2:500 > 198.51.100.2:500) for"),
    ({"MIDDLE": ", filter: {leaving: no-keys}"}, "filter.rule", "world", "no-keys rule 10"),
    ({"MIDDLE": ", filter: {arriving: no-keys}"}, "filter.rule", "world", "of annex) for tunnel sister of gate"),
    ({"MIDDLE": ", filter: {arriving: no-esp}"}, "filter.rule", "world", "as the outer packet (esp 198.51.100.2"),
    ({"TO": "203.0.113.9"}, "route.none", "world", "as the exchange of keys"),
    ({"UP": ", state: disabled"}, "interface.down", "world", "as the exchange of keys"),
    # it gets there, and who is there wants something else
    ({"BACK": "192.0.2.9"}, "tunnel.mismatch", "annex", "no tunnel of annex takes udp 192.0.2.2:500"),
    ({"THEIRS": "keys: by-hand"}, "service.closed", "annex", "as the exchange of keys"),
    ({"KEYS": "keys: by-hand"}, "tunnel.unknown", "annex", "sister of gate has its keys by hand, and its other end home of annex exchanges"),
    ({"PROPOSES": ", proposals: [gcm-256, gcm-128]", "ANSWERS": ", proposals: chacha"}, "tunnel.mismatch", "annex", "gcm-256, gcm-128 there, chacha here"),
    ({"PROPOSES": ", proposals: [gcm-256, gcm-128]", "ANSWERS": ", proposals: gcm-128"}, "service.open", "pot", ""),
    ({"PROPOSES": ", proposals: gcm-256"}, "service.open", "pot", ""),
    # selectors: what the other end does not protect is not agreed on (RFC 7296 section 2.9)
    ({"MIRRORED": ", selectors: {from: 10.44.1.11, to: 10.40.1.0/24}"}, "tunnel.mismatch", "annex", "protects nothing between 10.44.1.10"),
    ({"MIRRORED": ", selectors: {from: 10.44.1.10, to: 10.40.1.10}"}, "service.open", "pot", ""),
    ({"MIRRORED": ", selectors: [{does: bypass, to: 10.40.9.0/24}, {from: 10.44.0.0/16, to: 10.40.1.0/24}]"}, "service.open", "pot", ""),
    ({"MIRRORED": ", selectors: {from: 10.40.1.0/24, to: 10.44.0.0/16}"}, "tunnel.mismatch", "annex", "protects nothing"),
    ({"MIRRORED": "", "RETURN": ", {prefix: 10.40.0.0/16, leaving: home}"}, "service.open", "pot", ""),
    # led in by a route, and between none of its own selectors
    ({"SELECTORS": ", selectors: {from: 10.40.2.0/24, to: 10.44.0.0/16}", "ROUTES": ", {prefix: 10.44.0.0/16, leaving: sister}"}, "tunnel.selector", "gate", "protects 10.40.1.10 to 10.44.1.10, so there is no"),
]  # fmt: skip


@pytest.mark.parametrize(("changes", "cause", "end", "words"), FAILS)
def test_what_an_exchange_fails_by_is_the_cause(changes: Mapping[str, str], cause: str, end: str, words: str) -> None:
    journey = mc.trace(load(changes), "desk", "pot", "https")
    assert (journey.cause, journey.deciding.end) == (cause, end), str(journey)
    assert words in str(journey)
    assert journey.answered is (cause == "service.open")
    if cause != "service.open":
        lab = Lab(load(changes))
        lab.send(WEB)
        by_then = [len(lab.state.associations.of(name)) for name in ("gate", "annex")]
        assert by_then == ([1, 1] if "outer packet" in words else [0, 0])


def test_an_exchange_behind_translation_goes_on_within_udp() -> None:
    """RFC 7296 section 2.23, RFC 3948 section 2.1: UDP with port 4500 at both ends, eight bytes more."""
    lab = Lab(read(behind()))
    first = lab.send(WEB)
    assert first.answered
    hop = first.there.hops[1]
    assert [str(leg.packet) for leg in hop.exchange] == [
        "udp 10.41.0.2:500 > 198.51.100.2:500",
        "udp 198.51.100.2:500 > 192.0.2.2:500",
        "udp 10.41.0.2:4500 > 198.51.100.2:4500",
        "udp 198.51.100.2:4500 > 192.0.2.2:4500",
    ]
    assert hop.outer is not None
    assert (str(hop.outer.packet), hop.outer.packet.size) == ("udp 10.41.0.2:4500 > 198.51.100.2:4500", 128)
    assert first.back is not None
    outer = first.back.hops[1].outer
    assert outer is not None
    assert (str(outer.packet.destination), outer.packet.to_port) == ("192.0.2.2", 4500)
    assert "within UDP as an address is translated between them" in told(first)
    # long after the mapping's time it still holds: its owner has kept it alive (RFC 3948 section 4)
    lab.wait(3_600_000)
    assert lab.send(BACK).answered
    # nobody outside can begin
    assert Lab(read(behind())).test(BACK).cause == "filter.inbound"
    shut = mc.trace(read(behind("", "", {"UP": ", filter: {arriving: no-around}"})), "desk", "pot", "https")
    assert (shut.cause, shut.deciding.end) == ("filter.rule", "annex")
    assert ":4500 > 198.51.100.2:4500) for tunnel sister" in str(shut)


def test_an_end_that_has_another_port_by_now_is_sent_to_there() -> None:
    """RFC 7296 section 2.23: the address and port of the last packet that was its."""
    lab = Lab(read(behind(front=", {id: other, to: 192.0.2.2, service: udp/4500, arriving: out, goes-to: 10.41.0.9}")))
    lab.state.advance(1)
    first = lab.send(WEB)
    held = lab.state.associations.of("annex")[0]
    assert (first.answered, str(held.to), held.to_port) == (True, "192.0.2.2", 1024)  # 4500 is given to somebody else
    assert lab.send(BACK).answered


def test_sizes_within_udp() -> None:
    assert inner_mtu(Wrapping.ESP, 4, 1500) == 1446
    assert outer_size(Wrapping.ESP, 4, 1438, around=True) <= 1500 < outer_size(Wrapping.ESP, 4, 1439, around=True)
    assert outer_size(Wrapping.ESP, 6, 100, around=True) == outer_size(Wrapping.ESP, 6, 100) + 8


def test_each_pair_of_selectors_is_an_association() -> None:
    """RFC 4301 section 4.4.1.2; what is agreed on is what both ends protect."""
    two = {
        "SELECTORS": ", selectors: [{from: 10.40.1.0/26, to: 10.44.0.0/16}, {from: 10.40.1.64/26, to: 10.44.0.0/16}]",
        "MIRRORED": ", selectors: [{from: 10.44.1.0/24, to: 10.40.1.0/24}]",
    }
    lab = Lab(load(two))
    for sender in ("desk", "loom", "desk"):
        assert lab.send(Flow(sender, "pot", "tcp/443")).answered
    held = lab.state.associations.of("gate")
    assert [(as_text(a.mine), as_text(a.far)) for a in held] == [
        ("10.40.1.0/26", "10.44.1.0/24"),
        ("10.40.1.64/26", "10.44.1.0/24"),
    ]


@pytest.mark.parametrize(
    ("gate", "annex", "lives"),
    [("", "", 8 * 3600), ("association-for: 1 h", "", 3600), ("", "association-for: 10 min", 600), ("association-for: never", "association-for: 2 h", 7200), ("association-for: never", "association-for: never", None)],
)  # fmt: skip
def test_it_lives_as_long_as_both_ends_say(gate: str, annex: str, lives: int | None) -> None:
    lab = Lab(load({"GATE": gate, "ANNEX": annex}))
    lab.send(WEB)
    for name in ("gate", "annex"):
        assert lab.state.associations.of(name)[0].ends == (None if lives is None else lives * 1000)
    if lives is None:
        lab.wait(400 * 24 * 3600 * 1000)
        assert lab.state.associations.of("gate")
        return
    lab.wait(lives * 1000 - 1)
    assert lab.state.associations.of("annex")
    lab.wait(1)
    assert not lab.state.associations.of("gate")
    assert not lab.state.associations.of("annex")
    assert lab.send(WEB).answered  # and the next packet makes another
    assert lab.state.associations.of("gate")[0].number == 2


LISTED = {"HOME": ", filter: {arriving: web}"}
SSH = Flow("loom", "pot", "tcp/22")


def test_a_list_that_is_changed_is_not_in_force_until_the_association_is_made_anew() -> None:
    lab = Lab(load(LISTED))
    assert lab.send(SSH).answered
    changed = read(text(LISTED).replace("from: loom}", "from: desk}"))
    lab.change(changed)
    now = lab.test(SSH)
    assert now.answered
    assert "as it was when association 1 of tunnel home was made" in told(now)
    assert lab.test(Flow("desk", "pot", "tcp/22")).cause == "filter.rule"
    assert [(a.device, a.number) for a in lab.outdated()] == [("annex", 1)]
    assert "association 1 holds them as they were" in tunnels(lab.plan, "annex", lab.state).rows[0][4]
    # explained by the rules that it met, not by those of now
    lost = lab.test(Flow("desk", "pot", "tcp/22"))
    ruling = next(r for r in lost.there.hops[2].rulings if r.stage == "arriving list")
    over = lab.plan.passed_over("annex", ruling)
    assert [(o.id, o.words) for o in over][1] == ("20", "10.40.1.10 is not in loom (10.40.1.70)")
    lab.clear("annex")
    assert not lab.outdated()
    assert lab.test(SSH).cause == "filter.rule"
    assert lab.test(Flow("desk", "pot", "tcp/22")).answered


@pytest.mark.parametrize(
    ("before", "after", "flow", "held", "fresh"),
    [
        ({}, LISTED, SSH, True, True),
        ({}, LISTED, Flow("desk", "pot", "tcp/22"), True, False),  # attached since
        (LISTED, {}, Flow("desk", "pot", "tcp/22"), False, True),  # detached since
        (LISTED, {"HOME": ", filter: {arriving: [web, no-esp]}"}, Flow("desk", "pot", "tcp/22"), False, False),
        (LISTED, {**LISTED, "ANNEX": "association-lists: as-written"}, WEB, True, True),
        ({}, {**LISTED, "ANNEX": "association-lists: as-written"}, Flow("desk", "pot", "tcp/22"), False, False),
    ],
)
def test_lists_that_are_attached_or_taken_away(
    before: Mapping[str, str], after: Mapping[str, str], flow: Flow, held: bool, fresh: bool
) -> None:
    lab = Lab(load(before))
    lab.send(WEB)
    lab.change(load(after))
    assert lab.test(flow).answered is held
    lab.clear("gate")
    assert lab.test(flow).answered is fresh
    assert mc.trace(load(after), flow.source, flow.target, flow.service).answered is fresh


def test_a_change_elsewhere_and_another_place_of_the_same_rules_change_nothing() -> None:
    lab = Lab(load(LISTED))
    lab.send(WEB)
    lab.change(read("\n\n" + text(LISTED).replace("no-esp: [{id: 10, deny: esp}", "no-esp: [{id: 10, deny: gre}")))
    assert not lab.outdated()
    assert "as it was" not in told(lab.test(WEB))


def test_two_associations_may_hold_two_versions() -> None:
    two = {"SELECTORS": ", selectors: [{from: 10.40.1.0/26, to: 10.44.0.0/16}, {from: 10.40.1.64/26, to: 10.44.0.0/16}]", **LISTED}
    lab = Lab(load(two))
    lab.send(WEB)
    lab.change(read(text(two).replace("service: https}", "service: http}")))
    assert lab.send(SSH).answered
    assert [(a.number, a.device) for a in lab.outdated()] == [(1, "annex")]
    assert lab.test(WEB).answered
    assert lab.test(Flow("loom", "pot", "tcp/443")).cause == "filter.rule"


def test_clearing_tells_the_other_end_where_it_can() -> None:
    lab = Lab(load())
    lab.send(WEB)
    lab.clear("gate")
    assert not lab.state.associations
    lab.send(WEB)
    lab.fail("link fibre")
    lab.clear("gate")
    lab.restore()
    assert [len(lab.state.associations.of(name)) for name in ("gate", "annex")] == [0, 1]
    # who was not told goes on, and is not understood; who asks anew is
    lost = lab.test(BACK)
    assert (lost.cause, lost.deciding.end) == ("tunnel.unknown", "gate")
    assert "gate has no association 2, by which annex sends into tunnel home" in str(lost)
    assert lab.send(WEB).answered
    assert lab.test(BACK).answered


def test_another_tunnel_ends_what_was_agreed_and_another_name_does_not() -> None:
    lab = Lab(load())
    lab.send(WEB)
    renamed = read(text().replace("annex:", "shack:").replace("annex/", "shack/"))
    lab.change(renamed, [("devices/annex", "shack")])
    assert [(a.device, a.peer) for n in ("gate", "shack") for a in lab.state.associations.of(n)] == [
        ("gate", "shack"),
        ("shack", "gate"),
    ]
    assert not any(h.exchange for h in lab.send(WEB).there.hops)
    lab = Lab(load())
    lab.send(WEB)
    lab.change(load({"PROPOSES": ", proposals: gcm-256"}))
    assert not lab.state.associations


def test_a_moment_that_is_gone_back_to_is_as_it_was() -> None:
    lab = Lab(load())
    lab.send(WEB)
    before = lab.state.__getstate__()
    lab.keep("one")
    lab.wait(9 * 3600 * 1000)
    lab.send(BACK)
    lab.clear("annex")
    lab.back_to("one")
    assert lab.state.__getstate__() == before
    assert lab.state.associations.of("gate")[0].number == 1
    lab.test(WEB)
    assert lab.state.__getstate__() == before  # a test leaves nothing behind


def test_the_first_packet_may_be_lost() -> None:
    lab = Lab(load({"GATE": "tunnel-first-packet: lose"}))
    first = lab.send(WEB)
    assert (first.cause, first.there.end) == ("tunnel.first-packet", "gate")
    assert len(first.there.hops[1].exchange) == 2
    assert lab.send(WEB).answered
    assert Lab(load({"ANNEX": "tunnel-first-packet: lose"})).send(WEB).answered  # it is who asks that waits or loses
    blocked = mc.trace(load({"GATE": "tunnel-first-packet: lose", "UP": ", filter: {arriving: no-keys}"}), "desk", "pot", "https")
    assert blocked.cause == "filter.rule"  # what the exchange fails by is the cause


@pytest.mark.parametrize(
    ("changes", "words"),
    [({"KEYS": "keys: rope"}, "rope"), ({"KEYS": "keys: by-hand", "PROPOSES": ", proposals: a"}, "nobody asks for them")],
)
def test_what_cannot_be_meant_is_refused(changes: Mapping[str, str], words: str) -> None:
    found = mc.read_bytes(text(changes).encode(), "n.yaml")
    assert found.network is None
    assert any(words in p.message for p in found.errors)
    plain = mc.read_bytes(text().replace("kind: esp, keys", "kind: gre, keys").encode(), "n.yaml")
    assert {p.code for p in plain.errors} == {"tunnel.keys"}


@pytest.mark.parametrize(
    ("source", "words"),
    [
        (text(), ""),
        (text({"THEIRS": "keys: by-hand"}), "has keys: exchanged, and its other end annex/home by-hand"),
        (text({"PROPOSES": ", proposals: a", "ANSWERS": ", proposals: [b, c]"}), "proposes a, and its other end annex/home b, c"),
        (text({"PROPOSES": ", proposals: a", "ANSWERS": ", proposals: [b, a]"}), ""),
        (text({"BACK": "192.0.2.1"}), "annex has no tunnel to 192.0.2.2"),
        (behind(), ""),
    ],
)
def test_findings(source: str, words: str) -> None:
    found = [p.message for p in mc.read_bytes(source.encode(), "n.yaml").problems if p.code == "tunnel.unlike"]
    assert bool(found) is bool(words), found
    assert any(words in m for m in found) or not words


SHAPES = [
    {},
    ROUTED,
    {"MIRRORED": ", selectors: [{from: 10.44.1.0/28, to: 10.40.1.0/26}, {from: 10.44.1.16/28, to: 10.40.1.64/26}]"},
    {"SELECTORS": ", selectors: [{from: 10.40.1.10, to: 10.44.1.10}, {from: 10.40.1.0/24, to: 10.44.1.20}]", "MIRRORED": ", selectors: {to: 10.40.1.0/26}"},
    {"UP": ", filter: {arriving: no-keys}"},
    {**LISTED, "GATE": "tunnel-first-packet: lose"},
]  # fmt: skip


@pytest.mark.scaled
@pytest.mark.parametrize("changes", SHAPES)
def test_packets_of_a_set_fare_alike_through_an_exchange(changes: Mapping[str, str]) -> None:
    plan, chance, sets = mc.Plan(load(changes)), random.Random(3), Sets(room(64))
    targets = [parse_address(a) for a in ("10.44.1.10", "10.44.1.20", "10.44.1.99", "10.40.1.10")]
    for name in ("desk",) if not at_length() else ("desk", "loom", "fern"):
        assert fares_alike(plan, sets, name, everything(sets, plan, name, targets), chance, 3, Moment()) > 0


def test_a_proof_through_an_exchange_names_what_that_fails_by() -> None:
    network = load({"MIRRORED": ", selectors: {from: 10.44.1.10, to: 10.40.1.0/24}"})
    assert prove(network, Claim("desk", "pot", ("https",), never=False)).holds
    found = prove(network, Claim("desk", "fern", ("https",), never=False))
    assert not found.holds
    assert "protects nothing between 10.44.1.20" in str(found.against[0].journey)


@pytest.mark.parametrize(
    ("source", "one", "reached", "first"),
    [
        (text(), False, True, True),
        (text({"MIDDLE": ", filter: {arriving: no-keys}"}), False, False, False),  # nobody can begin
        (behind(), True, True, False),
        (text({"GATE": "tunnel-first-packet: lose"}), True, True, True),
        (text({"ANNEX": "tunnel-first-packet: lose"}), True, True, False),
        (text({"ANNEX": "association-for: never"}), False, True, True),
        (text({"THEIRS": "keys: by-hand"}), False, False, False),
    ],
)
def test_never_is_said_of_packets_that_go_by_what_the_other_end_agreed_on_too(
    source: str, one: bool, reached: bool, first: bool
) -> None:
    network = read(source)
    assert one_sided(mc.Plan(network)) is one
    for sender, target in (("pot", "desk"), ("desk", "pot")):
        found = prove(network, Claim(sender, target))
        assert found.holds is not reached, (sender, found.doubtful)
        if reached:
            assert found.against[0].journey.there.fate.value in ("delivered", "refused")
    # and that it reaches is said of what comes first, too
    assert prove(network, Claim("pot", "desk", ("ping",), never=False)).holds is first


def asked(path: Path, source: str, *options: str) -> tuple[int, str]:
    path.write_text(source)
    done = mossy(path.parent, "trace", path.name, *options)
    return done.returncode, " ".join((done.stdout + done.stderr).split())


@pytest.mark.parametrize(
    ("source", "which", "code", "words"),
    [
        (text(), "tunnel gate/sister", 0, "AGREED with annex (198.51.100.2): 10.40.1.0/24 to 10.44.0.0/16, for 8 h; what carries packets gets there and back"),
        (text({"ANNEX": "association-for: never", "GATE": "association-for: never"}), "tunnel annex/home", 0, "for ever"),
        (text(ROUTED), "tunnel gate/sister", 0, "AGREED with annex (198.51.100.2): any to any, for 8 h"),
        (behind(), "tunnel gate/sister", 0, "within udp/4500, for an address is translated between them"),
        (behind(), "tunnel annex/home", 1, "NOT AGREED at box: inbound: deny"),
        (text({"MIDDLE": ", filter: {arriving: no-esp}"}), "tunnel gate/sister", 1, "BUT what carries packets is LOST on the way back at world: no-esp rule 10"),
        (text({"UP": ", filter: {arriving: no-esp}"}), "tunnel gate/sister", 1, "is LOST on the way there at annex"),
        (text({"PROPOSES": ", proposals: a", "ANSWERS": ", proposals: b"}), "tunnel gate/sister", 1, "NOT AGREED at annex: gate and annex have no proposal in common"),
        (text({"SELECTORS": ", selectors: [{from: 10.40.1.0/26, to: 10.44.0.0/16}, {from: 10.40.2.0/24, to: 10.44.0.0/16}]"}), "tunnel gate/sister", 1, "10.40.1.0/26 to 10.44.0.0/16"),
        (text({"KEYS": "keys: by-hand", "THEIRS": "keys: by-hand"}), "tunnel gate/sister", 2, "has its keys by hand"),
        (text(), "tunnel gate/siter", 2, "Did you mean gate/sister?"),
        (text(), "probe gate/up", 2, "there is no probe 'gate/up'"),
        (text(), "rope", 2, "is nothing that a device sends by itself"),
    ],
)  # fmt: skip
def test_the_exchange_alone_can_be_asked_for(tmp_path: Path, source: str, which: str, code: int, words: str) -> None:
    found = asked(tmp_path / "n.yaml", source, "--own", which)
    assert found[0] == code, found
    assert words in found[1]
    if code < 2:
        details = asked(tmp_path / "n.yaml", source, "--own", which, "--details")
        assert details[0] == code
        _, data = asked(tmp_path / "n.yaml", source, "--own", which, "--format", "json")
        told = json.loads(data)
        every = told if isinstance(told, list) else [told]
        assert all(one["agreed"] and one["carries"] for one in every) is (code == 0)


def test_what_is_said_with_own_is_said_alone(tmp_path: Path) -> None:
    for more in (("--from", "desk"), ("--then", "data"), ("--every-path",), ("--log", "-"), ("--capture", "x.pcapng")):
        assert asked(tmp_path / "n.yaml", text(), "--own", "tunnel gate/sister", *more)[0] == 2
    assert asked(tmp_path / "n.yaml", text(), "--from", "desk")[0] == 2


def test_clearing_within_a_conversation_ends_what_was_agreed_too(tmp_path: Path) -> None:
    code, said = asked(tmp_path / "n.yaml", text(LISTED), "--from", "desk", "--to", "pot", "--service", "https", "--then", "clear annex", "--then", "again")  # fmt: skip
    assert code == 0
    lab = Lab(load(LISTED))
    lab.talks["page"] = lab.converse(WEB)
    assert lab.state.associations
    lab.say("page", parse_then("clear annex", lab.network))
    assert not lab.state.associations
    assert "again" in said


def test_the_ports_of_an_exchange_can_be_asked_for_like_any() -> None:
    """What answers it is an answer, and is not taken for another question."""
    journey = mc.trace(load(), "gate", "198.51.100.2", "udp/500", source_port=500)
    assert (journey.answered, len(journey.legs)) == (True, 2)
    assert mc.trace(load(), "gate", "198.51.100.2", "udp/4500", source_port=4500).cause == "tunnel.end"
    assert mc.trace(load(), "pot", "198.51.100.2", "udp/500").cause == "tunnel.mismatch"
    assert (
        mc.trace(load({"KEYS": "keys: by-hand", "THEIRS": "keys: by-hand"}), "gate", "198.51.100.2", "udp/500").cause
        == "service.closed"
    )


@pytest.mark.parametrize("first", [WEB, BACK])
def test_an_exchange_goes_well_from_either_end_though_sessions_of_one_before_are_there(first: Flow) -> None:
    lab = Lab(load())
    for number, flow in enumerate((first, WEB, BACK, WEB), 1):
        assert lab.send(flow).answered
        assert lab.state.associations.of("gate")[0].number == number
        for name in ("gate", "annex"):
            for held in lab.state.associations.of(name):  # as if both had forgotten, and their sessions had not
                lab.state.associations.end(name, held.number)


def test_kinds_of_packets_stay_few_though_devices_remember_an_exchange() -> None:
    """Every packet would be a kind of its own, if a session of the exchange were in the way of any."""
    plan, sets = mc.Plan(load(LISTED)), Sets(room(64))
    targets = [parse_address(a) for a in ("10.44.1.10", "10.44.1.99")]
    assert fares_alike(plan, sets, "desk", everything(sets, plan, "desk", targets), random.Random(1), 2, Moment()) < 80


FRONT = """\
  box:
    kind: router
    interfaces: {in: 10.41.0.1/30, out: 198.51.100.2/30}
    routes: [{prefix: default, next-hop: 198.51.100.1}]
    translate: [{id: a, to: 198.51.100.2, service: [udp/500, udp/4500], arriving: out, goes-to: 10.41.0.2}]
"""


def test_a_gate_whose_port_is_forwarded_is_translated_too() -> None:
    """RFC 7296 section 2.23: either end may be the one whose address is another on the way."""
    source = (
        text()
        .replace("up: {address: 198.51.100.2/30", "up: {address: 10.41.0.2/30")
        .replace("next-hop: 198.51.100.1}", "next-hop: 10.41.0.1}", 1)
    )
    source = source.replace("  annex:\n", FRONT + "  annex:\n").replace(
        "  up: [annex/up, world/g]", "  lan: [annex/up, box/in]\n  up: [box/out, world/g]"
    )
    lab = Lab(read(source))
    first = lab.send(WEB)
    assert first.answered, str(first)
    outer = first.there.hops[1].outer
    assert outer is not None
    assert (outer.packet.to_port, len(first.there.hops[1].exchange)) == (4500, 4)
    assert [(a.behind, a.to_port) for n in ("gate", "annex") for a in lab.state.associations.of(n)] == [(False, 4500), (True, 4500)]
    assert lab.send(BACK).answered


def test_an_end_whose_port_another_has_by_now_is_found_again() -> None:
    lab = Lab(read(behind()))
    lab.send(WEB)
    lab.wait(3_600_000)  # the mapping is over
    lab.send(Flow("loom", "198.51.100.1", "udp/53", Options(source_port=4500)))
    assert lab.send(BACK).answered
    assert lab.state.associations.of("annex")[0].to_port == 1024


def test_an_error_goes_by_the_association_of_what_it_is_about() -> None:
    """RFC 4301 section 6.2: its own source is in no selector."""
    hosts = {
        "SELECTORS": ", selectors: {from: 10.40.1.0/24, to: 10.44.1.10}",
        "MIRRORED": ", selectors: {from: 10.44.1.10, to: 10.40.1.0/24}",
    }
    journey = mc.trace(load(hosts, {"ROUTES": ROUTED["ROUTES"], "RETURN": ROUTED["RETURN"]}), "desk", "pot", "https", ttl=2)
    assert (journey.cause, journey.symptom.value) == ("ttl.expired", "unreachable"), str(journey)


def test_two_versions_of_one_number_are_told_apart() -> None:
    """A lab that goes back gives a number again, and the plan that is asked may be the same one."""
    lab, last = Lab(load(LISTED)), read(text(LISTED).replace("service: https}", "service: domain}"))
    lab.keep("start")
    for allowed in ("http", "https"):
        lab.back_to("start")
        lab.change(read(text(LISTED).replace("service: https}", f"service: {allowed}}}")))
        assert lab.send(SSH).answered
        assert lab.state.associations.of("annex")[0].number == 1
        lab.change(last)
        assert lab.test(WEB).answered is (allowed == "https")


def test_what_was_learned_of_a_way_never_widens_what_is_written() -> None:
    lab = Lab(load({"SISTER": ", mtu: 1200"}))
    lab.send(WEB)
    lab.state.associations.learn("gate", "sister", 1300, 10_000)
    assert lab.test(Flow("desk", "pot", "ping", Options(size=1201))).cause == "mtu.exceeded"
    assert lab.test(Flow("desk", "pot", "ping", Options(size=1200))).answered


def test_for_which_packets_a_session_is_opened_beside_others() -> None:
    """Those whose answers come as another's would are told apart, one by one while they are few."""
    plan, state = mc.Plan(load()), State()
    here = plan.device("annex")
    other = Packet(17, parse_address("10.40.1.10"), parse_address("10.44.1.10"), 5000, 53)
    state.open("annex", other, other, "home", "shed")
    action = OpenSession()

    def facts_of(packet: Packet) -> Facts:
        found = Facts(packet, "home", state, "shed", device="annex")
        found.relation = Relation.OPENING
        return found

    free = other._replace(from_port=5001)
    terms = list(alike_to_action(here, facts_of(free), action))
    assert all(t.holds(facts_of(free)) for t in terms)
    assert not all(t.holds(facts_of(other)) for t in terms)
    alone = list(alike_to_action(here, facts_of(other), action))
    assert all(t.holds(facts_of(other)) for t in alone)
    assert not all(t.holds(facts_of(free)) for t in alone)
    for number in range(40):
        state.open("annex", other._replace(from_port=6000 + number), other._replace(from_port=6000 + number), "home", "shed")
    assert not all(t.holds(facts_of(free._replace(from_port=5002))) for t in alike_to_action(here, facts_of(free), action))
