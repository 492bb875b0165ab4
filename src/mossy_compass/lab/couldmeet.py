"""Which packets, as they are sent, could ever come under some conditions: by what they become, by answers to them, or by errors.

It is a superset, made from what is written alone; who wants to know more follows the packets.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator
from typing import Any, NamedTuple

from mossy_compass.headers.sets import Set
from mossy_compass.headers.spans import merge
from mossy_compass.lab.forms import Form, Sets
from mossy_compass.model.network import Network
from mossy_compass.packet.address import Address, Span, Spans
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, UDP, Service, icmp_span
from mossy_compass.packet.wrapping import AROUND_PORT, KEY_PORT, outer_protocol
from mossy_compass.plan.alike import Met
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.fields import FIELDS, SLOT_BITS, SetKind, service_span

_ERRORS = tuple(
    service_span(Service(protocol, icmp_span((kind, None))))
    for protocol, kinds in ((ICMP, (3, 4, 5, 11, 12)), (ICMP6, (1, 2, 3, 4)))  # RFC 792, RFC 4443 section 2.1
    for kind in kinds
)
_ADDRESSES = frozenset(("source", "destination", "source-bits", "destination-bits"))
_PORTS = frozenset(("service", "from-port", "identifier"))


class Given(NamedTuple):
    """What packets can have by no doing of their own sender.

    Attributes:
        addresses: those that translations give, and of who asks in its own name.
        ports: some translation may give a port or an identifier.
        outer: what is put around packets in tunnels: runs of services.
        ends: the addresses of those packets.

    """

    addresses: Spans
    ports: bool
    outer: Spans
    ends: Spans


def given_by(*networks: Network) -> Given:
    """What packets can be given in some networks."""
    addresses: list[Span] = []
    outer: list[Span] = []
    ends: list[Span] = []
    ports = False
    for network in networks:
        for device in network.devices.values():
            own = [Span(a.key, a.key) for a, _ in device.own_addresses()]
            for rule in device.translate:
                if rule.disabled:
                    continue
                ports = ports or not rule.exempt
                addresses += [*rule.outer, *own, *(Span(a.key, a.key) for a in (rule.goes_to, *rule.servers) if a is not None)]
                # An answer gets back what its conversation began with.
                addresses += [s for t in rule.destinations or () for s in t.spans or own]
            for port in device.interfaces.values():
                if port.tunnel is not None:
                    outer += [service_span(Service(outer_protocol(port.tunnel.kind, family))) for family in (4, 6)]
                    if port.tunnel.exchanged:
                        outer += [service_span(Service(UDP, Span(p, p))) for p in (KEY_PORT, AROUND_PORT)]
                    ends += [*own, Span(port.tunnel.to.key, port.tunnel.to.key)]
    # What a tunnel sends may be translated on its way, like anything.
    return Given(merge(addresses), ports, merge(outer), merge((*ends, *addresses)) if ends else ())


def could_meet(sets: Sets, conditions: Iterable[Condition], given: Given) -> Set:
    """The packets that could come under all of some conditions: as they are sent or by then, by an answer, or by an error about them.

    Args:
        sets: where conditions become sets.
        conditions: of a row.
        given: what packets can be given.

    """
    every = tuple(conditions)
    services = [_values(c, {"service"}) for c in every if set(c.fields) == {"service"}]
    if _of_tunnels(every, services, given):
        return sets.space.possible
    facts = Facts(Packet(0, Address(4, 0), Address(4, 0)), None)
    kept = [list(_kept(every, given))]
    if all(_meet(spans, _ERRORS) for spans in services):
        # An error goes to who sent the packet or the answer that it is about; by which address it is sent is nothing of theirs.
        kept.append([c for c in kept[0] if set(c.fields) <= {"destination", "destination-bits"}])
    held = []
    for form, conditions in itertools.product((Form(), Form().reversed()), kept):
        mine = sets.space.possible
        for condition in conditions:
            mine = mine & sets.of(Met((condition,)), facts, form)
        held.append(mine)
    return sets.space.union(held)


def _of_tunnels(conditions: tuple[Condition, ...], services: list[Spans], given: Given) -> bool:
    """Whether an outer packet of a tunnel may meet them, which any packet can bring about."""
    sides = [_values(c, _ADDRESSES) for c in conditions if c.fields and set(c.fields) <= {"source", "destination"}]
    return bool(given.outer) and all(_meet(s, given.outer) for s in services) and all(_meet(s, given.ends) for s in sides)


def _kept(conditions: tuple[Condition, ...], given: Given) -> Iterator[Condition]:
    """What of conditions holds of a packet as it is sent, wherever it comes under them."""
    for condition in conditions:
        fields = set(condition.fields)
        if fields and fields <= _ADDRESSES:
            masked = any(name.endswith("-bits") and values for name, values in condition.parts)
            if not (given.addresses and (masked or _meet(_values(condition, _ADDRESSES), given.addresses))):
                yield condition
        elif fields and fields <= _PORTS:
            if not given.ports:
                yield condition
            elif fields == {"service"}:
                spans = _values(condition, fields)
                whole = merge(Span(s.first >> SLOT_BITS << SLOT_BITS, (s.last >> SLOT_BITS) + 1 << SLOT_BITS) for s in spans)
                yield Condition("protocol", (("service", whole),))


def _values(condition: Condition, names: Iterable[str]) -> Spans:
    """The runs of values that a condition wants of some fields."""
    wanted = set(names)
    parts: list[tuple[str, Any]] = [(n, v) for n, v in condition.parts if n in wanted and FIELDS[n].kind is SetKind.INTERVALS]
    return merge(span for _, values in parts for span in values)


def _meet(spans: Spans, others: Spans) -> bool:
    """Whether two lots of runs have a value in common."""
    return any(a.first <= b.last and b.first <= a.last for a in spans for b in others)
