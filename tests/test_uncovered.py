"""A difference that was not worked out and that no test notices is told in the first line, and ends with 1."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

import mossy_compass as mc
from mossy_compass.lab.expect import every_flow
from mossy_compass.lab.uncovered import uncovered
from mossy_compass.walk.grid import Changes, cell_of, compare, gathered
from mossy_compass.walk.trace import trace_one
from tests.test_cli import mossy

TEXT = """\
mossy-network: 1
groups: {crew: [10.40.1.0/24]}
lists: {which: [{permit: tcp, service: smtp}], door: [{permit: any}]}
devices:
  gate:
    kind: firewall
    interfaces: {lan: {address: 10.40.1.1/24, filter: {arriving: door}}, out: {address: 198.51.100.2/30, outside: yes}}
    routes: [{prefix: default, next-hop: 198.51.100.1}]
    translate: [{id: out, source: crew, leaving: out}]
    policy-routes: [{id: post, list: which, candidates: [198.51.100.1]}]
    settings: {mapping: endpoint-independent}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  world: {kind: internet, interfaces: {a: 198.51.100.1/30}, hosts: {almanac: {address: 203.0.113.80, serves: [https]}}}
segments: {lan: [desk, gate/lan], out: [gate/out, world/a]}
"""
CASES: list[tuple[str, str, list[str]]] = [
    # a rule, and a group that one names
    ("source: crew, leaving", "source: [crew, 10.40.7.0/24], leaving", ["devices/gate/translate"]),
    ("crew: [10.40.1.0/24]", "crew: [10.40.1.0/24, 10.40.7.0/24]", ["devices/gate/translate"]),
    # an entry, and the list that says for which packets it is
    ("{id: post, list: which,", "{id: post, list: which, from: 10.40.1.0/24,", ["devices/gate/policy-routes"]),
    ("service: smtp}]", "service: smtp}, {permit: tcp, service: ssh}]", ["devices/gate/policy-routes"]),
    # settings
    ("mapping: endpoint-independent", "mapping: per-flow", ["devices/gate/settings/mapping"]),
    # what is noticed by a test, what is the same by other words, and what is worked out exactly
    ("source: crew, leaving", "source: 10.40.9.0/24, leaving", []),
    ("source: crew, leaving", "source: 10.40.1.0/24, leaving", []),
    ("door: [{permit: any}]", "door: [{permit: any}, {deny: udp}]", []),
    ("kind: host, address: 10.40.1.10", "kind: host, about: a desk, address: 10.40.1.10", []),
]


def plan(text: str) -> mc.Plan:
    reading = mc.read_bytes(text.encode(), "u.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    return mc.Plan(reading.network)


def fares(one: mc.Plan, other: mc.Plan) -> Changes:
    """How the default tests of two versions differ."""
    sides = [
        gathered(
            cell_of(trace_one(p, f.source, f.target, f.service, f.options), f.source, f.target, f.label)
            for f in every_flow(p.network)
        )
        for p in (one, other)
    ]
    return compare(*sides)


@pytest.mark.parametrize("old, new, places", CASES)
def test_what_no_test_notices_and_nobody_worked_out(old: str, new: str, places: list[str]) -> None:
    assert TEXT.count(old) == 1
    before, after = plan(TEXT), plan(TEXT.replace(old, new))
    found = fares(before, after)
    assert list(uncovered(before, after, found)) == places
    if places:
        assert not found.changed


def test_the_first_line_says_so_and_the_command_ends_with_one(tmp_path: Path) -> None:
    (tmp_path / "a.yaml").write_text(TEXT)
    (tmp_path / "b.yaml").write_text(TEXT.replace("crew: [10.40.1.0/24]", "crew: [10.40.1.0/24, 10.40.7.0/24]"))
    (tmp_path / "same.yaml").write_text(TEXT.replace("source: crew", "source: 10.40.1.0/24"))
    done = mossy(tmp_path, "compare", "a.yaml", "b.yaml")
    assert done.returncode == 1
    assert "NOT KNOWN what devices/gate/translate does" in " ".join(done.stdout.split("\n\n")[0].split())
    assert json.loads(mossy(tmp_path, "compare", "a.yaml", "b.yaml", "--format", "json").stdout)["not-known"] == [
        "devices/gate/translate"
    ]
    assert mossy(tmp_path, "compare", "a.yaml", "same.yaml").returncode == 0
    change = "mossy-change: 1\nchanges:\n  - insert: {into: groups/crew, value: 10.40.7.0/24}\n"
    (tmp_path / "c.yaml").write_text(change)
    done = mossy(tmp_path, "change", "a.yaml", "c.yaml", "--write")
    assert done.returncode == 1  # it is done all the same
    assert "NOT KNOWN what devices/gate/translate does" in " ".join(done.stdout.split("\n\n")[0].split())
    assert "10.40.7.0/24" in (tmp_path / "a.yaml").read_text()


def test_findings_that_a_change_brings_are_shown(tmp_path: Path) -> None:
    (tmp_path / "a.yaml").write_text(TEXT)
    (tmp_path / "c.yaml").write_text("mossy-change: 1\nchanges:\n  - insert: {into: lists/door, value: {deny: udp}}\n")
    shown = mossy(tmp_path, "change", "a.yaml", "c.yaml").stdout
    assert "What is found in the changed network, and was not before:" in shown
    assert "[rule.shadowed]" in shown.split("was not before:")[1]
    (tmp_path / "b.yaml").write_text(TEXT.replace("{permit: any}]", "{permit: any}, {deny: udp}]"))
    data = json.loads(mossy(tmp_path, "compare", "a.yaml", "b.yaml", "--format", "json").stdout)
    assert [f["code"] for f in data["findings"]] == ["rule.shadowed"]
    assert json.loads(mossy(tmp_path, "compare", "b.yaml", "b.yaml", "--format", "json").stdout)["findings"] == []
