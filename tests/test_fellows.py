"""Hosts that a network treats in one way: which they are, and that a grid says of each what a walk would."""

from __future__ import annotations

import random
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.packet.address import Address, InterfaceAddress
from mossy_compass.plan.reasons import Because
from mossy_compass.walk import fellows as module
from mossy_compass.walk import grid
from mossy_compass.walk.fellows import SingleTest, fellows
from mossy_compass.walk.grid import Cell, cell_of, questions_of, run
from mossy_compass.walk.question import Options
from mossy_compass.walk.trace import trace_one
from mossy_compass.walk.weather import in_weather
from tests.conftest import DATA
from tests.effort import at_length, examples
from tests.test_laws import networks

EXAMPLES = sorted((Path(__file__).parents[1] / "examples").rglob("*.yaml"))
NETWORKS = [DATA / "fernhollow.yaml", DATA / "grounds.yaml"]
NETWORKS += [p for p in EXAMPLES if mc.read_bytes(p.read_bytes(), p.name).network is not None]


def with_more_hosts(network: mc.Network, chance: random.Random, count: int = 2) -> mc.Network:
    """The same network with some more hosts beside its own: like them, and as far as that is known named by nobody."""
    taken = {a for d in network.devices.values() for a, _ in d.own_addresses()}
    devices, segments = dict(network.devices), dict(network.segments)
    for device in network.devices.values():
        for number in range(count if device.kind.value == "host" and len(device.interfaces) == 1 else 0):
            (port,) = device.interfaces.values()
            name = f"{device.name}-more-{number}"
            addresses = tuple(InterfaceAddress(free(a, taken, chance), a.length) for a in port.addresses)
            devices[name] = replace(device, name=name, interfaces={port.name: replace(port, addresses=addresses)})
            for segment in segments.values():
                if (device.name, port.name) in segment.members:
                    segments[segment.name] = replace(segment, members=(*segment.members, (name, port.name)))
    return replace(network, devices=devices, segments=segments)


def free(own: InterfaceAddress, taken: set[Address], chance: random.Random) -> Address:
    """An address of a subnet that nobody has yet."""
    bits = min((32 if own.address.family == 4 else 128) - own.length, 8)
    base = own.address.value >> bits << bits
    wanted = [Address(own.address.family, base + n) for n in range(1, max(2, (1 << bits) - 1))]
    found = [a for a in wanted if a not in taken]
    address = chance.choice(found or [own.address])
    taken.add(address)
    return address


def both(network: mc.Network, tests: list[SingleTest], options: Options | None = None) -> tuple[list[Cell], list[Cell]]:
    """The cells as a grid has them, and as walks say."""
    plan = mc.Plan(network)
    walked = [cell_of(trace_one(plan, *test, options or Options()), *test) for test in tests]
    return list(run(mc.Plan(network), tests, None, options)), walked


def some_tests(network: mc.Network, chance: random.Random, count: int) -> list[SingleTest]:
    """Tests by chance, those of fellows among them."""
    known = sorted(set(fellows(network).values()))
    targets = [n for n, d in network.devices.items() if d.own_addresses() or d.far_hosts]
    targets += [far for d in network.devices.values() for far in d.far_hosts]
    targets += [*network.names, *(name for d in network.devices.values() for name in d.records or ())]
    tests = []
    for _ in range(count):
        service, target = chance.choice(("https", "ping", "udp/53", "ssh")), chance.choice(targets)
        senders = chance.choice(known) if known else chance.sample(list(network.devices), 1)
        tests += [SingleTest(sender, target, service) for sender in senders]
    return [t for t in dict.fromkeys(tests) if network.devices[t[0]].own_addresses() and t[1] not in unaddressed(network)]


def unaddressed(network: mc.Network) -> set[str]:
    return {n for n, d in network.devices.items() if not d.own_addresses()}


@pytest.mark.scaled
@pytest.mark.parametrize("path", NETWORKS, ids=lambda p: p.stem)
def test_a_grid_says_of_each_what_a_walk_would(path: Path) -> None:
    chance = random.Random(path.stem)
    network = with_more_hosts(mc.load(path), chance)
    tests = some_tests(network, chance, 60 if at_length() else 12)
    found, walked = both(network, tests)
    assert found == walked


@examples(12, 75, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(networks(), st.integers(0, 1000))
def test_in_any_network(network: mc.Network, seed: int) -> None:
    chance = random.Random(seed)
    network = with_more_hosts(network, chance)
    found, walked = both(network, some_tests(network, chance, 12))
    assert found == walked


HALL = """\
mossy-network: 1
lists:
  people: [{id: 10, deny: tcp, to: desks, service: ssh}, {id: 20, permit: any}]
groups: {desks: [10.40.1.10]}
devices:
  gate:
    kind: firewall
    interfaces:
      hall: {address: 10.40.1.1/24}
      store: {address: 10.40.2.1/24, filter: {arriving: people}}
      world: {address: 198.51.100.2/29, outside: yes}
      other: {address: 203.0.113.2/24, outside: yes}
    routes: [{prefix: default, next-hop: 198.51.100.1}]
    translate: [{source: 10.40.0.0/16, leaving: world, becomes: interface}]
  ann: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  bob: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
  cat: {kind: host, address: 10.40.1.12/24, gateway: 10.40.1.1}
  dan: {kind: host, address: 10.40.1.13/24, gateway: 10.40.1.1}
  shop: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https, ssh]}
  world:
    kind: internet
    interfaces: {a: 198.51.100.1/29, b: 203.0.113.1/24}
    hosts: {press: {address: 192.0.2.80, serves: [https]}}
segments: {hall: [gate/hall, ann, bob, cat, dan], store: [gate/store, shop], one: [gate/world, world/a], two: [gate/other, world/b]}
"""


def hall(*changes: tuple[str, str]) -> mc.Network:
    text = HALL
    for old, new in changes:
        assert text.count(old) == 1, old
        text = text.replace(old, new)
    reading = mc.read_bytes(text.encode(), "hall.yaml")
    assert reading.network is not None, [str(p) for p in reading.problems]
    return reading.network


CAT = "cat: {kind: host, address: 10.40.1.12/24, gateway: 10.40.1.1"
DESKS = "groups: {desks: [10.40.1.10]}"


@pytest.mark.parametrize(
    ("changes", "names"),
    [
        ([], "bob cat dan"),  # ann is named
        ([(DESKS, "groups: {desks: [10.40.1.10], spare: [10.40.1.12]}")], "bob dan"),  # also where nothing uses it
        ([(DESKS, "groups: {desks: [10.40.1.11-10.40.1.12]}")], "ann dan / bob cat"),
        ([(DESKS, "groups: {desks: [10.40.1.12/0.0.0.1]}")], "ann bob / cat dan"),
        ([(DESKS, "groups: {desks: [10.40.1.1/0.0.170.46]}")], "ann cat / bob dan"),  # a mask that falls into many runs
        ([(DESKS, "groups: {desks: [10.40.1.10]}\nnames: {cat.example: [10.40.1.12]}")], "bob dan"),
        ([(CAT, CAT.replace("10.40.1.1,", "10.40.1.1,").replace("gateway: 10.40.1.1", "gateway: 10.40.1.11"))], "cat / dan"),
        ([(CAT, CAT + ", serves: [ssh]")], "bob dan"),
        ([(CAT, CAT + ", settings: {answers-ping: yes}")], "bob dan"),  # it says so itself, and where, which others do not
        ([(CAT, CAT + ", about: the cat's")], "bob cat dan"),
        ([(CAT, CAT.replace("1.12/24", "1.12/25"))], "bob dan"),
        ([("routes: [{prefix", "routes: [{prefix: 10.40.1.13, next-hop: 10.40.1.1}, {prefix")], "bob cat"),
        # a subnet of somebody else's interface, and devices that are no hosts
        (
            [
                ("dan: {kind: host, address: 10.40.1.13/24", "dan: {kind: host, address: 10.40.1.213/24"),
                ("world:\n    kind: int", "far: {kind: router, interfaces: {a: 10.40.1.129/25}}\n  world:\n    kind: int"),
            ],
            "bob cat",
        ),
        (
            [
                (
                    "dan: {kind: host, address: 10.40.1.13/24, gateway: 10.40.1.1}",
                    "dan: {kind: router, interfaces: {nic: 10.40.1.13/24}}",
                ),
                (CAT + "}", "cat: {kind: router, interfaces: {nic: 10.40.1.12/24}}"),
            ],
            "",
        ),
        ([("hall: [gate/hall, ann, bob, cat, dan]", "hall: [gate/hall, ann, bob, cat], far: [dan]")], "bob cat"),
    ],
)
def test_who_are_fellows(changes: list[tuple[str, str]], names: str) -> None:
    found = sorted(set(fellows(hall(*changes)).values()))
    wanted = sorted(tuple(n.split()) for n in names.split(" / ") if len(n.split()) > 1)
    assert found == wanted


def test_whoever_shares_an_address_is_nobody_s_fellow() -> None:
    twice = hall((CAT, CAT.replace("1.12/24", "1.13/24")))
    assert "cat" not in fellows(twice)
    assert "dan" not in fellows(twice)


CHOSEN = [
    # a pool of several addresses, partners at a distance, servers that share, equal ways: each source its own
    ([("becomes: interface", "becomes: {pool: [198.51.100.3, 198.51.100.4, 198.51.100.5]}")], "press"),
    ([("becomes: interface", "becomes: 198.51.100.4")], "press"),
    ([("10.40.0.0/16, leaving: world, becomes: interface", "10.40.1.0/24, leaving: world, becomes: {pair: 192.0.2.0/24}")], "press"),
    ([("{source: 10.40.0.0/16", "{arriving: hall, to: self, service: https, goes-to: [10.40.2.10, 10.40.2.11]}, {source: 10.40.0.0/16"), ("world:\n    kind: int", "more: {kind: host, address: 10.40.2.11/24, gateway: 10.40.2.1, serves: [https]}\n  world:\n    kind: int"), ("[gate/store, shop]", "[gate/store, shop, more]")], "10.40.1.1"),
    # asked onward in another name
    ([("{source: 10.40.0.0/16", "{arriving: hall, to: outside, service: https, goes-to: {address: self, port: 8081, onward: yes}}, {source: 10.40.0.0/16"), ("    routes: [", "    serves: [tcp/8081]\n    routes: [")], "press"),
    ([("routes: [{prefix: default, next-hop: 198.51.100.1}]", "routes: [{prefix: default, next-hop: 198.51.100.1}, {prefix: default, next-hop: 203.0.113.1}]")], "press"),
]  # fmt: skip


@pytest.mark.parametrize(("changes", "target"), CHOSEN)
def test_a_choice_by_hash_is_everybody_s_own(changes: list[tuple[str, str]], target: str) -> None:
    network = with_more_hosts(hall(*changes), random.Random(4), 4)
    tests = [SingleTest(name, target, "https") for name in network.devices if network.devices[name].kind.value == "host"]
    found, walked = both(network, tests)
    assert found == walked


def walks_of(monkeypatch: pytest.MonkeyPatch, network: mc.Network, tests: list[tuple[str, str, str]]) -> list[str]:
    """What is walked, as ``ann>shop``."""
    asked: list[str] = []

    def walked(plan: mc.Plan, source: str, target: str, *more: Any) -> mc.Journey:
        asked.append(f"{source}>{target}")
        return trace_one(plan, source, target, *more)

    monkeypatch.setattr(grid, "trace_one", walked)
    found, expected = both(network, [SingleTest(*t) for t in tests])
    assert found == expected
    return asked


@pytest.mark.parametrize(
    ("tests", "walked"),
    [
        # ann is named, and the others are not; whether a list or nobody decides, and whoever is told of in a reason
        (["ann shop https", "bob shop https", "cat shop https", "dan shop https"], "ann>shop bob>shop"),
        (["ann shop udp/53", "bob shop udp/53", "cat shop udp/53"], "ann>shop bob>shop"),
        (["bob press https", "cat press https", "dan press ping"], "bob>press dan>press"),
        (["shop bob ssh", "shop cat ssh", "shop ann ssh", "shop dan https"], "shop>bob shop>ann shop>dan"),
        # among themselves
        (["bob cat ping", "cat bob ping", "dan cat ping", "ann cat ping", "ann dan ping"], "bob>cat ann>cat"),
        # nobody to himself, and by an address a host is itself alone
        (["bob 10.40.1.12 ping", "cat 10.40.1.12 ping", "dan 10.40.1.12 ping"], "bob>10.40.1.12 cat>10.40.1.12"),
        (["cat 10.40.1.12 ping", "bob 10.40.1.12 ping"], "cat>10.40.1.12 bob>10.40.1.12"),
        (["bob cat/nic ping", "dan cat/nic ping", "cat cat/nic ping"], "bob>cat/nic cat>cat/nic"),
        (["bob bob ping", "cat cat ping", "bob cat ping", "cat dan ping"], "bob>bob cat>cat bob>cat"),
    ],
)
def test_one_of_several_fellows_is_walked(monkeypatch: pytest.MonkeyPatch, tests: list[str], walked: str) -> None:
    asked: list[tuple[str, str, str]] = [(a, b, c) for a, b, c in map(str.split, tests)]
    assert walks_of(monkeypatch, hall(), asked) == walked.split()


def test_a_source_that_is_given_is_no_sender_s_own() -> None:
    network = hall()
    options = Options(source="10.40.1.11")
    found, walked = both(network, [SingleTest(n, "shop", "https") for n in ("bob", "cat", "dan")], options)
    assert found == walked


def test_whoever_is_named_without_an_address_is_nobody_s_fellow() -> None:
    assert "cat" not in fellows(replace(hall(), down=frozenset({("cat", "a probe")})))


def test_what_goes_through_a_tunnel_is_walked_from_each() -> None:
    """The port of the packet around it follows from what it carries, and lists may ask for that."""
    network = with_more_hosts(mc.load(next(p for p in EXAMPLES if p.stem == "tunnels")), random.Random(1))
    plan, tried = mc.Plan(network), 0
    for names in set(fellows(network).values()):
        for target in network.devices:
            test = SingleTest(names[0], target, "https")
            journey = trace_one(plan, *test, Options()) if target not in {*names, *unaddressed(network)} else None
            if journey is not None and any(hop.within for leg in journey.legs for hop in leg.hops):
                known: module.FellowTests[str] = module.FellowTests(plan)
                known.keep(test, journey, "")
                assert known.told(test._replace(sender=names[1])) is None
                tried += 1
    assert tried


def test_a_reason_that_names_a_host_by_the_way_is_of_that_host_alone() -> None:
    plan = mc.Plan(hall())
    test = SingleTest("bob", "shop", "https")
    journey = trace_one(plan, *test, Options())
    for words, told in (("whom bobby asked", True), ("whom bob asked", False), ("10.40.1.11:80", False), ("10.40.1.110", True)):
        known: module.FellowTests[str] = module.FellowTests(plan)
        said = replace(journey, because=journey.because._replace(code="list.end", values=(words,)))
        known.keep(test, said, "")
        assert (known.told(test._replace(sender="cat")) is not None) is told, words


def test_hosts_that_were_made_in_one_line_are_not_told_apart_by_it() -> None:
    """So a place that is one for both ends is not said of others, of whom one may have been made elsewhere."""
    b = mc.Builder("made")
    b.router("gate", hall="10.40.1.1/24")
    for number in (10, 11, 12):
        b.host(f"h{number}", f"10.40.1.{number}/24", gateway="10.40.1.1")
    b.host("h13", "10.40.1.13/24", gateway="10.40.1.1")
    b.segment("hall", "gate/hall", "h10", "h11", "h12", "h13")
    network = b.finish()
    names = ("h10", "h11", "h12", "h13")
    assert fellows(network)["h10"] == names
    found, walked = both(network, [SingleTest(a, z, s) for s in ("https", "ping") for a in names for z in names if a != z])
    assert found == walked
    assert len({cell.place for cell in found if cell.service == "https"}) == 2


def test_a_reason_is_another_one_at_another_place() -> None:
    network = hall()
    bob, cat = (module._Fellow(network.devices[name]) for name in ("bob", "cat"))
    renamed = bob.by_name_of(cat)
    reason = Because("list.end", ("people",), network.devices["bob"].mark)
    assert renamed.changes(reason)
    assert renamed.because(reason).mark == network.devices["cat"].mark
    assert not renamed.changes(reason._replace(mark=network.devices["gate"].mark))


def test_every_address_of_a_network_but_those_of_interfaces_is_read() -> None:
    """A host that is named in any part of the demo has no fellow: by its address, or by its name."""
    network = mc.load(DATA / "fernhollow.yaml")
    written = module._Named(network)
    text = (DATA / "fernhollow.yaml").read_text()
    for device in network.devices.values():
        if device.kind.value == "host":
            named = any(text.count(str(a)) > 1 for a, _ in device.own_addresses())
            told = device.name in written.values or any(a in written.values for a, _ in device.own_addresses())
            assert told or not named, device.name
    assert in_weather(mc.Plan(network)) is not None
    assert questions_of(network)


@pytest.mark.parametrize(
    ("senders", "targets", "columns"),
    [
        ((), (), "ann bob cat dan shop press"),  # as they are written, though ann is not tested to herself
        (("cat", "ann"), ("cat", "shop", "ann"), "cat shop ann"),  # as they are asked for
        (("cat",), ("shop", "cat", "ann"), "shop ann"),
        (("shop", "ann", "bob"), ("shop", "press", "ann", "bob"), "shop press ann bob"),
    ],
)
def test_columns_of_a_grid_stand_as_they_are_asked_for(senders: tuple[str, ...], targets: tuple[str, ...], columns: str) -> None:
    found = grid.grid(mc.Plan(hall()), senders, targets, ["ping"])
    assert [target for target, _ in found.columns] == columns.split()
    assert grid.from_dict(found.to_dict()) == found
