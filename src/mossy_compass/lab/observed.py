"""Flows that were observed elsewhere, as questions: which would pass here, by which row, and seen as what.

Each flow is asked alone, from the same starting state. Of TCP the packet that opens says who asked; where none was observed, and for
everything else, the first packet does.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from mossy_compass.errors import QuestionError
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import REPLY_TYPES, Packet
from mossy_compass.packet.service import ICMP, ICMP6, TCP, WITH_PORTS, protocol_name
from mossy_compass.plan.plan import Plan
from mossy_compass.walk.journey import Journey
from mossy_compass.walk.question import Options
from mossy_compass.walk.trace import trace_one

MOST_FLOWS = 200_000
"""So many different flows are asked; of more, the rest is said to be left out."""


class Observed(NamedTuple):
    """A flow that was observed.

    Attributes:
        protocol: number.
        source, destination: its ends; who opened it comes first.
        port: the port that was asked for, or ``type * 256 + code`` of an ICMP query; -1 where there is none.
        packets: of it.

    """

    protocol: int
    source: Address
    destination: Address
    port: int
    packets: int = 1

    @property
    def service(self) -> str:
        """What was asked for, as people say it."""
        if self.protocol in (ICMP, ICMP6):
            return "ping"
        name = protocol_name(self.protocol)
        return f"{name}/{self.port}" if self.protocol in WITH_PORTS else name


class Answered(NamedTuple):
    """What would become of an observed flow here.

    Attributes:
        flow: which.
        journey: of it; None where it cannot be asked.
        why: why it cannot; empty where it can.

    """

    flow: Observed
    journey: Journey | None
    why: str = ""

    @property
    def passes(self) -> bool:
        """Whether it arrives and is answered, or refused by who was asked: the network lets it pass."""
        return self.journey is not None and (self.journey.answered or self.journey.fate.value == "refused")


def flows_of(packets: Iterable[Packet]) -> list[Observed]:
    """The flows of packets, in the order of their first ones, repeats counted. Errors and what answers open none.

    Args:
        packets: as they were observed.

    """
    found: dict[tuple[object, ...], Observed] = {}
    for packet in packets:
        if packet.quoted is not None or packet.fragment:
            continue
        flow = _flow(packet)
        if flow is None:
            continue
        asked = (flow.protocol, flow.source, flow.destination, flow.port)
        back = (packet.protocol, packet.destination, packet.source, packet.from_port if packet.protocol in WITH_PORTS else -1)
        opens = packet.protocol == TCP and packet.flags == "SYN"
        if asked in found:
            found[asked] = found[asked]._replace(packets=found[asked].packets + 1)
        elif not opens and back in found:
            found[back] = found[back]._replace(packets=found[back].packets + 1)
        else:
            found[asked] = flow
    return list(found.values())


def _flow(packet: Packet) -> Observed | None:
    """The flow that a packet may open; None for what answers."""
    if packet.protocol in (ICMP, ICMP6):
        if (packet.protocol, packet.icmp >> 8) not in REPLY_TYPES:
            return None
        return Observed(packet.protocol, packet.source, packet.destination, packet.icmp)
    port = packet.to_port if packet.protocol in WITH_PORTS else -1
    if packet.flags == "SYN-ACK":
        return Observed(packet.protocol, packet.destination, packet.source, packet.from_port)
    return Observed(packet.protocol, packet.source, packet.destination, port)


def fates(
    plan: Plan, flows: Iterable[Observed], each: Callable[[Iterable[Observed]], Iterable[Observed]] = iter
) -> Iterator[Answered]:
    """What would become of flows here.

    Args:
        plan: the network.
        flows: that were observed.
        each: goes through them, and may show how far it is.

    """
    for flow in each(flows):
        yield _fate(plan, flow)


def _fate(plan: Plan, flow: Observed) -> Answered:
    """What would become of one flow here."""
    sender = plan.owner(flow.source)
    if sender is None:
        return Answered(flow, None, f"nobody here has {flow.source}")
    options = Options(source=str(flow.source), family=flow.source.family)
    try:
        return Answered(flow, trace_one(plan, sender, str(flow.destination), flow.service, options))
    except QuestionError as fault:
        return Answered(flow, None, str(fault))
