"""The way out: policy routes first, then the route table, and whoever answers for the next hop.

A policy route chooses among candidates, the table by the longest prefix; both end in the
same action, so nothing after them knows the difference. An answer never takes a policy
route by accident: it belongs to a session, and entries are for what opens one.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from mossy_compass.headers.spans import complement, merge
from mossy_compass.model.check import standing_lists
from mossy_compass.model.network import LAST_RESORT, Candidate, Choosing, NoneAvailable, PolicyRoute, RouteAction, Verdict
from mossy_compass.packet.address import BITS, EVERYTHING, FAMILIES, Address, Prefix, Span, Spans, in_spans
from mossy_compass.packet.service import Service
from mossy_compass.plan.actions import (
    PASS,
    Action,
    Consult,
    Decision,
    Divide,
    Forward,
    Handover,
    Leave,
    OpenSession,
    Reply,
    Steer,
    Stop,
    Touch,
)
from mossy_compass.plan.alike import Met, Term, within
from mossy_compass.plan.conditions import Condition, conditions_of
from mossy_compass.plan.decide import alike, decider
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Direction, Facts, Relation, Session
from mossy_compass.plan.fields import service_span
from mossy_compass.plan.ids import DEFAULTS, MAIN_ROUTES, POLICY_ROUTES, stage_table
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate, down, setting
from mossy_compass.plan.rows import StageRow
from mossy_compass.plan.stages.step import NO_WAY_YET, NOT_ANSWERING, Step, one_of
from mossy_compass.plan.table import Table
from mossy_compass.routing.domains import Domain
from mossy_compass.routing.table import NextHop, Route
from mossy_compass.routing.uplinks import idle, serving, waits

MOST_BYTES = 65535
"""The longest packet that a header can tell of (RFC 791 section 3.1)."""


def policy_rows(here: DevicePlan) -> Table:
    """The entries as rows."""
    return Table(POLICY_ROUTES, [_entry(here, e) for e in here.device.policy_routes], here.device.mark)


def _entry(here: DevicePlan, entry: PolicyRoute) -> StageRow:
    """A policy route as a row. Where a list classifies for it, only what that permits is steered; its deny goes on to the next."""
    steer: tuple[Action, ...] = (Steer(entry.candidates, entry.otherwise),)
    if entry.classifier:
        denied: tuple[Action, ...] = PASS if here.settings.text("classifier-deny") == "table" else (Leave(),)
        steer = (Consult(here.read_list(entry.classifier), _classifies(steer, denied), named=False),)
    because = Because("policy", (entry.id, here.name), entry.mark, entry.about)
    conditions = conditions_of(entry.rule, here.reader)
    return StageRow(entry.id, conditions, entry.mark, actions=steer, disabled=entry.disabled, about=entry.about, because=because)


def _classifies(steer: tuple[Action, ...], denied: tuple[Action, ...]) -> Mapping[Verdict, tuple[Action, ...]]:
    """What the verdicts of a classifying list come to."""
    refuses = (Verdict.DENY, Verdict.REJECT)
    return {v: steer if v is Verdict.PERMIT else denied if v in refuses else (Leave(),) for v in Verdict}


def policy(here: DevicePlan, port: str | None) -> Step | None:
    """Ordered entries; a classifier's deny goes on to the next. Without an available candidate the route table decides."""
    entries = [e for e in here.device.policy_routes if not e.disabled and _may_meet(here, e, port)]
    picks = here.once("picks", lambda: list(_picks(here)))
    tables: list[Table] = [Table(stage_table("picked uplinks"), picks)] if picks else []
    if entries:
        rows = [_entry(here, e) for e in entries]
        goes_on = any(e.otherwise is NoneAvailable.NEXT for e in entries)
        tables.append(Entries(here, rows) if goes_on else Table(POLICY_ROUTES, rows, here.device.mark))
    answers = here.settings.text("answers-policy-routes") == "yes"
    if here.keeping.remembers_neighbour:
        own = [] if answers else [StageRow("answers", (one_of("relation", Relation.ANSWERING, Relation.RELATED),), actions=PASS)]
        skip = [Table(stage_table("answers"), own)] if own and tables else []
        return Step(Stage.POLICY_ROUTE, (), (SessionExit(here), *skip, *tables))
    return Step(Stage.POLICY_ROUTE, () if answers else (NOT_ANSWERING,), tuple(tables)) if tables else None


def _picks(here: DevicePlan) -> Iterator[StageRow]:
    """The rules of lists that say by which uplink leaves what they let pass; of a session, what its first packet was let pass by."""
    names = (n for names, _, way in standing_lists(here.device) if way in BEFORE_ROUTES for n in names)
    for table in (here.read_list(n) for n in dict.fromkeys(names) if here.has_list(n)):
        for row in table.rows:
            if row.uplink and not row.disabled:
                steer = Steer((Candidate(row.mark, uplink=row.uplink),))
                because = Because("rule.uplink", (table.name, row.id), row.mark, row.about)
                yield StageRow(
                    f"{table.name} {row.id}",
                    (one_of("picked", f"{table.name} {row.id}"),),
                    row.mark,
                    actions=(steer,),
                    because=because,
                )


BEFORE_ROUTES = ("arriving", "everywhere", "profile", "front")
"""The kinds of places whose lists are asked before a packet's way is."""


class Entries(Table):
    """Entries of which some hand what they cannot steer on to the next one: which decides depends on what is to be had."""

    __slots__ = ("_each", "_here")

    def __init__(self, here: DevicePlan, rows: Sequence[StageRow]) -> None:
        super().__init__(POLICY_ROUTES, rows, here.device.mark)
        self._here = here
        self._each = [decider(Table(POLICY_ROUTES, [row])) for row in rows]
        self.decide = self._decided

    def _decided(self, facts: Facts) -> Decision | None:
        """The first entry that a packet meets and that has a way for it, or does not go on without one."""
        passed: Decision | None = None
        tried: tuple[tuple[Candidate, str], ...] = ()
        for one in self._each:
            decision = one(facts)
            if decision is None:
                continue
            action = decision.actions[-1]
            if not isinstance(action, Steer) or action.otherwise is not NoneAvailable.NEXT:
                return decision
            route, why = steered(self._here, action, facts.packet.destination)
            if route is not None:
                return decision
            passed, tried = decision, (*tried, *why)
        if passed is None:
            return None
        note = Because("note.no-candidate", (tried,))
        return passed._replace(actions=PASS, did=Did.FELL_THROUGH, note=note)

    def alike(self, facts: Facts) -> Iterator[Term]:
        """The packets that meet the same entries, as far as the one that decides, and for which the same ways are to be had."""
        for row, one in zip(self.rows, self._each, strict=True):
            yield from alike(Table(POLICY_ROUTES, [row]), facts)
            decision = one(facts)
            action = decision.actions[-1] if decision is not None else None
            if action is None:
                continue
            if not isinstance(action, Steer) or action.otherwise is not NoneAvailable.NEXT:
                return
            yield from alike_steered(self._here, action, facts)
            if steered(self._here, action, facts.packet.destination)[0] is not None:
                return


class SessionExit:
    """Where answers leave that do not go as routes say: the interface that their session was opened by, or the neighbour there.

    It is asked before policy routes. Where that interface is down or gone, or nobody there is known, routes decide, and that is told.
    """

    def __init__(self, here: DevicePlan) -> None:
        self._here = here
        self._handed = here.settings.text("session-exit") == "handed"

    def decide(self, facts: Facts) -> Decision | None:
        """The way of the session's opening packet, backwards; None for what is no answer."""
        session, here = facts.session, self._here
        if session is None or facts.direction is not Direction.BACK or session.arriving is None:
            return None
        because = setting(here.settings, "session-exit")
        port = session.arriving
        if port not in here.device.interfaces or not here.domains.link(here.name, port).up:
            note = Because("note.exit-down", (session.number, port))
            return Decision(Did.FELL_THROUGH, because, PASS, note, DEFAULTS, "session-exit")
        found = None if self._handed else best_route_by(here, port, facts.packet.destination)
        found = found or self._to_neighbour(session, port, facts.packet.destination)
        if found is None:
            note = Because("note.exit-unknown", (session.number, port))
            return Decision(Did.FELL_THROUGH, because, PASS, note, DEFAULTS, "session-exit")
        note = Because("note.candidate", ((),))
        return Decision(Did.STEERED, because, (Forward(found, found.hops),), note, DEFAULTS, "session-exit")

    def _to_neighbour(self, session: Session, port: str, destination: Address) -> Route | None:
        """The neighbour that handed the opening packet over, as a way for its answers alone."""
        address = self._here.address_of(session.handed, port, destination.family) if session.handed is not None else None
        if address is None:
            return None
        hops = (NextHop(port, None if address == destination else address),)
        return Route(Prefix(destination.family, destination.value, BITS[destination.family]), "session", 0, 0, hops)

    def alike(self, facts: Facts) -> Iterator[Term]:
        """Nothing beyond what ``recall`` rests on: of a session that is one flow, and its way is one too."""
        return iter(())


def _may_meet(here: DevicePlan, entry: PolicyRoute, port: str | None) -> bool:
    """Whether packets that come by an interface can meet an entry at all."""
    if entry.rule.arriving is None:
        return port is not None or here.settings.policy_for_own
    return port in here.reader.interfaces(entry.rule.arriving)


def route(here: DevicePlan, port: str | None) -> Step:
    """The route table; passed over where a policy route chose."""
    return Step(Stage.ROUTE, (NO_WAY_YET,), (here.once(Stage.ROUTE, lambda: Routes(here)),))


def ended_by(route: Route, destination: Address) -> Stop:
    """How a route that leads nowhere ends a packet."""
    if route.action is RouteAction.DISCARD:
        return Stop(Fate.DROPPED, "route.discard")
    # IPv6 has no 'host unreachable' that a route may send: RFC 4443 section 3.1 code 0 is 'no route'
    reply = Reply.HOST_UNREACHABLE if destination.family == 4 else Reply.NET_UNREACHABLE
    return Stop(Fate.DROPPED, "route.unreachable", reply)


class Routes:
    """The route table as what a step asks: forward, discard, or tell the sender that there is no way.

    Every route is a row of it; there may be millions, so they stay where they are, and it is asked by the longest prefix.
    """

    def __init__(self, here: DevicePlan) -> None:
        self._here = here
        self._known: dict[Prefix, Decision] = {}
        self._ends_of: dict[tuple[NextHop, ...], Spans] = {}

    def decide(self, facts: Facts) -> Decision:
        """What the route comes to that serves the destination."""
        found = self._here.table.lookup(facts.packet.destination)
        if found is None or found.action is not RouteAction.FORWARD:
            return self._not_forwarded(facts, found)
        if found.origin == "connected" and self._is_end(facts, found):
            because = Because("route", (found.origin, found.prefix), found.mark)
            note = Because("note.subnet-end", (facts.packet.destination,))
            return Decision(Did.DROPPED, because, (Stop(Fate.DROPPED, "neighbour.silent"),), note, MAIN_ROUTES)
        decision = self._known.get(found.prefix)
        if decision is None:
            because = Because("route", (found.origin, found.prefix), found.mark)
            decision = Decision(Did.ROUTED, because, (Forward(found, found.hops),), None, MAIN_ROUTES)
            self._known[found.prefix] = decision
        return decision

    def _is_end(self, facts: Facts, found: Route) -> bool:
        """Whether a packet is for an end of a subnet, which no host has. An error is not answered for, so it makes no difference."""
        return facts.packet.quoted is None and facts.packet.destination.value in _ends(found.prefix)

    def _not_forwarded(self, facts: Facts, found: Route | None) -> Decision:
        """Why a packet is not passed on."""
        destination = facts.packet.destination
        if found is None:
            return _no_route(self._here, destination)
        because = Because("route", (found.origin, found.prefix), found.mark)
        note = Because("note.action", (found.action.value,))
        return Decision(Did.DROPPED, because, (ended_by(found, destination),), note, MAIN_ROUTES)

    def alike(self, facts: Facts) -> Iterator[Term]:
        """All destinations that are sent the same ways; the ends of subnets are apart, and so is what waits for a port."""
        here, destination = self._here, facts.packet.destination
        found = here.table.lookup(destination)
        if found is None:  # an unused route, or a port that is down, may be the cause, so these are not all alike
            losers = [r.route.prefix.span for r in (*here.table.inactive, *here.table.losers(destination))]
            yield within("destination", here.table.served_as(destination))
            for span in dict.fromkeys(losers):
                yield Met(within("destination", (span,)).conditions, span.first <= destination.key <= span.last)
            return
        yield within("destination", here.table.served_as(destination))
        if found.action is RouteAction.FORWARD:
            yield from self._ends_apart(facts, found)

    def _ends_apart(self, facts: Facts, found: Route) -> Iterator[Term]:
        """The ends of subnets among the destinations that go this way."""
        ends = self._ends_of.get(found.hops)
        if ends is None:
            connected = [r for r in self._here.table.single() if r.origin == "connected" and r.hops == found.hops]
            ends = merge(Span(v, v) for r in connected for v in _ends(r.prefix) if self._here.table.lookup(Address(4, v)) == r)
            self._ends_of[found.hops] = ends
        if ends:
            meant = (*within("destination", ends).conditions, one_of("error", False))
            yield Met(meant, all(c.holds(facts) for c in meant))


def steered(here: DevicePlan, steer: Steer, destination: Address) -> tuple[Route | None, tuple[tuple[Candidate, str], ...]]:
    """The first candidate that is to be had, and those before it with why they are not; ``discard`` ends the search.

    Args:
        here: the device.
        steer: the candidates in their order.
        destination: of the packet.

    """
    passed: list[tuple[Candidate, str]] = []
    for candidate in steer.candidates:
        if candidate.discard:
            return DISCARDED, tuple(passed)
        route, why = candidate_route(here, candidate, destination)
        if route is not None:
            return route, tuple(passed)
        passed.append((candidate, why))
    return None, tuple(passed)


DISCARDED = Route(Prefix(4, 0, 0), "policy", 0, 0, (), RouteAction.DISCARD)
"""Stands for a candidate that throws the packet away."""


def alike_steered(here: DevicePlan, steer: Steer, facts: Facts) -> Iterator[Term]:
    """The destinations for which every candidate that is tried would have come to the same."""
    destination = facts.packet.destination
    yield within("destination", (FAMILIES[destination.family],))
    for candidate in steer.candidates:
        if candidate.discard:
            return
        route, _ = candidate_route(here, candidate, destination)
        if candidate.uplink is not None:
            yield within(
                "destination", (Span(destination.key, destination.key),)
            )  # which of its routes is best is found one by one
        elif candidate.table is not None:
            yield from _alike_in_table(here, candidate, destination)
        elif candidate.next_hop is None:  # it is asked for on the segment
            ports = [candidate.leaving] if candidate.leaving else list(here.device.interfaces)
            yield from (_answered_alike(here, port, destination) for port in ports)
        if route is not None:
            return


def _alike_in_table(here: DevicePlan, candidate: Candidate, destination: Address) -> Iterator[Term]:
    """The destinations that a named table sends the same ways."""
    assert candidate.table is not None
    table = here.table_named(candidate.table)
    found = table.lookup(destination)
    yield within("destination", table.served_as(destination))
    for hop in found.hops if found is not None else ():
        if hop.address is None:
            yield _answered_alike(here, hop.interface, destination)


def _answered_alike(here: DevicePlan, port: str, destination: Address) -> Term:
    """The destinations that somebody on an interface's segment answers for, or those that nobody does."""
    domain = here.domains.of(here.name, port)
    if domain is None or here.device.interfaces[port].tunnel is not None:
        return within("destination", EVERYTHING)
    held = here.domains.answered(domain, here.name)
    return within("destination", held if _somebody_answers(here, port, destination) else complement(held))


def _ends(prefix: Prefix) -> tuple[int, ...]:
    """The subnet's own and its broadcast address, which no host has (RFC 1122 section 3.2.1.3); a /31 has none."""
    return (prefix.value, prefix.span.last) if prefix.family == 4 and prefix.length < 31 else ()


def _no_route(here: DevicePlan, destination: Address) -> Decision:
    """Why there is no route: a port that is down, a route that waits for something, or none at all."""
    losers = here.table.losers(destination)
    for loser in losers:
        for hop in loser.route.hops:
            port = here.down_port(hop)
            if port is not None:
                note = Because("note.route-not-used", (loser.route.origin, loser.route.prefix))
                words = down(here.device, port, here.domains.link(here.name, port))
                stop = Stop(Fate.DROPPED, "interface.down", Reply.NET_UNREACHABLE)
                return Decision(Did.DROPPED, words, (stop,), note, MAIN_ROUTES)
    stop = Stop(Fate.DROPPED, "route.none", Reply.NET_UNREACHABLE)
    if losers:
        found = losers[0].route
        values = (here.name, destination, found.origin, found.prefix, losers[0].words)
        because = Because("route.inactive", values, found.mark or here.device.mark)
        return Decision(Did.DROPPED, because, (stop,), None, MAIN_ROUTES)
    prefixes = [r.prefix for r in here.table if r.origin != "local"]
    note = Because("note.known-routes", (tuple(prefixes[:3]), max(0, len(prefixes) - 3)))
    because = Because("route.none", (here.name, destination), here.device.mark)
    return Decision(Did.DROPPED, because, (stop,), note, MAIN_ROUTES)


def send(here: DevicePlan, port: str | None) -> Step:
    """Who answers for the next hop, and whether the packet fits: it is sent undivided (RFC 1191)."""
    own = port is None
    return Step(Stage.SEND, (), (here.once((Stage.SEND, own), lambda: Neighbours(here, own)),))


class Neighbours:
    """Who takes what leaves, as what a step asks: every address that somebody answers for is a row of it."""

    def __init__(self, here: DevicePlan, own: bool) -> None:
        self._here = here
        # what a device asked itself, what it inspects, and what it may have to translate back
        self._remembers = own or bool(here.device.translate)
        self._known: dict[tuple[str, Address], Neighbour] = {}

    def decide(self, facts: Facts) -> Decision:
        """Whoever answers for the next hop gets it, if it fits."""
        assert facts.leaving is not None
        target = facts.next_hop or facts.packet.destination
        found = self._known.get((facts.leaving, target))
        if found is None:
            made = _neighbour(self._here, facts.leaving, target)
            if isinstance(made, Decision):
                return self._too_big(facts) or made
            found = self._known[facts.leaving, target] = made
        if facts.packet.size > found.mtu or found.tunnel:
            mtu, narrowest = _longest(self._here, facts, found)
            if facts.packet.size > mtu:
                return _divided(facts, found, mtu) or _told_too_big(facts, mtu, narrowest, found.tells)
        return found.opening if self._remembers or self._inspects(facts) else found.sent

    def _inspects(self, facts: Facts) -> bool:
        """Whether the device keeps sessions of what passes from one interface to another."""
        here = self._here
        return facts.packet.protocol in here.tracked and facts.packet.protocol in here.inspected(facts.arriving, facts.leaving)

    def _too_big(self, facts: Facts) -> Decision | None:
        """That a packet does not fit its interface, which is seen before anybody is asked for; None where it fits, or it is down."""
        assert facts.leaving is not None
        interface = self._here.device.interfaces[facts.leaving]
        if facts.packet.size <= interface.mtu or not self._here.domains.link(self._here.name, facts.leaving).up:
            return None
        narrowest = Because("interface.mtu", (self._here.name, facts.leaving, interface.mtu), interface.mark)
        return _told_too_big(facts, interface.mtu, narrowest)

    def alike(self, facts: Facts) -> Iterator[Term]:
        """All destinations that the same neighbour answers for, in all sizes that fit; and whether it is remembered."""
        here, leaving = self._here, facts.leaving
        assert leaving is not None
        target = facts.next_hop or facts.packet.destination
        made = _neighbour(here, leaving, target)
        if facts.next_hop is None and here.device.interfaces[leaving].tunnel is None:
            yield _same_neighbour(here, leaving, target)
        mtu = here.device.interfaces[leaving].mtu if isinstance(made, Decision) else _longest(here, facts, made)[0]
        fits = facts.packet.size <= mtu
        yield within("size", (Span(0, mtu),) if fits else (Span(mtu + 1, MOST_BYTES),))
        if isinstance(made, Decision):
            return
        if fits and not self._remembers:
            inspected = merge(service_span(Service(p)) for p in here.inspected(facts.arriving, facts.leaving))
            meant = (Condition("protocol", (("service", inspected),)),)
            yield Met(meant, all(c.holds(facts) for c in meant))


def _same_neighbour(here: DevicePlan, leaving: str, target: Address) -> Term:
    """The destinations on a segment that whoever answers for one of them answers for too; or those that nobody does."""
    domain = here.domains.of(here.name, leaving)
    if domain is None:
        return within("destination", EVERYTHING)
    held = here.domains.answered(domain, here.name)
    if not in_spans(target.key, held):
        return within("destination", complement(held))
    first = next(a for a in here.domains.answers(domain, target) if a.device != here.name)
    mine = here.domains.answered(domain, here.name, (first.device, first.interface))
    return within("destination", mine)


def _longest(here: DevicePlan, facts: Facts, found: Neighbour) -> tuple[int, Because]:
    """The longest packet that goes on by a way, and who says so; of a tunnel also what it has learned of its own way."""
    if not found.tunnel or facts.memory is None or facts.leaving is None:
        return found.mtu, found.narrowest
    learned = facts.memory.path_mtu(here.name, facts.leaving)
    if learned is None or learned >= found.mtu:
        return found.mtu, found.narrowest
    return learned, Because("tunnel.path-mtu", (facts.leaving, here.name, learned), found.narrowest.mark)


def _divided(facts: Facts, found: Neighbour, mtu: int) -> Decision | None:
    """The packet in pieces, where it may be divided here (RFC 791 section 3.2; of IPv6 by who sends it alone, RFC 8200 section 4.5)."""
    if not facts.divides or not found.tells or (facts.packet.destination.family == 6 and facts.arriving is not None):
        return None
    remark = Because("note.divided", (facts.packet.size, mtu))
    return found.sent._replace(actions=(Divide(mtu), *found.opening.actions), note=remark)


def _told_too_big(facts: Facts, mtu: int, narrowest: Because, tells: bool = True) -> Decision:
    """A packet that may not be divided does not fit, and its sender is told (RFC 1191 section 4, RFC 4443 section 3.2).

    Between switches nobody is: they drop a frame that does not fit, and speak no IP.
    """
    note = Because("note.mtu" if tells else "note.mtu-between", (facts.packet.size, mtu, facts.leaving))
    return Decision(Did.DROPPED, narrowest, (Stop(Fate.DROPPED, "mtu.exceeded", Reply.TOO_BIG if tells else Reply.NOTHING),), note)


class Neighbour(NamedTuple):
    """Who takes what leaves for an address.

    Attributes:
        sent: the decision that hands it over.
        opening: the same for what the device remembers. Only what somebody takes opens a session.
        mtu: the largest packet that gets there, in bytes.
        narrowest: the interface or cable that says so.
        tells: it is the device's own interface or cable, so that it knows; what does not fit between switches is lost in silence.
        tunnel: it is the other end of one.

    """

    sent: Decision
    opening: Decision
    mtu: int
    narrowest: Because
    tells: bool = True
    tunnel: bool = False


def _silent(here: DevicePlan, leaving: str, target: Address, domain: str) -> Decision:
    """Nobody answers for an address where it is asked for."""
    segment = here.domains.segment_of(here.name, leaving)
    because = Because("neighbour.silent", (target, here.name), segment.mark if segment else None)
    note = Because("note.nobody", (domain, target, here.owner(target) or ""))
    return Decision(Did.DROPPED, because, (Stop(Fate.DROPPED, "neighbour.silent", Reply.HOST_UNREACHABLE),), note)


def _neighbour(here: DevicePlan, leaving: str, target: Address) -> Decision | Neighbour:
    """Who takes what leaves for ``target``; or why nobody does."""
    domains = here.domains
    link = domains.link(here.name, leaving)
    if not link.up:
        because = down(here.device, leaving, link)
        return Decision(Did.DROPPED, because, (Stop(Fate.DROPPED, "interface.down", Reply.HOST_UNREACHABLE),))
    domain = domains.of(here.name, leaving)
    if here.device.interfaces[leaving].tunnel is not None:
        return _through(here, leaving, domain)
    answers = [a for a in domains.answers(domain, target) if a.device != here.name] if domain else []
    if domain is None or not answers:
        return _silent(here, leaving, target, domain.name if domain else "")
    chosen = answers[0]
    cables, switches = domains.between((here.name, leaving), (chosen.device, chosen.interface))
    interface = here.device.interfaces[leaving]
    mtu = min([interface.mtu, *(c.link.mtu for c in cables if c.link.mtu)])
    narrow = next((c for c in cables if c.link.mtu == mtu), None)
    narrowest = Because("interface.mtu", (here.name, leaving, mtu), interface.mark)
    if narrow is not None:
        narrowest = Because("cable.mtu", (narrow.name, mtu), narrow.mark)
    others = tuple((a.device, a.interface) for a in answers[1:])
    note = Because("note.sent", (chosen.device, chosen.interface, target, chosen.why == "proxy", others, switches), None)
    latency = sum(c.link.latency_ms for c in cables)
    handover = Handover(chosen.device, chosen.interface, domain.name, switches, latency)
    sent = Decision(Did.SENT, Because("neighbour", (leaving, chosen.device)), (handover,), note)
    return Neighbour(
        sent, sent._replace(actions=(Touch(), OpenSession(), handover)), mtu, narrowest, narrow is None or narrow is cables[0]
    )


def _through(here: DevicePlan, leaving: str, domain: Domain | None) -> Neighbour:
    """The other end of a tunnel takes whatever goes in, if the outer packet gets there."""
    interface = here.device.interfaces[leaving]
    assert interface.tunnel is not None
    narrowest = Because("interface.mtu", (here.name, leaving, interface.mtu), interface.mark)
    note = Because("note.tunnelled", (interface.tunnel.kind.value, interface.tunnel.to))
    name = domain.name if domain is not None else f"tunnel {leaving}"
    handover = Handover("", "", name, (), 0.0, tunnel=True)
    sent = Decision(Did.SENT, Because("tunnel", (leaving, here.name), interface.tunnel.mark), (handover,), note)
    return Neighbour(sent, sent._replace(actions=(Touch(), OpenSession(), handover)), interface.mtu, narrowest, tunnel=True)


def connected_hop(here: DevicePlan, candidate: Candidate, destination: Address) -> tuple[NextHop | None, str]:
    """The way of a candidate that names a next hop or an interface; or why it is not available.

    Args:
        here: the device.
        candidate: with a next hop or an interface.
        destination: asked for on the segment when no next hop is named.

    """
    target = candidate.next_hop or destination
    ports = [candidate.leaving] if candidate.leaving else list(here.device.interfaces)
    for name in ports:
        interface = here.device.interfaces[name]
        if candidate.next_hop is not None and not any(a.prefix.holds(target) for a in interface.addresses):
            continue
        if not here.domains.link(here.name, name).up:
            return None, "down"
        if _somebody_answers(here, name, target):
            return NextHop(name, candidate.next_hop, candidate.mark), ""
        return None, "silent"
    return None, "not connected"


def _somebody_answers(here: DevicePlan, port: str, target: Address) -> bool:
    """Whether another device answers for an address on an interface's segment (ARP, RFC 826; RFC 4861)."""
    if here.device.interfaces[port].tunnel is not None:
        return True
    domain = here.domains.of(here.name, port)
    answers = here.domains.answers(domain, target) if domain else ()
    return any(a.device != here.name for a in answers)


def candidate_route(here: DevicePlan, candidate: Candidate, destination: Address) -> tuple[Route | None, str]:
    """A candidate as a route for one destination; or why it is passed over.

    Args:
        here: the device.
        candidate: any kind of it.
        destination: of the packet.

    """
    prefix = Prefix(destination.family, destination.value, BITS[destination.family])
    if candidate.probe and waits(here.device, here.domains, candidate.probe):
        return None, "probe" if LAST_RESORT not in candidate.probe else "waits"
    if candidate.table is not None:
        found = here.table_named(candidate.table).lookup(destination)
        if found is None:
            return None, "no route"
        if found.action is RouteAction.LEAVE:
            return None, "leaves"
        if found.action is not RouteAction.FORWARD:
            return found, ""  # it has decided: nobody is to be sent on by what comes after it
        usable = tuple(h for h in found.hops if answered(here, h, destination))
        return (found._replace(hops=usable), "") if usable else (None, "silent")
    if candidate.uplink is not None:
        return _by_uplink(here, candidate.uplink, destination)
    if candidate.next_hop is not None and candidate.next_hop.family != destination.family:
        return None, "family"
    hop, why = connected_hop(here, candidate, destination)
    return (None, why) if hop is None else (Route(prefix, "policy", 0, 0, (hop,), mark=candidate.mark), "")


def _by_uplink(here: DevicePlan, name: str, destination: Address) -> tuple[Route | None, str]:
    """The best route by an interface, or by the members of a group that can serve and whose next hop answers; or why there is none."""
    group = here.device.groups.get(name)
    whys: list[str] = []
    if group is not None:
        words = {m: idle(here.device, here.domains, name, m) for m in group.members}
        whys = ["down" if not here.domains.link(here.name, m).up else "probe" for m, why in words.items() if why]
    found: list[Route] = []
    for port in serving(here.device, here.domains, name) if group is not None else (name,):
        if not here.domains.link(here.name, port).up:
            whys.append("down")
            continue
        best = best_route_by(here, port, destination)
        if best is None:
            whys.append("no route")
        elif not any(answered(here, h, destination) for h in best.hops):
            whys.append("silent")
        else:
            found.append(best)
    if not found:
        return None, whys[-1] if whys else "no route"
    if group is None or group.choose is not Choosing.SHARE or len(found) == 1:
        return found[0], ""
    return found[0]._replace(hops=tuple(h._replace(group=name) for r in found for h in r.hops)), ""


def best_route_by(here: DevicePlan, port: str, destination: Address) -> Route | None:
    """The best of all routes to a destination that leave by an interface, whatever better one leaves by another."""
    won = here.table.lookup(destination)
    routes = [*([won] if won is not None else []), *(r.route for r in here.table.losers(destination) if not r.inactive)]
    fitting = [r for r in routes if r.action is RouteAction.FORWARD and any(h.interface == port for h in r.hops)]
    if not fitting:
        return None
    best = min(fitting, key=lambda r: (-r.prefix.length, r.preference, r.metric))
    return best._replace(hops=tuple(h for h in best.hops if h.interface == port))


def answered(here: DevicePlan, hop: NextHop, destination: Address) -> bool:
    """True when the interface is up and somebody answers for the next hop; into a tunnel anybody is sent."""
    if here.device.interfaces[hop.interface].tunnel is not None:
        return here.domains.link(here.name, hop.interface).up
    domain = here.domains.of(here.name, hop.interface)
    return domain is not None and any(a.device != here.name for a in here.domains.answers(domain, hop.address or destination))
