"""Hosts that a network treats in one way: what was walked from or to one of them says how the same test fares with its fellows.

Two hosts are fellows when the network with both of them exchanged is the same network: alike but for name and address, on
one segment, named by nobody, and in the same of all blocks of addresses that are written anywhere. What a walk says then holds
with one in the other's place, reasons and places too. The exceptions are looked for in every walk: a choice by hash, of one of
several equal ways or addresses; and a reason that speaks of a host without a value of its own.
"""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from collections import Counter
from collections.abc import Hashable, Iterable, Iterator, Mapping, Sequence
from dataclasses import fields, is_dataclass, replace
from functools import reduce
from operator import or_
from typing import Any, Generic, NamedTuple, TypeVar

from mossy_compass.marks import NOWHERE, Mark
from mossy_compass.model.network import Device, Kind, Network
from mossy_compass.packet.address import LAST_KEY, Address, Masked, Prefix, Span, from_key
from mossy_compass.plan.actions import Allocate, Rewrite
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because
from mossy_compass.walk.journey import Journey, Ruling

T = TypeVar("T")


def fellows(network: Network) -> dict[str, tuple[str, ...]]:
    """The hosts that have fellows, each with all of them and itself, in the order of the file.

    Args:
        network: the network.

    """
    written, owners = _Named(network), network.owners()
    kinds: dict[Hashable, list[tuple[tuple[Device, list[object]], list[str]]]] = {}
    for device in network.devices.values():
        key = _kind(device, written, owners)
        if key is None:
            continue
        # Settings and mappings have no hash, so the rest of a device is compared with those that have come so far.
        rest, kind = _without_itself(device), kinds.setdefault(key, [])
        names = next((names for other, names in kind if other == rest), None)
        if names is None:
            kind.append((rest, names := []))
        names.append(device.name)
    every = [tuple(names) for kind in kinds.values() for _, names in kind]
    return {name: names for names in every if len(names) > 1 for name in names}


def _kind(device: Device, written: _Named, owners: Mapping[Address, tuple[str, ...]]) -> Hashable:
    """Where a host is, and what is written about its addresses; None for a device that can have no fellows."""
    if device.kind is not Kind.HOST or len(device.interfaces) != 1 or device.name in written.values:
        return None
    (port,) = device.interfaces.values()
    segment = written.segments.get((device.name, port.name))
    own = [a.address for a in port.addresses]
    if segment is None or not own or any(a in written.values or len(owners[a]) > 1 for a in own):
        return None
    return segment, tuple((a.prefix, *written.around(a.address)) for a in port.addresses)


def _without_itself(device: Device) -> tuple[Device, list[object]]:
    """A host without its name, its addresses, and what is told about it; with what is written and what follows from a default."""
    (port,) = device.interfaces.values()
    bare = replace(device, name="", about="", interfaces={port.name: replace(port, addresses=(), about="")})
    return bare, [bool(value.line) if isinstance(value, Mark) else value for value in _every(bare)]


class _Named:
    """What is written in a network, but for who is plugged in where and which addresses interfaces have.

    Attributes:
        values: every word and every single address.
        segments: the segment that each port is plugged into.

    """

    def __init__(self, network: Network) -> None:
        self.values: set[object] = set()
        self.segments = {member: s.name for s in network.segments.values() for member in s.members}
        self._runs: set[Span] = set()
        self._masks: set[Masked] = set()
        bare = {name: replace(s, members=()) for name, s in network.segments.items()}
        devices = {str(number): self._device(device) for number, device in enumerate(network.devices.values())}
        self._read(replace(network, segments=bare, devices=devices))
        self._around = self._told_apart(sorted(a.key for d in network.devices.values() for a, _ in d.own_addresses()))

    def _device(self, device: Device) -> Device:
        """A device without its own name; the subnets of its interfaces are read at once, and their addresses are left out."""
        for port in device.interfaces.values():
            for address in port.addresses:
                self._span(address.prefix.span)
        ports = {name: replace(port, addresses=()) for name, port in device.interfaces.items()}
        return replace(device, name="", interfaces=ports)

    def _span(self, span: Span) -> None:
        """A run of addresses, or of something else that is counted."""
        if span.first < span.last:
            self._runs.add(span)
        elif 0 <= span.first <= LAST_KEY:
            self.values.add(from_key(span.first))

    def _read(self, network: Network) -> None:
        """Whatever stands in a network, at any depth."""
        for value in _every(network):
            if isinstance(value, Span):
                self._span(value)
            elif isinstance(value, Prefix):
                self._span(value.span)
            elif isinstance(value, Masked):
                self._masks.add(value)
            elif isinstance(value, str | Address):
                self.values.add(value)

    def _told_apart(self, keys: list[int]) -> dict[int, int]:
        """Of some sorted addresses, the runs and masks that hold each, as bits of a number."""
        begins, held, around = [0] * (len(keys) + 1), 0, {}
        for number, run in enumerate(self._runs):
            for edge in (bisect_left(keys, run.first), bisect_right(keys, run.last)):
                begins[edge] ^= 1 << number
        for place, key in enumerate(keys):
            held ^= begins[place]
            masks = sum(mask.holds(key) << number for number, mask in enumerate(self._masks))
            around[key] = held | masks << len(self._runs)
        return around

    def around(self, address: Address) -> tuple[object, ...]:
        """Which of the written runs and masks, and of those that the standards set apart, hold an address of a device."""
        return self._around[address.key], address.is_private, address.is_link_local, address.special


def _every(value: object) -> Iterator[object]:
    """Every word, address, run of addresses and place in a value, at any depth."""
    if isinstance(value, str | Address | Prefix | Span | Masked | Mark):
        yield value
    elif isinstance(value, Mapping):
        for entry in value.items():
            yield from _every(entry)
    elif is_dataclass(value):
        for field in fields(value):
            yield from _every(getattr(value, field.name))
    elif isinstance(value, Iterable):
        for part in value:
            yield from _every(part)


class Renaming:
    """Some hosts by their fellows' names: what was said of the ones, said of the others.

    Attributes:
        names: of each host the fellow that stands for it.

    """

    def __init__(self, names: Mapping[str, str], values: Mapping[object, object]) -> None:
        self.names = names
        self._values = values

    def __or__(self, other: Renaming) -> Renaming:
        return Renaming({**self.names, **other.names}, {**self._values, **other._values})

    def because(self, because: Because) -> Because:
        """A reason."""
        return because._replace(values=self.value(because.values), mark=self.value(because.mark))

    def changes(self, *reasons: Because) -> bool:
        """Whether any of some reasons is another one by these names."""
        return any((self.because(b), self.value(b.mark)) != (b, b.mark) for b in reasons)

    def value(self, value: Any) -> Any:
        """A name, an address, a place, or whatever holds them."""
        if isinstance(value, str | Address | Mark):
            return self._values.get(value, value)
        if isinstance(value, Because):
            return self.because(value)
        if isinstance(value, tuple):
            parts = map(self.value, value)
            return value._make(parts) if hasattr(value, "_make") else tuple(parts)
        return value


class _Fellow:
    """What a host is called by.

    Args:
        host: the device.

    """

    def __init__(self, host: Device) -> None:
        self.name = host.name
        self.addresses = [address for address, _ in host.own_addresses()]
        # In an order that is the same for its fellows, as the same is written of them.
        self.places = [value for value in _every(host) if isinstance(value, Mark) and value.line]
        words = "|".join(rf"(?<!\w){re.escape(name)}(?!\w)" for name in (host.name, *map(str, self.addresses)))
        self.in_words = re.compile(words)

    def by_name_of(self, other: _Fellow) -> Renaming:
        """It by the name of a fellow: its addresses too, and the places where it is written."""
        addresses = zip(self.addresses, other.addresses, strict=True)
        places = zip(self.places, other.places, strict=True)
        return Renaming({self.name: other.name}, {self.name: other.name, **dict(addresses), **dict(places)})

    def by_no_name(self) -> Renaming:
        """It by names that nobody has."""
        names: dict[object, object] = {**dict.fromkeys(self.addresses, Address(4, 0)), **dict.fromkeys(self.places, NOWHERE)}
        return Renaming({self.name: ""}, {self.name: "", **names})


class SingleTest(NamedTuple):
    """A packet that is sent, with what comes of it.

    Attributes:
        sender, target, service: as they were asked for.

    """

    sender: str
    target: str
    service: str


class FellowTests(Generic[T]):
    """Tests that were walked, and what was made of each, for the fellows of those between whom it went.

    Args:
        plan: the network, in the weather of the tests.

    """

    def __init__(self, plan: Plan) -> None:
        self._fellows = fellows(plan.network)
        self._hosts = {name: _Fellow(plan.network.devices[name]) for name in self._fellows}
        # Hosts that a program made in one line of its own have one place, which says nothing of which of them is meant.
        devices = plan.network.devices.values() if self._fellows else ()
        places = Counter(place for d in devices for place in {v for v in _every(d) if isinstance(v, Mark)})
        self._shared = Renaming({}, {place: NOWHERE for place, number in places.items() if number > 1})
        self._held: dict[SingleTest, _OfFellows[T]] = {}
        self._renamings: dict[tuple[str, str], Renaming] = {}

    def _kind(self, test: SingleTest) -> SingleTest:
        """What a test has in common with those between fellows of its ends."""
        sender, target = (self._fellows.get(name, (name,))[0] for name in test[:2])
        return SingleTest(sender, target, test.service)

    def keep(self, test: SingleTest, journey: Journey, made: T) -> None:
        """Keep what came of a test, if it is so of all between fellows of its ends, and if nothing is known of them.

        Args:
            test: which.
            journey: what came of it.
            made: what was made of it.

        """
        ends = [name for name in test[:2] if name in self._fellows]
        kind = self._kind(test)
        if not ends or kind in self._held:
            return
        # Ends by names that nobody has: what a reason says of them otherwise is not said by a value.
        nobody = reduce(or_, (self._hosts[name].by_no_name() for name in ends))
        if self._is_of_all(ends, journey, nobody):
            asked = None if test.target in ends else journey.target_owner
            self._held[kind] = _OfFellows(test, asked, made, nobody.changes(journey.because, journey.culprit))

    def _is_of_all(self, ends: Sequence[str], journey: Journey, nobody: Renaming) -> bool:
        """Whether a test fares so between all fellows of its ends.

        Not where a device chose by a hash of the packet, which differs from sender to sender, as the port of an outer packet
        does; nor where a reason names an end in another way than by a value of its own.
        """
        hops = [hop for leg in journey.every_leg for hop in leg.hops]
        if journey.target_owner == journey.sender:  # by an address of its own, which for its fellows is somebody else's
            return False
        if journey.onward is not None or any(hop.within for hop in hops):
            return False
        if any(_by_hash(ruling) for hop in hops for ruling in hop.rulings):
            return False
        reasons = journey.because, journey.culprit
        if self._shared.changes(*reasons):
            return False
        told = " ".join(nobody.because(b).words for b in reasons)
        return not any(self._hosts[name].in_words.search(told) for name in ends)

    def told(self, test: SingleTest) -> tuple[T, Renaming, bool] | None:
        """What was made of a test between fellows, by whose names it is that of this one, and whether a reason has one of them.

        None where it must be walked.

        Args:
            test: which.

        """
        held = self._held.get(self._kind(test))
        # An address may be a fellow's own. Nobody else is met on the way, as whoever hands packets on is named, by a route or a gateway.
        if held is None or test.sender in (test.target, held.asked):
            return None
        return held.made, self._renaming(held.test, test), held.names_ends

    def _renaming(self, one: SingleTest, other: SingleTest) -> Renaming:
        """The names of another test's ends for those of one."""
        parts = []
        for pair in zip(one[:2], other[:2], strict=True):
            if pair[0] in self._fellows:
                if pair not in self._renamings:
                    self._renamings[pair] = self._hosts[pair[0]].by_name_of(self._hosts[pair[1]])
                parts.append(self._renamings[pair])
        return parts[0] if len(parts) == 1 else parts[0] | parts[1]


class _OfFellows(NamedTuple, Generic[T]):
    """A test that was walked.

    Attributes:
        test: which.
        asked: who was asked by an address; None for nobody.
        made: what was made of the journey.
        names_ends: a reason names an end, or a place where it is written.

    """

    test: SingleTest
    asked: str | None
    made: T
    names_ends: bool


def _by_hash(ruling: Ruling) -> bool:
    """Whether a ruling chose by a hash of the packet, or gave what lies at some distance from what it had."""
    return len(ruling.ways) > 1 or any(
        (isinstance(a, Allocate) and sum(s.last - s.first + 1 for s in a.pool) > 1)
        or (isinstance(a, Rewrite) and bool(a.servers or a.shift))
        for a in ruling.decision.actions
    )
