"""From legs to the answer: how the whole ended, where that was decided, and who is to blame for it.

A device knows its packet and its own state alone; here the whole journey is looked at, so here it is known that a packet
was meant as an answer, and what its sender waited for. Answered means one thing: the sender of the question received a
packet whose flow is the reverse of what it sent.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from mossy_compass.model.network import Verdict
from mossy_compass.packet.flow import is_answer
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import WITH_PORTS
from mossy_compass.plan.actions import Pass
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.ids import TableKind
from mossy_compass.plan.order import Stage
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Did, Fate
from mossy_compass.walk.astray import ASTRAY, led_astray
from mossy_compass.walk.diagnosis import FILTERED, beside, own_mark, waiting_for_names
from mossy_compass.walk.journey import Hop, Journey, Leg, Symptom, Way
from mossy_compass.walk.question import Question

SESSIONLESS = ("root.stateless", "root.not-inspected", "root.inspected-elsewhere", "root.no-opening")
"""What lies behind the loss of an answer by a list, unless that answer should never have come there."""
ARRIVED = ("service.silent", "answer.unasked", "echo.ignored")
"""Causes of packets that got there all the same."""
OWN_SYSTEM = ("route.none", "neighbour.silent", "interface.down", "route.unreachable", "mtu.exceeded")
"""Causes that the sender's own system tells it of: what comes of a call to send is its result (RFC 791 section 3.3)."""


def journey_of(plan: Plan, question: Question, legs: Sequence[Leg], later: Leg | None = None) -> Journey:
    """The record of a question whose packet was walked.

    Args:
        plan: the network.
        question: what was asked.
        legs: everything that was sent because of it, in order.
        later: the packet that shows the flow's application, where one was sent.

    """
    packet = question.packet
    assert packet is not None
    there, back, legs = _homeward(plan, question, legs)
    there = _unlearned(plan, question, there)
    symptom, said = _symptom(question, packet, there, back)
    # a delivered packet whose answer set out and was not received: its fate is decided on the way back
    answer = there.fate is Fate.DELIVERED and back is not None and back.way is Way.BACK
    lost = "back" if answer and symptom is not Symptom.ANSWERED else "there"
    deciding = back if lost == "back" and back is not None else there
    if later is not None and symptom is Symptom.ANSWERED and later.fate is not Fate.DELIVERED:
        lost, deciding, symptom, said = "later", later, Symptom.SILENCE, Because("said.later", (question.moment.known_from,))
    behind, remark = deciding.behind, deciding.remark
    if symptom is not Symptom.ANSWERED:
        behind, remark = _behind_it(plan, there, deciding, lost == "back")
    return Journey(
        sender=question.sender,
        target=question.target,
        target_owner=plan.owner(packet.destination),
        what=question.what,
        legs=(there, *legs[1:]),
        back=back,
        fate=deciding.fate,
        cause=deciding.cause,
        because=deciding.because,
        remark=remark,
        behind=behind,
        lost=lost,
        symptom=symptom,
        said=said,
        seen_as=_seen_as(there),
        diagnosis=beside,
        later=later,
        moment=question.moment,
        plan=plan,
    )


def _behind_it(plan: Plan, there: Leg, deciding: Leg, answer: bool) -> tuple[Because | None, Because | None]:
    """What lies behind a loss, with the remark beside it: what a device knew, where the packet was led, what was not translated."""
    behind, remark = deciding.behind, deciding.remark
    if behind is not None and behind.code not in SESSIONLESS:
        return behind, remark
    lost = deciding.deciding  # with what carried it, perhaps
    astray = led_astray(plan, lost, there if answer and lost is deciding else None)
    by_chance = astray is None or astray.code in ("root.turned-back", "root.parted")
    if behind is not None:
        # By whatever way an answer comes that nobody keeps sessions of, it is lost.
        keep = astray is None or (by_chance and behind.code != "root.no-opening")
        return behind if keep else astray, remark
    found, more = _untranslated(plan, there, deciding) if answer and by_chance else (None, None)
    return found or astray, more or remark


def with_onward(journey: Journey, onward: Journey) -> Journey:
    """A journey with what the device asked in its own name that took its packet; where that failed, the failure is the fate of the whole.

    A connection was open by then, for it is answered at once (RFC 9293 section 3.5); a datagram waits for the answer onward.
    """
    took = journey.there.fate is Fate.DELIVERED
    if onward.answered or not took or (journey.back is not None and not journey.answered):
        return replace(journey, onward=onward, seen_as=onward.seen_as)
    symptom = Symptom.OPEN_ONLY if journey.answered else Symptom.SILENCE
    said = Because("said.onward", (journey.there.end, onward.symptom.value))
    of_onward = {k: getattr(onward, k) for k in ("fate", "cause", "because", "remark", "behind")}
    return replace(
        journey,
        onward=onward,
        lost="onward",
        symptom=symptom,
        said=said,
        diagnosis=onward.beside,
        seen_as=onward.seen_as,
        **of_onward,
    )


def _symptom(question: Question, packet: Packet, there: Leg, back: Leg | None) -> tuple[Symptom, Because | None]:
    """What the sender sees, from what really got to it."""
    if back is None:
        # What is too large for a cable between two switches nobody sees.
        unseen = there.remark is not None and there.remark.code == "note.mtu-between"
        if len(there.hops) == 1 and there.cause in OWN_SYSTEM and there.deciding is there and not unseen:
            return Symptom.UNREACHABLE, Because("said.own-system", (question.device,))
        return Symptom.SILENCE, None
    expected = there.fate is Fate.DELIVERED and back.way is Way.BACK
    if expected:
        received = _received(question, packet, back)
        return (Symptom.ANSWERED, Because("said.packet", (back.arrived,))) if received else (Symptom.SILENCE, None)
    if not _home(question, back):
        return Symptom.SILENCE, Because("said.lost", (back.way is Way.BACK, back.end, back.because))
    refused = back.way is Way.BACK or there.fate is Fate.REFUSED
    return (Symptom.REFUSED if refused else Symptom.UNREACHABLE), Because("said.packet", (back.arrived,))


def _homeward(plan: Plan, question: Question, legs: Sequence[Leg]) -> tuple[Leg, Leg | None, list[Leg]]:
    """The way there, and what was sent home because of it, with the blame for its loss put where it belongs."""
    out = list(legs)
    number = next((n for n, leg in enumerate(legs) if leg.parent == 0), None)
    if number is None:
        return out[0], None, out
    back = out[number]
    if back.way is Way.BACK and back.deciding is back:
        back = out[number] = blame(plan, question, out[0], back)
    return out[0], back, out


def _home(question: Question, leg: Leg) -> bool:
    """True when what was sent home got to the sender of the question."""
    return leg.end == question.device and leg.cause == "answer.arrived"


def _received(question: Question, packet: Packet, back: Leg) -> bool:
    """Whether the answer came back to who asked, from whom it was asked, and about the question's own flow."""
    return _home(question, back) and is_answer(back.arrived, packet)


def blame(plan: Plan, question: Question, there: Leg, back: Leg) -> Leg:
    """The true cause of a lost answer, which the device that dropped it could not know.

    Args:
        plan: the network.
        question: what was asked.
        there: the way of the question's packet.
        back: the way of what was sent home.

    """
    packet = question.packet
    assert packet is not None
    if back.behind is not None and back.behind.code == "root.gone" and back.end != question.device:
        # Whatever it met, it would have passed as part of its session: that this is over is the true cause.
        over = back.behind.named["reason"].named["why"]
        return _recast(back, "session.expired" if over == "expired" else "session.ended", back.because)
    if back.cause == "answer.unasked" or (back.cause in ("service.closed", "service.silent", "answer.arrived")):
        return _elsewhere(plan, question, packet, back)
    if back.cause in FILTERED and back.arrived.quoted is None:
        return _unknown_answer(plan, there, back)
    return back


def _elsewhere(plan: Plan, question: Question, packet: Packet, back: Leg) -> Leg:
    """An answer that ended at another host, or at the right one under another name."""
    reset = back.arrived.flags == "RST"
    if back.end != question.device:
        mark = own_mark(plan, back.end, back.arrived.destination)
        because = Because("answer.elsewhere", (back.end, back.arrived.destination), mark)
        return _recast(back, "answer.elsewhere", because)
    if not reset and back.arrived.quoted is None and not is_answer(back.arrived, packet):
        because = Because("answer.other", (back.arrived, packet))
        return _recast(back, "answer.other", because)
    return back


def _recast(leg: Leg, cause: str, because: Because) -> Leg:
    """The leg with another cause; its last ruling says so too, and what the device did stays."""
    last = leg.hops[-1]
    rulings = (*last.rulings[:-1], last.rulings[-1]._replace(cause=cause)) if last.rulings else ()
    hops = (*leg.hops[:-1], last._replace(rulings=rulings))
    fate = Fate.DROPPED if leg.fate is Fate.DELIVERED else leg.fate
    return leg._replace(cause=cause, because=because, hops=hops, fate=fate, remark=leg.remark)


def _unknown_answer(plan: Plan, there: Leg, back: Leg) -> Leg:
    """An answer that met a list: that it had to is the true cause where the device keeps sessions of anything."""
    here = plan.device(back.end)
    protocol = back.arrived.protocol
    if not here.tracked:
        return back._replace(behind=Because("root.stateless", (here.name,), here.device.stateful_mark))
    passed = next((h for h in there.hops if h.device == back.end), None)
    if protocol not in here.tracked:
        behind = Because("root.not-inspected", (protocol, tuple(sorted(here.tracked))), here.device.stateful_mark)
    elif passed is not None and protocol not in here.inspected(passed.arriving, passed.leaving):
        behind = Because(
            "root.inspected-elsewhere", (protocol, passed.arriving or "", passed.leaving or "", _where(here, protocol))
        )
    else:
        behind = Because("root.no-opening", (here.name, protocol))
    return _recast(back, "session.none", back.because)._replace(behind=behind)


def _where(here: DevicePlan, protocol: int) -> tuple[str, ...]:
    """Where a protocol is inspected, by interface and direction."""
    return tuple(f"{port} {way}" for (way, port), found in here.tracked_at.items() if protocol in found)


def _unlearned(plan: Plan, question: Question, leg: Leg) -> Leg:
    """A packet that a list stopped, and that a rule by name would have let pass if the device knew an address of that name."""
    last = leg.hops[-1].rulings[-1] if leg.hops[-1].rulings else None
    if last is None or not plan.asks_names or leg.cause not in FILTERED or last.table.kind is not TableKind.LIST:
        return leg
    here = plan.device(leg.end)
    waiting = waiting_for_names(plan, leg, len(leg.hops) - 1, (question.target,))
    found = next((w for w in waiting if w.row.verdict is Verdict.PERMIT and w.stage == last.stage), None)
    if found is None:
        return leg
    values = (found.list_name, found.row.id, found.names, here.name, here.settings.learns_names)
    recast = _recast(leg, "name.unlearned", leg.because)
    return recast._replace(behind=Because("root.unlearned", values, found.row.mark))


def _seen_as(there: Leg) -> str:
    """The source that the far end saw; empty where the packet did not get there."""
    if there.fate not in (Fate.DELIVERED, Fate.REFUSED) and there.cause not in ARRIVED:
        return ""
    return seen_as(there.arrived)


def seen_as(seen: Packet) -> str:
    """The source of a packet, with its port where it has one."""
    if seen.protocol not in WITH_PORTS:
        return str(seen.source)
    return f"{seen.source}:{seen.from_port}" if seen.source.family == 4 else f"[{seen.source}]:{seen.from_port}"


def _untranslated(plan: Plan, there: Leg, back: Leg | None) -> tuple[Because | None, Because | None]:
    """Why an answer finds no way home: its private destination was never hidden behind a public one. With more about it."""
    if back is None or back.cause not in ("route.none", "loop") or not back.packet.destination.is_private:
        return _no_route_in(plan, there, back)
    source = back.packet.destination
    for hop in there.hops:
        kept = next((r for r in hop.rulings if r.did is Did.KEPT and r.stage == Stage.TRANSLATE_SOURCE), None)
        if kept is not None and kept.because.code == "translation":
            return Because("root.exempt", (source, hop.device, kept.row), kept.because.mark), None
        if kept is not None:
            near = kept.remark.named["mark"] if kept.remark is not None and kept.remark.code == "note.untranslated" else None
            mark = near or plan.device(hop.device).device.mark
            return Because("root.untranslated", (source, hop.device), mark), kept.remark
    if any(a.is_private for a in plan.device(back.end).own) or back.packet.source.is_private:
        return None, None  # between two private ends nothing is to be translated
    uplink = _last_private(plan, there)
    values = source, uplink.device if uplink else "", (uplink.leaving or "") if uplink else ""
    written = plan.network.devices[uplink.device].interfaces[uplink.leaving].mark if uplink and uplink.leaving else None
    return Because("root.translated-nowhere", (*values, _unswitched(plan, uplink)), written), None


def _unswitched(plan: Plan, hop: Hop | None) -> str:
    """The rule that let a packet pass without a switch, at a device where other rules have one; empty for none."""
    if hop is None or not any(t.switch is not None and not t.disabled for t in plan.device(hop.device).device.translate):
        return ""
    let_in = [r for r in hop.rulings if any(isinstance(a, Pass) and a.lets_in for a in r.decision.actions)]
    return f"{let_in[-1].table.name} rule {let_in[-1].row}" if let_in and let_in[-1].table.kind is TableKind.LIST else ""


def _last_private(plan: Plan, there: Leg) -> Hop | None:
    """The last device on the way that still has a private address: it stands where translation was due (RFC 1918)."""
    private = (h for h in there.hops[::-1] if h.leaving and any(a.is_private for a in plan.device(h.device).own))
    return next(private, None)


def _no_route_in(plan: Plan, there: Leg, back: Leg | None) -> tuple[Because | None, Because | None]:
    """An answer that a translating device put back, and then sent out again: it knows no way inside but the default."""
    for hop in back.hops if back is not None else ():
        rewritten = any(r.stage == Stage.TRANSLATE_DESTINATION and r.did is Did.REWRITTEN for r in hop.rulings)
        if rewritten and hop.leaving is not None and hop.leaving == hop.arriving:
            destination = hop.rulings[-1].saw.destination
            return Because("root.out-again", (hop.device, hop.arriving, destination), plan.device(hop.device).device.mark), None
    unled = _unled(there, back) if back is not None and back.cause in ASTRAY else None
    if unled is not None:
        return unled, None
    for hop in back.hops if back is not None and back.cause == "route.none" else ():
        session = next((s for r in hop.rulings if (s := r.situation.of_session) is not None), None)
        if session is not None and session.arriving not in (None, hop.leaving) and hop.leaving is not None:
            values = hop.device, session.number, session.arriving, hop.leaving
            return Because("root.other-exit", values, plan.device(hop.device).settings.mark("session-exit")), None
    return None, None


def _unled(there: Leg, back: Leg) -> Because | None:
    """An answer to a translated source that did not get to who translated it: no route leads that address there."""
    came_to = {hop.device for hop in back.hops}
    for hop in there.hops:
        moved = next((r for r in hop.rulings if r.stage == Stage.TRANSLATE_SOURCE and r.did is Did.REWRITTEN), None)
        if moved is not None and moved.gave.source == back.packet.destination and hop.device not in came_to:
            return Because("root.unled", (moved.gave.source, hop.device, moved.row), moved.because.mark)
    return None
