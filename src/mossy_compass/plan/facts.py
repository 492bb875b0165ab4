"""Everything that may be asked of a packet during its stay at one device.

``Facts`` is the only thing that a condition reads and a stage writes. It is mutable and slotted, since a frozen value of
this size costs many times more to change; what leaves the device (rulings, sessions) is frozen.

Three things must not be taken for one another. *Absent*: the packet has no such thing, as GRE has no port; it is written
-1 or None, and lies in no set. *Unknown*: the stage is asked too early; that is refused when the network is read
(``plan/order.py``), so no condition meets it here. *Any*: there is no condition.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple, Protocol

from mossy_compass.packet.address import Address
from mossy_compass.packet.flow import FiveTuple
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.ids import NO_TABLE, TableId


class Relation(StrEnum):
    """What a packet is to the sessions of the device where it is (RFC 6146 section 3.5, RFC 5508 section 4)."""

    OPENING = "opening"
    CONTINUING = "continuing"
    ANSWERING = "answering"
    RELATED = "related"
    NONE = "none"


class Direction(StrEnum):
    """Which way along a session: as its opening packet went, or as the answers come."""

    FORTH = "forth"
    BACK = "back"


class Moment(NamedTuple):
    """What holds for a whole test, whichever device the packet is at.

    Attributes:
        now: the instant, in seconds since 1970, UTC; None where no time was given, and then no window of time is open.
        open: names of the windows of time that are open.
        application: what rules may call the flow's application; None where it has none.
        known_from: number of the packet from which on devices know the application.
        last_resort: the uplink of last resort is in use.

    """

    now: int | None = None
    open: frozenset[str] = frozenset()
    application: frozenset[str] | None = None
    known_from: int = 1
    last_resort: bool = False


SOME_TIME = Moment()
NOTHING: frozenset[str] = frozenset()
NOBODY: tuple[TableId, str] = (NO_TABLE, "")
"""Table and row of what no row let in."""


class Judged(NamedTuple):
    """A packet that a place let pass while it did not know the flow's application, with the facts that it was judged by.

    Where it was judged is named, not held: what stands there may be another list by the time that it is asked again.

    Attributes:
        stage: name of the stage that asked, at the device of the session.
        packet, arriving, leaving, relation, front, opened_by: the facts.

    """

    stage: str
    packet: Packet
    arriving: str | None
    leaving: str | None
    relation: Relation
    front: str = ""
    opened_by: tuple[TableId, str] = NOBODY


@dataclass(frozen=True, slots=True)
class Session:
    """What a device remembers of a conversation. It keeps the facts of its opening packet.

    Attributes:
        number: counted from 1 for each device, never given twice.
        device: who remembers.
        inner: the opening packet's flow as it came.
        outer: the same as it left, after translation.
        arriving: interface that the opening packet came by; None when the device made it.
        leaving: interface that it left by; None when it was for the device itself.
        opened_by: table and row that let it through; ``NOBODY`` where none was asked.
        pending: the places that let it pass before its application was known: they are asked again when it is.

    """

    number: int
    device: str
    inner: FiveTuple
    outer: FiveTuple
    arriving: str | None
    leaving: str | None
    opened_by: tuple[TableId, str] = NOBODY
    pending: tuple[Judged, ...] = ()

    @property
    def translated(self) -> bool:
        """True when an address or a port was rewritten."""
        return self.inner != self.outer


class Memory(Protocol):
    """What a stage may ask of a device's own state; ``state/`` has the only implementation."""

    def recall(self, device: str, packet: Packet) -> tuple[Session | None, Relation, Direction]:
        """The session that a packet belongs to as it came, and what it is to it."""
        ...

    def taken(self, device: str, outer: FiveTuple) -> bool:
        """True when some session's packets already leave the device as this flow."""
        ...

    def flows(self, device: str) -> Iterable[FiveTuple]:
        """Every flow that belongs to some session of a device, as its packets come: both directions."""
        ...

    def names_of(self, device: str, address: Address) -> frozenset[str]:
        """The names that a device has learned to have an address, from lookups that passed through it."""
        ...


class Facts:
    """One packet's stay at one device.

    Attributes:
        packet: as it is now.
        came: as it came, or was made.
        arriving: interface; None for a packet that the device made.
        session, relation, direction: what the stage ``recall`` found.
        admitted: inspection lets it pass over the filters.
        opened_by: table and row of the list that let it pass; it becomes part of the session.
        leaving, next_hop: the way out; ``next_hop`` is None when the destination itself is on the segment.
        memory: the device's state, to be asked and not written.
        moment, number: what holds for the whole test, and which packet of its flow this is: 1 opens it, 2 answers.
        device: name of the device.
        front: id of the destination rule that translated this packet here; empty for none.
        pending: the places that let it pass while its application was not known.

    """

    __slots__ = (
        "admitted",
        "arriving",
        "came",
        "device",
        "direction",
        "front",
        "leaving",
        "memory",
        "moment",
        "next_hop",
        "number",
        "opened_by",
        "packet",
        "pending",
        "relation",
        "session",
    )

    def __init__(
        self,
        packet: Packet,
        arriving: str | None,
        memory: Memory | None = None,
        leaving: str | None = None,
        moment: Moment = SOME_TIME,
        number: int = 1,
        device: str = "",
    ) -> None:
        self.packet = self.came = packet
        self.arriving = arriving
        self.session: Session | None = None
        self.relation = Relation.NONE
        self.direction = Direction.FORTH
        self.admitted = False
        self.opened_by = NOBODY
        self.leaving = leaving
        self.next_hop: Address | None = None
        self.memory = memory
        self.moment = moment
        self.number = number
        self.device = device
        self.front = ""
        self.pending: tuple[Judged, ...] = ()

    @property
    def opens(self) -> bool:
        """Whether the packet may open a session: a bare SYN, a datagram, a request, and no answer."""
        # What answers opens nothing, though a UDP packet looks alike either way (RFC 4787 section 4.3 goes by direction).
        return self.packet.opening and self.relation not in (Relation.ANSWERING, Relation.RELATED)

    @property
    def application(self) -> frozenset[str]:
        """What the flow's application may be called, as far as it is known; nothing while it is not."""
        moment = self.moment
        return moment.application if moment.application is not None and self.number >= moment.known_from else NOTHING

    @property
    def names(self) -> frozenset[str]:
        """The names that this device has learned to have the destination's address."""
        return self.memory.names_of(self.device, self.packet.destination) if self.memory is not None else NOTHING

    def again(self, judged: Judged) -> Facts:
        """The facts that a place judged by, with what is known of the application by now."""
        facts = Facts(judged.packet, judged.arriving, self.memory, judged.leaving, self.moment, self.number, self.device)
        facts.relation, facts.front, facts.opened_by = judged.relation, judged.front, judged.opened_by
        return facts


class Known(NamedTuple):
    """What a ruling keeps of the facts beside packet and interfaces, so that its table can be asked again.

    Attributes:
        moment, number: as in ``Facts``.
        names: what the device had learned the destination to be called.
        learned: every name that it had learned any address of.

    """

    moment: Moment = SOME_TIME
    number: int = 1
    names: frozenset[str] = NOTHING
    learned: frozenset[str] = NOTHING


class Recollection:
    """The memory of a device as a ruling kept it: what the destination was called, and nothing else."""

    __slots__ = ("names",)

    def __init__(self, names: frozenset[str]) -> None:
        self.names = names

    def recall(self, device: str, packet: Packet) -> tuple[Session | None, Relation, Direction]:
        """Nothing: the relation is kept in the ruling."""
        return None, Relation.NONE, Direction.FORTH

    def taken(self, device: str, outer: FiveTuple) -> bool:
        """Nothing is taken."""
        return False

    def flows(self, device: str) -> Iterable[FiveTuple]:
        """None."""
        return ()

    def names_of(self, device: str, address: Address) -> frozenset[str]:
        """What the destination was called."""
        return self.names


class Asked(Protocol):
    """What must be known of a ruling to ask its table again: ids and values, no tables."""

    @property
    def table(self) -> TableId: ...
    @property
    def saw(self) -> Packet: ...
    @property
    def arriving(self) -> str | None: ...
    @property
    def leaving(self) -> str | None: ...
    @property
    def relation(self) -> Relation: ...
    @property
    def known(self) -> Known: ...


def facts_of(ruling: Asked) -> Facts:
    """The facts that a ruling was made on."""
    known = ruling.known
    facts = Facts(ruling.saw, ruling.arriving, Recollection(known.names), ruling.leaving, known.moment, known.number)
    facts.relation = ruling.relation
    return facts
