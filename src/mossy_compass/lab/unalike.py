"""Where two versions of a network can do something otherwise, and to which packets: what is left need not be walked in both.

All of it is told from what is written and from routes: a superset, never a part.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import fields, is_dataclass, replace
from typing import NamedTuple

from mossy_compass.headers.sets import Set
from mossy_compass.lab.couldmeet import could_meet, given_by
from mossy_compass.lab.differences import unlike
from mossy_compass.lab.forms import Sets
from mossy_compass.model.network import Network, Verdict
from mossy_compass.packet.address import Spans
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.order import Stage
from mossy_compass.plan.places import end_verdict
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.lists import place_at
from mossy_compass.plan.stages.step import NOT_LET_IN
from mossy_compass.proof.effects import meaning
from mossy_compass.proof.ways import ways

_FELT_THERE = ("stateful", "policy-routes", "routes", "filter", "translate", "about")
"""Keys of a device that only itself feels, and where it translates those who hand packets to it; what routes do to others is compared."""


class Felt(NamedTuple):
    """What two versions can do otherwise.

    Attributes:
        alike: the devices at which every packet in every state is treated alike; none where that cannot be told.
        rows: rows of lists that are in one of the versions alone, or stand in another order; None where it is not only lists and
            routes that differ, so that any packet may feel it.
        to: destinations that go another way, or of which a route is written otherwise.
        plans: the versions.

    """

    alike: frozenset[str]
    rows: tuple[Row, ...] | None
    to: Spans
    plans: tuple[Plan, Plan]

    def packets(self, sets: Sets) -> Set:
        """The packets that could feel the difference, as they are sent.

        Args:
            sets: where conditions become sets.

        """
        if self.rows is None:
            return sets.space.possible
        given = given_by(*(plan.network for plan in self.plans))
        held = [could_meet(sets, row.conditions, given) for row in self.rows]
        held += [could_meet(sets, (Condition("to", (("destination", (span,)),)),), given) for span in self.to]
        return sets.space.union(held)


class _Apart(NamedTuple):
    """What two versions say otherwise, by kinds.

    Attributes:
        lists, words: lists, and groups and services.
        devices: at which something is written otherwise that is felt there.
        routes: those of them that have other static routes.
        places: device, interface and way of the places where other lists stand.
        only_these: nothing else is written otherwise at devices than these routes and places.

    """

    lists: set[str]
    words: set[str]
    devices: set[str]
    routes: set[str]
    places: set[tuple[str, str, str]]
    only_these: bool


def felt(before: Plan, after: Plan) -> Felt:
    """Where two versions differ.

    Args:
        before, after: the versions, in the weather that is meant.

    """
    plans = before, after
    routes, apart = ways(before, after), _apart(plans)
    if apart is None or routes.unknown or before.last_resorts != after.last_resorts:
        return Felt(frozenset(), None, (), plans)
    networks = [plan.network for plan in plans]
    words = with_those_that_say(networks, apart.words)
    lists = apart.lists | {n for network in networks for n, listed in network.lists.items() if _says_any(listed, words)}
    saying = {d.name for network in networks for d in network.devices.values() if _says_any(d, words)}
    readers = {name: _readers(before, name) | _readers(after, name) for name in lists}
    touched = {effect.device for effect in routes.found}.union(apart.devices, saying, *readers.values())
    alike = frozenset(after.network.devices) - touched - set(_beside(plans, touched))
    rows = _rows_felt(plans, apart, readers) if apart.only_these and not saying else None
    to = [effect.prefix.span for effect in routes.found]
    for name in sorted(apart.routes):  # a route that is not in use is named where nothing else leads there
        one, other = (network.devices[name].routes for network in networks)
        to += [route.prefix.span for route in (*one, *other) if route not in one or route not in other]
    return Felt(alike, rows, tuple(dict.fromkeys(to)), plans)


def _rows_felt(plans: tuple[Plan, Plan], apart: _Apart, readers: Mapping[str, set[str]]) -> tuple[Row, ...] | None:
    """The rows of lists of which one must be met for a packet to feel the difference; None where any packet may.

    Args:
        plans: the versions.
        apart: what they say otherwise.
        readers: the lists that are others, with the devices that have a word for them.

    """
    placed = [_rows_at(plans, *one) for one in sorted(apart.places)]
    # A list that is in one version alone, and asked there, is written at a device too: that is not only lists. One that has rules in
    # one version alone may leave a place without any, and what is so there is felt by every packet (setting empty-list).
    # The places where other lists stand are looked at by themselves.
    elsewhere = {name: {d for d in some if _says_elsewhere(plans, d, name, apart.places)} for name, some in readers.items()}
    emptied = any(len({bool(_read(plan, d, name)) for plan in plans}) > 1 for name, some in elsewhere.items() for d in some)
    if emptied or None in placed:
        return None
    found = [row for some in placed for row in some or ()]
    return (*found, *(row for name in sorted(elsewhere) for row in _rows(plans, name, elsewhere[name])))


def _apart(plans: tuple[Plan, Plan]) -> _Apart | None:
    """What two versions say otherwise; None where something does of which it is not known who feels it."""
    found = _Apart(set(), set(), set(), set(), set(), True)
    for one in unlike(plans[0].network, plans[1].network):
        section, name, *keys = (*one.place.split("/"), "")
        if section == "lists":
            found.lists.add(name)
        elif section in ("groups", "services"):
            found.words.add(name)
        elif section == "devices" and (key := _felt_key(keys)):
            found.devices.add(name)
            if key == "routes":
                found.routes.add(name)
            way = keys[3] if keys[:1] == ["interfaces"] and key == "filter" else ""
            if way in ("arriving", "leaving"):
                found.places.add((name, keys[1], way))
            found = found._replace(only_these=found.only_these and (key in ("routes", "about") or bool(way)))
        else:
            return None
    return found


def _felt_key(keys: Sequence[str]) -> str:
    """The key of a device that says otherwise; empty where it is not felt there alone."""
    key = keys[0] if keys else ""
    if key == "interfaces":  # what filters there is felt there, all else by neighbours too
        key = keys[2] if len(keys) > 2 else ""
        return key if key in ("filter", "stateful", "about") else ""
    return key if key in _FELT_THERE else ""


def _says_any(part: object, words: Iterable[str]) -> bool:
    """Whether one of some words stands anywhere in a part of the model."""
    return any(says(part, word) for word in words)


def with_those_that_say(networks: Iterable[Network], words: set[str]) -> set[str]:
    """Groups and services, and those that have them as members, whole or by others."""
    groups = [(name, part) for network in networks for some in (network.groups, network.services) for name, part in some.items()]
    while True:
        more = {name for name, part in groups if name not in words and any(says(part, word) for word in words)}
        if not more:
            return words
        words = words | more


def _says_elsewhere(plans: tuple[Plan, Plan], device: str, name: str, places: set[tuple[str, str, str]]) -> bool:
    """Whether a device has a word for a list anywhere but at some places."""
    for plan in plans:
        here = plan.network.devices.get(device)
        if here is None:
            continue
        rest = dict(here.interfaces)
        for _, port, way in (p for p in places if p[0] == device and p[1] in rest):
            rest[port] = replace(rest[port], arriving_lists=()) if way == "arriving" else replace(rest[port], leaving_lists=())
        if says(replace(here, interfaces=rest), name):
            return True
    return False


def _rows_at(plans: tuple[Plan, Plan], device: str, port: str, way: str) -> list[Row] | None:
    """The rows of which one must be met for a packet to feel that other lists stand at a place; None where any packet may.

    Who meets none of them is let pass in both versions, by a row or since nothing is asked, and nothing further on asks which.
    """
    found: list[Row] = []
    if not all(plan.network.devices[device].layer3 for plan in plans):
        return None
    for plan in plans:
        here = plan.device(device)
        place = place_at(here, port, way)
        rows = [row for consult in place.consults for row in consult.table.rows if _decides(row)]
        everybody = any(_only_permits(row) and not row.conditions for row in rows)
        if place.variants or place.asks_application or not (everybody or end_verdict(place) is Verdict.PERMIT):
            return None
        if _asked_who_was_let_in(here, port, way):
            return None
        found += [row for row in rows if not _only_permits(row)]
    return found


def _asked_who_was_let_in(here: DevicePlan, port: str, way: str) -> bool:
    """Whether a stage after a place of lists asks, of packets that come there, whether a row has let them in."""
    stage = Stage.ARRIVING_LIST if way == "arriving" else Stage.LEAVING_LIST
    for arriving in (port,) if way == "arriving" else (None, *here.device.interfaces):
        order = here.through if arriving is not None else here.origin
        after = order[order.index(stage) + 1 :] if stage in order else ()
        later = (table for step in here.steps(arriving) if step.stage in after for table in step.tables)
        if any(NOT_LET_IN in row.conditions for table in later for row in table.rows):
            return True
    return False


def _decides(row: Row) -> bool:
    """Whether a row is asked at all."""
    return not row.disabled and row.verdict is not Verdict.NOTE


def _only_permits(row: Row) -> bool:
    """Whether a row lets packets pass, and does nothing else for them."""
    return row.outcome == (Verdict.PERMIT, "") and not row.actions


def _rows(plans: tuple[Plan, Plan], name: str, readers: Iterable[str]) -> Iterator[Row]:
    """The rows of a list that are in one version alone, or stand in another order, as each device reads it."""
    for device in sorted(readers):
        was, now = ({meaning(row): row for row in _read(plan, device, name)} for plan in plans)
        yield from (row for what, row in (*was.items(), *now.items()) if what not in was or what not in now)
        if [what for what in was if what in now] != [what for what in now if what in was]:
            yield from was.values()


def _read(plan: Plan, device: str, name: str) -> Sequence[Row]:
    """The rows of a list as a device reads it; none where it has no such list."""
    here = plan.network.devices.get(device)
    return plan.device(device).read_list(name).rows if here is not None and here.layer3 and name in plan.network.lists else ()


def _readers(plan: Plan, name: str) -> set[str]:
    """The devices that have a word for a list anywhere, for whatever."""
    return {device.name for device in plan.network.devices.values() if says(device, name)}


def says(part: object, name: str) -> bool:
    """Whether a name stands anywhere in a part of the model, as a whole word of it."""
    if isinstance(part, str):
        return part == name
    if isinstance(part, Mapping):
        return any(says(key, name) or says(value, name) for key, value in part.items())
    if isinstance(part, tuple | frozenset | list):
        return any(says(value, name) for value in part)
    return is_dataclass(part) and any(says(getattr(part, f.name), name) for f in fields(part))


def _beside(plans: tuple[Plan, Plan], touched: set[str]) -> Iterator[str]:
    """Those on a segment with a device that translates, in either version: it may answer there for addresses of others."""
    for plan in plans:
        for segment in plan.network.segments.values():
            members = {name for name, _ in segment.members}
            if any(plan.network.devices[m].translate for m in members & touched):
                yield from members
