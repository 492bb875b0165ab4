"""Flows that were observed elsewhere, as questions: which would pass here, by which row, and seen as what.

Each flow is asked alone, from the same starting state. Of TCP the packet that opens says who asked; where none was observed, and for
everything else, the first packet does.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

from mossy_compass.errors import QuestionError, TooLarge
from mossy_compass.lab.columns import Crowd, names_addresses, outside_ports
from mossy_compass.model.network import Network
from mossy_compass.packet.address import Address, parse_address
from mossy_compass.packet.packet import FIRST_DYNAMIC_PORT, REPLY_TYPES, Packet, echo_request
from mossy_compass.packet.service import ICMP, ICMP6, TCP, WITH_PORTS, protocol_name
from mossy_compass.plan.facts import Moment
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Did
from mossy_compass.walk.journey import Journey
from mossy_compass.walk.question import USUAL, Options, moment_for, services_of
from mossy_compass.walk.trace import trace_one

MOST_FLOWS = 2_000_000
"""So many different flows are asked; of more, the rest is said to be left out."""


MANY = 20_000
"""So many flows and more are asked together; of fewer, telling kinds apart takes longer than to walk each."""


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

    @property
    def packet(self) -> Packet:
        """The packet that opens it, as a test sends it."""
        if self.protocol in (ICMP, ICMP6):
            return echo_request(self.source, self.destination, 1)
        if self.protocol not in WITH_PORTS:
            return Packet(self.protocol, self.source, self.destination)
        flags = "SYN" if self.protocol == TCP else ""
        return Packet(self.protocol, self.source, self.destination, FIRST_DYNAMIC_PORT, self.port, -1, flags)


class Answered(NamedTuple):
    """What would become of an observed flow here.

    Attributes:
        flow: which.
        journey: of it, or of one that fares as it does; None where it cannot be asked.
        why: why it cannot; empty where it can.
        own: the journey is of this very flow.
        seen_as: the source that the far end would see; empty where it does not get there.
        permits: the rules that let it through on its way there.
        leaving: the uplink or interface to the outside by which it leaves, as ``DEVICE/INTERFACE``; empty for none.

    """

    flow: Observed
    journey: Journey | None
    why: str = ""
    own: bool = True
    seen_as: str = ""
    permits: tuple[Because, ...] = ()
    leaving: str = ""

    @property
    def passes(self) -> bool:
        """Whether it arrives and is answered, or refused by who was asked: the network lets it pass."""
        return self.journey is not None and (self.journey.answered or self.journey.fate.value == "refused")

    def to_dict(self) -> dict[str, str | int | bool | None]:
        """A row of a table: what a flow is, whether it passes, and by what. Reasons that name another flow's address are left out."""
        journey, flow = self.journey, self.flow
        because = "" if journey is None or not (self.own or not names_addresses(journey.because)) else journey.because.words
        mark = journey.because.mark if journey is not None else None
        return {
            "source": str(flow.source),
            "destination": str(flow.destination),
            "service": flow.service,
            "packets": flow.packets,
            "passes": self.passes,
            "cause": journey.cause if journey is not None else None,
            "where": journey.deciding.end if journey is not None else "",
            "because": because or self.why,
            "place": str(mark) if mark is not None and mark.line else "",
            "permitted-by": "; ".join(p.words for p in self.permits),
            "seen-as": self.seen_as,
            "leaves-by": self.leaving,
        }


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


def observed(network: Network, source: str, destination: str, service: str, count: int = 1) -> list[Observed]:
    """Flows as people write them: one for each member of the service.

    Args:
        network: whose services.
        source, destination: addresses.
        service: a name, or such as ``tcp/443``.
        count: how many packets of it were observed.

    Raises:
        InputError: an end is no address, or there is no such service.

    """
    ends = parse_address(source), parse_address(destination)
    found = []
    for one in services_of(network, service):
        if one is None:  # a ping
            found.append(Observed(ICMP if ends[0].family == 4 else ICMP6, *ends, -1, count))
        else:
            found.append(Observed(one.protocol, *ends, one.ports.first if one.ports is not None else -1, count))
    return found


def fates(plan: Plan, flows: Sequence[Observed], each: Callable[[int], object] = bool) -> list[Answered]:
    """What would become of flows here, each alone.

    Args:
        plan: the network.
        flows: that were observed.
        each: is told of how many it is known so far; for a progress bar.

    """
    out: list[Answered | None] = [None] * len(flows)
    known = 0
    for moment, some in _together(plan, flows).items() if len(flows) >= MANY and not plan.asks_onward else ():
        crowd = Crowd(plan, [packet for _, packet, _ in some], [sender for *_, sender in some], moment)
        so_far = known
        try:
            for (number, _, _), fate in zip(some, crowd.fates(lambda more, so_far=so_far: each(so_far + more)), strict=True):  # type: ignore[misc]
                out[number] = Answered(flows[number], fate.like, "", False, fate.seen_as, fate.permits, fate.leaving)
            known += len(some)
        except TooLarge:  # they are asked one by one
            continue
    ports = outside_ports(plan)
    for number, flow in enumerate(flows):
        if out[number] is None:
            out[number] = _fate(plan, flow, ports)
            known += 1
            each(known)
    return [found for found in out if found is not None]


def _together(plan: Plan, flows: Sequence[Observed]) -> dict[Moment, list[tuple[int, Packet, str]]]:
    """The flows that can be asked as one crowd, by the moment that fits them: the number of each, its packet, and who sends it."""
    out: dict[Moment, list[tuple[int, Packet, str]]] = {}
    for number, flow in enumerate(flows):
        source, destination = flow.source, flow.destination
        sender = plan.owner(source)
        if sender is None or destination.special or destination.is_link_local or source.family != destination.family:
            continue
        packet = flow.packet
        moment = moment_for(plan, packet, USUAL)
        if moment.application is None or not plan.asks_application:
            out.setdefault(moment, []).append((number, packet, sender))
    return out


def in_person(plan: Plan, found: Answered) -> Answered:
    """The same with the flow's own journey, to be told in words."""
    return found if found.own else _fate(plan, found.flow, outside_ports(plan))


def _fate(plan: Plan, flow: Observed, outside: frozenset[str]) -> Answered:
    """What would become of one flow here."""
    sender = plan.owner(flow.source)
    if sender is None:
        return Answered(flow, None, f"nobody here has {flow.source}")
    options = Options(source=str(flow.source), family=flow.source.family)
    try:
        journey = trace_one(plan, sender, str(flow.destination), flow.service, options)
    except QuestionError as fault:
        return Answered(flow, None, str(fault))
    permits = tuple(r.because for hop in journey.there.hops for r in hop.rulings if r.did is Did.PERMITTED)
    ways = [f"{hop.device}/{hop.leaving}" for hop in journey.there.hops]
    leaving = next((way for way in reversed(ways) if way in outside), "")
    return Answered(flow, journey, "", True, journey.seen_as, permits, leaving)
