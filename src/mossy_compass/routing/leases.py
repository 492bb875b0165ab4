"""Address leases: who gets which address, gateway and resolver from whom (the roles of RFC 2131, without its packets).

A lease service gives the lowest address of its range that nobody on the segment has; clients are served in the
order of their names, so that the same network always has the same leases.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import NamedTuple

from mossy_compass.headers.spans import merge
from mossy_compass.marks import Mark
from mossy_compass.model.network import AccessList, Device, Interface, LeasePool, Network, Rule, StaticRoute, Translate
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import Address, InterfaceAddress, Prefix, Span
from mossy_compass.routing.domains import Domain, Domains, Port

LEASE_PREFERENCE = 240
"""A default route that a lease installs loses to any that somebody wrote."""


class Lease(NamedTuple):
    """What an interface was given.

    Attributes:
        address: with the prefix length of the server's subnet.
        gateway: of the default route; None when the lease names none.
        resolvers: to be asked for names.
        server: device and interface that gave it.
        mark: of the lease service.

    """

    address: InterfaceAddress
    gateway: Address | None
    resolvers: tuple[Address, ...]
    server: Port
    mark: Mark


class Leases(NamedTuple):
    """All leases of a network.

    Attributes:
        held: by device and interface.
        wanting: interfaces that got none, with the reason.

    """

    held: Mapping[Port, Lease]
    wanting: Mapping[Port, str]


def assign(network: Network, domains: Domains, earlier: Mapping[Port, Lease] | None = None) -> Leases:
    """Give every leased interface an address, or the reason why it has none.

    Args:
        network: as written, or with something failed.
        domains: who hears whom in it.
        earlier: leases of before something failed: who has one keeps it while its service is still there, for a lease outlives
            a cable, and nobody gets another address because a neighbour fell silent (RFC 2131 section 4.4.5).

    """
    kept = earlier or {}
    held: dict[Port, Lease] = {}
    wanting: dict[Port, str] = {}
    taken: dict[str, set[Address]] = {}
    promised = {lease.address.address for lease in kept.values()}
    clients = sorted((d.name, i.name) for d in network.devices.values() for i in d.interfaces.values() if i.leased)
    for client in clients:
        before = kept.get(client)
        if before is not None and any(p.interface == before.server[1] for p in network.devices[before.server[0]].leases):
            held[client] = before
            continue
        domain = domains.of(*client)
        if domain is None:
            wanting[client] = f"{client[1]} is down ({domains.link(*client).why})"
            continue
        used = taken.setdefault(domain.name, {*domain.owners, *promised})
        found = _given(network, domain, used)
        if isinstance(found, str):
            wanting[client] = found
        else:
            held[client] = found
            used.add(found.address.address)
    return Leases(held, wanting)


def _given(network: Network, domain: Domain, used: set[Address]) -> Lease | str:
    """The next lease of a broadcast domain, or why there is none."""
    found = next(iter(_pools(network, domain)), None)
    if found is None:
        return f"nobody on segment {domain.name} leases addresses"
    server, interface, pool = found
    address = _lowest(pool, used)
    if address is None:
        return f"the range {pool.first}-{pool.last} of {server} is used up"
    length = next(a.length for a in interface.addresses if a.prefix.holds(address))
    return Lease(InterfaceAddress(address, length), pool.gateway, pool.resolvers, (server, pool.interface), pool.mark)


def _pools(network: Network, domain: Domain) -> Iterable[tuple[str, Interface, LeasePool]]:
    """The pools that serve a broadcast domain, in the order of their devices."""
    for name, port in domain.members:
        for pool in network.devices[name].leases:
            if pool.interface == port:
                yield name, network.devices[name].interfaces[port], pool


def _lowest(pool: LeasePool, used: set[Address]) -> Address | None:
    """The lowest address that is free, so that the same network always gives the same leases."""
    for value in range(pool.first.value, pool.last.value + 1):
        found = Address(pool.first.family, value)
        if found not in used:
            return found
        if value - pool.first.value > len(used):
            break
    return None


def apply(network: Network, leases: Leases) -> Network:
    """The network with the leased addresses, default routes and resolvers in place, and rules that name the holders."""
    if not leases.held:
        return network
    devices = dict(network.devices)
    for (name, port), lease in leases.held.items():
        devices[name] = _with_lease(devices[name], port, lease)
    known: dict[str, list[Span]] = {}
    for name in {n for n, _ in leases.held}:
        known[name] = [Span(a.key, a.key) for a, _ in devices[name].own_addresses()]
    fill = _Filler(known)
    lists = {n: fill.access_list(entry) for n, entry in network.lists.items()}
    groups = {n: replace(g, terms=fill.all(g.terms) or ()) for n, g in network.groups.items()}
    devices = {n: fill.device(d) for n, d in devices.items()}
    return replace(network, devices=devices, lists=lists, groups=groups)


def _with_lease(device: Device, port: str, lease: Lease) -> Device:
    """The device with the leased address in place."""
    interface = replace(device.interfaces[port], addresses=(*device.interfaces[port].addresses, lease.address))
    routes = device.routes
    if lease.gateway is not None and device.settings.leased_default_route:
        prefix = Prefix(lease.gateway.family, 0, 0)
        routes = (*routes, StaticRoute(prefix, lease.mark, lease.gateway, None, LEASE_PREFERENCE, origin="lease"))
    resolvers = device.resolvers or lease.resolvers
    return replace(device, interfaces={**device.interfaces, port: interface}, routes=routes, resolvers=resolvers)


class _Filler:
    """Fills leased addresses into terms; each group is made anew once."""

    def __init__(self, known: Mapping[str, list[Span]]) -> None:
        self._known = known
        self._made: dict[str, Term] = {}

    def all(self, terms: tuple[Term, ...] | None) -> tuple[Term, ...] | None:
        """Terms with the leased addresses filled in."""
        return None if terms is None else tuple(self.one(t) for t in terms)

    def one(self, term: Term) -> Term:
        """One term, likewise, and its members."""
        if term.leased in self._known:
            return replace(term, spans=merge(self._known[term.leased]))
        if not term.members:
            return term
        if term.words not in self._made:
            members = self.all(term.members) or ()
            spans = merge(s for m in members for s in m.spans or ())
            self._made[term.words] = term if members == term.members else replace(term, members=members, spans=spans)
        return self._made[term.words]

    def access_list(self, entry: AccessList) -> AccessList:
        """A list, likewise."""
        return replace(entry, rules=tuple(self.rule(r) for r in entry.rules))

    def rule(self, rule: Rule) -> Rule:
        """A rule, likewise."""
        return replace(rule, sources=self.all(rule.sources), destinations=self.all(rule.destinations))

    def device(self, device: Device) -> Device:
        """A device, likewise."""
        if not device.translate and not device.policy_routes:
            return device
        entries = tuple(replace(e, rule=self.rule(e.rule)) for e in device.policy_routes)
        return replace(device, translate=tuple(map(self.translate, device.translate)), policy_routes=entries)

    def translate(self, entry: Translate) -> Translate:
        """A translation rule, likewise."""
        return replace(entry, sources=self.all(entry.sources), destinations=self.all(entry.destinations))
