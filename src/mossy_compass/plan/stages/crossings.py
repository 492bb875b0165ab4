"""Places that are no interface's: crossings between zones, what is for the device and of it, and one front's service.

All of them are a ``Place`` with lists, and differ in which lists stand there and in what happens when no rule decides.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from mossy_compass.headers.spans import merge
from mossy_compass.model.gates import Crossing, Offer
from mossy_compass.model.network import Translate, Verdict
from mossy_compass.packet.address import Span
from mossy_compass.packet.service import ICMP, ICMP6, Service, icmp_span
from mossy_compass.plan.actions import LET_IN, Action, Consult, Decision, Leave, Stop
from mossy_compass.plan.builtin import FROM_SELF, TO_SELF, built_in_table
from mossy_compass.plan.conditions import Condition, term_condition
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.fields import service_span
from mossy_compass.plan.ids import DEFAULTS, TableId, TableKind, stage_table
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate, setting
from mossy_compass.plan.rows import Row, StageRow
from mossy_compass.plan.stages.lists import FILTER, LOGGED_DEFAULT, SILENT, Otherwise, Place, end_of, lists_of, rows_at
from mossy_compass.plan.stages.step import NOT_ADMITTED, NOT_LET_IN, Step, one_of
from mossy_compass.plan.table import Table

ANY, SELF = "any", "self"
_UNASKED = Condition(
    "state", (("relation", frozenset(Relation) - {Relation.ANSWERING, Relation.RELATED}),), ("whatever else is asked",)
)
_OFFERED: dict[Verdict, tuple[Action, ...]] = {Verdict.PERMIT: LET_IN, Verdict.DENY: (Stop(Fate.DROPPED, "self.not-offered"),)}


def crossing_for(here: DevicePlan, origin: str | None, into: str | None) -> Crossing | None:
    """The first written crossing that a pair of interfaces belongs to; None stands for the device itself."""
    return next((c for c in here.device.gates.crossings if _is(here, c.origin, origin) and _is(here, c.into, into)), None)


def _is(here: DevicePlan, word: str, port: str | None) -> bool:
    """Whether a crossing's word means an interface; ``any`` means every interface, and not the device itself."""
    if port is None:
        return word == SELF
    return word == ANY or port in here.reader.ports.get(word, ())


def _default_name(here: DevicePlan, origin: str | None, into: str | None) -> str:
    """The setting that says the default for a pair; empty where another one does."""
    if origin is None:
        return ""  # what the device says itself is for from-self
    from_outside, to_outside = here.is_outside(origin), into is not None and here.is_outside(into)
    if from_outside != to_outside:
        return "inbound" if from_outside else "outbound"
    return "" if into is None else "through"  # from inside to the device itself: to-self says


def default_for(here: DevicePlan, origin: str | None, into: str | None) -> Otherwise:
    """The default for what no crossing is written for: by whether it comes from outside, and goes outside.

    Args:
        here: the device.
        origin, into: interfaces; None for the device itself.

    """
    name = _default_name(here, origin, into)
    if not name:
        return SILENT
    permits = {"inbound": here.settings.inbound, "outbound": here.settings.outbound, "through": here.settings.through}[name]
    because = setting(here.settings, name)
    note = Because("note.no-rule", (here.name, origin, into or ""))

    def tell(facts: Facts) -> tuple[Because, Because | None]:
        """The default, with the pair of interfaces that no rule is written for."""
        return because, Because("note.no-rule", (here.name, origin, "" if into is None else facts.leaving))

    if permits:
        told = name == "inbound" and here.device.kind.value == "firewall"
        return Otherwise(name, Decision(Did.PERMITTED, because, LET_IN, note, DEFAULTS, name) if told else None, True, tell)
    logged = LOGGED_DEFAULT if here.settings.logs_defaults else ""
    stop = (Stop(Fate.DROPPED, f"filter.{name}"),)
    return Otherwise(name, Decision(Did.DROPPED, because, stop, note, DEFAULTS, name, logged), True, tell)


def pair_words(here: DevicePlan, origin: str | None, into: str | None) -> str:
    """A pair of interfaces as ``house into world``, by their zones where they have one."""
    return f"{_zone(here, origin)} into {_zone(here, into)}"


def _zone(here: DevicePlan, port: str | None) -> str:
    """An interface's zone, or its own name; the device itself is ``self``."""
    return SELF if port is None else here.device.interfaces[port].zone or port


def crossing_place(here: DevicePlan, origin: str | None, into: str) -> Place:
    """What stands between two interfaces: the lists of the first crossing that is written for them, or a default."""
    found = crossing_for(here, origin, into)
    consults = lists_of(here, found.lists) if found is not None else ()
    if found is None or not consults:
        return Place((), default_for(here, origin, into))
    return Place(consults, end_of(here, [c.table for c in consults], "crossing", found.words))


def crossing(here: DevicePlan, port: str | None) -> Step | None:
    """The lists for what passes from one zone into another, once it is known where the packet leaves."""
    table = Table(
        stage_table("crossing"), [r for place, ports in _crossings(here, port) for r in _crossing_rows(here, place, ports)]
    )
    return Step(Stage.CROSSING, (NOT_ADMITTED,), (table,), here.names_at) if table.rows else None


def _crossings(here: DevicePlan, port: str | None) -> Iterator[tuple[Place, list[str]]]:
    """What stands between an interface and each other, those together where it is the same; without the silent ones."""
    alike: dict[tuple[object, ...], list[str]] = {}
    for into in here.device.interfaces:
        found = crossing_for(here, port, into)
        key = (
            (found.words, *found.lists)
            if found is not None and lists_of(here, found.lists)
            else (None, _default_name(here, port, into))
        )
        alike.setdefault(key, []).append(into)
    for ports in alike.values():
        place = crossing_place(here, port, ports[0])
        if not place.silent:
            yield place, ports


def _crossing_rows(here: DevicePlan, place: Place, ports: Sequence[str]) -> Iterator[StageRow]:
    """The rows for some interfaces, with the one that lets in what a destination rule sent on."""
    leaving = one_of("leaving", *ports)
    if place.otherwise.id == "inbound" and here.settings.translation_opens:

        def opened(facts: Facts) -> tuple[Because, Because | None]:
            """That the rule which translated its destination lets it in."""
            return setting(here.settings, "translation-opens"), Because("note.front", (facts.front,))

        fronts = one_of("front", *(rule.id for rule in here.device.translate))
        cited = (DEFAULTS, "translation-opens")
        yield StageRow("translation-opens", (leaving, NOT_LET_IN, fronts), actions=LET_IN, tell=opened, cites=cited)
    yield from rows_at(place, leaving)


def offers_table(here: DevicePlan, port: str) -> Table | None:
    """What the device answers on an interface; None where nothing is written, and its services answer everybody."""
    gates = here.device.gates
    if port not in gates.offering:
        return None
    rows = [_offer(here, o) for o in gates.offers if o.interface == port]
    mark = here.device.interfaces[port].mark
    words = tuple(_offered(o) for o in gates.offers if o.interface == port)
    because = Because("offer.none", (here.name, port, words), mark)
    rows.append(Row("not-offered", (_UNASKED,), mark, Verdict.DENY, because=because))
    return Table(TableId(TableKind.OFFERS, port), rows, here.device.interfaces[port].mark, f"offers of {here.name}/{port}")


def _offered(offer: Offer) -> str:
    """A service with who may ask, where that is not everybody."""
    if offer.sources is None or any(t.words == ANY for t in offer.sources):
        return offer.word
    return f"{offer.word} (to {', '.join(t.words for t in offer.sources)})"


def _offer(here: DevicePlan, offer: Offer) -> Row:
    """One service that is offered, with who may ask for it."""
    services = offer.services or (Service(ICMP, icmp_span((8, None))), Service(ICMP6, icmp_span((128, None))))
    wanted = Condition("service", (("service", merge(map(service_span, services))),), (offer.word,))
    sources = () if offer.sources is None else (term_condition("from", offer.sources, here.reader),)
    because = Because("offer", (here.name, offer.interface, offer.word), offer.mark)
    return Row(offer.word, (wanted, *(s for s in sources if s is not None)), offer.mark, Verdict.PERMIT, because=because)


def to_self_place(here: DevicePlan, port: str | None) -> Place:
    """What a packet for the device itself meets: crossings into self, to-self lists, what is offered, built-in rules."""
    gates = here.device.gates
    found = crossing_for(here, port, None) if port is not None else None
    written = lists_of(here, (*(found.lists if found else ()), *gates.to_self))
    offers = offers_table(here, port) if port is not None else None
    consults = (*written, *([Consult(offers, _OFFERED)] if offers else []))
    built_in = built_in_table(here, TO_SELF)
    end = default_for(here, port, None)
    if written:
        end = end_of(here, [c.table for c in written], "to itself", found.words if found else "")
    elif end.decision is None and not offers:
        return Place((), SILENT)
    asked = (*consults, *([Consult(built_in, FILTER)] if built_in.rows else []))
    return Place(asked, end)


def _for_itself(here: DevicePlan) -> Condition:
    """That a packet is for an address of the device's own, and not for a far host's."""
    return Condition("to", (("destination", merge(Span(a.key, a.key) for a, own in here.own.items() if own.far is None)),))


def offers_held(here: DevicePlan) -> Iterator[StageRow]:
    """Where lists for the device itself stand before its offers: what they permit is refused, if it is not offered there."""
    if not here.settings.offers_hold:
        return
    for port in here.device.gates.offering:
        offers = offers_table(here, port) if port in here.device.interfaces else None
        written = offers is not None and any(c.table.id.kind is TableKind.LIST for c in to_self_place(here, port).consults)
        if written and offers is not None:
            refuse = Consult(offers, {Verdict.PERMIT: (Leave(),), Verdict.DENY: (Stop(Fate.DROPPED, "self.not-offered"),)})
            yield StageRow(f"offers {port}", (one_of("arriving", port), NOT_ADMITTED, _for_itself(here)), actions=(refuse,))


def to_self(here: DevicePlan, port: str | None) -> Step | None:
    """The lists for packets that are for the device itself; the device's services come after."""
    if not here.own or port is None:
        return None
    place = to_self_place(here, port)
    if place.silent:
        return None
    return Step(
        Stage.TO_SELF_LIST, (NOT_ADMITTED, _for_itself(here)), (Table(stage_table("to-self list"), rows_at(place)),), here.names_at
    )


def from_self(here: DevicePlan, port: str | None) -> Step | None:
    """Whether the device may send packets of its own; what answers a question that it took is not held back."""
    if port is not None or (here.settings.from_self and not lists_of(here, here.device.gates.from_self)):
        return None
    answers = Condition("relation", (("relation", frozenset(Relation) - {Relation.ANSWERING, Relation.CONTINUING}),))
    return Step(
        Stage.FROM_SELF, (answers, NOT_ADMITTED), (Table(stage_table("from self"), rows_at(from_self_place(here))),), here.names_at
    )


def from_self_place(here: DevicePlan) -> Place:
    """What the device's own packets meet."""
    written = lists_of(here, here.device.gates.from_self)
    if here.settings.from_self and not written:
        return Place((), SILENT)
    built_in = built_in_table(here, FROM_SELF)
    mute = (Stop(Fate.DROPPED, "self.mute"),)
    logged = LOGGED_DEFAULT if here.settings.logs_defaults else ""
    end = Otherwise(
        "from-self",
        Decision(Did.DROPPED, setting(here.settings, "from-self"), mute, _built_in_note(built_in), DEFAULTS, "from-self", logged),
    )
    if written:
        end = end_of(here, [c.table for c in written], "of itself", "")
    return Place((*written, *([Consult(built_in, FILTER)] if built_in.rows else [])), end)


def _built_in_note(table: Table) -> Because | None:
    """The built-in rules that a device's own packet may have met, each with its state."""
    return Because("note.built-in", (tuple((r.id, not r.disabled) for r in table.rows),)) if table.rows else None


def front_place(here: DevicePlan, rule: Translate) -> Place:
    """What packets meet that a destination rule sent on."""
    consults = lists_of(here, rule.lists)
    return Place(consults, end_of(here, [c.table for c in consults], "front", rule.id))


def front(here: DevicePlan, port: str | None) -> Step | None:
    """The lists of one front: of a destination rule that sent the packet on."""
    rules = [t for t in here.device.translate if lists_of(here, t.lists)]
    if port is None or not rules:
        return None
    rows = (r for rule in rules for r in rows_at(front_place(here, rule), one_of("front", rule.id)))
    return Step(Stage.FRONT_LIST, (NOT_ADMITTED,), (Table(stage_table("front list"), rows),), here.names_at)
