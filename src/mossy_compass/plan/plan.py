"""A network compiled once: per device the tables that its stages consult, and the steps that an executor runs.

Devices are compiled when they are first asked for: a question about one path through a
thousand routers should not pay for the others. What was compiled is kept, and nothing of it
changes afterwards; what changes while packets pass is in ``state/``.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Mapping
from typing import Any, NamedTuple, TypeVar

from mossy_compass.errors import InputError, QuestionError
from mossy_compass.headers.spans import merge
from mossy_compass.marks import unknown
from mossy_compass.model.check import attached, classifying
from mossy_compass.model.network import AccessList, Device, FarHost, Interface, Network, Serves, link_locals, name_hash
from mossy_compass.model.outside import outside_of
from mossy_compass.packet.address import Address, InterfaceAddress, Span, Spans
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import BUILT_IN_SERVICES
from mossy_compass.plan.actions import Decide, Half
from mossy_compass.plan.compile import steps
from mossy_compass.plan.conditions import Miss, Reader
from mossy_compass.plan.facts import Asked, Facts, facts_of
from mossy_compass.plan.ids import TableId, TableKind
from mossy_compass.plan.order import Stage, orders
from mossy_compass.plan.places import written_tables
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.step import Step
from mossy_compass.plan.stages.translate import rules_table
from mossy_compass.plan.table import Table, list_table
from mossy_compass.routing.compute import Routing
from mossy_compass.routing.table import Hop, Loser, RouteTable
from mossy_compass.voice import voice

T = TypeVar("T")


class Own(NamedTuple):
    """An address of the device itself: on which interface, or of which far host.

    Attributes:
        interface: the one that has the address.
        far: the far host that it stands for; None for the device's own.

    """

    interface: str
    far: FarHost | None = None


class PassedOver(NamedTuple):
    """A row that was examined and not met.

    Attributes:
        row: with its id, verdict, mark and conditions.
        miss: the first condition that the packet does not meet.
        packet: as the table saw it.

    """

    row: Row
    miss: Miss
    packet: Packet

    @property
    def id(self) -> str:
        """The row's id."""
        return self.row.id

    @property
    def verdict(self) -> str:
        """What the row would have done: permit, deny, reject or note."""
        return self.row.verdict.value if self.row.verdict else "permit"

    @property
    def words(self) -> str:
        """What the condition wants, and what the packet has."""
        return str(voice().miss_words(self.miss, self.packet)[1])


def _global(port: Interface, family: int) -> list[InterfaceAddress]:
    """The addresses of an interface that may speak beyond its segment: all of IPv4, and of IPv6 what is not link-local."""
    return [a for a in port.addresses if a.address.family == family and (family == 4 or not a.address.is_link_local)]


class DevicePlan:
    """What one device knows, and does.

    Attributes:
        device, settings: as written; ``kind`` is the word of its kind.
        through, origin: stages of a packet that arrives, and of one made here.
        own: its addresses, with those of the far hosts that it stands for; ``own_spans`` has them as a set.
        reader: how it reads rules.
        tracked: protocols whose sessions let answers pass over the filters.
        domains: who hears whom.
        outside: interfaces that face what is not one's own.

    """

    __slots__ = (
        "_lists",
        "_network",
        "_once",
        "_plan",
        "_runs",
        "_steps",
        "_table",
        "_translations",
        "device",
        "domains",
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
        "through",
        "tracked",
    )

    def __init__(self, plan: Plan, device: Device) -> None:
        self._plan = plan
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
        self.reader = Reader(self.own_spans, port_names(device), names)
        self.local = plan.network.local
        self.outside = frozenset(outside_of(plan.network, device).ports)
        self._once: dict[Hashable, Any] = {}
        self.names_at = plan.names_at
        self.tracked = device.stateful
        self.salt = name_hash(device.name)
        self._lists: dict[str, Table] = {}
        self._translations: dict[Half, Table] | None = None
        self._runs: dict[str | None, tuple[tuple[Stage, Callable[[Facts], bool] | None, Decide], ...]] = {}
        self._steps: dict[str | None, tuple[Step, ...]] = {}
        self._table: RouteTable | None = None

    def steps(self, arriving: str | None) -> tuple[Step, ...]:
        """The stages for packets that come by an interface (None: made here), compiled when the first one comes."""
        found = self._steps.get(arriving)
        if found is None:
            found = self._steps[arriving] = steps(self, arriving)
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

    def runs(self, arriving: str | None) -> tuple[tuple[Stage, Callable[[Facts], bool] | None, Decide], ...]:
        """The same as what an executor calls: the stage, whether a packet is one that it is about, and what it decides."""
        found = self._runs.get(arriving)
        if found is None:
            found = self._runs[arriving] = tuple((s.stage, s.about, s.decide) for s in self.steps(arriving))
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
            self._translations = {half: rules_table(self, half) for half in Half}
        return self._translations

    def tables(self) -> Mapping[TableId, Table]:
        """Every table whose rows somebody wrote, or that the device brings along: lists where they stand, translations,
        policy routes, offers, built-in rules. Counters, views and findings go through these.
        """
        return self.once("tables", lambda: {t.id: t for t in written_tables(self)})

    def rows_of(self, id: TableId) -> Table | None:
        """The table that a ruling cites by its id; None for one that has no rows to tell of."""
        if id.kind is TableKind.LIST and id.name in self._network.lists:
            return self.read_list(id.name)
        return self.tables().get(id)

    def serves(self, far: FarHost | None) -> tuple[Serves, ...]:
        """What listens on its addresses, or at a far host; a resolver listens for lookups (RFC 1035 section 4.2)."""
        if far:
            return far.serves
        offered = tuple(Serves(s, o.word, o.mark) for o in self.device.gates.offers for s in o.services)
        if self.device.records is not None:
            return (*self.device.serves, *offered, *(Serves(s, "domain", self.device.mark) for s in BUILT_IN_SERVICES["domain"]))
        return (*self.device.serves, *offered)

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

    def owner(self, address: Address) -> str | None:
        """Who has an address; of several the first by name."""
        return self._plan.owner(address)

    def is_outside(self, port: str) -> bool:
        """True where a device faces what is not its own: as the file says, or for a firewall as its addresses suggest.

        Where no interface of a firewall says so, ``model/outside.py`` says which are taken to be outside.
        """
        return port in self.outside

    def down_port(self, hop: Hop) -> str | None:
        """The interface that a way out needs, when that is down."""
        for interface in self.device.interfaces.values():
            named = interface.name == hop.interface
            behind = hop.address is not None and any(a.prefix.holds(hop.address) for a in interface.addresses)
            if (named or behind) and not self.domains.link(self.name, interface.name).up:
                return interface.name
        return None


def port_names(device: Device) -> dict[str, tuple[str, ...]]:
    """What a name in ``arriving`` or ``leaving`` stands for: an interface, a group of uplinks, or the interfaces of a zone."""
    out: dict[str, tuple[str, ...]] = {}
    for interface in device.interfaces.values():
        if interface.zone:
            out[interface.zone] = (*out.get(interface.zone, ()), interface.name)
    out |= dict(device.uplinks)
    return out | {name: (name,) for name in device.interfaces}


class _Reading(NamedTuple):
    """A list as a device read it.

    Attributes:
        source: the list.
        reader: what its words meant there.
        says_self: a rule asks for the device's own addresses.
        table: what came of it.

    """

    source: AccessList
    reader: Reader
    says_self: bool
    table: Table

    def fits(self, source: AccessList, reader: Reader) -> bool:
        """Whether the same would come of a list and a reader."""
        alike = self.reader if self.says_self else self.reader._replace(own=reader.own)
        return self.source is source and alike == reader


def _says_self(source: AccessList) -> bool:
    """Whether a rule asks for the addresses of the device that reads it."""
    return any(t.spans is None for rule in source.rules for side in (rule.sources, rule.destinations) for t in side or ())


class Plan:
    """A network ready for packets. Device plans are compiled when a packet first gets there, and kept.

    Attributes:
        network: as written, with leased addresses in place.
        routing, domains: its computed tables, and who hears whom.
        attached: for each access list, where it is attached.
        unattached: the lists that are attached nowhere and say of no policy route which packets it is about.
        lists_at: the lists that are attached to an interface of a device, for ``arriving`` or ``leaving``.
        asks_application: some rule of a list asks for the application of a flow.

    Args:
        network: as written, or with something failed.
        earlier: the plan of before something failed: hosts keep the addresses that they were leased then.

    """

    def __init__(self, network: Network, earlier: Plan | None = None) -> None:
        if not isinstance(network, Network):
            raise InputError("a Plan is made from a Network; a file with errors gives none. load() says what is wrong with it.")
        self.routing: Routing = Routing(network, earlier.routing.leases.held if earlier is not None else None)
        self.network: Network = self.routing.network
        self.domains = self.routing.domains
        self._devices: dict[str, DevicePlan] = {}
        self._read: dict[tuple[str, str], _Reading] = earlier._read if earlier is not None else {}
        self._owners: Mapping[Address, tuple[str, ...]] | None = None
        self.attached = attached(self.network)
        used = classifying(self.network)
        self.unattached = tuple(name for name, places in self.attached.items() if not places and name not in used)
        self.lists_at: dict[tuple[str, str, str], tuple[str, ...]] = {}
        for name, places in self.attached.items():
            for place in places:
                self.lists_at[place] = (*self.lists_at.get(place, ()), name)
        self._called: dict[Address, tuple[str, ...]] | None = None
        self.asks_application = any(r.applications for e in self.network.lists.values() for r in e.rules)

    def __repr__(self) -> str:
        return f"<Plan: {self.network.title}, {len(self.network.devices)} devices>"

    def device(self, name: str) -> DevicePlan:
        """The plan of a device.

        Raises:
            QuestionError: there is none of that name.

        """
        if name not in self._devices:
            if name not in self.network.devices:
                raise QuestionError(unknown("device", str(name), self.network.devices))
            self._devices[name] = DevicePlan(self, self.network.devices[name])
        return self._devices[name]

    def read(self, source: AccessList, device: str, reader: Reader) -> Table:
        """A list as a device reads it; what an earlier plan made of it is taken, where both are what they were.

        Args:
            source: the list.
            device: name of who reads it.
            reader: what its words mean there.

        """
        # A sweep compiles a plan for each failure, and hardly any failure changes what a list says: reading 10,000 rules
        # takes longer than everything else about it.
        held = self._read.get((device, source.name))
        if held is None or not held.fits(source, reader):
            made = _Reading(source, reader, _says_self(source), list_table(source, reader))
            held = self._read[device, source.name] = made
        return held.table

    def resolved_by(self, device: Device) -> dict[str, Spans]:
        """The names that a device knows without having seen a lookup: those of the network, and what its resolvers say.

        The device's own lookups are taken to succeed, at the moment of the test; they are not traced.
        """
        out = {name: list(addresses) for name, addresses in self.network.names.items()}
        for resolver in device.resolvers:
            owner = self.network.devices.get(self.owner(resolver) or "")
            for name, addresses in (owner.records or {}).items() if owner is not None else ():
                out.setdefault(name, list(addresses))
        return {name: merge(Span(a.key, a.key) for a in addresses) for name, addresses in out.items()}

    def names_at(self, address: Address) -> tuple[str, ...]:
        """Every host name, of the network or of a resolver, that has an address."""
        if self._called is None:
            called: dict[Address, tuple[str, ...]] = {}
            tables = [self.network.names, *(d.records for d in self.network.devices.values() if d.records)]
            for name, addresses in ((n, a) for t in tables for n, a in t.items()):
                for held in addresses:
                    if name not in called.get(held, ()):
                        called[held] = (*called.get(held, ()), name)
            self._called = called
        return self._called.get(address, ())

    def owner(self, address: Address) -> str | None:
        """Who has an address; of several the first by name."""
        found = self.owners(address)
        return found[0] if found else None

    def owners(self, address: Address) -> tuple[str, ...]:
        """Everybody who has an address: most often one, and two where it was given twice."""
        if self._owners is None:
            self._owners = self.network.owners()
        return self._owners.get(address, ())

    # why not the others: asked with a ruling in hand

    def passed_over(self, device: str, ruling: Asked) -> list[PassedOver]:
        """The rows above the one that decided that were not met, each with its first unmet condition.

        Args:
            device: name of the hop that the ruling is of.
            ruling: any of a hop's rulings.

        """
        table, facts = self._again(device, ruling)
        return [PassedOver(row, miss, ruling.saw) for row, miss in table.passed_over(facts)] if table else []

    def noted(self, device: str, ruling: Asked) -> list[Row]:
        """The ``note`` rows that were met on the way to the decision."""
        table, facts = self._again(device, ruling)
        return table.noted(facts) if table else []

    def routes_passed_over(self, device: str, ruling: Asked) -> Iterator[Loser]:
        """The routes that hold the destination too, each with the reason why it was not taken."""
        if ruling.table.kind is TableKind.ROUTE:
            yield from self.device(device).table_named(ruling.table.name).losers(ruling.saw.destination)

    def _again(self, device: str, ruling: Asked) -> tuple[Table | None, Facts]:
        """The facts as they were at a ruling, so that the reasons for rows passed over can be told afterwards."""
        return self.device(device).rows_of(ruling.table), facts_of(ruling)
