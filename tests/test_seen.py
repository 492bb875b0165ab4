"""As whom hosts are seen outside: what is told agrees with what a walk shows, and a missing rule is found before it is needed."""

from __future__ import annotations

import pytest
from click.testing import CliRunner

import mossy_compass as mc
from mossy_compass.cli.main import main
from mossy_compass.lab.seen import seen
from mossy_compass.report.seentext import about, seen_dict

from .conftest import DATA

HALL = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
    interfaces:
      in: {address: 10.41.1.1/24, outside: no}
      fibre: {address: 198.51.100.2/28, outside: yes}
      radio: {address: 192.0.2.2/24, outside: yes}
    routes: [{prefix: default, next-hop: 198.51.100.1}]
    translate:
      - {id: fibre, leaving: fibre#FIBRE}
#RADIO
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  amy: {kind: host, address: 10.41.1.11/24, gateway: 10.41.1.1}
  one: {kind: router, interfaces: {g: 198.51.100.1/28, w: 198.51.100.18/28}, routes: [{prefix: default, next-hop: 198.51.100.17}]}
  two: {kind: router, interfaces: {g: 192.0.2.1/24, w: 198.51.100.19/28}, routes: [{prefix: default, next-hop: 198.51.100.17}]}
  world:
    kind: internet
    interfaces: {w: 198.51.100.17/28}
    hosts: {almanac: {address: 203.0.113.80, serves: https}}
    routes: [{prefix: 198.51.100.0/28, next-hop: 198.51.100.18}, {prefix: 192.0.2.0/24, next-hop: 198.51.100.19}]
segments: {x: [gate/in, ann, amy], y: [gate/fibre, one/g], z: [gate/radio, two/g], w: [one/w, two/w, world/w]}
"""


def hall(fibre: str = "", radio: str = "") -> mc.Plan:
    text = HALL.replace("#FIBRE", fibre and f", {fibre}").replace("#RADIO", radio and f"      - {radio}")
    found = mc.read_bytes(text.encode(), "hall.yaml")
    assert found.network is not None, found.problems
    return mc.Plan(found.network)


@pytest.mark.parametrize(
    ("fibre", "radio", "shown"),
    [
        ("", "", {"ann": ["198.51.100.2", "10.41.1.10!"], "amy": ["198.51.100.2", "10.41.1.11!"]}),
        ("", "{leaving: radio}", {"ann": ["198.51.100.2", "192.0.2.2"], "amy": ["198.51.100.2", "192.0.2.2"]}),
        ("source: ann", "{leaving: radio}", {"ann": ["198.51.100.2", "192.0.2.2"], "amy": ["10.41.1.11!", "192.0.2.2"]}),
        (
            "becomes: {pool: [198.51.100.8/31]}",
            "",
            {"ann": ["198.51.100.8", "10.41.1.10!"], "amy": ["198.51.100.9", "10.41.1.11!"]},
        ),
        (
            "source: ann, becomes: {pair: 198.51.100.7}",
            "",
            {"ann": ["198.51.100.7", "10.41.1.10!"], "amy": ["10.41.1.11!", "10.41.1.11!"]},
        ),
        ("becomes: 203.0.113.9", "{leaving: radio}", {"ann": ["203.0.113.9!", "192.0.2.2"], "amy": ["203.0.113.9!", "192.0.2.2"]}),
        (
            "",
            "{leaving: radio, becomes: 203.0.113.9}",
            {"ann": ["198.51.100.2", "203.0.113.9!"], "amy": ["198.51.100.2", "203.0.113.9!"]},
        ),
        ("becomes: exempt", "{leaving: radio}", {"ann": ["10.41.1.10!", "192.0.2.2"], "amy": ["10.41.1.11!", "192.0.2.2"]}),
    ],
)
def test_as_whom_hosts_are_seen(fibre: str, radio: str, shown: dict[str, list[str]]) -> None:
    plan = hall(fibre, radio)
    found = seen(plan)
    assert {h: [f"{s.outer}{'!' * s.lacking}" for s in found if s.host == h] for h in shown} == shown
    for entry in found:  # and so it is: what leaves now is seen so by the far end
        if entry.now:
            journey = mc.trace(plan, entry.host, "almanac", "https")
            assert str(journey.there.arrived.source) == str(entry.outer)
            assert journey.answered is not entry.lacking


def test_the_first_line_says_what_is_lacking() -> None:
    assert about(seen(hall())) == "2 hosts: gate/radio shows ann, amy under addresses that nobody can answer to"
    assert "whoever gets out is seen" in about(seen(hall("", "{leaving: radio}")))
    assert about([]).startswith("no host")


def test_a_host_that_does_not_get_out_is_told_with_the_reason() -> None:
    plan = hall("", "{leaving: radio, disabled: yes}")
    network = plan.network
    lab = mc.Lab(network)
    lab.fail("device one")
    (first, _) = seen(lab.plan)
    assert (first.uplink, first.outer) != ("radio", None)
    lab.fail("link x")
    assert all("does not get out" in s.note for s in seen(lab.plan))


def test_the_command_ends_with_one_where_something_is_lacking() -> None:
    done = CliRunner().invoke(main, ["seen", str(DATA / "fernhollow.yaml")])
    assert done.exit_code == 1
    assert done.stdout.startswith("10 hosts: gate/fibre shows sensor-fern, sensor-orchid under addresses")
    assert CliRunner().invoke(main, ["seen", str(DATA / "starter.yaml")]).exit_code == 0
    made = seen_dict(seen(hall()))
    assert made["mossy-seen"] == 1


def codes(text: str) -> list[str]:
    found = mc.read_bytes(text.encode(), "hall.yaml")
    assert found.network is not None, found.problems
    wanted = ("translate.one-uplink", "translate.led-nowhere", "session.not-inspected")
    return sorted({p.code for p in mc.findings(mc.Plan(found.network)) if p.code in wanted})


def hall_text(fibre: str = "", radio: str = "", more: tuple[str, str] = ("", "")) -> str:
    text = HALL.replace("#FIBRE", fibre and f", {fibre}").replace("#RADIO", radio and f"      - {radio}")
    assert more[0] in text
    return text.replace(*more, 1) if more[0] else text


BOTH = "{leaving: radio}"
PINGS = ("    kind: firewall\n", "    kind: firewall\n    stateful: [tcp, udp, icmp]\n")


@pytest.mark.parametrize(
    ("text", "told"),
    [
        (hall_text(more=PINGS), ["translate.one-uplink"]),
        (hall_text(radio=BOTH, more=PINGS), []),
        (hall_text(radio=BOTH), ["session.not-inspected"]),
        (hall_text(radio=BOTH, more=("    kind: firewall\n", "    kind: firewall\n    stateful: none\n")), []),
        (hall_text("becomes: 198.51.100.7", BOTH, PINGS), []),
        (hall_text("becomes: 203.0.113.9", BOTH, PINGS), ["translate.led-nowhere"]),
        (hall_text("becomes: {pool: [198.51.100.7, 203.0.113.9]}", BOTH, PINGS), ["translate.led-nowhere"]),
        (hall_text("source: ann, becomes: {pair: 203.0.113.9}", BOTH, PINGS), ["translate.led-nowhere"]),
        (
            hall_text("becomes: 203.0.113.9", BOTH, PINGS)
            .replace("  one: {kind: router,", "  one: {kind: router, #R")
            .replace(
                "routes: [{prefix: default, next-hop: 198.51.100.17}]}",
                "routes: [{prefix: default, next-hop: 198.51.100.17}, {prefix: 203.0.113.9/32, next-hop: 198.51.100.2}]}",
                1,
            )
            .replace(" #R", ""),
            [],
        ),
    ],
)
def test_findings_about_translation_as_a_whole(text: str, told: list[str]) -> None:
    assert codes(text) == told


def test_what_is_said_to_be_led_nowhere_is_lost_and_what_is_not_is_answered() -> None:
    for outer in ("203.0.113.9", "198.51.100.7"):
        text = hall_text(f"becomes: {outer}", BOTH, PINGS)
        found = mc.read_bytes(text.encode(), "hall.yaml")
        assert found.network is not None
        answered = mc.trace(mc.Plan(found.network), "ann", "almanac", "https").answered
        assert answered is ("translate.led-nowhere" not in codes(text))


def test_where_pings_are_said_to_get_no_answer_they_get_none() -> None:
    for more in (("", ""), PINGS):
        found = mc.read_bytes(hall_text(radio=BOTH, more=more).encode(), "hall.yaml")
        assert found.network is not None
        answered = mc.trace(mc.Plan(found.network), "ann", "almanac", "ping").answered
        assert answered is ("session.not-inspected" not in codes(hall_text(radio=BOTH, more=more)))
