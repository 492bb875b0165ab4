"""Which destinations come past a device, as routes lead: never fewer than walks find, and as few as can be told where nothing else acts."""

from __future__ import annotations

import random
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.headers.spans import as_text
from mossy_compass.lab.circumstances import every_case_of
from mossy_compass.lab.passing import Passing
from mossy_compass.model.network import link_locals
from mossy_compass.packet.address import EVERYTHING, in_spans, parse_address
from mossy_compass.plan.plan import Plan
from tests.conftest import DATA
from tests.effort import at_length, examples
from tests.test_laws import networks
from tests.test_versions import packet_of, stray_of, walks

EXAMPLES = sorted((Path(__file__).parent.parent / "examples").glob("*.yaml"))


LOCAL = [parse_address(a) for a in ("169.254.3.4", "224.0.0.5", "255.255.255.255", "fe80::1", "fe80::2", "ff02::5", "10.40.0.255")]
"""Addresses of a segment alone: link-local ones, groups, broadcasts (RFC 3927, RFC 4291, RFC 5771, RFC 919)."""


def agrees(plan: Plan, chance: random.Random, draws: int) -> int:
    """Walk packets, and ask of each device that a walk meets whether it was to be expected there; gives how often a device was not."""
    network = plan.network
    devices = [d.name for d in network.devices.values() if d.layer3]
    senders = [n for n in devices if any(not a.is_link_local for a, _ in network.devices[n].own_addresses())]
    cases = every_case_of((plan,))
    passing = {name: Passing(plan, (name,)) for name in devices}
    left_out = 0
    for _ in range(draws):
        sender = chance.choice(senders)
        packet = packet_of(network, sender, chance)
        if packet is None:
            continue
        packet = stray_of(packet, chance) if chance.random() < 0.25 else packet
        if chance.random() < 0.2:
            near = [a for a in LOCAL if a.family == packet.source.family]
            near += [a for d in network.devices.values() for p in d.interfaces.values() for a in link_locals(d.name, p)]
            packet = packet._replace(destination=chance.choice([a for a in near if a.family == packet.source.family]))
        met = {h.device for j in walks(plan, sender, packet, chance.choice(cases)[0]) for leg in j.every_leg for h in leg.every_hop}
        for name in devices:
            comes = in_spans(packet.destination.key, passing[name].sent_by(sender, [packet.source]))
            assert comes or name not in met, (sender, str(packet), name)
            left_out += not comes
    return left_out


@pytest.mark.scaled
@pytest.mark.parametrize("path", [DATA / "fernhollow.yaml", DATA / "grounds.yaml", *EXAMPLES], ids=lambda p: p.stem)
def test_whatever_a_walk_meets_was_to_be_expected(path: Path) -> None:
    agrees(mc.Plan(mc.load(path)), random.Random(3), 200 if at_length() else 25)


@examples(8, 300)
@given(networks(), st.integers(0, 100_000))
def test_whatever_a_walk_meets_was_to_be_expected_in_any_network(network: mc.Network, seed: int) -> None:
    agrees(mc.Plan(network), random.Random(seed), 25)


# Three rooms at a hub, and a gate to the world behind it.
STAR = """
mossy-network: 1
devices:
  hub:
    kind: router
    interfaces: {a: {address: 10.40.0.1/30}, b: {address: 10.40.0.5/30}, c: {address: 10.40.0.9/30}, out: {address: 10.40.0.13/30}}
    routes:
      - {prefix: 10.41.0.0/24, next-hop: 10.40.0.2}
      - {prefix: 10.42.0.0/24, next-hop: 10.40.0.6}
      - {prefix: 10.43.0.0/24, next-hop: 10.40.0.10}
      - {prefix: 10.43.0.128/25, action: discard}
      - {prefix: default, next-hop: 10.40.0.14}
#HUB
  fern: {kind: router, interfaces: {up: {address: 10.40.0.2/30}, room: {address: 10.41.0.1/24}}, routes: [{prefix: default, next-hop: 10.40.0.1}]}
  moss: {kind: router, interfaces: {up: {address: 10.40.0.6/30}, room: {address: 10.42.0.1/24}}, routes: [{prefix: default, next-hop: 10.40.0.5}]}
  reed: {kind: router, interfaces: {up: {address: 10.40.0.10/30}, room: {address: 10.43.0.1/24}}, routes: [{prefix: default, next-hop: 10.40.0.9}]}
  ann: {kind: host, address: 10.41.0.10/24, gateway: 10.41.0.1}
  ben: {kind: host, address: 10.41.0.11/24, gateway: 10.41.0.1}
  cy: {kind: host, address: 10.42.0.10/24, gateway: 10.42.0.1, serves: [https]}
  dot: {kind: host, address: 10.43.0.10/24, gateway: 10.43.0.1, serves: [https]}
  gate:
    kind: firewall
    interfaces: {in: {address: 10.40.0.14/30}, world: {address: 198.51.100.2/30, outside: yes}}
    routes: [{prefix: 10.40.0.0/13, next-hop: 10.40.0.13}, {prefix: default, next-hop: 198.51.100.1}]
#GATE
  world: {kind: internet, interfaces: {uplink: 198.51.100.1/30}, hosts: {almanac: {address: 203.0.113.80, serves: [https]}}}
segments:
  room-a: [fern/room, ann, ben]
  room-b: [moss/room, cy]
  room-c: [reed/room, dot]
  cable-a: [hub/a, fern/up]
  cable-b: [hub/b, moss/up]
  cable-c: [hub/c, reed/up]
  cable-out: [hub/out, gate/in]
  uplink: [gate/world, world/uplink]
"""


def star(hub: str = "", gate: str = "") -> Plan:
    """The star, with more keys of two devices."""
    found = mc.read_bytes(
        STAR.replace("#HUB", f"    {hub}" if hub else "").replace("#GATE", f"    {gate}" if gate else "").encode(), "star"
    )
    assert found.network is not None, found.problems
    return mc.Plan(found.network)


TO_ROOM = "policy-routes: [{id: 10, to: 10.43.0.10, candidates: [{next-hop: 10.40.0.6}]}]"
HIDES = "translate: [{source: 10.40.0.0/13, leaving: world, becomes: interface}]"
EXCEPT = "translate: [{source: 10.40.0.0/13, to: 203.0.113.80, leaving: [world, in], becomes: interface}]"
FORWARDS = "translate: [{to: 10.43.0.200, goes-to: 10.42.0.10}]"
OFF = "translate: [{to: 10.43.0.200, goes-to: 10.42.0.10, disabled: yes}]"
PAIR = "translate: [{source: 10.41.0.10, leaving: world, becomes: {pair: 203.0.113.7}}]"
FROM_FRONT = "translate: [{to: 10.43.0.200, goes-to: 10.42.0.10, becomes: interface}]"
AT_THE_HUB = "translate: [{source: 10.40.0.0/13, leaving: out, becomes: interface}]"
STAYS = "translate: [{source: 10.40.0.0/13, to: 203.0.113.0/24, leaving: world, becomes: exempt}]"
OWN = ("10.40.0.1", "10.40.0.5", "10.40.0.9", "10.40.0.13")


@pytest.mark.parametrize(
    ("plan", "meant", "sender", "comes", "not_there"),
    [
        (star(), "moss", "ann", ["10.42.0.10", "10.42.0.99", "10.40.0.6"], ["10.43.0.10", "10.41.0.11", "203.0.113.80", *OWN]),
        (star(), "cy", "ann", ["10.42.0.10"], ["10.42.0.11", "10.42.0.1", "10.43.0.10", *OWN]),
        (
            star(),
            "gate",
            "ann",
            ["203.0.113.80", "192.0.2.1", "10.40.0.14"],
            ["2001:db8::1", "10.42.0.10", "10.43.0.10", "10.41.0.11", *OWN],
        ),
        # What ann sends to anybody is answered by way of her own router; what her neighbour is sent is not.
        (star(), "fern", "ann", ["10.42.0.10", "10.43.0.200", "203.0.113.80", "10.41.0.1", *OWN], ["10.41.0.11", "10.41.0.99"]),
        (star(), "ann", "cy", ["10.41.0.10"], ["10.41.0.11", "10.41.0.1", "10.43.0.10"]),
        # A default route serves what nothing narrower does, and a route that discards nobody's way.
        (star(), "reed", "ann", ["10.43.0.10", "10.43.0.127", "10.40.0.10"], ["10.43.0.128", "10.43.0.200", "10.42.0.10"]),
        # A policy route of the hub may send anything anywhere.
        (star(TO_ROOM), "moss", "ann", ["10.43.0.10", "10.42.0.10", "203.0.113.80", *OWN], ["10.41.0.11"]),
        # Behind a translation nothing is known; what is not translated goes on as ever.
        (star(FORWARDS), "moss", "ann", ["10.43.0.200", "10.42.0.10"], ["10.43.0.10", "203.0.113.80", *OWN]),
        (star(FROM_FRONT), "moss", "ann", ["10.43.0.200", "10.42.0.10"], ["10.43.0.10", "203.0.113.80", *OWN]),
        (star(AT_THE_HUB), "moss", "ann", ["10.42.0.10", "203.0.113.80"], ["10.43.0.10", *OWN]),
        (star("", STAYS), "moss", "ann", ["10.42.0.10"], ["10.43.0.10", "203.0.113.80", *OWN]),
        (star(OFF), "moss", "ann", ["10.42.0.10"], ["10.43.0.10", "203.0.113.80", "10.43.0.200", *OWN]),
        (star("", HIDES), "moss", "ann", ["10.42.0.10", "203.0.113.80"], ["10.40.0.14", "10.43.0.10", *OWN]),
        (star("", EXCEPT), "moss", "ann", ["10.42.0.10", "203.0.113.80"], ["10.40.0.14", "203.0.113.81", "10.43.0.10", *OWN]),
        (star("", PAIR), "moss", "ann", ["10.42.0.10", "203.0.113.7"], ["10.40.0.14", "10.43.0.10", *OWN]),
        (star("settings: {session-exit: arrived}"), "moss", "ann", ["10.43.0.10", "10.42.0.10", "203.0.113.80"], ["10.41.0.11"]),
    ],
    ids=str,
)
def test_what_comes_past_a_device(plan: Plan, meant: str, sender: str, comes: list[str], not_there: list[str]) -> None:
    (address,) = (a for a, _ in plan.network.devices[sender].own_addresses())
    found = Passing(plan, (meant,)).sent_by(sender, [address])
    told = {text: in_spans(parse_address(text).key, found) for text in (*comes, *not_there)}
    assert told == dict.fromkeys(comes, True) | dict.fromkeys(not_there, False), as_text(found, 20)


def test_of_several_devices_each_counts() -> None:
    plan = star()
    passing = Passing(plan, ("cy", "dot"))
    ann = [parse_address("10.41.0.10")]
    found = passing.sent_by("ann", ann)
    assert [in_spans(parse_address(a).key, found) for a in ("10.42.0.10", "10.43.0.10", "10.42.0.1", "203.0.113.80")] == [
        True,
        True,
        False,
        False,
    ]
    assert Passing(plan, ()).sent_by("ann", ann) == ()
    assert Passing(star(TO_ROOM), ()).sent_by("ann", ann) == ()  # nobody is behind the turning either
    assert Passing(plan, tuple(plan.network.devices)).sent_by("ann", ann) == EVERYTHING
    assert passing.sent_by("cy", [parse_address("10.42.0.10")]) == EVERYTHING
    # Answers to the one address come past the room; those to the other, which is out of it, do not.
    moss = Passing(plan, ("moss",))
    room, cable = parse_address("10.41.0.1"), parse_address("10.40.0.2")
    assert moss.sent_by("fern", [room]) == moss.sent_by("fern", [cable, room])


def test_an_answer_goes_another_way_than_what_it_answers() -> None:
    """A device that only answers pass is met all the same, and so is one that only errors pass."""
    text = STAR.replace("{prefix: 10.41.0.0/24, next-hop: 10.40.0.2}", "{prefix: 10.41.0.0/24, next-hop: 10.40.0.10}")
    found = mc.read_bytes(text.replace("#HUB", "").replace("#GATE", "").encode(), "star")
    assert found.network is not None
    passing = Passing(mc.Plan(found.network), ("reed",))
    told = passing.sent_by("ann", [parse_address("10.41.0.10")])
    meant = {
        "10.42.0.10": True,
        "10.42.0.99": True,
        "10.43.0.200": True,
        "203.0.113.80": True,
        "10.41.0.11": False,
        "10.41.0.1": False,
    }
    assert {a: in_spans(parse_address(a).key, told) for a in meant} == meant


def test_each_address_is_answered_by_its_own_way() -> None:
    """What ann sends is answered by way of another room, and what stands beside her is not."""
    text = STAR.replace(
        "      - {prefix: 10.43.0.128/25", "      - {prefix: 10.41.0.10/32, next-hop: 10.40.0.10}\n      - {prefix: 10.43.0.128/25"
    )
    found = mc.read_bytes(text.replace("#HUB", "").replace("#GATE", "").encode(), "star")
    assert found.network is not None, found.problems
    passing = Passing(mc.Plan(found.network), ("reed",))
    cy = parse_address("10.42.0.10").key
    for sender, address, comes in (("ann", "10.41.0.10", True), ("ben", "10.41.0.11", False), ("ann", "10.41.0.9", False)):
        assert in_spans(cy, passing.sent_by(sender, [parse_address(address)])) == comes


def test_of_what_passes_a_switch_nothing_is_known() -> None:
    text = STAR.replace("  ben:", "  shelf: {kind: switch, interfaces: {p1: {}, p2: {}, p3: {}}}\n  ben:").replace(
        "room-a: [fern/room, ann, ben]", "room-a: [fern/room, shelf/p1]\n  s2: [ann, shelf/p2]\n  s3: [ben, shelf/p3]"
    )
    found = mc.read_bytes(text.replace("#HUB", "").replace("#GATE", "").encode(), "star")
    assert found.network is not None, found.problems
    ann = [parse_address("10.41.0.10")]
    assert Passing(mc.Plan(found.network), ("shelf",)).sent_by("ann", ann) == EVERYTHING
    assert Passing(mc.Plan(found.network), ("ben",)).sent_by("ann", ann) != EVERYTHING
