"""What a change does to packets, exactly: which rules decide more or less than before, and which verdicts change.

Two readings of a list, or two versions of a place where lists stand, are put into one space of sets, so that the difference
between them is a set too: empty, or with an example in it. Nothing is sampled; a change that no test notices is found all
the same.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NamedTuple

from mossy_compass.errors import TooLarge
from mossy_compass.headers.sets import Set
from mossy_compass.model.network import Device, Network, Verdict
from mossy_compass.plan.actions import Consult, Decision, Listed, Stop
from mossy_compass.plan.conditions import Condition, Reader
from mossy_compass.plan.ids import TableKind
from mossy_compass.plan.places import KnownPlace, end_verdict, every_place, sides
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Fate
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.lists import FILTER, Otherwise, Place
from mossy_compass.plan.table import Table, list_table
from mossy_compass.proof.exact import effective
from mossy_compass.proof.likely import Comes, Ends, Look, Sides, Witness, anywhere
from mossy_compass.proof.space import Space, Vocabulary, with_room
from mossy_compass.proof.ways import Ways, ways

END = "end-of-list"


class RowEffect(NamedTuple):
    """A rule that decides other packets than before.

    Attributes:
        row: its id; ``end-of-list`` for what no rule decides.
        was: the id that it had before, where that is another: rules without a written id are counted.
        grew: a packet that it decides now and did not; None where there is none.
        shrank: one that it decided and does not any more.
        state: ``new``, ``gone``, or nothing.

    """

    row: str
    grew: Witness | None
    shrank: Witness | None
    state: str
    was: str = ""


class Turn(NamedTuple):
    """Packets whose verdict changes.

    Attributes:
        before, after: verdicts, or ``end-of-list`` with what that does.
        witness: one of them.

    """

    before: str
    after: str
    witness: Witness


class ListEffect(NamedTuple):
    """What a change does to a list, as one device reads it.

    Attributes:
        name: of the list.
        devices: that read it so; empty for a list that stands nowhere.
        rows: the rules that decide other packets, in the order of the new list.
        turns: the verdicts that change.
        unknown: why nothing can be said; empty where it can.
        idle: why nothing comes of other rules: ``taken`` where the lists that are asked before it decide every packet that would show
            it, ``same`` where what else is asked there comes to the same; empty where something does.
        chooses: the devices whose policy routes are about what it permits; it filters nothing there.

    """

    name: str
    devices: tuple[str, ...]
    rows: tuple[RowEffect, ...]
    turns: tuple[Turn, ...]
    unknown: str = ""
    idle: str = ""
    chooses: tuple[str, ...] = ()


class PlaceEffect(NamedTuple):
    """What a change does where lists stand: other lists are asked, in another order, or something else comes after them.

    Attributes:
        device: where the place is.
        where: the place, as ``fibre arriving``.
        lists: the names of what is asked, before and after.
        ends: what happens when no rule decides, before and after: the verdict, and the setting that says so.
        turns: the verdicts that change.
        unknown: why nothing can be said; empty where it can.

    """

    device: str
    where: str
    lists: tuple[tuple[str, ...], tuple[str, ...]]
    ends: tuple[str, str]
    turns: tuple[Turn, ...]
    unknown: str = ""

    @property
    def verdicts(self) -> tuple[tuple[str, str], ...]:
        """The pairs of verdicts that change."""
        return tuple((t.before, t.after) for t in self.turns)


class Effects(NamedTuple):
    """All that a change does to packets, as far as that can be said without sending any.

    Attributes:
        lists: whose rules are others.
        places: where other lists stand, or where something else comes after them.
        ways: where destinations are sent another way.

    """

    lists: tuple[ListEffect, ...]
    places: tuple[PlaceEffect, ...]
    ways: Ways

    def __bool__(self) -> bool:
        return bool(self.filtering or self.ways)

    @property
    def filtering(self) -> bool:
        """Whether some rule or place of lists decides other packets than before."""
        return bool(self.places) or any(not e.idle for e in self.lists)


def effects(before: Plan, after: Plan, comes: Comes | None = None) -> Effects:
    """What a change does to the verdicts of lists and of the places where they stand, and to the ways of destinations.

    Args:
        before, after: the network, as it was and as it would be.
        comes: walks an example, before it is shown; None where nobody walks.

    """
    return Effects(tuple(_of_lists(before, after, comes)), tuple(_of_places(before, after, comes)), ways(before, after))


def _of_lists(before: Plan, after: Plan, comes: Comes | None) -> list[ListEffect]:
    """What other rules do, list by list, where a list stands in both versions, or nowhere in both.

    What a list does that is new at a place, or gone from it, follows from what was asked there instead: see the places.
    """
    renamed = dict(_renamed(before.network, after.network))
    out: list[ListEffect] = []
    numbers: dict[tuple[Row, ...], int] = {}
    known: dict[int, tuple[Listed, int]] = {}

    def number(table: Listed) -> int:
        """The same for tables of the same rows, which are looked through once."""
        if id(table) not in known:  # while it is kept, no other has its id
            known[id(table)] = table, numbers.setdefault(tuple(table.rows), len(numbers))
        return known[id(table)][1]

    for old in before.network.lists:
        name = renamed.get(old, old)
        if name not in after.network.lists:
            continue
        stood, stands = _readers(before, old), _readers(after, name)
        readings: dict[object, tuple[_Asked, list[str]]] = {}
        for device in sorted(stood & stands) if stood | stands else [""]:
            asked = _Asked.of(before, after, old, name, device)
            readings.setdefault(asked.key(number), (asked, []))[1].append(device)
        for asked, devices in readings.values():
            found = _compare(name, asked, after, tuple(d for d in devices if d), comes)
            if found is not None:
                out.append(found._replace(chooses=_choosing(after.network, name)))
    return out


class _Version(NamedTuple):
    """A place in two versions of a network.

    Attributes:
        before, after: what is asked there.
        meets, instead: which packets come there, as ``KnownPlace`` says.
        device, came, goes: where it is.

    """

    before: Place
    after: Place
    meets: tuple[Condition, ...] = ()
    instead: tuple[tuple[Condition, ...], ...] = ()
    device: str = ""
    came: tuple[str, ...] = ()
    goes: tuple[str, ...] = ()

    @property
    def looks(self) -> tuple[Look, ...]:
        """What a walk of an example must show: that it comes there, in one of the versions."""
        before, after = (frozenset((self.device, c.table.id) for c in p.consults) for p in (self.before, self.after))
        where = Look(device=self.device, came=self.came, goes=self.goes)
        return where._replace(tables=before, earlier=True), where._replace(tables=after)


class _Asked(NamedTuple):
    """A list as a device reads it in two versions of a network, with the places where it is asked in both.

    Attributes:
        before, after: its rows.
        places: where; one that has this list alone, for a list that stands nowhere.
        called: its name, before and after.

    """

    before: tuple[Row, ...]
    after: tuple[Row, ...]
    places: tuple[_Version, ...]
    called: tuple[str, str]

    @classmethod
    def of(cls, before: Plan, after: Plan, old: str, name: str, device: str) -> _Asked:
        """A list at a device; at none where it stands nowhere."""
        was, now = _read(before, old, device), _read(after, name, device)
        if not device:
            return cls(was.rows, now.rows, (_Version(alone(was), alone(now)),), (old, name))
        earlier = {s.key: s.place for s in every_place(before.device(device))}
        # A list without rules is not asked, and where it was asked is one of its places all the same.
        asked = any if _stand_alike(before.network.devices[device], after.network.devices[device]) else all
        found = [
            _Version(earlier[s.key], s.place, s.meets, s.instead, device, s.came, s.goes)
            for s in every_place(after.device(device))
            if s.key in earlier and asked((name in _names(s.place), old in _names(earlier[s.key])))
        ]
        return cls(was.rows, now.rows, tuple(found), (old, name))

    def key(self, number: Callable[[Listed], int]) -> object:
        """What is the same for two devices of which the same is to be said.

        Args:
            number: the same for tables of the same rows.

        """
        said = {name for rows in (self.before, self.after) for row in rows for c in row.conditions for name in c.fields}
        asked = {*said, "source", "destination"}
        return (
            self.before,
            self.after,
            frozenset(
                (
                    *((tuple(number(c.table) for c in place.consults), end_verdict(place)) for place in (v.before, v.after)),
                    tuple(c for c in v.meets if asked.intersection(c.fields)),
                    v.instead,
                )
                for v in self.places
            ),
        )

    @property
    def rows(self) -> list[tuple[Row, ...]]:
        """The rows of every list that is asked at these places."""
        return [
            self.before,
            self.after,
            *(tuple(c.table.rows) for v in self.places for p in (v.before, v.after) for c in p.consults),
        ]


def alone(table: Listed) -> Place:
    """A place for a list that stands nowhere: what no rule decides would be stopped, as lists do."""
    ended = Decision(None, Because("list.end", (table.name,)), (Stop(Fate.DROPPED, "filter.end"),))
    return Place((Consult(table, FILTER),), Otherwise("end-of-list", ended))


def _choosing(network: Network, name: str) -> tuple[str, ...]:
    """The devices whose policy routes are about what a list permits."""
    return tuple(d.name for d in network.devices.values() if any(e.classifier == name for e in d.policy_routes))


def _renamed(before: Network, after: Network) -> Iterator[tuple[str, str]]:
    """Lists that have another name and the same rules: they are one list, and nothing is said of it."""
    gone = [e for n, e in before.lists.items() if n not in after.lists]
    come = [e for n, e in after.lists.items() if n not in before.lists]
    for entry in gone:
        same = next((o for o in come if o.rules == entry.rules), None)
        if same is not None:
            come.remove(same)
            yield entry.name, same.name


def _readers(plan: Plan, name: str) -> set[str]:
    """The devices where a list stands."""
    return {device for device, _, _ in plan.attached[name]}


def _read(plan: Plan, name: str, device: str) -> Table:
    """A list as a device reads it; as nobody in particular does where it stands nowhere."""
    return plan.device(device).read_list(name) if device else list_table(plan.network.lists[name], Reader(names=None))


def _compare(name: str, asked: _Asked, plan: Plan, devices: tuple[str, ...], comes: Comes | None) -> ListEffect | None:
    """What differs between two readings of a list; None where nothing does, or where it is asked at no place as before."""
    if asked.before == asked.after or not asked.places:
        return None
    words, hosts = _vocabulary(plan), _ends(plan, name, devices)
    if devices:
        stood = frozenset((d, c.table.id) for d in devices for v in asked.places for c in v.before.consults)
        stands = frozenset((d, c.table.id) for d in devices for v in asked.places for c in v.after.consults)
        hosts = hosts._replace(comes=comes, tables=stands, earlier=stood)
    every = list(dict.fromkeys(row for rows in asked.rows for row in rows))
    try:
        found = with_room(lambda room: _difference(asked, Space(every, words, room), hosts))
    except TooLarge:
        return ListEffect(name, devices, (), (), str(TooLarge("its exact sets need more memory than is given to them.")))
    return ListEffect(name, devices, *found) if any(found) else None


def _ends(plan: Plan, name: str, devices: Sequence[str]) -> Ends:
    """Who is at the ends of packets that a list is about, where it stands first."""
    for device, where, way in plan.attached[name]:
        if device in devices:
            came, goes = sides(plan.device(device), where, way)
            return Sides(plan.network, plan.device(device)).ends(came, goes)
    return anywhere(plan.network)


def _vocabulary(plan: Plan) -> Vocabulary:
    """What windows of time and applications have in common."""
    return Vocabulary(plan.network.hours, plan.network.applications)


def _decided(space: Space, rows: Sequence[Row]) -> dict[str, Set]:
    """What each rule decides, by its id, and what none does."""
    held = {row.id: mine for row, mine in zip(rows, effective(space, rows), strict=True) if row.verdict is not Verdict.NOTE}
    rest = space.possible
    for mine in held.values():
        rest = rest & ~mine
    return {**held, END: rest}


def _difference(asked: _Asked, space: Space, hosts: Ends) -> tuple[tuple[RowEffect, ...], tuple[Turn, ...], str, str]:
    """The rules that decide other packets that come to them, and the verdicts that change where the list is asked.

    The last two are as in ``ListEffect``.
    """
    old, new = _decided(space, asked.before), _decided(space, asked.after)
    was_called = {**paired(asked.before, asked.after), END: END}
    nothing = space.possible & ~space.possible
    fates = _Fates(space)
    within = [space.coming(v.meets, v.instead) for v in asked.places]
    came = space.union(fates.reaching(v.after, asked.called[1], w) for v, w in zip(asked.places, within, strict=True))
    went = space.union(fates.reaching(v.before, asked.called[0], w) for v, w in zip(asked.places, within, strict=True))
    rows, other = [], nothing
    # Each rule as it was, where it was there, and as it is, where it is.
    pairs: list[tuple[str | None, str | None]] = [(was_called.get(ident), ident) for ident in new]
    pairs += [(ident, None) for ident in old if ident not in set(was_called.values())]
    for earlier, ident in pairs:
        was, now = (held[name] if name is not None else nothing for held, name in ((old, earlier), (new, ident)))
        other = other | (now & ~was) | (was & ~now)
        called, before = ident or earlier or "", earlier or ident or ""
        grew = space.example(now & ~was & came, hosts, hosts.at(_deciding(called)))
        shrank = space.example(was & ~now & went, hosts, hosts.at(_deciding(before), True))
        if grew is not None or shrank is not None:
            since = "new" if earlier is None else "gone" if ident is None else ""
            rows.append(RowEffect(called, grew, shrank, since, before))
        # A rule that decides what it did may do something else with it now.
        if earlier is not None and ident is not None and _verdict(asked.before, earlier) != _verdict(asked.after, ident):
            other = other | now
    turns = _all_turns(space, asked.places, within, other, fates, hosts)
    idle = ""
    if not rows and not turns and other.satisfiable():
        idle = "same" if (other & (came | went)).satisfiable() else "taken"
    return tuple(rows), turns, "", idle


def _all_turns(
    space: Space, places: Sequence[_Version], within: Sequence[Set], other: Set, fates: _Fates, hosts: Ends
) -> tuple[Turn, ...]:
    """The verdicts that change at some places, for the packets that come there and that other rules decide now."""
    turns: dict[tuple[str, str], Turn] = {}
    for version, comes in zip(places, within, strict=True):
        # A list that is empty, or is no more, changes what comes after all lists, for whatever none of them decides.
        mine = comes & other if end_verdict(version.before) is end_verdict(version.after) else comes
        found = _turns(space, fates.of(version.before, mine), fates.of(version.after, mine), hosts, version.looks)
        for turn in found:
            known = turns.setdefault((turn.before, turn.after), turn)
            if turn.witness.sent and not known.witness.sent:  # best the place where somebody sends one
                turns[turn.before, turn.after] = turn
    return tuple(turns.values())


def _deciding(ident: str) -> tuple[str, ...]:
    """The row that a walk is to show; any for the end of a list, after which another list may be asked."""
    return (ident,) if ident != END else ()


def _verdict(rows: Sequence[Row], ident: str) -> object:
    """What a rule comes to; nothing for the end of a list."""
    return next((row.outcome for row in rows if row.id == ident), None)


def _turns(
    space: Space, one: Mapping[str, Set], other: Mapping[str, Set], hosts: Ends, looks: Sequence[Look] = ()
) -> Iterator[Turn]:
    """The packets whose verdict changes, an example for each pair of verdicts."""
    for verdict, was in one.items():
        for later, now in other.items():
            witness = space.example(was & now, hosts, hosts.by(*looks)) if verdict != later else None
            if witness is not None:
                yield Turn(verdict, later, witness)


def paired(before: Sequence[Row], after: Sequence[Row]) -> dict[str, str]:
    """Which rule was which, by their ids, new to old.

    The same words count first, wherever they stand, for a rule without a written id is counted; then the same id.
    """
    left = {row.id: row for row in before if row.verdict is not Verdict.NOTE}
    found: dict[str, str] = {}
    rounds: tuple[Callable[[Row], object], ...] = (lambda r: (r.id, meaning(r)), meaning, lambda r: r.id)
    # From the likeliest pair to the least likely; whoever has a partner takes no part in the next round.
    for key in rounds:
        waiting: dict[object, list[Row]] = {}
        for row in reversed(left.values()):
            waiting.setdefault(key(row), []).append(row)
        for row in after:
            alike = waiting.get(key(row)) if row.verdict is not Verdict.NOTE and row.id not in found else None
            if alike:
                found[row.id] = alike.pop().id
                del left[found[row.id]]
    return found


def meaning(row: Row) -> tuple[object, ...]:
    """What a rule does, whatever its id and its purpose."""
    return row.conditions, row.verdict, row.answer, row.translates, row.uplink, row.disabled


# places


def _of_places(before: Plan, after: Plan, comes: Comes | None) -> Iterator[PlaceEffect]:
    """The places of devices in both versions where other lists are asked, or where something else comes after them."""
    for name, device in after.network.devices.items():
        earlier = before.network.devices.get(name)
        if earlier is None or not (device.layer3 and earlier.layer3) or _stand_alike(earlier, device):
            continue
        old = {s.key: s.place for s in every_place(before.device(name))}
        pairs = [(standing, old[standing.key]) for standing in every_place(after.device(name)) if standing.key in old]
        changed = [(standing, was) for standing, was in pairs if not _alike(was, standing.place)]
        ground = _Ground(after, name, [place for standing, was in changed for place in (was, standing.place)], comes)
        # Pairs of interfaces in the same two zones are one place to whoever reads it.
        # The first of them brings the example.
        told: dict[object, PlaceEffect] = {}
        for effect in filter(None, (ground.effect(standing, was) for standing, was in changed)):
            told.setdefault((effect.where, effect.lists, effect.ends, effect.verdicts), effect)
        yield from told.values()


def _stand_alike(before: Device, after: Device) -> bool:
    """Whether the same lists stand at the same places, with the same settings: most devices of most changes."""
    parts = [(d.interfaces, d.gates, d.settings, d.kind, d.translate, d.uplinks) for d in (before, after)]
    return parts[0] == parts[1]


def _alike(before: Place, after: Place) -> bool:
    """Whether the same lists are asked and the same comes after; what is in a list of the network is told with the list."""
    if (_names(before), _after(before)) != (_names(after), _after(after)):
        return False
    tables = zip(before.consults, after.consults, strict=True)
    return all(one.table.rows == other.table.rows for one, other in tables if one.table.id.kind is not TableKind.LIST)


def _names(place: Place) -> tuple[str, ...]:
    """What is asked at a place."""
    return tuple(c.table.name for c in place.consults)


def _after(place: Place) -> str:
    """What happens when no rule decides, and the setting that says so."""
    setting = place.otherwise.id
    return f"{end_verdict(place).value} ({setting})" if setting else end_verdict(place).value


class _Ground:
    """The changed places of a device in one space of sets: a list is put into it once, however many places ask it."""

    def __init__(self, plan: Plan, device: str, places: Sequence[Place], comes: Comes | None = None) -> None:
        """Take the places; the sets are made when the first is asked about.

        Args:
            plan: the later version, for its hosts and its words.
            device: whose places they are.
            places: as they were and as they are.
            comes: walks an example.

        """
        self.plan = plan
        self.comes = comes
        self.device = device
        self._tables = {id(c.table): c.table for place in places for c in place.consults}
        self.room = 1

    @functools.cached_property
    def fates(self) -> _Fates:
        """What becomes of packets, with room for the rows of all lists."""
        return _Fates(Space([row for table in self._tables.values() for row in table.rows], _vocabulary(self.plan), self.room))

    @functools.cached_property
    def sides(self) -> Sides:
        """Who is behind which interface."""
        return Sides(self.plan.network, self.plan.device(self.device))

    def effect(self, standing: KnownPlace, before: Place) -> PlaceEffect | None:
        """What differs between two versions of a place; None where no packet gets another verdict."""
        after = standing.place
        # Sets may outgrow their room in any of these lines, and what is told then is that nothing can be said.
        told = (self.device, standing.words, (_names(before), _names(after)), (_after(before), _after(after)))
        hosts = self.sides.ends(standing.came, standing.goes)._replace(comes=self.comes)
        looks = [Look(earlier=e, device=self.device, came=standing.came, goes=standing.goes) for e in (True, False)]

        def turned(room: int) -> tuple[Turn, ...]:
            """The verdicts that change. What was made in a smaller room is made again."""
            if room > self.room:
                self.room = room
                del self.fates
            space = self.fates.space
            within = space.coming(standing.meets, standing.instead)
            return tuple(_turns(space, self.fates.of(before, within), self.fates.of(after, within), hosts, looks))

        try:
            turns = with_room(turned)
        except TooLarge:
            return PlaceEffect(*told, (), str(TooLarge("its exact sets need more memory than is given to them.")))
        return PlaceEffect(*told, turns) if turns else None


class _Fates:
    """What becomes of packets at places, in one space of sets."""

    def __init__(self, space: Space) -> None:
        self.space = space
        self._known: dict[tuple[Row, ...], dict[Verdict, Set]] = {}
        self._same: dict[int, tuple[Listed, dict[Verdict, Set]]] = {}

    def decided(self, table: Listed) -> dict[Verdict, Set]:
        """The packets that each verdict of a list is about, of those after which no further list is asked."""
        known = self._same.get(id(table))
        if known is None:
            rows = tuple(table.rows)
            if rows not in self._known:
                pairs = list(zip(rows, effective(self.space, rows), strict=True))
                self._known[rows] = {v: self.space.union(mine for row, mine in pairs if row.verdict is v) for v in _FINAL}
            known = self._same[id(table)] = table, self._known[rows]  # while it is there, no other has its id
        return known[1]

    def reaching(self, place: Place, name: str, left: Set) -> Set:
        """The packets that come to a list at a place: those that the lists before it leave undecided or hand on.

        Args:
            place: the lists.
            name: of the list.
            left: what comes to the place.

        """
        for consult in place.consults:
            if consult.table.name == name:
                break
            left = left & ~self.space.union(self.decided(consult.table).values())
        return left

    def of(self, place: Place, left: Set) -> dict[str, Set]:
        """The packets that get each verdict at a place: from the first list whose rule decides, or from what comes after.

        Args:
            place: the lists.
            left: what comes there at all.

        """
        # A list's own verdicts are the same wherever it stands; what comes to it is what the lists before it left.
        given: dict[str, list[Set]] = {}
        union = self.space.union
        for consult in place.consults:
            by_verdict = self.decided(consult.table)
            for verdict, mine in by_verdict.items():
                given.setdefault(verdict.value, []).append(mine & left)
            left = left & ~union(by_verdict.values())  # what is handed on, or not decided, goes on to the next list
        given.setdefault(end_verdict(place).value, []).append(left)
        return {verdict: union(some) for verdict, some in given.items()}


_FINAL = (Verdict.PERMIT, Verdict.DENY, Verdict.REJECT)
"""The verdicts after which no further list is asked."""
