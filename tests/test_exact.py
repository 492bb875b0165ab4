"""Exact sets of rules against brute force, and the findings that are made of them."""

from __future__ import annotations

import itertools
import random
from dataclasses import replace

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.errors import TooLarge
from mossy_compass.headers.sets import Bits, Universe
from mossy_compass.lab.forms import room
from mossy_compass.marks import NOWHERE
from mossy_compass.model.gates import Application, Hours, Wall
from mossy_compass.model.network import AccessList, Rule, Verdict
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import Address, Span, parse_block
from mossy_compass.packet.packet import ERROR_TYPES, Packet, later_fragment
from mossy_compass.packet.service import Service
from mossy_compass.plan.conditions import Condition, Reader
from mossy_compass.plan.facts import Facts, Moment, Recollection, Relation
from mossy_compass.plan.ids import list_id
from mossy_compass.plan.rows import Row
from mossy_compass.plan.table import Table, list_table
from mossy_compass.proof import space as space_module
from mossy_compass.proof.exact import Around, effective, examine, plainly_shadowed
from mossy_compass.proof.findings import _makes_large
from mossy_compass.proof.space import Space, Vocabulary
from tests.effort import examples
from tests.test_rows import OWN, lists, packet, where


def wall(now: int) -> Wall:
    return Wall(now // 1440 % 7, now % 1440)


MORNING = Hours("morning", "UTC", frozenset(range(5)), 6 * 60, 12 * 60, wall)
DAY = Hours("evening", "UTC", frozenset(range(7)), 6 * 60, 22 * 60, wall)
WORDS = Vocabulary(
    {"morning": MORNING, "evening": DAY}, {"video": Application("video", ("streaming",)), "chat": Application("chat")}
)
MOMENTS = [
    Moment(open=open_now, application=application, last_resort=frozenset({"*"} if last else ()))
    for open_now in (frozenset[str](), frozenset(("evening",)), frozenset(("morning", "evening")))
    for application in (None, frozenset(("video", "streaming")), frozenset(("chat",)))
    for last in (False, True)
]


def asked(packet: Packet, arriving: str | None, relation: Relation, moment: Moment, names: frozenset[str]) -> Facts:
    made = Facts(packet, arriving, Recollection(names), None, moment)
    made.relation = relation
    return made


def first_verdict(table: Table, facts: Facts) -> tuple[Verdict, str]:
    row = table.first(facts)
    return (Verdict.DENY, "") if row is None or row.verdict is None else (row.verdict, row.answer)


@example(
    AccessList("l", (Rule("0", Verdict.PERMIT, NOWHERE, opening=True), Rule("1", Verdict.PERMIT, NOWHERE, protocol=17)), NOWHERE)
)
@examples(35, 450)
@given(lists)
def test_what_is_not_called_shadowed_has_a_packet_that_it_decides(source: AccessList) -> None:
    """The other half of being exact: a witness for every rule that is not called dead, found again by the index."""
    table = list_table(source, Reader(OWN, names=None))
    found = examine(table.rows, vocabulary=WORDS)
    dead = {r.id for r in found.never} | {s.row.id for s in found.shadowed}
    live = [r for r in table.rows if not r.disabled]
    space = Space(live, WORDS)
    for row, mine in zip(live, effective(space, live), strict=True):
        witness = space.witness(mine)
        if row.verdict is not Verdict.NOTE:
            assert (witness is None) == (row.id in dead)
        if witness is not None:
            assert table.first(witness) == row
    for shadow in found.shadowed:
        assert shadow.witness is not None
        assert next(shadow.row.misses(shadow.witness.facts), None) is None
        assert table.first(shadow.witness.facts) != shadow.row
        assert shadow.by
        for other in shadow.but_for:
            without = Table(list_id("t"), [r for r in table.rows if r.id != other.id])
            assert any(s.row.id == shadow.row.id for s in examine(without.rows, vocabulary=WORDS).shadowed) is False
    for row, witnessed in found.redundant:
        without = Table(list_id("t"), [r for r in table.rows if r.id != row.id])
        assert witnessed is not None
        assert table.first(witnessed.facts) == row
        assert first_verdict(without, witnessed.facts) == first_verdict(table, witnessed.facts)
    for overlap in found.overlaps:
        for above, witnessed in zip(overlap.above, overlap.witnesses, strict=True):
            assert next(above.misses(witnessed.facts), None) is None
            assert next(overlap.row.misses(witnessed.facts), None) is None


@examples(60, 900)
@given(
    lists,
    packet(),
    where,
    where,
    st.sampled_from(list(Relation)),
    st.sampled_from(MOMENTS),
    st.frozensets(st.sampled_from(["one.example", "two.example"])),
)
def test_no_packet_meets_what_is_called_dead(
    source: AccessList,
    packet: Packet,
    arriving: str | None,
    leaving: str | None,
    relation: Relation,
    moment: Moment,
    names: frozenset[str],
) -> None:
    facts = asked(packet, arriving, relation, moment, names)
    facts.leaving = leaving
    if not possible(packet, relation):
        return
    table = list_table(source, Reader(OWN, names=None))
    found = examine(table.rows, vocabulary=WORDS)
    row = table.first(facts)
    assert row is None or row.id not in {r.id for r in found.never} | {s.row.id for s in found.shadowed}
    if row is not None and row.id in {r.id for r, _ in found.redundant}:
        without = Table(list_id("t"), [r for r in table.rows if r.id != row.id])
        assert first_verdict(without, facts) == first_verdict(table, facts)


def possible(packet: Packet, relation: Relation) -> bool:
    """What a device can make of a packet: it opens, or belongs to something, or to nothing, but not as one likes."""
    if relation in (Relation.OPENING, Relation.EXPECTED):
        return packet.opening
    if relation is Relation.NONE:
        return not packet.opening
    if relation is Relation.RELATED:
        return packet.protocol == 1
    error = packet.protocol == 1 and packet.icmp >> 8 in ERROR_TYPES[1]
    return not error and not (packet.fragment and packet.protocol in (1, 6, 17))


# --- small spaces, every packet --------------------------------------------------------------------------------

PORTS = st.integers(0, 3)


@st.composite
def small_rules(draw: st.DrawFn) -> Rule:
    """Rules over few values, so that every packet that they can tell apart can be tried."""
    protocol = draw(st.sampled_from([None, 6, 17]))

    def terms() -> tuple[Term, ...] | None:
        if draw(st.booleans()):
            return None
        low = draw(st.integers(0, 3))
        return (Term("t", (Span(low, draw(st.integers(low, 3))),)),)

    low = draw(PORTS)
    services = (Service(protocol, Span(low, draw(st.integers(low, 3)))),) if protocol and draw(st.booleans()) else None
    return Rule(
        "x",
        draw(st.sampled_from([Verdict.PERMIT, Verdict.DENY, Verdict.PERMIT, Verdict.DENY, Verdict.NOTE, Verdict.REJECT])),
        NOWHERE,
        protocol,
        terms(),
        terms(),
        services=services,
        opening=draw(st.integers(0, 3)) == 0,
        fragments=services is None and draw(st.integers(0, 5)) == 0,
        hours=draw(st.sampled_from([None, None, None, ("morning",), ("evening",)])),
        applications=draw(st.sampled_from([None, None, None, ("video",), ("streaming",), ("chat",)])),
        arriving=draw(st.sampled_from([None, None, ("a",), ("a", "b")])),
        disabled=draw(st.integers(0, 6)) == 0,
    )


def every_packet() -> list[Facts]:
    """All that small rules can tell apart, and something beyond each of their values."""
    out = []
    for protocol, source, destination, to_port, arriving, moment in itertools.product(
        (6, 17, 47), (0, 1, 2, 3, 9), (0, 1, 2, 3, 9), (0, 1, 2, 3, 9), ("a", "b", None), MOMENTS[::2]
    ):
        if protocol == 47 and to_port:
            continue  # it has no ports
        made = Packet(protocol, Address(4, source), Address(4, destination), 7 if protocol != 47 else 0, to_port)
        tries = [made._replace(flags="SYN"), made._replace(flags="ACK")] if protocol == 6 else [made]
        if to_port == 9 or protocol == 47:
            tries.append(later_fragment(made))
        out += [asked(p, arriving, Relation.OPENING if p.opening else Relation.NONE, moment, frozenset()) for p in tries]
        if protocol != 6:  # an answer looks like a question, and opens nothing
            out.append(asked(made, arriving, Relation.ANSWERING, moment, frozenset()))
    return out


EVERY = every_packet()


@examples(3, 75)
@given(st.lists(small_rules(), min_size=2, max_size=5))
def test_shadowed_and_redundant_are_what_trying_every_packet_says(rules: list[Rule]) -> None:
    source = AccessList("l", tuple(replace(r, id=str(n)) for n, r in enumerate(rules)), NOWHERE)
    table = list_table(source, Reader())
    met: set[str] = set()
    decided: set[str] = set()
    changed: set[str] = set()
    without = {r.id: Table(list_id("t"), [o for o in table.rows if o.id != r.id]) for r in table.rows}
    for facts in EVERY:
        met |= {r.id for r in table.rows if next(r.misses(facts), None) is None}
        found = table.first(facts)
        if found is not None:
            decided.add(found.id)
            if found.id not in changed and first_verdict(without[found.id], facts) != first_verdict(table, facts):
                changed.add(found.id)
    exact = examine(table.rows, vocabulary=WORDS)
    acting = {r.id for r in table.rows if not r.disabled and r.verdict is not Verdict.NOTE}
    assert {r.id for r in exact.never} == acting - met
    assert {s.row.id for s in exact.shadowed} == (acting & met) - decided
    seen = {r.id for r in table.rows if r.conditions and not r.log}
    each = (acting & decided & seen) - changed
    told = [r.id for r, _ in exact.redundant]
    assert set(told) <= each
    # Whoever follows any part of the advice changes nothing, and leaves no list empty.
    idle = [*exact.idle]
    going = {*told, *idle}
    for some in ({*told}, {*idle}, going, {*told[::2], *idle}, {*told[1::2]}, {*told, *idle[::2]}, {*told[::2], *idle[1::2]}):
        left = Table(list_id("t"), [r for r in table.rows if r.id not in some])
        assert left.rows or not some.intersection(told)
        assert all(first_verdict(left, facts) == first_verdict(table, facts) for facts in EVERY), some
    # What could go for itself and is not told is kept for the sake of another that goes, or so that the list is not empty.
    assert each <= going or going or len(table.rows) == 1


# --- by hand -----------------------------------------------------------------------------------------------------


def rule(id: str, verdict: Verdict = Verdict.DENY, **parts: object) -> Rule:
    return Rule(id, verdict, NOWHERE, **parts)  # type: ignore[arg-type]


def ports(low: int, high: int) -> tuple[Service, ...]:
    return (Service(6, Span(low, high)),)


def rows(*rules: Rule) -> tuple[Row, ...]:
    return list_table(AccessList("l", rules, NOWHERE), Reader()).rows


def test_a_rule_that_several_cover_together_is_shadowed_by_them() -> None:
    found = examine(
        rows(
            rule("10", protocol=6, services=ports(0, 1023)),
            rule("20", protocol=17),
            rule("30", protocol=6, services=ports(1024, 65535)),
            rule("40", Verdict.PERMIT, protocol=6, services=ports(1000, 1100)),
            rule("50", Verdict.PERMIT, protocol=6),
        )
    )
    (shadow,) = found.shadowed
    assert shadow.row.id == "40"
    assert [r.id for r in shadow.by] == ["10", "30"]
    assert [r.id for r in shadow.but_for] == ["10", "30"]
    # rule 50 is left with the later fragments, which have no port: so it is not shadowed


def test_later_fragments_are_not_covered_by_any_range_of_ports() -> None:
    held = rows(rule("10", protocol=6, services=ports(0, 65535)), rule("20", Verdict.PERMIT, protocol=6))
    assert not examine(held).shadowed
    space = Space(held)
    witness = space.witness(effective(space, held)[1])
    assert witness is not None
    assert witness.packet.fragment


def test_one_window_within_another_is_known_to_be_so() -> None:
    held = rows(rule("10", hours=("evening",)), rule("20", Verdict.PERMIT, hours=("morning",)))
    assert [s.row.id for s in examine(held, vocabulary=WORDS).shadowed] == ["20"]
    turned = rows(rule("10", hours=("morning",)), rule("20", Verdict.PERMIT, hours=("evening",)))
    assert not examine(turned, vocabulary=WORDS).shadowed


def test_windows_of_two_time_zones_are_not_taken_for_one() -> None:
    far = replace(MORNING, zone="Pacific/Auckland")
    words = Vocabulary({"morning": far, "evening": DAY})
    held = rows(rule("10", hours=("evening",)), rule("20", Verdict.PERMIT, hours=("morning",)))
    assert not examine(held, vocabulary=words).shadowed


def test_a_category_covers_its_applications() -> None:
    held = rows(rule("10", applications=("streaming",)), rule("20", Verdict.PERMIT, applications=("video",)))
    assert [s.row.id for s in examine(held, vocabulary=WORDS).shadowed] == ["20"]


def test_a_deny_of_everything_at_the_end_is_not_called_superfluous() -> None:
    """It is written to be seen and counted."""
    assert not examine(rows(rule("10", Verdict.PERMIT, protocol=6), rule("20"))).redundant
    logs = examine(rows(rule("10", protocol=6, log="notice"), rule("20", protocol=17), rule("30"))).redundant
    assert [r.id for r, _ in logs] == ["20"]


def test_rejects_with_another_answer_are_not_the_same_fate() -> None:
    held = rows(rule("10", Verdict.REJECT, protocol=6, answer="reset"), rule("20", Verdict.REJECT))
    assert not examine(held).redundant


def test_awkward_masks_are_told_apart_exactly() -> None:
    def mask(text: str) -> tuple[Term, ...]:
        found = parse_block(text)
        assert found.masked
        return (Term(found.text, found.spans, masked=found.masked),)

    wide, narrow = mask("10.0.0.0/0.170.85.5"), mask("10.0.0.0/0.170.85.4")
    assert [s.row.id for s in examine(rows(rule("10", sources=wide), rule("20", Verdict.PERMIT, sources=narrow))).shadowed] == [
        "20"
    ]
    assert not examine(rows(rule("10", sources=narrow), rule("20", Verdict.PERMIT, sources=wide))).shadowed


def test_too_large_is_an_error_and_nothing_is_claimed(monkeypatch: pytest.MonkeyPatch) -> None:
    """Wildcard masks that have nothing to do with each other: a union of thousands of them is refused, in bounded room."""
    chance, rules = random.Random(3), []
    for number in range(300):
        free = chance.getrandbits(32) & 0x00FFFFFF | chance.getrandbits(24) & 0x00FFFF0F
        found = parse_block(f"{Address(4, (10 << 24 | chance.getrandbits(24)) & ~free)}/{Address(4, free)}")
        verdict = chance.choice([Verdict.PERMIT, Verdict.DENY])
        rules.append(rule(str(number), verdict, sources=(Term(found.text, found.spans, masked=found.masked),)))
    monkeypatch.setattr(space_module, "_ROOMS", (1, 4))
    with pytest.raises(TooLarge, match="memory"):
        examine(rows(*rules))


def test_a_mask_on_either_side_is_named_as_what_makes_sets_large() -> None:
    found = parse_block("10.40.0.1/0.0.170.170")
    masked = (Term(found.text, found.spans, masked=found.masked),)
    for awkward in (rule("20", sources=masked), rule("20", destinations=masked)):
        assert "as in rule 20" in _makes_large(AccessList("l", (rule("10", protocol=6), awkward), NOWHERE))


def test_what_decides_nothing_shadows_nothing_plainly() -> None:
    """Neither a rule that is switched off, nor one that only takes note."""
    below, permit = rule("30", protocol=6), Verdict.PERMIT
    for above in (rule("10", permit, protocol=6, disabled=True), rule("10", Verdict.NOTE, protocol=6)):
        assert not plainly_shadowed(rows(above, below))
        assert not plainly_shadowed(rows(rule("5", protocol=17), below, above))
    assert [s.row.id for s in plainly_shadowed(rows(rule("10", permit, protocol=6), below))] == ["30"]


def test_room_grows_where_hosts_lie_scattered_on_both_sides() -> None:
    """A hundred hosts on either side of every rule: far more nodes than so few rules usually need, and still exact."""
    chance = random.Random(5)

    def scattered() -> tuple[Term, ...]:
        return tuple(Term(str(a), (Span(a, a),)) for a in (chance.getrandbits(32) for _ in range(100)))

    rules = [
        rule(str(n), Verdict.PERMIT if n % 2 else Verdict.DENY, sources=scattered(), destinations=scattered()) for n in range(40)
    ]
    twin = replace(rules[7], id="twin")
    assert [s.row.id for s in examine(rows(*rules, twin)).shadowed] == ["twin"]


def test_a_universe_says_which_packet_is_in_a_set() -> None:
    universe = Universe([[Bits("a", 4), Bits("b", 4)], [Bits("c", 1)]])
    for first, last in itertools.combinations_with_replacement(range(16), 2):
        held = universe.between("a", first, last)
        for value in range(16):
            assert (held & universe.between("a", value, value)).satisfiable() == (first <= value <= last)
    assert universe.one_of(universe.between("b", 5, 5) & universe.flag("c")) == {"a": 0, "b": 5, "c": 1}
    assert universe.one_of(universe.nothing) is None


# --- findings of a file -------------------------------------------------------------------------------------------

FILE = """\
mossy-network: 1
hours: {shift: {days: [mon], from: "08:00", until: "17:00"}}
lists:
  in: [RULES]
devices:
  r: {kind: router, interfaces: {a: {address: 10.40.1.1/24, ospf: 0, filter: {arriving: in}}, b: {address: 10.40.2.1/24, ospf: 0}}, serves: [ssh]}
  q: {kind: router, interfaces: {a: {address: 10.40.1.2/24, ospf: 0}, c: {address: 10.40.3.1/24, ospf: 0}}}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  press: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https]}
  leaf: {kind: host, address: 10.40.3.10/24, gateway: 10.40.3.1}
segments: {a: [r/a, q/a, desk], b: [r/b, press], c: [q/c, leaf]}
"""


def found_in(rules: str) -> dict[str, str]:
    reading = mc.read_bytes(FILE.replace("RULES", rules).encode(), "n.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    more = mc.findings(mc.Plan(reading.network), reading.problems)
    return {p.code: f"{p.message} {p.remedy}" for p in (*reading.problems, *more)}


@pytest.mark.parametrize(
    "rules, code, says",
    [
        (
            "{deny: tcp}, {permit: tcp, from: desk}",
            "rule.shadowed",
            "rule 10 above it takes all of it, for example tcp 10.40.1.10:49152 > 10.40.2.10:443 SYN",
        ),
        ("{deny: tcp}, {permit: tcp, from: desk}", "rule.shadowed", "it would be reached if rule 10 were disabled"),
        (
            "{deny: tcp, to: press, service: https}, {permit: udp}",
            "rule.redundant",
            "rule 10 of 'in' could go without any packet's fate changing",
        ),
        ("{deny: tcp, to: press}, {permit: any, from: desk}", "rule.partly-covered", "shares packets with rule 10 above it (deny)"),
        ("{permit: tcp, from: 10.47.9.0/24}", "rule.source-nowhere", "lives in no subnet of this network"),
        ("{permit: tcp, from: press}", "list.wrong-side", "the sources of its rules live behind b"),
        ("{permit: tcp}", "list.cuts-routing", "lets no OSPF in"),
        ("{permit: tcp, to: press}", "list.cuts-management", "lets nobody ask the device itself for ssh"),
        ("{permit: tcp}", "list.cuts-errors", "finding the path's MTU and tracing hops will fail"),
        ("{permit: tcp, from-port: 443}", "rule.wide-answers", "not answers alone, new connections too"),
        ("{deny: tcp, service: https}, {permit: any}", "rule.any-local", "so it also denies what goes to local networks"),
        ("{permit: udp, service: domain, state: [none]}", "rule.never", "no packet meets all its conditions"),
    ],
)
def test_findings_about_rules(rules: str, code: str, says: str) -> None:
    found = found_in(rules)
    assert code in found, found
    assert says in found[code]


@pytest.mark.parametrize(
    "rules", ["{permit: tcp, from: desk, to: press}, {permit: icmp}, {permit: ip-89}, {permit: tcp, to: self}", "{permit: any}"]
)
def test_what_is_in_order_is_left_alone(rules: str) -> None:
    assert {c for c in found_in(rules) if c.startswith(("rule.", "list."))} == set()


def relations_of(permit: str, words: str) -> list[str]:
    """What ``mossy check`` says can never match, of a list with one rule and a permit for the rest."""
    text = (
        "mossy-network: 1\n"
        "devices:\n  gate: {kind: firewall, stateful: [tcp, udp, icmp], interfaces: {a: {address: 10.41.1.1/24, "
        "filter: {arriving: few}}}}\n"
        f"lists: {{few: [{{id: 10, {permit}, {words}}}, {{id: 20, permit: any}}]}}\n"
    )
    found = mc.read_bytes(text.encode(), "few.yaml")
    assert found.network is not None, found.problems
    return [p.code for p in mc.findings(mc.Plan(found.network)) if p.code == "rule.never"]


@pytest.mark.parametrize(
    ("permit", "words", "never"),
    [
        ("permit: tcp", "fragments: yes, state: [answering]", True),
        ("permit: tcp", "fragments: yes, state: [none]", False),
        ("permit: icmp", "icmp: unreachable, state: [continuing]", True),
        ("permit: icmp", "icmp: time-exceeded, state: [answering, new]", True),
        ("permit: icmp", "icmp: unreachable, state: [related]", False),
        ("permit: icmp", "icmp: echo-reply, state: [answering]", False),
    ],
)
def test_session_facts_are_those_that_a_device_can_give(permit: str, words: str, never: bool) -> None:
    assert bool(relations_of(permit, words)) is never


def test_a_bare_syn_never_belongs_to_nothing() -> None:
    """What belongs to nothing is not drawn as what opens something: the device would take it for that."""
    space = room()
    belongs_to_nothing = Condition("relation", (("relation", frozenset((Relation.NONE,))),))
    shows_syn = Condition("shows", (("shows", frozenset(("SYN",))),))
    assert space.of_condition(shows_syn).satisfiable()
    assert not (space.of_condition(belongs_to_nothing) & space.of_condition(shows_syn) & space.possible).satisfiable()
    continuing = Condition("relation", (("relation", frozenset((Relation.CONTINUING,))),))
    assert (space.of_condition(continuing) & space.of_condition(shows_syn) & space.possible).satisfiable()


def test_no_rule_could_go_for_the_sake_of_one_that_is_to_go() -> None:
    """10 says what 30 says; but while 20, which it shadows, is still there, its packets would be denied without it."""
    upper = rule("10", Verdict.PERMIT, protocol=6, services=ports(443, 443))
    last = rule("30", Verdict.PERMIT, protocol=6)
    found = examine(rows(upper, rule("20", protocol=6, services=ports(443, 443)), last), (Around(Verdict.DENY),))
    assert [s.row.id for s in found.shadowed] == ["20"]
    assert not found.redundant
    alike = examine(rows(upper, rule("20", Verdict.PERMIT, protocol=6, services=ports(443, 443)), last), (Around(Verdict.DENY),))
    assert [r.id for r, _ in alike.redundant] == ["10"]


def test_a_list_is_not_advised_to_be_empty() -> None:
    """Its only rule denies what its end denies; without it the list is empty, and an empty list stops nothing."""
    deny = rule("10", protocol=6)
    assert not examine(rows(deny), (Around(Verdict.DENY),)).redundant
    beside = Around(Verdict.DENY, (rows(rule("1", protocol=17)),))
    assert [r.id for r, _ in examine(rows(deny), (beside,)).redundant] == ["10"]
    kept = (deny, rule("20", protocol=17, disabled=True))
    assert [r.id for r, _ in examine(rows(*kept), (Around(Verdict.DENY),)).redundant] == ["10"]
