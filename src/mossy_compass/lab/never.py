"""Whether some hosts can reach some others with any packet at all: every packet is followed, as sets, and a counterexample is walked.

The walk is the only meaning: sets are made by asking its own steps once for each kind of packet (``cells.py``). What is shown against
a claim is a packet that was walked; what holds, holds for every packet of the kinds that the answer names, and for no others.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace

from mossy_compass.headers.sets import Set
from mossy_compass.headers.spans import merge
from mossy_compass.lab.cells import Fared, Known, flood
from mossy_compass.lab.circumstances import Circumstances, Memories
from mossy_compass.lab.ends import FlowEnd
from mossy_compass.lab.expect import in_order, passed_on
from mossy_compass.lab.forms import Sets, holding, room, sent_by
from mossy_compass.lab.proofs import Against, Found, Watched, addresses_meant, device_of, named_services, packets_of, services_in
from mossy_compass.packet.address import FAMILIES, Address, Span
from mossy_compass.packet.packet import FIRST_DYNAMIC_PORT, Packet
from mossy_compass.packet.service import ICMP, ICMP6, WITH_PORTS, Service
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Relation
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Fate
from mossy_compass.walk.journey import Journey
from mossy_compass.walk.many import paths

TAKEN = ("service.", "answer.", "echo.", "fragment.", "session.part")
"""Causes of an end that a packet has at the host that it was for."""


def search_any(found: Found, cases: list[Circumstances], sources: list[FlowEnd], watch: Watched, size: int) -> None:
    """Follow what every source can send, in every case.

    Args:
        found: where what is found goes.
        cases: when.
        sources: who sends.
        watch: takes the sources and gives them one by one.
        size: of the room for sets.

    Raises:
        TooLarge: the sets need more memory than they are given.

    """
    found.begin()
    sets = Sets(room(size))
    found.direct = sets.to(found.targets)
    wanted = sent_towards(found.plan, tuple(found.targets), sets) & _by(found, sets)
    for service, family in ((ICMP, 6), (ICMP6, 4)):  # each is of one family (RFC 792, RFC 4443)
        wanted = wanted & ~(
            packets_of(sets, (Service(service),))
            & sets.space.of_condition(Condition("to", (("destination", (FAMILIES[family],)),)))
        )
    memories, watched = Memories(found.plan), {*found.claim.passes, *found.claim.avoids}
    known: list[Known] = [{} for _ in cases]
    for source in watch(sources):
        mine = addresses_meant(found.plan.network, source)
        if not mine:
            found.left.append(f"{source.name} (no address to send from)")
        if not mine or all(end.owner == source.owner for end in found.targets.values()):
            continue
        device = device_of(found.plan.network, source.owner)
        held = sent_by(sets.space, [a.key for a in mine]) & wanted
        found.senders.add(source.name)
        for case, stays in zip(cases, known, strict=True):
            memory = memories.of(case)
            mine_now = held & case.packets(found.plan.network, sets)
            for piece in flood(found.plan, sets, device, mine_now, case.moment, memory, True, watched, stays):
                _weigh(found, sets, source, case, piece, sets.opening)


def sent_towards(plan: Plan, targets: tuple[Address, ...], sets: Sets) -> Set:
    """The destinations from which a target can be reached: its own addresses, and whatever some rule translates."""
    spans: list[Span] = [Span(a.key, a.key) for a in targets]
    for device in plan.network.devices.values():
        for rule in device.translate:
            if rule.disabled or (rule.of_source and not rule.outer):
                continue
            if rule.of_source:  # fixed partners are rules of both ways
                spans += rule.outer
                continue
            own = plan.device(device.name).own_spans
            if rule.destinations is None:
                return sets.space.possible
            spans += [s for t in rule.destinations for s in (own if t.spans is None else t.spans)]
    return sets.space.of_condition(Condition("to", (("destination", merge(spans)),)))


def _by(found: Found, sets: Sets) -> Set:
    """The packets of the services that are asked about."""
    if not found.asked:
        return sets.space.possible
    named = packets_of(sets, found.asked)
    return sets.space.possible & ~named if found.claim.but else named


def _weigh(found: Found, sets: Sets, source: FlowEnd, case: Circumstances, piece: Fared, opening: Set) -> None:
    """Whether the packets of a piece have reached a target."""
    found.kinds += 1
    name, fate, cause = piece.end
    arrived = fate in (Fate.DELIVERED.value, Fate.REFUSED.value) or cause.startswith(TAKEN)
    meant = piece.passed.issuperset(found.claim.passes) and not piece.passed.intersection(found.claim.avoids)
    if arrived and not meant and not piece.tunnelled:  # within a tunnel others may be passed, which only a walk tells
        found.elsewhere[name, piece.because] += 1
        return
    for target, end in found.targets.items():
        at = device_of(found.plan.network, end.owner)
        if not arrived or end.owner == source.owner or name != at or piece.destination not in (None, target):
            continue
        mine = piece.held
        if piece.destination is None:
            mine = mine & sets.to((target,))
        if not mine.satisfiable():
            continue
        if not (mine & opening).satisfiable():
            facts = sets.space.witness(mine)
            found.stray = found.stray or (str(facts.packet) if facts is not None else "")
            continue
        _against(found, sets, source, target, case, piece, mine & opening)
    if not arrived and (piece.held & found.direct).satisfiable():
        found.reasons[name, piece.because] += 1


def _against(found: Found, sets: Sets, source: FlowEnd, target: Address, case: Circumstances, piece: Fared, held: Set) -> None:
    """Note packets that reach a target, with one of them walked; where no walk shows it, that stays in doubt."""
    key = source.name, target, piece.end[2]
    if key in found.against:
        return
    names, more = named_services(found.plan.network, found.targets[target].owner, sets, held, found.claim.services)
    for packet in _wishes(found, sets, source, target, names, held):
        journey = walked(found, source, packet, case, piece)
        if journey is not None:
            found.against[key] = Against(source.name, str(target), names, more, journey, case.words)
            return
    within = ", within a tunnel" if piece.tunnelled else ""
    what = f"{source.name} to {target} at {piece.end[0]} ({piece.end[2]}){within}"
    found.doubtful.append(f"{what}: the sets say so, and no walk showed it")


def _wishes(found: Found, sets: Sets, source: FlowEnd, target: Address, names: Iterable[str], held: Set) -> Iterator[Packet]:
    """Packets of a set, those that people would write first."""
    for word in names:
        for service in services_in(found.plan.network, word):
            facts = sets.space.witness(held & packets_of(sets, (service,)))
            if facts is not None:
                usual = facts.packet._replace(from_port=FIRST_DYNAMIC_PORT) if facts.packet.protocol in WITH_PORTS else facts.packet
                yield usual if holding(sets.space, held, usual, Relation.OPENING) else facts.packet
    facts = sets.space.witness(held)
    if facts is not None:
        yield facts.packet


def walked(found: Found, source: FlowEnd, packet: Packet, case: Circumstances, piece: Fared) -> Journey | None:
    """A packet on every way that it may take; the journey that ends where the set says, by a way that is meant, or None."""
    plan, claim = found.plan, found.claim
    service = packet.what()
    port = packet.from_port if packet.protocol in WITH_PORTS or packet.icmp >= 0 else None
    wishes = replace(case.options, source=str(packet.source), source_port=port)
    memory = Memories(plan).of(case)
    for path in paths(plan, source.name, str(packet.destination), service, wishes, memory).paths:
        there = path.journey.there
        way = passed_on(there)
        as_claimed = in_order(claim.passes, way) and not set(claim.avoids) & set(way)
        if as_claimed and (there.end, there.fate.value, there.cause) == piece.end:
            return path.journey
    return None
