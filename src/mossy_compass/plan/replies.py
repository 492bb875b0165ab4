"""What a device sends home about a packet, and when it says nothing.

Never about an ICMP error or redirect, of IPv4 never about a later fragment, never to or from an address that names no single host (RFC 1122 section 3.2.2, RFC 4443
section 2.4 (e)), never a reset about a reset (RFC 9293 section 3.10.7.1). What is sent quotes the packet as it came, and
goes to that one's source.
"""

from __future__ import annotations

from typing import NamedTuple

from mossy_compass.model.settings import ErrorSource, Settings
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import Packet, answer_to, icmp_error, refusal_of, reset_of
from mossy_compass.packet.service import TCP
from mossy_compass.plan.actions import Reply, Steer
from mossy_compass.plan.balance import Choose, choice
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import SOME_TIME, Facts, Memory, Moment
from mossy_compass.plan.order import Stage
from mossy_compass.plan.stages.routes import steered
from mossy_compass.routing.table import Route

UNREACHABLE = (Reply.NET_UNREACHABLE, Reply.HOST_UNREACHABLE, Reply.TOO_BIG, Reply.BEYOND_SCOPE)


class Sent(NamedTuple):
    """A packet that a device makes because of another.

    Attributes:
        packet: what is sent.
        answers: it comes from the far end (an answer, a refusal, a reset in its name); False for an ICMP error.

    """

    packet: Packet
    answers: bool


def reply_to(here: DevicePlan, facts: Facts, reply: Reply, choose: Choose | None = None, answer: str = "") -> Sent | None:
    """The packet that goes home; None where nothing is asked for, or nothing may be said.

    Args:
        here: the device.
        facts: what it knows of the packet, as things stood when its stay ended.
        reply: what the row asks for.
        choose: how equal ways home are chosen; None: by the hash.
        answer: what a rejection sends; empty for what the setting says.

    """
    if reply in (Reply.ANSWER, Reply.REFUSAL):
        return _of_the_far_end(facts.packet, reply)
    came = facts.came
    kind = _rejection(here.settings, came, answer) if reply is Reply.REJECTION else _kind(here.settings, reply)
    if kind is None or came.is_error or not _single(came) or (came.fragment and came.source.family == 4):
        return None
    if kind == "reset":
        return Sent(reset_of(came), True)
    source = error_source(here, came, facts.arriving, choose, facts.moment, facts.memory)
    return Sent(icmp_error(came, source, kind), False) if source else None


def _of_the_far_end(packet: Packet, reply: Reply) -> Sent | None:
    """An answer, or the refusal of what nobody listens for; neither about an error."""
    made = answer_to(packet) if reply is Reply.ANSWER else None if packet.is_error else refusal_of(packet)
    return Sent(made, True) if made and _single(made) else None


def _rejection(settings: Settings, packet: Packet, answer: str) -> str | None:
    """What a rejecting rule, or the device's setting, sends; a reset is for TCP alone. None for silence."""
    if packet.flags == "RST" or packet.fragment:
        return None
    wanted = answer or ("reset" if settings.rejects_with_reset else "prohibited")
    return "prohibited" if wanted == "reset" and packet.protocol != TCP else wanted


def _kind(settings: Settings, reply: Reply) -> str | None:
    """What the device's settings make of a reply; None for silence."""
    if reply is Reply.NOTHING:
        return None
    if reply is Reply.TIME_EXCEEDED and not settings.sends_time_exceeded:
        return None
    return None if reply in UNREACHABLE and not settings.sends_unreachable else reply.value


def _single(packet: Packet) -> bool:
    """True when both ends name one host each, so that something may be said about the packet."""
    return not packet.source.special and not packet.destination.special


def error_source(
    here: DevicePlan,
    about: Packet,
    came_by: str | None,
    choose: Choose | None = None,
    moment: Moment = SOME_TIME,
    memory: Memory | None = None,
) -> Address | None:
    """Whose address an ICMP error has: by the setting, that of the way home, or of the interface that the packet came by.

    Args:
        here: the device.
        about: the packet that the error will quote.
        came_by: the interface that it came by; None for the device's own.
        choose: how equal ways home are chosen.
        moment, memory: as in ``Facts``; policy routes may ask by them.

    """
    if about.source in here.own:  # RFC 6724 section 5, rule 1: to itself from the same address
        return about.source
    found = None
    # To a link-local sender an error comes from a link-local address of its own segment (RFC 6724 section 5, rule 2).
    if came_by is not None and (here.settings.error_source is ErrorSource.ARRIVING or about.source.is_link_local):
        found = here.source_for(came_by, about.source.family, about.source)
    if found is None:
        unsourced = icmp_error(about, Address(about.source.family, 0), Reply.PROHIBITED.value)
        found = own_source(here, unsourced, choose, moment, memory)
    return found or next((a for a in here.own if a.family == about.source.family and not a.is_link_local), None)


def own_source(
    here: DevicePlan, packet: Packet, choose: Choose | None = None, moment: Moment = SOME_TIME, memory: Memory | None = None
) -> Address | None:
    """The source of a packet that the device itself makes: that of the way which it will take (RFC 1812 section 4.3.2.4).

    The tentative look-up asks the policy routes, where they see the device's own packets, then the main table, and shares among
    equal ways as the packet itself will. An entry that asks for a source does not see it, since it has none yet.

    Args:
        here: the device.
        packet: to be sent; its source does not count.
        choose: how equal ways are chosen; None: by the hash.
        moment, memory: as in ``Facts``.

    """
    destination = packet.destination
    route = _chosen_by_policy(here, packet, moment, memory) or here.table.lookup(destination)
    if route is None or not route.hops:
        return None
    hop = route.hops[0]
    if len(route.hops) > 1:
        hop = route.hops[choice(here, route.hops, packet, True, choose)[0]]
    beside = hop.address is not None and not hop.address.is_link_local
    return here.source_for(hop.interface, destination.family, hop.address if beside else destination)


def _chosen_by_policy(here: DevicePlan, packet: Packet, moment: Moment, memory: Memory | None) -> Route | None:
    """The way that an entry of the device's policy routes gives its own packet; None where none does, or it is thrown away."""
    step = next((s for s in here.steps(None) if s.stage is Stage.POLICY_ROUTE), None) if here.settings.policy_for_own else None
    if step is None or packet.destination in here.own:
        return None
    facts = Facts(packet._replace(source=Address(packet.destination.family, 0)), None, memory, None, moment, 1, here.name)
    if memory is not None:
        facts.recalled(memory.recall(here.name, facts.packet))
    decision = step.decide(facts) if step.about is None or step.about(facts) else None
    for action in decision.actions if decision is not None else ():
        if isinstance(action, Steer):
            route = steered(here, action, packet.destination)[0]
            return route if route is not None and route.hops else None
    return None
