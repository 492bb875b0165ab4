"""Which interfaces of a device face what is not its own: as the file says, or as a firewall's addresses and routes suggest.

It follows from what is written alone, never from what is up at the moment: a firewall that lost its uplink must not take
strangers for its own people.
"""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple

from mossy_compass.model.network import Device, Interface, Kind, Network
from mossy_compass.packet.address import in_spans


class OutsideKnown(StrEnum):
    """By what it is known which interfaces are outside."""

    WRITTEN = "an interface says so"
    ADDRESSES = "no address there is local"
    ROUTES = "its default routes leave there"
    NOT = "nothing says so"


class Outside(NamedTuple):
    """The outside of a device.

    Attributes:
        ports: names of interfaces, in their order.
        known: by what.

    """

    ports: tuple[str, ...]
    known: OutsideKnown


def outside_of(network: Network, device: Device) -> Outside:
    """The interfaces of a device that face what is not its own; none for what is no firewall and does not say so."""
    ports = [p for p in device.interfaces.values() if not p.loopback and (p.tunnel is None or p.outside is not None)]
    if any(p.outside is not None for p in device.interfaces.values()):
        return Outside(tuple(p.name for p in ports if p.outside), OutsideKnown.WRITTEN)
    if device.kind is not Kind.FIREWALL:
        return Outside((), OutsideKnown.NOT)
    found = tuple(p.name for p in ports if _no_local(network, p))
    if found:
        return Outside(found, OutsideKnown.ADDRESSES)
    ways = _default_ways(device)
    found = tuple(p.name for p in ports if p.name in ways or p.leased)
    return Outside(found, OutsideKnown.ROUTES if found else OutsideKnown.NOT)


def _no_local(network: Network, port: Interface) -> bool:
    """True for an interface that has addresses, and none that is local."""
    held = [a.address for a in port.addresses if not a.address.is_link_local]
    return bool(held) and not any(in_spans(a.key, network.local) for a in held)


def _default_ways(device: Device) -> set[str]:
    """The interfaces that default routes leave by, as they are written."""
    out: set[str] = set()
    for route in device.routes:
        if not route.prefix.is_default or route.table != "main":
            continue
        if route.leaving is not None:
            out |= set(device.uplinks.get(route.leaving, (route.leaving,)))
        elif route.next_hop is not None:
            hop = route.next_hop
            out |= {p.name for p in device.interfaces.values() if any(a.prefix.holds(hop) for a in p.addresses)}
    return out
