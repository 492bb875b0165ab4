"""One device of a plan: its tables, as they are made when somebody first asks, and what all its stages need to know of it.

It knows no stage. What turns it into steps and tables is handed to it, so that stages can know it without a circle.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Mapping
from typing import Any, NamedTuple, Protocol, TypeVar

from mossy_compass.headers.spans import merge
from mossy_compass.marks import Mark
from mossy_compass.model.network import AccessList, Device, FarHost, Interface, Network, Serves, link_locals, name_hash
from mossy_compass.model.outside import outside_of
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import Address, InterfaceAddress, Span, Spans, in_spans
from mossy_compass.packet.service import BUILT_IN_SERVICES, WITH_PORTS
from mossy_compass.plan.actions import Half
from mossy_compass.plan.conditions import Reader
from mossy_compass.plan.ids import TableId, TableKind
from mossy_compass.plan.keeping import keeping_of
from mossy_compass.plan.order import orders
from mossy_compass.plan.room import Room
from mossy_compass.plan.stages.step import Run, Step, as_run
from mossy_compass.plan.table import Table
from mossy_compass.routing.compute import Routing
from mossy_compass.routing.domains import Domains
from mossy_compass.routing.table import NextHop, RouteTable

T = TypeVar("T")


class Own(NamedTuple):
    """An address of the device itself: on which interface, or of which far host.

    Attributes:
        interface: the one that has the address.
        far: the far host that it stands for; None for the device's own.

    """

    interface: str
    far: FarHost | None = None


def _global(port: Interface, family: int) -> list[InterfaceAddress]:
    """The addresses of an interface that may speak beyond its segment: all of IPv4, and of IPv6 what is not link-local."""
    return [a for a in port.addresses if a.address.family == family and (family == 4 or not a.address.is_link_local)]


class Surroundings(Protocol):
    """What a device's plan asks of the plan of the whole network."""

    network: Network
    routing: Routing
    domains: Domains

    def read(self, source: AccessList, device: str, reader: Reader) -> Table:
        """A list as a device reads it."""
        ...

    def resolved_by(self, device: Device) -> Mapping[str, Spans]:
        """What names stand for as a device's resolver says."""
        ...

    def names_at(self, address: Address) -> tuple[str, ...]:
        """The names that an address has anywhere."""
        ...

    def owner(self, address: Address) -> str | None:
        """Who has an address."""
        ...


class Makers(NamedTuple):
    """What turns a device into steps and tables.

    Attributes:
        steps: takes the device and an interface (None: for what it makes itself) and gives its steps.
        translations: takes the device and a half and gives the rules about that.
        tables: takes the device and gives every table with rows to tell of.

    """

    steps: Callable[[DevicePlan, str | None], tuple[Step, ...]]
    translations: Callable[[DevicePlan, Half], Table]
    tables: Callable[[DevicePlan], Iterator[Table]]


class DevicePlan:
    """What one device knows, and does.

    Attributes:
        device, settings: as written; ``kind`` is the word of its kind.
        through, origin: stages of a packet that arrives, and of one made here.
        own: its addresses, with those of the far hosts that it stands for; ``own_spans`` has them as a set.
        reader: how it reads rules.
        keeping: how it keeps sessions and mappings.
        tracked: protocols whose sessions let answers pass over the filters, somewhere at the device.
        tracked_at: those that an interface names, by the direction in which the opening packet passes it, and its name.
        domains: who hears whom.
        outside: interfaces that face what is not one's own.
        stays: where an executor keeps what packets did here; None where nobody will ask again.

    """

    __slots__ = (
        "_lists",
        "_makers",
        "_network",
        "_once",
        "_plan",
        "_runs",
        "_steps",
        "_table",
        "_translations",
        "device",
        "domains",
        "keeping",
        "kind",
        "local",
        "name",
        "names_at",
        "origin",
        "outside",
        "own",
        "own_spans",
        "reader",
        "salt",
        "settings",
        "stays",
        "through",
        "tracked",
        "tracked_at",
    )

    def __init__(self, plan: Surroundings, device: Device, makers: Makers, stays: Room | None = None) -> None:
        self._plan = plan
        self.stays = stays
        self._makers = makers
        self._network = plan.network
        self.domains = plan.domains
        self.device = device
        self.name = device.name
        self.kind = device.kind.value
        self.settings = device.settings
        self.through, self.origin = orders(device.kind, device.order)
        self.own: dict[Address, Own] = {a: Own(i) for a, i in device.own_addresses() if self.domains.link(device.name, i).up}
        for interface in device.interfaces.values():
            if self.domains.link(device.name, interface.name).up:
                self.own |= {a: Own(interface.name) for a in link_locals(device.name, interface) if a not in self.own}
        for far in device.far_hosts.values():
            for address in far.addresses:
                self.own.setdefault(address, Own("", far))
        self.own_spans = merge(Span(a.key, a.key) for a in self.own)
        names = None if device.settings.learns_names else plan.resolved_by(device)
        self.reader = Reader(self.own_spans, port_names(device), names, device.name, resort_of(device))
        self.local = plan.network.local
        self.outside = frozenset(outside_of(plan.network, device).ports)
        self._once: dict[Hashable, Any] = {}
        self.names_at = plan.names_at
        sides = [(p.name, p.inspects) for p in device.interfaces.values() if p.inspects is not None]
        self.tracked_at: dict[tuple[str, str | None], frozenset[int]] = {
            (way, n): getattr(i, way) for n, i in sides for way in ("arriving", "leaving") if getattr(i, way)
        }
        self.tracked = device.stateful.union(*self.tracked_at.values())
        self.keeping = keeping_of(device.settings)
        self.salt = name_hash(device.name)
        self._lists: dict[str, Table] = {}
        self._translations: dict[Half, Table] | None = None
        self._runs: dict[str | None, tuple[Run, ...]] = {}
        self._steps: dict[str | None, tuple[Step, ...]] = {}
        self._table: RouteTable | None = None

    def steps(self, arriving: str | None) -> tuple[Step, ...]:
        """The stages for packets that come by an interface (None: made here), compiled when the first one comes."""
        found = self._steps.get(arriving)
        if found is None:
            found = self._steps[arriving] = self._makers.steps(self, arriving)
        return found

    def once(self, key: Hashable, make: Callable[[], T]) -> T:
        """What is the same for several interfaces, made when the first one asks: their steps are equal then, and share its index.

        Args:
            key: what it depends on beside the device.
            make: makes it.

        """
        if key not in self._once:
            self._once[key] = make()
        found: T = self._once[key]
        return found

    def runs(self, arriving: str | None) -> tuple[Run, ...]:
        """The same as what an executor calls."""
        found = self._runs.get(arriving)
        if found is None:
            found = self._runs[arriving] = as_run(self.steps(arriving))
        return found

    @property
    def table(self) -> RouteTable:
        """The main route table."""
        if self._table is None:
            self._table = self._plan.routing.table(self.name)
        return self._table

    def table_named(self, name: str) -> RouteTable:
        """A route table by its name."""
        return self.table if name == "main" else self._plan.routing.table(self.name, name)

    def read_list(self, name: str) -> Table:
        """A list as this device reads it."""
        if name not in self._lists:
            self._lists[name] = self._plan.read(self._network.lists[name], self.name, self.reader)
        return self._lists[name]

    def has_list(self, name: str) -> bool:
        """Whether there is a list of a name; one that is misspelt was told when the file was read."""
        return name in self._network.lists

    @property
    def translations(self) -> dict[Half, Table]:
        """The translation rules, of sources and of destinations."""
        if self._translations is None:
            self._translations = {half: self._makers.translations(self, half) for half in Half}
        return self._translations

    def tables(self) -> Mapping[TableId, Table]:
        """Every table whose rows somebody wrote, or that the device brings along: lists where they stand, translations,
        policy routes, offers, built-in rules. Counters, views and findings go through these.
        """
        return self.once("tables", lambda: {t.id: t for t in self._makers.tables(self)})

    def rows_of(self, id: TableId) -> Table | None:
        """The table that a ruling cites by its id; None for one that has no rows to tell of."""
        if id.as_of:
            return self._once.get(("rows", id))
        if id.kind is TableKind.LIST and id.name in self._network.lists:
            return self.read_list(id.name)
        return self.tables().get(id)

    def inspected(self, arriving: str | None, leaving: str | None) -> frozenset[int]:
        """The protocols whose sessions let answers pass, where their opening packet came and went by these interfaces.

        Args:
            arriving: None for a packet that the device made.
            leaving: None for one that is for the device itself.

        """
        found = self.device.stateful
        if self.tracked_at:
            found = found.union(*(self.tracked_at.get(key, ()) for key in (("arriving", arriving), ("leaving", leaving))))
        return found

    def inspection_mark(self, arriving: str | None) -> Mark | None:
        """Where the inspection of what arrives by an interface is written; None for what is so by default."""
        inspects = self.device.interfaces[arriving].inspects if arriving is not None else None
        return self.device.stateful_mark or (inspects.mark if inspects is not None else None)

    def serves(self, far: FarHost | None) -> tuple[Serves, ...]:
        """What listens on its addresses, or at a far host; a resolver listens for lookups (RFC 1035 section 4.2)."""
        if far:
            return far.serves
        offered = tuple(Serves(s, o.word, o.mark) for o in self.device.gates.offers for s in o.services)
        if self.device.records is not None:
            return (*self.device.serves, *offered, *(Serves(s, "domain", self.device.mark) for s in BUILT_IN_SERVICES["domain"]))
        return (*self.device.serves, *offered)

    def reserved(self, protocol: int, address: Address) -> frozenset[int]:
        """The ports of an own address that no mapping may have: forwarded ones, and those that the device listens on.

        Args:
            protocol: number.
            address: the outer address.

        """
        return self.once(("reserved", protocol, address), lambda: frozenset(self._reserved(protocol, address)))

    def _reserved(self, protocol: int, address: Address) -> Iterator[int]:
        """The same, one by one; a rule that forwards every port reserves none, for answers are known before it is asked."""
        listens = [s.service for s in self.serves(None)] if address in self.own else []
        rules = (t for t in self.device.translate if not t.of_source and not t.disabled)
        forwarded = (s for t in rules if _names(t.destinations, address, self.own_spans) for s in t.services or ())
        for service in (*listens, *forwarded):
            if service.protocol == protocol and service.ports is not None:
                yield from range(service.ports.first, service.ports.last + 1)

    @property
    def ports_in_use(self) -> Spans:
        """Every port that no mapping may have at some address and protocol: forwarded ones, and those that the device listens on."""
        return self.once("ports in use", lambda: merge(self._in_use()))

    def _in_use(self) -> Iterator[Span]:
        """The same, one by one."""
        rules = (t for t in self.device.translate if not t.of_source and not t.disabled)
        for service in (*(s.service for s in self.serves(None)), *(s for t in rules for s in t.services or ())):
            if service.protocol in WITH_PORTS and service.ports is not None:
                yield Span(*service.ports)

    def source_for(self, interface: str, family: int, towards: Address | None = None) -> Address | None:
        """The address that the device gives its own packets when they leave by ``interface``.

        RFC 6724 section 5 puts scope before everything: to a link-local address from a link-local one, and never from
        one to anything else (rule 2); then the same subnet, which stands for the longest common prefix (rule 8).

        Args:
            interface: the one that packets leave by.
            family: 4 or 6.
            towards: the destination, where that is known; it decides the scope.

        """
        port = self.device.interfaces[interface]
        if towards is not None and towards.family == 6 and towards.is_link_local:
            return next(iter(link_locals(self.name, port)), None)
        found = _global(port, family)
        if towards is not None:
            found.sort(key=lambda a: not a.prefix.holds(towards))  # the sort is stable: what is written first stays first
        if found:
            return found[0].address
        return next((a for a, own in self.own.items() if a.family == family and not own.far and not a.is_link_local), None)

    def address_on(self, interface: str, family: int) -> Address | None:
        """The first global address that an interface has of a family; None where it has none."""
        port = self.device.interfaces.get(interface)
        return next((a.address for a in _global(port, family)), None) if port is not None else None

    def address_of(self, neighbour: tuple[str, str], port: str, family: int) -> Address | None:
        """The address of a neighbour on a segment of this device; None where it has none there.

        Args:
            neighbour: the device, and its interface on the segment.
            port: this device's own interface there.
            family: 4 or 6.

        """
        device = self._network.devices.get(neighbour[0])
        interface = device.interfaces.get(neighbour[1]) if device is not None else None
        if interface is None:
            return None
        prefixes = [a.prefix for a in self.device.interfaces[port].addresses]
        held = (a.address for a in interface.addresses if a.address.family == family)
        on_segment = next((a for a in held if any(p.holds(a) for p in prefixes)), None)
        return on_segment or (next(iter(link_locals(neighbour[0], interface)), None) if family == 6 else None)

    def owner(self, address: Address) -> str | None:
        """Who has an address; of several the first by name."""
        return self._plan.owner(address)

    def is_outside(self, port: str) -> bool:
        """True where a device faces what is not its own: as the file says, or for a firewall as its addresses suggest.

        Where no interface of a firewall says so, ``model/outside.py`` says which are taken to be outside.
        """
        return port in self.outside

    def down_port(self, hop: NextHop) -> str | None:
        """The interface that a way out needs, when that is down."""
        for interface in self.device.interfaces.values():
            named = interface.name == hop.interface
            behind = hop.address is not None and any(a.prefix.holds(hop.address) for a in interface.addresses)
            if (named or behind) and not self.domains.link(self.name, interface.name).up:
                return interface.name
        return None


def _names(terms: tuple[Term, ...] | None, address: Address, own: Spans) -> bool:
    """Whether a condition on destinations means an address; ``self`` stands for a device's own ones."""
    return terms is not None and any(in_spans(address.key, own if t.spans is None else t.spans) for t in terms)


def resort_of(device: Device) -> str:
    """Whose last resort a rule means that names no group: the one that the device has."""
    return next((f"{device.name}/{g.name}" for g in device.groups.values() if g.last_resort), "*")


def port_names(device: Device) -> dict[str, tuple[str, ...]]:
    """What a name in ``arriving`` or ``leaving`` stands for: an interface, a group of uplinks, or the interfaces of a zone."""
    out: dict[str, tuple[str, ...]] = {}
    for interface in device.interfaces.values():
        if interface.zone:
            out[interface.zone] = (*out.get(interface.zone, ()), interface.name)
    out |= dict(device.uplinks)
    return out | {name: (name,) for name in device.interfaces}
