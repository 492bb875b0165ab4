"""Every place of a device where lists may stand, and every table that it asks: the catalogue that views and findings go through."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from enum import StrEnum
from typing import NamedTuple

from mossy_compass.model.check import standing_lists
from mossy_compass.model.network import Verdict
from mossy_compass.plan.actions import Listed, Stop
from mossy_compass.plan.builtin import FROM_SELF, TO_SELF, built_in_table
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.reasons import Fate
from mossy_compass.plan.stages.crossings import (
    crossing_place,
    from_self_place,
    front_place,
    offers_table,
    pair_words,
    to_self_place,
)
from mossy_compass.plan.stages.lists import Place, lists_of, place_at
from mossy_compass.plan.stages.routes import policy_rows
from mossy_compass.plan.table import Table


def written_tables(here: DevicePlan) -> Iterator[Table]:
    """Every table of a device with rows to tell of, in the order in which views show them."""
    device = here.device
    yield from (
        here.read_list(n) for n in dict.fromkeys(n for names, _, _ in standing_lists(device) for n in names) if here.has_list(n)
    )
    if device.translate:
        yield from here.translations.values()
    if device.policy_routes:
        yield policy_rows(here)
    yield from (t for p in device.interfaces if (t := offers_table(here, p)) is not None)
    yield from (built_in_table(here, place) for place in (TO_SELF, FROM_SELF))


class Where(StrEnum):
    """Kinds of places."""

    ARRIVING = "arriving"
    PROFILE = "profile"
    LEAVING = "leaving"
    CROSSING = "crossing"
    TO_SELF = "to-self"
    FROM_SELF = "from-self"
    FRONT = "front"


class KnownPlace(NamedTuple):
    """A place of a device.

    Attributes:
        where: its kind.
        words: what people call it; pairs of interfaces by their zones.
        place: the lists there.
        came, goes: the interfaces that packets come by, and go out of; empty where any.
        meets: what is true of every packet that comes to it.
        name: of the profile or front.
        instead: conditions of the packets that another profile takes before they come here, one group for each.

    """

    where: Where
    words: str
    place: Place
    came: tuple[str, ...] = ()
    goes: tuple[str, ...] = ()
    meets: tuple[Condition, ...] = ()
    name: str = ""
    instead: tuple[tuple[Condition, ...], ...] = ()

    @property
    def key(self) -> tuple[object, ...]:
        """What tells it from every other place of the device, whatever zones are called."""
        return self.where, self.came, self.goes, self.name


def every_place(here: DevicePlan) -> Iterator[KnownPlace]:
    """Every place of a device where lists may stand: interfaces, crossings, the device itself, fronts."""
    # Nothing arrives or leaves by a loopback: its address is met by way of another interface.
    ports = [p.name for p in here.device.interfaces.values() if not p.loopback]
    for port in ports:
        place, came, left = place_at(here, port, "arriving"), (_by("arriving", port),), (_by("leaving", port),)
        taken = tuple(v.members for v in place.variants)
        yield KnownPlace(Where.ARRIVING, f"{port} arriving", place, (port,), (), came, instead=taken)
        for number, variant in enumerate(place.variants):
            own, words = Place(variant.consults, variant.otherwise), f"{port} arriving, profile {variant.name}"
            yield KnownPlace(Where.PROFILE, words, own, (port,), (), (*came, *variant.members), variant.name, taken[:number])
        yield KnownPlace(Where.LEAVING, f"{port} leaving", place_at(here, port, "leaving"), (), (port,), left)
    for port, into in itertools.permutations(ports, 2):
        both = (_by("arriving", port), _by("leaving", into))
        yield KnownPlace(Where.CROSSING, pair_words(here, port, into), crossing_place(here, port, into), (port,), (into,), both)
    for port in ports:
        to_own = (_by("arriving", port), Condition("to", (("destination", here.own_spans),)))
        yield KnownPlace(Where.TO_SELF, f"{port} to itself", to_self_place(here, port), (port,), (), to_own)
    from_own = (Condition("from", (("source", here.own_spans),)),)
    yield KnownPlace(Where.FROM_SELF, "of itself", from_self_place(here), (), (), from_own)
    for rule in here.device.translate:
        if lists_of(here, rule.lists):
            yield KnownPlace(Where.FRONT, f"front {rule.id}", front_place(here, rule), name=rule.id)


class Followed(NamedTuple):
    """What is asked around a list at one place.

    Attributes:
        below: the lists that are asked next, in order.
        end: what happens where none of them decides.
        above: the lists that are asked before it, in order.

    """

    below: tuple[Listed, ...]
    end: Verdict
    above: tuple[Listed, ...] = ()


def followed(here: DevicePlan, table: Listed) -> tuple[Followed, ...]:
    """What is asked around a list, at every place of a device where it is asked; the same only once."""
    found = {
        (n, *(c.table.id for c in place.consults), end): Followed(
            tuple(c.table for c in place.consults[n + 1 :]), end, tuple(c.table for c in place.consults[:n])
        )
        for place, end in here.once("places", lambda: tuple((s.place, end_verdict(s.place)) for s in every_place(here)))
        for n, consult in enumerate(place.consults)
        if consult.table.id == table.id
    }
    return tuple(found.values())


def end_verdict(place: Place) -> Verdict:
    """The verdict for what no rule of a place decides."""
    decision = place.otherwise.decision
    stop = next((a for a in decision.actions if isinstance(a, Stop)), None) if decision is not None else None
    if stop is None:
        return Verdict.PERMIT
    return Verdict.REJECT if stop.fate is Fate.REJECTED else Verdict.DENY


def sides(here: DevicePlan, where: str, way: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The interfaces that packets come by, and go out of, where a list is attached; empty where any.

    Args:
        here: the device.
        where, way: as ``standing_lists`` tells them.

    """
    if way in ("arriving", "leaving"):
        return ((where,), ()) if way == "arriving" else ((), (where,))
    crossing = next((c for c in here.device.gates.crossings if way == "crossing" and c.words == where), None)
    if crossing is None:
        return (), ()
    known = here.reader.ports
    return tuple(known.get(crossing.origin, ())), tuple(known.get(crossing.into, ()))


def _by(field: str, port: str) -> Condition:
    """That a packet comes or goes by an interface."""
    return Condition(field, ((field, frozenset((port,))),))
