"""Written conditions: what the keys of a rule come to, as sets over fields.

A condition is one key, met when one of its parts is: a union over one or two fields. A row is met when all its
conditions are. Nothing else says what a rule means: the index, the reasons of rows passed over, the near misses and the
documents' table are made from these values.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from mossy_compass.headers.spans import merge
from mossy_compass.model.network import LAST_RESORT, Rule
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import Masked, Spans, in_spans
from mossy_compass.packet.service import Service
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.fields import FIELDS, SetKind, service_span

Part = tuple[str, Any]
"""A field's name and a set of its kind: ``Spans``, a frozenset, or a tuple of ``Masked``."""


@dataclass(frozen=True, slots=True)
class Condition:
    """A written key with what it wants.

    Attributes:
        key: as in the file; a key of ``CONDITIONS``.
        parts: sets over fields, one of which must hold the packet's value.
        wants: the words that were written.
        terms: for addresses, the entries as written, to tell which member holds a packet.

    """

    key: str
    parts: tuple[Part, ...]
    wants: tuple[str, ...] = ()
    terms: tuple[Term, ...] = field(default=(), compare=False)

    def holds(self, facts: Facts) -> bool:
        """True when the packet meets it."""
        return any(in_set(FIELDS[name].kind, values, FIELDS[name].read(facts)) for name, values in self.parts)

    @property
    def fields(self) -> tuple[str, ...]:
        """The names of its fields."""
        return tuple(name for name, _ in self.parts)


class Miss(NamedTuple):
    """A condition of a row that a packet does not meet.

    Attributes:
        key: of the condition; ``disabled``; or ``list`` where a list says which packets a row is for.
        condition: what was wanted; None for a row that is disabled, or that a list refuses.
        has: what the packet has: its value of the condition's first field. Of a list that refuses: its name, and its rule.

    """

    key: str
    condition: Condition | None = None
    has: Any = None


def in_set(kind: SetKind, values: Any, value: Any) -> bool:
    """True when a field's set holds a value.

    Args:
        kind: what the set is made of.
        values: the set.
        value: of the packet; absent values lie in no set.

    """
    if kind is SetKind.INTERVALS:
        return in_spans(value, values)
    if kind is SetKind.MASKED:
        return any(m.holds(value) for m in values)
    return not values.isdisjoint(value) if kind is SetKind.ANY_OF else value in values


def test_of(conditions: Sequence[Condition]) -> Callable[[Facts], bool]:
    """A function that is true when a packet meets all of some conditions, made for the fields that they ask about."""
    # What costs least goes first: a name is one look-up, a number a few.
    tests = [_test_of(c) for c in sorted(conditions, key=lambda c: FIELDS[c.parts[0][0]].kind is not SetKind.ONE_OF)]
    if not tests:
        return lambda facts: True
    if len(tests) == 1:
        return tests[0]
    if len(tests) == 2:
        one, other = tests
        return lambda facts: one(facts) and other(facts)
    return lambda facts: all(test(facts) for test in tests)


def _test_of(condition: Condition) -> Callable[[Facts], bool]:
    """The same of one condition."""
    if len(condition.parts) > 1:
        return condition.holds
    ((name, values),) = condition.parts
    field = FIELDS[name]
    read = field.read
    if field.kind is SetKind.ONE_OF:
        if len(values) == 1:
            (only,) = values
            return lambda facts: bool(read(facts) == only)
        return lambda facts: read(facts) in values
    if field.kind is SetKind.INTERVALS:
        if len(values) == 1:
            first, last = values[0]
            return lambda facts: bool(first <= read(facts) <= last)
        return _in_runs(read, values)
    return condition.holds


def _in_runs(read: Callable[[Facts], int], runs: Spans) -> Callable[[Facts], bool]:
    """Whether a number lies in one of several runs, which are sorted and apart."""
    firsts, lasts = [first for first, _ in runs], [-2, *(last for _, last in runs)]

    def holds(facts: Facts) -> bool:
        """The last run that begins before the number is the one that may hold it."""
        value = read(facts)
        return bool(value <= lasts[bisect_right(firsts, value)])

    return holds


class Reader(NamedTuple):
    """Who reads a rule: what ``self`` and the names of interfaces mean there.

    Attributes:
        own: the device's addresses.
        ports: the interfaces that a name stands for: an interface, a zone, or a group of uplinks.
        names: the addresses of host names as the device resolves them; None where it learns them from what passes.
        device: its name.
        resort: whose last resort is meant where no group is named: ``DEVICE/GROUP``, or ``*`` where it has none.

    """

    own: Spans = ()
    ports: Mapping[str, tuple[str, ...]] = {}
    names: Mapping[str, Spans] | None = {}
    device: str = ""
    resort: str = "*"

    def interfaces(self, names: Iterable[str] | None) -> frozenset[str]:
        """The interfaces that some names stand for; none where there are no names."""
        return frozenset(port for name in names or () for port in self.ports.get(name, (name,)))


class RuleKey(NamedTuple):
    """How one key of a rule becomes a condition.

    Attributes:
        name: as written.
        fields: that it may ask about.
        build: takes a rule and its reader and gives the condition; None where the rule does not have it.
        meaning: for the documents.

    """

    name: str
    fields: tuple[str, ...]
    build: Callable[[Rule, Reader], Condition | None]
    meaning: str


def _addresses(key: str, fields: tuple[str, str], terms: Sequence[Term] | None, reader: Reader) -> Condition | None:
    """The addresses of a condition, with ``self`` filled in; ``any`` is no condition."""
    if terms is None or any(t.words == "any" for t in terms):
        return None
    spans = merge(s for t in terms for s in _spans(t, reader))
    masked: tuple[Masked, ...] = tuple(dict.fromkeys(m for t in terms for m in t.masked))
    parts: tuple[Part, ...] = ((fields[0], spans), (fields[1], masked)) if masked else ((fields[0], spans),)
    return Condition(key, parts, tuple(t.words for t in terms), tuple(terms))


def term_condition(key: str, terms: Sequence[Term], reader: Reader) -> Condition | None:
    """Addresses under ``from`` or ``to`` as a condition; None for ``any``."""
    side = "source" if key == "from" else "destination"
    return _addresses(key, (side, f"{side}-bits"), terms, reader)


def _spans(term: Term, reader: Reader) -> Spans:
    """The runs of a term; ``self`` is the reader's own addresses."""
    return reader.own if term.spans is None else term.spans


def _protocol(rule: Rule, reader: Reader) -> Condition | None:
    """A rule of a protocol asks for everything on the line of services that is of that protocol."""
    if rule.protocol is None:
        return None
    return Condition("protocol", (("service", (service_span(Service(rule.protocol)),)),), (str(rule.protocol),))


def _services(rule: Rule, reader: Reader) -> Condition | None:
    """Services, ports or ICMP kinds; already limited to the rule's own protocol when the file was read."""
    if rule.services is None:
        return None
    key = "icmp" if rule.protocol in (1, 58) else "service"
    return Condition(key, (("service", merge(map(service_span, rule.services))),), (rule.service_words,))


def _from_port(rule: Rule, reader: Reader) -> Condition | None:
    """Source ports; a packet of a protocol without ports meets none."""
    if rule.from_ports is None:
        return None
    ports = merge(rule.from_ports)
    return Condition("from-port", (("from-port", ports),), tuple(str(a) if a == b else f"{a}-{b}" for a, b in ports))


def _opening(rule: Rule, reader: Reader) -> Condition | None:
    """Only what may open a session. A UDP packet that answers is none."""
    return Condition("opening", (("opens", frozenset((True,))),)) if rule.opening else None


STATES = {"new": "opening", "continuing": "continuing", "answering": "answering", "related": "related", "none": "none"}
"""What a rule may say under ``state``, with the relation that it is."""


def _states(rule: Rule, reader: Reader) -> Condition | None:
    """What the packet is to the device's sessions."""
    if rule.states is None:
        return None
    known = frozenset(Relation(STATES[s]) for s in rule.states)
    if Relation.RELATED in known:  # a second channel is related to the conversation that told of it, as an error to what it quotes
        known |= {Relation.EXPECTED}
    return Condition("state", (("relation", known),), rule.states)


def _fragments(rule: Rule, reader: Reader) -> Condition | None:
    """Only fragments other than the first."""
    return Condition("fragments", (("fragment", frozenset((True,))),)) if rule.fragments else None


def _any_of(key: str, field: str, names: tuple[str, ...] | None) -> Condition | None:
    """One of several names, of a field that may hold more than one."""
    return None if names is None else Condition(key, ((field, frozenset(names)),), names)


def _host_names(rule: Rule, reader: Reader) -> Condition | None:
    """The destination has one of these names: by the addresses that the device resolved, or by lookups that passed."""
    if rule.names is None:
        return None
    if reader.names is None:
        return Condition("name", (("names", frozenset(rule.names)),), rule.names)
    spans = merge(s for n in rule.names for s in reader.names.get(n, ()))
    return Condition("name", (("destination", spans),), rule.names)


def _last_resort(rule: Rule, reader: Reader) -> Condition | None:
    """Only while the uplink of last resort is in use."""
    if not rule.last_resort:
        return None
    group = rule.last_resort.rpartition(LAST_RESORT)[0]
    meant = f"{reader.device}/{group}" if group else reader.resort
    return Condition("while", (("last-resort", frozenset((meant,))),), (rule.last_resort,))


def _names(key: str, names: tuple[str, ...] | None, reader: Reader) -> Condition | None:
    """Interfaces by name, with zones and groups of uplinks spread out as the reader knows them."""
    if names is None:
        return None
    return Condition(key, ((key, reader.interfaces(names)),), names)


CONDITIONS: dict[str, RuleKey] = {
    k.name: k
    for k in (
        RuleKey("protocol", ("service",), _protocol, "The protocol that stands after the verdict."),
        RuleKey(
            "from",
            ("source", "source-bits"),
            lambda r, reader: _addresses("from", ("source", "source-bits"), r.sources, reader),
            "Its source is one of these addresses.",
        ),
        RuleKey(
            "to",
            ("destination", "destination-bits"),
            lambda r, reader: _addresses("to", ("destination", "destination-bits"), r.destinations, reader),
            "Its destination is one of these addresses.",
        ),
        RuleKey("from-port", ("from-port",), _from_port, "Its source port is one of these; a packet without ports has none."),
        RuleKey("service", ("service",), _services, "It is of one of these services, ports, or ICMP kinds."),
        RuleKey("name", ("destination", "names"), _host_names, "Its destination has one of these names, as the device knows them."),
        RuleKey("fragments", ("fragment",), _fragments, "It is a fragment other than the first, which has no ports."),
        RuleKey("state", ("relation",), _states, "What it is to the device's sessions: new, continuing, answering, related, none."),
        RuleKey(
            "hours",
            ("hours",),
            lambda r, reader: _any_of("hours", "hours", r.hours),
            "One of these windows of time is open; without a time none is.",
        ),
        RuleKey(
            "application",
            ("application",),
            lambda r, reader: _any_of("application", "application", r.applications),
            "The flow is of one of these applications or categories, and the device knows that by now.",
        ),
        RuleKey("while", ("last-resort",), _last_resort, "Only while the uplink of last resort is in use."),
        RuleKey("opening", ("opens",), _opening, "It may open a session, and answers nothing that the device knows of."),
        RuleKey(
            "arriving",
            ("arriving",),
            lambda r, reader: _names("arriving", r.arriving, reader),
            "It came by one of these interfaces: an interface's name, a zone, or a group of uplinks.",
        ),
        RuleKey(
            "leaving",
            ("leaving",),
            lambda r, reader: _names("leaving", r.leaving, reader),
            "It will leave by one of these interfaces; the stage must stand after the route.",
        ),
    )
}
"""Every key that a rule may have, in the order in which a reader checks them."""


def conditions_of(rule: Rule, reader: Reader) -> tuple[Condition, ...]:
    """What a rule wants where ``reader`` reads it."""
    built = (key.build(rule, reader) for key in CONDITIONS.values())
    return tuple(c for c in built if c is not None)


def members(condition: Condition, facts: Facts) -> tuple[str, ...]:
    """The way through groups to the member that holds a packet's address, outermost first; empty where no group is named."""
    packet = facts.packet
    address = packet.source if condition.key == "from" else packet.destination
    for term in condition.terms:
        if term.members and term.holds(address):
            out = [condition.key, term.words]
            inner: Term | None = term
            while inner is not None and inner.members:
                inner = next((m for m in inner.members if m.holds(address)), None)
                if inner is not None:
                    out.append(inner.words)
            return tuple(out)
    return ()
