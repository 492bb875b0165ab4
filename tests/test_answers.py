"""Answers that must be true: each case is a way in which one could lie, and what must be said instead."""

from __future__ import annotations

from typing import Any

import pytest

import mossy_compass as mc


def built(text: str) -> mc.Plan:
    reading = mc.read_bytes(("mossy-network: 1\n" + text).encode(), "a.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    return mc.Plan(reading.network)


def codes(text: str) -> dict[str, str]:
    """Every finding, those that need the network computed too, with its message."""
    reading = mc.read_bytes(("mossy-network: 1\n" + text).encode(), "a.yaml")
    found = list(reading.problems)
    if reading.network is not None:
        found += mc.findings(mc.Plan(reading.network), reading.problems)
    out: dict[str, str] = {}
    for problem in found:
        out[problem.code] = f"{out.get(problem.code, '')}{problem.message}\n"
    return out


TWICE = """\
devices:
  r: {kind: router, interfaces: {a: 10.40.1.1/24, b: 10.40.2.1/24}}
  asker: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  other: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1OTHER}
  far: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https, udp/53]}
segments: {a: [ORDER, r/a], b: [far, r/b]}
"""


@pytest.mark.parametrize("service", ["ping", "https", "udp/53"])
def test_an_answer_that_ends_at_another_host_is_lost(service: str) -> None:
    """The address was given twice; whoever is asked first on the segment gets the answer."""
    text = TWICE.replace("ORDER", "asker, other").replace("OTHER", "")
    outcomes = {}
    for sender in ("asker", "other"):
        journey = mc.trace(built(text), sender, "far", service)
        outcomes[sender] = journey
    lost = next(j for j in outcomes.values() if not j.answered)
    won = next(j for j in outcomes.values() if j.answered)
    assert (lost.cause, lost.lost, lost.symptom) == ("answer.elsewhere", "back", "silence")
    assert lost.back is not None
    assert lost.back.end == won.sender
    assert f"the answer ended at {won.sender}, which has 10.40.1.10 too" in str(lost)


def test_an_answer_from_another_address_is_lost() -> None:
    """far asks 198.51.100.9, which is sent on to shop; shop answers by another way, untranslated."""
    plan = built(
        """\
devices:
  gate:
    kind: router
    interfaces: {out: 198.51.100.1/24, in: 10.40.1.1/24}
    translate: [{arriving: out, to: 198.51.100.9, goes-to: shop}]
  side: {kind: router, interfaces: {out: 198.51.100.2/24, in: 10.40.1.2/24}}
  shop: {kind: host, address: 10.40.1.20/24, gateway: 10.40.1.2, serves: [http]}
  far: {kind: host, address: 198.51.100.10/24, gateway: 198.51.100.2}
segments: {out: [gate/out, side/out, far], in: [gate/in, side/in, shop]}
"""
    )
    journey = mc.trace(plan, "far", "198.51.100.9", "http")
    assert (journey.there.fate, journey.cause, journey.lost) == ("delivered", "answer.other", "back")
    assert "the answer comes from 10.40.1.20, and the question went to 198.51.100.9" in str(journey)


OWN = """\
lists: {nothing: [{permit: gre}]}
devices:
  gate: {kind: firewall, interfaces: {a: {address: 10.40.1.1/24, filter: {FILTER}}}, serves: [ssh], settings: {SETTING}}
  desk: {kind: host, address: 10.40.1.10/24, serves: [https]}
segments: {a: [gate/a, desk]}
"""


@pytest.mark.parametrize(
    "filters, setting, sender, target, service, cause",
    [
        # the SYN-ACK of its own open port passes though its own packets are filtered
        ("leaving: nothing", "own-packets: filtered", "desk", "gate", "ssh", "service.open"),
        # ... and its own question does not
        ("leaving: nothing", "own-packets: filtered", "gate", "desk", "https", "filter.end"),
        # to-self: deny is about others' questions; from-self: deny about its own
        ("", "to-self: deny", "gate", "desk", "https", "service.open"),
        ("", "to-self: deny", "gate", "desk", "ping", "echo.answered"),
        ("", "to-self: deny", "desk", "gate", "ssh", "self.closed"),
        ("", "from-self: deny", "desk", "gate", "ssh", "service.open"),
        ("", "from-self: deny", "gate", "desk", "ssh", "self.mute"),
    ],
)
def test_a_devices_own_traffic_has_sessions(filters: str, setting: str, sender: str, target: str, service: str, cause: str) -> None:
    plan = built(OWN.replace("{FILTER}", f"{{{filters}}}").replace("{SETTING}", f"{{{setting}}}"))
    assert mc.trace(plan, sender, target, service).cause == cause


def test_an_ack_after_the_syn_of_an_open_port_is_part_of_it() -> None:
    plan = built(OWN.replace("{FILTER}", "{}").replace("{SETTING}", "{}"))
    question = mc.ask(plan, "desk", "gate", "ssh")
    first, state = mc.trace_question(plan, question)
    assert first.answered
    assert question.packet is not None
    ack, _ = mc.trace_question(plan, question._replace(packet=question.packet._replace(flags="ACK")), state)
    assert (ack.there.fate, ack.cause) == ("delivered", "session.part")
    stray, _ = mc.trace_question(plan, question._replace(packet=question.packet._replace(flags="ACK")))
    assert stray.cause == "session.none"


@pytest.mark.parametrize("source", ["127.0.0.1", "224.0.0.5", "255.255.255.255", "0.0.0.0"])
def test_martian_sources_are_not_forwarded_and_not_answered(source: str) -> None:
    plan = built(TWICE.replace("ORDER", "asker").replace("OTHER", ""))
    journey = mc.trace(plan, "asker", "far", "https", source=source)
    assert (journey.cause, journey.there.end, len(journey.legs)) == ("source.martian", "r", 1)


def test_gre_is_refused_by_protocol_and_has_no_port() -> None:
    journey = mc.trace(built(TWICE.replace("ORDER", "asker").replace("OTHER", "")), "asker", "far", "gre")
    assert (journey.cause, journey.symptom) == ("service.closed", "refused")
    assert "ICMP protocol-unreachable from 10.40.2.10" in journey.symptom_note
    assert "port" not in str(journey)
    assert ":0" not in journey.explain(True)


V6 = """\
devices:
  r: {kind: router, interfaces: {a: ["2001:db8:1::1/64", "fe80::1/64"], b: ["2001:db8:2::1/64", "fe80::1/64"]}}
  s: {kind: router, interfaces: {b: ["2001:db8:2::2/64", "fe80::2/64"], c: ["2001:db8:3::1/64", "fe80::1/64"]},
    routes: [{prefix: "2001:db8:1::/64", next-hop: "fe80::1", leaving: b}]}
  one: {kind: host, address: "2001:db8:1::10/64", gateway: "fe80::1"}
  two: {kind: host, address: ["fe80::99/64", "2001:db8:3::10/64"], gateway: "fe80::1", serves: [https]}
segments: {a: [one, r/a], b: [r/b, s/b], c: [two, s/c]}
"""


def test_link_local_gateways_and_next_hops() -> None:
    """The commonest IPv6 set-up; fe80::1 on three segments is three addresses."""
    plan = built(
        V6.replace(
            "kind: router, interfaces: {a",
            'kind: router, routes: [{prefix: default6, next-hop: "fe80::2", leaving: b}], interfaces: {a',
        )
    )
    for service in ("ping", "https"):
        journey = mc.trace(plan, "one", "two", service)
        assert journey.answered
        assert [h.device for h in journey.there.hops] == ["one", "r", "s", "two"]
    # scope before order: two's link-local address, though written first, is never its source for others
    assert str(mc.trace(plan, "two", "one").there.packet.source) == "2001:db8:3::10"
    assert "address.duplicate" not in codes(V6)
    assert "address.duplicate" in codes(
        V6.replace(
            's: {kind: router, interfaces: {b: ["2001:db8:2::2/64", "fe80::2/64"]',
            's: {kind: router, interfaces: {b: ["2001:db8:2::2/64", "fe80::1/64"]',
        )
    )
    expired = mc.trace(plan, "one", "two", "ping", ttl=2)
    assert not expired.back.packet.source.is_link_local  # type: ignore[union-attr]


def test_link_local_destinations_need_an_interface() -> None:
    plan = built(V6)
    near = mc.trace(plan, "one", "fe80::1")
    assert near.answered
    assert near.there.end == "r"
    assert str(near.there.packet.source).startswith("fe80::")
    with pytest.raises(mc.QuestionError, match="Say by which interface: r/a, r/b"):
        mc.trace(plan, "r", "fe80::2")
    assert mc.trace(plan, "r/b", "fe80::2").there.end == "s"


def test_routes_of_different_kind_never_share() -> None:
    b = mc.Builder("kinds")
    lan = {"ospf": 0}
    b.router(
        "r",
        keys={"routes": [{"prefix": "10.50.0.0/16", "next-hop": "10.40.1.2", "preference": 110}]},
        a="10.40.1.1/24",
        b={"address": "10.40.2.1/24", **lan},
    )
    b.router("s", a="10.40.1.2/24")
    b.router("t", b={"address": "10.40.2.2/24", **lan}, c={"address": "10.50.0.1/16", **lan})
    b.segment("a", "r/a", "s/a")
    b.segment("b", "r/b", "t/b")
    b.segment("c", "t/c")
    table = mc.Plan(b.finish()).device("r").table
    address = mc.parse_address("10.50.0.9")
    found = table.lookup(address)
    assert found is not None
    assert (found.origin, len(found.hops)) == ("static", 1)
    assert any("never share" in x.why for x in table.losers(address))


def test_a_discard_route_is_no_way_back() -> None:
    text = (
        TWICE.replace("ORDER", "asker")
        .replace("OTHER", "")
        .replace(
            "b: 10.40.2.1/24}}",
            "b: 10.40.2.1/24}, settings: {source-check: loose}, routes: [{prefix: 10.99.0.0/16, action: discard}]}",
        )
    )
    assert mc.trace(built(text), "asker", "far", "ping", source="10.99.0.1").cause == "source.check"


OUTSIDE = """\
lists: {empty: []}
devices:
  gate: {kind: firewall, interfaces: {out: {address: 198.51.100.1/24, filter: {FILTER}}, in: 10.40.1.1/24}, settings: {SETTING}}
  stranger: {kind: host, address: 198.51.100.10/24, gateway: 198.51.100.1}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1, serves: [ssh]}
segments: {out: [gate/out, stranger], in: [gate/in, desk]}
"""


@pytest.mark.parametrize(
    "filters, written, says, code",
    [
        ("", "inbound: permit", "inbound: permit (a.yaml:", "firewall.open"),
        ("arriving: empty", "empty-list: permit", "list empty is empty, empty-list: permit", "list.empty"),
        ("arriving: empty", "empty-list: permit", "list empty is empty, empty-list: permit", "firewall.open"),
    ],
)
def test_what_lets_a_stranger_in_is_said_in_the_first_line(filters: str, written: str, says: str, code: str) -> None:
    text = OUTSIDE.replace("{FILTER}", f"{{{filters}}}").replace("{SETTING}", f"{{{written}}}")
    journey = mc.trace(built(text), "stranger", "desk", "ssh")
    assert journey.answered
    assert f"let through by {says}" in str(journey)
    assert code in codes(text)


@pytest.mark.parametrize("filters", ["", "arriving: empty"])
@pytest.mark.parametrize(
    "more", ["", "everywhere: empty", "everywhere: {lists: [all], enabled: no}", "crossings: [{from: out, into: in, lists: empty}]"]
)
def test_an_empty_list_says_nothing(filters: str, more: str) -> None:
    """At an interface, everywhere, in a crossing; nor does a list that is switched off: strangers start nothing."""
    text = OUTSIDE.replace("{FILTER}", f"{{{filters}}}").replace("{SETTING}", "{}")
    text = text.replace("lists: {", "lists: {all: [{permit: any}], ").replace(
        "    kind: firewall\n", f"    kind: firewall\n    {more}\n"
    )
    journey = mc.trace(built(text), "stranger", "desk", "ssh")
    assert (journey.fate, journey.cause) == ("dropped", "filter.inbound")
    assert "firewall.closed" in codes(text)


HIDDEN = """\
devices:
  gate:
    kind: firewall
    interfaces: {up: 10.40.9.2/24, in: 10.40.1.1/24}
    uplinks: {ways: [up]}
    ROUTE
  stranger: {kind: host, address: 10.40.9.10/24, gateway: 10.40.9.2, serves: [ssh]}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1, serves: [ssh]}
segments: {up: [gate/up, stranger], in: [gate/in, desk]}
"""


@pytest.mark.parametrize(
    "route, guarded",
    [
        ("routes: [{prefix: default, next-hop: 10.40.9.1}]", True),
        ("routes: [{prefix: default, leaving: up}]", True),
        ("routes: [{prefix: default, leaving: ways}]", True),
        ("routes: [{prefix: 10.40.7.0/24, next-hop: 10.40.9.1}]", False),
        ("routes: [{prefix: default, next-hop: 10.40.9.1, table: side}]", False),
    ],
)
def test_a_firewall_behind_a_private_uplink_has_an_outside(route: str, guarded: bool) -> None:
    text = HIDDEN.replace("ROUTE", route)
    journey = mc.trace(built(text), "stranger", "desk", "ssh")
    assert journey.answered is not guarded
    assert ("firewall.outside" in codes(text)) is guarded
    assert mc.trace(built(text), "desk", "stranger", "ssh").answered
    written = text.replace("in: 10.40.1.1/24", "in: {address: 10.40.1.1/24, outside: no}")
    assert mc.trace(built(written), "stranger", "desk", "ssh").answered, "whoever writes outside anywhere is taken at their word"


def test_a_firewall_without_a_route_inside_is_blamed_and_found_before() -> None:
    text = """\
devices:
  gate:
    kind: firewall
    interfaces: {out: 198.51.100.2/30, in: 10.40.0.1/30}
    routes: [{prefix: default, next-hop: 198.51.100.1}]
    translate: [{leaving: out, becomes: interface}]
  house: {kind: router, interfaces: {up: 10.40.0.2/30, lan: 10.40.9.1/24}, routes: [{prefix: default, next-hop: 10.40.0.1}]}
  world: {kind: router, interfaces: {a: 198.51.100.1/30, b: 203.0.113.1/24}, routes: [{prefix: 10.40.0.0/16, next-hop: 198.51.100.2}]}
  desk: {kind: host, address: 10.40.9.10/24, gateway: 10.40.9.1}
  far: {kind: host, address: 203.0.113.10/24, gateway: 203.0.113.1, serves: [https]}
segments: {out: [gate/out, world/a], in: [gate/in, house/up], lan: [house/lan, desk], far: [world/b, far]}
"""
    journey = mc.trace(built(text), "desk", "far", "https")
    assert journey.lost == "back"
    assert "gate sends the answer back out of out, by which it came in: it has no route to 10.40.9.10 but the default" in str(
        journey
    )
    assert "gate translates 10.40.9.0/24" in codes(text)["firewall.no-route-back"]
    mended = text.replace(
        "routes: [{prefix: default, next-hop: 198.51.100.1}]",
        "routes: [{prefix: default, next-hop: 198.51.100.1}, {prefix: 10.40.9.0/24, next-hop: 10.40.0.2}]",
    )
    assert mc.trace(built(mended), "desk", "far", "https").answered
    assert "firewall.no-route-back" not in codes(mended)


def test_a_default_route_that_stands_in_for_an_inactive_one_is_told() -> None:
    text = """\
devices:
  r: {kind: router, interfaces: {a: 10.40.1.1/24, b: 10.40.2.1/24, c: {address: 10.40.3.1/24, state: disabled}},
    routes: [{prefix: default, next-hop: 10.40.2.2}, {prefix: 10.50.0.0/16, next-hop: 10.40.3.2}]}
  s: {kind: router, interfaces: {b: 10.40.2.2/24}}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
segments: {a: [desk, r/a], b: [r/b, s/b]}
"""
    journey = mc.trace(built(text), "desk", "10.50.0.9")
    assert journey.cause == "route.none"
    assert (
        "r takes its default route, since its static route 10.50.0.0/16 is inactive: c, which next hop 10.40.3.2 is behind, is down"
        in (" ".join(journey.explain().split()))
    )


ASTRAY = """\
lists: {no-ping: [{deny: icmp}, {permit: any}]}
devices:
  gate:
    kind: router
    interfaces: {lan: 10.40.1.1/24, shop: 10.40.5.1/24, side: 10.40.6.1/30, yard: 10.40.7.1/30, up: {address: 198.51.100.2/29}}
    routes: [{prefix: default, next-hop: 198.51.100.1}, {prefix: 10.50.0.0/16, next-hop: 10.40.6.2}]
  house: {kind: router, interfaces: {side: 10.40.6.2/30, attic: 10.50.1.1/24}, routes: [{prefix: default, next-hop: 10.40.6.1}]}
  world: {kind: router, interfaces: {a: 198.51.100.1/29}, routes: [{prefix: 10.40.1.0/24, next-hop: 198.51.100.2}]}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  web: {kind: host, address: 10.40.5.10/24, gateway: 10.40.5.1, serves: [https]}
  bed: {kind: host, address: 10.50.1.10/24, gateway: 10.50.1.1}
segments:
  lan: [desk, gate/lan]
  shop: {members: [web, gate/shop]}
  side: {members: [gate/side, house/side]}
  attic: {members: [house/attic, bed]}
  up: [gate/up, world/a]
"""
CUT, DARK = ("shop]}", "shop], state: down}"), ("house/side]}", "house/side], state: down}")
SHUT = ("up: {address: 198.51.100.2/29}", "up: {address: 198.51.100.2/29, filter: {leaving: no-ping}}")
LESSER = ("{prefix: default, next-hop: 198.51.100.1}", "{prefix: 10.32.0.0/11, next-hop: 198.51.100.1}")
IS_CUT = "gate takes its default route, since its connected route 10.40.5.0/24 is inactive: shop is down (segment shop is cut)"
IS_DARK = "gate takes its default route, since its static route 10.50.0.0/16 is inactive"
NO_ATTIC = ("attic: {members: [house/attic, bed]}", "attic: {members: [house/attic, bed], state: down}")
LOFT = ("  up: [", "  loft: [world/b]\n  up: [")


@pytest.mark.parametrize(
    ("edits", "target", "cause", "root"),
    [
        ([], "web", "echo.answered", ""),
        ([CUT], "web", "route.none", IS_CUT),
        # a list that stands where the packet should never have come: of a subnet of one's own, nothing else leads there
        ([CUT, SHUT], "web", "filter.rule", IS_CUT),
        ([DARK, SHUT], "bed", "filter.rule", ""),
        ([DARK], "bed", "route.none", IS_DARK),
        ([CUT, LESSER], "web", "route.none", IS_CUT.replace("default route", "static route 10.32.0.0/11")),
        # nobody there, or no default route: a cause of its own, which says so itself
        ([], "10.40.5.77", "neighbour.silent", ""),
        ([CUT, ("{prefix: default, next-hop: 198.51.100.1}, ", "")], "web", "interface.down", ""),
        # another router is on that subnet, and has it still; or is cut off with it
        ([CUT, ("{a: 198.51.100.1/29}", "{a: 198.51.100.1/29, b: 10.40.5.2/24}"), LOFT], "web", "neighbour.silent", "web/nic is down: segment shop is cut"),
        ([NO_ATTIC], "bed", "loop", IS_CUT.replace("gate", "house").replace("10.40.5.0", "10.50.1.0").replace("shop", "attic")),
        # what has nothing to do with it
        ([CUT], "bed", "echo.answered", ""),
        ([CUT], "203.0.113.9", "route.none", ""),
    ],
)  # fmt: skip
def test_a_way_that_is_out_of_use_is_the_true_cause(edits: list[tuple[str, str]], target: str, cause: str, root: str) -> None:
    text = ASTRAY
    for was, now in edits:
        assert text.count(was) == 1, was
        text = text.replace(was, now)
    journey = mc.trace(built(text), "desk", target)
    assert journey.cause == cause, str(journey)
    assert (journey.behind.words if journey.behind is not None else "")[: len(root) or None] == root
    told = [b.words for b in journey.told if b.code == "told.inactive"]
    dark = (
        [IS_DARK + ": side, which next hop 10.40.6.2 is behind, is down (segment side is cut)"]
        if DARK in edits and not root
        else []
    )
    assert told == ([IS_CUT] if root.startswith("web/nic") else dark)


@pytest.mark.parametrize(
    ("edits", "target", "wishes", "cause"),
    [
        # its time to live was too short; it never left its sender; it was for a place that is nobody's
        ([DARK], "bed", {"ttl": 1}, "ttl.expired"),
        ([CUT, ("10.40.1.10/24, gateway: 10.40.1.1}", "10.40.1.10/24}")], "web", {}, "route.none"),
        ([CUT, NO_ATTIC], "203.0.113.9", {}, "route.none"),
    ],
)
def test_what_is_out_of_use_elsewhere_is_not_told(
    edits: list[tuple[str, str]], target: str, wishes: dict[str, Any], cause: str
) -> None:
    text = ASTRAY
    for was, now in edits:
        assert text.count(was) == 1, was
        text = text.replace(was, now)
    journey = mc.trace(built(text), "desk", target, **wishes)
    assert (journey.cause, journey.behind) == (cause, None), str(journey)


LEARNED = """\
devices:
  gate: {kind: router, interfaces: {lan: {address: 10.40.1.1/24, ospf: 0}, line: {address: 10.40.9.1/29, ospf: 0}}}
  house: {kind: router, interfaces: {line: {address: 10.40.9.2/29, ospf: 0}, attic: {address: 10.50.1.1/24, ospf: 0}}}
  loft: {kind: router, interfaces: {line: {address: 10.40.9.3/29, ospf: 0}, attic: {address: 10.50.1.2/24, ospf: 0}}}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  bed: {kind: host, address: 10.50.1.10/24, gateway: 10.50.1.1}
segments: {lan: [desk, gate/lan], line: [gate/line, house/line, loft/line], attic: {members: [house/attic, bed], state: STATE}, eaves: [loft/attic]}
"""


@pytest.mark.parametrize(
    ("state", "loft", "root"),
    [
        ("down", "", "bed/nic is down: segment attic is cut"),
        # without the second router nobody is on that subnet any more
        (
            "down",
            "10.50.2.2/24",
            "10.50.1.0/24 is cut off, since the connected route of house is inactive: attic is down (segment attic is cut)",
        ),
    ],
)
def test_a_subnet_that_nobody_announces_any_more_is_cut_off(state: str, loft: str, root: str) -> None:
    journey = mc.trace(built(LEARNED.replace("STATE", state).replace("10.50.1.2/24", loft or "10.50.1.2/24")), "desk", "bed")
    assert journey.cause == ("route.none" if loft else "neighbour.silent"), str(journey)
    assert (journey.behind.words if journey.behind is not None else "") == root
    assert ("bring that interface up" in journey.explain()) is bool(root)


# --- findings ----------------------------------------------------------------------------------------------

SMALL = """\
groups: {G: [10.40.1.0/24]}
lists: {LIST}
devices:
  r: {kind: router, interfaces: {a: {address: [10.40.1.1/24, "2001:db8:1::1/64"], filter: {arriving: l}}, b: 10.40.2.1/24}DEVICE}
  s: {kind: router, interfaces: {b: SADDR}}
  sw: {kind: switch, ports: [p]SWITCH}
segments: {a: SEGA, b: [r/b, s/b], c: [sw/p, s/cEMPTY]}
"""


@pytest.mark.parametrize(
    "change, code, says",
    [
        ({"LIST": "l: [{permit: any, arriving: attic}]"}, "rule.interface", "r has no such interface: it can never match"),
        ({"LIST": "l: [{permit: any, from: 10.40.0.0/16}, {deny: tcp, from: 10.40.1.0/24}]"}, "rule.shadowed", "rule 20 of 'l' can never match: rule 10 above it takes all of it"),
        ({"LIST": "l: [{permit: any}], m: [{permit: any}]"}, "same.twice", "list m says the same as list l"),
        ({"LIST": "l: [{permit: tcp}, {permit: udp}, {permit: tcp}]"}, "same.twice", "rule 30 of 'l' says the same as rule 10"),
        ({"DEVICE": ", routes: [{prefix: 10.50.0.0/16, next-hop: 10.40.2.2}, {prefix: 10.50.0.0/16, next-hop: 10.40.2.2}]"}, "same.twice", "route to 10.50.0.0/16 of r"),
        ({"DEVICE": ", routes: [{prefix: 224.0.0.0/4, next-hop: 10.40.2.2}]"}, "route.prefix", "a multicast address"),
        ({"DEVICE": ", routes: [{prefix: 127.0.0.0/8, next-hop: 10.40.2.2}]"}, "route.prefix", "a loopback address"),
        ({"SWITCH": ", translate: [{leaving: p, becomes: interface}]"}, "switch.key", "translate has no effect there"),
        ({"SWITCH": ", stateful: [tcp]"}, "switch.key", "stateful has no effect there"),
        ({"SEGA": "{members: [r/a], mtu: 1200}"}, "interface.small-mtu", "an MTU of 1200 bytes"),
        ({"SEGA": "[]"}, "segment.empty", "no member"),
        ({"SADDR": "10.40.1.2/24"}, "subnet.overlap", "their subnets overlap"),
        ({"G": "any"}, "group.built-in", "'any' is a built-in group"),
        ({"DEVICE": ", uplinks: {u: [a, a]}"}, "uplink.twice", "in the group u twice"),
        ({"LIST": "l: [{id: 010, permit: tcp}, {id: 10, permit: udp}]"}, "rule.twice", "two rules 10"),
        ({"LIST": "l: [{permit: icmp, from: '2001:db8::/32'}]"}, "rule.family", "only IPv6 addresses"),
        ({"LIST": "l: [{permit: any, from: 10.40.1.0/24, to: '2001:db8::/32'}]"}, "rule.family", "no packet has both"),
        ({"LIST": "l: [{permit: any, from: []}]"}, "value.empty", "nothing would ever be meant"),
        ({"LIST": "l: [{permit: tcp, to-port: []}]"}, "value.empty", "nothing would ever be meant"),
        ({"LIST": "l: [{permit: icmp, icmp: []}]"}, "value.empty", "nothing would ever be meant"),
    ],
)  # fmt: skip
def test_findings(change: dict[str, str], code: str, says: str) -> None:
    parts = {
        "LIST": "l: [{permit: any}]",
        "DEVICE": "",
        "SADDR": "10.40.2.2/24",
        "SWITCH": "",
        "SEGA": "[r/a]",
        "EMPTY": "",
        "G": "g",
        **change,
    }
    text = SMALL.replace(", s/cEMPTY", "")
    for key in sorted(parts, key=len, reverse=True):
        text = text.replace(f"{{{key}}}", f"{{{parts[key]}}}").replace(f"{{{key}: ", f"{{{parts[key]}: ").replace(key, parts[key])
    found = codes(text)
    assert code in found, found
    assert says in found[code]
