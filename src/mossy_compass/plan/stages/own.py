"""Packets for the device itself and of the device itself.

What a device takes for itself is decided by its addresses, then by a filter of its own if
it has one, then by its services; each step is a row with its reason. Its own questions pass
the same stages as everybody's, from where they begin.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from mossy_compass.headers.spans import merge
from mossy_compass.model.network import FarHost, Kind, Serves
from mossy_compass.packet.address import Span, Spans
from mossy_compass.packet.service import ICMP, ICMP6, TCP, Service, icmp_span
from mossy_compass.plan.actions import Action, Deliver, OpenSession, Reply, Stop, Touch
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.device import DevicePlan, Own
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.fields import service_span
from mossy_compass.plan.ids import stage_table
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Fate, setting
from mossy_compass.plan.rows import Row, StageRow
from mossy_compass.plan.stages.crossings import offers_held
from mossy_compass.plan.stages.step import Step, one_of
from mossy_compass.plan.stages.tunnel import endings
from mossy_compass.plan.table import Table

_ASKED = Condition("relation", (("relation", frozenset((Relation.ANSWERING, Relation.RELATED))),))
_PART = Condition("relation", (("relation", frozenset((Relation.CONTINUING,))),))
_NOT_OPENING = Condition("opens", (("opens", frozenset((False,))),))
_FRAGMENT = Condition("fragments", (("fragment", frozenset((True,))),))
_ERROR = Condition("error", (("error", frozenset((True,))),))


def _of(*services: Service) -> Condition:
    """A condition on services."""
    return Condition("service", (("service", merge(map(service_span, services))),))


def _to(spans: Spans) -> Condition:
    """A condition on destinations."""
    return Condition("to", (("destination", spans),))


_PING = _of(Service(ICMP, icmp_span((8, None))), Service(ICMP6, icmp_span((128, None))))
_ANY_ICMP = _of(Service(ICMP), Service(ICMP6))
_ANY_TCP = _of(Service(TCP))
_UNASKED = (Stop(Fate.DROPPED, "answer.unasked"),)


def to_self(here: DevicePlan, port: str | None) -> Step | None:
    """A packet for an address of the device itself ends here: what it asked for, its services, or neither."""
    if not here.own:
        return None
    own_packet = port is None
    table = here.once((Stage.TO_SELF, own_packet), lambda: Table(stage_table("self"), _rows(here, own_packet)))
    return Step(Stage.TO_SELF, (_to(here.own_spans),), (table,))


def _rows(here: DevicePlan, own_packet: bool) -> list[Row]:
    """Far hosts that are off; answers to its own questions; whether it takes others, pings, services; what nobody asked for."""
    settings = here.settings
    rows: list[Row] = [*endings(here)]
    rows += [_far_off(far) for far in here.device.far_hosts.values() if far.off and far.addresses]
    rows.append(StageRow("answer", (_ASKED,), actions=(Touch(), Deliver("answer.arrived")), tell=_own_address(here)))
    if not settings.to_self:
        because = setting(settings, "to-self")
        rows.append(StageRow("to-self", (), actions=(Stop(Fate.DROPPED, "self.closed"),), because=because))
        return rows
    if not own_packet:
        rows += offers_held(here)
    rows.append(StageRow("fragment", (_FRAGMENT,), actions=(Deliver("fragment.part"),), tell=_named(here, "fragment")))
    kept: tuple[Action, ...] = (Touch(), OpenSession(leaves=False))
    ping: tuple[Action, ...] = (*kept, Deliver("echo.answered", Reply.ANSWER))
    actions = ping if settings.answers_ping else (Deliver("echo.ignored"),)
    rows.append(StageRow("ping", (_PING,), actions=actions, tell=_pinged(here)))
    rows.append(
        StageRow("known", (_ANY_TCP, _PART, _NOT_OPENING), actions=(Touch(), Deliver("session.part")), tell=_of_session(here))
    )
    rows.append(StageRow("error", (_ERROR,), actions=_UNASKED, tell=_not_asked(here)))
    refused = _refused(here, "answer.unasked", "answer.unasked", own_packet)
    rows.append(StageRow("stray", (_ANY_TCP, _NOT_OPENING), actions=refused, tell=_not_asked(here)))
    take = *kept, Deliver("service.open", Reply.ANSWER)
    if here.device.serves or here.device.kind in (
        Kind.HOST,
        Kind.INTERNET,
    ):  # who announces a second channel waits for it, whatever else it serves
        rows.append(StageRow("awaited", (one_of("awaited", True),), actions=take, tell=_waits(here)))
    for number, (name, served, spans) in enumerate(_served(here)):
        because = Because("service", (name, served.words), served.mark)
        meant = (_of(served.service), _to(spans))
        rows.append(StageRow(f"service {number}", meant, served.mark, actions=take, because=because))
    rows.append(StageRow("icmp", (_ANY_ICMP,), actions=_UNASKED, tell=_not_asked(here)))
    silent = merge(Span(a.key, a.key) for a, own in here.own.items() if own.far is not None and own.far.silent)
    if silent:
        stop = (Stop(Fate.DROPPED, "service.silent"),)
        rows.append(
            StageRow("silent", (_to(silent),), actions=stop, tell=_closed(here), cites=(stage_table("self"), "closed-port"))
        )
    closed = _refused(here, "service.closed", "service.silent", own_packet)
    rows.append(StageRow("closed-port", (), actions=closed, tell=_closed(here)))
    return rows


def _far_off(far: FarHost) -> StageRow:
    """Nothing is to be had of a far host that is off."""
    spans = merge(Span(a.key, a.key) for a in far.addresses)
    because = Because("host.off", (far.name,), far.mark)
    return StageRow("off", (_to(spans),), actions=(Stop(Fate.DROPPED, "neighbour.silent"),), because=because)


def _refused(here: DevicePlan, refused: str, silent: str, own_packet: bool) -> tuple[Action, ...]:
    """What nobody listens for is refused, or meets silence: the causes of both."""
    if not here.settings.refuses_closed_ports:
        return (Stop(Fate.DROPPED, silent),)
    stop = Stop(Fate.REFUSED, refused, Reply.REFUSAL)
    # It asked itself, and is told no by itself: the refusal is an answer, so what it answers is remembered.
    return (OpenSession(leaves=False), stop) if own_packet else (stop,)


Tell = Callable[[Facts], tuple[Because, Because | None]]


def _whose(here: DevicePlan, facts: Facts) -> Own:
    """Whose address a packet is for."""
    return here.own[facts.packet.destination]


def _name(here: DevicePlan, facts: Facts) -> str:
    """The device's name, or that of the far host."""
    far = _whose(here, facts).far
    return far.name if far else here.name


def _waits(here: DevicePlan) -> Tell:
    """That whose address it is waits for it."""
    return lambda facts: (Because("waits", (_name(here, facts), facts.packet.protocol, facts.packet.to_port)), None)


def _named(here: DevicePlan, code: str) -> Tell:
    """A reason that names whose address it is."""
    return lambda facts: (Because(code, (_name(here, facts),)), None)


def _not_asked(here: DevicePlan) -> Tell:
    """That nobody asked for it."""

    def tell(facts: Facts) -> tuple[Because, Because | None]:
        """The packet, and who sent it."""
        return Because("unasked", (_name(here, facts),)), Because("note.not-asked", (facts.packet, facts.packet.source))

    return tell


def _own_address(here: DevicePlan) -> Tell:
    """Whose address an answer came to."""
    return lambda facts: (Because("address.own", (_name(here, facts), facts.packet.destination)), None)


def _pinged(here: DevicePlan) -> Tell:
    """Whether pings are answered, by which setting."""
    mark = here.settings.mark("answers-ping")
    code = "ping.answered" if here.settings.answers_ping else "ping.ignored"
    values = here.settings.text("answers-ping"), "" if mark else here.settings.kind
    return lambda facts: (Because(code, (_name(here, facts), *values), mark), None)


def _of_session(here: DevicePlan) -> Tell:
    """Which session it is part of."""

    def tell(facts: Facts) -> tuple[Because, Because | None]:
        """Its number."""
        assert facts.session is not None  # it continues one
        return Because("session.known", (facts.session.number, here.name)), None

    return tell


def _closed(here: DevicePlan) -> Tell:
    """That nobody listens there, with what is listened for; and why nothing is said, where that is the device's setting."""
    silent = not here.settings.refuses_closed_ports
    note = Because("note.closed-port", (here.settings.text("closed-port"),)) if silent else None

    def tell(facts: Facts) -> tuple[Because, Because | None]:
        """The services of whoever has the address."""
        far = _whose(here, facts).far
        listens = tuple(dict.fromkeys(s.words for s in here.serves(far)))
        mark = here.settings.mark("closed-port") or (far.mark if far else here.device.mark)
        remark = None if far is not None and far.silent else note
        return Because("service.closed", (_name(here, facts), facts.packet, listens), mark), remark

    return tell


def _served(here: DevicePlan) -> Sequence[tuple[str, Serves, Spans]]:
    """Every service that listens on some of the device's addresses: whose it is, and at which addresses."""
    own = merge(Span(a.key, a.key) for a, o in here.own.items() if o.far is None)
    out = [(here.name, s, own) for s in here.serves(None)] if own else []
    for far in here.device.far_hosts.values():
        spans = merge(Span(a.key, a.key) for a in far.addresses)
        out += [(far.name, s, spans) for s in far.serves]
    return out
