"""What is said of all packets, judged by walking every packet: of small networks drawn by chance, as ``brute.py`` makes them."""

from __future__ import annotations

import random
from collections.abc import Iterator, Sequence
from datetime import datetime

import pytest

import mossy_compass as mc
from mossy_compass.lab import versions as comparing
from mossy_compass.lab.between import RESERVED, Between, overview
from mossy_compass.lab.claims import claim_of
from mossy_compass.lab.forms import exactly
from mossy_compass.lab.prove import prove
from mossy_compass.lab.unmet import unmet
from mossy_compass.marks import Mark
from mossy_compass.packet.address import parse_address
from mossy_compass.packet.service import ICMP, TCP, UDP
from mossy_compass.plan.facts import Relation
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Did, Fate
from mossy_compass.walk.grid import services_at
from mossy_compass.walk.journey import Journey
from tests import brute
from tests.effort import seeds
from tests.test_versions import otherwise

HOSTS = {"desk": "10.40.1.10", "stool": "10.40.1.11", "store": "10.40.2.10", "shelf": "10.40.2.11", "guest": "10.40.3.10"}
SERVICES = {"ping": (ICMP, 0), "ssh": (TCP, 22), "https": (TCP, 443), "udp/53": (UDP, 53)}
AT_THE_TARGET = ("service.", "answer.", "echo.", "fragment.", "session.part")
"""Causes of ends at the host itself, whatever it does with what has come."""


def network(seed: int, timed: bool = False) -> mc.Network:
    """The network of a seed."""
    reading = mc.read_bytes(brute.network_text(seed, timed).encode(), "n.yaml")
    assert reading.network is not None, [p.line() for p in reading.errors]
    return reading.network


def arrives(journey: Journey, target: str) -> bool:
    """Whether a packet has come to a host, whatever that does with it."""
    there = journey.there
    return there.end == target and (there.fate in (Fate.DELIVERED, Fate.REFUSED) or there.cause.startswith(AT_THE_TARGET))


def of_service(sent: brute.Sent, name: str) -> bool:
    """Whether a packet is of a service."""
    return (sent.packet.protocol, sent.packet.to_port) == SERVICES[name]


def within(because: Because) -> Iterator[Because]:
    """A reason with the reasons that it rests on."""
    yield because
    for value in because.values:
        if isinstance(value, Because):
            yield from within(value)


def met_by(small: mc.Network, sent: brute.Sent, noted: bool) -> Iterator[Mark]:
    """What is written that a packet, its answer or an error about it meets; as something that decides, or in any way."""
    hops = [hop for journey in sent.journeys for leg in journey.every_leg for hop in leg.every_hop]
    for hop, ruling in ((one, ruling) for one in hops for ruling in one.rulings):
        if noted or ruling.did is not Did.NOTED:
            yield from (b.mark for b in (within(ruling.because) if noted else (ruling.because,)) if b.mark is not None)
        if ruling.hop is not None and ruling.because.code == "route":  # of equal routes the one that was taken
            routes = small.devices[hop.device].routes
            same = [r for r in routes if r.prefix == ruling.because.named["prefix"]]
            yield from (r.mark for r in same if r.next_hop == ruling.hop.address)


def sent_to_itself(sent: brute.Sent) -> bool:
    """Whether translation sends a packet back to who sent it, which sets do not follow: its flow may be its own reverse."""
    return any(j.there.end == sent.sender and str(sent.packet.destination) not in HOSTS.values() for j in sent.journeys)


@pytest.mark.parametrize("seed", seeds(0, 0, 1))
def test_what_is_said_of_all_packets_is_so_of_each(seed: int) -> None:
    all_agree(network(seed), seed, (None,))


@pytest.mark.parametrize("seed", seeds(500, 0, 1))
def test_what_is_said_of_all_moments_and_equal_ways_is_so_of_each(seed: int) -> None:
    all_agree(network(seed, timed=True), seed, (None, *brute.TIMES))


def all_agree(small: mc.Network, seed: int, times: Sequence[datetime | None]) -> None:
    """Claims, the table of what gets where, and what is said to be met, agree with the walks of every packet at some times."""
    plan = Plan(small)
    sent = [s for at in times for s in brute.walked(plan, at=at)]
    by_source: dict[str, list[brute.Sent]] = {}
    for one in sent:
        by_source.setdefault(str(one.packet.source), []).append(one)
    chance = random.Random(seed)
    for _ in range(3):
        source, target = chance.sample(sorted(HOSTS), 2)
        claims_hold(plan, source, target, by_source[HOSTS[source]])
    for row in overview(plan, sorted(HOSTS), sorted(HOSTS)).rows:
        assert not row.doubtful
        for service in ("ping", "ssh", "https"):
            assert told(row, service) == counted(row, [s for s in by_source[HOSTS[row.source]] if of_service(s, service)])
        unanswered = {a.words: a.partly for a in row.unanswered}
        for service in services_at(small, row.target):
            direct = [
                s for s in by_source[HOSTS[row.source]] if of_service(s, service) and str(s.packet.destination) == HOSTS[row.target]
            ]
            asking = [s for s in direct if s.packet.protocol == ICMP or s.packet.from_port >= RESERVED]
            came = [s for s in asking if any(arrives(j, row.target) for j in s.journeys)]
            home = [all(j.answered for j in s.journeys if arrives(j, row.target)) for s in came]
            assert (service in unanswered) is not all(home), (row, service)
            if len(times) == 1:
                assert unanswered.get(service) == (None if all(home) else any(home)), (row, service)
    idle(plan, sent)


def claims_hold(plan: Plan, source: str, target: str, sent: list[brute.Sent]) -> None:
    """Claims of both kinds about two hosts are answered as every packet fares."""
    got = [s for s in sent if any(arrives(j, target) for j in s.journeys)]
    assert prove(plan, claim_of(f"{source} never reaches {target}")).holds is not bool(got)
    for service in SERVICES:
        some = [s for s in got if of_service(s, service)]
        assert prove(plan, claim_of(f"{source} never reaches {target} for {service}")).holds is not bool(some)
        direct = [s for s in sent if of_service(s, service) and s.packet.destination == parse_address(HOSTS[target])]
        lost = [s for s in direct for j in s.journeys if not (j.answered and j.there.end == target)]
        assert prove(plan, claim_of(f"{source} reaches {target} for {service}")).holds is not bool(lost)


def told(row: Between, service: str) -> tuple[bool, bool]:
    """Whether some of a service arrives, and all of it, as the table says it."""
    words = {a.words: a for a in row.arrives}
    word = words.get(service, words.get("everything"))
    only_some = word is not None and (word.partly or word.at_times or word.by_some_ways)
    if row.all_but:
        return word is None or only_some, word is None
    return word is not None, word is not None and not only_some


def counted(row: Between, sent: list[brute.Sent]) -> tuple[bool, bool]:
    """The same as walks have it: whether any packet comes there, sent to whatever address, and all that are sent to its own."""
    direct = [s for s in sent if str(s.packet.destination) == HOSTS[row.target]]
    return (
        any(arrives(j, row.target) for s in sent for j in s.journeys),
        all(arrives(j, row.target) for s in direct for j in s.journeys),
    )


def idle(plan: Plan, sent: list[brute.Sent]) -> None:
    """What is said to be met by some packet is, and the rest is met by none."""
    looked_for = unmet(Plan(plan.network), mc.findings(Plan(plan.network))).looked_for
    deciding = {mark for s in sent if not sent_to_itself(s) for mark in met_by(plan.network, s, noted=False)}
    assert not [mark for mark, is_met in looked_for.items() if is_met is False and mark in deciding]
    # Sets are followed as if a device had not seen the same packet before, which it has where it comes round.
    if not any(j.there.fate is Fate.LOOPED for s in sent for j in s.journeys):
        in_any_way = {mark for s in sent for mark in met_by(plan.network, s, noted=True)}
        assert not [mark for mark, is_met in looked_for.items() if is_met and mark not in in_any_way]


@pytest.mark.parametrize("seed", seeds(200, 0, 1))
def test_what_is_said_to_end_otherwise_in_another_version_does_and_nothing_else(seed: int) -> None:
    one = network(seed)
    other = otherwise(one, random.Random(seed))
    search = comparing._Versions(Plan(one), Plan(other), (), (), (), 40_000)
    search.run(iter, 16)
    if search.cut:  # where packets go in circles each port may be a kind of its own, and it says that it did not look at all
        pytest.skip(search.cut[0])
    groups = [(g.kind, search.sets.space.union(held for held, _ in g.sets)) for g in search.groups.values()]
    walks = zip(brute.walked(Plan(one)), brute.walked(Plan(other)), strict=True)
    for was, now in walks:
        mine = exactly(search.sets.space, was.packet, Relation.OPENING)
        kinds = [kind for kind, held in groups if (held & mine).satisfiable()]
        pair = search._apart(was.journeys, now.journeys)
        assert len(kinds) == (pair is not None), was.packet
        if pair is not None:
            closes, opens = (a.answered and not b.answered for a, b in (pair, pair[::-1]))
            assert (kinds[0] == comparing.CLOSES, kinds[0] == comparing.OPENS) == (closes, opens), was.packet
