"""Rows in order, and the index that finds the first one that a packet meets.

For each field that a row asks about the values are cut into runs, and each run has a Python integer with one bit a row:
the rows that hold there. A packet's integers are ANDed; the lowest bit is the row that decides. Rows with equal sets are
flipped together, so a table of many groups costs what its different sets cost.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from mossy_compass.headers.spans import intersect
from mossy_compass.marks import NOWHERE, Mark
from mossy_compass.model.network import AccessList, Verdict
from mossy_compass.packet.address import V6_BASE, Masked, Spans
from mossy_compass.packet.service import WITH_PORTS
from mossy_compass.plan.actions import Action
from mossy_compass.plan.conditions import Condition, Miss, Reader, conditions_of
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.fields import FIELDS, SLOT_BITS, SetKind
from mossy_compass.plan.reasons import Because


@dataclass(frozen=True, slots=True)
class Row:
    """One row: it is met when all its conditions are.

    Attributes:
        id: its number or name within the table.
        conditions: in the order in which a reader checks them.
        verdict: for a row of a list; the place where the list stands maps it to actions.
        actions: for a row of any other table.
        disabled: kept, but passed over.
        log: severity of the log line of a match; empty for none.
        about: the purpose, as the author wrote it.
        answer: what a rejection sends; empty for what the device's setting says.
        because: what a ruling by it rests on, where that is not the rule of a list.
        built_in: it is one of the device's own rules, shown only when asked for or when it decides.

    """

    id: str
    conditions: tuple[Condition, ...]
    mark: Mark = field(default=NOWHERE, compare=False)
    verdict: Verdict | None = None
    actions: tuple[Action, ...] = ()
    disabled: bool = False
    log: str = ""
    about: str = ""
    answer: str = ""
    because: Because | None = field(default=None, compare=False)
    built_in: bool = False

    def misses(self, facts: Facts) -> Iterator[Miss]:
        """Every condition that the packet does not meet, one for each field, in the order in which a reader checks them."""
        if self.disabled:
            yield Miss("disabled")
        for condition in self.conditions:
            if not condition.holds(facts):
                yield Miss(condition.key, condition, FIELDS[condition.fields[0]].read(facts))


class Near(NamedTuple):
    """A row that a packet misses by a condition or two.

    Attributes:
        row: the row that nearly matched.
        misses: the conditions that the packet does not meet, one or two.

    """

    row: Row
    misses: tuple[Miss, ...]


Mask = Callable[[Facts], int]
Runs = tuple[list[int], list[int]]
_EVERYTHING: Runs = ([-1], [-1])


def runs(sets: Sequence[Spans | None]) -> Runs:
    """Where the rows' sets begin and end, and the rows that hold from each such place on. None holds everywhere."""
    bits: dict[Spans | None, int] = {}
    for number, spans in enumerate(sets):
        bits[spans] = bits.get(spans, 0) | 1 << number
    everywhere = bits.pop(None, 0)
    flips: dict[int, int] = {-1: 0}
    for spans, rows in bits.items():
        for first, last in spans or ():
            flips[first] = flips.get(first, 0) ^ rows
            flips[last + 1] = flips.get(last + 1, 0) ^ rows
    starts = sorted(flips)
    masks, mask, known = [], everywhere, {everywhere: everywhere}
    for start in starts:
        mask ^= flips[start]
        masks.append(known.setdefault(mask, mask))
    return starts, masks


def _interval_mask(name: str, runs: Runs) -> Mask:
    """Bits of the rows whose set of a field holds a value, found by bisection among the ends of all runs."""
    starts, masks = runs
    read = FIELDS[name].read
    return lambda facts: masks[bisect_right(starts, read(facts)) - 1]


def _name_mask(name: str, sets: Sequence[frozenset[Any] | None]) -> Mask:
    """The same for a field of names, by a dictionary; a row that does not ask is in every mask."""
    free = sum(1 << n for n, s in enumerate(sets) if s is None)
    known: dict[Any, int] = {}
    for number, values in enumerate(sets):
        for value in values or ():
            known[value] = known.get(value, free) | 1 << number
    read = FIELDS[name].read
    return lambda facts: known.get(read(facts), free)


def _any_mask(name: str, sets: Sequence[frozenset[Any] | None]) -> Mask:
    """The same for a field that may hold several names at once: the rows of each of them, together."""
    free = sum(1 << n for n, s in enumerate(sets) if s is None)
    known: dict[Any, int] = {}
    for number, values in enumerate(sets):
        for value in values or ():
            known[value] = known.get(value, 0) | 1 << number
    read = FIELDS[name].read

    def mask_of(facts: Facts) -> int:
        """The bits of the rows that hold for these facts."""
        rows = free
        for value in read(facts):
            rows |= known.get(value, 0)
        return rows

    return mask_of


def _bits_mask(name: str, sets: Sequence[tuple[Masked, ...] | None]) -> Mask:
    """Four tables, one a byte: which of the different masks agree there. Members of a mask are never listed."""
    free = sum(1 << n for n, s in enumerate(sets) if s is None)
    rows_of: dict[Masked, int] = {}
    for number, values in enumerate(sets):
        for value in values or ():
            rows_of[value] = rows_of.get(value, 0) | 1 << number
    masks = list(rows_of)
    tables = []
    for shift in (24, 16, 8, 0):
        by_part: dict[tuple[int, int], int] = {}
        for number, mask in enumerate(masks):
            part = (mask.base >> shift & 255, ~mask.free >> shift & 255)
            by_part[part] = by_part.get(part, 0) | 1 << number
        tables.append([sum(bits for (base, fixed), bits in by_part.items() if value & fixed == base) for value in range(256)])
    read = FIELDS[name].read

    def mask_of(facts: Facts) -> int:
        """The bits of the rows that hold for these facts."""
        key = read(facts)
        if key >= V6_BASE:
            return free
        agreeing = tables[0][key >> 24] & tables[1][key >> 16 & 255] & tables[2][key >> 8 & 255] & tables[3][key & 255]
        rows = free
        while agreeing:
            lowest = agreeing & -agreeing
            rows |= rows_of[masks[lowest.bit_length() - 1]]
            agreeing ^= lowest
        return rows

    return mask_of


def _single(rows: Sequence[Row], name: str) -> list[Any]:
    """The set over one field that each row wants, of the conditions that ask about that field alone; None for any."""
    out: list[Any] = []
    for row in rows:
        held: Any = None
        for condition in row.conditions:
            if condition.fields == (name,):
                values = condition.parts[0][1]
                if held is not None:
                    values = intersect(held, values) if FIELDS[name].kind is SetKind.INTERVALS else held & values
                held = values
        out.append(held)
    return out


def _union_mask(rows: Sequence[Row], fields: tuple[str, ...]) -> Mask:
    """For conditions over two fields: the rows whose set over either holds the packet."""
    wanting: list[dict[str, Any] | None] = [None] * len(rows)
    for number, row in enumerate(rows):
        for condition in row.conditions:
            if condition.fields == fields:
                wanting[number] = dict(condition.parts)
    parts = [_mask(name, [None if w is None else w[name] for w in wanting]) for name in fields]
    one, other = parts
    return lambda facts: one(facts) | other(facts)


def _mask(name: str, sets: Sequence[Any]) -> Mask:
    """The index of one field."""
    kind = FIELDS[name].kind
    if kind is SetKind.INTERVALS:
        return _interval_mask(name, runs(sets))
    if kind is SetKind.ANY_OF:
        return _any_mask(name, sets)
    return _name_mask(name, sets) if kind is SetKind.ONE_OF else _bits_mask(name, sets)


_INLINE = ("service", "source", "destination")


def columns(rows: Sequence[Row]) -> list[Mask]:
    """One function for each field, or pair of fields, that some row asks about: it gives the rows that hold there."""
    asked = dict.fromkeys(c.fields for r in rows for c in r.conditions)
    return [_mask(f[0], _single(rows, f[0])) if len(f) == 1 else _union_mask(rows, f) for f in asked]


def first_of(rows: Sequence[Row]) -> Callable[[Facts], Row | None]:
    """The function that finds the first row that a packet meets, made for the fields that these rows ask about."""
    if not rows:
        return lambda facts: None
    # The last row gets the lowest bit, so that the first one which holds is the highest bit of what is left: that is told by
    # the number's length, without another number as long as the list.
    rows = rows[::-1]
    asked = dict.fromkeys(c.fields for r in rows for c in r.conditions)
    inline = [runs(_single(rows, name)) if (name,) in asked else _EVERYTHING for name in _INLINE]
    others = [
        _mask(f[0], _single(rows, f[0])) if len(f) == 1 else _union_mask(rows, f) for f in asked if f not in {(n,) for n in _INLINE}
    ]
    return _finder(tuple(rows), inline, tuple(others))


def _finder(rows: tuple[Row, ...], inline: Sequence[Runs], others: tuple[Mask, ...]) -> Callable[[Facts], Row | None]:
    """The function that gives the first row, of rows from the last to the first; small cases are written out."""
    (by_service, service_rows), (by_source, source_rows), (by_destination, destination_rows) = inline

    def first(facts: Facts) -> Row | None:
        """The row that decides; None when no row holds."""
        # The hottest lines of a trace: the three commonest fields are read here, and it stops when no row is left.
        packet = facts.packet
        protocol, icmp = packet[0], packet[5]
        slot = (packet[4] + 1 if protocol in WITH_PORTS else 0) if icmp < 0 else icmp + 1
        left = service_rows[bisect_right(by_service, protocol << SLOT_BITS | slot) - 1]
        if not left:
            return None
        family, value = packet[1]
        left &= source_rows[bisect_right(by_source, value if family == 4 else value + V6_BASE) - 1]
        if not left:
            return None
        family, value = packet[2]
        left &= destination_rows[bisect_right(by_destination, value if family == 4 else value + V6_BASE) - 1]
        for mask in others:
            if not left:
                return None
            left &= mask(facts)
        return rows[left.bit_length() - 1] if left else None

    def first_by_ends(facts: Facts) -> Row | None:
        """The same where all fields are runs: no calls between the bisections."""
        # the same, for rows that ask nothing about services: most of a device's own small tables
        packet = facts.packet
        family, value = packet[1]
        left = source_rows[bisect_right(by_source, value if family == 4 else value + V6_BASE) - 1]
        family, value = packet[2]
        left &= destination_rows[bisect_right(by_destination, value if family == 4 else value + V6_BASE) - 1]
        return rows[left.bit_length() - 1] if left else None

    if by_service is not _EVERYTHING[0] or others:
        return first
    if by_source is by_destination is _EVERYTHING[0]:  # rows without a condition: the first decides
        return lambda facts: rows[-1]
    return first_by_ends


class Table:
    """Rows in order; the first that a packet meets decides.

    Attributes:
        id: what rulings cite it by, as ``list visitors-in``.
        name: as people call it.
        mark, about: where it is written, and what for.
        rows: all of them, disabled ones and notes too.
        asks_application: some row asks for the flow's application, which may not be known yet.
        first: takes facts and gives the row that decides, or None. Disabled rows and notes never decide.

    """

    __slots__ = ("_near", "about", "asks_application", "first", "id", "mark", "name", "rows")

    def __init__(self, id: str, rows: Iterable[Row], mark: Mark = NOWHERE, name: str = "", about: str = "") -> None:
        self.id = id
        self.about = about
        self.name = name or id
        self.mark = mark
        self.rows = tuple(rows)
        self.asks_application = any(c.key == "application" for r in self.rows for c in r.conditions)
        self.first: Callable[[Facts], Row | None] = self._index_first
        self._near: tuple[tuple[Row, ...], list[Mask]] | None = None

    def _index_first(self, facts: Facts) -> Row | None:
        """Make the index when the first packet comes; later ones ask it straight."""
        self.first = first_of([r for r in self.rows if not r.disabled and r.verdict is not Verdict.NOTE])
        return self.first(facts)

    def row(self, id: str) -> Row | None:
        """A row by its id."""
        return next((r for r in self.rows if r.id == id), None)

    def above(self, facts: Facts) -> Iterator[Row]:
        """The rows above the one that decides; all of them when none does."""
        winner = self.first(facts)
        for row in self.rows:
            if row is winner:
                return
            yield row

    def passed_over(self, facts: Facts) -> list[tuple[Row, Miss]]:
        """The rows above the decision that are not met, each with its first unmet condition."""
        found = ((row, next(row.misses(facts), None)) for row in self.above(facts))
        return [(row, miss) for row, miss in found if miss is not None]

    def noted(self, facts: Facts) -> list[Row]:
        """The ``note`` rows that were met on the way to the decision."""
        return [r for r in self.above(facts) if r.verdict is Verdict.NOTE and next(r.misses(facts), None) is None]

    def near(self, facts: Facts, most: int = 4) -> list[Near]:
        """The permits that the packet misses by one condition, or by two where none misses by one; in their order.

        Two conditions about one field count as one: ``tcp/22`` for a packet to ``udp/22`` is wrong in one respect.
        """
        rows, masks = self._permits()
        disabled = sum(1 << n for n, r in enumerate(rows) if r.disabled)
        one, two, three = disabled, 0, 0
        everything = (1 << len(rows)) - 1
        for mask in masks:
            unmet = everything & ~mask(facts)
            three |= two & unmet
            two |= one & unmet
            one |= unmet
        for wanted in (one & ~two, two & ~three):
            found = [Near(r, tuple(_by_field(r.misses(facts)))) for r in _rows_in(rows, wanted, most)]
            if found:
                return found
        return []

    def later_permit(self, facts: Facts) -> Row | None:
        """The first permit below the row that decides which the packet meets too; None when there is none."""
        winner = self.first(facts)
        if winner is None:
            return None
        below = self.rows[self.rows.index(winner) + 1 :]
        return next((r for r in below if r.verdict is Verdict.PERMIT and next(r.misses(facts), None) is None), None)

    def _permits(self) -> tuple[tuple[Row, ...], list[Mask]]:
        """True when a match lets packets pass."""
        if self._near is None:
            rows = tuple(r for r in self.rows if r.verdict in (Verdict.PERMIT, None))
            self._near = rows, columns(rows)
        return self._near


def _rows_in(rows: Sequence[Row], mask: int, most: int) -> list[Row]:
    """The first rows of a mask, at most so many."""
    out: list[Row] = []
    while mask and len(out) < most:
        lowest = mask & -mask
        out.append(rows[lowest.bit_length() - 1])
        mask ^= lowest
    return out


def _by_field(misses: Iterable[Miss]) -> list[Miss]:
    """One miss for each field; where protocol and service are both unmet, the service says more."""
    found: dict[tuple[str, ...], Miss] = {}
    for miss in misses:
        found[miss.condition.fields if miss.condition else ()] = miss
    return list(found.values())


def list_table(source: AccessList, reader: Reader) -> Table:
    """An access list as one device reads it."""
    rows = (
        Row(r.id, conditions_of(r, reader), r.mark, r.verdict, disabled=r.disabled, log=r.log, about=r.about, answer=r.answer)
        for r in source.rules
    )
    return Table(f"list {source.name}", rows, source.mark, source.name, source.about)
