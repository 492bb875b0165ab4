"""Counters, rules that were never hit, and who a rule affects: as rows, for text and JSON alike."""

from __future__ import annotations

from collections.abc import Iterable

from mossy_compass.plan.plan import Plan
from mossy_compass.report.tables import Rows
from mossy_compass.walk.evidence import Counters, counted, decided_by
from mossy_compass.walk.journey import Journey


def counters(plan: Plan, found: Counters) -> list[Rows]:
    """What was met and how often; what never was; and the tests that no written rule decided."""
    every = counted(plan, found)
    hit = [c for c in every if c.hits]
    never = [c for c in every if not c.hits]
    met = tuple((c.device, c.table, c.row, c.what, str(c.hits), c.unit, c.place or "-") for c in hit)
    idle = tuple((c.device, c.table, c.row, c.what, c.place or "-") for c in never)
    tests = f"{found.tests} test{'s' * (found.tests != 1)}"
    out = [
        Rows(
            "counters",
            f"{len(hit)} rules and defaults were met by {tests}",
            ("device", "list", "rule", "verdict", "hits", "unit", "from"),
            met,
        ),
        Rows("never-hit", f"{len(never)} rules were met by no test", ("device", "list", "rule", "verdict", "from"), idle),
    ]
    free = tuple(found.undecided)
    if free:
        words = f"{len(free)} of {tests} met no rule of a list: routes, services and defaults alone decided"
        out.append(Rows("no-rule", words, ("from", "to", "service", "the sender sees"), free))
    return out


def affected(journeys: Iterable[Journey], name: str, row: str) -> Rows:
    """Whose packets a rule decides: hosts, services and directions among what was tested."""
    parts = list(decided_by(journeys, name, row))
    rows = tuple(
        (p.journey.sender, p.journey.target, p.journey.what, p.way, p.place, p.did.value, p.journey.symptom.value) for p in parts
    )
    count, places = len({id(p.journey) for p in parts}), len({p.place for p in parts})
    about = f"{name} rule {row} decides on {count} of the tested flows" + (f", at {places} places" if places > 1 else "")
    return Rows("decided-by", about, ("from", "to", "service", "way", "at", "it was", "the sender sees"), rows)
