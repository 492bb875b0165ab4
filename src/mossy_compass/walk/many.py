"""Several walks for one question: every equal way, and many flows shared among the ways.

Ways are enumerated by choosing anew at each device that has several, depth first, over the
state that the choices before left behind. Flows go by the hash as real ones would; counting
them shows how evenly it shares.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any, TypeVar

from mossy_compass.errors import QuestionError
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.balance import Choose
from mossy_compass.plan.plan import Plan
from mossy_compass.routing.table import NextHop
from mossy_compass.state.state import State
from mossy_compass.walk.journey import Journey
from mossy_compass.walk.question import Options, members_of
from mossy_compass.walk.trace import trace, trace_one

MOST_PATHS = 256
MOST_FLOWS = 100_000


@dataclass(frozen=True, slots=True)
class Choice:
    """One decision among equal ways: at which device, which of how many, and the way taken.

    Attributes:
        device: where the choice was made.
        member: which way, from 0.
        count: how many there were.
        hop: the way itself.

    """

    device: str
    member: int
    count: int
    hop: NextHop


@dataclass(frozen=True, slots=True)
class Path:
    """One of the journeys that a packet may make, with the decisions that led to it.

    Attributes:
        choices: in the order in which they were made.
        journey: what came of them.

    """

    choices: tuple[Choice, ...]
    journey: Journey


@dataclass(frozen=True, slots=True)
class Paths:
    """Every journey that a packet may make, there and back.

    Attributes:
        paths: in the order of the members chosen.
        whole: False when there are more than ``MOST_PATHS`` and the rest was left out.

    """

    paths: tuple[Path, ...]
    whole: bool

    def outcomes(self) -> dict[tuple[str, str], list[Path]]:
        """The paths by their fate (or ``answered``) and cause."""
        out: dict[tuple[str, str], list[Path]] = {}
        for path in self.paths:
            record = path.journey
            key = ("answered" if record.answered else record.fate.value, record.cause)
            out.setdefault(key, []).append(path)
        return out


def every_path(plan: Plan, sender: str, target: str, service: str = "ping", *, state: State | None = None, **options: Any) -> Paths:
    """Walk every combination of equal ways.

    A device that a packet comes to again, going round in a circle, does with it what it did before.

    Args:
        plan, sender, target, service, options: as for ``trace``.
        state: what devices remember of earlier packets, before each combination; it stays as it is.

    """
    return paths(plan, sender, target, members_of(plan.network, service)[0], Options(**options), state or State())


def paths(plan: Plan, sender: str, target: str, service: str, wishes: Options, state: State) -> Paths:
    """The same for one service and its wishes, with what devices remember; the arguments are those of ``trace_one``."""

    def walked(choose: Choose) -> Journey:
        """The journey by some choices."""
        # Each combination starts from what devices remembered at first: none is to profit from the sessions of another.
        with state.unchanged():
            return trace_one(plan, sender, target, service, wishes, choose, state)

    found, whole = by_every_choice(walked)
    return Paths(tuple(Path(choices, journey) for choices, journey in found), whole)


T = TypeVar("T")


def by_every_choice(work: Callable[[Choose], T]) -> tuple[list[tuple[tuple[Choice, ...], T]], bool]:
    """Do something once for every combination of equal ways that it meets.

    Args:
        work: takes how equal ways are chosen; it begins from the same each time.

    Returns:
        What came of it by the choices that led to it, in the order of the members chosen; and whether that is all of it, or there are
        more than ``MOST_PATHS``.

    """
    out: list[tuple[tuple[Choice, ...], T]] = []
    scripts: list[tuple[int, ...]] = [()]
    while scripts and len(out) < MOST_PATHS:
        script = scripts.pop(0)
        made: list[Choice] = []
        found = work(_scripted(script, made))
        out.append((tuple(made), found))
        numbers = tuple(c.member for c in made)
        for place in range(len(script), len(made)):
            scripts += [(*numbers[:place], other) for other in range(1, made[place].count)]
    out.sort(key=lambda p: tuple(c.member for c in p[0]))
    return out, not scripts


def _scripted(script: tuple[int, ...], made: list[Choice]) -> Choose:
    """A chooser that follows a script and then takes first members, and notes in ``made`` what it chose."""
    known: dict[tuple[str, tuple[NextHop, ...], Packet], int] = {}

    def choose(device: str, hops: tuple[NextHop, ...], packet: Packet) -> int:
        """Take the way that is tried now, and note that there was a choice."""
        key = (device, hops, packet._replace(ttl=0))
        if key not in known:
            known[key] = script[len(made)] if len(made) < len(script) else 0
            made.append(Choice(device, known[key], len(hops), hops[known[key]]))
        return known[key]

    return choose


@dataclass(frozen=True, slots=True)
class Share:
    """How many flows left a device by each of its equal ways.

    Attributes:
        device: where flows were shared.
        way: there or back.
        counts: flows by each way.

    """

    device: str
    way: str
    counts: tuple[tuple[NextHop, int], ...]


@dataclass(frozen=True, slots=True)
class Flows:
    """Many flows between the same two ends, which differ in their source port.

    Attributes:
        count: how many were sent.
        outcomes: how many ended how: fate (or ``answered``) and cause.
        shares: for each device that had a choice, there or back, the flows by member.

    """

    count: int
    outcomes: tuple[tuple[str, str, int], ...]
    shares: tuple[Share, ...]


Each = Callable[[Iterable[int]], Iterable[int]]
"""Hands numbers on, one after the other; a command shows by it how far the work is."""


def flows(plan: Plan, sender: str, target: str, service: str, count: int, *, each: Each = iter, **options: Any) -> Flows:
    """Send ``count`` flows, with source ports (identifiers, for a ping) that count upwards.

    Args:
        plan: the network.
        sender, target, service: as for ``trace``; of a named service the first member.
        count: how many flows.
        each: hands the number of each flow on as it is sent.
        options: as for ``trace``.

    Raises:
        QuestionError: fewer than 1 or more than ``MOST_FLOWS``.

    """
    if not 1 <= count <= MOST_FLOWS:
        raise QuestionError(f"flows are 1 to {MOST_FLOWS}, not {count}.")
    first = options.pop("source_port", None)
    start = 49152 if first is None else first
    ends: Counter[tuple[str, str]] = Counter()
    taken: dict[tuple[str, str], Counter[NextHop]] = {}
    member = members_of(plan.network, service)[0]
    for number in each(range(count)):
        port = (start + number) % 65536
        record = trace(plan, sender, target, member, source_port=port, **options)
        ends["answered" if record.answered else record.fate.value, record.cause] += 1
        for way, device, hops, hop in _decisions(record):
            counter = taken.setdefault((way, device), Counter(dict.fromkeys(hops, 0)))
            counter[hop] += 1
    shares = tuple(Share(device, way, tuple(counter.items())) for (way, device), counter in taken.items())
    return Flows(count, tuple((fate, cause, n) for (fate, cause), n in ends.most_common()), shares)


def _decisions(record: Journey) -> Iterator[tuple[str, str, tuple[NextHop, ...], NextHop]]:
    """Each choice among equal ways, there and back: on which way, at which device, among which, and the one taken."""
    for leg in record.whole:
        for hop in leg.every_hop:
            for ruling in hop.rulings:
                if ruling.hop is not None and len(ruling.ways) > 1:
                    yield leg.way.value, hop.device, ruling.ways, ruling.hop
