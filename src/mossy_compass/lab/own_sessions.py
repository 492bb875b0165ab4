"""What devices remember of packets of a set that pass: of each the same kind of session, with its own ends.

The answers to a set of packets meet the sessions that those packets opened. Whether each of them meets its own is told by forms: the
ends of a session are parts of what was sent, as those of the answer are, and where they are the same parts the one fits the other.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import NamedTuple

from mossy_compass.headers.sets import Set
from mossy_compass.lab.forms import Form, Sets
from mossy_compass.packet.address import Address, Span
from mossy_compass.packet.flow import FiveTuple, flow_from, key_of, reversed_key
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import WITH_PORTS, Service
from mossy_compass.plan.actions import Half, Recall
from mossy_compass.plan.alike import apart_from
from mossy_compass.plan.alike_actions import alike_to_action
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Direction, Facts, Relation, Session
from mossy_compass.plan.fields import FIELDS, service_span
from mossy_compass.walk.execute import Stay


class SessionEnds(NamedTuple):
    """The two sides of sessions that packets of a set opened.

    Attributes:
        came: the form in which their opening packets came.
        left: the form in which they left.
        packets: an opening packet, as it came and as it left.

    """

    came: Form
    left: Form
    packets: tuple[Packet, Packet]

    def side(self, direction: Direction) -> Form:
        """The form of what comes along them."""
        return self.came if direction is Direction.FORTH else self.left.reversed()

    def rewritten(self, form: Form, half: Half, facts: Facts) -> Form:
        """The form of packets whose source or destination was rewritten by their sessions.

        Args:
            form: what they were.
            half: which of the two.
            facts: of one of them, with its session.

        """
        direction = facts.direction
        to = self.left if direction is Direction.FORTH else self.came.reversed()
        if form.quoted is not None:
            return self._error_rewritten(form, half, to, facts)
        if half is Half.DESTINATION:
            identifier = to.identifier if direction is Direction.BACK else form.identifier
            return form._replace(destination=to.destination, far=to.far, identifier=identifier)
        identifier = to.identifier if direction is Direction.FORTH else form.identifier
        return form._replace(source=to.source, near=to.near, identifier=identifier)

    def _error_rewritten(self, form: Form, half: Half, to: Form, facts: Facts) -> Form:
        """The form of errors about packets of the sessions, as ``state/rewrite.py`` rewrites one of them."""
        assert facts.session is not None
        before, after = facts.session.inner, facts.session.outer
        if facts.direction is Direction.BACK:
            before, after = after.reverse(), before.reverse()
        if half is Half.SOURCE:
            return form if before.source == after.source else form._replace(source=to.source)
        destination = to.destination if facts.came.destination == before.destination else form.destination
        return form._replace(destination=destination, quoted=(to.destination, to.source, to.far, to.near, to.identifier))


class OwnSessions:
    """The sessions that the packets of a set opened, as one of them shows.

    Attributes:
        sent: that packet, as it was sent.
        loose: devices that remembered sessions that are over, or outer ends, before it was sent.

    """

    def __init__(self, sent: Packet, loose: Collection[str] = ()) -> None:
        self.sent, self.loose = sent, loose
        self._ends: dict[tuple[str, int], SessionEnds] = {}

    def opened(self, facts: Facts, came: Form, left: Form) -> None:
        """A device has opened a session for the packet, if it did."""
        if facts.session is None and facts.relation in (Relation.OPENING, Relation.EXPECTED):
            self._ends[facts.device, key_of(facts.came)] = SessionEnds(came, left, (facts.came, facts.packet))

    def of(self, facts: Facts) -> SessionEnds | None:
        """The ends of a packet's session, where the packets opened it themselves."""
        return self._ends.get((facts.device, facts.session.forth)) if facts.session is not None else None

    def alike(self, sets: Sets, stay: Stay, form: Form) -> Set:
        """The packets of which a device remembers the same as of the one that stays there now.

        Args:
            sets: where terms become sets.
            stay: the packet at the device, which has just recalled it.
            form: what the packets are as they come.

        """
        facts, held = stay.facts, sets.space.possible
        own = self.of(facts)
        if own is not None:
            assert facts.session is not None
            held = held & self._where_equal(sets, form.recalled(), own.side(facts.direction))
            if form.quoted is not None and form.destination != form.quoted[0]:
                return self._alone(sets)  # somebody translated it without what it quotes: its session may leave it so, or not
            return held & self._judged_again(sets, stay, facts.session, own)
        if facts.session is not None and form.quoted is not None:
            return self._alone(sets)
        if facts.session is not None:
            for term in alike_to_action(stay.here, facts, Recall()):
                held = held & sets.of(term, facts, form)
            return held
        # What is over, and outer ends, are known by a key: one packet, narrow and right.
        if facts.mapping is not None or facts.gone is not None or facts.expected is not None or stay.here.name in self.loose:
            return self._alone(sets)
        known = answer_to_quoted(facts.came) if form.quoted is not None else facts.came
        for ends in self._at(stay.here.name):
            held = held & self._unlike(sets, ends, form.recalled(), known)
        mine, now = self._flows(stay.here.name), facts.packet
        facts.packet = known if form.quoted is not None else now
        for apart in apart_from(f for f in stay.state.flows(stay.here.name) if f not in mine):
            held = held & sets.of(apart, facts, form.recalled())
        facts.packet = now
        return held

    def knows_all(self, stay: Stay) -> bool:
        """Whether everything that a device remembers is of these packets themselves."""
        name = stay.here.name
        return name not in self.loose and self._flows(name).issuperset(stay.state.flows(name))

    def _flows(self, device: str) -> set[FiveTuple]:
        """The flows of the sessions at a device, there and back."""
        there = {flow_from(key_of(e.packets[0])) for e in self._at(device)}
        return there | {flow_from(reversed_key(key_of(e.packets[1]))) for e in self._at(device)}

    def _at(self, device: str) -> Iterator[SessionEnds]:
        """The ends of sessions at a device."""
        return (ends for (name, _), ends in self._ends.items() if name == device)

    def _unlike(self, sets: Sets, ends: SessionEnds, form: Form, packet: Packet) -> Set:
        """The packets that belong to none of some sessions of theirs, nor are sent to their outer end, as the one at hand.

        It is told by the first part in which that one differs: addresses before ports, of which there are so many.
        """
        came, left = ends.packets
        ports = ["far", "near"] if packet.protocol in WITH_PORTS else ["identifier"] if packet.icmp >= 0 else []
        asker = (_parts(came), ends.came, ["source", "destination", *ports])
        back = _parts(
            left._replace(source=left.destination, destination=left.source, from_port=left.to_port, to_port=left.from_port)
        )
        back["identifier"] = left.from_port
        # What is sent to an outer end is known by that alone; any other answer by all its ends.
        of_mapping = (came.source, came.from_port) != (left.source, left.from_port)
        answered = ["destination", *ports[:1]] if of_mapping else ["source", "destination", *ports]
        held, now = sets.space.possible, _parts(packet)
        for values, other, names in (asker, (back, ends.left.reversed(), answered)):
            unlike = next((n for n in names if now[n] != values[n]), None)
            if unlike is None:
                return self._alone(sets)
            one, two = getattr(form, unlike), getattr(other, unlike)
            if one and two:
                held = held & self._as_sent(sets, one) & self._as_sent(sets, two)
            elif one or two:  # all but those that have the one value of the other side
                held = held & ~_with(sets, one or two, values[unlike] if one else now[unlike])
        return held

    def _where_equal(self, sets: Sets, form: Form, other: Form) -> Set:
        """The packets that have the same ends in two forms, as the one at hand has."""
        held = sets.space.possible
        names = ["source", "destination"]
        names += ["near", "far"] if self.sent.protocol in WITH_PORTS else ["identifier"] if self.sent.icmp >= 0 else []
        for name in names:
            one, two = getattr(form, name), getattr(other, name)
            if one != two:
                for part in filter(None, (one, two)):
                    held = held & self._as_sent(sets, part)
        return held

    def _as_sent(self, sets: Sets, part: str) -> Set:
        """The packets that are as the one at hand in one part of what was sent."""
        name = {"near": "from-port", "far": "service"}.get(part, part)
        value = FIELDS[name].read(Facts(self.sent, None))
        return sets.space.of_condition(Condition(name, ((name, (Span(value, value),)),)))

    def _alone(self, sets: Sets) -> Set:
        """The packet at hand and no other."""
        held = self._as_sent(sets, "source") & self._as_sent(sets, "destination") & self._as_sent(sets, "far")
        if self.sent.protocol in WITH_PORTS:
            held = held & self._as_sent(sets, "near")
        return held & self._as_sent(sets, "identifier") if self.sent.icmp >= 0 else held

    def _judged_again(self, sets: Sets, stay: Stay, session: Session, own: SessionEnds) -> Set:
        """The packets whose opening packets would be judged the same once more, now that their application is known."""
        held = sets.space.possible
        for judged in session.pending if stay.facts.application else ():
            if judged.arriving is not None and judged.arriving not in stay.here.device.interfaces:
                continue
            step = next((s for s in stay.here.steps(judged.arriving) if s.stage.value == judged.stage), None)
            again = stay.facts.again(judged)
            forms = {own.packets[1]: own.left, own.packets[0]: own.came}
            now = next((form for packet, form in forms.items() if packet[:6] == again.packet[:6]), None)
            if now is None:  # as it was between two translations
                return held & self._alone(sets)
            for term in step.alike(again) if step is not None else ():
                held = held & sets.of(term, again, now)
        return held


def answer_to_quoted(error: Packet) -> Packet:
    """What would come as an answer to the packet that an error quotes: by that a device knows the session of both (RFC 5508 section 4)."""
    quoted = error.quoted
    assert quoted is not None
    ends = quoted._replace(source=quoted.destination, destination=quoted.source)
    return ends._replace(from_port=quoted.to_port, to_port=quoted.from_port) if quoted.protocol in WITH_PORTS else ends


def _with(sets: Sets, part: str, value: Address | int) -> Set:
    """The packets that have a value in one part of what was sent; a port of any protocol that has ports."""
    name = {"near": "from-port", "far": "service"}.get(part, part)
    keys = [value.key] if isinstance(value, Address) else [value]
    if part == "far":
        keys = [service_span(Service(p, Span(keys[0], keys[0]))).first for p in WITH_PORTS]
    return sets.space.of_condition(Condition(name, ((name, tuple(Span(k, k) for k in keys)),)))


def _parts(packet: Packet) -> dict[str, Address | int]:
    """The parts of a packet, by the names that they have in a form."""
    ports = {"near": packet.from_port, "far": packet.to_port, "identifier": packet.from_port}
    return {"source": packet.source, "destination": packet.destination, **ports}
