"""Access lists where they stand at an interface: a list says verdicts, the place says what follows from them.

What happens when no rule decides belongs to the place: the end of the list, an empty list, no list at all. Each is a row
like any other, with a name that a ruling cites.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from mossy_compass.model.network import Verdict
from mossy_compass.model.settings import EndOfList
from mossy_compass.plan.actions import PASS, Action, Decision, Leave, Pass, Reply, Stop
from mossy_compass.plan.conditions import members
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate, setting
from mossy_compass.plan.stages.step import NOT_ADMITTED, Step, guard
from mossy_compass.plan.table import Row, Table

if TYPE_CHECKING:
    from mossy_compass.plan.plan import DevicePlan

FILTER: Mapping[Verdict, tuple[Action, ...]] = {
    Verdict.PERMIT: PASS,
    Verdict.DENY: (Stop(Fate.DROPPED, "filter.rule"),),
    Verdict.REJECT: (Stop(Fate.REJECTED, "filter.rule", Reply.REJECTION),),
}
"""What a verdict comes to where a list filters."""
_DID = {Verdict.PERMIT: Did.PERMITTED, Verdict.DENY: Did.DROPPED, Verdict.REJECT: Did.REJECTED}


class Consult(NamedTuple):
    """A list at a place, with what each verdict comes to there.

    Attributes:
        table: the rows of the list, as the device reads them.
        on: the actions that each verdict comes to at this place.

    """

    table: Table
    on: Mapping[Verdict, tuple[Action, ...]]


class Otherwise(NamedTuple):
    """The row of a place that decides when no rule does.

    Attributes:
        id: the setting that it is.
        decision: None where it lets the packet pass and nobody needs to be told.

    """

    id: str
    decision: Decision | None


class Place:
    """Lists at one point of a device's path, asked in order.

    Attributes:
        consults: the lists; a packet goes on to the next when none of the rules of the one before decided.
        otherwise: what happens when none did.

    """

    __slots__ = ("_decisions", "consults", "otherwise")

    def __init__(self, consults: Sequence[Consult], otherwise: Otherwise) -> None:
        self.consults = tuple(consults)
        self.otherwise = otherwise
        self._decisions: dict[tuple[str, str], Decision] = {}

    @property
    def silent(self) -> bool:
        """True when no packet is ever stopped or told of here."""
        return not self.consults and self.otherwise.decision is None

    def decide(self, facts: Facts) -> Decision | None:
        """The decision of the first rule that a packet meets, or of the place's own row."""
        for consult in self.consults:
            row = consult.table.first(facts)
            if row is None:
                continue
            decision = self._of(consult, row)
            if isinstance(decision.actions[0], Leave):
                continue
            named = [m for m in (members(c, facts) for c in row.conditions if c.terms) if m]
            return decision._replace(note=Because("note.member", (tuple(named),))) if named else decision
        return self.otherwise.decision

    def _of(self, consult: Consult, row: Row) -> Decision:
        """The decision that a row's verdict comes to at this place."""
        key = (consult.table.id, row.id)
        found = self._decisions.get(key)
        if found is None:
            assert row.verdict is not None
            because = Because("rule", (consult.table.name, row.id), row.mark, row.about)
            found = Decision(_DID[row.verdict], because, consult.on[row.verdict], None, consult.table.id, row.id, row.log)
            self._decisions[key] = found
        return found


def otherwise(here: DevicePlan, table: Table | None, where: str, port: str) -> Otherwise:
    """What a place with this list, or with none, does when no rule decides.

    Args:
        here: the device.
        table: the attached list; None when nothing is attached.
        where: arriving or leaving.
        port: the interface.

    """
    settings = here.settings
    if table is None:
        told = settings.no_list_permits and where == "arriving" and here.is_outside(port)
        because, note = setting(settings, "no-list"), Because("note.no-list", (where, here.name, port))
        if settings.no_list_permits:
            return Otherwise("no-list", Decision(Did.PERMITTED, because, PASS, note) if told else None)
        stop = Stop(Fate.DROPPED, "filter.none")
        return Otherwise("no-list", Decision(Did.DROPPED, because, (stop,), note))
    if not table.rows:
        mark = settings.mark("empty-list") or table.mark
        because = Because("list.empty", (table.name, settings.text("empty-list")), mark, table.about)
        note = Because("note.list", (table.name, where, here.name, port))
        if settings.empty_list_permits:
            return Otherwise("empty-list", Decision(Did.PERMITTED, because, PASS, note, table.id))
        return Otherwise("empty-list", Decision(Did.DROPPED, because, (Stop(Fate.DROPPED, "filter.empty"),), None, table.id))
    because = Because("list.end", (table.name,), table.mark, table.about)
    note = Because("note.end", (len(table.rows), settings.text("end-of-list")))
    actions: dict[EndOfList, tuple[Did, Action]] = {
        EndOfList.PERMIT: (Did.PERMITTED, Pass()),
        EndOfList.DENY: (Did.DROPPED, Stop(Fate.DROPPED, "filter.end")),
        EndOfList.REJECT: (Did.REJECTED, Stop(Fate.REJECTED, "filter.end", Reply.REJECTION)),
    }
    did, action = actions[settings.end_of_list]
    return Otherwise("end-of-list", Decision(did, because, (action,), note, table.id, "end-of-list"))


def place_at(here: DevicePlan, port: str, where: str) -> Place:
    """The place of an interface's list for packets that arrive or leave by it."""
    interface = here.device.interfaces[port]
    name = interface.arriving_list if where == "arriving" else interface.leaving_list
    table = here.read_list(name) if name is not None else None
    return Place([Consult(table, FILTER)] if table is not None else [], otherwise(here, table, where, port))


def arriving(here: DevicePlan, port: str | None) -> Step | None:
    """The list attached to the arriving interface."""
    if port is None:
        return None
    place = place_at(here, port, "arriving")
    return None if place.silent else Step(Stage.ARRIVING_LIST, guard(NOT_ADMITTED), place.decide)


def leaving(here: DevicePlan, port: str | None) -> Step | None:
    """The list attached to the leaving interface. A device trusts its own packets unless the setting says otherwise."""
    if port is None and not here.settings.own_packets_filtered:
        return None
    places = {name: place_at(here, name, "leaving") for name in here.device.interfaces}
    if all(p.silent for p in places.values()):
        return None

    def decide(facts: Facts) -> Decision | None:
        """What the attached list says of a packet."""
        return places[facts.leaving].decide(facts) if facts.leaving is not None else None

    return Step(Stage.LEAVING_LIST, guard(NOT_ADMITTED), decide)
