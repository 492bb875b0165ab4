"""Rows, and the index of each field that they ask about.

For each field the values are cut into runs, and each run has a Python integer with one bit a row: the rows that hold there.
Rows with equal sets are flipped together, so a table of many groups costs what its different sets cost.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from mossy_compass.headers.spans import intersect
from mossy_compass.marks import NOWHERE, Mark
from mossy_compass.model.network import Verdict
from mossy_compass.packet.address import V6_BASE, Masked, Spans
from mossy_compass.plan.actions import Action
from mossy_compass.plan.conditions import Condition, Miss
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.fields import FIELDS, SetKind
from mossy_compass.plan.ids import TableId
from mossy_compass.plan.reasons import Because, Did


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
        uplink: for a row of a list that permits, by which uplink what it lets pass leaves; empty for as routes say.
        translates: for a row of a list that permits, a switch: the source of what it lets pass is translated.
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
    translates: bool = False
    uplink: str = ""
    because: Because | None = field(default=None, compare=False)
    built_in: bool = False

    @property
    def outcome(self) -> tuple[Verdict, str]:
        """What a rule of a list comes to: its verdict, with what a reject answers, or what else a permit does."""
        assert self.verdict is not None  # it is a rule of a list
        more = [*(["translate"] if self.translates else []), *([f"uplink {self.uplink}"] if self.uplink else [])]
        return self.verdict, ", ".join(more) or self.answer

    def misses(self, facts: Facts) -> Iterator[Miss]:
        """Every condition that the packet does not meet, one for each field, in the order in which a reader checks them."""
        if self.disabled:
            yield Miss("disabled")
        for condition in self.conditions:
            if not condition.holds(facts):
                yield Miss(condition.key, condition, FIELDS[condition.fields[0]].read(facts))


@dataclass(frozen=True, slots=True)
class StageRow(Row):
    """A row of a stage's own table, which says itself what follows and what is told of it.

    Attributes:
        did: what a ruling by it is called; None: what its last action is called.
        note: a remark for the ruling.
        tell: takes the facts and gives reason and remark, where those depend on the packet.
        cites: table and row that the ruling names, where those are not this table and this row.
        profile: name of the profile whose lists it asks; empty for the common ones.

    """

    did: Did | None = None
    note: Because | None = field(default=None, compare=False)
    tell: Callable[[Facts], tuple[Because, Because | None]] | None = field(default=None, compare=False)
    cites: tuple[TableId, str] | None = None
    profile: str = ""


Mask = Callable[[Facts], int]
"""The rows that hold for a packet in one respect, a bit a row."""
Runs = tuple[list[int], list[int]]
"""Where the runs of a field begin, and the rows that hold from each such place on, a bit a row."""


def runs(sets: Sequence[Spans | None]) -> Runs:
    """Where the rows' sets begin and end, and the rows that hold from each such place on. None holds everywhere."""
    # Rows that want the same set are one entry here, so that a group in a thousand rules is cut into runs once.
    bits: dict[Spans | None, int] = {}
    for number, spans in enumerate(sets):
        bits[spans] = bits.get(spans, 0) | 1 << number
    everywhere = bits.pop(None, 0)
    # At either end of a run its rows begin or cease to hold: from left to right, a mask is the one before with those turned.
    flips: dict[int, int] = {-1: 0}
    for spans, rows in bits.items():
        for first, last in spans or ():
            flips[first] = flips.get(first, 0) ^ rows
            flips[last + 1] = flips.get(last + 1, 0) ^ rows
    starts = sorted(flips)
    # Equal masks are one object: between two rules about one net there are many runs in which the same rows hold.
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


def single(rows: Sequence[Row], name: str) -> list[Any]:
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


def columns(rows: Sequence[Row]) -> list[Mask]:
    """One function for each field, or pair of fields, that some row asks about: it gives the rows that hold there."""
    asked = dict.fromkeys(c.fields for r in rows for c in r.conditions)
    return [column(rows, fields) for fields in asked]


def column(rows: Sequence[Row], fields: tuple[str, ...]) -> Mask:
    """The index of one field, or of a pair of fields of which either may hold."""
    return _mask(fields[0], single(rows, fields[0])) if len(fields) == 1 else _union_mask(rows, fields)
