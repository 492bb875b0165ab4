"""Very many flows at once: all of them go from device to device together, and each stay is asked once for each kind of packet.

A kind is what ``cells.py`` tells apart: packets with which a stay would have done the same. One flow of each is walked, there and back;
which others go on as it does is asked of the sets, for all that come there. Each flow is asked alone, as if there were no other.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple, TypeVar

from mossy_compass.headers.sets import Set
from mossy_compass.lab.cells import Stayed
from mossy_compass.lab.forms import Form, Sets, exactly, holding, room
from mossy_compass.lab.own_sessions import OwnSessions
from mossy_compass.lab.proofs import device_of
from mossy_compass.lab.whole import Stood, Walker, fixed
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import WITH_PORTS
from mossy_compass.plan.actions import Handover
from mossy_compass.plan.balance import Choose, choice
from mossy_compass.plan.facts import SOME_TIME, Moment, Relation
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Did
from mossy_compass.proof.space import FOR_A_NETWORK, with_room
from mossy_compass.routing.table import NextHop
from mossy_compass.state.state import State
from mossy_compass.walk.journey import Journey, Way
from mossy_compass.walk.question import Question
from mossy_compass.walk.sent import sent
from mossy_compass.walk.verdict import seen_as
from mossy_compass.walk.walk import Emission

if TYPE_CHECKING:
    from mossy_compass.headers.sets import Columns, IntArray


class Spot(NamedTuple):
    """Where packets are, and what they are by now.

    Attributes:
        way: there or back.
        device, arriving: where; None for packets that the device made.
        form: what each part of them is of what was sent.
        fixed: the parts that are one value for all of them.
        handed: who handed them on, and by which interface.
        shape: flags, and of an answer the kind of ICMP.
        visit: what the device has done with them before, where it remembers that; 0 for nothing.

    """

    way: Way
    device: str
    arriving: str | None
    form: Form
    fixed: tuple[object, ...]
    handed: tuple[str, str] | None
    shape: tuple[str, int]
    visit: int = 0


class FlowFate(NamedTuple):
    """What becomes of one flow.

    Attributes:
        like: how a flow fared that ends as it does.
        seen_as: the source that the far end saw; empty where it did not get there.
        permits: the rules that let it through on its way there, in order; those of outer packets are not among them.
        leaving: the uplink, or interface to the outside, by which it left last, as ``DEVICE/INTERFACE``; empty for none.

    """

    like: Journey
    seen_as: str
    permits: tuple[Because, ...]
    leaving: str


class Fork(NamedTuple):
    """A choice among equal ways that a stay made.

    Attributes:
        device, hops: where, and which ways.
        parts: what each part of the packet that it was made by is of what was sent; empty for one value for all of the kind.
        packet: that packet, of one of the kind.

    """

    device: str
    hops: tuple[NextHop, ...]
    parts: Form
    packet: Packet


class WentOn(NamedTuple):
    """What comes of a stay.

    Attributes:
        next: where the packets are then; None at the end.
        end: the number of the end; -1 where there is none yet.
        remembers: the device remembers something of them by now.
        permits: the rules that let them through there.
        leaving: the uplink or interface to the outside by which they leave; empty for none.

    """

    next: Spot | None
    end: int
    remembers: bool
    permits: tuple[Because, ...]
    leaving: str


class KindOfPackets(NamedTuple):
    """A kind of packets at a place.

    Attributes:
        number: of the kind.
        cell: the packets.
        forks: the choices that the stay makes, each by those that it has made before.
        outcomes: what comes of it, by the ways that were chosen.

    """

    number: int
    cell: Set
    forks: dict[tuple[int, ...], Fork]
    outcomes: dict[tuple[int, ...], WentOn]


class _Walked(NamedTuple):
    """One stay of a flow that was walked."""

    place: Spot
    stood: Stood
    done: Stayed
    forks: tuple[Fork, ...]
    chosen: tuple[int, ...]
    remembers: bool


class _Recorder(Walker):
    """A flow on its way there and back, with every stay."""

    reuses = False

    def __init__(self, plan: Plan, sets: Sets, question: Question) -> None:
        super().__init__(plan, sets, State(), question)
        self.walked: list[_Walked] = []
        self.forks: list[tuple[str, tuple[NextHop, ...], Packet, int]] = []
        self.split: list[int] = []
        self.alone: set[int] = set()

    def record(self, packet: Packet) -> None:
        """Walk it, there and back."""
        kept = OwnSessions(packet)
        first = Emission(packet, self.question.device, Way.THERE)
        _, form, reply = self.leg(first, Form(), kept, self._choose)
        self.split.append(len(self.walked))
        if reply is not None and reply.way is Way.BACK and reply.packet.quoted is None:
            self.leg(reply._replace(number=2), form.reversed(), kept, self._choose)
            self.split.append(len(self.walked))

    def _choose(self, device: str, hops: tuple[NextHop, ...], packet: Packet) -> int:
        """By the hash, and noted."""
        number = choice(self.plan.device(device), hops, packet, False, None)[0]
        self.forks.append((device, hops, packet, number))
        return number

    def stayed(self, emission: Emission, stood: Stood, done: Stayed) -> None:
        """Note a stay with the choices that it made."""
        made, self.forks = self.forks, []
        forks = tuple(Fork(d, hops, _parts(stood, done, packet), packet) for d, hops, packet, _ in made)
        shape = (emission.packet.flags, emission.packet.icmp if emission.way is not Way.THERE else -1)
        place = Spot(emission.way, stood.device, stood.arriving, stood.form, fixed(stood), stood.handed, shape)
        remembers = any(True for _ in self.state.flows(stood.device))
        self.walked.append(_Walked(place, stood, done, forks, tuple(number for *_, number in made), remembers))

    def ended(self, done: Stayed, reply: Emission | None) -> None:
        """What is said home may depend on which way it takes: then the flow is a kind of its own."""
        if self.forks:
            self.alone.add(len(self.walked) - 1)
            self.forks = []

    def _carried(self, done: Stayed, handover: Handover, choose: Choose) -> Handover | None:
        """Through a tunnel; where the outer packet's port follows from what it carries, the flow is a kind of its own."""
        doubts = len(self.doubts)
        found = super()._carried(done, handover, choose)
        self.forks = []
        if len(self.doubts) > doubts:
            self.alone.add(len(self.walked) - 1)
        return found


def _parts(stood: Stood, done: Stayed, seen: Packet) -> Form:
    """What each part of a packet in the middle of a stay is of what was sent: as it came, or as it leaves."""
    came, left, before, after = stood.form, done.form, stood.packet, done.stay.facts.packet
    parts: dict[str, str] = {}
    for part, name in _NAMES.items():
        now = getattr(seen, name)
        as_it_came = now == getattr(before, name)
        parts[part] = getattr(came, part) if as_it_came else getattr(left, part) if now == getattr(after, name) else ""
        if getattr(came, part) != getattr(left, part) and getattr(before, name) == getattr(after, name):
            parts[part] = _UNKNOWN
    # An identifier stands where a source port would, and an answer has the same one.
    identifier = came.identifier if seen.from_port == before.from_port else left.identifier
    return Form(parts["source"], parts["destination"], parts["near"], parts["far"], identifier)


_UNKNOWN = "?"
"""It cannot be told what a part of a packet is of what was sent."""
_NAMES = {"source": "source", "destination": "destination", "near": "from_port", "far": "to_port"}
"""The parts of a form, with their names in a packet."""
_READ: dict[str, Callable[[Packet], int]] = {
    "source": lambda p: p.source.key,
    "destination": lambda p: p.destination.key,
    "from-port": lambda p: p.from_port + 1 if p.protocol in WITH_PORTS else 0,
    "identifier": lambda p: p.from_port + 1 if p.icmp >= 0 else 0,
    "slot": lambda p: p.slot + 1 if p.icmp >= 0 or p.protocol in WITH_PORTS else 0,  # 0 stands for absence
}


class Crowd:
    """Many flows on one plan.

    Args:
        plan: the network.
        packets: the opening packet of each.
        senders: who sends each, by name.
        moment: what holds for all of them.

    """

    def __init__(self, plan: Plan, packets: Sequence[Packet], senders: Sequence[str], moment: Moment = SOME_TIME) -> None:
        self.plan, self.packets, self.senders, self.moment = plan, packets, senders, moment
        self.numbers = {name: n for n, name in enumerate(plan.network.devices)}
        self.outside = outside_ports(plan)

    def fates(self, each: Callable[[int], object] = bool) -> Iterator[FlowFate]:
        """What becomes of each, in their order.

        Args:
            each: is told of how many it is known so far; for a progress bar.

        """
        with_room(lambda size: self._run(size, each), FOR_A_NETWORK)
        yield from map(self._fate, range(len(self.packets)))

    def _run(self, size: int, each: Callable[[int], object]) -> None:
        """Send all of them, from device to device."""
        import numpy as np

        count, self.each, self.over = len(self.packets), each, 0
        self.sets = Sets(room(size * 8))
        self.known: dict[Spot, list[KindOfPackets]] = {}
        self.kinds = 0
        self.ends: dict[object, int] = {}
        self.visited: dict[object, int] = {}
        self.there, self.back = np.full(count, -1, np.int64), np.full(count, -1, np.int64)
        self.visits = np.zeros((len(self.numbers), count), np.int64)
        self.let: list[tuple[Because, ...]] = [()]
        self.left: list[str] = [""]
        self.permits, self.leaving = np.zeros(count, np.int64), np.zeros(count, np.int64)
        self.told: dict[tuple[int, int, str], Journey] = {}
        self.stands_for_many: set[int] = set()
        self.columns = self._columns()
        waiting: dict[Spot, list[IntArray]] = {}
        starts: dict[tuple[str, str], list[int]] = {}
        for row, packet in enumerate(self.packets):
            starts.setdefault((self.senders[row], packet.flags), []).append(row)
        for (sender, flags), rows in starts.items():
            spot = Spot(Way.THERE, device_of(self.plan.network, sender), None, Form(), (), None, (flags, -1))
            waiting.setdefault(spot, []).append(np.array(rows, np.int64))
        while waiting:
            spot = next(iter(waiting))
            some = np.concatenate(waiting.pop(spot))
            been = self.visits[self.numbers[spot.device]][some]
            for visit in np.unique(been):
                self._at(spot._replace(visit=int(visit)), some[been == visit], waiting)

    def _columns(self) -> Columns:
        """The flows as columns of bits."""
        import numpy as np

        kinds: dict[tuple[int, int, int], int] = {}
        samples: list[Set] = []
        of_kind = np.zeros(len(self.packets), np.int64)
        for row, packet in enumerate(self.packets):
            key = packet.protocol, packet.icmp, packet.source.family
            if key not in kinds:
                kinds[key] = len(samples)
                samples.append(self._alone(packet))
            of_kind[row] = kinds[key]
        fields: dict[str, tuple[Sequence[int], IntArray]] = {}
        for name, read in _READ.items():
            places: dict[int, int] = {}
            codes = [places.setdefault(read(packet), len(places)) for packet in self.packets]
            fields[name] = list(places), np.array(codes, np.int64)
        return self.sets.space.columns(samples, of_kind, fields)

    def _alone(self, packet: Packet) -> Set:
        """The set of one packet."""
        return exactly(self.sets.space, packet, Relation.OPENING)

    def _at(self, spot: Spot, rows: IntArray, waiting: dict[Spot, list[IntArray]]) -> None:
        """Flows that are at one place with one past: tell them apart, and send them on."""
        kinds, tried = self.known.setdefault(spot, []), 0
        while len(rows):
            for known in kinds[tried:]:
                mine = self.sets.space.among(known.cell, self.columns, rows)
                if mine.any():
                    self._onward(spot, known, rows[mine], waiting)
                    rows = rows[~mine]
            tried = len(kinds)
            if len(rows):
                self._walk(int(rows[0]))
                assert len(kinds) > tried, (spot, self.packets[int(rows[0])])

    def _onward(self, spot: Spot, known: KindOfPackets, rows: IntArray, waiting: dict[Spot, list[IntArray]]) -> None:
        """Flows of one kind, each by the way that it takes."""
        import numpy as np

        by_way: dict[tuple[int, ...], IntArray] = {(): rows}
        if known.forks:
            ways = [self._ways(known, int(row)) for row in rows]
            by_way = {way: rows[np.array([w == way for w in ways])] for way in dict.fromkeys(ways)}
        for chosen, mine in by_way.items():
            if chosen not in known.outcomes:
                self._walk(int(mine[0]))
                if known.forks.get(chosen) is not None:  # by that way there is one more choice, which nobody knew of
                    self._onward(spot, known, mine, waiting)
                    continue
            outcome = known.outcomes[chosen]
            if outcome.remembers:
                self.visits[self.numbers[spot.device]][mine] = self._visit(spot, known, chosen)
            if spot.way is Way.THERE:
                if outcome.permits:
                    so_far = self.permits[mine]
                    for earlier in np.unique(so_far):
                        self.permits[mine[so_far == earlier]] = _number(self.let, (*self.let[int(earlier)], *outcome.permits))
                if outcome.leaving:
                    self.leaving[mine] = _number(self.left, outcome.leaving)
            if outcome.end >= 0:
                (self.there if spot.way is Way.THERE else self.back)[mine] = outcome.end
            if outcome.next is not None:
                waiting.setdefault(outcome.next, []).append(mine)
            else:
                self.over += len(mine)
                self.each(self.over)

    def _visit(self, spot: Spot, known: KindOfPackets, chosen: tuple[int, ...]) -> int:
        """The number of what a device has done with packets, and before that."""
        return self.visited.setdefault((spot.visit, known.number, chosen), len(self.visited) + 1)

    def _ways(self, known: KindOfPackets, row: int) -> tuple[int, ...]:
        """Which of equal ways a flow takes, by the hash."""
        packet = self.packets[row]
        parts = {"source": packet.source, "destination": packet.destination, "near": packet.from_port, "far": packet.to_port}
        out: tuple[int, ...] = ()
        while (fork := known.forks.get(out)) is not None:
            now: dict[str, Any] = {name: parts[of] for part, name in _NAMES.items() if (of := getattr(fork.parts, part))}
            if packet.icmp >= 0:
                now |= {
                    "from_port": packet.from_port if fork.parts.identifier else fork.packet.from_port,
                    "to_port": packet.to_port,
                }
            seen = fork.packet._replace(protocol=packet.protocol, **now)
            out = (*out, choice(self.plan.device(fork.device), fork.hops, seen, False, None)[0])
        return out

    def _walk(self, row: int) -> None:
        """Walk a flow, and keep every stay of it as a kind."""
        packet, recorder = self.packets[row], _Recorder(self.plan, self.sets, self._question(row))
        recorder.record(packet)
        visits: dict[str, int] = {}
        walked, splits = recorder.walked, set(recorder.split)
        for number, stay in enumerate(walked):
            device, last = stay.stood.device, number + 1 in splits
            spot = stay.place._replace(visit=visits.get(device, 0))
            known = self._keep(spot, stay, number in recorder.alone, packet)
            end = self.ends.setdefault((spot, known.number, stay.chosen), len(self.ends)) if last else -1
            if last and self.plan.network.devices[device].far_hosts:
                self.stands_for_many.add(end)
            follows = walked[number + 1].place if number + 1 < len(walked) else None
            here = stay.done.stay
            leaving = f"{device}/{here.facts.leaving}"
            permits = tuple(ruling.because for ruling in here.rulings if ruling.did is Did.PERMITTED)
            leaving = leaving if leaving in self.outside else ""
            known.outcomes[stay.chosen] = WentOn(follows, end, stay.remembers, permits, leaving)
            if stay.remembers:
                visits[device] = self._visit(spot, known, stay.chosen)

    def _keep(self, spot: Spot, stay: _Walked, alone: bool, packet: Packet) -> KindOfPackets:
        """The kind of a stay: one that is known already, or a new one."""
        kinds = self.known.setdefault(spot, [])
        known = next((k for k in kinds if holding(self.sets.space, k.cell, packet, Relation.OPENING)), None)
        if known is None:
            alone = alone or any(_UNKNOWN in fork.parts for fork in stay.forks)
            known = KindOfPackets(self.kinds, self._alone(packet) if alone else stay.done.cell, {}, {})
            kinds.append(known)
            self.kinds += 1
        known.forks.update({stay.chosen[:n]: fork for n, fork in enumerate(stay.forks)})
        return known

    def _question(self, row: int) -> Question:
        """The question of a flow."""
        packet, sender = self.packets[row], self.senders[row]
        device = device_of(self.plan.network, sender)
        return Question(sender, device, str(packet.destination), packet.what(), packet, None, packet.destination, None, self.moment)

    def _fate(self, row: int) -> FlowFate:
        """What becomes of one flow, told by one that ends as it does."""
        # A device that stands for many hosts answers alike for all of them, and yet of each by its own line.
        there, back = int(self.there[row]), int(self.back[row])
        far = there in self.stands_for_many or back in self.stands_for_many
        key = there, back, (self.plan.owner(self.packets[row].destination) or "") if far else ""
        if key not in self.told:
            self.told[key] = sent(self.plan, self._question(row), State())[0]
        like, packet = self.told[key], self.packets[row]
        seen = like.seen_as
        if seen:
            first, last = like.there.packet, like.there.arrived
            own = packet.source if last.source == first.source else last.source
            seen = seen_as(
                last._replace(
                    protocol=packet.protocol,
                    source=own,
                    from_port=packet.from_port if last.from_port == first.from_port else last.from_port,
                )
            )
        return FlowFate(like, seen, self.let[int(self.permits[row])], self.left[int(self.leaving[row])])


def outside_ports(plan: Plan) -> frozenset[str]:
    """The uplinks and interfaces to the outside, as ``DEVICE/INTERFACE``."""
    devices = plan.network.devices.values()
    uplinks = {f"{d.name}/{port}" for d in devices for ports in d.uplinks.values() for port in ports}
    return frozenset(uplinks | {f"{d.name}/{i.name}" for d in devices for i in d.interfaces.values() if i.outside})


def names_addresses(because: Because) -> bool:
    """Whether a reason names an address or a packet, so that it is of one flow alone."""
    return any(_has_address(value) for value in because.values)


def _has_address(value: object) -> bool:
    """Whether a value is an address or a packet, or holds one."""
    if isinstance(value, Address | Packet):
        return True
    if isinstance(value, Because):
        return names_addresses(value)
    return isinstance(value, tuple) and not hasattr(value, "_fields") and any(map(_has_address, value))


T = TypeVar("T")


def _number(listed: list[T], what: T) -> int:
    """The place of something in a list, where it is put if it is not there."""
    if what not in listed:
        listed.append(what)
    return listed.index(what)
