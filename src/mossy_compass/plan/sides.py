"""Whether a list stands where what its rules are about passes: their sources arrive there, or their destinations leave there.

It is asked for a finding about a file, and for a packet that a list stopped although it was written for others.
"""

from __future__ import annotations

from typing import NamedTuple

from mossy_compass.errors import NotConverged
from mossy_compass.headers.spans import intersect, merge
from mossy_compass.marks import NOWHERE, Mark
from mossy_compass.model.network import AccessList
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import Spans, from_key
from mossy_compass.plan.device import DevicePlan

_MOST_LOOKED_AT = 20
"""So many runs of addresses of a rule are looked up: more than a person writes."""


class WrongSide(NamedTuple):
    """That nothing of what a list's rules are about passes where it stands.

    Attributes:
        whose: ``sources`` or ``destinations`` of its rules.
        behind: the interface that they live behind.
        instead: the places where they would be compared, as (arriving or leaving, interface).
        mark: where the list is attached.

    """

    whose: str
    behind: str
    instead: tuple[tuple[str, str], ...]
    mark: Mark = NOWHERE


def wrong_side(here: DevicePlan, source: AccessList, where: str, way: str) -> WrongSide | None:
    """Whether a list at an interface is on the wrong side; None where that cannot be said.

    Args:
        here: the device.
        source: the list, as written.
        where, way: the interface, and ``arriving`` or ``leaving``.

    """
    if way not in ("arriving", "leaving"):
        return None
    asked = [spans for r in source.rules if not r.disabled and (spans := written(r.sources)) is not None]
    # where sources are said, they decide which side was meant
    found = _by_sources(here, asked, where, way) if asked else _by_destinations(here, source, where, way)
    interface = here.device.interfaces[where]
    mark = interface.arriving_mark if way == "arriving" else interface.leaving_mark
    return found._replace(mark=mark) if found is not None else None


def _by_sources(here: DevicePlan, asked: list[Spans], where: str, way: str) -> WrongSide | None:
    """Sources that all live behind another interface than the one they should arrive by; or behind the one that they should leave by."""
    ports = [port_towards(here, spans) for spans in asked]
    if not all(ports):
        return None
    if way == "arriving" and where not in ports:
        return WrongSide("sources", ports[0], (("arriving", ports[0]), ("leaving", where)))
    if way == "leaving" and set(ports) == {where}:
        return WrongSide("sources", where, (("arriving", where),))
    return None


def _by_destinations(here: DevicePlan, source: AccessList, where: str, way: str) -> WrongSide | None:
    """Destinations that never leave, or never arrive, where the list stands."""
    behind: list[str] = []
    for rule in source.rules:
        if rule.disabled:
            continue
        spans = written(rule.destinations)
        if spans is None:
            if rule.destinations is None and rule.sources is None and rule.protocol is None:
                continue  # a last word on the rest says nothing of sides
            return None
        port = port_towards(here, spans)
        if not port or intersect(spans, _taken(here)):
            return None
        behind.append(port)
    if behind and way == "leaving" and where not in behind:
        return WrongSide("destinations", behind[0], (("arriving", where), ("leaving", behind[0])))
    if behind and way == "arriving" and set(behind) == {where}:
        return WrongSide("destinations", where, (("leaving", where),))
    return None


def _taken(here: DevicePlan) -> Spans:
    """The addresses that do not go on as they are: the device's own, and those that it sends on to somebody else."""
    sent_on = (s for t in here.device.translate if not t.of_source for term in t.destinations or () for s in term.spans or ())
    return merge((*here.own_spans, *sent_on))


def written(terms: tuple[Term, ...] | None) -> Spans | None:
    """The addresses that a condition names; None for none, for any, and for what only a device or a lease can tell."""
    if not terms or any(t.words in ("any", "outside", "local-networks") or t.spans is None or t.leased or t.masked for t in terms):
        return None
    return merge(s for t in terms for s in t.spans or ()) or None


def port_towards(here: DevicePlan, spans: Spans) -> str:
    """The one interface that all of some addresses are reached by; empty where there are several, or none."""
    try:
        table = here.table
    except NotConverged:
        return ""
    ports: set[str] = set()
    for span in spans[:_MOST_LOOKED_AT]:
        route = table.lookup(from_key(span.first))
        if route is None or route.prefix.is_default or not route.hops:
            return ""
        ports |= {h.interface for h in route.hops}
    return ports.pop() if len(ports) == 1 else ""
