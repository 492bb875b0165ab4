"""Findings about probes, which only asking them shows: those that find no answer, that never come to rest, that stay down for good."""

from __future__ import annotations

from collections.abc import Mapping

from mossy_compass.marks import Mark, Problem, Problems, Severity
from mossy_compass.plan.plan import Plan
from mossy_compass.walk.weather import Key, in_weather, outcome, probes_of, settled, with_down


def watched(plan: Plan, lines: Mapping[str, list[str]] | None = None) -> tuple[Problem, ...]:
    """What is to be said of a network's probes.

    Args:
        plan: the network; which probes are down by it does not matter.
        lines: the lines of the files that marks point into.

    """
    problems = Problems(dict(lines or {}))
    _switched_off(plan, problems)
    if not plan.has_probes:
        return tuple(problems.found)
    found = settled(plan)
    if found.circle:
        names = ", ".join(f"{p} of {d}" for d, p in found.circle)
        mark = _mark(plan, found.circle[0])
        words = f"the probes never come to rest: the verdicts of {names} change one another, in a circle of {found.period} rounds."
        problems.add(
            "probe.flaps",
            mark,
            words,
            "Bind each to its interface with by:, or let no probe decide the way of another.",
            Severity.WARNING,
        )
        return tuple(problems.found)
    now = in_weather(plan)
    for key, _ in probes_of(plan):
        came = outcome(now, key)
        if not came.ok:
            words = f"probe {key[1]} of {key[0]} is down as things are written: {came.why}."
            problems.add(
                "probe.down", _mark(plan, key), words, "Check its target, its way, and what answers there.", Severity.WARNING
            )
        elif _latched(plan, key, found.down):
            words = f"probe {key[1]} of {key[0]} stays down once it is down: what is bound to it leads to its own target."
            problems.add(
                "probe.latched",
                _mark(plan, key),
                words,
                "Say by: INTERFACE, so that it is asked there whatever is in use.",
                Severity.WARNING,
            )
    return tuple(problems.found)


def _latched(plan: Plan, key: Key, down: frozenset[Key]) -> bool:
    """Whether a probe that is up finds no answer while it is down."""
    return not outcome(with_down(plan, down | {key}), key).ok


def _switched_off(plan: Plan, problems: Problems) -> None:
    """Probes that are not enabled, and to which something is bound."""
    for device in plan.network.devices.values():
        bound = (
            {r.probe for r in device.routes}
            | {c.probe for e in device.policy_routes for c in e.candidates}
            | set(device.member_probes.values())
        )
        for probe in device.probes.values():
            if not probe.enabled and probe.name in bound:
                value = device.settings.text("switched-off-probe")
                words = f"probe {probe.name} of {device.name} is switched off, and counts as {value} for what is bound to it (switched-off-probe: {value})."
                problems.add("probe.off", probe.mark, words, "Enable it, or take it out of what is bound to it.", Severity.NOTE)


def _mark(plan: Plan, key: Key) -> Mark:
    """Where a probe is written."""
    return plan.network.devices[key[0]].probes[key[1]].mark
