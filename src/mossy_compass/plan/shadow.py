"""Which rules of a list can never decide, since the rules above them take every packet that they would match.

Exact: what a rule matches is a box of sets over fields, and what is above it is taken out of that box piece by piece.
When nothing is left the rule is shadowed, and the rules that took something are named. The work is bounded; a rule that
needs more is not told of, which is the safe side.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from mossy_compass.headers.spans import complement, intersect, merge
from mossy_compass.model.network import AccessList, Verdict
from mossy_compass.packet.address import LAST_KEY, Span, Spans
from mossy_compass.plan.conditions import Reader
from mossy_compass.plan.fields import FIELDS, SLOT_BITS, SetKind
from mossy_compass.plan.table import Row, list_table

MOST_ROWS = 300
"""Longer lists are not looked through here."""
MOST_STEPS = 100_000
"""So many comparisons of two boxes are made for one list."""
ANY_NAME = frozenset(("*",))
"""Stands, in a set of names, for every name that no rule of the list says."""

_LAST = {"service": (256 << SLOT_BITS) - 1, "from-port": 65535, "ttl": 255}
Box = dict[str, Any]
"""Sets by the names of their fields; a field that is not there may have any value."""


class Shadow(NamedTuple):
    """A rule that can never decide.

    Attributes:
        row: the rule.
        by: the rules above it that take its packets, in their order.

    """

    row: Row
    by: tuple[Row, ...]


def shadowed(source: AccessList, own: Spans = ()) -> Iterator[Shadow]:
    """Every rule of a list that the rules above it leave nothing.

    Args:
        source: the list.
        own: what ``self`` means where it is read.

    """
    if len(source.rules) > MOST_ROWS:
        return
    rows = [r for r in list_table(source, Reader(own)).rows if not r.disabled]
    boxes = [(row, box) for row in rows if (box := _box(row)) is not None]
    budget = Budget(MOST_STEPS)
    for number, (row, box) in enumerate(boxes):
        above = [(r, b) for r, b in boxes[:number] if r.verdict is not Verdict.NOTE and budget.meets(box, b)]
        by = _taken(box, above, budget)
        if by is not None:
            yield Shadow(row, tuple(r for r, _ in above if r.id in by))


class Budget:
    """The steps that may still be made; with none left, nothing more is claimed."""

    __slots__ = ("left",)

    def __init__(self, left: int) -> None:
        self.left = left

    def meets(self, one: Box, other: Box) -> bool:
        """True when two boxes have a packet in common; it costs a step."""
        self.left -= 1
        return self.left > 0 and all(_both(name, one[name], values) for name, values in other.items() if name in one)


def _box(row: Row) -> Box | None:
    """The sets of a row; None for one with a mask, which is no run of addresses, so that nothing is said of it."""
    out: Box = {}
    for condition in row.conditions:
        if len(condition.parts) > 1:
            return None
        name, values = condition.parts[0]
        out[name] = _both(name, out[name], values) if name in out else values
    return out


def _both(name: str, one: Any, other: Any) -> Any:
    """The packets that two sets of one field have in common; None when there are none."""
    return intersect(one, other) if FIELDS[name].kind is SetKind.INTERVALS else one & other


def _without(name: str, one: Any, other: Any) -> Any:
    """What is in a set and not in another; None for ``one`` is everything."""
    if FIELDS[name].kind is SetKind.INTERVALS:
        last = _LAST.get(name, LAST_KEY)
        whole: Spans = (Span(0, last),) if one is None else one
        # absence (-1) is part of everything, and of no set that a rule can say
        start: Spans = (Span(-1, -1),) if one is None and name == "from-port" else ()
        return merge((*start, *intersect(whole, complement(other, last))))
    if name == "opens":
        return (frozenset((True, False)) if one is None else one) - other
    return (ANY_NAME if one is None else one) - other if one is not None else ANY_NAME


def _taken(box: Box, above: Sequence[tuple[Row, Box]], budget: Budget) -> set[str] | None:
    """The ids of the rows that take a box whole; None where something is left, or the work is too much."""
    pieces: list[tuple[Box, int]] = [(box, 0)]
    used: set[str] = set()
    while pieces:
        piece, start = pieces.pop()
        number = next((n for n in range(start, len(above)) if budget.meets(piece, above[n][1])), None)
        if number is None or budget.left <= 0:
            return None
        used.add(above[number][0].id)
        pieces += [(rest, number + 1) for rest in _rests(piece, above[number][1])]
    return used


def _rests(piece: Box, other: Box) -> Iterator[Box]:
    """A piece without another box, as pieces that do not overlap: field by field."""
    inside = dict(piece)
    for name, values in other.items():
        outside = _without(name, piece.get(name), values)
        if outside:
            yield {**inside, name: outside}
        inside[name] = _both(name, piece[name], values) if name in piece else values
