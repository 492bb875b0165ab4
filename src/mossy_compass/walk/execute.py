"""One packet's stay at one device: the steps are run, and what they decide is done.

This is the executor that explains. It knows every action and no stage: what a device does, and in which order, is in the
plan. Nothing is written to the state before somebody takes the packet.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Hashable, Sequence
from typing import Any, NamedTuple

from mossy_compass.model.network import NoneAvailable, RouteAction
from mossy_compass.model.settings import Sharing
from mossy_compass.packet.address import Address, Spans, from_key
from mossy_compass.packet.flow import flow_of
from mossy_compass.packet.packet import REPLY_TYPES, Packet
from mossy_compass.packet.service import TCP
from mossy_compass.plan.actions import (
    Action,
    Admit,
    Allocate,
    BeginAnew,
    Countdown,
    Decision,
    Deliver,
    Divide,
    EndSession,
    Enter,
    Expect,
    Forward,
    Half,
    Handover,
    Hold,
    Leave,
    Note,
    OpenSession,
    Pass,
    Recall,
    Reply,
    Rewrite,
    Steer,
    Stop,
    Touch,
)
from mossy_compass.plan.asopened import outdated, steps_as_opened
from mossy_compass.plan.balance import Choose, choice, share
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import (
    NOBODY,
    SOME_TIME,
    Association,
    Direction,
    Expected,
    Facts,
    HeldBack,
    Judged,
    Moment,
    Relation,
    Session,
)
from mossy_compass.plan.keeping import HALF_OPEN
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate, setting
from mossy_compass.plan.room import NEW, Room
from mossy_compass.plan.stages.routes import DISCARDED, ended_by, steered
from mossy_compass.plan.stages.step import Step, as_run
from mossy_compass.plan.stages.translate import MAPPED
from mossy_compass.state.rewrite import rewrite, with_destination, with_source
from mossy_compass.state.state import State, has_ports
from mossy_compass.walk.journey import Ruling, Situation, Taken

NO_WAY = Taken()


class StayEnd(NamedTuple):
    """How a stay ended, where no neighbour got the packet.

    Attributes:
        reply: what goes home, as the row that ended it says.
        ttl_ended: the packet's TTL ran out here.
        answer: what a rejection sends; empty for what the device's setting says.

    """

    fate: Fate
    cause: str
    because: Because
    remark: Because | None
    reply: Reply
    ttl_ended: bool = False
    answer: str = ""


class KeptStay(NamedTuple):
    """What a packet did at a device, for the next one that is the same.

    Attributes:
        facts: what was known at the end.
        before, after: the rulings before anything was written, and after it.
        writes: what was written: stage, decision and action.
        handover: who got the packet; None where nobody did.
        end: how it ended.

    """

    facts: tuple[Any, ...]
    before: tuple[Ruling, ...]
    after: tuple[Ruling, ...]
    writes: tuple[tuple[str, Decision, Action], ...]
    handover: Handover | None
    end: StayEnd | None


class _OverheardMemory:
    """A device's memory, with a note whether anybody asked it beside the one that recalls."""

    __slots__ = ("_state", "asked")

    def __init__(self, state: State) -> None:
        self._state = state
        self.asked = False

    def __getattr__(self, name: str) -> Any:
        self.asked = True
        return getattr(self._state, name)


class Stay:
    """A packet at a device, with what the executor needs beside the facts.

    Attributes:
        here: the device's plan.
        facts: what is known.
        state: to be asked, and written once somebody takes the packet.
        choose: how equal ways are chosen; None: by the hash.
        rulings: what happened so far.
        handover: who gets the packet; None while it is here.
        divided: it left in pieces, and was as long as this before, in bytes; 0 where it is whole.
        opened: the association that it came out of a tunnel by, where that holds other lists than those of now.

    """

    __slots__ = ("_situation", "choose", "divided", "facts", "handover", "here", "opened", "rulings", "state")

    def __init__(
        self,
        here: DevicePlan,
        packet: Packet,
        arriving: str | None,
        state: State,
        choose: Choose | None,
        moment: Moment = SOME_TIME,
        number: int = 1,
        handed: tuple[str, str] | None = None,
    ) -> None:
        self.here = here
        self.facts = Facts(packet, arriving, state, None, moment, number, here.name)
        self.facts.handed = handed
        self.state = state
        self.choose = choose
        self.rulings: list[Ruling] = []
        self._situation: Situation | None = None
        self.handover: Handover | None = None
        self.divided = 0
        self.opened: Association | None = None
        if arriving is not None and state.associations.made:
            held = state.associations.between(here.name, arriving, packet.destination, packet.source)
            self.opened = held if held is not None and outdated(here, held) else None

    @property
    def steps(self) -> tuple[Step, ...]:
        """What the device does with such a packet."""
        return self.here.steps(self.facts.arriving) if self.opened is None else steps_as_opened(self.here, self.opened)

    def run(self) -> StayEnd | None:
        """Run the device's steps; None when a neighbour got the packet.

        A packet that is in everything what another was does what that did, as long as the device remembers the same of it.
        """
        stays, facts = self.here.stays, self.facts
        by_itself = self.choose is None and self.opened is None and not facts.divides and not facts.carries
        if stays is None or not stays.most or not by_itself or self.state.learned(self.here.name):
            return self._run()
        found = self.state.recall(self.here.name, facts.packet, facts.number)
        if found.mapping is not None or found.expected is not None:
            return self._run()  # who may use an outer end, and a second channel, hangs on others' sessions
        if found.session is not None and found.session.doubts:
            return self._run()
        asked = facts.packet, facts.arriving, facts.number, facts.moment, facts.leaving, facts.next_hop
        key = (self.here, asked, found)
        kept = stays.get(key)
        if kept is NEW:
            return self._run()
        return self._as_kept(kept) if kept is not None else self._kept_as(key, stays)

    def _as_kept(self, kept: KeptStay) -> StayEnd | None:
        """Do what an equal packet did, and write of it what that wrote."""
        facts = self.facts
        (
            facts.packet,
            facts.leaving,
            facts.next_hop,
            facts.session,
            facts.relation,
            facts.direction,
            facts.fits,
            facts.welcome,
            facts.admitted,
            facts.opened_by,
            facts.front,
            facts.picked,
            facts.switched,
            facts.pending,
            facts.gone,
        ) = kept.facts
        self.rulings += kept.before
        for stage, decision, action in kept.writes:
            end = PERFORM[type(action)](self, stage, decision, action)
            if end is not None:  # somebody else's session is in the way this time
                return end
        self.rulings += kept.after
        self.handover = kept.handover
        return kept.end

    def _kept_as(self, key: Hashable, stays: Room) -> StayEnd | None:
        """Run the steps, and keep what they did, unless it hangs on more than the packet and what is remembered of it."""
        facts = self.facts
        asking = facts.memory = _OverheardMemory(self.state)
        writes: list[tuple[str, Decision, Action]] = []
        told, keeps, end = 0, True, None
        for stage, when, decide in self.here.runs(facts.arriving):
            if when is not None and not when(facts):
                continue
            decision = decide(facts)
            if decision is None:
                continue
            # What was written goes by the facts as they are then, so nothing but the end of the stay comes after it.
            assert not writes, stage
            for action in decision.actions:
                kind = type(action)
                if kind in _WRITES:
                    writes.append((stage, decision, action))
                    told = len(self.rulings)
                elif kind not in _OF_THE_PACKET:
                    keeps = False
                end = PERFORM[kind](self, stage, decision, action)
                if end is not None:
                    keeps = keeps and kind not in _WRITES
                    break
            if end is not None:
                break
        facts.memory = self.state
        if keeps and not asking.asked:
            told = told if writes else len(self.rulings)
            known = facts.packet, facts.leaving, facts.next_hop, facts.session, facts.relation, facts.direction, facts.fits
            said = facts.welcome, facts.admitted, facts.opened_by, facts.front, facts.picked, facts.switched
            before, after = tuple(self.rulings[:told]), tuple(self.rulings[told:])
            stays.keep(key, KeptStay((*known, *said, facts.pending, facts.gone), before, after, tuple(writes), self.handover, end))
        return end

    def _run(self) -> StayEnd | None:
        """Run the device's steps, whatever packets did before."""
        facts = self.facts
        for stage, when, decide in self.here.runs(facts.arriving) if self.opened is None else as_run(self.steps):
            if when is not None and not when(facts):
                continue
            decision = decide(facts)
            if decision is None:
                continue
            for action in decision.actions:
                end = PERFORM[type(action)](self, stage, decision, action)
                if end is not None:
                    return end
        return None

    def agreed(self, held: Association) -> None:
        """Note, before the packet is sent, that an association was made for it."""
        because = Because("association.made", (held.number, held.tunnel, held.peer, held.to, held.to_port))
        sent = self.rulings.pop()
        self.rule(Stage.TUNNEL, Decision(Did.ASSOCIATED, because, ()), self.facts.packet)
        self.rulings.append(sent)

    def rule(
        self, stage: str, decision: Decision, saw: Packet, remark: Because | None = None, cause: str = "", taken: Taken = NO_WAY
    ) -> None:
        """Note what a stage did, unless its decision is one that nobody needs to be told.

        Args:
            stage: name of the stage.
            decision: what it decided.
            saw: the packet as the stage saw it.
            remark: instead of the decision's own note.
            cause: code, where the leg ends by this.
            taken: the way, for a route.

        """
        if decision.did is None:
            return
        facts = self.facts
        situation = self._situation
        # It is one for most rulings of a stay: only the route and the recollection change it.
        if (
            situation is None
            or situation[1] != facts.leaving
            or situation[3] is not facts.session
            or situation[2] != facts.relation
        ):
            situation = Situation(facts.arriving, facts.leaving, facts.relation, facts.session, self.state.known(facts))
            if not situation.known.learned:
                self._situation = situation
        if remark is not None:
            decision = decision._replace(note=remark)
        self.rulings.append(Ruling(stage, decision, saw, facts.packet, cause, situation, taken))


Perform = Callable[[Stay, str, Decision, Any], StayEnd | None]


def _pass(stay: Stay, stage: str, decision: Decision, action: Pass) -> None:
    """On to the next stage; which row let an opening packet pass is kept for the session, and by what it will be judged again."""
    facts = stay.facts
    if action.again and facts.moment.application is not None and facts.number < facts.moment.known_from:
        by = facts.packet, facts.arriving, facts.leaving, facts.relation, facts.front, facts.opened_by
        facts.pending += (Judged(str(stage), *by),)
    if action.lets_in:
        facts.opened_by = (decision.table, decision.row)
    if action.picks:
        facts.picked = f"{decision.table.name} {decision.row}"
    if action.translates:
        facts.switched = f"{decision.table.name} {decision.row}"
    stay.rule(stage, decision, facts.packet)


def _steer(stay: Stay, stage: str, decision: Decision, action: Steer) -> StayEnd | None:
    """The first candidate that is to be had; without one the route table decides."""
    name = stay.here.name
    route, passed = steered(stay.here, action, stay.facts.packet.destination)
    if route is None and action.otherwise is NoneAvailable.DROP:
        because = decision.because._replace(code="policy.unavailable", values=(decision.row, name))
        stopped = decision._replace(did=Did.DROPPED, because=because, note=Because("note.candidate", (passed,)))
        return _stop(stay, stage, stopped, Stop(Fate.DROPPED, "route.unavailable", Reply.NET_UNREACHABLE))
    if route is None:
        note = Because("note.no-candidate", (passed,))
        stay.rule(stage, decision._replace(did=Did.FELL_THROUGH, note=note), stay.facts.packet)
        return None
    tried = Because("note.candidate", (passed,))
    if route is DISCARDED:
        because = decision.because._replace(code="policy.discard", values=(decision.row, name))
        stopped = decision._replace(did=Did.DROPPED, because=because, note=tried if passed else None)
        return _stop(stay, stage, stopped, Stop(Fate.DROPPED, "route.discard"))
    if route.action is not RouteAction.FORWARD:  # a named table has decided
        values = decision.row, name, Because("route", (route.origin, route.prefix), route.mark)
        note = Because("note.action", (route.action.value,))
        stopped = decision._replace(did=Did.DROPPED, because=Because("policy.ended", values, route.mark), note=note)
        return _stop(stay, stage, stopped, ended_by(route, stay.facts.packet.destination))
    _forward(stay, stage, decision._replace(note=tried), Forward(route, route.hops))
    return None


def _on(stay: Stay, stage: str, decision: Decision, action: Leave | Note) -> None:
    """On to whatever is next, with nothing done but told."""
    stay.rule(stage, decision, stay.facts.packet)


def _stop(stay: Stay, stage: str, decision: Decision, action: Stop) -> StayEnd:
    """The leg ends here."""
    if action.ttl_ended:  # it was not sent by the way that it would have left by
        stay.facts.leaving = None
    stay.rule(stage, decision, stay.facts.packet, cause=action.cause)
    return StayEnd(action.fate, action.cause, decision.because, decision.note, action.reply, action.ttl_ended, action.answer)


def _recall(stay: Stay, stage: str, decision: Decision, action: Recall) -> StayEnd | None:
    """What the device's own sessions know of the packet, as it came; one that is in doubt is judged first."""
    facts = stay.facts
    name = stay.here.name
    facts.recalled(stay.state.recall(name, facts.came, facts.number))
    if facts.relation is Relation.EXPECTED:
        facts.welcome = True
    elif facts.mapping is not None:
        wanted = stay.here.keeping.filtering
        facts.welcome = not wanted or (wanted == 1 and stay.state.talks_to(name, facts.mapping.number, facts.came.source))
    if facts.session is not None and facts.session.doubts:
        return _judge(stay, stage, facts.session)
    return None


def _judge(stay: Stay, stage: str, session: Session) -> StayEnd | None:
    """Judge a session by what is so now: its opening packet comes again, to a device that remembers nothing."""
    here = stay.here
    again, end = _fared(stay, session)
    why = _fails(session, again, end)
    if not why:
        stay.state.judged(here.name, session)
        return None
    stay.state.close(here.name, session, "recalled")
    because = Because("session.judged", (session.number, here.name, why), here.settings.mark(_AFTER[why]))
    met = end.because if end is not None and why == "rules" else None
    remark = Because("note.judged", (met,)) if met is not None else None
    return _stop(stay, stage, Decision(Did.DROPPED, because, (), remark), Stop(Fate.DROPPED, "session.recalled"))


_AFTER = {"rules": "after-rule-change", "routes": "after-route-change", "translation": "after-translation-change"}


def _fared(stay: Stay, session: Session) -> tuple[Stay, StayEnd | None]:
    """How the opening packet of a session would fare now."""
    flow = session.inner
    flags = "SYN" if flow.protocol == TCP else ""
    icmp = next((k << 8 for p, k in REPLY_TYPES if p == flow.protocol), -1)
    port = 0 if icmp >= 0 else flow.to_port
    packet = Packet(flow.protocol, flow.source, flow.destination, flow.from_port, port, icmp, flags)
    again = Stay(stay.here, packet, session.arriving, State(), stay.choose, stay.facts.moment, stay.facts.number)
    return again, again.run()


def _fails(session: Session, again: Stay, end: StayEnd | None) -> str:
    """What a session in doubt fails by, now that its opening packet came again; empty where it lives on."""
    if "rules" in session.doubts and end is not None and end.cause.startswith(("filter.", "self.", "session.recalled")):
        return "rules"
    outer, now = session.outer, flow_of(again.facts.packet)
    ends = (now.source, now.destination) == (outer.source, outer.destination)
    # Which port it would get depends on what others have; where it would go, and as whom, does not.
    same = ends and (now.to_port == outer.to_port or again.facts.packet.icmp >= 0)
    if "translation" in session.doubts and (end is None or end.fate is Fate.DELIVERED) and not same:
        return "translation"
    if "routes" in session.doubts and session.leaving is not None and again.facts.leaving != session.leaving:
        return "routes"
    return ""


def _admit(stay: Stay, stage: str, decision: Decision, action: Admit) -> None:
    """The filters that follow are passed over."""
    stay.facts.admitted = True
    if action.opens:
        stay.facts.opened_by = (decision.table, decision.row)
    stay.rule(stage, decision, stay.facts.packet)


def _end_session(stay: Stay, stage: str, decision: Decision, action: EndSession) -> None:
    """The packet's session ends."""
    if stay.facts.session is not None:
        stay.state.close(stay.here.name, stay.facts.session)


def _begin_anew(stay: Stay, stage: str, decision: Decision, action: BeginAnew) -> StayEnd | None:
    """The packet goes on as one that opens its session, by whatever the rest of the stage says of such; the old one ends with that."""
    facts = stay.facts
    stay.rule(stage, decision, facts.packet)
    moving = facts.session
    assert moving is not None
    facts.moving, facts.session, facts.relation = moving, None, Relation.OPENING
    facts.opened_by = moving.opened_by if facts.opened_by == NOBODY else facts.opened_by
    step = next(s for s in stay.steps if s.stage == stage)
    again = step.decide(facts)
    for further in again.actions if again is not None else ():
        assert again is not None
        end = PERFORM[type(further)](stay, stage, again, further)
        if end is not None:
            return end
    return None


def _countdown(stay: Stay, stage: str, decision: Decision, action: Countdown) -> None:
    """One hop less to live."""
    stay.facts.packet = stay.facts.packet.passed_on()


def _rewrite(stay: Stay, stage: str, decision: Decision, action: Rewrite) -> StayEnd | None:
    """Another address, by a rule or by the packet's session, and the packet quoted in an error with it."""
    facts = stay.facts
    saw = facts.packet
    if action.by_rule:
        address = _new_address(stay, action)
        if address is None:
            remark = Because("note.no-address", (facts.arriving or "", saw.destination.family))
            _stop(stay, stage, decision._replace(did=Did.DROPPED, note=remark), Stop(Fate.DROPPED, "source.none"))
            return StayEnd(Fate.DROPPED, "source.none", decision.because, remark, Reply.NOTHING)
        if action.half is Half.SOURCE:
            facts.packet = with_source(saw, address, saw.from_port)
        else:
            port = saw.to_port + action.port_shift if action.port is None else action.port
            facts.packet = with_destination(saw, address, port)
            facts.front = decision.row
    elif facts.session is None and facts.mapping is not None:
        facts.packet = with_destination(saw, facts.mapping.inner, facts.mapping.inner_port, identifier=True)
        facts.front = MAPPED
    elif facts.session is not None:
        facts.packet = rewrite(saw, facts.session, facts.direction, (action.half,))
    _rewritten(stay, stage, decision, saw, action.half, False, action.by_rule)
    return None


def _new_address(stay: Stay, action: Rewrite) -> Address | None:
    """The address that a rule gives a packet; None where the device has none to give."""
    packet = stay.facts.packet
    if action.address is not None:
        return action.address
    if action.servers:  # by source address alone, so that a client always meets the same server
        return action.servers[share(packet, Sharing.SOURCE, len(action.servers), stay.here.salt)]
    if action.own:
        assert stay.facts.arriving is not None  # destinations are translated as packets arrive
        return stay.here.source_for(stay.facts.arriving, packet.destination.family)
    old = packet.source if action.half is Half.SOURCE else packet.destination
    return Address(old.family, old.value + action.shift)


def address_of_pool(pool: Spans, source: Address) -> Address:
    """The address of a pool that a source always gets (RFC 4787 REQ-2, paired): the pool is gone through by its own number."""
    number = source.value % sum(s.last - s.first + 1 for s in pool)
    for span in pool:
        size = span.last - span.first + 1
        if number < size:
            return from_key(span.first + number)
        number -= size
    raise AssertionError("a number below the pool's size lies in it")


def _rewritten(stay: Stay, stage: str, decision: Decision, saw: Packet, half: Half, allocated: bool, by_rule: bool) -> None:
    """Note what a packet has become. Where nothing changed there is nothing to tell, but that a rule applied."""
    now = stay.facts.packet
    if now != saw or by_rule:
        stay.rule(stage, decision, saw, Because("note.rewrite", (half.value, saw, now, allocated)))


def _allocate(stay: Stay, stage: str, decision: Decision, action: Allocate) -> StayEnd | None:
    """A source with a port of its own: the leaving interface's address unless the action names one."""
    facts = stay.facts
    saw = facts.packet
    assert facts.leaving is not None
    family = facts.packet.source.family
    if action.pool:
        address: Address | None = address_of_pool(action.pool, saw.source)
    else:
        address = saw.source if action.keeps else stay.here.source_for(facts.leaving, family)
    if address is None:
        remark = Because("note.no-address", (facts.leaving, family))
        return _stop(stay, stage, decision._replace(did=Did.DROPPED, note=remark), Stop(Fate.DROPPED, "source.none"))
    here = stay.here
    found = stay.state.allocate(here.name, saw, address, here.keeping, here.reserved(saw.protocol, address), decision.row)
    if found is None:
        remark = Because("note.ports-taken", (address,))
        return _stop(
            stay, stage, decision._replace(did=Did.DROPPED, note=remark), Stop(Fate.DROPPED, "nat.exhausted", Reply.PROHIBITED)
        )
    facts.allocated = found
    facts.packet = with_source(saw, address, found.port if has_ports(saw) else saw.from_port)
    _rewritten(stay, stage, decision, saw, Half.SOURCE, True, not action.keeps)
    return None


def _forward(stay: Stay, stage: str, decision: Decision, action: Forward) -> None:
    """One of the equal ways, which makes the leaving interface and the next hop known."""
    facts = stay.facts
    hop, remark = action.hops[0], Because("note.way", (action.hops[0], 1, 1, "", ()))
    if len(action.hops) > 1:
        number, chosen = choice(stay.here, action.hops, facts.packet, facts.arriving is None, stay.choose)
        hop = action.hops[number]
        others = tuple(h for n, h in enumerate(action.hops) if n != number)
        remark = Because(
            "note.way", (hop, number + 1, len(action.hops), "" if chosen else stay.here.settings.sharing.value, others)
        )
    facts.leaving, facts.next_hop = hop.interface, hop.address
    if decision.note is not None:
        remark = Because("note.steered", (remark, *decision.note.values))
    stay.rule(stage, decision, facts.packet, remark, taken=Taken(hop, action.hops))


def _enter(stay: Stay, stage: str, decision: Decision, action: Enter) -> None:
    """Into a tunnel, whatever the way was."""
    stay.facts.leaving, stay.facts.next_hop = action.tunnel, None
    stay.rule(stage, decision, stay.facts.packet)


def _deliver(stay: Stay, stage: str, decision: Decision, action: Deliver) -> StayEnd:
    """The packet has arrived."""
    stay.rule(stage, decision, stay.facts.packet, cause=action.cause)
    return StayEnd(Fate.DELIVERED, action.cause, decision.because, decision.note, action.reply)


def _handover(stay: Stay, stage: str, decision: Decision, action: Handover) -> None:
    """A neighbour takes the packet."""
    stay.handover = action
    stay.rule(stage, decision, stay.facts.packet)


def _divide(stay: Stay, stage: str, decision: Decision, action: Divide) -> None:
    """It goes on in pieces; what is here from now on is the first of them."""
    stay.divided = stay.facts.packet.size
    stay.facts.packet = stay.facts.packet._replace(size=action.mtu)


def _open_session(stay: Stay, stage: str, decision: Decision, action: OpenSession) -> StayEnd | None:
    """Open a session for a packet that may open one and belongs to none; unless another's answers come as its would."""
    facts = stay.facts
    if facts.session is not None or facts.relation not in (Relation.OPENING, Relation.EXPECTED):
        return None
    if stay.state.clashes(stay.here.name, facts.packet):
        outer = flow_of(facts.packet)
        because = Because("address.own", (stay.here.name, outer.source))
        remark = Because("note.clash", (outer.protocol, outer.source, outer.destination))
        return _stop(stay, stage, Decision(Did.DROPPED, because, (), remark), Stop(Fate.DROPPED, "nat.clash"))
    full = _full(stay)
    if full is not None:
        return _stop(stay, stage, *full)
    leaving = facts.leaving if action.leaves else None
    inward = facts.mapping.number if facts.mapping is not None and facts.front == MAPPED else 0
    keys = facts.came, facts.packet, facts.arriving, leaving, facts.opened_by, facts.pending
    handed = facts.handed if stay.here.keeping.remembers_neighbour else None
    moved = stay.state.move(stay.here.name, facts.moving) if facts.moving is not None else None
    made = stay.state.open(stay.here.name, *keys, stay.here.keeping, facts.allocated, inward, handed)
    if moved is not None:
        stay.state.goes_on(stay.here.name, made, moved)
    if facts.expected is not None:
        stay.state.fulfilled(stay.here.name, facts.expected)
    return None


def _full(stay: Stay) -> tuple[Decision, Stop] | None:
    """The refusal of a further session, where a limit of the device is reached."""
    keeping = stay.here.keeping
    if keeping.session_limit is None and keeping.half_open_limit is None:
        return None
    live, half = stay.state.counts(stay.here.name)
    if keeping.session_limit is not None and live >= keeping.session_limit:
        return _limit(stay, "session-limit", "session.full", live, stay.state.sessions(stay.here.name))
    tcp = stay.facts.packet.protocol == TCP
    if tcp and keeping.half_open_limit is not None and half >= keeping.half_open_limit:
        waiting = [s for s in stay.state.sessions(stay.here.name) if s.phase in HALF_OPEN]
        return _limit(stay, "half-open-limit", "session.half-open", half, waiting)
    return None


def _limit(stay: Stay, name: str, cause: str, number: int, held: Sequence[Session]) -> tuple[Decision, Stop]:
    """That a table is full, with who holds most of it."""
    most = Counter(s.inner.source for s in held).most_common(3)
    stop = Stop(Fate.DROPPED, cause)
    note = Because("note.holders", (tuple((str(a), count) for a, count in most), number))
    return Decision(Did.DROPPED, setting(stay.here.settings, name), (), note), stop


def _touch(stay: Stay, stage: str, decision: Decision, action: Touch) -> None:
    """The packet's session is as far as the packet shows, and lives on. Errors belong to it, and are no part of it."""
    facts = stay.facts
    if facts.session is not None and facts.relation is not Relation.RELATED:
        session = facts.session
        key = session.forth if facts.direction is Direction.FORTH else session.back
        stay.state.touch(stay.here.name, facts.came, facts.direction, stay.here.keeping, key)
        if facts.heard is not None:
            stay.state.expect(stay.here.name, facts.heard)


def _expect(stay: Stay, stage: str, decision: Decision, action: Expect) -> StayEnd | None:
    """A second channel is expected once somebody takes the packet; what is told of it goes on in the other side's terms."""
    facts, here = stay.facts, stay.here
    told, session, saw = facts.packet.announces, facts.session, facts.packet
    assert told is not None
    assert session is not None
    on = told
    if saw.source != facts.came.source:  # its sender is called otherwise out there, and so is what it waits on
        waits = Packet(told.protocol, told.address, saw.destination, told.port, 0)
        reserved = here.reserved(told.protocol, saw.source)
        found = stay.state.allocate(here.name, waits, saw.source, here.keeping._replace(mapping=2), reserved, action.helper)
        if found is None:
            note = Because("note.ports-taken", (saw.source,))
            stopped = decision._replace(did=Did.DROPPED, note=note)
            return _stop(stay, stage, stopped, Stop(Fate.DROPPED, "nat.exhausted", Reply.PROHIBITED))
        on = told._replace(address=saw.source, port=found.port)
    now = stay.state.now
    ends = told.protocol, saw.destination, on.address, on.port, told.address, told.port
    facts.heard = Expected(0, action.helper, session.number, *ends, 0, now, now + here.keeping.announced)
    facts.packet = saw._replace(announces=on)
    stay.rule(stage, decision, saw, Because("note.heard", (told, on, saw.destination)))
    return None


def _hold(stay: Stay, stage: str, decision: Decision, action: Hold) -> None:
    """The packet is held; that it ends here is for the next action."""
    facts, now = stay.facts, stay.state.now
    stay.state.hold(HeldBack(stay.here.name, facts.came, facts.arriving, now + action.milliseconds))


_WRITES = frozenset({OpenSession, Touch})
_OF_THE_PACKET = frozenset({Pass, Leave, Note, Stop, Recall, Admit, Steer, Rewrite, Countdown, Enter, Forward, Deliver, Handover})
"""What these do follows from the packet and what is remembered of it. What others do hangs on the ports that are free or on the clock, or they
write in the middle of a stay."""

PERFORM: dict[type[Action], Perform] = {
    Pass: _pass,
    Leave: _on,
    Note: _on,
    Stop: _stop,
    Recall: _recall,
    Admit: _admit,
    Steer: _steer,
    Rewrite: _rewrite,
    Allocate: _allocate,
    OpenSession: _open_session,
    Touch: _touch,
    Expect: _expect,
    Hold: _hold,
    EndSession: _end_session,
    BeginAnew: _begin_anew,
    Divide: _divide,
    Countdown: _countdown,
    Enter: _enter,
    Forward: _forward,
    Deliver: _deliver,
    Handover: _handover,
}
"""What each action does to a packet that is walked."""
