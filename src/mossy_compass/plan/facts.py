"""Everything that may be asked of a packet during its stay at one device.

``Facts`` is the only thing that a condition reads and a stage writes. It is mutable and slotted, since a frozen value of
this size costs many times more to change; what leaves the device (rulings, sessions) is frozen.

Three things must not be taken for one another. *Absent*: the packet has no such thing, as GRE has no port; it is written
-1 or None, and lies in no set. *Unknown*: the stage is asked too early; that is refused when the network is read
(``plan/order.py``), so no condition meets it here. *Any*: there is no condition.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from mossy_compass.packet.address import Address
from mossy_compass.packet.flow import Flow
from mossy_compass.packet.packet import Packet


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
        opened_by: table and row that let it through; two empty texts where none was asked.

    """

    number: int
    device: str
    inner: Flow
    outer: Flow
    arriving: str | None
    leaving: str | None
    opened_by: tuple[str, str] = ("", "")

    @property
    def translated(self) -> bool:
        """True when an address or a port was rewritten."""
        return self.inner != self.outer


class Memory(Protocol):
    """What a stage may ask of a device's own state; ``state/`` has the only implementation."""

    def recall(self, device: str, packet: Packet) -> tuple[Session | None, Relation, Direction]:
        """The session that a packet belongs to as it came, and what it is to it."""
        ...

    def taken(self, device: str, outer: Flow) -> bool:
        """True when some session's packets already leave the device as this flow."""
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

    """

    __slots__ = (
        "admitted",
        "arriving",
        "came",
        "direction",
        "leaving",
        "memory",
        "next_hop",
        "opened_by",
        "packet",
        "relation",
        "session",
    )

    def __init__(self, packet: Packet, arriving: str | None, memory: Memory | None = None, leaving: str | None = None) -> None:
        self.packet = self.came = packet
        self.arriving = arriving
        self.session: Session | None = None
        self.relation = Relation.NONE
        self.direction = Direction.FORTH
        self.admitted = False
        self.opened_by = ("", "")
        self.leaving = leaving
        self.next_hop: Address | None = None
        self.memory = memory
