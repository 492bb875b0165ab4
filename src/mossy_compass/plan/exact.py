"""What rows mean as exact sets of packets, and what follows from that for a list.

A set knows every field of ``FIELDS`` that rows ask about: addresses of both families, services, ports, interfaces, sessions,
windows of time, applications. So it is exact where a comparison of boxes is not: two rules that together shadow a third are
found, and one that only seems to be shadowed is not. What no packet can be (a UDP fragment with a port, a window that is
open while it is closed) is taken out first, so that a rule about nothing else is seen to be about nothing.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from mossy_compass.errors import TooLarge
from mossy_compass.headers.sets import Bits, Set, Universe, bounded
from mossy_compass.model.gates import DAY, Application, Hours
from mossy_compass.model.network import Verdict
from mossy_compass.packet.address import BITS, V6_BASE, Address, Spans
from mossy_compass.packet.packet import FIRST_DYNAMIC_PORT, REPLY_TYPES, Packet
from mossy_compass.packet.service import ICMP, ICMP6, TCP, UDP, WITH_PORTS
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Facts, Moment, Recollection, Relation
from mossy_compass.plan.fields import FIELDS, SLOT_BITS, SetKind
from mossy_compass.plan.likely import Ends
from mossy_compass.plan.rows import Row, runs

OTHER = "(another)"
"""Stands, among names, for every one that no row says."""
_NODES_PER_ROW = 700


_ORDER = (
    (Bits("protocol", 8),),
    (Bits("six", 1),),
    (Bits("destination", 128), Bits("source", 128)),
    (Bits("slot", SLOT_BITS),),
    (Bits("from-port", 17),),
)
"""The fields that every packet has, in the order of their bits; what rows ask for beside comes after."""


class Vocabulary(NamedTuple):
    """What the names of a network's windows and applications can have in common, which sets must know to be exact.

    Attributes:
        hours: windows of time, by name.
        applications: by name.

    """

    hours: Mapping[str, Hours] = {}
    applications: Mapping[str, Application] = {}


class Space:
    """The sets of some rows: which packets each of them is about.

    Attributes:
        possible: the packets that there can be.
        rows: the rows.

    """

    def __init__(self, rows: Sequence[Row], vocabulary: Vocabulary | None = None) -> None:
        """Make room for the sets of rows.

        Args:
            rows: all that will be asked about; names that none of them says are not told apart.
            vocabulary: windows and applications of the network.

        """
        self.rows = tuple(rows)
        asked = {name for row in rows for c in row.conditions for name in c.fields}
        self._any = {name: self._values(name) for name in _of_kind(SetKind.ANY_OF) if name in asked}
        self._one = {name: self._values(name) for name in _of_kind(SetKind.ONE_OF) if name in asked and name != "conversation"}
        self._universe = Universe([*_ORDER, *([bits] for bits in self._named("ttl" in asked))], _NODES_PER_ROW * len(rows))
        self._known: dict[Condition, Set] = {}
        self._vocabulary = vocabulary or Vocabulary()
        self.possible = self._possible()

    def _named(self, ttl: bool) -> Iterator[Bits]:
        """The bits of fields that some row asks for: a number for one of several names, a flag for each where several may hold."""
        for name, values in self._one.items():
            yield Bits(name, max(1, (len(values) - 1).bit_length()))
        for name, values in self._any.items():
            yield from (Bits(f"{name} {value}", 1) for value in values)
        if ttl:
            yield Bits("ttl", 8)

    def _values(self, field: str) -> list[Any]:
        """Every value of a field of names that some row says; for those of a closed set, all of it."""
        if field == "relation":
            return list(Relation)
        if field in ("opens", "fragment", "last-resort", "error", "admitted", "chosen"):
            return [False, True]
        said = {v for row in self.rows for c in row.conditions for name, values in c.parts if name == field for v in values}
        names = sorted(said, key=str)
        return names if FIELDS[field].kind is SetKind.ANY_OF else [OTHER, *names]

    # sets

    def of_row(self, row: Row) -> Set:
        """The packets that a row is about, disabled or not; the empty set for one that no packet meets."""
        found = self.possible
        for condition in row.conditions:
            found = found & self.of_condition(condition)
        return found

    def of_condition(self, condition: Condition) -> Set:
        """The packets that meet a condition."""
        held = self._known.get(condition)
        if held is None:
            held = self._known[condition] = self._universe.union(self._part(name, values) for name, values in condition.parts)
        return held

    def union(self, sets: Iterable[Set]) -> Set:
        """The packets of any of some sets."""
        return self._universe.union(sets)

    def where(self, conditions: Iterable[Condition]) -> Set:
        """The packets that meet conditions of the place where rows are asked; of an interface that no row says, any is as good.

        Args:
            conditions: over fields that rows ask about, or addresses; others say nothing here.

        """
        found = self.possible
        for condition in conditions:
            if all(name in self._one or FIELDS[name].kind is SetKind.INTERVALS for name in condition.fields):
                found = found & self.of_condition(condition)
        return found

    def _part(self, name: str, values: Any) -> Set:
        """The packets whose field has one of these values."""
        kind = FIELDS[name].kind
        if kind is SetKind.INTERVALS:
            return self._universe.union(s for first, last in values for s in self._run(name, first, last))
        if kind is SetKind.MASKED:
            side, four = name.removesuffix("-bits"), ~self._universe.flag("six")
            fixed = (1 << 32) - 1
            return self._universe.union(four & self._universe.agree(side, m.base, fixed & ~m.free, 32) for m in values)
        if kind is SetKind.ANY_OF:
            return self._universe.union(self._universe.flag(f"{name} {v}") for v in values)
        return self._one_of(name, values)

    def _one_of(self, name: str, values: Iterable[Any]) -> Set:
        """The packets whose field is one of some names; a name that no row says is any other."""
        if name == "conversation":
            return self._universe.union(self._universe.between("protocol", v, v) for v in values)
        listed = self._one[name]
        places = [listed.index(v if v in listed else OTHER) for v in values]
        return self._universe.union(self._universe.between(name, place, place) for place in places)

    def _run(self, name: str, first: int, last: int) -> Iterator[Set]:
        """A run of numbers of a field, as sets."""
        universe = self._universe
        if name in ("source", "destination"):
            six = universe.flag("six")
            if first < V6_BASE:
                yield ~six & universe.between(name, first, min(last, V6_BASE - 1), BITS[4])
            if last >= V6_BASE:
                yield six & universe.between(name, max(first, V6_BASE) - V6_BASE, last - V6_BASE)
        elif name == "service":
            yield from self._services(first, last)
        elif name == "from-port":  # 0 stands for absence, as on the line of services
            yield universe.between(name, first + 1, last + 1)
        else:
            yield universe.between(name, first, last)

    def _services(self, first: int, last: int) -> Iterator[Set]:
        """A run on the line of services: protocols that lie in it whole, and the ends of it."""
        size = 1 << SLOT_BITS
        for protocol in range(first >> SLOT_BITS, (last >> SLOT_BITS) + 1):
            low = max(first - protocol * size, 0)
            high = min(last - protocol * size, size - 1)
            held = self._universe.between("protocol", protocol, protocol)
            yield held if low == 0 and high == size - 1 else held & self._universe.between("slot", low, high)

    # what there can be

    def _possible(self) -> Set:
        """The packets that there can be, as far as fields depend on one another; every set is within it."""
        universe = self._universe
        found = universe.everything
        with_ports = universe.union(universe.between("protocol", p, p) for p in WITH_PORTS)
        icmp = universe.union(universe.between("protocol", p, p) for p in (ICMP, ICMP6))
        slot, port = universe.between("slot", 1, 65536), universe.between("from-port", 1, 65536)
        no_slot, no_port = universe.between("slot", 0, 0), universe.between("from-port", 0, 0)
        whole = (with_ports & slot & port) | (icmp & slot & no_port) | (~with_ports & ~icmp & no_slot & no_port)
        piece = no_slot & no_port
        if "fragment" in self._one:
            fragment = universe.between("fragment", 1, 1)
            found = found & ((fragment & piece) | (~fragment & whole))
        else:
            found = found & (whole | piece)
        for name, values in self._one.items():
            found = found & universe.between(name, 0, len(values) - 1)
        return found & self._sessions(slot, with_ports, icmp) & self._windows() & self._applications()

    def _sessions(self, slot: Set, with_ports: Set, icmp: Set) -> Set:
        """What relation a packet can have, and whether it can open something: as ``State.recall`` tells them."""
        universe, found = self._universe, self._universe.everything
        asks = universe.union(
            universe.between("protocol", p, p) & universe.between("slot", (kind << 8) + 1, (kind << 8) + 256)
            for p, kind in REPLY_TYPES
        )
        piece = universe.between("slot", 0, 0) & (with_ports | icmp)
        tcp = universe.between("protocol", TCP, TCP)
        never = piece | (icmp & ~asks)
        always = with_ports & slot & ~tcp
        if "fragment" in self._one:  # of a protocol without ports, only this tells a later fragment from a whole packet
            fragment = universe.between("fragment", 1, 1)
            never, always = never | fragment, ~tcp & ~icmp & ~fragment
        if "relation" in self._one:
            relation = {r: universe.between("relation", n, n) for n, r in enumerate(self._one["relation"])}
            found = found & ~(relation[Relation.OPENING] & never) & ~(relation[Relation.NONE] & (always | asks))
            found = found & ~(relation[Relation.RELATED] & ~icmp)
        if "opens" in self._one:
            opens = universe.between("opens", 1, 1)
            found = found & ~(opens & never)
            if "relation" in self._one:
                answers = relation[Relation.ANSWERING] | relation[Relation.RELATED]
                found = found & ~(opens & (answers | relation[Relation.NONE])) & ~(~opens & relation[Relation.OPENING])
                found = found & ~(~opens & (always | asks) & ~answers)
        return found

    def _windows(self) -> Set:
        """Which windows can be open together: tried through a week, for those of one time zone; of several, each apart."""
        named = [self._vocabulary.hours[n] for n in self._any.get("hours", ()) if n in self._vocabulary.hours]
        found = self._universe.everything
        for zone in {h.zone for h in named}:
            mine = [h for h in named if h.zone == zone]
            edges = sorted({0, *(e % DAY for h in mine for e in (h.start, h.end))})
            cases = {frozenset(h.name for h in mine if h.open_on(day, minute)) for day in range(7) for minute in edges}
            cases.add(frozenset())  # no time may be given at all
            found = found & self._one_case("hours", [h.name for h in mine], cases)
        return found

    def _applications(self) -> Set:
        """Which names a flow's application can have: those of one application, or none."""
        asked = self._any.get("application", [])
        listed = self._vocabulary.applications.values()
        if not asked or not listed:
            return self._universe.everything
        cases = {frozenset(n for n in a.names if n in asked) for a in listed} | {frozenset[str]()}
        return self._one_case("application", asked, cases)

    def _one_case(self, field: str, names: Sequence[str], cases: Iterable[frozenset[str]]) -> Set:
        """The packets that hold exactly the names of one of the cases."""
        universe = self._universe

        def case(held: frozenset[str]) -> Set:
            """Those names and no others."""
            found = universe.everything
            for name in names:
                flag = universe.flag(f"{field} {name}")
                found = found & (flag if name in held else ~flag)
            return found

        return universe.union(case(c) for c in cases)

    # an example

    def witness(self, held: Set, hosts: Ends | None = None) -> Facts | None:
        """Some packet of a set with the facts that it has, as usual a one as there is; None for the empty set.

        Args:
            held: the set.
            hosts: addresses that are better than others, since somebody has them, and where.

        """
        universe = self._universe
        held = held & self.possible
        if not held.satisfiable():
            return None
        held = self._ends(held, hosts) if hosts is not None else held
        wishes = [universe.between("protocol", p, p) for p in (TCP, UDP, ICMP)]
        wishes.append(universe.between("from-port", FIRST_DYNAMIC_PORT + 1, FIRST_DYNAMIC_PORT + 1))
        wishes += [universe.between("slot", low, high) for low, high in ((444, 444), (2, 65536), (1, 65536))]
        if "relation" in self._one:
            wishes.append(universe.between("relation", 0, 0))
        for wish in wishes:
            closer = held & wish
            if closer.satisfiable():
                held = closer
        found = universe.one_of(held)
        assert found is not None
        return self._facts(found)

    def _ends(self, held: Set, hosts: Ends) -> Set:
        """A set narrowed to the addresses of two different hosts, as far as it has such packets."""
        for side, other, best in (("source", "destination", hosts.sources), ("destination", "source", hosts.destinations)):
            mine = next((s for a in best for s in [held & self._usual(side, a)] if s.satisfiable()), None)
            if mine is None:
                continue
            held = mine
            found = self._universe.one_of(held)
            assert found is not None
            address = self._address(found, side)
            apart = held & ~self._usual(other, address)
            held = apart if apart.satisfiable() else held
        return held

    def _usual(self, side: str, address: Address) -> Set:
        """The packets with an address on one side."""
        return self._universe.union(self._run(side, address.key, address.key))

    def _packet(self, found: Mapping[str, int], named: Mapping[str, Any]) -> Packet:
        """The packet of a row of numbers."""
        source, destination = self._address(found, "source"), self._address(found, "destination")
        protocol, slot, port = found["protocol"], found["slot"] - 1, found["from-port"] - 1
        divided = protocol in WITH_PORTS or protocol in (ICMP, ICMP6)
        if named.get("fragment") or (slot < 0 and divided):
            packet = Packet(protocol, source, destination, -1, -1)
        elif protocol in WITH_PORTS:
            packet = Packet(protocol, source, destination, port, slot, flags="SYN" if protocol == TCP else "")
        else:
            packet = Packet(protocol, source, destination, 0, 0, slot if divided else -1)
        acknowledges = named.get("opens") is False and protocol == TCP
        return packet._replace(flags="ACK") if acknowledges else packet

    def _address(self, found: Mapping[str, int], side: str) -> Address:
        """An address of a row of numbers."""
        family = 6 if found["six"] else 4
        return Address(family, found[side] >> 128 - BITS[family])

    def _facts(self, found: Mapping[str, int]) -> Facts:
        """A row of numbers as a packet with its facts."""
        named = {n: values[found[n]] for n, values in self._one.items()}
        packet = self._packet(found, named)
        held = {n: frozenset(v for v in values if found[f"{n} {v}"]) for n, values in self._any.items()}
        application = held.get("application") or None
        moment = Moment(None, held.get("hours", frozenset()), application, 1, named.get("last-resort", False))
        facts = Facts(packet, named.get("arriving"), Recollection(held.get("names", frozenset())), named.get("leaving"), moment)
        alone = Relation.OPENING if packet.opening else Relation.NONE
        if packet.opening and named.get("opens") is False:  # a datagram looks alike either way: it opens nothing where it answers
            alone = Relation.ANSWERING
        facts.relation = named.get("relation", alone)
        return facts


def _of_kind(kind: SetKind) -> list[str]:
    """The fields whose sets are of a kind."""
    return [name for name, field in FIELDS.items() if field.kind is kind]


# --- what follows for a list -------------------------------------------------------------------------------------


class Shadow(NamedTuple):
    """A rule that can never decide, since rules above it take every packet that it is about.

    Attributes:
        row: the rule.
        by: the rules that take its packets; one, if one alone takes them all.
        but_for: the rules of which one alone stands in its way: without it the rule would be reached.
        witness: a packet that it is about.

    """

    row: Row
    by: tuple[Row, ...]
    but_for: tuple[Row, ...]
    witness: Facts | None


class Overlap(NamedTuple):
    """A rule that a rule above it with the opposite verdict takes some packets from, and not all.

    Attributes:
        row: the lower rule.
        above: the upper ones.
        witnesses: for each, a packet that both are about.
        more: further rules above that are not named.

    """

    row: Row
    above: tuple[Row, ...]
    witnesses: tuple[Facts, ...]
    more: int


class Exact(NamedTuple):
    """What exact sets say of a list.

    Attributes:
        never: rules that no packet meets at all.
        shadowed: rules that never decide.
        redundant: rules that could go without any packet's fate changing; each for itself. With a packet, but for the last
            of very many.
        overlaps: rules with the opposite verdict that share packets, where neither is an exception of the other.

    """

    never: tuple[Row, ...]
    shadowed: tuple[Shadow, ...]
    redundant: tuple[tuple[Row, Facts | None], ...]
    overlaps: tuple[Overlap, ...]


Outcome = tuple[Verdict, str]
"""What a rule comes to for the packet: its verdict, and what a reject answers."""
MOST_NAMED = 10
MOST_EXPLAINED = 50
"""So many shadowed and redundant rules of a list are explained by an example; the rest are only told of."""


def effective(space: Space, rows: Sequence[Row], meant: Sequence[Set] = ()) -> list[Set]:
    """The packets that each row decides: what it is about, without what the rows above take. Notes take nothing.

    Args:
        space: of the rows.
        rows: in their order.
        meant: what each row is about, where that is known already.

    """
    seen = space.possible & ~space.possible
    out = []
    for row, mine in zip(rows, meant or map(space.of_row, rows), strict=True):
        if row.disabled or row.verdict is Verdict.NOTE:
            out.append(mine & ~mine)
            continue
        out.append(mine & ~seen)
        seen = seen | mine
    return out


def examine(
    rows: Sequence[Row], end: Verdict = Verdict.DENY, vocabulary: Vocabulary | None = None, hosts: Ends | None = None
) -> Exact:
    """What exact sets say of the rows of a list, in their order.

    Args:
        rows: disabled ones are passed over.
        end: what happens to packets that no rule decides.
        vocabulary: windows and applications of the network.
        hosts: addresses that examples prefer.

    Raises:
        TooLarge: the sets need more memory than is given to them.

    """
    try:
        return _examine([r for r in rows if not r.disabled], end, vocabulary, hosts)
    except BaseException as error:
        if bounded(error):
            raise TooLarge("the exact sets of this list need more memory than is given to them.") from None
        raise


def _examine(rows: Sequence[Row], end: Verdict, vocabulary: Vocabulary | None, hosts: Ends | None) -> Exact:
    """The same without the guard."""
    space = Space(rows, vocabulary)
    meant = [space.of_row(r) for r in rows]
    listed = _Listed(space, rows, meant, effective(space, rows, meant), _Boxes(rows), hosts)
    acting = [n for n, r in enumerate(rows) if r.verdict is not Verdict.NOTE]
    never = [n for n in acting if not meant[n].satisfiable()]
    shadowed = [n for n in acting if meant[n].satisfiable() and not listed.decided[n].satisfiable()]
    return Exact(
        tuple(rows[n] for n in never),
        tuple(_shadow(listed, n) if k < MOST_EXPLAINED else Shadow(rows[n], (), (), None) for k, n in enumerate(shadowed)),
        tuple(_redundant(listed, end)),
        tuple(_overlaps(listed)),
    )


class _Boxes:
    """Which rows may have packets in common, told by one field after another: what has nothing in common there is apart."""

    def __init__(self, rows: Sequence[Row]) -> None:
        self._columns = [_column(rows, name) for name in ("service", "source", "destination", "from-port")]

    def meeting(self, number: int, among: int) -> list[int]:
        """The rows of a mask that no field of runs tells apart from one row, in their order."""
        found = among
        for sets, starts, masks in self._columns:
            if found and sets[number] is not None:
                found &= _meeting(sets[number] or (), starts, masks)
        return list(_numbers(found))


class _Listed(NamedTuple):
    """A list with all that is known of it.

    Attributes:
        space: of its rows.
        rows: in their order, without the disabled ones.
        meant: the packets that each is about.
        decided: the packets that each decides.
        boxes: which rows may have packets in common.
        hosts: addresses that examples prefer.

    """

    space: Space
    rows: Sequence[Row]
    meant: Sequence[Set]
    decided: Sequence[Set]
    boxes: _Boxes
    hosts: Ends | None

    def of(self, *verdicts: Verdict) -> int:
        """The rows with one of some verdicts, as a mask."""
        return sum(1 << n for n, r in enumerate(self.rows) if r.verdict in verdicts)


def _without(left: Set, taken: Iterable[Set]) -> Set:
    """What is left of a set when others are taken away; it ends as soon as nothing is."""
    for other in taken:
        if not left.satisfiable():
            break
        left = left & ~other
    return left


def _shadow(listed: _Listed, number: int) -> Shadow:
    """Which rules stand in the way of one, and whether one alone does."""
    space, rows, meant, decided, boxes, hosts = listed
    mine = meant[number]
    # Most rows of a long list have nothing in common with this one, and a look at their boxes is cheaper than at their sets.
    above = [n for n in boxes.meeting(number, (1 << number) - 1) if rows[n].verdict is not Verdict.NOTE]
    takers = [n for n in above if (mine & decided[n]).satisfiable()]
    alone = next((n for n in takers if not (mine & ~meant[n]).satisfiable()), None)
    named = takers if len(takers) <= MOST_NAMED else []
    but_for = [rows[t] for t in named if _without(mine & meant[t], [meant[n] for n in above if n != t]).satisfiable()]
    by = (rows[alone],) if alone is not None else tuple(rows[n] for n in takers)
    return Shadow(rows[number], by, tuple(but_for), space.witness(mine, hosts))


def _spared(decided: Set, apart: Iterable[Set]) -> bool:
    """Whether a rule decides something, and none of it would meet another fate below."""
    return decided.satisfiable() and not any((decided & other).satisfiable() for other in apart)


def _redundant(listed: _Listed, end: Verdict) -> Iterator[tuple[Row, Facts | None]]:
    """Rules whose packets would meet the same fate without them; from the last upwards, the rest's decisions are known.

    A rule that logs, or that stands for what comes at the end anyway and is about everything, is there to be seen.
    """
    space, rows, meant, decided = listed[:4]
    last: Outcome = (end, "")
    # Of all outcomes together nothing is left over, so one of them needs no set of its own: the end's, which most packets meet.
    rest: dict[Outcome, Set] = {}  # what the rows below come to; what none of them says comes to the end, and needs no set
    nothing = space.possible & ~space.possible
    found = []
    for number in range(len(rows) - 1, -1, -1):
        row, mine = rows[number], meant[number]
        if row.verdict is None or row.verdict is Verdict.NOTE:
            continue
        outcome = (row.verdict, row.answer)
        there_to_be_seen = bool(row.log) or not row.conditions
        if not there_to_be_seen:
            apart = rest.values() if outcome == last else (~rest.get(outcome, nothing),)
            if _spared(decided[number], apart):
                found.append(number)
        rest = {other: held & ~mine for other, held in rest.items()}
        if outcome != last:
            rest[outcome] = rest.get(outcome, nothing) | mine
    for count, number in enumerate(reversed(found)):
        yield rows[number], space.witness(decided[number], listed.hosts) if count < MOST_EXPLAINED else None


def _crossing(one: Set, other: Set) -> bool:
    """Whether two sets share packets while each has packets of its own."""
    return all(s.satisfiable() for s in (one & other, one & ~other, other & ~one))


def _overlaps(listed: _Listed) -> Iterator[Overlap]:
    """Pairs with the opposite verdict that share packets while each has packets of its own: seldom both are meant.

    Pairs are found by boxes first: sets of one field that have nothing in common settle most of them.
    """
    space, rows, meant = listed[:3]
    lets, stops = listed.of(Verdict.PERMIT), listed.of(Verdict.DENY, Verdict.REJECT)
    for number, mine in enumerate(meant):
        opposite = stops if lets >> number & 1 else lets if stops >> number & 1 else 0
        above: list[Row] = []
        witnesses: list[Facts] = []
        more = 0
        for n in listed.boxes.meeting(number, opposite & (1 << number) - 1):
            shared = mine & meant[n]
            if not _crossing(mine, meant[n]):
                continue
            if len(above) == MOST_NAMED:
                more += 1
                continue
            example = space.witness(shared, listed.hosts)
            if example is not None:
                above.append(rows[n])
                witnesses.append(example)
        if above:
            yield Overlap(rows[number], tuple(above), tuple(witnesses), more)


def _numbers(mask: int) -> Iterator[int]:
    """The places of a mask's bits, from the lowest."""
    while mask:
        lowest = mask & -mask
        yield lowest.bit_length() - 1
        mask ^= lowest


def _column(rows: Sequence[Row], name: str) -> tuple[list[Spans | None], list[int], list[int]]:
    """The runs that each row wants of a field, and the rows that hold from each place of it on."""
    sets: list[Spans | None] = []
    for row in rows:
        held = next((c.parts[0][1] for c in row.conditions if c.fields == (name,)), None)
        sets.append(held)
    return (sets, *runs(sets))


def _meeting(spans: Spans, starts: list[int], masks: list[int]) -> int:
    """The rows whose set of a field has something in common with these runs."""
    found = 0
    for first, last in spans:
        for place in range(bisect_right(starts, first) - 1, bisect_right(starts, last)):
            found |= masks[place]
    return found
