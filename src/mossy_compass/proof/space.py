"""What rows mean as exact sets of packets, and what follows from that for a list.

A set knows every field of ``FIELDS`` that rows ask about: addresses of both families, services, ports, interfaces, sessions,
windows of time, applications. So it is exact where a comparison of boxes is not: two rules that together shadow a third are
found, and one that only seems to be shadowed is not. What no packet can be (a UDP fragment with a port, a window that is
open while it is closed) is taken out first, so that a rule about nothing else is seen to be about nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple, TypeVar

from mossy_compass.errors import TooLarge
from mossy_compass.headers.sets import NODES, Bits, Set, Universe, bounded
from mossy_compass.model.gates import DAY, Application, Hours
from mossy_compass.packet.address import BITS, V6_BASE, Address
from mossy_compass.packet.packet import ERROR_TYPES, FIRST_DYNAMIC_PORT, REPLY_TYPES, Packet
from mossy_compass.packet.service import ICMP, ICMP6, TCP, UDP, WITH_PORTS
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Facts, Moment, Recollection, Relation
from mossy_compass.plan.fields import FIELDS, SLOT_BITS, SetKind
from mossy_compass.plan.rows import Row
from mossy_compass.proof.likely import Ends, Witness

if TYPE_CHECKING:
    from mossy_compass.headers.sets import BoolArray, Columns, IntArray

LEAST_BYTES = 20
"""The shortest packet: an IPv4 header and nothing else (RFC 791 section 3.1)."""
OTHER = "(another)"
"""Stands, among names, for every one that no row says."""
_NODES_PER_ROW = 700
MOST_ENDS = 3
"""So many sources, and for each so many destinations, are tried for an example that somebody sends."""


_ORDER = (
    (Bits("protocol", 8),),
    (Bits("six", 1),),
    (Bits("source", 128),),
    (Bits("destination", 128),),
    (Bits("slot", SLOT_BITS), Bits("from-port", 17)),
)
"""The fields that every packet has, in the order of their bits; what rows ask for beside comes after.

The addresses stand one after the other: interleaved, groups of scattered hosts on both sides explode. The source goes first: rules
as people write them have fewer different ones, and so take a sixth less time than the other way round. Slot and source port are
interleaved: that one equals the other costs 2^17 nodes otherwise."""
_LAID_OUT = ("service", "source", "destination", "from-port")
"""The fields of numbers that are in that order; every other one has the bits that its row in ``FIELDS`` says."""


T = TypeVar("T")
_ROOMS = (1, 8, 64)
"""How much more room is given when sets outgrow what they have: groups of scattered hosts need far more than rules do by number."""


FOR_A_NETWORK = 8
"""The room that following packets through a network begins with: it costs 5 ms more than the least, and beginning anew costs all."""


def with_room(work: Callable[[int], T], first: int = 1) -> T:
    """Some work with sets, in a room that grows until the work fits into it.

    Args:
        work: takes how many times the usual room its ``Space`` should have; it begins anew each time.
        first: how much it is given at first.

    Raises:
        TooLarge: the sets need more memory than is ever given to them.

    """
    for room in (room for room in _ROOMS if room >= first):
        try:
            return work(room)
        except BaseException as error:
            if not bounded(error):
                raise
    raise TooLarge("the exact sets need more memory than is given to them.")


class Vocabulary(NamedTuple):
    """What the names of a network's windows and applications can have in common, which sets must know to be exact.

    Attributes:
        hours: windows of time, by name.
        applications: by name.

    """

    hours: Mapping[str, Hours] = {}
    applications: Mapping[str, Application] = {}


USUAL_PORTS = (443, 53, 22, 80)
"""Ports that an example is of before others, since people know them."""
USUAL_KINDS = ((ICMP, 8), (ICMP6, 128), (ICMP, 0), (ICMP6, 129), (ICMP, 3), (ICMP6, 1))
"""Types of ICMP, likewise: a ping, its answer, and that something is unreachable; each with code 0."""


class Space:
    """The sets of some rows: which packets each of them is about.

    Attributes:
        possible: the packets that there can be.
        rows: the rows.

    """

    def __init__(self, rows: Sequence[Row], vocabulary: Vocabulary | None = None, room: int = 1) -> None:
        """Make room for the sets of rows.

        Args:
            rows: all that will be asked about; names that none of them says are not told apart.
            vocabulary: windows and applications of the network.
            room: how many times as much as such rows usually need (``with_room`` tells).

        """
        self.rows = tuple(rows)
        asked = {name for row in rows for c in row.conditions for name in c.fields}
        self._any = {name: self._values(name) for name in _of_kind(SetKind.ANY_OF) if name in asked}
        # Of a packet that is no error the protocol says what conversation it belongs to; only errors need room for another.
        left_out = {"conversation"} - ({"conversation"} if "error" in asked else set())
        self._one = {name: self._values(name) for name in _of_kind(SetKind.ONE_OF) if name in asked - left_out}
        self._numbers = [n for n in _of_kind(SetKind.INTERVALS) if n in asked and n not in _LAID_OUT and FIELDS[n].bits]
        self._universe = Universe([*_ORDER, *([bits] for bits in self._named())], room * max(NODES, _NODES_PER_ROW * len(rows)))
        self._known: dict[Condition, Set] = {}
        self._vocabulary = vocabulary or Vocabulary()
        self.possible = self._possible()

    def _named(self) -> Iterator[Bits]:
        """The bits of fields that some row asks for: a number for one of several names, a flag for each where several may hold."""
        for name, values in self._one.items():
            yield Bits(name, max(1, (len(values) - 1).bit_length()))
        for name, values in self._any.items():
            yield from (Bits(f"{name} {value}", 1) for value in values)
        yield from (Bits(name, FIELDS[name].bits) for name in self._numbers)

    def _values(self, field: str) -> list[Any]:
        """Every value of a field of names that some row says; for those of a closed set, all of it."""
        closed = FIELDS[field].values
        if closed is not None:
            return list(closed)
        said = {v for row in self.rows for c in row.conditions for name, values in c.parts if name == field for v in values}
        names = sorted(said, key=str)
        return names if FIELDS[field].kind is SetKind.ANY_OF else [OTHER, *names]

    # sets

    def of_row(self, row: Row) -> Set:
        """The packets that a row is about, disabled or not; the empty set for one that no packet meets."""
        self.tidy()
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

    def tidy(self) -> None:
        """Free what nobody holds any more, where much of the room is used: to be called now and then in long work."""
        self._universe.tidy()

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
            if self._says(condition):
                found = found & self.of_condition(condition)
        return found

    def coming(self, meets: Iterable[Condition], instead: Iterable[Sequence[Condition]]) -> Set:
        """The packets that come to a place: those that meet its conditions, without those that others take before.

        Args:
            meets: conditions of the place.
            instead: groups of conditions; what meets all of a group goes elsewhere.

        """
        found = self.where(map(_as_sent, meets))
        for group in instead:
            sent = [_as_sent(c) for c in group]
            if all(map(self._says, sent)):
                found = found & ~self.where(sent)
        return found

    def _says(self, condition: Condition) -> bool:
        """Whether the space knows all fields of a condition."""
        return all(name in self._one or name in self._numbers or name in _LAID_OUT for name in condition.fields)

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
        universe = self._universe
        if name == "conversation":
            by_protocol = universe.union(universe.between("protocol", v, v) for v in values)
            if name not in self._one:
                return by_protocol
            error = universe.flag("error")
            return (~error & by_protocol) | (error & self._places(name, values))
        return self._places(name, values)

    def _places(self, name: str, values: Iterable[Any]) -> Set:
        """The packets whose field has the number of one of some names."""
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
            field = FIELDS[name]
            yield universe.between(name, first + field.absent, min(last + field.absent, (1 << field.bits) - 1))

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
        if "identifier" in self._numbers:
            identified, none = universe.between("identifier", 1, 1 << 16), universe.between("identifier", 0, 0)
            query = icmp & slot
            found = found & ((query & identified) | (~query & none))
        if "size" in self._numbers:
            found = found & universe.between("size", LEAST_BYTES, (1 << FIELDS["size"].bits) - 1)
        for name, values in self._one.items():
            found = found & universe.between(name, 0, len(values) - 1)
        return found & self._errors() & self._sessions(slot, with_ports, icmp) & self._windows() & self._applications()

    def _errors(self) -> Set:
        """What an ICMP error can be, and a reset: each of its own protocol, and an error of one of the kinds of errors."""
        universe, found = self._universe, self._universe.everything
        if "error" in self._one:
            found = found & (~universe.flag("error") | self._error_kinds())
            if "opens" in self._one:
                found = found & ~(universe.flag("error") & universe.flag("opens"))
        if "reset" in self._one:
            found = found & (~universe.flag("reset") | universe.between("protocol", TCP, TCP))
            if "opens" in self._one:
                found = found & ~(universe.flag("reset") & universe.flag("opens"))
        return found

    def _error_kinds(self) -> Set:
        """The kinds of ICMP that errors are of, whether they quote something or not."""
        universe = self._universe
        return universe.union(
            universe.between("protocol", p, p) & universe.between("slot", (kind << 8) + 1, (kind << 8) + 256)
            for p, some in ERROR_TYPES.items()
            for kind in some
        )

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
            # A channel that was announced is opened as any other is, by what may open something.
            opening = relation[Relation.OPENING] | relation[Relation.EXPECTED]
            found = found & ~(opening & never) & ~(relation[Relation.NONE] & (always | asks))
            found = found & ~(relation[Relation.RELATED] & ~icmp)
            # A later fragment shows no ports, so it is found in no session; an error is judged by what it quotes, or by nothing.
            belongs = relation[Relation.CONTINUING] | relation[Relation.ANSWERING]
            found = found & ~(belongs & (piece | self._error_kinds()))
        if "shows" in self._one:
            shows = {flags: universe.between("shows", n, n) for n, flags in enumerate(self._one["shows"])}
            found = found & ((tcp & slot) | shows[""])
            if "reset" in self._one:
                reset = universe.between("reset", 1, 1)
                found = found & ((reset & shows["RST"]) | (~reset & ~shows["RST"]))
            if "opens" in self._one:
                found = found & (~tcp | ~universe.between("opens", 1, 1) | shows["SYN"])
        if "opens" in self._one:
            opens = universe.between("opens", 1, 1)
            found = found & ~(opens & never)
            if "relation" in self._one:
                answers = relation[Relation.ANSWERING] | relation[Relation.RELATED]
                found = found & ~(opens & (answers | relation[Relation.NONE])) & ~(~opens & opening)
                found = found & ~(~opens & (always | asks) & ~answers)
                if "shows" in self._one:  # a bare SYN that answers nothing opens something, so it never belongs to nothing
                    syn = tcp & shows["SYN"]
                    found = found & ~(syn & ~opens & ~answers) & ~(syn & relation[Relation.NONE])
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

    # many packets

    def columns(self, samples: Sequence[Set], kinds: IntArray, fields: Mapping[str, tuple[Sequence[int], IntArray]]) -> Columns:
        """Packets as columns, to be asked together whether sets have them.

        Args:
            samples: sets of one packet each: one of each kind, which says all that is not said apart.
            kinds: for each packet the number of its sample.
            fields: sources and destinations, ``slot`` and ``from-port``, as ``Universe.columns`` takes them; an address by its key.

        """
        found = [self._universe.one_of(s) for s in samples]
        out: dict[str, tuple[Sequence[int], IntArray]] = {
            name: ([one[name] for one in found if one is not None], kinds) for name in self._universe.fields
        }
        width = self._universe.fields["source"]
        for name, (values, codes) in fields.items():
            if name in ("source", "destination"):
                values = [v - V6_BASE if v >= V6_BASE else v << width - BITS[4] for v in values]
            out[name] = values, codes
        return self._universe.columns(out)

    def among(self, held: Set, columns: Columns, rows: IntArray) -> BoolArray:
        """Which of many packets are in a set; the arguments are those of ``Universe.among``."""
        return self._universe.among(held, columns, rows)

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
        wishes = [universe.between("protocol", p, p) for p in (TCP, UDP, ICMP, ICMP6)]
        wishes += [
            universe.between("protocol", p, p) & universe.between("slot", (k << 8) + 1, (k << 8) + 1) for p, k in USUAL_KINDS
        ]
        wishes.append(universe.between("from-port", FIRST_DYNAMIC_PORT + 1, FIRST_DYNAMIC_PORT + 1))
        wishes += [
            universe.between("slot", low, high) for low, high in (*((p + 1, p + 1) for p in USUAL_PORTS), (2, 65536), (1, 65536))
        ]
        usual = Facts(Packet(TCP, Address(4, 0), Address(4, 0)), None)
        wishes += [s for n in self._numbers for v in [FIELDS[n].read(usual)] for s in self._run(n, v, v)]
        if "relation" in self._one:
            wishes.append(universe.between("relation", 0, 0))
        for wish in wishes:
            closer = held & wish
            if closer.satisfiable():
                held = closer
        found = universe.one_of(held)
        assert found is not None
        return self._facts(found)

    def example(self, held: Set, hosts: Ends | None, shows: Callable[[Facts], bool | None] | None = None) -> Witness | None:
        """Some packet of a set that a walk shows; where none of the likely ones is sent by anybody, the likeliest, and that is said.

        Args:
            held: the set.
            hosts: as for ``witness``.
            shows: whether a walk of a packet shows what is claimed.

        """
        first = self.witness(held, hosts)
        if first is None or shows is None:
            return Witness(first) if first is not None else None
        sent = shows(first)
        if sent is not False or hosts is None:
            return Witness(first, sent)
        for facts in self._others(held & self.possible, hosts):
            if shows(facts):
                return Witness(facts, True)
        return Witness(first, False)

    def _others(self, held: Set, hosts: Ends) -> Iterator[Facts]:
        """Packets of a set between other pairs of hosts, the likelier ones first; few of very many."""
        few: list[Set] = []
        for source in hosts.sources:
            mine = held & self._usual("source", source)
            if mine.satisfiable():
                few.append(mine)
            if len(few) == MOST_ENDS:
                break
        for mine in few:
            count = 0
            for destination in hosts.destinations:
                both = mine & self._usual("destination", destination)
                found = self.witness(both) if both.satisfiable() else None
                if found is not None:
                    yield found
                    count += 1
                if count == MOST_ENDS:
                    break

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
        # A bare SYN opens something, so what answers, or belongs to nothing, is none.
        part = named.get("relation") in (Relation.ANSWERING, Relation.NONE)
        acknowledges = protocol == TCP and not packet.fragment and (named.get("opens") is False or part)
        return packet._replace(flags="ACK") if acknowledges else packet

    def _address(self, found: Mapping[str, int], side: str) -> Address:
        """An address of a row of numbers."""
        family = 6 if found["six"] else 4
        return Address(family, found[side] >> 128 - BITS[family])

    def _facts(self, found: Mapping[str, int]) -> Facts:
        """A row of numbers as a packet with its facts."""
        named = {n: values[found[n]] for n, values in self._one.items()}
        packet = self._packet(found, named)
        for name, value in (*((n, found[n] - FIELDS[n].absent) for n in self._numbers), *named.items()):
            write = FIELDS[name].write
            packet = write(packet, value) if write is not None else packet
        if named.get("error"):
            about = named.get("conversation", UDP)
            quoted = Packet(about if isinstance(about, int) else UDP, packet.destination, packet.source, FIRST_DYNAMIC_PORT, 33434)
            packet = packet._replace(quoted=quoted)
        held = {n: frozenset(v for v in values if found[f"{n} {v}"]) for n, values in self._any.items()}
        application = held.get("application") or None
        moment = Moment(None, held.get("hours", frozenset()), application, 1, held.get("last-resort", frozenset()))
        facts = Facts(packet, named.get("arriving"), Recollection(held.get("names", frozenset())), named.get("leaving"), moment)
        alone = Relation.OPENING if packet.opening else Relation.NONE
        if packet.opening and named.get("opens") is False:  # a datagram looks alike either way: it opens nothing where it answers
            alone = Relation.ANSWERING
        facts.relation = named.get("relation", alone)
        return facts


def _as_sent(condition: Condition) -> Condition:
    """A condition on who opened a session, as one on the source: what belongs to no session yet is its sender's own."""
    parts = tuple((_OPENER.get(name, name), values) for name, values in condition.parts)
    return Condition(condition.key, parts, condition.wants)


_OPENER = {"opener": "source", "opener-bits": "source-bits"}


def _of_kind(kind: SetKind) -> list[str]:
    """The fields whose sets are of a kind."""
    return [name for name, field in FIELDS.items() if field.kind is kind]
