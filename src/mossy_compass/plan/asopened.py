"""The lists at a tunnel's interface as an association holds them: those of when it was made, whatever is written since.

What comes out of a tunnel meets the lists that were in force when its two ends agreed; another list takes effect with the next
association. The setting ``association-lists`` says otherwise.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from mossy_compass.plan.actions import PASS, Action, Consult, Decision
from mossy_compass.plan.alike import Term
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Association, Facts
from mossy_compass.plan.ids import TableId, TableKind
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, setting
from mossy_compass.plan.rows import Row, StageRow
from mossy_compass.plan.stages.step import NOT_ADMITTED, Step
from mossy_compass.plan.table import Table


def lists_at(here: DevicePlan, port: str) -> Step | None:
    """The step of the lists for what arrives by an interface, as written now; None for no list."""
    return next((s for s in here.steps(port) if s.stage is Stage.ARRIVING_LIST), None)


def outdated(here: DevicePlan, held: Association) -> bool:
    """Whether an association holds other lists than those that are written now, and these are not in use."""
    if here.settings.text("association-lists") == "as-written" or held.tunnel not in here.device.interfaces:
        return False
    now = lists_at(here, held.tunnel)
    return _said(now) != _said(held.lists)


def steps_as_opened(here: DevicePlan, held: Association) -> tuple[Step, ...]:
    """What a device does with what comes out of a tunnel by an association that holds other lists than those of now."""
    return here.once(("as opened", held.number, held.tunnel, _known(here, held.lists)), lambda: tuple(_steps(here, held)))


def _known(here: DevicePlan, lists: Step | None) -> int:
    """A number for lists that some association of a device holds, counted from 1: associations of two labs may have one number."""
    known: list[Step | None] = here.once("held lists", list)
    return next((n for n, step in enumerate(known, 1) if step is lists), 0) or _added(known, lists)


def _added(known: list[Step | None], lists: Step | None) -> int:
    """The number of what nobody held before."""
    known.append(lists)
    return len(known)


def _steps(here: DevicePlan, held: Association) -> Iterator[Step]:
    """The same, one by one, in the device's order."""
    order = list(here.through)
    place = order.index(Stage.ARRIVING_LIST) if Stage.ARRIVING_LIST in order else 0
    mine: Step | None = Step(Stage.ARRIVING_LIST, _when(held.lists), (_AsOpened(here, held),))
    for step in here.steps(held.tunnel):
        if mine is not None and order.index(step.stage) >= place:
            yield mine
            mine = None
        if step.stage is not Stage.ARRIVING_LIST:
            yield step


def _when(lists: Step | None) -> tuple[Condition, ...]:
    """Which packets the lists are about."""
    return lists.when if lists is not None else (NOT_ADMITTED,)


def _said(step: Step | None) -> list[tuple[object, ...]]:
    """What lists say where they stand, apart from where that is written."""
    if step is None:
        return []
    return [(row.id, row.conditions, tuple(map(_of_action, row.actions))) for table in step.tables for row in table.rows]


def _of_action(action: Action) -> object:
    """An action, and of a list its rows."""
    return (action.table.id, action.table.rows) if isinstance(action, Consult) else action


class _AsOpened:
    """The lists that an association holds, which are cited as its own."""

    def __init__(self, here: DevicePlan, held: Association) -> None:
        self._held = held
        self._step = None if held.lists is None else _cited(here, held.lists, _known(here, held.lists))
        self._none = Decision(Did.KEPT, setting(here.settings, "association-lists"), PASS)

    def decide(self, facts: Facts) -> Decision | None:
        """As the lists said then."""
        then = Because("note.as-opened", (self._held.number, self._held.tunnel, self._held.began, self._step is None))
        if self._step is None:
            return self._none._replace(note=then)
        decision = self._step.decide(facts)
        return None if decision is None else decision._replace(note=then)

    def alike(self, facts: Facts) -> Iterator[Term]:
        """As the rows say."""
        if self._step is not None:
            yield from self._step.alike(facts)


def _cited(here: DevicePlan, step: Step, number: int) -> Step:
    """The same lists, which are cited as those of an association: rows of now have nothing to do with them.

    Args:
        here: the device.
        step: the lists.
        number: by which they are known there.

    """
    tables = tuple(Table(t.id, [_cited_row(here, r, number) for r in t.rows], t.mark, t.name, t.about) for t in step.tables)
    return Step(step.stage, step.when, tables, step.names_at)


def _cited_row(here: DevicePlan, row: Row, number: int) -> Row:
    """A row whose lists are cited as an association's."""
    actions = tuple(a._replace(table=_kept(here, a.table, number)) if isinstance(a, Consult) else a for a in row.actions)
    made = replace(row, actions=actions)
    if isinstance(made, StageRow) and made.cites is not None:
        made = replace(made, cites=(_id(made.cites[0], number), made.cites[1]))
    return made


def _kept(here: DevicePlan, table: object, number: int) -> Table:
    """A list under the id by which the rulings of an association cite it."""
    assert isinstance(table, Table)
    id = _id(table.id, number)
    return here.once(("rows", id), lambda: Table(id, table.rows, table.mark, table.name, table.about))


def _id(id: TableId, number: int) -> TableId:
    """The id of a list as an association has it."""
    return id._replace(as_of=number) if id.kind is TableKind.LIST else id
