"""Addresses that are written as somebody's to whom packets go, and what can be wrong with any of them.

One table of places (gateways, next hops, candidates, translation goals, resolvers, leases) and one table of checks: an address is
looked at alike wherever it stands. A new place is a row of the first, a new fault a row of the second. What needs the computed
network (whether anybody is there) is asked in ``routing/findings.py`` over the same places.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from enum import StrEnum
from typing import NamedTuple

from mossy_compass.marks import Mark, Problems, Severity
from mossy_compass.model.network import Device, Network, StaticRoute, Translate
from mossy_compass.packet.address import V6_BASE, Address, Prefix


class Sort(StrEnum):
    """Sorts of places where such an address stands."""

    GATEWAY = "gateway"
    NEXT_HOP = "next hop"
    CANDIDATE = "next hop of a policy route"
    LEASE_GATEWAY = "gateway of a lease"
    RESOLVER = "resolver"
    LEASE_RESOLVER = "resolver of a lease"
    GOES_TO = "goal of a translation"


NEIGHBOURS = frozenset((Sort.GATEWAY, Sort.NEXT_HOP, Sort.CANDIDATE, Sort.LEASE_GATEWAY))
"""Sorts that must be a neighbour, on a subnet of the device."""
RESOLVERS = frozenset((Sort.RESOLVER, Sort.LEASE_RESOLVER))


class Goal(NamedTuple):
    """One such address.

    Attributes:
        sort: the sort of place.
        device: where it is written.
        address: the address.
        mark: where it stands.
        words: the place, as ``next hop 10.40.0.9 of policy route 10``.
        interfaces: the interfaces behind which a neighbour must be.
        route: the route that it belongs to, for next hops and gateways.
        rule: the translation rule that it belongs to.

    """

    sort: Sort
    device: Device
    address: Address
    mark: Mark
    words: str
    interfaces: tuple[str, ...]
    route: StaticRoute | None = None
    rule: Translate | None = None

    @property
    def subnets(self) -> list[Prefix]:
        """The subnets on which a neighbour must be."""
        return [a.prefix for name in self.interfaces for a in self.device.interfaces[name].addresses]


def goals(device: Device) -> Iterator[Goal]:
    """Every address of a device that packets are to go to."""
    every = tuple(device.interfaces)
    yield from _of_routes(device, every)
    yield from _of_leases(device, every)
    for address in device.resolvers:
        yield Goal(Sort.RESOLVER, device, address, device.resolvers_mark or device.mark, f"resolver {address}", every)
    for rule in device.translate:
        for address in rule.goals:
            if not rule.disabled:
                words = f"{address}, to which translation rule {rule.id} sends,"
                yield Goal(Sort.GOES_TO, device, address, rule.mark, words, every, rule=rule)


def _of_routes(device: Device, every: tuple[str, ...]) -> Iterator[Goal]:
    """Next hops: gateways, those of routes, and those of policy routes."""
    for route in device.routes:
        if route.next_hop is not None:
            sort = Sort.GATEWAY if route.origin == "gateway" else Sort.NEXT_HOP
            yield Goal(sort, device, route.next_hop, route.mark, f"{sort} {route.next_hop}", every, route)
    for entry in device.policy_routes:
        for candidate in entry.candidates if not entry.disabled else ():
            if candidate.next_hop is not None:
                words = f"next hop {candidate.next_hop} of policy route {entry.id}"
                ports = (candidate.leaving,) if candidate.leaving in device.interfaces else every
                yield Goal(Sort.CANDIDATE, device, candidate.next_hop, candidate.mark, words, tuple(p for p in ports if p))


def _of_leases(device: Device, every: tuple[str, ...]) -> Iterator[Goal]:
    """What a device gives to others with their addresses."""
    for pool in device.leases:
        if pool.gateway is not None:
            words = f"gateway {pool.gateway} of the leases on {pool.interface}"
            yield Goal(Sort.LEASE_GATEWAY, device, pool.gateway, pool.mark, words, (pool.interface,))
        for address in pool.resolvers:
            words = f"resolver {address} of the leases on {pool.interface}"
            yield Goal(Sort.LEASE_RESOLVER, device, address, pool.mark, words, every)


class Check(NamedTuple):
    """One thing that can be wrong.

    Attributes:
        code: of its finding, but for those of routes and gateways, which had a code of their own before.
        sorts: where it is looked for; empty for everywhere.
        wrong: takes the network and a goal; gives what is wrong as the rest of a sentence, or nothing.
        remedy: what to do.
        severity: how bad it is.

    """

    code: str
    sorts: frozenset[Sort]
    wrong: Callable[[Network, Goal], str]
    remedy: str
    severity: Severity = Severity.WARNING


_CODES = {
    (Sort.NEXT_HOP, "address.special"): "route.next-hop-special",
    (Sort.GATEWAY, "address.self"): "route.self",
    (Sort.NEXT_HOP, "address.self"): "route.self",
    (Sort.GATEWAY, "address.elsewhere"): "host.gateway-elsewhere",
    (Sort.NEXT_HOP, "address.elsewhere"): "route.next-hop-elsewhere",
    (Sort.GATEWAY, "address.silent"): "host.gateway-silent",
    (Sort.NEXT_HOP, "address.silent"): "route.next-hop-silent",
}


def code(sort: Sort, check: str) -> str:
    """The code of a finding."""
    return _CODES.get((sort, check), check)


def _special(network: Network, goal: Goal) -> str:
    """Addresses that name no single host (RFC 1122 section 3.2.1.3, RFC 4291 section 2.4)."""
    return f"is {goal.address.special}: nobody has it." if goal.address.special else ""


def _self(network: Network, goal: Goal) -> str:
    """The device's own address, where a neighbour is meant; a link-local one may be a neighbour's on another segment."""
    own = [a for a, _ in goal.device.own_addresses()]
    return f"is {goal.device.name} itself." if goal.address in own and not goal.address.is_link_local else ""


def _adrift(network: Network, goal: Goal) -> str:
    """A link-local address without the segment that it is on (RFC 4007 section 5)."""
    if not (goal.address.family == 6 and goal.address.is_link_local):
        return ""
    if goal.sort in NEIGHBOURS and (len(goal.interfaces) == 1 or goal.sort is Sort.NEXT_HOP):  # of routes it is said before
        return ""
    return "is link-local: it means a neighbour on one segment, and nothing says on which."


def _family(network: Network, goal: Goal) -> str:
    """An address of a family that the device, or the rule, has nothing of."""
    rule = goal.rule
    if rule is not None:
        asked = {
            4 if s.first < V6_BASE else 6 for t in rule.destinations or () if t.words not in ("any", "self") for s in t.spans or ()
        }
        if asked and goal.address.family not in asked:
            return f"is IPv{goal.address.family}, and the rule is about IPv{min(asked)} destinations."
        return ""
    held = {a.address.family for p in goal.device.interfaces.values() for a in p.addresses}
    if goal.sort in RESOLVERS and held and goal.address.family not in held and not _leased(goal.device):
        return f"is IPv{goal.address.family}, and {goal.device.name} has no address of that family."
    return ""


def _end(network: Network, goal: Goal) -> str:
    """The first or last address of a subnet, which no host has (RFC 1122 section 3.2.1.3; not with 31 bits, RFC 3021)."""
    if goal.address.family != 4:
        return ""
    near = (
        goal.subnets
        if goal.sort in NEIGHBOURS
        else [a.prefix for d in network.devices.values() for p in d.interfaces.values() for a in p.addresses]
    )
    for prefix in near:
        if prefix.family == 4 and prefix.length < 31 and prefix.holds(goal.address):
            if goal.address.key == prefix.span.first:
                return f"is the network's own number of {prefix}: no host has it."
            if goal.address.key == prefix.span.last:
                return f"is the broadcast address of {prefix}: no host has it."
    return ""


def _elsewhere(network: Network, goal: Goal) -> str:
    """A neighbour that is on none of the subnets."""
    own = goal.subnets
    if _leased(goal.device) or (goal.address.is_link_local and goal.address.family == 6) or any(p.holds(goal.address) for p in own):
        return ""
    if goal.sort is Sort.GATEWAY:
        held = ", ".join(map(str, own)) or "it has none"
        return f"is on no subnet of {goal.device.name} ({held}): nothing beyond them can be reached."
    if goal.sort is Sort.NEXT_HOP:
        return "" if _recursive(goal) else f"is on no subnet of {goal.device.name}: the route is inactive."
    if goal.sort is Sort.LEASE_GATEWAY:
        return f"is on no subnet of {goal.device.name}/{goal.interfaces[0]}: who takes a lease cannot reach it."
    behind = f"{goal.device.name}/{goal.interfaces[0]}" if len(goal.interfaces) == 1 else goal.device.name
    return f"is on no subnet of {behind}: this way is never taken."


def _recursive(goal: Goal) -> bool:
    """True where another route may lead to a next hop: one that is written, or one that a protocol may teach."""
    device = goal.device
    others = (r.prefix for r in device.routes if r is not goal.route and not r.prefix.is_default)
    return bool(device.ospf or device.rip) or any(p.holds(goal.address) for p in others)


def _leased(device: Device) -> bool:
    """Whether an address of a device is not known before its lease."""
    return any(p.leased for p in device.interfaces.values())


CHECKS: tuple[Check, ...] = (
    Check("address.special", frozenset(), _special, "Name the address of one host.", Severity.ERROR),
    Check("address.link-local", frozenset(), _adrift, "Add leaving: INTERFACE, or name a global address."),
    Check("address.self", NEIGHBOURS - {Sort.LEASE_GATEWAY}, _self, "Name the neighbour's address."),
    Check("address.family", frozenset(), _family, "Name an address of the same family."),
    Check("address.subnet-end", frozenset(), _end, "Name the address of a host."),
    Check("address.elsewhere", NEIGHBOURS, _elsewhere, "Use an address of a connected subnet."),
)
"""What is looked for, in this order; the first fault of an address is told, since the others follow from it."""


def check_goals(network: Network, problems: Problems, certain: bool = True) -> None:
    """Tell what is wrong with addresses that packets are to go to.

    Args:
        network: the network.
        problems: where it is told.
        certain: no part of the file was left out; else only what an address says by itself is looked at.

    """
    for device in network.devices.values():
        if not device.layer3:
            continue
        for goal in goals(device):
            for check in CHECKS if certain else CHECKS[:1]:
                said = check.wrong(network, goal) if not check.sorts or goal.sort in check.sorts else ""
                if said:
                    words = (
                        f"the {goal.words} {said}"
                        if goal.sort in (Sort.GATEWAY, Sort.NEXT_HOP) and check.code == "address.self"
                        else f"{goal.words} {said}"
                    )
                    problems.add(code(goal.sort, check.code), goal.mark, words, check.remedy, check.severity)
                    break
