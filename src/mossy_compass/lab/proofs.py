"""What comes of a claim about all packets, and what both kinds of claims ask of a network to find it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable
from typing import NamedTuple

from mossy_compass.headers.sets import Set
from mossy_compass.headers.spans import merge
from mossy_compass.lab.claims import Claim
from mossy_compass.lab.ends import FlowEnd
from mossy_compass.lab.forms import Sets
from mossy_compass.model.network import Network
from mossy_compass.packet.address import Address
from mossy_compass.packet.service import BUILT_IN_SERVICES, ICMP, ICMP6, Service, icmp_span
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.fields import service_span
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because
from mossy_compass.walk.grid import services_at
from mossy_compass.walk.journey import Journey
from mossy_compass.walk.question import addresses_of, services_of

_PING = (Service(ICMP, icmp_span((8, None))), Service(ICMP6, icmp_span((128, None))))


class Against(NamedTuple):
    """Packets that speak against a claim: they reach a target that they never should, or do not reach one that they always should.

    Attributes:
        source, target: from whom, to which address.
        services: by what, as far as names go; ``more`` says that there are others.
        more: there are packets of other services too.
        journey: of one of them, walked.
        case: when; empty for always or without a time.
        wrong: what of its journey is not as it was claimed, where it should have reached.
        port: the source port of that one, where other source ports fare otherwise; -1 where they do not.

    """

    source: str
    target: str
    services: tuple[str, ...]
    more: bool
    journey: Journey
    case: str
    wrong: tuple[str, ...] = ()
    port: int = -1


class Proof(NamedTuple):
    """What came of a claim.

    Attributes:
        claim: which.
        against: packets that speak against it; empty where none does.
        doubtful: what is not known of some packets, a few words each: of what never reaches, where sets say so and no walk showed it.
        reasons: what stopped packets on the way there, or let them through where they should reach, the most kinds first: at which
            device, the reason, how many kinds of packets.
        kinds: how many kinds of packets were told apart.
        sources, targets: how many hosts send, and how many addresses are sent to.
        cases: how many combinations of times, applications and last resorts were looked at.
        left: who could not be asked about, a few words each.
        stray: packets that open nothing reach the target too: an example of those; empty where none does.
        elsewhere: so many kinds of packets reach the target by ways that are not meant.
        walked: of what should be reached, a journey of each kind of packet.

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
    elsewhere: int = 0
    walked: tuple[Journey, ...] = ()

    @property
    def holds(self) -> bool | None:
        """Whether it holds; None where that is not known."""
        return False if self.against else None if self.doubtful or self.left else True


def services_in(network: Network, word: str) -> tuple[Service, ...]:
    """The services of a word, with every port of a range.

    Raises:
        QuestionError: there is no such service.

    """
    return tuple(one for s in services_of(network, word) for one in (_PING if s is None else (s,)))


def addresses_meant(network: Network, end: FlowEnd) -> tuple[Address, ...]:
    """The addresses of an end that are meant; those of one link alone are for nobody beyond it."""
    found = (end.address,) if end.address is not None else addresses_of(network, end.name)
    return tuple(a for a in found if not a.is_link_local and end.family in (None, a.family))


def device_of(network: Network, name: str) -> str:
    """The device where an end is: its own, or the one that stands for a far host."""
    far = network.far_host(name) if name not in network.devices else None
    return far[0].name if far is not None else name


def packets_of(sets: Sets, services: Iterable[Service]) -> Set:
    """The packets of some services."""
    return sets.space.of_condition(Condition("service", (("service", merge(service_span(s) for s in services)),)))


def named_services(network: Network, owner: str, sets: Sets, held: Set, asked: Iterable[str] = ()) -> tuple[tuple[str, ...], bool]:
    """The services of packets by name, what the target listens for first; and whether there are others.

    Args:
        network: the network.
        owner: of the target.
        sets: where services become sets.
        held: the packets.
        asked: what somebody asked for: the names among it come first.

    """
    words = dict.fromkeys(
        (*(word for word in asked if "/" not in word), *services_at(network, owner), *network.services, *BUILT_IN_SERVICES, "ping")
    )
    names: list[str] = []
    rest = held
    for word in words:
        mine = packets_of(sets, services_in(network, word))
        if (rest & mine).satisfiable():
            names.append(word)
            rest = rest & ~mine
    return tuple(names), bool(rest.satisfiable())


Watched = Callable[[list[FlowEnd]], Iterable[FlowEnd]]


class Found:
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
        self.elsewhere: Counter[tuple[str, Because]] = Counter()
        self.walked: list[Journey] = []
        self.senders: set[str] = set()
        self.kinds = 0
        self.stray = ""
