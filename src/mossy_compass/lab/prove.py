"""Whether some hosts can reach some others with any packet at all: every packet is followed, as sets, and a counterexample is walked.

The walk is the only meaning: sets are made by asking its own steps once for each kind of packet (``cells.py``). What is shown against
a claim is a packet that was walked; what holds, holds for every packet of the kinds that the answer names, and for no others.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from functools import partial
from typing import NamedTuple

from mossy_compass.errors import QuestionError
from mossy_compass.headers.sets import Set
from mossy_compass.headers.spans import merge
from mossy_compass.lab.cells import Fared, flood
from mossy_compass.lab.forms import Sets, holding, room, sent_by
from mossy_compass.lab.claims import Claim
from mossy_compass.lab.ends import FlowEnd, meant
from mossy_compass.model.gates import Application
from mossy_compass.model.network import Network
from mossy_compass.packet.address import FAMILIES, Address, Span
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import BUILT_IN_SERVICES, ICMP, ICMP6, WITH_PORTS, Service, icmp_span
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Moment, Relation
from mossy_compass.plan.fields import service_span
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Fate
from mossy_compass.proof.space import with_room
from mossy_compass.state.state import State
from mossy_compass.walk.grid import services_at
from mossy_compass.walk.journey import Journey
from mossy_compass.walk.many import paths
from mossy_compass.walk.question import Instant, Options, addresses_of, services_of
from mossy_compass.walk.weather import in_weather

WEEKS = (1_767_571_200, 1_783_296_000)
"""Two Mondays, midnight UTC (5 January and 6 July 2026): the weeks in which moments are looked for, in winter and in summer time."""
MOST_CASES = 64
"""So many combinations of windows of time, applications and last resorts are tried."""
TAKEN = ("service.", "answer.", "echo.", "fragment.", "session.part")
"""Causes of an end that a packet has at the host that it was for."""
_PING = (Service(ICMP, icmp_span((8, None))), Service(ICMP6, icmp_span((128, None))))


class Circumstances(NamedTuple):
    """What holds while packets are asked about.

    Attributes:
        options: the same as wishes about a test packet.
        moment: as devices see it.
        words: in a few words; empty for the usual.
        learned: every device has learned every name.

    """

    options: Options
    moment: Moment
    words: str
    learned: bool = False


class Against(NamedTuple):
    """Packets that reach a target, against the claim.

    Attributes:
        source, target: from whom, to which address.
        services: by what, as far as names go; ``more`` says that there are others.
        more: there are packets of other services too.
        journey: of one of them, walked.
        case: when; empty for always or without a time.

    """

    source: str
    target: str
    services: tuple[str, ...]
    more: bool
    journey: Journey
    case: str


class Proof(NamedTuple):
    """What came of a claim.

    Attributes:
        claim: which.
        against: packets that reach the target; empty where none does.
        doubtful: what sets say and no walk showed, a few words each: within tunnels, whose outer packets are not followed.
        reasons: what stopped packets on the way there, the most kinds first: at which device, the reason, how many kinds of packets.
        kinds: how many kinds of packets were told apart.
        sources, targets: how many hosts send, and how many addresses are sent to.
        cases: how many combinations of times, applications and last resorts were looked at.
        left: who could not be asked about, a few words each.
        stray: packets that open nothing reach the target too: an example of those; empty where none does.

    """

    claim: Claim
    against: tuple[Against, ...]
    doubtful: tuple[str, ...]
    reasons: tuple[tuple[str, Because, int], ...]
    kinds: int
    sources: int
    targets: int
    cases: int
    left: tuple[str, ...]
    stray: str

    @property
    def holds(self) -> bool | None:
        """Whether it holds; None where that is not known."""
        return False if self.against else None if self.doubtful or self.left else True


Watched = Callable[[list[FlowEnd]], Iterable[FlowEnd]]


def prove(of: Network | Plan, claim: Claim, watch: Watched = iter) -> Proof:
    """Look for any packet against a claim: any protocol, port, ICMP kind and source port, from every address of every source.

    Args:
        of: the network; compiled, with what fails and which probes are down by now, where that is to count.
        claim: what is to hold.
        watch: takes the sources, and gives them one by one; for a progress bar.

    Raises:
        QuestionError: nobody is meant, there is no such service, or more cases come of it than are looked at.
        TooLarge: the sets need more memory than they are given.

    """
    plan = of if isinstance(of, Plan) else in_weather(Plan(of))
    network = plan.network
    sources, targets = meant(network, claim.source, True, True), meant(network, claim.target, False, True)
    asked = tuple(s for name in (*claim.services, *claim.but) for s in services_in(network, name))
    cases = list(_cases(plan))
    if len(cases) > MOST_CASES:
        raise QuestionError(
            f"{len(cases)} combinations of windows of time, applications and last resorts come of this network, and at most "
            f"{MOST_CASES} are looked at. Name fewer windows or applications."
        )
    held = {a: end for end in targets.ends for a in _addresses(network, end)}
    if not held or not sources.ends:
        left = (*sources.left, *targets.left)
        raise QuestionError(f"nothing can be asked about '{claim.words}': {', '.join(left) or 'nobody is meant'}.")
    found = _Found(plan, claim, asked, held)
    # Equal hosts are not the same: each is asked from where it stands.
    with_room(partial(_search, found, cases, list(sources.ends), watch))
    if not found.senders:
        raise QuestionError(
            f"nothing can be asked about '{claim.words}': every source is the only target itself, or has no address."
        )
    unheld = [f"{end.name} (no address to send to)" for end in targets.ends if not _addresses(network, end)]
    left = tuple(dict.fromkeys((*sources.left, *targets.left, *unheld, *found.left)))
    reasons = tuple((device, because, count) for (device, because), count in found.reasons.most_common())
    counts = found.kinds, len(found.senders), len(held), len(cases)
    # What is read first is what people know best.
    against = tuple(sorted(found.against.values(), key=lambda a: (not a.journey.answered, ":" in a.target)))
    return Proof(claim, against, tuple(dict.fromkeys(found.doubtful)), reasons, *counts, left, found.stray)


def services_in(network: Network, word: str) -> tuple[Service, ...]:
    """The services of a word, with every port of a range.

    Raises:
        QuestionError: there is no such service.

    """
    return tuple(one for s in services_of(network, word) for one in (_PING if s is None else (s,)))


def _addresses(network: Network, end: FlowEnd) -> tuple[Address, ...]:
    """The addresses of an end that are meant; those of one link alone are for nobody beyond it."""
    found = (end.address,) if end.address is not None else addresses_of(network, end.name)
    return tuple(a for a in found if not a.is_link_local and end.family in (None, a.family))


class _Found:
    """What a search has found so far."""

    def __init__(self, plan: Plan, claim: Claim, asked: tuple[Service, ...], targets: dict[Address, FlowEnd]) -> None:
        self.plan, self.claim, self.asked, self.targets = plan, claim, asked, targets
        self.direct: Set
        self.begin()

    def begin(self) -> None:
        """Nothing is found yet."""
        self.against: dict[tuple[str, Address, str], Against] = {}
        self.doubtful: list[str] = []
        self.left: list[str] = []
        self.reasons: Counter[tuple[str, Because]] = Counter()
        self.senders: set[str] = set()
        self.kinds = 0
        self.stray = ""


def _search(found: _Found, cases: list[Circumstances], sources: list[FlowEnd], watch: Watched, size: int) -> None:
    """Follow what every source can send, in every case."""
    found.begin()
    sets = Sets(room(size))
    found.direct = sets.space.of_condition(Condition("to", (("destination", merge(Span(a.key, a.key) for a in found.targets)),)))
    wanted = _to(found.plan, tuple(found.targets), sets) & _by(found, sets)
    for service, family in ((ICMP, 6), (ICMP6, 4)):  # each is of one family (RFC 792, RFC 4443)
        wanted = wanted & ~(
            _of(sets, (Service(service),)) & sets.space.of_condition(Condition("to", (("destination", (FAMILIES[family],)),)))
        )
    opening = sets.space.of_condition(Condition("relation", (("relation", frozenset((Relation.OPENING,))),)))
    learned = _learned(found.plan)
    for source in watch(sources):
        mine = _addresses(found.plan.network, source)
        if not mine:
            found.left.append(f"{source.name} (no address to send from)")
        if not mine or all(end.owner == source.owner for end in found.targets.values()):
            continue
        device = _device_of(found.plan.network, source.owner)
        held = sent_by(sets.space, [a.key for a in mine]) & wanted
        found.senders.add(source.name)
        for case in cases:
            memory = learned if case.learned else State()
            for piece in flood(found.plan, sets, device, held, case.moment, memory, forks=True):
                _weigh(found, sets, source, case, piece, opening)


def _device_of(network: Network, name: str) -> str:
    """The device where an end is: its own, or the one that stands for a far host."""
    far = network.far_host(name) if name not in network.devices else None
    return far[0].name if far is not None else name


def _to(plan: Plan, targets: tuple[Address, ...], sets: Sets) -> Set:
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


def _by(found: _Found, sets: Sets) -> Set:
    """The packets of the services that are asked about."""
    if not found.asked:
        return sets.space.possible
    named = _of(sets, found.asked)
    return sets.space.possible & ~named if found.claim.but else named


def _of(sets: Sets, services: Iterable[Service]) -> Set:
    """The packets of some services."""
    return sets.space.of_condition(Condition("service", (("service", merge(service_span(s) for s in services)),)))


def _weigh(found: _Found, sets: Sets, source: FlowEnd, case: Circumstances, piece: Fared, opening: Set) -> None:
    """Whether the packets of a piece have reached a target."""
    found.kinds += 1
    name, fate, cause = piece.end
    arrived = fate in (Fate.DELIVERED.value, Fate.REFUSED.value) or cause.startswith(TAKEN)
    for target, end in found.targets.items():
        at = _device_of(found.plan.network, end.owner)
        if not arrived or end.owner == source.owner or name != at or piece.destination not in (None, target):
            continue
        mine = piece.held
        if piece.destination is None:
            mine = mine & sets.space.of_condition(Condition("to", (("destination", (Span(target.key, target.key),)),)))
        if not mine.satisfiable():
            continue
        if not (mine & opening).satisfiable():
            facts = sets.space.witness(mine)
            found.stray = found.stray or (str(facts.packet) if facts is not None else "")
            continue
        _against(found, sets, source, target, case, piece, mine & opening)
    if not arrived and (piece.held & found.direct).satisfiable():
        found.reasons[name, piece.because] += 1


def _against(found: _Found, sets: Sets, source: FlowEnd, target: Address, case: Circumstances, piece: Fared, held: Set) -> None:
    """Note packets that reach a target, with one of them walked; where no walk shows it, that stays in doubt."""
    key = source.name, target, piece.end[2]
    if key in found.against:
        return
    names, more = _named(found, sets, target, held)
    for packet in _wishes(found, sets, source, target, names, held):
        journey = _walked(found.plan, source, packet, case, piece)
        if journey is not None:
            found.against[key] = Against(source.name, str(target), names, more, journey, case.words)
            return
    within = ", within a tunnel" if piece.tunnelled else ""
    found.doubtful.append(f"{source.name} to {target} at {piece.end[0]} ({piece.end[2]}){within}")


def _named(found: _Found, sets: Sets, target: Address, held: Set) -> tuple[tuple[str, ...], bool]:
    """The services of packets by name, what the target listens for first; and whether there are others."""
    network, end = found.plan.network, found.targets[target]
    words = dict.fromkeys((*services_at(network, end.owner), *network.services, *BUILT_IN_SERVICES, "ping"))
    names: list[str] = []
    rest = held
    for word in words:
        mine = _of(sets, services_in(network, word))
        if (rest & mine).satisfiable():
            names.append(word)
            rest = rest & ~mine
    return tuple(names), bool(rest.satisfiable())


def _wishes(found: _Found, sets: Sets, source: FlowEnd, target: Address, names: Iterable[str], held: Set) -> Iterator[Packet]:
    """Packets of a set, those that people would write first."""
    for word in names:
        for service in services_in(found.plan.network, word):
            facts = sets.space.witness(held & _of(sets, (service,)))
            if facts is not None:
                usual = facts.packet._replace(from_port=49152) if facts.packet.protocol in WITH_PORTS else facts.packet
                yield usual if holding(sets.space, held, usual, Relation.OPENING) else facts.packet
    facts = sets.space.witness(held)
    if facts is not None:
        yield facts.packet


def _walked(plan: Plan, source: FlowEnd, packet: Packet, case: Circumstances, piece: Fared) -> Journey | None:
    """A packet on every way that it may take; the journey that ends where the set says, or None."""
    service = packet.what()
    port = packet.from_port if packet.protocol in WITH_PORTS or packet.icmp >= 0 else None
    wishes = replace(case.options, source=str(packet.source), source_port=port)
    memory = _learned(plan) if case.learned else State()
    for path in paths(plan, source.name, str(packet.destination), service, wishes, memory).paths:
        there = path.journey.there
        if (there.end, there.fate.value, there.cause) == piece.end:
            return path.journey
    return None


def _cases(plan: Plan) -> Iterator[Circumstances]:
    """Every combination of windows of time, applications and last resorts that rules can tell apart, the usual one first."""
    network = plan.network
    rules = [r for listed in network.lists.values() for r in listed.rules]
    applications: list[Application | None] = (
        [None, *network.applications.values()] if any(r.applications for r in rules) else [None]
    )
    resorts = [False, True] if not plan.has_last_resort and any(r.last_resort for r in rules) else [False]
    learned = [False, True] if any(r.names for r in rules) else [False]
    for is_open, instant in _openings(network).items():
        for application in applications:
            for resort in resorts:
                options = Options(
                    at=Instant(instant) if instant is not None else None,
                    application=application.name if application is not None else None,
                    last_resort=resort,
                )
                uses = frozenset("*") if resort else plan.last_resorts
                names, since = (application.names, application.known_from) if application is not None else (None, 1)
                moment = Moment(instant, is_open, names, since, uses)
                words = [f"while {_and(sorted(is_open))} {'is' if len(is_open) == 1 else 'are'} open"] if is_open else []
                words += [f"as {application.name}"] if application is not None else []
                words += ["with the uplink of last resort in use"] if resort else []
                for knows in learned:
                    also = ["once every name was asked for"] if knows else []
                    yield Circumstances(options, moment, ", ".join([*words, *also]), knows)


def _openings(network: Network) -> dict[frozenset[str], int | None]:
    """Which windows of time can be open together, each with an instant at which they are; none without a time."""
    found: dict[frozenset[str], int | None] = {frozenset(): None}
    windows = list(network.hours.values())
    for monday in WEEKS if windows else ():
        for minute in range(7 * 24 * 60):
            now = monday + minute * 60
            found.setdefault(frozenset(h.name for h in windows if h.open_at(now)), now)
    return found


def _learned(plan: Plan) -> State:
    """What devices remember once every name was asked for everywhere."""
    state = State()
    network = plan.network
    names = [*network.names.items(), *((n, a) for d in network.devices.values() for n, a in (d.records or {}).items())]
    for name, addresses in names:
        for device in network.devices:
            state.learn(device, name, addresses)
    return state


def _and(words: Iterable[str]) -> str:
    """Words with ``and`` between them."""
    return " and ".join(words)


__all__ = ["Against", "Circumstances", "Claim", "Proof", "prove"]
