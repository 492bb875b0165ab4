"""What changes while packets pass: the sessions and mappings that devices remember, on a clock.

One function opens a session, one lets a packet touch it, one ends it, one chooses a port. Reading never writes. While a moment is kept
everything that is written is noted in a journal, so that it can be gone back to at the cost of what has changed since. Time is an
integer of milliseconds that is given from outside; nothing here asks a clock.
The words are those of RFC 2663 and RFC 4787 (translation), RFC 5382 (TCP), RFC 5508 (ICMP) and RFC 6146.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Collection, Iterable, Iterator
from contextlib import contextmanager
from functools import partial

from mossy_compass.packet.address import Address
from mossy_compass.packet.flow import FiveTuple, end_key, flow_from, flow_of, key_from, key_of, reversed_key
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, TCP, WITH_PORTS
from mossy_compass.plan.facts import (
    NOBODY,
    Allocated,
    Direction,
    Ended,
    Expected,
    Facts,
    HeldBack,
    Judged,
    Known,
    Mapped,
    Phase,
    Recalled,
    Relation,
    Session,
)
from mossy_compass.plan.ids import TableId
from mossy_compass.plan.keeping import FIRST_FREE_PORT, HALF_OPEN, LAST_PORT, Keeping, lives
from mossy_compass.state.associations import Associations
from mossy_compass.state.entry import NO_DOUBTS, USUAL, Entry, Life, Mapping, Pool, Ports
from mossy_compass.state.phases import first_phase, next_step

FORTH, BACK = Direction.FORTH, Direction.BACK
_OVER = (Phase.CLOSING, Phase.RESET)
"""Phases of a TCP conversation that is over but for what is under way: the next one may have the same ends."""
_NOTHING = Recalled(None, Relation.NONE, FORTH)
_OPENS = Recalled(None, Relation.OPENING, FORTH)


class Book:
    """What one device remembers.

    Attributes:
        entries: sessions, by both flows as their packets come: no two share one.
        mappings: by what they are shared by.
        outer: the same, by protocol and outer end.
        ports: which are in use, for each outer address.
        opened, mapped: sessions and mappings ever made; their numbers are never given twice.
        half: sessions that are half-open.
        live: sessions that are not over.
        gone: sessions that are over, by both flows, the oldest first.
        history: so many of those are remembered.
        names: what addresses are called, as lookups that passed have told.
        expected: second channels that may be opened, by where they are opened to.
        announced: second channels ever expected.
        held: packets that are held, by their flows.

    """

    __slots__ = (
        "announced",
        "entries",
        "expected",
        "gone",
        "half",
        "held",
        "history",
        "live",
        "mapped",
        "mappings",
        "names",
        "opened",
        "outer",
        "ports",
    )

    def __init__(self) -> None:
        self.entries: dict[int, Entry] = {}
        self.mappings: dict[int, Mapping] = {}
        self.outer: dict[int, Mapping] = {}
        self.ports: dict[Pool, Ports] = {}
        self.opened = self.mapped = self.half = self.live = 0
        self.gone: dict[int, Ended] = {}
        self.history = USUAL.history
        self.names: dict[Address, frozenset[str]] = {}
        self.expected: dict[int, Expected] = {}
        self.announced = 0
        self.held: dict[int, HeldBack] = {}


class State:
    """The changing part of a network: values in, values out. It is mutable, and has a journal while a moment is kept.

    Attributes:
        now: the instant, in milliseconds since this state began.
        epoch: the date of its beginning, in milliseconds since 1970, UTC; None while no date was given.
        associations: of tunnels whose keys are exchanged.

    """

    __slots__ = ("_books", "_clock", "_due", "_journal", "_stale", "_turn", "_watched", "associations", "epoch", "now")

    def __init__(self) -> None:
        self._books: dict[str, Book] = {}
        self._journal: list[Callable[[], None]] = []
        self._watched = 0
        self._clock: list[tuple[int, str, int, int, Entry]] = []
        self._turn = self._stale = 0
        self._due: list[HeldBack] = []
        self.associations = Associations(self._note)
        self.now = 0
        self.epoch: int | None = None

    def __getstate__(self) -> tuple[object, ...]:
        """What it remembers, whatever happened on the way there; the journal and what is due are left out."""
        books = {}
        for name, book in sorted(self._books.items()):
            used = {pool: tuple(bytes(half) for half in ports.used) for pool, ports in book.ports.items() if ports.any}
            held = book.opened, book.mapped, book.half, book.live, book.history, list(book.gone.items()), book.names
            waiting = book.announced, self.expectations(name), list(book.held.values())
            books[name] = (self._entries(name), _mappings(book), used, held, waiting)
        agreed = [a._replace(lists=None) for name in sorted(self.associations.devices) for a in self.associations.of(name)]
        return self.now, self.epoch, books, agreed, self.associations.mtus

    def _note(self, undo: Callable[[], None]) -> None:
        """Put into the journal what undoes something that was written."""
        if self._watched:
            self._journal.append(undo)

    # the clock

    def advance(self, to: int) -> list[Ended]:
        """Let time pass; whatever is due until then ends, at its own instant, in order.

        Args:
            to: the instant, in milliseconds on this clock; what is due exactly then ends too. An earlier one changes nothing.

        Returns:
            What ended, the earliest first.

        """
        ended: list[Ended] = []
        before = self.now
        if to <= before:
            return ended
        if self._watched:
            self._journal.append(partial(setattr, self, "now", before))
        while self._clock and self._clock[0][0] <= to:
            due, device, _, _, entry = heapq.heappop(self._clock)
            if entry.over or entry.due != due:
                self._stale = max(0, self._stale - 1)
                continue
            if self._watched:
                self._journal.append(partial(self._put_back, due, device, entry))
            entry.due = -1
            if entry.ends is None:
                continue
            if entry.ends > due:
                self._await(device, entry)
            else:
                self.now = due
                ended.append(self._end(device, entry, "expired"))
        self.now = to
        list(self.associations.over(to))
        for device, book in self._books.items():
            for held in [e for e in book.expected.values() if e.ends <= to]:
                self._unexpect(device, held)
            for key in [k for k, h in book.held.items() if h.ends <= to]:
                self._due.append(self._let_go_of(book, key))
                if self._watched:
                    self._journal.append(partial(self._due.__delitem__, -1))
        return ended

    def date(self, instant: int) -> list[Ended]:
        """Let it be a date; the first one that is given says when the clock began. One that is past changes nothing.

        Args:
            instant: milliseconds since 1970, UTC.

        """
        if self.epoch is None:
            if self._watched:
                self._journal.append(partial(setattr, self, "epoch", None))
            self.epoch = instant - self.now
        return self.advance(instant - self.epoch)

    def _await(self, device: str, entry: Entry) -> None:
        """Note when an entry is due; an earlier place that it has is left to be passed over."""
        assert entry.ends is not None
        entry.due = entry.ends
        self._turn += 1
        heapq.heappush(self._clock, (entry.due, device, entry.number, self._turn, entry))

    def _put_back(self, due: int, device: str, entry: Entry) -> None:
        """An entry has its place on the clock again."""
        entry.due = due
        self._turn += 1
        heapq.heappush(self._clock, (due, device, entry.number, self._turn, entry))

    def _forget_places(self) -> None:
        """Take places on the clock that nobody waits for out of it, once they are the greater part."""
        self._stale += 1
        if self._stale > 256 and self._stale * 2 > len(self._clock):
            self._clock = [place for place in self._clock if not place[4].over and place[4].due == place[0]]
            heapq.heapify(self._clock)
            self._stale = 0

    # asked

    def recall(self, device: str, packet: Packet, number: int = 1) -> Recalled:
        """The session that a packet belongs to as it came, what it is to it, and which way along it goes.

        Args:
            device: who is asked.
            packet: as it came.
            number: which packet of its flow it is: an odd one goes forth, an even one back. It is looked at only where the
                packet cannot tell: a flow from one end to the same end is its own reverse.

        """
        book = self._books.get(device)
        if packet.quoted is not None:
            return _related(book, device, packet.quoted)
        opens = packet.opening
        if book is None or (packet.from_port < 0 and (packet.protocol in WITH_PORTS or packet.protocol in (ICMP, ICMP6))):
            return _OPENS if opens else _NOTHING
        key = key_of(packet if packet.from_port >= 0 else packet._replace(from_port=0, to_port=0))
        entry = book.entries.get(key)
        if entry is None:
            return self._unknown(book, packet, key, opens)
        direction = FORTH if entry.forth == key and (entry.back != key or number % 2) else BACK
        fits = True
        if packet.protocol == TCP:
            step = next_step(entry.phase, direction, packet)
            if step.anew:
                return Recalled(None, Relation.OPENING, FORTH, True, book.gone.get(key))
            fits = step.fits
        relation = Relation.CONTINUING if direction is FORTH else Relation.ANSWERING
        return tuple.__new__(Recalled, (entry.seen(device), relation, direction, fits, None, None, None))

    def _unknown(self, book: Book, packet: Packet, key: int, opens: bool) -> Recalled:
        """What is to be said of a packet that belongs to no session: of which it would have, and whose outer end it is sent to."""
        gone = book.gone.get(key) if book.gone else None
        mapping = None
        if opens and book.expected:
            waited = book.expected.get(_outer_key(packet.protocol, packet.destination, _to_port(packet)))
            if waited is not None and waited.opener in (None, packet.source):
                if not waited.helper:  # it announced that itself: it listens there, and its filters are asked as ever
                    return Recalled(None, Relation.OPENING, FORTH, True, gone, None, waited)
                held = book.outer.get(_outer_key(waited.protocol, waited.address, waited.port)) if waited.mapping else None
                return Recalled(None, Relation.EXPECTED, FORTH, True, gone, held.seen() if held is not None else None, waited)
        if opens and book.outer:
            mapping = book.outer.get(_outer_key(packet.protocol, packet.destination, _to_port(packet)))
        if gone is None and mapping is None:
            return _OPENS if opens else _NOTHING
        relation = Relation.OPENING if opens else Relation.NONE
        return Recalled(None, relation, FORTH, True, gone, mapping.seen() if mapping is not None else None)

    def taken(self, device: str, outer: FiveTuple) -> bool:
        """True when the answers to packets that leave the device as this flow would belong to some session."""
        book = self._books.get(device)
        if book is None:
            return False
        entry = book.entries.get(key_from(outer.reverse(), answers=True))
        return entry is not None and not _replaceable(entry, outer.protocol)

    def clashes(self, device: str, left: Packet) -> bool:
        """The same of a packet as it would leave: whether answers to it would belong to another session."""
        book = self._books.get(device)
        entry = book.entries.get(reversed_key(key_of(left))) if book is not None and left.from_port >= 0 else None
        return entry is not None and not _replaceable(entry, left.protocol)

    def path_mtu(self, device: str, tunnel: str) -> int | None:
        """The longest packet that goes into a tunnel, in bytes, as far as it has learned that by now."""
        return self.associations.path_mtu(device, tunnel, self.now)

    def flows(self, device: str) -> list[FiveTuple]:
        """Every flow that belongs to some session of a device, as its packets come: forth and back."""
        book = self._books.get(device)
        return [flow_from(key) for key in book.entries] if book else []

    def loose_ends(self, device: str) -> bool:
        """Whether a device remembers sessions that are over, or outer ends."""
        book = self._books.get(device)
        return book is not None and bool(book.gone or book.outer or book.expected)

    def expectations(self, device: str) -> list[Expected]:
        """The second channels that may be opened through a device, oldest first."""
        book = self._books.get(device)
        return sorted(book.expected.values(), key=lambda e: e.number) if book else []

    def talks_to(self, device: str, mapping: int, far: Address) -> bool:
        """Whether some session of a mapping is with a far address.

        Args:
            device: whose mapping.
            mapping: its number.
            far: the far address.

        """
        entries = (e for e in self._entries(device) if e.mapping is not None and e.mapping.number == mapping)
        return any(flow_from(e.back if e.outward is FORTH else e.forth).source == far for e in entries)

    def sessions(self, device: str) -> list[Session]:
        """A device's sessions, oldest first."""
        return [e.seen(device) for e in self._entries(device)]

    def mappings(self, device: str) -> list[Mapped]:
        """A device's mappings, oldest first."""
        book = self._books.get(device)
        return [m.seen() for m in _mappings(book)] if book else []

    def ended(self, device: str) -> list[Ended]:
        """The sessions of a device that are over, as far as its history goes back; the oldest first."""
        book = self._books.get(device)
        return list(dict.fromkeys(book.gone.values())) if book else []

    def devices(self) -> list[str]:
        """The devices that remember anything."""
        return sorted(self.associations.devices.union(self._books))

    def counts(self, device: str) -> tuple[int, int]:
        """How many sessions live at a device, and how many of them are half-open."""
        book = self._books.get(device)
        return (book.live, book.half) if book else (0, 0)

    def _entries(self, device: str) -> list[Entry]:
        """A device's sessions, oldest first."""
        book = self._books.get(device)
        return sorted({e.number: e for e in book.entries.values()}.values(), key=lambda e: e.number) if book else []

    def allocate(
        self, device: str, packet: Packet, address: Address, keeping: Keeping = USUAL, reserved: Collection[int] = (), row: str = ""
    ) -> Allocated | None:
        """The outer end that a source gets at an outer address; None when all ports are taken. Nothing is written.

        A port is kept while it is free; else its range and its parity are, and the other parity where that is exhausted (RFC
        4787 section 4.2.2, REQ-3 and REQ-4).

        Args:
            device: who translates.
            packet: as it would leave, but for its source.
            address: the outer address.
            keeping: how mappings are shared, and whether ports are kept.
            reserved: ports that are not given: forwarded ones, and those that the device listens on.
            row: id of the translation rule.

        """
        flow = flow_of(packet)
        far = keeping.mapping
        ends = (flow.destination, 0) if far == 1 else (flow.destination, flow.to_port)
        key = _mapping_key(flow, address, end_key(*ends) + 1 if far else 0)
        about = (flow.destination if far else None, flow.to_port if far > 1 else 0, row)
        if not has_ports(packet):
            return Allocated(flow.from_port, address, key, False, *about)
        book = self._books.get(device) or _EMPTY
        held = book.mappings.get(key)
        if held is not None:
            port = held.left.from_port
            if not self.taken(device, _from(flow, packet, address, port)):
                return Allocated(port, address, key, True, *about)
        given = self._port(device, packet, book.ports.get(Pool(flow.protocol, address)) or _UNUSED, address, keeping, reserved)
        return None if given is None else Allocated(given, address, key, False, *about)

    def _port(
        self, device: str, packet: Packet, pool: Ports, address: Address, keeping: Keeping, reserved: Collection[int]
    ) -> int | None:
        """The port of a new mapping: the packet's own, or the lowest free one as near to it as the standards ask."""
        flow = flow_of(packet)

        def free(port: int) -> bool:
            """Whether nobody has a port, and no flow of the device's own would get this one's answers."""
            return pool.free(port) and port not in reserved and not self.taken(device, _from(flow, packet, address, port))

        if keeping.keeps_port and free(flow.from_port):
            return flow.from_port
        for first, last, parity in _searched(flow.from_port, packet.icmp >= 0):
            found = pool.next_free(parity, first, last)
            while found is not None and not free(found):
                found = pool.next_free(parity, found + 2, last)
            if found is not None:
                return found
        return None

    # written

    def expect(self, device: str, wanted: Expected) -> Expected:
        """A second channel may be opened from now on, once. One that was to be opened to the same end is forgotten.

        Args:
            device: who remembers.
            wanted: what; its number and its mapping are given here.

        Returns:
            It as it is remembered. Where it is translated it holds a mapping, so that nobody else is given its outer end.

        """
        book = self._book(device)
        key = _outer_key(wanted.protocol, wanted.address, wanted.port)
        if key in book.expected:
            self._unexpect(device, book.expected[key])
        made = None
        if wanted.translated and key not in book.outer:
            book.mapped += 1
            forth = FiveTuple(wanted.protocol, wanted.inner, wanted.inner_port, wanted.opener or wanted.inner, 0)
            left = forth._replace(source=wanted.address, from_port=wanted.port)
            made = Mapping(book.mapped, 0, key_from(forth), reversed_key(key_from(left)), f"helper {wanted.helper}", 1, self.now)
            made.ends, made.sessions = wanted.ends, 1
            book.outer[key] = made
            book.ports.setdefault(Pool(wanted.protocol, wanted.address), Ports()).take(wanted.port)
        book.announced += 1
        held = wanted._replace(number=book.announced, mapping=made.number if made is not None else 0)
        book.expected[key] = held
        if self._watched:
            self._journal.append(partial(self._unannounced, book, key, made))
        return held

    def hold(self, held: HeldBack) -> None:
        """Hold a packet; one of the same flow that is held already stays, and ends when it would."""
        book, key = self._book(held.device), key_of(held.packet)
        if key not in book.held:
            book.held[key] = held
            if self._watched:
                self._journal.append(partial(book.held.__delitem__, key))

    def over_held(self) -> list[HeldBack]:
        """The packets whose time of being held is over since somebody asked last: their senders are to be told."""
        found, self._due = self._due, []
        if found and self._watched:
            self._journal.append(partial(setattr, self, "_due", found))
        return found

    def _let_go_of(self, book: Book, key: int) -> HeldBack:
        """A packet is held no longer."""
        held = book.held.pop(key)
        if self._watched:
            self._journal.append(partial(book.held.__setitem__, key, held))
        return held

    def fulfilled(self, device: str, held: Expected) -> None:
        """A second channel was opened: it may not be opened again."""
        if held in self._book(device).expected.values():
            self._unexpect(device, held)

    def _unexpect(self, device: str, held: Expected) -> None:
        """A second channel may not be opened any more; its outer end is free once no session has it."""
        book = self._books[device]
        key = _outer_key(held.protocol, held.address, held.port)
        del book.expected[key]
        mapping = book.outer.get(key) if held.mapping else None
        if mapping is not None:
            mapping.sessions -= 1
            if not mapping.sessions:
                self._unmap(book, mapping)
        if self._watched:
            self._journal.append(partial(self._expected_again, book, key, held, mapping))

    def open(
        self,
        device: str,
        came: Packet,
        left: Packet,
        arriving: str | None,
        leaving: str | None,
        opened_by: tuple[TableId, str] = NOBODY,
        pending: tuple[Judged, ...] = (),
        keeping: Keeping = USUAL,
        allocated: Allocated | None = None,
        inward: int = 0,
        handed: tuple[str, str] | None = None,
    ) -> Session:
        """Remember a flow by its opening packet, as it came and as it left; a flow that is known keeps its session.

        Args:
            device: who remembers.
            came: the opening packet as it came.
            left: as it left; its reverse is what answers look like.
            arriving, leaving: interfaces; None at the device itself.
            opened_by: ids of the table and the row that let it pass.
            pending: places that will be asked again when its application is known.
            keeping: how long it lives.
            allocated: the outer end that its source was given.
            inward: number of the mapping whose outer end it was sent to from outside; 0 for none.
            handed: who handed it over, by which interface; None where that is not kept.

        """
        book = self._book(device)
        book.history = keeping.history
        forth, back = key_of(came), reversed_key(key_of(left))
        for key in (forth, back):
            known = book.entries.get(key)
            if known is not None:
                if key == forth and not _replaceable(known, came.protocol):
                    return known.seen(device)
                self._end(device, known, "replaced")
        if back in book.held:  # opened from both sides at once: what was held is dropped in silence (RFC 5382 REQ-4)
            self._let_go_of(book, back)
        book.opened += 1
        entry = Entry(book.opened, forth, back, (arriving, leaving), opened_by, pending, first_phase(came), self.now)
        entry.handed = handed
        book.entries[forth] = book.entries[back] = entry
        self._count(book, entry, 1)
        made = self._map(book, entry, came, left, allocated, inward)
        ends = entry.mapping.ends if entry.mapping is not None else None
        self._refresh(device, entry, FORTH, keeping, came)
        if self._watched:
            self._journal.append(partial(self._unopened, book, entry, made, ends))
        return entry.seen(device)

    def touch(self, device: str, packet: Packet, direction: Direction, keeping: Keeping = USUAL, key: int | None = None) -> None:
        """A packet of a session passed: how far that is, and how long it lives, follows from what the packet shows.

        Args:
            device: who remembers.
            packet: as it came.
            direction: which way along the session.
            keeping: how long sessions live there.
            key: the packet's flow, where that is known already.

        """
        book = self._books.get(device)
        if book is None or packet.from_port < 0 or packet.quoted is not None:
            return
        entry = book.entries.get(key_of(packet) if key is None else key)
        if entry is None:
            return
        if self._watched:
            ends = entry.mapping.ends if entry.mapping is not None else None
            self._journal.append(partial(self._untouched, device, book, entry, entry.life, ends))
        half = entry.phase in HALF_OPEN
        entry.phase = next_step(entry.phase, direction, packet).phase
        book.half += (entry.phase in HALF_OPEN) - half
        if packet.flags == "RST" and not keeping.revives:
            self._end(device, entry, "reset")
        elif entry.phase is Phase.CLOSING and keeping.closes_at_once:
            self._end(device, entry, "closed")
        else:
            self._refresh(device, entry, direction, keeping, packet)

    def close(self, device: str, session: Session, why: str = "recalled") -> None:
        """End a session: what follows of its flow belongs to nothing.

        Args:
            device: who remembers.
            session: which.
            why: in a word, of ``WHY_ENDED``.

        """
        book = self._books.get(device)
        entry = book.entries.get(session.forth) if book is not None else None
        if entry is not None and entry.number == session.number:
            self._end(device, entry, why)

    def move(self, device: str, session: Session) -> Phase | None:
        """End a session that is about to begin anew; gives how far it was. None where it is over already."""
        book = self._books.get(device)
        entry = book.entries.get(session.forth) if book is not None else None
        if entry is None or entry.number != session.number:
            return None
        self._end(device, entry, "moved")
        return entry.phase

    def goes_on(self, device: str, session: Session, phase: Phase) -> None:
        """A session that begins anew is as far as it was before."""
        book = self._books[device]
        entry = book.entries[session.forth]
        if self._watched:
            ends = entry.mapping.ends if entry.mapping is not None else None
            self._journal.append(partial(self._untouched, device, book, entry, entry.life, ends))
        book.half += (phase in HALF_OPEN) - (entry.phase in HALF_OPEN)
        entry.phase = phase

    def clear(self, device: str, which: Callable[[Session], bool] = lambda s: True, why: str = "cleared") -> list[Ended]:
        """End the sessions of a device that somebody means, and with them their mappings.

        Args:
            device: whose.
            which: takes a session; True for those that are to end.
            why: in a word, of ``WHY_ENDED``.

        """
        return [self._end(device, e, why) for e in self._entries(device) if which(e.seen(device))]

    def rename(self, device: str, name: str) -> None:
        """A device has another name, and remembers what it remembered.

        Args:
            device: its name so far.
            name: its name from now on; nobody may have it.

        """
        self.associations.rename(device, name)
        if device not in self._books:
            return
        book = self._books[name] = self._books.pop(device)
        book.held = {key: held._replace(device=name) for key, held in book.held.items()}
        self._clock = [(due, name if d == device else d, n, turn, entry) for due, d, n, turn, entry in self._clock]
        heapq.heapify(self._clock)
        if self._watched:
            self._journal.append(partial(self.rename, name, device))

    def doubt(self, device: str, what: Iterable[str]) -> None:
        """Something changed: every session of a device is to be judged again at its next packet.

        Args:
            device: whose.
            what: of ``rules``, ``routes``, ``translation``.

        """
        for entry in self._entries(device):
            self._doubt(entry, entry.doubts | frozenset(what))

    def judged(self, device: str, session: Session) -> None:
        """A session was judged by what is so now, and lives on."""
        book = self._books.get(device)
        entry = book.entries.get(session.forth) if book is not None else None
        if entry is not None and entry.number == session.number:
            self._doubt(entry, NO_DOUBTS)

    def _doubt(self, entry: Entry, doubts: frozenset[str]) -> None:
        """Note what a session is to be judged by."""
        if self._watched:
            self._journal.append(partial(setattr, entry, "doubts", entry.doubts))
        entry.doubts = doubts

    def _refresh(self, device: str, entry: Entry, direction: Direction, keeping: Keeping, packet: Packet) -> None:
        """Set how long a session lives from now on, and its mapping with it.

        Only packets that go out lengthen a mapping, and no packet lengthens a session beyond its mapping (RFC 4787 REQ-6), or a
        stranger could hold a port for ever. A reset lengthens nothing (RFC 7857 section 7).
        """
        entry.packets += 1
        entry.size += packet.size
        wanted = keeping.lives[lives(packet.protocol, entry.phase)]
        ends = None if wanted is None else self.now + wanted
        mapping = entry.mapping
        if packet.flags == "RST":
            ends = _earlier(ends, entry.ends)
        elif mapping is not None and direction is not entry.outward:
            ends = _earlier(ends, mapping.ends)
        elif mapping is not None:
            mapping.ends = None if ends is None or mapping.ends is None else max(mapping.ends, ends)
        entry.ends = ends
        if ends is not None and (entry.due < 0 or ends < entry.due):
            if entry.due >= 0:
                self._forget_places()
            self._await(device, entry)

    def _map(
        self, book: Book, entry: Entry, came: Packet, left: Packet, allocated: Allocated | None, inward: int
    ) -> Mapping | None:
        """Give a session the mapping of its source half; gives it where it was made for this."""
        if inward:  # it came from outside, to the outer end of a mapping that is there
            found = book.outer.get(_outer_key(came.protocol, came.destination, _to_port(came)))
            if found is not None and found.number == inward:
                entry.mapping, entry.outward = found, BACK
                found.sessions += 1
            return None
        if allocated is None:
            return None
        made = None
        found = book.mappings.get(allocated.key) if allocated.known else None
        if found is None:
            book.mapped += 1
            far = 0 if allocated.far is None else 2 if allocated.far_port else 1
            key = (
                allocated.key if far < 2 or not has_ports(left) else 0
            )  # one that is for a flow alone is shared by nobody, and is not looked for
            found = made = Mapping(book.mapped, key, entry.forth, entry.back, allocated.row, far, self.now)
            # Where the shared one was of no use to this flow, its key stays with the one that has it.
            if key:
                book.mappings.setdefault(key, made)
            if has_ports(left):
                pool = Pool(left.protocol, left.source)
                book.ports.setdefault(pool, Ports()).take(left.from_port)
                book.outer[_outer_key(left.protocol, left.source, left.from_port)] = made
        entry.mapping = found
        found.sessions += 1
        return made

    def _unmap(self, book: Book, mapping: Mapping) -> None:
        """A mapping that no session has any more is gone, and its port is free."""
        left = mapping.left
        if book.mappings.get(mapping.key) is mapping:
            del book.mappings[mapping.key]
        key = _outer_key(left.protocol, left.source, left.from_port)
        if book.outer.get(key) is mapping:
            del book.outer[key]
            book.ports[Pool(left.protocol, left.source)].give(left.from_port)

    def _remap(self, book: Book, mapping: Mapping) -> None:
        """A mapping is there again."""
        left = mapping.left
        if mapping.key:
            book.mappings.setdefault(mapping.key, mapping)
        if left.protocol in WITH_PORTS or left.protocol in (ICMP, ICMP6):
            book.outer[_outer_key(left.protocol, left.source, left.from_port)] = mapping
            book.ports[Pool(left.protocol, left.source)].take(left.from_port)

    def _end(self, device: str, entry: Entry, why: str) -> Ended:
        """A session is over, and remembered as such for a while."""
        book = self._books[device]
        entry.over = True
        del book.entries[entry.forth]
        book.entries.pop(entry.back, None)
        self._count(book, entry, -1)
        mapping = entry.mapping
        if mapping is not None:
            mapping.sessions -= 1
            if not mapping.sessions:
                self._unmap(book, mapping)
        if entry.due >= 0:
            self._forget_places()
        ended = Ended(entry.seen(device), self.now, why)
        for held in [e for e in book.expected.values() if e.session == entry.number] if book.expected else ():
            self._unexpect(device, held)  # what a conversation announced is over with it
        if self._watched:
            self._journal.append(partial(self._revived, device, book, entry, dict(book.gone)))
        for key in (entry.forth, entry.back):
            book.gone.pop(key, None)  # the latest of its flow is what counts, and stands last
            book.gone[key] = ended
        while len(book.gone) > 2 * book.history:
            del book.gone[next(iter(book.gone))]
        return ended

    def _count(self, book: Book, entry: Entry, one: int) -> None:
        """Count a session that is there, or is not any more."""
        book.live += one
        if entry.phase in HALF_OPEN:
            book.half += one

    def learn(self, device: str, name: str, addresses: Iterable[Address]) -> None:
        """A device saw the answer to a lookup: it knows these addresses by that name from now on."""
        names = self._book(device).names
        for address in addresses:
            before = names.get(address)
            names[address] = (before or frozenset()) | {name}
            if self._watched:
                self._journal.append(partial(_put_back, names, address, before))

    def names_of(self, device: str, address: Address) -> frozenset[str]:
        """The names that a device has learned to have an address."""
        book = self._books.get(device)
        return book.names.get(address, frozenset()) if book else frozenset()

    def blank(self, device: str) -> bool:
        """Whether a device remembers nothing at all, and no tunnel's ends have agreed on anything."""
        return device not in self._books and not self.associations.made

    def learned(self, device: str) -> bool:
        """Whether a device has learned any name."""
        book = self._books.get(device)
        return book is not None and bool(book.names)

    def called(self, device: str) -> dict[Address, frozenset[str]]:
        """Every address of which a device has learned names, with those."""
        book = self._books.get(device)
        return book.names if book else {}

    def known(self, facts: Facts) -> Known:
        """What a ruling keeps of a packet's facts, to be asked again later."""
        book = self._books.get(facts.device)
        if book is None or not book.names:
            return Known(facts.moment, facts.number, expected=facts.expected)
        learned = frozenset(n for names in book.names.values() for n in names)
        return Known(facts.moment, facts.number, facts.names, learned, facts.expected)

    def _book(self, device: str) -> Book:
        """What a device remembers, begun when it first remembers something."""
        book = self._books.get(device)
        if book is None:
            book = self._books[device] = Book()
            if self._watched:
                self._journal.append(partial(self._books.__delitem__, device))
        return book

    # undone

    def _unannounced(self, book: Book, key: int, made: Mapping | None) -> None:
        """As if a second channel had never been expected."""
        del book.expected[key]
        book.announced -= 1
        if made is not None:
            self._unmap(book, made)
            book.mapped -= 1

    def _expected_again(self, book: Book, key: int, held: Expected, mapping: Mapping | None) -> None:
        """A second channel may still be opened."""
        book.expected[key] = held
        if mapping is not None:
            if not mapping.sessions:
                self._remap(book, mapping)
            mapping.sessions += 1

    def _unopened(self, book: Book, entry: Entry, made: Mapping | None, ends: int | None) -> None:
        """As if a session had never been opened: its number is given to the next one."""
        entry.over = True
        self._forget_places()
        book.opened -= 1
        del book.entries[entry.forth]
        book.entries.pop(entry.back, None)
        self._count(book, entry, -1)
        if entry.mapping is not None:
            entry.mapping.sessions -= 1
            entry.mapping.ends = ends
        if made is not None:
            self._unmap(book, made)
            book.mapped -= 1

    def _untouched(self, device: str, book: Book, entry: Entry, life: Life, ends: int | None) -> None:
        """As if a packet of a session had never passed."""
        half, due = entry.phase in HALF_OPEN, entry.due
        entry.relive(life)
        book.half += (entry.phase in HALF_OPEN) - half
        if entry.mapping is not None:
            entry.mapping.ends = ends
        if entry.due not in (-1, due):  # its earlier place may have been passed over meanwhile
            self._put_back(entry.due, device, entry)

    def _revived(self, device: str, book: Book, entry: Entry, gone: dict[int, Ended]) -> None:
        """A session that was over is not."""
        entry.over = False
        book.gone = gone
        book.entries[entry.forth] = book.entries[entry.back] = entry
        self._count(book, entry, 1)
        if entry.mapping is not None:
            if not entry.mapping.sessions:
                self._remap(book, entry.mapping)
            entry.mapping.sessions += 1
        if entry.due >= 0:  # likewise
            self._put_back(entry.due, device, entry)

    # kept and gone back to

    def keep(self) -> int:
        """A moment that ``back_to`` takes. The journal runs from now on, until as many moments are let go as were kept."""
        self._watched += 1
        return len(self._journal)

    def let_go(self) -> None:
        """A moment that was kept is not gone back to any more."""
        self._watched -= 1
        if not self._watched:
            self._journal.clear()

    def back_to(self, moment: int) -> None:
        """Undo everything that was written since; it costs what was written."""
        watched, self._watched = self._watched, 0  # what undoes is not to be undone
        while len(self._journal) > moment:
            self._journal.pop()()
        self._watched = watched

    def put_mark(self, mark: Callable[[], None]) -> None:
        """Keep a moment, and put a mark of somebody's own there, by which it is told whether anything was written since.

        Args:
            mark: does nothing when it is called.

        """
        self._watched += 1
        self._journal.append(mark)

    def is_at(self, mark: Callable[[], None]) -> bool:
        """Whether nothing was written, and nothing undone, since a mark was put."""
        return bool(self._journal) and self._journal[-1] is mark

    @contextmanager
    def unchanged(self) -> Iterator[None]:
        """Whatever is written inside is undone at the end."""
        kept = self.keep()
        try:
            yield
        finally:
            self.back_to(kept)
            self.let_go()


_EMPTY, _UNUSED = Book(), Ports()


def _mappings(book: Book) -> list[Mapping]:
    """The mappings of a device, oldest first."""
    found = {m.number: m for m in (*book.mappings.values(), *book.outer.values())}
    return [found[n] for n in sorted(found)]


def _related(book: Book | None, device: str, quoted: Packet) -> Recalled:
    """RFC 5508 section 4: an error belongs to the session of what it quotes, whoever sends it."""
    if book is None or quoted.fragment:
        return _NOTHING
    # What is quoted goes the other way: its reverse is a flow that would come here.
    entry = book.entries.get(reversed_key(key_of(quoted)))
    if entry is None:
        gone = book.gone.get(reversed_key(key_of(quoted)))
        return Recalled(None, Relation.NONE, FORTH, True, gone)
    direction = BACK if entry.back == reversed_key(key_of(quoted)) else FORTH
    return Recalled(entry.seen(device), Relation.RELATED, direction)


def _replaceable(entry: Entry, protocol: int) -> bool:
    """Whether a conversation is over, so that another may have its ends."""
    return protocol == TCP and entry.phase in _OVER


def _earlier(one: int | None, other: int | None) -> int | None:
    """The earlier of two instants, of which None is never."""
    if one is None or other is None:
        return other if one is None else one
    return min(one, other)


def _to_port(packet: Packet) -> int:
    """The port of the far end, or the identifier that stands for it."""
    return packet.from_port if packet.icmp >= 0 else packet.to_port


def _outer_key(protocol: int, address: Address, port: int) -> int:
    """An outer end with its protocol, as one number."""
    return protocol << 145 | end_key(address, port)


def _mapping_key(flow: FiveTuple, address: Address, far: int) -> int:
    """By what a mapping is shared: protocol, inner end, outer address, and as much of the far end as counts."""
    return ((flow.protocol << 145 | end_key(flow.source, flow.from_port)) << 145 | end_key(address, 0)) << 146 | far


def _searched(port: int, identifier: bool) -> Iterator[tuple[int, int, int]]:
    """Where a port is looked for, in order: its own range and parity, then the other parity. Identifiers have no ranges."""
    low, high = (0 if identifier else 1, FIRST_FREE_PORT - 1), (FIRST_FREE_PORT, LAST_PORT)
    for first, last in (high, low) if identifier else (low if port < FIRST_FREE_PORT else high,):
        yield first, last, port & 1
        yield first, last, 1 - (port & 1)


def _put_back(names: dict[Address, frozenset[str]], address: Address, before: frozenset[str] | None) -> None:
    """An address is called what it was called before."""
    if before is None:
        del names[address]
    else:
        names[address] = before


def has_ports(packet: Packet) -> bool:
    """True where a packet has a port, or an identifier that is treated as one (RFC 5508 section 3)."""
    return not packet.fragment and (packet.protocol in WITH_PORTS or packet.protocol in (ICMP, ICMP6))


def _from(flow: FiveTuple, packet: Packet, address: Address, port: int) -> FiveTuple:
    """A flow with another source; of ICMP, the identifier stands at both ends."""
    return flow._replace(source=address, from_port=port, to_port=port if packet.icmp >= 0 else flow.to_port)
