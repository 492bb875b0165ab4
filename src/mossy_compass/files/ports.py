"""Interfaces and segments into the model."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from mossy_compass.files.names import Names
from mossy_compass.files.schema import DeviceIn, InterfaceIn
from mossy_compass.headers.spans import merge
from mossy_compass.marks import Mark, hint
from mossy_compass.model.network import Device, Interface, Link, OspfPort, PortState, Segment, Translate


class Ports(Names):
    """What is plugged where."""

    def known_port(self, device: str, port: str, mark: Mark, interfaces: Mapping[str, Interface]) -> None:
        """Complain where a device has no such interface, faulty or not."""
        if port not in interfaces and port not in self.written("devices", device, "interfaces"):
            self.problems.add(
                "interface.unknown", mark, f"{device} has no interface '{port}'.", hint(port, interfaces, "interfaces")
            )

    def vlan_faults(self, path: tuple[str, ...], name: str, entry: InterfaceIn, device: DeviceIn) -> None:
        mark = self.mark(*path)
        if entry.parent is not None:
            if entry.parent not in device.interfaces:
                self.known_port(
                    path[1], entry.parent, self.spot(*path, "parent"), {n: Interface(n, mark) for n in device.interfaces}
                )
            elif device.interfaces[entry.parent].parent is not None or entry.parent == name:
                self.problems.add(
                    "vlan.parent",
                    mark,
                    f"{entry.parent} is no physical port: a sub-interface has a port as its parent.",
                    "Name the port.",
                )
            if entry.vlan is None:
                self.problems.add("vlan.tag", mark, f"sub-interface {name} has no vlan.", "Add vlan: NUMBER.")
        if (entry.untagged is not None or entry.tagged) and (entry.address or entry.leased):
            self.problems.add(
                "vlan.member",
                mark,
                f"{name} is a member of a VLAN, so it has no address of its own.",
                f"Give the address to an interface with vlan: {entry.untagged or entry.tagged[0]}.",
            )
        if entry.loopback and (entry.parent or entry.vlan or entry.untagged or entry.tagged or entry.leased):
            self.problems.add(
                "loopback.port", mark, f"{name} is a loopback: it is on no segment and in no VLAN.", "Remove one of the two."
            )
        if device.kind == "switch" and (entry.address or entry.leased):
            self.problems.add(
                "switch.address",
                mark,
                "a switch here only bridges and has no address.",
                "Make it a router with VLAN interfaces, or leave the address out.",
            )

    def interface(self, device: str, name: str, entry: InterfaceIn, whole: DeviceIn) -> Interface:
        self.vlan_faults(("devices", device, "interfaces", name), name, entry, whole)
        path = ("devices", device, "interfaces", name)
        marks: dict[str, Mark] = {}
        for way in ("arriving", "leaving"):
            wanted = getattr(entry.filter, way)
            marks[way] = self.spot(*path, "filter", way)
            if wanted is not None and wanted not in self.doc.lists and wanted not in self.written("lists"):
                self.problems.add(
                    "list.unknown", marks[way], f"there is no list '{wanted}'.", hint(wanted, self.written("lists"), "lists")
                )
        return Interface(
            name=name,
            mark=self.mark(*path),
            addresses=tuple(entry.address),
            zone=entry.zone,
            about=entry.about,
            state=PortState(entry.state),
            mtu=entry.mtu,
            arriving_list=entry.filter.arriving,
            leaving_list=entry.filter.leaving,
            arriving_mark=marks["arriving"],
            leaving_mark=marks["leaving"],
            parent=entry.parent,
            vlan=entry.vlan,
            access_vlan=entry.untagged,
            trunk_vlans=tuple(entry.tagged),
            loopback=entry.loopback,
            answers_for=merge(s for b in entry.answers_for for s in b.spans),
            leased=entry.leased,
            ospf=OspfPort(
                entry.ospf.area,
                entry.ospf.cost,
                entry.ospf.passive,
                entry.ospf.network == "point-to-point",
                self.mark(*path, "ospf"),
            )
            if entry.ospf
            else None,
            rip=entry.rip,
        )

    def translates(self, name: str, device: DeviceIn, interfaces: Mapping[str, Interface]) -> Iterable[Translate]:
        for index, entry in enumerate(device.translate):
            path = ("devices", name, "translate", index)
            if entry.leaving not in interfaces and entry.leaving not in self.written("devices", name, "interfaces"):
                self.problems.add(
                    "interface.unknown",
                    self.spot(*path, "leaving"),
                    f"{name} has no interface '{entry.leaving}'.",
                    hint(entry.leaving, interfaces, "interfaces"),
                )
            yield Translate(
                id=entry.id or str((index + 1) * 10),
                leaving=entry.leaving,
                mark=self.spot(*path),
                sources=self.term_list(entry.source, (*path, "source")),
                destinations=self.term_list(entry.to, (*path, "to")),
                disabled=entry.disabled,
                about=entry.about,
            )

    def segments(self, devices: Mapping[str, Device]) -> dict[str, Segment]:
        taken: dict[tuple[str, str], Mark] = {}
        out: dict[str, Segment] = {}
        for name, entry in self.doc.segments.items():
            members: list[tuple[str, str]] = []
            for index, word in enumerate(entry.members):
                mark = self.spot("segments", name, "members", index)
                member = self.member(word, mark, devices)
                if member is None:
                    continue
                if member in taken:
                    self.problems.add(
                        "segment.twice",
                        mark,
                        f"{'/'.join(member)} is already on a segment, at line {taken[member].line}.",
                        "A port has one cable; remove one of the two.",
                    )
                    continue
                taken[member] = mark
                members.append(member)
            out[name] = Segment(
                name,
                tuple(members),
                self.mark("segments", name),
                Link(entry.latency, entry.jitter, entry.loss, entry.mtu),
                about=entry.about,
                down=entry.state == "down",
            )
        return out

    def member(self, word: str, mark: Mark, devices: Mapping[str, Device]) -> tuple[str, str] | None:
        name, slash, port = word.partition("/")
        if name not in devices:
            if name not in self.written("devices"):
                self.problems.add(
                    "device.unknown", mark, f"there is no device '{name}'.", hint(name, self.written("devices"), "devices")
                )
            return None
        interfaces = devices[name].interfaces
        if not slash:
            if len(interfaces) == 1:
                return name, next(iter(interfaces))
            if name in self.hurt:
                return None
            self.problems.add(
                "interface.which",
                mark,
                f"{name} has {len(interfaces)} interfaces.",
                f"Say which: {name}/{next(iter(interfaces), 'INTERFACE')}.",
            )
            return None
        if port not in interfaces:
            if port not in self.written("devices", name, "interfaces"):
                self.problems.add(
                    "interface.unknown", mark, f"{name} has no interface '{port}'.", hint(port, interfaces, "interfaces")
                )
            return None
        return name, port
