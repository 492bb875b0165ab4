"""Addresses that an example packet had best have: of hosts that are there, on the sides where a place has them.

An example is made of a set of packets, and any packet of the set would do. One that can be traced, from a host behind the
interface where it arrives to one behind the interface where it leaves, says more.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import NamedTuple

from mossy_compass.errors import NotConverged
from mossy_compass.model.network import Kind, Network
from mossy_compass.packet.address import Address
from mossy_compass.plan.device import DevicePlan

MOST_HOSTS = 200


class Ends(NamedTuple):
    """Addresses for an example, the best first.

    Attributes:
        sources, destinations: of either end.

    """

    sources: Sequence[Address]
    destinations: Sequence[Address]


def everybody(network: Network) -> list[Address]:
    """The addresses of hosts, then of those that a stand-in for the Internet has; the first of very many."""
    hosts = [a for d in network.devices.values() if d.kind is Kind.HOST for a, _ in d.own_addresses()]
    far = [a for d in network.devices.values() for h in d.far_hosts.values() for a in h.addresses]
    return [*hosts[:MOST_HOSTS], *far[:MOST_HOSTS]]


def anywhere(network: Network) -> Ends:
    """Everybody, at either end."""
    hosts = everybody(network)
    return Ends(hosts, hosts)


class Sides:
    """Who is behind which interface of a device: by where it sends to everybody."""

    def __init__(self, network: Network, here: DevicePlan) -> None:
        self._behind = {address: _behind(here, address) for address in everybody(network)}

    def ends(self, came: Collection[str], goes: Collection[str]) -> Ends:
        """Who sends what arrives by some interfaces, and who is sent what leaves by others; the rest after them.

        Args:
            came: interfaces; empty for any but those that packets leave by.
            goes: interfaces; empty for any but those that packets came by.

        """
        return Ends(self._first(came, goes), self._first(goes, came))

    def _first(self, here: Collection[str], there: Collection[str]) -> list[Address]:
        """Everybody; first who is behind some interfaces, or where none are named who is not behind some others."""
        # Sorted, not sifted: the set that an example is taken from may hold nobody of the right side.
        behind = self._behind
        return sorted(behind, key=lambda a: behind[a].isdisjoint(here) if here else not behind[a].isdisjoint(there))


def _behind(here: DevicePlan, address: Address) -> frozenset[str]:
    """The interfaces by which a device sends to an address."""
    try:
        route = here.table.lookup(address)
    except NotConverged:
        return frozenset()
    return frozenset(h.interface for h in route.hops) if route is not None else frozenset()
