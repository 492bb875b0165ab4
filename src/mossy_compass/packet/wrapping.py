"""Packets within packets: what a tunnel puts around one, and how much of the outer packet that takes.

Sizes follow RFC 2003 (IP within IP), RFC 2473 (the same with IPv6), RFC 2784 (GRE), RFC 7348 (VXLAN), and RFC 4303 with the
AES-GCM of RFC 4106 (ESP).
"""

from __future__ import annotations

from enum import StrEnum

from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import FIRST_DYNAMIC_PORT, Packet
from mossy_compass.packet.service import UDP

VXLAN_PORT = 4789
"""The destination port of VXLAN (RFC 7348 section 5)."""
KEY_PORT, AROUND_PORT = 500, 4500
"""Both ports of an exchange of keys, and of one behind translation; by the second one ESP goes within UDP (RFC 7296 section 2.23)."""
_UDP_HEADER = 8
_HEADER = {4: 20, 6: 40}
"""The bytes of an IP header without options (RFC 791 section 3.1, RFC 8200 section 3)."""
_SPI_AND_VECTOR, _CHECK = 16, 16
"""Of ESP with AES-GCM: the index and number before, with the vector (RFC 4303 section 2, RFC 4106 section 3.1), and the check value."""


class Wrapping(StrEnum):
    """What a tunnel puts around a packet."""

    IP = "ip-in-ip"
    GRE = "gre"
    VXLAN = "vxlan"
    ESP = "esp"


def outer_protocol(kind: Wrapping, inner: int) -> int:
    """The IP protocol number of the outer packet.

    Args:
        kind: what is put around.
        inner: the family of the inner packet, 4 or 6.

    """
    return {Wrapping.IP: 4 if inner == 4 else 41, Wrapping.GRE: 47, Wrapping.VXLAN: UDP, Wrapping.ESP: 50}[kind]


def outer_size(kind: Wrapping, family: int, inner: int, around: bool = False) -> int:
    """How long the outer packet is, in bytes.

    Args:
        kind: what is put around.
        family: of the outer packet, 4 or 6.
        inner: length of the inner packet in bytes.
        around: ESP goes within UDP (RFC 3948 section 2.1).

    """
    header = _HEADER[family] + (_UDP_HEADER if around else 0)
    if kind is Wrapping.IP:
        return header + inner
    if kind is Wrapping.GRE:
        return header + 4 + inner
    if kind is Wrapping.VXLAN:  # UDP, its own header, and the frame's (section 5)
        return header + 8 + 8 + 14 + inner
    # the packet and two bytes of trailer are filled up to whole words (RFC 4303 section 2.4)
    return header + _SPI_AND_VECTOR + -(-(inner + 2) // 4) * 4 + _CHECK


def inner_mtu(kind: Wrapping, family: int, outer: int, around: bool = False) -> int:
    """The longest packet that goes into an outer one, in bytes.

    Args:
        kind: what is put around.
        family: of the outer packet, 4 or 6.
        outer: the longest outer packet in bytes.
        around: ESP goes within UDP.

    """
    outer -= _UDP_HEADER if around else 0
    room = outer - outer_size(kind, family, 0)
    if kind is Wrapping.ESP:
        room = (outer - _HEADER[family] - _SPI_AND_VECTOR - _CHECK) // 4 * 4 - 2
    return max(room, 0)


def wrapped(kind: Wrapping, inner: Packet, source: Address, destination: Address, around: int = 0) -> Packet:
    """The outer packet. Of VXLAN the source port follows from the inner flow, so that routers share flows (RFC 7348 section 5).

    Args:
        kind: what is put around.
        inner: what is carried.
        source, destination: the ends of the tunnel.
        around: the UDP port that ESP goes to within UDP, behind translation; 0 for ESP alone.

    """
    size = outer_size(kind, destination.family, inner.size, bool(around))
    if around:
        return Packet(UDP, source, destination, AROUND_PORT, around, size=size)
    protocol = outer_protocol(kind, inner.destination.family)
    if kind is not Wrapping.VXLAN:
        return Packet(protocol, source, destination, size=size)
    mixed = inner.source.value * 31 + inner.destination.value * 17 + inner.protocol * 7 + inner.from_port * 5 + inner.slot
    return Packet(protocol, source, destination, FIRST_DYNAMIC_PORT + mixed % 16384, VXLAN_PORT, size=size)
