"""A network compiled once: per device the tables that its stages consult."""

from __future__ import annotations

from typing import NamedTuple

from mossy_compass.headers.spans import merge
from mossy_compass.marks import Mark
from mossy_compass.model.check import attached
from mossy_compass.model.network import Device, FarHost, Network, Serves
from mossy_compass.packet.address import Address, Span
from mossy_compass.packet.service import BUILT_IN_SERVICES
from mossy_compass.plan.match import ListTable, translation_list
from mossy_compass.plan.order import FROM, THROUGH, Stage
from mossy_compass.routing.compute import Routing
from mossy_compass.routing.table import RouteTable


class Own(NamedTuple):
    """An address of the device itself: on which interface, or of which far host."""

    interface: str
    far: FarHost | None = None


class DevicePlan:
    """What one device knows.

    Attributes:
        device: as written.
        through, origin: stages of a packet that arrives, and of one made here.
        own: its addresses.
        tracked: protocols whose sessions it keeps.
        translations: source translation rules as a list of permits; None when there are none.

    """

    __slots__ = (
        "_lists",
        "_network",
        "_routing",
        "_settings",
        "_table",
        "device",
        "name",
        "origin",
        "own",
        "own_spans",
        "through",
        "tracked",
        "translations",
    )

    def __init__(self, network: Network, routing: Routing, device: Device) -> None:
        self._network = network
        self._routing = routing
        self.device = device
        self.name = device.name
        self.through: tuple[Stage, ...] = THROUGH[device.kind]
        self.origin: tuple[Stage, ...] = FROM[device.kind]
        self.own: dict[Address, Own] = {a: Own(i) for a, i in device.own_addresses() if routing.domains.link(device.name, i).up}
        for far in device.far_hosts.values():
            for address in far.addresses:
                self.own.setdefault(address, Own("", far))
        self.own_spans = merge(Span(a.key, a.key) for a in self.own)
        self.tracked = device.stateful
        self.translations = (
            ListTable(translation_list(device.translate, device.name, device.mark), self.own_spans) if device.translate else None
        )
        self._lists: dict[str, ListTable] = {}
        self._settings: dict[str, tuple[str, Mark | None]] = {}
        self._table: RouteTable | None = None

    @property
    def table(self) -> RouteTable:
        """The main route table."""
        if self._table is None:
            self._table = self._routing.table(self.name)
        return self._table

    def list_at(self, interface: str | None, way: str) -> ListTable | None:
        """The list attached to an interface for ``arriving`` or ``leaving`` packets."""
        if interface is None:
            return None
        port = self.device.interfaces[interface]
        name = port.arriving_list if way == "arriving" else port.leaving_list
        return self.read_list(name) if name is not None else None

    def read_list(self, name: str) -> ListTable:
        """A list as this device reads it."""
        if name not in self._lists:
            self._lists[name] = ListTable(self._network.lists[name], self.own_spans)
        return self._lists[name]

    def table_named(self, name: str) -> RouteTable:
        """A route table by its name."""
        return self.table if name == "main" else self._routing.table(self.name, name)

    def setting(self, name: str) -> tuple[str, Mark | None]:
        """The value in force of a setting, and where it was written; None for the default."""
        if name not in self._settings:
            self._settings[name] = self.device.setting(name)
        return self._settings[name]

    def serves(self, own: Own) -> tuple[Serves, ...]:
        """What listens on one of the device's addresses; a resolver listens for lookups (RFC 1035 section 4.2)."""
        if own.far:
            return own.far.serves
        if self.device.records is not None:
            return (*self.device.serves, *(Serves(s, "domain", self.device.mark) for s in BUILT_IN_SERVICES["domain"]))
        return self.device.serves

    def source_for(self, interface: str, family: int, towards: Address | None = None) -> Address | None:
        """The address that the device gives its own packets when they leave by ``interface`` (RFC 1122 3.3.4.3, RFC 6724)."""
        port = self.device.interfaces[interface]
        found = [a for a in port.addresses if a.address.family == family]
        if towards is not None:
            near = [a for a in found if a.prefix.holds(towards)]
            found = near or [a for a in found if not a.address.is_link_local] or found
        if found:
            return found[0].address
        return next((a for a, own in self.own.items() if a.family == family and not own.far and not a.is_link_local), None)


class Plan:
    """A network ready for packets. Device plans are compiled when a packet first gets there, and kept.

    Attributes:
        network: as written, with leased addresses in place.
        routing, domains: its computed tables, and who hears whom.
        attached: for each access list, where it is attached.

    """

    def __init__(self, network: Network) -> None:
        self.routing = Routing(network)
        self.network = self.routing.network
        self.domains = self.routing.domains
        self._devices: dict[str, DevicePlan] = {}
        self._owners: dict[Address, tuple[str, ...]] | None = None
        self.attached = attached(self.network)

    def device(self, name: str) -> DevicePlan:
        """The plan of a device."""
        if name not in self._devices:
            self._devices[name] = DevicePlan(self.network, self.routing, self.network.devices[name])
        return self._devices[name]

    def owner(self, address: Address) -> str | None:
        """Who bears an address; of several the first by name."""
        found = self.bearers(address)
        return found[0] if found else None

    def bearers(self, address: Address) -> tuple[str, ...]:
        """Everybody who bears an address: most often one, and two where it was given twice."""
        if self._owners is None:
            self._owners = self.network.owners()
        return self._owners.get(address, ())
