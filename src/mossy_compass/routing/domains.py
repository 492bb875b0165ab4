"""Broadcast domains: which layer-3 interfaces hear one another, through which segments and switches.

A domain is found by joining: a segment carries untagged frames and one lot for each VLAN tag (IEEE 802.1Q);
a switch, or a router with member ports, joins the lots that belong to one VLAN. Whatever is joined hears.
"""

from __future__ import annotations

import copy
from collections import defaultdict, deque
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from mossy_compass.headers.spans import complement, intersect, merge
from mossy_compass.marks import Mark
from mossy_compass.model.network import (
    Becomes,
    Device,
    Interface,
    Kind,
    Network,
    PortState,
    Segment,
    Translate,
    Tunnel,
    link_locals,
)
from mossy_compass.packet.address import FAMILIES, Address, InterfaceAddress, Span, Spans, in_spans

Port = tuple[str, str]
_Lot = tuple[str, str, int]


class Answer(NamedTuple):
    """Somebody who answers for an address on a segment.

    Attributes:
        device, interface: who.
        why: ``interface`` when it has the address, ``proxy`` when it answers for another, ``translated`` when it
            translates what is sent there.

    """

    device: str
    interface: str
    why: str


class Domain(NamedTuple):
    """One broadcast domain.

    Attributes:
        name: of its first segment, with the tag where it is tagged; where switches join segments, of the first
            switch, with the VLAN unless that is VLAN 1.
        members: layer-3 interfaces that are up.
        segments: names of the segments it spans.
        switches: names of the devices that bridge within it.

    """

    name: str
    members: tuple[Port, ...]
    segments: tuple[str, ...]
    switches: tuple[str, ...]
    owners: Mapping[Address, tuple[Answer, ...]]
    proxies: tuple[Port, ...]


class LinkState(NamedTuple):
    """Whether an interface is up, and if not, why.

    Attributes:
        up: packets pass.
        why: the reason when they do not; empty when they do.
        mark: where that is written: at the port, at the far end, or at the segment; None where nobody wrote it.

    """

    up: bool
    why: str
    mark: Mark | None = None


class Crossed(NamedTuple):
    """What lies between two interfaces of a domain.

    Attributes:
        segments: the cables, in order.
        switches: the devices that bridge between them, in order.

    """

    segments: tuple[Segment, ...]
    switches: tuple[str, ...]


class Domains:
    """All broadcast domains of a network."""

    def __init__(self, network: Network) -> None:
        self.network = network
        self._segment_of: dict[Port, Segment] = {m: s for s in network.segments.values() for m in s.members}
        self._parent: dict[_Lot, _Lot] = {}
        self._joints: dict[_Lot, list[_Lot]] = defaultdict(list)
        self._links: dict[Port, LinkState] = {}
        self._answered: dict[tuple[tuple[Port, ...], str], dict[Port, Spans]] = {}
        self._joined_in: dict[_Lot, dict[_Lot, list[_Lot]]] | None = None
        self._join()
        self._of: dict[Port, Domain] = {}
        self.domains: tuple[Domain, ...] = tuple(self._collect())

    def in_weather_of(self, network: Network) -> Domains:
        """The same domains, asked about a network that differs in its weather alone, and of which no tunnel waits for that.

        Args:
            network: the same network with other probes down, or other choices among uplinks.

        """
        made = copy.copy(self)
        made.network = network
        return made

    def of(self, device: str, interface: str) -> Domain | None:
        """The domain that an interface is in; None when it is down or a loopback."""
        return self._of.get((device, interface))

    def segment_of(self, device: str, interface: str) -> Segment | None:
        """The segment that a port's cable belongs to."""
        return self._segment_of.get((device, interface))

    def same_around(self, other: Domains, device: Device) -> bool:
        """Whether a device sees the same of its own segments as in other domains: its links, who hears it, and the cables between.

        Args:
            other: of the same device, in another version of the network.
            device: who sees.

        """
        return all(self._same_at(other, device, port) for port in device.interfaces.values())

    def _same_at(self, other: Domains, device: Device, port: Interface) -> bool:
        """The same of one interface."""
        here = (device.name, port.name)
        if self.link(*here) != other.link(*here):
            return False
        domain = self._of.get(here)
        if domain != other._of.get(here):
            return False
        if domain is None:
            return True
        ours, theirs = self.network, other.network
        return (
            all(ours.segments[n] is theirs.segments[n] for n in domain.segments)
            and all(ours.devices[n] is theirs.devices[n] for n, _ in domain.proxies)
            and self._cables(device, port) == other._cables(device, port)
        )

    def _cables(self, device: Device, port: Interface) -> dict[_Lot, list[_Lot]]:
        """What is joined to what in the domain of an interface: frames may take another way between the same members."""
        lot = self._lot(device, port)
        if self._joined_in is None:
            self._joined_in = {}
            for one, others in self._joints.items():
                self._joined_in.setdefault(self._find(one), {})[one] = sorted(others)
        return self._joined_in.get(self._find(lot), {}) if lot is not None else {}

    def between(self, one: Port, other: Port) -> Crossed:
        """The cables that a frame crosses from one interface of a domain to another, and the switches between them.

        Of several ways the one over the fewest cables, by name among equal ones: there is no spanning tree here (IEEE 802.1Q
        clause 13), and a frame takes one way.
        """
        start, end = (self._lot(self.network.devices[n], self.network.devices[n].interfaces[p]) for n, p in (one, other))
        came: dict[_Lot, _Lot | None] = {start: None} if start is not None else {}
        queue = deque(came)
        while queue and end not in came:
            here = queue.popleft()
            for following in sorted(self._joints.get(here, ())):
                if following not in came:
                    came[following] = here
                    queue.append(following)
        way: list[_Lot] = []
        at = end if end in came else None
        while at is not None:
            way.append(at)
            at = came[at]
        way.reverse()
        segments = tuple(self.network.segments[name] for kind, name, _ in way if kind == "s")
        ends = {one[0], other[0]}  # of a router with member ports its own are no switch between
        return Crossed(segments, tuple(name for kind, name, _ in way if kind == "v" and name not in ends))

    def answers(self, domain: Domain, address: Address) -> tuple[Answer, ...]:
        """Who answers for ``address`` in ``domain`` (ARP, RFC 826; neighbour discovery, RFC 4861)."""
        found = domain.owners.get(address, ())
        for name, port in domain.proxies:
            if in_spans(address.key, self.network.devices[name].interfaces[port].answers_for):
                found = (*found, Answer(name, port, "proxy"))
            elif self._translates(name, port, address) and not any(a.device == name for a in found):
                found = (*found, Answer(name, port, "translated"))
        return found

    def answered(self, domain: Domain, asking: str, by: Port | None = None) -> Spans:
        """The addresses that somebody else answers for, on one line for both families.

        Args:
            domain: where they are asked for.
            asking: the device that asks; what it answers for itself does not count.
            by: only those for which this interface is the first to answer.

        """
        key = (domain.members, asking)
        if key not in self._answered:
            self._answered[key] = self._answered_by(domain, asking)
        found = self._answered[key]
        return merge(s for spans in found.values() for s in spans) if by is None else found.get(by, ())

    def _answered_by(self, domain: Domain, asking: str) -> dict[Port, Spans]:
        """For each interface the addresses for which it is the first to answer, in the order of ``answers``."""
        owned: dict[Port, list[Span]] = {}
        for address, answers in domain.owners.items():
            first = next((a for a in answers if a.device != asking), None)
            if first is not None:
                owned.setdefault((first.device, first.interface), []).append(Span(address.key, address.key))
        found = {port: merge(spans) for port, spans in owned.items()}
        taken = merge(s for spans in found.values() for s in spans)
        for name, port in domain.proxies:
            if name != asking:
                mine = intersect(self._stands_for(name, port), complement(taken))
                found[name, port] = merge((*found.get((name, port), ()), *mine))
                taken = merge((*taken, *mine))
        return found

    def _stands_for(self, name: str, port: str) -> Spans:
        """What an interface answers for beside its own addresses: as written, or since it translates what comes for it."""
        device = self.network.devices[name]
        interface = device.interfaces[port]
        subnets = merge(a.prefix.span for a in interface.addresses)
        sent_on = merge(s for r in device.translate for s in _claimed(r, device, interface))
        return merge((*interface.answers_for, *intersect(sent_on, subnets)))

    def _translates(self, name: str, port: str, address: Address) -> bool:
        """True when a device sends what comes by an interface for this address elsewhere, and it is on the subnet there.

        RFC 1027 has the idea: the neighbours believe that the address is on their segment, so somebody must answer.
        """
        device = self.network.devices[name]
        interface = device.interfaces[port]
        if not any(a.prefix.holds(address) for a in interface.addresses):
            return False
        return any(in_spans(address.key, _claimed(rule, device, interface)) for rule in device.translate)

    def link(self, device: str, interface: str) -> LinkState:
        """Whether an interface is up: its own port, its cable, and what is at the other end."""
        port = (device, interface)
        if port not in self._links:
            self._links[port] = self._link(self.network.devices[device], self.network.devices[device].interfaces[interface])
        return self._links[port]

    def _link(self, device: Device, interface: Interface) -> LinkState:
        """The first set of a cable's end: an interface with the VLAN that its untagged packets belong to."""
        if interface.state is PortState.DISABLED:
            return LinkState(False, "it is disabled", interface.mark)
        if interface.loopback:
            return LinkState(True, "a loopback is always up")
        if interface.state is not PortState.UP:
            return LinkState(
                False, "it is not connected" if interface.state is PortState.UNPLUGGED else "the far end is down", interface.mark
            )
        if interface.tunnel is not None:
            probe = interface.tunnel.probe
            down = bool(probe) and self.network.probe_down(device, probe)
            return LinkState(not down, f"probe {probe} is down" if down else "a tunnel is up by configuration")
        if interface.parent:
            parent = self.link(device.name, interface.parent)
            return parent if parent.up else LinkState(False, f"its port {interface.parent} is down: {parent.why}", parent.mark)
        if interface.vlan is not None:
            return self._vlan_link(device, interface.vlan)
        return self._cable_link(device, interface)

    def _vlan_link(self, device: Device, vlan: int) -> LinkState:
        """A VLAN's interface is up while one of the VLAN's ports is."""
        members = [p for p in device.interfaces.values() if p.access_vlan == vlan or vlan in p.trunk_vlans]
        if any(self.link(device.name, p.name).up for p in members):
            return LinkState(True, f"a member port of VLAN {vlan} is up")
        return LinkState(False, f"no member port of VLAN {vlan} is up" if members else f"VLAN {vlan} has no member port")

    def _cable_link(self, device: Device, interface: Interface) -> LinkState:
        """A port is up where its cable is whole and, with one other end, that end is not shut."""
        segment = self._segment_of.get((device.name, interface.name))
        if segment is None:
            return LinkState(False, "it is on no segment")
        if segment.down:
            return LinkState(False, f"segment {segment.name} is cut", segment.mark)
        if len(segment.members) == 2:
            far = next(m for m in segment.members if m != (device.name, interface.name))
            other = self.network.devices[far[0]].interfaces[far[1]]
            if other.state in (PortState.DISABLED, PortState.UNPLUGGED):
                return LinkState(False, f"the far end {far[0]}/{far[1]} is {other.state.value}", other.mark)
        return LinkState(True, "")

    def _find(self, lot: _Lot) -> _Lot:
        """The representative of a set, with the way to it shortened (union and find)."""
        parent = self._parent.setdefault(lot, lot)
        while parent != lot:
            grand = self._parent[parent]
            self._parent[lot] = grand
            lot, parent = parent, grand
        return lot

    def _union(self, a: _Lot, b: _Lot) -> None:
        """Make two sets one: what is heard in one is heard in the other."""
        first, second = sorted((self._find(a), self._find(b)))
        self._parent[second] = first

    def _join(self) -> None:
        """Join over cables and through switches whatever hears each other."""
        for segment in self.network.segments.values():
            for name, port in segment.members:
                device = self.network.devices[name]
                interface = device.interfaces[port]
                if not self.link(name, port).up:
                    continue
                untagged = interface.access_vlan
                if untagged is None and device.kind is Kind.SWITCH and not interface.trunk_vlans:
                    untagged = 1
                if untagged is not None:
                    self._joined(("s", segment.name, 0), ("v", name, untagged))
                for tag in interface.trunk_vlans:
                    self._joined(("s", segment.name, tag), ("v", name, tag))

    def _joined(self, cable: _Lot, bridge: _Lot) -> None:
        """A port of a bridging device is on a cable: what is heard on one is heard on the other."""
        self._union(cable, bridge)
        self._joints[cable].append(bridge)
        self._joints[bridge].append(cable)

    def _lot(self, device: Device, interface: Interface) -> _Lot | None:
        """The set that an interface of a device belongs to."""
        if interface.loopback or interface.access_vlan is not None or interface.trunk_vlans:
            return None
        if interface.tunnel is not None:
            return _of_tunnel(device, interface.tunnel)
        if interface.parent:
            segment = self._segment_of.get((device.name, interface.parent))
            return ("s", segment.name, interface.vlan or 0) if segment else None
        if interface.vlan is not None:
            return ("v", device.name, interface.vlan)
        segment = self._segment_of.get((device.name, interface.name))
        return ("s", segment.name, 0) if segment else None

    def _collect(self) -> list[Domain]:
        """One domain for each lot that was joined, with the interfaces in it."""
        ports: dict[_Lot, list[Port]] = defaultdict(list)
        for device in self.network.devices.values():
            for interface in device.interfaces.values() if device.layer3 else ():
                lot = self._lot(device, interface)
                if lot is not None and self.link(device.name, interface.name).up:
                    ports[self._find(lot)].append((device.name, interface.name))
        lots: dict[_Lot, list[_Lot]] = defaultdict(list)
        for lot in sorted({*self._parent, *ports}):
            lots[self._find(lot)].append(lot)
        out = []
        for root in sorted(ports):
            domain = self._domain(lots[root], tuple(sorted(ports[root])))
            self._of |= dict.fromkeys(domain.members, domain)
            out.append(domain)
        return out

    def _domain(self, lots: list[_Lot], members: tuple[Port, ...]) -> Domain:
        """A broadcast domain with its name, from the segments that it is made of."""
        segments = tuple(sorted({n for kind, n, _ in lots if kind == "s"}))
        within = [n for kind, n, _ in lots if kind == "t"]
        switches = tuple(sorted({n for kind, n, _ in lots if kind == "v"}))
        owners: dict[Address, tuple[Answer, ...]] = {}
        proxies = []
        for name, port in members:
            device = self.network.devices[name]
            interface = device.interfaces[port]
            own = dict.fromkeys([*(a.address for a in interface.addresses), *link_locals(name, interface)])
            for address in own:
                owners[address] = (*owners.get(address, ()), Answer(name, port, "interface"))
            if interface.answers_for or any(_claimed(t, device, interface) for t in device.translate):
                proxies.append((name, port))
        name = f"tunnel {members[0][1]}" if within else _domain_name(lots, segments, switches)
        return Domain(name, members, segments, switches, owners, tuple(proxies))


def holders(network: Network, domain: Domain) -> Iterator[tuple[Port, Interface, InterfaceAddress]]:
    """Who has each address within a domain; addresses of the link alone left out."""
    for name, port in domain.members:
        interface = network.devices[name].interfaces[port]
        for entry in interface.addresses:
            if not (entry.address.family == 6 and entry.address.is_link_local):
                yield (name, port), interface, entry


def _of_tunnel(device: Device, tunnel: Tunnel) -> _Lot | None:
    """What both ends of a tunnel say alike: two that fit hear each other, whatever becomes of the packets that carry them."""
    below = device.interfaces.get(tunnel.by)
    own = next((a.address for a in below.addresses if a.address.family == tunnel.to.family), None) if below is not None else None
    if own is None:
        return None
    one, other = sorted((own.key, tunnel.to.key))
    return ("t", f"{tunnel.kind} {one} {other}", 0)


def _domain_name(lots: list[_Lot], segments: tuple[str, ...], switches: tuple[str, ...]) -> str:
    """After its first switch, with the VLAN unless that is VLAN 1; else after its first segment, with the tag if it is tagged."""
    if switches:
        vlan = min(t for kind, n, t in lots if kind == "v" and n == switches[0])
        return switches[0] if vlan == 1 else f"{switches[0]} vlan {vlan}"
    tags = sorted({t for kind, _, t in lots if kind == "s" and t})
    untagged = any(kind == "s" and t == 0 for kind, _, t in lots)
    return segments[0] if untagged or not tags else f"{segments[0]} vlan {tags[0]}"


def _claimed(rule: Translate, device: Device, interface: Interface) -> Spans:
    """The addresses that a rule in force makes its device answer for on an interface; ``any`` claims nothing.

    They are those that it sends on, and those that sources become: answers to these must get back to the device.
    """
    if rule.disabled or rule.exempt or rule.becomes is Becomes.EXEMPT or not device.settings.answers_translated:
        return ()
    found: list[Span] = []
    if not rule.of_source and _arrives(device, interface, rule.arriving):
        found += (s for t in rule.destinations or () if t.words != "any" for s in t.spans or ())
    if not rule.of_source or _arrives(device, interface, rule.leaving):
        found += rule.outer
    return intersect(merge(found), (FAMILIES[rule.family],)) if found else ()


def _arrives(device: Device, interface: Interface, named: tuple[str, ...] | None) -> bool:
    """True when an interface is meant: by its name, its zone, a group of uplinks, or by nothing."""
    if named is None or {interface.name, interface.zone} & set(named):
        return True
    return any(interface.name in device.uplinks.get(name, ()) for name in named)
