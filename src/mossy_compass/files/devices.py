"""Devices into the model."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from mossy_compass.errors import AddressError
from mossy_compass.files.ports import Ports
from mossy_compass.files.schema import DeviceIn
from mossy_compass.marks import Mark, Severity, hint
from mossy_compass.model.network import (
    Device,
    FarHost,
    Interface,
    Kind,
    LeasePool,
    OspfProcess,
    RipProcess,
    RouteAction,
    Serves,
    StaticRoute,
)
from mossy_compass.model.settings import SETTINGS
from mossy_compass.packet.address import Prefix, from_key
from mossy_compass.packet.service import ICMP, ICMP6, TCP, UDP, parse_protocol


class Devices(Ports):
    """What each device is, knows and does."""

    def device(self, name: str, device: DeviceIn) -> Device:
        base = ("devices", name)
        kind = Kind(device.kind)
        interfaces = {n: self.interface(name, n, i, device) for n, i in device.interfaces.items()}
        for index, port in enumerate(device.ports):
            interfaces.setdefault(port, Interface(port, self.spot(*base, "ports", index)))
        if device.ports and kind is not Kind.SWITCH:
            self.problems.add(
                "device.kind", self.mark(*base, "ports"), f"ports: is for a switch; a {kind} has interfaces.", "Write interfaces:."
            )
        routes: list[StaticRoute] = []
        if device.address is not None or device.leased:
            mark = self.mark(*base, "address" if device.address is not None else "leased")
            if kind is not Kind.HOST:
                self.problems.add(
                    "device.kind",
                    mark,
                    f"a {kind} has interfaces, and each has its address.",
                    "Write interfaces: {NAME: ADDRESS/LENGTH}.",
                )
            elif interfaces:
                self.problems.add("device.kind", mark, "a host has either address: or interfaces:, not both.", "Remove one.")
            interfaces.setdefault("nic", Interface("nic", mark, tuple(device.address or ()), leased=device.leased))
        for index, address in enumerate(device.gateway or []):
            mark = self.spot(*base, "gateway", index)
            if kind is not Kind.HOST:
                self.problems.add(
                    "device.kind",
                    self.mark(*base, "gateway"),
                    f"a {kind} has routes:, not a gateway.",
                    "Write routes: [{prefix: default, next-hop: ADDRESS}].",
                )
            routes.append(StaticRoute(Prefix(address.family, 0, 0), mark, address, origin="gateway"))
        for index, route in enumerate(device.routes):
            path = (*base, "routes", index)
            mark = self.spot(*path)
            if (
                route.leaving is not None
                and route.leaving not in interfaces
                and route.leaving not in self.written(*base, "interfaces") | self.written(*base, "uplinks")
            ):
                self.problems.add(
                    "interface.unknown",
                    self.spot(*path, "leaving"),
                    f"{name} has no interface '{route.leaving}'.",
                    hint(route.leaving, {*interfaces, *device.uplinks}, "interfaces"),
                )
            if route.next_hop is not None and route.leaving in device.uplinks:
                self.problems.add(
                    "route.group",
                    mark,
                    f"a route by the group {route.leaving} has no next-hop: each member has its own.",
                    "Remove next-hop, or write a route for each member.",
                )
            if route.action != "forward" and (route.next_hop or route.leaving):
                self.problems.add(
                    "route.action",
                    mark,
                    f"a route that says {route.action} goes nowhere: its next-hop and leaving have no effect.",
                    "Remove them, or remove the action.",
                )
            if route.action == "forward" and route.next_hop is None and route.leaving is None:
                self.problems.add("route.nowhere", mark, "the route says neither next-hop nor leaving.", "Add next-hop: ADDRESS.")
            prefix = route.prefix
            if route.next_hop and route.next_hop.family != prefix.family:
                if str(self.tree.at(*path, "prefix").value) == "default":
                    prefix = Prefix(route.next_hop.family, 0, 0)
                else:
                    self.problems.add(
                        "route.family",
                        self.spot(*path, "next-hop"),
                        f"{route.next_hop} is IPv{route.next_hop.family}, the prefix {prefix} is IPv{prefix.family}.",
                        "Use a next hop of the same family.",
                    )
            routes.append(
                StaticRoute(
                    prefix,
                    mark,
                    route.next_hop,
                    route.leaving,
                    route.preference,
                    route.metric,
                    route.table,
                    RouteAction(route.action),
                    route.about,
                )
            )
        settings = self.settings(name, device)
        stateful, stateful_mark = self.stateful(name, device, kind)
        return Device(
            name=name,
            kind=kind,
            mark=self.mark(*base),
            interfaces=interfaces,
            routes=tuple(routes),
            stateful=stateful,
            stateful_mark=stateful_mark,
            translate=tuple(self.translates(name, device, interfaces)),
            serves=self.serves(device.serves, (*base, "serves")),
            settings=settings,
            about=device.about,
            zone=device.zone,
            far_hosts=self.far_hosts(name, device, kind),
            records={n: tuple(a) for n, a in device.records.items()} if device.records is not None else None,
            resolvers=tuple(device.resolvers),
            uplinks=self.uplinks(name, device, interfaces),
            ospf=self.ospf(name, device, interfaces),
            rip=self.rip(name, device, interfaces),
            leases=tuple(self.leases(name, device, interfaces)),
        )

    def far_hosts(self, name: str, device: DeviceIn, kind: Kind) -> dict[str, FarHost]:
        if device.hosts and kind is not Kind.INTERNET:
            self.problems.add(
                "device.kind",
                self.mark("devices", name, "hosts"),
                f"hosts: is for a device of kind internet, and {name} is a {kind}.",
                "Write the hosts as devices of their own.",
            )
        out = {}
        for word, entry in device.hosts.items():
            path = ("devices", name, "hosts", word)
            mark = self.mark(*path)
            if word in self.far:
                self.problems.add("name.twice", mark, f"'{word}' is also a device, or another far host.", "Choose another name.")
            self.far.add(word)
            out[word] = FarHost(word, tuple(entry.address), self.serves(entry.serves, (*path, "serves")), mark, entry.silent)
        return out

    def uplinks(self, name: str, device: DeviceIn, interfaces: Mapping[str, Interface]) -> dict[str, tuple[str, ...]]:
        for group, members in device.uplinks.items():
            if group in interfaces:
                self.problems.add(
                    "name.twice",
                    self.mark("devices", name, "uplinks", group),
                    f"'{group}' is both a group and an interface of {name}.",
                    "Choose another name.",
                )
            for index, member in enumerate(members):
                self.known_port(name, member, self.spot("devices", name, "uplinks", group, index), interfaces)
        return {group: tuple(m for m in members if m in interfaces) for group, members in device.uplinks.items()}

    def ospf(self, name: str, device: DeviceIn, interfaces: Mapping[str, Interface]) -> OspfProcess | None:
        speaks = any(i.ospf for i in interfaces.values())
        if device.ospf is None:
            return OspfProcess(self.mark("devices", name), {}, {}) if speaks else None
        entry, base = device.ospf, ("devices", name, "ospf")
        areas: dict[int, str] = {}
        for word, kind in entry.areas.items():
            if not (word.isascii() and word.isdigit() and int(word) < 1 << 32):
                self.problems.add(
                    "value.wrong", self.mark(*base, "areas", word), f"'{word}' is not an area number.", "Write a number."
                )
            elif int(word) == 0 and kind != "normal":
                self.problems.add(
                    "ospf.backbone", self.mark(*base, "areas", word), "area 0 is the backbone and cannot be a stub.", "Remove it."
                )
            else:
                areas[int(word)] = kind
        if not speaks:
            self.problems.add(
                "idle.not-enabled",
                self.mark(*base),
                f"{name} has OSPF settings, but none of its interfaces speaks OSPF: they have no effect.",
                "Write ospf: AREA at an interface.",
                Severity.WARNING,
            )
        first = entry.default_route
        default = (first.type, first.metric, first.always) if first else None
        given: dict[str, tuple[int, int]] = {o: (e.type, e.metric) for o, e in entry.redistribute.items()}
        return OspfProcess(self.mark(*base), areas, given, default, entry.preference)

    def rip(self, name: str, device: DeviceIn, interfaces: Mapping[str, Interface]) -> RipProcess | None:
        speaks = any(i.rip for i in interfaces.values())
        if device.rip is None:
            return RipProcess(self.mark("devices", name), {}) if speaks else None
        if not speaks:
            self.problems.add(
                "idle.not-enabled",
                self.mark("devices", name, "rip"),
                f"{name} has RIP settings, but none of its interfaces speaks RIP: they have no effect.",
                "Write rip: active at an interface.",
                Severity.WARNING,
            )
        entry = device.rip
        given: dict[str, int] = dict(entry.redistribute.items())
        return RipProcess(self.mark("devices", name, "rip"), given, entry.default_route, entry.preference)

    def leases(self, name: str, device: DeviceIn, interfaces: Mapping[str, Interface]) -> Iterable[LeasePool]:
        for port, entry in device.leases.items():
            mark = self.mark("devices", name, "leases", port)
            self.known_port(name, port, mark, interfaces)
            if len(entry.range.spans) != 1 or port not in interfaces:
                continue
            first, last = (from_key(k) for k in entry.range.spans[0])
            bearer = next((a for a in interfaces[port].addresses if a.prefix.holds(first) and a.prefix.holds(last)), None)
            if bearer is None:
                self.problems.add(
                    "lease.range",
                    self.spot("devices", name, "leases", port, "range"),
                    f"the range {entry.range.text} is not within a subnet of {name}/{port}.",
                    "Give addresses of the interface's own subnet.",
                )
                continue
            yield LeasePool(port, first, last, entry.gateway or bearer.address, tuple(entry.resolvers), mark)

    def serves(self, words: Iterable[str], path: tuple[str | int, ...]) -> tuple[Serves, ...]:
        marked = [(word, self.spot(*path, index)) for index, word in enumerate(words)]
        return tuple(Serves(service, word, mark) for word, mark in marked for service in self.service(word, mark))

    def settings(self, name: str, device: DeviceIn) -> dict[str, tuple[str, Mark]]:
        out: dict[str, tuple[str, Mark]] = {}
        for key, value in device.settings.items():
            mark = self.mark("devices", name, "settings", key)
            if key not in SETTINGS:
                self.problems.add("setting.unknown", mark, f"there is no setting '{key}'.", hint(key, SETTINGS, "settings"))
            elif value not in SETTINGS[key].values:
                self.problems.add(
                    "value.wrong",
                    self.spot("devices", name, "settings", key),
                    f"'{value}' is not a value of {key}.",
                    hint(value, SETTINGS[key].values, "values"),
                )
            else:
                out[key] = (value, mark)
        return out

    def stateful(self, name: str, device: DeviceIn, kind: Kind) -> tuple[frozenset[int], Mark | None]:
        if device.stateful is None:
            return (frozenset((TCP, UDP)) if kind is Kind.FIREWALL else frozenset()), None
        out: set[int] = set()
        for index, word in enumerate(device.stateful):
            mark = self.spot("devices", name, "stateful", index)
            if word == "none":
                if len(device.stateful) > 1:
                    self.problems.add("value.wrong", mark, "none stands alone.", "Remove it, or remove the others.")
                continue
            try:
                protocol = parse_protocol(word)
            except AddressError as fault:
                self.problems.add("value.wrong", mark, str(fault))
                continue
            out |= {ICMP, TCP, UDP, ICMP6} if protocol is None else {protocol}
        return frozenset(out), self.mark("devices", name, "stateful")
