"""Sessions whose interface or address is gone end with that, are told, and what still comes of them is told why it is lost."""

from __future__ import annotations

from pathlib import Path

import pytest
from click.testing import CliRunner

import mossy_compass as mc
from mossy_compass.cli.main import main
from mossy_compass.lab.conversation import parse_then

LEASED = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
    interfaces:
      house: {address: 10.41.1.1/24, outside: no}
      attic: {address: 10.41.2.1/24, outside: no}
      world: {leased: yes, outside: yes}
    translate: [{leaving: world}]
  isp: {kind: router, interfaces: {a: 198.51.100.1/24, b: 203.0.113.1/24}, leases: {a: {range: 198.51.100.#FIRST-198.51.100.99}}}
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  amy: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1}
  far: {kind: host, address: 203.0.113.9/24, gateway: 203.0.113.1, serves: [https]}
segments: {x: [gate/house, ann], w: [gate/attic, amy], y: [gate/world, isp/a], z: [isp/b, far]}
"""


def leased(first: int = 10, without: str = "") -> mc.Network:
    text = LEASED.replace("#FIRST", str(first))
    if without:
        lines = [line for line in text.split("\n") if not line.strip().startswith((f"{without}:", "amy:"))]
        text = "\n".join(lines).replace("w: [gate/attic, amy], ", "")
    found = mc.read_bytes(text.encode(), "leased.yaml")
    assert found.network is not None, found.problems
    return found.network


def talking() -> mc.Lab:
    lab = mc.Lab(leased())
    for sender in ("ann", "amy"):
        assert lab.send(mc.Flow(sender, "far", "https")).answered
    return lab


def test_a_lease_that_moves_ends_what_was_seen_under_the_old_address() -> None:
    lab = talking()
    assert {str(s.outer.source) for s in lab.state.sessions("gate")} == {"198.51.100.10"}
    lab.change(leased(20))
    assert [(e.session.device, e.why) for e in lab.left_behind] == [("gate", "address lost")] * 2
    assert not lab.state.sessions("gate")
    assert not lab.state.mappings("gate")
    assert lab.send(mc.Flow("ann", "far", "https")).seen_as.startswith("198.51.100.20:")


def test_what_comes_of_it_afterwards_is_told_why() -> None:
    lab = mc.Lab(leased())
    held = lab.converse(mc.Flow("ann", "far", "https"))
    held.next(parse_then("data", lab.network))
    lab.change(leased(20))
    (later,) = held.next(parse_then("data", lab.network))
    assert later.journey is not None
    assert not later.ok
    assert "one of its addresses is gone" in str(later.journey)


def test_an_interface_that_is_gone_ends_its_own_sessions_alone() -> None:
    lab = talking()
    lab.change(leased(without="attic"))
    gone = [e for e in lab.left_behind if e.session.device == "gate"]
    assert [(e.session.arriving, e.why) for e in gone] == [("attic", "interface lost")]
    assert [s.arriving for s in lab.state.sessions("gate")] == ["house"]


@pytest.mark.parametrize("what", ["interface gate/attic", "link y", "device isp"])
def test_a_failure_leaves_sessions_as_they_are(what: str) -> None:
    """A cable that is out, or a device that is off, gives nobody another address, and takes no interface away."""
    lab = talking()
    lab.fail(what)
    assert lab.left_behind == ()
    assert len(lab.state.sessions("gate")) == 2
    lab.restore()
    assert lab.left_behind == ()


def test_a_change_of_something_else_ends_nothing_and_forgets_what_was_told() -> None:
    lab = talking()
    lab.change(leased(20))
    assert lab.left_behind
    lab.send(mc.Flow("ann", "far", "https"))
    lab.change(leased(20))
    assert lab.left_behind == ()
    assert len(lab.state.sessions("gate")) == 1


DRILL = """\
mossy-drill: 1
network: leased.yaml
steps:
  - send: {from: ann, to: far, service: https}
  - change: [{replace: {what: devices/isp/leases/world, with: {range: 198.51.100.20-198.51.100.99}}}]
"""


def test_drills_tell_it(tmp_path: Path) -> None:
    (tmp_path / "leased.yaml").write_text(LEASED.replace("#FIRST", "10"))
    (tmp_path / "d.yaml").write_text(DRILL.replace("leases/world", "leases/a"))
    done = CliRunner().invoke(main, ["drill", str(tmp_path / "d.yaml")])
    assert "1 session of gate ended: one of its addresses is gone" in " ".join(done.output.split()), done.output
