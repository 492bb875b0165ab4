"""Times as people write them, with units: ``500 ms``, ``3 s``, ``2 h 4 min``. A bare number is refused, for nobody knows its unit."""

from __future__ import annotations

import re

UNITS = {"d": 86_400_000, "h": 3_600_000, "min": 60_000, "s": 1000, "ms": 1}
"""Milliseconds of each unit, longest first: parts of a duration stand in this order."""
LONGEST = 3650 * UNITS["d"]
"""Ten years: whoever writes more has mistaken a unit."""
_PART = re.compile(r"([0-9]{1,12})\s*([a-z]+)")


def parse_duration(text: str) -> int | None:
    """A duration in milliseconds; None where it is none.

    Args:
        text: numbers with units, the longer unit first, each at most once.

    """
    rest, total, allowed = text.strip(), 0, list(UNITS)
    if not rest:
        return None
    while rest:
        part = _PART.match(rest)
        if part is None or part[2] not in allowed:
            return None
        allowed = allowed[allowed.index(part[2]) + 1 :]
        total += int(part[1]) * UNITS[part[2]]
        rest = rest[part.end() :].strip()
    return total if total <= LONGEST else None


def duration_words(milliseconds: int) -> str:
    """A duration in its two longest units, as ``2 h 4 min``; ``0 s`` for none.

    Args:
        milliseconds: not negative.

    """
    parts: list[str] = []
    rest = milliseconds
    for unit, size in UNITS.items():
        number, rest = divmod(rest, size)
        if number:
            parts.append(f"{number} {unit}")
    return " ".join(parts[:2]) or "0 s"
