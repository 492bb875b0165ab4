"""Whole journeys of sets of packets: which packets fare as one does, there and back, over every equal way.

One packet is walked, and beside it every step is asked with which other packets it would have done the same. So the set of packets
that are alike grows along the way: there, where sessions are opened, and back, where the answer to each meets its own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

from mossy_compass.errors import TooLarge
from mossy_compass.headers.sets import Set
from mossy_compass.lab.cells import Stayed, stay_at
from mossy_compass.lab.forms import Form, Sets, exactly, holding
from mossy_compass.lab.own_sessions import OwnSessions
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import FIRST_DYNAMIC_PORT, Packet
from mossy_compass.packet.service import WITH_PORTS
from mossy_compass.packet.wrapping import VXLAN_PORT
from mossy_compass.plan.actions import Handover, Reply
from mossy_compass.plan.balance import Choose
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.plan import Plan
from mossy_compass.routing.table import NextHop
from mossy_compass.state.state import State
from mossy_compass.walk.associate import alike_in
from mossy_compass.walk.execute import StayEnd
from mossy_compass.walk.journey import Journey, Leg, Way
from mossy_compass.walk.many import by_every_choice
from mossy_compass.walk.question import Question
from mossy_compass.walk.sent import sent
from mossy_compass.walk.walk import MOST_HOPS, Emission, carried, reply_emitted, taken

MOST_STAYS = 20_000
"""So many stays are looked at for one set: where devices remember of each packet something else, every port is another kind."""
Ask = Callable[[Packet], Question]
"""Makes the question that has a packet."""


class Whole(NamedTuple):
    """Packets that all fare as one of them does.

    Attributes:
        held: the packets, as they were sent.
        packet: the one that was walked.
        journeys: its journeys, one for each combination of equal ways.
        doubts: what is not known to be the same for all of them, a few words each.
        of_case: something on the way asked for the moment or the circumstances; where nothing did, they fare so at any time.
        stays: how many stays at devices were looked at.

    """

    held: Set
    packet: Packet
    journeys: tuple[Journey, ...]
    doubts: tuple[str, ...]
    of_case: bool
    stays: int


def wholes(
    plan: Plan, sets: Sets, held: Set, ask: Ask, state: State, usual: Callable[[Facts], Packet], errors: bool = False
) -> Iterator[Whole]:
    """Tell packets apart by how they fare, there and back, each of them alone.

    Args:
        plan: the network.
        sets: where terms become sets.
        held: what is sent, each packet as a first one.
        ask: makes a question of one of them.
        state: what devices remember; nothing of the packets is remembered.
        usual: the packet that is walked for one that a set offers: as people know them. It is taken where the set has it.
        errors: what an ICMP error about a packet comes to is a part of how that one fares.

    Raises:
        TooLarge: more stays come of it than are looked at.

    """
    left, stays = held, 0
    while left.satisfiable():
        facts = sets.space.witness(left)
        assert facts is not None
        wished = usual(facts)
        packet = wished if holding(sets.space, left, wished, facts.relation) else facts.packet
        found = whole(plan, sets, left, ask(packet), state, errors)
        assert holding(sets.space, found.held, packet, facts.relation), packet
        left = left & ~found.held
        stays += found.stays
        if stays > MOST_STAYS:
            raise TooLarge(f"more than {MOST_STAYS} stays of packets at devices come of it.")
        yield found


def whole(plan: Plan, sets: Sets, held: Set, question: Question, state: State, errors: bool = False) -> Whole:
    """How one packet fares, and which others of a set fare so.

    Args:
        plan, sets, state, errors: as for ``wholes``.
        held: packets, with that one.
        question: it has the packet.

    """
    assert question.packet is not None
    sets.of_case.clear()
    walker = Walker(plan, sets, state, question, errors)
    found, all_of_them = by_every_choice(walker.by)
    for _, (_, alike) in found:
        held = held & alike
    doubts = (*walker.doubts, *(() if all_of_them else ("there are more combinations of equal ways than are looked at",)))
    journeys = tuple(journey for _, (journey, _) in found)
    return Whole(held, question.packet, journeys, tuple(dict.fromkeys(doubts)), bool(sets.of_case), walker.stays)


def as_known(facts: Facts) -> Packet:
    """The packet as people know it: from a port that systems choose."""
    packet = facts.packet
    return packet._replace(from_port=FIRST_DYNAMIC_PORT) if packet.protocol in WITH_PORTS else packet


class Stood(NamedTuple):
    """Where a packet came to, and as what.

    Attributes:
        device, arriving: where; None for a packet that the device made.
        packet: as it came.
        form: what each part of it is of what was sent.
        handed: who handed it on, and by which interface.

    """

    device: str
    packet: Packet
    arriving: str | None
    form: Form
    handed: tuple[str, str] | None


_NOBODY = Address(4, 0)
Spot = tuple[object, ...]
"""What tells apart where packets are, and as what."""


def fixed(stood: Stood) -> tuple[object, ...]:
    """The parts of a packet that are one value for all that are there."""
    form, packet = stood.form, stood.packet
    parts = ((form.source, packet.source), (form.destination, packet.destination), (form.near, packet.from_port))
    return tuple(value for part, value in (*parts, (form.far, packet.to_port)) if not part)


class KnownStay(NamedTuple):
    """A stay at a device that remembers nothing, and from which a neighbour got the packet as it was, or nobody.

    Attributes:
        cell: the packets with which it does the same, as they were sent.
        of_case: what it asked of the moment and circumstances.
        handover, leaving: who got the packet, and by which interface; None where its way ended.
        form: what the packets are when they leave; of those that end, the form that is answered.
        counts_down: their TTL is one less then.

    """

    cell: Set
    of_case: frozenset[str]
    handover: Handover | None
    leaving: str | None
    form: Form
    counts_down: bool


class Walker:
    """One packet on its ways, and with it those that fare as it does.

    Attributes:
        reuses: a stay that is known already is not looked at again; ``stayed`` is not told of it.

    """

    reuses = True

    def __init__(self, plan: Plan, sets: Sets, state: State, question: Question, errors: bool = False) -> None:
        self.plan, self.sets, self.state, self.question, self.errors = plan, sets, state, question, errors
        self.loose = frozenset(name for name in plan.network.devices if state.loose_ends(name))
        self.doubts: list[str] = []
        self.stays = 0
        self._exact: Set | None = None

    def by(self, choose: Choose) -> tuple[Journey, Set]:
        """The journey by some choices among equal ways, and the packets that fare alike by the same choices."""
        assert self.question.packet is not None
        with self.state.unchanged():
            journey = sent(self.plan, self.question, self.state, choose)[0]
        if journey.onward is not None:
            self.doubts.append(f"what {journey.there.end} asks onward in its own name is asked by one source port alone")
        with self.state.unchanged():
            return journey, self._alike(journey, self.question.packet, choose)

    def _alike(self, journey: Journey, packet: Packet, choose: Choose) -> Set:
        """The packets that fare as one does: there, back, and with a later packet where that shows an application."""
        question, kept = self.question, OwnSessions(packet, self.loose)
        first = Emission(packet, question.device, Way.THERE, leaving=question.leaving, next_hop=question.next_hop)
        held, form, reply = self.leg(first, Form(), kept, choose, journey.back)
        error = form.error(reply is not None and reply.way is Way.BACK)
        form = form.reversed()
        if reply is not None and reply.packet.quoted is None and journey.back is not None:
            back, _, _ = self.leg(reply._replace(number=2), form, kept, choose)
            held = held & back
        elif reply is not None and self.errors and journey.back is not None:
            held = held & self.leg(reply._replace(number=2), error, kept, choose)[0]
        later = journey.later
        if later is not None:
            of_the_asker = later.hops[0].device == question.device
            leaving = (question.leaving, question.next_hop) if of_the_asker else (None, None)
            emission = Emission(
                later.packet, later.hops[0].device, Way.LATER, None, leaving[0], question.moment.known_from, leaving[1]
            )
            more, _, _ = self.leg(emission, Form(first=False) if of_the_asker else form, kept, choose)
            held = held & more
        return held

    def leg(
        self, emission: Emission, form: Form, kept: OwnSessions, choose: Choose, back: Leg | None = None
    ) -> tuple[Set, Form, Emission | None]:
        """A packet on its way, as the walk follows it: who fares alike, the form that is answered, and what is sent because of it.

        Args:
            emission: the packet.
            form: what it is of what was sent.
            kept: the sessions that were opened on its way.
            choose: how equal ways are chosen.
            back: the way of what was sent because of it, where that is known already.

        """
        held = self.sets.space.possible
        handed: tuple[str, str] | None = None
        arriving: str | None = None
        leaving = emission.leaving
        packet, name = emission.packet, emission.device
        for _ in range(MOST_HOPS):
            self.stays += 1
            next_hop = emission.next_hop if arriving is None else None
            stood = Stood(name, packet, arriving, form, handed)
            spot = self._spot(emission, stood, (leaving, next_hop))
            known = self._known(spot, packet) if spot is not None else None
            if known is not None:
                self.sets.of_case |= known.of_case
                held, leaving = held & known.cell, None
                if known.handover is None:
                    return held, known.form, Emission(back.packet, name, back.way) if back is not None else None
                handed = (name, known.leaving) if known.leaving is not None else handed
                packet = packet.passed_on() if known.counts_down else packet
                name, arriving, form = known.handover.device, known.handover.interface, known.form
                continue
            done, asked = self._stay(spot, stood, emission.number, (leaving, next_hop), choose, kept)
            self.stayed(emission, stood, done)
            held, leaving, facts = held & done.cell, None, done.stay.facts
            if done.end is not None:
                return held, *self._end(done, done.end, form, choose, (spot, packet, asked))
            neighbour = done.stay.handover
            assert neighbour is not None
            if neighbour.tunnel:
                for term in alike_in(self.plan, done.stay.here, facts.leaving or "", facts.packet):
                    held = held & self.sets.of(term, facts, done.form)
                within = self._carried(done, neighbour, choose)
                if within is None:
                    return held, form, None
                neighbour = within
            handed = (name, facts.leaving) if facts.leaving is not None else handed
            packet, name, arriving, form = facts.packet, neighbour.device, neighbour.interface, done.form
        return held, form, None

    def _end(
        self, done: Stayed, end: StayEnd, came: Form, choose: Choose, place: tuple[Spot | None, Packet, frozenset[str] | None]
    ) -> tuple[Form, Emission | None]:
        """The form that is answered and what is sent where a packet's way ends; such an end is kept for others if it may serve them."""
        of_far_end = end.reply in (Reply.ANSWER, Reply.REFUSAL)
        reply = reply_emitted(done.stay, end, choose)
        self.ended(done, reply)
        form = done.form if of_far_end else came
        spot, packet, asked = place
        if asked is not None and (reply is None or reply.leaving is None):
            self._keep(spot, packet, KnownStay(done.cell, asked, None, None, form, False))
        return form, reply

    def _spot(self, emission: Emission, stood: Stood, ways: tuple[str | None, Address | None]) -> Spot | None:
        """Where a packet is, and as what, for others that come there so; None where the device remembers anything."""
        if not self.reuses or not self.state.blank(stood.device):
            return None
        here, packet = self.plan.device(stood.device), stood.packet
        shape = packet.protocol if packet.icmp >= 0 else 0, packet.icmp if emission.way is not Way.THERE else -1, packet.flags
        port = packet.from_port if not (stood.form.near and stood.form.identifier) else None
        made = None if stood.form.first else (packet.ttl, packet.size)  # of what is sent because of it, these are one value
        # Who remembers nothing knows no session of what an error quotes: its ends do not matter there.
        quoted = packet.quoted._replace(source=_NOBODY, destination=_NOBODY, from_port=0, to_port=0) if packet.quoted else None
        as_what = stood.form, fixed(stood), shape, port, made, quoted, packet.announces
        return here, stood.arriving, as_what, emission.number, self.question.moment, stood.handed, ways

    def _known(self, spot: Spot, now: Packet) -> KnownStay | None:
        """A stay at a place that was the packet's own as well; first looked for among those of its destination, of thousands maybe."""
        packet = self.question.packet
        assert packet is not None
        if self._exact is None:
            relation = Relation.OPENING if packet.opening else Relation.NONE
            self._exact = exactly(self.sets.space, packet, relation)
        kept, last = self.sets.stays.get(spot, []), (spot, now.destination)
        likely = self.sets.likely_stays.get(last)
        found = next((k for k in ((likely, *kept) if likely else kept) if (k.cell & self._exact).satisfiable()), None)
        self.sets.likely_stays[last] = found
        return found

    def _stay(
        self,
        spot: Spot | None,
        stood: Stood,
        number: int,
        ways: tuple[str | None, Address | None],
        choose: Choose,
        kept: OwnSessions,
    ) -> tuple[Stayed, frozenset[str] | None]:
        """A stay, and what it asked of the case where it may serve others: it left nothing behind and chose nothing.

        It is kept for them where a neighbour got the packet, of which nothing has changed but its TTL.
        """
        device, before, arriving, form, handed = stood
        leaving, next_hop = ways
        moment = self.question.moment
        where = device, before, arriving, form, number, moment, leaving, handed
        if spot is None:
            return stay_at(self.plan, self.sets, self.state, *where, choose, kept, next_hop), None
        asked, self.sets.of_case = self.sets.of_case, set()
        chosen: list[str] = []

        def noting(name: str, hops: tuple[NextHop, ...], packet: Packet) -> int | None:
            """Choose, and note that there was a choice."""
            chosen.append(name)
            return choose(name, hops, packet)

        done = stay_at(self.plan, self.sets, self.state, *where, noting, kept, next_hop)
        mine, self.sets.of_case = frozenset(self.sets.of_case), asked | self.sets.of_case
        if chosen or not self.state.blank(device):
            return done, None
        after, handover = done.stay.facts.packet, done.stay.handover
        counts_down = after.ttl != before.ttl
        same = after == (before.passed_on() if counts_down else before)
        if handover is not None and not handover.tunnel and same:
            self._keep(spot, before, KnownStay(done.cell, mine, handover, done.stay.facts.leaving, done.form, counts_down))
        return done, mine

    def _keep(self, spot: Spot | None, packet: Packet, found: KnownStay) -> None:
        """Keep a stay for others that come to the same place."""
        assert spot is not None
        self.sets.stays.setdefault(spot, []).append(found)
        self.sets.likely_stays[spot, packet.destination] = found

    def stayed(self, emission: Emission, stood: Stood, done: Stayed) -> None:
        """A packet has stayed at a device; for those who want to know."""

    def ended(self, done: Stayed, reply: Emission | None) -> None:
        """A leg has ended with a stay, and this is sent because of it; for those who want to know."""

    def _carried(self, done: Stayed, handover: Handover, choose: Choose) -> Handover | None:
        """Who got what an outer packet carried; None where that was lost."""
        through = carried(self.plan, self.state, done.stay, choose, self.question.moment, ())
        outer = through.outer
        if outer is not None and outer.packet.to_port == VXLAN_PORT:
            self.doubts.append(f"outer packets of {done.stay.here.name}'s tunnels are asked by one source port alone")
        return taken(handover, outer) if outer is not None and through.lost is None else None
