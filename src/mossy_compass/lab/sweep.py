"""What if: every failure tried, which flows do not survive it, which go another way, and what everything hangs on.

Only flows that a failure can touch are sent again; ``dependencies.py`` says which these are. A law of the tests is that the outcome is
that of a plan made from nothing for each failure.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from itertools import combinations
from typing import NamedTuple

from mossy_compass.errors import NotConverged, QuestionError
from mossy_compass.lab.dependencies import ALL, Touched, Touching, certain
from mossy_compass.lab.faults import KNOWN, Fault, apply, together
from mossy_compass.lab.lab import Flow
from mossy_compass.model.network import Network
from mossy_compass.plan.plan import Plan
from mossy_compass.walk.grid import Cell, cell_of, differences
from mossy_compass.walk.trace import trace_one
from mossy_compass.walk.weather import in_weather

MOST_CASES = 200_000
"""So many failures are tried; more are asked for by naming fewer things."""


class Case(NamedTuple):
    """What some failures do.

    Attributes:
        faults: that come together; one, or a pair.
        lost: flows that were answered and are not any more, before and after.
        gained: flows that were not answered and now are: something was in their way.
        moved: flows with the same outcome by another way.
        other: flows that fail as before, for another reason.
        error: routing has no stable state then; empty otherwise.

    """

    faults: tuple[Fault, ...]
    lost: tuple[tuple[Cell, Cell], ...] = ()
    gained: tuple[tuple[Cell, Cell], ...] = ()
    moved: tuple[tuple[Cell, Cell], ...] = ()
    other: tuple[tuple[Cell, Cell], ...] = ()
    error: str = ""

    @property
    def words(self) -> str:
        """As ``link fibre and device gate``."""
        return together(self.faults)

    @property
    def harmless(self) -> bool:
        """Nothing ends differently."""
        return not (self.lost or self.gained or self.moved or self.other or self.error)


@dataclass(frozen=True)
class Sweep:
    """What every failure does.

    Attributes:
        cases: worst first.
        flows: that were tested.
        answered: how many of them are answered while nothing has failed.

    """

    cases: tuple[Case, ...]
    flows: tuple[Flow, ...]
    answered: int

    @property
    def single_points(self) -> list[Case]:
        """What everything hangs on: without it no flow that was answered is any more."""
        return [c for c in self.cases if self.answered and len(c.lost) == self.answered]


def failures(network: Network, kinds: Iterable[str], pairs: bool = False) -> list[tuple[Fault, ...]]:
    """Every failure of some kinds; with ``pairs``, every two of them together as well.

    Raises:
        QuestionError: there is no such kind, nothing of it, or too many.

    """
    found, named = [], list(kinds)
    for kind in named:
        if kind not in KNOWN:
            raise QuestionError(f"'{kind}' is nothing that fails. Known: {', '.join(KNOWN)}.")
        found += [Fault(kind, name) for name in KNOWN[kind](network)]
    if not found:
        raise QuestionError(
            f"this network has no {' and no '.join(named)} that could fail, so nothing would be tried. Name another kind."
        )
    out: list[tuple[Fault, ...]] = [(f,) for f in found]
    if pairs:
        if len(found) * (len(found) - 1) // 2 > MOST_CASES:
            raise QuestionError(f"{len(found)} things have more than {MOST_CASES} pairs. Try them one by one, or fewer kinds.")
        out += list(combinations(found, 2))
    return out


def sweep(
    network: Network,
    flows: Sequence[Flow],
    cases: Sequence[tuple[Fault, ...]],
    each: Callable[[Iterable[tuple[Fault, ...]]], Iterable[tuple[Fault, ...]]] = iter,
) -> Sweep:
    """Try failures, and see how flows fare. Sweeps of parts of the failures can be put together with ``joined``.

    Args:
        network: as it is while nothing has failed.
        flows: that are tested.
        cases: failures that come together, as ``failures`` gives them.
        each: goes through the cases, for whoever shows how far it is.

    """
    plan = in_weather(Plan(network))
    if plan.stays is not None:
        plan.stays.eager = True
    base: list[Cell] = []
    needs: list[Touched] = []
    sure, touching = certain(network), Touching(plan)
    for flow in flows:
        journey = trace_one(plan, flow.source, flow.target, flow.service, flow.options)
        base.append(cell_of(journey, flow.source, flow.target, flow.label))
        needs.append(touching.of(journey) if sure else ALL)
    if plan.stays is not None:
        plan.stays.close()  # what failures have to themselves will hardly be met again
    found = [_case(plan, network, flows, base, needs, faults) for faults in each(cases)]
    return joined([Sweep(tuple(found), tuple(flows), sum(c.answered for c in base))])


def joined(parts: Sequence[Sweep]) -> Sweep:
    """Sweeps of the same flows for different failures as one, worst first.

    Args:
        parts: at least one.

    """
    found = [case for part in parts for case in part.cases]
    found.sort(key=lambda c: (-len(c.lost), -len(c.gained), -len(c.moved), -len(c.other), c.words))
    return replace(parts[0], cases=tuple(found))


def _case(
    whole: Plan, network: Network, flows: Sequence[Flow], base: Sequence[Cell], needs: Sequence[Touched], faults: tuple[Fault, ...]
) -> Case:
    """What some failures do to the flows that they can touch."""
    numbers = [n for n, need in enumerate(needs) if any(need.by(network, f) for f in faults)]
    if not numbers:
        return Case(faults)
    plan = Plan(apply(network, faults), whole)
    pairs: list[tuple[Cell, Cell]] = []
    try:
        for number in numbers:
            pairs.append((base[number], _fares(plan, flows[number], base[number])))
    except NotConverged as fault:
        return Case(faults, error=str(fault).split("\n")[0])
    lost, gained, moved, other = _sorted(pairs)
    return Case(faults, lost, gained, moved, other)


def _fares(plan: Plan, flow: Flow, before: Cell) -> Cell:
    """What becomes of a flow; one whose end has lost its address or its name is lost with it."""
    try:
        journey = trace_one(plan, flow.source, flow.target, flow.service, flow.options)
        return cell_of(journey, flow.source, flow.target, flow.label)
    except QuestionError as fault:
        return replace(
            before,
            answered=False,
            fate="dropped",
            cause="source.none",
            lost="there",
            because=str(fault).split(".")[0],
            place="",
            symptom="unreachable",
            path=(),
            exits=(),
            seen_as="",
        )


Pairs = tuple[tuple[Cell, Cell], ...]


def _sorted(pairs: Iterable[tuple[Cell, Cell]]) -> tuple[Pairs, Pairs, Pairs, Pairs]:
    """Flows by how they fare: lost, gained, moved, for another reason."""
    held = list(pairs)
    same = [p for p in held if p[0].answered == p[1].answered]
    return (
        tuple(p for p in held if p[0].answered and not p[1].answered),
        tuple(p for p in held if p[1].answered and not p[0].answered),
        tuple(p for p in same if p[0].answered and differences(*p)),
        tuple(p for p in same if not p[0].answered and (p[0].cause, p[0].where) != (p[1].cause, p[1].where)),
    )
