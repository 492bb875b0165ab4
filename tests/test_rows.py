"""The index that decides, the reasons for rules passed over, and a judge that reads rules one by one agree."""

from __future__ import annotations

import random
from dataclasses import replace
from unittest.mock import patch

from hypothesis import given
from hypothesis import strategies as st

from mossy_compass.marks import NOWHERE
from mossy_compass.model.network import AccessList, Rule, Verdict
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import EVERYTHING, V6_BASE, Address, Span, in_spans, parse_address, parse_block
from mossy_compass.packet.packet import Packet, later_fragment
from mossy_compass.packet.service import Service
from mossy_compass.plan import table as table_module
from mossy_compass.plan.conditions import CONDITIONS, STATES, Reader, in_set
from mossy_compass.plan.facts import SOME_TIME, Facts, Moment, Recollection, Relation
from mossy_compass.plan.fields import FIELDS, SetKind
from mossy_compass.plan.ids import list_id
from mossy_compass.plan.index import divided, places
from mossy_compass.plan.rows import Row
from mossy_compass.plan.table import Table, list_table
from mossy_compass.report.words import miss_words
from tests.effort import examples

NETS = [
    "10.40.0.0/30",
    "10.40.0.2",
    "10.40.0.1-10.40.0.5",
    "2001:db8::/126",
    "0.0.0.0/0",
    "::/0",
    "10.40.0.0/0.0.0.5",
    "10.0.0.0/0.170.85.5",
    "10.0.0.1/0.255.240.6",
]
OWN = (Span(parse_address("10.40.0.1").key, parse_address("10.40.0.1").key),)


def block(text: str) -> Term:
    found = parse_block(text)
    return Term(found.text, found.spans, masked=found.masked)


term = st.sampled_from(NETS).map(block) | st.just(Term("any", EVERYTHING)) | st.just(Term("self", None))
terms = st.none() | st.lists(term, min_size=1, max_size=2).map(tuple)
port = st.integers(0, 4)
ports = st.tuples(port, st.integers(0, 2)).map(lambda p: Span(p[0], p[0] + p[1]))
service = st.tuples(st.sampled_from([6, 17]), st.none() | ports).map(lambda p: Service(*p))
interfaces = st.none() | st.sampled_from([("a",), ("b",), ("a", "b")])


sometimes = st.sampled_from([False, False, False, True])


def some_names(names: tuple[str, ...]) -> st.SearchStrategy[tuple[str, ...] | None]:
    return st.none() | st.none() | st.lists(st.sampled_from(names), min_size=1, max_size=2).map(tuple)


moments = st.builds(
    Moment,
    st.none(),
    st.frozensets(st.sampled_from(["morning", "evening"])),
    st.sampled_from([None, frozenset(("video", "streaming")), frozenset(("chat",))]),
    st.integers(1, 3),
    st.sampled_from([frozenset(), frozenset(("*",))]),
)
learned = st.frozensets(st.sampled_from(["one.example", "two.example"]))


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
        draw(sometimes),
        draw(st.none() | st.lists(st.sampled_from(list(STATES)), min_size=1, max_size=3).map(tuple)),
        draw(sometimes),
        draw(some_names(("morning", "evening"))),
        draw(some_names(("video", "streaming", "chat"))),
        draw(some_names(("one.example", "two.example"))),
        draw(st.sampled_from(["", "last-resort"])),
        draw(interfaces),
        draw(interfaces),
        disabled=draw(sometimes),
    )


lists = st.lists(rule(), max_size=8).map(
    lambda rs: AccessList("l", tuple(replace(r, id=str(n)) for n, r in enumerate(rs)), NOWHERE)
)
address = st.integers(0, 7).map(lambda n: Address(4, (10 << 24) + (40 << 16) + n)) | st.integers(0, 5).map(
    lambda n: Address(6, (0x20010DB8 << 96) + n)
)


@st.composite
def packet(draw: st.DrawFn) -> Packet:
    source = draw(address)
    destination = draw(address.filter(lambda a: a.family == source.family))
    protocol = draw(st.sampled_from([6, 17, 1, 47]))
    if draw(sometimes):
        return later_fragment(Packet(protocol, source, destination))
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


def written(words: str, address: Address) -> bool:
    """A wildcard mask read bit by bit from its text."""
    base, _, mask = words.partition(" wildcard ")
    if not mask or address.family == 6:
        return False
    free = parse_address(mask).value
    return all(address.value >> bit & 1 == parse_address(base).value >> bit & 1 for bit in range(32) if not free >> bit & 1)


def judge(rule: Rule, asked: Facts) -> bool:
    """What a rule says, read straight from its fields, without any set or index."""
    packet, arriving, leaving, relation = asked.packet, asked.arriving, asked.leaving, asked.relation
    moment = asked.moment
    application = moment.application if moment.application and asked.number >= moment.known_from else frozenset()
    memory = asked.memory
    called = memory.names_of("", packet.destination) if memory else frozenset()
    for wanted, held in ((rule.hours, moment.open), (rule.applications, application), (rule.names, called)):
        if wanted is not None and not any(w in held for w in wanted):
            return False
    if rule.last_resort and not moment.last_resort:
        return False
    if rule.fragments and packet.from_port >= 0:
        return False
    shown = {"opening": "new", "expected": "related"}.get(relation.value, relation.value)
    if rule.states is not None and shown not in rule.states:
        return False

    def among(terms: tuple[Term, ...] | None, a: Address) -> bool:
        return terms is None or any(in_spans(a.key, OWN if t.spans is None else t.spans) or written(t.words, a) for t in terms)

    if rule.disabled or (rule.protocol is not None and rule.protocol != packet.protocol):
        return False
    if rule.from_ports is not None and (
        packet.protocol not in (6, 17) or packet.fragment or not any(s.first <= packet.from_port <= s.last for s in rule.from_ports)
    ):
        return False
    if rule.services is not None and not any(
        s.protocol == packet.protocol if s.ports is None or packet.fragment else s.covers(packet.protocol, packet.slot)
        for s in rule.services
        if s.ports is None or not packet.fragment
    ):
        return False
    if rule.opening and (not packet.opening or relation in (Relation.ANSWERING, Relation.RELATED)):
        return False
    if (rule.arriving is not None and arriving not in rule.arriving) or (rule.leaving is not None and leaving not in rule.leaving):
        return False
    return among(rule.sources, packet.source) and among(rule.destinations, packet.destination)


def facts(
    packet: Packet,
    arriving: str | None = None,
    leaving: str | None = None,
    relation: Relation = Relation.OPENING,
    moment: Moment = SOME_TIME,
    number: int = 1,
    names: frozenset[str] = frozenset(),
) -> Facts:
    made = Facts(packet, arriving, Recollection(names), leaving, moment, number)
    made.relation = relation
    return made


where = st.sampled_from([None, "a", "b"])


@examples(30, 1050)
@given(lists, packet(), where, where, st.sampled_from(list(Relation)), moments, st.integers(1, 3), learned)
def test_index_reasons_and_judge_agree(
    source: AccessList,
    packet: Packet,
    arriving: str | None,
    leaving: str | None,
    relation: Relation,
    moment: Moment,
    number: int,
    names: frozenset[str],
) -> None:
    """A list's verdict is that of the first rule whose every condition holds, whatever is asked for."""
    table = list_table(source, Reader(OWN, names=None))
    asked = facts(packet, arriving, leaving, relation, moment, number, names)
    verdicts = {r.id: judge(r, asked) for r in source.rules}
    expected = next((r.id for r in source.rules if r.verdict is not Verdict.NOTE and verdicts[r.id]), None)
    found = table.first(asked)
    assert (found.id if found else None) == expected
    deciding = [r for r in table.rows if not r.disabled and r.verdict is not Verdict.NOTE]
    for side in ("source", "destination"):
        assert divided(deciding, places(deciding, side))(asked) is found
    for row in table.rows:
        assert (next(row.misses(asked), None) is None) == verdicts[row.id]
    above = [r.id for r in source.rules if expected is None or int(r.id) < int(expected)]
    over = [row.id for row, _ in table.passed_over(asked)]
    noted = [row.id for row in table.noted(asked)]
    assert sorted(over + noted, key=int) == above
    later = table.later_permit(asked)
    below = [r.id for r in source.rules if expected is not None and int(r.id) > int(expected)]
    permits = [r.id for r in source.rules if r.verdict is Verdict.PERMIT and verdicts[r.id] and r.id in below]
    assert (later.id if later else None) == (permits[0] if permits else None)


@examples(25, 900)
@given(lists, packet(), where, where)
def test_near_misses_are_the_permits_with_fewest_unmet_fields(
    source: AccessList, packet: Packet, arriving: str | None, leaving: str | None
) -> None:
    """From the index's masks, as counting row by row gives them."""
    table = list_table(source, Reader(OWN, names=None))
    asked = facts(packet, arriving, leaving)
    counts = {}
    for row in table.rows:
        if row.verdict is Verdict.PERMIT:
            counts[row.id] = len({m.condition.fields if m.condition else () for m in row.misses(asked)})
    for wanted in (1, 2):
        expected = [n for n, count in counts.items() if count == wanted]
        if expected:
            break
    near = table.near(asked, most=99)
    assert [n.row.id for n in near] == expected
    assert all(len(n.misses) == counts[n.row.id] for n in near)
    with patch.object(table_module, "MOST_INDEXED", -1):
        scanned = list_table(source, Reader(OWN, names=None))
        assert scanned.near(asked, most=99) == near
        assert scanned.later_permit(asked) == table.later_permit(asked)


@examples(57, 600)
@given(rule(), packet(), where, where, st.data())
def test_taking_an_entry_out_of_a_condition_never_widens_a_rule(
    source: Rule, packet: Packet, arriving: str | None, leaving: str | None, data: st.DataObject
) -> None:
    """No condition widens by being empty: the last entry taken out leaves a rule that matches nothing."""
    keys = [k for k in (*PLURAL, "states", "hours", "applications", "names") if getattr(source, k) is not None]
    if not keys:
        return
    key = data.draw(st.sampled_from(keys))
    entries = getattr(source, key)
    fewer = replace(source, **{key: entries[1:]})
    asked = facts(packet, arriving, leaving)
    one, other = (list_table(AccessList("l", (r,), NOWHERE), Reader(OWN, names=None)) for r in (source, fewer))
    if other.first(asked) is not None:
        assert one.first(asked) is not None
    if len(entries) <= 1:
        assert other.first(asked) is None


PLURAL = ("sources", "destinations", "services", "arriving", "leaving", "from_ports")


def probe(protocol: int, source: Address, destination: Address, from_port: int = 1, to_port: int = 0) -> Facts:
    return facts(Packet(protocol, source, destination, from_port, to_port))


def test_first_unmet_condition_is_in_reading_order() -> None:
    wanted = Rule(
        "1",
        Verdict.PERMIT,
        NOWHERE,
        6,
        (block("10.40.0.0/30"),),
        (block("10.40.0.9"),),
        services=(Service(6, Span(80, 80)),),
        service_words="web",
    )
    table = list_table(AccessList("l", (wanted,), NOWHERE), Reader())
    a, b, c = (parse_address(t) for t in ("10.40.0.1", "10.40.0.9", "10.40.1.1"))
    assert table.passed_over(probe(17, c, a))[0][1].key == "protocol"
    assert table.passed_over(probe(6, c, a))[0][1].key == "from"
    assert table.passed_over(probe(6, a, a))[0][1].key == "to"
    miss = table.passed_over(probe(6, a, b, 1, 81))[0][1]
    assert miss_words(miss, Packet(6, a, b, 1, 81)) == ("service", "wants web, the packet is tcp/81")
    assert table.passed_over(probe(6, a, b, 1, 80)) == []


def test_protocol_and_port_are_one_condition_to_whoever_looks_for_the_nearest_rule() -> None:
    """tcp/22 wanted, udp/22 sent: one thing is wrong, not two."""
    wanted = Rule("1", Verdict.PERMIT, NOWHERE, 6, services=(Service(6, Span(22, 22)),), service_words="ssh")
    table = list_table(AccessList("l", (wanted,), NOWHERE), Reader())
    near = table.near(probe(17, Address(4, 1), Address(4, 2), 1, 22))
    assert [m.key for m in near[0].misses] == ["service"]


def test_an_empty_service_matches_nothing_and_says_so() -> None:
    table = list_table(AccessList("l", (Rule("1", Verdict.PERMIT, NOWHERE, services=(), service_words="none"),), NOWHERE), Reader())
    asked = probe(6, Address(4, 1), Address(4, 2), 1, 2)
    assert table.first(asked) is None
    assert table.passed_over(asked)[0][1].key == "service"


def test_absent_is_in_no_set_and_any_is_no_condition() -> None:
    """GRE has no port: no interval holds it, however wide; a rule without a condition takes it all the same."""
    every = (Span(0, 65535),)
    gre = probe(47, Address(4, 1), Address(4, 2))
    for entry in (
        Rule("1", Verdict.PERMIT, NOWHERE, from_ports=every),
        Rule("1", Verdict.PERMIT, NOWHERE, services=(Service(6, every[0]), Service(17, every[0]))),
    ):
        assert list_table(AccessList("l", (entry,), NOWHERE), Reader()).first(gre) is None
    assert list_table(AccessList("l", (Rule("1", Verdict.PERMIT, NOWHERE),), NOWHERE), Reader()).first(gre) is not None


def test_a_name_of_interfaces_stands_for_all_of_them() -> None:
    entry = Rule("1", Verdict.PERMIT, NOWHERE, arriving=("both",))
    table = list_table(AccessList("l", (entry,), NOWHERE), Reader((), {"both": ("a", "b")}))
    packet = Packet(6, Address(4, 1), Address(4, 2), 1, 2)
    assert [table.first(facts(packet, port)) is not None for port in ("a", "b", "c", None)] == [True, True, False, False]


def test_a_long_list_is_divided_and_decides_as_gone_through_from_the_top() -> None:
    """Hosts, nets, wide and crowded ranges, several services and any: whatever stands where, the first that holds decides."""
    chance = random.Random(5)
    blocks = ["10.40.{}.{}", "10.40.{}.0/24", "10.40.0.0/16", "2001:db8::{}:{}", "10.40.{}.3-10.40.250.{}", "10.40.9.9"]

    def ends() -> tuple[Term, ...] | None:
        """Some addresses; none for any."""
        weights = (600, 100, 1, 100, 2, 100)
        made = chance.choices(blocks, weights, k=chance.choice((1, 1, 1, 2)))
        return tuple(block(m.format(chance.randrange(20), chance.randrange(20))) for m in made) if chance.random() < 0.95 else None

    def services() -> tuple[Service, ...] | None:
        """One or two ports, or any."""
        some = tuple(Service(chance.choice((6, 17)), Span(p, p)) for p in chance.sample(range(1, 9), chance.choice((1, 1, 2))))
        return some if chance.random() < 0.97 else None

    rules = [
        Rule(
            str(number),
            chance.choice((Verdict.PERMIT, Verdict.DENY)),
            NOWHERE,
            sources=ends(),
            destinations=ends(),
            services=services(),
            arriving=chance.choice((None, None, ("a",))),
        )
        for number in range(1200)
    ]
    table = list_table(AccessList("l", tuple(rules), NOWHERE), Reader())
    winners = set()
    for number in range(600):
        near = rules[chance.randrange(1200)]
        source, destination = (
            t[-1].spans[0].first if t and t[-1].spans else (10 << 24) + (40 << 16) + number
            for t in (near.sources, near.destinations)
        )
        packet = Packet(6, Address(*key_of(source)), Address(*key_of(destination)), 5000, chance.randrange(1, 9))
        asked = facts(packet, "a")
        expected = next((r for r in table.rows if all(c.holds(asked) for c in r.conditions)), None)
        assert table.first(asked) is expected
        winners.add(expected.id if expected else None)
    assert len(winners) > 50
    assert None in winners


def key_of(key: int) -> tuple[int, int]:
    """An address by its place on the line of both families."""
    return (4, key) if key < V6_BASE else (6, key - V6_BASE)


def test_many_masks_cost_what_they_are() -> None:
    """10,000 awkward wildcard masks are four tables and a number each, never lists of what they hold."""
    rules = []
    for number in range(10_000):
        found = parse_block(f"10.{number >> 8}.0.{number & 255}/0.0.170.0")
        rules.append(Rule(str(number), Verdict.PERMIT, NOWHERE, sources=(Term(found.text, found.spans, masked=found.masked),)))
    table = list_table(AccessList("l", tuple(rules), NOWHERE), Reader())
    asked = probe(6, parse_address("10.3.136.7"), Address(4, 2), 1, 2)
    assert table.first(asked) == table.rows[3 * 256 + 7]
    assert table.first(probe(6, parse_address("10.3.1.7"), Address(4, 2), 1, 2)) is None


def test_the_tables_of_fields_and_conditions_fit_together() -> None:
    for key in CONDITIONS.values():
        assert set(key.fields) <= set(FIELDS)
        assert key.meaning.endswith(".")
    for field in FIELDS.values():
        assert field.meaning
    assert in_set(SetKind.INTERVALS, (Span(1, 2),), 2)
    assert not in_set(SetKind.ONE_OF, frozenset(("a",)), None)


def test_a_row_without_conditions_decides_whatever_comes() -> None:
    table = Table(list_id("t"), [Row("first", ()), Row("second", ())])
    assert table.first(probe(6, Address(4, 1), Address(4, 2))) == table.rows[0]


def test_an_empty_condition_holds_for_nothing() -> None:
    """The reader of files refuses one; whoever builds a rule in Python gets a rule that never matches, not one that always does."""
    packet = Packet(6, parse_address("10.40.0.1"), parse_address("10.40.0.2"), 40000, 443)
    facts = Facts(packet, "a")
    facts.leaving = "b"
    plain = Rule("1", Verdict.PERMIT, NOWHERE, 6)
    assert list_table(AccessList("l", (plain,), NOWHERE), Reader()).first(facts) is not None
    for key in (*PLURAL, "states", "hours", "applications", "names"):
        table = list_table(AccessList("l", (replace(plain, **{key: ()}),), NOWHERE), Reader())  # type: ignore[arg-type]
        assert table.first(facts) is None, key
