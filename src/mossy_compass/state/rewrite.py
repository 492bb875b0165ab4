"""Translation done and undone: one function, there and back, quoted packets included (RFC 3022, RFC 5508 section 4).

There and back must be the identity, whatever the protocol: a port for TCP and UDP, an
identifier for a ping, and both inside the packet that an ICMP error quotes. A law tests
that on random sessions; nothing else in the engine changes an address.
"""

from __future__ import annotations

from mossy_compass.packet.address import Address
from mossy_compass.packet.flow import FiveTuple
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.actions import Half
from mossy_compass.plan.facts import Direction, Session

BOTH = (Half.DESTINATION, Half.SOURCE)


def rewrite(packet: Packet, session: Session, direction: Direction, halves: tuple[Half, ...] = BOTH) -> Packet:
    """A packet of a session as it goes on.

    Args:
        packet: as it came, or with one half rewritten already.
        session: that it belongs to.
        direction: forth, as the opening packet went; or back, as its answers come.
        halves: which ends to rewrite.

    """
    if not session.translated:
        return packet
    before, after = session.inner, session.outer
    if direction is Direction.BACK:
        before, after = after.reverse(), before.reverse()
    if packet.quoted is not None:
        return _error(packet, before, after, halves)
    if Half.DESTINATION in halves:
        packet = with_destination(packet, after.destination, after.to_port, identifier=direction is Direction.BACK)
    if Half.SOURCE in halves:
        packet = with_source(packet, after.source, after.from_port)
    return packet


def _error(packet: Packet, before: FiveTuple, after: FiveTuple, halves: tuple[Half, ...]) -> Packet:
    """An error about a packet of the other direction: what it quotes is put into the terms of the side that it goes to.

    Whoever sends it from behind a translation does so in the name of the translated end: its own address means nothing on
    the other side, and would be told to strangers (RFC 5508 section 4.2.2).
    """
    if Half.DESTINATION in halves:
        quoted = packet.quoted
        assert quoted is not None
        quoted = with_source(quoted, after.destination, after.to_port)
        quoted = with_destination(quoted, after.source, after.from_port)
        destination = after.destination if packet.destination == before.destination else packet.destination
        packet = packet._replace(quoted=quoted, destination=destination)
    if Half.SOURCE in halves and before.source != after.source:
        packet = packet._replace(source=after.source)
    return packet


def with_source(packet: Packet, address: Address, port: int) -> Packet:
    """The packet with another source and port; of an ICMP query the identifier, which is one for both directions.

    Args:
        packet: to be rewritten.
        address: the new source.
        port: the new port, or identifier.

    """
    return packet._replace(source=address, from_port=port)


def with_destination(packet: Packet, address: Address, port: int, identifier: bool = False) -> Packet:
    """The packet with another destination and port.

    Args:
        packet: to be rewritten.
        address, port: the new ones.
        identifier: of an ICMP answer the identifier is that of the end which it goes to, so it is rewritten here.

    """
    if packet.icmp >= 0:
        return packet._replace(destination=address, from_port=port) if identifier else packet._replace(destination=address)
    return packet._replace(destination=address, to_port=port)
