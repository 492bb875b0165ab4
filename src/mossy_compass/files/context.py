"""A document of the right shape with everything that resolving its names needs: one value, handed to plain functions.

Names resolve to devices, groups, services and lists that may stand further down in the
file, so the whole document is there before the first name is looked up. Faults are
collected and not raised: one pass tells everything that is wrong.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from mossy_compass.files.schema import FarHostIn, NetworkIn
from mossy_compass.files.tree import Node
from mossy_compass.headers.spans import merge
from mossy_compass.marks import Hint, Mark, Problems, Severity, hint
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import PRIVATE_SPANS, Address, InterfaceAddress, Prefix, Spans
from mossy_compass.packet.service import Service

Path = tuple[str | int, ...]


@dataclass
class Context:
    """What a document says, where it says it, and where faults go.

    Attributes:
        doc: the document by its schema.
        live: the tree that marks are taken from; faulty parts are cut out of it.
        problems: where faults are noted.
        raw: the document as plain data, faulty parts included, so that one fault is not reported twice.
        hurt: devices that something was cut out of: what they lack is not their author's fault.
        terms, named_services: what names were found to stand for.

    """

    doc: NetworkIn
    live: Node
    problems: Problems
    raw: Any
    hurt: set[str]
    terms: dict[str, Term] = field(default_factory=dict)
    named_services: dict[str, tuple[Service, ...]] = field(default_factory=dict)
    _written: dict[tuple[str, ...], set[str]] = field(default_factory=dict)

    def mark(self, *path: str | int) -> Mark:
        """Where a key stands."""
        node = self.live.at(*path)
        return node.key or node.mark

    def spot(self, *path: str | int) -> Mark:
        """Where a value stands."""
        return self.live.at(*path).mark

    def fault(
        self,
        code: str,
        mark: Mark,
        message: str,
        remedy: str | Hint = "",
        severity: Severity = Severity.ERROR,
        also: Iterable[tuple[Mark, str]] = (),
    ) -> None:
        """Note a fault.

        Args:
            code: from the table of findings.
            mark: the place.
            message: what is wrong there.
            remedy: what to do.
            severity: an error unless said otherwise.
            also: further places with a word on each.

        """
        self.problems.add(code, mark, message, remedy, severity, also)

    def written(self, *path: str) -> set[str]:
        """Names that are written under a path, faulty ones too."""
        if path not in self._written:
            data = self.raw
            for step in path:
                data = data.get(step, {}) if isinstance(data, dict) else {}
            self._written[path] = _names(data)
        return self._written[path]

    def unknown_port(self, device: str, port: str, mark: Mark, known: Iterable[str]) -> bool:
        """Complain where a device has no such interface, faulty or not; True when it has none that can be used."""
        names = set(known)
        if port in names:
            return False
        if port not in self.written("devices", device, "interfaces") | self.written("devices", device, "uplinks"):
            self.fault("interface.unknown", mark, f"{device} has no interface '{port}'.", hint(port, names, "interfaces"))
        return True

    @cached_property
    def local(self) -> Spans:
        """What counts as ``local-networks``."""
        return merge(s for b in self.doc.local for s in b.spans) if self.doc.local else PRIVATE_SPANS

    @cached_property
    def far_hosts(self) -> dict[str, FarHostIn]:
        """The far hosts of all devices, by name."""
        return {n: h for d in self.doc.devices.values() for n, h in d.hosts.items()}

    @cached_property
    def host_names(self) -> set[str]:
        """Every host name that has an address somewhere: name records, and the records of resolvers."""
        return self.written("names") | {n for d in self.doc.devices.values() for n in d.records or {}}

    @cached_property
    def zones(self) -> dict[str, list[InterfaceAddress]]:
        """The addresses on the interfaces of each zone, whichever device they are of."""
        out: dict[str, list[InterfaceAddress]] = {}
        for device in self.doc.devices.values():
            for interface in device.interfaces.values():
                if interface.zone:
                    out.setdefault(interface.zone, []).extend(interface.address)
        return out

    def interface_addresses(self, name: str) -> list[InterfaceAddress]:
        """Every address of a device, with its prefix length."""
        device = self.doc.devices[name]
        return [*(device.address or []), *(a for i in device.interfaces.values() for a in i.address)]

    def addresses_of(self, name: str) -> list[Address]:
        """Every address of a device."""
        return [a.address for a in self.interface_addresses(name)]

    def subnets_on(self, segment: str) -> list[Prefix]:
        """The subnets on a segment: those of the interfaces that are plugged into it."""
        out: dict[Prefix, None] = {}
        for member in self.doc.segments[segment].members:
            name, _, port = member.partition("/")
            device = self.doc.devices.get(name)
            if device is None:
                continue
            interface = device.interfaces.get(port) if port else None
            found = interface.address if interface else self.interface_addresses(name)
            out |= dict.fromkeys(a.prefix for a in found if not a.address.is_link_local)
        return list(out)


def _names(data: object) -> set[str]:
    """The names that something is written under; those of a list too, which is a fault of its own, told once."""
    if isinstance(data, dict):
        return {str(k) for k in data}
    items = data if isinstance(data, list) else []
    names = {i for i in items if isinstance(i, str)}
    for item in items:
        if isinstance(item, dict) and "name" in item:
            names.add(str(item["name"]))
        elif isinstance(item, dict) and len(item) == 1:
            names.update(map(str, item))
    return names


def context(document: NetworkIn, live: Node, tree: Node, problems: Problems, hurt: Iterable[Node]) -> Context:
    """The context of a document; ``hurt`` has the parts that something was cut out of.

    Args:
        document: of the right shape.
        live: the parts that could be read.
        tree: the text with its places.
        problems: where faults go.
        hurt: ways to parts that were taken out; names in them are not complained about again.

    """
    wounds = {id(h) for h in hurt}
    names = {n for n in document.devices if id(live.at("devices", n)) in wounds}
    return Context(document, live, problems, tree.plain(), names)
