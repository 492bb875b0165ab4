"""Tunnels: which packets go into one, what ends one, and what may not pass in the clear.

A tunnel is an interface. A route that names it leads into it; with selectors (RFC 4301 section 4.4.1) so do the packets that these
protect, whatever route they have. The outer packet is one of the device's own, and comes to an end as any packet for the peer does.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from mossy_compass.headers.spans import complement, intersect, merge
from mossy_compass.model.network import Interface, Protects, Selector, Tunnel
from mossy_compass.packet.address import EVERYTHING, Address, Span, Spans, in_spans
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import UDP, Service
from mossy_compass.packet.wrapping import AROUND_PORT, KEY_PORT, VXLAN_PORT, Wrapping, outer_protocol, wrapped
from mossy_compass.plan.actions import PASS, Action, Decide, Decision, Deliver, Enter, OpenSession, Reply, Stop, Touch
from mossy_compass.plan.alike import Met, Term
from mossy_compass.plan.conditions import Condition, term_condition
from mossy_compass.plan.decide import alike, decider
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Association, Facts
from mossy_compass.plan.fields import service_span
from mossy_compass.plan.ids import stage_table
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate
from mossy_compass.plan.rows import StageRow
from mossy_compass.plan.stages.step import NOT_ANSWERING, Step, one_of
from mossy_compass.plan.table import Table
from mossy_compass.routing.domains import Port

ROW = "tunnel "
"""How the rows begin that end a tunnel; its name follows."""


def tunnels_of(here: DevicePlan) -> list[tuple[Interface, Tunnel]]:
    """The tunnels of a device that are up, with their interfaces."""
    found = [(i, i.tunnel) for i in here.device.interfaces.values() if i.tunnel is not None]
    return [(i, t) for i, t in found if here.domains.link(here.name, i.name).up]


def outer_packet(here: DevicePlan, interface: str, inner: Packet, held: Association | None = None) -> Packet | None:
    """What leaves for the peer; None where the interface whose address it would have has none of the family.

    Args:
        here: the device.
        interface: name of the tunnel.
        inner: what is to be carried.
        held: the association that it goes by, where keys are exchanged.

    """
    tunnel = here.device.interfaces[interface].tunnel
    assert tunnel is not None
    source = here.address_on(tunnel.by, tunnel.to.family)
    if source is None:
        return None
    return wrapped(tunnel.kind, inner, source, held.to if held else tunnel.to, held.to_port if held else 0)


def protecting(here: DevicePlan, tunnel: Tunnel, mine: Address, far: Address) -> tuple[Spans, Spans] | None:
    """The two ends of the first selector that protects packets between two addresses; any where a tunnel has none at all.

    Args:
        here: whose tunnel.
        tunnel: which.
        mine: the address at this end.
        far: that at the other.

    """
    ends = selected_ends(here, tunnel)
    return next((e for e in ends if in_spans(mine.key, e[0]) and in_spans(far.key, e[1])), None)


def selected_ends(here: DevicePlan, tunnel: Tunnel) -> list[tuple[Spans, Spans]]:
    """What a tunnel's selectors protect: its own end and the far one, in their order; anything where it has none at all."""
    return [_ends(here, s) for s in tunnel.selectors if s.does is Protects.PROTECT] or [(EVERYTHING, EVERYTHING)]


def agreeing(here: DevicePlan, tunnel: Tunnel, packet: Packet, mirrored: bool) -> Iterator[Met]:
    """For which packets the same selector of a tunnel is agreed on: an end's part in who is of one association.

    Args:
        here: whose tunnel.
        tunnel: which.
        packet: what goes in.
        mirrored: this is the end where it comes out.

    """
    keys = ("destination", "source") if mirrored else ("source", "destination")
    mine, far = (getattr(packet, k) for k in keys)
    for selector in tunnel.selectors:
        if selector.does is Protects.PROTECT:
            ends = _ends(here, selector)
            held = in_spans(mine.key, ends[0]) and in_spans(far.key, ends[1])
            yield Met(tuple(Condition(k, ((k, spans),)) for k, spans in zip(keys, ends, strict=True)), held)
            if held:
                return


def _does(selector: Selector, name: str) -> tuple[Action, ...]:
    """What a selector comes to."""
    if selector.does is Protects.PROTECT:
        return (Enter(name),)
    return PASS if selector.does is Protects.BYPASS else (Stop(Fate.DROPPED, "tunnel.discard"),)


def _conditions(here: DevicePlan, selector: Selector) -> tuple[Condition, ...]:
    """The ends of a selector, as a packet has them that leaves."""
    wanted = (
        None if terms is None else term_condition(key, terms, here.reader)
        for key, terms in (("from", selector.sources), ("to", selector.destinations))
    )
    return tuple(c for c in wanted if c is not None)


def _ends(here: DevicePlan, selector: Selector) -> tuple[Spans, Spans]:
    """The same as sets: the own end, and the far one."""
    found: dict[str, Spans] = {"source": EVERYTHING, "destination": EVERYTHING}
    for condition in _conditions(here, selector):
        for field, spans in condition.parts:
            if field in found:
                found[field] = spans
    return found["source"], found["destination"]


def entering(here: DevicePlan, port: str | None) -> Step | None:
    """The selectors of every tunnel, in their order."""
    tables = here.once(Stage.TUNNEL, lambda: _selectors(here))
    return Step(Stage.TUNNEL, (), tables) if tables else None


class Selectors:
    """The rows of all selectors, in their order. A tunnel's own outer packets are not for its selectors (RFC 4301 section 5.1)."""

    def __init__(self, rows: list[tuple[str, StageRow]]) -> None:
        self._rows = rows
        self.rows = tuple(row for _, row in rows)
        self._known: dict[frozenset[str], tuple[Table, Decide]] = {}

    def _of(self, facts: Facts) -> tuple[Table, Decide]:
        """The rows that a packet is to be asked about: all of them, for most packets carry no other."""
        found = self._known.get(facts.carries)
        if found is None:
            table = Table(stage_table("selectors"), [r for tunnel, r in self._rows if tunnel not in facts.carries])
            found = self._known[facts.carries] = table, decider(table)
        return found

    def decide(self, facts: Facts) -> Decision | None:
        """What the first selector says that the packet meets."""
        return self._of(facts)[1](facts)

    def alike(self, facts: Facts) -> Iterator[Term]:
        """As the rows say."""
        return alike(self._of(facts)[0], facts)


def _selectors(here: DevicePlan) -> tuple[Selectors, ...]:
    """The rows of all selectors; none where there are none."""
    rows: list[tuple[str, StageRow]] = []
    for interface, tunnel in tunnels_of(here):
        for number, selector in enumerate(tunnel.selectors, 1):
            because = Because("selector", (str(number), interface.name, here.name), selector.mark)
            conditions = (one_of("leaving", tunnel.by), *_conditions(here, selector))
            did = Did.KEPT if selector.does is Protects.BYPASS else None
            note = Because("note.bypass" if did else "note.entered", (interface.name,))
            row = StageRow(
                f"{interface.name} {number}",
                conditions,
                selector.mark,
                actions=_does(selector, interface.name),
                because=because,
                did=did,
                note=note if selector.does is not Protects.DISCARD else None,
            )
            rows.append((interface.name, row))
    return (Selectors(rows),) if rows else ()


def selector_row(here: DevicePlan, selector: Selector) -> StageRow | None:
    """The row that a selector is asked as; None where nothing asks for it."""
    return next(
        (row for table in here.once(Stage.TUNNEL, lambda: _selectors(here)) for row in table.rows if row.mark == selector.mark),
        None,
    )


def in_clear(here: DevicePlan, leaving: str, before: Packet, after: Packet) -> Because | None:
    """The selector that a packet would have gone into a tunnel by, had its source not been translated before it was asked.

    Args:
        here: the device that translated it.
        leaving: the interface that it left by.
        before, after: the packet before the translation, and after it.

    """
    found = here.once(Stage.TUNNEL, lambda: _selectors(here))
    if not found or before.source == after.source:
        return None
    decisions = [found[0].decide(Facts(packet, None, leaving=leaving)) for packet in (before, after)]
    enters = [d is not None and isinstance(d.actions[-1], Enter) for d in decisions]
    return decisions[0].because if enters == [True, False] and decisions[0] is not None else None


def _outer_service(tunnel: Tunnel) -> Spans:
    """What the outer packets of a tunnel are, as a set of services."""
    if tunnel.kind is Wrapping.VXLAN:
        return _udp(VXLAN_PORT)
    if tunnel.exchanged:
        return merge((service_span(Service(outer_protocol(tunnel.kind, 4))), *_udp(AROUND_PORT)))
    protocols = {outer_protocol(tunnel.kind, family) for family in (4, 6)}
    return merge(service_span(Service(p)) for p in protocols)


def _udp(port: int) -> Spans:
    """What goes to a UDP port."""
    return (service_span(Service(UDP, Span(port, port))),)


def endings(here: DevicePlan) -> Iterator[StageRow]:
    """The rows that end a tunnel: from its peer, to its own end. What else comes with such a protocol fits no tunnel.

    Where keys are exchanged, what asks for that is taken from the same peer (RFC 7296 section 2).
    """
    kinds: list[Spans] = []
    stopped = (Stop(Fate.DROPPED, "tunnel.mismatch"),)
    for interface, tunnel in tunnels_of(here):
        own = here.address_on(tunnel.by, tunnel.to.family)
        if own is None:
            continue
        service = _outer_service(tunnel)
        kinds.append(service)
        ends = (
            Condition("from", (("source", (Span(tunnel.to.key, tunnel.to.key),)),)),
            Condition("to", (("destination", (Span(own.key, own.key),)),)),
            one_of("error", False),
        )
        because = Because("tunnel.end", (interface.name, here.name), tunnel.mark)
        meant = (Condition("service", (("service", service),)), *ends)
        yield StageRow(f"{ROW}{interface.name}", meant, tunnel.mark, actions=(Deliver("tunnel.end"),), because=because)
        if tunnel.exchanged:
            asks: tuple[Condition, ...] = (Condition("service", (("service", _udp(KEY_PORT)),)), *ends, NOT_ANSWERING)
            taken = Touch(), OpenSession(leaves=False), Deliver("exchange.taken", Reply.ANSWER)
            because = Because("exchange.taken", (interface.name, here.name), tunnel.mark)
            yield StageRow(f"exchange {interface.name}", asks, tunnel.mark, actions=taken, because=because)
    if kinds:
        fits_none = Condition("service", (("service", merge(s for spans in kinds for s in spans)),))
        yield StageRow("no tunnel", (fits_none, one_of("error", False)), actions=stopped, tell=_no_tunnel(here))
    if any(t.exchanged for _, t in tunnels_of(here)):
        keys = Condition("service", (("service", _udp(KEY_PORT)),))
        yield StageRow("no exchange", (keys, one_of("error", False), NOT_ANSWERING), actions=stopped, tell=_no_tunnel(here))


def exchanging(here: DevicePlan, packet: Packet) -> str | None:
    """The tunnel whose keys a packet is about that came to a device's own end; None where it is about none.

    Args:
        here: the device.
        packet: as it came.

    """
    for interface, tunnel in tunnels_of(here):
        own = here.address_on(tunnel.by, tunnel.to.family)
        if tunnel.exchanged and (tunnel.to, own) == (packet.source, packet.destination):
            return interface.name
    return None


def _no_tunnel(here: DevicePlan) -> Callable[[Facts], tuple[Because, Because | None]]:
    """Why an outer packet fits no tunnel."""

    def tell(facts: Facts) -> tuple[Because, Because | None]:
        """Between which ends the tunnels are."""
        written = list(tunnels_of(here))
        known = tuple((i.name, t.kind.value, here.address_on(t.by, t.to.family), t.to) for i, t in written)
        mark = written[0][1].mark if len(written) == 1 else here.device.mark
        return Because("tunnel.none", (here.name, facts.packet, known), mark), None

    return tell


def checks(here: DevicePlan, port: str) -> tuple[Table, ...]:
    """What arrives by a tunnel must be what its selectors protect; by the interface below one, none of that may come in the clear.

    RFC 4301 section 5.2 has both.
    """
    rows = list(_unprotected(here, port))
    own = here.device.interfaces[port].tunnel
    if own is not None and any(s.does is Protects.PROTECT for s in own.selectors):
        rows += _unselected(here, port, own)
    return (Table(stage_table("protected"), rows),) if rows else ()


def _unprotected(here: DevicePlan, port: str) -> Iterator[StageRow]:
    """Clear text that should have come through a tunnel; the device's own addresses are the tunnel's ends, and apart."""
    for interface, tunnel in tunnels_of(here):
        for number, selector in enumerate(tunnel.selectors, 1):
            if tunnel.by != port or selector.does is not Protects.PROTECT:
                continue
            mine, far = _ends(here, selector)
            inside = intersect(mine, complement(here.own_spans))
            because = Because("tunnel.clear", (str(number), interface.name, here.name), selector.mark)
            meant = Condition("from", (("source", far),)), Condition("to", (("destination", inside),)), one_of("error", False)
            yield StageRow(
                f"clear {interface.name} {number}", meant, actions=(Stop(Fate.DROPPED, "tunnel.clear"),), because=because
            )


def _unselected(here: DevicePlan, port: str, tunnel: Tunnel) -> Iterator[StageRow]:
    """What came through a tunnel and is not between the ends that its selectors name."""
    for number, selector in enumerate(tunnel.selectors, 1):
        if selector.does is Protects.PROTECT:
            mine, far = _ends(here, selector)
            meant = Condition("from", (("source", far),)), Condition("to", (("destination", mine),))
            yield StageRow(f"protected {number}", meant, actions=PASS, did=None)
    yield StageRow("error", (one_of("error", True),), actions=PASS, did=None)
    because = Because("tunnel.selector", (port, here.name), tunnel.mark)
    yield StageRow("not selected", (), actions=(Stop(Fate.DROPPED, "tunnel.selector"),), because=because)


def other_end(here: DevicePlan, port: str) -> Port | None:
    """The device and interface at the other end of a tunnel, as things are written; None where nobody's tunnel fits it."""
    domain = here.domains.of(here.name, port)
    others = [m for m in domain.members if m != (here.name, port)] if domain is not None else []
    return others[0] if len(others) == 1 else None
