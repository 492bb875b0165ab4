"""Rows in order: the first that a packet meets decides, and why the others did not."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple

from mossy_compass.marks import NOWHERE, Mark
from mossy_compass.model.network import AccessList, Verdict
from mossy_compass.plan.conditions import Miss, Reader, conditions_of
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.first import first_of
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
