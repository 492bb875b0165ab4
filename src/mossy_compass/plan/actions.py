"""What a row can make a device do: a handful of frozen values. An executor knows each of them, and no stage by name.

A new capability is most often rows that give these actions in another place. A new action is a class here, a function in
each executor, and a line in docs/architecture.md.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from enum import StrEnum
from typing import Any, NamedTuple, Protocol

from mossy_compass.marks import Mark
from mossy_compass.model.network import Candidate, NoneAvailable, Verdict
from mossy_compass.packet.address import Address, Spans
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.ids import NO_TABLE, TableId
from mossy_compass.plan.reasons import Because, Did, Fate
from mossy_compass.routing.table import NextHop, Route


class Half(StrEnum):
    """Which end of a packet a rewrite is about."""

    SOURCE = "source"
    DESTINATION = "destination"


class Reply(StrEnum):
    """What is sent home about a packet (``plan/replies.py`` makes it)."""

    NOTHING = ""
    ANSWER = "answer"
    REFUSAL = "refusal"
    RESET = "reset"
    REJECTION = "rejection"
    NET_UNREACHABLE = "net-unreachable"
    HOST_UNREACHABLE = "host-unreachable"
    PROHIBITED = "prohibited"
    TIME_EXCEEDED = "time-exceeded"
    TOO_BIG = "too-big"
    BEYOND_SCOPE = "beyond-scope"


class Plain:
    """Base of the actions that have no values: two of one kind are equal."""

    __slots__ = ()

    def __eq__(self, other: object) -> bool:
        return type(self) is type(other)

    def __hash__(self) -> int:
        return hash(type(self).__name__)

    def __repr__(self) -> str:
        return f"{type(self).__name__}()"


class Pass(NamedTuple):
    """Done with this stage: on to the next.

    Attributes:
        lets_in: the row permits the packet, so a session that it opens is opened under this row. A row that only has nothing
            against it (a translation that did not match, a way that is not to be had) lets nobody in.
        again: where the flow's application is not known yet, for now: this stage is asked again once it is.
        translates: the row has a switch: where sources are translated, the packet's is.
        picks: the row says by which uplink the packet leaves.

    """

    lets_in: bool = False
    again: bool = False
    translates: bool = False
    picks: bool = False


class Leave(Plain):
    """Out of this list undecided: on to the next list or row of the stage (a classifier's deny)."""

    __slots__ = ()


class Note(Plain):
    """Take note, and on to the next row."""

    __slots__ = ()


class Stop(NamedTuple):
    """The leg ends here.

    Attributes:
        fate, cause: how, and the code from the table of causes.
        reply: what goes home; whether it may be said at all is for ``plan/replies.py``.
        ttl_ended: the packet's TTL ran out here, which ends a circle too.
        answer: for a rejection, what is sent, one of ``REJECT_ANSWERS``; empty for what the device's setting says.

    """

    fate: Fate
    cause: str
    reply: Reply = Reply.NOTHING
    ttl_ended: bool = False
    answer: str = ""


class Recall(Plain):
    """Ask the device's sessions for the packet as it came."""

    __slots__ = ()


class Admit(NamedTuple):
    """Pass over the filters that follow, because of what the device remembers.

    Attributes:
        opens: the packet opens something, so the session is opened under this row.

    """

    opens: bool = False


class Listed(Protocol):
    """A list as far as an action must know it: rows with verdicts, of which the first that a packet meets decides."""

    first: Callable[[Facts], Any]
    id: TableId
    name: str
    mark: Mark
    about: str
    rows: tuple[Any, ...]
    asks_application: bool
    notes: tuple[Any, ...]

    def passed_over(self, facts: Facts) -> list[tuple[Any, Any]]: ...
    def above_asking(self, facts: Facts, key: str) -> Iterator[Any]: ...
    def noted(self, facts: Facts) -> list[Any]: ...
    def number(self, row: Any, /) -> int: ...


class Consult(NamedTuple):
    """Ask a list, and do what its verdict comes to here. Where no rule of it decides, the next action follows.

    Attributes:
        table: the rows of the list, as the device reads them.
        on: the actions that each verdict comes to at this place; ``Leave`` goes on as if no rule had decided.
        named: a ruling names the rule of the list; otherwise the row that asks the list, as for a classifier.

    """

    table: Listed
    on: Mapping[Verdict, tuple[Action, ...]]
    named: bool = True


class Steer(NamedTuple):
    """Leave by the first of some ways that is to be had; by none of them where none is, and the route table decides.

    Attributes:
        candidates: in the order in which they are tried.
        otherwise: what follows where none is to be had.

    """

    candidates: tuple[Candidate, ...]
    otherwise: NoneAvailable = NoneAvailable.TABLE


class Rewrite(NamedTuple):
    """Another source or destination, which is known.

    Attributes:
        half: which end.
        address: the new one, by a rule; None: as the session has it.
        port: the new port; None keeps it.
        shift: by a rule with fixed partners, how far the new address lies from the old one.
        port_shift: of a range of ports, how far the new port lies from the old one.
        servers: by a rule, several addresses that share the packets by source address.
        own: by a rule, the device's own address on the arriving interface.

    """

    half: Half
    address: Address | None = None
    port: int | None = None
    shift: int = 0
    port_shift: int = 0
    servers: tuple[Address, ...] = ()
    own: bool = False

    @property
    def by_rule(self) -> bool:
        """Whether a rule says what it becomes, and not the packet's session."""
        return self.address is not None or bool(self.shift or self.servers or self.own)


class Allocate(NamedTuple):
    """Another source, whose port is chosen so that no two flows share one outer tuple (RFC 4787 section 4).

    Attributes:
        keeps: the source's own address is kept, and only the port is chosen; else it becomes the leaving interface's.
        pool: the addresses of which it becomes one, always the same for a source (RFC 4787 REQ-2); empty for none.

    """

    keeps: bool = False
    pool: Spans = ()


class OpenSession(NamedTuple):
    """What the packet opens is remembered, if it opens something that is not known yet, so that what follows is known.

    Attributes:
        leaves: it goes out by the leaving interface; otherwise it is for the device itself.

    """

    leaves: bool = True


class Touch(Plain):
    """The packet passes, so the session that it belongs to is as far as it shows, and lives on."""

    __slots__ = ()


class Expect(NamedTuple):
    """A second channel is expected, since a helper read of it; what the packet tells of it is translated with its sender.

    Attributes:
        helper: name of the service.

    """

    helper: str


class Hold(NamedTuple):
    """The packet is held for a while: its sender hears nothing before that is over, and then that the port is unreachable.

    Attributes:
        milliseconds: so long.

    """

    milliseconds: int


class EndSession(Plain):
    """The packet's session ends: what follows of it belongs to nothing."""

    __slots__ = ()


class BeginAnew(Plain):
    """The packet's session begins anew with it, as it leaves now: what was translated is translated again, by the rules of now."""

    __slots__ = ()


class Countdown(Plain):
    """One less of the TTL."""

    __slots__ = ()


class Enter(NamedTuple):
    """Leave by a tunnel, whatever way was chosen before; a tunnel's own outer packets pass by.

    Attributes:
        tunnel: its name.

    """

    tunnel: str


class Forward(NamedTuple):
    """Leave by one of several equal ways; the device's ``sharing`` says which.

    Attributes:
        route: the row that the ways belong to.
        hops: the ways.

    """

    route: Route
    hops: tuple[NextHop, ...]


class Deliver(NamedTuple):
    """The packet is for this device, which takes it.

    Attributes:
        cause: code from the table of causes.
        reply: what the device answers.

    """

    cause: str
    reply: Reply = Reply.NOTHING


class Divide(NamedTuple):
    """The packet goes on in pieces, of which this is the first.

    Attributes:
        mtu: the longest piece, in bytes.

    """

    mtu: int


class Handover(NamedTuple):
    """The neighbour gets it.

    Attributes:
        device, interface: who gets it.
        segment: name of the broadcast domain.
        switches: who bridges within it.
        latency_ms: time on the cables, in milliseconds.
        tunnel: it is handed over within another packet; who gets it is where that one ends.

    """

    device: str
    interface: str
    segment: str
    switches: tuple[str, ...]
    latency_ms: float
    tunnel: bool = False


Action = (
    Pass
    | Leave
    | Note
    | Stop
    | Recall
    | Admit
    | Consult
    | Steer
    | Rewrite
    | Allocate
    | OpenSession
    | Touch
    | Expect
    | Hold
    | EndSession
    | BeginAnew
    | Divide
    | Countdown
    | Enter
    | Forward
    | Deliver
    | Handover
)


class Undecided(NamedTuple):
    """A row of a list that a packet met and that did not end the stage: a note, one that hands on, one of a list that classifies.

    Attributes:
        table, row: which.
        verdict: of the row.
        because: the row as a reason.
        logged: severity of the log line that is written of it; empty for none.

    """

    table: TableId
    row: str
    verdict: Verdict
    because: Because
    logged: str = ""


class Decision(NamedTuple):
    """What a stage decided.

    Attributes:
        did: in a word; None leaves no ruling, for what nobody needs to be told.
        because: what it rests on.
        actions: what follows.
        note: a remark.
        table: id of the table that was asked; the plan finds it again by that.
        row: id of the row that decided.
        logged: severity of the log line that is written of it; empty for none.
        met: the rows of lists that were met before, in their order, and left it undecided.

    """

    did: Did | None
    because: Because
    actions: tuple[Action, ...]
    note: Because | None = None
    table: TableId = NO_TABLE
    row: str = ""
    logged: str = ""
    met: tuple[Undecided, ...] = ()


Decide = Callable[[Facts], Decision | None]
"""A compiled stage: what it decides of a packet; None where it has nothing to say."""

PASS = (Pass(),)
LET_IN = (Pass(lets_in=True),)
