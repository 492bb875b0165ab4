"""What a device knows of a packet from its own sessions, and whether that lets it pass over the filters.

Nothing is rewritten here: a session's destination half is applied where destinations are translated and its source half
where sources are, in both directions, so that each stage sees what the order says.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from mossy_compass.packet.service import TCP
from mossy_compass.plan.actions import Admit, Decision, EndSession, Recall, Reply, Stop
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Facts, Relation, Session
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.step import Step
from mossy_compass.plan.table import Table

if TYPE_CHECKING:
    from mossy_compass.plan.plan import DevicePlan

_RECALL = Decision(None, Because("session.kept", ("", ())), (Recall(),))


def recall(here: DevicePlan, port: str | None) -> Step:
    """Every device, hosts included, recalls the flows that it asked, answered, inspects or translates."""
    return Step(Stage.RECALL, None, lambda facts: _RECALL)


def _one_of(field: str, *values: object) -> Condition:
    """A condition on a field that holds names."""
    return Condition(field, ((field, frozenset(values)),))


def inspection(here: DevicePlan, port: str | None) -> Step | None:
    """The table of inspected protocols; it is what a stateless device does not have."""
    if not here.tracked:
        return None
    known = [Relation.CONTINUING, Relation.ANSWERING]
    if here.settings.session_errors_pass:  # RFC 5508 section 5: an error belongs to the session of what it quotes
        known.append(Relation.RELATED)
    rows = [Row("known-session", (_one_of("relation", *known), _one_of("conversation", *here.tracked)), actions=(Admit(),))]
    if TCP in here.tracked and port is not None:  # what the device makes itself, a reset in another's name too, is its own affair
        # RFC 9293 section 3.5: a TCP conversation opens with a bare SYN, so anything else without one is nobody's.
        no_session = (
            _one_of("conversation", TCP),
            _one_of("relation", Relation.NONE),
            _one_of("opens", False),
            _one_of("error", False),
        )
        rows.append(Row("opening-packet", no_session, actions=(Stop(Fate.DROPPED, "session.none", Reply.NOTHING),)))
    table = Table("inspection", rows)
    kept = Because("session.kept", (here.name, (TCP,)), here.device.stateful_mark)

    def decide(facts: Facts) -> Decision | None:
        """What this stage says of a packet."""
        row = table.first(facts)
        if row is None:
            return None
        session = facts.session
        if session is None:
            note = Because("note.no-session", ("fragment" if facts.packet.fragment else facts.packet.flags, here.name))
            return Decision(Did.DROPPED, kept, row.actions, note, table.id, row.id)
        if session.pending and facts.application:
            recalled = _judged_again(here, facts, session)
            if recalled is not None:
                return recalled
        if facts.relation is Relation.CONTINUING:
            because = Because("session.known", (session.number, here.name))
        else:
            because = Because("session", (session.number, here.name, *session.opened_by, session.arriving is None))
        note = Because("note.session", (facts.relation, facts.packet.protocol))
        return Decision(Did.KNOWN, because, row.actions, note, table.id, row.id)

    return Step(Stage.INSPECTION, None, decide)


def _judged_again(here: DevicePlan, facts: Facts, session: Session) -> Decision | None:
    """Where a session was let in before its application was known: the places are asked again by its opening packet's facts.

    They are asked as they are written now, which may be otherwise than when the session began; one that is gone says nothing.
    A deny ends the session; what follows of it belongs to nothing.
    """
    for judged in session.pending:
        if judged.arriving is not None and judged.arriving not in here.device.interfaces:
            continue
        step = next((s for s in here.steps(judged.arriving) if s.stage.value == judged.stage), None)
        again = step.decide(facts.again(judged)) if step is not None else None
        if again is not None and isinstance(again.actions[0], Stop):
            note = Because("note.recalled", (session.number, session.device, facts.number, tuple(sorted(facts.application))))
            stop = again.actions[0]._replace(cause="session.recalled")
            return Decision(again.did, again.because, (EndSession(), stop), note, again.table, again.row, again.logged)
    return None
