"""Who may reach what: sources x targets x services, and how that differs from an earlier time.

Every cell is what a journey of its own, with fresh state, would say, so that a grid says the same as so
many traces; between hosts that the network treats alike one is walked for all (``fellows.py``). A cell keeps what is needed to notice a change later: cause, place, way,
interfaces, and the address that the far end saw.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple, NotRequired

from typing_extensions import TypedDict

from mossy_compass.errors import InputError, QuestionError
from mossy_compass.model.network import Device, Kind, Network, Translate
from mossy_compass.packet.address import Address, from_key
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.device import port_names
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because
from mossy_compass.voice import voice
from mossy_compass.walk.fellows import FellowTests, Renaming, SingleTest
from mossy_compass.walk.journey import Journey, Leg
from mossy_compass.walk.question import Options, first_port, members_of
from mossy_compass.walk.trace import trace_one
from mossy_compass.walk.verdict import seen_as
from mossy_compass.walk.weather import in_weather

FORMAT = 1
MOST_CELLS = 50_000


@dataclass(frozen=True, slots=True)
class Cell:
    """One test: from whom, to whom, which service, and how it ended.

    Attributes:
        answered: the packet arrived and its answer came home.
        fate, cause, lost: of the journey, as there.
        where: the device at which it was decided.
        because: what the fate rests on.
        symptom: what the source sees.
        path: the devices passed on the way there.
        exits: the interfaces by which it left them, there; and back, after a ``/``.
        seen_as: the source that the far end saw; empty where it did not get there.

    """

    source: str
    target: str
    service: str
    answered: bool
    fate: str
    cause: str
    lost: str
    where: str
    because: str
    place: str
    symptom: str
    path: tuple[str, ...]
    exits: tuple[str, ...] = ()
    seen_as: str = ""

    @property
    def key(self) -> tuple[str, str, str]:
        """Source, target, service."""
        return self.source, self.target, self.service

    @property
    def words(self) -> str:
        """``yes``, or the cause; ``back:`` before it when the answer was lost."""
        if self.answered:
            return "yes"
        return f"{'' if self.lost == 'there' else self.lost + ':'}{self.cause}"

    @property
    def reason(self) -> str:
        """The fate in a sentence without the two ends."""
        if self.answered:
            return f"answered: {self.because}{self._at()}"
        what = "the answer is " if self.lost == "back" else "the lookup is " if self.lost == "lookup" else ""
        return f"{what}{self.fate} at {self.where}: {self.because}{self._at()}"

    def _at(self) -> str:
        """Where a cell's test was lost, as ``device: reason``."""
        return f" ({self.place})" if self.place else ""


@dataclass(frozen=True, slots=True)
class Grid:
    """The cells of a grid, row by row.

    Attributes:
        columns: targets with their services, in the order of the question.

    """

    cells: tuple[Cell, ...]
    columns: tuple[tuple[str, str], ...]

    def __str__(self) -> str:
        return str(voice().table(self))

    def __repr__(self) -> str:
        return f"<Grid of {len(self.cells)} tests, {sum(c.answered for c in self.cells)} of them answered>"

    @property
    def sources(self) -> list[str]:
        """The sources in their order."""
        return list(dict.fromkeys(c.source for c in self.cells))

    def by_key(self) -> dict[tuple[str, str, str], Cell]:
        """The cells by source, target and service."""
        return {c.key: c for c in self.cells}

    def to_dict(self) -> GridDict:
        """The grid as plain data, from which ``from_dict`` makes it again."""
        return {"mossy-grid": FORMAT, "cells": [cell_dict(c) for c in self.cells]}


CellDict = TypedDict(
    "CellDict",
    {
        "from": str,
        "to": str,
        "service": str,
        "answered": bool,
        "fate": str,
        "cause": str,
        "decided-on": str,
        "where": str,
        "because": str,
        "place": str,
        "symptom": str,
        "path": list[str],
        "exits": NotRequired[list[str]],
        "seen-as": NotRequired[str],
    },
)
GridDict = TypedDict("GridDict", {"mossy-grid": int, "cells": list[CellDict], "title": NotRequired[str]})


def cell_dict(cell: Cell) -> CellDict:
    """A cell as plain data, without what follows from the rest."""
    return {
        "from": cell.source,
        "to": cell.target,
        "service": cell.service,
        "answered": cell.answered,
        "fate": cell.fate,
        "cause": cell.cause,
        "decided-on": cell.lost,
        "where": cell.where,
        "because": cell.because,
        "place": cell.place,
        "symptom": cell.symptom,
        "path": list(cell.path),
        "exits": list(cell.exits),
        "seen-as": cell.seen_as,
    }


def from_dict(data: object) -> Grid:
    """A grid from the plain data of an earlier one.

    Raises:
        InputError: it is not such data.

    """
    if not isinstance(data, dict) or data.get("mossy-grid") != FORMAT or not isinstance(data.get("cells"), list):
        raise InputError(f"this is no saved grid: it does not begin with mossy-grid: {FORMAT}.")
    try:
        cells = tuple(_cell(cell) for cell in data["cells"])
        return gathered(cells)
    except (KeyError, TypeError, AttributeError) as fault:
        raise InputError(f"this is no saved grid: a cell is not whole ({fault}).") from None


def _cell(data: CellDict) -> Cell:
    """A cell from plain data."""
    return Cell(
        str(data["from"]),
        str(data["to"]),
        str(data["service"]),
        data["answered"] is True,
        str(data["fate"]),
        str(data["cause"]),
        str(data["decided-on"]),
        str(data["where"]),
        str(data["because"]),
        str(data["place"]),
        str(data["symptom"]),
        tuple(str(p) for p in data["path"]),
        tuple(str(e) for e in data.get("exits", ())),
        str(data.get("seen-as", "")),
    )


@dataclass(frozen=True, slots=True)
class Changes:
    """How a grid differs from an earlier one.

    Attributes:
        changed: cells before and after, where the outcome or what decides it differs.
        rerouted: cells with the same outcome by another way: other devices, other interfaces, or another source seen.
        come, gone: cells that only one of the two has.

    """

    changed: tuple[tuple[Cell, Cell], ...]
    rerouted: tuple[tuple[Cell, Cell], ...]
    come: tuple[Cell, ...]
    gone: tuple[Cell, ...]

    def __bool__(self) -> bool:
        return bool(self.changed or self.rerouted or self.come or self.gone)


def compare(before: Grid, after: Grid) -> Changes:
    """What changed between two grids; places in files do not count, since lines move."""
    old, new = before.by_key(), after.by_key()
    changed, rerouted = [], []
    for key, cell in new.items():
        held = old.get(key)
        if held is None:
            continue
        same = (held.words, held.fate, held.where, held.because, held.symptom) == (
            cell.words,
            cell.fate,
            cell.where,
            cell.because,
            cell.symptom,
        )
        if not same:
            changed.append((held, cell))
        elif differences(held, cell):
            rerouted.append((held, cell))
    # what opened or closed comes before what only has another reason
    changed.sort(key=lambda pair: pair[0].answered == pair[1].answered)
    return Changes(
        tuple(changed),
        tuple(rerouted),
        tuple(c for k, c in new.items() if k not in old),
        tuple(c for k, c in old.items() if k not in new),
    )


def differences(before: Cell, after: Cell) -> list[tuple[str, str, str]]:
    """How two cells with one outcome differ: in what, before, after. What an older baseline does not know is not compared."""
    out = []
    if before.path != after.path:
        out.append(("way", " > ".join(before.path), " > ".join(after.path)))
    elif before.exits and before.exits != after.exits:
        out.append(("leaving", *_where_they_part(before.exits, after.exits)))
    if before.exits and before.seen_as != after.seen_as:
        out.append(("seen as", before.seen_as or "nobody", after.seen_as or "nobody"))
    return out


def _where_they_part(before: tuple[str, ...], after: tuple[str, ...]) -> tuple[str, str]:
    """The ways out that differ, device by device; all of them when one list only goes on longer."""
    pairs = [(a, b) for a, b in zip(before, after, strict=False) if a != b] or [("/".join(before), "/".join(after))]
    return ", ".join(a for a, _ in pairs), ", ".join(b for _, b in pairs)


def ends_of(network: Network) -> list[str]:
    """The hosts and far hosts, in the order of the file."""
    out: list[str] = []
    for device in network.devices.values():
        if device.kind is Kind.HOST:
            out.append(device.name)
        out += device.far_hosts
    return out


def fronts_of(network: Network) -> dict[str, list[str]]:
    """The addresses that destination rules send on, each with the services that they do it for.

    Nobody inside has them, and yet they are what the world knows: a change that closes one of them must not go unseen.
    """
    out: dict[str, list[str]] = {}
    for device in network.devices.values():
        for rule in device.translate:
            if not rule.of_source and not rule.disabled:
                words = [str(first_port(s)) for s in rule.services or ()] or ["ping"]
                for address in _sent_on(device, rule):
                    held = out.setdefault(str(address), [])
                    held += [w for w in words if w not in held]
    return out


MOST_SENT_ON = 1 << 16
"""A rule about more addresses than these is about everybody, as a proxy's is, and makes none of them a front."""


def _sent_on(device: Device, rule: Translate) -> Iterator[Address]:
    """The addresses that a rule is about; of a whole subnet the first, for they fare alike."""
    for term in rule.destinations or ():
        if term.spans is None:  # self: the addresses of the interfaces that packets may arrive by
            known = port_names(device)
            names = [p for n in rule.arriving or device.interfaces for p in known.get(n, (n,))]
            yield from (a for a, port in device.own_addresses() if a.family == rule.family and port in names)
        elif term.spans and term.spans[0].last - term.spans[0].first < MOST_SENT_ON:
            first, last = term.spans[0]
            yield from_key(first + (last - first > 1))  # the first of a subnet is its own address, which no packet goes to


def services_at(network: Network, target: str) -> list[str]:
    """A ping, and whatever a target listens for; of an address that is sent on, what is sent on."""
    far = network.far_host(target)
    device = network.devices.get(target)
    serves = far[1].serves if far else device.serves if device else ()
    words = [s.words for s in serves]
    if not words and device is None:
        words = fronts_of(network).get(target, [])
    if device is not None and device.records is not None:
        words.append("domain")
    return list(dict.fromkeys(["ping", *words]))


def questions_of(
    network: Network, sources: Sequence[str] = (), targets: Sequence[str] = (), services: Sequence[str] = ()
) -> list[SingleTest]:
    """The tests of a grid, row by row; a named service is tested member by member.

    Args:
        network: the network.
        sources: who sends; every host and far host when empty.
        targets: whom to reach; every host and far host, and every address that is sent on to somebody, when empty.
        services: what to ask of each; a ping and whatever the target listens for when empty.

    Raises:
        QuestionError: there is nobody to test, or there are more than ``MOST_CELLS`` tests.

    """
    senders = list(dict.fromkeys(sources or ends_of(network)))
    fronts = {} if targets else fronts_of(network)
    goals = list(dict.fromkeys(targets or [*ends_of(network), *fronts]))
    asked = [(t, s) for t in goals for w in (services or services_at(network, t)) for s in members_of(network, w)]
    tests = [SingleTest(s, t, w) for s in senders for t, w in dict.fromkeys(asked) if s != t]
    if len(tests) > MOST_CELLS:
        raise QuestionError(f"{len(tests)} tests are too many (at most {MOST_CELLS}). Name some sources, targets or services.")
    if not tests:
        raise QuestionError("there is nobody to test: the network has no two hosts. Name sources and targets.")
    return tests


def grid(plan: Plan, sources: Sequence[str] = (), targets: Sequence[str] = (), services: Sequence[str] = ()) -> Grid:
    """Send every test of a grid; the arguments are those of ``questions_of``.

    Raises:
        QuestionError: a name is not known, or there are too many tests.

    Args:
        plan: the network.
        sources, targets, services: as for ``questions_of``.

    """
    return gathered(run(plan, questions_of(plan.network, sources, targets, services)))


def run(
    plan: Plan, tests: Iterable[SingleTest], keep: Callable[[Journey], object] | None = None, options: Options | None = None
) -> Iterator[Cell]:
    """The cell of each test, one after the other.

    Args:
        plan: the network.
        tests: as ``questions_of`` gives them; each names one member of a service.
        keep: is called with each journey, for whoever wants more than its cell.
        options: further wishes about the packets, such as the time.

    """
    wishes = options or Options()
    plan = in_weather(plan)
    known: FellowTests[_CellTold] | None = FellowTests(plan) if keep is None and wishes.source is None else None
    for test in map(SingleTest._make, tests):
        told = known.told(test) if known is not None else None
        if told is not None:
            yield _between_fellows(test, *told)
            continue
        journey = trace_one(plan, *test, wishes)
        cell = cell_of(journey, *test)
        if keep is not None:
            keep(journey)
        if known is not None:
            known.keep(test, journey, _CellTold(cell, journey.because, journey.culprit, journey.there.arrived))
        yield cell


class _CellTold(NamedTuple):
    """A cell, as it may be told of a test between fellows of its ends.

    Attributes:
        cell: of the test that was walked.
        because, culprit: its reasons, with the values that they name.
        seen: the packet as it was at the end of its way there.

    """

    cell: Cell
    because: Because
    culprit: Because
    seen: Packet


def _between_fellows(test: SingleTest, told: _CellTold, renamed: Renaming, names_ends: bool) -> Cell:
    """The cell of a test that fares as another did between fellows of its ends."""
    cell, name = told.cell, renamed.names.get
    words, place = cell.because, cell.place
    if names_ends:
        words, place = _reason(renamed.because(told.because), renamed.because(told.culprit))
    exits = (e.partition(" ") for e in cell.exits)
    return Cell(
        *test,
        cell.answered,
        cell.fate,
        cell.cause,
        cell.lost,
        name(cell.where, cell.where),
        words,
        place,
        cell.symptom,
        tuple([name(device, device) for device in cell.path]),
        tuple([f"{name(device, device)}{space}{port}" for device, space, port in exits]),
        seen_as(told.seen._replace(source=renamed.value(told.seen.source))) if cell.seen_as else "",
    )


def gathered(cells: Iterable[Cell]) -> Grid:
    """Cells as a grid."""
    held = tuple(cells)
    return Grid(held, _columns(held))


def _columns(cells: Sequence[Cell]) -> tuple[tuple[str, str], ...]:
    """Targets with their services in their order, of which every row lacks the sender, since nobody is tested to himself."""
    columns: list[tuple[str, str]] = []
    known: set[tuple[str, str]] = set()
    row, left = "", None
    for cell in cells:
        column, left = (cell.target, cell.service), left if cell.source == row else None
        if column not in known:
            columns.insert(columns.index(left) + 1 if left is not None else 0, column)
            known.add(column)
        row, left = cell.source, column
    return tuple(columns)


def cell_of(journey: Journey, source: str, target: str, service: str) -> Cell:
    """A journey as one cell.

    Args:
        journey: what came of the test.
        source, target, service: the test, as it was asked.

    """
    leg = journey.deciding
    if journey.lost == "lookup" and journey.lookup is not None:
        leg = journey.lookup.journey.deciding
    words, place = _reason(journey.because, journey.culprit)
    return Cell(
        source,
        target,
        service,
        journey.answered,
        journey.fate.value,
        journey.cause,
        journey.lost,
        leg.end,
        words,
        place,
        journey.symptom.value,
        tuple(h.device for leg in _forth(journey) for h in leg.every_hop),
        _exits(journey),
        journey.seen_as,
    )


def _reason(because: Because, culprit: Because) -> tuple[str, str]:
    """What a fate rests on and goes back to, in words, and the place of the latter, or of the former."""
    mark = culprit.mark if culprit.mark and culprit.mark.line else because.mark
    words = [culprit.words] if culprit == because else [culprit.words, because.words]
    if mark == culprit.mark:  # the place follows the words that it belongs to
        words.reverse()
    return "; ".join(words), str(mark) if mark and mark.line else ""


def _exits(journey: Journey) -> tuple[str, ...]:
    """The interfaces by which a packet and its answer left each device; a slash between the two ways."""
    legs = (*journey.homeward[:2], *(journey.onward.whole if journey.onward is not None else ()))
    ways = [[f"{h.device} {h.leaving}" for h in leg.every_hop if h.leaving] for leg in legs]
    return tuple(ways[0]) if len(ways) == 1 else (*ways[0], "/", *(w for way in ways[1:] for w in way))


def _forth(journey: Journey) -> list[Leg]:
    """The way there, and that of what was asked onward."""
    return [journey.there, *(_forth(journey.onward) if journey.onward is not None else [])]


def reasons(cells: Iterable[Cell]) -> list[list[Cell]]:
    """The cells that got no answer, those together that one line of the file decides at one device; the most first."""
    out: dict[tuple[str, ...], list[Cell]] = {}
    for cell in cells:
        if not cell.answered:
            out.setdefault((cell.words, cell.fate, cell.where, cell.place or cell.because), []).append(cell)
    return sorted(out.values(), key=lambda some: -len(some))
