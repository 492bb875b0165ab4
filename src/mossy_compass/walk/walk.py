"""The loop: a queue of emitted packets, each followed to its end, which may put further packets into the queue.

A journey is the tree of its legs. What is sent because of what is for ``plan/replies.py`` to say; this file only asks.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from typing import Any, NamedTuple

from mossy_compass.headers.spans import intersect
from mossy_compass.packet.address import FAMILIES, Address, from_key
from mossy_compass.packet.packet import Packet, last_piece
from mossy_compass.packet.service import UDP
from mossy_compass.packet.wrapping import AROUND_PORT, KEY_PORT, Wrapping, inner_mtu
from mossy_compass.plan.actions import Decision, Handover, Reply
from mossy_compass.plan.balance import Choose
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import SOME_TIME, Association, Moment
from mossy_compass.plan.order import Stage
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Did, Fate
from mossy_compass.plan.replies import reply_to
from mossy_compass.plan.stages.sessions import session_gone
from mossy_compass.plan.stages.tunnel import ROW, in_clear, outer_packet, selected_ends
from mossy_compass.state.state import State
from mossy_compass.walk.associate import TAKEN, Agreed, Lost, Send, associated, first_is_lost, tunnel_of, unknown_there
from mossy_compass.walk.execute import Stay, StayEnd
from mossy_compass.walk.journey import UNWRAPPED, Hop, Leg, Way

MOST_LEGS = 32
"""So many packets are followed of one. Replies about replies are barred, so no network of today comes to this; one that
does is told so (cause ``walk.limit``), for an answer that stops in the middle would be taken for the whole."""
MOST_HOPS = 600
"""A packet has at most 255 hops (RFC 791), and one more for its end, as every order that forwards counts them down."""

LIMIT = "walk.limit"


class Emission(NamedTuple):
    """A packet that a device makes.

    Attributes:
        packet: what is sent.
        device: who sends it.
        way: what it is within the journey.
        parent: number of the leg that it answers.
        leaving: the interface that it must leave by, for a link-local destination; None: the routes say.
        number: which packet of the test's flow it is: 1 opens it, 2 answers.
        next_hop: with ``leaving``, whom it is handed to; None for the destination itself.
        divides: it may be divided on its way.

    """

    packet: Packet
    device: str
    way: Way
    parent: int | None = None
    leaving: str | None = None
    number: int = 1
    next_hop: Address | None = None
    divides: bool = False


class At(NamedTuple):
    """Where a packet is.

    Attributes:
        device, arriving, handed: who has it, by which interface, and from whom.
        packet: what it is by then.

    """

    device: str
    arriving: str | None
    handed: tuple[str, str] | None
    packet: Packet


def walk(
    plan: Plan,
    state: State,
    first: Emission,
    choose: Choose | None = None,
    moment: Moment = SOME_TIME,
    answers: Callable[[Leg], bool] | None = None,
) -> list[Leg]:
    """Follow a packet, and everything that is sent because of it, first come first served.

    Args:
        plan: the network.
        state: what devices remember; written while packets pass.
        first: the packet that begins it all.
        choose: how equal ways are chosen; None: by the hash.
        moment: what holds for the whole test.
        answers: takes the first packet's way; False where nobody answers it after all. None: whoever takes it does.

    """
    legs: list[Leg] = []
    queue = deque([first])
    while queue and len(legs) < MOST_LEGS:
        emission = queue.popleft()
        leg, reply = follow(plan, state, emission, choose, moment)
        if reply is not None and not legs and answers is not None and not answers(leg):
            reply = None
        if reply is not None:
            queue.append(reply._replace(parent=len(legs), number=emission.number + 1))
        legs.append(leg)
    if queue:  # what the packets after these would have changed is not known, so what these say is not the answer
        return [legs[0]._replace(fate=Fate.LOOPED, cause=LIMIT, because=Because(LIMIT, (MOST_LEGS, "packets")), remark=None)]
    return legs


def follow(
    plan: Plan,
    state: State,
    emission: Emission,
    choose: Choose | None,
    moment: Moment = SOME_TIME,
    within: tuple[tuple[str, str], ...] = (),
    at: At | None = None,
) -> tuple[Leg, Emission | None]:
    """One packet from the device that makes it to its end, and what is sent because of that end.

    A loop is found when the packet comes to the same interface of the same device unchanged but for its TTL; the walk
    then goes on without a record until the TTL runs out, to learn who would tell the sender.

    Args:
        plan: the network.
        state: what devices remember.
        emission: the packet, with who sends it and why.
        choose: how equal ways are chosen; None: by the hash.
        moment: what holds for the whole test.
        within: the tunnels that it is an outer packet of, by device and name.
        at: where it is already; None with who sends it.

    """
    track = Track(plan)
    packet, name, arriving, handed = emission.packet, emission.device, None, None
    if at is not None:
        name, arriving, handed, packet = at
        emission = emission._replace(packet=packet)
    pieces: list[At] = []
    for _ in range(MOST_HOPS):
        stay = Stay(plan.device(name), packet, arriving, state, choose, moment, emission.number, handed)
        if arriving is None:
            stay.facts.leaving, stay.facts.next_hop = emission.leaving, emission.next_hop
        if within:  # only a tunnel's own packets may be divided
            stay.facts.divides = emission.divides
            stay.facts.carries = frozenset(port for device, port in within if device == name)
        track.visit(name, arriving, packet)
        end = stay.run()
        if end is not None:
            leg = track.leg(emission, stay, end)
            if pieces and end.fate is Fate.DELIVERED:
                later = (follow(plan, state, emission, choose, moment, within, piece)[0] for piece in pieces)
                leg = leg._replace(pieces=tuple(later))
            return leg, reply_emitted(stay, end, choose)
        assert stay.handover is not None
        if stay.handover.tunnel:
            through = carried(plan, state, stay, choose, moment, within)
            if through.lost is not None:
                return track.lost(emission, stay, through), None
            assert through.outer is not None
            if through.exchange and through.held is not None:
                stay.agreed(through.held)
            stay.handover = taken(stay.handover, through.outer)
            track.hop(stay, through.outer, through.exchange)
        else:
            track.hop(stay)
        if stay.facts.leaving is not None:
            handed = name, stay.facts.leaving
        packet, name, arriving = stay.facts.packet, stay.handover.device, stay.handover.interface
        if stay.divided:  # a later piece has no ports, and may meet other rows
            pieces.append(At(name, arriving, handed, last_piece(packet, stay.divided)))
    return track.broken_off(emission, packet), None


def left_in_clear(plan: Plan, hops: Iterable[Hop]) -> Because | None:
    """That a packet left in the clear which would have gone into a tunnel, had its source not been translated before.

    Args:
        plan: the network.
        hops: of the packet.

    """
    for hop in hops if plan.has_selectors else ():
        moved = next((r for r in hop.rulings if r.stage == Stage.TRANSLATE_SOURCE and r.did is Did.REWRITTEN), None)
        if moved is not None and hop.leaving is not None:
            found = in_clear(plan.device(hop.device), hop.leaving, moved.saw, moved.gave)
            if found is not None:
                return Because("root.in-clear", (hop.device, moved.saw.source, moved.gave.source, found), found.mark)
    return None


class Through(NamedTuple):
    """A packet's way through a tunnel.

    Attributes:
        outer: the way of what carried it; None where nothing set out.
        exchange: the ways of the packets by which keys were exchanged for it.
        held: the association that it goes by; None where none is needed, or there.
        lost: why it did not come out; None where it did.
        error: the way home of the error about what carried it, where that was too long; None where none was sent.

    """

    outer: Leg | None = None
    exchange: tuple[Leg, ...] = ()
    held: Association | None = None
    lost: Lost | None = None
    error: Leg | None = None


def carried(
    plan: Plan, state: State, stay: Stay, choose: Choose | None, moment: Moment, within: tuple[tuple[str, str], ...]
) -> Through:
    """What carries a packet to the end of a tunnel, and whether it gets there. Where keys are exchanged, that comes first."""
    here, port, inner = stay.here, stay.facts.leaving, stay.facts.packet
    assert port is not None
    tunnel = tunnel_of(here, port)
    if (here.name, port) in within:
        because = Because("tunnel.recursion", (port, here.name), here.device.interfaces[port].mark)
        return Through(lost=Lost("tunnel.recursion", because))
    carries = (*within, (here.name, port))

    send = _exchanging(plan, state, choose, moment, carries)
    held, legs, lost = associated(plan, state, here, port, inner, send) if tunnel.exchanged else Agreed(None)
    first = first_is_lost(here) if legs else None
    if lost is None and first is not None:
        lost = Lost("tunnel.first-packet", first)
    if lost is not None:
        return Through(lost.outer, tuple(leg for leg in legs if leg.cause in TAKEN), held, lost)
    packet = outer_packet(here, port, inner, held)
    if packet is None:
        values = f"{here.name}/{tunnel.by}", tunnel.to.family
        return Through(lost=Lost("source.none", Because("address.none", values, here.device.interfaces[port].mark)))
    # What carries IPv6 may never say that less than 1280 bytes fit (RFC 2473 section 7.1, RFC 8200 section 5): it is divided then.
    divides = tunnel.divides or (inner.destination.family == 6 and inner.size <= LEAST_OF_IPV6)
    emission = Emission(packet, here.name, Way.OUTER, number=stay.facts.number, divides=divides)
    outer, told = follow(plan, state, emission, choose, moment, carries)
    failed = next((leg for leg in (outer, *outer.pieces) if leg.cause not in (UNWRAPPED, PIECE)), None)
    if failed is not None:
        error = follow(plan, state, told, choose, moment)[0] if told is not None and failed.cause == TOO_LONG else None
        if learns(here, failed, error) and here.settings.text("path-mtu") == "learn":
            state.associations.learn(here.name, port, longest_inside(here, port, failed), state.now + LEARNED_FOR)
        return Through(failed, legs, held, Lost(failed.cause, failed.because, failed.remark, failed), error)
    lost = unknown_there(plan, state, here, port, held, outer)
    return Through(outer if lost is None else lost.outer, legs, held, lost)


TOO_LONG = "mtu.exceeded"
PIECE = "fragment.part"
"""The cause of a later piece's end at the device that it was for."""
LEAST_OF_IPV6 = 1280
LEARNED_FOR = 600_000
"""How long what was learned of a way holds, in milliseconds: ten minutes (RFC 1191 section 6.3, RFC 8201 section 4)."""


def learns(here: DevicePlan, lost: Leg, error: Leg | None) -> bool:
    """Whether a tunnel's device gets to know that what carried a packet was too long: by its own interface, or by an error that gets home.

    Args:
        here: the device.
        lost: the way of what carried it. Where that was lost within a further tunnel, this one's device learns of it first.
        error: the way home of what was said about it; None where nothing was.

    """
    if lost.cause != TOO_LONG or lost.way is not Way.OUTER or lost.deciding is not lost:
        return False
    return lost.end == here.name if error is None else error.end == here.name and error.fate is Fate.DELIVERED


def longest_inside(here: DevicePlan, port: str, lost: Leg) -> int:
    """The longest packet that goes into a tunnel, in bytes, by what was said of an outer one that was too long.

    Args:
        here: the device.
        port: its tunnel.
        lost: the way of the outer packet.

    """
    tunnel = tunnel_of(here, port)
    around = tunnel.kind is Wrapping.ESP and lost.packet.protocol == UDP
    return inner_mtu(tunnel.kind, tunnel.to.family, lost.because.named["mtu"], around)


def _exchanging(plan: Plan, state: State, choose: Choose | None, moment: Moment, within: tuple[tuple[str, str], ...]) -> Send:
    """What sends the packets of an exchange of keys."""
    return lambda packet, device: follow(plan, state, Emission(packet, device, Way.EXCHANGE), choose, moment, within)[0]


def agree(plan: Plan, state: State, here: DevicePlan, port: str, packet: Packet) -> Association | None:
    """The association that a packet would go by; None where none can be made.

    Args:
        plan: the network.
        state: what devices remember; it is written.
        here: who sends into the tunnel.
        port: the tunnel, whose keys are exchanged.
        packet: what would go in.

    """
    send = _exchanging(plan, state, None, SOME_TIME, ((here.name, port),))
    return associated(plan, state, here, port, packet, send).held


class Tried(NamedTuple):
    """A tunnel that was tried from one end.

    Attributes:
        agreed: what came of the exchange of its keys.
        outer: the ways of what carries a packet, there and back, as far as these were sent.

    """

    agreed: Agreed
    outer: tuple[Leg, ...] = ()

    @property
    def lost(self) -> Leg | None:
        """What is lost of them; None where nothing is."""
        return next((leg for leg in self.outer if leg.cause != UNWRAPPED), None)


def agreements(plan: Plan, state: State, device: str, port: str) -> list[Tried]:
    """What comes of an exchange of keys for each pair of ends that a tunnel's selectors protect; each from the same state.

    Args:
        plan: the network.
        state: what devices remember; nothing of it stays.
        device: who asks.
        port: its tunnel, whose keys are exchanged.

    """
    here, out = plan.device(device), []
    send = _exchanging(plan, state, None, SOME_TIME, ((device, port),))
    tunnel = tunnel_of(here, port)
    for mine, far in selected_ends(here, tunnel):
        # A packet inside is of the family of both ends; of what is any, as the tunnel's own.
        wanted = [span for family in (tunnel.to.family, 10 - tunnel.to.family) for span in [FAMILIES[family]]]
        ends = next(
            ((a[0], b[0]) for span in wanted for a, b in [(intersect(mine, (span,)), intersect(far, (span,)))] if a and b), None
        )
        if ends is None:
            continue
        inside = Packet(UDP, from_key(ends[0].first), from_key(ends[1].first), 0, 0)
        with state.unchanged():
            agreed = associated(plan, state, here, port, inside, send)
            out.append(Tried(agreed, tuple(_carriers(plan, state, agreed.held, inside)) if agreed.held is not None else ()))
    return out


def _carriers(plan: Plan, state: State, held: Association, inside: Packet) -> Iterator[Leg]:
    """The ways of what carries a small packet by an association, and of what carries its answer."""
    back = state.associations.get(held.peer, held.number)
    assert back is not None
    for view, packet in ((held, inside), (back, inside._replace(source=inside.destination, destination=inside.source))):
        outer = outer_packet(plan.device(view.device), view.tunnel, packet, view)
        assert outer is not None
        emission = Emission(outer, view.device, Way.OUTER)
        leg = follow(plan, state, emission, None, within=((view.device, view.tunnel),))[0]
        yield leg
        if leg.cause != UNWRAPPED:
            return


def part(plan: Plan, state: State, held: Association) -> None:
    """A device ends an association, and says so to the other end, which may not hear it (RFC 7296 section 1.4.1).

    Args:
        plan: the network.
        state: what devices remember; it is written.
        held: the association, as this device has it.

    """
    state.associations.end(held.device, held.number)
    leg = _farewell(plan, state, held)
    if leg is not None and leg.cause in TAKEN and leg.end == held.peer:
        state.associations.end(held.peer, held.number)


def _farewell(plan: Plan, state: State, held: Association) -> Leg | None:
    """The way of what tells the other end that an association is over; None where the device cannot send it."""
    here = plan.device(held.device)
    interface = here.device.interfaces.get(held.tunnel)
    own = here.address_on(interface.tunnel.by, held.to.family) if interface is not None and interface.tunnel is not None else None
    if own is None:
        return None
    ports = (AROUND_PORT, held.to_port) if held.to_port else (KEY_PORT, KEY_PORT)
    packet = Packet(UDP, own, held.to, *ports)
    return follow(plan, state, Emission(packet, held.device, Way.EXCHANGE), None, within=((held.device, held.tunnel),))[0]


def taken(handover: Handover, outer: Leg) -> Handover:
    """Who got what an outer packet carried: the tunnel that it came to an end at."""
    row = outer.hops[-1].rulings[-1].row
    latency = sum(h.latency_ms for h in outer.hops)
    return handover._replace(device=outer.end, interface=row.removeprefix(ROW), latency_ms=latency)


def reply_emitted(stay: Stay, end: StayEnd, choose: Choose | None) -> Emission | None:
    """What the device sends home. Its own packet's error is told within its own system."""
    if stay.facts.arriving is None and end.reply not in (Reply.ANSWER, Reply.REFUSAL):
        return None
    sent = reply_to(stay.here, stay.facts, end.reply, choose, end.answer)
    if sent is None:
        return None
    # a link-local end means something on the segment alone that the packet came by (RFC 4007 section 9)
    leaving = stay.facts.arriving if sent.packet.destination.is_link_local else None
    return Emission(sent.packet, stay.here.name, Way.BACK if sent.answers else Way.ERROR, leaving=leaving)


class Track:
    """The hops of a leg, and the circle that it goes in, if it does."""

    __slots__ = ("circle", "hops", "plan", "seen")

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.hops: list[Hop] = []
        self.seen: dict[tuple[Any, ...], int] = {}
        self.circle: int | None = None

    def visit(self, device: str, arriving: str | None, packet: Packet) -> None:
        """Note where the packet is; the first place that it comes to again begins the circle."""
        key = (device, arriving, packet[:7], packet[8:])  # all but the TTL
        start = self.seen.setdefault(key, len(self.hops))
        if self.circle is None and start < len(self.hops):
            self.circle = start

    def hop(self, stay: Stay, outer: Leg | None = None, exchange: tuple[Leg, ...] = ()) -> None:
        """Record a device, unless the packet went round already."""
        if self.circle is None:
            self.hops.append(_hop(stay, outer, exchange))

    def lost(self, emission: Emission, stay: Stay, through: Through) -> Leg:
        """The leg of a packet that was lost with the one that carried it; or that no other could carry."""
        assert through.lost is not None
        cause, because, remark, outer = through.lost
        last = stay.rulings[-1]
        stopped = last.decision._replace(did=Did.DROPPED) if outer is not None else Decision(Did.DROPPED, because, (), remark)
        stay.rulings[-1] = last._replace(cause=cause, decision=stopped)
        stay.handover = None
        self.hops.append(_hop(stay, outer, through.exchange)._replace(error=through.error))
        return self._made(emission, stay.facts.packet, Fate.DROPPED, cause, because, remark)

    def leg(self, emission: Emission, stay: Stay, end: StayEnd) -> Leg:
        """The whole leg. Of a circle that a TTL ended, the circle is the cause."""
        arrived = stay.facts.packet
        if self.circle is None or not end.ttl_ended:
            self.hops.append(_hop(stay))
            lost = self._behind(stay) if end.fate is not Fate.DELIVERED else None
            return self._made(emission, arrived, end.fate, end.cause, end.because, end.remark)._replace(behind=lost)
        round_trip = self.hops[self.circle :]
        path = tuple(h.device for h in round_trip)
        routes = tuple((h.device, r.because) for h in round_trip for r in h.rulings if r.hop is not None)
        mark = next((b.mark for _, b in routes), None)
        because = Because("loop", ((*path, path[0]),), mark)
        return self._made(emission, arrived, Fate.LOOPED, "loop", because, Because("note.loop", (routes, stay.here.name)))

    def broken_off(self, emission: Emission, packet: Packet) -> Leg:
        """The leg of a packet that found no end within the bounds."""
        return self._made(emission, packet, Fate.LOOPED, LIMIT, Because(LIMIT, (MOST_HOPS, "devices")), None)

    def _behind(self, stay: Stay) -> Because | None:
        """Why it came here at all, or as whose: past a tunnel, from another uplink than before, or as part of a session which is over."""
        clear = left_in_clear(self.plan, self.hops)
        if clear is not None:
            return clear
        for hop in self.hops if self.plan.moves_flows else ():
            for ruling in hop.rulings:
                if ruling.remark is not None and ruling.remark.code == "note.moved":
                    return Because("root.moved", (hop.device, *ruling.remark.values), ruling.because.mark)
        gone = stay.facts.gone
        if gone is None or any(r.because.code == "session.gone" for r in stay.rulings):
            return None
        return Because("root.gone", (session_gone(stay.here, gone, stay.state.now),))

    def _made(self, emission: Emission, arrived: Packet, fate: Fate, cause: str, because: Because, remark: Because | None) -> Leg:
        """The record of the way that was gone."""
        return Leg(
            way=emission.way,
            packet=emission.packet,
            arrived=arrived,
            hops=tuple(self.hops),
            fate=fate,
            cause=cause,
            because=because,
            remark=remark,
            behind=None,
            parent=emission.parent,
        )


def _hop(stay: Stay, outer: Leg | None = None, exchange: tuple[Leg, ...] = ()) -> Hop:
    """What happened at one device, as a record."""
    facts, handover = stay.facts, stay.handover
    kind = stay.here.kind
    if handover is None:
        return Hop(
            device=stay.here.name,
            kind=kind,
            arriving=facts.arriving,
            leaving=facts.leaving,
            next_device=None,
            segment=None,
            bridges=(),
            rulings=tuple(stay.rulings),
            outer=outer,
            exchange=exchange,
        )
    return Hop(
        device=stay.here.name,
        kind=kind,
        arriving=facts.arriving,
        leaving=facts.leaving,
        next_device=handover.device,
        segment=handover.segment,
        bridges=handover.switches,
        rulings=tuple(stay.rulings),
        latency_ms=handover.latency_ms,
        outer=outer,
        exchange=exchange,
    )
