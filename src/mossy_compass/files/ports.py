"""Interfaces and segments into the model: what is plugged where.

An interface may be written short, as an address, or long. Every member of a segment must be
an interface that exists, and an interface is on one segment: it has one socket. VLANs are
checked where the tagged ends meet, since one side alone is never wrong.
"""

from __future__ import annotations

from collections.abc import Mapping

from mossy_compass.files.context import Context
from mossy_compass.files.names import inspected_protocols, term, term_list
from mossy_compass.files.schema import DeviceIn, InterfaceIn
from mossy_compass.files.zones import known_lists, known_probe
from mossy_compass.headers.spans import merge
from mossy_compass.marks import Mark, hint
from mossy_compass.model.network import Device, Inspects, Interface, Link, OspfPort, PortState, Protects, Segment, Selector, Tunnel
from mossy_compass.packet.address import Address, from_key
from mossy_compass.packet.wrapping import Wrapping, inner_mtu

Path = tuple[str, ...]


def interface(ctx: Context, device: str, name: str, entry: InterfaceIn, whole: DeviceIn) -> Interface:
    """One interface, with the faults of its VLAN and its lists noted."""
    path: Path = ("devices", device, "interfaces", name)
    _vlan_faults(ctx, path, entry, whole)
    tunnel = _tunnel(ctx, path, entry, whole)
    marks: dict[str, Mark] = {}
    for way in ("arriving", "leaving"):
        marks[way] = ctx.spot(*path, "filter", way)
        known_lists(ctx, getattr(entry.filter, way), (*path, "filter", way))
    return Interface(
        name=name,
        mark=ctx.mark(*path),
        addresses=tuple(entry.address),
        zone=entry.zone,
        about=entry.about,
        state=PortState(entry.state),
        mtu=entry.mtu if entry.mtu is not None else _mtu_of(tunnel, whole),
        tunnel=tunnel,
        arriving_lists=tuple(entry.filter.arriving or ()),
        leaving_lists=tuple(entry.filter.leaving or ()),
        arriving_mark=marks["arriving"],
        leaving_mark=marks["leaving"],
        parent=entry.parent,
        vlan=entry.vlan,
        access_vlan=entry.untagged,
        trunk_vlans=tuple(entry.tagged),
        loopback=entry.loopback,
        answers_for=merge(s for b in entry.answers_for for s in b.spans),
        leased=entry.leased,
        ospf=_ospf_port(ctx, path, entry),
        rip=entry.rip,
        outside=entry.outside,
        inspects=_inspects(ctx, (*path, "stateful"), entry),
    )


MOST = 1500
"""The longest packet of a port, in bytes, where nothing else is said."""


def _mtu_of(tunnel: Tunnel | None, device: DeviceIn) -> int:
    """How long a packet may be where nothing says so: of a tunnel as its outer packets have room."""
    if tunnel is None:
        return MOST
    below = device.interfaces.get(tunnel.by)
    return inner_mtu(tunnel.kind, tunnel.to.family, (below.mtu if below is not None else None) or MOST)


def _tunnel(ctx: Context, path: Path, entry: InterfaceIn, device: DeviceIn) -> Tunnel | None:
    """What makes an interface a tunnel; None where it is none, or where that is faulty, and noted."""
    said = entry.tunnel
    if said is None:
        return None
    here: Path = (*path, "tunnel")
    name, mark = path[3], ctx.spot(*here)
    if device.kind == "switch":
        ctx.fault("tunnel.port", mark, "a switch only bridges, and ends no tunnel.", "Make it a router.")
    if any((entry.parent, entry.vlan, entry.untagged, entry.tagged, entry.loopback, entry.leased)):
        ctx.fault(
            "tunnel.port", mark, f"{name} is a tunnel: it has no VLAN, no lease, and is no loopback.", "Remove one of the two."
        )
    below = device.interfaces.get(said.by)
    if below is None:
        ctx.unknown_port(path[1], said.by, ctx.spot(*here, "by"), device.interfaces)
    elif below.tunnel is not None and said.by == name:
        ctx.fault("tunnel.self", ctx.spot(*here, "by"), f"{name} would travel within itself.", "Name the interface below it.")
    known_probe(ctx, path[1], device, said.while_, (*here, "while"), resorts=False)
    target = one_address(ctx, said.to, ctx.spot(*here, "to"), "tunnel.end", "a tunnel has one other end")
    if target is None:
        return None
    if any(a.address == target for i in device.interfaces.values() for a in i.address):
        words = f"{target} is {path[1]} itself: a tunnel has its other end elsewhere."
        ctx.fault("tunnel.self", ctx.spot(*here, "to"), words, "Name the address of the other end.")
    selectors = tuple(
        Selector(
            Protects(s.does),
            term_list(ctx, s.from_, (*here, "selectors", index, "from")),
            term_list(ctx, s.to, (*here, "selectors", index, "to")),
            ctx.spot(*here, "selectors", index),
        )
        for index, s in enumerate(said.selectors)
    )
    exchanged = said.keys_ == "exchanged"
    if exchanged and said.kind != Wrapping.ESP:
        words = f"{name} exchanges keys, and {said.kind} has none."
        ctx.fault("tunnel.keys", ctx.spot(*here, "keys"), words, "Make it kind: esp, or leave keys out.")
    if said.proposals and not exchanged:
        words = f"{name} has proposals, and exchanges no keys: nobody asks for them."
        ctx.fault("tunnel.keys", ctx.spot(*here, "proposals"), words, "Write keys: exchanged, or leave proposals out.")
    if said.df == "clear" and said.kind == Wrapping.VXLAN:
        words = f"{name} is vxlan, whose ends divide nothing (RFC 7348 section 4.3)."
        ctx.fault("tunnel.df", ctx.spot(*here, "df"), words, "Leave df out, and let the cables below have room.")
    return Tunnel(
        to=target,
        words=said.to,
        by=said.by,
        kind=Wrapping(said.kind),
        mark=ctx.mark(*here),
        selectors=selectors,
        probe=said.while_ or "",
        exchanged=exchanged,
        proposals=tuple(said.proposals),
        divides=said.df == "clear",
    )


def one_address(ctx: Context, word: str, spot: Mark, code: str, why: str) -> Address | None:
    """The one address that a word stands for; of a host with both families its IPv4 one. None where that is faulty, and noted."""
    found = term(ctx, word, spot)
    if found is None:
        return None
    hosts = [from_key(s.first) for s in found.spans or () if s.first == s.last]
    first = sorted(hosts, key=lambda a: a.family)[:1]
    if not first or len(hosts) != len(found.spans or ()) or len({a.family for a in hosts}) != len(hosts):
        ctx.fault(code, spot, f"'{word}' is not one address: {why}.", "Name a host, or its address.")
        return None
    return first[0]


def _inspects(ctx: Context, path: Path, entry: InterfaceIn) -> Inspects | None:
    """The protocols that are inspected at an interface, by direction; without either of them it would say nothing."""
    said = entry.stateful
    if said is None:
        return None
    if said.arriving is None and said.leaving is None:
        words = "stateful: says neither arriving nor leaving."
        ctx.fault(
            "key.missing", ctx.spot(*path), words, "Write stateful: {arriving: [tcp, udp]}, or at the device stateful: [tcp, udp]."
        )
    sides = [inspected_protocols(ctx, getattr(said, way) or (), (*path, way)) for way in ("arriving", "leaving")]
    return Inspects(sides[0], sides[1], ctx.mark(*path))


def _ospf_port(ctx: Context, path: Path, entry: InterfaceIn) -> OspfPort | None:
    """How an interface takes part in OSPF: area, cost, intervals in seconds, type of link."""
    spoken = entry.ospf
    if spoken is None:
        return None
    return OspfPort(spoken.area, spoken.cost, spoken.passive, spoken.network == "point-to-point", ctx.mark(*path, "ospf"))


def _vlan_faults(ctx: Context, path: Path, entry: InterfaceIn, device: DeviceIn) -> None:
    """Combinations of VLAN keys that mean nothing (IEEE 802.1Q: a frame has one tag or none)."""
    mark, name = ctx.mark(*path), path[3]
    if entry.parent is not None:
        _sub_interface(ctx, path, entry, device)
    member, addressed = any((entry.untagged is not None, entry.tagged)), any((entry.address, entry.leased))
    if member and addressed:
        words = f"{name} is a member of a VLAN, so it has no address of its own."
        remedy = f"Give the address to an interface with vlan: {entry.untagged or entry.tagged[0]}."
        ctx.fault("vlan.member", mark, words, remedy)
    if entry.loopback and any((entry.parent, entry.vlan, member, entry.leased)):
        words = f"{name} is a loopback: it is on no segment and in no VLAN."
        ctx.fault("loopback.port", mark, words, "Remove one of the two.")
    if device.kind == "switch" and addressed:
        words = "a switch here only bridges and has no address."
        ctx.fault("switch.address", mark, words, "Make it a router with VLAN interfaces, or leave the address out.")


def _sub_interface(ctx: Context, path: Path, entry: InterfaceIn, device: DeviceIn) -> None:
    """A sub-interface: its parent must be there, must not be one itself, and the tag must be free on it."""
    mark, name, parent = ctx.mark(*path), path[3], entry.parent
    assert parent is not None
    if parent not in device.interfaces:
        ctx.unknown_port(path[1], parent, ctx.spot(*path, "parent"), device.interfaces)
    elif device.interfaces[parent].parent is not None or parent == name:
        words = f"{parent} is no physical port: a sub-interface has a port as its parent."
        ctx.fault("vlan.parent", mark, words, "Name the port.")
    if entry.vlan is None:
        ctx.fault("vlan.tag", mark, f"sub-interface {name} has no vlan.", "Add vlan: NUMBER.")
    for other, twin in device.interfaces.items():
        if other < name and twin.parent == parent and twin.vlan == entry.vlan and entry.vlan is not None:
            words = f"{name} and {other} are both the tag {entry.vlan} of {parent}: a frame belongs to one of them."
            ctx.fault(
                "vlan.twice", mark, words, "Give one of them another vlan.", also=((ctx.mark(*path[:3], other), "the other one"),)
            )


def segments(ctx: Context, devices: Mapping[str, Device]) -> dict[str, Segment]:
    """Every segment with its members; a port has one cable."""
    taken: dict[tuple[str, str], Mark] = {}
    out: dict[str, Segment] = {}
    for name, entry in ctx.doc.segments.items():
        members: list[tuple[str, str]] = []
        for index, word in enumerate(entry.members):
            mark = ctx.spot("segments", name, "members", index)
            member = _member(ctx, word, mark, devices)
            if member is None:
                continue
            if devices[member[0]].interfaces[member[1]].tunnel is not None:
                words = f"{'/'.join(member)} is a tunnel, which has no cable."
                ctx.fault("tunnel.port", mark, words, "Remove it here: its other end is the tunnel that names it.")
                continue
            if member in taken:
                words = f"{'/'.join(member)} is already on a segment, at line {taken[member].line}."
                ctx.fault("segment.twice", mark, words, "A port has one cable; remove one of the two.")
                continue
            taken[member] = mark
            members.append(member)
        link = Link(entry.latency, entry.jitter, entry.loss, entry.mtu)
        out[name] = Segment(name, tuple(members), ctx.mark("segments", name), link, entry.about, entry.state == "down")
    return out


def _member(ctx: Context, word: str, mark: Mark, devices: Mapping[str, Device]) -> tuple[str, str] | None:
    """``device/interface``, or the name alone of a device with one interface; None where it is faulty."""
    name, slash, port = word.partition("/")
    if name not in devices:
        if name not in ctx.written("devices"):
            device, colon, own = word.partition(":")
            if colon and device in devices:
                ctx.fault("device.unknown", mark, f"there is no device '{word}'.", f"Write {device}/{own}.")
                return None
            known = hint(name, ctx.written("devices"), "devices")
            ctx.fault("device.unknown", mark, f"there is no device '{name}'.", known)
        return None
    interfaces = devices[name].interfaces
    if slash:
        return None if ctx.unknown_port(name, port, mark, interfaces) else (name, port)
    if len(interfaces) == 1:
        return name, next(iter(interfaces))
    if name not in ctx.hurt:
        remedy = f"Say which: {name}/{next(iter(interfaces), 'INTERFACE')}."
        ctx.fault("interface.which", mark, f"{name} has {len(interfaces)} interfaces.", remedy)
    return None
