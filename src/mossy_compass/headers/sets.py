"""Exact sets of packets, as decision diagrams. This is the only file that knows OxiDD, which makes them.

A packet is a row of bits; a set is a function of those bits. The order of the bits decides whether a diagram is small: the
user of this file says it (``proof/space.py``: the protocol, the addresses one after the other, ports, flags). Sets are
compared, joined and taken apart exactly, whatever their shape; what does not fit in the memory that a universe was given
ends with an error (``bounded`` tells it from others), and is never cut short.
"""

from __future__ import annotations

import heapq
import mmap
import os
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from oxidd.bcdd import BCDDFunction, BCDDManager
from oxidd.util import DDMemoryError

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    IntArray = NDArray[np.int64]
    BoolArray = NDArray[np.bool_]
    Columns = dict[int, tuple[BoolArray, IntArray]]
    """Many packets: for every bit, the bit of each different value of its field, and for each packet which of those values it has."""

Set = BCDDFunction
"""A set of packets. ``a & b``, ``a | b`` and ``~a`` are its operations, ``a.satisfiable()`` is whether it has a member."""
NODES = 1 << 17
"""Room for the smallest universe, in nodes of diagrams."""
MOST_NODES = 1 << 23
"""Room for the largest: about 0.4 GB."""


_STACK = 16 * 1024 * 1024
"""Bytes of stack for each worker of the library; it reserves a gigabyte if its variable OXIDD_STACK_SIZE says nothing, which
a machine that bounds address space does not have. Diagrams are as deep as there are bits: some hundreds of calls."""
_FIXED, _PER_NODE = 192 * 1024 * 1024, 64
"""Address space that a manager was seen to take (bytes): 155 MiB at once, for its threads, and 67 a node when it is full."""


def _room(wanted: int) -> int:
    """As many nodes as wanted, or as there is address space for.

    The library ends the whole process where it cannot have what it asks for, so the room is asked for beforehand, and let go.

    Raises:
        MemoryError: there is not even room for the smallest universe.

    """
    os.environ.setdefault("OXIDD_STACK_SIZE", str(_STACK))
    room = wanted
    while True:
        try:
            mmap.mmap(-1, _FIXED + _PER_NODE * room).close()
        except (OSError, ValueError) as fault:
            if room <= NODES:
                raise MemoryError("there is no room for exact sets of packets") from fault
            room >>= 1
        else:
            return room


class Bits(NamedTuple):
    """A field as bits.

    Attributes:
        name: of the field.
        width: how many bits it has.

    """

    name: str
    width: int


class Universe:
    """All packets, described by fields of bits.

    Attributes:
        everything, nothing: the two sets that are always there.

    """

    def __init__(self, order: Sequence[Sequence[Bits]], nodes: int = NODES) -> None:
        """Declare the fields.

        Args:
            order: groups of fields; the bits of one group are interleaved, from the top bit of each.
            nodes: how many nodes all diagrams together may have.

        """
        room = _room(min(max(nodes, NODES), MOST_NODES))
        self._nodes, self._tidy_at = room, room >> 1
        self._manager = BCDDManager(room, max(room >> 1, 1 << 14), 1)
        self._bits: dict[str, list[int]] = {b.name: [] for group in order for b in group}
        count = 0
        for group in order:
            for place in range(max((b.width for b in group), default=0)):
                for field in group:
                    if place < field.width:
                        self._bits[field.name].append(count)
                        count += 1
        self._manager.add_vars(count)
        self._yes = [self._manager.var(n) for n in range(count)]
        self._no = [self._manager.not_var(n) for n in range(count)]
        self.everything: Set = self._manager.true()
        self.nothing: Set = self._manager.false()

    def between(self, field: str, first: int, last: int, top: int = 0) -> Set:
        """The packets whose field, or whose top bits of it, are a number of a range.

        Args:
            field: name.
            first, last: both included.
            top: how many of the top bits are meant; 0 for all of them.

        """
        bits = self._bits[field][:top] if top else self._bits[field]
        apart = (first ^ last).bit_length()  # above this place both ends agree
        prefix = first & (1 << apart) - 1 == 0 and last & (1 << apart) - 1 == (1 << apart) - 1
        low = high = self.everything
        for place, bit in enumerate(reversed(bits[len(bits) - apart :])) if not prefix else ():
            yes, no = self._yes[bit], self._no[bit]
            low = yes & low if first >> place & 1 else yes | low
            high = no | high if last >> place & 1 else no & high
        found = low & high
        for place in range(apart, len(bits)):
            bit = bits[len(bits) - 1 - place]
            found = (self._yes[bit] if first >> place & 1 else self._no[bit]) & found
        return found

    def agree(self, field: str, base: int, fixed: int, top: int) -> Set:
        """The packets whose top bits of a field agree with a number wherever a mask is set: a wildcard mask's addresses."""
        found = self.everything
        bits = self._bits[field][:top]
        for place, bit in enumerate(reversed(bits)):
            if fixed >> place & 1:
                found = (self._yes[bit] if base >> place & 1 else self._no[bit]) & found
        return found

    def flag(self, field: str) -> Set:
        """The packets whose field of one bit is set."""
        return self._yes[self._bits[field][0]]

    def union(self, sets: Iterable[Set]) -> Set:
        """What is in any of them, joined two by two, so that the parts stay small."""
        held = list(sets)
        while len(held) > 1:
            held = [a | b for a, b in zip(held[::2], held[1::2], strict=False)] + ([held[-1]] if len(held) % 2 else [])
        return held[0] if held else self.nothing

    def tidy(self) -> None:
        """Free what nobody holds any more, when half of the room that was free is used: for the user to call between steps.

        The library does that by itself, but in a thread beside, which a busy machine may not give its turn in time.
        """
        if self.size > self._tidy_at:
            self._manager.gc()
            self._tidy_at = (self._nodes + self.size) >> 1

    def one_of(self, held: Set) -> dict[str, int] | None:
        """Some packet of a set, a number for each field; bits that do not matter are 0. None for the empty set."""
        found = held.pick_cube()
        if found is None:
            return None
        out = {}
        for field, bits in self._bits.items():
            value = 0
            for bit in bits:
                value = value << 1 | bool(found[bit])
            out[field] = value
        return out

    def among(self, held: Set, columns: Columns, rows: IntArray) -> BoolArray:
        """Which of many packets are in a set: all of them go down its diagram together.

        Args:
            held: the set.
            columns: the packets, as ``columns`` makes them.
            rows: the numbers of those that are asked about.

        Returns:
            For each of ``rows`` whether it is in the set.

        """
        import numpy as np

        found = np.zeros(len(rows), bool)
        waiting: dict[Set, list[IntArray]] = {}
        nodes: list[Set] = []
        levels: list[tuple[int, int]] = []

        def come(node: Set, some: IntArray) -> None:
            """Packets come to a node, or are in the set."""
            if not len(some) or not node.satisfiable():
                return
            var = node.node_var()
            if var is None:
                found[some] = True
            elif node in waiting:
                waiting[node].append(some)
            else:
                waiting[node] = [some]
                heapq.heappush(levels, (var, len(nodes)))
                nodes.append(node)

        come(held, np.arange(len(rows)))
        while levels:  # a node is gone through once, after everything that comes to it
            var, number = heapq.heappop(levels)
            node = nodes[number]
            some = np.concatenate(waiting.pop(node))
            bits, codes = columns[var]
            yes = bits[codes[rows[some]]]
            both = node.cofactors()
            assert both is not None
            come(both[0], some[yes])
            come(both[1], some[~yes])
        return found

    def columns(self, fields: Mapping[str, tuple[Sequence[int], IntArray]]) -> Columns:
        """Packets as columns of bits.

        Args:
            fields: for every field the different values, and for each packet the place of its value among them.

        """
        import numpy as np

        out: Columns = {}
        for name, bits in self._bits.items():
            values, codes = fields[name]
            for place, bit in enumerate(reversed(bits)):
                out[bit] = np.array([value >> place & 1 for value in values], bool), codes
        return out

    @property
    def fields(self) -> dict[str, int]:
        """Every field with its width in bits."""
        return {name: len(bits) for name, bits in self._bits.items()}

    @property
    def size(self) -> int:
        """Nodes in use, about."""
        return int(self._manager.approx_num_inner_nodes())


def bounded(error: BaseException) -> bool:
    """Whether an exception says that the room of a universe is used up."""
    return isinstance(error, DDMemoryError | MemoryError)
