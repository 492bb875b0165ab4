"""Devices into the model: what each is, knows and does.

What a key means depends on the kind: a gateway is a host's default route, ports are a
switch's. A key that its kind cannot use is refused here, since a setting without effect is
what people search for longest.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from mossy_compass.files import ports
from mossy_compass.files.context import Context, Path
from mossy_compass.files.names import helper, inspected_protocols, service
from mossy_compass.files.processes import ospf, rip
from mossy_compass.files.schema import DeviceIn, MemberIn, RouteIn, UplinksIn
from mossy_compass.files.steering import policy_routes, translations
from mossy_compass.files.zones import gates, known_probe
from mossy_compass.marks import Mark, hint
from mossy_compass.model.durations import duration_words
from mossy_compass.model.network import (
    Choosing,
    Device,
    FarHost,
    GroupOfUplinks,
    Helper,
    Interface,
    Kind,
    LeasePool,
    Probe,
    RouteAction,
    Serves,
    StaticRoute,
)
from mossy_compass.model.settings import SETTINGS, settings_of
from mossy_compass.packet.address import Address, InterfaceAddress, Prefix, from_key
from mossy_compass.packet.service import TCP, UDP


def _a(kind: object) -> str:
    """A kind of device with its article."""
    return f"{'an' if str(kind)[:1] in 'aeiou' else 'a'} {kind}"


def device(ctx: Context, name: str, entry: DeviceIn) -> Device:
    """One device; its faults are noted."""
    base: Path = ("devices", name)
    kind = Kind(entry.kind)
    interfaces = _interfaces(ctx, name, entry, kind)
    stateful, stateful_mark = _stateful(ctx, name, entry, kind)
    return Device(
        name=name,
        kind=kind,
        mark=ctx.mark(*base),
        interfaces=interfaces,
        settings=settings_of(kind, _settings(ctx, name, entry)),
        routes=(*_gateways(ctx, name, entry, kind), *_routes(ctx, name, entry, interfaces)),
        stateful=stateful,
        stateful_mark=stateful_mark,
        translate=tuple(translations(ctx, name, entry, interfaces)),
        serves=_serves(ctx, entry.serves, (*base, "serves")),
        order=None if entry.order is None else tuple(entry.order),
        order_mark=ctx.spot(*base, "order") if entry.order is not None else None,
        policy_routes=tuple(policy_routes(ctx, name, entry, interfaces)),
        about=entry.about,
        zone=entry.zone,
        far_hosts=_far_hosts(ctx, name, entry, kind),
        records={n: tuple(a) for n, a in entry.records.items()} if entry.records is not None else None,
        resolvers=tuple(entry.resolvers),
        resolvers_mark=ctx.spot(*base, "resolvers"),
        groups=_uplinks(ctx, name, entry, interfaces),
        member_hops={(g, m.leaving): tuple(m.next_hop) for g, said in entry.uplinks.items() for m in _ports_of(said) if m.next_hop},
        member_probes={
            (g, m.leaving): m.while_ for g, said in entry.uplinks.items() for m in _ports_of(said) if m.while_ is not None
        },
        probes=_probes(ctx, name, entry, interfaces),
        ospf=ospf(ctx, name, entry, interfaces),
        rip=rip(ctx, name, entry, interfaces),
        leases=tuple(_leases(ctx, name, entry, interfaces)),
        gates=gates(ctx, name, entry, interfaces),
        helpers=_helpers(ctx, name, entry),
    )


def _helpers(ctx: Context, name: str, entry: DeviceIn) -> tuple[Helper, ...]:
    """The services whose second channels a device reads of, each once."""
    found = (helper(ctx, word, ctx.spot("devices", name, "helpers", n)) for n, word in enumerate(entry.helpers))
    return tuple({h.name: h for h in found if h is not None}.values())


def _interfaces(ctx: Context, name: str, entry: DeviceIn, kind: Kind) -> dict[str, Interface]:
    """The interfaces, with the ports of a switch and the one interface of a simple host."""
    base: Path = ("devices", name)
    out = {n: ports.interface(ctx, name, n, i, entry) for n, i in entry.interfaces.items()}
    if entry.ports and kind is not Kind.SWITCH:
        words = f"ports: is for a switch; {_a(kind)} has interfaces."
        ctx.fault("device.kind", ctx.mark(*base, "ports"), words, "Write interfaces:.")
    for index, port in enumerate(entry.ports):
        out.setdefault(port, Interface(port, ctx.spot(*base, "ports", index)))
    if entry.address is None and not entry.leased:
        return out
    mark = ctx.mark(*base, "address" if entry.address is not None else "leased")
    _short_form(ctx, kind, bool(out), mark)
    out.setdefault("nic", Interface("nic", mark, tuple(entry.address or ()), leased=entry.leased))
    return out


def _short_form(ctx: Context, kind: Kind, has_interfaces: bool, mark: Mark) -> None:
    """Refuse an address beside the name of what is no simple host: which interface would have it?"""
    if kind is not Kind.HOST:
        words = f"{_a(kind)} has interfaces, and each has its address."
        ctx.fault("device.kind", mark, words, "Write interfaces: {NAME: ADDRESS/LENGTH}.")
    elif has_interfaces:
        ctx.fault("device.kind", mark, "a host has either address: or interfaces:, not both.", "Remove one.")


def _gateways(ctx: Context, name: str, entry: DeviceIn, kind: Kind) -> Iterator[StaticRoute]:
    """A host's gateways, as default routes."""
    for index, address in enumerate(entry.gateway or []):
        if kind is not Kind.HOST:
            words = f"{_a(kind)} has routes:, not a gateway."
            remedy = "Write routes: [{prefix: default, next-hop: ADDRESS}]."
            ctx.fault("device.kind", ctx.mark("devices", name, "gateway"), words, remedy)
        mark = ctx.spot("devices", name, "gateway", index)
        yield StaticRoute(Prefix(address.family, 0, 0), mark, address, origin="gateway")


def _routes(ctx: Context, name: str, entry: DeviceIn, interfaces: Mapping[str, Interface]) -> Iterator[StaticRoute]:
    """The static routes of a device, next hops checked against what its interfaces can reach."""
    for index, route in enumerate(entry.routes):
        path: Path = ("devices", name, "routes", index)
        mark = ctx.spot(*path)
        if route.leaving is not None:
            ctx.unknown_port(name, route.leaving, ctx.spot(*path, "leaving"), {*interfaces, *entry.uplinks})
        _route_faults(ctx, route, entry, mark, name in ctx.hurt)
        yield StaticRoute(
            _prefix(ctx, route, path),
            mark,
            route.next_hop,
            route.leaving,
            route.preference,
            route.metric,
            route.table,
            RouteAction(route.action),
            route.about,
            probe=route.while_ or "",
        )
        known_probe(ctx, name, entry, route.while_, (*path, "while"))


def _next_hop_faults(ctx: Context, route: RouteIn, entry: DeviceIn, mark: Mark) -> None:
    """Next hops that no router has, or that a group of uplinks does without."""
    if route.next_hop is None:
        return
    if route.leaving in entry.uplinks:
        words = f"a route by the group {route.leaving} has no next-hop: each member has its own."
        ctx.fault("route.group", mark, words, "Remove next-hop, or write a route for each member.")


def _route_faults(ctx: Context, route: RouteIn, entry: DeviceIn, mark: Mark, hurt: bool) -> None:
    """Keys of a route that contradict one another."""
    forwards = route.action == "forward"
    _prefix_faults(ctx, route, mark)
    _next_hop_faults(ctx, route, entry, mark)
    if not forwards and (route.next_hop or route.leaving):
        words = f"a route that says {route.action} goes nowhere: its next-hop and leaving have no effect."
        ctx.fault("route.action", mark, words, "Remove them, or remove the action.")
    if route.action == "leave-table" and route.table == "main":
        words = "leave-table is for a named table: after the main one nothing is asked."
        ctx.fault("route.action", mark, words, "Name a table, or write unreachable.")
    if forwards and route.next_hop is None and route.leaving is None and not hurt:
        ctx.fault("route.nowhere", mark, "the route says neither next-hop nor leaving.", "Add next-hop: ADDRESS.")
    if forwards and not (route.next_hop and route.next_hop.special) and _adrift(route, entry):
        words = (
            f"next hop {route.next_hop} is link-local: it means a neighbour on one segment, and the route does not say on which."
        )
        ctx.fault("route.link-local", mark, words, "Add leaving: INTERFACE.")


def _prefix_faults(ctx: Context, route: RouteIn, mark: Mark) -> None:
    """Destinations that no router routes: multicast and loopback (RFC 1812 section 5.3.7, RFC 4291 section 2.5.3)."""
    special = Address(route.prefix.family, route.prefix.value).special if route.prefix.length >= 4 else ""
    if "multicast" in special or "loopback" in special:
        ctx.fault("route.prefix", mark, f"{route.prefix} is {special}: no unicast route leads there.", "Remove the route.")


def _adrift(route: RouteIn, entry: DeviceIn) -> bool:
    """True for an IPv6 link-local next hop that does not say on which of several segments it is."""
    hop = route.next_hop
    return hop is not None and hop.family == 6 and hop.is_link_local and route.leaving is None and len(entry.interfaces) > 1


def _prefix(ctx: Context, route: RouteIn, path: Path) -> Prefix:
    """The prefix; ``default`` alone is of the next hop's family."""
    prefix, hop = route.prefix, route.next_hop
    if hop is not None and hop.family != prefix.family:
        if str(ctx.live.at(*path, "prefix").value) == "default":
            return Prefix(hop.family, 0, 0)
        words = f"{hop} is IPv{hop.family}, the prefix {prefix} is IPv{prefix.family}."
        ctx.fault("route.family", ctx.spot(*path, "next-hop"), words, "Use a next hop of the same family.")
    return prefix


def _far_hosts(ctx: Context, name: str, entry: DeviceIn, kind: Kind) -> dict[str, FarHost]:
    """Hosts behind a stand-in for the Internet: they have no cable, so only a stand-in may have them."""
    if entry.hosts and kind is not Kind.INTERNET:
        words = f"hosts: is for a device of kind internet, and {name} is {_a(kind)}."
        ctx.fault("device.kind", ctx.mark("devices", name, "hosts"), words, "Write the hosts as devices of their own.")
    out = {}
    for word, far in entry.hosts.items():
        path: Path = ("devices", name, "hosts", word)
        mark = ctx.mark(*path)
        elsewhere = [d for d, e in ctx.doc.devices.items() if d != name and word in e.hosts]
        if word in ctx.doc.devices or (elsewhere and elsewhere[0] < name):
            ctx.fault("name.twice", mark, f"'{word}' is also a device, or another far host.", "Choose another name.")
        out[word] = FarHost(word, tuple(far.address), _serves(ctx, far.serves, (*path, "serves")), mark, far.silent)
    return out


def _ports_of(said: UplinksIn) -> tuple[MemberIn, ...]:
    """The members of a group as written, with the last resort at the end."""
    return (*said.members, *([said.last_resort] if said.last_resort is not None else []))


def _uplinks(ctx: Context, name: str, entry: DeviceIn, interfaces: Mapping[str, Interface]) -> dict[str, GroupOfUplinks]:
    """The groups of uplinks of a device; every member must be an interface of it, and only once."""
    out: dict[str, GroupOfUplinks] = {}
    for group, said in entry.uplinks.items():
        path: Path = ("devices", name, "uplinks", group)
        listed = isinstance(ctx.live.at(*path).value, list)
        if group in interfaces:
            words = f"'{group}' is both a group and an interface of {name}."
            ctx.fault("name.twice", ctx.mark(*path), words, "Choose another name.")
        ports = [m.leaving for m in _ports_of(said)]
        for index, member in enumerate(_ports_of(said)):
            at: Path = (*path, "last-resort") if index == len(said.members) else (*path, *(() if listed else ("members",)), index)
            ctx.unknown_port(name, member.leaving, ctx.spot(*at), interfaces)
            if member.leaving in ports[:index]:
                words = f"{member.leaving} is in the group {group} twice: it would get a double share."
                if index == len(said.members):
                    words = f"{member.leaving} is a member of the group {group} and its last resort."
                ctx.fault("uplink.twice", ctx.spot(*at), words, "Remove one of the two.")
            if len({a.family for a in member.next_hop}) != len(member.next_hop):
                words = f"{member.leaving} has two next hops of one family in the group {group}."
                ctx.fault("uplink.choose", ctx.spot(*at), words, "Name one of each family.")
            known_probe(ctx, name, entry, member.while_, (*at, "while"), resorts=False)
        _choosing_faults(ctx, said, path)
        last = said.last_resort.leaving if said.last_resort is not None else ""
        out[group] = GroupOfUplinks(
            group,
            ctx.mark(*path),
            tuple(m.leaving for m in said.members if m.leaving in interfaces),
            Choosing(said.choose),
            said.by or "",
            last if last in interfaces else "",
        )
    return out


def _choosing_faults(ctx: Context, said: UplinksIn, path: Path) -> None:
    """The best member needs something that it is the best by, and a probe of each that measures it."""
    best = said.choose == "best"
    if best and said.by is None:
        ctx.fault(
            "uplink.choose", ctx.spot(*path, "choose"), "choose: best does not say by what.", "Add by: latency, jitter or loss."
        )
    if not best and said.by is not None:
        words = f"by: is what the best one is found by, and choose is {said.choose}."
        ctx.fault("uplink.choose", ctx.spot(*path, "by"), words, "Write choose: best, or leave by out.")
    for member in said.members if best else ():
        if member.while_ is None:
            words = f"nothing measures {member.leaving}, so it could never be the best."
            ctx.fault("uplink.choose", ctx.spot(*path), words, f"Write {{leaving: {member.leaving}, while: PROBE}}.")


def _probes(ctx: Context, name: str, entry: DeviceIn, interfaces: Mapping[str, Interface]) -> dict[str, Probe]:
    """The probes of a device: whom each asks must have one address, by a way that the device has."""
    out: dict[str, Probe] = {}
    for word, said in entry.probes.items():
        path: Path = ("devices", name, "probes", word)
        if said.by is not None:
            ctx.unknown_port(name, said.by, ctx.spot(*path, "by"), interfaces)
        if said.service != "ping":
            service(ctx, said.service, ctx.spot(*path, "service"))
        target = ports.one_address(ctx, said.target, ctx.spot(*path, "target"), "probe.target", "a probe asks one host")
        if said.reply_within > said.every:
            words = f"an answer may take {duration_words(said.reply_within)}, and the next question comes after {duration_words(said.every)}."
            ctx.fault("probe.time", ctx.spot(*path, "reply-within"), words, "Make reply-within no longer than every.")
        if target is not None and any(a.address == target for p in interfaces.values() for a in p.addresses):
            words = f"{target} is {name} itself: it always answers itself, so the probe would show nothing."
            ctx.fault("probe.target", ctx.spot(*path, "target"), words, "Ask somebody behind what is to be watched.")
        if target is not None:
            limits = said.latency, said.jitter, said.loss
            times = said.every, said.reply_within, said.down_after, said.up_after
            out[word] = Probe(
                word, ctx.mark(*path), target, said.target, said.service, said.by, *times, *limits, said.enabled, said.about
            )
    return out


def _leases(ctx: Context, name: str, entry: DeviceIn, interfaces: Mapping[str, Interface]) -> Iterator[LeasePool]:
    """The pools that a device leases addresses from, each on the interface whose segment it serves."""
    for port, pool in entry.leases.items():
        path: Path = ("devices", name, "leases", port)
        mark = ctx.mark(*path)
        ctx.unknown_port(name, port, mark, interfaces)
        if len(pool.range.spans) != 1 or port not in interfaces:
            continue
        first, last = (from_key(k) for k in pool.range.spans[0])
        own = next((a for a in interfaces[port].addresses if a.prefix.holds(first) and a.prefix.holds(last)), None)
        if own is None or _holds_an_end(own, first, last):
            words = f"the range {pool.range.text} is not within a subnet of {name}/{port}"
            if own is not None:
                words = f"the range {pool.range.text} holds the subnet's own or broadcast address, which no host can have"
            ctx.fault(
                "lease.range", ctx.spot(*path, "range"), f"{words}.", "Give addresses of hosts in the interface's own subnet."
            )
            continue
        yield LeasePool(port, first, last, pool.gateway or own.address, tuple(pool.resolvers), mark)


def _holds_an_end(own: InterfaceAddress, first: Address, last: Address) -> bool:
    """True where a range begins or ends with an address that no host has (RFC 1122 section 3.2.1.3)."""
    prefix = own.prefix
    return first.family == 4 and own.length < 31 and (first.value == prefix.value or last.value == prefix.span.last)


def _serves(ctx: Context, words: Iterable[str], path: Path) -> tuple[Serves, ...]:
    """What a host listens for: names of services, or protocol and port."""
    marked = [(word, ctx.spot(*path, index)) for index, word in enumerate(words)]
    return tuple(Serves(found, word, mark) for word, mark in marked for found in service(ctx, word, mark))


def _settings(ctx: Context, name: str, entry: DeviceIn) -> dict[str, tuple[str, Mark]]:
    """The settings that are written, where they are settings and have one of their values."""
    out: dict[str, tuple[str, Mark]] = {}
    for key, value in entry.settings.items():
        mark = ctx.mark("devices", name, "settings", key)
        if key not in SETTINGS:
            ctx.fault("setting.unknown", mark, f"there is no setting '{key}'.", hint(key, SETTINGS, "settings"))
        elif not SETTINGS[key].takes(value):
            spot = ctx.spot("devices", name, "settings", key)
            known = SETTINGS[key]
            remedy = f"It is {known.words}." if known.measure else hint(value, known.values, "values")
            ctx.fault("value.wrong", spot, f"'{value}' is not a value of {key}.", remedy)
        else:
            out[key] = (value, mark)
    return out


def _stateful(ctx: Context, name: str, entry: DeviceIn, kind: Kind) -> tuple[frozenset[int], Mark | None]:
    """The inspected protocols; a firewall inspects TCP and UDP when nothing is said."""
    if entry.stateful is None:
        usual = kind is Kind.FIREWALL and not any(i.stateful is not None for i in entry.interfaces.values())
        return frozenset((TCP, UDP) if usual else ()), None
    return inspected_protocols(ctx, entry.stateful, ("devices", name, "stateful")), ctx.mark("devices", name, "stateful")
