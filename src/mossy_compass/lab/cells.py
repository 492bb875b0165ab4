"""An executor over exact sets, made of nothing but what steps and actions say of themselves.

A cell is the set of packets with which one stay would have done the same: the terms of every step and action on the way,
put into sets. What a rewriting made one value for all packets of the cell is looked up there; the rest is as it was sent.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator
from typing import Any, NamedTuple, TypeVar

from mossy_compass.errors import TooLarge
from mossy_compass.headers.sets import Set
from mossy_compass.lab.forms import Form, Sets, holding
from mossy_compass.lab.own_sessions import OwnSessions, SessionEnds
from mossy_compass.packet.address import Address, Span
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.actions import (
    Action,
    Allocate,
    BeginAnew,
    Countdown,
    Forward,
    Half,
    OpenSession,
    Pass,
    Recall,
    Reply,
    Rewrite,
)
from mossy_compass.plan.alike_actions import alike_to_action
from mossy_compass.plan.balance import Choose
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Facts, Moment
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Fate
from mossy_compass.plan.stages.tunnel import other_end
from mossy_compass.state.state import State
from mossy_compass.walk.execute import PERFORM, Stay, StayEnd
from mossy_compass.walk.walk import carried, taken


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
    kept: OwnSessions | None = None,
    next_hop: Address | None = None,
) -> Stayed:
    """Run the steps of a device as the executor does, and gather what each decision and action rests on.

    Args:
        plan: the network.
        sets: where terms become sets.
        state: what devices remember; it is written.
        device, packet, arriving, number, moment, handed, choose: as for the executor's own stay.
        leaving, next_hop: where it must leave; None: where the device sends it.
        form: what the packets are when they come; None: as they were sent.
        kept: the sessions that the packets of the set opened themselves, each its own; None: what is remembered is somebody else's.

    """
    sets.space.tidy()
    here = plan.device(device)
    stay = Stay(here, packet, arriving, state, choose, moment or Moment(), number, handed)
    facts = stay.facts
    facts.leaving, facts.next_hop = leaving, next_hop
    came = now = form or Form()
    held = sets.space.possible
    for step in stay.steps:
        for term in step.alike(facts):
            assert term.holds(facts), (step.stage, term)
            held = held & sets.of(term, facts, now)
        decision = step.decide(facts) if step.about is None or step.about(facts) else None
        for action in decision.actions if decision is not None else ():
            held = held & _rests(sets, stay, action, (came, now), kept)
            if isinstance(action, Pass) and action.again:  # it is judged again once its application is known
                sets.of_case.add("application")
            before, entry = facts.packet, now
            end = PERFORM[type(action)](stay, step.stage, decision, action)  # type: ignore[arg-type]
            own = kept.of(facts) if kept is not None else None
            if isinstance(action, Recall):
                held = held & _recalled(sets, stay, action, now, kept)
                now = now._replace(opener=own.came.source, known=True) if own is not None else now
            if isinstance(action, OpenSession) and kept is not None and end is None:
                kept.opened(facts, came, now)
            held = held & _as_before(sets, action, now, before, facts.packet)
            now = _after(now, action, facts, before, own)
            if end is not None:
                return Stayed(stay, end, held, entry)
    return Stayed(stay, None, held, now._replace(opener="", known=False))


def _rests(sets: Sets, stay: Stay, action: Action, forms: tuple[Form, Form], kept: OwnSessions | None) -> Set:
    """The packets with which an action does the same; of a recollection that is known once it is there."""
    held = sets.space.possible
    if not isinstance(action, Recall | Forward):
        memory = stay.facts.memory
        if kept is not None and isinstance(action, Allocate | OpenSession) and kept.knows_all(stay):
            # What the device remembers is the packet's own, and so of each packet its own: nobody else is in its way.
            stay.facts.memory = None
        for term in list(alike_to_action(stay.here, stay.facts, action)):
            assert term.holds(stay.facts), (action, term)
            held = held & sets.of(term, stay.facts, forms[1], forms[0])
        stay.facts.memory = memory
    return held


def _recalled(sets: Sets, stay: Stay, action: Recall, form: Form, kept: OwnSessions | None) -> Set:
    """The packets of which a device remembers the same."""
    if kept is not None:
        return kept.alike(sets, stay, form)
    held = sets.space.possible
    for term in alike_to_action(stay.here, stay.facts, action):
        held = held & sets.of(term, stay.facts, form)
    return held


def _as_before(sets: Sets, action: Action, form: Form, before: Packet, after: Packet) -> Set:
    """The packets that had the address already which a rule gives, or those that had another: a session of the one translates nothing."""
    gives = (isinstance(action, Rewrite) and action.by_rule) or (isinstance(action, Allocate) and not action.keeps)
    if not gives:
        return sets.space.possible
    of_destination = isinstance(action, Rewrite) and action.half is Half.DESTINATION
    part = form.destination if of_destination else form.source
    given, had = (after.destination, before.destination) if of_destination else (after.source, before.source)
    if not part:
        return sets.space.possible
    same = sets.space.of_condition(Condition("given", ((part, (Span(given.key, given.key),)),)))
    return same if given == had else sets.space.possible & ~same


def _after(form: Form, action: Action, facts: Facts, before: Packet, own: SessionEnds | None) -> Form:
    """The form after an action."""
    after = facts.packet
    if isinstance(action, Countdown):
        return form._replace(down=form.down + 1)
    if isinstance(action, Rewrite) and not action.by_rule and own is not None:
        return own.rewritten(form, action.half, facts)
    if isinstance(action, Rewrite) and action.by_rule:
        # What a rule gives is one value, also where the packet at hand had it before.
        if action.half is Half.SOURCE:
            return form._replace(source="")
        return form._replace(destination="", far="" if action.port is not None or action.port_shift else form.far)
    if isinstance(action, Rewrite) and before != after:
        one_value = form._replace(identifier="")
        if action.half is Half.DESTINATION:
            return one_value._replace(destination="", far="")
        return one_value._replace(source="", near="")
    if isinstance(action, BeginAnew):  # of one flow alone, for it is known
        return form._replace(source="", near="", identifier="")
    if isinstance(action, Allocate):
        kept = before.from_port == after.from_port
        near, identifier = (form.near, form.identifier) if kept else ("", "")
        return form._replace(source=form.source if action.keeps else "", near=near, identifier=identifier)
    return form


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
        passed: those of the devices that are watched that they have passed, switches too.
        answered: something may be sent home about it, an answer or an error.

    """

    held: Set
    end: tuple[str, str, str]
    path: tuple[str, ...]
    destination: Address | None
    because: Because
    forked: bool = False
    tunnelled: bool = False
    passed: frozenset[str] = frozenset()
    answered: bool = False


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
    passed: frozenset[str] = frozenset()

    @property
    def place(self) -> object:
        """Where they are, what they are by now, and what they have passed."""
        return self.stays_alike, self.passed

    @property
    def stays_alike(self) -> object:
        """Where they are, and what they are by now: whoever has the same in common stays there in the same way."""
        sample = self.sample
        parts = (("source", self.form.source), ("destination", self.form.destination), ("from_port", self.form.near))
        fixed = [getattr(sample, name) for name, part in (*parts, ("to_port", self.form.far)) if not part]
        return self.device, self.arriving, self.form, tuple(fixed)


MOST_HOPS = 70
"""More than any packet has whose TTL is 64."""
MOST_KNOWN = 300
"""So many kinds of stays are looked through at a place: where there are more, a new look costs less than the search."""
Known = dict[object, list[tuple[Set, list[Stayed]]]]
"""Stays, by each of the equal ways, with the packets that all of them are alike for; by where packets are and what they are by now. A cell is never cut by what happened to come, so it serves whoever comes next."""
MOST_STAYS = 50_000
"""So many stays are looked at in one flood: equal ways in a circle are a new kind of packet each time."""


def flood(
    plan: Plan,
    sets: Sets,
    device: str,
    held: Set,
    moment: Moment | None = None,
    state: State | None = None,
    forks: bool = False,
    watched: Collection[str] = (),
    known: Known | None = None,
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
        watched: devices of which it is told whether packets have passed them.
        known: as for ``flood_from``.

    Raises:
        TooLarge: more stays come of it than are looked at.

    """
    starts = [(device, held)]
    return flood_from(plan, sets, starts, moment or Moment(), state if state is not None else State(), forks, watched, known=known)


def flood_from(
    plan: Plan,
    sets: Sets,
    starts: Iterable[tuple[str, Set]],
    moment: Moment,
    memory: State,
    forks: bool = True,
    watched: Collection[str] = (),
    seen: Callable[[Stayed], object] | None = None,
    most: int = MOST_STAYS,
    known: Known | None = None,
) -> Iterator[Fared]:
    """The same of what several devices send, together: where their packets come to one place, they go on as one set.

    Args:
        plan, sets, moment, forks, watched: as for ``flood``.
        starts: who sends, and what.
        memory: what devices remember.
        seen: is given every stay.
        most: so many stays are looked at.
        known: the stays of earlier floods of one moment and memory, for this one to take; its own are added.

    Raises:
        TooLarge: more stays come of it than are looked at.

    """
    queue, stays = [Travelling(device, None, held, Form(), None) for device, held in starts], 0
    known = {} if known is None else known
    while queue:
        here = queue.pop(0) if forks else queue.pop()
        for mine, runs, is_new in _kinds(plan, sets, memory, here, moment, forks, known.setdefault(here.stays_alike, [])):
            stays += len(runs) if is_new else 0
            if stays > most:
                raise TooLarge(f"more than {most} stays of packets at devices come of it.")
            for done in runs:
                if seen is not None and is_new:
                    seen(done)
                found = _onward(plan, here, done, mine, len(runs) > 1, watched, (moment, memory))
                if isinstance(found, Fared):
                    yield found
                else:
                    _queued(queue, found, forks)


def _kinds(
    plan: Plan, sets: Sets, memory: State, here: Travelling, moment: Moment, forks: bool, known: list[tuple[Set, list[Stayed]]]
) -> Iterator[tuple[Set, list[Stayed], bool]]:
    """The packets at a place, by how they stay: each kind with its stay by every equal way, and whether that was not known before."""
    left = here.held
    for cell, runs in known:
        mine = cell & left
        if mine.satisfiable():
            left = left & ~mine
            yield mine, runs, False
    while left.satisfiable():
        facts = sets.space.witness(left)
        assert facts is not None
        now = here.form.of(facts.packet, here.sample) if here.sample is not None else facts.packet
        runs = list(_runs(plan, sets, memory, here, now, moment, forks))
        cell = runs[0].cell
        for other in runs[1:]:  # by each of several equal ways another list may stand
            cell = cell & other.cell
        mine = cell & left
        assert holding(sets.space, mine, facts.packet, facts.relation), (here.device, facts.packet)
        left = left & ~mine
        if len(known) < MOST_KNOWN:
            known.append((cell, runs))
        yield mine, runs, True


T = TypeVar("T")


def as_many(kinds: Iterator[T], more: Callable[[TooLarge], None]) -> Iterator[T]:
    """Kinds of packets, as many as are looked at.

    Args:
        kinds: what is told apart.
        more: is told where there are more.

    """
    try:
        yield from kinds
    except TooLarge as error:
        more(error)


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


def _onward(
    plan: Plan, here: Travelling, done: Stayed, mine: Set, forked: bool, watched: Collection[str], at: tuple[Moment, State]
) -> Fared | Travelling:
    """Where packets are after a stay: at their end, or with a neighbour."""
    switches = done.stay.handover.switches if done.stay.handover is not None else ()
    passed = here.passed | {name for name in (here.device, *switches) if name in watched}
    way, forked = (*here.path, here.device), here.forked or forked
    packet = done.stay.facts.packet
    if done.end is not None:
        end = (here.device, done.end.fate.value, done.end.cause)
        fixed = packet.destination if not done.form.destination else None
        return Fared(mine, end, way, fixed, done.end.because, forked, here.tunnelled, passed, done.end.reply is not Reply.NOTHING)
    neighbour = done.stay.handover
    assert neighbour is not None
    assert len(way) < MOST_HOPS
    tunnelled = here.tunnelled or neighbour.tunnel
    end_of = other_end(done.stay.here, done.stay.facts.leaving or "") if neighbour.tunnel else None
    if end_of is not None:  # that the outer packet gets there is for walks to say
        neighbour = neighbour._replace(device=end_of[0], interface=end_of[1])
    elif neighbour.tunnel:  # as things are written it is nobody's, or translated on the way: only the outer packet tells
        with at[1].unchanged():
            through = carried(plan, at[1], done.stay, None, at[0], ())
        if through.lost is not None:
            lost, fixed = through.lost, packet.destination if not done.form.destination else None
            end = (here.device, Fate.DROPPED.value, lost.cause)
            return Fared(mine, end, way, fixed, lost.because, forked, tunnelled, passed)
        assert through.outer is not None
        neighbour = taken(neighbour, through.outer)
    return Travelling(neighbour.device, neighbour.interface, mine, done.form, packet, way, forked, tunnelled, passed)
