"""Conversations on a clock: what follows a first packet, as the hosts would send it, and what becomes of each."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from click.testing import CliRunner, Result

import mossy_compass as mc
from mossy_compass.cli.main import main
from mossy_compass.errors import QuestionError
from mossy_compass.files.drills import Source, steps_of
from mossy_compass.files.hours import parse_moment
from mossy_compass.lab.conversation import Conversation, parse_then
from mossy_compass.lab.drill import Run, run_drill
from mossy_compass.lab.steps import Drill
from mossy_compass.report.conversationtext import conversation, conversation_dict
from mossy_compass.report.remembered import of_memory
from mossy_compass.report.tables import Rows
from mossy_compass.report.text import as_text
from mossy_compass.walk.question import Options

from .conftest import DATA

HALL = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
    stateful: [tcp, udp, icmp]
    settings: {#SETTINGS}
    interfaces:
      in: {address: 10.41.1.1/24, filter: {arriving: out-list}}
      out: {address: 198.51.100.2/24, filter: {arriving: in-list}}
    #TRANSLATE
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  ben: {kind: host, address: 198.51.100.9/24, gateway: 198.51.100.2, serves: [https, udp/53]}
lists:
  out-list: [{permit: any}]
  in-list: [{deny: any, from: 10.99.0.0/16}]
segments: {x: [gate/in, ann], y: [gate/out, ben]}
"""
HIDES = "translate: [{leaving: out}]"


def hall(settings: str = "", translate: str = "") -> mc.Lab:
    text = HALL.replace("#SETTINGS", settings).replace("#TRANSLATE", translate)
    found = mc.read_bytes(text.encode(), "hall.yaml")
    assert found.network is not None, found.problems
    return mc.Lab(found.network)


def talk(lab: mc.Lab, service: str, *then: str) -> Conversation:
    """A conversation with all that follows, or as much as nothing failed before."""
    held = lab.converse(mc.Flow("ann", "ben", service), apart=False)
    for words in then:
        if held.failed is None:
            held.next(parse_then(words, lab.network))
    return held


TALKS = [
    ("https", ["data", "answer data", "fin", "answer data", "answer fin"], "service.open", "closing"),
    ("https", ["data", "wait 2 h", "answer data"], "answer.arrived", "open"),
    ("https", ["data", "wait 2 h 3 min", "data", "wait 2 h 3 min", "data"], "session.part", "open"),
    ("https", ["data", "wait 2 h 4 min", "answer data"], "session.expired", ""),
    ("https", ["wait 4 min", "data"], "session.expired", ""),  # nobody acknowledged the answer: still short-lived
    ("https", ["data", "clear gate", "data"], "session.ended", ""),
    ("https", ["answer reset", "wait 5 min", "late"], "session.expired", ""),
    ("https", ["fin", "answer fin", "again", "data"], "session.part", "open"),
    ("udp/53", ["wait 4 min", "data", "wait 4 min", "answer data"], "answer.arrived", "replied"),
    ("udp/53", ["wait 5 min", "answer data"], "session.expired", ""),
    ("udp/53", ["wait 5 min", "data"], "service.open", "asked"),  # it opens anew
    ("ping", ["wait 59 s", "data"], "echo.answered", "none"),
    ("ping", ["wait 60 s", "answer data"], "session.expired", ""),
]


@pytest.mark.parametrize(("service", "then", "cause", "phase"), TALKS, ids=[f"{s} {', '.join(t)}" for s, t, _, _ in TALKS])
@pytest.mark.parametrize("translate", ["", HIDES])
def test_what_follows_fares_by_the_clock(service: str, then: list[str], cause: str, phase: str, translate: str) -> None:
    lab = hall(translate=translate)
    held = talk(lab, service, *then)
    last = held.exchanges[-1]
    assert last.journey is not None
    assert last.journey.later is not None
    if cause != "service.open":
        assert last.journey.later.cause == cause
    assert [s.phase.value for s in last.sessions] == ([phase] if phase else [])


def test_a_lost_packet_says_which_session_it_belonged_to() -> None:
    for translate in ("", HIDES):
        for service in ("https", "udp/53"):
            held = talk(hall(translate=translate), service, "data", "wait 3 h", "answer data")
            words = as_text(conversation(held))
            assert "session 1 of gate expired" in words.split("what happened")[0], words
    assert "(time-out-udp: 5 min)" in words


def test_the_headline_is_that_of_the_first_that_fails() -> None:
    held = talk(hall(), "https", "data", "wait 3 h", "answer data")
    words = as_text(conversation(held, ["fin"]))
    assert words.startswith(
        "ann → ben (198.51.100.9), tcp/443: answered at first, but data of ben (3 h after the first packet)\nis DROPPED at gate"
    )
    assert "fin" in words
    assert "not sent: what was before it failed" in words
    answered = as_text(conversation(talk(hall(), "https", "data")))
    assert answered.startswith("ann → ben (198.51.100.9), tcp/443: answered, and data of ann is DELIVERED to ben")


def test_as_data_every_exchange_is_told() -> None:
    held = talk(hall(), "https", "data", "wait 3 h", "answer data")
    made = json.loads(json.dumps(conversation_dict(held, ["fin"])))
    assert [(e["words"], e["at-ms"], e["cause"]) for e in made["exchanges"]] == [
        ("the first packet", 0, "service.open"),
        ("the acknowledgement of ann", 0, "service.open"),
        ("data of ann", 0, "service.open"),
        ("wait 3 h", 10_800_000, None),
        ("data of ben", 10_800_000, "session.expired"),
        ("fin", None, None),
    ]
    assert made["exchanges"][3]["ended"] == [{"device": "gate", "session": 1, "why": "expired", "at-ms": 7_440_000}]
    assert made["cause"] == "session.expired"


@pytest.mark.parametrize(
    ("settings", "then", "cause"),
    [
        ("session-phase: strict", ["answer late"], "session.phase"),
        ("session-phase: loose", ["answer late"], "answer.arrived"),
        (
            "after-reset: revive",
            ["data", "reset", "late"],
            "answer.unasked",
        ),  # the host does not believe it; the firewall passes it
        ("after-reset: end", ["data", "reset", "late"], "session.ended"),
        ("time-out-open: 30 min", ["data", "wait 30 min", "data"], "session.expired"),
        ("time-out-open: never", ["data", "wait 900 d", "data"], "session.part"),
        ("time-out-opening: 10 s", ["wait 10 s", "data"], "session.expired"),
        ("time-out-closing: at once", ["fin", "answer fin", "late"], "session.ended"),
        ("history: 1", ["data", "wait 3 h", "data"], "session.expired"),
    ],
)
def test_settings_of_sessions(settings: str, then: list[str], cause: str) -> None:
    lab = hall(settings)
    if then == ["answer late"]:
        # Nobody acknowledges here: the conversation is told to send late data of the answerer first.
        held = lab.converse(mc.Flow("ann", "ben", "https"), apart=False)
        exchange = held._say(parse_then("answer late", lab.network), parse_then("answer late", lab.network).what)  # type: ignore[arg-type]
    else:
        exchange = talk(lab, "https", *then).exchanges[-1]
    assert exchange.journey is not None
    assert exchange.journey.later is not None
    assert exchange.journey.later.cause == cause


@pytest.mark.parametrize(
    ("limit", "cause"),
    [("session-limit: 2", "session.full"), ("half-open-limit: 2", "session.half-open"), ("session-limit: none", "")],
)
def test_a_full_table_is_a_cause_with_who_holds_it(limit: str, cause: str) -> None:
    lab = hall(limit)
    for _ in range(2):
        assert lab.send(mc.Flow("ann", "ben", "https")).answered
    journey = lab.send(mc.Flow("ann", "ben", "https"))
    assert journey.cause == (cause or "service.open")
    if cause:
        assert "2 are taken, most by 10.41.1.10 (2)" in journey.note
        assert lab.send(mc.Flow("ann", "ben", "udp/53")).answered is (cause == "session.half-open")
        lab.wait(10 * 60_000)
        assert lab.send(mc.Flow("ann", "ben", "https")).answered


@pytest.mark.parametrize(
    ("service", "then", "says"),
    [
        ("https", ["wait 5"], "a wait has a time with its unit"),
        ("https", ["wait"], "a wait has a time with its unit"),
        ("https", ["clear gat"], "there is no device 'gat'"),
        ("https", ["dance"], "is nothing that can follow"),
        ("https", ["answer"], "is nothing that can follow"),
        ("https", [""], "is nothing that can follow"),
        ("https", ["answer again"], "the first packet is the asker's"),
        ("https", ["fin", "data"], "ann has closed its half"),
        ("https", ["answer fin", "answer data"], "ben has closed its half"),
        ("https", ["reset", "answer data"], "the conversation was reset"),
        ("udp/53", ["fin"], "only tcp has that"),
        ("ping", ["reset"], "only tcp has that"),
    ],
)
def test_what_no_host_would_send_is_refused(service: str, then: list[str], says: str) -> None:
    with pytest.raises(QuestionError, match=says):
        talk(hall(), service, *then)


def test_what_was_not_answered_has_no_conversation() -> None:
    lab = hall()
    held = lab.converse(mc.Flow("ben", "ann", "https"))
    assert held.failed is held.first
    with pytest.raises(QuestionError, match="was not answered"):
        held.next(parse_then("data", lab.network))


def test_the_command_stops_at_the_first_that_fails() -> None:
    def run(*arguments: str) -> Result:
        return CliRunner().invoke(main, arguments)

    demo = ["trace", str(DATA / "fernhollow.yaml"), "--from", "kiosk-1", "--to", "almanac", "--service", "https", "--then", "data"]
    assert run(*demo).exit_code == 0
    done = run(*demo, "--then", "wait 3 h", "--then", "answer data", "--then", "fin")
    assert done.exit_code == 1
    assert "[session.expired]" in done.stdout
    assert isinstance(run(*demo, "--then", "wait 3").exception, QuestionError)
    assert isinstance(run(*demo, "--every-path").exception, mc.InputError)


# --- drills ------------------------------------------------------------------------------------------------------


def drilled(lab: mc.Lab, *steps: str) -> list[tuple[bool, str]]:
    """What came of the steps of a drill on the hall."""
    text = "\n".join(["mossy-drill: 1", "network: hall.yaml", "steps:", *(f"  - {s}" for s in steps)])
    source = Source(HALL.replace("#SETTINGS", "").replace("#TRANSLATE", HIDES), "hall.yaml")
    run = Run(Drill("hall", lab.network, steps_of(text.encode(), "hall.drill.yaml", lab.network), source))
    return [(r.ok, r.said) for r in run.results()]


SHOP = "send: {from: ann, to: ben, service: https, as: shop}"


@pytest.mark.parametrize(
    ("steps", "ok"),
    [
        (["expect: {within: shop}"], True),
        (["expect: {within: shop, next: answer data}"], True),
        (["expect: {within: shop, reaches: no}"], False),
        (["expect: {within: shop, next: fin, cause: session.part}"], True),
        (["expect: {within: shop, next: fin, cause: session.expired}"], False),
        (["wait: 4 min", "expect: {within: shop, next: data, cause: session.expired}"], True),
        (["send: {within: shop}", "wait: 4 min", "expect: {within: shop, next: data}"], True),
        (["send: {within: shop, next: data, by: answerer}", "expect: {sessions: gate, is: 1}"], True),
        (["expect: {sessions: gate, is: 2}"], False),
        (["expect: {mappings: gate, is: 1}"], True),
        (["clear: gate", "expect: {sessions: gate, is: 0}", "expect: {mappings: gate, is: 0}"], True),
        (["clear: gate", "expect: {within: shop, fate: dropped, cause: session.ended}"], True),
        # What is tried leaves nothing behind, and going back brings the conversation back as far as it was.
        (["expect: {within: shop, next: fin}", "expect: {within: shop, next: data}"], True),
        (["change: [{rename: {what: devices/ann, to: anna}}]", "expect: {within: shop, next: answer data}"], True),
        (["change: [{rename: {what: devices/gate, to: door}}]", "expect: {sessions: door, is: 1}", "expect: {within: shop}"], True),
        (["keep: then", "send: {within: shop, next: fin}", "back-to: then", "expect: {within: shop, next: data}"], True),
        (
            ["keep: then", "wait: 3 h", "back-to: then", "expect: {within: shop, next: data}", "expect: {sessions: gate, is: 1}"],
            True,
        ),
    ],
)
def test_conversations_in_drills(steps: list[str], ok: bool) -> None:
    results = drilled(hall(translate=HIDES), SHOP, *steps)
    assert all(done for done, _ in results) is ok, results


@pytest.mark.parametrize(
    ("step", "says"),
    [
        ("send: {within: shap}", "no step before began a conversation 'shap'"),
        ("expect: {within: shop, next: wait 3 s}", "sends nothing"),
        ("expect: {within: shop, next: dance}", "nothing that can follow"),
        ("expect: {within: shop, to: ben}", "whose ends are known"),
        ("expect: {within: shop, passes: gate}", "can be expected"),
        ("expect: {within: shop, cause: nonsense}", "there is no cause"),
        ("expect: {next: data, from: ann, to: ben}", "say within"),
        ("expect: {sessions: gate}", "go together"),
        ("expect: {sessions: gatter, is: 1}", "no device 'gatter'"),
        ("expect: {sessions: gate, from: ann, is: 1}", "tests no flow"),
        ("send: {from: ann}", "says from and to"),
        ("send: {within: shop, from: ann, to: ben}", "leave from"),
        ("send: {from: ann, to: ben, as: x, count: 2}", "one flow"),
        ("wait: 5", "no time"),
        ("wait: 2 min 1 h", "no time"),
        ("clear: gatter", "no device 'gatter'"),
    ],
)
def test_steps_that_make_no_sense_are_refused_at_their_place(step: str, says: str) -> None:
    lab = hall()
    with pytest.raises(mc.NetworkFileError, match=says):
        drilled(lab, SHOP, step)


def test_what_follows_and_cannot_be_sent_is_a_broken_step() -> None:
    lab = hall()
    text = (
        "mossy-drill: 1\nnetwork: hall.yaml\nsteps:\n  - "
        + SHOP
        + "\n  - send: {within: shop, next: fin}\n  - expect: {within: shop, reaches: no}\n"
    )
    report = run_drill(Drill("hall", lab.network, steps_of(text.encode(), "hall.drill.yaml", lab.network)))
    assert report.broken
    assert not report.ok
    assert "has closed its half" in report.results[-1].said


# --- tables ------------------------------------------------------------------------------------------------------


def test_tables_show_what_lives_and_what_is_over() -> None:
    lab = hall(translate=HIDES)
    lab.send(mc.Flow("ann", "ben", "https"))
    lab.send(mc.Flow("ann", "ben", "udp/53"))
    lab.wait(250_000)
    over, lives = (as_text_of(list(of_memory(lab.state, "gate", (part,)))) for part in ("sessions", "mappings"))
    assert "1 session lives at gate" in over
    assert "10.41.1.10:40001 > 198.51.100.9:53" in over
    assert "as 198.51.100.2:40001 > 198.51.100.9:53" in over
    assert "4 min 10 s old, 50 s left" in over
    assert "out-list rule 10" in over
    assert "1 session of gate is over" in over
    assert "expired, 10 s ago" in over
    assert "198.51.100.2:40001" in lives
    data = [t.to_dict() for t in of_memory(lab.state, "gate", ("sessions", "mappings"))]
    session = json.loads(json.dumps(data))[0]["rows"][0]
    assert (session["phase"], session["rest-ms"], session["after"]["source"]) == ("replied", 50_000, "198.51.100.2")


def as_text_of(found: list[Rows]) -> str:
    return "\n".join("\n".join([t.about, *("\n".join(r) for r in t.rows)]) for t in found)


def test_the_command_asks_for_something_to_remember() -> None:
    file = str(DATA / "fernhollow.yaml")

    def shown(*arguments: str) -> Result:
        return CliRunner().invoke(main, ["tables", file, "gate", *arguments])

    assert "nothing was sent" in str(shown("sessions").exception)
    assert "is no flow" in str(shown("sessions", "--send", "kiosk-1").exception)
    assert "tables that remember" in str(shown("routes", "--send", "a to b").exception)
    done = shown("sessions", "--send", "kiosk-1 to almanac for https")
    assert done.stdout.startswith("1 session lives at gate:")


# --- a change, and what exists -----------------------------------------------------------------------------------


def changed(lab: mc.Lab, old: str, new: str, settings: str) -> None:
    text = HALL.replace("#SETTINGS", settings).replace("#TRANSLATE", HIDES)
    assert old in text
    found = mc.read_bytes(text.replace(old, new, 1).encode(), "hall.yaml")
    assert found.network is not None, found.problems
    lab.change(found.network)


DENIES = ("out-list: [{permit: any}]", "out-list: [{deny: tcp, service: https}, {permit: any}]")
ELSEWHERE_NOW = ("translate: [{leaving: out}]", "translate: [{leaving: out, becomes: 198.51.100.3}]")
NOTHING = ("{permit: any}", "{permit: any, about: the same}")
MORE = ("in-list: [{deny", "in-list: [{permit: udp}, {deny")


@pytest.mark.parametrize(
    ("setting", "change", "cause"),
    [
        ("after-rule-change: keep", DENIES, "session.part"),
        ("after-rule-change: judge", DENIES, "session.recalled"),
        ("after-rule-change: clear", DENIES, "session.ended"),
        ("after-rule-change: judge", MORE, "session.part"),
        ("after-rule-change: clear", MORE, "session.ended"),
        ("after-rule-change: judge", ELSEWHERE_NOW, "session.part"),
        ("after-translation-change: keep", ELSEWHERE_NOW, "session.part"),
        ("after-translation-change: judge", ELSEWHERE_NOW, "session.recalled"),
        ("after-translation-change: clear", ELSEWHERE_NOW, "session.ended"),
        ("after-translation-change: judge", DENIES, "session.part"),
        ("after-route-change: clear", DENIES, "session.part"),
    ],
    ids=lambda v: v if isinstance(v, str) else v[1][:40],
)
def test_what_a_change_does_to_what_exists(setting: str, change: tuple[str, str], cause: str) -> None:
    lab = hall(setting, HIDES)
    held = talk(lab, "https", "data")
    changed(lab, *change, setting)
    (exchange,) = held.next(parse_then("data", lab.network))
    assert exchange.journey is not None
    assert exchange.journey.later is not None
    assert exchange.journey.later.cause == cause
    if cause == "session.recalled":
        assert "judged again after a change of its" in str(exchange.journey)
    if cause == "session.part" and "judge" in setting:  # it was judged, and is in doubt no longer
        assert not lab.state.sessions("gate")[0].doubts


TWO_WAYS = """\
mossy-network: 1
devices:
  gate:
    kind: router
    stateful: [tcp]
    settings: {after-route-change: judge}
    interfaces: {in: 10.41.1.1/24, out: 198.51.100.2/24, other: 203.0.113.2/24}
    routes: [{prefix: 192.0.2.0/24, next-hop: 198.51.100.1}]
    translate: [{leaving: out}, {leaving: other}]
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  far: {kind: router, interfaces: {a: 198.51.100.1/24, b: 203.0.113.1/24, c: 192.0.2.1/24}}
  ben: {kind: host, address: 192.0.2.9/24, gateway: 192.0.2.1, serves: [https]}
segments: {x: [gate/in, ann], y: [gate/out, far/a], z: [gate/other, far/b], w: [far/c, ben]}
"""


def said_after(*texts: str) -> str:
    """What is said of more data of a conversation when the first of two networks has become the second."""
    before, after = (mc.read_bytes(text.encode(), "ways.yaml").network for text in texts)
    assert before is not None
    assert after is not None
    lab = mc.Lab(before)
    held = talk(lab, "https", "data")
    lab.change(after)
    (exchange,) = held.next(parse_then("data", lab.network))
    return " ".join(str(exchange.journey).split())


def test_what_goes_another_way_after_a_change_of_routes_is_judged_for_that_alone() -> None:
    """That it would get another source there is no reason of its own, as no translation was changed."""
    said = said_after(TWO_WAYS, TWO_WAYS.replace("next-hop: 198.51.100.1", "next-hop: 203.0.113.1"))
    assert "judged again after a change of its routes" in said


def test_a_session_whose_interface_is_no_more_ends_at_once() -> None:
    text = TWO_WAYS.replace("after-route-change", "after-rule-change")
    renamed = text.replace("{in: 10.41.1.1/24", "{inner: {address: 10.41.1.1/24, filter: {arriving: l}}").replace(
        "gate/in", "gate/inner"
    )
    renamed = renamed.replace("devices:", "lists: {l: [{permit: any}]}\ndevices:", 1)
    assert "ended, as its interface is gone" in said_after(text, renamed)


def test_judging_waits_for_the_next_packet_and_is_undone_with_it() -> None:
    setting = "after-rule-change: judge"
    lab = hall(setting, HIDES)
    lab.talks["shop"] = talk(lab, "https", "data")
    changed(lab, *DENIES, setting)
    assert [sorted(s.doubts) for s in lab.state.sessions("gate")] == [["rules"]]
    assert not lab.try_next("shop", parse_then("data", lab.network)).ok
    assert [sorted(s.doubts) for s in lab.state.sessions("gate")] == [["rules"]]  # it was only tried
    changed(lab, *MORE, setting)
    assert lab.try_next("shop", parse_then("data", lab.network)).ok  # by the rules of now, not by those in between


def test_windows_of_time_open_and_close_while_a_conversation_goes_on() -> None:
    """What opens anew after a while is judged by the rules of that hour; a session that lives on is not judged again."""
    text = HALL.replace("#SETTINGS", "").replace("#TRANSLATE", "").replace("{permit: any}]", "{permit: any, hours: [day]}]", 1)
    text += 'hours: {day: {from: "08:00", until: "18:00", zone: UTC}}\n'
    found = mc.read_bytes(text.encode(), "hall.yaml")
    assert found.network is not None, found.problems
    at = parse_moment("2026-05-04T17:55Z")
    for waits, cause in (("4 min", "service.open"), ("10 min", "filter.end")):
        lab = mc.Lab(found.network)
        held = lab.converse(mc.Flow("ann", "ben", "udp/53", Options(at=at)))
        held.next(parse_then(f"wait {waits}", lab.network))
        (exchange,) = held.next(parse_then("data", lab.network))
        assert exchange.journey is not None
        assert exchange.journey.later is not None
        assert exchange.journey.later.cause == cause


TWO_DOORS = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
    stateful: tcp
    settings: {inbound: permit, session-interfaces: #WHICH}
    interfaces:
      in: {address: 10.41.1.1/24, outside: no}
      left: {address: 10.41.2.1/24, outside: yes}
      right: {address: 10.41.3.1/24, outside: yes}
    routes: [{prefix: 10.41.9.0/24, next-hop: 10.41.2.2}]
  far: {kind: router, interfaces: {l: 10.41.2.2/24, r: 10.41.3.2/24, h: 10.41.9.1/24}, routes: [{prefix: 10.41.1.0/24, next-hop: #BACK}]}
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  ben: {kind: host, address: 10.41.9.10/24, gateway: 10.41.9.1, serves: [https]}
segments: {x: [gate/in, ann], l: [gate/left, far/l], r: [gate/right, far/r], h: [far/h, ben]}
"""


@pytest.mark.parametrize(
    ("which", "back", "cause"),
    [("any", "10.41.3.1", "service.open"), ("same", "10.41.3.1", "session.interface"), ("same", "10.41.2.1", "service.open")],
)
def test_whether_a_session_is_bound_to_its_interfaces(which: str, back: str, cause: str) -> None:
    found = mc.read_bytes(TWO_DOORS.replace("#WHICH", which).replace("#BACK", back).encode(), "doors.yaml")
    assert found.network is not None, found.problems
    journey = mc.trace(mc.Plan(found.network), "ann", "ben", "https")
    assert journey.cause == cause
    if cause == "session.interface":
        assert journey.note == "session 1 of gate has its packets by left, and this one came by right"


def test_who_opens_anew_behind_a_translation_may_be_somebody_else() -> None:
    """A datagram after its mapping is gone gets another outer port where its own was given away: the far end sees a stranger."""
    lab = hall(translate=HIDES)
    held = lab.converse(mc.Flow("ann", "ben", "udp/53"), apart=False)
    lab.wait(5 * 60_000)
    assert lab.send(mc.Flow("gate", "ben", "udp/53", Options(source_port=49152, source="198.51.100.2"))).answered
    (exchange,) = held.next(parse_then("data", lab.network))
    assert exchange.ok
    assert exchange.seen_as == "198.51.100.2:1024"
    assert "seen as 198.51.100.2:1024 by now, as somebody else" in as_text(conversation(held))
    other = hall(translate=HIDES)
    same = other.converse(mc.Flow("ann", "ben", "udp/53"), apart=False)
    assert same.next(parse_then("data", other.network))[0].seen_as == ""


def test_a_device_that_is_renamed_remembers_what_it_remembered() -> None:
    lab = hall(translate=HIDES)
    held = talk(lab, "https", "data")
    text = HALL.replace("#SETTINGS", "").replace("#TRANSLATE", HIDES).replace("gate:", "door:").replace("gate/", "door/")
    found = mc.read_bytes(text.encode(), "hall.yaml")
    assert found.network is not None
    kept = lab.state.keep()
    lab.change(found.network, [("devices/gate", "door")])
    assert [s.number for s in lab.state.sessions("door")] == [1]
    assert held.next(parse_then("data", lab.network))[0].ok
    assert [e.session.device for e in lab.wait(124 * 60_000)] == ["door"]
    lab.state.back_to(kept)
    assert [s.number for s in lab.state.sessions("gate")] == [1]
    assert lab.state.sessions("door") == []


LOGGED = """\
mossy-network: 1
devices:
  inner: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  gate:
    kind: firewall
    interfaces: {inside: {address: 10.40.1.1/24, filter: {arriving: out-list}}, outside: 203.0.113.2/24}
    settings: {history: 5}
  depot: {kind: host, address: 203.0.113.9/24, gateway: 203.0.113.2, serves: [https, ssh]}
segments: {house: [inner, gate/inside], world: [gate/outside, depot]}
lists:
  out-list: {rules: [{id: told, permit: tcp, service: https, log: notice}, {id: mute, permit: tcp, service: ssh}]}
"""


@pytest.mark.parametrize(
    ("service", "then", "options", "wanted"),
    [
        ("https", ["data", "wait 3 h"], [], [("08:30:00", "permitted"), ("10:34:00", "session-ended")]),
        ("https", ["data", "wait 1 h", "clear gate"], [], [("08:30:00", "permitted"), ("09:30:00", "session-ended")]),
        ("https", ["data", "wait 1 h"], [], [("08:30:00", "permitted")]),
        ("ssh", ["data", "wait 3 h"], [], []),
        ("https", ["wait 3 h"], ["--log-from", "depot"], []),
        ("https", ["wait 3 h"], ["--log-to", "depot"], [("08:30:00", "permitted"), ("08:34:00", "session-ended")]),
    ],
)
def test_log_lines_of_what_follows_have_their_own_times_and_sessions_end_in_a_line(
    tmp_path: Path, service: str, then: list[str], options: list[str], wanted: list[tuple[str, str]]
) -> None:
    """One line for a session that ends, at the instant of its end, where the rule that let it in logs."""
    file, log = tmp_path / "n.yaml", tmp_path / "out.log"
    file.write_text(LOGGED)
    words = [w for t in then for w in ("--then", t)]
    at = ["--at", "2026-05-04T10:30+02:00", "--log", str(log), *options]
    asked = CliRunner().invoke(main, ["trace", str(file), "--from", "inner", "--to", "depot", "--service", service, *words, *at])
    assert asked.exit_code == 0, asked.output
    lines = log.read_text().splitlines()
    assert [(x.split("T")[1].split("Z")[0], x.split(" ")[5]) for x in lines] == wanted
    for line in lines[1:]:
        assert 'list="out-list" rule="told"' in line
        assert f'packets="{4 if "data" in then else 2}"' in line


def test_without_a_date_log_lines_have_the_nil_time(tmp_path: Path) -> None:
    file, log = tmp_path / "n.yaml", tmp_path / "out.log"
    file.write_text(LOGGED)
    call = ["trace", str(file), "--from", "inner", "--to", "depot", "--service", "https", "--then", "wait 3 h", "--log", str(log)]
    assert CliRunner().invoke(main, call).exit_code == 0
    assert [x.split(" ")[1] for x in log.read_text().splitlines()] == ["-", "-"]
