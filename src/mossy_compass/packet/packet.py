"""A packet as a value: the header fields that decide its fate, nothing else.

Flags, TTL and size are there because something decides by them. Payload, sequence numbers
and options are not, because nothing does; a model that carried them would promise what it
does not look at.
"""

from __future__ import annotations

from typing import NamedTuple

from mossy_compass.packet.address import Address, Span
from mossy_compass.packet.service import ICMP, ICMP6, TCP, WITH_PORTS, icmp_name, protocol_name

FIRST_DYNAMIC_PORT = 49152
"""The source port of a test packet when none is stated: first of RFC 6335's dynamic range."""
DEFAULT_TTL = 64
DEFAULT_SIZE = 64
_ECHO = {ICMP: (8, 0), ICMP6: (128, 0)}
# Types that ask for an answer: echo and timestamp of ICMP (RFC 792), echo of ICMPv6 (RFC 4443). A type means
# something within its own protocol alone: 128 is nothing in ICMP.
TCP_FLAGS = ("SYN", "SYN-ACK", "ACK", "FIN", "RST")
"""What a TCP packet shows (RFC 9293 section 3.1): it asks, answers, goes on, ends its half, or resets."""
REPLY_TYPES = {(ICMP, 8): 0, (ICMP, 13): 14, (ICMP6, 128): 129}
"""The type of ICMP that answers a request, by protocol and the request's type."""


class Channel(NamedTuple):
    """What a packet's payload tells the other end: where its sender waits for a second channel.

    Attributes:
        protocol: of that channel.
        address, port: where it is to be opened to, as the packet says by now.

    """

    protocol: int
    address: Address
    port: int

    def __str__(self) -> str:
        return f"{protocol_name(self.protocol)} {_end(self.address, self.port)}"


class Packet(NamedTuple):
    """One packet.

    Attributes:
        protocol: IP protocol number.
        source: source address.
        destination: destination address.
        from_port: source port; for ICMP echo, the identifier, which translation treats alike (RFC 5508). -1 in a fragment
            other than the first, which carries neither (RFC 791 section 3.2, RFC 8200 section 4.5).
        to_port: destination port; 0 where the protocol has none.
        icmp: ``type * 256 + code`` of an ICMP packet, else -1.
        flags: for TCP one of ``TCP_FLAGS``; else empty.
        ttl: time to live, in hops.
        size: length of the whole packet in bytes.
        quoted: for an ICMP error, the packet that it is about (RFC 792, RFC 4443).
        announces: the second channel that its payload tells of; None for none.

    """

    protocol: int
    source: Address
    destination: Address
    from_port: int = 0
    to_port: int = 0
    icmp: int = -1
    flags: str = ""
    ttl: int = DEFAULT_TTL
    size: int = DEFAULT_SIZE
    quoted: Packet | None = None
    announces: Channel | None = None

    @property
    def slot(self) -> int:
        """Destination port, or ``type * 256 + code`` for ICMP: what a service is compared with."""
        return self.to_port if self.icmp < 0 else self.icmp

    @property
    def opening(self) -> bool:
        """True for a packet that may open a session: a bare SYN, a UDP packet, an ICMP request."""
        if self.from_port < 0:
            return False
        if self.protocol == TCP:
            return self.flags == "SYN"
        return self.icmp < 0 or (self.protocol, self.icmp >> 8) in REPLY_TYPES

    @property
    def fragment(self) -> bool:
        """True for a fragment other than the first: it has addresses and a protocol, and nothing beyond."""
        return self.from_port < 0

    @property
    def is_error(self) -> bool:
        """True for an ICMP error or a redirect, of which nobody is told by another; also for one that quotes nothing."""
        return self.quoted is not None or (self.icmp >> 8) in NEVER_TOLD_OF.get(self.protocol, ())

    def passed_on(self) -> Packet:
        """The packet with one hop less to go."""
        # Of all ways to copy the rest, whatever it is, this is the fastest; every hop of every packet comes by here.
        return tuple.__new__(Packet, self[:7] + (self[7] - 1,) + self[8:])  # noqa: RUF005

    def what(self) -> str:
        """Protocol and port or ICMP kind, as ``tcp/443`` or ``icmp/echo-request``."""
        name = protocol_name(self.protocol)
        if self.fragment:
            return f"{name} (a later fragment, without ports)"
        if self.icmp >= 0:
            return f"{name}/{icmp_name(self.protocol, Span(self.icmp, self.icmp))}"
        return f"{name}/{self.to_port}" if self.protocol in WITH_PORTS else name

    def __str__(self) -> str:
        if self.fragment:
            return f"{protocol_name(self.protocol)} {self.source} > {self.destination} later fragment"
        if self.protocol in WITH_PORTS:
            ends = f"{_end(self.source, self.from_port)} > {_end(self.destination, self.to_port)}"
            return f"{protocol_name(self.protocol)} {ends}{' ' + self.flags if self.flags else ''}"
        tail = ""
        if self.icmp >= 0:
            tail = " " + icmp_name(self.protocol, Span(self.icmp, self.icmp))
            if self.quoted is None:
                tail += f" id {self.from_port}"
        return f"{protocol_name(self.protocol)} {self.source} > {self.destination}{tail}"


def _end(address: Address, port: int) -> str:
    """One end of a packet, as ``address port``."""
    return f"{address}:{port}" if address.family == 4 else f"[{address}]:{port}"


def last_piece(first: Packet, whole: int) -> Packet:
    """The last piece of a packet that was divided: addresses and a protocol, and nothing beyond (RFC 791 section 3.2).

    Args:
        first: its first piece, which is as long as all others but the last.
        whole: how long the packet was, in bytes.

    """
    head = 20 if first.source.family == 4 else 48
    most = max(8, (first.size - head) // 8 * 8)  # what a piece carries is whole units of eight bytes
    rest = whole - (20 if first.source.family == 4 else 40)
    return first._replace(from_port=-1, to_port=0, icmp=-1, flags="", size=head + rest - (rest - 1) // most * most)


def answer_to(packet: Packet) -> Packet | None:
    """The packet with which the far end answers: SYN-ACK, UDP answer, or the reply to an ICMP request.

    None for what is never answered: ICMP that asks nothing (RFC 1122 section 3.2.2), and a piece of a packet.
    """
    if packet.fragment:
        return None
    if packet.icmp >= 0:
        kind = REPLY_TYPES.get((packet.protocol, packet.icmp >> 8))
        if kind is None:
            return None
        return Packet(packet.protocol, packet.destination, packet.source, packet.from_port, 0, kind << 8, size=packet.size)
    flags = "SYN-ACK" if packet.protocol == TCP else ""
    return Packet(packet.protocol, packet.destination, packet.source, packet.to_port, packet.from_port, -1, flags)


def refusal_of(packet: Packet) -> Packet | None:
    """What a host sends for what nobody there listens for.

    A reset for TCP (RFC 9293 section 3.10.7.1), port unreachable where there are ports (RFC 1122 section 4.1.3.1), else
    protocol unreachable (section 3.2.2.1; for IPv6 the unknown next header of RFC 4443 section 3.4). None where nothing
    may be said: about resets and ICMP.
    """
    if packet.icmp >= 0 or packet.flags == "RST" or packet.fragment:  # nothing is said of a later fragment (RFC 1122 3.2.2)
        return None
    if packet.protocol == TCP:
        return reset_of(packet)
    return icmp_error(packet, packet.destination, "port-unreachable" if packet.protocol in WITH_PORTS else "protocol-unreachable")


def reset_of(packet: Packet) -> Packet:
    """A reset in the name of the far end of a TCP packet."""
    return Packet(TCP, packet.destination, packet.source, packet.to_port, packet.from_port, -1, "RST")


ERROR_KINDS = {
    "net-unreachable": {4: (3, 0), 6: (1, 0)},
    "host-unreachable": {4: (3, 1), 6: (1, 3)},
    "protocol-unreachable": {4: (3, 2), 6: (4, 1)},
    "port-unreachable": {4: (3, 3), 6: (1, 4)},
    "prohibited": {4: (3, 13), 6: (1, 1)},
    "net-prohibited": {4: (3, 9), 6: (1, 1)},
    "host-prohibited": {4: (3, 10), 6: (1, 1)},
    "policy-failed": {4: (3, 13), 6: (1, 5)},
    "route-rejected": {4: (3, 13), 6: (1, 6)},
    "time-exceeded": {4: (11, 0), 6: (3, 0)},
    "too-big": {4: (3, 4), 6: (2, 0)},
    "beyond-scope": {4: (3, 13), 6: (1, 2)},
}

ERROR_TYPES = {
    protocol: frozenset(by_family[family][0] for by_family in ERROR_KINDS.values()) for protocol, family in ((ICMP, 4), (ICMP6, 6))
}
"""The types of ICMP that are errors, by protocol."""
NEVER_TOLD_OF = {ICMP: frozenset((3, 4, 5, 11, 12)), ICMP6: frozenset((*range(128), 137))}
"""Errors and redirects, about which no error may be sent (RFC 1122 section 3.2.2, RFC 4443 section 2.4 (e)); of ICMPv6 every
type below 128 is an error, known or not (section 2.1)."""

REJECT_ANSWERS = (
    "reset",
    "net-unreachable",
    "host-unreachable",
    "protocol-unreachable",
    "port-unreachable",
    "prohibited",
    "net-prohibited",
    "host-prohibited",
    "policy-failed",
    "route-rejected",
)
"""What a rule that rejects may send: a reset, or ICMP unreachable with one of its codes (RFC 1812 5.2.7.1, RFC 4443 3.1)."""


def later_fragment(packet: Packet) -> Packet:
    """A piece of a packet that is not its first: without ports, flags or kind."""
    return packet._replace(from_port=-1, to_port=-1, icmp=-1, flags="")


def icmp_error(about: Packet, source: Address, kind: str) -> Packet:
    """An ICMP error from ``source`` to the sender of ``about``, quoting it (RFC 792, RFC 4443).

    Args:
        about: the packet that the error quotes.
        source: address of who sends the error.
        kind: name of the ICMP kind, the same for both families.

    """
    number, code = ERROR_KINDS[kind][about.source.family]
    protocol = ICMP if about.source.family == 4 else ICMP6
    return Packet(protocol, source, about.source, 0, 0, number * 256 + code, quoted=about)


def echo_request(source: Address, destination: Address, identifier: int = 1, ttl: int = DEFAULT_TTL) -> Packet:
    """An ICMP or ICMPv6 echo request, by the family of the addresses.

    Args:
        source, destination: its ends, of one family.
        identifier: what answers are recognised by (RFC 792).
        ttl: time to live, in hops.

    """
    protocol = ICMP if destination.family == 4 else ICMP6
    number, code = _ECHO[protocol]
    return Packet(protocol, source, destination, identifier, 0, number * 256 + code, ttl=ttl)
