"""What a device asks onward in its own name: both conversations are told, and the flow is whole only where both are."""

from __future__ import annotations

import json
import pickle
from pathlib import Path

import pytest
from click.testing import CliRunner

import mossy_compass as mc
from mossy_compass.cli.main import main
from mossy_compass.plan.ids import list_id

PROXY = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
    interfaces:
      house: {address: 10.41.1.1/24, outside: no}
      world: {address: 198.51.100.2/24, outside: yes, filter: {leaving: out}}
    routes: [{prefix: default, next-hop: 198.51.100.1}]
    serves: [#SERVES]
    translate:
      - {to: any, service: #SERVICE, arriving: house, goes-to: {address: self, #PORTonward: #ONWARD}}
    settings: {own-packets: filtered#SETTINGS}
  carrier:
    kind: internet
    interfaces: {gate: 198.51.100.1/24}
    hosts: {press: {address: 203.0.113.20, serves: [http, domain]}, still: {address: 203.0.113.21, silent: yes}}
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
segments: {x: [gate/house, ann], z: [gate/world, carrier/gate]}
lists:
  out: [#RULE{permit: any}]
"""


def proxy(service: str = "http", port: str = "port: 8081, ", onward: str = "yes", serves: str = "tcp/8081", **more: str) -> str:
    text = PROXY.replace("#SERVICE", service).replace("#PORT", port).replace("#ONWARD", onward).replace("#SERVES", serves)
    return text.replace("#RULE", more.get("rule", "")).replace("#SETTINGS", more.get("settings", ""))


def plan(text: str) -> mc.Plan:
    found = mc.read_bytes(text.encode(), "proxy.yaml")
    assert found.network is not None, found.problems
    return mc.Plan(found.network)


UDP = {"service": "udp/53", "port": "", "serves": "udp/53"}
DENY = "{deny: any, to: 203.0.113.0/24}, "
FATES = [
    # how, target, service; answered, decided on, cause, symptom
    ({}, "press", "http", True, "there", "service.open", "answered"),
    ({}, "still", "http", False, "onward", "service.silent", "an open connection, and nothing in it"),
    ({"rule": DENY}, "press", "http", False, "onward", "filter.rule", "an open connection, and nothing in it"),
    ({"serves": "ssh"}, "press", "http", False, "there", "service.silent", "silence"),  # nothing takes it: nothing is asked onward
    ({"settings": ", to-self: deny"}, "press", "http", False, "there", "self.closed", "silence"),
    (UDP, "press", "udp/53", True, "there", "service.open", "answered"),
    (UDP, "still", "udp/53", False, "onward", "service.silent", "silence"),  # a datagram is not answered before
    ({**UDP, "rule": DENY}, "press", "udp/53", False, "onward", "filter.rule", "silence"),
    ({"onward": "no"}, "still", "http", True, "there", "service.open", "answered"),  # the device answers for itself alone
]


@pytest.mark.parametrize(("how", "target", "service", "answered", "lost", "cause", "symptom"), FATES)
def test_the_fate_of_both(
    how: dict[str, str], target: str, service: str, answered: bool, lost: str, cause: str, symptom: str
) -> None:
    journey = mc.trace(plan(proxy(**how)), "ann", target, service)
    assert (journey.answered, journey.lost, journey.cause, journey.symptom.value) == (answered, lost, cause, symptom)
    asked = journey.onward is not None
    assert asked is (how.get("onward") != "no" and "ssh" not in how.get("serves", "") and "to-self" not in how.get("settings", ""))
    told = journey.beside  # whoever sends it to another process takes all of it along, and no plan
    sent = pickle.loads(pickle.dumps(journey.by_itself()))  # our own bytes
    assert (sent, sent.beside, sent.onward) == (journey, told, journey.onward)
    if journey.onward is not None:
        assert journey.onward.sender == "gate"
        assert str(journey.onward.there.packet.source) == "198.51.100.2"
        assert journey.onward.there.packet.destination == journey.there.packet.destination
        assert "onward" in str(journey).lower()
        assert f"gate → {journey.there.packet.destination}" in str(journey)
        assert journey.seen_as == ("" if cause == "filter.rule" else "198.51.100.2:49153")
    if not answered and service == "udp/53":
        assert journey.back is None


def test_the_plain_data_and_the_way_have_both() -> None:
    journey = mc.trace(plan(proxy()), "ann", "press", "http")
    made = json.loads(json.dumps(journey.to_dict()))
    assert (made["onward"]["from"], made["onward"]["service"], made["onward"]["onward"]) == ("gate", "tcp/80", None)
    text = journey.explain()
    assert text.index("  there: tcp 10.41.1.10") < text.index("  onward there: tcp 198.51.100.2")
    assert "seen as  198.51.100.2:49153 by press" in text


def test_what_is_asked_onward_counts_and_is_remembered() -> None:
    lab = mc.Lab(plan(proxy(rule="{permit: tcp, to-port: 80, log: yes}, ")).network)
    for _ in range(2):
        assert lab.send(mc.Flow("ann", "press", "http")).answered
    assert len(lab.state.sessions("gate")) == 4  # two of ann's, two of its own
    assert "permit" in lab.send(mc.Flow("ann", "press", "http")).explain()
    assert lab.counters.of("gate", list_id("out"), "10").packets == 3  # what the device asked in its own name passed the list


CIRCLE = """\
mossy-network: 1
devices:
  one:
    kind: router
    interfaces: {house: 10.41.1.1/24, link: 10.41.9.1/24}
    routes: [{prefix: default, next-hop: 10.41.9.2}]
    serves: [tcp/80]
    translate: [{to: any, service: http, goes-to: {address: self, onward: yes}}]
  two:
    kind: router
    interfaces: {link: 10.41.9.2/24}
    routes: [{prefix: default, next-hop: 10.41.9.1}]
    serves: [tcp/80]
    translate: [{to: any, service: http, goes-to: {address: self, onward: yes}}]
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
segments: {x: [one/house, ann], y: [one/link, two/link]}
"""


def test_devices_that_ask_one_another_onward_have_an_end() -> None:
    journey = mc.trace(plan(CIRCLE), "ann", "203.0.113.9", "http")
    assert (journey.answered, journey.lost, journey.cause) == (False, "onward", "walk.limit")
    assert "no end after 8 devices that ask onward" in str(journey)


@pytest.mark.parametrize(
    ("rule", "says"),
    [
        (
            "{to: any, service: http, goes-to: {address: 198.51.100.9, onward: yes}}",
            "onward: is for what goes to the device itself",
        ),
        ("{to: any, goes-to: {address: self, onward: yes}}", "so the rule says which"),
        ("{to: any, service: ping, goes-to: {address: self, onward: yes}}", "so the rule says which"),
        ("{to: any, service: http, goes-to: {address: self, onward: perhaps}}", "yes nor no"),
    ],
)
def test_what_cannot_ask_onward_is_refused(rule: str, says: str) -> None:
    lines = proxy().split("\n")
    at = next(n for n, line in enumerate(lines) if "goes-to" in line)
    lines[at] = f"      - {rule}"
    found = mc.read_bytes("\n".join(lines).encode(), "proxy.yaml")
    assert found.network is None
    assert any(says in p.message + p.remedy and p.mark.line == at + 1 for p in found.errors), found.errors


DRILL = """\
mossy-drill: 1
network: proxy.yaml
steps:
  - expect: {that: ann reaches press for http, passes: [gate, carrier], seen-as: 198.51.100.2, exit: gate/world}
  - expect: ann never reaches still for http
  - expect: {that: ann reaches press for http, avoids: carrier}
  - expect: ann reaches still for http
"""


def test_what_is_stopped_onward_never_reached_its_target(tmp_path: Path) -> None:
    (tmp_path / "proxy.yaml").write_text(proxy(rule=DENY))
    (tmp_path / "d.yaml").write_text(DRILL.partition("  - expect: {that")[0] + "  - expect: ann never reaches press for http\n")
    done = CliRunner().invoke(main, ["drill", str(tmp_path / "d.yaml")])
    assert done.exit_code == 0, done.output


def test_drills_expect_of_both(tmp_path: Path) -> None:
    (tmp_path / "proxy.yaml").write_text(proxy())
    (tmp_path / "d.yaml").write_text(DRILL)
    done = CliRunner().invoke(main, ["drill", str(tmp_path / "d.yaml")])
    assert done.exit_code == 1
    assert "2 of 4" in done.stdout.split("\n")[0], done.output
