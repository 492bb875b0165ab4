"""Where lists stand and what they ask: one network, one packet a case, the verdict that follows from the definition."""

from __future__ import annotations

from typing import Any

import pytest

import mossy_compass as mc
from mossy_compass.exchange.syslog import lines
from mossy_compass.files.hours import parse_moment
from mossy_compass.model.settings import SETTINGS
from mossy_compass.plan.builtin import BUILT_IN
from mossy_compass.report.tables import lists as list_tables
from mossy_compass.walk.evidence import Counters, counted, decided_by
from mossy_compass.walk.question import Options

BASE = """\
mossy-network: 1
hours:
  office: {days: [mon, tue, wed, thu, fri], from: "08:00", until: "17:00", zone: Europe/Vienna}
  night: {from: "22:00", until: "06:00", zone: Europe/Vienna}
  gap: {from: "02:00", until: "03:00", zone: Europe/Vienna}
applications:
  video: {category: [streaming], known-from: 3, to: tube, service: https}
  chat: {known-from: 2, to: almanac, service: https}
  mail: {to: almanac, service: smtp}
names: {tube.example: 203.0.113.90, clips.example: 203.0.113.90}
lists:
  one: [ONE]
  two: [TWO]
devices:
  gate:
    kind: KIND
    interfaces:
      lan: {address: [10.40.1.1/24, "2001:db8:1::1/64"], zone: house, filter: {LAN}}
      guest: {address: 10.40.2.1/24, zone: guests}
      out: {address: [198.51.100.2/30, "2001:db8:f::2/64"], zone: world, outside: yes, filter: {OUT}}
    routes: [{prefix: default, next-hop: 198.51.100.1}, {prefix: default6, next-hop: "2001:db8:f::1"}]
    translate: [TRANSLATE]
    settings: {SETTING}
    GATES
  world:
    kind: internet
    interfaces: {a: [198.51.100.1/30, "2001:db8:f::1/64"]}
    routes: [{prefix: 10.40.0.0/16, next-hop: 198.51.100.2}, {prefix: "2001:db8:1::/64", next-hop: "2001:db8:f::2"}]
    hosts: {tube: {address: 203.0.113.90, serves: [https]}, almanac: {address: [203.0.113.80, "2001:db8:80::80"], serves: [https, smtp]}}
  clerk: {kind: host, address: [10.40.1.10/24, "2001:db8:1::10/64"], gateway: [10.40.1.1, "2001:db8:1::1"], serves: [http, ssh]}
  desk: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1, serves: [http], resolvers: 10.40.2.53}
  guest: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [http]}
  namer: {kind: host, address: 10.40.2.53/24, gateway: 10.40.2.1, records: {hall.example: 203.0.113.80, films.example: 203.0.113.90}}
segments: {lan: [gate/lan, clerk, desk], guests: [gate/guest, guest, namer], out: [gate/out, world/a]}
"""


def text(**parts: str) -> str:
    filled = {"ONE": "", "TWO": "", "KIND": "firewall", "LAN": "", "OUT": "", "TRANSLATE": "", "SETTING": "", "GATES": "", **parts}
    made = BASE
    for key in sorted(filled, key=len, reverse=True):
        made = (
            made.replace(f"{{{key}}}", f"{{{filled[key]}}}")
            .replace(f"[{key}]", f"[{filled[key]}]")
            .replace(f": {key}\n", f": {filled[key]}\n")
        )
    return made.replace("    GATES\n", f"    {filled['GATES']}\n" if filled["GATES"] else "")


def build(**parts: str) -> mc.Plan:
    reading = mc.read_bytes(text(**parts).encode(), "g.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    return mc.Plan(reading.network)


OFFICE, EVENING = parse_moment("2026-11-27T10:00+01:00"), parse_moment("2026-11-27T19:00+01:00")
VIDEO = "{id: 10, deny: tcp, application: streaming}, {id: 20, permit: any}"

# parts, question, fate, cause, symptom, words of the first line
CASES: list[tuple[dict[str, str], tuple[Any, ...], str, str, str, str]] = [
    # presets: a firewall's outside is closed for what nobody asked for; a router passes what no list stops
    ({}, ("almanac", "clerk", "http"), "dropped", "filter.inbound", "silence", "inbound: deny, the default of a firewall"),
    ({"KIND": "router"}, ("almanac", "clerk", "http"), "delivered", "service.open", "answered", "no list is attached"),
    ({}, ("clerk", "almanac", "https"), "delivered", "service.open", "answered", "no list is attached"),
    ({}, ("guest", "clerk", "http"), "delivered", "service.open", "answered", ""),
    ({}, ("almanac", "gate/out", "ping"), "dropped", "filter.inbound", "silence", "inbound: deny"),
    ({}, ("clerk", "gate/lan", "ping"), "delivered", "echo.answered", "answered", ""),
    ({"SETTING": "inbound: permit"}, ("almanac", "clerk", "http"), "delivered", "service.open", "answered", "let through by inbound: permit"),
    ({"SETTING": "outbound: deny"}, ("clerk", "almanac", "https"), "dropped", "filter.outbound", "silence", "outbound: deny (g.yaml:"),
    ({"SETTING": "through: deny"}, ("guest", "clerk", "http"), "dropped", "filter.through", "silence", "through: deny"),
    ({"OUT": "arriving: one", "ONE": "{permit: tcp, to: clerk}"}, ("almanac", "clerk", "http"), "delivered", "service.open", "answered", "let through by one rule 10"),
    ({"OUT": "arriving: one", "ONE": "{permit: tcp, to: clerk}"}, ("almanac", "clerk", "http", {"family": 6}), "delivered", "service.open", "answered", "one rule 10"),
    ({}, ("almanac", "clerk", "http", {"family": 6}), "dropped", "filter.inbound", "silence", "inbound: deny"),
    # translation is no permission, unless the setting says so; filters see the new address after it, the old one before
    ({"TRANSLATE": "{id: web, to: self, arriving: out, service: tcp/8080, goes-to: {address: clerk, port: 80}}"}, ("almanac", "gate/out", "tcp/8080"), "dropped", "filter.inbound", "silence", "inbound: deny"),
    ({"TRANSLATE": "{id: web, to: self, arriving: out, service: tcp/8080, goes-to: {address: clerk, port: 80}}", "SETTING": "translation-opens: yes"}, ("almanac", "gate/out", "tcp/8080"), "delivered", "service.open", "answered", "translation-opens: yes"),
    ({"TRANSLATE": "{id: web, to: self, arriving: out, service: tcp/8080, goes-to: {address: clerk, port: 80}}", "OUT": "arriving: one", "ONE": "{permit: tcp, to-port: 8080}"}, ("almanac", "gate/out", "tcp/8080"), "delivered", "service.open", "answered", "one rule 10"),
    ({"TRANSLATE": "{id: web, to: self, arriving: out, service: tcp/8080, goes-to: {address: clerk, port: 80}}", "OUT": "arriving: one", "ONE": "{permit: tcp, to: clerk, to-port: 80}"}, ("almanac", "gate/out", "tcp/8080"), "dropped", "filter.end", "silence", "the end of list one"),
    ({"TRANSLATE": "{id: web, to: self, arriving: out, service: tcp/8080, goes-to: {address: clerk, port: 80}}", "GATES": "crossings: [{from: world, into: house, lists: [one]}]", "ONE": "{permit: tcp, to: clerk, to-port: 80}"}, ("almanac", "gate/out", "tcp/8080"), "delivered", "service.open", "answered", "one rule 10"),
    ({"TRANSLATE": "{leaving: out}", "OUT": "leaving: one", "ONE": "{permit: tcp, from: clerk}"}, ("clerk", "almanac", "https"), "delivered", "service.open", "answered", "one rule 10"),
    # one front's service
    ({"TRANSLATE": "{id: web, to: self, arriving: out, service: tcp/8080, goes-to: {address: clerk, port: 80}, lists: [one]}", "ONE": "{permit: tcp, from: almanac}"}, ("almanac", "gate/out", "tcp/8080"), "delivered", "service.open", "answered", "one rule 10"),
    ({"TRANSLATE": "{id: web, to: self, arriving: out, service: tcp/8080, goes-to: {address: clerk, port: 80}, lists: [one]}", "ONE": "{permit: tcp, from: almanac}"}, ("tube", "gate/out", "tcp/8080"), "dropped", "filter.end", "silence", "the end of list one"),
    # crossings: by zone, by interface, any; a pair without one has its default
    ({"GATES": "crossings: [{from: guests, into: house, lists: [one]}]", "ONE": "{deny: any}"}, ("guest", "clerk", "http"), "dropped", "filter.rule", "silence", "one rule 10"),
    ({"GATES": "crossings: [{from: guests, into: house, lists: [one]}]", "ONE": "{deny: any}"}, ("clerk", "guest", "http"), "delivered", "service.open", "answered", ""),
    ({"GATES": "crossings: [{from: guest, into: any, lists: [one]}]", "ONE": "{permit: tcp, service: https}"}, ("guest", "almanac", "https"), "delivered", "service.open", "answered", "one rule 10"),
    ({"GATES": "crossings: [{from: guest, into: any, lists: [one]}]", "ONE": "{permit: tcp, service: https}"}, ("guest", "clerk", "http"), "dropped", "filter.end", "silence", "the end of list one"),
    ({"GATES": "crossings: [{from: guest, into: any, lists: [one]}]", "ONE": "{deny: any}"}, ("guest", "gate/guest", "ping"), "delivered", "echo.answered", "answered", ""),
    ({"GATES": "crossings: [{from: guests, into: self, lists: [one]}]", "ONE": "{deny: icmp}"}, ("guest", "gate/guest", "ping"), "dropped", "filter.rule", "silence", "one rule 10"),
    # everywhere, and its switch
    ({"GATES": "everywhere: [one]", "ONE": "{deny: tcp, service: http}, {permit: any}"}, ("guest", "clerk", "http"), "dropped", "filter.rule", "silence", "one rule 10"),
    ({"GATES": "everywhere: {lists: [one], enabled: no}", "ONE": "{deny: tcp, service: http}, {permit: any}"}, ("guest", "clerk", "http"), "delivered", "service.open", "answered", ""),
    ({"GATES": "everywhere: [one]", "LAN": "arriving: two", "ONE": "{deny: udp}", "TWO": "{permit: tcp}"}, ("clerk", "guest", "http"), "delivered", "service.open", "answered", "two rule 10"),
    # several lists at one place: on to the next when nothing decided, or when the verdict says so
    ({"LAN": "arriving: [one, two]", "ONE": "{deny: udp}", "TWO": "{permit: tcp}"}, ("clerk", "guest", "http"), "delivered", "service.open", "answered", "two rule 10"),
    ({"LAN": "arriving: [one, two]", "ONE": "{hand-on: tcp}, {permit: any}", "TWO": "{deny: tcp}"}, ("clerk", "guest", "http"), "dropped", "filter.rule", "silence", "two rule 10"),
    ({"LAN": "arriving: [one, two]", "ONE": "{hand-on: tcp}, {permit: any}", "TWO": "{deny: tcp}"}, ("clerk", "guest", "ping"), "delivered", "echo.answered", "answered", ""),
    ({"LAN": "arriving: one", "ONE": "{hand-on: any}, {permit: any}"}, ("clerk", "guest", "http"), "dropped", "filter.end", "silence", "the end of list one"),
    # profiles: by who opened the flow; instead, before, after
    ({"GATES": "profiles: {p: {for: [desk], lists: [two]}}", "LAN": "arriving: one", "ONE": "{permit: any}", "TWO": "{deny: any}"}, ("desk", "guest", "http"), "dropped", "filter.rule", "silence", "two rule 10"),
    ({"GATES": "profiles: {p: {for: [desk], lists: [two]}}", "LAN": "arriving: one", "ONE": "{permit: any}", "TWO": "{deny: any}"}, ("clerk", "guest", "http"), "delivered", "service.open", "answered", "one rule 10"),
    ({"GATES": "profiles: {p: {for: [desk], mode: before, lists: [two]}}", "LAN": "arriving: one", "ONE": "{permit: any}", "TWO": "{deny: tcp, service: ssh}"}, ("desk", "guest", "http"), "delivered", "service.open", "answered", "one rule 10"),
    ({"GATES": "profiles: {p: {for: [desk], mode: after, lists: [two]}}", "LAN": "arriving: one", "ONE": "{deny: udp}", "TWO": "{permit: tcp}"}, ("desk", "guest", "http"), "delivered", "service.open", "answered", "two rule 10"),
    ({"GATES": "profiles: {p: {arriving: [guests], lists: [two]}}", "TWO": "{deny: any}"}, ("guest", "clerk", "http"), "dropped", "filter.rule", "silence", "two rule 10"),
    # to itself and of itself
    ({"GATES": "to-self: [one]", "ONE": "{permit: icmp, from: clerk}"}, ("clerk", "gate/lan", "ping"), "delivered", "echo.answered", "answered", "one rule 10"),
    ({"GATES": "to-self: [one]", "ONE": "{permit: icmp, from: clerk}"}, ("desk", "gate/lan", "ping"), "dropped", "filter.end", "silence", "the end of list one"),
    ({"GATES": "to-self: [one]", "ONE": "{deny: any}"}, ("clerk", "guest", "http"), "delivered", "service.open", "answered", ""),
    ({"GATES": "offers: {lan: {ping: any, ssh: clerk}}"}, ("clerk", "gate/lan", "ssh"), "delivered", "service.open", "answered", "gate offers ssh on lan"),
    ({"GATES": "offers: {lan: {ping: any, ssh: clerk}}"}, ("desk", "gate/lan", "ssh"), "dropped", "self.not-offered", "silence", "gate offers ping, ssh (to clerk) on lan"),
    ({"GATES": "offers: {lan: {ping: any, ssh: none}}"}, ("clerk", "gate/lan", "ssh"), "dropped", "self.not-offered", "silence", "gate offers ping on lan"),
    # a permit opens nothing that is not offered; a deny is named though it is not offered either
    ({"GATES": "offers: {lan: {ssh: any}}\n    to-self: [one]", "ONE": "{permit: any}"}, ("clerk", "gate/lan", "ping"), "dropped", "self.not-offered", "silence", "gate offers ssh on lan"),
    ({"GATES": "offers: {lan: {ssh: any}}\n    to-self: [one]", "ONE": "{permit: any}"}, ("clerk", "gate/lan", "ssh"), "delivered", "service.open", "answered", "one rule 10"),
    ({"GATES": "offers: {lan: {ssh: desk}}\n    to-self: [one]", "ONE": "{permit: any}"}, ("clerk", "gate/lan", "ssh"), "dropped", "self.not-offered", "silence", "gate offers ssh (to desk) on lan"),
    ({"GATES": "offers: {lan: {ssh: any}}\n    to-self: [one]", "ONE": "{deny: icmp}"}, ("clerk", "gate/lan", "ping"), "dropped", "filter.rule", "silence", "one rule 10"),
    ({"GATES": "offers: {lan: {ssh: any}}\n    to-self: [one]", "ONE": "{permit: any}"}, ("guest", "gate/guest", "ping"), "delivered", "echo.answered", "answered", "one rule 10"),
    ({"GATES": "offers: {lan: {ssh: any}}\n    crossings: [{from: lan, into: self, lists: one}]", "ONE": "{permit: any}"}, ("clerk", "gate/lan", "ping"), "dropped", "self.not-offered", "silence", "gate offers ssh on lan"),
    ({"GATES": "offers: {lan: {ssh: any}}\n    to-self: [one]", "ONE": "{permit: any}", "SETTING": "offers-hold: no"}, ("clerk", "gate/lan", "ping"), "delivered", "echo.answered", "answered", "one rule 10"),
    ({"GATES": "offers: {lan: {ssh: any}}"}, ("guest", "gate/guest", "ping"), "delivered", "echo.answered", "answered", ""),
    ({"GATES": "from-self: [one]", "ONE": "{permit: tcp, to: almanac}"}, ("gate", "almanac", "https"), "delivered", "service.open", "answered", "one rule 10"),
    ({"GATES": "from-self: [one]", "ONE": "{permit: tcp, to: almanac}"}, ("gate", "tube", "https"), "dropped", "filter.end", "silence", "the end of list one"),
    ({"SETTING": "from-self: deny"}, ("gate", "almanac", "https"), "dropped", "self.mute", "silence", "from-self: deny"),
    ({"SETTING": "from-self: deny"}, ("gate", "clerk", "ping"), "delivered", "echo.answered", "answered", "built-in rule own-pings of gate"),
    ({"SETTING": "from-self: deny", "GATES": "built-in: {own-pings: no}"}, ("gate", "clerk", "ping"), "dropped", "self.mute", "silence", "from-self: deny"),
    ({"SETTING": "from-self: deny", "GATES": "built-in: {own-updates: yes}"}, ("gate", "almanac", "https"), "delivered", "service.open", "answered", "built-in rule own-updates of gate"),
    ({"SETTING": "from-self: deny", "GATES": "built-in: {own-updates: yes}"}, ("gate", "clerk", "tcp/443"), "dropped", "self.mute", "silence", "from-self: deny"),
    ({"SETTING": "from-self: deny", "KIND": "router"}, ("gate", "clerk", "ping"), "dropped", "self.mute", "silence", "from-self: deny"),
    # what a reject answers
    ({"LAN": "arriving: one", "ONE": "{reject: tcp, answer: reset}"}, ("clerk", "guest", "http"), "rejected", "filter.rule", "refused", "one rule 10"),
    ({"LAN": "arriving: one", "ONE": "{reject: tcp, answer: host-unreachable}"}, ("clerk", "guest", "http"), "rejected", "filter.rule", "unreachable", "one rule 10"),
    ({"LAN": "arriving: one", "ONE": "{reject: icmp, answer: reset}"}, ("clerk", "guest", "ping"), "rejected", "filter.rule", "unreachable", "one rule 10"),
    # hours
    ({"LAN": "arriving: one", "ONE": "{permit: tcp, hours: office}"}, ("clerk", "guest", "http", {"at": OFFICE}), "delivered", "service.open", "answered", "one rule 10"),
    ({"LAN": "arriving: one", "ONE": "{permit: tcp, hours: office}"}, ("clerk", "guest", "http", {"at": EVENING}), "dropped", "filter.end", "silence", "the end of list one"),
    ({"LAN": "arriving: one", "ONE": "{permit: tcp, hours: office}"}, ("clerk", "guest", "http"), "dropped", "filter.end", "silence", "the end of list one"),
    ({"LAN": "arriving: one", "ONE": "{deny: tcp, hours: office}, {permit: any}"}, ("clerk", "guest", "http"), "delivered", "service.open", "answered", "one rule 20"),
    # applications: known from the third packet, from the answer, from the first
    ({"LAN": "arriving: one", "ONE": VIDEO}, ("clerk", "tube", "https"), "dropped", "session.recalled", "silence", "packet 3, which shows the application, is DROPPED"),
    ({"LAN": "arriving: one", "ONE": VIDEO, "KIND": "router"}, ("clerk", "tube", "https"), "dropped", "filter.rule", "silence", "packet 3, which shows the application, is DROPPED"),
    ({"LAN": "arriving: one", "ONE": VIDEO}, ("clerk", "almanac", "https"), "delivered", "service.open", "answered", "one rule 20"),
    ({"LAN": "arriving: one", "ONE": "{deny: tcp, application: chat}, {permit: any}"}, ("clerk", "almanac", "https"), "dropped", "session.recalled", "silence", "the ANSWER is DROPPED"),
    ({"LAN": "arriving: one", "ONE": "{deny: tcp, application: mail}, {permit: any}"}, ("clerk", "almanac", "smtp"), "dropped", "filter.rule", "silence", "one rule 10"),
    ({"LAN": "arriving: one", "ONE": VIDEO}, ("clerk", "guest", "http", {"application": "video"}), "dropped", "session.recalled", "silence", "packet 3"),
    ({"LAN": "arriving: one", "ONE": "{permit: tcp, application: video}"}, ("clerk", "tube", "https"), "dropped", "filter.end", "silence", "the end of list one"),
    # names: resolved by the device, or learned from what passed
    ({"LAN": "arriving: one", "ONE": "{permit: tcp, name: tube.example}"}, ("clerk", "tube", "https"), "delivered", "service.open", "answered", "one rule 10"),
    ({"LAN": "arriving: one", "ONE": "{permit: tcp, name: tube.example}"}, ("clerk", "almanac", "https"), "dropped", "filter.end", "silence", "the end of list one"),
    ({"LAN": "arriving: one", "ONE": "{permit: udp}, {permit: tcp, name: hall.example}", "SETTING": "name-rules: learned"}, ("desk", "hall.example", "https"), "delivered", "service.open", "answered", "one rule 20"),
    ({"LAN": "arriving: one", "ONE": "{permit: udp}, {permit: tcp, name: hall.example}", "SETTING": "name-rules: learned"}, ("clerk", "almanac", "https"), "dropped", "name.unlearned", "silence", "waits for an address of hall.example"),
    ({"LAN": "arriving: one", "ONE": "{permit: udp}, {permit: tcp, name: hall.example}"}, ("clerk", "almanac", "https"), "dropped", "name.unlearned", "silence", "gate knows none"),
    # the uplink of last resort
    ({"OUT": "leaving: one", "ONE": "{permit: tcp, service: https, while: last-resort}"}, ("clerk", "almanac", "https", {"last_resort": True}), "delivered", "service.open", "answered", "one rule 10"),
    ({"OUT": "leaving: one", "ONE": "{permit: tcp, service: https, while: last-resort}"}, ("clerk", "almanac", "https"), "dropped", "filter.end", "silence", "the end of list one"),
    # fragments other than the first have no ports
    ({"KIND": "router", "LAN": "arriving: one", "ONE": "{permit: tcp, to-port: 80}"}, ("clerk", "guest", "http", {"fragment": True}), "dropped", "filter.end", "silence", "the end of list one"),
    ({"KIND": "router", "LAN": "arriving: one", "ONE": "{permit: tcp, fragments: yes}"}, ("clerk", "guest", "http", {"fragment": True}), "delivered", "fragment.part", "silence", "UNANSWERED"),
    ({"KIND": "router", "LAN": "arriving: one", "ONE": "{permit: tcp, fragments: yes}"}, ("clerk", "guest", "http"), "dropped", "filter.end", "silence", "the end of list one"),
    # session state; a stateless device needs a rule for answers
    ({"KIND": "router", "LAN": "arriving: one", "ONE": "{permit: tcp, state: [new]}"}, ("clerk", "guest", "http"), "delivered", "service.open", "answered", "one rule 10"),
    ({"KIND": "router", "LAN": "arriving: one", "ONE": "{permit: tcp, opening: yes}"}, ("guest", "clerk", "http"), "dropped", "filter.end", "silence", "gate keeps no sessions"),
    ({"KIND": "router", "LAN": "arriving: one", "ONE": "{permit: tcp, state: [answering]}"}, ("clerk", "guest", "http"), "dropped", "filter.end", "silence", "the end of list one"),
]  # fmt: skip


@pytest.mark.parametrize("case", CASES, ids=range(len(CASES)))
def test_verdicts_follow_from_what_is_written(case: tuple[dict[str, str], tuple[Any, ...], str, str, str, str]) -> None:
    parts, (sender, target, service, *options), fate, cause, symptom, says = case
    journey = mc.trace(build(**parts), sender, target, service, **(options[0] if options else {}))
    assert (journey.fate, journey.cause, journey.symptom) == (fate, cause, symptom), str(journey)
    assert says in str(journey)
    assert journey.cause in mc.CAUSES


@pytest.mark.parametrize(
    "answer, kind",
    [
        ("net-unreachable", "net-unreachable"),
        ("protocol-unreachable", "protocol-unreachable"),
        ("port-unreachable", "port-unreachable"),
        ("prohibited", "prohibited"),
        ("net-prohibited", "3/9"),
        ("host-prohibited", "3/10"),
        ("policy-failed", "prohibited"),
    ],
)
def test_a_reject_sends_what_it_says(answer: str, kind: str) -> None:
    """RFC 1812 section 5.2.7.1 has the codes."""
    journey = mc.trace(build(LAN="arriving: one", ONE=f"{{reject: udp, answer: {answer}}}"), "clerk", "guest", "udp/53")
    assert journey.back is not None
    assert journey.back.packet.what() == f"icmp/{kind}"


@pytest.mark.parametrize(
    "at, is_open",
    [
        ("2026-11-27T07:59:59+01:00", False),
        ("2026-11-27T08:00:00+01:00", True),  # the first instant is in
        ("2026-11-27T16:59:59+01:00", True),
        ("2026-11-27T17:00:00+01:00", False),  # the last one is not
        ("2026-11-28T10:00:00+01:00", False),  # a Saturday
        ("2026-07-03T06:30:00Z", True),  # summer time: half past eight there
        ("2026-11-27T06:30:00Z", False),
    ],
)
def test_edges_of_a_window(at: str, is_open: bool) -> None:
    plan = build()
    assert plan.network.hours["office"].open_at(parse_moment(at)) is is_open


@pytest.mark.parametrize(
    "at, is_open",
    [
        ("2026-11-27T23:00+01:00", True),
        ("2026-11-28T05:59+01:00", True),
        ("2026-11-28T06:00+01:00", False),
        ("2026-11-27T21:59+01:00", False),
    ],
)
def test_a_window_past_midnight(at: str, is_open: bool) -> None:
    assert build().network.hours["night"].open_at(parse_moment(at)) is is_open


def test_clocks_that_change_are_followed_as_the_wall_shows_them() -> None:
    """29 March 2026: two o'clock does not come in Vienna. 25 October 2026: it comes twice."""
    gap = build().network.hours["gap"]
    spring = parse_moment("2026-03-29T00:00Z")
    assert not any(gap.open_at(spring + 60 * m) for m in range(180))
    autumn = parse_moment("2026-10-25T00:00Z")
    assert sum(gap.open_at(autumn + 60 * m) for m in range(180)) == 120


def test_what_else_a_rule_by_name_is_about_is_said() -> None:
    journey = mc.trace(build(LAN="arriving: one", ONE="{permit: tcp, name: tube.example}"), "clerk", "tube", "https")
    words = " ".join(journey.explain(details=True).split())
    assert "203.0.113.90 is also clips.example, films.example: the rule is about the address, so about those too" in words


def test_a_rule_that_waits_for_the_application_says_so() -> None:
    journey = mc.trace(build(LAN="arriving: one", ONE=VIDEO), "clerk", "tube", "https")
    words = " ".join(journey.explain(details=True).split())
    assert "one rule 10 could not decide: the application is known from packet 3 on" in words
    assert journey.later is not None
    assert journey.later.packet.flags == "ACK"
    assert len(journey.to_dict()["legs"]) == 3


def test_a_missing_time_is_told() -> None:
    journey = mc.trace(build(LAN="arriving: one", ONE="{permit: tcp, hours: office}"), "clerk", "guest", "http")
    assert any("no time was given: say when, with --at" in b.words for b in journey.told)


def test_filtering_that_is_off_is_told_where_it_would_have_mattered() -> None:
    plan = build(GATES="everywhere: {lists: [one], enabled: no}", ONE="{deny: tcp, service: http}, {permit: any}")
    said = [b.words for b in mc.trace(plan, "guest", "clerk", "http").told]
    assert said == ["one with 2 rules stand everywhere on gate, and are switched off"]
    assert not mc.trace(plan, "guest", "clerk", "ping").told


def test_a_session_whose_application_became_known_is_gone() -> None:
    from mossy_compass.state.state import State
    from mossy_compass.walk.question import ask
    from mossy_compass.walk.trace import trace_question

    plan = build(LAN="arriving: one", ONE=VIDEO)
    state = State()
    beginning = state.keep()
    journey, _ = trace_question(plan, ask(plan, "clerk", "tube", "https"), state)
    assert journey.cause == "session.recalled"
    assert not state.sessions("gate")
    moment = state.keep()
    trace_question(plan, ask(plan, "clerk", "almanac", "https"), state)
    assert len(state.sessions("gate")) == 1
    state.back_to(moment)
    assert not state.sessions("gate")
    state.back_to(beginning)
    assert not state.sessions("gate")
    assert not state.sessions("clerk")


CHAT = "{id: 10, deny: tcp, application: chat}, {id: 20, permit: any}"
STANDS: list[dict[str, str]] = [
    {"LAN": "arriving: one"},
    {"OUT": "leaving: one"},
    {"GATES": "everywhere: [one]"},
    {"GATES": "crossings: [{from: house, into: world, lists: [one]}]"},
    {"GATES": "profiles: {p: {for: [clerk], lists: [one]}}"},
    {"GATES": "profiles: {p: {for: [clerk], mode: after, lists: [one]}}", "LAN": "arriving: two", "TWO": "{deny: udp}"},
]


@pytest.mark.parametrize("stands", STANDS)
@pytest.mark.parametrize(
    "before, after, cause",
    [
        (CHAT, CHAT, "service.open"),
        (CHAT, VIDEO, "session.recalled"),  # closed since: the list of today judges
        (CHAT, "{permit: any}", "service.open"),
        (CHAT, "{deny: tcp, application: mail}, {permit: tcp}", "service.open"),
        (CHAT, "{deny: tcp}", "service.open"),  # no rule asks for an application, so nothing is learned: the session stays
    ],
)
def test_a_session_is_judged_again_by_the_list_that_stands_there_now(
    stands: dict[str, str], before: str, after: str, cause: str
) -> None:
    lab = mc.Lab(build(ONE=before, **stands).network)
    flow = mc.Flow("clerk", "tube", "https", Options(source_port=50000))
    assert lab.send(flow).answered
    lab.change(build(ONE=after, **stands).network)
    journey = lab.send(flow)
    assert (journey.cause, journey.answered) == (cause, cause == "service.open")
    if cause == "session.recalled":
        assert "one rule 10" in journey.explain()


def test_a_session_is_not_judged_where_nothing_stands_any_more() -> None:
    for stands in STANDS:
        lab = mc.Lab(build(ONE=CHAT, **stands).network)
        flow = mc.Flow("clerk", "tube", "https", Options(source_port=50000))
        assert lab.send(flow).answered
        lab.change(build(ONE=VIDEO).network)
        assert lab.send(flow).answered


def test_learned_names_are_forgotten_with_the_moment() -> None:
    from mossy_compass.packet.address import parse_address
    from mossy_compass.state.state import State

    state, address = State(), parse_address("203.0.113.80")
    kept = state.keep()
    state.learn("gate", "hall.example", [address])
    state.learn("gate", "other.example", [address])
    assert state.names_of("gate", address) == {"hall.example", "other.example"}
    assert state.names_of("other", address) == frozenset()
    state.back_to(kept)
    assert state.names_of("gate", address) == frozenset()


# --- evidence ----------------------------------------------------------------------------------------------------


def test_counters_add_up() -> None:
    plan = build(
        LAN="arriving: one", ONE="{note: icmp, log: debug}, {permit: icmp}, {permit: tcp, service: ssh}", TRANSLATE="{leaving: out}"
    )
    journeys = [
        mc.trace(plan, "clerk", to, what)
        for to, what in (("guest", "ping"), ("almanac", "ping"), ("guest", "http"), ("almanac", "ping"))
    ]
    counters = Counters()
    for journey in journeys:
        counters.add(journey)
    found = {(c.table, c.row): (c.hits, c.unit) for c in counted(plan, counters)}
    assert found["one", "10"] == (3, "packets")
    assert found["one", "20"] == (3, "packets")
    assert found["one", "30"] == (0, "packets")
    assert found["one", "end-of-list"] == (1, "packets")
    assert found["translate of gate", "10"] == (2, "connections")
    assert found["default", "inbound"] == (2, "packets")  # the answers to pings, which are not inspected
    assert counters.tests == 4
    assert [u[:3] for u in counters.undecided] == [("clerk", "guest", "tcp/80")]
    assert [(p.journey.target, p.way) for p in decided_by(journeys, "one", "20")] == [
        ("guest", "there"),
        ("almanac", "there"),
        ("almanac", "there"),
    ]


def test_log_lines_are_those_of_the_standard() -> None:
    """RFC 5424: priority is facility times 8 and severity; nil time; structured data."""
    plan = build(
        LAN="arriving: one",
        ONE="{id: no-web, deny: tcp, service: http, log: alert}, {permit: any, log: yes}",
        SETTING="log-defaults: yes",
    )
    refused = mc.trace(plan, "clerk", "guest", "http")
    (line,) = lines([refused])
    assert line.startswith("<129>1 - gate mossy - dropped [mossy@32473 ")
    for part in (
        'list="one"',
        'rule="no-web"',
        'verdict="dropped"',
        'source="10.40.1.10"',
        'destination-port="80"',
        'arriving="lan"',
    ):
        assert part in line
    passed = mc.trace(plan, "clerk", "guest", "ping")
    assert [x.split(" ")[0] for x in lines([passed], "2026-11-27T09:00:00Z")] == ["<134>1"]
    closed = mc.trace(plan, "almanac", "clerk", "http")
    assert [x.split(" ")[0] for x in lines([closed])] == ["<132>1"]
    assert list(lines([refused, passed], source=lambda a: str(a) == "10.40.9.9")) == []
    assert len(list(lines([refused, passed], target=lambda a: str(a) == "10.40.2.10"))) == 2


def test_every_place_is_shown_in_its_order() -> None:
    plan = build(
        GATES="crossings: [{from: guests, into: any, lists: [one, two]}]\n    from-self: [two]\n    offers: {lan: {ping: any}}",
        LAN="arriving: one",
        ONE="{permit: tcp}",
        TWO="{deny: any}",
    )
    places, *_ = list_tables(plan, "gate")
    found = {row[0]: row[1:] for row in places.rows}
    assert found["lan arriving"] == ("one", "end-of-list: dropped")
    assert found["lan leaving"] == ("not set", "no-list: passes")
    assert found["guests into house"] == ("one\ntwo", "end-of-list: dropped")
    assert found["house into world"] == ("not set", "outbound: passes")
    assert found["world into house"] == ("not set", "inbound: dropped")
    assert found["lan to itself"] == ("offers of gate/lan", "passes")
    assert found["of itself"] == ("two", "end-of-list: dropped")
    names = {t.name for t in list_tables(plan, "gate", built_in=True)}
    assert {"lists", "list one", "list two", "offers lan", "built-in to-self", "built-in from-self"} <= names


# --- faults ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "parts, code, says",
    [
        ({"ONE": "{permit: tcp, hours: ofice}"}, "name.unknown", "there is no 'ofice' under hours:"),
        ({"ONE": "{permit: tcp, application: vidio}"}, "name.unknown", "no application or category 'vidio'"),
        ({"ONE": "{permit: tcp, name: nowhere.example}"}, "name.unknown", "it will never have an address"),
        ({"ONE": "{permit: tcp, fragments: yes, to-port: 80}"}, "rule.fragments", "later fragments have no ports"),
        ({"ONE": "{permit: tcp, opening: yes, state: [answering]}"}, "rule.state", "could never match"),
        ({"ONE": "{permit: tcp, answer: reset}"}, "value.wrong", "this rule says permit"),
        ({"ONE": "{deny: tcp, answer: reset}"}, "value.wrong", "write reject, or remove answer"),
        ({"LAN": "arriving: [one, one]"}, "list.twice", "the second is never asked"),
        ({"LAN": "arriving: thre"}, "list.unknown", "there is no list 'thre'"),
        (
            {"GATES": "crossings: [{from: hous, into: world, lists: [one]}]"},
            "interface.unknown",
            "no zone, interface or group 'hous'",
        ),
        ({"GATES": "crossings: [{from: self, into: world, lists: [one]}]"}, "crossing.self", "Write from-self"),
        ({"GATES": "profiles: {p: {lists: [one]}}"}, "profile.nobody", "it would be everybody's"),
        ({"GATES": "offers: {lam: {ping: any}}"}, "interface.unknown", "no interface 'lam'"),
        ({"GATES": "offers: {lan: {ping: [none, desk]}}"}, "value.wrong", "none stands alone"),
        ({"GATES": "built-in: {own-ping: no}"}, "gate.built-in", "no built-in rule 'own-ping'"),
        ({"GATES": "built-in: {own-pings: no}", "KIND": "router"}, "gate.built-in", "only a firewall has built-in rules"),
        ({"TRANSLATE": "{leaving: out, lists: [one]}"}, "translate.kind", "this rule is about sources"),
        ({"GATES": "from-self: [one]", "ONE": "{permit: tcp, leaving: out}"}, "rule.too-early", "gate from-self"),
        ({"GATES": "to-self: []"}, "value.empty", "this list is empty"),
    ],
)
def test_faults_are_named(parts: dict[str, str], code: str, says: str) -> None:
    reading = mc.read_bytes(text(**parts).encode(), "g.yaml")
    found = [f"{p.message} {p.remedy}" for p in reading.problems if p.code == code]
    assert found, [p.line() for p in reading.problems]
    assert any(says in words for words in found), found


@pytest.mark.parametrize(
    "hours, code",
    [
        ('{from: "08:00", until: "08:00"}', "hours.never"),
        ('{from: "24:00", until: "08:00"}', "hours.never"),
        ('{from: "08:00", until: "17:00", zone: Europe/Wien}', "hours.zone"),
        ('{from: "08:00", until: "25:00"}', "value.wrong"),
        ('{from: "8", until: "17:00"}', "value.wrong"),
        ('{from: "08:00", until: "17:00", days: []}', "value.empty"),
        ('{from: "08:00", until: "17:00", zone: "../../etc/passwd"}', "hours.zone"),
    ],
)
def test_faulty_windows(hours: str, code: str) -> None:
    reading = mc.read_bytes(text().replace("hours:\n", f"hours:\n  bad: {hours}\n").encode(), "g.yaml")
    assert code in {p.code for p in reading.errors}, [p.line() for p in reading.problems]


def test_closed_outside_is_said_by_check() -> None:
    codes = {p.code: p.message for p in mc.read_bytes(text().encode(), "g.yaml").problems}
    assert "they can start nothing (inbound: deny, the default of a firewall)" in codes["firewall.closed"]
    for gates, but in (
        ("to-self: one", "but what one permits to gate itself (inbound"),
        ("offers: {out: {ping: any}}", "but what gate offers there (inbound"),
        ("offers: {lan: {ping: any}}", "(inbound"),
        ("profiles: {p: {arriving: out, lists: [one]}}", "but what profile p permits (inbound"),
        ("profiles: {p: {arriving: lan, lists: [one]}}", "(inbound"),
    ):
        told = {p.code: p.message for p in mc.read_bytes(text(ONE="{permit: any}", GATES=gates).encode(), "g.yaml").problems}
        assert f"they can start nothing {but}" in told["firewall.closed"]
    guessed = text().replace(", outside: yes", "").replace("guest: {address: 10.40.2.1/24", "guest: {address: 192.0.2.1/24")
    assert "firewall.outside" in {p.code for p in mc.read_bytes(guessed.encode(), "g.yaml").problems}


def test_every_built_in_rule_and_new_setting_has_its_words() -> None:
    for rule in BUILT_IN.values():
        assert rule.about
        assert rule.kinds
    assert {"inbound", "outbound", "through", "translation-opens", "log-defaults", "name-rules"} <= set(SETTINGS)


@pytest.mark.parametrize("words", ["", "yesterday", "2026-13-01", "2026-11-27T25:00", "9" * 400])
def test_a_time_that_is_none_is_refused(words: str) -> None:
    with pytest.raises(mc.InputError, match="is no time"):
        parse_moment(words)


@pytest.mark.parametrize("options", [{"at": -1}, {"at": 10**12}, {"application": "vidio"}])
def test_questions_that_cannot_be_meant(options: dict[str, Any]) -> None:
    with pytest.raises(mc.QuestionError):
        mc.trace(build(), "clerk", "guest", "http", **options)
