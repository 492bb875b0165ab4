"""The choice among equal ways: a stated function of stated fields and of the device's own salt.

It mixes 64-bit integers by multiplying and shifting, never linearly: of a linear code such as a CRC the choices at two
devices in a row would be the same choice, and half of the ways would never be taken. Every step is one of unsigned
64-bit arithmetic, so that the same function can be computed for a column of packets at once. It is part of the format:
the same flow takes the same way on every machine and in every release.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from mossy_compass.model.network import name_hash
from mossy_compass.model.settings import Sharing
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.device import DevicePlan
from mossy_compass.routing.table import NextHop

Choose = Callable[[str, tuple[NextHop, ...], Packet], int | None]
"""Takes a device, its equal ways and the packet, and gives the number of the way to take; None: by the hash."""

_BITS64 = (1 << 64) - 1
_ODD = 0x9E3779B97F4A7C15  # 2^64 divided by the golden ratio, odd: it spreads neighbouring integers apart


def mix(state: int, value: int) -> int:
    """One more 64-bit integer into a hash: add, multiply, and fold the high bits down twice."""
    state = (state ^ value) * _ODD & _BITS64
    state = (state ^ state >> 32) * 0xD6E8FEB86659FD93 & _BITS64
    return state ^ state >> 32


def _halves(address: Address) -> tuple[int, int]:
    """An address as two numbers of 64 bits, high and low: the hash mixes numbers of that size."""
    return address.value >> 64, address.value & _BITS64


def share(packet: Packet, sharing: Sharing, count: int, salt: int) -> int:
    """Which of ``count`` equal members a packet takes, counted from 0.

    Args:
        packet: whose fields are mixed.
        sharing: which fields.
        count: of members, at least 1.
        salt: the device's own number, so that devices choose independently.

    """
    return _mixed(packet, sharing, salt) % count


def highest(packet: Packet, sharing: Sharing, members: Sequence[str], salt: int) -> int:
    """Which of some members a packet takes by the highest score, so that one that is lost moves its own flows and no others.

    Args:
        packet: whose fields are mixed.
        sharing: which fields.
        members: their names, at least one.
        salt: the device's own number, so that devices choose independently.

    """
    state = _mixed(packet, sharing, salt)
    return max(range(len(members)), key=lambda n: (mix(state, name_hash(members[n])), -n))


def _mixed(packet: Packet, sharing: Sharing, salt: int) -> int:
    """The fields that a choice is made by, mixed into one number of 64 bits."""
    state = salt
    for half in _halves(packet.source):
        state = mix(state, half)
    if sharing is not Sharing.SOURCE:
        for half in _halves(packet.destination):
            state = mix(state, half)
    if sharing is Sharing.FLOW:
        for value in (packet.protocol, packet.from_port, packet.to_port):
            state = mix(state, value)
    return state


def unsourced(packet: Packet) -> Packet:
    """A device's own packet as the choice sees it: without a source, which follows from the way and cannot decide it.

    Nor does the choice see what is not known when the source is looked for: the kind of an error, its quote, sizes.
    """
    return packet._replace(source=Address(packet.destination.family, 0), icmp=-1, flags="", ttl=0, size=0, quoted=None)


def choice(here: DevicePlan, hops: tuple[NextHop, ...], packet: Packet, own: bool, choose: Choose | None) -> tuple[int, bool]:
    """The number of the way that a packet takes, and whether it was chosen for this walk instead of by the hash.

    Args:
        here: the device.
        hops: the equal ways.
        packet: to be sent.
        own: the device made it; its source is not known before the way is.
        choose: asked first; where it gives None, the hash decides.

    """
    seen = unsourced(packet) if own else packet
    number = choose(here.name, hops, seen) if choose else None
    if number is not None:
        return number, True
    if all(h.group for h in hops):
        return highest(seen, here.settings.sharing, [h.interface for h in hops], here.salt), False
    return share(seen, here.settings.sharing, len(hops), here.salt), False
