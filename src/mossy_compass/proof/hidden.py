"""Findings about translation that need the computed network: an uplink without rules, an outer address that nobody leads back.

And about answers that nothing lets back in, because their protocol is not inspected.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from mossy_compass.errors import NotConverged
from mossy_compass.marks import Mark
from mossy_compass.model.network import Becomes, Translate
from mossy_compass.packet.address import Address, from_key, in_spans
from mossy_compass.packet.service import ICMP, Service, icmp_span
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.plan import Plan


class Hidden(NamedTuple):
    """A finding.

    Attributes:
        code: of it.
        mark: where.
        words, remedy: what is wrong, and what to do.

    """

    code: str
    mark: Mark
    words: str
    remedy: str


ECHO_REPLY = Service(ICMP, icmp_span((0, None)))


def hidden(plan: Plan, here: DevicePlan) -> Iterator[Hidden]:
    """What is to be said of a device's translation, beside single rules."""
    rules = [t for t in here.device.translate if t.of_source and not t.disabled and t.becomes is not Becomes.EXEMPT]
    yield from _one_uplink(plan, here, rules)
    for rule in rules:
        if rule.outer:
            yield from _led_nowhere(plan, here, rule)


def _one_uplink(plan: Plan, here: DevicePlan, rules: list[Translate]) -> Iterator[Hidden]:
    """An outside interface with a public address for which no source rule is written, while another one has some."""
    covered = {(p, r.family) for r in rules for p in here.reader.interfaces(r.leaving)}
    for port in sorted(here.outside):
        for family in (4, 6):
            others = sorted(p for p, f in covered if f == family and p != port and p in here.outside)
            if others and (port, family) not in covered and _public(plan, here, port, family):
                interface = here.device.interfaces[port]
                words = (
                    f"{here.name} translates IPv{family} sources as they leave by {', '.join(others)}, and none as they leave by {port}: "
                    "whoever goes out there is seen under an inner address, and gets no answer."
                )
                yield Hidden(
                    "translate.one-uplink", interface.mark, words, f"Add a rule with leaving: {port}; mossy seen shows who."
                )


def _public(plan: Plan, here: DevicePlan, port: str, family: int) -> bool:
    """Whether an interface has addresses of a family, and none of one's own networks."""
    held = [a.address for a in here.device.interfaces[port].addresses if a.address.family == family and not a.address.is_link_local]
    return bool(held) and not any(in_spans(a.key, plan.network.local) for a in held)


def _led_nowhere(plan: Plan, here: DevicePlan, rule: Translate) -> Iterator[Hidden]:
    """Outer addresses that neither lie on the segment where packets leave, nor are led back there by who is next."""
    ports = sorted(here.reader.interfaces(rule.leaving))
    samples = [a for span in rule.outer for a in dict.fromkeys((from_key(span.first), from_key(span.last)))]
    lost = [a for a in samples if not any(comes_back(plan, here, port, a) for port in ports)]
    if lost and ports:
        words = (
            f"translation rule {rule.id} of {here.name} gives sources {lost[0]}, which lies on no segment of {', '.join(ports)}, and nobody "
            f"there has a route to it by {here.name}: answers do not come back."
        )
        remedy = f"Give addresses of the segment, or a route to {lost[0]} by {here.name} at its neighbours."
        yield Hidden("translate.led-nowhere", rule.mark, words, remedy)


def comes_back(plan: Plan, here: DevicePlan, port: str, address: Address) -> bool:
    """Whether packets for an outer address come to an interface: it is on the segment, or a neighbour there leads it here."""
    interface = here.device.interfaces.get(port)
    if interface is None:
        return False
    if any(a.prefix.holds(address) for a in interface.addresses):
        return here.settings.answers_translated or in_spans(address.key, interface.answers_for)
    domain = here.domains.of(here.name, port)
    own = {a.address for a in interface.addresses}
    for name, _ in domain.members if domain is not None else ():
        if name == here.name:
            continue
        try:
            route = plan.device(name).table.lookup(address)
        except NotConverged:
            return True  # nothing is known of it
        if route is not None and any(hop.address in own for hop in route.hops):
            return True
    return False


def not_inspected(here: DevicePlan, port: str, lets_replies: bool) -> Hidden | None:
    """That answers to pings die at an outside interface, since ICMP is not inspected and no list permits them.

    Args:
        here: the device.
        port: an outside interface.
        lets_replies: a list there permits echo replies.

    """
    if not here.tracked or ICMP in here.tracked or lets_replies or not here.is_outside(port):
        return None
    words = f"{here.name} keeps no sessions of icmp, and nothing at {port} permits echo replies: pings from inside get no answer."
    mark = here.device.stateful_mark or here.device.mark
    return Hidden("session.not-inspected", mark, words, "Add icmp to stateful, or permit icmp: [echo-reply].")
