"""Second channels: what one end tells the other, who reads of it, and what may then be opened, once and in time."""

from __future__ import annotations

import json

import pytest

import mossy_compass as mc
from mossy_compass.lab.conversation import Conversation, parse_then
from mossy_compass.packet.address import parse_address
from mossy_compass.packet.packet import Channel
from mossy_compass.plan.facts import Relation
from mossy_compass.report import conversationtext
from mossy_compass.report.advice import remedies
from mossy_compass.report.remembered import expectations, mappings
from mossy_compass.walk.journey import Way
from mossy_compass.walk.question import Options
from mossy_compass.walk.walk import Emission, follow

HOUSE = """\
mossy-network: 1
services:
  cameras: {members: tcp/5540, expects: {announced-by: answerer, over: [udp/40000-40100]}}
devices:
  inner: {kind: host, address: [10.40.1.10/24, "2001:db8:1::10/64"], gateway: [10.40.1.1, "2001:db8:1::1"], serves: [tcp/5540, ftp]}
  other: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
  gate:
    kind: firewall
    interfaces:
      inside: {address: [10.40.1.1/24, "2001:db8:1::1/64"], outside: no, filter: {arriving: outward}}
      outside: {address: [203.0.113.2/24, "2001:db8:f::2/64"], outside: yes, filter: {arriving: inward}}
    helpers: [#HELPERS]
    translate: [#TRANSLATE]
    settings: {#SETTINGS}#STATEFUL
  depot: {kind: host, address: [203.0.113.9/24, "2001:db8:f::9/64"], gateway: [203.0.113.2, "2001:db8:f::2"], serves: [ftp, tcp/5540]}
  stranger: {kind: host, address: 203.0.113.10/24}
segments:
  house: [inner, other, gate/inside]
  world: [gate/outside, depot, stranger]
lists:
  outward: {rules: [{id: 1, permit: tcp, service: [ftp, tcp/5540]}#OUTWARD]}
  inward: {rules: [{id: 1, permit: tcp, to: [self, inner], service: [ftp, tcp/5540]}#INWARD]}
"""
HIDDEN = "{leaving: outside, becomes: interface}"
FRONT = "{to: 203.0.113.2, service: [ftp, tcp/5540], goes-to: inner}"


def read(helpers: str = "ftp, cameras", translate: str = HIDDEN, stateful: str = "", **more: str) -> mc.Reading:
    text = HOUSE.replace("#HELPERS", helpers).replace("#TRANSLATE", translate).replace("#STATEFUL", stateful)
    for name in ("SETTINGS", "OUTWARD", "INWARD"):
        text = text.replace(f"#{name}", more.get(name.lower(), ""))
    return mc.read_bytes(text.encode(), "house.yaml")


def house(**more: str) -> mc.Lab:
    found = read(**more)
    assert found.network is not None, found.problems
    return mc.Lab(found.network)


def talk(lab: mc.Lab, *then: str, flow: tuple[str, str, str] = ("inner", "depot", "ftp"), family: int = 4) -> Conversation:
    held = lab.converse(mc.Flow(*flow, Options(family=family)), apart=False)
    for words in then:
        assert held.failed is None, held.failed
        held.next(parse_then(words, lab.network))
    return held


def said(held: Conversation) -> str:
    return " ".join(str(held.journey.behind).split())


PASSIVE, ACTIVE = ("answer announce tcp/40021", "open"), ("announce tcp/50001", "answer open")
OUT, IN = ("inner", "depot", "ftp"), ("depot", "203.0.113.2", "ftp")


@pytest.mark.parametrize("translate", [HIDDEN, ""])
@pytest.mark.parametrize("then", [PASSIVE, ACTIVE])
def test_what_a_helper_reads_of_is_let_pass_both_ways(then: tuple[str, ...], translate: str) -> None:
    """RFC 959 section 3.2: either end may say where it waits, and the other opens to it."""
    lab = house(translate=translate)
    held = talk(lab, *then)
    assert held.failed is None
    assert "let through by the announcement of tcp" in str(held.journey)
    there = held.journey.there
    wanted = "203.0.113.2" if translate and then is ACTIVE else "10.40.1.10" if then is ACTIVE else "203.0.113.9"
    assert str(there.packet.destination) == wanted
    opened = lab.state.sessions("gate")[-1]
    assert opened.opened_by[1] == "expected"
    moved = [r for hop in there.hops for r in hop.rulings if r.stage == "translate destination"]
    assert ["announcement" in r.because.words for r in moved] == ([True] if wanted == "203.0.113.2" else [])
    assert lab.state.expectations("gate") == []


@pytest.mark.parametrize("then", [PASSIVE, ACTIVE])
def test_the_same_through_a_front(then: tuple[str, ...]) -> None:
    """The far end of a forwarded port knows the outer address alone, and is told no other."""
    lab = house(translate=FRONT)
    held = talk(lab, *then, flow=IN)
    assert held.failed is None
    told = next(e.told for e in held.exchanges if e.told is not None)
    assert str(told.arrived) == ("tcp 203.0.113.2:40021" if then is PASSIVE else "tcp 203.0.113.9:50001")
    assert held.journey.there.end == ("inner" if then is PASSIVE else "depot")


@pytest.mark.parametrize("then", [PASSIVE, ACTIVE])
def test_and_of_the_other_family(then: tuple[str, ...]) -> None:
    assert talk(house(), *then, family=6).failed is None


@pytest.mark.parametrize(
    ("then", "translate", "why"),
    [
        (PASSIVE, HIDDEN, "gate did not read the announcement: its helpers do not name ftp"),
        (ACTIVE, HIDDEN, "gate translated who announced tcp 10.40.1.10:50001, and not what it told: its helpers do not name ftp"),
        (ACTIVE, "", "gate did not read the announcement: its helpers do not name ftp"),
    ],
)
def test_a_channel_that_nobody_reads_of_is_a_new_flow(then: tuple[str, ...], translate: str, why: str) -> None:
    """RFC 4787 REQ-10, RFC 5382 REQ-6: no helper is on that was not named; the loss names it, and naming it helps."""
    held = talk(house(helpers="", translate=translate), *then)
    assert held.failed is not None
    assert said(held) == why
    assert remedies(held.journey) == ("add helpers: [ftp] to gate",)
    assert talk(house(helpers="ftp", translate=translate), *then).failed is None


def test_it_is_expected_for_a_while_and_not_a_moment_longer() -> None:
    lab = house(settings="announced-for: 20 s")
    held = talk(lab, "announce tcp/50001", "wait 19999 ms")
    assert [e.port for e in lab.state.expectations("gate")] == [50001]
    assert len(lab.state.mappings("gate")) == 2
    held.next(parse_then("wait 1 ms", lab.network))
    assert lab.state.expectations("gate") == []
    assert len(lab.state.mappings("gate")) == 1
    held.next(parse_then("answer open", lab.network))
    assert said(held).startswith("gate expects what is announced for 20 s (announced-for), and that is over")


def test_it_is_opened_once() -> None:
    held = talk(house(), *ACTIVE, "answer open")
    assert said(held) == "gate let it be opened once, as it was announced"


def test_by_the_other_end_alone() -> None:
    """What is expected is no hole for a stranger, and a stranger's try takes nothing away."""
    lab = house()
    held = talk(lab, "announce tcp/50001")
    tried = lab.send(mc.Flow("stranger", "203.0.113.2", "tcp/50001"))
    assert not tried.answered
    assert tried.there.end == "gate"
    held.next(parse_then("answer open", lab.network))
    assert held.failed is None


def test_an_end_of_the_conversation_ends_what_it_announced() -> None:
    lab = house()
    held = talk(lab, "announce tcp/50001")
    lab.state.clear("gate")
    assert lab.state.expectations("gate") == []
    assert lab.state.mappings("gate") == []
    held.next(parse_then("answer open", lab.network))
    assert held.failed is not None


@pytest.mark.parametrize(
    ("flow", "then", "why"),
    [
        (("inner", "depot", "ftp"), ("announce tcp/80", "answer open"), "over"),
        (("inner", "depot", "ftp"), ("announce udp/5000", "answer open"), "over"),
        (("inner", "depot", "tcp/5540"), ("announce udp/40010", "answer open"), "who"),
        (("inner", "depot", "tcp/5540"), ("answer announce udp/40101", "open"), "over"),
    ],
)
def test_what_is_not_believed_opens_nothing(flow: tuple[str, str, str], then: tuple[str, ...], why: str) -> None:
    lab = house()
    held = talk(lab, *then, flow=flow)
    assert held.failed is not None
    told = next(e for e in held.exchanges if e.told is not None)
    assert told.told is not None
    assert told.told.refused_by == ("gate",)
    notes = [r.remark for h in told.journey.later.hops for r in h.rulings if r.remark and r.remark.code == "note.not-heard"]  # type: ignore[union-attr]
    assert [n.named["why"] for n in notes] == [why]
    assert lab.state.expectations("gate") == []


def test_a_sender_is_believed_about_itself_alone() -> None:
    """Else whoever talks through the device could open a way to somebody else."""
    lab = house()
    held = talk(lab, "data")
    packet = held.first.there.packet._replace(flags="ACK", announces=Channel(6, parse_address("10.40.1.11"), 50001))
    leg, _ = follow(lab.plan, lab.state, Emission(packet, "inner", Way.LATER, None, None, 3), None)
    assert leg.end == "depot"
    assert leg.arrived.announces == packet.announces
    assert lab.state.expectations("gate") == []


def test_a_service_of_ones_own() -> None:
    lab = house(translate=HIDDEN)
    held = talk(lab, "answer announce udp/40010", "open", flow=("inner", "depot", "tcp/5540"))
    assert held.failed is None
    assert held.journey.there.packet.protocol == 17


def test_a_port_that_is_taken_outside_is_told_otherwise() -> None:
    lab = house()
    lab.state.expect("gate", lab_expects(lab, "10.40.1.11"))
    held = talk(lab, "announce tcp/50001")
    told = held.exchanges[-1].told
    assert told is not None
    assert told.arrived is not None
    assert told.arrived.port != 50001
    held.next(parse_then("answer open", lab.network))
    assert held.failed is None
    assert str(held.journey.there.arrived.destination) == "10.40.1.10"
    assert held.journey.there.arrived.to_port == 50001


def lab_expects(lab: mc.Lab, inner: str):  # type: ignore[no-untyped-def]
    """What another host's conversation left behind at the gate."""
    from mossy_compass.plan.facts import Expected

    depot, outer = parse_address("203.0.113.9"), parse_address("203.0.113.2")
    now = lab.state.now
    return Expected(0, "ftp", 99, 6, depot, outer, 50001, parse_address(inner), 50001, 0, now, now + 60_000)


def test_rules_call_it_related_and_not_new() -> None:
    """Where nothing is inspected, a rule must let it in; one for new conversations does not."""
    for state, passes in (("related", True), ("new", False)):
        lab = house(
            stateful="\n    stateful: none",
            outward=", {id: 2, permit: any, state: [continuing, answering]}",
            inward=", {id: 2, permit: any, state: [continuing, answering]}, {id: 3, permit: tcp, state: " + state + "}",
        )
        held = talk(lab, *ACTIVE)
        met = [r for h in held.exchanges[-1].journey.there.hops for r in h.rulings if h.device == "gate"]  # type: ignore[union-attr]
        assert any(r.relation is Relation.EXPECTED for r in met)
        assert (held.failed is None) is passes


def test_undone_it_is_as_if_nothing_had_been_announced() -> None:
    lab = house()
    held = talk(lab, "data")
    before = lab.state.__getstate__()
    with lab.state.unchanged():
        made = held.copied()
        for words in (*ACTIVE, "answer announce tcp/40021", "wait 2 min"):
            made.next(parse_then(words, lab.network))
        assert lab.state.__getstate__() != before
    assert repr(lab.state.__getstate__()[2]["gate"][3:]) == repr(before[2]["gate"][3:])  # type: ignore[index]
    assert lab.state.mappings("gate")[0].sessions == 1


@pytest.mark.parametrize(
    ("then", "words"),
    [
        ("open", "has announced no second channel"),
        ("announce", "an announcement names one port"),
        ("announce tcp", "an announcement names one port"),
        ("announce tcp/1-9", "an announcement names one port"),
        ("announce icmp/echo-request", "an announcement names one port"),
        ("answer announce gre", "an announcement names one port"),
    ],
)
def test_what_nobody_could_announce_or_open_is_refused(then: str, words: str) -> None:
    with pytest.raises(mc.QuestionError, match=words):
        talk(house(), then)


def test_who_announced_does_not_open_it() -> None:
    with pytest.raises(mc.QuestionError, match="write answer open"):
        talk(house(), "announce tcp/50001", "open")


def test_tables_and_data_say_what_is_expected() -> None:
    lab = house()
    held = talk(lab, "announce tcp/50001", "answer announce tcp/40021")
    rows = expectations(lab.state, "gate")
    assert rows.about == "gate expects 2 second channels"
    assert [d["at"] for d in rows.data] == [{"address": "203.0.113.2", "port": 50001}, {"address": "203.0.113.9", "port": 40021}]
    assert rows.data[0]["inner"] == {"address": "10.40.1.10", "port": 50001}
    assert [d["opener"] for d in rows.data] == ["203.0.113.9", "10.40.1.10"]
    assert [d["sessions"] for d in mappings(lab.state, "gate").data] == [1, 0]
    assert json.dumps(conversationtext.conversation_dict(held))


@pytest.mark.parametrize(
    ("helpers", "services", "code"),
    [
        ("[https]", "", "helper.unknown"),
        ("[nowhere]", "", "helper.unknown"),
        ("[plain]", "plain: tcp/9", "helper.unknown"),
        ("[odd]", "odd: {members: tcp/9, expects: {over: gre}}", "service.expects"),
        ("[odd]", "odd: {members: tcp/9, expects: {announced-by: both, over: tcp/10}}", "value.wrong"),
    ],
)
def test_faults_in_the_file(helpers: str, services: str, code: str) -> None:
    text = HOUSE.replace("[#HELPERS]", helpers).replace("  cameras:", f"  {services}\n  cameras:" if services else "  cameras:")
    for name in ("TRANSLATE", "SETTINGS", "STATEFUL", "OUTWARD", "INWARD"):
        text = text.replace(f"#{name}", "")
    found = mc.read_bytes(text.encode(), "house.yaml")
    assert code in [p.code for p in found.problems], found.problems


def test_a_helper_that_has_no_effect_is_told() -> None:
    bare, order = (
        "\n    stateful: none",
        "[arrive, recall, inspection, arriving list, to self, forwarding, route, time to live, send]",
    )

    def codes(**more: str) -> set[str]:
        return {p.code for p in read(translate="", **more).problems}

    assert "helper.idle" in codes(stateful=bare)
    assert "helper.idle" not in codes()
    assert "helper.idle" not in codes(stateful="\n    stateful: tcp")
    assert "helper.idle" in codes(stateful="\n    stateful: udp")
    assert "helper.idle" not in {p.code for p in read(stateful=bare).problems}
    assert "idle.no-stage" in codes(stateful=f"\n    order: {order}")
    assert "idle.no-stage" not in codes(helpers="", stateful=f"\n    order: {order}")


CHAIN = """\
mossy-network: 1
devices:
  inner: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  one:
    kind: firewall
    interfaces: {in: {address: 10.40.1.1/24, outside: no}, out: {address: 10.41.0.2/24, outside: yes}}
    routes: [{prefix: default, next-hop: 10.41.0.1}]
    translate: [{leaving: out}]
    helpers: [#ONE]
  two:
    kind: firewall
    interfaces: {in: {address: 10.41.0.1/24, outside: no}, out: {address: 203.0.113.2/24, outside: yes}}
    routes: [{prefix: default, next-hop: 203.0.113.1}]
    translate: [{leaving: out}]
    helpers: [#TWO]
    serves: [ftp]
    to-self: own
  world: {kind: internet, interfaces: {p: 203.0.113.1/24}, hosts: {archive: {address: 198.51.100.9, serves: [ftp]}}}
lists: {own: [{permit: tcp, service: ftp}#OWN]}
segments: {a: [inner, one/in], b: [one/out, two/in], c: [two/out, world/p]}
"""


def chain(one: str = "ftp", two: str = "ftp", own: str = "") -> mc.Lab:
    found = mc.read_bytes(CHAIN.replace("#ONE", one).replace("#TWO", two).replace("#OWN", own).encode(), "chain.yaml")
    assert found.network is not None, found.problems
    return mc.Lab(found.network)


@pytest.mark.parametrize("then", [PASSIVE, ACTIVE])
@pytest.mark.parametrize(
    ("one", "two", "why"),
    [
        ("ftp", "ftp", ""),
        ("ftp", "", "two translated who announced tcp 10.41.0.2:50001, and not what it told: its helpers do not name ftp"),
        ("", "ftp", "one translated who announced tcp 10.40.1.10:50001, and not what it told: its helpers do not name ftp"),
    ],
)
def test_over_two_translations_to_a_far_host(one: str, two: str, why: str, then: tuple[str, ...]) -> None:
    """Each device tells on what the next one may believe; a far host opens with its own address, not with its stand-in's."""
    held = talk(chain(one, two), *then, flow=("inner", "archive", "ftp"))
    if then is PASSIVE or not why:  # outward nothing is filtered, so nobody needs to read what archive tells
        assert held.failed is None
    else:
        assert said(held) == why
    assert held.journey.sender == ("inner" if then is PASSIVE else "archive")


@pytest.mark.parametrize(("own", "passes"), [("", False), (", {permit: tcp, service: tcp/40021}", True)])
def test_what_a_device_announces_itself_is_still_for_its_own_filters(own: str, passes: bool) -> None:
    held = talk(chain(own=own), *PASSIVE, flow=("inner", "10.41.0.1", "ftp"))
    assert (held.failed is None) is passes
    if not passes:
        assert held.journey.behind is None
        assert held.journey.there.end == "two"
    elsewhere = talk(chain(own=own), "data", flow=("inner", "10.41.0.1", "ftp"))
    assert elsewhere.failed is None


def test_a_host_listens_where_it_announced_and_nowhere_else() -> None:
    lab = chain(own=", {permit: tcp}")
    talk(lab, "answer announce tcp/40021", flow=("inner", "archive", "ftp"))
    assert lab.test(mc.Flow("inner", "archive", "tcp/40021")).answered
    assert lab.test(mc.Flow("inner", "archive", "tcp/40022")).cause == "service.closed"
    assert not lab.test(mc.Flow("inner", "archive", "udp/40021")).answered
