"""What a change of rules does to packets, exactly: which rules decide more or less than before, and which verdicts change.

Two readings of a list are put into one space of sets, so that the difference between them is a set too: empty, or with an
example in it. Nothing is sampled; a change that no test notices is found all the same.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from mossy_compass.errors import TooLarge
from mossy_compass.headers.sets import Set, bounded
from mossy_compass.model.check import attached
from mossy_compass.model.network import Kind, Network, Verdict
from mossy_compass.model.settings import EndOfList
from mossy_compass.packet.address import Address
from mossy_compass.plan.conditions import Reader
from mossy_compass.plan.exact import Space, Vocabulary, effective
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.rows import Row
from mossy_compass.plan.table import Table, list_table

END = "end-of-list"


class RowEffect(NamedTuple):
    """A rule that decides other packets than before.

    Attributes:
        row: its id; ``end-of-list`` for what no rule decides.
        grew: a packet that it decides now and did not; None where there is none.
        shrank: one that it decided and does not any more.
        state: ``new``, ``gone``, or nothing.

    """

    row: str
    grew: Facts | None
    shrank: Facts | None
    state: str


class Turn(NamedTuple):
    """Packets whose verdict changes.

    Attributes:
        before, after: verdicts, or ``end-of-list`` with what that does.
        witness: one of them.

    """

    before: str
    after: str
    witness: Facts


class ListEffect(NamedTuple):
    """What a change does to a list, as one device reads it.

    Attributes:
        name: of the list.
        devices: that read it so; empty for a list that stands nowhere.
        rows: the rules that decide other packets, in the order of the new list.
        turns: the verdicts that change.
        unknown: why nothing can be said; empty where it can.

    """

    name: str
    devices: tuple[str, ...]
    rows: tuple[RowEffect, ...]
    turns: tuple[Turn, ...]
    unknown: str = ""


def effects(before: Plan, after: Plan) -> list[ListEffect]:
    """What a change of rules does, list by list; a list that one of the two does not have is compared with an empty one.

    Args:
        before, after: the network, as it was and as it would be.

    """
    renamed = dict(_renamed(before.network, after.network))
    names = dict.fromkeys([*(renamed.get(n, n) for n in before.network.lists), *after.network.lists])
    back = {new: old for old, new in renamed.items()}
    out: list[ListEffect] = []
    for name in names:
        old = back.get(name, name)
        readings: dict[tuple[tuple[Row, ...], tuple[Row, ...], Verdict], list[str]] = {}
        for device in _readers(before, old) | _readers(after, name) or {""}:
            key = (_read(before, old, device).rows, _read(after, name, device).rows, _end(after, device))
            readings.setdefault(key, []).append(device)
        for (one, other, end), devices in readings.items():
            found = _compare(name, one, other, end, after, tuple(d for d in devices if d))
            if found is not None:
                out.append(found)
    return out


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
    return {device for device, _, _ in attached(plan.network).get(name, ()) if device in plan.network.devices}


def _read(plan: Plan, name: str, device: str) -> Table:
    """A list as a device reads it; an empty one where there is none."""
    source = plan.network.lists.get(name)
    if source is None:
        return Table(f"list {name}", ())
    if device in plan.network.devices:
        return plan.device(device).read_list(name)
    return list_table(source, Reader(names=None))


def _end(plan: Plan, device: str) -> Verdict:
    """What the end of a list does at a device."""
    found = plan.network.devices.get(device)
    return Verdict.PERMIT if found is not None and found.settings.end_of_list is EndOfList.PERMIT else Verdict.DENY


def _compare(
    name: str, before: tuple[Row, ...], after: tuple[Row, ...], end: Verdict, plan: Plan, devices: tuple[str, ...]
) -> ListEffect | None:
    """What differs between two readings of a list; None where nothing does."""
    if before == after:
        return None
    hosts = [a for d in plan.network.devices.values() if d.kind is Kind.HOST for a, _ in d.own_addresses()]
    vocabulary = Vocabulary(plan.network.hours, plan.network.applications)
    try:
        rows, turns = _difference(before, after, end, Space((*before, *after), vocabulary), hosts[:200])
    except BaseException as error:
        if not bounded(error):
            raise
        return ListEffect(name, devices, (), (), str(TooLarge("its exact sets need more memory than is given to them.")))
    return ListEffect(name, devices, rows, turns) if rows or turns else None


def _decided(space: Space, rows: Sequence[Row]) -> dict[str, Set]:
    """What each rule decides, by its id, and what none does."""
    held = {row.id: mine for row, mine in zip(rows, effective(space, rows), strict=True) if row.verdict is not Verdict.NOTE}
    rest = space.possible
    for mine in held.values():
        rest = rest & ~mine
    return {**held, END: rest}


def _difference(
    before: Sequence[Row], after: Sequence[Row], end: Verdict, space: Space, hosts: Sequence[Address]
) -> tuple[tuple[RowEffect, ...], tuple[Turn, ...]]:
    """The rules that decide other packets, and the verdicts that change."""
    old, new = _decided(space, before), _decided(space, after)
    nothing = space.possible & ~space.possible
    rows = []
    for ident in dict.fromkeys((*new, *old)):
        was, now = old.get(ident, nothing), new.get(ident, nothing)
        grew, shrank = space.witness(now & ~was, hosts), space.witness(was & ~now, hosts)
        if grew is not None or shrank is not None:
            state = "new" if ident not in old else "gone" if ident not in new else ""
            rows.append(RowEffect(ident, grew, shrank, state))
    turns = []
    one, other = _by_verdict(before, old, end), _by_verdict(after, new, end)
    for verdict, was in one.items():
        for later, now in other.items():
            witness = space.witness(was & now, hosts) if verdict != later else None
            if witness is not None:
                turns.append(Turn(verdict, later, witness))
    return tuple(rows), tuple(turns)


def _by_verdict(rows: Sequence[Row], decided: dict[str, Set], end: Verdict) -> dict[str, Set]:
    """The packets that get each verdict; what no rule decides gets that of the end."""
    out: dict[str, Set] = {end.value: decided[END]}
    for row in rows:
        if row.verdict is None or row.id not in decided:
            continue
        word = row.verdict.value
        out[word] = out[word] | decided[row.id] if word in out else decided[row.id]
    return out
