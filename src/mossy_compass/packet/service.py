"""Protocols, ports, ICMP kinds and services.

Protocol numbers are IANA's; ICMP kinds are those of RFC 792 and RFC 4443; the service names are the common
ones of RFC 6335's registry.
"""

from __future__ import annotations

import re
from typing import NamedTuple

from mossy_compass.errors import AddressError
from mossy_compass.packet.address import Span

ICMP, TCP, UDP, ICMP6 = 1, 6, 17, 58
PROTOCOLS: dict[str, int] = {
    "icmp": ICMP,
    "tcp": TCP,
    "udp": UDP,
    "icmp6": ICMP6,
    "gre": 47,
    "esp": 50,
    "ah": 51,
    "ospf": 89,
    "sctp": 132,
}
PROTOCOL_NAMES = {number: name for name, number in PROTOCOLS.items()}
WITH_PORTS = (TCP, UDP, 132)

ICMP_KINDS: dict[str, tuple[int, int | None]] = {
    "echo-reply": (0, None),
    "unreachable": (3, None),
    "net-unreachable": (3, 0),
    "host-unreachable": (3, 1),
    "protocol-unreachable": (3, 2),
    "port-unreachable": (3, 3),
    "too-big": (3, 4),
    "prohibited": (3, 13),
    "redirect": (5, None),
    "echo-request": (8, None),
    "time-exceeded": (11, None),
    "timestamp-request": (13, None),
    "timestamp-reply": (14, None),
}
ICMP6_KINDS: dict[str, tuple[int, int | None]] = {
    "unreachable": (1, None),
    "net-unreachable": (1, 0),
    "prohibited": (1, 1),
    "beyond-scope": (1, 2),
    "host-unreachable": (1, 3),
    "port-unreachable": (1, 4),
    "too-big": (2, None),
    "time-exceeded": (3, None),
    "protocol-unreachable": (4, 1),
    "echo-request": (128, None),
    "echo-reply": (129, None),
    "router-solicitation": (133, None),
    "router-advertisement": (134, None),
    "neighbour-solicitation": (135, None),
    "neighbour-advertisement": (136, None),
}


class Service(NamedTuple):
    """A protocol with the ports, or the ICMP kinds, that it covers.

    Attributes:
        protocol: IP protocol number.
        ports: destination ports (TCP, UDP), or ``type * 256 + code`` for ICMP; None covers all.

    """

    protocol: int
    ports: Span | None = None

    def __str__(self) -> str:
        name = protocol_name(self.protocol)
        if self.ports is None:
            return name
        if self.protocol in (ICMP, ICMP6):
            return f"{name}/{icmp_name(self.protocol, self.ports)}"
        first, last = self.ports
        return f"{name}/{first}" if first == last else f"{name}/{first}-{last}"

    def covers(self, protocol: int, slot: int) -> bool:
        """True when a packet of that protocol, to that port or of that ICMP kind, is of this service."""
        return protocol == self.protocol and (self.ports is None or self.ports.first <= slot <= self.ports.last)


def protocol_name(number: int) -> str:
    """``tcp`` for 6, ``ip-99`` for a number that has no name here."""
    return PROTOCOL_NAMES.get(number, f"ip-{number}")


def icmp_span(kind: tuple[int, int | None]) -> Span:
    """An ICMP type and code (None: any code) as a run of ``type * 256 + code``."""
    number, code = kind
    return Span(number * 256, number * 256 + 255) if code is None else Span(number * 256 + code, number * 256 + code)


def icmp_name(protocol: int, span: Span) -> str:
    """The name of an ICMP kind, or its number as ``parse_icmp`` reads it: type, or type/code."""
    kinds = ICMP_KINDS if protocol == ICMP else ICMP6_KINDS
    for name, kind in kinds.items():
        if icmp_span(kind) == span:
            return name
    if span.first == span.last:
        for name, (number, code) in kinds.items():
            if code is None and number == span.first >> 8 and span.first & 255 == 0:
                return name
        return f"{span.first >> 8}/{span.first & 255}"
    return f"{span.first >> 8}"


def parse_protocol(text: str) -> int | None:
    """Read a protocol by name or number; ``any`` gives None.

    Raises:
        AddressError: no such protocol.

    """
    text = text.strip().lower()
    if text == "any":
        return None
    if text in PROTOCOLS:
        return PROTOCOLS[text]
    bare = text.removeprefix("ip-")
    if bare.isascii() and bare.isdigit() and len(bare) <= 3 and int(bare) <= 255:
        return int(bare)
    raise AddressError(f"'{text}' is not a protocol; write any, {', '.join(PROTOCOLS)}, or a number 0 to 255.")


def parse_port(text: str) -> Span:
    """Read ``80``, ``8000-8010``, or the name of a well-known service as a run of ports.

    Raises:
        AddressError: none of these.

    """
    text = text.strip()
    found = re.fullmatch(r"(\d{1,5})(?:-(\d{1,5}))?", text, re.ASCII)
    if found:
        first = int(found[1])
        last = int(found[2]) if found[2] else first
        if last > 65535 or first > 65535:
            raise AddressError(f"'{text}' is not a port: ports are 0 to 65535.")
        if first > last:
            raise AddressError(f"'{text}': the range runs backwards; write {last}-{first}.")
        return Span(first, last)
    known = BUILT_IN_SERVICES.get(text)
    if known:
        ports = {s.ports for s in known}
        if len(ports) == 1:
            port = ports.pop()
            if port is not None:
                return port
    raise AddressError(
        f"'{text}' is not a port; write a number 0 to 65535, a range like 8000-8010, or a service name such as https."
    )


def parse_icmp(text: str, protocol: int) -> Span:
    """Read an ICMP kind by name, ``type`` or ``type/code`` for ICMP (1) or ICMPv6 (58).

    Raises:
        AddressError: no such kind.

    """
    kinds = ICMP_KINDS if protocol == ICMP else ICMP6_KINDS
    text = text.strip()
    if text in kinds:
        return icmp_span(kinds[text])
    found = re.fullmatch(r"(\d{1,3})(?:/(\d{1,3}))?", text, re.ASCII)
    if found and int(found[1]) < 256 and int(found[2] or 0) < 256:
        return icmp_span((int(found[1]), int(found[2]) if found[2] else None))
    raise AddressError(f"'{text}' is not a kind of {protocol_name(protocol)}; write one of {', '.join(kinds)}, or a number.")


def parse_service(text: str) -> Service:
    """Read ``tcp/443``, ``udp/5000-5010``, ``tcp`` (all ports), ``icmp/echo-request`` or ``icmp``.

    Raises:
        AddressError: none of these.

    """
    head, slash, tail = text.strip().partition("/")
    if head.isdigit() and not slash:
        raise AddressError(
            f"'{text}' is a bare number: a port has a protocol, so write tcp/{head} or udp/{head}; IP protocol {head} is ip-{head}."
        )
    protocol = parse_protocol(head)
    if protocol is None:
        raise AddressError(f"'{text}': a service names its protocol, like tcp/443.")
    if not slash:
        return Service(protocol)
    if protocol in (ICMP, ICMP6):
        return Service(protocol, parse_icmp(tail, protocol))
    if protocol not in WITH_PORTS:
        raise AddressError(f"'{text}': {protocol_name(protocol)} has no ports; write {protocol_name(protocol)} alone.")
    return Service(protocol, parse_port(tail))


def _both(port: int) -> tuple[Service, ...]:
    """A port of TCP and UDP alike."""
    return Service(TCP, Span(port, port)), Service(UDP, Span(port, port))


def _tcp(port: int) -> tuple[Service, ...]:
    """A port of TCP."""
    return (Service(TCP, Span(port, port)),)


def _udp(port: int) -> tuple[Service, ...]:
    """A port of UDP."""
    return (Service(UDP, Span(port, port)),)


BUILT_IN_SERVICES: dict[str, tuple[Service, ...]] = {
    "ftp": _tcp(21),
    "ssh": _tcp(22),
    "telnet": _tcp(23),
    "smtp": _tcp(25),
    "domain": _both(53),
    "http": _tcp(80),
    "pop3": _tcp(110),
    "ntp": _udp(123),
    "imap": _tcp(143),
    "snmp": _udp(161),
    "ldap": _tcp(389),
    "https": _tcp(443),
    "submission": _tcp(587),
    "syslog": _udp(514),
    "echo": (Service(ICMP, icmp_span((8, None))), Service(ICMP6, icmp_span((128, None)))),
}
"""Services that every network knows without defining them."""
FTP = "ftp"
"""The one of them that tells of second channels (RFC 959 section 3.2): either end may, and the other opens it."""
FTP_OVER = (Service(TCP, Span(1024, 65535)),)
"""What its second channels are, as seen by who opens them: to a port that no other service has."""
