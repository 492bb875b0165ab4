"""What the packets of a set are by now, in terms of what was sent; and what steps and actions say of packets, as exact sets.

A set ranges over packets as they were sent. Beside it stands what each part of them has become: another part of what was sent (an
answer swaps its ends), or one value for all of them (a translation).
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, NamedTuple

from mossy_compass.headers.sets import Set
from mossy_compass.headers.spans import merge
from mossy_compass.packet.address import FAMILIES, Address, Span, Spans
from mossy_compass.packet.packet import REPLY_TYPES, Packet
from mossy_compass.packet.service import ICMP, ICMP6, WITH_PORTS, Service
from mossy_compass.plan.actions import Listed
from mossy_compass.plan.alike import AsItCame, Decided, Met, Term
from mossy_compass.plan.conditions import Condition, in_set
from mossy_compass.plan.facts import Direction, Facts, Relation
from mossy_compass.plan.fields import FIELDS, SLOT_BITS, service_span
from mossy_compass.plan.keeping import LAST_PORT
from mossy_compass.plan.rows import Row
from mossy_compass.proof.space import Space

OF_THE_FIRST = {"ttl", "size", "fragment", "reset", "shows", "opens", "relation"}
"""Fields that differ among the packets that are sent; among the answers to packets that were treated alike they are one value."""
_OF_SESSIONS = ("relation", "opens")
OF_THE_CASE = frozenset(("hours", "application", "last-resort", "names"))
"""Fields that follow from the moment and the circumstances of a test: whatever asks for none of them does the same at any time."""
_PORTED = tuple(service_span(Service(p)) for p in WITH_PORTS)
_QUERIES = tuple(service_span(Service(p)) for p in (ICMP, ICMP6))


def room(size: int = 16) -> Space:
    """A space that has every field of a packet.

    Args:
        size: how many times the usual room it has.

    """
    wanted = ("fragment", "reset", "opens", "relation", "shows")
    asked = [Condition(n, ((n, frozenset(FIELDS[n].values or ())),)) for n in wanted]
    asked += [Condition(n, ((n, (Span(0, 255),)),)) for n in ("ttl", "size", "identifier")]
    return Space([Row("all", tuple(asked))], room=size)


class Form(NamedTuple):
    """What each part of the packets of a set is by now: which part of what was sent, or empty for one value for all of them.

    Attributes:
        source, destination: addresses: of ``source`` or ``destination``.
        near, far: source and destination port: of ``near`` or ``far``. The ICMP kind goes with ``far`` and is never swapped.
        identifier: of ICMP.
        known: at the device where they are they belong to sessions of theirs, so that is one value for all.
        opener: the address of who opened the flow, of a packet that comes back along a session.
        answer: it is an answer, so its kind of ICMP is that of the reply.
        first: it is what was sent, and not sent because of that: what is no address or port is as it was.
        down: how often the TTL was counted down.
        quoted: of an ICMP error, what is quoted in it: its source, destination, source port, destination port and identifier. Of the
            error itself all but the addresses is one value.

    """

    source: str = "source"
    destination: str = "destination"
    near: str = "near"
    far: str = "far"
    identifier: str = "identifier"
    opener: str = ""
    known: bool = False
    answer: bool = False
    first: bool = True
    down: int = 0
    quoted: tuple[str, str, str, str, str] | None = None

    def of(self, sent: Packet, sample: Packet) -> Packet:
        """What a packet that was sent is by now, on its way there; what is one value for all is as in a sample."""
        out = sent._replace(ttl=sent.ttl - self.down)
        parts = (("source", self.source), ("destination", self.destination), ("from_port", self.near), ("to_port", self.far))
        return out._replace(**{name: getattr(sample, name) for name, part in parts if not part})

    def reversed(self) -> Form:
        """The form of the answers to packets of this one."""
        return Form(self.destination, self.source, self.far, self.near, self.identifier, answer=True, first=False)

    def error(self, of_far_end: bool) -> Form:
        """The form of ICMP errors about packets of this one.

        Args:
            of_far_end: who they were for sends them, from the address that they were sent to; else a device on the way, from its own.

        """
        quoted = (self.source, self.destination, self.near, self.far, self.identifier)
        return Form(self.destination if of_far_end else "", self.source, "", "", "", first=False, quoted=quoted)

    def recalled(self) -> Form:
        """The form by which a device knows the sessions of packets: of errors, what would come as an answer to what they quote."""
        if self.quoted is None:
            return self
        source, destination, near, far, identifier = self.quoted
        return Form(destination, source, far, near, identifier, first=False)


class _TableAsks(NamedTuple):
    """What a table asks of packets.

    Attributes:
        table: which; while it is there, no other has its id.
        rows: those that can decide.
        fields: what they ask for.
        same: a number that tables of the same conditions have in common.
        of_case: for each row, and for none, what is asked of the moment until it decides.

    """

    table: Listed
    rows: tuple[Row, ...]
    fields: tuple[str, ...]
    same: int
    of_case: tuple[frozenset[str], ...]


@dataclass
class Sets:
    """Terms as sets, as things stand at one point of a stay.

    Attributes:
        space: where they are.
        of_case: fields of the moment and circumstances that terms asked for; whoever wants to know empties it first.
        stays: what is known of packets' stays, for whoever follows many of them; their sets are of this space.
        likely_stays: of these the last that was met at a place by a packet to a destination, for it is likely to be met again.

    """

    space: Space
    of_case: set[str] = field(default_factory=set)
    _known: dict[Any, list[Set]] = field(default_factory=dict)
    _tables: dict[int, _TableAsks] = field(default_factory=dict)
    _alike: dict[Any, int] = field(default_factory=dict)
    stays: dict[Hashable, list[Any]] = field(default_factory=dict)
    likely_stays: dict[Hashable, Any] = field(default_factory=dict)
    _by_service: dict[tuple[Spans, str, bool, int], Set] = field(default_factory=dict)

    def of(self, term: Term, facts: Facts, form: Form, came: Form | None = None) -> Set:
        """The packets of a term.

        Args:
            term: what it says.
            facts: as things stand.
            form: what the packets are by now.
            came: what they were when they came to the device; None: the same.

        """
        possible = self.space.possible
        if isinstance(term, AsItCame):
            now, facts.packet = facts.packet, facts.came
            held = self.of(term.term, facts, came or form)
            facts.packet = now
            return held
        if isinstance(term, Met):
            self.of_case |= _of_case(term.conditions)
            held = self._all(term.conditions, facts, form)
            return held if term.wanted else possible & ~held
        return self._decided(term, facts, form)

    def _decided(self, term: Decided, facts: Facts, form: Form) -> Set:
        """The packets of which a row is the first, among the rows that can decide."""
        asked = self._asked(term.table)
        key = (asked.same, form, facts.direction, tuple((f, self._constant(f, facts, form)) for f in asked.fields))
        if key not in self._known:
            seen, sets = self.nothing, []
            for row in asked.rows:
                mine = self._all(row.conditions, facts, form)
                sets.append(mine & ~seen)
                seen = seen | mine
            self._known[key] = [*sets, self.space.possible & ~seen]
        place = asked.rows.index(term.row) if term.row is not None else -1
        self.of_case |= asked.of_case[place]
        return self._known[key][place]

    def _asked(self, table: Listed) -> _TableAsks:
        """What a table asks, worked out once; tables of the same conditions, as two versions of a network have, share their sets."""
        if id(table) not in self._tables:
            rows = tuple(r for r in table.rows if not r.disabled and (r.verdict is None or r.verdict.value != "note"))
            fields = tuple(sorted({f for r in rows for c in r.conditions for f in c.fields}))
            meant = tuple(tuple((c.key, c.parts) for c in r.conditions) for r in rows)
            so_far: list[frozenset[str]] = []
            for row in rows:
                so_far.append((so_far[-1] if so_far else frozenset()) | _of_case(row.conditions))
            of_case = (*so_far, so_far[-1] if so_far else frozenset())
            self._tables[id(table)] = _TableAsks(table, rows, fields, self._alike.setdefault(meant, len(self._alike)), of_case)
        return self._tables[id(table)]

    def _all(self, conditions: Iterable[Condition], facts: Facts, form: Form) -> Set:
        """The packets that meet all conditions."""
        held = self.space.possible
        for condition in conditions:
            held = held & self.space.union(self._part(n, v, facts, form) for n, v in condition.parts)
        return held & self.space.possible

    @property
    def nothing(self) -> Set:
        """The empty set."""
        return self.space.possible & ~self.space.possible

    def to(self, addresses: Iterable[Address]) -> Set:
        """The packets that are sent to some addresses."""
        return self._holds("destination", merge(Span(a.key, a.key) for a in addresses))

    @cached_property
    def opening(self) -> Set:
        """The packets that open something when they are sent."""
        return self._of_one_family(self._holds("relation", frozenset((Relation.OPENING,))))

    @cached_property
    def strays(self) -> Set:
        """Those that open nothing: later packets of TCP, answers, errors, pieces."""
        return self._of_one_family(self.space.possible & ~self._holds("relation", frozenset((Relation.OPENING,))))

    def _of_one_family(self, held: Set) -> Set:
        """Packets without those that nobody can send: each kind of ICMP is of one family (RFC 792, RFC 4443)."""
        for protocol, family in ((ICMP, 6), (ICMP6, 4)):
            held = held & ~(
                self._holds("service", (service_span(Service(protocol)),)) & self._holds("destination", (FAMILIES[family],))
            )
        return held

    def _constant(self, name: str, facts: Facts, form: Form) -> object:
        """What of a field is one value for all packets of a form; None where nothing is."""
        if name in ("service", "from-port", "identifier"):
            packet = facts.packet
            near = None if form.near and form.identifier else packet.from_port
            return near, None if form.far else (packet.to_port, packet.icmp, packet.protocol if form.quoted else 0)
        if name == "names" and form.destination:
            return frozenset(facts.memory.called(facts.device).items()) if facts.memory is not None else None
        return None if self._sent(name, facts, form) else FIELDS[name].read(facts)

    def _sent(self, name: str, facts: Facts, form: Form) -> str:
        """The field of what was sent that a field is by now; empty where it is one value for all packets."""
        side, bits = name.removesuffix("-bits"), "-bits" if name.endswith("-bits") else ""
        if side == "opener":
            back = facts.session is not None and facts.direction is Direction.BACK
            part = form.opener if back else form.source
        elif side in ("source", "destination"):
            part = form.source if side == "source" else form.destination
        elif name == "conversation":
            return name
        else:
            return name if name in OF_THE_FIRST and form.first and not (form.known and name in _OF_SESSIONS) else ""
        return part and part + bits

    def _part(self, name: str, values: Any, facts: Facts, form: Form) -> Set:
        """The packets whose field has one of some values; all or none where the field is one value for all of them."""
        if form.quoted is not None and name in ("service", "from-port", "identifier"):
            return self.space.possible if in_set(FIELDS[name].kind, values, FIELDS[name].read(facts)) else self.nothing
        if name == "service":
            return self._service(values, facts, form)
        if name == "from-port":
            return self._port(values, facts, form)
        if name == "identifier":
            if form.identifier:
                return self._holds(name, values)
            return self._within(_QUERIES, in_set(FIELDS[name].kind, values, FIELDS[name].read(facts)))
        if name == "names" and form.destination:
            return self._called(values, facts, form)
        sent_name = self._sent(name, facts, form)
        if not sent_name:
            holds = in_set(FIELDS[name].kind, values, FIELDS[name].read(facts))
            return self.space.possible if holds else self.nothing
        if name == "ttl":
            values = tuple(Span(first + form.down if first else 0, last + form.down) for first, last in values)
        return self._holds(sent_name, values)

    def _called(self, values: Any, facts: Facts, form: Form) -> Set:
        """The packets to an address that the device has learned by one of some names."""
        known = facts.memory.called(facts.device) if facts.memory is not None else {}
        spans = merge(Span(a.key, a.key) for a, names in known.items() if not names.isdisjoint(values))
        return self._holds(form.destination, spans)

    def _holds(self, name: str, values: Any) -> Set:
        """The packets that had one of some values in a field when they were sent."""
        return self.space.of_condition(Condition(name, ((name, values),)))

    def _within(self, services: Spans, wanted: bool) -> Set:
        """The packets of some services, or none."""
        return self._holds("service", services) if wanted else self.nothing

    def _port(self, values: Spans, facts: Facts, form: Form) -> Set:
        """The packets whose source port is by now one of some."""
        if form.near == "near":
            return self._holds("from-port", values)
        if form.near == "far":
            return self._holds("service", tuple(s for p in WITH_PORTS for s in _ports_of(p, values)))
        return self._within(_PORTED, in_set(FIELDS["from-port"].kind, values, facts.packet.from_port))

    def _service(self, values: Spans, facts: Facts, form: Form) -> Set:
        """The packets of a service, by the port that each has by now."""
        if form.far == "far" and not form.answer:
            return self._holds("service", values)
        key = values, form.far, form.answer, 0 if form.far else facts.packet.to_port
        if key not in self._by_service:
            self._by_service[key] = self.space.union(self._services(values, facts, form))
        return self._by_service[key]

    def _services(self, values: Spans, facts: Facts, form: Form) -> Iterator[Set]:
        """The same, protocol by protocol: those with ports, ICMP by its kinds, and those that have neither."""
        for protocol in WITH_PORTS:
            base = protocol << SLOT_BITS
            ports = tuple(Span(max(a - base - 1, 0), min(b - base - 1, LAST_PORT)) for a, b in values)
            ports = tuple(s for s in ports if s.first <= s.last)
            mine = self._holds("service", (service_span(Service(protocol)),))
            if form.far == "far":
                yield self._holds("service", _ports_of(protocol, ports))
            elif form.far == "near":
                yield mine & self._holds("from-port", ports)
            elif any(a <= facts.packet.to_port <= b for a, b in ports):
                yield mine
        asked = {(p, kind): REPLY_TYPES[p, kind] << 8 if form.answer else kind << 8 for p, kind in REPLY_TYPES}
        for (protocol, kind), now in asked.items():
            base = protocol << SLOT_BITS
            if _holds_key(values, base + now + 1):
                yield self._holds("service", (Span(base + (kind << 8) + 1, base + (kind << 8) + 256),))
        rest = (p for p in range(256) if p not in (*WITH_PORTS, ICMP, ICMP6))
        yield self._holds("service", tuple(service_span(Service(p)) for p in rest if _holds_key(values, p << SLOT_BITS)))


def _of_case(conditions: Iterable[Condition]) -> frozenset[str]:
    """What conditions ask of the moment and circumstances."""
    return OF_THE_CASE.intersection(f for c in conditions for f in c.fields)


def _ports_of(protocol: int, ports: Spans) -> Spans:
    """Ports of a protocol on the line of services."""
    base = protocol << SLOT_BITS
    return tuple(Span(base + max(a, 0) + 1, base + b + 1) for a, b in ports if b >= 0)


def _holds_key(values: Spans, key: int) -> bool:
    """Whether a place on the line of services is in some runs."""
    return in_set(FIELDS["service"].kind, values, key)


def exactly(space: Space, packet: Packet, relation: Relation) -> Set:
    """The set of one packet."""
    facts = Facts(packet, None)
    facts.relation = relation
    numbers = ["service", "source", "destination", "ttl", "size"]
    numbers += [n for n in ("from-port", "identifier") if FIELDS[n].read(facts) >= 0]
    held = space.possible
    for name in numbers:
        value = FIELDS[name].read(facts)
        held = held & space.of_condition(Condition(name, ((name, (Span(value, value),)),)))
    for name in ("fragment", "reset", "opens", "relation", "shows"):
        held = held & space.of_condition(Condition(name, ((name, frozenset((FIELDS[name].read(facts),))),)))
    return held


def holding(space: Space, held: Set, packet: Packet, relation: Relation) -> bool:
    """Whether a packet is in a set."""
    return bool((held & exactly(space, packet, relation)).satisfiable())


def sent_by(space: Space, sources: Iterable[int]) -> Set:
    """Packets of usual TTL and size from some addresses, as a first packet can be: it belongs to nothing."""
    held = space.possible
    for name, spans in (("source", tuple(Span(k, k) for k in sources)), ("ttl", (Span(64, 64),)), ("size", (Span(64, 64),))):
        held = held & space.of_condition(Condition(name, ((name, spans),)))
    fresh = frozenset((Relation.OPENING, Relation.NONE))
    held = held & space.of_condition(Condition("relation", (("relation", fresh),)))
    return held & space.of_condition(Condition("reset", (("reset", frozenset((False,))),)))
