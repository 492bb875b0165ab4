"""Every finding of `mossy check` that needs the network computed: what brings it out, where it points, and that its mending ends it."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.exchange import sarif
from mossy_compass.routing.compute import Routing
from mossy_compass.routing.findings import findings
from tests.conftest import DATA
from tests.effort import examples

BASE = """\
mossy-network: 1
devices:
  r:
    kind: router
    interfaces:
      lan: 10.40.1.1/24
      up: 10.40.0.1/30
      spare: {}
    routes:
      - {prefix: default, next-hop: 10.40.0.2}
  up:
    kind: router
    interfaces:
      down: 10.40.0.2/30
      world: 203.0.113.1/24
    routes:
      - {prefix: 10.40.1.0/24, next-hop: 10.40.0.1}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  far: {kind: host, address: 203.0.113.80/24, gateway: 203.0.113.1}
segments:
  lan: [desk, r/lan]
  line: [r/up, up/down]
  out: [up/world, far]
"""


def found(text: str) -> list[mc.Problem]:
    reading = mc.read_bytes(text.encode(), "f.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    return [*reading.problems, *findings(Routing(reading.network), reading.problems, reading.lines)]


def test_the_base_is_clean() -> None:
    assert found(BASE) == []


CASES = [
    ("10.40.1.10/24, gateway: 10.40.1.1}", "10.40.1.1/24, gateway: 10.40.0.2}", "address.duplicate", 18, "nobody can say which of them answers"),
    ("spare: {}", "spare: 10.40.1.7/24", "interface.same-subnet", 8, "in one subnet"),
    ("address: 10.40.1.10/24", "address: 10.40.1.10/16", "segment.mask", 18, "10.40.1.10/16"),
    ("gateway: 10.40.1.1}", "gateway: 10.40.1.9}", "host.gateway-silent", 18, "nobody on segment lan answers for gateway 10.40.1.9"),
    ("gateway: 10.40.1.1}", "gateway: 10.40.2.1}", "host.gateway-elsewhere", 18, "is on no subnet of desk"),
    ("next-hop: 10.40.0.2}", "next-hop: 10.40.1.77}", "route.next-hop-silent", 10, "answers for next hop 10.40.1.77"),
    ("next-hop: 10.40.0.2}", "next-hop: 203.0.113.1}", "route.next-hop-elsewhere", 10, "the route is inactive"),
    ("next-hop: 10.40.0.2}", "leaving: spare}", "route.inactive", 10, "spare is down (it is on no segment)"),
    ("  line: [r/up, up/down]", "  line: {members: [r/up, up/down], state: down}", "route.inactive", 10, "is down (segment line is cut)"),
    ("      - {prefix: 10.40.1.0/24, next-hop: 10.40.0.1}\n", "      - {prefix: 10.40.9.0/24, next-hop: 10.40.0.1}\n", "subnet.no-way-back", 6, "its packets may get to up, which has no route to it"),
    ("down: 10.40.0.2/30", "down: {address: 10.40.0.2/30, mtu: 1400}", "segment.mtu", 14, "MTU 1400"),
    ("lan: 10.40.1.1/24", "lan: {address: 10.40.1.1/24, ospf: 0}\n      alone: 10.40.3.1/24", "interface.alone", 7, "is on no segment"),
    ("  out: [up/world, far]", "  out: [up/world]", "device.alone", 19, "is connected to nothing"),
    ("prefix: default,", "prefix: default, table: side,", "idle.table", 10, "nothing asks the route table 'side'"),
    ("up: 10.40.0.1/30", "up: {address: 10.40.0.1/30, ospf: 1}", "", 0, ""),
    ("address: 10.40.1.10/24, gateway: 10.40.1.1", "leased: yes", "lease.none", 18, "nobody on segment lan leases addresses"),
]  # fmt: skip


@pytest.mark.parametrize("old, new, code, line, says", CASES, ids=[f"{c[2]}-{n}" for n, c in enumerate(CASES)])
def test_each_finding(old: str, new: str, code: str, line: int, says: str) -> None:
    assert old in BASE
    problems = found(BASE.replace(old, new, 1))
    if not code:
        assert problems == []
        return
    hit = [p for p in problems if p.code == code]
    assert hit, [p.line() for p in problems]
    assert (hit[0].mark.line, hit[0].severity != "error") == (line, True), [p.line() for p in problems]
    assert says in hit[0].message
    assert len({(p.mark, p.code, p.message) for p in problems}) == len(problems)


def test_a_gateway_that_is_elsewhere_is_said_once() -> None:
    problems = found(BASE.replace("gateway: 10.40.1.1}", "gateway: 10.40.2.1}"))
    assert [p.code for p in problems] == ["host.gateway-elsewhere"]


def test_translation_needs_no_way_back() -> None:
    lacking = BASE.replace(
        "      - {prefix: 10.40.1.0/24, next-hop: 10.40.0.1}\n", "      - {prefix: 10.40.9.0/24, next-hop: 10.40.0.1}\n"
    )
    hidden = lacking.replace("  up:\n    kind", "    translate: [{source: 10.40.0.0/16, leaving: up}]\n  up:\n    kind")
    part = lacking.replace("  up:\n    kind", "    translate: [{source: 10.40.1.0/28, leaving: up}]\n  up:\n    kind")
    assert "subnet.no-way-back" in [p.code for p in found(lacking)]
    assert "subnet.no-way-back" not in [p.code for p in found(hidden)]
    assert "subnet.no-way-back" in [p.code for p in found(part)]


HIDES = """\
mossy-network: 1
devices:
  r:
    kind: router
    interfaces:
      lan: 10.40.1.1/24
      up: {address: 198.51.100.2/29, zone: world}
      spare: {}
    uplinks: {ways: [up, spare]}
    routes: [{prefix: default, next-hop: 198.51.100.1}]
    translate: [RULES]
  up:
    kind: internet
    interfaces: {down: 198.51.100.1/29}
    hosts: {far: 203.0.113.80, farther: 192.0.2.9}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
segments: {lan: [desk, r/lan], line: [r/up, up/down]}
hours: {day: {from: "08:00", until: "17:00"}}
"""
EXEMPT = "{source: 10.40.1.0/24, to: 192.0.2.9, leaving: up, becomes: exempt}"


@pytest.mark.parametrize(
    ("rules", "hidden"),
    [
        ("{source: 10.40.0.0/16, leaving: up}", True),
        ("{source: 10.40.0.0/16, leaving: world}", True),
        ("{source: 10.40.0.0/16, leaving: ways}", True),
        ("{source: 10.40.0.0/16, leaving: spare}", False),
        ("{source: 10.40.0.0/16, to: outside, leaving: up}", True),
        ("{source: 10.40.0.0/16, to: local-networks, leaving: up}", False),
        ("{source: 10.40.0.0/16, to: far, leaving: up}", False),
        ("{source: 10.40.0.0/16, to: [far, farther, up], leaving: up}", True),
        ("{source: 10.40.0.0/16, to: [far, farther], leaving: up}", False),
        ("{source: 10.40.0.0/16, to: [farther, up], leaving: up}", False),
        ("{source: 10.40.0.0/16, to: far, leaving: up}, {source: 10.40.0.0/16, to: [farther, up], leaving: up}", True),
        ("{source: 10.40.1.0/28, to: outside, leaving: up}", False),
        ("{source: 10.40.0.0/16, to: outside, leaving: up, hours: day}", False),
        ("{source: 10.40.0.0/16, to: outside, leaving: up, service: tcp/443}", False),
        ("{source: 10.40.0.0/16, to: outside, leaving: up, disabled: yes}", False),
        (f"{EXEMPT}, {{source: 10.40.0.0/16, leaving: up}}", False),
        (f"{EXEMPT.replace('192.0.2.9', '192.0.2.77')}, {{source: 10.40.0.0/16, leaving: up}}", True),
        (f"{EXEMPT.replace('10.40.1.0/24', '10.40.2.0/24')}, {{source: 10.40.0.0/16, leaving: up}}", True),
        (f"{EXEMPT.replace('10.40.1.0/24', '10.40.1.64/28')}, {{source: 10.40.0.0/16, leaving: up}}", False),
        (f"{{source: 10.40.0.0/16, leaving: up}}, {EXEMPT}", True),
    ],
)
def test_a_way_back_is_wanted_by_whoever_could_answer_what_is_not_hidden(rules: str, hidden: bool) -> None:
    told = [p.code for p in found(HIDES.replace("RULES", rules))]
    assert ("subnet.no-way-back" not in told) is hidden


def test_what_a_selector_takes_into_a_tunnel_needs_no_way_back_outside_it() -> None:
    tunnel = "spare: {tunnel: {to: 192.0.2.9, by: up, kind: esp, selectors: [{from: 10.40.1.0/24, to: 192.0.2.0/24}]}}"
    exempted = HIDES.replace("RULES", f"{EXEMPT}, {{source: 10.40.0.0/16, leaving: up}}")
    assert "subnet.no-way-back" not in [p.code for p in found(exempted.replace("spare: {}", tunnel))]
    past = tunnel.replace("{from:", "{does: bypass, from:")
    assert "subnet.no-way-back" in [p.code for p in found(exempted.replace("spare: {}", past))]


@pytest.mark.parametrize("goal", ["", ", to: outside", ", to: 203.0.113.0/24"])
def test_who_hides_a_subnet_needs_a_way_back_into_it_itself(goal: str) -> None:
    text = BASE.replace(
        "      - {prefix: 10.40.1.0/24, next-hop: 10.40.0.1}\n", "      - {prefix: default, next-hop: 203.0.113.80}\n"
    )
    text = text.replace("  desk:", f"    translate: [{{source: 10.40.0.0/16, leaving: world{goal}}}]\n  desk:")
    assert "firewall.no-route-back" in [p.code for p in found(text)]


def test_ospf_neighbours_that_do_not_form() -> None:
    text = BASE.replace("up: 10.40.0.1/30", "up: {address: 10.40.0.1/30, ospf: 1}").replace(
        "down: 10.40.0.2/30", "down: {address: 10.40.0.2/30, ospf: 2}"
    )
    hit = [p for p in found(text) if p.code == "ospf.no-neighbour"]
    assert "areas 1 and 2 differ" in hit[0].message


def test_a_race_of_redistribution_is_found() -> None:
    from tests.test_ospf_rip import CIRCLE

    problems = found(CIRCLE.replace("PREF", "110"))
    assert [p.severity.value for p in problems if p.code == "route.race"] == ["warning"]
    assert "route.race" not in [p.code for p in found(CIRCLE.replace("PREF", "130"))]


def test_routing_without_a_stable_state_is_a_finding_and_no_traceback(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    from click.testing import CliRunner

    from mossy_compass.cli.main import main

    def never(self: Routing) -> None:
        raise mc.NotConverged("routing does not settle.", ["a speaks", "a is silent"])

    monkeypatch.setattr(Routing, "_settle", never)
    file = tmp_path / "f.yaml"
    file.write_text(BASE)
    shown = CliRunner().invoke(main, ["check", str(file)])
    assert shown.exit_code == 2
    assert "[route.not-converged]" in shown.output
    with pytest.raises(mc.NotConverged):
        mc.trace(mc.load(file), "desk", "far")


def test_a_rule_that_names_a_leased_host_is_noted() -> None:
    text = (
        (DATA / "grounds.yaml")
        .read_text()
        .replace("devices:\n", "lists: {l: [{deny: any, from: stroller}, {permit: any}]}\ndevices:\n", 1)
    )
    text = text.replace("vlan: 11, zone: guests", "vlan: 11, filter: {arriving: l}, zone: guests")
    assert [(p.code, p.severity) for p in found(text)] == [("lease.named", "note")]


def test_the_shipped_networks() -> None:
    assert found((DATA / "grounds.yaml").read_text()) == []
    assert [p.code for p in found((DATA / "fernhollow.yaml").read_text())] == [
        "idle.unattached",
        "subnet.no-way-back",
        "subnet.no-way-back",
    ]


def test_sarif_has_what_the_standard_asks_for() -> None:
    """SARIF 2.1.0 sections 3.13, 3.27, 3.28: version, runs, results with rule, level, message and place."""
    problems = found(BASE.replace("spare: {}", "spare: 10.40.1.7/24"))
    log = json.loads(json.dumps(sarif.log(problems, "0")))
    assert log["version"] == "2.1.0"
    run = log["runs"][0]
    assert run["tool"]["driver"]["name"] == "Mossy Compass"
    for result, problem in zip(run["results"], problems, strict=True):
        assert run["tool"]["driver"]["rules"][result["ruleIndex"]]["id"] == result["ruleId"] == problem.code
        assert result["level"] in ("error", "warning", "note")
        assert problem.message in result["message"]["text"]
        region = result["locations"][0]["physicalLocation"]["region"]
        assert (region["startLine"], region["startColumn"]) == (problem.mark.line, problem.mark.column)
    assert any("relatedLocations" in r for r in run["results"])


GROUNDS = (DATA / "grounds.yaml").read_text().splitlines()


@examples(80, 240, suppress_health_check=[HealthCheck.too_slow])
@given(st.data())
def test_no_mutation_of_the_grounds_gives_a_traceback(data: st.DataObject) -> None:
    """Words of the file swapped with other words of it: most are refused, and the rest is checked and traced."""
    lines = list(GROUNDS)
    words = sorted({w.strip(",{}[]") for line in lines for w in line.split()} - {""})
    for _ in range(data.draw(st.integers(1, 3))):
        number = data.draw(st.integers(0, len(lines) - 1))
        parts = lines[number].split(" ")
        filled = [n for n, p in enumerate(parts) if p]
        if filled:
            place = data.draw(st.sampled_from(filled))
            old = parts[place].strip(",{}[]")
            parts[place] = parts[place].replace(old, data.draw(st.sampled_from(words)), 1) if old else parts[place]
            lines[number] = " ".join(parts)
    reading = mc.read_bytes("\n".join(lines).encode(), "m.yaml")
    if reading.network is None:
        assert reading.errors
        return
    try:
        plan = mc.Plan(reading.network)
        problems = findings(plan.routing, reading.problems, reading.lines)
        assert all(p.message and p.mark.line for p in problems)
        for sender in [n for n, d in reading.network.devices.items() if d.layer3][:5]:
            try:
                assert mc.trace(plan, sender, "almanac.example", "https").cause in mc.CAUSES
                assert mc.trace(plan, sender, "10.40.20.20", "https").cause in mc.CAUSES
            except mc.QuestionError:
                continue
    except mc.NotConverged:
        return
