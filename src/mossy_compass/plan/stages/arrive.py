"""The plain checks: may this source arrive here, may the device pass it on, has it hops left.

Of these three the time to live is asked last, once the route is known, and the source
first: an implausible source must not even be answered. Checks that are off for a device, or
idle at an interface, compile to nothing.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from mossy_compass.model.network import RouteAction
from mossy_compass.model.settings import SourceCheck
from mossy_compass.packet.address import V6_BASE, Span, Spans, parse_prefix
from mossy_compass.plan.actions import Countdown, Decision, Reply, Stop
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate, setting
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.step import Step
from mossy_compass.plan.table import Table

if TYPE_CHECKING:
    from mossy_compass.plan.plan import DevicePlan

MARTIANS: Spans = tuple(
    parse_prefix(p).span for p in ("0.0.0.0/8", "127.0.0.0/8", "224.0.0.0/4", "255.255.255.255", "::", "::1", "ff00::/8")
)
"""Sources that name no single host, or the sender itself; nothing may come from them (RFC 1812 5.3.7, RFC 4291 2.5, 2.7)."""
LINK_LOCAL: Spans = tuple(parse_prefix(p).span for p in ("169.254.0.0/16", "fe80::/10"))
_V4 = Span(0, V6_BASE - 1)


def arrive(here: DevicePlan, port: str | None) -> Step | None:
    """A source that nobody may have, or that is this device itself; the reverse-path check (RFC 3704) where it is on."""
    if port is None:
        return None
    drop = Fate.DROPPED
    rows = [Row("martian", (Condition("from", (("source", MARTIANS),)),), actions=(Stop(drop, "source.martian"),))]
    own = tuple(s for s in here.own_spans if s.last <= _V4.last)
    if here.settings.drops_own_source and own:
        rows.append(Row("own-source", (Condition("from", (("source", own),)),), actions=(Stop(drop, "source.own"),)))
    table = Table("arrive", rows)
    check = here.settings.source_check

    def decide(facts: Facts) -> Decision | None:
        """What this stage says of a packet."""
        row = table.first(facts)
        if row is None:
            return None if check is SourceCheck.OFF else _reverse_path(here, facts)
        source = facts.packet.source
        if row.id == "martian":
            because = Because("address.special", ("source", source, source.special))
            return Decision(Did.DROPPED, because, row.actions, Because("note.special"), table.id, row.id)
        note = Because("note.source.own", (source, here.name))
        return Decision(Did.DROPPED, setting(here.settings, "own-source"), row.actions, note, table.id, row.id)

    return Step(Stage.ARRIVE, None, decide)


def _reverse_path(here: DevicePlan, facts: Facts) -> Decision | None:
    """RFC 3704: a route back must exist, and for ``strict`` lead out of the arriving interface. A discard is no way back."""
    source = facts.packet.source
    route = here.table.lookup(source)
    usable = route if route is not None and route.action in (RouteAction.FORWARD, RouteAction.LOCAL) else None
    strict = here.settings.source_check is SourceCheck.STRICT
    if usable is not None and (not strict or facts.arriving in {h.interface for h in usable.hops}):
        return None
    if usable is None:
        note = Because("note.source.none", (source,))
    else:
        note = Because("note.source.route", (source, usable.hops[0].interface, facts.arriving))
    return Decision(Did.DROPPED, setting(here.settings, "source-check"), (Stop(Fate.DROPPED, "source.check"),), note)


def forwarding(here: DevicePlan, port: str | None) -> Step | None:
    """Forwarding is on; and link-local addresses stay on their segment (RFC 3927 section 2.7, RFC 4291 section 2.5.6)."""
    if port is None:
        return None
    if not here.settings.forwarding:
        off = (Stop(Fate.DROPPED, "forwarding.off"),)

        def refuse(facts: Facts) -> Decision | None:
            """The packet is for another, and this device does not pass packets on."""
            note = Because("note.for-another", (facts.packet.destination, here.name))
            return Decision(Did.DROPPED, setting(here.settings, "forwarding"), off, note)

        return Step(Stage.FORWARDING, None, refuse)
    stop = (Stop(Fate.DROPPED, "address.link-local"),)
    table = Table(
        "forwarding",
        [
            Row("source", (Condition("from", (("source", LINK_LOCAL),)),), actions=stop),
            Row("destination", (Condition("to", (("destination", LINK_LOCAL),)),), actions=stop),
        ],
    )

    def decide(facts: Facts) -> Decision | None:
        """What this stage says of a packet."""
        row = table.first(facts)
        if row is None:
            return None
        address = facts.packet.source if row.id == "source" else facts.packet.destination
        because = Because("address.link-local", (row.id, address))
        return Decision(Did.DROPPED, because, row.actions, Because("note.link-local"), table.id, row.id)

    return Step(Stage.FORWARDING, None, decide)


def time_to_live(here: DevicePlan, port: str | None) -> Step | None:
    """One hop less; with none left the packet ends, and its sender may be told (RFC 1812 section 5.3.1)."""
    if port is None:
        return None
    because = Because("ttl", (here.name,))
    ended = Decision(Did.EXPIRED, because, (Stop(Fate.EXPIRED, "ttl.expired", Reply.TIME_EXCEEDED, ttl_ended=True),))
    counted = Decision(None, because, (Countdown(),))
    return Step(Stage.TTL, None, lambda facts: ended if facts.packet.ttl <= 1 else counted)
