"""Sessions and translations that packets leave behind.

The words are those of RFC 2663 and RFC 4787 (translation), RFC 5382 (TCP), RFC 5508 (ICMP) and RFC 6146.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import Packet

FIRST_FREE_PORT = 1024


class Flow(NamedTuple):
    """One direction of a conversation. For ICMP, both ports are the identifier (RFC 5508 section 3)."""

    protocol: int
    source: Address
    from_port: int
    destination: Address
    to_port: int

    def reverse(self) -> Flow:
        """The direction of the answers."""
        return Flow(self.protocol, self.destination, self.to_port, self.source, self.from_port)


def flow_of(packet: Packet) -> Flow:
    """The flow that a packet belongs to; for an ICMP error, the answers' direction of the packet that it quotes."""
    if packet.quoted is not None:
        return flow_of(packet.quoted).reverse()
    if packet.icmp >= 0:
        return Flow(packet.protocol, packet.source, packet.from_port, packet.destination, packet.from_port)
    return Flow(packet.protocol, packet.source, packet.from_port, packet.destination, packet.to_port)


@dataclass(frozen=True, slots=True)
class Session:
    """What a device remembers of a conversation.

    Attributes:
        number: counted from 1 for each device.
        device: who remembers.
        inner: the opening packet's flow as it arrived.
        outer: the same as it left, after translation.
        arriving, leaving: interfaces of the opening packet; None when the device itself opened it.
        tracked: answers pass over the lists; False for a translation alone.
        opened_by: the rule or default that let the opening packet through.

    """

    number: int
    device: str
    inner: Flow
    outer: Flow
    arriving: str | None
    leaving: str
    tracked: bool
    opened_by: str

    @property
    def translated(self) -> bool:
        """True when addresses or ports were rewritten."""
        return self.inner != self.outer


@dataclass(frozen=True, slots=True)
class SessionTable:
    """All sessions of all devices, found by the flow that is expected."""

    answers: Mapping[tuple[str, Flow], Session] = field(default_factory=dict)
    onward: Mapping[tuple[str, Flow], Session] = field(default_factory=dict)

    def answering(self, device: str, flow: Flow) -> Session | None:
        """The session that a packet answers."""
        return self.answers.get((device, flow))

    def continuing(self, device: str, flow: Flow) -> Session | None:
        """The session that a further packet from the opener belongs to."""
        return self.onward.get((device, flow))

    def having(self, session: Session) -> SessionTable:
        """The same table with one more session."""
        return SessionTable(
            {**self.answers, (session.device, session.outer.reverse()): session},
            {**self.onward, (session.device, session.inner): session},
        )

    def next_number(self, device: str) -> int:
        """The number for a device's next session."""
        return 1 + sum(1 for name, _ in self.answers if name == device)

    def of(self, device: str) -> list[Session]:
        """A device's sessions, oldest first."""
        return sorted((s for (name, _), s in self.answers.items() if name == device), key=lambda s: s.number)

    def free_port(self, device: str, flow: Flow, address: Address, keep: bool) -> int | None:
        """The port for a translated source: the same while it is free (RFC 4787 4.2.1), else the lowest free one."""
        used = {
            s.outer.from_port
            for (name, _), s in self.answers.items()
            if name == device and s.outer.source == address and s.outer.protocol == flow.protocol
        }
        if keep and flow.from_port not in used:
            return flow.from_port
        return next((p for p in range(FIRST_FREE_PORT, 65536) if p not in used), None)


def rewrite_source(packet: Packet, address: Address, port: int) -> Packet:
    """The packet with another source address and port (the identifier, for ICMP echo)."""
    return packet._replace(source=address, from_port=port)


def undo(packet: Packet, session: Session) -> Packet:
    """An answer, or an error about the session's packets, with the inner addresses back (RFC 5508 section 4.2)."""
    inner = session.inner
    if packet.quoted is not None:
        quoted = rewrite_source(packet.quoted, inner.source, inner.from_port)
        destination = inner.source if packet.destination == session.outer.source else packet.destination
        return packet._replace(destination=destination, quoted=quoted)
    if packet.icmp >= 0:
        return packet._replace(destination=inner.source, from_port=inner.from_port)
    return packet._replace(destination=inner.source, to_port=inner.from_port)
