"""The index that decides, the reasons for rules passed over, and a judge that reads rules one by one agree."""

from __future__ import annotations

from hypothesis import given, settings
from hypothesis import strategies as st

from mossy_compass.marks import NOWHERE
from mossy_compass.model.network import AccessList, Rule, Term, Translate, Verdict
from mossy_compass.packet.address import EVERYTHING, Address, Span, in_spans, parse_address, parse_block
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import Service
from mossy_compass.plan.match import ListTable, translation_list

NETS = ["10.40.0.0/30", "10.40.0.2", "10.40.0.1-10.40.0.5", "2001:db8::/126", "0.0.0.0/0", "::/0", "10.40.0.0/0.0.0.5"]
OWN = (Span(parse_address("10.40.0.1").key, parse_address("10.40.0.1").key),)
term = st.sampled_from(NETS).map(lambda t: Term(*parse_block(t))) | st.just(Term("any", EVERYTHING)) | st.just(Term("self", None))
terms = st.none() | st.lists(term, min_size=1, max_size=2).map(tuple)
port = st.integers(0, 4)
ports = st.tuples(port, st.integers(0, 2)).map(lambda p: Span(p[0], p[0] + p[1]))
service = st.tuples(st.sampled_from([6, 17]), st.none() | ports).map(lambda p: Service(*p))
interfaces = st.none() | st.sampled_from([("a",), ("b",), ("a", "b")])


@st.composite
def rule(draw: st.DrawFn, number: int = 0) -> Rule:
    protocol = draw(st.sampled_from([None, 6, 17, 1]))
    services = None
    if draw(st.booleans()):
        found = draw(st.lists(service, min_size=1, max_size=3))
        services = tuple(s for s in found if protocol is None or s.protocol == protocol)
    if protocol == 1 and draw(st.booleans()):
        services = (Service(1, Span(8 * 256, 8 * 256 + 255)),)
    return Rule(
        str(number),
        draw(st.sampled_from(list(Verdict))),
        NOWHERE,
        protocol,
        draw(terms),
        draw(terms),
        (draw(ports),) if protocol != 1 and draw(st.booleans()) else None,
        services,
        "s",
        draw(st.booleans()),
        draw(interfaces),
        draw(interfaces),
        draw(st.booleans()) and draw(st.booleans()),
    )


lists = st.lists(rule(), max_size=8).map(
    lambda rs: AccessList(
        "l", tuple(Rule(**{**{f: getattr(r, f) for f in r.__slots__}, "id": str(n)}) for n, r in enumerate(rs)), NOWHERE
    )
)
address = st.integers(0, 7).map(lambda n: Address(4, (10 << 24) + (40 << 16) + n)) | st.integers(0, 5).map(
    lambda n: Address(6, (0x20010DB8 << 96) + n)
)


@st.composite
def packet(draw: st.DrawFn) -> Packet:
    source = draw(address)
    destination = draw(address.filter(lambda a: a.family == source.family))
    protocol = draw(st.sampled_from([6, 17, 1, 47]))
    if protocol == 1:
        return Packet(1, source, destination, draw(port), 0, draw(st.sampled_from([0, 8 * 256, 3 * 256 + 1])))
    if protocol == 47:
        return Packet(47, source, destination)
    return Packet(
        protocol,
        source,
        destination,
        draw(port),
        draw(st.integers(0, 6)),
        flags=draw(st.sampled_from(["SYN", "SYN-ACK"])) if protocol == 6 else "",
    )


def judge(rule: Rule, packet: Packet, arriving: str | None, leaving: str | None) -> bool:
    """What a rule says, read straight from its fields, without any set or index."""

    def among(terms: tuple[Term, ...] | None, a: Address) -> bool:
        return terms is None or any(in_spans(a.key, OWN if t.spans is None else t.spans) for t in terms)

    if rule.disabled or (rule.protocol is not None and rule.protocol != packet.protocol):
        return False
    if rule.from_ports is not None and (
        packet.protocol not in (6, 17) or not any(s.first <= packet.from_port <= s.last for s in rule.from_ports)
    ):
        return False
    if rule.services is not None and not any(s.covers(packet.protocol, packet.slot) for s in rule.services):
        return False
    if rule.opening and not packet.opening:
        return False
    if (rule.arriving is not None and arriving not in rule.arriving) or (rule.leaving is not None and leaving not in rule.leaving):
        return False
    return among(rule.sources, packet.source) and among(rule.destinations, packet.destination)


@settings(max_examples=400)
@given(lists, packet(), st.sampled_from([None, "a", "b"]), st.sampled_from([None, "a", "b"]))
def test_index_reasons_and_judge_agree(source: AccessList, packet: Packet, arriving: str | None, leaving: str | None) -> None:
    table = ListTable(source, OWN)
    expected = next((r.id for r in source.rules if r.verdict is not Verdict.NOTE and judge(r, packet, arriving, leaving)), None)
    found = table.first(packet, arriving, leaving)
    assert (found.rule.id if found else None) == expected
    for compiled in table.rules:
        assert (next(compiled.misses(packet, arriving, leaving), None) is None) == judge(compiled.rule, packet, arriving, leaving)
    above = [r.id for r in source.rules if expected is None or int(r.id) < int(expected)]
    over = [p.id for p in table.passed_over(packet, arriving, leaving)]
    noted = [c.rule.id for c in table.noted(packet, arriving, leaving)]
    assert sorted(over + noted, key=int) == above
    for near in table.near_misses(packet, arriving, leaving):
        assert not judge(source.rules[int(near.id)], packet, arriving, leaving)


def test_first_unmet_condition_is_in_reading_order() -> None:
    wanted = Rule(
        "1",
        Verdict.PERMIT,
        NOWHERE,
        6,
        (Term(*parse_block("10.40.0.0/30")),),
        (Term(*parse_block("10.40.0.9")),),
        services=(Service(6, Span(80, 80)),),
        service_words="web",
    )
    table = ListTable(AccessList("l", (wanted,), NOWHERE), ())
    a, b, c = (parse_address(t) for t in ("10.40.0.1", "10.40.0.9", "10.40.1.1"))
    assert table.passed_over(Packet(17, c, a), None, None)[0].miss.field == "protocol"
    assert table.passed_over(Packet(6, c, a), None, None)[0].miss.field == "from"
    assert table.passed_over(Packet(6, a, a), None, None)[0].miss.field == "to"
    assert table.passed_over(Packet(6, a, b, 1, 81), None, None)[0].miss.words == "wants web, the packet is tcp/81"
    assert table.passed_over(Packet(6, a, b, 1, 80), None, None) == ()


def test_an_empty_service_matches_nothing_and_says_so() -> None:
    table = ListTable(AccessList("l", (Rule("1", Verdict.PERMIT, NOWHERE, services=(), service_words="none"),), NOWHERE), ())
    probe = Packet(6, Address(4, 1), Address(4, 2), 1, 2)
    assert table.first(probe, None, None) is None
    assert table.passed_over(probe, None, None)[0].miss.field == "service"


def test_translation_rules_are_matched_by_the_same_meaning() -> None:
    made = translation_list([Translate("out", "up", NOWHERE, (Term(*parse_block("10.40.0.0/24")),))], "gate", NOWHERE)
    table = ListTable(made, ())
    probe = Packet(6, parse_address("10.40.0.1"), parse_address("192.0.2.1"), 1, 2)
    assert table.first(probe, None, "up") is not None
    assert table.first(probe, None, "down") is None
    assert table.passed_over(probe, None, "down")[0].miss.field == "leaving"
