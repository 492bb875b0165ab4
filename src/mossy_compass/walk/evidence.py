"""What tests leave behind: how often each row decided, which rows never did, and which tests no row of mine decided.

Counting is done on journeys, after the fact, so that it costs nothing while packets pass. A rule of a list counts packets;
a translation rule counts connections, since further packets of one follow its session (RFC 3022 section 3).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from mossy_compass.plan.facts import Relation
from mossy_compass.plan.ids import TableId, TableKind, list_id
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Did
from mossy_compass.plan.rows import Row
from mossy_compass.plan.table import Table
from mossy_compass.walk.journey import Journey

Key = tuple[str, TableId, str]
"""Device, id of the table, id of the row."""
_K = TableKind
COUNTED = (_K.LIST, _K.TRANSLATE, _K.POLICY_ROUTES, _K.OFFERS, _K.BUILT_IN, _K.DEFAULT)
"""The kinds of tables whose rows are counted."""


@dataclass
class Hits:
    """How often one row decided.

    Attributes:
        packets: all of them.
        connections: those that opened a flow.

    """

    packets: int = 0
    connections: int = 0


class Counted(NamedTuple):
    """A row with what was counted of it.

    Attributes:
        device, table, row: where it is.
        what: verdict, or what a default did.
        place: where it is written; empty for a default.
        hits: the counts.
        unit: ``packets`` or ``connections``.

    """

    device: str
    table: str
    row: str
    what: str
    place: str
    hits: int
    unit: str


class Tally(NamedTuple):
    """What one journey adds to the counts.

    Attributes:
        met: the rows that had a part in it, by device, table and row, each with whether it opened a flow there.
        undecided: sender, target, service and what happened, where no written rule decided; None where one did.

    """

    met: tuple[tuple[Key, bool], ...]
    undecided: tuple[str, str, str, str] | None


def tally_of(journey: Journey) -> Tally:
    """What a journey met, its lookup and every leg included."""
    found: list[tuple[Key, bool]] = []
    written = False
    for met in (m for leg in journey.every_leg for m in leg.admissions() if m.table.kind in COUNTED):
        row = met.row or ("empty-list" if met.table.kind is _K.LIST else "")
        found.append(((met.device, met.table, row), met.ruling.relation in (Relation.OPENING, Relation.EXPECTED)))
        rule = met.table.kind in (_K.LIST, _K.OFFERS) and row not in ("empty-list", "end-of-list", "not-offered")
        written = written or (rule and met.decides)
    told = None if written else (journey.sender, journey.target, journey.what, journey.symptom.value)
    return Tally(tuple(found), told)


@dataclass
class Counters:
    """The counts of many journeys.

    Attributes:
        hits: by device, table and row.
        tests: how many journeys were counted.
        undecided: tests that no written rule decided: sender, target, service, and what happened.

    """

    hits: dict[Key, Hits] = field(default_factory=dict)
    tests: int = 0
    undecided: list[tuple[str, str, str, str]] = field(default_factory=list)

    def add(self, journey: Journey) -> None:
        """Count what a journey met, its lookup and every leg included."""
        self.count(tally_of(journey))

    def count(self, tally: Tally) -> None:
        """Count what a journey met."""
        self.tests += 1
        for key, opens in tally.met:
            hits = self.hits.get(key)
            if hits is None:
                hits = self.hits[key] = Hits()
            hits.packets += 1
            hits.connections += opens
        if tally.undecided is not None:
            self.undecided.append(tally.undecided)

    def copied(self) -> Counters:
        """The same counts, which later ones do not change."""
        hits = {key: Hits(h.packets, h.connections) for key, h in self.hits.items()}
        return Counters(hits, self.tests, list(self.undecided))

    def of(self, device: str, table: TableId, row: str) -> Hits:
        """The counts of a row; zero where nothing met it."""
        return self.hits.get((device, table, row), Hits())


def rows_of(plan: Plan) -> Iterator[tuple[str, Table, Row]]:
    """Every row that could be met: of lists where they stand, translations, policy routes, offers; built-in ones too."""
    for name, device in plan.network.devices.items():
        if not device.layer3:
            continue
        here = plan.device(name)
        tables = dict(here.tables())
        for entry in device.policy_routes:  # a list that says which packets an entry is about is met, and stands nowhere
            if entry.classifier and not entry.disabled and here.has_list(entry.classifier):
                chooser = here.read_list(entry.classifier)
                tables.setdefault(chooser.id, chooser)
        for table in tables.values():
            yield from ((name, table, row) for row in table.rows)


def counted(plan: Plan, counters: Counters) -> list[Counted]:
    """Every row with its count, those that were never met too; then the defaults that decided something."""
    out = []
    seen = set()
    for device, table, row in rows_of(plan):
        seen.add((device, table.id, row.id))
        if row.built_in and not counters.of(device, table.id, row.id).packets:
            continue
        translate = table.id.kind is _K.TRANSLATE
        hits = counters.of(device, table.id, row.id)
        what = ("disabled " if row.disabled else "") + (row.verdict.value if row.verdict else "applies")
        number = hits.connections if translate else hits.packets
        place = str(row.mark) if row.mark.line else ""
        out.append(Counted(device, table.name, row.id, what, place, number, "connections" if translate else "packets"))
    for (device, table_id, row_id), hits in sorted(counters.hits.items()):
        if (device, table_id, row_id) not in seen:
            out.append(
                Counted(
                    device,
                    table_id.name if table_id.kind is _K.LIST else str(table_id),
                    row_id,
                    "default",
                    "",
                    hits.packets,
                    "packets",
                )
            )
    return out


class RulePart(NamedTuple):
    """The part that a rule had in what became of a flow, at one of the places where its list is asked.

    Attributes:
        journey: of the flow.
        way: on which it was met there first.
        place: where its list stands.
        did: what it did.

    """

    journey: Journey
    way: str
    place: str
    did: Did


def decided_by(journeys: Iterable[Journey], list_name: str, row: str) -> Iterator[RulePart]:
    """The journeys in whose fate a rule had a part, once for each place where it was met."""
    for journey in journeys:
        met = ((leg, m) for leg in journey.every_leg for m in leg.admissions() if m.table == list_id(list_name) and m.row == row)
        first: dict[str, RulePart] = {}
        for leg, admission in met:
            first.setdefault(admission.place, RulePart(journey, leg.way.value, admission.place, admission.did))
        yield from first.values()
