"""The frozen description of a network: what the user drew, addressed, routed and ruled, nothing computed.

Every part keeps the mark of the place that it was written at, so that every answer can cite it. These classes have no
slots: making them would take longer, at every start of the command line, than slots ever save.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from functools import cached_property
from typing import Any

from mossy_compass.marks import NOWHERE, Mark
from mossy_compass.model.gates import Application, Gates, Hours
from mossy_compass.model.settings import Settings
from mossy_compass.model.terms import Expects, Group, ServiceGroup, Shown, Term
from mossy_compass.packet.address import Address, InterfaceAddress, Prefix, Span, Spans
from mossy_compass.packet.service import Service
from mossy_compass.packet.wrapping import Wrapping


def _mark(default: Mark | None = NOWHERE) -> Any:
    """A field for a place: it takes no part in equality, so that a blank line in the file changes places and nothing else."""
    return field(default=default, compare=False)


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
    HAND_ON = "hand-on"


@dataclass(frozen=True, repr=False)
class Rule(Shown):
    """One rule of an access list. A condition that is None is not asked.

    Attributes:
        id: its number or name within the list.
        verdict: what it does.
        protocol: IP protocol number, None for any.
        sources, destinations: address conditions.
        from_ports: source ports.
        services: destination services; the words as written are in ``service_words``.
        opening: only packets that open a session.
        states: what a packet may be to the device's sessions: new, continuing, answering, related, none.
        fragments: only fragments other than the first, which have no ports.
        hours: names of windows of time, one of which must be open.
        applications: names or categories, one of which must be known of the flow.
        names: host names, one of which must have the destination's address as the device knows it.
        last_resort: only while the uplink of last resort is in use: ``GROUP/last-resort``, or ``last-resort`` for the one that there is; empty for always.
        arriving, leaving: names of interfaces.
        answer: what a reject sends: ``reset`` or a kind of ICMP error; empty for what the device's setting says.
        uplink: what it lets pass leaves by this interface, or by this group of uplinks; empty for as routes say.
        translates: what it lets pass gets the leaving interface's address as its source.
        disabled: kept, but passed over.
        log: severity of the log line of each match (RFC 5424); empty for none.
        about: the purpose, as the author wrote it.

    """

    id: str
    verdict: Verdict
    mark: Mark = field(compare=False)
    protocol: int | None = None
    sources: tuple[Term, ...] | None = None
    destinations: tuple[Term, ...] | None = None
    from_ports: tuple[Span, ...] | None = None
    services: tuple[Service, ...] | None = None
    service_words: str = ""
    opening: bool = False
    states: tuple[str, ...] | None = None
    fragments: bool = False
    hours: tuple[str, ...] | None = None
    applications: tuple[str, ...] | None = None
    names: tuple[str, ...] | None = None
    last_resort: str = ""
    arriving: tuple[str, ...] | None = None
    leaving: tuple[str, ...] | None = None
    answer: str = ""
    uplink: str = ""
    translates: bool = False
    disabled: bool = False
    log: str = ""
    about: str = ""


@dataclass(frozen=True, repr=False)
class AccessList(Shown):
    """An ordered list of rules; the first that matches decides. It has no effect until it is attached.

    Attributes:
        name: as interfaces say it.
        rules: in the order in which they are asked.
        mark: where the list begins.
        about: what it is for; shown where the list decides.

    """

    name: str
    rules: tuple[Rule, ...]
    mark: Mark = field(compare=False)
    about: str = ""


@dataclass(frozen=True, repr=False)
class OspfPort(Shown):
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
    mark: Mark = field(compare=False)


@dataclass(frozen=True, repr=False)
class Inspects(Shown):
    """The protocols whose sessions let answers pass, where an interface says so and not the whole device.

    Attributes:
        arriving: of sessions whose opening packet arrives by the interface.
        leaving: of those whose opening packet leaves by it.
        mark: where it is written.

    """

    arriving: frozenset[int]
    leaving: frozenset[int]
    mark: Mark = field(compare=False)


class Protects(StrEnum):
    """What a tunnel's selector does with what leaves (RFC 4301 section 4.4.1): into the tunnel, past it, or not at all."""

    PROTECT = "protect"
    BYPASS = "bypass"
    DISCARD = "discard"


@dataclass(frozen=True, repr=False)
class Selector(Shown):
    """Which packets belong into a tunnel, whatever their route.

    Attributes:
        does: what is done with them.
        sources, destinations: the own end and the far one; None for any.
        mark: where it is written.

    """

    does: Protects
    sources: tuple[Term, ...] | None
    destinations: tuple[Term, ...] | None
    mark: Mark = field(compare=False)


@dataclass(frozen=True, repr=False)
class Tunnel(Shown):
    """What makes an interface a tunnel: its packets travel within others, from one end to the other.

    Attributes:
        to: address of the other end.
        words: the same as written.
        by: the interface whose address is this end; which way the outer packets leave is for routes to say.
        kind: what is put around a packet.
        selectors: what goes into it beside what routes lead there; empty for none.
        probe: it is up while this probe of the device is; empty for always.
        exchanged: its keys are exchanged with the other end (RFC 7296), so that it needs an association; else both ends have them.
        proposals: what may be agreed on in that exchange, in words of whoever writes the file; empty for anything.
        divides: its outer packets may be divided on their way (RFC 4301 section 8.1: DF is cleared).
        mark: where it is written.

    """

    to: Address
    words: str
    by: str
    kind: Wrapping
    mark: Mark = field(compare=False)
    selectors: tuple[Selector, ...] = ()
    probe: str = ""
    exchanged: bool = False
    proposals: tuple[str, ...] = ()
    divides: bool = False


@dataclass(frozen=True, repr=False)
class Interface(Shown):
    """A layer-3 interface, or a port of a switch.

    Attributes:
        name: the port's name.
        addresses: its addresses with prefix lengths; leased ones are filled in when the lease is known.
        zone: the role that rules and people use (inside, outside, lab).
        about: free text.
        state: of its port.
        mtu: largest packet in bytes.
        arriving_lists, leaving_lists: names of the attached access lists, in the order in which they are asked.
        outside: it faces what is not one's own; None where the file does not say.
        inspects: protocols that are inspected here; None where only the device says so.
        tunnel: it is the end of a tunnel, and has no cable; None for any other.
        parent, vlan: for a sub-interface, the port and the VLAN tag; for a VLAN interface, the VLAN alone.
        access_vlan: the port is an untagged member of this VLAN.
        trunk_vlans: VLANs that the port carries tagged.
        loopback: always up, attached to nothing.
        answers_for: further addresses that it answers for on its segment.
        leased: its address comes from a lease service on the segment.
        ospf, rip: routing protocols spoken here; ``rip`` is None, ``active`` or ``passive``.

    """

    name: str
    mark: Mark = field(compare=False)
    addresses: tuple[InterfaceAddress, ...] = ()
    zone: str = ""
    about: str = ""
    state: PortState = PortState.UP
    mtu: int = 1500
    arriving_lists: tuple[str, ...] = ()
    leaving_lists: tuple[str, ...] = ()
    arriving_mark: Mark = _mark()  # noqa: RUF009 - a field, as dataclasses make them
    leaving_mark: Mark = _mark()  # noqa: RUF009 - a field, as dataclasses make them
    parent: str | None = None
    vlan: int | None = None
    access_vlan: int | None = None
    trunk_vlans: tuple[int, ...] = ()
    loopback: bool = False
    answers_for: Spans = ()
    leased: bool = False
    ospf: OspfPort | None = None
    rip: str | None = None
    outside: bool | None = None
    inspects: Inspects | None = None
    tunnel: Tunnel | None = None


def link_locals(device: str, interface: Interface) -> tuple[Address, ...]:
    """The IPv6 link-local addresses of an interface that has IPv6 at all (RFC 4291 section 2.8 asks for one).

    Where none is written it is made of the names of device and interface, by FNV-1a: stable and opaque, as RFC 7217 has
    it, so that nobody mistakes it for one that a person chose.
    """
    six = [a.address for a in interface.addresses if a.address.family == 6]
    written = tuple(a for a in six if a.is_link_local)
    if written or not six or interface.loopback:
        return written
    return (Address(6, 0xFE80 << 112 | name_hash(f"{device}/{interface.name}")),)


def name_hash(name: str) -> int:
    """A 64-bit number for a name: FNV-1a, whose two constants these are."""
    value = 0xCBF29CE484222325
    for byte in name.encode():
        value = (value ^ byte) * 0x100000001B3 & 0xFFFFFFFFFFFFFFFF
    return value


class RouteAction(StrEnum):
    """What a route does with the packets that it wins.

    ``local`` takes them for the device itself; ``leave-table`` sends them on to whatever is asked after its table.
    """

    FORWARD = "forward"
    DISCARD = "discard"
    UNREACHABLE = "unreachable"
    LOCAL = "local"
    LEAVE = "leave-table"


@dataclass(frozen=True, repr=False)
class StaticRoute(Shown):
    """A route that the user wrote.

    Attributes:
        prefix: what it is for.
        next_hop: address of the next router; None when only an interface or a group is named.
        leaving: interface, or uplink group, that it leaves by; None: found from the next hop.
        preference: lower wins among routes to the same prefix (RFC 8349 route preference).
        metric: lower wins among routes of the same preference.
        table: name of the table it belongs to; ``main`` is the ordinary one.
        action: forward, discard silently, answer unreachable, or leave the table.
        probe: it is used while this probe of the device is up; empty for always.

    """

    prefix: Prefix
    mark: Mark = field(compare=False)
    next_hop: Address | None = None
    leaving: str | None = None
    preference: int = 1
    metric: int = 0
    table: str = "main"
    action: RouteAction = RouteAction.FORWARD
    about: str = ""
    origin: str = "static"
    probe: str = ""


LAST_RESORT = "/last-resort"
"""What follows the name of a group of uplinks in ``while``: only while its last resort is in use."""


class Choosing(StrEnum):
    """Which of the members of a group of uplinks that can serve is taken: all share the flows, the first, or the best."""

    SHARE = "share"
    FIRST = "first"
    BEST = "best"


@dataclass(frozen=True, repr=False)
class GroupOfUplinks(Shown):
    """Interfaces that serve as one way out.

    Attributes:
        name: as routes, candidates and rules say it.
        mark: where it is written.
        members: in their order; the last resort is none of them.
        choose: which of those that can serve is taken.
        by: what the best one is found by: latency, jitter or loss, as its probe measures it; empty for the other ways to choose.
        last_resort: an interface that is used only while no member can serve; empty for none.

    """

    name: str
    mark: Mark = field(compare=False)
    members: tuple[str, ...]
    choose: Choosing = Choosing.SHARE
    by: str = ""
    last_resort: str = ""


class Becomes(StrEnum):
    """What a source becomes."""

    INTERFACE = "interface"
    POOL = "pool"
    PAIR = "pair"
    EXEMPT = "exempt"


@dataclass(frozen=True, repr=False)
class Translate(Shown):
    """A translation rule: of a source as packets leave, or of a destination as they arrive (RFC 2663, RFC 3022).

    A rule has a family: that of the addresses that it names, IPv4 when it names none. It does not touch the other.

    Attributes:
        family: 4 or 6.
        of_source: it is asked as packets leave, about their sources. False for a rule that is asked as they arrive, about
            their destinations.
        becomes: what a source becomes: the leaving interface's address or one of a pool, with a port of its own (NAPT); the
            partner of a fixed pair, both ways; or it stays. None for a rule about destinations alone.
        outer: the addresses of the pool, or the partners.
        goes_to: for a destination rule, the address that packets go to instead; None for the device itself, or where it stays.
        servers: several addresses that they go to instead, by source.
        to_port: for a destination rule, the port that they go to instead; None keeps it.
        to_range: it is the first of a range, and the ports of the service move along with it.
        redirects: they go to the device itself.
        onward: of those, the device asks the same of whom they were meant for, in its own name.
        exempt: for a destination rule, they stay as they are.
        hours: names of windows of time, one of which must be open; None for any.
        arriving, leaving: the interfaces that packets must come or leave by; None for any.
        sources, destinations, services: whose packets, to where, of which services; None for all.
        lists: for a destination rule, the access lists that its packets meet once they are translated.
        switch: it is a switch of a rule of a list: the name of the list, and the rule's id; it is about what that rule let pass.
        disabled: kept, but passed over.

    """

    id: str
    mark: Mark = field(compare=False)
    family: int = 4
    of_source: bool = True
    becomes: Becomes | None = Becomes.INTERFACE
    outer: Spans = ()
    goes_to: Address | None = None
    servers: tuple[Address, ...] = ()
    redirects: bool = False
    onward: bool = False
    exempt: bool = False
    hours: tuple[str, ...] | None = None
    to_port: int | None = None
    to_range: bool = False
    arriving: tuple[str, ...] | None = None
    leaving: tuple[str, ...] | None = None
    sources: tuple[Term, ...] | None = None
    destinations: tuple[Term, ...] | None = None
    services: tuple[Service, ...] | None = None
    service_words: str = ""
    lists: tuple[str, ...] = ()
    switch: tuple[str, str] | None = None
    disabled: bool = False
    about: str = ""

    @property
    def goals(self) -> tuple[Address, ...]:
        """The addresses that a destination rule sends to; none for the device itself, or where it stays."""
        return self.servers or ((self.goes_to,) if self.goes_to is not None else ())


@dataclass(frozen=True, repr=False)
class Candidate(Shown):
    """One way that a policy route may take; exactly one kind is said.

    Attributes:
        next_hop: address of a router on a connected subnet.
        leaving: an interface whose route asks for the destination itself, or for ``next_hop`` where both are said.
        table: name of a route table of the device.
        discard: the packet is dropped silently.
        uplink: an interface, or a group of uplinks: the best route that leaves by it, whatever better one leaves by another.
        probe: it is to be had while this probe of the device is up; empty for always.

    """

    mark: Mark = field(compare=False)
    next_hop: Address | None = None
    leaving: str | None = None
    table: str | None = None
    discard: bool = False
    uplink: str | None = None
    probe: str = ""


class NoneAvailable(StrEnum):
    """What follows where no candidate of a policy route is to be had: the route table decides, the next entry is asked, or a drop."""

    TABLE = "table"
    NEXT = "next"
    DROP = "drop"


@dataclass(frozen=True, repr=False)
class PolicyRoute(Shown):
    """An entry of a device's policy routes: which packets, and the ways that they take, in order of preference.

    Attributes:
        rule: the conditions, as those of an access list's rule; its verdict is ``permit``.
        classifier: name of an access list that says which packets: a permit applies the entry, a deny goes on to the next.
        candidates: in order; the first that is available is taken.
        otherwise: what follows where none is.

    """

    id: str
    mark: Mark = field(compare=False)
    rule: Rule
    candidates: tuple[Candidate, ...]
    classifier: str | None = None
    otherwise: NoneAvailable = NoneAvailable.TABLE
    disabled: bool = False
    about: str = ""


@dataclass(frozen=True, repr=False)
class Serves(Shown):
    """A service that an end listens for.

    Attributes:
        service: protocol and ports that are listened to.
        words: as they were written, for the headline.
        mark: where they stand.

    """

    service: Service
    words: str
    mark: Mark = field(compare=False)


@dataclass(frozen=True, repr=False)
class FarHost(Shown):
    """One of the many hosts that stand for the Internet, reached through an ``internet`` device.

    Attributes:
        name: as a target of questions.
        addresses: of either family; the first of each is asked.
        serves: what it listens for.
        mark: where it is written.
        silent: says nothing where nothing listens, instead of refusing.
        off: it is off: it sends nothing, and answers nothing.

    """

    name: str
    addresses: tuple[Address, ...]
    serves: tuple[Serves, ...]
    mark: Mark = field(compare=False)
    silent: bool = False
    off: bool = False


@dataclass(frozen=True, repr=False)
class OspfProcess(Shown):
    """OSPF settings of a device (RFC 2328, RFC 3101 is not done).

    Attributes:
        areas: area number to ``normal``, ``stub`` or ``totally-stub``.
        redistribute: origin (connected, static, rip) to (external type 1 or 2, metric).
        originate_default: None, or (external type, metric, whether even without a default route of its own).

    """

    mark: Mark = field(compare=False)
    areas: Mapping[int, str]
    redistribute: Mapping[str, tuple[int, int]]
    originate_default: tuple[int, int, bool] | None = None
    preference: int = 110


@dataclass(frozen=True, repr=False)
class RipProcess(Shown):
    """RIP version 2 settings of a device (RFC 2453): origin to metric for what is redistributed.

    Attributes:
        mark: where it is written.
        redistribute: the metric in hops for routes of each origin.
        originate_default: whether it announces a default route.
        preference: of what it learns; lower wins.

    """

    mark: Mark = field(compare=False)
    redistribute: Mapping[str, int]
    originate_default: bool = False
    preference: int = 120


@dataclass(frozen=True, repr=False)
class LeasePool(Shown):
    """An address-lease service on one interface: range, gateway, resolvers.

    Attributes:
        interface: the one whose segment is served.
        first, last: the range that is given out, both included.
        gateway: what leases name as the default gateway.
        resolvers: what they name for look-ups.
        mark: where it is written.

    """

    interface: str
    first: Address
    last: Address
    gateway: Address | None
    resolvers: tuple[Address, ...]
    mark: Mark = field(compare=False)


@dataclass(frozen=True, repr=False)
class Probe(Shown):
    """A test that a device repeats by itself, so that what is bound to it is used only while it succeeds.

    Attributes:
        name: as routes, candidates and members of uplinks say it.
        target: the address that is asked; ``words`` as it was written.
        service: ``ping``, or protocol and port.
        by: the interface that its packets leave by, to the gateway of the routes there; None: as routes say.
        every, reply_within: how often it is asked, and how long an answer may take, in milliseconds.
        down_after, up_after: so many failures, or successes, in a row change its verdict.
        latency_ms, jitter_ms, loss_percent: the most that counts as success, for the way there and back; None for any.
        enabled: it is asked; else it counts as the setting ``switched-off-probe`` says.

    """

    name: str
    mark: Mark = field(compare=False)
    target: Address
    words: str
    service: str = "ping"
    by: str | None = None
    every: int = 5000
    reply_within: int = 1000
    down_after: int = 3
    up_after: int = 3
    latency_ms: float | None = None
    jitter_ms: float | None = None
    loss_percent: float | None = None
    enabled: bool = True
    about: str = ""


@dataclass(frozen=True, repr=False)
class Helper(Shown):
    """A device reads what conversations of a service tell of second channels, and lets those pass.

    Attributes:
        name: of the service.
        services: what its first channel is.
        expects: who tells, and what the second channel may be.

    """

    name: str
    services: tuple[Service, ...]
    expects: Expects
    mark: Mark = field(compare=False)

    def reads(self, protocol: int, port: int) -> bool:
        """Whether conversations to a port are of its service."""
        return any(s.covers(protocol, port) for s in self.services)

    def allows(self, protocol: int, port: int) -> bool:
        """Whether a second channel may be to a port."""
        return any(s.covers(protocol, port) for s in self.expects.over)


@dataclass(frozen=True, repr=False)
class Device(Shown):
    """A router, firewall, host, switch, or stand-in for the Internet.

    Attributes:
        stateful: protocols whose answers pass because of a session, wherever it is opened; interfaces may name more.
        settings: every setting in force.
        order: names of the stages of a packet that arrives, where the device has its own order; None for the built-in.
        policy_routes: entries asked before the route table.
        records: for a resolver, the names that it knows; None for a device that is none.
        resolvers: addresses of the resolvers that this device asks.
        groups: groups of uplinks by name.
        uplinks: the interfaces of each, with that of last resort at the end.
        member_hops: whom a member of a group hands to, by group and member.
        member_probes: the probe that a member of a group is used by, by group and member.
        probes: tests that it repeats by itself.
        ospf, rip: settings of the routing processes; each also runs where an interface speaks it.
        leases: address-lease services that it runs.
        gates: what filters there beside the lists of its interfaces.
        helpers: the services whose second channels it reads of.

    """

    name: str
    kind: Kind
    mark: Mark = field(compare=False)
    interfaces: Mapping[str, Interface]
    settings: Settings
    routes: tuple[StaticRoute, ...] = ()
    stateful: frozenset[int] = frozenset()
    stateful_mark: Mark | None = _mark(None)  # noqa: RUF009
    translate: tuple[Translate, ...] = ()
    serves: tuple[Serves, ...] = ()
    order: tuple[str, ...] | None = None
    order_mark: Mark | None = _mark(None)  # noqa: RUF009
    policy_routes: tuple[PolicyRoute, ...] = ()
    about: str = ""
    zone: str = ""
    far_hosts: Mapping[str, FarHost] = field(default_factory=dict)
    records: Mapping[str, tuple[Address, ...]] | None = None
    resolvers: tuple[Address, ...] = ()
    resolvers_mark: Mark | None = _mark(None)  # noqa: RUF009
    groups: Mapping[str, GroupOfUplinks] = field(default_factory=dict)
    member_hops: Mapping[tuple[str, str], tuple[Address, ...]] = field(default_factory=dict)
    member_probes: Mapping[tuple[str, str], str] = field(default_factory=dict)
    probes: Mapping[str, Probe] = field(default_factory=dict)
    ospf: OspfProcess | None = None
    rip: RipProcess | None = None
    leases: tuple[LeasePool, ...] = ()
    gates: Gates = field(default_factory=Gates)
    helpers: tuple[Helper, ...] = ()

    @cached_property
    def uplinks(self) -> Mapping[str, tuple[str, ...]]:
        """The interfaces of each group of uplinks, with that of last resort at the end."""
        return {name: (*g.members, *([g.last_resort] if g.last_resort else [])) for name, g in self.groups.items()}

    @property
    def layer3(self) -> bool:
        """False for a switch, which looks at no address."""
        return self.kind is not Kind.SWITCH

    def addresses_at(self, port: str) -> list[Address]:
        """The addresses of an interface; none where there is no such interface."""
        return [a.address for a in self.interfaces[port].addresses] if port in self.interfaces else []

    def own_addresses(self) -> list[tuple[Address, str]]:
        """Every address of this device, with the interface's name."""
        return [(a.address, i.name) for i in self.interfaces.values() for a in i.addresses]


@dataclass(frozen=True, repr=False)
class Link(Shown):
    """Properties of a segment that a packet feels: times in milliseconds, loss in per cent, MTU in bytes.

    Attributes:
        latency_ms: time to cross, in milliseconds.
        jitter_ms: how far that varies, in milliseconds.
        loss_percent: how many packets of a hundred do not arrive.
        mtu: the largest packet in bytes; 0 for what the ports allow.

    """

    latency_ms: float = 0.0
    jitter_ms: float = 0.0
    loss_percent: float = 0.0
    mtu: int | None = None


@dataclass(frozen=True, repr=False)
class Segment(Shown):
    """A cable, a radio cell or a bridged network: whoever is on it hears the others.

    Attributes:
        name: as rules and questions may say it.
        members: device and interface of everything plugged in.
        mark: where it is written.
        link: what a packet feels of it.
        about: what it is for.
        down: the cable is cut.

    """

    name: str
    members: tuple[tuple[str, str], ...]
    mark: Mark = field(compare=False)
    link: Link = Link()
    about: str = ""
    down: bool = False


@dataclass(frozen=True, repr=False)
class Network(Shown):
    """A whole network as written.

    Attributes:
        names: name records that need no resolver.
        local: what counts as ``local-networks``.
        hours: windows of time.
        applications: what flows may be of.
        down: the probes that are down, by device and name; None where nobody has worked that out, and then none counts as down.
        best: the member that is best by what its probe measures, as (device, group of uplinks, interface).

    """

    title: str
    mark: Mark = field(compare=False)
    devices: Mapping[str, Device]
    segments: Mapping[str, Segment]
    lists: Mapping[str, AccessList] = field(default_factory=dict)
    groups: Mapping[str, Group] = field(default_factory=dict)
    services: Mapping[str, ServiceGroup] = field(default_factory=dict)
    names: Mapping[str, tuple[Address, ...]] = field(default_factory=dict)
    local: Spans = ()
    about: str = ""
    hours: Mapping[str, Hours] = field(default_factory=dict)
    applications: Mapping[str, Application] = field(default_factory=dict)
    down: frozenset[tuple[str, str]] | None = None
    best: frozenset[tuple[str, str, str]] = frozenset()

    def best_of(self, device: str, group: str) -> str | None:
        """The member of a group of uplinks that is best by what its probe measures; None where that is not known."""
        return next((port for d, g, port in self.best if (d, g) == (device, group)), None)

    def probe_down(self, device: Device, name: str) -> bool:
        """Whether what is bound to a probe is not to be used: it is down, or switched off and counts as down."""
        probe = device.probes.get(name)
        if probe is not None and not probe.enabled:
            return device.settings.text("switched-off-probe") == "down"
        return self.down is not None and (device.name, name) in self.down

    def owner_of(self, address: Address) -> str | None:
        """The device, or far host, that has an address; None when nobody does."""
        return next(iter(self.owners().get(address, ())), None)

    def owners(self) -> dict[Address, tuple[str, ...]]:
        """Every address that somebody has, with the names of those who have it in order."""
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
