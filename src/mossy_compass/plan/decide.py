"""From a table to the function that decides by it: the rows' conditions are compiled, their actions are what comes of it.

This is done once for a table. What a row says in ``actions`` is what an executor does; nothing is added here but the words,
and nothing is written: the same facts may be asked as often as one likes.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator, Sequence
from typing import Any

from mossy_compass.model.network import Verdict
from mossy_compass.packet.address import Address
from mossy_compass.plan.actions import (
    Action,
    Admit,
    Allocate,
    Consult,
    Decide,
    Decision,
    Deliver,
    Enter,
    Forward,
    Handover,
    Leave,
    Listed,
    Note,
    Pass,
    Rewrite,
    Steer,
    Stop,
    Undecided,
)
from mossy_compass.plan.alike import Decided, Met, Term
from mossy_compass.plan.conditions import Condition, members, test_of
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.fields import FIELDS, SetKind
from mossy_compass.plan.ids import TableId
from mossy_compass.plan.reasons import Because, Did, Fate
from mossy_compass.plan.rows import Row, StageRow
from mossy_compass.plan.table import Table

Names = Callable[[Address], tuple[str, ...]]
"""The names that an address has anywhere in the network."""

_FATES = {Fate.DROPPED: Did.DROPPED, Fate.REJECTED: Did.REJECTED, Fate.REFUSED: Did.REFUSED, Fate.EXPIRED: Did.EXPIRED}
_CALLED: dict[type[Any], Did] = {
    Admit: Did.KNOWN,
    Rewrite: Did.REWRITTEN,
    Allocate: Did.REWRITTEN,
    Steer: Did.STEERED,
    Enter: Did.STEERED,
    Forward: Did.ROUTED,
    Deliver: Did.DELIVERED,
    Handover: Did.SENT,
}
_SILENT = Because("setting", ("", "", ""))
"""Stands where nobody is told anything, for a decision must rest on something."""


def called(actions: Sequence[Action]) -> Did | None:
    """What a ruling is called by what is done last; None for what nobody needs to be told."""
    last = actions[-1] if actions else None
    if isinstance(last, Stop):
        return _FATES[last.fate]
    if isinstance(last, Pass):
        return Did.PERMITTED if last.lets_in else None
    return _CALLED.get(type(last))


def consults(row: Row) -> tuple[Consult, ...]:
    """The lists that a row asks, in their order."""
    return tuple(a for a in row.actions if isinstance(a, Consult))


def outcome(table: TableId, row: Row) -> Callable[[Facts], Decision]:
    """The function that says what a row comes to; where its words do not depend on the packet that is one value.

    Args:
        table: id of the table that it stands in.
        row: the row that decided.

    """
    actions = tuple(a for a in row.actions if not isinstance(a, Consult))
    if not isinstance(row, StageRow):
        plain = Decision(called(actions), row.because or _SILENT, actions, None, table, row.id, row.log)
        return lambda facts: plain
    cited, number = row.cites or (table, row.id)
    made = Decision(row.did or called(actions), row.because or _SILENT, actions, row.note, cited, number, row.log)
    tell = row.tell
    if tell is None:
        return lambda facts: made
    did, log = made.did, made.logged

    def told(facts: Facts) -> Decision:
        """The same with its words."""
        because, note = tell(facts)
        return Decision(did, because, actions, note, cited, number, log)

    return told


def decider(table: Table, names_at: Names | None = None) -> Decide:
    """The function that decides by a table.

    Args:
        table: the rows in their order.
        names_at: says what else an address is called, for rules by name.

    """
    acting = _acting(table)
    if any(consults(r) for r in acting):
        return _in_turn(table.id, acting, names_at)
    return _few(table.id, acting) if len(acting) <= _FEW else _by_index(table)


def _acting(table: Table) -> list[Row]:
    """The rows that can decide."""
    return [r for r in table.rows if not r.disabled and r.verdict is not Verdict.NOTE]


_FEW = 3
"""So few rows are asked one by one: an index over their fields costs more than it saves."""


def _few(table: TableId, rows: Sequence[Row]) -> Decide:
    """For a handful of rows that decide by themselves."""
    ready = [(test_of(r.conditions) if r.conditions else None, outcome(table, r)) for r in rows]
    if len(ready) == 1 and ready[0][0] is None:
        return ready[0][1]

    def decide(facts: Facts) -> Decision | None:
        """What the first row comes to that the packet meets."""
        for test, decided in ready:
            if test is None or test(facts):
                return decided(facts)
        return None

    return decide


def _by_index(table: Table) -> Decide:
    """For rows that decide by themselves: the table's own index finds the first."""
    known = {id(row): outcome(table.id, row) for row in table.rows}

    def decide(facts: Facts) -> Decision | None:
        """What the first row comes to that the packet meets."""
        row = table.first(facts)
        return None if row is None else known[id(row)](facts)

    return decide


# --- rows that ask lists -------------------------------------------------------------------------------------------------


def _in_turn(table: TableId, rows: Sequence[Row], names_at: Names | None) -> Decide:
    """For rows that ask lists: one may come to nothing although it is met, and then the next is asked."""
    ready = [_Asking(table, row, names_at) for row in rows]
    by_name = _by_name(ready)
    if by_name is None:
        return _each(ready)
    field, listed, rest = by_name
    read = FIELDS[field].read

    def decide(facts: Facts) -> Decision | None:
        """What the rows come to that are about the packet's value of the field."""
        return listed.get(read(facts), rest)(facts)

    return decide


def _each(rows: Sequence[_Asking]) -> Decide:
    """The rows one by one."""
    if len(rows) == 1 and not rows[0].conditions:
        return rows[0].decide

    def decide(facts: Facts) -> Decision | None:
        """What the first row comes to that is met, and decides."""
        noted: Decision | None = None
        for row in rows:
            if row.met(facts):
                decision = row.decide(facts)
                if decision is not None:
                    noted = after(noted, decision)
                    if not goes_on(decision):
                        return noted
        return noted

    return decide


def goes_on(decision: Decision) -> bool:
    """Whether a decision is none yet: notes were taken, and whatever stands next is asked."""
    return isinstance(decision.actions[-1], Note)


def after(noted: Decision | None, decision: Decision) -> Decision:
    """A decision with what was noted before it."""
    return decision if noted is None else decision._replace(met=noted.met + decision.met)


def _by_name(rows: Sequence[_Asking]) -> tuple[str, dict[Any, Decide], Decide] | None:
    """Rows that are all about one field of names first, sorted by its values; None where they are not."""
    if not rows or not all(r.conditions and len(r.conditions[0].parts) == 1 for r in rows):
        return None
    fields = {r.conditions[0].parts[0][0] for r in rows}
    if len(fields) != 1:
        return None
    (field,) = fields
    if FIELDS[field].kind is not SetKind.ONE_OF:
        return None
    sorted_out: dict[Any, list[_Asking]] = {}
    for row in rows:
        for value in row.conditions[0].parts[0][1]:
            sorted_out.setdefault(value, []).append(row.without_first())
    return field, {value: _each(some) for value, some in sorted_out.items()}, _nothing


def _nothing(facts: Facts) -> Decision | None:
    """No row is about the packet."""
    return None


class _Asking:
    """A row that asks lists, ready to be asked."""

    __slots__ = ("_decisions", "_ends", "_lists", "_names_at", "_own", "_row", "_table", "conditions", "met")

    def __init__(self, table: TableId, row: Row, names_at: Names | None, conditions: tuple[Condition, ...] | None = None) -> None:
        self._table, self._row, self._names_at = table, row, names_at
        self.conditions = row.conditions if conditions is None else conditions
        self._lists = consults(row)
        # Without an action of its own the row has said nothing once its lists are through.
        self._ends = len(self._lists) < len(row.actions)
        self._decisions: dict[tuple[int, str], Decision | None] = {}
        self._own = outcome(table, row)
        self.met = test_of(self.conditions)

    def without_first(self) -> _Asking:
        """The same row where its first condition is known to hold."""
        return _Asking(self._table, self._row, self._names_at, self.conditions[1:])

    def decide(self, facts: Facts) -> Decision | None:
        """The first list whose rule decides; else the row's own action. What was noted on the way goes with it."""
        met: tuple[Undecided, ...] = ()
        for place, consult in enumerate(self._lists):
            table = consult.table
            row = table.first(facts)
            if table.notes:
                met += tuple(_undecided(table, r) for r in table.noted(facts))
            if row is None:
                continue
            decision = self._of(place, consult, row, facts)
            if decision is None or not consult.named:
                met += (_undecided(table, row),)
            if decision is not None:
                decision = self._with_notes(decision, row, facts)
                return decision._replace(met=met) if met else decision
        if self._ends:
            decision = self._with_notes(self._own(facts), None, facts)
            if decision.did is None and met:  # what lets pass in silence is told of where something was noted on the way
                decision = decision._replace(did=Did.NOTED, because=met[-1].because, table=met[-1].table)
            return decision._replace(met=met) if met else decision
        return Decision(Did.NOTED, met[-1].because, (Note(),), None, met[-1].table, "", "", met) if met else None

    def _of(self, place: int, consult: Consult, row: Row, facts: Facts) -> Decision | None:
        """What a rule of a list comes to here; None where it leaves the list."""
        key = (place, row.id)
        if key in self._decisions:
            return self._decisions[key]
        actions = _by_row(consult.on[row.verdict or Verdict.PERMIT], row)
        found: Decision | None = None
        if not isinstance(actions[0], Leave):
            if consult.named:
                because = row.because or Because("rule", (consult.table.name, row.id), row.mark, row.about)
                found = Decision(called(actions), because, actions, None, consult.table.id, row.id, row.log)
            else:
                found = self._own(facts)._replace(actions=actions, did=called(actions))
        self._decisions[key] = found
        return found

    def _with_notes(self, decision: Decision, row: Row | None, facts: Facts) -> Decision:
        """The decision with what else a reader should know: the member of a group, other names, the profile, what may come."""
        note = decision.note if row is None else self._about(row, facts)
        if isinstance(self._row, StageRow) and self._row.profile:
            note = Because("note.profile", (self._row.profile, note))
        moment = facts.moment
        if moment.application is not None and facts.number < moment.known_from and _for_now(decision):
            waiting = tuple((c.table.name, r.id) for c in self._lists for r in c.table.above_asking(facts, "application"))
            note = Because("note.application-later", (waiting, moment.known_from, note)) if waiting else note
        return decision if note is decision.note else decision._replace(note=note)

    def _about(self, row: Row, facts: Facts) -> Because | None:
        """Which member of a group holds the packet; which other names its address has."""
        named = [m for m in (members(c, facts) for c in row.conditions if c.terms) if m]
        if named:
            return Because("note.member", (tuple(named),))
        asked = [w for c in row.conditions if c.key == "name" for w in c.wants]
        if asked and self._names_at is not None:
            address = facts.packet.destination
            others = tuple(n for n in self._names_at(address) if n not in asked)
            if others:
                return Because("note.other-names", (address, others))
        return None


def _undecided(table: Listed, row: Row) -> Undecided:
    """A row of a list that was met and did not end the stage."""
    because = row.because or Because("rule", (table.name, row.id), row.mark, row.about)
    return Undecided(table.id, row.id, row.verdict or Verdict.PERMIT, because, row.log)


def _for_now(decision: Decision) -> bool:
    """Whether what it lets pass is judged again later."""
    return any(isinstance(a, Pass) and a.again for a in decision.actions)


def _by_row(actions: tuple[Action, ...], row: Row) -> tuple[Action, ...]:
    """The actions with what the rule itself says: what a rejection sends, that the source is translated, by which uplink it leaves."""
    first = actions[0]
    if isinstance(first, Pass) and (row.translates or row.uplink):
        return (first._replace(translates=row.translates, picks=bool(row.uplink)), *actions[1:])
    return (first._replace(answer=row.answer), *actions[1:]) if row.answer and isinstance(first, Stop) else actions


# --- for which packets it would have been the same -----------------------------------------------------------------------


def alike(table: Table, facts: Facts) -> Iterator[Term]:
    """What the decision by a table rests on."""
    acting = _acting(table)
    if not any(consults(r) for r in acting):
        yield Decided(table, table.first(facts))
        return
    for row in acting:
        met = all(c.holds(facts) for c in row.conditions)
        if row.conditions:
            yield Met(row.conditions, met)
        if met and (yield from _alike_in(row, facts)):
            return


def _alike_in(row: Row, facts: Facts) -> Generator[Term, None, bool]:
    """What a row that is met rests on further; gives whether it decides."""
    for consult in consults(row):
        found = consult.table.first(facts)
        yield Decided(consult.table, found)
        for note in consult.table.notes:
            if consult.table.number(note) < consult.table.number(found):
                yield Met(note.conditions, all(c.holds(facts) for c in note.conditions))
        if found is not None and not isinstance(consult.on[found.verdict or Verdict.PERMIT][0], Leave):
            return True
    return any(not isinstance(a, Consult) for a in row.actions)
