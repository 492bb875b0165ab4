"""Said as an engineer says it: words of the trade, faults above the end of a broken text, change files, Python, completion."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path

import pytest

import mossy_compass as mc
from mossy_compass.files.change import StepIn
from mossy_compass.files.trade import KEYS, SAID, VALUES, key_for
from mossy_compass.files.validate import _PARTS
from tests.conftest import DATA
from tests.test_cli import mossy

NET = """\
mossy-network: 1
groups: {crew: [desk]}
devices:
  r1: {kind: router, interfaces: {eth0: 10.40.1.1/24, eth1: 10.40.2.1/24}}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1, resolvers: [10.40.2.53]}
  bare: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
  booker: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [tcp/8443]}
  lookup: {kind: host, address: 10.40.2.53/24, gateway: 10.40.2.1, records: {tickets.example: 10.40.2.10}}
segments: {a: [r1/eth0, desk, bare], b: [r1/eth1, booker, lookup]}
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "n.yaml").write_text(NET)
    return tmp_path


@pytest.mark.parametrize(
    "old, new, says",
    [
        ("groups:", "acls: {}\ngroups:", "called lists"),
        ("groups:", "objects: {}\ngroups:", "called groups"),
        ("kind: router,", "kind: router, nat: [],", "called translate"),
        ("gateway: 10.40.1.1, resolvers", "gw: 10.40.1.1, resolvers", "called gateway"),
        ("kind: router,", "kind: router, routes: [{prefix: default, via: 10.40.1.9}],", "called next-hop"),
        ("kind: router,", "kind: router, routes: [{prefix: default, next-hop: 10.40.1.9, distance: 5}],", "called preference"),
        ("kind: router,", "kind: router, routes: [{dest: default, next-hop: 10.40.1.9}],", "called prefix"),
        ("kind: router,", "kind: router, routes: [{to: default, next-hop: 10.40.1.9}],", "called prefix"),
        ("mossy-network: 1", "version: 1", "called mossy-network"),
        ("interfaces: {eth0: 10.40.1.1/24, eth1: 10.40.2.1/24}", "interfaces: [{name: eth0}, eth1: x]", "each of its items as NAME: {...}"),
        ("groups: {crew: [desk]}", "groups: [{name: crew}]\nlists: {l: [{permit: any, from: crew}]}", "each of its items as NAME"),
        ("kind: router,", "kind: router, hostname: r1,", "key above it is the name"),
        ("kind: router,", "kind: router, description: x,", "called about"),
        ("eth0: 10.40.1.1/24", "eth0: {address: 10.40.1.1/24, netmask: 255.255.255.0}", "stands behind the address"),
        ("eth0: 10.40.1.1/24", "eth0: {address: 10.40.1.1/24, access-vlan: 7}", "called untagged"),
        ("groups:", "lists: {l: [{allow: tcp}]}\ngroups:", "called permit"),
        ("kind: router,", "kind: router, vlan: 10,", "A VLAN is a port's"),
        ("groups:", "lists: {l: [{permit: tcp, dst: desk}]}\ngroups:", "called to"),
        ("groups:", "lists: {l: [{permit: tcp, service: 22}]}\ngroups:", "write tcp/22 or udp/22"),
        ("serves: [tcp/8443]", "serves: 22", "write tcp/22 or udp/22"),
        ("groups:", "lists: {l: [{permit: tcp, from: 10.90.8.10/0.255.255.255}]}\ngroups:", "10.90.8.10 for the one host"),
        ("kind: host, address: 10.40.2.10", "kind: server, address: 10.40.2.10", "called host"),
        ("[r1/eth0, desk", "[\"r1:eth0\", desk", "Write r1/eth0"),
        ("groups:", "hours: {h: {from: '08:00', until: '09:00', zone: localtime}}\ngroups:", "no time zone 'localtime'"),
        ("groups:", "hours: {h: {from: '08:00', until: '09:00', zone: right/Europe/Vienna}}\ngroups:", "no time zone"),
        ("groups:", "hours: {h: {from: '08:00', until: '09:00', zone: posix/UTC}}\ngroups:", "no time zone"),
    ],
)  # fmt: skip
def test_a_word_of_the_trade_gets_an_answer(folder: Path, old: str, new: str, says: str) -> None:
    assert old in NET
    (folder / "n.yaml").write_text(NET.replace(old, new, 1))
    done = mossy(folder, "check", "n.yaml")
    assert done.returncode == 2
    assert says in " ".join(done.stdout.split())
    assert done.stdout.startswith("n.yaml: 1 error"), "and nothing that follows from it"


def test_the_table_of_trade_words_offers_keys_that_there_are() -> None:
    known = {key for part in _PARTS for key in part.known()}
    for word, ours in KEYS.items():
        assert ours, word
        assert set(ours) <= known, word
        assert key_for(word, set(ours) - {word}) == f"Here it is called {ours[0]}."
    assert all(SAID.values())
    assert not set(VALUES.values()) & set(VALUES)


@pytest.mark.parametrize(
    "arguments, says",
    [
        (["--from", "10.40.2.10", "--to", "desk"], "10.40.2.10 is an address of booker"),
        (["--from", "desk", "--to", "booker:8443"], "write booker alone, and tcp/8443 or udp/8443 as the service"),
        (["--from", "desk", "--to", "r1:eth0"], "'r1:eth0' is written r1/eth0 here"),
        (["--from", "r1:eth0", "--to", "desk"], "'r1:eth0' is written r1/eth0 here"),
        (["--from", "desk", "--to", "crew"], "'crew' is a group"),
        (["--from", "desk", "--to", "a"], "'a' is a segment"),
        (["--from", "desk", "--to", "boker"], "Did you mean booker?"),
        (["--from", "bare", "--to", "boker"], "Did you mean booker?"),
        (["--from", "desk", "--to", "tickts.example"], "Did you mean tickets.example?"),
    ],
)
def test_a_question_that_cannot_be_asked_is_told_before_a_lookup_is_sent(folder: Path, arguments: list[str], says: str) -> None:
    done = mossy(folder, "trace", "n.yaml", *arguments)
    assert (done.returncode, done.stdout) == (2, "")
    assert says in done.stderr


def test_a_name_that_only_a_resolver_knows(folder: Path) -> None:
    assert mossy(folder, "trace", "n.yaml", "--from", "desk", "--to", "tickets.example").returncode == 0
    done = mossy(folder, "trace", "n.yaml", "--from", "bare", "--to", "tickets.example")
    assert done.returncode == 1
    assert "bare asks no resolver, so it cannot find tickets.example, which lookup knows" in " ".join(done.stdout.split())
    done = mossy(folder, "trace", "n.yaml", "--from", "desk", "--to", "nobody.invalid")
    assert done.returncode == 1
    assert "the LOOKUP was answered" in done.stdout


BROKEN = [
    ("mossy-network: 1\nacls: {}\nlists:\n  l:\n    - {allow: tcp}\n    - {permit: tcp, about: \"open}\n", [2, 5, 6]),
    ("mossy-network: 1\nacls: {}\ndevices:\n  r: {kind: rooter}\n\ts: x\n", [2, 4, 5]),
    ("mossy-network: 1\ndevices:\n  r: {kind: rooter}\n  s: {kind: host, address: [10.40.1.1/24\n", [3, 4]),
    ("mossy-network: 1\nnames: {a.example: 10.40.0.999}\ndevices:\n  r: {kind: router}\n :x\n", [2, 5]),
]  # fmt: skip


@pytest.mark.parametrize("text, lines", BROKEN)
def test_what_stands_above_a_broken_text_is_told_in_the_same_pass(text: str, lines: list[int]) -> None:
    found = [p.mark.line for p in mc.read_bytes(text.encode(), "b.yaml").problems]
    assert sorted(set(found)) == lines


def test_a_broken_drill_and_a_broken_change_tell_theirs(folder: Path) -> None:
    (folder / "d.drill.yaml").write_text('mossy-drill: 1\nnetwork: n.yaml\nsteps:\n  - expct: x\n  - expect: "a\n')
    (folder / "c.yaml").write_text('mossy-change: 1\nchanges:\n  - disabel: x\n  - disable: "a\n')
    for arguments in (["drill", "d.drill.yaml"], ["change", "n.yaml", "c.yaml"]):
        done = mossy(folder, *arguments)
        assert done.returncode == 2
        assert "Did you mean" in done.stderr
        assert "never closed" in done.stderr


def test_all_steps_that_cannot_be_done_are_told_and_none_that_follows(folder: Path) -> None:
    steps = [
        "rename: {what: groups/crow, to: hands}",
        "insert: {into: groups/hands, value: bare}",
        "disable: lists/l/10",
        "remove: devices/nobody",
    ]
    (folder / "c.yaml").write_text("mossy-change: 1\nchanges:\n" + "".join(f"  - {s}\n" for s in steps))
    done = mossy(folder, "change", "n.yaml", "c.yaml", "--write")
    assert done.returncode == 2
    assert [f"c.yaml:{n}:" in done.stderr for n in (3, 4, 5, 6)] == [True, False, True, True]
    assert (folder / "n.yaml").read_text() == NET


def test_an_error_of_the_changed_network_is_told_at_the_step_that_brought_it(folder: Path) -> None:
    steps = ["insert: {into: groups, name: more, value: [bare]}", "insert: {into: groups, name: wrong, value: [nobody]}"]
    (folder / "c.yaml").write_text("mossy-change: 1\nchanges:\n" + "".join(f"  - {s}\n" for s in steps))
    for arguments in (["change", "n.yaml", "c.yaml"], ["compare", "n.yaml", "--change", "c.yaml"]):
        done = mossy(folder, *arguments)
        assert done.returncode == 2
        assert "c.yaml:4:5: error: 'nobody' is no group" in done.stderr


def test_a_file_that_somebody_changes_meanwhile_is_not_written_over(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from click.testing import CliRunner

    from mossy_compass.cli import change
    from mossy_compass.files import load

    (folder / "c.yaml").write_text("mossy-change: 1\nchanges:\n  - insert: {into: groups, name: more, value: [bare]}\n")
    once = load.plain_bytes
    reads: list[str] = []

    def racing(path: str | Path, kind: str = "mossy-network") -> bytes:
        reads.append(str(path))
        if reads.count(str(folder / "n.yaml")) == 2:
            (folder / "n.yaml").write_text(NET + "# mine\n")
        return once(path, kind)

    monkeypatch.setattr(load, "plain_bytes", racing)
    done = CliRunner().invoke(change.change, [str(folder / "n.yaml"), str(folder / "c.yaml"), "--write"])
    assert isinstance(done.exception, mc.InputError)
    assert (folder / "n.yaml").read_text() == NET + "# mine\n"


def test_each_step_of_a_change_has_its_table_and_its_schema() -> None:
    text = (Path(__file__).parent.parent / "docs" / "changes.md").read_text()
    schema = json.loads((DATA / "change.schema.json").read_text())
    for word in StepIn.known():
        assert f"| `{word}` |" in text
        assert word in schema["$defs"]["StepIn"]["properties"]


# --- in Python ---------------------------------------------------------------------------------------------------


def test_nothing_but_errors_of_ours_leaves() -> None:
    network = mc.read_bytes(NET.encode(), "n.yaml").network
    assert network is not None
    plan = mc.Plan(network)
    with pytest.raises(mc.MossyError, match="Did you mean desk"):
        plan.device("desk1")
    for wrong in (1780822800, 1780822800.0, "2026-05-04", datetime(2026, 5, 4)):
        with pytest.raises(mc.QuestionError, match="a datetime with its time zone, like"):
            mc.trace(plan, "desk", "booker", at=wrong)  # type: ignore[arg-type]
    assert mc.trace(plan, "desk", "booker", at=datetime(2026, 5, 4, tzinfo=UTC), source_port=7).answered


def test_what_is_printed_can_be_read() -> None:
    network = mc.read_bytes(NET.encode(), "n.yaml").network
    assert network is not None
    plan = mc.Plan(network)
    grid = mc.grid(plan, ["desk"], ["booker"], ["tcp/8443"])
    assert "desk" in str(grid)
    assert "booker" in str(grid)
    assert len(str(grid).splitlines()) > 2
    builder = mc.Builder("Two rooms")
    builder.router("r", a="10.40.1.1/24")
    for thing, words in ((plan, "5 devices"), (mc.Lab(network), "nothing has failed"), (builder, "1 devices"), (grid, "1 tests")):
        assert words in repr(thing)
        assert " at 0x" not in repr(thing)


@pytest.mark.parametrize(
    "typed, offered",
    [
        (["trace", "n.yaml", "--from", "bo"], ["booker"]),
        (["trace", "n.yaml", "--from", "desk", "--to", "tick"], ["tickets.example"]),
        (["trace", "n.yaml", "--from", "desk", "--to", "booker", "--service", "htt"], ["http", "https"]),
        (["tables", "n.yaml", "r"], ["r1"]),
        (["tables", "none.yaml", "r"], []),
    ],
)
def test_completion_offers_names_of_the_network(folder: Path, typed: list[str], offered: list[str]) -> None:
    asked = {
        **os.environ,
        "_MOSSY_COMPLETE": "bash_complete",
        "COMP_WORDS": " ".join(["mossy", *typed]),
        "COMP_CWORD": str(len(typed)),
    }
    code = "import sys; sys.argv = ['mossy']; from mossy_compass.cli.start import run; run()"
    done = subprocess.run([sys.executable, "-c", code], cwd=folder, env=asked, capture_output=True, text=True)
    assert [line.split(",")[1] for line in done.stdout.splitlines() if line.startswith("plain")] == offered, done.stderr
