"""Probes: what they ask and find, what waits for them, when their verdicts fall, and that what is never at rest has an end."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from click.testing import CliRunner

import mossy_compass as mc
from mossy_compass.cli.main import main
from mossy_compass.errors import QuestionError
from mossy_compass.files.edit import Editor
from mossy_compass.lab.conversation import parse_then
from mossy_compass.walk.weather import in_weather, outcome, settled

WATCHED = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
    stateful: [tcp, udp, icmp]
#SETTINGS
    interfaces:
      house: {address: 10.41.1.1/24, outside: no}
      fibre: {address: 198.51.100.2/30, outside: yes}
      radio: {address: 198.51.100.6/30, outside: yes}
    probes:
#PROBES
    uplinks: {out: [#MEMBERS]}
    routes:
#ROUTES
    policy-routes: [#ENTRIES]
    translate: [{leaving: fibre}, {leaving: radio}]
  isp: {kind: router, interfaces: {gate: 198.51.100.1/30, up: 192.0.2.1/30}, routes: [{prefix: default, next-hop: 192.0.2.2}]}
  core:
    kind: router
    interfaces: {isp: 192.0.2.2/30, air: 198.51.100.5/30, net: 203.0.113.1/24}
    routes: [{prefix: 198.51.100.0/30, next-hop: 192.0.2.1}]
  press: {kind: host, address: 203.0.113.20/24, gateway: 203.0.113.1, serves: [http, ssh]}
  desk: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
segments:
  house: [gate/house, desk]
  fibre: {members: [gate/fibre, isp/gate], latency: 2}
  far: {members: [isp/up, core/isp], latency: 3, jitter: 1, loss: 10#FAR}
  radio: {members: [gate/radio, core/air], latency: 40}
  net: [core/net, press]
"""
NORTH = "north: {target: press, by: fibre}"
BOUND = ("{prefix: default, next-hop: 198.51.100.1, while: north}", "{prefix: default, next-hop: 198.51.100.5, metric: 9}")
PLAIN = ("{prefix: default, next-hop: 198.51.100.1}", "{prefix: default, next-hop: 198.51.100.5, metric: 9}")


def text(probes: tuple[str, ...] = (NORTH,), routes: tuple[str, ...] = BOUND, **parts: str) -> str:
    filled = {"SETTINGS": "", "MEMBERS": "fibre, radio", "ENTRIES": "", "FAR": "", **parts}
    filled["SETTINGS"] = filled["SETTINGS"] and f"    settings: {{{filled['SETTINGS']}}}"
    made = WATCHED.replace("#PROBES", "\n".join(f"      {p}" for p in probes)).replace(
        "#ROUTES", "\n".join(f"      - {r}" for r in routes)
    )
    for key, value in filled.items():
        made = made.replace(f"#{key}", value)
    return made


def watched(*args: object, **parts: str) -> mc.Network:
    found = mc.read_bytes(text(*args, **parts).encode(), "watched.yaml")  # type: ignore[arg-type]
    assert found.network is not None, found.problems
    return found.network


def left_by(journey: mc.Journey) -> str:
    """The interface by which the way there left the gate."""
    return next((h.leaving or "" for h in journey.there.hops if h.device == "gate" and h.next_device), "")


CUT = {"FAR": ", state: down"}
WAYS = [
    # probes, routes, further parts, the interface it leaves by
    ((NORTH,), BOUND, {}, "fibre"),
    ((NORTH,), BOUND, CUT, "radio"),
    ((NORTH,), PLAIN, CUT, "fibre"),  # nothing waits for it
    (("north: {target: 198.51.100.1, by: fibre}",), BOUND, CUT, "fibre"),  # it asks too near
    (("north: {target: press, service: ssh, by: fibre}",), BOUND, {}, "fibre"),
    (("north: {target: press, service: tcp/9, by: fibre}",), BOUND, {}, "radio"),  # refused is not answered
    # limits: 2 * (2 + 3) ms, jitter 2 ms, loss 1 - 0.9 * 0.9
    (("north: {target: press, by: fibre, latency: 10, jitter: 2, loss: 19}",), BOUND, {}, "fibre"),
    (("north: {target: press, by: fibre, latency: 9.9}",), BOUND, {}, "radio"),
    (("north: {target: press, by: fibre, jitter: 1.9}",), BOUND, {}, "radio"),
    (("north: {target: press, by: fibre, loss: 18.9}",), BOUND, {}, "radio"),
    (("north: {target: press, by: fibre, every: 1 s, reply-within: 10 ms}",), BOUND, {}, "fibre"),
    (("north: {target: press, by: fibre, every: 1 s, reply-within: 9 ms}",), BOUND, {}, "radio"),
    # switched off
    (("north: {target: press, by: fibre, enabled: no}",), BOUND, {}, "radio"),
    (("north: {target: press, by: fibre, enabled: no}",), BOUND, {"SETTINGS": "switched-off-probe: up"}, "fibre"),
    # candidates, and members of uplinks
    ((NORTH,), PLAIN[1:], {"ENTRIES": "{candidates: [{next-hop: 198.51.100.1, while: north}]}"}, "fibre"),
    ((NORTH,), PLAIN[1:], {"ENTRIES": "{candidates: [{next-hop: 198.51.100.1, while: north}]}", **CUT}, "radio"),
    ((NORTH,), PLAIN, {"ENTRIES": "{candidates: [{uplink: out}]}", "MEMBERS": "{leaving: fibre, while: north}, radio", **CUT}, "radio"),
    ((NORTH,), PLAIN, {"ENTRIES": "{candidates: [{uplink: out}]}", "MEMBERS": "{leaving: fibre, while: north}, radio"}, "fibre"),
    # a route by a group, whose only member waits; its probe asks the other end, as the route does
    ((NORTH,), ("{prefix: default, leaving: out}", PLAIN[1]), {"MEMBERS": "{leaving: fibre, while: north}", "SETTINGS": "interface-route: peer"}, "fibre"),
    ((NORTH,), ("{prefix: default, leaving: out}", PLAIN[1]),
     {"MEMBERS": "{leaving: fibre, while: north}", "SETTINGS": "interface-route: peer", **CUT}, "radio"),
]  # fmt: skip


@pytest.mark.parametrize(("probes", "routes", "parts", "way"), WAYS)
def test_what_waits_for_a_probe_is_used_while_it_is_up(
    probes: tuple[str, ...], routes: tuple[str, ...], parts: dict[str, str], way: str
) -> None:
    network = watched(probes, routes, **parts)
    journey = mc.trace(network, "desk", "press", "http")
    assert left_by(journey) == way
    assert journey.answered is (way == "radio" or "state" not in parts.get("FAR", ""))
    # A lab begins at the same rest, and a plan that was asked once gives the same answer.
    assert left_by(mc.Lab(network).test(mc.Flow("desk", "press", "http"))) == way
    assert left_by(mc.trace(mc.Plan(network), "desk", "press", "http")) == way


def test_a_probe_asks_by_its_interface_and_gateway_whatever_is_in_use() -> None:
    plan = in_weather(mc.Plan(watched(FAR=", state: down")))
    assert plan.network.down == frozenset({("gate", "north")})
    found = outcome(plan, ("gate", "north"))
    assert [(h.device, h.arriving) for h in found.journey.there.hops][:2] == [("gate", None), ("isp", "gate")]
    assert not found.ok
    assert "segment far is cut" in found.why


def test_the_trace_says_which_route_waits_for_which_probe() -> None:
    journey = mc.trace(watched(FAR=", state: down"), "desk", "press", "http")
    assert "its default route (static) is inactive: probe north is down (watched.yaml:" in journey.explain().replace(
        "\n           ", " "
    )
    assert "probe north" not in mc.trace(watched(), "desk", "press", "http").explain()


def test_detection_takes_its_stated_time() -> None:
    lab = mc.Lab(watched(("north: {target: press, by: fibre, every: 5 s, reply-within: 1 s, down-after: 3, up-after: 2}",)))

    def way() -> str:
        return left_by(lab.test(mc.Flow("desk", "press", "http")))

    lab.wait(2000)
    lab.fail("link far")  # asked at 5, 10 and 15 s; the last is known to have failed at 16 s
    for until, wanted in ((15_999, "fibre"), (16_000, "radio")):
        lab.wait(until - lab.state.now)
        assert way() == wanted
    assert [(v.at, v.up) for v in lab.verdicts] == [(16_000, False)]
    lab.restore()  # asked at 20 and 25 s; an answer takes 10 ms
    for until, wanted in ((25_009, "radio"), (25_010, "fibre")):
        lab.wait(until - lab.state.now)
        assert way() == wanted


def test_a_failure_between_two_questions_goes_unseen_and_a_streak_that_breaks_begins_anew() -> None:
    lab = mc.Lab(watched())
    lab.wait(6000)
    lab.fail("link far")
    lab.wait(3000)
    lab.restore()
    lab.wait(60_000)
    assert lab.verdicts == []
    lab.fail("link far")
    lab.wait(10_000)  # two failures
    assert lab.watch.statuses["gate", "north"].streak == 2
    lab.restore()
    lab.wait(5000)
    assert lab.watch.statuses["gate", "north"].streak == 0
    lab.fail("link far")
    lab.wait(10_000)
    assert lab.verdicts == []


def test_what_comes_too_late_is_known_to_fail_when_it_was_waited_for() -> None:
    slow = ("north: {target: press, by: fibre, reply-within: 20 ms}",)
    lab = mc.Lab(watched(slow))
    late = mc.read_bytes(text(slow).replace("latency: 3,", "latency: 30,").encode(), "n.yaml").network
    assert late is not None
    lab.change(late)
    lab.settle()
    assert [(v.at, v.up) for v in lab.verdicts] == [(15_020, False)]


def test_a_probe_asks_the_gateway_of_the_longest_prefix() -> None:
    made = text(
        routes=("{prefix: default, next-hop: 198.51.100.35, while: north}", "{prefix: 203.0.113.0/24, next-hop: 198.51.100.33}")
    )
    made = made.replace("198.51.100.2/30", "198.51.100.34/28").replace("198.51.100.1/30", "198.51.100.33/28")
    network = mc.read_bytes(made.replace("198.51.100.0/30", "198.51.100.32/28").encode(), "n.yaml").network
    assert network is not None
    assert in_weather(mc.Plan(network)).network.down == frozenset()


def test_a_moment_is_gone_back_to_with_its_probes() -> None:
    lab = mc.Lab(watched())
    lab.keep("whole")
    lab.fail("link far")
    lab.wait(60_000)
    assert lab.watch.down
    lab.back_to("whole")
    assert not lab.watch.down
    assert left_by(lab.test(mc.Flow("desk", "press", "http"))) == "fibre"


def test_years_without_an_event_cost_nothing_and_a_circle_has_an_end() -> None:
    lab = mc.Lab(watched(("north: {target: press, by: fibre, every: 10 ms, reply-within: 10 ms}",)))
    lab.wait(10 * 365 * 86_400_000)
    assert lab.verdicts == []
    # Each is asked by the way that the other one decides, the wrong way round: neither comes to rest.
    flapping = watched(
        ("north: {target: press, every: 10 ms, reply-within: 10 ms, down-after: 1, up-after: 1}",),
        ("{prefix: default, next-hop: 198.51.100.5, while: north}", "{prefix: default, next-hop: 198.51.100.1, metric: 9}"),
        FAR=", state: up",
    )
    found = settled(mc.Plan(flapping))
    assert (found.circle, found.period) == ((("gate", "north"),), 2)  # by the radio it takes 80 ms, too long; by the fibre 10
    assert "probe.flaps" in {p.code for p in mc.findings(mc.Plan(flapping))}
    lab = mc.Lab(flapping)
    with pytest.raises(QuestionError, match="without coming to rest"):
        lab.wait(86_400_000)
    with pytest.raises(QuestionError, match="do not come to rest"):
        mc.Lab(flapping).settle()


FINDINGS = [
    (text(), []),
    (text(FAR=", state: down"), ["probe.down"]),
    (text(("north: {target: press}",)), []),  # while it is down it is asked over the radio, and answered: it comes up again
    (text(("north: {target: press}",), BOUND[:1]), ["probe.latched"]),  # once down, there is no way to ask by
    # once down it is asked over the radio, answered, up again, and asked over the fibre
    (text(("north: {target: press}",), FAR=", state: down"), ["probe.flaps"]),
    (text((NORTH,), BOUND[:1]), []),
    (text(("north: {target: press, enabled: no}",)), ["probe.off", "route.inactive"]),
    (text(("north: {target: press, enabled: no}",), PLAIN), []),
    (text((NORTH, "idle: {target: press, by: radio}")), ["idle.unused"]),
]


@pytest.mark.parametrize(("made", "codes"), FINDINGS)
def test_what_is_said_of_probes(made: str, codes: list[str]) -> None:
    found = mc.read_bytes(made.encode(), "n.yaml")
    assert found.network is not None, found.problems
    told = [*found.problems, *mc.findings(mc.Plan(found.network))]
    assert sorted({p.code for p in told if "probe" in p.message and p.code != "subnet.no-way-back"}) == (
        codes if codes else ["idle.unused"] if "while" not in made else []
    )


def test_a_latched_probe_stays_down_for_good() -> None:
    lab = mc.Lab(watched(("north: {target: press}",), BOUND[:1]))
    lab.fail("link far")
    lab.wait(60_000)
    lab.restore()
    lab.wait(3_600_000)
    assert lab.watch.down == {("gate", "north")}


@pytest.mark.parametrize(
    ("made", "says"),
    [
        (text(("north: {target: press, every: 5}",)), "write 500 ms, 5 s"),
        (text(("north: {target: press, every: 0 s}",)), "no time above nothing"),
        (text(("north: {target: press, every: 11000 d}",)), "at most ten years"),
        (text(("north: {target: press, every: 1 s, reply-within: 2 s}",)), "no longer than every"),
        (text(("north: {by: fibre}",)), "'target' is missing"),
        (text(("north: {target: house, by: fibre}",)), "a probe asks one host"),
        (text(("north: {target: 10.41.1.1, by: fibre}",)), "it always answers itself"),
        (text(("north: {target: press, by: fiber}",)), "fibre"),
        (text(("north: {target: press, service: tcp/99999}",)), "99999"),
        (text(("nrth: {target: press}",)), "gate has no probe 'north'"),
        (text(ENTRIES="{candidates: [{next-hop: 198.51.100.5, while: nort}]}"), "gate has no probe 'nort'"),
        (text(MEMBERS="{leaving: fibre, while: nort}"), "gate has no probe 'nort'"),
    ],
)
def test_what_a_probe_cannot_be_is_refused(made: str, says: str) -> None:
    found = mc.read_bytes(made.encode(), "n.yaml")
    assert found.network is None
    assert any(says in p.message + p.remedy for p in found.errors), found.errors


DRILL = """\
mossy-drill: 1
network: watched.yaml
steps:
  - fail: link far
  - wait: 12 s
  - expect: {probe: gate/north, verdict: up}
  - settle: yes
  - expect: {probe: gate/north, verdict: down}
  - expect: {that: desk reaches press for http, exit: gate/radio}
  - restore: link far
  - settle: yes
  - expect: {probe: gate/north, verdict: down}
"""


def run(*arguments: str) -> tuple[int, str]:
    done = CliRunner().invoke(main, arguments)
    return done.exit_code, " ".join(done.output.split())


def test_drills_and_tables_tell_it(tmp_path: Path) -> None:
    (tmp_path / "watched.yaml").write_text(text())
    (tmp_path / "d.yaml").write_text(DRILL)
    code, said = run("drill", str(tmp_path / "d.yaml"))
    assert code == 1
    assert "1 of 4 expectations does not hold" in said
    assert "at rest after 4 s; probe north of gate went down 4 s later (no answer: isp/up is down: segment far is cut" in said
    assert "it should be down, and is up" in said
    (tmp_path / "e.yaml").write_text(DRILL.partition("  - settle")[0])
    code, said = run("tables", str(tmp_path / "watched.yaml"), "gate", "probes", "--after", str(tmp_path / "e.yaml"))
    assert "still up: 2 of 3 failures" in said
    assert "default route" in said
    code, said = run("tables", str(tmp_path / "watched.yaml"), "gate", "probes", "--format", "json")
    assert json.loads(said)["tables"][0]["rows"]
    assert run("tables", str(tmp_path / "watched.yaml"), "desk", "probes")[1].startswith("desk has no probes")
    wrong = DRILL.replace("gate/north, verdict: up", "gate/nort, verdict: up")
    (tmp_path / "f.yaml").write_text(wrong)
    assert "Did you mean gate/north" in run("drill", str(tmp_path / "f.yaml"))[1]


def test_a_change_of_what_is_in_use_is_a_change_of_routes_to_sessions() -> None:
    for value, living in (("keep", 1), ("clear", 0)):
        lab = mc.Lab(watched(SETTINGS=f"after-route-change: {value}"))
        assert lab.send(mc.Flow("desk", "press", "http")).answered
        lab.fail("link far")
        lab.wait(60_000)
        assert len(lab.state.sessions("gate")) == living


def test_a_failure_that_only_a_probe_notices_is_not_passed_over(tmp_path: Path) -> None:
    """The flow ends before the cable that fails, and goes another way all the same."""
    (tmp_path / "watched.yaml").write_text(text(SETTINGS="answers-ping: yes"))
    arguments = ("--from", "desk", "--to", "192.0.2.1", "--format", "json")
    _, said = run("what-if", str(tmp_path / "watched.yaml"), *arguments)
    found = [c for c in json.loads(said)["failures"] if c["without"] == ["link net"]]
    assert [len(c["another-way"]) for c in found] == [1]
    lab = mc.Lab(watched())
    flows = [mc.Flow("desk", "192.0.2.1", "ping")]
    lab.keep("whole", flows)
    lab.fail("link net")
    assert not lab.compare("whole", flows).rerouted  # nothing has noticed yet
    lab.settle()
    (moved,) = lab.compare("whole", flows).rerouted
    assert [c.path for c in moved] == [("desk", "gate", "isp"), ("desk", "gate", "core", "isp")]


@pytest.mark.parametrize(
    ("value", "cause", "seen"),
    [("keep", "", "198.51.100.2"), ("cut", "session.uplink", ""), ("move", "answer.unasked", "198.51.100.6")],
)
def test_what_was_translated_by_an_uplink_that_is_lost(value: str, cause: str, seen: str) -> None:
    lab = mc.Lab(watched(SETTINGS=f"flows-of-a-lost-uplink: {value}"))
    held = lab.converse(mc.Flow("desk", "press", "http"))
    assert held.next(parse_then("data", lab.network))[-1].ok
    lab.fail("link far")
    lab.settle()
    (later,) = held.next(parse_then("data", lab.network))
    assert later.journey is not None
    leg = later.journey.later
    assert leg is not None
    assert [h.leaving for h in leg.hops if h.device == "gate"] == ["radio"]
    if value == "move":  # the far end knows nobody of that address; what is sent by the device is a session all the same
        assert (later.journey.cause, str(leg.arrived.source)) == (cause, seen)
        assert "session 1 of gate moved from fibre to radio, so that the far end sees another address" in str(later.journey)
        (one,) = lab.state.sessions("gate")
        assert (one.number, one.leaving, one.packets) == (2, "radio", 2)
        assert [e.why for e in lab.state.ended("gate")] == ["moved"]
        assert lab.state.counts("gate") == (1, 0)
    elif cause:
        assert later.journey.cause == cause
        assert "session 1 left by fibre before" in later.journey.note
        assert not lab.state.sessions("gate")
    else:
        assert later.ok
        assert str(leg.arrived.source) == seen
        assert any("which left by fibre before" in r.because.words for h in leg.hops for r in h.rulings)
    # A new conversation has the right address either way.
    assert lab.send(mc.Flow("desk", "press", "http")).seen_as.startswith("198.51.100.6:")


def test_a_flow_that_nobody_remembers_far_away_goes_on_by_the_other_uplink_and_is_gone_back_to() -> None:
    lab = mc.Lab(watched(SETTINGS="flows-of-a-lost-uplink: move"))
    held = lab.converse(mc.Flow("desk", "press", "ping"))
    lab.keep("before")
    state = lab.state.__getstate__()
    lab.fail("link far")
    lab.settle()
    again = held.next(parse_then("again", lab.network))[-1]
    assert again.journey is not None
    assert again.ok
    assert again.journey.seen_as == "198.51.100.6"
    (one,) = lab.state.sessions("gate")
    assert (one.leaving, one.number) == ("radio", 2)
    lab.restore()
    lab.settle()
    assert held.next(parse_then("again", lab.network))[-1].ok  # and home again
    assert [s.leaving for s in lab.state.sessions("gate")] == ["fibre"]
    lab.back_to("before")
    assert lab.state.__getstate__() == state


@pytest.mark.parametrize("value", ["cut", "move"])
def test_a_session_that_leaves_as_before_strays_nowhere(value: str) -> None:
    lab = mc.Lab(watched(SETTINGS=f"flows-of-a-lost-uplink: {value}"))
    held = lab.converse(mc.Flow("desk", "press", "http"))
    for words in ("data", "answer data", "fin", "answer fin"):
        assert held.next(parse_then(words, lab.network))[-1].ok


def test_a_probe_that_is_renamed_is_bound_to_by_its_new_name() -> None:
    made = Editor(
        text((NORTH,), BOUND, MEMBERS="{leaving: fibre, while: north}", ENTRIES="{candidates: [{uplink: out, while: north}]}")
    )
    made.rename("devices/gate/probes/north", "south")
    assert "north:" not in made.text
    assert made.text.count("while: south") == 3
    assert mc.read_bytes(made.text.encode(), "n.yaml").network is not None
