"""Two versions of a network, compared for all packets: what is said to turn does, when it is walked, and nothing else does."""

from __future__ import annotations

import itertools
import json
import random
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.cli.main import main
from mossy_compass.lab import versions as comparing
from mossy_compass.lab.circumstances import Circumstances, Memories
from mossy_compass.lab.forms import Sets, holding, room
from mossy_compass.lab.inwords import Arrives
from mossy_compass.lab.proofs import packets_of
from mossy_compass.lab.unalike import Felt, felt
from mossy_compass.lab.versions import (
    ANOTHER_WAY,
    BY_ANOTHER,
    CLOSES,
    KEEPS_OUT,
    LETS_IN,
    OPENS,
    Compared,
    Turned,
    Which,
    compare_all,
)
from mossy_compass.packet.address import parse_address
from mossy_compass.packet.packet import TCP_FLAGS, Packet
from mossy_compass.packet.service import ICMP, TCP, Service
from mossy_compass.plan.balance import Choose
from mossy_compass.plan.facts import Relation
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Fate
from mossy_compass.walk.many import by_every_choice
from mossy_compass.walk.question import Question
from mossy_compass.walk.sent import sent
from tests.conftest import DATA
from tests.effort import examples
from tests.test_columns import FORKED
from tests.test_laws import networks
from tests.test_unmet import yard

OPENING = Relation.OPENING
KINDS = {CLOSES: "closes", OPENS: "opens", BY_ANOTHER: "reason", ANOTHER_WAY: "way", LETS_IN: "lets in", KEEPS_OUT: "keeps out"}


def compared(before: mc.Network, after: mc.Network, **asked: list[str]) -> Compared:
    sources, targets, services = (asked.get(key, []) for key in ("sources", "targets", "services"))
    return compare_all(Plan(before), Plan(after), sources, targets, services)


def in_words(turned: Turned) -> list[str]:
    """What turns, in words: ``!`` for all but, ``~`` for partly."""
    out = []
    for which in turned.which:
        services = ",".join(a.words + "~" * a.partly for a in which.services)
        what = "part:" * which.part + "!" * which.all_but + services
        out.append(f"{KINDS[turned.kind]} {'+'.join(which.sources)} > {'+'.join(which.targets)} {what}")
    return out


def told(before: mc.Network, after: mc.Network, **asked: list[str]) -> list[str]:
    """All that turns, and when."""
    found = compared(before, after, **asked)
    lines = [line + f" @{t.when}" * bool(t.when) for t in found.turned for line in in_words(t)]
    return lines + [f"home {t.journeys[0].there.packet}: {t.seen[0]}, now {t.seen[1]}" for t in found.told_home]


NAMED = "names: {shop.example: [10.40.2.10, 10.40.2.11]}\n"
LATE = "hours: {late: {from: '22:00', until: '23:00'}}\n"
CLOSED = yard("l: [{id: 10, permit: tcp, service: ssh}]", "l")
OPEN = yard()
PORT = "    translate: [{id: a, to: 10.40.9.9, service: https, goes-to: shelf}]"


ROUTE = "    routes: [{prefix: 10.40.2.10/32, action: discard}]"
STEER = "    policy-routes: [{id: p, to: store, arriving: in, candidates: [10.40.2.11]}]"
SHOP = "groups: {shop: [@]}\n"


def shop(who: str) -> mc.Network:
    return yard("l: [{permit: tcp, to: shop}]", "l", top=SHOP.replace("@", who))


def both(attached: str) -> mc.Network:
    return yard("l: [{permit: any}], o: [{deny: tcp, service: ssh}, {permit: any}]", attached)


def learned(rules: str) -> mc.Network:
    return yard(f"l: [{rules}]", "l", top=NAMED, gate="    settings: {name-rules: learned}")


def ssh(more: str = "", top: str = "") -> mc.Network:
    return yard(f"l: [{{id: 10, permit: tcp, service: ssh{more}}}]", "l", top=top)


@pytest.mark.parametrize(
    ("before", "after", "asked", "words"),
    [
        # one rule more, narrower, or by which nothing changes
        (CLOSED, CLOSED, {}, []),
        (CLOSED, yard("l: [{id: 10, permit: tcp, service: ssh}, {id: 20, permit: tcp, from: desk, to: store, service: https}]", "l"), {"sources": ["a"]}, ["opens desk > store https"]),
        (yard("l: [{id: 10, permit: tcp, from: desk, service: ssh}, {id: 20, permit: tcp, service: ssh}]", "l"), CLOSED, {}, []),
        (CLOSED, yard("l: [{permit: tcp, service: ssh}]", "l"), {}, []),
        (yard("l: [{id: 10, deny: tcp}, {id: 20, permit: any}]", "l"), yard("l: [{id: 11, deny: tcp}, {id: 12, permit: any}]", "l"), {}, []),
        (yard(gate=PORT), yard(gate=PORT.replace("id: a", "id: b")), {"sources": ["a"]}, []),
        (yard(gate=STEER), yard(gate=STEER.replace("id: p", "id: q")), {"sources": ["a"], "services": ["https"]}, []),
        (CLOSED, yard("l: [{id: 10, permit: tcp, service: ssh}, {id: 20, permit: tcp, from-port: 7, to: shelf, service: https}]", "l"), {"sources": ["a"]}, ["opens desk+till > shelf https~"]),
        # what no answer of comes home ends for another reason: the refusal of a port that is closed
        (CLOSED, yard("l: [{id: 10, permit: tcp, service: ssh}, {id: 20, permit: tcp, from: desk, to: store, service: https}]", "l"), {"sources": ["b"]}, ["reason store > desk tcp~"]),
        (CLOSED, yard("l: [{id: 10, permit: icmp}, {id: 20, permit: tcp, service: ssh}]", "l"), {"sources": ["desk"], "targets": ["shelf"]}, ["opens desk > shelf ping", "lets in desk > shelf icmp", "reason desk > shelf other icmp~"]),
        (CLOSED, yard("l: [{id: 5, reject: udp}, {id: 10, permit: tcp, service: ssh}]", "l"), {"sources": ["desk"], "targets": ["shelf"]}, ["reason desk > shelf domain~,ntp,snmp,syslog,other udp"]),
        # at times; both families; another list at the place; a group
        (CLOSED, ssh(", hours: late", LATE), {"sources": ["desk"], "targets": ["shelf"]}, ["closes desk > shelf ssh @outside every window of time"]),
        (ssh(", hours: late", LATE), CLOSED, {"sources": ["desk"], "targets": ["shelf"]}, ["opens desk > shelf ssh @outside every window of time"]),
        (OPEN, CLOSED, {"sources": ["desk"], "targets": ["store"], "services": ["https", "ping"]}, ["closes desk > store ping,https"]),
        (OPEN, yard("l: [{permit: any, to: '2001:db8:2::/64'}, {permit: icmp6}]", "l"), {"sources": ["desk"], "targets": ["store"], "services": ["ping"]}, ["closes desk > store ping~"]),
        (both("l"), both("o"), {"sources": ["a"], "targets": ["shelf"]}, ["closes desk+till > shelf ssh"]),
        (shop("store"), shop("shelf"), {"sources": ["till"], "services": ["https", "ssh"]}, ["closes till > store https", "opens till > shelf https,ssh", "reason till > store ssh", "keeps out till > store https,ssh"]),
        (learned("{id: 1, permit: tcp, name: shop.example}"), learned("{id: 1, permit: tcp, to: shelf}, {id: 2, permit: tcp, name: shop.example}"), {"sources": ["till"], "targets": ["shelf"], "services": ["ssh"]}, ["opens till > shelf ssh @while no name was asked for"]),
        # routes, translations, steering, settings
        (OPEN, yard(gate=ROUTE), {"sources": ["desk"], "services": ["https"]}, ["closes desk > store https~"]),
        (OPEN, yard(gate=STEER), {"sources": ["b"], "targets": ["desk"], "services": ["ping"]}, ["closes store > desk ping~"]),
        (OPEN, yard(gate=PORT), {"sources": ["a"]}, ["opens desk+till > 10.40.9.9 https"]),
        (OPEN, yard(gate="    translate: [{leaving: out, source: desk}]"), {"sources": ["a"], "services": ["https"]}, ["way desk > store https~", "way desk > shelf https"]),
        (OPEN, yard(gate="    settings: {forwarding: no}"), {"sources": ["till"], "targets": ["shelf", "gate"], "services": ["ssh", "ping"]}, ["closes till > shelf ping,ssh"]),
    ],
)  # fmt: skip
def test_what_turns_is_told_by_name(before: mc.Network, after: mc.Network, asked: dict[str, list[str]], words: list[str]) -> None:
    assert told(before, after, **asked) == words


@pytest.mark.parametrize(
    ("before", "after", "asked", "words"),
    [
        # what an inspected protocol's strays fare by is no rule's
        ("unknown-session: drop", "unknown-session: filter", {"sources": ["desk"], "targets": ["store"]}, ["lets in desk > store tcp"]),
        ("unknown-session: filter", "unknown-session: drop", {"sources": ["desk"], "targets": ["store"]}, ["keeps out desk > store tcp"]),
        ("unknown-session: filter", "unknown-session: drop", {"sources": ["desk"], "targets": ["store"], "services": ["https"]}, ["keeps out desk > store https"]),
        ("unknown-session: filter", "unknown-session: drop", {"sources": ["desk"], "targets": ["10.50.0.1"]}, []),
    ],
)  # fmt: skip
def test_what_opens_nothing_is_told_apart(before: str, after: str, asked: dict[str, list[str]], words: list[str]) -> None:
    versions = [
        yard("l: [{permit: any}]", "l", gate=f"    stateful: [tcp]\n    settings: {{{setting}}}") for setting in (before, after)
    ]
    found = told(versions[0], versions[1], **asked)
    assert found == words


def test_what_opens_nothing_is_not_told_where_it_follows_what_does() -> None:
    """Its own services alone: of a list that is about other ports as well, those are told."""
    both = yard("l: [{id: 10, permit: tcp, service: ssh}, {id: 20, permit: tcp, from: desk, to: store, to-port: 443-444}]", "l")
    assert told(CLOSED, both, sources=["desk"], targets=["store"]) == [
        "opens desk > store https",
        "lets in desk > store https,other tcp~",
        "reason desk > store other tcp~",
    ]


def which(*services: str, all_but: bool = False) -> Which:
    """Packets from one host to another; ``~`` for partly."""
    return Which(("a",), ("b",), tuple(Arrives(w.rstrip("~"), w.endswith("~"), False) for w in services), all_but, False)


@pytest.mark.parametrize(
    ("led", "others", "leads"),
    [
        ([which("ssh", "https")], which("ssh"), True),
        ([which("ssh"), which("https")], which("ssh", "https"), True),
        ([which("ssh")], which("ssh", "https"), False),
        ([which("everything")], which("ssh", "other tcp"), True),
        ([which("ping", all_but=True)], which("ssh"), True),
        ([which("ping", all_but=True)], which("ping"), False),
        ([which("ping", all_but=True)], which("ping", "ssh", all_but=True), True),
        ([which("ping", "ssh", all_but=True)], which("ping", all_but=True), False),
        ([which("ssh")], which("ssh", all_but=True), False),
        ([], which("ssh"), False),
        # a part leads no more than a part
        ([which("ssh~")], which("ssh"), False),
        ([which("ssh~")], which("ssh~"), True),
        ([which("ssh")], which("ssh~"), True),
        ([which("ssh")._replace(part=True)], which("ssh"), False),
        ([which("ssh")._replace(part=True)], which("ssh")._replace(part=True), True),
    ],
)
def test_what_follows_what_opens_something(led: list[Which], others: Which, leads: bool) -> None:
    assert comparing._leads(led, others) is leads


def test_nobody_sends_icmp_of_the_other_family() -> None:
    sets = Sets(room(16))
    to_v6 = sets.to([mc.parse_address("2001:db8::1")])
    for some in (sets.opening, sets.strays):
        assert (some & packets_of(sets, [Service(TCP)]) & to_v6).satisfiable()
        assert not (some & packets_of(sets, [Service(ICMP)]) & to_v6).satisfiable()


def test_what_opens_nothing_is_told_where_the_rest_turns_at_other_times() -> None:
    leader, follower = (
        Turned(kind, None, None, (), (which("ssh"),), when)  # type: ignore[arg-type]  # what it is in words counts alone
        for kind, when in ((OPENS, "while late is open"), (LETS_IN, ""))
    )
    assert list(comparing._without_followers([leader, follower])) == [leader, follower]
    for when in ("", "while late is open"):
        assert list(comparing._without_followers([leader._replace(when=""), follower._replace(when=when)])) == [
            leader._replace(when="")
        ]
    assert list(comparing._without_followers([leader, follower._replace(when=leader.when)])) == [leader]
    assert list(comparing._without_followers([leader._replace(kind=CLOSES), follower._replace(when=leader.when)]))[1:]


def test_who_is_there_in_one_version_alone_is_told() -> None:
    other = yard()
    moved = replace(other, devices={n: d for n, d in other.devices.items() if n != "till"})
    segments = {n: replace(s, members=tuple(m for m in s.members if m[0] != "till")) for n, s in moved.segments.items()}
    found = compared(OPEN, replace(moved, segments=segments), services=["https"])
    assert found.left == ()
    assert found.one_sided == ("till 10.40.1.11 (only before)",)
    assert "till" not in {name for t in found.turned for w in t.which for name in w.sources}
    with pytest.raises(mc.QuestionError, match="nobody of those who are meant sends in both versions"):
        compared(OPEN, replace(moved, segments=segments), sources=["till"])


def closed(rule: str, out: str, gate: str) -> tuple[mc.Network, mc.Network]:
    """A list with a rule, and without it, before everything else is denied."""
    rest = "{id: 90, permit: udp}, {id: 91, permit: icmp6}"
    return tuple(yard(f"l: [{rules}{rest}]", "", out, gate) for rules in ("", rule + ", "))  # type: ignore[return-value]


GROUPED = "    translate: [{source: g, leaving: out}]"
TO_8443 = "    translate: [{to: 10.40.9.9, service: https, goes-to: {address: shelf, port: 22}}]"
NEAR = "    translate: [{to: 10.40.1.50, service: https, goes-to: shelf}]"


@pytest.mark.parametrize(
    ("before", "after", "asked", "turned"),
    [
        # a port and an address that a translation gives; what an answer gets back; an error; an outer packet is below
        (*closed("{id: 10, permit: tcp, service: ssh}", "{leaving: l}", TO_8443), {"sources": ["till"]}, True),
        (*closed("{id: 10, permit: tcp, to: shelf}", "{leaving: l}", PORT), {"sources": ["till"]}, True),
        (yard("l: [{id: 10, deny: tcp, from: 10.40.9.9}, {id: 20, permit: any}]", gate=PORT + "\n    everywhere: l"), yard(gate=PORT), {"sources": ["till"]}, False),
        (yard("l: [{id: 10, permit: tcp}, {id: 90, permit: udp}]", "", "{arriving: l}"), yard("l: [{id: 10, permit: tcp}, {id: 50, permit: icmp, icmp: port-unreachable}, {id: 90, permit: udp}]", "", "{arriving: l}"), {"sources": ["till"], "services": ["udp/7"]}, True),
        # the same rules in another order
        (yard("l: [{id: 10, permit: tcp, from: till}, {id: 20, deny: tcp}, {id: 30, permit: any}]", "l"), yard("l: [{id: 20, deny: tcp}, {id: 10, permit: tcp, from: till}, {id: 30, permit: any}]", "l"), {"sources": ["a"], "services": ["ssh"]}, True),
        # who hands packets to a device that translates feels it too
        (OPEN, yard(gate=NEAR), {"sources": ["desk"], "services": ["https"]}, True),
        # groups that a device names, or that a group of a rule names
        (yard(gate=GROUPED, top="groups: {g: [desk]}\n"), yard(gate=GROUPED, top="groups: {g: [till]}\n"), {"sources": ["a"], "services": ["https"]}, True),
        (yard("l: [{permit: tcp, from: g}]", "l", top="groups: {g: [h], h: [desk]}\n"), yard("l: [{permit: tcp, from: g}]", "l", top="groups: {g: [h], h: [till]}\n"), {"sources": ["a"], "services": ["https"]}, True),
        (yard("l: [{permit: tcp, service: w}]", "l", top="services: {w: [tcp/22]}\n"), yard("l: [{permit: tcp, service: w}]", "l", top="services: {w: [tcp/443]}\n"), {"sources": ["a"]}, True),
        (yard("l: [{permit: tcp, service: w}]", "l", top="services: {w: [x, tcp/9], x: [tcp/22]}\n"), yard("l: [{permit: tcp, service: w}]", "l", top="services: {w: [x, tcp/9], x: [tcp/443]}\n"), {"sources": ["till"]}, True),
        # a route that is not in use is a reason, where nothing else leads there
        (yard(gate="    routes: [{prefix: 10.50.0.0/16, next-hop: 10.40.77.1}]"), OPEN, {"sources": ["till"], "targets": ["10.50.0.1"]}, True),
        # a list without its last rule is empty, which is felt by what that rule was not about
        (yard("l: [{id: 10, permit: udp}]", "l"), yard("l: []", "l"), {"sources": ["till"], "services": ["https"]}, True),
        (yard("l: []", "l"), yard("l: [{id: 10, permit: udp, from: desk}]", "l"), {"sources": ["till"], "services": ["https"]}, True),
        # what differs and is felt by nobody
        (CLOSED, yard("l: [{id: 10, permit: tcp, service: ssh}, {id: 20, permit: tcp, service: ssh, from: desk}]", "l"), {}, False),
    ],
)  # fmt: skip
def test_whatever_can_be_felt_is_walked(
    before: mc.Network, after: mc.Network, asked: dict[str, list[str]], turned: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    found = told(before, after, **asked)
    monkeypatch.setattr(comparing, "felt", lambda one, other: Felt(frozenset(), None, (), (one, other)))
    assert told(before, after, **asked) == found
    assert bool(found) == turned


TUNNELLED = """\
mossy-network: 1
lists: {l: [RULES]}
devices:
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  a:
    kind: router
    interfaces: {in: 10.40.1.1/24, up: 198.51.100.1/24, t: {tunnel: {to: 198.51.100.2, by: up}}}
    routes: [{prefix: 10.44.0.0/16, leaving: t}]
  b:
    kind: router
    interfaces: {in: 10.44.1.1/24, up: {address: 198.51.100.2/24, filter: {arriving: l}}, t: {tunnel: {to: 198.51.100.1, by: up}}}
    routes: [{prefix: 10.40.0.0/16, leaving: t}]
  store: {kind: host, address: 10.44.1.10/24, gateway: 10.44.1.1, serves: [https]}
segments: {x: [desk, a/in], m: [a/up, b/up], y: [b/in, store]}
"""


def test_a_rule_about_outer_packets_is_felt_by_what_they_carry() -> None:
    versions = [
        mc.read_bytes(TUNNELLED.replace("RULES", rules).encode(), "t.yaml").network for rules in ("{permit: gre}", "{permit: esp}")
    ]
    assert versions[0] is not None
    assert versions[1] is not None
    assert "closes desk > store ping,https" in told(versions[0], versions[1], sources=["desk"])


def test_what_is_down_by_itself_is_felt_everywhere() -> None:
    down = replace(OPEN, down=frozenset({("gate", "probe")}))
    assert felt(Plan(OPEN), Plan(down)).rows is None
    assert told(OPEN, down, sources=["till"], targets=["shelf"], services=["ssh"]) == []


def test_equal_ways_in_another_order_are_the_same_ways(monkeypatch: pytest.MonkeyPatch) -> None:
    ways = ["{prefix: 10.40.2.0/24, next-hop: 10.40.9.2}", "{prefix: 10.40.2.0/24, next-hop: 10.40.9.6}"]
    network, other = (
        mc.read_bytes(FORKED.replace(f"[{ways[0]}, {ways[1]}]", f"[{', '.join(some)}]").encode(), "f.yaml").network
        for some in (ways, ways[::-1])
    )
    assert network is not None
    assert other is not None
    monkeypatch.setattr(comparing, "felt", lambda one, other: Felt(frozenset(), None, (), (one, other)))
    assert told(network, other, sources=["desk"], services=["https"]) == []


def test_what_is_of_an_application_turns_for_its_own_packets_alone() -> None:
    top = "applications: {book: {category: still, to: shelf, service: https}}\n"
    before = yard("l: [{id: 10, permit: tcp, service: https}]", "l", top=top)
    after = yard("l: [{id: 5, deny: tcp, application: book}, {id: 10, permit: tcp, service: https}]", "l", top=top)
    # to the shelf as the network says itself; to the store only where somebody says that it is a book
    assert told(before, after, sources=["till"], targets=["shelf"], services=["https"]) == ["closes till > shelf https"]
    assert told(before, after, sources=["till"], targets=["store"], services=["https"]) == ["closes till > store https @as book"]


def test_what_cannot_be_felt_is_not_walked() -> None:
    narrow = yard("l: [{id: 10, permit: tcp, service: ssh}, {id: 20, permit: udp, from: desk, to: store, service: udp/7}]", "l")
    assert compared(CLOSED, narrow).kinds < 12
    assert felt(Plan(CLOSED), Plan(narrow)).alike == {"desk", "till", "store", "shelf"}
    everything = felt(Plan(OPEN), Plan(yard(gate="    settings: {forwarding: no}")))
    assert (everything.alike, everything.rows) == (frozenset(), None)


def test_what_senders_are_told_of_lost_packets_is_beside_how_these_end(tmp_path: Path) -> None:
    """An error is followed of one packet of each kind: that its way home differs says nothing of the others, which end as before."""
    one, two = tmp_path / "one.yaml", tmp_path / "two.yaml"
    text = (
        "mossy-network: 1\nlists: {l: [{id: 5, deny: icmp, icmp: port-unreachable}, {id: 10, permit: any}]}\ndevices:\n"
        "  a: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}\n"
        "  r: {kind: router, interfaces: {x: 10.40.1.1/24, y: {address: 10.40.2.1/24, filter: {arriving: l}}}}\n"
        "  b: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https]}\n"
        "segments: {one: [a, r/x], two: [r/y, b]}\n"
    )
    one.write_text(text)
    two.write_text(text.replace("{id: 5, deny: icmp, icmp: port-unreachable}, ", ""))
    said = CliRunner().invoke(main, ["compare", str(one), str(two), "--all", "--from", "a", "--to", "b", "--service", "udp/9"])
    words = " ".join(said.output.replace(str(tmp_path) + "/", "").split())
    assert said.exit_code == 1
    assert "no packet of 1 sender ends otherwise, but senders are told otherwise of some that are lost." in words
    assert (
        "as udp 10.40.1.10:49152 > 10.40.2.10:9: lost as before; its sender saw silence, and sees refused now; the error about it was lost at r: l rule 5 (one.yaml:2) Packets"
        in words
    )
    # the reset of a closed port is an answer like others
    assert told(mc.load(one), mc.load(two), sources=["a"], targets=["b"], services=["tcp/9"]) == []


ROOF = """\
mossy-network: 1
lists: {l: [{deny: udp, service: udp/7}, {reject: udp, to: shed}, {permit: any}], o: [#RULES{permit: any}]}
devices:
  roof: {kind: router, interfaces: {x: {address: [10.40.1.20/24, 10.40.1.21/24, 10.40.1.22/24]}}, routes: [{prefix: default, next-hop: 10.40.1.1}]}
  gate:
    kind: router
    interfaces: {x: 10.40.1.1/24, y: {address: 10.40.9.1/30, filter: {arriving: o}}}
    routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.9.2}]
  wall:
    kind: router
    interfaces: {y: {address: 10.40.9.2/30, filter: {arriving: l}}, z: 10.40.2.1/24}
    routes: [{prefix: default, next-hop: 10.40.9.1}]
  shed: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https]}
segments: {one: [roof, gate/x], two: [gate/y, wall/y], three: [wall/z, shed]}
"""


@pytest.mark.parametrize(
    ("was", "now", "differs"),
    [
        ("", "{deny: icmp, to: 10.40.1.21}, ", {"10.40.1.21"}),
        ("{deny: icmp, to: 10.40.1.22}, ", "{deny: icmp, to: 10.40.1.21}, ", {"10.40.1.21", "10.40.1.22"}),
        ("{deny: icmp, to: 10.40.1.21}, ", "{deny: icmp, to: 10.40.1.21}, ", set()),
        ("", "{deny: icmp, from: 10.40.9.2}, ", {"10.40.1.20", "10.40.1.21", "10.40.1.22"}),
        ("", "{deny: icmp, from: 10.40.2.1}, ", set()),
    ],
)
def test_errors_are_compared_for_every_packet_when_asked(tmp_path: Path, was: str, now: str, differs: set[str]) -> None:
    """Whose error about a lost packet is lost now, and was not: exactly those of whom a walk says so."""
    files = tmp_path / "was.yaml", tmp_path / "now.yaml"
    for file, rules in zip(files, (was, now), strict=True):
        file.write_text(ROOF.replace("#RULES", rules))
    plans = [Plan(mc.load(file)) for file in files]
    search = comparing._Versions(plans[0], plans[1], ("roof",), ("shed",), ("udp",), errors=True)
    search.run(iter, 16)
    heard = search.sets.space.union(held for group in search.heard.values() for held, _ in group.sets)
    for source, port in itertools.product(("10.40.1.20", "10.40.1.21", "10.40.1.22"), (7, 8, 9000)):
        seen = [mc.trace(plan, "roof", "shed", f"udp/{port}", source=source).symptom for plan in plans]
        assert (seen[0] != seen[1]) is (source in differs and port != 7), (source, port)
        packet = Packet(17, parse_address(source), parse_address("10.40.2.10"), 49152, port)
        assert holding(search.sets.space, heard, packet, OPENING) is (seen[0] != seen[1]), packet
    said = CliRunner().invoke(
        main, ["compare", *map(str, files), "--all", "--errors", "--from", "roof", "--to", "shed", "--service", "udp"]
    )
    assert ("what senders are told of lost ones" in said.output) is bool(differs)
    assert ("roof → shed: " in said.output.partition("what senders are told")[2]) is bool(differs)
    assert "the walked ones alone" not in said.output
    alone = CliRunner().invoke(main, ["compare", *map(str, files), "--errors"])
    assert (alone.exit_code, "say --all as well" in alone.output) == (2, True)


def test_the_first_line_says_that_senders_are_told_otherwise_beside_what_closes(tmp_path: Path) -> None:
    files = tmp_path / "was.yaml", tmp_path / "now.yaml"
    files[0].write_text(ROOF.replace("#RULES", ""))
    files[1].write_text(ROOF.replace("#RULES", "{deny: icmp, from: 10.40.9.2}, {deny: tcp, from: shed}, "))
    asked = ["--from", "roof", "--to", "shed", "--service", "udp", "--service", "https"]
    said = CliRunner().invoke(main, ["compare", *map(str, files), "--all", "--errors", *asked])
    first = " ".join(said.output.replace(str(tmp_path) + "/", "").split()).partition(" For all packets")[0]
    assert first == (
        "was.yaml compared with now.yaml: of all packets something closes for 1 pair of sender and target, senders are told otherwise "
        "of some that are lost."
    )


def test_the_commands_say_the_answer_first(tmp_path: Path) -> None:
    file, change = tmp_path / "one.yaml", tmp_path / "more.yaml"
    text = (
        "mossy-network: 1\nlists: {l: [{id: 10, permit: tcp, service: https}]}\ndevices:\n"
        "  a: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}\n"
        "  r: {kind: router, interfaces: {x: {address: 10.40.1.1/24, filter: {arriving: l}}, y: 10.40.2.1/24}}\n"
        "  b: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https, ssh]}\n"
        "segments: {one: [a, r/x], two: [r/y, b]}\n"
    )
    file.write_text(text)
    (tmp_path / "two.yaml").write_text(text.replace("service: https}]", "service: ssh}]"))
    change.write_text("mossy-change: 1\nchanges:\n  - insert: {into: lists/l, value: {id: 20, permit: tcp, service: ssh, to: b}}\n")
    said = CliRunner().invoke(main, ["compare", str(file), str(tmp_path / "two.yaml"), "--all", "--from", "a"])
    words = " ".join(said.output.split())
    assert said.exit_code == 1
    assert (
        f"{file} compared with {tmp_path / 'two.yaml'}: of all packets something closes for 1 pair of sender and target, something opens for 1 pair"
        in words
    )
    assert "closes: answered becomes filter.end a → b: https as tcp 10.40.1.10:49152 > 10.40.2.10:443 SYN: dropped at r: " in words
    assert (
        "opens: filter.end becomes answered a → b: ssh as tcp 10.40.1.10:49152 > 10.40.2.10:22 SYN: answered: b serves ssh" in words
    )
    assert "let through by l rule 10" in words
    tried = CliRunner().invoke(main, ["change", str(file), str(change), "--all", "--format", "json"])
    assert tried.exit_code == 0
    data = json.loads(tried.output)
    turned = data["all-packets"]["turned"]
    first = turned[0]
    assert (first["what"], first["packet"], first["which"][0]["services"]) == (
        "opens",
        "tcp 10.40.1.10:49152 > 10.40.2.10:22 SYN",
        [{"what": "ssh", "partly": False}],
    )
    assert data["tests"] == []
    alike = CliRunner().invoke(main, ["compare", str(file), str(file), "--all"])
    assert alike.exit_code == 0
    assert "no packet of 3 senders ends otherwise." in " ".join(alike.output.split())
    for more, why in (
        (["--at", "2026-05-04T10:30"], "every moment"),
        (["--picture", "x.png"], "not tests"),
        (["--format", "csv"], "not tests"),
    ):
        wrong = CliRunner().invoke(main, ["compare", str(file), str(file), "--all", *more])
        assert wrong.exit_code == 2
        assert why in wrong.output


# a law


def otherwise(network: mc.Network, chance: random.Random) -> mc.Network:
    """A network with one thing written otherwise."""
    lists, devices = dict(network.lists), dict(network.devices)
    routers = [d for d in devices.values() if d.kind.value != "host"]
    device = chance.choice(routers)
    what = chance.randrange(7)
    if what <= 2 and any(e.rules for e in lists.values()):
        name = chance.choice(sorted(n for n, e in lists.items() if e.rules))
        rules = list(lists[name].rules)
        place = chance.randrange(len(rules))
        if what == 0:
            del rules[place]
        elif what == 1:
            rules[place] = replace(rules[place], disabled=not rules[place].disabled)
        else:
            chance.shuffle(rules)
        lists[name] = replace(lists[name], rules=tuple(rules))
    elif what == 3 and device.routes:
        devices[device.name] = replace(device, routes=device.routes[1:])
    elif what == 4 and device.translate:
        devices[device.name] = replace(device, translate=device.translate[1:])
    elif what == 5 and device.policy_routes:
        devices[device.name] = replace(device, policy_routes=device.policy_routes[1:])
    elif what == 6 and lists:
        port = chance.choice([p for p in device.interfaces.values() if not p.tunnel])
        changed = replace(port, arriving_lists=() if port.arriving_lists else (chance.choice(sorted(lists)),))
        devices[device.name] = replace(device, interfaces={**device.interfaces, port.name: changed})
    return replace(network, lists=lists, devices=devices)


def placed_otherwise(network: mc.Network, chance: random.Random) -> mc.Network:
    """A network with other lists at one or two places; a list more may be among them, which lets everybody else pass."""
    rules = chance.sample(
        ["deny: tcp", "deny: any, to: 10.40.0.0/13", "permit: udp", "reject: tcp, to-port: 22", "deny: any, disabled: yes"], 2
    )
    end = chance.choice(["permit: any", "permit: any", "permit: any, disabled: yes", "permit: tcp", "deny: any"])
    text = ", ".join(f"{{id: {n}, {words}}}" for n, words in enumerate([*rules, end], 1))
    beside = mc.read_bytes(
        f"mossy-network: 1\nlists: {{more: [{text}]}}\ndevices: {{d: {{kind: host, address: 10.40.1.10/24}}}}".encode(), "more"
    )
    assert beside.network is not None
    lists, devices = {**network.lists, **beside.network.lists}, dict(network.devices)
    for _ in range(chance.choice((1, 1, 2))):
        device = chance.choice([d for d in devices.values() if d.kind.value != "host"])
        port = chance.choice([p for p in device.interfaces.values() if not p.tunnel])
        way = chance.choice(("arriving_lists", "arriving_lists", "leaving_lists"))
        stands: tuple[str, ...] = getattr(port, way)
        one = chance.choice(["more", *lists])
        changed: dict[str, Any] = {
            way: chance.choice([(one,), (*(n for n in stands if n != one), one), (one, *(n for n in stands if n != one)), ()])
        }
        devices[device.name] = replace(device, interfaces={**device.interfaces, port.name: replace(port, **changed)})
    return replace(network, lists=lists, devices=devices)


def packet_of(network: mc.Network, sender: str, chance: random.Random) -> Packet | None:
    """A packet that opens something, to somebody or anybody."""
    own = [a for a, _ in network.devices[sender].own_addresses() if not a.is_link_local]
    others = [a for d in network.devices.values() for a, _ in d.own_addresses() if not a.is_link_local]
    source = chance.choice(own)
    to = [a for a in others if a.family == source.family]
    to += [
        mc.parse_address(a)
        for a in ("10.44.9.9", "10.40.9.9", "10.44.1.33", "192.0.2.7", "2001:db8:44:1::77")
        if (":" in a) == (source.family == 6)
    ]
    service = chance.choice(["ping", "tcp/443", "udp/53", "tcp/80", f"udp/{chance.randrange(1, 65536)}", "gre"])
    made = mc.ask(
        Plan(network), sender, str(chance.choice(to)), service, source=str(source), source_port=chance.randrange(1, 65536)
    )
    return made.packet


def stray_of(packet: Packet, chance: random.Random) -> Packet:
    """A packet that opens nothing, between the same ends: a later one, an answer that nobody asked for, a later piece."""
    if chance.random() < 0.2:
        return packet._replace(from_port=-1, to_port=0, icmp=-1, flags="")
    if packet.protocol == TCP:
        return packet._replace(flags=chance.choice([f for f in TCP_FLAGS if f not in ("SYN", "RST")]))
    if packet.icmp >= 0:
        return packet._replace(icmp=0 if packet.source.family == 4 else 129 << 8)  # an echo reply (RFC 792, RFC 4443)
    return packet._replace(protocol=TCP, from_port=max(packet.from_port, 1), to_port=max(packet.to_port, 1), flags="")


@examples(5, 40)
@given(networks(), st.integers(0, 100_000))
def test_walks_of_both_versions_agree_with_what_is_said_to_turn(network: mc.Network, seed: int) -> None:
    chance = random.Random(seed)
    after = otherwise(network, chance)
    hosts = [d.name for d in network.devices.values() if d.kind.value == "host" and d.own_addresses()]
    agree((Plan(network), Plan(after)), chance.choice(hosts), chance, 30)


@examples(2, 60)
@given(networks(), st.integers(0, 100_000))
def test_walks_agree_where_other_lists_stand(network: mc.Network, seed: int) -> None:
    chance = random.Random(seed)
    hosts = [d.name for d in network.devices.values() if d.kind.value == "host" and d.own_addresses()]
    agree((Plan(network), Plan(placed_otherwise(network, chance))), chance.choice(hosts), chance, 30)


PASSES = "{id: 10, deny: tcp, to-port: 22}, {id: 20, permit: any}"
FILM = "hours: {late: {from: '22:00', until: '23:00'}}\napplications: {film: {category: moving, known-from: 3}, book: {category: still, to: shelf}}\n"
GATE = "kind: router"
WALL = "kind: firewall"
ORDER = "order: [arrive, recall, inspection, arriving list, to-self list, to self, forwarding, route, time to live, leaving list, crossing, send]"


@pytest.mark.parametrize(
    ("kind", "port", "rules", "more", "by"),
    [
        # a list that lets everybody else pass is felt by those whom it does not
        (GATE, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", PASSES, "", ["10"]),
        (GATE, "a: {address: 10.40.1.1/24, filter: {leaving: l}}", PASSES, "", ["10"]),
        (GATE, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", "{id: 20, permit: any}", "", []),
        (GATE, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", "{id: 5, deny: any, disabled: yes}, {id: 20, permit: any}", "", []),
        # one that ends without that is felt by everybody, unless its end lets pass
        (GATE, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", "{id: 10, permit: tcp}", "", None),
        (GATE, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", "{id: 10, deny: tcp}, {id: 20, permit: any, disabled: yes}", "", None),
        (GATE, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", "{id: 10, deny: tcp}, {id: 20, permit: any, hours: late}", "", None),
        (GATE, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", "{id: 10, deny: tcp}", "settings: {end-of-list: permit}", ["10"]),
        (GATE, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", PASSES, "settings: {no-list: deny}", None),
        # whoever is let in by a list passes what stops strangers further on
        (WALL, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", PASSES, "", ["10"]),
        (WALL, "a: {address: 10.40.1.1/24, outside: yes, filter: {arriving: l}}", PASSES, "", None),
        # what else a permit does
        (WALL, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", "{id: 20, permit: any, translate: yes}", "", None),
        (GATE, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", "{id: 20, permit: any, uplink: b}", "", None),
        # a rule that only notes decides nothing
        (GATE, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", "{id: 5, note: any}, " + PASSES, "", ["10"]),
        # a device's own order may ask who was let in after the packet's leaving lists
        (WALL, "b: {address: 10.40.2.1/24, outside: yes}, a: {address: 10.40.1.1/24, filter: {leaving: l}}", PASSES, ORDER, None),
        (WALL, "b: {address: 10.40.2.1/24, outside: yes}, a: {address: 10.40.1.1/24, filter: {leaving: l}}", PASSES, "", ["10"]),
        # a profile asks lists of its own there
        (WALL, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", PASSES, "profiles: {p: {for: [10.40.1.10], arriving: a, mode: after, lists: [m]}}", None),
        # the same list stands in another place too, and had no rule there
        (WALL, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", PASSES, "to-self: [l]", None),
        # what is judged again once an application is known is felt by everybody
        (WALL, "a: {address: 10.40.1.1/24, filter: {arriving: l}}", "{id: 10, deny: tcp, application: film}, {id: 20, permit: any}", "", None),
    ],
)  # fmt: skip
def test_who_can_feel_that_another_list_stands_somewhere(kind: str, port: str, rules: str, more: str, by: list[str] | None) -> None:
    def version(stands: bool) -> mc.Network:
        """The network, with the list at its place, or without it and the list."""
        lists = f"l: [{rules if stands else ''}], " if stands or "l]" in more else ""
        here = port if stands else port.partition(", filter")[0] + "}"
        text = (
            f"mossy-network: 1\n{FILM}lists: {{{lists}m: [{{id: 1, permit: any}}]}}\ndevices:\n"
            f"  gate: {{{kind}, interfaces: {{{here}{'' if 'b: ' in here else ', b: 10.40.2.1/24'}}}{', ' + more if more else ''}}}\n"
            "  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}\n"
            "  shelf: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1}\n"
            "segments: {one: [desk, gate/a], two: [shelf, gate/b]}\n"
        )
        network = mc.read_bytes(text.encode(), "n.yaml").network
        assert network is not None, mc.read_bytes(text.encode(), "n.yaml").problems
        return network

    for versions in ((False, True), (True, False)):
        found = felt(*(Plan(version(stands)) for stands in versions))
        assert (None if found.rows is None else [row.id for row in found.rows]) == by
        assert found.rows is None or found.alike == {"desk", "shelf"}


def in_time(rules: str, top: str = FILM, gate: str = "") -> mc.Network:
    """A network whose rules ask for more than packets."""
    return yard(f"l: [{rules}]", "l", top=top, gate=gate)


@pytest.mark.parametrize(
    ("before", "after"),
    [
        (in_time("{id: 1, deny: tcp, application: film, hours: late}, {id: 2, permit: any}"), in_time("{id: 1, deny: tcp, application: film}, {id: 2, permit: any}")),
        (in_time("{id: 1, permit: tcp, application: book}"), in_time("{id: 1, permit: tcp, application: book, hours: late}")),
        (in_time("{id: 1, permit: tcp}", FILM.replace("known-from: 3", "known-from: 1")), in_time("{id: 1, permit: tcp}, {id: 2, permit: udp, application: film}", FILM.replace("known-from: 3", "known-from: 1"))),
        (learned("{id: 1, permit: tcp, name: shop.example}"), learned("{id: 1, permit: tcp, to: shelf}, {id: 2, permit: tcp, name: shop.example}")),
        (in_time("{id: 1, permit: tcp, application: book}"), in_time("{id: 1, permit: tcp, application: book}", FILM.replace("to: shelf", "to: store"))),
        (in_time("{id: 1, permit: any, hours: late}"), in_time("{id: 1, permit: any, hours: late}", FILM.replace("23:00", "22:30"))),
        (in_time("{id: 1, permit: any}", gate=PORT), in_time("{id: 1, permit: any}", gate=PORT.replace("goes-to", "hours: late, goes-to"))),
    ],
)  # fmt: skip
def test_what_turns_at_times_is_told_of_those_times(before: mc.Network, after: mc.Network) -> None:
    chance = random.Random(11)
    turned = agree((Plan(before), Plan(after)), "desk", chance, 700)
    assert turned


def agree(plans: tuple[Plan, Plan], sender: str, chance: random.Random, draws: int) -> int:
    """Walk packets in both versions: each that differs is in one group, of its kind, and no other is in any; gives how many differ."""
    search = comparing._Versions(*plans, (sender,), (), (), 40_000)
    search.run(iter, 16)
    turned = 0
    if search.cut or search.doubts:
        return turned
    for _ in range(draws):
        packet = packet_of(plans[0].network, sender, chance)
        if packet is not None and chance.random() < 0.25:
            packet = stray_of(packet, chance)
        relation = OPENING if packet is not None and packet.opening else Relation.NONE
        number = chance.randrange(len(search.cases))
        case = search.cases[number]
        meant = (
            all(
                holding(search.sets.space, c.packets(p.network, search.sets), packet, relation)
                for c, p in zip(case, plans, strict=True)
            )
            if packet
            else False
        )
        if packet is None or not meant:
            continue
        walked = [walks(plan, sender, packet, one) for plan, one in zip(plans, case, strict=True)]
        kinds = [
            g.kind
            for g in search.groups.values()
            if any(n in (-1, number) and holding(search.sets.space, held, packet, relation) for held, n in g.sets)
        ]
        if not packet.opening:
            came = [{_came_to(j) for j in some} for some in walked]
            wanted = [] if came[0] == came[1] else [LETS_IN if any(came[1] - came[0]) else KEEPS_OUT]
            assert kinds == wanted, (packet, kinds, case[1].words)
            turned += bool(wanted)
            continue
        pair = search._apart(*walked)
        assert len(kinds) == (pair is not None), (packet, kinds, case[1].words)
        if pair is not None:
            turned += 1
            assert (kinds[0] == CLOSES) == (pair[0].answered and not pair[1].answered)
            assert (kinds[0] == OPENS) == (pair[1].answered and not pair[0].answered)
    return turned


def _came_to(journey: mc.Journey) -> str:
    """Who got a packet; nobody where it was lost, or came to a device that it was not for."""
    end = journey.there
    taken = end.fate in (Fate.DELIVERED, Fate.REFUSED) or end.cause.split(".")[0] in ("service", "answer", "echo", "fragment")
    return end.end if taken or end.cause == "session.part" else ""


def walks(plan: Plan, sender: str, packet: Packet, case: Circumstances) -> list[mc.Journey]:
    """Every journey of a packet, whatever sets say."""
    question = Question(sender, sender, str(packet.destination), packet.what(), packet, None, packet.destination, None, case.moment)

    def walked(choose: Choose) -> mc.Journey:
        """The journey by some choices."""
        return sent(plan, question, Memories(plan).of(case), choose)[0]

    return [journey for _, journey in by_every_choice(walked)[0]]


def test_hosts_speak_before_devices_that_only_hand_on() -> None:
    """What a witness is sent by is somebody people know: a host, where one can send it."""
    network = mc.load(DATA / "fernhollow.yaml")
    senders = [name for name, _ in comparing._who_sends(network) if name in network.devices]
    kinds = [network.devices[name].kind.value == "host" for name in senders]
    assert kinds == sorted(kinds, reverse=True)
    assert len(set(kinds)) == 2
