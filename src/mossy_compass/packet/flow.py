"""One direction of a conversation, as a key. What belongs together is decided by this value alone.

It knows nothing of translation or of who remembers what: that is ``state/``.
"""

from __future__ import annotations

from typing import NamedTuple

from mossy_compass.packet.address import V6_BASE, Address
from mossy_compass.packet.packet import REPLY_TYPES, Packet
from mossy_compass.packet.service import ICMP, ICMP6


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


# --- as one number: what tables of a million flows are keyed by ---------------------------------------------------

_END = 145
"""Bits of an end: an address on the line of both families (129), and a port (16)."""
_ENDS = 2 * _END
_ONE_END = (1 << _END) - 1
_REPLIES = {(protocol, kind) for (protocol, _), kind in REPLY_TYPES.items()}


def end_key(address: Address, port: int) -> int:
    """One end of a flow as a number.

    Args:
        address: of either family.
        port: or identifier, or 0.

    """
    family, value = address
    return (value if family == 4 else value + V6_BASE) << 16 | port


def key_of(packet: Packet) -> int:
    """The flow of a packet that is neither an error nor a later fragment, as one number.

    Both directions of a flow are two numbers; asks and answers of ICMP, which share their ends, are told apart by a bit.
    """
    port, to_port, head = packet.from_port, packet.to_port, packet.protocol << 1
    if packet.icmp >= 0:
        to_port = port
        head |= (packet.protocol, packet.icmp >> 8) in _REPLIES
    (family, value), (to_family, to_value) = packet.source, packet.destination
    source = (value if family == 4 else value + V6_BASE) << 16 | port
    destination = (to_value if to_family == 4 else to_value + V6_BASE) << 16 | to_port
    return (head << _END | source) << _END | destination


def key_from(flow: FiveTuple, answers: bool = False) -> int:
    """A flow as one number.

    Args:
        flow: one direction.
        answers: of ICMP, whether it is that of the answers.

    """
    head = flow.protocol << 1 | (answers and flow.protocol in (ICMP, ICMP6))
    source, destination = end_key(flow.source, flow.from_port), end_key(flow.destination, flow.to_port)
    return (head << _END | source) << _END | destination


def reversed_key(key: int) -> int:
    """The number of the other direction."""
    head = key >> _ENDS
    if head >> 1 in (ICMP, ICMP6):
        head ^= 1
    return (head << _END | key & _ONE_END) << _END | key >> _END & _ONE_END


def flow_from(key: int) -> FiveTuple:
    """The flow that a number stands for."""
    source, destination = key >> _END & _ONE_END, key & _ONE_END
    return FiveTuple(key >> _ENDS + 1, _address(source >> 16), source & 0xFFFF, _address(destination >> 16), destination & 0xFFFF)


def _address(key: int) -> Address:
    """The address of a place on the line of both families."""
    return Address(4, key) if key < V6_BASE else Address(6, key - V6_BASE)
