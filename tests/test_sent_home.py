"""Own packets, and what is sent home about others': by which way, with which source, and when nothing may be said."""

from __future__ import annotations

import pytest

import mossy_compass as mc
from mossy_compass.packet.packet import ERROR_KINDS
from mossy_compass.plan.reasons import Fate

# one host and one far server; two equal lines between gate and up; what gate steers, and what its tables say, is written in
BASE = """\
mossy-network: 1
devices:
  gate:
    kind: router
    interfaces:
      inside: {address: [10.40.1.1/24, "2001:db8:1::1/64"]}
      fibre: 198.51.100.2/30
      radio: {address: 203.0.113.2/30, mtu: 1200}
    routes:
      - {prefix: 192.0.2.0/24, next-hop: 198.51.100.1}
      - {prefix: 192.0.2.0/24, next-hop: 203.0.113.1}
      - ROUTES
    policy-routes: [POLICY]
    settings: {SETTING}
  up: {kind: router, interfaces: {a: 198.51.100.1/30, b: 203.0.113.1/30, c: [192.0.2.1/24, "2001:db8:c::1/64"]},
    routes: [{prefix: 10.40.1.0/24, next-hop: 198.51.100.2}, {prefix: 10.40.1.0/24, next-hop: 203.0.113.2}]}
  desk: {kind: host, address: [10.40.1.10/24, "2001:db8:1::10/64"], gateway: [10.40.1.1, "2001:db8:1::1"]}
  far: {kind: host, address: 192.0.2.10/24, gateway: 192.0.2.1, serves: [https]}
segments:
  lan: [desk, gate/inside]
  fibre: [gate/fibre, up/a]
  radio: [gate/radio, up/b]
  far: [far, up/c]
"""


def build(routes: str = "{prefix: 198.51.100.64/26, action: discard}", policy: str = "", setting: str = "") -> mc.Plan:
    text = BASE.replace("ROUTES", routes).replace("POLICY", policy).replace("SETTING", setting)
    reading = mc.read_bytes(text.encode(), "s.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    return mc.Plan(reading.network)


@pytest.mark.parametrize(
    "action, cause, symptom", [("discard", "route.discard", "silence"), ("unreachable", "route.unreachable", "unreachable")]
)
def test_a_named_table_that_answers_has_decided(action: str, cause: str, symptom: str) -> None:
    """Neither the next candidate nor the main table is asked after it."""
    plan = build(f"{{prefix: 192.0.2.0/24, action: {action}, table: side}}", "{id: 7, candidates: [{table: side}, 203.0.113.1]}")
    journey = mc.trace(plan, "desk", "far", "https")
    assert (journey.cause, journey.symptom, journey.there.end) == (cause, symptom, "gate")
    assert "policy route 7 of gate asked a table" in str(journey)


def test_a_named_table_without_a_route_goes_on() -> None:
    plan = build("{prefix: 198.51.100.64/26, action: discard, table: side}", "{candidates: [{table: side}, 203.0.113.1]}")
    assert mc.trace(plan, "desk", "far", "https").there.hops[1].leaving == "radio"


OWN = {"fibre": "198.51.100.2", "radio": "203.0.113.2"}


@pytest.mark.parametrize("candidate, leaves", [("203.0.113.1", "radio"), ("198.51.100.1", "fibre"), ("{table: side}", "radio")])
@pytest.mark.parametrize("service", ["https", "ping"])
def test_own_packets_have_the_source_of_the_way_that_they_are_steered(candidate: str, leaves: str, service: str) -> None:
    plan = build(
        "{prefix: 192.0.2.0/24, next-hop: 203.0.113.1, table: side}", f"{{candidates: [{candidate}]}}", "own-policy-routes: yes"
    )
    journey = mc.trace(plan, "gate", "far", service)
    assert journey.there.hops[0].leaving == leaves
    assert str(journey.there.packet.source) == OWN[leaves]
    assert journey.answered


@pytest.mark.parametrize("candidate, leaves", [("203.0.113.1", "radio"), ("198.51.100.1", "fibre")])
def test_errors_have_the_source_of_the_way_that_they_are_steered(candidate: str, leaves: str) -> None:
    plan = build(policy=f"{{to: far, candidates: [{candidate}]}}", setting="own-policy-routes: yes, error-source: leaving")
    journey = mc.trace(plan, "far", "10.40.1.77", "udp/9")
    assert journey.cause == "neighbour.silent"
    assert journey.back is not None
    assert (journey.back.hops[0].leaving, str(journey.back.packet.source)) == (leaves, OWN[leaves])


def test_an_entry_that_asks_for_a_source_does_not_choose_it() -> None:
    """Before the way is known there is no source to ask for; the packet itself may be steered then."""
    plan = build(policy="{from: 203.0.113.2, candidates: [198.51.100.1]}", setting="own-policy-routes: yes")
    for path in mc.every_path(plan, "gate", "far", "https").paths:
        assert path.journey.there.hops[0].leaving == "fibre"


@pytest.mark.parametrize("service", ["ping", "https", "udp/9"])
def test_every_path_pairs_a_source_with_its_own_way(service: str) -> None:
    plan = build()
    ways = {
        (p.journey.there.hops[0].leaving, str(p.journey.there.packet.source))
        for p in mc.every_path(plan, "gate", "far", service).paths
    }
    assert ways == set(OWN.items())


def test_every_path_pairs_the_source_of_an_error_with_its_way() -> None:
    paths = mc.every_path(build(setting="error-source: leaving"), "far", "desk", "udp/9", ttl=2)
    errors = {(leg.hops[0].leaving, str(leg.packet.source)) for p in paths.paths for leg in [p.journey.back] if leg is not None}
    assert errors == set(OWN.items())


@pytest.mark.parametrize("size, cause", [(1200, "neighbour.silent"), (1201, "mtu.exceeded")])
def test_too_big_is_seen_before_anybody_is_asked_for(size: int, cause: str) -> None:
    """The interface's MTU is known before the neighbour is: nobody answers for 203.0.113.9."""
    plan = build("{prefix: 203.0.113.64/26, leaving: radio}")
    journey = mc.trace(plan, "desk", "203.0.113.70", "udp/9", size=size)
    assert journey.cause == cause
    assert journey.symptom == "unreachable"


def link_local_source(target: str) -> mc.Journey:
    return mc.trace(build(), "desk", target, "udp/9", source="fe80::10" if ":" in target else "169.254.0.9")


def test_a_link_local_source_that_would_be_forwarded() -> None:
    journey = link_local_source("2001:db8:c::10")
    assert journey.cause == "address.link-local"
    error = next(leg for leg in journey.legs if leg.packet.is_error)
    assert error.packet.icmp == 1 * 256 + 2  # RFC 4443 section 3.1: beyond scope of source address
    assert error.packet.source.is_link_local
    assert error.hops[0].leaving == "inside"
    assert len(link_local_source("192.0.2.10").legs) == 1  # RFC 3927 section 2.7 has nothing to say


@pytest.mark.parametrize(
    "service, errors",
    [("udp/9", 1), ("icmp/unreachable", 0), ("icmp/time-exceeded", 0), ("icmp/redirect", 0), ("icmp/echo-reply", 1), ("ping", 1)],
)
@pytest.mark.parametrize("target, ttl", [("10.40.9.9", 64), ("192.0.2.77", 64), ("far", 2)])
def test_no_error_about_an_error(service: str, errors: int, target: str, ttl: int) -> None:
    """By its type, whether it quotes anything or not (RFC 1122 section 3.2.2)."""
    journey = mc.trace(build(), "desk", target, service, ttl=ttl)
    assert journey.there.fate in (Fate.DROPPED, Fate.EXPIRED)
    assert sum(leg.packet.is_error for leg in journey.legs[1:]) == errors


@pytest.mark.parametrize("service, errors", [("icmp6/unreachable", 0), ("icmp6/too-big", 0), ("icmp6/echo-reply", 1), ("udp/9", 1)])
def test_no_error_about_an_error_of_the_other_family(service: str, errors: int) -> None:
    journey = mc.trace(build(), "desk", "2001:db8:77::1", service)
    assert journey.cause == "route.none"
    assert len(journey.legs) - 1 == errors


def test_no_error_about_a_later_fragment() -> None:
    assert len(mc.trace(build(), "desk", "10.40.9.9", "udp/9", fragment=True).legs) == 1
    assert len(mc.trace(build(), "desk", "2001:db8:77::1", "udp/9", fragment=True).legs) == 2  # RFC 4443 bars nothing of it


@pytest.mark.parametrize("kind", ERROR_KINDS)
@pytest.mark.parametrize("family", [4, 6])
def test_every_error_that_we_send_is_one(kind: str, family: int) -> None:
    address = mc.parse_address("192.0.2.1" if family == 4 else "2001:db8::1")
    from mossy_compass.packet.packet import echo_request, icmp_error

    made = icmp_error(echo_request(address, address), address, kind)
    assert made.is_error
    assert made._replace(quoted=None).is_error
    assert not echo_request(address, address).is_error
