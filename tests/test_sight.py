"""Inspecting devices that see one direction of a pair only: what is claimed is tried with packets, and so is the advice."""

from __future__ import annotations

import pytest

import mossy_compass as mc
from mossy_compass.lab.conversation import parse_then

TWO_GATEWAYS = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
    stateful: tcp
    settings: {unknown-session: by-protocol}
    interfaces: {a: 10.41.1.1/24, b: 10.41.2.1/24}
  rim: {kind: router, interfaces: {a: 10.41.1.2/24, b: 10.41.2.2/24}}
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.2, serves: [https]}
  ben: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1, serves: [https]}
segments: {x: [gate/a, rim/a, ann], y: [gate/b, rim/b, ben]}
"""
TWO_WAYS = """\
mossy-network: 1
devices:
  core:
    kind: router
    interfaces: {u: 10.41.1.1/24, p: 10.41.3.1/24}
    routes:
      - {prefix: 10.41.2.0/24, next-hop: 10.41.3.2}
      - {prefix: 10.41.2.0/24, next-hop: 10.41.3.3}
  gate:
    kind: firewall
    stateful: tcp
    interfaces: {a: 10.41.3.2/24, b: 10.41.4.2/24}
    routes: [{prefix: 10.41.1.0/24, next-hop: 10.41.3.1}, {prefix: 10.41.2.0/24, next-hop: 10.41.4.1}]
  hatch:
    kind: firewall
    stateful: tcp
    interfaces: {a: 10.41.3.3/24, b: 10.41.4.3/24}
    routes: [{prefix: 10.41.1.0/24, next-hop: 10.41.3.1}, {prefix: 10.41.2.0/24, next-hop: 10.41.4.1}]
  leaf:
    kind: router
    interfaces: {u: 10.41.2.1/24, p: 10.41.4.1/24}
    routes:
      - {prefix: 10.41.1.0/24, next-hop: 10.41.4.2}
      - {prefix: 10.41.1.0/24, next-hop: 10.41.4.3}
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1, serves: [https]}
  ben: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1, serves: [https]}
segments: {x: [core/u, ann], m: [core/p, gate/a, hatch/a], n: [leaf/p, gate/b, hatch/b], y: [leaf/u, ben]}
"""


def network_of(text: str) -> mc.Network:
    found = mc.read_bytes(text.encode(), "sight.yaml")
    assert found.network is not None, found.problems
    return found.network


def told(text: str) -> list[mc.Problem]:
    return [p for p in mc.findings(mc.Plan(network_of(text))) if p.code == "session.one-way"]


def goes_on(text: str, start: str, end: str) -> bool:
    """Whether data passes after the first packet and its answer."""
    lab = mc.Lab(network_of(text))
    held = lab.converse(mc.Flow(start, end, "https"))
    held.next(parse_then("data", lab.network))
    return held.failed is None


def lost(text: str, start: str, end: str) -> bool:
    return mc.trace(mc.Plan(network_of(text)), start, end, "https").cause == "session.none"


def test_a_device_that_sees_the_answers_alone_is_told_and_loses_them() -> None:
    (found,) = told(TWO_GATEWAYS)
    assert "of ann and ben it sees one direction alone: packets of ben to ann cross it" in found.message
    assert "those of ann to ben cross rim instead" in found.message
    assert lost(TWO_GATEWAYS, "ann", "ben")
    assert not lost(TWO_GATEWAYS, "ben", "ann")


@pytest.mark.parametrize(
    "edit",
    [
        ("unknown-session: by-protocol", "unknown-session: pass, session-phase: loose"),
        ("gateway: 10.41.1.2", "gateway: 10.41.1.1"),  # both by the firewall
        ("gateway: 10.41.2.1", "gateway: 10.41.2.2"),  # neither
        ("stateful: tcp", "stateful: udp"),
    ],
    ids=lambda e: e[1],
)
def test_where_the_advice_is_followed_nothing_is_told_and_nothing_is_lost(edit: tuple[str, str]) -> None:
    text = TWO_GATEWAYS.replace(*edit)
    assert told(text) == []
    for pair in (("ann", "ben"), ("ben", "ann")):
        assert not lost(text, *pair)
        assert goes_on(text, *pair)


def test_one_half_of_the_advice_mends_one_half() -> None:
    half = TWO_GATEWAYS.replace("unknown-session: by-protocol", "unknown-session: pass")
    (found,) = told(half)
    assert "Of those that ben opens to ann only the first packet passes gate" in found.message
    assert "ann opens" not in found.message
    assert "or set session-phase: loose there" in found.remedy
    assert not lost(half, "ben", "ann")
    assert not goes_on(half, "ben", "ann")


def test_a_device_that_translates_gets_its_answers_back_whatever_the_routes_say() -> None:
    hides = "translate: [{source: 10.41.1.0/24, leaving: b}]"
    text = TWO_GATEWAYS.replace("rim: {kind: router, ", f"rim: {{kind: router, stateful: tcp, {hides}, ")
    assert told(text) == []
    assert not lost(text, "ann", "ben")


def test_sharing_between_two_inspecting_devices_is_told_of_both() -> None:
    found = told(TWO_WAYS)
    assert ["gate" in p.message.split()[0] for p in found] == [True, False]
    assert all("on some of the equally good ways between ann and ben and not on all" in p.message for p in found)
    # And it is so: of some connections the answers come by the other one.
    plan = mc.Plan(network_of(TWO_WAYS))
    fates = {mc.trace(plan, "ann", "ben", "https", source_port=port).cause for port in range(49152, 49168)}
    assert fates == {"session.none", "service.open"}


def test_sharing_before_and_after_one_inspecting_device_splits_nothing() -> None:
    text = TWO_WAYS.replace("    kind: firewall\n    stateful: tcp\n", "    kind: router\n")
    assert told(text) == []
    text = text.replace("  core:\n    kind: router\n", "  core:\n    kind: firewall\n    stateful: tcp\n")
    assert told(text) == []


def test_what_is_said_to_be_lost_is_lost_in_every_pair_of_a_ring() -> None:
    """Three firewalls in a ring, each host with a gateway of its own choice: claims and packets agree."""
    ports = {"x": "1", "y": "2", "z": "3"}
    for choice in range(27):
        gateways = [choice % 3, choice // 3 % 3, choice // 9]
        devices = [
            f"  f{n}: {{kind: firewall, stateful: tcp, interfaces: {{{', '.join(f'{p}: 10.41.{s}.{n + 1}/24' for p, s in ports.items())}}}}}"
            for n in range(3)
        ]
        hosts = [
            f"  h{n}: {{kind: host, address: 10.41.{n + 1}.10/24, gateway: 10.41.{n + 1}.{gateways[n] + 1}, serves: [https]}}"
            for n in range(3)
        ]
        cables = [f"{p}: [f0/{p}, f1/{p}, f2/{p}, h{n}]" for n, p in enumerate(ports)]
        text = "\n".join(["mossy-network: 1", "devices:", *devices, *hosts, f"segments: {{{', '.join(cables)}}}\n"])
        fails = {(a, b) for a in ("h0", "h1", "h2") for b in ("h0", "h1", "h2") if a != b and lost(text, a, b)}
        assert bool(fails) == bool(told(text)), choice
        for problem in told(text):
            asker, answerer = problem.message.split(" of tcp, and of ")[1].split(" it sees")[0].split(" and ")
            assert (asker, answerer) in fails
