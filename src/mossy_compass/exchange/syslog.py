"""Log lines as RFC 5424 has them: one for each packet that met a rule which logs, or a default that does.

The time is the one that the test was given, or the nil value; nothing here asks a clock, so that the same test gives the same
bytes. Of a session that ends one line tells how much passed, where the rule that let it in logs.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

from mossy_compass.model.gates import SEVERITIES
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import WITH_PORTS, protocol_name
from mossy_compass.plan.facts import WHY_ENDED, Ended
from mossy_compass.plan.ids import TableId, TableKind
from mossy_compass.plan.plan import Plan
from mossy_compass.walk.journey import Admission, Journey

FACILITY = 16
"""local0 (RFC 5424 section 6.2.1): what filtering devices commonly use."""
ELEMENT = "mossy@32473"
"""Structured data under the number that RFC 5612 keeps for examples, since we have none of our own."""
Held = Callable[[Address], bool]
"""Whether an address is one that is asked for."""


def lines(journeys: Iterable[Journey], at: str = "-", source: Held | None = None, target: Held | None = None) -> Iterator[str]:
    """The log lines of journeys, in the order in which packets passed.

    Args:
        journeys: what was tested.
        at: the time of the test as RFC 3339 has it, or ``-``.
        source, target: keep only packets whose source, or destination, is one of these.

    """
    for journey in journeys:
        for met in (m for leg in journey.every_leg for m in leg.admissions() if m.logged):
            saw = met.ruling.saw
            if (source is None or source(saw.source)) and (target is None or target(saw.destination)):
                yield line(met, at)


def ends(
    plan: Plan, ended: Iterable[Ended], at: str = "-", source: Held | None = None, target: Held | None = None
) -> Iterator[str]:
    """The log lines of sessions that ended: of those that a rule let in which logs.

    Args:
        plan: whose rules let them in.
        ended: the sessions, in the order of their ends.
        at: the time as RFC 3339 has it, or ``-``.
        source, target: keep only sessions that were opened by, or to, one of these.

    """
    for over in ended:
        session, flow = over.session, over.session.inner
        table, row = session.opened_by
        found = plan.device(session.device).rows_of(table) if session.device in plan.network.devices else None
        rule = found.row(row) if found is not None else None
        if rule is None or not rule.log:
            continue
        if (source is None or source(flow.source)) and (target is None or target(flow.destination)):
            yield _end(over, table, row, rule.log, at)


def _end(over: Ended, table: TableId, row: str, severity: str, at: str) -> str:
    """The log line of a session's end."""
    session, flow = over.session, over.session.inner
    ports = flow.protocol in WITH_PORTS
    data: list[tuple[str, object]] = [("list", table.name) if table.kind is TableKind.LIST else ("table", table), ("rule", row)]
    data += [("session", session.number), ("why", over.why), ("packets", session.packets), ("bytes", session.size)]
    data += [("protocol", protocol_name(flow.protocol)), ("source", flow.source), ("destination", flow.destination)]
    data += [("source-port", flow.from_port), ("destination-port", flow.to_port)] if ports else []
    data += [(way, port) for way, port in (("arriving", session.arriving), ("leaving", session.leaving)) if port]
    shown = " ".join(f'{name}="{_escaped(str(value))}"' for name, value in data)
    number = FACILITY * 8 + SEVERITIES.index(severity)
    words = f"session {session.number} ended: {WHY_ENDED[over.why]}; {session.packets} packets, {session.size} bytes"
    return f"<{number}>1 {at} {session.device} mossy - session-ended [{ELEMENT} {shown}] {words}"


def line(met: Admission, at: str) -> str:
    """One log line, without the line feed at its end."""
    number = FACILITY * 8 + SEVERITIES.index(met.logged)
    data = " ".join(f'{name}="{_escaped(value)}"' for name, value in _data(met))
    words = f"{met.because.words}: {met.did.value} {met.ruling.saw}"
    return f"<{number}>1 {at} {met.device} mossy - {met.did.value.replace(' ', '-')} [{ELEMENT} {data}] {words}"


def _data(met: Admission) -> Iterator[tuple[str, str]]:
    """The parts of the structured data: list, rule, verdict, addresses, interfaces."""
    table, ruling = met.table, met.ruling
    yield ("list", table.name) if table.kind is TableKind.LIST else ("table", str(table))
    yield "rule", met.row
    yield "verdict", met.did.value
    yield from _ends(ruling.saw)
    if ruling.arriving:
        yield "arriving", ruling.arriving
    if ruling.leaving:
        yield "leaving", ruling.leaving
    if ruling.session is not None:
        yield "session", str(ruling.session)


def _ends(packet: Packet) -> Iterator[tuple[str, str]]:
    """Protocol, addresses and ports of a packet."""
    yield "protocol", protocol_name(packet.protocol)
    yield "source", str(packet.source)
    yield "destination", str(packet.destination)
    if packet.protocol in WITH_PORTS and not packet.fragment:
        yield "source-port", str(packet.from_port)
        yield "destination-port", str(packet.to_port)
    elif packet.icmp >= 0:
        yield "icmp", packet.what().partition("/")[2]


def _escaped(value: str) -> str:
    """A value as section 6.3.3 wants it: three characters have a backslash before them."""
    return value.replace("\\", "\\\\").replace('"', '\\"').replace("]", "\\]")
