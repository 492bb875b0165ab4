"""What a device knows of a packet from its own sessions, and whether that lets it pass over the filters.

Nothing is rewritten here: a session's destination half is applied where destinations are translated and its source half
where sources are, in both directions, so that each stage sees what the order says.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from mossy_compass.model.settings import UnknownSession
from mossy_compass.packet.flow import flow_of
from mossy_compass.packet.service import TCP
from mossy_compass.plan.actions import Admit, Decision, EndSession, Recall, Reply, Stop
from mossy_compass.plan.alike import Met, Term, apart_from, known_as, of_flow
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import WHY_ENDED, Direction, Ended, Facts, Relation, Session
from mossy_compass.plan.ids import DEFAULTS, stage_table
from mossy_compass.plan.keeping import lives
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate, setting
from mossy_compass.plan.rows import StageRow
from mossy_compass.plan.stages.helpers import expected
from mossy_compass.plan.stages.step import Step, one_of
from mossy_compass.plan.table import Table

_RECALL = Table(stage_table("recall"), [StageRow("all", (), actions=(Recall(),), because=Because("session.kept", ("", ())))])


def recall(here: DevicePlan, port: str | None) -> Step:
    """Every device, hosts included, recalls the flows that it asked, answered, inspects or translates."""
    return Step(Stage.RECALL, (), (_RECALL,))


def inspection(here: DevicePlan, port: str | None) -> Step | None:
    """The table of inspected protocols; it is what a stateless device does not have."""
    if not here.tracked:
        return None
    return Step(Stage.INSPECTION, (), here.once((Stage.INSPECTION, port is None), lambda: _inspected(here, port is None)))


def _inspected(here: DevicePlan, own_packet: bool) -> tuple[JudgedAgain | Table, ...]:
    """What is asked of packets of inspected protocols: whether a session knows them, and what becomes of the others."""
    known = [Relation.CONTINUING, Relation.ANSWERING]
    if here.settings.session_errors_pass:  # RFC 5508 section 5: an error belongs to the session of what it quotes
        known.append(Relation.RELATED)
    meant = list(_inspected_sessions(here))

    def of_session(facts: Facts) -> tuple[Because, Because | None]:
        """Which session it is, and who let it in."""
        session = facts.session
        assert session is not None  # the relation says so
        if facts.relation is Relation.CONTINUING:
            because = Because("session.known", (session.number, here.name))
        else:
            because = Because("session", (session.number, here.name, *session.opened_by, session.arriving is None))
        return because, Because("note.session", (facts.relation, facts.packet.protocol))

    def of_none(facts: Facts) -> tuple[Because, Because | None]:
        """That nothing is known which it could belong to."""
        because = Because("session.kept", (here.name, (facts.packet.protocol,)), here.inspection_mark(facts.arriving))
        return because, Because("note.no-session", ("fragment" if facts.packet.fragment else facts.packet.flags, here.name))

    rows: list[StageRow] = []
    if here.keeping.strict:
        unfit = (one_of("fits", False), one_of("relation", Relation.CONTINUING, Relation.ANSWERING))
        stop = Stop(Fate.DROPPED, "session.phase")
        rows += [
            StageRow(
                f"phase{where}",
                (*unfit, *sessions),
                actions=(stop,),
                tell=_by_setting(here, "session-phase", _of_phase),
                cites=(DEFAULTS, "session-phase"),
            )
            for where, sessions in meant
        ]
    if here.keeping.same_interfaces and not own_packet:
        moved = (one_of("elsewhere", True), one_of("relation", Relation.CONTINUING, Relation.ANSWERING))
        stop = Stop(Fate.DROPPED, "session.interface")
        rows += [
            StageRow(
                f"interface{where}",
                (*moved, *sessions),
                actions=(stop,),
                tell=_by_setting(here, "session-interfaces", _of_interface),
                cites=(DEFAULTS, "session-interfaces"),
            )
            for where, sessions in meant
        ]
    known_sessions = [
        StageRow(f"known-session{where}", (one_of("relation", *known), *sessions), actions=(Admit(),), tell=of_session)
        for where, sessions in meant
    ]
    rows += known_sessions
    if here.device.helpers:

        def announced(facts: Facts) -> tuple[Because, Because | None]:
            """Who told of it."""
            return expected(here, facts), None

        opens = one_of("relation", Relation.EXPECTED)
        rows.append(StageRow("expected", (opens,), actions=(Admit(opens=True),), did=Did.PERMITTED, tell=announced))
    tables = JudgedAgain(here, known_sessions), Table(stage_table("inspection"), rows)
    # What the device makes itself, a reset in another's name too, is its own affair.
    nobodys = [] if own_packet else list(_of_nobody(here, of_none))
    return (*tables, Table(stage_table("inspection nobody"), nobodys)) if nobodys else tables


def _inspected_sessions(here: DevicePlan) -> Iterator[tuple[str, tuple[Condition, ...]]]:
    """Which sessions let answers pass: those of protocols that the device names, and those opened where an interface names them.

    Each with what tells its row from the others': empty for the device's own.
    """
    if here.device.stateful:
        yield "", (one_of("conversation", *here.device.stateful),)
    for (way, port), protocols in here.tracked_at.items():
        passed = one_of("session-came" if way == "arriving" else "session-went", port)
        yield f" {port} {way}", (one_of("conversation", *protocols), passed)


Tell = Callable[[Facts], tuple[Because, Because | None]]


def _of_interface(session: Session, facts: Facts) -> Because:
    """By which interface the session's direction came or went, and by which this packet came."""
    wanted = session.arriving if facts.direction is Direction.FORTH else session.leaving
    return Because("note.interface", (session.number, session.device, facts.arriving or "", wanted or ""))


def _of_phase(session: Session, facts: Facts) -> Because:
    """Which phase the session is in, and what came."""
    return Because("note.phase", (session.number, session.device, session.phase, facts.packet.flags, facts.direction))


def _by_setting(here: DevicePlan, name: str, note: Callable[[Session, Facts], Because]) -> Tell:
    """That a setting does not let a packet of a session pass, with what it finds wrong."""

    def tell(facts: Facts) -> tuple[Because, Because | None]:
        """The setting, and the note."""
        assert facts.session is not None  # the row says so
        return setting(here.settings, name), note(facts.session, facts)

    return tell


def _of_gone(here: DevicePlan) -> Tell:
    """Which session it would have belonged to, how that ended, and when."""

    def tell(facts: Facts) -> tuple[Because, Because | None]:
        """The session, as the device's history has it."""
        gone = facts.gone
        assert gone is not None
        return session_gone(here, gone, facts.memory.now if facts.memory is not None else gone.at), None

    return tell


def session_gone(here: DevicePlan, gone: Ended, now: int) -> Because:
    """That a packet would have belonged to a session which is over.

    Args:
        here: the device whose it was.
        gone: the session.
        now: the instant, in milliseconds on the state's clock.

    """
    session = gone.session
    name = lives(session.inner.protocol, session.phase) if gone.why == "expired" else ""
    value = here.settings.text(name) if name else ""
    mark = here.settings.mark(name) if name else None
    return Because("session.gone", (session.number, here.name, gone.why, now - gone.at, str(name), value), mark)


def _of_nobody(here: DevicePlan, of_none: Callable[[Facts], tuple[Because, Because | None]]) -> Iterator[StageRow]:
    """What becomes of a packet of an inspected protocol that opens nothing and that no session knows.

    RFC 9293 section 3.5: a TCP conversation opens with a bare SYN, so anything else without one is nobody's. An error is no
    part of a conversation: it is judged by what it quotes.
    """
    wanted = here.settings.unknown_session
    # Where only an interface inspects, what has no session is what another interface opened: that is for the filters to judge.
    found = here.device.stateful
    protocols = found & {TCP} if wanted is UnknownSession.BY_PROTOCOL else found
    if not protocols or wanted is UnknownSession.FILTER:
        return
    nobody = (one_of("conversation", *protocols), one_of("relation", Relation.NONE), one_of("opens", False), one_of("error", False))
    cites = (DEFAULTS, "unknown-session")
    if wanted is UnknownSession.PASS:

        def let_in(facts: Facts) -> tuple[Because, Because | None]:
            """That the device lets it pass without knowing it."""
            return setting(here.settings, "unknown-session"), of_none(facts)[1]

        yield StageRow("unknown-session", nobody, actions=(Admit(),), did=Did.PERMITTED, tell=let_in, cites=cites)
        return
    for why, cause in (("expired", "session.expired"), ("", "session.ended")):
        over = one_of("gone", why) if why else one_of("gone", *(w for w in WHY_ENDED if w != "expired"))
        yield StageRow(cause, (*nobody, over), actions=(Stop(Fate.DROPPED, cause),), tell=_of_gone(here))
    stop = Stop(Fate.DROPPED, "session.none", Reply.NOTHING)
    yield StageRow("opening-packet", nobody, actions=(stop,), tell=of_none)


class JudgedAgain:
    """Where a session was let in before its application was known, the places are asked again, by its opening packet's facts.

    They are asked as they are written now, which may be otherwise than when the session began; one that is gone says nothing.
    A deny ends the session; what follows of it belongs to nothing.
    """

    def __init__(self, here: DevicePlan, known: Sequence[StageRow]) -> None:
        self._here = here
        self._when = [(one_of("waiting", True), *row.conditions) for row in known]

    def _waits(self, facts: Facts) -> bool:
        """Whether a packet's session is to be asked about again."""
        return any(all(c.holds(facts) for c in when) for when in self._when)

    def decide(self, facts: Facts) -> Decision | None:
        """The first deny of those that are asked again."""
        session = facts.session
        if session is None or not session.pending or not self._waits(facts):
            return None
        for judged in session.pending:
            if judged.arriving is not None and judged.arriving not in self._here.device.interfaces:
                continue
            step = next((s for s in self._here.steps(judged.arriving) if s.stage.value == judged.stage), None)
            again = step.decide(facts.again(judged)) if step is not None else None
            if again is not None and isinstance(again.actions[0], Stop):
                note = Because("note.recalled", (session.number, session.device, facts.number, tuple(sorted(facts.application))))
                stop = again.actions[0]._replace(cause="session.recalled")
                return Decision(again.did, again.because, (EndSession(), stop), note, again.table, again.row, again.logged)
        return None

    def alike(self, facts: Facts) -> Iterator[Term]:
        """The packets that wait, or do not; of those that do the session's opening packet decides, which is one for all of them."""
        for when in self._when:
            yield Met(when, all(c.holds(facts) for c in when))


def alike_to_memory(here: DevicePlan, facts: Facts) -> Iterator[Term]:
    """The packets of which the device remembers the same: those of one session and direction, or those of none.

    By hand, for sessions are found by a key and not by rows: a packet belongs to one by its whole flow.
    """
    yield known_as("error", facts.came.quoted is not None)
    session = facts.session
    if session is not None and facts.came.quoted is None:
        flow = session.inner if facts.direction is Direction.FORTH else session.outer.reverse()
        yield Met(of_flow(flow, facts.came))
        if facts.came.protocol == TCP:  # its phase is left, and met, by what a packet shows
            yield known_as("shows", facts.came.flags)
    elif facts.memory is not None and facts.memory.loose_ends(here.name):
        # Sessions that are over, and outer ends, are known by a key too: one flow, narrow and right.
        yield Met(of_flow(flow_of(facts.came), facts.came))
    elif facts.memory is not None:
        yield from apart_from(facts.memory.flows(here.name))
    yield known_as("relation", facts.relation)
    yield known_as("opens", facts.opens)
    yield known_as("fits", facts.fits)
    yield known_as("awaited", facts.expected is not None and not facts.expected.helper)
