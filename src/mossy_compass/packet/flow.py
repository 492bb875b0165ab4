"""One direction of a conversation, as a key. What belongs together is decided by this value alone.

It knows nothing of translation or of who remembers what: that is ``state/``.
"""

from __future__ import annotations

from typing import NamedTuple

from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import REPLY_TYPES, Packet


class FiveTuple(NamedTuple):
    """One direction of a conversation.

    Attributes:
        protocol: IP protocol number.
        source, destination: addresses.
        from_port, to_port: ports; for ICMP both are the identifier (RFC 5508 section 3), and 0 where a protocol has
            neither.

    """

    protocol: int
    source: Address
    from_port: int
    destination: Address
    to_port: int

    def reverse(self) -> FiveTuple:
        """The direction of the answers."""
        return FiveTuple(self.protocol, self.destination, self.to_port, self.source, self.from_port)


def flow_of(packet: Packet) -> FiveTuple:
    """The flow of a packet that is no error. The kinds of ICMP queries share their identifiers, as RFC 5508 has it."""
    if packet.icmp >= 0:
        return FiveTuple(packet.protocol, packet.source, packet.from_port, packet.destination, packet.from_port)
    return FiveTuple(packet.protocol, packet.source, packet.from_port, packet.destination, packet.to_port)


def is_answer(packet: Packet, question: Packet) -> bool:
    """True when a packet is what the sender of ``question`` waits for: the reverse of what it sent, and of an answering kind.

    An ICMP reply answers the request of its own kind (RFC 792: the type is one less or more, the identifier the same).
    """
    if packet.quoted is not None or flow_of(packet) != flow_of(question).reverse():
        return False
    if question.icmp >= 0:
        return packet.icmp >= 0 and (packet.icmp >> 8) == REPLY_TYPES.get((question.protocol, question.icmp >> 8))
    return packet.flags != "RST"
