"""What RFCs ask of a box that translates and keeps sessions: a case for each requirement, and the page that says which are met.

Cases that stand elsewhere are named by the page; those here are about packets on their way.
"""

from __future__ import annotations

import re
from pathlib import Path

import pytest

import mossy_compass as mc
from mossy_compass.packet.address import parse_address
from mossy_compass.packet.packet import Packet, icmp_error
from mossy_compass.walk.journey import Way
from mossy_compass.walk.question import Options
from mossy_compass.walk.walk import Emission, walk

ROOT = Path(__file__).resolve().parent.parent
HALL = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
    stateful: [tcp, udp, icmp]
    interfaces:
      in: {address: 10.41.1.1/24, outside: no}
      out: {address: 198.51.100.2/24, outside: yes, mtu: #MTU}
    translate: [{leaving: out#RULE}, {to: 198.51.100.2, service: https, goes-to: shop}]
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1, serves: [ssh]}
  shop: {kind: host, address: 10.41.1.20/24, gateway: 10.41.1.1, serves: [https]}
  ben: {kind: host, address: 198.51.100.9/24, gateway: 198.51.100.2, serves: [https, udp/53]}
segments: {x: [gate/in, ann, shop], z: [gate/out, ben]}
"""
ANN, BEN, GATE = (parse_address(a) for a in ("10.41.1.10", "198.51.100.9", "198.51.100.2"))


def hall(rule: str = "", mtu: int = 1500) -> mc.Lab:
    found = mc.read_bytes(HALL.replace("#RULE", rule).replace("#MTU", str(mtu)).encode(), "hall.yaml")
    assert found.network is not None, found.problems
    return mc.Lab(found.network)


def thrown(lab: mc.Lab, packet: Packet, device: str) -> mc.Leg:
    """Where a packet that a host makes by itself gets to."""
    return walk(lab.plan, lab.state, Emission(packet, device, Way.THERE))[0]


@pytest.mark.parametrize("service", ["https", "udp/53", "ping"])
def test_an_error_neither_ends_nor_refreshes_what_it_is_about(service: str) -> None:
    """RFC 4787 REQ-12, RFC 5382 REQ-10, RFC 5508 REQ-6."""
    lab = hall()
    sent = lab.send(mc.Flow("ann", "ben", service))
    lab.wait(1000)
    before = [(s.phase, s.ends, s.packets) for s in lab.state.sessions("gate")]
    for kind in ("host-unreachable", "port-unreachable", "time-exceeded"):
        leg = thrown(lab, icmp_error(sent.there.arrived, BEN, kind), "ben")
        assert leg.end == "ann"
    assert [(s.phase, s.ends, s.packets) for s in lab.state.sessions("gate")] == before


@pytest.mark.parametrize("service", ["https", "udp/53", "ping"])
def test_an_error_from_outside_is_put_back_and_one_without_a_session_is_dropped(service: str) -> None:
    """RFC 5508 REQ-4, RFC 5382 REQ-9."""
    lab = hall()
    sent = lab.send(mc.Flow("ann", "ben", service))
    leg = thrown(lab, icmp_error(sent.there.arrived, BEN, "host-unreachable"), "ben")
    assert leg.arrived.destination == ANN
    assert leg.arrived.quoted is not None
    assert leg.arrived.quoted[:5] == sent.there.packet[:5]
    lab.clear("gate")
    leg = thrown(lab, icmp_error(sent.there.arrived, BEN, "host-unreachable"), "ben")
    assert leg.end == "gate"
    assert leg.fate != "delivered"


@pytest.mark.parametrize(
    ("rule", "source"),
    [
        ("", "198.51.100.2"),
        (", becomes: 198.51.100.7", "198.51.100.7"),
        (", source: ann, becomes: {pair: 198.51.100.8}", "198.51.100.8"),
    ],
)
def test_an_error_from_inside_has_a_public_address(rule: str, source: str) -> None:
    """RFC 5508 REQ-5 and 5c: the sender's own partner where addresses are paired, else what it is hidden behind."""
    lab = hall(rule)
    answered = lab.send(mc.Flow("ann", "ben", "udp/53"))
    assert answered.back is not None
    leg = thrown(lab, icmp_error(answered.back.arrived, ANN, "port-unreachable"), "ann")
    assert leg.end == "ben"
    assert str(leg.arrived.source) == source
    assert leg.arrived.quoted is not None
    assert str(leg.arrived.quoted.destination) == source


def test_an_error_of_the_translating_device_has_its_own_public_address() -> None:
    """RFC 5508 REQ-5c: what it tells strangers is told in no inner name."""
    lab = hall(mtu=1000)
    lab.send(mc.Flow("ann", "ben", "udp/53"))
    journey = lab.test(mc.Flow("ann", "ben", "udp/53", Options(size=1200)))
    assert journey.symptom == "unreachable"
    assert journey.back is not None
    assert journey.back.arrived.what() == "icmp/too-big"
    answered = lab.send(mc.Flow("ben", "198.51.100.2", "https", Options(ttl=1)))  # RFC 4787 REQ-13, from the other side
    assert answered.back is not None
    assert answered.back.packet.source == GATE


def test_a_query_hairpins_too() -> None:
    """RFC 5508 REQ-7, RFC 7857 section 12: a query to an outer end comes back inside, under the outer address."""
    text = HALL.replace("service: https, ", "").replace("#RULE", "").replace("#MTU", "1500")
    found = mc.read_bytes(text.encode(), "hall.yaml")
    assert found.network is not None
    journey = mc.trace(mc.Plan(found.network), "ann", "198.51.100.2", "ping")
    assert journey.answered
    assert journey.there.end == "shop"
    assert journey.there.arrived.source == GATE


def test_protocols_do_not_share_mappings() -> None:
    """RFC 7857 sections 5 and 6, RFC 4787 section 4.2.1: ports of TCP and UDP are apart."""
    lab = hall()
    for service in ("https", "udp/53"):
        lab.send(mc.Flow("ann", "ben", service))
    held = lab.state.mappings("gate")
    assert {m.protocol for m in held} == {6, 17}
    assert all(m.sessions == 1 for m in held)


def test_behaviour_never_changes_with_time_or_load() -> None:
    """RFC 4787 REQ-11: whatever was sent before, another inner end's own port is kept while it is free."""
    quiet, busy = hall(), hall()
    for _ in range(300):
        busy.send(mc.Flow("ann", "ben", "udp/53"))
    one, other = (lab.send(mc.Flow("shop", "ben", "udp/53", Options(source_port=50_000))) for lab in (quiet, busy))
    assert one.seen_as == other.seen_as == "198.51.100.2:50000"


def test_the_page_names_a_case_for_what_is_met() -> None:
    """Every requirement stands on the page once; what is met names a test that is there, what is not has its reason."""
    page = (ROOT / "docs" / "standards.md").read_text(encoding="utf-8")
    tests = "\n".join(p.read_text(encoding="utf-8") for p in (ROOT / "tests").glob("test_*.py"))
    rows = [line.split("|")[1:-1] for line in page.splitlines() if line.startswith("| ") and not line.startswith("| ---")]
    rows = [[c.strip() for c in row] for row in rows if row[0].strip()[:1].isdigit() or row[0].strip().startswith("REQ")]
    assert len(rows) >= 35
    for number, what, how, case in rows:
        assert what
        assert how.split(":")[0] in ("met", "partly", "not met"), number
        named = re.findall(r"`(test_\w+)`", case)
        assert named or how.startswith("not met"), number
        assert all(f"def {name}(" in tests for name in named), named
        assert how == "met" or len(how) > 20, number
