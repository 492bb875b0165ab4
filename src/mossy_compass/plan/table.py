"""Rows in order: the first that a packet meets decides, and why the others did not."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple

from mossy_compass.marks import NOWHERE, Mark
from mossy_compass.model.network import AccessList, Verdict
from mossy_compass.plan.actions import Decide
from mossy_compass.plan.conditions import Miss, Reader, conditions_of
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.ids import TableId, list_id
from mossy_compass.plan.index import first_of
from mossy_compass.plan.rows import Mask, Row, columns


class Near(NamedTuple):
    """A row that a packet misses by a condition or two.

    Attributes:
        row: the row that nearly matched.
        misses: the conditions that the packet does not meet, one or two.

    """

    row: Row
    misses: tuple[Miss, ...]


class Table:
    """Rows in order; the first that a packet meets decides.

    Attributes:
        id: what rulings cite it by.
        name: as people call it.
        mark, about: where it is written, and what for.
        rows: all of them, disabled ones and notes too.
        asks_application: some row asks for the flow's application, which may not be known yet.
        logs: some row writes log lines.
        notes: the rows that take note of packets and go on.
        first: takes facts and gives the row that decides, or None. Disabled rows and notes never decide.
        decide: what a step makes of it (``plan/decide.py``), once one has; steps at several interfaces share it.

    """

    __slots__ = (
        "_asking",
        "_near",
        "_numbers",
        "about",
        "asks_application",
        "decide",
        "first",
        "id",
        "logs",
        "mark",
        "name",
        "notes",
        "rows",
    )

    def __init__(self, id: TableId, rows: Iterable[Row], mark: Mark = NOWHERE, name: str = "", about: str = "") -> None:
        self.id = id
        self.about = about
        self.name = name or str(id)
        self.mark = mark
        self.rows = tuple(rows)
        self.asks_application = any(c.key == "application" for r in self.rows for c in r.conditions)
        self.logs = any(r.log for r in self.rows)
        self.notes = tuple(r for r in self.rows if r.verdict is Verdict.NOTE and not r.disabled)
        self.first: Callable[[Facts], Row | None] = self._index_first
        self.decide: Decide | None = None
        self._near: _Permits | None = None
        self._numbers: dict[int, int] | None = None
        self._asking: dict[str, tuple[Row, ...]] = {}

    def _index_first(self, facts: Facts) -> Row | None:
        """Make the index when the first packet comes; later ones ask it straight."""
        self.first = first_of([r for r in self.rows if not r.disabled and r.verdict is not Verdict.NOTE])
        return self.first(facts)

    def row(self, id: str) -> Row | None:
        """A row by its id."""
        return next((r for r in self.rows if r.id == id), None)

    def number(self, row: Row | None) -> int:
        """A row's place in the table, from 0; the number of rows for none."""
        if self._numbers is None:
            self._numbers = {id(r): n for n, r in reversed(list(enumerate(self.rows)))}
        return len(self.rows) if row is None else self._numbers[id(row)]

    def above(self, facts: Facts) -> Iterator[Row]:
        """The rows above the one that decides; all of them when none does."""
        return itertools.islice(self.rows, self.number(self.first(facts)))

    def above_asking(self, facts: Facts, key: str) -> Iterator[Row]:
        """Those of them that ask for something, without a look at the others: a list may be long.

        Args:
            facts: of a packet.
            key: of a condition.

        """
        if key not in self._asking:
            self._asking[key] = tuple(r for r in self.rows if any(c.key == key for c in r.conditions))
        return self._before(self._asking[key], facts)

    def _before(self, rows: Sequence[Row], facts: Facts) -> Iterator[Row]:
        """Those of some rows that stand above the one that decides."""
        end = self.number(self.first(facts)) if rows else 0
        return itertools.takewhile(lambda row: self.number(row) < end, rows)

    def passed_over(self, facts: Facts) -> list[tuple[Row, Miss]]:
        """The rows above the decision that are not met, each with its first unmet condition."""
        found = ((row, next(row.misses(facts), None)) for row in self.above(facts))
        return [(row, miss) for row, miss in found if miss is not None]

    def noted(self, facts: Facts) -> list[Row]:
        """The ``note`` rows that were met on the way to the decision."""
        return [r for r in self._before(self.notes, facts) if next(r.misses(facts), None) is None]

    def near(self, facts: Facts, most: int = 4) -> list[Near]:
        """The permits that the packet misses by one condition, or by two where none misses by one; in their order.

        Two conditions about one field count as one: ``tcp/22`` for a packet to ``udp/22`` is wrong in one respect.
        """
        permits = self._permits()
        if permits.masks is None:
            return _scanned(permits.rows, facts, most)
        # Bits of the rows that are missed at least once, twice, three times: a column more moves some of them on by one.
        one, two, three = permits.disabled, 0, 0
        everything = (1 << len(permits.rows)) - 1
        for mask in permits.masks:
            unmet = everything & ~mask(facts)
            three |= two & unmet
            two |= one & unmet
            one |= unmet
        for wanted in (one & ~two, two & ~three):
            found = [Near(r, tuple(_by_field(r.misses(facts)))) for r in _rows_in(permits.rows, wanted, most)]
            if found:
                return found
        return []

    def later_permit(self, facts: Facts) -> Row | None:
        """The first permit below the row that decides which the packet meets too; None when there is none."""
        winner = self.first(facts)
        if winner is None:
            return None
        permits, after = self._permits(), self.number(winner)
        if permits.masks is None:
            below = (r for r in permits.rows if self.number(r) > after and r.verdict is Verdict.PERMIT)
            return next((r for r in below if next(r.misses(facts), None) is None), None)
        # All permits that the packet meets, and of those the first one below; most often there are few.
        met = ((1 << len(permits.rows)) - 1) & ~permits.disabled
        for mask in permits.masks:
            met &= mask(facts)
        while met:
            lowest = met & -met
            row = permits.rows[lowest.bit_length() - 1]
            if self.number(row) > after and row.verdict is Verdict.PERMIT:
                return row
            met ^= lowest
        return None

    def _permits(self) -> _Permits:
        """The rows that let packets pass, with the index of each of their fields."""
        if self._near is None:
            rows = tuple(r for r in self.rows if r.verdict in (Verdict.PERMIT, None))
            masks = columns(rows) if len(rows) <= MOST_INDEXED else None
            self._near = _Permits(rows, masks, sum(1 << n for n, r in enumerate(rows) if r.disabled) if masks else 0)
        return self._near


class _Permits(NamedTuple):
    """Rows that let packets pass.

    Attributes:
        rows: in their order.
        masks: the index of each field that they ask about; None for so many rows that it would take more than it saves.
        disabled: those that are passed over, a bit a row.

    """

    rows: tuple[Row, ...]
    masks: list[Mask] | None
    disabled: int


MOST_INDEXED = 12_000
"""An index of so many permits takes some 30 MB, and of ten times as many a hundred times that: then they are gone through."""


def _scanned(rows: Iterable[Row], facts: Facts, most: int) -> list[Near]:
    """The rows that a packet misses by one condition, or by two where none misses by one, gone through one by one."""
    found: dict[int, list[Near]] = {1: [], 2: []}
    for row in rows:
        misses = tuple(_by_field(row.misses(facts)))
        if len(misses) in found and len(found[len(misses)]) < most:
            found[len(misses)].append(Near(row, misses))
        if len(found[1]) == most:
            break
    return found[1] or found[2]


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
        Row(
            r.id,
            conditions_of(r, reader),
            r.mark,
            r.verdict,
            disabled=r.disabled,
            log=r.log,
            about=r.about,
            answer=r.answer,
            translates=r.translates,
            uplink=r.uplink,
        )
        for r in source.rules
    )
    return Table(list_id(source.name), rows, source.mark, source.name, source.about)
