"""Addresses that an example packet had best have: of hosts that are there, on the sides where a place has them.

An example is made of a set of packets, and any packet of the set would do. One that can be traced, from a host behind the
interface where it arrives to one behind the interface where it leaves, says more.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from typing import NamedTuple

from mossy_compass.errors import NotConverged
from mossy_compass.model.network import Kind, Network
from mossy_compass.packet.address import Address
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.ids import TableId

MOST_HOSTS = 200


class Look(NamedTuple):
    """What a walk of an example must show: that a packet comes to a place, and what decides it there.

    Attributes:
        tables: by device; one of them must be asked. Empty for a place without tables.
        rows: the ids of rows of which one must decide; empty for any.
        earlier: in the version of the network before a change.
        device: it must come to; empty for any.
        came, goes: by which interfaces it must come to the device, and leave it; empty for any.

    """

    tables: frozenset[tuple[str, TableId]] = frozenset()
    rows: frozenset[str] = frozenset()
    earlier: bool = False
    device: str = ""
    came: tuple[str, ...] = ()
    goes: tuple[str, ...] = ()


Comes = Callable[[Facts, Sequence[Look]], "bool | None"]
"""Whether some host here sends a packet that a walk brings where it is said to come; None where no walk can tell.

``proof/`` asks, and ``lab/`` walks.
"""


class Witness(NamedTuple):
    """An example.

    Attributes:
        facts: a packet, with what else is known of it.
        sent: whether a walk of it shows what is claimed; None where nobody looked, or no walk can tell.

    """

    facts: Facts
    sent: bool | None = None


class Ends(NamedTuple):
    """Addresses for an example, the best first.

    Attributes:
        sources, destinations: of either end.
        comes: walks a packet; None where nobody looks.
        tables, earlier: where the rows that are asked about stand, and stood before a change.

    """

    sources: Sequence[Address]
    destinations: Sequence[Address]
    comes: Comes | None = None
    tables: frozenset[tuple[str, TableId]] = frozenset()
    earlier: frozenset[tuple[str, TableId]] = frozenset()

    def at(self, rows: Iterable[str] = (), earlier: bool = False) -> Callable[[Facts], bool | None] | None:
        """What tells whether a walk brings a packet to one of some rows there, to any where none is named; None where nobody looks."""
        tables = self.earlier if earlier else self.tables
        return self.by(Look(tables, frozenset(rows), earlier)) if tables else None

    def by(self, *looks: Look) -> Callable[[Facts], bool | None] | None:
        """What tells whether a walk of a packet shows one of what is looked for; None where nobody looks."""
        comes = self.comes
        return (lambda facts: comes(facts, looks)) if comes is not None else None


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
