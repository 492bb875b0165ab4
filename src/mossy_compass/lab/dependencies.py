"""What a journey depends on: the devices and segments of every way that its packets might have taken.

Taking something away from a network never makes a way shorter, nor a route better, as long as no device tells one routing protocol
what it learned by another. So a journey stays as it is when what fails is on none of its shortest ways, nor holds an address of
its packets. Where this cannot be relied on, ``certain`` says so, and everything is computed again.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from mossy_compass.lab.faults import QUALITY, Fault
from mossy_compass.model.network import Device, Kind, Network
from mossy_compass.model.settings import SourceCheck
from mossy_compass.packet.address import Address, Prefix
from mossy_compass.plan.plan import Plan
from mossy_compass.routing.domains import Port
from mossy_compass.routing.table import Route
from mossy_compass.walk.astray import routers_of
from mossy_compass.walk.journey import Journey, Leg, Ruling

MOST_DEVICES = 5000
"""A search that goes beyond so many devices is given up: the journey then depends on everything."""


class Touched(NamedTuple):
    """What a journey depends on.

    Attributes:
        devices: names.
        ports: device and interface.
        segments: cables.
        everything: it cannot be told.

    """

    devices: frozenset[str]
    ports: frozenset[Port]
    segments: frozenset[str]
    everything: bool = False

    def by(self, network: Network, fault: Fault) -> bool:
        """Whether a fault may change the journey."""
        if self.everything or fault.kind in ("service", "name", "lease", "host", QUALITY):
            return True
        if fault.kind == "link":
            return fault.name in self.segments
        if fault.kind == "device":
            return fault.name in self.devices
        device, _, port = fault.name.partition("/")
        if network.devices[device].kind is Kind.SWITCH:
            return device in self.devices
        return (device, port) in self.ports or any(
            i.parent == port and (device, i.name) in self.ports for i in network.devices[device].interfaces.values()
        )


ALL = Touched(frozenset(), frozenset(), frozenset(), True)


def certain(network: Network) -> bool:
    """Whether a failure can only take ways away.

    It cannot be relied on where one routing protocol tells another what it learned, where addresses are leased, where probes decide what is
    in use, where sources
    are checked by the way back, and where OSPF has several areas: a border router that loses the backbone begins to listen to
    other areas (RFC 2328 section 16.2), and may so find ways that it had not.
    """
    areas = {i.ospf.area for d in network.devices.values() for i in d.interfaces.values() if i.ospf}
    return len(areas) < 2 and not any(map(_may_give_ways, network.devices.values()))


def _may_give_ways(device: Device) -> bool:
    """Whether a failure elsewhere may give a device ways that it had not."""
    tells = any(p.redistribute or p.originate_default for p in (device.ospf, device.rip) if p is not None)
    leased = bool(device.leases) or any(i.leased for i in device.interfaces.values())
    return bool(tells or leased or device.probes or device.settings.source_check is not SourceCheck.OFF)


class Touching:
    """Tells of the journeys of one plan what they depend on.

    Attributes:
        plan: whose journeys.

    """

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self._attached: dict[Prefix, list[Port]] | None = None

    def of(self, journey: Journey) -> Touched:
        """What a journey depends on."""
        if journey.plan is None or journey.there.packet.protocol == 0:
            return ALL  # no packet left: whatever was in its way may be anywhere
        legs = [*journey.legs, *([journey.later] if journey.later is not None else [])]
        if journey.lookup is not None:
            legs += journey.lookup.journey.legs
        if journey.onward is not None:
            legs += journey.onward.every_leg
        search = _Search(self)
        if not all(search.leg(leg) for leg in legs):
            return ALL
        if not journey.answered:
            search.lost(journey.deciding)
        return search.found()

    def attached(self, prefix: Prefix) -> list[Port]:
        """The interfaces that a prefix is attached to, from which others learn of it; loopbacks are told as hosts."""
        if self._attached is None:
            # Made once for all journeys: every learned route of each of them asks.
            self._attached = {}
            for device in self.plan.network.devices.values():
                for interface in device.interfaces.values():
                    for held in interface.addresses:
                        host = Prefix(held.address.family, held.address.value, 32 if held.address.family == 4 else 128)
                        for told in {held.prefix, host}:
                            self._attached.setdefault(told, []).append((device.name, interface.name))
        return self._attached.get(prefix, [])


Followed = tuple[Prefix, str]
"""A prefix that was learned, and by which protocol."""


def _same_way(followed: Followed, route: Route | None, protocol: str) -> bool:
    """Whether a router uses what it learned, so that the way of packets is the way by which the prefix was learned."""
    return route is not None and route.prefix == followed[0] and protocol in (followed[1], "connected")


class _Gap(Exception):
    """What a journey depends on cannot be told."""


class _Search:
    """Goes every way that the packets of some legs might take.

    Attributes:
        touching: who asks, and for what plan.
        devices, ports: what was met so far.
        seen: the devices that were asked already where they would send a destination, with what was followed.

    """

    def __init__(self, touching: Touching) -> None:
        self.touching = touching
        self.plan = touching.plan
        self.devices: set[str] = set()
        self.ports: set[Port] = set()
        self.seen: set[tuple[str, Address, Followed | None]] = set()

    def leg(self, leg: Leg) -> bool:
        """Follow a leg, and from each of its devices all ways to where the packet went; False where that cannot be told."""
        for address in {leg.packet.source, leg.packet.destination, leg.arrived.source, leg.arrived.destination}:
            self._holder(address)
        try:
            for hop in leg.every_hop:
                self.devices.add(hop.device)
                self.devices.update(hop.bridges)
                self.ports.update((hop.device, p) for p in (hop.arriving, hop.leaving) if p is not None)
                for ruling in hop.rulings:
                    self._ruling(hop.device, ruling)
        except _Gap:
            return False
        return True

    def lost(self, leg: Leg) -> None:
        """Follow what the reason for a loss is looked for in: the interfaces of whom the packet came to, and of the subnet where it was to go."""
        goal, network = leg.arrived.destination, self.plan.network
        addresses = (goal, leg.because.named["address"]) if leg.because.code == "neighbour.silent" else (goal,)
        owners = (name for address in addresses for name in self.plan.owners(address))
        names = {hop.device for hop in leg.hops} | {name for name in owners if name in network.devices}
        for name in names | set(routers_of(self.plan, goal)):
            self.devices.add(name)
            for port in network.devices[name].interfaces:
                domain = self.plan.domains.of(name, port)
                self.ports.update(((name, port), *(domain.members if domain is not None else ())))

    def _ruling(self, device: str, ruling: Ruling) -> None:
        """Follow all ways that a ruling had to choose from; and what it names as the reason why it had none."""
        destination = ruling.saw.destination
        if ruling.ways:
            self._onwards([(device, *h) for h in self._hops(device, destination, None)], destination)
        self._onwards([(device, w.interface, w.address or destination, None) for w in ruling.ways], destination)
        # An interface that is down already may be down for another reason, once more fails.
        named = [r for r in (ruling.because, ruling.remark) if r is not None and r.code == "interface.down"]
        self.ports.update((reason.named["device"], reason.named["port"]) for reason in named)

    def _holder(self, address: Address) -> None:
        """Whoever has an address, and the interface that it is on."""
        for name in self.plan.owners(address):
            device = self.plan.network.devices.get(name)
            if device is not None:
                self.devices.add(name)
                self.ports.update((name, port) for held, port in device.own_addresses() if held == address)

    def _hops(self, name: str, destination: Address, followed: Followed | None) -> Iterator[tuple[str, Address, Followed | None]]:
        """Where a device's route table sends a destination, each with what is followed from there.

        A learned route hangs on more than the way of the packets: on the interfaces that the prefix is attached to, and on
        the way by which it was learned. That is the same way only while every router on it uses what it learned.

        Raises:
            _Gap: it does not, or a next hop is found by another route.

        """
        route = self.plan.device(name).table.lookup(destination)
        protocol = route.origin.split(" ")[0] if route is not None else ""
        if followed is not None and not _same_way(followed, route, protocol):
            raise _Gap
        if route is None:
            return
        learned = (route.prefix, protocol) if protocol in ("ospf", "rip") else None
        if learned is not None:
            attached = self.touching.attached(route.prefix)
            if not attached:
                raise _Gap
            self.ports.update(attached)
        for hop in route.hops:
            if hop.via is not None:
                raise _Gap
            yield hop.interface, hop.address or destination, learned

    def _onwards(self, pending: list[tuple[str, str, Address, Followed | None]], destination: Address) -> None:
        """From interfaces of a device on, by every equal way.

        Raises:
            _Gap: it cannot be told where a packet would go.

        """
        while pending:
            name, interface, hop, followed = pending.pop()
            self.ports.add((name, interface))
            domain = self.plan.domains.of(name, interface)
            if domain is None:
                continue
            self.devices.update(n for n, _ in domain.members if self.plan.network.devices[n].kind is Kind.SWITCH)
            for answer in domain.owners.get(hop, ()):
                self.ports.add((answer.device, answer.interface))
                self.devices.add(answer.device)
                pending += self._from(answer.device, destination, followed)

    def _from(
        self, name: str, destination: Address, followed: Followed | None
    ) -> Iterator[tuple[str, str, Address, Followed | None]]:
        """Where a device that is on the way would send a packet on; nothing when it was asked before."""
        if (name, destination, followed) in self.seen:
            return
        self.seen.add((name, destination, followed))
        here = self.plan.network.devices[name]
        if here.kind is Kind.HOST or any(a == destination for a, _ in here.own_addresses()):
            return
        if len(self.seen) > MOST_DEVICES or here.policy_routes or here.translate:
            raise _Gap
        for interface, hop, onwards in self._hops(name, destination, followed):
            yield name, interface, hop, onwards

    def found(self) -> Touched:
        """Everything that was met, with the cables of the interfaces, and the other end of a cable that has two."""
        self.ports |= set(self._vlan_ports())
        segments = frozenset(self._segments(self.ports))
        cables = [self.plan.network.segments[name].members for name in segments]
        ends = {member for members in cables if len(members) == 2 for member in members}  # either end shuts the other down
        return Touched(frozenset(self.devices | {d for d, _ in ends}), frozenset(self.ports | ends), segments)

    def _vlan_ports(self) -> Iterator[Port]:
        """The ports that VLAN interfaces among those met live by."""
        for name, port in self.ports:
            interfaces = self.plan.network.devices[name].interfaces
            vlan = interfaces[port].vlan
            if vlan is not None and interfaces[port].parent is None:
                yield from ((name, p.name) for p in interfaces.values() if p.access_vlan == vlan or vlan in p.trunk_vlans)

    def _segments(self, ports: Iterable[Port]) -> Iterator[str]:
        """The cables of some interfaces, those that are bridged to them too."""
        devices = self.plan.network.devices
        met: set[Port] = set()
        for name, port in ports:
            domain = self.plan.domains.of(name, port)
            met |= {(name, port), (name, devices[name].interfaces[port].parent or port)}
            met |= set(domain.members) if domain is not None else set()
        switches = {d for d in self.devices if devices[d].kind is Kind.SWITCH}
        for segment in self.plan.network.segments.values():
            if any(member in met or member[0] in switches for member in segment.members):
                yield segment.name
