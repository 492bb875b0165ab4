"""Every setting with every value: one small network, one packet, and what the value changes."""

from __future__ import annotations

from typing import Any

import pytest

import mossy_compass as mc
from mossy_compass.model.settings import SETTINGS, TIME_OUTS

# left - r - right, with r's keys and the lists to be filled in
BASE = """\
mossy-network: 1
lists:
  empty: []
  web: [{permit: tcp, service: https}]
  no-tcp: [{reject: tcp}, {permit: any}]
devices:
  r:
    kind: KIND
    stateful: STATEFUL
    interfaces:
      a: {address: 10.40.1.1/24, filter: {LEFT}}
      b: {address: 10.40.2.1/24, filter: {RIGHT}}
      spare: {address: 10.40.3.1/24}
    translate: TRANSLATE
    settings: {SETTING}
  left: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1, serves: [https]}
  right: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https], settings: {HOST}}
segments:
  a: [left, r/a]
  b: [right, r/b]
"""


def network(**parts: str) -> mc.Plan:
    text = BASE
    filled = {"KIND": "router", "STATEFUL": "none", "LEFT": "", "RIGHT": "", "TRANSLATE": "[]", "SETTING": "", "HOST": "", **parts}
    for key in sorted(filled, key=len, reverse=True):
        text = text.replace(f"{{{key}}}", f"{{{filled[key]}}}").replace(f": {key}\n", f": {filled[key]}\n")
    reading = mc.read_bytes(text.encode(), "s.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    return mc.Plan(reading.network)


# setting, value, further parts, (from, to, service, options), fate, cause, symptom
CASES: list[tuple[str, str, dict[str, str], tuple[Any, ...], str, str, str]] = [
    ("forwarding", "yes", {}, ("left", "right", "https"), "delivered", "service.open", "answered"),
    ("forwarding", "no", {}, ("left", "right", "https"), "dropped", "forwarding.off", "silence"),
    ("end-of-list", "deny", {"LEFT": "arriving: web"}, ("left", "right", "ping"), "dropped", "filter.end", "silence"),
    ("end-of-list", "reject", {"LEFT": "arriving: web"}, ("left", "right", "ping"), "rejected", "filter.end", "unreachable"),
    ("end-of-list", "permit", {"LEFT": "arriving: web"}, ("left", "right", "ping"), "delivered", "echo.answered", "answered"),
    ("empty-list", "ignore", {"LEFT": "arriving: empty"}, ("left", "right", "ping"), "delivered", "echo.answered", "answered"),
    ("empty-list", "permit", {"LEFT": "arriving: empty"}, ("left", "right", "ping"), "delivered", "echo.answered", "answered"),
    ("empty-list", "deny", {"LEFT": "arriving: empty"}, ("left", "right", "ping"), "dropped", "filter.empty", "silence"),
    ("no-list", "permit", {}, ("left", "right", "ping"), "delivered", "echo.answered", "answered"),
    ("no-list", "deny", {}, ("left", "right", "ping"), "dropped", "filter.none", "silence"),
    ("own-packets", "pass", {"RIGHT": "leaving: web"}, ("r", "right", "ping"), "delivered", "echo.answered", "answered"),
    ("own-packets", "filtered", {"RIGHT": "leaving: web"}, ("r", "right", "ping"), "dropped", "filter.end", "silence"),
    ("to-self", "permit", {}, ("left", "r", "ping"), "delivered", "echo.answered", "answered"),
    ("to-self", "deny", {}, ("left", "r", "ping"), "dropped", "self.closed", "silence"),
    ("from-self", "permit", {}, ("r", "left", "ping"), "delivered", "echo.answered", "answered"),
    ("from-self", "deny", {}, ("r", "left", "ping"), "dropped", "self.mute", "silence"),
    ("answers-ping", "yes", {}, ("left", "r", "ping"), "delivered", "echo.answered", "answered"),
    ("answers-ping", "no", {}, ("left", "r", "ping"), "delivered", "echo.ignored", "silence"),
    ("closed-port", "refuse", {}, ("left", "r", "tcp/22"), "refused", "service.closed", "refused"),
    ("closed-port", "refuse", {}, ("left", "r", "udp/22"), "refused", "service.closed", "refused"),
    ("closed-port", "silent", {}, ("left", "r", "tcp/22"), "dropped", "service.silent", "silence"),
    ("sends-unreachable", "yes", {}, ("left", "203.0.113.9", "ping"), "dropped", "route.none", "unreachable"),
    ("sends-unreachable", "no", {}, ("left", "203.0.113.9", "ping"), "dropped", "route.none", "silence"),
    ("sends-unreachable", "yes", {}, ("left", "10.40.2.99", "ping"), "dropped", "neighbour.silent", "unreachable"),
    ("sends-time-exceeded", "yes", {}, ("left", "right", "ping", {"ttl": 1}), "expired", "ttl.expired", "unreachable"),
    ("sends-time-exceeded", "no", {}, ("left", "right", "ping", {"ttl": 1}), "expired", "ttl.expired", "silence"),
    ("error-source", "leaving", {}, ("left", "203.0.113.9", "ping"), "dropped", "route.none", "unreachable"),
    ("error-source", "arriving", {}, ("left", "203.0.113.9", "ping"), "dropped", "route.none", "unreachable"),
    ("reject-answer", "reset", {"LEFT": "arriving: no-tcp"}, ("left", "right", "https"), "rejected", "filter.rule", "refused"),
    ("reject-answer", "prohibited", {"LEFT": "arriving: no-tcp"}, ("left", "right", "https"), "rejected", "filter.rule", "unreachable"),
    # a refused lookup comes home as an ICMP error about the session's packet
    ("unknown-session", "by-protocol", {"STATEFUL": "[tcp]"}, ("left", "right", "https", {"fragment": True}), "dropped", "session.none", "silence"),
    ("unknown-session", "by-protocol", {"STATEFUL": "[icmp]", "LEFT": "arriving: web"}, ("left", "right", "icmp/echo-reply"), "dropped", "filter.end", "silence"),
    ("unknown-session", "by-protocol", {"STATEFUL": "[udp]"}, ("left", "right", "https", {"fragment": True}), "delivered", "fragment.part", "silence"),
    ("unknown-session", "pass", {"STATEFUL": "[tcp]", "LEFT": "arriving: web"}, ("left", "right", "https", {"fragment": True}), "delivered", "fragment.part", "silence"),
    ("unknown-session", "pass", {"STATEFUL": "[tcp]", "LEFT": "arriving: web"}, ("left", "right", "tcp/25"), "dropped", "filter.end", "silence"),
    ("unknown-session", "pass", {"STATEFUL": "[icmp]", "LEFT": "arriving: web"}, ("left", "right", "icmp/echo-reply"), "dropped", "answer.unasked", "silence"),
    ("unknown-session", "filter", {"STATEFUL": "[tcp]", "LEFT": "arriving: web"}, ("left", "right", "https", {"fragment": True}), "dropped", "filter.end", "silence"),
    ("unknown-session", "filter", {"STATEFUL": "[tcp]"}, ("left", "right", "https", {"fragment": True}), "delivered", "fragment.part", "silence"),
    ("unknown-session", "drop", {"STATEFUL": "[icmp]"}, ("left", "right", "icmp/echo-reply"), "dropped", "session.none", "silence"),
    ("unknown-session", "drop", {"STATEFUL": "[udp]"}, ("left", "right", "udp/53", {"fragment": True}), "dropped", "session.none", "silence"),
    ("unknown-session", "drop", {"STATEFUL": "[tcp]"}, ("left", "right", "icmp/echo-reply"), "dropped", "answer.unasked", "silence"),
    ("session-errors", "pass", {"STATEFUL": "[udp]", "RIGHT": "arriving: web"}, ("left", "right", "udp/53"), "refused", "service.closed", "refused"),
    ("session-errors", "filtered", {"STATEFUL": "[udp]", "RIGHT": "arriving: web"}, ("left", "right", "udp/53"), "refused", "service.closed", "silence"),
    ("keep-port", "yes", {"TRANSLATE": "[{leaving: b}]"}, ("left", "right", "https"), "delivered", "service.open", "answered"),
    ("keep-port", "no", {"TRANSLATE": "[{leaving: b}]"}, ("left", "right", "https"), "delivered", "service.open", "answered"),
    ("unmatched-translation", "keep", {"TRANSLATE": "[{leaving: b, source: 10.99.0.0/16}]"}, ("left", "right", "https"), "delivered", "service.open", "answered"),
    ("unmatched-translation", "drop", {"TRANSLATE": "[{leaving: b, source: 10.99.0.0/16}]"}, ("left", "right", "https"), "dropped", "nat.none", "silence"),
    # a source that is not left's own
    ("source-check", "off", {}, ("left", "right", "ping", {"source": "10.99.0.1"}), "dropped", "route.none", "silence"),
    ("source-check", "loose", {}, ("left", "right", "ping", {"source": "10.99.0.1"}), "dropped", "source.check", "silence"),
    ("source-check", "loose", {}, ("left", "right", "ping", {"source": "10.40.2.77"}), "dropped", "neighbour.silent", "silence"),
    ("source-check", "strict", {}, ("left", "right", "ping", {"source": "10.40.2.77"}), "dropped", "source.check", "silence"),
    ("own-source", "drop", {}, ("left", "right", "ping", {"source": "10.40.2.1"}), "dropped", "source.own", "silence"),
    # it gets there, and its answer goes to r itself, who asked nothing
    ("own-source", "accept", {}, ("left", "right", "ping", {"source": "10.40.2.1"}), "dropped", "answer.elsewhere", "silence"),
    # two destinations of one source: one outer port, or two
    ("mapping", "endpoint-independent", {"TRANSLATE": "[{leaving: b}]"}, ("left", "right", "https"), "delivered", "service.open", "answered"),
    ("mapping", "per-flow", {"TRANSLATE": "[{leaving: b}]"}, ("left", "right", "https"), "delivered", "service.open", "answered"),
    ("own-policy-routes", "no", {"TRANSLATE": "[]\n    policy-routes: [{candidates: [{discard: yes}]}]"}, ("r", "left", "ping"), "delivered", "echo.answered", "answered"),
    ("own-policy-routes", "yes", {"TRANSLATE": "[]\n    policy-routes: [{candidates: [{discard: yes}]}]"}, ("r", "left", "ping"), "dropped", "route.discard", "silence"),
]  # fmt: skip


@pytest.mark.parametrize("case", CASES, ids=[f"{c[0]}-{c[1]}-{n}" for n, c in enumerate(CASES)])
def test_each_value_does_what_it_says(case: tuple[str, str, dict[str, str], tuple[Any, ...], str, str, str]) -> None:
    setting, value, parts, (sender, target, service, *options), fate, cause, symptom = case
    plan = network(SETTING=f"{setting}: {value}", **parts)
    journey = mc.trace(plan, sender, target, service, **(options[0] if options else {}))
    assert (journey.fate, journey.cause, journey.symptom) == (fate, cause, symptom)


ELSEWHERE = dict.fromkeys(
    ("inbound", "outbound", "through", "translation-opens", "log-defaults", "name-rules", "offers-hold"), "test_gates"
)
ELSEWHERE |= dict.fromkeys(
    (
        *TIME_OUTS,
        "announced-for",
        "session-phase",
        "after-reset",
        "session-limit",
        "half-open-limit",
        "history",
        "session-interfaces",
    ),
    "test_sessions",
)
ELSEWHERE |= {
    "switched-off-probe": "test_probes",
    "flows-of-a-lost-uplink": "test_probes",
    "session-exit": "test_inspection",
    "lists-see-inner": "test_tunnels",
    "association-for": "test_associations",
    "association-lists": "test_associations",
    "tunnel-first-packet": "test_associations",
    "path-mtu": "test_tunnels",
    "answers-policy-routes": "test_policy",
    "classifier-deny": "test_policy",
}
ELSEWHERE |= dict.fromkeys(("mapping", "filtering", "answers-translated", "unsolicited-syn"), "test_translation")
ELSEWHERE |= dict.fromkeys(("after-rule-change", "after-route-change", "after-translation-change"), "test_conversation")
ELSEWHERE |= {"sharing": "test_topology", "interface-route": "test_topology", "leased-default-route": "test_topology"}


def test_no_setting_and_no_value_is_left_out() -> None:
    tried = {(c[0], c[1]) for c in CASES}
    for setting in SETTINGS.values():
        if setting.name not in ELSEWHERE:
            assert {(setting.name, v) for v in setting.values} <= tried
        for kind in (setting.router, setting.firewall, setting.host):
            assert setting.takes(kind)
        assert setting.why.endswith(".")


def test_a_default_that_decides_is_named_with_its_kind_of_device() -> None:
    journey = mc.trace(network(), "left", "right", "ping")
    assert journey.because.words == "right answers pings (answers-ping: yes, the default of a host)"
    written = mc.trace(network(HOST="answers-ping: no"), "left", "right", "ping")
    assert written.because.words == "right ignores pings (answers-ping: no)"
    assert str(written.because.mark) == "s.yaml:17"


@pytest.mark.parametrize("value, address", [("leaving", "10.40.2.1"), ("arriving", "10.40.1.1")])
def test_whose_address_an_error_bears(value: str, address: str) -> None:
    """The packet comes by a with a source on b's side: its error leaves by b (RFC 1812 4.3.2.4)."""
    plan = network(SETTING=f"error-source: {value}")
    journey = mc.trace(plan, "left", "203.0.113.9", "ping", source="10.40.2.10")
    assert journey.back is not None
    assert str(journey.back.packet.source) == address


def test_ports_are_kept_or_taken_from_the_lowest_free_one() -> None:
    """RFC 4787 4.2.1: preserved while free."""
    for value, port in (("yes", 50000), ("no", 1024)):
        plan = network(SETTING=f"keep-port: {value}", TRANSLATE="[{leaving: b}]")
        assert mc.trace(plan, "left", "right", "https", source_port=50000).seen_as == f"10.40.2.1:{port}"


def test_two_flows_of_one_port_get_two() -> None:
    """What one packet left behind is kept, and the next one from elsewhere with the same port gets another."""
    plan = network(TRANSLATE="[{leaving: b}]")
    first, sessions = mc.trace_question(plan, mc.ask(plan, "left", "right", "https", source_port=50000))
    other = mc.ask(plan, "left", "right", "https", source_port=50000, source="10.40.1.77")
    second, sessions = mc.trace_question(plan, other, sessions)
    assert [first.seen_as, second.seen_as] == ["10.40.2.1:50000", "10.40.2.1:1024"]
    again, _ = mc.trace_question(plan, mc.ask(plan, "left", "right", "https", source_port=50000), sessions)
    assert again.seen_as == "10.40.2.1:50000"


def test_pings_are_translated_by_their_identifier() -> None:
    """RFC 5508 3.1: the identifier is treated as a port."""
    plan = network(TRANSLATE="[{leaving: b}]", STATEFUL="[icmp]")
    first, sessions = mc.trace_question(plan, mc.ask(plan, "left", "right", "ping", source_port=7))
    second, _ = mc.trace_question(plan, mc.ask(plan, "left", "right", "ping", source_port=7, source="10.40.1.77"), sessions)
    assert [j.there.arrived.from_port for j in (first, second)] == [7, 1025]
    assert first.answered


@pytest.mark.parametrize(
    "stateful, service, cause, says",
    [
        ("[tcp]", "ping", "session.none", "icmp is not inspected there (stateful: tcp)"),
        ("[icmp]", "ping", "echo.answered", ""),
        ("none", "ping", "filter.end", "r keeps no sessions, so answers need a rule of their own"),
        ("[tcp]", "https", "service.open", ""),
        ("any", "ping", "echo.answered", ""),
    ],
)
def test_answers_pass_by_session_or_not_at_all(stateful: str, service: str, cause: str, says: str) -> None:
    """The list on the far side permits web from outside alone; what comes back lives by the session."""
    plan = network(STATEFUL=stateful, RIGHT="arriving: web")
    journey = mc.trace(plan, "left", "right", service)
    assert journey.cause == cause
    assert says in journey.root


def test_a_further_packet_of_a_session_takes_the_sessions_rewrite_and_passes_over_the_lists() -> None:
    plan = network(STATEFUL="[tcp]", LEFT="arriving: web", TRANSLATE="[{leaving: b}]")
    question = mc.ask(plan, "left", "right", "https", source_port=50000)
    _, sessions = mc.trace_question(plan, question)
    assert question.packet is not None
    again, _ = mc.trace_question(plan, question._replace(packet=question.packet._replace(flags="ACK")), sessions)
    ways = {(r.stage, str(r.did)): r.because.words for r in again.there.hops[1].rulings}
    assert ways["inspection", "known session"] == "session 1 of r"
    assert ways["translate source", "rewritten"] == "session 1 of r"
    assert ("arriving list", "permitted") not in ways
    stray, _ = mc.trace_question(plan, question._replace(packet=question.packet._replace(flags="ACK")))
    assert (stray.cause, stray.there.end) == ("session.none", "r")


def test_every_port_taken_is_a_cause_of_its_own(monkeypatch: pytest.MonkeyPatch) -> None:
    from mossy_compass.state.state import State

    monkeypatch.setattr(State, "allocate", lambda *_: None)
    journey = mc.trace(network(TRANSLATE="[{leaving: b}]"), "left", "right", "https")
    assert (journey.cause, journey.symptom) == ("nat.exhausted", "unreachable")  # RFC 5508 REQ-8
    assert journey.note == "all ports of 10.40.2.1 are taken"


@pytest.mark.parametrize("family, code", [(4, "host-unreachable"), (6, "net-unreachable")])
def test_an_unreachable_route_says_so(family: int, code: str) -> None:
    b = mc.Builder("says so")
    lan = ["10.40.1.1/24", "2001:db8:1::1/64"]
    b.router(
        "r", routes=[{"prefix": p, "action": "unreachable"} for p in ("10.50.0.0/16", "2001:db8:50::/48")], lan={"address": lan}
    )
    b.host("a", ["10.40.1.10/24", "2001:db8:1::10/64"], gateway=["10.40.1.1", "2001:db8:1::1"])
    b.segment("s", "a", "r/lan")
    journey = mc.trace(b.finish(), "a", "10.50.0.9" if family == 4 else "2001:db8:50::9")
    assert (journey.cause, journey.symptom) == ("route.unreachable", "unreachable")
    assert code in journey.symptom_note


def test_an_opening_packet_that_went_another_way_leaves_its_answer_without_a_session() -> None:
    """Asymmetric: the request passes one firewall, the answer another, which has never heard of it."""
    b = mc.Builder("two walls")
    b.host("a", "10.40.1.10/24", gateway="10.40.1.1")
    b.host("b", "10.40.2.10/24", gateway="10.40.2.2", serves=["https"])
    b.firewall("one", left="10.40.1.1/24", right="10.40.2.1/24")
    b.firewall("two", left="10.40.1.2/24", right="10.40.2.2/24")
    b.segment("left", "a", "one/left", "two/left")
    b.segment("right", "b", "one/right", "two/right")
    journey = mc.trace(b.finish(), "a", "b", "https")
    assert (journey.cause, journey.lost, journey.back.end if journey.back else "") == ("session.none", "back", "two")
    assert "the opening packet did not pass two" in journey.note


@pytest.mark.parametrize("sender, seen", [("r", "10.40.2.1"), ("r/a", "10.40.1.1"), ("left", "10.40.2.1")])
def test_a_device_keeps_the_address_that_it_speaks_from(sender: str, seen: str) -> None:
    """A rule is for what is passed on; a router's own packet has an address of the router's already."""
    plan = network(STATEFUL="[tcp]", TRANSLATE="[{leaving: b}]")
    journey = mc.trace(plan, sender, "right", "https", source_port=50000)
    assert journey.answered
    assert str(journey.there.arrived.source) == seen
    assert any(r.stage == "translate source" for h in journey.there.hops for r in h.rulings) is (sender == "left")
