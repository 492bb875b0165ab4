"""Both ways of a packet and its answer beside each other, where they pass other devices: what keeps sessions sees only half."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from difflib import SequenceMatcher
from typing import NamedTuple

from mossy_compass.walk.journey import Journey, Leg

WIDEST = 92
"""Columns that a row may have; a longer way is told without being aligned."""


class Apart(NamedTuple):
    """Two ways that are not the same.

    Attributes:
        columns: device by device from sender to target: who was passed on the way there, and who on the way back; empty for nobody.
        halves: devices that keep sessions and were passed one way alone, with which way.

    """

    columns: tuple[tuple[str, str], ...]
    halves: tuple[tuple[str, str], ...]


def apart(journey: Journey) -> Apart | None:
    """Where the way back passes devices that the way there does not; None where both are the same as far as the way back got."""
    back = journey.back
    if back is None or journey.later is not None:
        return None
    there, home = _passed(journey.there), _passed(back)[::-1]
    if set(home) <= set(there):
        return None
    columns: list[tuple[str, str]] = []
    for what, a, b, c, d in SequenceMatcher(None, there, home, autojunk=False).get_opcodes():
        size = max(b - a, d - c)
        ones, others = there[a:b], home[c:d]
        assert what != "equal" or ones == others
        # An answer that was lost is known from its far end only, so it ends beside what lies there.
        lost = not columns and others and back.end != journey.there.hops[0].device
        columns += zip(_filled(ones, size), (_late if lost else _filled)(others, size), strict=True)
    return Apart(tuple(columns), tuple(_halves(journey, there, home)))


def _passed(leg: Leg) -> list[str]:
    """The devices of a leg in their order."""
    return [h.device for h in leg.hops]


def _filled(some: Sequence[str], size: int) -> list[str]:
    """A row as long as the other."""
    return [*some, *[""] * (size - len(some))]


def _late(some: Sequence[str], size: int) -> list[str]:
    """The same, at the end of the other."""
    return [*[""] * (size - len(some)), *some]


def _halves(journey: Journey, there: Sequence[str], home: Sequence[str]) -> Iterator[tuple[str, str]]:
    """Devices that keep sessions and see one way alone. An answer that got nowhere near tells nothing of those beyond."""
    assert journey.back is not None
    whole = journey.back.end == journey.there.hops[0].device
    for name in dict.fromkeys((*there, *home)):
        here = journey.plan.device(name) if journey.plan is not None and name in journey.plan.network.devices else None
        if here is None or journey.there.packet.protocol not in here.tracked or name in (there[0], there[-1]):
            continue
        if name not in there:
            yield name, "back"
        elif name not in home and whole:
            yield name, "there"


def lines(found: Apart) -> Iterator[tuple[str, str]]:
    """The rows to print: which way, and its devices, aligned where they fit."""
    rows = (("there", 0, " → "), ("back", 1, " ← "))
    widths = [max(len(one), len(other)) for one, other in found.columns]
    aligned = sum(widths) + 3 * (len(widths) - 1) <= WIDEST
    for word, side, arrow in rows:
        names = [c[side] for c in found.columns]
        if aligned:
            yield word, _aligned(names, widths, arrow)
        else:
            yield word, arrow.join(n for n in names if n)
    for name, way in found.halves:
        yield "", f"{name} keeps sessions, and sees the way {way} alone"


def _aligned(names: Sequence[str], widths: Sequence[int], arrow: str) -> str:
    """A row, with nothing where the other way has a device more; before its first device and after its last there is no arrow."""
    first, last = (next(n for n in order if names[n]) for order in (range(len(names)), range(len(names) - 1, -1, -1)))
    parts = []
    for number, (name, width) in enumerate(zip(names, widths, strict=True)):
        within = first <= number <= last
        parts.append(name.ljust(width) if name or not within else "─" * width)
        if number < len(names) - 1:
            parts.append(arrow if first <= number < last else "   ")
    return "".join(parts).rstrip()
