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
from mossy_compass.model.network import AccessList, Device, Network
from mossy_compass.packet.address import Address, Span, Spans
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.compile import steps
from mossy_compass.plan.conditions import Miss, Reader
from mossy_compass.plan.device import DevicePlan, Makers
from mossy_compass.plan.facts import NOTHING, Asked, Facts, facts_of
from mossy_compass.plan.ids import TableKind
from mossy_compass.plan.places import written_tables
from mossy_compass.plan.room import Room
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.translate import rules_table
from mossy_compass.plan.table import Table, list_table
from mossy_compass.routing.compute import Routing
from mossy_compass.routing.table import Loser
from mossy_compass.routing.uplinks import on_last_resort
from mossy_compass.voice import voice


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
        """What the row would have done: permit, deny, reject, note or hand-on; ``applies`` for a row of another table than a list."""
        return self.row.verdict.value if self.row.verdict else "applies"

    @property
    def words(self) -> str:
        """What the condition wants, and what the packet has."""
        return str(voice().miss_words(self.miss, self.packet)[1])


T = TypeVar("T")
MOST_KEPT = 200_000
"""So many words and addresses are kept; then it begins anew, for a script may ask for every address there is."""
MAKERS = Makers(steps, rules_table, written_tables)


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


def _words_of(plan: Plan) -> tuple[object, ...]:
    """What the words of a network stand for, whichever device reads them."""
    network = plan.network
    records = {d.name: d.records for d in network.devices.values() if d.records is not None}
    return network.lists, network.names, network.local, network.hours, network.applications, records, plan.everybody


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
        stays: where executors keep what packets did; None where nobody will ask again.
        has_probes: some device repeats tests by itself, so that what is in use depends on them.
        has_last_resort: some group of uplinks has a last resort, so that the network says itself when it is in use.
        moves_flows: some device translates flows of a lost uplink anew.
        has_selectors: some tunnel takes packets by selectors.
        asks_onward: some rule redirects packets to a device that asks onward in its own name.
        asks_application: some rule of a list asks for the application of a flow.
        asks_names: some rule of a list is by host name.

    Args:
        network: as written, or with something failed.
        earlier: the plan of before something failed: hosts keep the addresses that they were leased then.
        near: a plan of the same network in other weather, of which is taken over what does not hang on that.

    """

    def __init__(self, network: Network, earlier: Plan | None = None, near: Plan | None = None) -> None:
        if not isinstance(network, Network):
            raise InputError("a Plan is made from a Network; a file with errors gives none. load() says what is wrong with it.")
        found = near.routing.in_weather_of(network) if near is not None else None
        if near is not None and found is not None:
            self._take_over(near, network, *found)
            return
        self.routing: Routing = Routing(network, earlier.routing.leases.held if earlier is not None else None)
        self.network: Network = self.routing.network
        self.domains = self.routing.domains
        self._devices: dict[str, DevicePlan] = {}
        self._read: dict[tuple[str, str], _Reading] = earlier._read if earlier is not None else {}
        self._owners: Mapping[Address, tuple[str, ...]] | None = None
        self._earlier = earlier
        self._knows_as_before: bool | None = None
        # What a failure leaves alike is shared by many failures, and worth remembering; what is a failure's own is not.
        self.stays = Room() if earlier is None else None
        self._note_places()
        self._once: dict[Hashable, Any] = {}
        self._called: dict[Address, tuple[str, ...]] | None = None
        self.written = network
        self._note_kinds()

    def _note_places(self) -> None:
        """Where each list stands, and which lists stand at each place."""
        self.attached = attached(self.network)
        used = classifying(self.network)
        self.unattached = tuple(name for name, places in self.attached.items() if not places and name not in used)
        self.lists_at: dict[tuple[str, str, str], tuple[str, ...]] = {}
        for name, places in self.attached.items():
            for place in places:
                self.lists_at[place] = (*self.lists_at.get(place, ()), name)

    def _note_kinds(self) -> None:
        """Which kinds of things are written at all, so that nobody looks for what there is none of."""
        devices = self.network.devices.values()
        rules = [rule for listed in self.network.lists.values() for rule in listed.rules]
        tunnels = [i.tunnel for d in devices for i in d.interfaces.values() if i.tunnel is not None]
        self._resorts = [(d, g.name) for d in devices for g in d.groups.values() if g.last_resort]
        self.has_last_resort = bool(self._resorts)
        self.has_probes = any(p.enabled for d in devices for p in d.probes.values())
        self.has_selectors = any(t.selectors for t in tunnels)
        self.moves_flows = any(d.settings.text("flows-of-a-lost-uplink") == "move" for d in devices)
        self.asks_onward = any(t.onward and not t.disabled for d in devices for t in d.translate)
        self.asks_application = any(rule.applications for rule in rules)
        self.asks_names = any(rule.names for rule in rules)

    def _take_over(self, near: Plan, network: Network, routing: Routing, moved: frozenset[str]) -> None:
        """Be a plan of the same network in other weather: only the devices whose own rows hang on it are compiled anew."""
        self.__dict__.update(near.__dict__)
        self.routing, self.network, self.domains, self.written = routing, routing.network, routing.domains, network
        self._devices = {name: held for name, held in near._devices.items() if name not in moved}
        self._once = {}

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
            self._devices[name] = self._as_before(name) or DevicePlan(self, self.network.devices[name], MAKERS, self.stays)
        return self._devices[name]

    def _as_before(self, name: str) -> DevicePlan | None:
        """What was compiled of a device before something failed, where that leaves it everything that it goes by; None where not."""
        before, device = self._earlier, self.network.devices[name]
        if before is None or before.network.devices.get(name) is not device:
            return None
        if self._knows_as_before is None:
            self._knows_as_before = _words_of(before) == _words_of(self)
        same = self._knows_as_before and self.routing.same_at(before.routing, device)
        return before.device(name) if same else None

    @property
    def last_resorts(self) -> frozenset[str]:
        """The groups of uplinks whose last resort is in use, as ``DEVICE/GROUP``."""
        if not self._resorts:
            return NOTHING
        return self.once(
            "last resorts", lambda: frozenset(f"{d.name}/{g}" for d, g in self._resorts if on_last_resort(d, self.domains, g))
        )

    def once(self, key: Hashable, make: Callable[[], T]) -> T:
        """What is known of the network's words for good, made when somebody first asks; a fault is not kept.

        Args:
            key: what it depends on.
            make: makes it.

        """
        if key not in self._once:
            if len(self._once) > MOST_KEPT:
                self._once.clear()
            self._once[key] = make()
        found: T = self._once[key]
        return found

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

        The device's own lookups are taken to succeed, at the moment of the test; they are not traced. As with its test packets, the
        first resolver answers, and what that does not know is not asked for at the next; a far host answers with the records of
        the device that stands for it.
        """
        out = {name: list(addresses) for name, addresses in self.network.names.items()}
        records = (self._records(resolver) for resolver in device.resolvers)
        for name, addresses in (next((r for r in records if r is not None), None) or {}).items():
            out.setdefault(name, list(addresses))
        return {name: merge(Span(a.key, a.key) for a in addresses) for name, addresses in out.items()}

    def _records(self, resolver: Address) -> Mapping[str, tuple[Address, ...]] | None:
        """What a resolver knows; None where nobody at its address is one."""
        name = self.owner(resolver) or ""
        far = self.network.far_host(name)
        device = far[0] if far is not None else self.network.devices.get(name)
        return device.records if device is not None else None

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
        return self.everybody.get(address, ())

    @property
    def everybody(self) -> Mapping[Address, tuple[str, ...]]:
        """Every address with all who have it."""
        if self._owners is None:
            self._owners = self.network.owners()
        return self._owners

    # why not the others: asked with a ruling in hand

    def passed_over(self, device: str, ruling: Asked) -> list[PassedOver]:
        """The rows above the one that decided that were not met, each with its first unmet condition.

        Args:
            device: name of the hop that the ruling is of.
            ruling: any of a hop's rulings.

        """
        table, facts = self._again(device, ruling)
        return [PassedOver(row, miss, ruling.saw) for row, miss in table.passed_over(facts)] if table else []

    def routes_passed_over(self, device: str, ruling: Asked) -> Iterator[Loser]:
        """The routes that hold the destination too, each with the reason why it was not taken."""
        if ruling.table.kind is TableKind.ROUTE:
            yield from self.device(device).table_named(ruling.table.name).losers(ruling.saw.destination)

    def _again(self, device: str, ruling: Asked) -> tuple[Table | None, Facts]:
        """The facts as they were at a ruling, so that the reasons for rows passed over can be told afterwards."""
        return self.device(device).rows_of(ruling.table), facts_of(ruling)
