"""The way out: policy routes first, then the route table, and whoever answers for the next hop.

A policy route chooses among candidates, the table by the longest prefix; both end in the
same action, so nothing after them knows the difference. An answer never takes a policy
route by accident: it belongs to a session, and entries are for what opens one.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from mossy_compass.model.network import Candidate, PolicyRoute, RouteAction, Verdict
from mossy_compass.packet.address import BITS, Address, Prefix
from mossy_compass.plan.actions import PASS, Decision, Forward, Handover, OpenSession, Reply, Stop
from mossy_compass.plan.conditions import conditions_of
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate, down
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.step import NO_WAY_YET, NOT_ANSWERING, Step, guard
from mossy_compass.plan.table import Table
from mossy_compass.routing.table import Hop, Route

if TYPE_CHECKING:
    from mossy_compass.plan.plan import DevicePlan


class Entry(NamedTuple):
    """A policy route as compiled: its conditions, the list that classifies, and its candidates.

    Attributes:
        row: its own conditions.
        classifier: the list that must permit the packet, too; None when there is none.
        candidates: ways, in the order in which they are tried.

    """

    row: Row
    classifier: Table | None
    candidates: tuple[Candidate, ...]


def policy_rows(here: DevicePlan) -> Table:
    """The entries as rows; what a classifier says comes on top of a row's own conditions."""
    return Table("policy-routes", [_entry(here, e).row for e in here.device.policy_routes], here.device.mark)


def _entry(here: DevicePlan, entry: PolicyRoute) -> Entry:
    """A policy route as a row, with the list that classifies for it."""
    row = Row(entry.id, conditions_of(entry.rule, here.reader), entry.mark, disabled=entry.disabled, about=entry.about)
    return Entry(row, here.read_list(entry.classifier) if entry.classifier else None, entry.candidates)


def policy(here: DevicePlan, port: str | None) -> Step | None:
    """Ordered entries; a classifier's deny goes on to the next. Without an available candidate the route table decides."""
    chosen = [e for e in here.device.policy_routes if not e.disabled and _may_meet(here, e, port)]
    if not chosen:
        return None
    entries = [_entry(here, e) for e in chosen]

    def decide(facts: Facts) -> Decision | None:
        """What this stage says of a packet."""
        for entry in entries:
            if next(entry.row.misses(facts), None) is None and _applies(entry, facts):
                return _candidates(here, entry, facts)
        return None

    return Step(Stage.POLICY_ROUTE, guard(NOT_ANSWERING), decide)


def _may_meet(here: DevicePlan, entry: PolicyRoute, port: str | None) -> bool:
    """Whether packets that come by an interface can meet an entry at all."""
    if entry.rule.arriving is None:
        return port is not None or here.settings.policy_for_own
    return port in {p for name in entry.rule.arriving for p in here.reader.ports.get(name, (name,))}


def _applies(entry: Entry, facts: Facts) -> bool:
    """Whether the entry's classifying list permits the packet; its deny goes on to the next entry."""
    if entry.classifier is None:
        return True
    row = entry.classifier.first(facts)
    return row is not None and row.verdict is Verdict.PERMIT


def _candidates(here: DevicePlan, entry: Entry, facts: Facts) -> Decision:
    """The first candidate that can be taken, or on to the route table when none can."""
    row = entry.row
    passed: list[tuple[Candidate, str]] = []
    because = Because("policy", (row.id, here.name), row.mark, row.about)
    for candidate in entry.candidates:
        if candidate.discard:
            reason = Because("policy.discard", (row.id, here.name), row.mark, row.about)
            note = Because("note.candidate", (tuple(passed),)) if passed else None
            return Decision(Did.DROPPED, reason, (Stop(Fate.DROPPED, "route.discard"),), note, "policy-routes", row.id)
        route, why = here.way_of(candidate, facts.packet.destination)
        if route is not None:
            note = Because("note.candidate", (tuple(passed),))
            return Decision(Did.STEERED, because, (Forward(route, route.hops),), note, "policy-routes", row.id)
        passed.append((candidate, why))
    note = Because("note.no-candidate", (tuple(passed),))
    return Decision(Did.FELL_THROUGH, because, PASS, note, "policy-routes", row.id)


def route(here: DevicePlan, port: str | None) -> Step:
    """The route table; passed over where a policy route chose."""
    known: dict[Prefix, Decision] = {}

    def decide(facts: Facts) -> Decision:
        """What this stage says of a packet."""
        destination = facts.packet.destination
        found = here.table.lookup(destination)
        if found is None or found.action is not RouteAction.FORWARD or found.origin == "connected":
            return _route(here, facts, found)
        decision = known.get(found.prefix)
        if decision is None:
            decision = known[found.prefix] = _route(here, facts, found)
        return decision

    return Step(Stage.ROUTE, guard(NO_WAY_YET), decide)


def _route(here: DevicePlan, facts: Facts, found: Route | None) -> Decision:
    """A route as a decision: forward, deliver to itself, discard, or tell the sender that there is no way."""
    destination = facts.packet.destination
    if found is None:
        return _no_route(here, destination)
    because = Because("route", (found.origin, found.prefix), found.mark)
    if found.action is not RouteAction.FORWARD:
        note = Because("note.action", (found.action.value,))
        if found.action is RouteAction.DISCARD:
            return Decision(Did.DROPPED, because, (Stop(Fate.DROPPED, "route.discard"),), note, "route main")
        # IPv6 has no 'host unreachable' that a route may send: RFC 4443 section 3.1 code 0 is 'no route'
        reply = Reply.HOST_UNREACHABLE if destination.family == 4 else Reply.NET_UNREACHABLE
        return Decision(Did.DROPPED, because, (Stop(Fate.DROPPED, "route.unreachable", reply),), note, "route main")
    if found.origin == "connected" and facts.packet.quoted is None and destination.value in _ends(found.prefix):
        note = Because("note.subnet-end", (destination,))
        return Decision(Did.DROPPED, because, (Stop(Fate.DROPPED, "neighbour.silent"),), note, "route main")
    return Decision(Did.ROUTED, because, (Forward(found, found.hops),), None, "route main")


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
                words = down(here.device, port, here.domains.link(here.name, port).why)
                stop = Stop(Fate.DROPPED, "interface.down", Reply.NET_UNREACHABLE)
                return Decision(Did.DROPPED, words, (stop,), note, "route main")
    stop = Stop(Fate.DROPPED, "route.none", Reply.NET_UNREACHABLE)
    if losers:
        found = losers[0].route
        values = (here.name, destination, found.origin, found.prefix, losers[0].words)
        because = Because("route.inactive", values, found.mark or here.device.mark)
        return Decision(Did.DROPPED, because, (stop,), None, "route main")
    prefixes = [r.prefix for r in here.table if r.origin != "local"]
    note = Because("note.known-routes", (tuple(prefixes[:3]), max(0, len(prefixes) - 3)))
    because = Because("route.none", (here.name, destination), here.device.mark)
    return Decision(Did.DROPPED, because, (stop,), note, "route main")


def send(here: DevicePlan, port: str | None) -> Step:
    """Who answers for the next hop, and whether the packet fits: it is sent undivided (RFC 1191)."""
    known: dict[tuple[str, Address], Neighbour] = {}
    # what a device asked itself, what it inspects, and what it may have to translate back
    remembers = port is None or bool(here.device.translate)

    def decide(facts: Facts) -> Decision:
        """What this stage says of a packet."""
        assert facts.leaving is not None
        target = facts.next_hop or facts.packet.destination
        found = known.get((facts.leaving, target))
        if found is None:
            made = _neighbour(here, facts.leaving, target)
            if isinstance(made, Decision):
                return made
            found = known[facts.leaving, target] = made
        if facts.packet.size > found.mtu:
            note = Because("note.mtu", (facts.packet.size, found.mtu, facts.leaving))
            return Decision(Did.DROPPED, found.narrowest, (Stop(Fate.DROPPED, "mtu.exceeded", Reply.TOO_BIG),), note)
        return found.opening if remembers or facts.packet.protocol in here.tracked else found.sent

    return Step(Stage.SEND, None, decide)


class Neighbour(NamedTuple):
    """Who takes what leaves for an address.

    Attributes:
        sent: the decision that hands it over.
        opening: the same for what the device remembers. Only what somebody takes opens a session.
        mtu: the largest packet that gets there, in bytes.
        narrowest: the interface or cable that says so.

    """

    sent: Decision
    opening: Decision
    mtu: int
    narrowest: Because


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
        because = down(here.device, leaving, link.why)
        return Decision(Did.DROPPED, because, (Stop(Fate.DROPPED, "interface.down", Reply.HOST_UNREACHABLE),))
    domain = domains.of(here.name, leaving)
    answers = [a for a in domains.answers(domain, target) if a.device != here.name] if domain else []
    if domain is None or not answers:
        return _silent(here, leaving, target, domain.name if domain else "")
    chosen = answers[0]
    cables = domains.cables((here.name, leaving), (chosen.device, chosen.interface))
    interface = here.device.interfaces[leaving]
    mtu = min([interface.mtu, *(c.link.mtu for c in cables if c.link.mtu)])
    mark = next((c.mark for c in cables if c.link.mtu == mtu), interface.mark)
    others = tuple((a.device, a.interface) for a in answers[1:])
    note = Because("note.sent", (chosen.device, chosen.interface, target, chosen.why == "proxy", others, domain.switches), None)
    latency = sum(c.link.latency_ms for c in cables)
    handover = Handover(chosen.device, chosen.interface, domain.name, domain.switches, latency)
    sent = Decision(Did.SENT, Because("neighbour", (leaving, chosen.device)), (handover,), note)
    return Neighbour(
        sent, sent._replace(actions=(OpenSession(), handover)), mtu, Because("interface.mtu", (here.name, leaving, mtu), mark)
    )


def connected_hop(here: DevicePlan, candidate: Candidate, destination: Address) -> tuple[Hop | None, str]:
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
            return Hop(name, candidate.next_hop, candidate.mark), ""
        return None, "silent"
    return None, "not connected"


def _somebody_answers(here: DevicePlan, port: str, target: Address) -> bool:
    """Whether another device answers for an address on an interface's segment (ARP, RFC 826; RFC 4861)."""
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
    if candidate.table is not None:
        found = here.table_named(candidate.table).lookup(destination)
        if found is None:
            return None, "no route"
        if found.action is not RouteAction.FORWARD:
            return None, "no way"
        usable = tuple(h for h in found.hops if answered(here, h, destination))
        return (found._replace(hops=usable), "") if usable else (None, "silent")
    if candidate.next_hop is not None and candidate.next_hop.family != destination.family:
        return None, "family"
    hop, why = connected_hop(here, candidate, destination)
    return (None, why) if hop is None else (Route(prefix, "policy", 0, 0, (hop,), mark=candidate.mark), "")


def answered(here: DevicePlan, hop: Hop, destination: Address) -> bool:
    """True when the interface is up and somebody answers for the next hop."""
    domain = here.domains.of(here.name, hop.interface)
    return domain is not None and any(a.device != here.name for a in here.domains.answers(domain, hop.address or destination))
