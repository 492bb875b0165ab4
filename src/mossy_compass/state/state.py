"""What changes while packets pass: the sessions and translations that devices remember.

One function opens a session, one chooses a port. Everything that is written is noted in a journal, so that a moment can
be kept and gone back to at the cost of what has changed since, and the thousandth opening costs what the first did.
The words are those of RFC 2663 and RFC 4787 (translation), RFC 5382 (TCP), RFC 5508 (ICMP) and RFC 6146.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import partial
from typing import NamedTuple

from mossy_compass.packet.address import Address
from mossy_compass.packet.flow import FiveTuple, flow_of
from mossy_compass.packet.packet import REPLY_TYPES, Packet
from mossy_compass.packet.service import ICMP, ICMP6, TCP, WITH_PORTS
from mossy_compass.plan.facts import NOBODY, Direction, Facts, Judged, Known, Relation, Session
from mossy_compass.plan.ids import TableId

FIRST_FREE_PORT = 1024
LAST_PORT = 65535


class Pool(NamedTuple):
    """The ports of one outer address: they are counted for each protocol apart (RFC 4787 section 4.2.1).

    Attributes:
        protocol: number; ports of TCP and UDP are apart.
        address: the outer one.

    """

    protocol: int
    address: Address


class InnerEnd(NamedTuple):
    """An inner end that has an outer port: protocol, address, port or identifier.

    Attributes:
        protocol: number.
        address: the inner one.
        port: the source port, or the identifier of a ping.

    """

    protocol: int
    address: Address
    port: int


@dataclass(slots=True)
class Book:
    """What one device remembers.

    Attributes:
        forth: sessions by the flow of their opening packet as it came.
        back: the same by the flow of the answers as they come.
        users: who has a port of an outer address.
        mapped: the port that an inner end has at an outer address.
        lowest: for each pool, a port below which none is free.
        count: sessions ever opened; their numbers are never given twice.
        names: what addresses are called, as lookups that passed have told.

    """

    forth: dict[FiveTuple, Session] = field(default_factory=dict)
    back: dict[FiveTuple, Session] = field(default_factory=dict)
    users: dict[tuple[Pool, int], InnerEnd] = field(default_factory=dict)
    mapped: dict[tuple[Pool, InnerEnd], int] = field(default_factory=dict)
    lowest: dict[Pool, int] = field(default_factory=dict)
    count: int = 0
    names: dict[Address, frozenset[str]] = field(default_factory=dict)


class State:
    """The changing part of a network: values in, values out. It is mutable, and has a journal."""

    __slots__ = ("_books", "_journal")

    def __init__(self) -> None:
        self._books: dict[str, Book] = {}
        self._journal: list[Callable[[], None]] = []

    # asked

    def recall(self, device: str, packet: Packet, number: int = 1) -> tuple[Session | None, Relation, Direction]:
        """The session that a packet belongs to as it came, what it is to it, and which way along it goes.

        Args:
            device: who is asked.
            packet: as it came.
            number: which packet of its flow it is: an odd one goes forth, an even one back. It is looked at only where the
                packet cannot tell: a flow from one end to the same end is its own reverse.

        """
        book = self._books.get(device)
        if packet.quoted is not None:
            return self._related(book, flow_of(packet.quoted))
        opening = packet.opening
        if book is not None:
            flow = flow_of(packet)
            if not _reply(packet):
                found = book.forth.get(flow)
                if found is not None and not (number % 2 == 0 and found.outer.reverse() == flow):
                    return found, Relation.CONTINUING, Direction.FORTH
            # a bare SYN or a request asks, so it is no answer, though its ends may be those of one
            if _reply(packet) or (packet.icmp < 0 and not (packet.protocol == TCP and opening)):
                found = book.back.get(flow)
                if found is not None:
                    return found, Relation.ANSWERING, Direction.BACK
        return None, Relation.OPENING if opening else Relation.NONE, Direction.FORTH

    def _related(self, book: Book | None, quoted: FiveTuple) -> tuple[Session | None, Relation, Direction]:
        """RFC 5508 section 4: an error belongs to the session of what it quotes, whoever sends it."""
        if book is not None:
            found = book.back.get(quoted.reverse())
            if found is not None:
                return found, Relation.RELATED, Direction.BACK
            found = book.forth.get(quoted.reverse())
            if found is not None:
                return found, Relation.RELATED, Direction.FORTH
        return None, Relation.NONE, Direction.FORTH

    def taken(self, device: str, outer: FiveTuple) -> bool:
        """True when some session's packets leave the device as this flow."""
        book = self._books.get(device)
        return book is not None and outer.reverse() in book.back

    def flows(self, device: str) -> list[FiveTuple]:
        """Every flow that belongs to some session of a device, as its packets come: forth and back."""
        book = self._books.get(device)
        return [*book.forth, *book.back] if book else []

    def sessions(self, device: str) -> list[Session]:
        """A device's sessions, oldest first."""
        book = self._books.get(device)
        return sorted(book.forth.values(), key=lambda s: s.number) if book else []

    def port_for(self, device: str, packet: Packet, address: Address, keep: bool, shared: bool) -> int | None:
        """The port that a source gets at an outer address; None when all are taken. Nothing is written.

        Args:
            device: who translates.
            packet: as it would leave, but for its source.
            address: the outer address.
            keep: the source's own port, while it is free (RFC 4787 section 4.2.1).
            shared: one port for all destinations of an inner end (RFC 4787 section 4.1, endpoint-independent mapping).

        """
        flow = flow_of(packet)
        if not has_ports(packet):
            return flow.from_port
        book = self._books.get(device) or Book()
        pool = Pool(flow.protocol, address)
        end = InnerEnd(flow.protocol, flow.source, flow.from_port)
        held = book.mapped.get((pool, end)) if shared else None
        if held is not None and not self.taken(device, _from(flow, packet, address, held)):
            return held

        def free(port: int) -> bool:
            """Whether no flow has this port outside."""
            return (pool, port) not in book.users and not self.taken(device, _from(flow, packet, address, port))

        if keep and free(flow.from_port):
            return flow.from_port
        return next((p for p in range(book.lowest.get(pool, FIRST_FREE_PORT), LAST_PORT + 1) if free(p)), None)

    # written

    def open(
        self,
        device: str,
        came: Packet,
        left: Packet,
        arriving: str | None,
        leaving: str | None,
        opened_by: tuple[TableId, str] = NOBODY,
        pending: tuple[Judged, ...] = (),
    ) -> Session:
        """Remember a flow by its opening packet, as it came and as it left; a flow that is known keeps its session.

        Args:
            device: who remembers.
            came: the opening packet as it came.
            left: as it left; its reverse is what answers look like.
            arriving, leaving: interfaces; None at the device itself.
            opened_by: ids of the table and the row that let it pass.
            pending: places that will be asked again when its application is known.

        """
        book = self._book(device)
        inner, outer = flow_of(came), flow_of(left)
        known = book.forth.get(inner)
        if known is not None:
            return known
        held = book
        held.count += 1
        session = Session(held.count, device, inner, outer, arriving, leaving, opened_by, pending)
        held.forth[inner] = session
        held.back[outer.reverse()] = session
        user = self._use(held, came, left)

        def undo() -> None:
            """As if the session had never been opened: its number is given to the next one."""
            held.count -= 1
            del held.forth[inner], held.back[outer.reverse()]
            user()

        self._journal.append(undo)
        return session

    def close(self, device: str, session: Session) -> None:
        """End a session: what follows of its flow belongs to nothing. Its outer port stays in use, as after a reset."""
        book = self._books.get(device)
        if book is None or book.forth.get(session.inner) != session:
            return
        back = session.outer.reverse()
        held = book
        del held.forth[session.inner], held.back[back]

        def undo() -> None:
            """The session is there again."""
            held.forth[session.inner] = held.back[back] = session

        self._journal.append(undo)

    def learn(self, device: str, name: str, addresses: Iterable[Address]) -> None:
        """A device saw the answer to a lookup: it knows these addresses by that name from now on."""
        names = self._book(device).names
        for address in addresses:
            before = names.get(address)
            names[address] = (before or frozenset()) | {name}
            self._journal.append(partial(_put_back, names, address, before))

    def names_of(self, device: str, address: Address) -> frozenset[str]:
        """The names that a device has learned to have an address."""
        book = self._books.get(device)
        return book.names.get(address, frozenset()) if book else frozenset()

    def known(self, facts: Facts) -> Known:
        """What a ruling keeps of a packet's facts, to be asked again later."""
        book = self._books.get(facts.device)
        if book is None or not book.names:
            return Known(facts.moment, facts.number)
        learned = frozenset(n for names in book.names.values() for n in names)
        return Known(facts.moment, facts.number, facts.names, learned)

    def _book(self, device: str) -> Book:
        """What a device remembers, begun when it first remembers something."""
        book = self._books.get(device)
        if book is None:
            book = self._books[device] = Book()
            self._journal.append(self._closer(device))
        return book

    def _closer(self, device: str) -> Callable[[], None]:
        """A function after which the device has never remembered anything."""

        def undo() -> None:
            """The device's book is gone; what was in it was taken back before."""
            del self._books[device]

        return undo

    def _use(self, book: Book, came: Packet, left: Packet) -> Callable[[], None]:
        """Note that a port of an outer address is in use; gives what undoes it."""
        pool = Pool(left.protocol, left.source)
        port, end = left.from_port, InnerEnd(came.protocol, came.source, came.from_port)
        if not has_ports(left) or (pool, port) in book.users:
            return lambda: None
        lowest = book.lowest.get(pool, FIRST_FREE_PORT)
        book.users[pool, port] = end
        before = book.mapped.get((pool, end))
        book.mapped[pool, end] = port
        while (pool, lowest) in book.users:
            lowest += 1
        earlier = book.lowest.get(pool)
        book.lowest[pool] = lowest

        def undo() -> None:
            """The port is free again, and the inner end has the one that it had before."""
            del book.users[pool, port]
            if before is None:
                del book.mapped[pool, end]
            else:
                book.mapped[pool, end] = before
            if earlier is None:
                del book.lowest[pool]
            else:
                book.lowest[pool] = earlier

        return undo

    # kept and gone back to

    def keep(self) -> int:
        """A moment that ``back_to`` takes."""
        return len(self._journal)

    def back_to(self, moment: int) -> None:
        """Undo everything that was written since; it costs what was written."""
        while len(self._journal) > moment:
            self._journal.pop()()

    @contextmanager
    def unchanged(self) -> Iterator[None]:
        """Whatever is written inside is undone at the end."""
        kept = self.keep()
        try:
            yield
        finally:
            self.back_to(kept)


def _put_back(names: dict[Address, frozenset[str]], address: Address, before: frozenset[str] | None) -> None:
    """An address is called what it was called before."""
    if before is None:
        del names[address]
    else:
        names[address] = before


def has_ports(packet: Packet) -> bool:
    """True where a packet has a port, or an identifier that is treated as one (RFC 5508 section 3)."""
    return not packet.fragment and (packet.protocol in WITH_PORTS or packet.protocol in (ICMP, ICMP6))


def _reply(packet: Packet) -> bool:
    """True for the ICMP kinds that answer a request."""
    return (packet.protocol, packet.icmp >> 8) in _REPLIES


_REPLIES = {(protocol, kind) for (protocol, _), kind in REPLY_TYPES.items()}


def _from(flow: FiveTuple, packet: Packet, address: Address, port: int) -> FiveTuple:
    """A flow with another source; of ICMP, the identifier stands at both ends."""
    return flow._replace(source=address, from_port=port, to_port=port if packet.icmp >= 0 else flow.to_port)
