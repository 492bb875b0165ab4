"""Access lists where they stand: a list says verdicts, the place says what follows from them.

What happens when no rule decides belongs to the place: the end of the list, an empty list, no list at all. Each is a row
like any other, with a name that a ruling cites. Places at interfaces are here; crossings, and what is for the device
itself, in ``gates.py``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from mossy_compass.model.gates import Profile
from mossy_compass.model.network import Verdict
from mossy_compass.model.settings import EmptyList, EndOfList
from mossy_compass.plan.actions import LET_IN, Action, Consult, Decision, Leave, Listed, Pass, Reply, Stop
from mossy_compass.plan.conditions import Condition, term_condition
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.ids import DEFAULTS, stage_table
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate, setting
from mossy_compass.plan.rows import StageRow
from mossy_compass.plan.stages.step import NOT_ADMITTED, NOT_LET_IN, Step, one_of
from mossy_compass.plan.table import Table

FILTER: Mapping[Verdict, tuple[Action, ...]] = {
    Verdict.PERMIT: LET_IN,
    Verdict.DENY: (Stop(Fate.DROPPED, "filter.rule"),),
    Verdict.REJECT: (Stop(Fate.REJECTED, "filter.rule", Reply.REJECTION),),
    Verdict.HAND_ON: (Leave(),),
}
"""What a verdict comes to where a list filters."""
LOGGED_DEFAULT = "warning"
"""Severity of the line that ``log-defaults`` writes (RFC 5424 section 6.2.1)."""


class Otherwise(NamedTuple):
    """The row of a place that decides when no rule does.

    Attributes:
        id: the setting that it is.
        decision: None where it lets the packet pass and nobody needs to be told.
        unless_let_in: it is not asked about a packet that a list let pass earlier at this device.
        tell: gives reason and remark where those depend on the packet.

    """

    id: str
    decision: Decision | None
    unless_let_in: bool = False
    tell: Callable[[Facts], tuple[Because, Because | None]] | None = None


SILENT = Otherwise("", None)


class Variant(NamedTuple):
    """Other lists for some of the packets of a place.

    Attributes:
        name: of the profile.
        members: what is true of the packets that it is for; no condition for all of them.
        consults: the lists that they meet.
        otherwise: what happens when none of them decides.

    """

    name: str
    members: tuple[Condition, ...]
    consults: tuple[Consult, ...]
    otherwise: Otherwise


class Place(NamedTuple):
    """Lists at one point of a device's path, asked in order.

    Attributes:
        consults: the lists; a packet goes on to the next when none of the rules of the one before decided.
        otherwise: what happens when none did.
        variants: lists of profiles; the first to which a packet belongs is asked instead of ``consults``.

    """

    consults: tuple[Consult, ...]
    otherwise: Otherwise
    variants: tuple[Variant, ...] = ()

    @property
    def silent(self) -> bool:
        """True when no packet is ever stopped or told of here."""
        return not self.consults and not self.variants and self.otherwise.decision is None

    @property
    def asks_application(self) -> bool:
        """True when a rule here asks for the flow's application, which may not be known yet."""
        every = (*self.consults, *(c for v in self.variants for c in v.consults))
        return any(c.table.asks_application for c in every)


def rows_at(place: Place, *meant: Condition) -> Iterator[StageRow]:
    """A place as rows of the stage that asks there.

    Args:
        place: the lists, and what happens when none of their rules decides.
        meant: what is true of the packets that come to the place; no condition for all that the stage is about.

    """
    waits = place.asks_application
    for variant in place.variants:
        yield from _rows(variant.consults, variant.otherwise, (*meant, *variant.members), waits, variant.name)
    yield from _rows(place.consults, place.otherwise, meant, waits)


def _rows(
    consults: tuple[Consult, ...], end: Otherwise, meant: tuple[Condition, ...], waits: bool, profile: str = ""
) -> Iterator[StageRow]:
    """The rows of some lists and their end. Where some rule waits for the application, every pass is one for now."""
    if waits:
        consults = tuple(c._replace(on={v: _for_now(actions) for v, actions in c.on.items()}) for c in consults)
    decision = end.decision
    actions = () if decision is None else _for_now(decision.actions) if waits else decision.actions
    if end.unless_let_in:
        if consults:
            yield StageRow("lists", meant, actions=consults, profile=profile)
        consults, meant = (), (*meant, NOT_LET_IN)
    if decision is None:
        done: tuple[Action, ...] = (*consults, *((Pass(again=True),) if waits else ()))
        if done:
            yield StageRow("lists", meant, actions=done, profile=profile)
        return
    yield StageRow(
        end.id,
        meant,
        actions=(*consults, *actions),
        did=decision.did,
        because=decision.because,
        note=decision.note,
        tell=end.tell,
        cites=(decision.table, decision.row),
        log=decision.logged,
        profile=profile,
    )


def _for_now(actions: tuple[Action, ...]) -> tuple[Action, ...]:
    """The same actions, with what they let pass let pass until more is known."""
    return tuple(a._replace(again=True) if isinstance(a, Pass) else a for a in actions)


def end_of(here: DevicePlan, tables: Sequence[Listed], where: str, port: str) -> Otherwise:
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
    return Otherwise("no-list", Decision(Did.DROPPED, because, stop, note, DEFAULTS, "no-list", logged))


def otherwise(here: DevicePlan, tables: Sequence[Listed], where: str, port: str) -> Otherwise:
    """What a place with these lists, or with none, does when no rule decides."""
    return end_of(here, tables, where, port) if tables else _nothing_attached(here, where, port)


def lists_of(here: DevicePlan, names: Iterable[str]) -> tuple[Consult, ...]:
    """Lists by name, as filters. One without any rule is as if it were not attached, unless ``empty-list`` says otherwise."""
    found = (here.read_list(name) for name in names)
    ignored = here.settings.empty_list is EmptyList.IGNORE
    return tuple(Consult(table, FILTER) for table in found if table.rows or not ignored)


def _variant(here: DevicePlan, profile: Profile, common: tuple[Consult, ...], port: str) -> Variant:
    """A profile's lists instead of the common ones, before them or after them. An answer belongs to who asked."""
    own = lists_of(here, profile.lists)
    consults = {"instead": own, "before": (*own, *common), "after": (*common, *own)}[profile.mode]
    asked = term_condition("from", profile.members or (), here.reader) if profile.members is not None else None
    members = () if asked is None else (_of_opener(asked),)
    return Variant(profile.name, members, consults, end_of(here, [c.table for c in consults], "arriving", port))


def _of_opener(condition: Condition) -> Condition:
    """A condition on sources as one on who opened the flow."""
    # A wildcard that is no few runs has a field of its own for a packet's ends, and none for who opened the flow.
    spans = dict(condition.parts)["source"]
    masked = dict(condition.parts).get("source-bits", ())
    parts = (("opener", spans), ("opener-bits", masked)) if masked else (("opener", spans),)
    return Condition("members", parts, condition.wants)


def place_at(here: DevicePlan, port: str, where: str) -> Place:
    """The place of an interface's lists for packets that arrive or leave by it."""
    interface, gates = here.device.interfaces[port], here.device.gates
    if where == "arriving" and interface.tunnel is not None and here.settings.text("lists-see-inner") == "no":
        return Place((), SILENT)
    names = interface.leaving_lists
    if where == "arriving":
        names = (*(gates.everywhere if gates.everywhere_on else ()), *interface.arriving_lists)
    common = lists_of(here, names)
    variants = []
    if where == "arriving":
        for profile in gates.profiles:
            meant = profile.arriving is None or port in here.reader.interfaces(profile.arriving)
            if meant and lists_of(here, profile.lists):
                variants.append(_variant(here, profile, common, port))
    return Place(common, otherwise(here, [c.table for c in common], where, port), tuple(variants))


def arriving(here: DevicePlan, port: str | None) -> Step | None:
    """The lists for whatever arrives, then those attached to the arriving interface; or those of a profile."""
    if port is None:
        return None
    place = place_at(here, port, "arriving")
    if place.silent:
        return None
    return Step(Stage.ARRIVING_LIST, (NOT_ADMITTED,), (Table(stage_table("arriving list"), rows_at(place)),), here.names_at)


def leaving(here: DevicePlan, port: str | None) -> Step | None:
    """The lists attached to the leaving interface. A device trusts its own packets unless the setting says otherwise."""
    if port is None and not here.settings.own_packets_filtered:
        return None
    table = here.once(Stage.LEAVING_LIST, lambda: _leaving_table(here))
    return Step(Stage.LEAVING_LIST, (NOT_ADMITTED,), (table,), here.names_at) if table.rows else None


def _leaving_table(here: DevicePlan) -> Table:
    """The lists of all interfaces for what leaves by them."""
    places = {name: place_at(here, name, "leaving") for name in here.device.interfaces}
    rows = (r for name, place in places.items() if not place.silent for r in rows_at(place, one_of("leaving", name)))
    return Table(stage_table("leaving list"), rows)
