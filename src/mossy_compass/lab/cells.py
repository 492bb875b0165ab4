"""An executor over exact sets, made of nothing but what steps and actions say of themselves.

A cell is the set of packets with which one stay would have done the same: the terms of every step and action on the way,
put into sets. What a rewriting made one value for all packets of the cell is looked up there; the rest is as it was sent.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from mossy_compass.errors import TooLarge
from mossy_compass.headers.sets import Set
from mossy_compass.packet.address import Address, Span
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.actions import Action, Allocate, Countdown, Forward, Half, Recall, Rewrite
from mossy_compass.plan.alike import Decided, Met, Term
from mossy_compass.plan.alike_actions import alike_to_action
from mossy_compass.plan.balance import Choose
from mossy_compass.plan.conditions import Condition, in_set
from mossy_compass.plan.facts import Direction, Facts, Moment, Relation
from mossy_compass.plan.fields import FIELDS
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.tunnel import other_end
from mossy_compass.proof.space import Space
from mossy_compass.state.state import State
from mossy_compass.walk.execute import PERFORM, Stay, StayEnd

OF_THE_PACKET = {
    *("service", "source", "destination", "from-port", "identifier", "source-bits", "destination-bits", "ttl", "size"),
    *("fragment", "reset", "shows", "opens", "relation", "conversation"),
}
"""The fields that differ between the packets of a set; everything else is one value for all of them."""
_TWIN = {"opener": "source", "opener-bits": "source-bits"}
_ENDS = {
    Half.SOURCE: ("source", "source-bits", "from-port", "identifier"),
    Half.DESTINATION: ("destination", "destination-bits", "service"),
}


def room(size: int = 16) -> Space:
    """A space that has every field of a packet.

    Args:
        size: how many times the usual room it has.

    """
    wanted = ("fragment", "reset", "opens", "relation", "shows")
    asked = [Condition(n, ((n, frozenset(FIELDS[n].values or ())),)) for n in wanted]
    asked += [Condition(n, ((n, (Span(0, 255),)),)) for n in ("ttl", "size", "identifier")]
    return Space([Row("all", tuple(asked))], room=size)


@dataclass
class Form:
    """What the packets of a set are by now, in terms of what was sent.

    Attributes:
        fixed: fields that a rewriting made one value for all of them.
        down: how often the TTL was counted down.

    """

    fixed: frozenset[str] = frozenset()
    down: int = 0

    def of(self, sent: Packet, sample: Packet) -> Packet:
        """What a packet that was sent is by now; what is fixed is as in a sample."""
        out = sent._replace(ttl=sent.ttl - self.down)
        names = {"source": "source", "destination": "destination", "from-port": "from_port", "service": "to_port"}
        return out._replace(**{names[n]: getattr(sample, names[n]) for n in self.fixed if n in names})


@dataclass
class Sets:
    """Terms as sets, as things stand at one point of a stay."""

    space: Space
    known: dict[Any, list[Set]] = field(default_factory=dict)
    held: list[Any] = field(default_factory=list)

    def of(self, term: Term, facts: Facts, form: Form) -> Set:
        """The packets of a term."""
        possible = self.space.possible
        if isinstance(term, Met):
            held = self._all(term.conditions, facts, form)
            return held if term.wanted else possible & ~held
        return self._decided(term, facts, form)

    def _decided(self, term: Decided, facts: Facts, form: Form) -> Set:
        """The packets of which a row is the first, among the rows that can decide."""
        rows = [r for r in term.table.rows if not r.disabled and (r.verdict is None or r.verdict.value != "note")]
        fields = sorted({f for r in rows for c in r.conditions for f in c.fields if not self._open(f, facts, form)})
        key = (id(term.table), form.down, tuple((f, FIELDS[f].read(facts)) for f in fields))
        if key not in self.known:
            seen, sets = self.space.possible & ~self.space.possible, []
            for row in rows:
                mine = self._all(row.conditions, facts, form)
                sets.append(mine & ~seen)
                seen = seen | mine
            self.known[key] = [*sets, self.space.possible & ~seen]
            self.held.append(term.table)  # while it is there, no other has its id
        return self.known[key][rows.index(term.row) if term.row is not None else -1]

    def _all(self, conditions: Iterable[Condition], facts: Facts, form: Form) -> Set:
        """The packets that meet all conditions."""
        held = self.space.possible
        for condition in conditions:
            held = held & self.space.union(self._part(n, v, facts, form) for n, v in condition.parts)
        return held & self.space.possible

    def _part(self, name: str, values: Any, facts: Facts, form: Form) -> Set:
        """The packets whose field has one of some values; all or none where the field is one value for all of them."""
        if not self._open(name, facts, form):
            holds = in_set(FIELDS[name].kind, values, FIELDS[name].read(facts))
            return self.space.possible if holds else self.space.possible & ~self.space.possible
        if name == "ttl":
            values = tuple(Span(first + form.down if first else 0, last + form.down) for first, last in values)
        name = _TWIN.get(name, name)
        return self.space.of_condition(Condition(name, ((name, values),)))

    def _open(self, name: str, facts: Facts, form: Form) -> bool:
        """Whether packets of a set differ in a field."""
        if name in _TWIN:
            return (facts.session is None or facts.direction is Direction.FORTH) and _TWIN[name] not in form.fixed
        return name in OF_THE_PACKET and name not in form.fixed


class Stayed(NamedTuple):
    """What a stay did, and for which packets.

    Attributes:
        stay: with its rulings.
        end: how it ended; None where a neighbour got the packet.
        cell: the packets with which it would have done the same, as they were sent.
        form: what they are when they leave.

    """

    stay: Stay
    end: StayEnd | None
    cell: Set
    form: Form

    @property
    def said(self) -> tuple[object, ...]:
        """What must be the same for all packets of the cell."""
        told = tuple((r.stage, r.did, r.table, r.row, r.cause) for r in self.stay.rulings)
        end = None if self.end is None else (self.end.fate, self.end.cause, self.end.reply)
        neighbour = self.stay.handover
        return told, end, None if neighbour is None else (neighbour.device, neighbour.interface), self.stay.facts.leaving


def first_way(device: str, hops: tuple[Any, ...], packet: Packet) -> int:
    """The choice among equal ways by script: always the first, for ``alike`` leaves the hash out."""
    return 0


def stay_at(
    plan: Plan,
    sets: Sets,
    state: State,
    device: str,
    packet: Packet,
    arriving: str | None,
    form: Form | None = None,
    number: int = 1,
    moment: Moment | None = None,
    leaving: str | None = None,
    handed: tuple[str, str] | None = None,
    choose: Choose = first_way,
) -> Stayed:
    """Run the steps of a device as the executor does, and gather what each decision and action rests on."""
    sets.space.tidy()
    here = plan.device(device)
    stay = Stay(here, packet, arriving, state, choose, moment or Moment(), number, handed)
    facts = stay.facts
    facts.leaving = leaving
    now = form or Form()
    held = sets.space.possible
    for step in here.steps(arriving):
        for term in step.alike(facts):
            assert term.holds(facts), (step.stage, term)
            held = held & sets.of(term, facts, now)
        decision = step.decide(facts) if step.about is None or step.about(facts) else None
        for action in decision.actions if decision is not None else ():
            held = held & _rests(sets, stay, action, now)
            before, entry = facts.packet, now
            end = PERFORM[type(action)](stay, step.stage, decision, action)  # type: ignore[arg-type]
            if isinstance(action, Recall):
                for term in alike_to_action(here, facts, action):
                    held = held & sets.of(term, facts, now)
            now = _after(now, action, before, facts.packet)
            if end is not None:
                return Stayed(stay, end, held, entry)
    return Stayed(stay, None, held, now)


def _rests(sets: Sets, stay: Stay, action: Action, form: Form) -> Set:
    """The packets with which an action does the same; of a recollection that is known once it is there."""
    held = sets.space.possible
    if not isinstance(action, Recall | Forward):
        for term in alike_to_action(stay.here, stay.facts, action):
            assert term.holds(stay.facts), (action, term)
            held = held & sets.of(term, stay.facts, form)
    return held


def _after(form: Form, action: Action, before: Packet, after: Packet) -> Form:
    """The form after an action."""
    if isinstance(action, Countdown):
        return Form(form.fixed, form.down + 1)
    if isinstance(action, Rewrite) and before != after:
        same_port = action.half is Half.DESTINATION and before.to_port == after.to_port
        ends = _ENDS[action.half][: 2 if same_port else 4]
        return Form(form.fixed | set(ends), form.down)
    if isinstance(action, Allocate) and before != after:
        ends = _ENDS[Half.SOURCE][: 2 if before.from_port == after.from_port else 4]
        return Form(form.fixed | set(ends), form.down)
    return form


def holding(space: Space, held: Set, packet: Packet, relation: Relation) -> bool:
    """Whether a packet is in a set."""
    facts = Facts(packet, None)
    facts.relation = relation
    for name in (
        "service",
        "source",
        "destination",
        "ttl",
        "size",
        *(("from-port",) if FIELDS["from-port"].read(facts) >= 0 else ()),
    ):
        value = FIELDS[name].read(facts)
        held = held & space.of_condition(Condition(name, ((name, (Span(value, value),)),)))
    for name in ("fragment", "reset", "opens", "relation", "shows"):
        held = held & space.of_condition(Condition(name, ((name, frozenset((FIELDS[name].read(facts),))),)))
    return bool(held.satisfiable())


def sent_by(space: Space, sources: Iterable[int]) -> Set:
    """Packets of usual TTL and size from some addresses, as a first packet can be: it belongs to nothing."""
    held = space.possible
    for name, spans in (("source", tuple(Span(k, k) for k in sources)), ("ttl", (Span(64, 64),)), ("size", (Span(64, 64),))):
        held = held & space.of_condition(Condition(name, ((name, spans),)))
    fresh = frozenset((Relation.OPENING, Relation.NONE))
    held = held & space.of_condition(Condition("relation", (("relation", fresh),)))
    return held & space.of_condition(Condition("reset", (("reset", frozenset((False,))),)))


class Fared(NamedTuple):
    """Packets that all come to one end.

    Attributes:
        held: the packets as they were sent.
        end: where, how and why.
        path: the devices.
        destination: the destination that all of them have by then; None where each has the one that it was sent to.
        because: what the end rests on.
        forked: on the way one of several equal ways was chosen.
        tunnelled: on the way they were within another packet, of which it is not looked whether it gets there.

    """

    held: Set
    end: tuple[str, str, str]
    path: tuple[str, ...]
    destination: Address | None
    because: Because
    forked: bool = False
    tunnelled: bool = False


class Travelling(NamedTuple):
    """Packets on their way: where they are, and as in ``Fared``. ``sample`` is one of them, for what they have in common by now."""

    device: str
    arriving: str | None
    held: Set
    form: Form
    sample: Packet | None
    path: tuple[str, ...] = ()
    forked: bool = False
    tunnelled: bool = False

    @property
    def place(self) -> object:
        """Where they are, and what they are by now."""
        sample = self.sample
        fixed = {n: FIELDS[n].read(Facts(sample, None)) for n in self.form.fixed} if sample is not None else {}
        return self.device, self.arriving, self.form.down, tuple(sorted(fixed.items()))


MOST_HOPS = 70
"""More than any packet has whose TTL is 64."""
MOST_STAYS = 50_000
"""So many stays are looked at in one flood: equal ways in a circle are a new kind of packet each time."""


def flood(
    plan: Plan, sets: Sets, device: str, held: Set, moment: Moment | None = None, state: State | None = None, forks: bool = False
) -> Iterator[Fared]:
    """What becomes of a set of packets that a device sends, each of them alone and on the way there only.

    Args:
        plan: the network.
        sets: where terms become sets.
        device: who sends.
        held: what is sent.
        moment: what holds for all of them.
        state: what devices remember; nothing of the packets is remembered.
        forks: every one of several equal ways is followed; else always the first.

    Raises:
        TooLarge: more stays come of it than are looked at.

    """
    memory = state if state is not None else State()
    queue, stays = [Travelling(device, None, held, Form(), None)], 0
    while queue:
        here = queue.pop(0) if forks else queue.pop()
        left = here.held
        while left.satisfiable():
            facts = sets.space.witness(left)
            assert facts is not None
            now = here.form.of(facts.packet, here.sample) if here.sample is not None else facts.packet
            runs = list(_runs(plan, sets, memory, here, now, moment, forks))
            mine = runs[0].cell & left
            assert holding(sets.space, mine, facts.packet, facts.relation), (here.device, facts.packet)
            left = left & ~mine
            stays += len(runs)
            if stays > MOST_STAYS:
                raise TooLarge(f"more than {MOST_STAYS} stays of packets at devices come of it.")
            for done in runs:
                found = _onward(here, done, mine, len(runs) > 1)
                if isinstance(found, Fared):
                    yield found
                else:
                    _queued(queue, found, forks)


def _queued(queue: list[Travelling], found: Travelling, joins: bool) -> None:
    """Put packets into the queue: where equal ways are followed, with those that are at the same place in the same form.

    Otherwise each of the ways on which two ways meet and part again would be followed twice as often as the one before it.
    """
    for number, other in enumerate(queue) if joins else ():
        if other.place == found.place:
            both = other._replace(held=other.held | found.held, tunnelled=other.tunnelled or found.tunnelled, forked=True)
            queue[number] = both
            return
    queue.append(found)


def _runs(
    plan: Plan, sets: Sets, memory: State, here: Travelling, now: Packet, moment: Moment | None, forks: bool
) -> Iterator[Stayed]:
    """A stay, once for each of the equal ways that it could take."""
    scripts: list[tuple[int, ...]] = [()]
    while scripts:
        script = scripts.pop()
        made: list[int] = []

        def choose(
            device: str, hops: tuple[Any, ...], packet: Packet, script: tuple[int, ...] = script, made: list[int] = made
        ) -> int:
            """As the script says, and then the first."""
            made.append(len(hops))
            return script[len(made) - 1] if len(made) <= len(script) else 0

        with memory.unchanged():
            yield stay_at(plan, sets, memory, here.device, now, here.arriving, here.form, 1, moment, choose=choose)
        if forks:
            for place in range(len(script), len(made)):
                taken = (*script, *[0] * (place - len(script)))
                scripts += [(*taken, other) for other in range(1, made[place])]


def _onward(here: Travelling, done: Stayed, mine: Set, forked: bool) -> Fared | Travelling:
    """Where packets are after a stay: at their end, or with a neighbour."""
    way, forked = (*here.path, here.device), here.forked or forked
    packet = done.stay.facts.packet
    if done.end is not None:
        end = (here.device, done.end.fate.value, done.end.cause)
        fixed = packet.destination if "destination" in done.form.fixed else None
        return Fared(mine, end, way, fixed, done.end.because, forked, here.tunnelled)
    neighbour = done.stay.handover
    assert neighbour is not None
    assert len(way) < MOST_HOPS
    tunnelled = here.tunnelled or neighbour.tunnel
    if neighbour.tunnel:  # that the outer packet gets there is for walks to say
        end_of = other_end(done.stay.here, done.stay.facts.leaving or "")
        assert end_of is not None
        neighbour = neighbour._replace(device=end_of[0], interface=end_of[1])
    return Travelling(neighbour.device, neighbour.interface, mine, done.form, packet, way, forked, tunnelled)
