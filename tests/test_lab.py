"""The lab: what fails and is restored, moments that are kept, and sweeps that compute only what a failure touches."""

from __future__ import annotations

import pickle
import random
from typing import Any

import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.lab import lab as lab_module
from mossy_compass.lab import sweep as sweep_module
from mossy_compass.lab.faults import KNOWN, Fault, apply, parse
from mossy_compass.lab.lab import Flow, Lab
from mossy_compass.lab.sweep import Case, failures, sweep
from mossy_compass.plan import plan as plan_module
from mossy_compass.plan.plan import Plan
from mossy_compass.report.tables import of_device
from mossy_compass.state.state import State
from mossy_compass.walk.grid import questions_of
from mossy_compass.walk.question import Options
from mossy_compass.walk.trace import trace_one
from tests.conftest import DATA
from tests.effort import examples
from tests.test_laws import networks

SLOW = examples(8, 60, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])


@pytest.fixture
def garden(demo: mc.Plan) -> mc.Network:
    return demo.network


def bytes_of(state: State) -> bytes:
    """Everything that a state remembers, as bytes; the journal left out."""
    return pickle.dumps(state.__getstate__())


def tables_of(network: mc.Network) -> str:
    """The tables of every device, as the command line writes them."""
    plan = Plan(network)
    return str([of_device(plan, name) for name in network.devices])


def every_flow(network: mc.Network) -> list[Flow]:
    return [Flow(*q) for q in questions_of(network)]


# what fails


@pytest.mark.parametrize(
    ("what", "ends"),
    [
        ("link herb-link", "loop"),
        ("interface herb-gate/house", "loop"),
        ("device herb-gate", "loop"),
        ("herb-gate", "loop"),
        ("host ledger", "neighbour.silent"),
        ("service ledger/ticketing", "service.closed"),
    ],
)
def test_what_fails_has_its_cause_and_is_mended(garden: mc.Network, what: str, ends: str) -> None:
    lab = Lab(garden)
    flow = Flow("kiosk-1", "ledger", "ticketing" if "ticketing" in what else "tcp/8443")
    before = lab.test(flow)
    assert before.answered
    lab.fail(what)
    after = lab.test(flow)
    assert (after.answered, after.cause) == (False, ends)
    assert lab.restore(what)
    assert lab.test(flow) == before


def test_a_name_that_nobody_knows_any_more(garden: mc.Network) -> None:
    lab = Lab(garden)
    flow = Flow("lab-desk", "almanac.example", "https")
    assert lab.test(flow).answered
    lab.fail("name almanac.example")
    assert (lab.test(flow).cause, lab.test(flow).symptom) == ("name.unknown", "name not found")
    lab.restore("almanac.example")
    assert lab.test(flow).answered


def test_a_lease_that_is_given_no_more() -> None:
    network = mc.load(DATA / "grounds.yaml")
    lab = Lab(network)
    leased = next(d.name for d in network.devices.values() if any(i.leased for i in d.interfaces.values()))
    flow = Flow(leased, "10.40.10.53", "ping")
    assert lab.test(flow).answered
    lab.fail("lease meadow-house/guests")
    assert lab.test(flow).cause == "source.none"
    back = lab.test(Flow("namekeeper", leased, "ping"))
    assert (back.cause, back.symptom) == ("target.none", "unreachable")
    assert "nobody on segment" in back.note


def test_nobody_gets_another_address_because_a_neighbour_fell_silent() -> None:
    network = mc.load(DATA / "grounds.yaml")
    before = Plan(network).routing.leases.held
    assert len(before) > 1
    for kind in ("link", "device", "interface", "host"):
        for name in KNOWN[kind](network):
            lab = Lab(network)
            lab.fail(f"{kind} {name}")
            assert lab.plan.routing.leases.held == before, name
    lab = Lab(network)
    lab.fail("lease meadow-house/guests")
    assert not lab.plan.routing.leases.held


def test_a_far_host_that_is_off() -> None:
    lab = Lab(mc.load(DATA / "grounds.yaml"))
    lab.fail("host almanac")
    gone = lab.test(Flow("clerk", "almanac", "https"))
    assert (gone.cause, gone.symptom, "almanac is off" in str(gone)) == ("neighbour.silent", "silence", True)
    assert lab.test(Flow("almanac", "clerk", "ping")).cause == "interface.down"
    lab.restore()
    assert lab.test(Flow("clerk", "almanac", "https")).answered


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda lab: lab.fail("link nowhere"), "there is no link 'nowhere'"),
        (lambda lab: lab.fail("cable fibre"), "is nothing that fails"),
        (lambda lab: lab.fail("nobody"), "nothing called 'nobody'"),
        (lambda lab: lab.fail(""), "is nothing that fails"),
        (lambda lab: lab.restore("link fibre"), "has not failed"),
        (lambda lab: (lab.fail("link fibre"), lab.fail("link fibre")), "has failed already"),
        (lambda lab: lab.back_to("dawn"), "nothing was kept as 'dawn'"),
        (lambda lab: (lab.keep("dawn"), lab.compare("dawn", [])), "no flows were tested"),
    ],
)
def test_what_cannot_be_done_is_said(garden: mc.Network, call, says: str) -> None:  # type: ignore[no-untyped-def]
    lab = Lab(garden)
    with pytest.raises(mc.QuestionError, match=says):
        call(lab)


def test_a_name_alone_that_means_two_things_is_asked_about() -> None:
    builder = mc.Builder("twice")
    builder.router("fibre", lan={"address": "10.41.0.1/24"})
    builder.host("bench", "10.41.0.2/24", gateway="10.41.0.1")
    builder.segment("fibre", "bench", "fibre/lan")
    with pytest.raises(mc.QuestionError, match=r"may be link fibre or device fibre. Say which."):
        parse(builder.finish(), "fibre")


@pytest.mark.parametrize("kind", list(KNOWN))
@pytest.mark.parametrize("name", ["fernhollow", "grounds"])
def test_without_a_fault_the_tables_are_those_of_before(kind: str, name: str) -> None:
    network = mc.load(DATA / f"{name}.yaml")
    before = tables_of(network)
    chance = random.Random(kind)
    known = list(KNOWN[kind](network))
    for thing in chance.sample(known, min(3, len(known))):
        lab = Lab(network)
        lab.fail(f"{kind} {thing}")
        assert apply(network, lab.faults) != network
        lab.restore()
        assert apply(network, lab.faults) is network
        assert tables_of(lab.network) == before


def test_faults_come_in_any_order(garden: mc.Network) -> None:
    faults = [Fault("link", "herb-link"), Fault("device", "canopy"), Fault("service", "ledger/ticketing"), Fault("host", "almanac")]
    assert apply(garden, faults) == apply(garden, reversed(faults))
    assert apply(garden, []) is garden


# moments


@SLOW
@given(
    networks(), st.lists(st.tuples(st.integers(0, 3), st.integers(0, 3), st.sampled_from(["https", "udp/53", "ping"])), max_size=12)
)
def test_back_to_gives_the_bytes_of_then(network: mc.Network, sent: list[tuple[int, int, str]]) -> None:
    lab = Lab(network)
    hosts = [n for n in network.devices if n.startswith("h")]
    flows = [Flow(hosts[a % len(hosts)], hosts[z % len(hosts)], s) for a, z, s in sent]
    for flow in flows[: len(flows) // 2]:
        lab.send(flow)
    kept = bytes_of(lab.state)
    lab.keep("then")
    for flow in flows[len(flows) // 2 :]:
        lab.send(flow)
        lab.test(flow)
    lab.back_to("then")
    assert bytes_of(lab.state) == kept
    rerun = [lab.send(flow) for flow in flows]
    lab.back_to("then")
    assert rerun == [lab.send(flow) for flow in flows]


def test_a_test_leaves_nothing_behind_and_what_is_sent_does(garden: mc.Network) -> None:
    lab = Lab(garden)
    empty = bytes_of(lab.state)
    lab.test(Flow("kiosk-1", "almanac", "https"))
    assert bytes_of(lab.state) == empty
    lab.send(Flow("kiosk-1", "almanac", "https"))
    lab.send(Flow("kiosk-1", "almanac", "https"))
    assert len(lab.state.sessions("gate")) == 2
    assert lab.test(Flow("kiosk-2", "almanac", "https")).answered


def test_what_was_kept_later_is_gone_with_what_happened(garden: mc.Network) -> None:
    lab = Lab(garden)
    lab.keep("morning")
    lab.send(Flow("kiosk-1", "almanac", "https"))
    lab.fail("link herb-link")
    lab.keep("noon")
    lab.back_to("morning")
    assert not lab.faults
    with pytest.raises(mc.QuestionError, match="nothing was kept as 'noon'"):
        lab.back_to("noon")


def test_a_change_keeps_what_had_failed_and_is_still_there(garden: mc.Network, demo_text: bytes) -> None:
    lab = Lab(garden)
    lab.fail("link herb-link")
    lab.fail("host almanac")
    text = demo_text.decode().replace("herb-link:", "herb-cable:")
    network = mc.read_bytes(text.encode(), "x.yaml").network
    assert network is not None
    lab.change(network)
    assert lab.faults == {Fault("host", "almanac")}
    assert lab.plan.network != garden


def test_comparisons_are_no_tests(garden: mc.Network) -> None:
    lab = Lab(garden)
    flows = every_flow(garden)
    lab.keep("before", flows)
    assert not lab.compare("before", flows)
    assert not lab.passed
    assert not lab.counters.hits
    lab.test(flows[0])
    assert lab.passed


def test_a_test_that_was_walked_before_counts_as_ever(garden: mc.Network) -> None:
    """What three tests of a flow leave is what a new lab counts for each; and it is counted again after a moment was gone back to."""
    flows = random.Random(7).sample(every_flow(garden), 25)
    lab, anew = Lab(garden), [Lab(garden) for _ in range(3)]
    lab.keep("before", None)
    for each in anew:
        for flow in flows:
            lab.test(flow)
            each.test(flow)
    one = anew[0]
    assert {k: (h.packets, h.connections) for k, h in lab.counters.hits.items()} == {
        k: (3 * h.packets, 3 * h.connections) for k, h in one.counters.hits.items()
    }
    assert lab.counters.undecided == one.counters.undecided * 3
    assert (lab.counters.tests, lab.passed, lab.asked) == (75, one.passed, one.asked)
    lab.back_to("before")
    assert not lab.counters.hits
    for flow in flows:
        lab.test(flow)
    assert lab.counters.hits == one.counters.hits
    assert (lab.passed, lab.asked) == (one.passed, one.asked)


# only what is touched


@SLOW
@given(networks(), st.data())
def test_a_comparison_after_failures_is_that_of_everything_computed_again(network: mc.Network, data: st.DataObject) -> None:
    flows = every_flow(network)
    faults = [case[0] for case in failures(network, ["link", "interface", "device"])]
    chosen = data.draw(st.lists(st.sampled_from(faults), min_size=1, max_size=3, unique=True))
    lab = Lab(network)
    lab.keep("before", flows)
    for fault in chosen:
        lab.fail(fault)
    if data.draw(st.booleans()):
        lab.restore(chosen[0])
    quick = lab.compare("before", flows)
    afresh = mc.compare(Lab(network).grid(flows), Lab(apply(network, lab.faults)).grid(flows))
    assert quick == afresh


@examples(2, 30, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(networks())
def test_a_sweep_is_that_of_a_new_plan_for_each_failure(network: mc.Network) -> None:
    flows = every_flow(network)
    cases = failures(network, ["link", "device", "interface", "host", "service"])
    assert sweep(network, flows, cases).cases == from_nothing(network, flows, cases)


@pytest.mark.parametrize("name", ["fernhollow", "grounds", "starter"])
def test_a_sweep_of_the_shipped_networks(name: str) -> None:
    network = mc.load(DATA / f"{name}.yaml")
    chance = random.Random(name)
    flows = every_flow(network)
    flows = chance.sample(flows, min(30, len(flows)))
    cases = failures(network, ["link", "device"], pairs=True)
    cases = chance.sample(cases, min(25, len(cases)))
    assert sweep(network, flows, cases).cases == from_nothing(network, flows, cases)


def from_nothing(network: mc.Network, flows: list[Flow], cases: list[tuple[Fault, ...]]) -> tuple[Case, ...]:
    """The cases of a sweep that takes nothing for granted."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(sweep_module, "certain", lambda _: False)
        patch.setattr(Plan, "_as_before", lambda *_: None)
        patch.setattr(plan_module, "Room", lambda: None)
        return sweep(network, flows, cases).cases


WAYS_APART = """
mossy-network: 1
devices:
  one: {kind: router, interfaces: {a: {address: 10.41.9.1/30, ospf: 0}, b: 10.41.9.9/30, lan: {address: 10.41.1.1/24, ospf: {passive: yes}}},
        ROUTES}
  two: {kind: router, interfaces: {a: {address: 10.41.9.2/30, ospf: 0}, c: {address: 10.41.9.5/30, OSPF}, lan: 10.41.2.1/24},
        routes: [{prefix: 10.41.0.0/20, next-hop: 10.41.9.6}]}
  three: {kind: router, interfaces: {b: 10.41.9.10/30, c: {address: 10.41.9.6/30, OSPF}, lan: 10.41.3.1/24}}
  h1: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  h2: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1}
segments: {s: [one/a, two/a], t: [two/c, three/c], u: [one/b, three/b], l1: [h1, one/lan], l2: [h2, two/lan]}
"""


@pytest.mark.parametrize(
    "routes", ["", "routes: [{prefix: 10.41.1.0/26, next-hop: 10.41.9.10}]", "routes: [{prefix: 10.41.1.0/26, action: discard}]"]
)
@pytest.mark.parametrize("ospf", ["ospf: 0", "about: none"])
def test_a_learned_route_hangs_on_where_its_prefix_is_attached(routes: str, ospf: str) -> None:
    """Packets for the host never get to the interface that tells of its prefix, and yet it decides where they go."""
    network = mc.read_bytes(WAYS_APART.replace("ROUTES", routes).replace("OSPF", ospf).encode(), "x.yaml").network
    assert network is not None
    flows = [Flow("h2", "h1", "ping"), Flow("two", "h1", "ping")]
    cases = failures(network, ["link", "interface", "device"])
    assert sweep(network, flows, cases).cases == from_nothing(network, flows, cases)


DOWN_ALREADY = """
mossy-network: 1
devices:
  one: {kind: router, interfaces: {a: {address: 10.41.9.1/30}, v: {address: 10.41.8.1/24, vlan: 5}, p: {untagged: 5}, lan: 10.41.1.1/24},
        routes: [{prefix: 10.41.2.0/24, next-hop: HOP, leaving: WAY}]}
  two: {kind: router, interfaces: {a: {address: 10.41.9.2/30, state: STATE}, lan: 10.41.2.1/24}}
  far: {kind: router, interfaces: {p: 10.41.8.2/24}}
  h1: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  h2: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1}
segments: {s: [one/a, two/a], t: [one/p, far/p], l1: [h1, one/lan], l2: [h2, two/lan]}
"""


@pytest.mark.parametrize("state", ["up", "disabled", "not-connected"])
@pytest.mark.parametrize(("hop", "way"), [("10.41.9.2", "a"), ("10.41.9.3", "a"), ("10.41.8.2", "v"), ("10.41.8.9", "v")])
def test_why_something_is_down_changes_with_what_fails_as_well(hop: str, way: str, state: str) -> None:
    """The packets never leave: an interface is down, or nobody answers there; and either end of its cable may fail, too."""
    text = DOWN_ALREADY.replace("HOP", hop).replace("WAY", way).replace("STATE", state)
    network = mc.read_bytes(text.encode(), "x.yaml").network
    assert network is not None
    flows = every_flow(network)
    cases = failures(network, ["link", "interface", "device"])
    assert sweep(network, flows, cases).cases == from_nothing(network, flows, cases)


def test_some_flow_is_taken_over_and_some_is_not(garden: mc.Network, monkeypatch: pytest.MonkeyPatch) -> None:
    """Were nothing ever reused, the two laws above would hold of themselves."""
    network = halls(3)
    flows = [Flow("h0", "h1", "https"), Flow("h0", "h2", "https")]
    asked: list[str] = []
    real = trace_one

    def noted(plan: Plan, source: str, target: str, *more: Any) -> mc.Journey:
        asked.append(target)
        return real(plan, source, target, *more)

    monkeypatch.setattr(lab_module, "trace_one", noted)
    lab = Lab(network)
    lab.keep("before", flows)
    asked.clear()
    lab.fail("link s2")
    assert [c.key for _, c in lab.compare("before", flows).changed] == [("h0", "h2", "https")]
    assert asked == ["h2"]


def halls(number: int) -> mc.Network:
    """Hosts around one router."""
    builder = mc.Builder("halls")
    ports: dict[str, Any] = {f"p{n}": {"address": f"10.41.{n}.1/24"} for n in range(number)}
    builder.router("hub", **ports)
    for n in range(number):
        builder.host(f"h{n}", f"10.41.{n}.10/24", gateway=f"10.41.{n}.1", serves=["https"])
        builder.segment(f"s{n}", f"h{n}", f"hub/p{n}")
    return builder.finish()


def test_a_sweep_counts_what_everything_hangs_on() -> None:
    network = halls(3)
    flows = every_flow(network)
    found = sweep(network, flows, failures(network, ["link", "device"]))
    assert [c.words for c in found.single_points] == ["device hub"]
    assert [(c.words, len(c.lost)) for c in found.cases] == [("device hub", 12), ("link s0", 8), ("link s1", 8), ("link s2", 8)]
    assert sweep(network, [Flow("h0", "10.41.9.9", "ping")], failures(network, ["link"])).single_points == []


def test_pairs_are_every_two_once(garden: mc.Network) -> None:
    one = failures(garden, ["link"])
    two = failures(garden, ["link"], pairs=True)
    n = len(one)
    assert len(two) == n + n * (n - 1) // 2
    assert len({frozenset(c) for c in two}) == len(two)


def test_kinds_that_nothing_is_of(garden: mc.Network) -> None:
    with pytest.raises(mc.QuestionError, match="is nothing that fails"):
        failures(garden, ["cable"])
    bare = mc.Builder("bare")
    bare.host("bench", "10.41.0.2/24")
    with pytest.raises(mc.QuestionError, match="this network has no device that could fail"):
        failures(bare.finish(), ["device"])


def test_a_restored_cable_may_make_things_better(garden: mc.Network) -> None:
    """What was kept while something had failed must not be taken for what is now."""
    lab = Lab(garden)
    lab.fail("link herb-link")
    flows = [Flow("kiosk-1", "ledger", "tcp/8443"), Flow("kiosk-1", "almanac", "https")]
    lab.keep("dark", flows)
    lab.restore()
    assert [c.key[1] for _, c in lab.compare("dark", flows).changed] == ["ledger"]


def test_sessions_that_began_since_are_heeded(garden: mc.Network) -> None:
    lab = Lab(garden)
    flow = Flow("kiosk-1", "almanac", "https", Options(source_port=41_000))
    lab.keep("before", [flow])
    lab.send(flow)
    lab.fail("link herb-link")
    assert not lab.compare("before", [flow])


SELFISH = b"""
mossy-network: 1
lists:
  plain: [{permit: tcp, to: 10.41.2.10}]
  selfish: [{deny: tcp, to: self}, {permit: any}]
devices:
  r: {kind: router, interfaces: {one: {address: 10.41.1.1/24, filter: {arriving: [plain, selfish]}}, two: 10.41.2.1/24}}
  a: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  b: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1, serves: [https]}
  c: {kind: host, address: 10.41.2.11/24, gateway: 10.41.2.1}
segments: {one: [r/one, a], two: [r/two, b, c]}
"""


def test_a_list_is_read_again_only_where_its_words_mean_something_else() -> None:
    network = mc.read_bytes(SELFISH, "n.yaml").network
    assert network is not None
    whole = Plan(network)
    read = {name: whole.device("r").read_list(name) for name in ("plain", "selfish")}
    host = Plan(apply(network, [parse(network, "host b")]), whole)
    assert all(host.device("r").read_list(name) is table for name, table in read.items())
    for what in ("interface r/two", "device r"):
        broken = Plan(apply(network, [parse(network, what)]), whole)
        afresh = Plan(apply(network, [parse(network, what)]))
        for name, table in read.items():
            again = broken.device("r").read_list(name)
            assert again.rows == afresh.device("r").read_list(name).rows
            assert again is table or name == "selfish"
        back = Plan(network, broken)
        assert back.device("r").read_list("selfish").rows == read["selfish"].rows
