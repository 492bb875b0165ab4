"""Bounds of a walk, and flows that are their own reverse: nothing goes round without end, and nothing stops in silence."""

from __future__ import annotations

import pytest

import mossy_compass as mc
from mossy_compass.plan.reasons import Fate
from mossy_compass.walk import walk
from mossy_compass.walk.question import Options

NET = """mossy-network: 1
devices:
  r1: {kind: router, interfaces: {a: 10.40.1.1/24, b: 10.40.2.1/24}}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1, serves: [udp/123, tcp/443]}
  shelf: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [udp/123, tcp/443]}
segments: {a: [r1/a, desk], b: [r1/b, shelf]}
"""


@pytest.fixture(scope="module")
def plan() -> mc.Plan:
    network = mc.read_bytes(NET.encode(), "n.yaml").network
    assert network is not None
    return mc.Plan(network)


@pytest.mark.parametrize("target", ["desk", "shelf"])
@pytest.mark.parametrize(
    "service, port, cause, symptom, legs",
    [
        ("udp/123", 123, "service.open", "answered", 2),  # to itself: the same flow in both directions
        ("udp/123", 124, "service.open", "answered", 2),
        ("tcp/443", 443, "service.open", "answered", 2),
        ("tcp/444", 444, "service.closed", "refused", 2),
        ("udp/444", 444, "service.closed", "refused", 2),
        ("ping", None, "echo.answered", "answered", 2),
    ],
)
def test_a_flow_that_is_its_own_reverse_is_answered_once(
    plan: mc.Plan, target: str, service: str, port: int | None, cause: str, symptom: str, legs: int
) -> None:
    lab = mc.Lab(plan.network)
    flow = mc.Flow("desk", target, service, Options(source_port=port))
    for _ in range(2):  # the second finds the session of the first
        journey = lab.send(flow)
        assert (journey.cause, journey.symptom.value, len(journey.legs)) == (cause, symptom, legs)


@pytest.mark.parametrize("hops, legs, words", [(1, 32, "no end after 1 devices"), (600, 1, "no end after 1 packets")])
def test_a_walk_that_is_broken_off_says_so(
    plan: mc.Plan, monkeypatch: pytest.MonkeyPatch, hops: int, legs: int, words: str
) -> None:
    monkeypatch.setattr(walk, "MOST_HOPS", hops)
    monkeypatch.setattr(walk, "MOST_LEGS", legs)
    journey = mc.trace(plan, "desk", "shelf", "https")
    assert (journey.fate, journey.cause, journey.answered) == (Fate.LOOPED, "walk.limit", False)
    assert words in journey.explain()
    assert journey.explain().startswith("desk → shelf (10.40.2.10), tcp/443: LOOPED")
    assert len(journey.legs[0].hops) == (1 if hops == 1 else 3), "each device is recorded once"
    assert "again" not in journey.explain()


def test_bounds_that_are_just_met_are_no_cause(plan: mc.Plan, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(walk, "MOST_HOPS", 3)
    monkeypatch.setattr(walk, "MOST_LEGS", 2)
    assert mc.trace(plan, "desk", "shelf", "https").answered
