"""The facts that sets are about: one table, which the index, the misses, the order check and the documents all read.

A field that a packet does not have is absent: -1 among numbers, None among names. No set holds that, so a condition on
the port of a GRE packet is not met, whatever ports it wants.
"""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum
from typing import Any, NamedTuple

from mossy_compass.packet.address import V6_BASE, Span
from mossy_compass.packet.flow import flow_of
from mossy_compass.packet.packet import TCP_FLAGS, Packet
from mossy_compass.packet.service import TCP, WITH_PORTS, Service
from mossy_compass.plan.facts import NOBODY, WHY_ENDED, Direction, Facts, Relation

ABSENT = -1
SLOT_BITS = 17
"""Room for a port or ICMP kind (16 bits) and for its absence, on the line of services."""


class SetKind(StrEnum):
    """What the sets over a field are made of."""

    INTERVALS = "intervals"
    ONE_OF = "one of"
    ANY_OF = "any of"
    MASKED = "masked bits"


class Field(NamedTuple):
    """A fact that conditions ask about.

    Attributes:
        name: ours.
        kind: of its sets: runs of integers; a set of names, of which the packet has one (one of) or several (any of);
            addresses that agree in some bits.
        given_by: the stage that first knows it; empty for what every packet brings along.
        read: takes the facts and gives the value.
        meaning: for the documents.
        values: every value, where they are few and known beforehand; None where rows bring them along.
        bits: width of a number in exact sets; 0 for a field of names, and for those whose lines are laid out in
            ``proof/space.py`` (services and addresses).
        absent: a packet may have no such number; it has one bit more for that.
        write: takes a packet and a value and gives the packet that has it, so that an example can be made; None where the
            value is not the packet's own.

    """

    name: str
    kind: SetKind
    given_by: str
    read: Callable[[Facts], Any]
    meaning: str
    values: tuple[Any, ...] | None = None
    bits: int = 0
    absent: bool = False
    write: Callable[[Packet, Any], Packet] | None = None


def service_key(packet: Packet) -> int:
    """A packet's place on the line of services: its protocol, then its port or ICMP kind, or that it has neither."""
    protocol = packet.protocol
    if packet.icmp >= 0:
        return protocol << SLOT_BITS | packet.icmp + 1
    return protocol << SLOT_BITS | (packet.to_port + 1 if protocol in WITH_PORTS else 0)


def service_span(service: Service) -> Span:
    """A service on the line of services; without ports it is everything of its protocol, portless fragments too."""
    base = service.protocol << SLOT_BITS
    if service.ports is None:
        return Span(base, base + (1 << SLOT_BITS) - 1)
    return Span(base + service.ports.first + 1, base + service.ports.last + 1)


def _source(facts: Facts) -> int:
    """The source on one line for both families, IPv4 first, so that one bisection serves both."""
    family, value = facts.packet.source
    return value if family == 4 else value + V6_BASE


def _destination(facts: Facts) -> int:
    """The destination on the same line."""
    family, value = facts.packet.destination
    return value if family == 4 else value + V6_BASE


def _from_port(facts: Facts) -> int:
    """The source port, or absent for what has none; an echo's identifier is no port."""
    packet = facts.packet
    return packet.from_port if packet.protocol in WITH_PORTS else ABSENT


def _conversation(facts: Facts) -> int:
    """The protocol of the conversation that a packet belongs to; an ICMP error belongs to what it quotes."""
    quoted = facts.packet.quoted
    return facts.packet.protocol if quoted is None else quoted.protocol


def _opener(facts: Facts) -> int:
    """Who opened the flow: the source, or for what comes back along a session the source of its opening packet."""
    session = facts.session
    family, value = facts.packet.source if session is None or facts.direction is Direction.FORTH else session.inner.source
    return value if family == 4 else value + V6_BASE


def _elsewhere(facts: Facts) -> bool:
    """Whether it comes by another interface than its session's direction came, or went, at first."""
    session = facts.session
    if session is None:
        return False
    return facts.arriving != (session.arriving if facts.direction is Direction.FORTH else session.leaving)


def _picked(facts: Facts) -> str:
    """The rule that let a packet, or its session, pass, as the rows of picked uplinks are called."""
    session = facts.session
    if facts.picked or session is None or facts.direction is Direction.BACK:
        return facts.picked
    return f"{session.opened_by[0].name} {session.opened_by[1]}"


def _waiting(facts: Facts) -> bool:
    """Whether its session was let in before its application was known, and that is known by now."""
    return facts.session is not None and bool(facts.session.pending) and bool(facts.application)


def _strays(facts: Facts) -> bool:
    """Whether a packet leaves by another interface than the one whose translation its session has."""
    session = facts.session
    if session is None or not session.mapping or facts.direction is Direction.BACK:
        return False
    return facts.leaving is not None and session.leaving is not None and facts.leaving != session.leaving


def _clashes(facts: Facts) -> bool:
    """Whether its destination was translated, and it would now leave as another session's packets do."""
    if facts.packet is facts.came or facts.packet == facts.came or facts.memory is None:
        return False
    return facts.memory.taken(facts.device, flow_of(facts.packet))


def _as_reset(packet: Packet, value: bool) -> Packet:
    """A packet that is a reset, or the packet itself."""
    return packet._replace(flags="RST") if value else packet


def _showing(packet: Packet, value: str) -> Packet:
    """A packet of TCP with other flags; any other packet as it is."""
    return packet._replace(flags=value) if packet.protocol == TCP and not packet.fragment else packet


def _identified(packet: Packet, value: int) -> Packet:
    """A query with another identifier; any other packet as it is."""
    return packet._replace(from_port=value) if packet.icmp >= 0 and value != ABSENT else packet


def _number(name: str, bits: int, meaning: str) -> Field:
    """A field that is a number in the packet, under the same name there.

    Args:
        name: of the field and of the packet's attribute.
        bits: that the number has.
        meaning: for the documents.

    """

    def write(packet: Packet, value: int) -> Packet:
        """The packet with another number."""
        changed: dict[str, Any] = {name: value}
        return packet._replace(**changed)

    return Field(name, SetKind.INTERVALS, "", lambda f: getattr(f.packet, name), meaning, bits=bits, write=write)


def _awaited(facts: Facts) -> bool:
    """Whether the device told somebody that it waits for this."""
    return facts.expected is not None and not facts.expected.helper


_NO_YES = (False, True)
_I, _ONE, _ANY, _MASK = SetKind.INTERVALS, SetKind.ONE_OF, SetKind.ANY_OF, SetKind.MASKED
FIELDS: dict[str, Field] = {
    f.name: f
    for f in (
        Field("service", _I, "", lambda f: service_key(f.packet), "protocol, with the destination port or the ICMP kind"),
        Field("source", _I, "", _source, "source address, on one line for both families"),
        Field("destination", _I, "", _destination, "destination address, on the same line"),
        Field("source-bits", _MASK, "", _source, "source address, for wildcard masks that are no few runs"),
        Field("destination-bits", _MASK, "", _destination, "destination address, likewise"),
        Field("from-port", _I, "", _from_port, "source port", bits=17, absent=True),
        Field(
            "identifier",
            _I,
            "",
            lambda f: f.packet.from_port if f.packet.icmp >= 0 else ABSENT,
            "identifier of an ICMP query, which translation treats like a port (RFC 5508 section 3)",
            bits=17,
            absent=True,
            write=_identified,
        ),
        _number("ttl", 8, "time to live, in hops"),
        _number("size", 16, "length of the whole packet, in bytes"),
        Field("fragment", _ONE, "", lambda f: f.packet.fragment, "whether it is a fragment other than the first", _NO_YES),
        Field("hours", _ANY, "", lambda f: f.moment.open, "the windows of time that are open"),
        Field("application", _ANY, "", lambda f: f.application, "the flow's application and its categories, once they are known"),
        Field("names", _ANY, "", lambda f: f.names, "the names that the device has learned for the destination"),
        Field("last-resort", _ANY, "", lambda f: f.moment.last_resort, "the groups whose uplink of last resort is in use"),
        Field("error", _ONE, "", lambda f: f.packet.quoted is not None, "whether it is an ICMP error", _NO_YES),
        Field("reset", _ONE, "", lambda f: f.packet.flags == "RST", "whether it is a TCP reset", _NO_YES, write=_as_reset),
        Field(
            "shows",
            _ONE,
            "",
            lambda f: f.packet.flags,
            "the flags of a TCP packet, as a session's phases tell them apart",
            ("", *TCP_FLAGS),
            write=_showing,
        ),
        Field("conversation", _ONE, "", _conversation, "protocol of the packet, or of the one that an ICMP error quotes"),
        Field("arriving", _ONE, "", lambda f: f.arriving, "the interface that it came by; absent for the device's own packets"),
        Field(
            "opens", _ONE, "recall", lambda f: f.opens, "whether it may open a session: a bare SYN, a datagram, a request", _NO_YES
        ),
        Field("relation", _ONE, "recall", lambda f: f.relation, "what it is to the device's sessions", tuple(Relation)),
        Field("session", _ONE, "recall", lambda f: f.session is not None, "whether it belongs to a session", _NO_YES),
        Field("opener", _I, "recall", _opener, "address of who opened the flow: an answer belongs to who asked"),
        Field("opener-bits", _MASK, "recall", _opener, "address of who opened the flow, for wildcard masks"),
        Field(
            "fits", _ONE, "recall", lambda f: f.fits, "whether its flags are such as its session expects at that moment", _NO_YES
        ),
        Field(
            "elsewhere", _ONE, "recall", _elsewhere, "whether it comes by another interface than its session's direction", _NO_YES
        ),
        Field(
            "session-came",
            _ONE,
            "recall",
            lambda f: f.session.arriving if f.session is not None else None,
            "the interface by which its session's opening packet came; absent for the device's own",
        ),
        Field(
            "session-went",
            _ONE,
            "recall",
            lambda f: f.session.leaving if f.session is not None else None,
            "the interface by which its session's opening packet left; absent for what was for the device itself",
        ),
        Field(
            "gone",
            _ONE,
            "recall",
            lambda f: f.gone.why if f.gone is not None else "",
            "how the session ended that it would belong to; empty where there is none",
            ("", *WHY_ENDED),
        ),
        Field(
            "mapped", _ONE, "recall", lambda f: f.mapping is not None, "whether it is sent to the outer end of a mapping", _NO_YES
        ),
        Field("welcome", _ONE, "recall", lambda f: f.welcome, "whether `filtering` lets its sender use that outer end", _NO_YES),
        Field("awaited", _ONE, "recall", _awaited, "whether it opens a channel that the device itself announced", _NO_YES),
        Field("waiting", _ONE, "recall", _waiting, "whether its application became known after its session was let in", _NO_YES),
        Field("admitted", _ONE, "inspection", lambda f: f.admitted, "whether a session lets it pass over the filters", _NO_YES),
        Field("let-in", _ONE, "", lambda f: f.opened_by != NOBODY, "whether a row at this device permitted it already", _NO_YES),
        Field("front", _ONE, "", lambda f: f.front, "the destination rule that sent it on here; empty for none"),
        Field("picked", _ONE, "", _picked, "the rule that let it pass and says by which uplink it leaves; empty for none"),
        Field(
            "switched", _ONE, "", lambda f: f.switched, "the rule that let it pass and has its source translated; empty for none"
        ),
        Field("chosen", _ONE, "", lambda f: f.leaving is not None, "whether a stage chose a way out already", _NO_YES),
        Field("leaving", _ONE, "route", lambda f: f.leaving, "the interface that it will leave by"),
        Field(
            "strays",
            _ONE,
            "route",
            _strays,
            "whether it leaves by another interface than its session, which was translated there, left by at first",
            _NO_YES,
        ),
        Field(
            "clashes", _ONE, "recall", _clashes, "whether it would leave as another session's packets do, once translated", _NO_YES
        ),
    )
}
"""Every field by its name. A new condition is a line here, its key in ``conditions.py`` and ``files/schema.py``."""
