"""Groups of uplinks: who serves, which member is taken, the last resort with rules of its own, and what a lost member moves."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.files.drills import read_drill
from mossy_compass.lab.drill import run_drill
from mossy_compass.lab.lab import Flow, Lab
from mossy_compass.model.settings import Sharing
from mossy_compass.packet.address import parse_address
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.balance import highest
from mossy_compass.report.uplinkstext import uplinks
from mossy_compass.routing.uplinks import serving
from mossy_compass.walk.question import Options
from mossy_compass.walk.weather import in_weather

WAYS = """\
mossy-network: 1
devices:
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  gate:
    kind: firewall
    stateful: [tcp, udp, icmp]
    interfaces:
      house: {address: 10.40.1.1/24, outside: no#HOUSE}
      fibre: {address: 192.0.2.2/30, outside: yes}
      radio: {address: 192.0.2.6/30, outside: yes}
      dish: {address: 192.0.2.14/30, outside: yes}
      mobile: {address: 192.0.2.10/30, outside: yes, filter: {leaving: thrift}}
    probes:
      by-fibre: {target: almanac, by: fibre, latency: #LIMIT ms}
      by-radio: {target: almanac, by: radio}
    uplinks:
      ways: #WAYS
    routes: [{prefix: default, leaving: ways}#ROUTES]
    translate: [{id: hide, source: 10.40.1.0/24, leaving: [ways, dish]}]
    settings: {interface-route: peer, sharing: flow}
#POLICY
  world:
    kind: internet
    interfaces: {f: 192.0.2.1/30, r: 192.0.2.5/30, m: 192.0.2.9/30, d: 192.0.2.13/30}
    hosts: {almanac: {address: 203.0.113.10, serves: [https, ssh]}}
lists:
  thrift:
    - {id: 10, permit: tcp, service: https, while: #WHILE}
    - {id: 20, deny: any}
segments:
  house: [desk, gate/house]
  fibre: {members: [gate/fibre, world/f], latency: #FIBRE, jitter: 3, loss: 2}
  radio: {members: [gate/radio, world/r], latency: #RADIO, jitter: 1, loss: 4}
  dish: [gate/dish, world/d]
  mobile: {members: [gate/mobile, world/m], latency: 60}
"""
USUAL = {
    "WAYS": "{members: [{leaving: fibre, while: by-fibre}, {leaving: radio, while: by-radio}], choose: first, last-resort: mobile}",
    "HOUSE": "", "LIMIT": "1000", "ROUTES": "", "POLICY": "", "WHILE": "last-resort", "FIBRE": "20", "RADIO": "8",
}  # fmt: skip


def text(changes: Mapping[str, str]) -> str:
    out = WAYS
    for word, value in {**USUAL, **changes}.items():
        out = out.replace(f"#{word}", value)
    return out


def load(changes: Mapping[str, str] | None = None) -> mc.Network:
    read = mc.read_bytes(text(changes or {}).encode(), "n.yaml")
    assert read.network is not None, [p.line() for p in read.errors]
    return read.network


def best(by: str) -> str:
    return f"{{members: [{{leaving: fibre, while: by-fibre}}, {{leaving: radio, while: by-radio}}], choose: best, by: {by}, last-resort: mobile}}"


def left_by(journey: mc.Journey) -> str | None:
    return next((h.leaving for h in journey.there.hops if h.device == "gate"), None)


def fate(lab: Lab, service: str = "tcp/443", **options: Any) -> tuple[str | None, str]:
    journey = lab.test(Flow("desk", "almanac", service, Options(**options)))
    return left_by(journey), journey.cause


@pytest.mark.parametrize(
    ("changes", "failed", "way", "cause"),
    [
        # the first that can serve, in the order in which they are written
        ({}, [], "fibre", "service.open"),
        ({}, ["link fibre"], "radio", "service.open"),
        ({}, ["link radio"], "fibre", "service.open"),
        ({}, ["link fibre", "link radio"], "mobile", "service.open"),
        ({"WAYS": "{members: [radio, fibre], choose: first}"}, [], "radio", "service.open"),
        # without a last resort nobody serves
        ({"WAYS": "{members: [fibre, radio], choose: first}"}, ["link fibre", "link radio"], None, "route.none"),
        ({}, ["link fibre", "link radio", "link mobile"], None, "route.none"),
        # the best by each of the three, and as the cables are
        ({"WAYS": best("latency")}, [], "radio", "service.open"),
        ({"WAYS": best("latency"), "RADIO": "21"}, [], "fibre", "service.open"),
        ({"WAYS": best("latency"), "RADIO": "20"}, [], "fibre", "service.open"),  # of two that are alike the first
        ({"WAYS": best("jitter")}, [], "radio", "service.open"),
        ({"WAYS": best("loss")}, [], "fibre", "service.open"),
        ({"WAYS": best("loss")}, ["link fibre"], "radio", "service.open"),
        ({"WAYS": best("loss")}, ["link fibre", "link radio"], "mobile", "service.open"),
        # one whose probe is down by a limit cannot serve, however good it is
        ({"WAYS": best("loss"), "LIMIT": "10"}, [], "radio", "service.open"),
        ({"LIMIT": "10"}, [], "radio", "service.open"),
        # a list of members means: flows are shared
        ({"WAYS": "[fibre]"}, [], "fibre", "service.open"),
        # whom a member hands to, where that is written: it need not be the only one there
        ({"WAYS": "[{leaving: fibre, next-hop: 192.0.2.1}]"}, [], "fibre", "service.open"),
        ({"WAYS": "[{leaving: fibre, next-hop: 192.0.2.3}]"}, [], "fibre", "neighbour.silent"),
    ],
)
def test_the_member_that_is_taken(changes: Mapping[str, str], failed: list[str], way: str | None, cause: str) -> None:
    lab = Lab(load(changes))
    for what in failed:
        lab.fail(what)
    lab.settle()
    assert fate(lab) == (way, cause)
    # what a policy route names goes the same way as a route by the group does
    policy = {
        "POLICY": "    policy-routes: [{candidates: [{uplink: ways}]}]",
        "ROUTES": ", {prefix: default, leaving: dish, metric: 5}",
    }
    lab = Lab(load({**changes, **policy}))
    for what in failed:
        lab.fail(what)
    lab.settle()
    assert fate(lab) == ((way, cause) if way is not None else ("dish", "service.open"))


def test_the_last_resort_has_rules_of_its_own_just_while_it_is_in_use() -> None:
    lab = Lab(load({"ROUTES": ", {prefix: 203.0.113.0/24, next-hop: 192.0.2.9, while: ways/last-resort}"}))
    assert fate(lab, "tcp/22") == ("fibre", "service.open")
    assert [str(r.prefix) for r in lab.plan.device("gate").table if r.prefix == mc.parse_prefix("203.0.113.0/24")] == []
    lab.fail("link fibre")
    lab.fail("link radio")
    assert fate(lab)[1] == "service.open"  # the ports themselves are down, which needs no probe
    assert fate(lab, "tcp/22") == ("mobile", "filter.rule")
    assert any(r.prefix == mc.parse_prefix("203.0.113.0/24") for r in lab.plan.device("gate").table)
    lab.restore("link radio")
    lab.settle()
    assert fate(lab, "tcp/22") == ("radio", "service.open")
    # a packet that leaves by that interface while another member serves meets the list without the rule
    other = Lab(load({"ROUTES": ", {prefix: 203.0.113.0/24, next-hop: 192.0.2.9}"}))
    journey = other.test(Flow("desk", "almanac", "tcp/443"))
    assert (left_by(journey), journey.cause) == ("mobile", "filter.rule")
    hop = next(h for h in journey.there.hops if h.device == "gate")
    missed = next(p for r in hop.rulings for p in other.plan.passed_over("gate", r) if p.id == "10")
    assert missed.words == "is in force only while the uplink of last resort is in use, and it is not"


@pytest.mark.parametrize("sharing", list(Sharing))
@given(ends=st.tuples(st.integers(1, 1 << 31), st.integers(1, 1 << 31), st.integers(1, 65535)), lost=st.integers(0, 3))
def test_a_lost_member_moves_its_own_flows_and_no_others(sharing: Sharing, ends: tuple[int, int, int], lost: int) -> None:
    members = ["fibre", "radio", "dish", "mobile"]
    one, other = (parse_address(f"10.{40 + n % 8}.{n >> 8 & 255}.{n & 255}") for n in ends[:2])
    packet = Packet(6, one, other, ends[2], 443, flags="SYN")
    taken = members[highest(packet, sharing, members, 7)]
    left = [m for m in members if m != members[lost]]
    now = left[highest(packet, sharing, left, 7)]
    assert now == taken or taken == members[lost]
    # the order in which they are written has no part in it
    assert members[::-1][highest(packet, sharing, members[::-1], 7)] == taken


def test_flows_are_shared_evenly_and_stay_where_they_are() -> None:
    lab = Lab(load({"WAYS": "{members: [fibre, radio, dish], last-resort: mobile}"}))
    ports = range(50_000, 50_150)
    before = {p: fate(lab, source_port=p)[0] for p in ports}
    counts = [list(before.values()).count(m) for m in ("fibre", "radio", "dish")]
    assert sum(counts) == len(ports)
    assert min(counts) > len(ports) / 5
    lab.fail("link radio")
    lab.settle()
    after = {p: fate(lab, source_port=p)[0] for p in ports}
    assert {p for p in ports if before[p] != after[p]} == {p for p in ports if before[p] == "radio"}
    assert "mobile" not in after.values()


@pytest.mark.parametrize(
    ("changes", "code", "words"),
    [
        ({"WAYS": "{members: [fibre], choose: best}"}, "uplink.choose", "does not say by what"),
        ({"WAYS": "{members: [fibre], choose: best, by: loss}"}, "uplink.choose", "nothing measures fibre"),
        ({"WAYS": "{members: [fibre], by: loss}"}, "uplink.choose", "and choose is share"),
        ({"WAYS": "{members: [fibre], last-resort: fibre}"}, "uplink.twice", "a member of the group ways and its last resort"),
        ({"WAYS": "{members: [fibre, fibre]}"}, "uplink.twice", "twice"),
        ({"WAYS": "{members: [fibre], last-resort: fibr}"}, "interface.unknown", "fibr"),
        ({"WAYS": "{members: [fibre], last-resort: {leaving: mobile, while: by-fibr}}"}, "probe.unknown", "no probe 'by-fibr'"),
        ({"WAYS": "{members: [{leaving: fibre, while: ways/last-resort}]}"}, "probe.unknown", "ways/last-resort"),
        ({"WHILE": "way/last-resort"}, "uplink.unknown", "names no last resort"),
        ({"WHILE": "by-fibre"}, "uplink.unknown", "names no last resort"),
        ({"ROUTES": ", {prefix: 203.0.113.0/24, leaving: dish, while: way/last-resort}"}, "uplink.unknown", "no group of uplinks 'way'"),
        ({"WAYS": "[{leaving: fibre, next-hop: [192.0.2.1, 192.0.2.3]}]"}, "uplink.choose", "two next hops of one family"),
        ({"WAYS": "{members: [fibre], choose: worst}"}, "value.wrong", "worst"),
    ],
)  # fmt: skip
def test_what_cannot_be_meant_is_refused_where_it_stands(changes: Mapping[str, str], code: str, words: str) -> None:
    found = mc.read_bytes(text(changes).encode(), "n.yaml")
    assert found.network is None
    told = [p for p in found.errors if p.code == code and words in p.message]
    assert told, [p.line() for p in found.errors]
    assert told[0].mark.line > 3


def test_a_rule_for_a_last_resort_that_is_not_there_is_told() -> None:
    alone = "{members: [fibre, radio]}"
    # no group has one: the test says it, as ever
    network = load({"WAYS": alone})
    assert [p for p in mc.read_bytes(text({"WAYS": alone}).encode(), "n.yaml").problems if p.code == "rule.last-resort"] == []
    assert mc.trace(network, "desk", "almanac", "https", last_resort=True).there.fate.value == "delivered"
    # one has: then it follows from what is so, and saying it is no question
    with pytest.raises(mc.QuestionError, match="follows from the groups of uplinks"):
        mc.trace(load(), "desk", "almanac", "https", last_resort=True)
    # two have, and the rule does not say which
    two = USUAL["WAYS"] + "\n      others: {members: [dish], last-resort: house}"
    read = mc.read_bytes(text({"WAYS": two}).encode(), "n.yaml")
    said = [
        p for p in (*read.problems, *(mc.findings(mc.Plan(read.network)) if read.network else ())) if p.code == "rule.last-resort"
    ]
    assert said
    assert "several: ways, others" in said[0].message
    named = mc.read_bytes(text({"WAYS": two, "WHILE": "ways/last-resort"}).encode(), "n.yaml")
    assert named.network is not None
    assert not [p for p in named.problems if p.code == "rule.last-resort"]
    # and where the list stands beside another device's
    elsewhere = text({"WHILE": "ways/last-resort"}).replace(
        "  world:\n", "  stub: {kind: router, interfaces: {x: {address: 10.41.0.1/24, filter: {leaving: thrift}}}}\n  world:\n"
    )
    read = mc.read_bytes(elsewhere.encode(), "n.yaml")
    assert read.network is not None
    told = [p for p in read.problems if p.code == "rule.last-resort"]
    assert len(told) == 1
    assert "stub, where it stands, has no such last resort" in told[0].message


def test_the_table_says_what_is_in_use_and_why_not_the_others() -> None:
    lab = Lab(load({"WAYS": best("latency")}))
    made = uplinks(lab.plan, "gate")
    assert made.about == "uplinks of gate: ways by radio"
    assert [(r[1], r[2].splitlines()[0], r[3]) for r in made.rows] == [
        ("fibre", "ready, not in use", "none"),
        ("radio", "in use", "all"),
        ("mobile", "the last resort: used only while no member can serve", "none"),
    ]
    assert made.rows[0][2].splitlines()[1] == "probe by-fibre: latency 40 ms, jitter 6 ms, loss 3.96 %"
    lab.fail("link fibre")
    lab.fail("link radio")
    lab.settle()
    made = uplinks(lab.plan, "gate")
    assert made.about == "uplinks of gate: ways by mobile (its last resort)"
    assert [r[3] for r in made.rows] == ["none", "none", "all"]
    lab.fail("link mobile")
    assert uplinks(lab.plan, "gate").about == "uplinks of gate: ways: no member can serve"
    shared = Lab(load({"WAYS": "[fibre, radio]"}))
    assert [r[3] for r in uplinks(shared.plan, "gate").rows] == ["1 of 2", "1 of 2"]


def test_a_choice_is_the_same_however_it_was_come_to() -> None:
    """The settled choice of a plan that is asked without a lab is that of a lab at rest, after anything failed and came back."""
    network = load({"WAYS": best("latency")})
    alone = in_weather(mc.Plan(network))
    lab = Lab(network)
    for _ in range(2):
        lab.fail("link radio")
        lab.settle()
        assert serving(lab.plan.network.devices["gate"], lab.plan.domains, "ways") == ("fibre",)
        lab.restore()
        lab.settle()
        here = lab.plan.network.devices["gate"]
        assert serving(here, lab.plan.domains, "ways") == serving(here, alone.domains, "ways") == ("radio", "fibre")
        assert lab.plan.network == alone.network


def leaves_by(lab: Lab) -> str:
    return serving(lab.plan.network.devices["gate"], lab.plan.domains, "ways")[0]


@pytest.mark.parametrize(
    ("by", "worse", "before", "after"),
    [
        ("latency", "quality radio latency 80 ms", "radio", "fibre"),
        ("latency", "quality radio latency 11ms", "radio", "radio"),
        ("jitter", "quality radio jitter 50 ms", "radio", "fibre"),
        ("loss", "quality fibre loss 30 %", "fibre", "radio"),
        ("loss", "quality fibre latency 300 ms jitter 5 ms", "fibre", "fibre"),  # that is not what it chooses by
    ],
)
def test_the_best_moves_when_a_probe_has_measured_and_not_before(by: str, worse: str, before: str, after: str) -> None:
    lab = Lab(load({"WAYS": best(by)}))
    every = lab.network.devices["gate"].probes["by-fibre"].every
    lab.wait(every + 1)
    lab.keep("before")
    assert leaves_by(lab) == before
    lab.fail(worse)
    assert leaves_by(lab) == before
    lab.wait(every - 2)
    assert leaves_by(lab) == before
    lab.wait(1)
    assert leaves_by(lab) == after
    lab.restore(" ".join(worse.split()[:2]))
    assert not lab.faults
    assert leaves_by(lab) == after
    lab.settle()
    assert leaves_by(lab) == before
    lab.fail(worse)
    lab.settle()
    assert leaves_by(lab) == after
    lab.back_to("before")
    assert leaves_by(lab) == before
    lab.settle()
    assert leaves_by(lab) == before


def test_a_cable_has_one_quality_at_a_time_and_keeps_it_under_another_name() -> None:
    lab = Lab(load({"WAYS": best("latency")}))
    lab.fail("quality radio latency 80 ms loss 2%")
    lab.fail("quality radio latency 5 ms")
    assert [str(f) for f in lab.faults] == ["quality radio latency 5 ms"]
    assert lab.plan.network.segments["radio"].link.latency_ms == 5
    lab.change(lab.network, [("segments/radio", "air")])
    assert not lab.faults  # there is no such cable in what is written now
    with pytest.raises(mc.QuestionError, match="quality radio has not failed"):
        lab.restore("quality radio")


@pytest.mark.parametrize(
    "wrong",
    ["quality", "quality wire latency 8 ms", "quality radio", "quality radio latency", "quality radio latency 8", "quality radio latency -1 ms", "quality radio loss 101 %", "quality radio speed 8 ms", "quality radio latency nan ms", "quality radio loss 2 ms"],
)  # fmt: skip
def test_a_quality_that_cannot_be_meant_is_refused(wrong: str) -> None:
    lab = Lab(load({"WAYS": best("latency")}))
    with pytest.raises(mc.QuestionError):
        lab.fail(wrong)
    assert not lab.faults


def test_a_drill_in_which_a_cable_gets_worse(tmp_path: Path) -> None:
    drill = tmp_path / "worse.drill.yaml"
    (tmp_path / "n.yaml").write_text(text({"WAYS": best("latency")}))
    drill.write_text(
        "mossy-drill: 1\nnetwork: n.yaml\nsteps:\n"
        "  - fail: quality radio latency 80 ms\n"
        "  - expect: {uplinks: gate/ways, in-use: radio}\n"
        "  - settle: yes\n"
        "  - expect: {uplinks: gate/ways, in-use: fibre}\n"
        "  - restore: quality radio\n"
        "  - settle: yes\n"
        "  - expect: {uplinks: gate/ways, in-use: radio}\n"
    )
    report = run_drill(read_drill(drill))
    assert report.ok, [r.said for r in report.results]
    assert "gate/ways leaves by fibre" in report.results[2].said
    drill.write_text(drill.read_text().replace("restore: quality radio", "restore: quality wire"))
    with pytest.raises(mc.NetworkFileError):
        read_drill(drill)


@pytest.mark.parametrize(
    ("said", "failed", "ok"),
    [
        ("in-use: fibre", [], True),
        ("in-use: radio", [], False),
        ("in-use: [fibre, radio]", [], False),
        ("in-use: radio", ["link fibre"], True),
        ("in-use: mobile", ["link fibre", "link radio"], True),
        ("in-use: none", ["link fibre", "link radio", "link mobile"], True),
        ("in-use: none", ["link fibre", "link radio"], False),
        ("in-use: [mobile, radio]", ["link fibre", "link radio"], False),
    ],
)
def test_a_drill_expects_what_is_in_use(tmp_path: Path, said: str, failed: list[str], ok: bool) -> None:
    (tmp_path / "n.yaml").write_text(text({}))
    fails = f"  - fail: [{', '.join(failed)}]\n" if failed else ""
    (tmp_path / "d.yaml").write_text(
        f"mossy-drill: 1\nnetwork: n.yaml\nsteps:\n{fails}  - expect: {{uplinks: gate/ways, {said}}}\n"
    )
    (result,) = run_drill(read_drill(str(tmp_path / "d.yaml"), None)).results[-1:]
    assert (result.ok, result.broken) == (ok, False), result.said
    assert result.expects


@pytest.mark.parametrize(
    ("step", "words"),
    [
        ("{uplinks: gate/way, in-use: fibre}", "there is no group of uplinks 'gate/way'"),
        ("{uplinks: gate/ways, in-use: fibr}", "fibr is no member of gate/ways"),
        ("{uplinks: gate/ways, in-use: dish}", "dish is no member of gate/ways"),
        ("{uplinks: gat/ways, in-use: fibre}", "gat"),
        ("{uplinks: gate/ways}", "uplinks and in-use go together"),
        ("{in-use: fibre}", "uplinks and in-use go together"),
        ("{uplinks: gate/ways, in-use: fibre, that: desk reaches almanac}", "write two steps"),
    ],
)
def test_what_a_drill_cannot_expect_of_uplinks(tmp_path: Path, step: str, words: str) -> None:
    (tmp_path / "n.yaml").write_text(text({}))
    (tmp_path / "d.yaml").write_text(f"mossy-drill: 1\nnetwork: n.yaml\nsteps:\n  - expect: {step}\n")
    try:
        (result,) = run_drill(read_drill(str(tmp_path / "d.yaml"), None)).results
        assert result.broken
        said = result.said
    except mc.MossyError as fault:
        said = str(fault)
    assert words in said
