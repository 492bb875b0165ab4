"""Every finding about a network: those of its computed state and its rules, and those that only probes that are asked show."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from mossy_compass.lab.examples import walker
from mossy_compass.lab.watched import watched
from mossy_compass.marks import Problem
from mossy_compass.plan.plan import Plan
from mossy_compass.proof import findings as proof
from mossy_compass.routing.compute import Routing


def findings(
    of: Plan | Routing, before: Iterable[Problem] = (), lines: Mapping[str, list[str]] | None = None
) -> tuple[Problem, ...]:
    """Every finding about a network that only its computed state, the exact sets of its rules, or its probes show.

    Args:
        of: the network, compiled or computed.
        before: what is known already, and is not said again.
        lines: the lines of the files that marks point into.

    """
    plan = of if isinstance(of, Plan) else Plan(of.network)
    found = [*proof.findings(of, before, lines, walker(plan)), *watched(plan, lines)]
    return tuple(sorted(found, key=lambda p: (p.mark, p.code, p.message)))
