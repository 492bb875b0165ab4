"""For which packets an action would have done the same: what executors, state and replies branch on beside the steps' tables.

By hand, each with its reason, for these are look-ups by key (sessions, ports) or choices among the device's own addresses. Where
the device remembers something that bears on it, the set is one flow: narrow, and right.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from typing import Any

from mossy_compass.headers.spans import complement, merge
from mossy_compass.model.network import NoneAvailable, RouteAction
from mossy_compass.model.settings import ErrorSource
from mossy_compass.packet.address import FAMILIES, LINK_LOCAL, Span, Spans, parse_prefix
from mossy_compass.packet.flow import flow_of
from mossy_compass.packet.packet import NEVER_TOLD_OF, REPLY_TYPES, Packet
from mossy_compass.packet.service import ICMP, ICMP6, TCP, WITH_PORTS, Service
from mossy_compass.plan.actions import Action, Allocate, Deliver, Half, OpenSession, Recall, Reply, Rewrite, Steer, Stop
from mossy_compass.plan.alike import AsItCame, Met, Term, apart_from, known_as, of_flow, within
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.fields import service_key, service_span
from mossy_compass.plan.keeping import FIRST_FREE_PORT, LAST_PORT
from mossy_compass.plan.replies import UNREACHABLE
from mossy_compass.plan.stages.routes import DISCARDED, alike_steered, ended_by, steered
from mossy_compass.plan.stages.sessions import alike_to_memory

SPECIAL: Spans = merge(
    parse_prefix(p).span for p in ("0.0.0.0", "127.0.0.0/8", "224.0.0.0/4", "255.255.255.255", "::", "::1", "ff00::/8")
)
"""The addresses that name no single host, about which nothing is said (RFC 1122 section 3.2.2)."""


def alike_to_action(here: DevicePlan, facts: Facts, action: Action) -> Iterator[Term]:
    """What an action about a packet rests on beside the row that has it.

    Args:
        here: the device.
        facts: as the action finds them; for ``Recall``, as it leaves them.
        action: what is done.

    """
    of_kind = _BY_KIND.get(type(action))
    return of_kind(here, facts, action) if of_kind is not None else iter(())


def _recalled(here: DevicePlan, facts: Facts, action: Recall) -> Iterator[Term]:
    """What the device remembers of the packet."""
    return alike_to_memory(here, facts)


def _steered(here: DevicePlan, facts: Facts, action: Steer) -> Iterator[Term]:
    """Which candidate is to be had; where that ends the packet's way, what goes home about it."""
    yield from alike_steered(here, action, facts)
    route, _ = steered(here, action, facts.packet.destination)
    if route is None and action.otherwise is NoneAvailable.DROP:
        yield from alike_to_reply(here, facts, Reply.NET_UNREACHABLE)
    elif route is not None and route.action is not RouteAction.FORWARD and route is not DISCARDED:
        yield from alike_to_reply(here, facts, ended_by(route, facts.packet.destination).reply)


def _one_flow(here: DevicePlan, facts: Facts) -> Iterator[Term]:
    """The packet's own flow, where the device remembers any that could take its port or clash with it; else every packet."""
    if facts.memory is not None and any(True for _ in facts.memory.flows(here.name)):
        yield Met(of_flow(flow_of(facts.packet), facts.packet))


def _rewritten(here: DevicePlan, facts: Facts, action: Rewrite) -> Iterator[Term]:
    """A new port makes one service of all, so of those that have ports only one is kept; which server it is follows from the source."""
    if action.servers:
        yield within("source", (Span(facts.packet.source.key, facts.packet.source.key),))
    if action.by_rule and action.address is None and not action.servers and not action.own:  # shifted: each has another
        old, side = facts.packet.source, "source"
        if action.half is Half.DESTINATION:
            old, side = facts.packet.destination, "destination"
        yield within(side, (Span(old.key, old.key),))
    if action.half is Half.DESTINATION and (action.port is not None or action.port_shift):
        key = service_key(facts.packet)
        yield within("service", (Span(key, key),))


def _allocated(here: DevicePlan, facts: Facts, action: Allocate) -> Iterator[Term]:
    """One family, since the outer address is of one; and whether there is a port to choose, which later fragments lack."""
    if action.pool:  # which of its addresses a source gets follows from the source
        yield within("source", (Span(facts.packet.source.key, facts.packet.source.key),))
    yield _family("source", facts.packet.source.family)
    yield known_as("fragment", facts.packet.fragment)
    packet = facts.packet
    alike = next((kinds for kinds in (WITH_PORTS, (ICMP, ICMP6)) if packet.protocol in kinds), ())
    with_ports = merge(service_span(Service(p)) for p in alike or (*WITH_PORTS, ICMP, ICMP6))
    yield within("service", with_ports if alike else complement(with_ports, service_span(Service(255)).last))
    if packet.protocol in WITH_PORTS and not packet.fragment:
        yield within("from-port", _ports_given_alike(here, packet))
    yield from _one_flow(here, facts)


def _ports_given_alike(here: DevicePlan, packet: Packet) -> Spans:
    """The source ports that are kept as this one is, or that are looked for in the same range (RFC 4787 section 4.2.2)."""
    reserved = here.ports_in_use
    if any(first <= packet.from_port <= last for first, last in reserved):
        return (Span(packet.from_port, packet.from_port),)
    if here.keeping.keeps_port:
        return complement(reserved, LAST_PORT)
    low, high = Span(0, FIRST_FREE_PORT - 1), Span(FIRST_FREE_PORT, LAST_PORT)
    return (low if packet.from_port < FIRST_FREE_PORT else high,)


def _opened(here: DevicePlan, facts: Facts, action: OpenSession) -> Iterator[Term]:
    """Whether another's answers come as its would; what belongs to a session, or may open none, opens none."""
    opens = facts.session is None and facts.relation in (Relation.OPENING, Relation.EXPECTED)
    memory = facts.memory
    if not opens or memory is None:
        return
    flows = list(itertools.islice(memory.flows(here.name), MOST_APART + 1))
    if len(flows) > MOST_APART or memory.loose_ends(here.name) or memory.taken(here.name, flow_of(facts.packet)):
        yield from _one_flow(here, facts)
        return
    yield from apart_from(flow.reverse() for flow in flows)


MOST_APART = 32
"""From so many flows that a device remembers a packet is told apart one by one; where there are more, each packet is by itself."""


def _stopped(here: DevicePlan, facts: Facts, action: Stop) -> Iterator[Term]:
    """What goes home about it."""
    return alike_to_reply(here, facts, action.reply)


def _delivered(here: DevicePlan, facts: Facts, action: Deliver) -> Iterator[Term]:
    """What answers it."""
    return alike_to_reply(here, facts, action.reply)


_BY_KIND: dict[type[Any], Callable[[DevicePlan, Facts, Any], Iterator[Term]]] = {
    Recall: _recalled,
    Steer: _steered,
    Rewrite: _rewritten,
    Allocate: _allocated,
    OpenSession: _opened,
    Stop: _stopped,
    Deliver: _delivered,
}


def alike_to_reply(here: DevicePlan, facts: Facts, reply: Reply) -> Iterator[Term]:
    """What ``plan/replies.py`` branches on: whether anything may be said, what, and whose address it has.

    Args:
        here: the device.
        facts: as things stood when the packet's stay ended.
        reply: what the row asks for.

    """
    if reply is Reply.NOTHING or (reply in UNREACHABLE and not here.settings.sends_unreachable):
        return
    if reply in (Reply.ANSWER, Reply.REFUSAL):  # the far end answers the packet as it is by then
        yield from _may_be_answered(facts.packet)
        return
    for term in (*_may_be_answered(facts.came), *_error_source(here, facts.came, facts.arriving)):
        yield AsItCame(term)


def _may_be_answered(about: Packet) -> Iterator[Met]:
    """Whether anything may be said about a packet, and of what kind."""
    yield known_as("error", about.quoted is not None)
    yield from _tells(about)
    yield known_as("reset", about.flags == "RST")
    yield known_as("fragment", about.fragment)
    yield from _protocols(about)
    for side, address in (("source", about.source), ("destination", about.destination)):
        yield within(side, SPECIAL if address.special else complement(SPECIAL))
        yield _family(side, address.family)


def _tells(about: Packet) -> Iterator[Met]:
    """Errors and redirects, of which nobody is told, or everything else; a packet may be one without a quote."""
    if about.protocol in (ICMP, ICMP6) and about.quoted is None:
        kinds = merge(
            Span(first + (kind << 8) + 1, first + (kind << 8) + 256)
            for protocol, kinds in NEVER_TOLD_OF.items()
            for first in [service_span(Service(protocol)).first]
            for kind in kinds
        )
        yield within("service", kinds if about.is_error else complement(kinds, service_span(Service(255)).last))


def _protocols(about: Packet) -> Iterator[Met]:
    """TCP is reset, what has ports is told of its port, requests are answered; everything else by its protocol."""
    asks = merge(
        Span(base + (kind << 8) + 1, base + (kind << 8) + 256)
        for protocol, kind in REPLY_TYPES
        for base in [service_span(Service(protocol)).first]
    )
    icmp = merge(service_span(Service(p)) for p in (ICMP, ICMP6))
    if about.protocol in (ICMP, ICMP6):
        request = any(first <= service_key(about) <= last for first, last in asks)
        yield within("service", asks if request else complement(asks, icmp[-1].last))
        yield within("service", icmp)
        return
    tcp, ported = (service_span(Service(TCP)),), merge(service_span(Service(p)) for p in WITH_PORTS)
    yield within("service", complement(icmp, service_span(Service(255)).last))
    yield within("service", ported if about.protocol in WITH_PORTS else complement(ported, service_span(Service(255)).last))
    if about.protocol in WITH_PORTS:
        yield within("service", tcp if about.protocol == TCP else complement(tcp, service_span(Service(255)).last))


def _error_source(here: DevicePlan, about: Packet, came_by: str | None) -> Iterator[Met]:
    """Whose address an ICMP error has: by the sender's own, the interface that it came by, or the way home (by hash among equal ones)."""
    if here.settings.policy_for_own and here.device.policy_routes:  # their entries ask by whatever they like: one destination
        yield within("source", (Span(about.source.key, about.source.key),))
    yield _in_or_not(here.own_spans, about)
    yield _in_or_not(LINK_LOCAL, about)
    ports = set(here.device.interfaces) if here.settings.error_source is not ErrorSource.ARRIVING else {came_by}
    yield within("source", here.table.served_as(about.source))
    for port in sorted(p for p in ports if p is not None):
        for held in here.device.interfaces[port].addresses:
            yield _in_or_not((held.prefix.span,), about)


def _in_or_not(spans: Spans, about: Packet) -> Met:
    """The sources in some runs, or those outside them, as the packet's own is."""
    inside = any(first <= about.source.key <= last for first, last in spans)
    return within("source", spans if inside else complement(spans))


def _family(side: str, family: int) -> Met:
    """The packets whose address on a side is of a family."""
    return within(side, (FAMILIES[family],))
