"""What lies in a device's tables: one mutable slotted entry for each session and mapping, identity and life together.

A million of them must fit into memory, so flows are numbers (``packet/flow.py``), and what others see of an entry is made when they
ask.
"""

from __future__ import annotations

from typing import NamedTuple

from mossy_compass.packet.address import Address
from mossy_compass.packet.flow import FiveTuple, flow_from, reversed_key
from mossy_compass.plan.facts import Direction, Judged, Mapped, Phase, Session
from mossy_compass.plan.ids import TableId
from mossy_compass.plan.keeping import LAST_PORT, Keeping


class Mapping:
    """An outer end that an inner end has, as long as some session has it.

    Attributes:
        number: counted from 1 for each device.
        key: by which it is shared.
        forth, back: the flows of the session that it was made for: the source of one is its inner end, the destination of the
            other its outer one. They are that session's own numbers, for a copy of each would take as much as all the rest.
        row: id of the translation rule.
        far: whether it is for the far end's address (1), for its port too (2), or for any (0).
        began, ends: instants; ``ends`` is as far as refreshing packets have set it, None for never.
        sessions: how many have it.

    """

    __slots__ = ("back", "began", "ends", "far", "forth", "key", "number", "row", "sessions")

    def __init__(self, number: int, key: int, forth: int, back: int, row: str, far: int, began: int) -> None:
        self.number, self.key, self.forth, self.back, self.row, self.far = number, key, forth, back, row, far
        self.began = began
        self.ends: int | None = began
        self.sessions = 0

    @property
    def left(self) -> FiveTuple:
        """The flow of the packet that it was made for, as it left."""
        return flow_from(reversed_key(self.back))

    def seen(self) -> Mapped:
        """What others see of it."""
        inner, outer = flow_from(self.forth), self.left
        far, port = outer.destination if self.far else None, outer.to_port if self.far > 1 else 0
        ends = inner.source, inner.from_port, outer.source, outer.from_port
        return Mapped(self.number, inner.protocol, *ends, far, port, self.row, self.began, self.ends, self.sessions)


NO_DOUBTS: frozenset[str] = frozenset()
Life = tuple[Phase, int | None, int, int, int]


class Entry:
    """A session.

    Attributes:
        number: counted from 1 for each device.
        forth, back: both flows as their packets come.
        arriving, leaving, opened_by, pending: as in ``Session``.
        phase: how far it is.
        began, ends: instants; ``ends`` is None for never.
        due: its earliest place on the clock; -1 where it has none. A later end needs no new place.
        packets, size: that passed.
        mapping: that its source half has.
        outward: the direction whose packets refresh its mapping (RFC 4787 REQ-6).
        over: it lies in no table any more.
        doubts: what has changed since it was judged, of ``rules``, ``routes``, ``translation``.
        handed: who handed its opening packet over, as in ``Session``.

    """

    __slots__ = (
        "arriving",
        "back",
        "began",
        "doubts",
        "due",
        "ends",
        "forth",
        "handed",
        "leaving",
        "mapping",
        "number",
        "opened_by",
        "outward",
        "over",
        "packets",
        "pending",
        "phase",
        "size",
    )

    def __init__(
        self,
        number: int,
        forth: int,
        back: int,
        ports: tuple[str | None, str | None],
        opened_by: tuple[TableId, str],
        pending: tuple[Judged, ...],
        phase: Phase,
        began: int,
    ) -> None:
        self.number, self.forth, self.back = number, forth, back
        self.arriving, self.leaving = ports
        self.opened_by, self.pending = opened_by, pending
        self.phase, self.began = phase, began
        self.ends: int | None = began
        self.due = -1
        self.packets = self.size = 0
        self.mapping: Mapping | None = None
        self.outward = Direction.FORTH
        self.over = False
        self.doubts: frozenset[str] = NO_DOUBTS
        self.handed: tuple[str, str] | None = None

    def seen(self, device: str) -> Session:
        """What others see of it."""
        mapping = self.mapping
        # Every look-up makes one; the class's own way to make it takes three times as long.
        return tuple.__new__(
            Session,
            (
                self.number,
                device,
                self.forth,
                self.back,
                self.arriving,
                self.leaving,
                self.opened_by,
                self.pending,
                self.phase,
                self.began,
                self.ends,
                0 if mapping is None else mapping.number,
                self.packets,
                self.size,
                self.doubts,
                self.handed,
            ),
        )

    @property
    def life(self) -> Life:
        """What its packets change."""
        return self.phase, self.ends, self.due, self.packets, self.size

    def relive(self, life: Life) -> None:
        """Be as far as it was."""
        self.phase, self.ends, self.due, self.packets, self.size = life


class Pool(NamedTuple):
    """The ports of one outer address: they are counted for each protocol apart (RFC 4787 section 4.2.1).

    Attributes:
        protocol: number; ports of TCP and UDP are apart.
        address: the outer one.

    """

    protocol: int
    address: Address


_HALF = (LAST_PORT + 1) // 2


class Ports:
    """Which ports of a pool are in use: a byte for each, even and odd ones apart, so that parity and range are one search."""

    __slots__ = ("used",)

    def __init__(self) -> None:
        self.used = (bytearray(_HALF), bytearray(_HALF))

    @property
    def any(self) -> bool:
        """Whether somebody has some port."""
        return any(any(half) for half in self.used)

    def free(self, port: int) -> bool:
        """Whether nobody has a port."""
        return not self.used[port & 1][port >> 1]

    def take(self, port: int) -> None:
        """Somebody has it."""
        self.used[port & 1][port >> 1] = 1

    def give(self, port: int) -> None:
        """Nobody has it any more."""
        self.used[port & 1][port >> 1] = 0

    def next_free(self, parity: int, first: int, last: int) -> int | None:
        """The lowest free port of a parity in a range; None where none is.

        Args:
            parity: 0 for even, 1 for odd.
            first, last: the range, both ends included.

        """
        begin, end = (first + 1 - parity) // 2, (last - parity) // 2 + 1
        found = self.used[parity].find(0, begin, end)
        return None if found < 0 else found * 2 + parity


USUAL = Keeping()
"""What is kept where no device says otherwise."""
