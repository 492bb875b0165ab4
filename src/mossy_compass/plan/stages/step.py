"""The compiled form of one stage at one interface.

A step is all that an executor sees of a stage: a guard, and a function from facts to a
decision. The guard is apart from the function so that a packet which the stage is not about
costs one call and no more.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from mossy_compass.plan.actions import Decide
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.fields import FIELDS
from mossy_compass.plan.order import Stage


class Step(NamedTuple):
    """A stage as an executor runs it.

    Attributes:
        stage: which; for the ruling, not for a choice of what to do.
        when: the guard; None: always. A packet that does not meet it passes over the stage.
        decide: gives the decision, or None.

    """

    stage: Stage
    when: Callable[[Facts], bool] | None
    decide: Decide


NOT_ADMITTED = Condition("admitted", (("admitted", frozenset((False,))),))
NO_WAY_YET = Condition("chosen", (("chosen", frozenset((False,))),))
NOT_ANSWERING = Condition("relation", (("relation", frozenset(Relation) - {Relation.ANSWERING, Relation.RELATED}),))


def guard(*conditions: Condition) -> Callable[[Facts], bool]:
    """A function that is true when all conditions hold; each is about one field that holds names."""
    pairs: Sequence[tuple[Callable[[Facts], object], frozenset[object]]] = [
        (FIELDS[c.parts[0][0]].read, c.parts[0][1]) for c in conditions
    ]
    if len(pairs) == 1:
        read, wanted = pairs[0]
        return lambda facts: read(facts) in wanted
    return lambda facts: all(read(facts) in wanted for read, wanted in pairs)
