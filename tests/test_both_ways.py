"""Both ways beside each other: told where they differ, aligned, with who keeps sessions and sees half; silent where they are the same."""

from __future__ import annotations

import pytest

import mossy_compass as mc
from mossy_compass.report.bothways import apart, lines

RING = """\
mossy-network: 1
devices:
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  hall: {kind: router, interfaces: {lan: 10.40.1.1/24, a: 10.40.2.1/24, b: 10.40.3.1/24}, routes: [{prefix: 10.40.9.0/24, next-hop: #THERE}]}
  gate-a:
    kind: firewall
    interfaces: {in: {address: 10.40.2.2/24, outside: no}, out: {address: 10.40.4.1/24, outside: no}}
    routes: [{prefix: 10.40.9.0/24, next-hop: 10.40.4.3}, {prefix: 10.40.1.0/24, next-hop: 10.40.2.1}]
  gate-b:
    kind: firewall
    interfaces: {in: {address: 10.40.3.2/24, outside: no}, out: {address: 10.40.5.1/24, outside: no}}
    settings: {unknown-session: #UNKNOWN}
    routes: [{prefix: 10.40.9.0/24, next-hop: 10.40.5.3}, {prefix: 10.40.1.0/24, next-hop: 10.40.3.1}]
  core: {kind: router, interfaces: {a: 10.40.4.3/24, b: 10.40.5.3/24, lan: 10.40.9.1/24}, routes: [{prefix: 10.40.1.0/24, next-hop: #BACK}]}
  store: {kind: host, address: 10.40.9.10/24, gateway: 10.40.9.1, serves: [https]}
segments: {x: [desk, hall/lan], a1: [hall/a, gate-a/in], b1: [hall/b, gate-b/in], a2: [gate-a/out, core/a], b2: [gate-b/out, core/b], y: [core/lan, store]}
"""
A, B, HOME_A, HOME_B = "10.40.2.2", "10.40.3.2", "10.40.4.1", "10.40.5.1"


def sent(there: str, back: str, unknown: str = "pass", service: str = "https") -> mc.Journey:
    text = RING.replace("#THERE", there).replace("#BACK", back).replace("#UNKNOWN", unknown)
    found = mc.read_bytes(text.encode(), "ring.yaml")
    assert found.network is not None, found.problems
    return mc.trace(found.network, "desk", "store", service)


def test_the_same_way_back_is_not_told() -> None:
    for journey in (sent(A, HOME_A), sent(B, HOME_B)):
        assert journey.answered
        assert apart(journey) is None
        assert "both ways" not in journey.explain()


def test_another_way_back_is_told_with_who_sees_half() -> None:
    found = apart(sent(A, HOME_B))
    assert found is not None
    assert list(lines(found)) == [
        ("there", "desk → hall → gate-a → core → store"),
        ("back", "desk ← hall ← gate-b ← core ← store"),
        ("", "gate-a keeps sessions, and sees the way there alone"),
        ("", "gate-b keeps sessions, and sees the way back alone"),
    ]


def test_an_answer_that_is_lost_ends_beside_what_lies_there() -> None:
    journey = sent(A, HOME_B, "drop")
    assert journey.cause == "session.none"
    found = apart(journey)
    assert found is not None
    rows = list(lines(found))
    assert rows[0][1].index("gate-a") == rows[1][1].index("gate-b")
    assert rows[1][1].strip() == "gate-b ← core ← store"
    # Whether gate-a would have seen it is not known: the answer never came so far.
    assert rows[2:] == [("", "gate-b keeps sessions, and sees the way back alone")]


def test_of_what_is_not_inspected_nobody_sees_half() -> None:
    found = apart(sent(A, HOME_B, service="ping"))
    assert found is not None
    assert found.halves == ()


@pytest.mark.parametrize(("first", "second"), [(0, 3), (3, 0), (2, 1), (30, 30)])
def test_ways_of_unlike_length_are_aligned_or_told_without(first: int, second: int) -> None:
    from mossy_compass.report.bothways import Apart

    more = [(f"up-{n}", "") for n in range(first)] if first >= second else []
    more += [("", f"down-{n}") for n in range(second)] if second > first or first == second else []
    rows = list(lines(Apart((("desk", "desk"), *more, ("store", "store")), ())))
    assert [r[0] for r in rows] == ["there", "back"]
    assert [w for w in rows[0][1].replace("→", " ").replace("─", " ").split() if w] == ["desk", *[o for o, _ in more if o], "store"]
    assert [w for w in rows[1][1].replace("←", " ").replace("─", " ").split() if w] == ["desk", *[o for _, o in more if o], "store"]
    if first < 30:
        assert rows[0][1].rindex("store") == rows[1][1].rindex("store")
