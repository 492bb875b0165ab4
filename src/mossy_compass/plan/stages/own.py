"""Packets for the device itself and of the device itself.

What a device takes for itself is decided by its addresses, then by a filter of its own if
it has one, then by its services; each step is a row with its reason. Its own questions pass
the same stages as everybody's, from where they begin.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from mossy_compass.headers.spans import merge
from mossy_compass.model.network import Serves
from mossy_compass.packet.address import Span, Spans
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, TCP, Service, icmp_span
from mossy_compass.plan.actions import Action, Decision, Deliver, OpenSession, Reply, Stop
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.fields import service_span
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate, setting
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.step import Step
from mossy_compass.plan.table import Table

if TYPE_CHECKING:
    from mossy_compass.plan.plan import DevicePlan, Own

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
    if here.self_table is None:  # the same for every interface
        here.self_table = Table("self", _rows(here)), _service_reasons(here)
    own_packet = port is None
    table, reasons = here.self_table

    def decide(facts: Facts) -> Decision | None:
        """What this stage says of a packet."""
        own = here.own.get(facts.packet.destination)
        if own is None:
            return None
        if own.far is not None and own.far.off:
            off = Because("host.off", (own.far.name,), own.far.mark)
            return Decision(Did.DROPPED, off, (Stop(Fate.DROPPED, "neighbour.silent"),), None, table.id, "off")
        row = table.first(facts)
        assert row is not None  # the last row has no condition
        because = reasons.get(row.id) or _because(here, own, row, facts)
        if row.id == "closed-port" and own.far and own.far.silent:
            return Decision(Did.DROPPED, because, (Stop(Fate.DROPPED, "service.silent"),), None, table.id, row.id)
        actions = row.actions
        if own_packet and _did(row) is Did.REFUSED:  # it asked itself, and is told no by itself: the refusal is an answer
            actions = (OpenSession(leaves=False), *actions)
        return Decision(_did(row), because, actions, _remark(here, row, facts), table.id, row.id)

    return Step(Stage.TO_SELF, None, decide)


def _remark(here: DevicePlan, row: Row, facts: Facts) -> Because | None:
    """What else is to be said of a row: why nothing is answered."""
    if row.id == "closed-port" and _did(row) is Did.DROPPED:
        return Because("note.closed-port", (here.settings.text("closed-port"),))
    if row.actions == _UNASKED or row.id == "stray":
        return Because("note.not-asked", (facts.packet, facts.packet.source))
    return None


def _did(row: Row) -> Did:
    """What a row's action is called in a ruling."""
    action = row.actions[-1]
    if isinstance(action, Stop):
        return Did.REFUSED if action.fate is Fate.REFUSED else Did.DROPPED
    return Did.DELIVERED


def _rows(here: DevicePlan) -> list[Row]:
    """In this order: answers to its own questions, whether it takes others, pings, services, and what nobody asked for."""
    settings = here.settings
    refuse = settings.refuses_closed_ports
    rows = [Row("answer", (_ASKED,), actions=(Deliver("answer.arrived"),))]
    if not settings.to_self:
        rows.append(Row("to-self", (), actions=(Stop(Fate.DROPPED, "self.closed"),)))
        return rows
    rows.append(Row("fragment", (_FRAGMENT,), actions=(Deliver("fragment.part"),)))
    kept = OpenSession(leaves=False)
    ping: tuple[Action, ...] = (kept, Deliver("echo.answered", Reply.ANSWER))
    rows.append(Row("ping", (_PING,), actions=ping if settings.answers_ping else (Deliver("echo.ignored"),)))
    rows.append(Row("known", (_ANY_TCP, _PART, _NOT_OPENING), actions=(Deliver("session.part"),)))
    rows.append(Row("error", (_ERROR,), actions=_UNASKED))
    stray = Stop(Fate.REFUSED, "answer.unasked", Reply.REFUSAL) if refuse else _UNASKED[0]
    rows.append(Row("stray", (_ANY_TCP, _NOT_OPENING), actions=(stray,)))
    take = kept, Deliver("service.open", Reply.ANSWER)
    for number, (_, served, spans) in enumerate(_served(here)):
        rows.append(Row(f"service {number}", (_of(served.service), _to(spans)), served.mark, actions=take))
    rows.append(Row("icmp", (_ANY_ICMP,), actions=_UNASKED))
    closed = Stop(Fate.REFUSED, "service.closed", Reply.REFUSAL) if refuse else Stop(Fate.DROPPED, "service.silent")
    rows.append(Row("closed-port", (), actions=(closed,)))
    return rows


def _served(here: DevicePlan) -> Sequence[tuple[str, Serves, Spans]]:
    """Every service that listens on some of the device's addresses: whose it is, and at which addresses."""
    own = merge(Span(a.key, a.key) for a, o in here.own.items() if o.far is None)
    out = [(here.name, s, own) for s in here.serves(None)] if own else []
    for far in here.device.far_hosts.values():
        spans = merge(Span(a.key, a.key) for a in far.addresses)
        out += [(far.name, s, spans) for s in far.serves]
    return out


def _service_reasons(here: DevicePlan) -> dict[str, Because]:
    """Why each service of this device is there, with the place where it is written."""
    named = enumerate(_served(here))
    return {f"service {n}": Because("service", (name, served.words), served.mark) for n, (name, served, _) in named}


def _closed(here: DevicePlan, own: Own, name: str, packet: Packet) -> Because:
    """That nobody listens there, with what is listened for."""
    listens = tuple(dict.fromkeys(s.words for s in here.serves(own.far)))
    mark = here.settings.mark("closed-port") or (own.far.mark if own.far else here.device.mark)
    return Because("service.closed", (name, packet, listens), mark)


def _because(here: DevicePlan, own: Own, row: Row, facts: Facts) -> Because:
    """What a row of the device's own table rests on."""
    name = own.far.name if own.far else here.name
    settings, packet = here.settings, facts.packet
    if row.id == "ping":
        mark = settings.mark("answers-ping")
        code = "ping.answered" if settings.answers_ping else "ping.ignored"
        return Because(code, (name, settings.text("answers-ping"), "" if mark else settings.kind), mark)
    if row.id == "closed-port":
        return _closed(here, own, name, packet)
    if row.id == "known":
        assert facts.session is not None
        return Because("session.known", (facts.session.number, here.name))
    if row.id == "to-self":
        return setting(settings, "to-self")
    if row.id == "fragment":
        return Because("fragment", (name,))
    return Because("address.own", (name, packet.destination)) if row.id == "answer" else Because("unasked", (name,))
