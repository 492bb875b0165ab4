"""Access lists where they stand: a list says verdicts, the place says what follows from them.

What happens when no rule decides belongs to the place: the end of the list, an empty list, no list at all. Each is a row
like any other, with a name that a ruling cites. Places at interfaces are here; crossings, and what is for the device
itself, in ``gates.py``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from mossy_compass.model.gates import Profile
from mossy_compass.model.network import Verdict
from mossy_compass.model.settings import EmptyList, EndOfList
from mossy_compass.packet.address import Address, in_spans
from mossy_compass.plan.actions import LET_IN, Action, Decision, Leave, Pass, Reply, Stop
from mossy_compass.plan.conditions import members
from mossy_compass.plan.facts import Direction, Facts, Judged
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate, setting
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.step import NOT_ADMITTED, Step, guard
from mossy_compass.plan.table import Table

if TYPE_CHECKING:
    from mossy_compass.plan.plan import DevicePlan

FILTER: Mapping[Verdict, tuple[Action, ...]] = {
    Verdict.PERMIT: LET_IN,
    Verdict.DENY: (Stop(Fate.DROPPED, "filter.rule"),),
    Verdict.REJECT: (Stop(Fate.REJECTED, "filter.rule", Reply.REJECTION),),
    Verdict.HAND_ON: (Leave(),),
}
"""What a verdict comes to where a list filters."""
_DID = {Verdict.PERMIT: Did.PERMITTED, Verdict.DENY: Did.DROPPED, Verdict.REJECT: Did.REJECTED, Verdict.HAND_ON: None}
LOGGED_DEFAULT = "warning"
"""Severity of the line that ``log-defaults`` writes (RFC 5424 section 6.2.1)."""


class Consult(NamedTuple):
    """A list at a place, with what each verdict comes to there.

    Attributes:
        table: the rows of the list, as the device reads them.
        on: the actions that each verdict comes to at this place.

    """

    table: Table
    on: Mapping[Verdict, tuple[Action, ...]] = FILTER


class Otherwise(NamedTuple):
    """The row of a place that decides when no rule does.

    Attributes:
        id: the setting that it is.
        decision: None where it lets the packet pass and nobody needs to be told.
        unless_let_in: it is not asked about a packet that a list let pass earlier at this device.

    """

    id: str
    decision: Decision | None
    unless_let_in: bool = False


SILENT = Otherwise("", None)


class Variant(NamedTuple):
    """Other lists for some of the packets of a place.

    Attributes:
        name: of the profile.
        belongs: takes the facts and says whether a packet is one of these.
        consults: the lists that it meets.
        otherwise: what happens when none of them decides.

    """

    name: str
    belongs: Callable[[Facts], bool]
    consults: tuple[Consult, ...]
    otherwise: Otherwise


class Place:
    """Lists at one point of a device's path, asked in order.

    Attributes:
        consults: the lists; a packet goes on to the next when none of the rules of the one before decided.
        otherwise: what happens when none did.
        variants: lists of profiles; the first to which a packet belongs is asked instead of ``consults``.
        names_at: the names that an address has anywhere in the network, to say what else a rule by name is about.
        stage: which asks here; what may have to be judged again is found by it.

    """

    __slots__ = ("_asks_application", "_decisions", "consults", "names_at", "otherwise", "stage", "variants")

    def __init__(
        self,
        consults: Iterable[Consult],
        otherwise: Otherwise,
        variants: Iterable[Variant] = (),
        names_at: Callable[[Address], tuple[str, ...]] | None = None,
        stage: Stage = Stage.ARRIVING_LIST,
    ) -> None:
        self.stage = stage
        self.consults = tuple(consults)
        self.otherwise = otherwise
        self.variants = tuple(variants)
        self.names_at = names_at
        self._decisions: dict[tuple[str, str], Decision] = {}
        every = (*self.consults, *(c for v in self.variants for c in v.consults))
        self._asks_application = any(c.table.asks_application for c in every)

    @property
    def silent(self) -> bool:
        """True when no packet is ever stopped or told of here."""
        return not self.consults and not self.variants and self.otherwise.decision is None

    def decide(self, facts: Facts) -> Decision | None:
        """The decision of the first rule that a packet meets, or of the place's own row."""
        variant = next((v for v in self.variants if v.belongs(facts)), None) if self.variants else None
        consults, end = (self.consults, self.otherwise) if variant is None else (variant.consults, variant.otherwise)
        decision = self._first(consults, end, facts)
        if variant is not None and decision is not None:
            decision = decision._replace(note=Because("note.profile", (variant.name, decision.note)))
        if self._asks_application and not (decision and isinstance(decision.actions[0], Stop)):
            decision = self._pending(consults, facts, decision)
        return decision

    def _first(self, consults: Sequence[Consult], end: Otherwise, facts: Facts) -> Decision | None:
        """The first list whose rule decides; the end of the last one where none does."""
        for consult in consults:
            row = consult.table.first(facts)
            if row is None:
                continue
            decision = self._of(consult, row)
            if isinstance(decision.actions[0], Leave):
                continue
            return self._with_note(decision, row, facts)
        return None if end.unless_let_in and facts.opened_by != ("", "") else end.decision

    def _with_note(self, decision: Decision, row: Row, facts: Facts) -> Decision:
        """The decision with what else a reader should know of the row: which member holds the packet, which other names."""
        named = [m for m in (members(c, facts) for c in row.conditions if c.terms) if m]
        if named:
            return decision._replace(note=Because("note.member", (tuple(named),)))
        asked = [w for c in row.conditions if c.key == "name" for w in c.wants]
        if asked and self.names_at is not None:
            address = facts.packet.destination
            others = tuple(n for n in self.names_at(address) if n not in asked)
            if others:
                return decision._replace(note=Because("note.other-names", (address, others)))
        return decision

    def _pending(self, consults: Sequence[Consult], facts: Facts, decision: Decision | None) -> Decision | None:
        """Note that the packet was let pass before its application was known: the rules that ask for it could not decide."""
        moment = facts.moment
        if moment.application is None or facts.number >= moment.known_from:
            return decision
        known = facts.packet, facts.arriving, facts.leaving, facts.relation, facts.front, facts.opened_by
        facts.pending += (Judged(self.stage.value, *known),)
        waiting = tuple((c.table.name, r.id) for c in consults for r in c.table.above_asking(facts, "application"))
        if decision is None or not waiting:
            return decision
        return decision._replace(note=Because("note.application-later", (waiting, moment.known_from, decision.note)))

    def _of(self, consult: Consult, row: Row) -> Decision:
        """The decision that a row's verdict comes to at this place."""
        key = (consult.table.id, row.id)
        found = self._decisions.get(key)
        if found is None:
            assert row.verdict is not None
            because = row.because or Because("rule", (consult.table.name, row.id), row.mark, row.about)
            actions = consult.on[row.verdict]
            first = actions[0]
            if row.answer and isinstance(first, Stop):
                actions = (first._replace(answer=row.answer), *actions[1:])
            found = Decision(_DID[row.verdict], because, actions, None, consult.table.id, row.id, row.log)
            self._decisions[key] = found
        return found


def end_of(here: DevicePlan, tables: Sequence[Table], where: str, port: str) -> Otherwise:
    """What happens when no rule of these lists decided, of which there is at least one.

    Args:
        here: the device.
        tables: the lists, in their order.
        where: arriving, leaving, or another place, for the words.
        port: the interface, or the pair of zones.

    """
    settings = here.settings
    last = tables[-1]
    logged = LOGGED_DEFAULT if settings.logs_defaults else ""
    if not any(t.rows for t in tables):
        mark = settings.mark("empty-list") or last.mark
        because = Because("list.empty", (last.name, settings.text("empty-list")), mark, last.about)
        note = Because("note.list", (last.name, where, here.name, port))
        if settings.empty_list is EmptyList.PERMIT:
            return Otherwise("empty-list", Decision(Did.PERMITTED, because, LET_IN, note, last.id))
        stop = (Stop(Fate.DROPPED, "filter.empty"),)
        return Otherwise("empty-list", Decision(Did.DROPPED, because, stop, None, last.id, "", logged))
    because = Because("list.end", (last.name,), last.mark, last.about)
    note = Because("note.end", (sum(len(t.rows) for t in tables), settings.text("end-of-list"), len(tables)))
    actions: dict[EndOfList, tuple[Did, Action]] = {
        EndOfList.PERMIT: (Did.PERMITTED, Pass(lets_in=True)),
        EndOfList.DENY: (Did.DROPPED, Stop(Fate.DROPPED, "filter.end")),
        EndOfList.REJECT: (Did.REJECTED, Stop(Fate.REJECTED, "filter.end", Reply.REJECTION)),
    }
    did, action = actions[settings.end_of_list]
    stops = logged if isinstance(action, Stop) else ""
    return Otherwise("end-of-list", Decision(did, because, (action,), note, last.id, "end-of-list", stops))


def _nothing_attached(here: DevicePlan, where: str, port: str) -> Otherwise:
    """What the setting no-list says."""
    settings = here.settings
    if settings.no_list_permits:
        return Otherwise("no-list", None)
    because, note = setting(settings, "no-list"), Because("note.no-list", (where, here.name, port))
    stop = (Stop(Fate.DROPPED, "filter.none"),)
    logged = LOGGED_DEFAULT if settings.logs_defaults else ""
    return Otherwise("no-list", Decision(Did.DROPPED, because, stop, note, "default", "no-list", logged))


def otherwise(here: DevicePlan, tables: Sequence[Table], where: str, port: str) -> Otherwise:
    """What a place with these lists, or with none, does when no rule decides."""
    return end_of(here, tables, where, port) if tables else _nothing_attached(here, where, port)


def lists_of(here: DevicePlan, names: Iterable[str]) -> tuple[Consult, ...]:
    """Lists by name, as filters. One without any rule is as if it were not attached, unless ``empty-list`` says otherwise."""
    found = (here.read_list(name) for name in names)
    ignored = here.settings.empty_list is EmptyList.IGNORE
    return tuple(Consult(table) for table in found if table.rows or not ignored)


def _variant(here: DevicePlan, profile: Profile, common: tuple[Consult, ...], port: str) -> Variant:
    """A profile's lists instead of the common ones, before them or after them."""
    own = lists_of(here, profile.lists)
    consults = {"instead": own, "before": (*own, *common), "after": (*common, *own)}[profile.mode]
    wanted = profile.members or ()

    def belongs(facts: Facts) -> bool:
        """Whether who opened the flow is a member: an answer belongs to who asked."""
        session = facts.session
        asked = session is not None and facts.direction is Direction.BACK
        opener = session.inner.source if session is not None and asked else facts.packet.source
        return profile.members is None or any(
            in_spans(opener.key, here.own_spans) if t.spans is None else t.holds(opener) for t in wanted
        )

    return Variant(profile.name, belongs, consults, end_of(here, [c.table for c in consults], "arriving", port))


def place_at(here: DevicePlan, port: str, where: str) -> Place:
    """The place of an interface's lists for packets that arrive or leave by it."""
    interface, gates = here.device.interfaces[port], here.device.gates
    names = interface.leaving_lists
    if where == "arriving":
        names = (*(gates.everywhere if gates.everywhere_on else ()), *interface.arriving_lists)
    common = lists_of(here, names)
    variants = []
    if where == "arriving":
        for profile in gates.profiles:
            ports = None if profile.arriving is None else {p for n in profile.arriving for p in here.reader.ports.get(n, (n,))}
            if (ports is None or port in ports) and lists_of(here, profile.lists):
                variants.append(_variant(here, profile, common, port))
    stage = Stage.ARRIVING_LIST if where == "arriving" else Stage.LEAVING_LIST
    return Place(common, otherwise(here, [c.table for c in common], where, port), variants, here.names_at, stage)


def arriving(here: DevicePlan, port: str | None) -> Step | None:
    """The lists for whatever arrives, then those attached to the arriving interface; or those of a profile."""
    if port is None:
        return None
    place = place_at(here, port, "arriving")
    return None if place.silent else Step(Stage.ARRIVING_LIST, guard(NOT_ADMITTED), place.decide)


def leaving(here: DevicePlan, port: str | None) -> Step | None:
    """The lists attached to the leaving interface. A device trusts its own packets unless the setting says otherwise."""
    if port is None and not here.settings.own_packets_filtered:
        return None
    if here.leaving_places is None:
        here.leaving_places = {name: place_at(here, name, "leaving") for name in here.device.interfaces}
    places = here.leaving_places
    if all(p.silent for p in places.values()):
        return None

    def decide(facts: Facts) -> Decision | None:
        """What the attached lists say of a packet."""
        return places[facts.leaving].decide(facts) if facts.leaving is not None else None

    return Step(Stage.LEAVING_LIST, guard(NOT_ADMITTED), decide)
