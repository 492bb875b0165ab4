"""Which destinations of packets can come past some devices, as routes lead: told without a walk, for all destinations at once.

It is a superset, of first conversations: no device knows anything of earlier ones. A device that may give a packet another end than
it has, or another way than routes lead, is taken for one that is meant: what becomes of packets behind it is not asked.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Collection, Iterable, Iterator

from mossy_compass.headers.spans import intersect, merge
from mossy_compass.packet.address import EVERYTHING, LAST_KEY, Address, Spans
from mossy_compass.plan.actions import PASS
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.routes import policy


class Passing:
    """Where packets can come past the devices that are meant."""

    def __init__(self, plan: Plan, meant: Collection[str]) -> None:
        """Take the network apart.

        Args:
            plan: the network.
            meant: names of the devices.

        """
        names = {d.name for d in plan.network.devices.values() if d.layer3}
        # Of nobody and of everybody there is nothing to find out. A switch has no routes: what passes it is not known here.
        self._always: Spans | None = None if meant else ()
        if names.issubset(meant) or not names.issuperset(meant):
            self._always = EVERYTHING
        if self._always is not None:
            return
        here = {name: plan.device(name) for name in plan.network.devices if name in names}
        self._into: dict[str, list[tuple[str, Spans]]] = {name: [] for name in here}
        for name, one in here.items():
            for neighbour, to in _handed(one):
                self._into[neighbour].append((name, to))
        turning = {name: _turning(one) for name, one in here.items()}
        self._ends = {name: spans for name, spans in turning.items() if spans} | dict.fromkeys(meant, EVERYTHING)
        self._forth = self._past(())
        self._both: dict[frozenset[str], dict[str, Spans]] = {frozenset(): self._forth}

    def sent_by(self, device: str, addresses: Iterable[Address]) -> Spans:
        """The destinations of packets that can come past the devices: on their way, or by an answer to them or an error about them.

        Args:
            device: who sends them.
            addresses: by which addresses.

        """
        if self._always is not None:
            return self._always
        own = [a.key for a in addresses]
        # Whoever answers, or tells of an error, stands on the way there.
        homeward = frozenset(name for name, spans in self._forth.items() if any(_among(key, spans) for key in own))
        if device in homeward:  # it is what the search below would begin with
            return EVERYTHING
        if homeward not in self._both:
            self._both[homeward] = self._past(homeward)
        return self._both[homeward].get(device, ())

    def _past(self, more: Iterable[str]) -> dict[str, Spans]:
        """By device the destinations of what it sends on and that comes past one that is meant, or one of some more."""
        found = self._ends | dict.fromkeys(more, EVERYTHING)
        queue = dict.fromkeys(found)
        while queue:
            name = next(iter(queue))
            del queue[name]
            for before, to in self._into.get(name, ()):
                had = found.get(before, ())
                has = merge((*had, *intersect(to, found[name])))
                if has != had:
                    found[before] = has
                    queue[before] = None
        return found


def _among(key: int, spans: Spans) -> bool:
    """Whether a place is in one of the runs, of which there may be very many."""
    before = bisect_right(spans, (key, LAST_KEY)) - 1
    return before >= 0 and spans[before].last >= key


def _handed(here: DevicePlan) -> Iterator[tuple[str, Spans]]:
    """To which neighbour routes make a device hand what, by its destination; into tunnels nothing, which are turnings of their own."""
    for hops, to in here.table.by_way():
        for hop in hops:
            domain = here.domains.of(here.name, hop.interface)
            if domain is None or here.device.interfaces[hop.interface].tunnel is not None:
                continue
            if hop.address is not None:
                first = next((a.device for a in here.domains.answers(domain, hop.address) if a.device != here.name), None)
                if first is not None:
                    yield first, to
                continue
            for neighbour, port in domain.members:
                mine = intersect(to, here.domains.answered(domain, here.name, (neighbour, port)))
                if mine:
                    yield neighbour, mine


def _turning(here: DevicePlan) -> Spans:
    """The destinations of packets to which a device may give another end, or another way than routes lead."""
    if any(port.tunnel is not None or policy(here, name) is not None for name, port in here.device.interfaces.items()):
        return EVERYTHING
    rows = [row for table in here.translations.values() for row in table.rows if not row.disabled]
    return merge(span for row in rows for span in _turned(here, row))


def _turned(here: DevicePlan, row: Row) -> Spans:
    """The destinations of packets that a row may translate, by where they go and by which interface."""
    to = EVERYTHING
    if row.actions == PASS:
        return ()
    for condition in row.conditions:
        if condition.fields == ("front",):  # a row about destinations has matched, and is looked at itself
            return ()
        if set(condition.fields) == {"destination"}:
            to = intersect(to, merge(span for _, values in condition.parts for span in values))
        elif set(condition.fields) == {"leaving"}:
            ports = {port for _, values in condition.parts for port in values}
            by = (spans for hops, spans in here.table.by_way() if any(hop.interface in ports for hop in hops))
            to = intersect(to, merge(span for spans in by for span in spans))
    return to
