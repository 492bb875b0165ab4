"""Whether answers get home: subnets whose packets get somewhere that has no way back to them.

What is translated as it leaves needs no way back beyond that: its answers come to the device that translated it, which then
needs one itself.
"""

from __future__ import annotations

from collections.abc import Sequence

from mossy_compass.headers.spans import intersect
from mossy_compass.marks import Mark, Problems, Severity
from mossy_compass.model.network import Becomes, Device, Kind, Protects, RouteAction, Translate
from mossy_compass.packet.address import BITS, Address, Prefix
from mossy_compass.routing.compute import Routing
from mossy_compass.routing.domains import Domain, holders

WARN = Severity.WARNING


def no_way_back(routing: Routing, problems: Problems) -> None:
    """Subnets with hosts whose packets get to a router that cannot send the answers home."""
    hiding = _Hiding(routing)
    devices = [d for d in routing.network.devices.values() if d.layer3]
    onward = {family: {d.name: _onward(routing, d, family) for d in devices} for family in (4, 6)}
    for domain in routing.domains.domains:
        hosts = [(p, e) for p, _, e in holders(routing.network, domain) if routing.network.devices[p[0]].kind is Kind.HOST]
        if not hosts:
            continue
        for port, interface, entry in holders(routing.network, domain):
            device = routing.network.devices[port[0]]
            if not device.settings.forwarding:
                continue
            inside = [e for _, e in hosts if entry.prefix.holds(e.address)]
            if inside:
                for name in _lacking(routing, hiding, onward[entry.prefix.family], port[0], entry.prefix, inside[0].address):
                    problems.add(
                        "subnet.no-way-back",
                        interface.mark,
                        f"{entry.prefix} ({'/'.join(port)}) has no way back: its packets may get to {name}, which has no route to it, so answers are lost there.",
                        f"Add a route to {entry.prefix} at {name}, or translate its sources before they leave.",
                        WARN,
                    )


def no_route_in(routing: Routing, problems: Problems) -> None:
    """Devices that translate a subnet's sources on the way out, and would send the answers out again for want of a route.

    The answers come back to the translated address, are put back, and then there is no route inside but the default.
    """
    hiding = _Hiding(routing)
    for domain in routing.domains.domains:
        for port, interface, entry in holders(routing.network, domain):
            router = routing.network.devices[port[0]]
            if router.kind is Kind.HOST or not router.settings.forwarding or entry.length == BITS[entry.address.family]:
                continue
            hosts = [
                e
                for p, _, e in holders(routing.network, domain)
                if routing.network.devices[p[0]].kind is Kind.HOST and entry.prefix.holds(e.address)
            ]
            if hosts:
                for name, leaving in _translators(routing, hiding, port[0], entry.prefix):
                    _back_inside(routing, name, leaving, entry.prefix, hosts[0].address, interface.mark, problems)


def _translators(routing: Routing, hiding: _Hiding, start: str, subnet: Prefix) -> list[tuple[str, str]]:
    """The devices that a subnet's packets may get to and that translate it as they leave, each with the interface."""
    seen, out = {start}, []
    queue: list[tuple[str, Domain | None]] = [(start, None)]
    while queue:
        name, came_over = queue.pop(0)
        device = routing.network.devices[name]
        for leaving, other in sorted(_onward(routing, device, subnet.family)):
            domain = routing.domains.of(name, leaving)
            if domain is came_over:  # back where it came from: nobody is asked to go that way
                continue
            if hiding.some_of(device, leaving, subnet):
                out.append((name, leaving))
            if hiding.all_of(device, leaving, other, subnet):
                continue
            if other not in seen and routing.network.devices[other].settings.forwarding:
                seen.add(other)
                queue.append((other, domain))
    return list(dict.fromkeys(out))


def _back_inside(
    routing: Routing, name: str, leaving: str, subnet: Prefix, sample: Address, where: Mark, problems: Problems
) -> None:
    """A translating firewall without a route back to a subnet whose packets it takes."""
    route = routing.table(name).lookup(sample)
    if route is not None and not route.prefix.is_default and leaving not in {h.interface for h in route.hops}:
        return
    if route is not None and leaving not in {h.interface for h in route.hops}:
        return  # a default route that leads inside is a route back
    device = routing.network.devices[name]
    mark = next((t.mark for t in device.translate if t.of_source), device.mark)
    words = f"{name} translates {subnet} as it leaves by {leaving}, and has no route to {subnet} but what leads out again: answers do not get home."
    remedy = f"Add a route to {subnet} at {name}."
    problems.add("firewall.no-route-back", mark, words, remedy, WARN, also=((where, "the subnet"),))


def _onward(routing: Routing, device: Device, family: int) -> set[tuple[str, str]]:
    """The devices that a device sends packets of a family to, for others; each with the leaving interface."""
    out: set[tuple[str, str]] = set()
    for hop in routing.table(device.name).onward(family):
        domain = routing.domains.of(device.name, hop.interface)
        if domain is None or device.interfaces[hop.interface].tunnel is not None:
            continue  # into a tunnel goes what is led there alone, and not what its other end would send elsewhere
        if hop.address is not None:
            out |= {(hop.interface, a.device) for a in routing.domains.answers(domain, hop.address)}
        else:
            out |= {(hop.interface, name) for name, _ in domain.members}
    return {(i, n) for i, n in out if n != device.name}


def _lacking(
    routing: Routing, hiding: _Hiding, onward: dict[str, set[tuple[str, str]]], start: str, subnet: Prefix, sample: Address
) -> list[str]:
    """The devices on the way back that lack the route; none when the way is whole."""
    seen = {start}
    queue, lacking = [start], []
    while queue:
        here = queue.pop(0)
        for interface, name in sorted(onward[here]):
            device = routing.network.devices[name]
            if name in seen or hiding.all_of(routing.network.devices[here], interface, name, subnet):
                continue
            seen.add(name)
            if not device.settings.forwarding:
                continue
            route = routing.table(name).lookup(sample)
            if route is None or route.action is not RouteAction.FORWARD:
                lacking.append(name)
            else:
                queue.append(name)
    return lacking


class _Hiding:
    """Which packets of a subnet a device hides behind itself as they leave (RFC 3022): all of them, some, or none."""

    def __init__(self, routing: Routing) -> None:
        self._routing = routing
        self._owned = tuple(routing.network.owners())
        self._goals: dict[tuple[str, str, str, int], tuple[Address, ...]] = {}

    def all_of(self, device: Device, leaving: str, onto: str, subnet: Prefix) -> bool:
        """Whether whatever the subnet sends out by an interface, to anybody who could answer there, is hidden.

        Args:
            device: who may hide it.
            leaving: its interface.
            onto: the device that is next there.
            subnet: the sources.

        """
        rules = _rules(device, leaving, subnet)
        if all(r.destinations is None for r in rules):
            return _hidden(rules, subnet, None)
        # A rule may be about some destinations alone, such as all that are outside: what counts is who there could answer.
        return all(_hidden(rules, subnet, goal) for goal in self._beyond(device, leaving, onto, subnet.family))

    def some_of(self, device: Device, leaving: str, subnet: Prefix) -> bool:
        """Whether a rule hides the whole subnet as it leaves by an interface, be it on the way to some destinations alone."""
        return any(
            r.becomes is not Becomes.EXEMPT and r.services is None and _covers(r, subnet) for r in _rules(device, leaving, subnet)
        )

    def _beyond(self, device: Device, leaving: str, onto: str, family: int) -> tuple[Address, ...]:
        """The addresses that somebody has, that leave by an interface and that the device next there can deliver or pass on."""
        key = (device.name, leaving, onto, family)
        if key not in self._goals:
            self._goals[key] = tuple(
                a
                for a in self._owned
                if a.family == family and not _tunnelled(device, leaving, a) and self._leads(device, leaving, onto, a)
            )
        return self._goals[key]

    def _leads(self, device: Device, leaving: str, onto: str, goal: Address) -> bool:
        route = self._routing.table(device.name).lookup(goal)
        if route is None or route.action is not RouteAction.FORWARD or leaving not in {h.interface for h in route.hops}:
            return False
        if any(goal in far.addresses for far in self._routing.network.devices[onto].far_hosts.values()):
            return True
        then = self._routing.table(onto).lookup(goal)
        return then is not None and then.action in (RouteAction.FORWARD, RouteAction.LOCAL)


def _rules(device: Device, leaving: str, subnet: Prefix) -> list[Translate]:
    """The rules about sources that are asked of a subnet's packets as they leave by an interface, at any time."""
    return [
        rule
        for rule in device.translate
        if rule.of_source
        and not rule.disabled
        and rule.hours is None
        and rule.family == subnet.family
        and leaving in _leaving(device, rule)
    ]


def _hidden(rules: Sequence[Translate], subnet: Prefix, goal: Address | None) -> bool:
    """Whether the rules hide a whole subnet on the way to an address; None for one that no rule names."""
    for rule in rules:
        if rule.destinations is not None and (goal is None or not any(t.holds(goal) for t in rule.destinations)):
            continue
        if rule.services is not None:  # of some services alone: the others go on to the next rule
            continue
        if rule.becomes is Becomes.EXEMPT:
            if rule.arriving is None and _meets(rule, subnet):
                return False
        elif _covers(rule, subnet):
            return True
    return False


def _tunnelled(device: Device, leaving: str, goal: Address) -> bool:
    """Whether what leaves by an interface for an address goes into a tunnel instead, for a selector says so."""
    ends = (i.tunnel for i in device.interfaces.values() if i.tunnel is not None and i.tunnel.by == leaving)
    selectors = (s for tunnel in ends for s in tunnel.selectors if s.does is Protects.PROTECT)
    return any(s.destinations is None or any(t.holds(goal) for t in s.destinations) for s in selectors)


def _leaving(device: Device, rule: Translate) -> set[str]:
    """The interfaces that a rule's ``leaving`` stands for; all when it names none."""
    if rule.leaving is None:
        return set(device.interfaces)
    zones = {i.name for i in device.interfaces.values() if i.zone in rule.leaving}
    groups = {m for name in rule.leaving for m in device.uplinks.get(name, ())}
    return zones | groups | set(rule.leaving)


def _covers(rule: Translate, subnet: Prefix) -> bool:
    """Whether a rule is about every source of a subnet."""
    if rule.sources is None:
        return True
    return any(t.spans and intersect((subnet.span,), t.spans) == (subnet.span,) for t in rule.sources)


def _meets(rule: Translate, subnet: Prefix) -> bool:
    """Whether a rule is about any source of a subnet."""
    return rule.sources is None or any(t.spans and intersect((subnet.span,), t.spans) for t in rule.sources)
