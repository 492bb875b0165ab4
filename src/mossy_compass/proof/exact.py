"""What follows for a list from the exact sets of its rows: which rules never decide, could go, or cross one another."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from mossy_compass.errors import TooLarge
from mossy_compass.headers.sets import Set
from mossy_compass.headers.spans import intersect, merge
from mossy_compass.model.network import Verdict
from mossy_compass.packet.address import Spans
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.ids import list_id
from mossy_compass.plan.rows import Row, runs
from mossy_compass.proof.likely import Ends, Witness
from mossy_compass.proof.space import Space, Vocabulary, with_room


class Shadow(NamedTuple):
    """A rule that can never decide, since rules above it take every packet that it is about.

    Attributes:
        row: the rule.
        by: the rules that take its packets; one, if one alone takes them all.
        but_for: the rules of which one alone stands in its way: without it the rule would be reached.
        witness: a packet that it is about.
        before: the rules of lists asked before this one that take packets of it, each with its list's name; empty where
            the rules above it in its own list take all of it.

    """

    row: Row
    by: tuple[Row, ...]
    but_for: tuple[Row, ...]
    witness: Witness | None
    before: tuple[tuple[str, Row], ...] = ()


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
    witnesses: tuple[Witness, ...]
    more: int


class Exact(NamedTuple):
    """What exact sets say of a list.

    Attributes:
        never: rules that no packet meets at all.
        shadowed: rules that never decide.
        redundant: rules that could go without any packet's fate changing, all of them together. With a packet, but for the last
            of very many.
        overlaps: rules with the opposite verdict that share packets, where neither is an exception of the other.

    """

    never: tuple[Row, ...]
    shadowed: tuple[Shadow, ...]
    redundant: tuple[tuple[Row, Witness | None], ...]
    overlaps: tuple[Overlap, ...]

    @property
    def idle(self) -> list[str]:
        """The ids of the rules that decide nothing."""
        return [*(r.id for r in self.never), *(s.row.id for s in self.shadowed)]


Outcome = tuple[Verdict, str]
"""What a rule comes to for the packet, as ``Row.outcome`` says."""
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


class Around(NamedTuple):
    """What is asked around the rows of a list at a place.

    Attributes:
        end: what happens to packets that no rule there decides.
        below: the rows of the lists that are asked next, list by list.
        above: the lists that are asked before, each with its name and rows: what they decide never comes to this one.
        going: rows that are in none of these, for they are to go; as long as they are there, they stand below.

    """

    end: Verdict = Verdict.DENY
    below: tuple[Sequence[Row], ...] = ()
    above: tuple[tuple[str, Sequence[Row]], ...] = ()
    going: tuple[Row, ...] = ()


DENIED = Around()


def examine(
    rows: Sequence[Row], after: Sequence[Around] = (DENIED,), vocabulary: Vocabulary | None = None, hosts: Ends | None = None
) -> Exact:
    """What exact sets say of the rows of a list, in their order.

    Args:
        rows: disabled ones are passed over.
        after: what is asked around them, at each place where the list stands; what never decides does so at none of them, and
            a rule that could go could go at all.
        vocabulary: windows and applications of the network.
        hosts: addresses that examples prefer.

    Raises:
        TooLarge: the sets need more memory than is given to them.

    """
    acting = [r for r in rows if not r.disabled]
    try:
        others = (some for a in after for some in (*a.below, *(rows for _, rows in a.above)))
        every = [*acting, *(r for some in others for r in some)]
        return with_room(lambda room: _examine(acting, after, Space(every, vocabulary, room), hosts, len(rows) - len(acting)))
    except TooLarge:
        raise TooLarge("the exact sets of this list need more memory than is given to them.") from None


def spared(
    rows: Sequence[Row], after: Sequence[Around], vocabulary: Vocabulary | None = None, hosts: Ends | None = None
) -> tuple[tuple[Row, Witness | None], ...]:
    """The rules of a list that could go, as ``examine`` says it: for a list among others of which some rules are to go already.

    Args:
        rows, after, vocabulary, hosts: as for ``examine``; what is to go is left out of what is asked around the list.

    Raises:
        TooLarge: the sets need more memory than is given to them.

    """
    acting = [r for r in rows if not r.disabled]

    def found(room: int) -> tuple[tuple[Row, Witness | None], ...]:
        """The same in a space of sets."""
        others = (some for a in after for some in (*a.below, *(rows for _, rows in a.above), a.going))
        space = Space([*acting, *(r for some in others for r in some)], vocabulary, room)
        meant = [space.of_row(r) for r in acting]
        listed = _Listed(space, acting, meant, effective(space, acting, meant), _Boxes(acting), hosts)
        return tuple(_redundant(listed, after, [_reached(space, place) for place in after], len(rows) - len(acting)))

    return with_room(found)


def shadows(rows: Sequence[Row], vocabulary: Vocabulary | None = None, hosts: Ends | None = None) -> tuple[Shadow, ...]:
    """The rows of a table that never decide, since those above take every packet that they are about.

    Args:
        rows: disabled ones are passed over. Each must decide whatever it is about.
        vocabulary, hosts: as for ``examine``.

    Raises:
        TooLarge: the sets need more memory than is given to them.

    """
    acting = [r for r in rows if not r.disabled]

    def found(room: int) -> tuple[Shadow, ...]:
        """The same in a space of sets."""
        space = Space(acting, vocabulary, room)
        meant = [space.of_row(r) for r in acting]
        listed = _Listed(space, acting, meant, effective(space, acting, meant), _Boxes(acting), hosts)
        idle = [n for n in range(len(acting)) if meant[n].satisfiable() and not listed.decided[n].satisfiable()]
        return tuple(_shadow(listed, n) for n in idle)

    return with_room(found)


MOST_PAIRS = 2_000_000
"""So many pairs of rules are compared without sets; in a longer list only rules with the same conditions are found."""


def plainly_shadowed(rows: Sequence[Row]) -> tuple[Shadow, ...]:
    """The rows that never decide since one row above takes all of each, as far as one condition after another shows it.

    For lists whose sets are too large, or that are too long for sets: less is found than ``examine`` would, nothing wrongly.

    Args:
        rows: disabled ones are passed over.

    """
    acting = [r for r in rows if not r.disabled and r.verdict is not Verdict.NOTE]
    compared = len(acting) ** 2 // 2 <= MOST_PAIRS
    first: dict[object, Row] = {}
    found = []
    for n, row in enumerate(acting):
        # The same conditions in another order are the same rule.
        taker = first.setdefault(frozenset(row.conditions), row)
        if taker is row and compared:
            taker = next((other for other in acting[:n] if _holds(other, row)), row)
        if taker is not row:
            found.append(Shadow(row, (taker,), (), None))
    return tuple(found)


def _holds(upper: Row, lower: Row) -> bool:
    """Whether each condition of one row leaves in all that a condition of another one does."""
    return all(any(c == d or _wider(c, d) for d in lower.conditions) for c in upper.conditions)


def _wider(one: Condition, other: Condition) -> bool:
    """Whether a condition on one field of numbers leaves in all that another one on the same field does."""
    if len(one.parts) != 1 or len(other.parts) != 1 or one.fields != other.fields:
        return False
    field = one.fields[0]
    if field not in ("service", "source", "destination", "from-port"):
        return False  # of other kinds only equal ones are compared
    return set(intersect(one.parts[0][1], other.parts[0][1])) == set(merge(other.parts[0][1]))


def _examine(rows: Sequence[Row], after: Sequence[Around], space: Space, hosts: Ends | None, kept: int) -> Exact:
    """The same in a space of sets."""
    meant = [space.of_row(r) for r in rows]
    listed = _Listed(space, rows, meant, effective(space, rows, meant), _Boxes(rows), hosts)
    acting = [n for n, r in enumerate(rows) if r.verdict is not Verdict.NOTE]
    never = [n for n in acting if not meant[n].satisfiable()]
    reached = [_reached(space, place) for place in after or (DENIED,)]
    anywhere = None if any(r is None for r in reached) else space.union(r for r in reached if r is not None)
    shadowed = [n for n in acting if meant[n].satisfiable() and not _within(listed.decided[n], anywhere).satisfiable()]
    return Exact(
        tuple(rows[n] for n in never),
        tuple(_shadow(listed, n, after) if k < MOST_EXPLAINED else Shadow(rows[n], (), (), None) for k, n in enumerate(shadowed)),
        tuple(_redundant(listed, after, reached, kept)),
        tuple(_overlaps(listed, anywhere)),
    )


def _within(mine: Set, came: Set | None) -> Set:
    """The part of a set that comes to a place; all of it where nothing is known to be taken before."""
    return mine if came is None else mine & came


def _reached(space: Space, place: Around) -> Set | None:
    """The packets that come to a list at a place: those that the lists before it leave undecided or hand on; None for all."""
    if not place.above:
        return None
    taken = (mine for _, rows in place.above for _, mine in _deciding(space, rows))
    return space.possible & ~space.union(taken)


def _deciding(space: Space, rows: Sequence[Row]) -> Iterator[tuple[Row, Set]]:
    """The rows of a list after which no further list is asked, each with the packets that it decides."""
    final = (Verdict.PERMIT, Verdict.DENY, Verdict.REJECT)
    return ((r, mine) for r, mine in zip(rows, effective(space, rows), strict=True) if r.verdict in final)


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


def _shadow(listed: _Listed, number: int, after: Sequence[Around] = ()) -> Shadow:
    """Which rules stand in the way of one, and whether one alone does."""
    if listed.decided[number].satisfiable():
        return _taken_before(listed, number, after)
    rows, meant, decided, boxes = listed[1:5]
    mine = meant[number]
    # Most rows of a long list have nothing in common with this one, and a look at their boxes is cheaper than at their sets.
    above = [n for n in boxes.meeting(number, (1 << number) - 1) if rows[n].verdict is not Verdict.NOTE]
    takers = [n for n in above if (mine & decided[n]).satisfiable()]
    alone = next((n for n in takers if not (mine & ~meant[n]).satisfiable()), None)
    named = takers if len(takers) <= MOST_NAMED else []
    but_for = [rows[t] for t in named if _without(mine & meant[t], [meant[n] for n in above if n != t]).satisfiable()]
    by = (rows[alone],) if alone is not None else tuple(rows[n] for n in takers)
    return Shadow(rows[number], by, tuple(but_for), _example(listed, mine, (rows[n] for n in takers)))


def _taken_before(listed: _Listed, number: int, after: Sequence[Around]) -> Shadow:
    """Which rules of the lists before take what the rules above in its own list leave to a rule."""
    left = listed.decided[number]
    lists = {name: rows for place in after for name, rows in place.above}
    takers = [(name, row, mine) for name, rows in lists.items() for row, mine in _deciding(listed.space, rows)]
    takers = [(name, row, mine) for name, row, mine in takers if (left & mine).satisfiable()]
    alone = next(((name, row) for name, row, mine in takers if not (left & ~mine).satisfiable()), None)
    before = (alone,) if alone is not None else tuple((name, row) for name, row, _ in takers)
    hosts = listed.hosts
    if hosts is not None:  # it never comes to this list: it is to be seen at those before
        asked = frozenset((device, list_id(name)) for device, _ in hosts.tables for name, _, _ in takers)
        hosts = hosts._replace(tables=asked)
    shown = _example(listed._replace(hosts=hosts), left, (row for _, row, _ in takers))
    return Shadow(listed.rows[number], (), (), shown, before)


def _example(listed: _Listed, held: Set, rows: Iterable[Row]) -> Witness | None:
    """A packet of a set that one of some rows decides; best one that a host here sends."""
    hosts = listed.hosts
    return listed.space.example(held, hosts, hosts.at(r.id for r in rows) if hosts is not None else None)


def _redundant(
    listed: _Listed, after: Sequence[Around], reached: Sequence[Set | None], kept: int
) -> Iterator[tuple[Row, Witness | None]]:
    """Rules whose packets would meet the same fate without them, wherever the list stands; any of them may go, and all together.

    A rule that logs, or that stands for what comes at the end anyway and is about everything, is there to be seen. A list that
    would be empty without them keeps one where no other list stands beside it, for empty lists have a fate of their own.

    Args:
        listed: the list.
        after: what is asked around it.
        reached: what comes to it there.
        kept: how many rows it has beside these, disabled ones and notes.

    """
    sides = [_Beside(listed.space, place, came) for place, came in zip(after or (DENIED,), reached, strict=True)]
    spared, gone = _spared(listed, sides)
    alone = any(not any((*place.below, *(rows for _, rows in place.above))) for place in after or (DENIED,))
    if spared and alone and not kept and len(spared) + gone == len(listed.rows):
        spared.pop()
    for count, number in enumerate(sorted(spared)):
        row = listed.rows[number]
        yield row, _example(listed, listed.decided[number], (row,)) if count < MOST_EXPLAINED else None


def _spared(listed: _Listed, sides: Sequence[_Beside]) -> tuple[list[int], int]:
    """The places of rows that may go, all of them together; and how many decide nothing anywhere."""
    spared, gone = [], 0
    # From the last upwards, for then the fate of what a rule leaves is known; a rule that is to go leaves what it decides to the rest.
    for number in range(len(listed.rows) - 1, -1, -1):
        row, mine = listed.rows[number], listed.meant[number]
        if row.verdict is None or row.verdict is Verdict.NOTE:
            continue
        decides = [_within(listed.decided[number], s.came) for s in sides]
        idle = [not d.satisfiable() for d in decides]
        may_go = all(i or s.same(row.outcome, d) for i, s, d in zip(idle, sides, decides, strict=True))
        if all(idle):  # where that is so everywhere it is shadowed, and told so
            gone += 1
        elif may_go and not row.log and row.conditions:
            spared.append(number)
        else:
            may_go = False
        for side in sides:
            (side.let_go if may_go else side.put)(row.outcome, mine)
    return spared, gone


class _Beside:
    """What becomes of packets at a place below some row of a list."""

    def __init__(self, space: Space, place: Around, came: Set | None) -> None:
        self.came = came
        self._last: Outcome = (place.end, "")
        self._rest = _left_to(space, place)
        self._nothing = space.possible & ~space.possible
        self._going: dict[Outcome, Set] = {}
        for row in place.going:
            if row.verdict is not None and row.verdict is not Verdict.NOTE:
                self.let_go(row.outcome, space.of_row(row))

    def same(self, outcome: Outcome, decided: Set) -> bool:
        """Whether all of some packets come to an outcome below, whether rules that are to go are there or not."""
        if any((decided & held).satisfiable() for other, held in self._going.items() if other != outcome):
            return False
        apart = self._rest.values() if outcome == self._last else (~self._rest.get(outcome, self._nothing),)
        return not any((decided & other).satisfiable() for other in apart)

    def put(self, outcome: Outcome, mine: Set) -> None:
        """A row above the rest decides its packets."""
        self._rest = {other: held & ~mine for other, held in self._rest.items()}
        if outcome != self._last:
            self._rest[outcome] = self._rest.get(outcome, self._nothing) | mine

    def let_go(self, outcome: Outcome, mine: Set) -> None:
        """A row above the rest is to go, and nobody knows when: what it decides must be decided alike without it."""
        self._going[outcome] = self._going.get(outcome, self._nothing) | mine


def _left_to(space: Space, place: Around) -> dict[Outcome, Set]:
    """What the lists below come to for what a list leaves undecided.

    Of all outcomes together nothing is left over, so one of them needs no set of its own: the end's, which most packets meet.
    """
    last: Outcome = (place.end, "")
    nothing = space.possible & ~space.possible
    rest: dict[Outcome, Set] = {}
    for rows in reversed(place.below):
        below, rest = rest, dict(rest)
        for row in reversed(rows):
            if row.disabled or row.verdict in (None, Verdict.NOTE):
                continue
            mine = space.of_row(row)
            rest = {other: held & ~mine for other, held in rest.items()}
            if row.verdict is Verdict.HAND_ON:  # what it is about fares as the lists after this one say
                for other, held in below.items():
                    rest[other] = rest.get(other, nothing) | (held & mine)
            elif row.outcome != last:
                outcome = row.outcome
                rest[outcome] = rest.get(outcome, nothing) | mine
    return rest


def _crossing(one: Set, other: Set) -> bool:
    """Whether two sets share packets while each has packets of its own."""
    return all(s.satisfiable() for s in (one & other, one & ~other, other & ~one))


def _overlaps(listed: _Listed, came: Set | None) -> Iterator[Overlap]:
    """Pairs with the opposite verdict that share packets while each has packets of its own: seldom both are meant.

    Only packets that come to the list count: what the lists before it take is shared for nothing.

    Pairs are found by boxes first: sets of one field that have nothing in common settle most of them.
    """
    rows, meant = listed[1:3]
    lets, stops = listed.of(Verdict.PERMIT), listed.of(Verdict.DENY, Verdict.REJECT)
    for number, mine in enumerate(meant):
        opposite = stops if lets >> number & 1 else lets if stops >> number & 1 else 0
        above: list[Row] = []
        witnesses: list[Witness] = []
        more = 0
        for n in listed.boxes.meeting(number, opposite & (1 << number) - 1):
            if not _crossing(_within(mine, came), _within(meant[n], came)):
                continue
            if len(above) == MOST_NAMED:
                more += 1
                continue
            # Both are about it; what decides it may be a rule above the upper one.
            shared = _within(mine & meant[n], came)
            decides = shared & listed.decided[n]
            example = _example(listed, decides if decides.satisfiable() else shared, (rows[n],))
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
