"""All route tables of a network, computed when they are first asked for.

Redistribution makes tables depend on one another, so they are computed in rounds until
nothing changes. Where rounds come back to an earlier state there is no settled routing:
that is an error with the circle in it, and not an answer by chance.
"""

from __future__ import annotations

import copy
import itertools
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

from mossy_compass.errors import NotConverged
from mossy_compass.model.network import Device, Network, OspfProcess, RipProcess
from mossy_compass.packet.address import Prefix
from mossy_compass.routing import leases, local
from mossy_compass.routing.domains import Domains, Port
from mossy_compass.routing.redistribution import Announced, External
from mossy_compass.routing.table import Route, RouteTable

if TYPE_CHECKING:
    from mossy_compass.routing.ospf import Ospf
    from mossy_compass.routing.rip import Rip

Told = frozenset[External | Announced]

MOST_ROUNDS = 64
_GROUPS = {"gateway": "static", "lease": "static"}


def origin_group(route: Route) -> str:
    """The word of ``redistribute`` that a route falls under: connected, static, ospf or rip."""
    return _GROUPS.get(route.origin, route.origin.split(" ")[0])


class Routing:
    """Forwarding knowledge of a whole network.

    Attributes:
        network: with the leased addresses in place.
        domains: who hears whom.
        leases: who was given which address.
        race: where redistribution has more than one stable state, what goes round when all speak at once; the
            state taken is then the one in which the devices speak in the order of their names.

    Args:
        network: as written, or with something failed.
        earlier: leases of before something failed.

    """

    def __init__(self, network: Network, earlier: Mapping[Port, leases.Lease] | None = None) -> None:
        self.domains = Domains(network)
        self.leases = leases.assign(network, self.domains, earlier)
        self.network = leases.apply(network, self.leases)
        if self.network is not network:
            self.domains = Domains(self.network)
        self._tables: dict[tuple[str, str], RouteTable] = {}
        self.race: tuple[str, ...] = ()
        self._settled: tuple[dict[int, Ospf], Rip | None] | None = None

    def table(self, device: str, name: str = "main") -> RouteTable:
        """A table of a device: ``main``, or one that its static routes name.

        Raises:
            NotConverged: redistribution between protocols has no stable state.

        """
        key = (device, name)
        if key not in self._tables:
            if name == "main":
                self._tables[key] = self._build(self.network.devices[device], *self.settled())
            else:
                self._tables[key] = table = RouteTable()
                local.static(self.network.devices[device], self.domains, table, name, self.table(device))
        return self._tables[key]

    def same_at(self, other: Routing, device: Device) -> bool:
        """Whether a device knows the same ways as in another routing: by the same tables, over the same segments, in the same weather.

        Args:
            other: of another version of the network, in which the device is the very same.
            device: who knows.

        """
        name = device.name
        return (
            _weather_at(self.network, name) == _weather_at(other.network, name)
            and self.domains.same_around(other.domains, device)
            and self.table(name).same_as(other.table(name))  # what is in tables beside follows from this one, and from the rest
        )

    def in_weather_of(self, network: Network) -> tuple[Routing, frozenset[str]] | None:
        """The same with other probes down, or other choices among uplinks; what does not hang on those is taken over.

        Static routes, policy routes and uplinks of the devices whose own probes moved are theirs alone. What such a device tells others
        decides how far it reaches: where that is the same, routing protocols stay as they are.

        Args:
            network: the network as it was written for this one, but for the weather.

        Returns:
            It, and the devices whose own rows may have changed; None where more than that may have.

        """
        probes = (network.down or frozenset()) ^ (self.network.down or frozenset())
        moved = frozenset(d for d, _ in probes) | frozenset(d for d, *_ in network.best ^ self.network.best)
        for name in moved:
            ports = self.network.devices[name].interfaces.values()
            if any(p.tunnel is not None and (name, p.tunnel.probe) in probes for p in ports):
                return None
        made = copy.copy(self)
        made.network = replace(self.network, down=network.down, best=network.best)
        made.domains = self.domains.in_weather_of(made.network)
        made._tables = {key: table for key, table in self._tables.items() if key[0] not in moved}
        tellers = [d for d in self.network.devices.values() if d.name in moved and _tells(d)]
        if tellers and (self._settled is None or self.race):
            return None
        for device in tellers:
            assert self._settled is not None
            before = frozenset(self._told_by(device, self.table(device.name)))
            if frozenset(made._told_by(device, made._build(device, *self._settled))) != before:
                return None
        return made, moved

    def table_names(self, device: str) -> list[str]:
        """``main``, then the other tables that routes of the device name."""
        named = {r.table for r in self.network.devices[device].routes} - {"main"}
        return ["main", *sorted(named)]

    def settled(self) -> tuple[dict[int, Ospf], Rip | None]:
        """The routing protocols in their stable state: OSPF by address family, and RIP."""
        if self._settled is None:
            self._settled = self._settle()
        return self._settled

    def _build(self, device: Device, ospf: dict[int, Ospf], rip: Rip | None) -> RouteTable:
        """The table of one device from everything that it is told."""
        table = RouteTable()
        local.connected(device, self.domains, table)
        for instance in ospf.values():
            if device.ospf is not None:
                instance.teach(device.name, table)
        if rip is not None and device.rip is not None:
            for route in rip.routes(device.name):
                table.add(route)
        local.static(device, self.domains, table)
        return table

    def _protocols(self, told: Told) -> tuple[dict[int, Ospf], Rip | None]:
        """OSPF and RIP again, with what they are told by each other, until nothing changes."""
        devices = self.network.devices.values()
        externals = [t for t in told if isinstance(t, External)]
        ospf = {}
        if any(d.ospf for d in devices):
            from mossy_compass.routing.ospf import Ospf  # most networks of a home or a branch have none

            for family in (4, 6):
                ospf[family] = Ospf(self.network, self.domains, family, [e for e in externals if e.prefix.family == family])
        rip = None
        if any(d.rip for d in devices):
            from mossy_compass.routing.rip import Rip

            rip = Rip(self.network, self.domains, [t for t in told if isinstance(t, Announced)])
        return ospf, rip

    def _settle(self) -> tuple[dict[int, Ospf], Rip | None]:
        """Redistribution by rounds: what each device tells follows from its table, which follows from what is told."""
        tellers = [d for d in self.network.devices.values() if _tells(d)]
        told: Told = frozenset()
        seen: list[Told] = []
        for _ in range(MOST_ROUNDS):
            ospf, rip = self._protocols(told)
            if not tellers:
                return ospf, rip
            fresh: Told = frozenset(t for d in tellers for t in self._told_by(d, self._build(d, ospf, rip)))
            if fresh == told:
                return ospf, rip
            seen.append(told)
            if fresh in seen:
                circle = _circle([*seen[seen.index(fresh) :], fresh])
                return self._settle_in_turn(tellers, circle)
            told = fresh
        raise NotConverged(
            f"redistribution has not settled after {MOST_ROUNDS} rounds. Redistribute in one direction only, or fewer routes."
        )

    def _settle_in_turn(self, tellers: list[Device], circle: NotConverged) -> tuple[dict[int, Ospf], Rip | None]:
        """One device speaks at a time, in the order of names. A stable state found so is one of several."""
        told: dict[str, Told] = {d.name: frozenset() for d in tellers}
        seen: list[Told] = []
        for _ in range(MOST_ROUNDS):
            before = _all(told)
            if before in seen:
                raise circle
            seen.append(before)
            for device in sorted(tellers, key=lambda d: d.name):
                ospf, rip = self._protocols(_all(told))
                told[device.name] = frozenset(self._told_by(device, self._build(device, ospf, rip)))
            if _all(told) == before:
                self.race = circle.cycle
                return self._protocols(before)
        raise circle

    def _told_by(self, device: Device, table: RouteTable) -> Iterable[External | Announced]:
        """What a device announces of its active routes. A default route is announced by its own key alone."""
        routes = [r for r in table if not r.prefix.is_default and r.origin != "local"]
        if device.ospf is not None:
            yield from _into_ospf(device, device.ospf, routes, table)
        if device.rip is not None:
            yield from _into_rip(device, device.rip, routes)


def _into_ospf(device: Device, process: OspfProcess, routes: Iterable[Route], table: RouteTable) -> Iterator[External]:
    """What a device redistributes into OSPF: external routes with their metric and type (RFC 2328 section 12.4.4)."""
    spoken = {a.prefix for i in device.interfaces.values() if i.ospf for a in i.addresses}
    for route in routes:
        given = process.redistribute.get(origin_group(route))
        if given and route.prefix not in spoken:
            yield External(device.name, route.prefix, *given)
    if process.originate_default is not None:
        yield from _originated(device, process.originate_default, table)


def _originated(device: Device, wanted: tuple[int, int, bool], table: RouteTable) -> Iterator[External]:
    """Default routes that a device announces: where it has one itself from elsewhere, or always when told so."""
    kind, metric, always = wanted
    for family in (4, 6):
        default = Prefix(family, 0, 0)
        held = table.exact(default)
        if always or (held is not None and origin_group(held) != "ospf"):
            yield External(device.name, default, kind, metric)


def _into_rip(device: Device, process: RipProcess, routes: Iterable[Route]) -> Iterator[Announced]:
    """What a device redistributes into RIP; metrics above 15 are unreachable (RFC 2453 section 3.4)."""
    for route in routes:
        metric = process.redistribute.get(origin_group(route), 0)
        if metric and route.prefix.family == 4:
            yield Announced(device.name, route.prefix, metric)
    if process.originate_default:
        yield Announced(device.name, Prefix(4, 0, 0), 1)


def _all(told: Mapping[str, Told]) -> Told:
    """What all devices tell together."""
    return frozenset(t for some in told.values() for t in some)


def _weather_at(network: Network, device: str) -> tuple[set[str], set[tuple[str, str]]]:
    """The probes of a device that are down, and the uplinks that are best there."""
    return {p for d, p in network.down or () if d == device}, {(g, m) for d, g, m in network.best if d == device}


def _tells(device: Device) -> bool:
    """Whether a device redistributes anything at all."""
    ospf, rip = device.ospf, device.rip
    return bool((ospf and (ospf.redistribute or ospf.originate_default)) or (rip and (rip.redistribute or rip.originate_default)))


def _circle(states: list[Told]) -> NotConverged:
    """The states that come back again and again where redistribution never settles, for the message."""
    cycle = []
    for before, after in itertools.pairwise(states):
        gone = "; ".join(sorted(f"{t.router} no longer announces {t.prefix} into {_into(t)}" for t in before - after))
        come = "; ".join(sorted(f"{t.router} announces {t.prefix} into {_into(t)}" for t in after - before))
        cycle.append("; ".join(x for x in (come, gone) if x))
    return NotConverged(
        "routing does not settle: redistribution goes round in a circle. Redistribute in one direction only, "
        "or give the two protocols preferences so that each device keeps the route it had first.",
        cycle,
    )


def _into(told: External | Announced) -> str:
    """What was told, as a line of that message."""
    return "ospf" if isinstance(told, External) else "rip"
