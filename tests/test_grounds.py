"""The shipped routing network, worked by hand: paths under OSPF, RIP, VLANs, leases and names, whole and broken."""

from __future__ import annotations

import pytest

import mossy_compass as mc
from mossy_compass.report import sentences
from mossy_compass.walk import many
from tests.conftest import DATA

TEXT = (DATA / "grounds.yaml").read_text()

# what is changed (old, new; none: as shipped), sender, target, service, fate of the whole, cause, device it is decided at,
# path there, path back; a path with alternatives has them in brackets
AS_SHIPPED: list[tuple[str, str, str, str, str, str, str, str]] = [
    # one VLAN, one switch: no router is asked
    ("clerk", "namekeeper", "domain", "delivered", "service.open", "namekeeper", "clerk namekeeper", "namekeeper clerk"),
    # from one VLAN to the other goes by the router that has both as sub-interfaces
    ("clerk", "stroller", "ping", "delivered", "echo.answered", "stroller", "clerk meadow-house stroller", "stroller meadow-house clerk"),
    # the only way into area 1 is by north: 10 to the meadow, 10 on
    ("clerk", "apple-press", "https", "delivered", "service.open", "apple-press", "clerk meadow-house north orchard apple-press", "apple-press orchard north meadow-house clerk"),
    # to the pond: external type 1 by south, over the meadow at 10 + 30
    ("clerk", "pond-gauge", "udp/5683", "delivered", "service.open", "pond-gauge", "clerk meadow-house south quarry pond-gauge", "pond-gauge quarry south meadow-house clerk"),
    # the gauge listens for nothing else
    ("clerk", "pond-gauge", "tcp/80", "refused", "service.closed", "pond-gauge", "clerk meadow-house south quarry pond-gauge", "pond-gauge quarry south meadow-house clerk"),
    # the world: default by edge, either side; edge prefers the fibre (preference 10), so does the world (metric 0)
    ("clerk", "almanac", "https", "delivered", "service.open", "world", "clerk meadow-house [north|south] edge world", "world edge [north|south] meadow-house clerk"),
    # the quarry learned the default from south by RIP
    ("pond-gauge", "seedbank", "https", "delivered", "service.open", "world", "pond-gauge quarry south edge world", "world edge south quarry pond-gauge"),
    # orchard is a stub: a default from north
    ("apple-press", "almanac", "ntp", "delivered", "service.open", "world", "apple-press orchard north edge world", "world edge north orchard apple-press"),
    # the world's own far hosts
    ("almanac", "apple-press", "https", "delivered", "service.open", "apple-press", "world edge north orchard apple-press", "apple-press orchard north edge world"),
    # edge's loopback is announced as a host route
    ("pond-gauge", "edge/anchor", "ping", "delivered", "echo.answered", "edge", "pond-gauge quarry south edge", "edge south quarry pond-gauge"),
    # nobody has it: the meadow house is connected to the subnet, and asks in vain
    ("apple-press", "10.40.10.77", "ping", "dropped", "neighbour.silent", "meadow-house", "apple-press orchard north meadow-house", "meadow-house north orchard apple-press"),
    # inside 10.40.0.0/13, but nowhere: every router's default leads to edge, and edge's to the world, which sends it back
    ("clerk", "10.43.0.1", "ping", "looped", "loop", "world", "", ""),
    ("clerk", "apples.example", "https", "delivered", "service.open", "apple-press", "clerk meadow-house north orchard apple-press", "apple-press orchard north meadow-house clerk"),
]  # fmt: skip


def plan(*changes: tuple[str, str]) -> mc.Plan:
    text = TEXT
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new, 1)
    network = mc.read_bytes(text.encode(), "g.yaml").network
    assert network is not None
    return mc.Plan(network)


@pytest.fixture(scope="module")
def whole() -> mc.Plan:
    return plan()


def fits(pattern: str, path: list[str]) -> bool:
    wanted = pattern.split()
    return len(wanted) == len(path) and all(p in w.strip("[]").split("|") for w, p in zip(wanted, path, strict=True))


@pytest.mark.parametrize("case", AS_SHIPPED, ids=[f"{c[0]}-{c[1]}-{c[2]}" for c in AS_SHIPPED])
def test_as_shipped(whole: mc.Plan, case: tuple[str, ...]) -> None:
    sender, target, service, fate, cause, where, there, back = case
    journey = mc.trace(whole, sender, target, service)
    assert (journey.fate, journey.cause) == (fate, cause)
    if there:
        assert journey.there.end == where
        assert fits(there, [h.device for h in journey.there.hops])
        assert journey.back is not None
        assert fits(back, [h.device for h in journey.back.hops])


FIBRE = ("fibre: {members: [edge/fibre,", "fibre: {state: down, members: [edge/fibre,")
RADIO = ("radio: {members: [edge/radio,", "radio: {state: down, members: [edge/radio,")
NORTH = ("north-line: [edge/north, north/edge]", "north-line: {state: down, members: [edge/north, north/edge]}")
SOUTH = ("south-line: [edge/south, south/edge]", "south-line: {state: down, members: [edge/south, south/edge]}")
ORCHARD = ("orchard-line: [north/orchard, orchard/up]", "orchard-line: {state: down, members: [north/orchard, orchard/up]}")


@pytest.mark.parametrize(
    "changes, sender, target, fate, cause, where, there",
    [
        # the fibre is cut: both ends fall back on the radio
        ((FIBRE,), "clerk", "almanac", "delivered", "echo.answered", "world", "clerk meadow-house [north|south] edge world"),
        # both are: edge keeps no default of its own, so it announces none, and the meadow house has none either
        ((FIBRE, RADIO), "clerk", "almanac", "dropped", "route.none", "meadow-house", "clerk meadow-house"),
        # edge itself is told by its own port
        ((FIBRE, RADIO), "edge", "almanac", "dropped", "interface.down", "edge", "edge"),
        # the far end of the fibre is shut: the same
        ((("fibre: 198.51.100.1/30", "fibre: {address: 198.51.100.1/30, state: disabled}"),), "clerk", "almanac", "delivered", "echo.answered", "world", "clerk meadow-house [north|south] edge world"),
        # one of the two lines is cut: the other is taken
        ((NORTH,), "clerk", "almanac", "delivered", "echo.answered", "world", "clerk meadow-house south edge world"),
        ((SOUTH,), "pond-gauge", "almanac", "delivered", "echo.answered", "world", "pond-gauge quarry south north edge world"),
        # area 1 hangs on one line
        ((ORCHARD,), "clerk", "apple-press", "looped", "loop", "", ""),
        # forwarding off at the meadow house
        ((("  meadow-house:\n    kind: router\n", "  meadow-house:\n    kind: router\n    settings: {forwarding: no}\n"),), "clerk", "apple-press", "dropped", "forwarding.off", "meadow-house", "clerk meadow-house"),
        # south does not tell OSPF of the quarry any more: the way there is gone ...
        ((("ospf: {redistribute: {rip: {metric: 30, type: 1}}}", "about: keeps it to itself"),), "apple-press", "pond-gauge", "looped", "loop", "", ""),
        # the world has lost its way back
        ((("      - {prefix: 10.40.0.0/13, next-hop: 198.51.100.2}\n      - {prefix: 10.40.0.0/13, next-hop: 198.51.100.6, metric: 10}\n", "      - {prefix: 10.44.0.0/16, next-hop: 198.51.100.2}\n"),), "clerk", "almanac", "dropped", "route.none", "world", "clerk meadow-house [north|south] edge world"),
    ],
)  # fmt: skip
def test_broken(
    changes: tuple[tuple[str, str], ...], sender: str, target: str, fate: str, cause: str, where: str, there: str
) -> None:
    journey = mc.trace(plan(*changes), sender, target)
    assert (journey.fate, journey.cause) == (fate, cause)
    leg = journey.back if journey.lost == "back" and journey.back is not None else journey.there
    if where:
        assert leg.end == where
        assert fits(there, [h.device for h in journey.there.hops])
    assert f"[{cause}]" in sentences.headline(journey)


def test_what_comes_back_over_the_quarry_without_redistribution() -> None:
    """RIP tells the quarry of no OSPF route any more; the default that south announces there carries it all the same."""
    ready = plan(("rip: {redistribute: {ospf: 2}, default-route: yes}", "rip: {default-route: yes}"))
    found = ready.device("quarry").table.lookup(mc.parse_address("10.40.20.20"))
    assert found is not None
    assert (found.origin, found.prefix.is_default, found.metric) == ("rip", True, 2)
    assert mc.trace(ready, "pond-gauge", "apple-press", "https").answered


@pytest.mark.parametrize("cost, ways", [(10, 2), (11, 1), (9, 1)])
def test_equal_costs_are_shared_and_unequal_ones_are_not(cost: int, ways: int) -> None:
    """From edge to the meadow: 10 + 20 by either side, unless one side's line costs more or less."""
    ready = plan(
        (
            "north: {address: 10.40.0.1/30, ospf: {area: 0, cost: 10,",
            f"north: {{address: 10.40.0.1/30, ospf: {{area: 0, cost: {cost},",
        )
    )
    route = ready.device("edge").table.lookup(mc.parse_address("10.40.10.20"))
    assert route is not None
    assert len(route.hops) == ways
    paths = many.every_path(ready, "almanac", "clerk").paths
    assert len({tuple(h.device for h in p.journey.there.hops) for p in paths}) == ways


def test_a_duplicate_on_the_meadow_is_seen_by_its_neighbours() -> None:
    """Two answer for 10.40.1.1: whoever asks for it is told, and what is tried is said to be chance."""
    ready = plan(
        (
            "meadow: {address: 10.40.1.2/24, ospf: {area: 0, cost: 20}}",
            "meadow: {address: [10.40.1.2/24, 10.40.1.1/24], ospf: {area: 0, cost: 20}}",
        )
    )
    domain = ready.domains.of("meadow-house", "meadow")
    assert domain is not None
    assert [a.device for a in ready.domains.answers(domain, mc.parse_address("10.40.1.1"))] == ["north", "south"]
    journey = mc.trace(ready, "clerk", "10.40.1.1")
    notes = [r.note for h in journey.there.hops for r in h.rulings if r.stage == "send"]
    assert any("so does south/meadow: nobody can say which of them gets it" in n for n in notes)
    assert "although south has 10.40.1.1 too" in sentences.headline(journey)


def test_a_proxy_answers_for_an_address_that_it_does_not_bear() -> None:
    """The host believes the pond's gauge to be on its own segment; its router answers for it there."""
    changes = (
        ("guests: {address: 10.40.11.1/24", "guests: {answers-for: 10.40.30.20, address: 10.40.11.1/24"),
        ("stroller: {kind: host, about: a visitor's own, leased: yes}", "stroller: {kind: host, address: 10.40.11.9/13}"),
    )
    journey = mc.trace(plan(*changes), "stroller", "10.40.30.20", "udp/5683")
    assert journey.answered
    assert "meadow-house/guests answers for 10.40.30.20 as proxy" in journey.there.hops[0].rulings[-1].note
    without = mc.trace(plan(changes[1]), "stroller", "10.40.30.20", "udp/5683")
    assert (without.cause, without.there.end) == ("neighbour.silent", "stroller")
