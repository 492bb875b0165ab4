"""One stage at one interface, as a value: what it is about, the tables that it asks in order, and what it needs and gives.

The function that decides is made from these. Explanations, counters, near misses, checks and exact sets read the same tables,
so that a stage is said once. The guard is apart from the tables, so that a packet which the stage is not about costs one
call and no more.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from mossy_compass.plan.actions import Decide, Decision
from mossy_compass.plan.alike import Met, Term
from mossy_compass.plan.conditions import Condition, test_of
from mossy_compass.plan.decide import Names, after, alike, decider, goes_on
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.fields import FIELDS
from mossy_compass.plan.order import SPECS, Stage
from mossy_compass.plan.table import Table


class LookUp(Protocol):
    """A table that is not gone through row by row: routes, neighbours, what a session was judged by."""

    def decide(self, facts: Facts, /) -> Decision | None:
        """What the row comes to that the packet meets."""
        ...

    def alike(self, facts: Facts, /) -> Iterator[Term]:
        """For which packets it would have come to the same."""
        ...


Asked = Table | LookUp
"""What a step asks."""


@dataclass(frozen=True, slots=True)
class Step:
    """A stage at an interface.

    Attributes:
        stage: which; for the ruling, not for a choice of what to do.
        when: what is true of every packet that the stage is about; the others pass over it.
        asks: the tables, in order; the first whose row decides ends the stage, and where none does nothing is done.
        names_at: says what else an address is called, for rules by name.
        about, decide: the two functions that an executor calls. ``about`` is None where every packet is meant.
        made: the function of each table.

    """

    stage: Stage
    when: tuple[Condition, ...]
    asks: tuple[Asked, ...]
    names_at: Names | None = field(default=None, compare=False)
    about: Callable[[Facts], bool] | None = field(init=False, compare=False)
    decide: Decide = field(init=False, compare=False)
    made: tuple[Decide, ...] = field(init=False, compare=False, repr=False)

    def __post_init__(self) -> None:
        made = tuple(_decided_by(a, self.names_at) for a in self.asks)
        object.__setattr__(self, "made", made)
        object.__setattr__(self, "about", test_of(self.when) if self.when else None)
        object.__setattr__(self, "decide", made[0] if len(made) == 1 else _first_of(made))

    @property
    def needs(self) -> tuple[str, ...]:
        """The facts that it reads, which earlier stages must have given."""
        asked = {f for t in self.tables for r in t.rows for c in r.conditions for f in c.fields if FIELDS[f].given_by}
        return tuple(dict.fromkeys((*SPECS[self.stage].needs, *sorted(asked))))

    @property
    def gives(self) -> tuple[str, ...]:
        """The facts that are known after it."""
        return SPECS[self.stage].gives

    @property
    def tables(self) -> tuple[Table, ...]:
        """What it asks row by row."""
        return tuple(a for a in self.asks if isinstance(a, Table))

    def alike(self, facts: Facts) -> Iterator[Term]:
        """What its decision about a packet rests on: for the packets of all these terms it would have been the same."""
        if self.when:
            meant = all(c.holds(facts) for c in self.when)
            yield Met(self.when, meant)
            if not meant:
                return
        for asked, one in zip(self.asks, self.made, strict=True):
            yield from asked.alike(facts) if hasattr(asked, "alike") else alike(asked, facts)
            decision = one(facts)
            if decision is not None and not goes_on(decision):
                return


Run = tuple[Stage, Callable[[Facts], bool] | None, Decide]
"""A step as an executor calls it: the stage, whether a packet is one that it is about, and what it decides."""


def as_run(steps: Sequence[Step]) -> tuple[Run, ...]:
    """Steps as an executor calls them."""
    return tuple((s.stage, s.about, s.decide) for s in steps)


def _decided_by(asked: Asked, names_at: Names | None) -> Decide:
    """The function of a table, made when the first step asks it."""
    if not isinstance(asked, Table):
        return asked.decide
    if asked.decide is None:
        asked.decide = decider(asked, names_at)
    return asked.decide


def _first_of(decides: Sequence[Decide]) -> Decide:
    """The decision of the first of several tables that has one."""

    def decide(facts: Facts) -> Decision | None:
        """What this stage says of a packet."""
        noted: Decision | None = None
        for one in decides:
            decision = one(facts)
            if decision is not None:
                noted = after(noted, decision)
                if not goes_on(decision):
                    return noted
        return noted

    return decide


def one_of(field: str, *values: object) -> Condition:
    """A condition on a field that holds names."""
    return Condition(field, ((field, frozenset(values)),))


NOT_ADMITTED = one_of("admitted", False)
NOT_LET_IN = one_of("let-in", False)
NO_WAY_YET = one_of("chosen", False)
NOT_ANSWERING = one_of("relation", *(set(Relation) - {Relation.ANSWERING, Relation.RELATED}))
