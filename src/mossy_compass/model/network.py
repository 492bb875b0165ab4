"""The frozen description of a network: what the user drew, addressed, routed and ruled, nothing computed.

Every part keeps the mark of the place that it was written at, so that every answer can cite it.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from mossy_compass.marks import NOWHERE, Mark
from mossy_compass.model.settings import default_of
from mossy_compass.packet.address import Address, InterfaceAddress, Prefix, Span, Spans
from mossy_compass.packet.service import Service


class Kind(StrEnum):
    """What a device is."""

    ROUTER = "router"
    FIREWALL = "firewall"
    HOST = "host"
    SWITCH = "switch"
    INTERNET = "internet"

    @property
    def words(self) -> str:
        """With its article: ``a router``, ``an internet device``."""
        return "an internet device" if self is Kind.INTERNET else f"a {self.value}"


class PortState(StrEnum):
    """The state of an interface's port, as written or as a fault made it."""

    UP = "up"
    DISABLED = "disabled"
    UNPLUGGED = "not-connected"
    FAR_END_DOWN = "far-end-down"


class Verdict(StrEnum):
    """What a rule does with the packets that it matches."""

    PERMIT = "permit"
    DENY = "deny"
    REJECT = "reject"
    NOTE = "note"


@dataclass(frozen=True, slots=True)
class Term:
    """One entry of an address condition or group.

    Attributes:
        words: how it was named (a group's name, a device, ``any``) or its normal form.
        spans: the addresses; None for ``self``, which depends on the device that asks.
        members: for a group, its entries.
        leased: name of a device whose address comes by a lease: the addresses are filled in when that is known.

    """

    words: str
    spans: Spans | None
    members: tuple[Term, ...] = ()
    leased: str = ""


@dataclass(frozen=True, slots=True)
class Group:
    """A named set of addresses."""

    name: str
    terms: tuple[Term, ...]
    mark: Mark
    about: str = ""


@dataclass(frozen=True, slots=True)
class ServiceGroup:
    """A named set of services."""

    name: str
    services: tuple[Service, ...]
    mark: Mark
    about: str = ""


@dataclass(frozen=True, slots=True)
class Rule:
    """One rule of an access list. A condition that is None is not asked.

    Attributes:
        id: its number or name within the list.
        verdict: what it does.
        protocol: IP protocol number, None for any.
        sources, destinations: address conditions.
        from_ports: source ports.
        services: destination services; the words as written are in ``service_words``.
        opening: only packets that open a session.
        arriving, leaving: names of interfaces.
        disabled: kept, but passed over.
        log: whether a match is logged.
        about: the purpose, as the author wrote it.

    """

    id: str
    verdict: Verdict
    mark: Mark
    protocol: int | None = None
    sources: tuple[Term, ...] | None = None
    destinations: tuple[Term, ...] | None = None
    from_ports: tuple[Span, ...] | None = None
    services: tuple[Service, ...] | None = None
    service_words: str = ""
    opening: bool = False
    arriving: tuple[str, ...] | None = None
    leaving: tuple[str, ...] | None = None
    disabled: bool = False
    log: bool = False
    about: str = ""


@dataclass(frozen=True, slots=True)
class AccessList:
    """An ordered list of rules; the first that matches decides. It has no effect until it is attached."""

    name: str
    rules: tuple[Rule, ...]
    mark: Mark
    about: str = ""


@dataclass(frozen=True, slots=True)
class OspfPort:
    """OSPF on one interface (RFC 2328 appendix C.3).

    Attributes:
        area: area number.
        cost: cost of leaving by this interface, 1 to 65535.
        passive: the subnet is announced, no neighbour is sought.
        point_to_point: no designated router; else the segment is a broadcast network.

    """

    area: int
    cost: int
    passive: bool
    point_to_point: bool
    mark: Mark


@dataclass(frozen=True, slots=True)
class Interface:
    """A layer-3 interface, or a port of a switch.

    Attributes:
        name: the port's name.
        addresses: its addresses with prefix lengths; leased ones are filled in when the lease is known.
        zone: the role that rules and people use (inside, outside, lab).
        about: free text.
        state: of its port.
        mtu: largest packet in bytes.
        arriving_list, leaving_list: names of the attached access lists.
        parent, vlan: for a sub-interface, the port and the VLAN tag; for a VLAN interface, the VLAN alone.
        access_vlan: the port is an untagged member of this VLAN.
        trunk_vlans: VLANs that the port carries tagged.
        loopback: always up, attached to nothing.
        answers_for: further addresses that it answers for on its segment.
        leased: its address comes from a lease service on the segment.
        ospf, rip: routing protocols spoken here; ``rip`` is None, ``active`` or ``passive``.

    """

    name: str
    mark: Mark
    addresses: tuple[InterfaceAddress, ...] = ()
    zone: str = ""
    about: str = ""
    state: PortState = PortState.UP
    mtu: int = 1500
    arriving_list: str | None = None
    leaving_list: str | None = None
    arriving_mark: Mark = NOWHERE
    leaving_mark: Mark = NOWHERE
    parent: str | None = None
    vlan: int | None = None
    access_vlan: int | None = None
    trunk_vlans: tuple[int, ...] = ()
    loopback: bool = False
    answers_for: Spans = ()
    leased: bool = False
    ospf: OspfPort | None = None
    rip: str | None = None


class RouteAction(StrEnum):
    """What a route does with the packets that it wins; ``local`` takes them for the device itself."""

    FORWARD = "forward"
    DISCARD = "discard"
    UNREACHABLE = "unreachable"
    LOCAL = "local"


@dataclass(frozen=True, slots=True)
class StaticRoute:
    """A route that the user wrote.

    Attributes:
        prefix: what it is for.
        next_hop: address of the next router; None when only an interface or a group is named.
        leaving: interface, or uplink group, that it leaves by; None: found from the next hop.
        preference: lower wins among routes to the same prefix (RFC 8349 route preference).
        metric: lower wins among routes of the same preference.
        table: name of the table it belongs to; ``main`` is the ordinary one.
        action: forward, discard silently, or answer unreachable.

    """

    prefix: Prefix
    mark: Mark
    next_hop: Address | None = None
    leaving: str | None = None
    preference: int = 1
    metric: int = 0
    table: str = "main"
    action: RouteAction = RouteAction.FORWARD
    about: str = ""
    origin: str = "static"


@dataclass(frozen=True, slots=True)
class Translate:
    """A source translation rule: many to one address and port, the leaving interface's own (RFC 3022 NAPT).

    Attributes:
        sources: whose packets; None for all.
        destinations: to where; None for everywhere.
        leaving: the interface that they must leave by.
        disabled: kept, but passed over.

    """

    id: str
    leaving: str
    mark: Mark
    sources: tuple[Term, ...] | None = None
    destinations: tuple[Term, ...] | None = None
    disabled: bool = False
    about: str = ""


@dataclass(frozen=True, slots=True)
class Serves:
    """A service that an end listens for."""

    service: Service
    words: str
    mark: Mark


@dataclass(frozen=True, slots=True)
class FarHost:
    """One of the many hosts that stand for the Internet, reached through an ``internet`` device."""

    name: str
    addresses: tuple[Address, ...]
    serves: tuple[Serves, ...]
    mark: Mark
    silent: bool = False


@dataclass(frozen=True, slots=True)
class OspfProcess:
    """OSPF settings of a device (RFC 2328, RFC 3101 is not done).

    Attributes:
        areas: area number to ``normal``, ``stub`` or ``totally-stub``.
        redistribute: origin (connected, static, rip) to (external type 1 or 2, metric).
        originate_default: None, or (external type, metric, whether even without a default route of its own).

    """

    mark: Mark
    areas: Mapping[int, str]
    redistribute: Mapping[str, tuple[int, int]]
    originate_default: tuple[int, int, bool] | None = None
    preference: int = 110


@dataclass(frozen=True, slots=True)
class RipProcess:
    """RIP version 2 settings of a device (RFC 2453): origin to metric for what is redistributed."""

    mark: Mark
    redistribute: Mapping[str, int]
    originate_default: bool = False
    preference: int = 120


@dataclass(frozen=True, slots=True)
class LeasePool:
    """An address-lease service on one interface: range, gateway, resolvers."""

    interface: str
    first: Address
    last: Address
    gateway: Address | None
    resolvers: tuple[Address, ...]
    mark: Mark


@dataclass(frozen=True, slots=True)
class Device:
    """A router, firewall, host, switch, or stand-in for the Internet.

    Attributes:
        stateful: protocols whose answers pass because of a session.
        settings: what the file says; ask ``setting()`` for the value in force.
        records: for a resolver, the names that it knows; None for a device that is none.
        resolvers: addresses of the resolvers that this device asks.
        uplinks: named groups of interfaces used as one way out.
        ospf, rip: settings of the routing processes; each also runs where an interface speaks it.
        leases: address-lease services that it runs.

    """

    name: str
    kind: Kind
    mark: Mark
    interfaces: Mapping[str, Interface]
    routes: tuple[StaticRoute, ...] = ()
    stateful: frozenset[int] = frozenset()
    stateful_mark: Mark | None = None
    translate: tuple[Translate, ...] = ()
    serves: tuple[Serves, ...] = ()
    settings: Mapping[str, tuple[str, Mark]] = field(default_factory=dict)
    about: str = ""
    zone: str = ""
    far_hosts: Mapping[str, FarHost] = field(default_factory=dict)
    records: Mapping[str, tuple[Address, ...]] | None = None
    resolvers: tuple[Address, ...] = ()
    uplinks: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    ospf: OspfProcess | None = None
    rip: RipProcess | None = None
    leases: tuple[LeasePool, ...] = ()

    def setting(self, name: str) -> tuple[str, Mark | None]:
        """The value in force of a setting, and where it was written; None when it is the default."""
        if name in self.settings:
            return self.settings[name]
        return default_of(name, self.kind), None

    @property
    def layer3(self) -> bool:
        """False for a switch, which looks at no address."""
        return self.kind is not Kind.SWITCH

    def own_addresses(self) -> list[tuple[Address, str]]:
        """Every address that this device bears, with the interface's name."""
        return [(a.address, i.name) for i in self.interfaces.values() for a in i.addresses]


@dataclass(frozen=True, slots=True)
class Link:
    """Properties of a segment that a packet feels: times in milliseconds, loss in per cent, MTU in bytes."""

    latency_ms: float = 0.0
    jitter_ms: float = 0.0
    loss_percent: float = 0.0
    mtu: int | None = None


@dataclass(frozen=True, slots=True)
class Segment:
    """A cable, a radio cell or a bridged network: whoever is on it hears the others."""

    name: str
    members: tuple[tuple[str, str], ...]
    mark: Mark
    link: Link = Link()
    about: str = ""
    down: bool = False


@dataclass(frozen=True, slots=True)
class Network:
    """A whole network as written.

    Attributes:
        names: name records that need no resolver.
        local: what counts as ``local-networks``.

    """

    title: str
    mark: Mark
    devices: Mapping[str, Device]
    segments: Mapping[str, Segment]
    lists: Mapping[str, AccessList] = field(default_factory=dict)
    groups: Mapping[str, Group] = field(default_factory=dict)
    services: Mapping[str, ServiceGroup] = field(default_factory=dict)
    names: Mapping[str, tuple[Address, ...]] = field(default_factory=dict)
    local: Spans = ()
    about: str = ""

    def owner_of(self, address: Address) -> str | None:
        """The device, or far host, that bears an address; None when nobody does."""
        return next(iter(self.owners().get(address, ())), None)

    def owners(self) -> dict[Address, tuple[str, ...]]:
        """Every address that somebody bears, with its bearers' names in order."""
        found: dict[Address, tuple[str, ...]] = {}
        for name in sorted(self.devices):
            device = self.devices[name]
            for address, _ in device.own_addresses():
                found[address] = (*found.get(address, ()), name)
            for far in device.far_hosts.values():
                for address in far.addresses:
                    found[address] = (*found.get(address, ()), far.name)
        return {a: tuple(dict.fromkeys(names)) for a, names in found.items()}

    def far_host(self, name: str) -> tuple[Device, FarHost] | None:
        """A host of the stand-in Internet by name, with the device that stands for it."""
        for device in self.devices.values():
            if name in device.far_hosts:
                return device, device.far_hosts[name]
        return None
