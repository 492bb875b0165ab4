"""Weather: a plan taken over from another weather is the plan from nothing; what was restored is as it was; a lab comes to an end."""

from __future__ import annotations

import json
import random
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.lab.lab import Flow, Lab
from mossy_compass.lab.watched import watched as probe_findings
from mossy_compass.walk.weather import Key, Measured, Quality, best_by, choosing, probes_of, weathered
from tests.conftest import DATA
from tests.effort import examples
from tests.test_probes import watched
from tests.test_tunnels import ROUTED
from tests.test_tunnels import load as tunnelled
from tests.test_uplinks import best
from tests.test_uplinks import load as uplinked

TELLS = """\
mossy-network: 1
devices:
  edge:
    kind: router
    interfaces: {a: {address: 10.40.0.1/30, ospf: {}}, up: 192.0.2.1/30, air: 192.0.2.5/30}
    ospf: {redistribute: {static: {metric: 20}}, default-route: {}}
    probes:
      wire: {target: 192.0.2.2, by: up}
      radio: {target: 192.0.2.6, by: air}
      idle: {target: 192.0.2.6}
    routes:
      - {prefix: default, next-hop: 192.0.2.2, while: wire}
      - {prefix: 203.0.113.0/24, next-hop: 192.0.2.6, while: radio}
      - {prefix: 198.51.100.0/24, next-hop: 192.0.2.2, while: wire}
      - {prefix: 198.51.100.0/24, next-hop: 192.0.2.6, metric: 5, while: radio}
  core: {kind: router, interfaces: {a: {address: 10.40.0.2/30, ospf: {}}, b: {address: 10.40.0.5/30, ospf: {}}, lan: {address: 10.40.1.1/24, ospf: {passive: yes}}}}
  spur:
    kind: router
    interfaces: {b: {address: 10.40.0.6/30, ospf: {}}, lan: {address: 10.40.2.1/24, ospf: {passive: yes}}}
    probes: {core: {target: 10.40.0.5}}
    routes: [{prefix: 192.0.2.128/25, action: discard, while: core}]
  net: {kind: router, interfaces: {w: 192.0.2.2/30, r: 192.0.2.6/30, far: 203.0.113.1/24, other: 198.51.100.1/24}, routes: [{prefix: 10.40.0.0/16, next-hop: 192.0.2.1}]}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  till: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1}
  shop: {kind: host, address: 203.0.113.10/24, gateway: 203.0.113.1}
  mill: {kind: host, address: 198.51.100.10/24, gateway: 198.51.100.1}
segments:
  a: [edge/a, core/a]
  b: [core/b, spur/b]
  lan: [core/lan, desk]
  low: [spur/lan, till]
  wire: [edge/up, net/w]
  air: [edge/air, net/r]
  far: [net/far, shop]
  other: [net/other, mill]
"""


def tells() -> mc.Network:
    found = mc.read_bytes(TELLS.encode(), "tells.yaml")
    assert found.network is not None, [p.line() for p in found.errors]
    return found.network


NETWORKS: dict[str, Callable[[], mc.Network]] = {
    "watched": watched,
    "best": lambda: uplinked({"WAYS": best("latency")}),
    "tells": tells,
    "tunnel": lambda: tunnelled(ROUTED, {"SELECTORS": ", while: there"}),
    "fernhollow": lambda: mc.load(DATA / "fernhollow.yaml"),
}


def everything(plan: mc.Plan, flows: list[tuple[str, str]]) -> object:
    """All that a plan says: links, tables, and the whole records of some flows."""
    devices = plan.network.devices
    links = [plan.domains.link(n, i) for n, d in devices.items() for i in d.interfaces]
    tables = [
        [str(r) for r in plan.routing.table(n, t)] for n, d in devices.items() if d.layer3 for t in plan.routing.table_names(n)
    ]
    told = [mc.trace(plan, a, b, "ping").to_dict(details=True) for a, b in flows]
    return links, tables, json.dumps(told)


def pairs(network: mc.Network, chance: random.Random, count: int) -> list[tuple[str, str]]:
    names = [n for n, d in network.devices.items() if d.own_addresses()]
    return [(chance.choice(names), chance.choice(names)) for _ in range(count)]


@pytest.mark.parametrize("name", NETWORKS)
@examples(3, 25)
@given(seed=st.integers(0, 10_000))
def test_a_plan_taken_over_from_other_weather_is_the_plan_from_nothing(name: str, seed: int) -> None:
    chance, network = random.Random(seed), NETWORKS[name]()
    keys = [key for key, _ in probes_of(mc.Plan(network))]
    flows = pairs(network, chance, 4)
    near: mc.Plan | None = None
    for _ in range(4):
        down = frozenset(k for k in keys if chance.random() < 0.4)
        measured: Measured = {k: Quality(chance.randint(1, 9), 0.0, 0.0) for k in choosing(network)}
        anew = weathered(network, down, None, measured)
        took = weathered(network, down, None, measured, near)
        if chance.random() < 0.7:  # some of it was computed before it is taken over, some was not
            assert everything(took, flows) == everything(anew, flows)
        near = took if chance.random() < 0.8 else near
    if near is not None:
        again = weathered(network, near.network.down or frozenset(), None, measured_by(near))
        assert everything(near, flows) == everything(again, flows)


def measured_by(plan: mc.Plan) -> Measured:
    """Measurements by which the choices of a plan would be made again."""
    chosen = {(d, p.member_probes.get((g, m), "")) for d, g, m in plan.network.best for p in [plan.network.devices[d]]}
    return {key: Quality(0.0 if key in chosen else 9.0, 0.0, 0.0) for key in choosing(plan.network)}


def test_what_hangs_on_nothing_that_moved_is_the_very_same() -> None:
    network = tells()
    before = weathered(network, frozenset())
    for name in network.devices:
        before.device(name).steps(None)
    radio = weathered(network, frozenset({("edge", "radio")}), None, None, before)
    # another route to the mill is of another metric, which the others are told as before; the shop's is gone
    assert radio.routing.settled() != before.routing.settled()
    idle = weathered(network, frozenset({("edge", "idle")}), None, None, before)
    assert idle.routing.settled() is before.routing.settled()
    assert idle.device("core") is before.device("core")
    assert idle.device("edge") is not before.device("edge")
    spur = weathered(network, frozenset({("spur", "core")}), None, None, before)
    assert spur.device("core") is before.device("core")
    assert list(spur.device("spur").table) != list(before.device("spur").table)
    # and the plan before is as it was
    assert mc.trace(before, "till", "shop", "ping").answered


def test_where_the_resting_state_is_not_the_only_one_that_is_told() -> None:
    codes = {
        name: {p.code for p in probe_findings(mc.Plan(made()))} & {"probe.latched", "probe.flaps"}
        for name, made in NETWORKS.items()
    }
    assert codes == {**{name: set[str]() for name in NETWORKS}, "tunnel": {"probe.latched"}}


@pytest.mark.parametrize("name", [n for n in NETWORKS if n != "tunnel"])
@examples(4, 18)
@given(seed=st.integers(0, 10_000))
def test_what_was_restored_and_has_settled_is_as_before(name: str, seed: int) -> None:
    """Where the resting state is the only one; of the other network the finding says that it is not."""
    chance, network = random.Random(seed), NETWORKS[name]()
    flows = pairs(network, chance, 3)
    lab = Lab(network)
    lab.settle()
    before = everything(lab.plan, flows)
    kept, moved = lab.state.__getstate__(), lab.watch.down
    lab.keep("before")
    links = [f"link {s}" for s in network.segments]
    for _ in range(chance.randint(1, 3)):
        what = chance.choice(links)
        if what not in {str(f) for f in lab.faults}:
            lab.fail(what)
        if chance.random() < 0.5:
            lab.send(Flow(*chance.choice(flows), "ping"))
        lab.wait(chance.choice((500, 4000, 30_000)))
    lab.restore()
    lab.settle()
    assert lab.watch.down == moved
    assert everything(lab.plan, flows) == before
    lab.back_to("before")
    assert lab.state.__getstate__() == kept
    assert everything(lab.plan, flows) == before


def test_whoever_chooses_has_measured_before() -> None:
    network = uplinked({"WAYS": best("latency")})
    keys: set[Key] = set(choosing(network))
    assert keys == {("gate", "by-fibre"), ("gate", "by-radio")}
    assert best_by(network, {}) == frozenset()
    assert best_by(network, {("gate", "by-radio"): Quality(7, 0, 0)}) == frozenset({("gate", "ways", "radio")})
    assert set(Lab(network).watch.measured) == keys
    assert Lab(watched()).watch.measured == {}


@examples(3, 40)
@given(name=st.sampled_from(["watched", "best", "tells", "fernhollow"]), seed=st.integers(0, 100_000))
def test_what_was_walked_before_is_told_again_only_while_nothing_happened(name: str, seed: int) -> None:
    """Whatever is done to a lab, through it or past it: a test says what walking says."""
    chance, network = random.Random(seed), NETWORKS[name]()
    lab, flows = Lab(network), [Flow(a, b, chance.choice(("ping", "tcp/443", "udp/53"))) for a, b in pairs(network, chance, 3)]
    hosts = [n for n, d in network.devices.items() if d.layer3]
    kept: list[str] = []
    links = [f"link {s}" for s in network.segments]

    def look() -> None:
        for flow in flows:
            told = lab.test(flow)
            assert told.to_dict(details=True) == lab._walked(flow).to_dict(details=True)
            assert lab.test(flow) is told

    look()
    for number in range(8):
        what = chance.randrange(9)
        if what == 0:
            lab.send(chance.choice(flows))
        elif what == 1:
            lab.wait(chance.choice((1, 5_000, 100_000)))
        elif what == 2:
            failed = chance.choice(links)
            lab.restore(failed) if failed in {str(f) for f in lab.faults} else lab.fail(failed)
        elif what == 3:
            lab.clear(chance.choice(hosts))
        elif what == 4:
            kept.append(f"k{number}")
            lab.keep(kept[-1])
        elif what == 5 and kept:
            back = chance.choice(kept)
            lab.back_to(back)
            kept = kept[: kept.index(back) + 1]
        elif what == 6:
            lab.state.clear(chance.choice(hosts))  # past the lab
        elif what == 7:
            with lab.state.unchanged():
                lab.send(chance.choice(flows))
                look()
        else:
            lab.change(NETWORKS[name]())
        look()
