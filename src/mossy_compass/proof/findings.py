"""Findings about rules that need their exact sets, or the computed network around them.

``mossy check`` asks for these; reading a network for a question does not, since they cost more than the question.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from mossy_compass.errors import NotConverged, TooLarge
from mossy_compass.headers.spans import complement, intersect, merge
from mossy_compass.marks import Mark, Problem, Problems, Severity
from mossy_compass.model.check import standing_lists
from mossy_compass.model.network import AccessList, Becomes, Candidate, Interface, PolicyRoute, Rule, Translate, Verdict
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import EVERYTHING, Address, Prefix, Span, Spans, in_spans
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, UDP, Service, icmp_span
from mossy_compass.plan.actions import Half, Listed
from mossy_compass.plan.conditions import Reader, in_set
from mossy_compass.plan.decide import consults
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.fields import FIELDS, service_span
from mossy_compass.plan.ids import POLICY_ROUTES, TableId
from mossy_compass.plan.places import followed, sides
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.rows import Row
from mossy_compass.plan.sides import port_towards, written, wrong_side
from mossy_compass.plan.table import Table, list_table
from mossy_compass.proof.exact import DENIED, Around, Exact, Overlap, Shadow, examine, plainly_shadowed, shadows, spared
from mossy_compass.proof.forwarded import forwarded, small_pools
from mossy_compass.proof.hidden import ECHO_REPLY, hidden, not_inspected
from mossy_compass.proof.likely import Comes, Ends, Sides, Witness, anywhere
from mossy_compass.proof.sight import OneWay, one_way
from mossy_compass.proof.space import Vocabulary
from mossy_compass.routing.compute import Routing
from mossy_compass.routing.findings import findings as routing_findings

WARN, NOTE = Severity.WARNING, Severity.NOTE
MOST_ROWS = 10_000
"""Longer lists are not looked through exactly by ``check``: it would take longer than somebody waits."""
OSPF = 89


class Standing(NamedTuple):
    """A list where it stands.

    Attributes:
        here: the device.
        where, way: as ``standing_lists`` tells them.
        source: the list as written.
        table: as the device reads it.

    """

    here: DevicePlan
    where: str
    way: str
    source: AccessList
    table: Table

    @property
    def port(self) -> str:
        """The interface, for a list that stands at one; else nothing."""
        return self.where if self.way in ("arriving", "leaving") else ""

    @property
    def end_denies(self) -> bool:
        """Whether what no rule of it decides is stopped there: no list follows it, and its end does not permit."""
        after = followed(self.here, self.table)
        return bool(self.table.rows) and bool(after) and all(not a.below and a.end is not Verdict.PERMIT for a in after)


def findings(
    of: Plan | Routing, before: Iterable[Problem] = (), lines: Mapping[str, list[str]] | None = None, comes: Comes | None = None
) -> tuple[Problem, ...]:
    """Every finding about a network that only its computed state, or the exact sets of its rules, show.

    Args:
        of: the network, compiled or computed.
        before: what is known already, and is not said again.
        lines: the lines of the files that marks point into.
        comes: walks an example, before it is shown; None where nobody walks.

    """
    routing = of.routing if isinstance(of, Plan) else of
    plan = of if isinstance(of, Plan) else Plan(of.network)
    known = tuple(before)
    found = [*routing_findings(routing, known, lines), *rule_findings(plan, lines, comes)]
    return tuple(sorted(found, key=lambda p: (p.mark, p.code, p.message)))


def rule_findings(plan: Plan, lines: Mapping[str, list[str]] | None = None, comes: Comes | None = None) -> tuple[Problem, ...]:
    """Every finding about the rules of lists.

    Args:
        plan: the network.
        lines: the lines of the files that marks point into.
        comes: walks an example, before it is shown; None where nobody walks.

    """
    problems = Problems(dict(lines or {}))
    standings = [s for d in plan.network.devices.values() if d.layer3 for s in _standings(plan, d.name)]
    _exact(plan, standings, problems, comes)
    _one_way(plan, problems)
    nowhere = _Places(plan)
    for device in plan.network.devices.values():
        if device.layer3:
            _steering(plan, plan.device(device.name), nowhere, problems, comes)
            _hidden(plan, plan.device(device.name), [s for s in standings if s.here.name == device.name], problems)
    for standing in standings:
        _sources(plan, standing, nowhere, problems)
        _side(standing, problems)
        _answers(standing, problems)
        _purposes(standing, problems)
        if standing.end_denies and standing.port:
            _cut(standing, problems)
    return tuple(problems.in_order())


def _standings(plan: Plan, device: str) -> Iterator[Standing]:
    """Every list of a device, where it stands."""
    here = plan.device(device)
    for names, where, way in standing_lists(here.device):
        for name in names:
            if name in plan.network.lists:
                yield Standing(here, where, way, plan.network.lists[name], here.read_list(name))


# --- exact sets --------------------------------------------------------------------------------------------------


def _exact(plan: Plan, standings: Sequence[Standing], problems: Problems, comes: Comes | None) -> None:
    """What exact sets say of every list; where devices read one differently, only what holds at all of them."""
    told: list[tuple[AccessList, list[Standing], Exact]] = []
    for source in plan.network.lists.values():
        mine = [*(s for s in standings if s.source is source), *_choosing(plan, source)]
        told.append((source, mine, _looked_through(plan, source, mine, problems, comes)))
    # Whoever follows some of the advice, or all, must lose nothing: no rule could go for the sake of one that is to go.
    going = {(source.name, ident) for source, _, found in told for ident in found.idle}
    for source, mine, found in told:
        could_go = found.redundant
        if _in_company(mine):
            could_go = tuple(r for r in _spared(plan, source, mine, going, comes) if r[0].id not in found.idle)
        going |= {(source.name, row.id) for row, _ in could_go}
        _never(source, found.never, problems)
        _shadowed(source, found.shadowed, problems)
        _redundant(source, could_go, problems)
        _overlapping(source, found.overlaps, problems)
        _any_local(source, mine, {r.id for r in found.never} | {s.row.id for s in found.shadowed}, problems)


def _choosing(plan: Plan, source: AccessList) -> Iterator[Standing]:
    """A list where it says which packets a policy route is about: there it is asked alone, and its end passes the entry over."""
    for device in plan.network.devices.values():
        if any(e.classifier == source.name and not e.disabled for e in device.policy_routes):
            here = plan.device(device.name)
            yield Standing(here, "", CHOOSES, source, here.read_list(source.name))


CHOOSES = "policy route"
"""The way of a standing that filters nothing."""


def _in_company(standings: Sequence[Standing]) -> bool:
    """Whether another list is asked before or after a list, wherever it stands."""
    return any(a.below or a.above for s in standings for a in followed(s.here, s.table))


def _spared(
    plan: Plan, source: AccessList, standings: Sequence[Standing], going: Collection[tuple[str, str]], comes: Comes | None
) -> tuple[tuple[Row, Witness | None], ...]:
    """The rules of a list among others that could go, though other rules are to go already."""
    vocabulary, hosts = Vocabulary(plan.network.hours, plan.network.applications), _hosts(plan, standings, comes)
    tables = {s.table.rows: s.table for s in standings}
    try:
        found = [spared(t.rows, _around(standings, going), vocabulary, hosts) for t in tables.values()]
    except TooLarge:
        return ()  # that the list is too large is told already
    agreed = set.intersection(*({row.id for row, _ in some} for some in found))
    return tuple(pair for pair in found[0] if pair[0].id in agreed)


def _around(standings: Sequence[Standing], going: Collection[tuple[str, str]] = ()) -> tuple[Around, ...]:
    """What is asked around a list wherever it stands, with rules that are to go apart; the same only once."""

    def rows(table: Listed) -> tuple[Row, ...]:
        """The rows that stay."""
        return tuple(r for r in table.rows if (table.name, r.id) not in going)

    def to_go(tables: Iterable[Listed]) -> tuple[Row, ...]:
        """The others."""
        return tuple(r for t in tables for r in t.rows if (t.name, r.id) in going and not r.disabled)

    found = (
        Around(a.end, tuple(map(rows, a.below)), tuple((t.name, rows(t)) for t in a.above), to_go(a.below))
        for s in standings
        if s.way != CHOOSES
        for a in followed(s.here, s.table)
    )
    alone = (DENIED,) if any(s.way == CHOOSES for s in standings) else ()
    return tuple(dict.fromkeys((*found, *alone))) or (DENIED,)


def _hosts(plan: Plan, standings: Sequence[Standing], comes: Comes | None) -> Ends:
    """Whom examples are best about, for a list where it stands first."""
    first = next(iter(standings), None)
    if first is None:
        return anywhere(plan.network)
    hosts = Sides(plan.network, first.here).ends(*sides(first.here, first.where, first.way))
    return hosts._replace(comes=comes, tables=frozenset((s.here.name, s.table.id) for s in standings))


def _looked_through(
    plan: Plan, source: AccessList, standings: Sequence[Standing], problems: Problems, comes: Comes | None
) -> Exact:
    """What exact sets say of one list; where they are too large, that is told, and what shows without them."""
    if len(source.rules) > MOST_ROWS:
        words = f"list '{source.name}' has {len(source.rules)} rules: more than {MOST_ROWS} are not compared exactly."
        problems.add("list.long", source.mark, words, "Split it by zone or service, as people would read it.", NOTE)
        return _without_sets(source, standings)
    try:
        found = _examined(plan, source, standings, comes)
    except TooLarge as fault:
        words = f"list '{source.name}': {fault} Rules that could go or share packets were not looked for, nor those that several rules shadow together."
        problems.add("list.too-large", source.mark, words, _makes_large(source), NOTE)
        return _without_sets(source, standings)
    first, agreed = found[0], _in_all(found)
    return Exact(
        tuple(r for r in first.never if ("never", r.id) in agreed),
        tuple(s for s in first.shadowed if ("shadowed", s.row.id) in agreed),
        tuple(p for p in first.redundant if ("redundant", p[0].id) in agreed),
        tuple(o for o in first.overlaps if ("overlap", o.row.id) in agreed),
    )


def _without_sets(source: AccessList, standings: Sequence[Standing]) -> Exact:
    """What shows of a list rule by rule, at all devices that read it."""
    tables = {s.table.rows for s in standings} or {list_table(source, Reader(names=None)).rows}
    found = [plainly_shadowed(rows) for rows in tables]
    everywhere = set.intersection(*({s.row.id for s in some} for some in found))
    return Exact((), tuple(s for s in found[0] if s.row.id in everywhere), (), ())


def _makes_large(source: AccessList) -> str:
    """What would make the sets of a list smaller: the rule whose addresses fall apart most, on both sides."""

    def runs(terms: tuple[Term, ...] | None) -> int:
        """How many runs of addresses a condition has; a mask with holes counts as many as it falls apart into."""
        return sum(len(t.spans or ()) + sum(1 << m.free.bit_count() for m in t.masked) for t in terms or ())

    rule = max(source.rules, key=lambda r: (runs(r.sources) + 1) * (runs(r.destinations) + 1))
    masked = [r.id for r in source.rules if any(t.masked for t in (*(r.sources or ()), *(r.destinations or ())))]
    if masked:
        return f"Write prefixes instead of the masks with holes, as in rule {masked[0]}."
    if runs(rule.sources) > 1 or runs(rule.destinations) > 1:
        both = f"{runs(rule.sources)} runs of addresses from and {runs(rule.destinations)} to"
        return f"Write prefixes instead of single addresses: rule {rule.id} alone has {both}."
    return "Split it by zone or service, as people would read it."


def _examined(plan: Plan, source: AccessList, standings: Sequence[Standing], comes: Comes | None) -> list[Exact]:
    """What exact sets say of a list, for each way in which devices read it.

    Raises:
        TooLarge: its sets need more memory than they are given.

    """
    tables = {t.rows: t for t in (s.table for s in standings)} or {(): list_table(source, Reader(names=None))}
    vocabulary, hosts = Vocabulary(plan.network.hours, plan.network.applications), _hosts(plan, standings, comes)
    return [examine(table.rows, _around(standings), vocabulary, hosts) for table in tables.values()]


def _in_all(found: Sequence[Exact]) -> set[tuple[str, str]]:
    """What every reading of a list agrees on: the kind of finding, and the rule."""
    kinds = [
        {
            *(("never", r.id) for r in e.never),
            *(("shadowed", s.row.id) for s in e.shadowed),
            *(("redundant", r.id) for r, _ in e.redundant),
            *(("overlap", o.row.id) for o in e.overlaps),
        }
        for e in found
    ]
    return set.intersection(*kinds)


def _never(source: AccessList, rows: Iterable[Row], problems: Problems) -> None:
    """Rules that no packet meets."""
    for row in rows:
        words = f"rule {row.id} of '{source.name}' can never match: no packet meets all its conditions."
        problems.add("rule.never", row.mark, words, "See which two exclude one another.", WARN)


def _named(rows: Sequence[Row]) -> str:
    """``rule 10 takes``, ``rules 10 and 20 take``, with the number of the rest."""
    names = [r.id for r in rows[:4]]
    more = len(rows) - len(names)
    listed = " and ".join([", ".join(names[:-1]), names[-1]] if len(names) > 1 and not more else [", ".join(names)])
    return f"rule{'s' * (len(rows) != 1)} {listed}{f' and {more} more' if more else ''} above it take{'s' * (len(rows) == 1)}"


def _named_before(before: Sequence[tuple[str, Row]]) -> str:
    """``rules 10 and 20 of 'first', asked before this list, take``; nothing where no list before takes anything."""
    by_list: dict[str, list[Row]] = {}
    for name, row in before:
        by_list.setdefault(name, []).append(row)
    parts = [_named(rows).replace(" above it ", f" of '{name}', asked before it, ") for name, rows in by_list.items()]
    return " and ".join(part.rsplit(" ", 1)[0] if n < len(parts) - 1 else part for n, part in enumerate(parts))


def _shadowed(source: AccessList, shadows: Iterable[Shadow], problems: Problems) -> None:
    """Rules that never decide, with what stands in their way."""
    for shadow in shadows:
        by = _named_before(shadow.before) or (_named(shadow.by) if shadow.by else "the rules above it take")
        words = f"rule {shadow.row.id} of '{source.name}' can never match: {by} all of it"
        if shadow.witness is not None:
            words += f", for example {example(shadow.witness)}"
        remedy = "Move it up, or remove it."
        if shadow.but_for:
            names = " or ".join(r.id for r in shadow.but_for)
            remedy = f"Move it up, or remove it; it would be reached if rule {names} were disabled."
        also = tuple((r.mark, f"rule {r.id}") for r in shadow.by[:3])
        if shadow.before:
            name, row = shadow.before[0]
            remedy = f"Move it into '{name}', above rule {row.id}, or remove it."
            also = tuple((r.mark, f"rule {r.id} of '{n}'") for n, r in shadow.before[:3])
        problems.add("rule.shadowed", shadow.row.mark, f"{words}.", remedy, WARN, also)


def _redundant(source: AccessList, rows: Iterable[tuple[Row, Witness | None]], problems: Problems) -> None:
    """Rules that could go without any packet's fate changing."""
    for row, witness in rows:
        such = f", such as {example(witness)}," if witness is not None else ""
        words = (
            f"rule {row.id} of '{source.name}' could go without any packet's fate changing: "
            f"what it decides{such} meets the same verdict below."
        )
        problems.add("rule.redundant", row.mark, words, "Remove it, or let it log if it is there to be seen.", NOTE)


def _overlapping(source: AccessList, overlaps: Iterable[Overlap], problems: Problems) -> None:
    """Rules of which rules above with the opposite verdict take a part."""
    for overlap in overlaps:
        first, witness = overlap.above[0], overlap.witnesses[0]
        others = len(overlap.above) - 1 + overlap.more
        words = (
            f"rule {overlap.row.id} of '{source.name}' ({overlap.row.verdict}) shares packets with rule {first.id} above it "
            f"({first.verdict}), which decides them, for example {example(witness)}"
        )
        words += f"; so with {others} more above." if others else "."
        rest = zip(overlap.above[1:], overlap.witnesses[1:], strict=True)
        also = ((first.mark, f"rule {first.id}"), *((r.mark, f"rule {r.id}, for example {example(w)}") for r, w in rest))
        problems.add(
            "rule.partly-covered", overlap.row.mark, words, "Exchange the two if it is meant the other way round.", NOTE, also
        )


def example(witness: Witness) -> str:
    """A packet in words, with the facts that matter beside it; and whether nobody here sends it."""
    facts = witness.facts
    words = str(facts.packet)
    parts = [f"arriving by {facts.arriving}"] if facts.arriving and not facts.arriving.startswith("(") else []
    usual = Facts(Packet(facts.packet.protocol, facts.packet.source, facts.packet.destination), None)
    numbers = [f for f in FIELDS.values() if f.bits and f.write is not None and not f.absent]
    parts += [f"{f.name} {f.read(facts)}" for f in numbers if f.read(facts) != f.read(usual)]
    parts += [f"while {', '.join(sorted(facts.moment.open))} is open"] if facts.moment.open else []
    parts += [f"as {', '.join(sorted(facts.application))}"] if facts.application else []
    parts += ["no host found that sends one there"] if witness.sent is False else []
    return f"{words} ({', '.join(parts)})" if parts else words


def _any_local(source: AccessList, standings: Sequence[Standing], idle: Collection[str], problems: Problems) -> None:
    """Denies that say no destination: who means the world cuts off the local networks too (and the other way round).

    Rules that never decide cut nothing off.
    """
    if not any(s.port and not s.here.is_outside(s.port) and s.way == "arriving" for s in standings):
        return
    for rule in source.rules[:-1]:
        if rule.disabled or rule.id in idle or not _limited(rule) or not _everywhere(rule.destinations):
            continue
        if rule.verdict in (Verdict.DENY, Verdict.REJECT) and not rule.names:
            words = f"rule {rule.id} of '{source.name}' says no destination, so it also {_verb(rule)} what goes to local networks."
            problems.add("rule.any-local", rule.mark, words, "Say to: outside, if the world alone is meant.", NOTE)
        elif rule.verdict is Verdict.PERMIT and _denied_later(source, rule):
            words = f"rule {rule.id} of '{source.name}' says no destination, so it also lets through to local networks what a rule below denies."
            problems.add("rule.any-local", rule.mark, words, "Say to: outside, or move the deny up.", NOTE)


def _limited(rule: Rule) -> bool:
    """Whether a rule is about some packets, and not about all that arrive."""
    return rule.protocol is not None or bool(rule.sources or rule.services or rule.applications)


def _verb(rule: Rule) -> str:
    """What a rule does, as a verb."""
    return "rejects" if rule.verdict is Verdict.REJECT else "denies"


def _everywhere(terms: tuple[Term, ...] | None) -> bool:
    """Whether a condition on destinations leaves them all in."""
    return terms is None or any(t.words == "any" for t in terms)


def _denied_later(source: AccessList, rule: Rule) -> bool:
    """Whether a rule below denies what goes to local networks, by that name."""
    below = source.rules[source.rules.index(rule) + 1 :]
    denies = (r for r in below if r.verdict in (Verdict.DENY, Verdict.REJECT) and not r.disabled)
    return any(t.words == "local-networks" for r in denies for t in r.destinations or ())


# --- sources -----------------------------------------------------------------------------------------------------


class _Places:
    """Where addresses live: the subnets of the network, and what written routes lead to.

    Attributes:
        subnets: of interfaces.
        held: all of them, with leases and far hosts.

    """

    def __init__(self, plan: Plan) -> None:
        devices = plan.network.devices.values()
        self.subnets = [(a.prefix, d.name) for d in devices for i in d.interfaces.values() for a in i.addresses]
        far = [Span(a.key, a.key) for d in devices for f in d.far_hosts.values() for a in f.addresses]
        pools = [Span(p.first.key, p.last.key) for d in devices for p in d.leases]
        self.held = merge([*(p.span for p, _ in self.subnets), *far, *pools])

    def nearest(self, spans: Spans) -> Prefix | None:
        """The subnet whose address comes closest to a set's first one."""
        if not spans or not self.subnets:
            return None
        wanted = spans[0].first
        return min((p for p, _ in self.subnets), key=lambda p: abs(p.span.first - wanted))


def _local(plan: Plan, spans: Spans) -> bool:
    """Whether all of some addresses are of one's own networks."""
    return all(in_spans(end, plan.network.local) for span in spans for end in span)


def _sources(plan: Plan, standing: Standing, places: _Places, problems: Problems) -> None:
    """Sources that live nowhere."""
    for rule in standing.source.rules:
        spans = written(rule.sources)
        if rule.disabled or spans is None:
            continue
        if _local(plan, spans) and not intersect(spans, merge((*places.held, *_routed(standing)))):
            _nowhere(standing, rule, places.nearest(spans), problems)


def _side(standing: Standing, problems: Problems) -> None:
    """A list that stands where what its rules are about does not pass."""
    found = wrong_side(standing.here, standing.source, standing.where, standing.way)
    if found is None:
        return
    here, where = standing.here, standing.where
    place = f"list '{standing.source.name}' is attached to what {_PASSES[standing.way]} by {here.name}/{where}"
    other = _PASSES["leaving" if standing.way == "arriving" else "arriving"]
    if found.whose == "sources":
        tail = f"what they send {other} there, and is never compared."
    elif standing.way == "arriving":
        tail = f"what goes there {other} there, and is never compared."
    else:
        tail = "what goes there is never compared."
    words = f"{place}, and the {found.whose} of its rules live behind {found.behind}: {tail}"
    remedy = f"Attach it to {', or to '.join(f'what {_PASSES[way]} by {port}' for way, port in found.instead)}."
    problems.add("list.wrong-side", found.mark, words, remedy, WARN)


_PASSES = {"arriving": "arrives", "leaving": "leaves"}


# --- translation and policy routes -------------------------------------------------------------------------------


def _steering(plan: Plan, here: DevicePlan, places: _Places, problems: Problems, comes: Comes | None) -> None:
    """Sources of translation rules and policy routes that live nowhere, and hosts that are steered out untranslated."""
    own = [r.prefix.span for r in here.device.routes if not r.prefix.is_default]
    # What is sent to the outer address of a fixed pair meets it, wherever its source lives.
    rows = [
        (f"translation rule {t.id}", t.sources, t.mark, "translate.source-nowhere")
        for t in here.device.translate
        if not t.disabled and t.becomes is not Becomes.PAIR
    ]
    rows += [
        (f"policy route {e.id}", e.rule.sources, e.mark, "policy.source-nowhere")
        for e in here.device.policy_routes
        if not e.disabled
    ]
    for name, terms, mark, code in rows:
        spans = written(terms)
        if spans is None or not _local(plan, spans) or intersect(spans, merge((*places.held, *own))):
            continue
        nearest = places.nearest(spans)
        words = f"{name} of {here.name}: its source {', '.join(t.words for t in terms or ())} lives in no subnet of this network, and no route of {here.name} leads there: it can never match."
        problems.add(code, mark, words, f"The nearest subnet is {nearest}." if nearest else "Check the address.", WARN)
    for entry in here.device.policy_routes:
        for candidate in entry.candidates if not entry.disabled else ():
            _untranslated(plan, here, entry, candidate, problems)
    _idle_steering(plan, here, problems, comes)
    _elsewhere(here, problems)


def _idle_steering(plan: Plan, here: DevicePlan, problems: Problems, comes: Comes | None) -> None:
    """Translation rules and policy routes that never decide, since others above them take every packet that they are about."""
    vocabulary, hosts = Vocabulary(plan.network.hours, plan.network.applications), anywhere(plan.network)
    found: dict[tuple[str, str], list[tuple[str, TableId, Shadow]]] = {}
    for name, code, rows, table in _steering_tables(here):
        if not 1 < len(rows) <= MOST_ROWS:
            continue
        try:
            asked = hosts._replace(comes=comes, tables=frozenset(((here.name, table),)))
            shadowed = shadows(rows, vocabulary, asked)
        except TooLarge:
            continue  # nothing is claimed of what could not be looked at
        for shadow in shadowed:
            found.setdefault((code, shadow.row.id), []).append((name.format(shadow.row.id), table, shadow))
    for (code, _), several in found.items():
        _never_applies(here, code, several, problems)


def _steering_tables(here: DevicePlan) -> Iterator[tuple[str, str, tuple[Row, ...], TableId]]:
    """Rows of which the first that matches decides how packets are translated or steered: what one is called, the finding, the table."""
    for half in Half:
        translations = here.translations[half]
        yield f"translation rule {{}} of {here.name}", "translate.shadowed", translations.rows, translations.id
    policies = here.tables().get(POLICY_ROUTES)
    if policies is None:
        return
    # An entry with a list takes what that permits alone: it may be shadowed, and is not counted among those that shadow.
    plain = [r for r in policies.rows if not consults(r)]
    name = f"policy route {{}} of {here.name}"
    yield name, "policy.shadowed", tuple(plain), policies.id
    for row in policies.rows:
        if consults(row):
            above = [r for r in plain if policies.number(r) < policies.number(row)]
            yield name, "policy.shadowed", (*above, row), policies.id


def _never_applies(here: DevicePlan, code: str, several: Sequence[tuple[str, TableId, Shadow]], problems: Problems) -> None:
    """Tell of a row that others above it leave nothing to, in each of the tables that it stands in or in one of them."""
    name, table, shadow = several[0]
    by = _named(shadow.by) if shadow.by else "the rules above it take"
    such = f", for example {example(shadow.witness)}" if shadow.witness is not None else ""
    also = tuple((r.mark, f"rule {r.id}") for r in shadow.by[:3])
    halves = [half for half in Half if any(r.id == shadow.row.id for r in here.translations[half].rows)]
    if code == "translate.shadowed" and len(halves) > len(several):
        # A fixed pair is met both ways: what is taken from it one way says nothing of the other.
        ways = ["what its sources send", "what is sent to its outer address"]
        never, only = ways if table == here.translations[Half.SOURCE].id else ways[::-1]
        words = f"{name} never applies to {never}, only to {only}: {by} all of the former{such}."
        problems.add("translate.one-way", shadow.row.mark, words, "Move it up.", WARN, also)
    else:
        words = f"{name} never applies: {by} all of it{such}."
        problems.add(code, shadow.row.mark, words, "Move it up, or remove it.", WARN, also)


def _elsewhere(here: DevicePlan, problems: Problems) -> None:
    """Translation rules and policy routes for an interface by which none of their sources arrives."""
    rows = [
        (f"translation rule {t.id}", t.sources, t.arriving, t.mark, "translate.never-arrives", t.disabled)
        for t in here.device.translate
        if t.becomes is not Becomes.PAIR
    ]
    rows += [
        (f"policy route {e.id}", e.rule.sources, e.rule.arriving, e.mark, "policy.never-arrives", e.disabled)
        for e in here.device.policy_routes
    ]
    for name, terms, arriving, mark, code, disabled in rows:
        spans = written(terms)
        if disabled or arriving is None or spans is None:
            continue
        ports = here.reader.interfaces(arriving)
        behind = port_towards(here, spans)
        if behind and behind not in ports:
            words = f"{name} of {here.name} is for what arrives by {', '.join(arriving)}, and its sources live behind {behind}: it never applies."
            problems.add(code, mark, words, f"Say arriving: {behind}, or leave it out.", WARN)


def _untranslated(plan: Plan, here: DevicePlan, entry: PolicyRoute, candidate: Candidate, problems: Problems) -> None:
    """Private sources that an entry sends out by an uplink for which no translation is written, though others have one."""
    port = candidate.leaving or _port_of(here, candidate.next_hop)
    rules = [t for t in here.device.translate if t.of_source and not t.disabled]
    if port not in here.device.interfaces or not rules:
        return
    held = [a.address for a in here.device.interfaces[port].addresses]
    if not held or any(in_spans(a.key, plan.network.local) for a in held):
        return  # it does not leave one's own networks there
    there = [t for t in rules if port in here.reader.interfaces(t.leaving)]
    if _some_left(plan, here, written(entry.rule.sources), there):
        who = ", ".join(t.words for t in entry.rule.sources or ()) or "whom it is about"
        words = f"policy route {entry.id} of {here.name} sends {who} out by {port}, and no translation rule hides all of them there: answers do not get back."
        remedy = f"Add {{source: ..., leaving: {port}}} to translate."
        problems.add("policy.untranslated", candidate.mark, words, remedy, WARN)


def _some_left(plan: Plan, here: DevicePlan, sources: Spans | None, rules: Sequence[Translate]) -> bool:
    """Whether rules leave some private sources as they are; of unknown ones whether there is no rule at all."""
    if sources is None:
        return not rules
    covered = merge(s for t in rules for s in _held(here, t.sources))
    return _local(plan, sources) and bool(intersect(sources, complement(covered)))


def _port_of(here: DevicePlan, hop: Address | None) -> str:
    """The interface on whose subnet a next hop is; empty for none."""
    subnets = ((port.name, held.prefix) for port in here.device.interfaces.values() for held in port.addresses)
    return next((name for name, prefix in subnets if hop is not None and prefix.holds(hop)), "")


def _held(here: DevicePlan, terms: tuple[Term, ...] | None) -> Spans:
    """The addresses that a condition on sources leaves in, as far as they are runs."""
    if not terms:
        return EVERYTHING
    return merge(s for t in terms for s in (here.own_spans if t.spans is None else t.spans))


def _routed(standing: Standing) -> Iterator[Span]:
    """What the device's own routes lead to, but for the default: networks that may be beyond what is drawn."""
    yield from (r.prefix.span for r in standing.here.device.routes if not r.prefix.is_default)


def _nowhere(standing: Standing, rule: Rule, nearest: Prefix | None, problems: Problems) -> None:
    """A source that is in no subnet of the network and that no route leads to."""
    words = (
        f"rule {rule.id} of '{standing.source.name}': its source {', '.join(t.words for t in rule.sources or ())} lives in no subnet of this "
        f"network, and no route of {standing.here.name} leads there: the rule can never match."
    )
    remedy = f"The nearest subnet is {nearest}." if nearest else "Check the address."
    problems.add("rule.source-nowhere", rule.mark, words, remedy, WARN)


def _one_way(plan: Plan, problems: Problems) -> None:
    """Devices that keep sessions and see one direction of a pair only."""
    for found in one_way(plan):
        here = plan.network.devices[found.device]
        asker, answerer, name = found.asker, found.answerer, found.device
        more = f" So with {found.more} more pair{'s' * (found.more != 1)} of subnets." if found.more else ""
        instead = f" and those of {asker} to {answerer} cross {found.other} instead" if found.other else ""
        if found.always:
            words = (
                f"{name} keeps sessions of tcp, and of {asker} and {answerer} it sees one direction alone: packets of {answerer} to {asker} "
                f"cross it{instead}. {_one_way_words(found)}{more}"
            )
        else:
            words = (
                f"{name} keeps sessions of tcp, and is on some of the equally good ways between {asker} and {answerer} and not on all: "
                f"it may see one direction of a connection alone, and lose it.{more}"
            )
        wants = [w for w, so in (("unknown-session: pass", found.lost), ("session-phase: loose", found.strict)) if so]
        remedy = f"Lead both directions through {name}, or set {' and '.join(wants)} there."
        problems.add("session.one-way", here.mark, words, remedy, WARN)


def _one_way_words(found: OneWay) -> str:
    """What a device loses that sees one direction of a pair alone."""
    name, asker, answerer = found.device, found.asker, found.answerer
    lost = f"Connections that {asker} opens to {answerer} are lost at {name}, which knows no session for the answers."
    strict = f"Of those that {answerer} opens to {asker} only the first packet passes {name}, since it sees no answer."
    return " ".join([lost] * found.lost + [strict] * found.strict)


def _hidden(plan: Plan, here: DevicePlan, standings: Sequence[Standing], problems: Problems) -> None:
    """What is to be said of a device's translation as a whole, and of answers that nothing lets back in."""
    for found in hidden(plan, here):
        problems.add(found.code, found.mark, found.words, found.remedy, WARN)
    for found in forwarded(plan, here):
        problems.add(found.code, found.mark, found.words, found.remedy, WARN)
    for found in small_pools(plan, here):
        problems.add(found.code, found.mark, found.words, found.remedy, NOTE)
    for port in sorted(here.outside):
        tables = [s.table for s in standings if s.port == port and s.way == "arriving"]
        lets = any(_lets(t, ECHO_REPLY) for t in tables) if tables else here.settings.inbound
        note = not_inspected(here, port, lets)
        if note is not None:
            problems.add(note.code, note.mark, note.words, note.remedy, NOTE)


# --- answers, and what a list cuts that its author needs -------------------------------------------------------------


def _answers(standing: Standing, problems: Problems) -> None:
    """Permits that are meant for answers, and let more in."""
    outside = standing.way == "arriving" and bool(standing.port) and standing.here.is_outside(standing.port)
    for rule in standing.source.rules:
        if not _wide(rule):
            continue
        if rule.from_ports and rule.protocol in (6, UDP):
            ports = ", ".join(str(a) if a == b else f"{a}-{b}" for a, b in rule.from_ports)
            words = f"rule {rule.id} of '{standing.source.name}' permits whatever comes from port {ports}: not answers alone, new connections too."
            problems.add("rule.wide-answers", rule.mark, words, "Say state: [answering], or keep sessions there: stateful.", NOTE)
        elif rule.protocol in (ICMP, ICMP6) and outside:
            words = f"rule {rule.id} of '{standing.source.name}' permits every kind of ICMP from outside: more than the answers to pings."
            remedy = "Say icmp: [echo-reply, unreachable, time-exceeded], or keep sessions of ICMP: stateful."
            problems.add("rule.wide-answers", rule.mark, words, remedy, NOTE)


_SAYS = {
    "reject": re.compile(r"\b(reject|refuse)", re.IGNORECASE),
    "deny": re.compile(r"\b(deny|denie|drop|block|forbid|no longer|shut out|stay out)", re.IGNORECASE),
    "permit": re.compile(r"\b(permit|allow|may)\b", re.IGNORECASE),
}


def _wide(rule: Rule) -> bool:
    """Whether a rule permits without a word of sessions or services."""
    silent = rule.states is None and not rule.opening and not rule.services
    return silent and not rule.disabled and rule.verdict is Verdict.PERMIT


def _purposes(standing: Standing, problems: Problems) -> None:
    """Rules whose purpose says another verdict than they do: a comment that says reject where the rule drops in silence."""
    for rule in standing.source.rules:
        said = [word for word, pattern in _SAYS.items() if pattern.search(rule.about)]
        if rule.disabled or not said or rule.verdict.value in said or rule.verdict in (Verdict.NOTE, Verdict.HAND_ON):
            continue
        if rule.verdict is Verdict.REJECT and said == ["deny"]:
            continue
        does = {Verdict.DENY: "drops in silence", Verdict.PERMIT: "permits", Verdict.REJECT: "rejects"}[rule.verdict]
        words = f"rule {rule.id} of '{standing.source.name}' {does}, and its purpose says {said[0]}: \"{rule.about}\"."
        problems.add("rule.purpose", rule.mark, words, "Mend the one that is wrong.", NOTE)


def _lets(table: Table, service: Service, own: Spans = ()) -> bool:
    """Whether some permit of a list is about some packets of a service, and to some of these addresses."""
    key = service_span(service).first

    def fits(row: Row) -> bool:
        """Whether a row is about the service, and about the addresses."""
        about = [c for c in row.conditions if "service" in c.fields]
        to = [c for c in row.conditions if "destination" in c.fields and own]
        asked = all(in_set(FIELDS["service"].kind, dict(c.parts)["service"], key) for c in about)
        return asked and all(intersect(dict(c.parts)["destination"], own) or len(c.parts) > 1 for c in to)

    return any(fits(row) for row in table.rows if row.verdict is Verdict.PERMIT and not row.disabled)


def _beyond(here: DevicePlan, port: str) -> bool:
    """Whether other routers are behind an interface: some route leads out of it to a next hop."""
    try:
        return here.is_outside(port) or any(h.interface == port and h.address is not None for r in here.table for h in r.hops)
    except NotConverged:
        return False


_ERRORS = {
    ICMP: (("unreachable", Service(ICMP, icmp_span((3, None)))), ("time-exceeded", Service(ICMP, icmp_span((11, None))))),
    ICMP6: (("too-big", Service(ICMP6, icmp_span((2, None)))), ("time-exceeded", Service(ICMP6, icmp_span((3, None))))),
}


def _cut(standing: Standing, problems: Problems) -> None:
    """What the end of a list stops and nobody means to stop: ICMP errors, routing protocols, the device's own services."""
    here, port = standing.here, standing.here.device.interfaces[standing.port]
    mark = port.arriving_mark if standing.way == "arriving" else port.leaving_mark
    _cut_errors(standing, mark, problems)
    if standing.way != "arriving":
        return
    name, place = standing.source.name, f"{here.name}/{port.name}"
    for word, service in _spoken(port):
        if not _lets(standing.table, service):
            words = (
                f"list '{name}' at {place} lets no {word} in, which the device speaks there: a real one would lose its neighbours."
            )
            problems.add("list.cuts-routing", mark, words, f"Permit {service} above its end.", WARN)
    own = merge(Span(a.address.key, a.address.key) for a in port.addresses)
    offered = {o.word for o in here.device.gates.offers if o.interface == port.name}
    elsewhere = {o.word for o in here.device.gates.offers} - offered
    for served in here.serves(None):
        if own and served.words not in elsewhere and not _lets(standing.table, served.service, own):
            words = f"list '{name}' at {place} lets nobody ask the device itself for {served.words}, which it serves."
            problems.add("list.cuts-management", mark, words, "Permit it to self, if it is meant to be reached from there.", NOTE)


def _spoken(port: Interface) -> Iterator[tuple[str, Service]]:
    """The routing protocols that an interface speaks, as what their packets are."""
    if port.ospf and not port.ospf.passive:
        yield "OSPF", Service(OSPF)
    if port.rip == "active":
        yield "RIP", Service(UDP, Span(520, 520))


def _cut_errors(standing: Standing, mark: Mark, problems: Problems) -> None:
    """ICMP errors that path-MTU discovery (RFC 1191, RFC 8201) and hop tracing need, and that no permit lets pass."""
    here = standing.here
    if here.tracked and here.settings.session_errors_pass:
        return  # an error about a session's packet passes with it
    if standing.way != "arriving" or not _beyond(here, standing.port):
        return  # routers and their errors are elsewhere
    families = {a.address.family for a in here.device.interfaces[standing.port].addresses}
    for protocol, family in ((ICMP, 4), (ICMP6, 6)):
        cut = [word for word, service in _ERRORS[protocol] if not _lets(standing.table, service)]
        if cut and family in families:
            words = (
                f"list '{standing.source.name}' at {here.name}/{standing.port} lets no {' and no '.join(cut)} of IPv{family} pass: "
                "finding the path's MTU and tracing hops will fail."
            )
            kind = "icmp" if family == 4 else "icmp6"
            problems.add("list.cuts-errors", mark, words, f"Permit {kind} with icmp: [{', '.join(cut)}].", NOTE)
