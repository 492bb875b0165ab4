"""Findings that the description alone shows: what is written but has no effect, and what cannot be meant."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from mossy_compass.marks import Mark, Problems, Severity
from mossy_compass.model.network import Device, Kind, Network, Term, Verdict
from mossy_compass.model.settings import EndOfList
from mossy_compass.packet.address import Address

WARN = Severity.WARNING
NOTE = Severity.NOTE


def check_network(network: Network, problems: Problems) -> None:
    """Add every finding about ``network`` to ``problems``."""
    _lists(network, problems)
    _unused(network, problems)
    members = {m for s in network.segments.values() for m in s.members}
    for device in network.devices.values():
        _device(device, members, problems)
    _addresses(network, problems)


def attached(network: Network) -> dict[str, list[tuple[str, str, str]]]:
    """For each list, where it is attached: device, interface, ``arriving`` or ``leaving``."""
    out: dict[str, list[tuple[str, str, str]]] = {name: [] for name in network.lists}
    for device in network.devices.values():
        for interface in device.interfaces.values():
            for way, name in (("arriving", interface.arriving_list), ("leaving", interface.leaving_list)):
                if name in out:
                    out[name].append((device.name, interface.name, way))
    return out


def classifying(network: Network) -> set[str]:
    """The lists that say which packets a policy route is about; they filter nothing there."""
    return {e.classifier for d in network.devices.values() for e in d.policy_routes if e.classifier}


def _lists(network: Network, problems: Problems) -> None:
    used = classifying(network)
    for name, places in attached(network).items():
        entry = network.lists[name]
        if not places and name not in used:
            problems.add(
                "idle.unattached",
                entry.mark,
                f"list '{name}' is attached to no interface: no packet is compared with it.",
                "Attach it: filter: {arriving: " + name + "} at an interface, or remove it.",
                WARN,
            )
        elif not entry.rules and places:
            where = ", ".join(f"{d}/{i}" for d, i, _ in places)
            problems.add(
                "list.empty",
                entry.mark,
                f"list '{name}' has no rule, and is attached at {where}: what it does follows from the setting empty-list.",
                "Write its rules.",
                WARN,
            )
        active = [r for r in entry.rules if not r.disabled]
        if active and all(r.verdict in (Verdict.DENY, Verdict.REJECT) for r in active) and places:
            ends = {network.devices[d].settings.end_of_list for d, _, _ in places}
            if EndOfList.PERMIT not in ends:
                problems.add(
                    "list.only-denies",
                    entry.mark,
                    f"list '{name}' has only denies, and its end denies the rest: nothing passes.",
                    "Add {permit: any} at the end if the rest is meant to pass.",
                    WARN,
                )
        for rule in entry.rules:
            if rule.disabled:
                problems.add("idle.disabled", rule.mark, f"rule {rule.id} of '{name}' is disabled and passed over.", "", NOTE)


def _terms(network: Network) -> Iterator[Term]:
    for entry in network.lists.values():
        for rule in entry.rules:
            yield from rule.sources or ()
            yield from rule.destinations or ()
    for device in network.devices.values():
        for translate in device.translate:
            yield from translate.sources or ()
            yield from translate.destinations or ()
    for group in network.groups.values():
        yield from group.terms


def _unused(network: Network, problems: Problems) -> None:
    named = {t.words for t in _terms(network)}
    for group in network.groups.values():
        if group.name not in named:
            problems.add("idle.unused", group.mark, f"group '{group.name}' is named by no rule.", "Use it or remove it.", NOTE)
    words = {w for entry in network.lists.values() for r in entry.rules for w in r.service_words.split(", ")}
    words |= {s.words for d in network.devices.values() for s in d.serves}
    words |= {s.words for d in network.devices.values() for f in d.far_hosts.values() for s in f.serves}
    for service in network.services.values():
        if service.name not in words:
            problems.add(
                "idle.unused",
                service.mark,
                f"service '{service.name}' is named by no rule and no device.",
                "Use it or remove it.",
                NOTE,
            )


def _device(device: Device, members: set[tuple[str, str]], problems: Problems) -> None:
    if device.kind is Kind.SWITCH:
        for port in device.interfaces.values():
            if port.arriving_list or port.leaving_list:
                problems.add(
                    "switch.list",
                    port.arriving_mark if port.arriving_list else port.leaving_mark,
                    f"{device.name} is a switch and only bridges: no list is examined there.",
                    "Attach the list to the router or firewall that the packets pass.",
                )
        return
    used = {(device.name, i.parent) for i in device.interfaces.values() if i.parent}
    plugged = [i for i in device.interfaces.values() if (device.name, i.name) in members]
    for interface in device.interfaces.values():
        here = (device.name, interface.name)
        virtual = interface.loopback or interface.parent or (interface.vlan is not None)
        if here not in members and here not in used and not virtual and interface.addresses:
            problems.add(
                "interface.alone",
                interface.mark,
                f"{device.name}/{interface.name} is on no segment: nobody can be reached by it.",
                f"Name {device.name}/{interface.name} in a segment.",
                WARN,
            )
    if not plugged and device.interfaces:
        problems.add(
            "device.alone", device.mark, f"{device.name} is connected to nothing.", "Name one of its interfaces in a segment.", WARN
        )
    if not device.interfaces:
        problems.add("device.alone", device.mark, f"{device.name} has no interface.", "Give it one.", WARN)
    if (
        device.kind is Kind.HOST
        and not any(r.origin == "gateway" or r.prefix.is_default for r in device.routes)
        and not any(i.leased for i in device.interfaces.values())
    ):
        problems.add(
            "host.no-gateway",
            device.mark,
            f"{device.name} has no gateway: it reaches its own subnet and nothing else.",
            "Add gateway: ADDRESS.",
            WARN,
        )
    own = [a.prefix for i in device.interfaces.values() for a in i.addresses]
    for route in device.routes:
        hop = route.next_hop
        if hop is None or any(i.leased for i in device.interfaces.values()):
            continue
        if any(hop == a.address for i in device.interfaces.values() for a in i.addresses if not hop.is_link_local):
            problems.add(
                "route.self",
                route.mark,
                f"the {_route(route.origin)} {hop} is {device.name} itself.",
                "Name the neighbour's address.",
                WARN,
            )
        elif hop.is_link_local and hop.family == 6:
            continue
        elif not any(prefix.holds(hop) for prefix in own):
            if route.origin == "gateway":
                problems.add(
                    "host.gateway-elsewhere",
                    route.mark,
                    f"gateway {hop} is on no subnet of {device.name} ({', '.join(map(str, own)) or 'it has none'}): nothing beyond them can be reached.",
                    "Use an address of the host's own subnet.",
                    WARN,
                )
            elif not any(r.prefix.holds(hop) and r is not route and not r.prefix.is_default for r in device.routes) and not (
                device.ospf or device.rip
            ):
                problems.add(
                    "route.next-hop-elsewhere",
                    route.mark,
                    f"next hop {hop} is on no subnet of {device.name}: the route is inactive.",
                    "Use an address of a connected subnet.",
                    WARN,
                )


def _route(origin: str) -> str:
    return "gateway" if origin == "gateway" else "next hop"


def _addresses(network: Network, problems: Problems) -> None:
    seen: dict[Address, list[tuple[str, str, Mark]]] = defaultdict(list)
    for device in network.devices.values():
        for interface in device.interfaces.values():
            for entry in interface.addresses:
                if not (entry.address.family == 6 and entry.address.is_link_local):
                    seen[entry.address].append((device.name, interface.name, interface.mark))
    for address, places in seen.items():
        if len(places) > 1:
            first, *others = places
            for name, port, mark in others:
                problems.add(
                    "address.duplicate",
                    mark,
                    f"{address} is borne by {first[0]}/{first[1]} and by {name}/{port}: which of them answers is chance.",
                    "Give one of them another address.",
                    WARN,
                    also=((first[2], "the other one"),),
                )
