"""The plain checks: may this source arrive here, may the device pass it on, has it hops left.

Of these three the time to live is asked last, once the route is known, and the source
first: an implausible source must not even be answered. Checks that are off for a device, or
idle at an interface, compile to nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from mossy_compass.headers.spans import complement
from mossy_compass.model.network import RouteAction
from mossy_compass.model.settings import SourceCheck
from mossy_compass.packet.address import FAMILIES, LAST_KEY, LINK_LOCAL, Span, Spans, parse_prefix
from mossy_compass.plan.actions import Action, Countdown, Decision, Reply, Stop
from mossy_compass.plan.alike import Term, within
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.ids import CITES_NOTHING, stage_table
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate, setting
from mossy_compass.plan.rows import StageRow
from mossy_compass.plan.stages.step import Step
from mossy_compass.plan.stages.tunnel import checks
from mossy_compass.plan.table import Table
from mossy_compass.routing.table import Route

MARTIANS: Spans = tuple(
    parse_prefix(p).span for p in ("0.0.0.0/8", "127.0.0.0/8", "224.0.0.0/4", "255.255.255.255", "::", "::1", "ff00::/8")
)
"""Sources that name no single host, or the sender itself; nothing may come from them (RFC 1812 5.3.7, RFC 4291 2.5, 2.7)."""


def arrive(here: DevicePlan, port: str | None) -> Step | None:
    """A source that nobody may have, or that is this device itself; the reverse-path check (RFC 3704) where it is on."""
    if port is None:
        return None
    table = here.once(Stage.ARRIVE, lambda: _sources(here))
    clear = checks(here, port)
    tunnel = here.device.interfaces[port].tunnel
    # What selectors lead into a tunnel has another route, so the way back is none by that either.
    if here.settings.source_check is SourceCheck.OFF or (tunnel is not None and tunnel.selectors):
        return Step(Stage.ARRIVE, (), (table, *clear))
    return Step(Stage.ARRIVE, (), (table, ReversePath(here, port), *clear))


def _sources(here: DevicePlan) -> Table:
    """The sources that nobody may have who sends to this device."""

    def special(facts: Facts) -> tuple[Because, Because | None]:
        """What kind of address it is."""
        source = facts.packet.source
        return Because("address.special", ("source", source, source.special)), Because("note.special")

    def own_source(facts: Facts) -> tuple[Because, Because | None]:
        """That it is the device's own."""
        return setting(here.settings, "own-source"), Because("note.source.own", (facts.packet.source, here.name))

    drop = Fate.DROPPED
    rows = [StageRow("martian", _from(MARTIANS), actions=(Stop(drop, "source.martian"),), tell=special)]
    own = tuple(s for s in here.own_spans if s.last <= FAMILIES[4].last)
    if here.settings.drops_own_source and own:
        rows.append(StageRow("own-source", _from(own), actions=(Stop(drop, "source.own"),), tell=own_source))
    return Table(stage_table("arrive"), rows)


def _from(spans: Spans) -> tuple[Condition, ...]:
    """That a source lies in some runs."""
    return (Condition("from", (("source", spans),)),)


class ReversePath:
    """RFC 3704: a route back must exist, and for ``strict`` lead out of the arriving interface. A discard is no way back.

    Every route is a row of it, so it is asked by a look-up and not row by row.
    """

    def __init__(self, here: DevicePlan, port: str) -> None:
        self._here, self._port = here, port
        self._strict = here.settings.source_check is SourceCheck.STRICT

    def _passes(self, route: Route | None) -> bool:
        """Whether a route is a way back."""
        if route is None or route.action not in (RouteAction.FORWARD, RouteAction.LOCAL):
            return False
        return not self._strict or any(h.interface == self._port for h in route.hops)

    def decide(self, facts: Facts) -> Decision | None:
        """Nothing where there is a way back."""
        source = facts.packet.source
        route = self._here.table.lookup(source)
        if self._passes(route):
            return None
        if route is None or route.action not in (RouteAction.FORWARD, RouteAction.LOCAL):
            note = Because("note.source.none", (source,))
        else:
            note = Because("note.source.route", (source, route.hops[0].interface, self._port))
        return Decision(Did.DROPPED, setting(self._here.settings, "source-check"), _NO_WAY_BACK, note)

    def alike(self, facts: Facts) -> Iterator[Term]:
        """All sources that have a way back, or all that have none."""
        passing = self._here.table.served(self._passes)
        passes = self._passes(self._here.table.lookup(facts.packet.source))
        yield within("source", passing if passes else complement(passing, LAST_KEY))


_NO_WAY_BACK: tuple[Action, ...] = (Stop(Fate.DROPPED, "source.check"),)


def forwarding(here: DevicePlan, port: str | None) -> Step | None:
    """Forwarding is on; and link-local addresses stay on their segment (RFC 3927 section 2.7, RFC 4291 section 2.5.6)."""
    return None if port is None else Step(Stage.FORWARDING, (), (here.once(Stage.FORWARDING, lambda: _forwarding(here)),))


def _forwarding(here: DevicePlan) -> Table:
    """What is not passed on."""

    def for_another(facts: Facts) -> tuple[Because, Because | None]:
        """The packet is for another, and this device does not pass packets on."""
        note = Because("note.for-another", (facts.packet.destination, here.name))
        return setting(here.settings, "forwarding"), note

    if not here.settings.forwarding:
        # It cites no table: nothing but the setting was asked.
        return Table(
            stage_table("forwarding"),
            [StageRow("off", (), actions=(Stop(Fate.DROPPED, "forwarding.off"),), tell=for_another, cites=CITES_NOTHING)],
        )
    stop = (Stop(Fate.DROPPED, "address.link-local"),)
    # IPv6 has an error for this (RFC 4443 section 3.1 code 2), IPv4 none: its link-local packets are dropped in silence.
    told = (Stop(Fate.DROPPED, "address.link-local", Reply.BEYOND_SCOPE),)
    of_4, of_6 = ((span,) for span in LINK_LOCAL)
    rows = [
        StageRow("source", _from(of_4), actions=stop, tell=_stays("source")),
        StageRow("source 6", _from(of_6), actions=told, tell=_stays("source"), cites=(stage_table("forwarding"), "source")),
        StageRow("destination", (Condition("to", (("destination", LINK_LOCAL),)),), actions=stop, tell=_stays("destination")),
    ]
    return Table(stage_table("forwarding"), rows)


def _stays(side: str) -> Callable[[Facts], tuple[Because, Because | None]]:
    """What is told of a link-local address of one side."""

    def tell(facts: Facts) -> tuple[Because, Because | None]:
        """The address, with why it is not passed on."""
        address = facts.packet.source if side == "source" else facts.packet.destination
        return Because("address.link-local", (side, address)), Because("note.link-local")

    return tell


def time_to_live(here: DevicePlan, port: str | None) -> Step | None:
    """One hop less; with none left the packet ends, and its sender may be told (RFC 1812 section 5.3.1)."""
    return None if port is None else Step(Stage.TTL, (), (here.once(Stage.TTL, lambda: _hops_left(here)),))


def _hops_left(here: DevicePlan) -> Table:
    """The last hop, and every other."""
    ended = (Stop(Fate.EXPIRED, "ttl.expired", Reply.TIME_EXCEEDED, ttl_ended=True),)
    last = Condition("ttl", (("ttl", (Span(0, 1),)),))
    because = Because("ttl", (here.name,))
    rows = [
        StageRow("ended", (last,), actions=ended, because=because, cites=CITES_NOTHING),
        StageRow("counted", (), actions=(Countdown(),), because=because),
    ]
    return Table(stage_table("time to live"), rows)
