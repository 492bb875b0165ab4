"""Whether some hosts always reach some others, or what they see of those that they never do: each packet by how it fares.

Every packet of what is asked is told apart, there and back, with the way home of ICMP errors where it matters what senders see.

What holds was walked once for each kind of packet (``whole.py``), and what does not is such a walk.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from typing import NamedTuple

from mossy_compass.errors import TooLarge
from mossy_compass.headers.sets import Set
from mossy_compass.lab.cells import as_many
from mossy_compass.lab.circumstances import Circumstances, Memories
from mossy_compass.lab.claims import Claim
from mossy_compass.lab.ends import FlowEnd
from mossy_compass.lab.expect import Wanted, wrong_with
from mossy_compass.lab.forms import Sets, room, sent_by
from mossy_compass.lab.never import search_any
from mossy_compass.lab.proofs import Against, Found, Watched, addresses_meant, named_services, packets_of, services_in
from mossy_compass.lab.whole import Whole, as_known, wholes
from mossy_compass.model.network import Network
from mossy_compass.packet.address import Address, Span
from mossy_compass.packet.packet import FIRST_DYNAMIC_PORT, Packet
from mossy_compass.packet.service import WITH_PORTS, Service
from mossy_compass.state.state import State
from mossy_compass.walk.grid import services_at
from mossy_compass.walk.journey import Journey
from mossy_compass.walk.question import Question, ask


class _Wish(NamedTuple):
    """What is asked of one target.

    Attributes:
        target: the address.
        end: whose it is.
        services: by which it is asked about; empty for all.

    """

    target: Address
    end: FlowEnd
    services: tuple[Service, ...]


def search_each(found: Found, cases: list[Circumstances], sources: list[FlowEnd], watch: Watched, size: int) -> None:
    """Walk every kind of packet that every source can send to every target, in every case.

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
    _every_kind(found, cases, sources, watch, size)


def search_seen(found: Found, cases: list[Circumstances], sources: list[FlowEnd], watch: Watched, size: int) -> None:
    """Look for any packet that arrives, and where none does, for one whose sender sees something else than was claimed.

    Args:
        found, cases, sources, watch, size: as for ``search_each``.

    Raises:
        TooLarge: the sets need more memory than they are given.

    """
    search_any(found, cases, sources, watch, size)
    if found.claim.seeing and not found.against:
        _every_kind(found, cases, sources, watch, size)


def _every_kind(found: Found, cases: list[Circumstances], sources: list[FlowEnd], watch: Watched, size: int) -> None:
    """Walk every kind of packet; the arguments and errors are those of ``search_each``."""
    sets = Sets(room(size))
    asked = list(_each_asked(found, sets))
    memories = Memories(found.plan)
    failing: Counter[tuple[str, Address, str]] = Counter()
    looked_at: Counter[tuple[str, Address]] = Counter()
    for source in watch(sources):
        mine = addresses_meant(found.plan.network, source)
        if not mine:
            found.left.append(f"{source.name} (no address to send from)")
            continue
        # Of what never arrives, an address of another family has nothing to tell.
        others = [a for a in asked if a.end.owner != source.owner]
        met = {a.end.owner for a in others if any(a.target.family == b.family for b in mine)}
        apart = dict.fromkeys(a.end.name for a in others if a.end.owner not in met)
        if not found.claim.never:
            found.left += [f"{source.name} to {name} (no address of one family)" for name in apart]
        for one in others:
            held = sent_by(sets.space, [a.key for a in mine]) & _wanted(sets, found, one)
            if not held.satisfiable():
                continue
            found.senders.add(source.name)
            for case in cases:
                at_that = held & case.packets(found.plan.network, sets)
                if at_that.satisfiable():
                    looked_at[source.name, one.target] += 1
                    # Several kinds may be lost in one way at one moment, which is one moment.
                    failing.update(set(_fares(found, sets, source, one, case, at_that, memories.of(case))))
    for key, one_of_them in found.against.items():
        when = _when(one_of_them.case, failing[key], looked_at[key[:2]], found.plan.network)
        found.against[key] = one_of_them._replace(case=when)


def _when(first: str, failing: int, cases: int, network: Network) -> str:
    """When something is lost, in a few words; empty for always."""
    if failing == cases:
        return ""
    if not first and not network.hours:  # as things usually are
        return ""
    return (first or "outside every window of time") + (
        f", and {failing - 1} more of {cases} moments and circumstances" if failing > 1 else ""
    )


def _each_asked(found: Found, sets: Sets) -> Iterator[_Wish]:
    """Every address that should be reached, with the services: those that are named, or what its owner listens for."""
    network, claim = found.plan.network, found.claim
    for target, end in found.targets.items():
        if claim.services or claim.never:
            yield _Wish(target, end, () if claim.but else found.asked)
            continue
        words = [w for w in services_at(network, end.owner) if w != "ping"]
        services = tuple(s for w in words for s in services_in(network, w))
        if services and _wanted(sets, found, _Wish(target, end, services)).satisfiable():
            yield _Wish(target, end, services)
        else:
            found.left.append(f"{end.name} (it listens for nothing{' else' if words else ''}: name a service, as 'for ping')")


def _wanted(sets: Sets, found: Found, one: _Wish) -> Set:
    """The packets that open something of the services, to the target."""
    held = sets.opening & sets.to((one.target,))
    held = held & packets_of(sets, one.services) if one.services else held
    return held & ~packets_of(sets, found.asked) if found.claim.but else held


def _fares(
    found: Found, sets: Sets, source: FlowEnd, one: _Wish, case: Circumstances, held: Set, memory: State
) -> Iterator[tuple[str, Address, str]]:
    """Tell apart what becomes of packets, and note those that do not fare as was claimed; gives what they are noted under."""
    claim = found.claim
    wanted = Wanted(reaches=True, passes=claim.passes, avoids=claim.avoids, seen_as=claim.seen_as or None)

    def question(packet: Packet) -> Question:
        """The question that has a packet."""
        port = packet.from_port if packet.protocol in WITH_PORTS or packet.icmp >= 0 else None
        wishes = replace(case.options, source=str(packet.source), source_port=port)
        made = ask(found.plan, source.name, one.end.owner, packet.what(), wishes, addresses=(one.target,))
        return made._replace(packet=packet)

    # By the words of a reason: some hold the packet, which is another one for each kind.
    lost: dict[tuple[str, str, str, tuple[str, ...]], list[tuple[Whole, Journey, tuple[str, ...]]]] = {}

    def more(error: TooLarge) -> None:
        """There are more kinds than are looked at."""
        found.doubtful.append(f"{source.name} to {one.target}: {error}")

    for whole in as_many(wholes(found.plan, sets, held, question, memory, as_known, claim.never), more):
        found.kinds += not claim.never  # of what never arrives they are counted already
        found.walked += () if claim.never else whole.journeys
        found.doubtful += [f"{source.name} to {one.target}: {doubt}" for doubt in whole.doubts]
        otherwise = ((j, _seen_wrong(j, claim) if claim.never else tuple(wrong_with(j, wanted))) for j in whole.journeys)
        journey, wrong = next((one for one in otherwise if one[1]), (None, ()))
        if journey is not None:
            alike = journey.there.end, journey.cause, journey.because.cited(), wrong
            lost.setdefault(alike, []).append((whole, journey, wrong))
        elif not claim.never:
            for name, because in dict.fromkeys(p for j in whole.journeys for p in j.there.permits()):
                found.reasons[name, because] += 1
    for (_, cause, why, wrong), some in lost.items():
        # One rule may tell senders this and that, by what they sent.
        key = source.name, one.target, f"{cause} {why}{f' {wrong[0]}' if claim.never else ''}"
        yield key
        if key not in found.against:
            found.against[key] = _noted(found, sets, source, one, case, some, held)


def _seen_wrong(journey: Journey, claim: Claim) -> tuple[str, ...]:
    """What the sender of a packet that never arrives sees otherwise than was claimed."""
    return () if journey.symptom in claim.seeing else (f"it sees {journey.symptom}",)


def _noted(
    found: Found,
    sets: Sets,
    source: FlowEnd,
    one: _Wish,
    case: Circumstances,
    some: list[tuple[Whole, Journey, tuple[str, ...]]],
    held: Set,
) -> Against:
    """Packets that are lost by one cause, with the one of them that people know best."""
    all_of_them = sets.space.union(whole.held for whole, _, _ in some)
    names, more = named_services(found.plan.network, one.end.owner, sets, all_of_them, found.claim.services)
    _, journey, wrong = min(some, key=lambda s: s[0].packet.from_port != FIRST_DYNAMIC_PORT)
    if found.claim.never and not found.claim.services and not (held & ~all_of_them).satisfiable():
        names, more = ("everything",), False
    packet = journey.there.packet
    others = held & packets_of(sets, (_service_of(packet),)) & ~all_of_them
    port = packet.from_port if packet.protocol in WITH_PORTS and others.satisfiable() else -1
    return Against(source.name, str(one.target), names, more, journey, case.words, wrong, port)


def _service_of(packet: Packet) -> Service:
    """The service of a packet."""
    ported = packet.protocol in WITH_PORTS
    return Service(packet.protocol, Span(packet.to_port, packet.to_port) if ported else None)
