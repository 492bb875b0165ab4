"""What gets from where to where, of all that can be sent: every packet, between segments, groups, zones or hosts.

Sets are followed on their way there; what is said to arrive is shown by a packet that was walked. Of what a target listens for each
kind is walked there and back (``whole.py``), so that it is known too whether it is answered.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from typing import NamedTuple

from mossy_compass.errors import QuestionError, TooLarge
from mossy_compass.headers.sets import Set
from mossy_compass.lab.cells import Fared, Known, as_many, flood_from
from mossy_compass.lab.circumstances import Circumstances, Memories, every_case
from mossy_compass.lab.claims import Claim
from mossy_compass.lab.ends import FlowEnd, meant
from mossy_compass.lab.forms import Sets, room, sent_by
from mossy_compass.lab.inwords import Arrives, shortest
from mossy_compass.lab.never import TAKEN, sent_towards, walked
from mossy_compass.lab.proofs import Found, addresses_meant, device_of, packets_of, services_in
from mossy_compass.lab.whole import as_known, wholes
from mossy_compass.model.network import Kind, Network
from mossy_compass.packet.address import Address, Span
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import WITH_PORTS, Service
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Fate
from mossy_compass.proof.space import FOR_A_NETWORK, with_room
from mossy_compass.walk.grid import services_at
from mossy_compass.walk.question import Question
from mossy_compass.walk.weather import in_weather

RESERVED = 1024
"""Source ports below are those of services (RFC 6335 section 6): a rule about port 22 that lets answers to port 22 pass helps nobody."""
MOST_WALKED = 3000
"""So many kinds of packets are walked there and back; of what is left it is said that it was not asked whether it is answered."""


class Between(NamedTuple):
    """What gets from one to another.

    Attributes:
        source, target: as they were named.
        arrives: what does; empty where nothing does.
        all_but: everything arrives but this, and this does not.
        doubtful: what sets say and no walk showed, a few words; empty where there is no doubt.
        unanswered: of the services that it listens for, those that arrive and whose answers do not come home.

    """

    source: str
    target: str
    arrives: tuple[Arrives, ...]
    all_but: bool = False
    doubtful: str = ""
    unanswered: tuple[Arrives, ...] = ()


class Overview(NamedTuple):
    """What gets from where to where.

    Attributes:
        rows: pair by pair.
        cases: how many moments and circumstances were looked at.
        kinds: how many kinds of packets were told apart.
        left: what was not looked at, a few words each.

    """

    rows: tuple[Between, ...]
    cases: int
    kinds: int
    left: tuple[str, ...]


Watch = Callable[[list[str]], Iterable[str]]


def overview(of: Network | Plan, sources: Sequence[str] = (), targets: Sequence[str] = (), watch: Watch = iter) -> Overview:
    """Follow everything that some hosts can send to some others, and tell what of it gets there.

    Args:
        of: the network, or compiled as it is now.
        sources, targets: hosts, groups, segments, zones, prefixes; every segment with a host when left out.
        watch: takes the names of the sources and gives them one by one; for a progress bar.

    Raises:
        QuestionError: nobody is meant, or more moments and circumstances come of it than are looked at.
        TooLarge: the sets need more memory than they are given.

    """
    plan = of if isinstance(of, Plan) else in_weather(Plan(of))
    network = plan.network
    usual = [n for n, s in network.segments.items() if any(network.devices[d].kind is Kind.HOST for d, _ in s.members)]
    froms, tos = list(sources) or usual, list(targets) or usual
    if not froms or not tos:
        raise QuestionError("no segment of this network has a host on it: name who sends with --from, and whom with --to.")
    search = _Flooded(plan, {n: _hosts(network, n, meant(network, n, False, True).ends) for n in tos}, every_case(plan))
    ends = {n: meant(network, n, True, True) for n in froms}
    search.left = [left for m in ends.values() for left in m.left]
    with_room(partial(search.run, {n: m.ends for n, m in ends.items()}, watch), FOR_A_NETWORK)
    return Overview(tuple(search.rows), len(search.cases), search.kinds, tuple(dict.fromkeys(search.left)))


def _hosts(network: Network, word: str, ends: tuple[FlowEnd, ...]) -> tuple[FlowEnd, ...]:
    """The ends that are no routers: what a segment's own router takes is another question, asked by its name."""

    def routes(end: FlowEnd) -> bool:
        """Whether it is a router, and was not named itself."""
        device = network.devices.get(end.owner)
        return device is not None and device.kind is not Kind.HOST and word.partition("/")[0] != end.owner

    return tuple(e for e in ends if not routes(e)) or ends


class _Flooded:
    """What gets to each of the targets."""

    def __init__(self, plan: Plan, targets: dict[str, tuple[FlowEnd, ...]], cases: list[Circumstances]) -> None:
        self.plan, self.cases, self.left = plan, cases, []
        self.memories = Memories(plan)
        self.known: dict[int, Known] = {}
        self.targets = {n: {a: e for e in ends for a in addresses_meant(plan.network, e)} for n, ends in targets.items()}
        self.all = {a: e for held in self.targets.values() for a, e in held.items()}
        self.owners = {a: device_of(plan.network, e.owner) for a, e in self.all.items()}

    left: list[str]

    def run(self, sources: dict[str, tuple[FlowEnd, ...]], watch: Watch, size: int) -> None:
        """Follow what each source can send, to all targets at once."""
        self.rows: list[Between] = []
        self.kinds = self.walked = 0
        self.sets = Sets(room(size))
        self.known.clear()
        # Answers are asked for as systems ask: from no port that is reserved for services (RFC 6335 section 6).
        self._reserved = self.sets.space.of_condition(Condition("from", (("from-port", (Span(0, RESERVED - 1),)),)))
        self._reserved = self._reserved & packets_of(self.sets, tuple(Service(p) for p in WITH_PORTS))
        wanted = sent_towards(self.plan, tuple(self.all), self.sets)
        for name in watch(list(sources)):
            self._source(name, sources[name], wanted)

    def _source(self, name: str, ends: tuple[FlowEnd, ...], wanted: Set) -> None:
        """What one source can send."""
        starts: dict[str, list[Address]] = {}
        for end in ends:
            starts.setdefault(device_of(self.plan.network, end.owner), []).extend(addresses_meant(self.plan.network, end))
        sent = {device: sent_by(self.sets.space, [a.key for a in own]) for device, own in starts.items() if own}
        per_case: list[dict[Address, Set]] = []
        by_some_ways = self.sets.nothing
        shown: dict[Address, list[tuple[Fared, Circumstances]]] = {}
        for number, case in enumerate(self.cases):
            memory, arrived, lost = self.memories.of(case), dict[Address, Set](), list[Set]()
            known = self.known.setdefault(number, {})
            now = wanted & self.sets.opening & case.packets(self.plan.network, self.sets)
            held = [(device, mine & now) for device, mine in sent.items()]
            try:
                for piece in flood_from(self.plan, self.sets, held, case.moment, memory, known=known):
                    self.kinds += 1
                    came = list(self._at(piece))
                    lost += [piece.held] if piece.forked and not came else []
                    for target, mine in came:
                        arrived[target] = arrived.get(target, self.sets.nothing) | mine
                        shown.setdefault(target, []).append((piece._replace(held=mine), case))
            except TooLarge as error:
                self.left.append(f"some packets of {name}: {error}")
            per_case.append(arrived)
            by_some_ways = by_some_ways | (self.sets.space.union(lost) & self.sets.space.union(arrived.values()))
        for goal, addresses in self.targets.items():
            row = self._row(name, goal, ends, addresses, per_case, shown, by_some_ways)
            self.rows += [row] if row is not None else []

    def _at(self, piece: Fared) -> Iterable[tuple[Address, Set]]:
        """The targets at which packets have arrived, each with those that did."""
        device, fate, cause = piece.end
        if fate not in (Fate.DELIVERED.value, Fate.REFUSED.value) and not cause.startswith(TAKEN):
            return
        for target, owner in self.owners.items():
            if owner == device and piece.destination in (None, target):
                mine = piece.held if piece.destination is not None else piece.held & self.sets.to((target,))
                if mine.satisfiable():
                    yield target, mine

    def _row(
        self,
        source: str,
        target: str,
        ends: tuple[FlowEnd, ...],
        addresses: dict[Address, FlowEnd],
        per_case: list[dict[Address, Set]],
        shown: dict[Address, list[tuple[Fared, Circumstances]]],
        by_some_ways: Set,
    ) -> Between | None:
        """What gets from a source to a target; nobody is asked about itself, and where nobody else is there is no row."""
        own = self.sets.nothing
        for end in ends:
            mine = tuple(a for a, e in addresses.items() if e.owner == end.owner)
            if mine:
                own = own | (
                    sent_by(self.sets.space, [a.key for a in addresses_meant(self.plan.network, end)]) & self.sets.to(mine)
                )
        keys = [a.key for end in ends for a in addresses_meant(self.plan.network, end)]
        asked = sent_by(self.sets.space, keys) & self.sets.opening & self.sets.to(addresses) & ~own
        if not asked.satisfiable():
            return None
        always, ever = self.sets.space.possible, self.sets.nothing
        for case, arrived in zip(self.cases, per_case, strict=True):
            got = self.sets.space.union(arrived[a] for a in addresses if a in arrived) & ~own
            always, ever = always & ~(case.packets(self.plan.network, self.sets) & ~got), ever | got
        doubt = "" if not ever.satisfiable() else self._doubt(ends, addresses, shown, ever)
        arrives, all_but = self._arrives(asked, always, ever, addresses, by_some_ways)
        return Between(source, target, arrives, all_but, doubt, tuple(self._unanswered(source, ends, addresses, per_case)))

    def _unanswered(
        self, source: str, ends: tuple[FlowEnd, ...], addresses: dict[Address, FlowEnd], per_case: list[dict[Address, Set]]
    ) -> Iterator[Arrives]:
        """The services that a target listens for, of which some packets arrive and are not answered."""
        senders: dict[str, list[FlowEnd]] = {}
        for end in ends:
            senders.setdefault(device_of(self.plan.network, end.owner), []).append(end)
        listens: dict[str, list[Address]] = {}
        for address, end in addresses.items():
            for word in services_at(self.plan.network, end.owner):
                listens.setdefault(word, []).append(address)
        for word, by_whom in listens.items():
            of = packets_of(self.sets, services_in(self.plan.network, word)) & ~self._reserved
            lost, answered, asked = set[int](), False, set[int]()
            for number, address, (device, mine) in itertools.product(range(len(self.cases)), by_whom, senders.items()):
                got = per_case[number].get(address)
                others = [e for e in mine if e.owner != addresses[address].owner]
                if got is None or not others:
                    continue
                own = [a.key for e in others for a in addresses_meant(self.plan.network, e)]
                held = got & of & self.sets.to((address,)) & sent_by(self.sets.space, own)
                if held.satisfiable():
                    asked.add(number)
                    for every_way in self._answers(source, device, others, held, number):
                        lost.update(() if every_way else (number,))
                        answered = answered or every_way
            if lost:
                yield Arrives(word, answered and lost == asked, lost != asked)

    def _answers(self, source: str, device: str, ends: list[FlowEnd], held: Set, number: int) -> Iterator[bool]:
        """Of each kind of some packets, whether it is answered by every equal way."""
        case = self.cases[number]
        names = {a: e.name for e in ends for a in addresses_meant(self.plan.network, e)}

        def ask(packet: Packet) -> Question:
            """The question that has a packet."""
            to = packet.destination
            return Question(names[packet.source], device, str(to), packet.what(), packet, None, to, None, case.moment)

        if self.walked >= MOST_WALKED:
            self.left.append(f"whether {source} is answered, since more than {MOST_WALKED} kinds of packets come of it: name fewer")
            return
        for kind in as_many(wholes(self.plan, self.sets, held, ask, self.memories.of(case), as_known), self._too_many(source)):
            self.walked += 1
            # Of ways by which it does not arrive it is said already.
            yield all(journey.answered for journey in kind.journeys if journey.there.fate is Fate.DELIVERED)

    def _too_many(self, source: str) -> Callable[[TooLarge], None]:
        """Notes that there are more kinds than are looked at."""
        return lambda error: self.left.append(f"whether {source} is answered: {error}")

    def _arrives(
        self, asked: Set, always: Set, ever: Set, addresses: dict[Address, FlowEnd], by_some_ways: Set
    ) -> tuple[tuple[Arrives, ...], bool]:
        """What arrives, by name, or where that is shorter what does not: everything, or service by service."""
        listens = [w for end in addresses.values() for w in services_at(self.plan.network, end.owner)]
        return shortest(self.plan.network, self.sets, asked, ever, always, listens, by_some_ways)

    def _doubt(
        self,
        ends: tuple[FlowEnd, ...],
        addresses: dict[Address, FlowEnd],
        shown: dict[Address, list[tuple[Fared, Circumstances]]],
        ever: Set,
    ) -> str:
        """What no walk shows, though sets say that it arrives; empty where one does."""
        pieces = [(address, *piece) for address in addresses for piece in shown.get(address, ())]
        for address, piece, case in pieces:
            facts = self.sets.space.witness(piece.held & ever)
            if facts is None:
                continue
            sender = next((e for e in ends if facts.packet.source in addresses_meant(self.plan.network, e)), None)
            found = Found(self.plan, Claim("", ""), (), {address: addresses[address]})
            if sender is not None and walked(found, sender, facts.packet, case, piece) is not None:
                return ""
        return "no walk shows it"
