"""The stages that let a packet pass or not: the sessions that a device keeps, and its access lists."""

from __future__ import annotations

from dataclasses import replace

from mossy_compass.model.network import Verdict
from mossy_compass.packet.service import TCP, protocol_name
from mossy_compass.plan.match import ListTable
from mossy_compass.plan.order import Stage
from mossy_compass.state.sessions import flow_of, undo
from mossy_compass.walk.journey import Because, Fate
from mossy_compass.walk.passage import End, Passage, setting_because


def session(p: Passage) -> End | None:
    """Part of a known session? Then its rewrite is used and the lists are passed over."""
    if not p.here.tracked:
        return None
    flow = flow_of(p.packet)
    protocol = flow.protocol
    if p.packet.is_error and p.here.setting("session-errors")[0] == "filtered":
        return None
    found = p.sessions.answering(p.here.name, flow)
    if found is not None and found.tracked:
        saw = p.packet
        p.packet = undo(p.packet, found)
        p.session = found
        what = "the error is about its packet" if saw.is_error else "it is the answer"
        rewrite = (
            f"; destination {saw.destination} becomes {p.packet.destination}" if saw.destination != p.packet.destination else ""
        )
        p.rule(
            Stage.SESSION,
            "known session",
            Because("session", f"session {found.number} of {p.here.name}, opened under {found.opened_by}"),
            f"{what}; the lists are passed over{rewrite}",
            saw=saw,
        )
        return None
    onward = p.sessions.continuing(p.here.name, flow)
    if onward is not None and onward.tracked:
        p.session = onward
        p.rule(
            Stage.SESSION,
            "known session",
            Because("session", f"session {onward.number} of {p.here.name}"),
            "a further packet of it; the lists are passed over",
        )
        return None
    if protocol == TCP and TCP in p.here.tracked and not p.packet.opening and not p.packet.is_error:
        because = Because("session", f"{p.here.name} keeps sessions of tcp", p.here.device.stateful_mark)
        return p.end(
            Stage.SESSION,
            "dropped",
            End(
                Fate.DROPPED,
                "session.none",
                because,
                f"this {p.packet.flags or 'TCP'} packet belongs to no session there: the opening packet did not pass {p.here.name}",
            ),
        )
    return None


def _stateless_note(p: Passage) -> str:
    names = ", ".join(sorted(protocol_name(n) for n in p.here.tracked))
    if p.packet.is_error:
        return ""
    name = protocol_name(p.packet.protocol)
    if p.here.tracked and p.packet.protocol not in p.here.tracked:
        return f"{name} is not inspected there (stateful: {names}), so the answer has no session"
    if p.here.tracked:
        return f"{p.here.name} saw no opening packet of this {name} flow, so the answer has no session"
    return f"{p.here.name} keeps no sessions, so answers need a rule of their own"


def _filter(p: Passage, stage: Stage, way: str) -> End | None:
    interface = p.arriving if way == "arriving" else p.leaving
    if p.session is not None:
        return None
    if way == "leaving" and p.arriving is None and p.here.setting("own-packets")[0] == "pass":
        return None
    table = p.here.list_at(interface, way)
    where = f"{way} at {p.here.name}/{interface}"
    if table is None:
        if p.here.setting("no-list")[0] == "permit":
            return None
        return _deny(p, stage, End(Fate.DROPPED, "filter.none", setting_because(p.here, "no-list"), f"no list is attached {where}"))
    name = table.source.name
    if not table.rules:
        value, mark = p.here.setting("empty-list")
        because = Because("default", f"list {name} is empty, empty-list: {value}", mark or table.source.mark)
        if value == "permit":
            p.rule(stage, "permitted", because, f"list {name}, {where}, has no rule", table=table)
            return None
        return _deny(p, stage, End(Fate.DROPPED, "filter.empty", because), table)
    found = table.first(p.packet, p.arriving, p.leaving)
    if found is None:
        value, mark = p.here.setting("end-of-list")
        examined = len(table.rules)
        because = Because("default", f"the end of list {name}", table.source.mark)
        note = (
            f"none of its {examined} rules matched, and end-of-list is {value}"
            if examined > 1
            else f"its one rule did not match, and end-of-list is {value}"
        )
        if value == "permit":
            p.rule(stage, "permitted", because, note, table=table)
            p.opened_by = f"the end of list {name}"
            return None
        fate = Fate.REJECTED if value == "reject" else Fate.DROPPED
        return _deny(p, stage, End(fate, "filter.end", because, note, _reject(p) if fate is Fate.REJECTED else ""), table)
    rule = found.rule
    because = Because("rule", f"{name} rule {rule.id}", rule.mark, rule.about)
    member = found.member(p.packet)
    if rule.verdict is Verdict.PERMIT:
        p.rule(stage, "permitted", because, member, table=table)
        p.opened_by = f"{name} rule {rule.id}"
        return None
    if rule.verdict is Verdict.REJECT:
        return _deny(p, stage, End(Fate.REJECTED, "filter.rule", because, member, _reject(p)), table)
    return _deny(p, stage, End(Fate.DROPPED, "filter.rule", because, member), table)


def _deny(p: Passage, stage: Stage, end: End, table: ListTable | None = None) -> End:
    """A list's no. For an answer, the want of a session is the true cause where the device keeps any."""
    if p.answering and not p.packet.is_error:
        why = _stateless_note(p)
        end = replace(end, cause="session.none" if p.here.tracked else end.cause, root=why)
    return p.end(stage, "rejected" if end.fate is Fate.REJECTED else "dropped", end, table)


def _reject(p: Passage) -> str:
    if p.packet.is_error or p.packet.flags == "RST":
        return ""
    return "reset" if p.packet.protocol == TCP and p.here.setting("reject-answer")[0] == "reset" else "prohibited"


def ingress(p: Passage) -> End | None:
    """The list attached to the arriving interface."""
    return _filter(p, Stage.INGRESS, "arriving")


def egress(p: Passage) -> End | None:
    """The list attached to the leaving interface."""
    return _filter(p, Stage.EGRESS, "leaving")
