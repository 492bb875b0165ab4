"""Forwarded ports that nothing lets in, and pools with fewer addresses than hosts: findings about single translation rules.

Whether a forwarded port has its permit is asked of the device's own filters, in its own order, with packets from whoever a rule
there is about, and from a stranger. It is said only where none of them gets in.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence

from mossy_compass.errors import NotConverged
from mossy_compass.headers.spans import intersect, merge
from mossy_compass.model.network import Becomes, Device, Kind, RouteAction, Translate
from mossy_compass.packet.address import EVERYTHING, FAMILIES, Address, Span, Spans, from_key, in_spans, parse_address
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, TCP, WITH_PORTS, Service
from mossy_compass.plan.actions import Half, Pass, Stop
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Facts, Moment, Relation
from mossy_compass.plan.ids import TableKind
from mossy_compass.plan.order import FILTERS, Stage
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because
from mossy_compass.plan.sides import port_towards, written
from mossy_compass.proof.hidden import Hidden
from mossy_compass.state.rewrite import with_destination

STRANGERS = {4: parse_address("203.0.113.254"), 6: parse_address("2001:db8:ffff::fe")}
"""Stand for somebody of whom no rule knows."""
MOST_SOURCES = 200
"""So many ends of conditions on sources are tried: more than a person writes for what faces strangers."""
MOST_ASKED = 20
"""So many of the addresses that a rule is about are tried."""


def forwarded(plan: Plan, here: DevicePlan) -> Iterator[Hidden]:
    """What is to be said of a device's forwarded ports and pools, rule by rule."""
    if here.device.policy_routes:
        return  # where a packet leaves, and so which lists it meets, is theirs to say
    for rule in here.device.translate:
        if not rule.disabled and not rule.of_source and not rule.exempt and not rule.redirects and rule.services:
            yield from _without_permit(plan, here, rule)


def _without_permit(plan: Plan, here: DevicePlan, rule: Translate) -> Iterator[Hidden]:
    """The services of a rule that nobody is let in for, by any of the interfaces where they arrive."""
    # Who a rule is about may live inside, and meets the lists of the interface where he comes from.
    ports = sorted(here.reader.interfaces(rule.arriving) or _behind(here, written(rule.sources) or ()) or here.outside)
    asked = {port: _asked_for(here, rule, port) for port in ports}
    if not all(asked.values()):
        return  # it is about everything
    lacking: list[tuple[Service, Because]] = []
    for service in rule.services or () if rule.goals and ports else ():
        ends = [_fate(plan, here, rule, port, goal, service, asked[port]) for port in ports for goal in rule.goals]
        if all(end is not None for end in ends):
            lacking.append((service, ends[0]))  # type: ignore[arg-type]
    if lacking:
        names = ", ".join(str(s) for s, _ in lacking)
        goal, because = rule.goals[0], lacking[0][1]
        words = (
            f"translation rule {rule.id} of {here.name} sends {names} on to {goal}, and nothing lets anybody in for that: "
            f"it is stopped by {because.cited()}."
        )
        yield Hidden("translate.no-permit", rule.mark, words, _permit(here, ports, because, asked[ports[0]][0], goal))


def _permit(here: DevicePlan, ports: Sequence[str], because: Because, asked: Address, goal: Address) -> str:
    """Where what a rule sends on is to be permitted, and to which of its two addresses: the one that is seen at that place."""
    before = here.through.index(Stage.ARRIVING_LIST) if Stage.ARRIVING_LIST in here.through else -1
    first = 0 <= before < here.through.index(Stage.TRANSLATE_DESTINATION)
    if because.code in ("rule", "list.end", "list.empty"):
        address = asked if first and _arriving(here, ports, because) else goal
        return f"Permit it there to {address}: that is the address which is seen at that place."
    return (
        f"Attach a list to what arrives by {ports[0]} that permits it to {asked if first else goal}, or set translation-opens: yes."
    )


def _behind(here: DevicePlan, spans: Spans) -> set[str]:
    """The interfaces on whose subnets some addresses live, or the one that routes lead to; empty for none, or for strangers."""
    subnets = {p.name for p in here.device.interfaces.values() for a in p.addresses if intersect((a.prefix.span,), spans)}
    towards = port_towards(here, spans)
    return subnets or ({towards} if towards else set())


def _arriving(here: DevicePlan, ports: Sequence[str], because: Because) -> bool:
    """Whether the list that stopped a packet stands where it arrives."""
    name = because.named["list"]
    return any(name in here.device.interfaces[p].arriving_lists for p in ports) or name in here.device.gates.everywhere


def _asked_for(here: DevicePlan, rule: Translate, port: str) -> list[Address]:
    """Addresses that a rule is about; none where it is about everything. The first is one that who comes by an interface knows.

    Of the device's own that is the interface's; its others are asked for only by who is there. Lists may know some of many
    addresses, so the ends of what they say of destinations are among them.
    """
    family = FAMILIES[rule.family]
    ports = [here.device.interfaces[port], *(p for p in here.device.interfaces.values() if p.loopback)]
    known = merge(Span(a.address.key, a.address.key) for p in ports for a in p.addresses)
    self_here = intersect(known, (family,)) or here.own_spans
    meant = merge(s for t in rule.destinations or () for s in intersect(self_here if t.spans is None else t.spans, (family,)))
    own = [a.address for a in ports[0].addresses if in_spans(a.address.key, meant)]
    ends = [from_key(k) for s in _said(here, "destination", meant) for k in (s.first, s.last)]
    return list(dict.fromkeys([*own, *(from_key(s.first) for s in meant), *ends]))[:MOST_ASKED]


def _said(here: DevicePlan, field: str, of: Spans) -> list[Span]:
    """What rules of lists say of an end of packets, of some addresses."""
    rows = (r for t in here.tables().values() if t.id.kind is TableKind.LIST for r in t.rows)
    return list(
        dict.fromkeys(s for r in rows for c in r.conditions for n, held in c.parts if n == field for s in intersect(held, of))
    )


def _fate(
    plan: Plan, here: DevicePlan, rule: Translate, port: str, goal: Address, service: Service, asked: Sequence[Address]
) -> Because | None:
    """What stops everybody who asks for a forwarded service by an interface; None where somebody gets in, or it cannot be said."""
    if service.protocol in (ICMP, ICMP6):
        return None
    to_port = service.ports.first if service.ports is not None else 0
    why: Because | None = None
    for source, destination in itertools.product(_sources(here, rule), asked):
        packet = Packet(service.protocol, source, destination, 49152 if service.protocol in WITH_PORTS else -1, to_port, -1)
        packet = packet._replace(flags="SYN" if service.protocol == TCP else "")
        let_in, stopped = _passes(plan, here, rule, port, goal, packet)
        if let_in:
            return None
        why = why or stopped
    return why


def _sources(here: DevicePlan, rule: Translate) -> list[Address]:
    """Who may ask: the ends of what rules say of sources, and somebody of whom none knows; those that the rule is about."""
    family = FAMILIES[rule.family]
    ends = [from_key(k) for s in _said(here, "source", (family,)) for k in (s.first, s.last)][:MOST_SOURCES]
    found = [STRANGERS[rule.family], *ends]
    if rule.sources is None:
        return list(dict.fromkeys(found))
    meant = merge(s for t in rule.sources for s in t.spans or ())
    of_rule = [from_key(s.first) for s in intersect(meant, (family,))]
    return list(dict.fromkeys([*(a for a in found if in_spans(a.key, meant)), *of_rule]))


def _passes(plan: Plan, here: DevicePlan, rule: Translate, port: str, goal: Address, packet: Packet) -> tuple[bool, Because | None]:
    """Whether a packet is let in and sent on by a rule; else what stopped it, if that was a filter."""
    moment = Moment(open=frozenset(plan.network.hours))
    facts = Facts(packet, port, None, None, moment, 1, here.name)
    facts.relation = Relation.OPENING
    for step in here.steps(port):
        if step.stage is Stage.TRANSLATE_DESTINATION:
            row = here.translations[Half.DESTINATION].first(facts)
            if row is None or row.id != rule.id:
                return True, None  # another rule has it, or none: that is another finding
            moved = packet.to_port if rule.to_port is None else rule.to_port
            facts.packet, facts.front = with_destination(packet, goal, moved), rule.id
        elif step.stage is Stage.ROUTE:
            leaving = _way(here, facts.packet.destination)
            if leaving is None:
                return True, None
            facts.leaving = leaving
        elif step.stage in FILTERS and (step.about is None or step.about(facts)):
            decision = step.decide(facts)
            if decision is not None and isinstance(decision.actions[-1], Stop):
                return False, decision.because
            if decision is not None and any(isinstance(a, Pass) and a.lets_in for a in decision.actions):
                facts.opened_by = (decision.table, decision.row)
    return True, None


def _way(here: DevicePlan, destination: Address) -> str | None:
    """The interface that a destination is reached by; None where there is none, or a choice."""
    try:
        route = here.table.lookup(destination)
    except NotConverged:
        return None
    ports = {h.interface for h in route.hops} if route is not None and route.action is RouteAction.FORWARD else set()
    return ports.pop() if len(ports) == 1 else None


def small_pools(plan: Plan, here: DevicePlan) -> Iterator[Hidden]:
    """Pools of several addresses that more hosts use than there are: some share one, which pools are most often meant to avoid."""
    for rule in here.device.translate:
        size = sum(s.last - s.first + 1 for s in rule.outer)
        if rule.disabled or rule.becomes is not Becomes.POOL or size < 2:
            continue
        meant = merge(s for t in rule.sources for s in t.spans or ()) if rule.sources is not None else EVERYTHING
        left = here.reader.interfaces(rule.leaving)
        hosts = sum(_uses(here, d, meant, left) for d in plan.network.devices.values() if d.kind is Kind.HOST)
        if hosts > size:
            words = (
                f"the pool of translation rule {rule.id} of {here.name} has {size} addresses, and {hosts} hosts of this network use it: "
                "some share one, with ports of their own; of what has no ports (gre, esp) two of them clash at one far end."
            )
            yield Hidden("translate.small-pool", rule.mark, words, "Give it more addresses, or leave it so if sharing is meant.")


def _uses(here: DevicePlan, host: Device, meant: Spans, left: frozenset[str]) -> bool:
    """Whether a host has an address that a rule is about, and lives on another side of the device than where the rule applies."""
    held = [a for a, _ in host.own_addresses() if in_spans(a.key, meant)]
    ways = [way for a in held if (way := _way(here, a)) is not None]
    return any(way not in left and not here.is_outside(way) for way in ways)
