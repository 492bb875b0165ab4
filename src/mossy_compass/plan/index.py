"""The first row that a packet meets.

A packet's integers of all fields are ANDed; of the bits that are left the first row's decides. Long lists are divided: most
rows name one host or a small net, and of those only the few that stand at the packet's address are tried, one by one. What
is left (rows about wide or crowded ranges, or about any address) is short, and so are its integers.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import NamedTuple

from mossy_compass.packet.address import V6_BASE, Span, Spans
from mossy_compass.packet.service import WITH_PORTS
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.fields import SLOT_BITS, service_key
from mossy_compass.plan.rows import Mask, Row, Runs, column, runs, single

_EVERYTHING: Runs = ([-1], [-1])
"""The runs of a field that no row asks about: one, in which all rows hold (-1 has every bit)."""
_INLINE = ("service", "source", "destination")
"""The fields that almost every rule asks about. They are read in place: a call for each would cost more than the look-up."""
_LONG = 512
"""Rows from which on a list is divided: shorter integers cost less than a second look."""
_MOST_RUNS = 8
"""A row about more runs of addresses than these, such as one that names a large group, stands nowhere."""
_MOST_PLACES = 256
"""So many places a row may stand at. A wide range lies over very many, and would have to be kept at each."""
_MOST_THERE = 12
"""So many rows may stand at one place: each is tried for every packet that comes there."""
_HIGHEST = 1 << 200
"""Beyond every service and every address."""


def first_of(rows: Sequence[Row]) -> Callable[[Facts], Row | None]:
    """The function that finds the first row that a packet meets, made for the fields that these rows ask about."""
    if not rows:
        return lambda facts: None
    if len(rows) < _LONG:
        return _together(rows)
    # The side on which more rows stand somewhere; the other is looked at only where the first leaves many over.
    best = places(rows, "source")
    if len(best.held) < len(rows) * 3 // 4:
        best = max(best, places(rows, "destination"), key=lambda p: len(p.held))
    return divided(rows, best) if len(best.held) > len(rows) // 2 else _together(rows)


class _One(NamedTuple):
    """A row that stands at some places of one side, and what remains to be asked there.

    Attributes:
        number: its place in the list.
        first, last: around the services that it wants.
        exact: what lies within is what it wants; otherwise its conditions are asked.
        row: itself.

    """

    number: int
    first: int
    last: int
    exact: bool
    row: Row


_Here = tuple[list[int], list[tuple[_One, ...]]]
"""The rows of a place, by the address of the other side: where a run of it begins, and the rows that hold there."""


class Places(NamedTuple):
    """Where the rows about hosts and small nets stand on the line of addresses of one side.

    Attributes:
        side: the field.
        ends: where a place begins.
        there: the numbers of the rows of each place.
        held: those of all that stand somewhere.

    """

    side: str
    ends: list[int]
    there: list[list[int]]
    held: set[int]


def places(rows: Sequence[Row], side: str) -> Places:
    """Give the rows their places on one side, the narrowest first; a place that has many already takes no more.

    Args:
        rows: in their order.
        side: ``source`` or ``destination``.

    """
    narrow = {n: s for n, s in enumerate(single(rows, side)) if s is not None and len(s) <= _MOST_RUNS}
    ends = _ends(narrow.values())
    there: list[list[int]] = [[] for _ in ends]
    held = set()
    for number in sorted(narrow, key=lambda n: sum(last - first for first, last in narrow[n])):
        mine = [there[p] for p in _crossed(narrow[number], ends)]
        if len(mine) <= _MOST_PLACES and all(len(p) < _MOST_THERE for p in mine):
            held.add(number)
            for place in mine:
                place.append(number)
    return Places(side, ends, there, held)


def _ends(some: Iterable[Spans]) -> list[int]:
    """Where a run begins or is over; the line itself begins at -1."""
    return sorted({-1, *(e for spans in some for first, last in spans for e in (first, last + 1))})


def _crossed(spans: Spans, ends: Sequence[int]) -> list[int]:
    """The places that some runs lie over: all of them, or one more than a row may have."""
    found: list[int] = []
    for first, last in spans:
        at = bisect_left(ends, first)
        found += range(at, min(bisect_left(ends, last + 1), at + _MOST_PLACES + 1))
    return found


def _ones(rows: Sequence[Row], held: set[int]) -> dict[int, _One]:
    """What remains to be asked of each row that stands somewhere, once both addresses are known to be its own."""
    found = {}
    known = {(name,) for name in _INLINE}
    for number, services in enumerate(single(rows, "service")):
        if number in held:
            exact = all(c.fields in known for c in rows[number].conditions) and (services is None or len(services) == 1)
            found[number] = _One(number, *_around(services), exact, rows[number])
    return found


def _around(spans: Spans | None) -> Span:
    """The least run that holds all of some; one that holds nothing around none, and everything for None."""
    if spans is None:
        return Span(0, _HIGHEST)
    return Span(spans[0].first, spans[-1].last) if spans else Span(0, -1)


def _here(numbers: Sequence[int], far: Sequence[Spans | None], ones: Mapping[int, _One]) -> _Here:
    """The rows of a place, in their order, by the other side's address."""
    starts, masks = runs([far[n] for n in numbers])
    return starts, [tuple(ones[n] for bit, n in enumerate(numbers) if mask >> bit & 1) for mask in masks]


def _grounds(rows: Sequence[Row], stood: Places, far: str) -> list[_Here]:
    """What stands at each place; places where the same rows stand share it."""
    ones, wanted = _ones(rows, stood.held), single(rows, far)
    known: dict[tuple[int, ...], _Here] = {}
    out = []
    for place in stood.there:
        numbers = tuple(sorted(place))
        if numbers not in known:
            known[numbers] = _here(numbers, wanted, ones)
        out.append(known[numbers])
    return out


def divided(rows: Sequence[Row], stood: Places) -> Callable[[Facts], Row | None]:
    """The function for a long list: the few rows at the packet's address one by one, the rest together.

    Args:
        rows: in their order.
        stood: where they stand on one side.

    """
    by_source = stood.side == "source"
    ends, there = stood.ends, _grounds(rows, stood, "destination" if by_source else "source")
    rest = first_of([row for number, row in enumerate(rows) if number not in stood.held])
    number_of = {id(row): number for number, row in reversed(list(enumerate(rows)))}

    def first(facts: Facts) -> Row | None:
        """The row that decides; None when no row holds."""
        packet = facts.packet
        # What is asked together comes first, though it is rarely the answer: its number bounds what else may decide.
        wide = rest(facts)
        (family, value), (other_family, other) = (packet[1], packet[2]) if by_source else (packet[2], packet[1])
        starts, here = there[bisect_right(ends, value if family == 4 else value + V6_BASE) - 1]
        found = here[bisect_right(starts, other if other_family == 4 else other + V6_BASE) - 1]
        one = _met(found, facts) if found else None
        if one is None:
            return wide
        return one.row if wide is None or one.number < number_of[id(wide)] else wide

    return first


def _met(found: Sequence[_One], facts: Facts) -> _One | None:
    """The first of some rows that a packet meets, of those whose addresses are its own."""
    service = service_key(facts.packet)
    for one in found:
        _, least, most, exact, row = one
        if least <= service <= most and (exact or all(c.holds(facts) for c in row.conditions)):
            return one
    return None


def _together(rows: Sequence[Row]) -> Callable[[Facts], Row | None]:
    """The function that asks all rows at once."""
    # The last row gets the lowest bit, so that the first one which holds is the highest bit of what is left: that is told by
    # the number's length, without another number as long as the list.
    rows = rows[::-1]
    asked = dict.fromkeys(c.fields for r in rows for c in r.conditions)
    inline = [runs(single(rows, name)) if (name,) in asked else _EVERYTHING for name in _INLINE]
    others = [column(rows, fields) for fields in asked if fields not in {(n,) for n in _INLINE}]
    if inline[0] is not _EVERYTHING or others:
        return _by_all(tuple(rows), inline, tuple(others))
    if inline[1] is inline[2] is _EVERYTHING:  # rows without a condition: the first decides
        return lambda facts: rows[-1]
    return _by_ends(tuple(rows), *inline[1:])


def _by_all(rows: tuple[Row, ...], inline: Sequence[Runs], others: tuple[Mask, ...]) -> Callable[[Facts], Row | None]:
    """The function that gives the first row, of rows from the last to the first, whatever they ask for."""
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

    return first


def _by_ends(rows: tuple[Row, ...], sources: Runs, destinations: Runs) -> Callable[[Facts], Row | None]:
    """The same for rows that ask for addresses alone: most of a device's own small tables."""
    (by_source, source_rows), (by_destination, destination_rows) = sources, destinations

    def first(facts: Facts) -> Row | None:
        """The row that decides; None when no row holds."""
        packet = facts.packet
        family, value = packet[1]
        left = source_rows[bisect_right(by_source, value if family == 4 else value + V6_BASE) - 1]
        family, value = packet[2]
        left &= destination_rows[bisect_right(by_destination, value if family == 4 else value + V6_BASE) - 1]
        return rows[left.bit_length() - 1] if left else None

    return first
