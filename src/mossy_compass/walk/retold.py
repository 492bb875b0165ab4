"""What each stage of a stay asked, and what it passed over: worked out afterwards, from the plan and the rulings alone.

A stage that lets a packet pass in silence makes no ruling, and nothing is kept of it. When somebody asks, the stages are gone
through again with the facts as the rulings have them, and so the silent ones can be told of too.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from copy import copy
from typing import NamedTuple

from mossy_compass.model.network import Kind, Verdict
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.actions import Admit, Consult, Half, Leave, Listed, Pass, Rewrite
from mossy_compass.plan.conditions import Miss
from mossy_compass.plan.decide import consults, goes_on
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Facts, Recollection
from mossy_compass.plan.ids import TableKind
from mossy_compass.plan.order import Stage
from mossy_compass.plan.plan import PassedOver, Plan
from mossy_compass.plan.reasons import Because, Did, setting
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.crossings import crossing_place, default_for
from mossy_compass.plan.stages.lists import place_at
from mossy_compass.plan.stages.step import NOT_ADMITTED, Step
from mossy_compass.plan.table import Table
from mossy_compass.walk.journey import Hop, Ruling

WRITTEN = (TableKind.LIST, TableKind.TRANSLATE, TableKind.POLICY_ROUTES, TableKind.OFFERS, TableKind.BUILT_IN)
"""Tables whose rows somebody wrote, or switches on and off, and so may wonder about."""


class TableAsked(NamedTuple):
    """A table that was gone through at a stage.

    Attributes:
        table: which.
        row: the one that was met; None where none was.
        facts: as the table was asked with them.
        entries: the rows that were passed over, where lists say which packets they are for; None: they are found when asked for.

    """

    table: Listed
    row: Row | None
    facts: Facts
    entries: tuple[PassedOver, ...] | None = None

    @property
    def over(self) -> tuple[PassedOver, ...]:
        """Its rows that were passed over, each with the reason. A list may be long, so this may take a while."""
        if self.entries is not None:
            return self.entries
        return tuple(_over(r, self.facts) for r, _ in self.table.passed_over(self.facts))


class StageTold(NamedTuple):
    """One stage of a stay.

    Attributes:
        stage: its name.
        ruling: what it did; None where it let the packet pass in silence.
        asked: the tables that it went through, in their order.
        end: the setting by which it let the packet pass in silence, where it is one that could stop packets.

    """

    stage: str
    ruling: Ruling | None
    asked: tuple[TableAsked, ...]
    end: Because | None = None


def stages_told(plan: Plan, hop: Hop, came: Packet) -> Iterator[StageTold]:
    """Every stage of a stay that did something or went through a table, in the device's order.

    Args:
        plan: the one that the packet was walked on.
        hop: the stay.
        came: the packet as it came to the device.

    """
    here = plan.device(hop.device)
    facts = _at_first(here, hop, came)
    left = list(hop.rulings)
    steps = {step.stage: step for step in here.steps(hop.arriving)}
    # By the order and not by the steps: a place without lists makes no step, and lets pass all the same.
    for stage in here.origin if hop.arriving is None else here.through:
        rulings: list[Ruling] = []
        while left and left[0].stage == stage.value:
            rulings.append(left.pop(0))
        if rulings:
            facts.packet = rulings[0].saw
        asked = tuple(_asked(steps[stage], facts)) if stage in steps else ()
        if not rulings:
            end = _silent_end(here, stage, facts, asked)
            if end is not None or any(t.table.rows for t in asked):
                yield StageTold(stage.value, None, asked, end)
        for number, ruling in enumerate(rulings):
            yield StageTold(stage.value, ruling, asked if number == 0 else ())
            _done(facts, ruling)
            if ruling.cause:
                return
        if not left and not rulings and hop.next_device is None:
            return  # it ended before this stage
    for ruling in left:  # of a stage that is no step of the device: a packet that was never made
        yield StageTold(ruling.stage, ruling, ())


def lists_passed_over(plan: Plan, hop: Hop, came: Packet) -> tuple[str, ...]:
    """The lists that a packet would have met at a device, had its session not let it pass over them.

    Args:
        plan: the one that the packet was walked on.
        hop: the stay.
        came: the packet as it came to the device.

    """
    if not any(r.did is Did.KNOWN for r in hop.rulings):
        return ()
    here = plan.device(hop.device)
    facts = _at_first(here, hop, came)
    steps = {step.stage: step for step in here.steps(hop.arriving)}
    names: list[str] = []
    for stage in here.origin if hop.arriving is None else here.through:
        if stage in steps and NOT_ADMITTED in steps[stage].when and all(c.holds(facts) for c in steps[stage].when):
            met = (r for t in steps[stage].tables for r in t.rows if all(c.holds(facts) for c in r.conditions))
            names += [c.table.name for r in met for c in consults(r) if c.table.id.kind is TableKind.LIST]
        for ruling in hop.rulings:
            if ruling.stage == stage.value:
                _done(facts, ruling)
        facts.admitted = False
    return tuple(dict.fromkeys(names))


def _at_first(here: DevicePlan, hop: Hop, came: Packet) -> Facts:
    """The facts as a packet came, with what its rulings say was known of it later: that is the same throughout a stay."""
    last = hop.rulings[-1].situation if hop.rulings else None
    if last is None:
        return Facts(came, hop.arriving, Recollection(frozenset()), device=here.name)
    known = last.known
    facts = Facts(came, hop.arriving, Recollection(known.names), None, known.moment, known.number, here.name)
    facts.expected = known.expected
    facts.relation, facts.session = last.relation, last.of_session
    return facts


def _done(facts: Facts, ruling: Ruling) -> None:
    """What a ruling made known."""
    facts.packet = ruling.gave
    if ruling.leaving is not None:
        facts.leaving = ruling.leaving
    for action in ruling.decision.actions:
        if isinstance(action, Admit):
            facts.admitted = True
        elif isinstance(action, Pass) and action.lets_in:
            facts.opened_by = (ruling.table, ruling.row)
            if action.picks:
                facts.picked = f"{ruling.table.name} {ruling.row}"
            if action.translates:
                facts.switched = f"{ruling.table.name} {ruling.row}"
        elif isinstance(action, Rewrite) and action.half is Half.DESTINATION and action.by_rule:
            facts.front = ruling.row


def _asked(step: Step, facts: Facts) -> Iterator[TableAsked]:
    """The written tables that a step goes through, to the one that decides; none where the step is not about the packet."""
    if step.about is not None and not step.about(facts):
        return
    for asked, decide in zip(step.asks, step.made, strict=True):
        if not isinstance(asked, Table):  # routes and neighbours are told of by their rulings
            continue
        yield from _gone_through(asked, facts)
        decision = decide(facts)
        if decision is not None and not goes_on(decision):
            return


def _gone_through(table: Table, facts: Facts) -> Iterator[TableAsked]:
    """The lists that a table's rows ask, and the table itself where somebody wrote it."""
    kept = copy(facts)  # later stages write into the facts, and what was passed over is worked out when somebody asks
    if not any(consults(r) for r in table.rows):
        if table.id.kind in WRITTEN:
            yield TableAsked(table, table.first(facts), kept)
        return
    over: list[PassedOver] = []
    met: Row | None = None
    for row in table.rows:
        if next(row.misses(facts), None) is not None:
            over.append(_over(row, facts))
            continue
        asked, decides = _consulted(row, facts, kept)
        yield from asked
        if decides:
            met = row
            break
        if table.id.kind in WRITTEN:  # it was met, and the list that says which packets it is for refused
            over.append(PassedOver(row, _refused(asked[-1]), facts.packet))
    if table.id.kind in WRITTEN:
        yield TableAsked(table, met, kept, tuple(over))


def _consulted(row: Row, facts: Facts, kept: Facts) -> tuple[list[TableAsked], bool]:
    """The lists that a row asks, to the one that decides; and whether the row comes to anything."""
    asked: list[TableAsked] = []
    for consult in consults(row):
        found = consult.table.first(facts)
        asked.append(TableAsked(consult.table, found, kept))
        if found is not None and not isinstance(consult.on[found.verdict or Verdict.PERMIT][0], Leave):
            return asked, True
    return asked, any(not isinstance(a, Consult) for a in row.actions)


def _over(row: Row, facts: Facts) -> PassedOver:
    """A row that was not met."""
    return PassedOver(row, next(row.misses(facts)), facts.packet)


def _refused(asked: TableAsked) -> Miss:
    """That a classifying list refused a packet: by which rule, or by none that permits."""
    return Miss("list", None, (asked.table.name, asked.row.id if asked.row is not None else ""))


_PLACES = (Stage.ARRIVING_LIST, Stage.CROSSING, Stage.LEAVING_LIST)


def _silent_end(here: DevicePlan, stage: Stage, facts: Facts, asked: Sequence[TableAsked]) -> Because | None:
    """The setting by which a place where lists may stand let a packet pass without a word. A host is no place to filter."""
    if stage not in _PLACES or here.device.kind is Kind.HOST or facts.arriving is None or asked or facts.admitted:
        return None
    if stage is Stage.CROSSING:
        if facts.leaving is None or crossing_place(here, facts.arriving, facts.leaving).consults:
            return None
        end = default_for(here, facts.arriving, facts.leaving)
    else:
        port = facts.arriving if stage is Stage.ARRIVING_LIST else facts.leaving
        if port is None:
            return None
        end = place_at(here, port, "arriving" if stage is Stage.ARRIVING_LIST else "leaving").otherwise
    return setting(here.settings, end.id) if end.id and end.decision is None else None
