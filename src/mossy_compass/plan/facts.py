"""Everything that may be asked of a packet during its stay at one device.

``Facts`` is the only thing that a condition reads and a stage writes. It is mutable and slotted, since a frozen value of
this size costs many times more to change; what leaves the device (rulings, sessions) is frozen.

Three things must not be taken for one another. *Absent*: the packet has no such thing, as GRE has no port; it is written
-1 or None, and lies in no set. *Unknown*: the stage is asked too early; that is refused when the network is read
(``plan/order.py``), so no condition meets it here. *Any*: there is no condition.
"""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from typing import Any, NamedTuple, Protocol

from mossy_compass.packet.address import Address, Spans, in_spans
from mossy_compass.packet.flow import FiveTuple, flow_from, reversed_key
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.ids import NO_TABLE, TableId


class Relation(StrEnum):
    """What a packet is to the sessions of the device where it is (RFC 6146 section 3.5, RFC 5508 section 4)."""

    OPENING = "opening"
    CONTINUING = "continuing"
    ANSWERING = "answering"
    RELATED = "related"
    EXPECTED = "expected"
    NONE = "none"


class Direction(StrEnum):
    """Which way along a session: as its opening packet went, or as the answers come."""

    FORTH = "forth"
    BACK = "back"


class Phase(StrEnum):
    """How far a session is: of TCP as its packets tell (RFC 6146 section 3.5.2.2), of datagrams whether any came back."""

    OPENING = "opening"
    ANSWERED = "answered"
    CROSSED = "crossed"
    OPEN = "open"
    HALF_FORTH = "half-closed by who opened it"
    HALF_BACK = "half-closed by who answered"
    CLOSING = "closing"
    RESET = "reset"
    ASKED = "asked"
    REPLIED = "replied"
    NONE = "none"


class Moment(NamedTuple):
    """What holds for a whole test, whichever device the packet is at.

    Attributes:
        now: the instant, in seconds since 1970, UTC; None where no time was given, and then no window of time is open.
        open: names of the windows of time that are open.
        application: what rules may call the flow's application; None where it has none.
        known_from: number of the packet from which on devices know the application.
        last_resort: the groups whose uplink of last resort is in use, as ``DEVICE/GROUP``; ``*`` where that was said of a whole test.

    """

    now: int | None = None
    open: frozenset[str] = frozenset()
    application: frozenset[str] | None = None
    known_from: int = 1
    last_resort: frozenset[str] = frozenset()


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


class Session(NamedTuple):
    """What a device remembers of a conversation, as it was when somebody asked.

    Attributes:
        number: counted from 1 for each device, never given twice.
        device: who remembers.
        forth: the opening packet's flow as it came, as one number.
        back: the flow of its answers as they come.
        arriving: interface that the opening packet came by; None when the device made it.
        leaving: interface that it left by; None when it was for the device itself.
        opened_by: table and row that let it through; ``NOBODY`` where none was asked.
        pending: the places that let it pass before its application was known: they are asked again when it is.
        phase: how far it is.
        began, ends: instants on the state's clock, in milliseconds; ``ends`` is None for what never ends by itself.
        mapping: number of the mapping that its source half has; 0 for none.
        packets, size: that passed, in packets and bytes, both ways.
        doubts: what has changed since it was judged, of ``rules``, ``routes``, ``translation``.
        handed: the neighbour that handed its opening packet over, and by which interface; None where nobody keeps that.

    """

    number: int
    device: str
    forth: int
    back: int
    arriving: str | None
    leaving: str | None
    opened_by: tuple[TableId, str] = NOBODY
    pending: tuple[Judged, ...] = ()
    phase: Phase = Phase.NONE
    began: int = 0
    ends: int | None = None
    mapping: int = 0
    packets: int = 0
    size: int = 0
    doubts: frozenset[str] = frozenset()
    handed: tuple[str, str] | None = None

    @property
    def inner(self) -> FiveTuple:
        """The opening packet's flow as it came."""
        return flow_from(self.forth)

    @property
    def outer(self) -> FiveTuple:
        """The same as it left, after translation."""
        return flow_from(reversed_key(self.back))

    @property
    def translated(self) -> bool:
        """True when an address or a port was rewritten."""
        return reversed_key(self.back) != self.forth


class Ended(NamedTuple):
    """A session that is over.

    Attributes:
        session: as it was at its end.
        at: when it ended, in milliseconds on the state's clock.
        why: in a word, as ``WHY_ENDED`` lists them.

    """

    session: Session
    at: int
    why: str


class Mapped(NamedTuple):
    """An outer end that an inner end has (RFC 4787 section 4), as it was when somebody asked.

    Attributes:
        number: counted from 1 for each device.
        protocol: number.
        inner, inner_port: the inner end.
        outer, outer_port: what it has become.
        far, far_port: the far end that it is for alone; None and 0 where any.
        row: id of the translation rule.
        began, ends: instants, in milliseconds; ``ends`` is None for what never ends by itself.
        sessions: how many it has.

    """

    number: int
    protocol: int
    inner: Address
    inner_port: int
    outer: Address
    outer_port: int
    far: Address | None
    far_port: int
    row: str
    began: int
    ends: int | None
    sessions: int


class Allocated(NamedTuple):
    """An outer end that was chosen for a source; nothing is written yet.

    Attributes:
        port: the outer port, or identifier.
        address: the outer address.
        key: by which the mapping is shared: the inner end, the outer address, and as much of the far end as counts.
        known: it is a mapping already.
        far, far_port: the far end that the mapping is for alone; None and 0 where any.
        row: id of the translation rule.

    """

    port: int
    address: Address
    key: int
    known: bool
    far: Address | None = None
    far_port: int = 0
    row: str = ""


class Expected(NamedTuple):
    """A second channel that a helper read of, and that may be opened once.

    Attributes:
        number: counted from 1 for each device.
        helper: name of the service; empty where the device announced it itself.
        session: number of the session in which it was announced.
        protocol: of the channel.
        opener: whose it is to open, by the address that its packets have as they come; None for anybody.
        address, port: where it is to be opened to, as packets come.
        inner, inner_port: who waits for it; the same where nothing is translated.
        mapping: number of the mapping that it holds meanwhile; 0 for none.
        began, ends: instants, in milliseconds.

    """

    number: int
    helper: str
    session: int
    protocol: int
    opener: Address | None
    address: Address
    port: int
    inner: Address
    inner_port: int
    mapping: int
    began: int
    ends: int

    @property
    def translated(self) -> bool:
        """Whether the other end is told another address or port than the one that waits."""
        return (self.address, self.port) != (self.inner, self.inner_port)


class HeldBack(NamedTuple):
    """A packet that is held, since its conversation may still be opened from the other side.

    Attributes:
        device: who holds it.
        packet: as it came.
        arriving: by which interface.
        ends: when its sender is told that the port is unreachable, in milliseconds.

    """

    device: str
    packet: Packet
    arriving: str | None
    ends: int


class Association(NamedTuple):
    """What the two ends of a tunnel agreed on whose keys are exchanged (RFC 7296), as one of them has it.

    It is a pair of RFC 4301's security associations, one for each direction.

    Attributes:
        number: the same at both ends, counted from 1 for the whole network.
        device, tunnel: this end.
        peer, peer_tunnel: the other one.
        mine, far: what may be at this end and at the other of packets inside, as was agreed (RFC 7296 section 2.9).
        to: whom the outer packets go to: the other end as this one sees it.
        to_port: the UDP port that they go to, where addresses are translated on the way (RFC 3948); 0 for ESP alone.
        behind: this end's packets are translated on their way.
        asked: this end asked for it.
        began, ends: instants in milliseconds; None for no end.
        lists: the lists that stood at this end's interface then, as ``plan/asopened.py`` asks them; None for no list.

    """

    number: int
    device: str
    tunnel: str
    peer: str
    peer_tunnel: str
    mine: Spans
    far: Spans
    to: Address
    to_port: int
    behind: bool
    asked: bool
    began: int
    ends: int | None
    lists: Any = None

    def holds(self, mine: Address, far: Address) -> bool:
        """Whether packets between two addresses go by it, the first at this end."""
        return in_spans(mine.key, self.mine) and in_spans(far.key, self.far)


class Recalled(NamedTuple):
    """What a device's memory says of a packet as it came.

    Attributes:
        session: that it belongs to.
        relation: what it is to it.
        direction: which way along it.
        fits: its flags are such as the session's phase expects.
        gone: the session that it would have belonged to, had that not ended.
        mapping: whose outer end it is sent to, where it belongs to no session.
        expected: what it opens, where that was announced.

    """

    session: Session | None
    relation: Relation
    direction: Direction
    fits: bool = True
    gone: Ended | None = None
    mapping: Mapped | None = None
    expected: Expected | None = None


WHY_ENDED = {
    "expired": "nothing refreshed it for as long as it lives",
    "closed": "both ends closed it",
    "reset": "one end reset it",
    "cleared": "somebody cleared it",
    "recalled": "a rule that was asked again ended it",
    "replaced": "another conversation began with the same ends",
    "interface lost": "its interface is gone",
    "address lost": "one of its addresses is gone",
    "moved": "it began anew by another uplink",
}
"""Why sessions end, in a word and in a sentence."""


class Memory(Protocol):
    """What a stage may ask of a device's own state; ``state/`` has the only implementation."""

    @property
    def now(self) -> int:
        """The instant, in milliseconds on the state's clock."""
        ...

    def loose_ends(self, device: str) -> bool:
        """Whether it remembers sessions that are over, or outer ends: what belongs to no session may still be known then."""
        ...

    def recall(self, device: str, packet: Packet) -> Recalled:
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

    def path_mtu(self, device: str, tunnel: str) -> int | None:
        """The longest packet that goes into a tunnel, in bytes, as an error about an outer one has told; None where none has."""
        ...

    def called(self, device: str) -> dict[Address, frozenset[str]]:
        """Every address of which a device has learned names, with those."""
        ...


class Facts:
    """One packet's stay at one device.

    Attributes:
        packet: as it is now.
        came: as it came, or was made.
        arriving: interface; None for a packet that the device made.
        handed: the neighbour that handed it over, with the interface by which it did; None where nobody did, or it is not known.
        session, relation, direction, fits, gone, mapping, expected: what the stage ``recall`` found, as in ``Recalled``.
        heard: the second channel that a helper read of in this packet; it is expected once somebody takes the packet.
        welcome: the device lets the packet's sender use the outer end that it is sent to.
        allocated: the outer end that its source was given, which becomes a mapping once somebody takes the packet.
        admitted: inspection lets it pass over the filters.
        opened_by: table and row of the list that let it pass; it becomes part of the session.
        leaving, next_hop: the way out; ``next_hop`` is None when the destination itself is on the segment.
        memory: the device's state, to be asked and not written.
        moment, number: what holds for the whole test, and which packet of its flow this is: 1 opens it, 2 answers.
        device: name of the device.
        carries: names of the device's own tunnels that it is the outer packet of.
        front: id of the destination rule that translated this packet here; empty for none.
        picked: name and id of the rule of a list that let it pass, and says by which uplink it leaves; empty for none.
        switched: name and id of the rule of a list that let it pass, and asks that its source be translated; empty for none.
        pending: the places that let it pass while its application was not known.
        divides: it may be divided where it does not fit.
        moving: the session that begins anew with it, by another uplink; None mostly.

    """

    __slots__ = (
        "admitted",
        "allocated",
        "arriving",
        "came",
        "carries",
        "device",
        "direction",
        "divides",
        "expected",
        "fits",
        "front",
        "gone",
        "handed",
        "heard",
        "leaving",
        "mapping",
        "memory",
        "moment",
        "moving",
        "next_hop",
        "number",
        "opened_by",
        "packet",
        "pending",
        "picked",
        "relation",
        "session",
        "switched",
        "welcome",
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
        self.handed: tuple[str, str] | None = None
        self.carries: frozenset[str] = NOTHING
        self.session: Session | None = None
        self.relation = Relation.NONE
        self.direction = Direction.FORTH
        self.fits = True
        self.gone: Ended | None = None
        self.mapping: Mapped | None = None
        self.expected: Expected | None = None
        self.heard: Expected | None = None
        self.welcome = False
        self.allocated: Allocated | None = None
        self.admitted = False
        self.opened_by = NOBODY
        self.leaving = leaving
        self.next_hop: Address | None = None
        self.memory = memory
        self.moment = moment
        self.number = number
        self.device = device
        self.front = ""
        self.switched = ""
        self.picked = ""
        self.pending: tuple[Judged, ...] = ()
        self.moving: Session | None = None
        self.divides = False

    def recalled(self, found: Recalled) -> None:
        """Take what a device's memory says of the packet."""
        self.session, self.relation, self.direction, self.fits, self.gone, self.mapping, self.expected = found

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
        expected: the channel that it opens, where that was announced.

    """

    moment: Moment = SOME_TIME
    number: int = 1
    names: frozenset[str] = NOTHING
    learned: frozenset[str] = NOTHING
    expected: Expected | None = None


class Recollection:
    """The memory of a device as a ruling kept it: what the destination was called, and nothing else."""

    __slots__ = ("names",)

    def __init__(self, names: frozenset[str]) -> None:
        self.names = names

    now = 0

    def path_mtu(self, device: str, tunnel: str) -> int | None:
        """None."""
        return None

    def loose_ends(self, device: str) -> bool:
        """None."""
        return False

    def recall(self, device: str, packet: Packet) -> Recalled:
        """Nothing: the relation is kept in the ruling."""
        return Recalled(None, Relation.NONE, Direction.FORTH)

    def taken(self, device: str, outer: FiveTuple) -> bool:
        """Nothing is taken."""
        return False

    def flows(self, device: str) -> Iterable[FiveTuple]:
        """None."""
        return ()

    def names_of(self, device: str, address: Address) -> frozenset[str]:
        """What the destination was called."""
        return self.names

    def called(self, device: str) -> dict[Address, frozenset[str]]:
        """Nothing is known of others."""
        return {}


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
