"""For which packets a decision would have been the same.

A decision rests on conditions that held, on conditions that did not, and on rows that came first in their tables. Each of
these is a value here, and together they say a set of packets: all that are decided alike, as this stage saw them. Nothing in
them is computed before somebody asks; an executor over sets makes sets of them, and a test asks whether they hold.

What stands outside is a choice by hash among equal ways: there the same packets may be sent on by different ways.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from mossy_compass.packet.address import Span, Spans
from mossy_compass.packet.flow import FiveTuple
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, WITH_PORTS
from mossy_compass.plan.actions import Listed
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.fields import SLOT_BITS
from mossy_compass.plan.rows import Row


class Met(NamedTuple):
    """The packets that meet all of some conditions, or those that do not.

    Attributes:
        conditions: the conditions.
        wanted: True for those that meet all; False for those that miss at least one.

    """

    conditions: tuple[Condition, ...]
    wanted: bool = True

    def holds(self, facts: Facts) -> bool:
        """Whether a packet is one of them."""
        return all(c.holds(facts) for c in self.conditions) is self.wanted


class Decided(NamedTuple):
    """The packets that one row of a table decides.

    Attributes:
        table: the table.
        row: the first that they meet; None for those that no row decides.

    """

    table: Listed
    row: Row | None

    def holds(self, facts: Facts) -> bool:
        """Whether a packet is one of them."""
        return self.table.first(facts) is self.row


class AsItCame(NamedTuple):
    """The packets that another term is about as they came to the device, whatever they have become there.

    Attributes:
        term: about the packet as it came.

    """

    term: Met

    def holds(self, facts: Facts) -> bool:
        """Whether a packet is one of them."""
        now, facts.packet = facts.packet, facts.came
        holds = self.term.holds(facts)
        facts.packet = now
        return holds


Term = Met | Decided | AsItCame
"""One thing that a decision rests on. Of several terms all hold."""


def within(field: str, spans: Spans) -> Met:
    """The packets whose number of a field, or whose address on the line, lies in some runs."""
    return Met((Condition(field, ((field, spans),)),))


def known_as(field: str, value: object) -> Met:
    """The packets whose field is exactly this, for a field of names."""
    return Met((Condition(field, ((field, frozenset((value,))),)),))


def _is(field: str, value: int) -> Condition:
    """That a number of a field is this."""
    return Condition(field, ((field, (Span(value, value),)),))


def of_flow(flow: FiveTuple, sample: Packet | None = None) -> tuple[Condition, ...]:
    """The conditions that a packet meets when it belongs to a flow.

    Args:
        flow: the flow.
        sample: a packet of it, for the ICMP kind, which a flow does not keep.

    """
    ends = _is("source", flow.source.key), _is("destination", flow.destination.key)
    base = flow.protocol << SLOT_BITS
    if flow.protocol in (ICMP, ICMP6):
        kinds = Span(base, base + (1 << SLOT_BITS) - 1) if sample is None else Span(base + sample.icmp + 1, base + sample.icmp + 1)
        return (*ends, Condition("service", (("service", (kinds,)),)), _is("identifier", flow.from_port))
    if flow.protocol not in WITH_PORTS or flow.from_port < 0:
        return (*ends, _is("service", base))
    return (*ends, _is("service", base + flow.to_port + 1), _is("from-port", flow.from_port))


def apart_from(flows: Iterable[FiveTuple]) -> Iterator[Met]:
    """The packets that belong to none of some flows."""
    for flow in flows:
        yield Met(of_flow(flow), False)
