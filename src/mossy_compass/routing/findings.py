"""Findings that need the network computed: what the addresses, cables and routes come to together.

These are the faults that no single line of the file shows: two ends that disagree, a way
back that is missing, a route that never wins. Each names the line where it would be mended,
and the other lines that it follows from.
"""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from mossy_compass.errors import NotConverged
from mossy_compass.marks import Mark, Problem, Problems, Severity
from mossy_compass.model.goals import NEIGHBOURS, RESOLVERS, Goal, Sort, code, goals
from mossy_compass.model.network import Device, Interface, Kind, Network, Translate
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import BITS, Address, InterfaceAddress, Prefix, Span, in_spans
from mossy_compass.packet.service import UDP, WITH_PORTS, Service
from mossy_compass.routing.compute import Routing
from mossy_compass.routing.domains import Domain, Port, holders
from mossy_compass.routing.ospf import PASSIVE
from mossy_compass.routing.table import Loser
from mossy_compass.routing.way_back import no_route_in, no_way_back

WARN, NOTE = Severity.WARNING, Severity.NOTE
_SAID_BEFORE = ("host.gateway-elsewhere", "route.next-hop-elsewhere", "route.self", "interface.alone")


def findings(routing: Routing, before: Iterable[Problem] = (), lines: Mapping[str, list[str]] | None = None) -> tuple[Problem, ...]:
    """Every finding about a network that its computed state shows.

    Args:
        routing: the network, computed.
        before: what is known already, and is not said again.
        lines: the lines of the files that marks point into.

    """
    problems = Problems(dict(lines or {}))
    said = {p.mark for p in before if p.code in _SAID_BEFORE or p.code.startswith("address.")}
    _trunks(routing.network, problems)
    _segments(routing, problems)
    _overlaps(routing, problems)
    _leases(routing, problems)
    for device in routing.network.devices.values():
        _same_subnet(device, problems)
    if not _settles(routing, problems):
        return tuple(problems.in_order())
    _silent_pairs(routing, problems)
    _one_end(routing, problems)
    for device in routing.network.devices.values():
        _static(routing, device, problems, said)
    _goals(routing, problems, said)
    no_way_back(routing, problems)
    no_route_in(routing, problems)
    return tuple(problems.in_order())


def _settles(routing: Routing, problems: Problems) -> bool:
    """Whether routing has a stable state at all; that there are several is a finding of its own."""
    both = [d for d in routing.network.devices.values() if d.ospf and d.rip]
    mark = both[0].ospf.mark if both and both[0].ospf else routing.network.mark
    try:
        routing.settled()
    except NotConverged as fault:
        problems.add("route.not-converged", mark, str(fault).replace("\n", " "), "Redistribute in one direction only.")
        return False
    if routing.race:
        words = (
            "redistribution has more than one stable state, and nobody can say which of them comes about: "
            f"{'; then '.join(routing.race)}. The tables shown are those in which devices speak in the order of their names."
        )
        remedy = "Redistribute at one device only, or give the protocols preferences so that each keeps the route it had first."
        problems.add("route.race", mark, words, remedy, WARN)
    return True


def _segments(routing: Routing, problems: Problems) -> None:
    """What the interfaces on one segment do not agree on."""
    for domain in routing.domains.domains:
        held = list(holders(routing.network, domain))
        told: set[frozenset[Port]] = set()
        for one, two in itertools.combinations(held, 2):
            pair = frozenset((one[0], two[0]))
            if len(pair) == 2 and pair not in told and one[2].length != two[2].length and one[2].prefix.overlaps(two[2].prefix):
                told.add(pair)
                alike = [sum(e.length == x[2].length and e.prefix.overlaps(x[2].prefix) for _, _, e in held) for x in (one, two)]
                # the one that stands alone, and of two the host: a router's prefix is what others go by
                devices = routing.network.devices
                odd = [(n, devices[x[0][0]].kind is not Kind.HOST) for n, x in zip(alike, (one, two), strict=True)]
                (port, interface, entry), (other, there, second) = (one, two) if odd[0] <= odd[1] else (two, one)
                _mask(domain, port, interface, entry, other, second, there.mark, problems)
        _mtus(routing, domain, problems)
        _twice_link_local(routing, domain, problems)


def _mtus(routing: Routing, domain: Domain, problems: Problems) -> None:
    """Ends of a domain with different MTUs, in bytes: large packets vanish in one direction."""
    sizes: dict[int, list[tuple[str, Mark]]] = defaultdict(list)
    for name, port in domain.members:
        interface = routing.network.devices[name].interfaces[port]
        sizes[interface.mtu].append((f"{name}/{port}", interface.mark))
    if len(sizes) < 2:
        return
    low = min(sizes)
    rest = ", ".join(f"{n} {size}" for size in sorted(sizes) if size != low for n, _ in sizes[size][:3])
    words = (
        f"MTU {low} at {sizes[low][0][0]} and not at the others on segment {domain.name} ({rest}): "
        "large packets towards it are lost, and OSPF neighbours do not form."
    )
    problems.add("segment.mtu", sizes[low][0][1], words, "Give all of them the same mtu.", WARN)


def _twice_link_local(routing: Routing, domain: Domain, problems: Problems) -> None:
    """The same link-local address on two segments is two addresses; twice on one segment it is one that was given twice."""
    for address, answers in domain.owners.items():
        if address.family == 6 and address.is_link_local and len(answers) > 1:
            first, other = answers[:2]
            mark = routing.network.devices[other.device].interfaces[other.interface].mark
            words = (
                f"{address} is at {first.device}/{first.interface} and at {other.device}/{other.interface} on segment {domain.name}"
            )
            remedy = "Give one of them another link-local address."
            problems.add("address.duplicate", mark, f"{words}: nobody can say which of them answers.", remedy, WARN)


class Held(NamedTuple):
    """A subnet where it is: on which segment, at which interface.

    Attributes:
        prefix: the subnet.
        segment: name of the broadcast domain that it is on.
        port: device and interface that say so.
        mark: where they do.

    """

    prefix: Prefix
    segment: str
    port: Port
    mark: Mark

    @property
    def words(self) -> str:
        """The pair in words."""
        return f"{'/'.join(self.port)} ({self.prefix}, segment {self.segment})"


def _overlaps(routing: Routing, problems: Problems) -> None:
    """One subnet on several segments: each router believes that all of it is on its own side."""
    told: set[tuple[str, str]] = set()
    held = [
        Held(entry.prefix, domain.name, port, interface.mark)
        for domain in routing.domains.domains
        for port, interface, entry in holders(routing.network, domain)
        if entry.length < BITS[entry.address.family]
    ]
    held.sort(key=lambda h: (h.prefix.family, h.prefix.span.first, -h.prefix.span.last, h.segment))
    around: list[Held] = []  # those that begin before and have not ended yet
    for one in held:
        around = [o for o in around if o.prefix.span.last >= one.prefix.span.first][-MOST_AROUND:]
        for other in around:
            pair = (other.segment, one.segment)
            if other.segment != one.segment and other.port[0] != one.port[0] and pair not in told:
                told.add(pair)
                words = f"{one.words} and {other.words} are on different segments, and their subnets overlap: some addresses are never found."
                also = ((other.mark, "the other one"),)
                problems.add("subnet.overlap", one.mark, words, "Give one of the segments another subnet.", WARN, also)
        around.append(one)


MOST_AROUND = 50
"""So many subnets are compared with each: whoever writes more within one another has been told already."""


def _mask(
    domain: Domain,
    port: Port,
    interface: Interface,
    entry: InterfaceAddress,
    other: Port,
    second: InterfaceAddress,
    there: Mark,
    problems: Problems,
) -> None:
    """An interface whose mask disagrees with its neighbour's, so that one sees the other and not the reverse."""
    problems.add(
        "segment.mask",
        interface.mark,
        f"{'/'.join(port)} has {entry} and {'/'.join(other)} has {second} on segment {domain.name}: the two do not agree "
        "on what is on the segment, and one of them looks for some neighbours behind a gateway.",
        "Use the same prefix length.",
        WARN,
        ((there, "the other one"),),
    )


def _same_subnet(device: Device, problems: Problems) -> None:
    """Two interfaces of one device in one subnet."""
    seen: list[tuple[Interface, InterfaceAddress]] = []
    for interface in device.interfaces.values():
        for entry in interface.addresses:
            if entry.address.family == 6 and entry.address.is_link_local:
                continue
            for other, second in seen:
                if (
                    other is not interface
                    and not interface.loopback
                    and not other.loopback
                    and entry.prefix.overlaps(second.prefix)
                ):
                    problems.add(
                        "interface.same-subnet",
                        interface.mark,
                        f"{device.name}/{interface.name} {entry} and {device.name}/{other.name} {second} are in one subnet: "
                        "nobody can say which of them a packet leaves by.",
                        "Give one of them another subnet.",
                        WARN,
                        also=((other.mark, "the other one"),),
                    )
            seen.append((interface, entry))


def _leases(routing: Routing, problems: Problems) -> None:
    """Interfaces that wait for a lease which nobody gives."""
    for (name, port), why in routing.leases.wanting.items():
        interface = routing.network.devices[name].interfaces[port]
        problems.add(
            "lease.none",
            interface.mark,
            f"{name}/{port} gets no lease: {why}. It has no address.",
            "Put a lease service on its segment, or write an address.",
            WARN,
        )
    for words, mark, terms in _rows_with_addresses(routing.network):
        for holder in sorted({h for term in terms for h in _leased(term, set())}):
            said = f"{words} names {holder}, whose address is leased: another lease, and it misses it."
            problems.add("lease.named", mark, said, "Name the range that it is leased from, or give it a fixed address.", NOTE)


def _rows_with_addresses(network: Network) -> Iterator[tuple[str, Mark, tuple[Term, ...]]]:
    """Every row that is about addresses: rules of lists, translation rules, policy routes, profiles, offers."""
    for entry in network.lists.values():
        for rule in entry.rules:
            yield f"rule {rule.id} of '{entry.name}'", rule.mark, (*(rule.sources or ()), *(rule.destinations or ()))
    for device in network.devices.values():
        for row in device.translate:
            yield f"translation rule {row.id} of {device.name}", row.mark, (*(row.sources or ()), *(row.destinations or ()))
        for policy in device.policy_routes:
            held = (*(policy.rule.sources or ()), *(policy.rule.destinations or ()))
            yield f"policy route {policy.id} of {device.name}", policy.mark, held
        for profile in device.gates.profiles:
            yield f"profile {profile.name} of {device.name}", profile.mark, tuple(profile.members or ())
        for offer in device.gates.offers:
            yield f"offer {offer.word} of {device.name}/{offer.interface}", offer.mark, tuple(offer.sources or ())


def _leased(term: Term, seen: set[str]) -> set[str]:
    """The leased devices that a term names, straight or through groups; each group is looked into once."""
    found = {term.leased} if term.leased else set()
    for member in term.members:
        if member.words not in seen:
            seen.add(member.words)
            found |= _leased(member, seen)
    return found


def _silent_pairs(routing: Routing, problems: Problems) -> None:
    """Neighbours that could speak a routing protocol with each other and do not."""
    ospf, _ = routing.settled()
    for family, instance in ospf.items():
        for pair in instance.silent:
            if pair.why == PASSIVE:
                continue
            port = routing.network.devices[pair.one[0]].interfaces[pair.one[1]]
            problems.add(
                "ospf.no-neighbour",
                port.ospf.mark if port.ospf else port.mark,
                f"{'/'.join(pair.one)} and {'/'.join(pair.other)} both speak OSPF (IPv{family}) and do not become neighbours: {pair.why}.",
                "Make them agree.",
                WARN,
            )


def _one_end(routing: Routing, problems: Problems) -> None:
    """An interface that speaks OSPF on a segment where the other router that speaks it does not: one end was forgotten."""
    devices = routing.network.devices
    speakers = {d.name for d in devices.values() if any(p.ospf for p in d.interfaces.values())}
    for domain in routing.domains.domains:
        ports = [(n, devices[n].interfaces[p]) for n, p in domain.members]
        active = [(n, p) for n, p in ports if p.ospf and not p.ospf.passive]
        mute = [(n, p) for n, p in ports if not p.ospf and n in speakers and p.addresses and devices[n].settings.forwarding]
        passive = [(n, p) for n, p in ports if p.ospf and p.ospf.passive]
        if len({n for n, _ in active}) == 1 and passive:
            (name, port), (other, silent) = active[0], passive[0]
            words = f"{name}/{port.name} seeks OSPF neighbours on segment {domain.name}, and {other}/{silent.name} is passive there: they do not become neighbours."
            also = ((port.mark, "the end that seeks"),)
            remedy = f"Take passive out at {other}/{silent.name}, or write it at {name}/{port.name} too."
            problems.add("ospf.one-end", silent.mark, words, remedy, NOTE, also)
        elif len({n for n, _ in active}) == 1 and mute:
            (name, port), (other, silent) = active[0], mute[0]
            words = f"{name}/{port.name} speaks OSPF on segment {domain.name}, and {other}/{silent.name}, which does elsewhere, does not there: they do not become neighbours."
            also = ((port.mark, "the end that speaks"),)
            problems.add(
                "ospf.one-end",
                silent.mark,
                words,
                f"Add ospf: AREA to {other}/{silent.name}, or passive to {name}/{port.name}.",
                WARN,
                also,
            )


def _trunks(network: Network, problems: Problems) -> None:
    """A VLAN that one end of a cable carries with its tag and the other does not, though both devices have it (IEEE 802.1Q)."""
    for segment in network.segments.values():
        ends = [(d, network.devices[d].interfaces[p]) for d, p in segment.members if d in network.devices]
        for (name, port), (other, there) in itertools.permutations(ends, 2):
            lacking = (_tags(network.devices[name], port) - _tags(network.devices[other], there)) & _vlans(
                network.devices[other], there.name
            )
            own = {i.vlan for i in network.devices[name].interfaces.values() if i.parent == port.name and i.vlan and i.addresses}
            used = lacking & (_vlans(network.devices[name], port.name) | own)
            alone = own - _tags(network.devices[other], there) - used if len(ends) == 2 else set()
            for tag in sorted((used | alone) - {there.access_vlan}):
                end = "both devices have it, and it is cut in two" if tag in used else "what is sent there gets no further"
                words = f"{other}/{there.name} does not carry VLAN {tag}, which {name}/{port.name} sends there with its tag on segment {segment.name}: {end}."
                also = ((port.mark, "the other end"),)
                problems.add("vlan.not-carried", there.mark, words, f"Add {tag} to tagged: at {other}/{there.name}.", WARN, also)


def _tags(device: Device, port: Interface) -> set[int]:
    """The VLANs that a port carries with a tag."""
    return {*port.trunk_vlans, *(i.vlan for i in device.interfaces.values() if i.parent == port.name and i.vlan)}


def _vlans(device: Device, but: str) -> set[int]:
    """The VLANs that a device has beside one of its ports."""
    out: set[int] = set()
    for port in device.interfaces.values():
        if port.name != but and port.parent != but:
            out |= {*port.trunk_vlans, *(v for v in (port.vlan, port.access_vlan) if v)}
    return out


def _static(routing: Routing, device: Device, problems: Problems, said: set[Mark]) -> None:
    """Static routes that are never used, or that lead to nobody; tables that nothing asks."""
    for name in routing.table_names(device.name):
        table = routing.table(device.name, name)
        written = {r.mark for r in device.routes if r.table == name}
        for loser in table.inactive:
            if loser.route.mark in written and loser.route.mark not in said:
                _never_used(device, loser, problems)
        _asked_by_nobody(device, name, problems)


def _asked_by_nobody(device: Device, name: str, problems: Problems) -> None:
    """A table of its own that no policy route names."""
    if name == "main" or any(c.table == name for e in device.policy_routes for c in e.candidates):
        return
    mark = next(r.mark for r in device.routes if r.table == name)
    words = f"{device.name}: nothing asks the route table '{name}': its routes have no effect."
    remedy = "Name it in a candidate of policy-routes, or leave table: out for routes of the main table."
    problems.add("idle.table", mark, words, remedy, NOTE)


def _never_used(device: Device, loser: Loser, problems: Problems) -> None:
    """A route that another one for the same prefix always beats."""
    kind = "its gateway" if loser.route.origin == "gateway" else f"the route to {_goal(loser.route.prefix)}"
    words = f"{device.name}: {kind} is never used: {loser.why}."
    problems.add("route.inactive", loser.route.mark or device.mark, words, "Mend what it waits for, or remove it.", WARN)


def _goal(prefix: Prefix) -> str:
    """A prefix as it is called in a sentence."""
    return "everything else (default)" if prefix.is_default else str(prefix)


def _goals(routing: Routing, problems: Problems, said: set[Mark]) -> None:
    """Addresses that packets are to go to, and where nobody is, or nothing listens; over the places of ``model/goals.py``."""
    network = routing.network
    owners = network.owners()
    for device in network.devices.values():
        for goal in goals(device) if device.layer3 else ():
            if goal.mark in said:
                continue
            words, remedy = _nobody(routing, goal, owners)
            if words:
                problems.add(code(goal.sort, "address.silent"), goal.mark, words, remedy, WARN)
                continue
            words = _unserved(network, goal, owners)
            if words:
                problems.add(code(goal.sort, "address.unserved"), goal.mark, words, "Let it serve that, or name who does.", WARN)


def _nobody(routing: Routing, goal: Goal, owners: Mapping[Address, tuple[str, ...]]) -> tuple[str, str]:
    """That nobody has an address, or that its owner is not a neighbour, in words; and what to do."""
    owner = owners.get(goal.address, ("",))[0]
    if goal.sort not in NEIGHBOURS:
        if owner or _may_be_somebody(routing.network, goal.address):
            return "", ""
        return f"{goal.device.name}: nobody has {goal.words.rstrip(',')}: packets for it are lost.", "Name the address of somebody."
    for name in goal.interfaces:
        port = goal.device.interfaces[name]
        if not any(a.prefix.holds(goal.address) for a in port.addresses):
            continue
        domain = routing.domains.of(goal.device.name, name)
        answers = routing.domains.answers(domain, goal.address) if domain else ()
        own = goal.sort is Sort.LEASE_GATEWAY  # a lease may well name its own device
        if not any(own or a.device != goal.device.name for a in answers):
            where = f"; {owner} has it, but is not on that segment" if owner and owner != goal.device.name else ""
            segment = domain.name if domain else "?"
            words = f"{goal.device.name}: nobody on segment {segment} answers for {goal.words}{where}: packets sent there are lost."
            return words, "Use the address of a neighbour that is there."
    return "", ""


def _may_be_somebody(network: Network, address: Address) -> bool:
    """Whether an address is leased to somebody, answered for by somebody, or beyond what is modelled."""
    ports = [p for d in network.devices.values() for p in d.interfaces.values()]
    if any(in_spans(address.key, p.answers_for) for p in ports):
        return True
    if any(pool.first.key <= address.key <= pool.last.key for d in network.devices.values() for pool in d.leases):
        return True
    inside = any(a.prefix.holds(address) for p in ports for a in p.addresses)
    return not inside and not in_spans(address.key, network.local)


def _unserved(network: Network, goal: Goal, owners: Mapping[Address, tuple[str, ...]]) -> str:
    """That nothing listens where packets are sent: no resolver, or no service on that port."""
    holders = [network.devices[n] for n in owners.get(goal.address, ()) if n in network.devices]
    if not holders or goal.sort in NEIGHBOURS:
        return ""
    holder = holders[0]
    served = [s.service for s in holder.serves] + [s for o in holder.gates.offers for s in o.services]
    if goal.sort in RESOLVERS:
        listens = holder.records is not None or any(s.covers(UDP, 53) for s in served)
        return "" if listens else f"{goal.device.name}: {goal.words} is {holder.name}, which is no resolver."
    unheard = (s for s in _sent_on(goal.rule) if s.ports and not any(_overlap(o, s.protocol, s.ports) for o in served))
    asked = next(unheard, None)
    return f"{goal.device.name}: {goal.words} is {holder.name}, and nothing listens there for {asked}." if asked else ""


def _sent_on(rule: Translate | None) -> Iterator[Service]:
    """The services that a rule sends on, by the ports that they have then; only those with ports."""
    for service in (rule.services if rule is not None else None) or ():
        ports = service.ports
        if service.protocol not in WITH_PORTS or ports is None:
            continue
        if rule is not None and rule.to_port is not None:
            ports = Span(rule.to_port, rule.to_port + (ports.last - ports.first if rule.to_range else 0))
        yield Service(service.protocol, ports)


def _overlap(served: Service, protocol: int, ports: Span) -> bool:
    """Whether something is served on one of some ports."""
    held = served.ports
    return served.protocol == protocol and (held is None or (held.first <= ports.last and ports.first <= held.last))
