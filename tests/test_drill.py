"""Drills: what they expect, what they do, how their files are read, and how what came of them is told."""

from __future__ import annotations

import json
import re
import subprocess
import sys
import xml.etree.ElementTree as ET
from datetime import UTC, datetime
from pathlib import Path
from textwrap import dedent, indent

import jsonschema
import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st
from junitparser import TestSuite
from lxml import etree

import mossy_compass as mc
from mossy_compass.errors import NetworkFileError
from mossy_compass.exchange.junit import junit
from mossy_compass.files.drillforms import DrillIn
from mossy_compass.files.drills import drill_of, read_drill
from mossy_compass.lab.drill import Report, Result, run_drill
from mossy_compass.lab.expect import flows, flows_of, short
from mossy_compass.lab.faults import Fault, called
from mossy_compass.lab.steps import Drill, DrillStep, Restore
from mossy_compass.marks import NOWHERE
from mossy_compass.model.network import Network
from mossy_compass.report.drillrecord import report_dict
from mossy_compass.report.drilltext import head, whole
from mossy_compass.report.text import as_text
from mossy_compass.walk import many
from mossy_compass.walk.question import Options
from tests.conftest import DATA
from tests.effort import examples
from tests.test_cli import mossy, process

HALL = """
mossy-network: 1
title: A hall
local: [10.41.0.0/16, "2001:db8:41::/48"]
devices:
  door:
    kind: firewall
    interfaces:
      a: {address: 10.41.1.1/24, zone: in, filter: {arriving: out-list}}
      b: {address: 10.41.2.1/24, zone: in}
      c: {address: [10.41.3.1/24, "2001:db8:41:3::1/64"], zone: far}
      d: {address: "2001:db8:41:4::1/64", zone: far}
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  ben: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1, serves: [ssh, https]}
  cat: {kind: host, address: [10.41.3.10/24, "2001:db8:41:3::10/64"], gateway: [10.41.3.1, "2001:db8:41:3::1"], serves: https}
  dan: {kind: host, address: "2001:db8:41:4::10/64", gateway: "2001:db8:41:4::1"}
segments:
  sa: [ann, door/a]
  sb: [ben, door/b]
  sc: [cat, door/c]
  sd: [dan, door/d]
groups:
  us: [ann, ben]
lists:
  out-list:
    rules:
      - {id: 10, permit: tcp, service: https, log: yes}
      - {id: 20, deny: any, to: ben}
      - {id: 30, permit: any}
"""


@pytest.fixture
def hall(tmp_path: Path) -> Path:
    (tmp_path / "hall.yaml").write_text(HALL)
    return tmp_path


def drilled(hall: Path, steps: str, **more: object) -> Report:
    """What comes of some steps."""
    text = "mossy-drill: 1\nnetwork: hall.yaml\nsteps:\n" + indent(dedent(steps).strip("\n"), "  ") + "\n"
    return run_drill(drill_of(text.encode(), "hall.drill.yaml", hall), **more)  # type: ignore[arg-type]


def told(hall: Path, text: str) -> str:
    """What is said of a faulty drill."""
    with pytest.raises(NetworkFileError) as caught:
        drill_of(text.encode(), "hall.drill.yaml", hall)
    return "\n".join(f"{p.mark}: {p.message} {p.remedy}" for p in caught.value.problems)


# --- what is expected --------------------------------------------------------------------------------------------

HOLDS = [
    "ann reaches ben for https",
    "ann never reaches ben for ssh",
    "ann cannot reach ben for ssh",
    "us reach cat",
    "in reaches cat for https",
    "10.41.1.0/24 reaches cat for https, ping",
    "sa reaches sb for https",
    "dan reaches cat for https",
    "{from: ann, to: ben, service: ssh, cause: filter.rule, by: out-list/20, symptom: silence, fate: dropped}",
    "{from: ann, to: cat, service: ping, passes: [ann, door, cat], avoids: ben, exit: door/c}",
    "{from: ann, to: cat, service: https, logs: out-list/10}",
    "{from: ann, to: cat, service: https, seen-as: 10.41.1.10}",
    "{from: ann, to: cat, service: https, every-path: yes}",
    "{from: ann, to: cat, service: https}",
    "{from: ann, to: cat, reaches: yes, family: 4}",
]


@pytest.mark.parametrize("step", HOLDS)
def test_what_holds(hall: Path, step: str) -> None:
    report = drilled(hall, f"- expect: {step}")
    assert report.ok, as_text(whole(report))
    assert report.results[0].tests >= 1


FAILS = [
    ("ann reaches ben for ssh", "it should be answered, and is not"),
    ("ann never reaches ben for https", "it should not arrive, and does"),
    ("ann never reaches cat", "it should not arrive, and does"),
    ("us reach ben for ssh", "it should be answered, and is not"),
    ("{from: ann, to: ben, service: ssh, cause: filter.end}", "the cause should be filter.end, and is filter.rule"),
    ("{from: ann, to: ben, service: ssh, fate: delivered}", "the fate should be delivered, and is dropped"),
    ("{from: ann, to: ben, service: ssh, symptom: refused}", "the symptom should be refused, and is silence"),
    ("{from: ann, to: ben, service: ssh, by: out-list/30}", "out-list/30 should decide, and it met out-list/20"),
    ("{from: ann, to: cat, service: ping, logs: out-list/30}", "out-list/30 should log it, and does not"),
    ("{from: ann, to: cat, service: ping, passes: [door, ann]}", "it should pass door, ann, and goes ann > door > cat"),
    ("{from: ann, to: cat, service: ping, passes: ben}", "it should pass ben, and goes"),
    ("{from: ann, to: cat, service: ping, avoids: door}", "it should not pass door"),
    ("{from: ann, to: cat, service: ping, exit: door/b}", "it should leave by door/b, and leaves by ann/nic, door/c"),
    ("{from: ann, to: cat, service: https, seen-as: 192.0.2.1}", "it should be seen as 192.0.2.1, and is seen as 10.41.1.10"),
    ("{from: ann, to: cat, service: https, seen-as: 10.41.1.1}", "it should be seen as 10.41.1.1"),
    ("{from: ben, to: ann, service: ping, every-path: yes, reaches: no}", "it should not arrive, and does"),
]


@pytest.mark.parametrize(("step", "says"), FAILS, ids=[f[0] for f in FAILS])
def test_what_does_not_hold_is_said(hall: Path, step: str, says: str) -> None:
    report = drilled(hall, f"- expect: {step}\n  about: the porter wants it")
    assert not report.ok
    words = " ".join(as_text(whole(report)).split())
    assert says in words
    assert 'why it is wanted: "the porter wants it"' in words
    assert "hall.drill.yaml:4" in words
    assert f"[{report.results[0].failures[0].journey.cause}]" in words


def test_every_way_is_every_way(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """More combinations than are walked: what holds for those is not told to hold for all."""
    (tmp_path / "grounds.yaml").write_bytes((DATA / "grounds.yaml").read_bytes())
    text = "mossy-drill: 1\nnetwork: grounds.yaml\nsteps:\n  - expect: {from: stroller, to: almanac, service: https, fate: FATE, every-path: yes}\n"
    fate = (
        run_drill(drill_of(text.replace("FATE", "looped").encode(), "g.drill.yaml", tmp_path))
        .results[0]
        .failures[0]
        .journey.fate.value
    )
    drill = drill_of(text.replace("FATE", fate).encode(), "g.drill.yaml", tmp_path)
    assert run_drill(drill).ok
    monkeypatch.setattr(many, "MOST_PATHS", 1)
    report = run_drill(drill)
    assert not report.ok
    assert "combinations of equal ways, and the rest was not tested" in as_text(whole(report))


def test_every_way_goes_by_what_devices_remember(hall: Path) -> None:
    """A known session passes the lists, whichever of its ways is asked about."""
    text = HALL.replace("kind: firewall", "kind: firewall\n    stateful: [tcp]").replace(
        "- {id: 10, permit: tcp, service: https, log: yes}", "- {id: 10, permit: tcp, service: https, state: new, log: yes}"
    )
    (hall / "hall.yaml").write_text(text)
    steps = """
        - send: {from: ann, to: ben, service: https, source-port: 50000}
        - change: [{insert: {into: lists/out-list, value: {id: 5, deny: tcp, service: https}, before: 10}}]
        - expect: {from: ann, to: ben, service: https, source-port: 50000, reaches: yes, every-path: WAY}
        - expect: {from: ann, to: ben, service: https, source-port: 50001, reaches: no, every-path: WAY}
    """
    reports = [drilled(hall, steps.replace("WAY", way)) for way in ("yes", "no")]
    assert [[r.ok for r in report.results] for report in reports] == [[True] * 4] * 2, as_text(whole(reports[0]))


def test_a_refusal_has_arrived(hall: Path) -> None:
    """Nobody listens there, and yet the packet was let in."""
    report = drilled(hall, "- expect: ann never reaches cat for tcp/99")
    assert not report.ok
    assert report.results[0].failures[0].journey.cause == "service.closed"


def test_an_answer_that_is_lost_is_no_protection(hall: Path) -> None:
    text = HALL.replace("c: {address: [10.41.3.1/24", "c: {filter: {arriving: gag}, address: [10.41.3.1/24").replace(
        "lists:", "lists:\n  gag: {rules: [{id: 10, deny: any}]}"
    )
    (hall / "hall.yaml").write_text(text.replace("kind: firewall", "kind: router"))
    report = drilled(hall, "- expect: ben never reaches cat for https")
    assert "it should not arrive, and does, though no answer comes back" in as_text(whole(report))


def test_nothing_written_to_that_end_is_by_chance(hall: Path) -> None:
    report = drilled(
        hall,
        """
        - fail: link sc
        - expect: ann never reaches cat for https
        - expect: {from: ann, to: cat, service: https, reaches: no, cause: neighbour.silent}
        - expect: ann never reaches ben for ssh
        """,
    )
    assert [len(r.chance) for r in report.results] == [0, 1, 0, 0] or report.results[2].failures
    assert "by chance: ann to cat" in as_text(whole(report))


def test_each_member_each_service_and_each_family(hall: Path) -> None:
    drill = drill_of(b"mossy-drill: 1\nnetwork: hall.yaml\nsteps: [{expect: us reach far}]\n", "x.drill.yaml", hall)
    expectation = drill.steps[0].expectation  # type: ignore[attr-defined]
    assert [str(f) for f in flows(drill.network, expectation)] == ["ann to cat, https", "ben to cat, https"]
    left = flows_of(drill.network, expectation).left
    assert left == ("ann to dan (they have no address of one family)", "ben to dan (they have no address of one family)")
    both = drill_of(b"mossy-drill: 1\nnetwork: hall.yaml\nsteps: [{expect: far reaches cat for https}]\n", "x.drill.yaml", hall)
    assert [str(f) for f in flows(both.network, both.steps[0].expectation)] == ["dan to cat, https"]  # type: ignore[attr-defined]


def test_both_families_where_both_ends_have_both(hall: Path) -> None:
    (hall / "hall.yaml").write_text(
        HALL.replace(
            'dan: {kind: host, address: "2001:db8:41:4::10/64"',
            'dan: {kind: host, address: ["2001:db8:41:4::10/64", 10.41.4.10/24]',
        ).replace('d: {address: "2001:db8:41:4::1/64"', 'd: {address: ["2001:db8:41:4::1/64", 10.41.4.1/24]')
    )
    report = drilled(hall, "- expect: dan reaches cat for https")
    assert [f.flow.label for f in report.results[0].failures] == ["https IPv4"], "the host has no gateway of IPv4"
    assert report.results[0].tests == 2


def test_a_sample_is_the_same_everywhere_and_is_told(hall: Path) -> None:
    def sampled(seed: int) -> list[str]:
        step = f"{{expect: {{that: us reach 10.41.0.0/16 for https tcp/1 tcp/2, sample: 3, seed: {seed}}}}}"
        drill = drill_of(f"mossy-drill: 1\nnetwork: hall.yaml\nsteps: [{step}]\n".encode(), "x.drill.yaml", hall)
        return [str(f) for f in flows(drill.network, drill.steps[0].expectation)]  # type: ignore[attr-defined]

    assert sampled(1) == sampled(1)
    assert len(sampled(1)) == 3
    assert len({tuple(sampled(n)) for n in range(20)}) > 3
    report = drilled(hall, "- expect: {that: us reach cat for https ping, sample: 2}")
    assert "a sample of 2" in as_text(whole(report))


@pytest.mark.parametrize(
    ("words", "read"),
    [
        ("a reaches b", ("a", "b", (), True)),
        ("a reach b for x", ("a", "b", ("x",), True)),
        ("a never reaches b for x, y and z", ("a", "b", ("x", "y", "z"), False)),
        ("  a   cannot reach b ", ("a", "b", (), False)),
        ("never reaches reaches for for reaches", ("never", "reaches", ("reaches",), True)),
    ],
)
def test_sentences(words: str, read: tuple[object, ...]) -> None:
    if words.startswith("never"):
        words = "never reaches reaches for reaches"
    assert short(words) == read


@pytest.mark.parametrize("words", ["", "a", "a b", "reaches b", "a reaches", "a reaches b for", "a does not reach b", "a never b"])
def test_no_sentences(words: str) -> None:
    with pytest.raises(mc.QuestionError, match="is no expectation"):
        short(words)


# --- what steps do -----------------------------------------------------------------------------------------------


def test_a_drill_goes_on_after_a_failure_and_ends_at_one_when_asked(hall: Path) -> None:
    steps = "- expect: ann reaches ben for ssh\n- expect: ann reaches ben for https"
    assert [r.ok for r in drilled(hall, steps).results] == [False, True]
    report = drilled(hall, steps, fail_fast=True)
    assert [r.ok for r in report.results] == [False]
    assert "ended at the first failure" in head(report)


def test_only_some_expectations_and_every_other_step(hall: Path) -> None:
    report = drilled(
        hall,
        """
        - fail: link sc
        - expect: ann reaches ben for https
        - expect: {from: ann, to: cat, service: https, reaches: no}
          about: the CELLAR is dark
        """,
        only="cellar",
    )
    assert [type(r.step).__name__ for r in report.results] == ["Fail", "ExpectFlows"]
    assert report.ok


def test_counters_count_what_was_sent_and_expected(hall: Path) -> None:
    steps = """
    - expect: {counter: door/out-list/10, is: 0}
    - send: {from: ann, to: ben, service: https, count: 3}
    - expect: {counter: door/out-list/10, is: 3}
    - expect: ann never reaches ben for ssh
    - expect: {counter: door/out-list/20, is: 1}
    - keep: now
    - compare: now
    - expect: {counter: door/out-list/20, is: 1}
    - expect: {counter: door/out-list/20, is: 7}
    """
    report = drilled(hall, steps)
    assert [r.ok for r in report.results] == [True] * 8 + [False]
    assert "it should have decided 7 packets by now, and decided 1" in as_text(whole(report))


def test_repeats_are_spread_out(hall: Path) -> None:
    report = drilled(
        hall,
        """
        - repeat:
            times: 3
            steps:
              - fail: host cat
              - repeat: {times: 2, steps: [{expect: {from: ann, to: cat, service: https, reaches: no}}]}
              - restore: all
              - expect: ann reaches cat for https
        """,
    )
    assert report.ok
    assert [r.number for r in report.results] == list(range(1, 16))
    assert sum(r.expects for r in report.results) == 9


def test_a_change_its_side_effects_and_the_way_back(hall: Path) -> None:
    report = drilled(
        hall,
        """
        - keep: before
        - change:
            - disable: lists/out-list/20
        - expect: ann reaches ben for ssh
        - compare: {with: before, changes: 3}
        - compare: before
        - back-to: before
        - compare: before
        - expect: ann never reaches ben for ssh
        """,
    )
    assert [r.ok for r in report.results] == [True, True, True, True, False, True, True, True]
    words = as_text(whole(report))
    assert "no flows should end differently, and 3 do" in words
    assert "ann → ben" in words


def test_a_change_by_a_file_and_names_that_it_makes(hall: Path) -> None:
    (hall / "more.change.yaml").write_text(
        "mossy-change: 1\nchanges:\n  - rename: {what: devices/ben, to: bea}\n  - disable: lists/out-list/20\n"
    )
    report = drilled(hall, "- change: more.change.yaml\n- expect: ann reaches bea for ssh\n- expect: ann reaches ben for ssh")
    assert [(r.ok, r.broken) for r in report.results] == [(True, False), (True, False), (False, True)]
    assert "there is no 'ben' to send to" in report.results[2].said


@pytest.mark.parametrize(
    "failing, what, name, again",
    [
        ("host ben", "devices/ben", "bea", "host bea"),
        ("interface door/b", "devices/door", "gate", "interface gate/b"),
        ("device door", "devices/door", "gate", "device gate"),
        ("link sb", "segments/sb", "stall", "link stall"),
        ("service ben/ssh", "devices/ben", "bea", "service bea/ssh"),
    ],
)
def test_what_has_failed_stays_so_when_it_is_renamed(hall: Path, failing: str, what: str, name: str, again: str) -> None:
    target = name if what == "devices/ben" else "ben"
    steps = f"""
    - change:
        - disable: lists/out-list/20
    - fail: {failing}
    - change:
        - rename: {{what: {what}, to: {name}}}
    - expect: {{from: ann, to: {target}, service: ssh, symptom: answered}}
    - restore: {again}
    - expect: ann reaches {target} for ssh
    """
    report = drilled(hall, steps)
    assert [(r.ok, r.broken) for r in report.results] == [(True, False)] * 3 + [(False, False)] + [(True, False)] * 2


def test_a_renamed_part_leaves_other_faults_alone() -> None:
    fault = Fault("host", "ben")
    for what in ("segments/ben", "groups/ben", "devices/door/interfaces/ben", "lists/ben", "devices/bennett"):
        assert called(fault, what, "bea") == fault
    assert called(Fault("interface", "door/b"), "devices/door/interfaces/b", "back") == Fault("interface", "door/back")
    assert called(Fault("interface", "door/b"), "devices/gate/interfaces/b", "back") == Fault("interface", "door/b")


def test_packets_of_one_flow_and_of_several(hall: Path) -> None:
    """Each packet is a flow of its own, unless a port was chosen: then it is told which session it continues."""
    report = drilled(
        hall,
        """
        - send: {from: ann, to: cat, service: https, count: 3}
        - send: {from: ann, to: cat, service: https, source-port: 5000}
        - send: {from: ann, to: cat, service: https, source-port: 5000}
        - send: {from: ann, to: cat, service: https, source-port: 5001, count: 2}
        """,
    )
    assert [r.said for r in report.results] == [
        "answered (3 times)",
        "answered",
        "answered, as a further packet of session 4 of door and session 4 of cat",
        "answered; answered, as a further packet of session 5 of door and session 5 of cat",
    ]


TIMES = "network: hall.yaml\nsteps:\n"
LATE, EARLY = "at: 2026-05-04T12:00+02:00", "at: 2026-05-04T11:00+02:00"


@pytest.mark.parametrize(
    "steps, faulty",
    [
        (f"- send: {{from: ann, to: cat, {LATE}}}\n- send: {{from: ann, to: cat, {EARLY}}}", True),
        (f"- send: {{from: ann, to: cat, {LATE}}}\n- expect: {{that: ann reaches cat, {EARLY}}}", True),
        (f"- expect: {{that: ann reaches cat, {LATE}}}\n- send: {{from: ann, to: cat, {EARLY}}}", False),
        (f"- send: {{from: ann, to: cat, {LATE}}}\n- send: {{from: ann, to: cat, {LATE}}}", False),
        (f"- keep: a\n- send: {{from: ann, to: cat, {LATE}}}\n- back-to: a\n- send: {{from: ann, to: cat, {EARLY}}}", False),
        (f"- send: {{from: ann, to: cat, {LATE}}}\n- keep: a\n- back-to: a\n- send: {{from: ann, to: cat, {EARLY}}}", True),
        (
            f"- repeat: {{times: 2, steps: [{{send: {{from: ann, to: cat, {EARLY}}}}}, {{send: {{from: ann, to: cat, {LATE}}}}}]}}",
            True,
        ),
    ],
)
def test_no_packet_is_sent_before_an_earlier_one(hall: Path, steps: str, faulty: bool) -> None:
    path = hall / "late.drill.yaml"
    path.write_text("mossy-drill: 1\n" + TIMES + steps + "\n")
    if not faulty:
        assert read_drill(path).steps
        return
    with pytest.raises(NetworkFileError) as caught:
        read_drill(path)
    (problem,) = caught.value.problems
    assert "its time lies before that of 'send" in problem.message
    assert problem.mark.line > 3


def test_an_address_that_two_have_is_tested_of_neither(hall: Path) -> None:
    text = (hall / "hall.yaml").read_text()
    assert text.count("ben: {kind: host, address: 10.41.2.10/24") == 1
    extra = "eve: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1}\n  ben: {kind: host, address: 10.41.2.10/24"
    text = text.replace("ben: {kind: host, address: 10.41.2.10/24", extra).replace("sb: [ben,", "sb: [ben, eve,")
    (hall / "hall.yaml").write_text(text)
    report = drilled(
        hall, "- expect: ann reaches ben for https\n- expect: ann never reaches 10.41.2.10 for ssh\n- expect: ann reaches cat"
    )
    assert [r.ok for r in report.results] == [False, False, True]
    for result in report.results[:2]:
        assert any("was given to ben and eve" in words for o in result.failures for words in o.wrong)


def test_a_change_that_breaks_the_network_is_a_broken_step(hall: Path) -> None:
    report = drilled(hall, "- change:\n    - remove: devices/ann\n- expect: ben reaches cat for https")
    assert report.results[0].broken
    assert "cannot be used" in report.results[0].said
    assert report.results[1].ok
    assert "1 step cannot be done" in head(report)


def test_a_comparison_of_nothing_is_no_success(hall: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("mossy_compass.lab.drill.MOST_GRID", 1)
    report = drilled(hall, "- keep: a\n- compare: a")
    assert not report.ok
    assert "there is nothing to compare" in report.results[0].said
    assert drilled(hall, "- keep: a\n- expect: ann reaches cat\n- compare: a").ok


def test_what_was_never_tested(hall: Path) -> None:
    report = drilled(hall, "- expect: ann reaches cat for https")
    assert report.untested.rules == (
        ("door", "out-list", "20", str(hall / "hall.yaml") + ":28"), ("door", "out-list", "30", str(hall / "hall.yaml") + ":29")
    )  # fmt: skip
    assert report.untested.devices == ("ben", "dan")
    assert report.untested.services == (("ben", "ssh"), ("ben", "https"))
    assert "Never tested:" in as_text(whole(report))
    everything = drilled(
        hall,
        """
        - expect: us reach cat
        - expect: dan reaches cat
        - expect: ann never reaches ben for ssh
        - expect: ann reaches ben for https
        - expect: cat reaches ben
        - expect: ann reaches cat for ping
        """,
    )
    assert everything.untested == ((), (), ())
    assert "Never tested" not in as_text(whole(everything))


# --- files -------------------------------------------------------------------------------------------------------

HEAD = "mossy-drill: 1\nnetwork: hall.yaml\nsteps:\n"
FAULTY = [
    (HEAD + "  - expect: ann reaches bob", ["hall.drill.yaml:4", "there is no 'bob' to send to"]),
    (HEAD + "  - expect: nobody reaches ben", ["there is no 'nobody' to send from"]),
    (HEAD + "  - expect: ann reaches ben for htps", [":4", "htps"]),
    (HEAD + "  - expect: ann loves ben", ["is no expectation"]),
    (HEAD + "  - expect: {from: ann, to: ben, cause: filter.ned}", ["there is no cause 'filter.ned'", "filter.end"]),
    (HEAD + "  - expect: {from: ann, to: ben, by: out-list/25}", ["list out-list has no rule '25'"]),
    (HEAD + "  - expect: {from: ann, to: ben, by: out}", ["there is no list 'out'"]),
    (HEAD + "  - expect: {from: ann, to: ben, passes: dor}", ["there is no device 'dor'", "Did you mean door?"]),
    (HEAD + "  - expect: {from: ann, to: ben, fate: gone}", [":4", "is none of delivered, refused"]),
    (HEAD + "  - expect: {from: ann}", ["says from and to, or a sentence"]),
    (HEAD + "  - expect: {that: ann reaches ben, to: cat}", ["the sentence says from, to, service and reaches already"]),
    (HEAD + "  - expect: {counter: door/out-list/10}", ["what is counted and is go together"]),
    (HEAD + "  - expect: {from: ann, to: ben, family: 5}", ["a family of addresses is 4 or 6"]),
    (HEAD + "  - expect: ann reaches ann", ["the same host, so nothing would be tested"]),
    (HEAD + "  - expect: 10.99.0.0/16 reaches ben", ["nobody would be tested"]),
    (HEAD + "  - expect: {from: ann, to: ben, at: noon}", ["noon"]),
    (HEAD + "  - fail: link sq", ["there is no link 'sq'", "Known links: sa, sb, sc, sd"]),
    (HEAD + "  - restore: cable sa", ["is nothing that fails"]),
    (HEAD + "  - back-to: dawn", ["nothing was kept as 'dawn' before this step"]),
    (HEAD + "  - keep: dusk\n  - compare: dawn", ["nothing was kept as 'dawn'", "dusk"]),
    (HEAD + "  - change: none.change.yaml", ["none.change.yaml", "cannot be read"]),
    (HEAD + "  - change: [{explode: lists/x}]", ["explode"]),
    (HEAD + "  - change: []", ["each step of a change says exactly one"]),
    (HEAD + "  - repeat: {times: 2, steps: []}", ["there is nothing to repeat"]),
    (HEAD + "  - repeat: {times: 1000000, steps: [{restore: all}]}", ["10000"]),
    (HEAD + "  - table-file: none.csv", ["none.csv", "cannot be read"]),
    (HEAD + "  - table: [{source: ann, target: ben, wanted: maybe}]", ["neither yes nor no"]),
    (HEAD + "  - table: [{source: ann, target: bob, wanted: yes}]", ["there is no 'bob'"]),
    (HEAD + "  - {fail: link sa, restore: all}", ["a step says exactly one of", "this one says fail and restore"]),
    (HEAD + "  - {about: nothing}", ["a step says exactly one of"]),
    (HEAD + "  - expct: ann reaches ben", ["expct", "expect"]),
    (HEAD + "  - 7", [":4"]),
    ("mossy-drill: 1\nnetwork: hall.yaml\nsteps: []\n", ["there is no step, so nothing would be tested"]),
    ("mossy-drill: 1\nnetwork: hall.yaml\n", ["steps"]),
    ("mossy-drill: 2\nnetwork: hall.yaml\nsteps: []\n", ["is not 1"]),
    ("mossy-drill: 1\nsteps: []\n", ["network"]),
    ("mossy-network: 1\n", ["mossy-drill"]),
    ("", ["mossy-drill: 1"]),
    ("- a\n", ["hall.drill.yaml:1"]),
    ("mossy-drill: 1\nnetwork: [\n", ["hall.drill.yaml"]),
    (HEAD + "  - expect: {that: ann reaches ben, sample: -1}", ["is not a whole number from 0 to 20000"]),
    (HEAD + '  - expect: "\\0 reaches ben"', [":4"]),
]


@pytest.mark.parametrize(("text", "says"), FAULTY, ids=[t[-40:].strip() or "empty" for t, _ in FAULTY])
def test_a_faulty_drill_is_told_at_its_place(hall: Path, text: str, says: list[str]) -> None:
    found = told(hall, text)
    for words in says:
        assert words in found, found
    assert "hall.drill.yaml" in found


def test_all_faults_in_one_pass(hall: Path) -> None:
    found = told(hall, HEAD + "  - expect: a reaches ben\n  - fail: link q\n  - expect: ann reaches b\n  - back-to: x\n")
    assert [line.split(":")[1] for line in found.splitlines()] == ["4", "5", "6", "7"]


def test_nested_repeats_end(hall: Path) -> None:
    inner = "{restore: all}"
    for _ in range(4):
        inner = f"{{repeat: {{times: 10000, steps: [{inner}]}}}}"
    drill = drill_of((HEAD + f"  - {inner}\n").encode(), "hall.drill.yaml", hall)
    with pytest.raises(mc.QuestionError, match="more than 100000 steps"):
        run_drill(drill)
    for _ in range(8):
        inner = f"{{repeat: {{times: 2, steps: [{inner}]}}}}"
    assert "levels of nesting" in told(hall, HEAD + f"  - {inner}\n")


def test_the_network_of_a_drill_has_its_own_faults(hall: Path) -> None:
    (hall / "hall.yaml").write_text(HALL.replace("ann, door/a", "anne, door/a"))
    assert "hall.yaml:18" in told(hall, HEAD + "  - expect: ann reaches ben\n")
    (hall / "hall.yaml").unlink()
    with pytest.raises(mc.MossyError, match=r"hall.yaml: cannot be read"):
        drill_of((HEAD + "  - expect: ann reaches ben\n").encode(), "hall.drill.yaml", hall)


@pytest.mark.parametrize("network", ["hall.drill.yaml", "x.drill.yaml"])
def test_a_drill_that_names_a_drill(hall: Path, network: str) -> None:
    text = f"mossy-drill: 1\nnetwork: {network}\nsteps: [{{restore: all}}]\n"
    (hall / "hall.drill.yaml").write_text(text)
    with pytest.raises(mc.MossyError):
        read_drill(hall / "hall.drill.yaml")


def test_a_table_of_intents_in_csv(hall: Path) -> None:
    (hall / "wants.csv").write_text(
        'Source,Target,Service,Wanted,Why\n# a remark\nann,ben,https,yes,the shop\n\nann,ben,ssh,no,"keys, and so on"\nus,cat,,YES,\n'
    )
    report = run_drill(read_drill(hall / "wants.csv", hall / "hall.yaml"))
    assert report.ok
    assert [r.step.about for r in report.results] == ["the shop", "keys, and so on", ""]
    assert [r.step.mark.line for r in report.results] == [3, 5, 6]
    assert [r.step.words for r in drilled(hall, "- table-file: wants.csv").results] == [r.step.words for r in report.results]
    with pytest.raises(mc.QuestionError, match="does not name its network"):
        read_drill(hall / "wants.csv")


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "the column 'source' is missing"),
        ("source,target\n", "the column 'wanted' is missing"),
        ("source,target,wanted,colour\n", "the column 'colour' is not known"),
        ("source,target,wanted\n", "nothing would be tested"),
        ("source,target,wanted\nann,ben\n", "there is no wanted in this line"),
        ("source,target,wanted\nann,ben,perhaps\n", "neither yes nor no"),
        ("source,target,wanted\nann,bob,yes\n", "there is no 'bob'"),
        ('source,target,wanted\n"ann,ben,yes', "a quote that was opened is never closed"),
        ('source,target,wanted\nann,ben,yes\n"cat,ben,no\nann,ben,yes\n', "a quote that was opened is never closed"),
        ("source,target,wanted,target\nann,ben,yes,cat\n", "the column 'target' is there twice"),
        ("source,target,wanted\n,,,yes\n", "this line has 4 cells, and the first names 3 columns"),
        ("source,target,wanted,why\nann,ben,yes,shop, and so on\n", "this line has 5 cells, and the first names 4 columns"),
        ("source;target;wanted\n", "is not known"),
    ],
)
def test_faulty_tables(hall: Path, text: str, says: str) -> None:
    (hall / "wants.csv").write_text(text)
    with pytest.raises(NetworkFileError) as caught:
        read_drill(hall / "wants.csv", hall / "hall.yaml")
    assert says in str(caught.value)
    assert "wants.csv:" in str(caught.value)


TWO = HALL.replace("ben: {kind: host, address: 10.41.2.10/24", "ben: {kind: host, address: [10.41.2.10/24, 10.41.2.20/24]").replace(
    "{id: 20, deny: any, to: ben}", "{id: 20, deny: any, to: 10.41.2.10}"
)
NAMED: list[tuple[str, bool, list[str]]] = [
    # of two addresses the second is open: whoever names it is told so, and the first is closed
    ("ann never reaches 10.41.2.20 for ssh", False, ["ann to 10.41.2.20, ssh"]),
    ("ann never reaches 10.41.2.10 for ssh", True, ["ann to 10.41.2.10, ssh"]),
    ("ann never reaches ben for ssh", False, ["ann to 10.41.2.10, ssh", "ann to 10.41.2.20, ssh"]),
    ("ann never reaches ben/nic for ssh", False, ["ann to 10.41.2.10, ssh", "ann to 10.41.2.20, ssh"]),
    ("ann never reaches 10.41.2.16/28 for ssh", False, ["ann to 10.41.2.20, ssh"]),
    ("ann never reaches 10.41.2.8/29 for ssh", True, ["ann to 10.41.2.10, ssh"]),
    ("ann never reaches sb for ssh", False, ["ann to 10.41.2.10, ssh", "ann to 10.41.2.20, ssh", "ann to 10.41.2.1, ssh"]),
    ("ann reaches 10.41.2.20 for ssh", True, ["ann to 10.41.2.20, ssh"]),
    ("ann reaches ben for ssh", False, ["ann to ben, ssh"]),  # it would use the first
    ("10.41.2.20 reaches cat for https", True, ["ben to cat, https (from 10.41.2.20)"]),
    ("10.41.2.16/28 reaches cat for https", True, ["ben to cat, https (from 10.41.2.20)"]),
    ("ben reaches cat for https", True, ["ben to cat, https"]),
    ("ann never reaches 10.41.2.99 for ssh", True, ["ann to 10.41.2.99, ssh"]),
    ("dan reaches cat for https", True, ["dan to cat, https"]),
    ("dan reaches 2001:db8:41:3::10 for https", True, ["dan to cat, https"]),
    ("ann reaches 10.41.3.10 for https", True, ["ann to cat, https"]),
    ("10.41.1.1 reaches ben for https", True, ["door to ben, https (from 10.41.1.1)"]),
    ("ann never reaches far for telnet", False, ["ann to cat, telnet", "ann to 10.41.3.1, telnet"]),
]


@pytest.mark.parametrize(("words", "holds", "tested"), NAMED, ids=[n[0] for n in NAMED])
def test_what_was_named_is_what_is_tested(hall: Path, words: str, holds: bool, tested: list[str]) -> None:
    (hall / "hall.yaml").write_text(TWO)
    drill = drill_of(f"mossy-drill: 1\nnetwork: hall.yaml\nsteps: [{{expect: {words}}}]\n".encode(), "x.drill.yaml", hall)
    made = [str(f) for f in flows(drill.network, drill.steps[0].expectation)]  # type: ignore[attr-defined]
    assert made == tested
    assert run_drill(drill).ok is holds


def test_what_cannot_be_tested_is_told_and_proves_nothing(hall: Path) -> None:
    (hall / "hall.yaml").write_text(
        HALL.replace("  dan:", "  eve: {kind: host, leased: yes}\n  dan:").replace("us: [ann, ben]", "us: [ann, ben, eve]")
    )
    report = drilled(
        hall,
        "- expect: eve reaches cat\n- expect: us reach cat for https\n- expect: dan reaches ben\n- expect: 10.41.1.0/24 reaches cat for https\n"
        "- expect: {from: ann, to: cat, family: 6}",
    )
    assert [r.ok for r in report.results] == [False, True, False, True, False]
    assert not report.broken
    assert [r.left for r in report.results] == [
        ("eve (no address is leased to it)",),
        ("eve (no address is leased to it)",),
        ("dan to ben (they have no address of one family)",),
        ("the rest of 10.41.1.0/24 (nobody is there)",),
        ("ann to cat (one of them has no IPv6 address)",),
    ]
    text = as_text(whole(report))
    assert "(3 flows tested, 5 not)" in text.splitlines()[0]
    assert text.count("not tested: ") == 5
    assert [step["not-tested"] for step in report_dict(report)["steps"]] == [list(r.left) for r in report.results]
    assert junit([report]).decode().count("not tested: ") == 5


def test_nothing_holds_for_want_of_anything(hall: Path) -> None:
    """What gets nowhere has avoided nothing, what is stopped has not left, and a drill that expects nothing proves nothing."""
    stopped = drilled(hall, "- expect: {from: ann, to: ben, service: ssh, avoids: cat}")
    assert not stopped.ok
    assert "does not arrive at all" in stopped.results[0].failures[0].wrong[0]
    assert drilled(hall, "- expect: {from: ann, to: ben, service: ssh, avoids: cat, cause: filter.rule}").ok
    leaving = HALL.replace("b: {address: 10.41.2.1/24, zone: in}", "b: {address: 10.41.2.1/24, zone: in, filter: {leaving: none}}")
    (hall / "hall.yaml").write_text(leaving + "  none: [{deny: any}]\n")
    assert not drilled(hall, "- expect: {from: cat, to: ben, service: https, fate: dropped, exit: door/b}").ok
    (hall / "hall.yaml").write_text(HALL)
    assert not drilled(hall, "- fail: host ben").ok
    assert drilled(hall, "- expect: ann reaches ben for https").ok
    for rule in ("door/out-list/10", "door/out-list/end-of-list"):
        assert not drilled(hall, f"- expect: {{counter: {rule}, is: 7}}").broken
    (hall / "hall.yaml").write_text(HALL + "  spare: [{id: 5, permit: any}]\n")
    spare = drilled(hall, "- expect: {counter: door/spare/5, is: 0}")
    assert spare.broken
    assert "does not stand at door" in spare.results[0].said


def test_switches_and_ways_back_are_passed_too(hall: Path) -> None:
    bridged = (
        HALL.replace("  sb: [ben, door/b]", "  sb: [sw/p, door/b]\n  sw: [ben, sw/q]")
        .replace("groups:", "groups:\n", 1)
        .replace("  ann: {kind: host", "  sw: {kind: switch, interfaces: {p: {}, q: {}}}\n  ann: {kind: host")
    )
    (hall / "hall.yaml").write_text(bridged)
    assert drilled(hall, "- expect: {from: ann, to: ben, service: https, passes: [door, sw, ben]}").ok
    assert not drilled(hall, "- expect: {from: ann, to: ben, service: https, avoids: sw}").ok


def test_going_back_takes_counters_along_and_tests_left_out_are_counted(hall: Path) -> None:
    steps = """
        - expect: ann reaches ben for https
        - keep: before
        - expect: ann reaches ben for https
        - expect: {counter: door/out-list/10, is: 2}
        - back-to: before
        - expect: {counter: door/out-list/10, is: 1}
    """
    assert drilled(hall, steps).ok
    only = drilled(hall, steps, only="counter")
    assert [r.step.words for r in only.results if r.expects and not r.ok] == []


def test_flows_that_differ_in_any_wish_are_told_apart() -> None:
    at = datetime(2026, 5, 4, 10, 30, tzinfo=UTC)
    wishes: list[dict[str, object]] = [{}, {"family": 6}, {"source_port": 9}, {"source": "10.41.1.10"}, {"ttl": 3}, {"size": 900}]
    wishes += [{"application": "video"}, {"fragment": True}, {"last_resort": True}, {"at": at}]
    labels = [mc.Flow("a", "b", "https", Options(**w)).label for w in wishes]  # type: ignore[arg-type]
    assert len(set(labels)) == len(wishes)


def test_the_shipped_drill_holds_and_its_schema_knows_it() -> None:
    report = run_drill(read_drill(DATA / "fernhollow.drill.yaml"))
    assert report.ok, as_text(whole(report))
    assert len(report.expectations) == 28
    schema = json.loads((DATA / "drill.schema.json").read_text())
    check = jsonschema.Draft202012Validator(schema)
    check.check_schema(schema)
    check.validate(yaml.safe_load((DATA / "fernhollow.drill.yaml").read_text()))
    for text, _ in FAULTY:
        if "expct" in text or "fate: gone" in text or "mossy-drill: 2" in text:
            assert list(check.iter_errors(yaml.safe_load(text)))


def test_every_key_of_a_drill_is_in_its_schema() -> None:
    schema = json.loads((DATA / "drill.schema.json").read_text())
    assert set(schema["properties"]) == set(DrillIn.known())


# --- what is written of it ---------------------------------------------------------------------------------------

BOTH = """
- expect: ann reaches ben for https
- expect: ann reaches ben for ssh
  about: the <porter> & "co"
- change: [{remove: devices/ann}]
- fail: link sc
- expect: ann never reaches cat for https
"""


def test_the_report_as_data(hall: Path) -> None:
    schema = json.loads((DATA / "drill-report.schema.json").read_text())
    for details in (False, True):
        data = json.loads(json.dumps(report_dict(drilled(hall, BOTH), details)))
        jsonschema.Draft202012Validator(schema).validate(data)
        assert [s["ok"] for s in data["steps"]] == [True, False, False, True, True]
        assert ("journey" in data["steps"][1]["failures"][0]) is details
        assert data["steps"][4]["by-chance"][0]["to"] == "cat"


def test_junit_is_read_by_another_reader(hall: Path) -> None:
    ticks = iter(range(1000))
    found = junit([drilled(hall, BOTH, clock=lambda: float(next(ticks)))])
    root = ET.fromstring(found)
    assert root.tag == "testsuites"
    suite = root[0]
    assert {k: suite.attrib[k] for k in ("tests", "failures", "errors", "skipped")} == {
        "tests": "4", "failures": "1", "errors": "1", "skipped": "0",
    }  # fmt: skip
    cases = suite.findall("testcase")
    assert [c.attrib["name"] for c in cases][:2] == ["1 ann reaches ben for https", "2 ann reaches ben for ssh"]
    assert [float(c.attrib["time"]) for c in cases] == [1.0] * 4
    assert float(suite.attrib["time"]) == 5.0
    failure = cases[1].find("failure")
    assert failure is not None
    assert failure.attrib["message"] == "it should be answered, and is not"
    assert '"the <porter> & "co""' in (failure.text or "")
    assert "DROPPED" in (failure.text or "")
    assert cases[2].find("error") is not None


SCHEMA = etree.XMLSchema(etree.parse(Path(__file__).parent / "standards" / "junit-10.xsd"))
ANY_TEXT = st.text(st.characters(), max_size=40)


def reported(words: str, about: str, said: str, seconds: float, broken: bool) -> Report:
    """A report whose texts are anything at all, as they might come from a file that was not read by us."""
    step = DrillStep(words, about, NOWHERE)
    result = Result(1, step, False, said=said, seconds=seconds, broken=broken)
    drill = Drill(words, Network("", NOWHERE, {}, {}, {}), (step,), None, about, words)
    passed = result._replace(ok=True, tests=1, step=Restore(words, about, NOWHERE))
    return Report(drill, (result, passed), ())  # type: ignore[arg-type]


@examples(60, 180)
@given(ANY_TEXT, ANY_TEXT, ANY_TEXT, st.floats(0, 1e5), st.booleans())
def test_junit_keeps_to_the_format_whatever_the_text(words: str, about: str, said: str, seconds: float, broken: bool) -> None:
    found = junit([reported(words, about, said, seconds, broken)] * 2)
    assert SCHEMA.validate(etree.fromstring(found)), SCHEMA.error_log
    assert not re.search(r"[\x00-\x08\x0b-\x1f\x7f-\x9f]|&#x?[01]?[0-9a-f];", found.decode())


def test_junit_counts_each_suite_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """Counting anew with each case would make ten thousand of them take minutes."""
    counted: list[TestSuite] = []
    once = TestSuite.update_statistics

    def counting(self: TestSuite) -> None:
        counted.append(self)
        once(self)  # type: ignore[no-untyped-call]

    monkeypatch.setattr(TestSuite, "update_statistics", counting)
    report = reported("a", "b", "c", 0.1, False)
    root = etree.fromstring(junit([report._replace(results=report.results[:1] * 300)]))
    assert len(root[0]) == 300
    assert len(counted) == 1


def test_the_command(hall: Path) -> None:
    (hall / "a.drill.yaml").write_text(HEAD + "  - expect: ann reaches cat\n")
    (hall / "b.drill.yaml").write_text(HEAD + "  - expect: ann reaches ben for ssh\n  - expect: ann reaches cat\n")
    (hall / "c.drill.yaml").write_text(HEAD + "  - change: [{remove: devices/ann}]\n  - expect: ben reaches cat\n")
    done = mossy(hall, "drill", "a.drill.yaml")
    assert (done.returncode, done.stdout.splitlines()[0]) == (0, "a.drill.yaml: the one expectation holds (1 flow tested).")
    done = mossy(hall, "drill", "a.drill.yaml", "b.drill.yaml")
    assert (done.returncode, done.stdout.splitlines()[0]) == (
        1, "b.drill.yaml: 1 of 2 expectations does not hold (2 flows tested).",
    ), "what failed is read first"  # fmt: skip
    assert mossy(hall, "drill", "c.drill.yaml").returncode == 2
    assert mossy(hall, "drill", "b.drill.yaml", "--only", "cat").returncode == 0
    done = mossy(hall, "drill", "b.drill.yaml", "--only", "dog")
    assert (done.returncode, done.stdout) == (2, "")
    assert "no expectation holds the text 'dog'" in done.stderr
    done = mossy(hall, "drill", "b.drill.yaml", "--fail-fast", "--junit", "out/x.xml")
    assert done.returncode == 2
    assert "out/x.xml: cannot be written" in done.stderr
    done = mossy(hall, "drill", "none.drill.yaml")
    assert (done.returncode, done.stdout) == (2, "")


def test_a_result_does_not_depend_on_jobs(hall: Path) -> None:
    names = []
    for number, steps in enumerate(
        ["- expect: ann reaches cat", BOTH, "- keep: a\n- change: [{disable: lists/out-list/20}]\n- compare: a"]
    ):
        names.append(f"{number}.drill.yaml")
        (hall / names[-1]).write_text(HEAD + indent(steps.strip("\n"), "  ") + "\n")
    one = mossy(hall, "drill", *names)
    three = process(hall, "drill", *names, "--jobs", "3")
    assert one.returncode == 2
    assert (one.stdout, one.returncode) == (three.stdout, three.returncode)


def test_the_plugin(hall: Path) -> None:
    (hall / "a.drill.yaml").write_text(
        HEAD + "  - expect: ann reaches cat\n  - expect: ann reaches ben for ssh\n    about: why not\n"
    )
    (hall / "test_lab.py").write_text(
        "def test_one(lab):\n    it = lab('hall.yaml')\n    it.fail('link sc')\n"
        "    from mossy_compass.lab.lab import Flow\n    assert not it.test(Flow('ann', 'cat', 'https')).answered\n"
    )
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-v", "-p", "no:cacheprovider", "-c", "/dev/null", "--rootdir", "."],
        cwd=hall, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert "a.drill.yaml::1 ann reaches cat PASSED" in done.stdout
    assert "a.drill.yaml::2 ann reaches ben for ssh FAILED" in done.stdout
    assert "test_lab.py::test_one PASSED" in done.stdout
    assert 'why it is wanted: "why not"' in done.stdout
    assert "DROPPED on the way there at door" in done.stdout
    assert "Traceback" not in done.stdout
    assert "1 failed, 3 passed" in done.stdout


def test_the_plugin_loads_nothing_heavy_before_it_must() -> None:
    script = (
        "import sys, mossy_compass.pytest_plugin\n"
        "heavy = {m for m in sys.modules if m.startswith('mossy_compass.') and m != 'mossy_compass.pytest_plugin'}\n"
        "assert heavy <= {'mossy_compass.errors', 'mossy_compass.voice'}, heavy\n"
        "assert not {'yaml', 'rich', 'numpy'} & set(sys.modules) - {'rich'}\n"
    )
    subprocess.run([sys.executable, "-c", script], check=True, capture_output=True)


# --- the other commands of the lab -------------------------------------------------------------------------------


def test_today_as_a_drill_holds_today(hall: Path) -> None:
    (hall / "sub").mkdir()
    done = mossy(hall, "grid", "hall.yaml", "--as-drill", "sub/today.drill.yaml")
    assert done.returncode == 0
    text = (hall / "sub" / "today.drill.yaml").read_text()
    assert "network: ../hall.yaml" in text
    again = mossy(hall, "drill", "sub/today.drill.yaml")
    assert again.returncode == 0, again.stdout
    count = int(done.stdout.split("with ")[1].split()[0])
    assert f"all {count} expectations hold" in again.stdout
    assert mossy(hall, "grid", "hall.yaml", "--as-drill", "sub/today.drill.yaml").returncode == 2, (
        "what is there is not overwritten"
    )
    changed = HALL.replace("{id: 20, deny: any, to: ben}", "{id: 20, deny: any, to: cat}")
    (hall / "hall.yaml").write_text(changed)
    assert mossy(hall, "drill", "sub/today.drill.yaml").returncode == 1


def test_the_shipped_networks_as_drills(tmp_path: Path) -> None:
    for name in ("fernhollow", "grounds", "starter"):
        (tmp_path / f"{name}.yaml").write_bytes((DATA / f"{name}.yaml").read_bytes())
        more = ["--at", "2026-06-07T11:00+02:00"] if name == "fernhollow" else ["--last-resort"] if name == "grounds" else []
        assert mossy(tmp_path, "grid", f"{name}.yaml", "--as-drill", f"{name}.drill.yaml", *more).returncode == 0
        report = run_drill(read_drill(tmp_path / f"{name}.drill.yaml"))
        assert report.ok, as_text(whole(report))


COMPARED = [
    (["hall.yaml", "hall.yaml"], 0, "hall.yaml compared with hall.yaml: no test changes"),
    (["hall.yaml", "--fail", "link sc"], 1, "hall.yaml compared with itself without link sc: of "),
    (["hall.yaml", "--fail", "link sc", "--fail", "host ann"], 1, "hall.yaml compared with itself without link sc, host ann: of "),
    (["hall.yaml", "other.yaml"], 1, "hall.yaml compared with other.yaml: of "),
    (["hall.yaml", "--change", "c.change.yaml"], 1, "hall.yaml compared with c.change.yaml: of "),
    (
        ["hall.yaml", "--change", "c.change.yaml", "--drill", "d.drill.yaml"],
        1,
        "hall.yaml compared with c.change.yaml: no test changes, but",
    ),
    (["hall.yaml"], 2, ""),
    (["hall.yaml", "other.yaml", "--fail", "link sc"], 2, ""),
    (["hall.yaml", "--fail", "link zz"], 2, ""),
    (["hall.yaml", "none.yaml"], 2, ""),
    (["hall.yaml", "other.yaml", "--drill", "d.drill.yaml", "--from", "ann"], 2, ""),
]


@pytest.mark.parametrize(("arguments", "code", "first"), COMPARED, ids=[" ".join(c[0]) for c in COMPARED])
def test_compare(hall: Path, arguments: list[str], code: int, first: str) -> None:
    (hall / "other.yaml").write_text(HALL.replace("{id: 20, deny: any, to: ben}", "{id: 20, deny: any, to: cat}"))
    (hall / "c.change.yaml").write_text("mossy-change: 1\nchanges:\n  - disable: lists/out-list/20\n")
    (hall / "d.drill.yaml").write_text(HEAD + "  - expect: ann reaches ben for https\n")
    done = mossy(hall, "compare", *arguments)
    assert done.returncode == code, done.stdout + done.stderr
    assert done.stdout.startswith(first)
    assert bool(done.stdout) is (code != 2)
    assert all(len(line) <= 100 for line in done.stdout.splitlines())
    if code != 2:
        data = json.loads(mossy(hall, "compare", *arguments, "--format", "json").stdout)
        assert data["answer"].startswith(first)
        assert bool(data["tests"] or data["rules"] or data["new"] or data["gone"]) is bool(code)
        rows = mossy(hall, "compare", *arguments, "--format", "csv").stdout.splitlines()
        assert len(rows) == 1 + len(data["tests"]) + len(data["new"]) + len(data["gone"])


def test_a_change_that_no_test_notices_is_shown(hall: Path) -> None:
    (hall / "c.change.yaml").write_text(
        "mossy-change: 1\nchanges:\n  - insert: {into: lists/out-list, value: {id: 5, deny: udp, to: 10.41.3.99, service: ntp}, before: 10}\n"
    )
    done = mossy(hall, "compare", "hall.yaml", "--change", "c.change.yaml")
    assert done.returncode == 1
    assert "no test changes, but lists decide other packets" in done.stdout
    assert "permit becomes deny, for example udp" in done.stdout


def test_a_loss_in_one_family_alone_is_noticed(hall: Path) -> None:
    both = (
        HALL.replace(
            'dan: {kind: host, address: "2001:db8:41:4::10/64"',
            'dan: {kind: host, address: ["2001:db8:41:4::10/64", 10.41.4.10/24]',
        )
        .replace('gateway: "2001:db8:41:4::1"}', 'gateway: ["2001:db8:41:4::1", 10.41.4.1]}')
        .replace('d: {address: "2001:db8:41:4::1/64"', 'd: {address: ["2001:db8:41:4::1/64", 10.41.4.1/24]')
    )
    assert both.count("10.41.4.1") == 3
    (hall / "old.yaml").write_text(both)
    (hall / "new.yaml").write_text(both.replace('gateway: [10.41.3.1, "2001:db8:41:3::1"]', "gateway: 10.41.3.1"))
    done = mossy(hall, "compare", "old.yaml", "new.yaml")
    assert done.returncode == 1
    assert "dan → cat https IPv6" in " ".join(done.stdout.split())
    assert "IPv4" not in done.stdout


def test_a_picture_of_what_changes(hall: Path) -> None:
    done = mossy(hall, "compare", "hall.yaml", "--fail", "link sc", "--picture", "x.svg")
    assert done.returncode == 1
    words = (hall / "x.svg").read_text()
    assert "compared with itself without link sc" in words
    assert mossy(hall, "compare", "hall.yaml", "--fail", "link sc", "--picture", "x.bmp").returncode == 2


def test_what_if(hall: Path) -> None:
    done = mossy(hall, "what-if", "hall.yaml", "--fail", "each-device", "--fail", "each-link")
    assert done.returncode == 1
    assert done.stdout.startswith("hall.yaml: 5 of 5 failures cost some of the ")
    assert "everything hangs on device door." in " ".join(done.stdout.split())
    assert all(len(line) <= 100 for line in done.stdout.splitlines())
    data = json.loads(mossy(hall, "what-if", "hall.yaml", "--format", "json", "--pairs").stdout)
    assert len(data["failures"]) == 4 + 6
    lost = [len(f["lost"]) for f in data["failures"]]
    assert lost == sorted(lost, reverse=True)
    assert mossy(hall, "what-if", "hall.yaml", "--from", "ann", "--to", "ben", "--fail", "each-interface").returncode == 1
    assert mossy(hall, "what-if", "hall.yaml", "--from", "nobody").returncode == 2
    assert mossy(hall, "what-if", "hall.yaml", "--fail", "each-moon").returncode == 2
    assert mossy(hall, "what-if", "hall.yaml", "--picture", "w.png", "--drill", "none.drill.yaml").returncode == 2
    assert not (hall / "w.png").exists()


def test_nothing_lost_is_exit_zero(hall: Path) -> None:
    (hall / "ring.yaml").write_text(
        dedent(
            """
            mossy-network: 1
            devices:
              r1: {kind: router, interfaces: {a: {address: 10.41.1.1/24}, b: {address: 10.41.9.1/30, ospf: 0}, c: {address: 10.41.9.5/30, ospf: 0}}}
              r2: {kind: router, interfaces: {b: {address: 10.41.9.2/30, ospf: 0}, c: {address: 10.41.9.6/30, ospf: 0}, lo: {address: 10.41.8.1/32, loopback: yes, ospf: 0}}}
            segments:
              one: [r1/b, r2/b]
              two: [r1/c, r2/c]
            """
        )
    )
    done = mossy(hall, "what-if", "ring.yaml", "--from", "r1", "--to", "10.41.8.1")
    assert done.returncode == 0, done.stdout
    assert done.stdout.startswith("ring.yaml: the one flow that is answered survives each of 2 failures.")
    both = mossy(hall, "what-if", "ring.yaml", "--from", "r1", "--to", "10.41.8.1", "--pairs")
    assert both.returncode == 1
    assert "everything hangs on link one and link two." in " ".join(both.stdout.split())


def test_watching_runs_again_when_a_file_changes(hall: Path) -> None:
    import time

    (hall / "a.drill.yaml").write_text(HEAD + "  - expect: ann reaches cat\n")
    command = [sys.executable, "-u", "-c", "from mossy_compass.cli.main import run; run()", "drill", "a.drill.yaml", "--watch"]
    seen = hall / "seen.txt"
    with seen.open("wb") as out, subprocess.Popen(command, cwd=hall, stdout=out, stderr=out) as going:
        try:
            for wanted, text in (
                ("the one expectation holds", "  - expect: ann reaches ben for ssh\n"),
                ("does not hold", "  - what\n"),
                ("error:", ""),
            ):
                for _ in range(300):
                    if wanted in seen.read_text():
                        break
                    time.sleep(0.1)
                assert wanted in seen.read_text()
                time.sleep(0.3)
                if text:
                    (hall / "a.drill.yaml").write_text(HEAD + text)
        finally:
            going.send_signal(2)
            going.wait(20)
    assert "Traceback" not in seen.read_text()


SECRET = "hunter2-of-the-gardener"


@pytest.mark.parametrize(
    "drill",
    [
        "mossy-drill: 1\nnetwork: secret\nsteps: [{restore: all}]\n",
        "mossy-drill: 1\nnetwork: hall.yaml\nsteps: [{table-file: secret}]\n",
        "mossy-drill: 1\nnetwork: hall.yaml\nsteps: [{change: secret}]\n",
    ],
)
@pytest.mark.parametrize(
    "content",
    [SECRET, f"{SECRET}: x\n", f"a: '{SECRET}\n", f"{SECRET},b\n1,2\n", f"- {SECRET}\n\t- x", f"a: [{SECRET}\n", f"\x00{SECRET}"],
)
def test_what_a_drill_names_is_not_shown_unless_it_is_ours(hall: Path, drill: str, content: str) -> None:
    (hall / "secret").write_text(content)
    (hall / "d.drill.yaml").write_text(drill)
    for more in ([], ["--format", "json"], ["--junit", "r.xml"]):
        done = mossy(hall, "drill", "d.drill.yaml", *more)
        assert done.returncode == 2
        assert SECRET not in done.stdout + done.stderr
        assert "secret" in done.stderr, "the file is named"


EDITING = """
mossy-drill: 1
network: {network}
steps:
{steps}
"""


def editing(tmp_path: Path, steps: str) -> tuple[Report, str]:
    """A drill about a room that is edited: what came of it, and how it reads."""
    (tmp_path / "room.yaml").write_text((Path(__file__).parents[1] / "examples" / "jobs" / "reading-room.yaml").read_text())
    (tmp_path / "d.drill.yaml").write_text(EDITING.format(network="room.yaml", steps=steps))
    report = run_drill(read_drill(tmp_path / "d.drill.yaml"))
    return report, as_text(whole(report))


LET_IN = "  - edit: [{insert: {into: lists/readers-in, value: {id: 25, permit: tcp, from: clerk, to: catalogue, service: ssh}, after: 20}}]\n"
CLOSED = "  - expect: {from: clerk, to: catalogue, service: ssh, reaches: no}\n"
OPEN = "  - expect: clerk reaches catalogue for ssh\n"


@pytest.mark.parametrize(
    ("steps", "holds", "edited"),
    [
        (LET_IN + CLOSED, [True], 1),  # written only
        (LET_IN + OPEN, [False], 1),
        (LET_IN + "  - put: all\n" + OPEN, [True], 0),
        (LET_IN + "  - change: [{disable: lists/readers-in/10}]\n" + OPEN, [True], 0),  # a change puts all in force
        (LET_IN + "  - keep: a\n  - put: all\n" + OPEN + "  - back-to: a\n" + CLOSED, [True, True], 1),  # both come back
        ("  - keep: a\n" + LET_IN + "  - back-to: a\n" + CLOSED, [True], 0),
        (
            LET_IN + "  - edit: [{disable: lists/readers-in/25}]\n  - put: all\n" + CLOSED,
            [True],
            0,
        ),  # the second edits what the first wrote
        (LET_IN + "  - edit: [{disable: lists/readers-in/20}]\n" + CLOSED, [True], 2),
        (LET_IN + "  - fail: host catalogue\n  - put: all\n" + CLOSED + "  - restore: all\n" + OPEN, [True, True], 0),
    ],
)
def test_what_is_edited_counts_when_it_is_put_in_force(tmp_path: Path, steps: str, holds: list[bool], edited: int) -> None:
    report, words = editing(tmp_path, steps)
    assert [r.ok for r in report.results if r.expects] == holds
    assert not report.broken
    assert len(report.edited) == edited
    assert ("Edited, and never put in force:" in words) is bool(edited)
    assert ("not in force" in head(report)) is bool(edited)
    assert report_dict(report)["not-in-force"] == list(report.edited)


def test_a_failure_that_an_edit_would_mend_says_so_and_another_does_not(tmp_path: Path) -> None:
    report, words = editing(tmp_path, LET_IN + OPEN + "  - expect: reader reaches catalogue for ssh\n")
    first, second = (r for r in report.results if r.expects)
    assert "with it, clerk to catalogue, ssh would be answered" in " ".join(words.split())
    assert len(first.unforced) == 1
    assert not second.unforced  # with the edit it would be dropped too


def test_nothing_is_put_in_force_where_nothing_is_edited(tmp_path: Path) -> None:
    report, words = editing(tmp_path, "  - put: all\n" + LET_IN + "  - put: all\n  - put: all\n" + OPEN)
    assert [r.broken for r in report.results] == [True, False, False, True, False]
    assert "nothing is edited that is not in force already" in words
