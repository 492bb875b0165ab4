"""The moments and circumstances that rules can tell apart: windows of time, applications, uplinks of last resort, names."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from mossy_compass.errors import QuestionError
from mossy_compass.headers.sets import Set
from mossy_compass.headers.spans import merge
from mossy_compass.lab.forms import Sets
from mossy_compass.model.gates import Application
from mossy_compass.model.network import Network
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Moment
from mossy_compass.plan.fields import service_span
from mossy_compass.plan.plan import Plan
from mossy_compass.state.state import State
from mossy_compass.walk.question import Instant, Options

WEEKS = (1_767_571_200, 1_783_296_000)
"""Two Mondays, midnight UTC (5 January and 6 July 2026): the weeks in which moments are looked for, in winter and in summer time."""
MOST_CASES = 64
"""So many combinations of windows of time, applications and last resorts are tried."""


class Circumstances(NamedTuple):
    """What holds while packets are asked about.

    Attributes:
        options: the same as wishes about a test packet.
        moment: as devices see it.
        words: in a few words; empty for the usual.
        learned: every device has learned every name.
        only: the packets that it is about: of this application, as the network says which packets are of one; empty for those of
            none; None for all packets, since a test may say of any of them what it is of.

    """

    options: Options
    moment: Moment
    words: str
    learned: bool = False
    only: str | None = None

    def packets(self, network: Network, sets: Sets) -> Set:
        """The packets that it is about, as they are sent.

        Args:
            network: whose applications.
            sets: where terms become sets.

        """
        possible, before = sets.space.possible, sets.nothing
        if self.only is None:
            return possible
        for application in _declared(network):
            mine = _of_application(application, sets) & ~before  # the first of the file, as for a test packet
            if application.name == self.only:
                return mine
            before = before | mine
        return possible & ~before


def every_case(plan: Plan) -> list[Circumstances]:
    """Every combination of windows of time, applications and last resorts that rules can tell apart, the usual one first.

    Raises:
        QuestionError: there are more than are looked at.

    """
    cases = list(_cases(plan))
    if len(cases) > MOST_CASES:
        raise QuestionError(
            f"{len(cases)} combinations of windows of time, applications and last resorts come of this network, and at most "
            f"{MOST_CASES} are looked at. Name fewer windows or applications."
        )
    return cases


def _cases(plan: Plan) -> Iterator[Circumstances]:
    """The same, one by one."""
    network = plan.network
    rules = [r for listed in network.lists.values() for r in listed.rules]
    # What a flow is of follows from its packets, or somebody says it.
    applications: list[tuple[Application | None, str | None]] = [(None, None)]
    if any(r.applications for r in rules):
        known = _declared(network)
        applications = [(None, "" if known else None), *((a, a.name) for a in known)]
        applications += [(a, None) for a in network.applications.values()]
    resorts = [False, True] if not plan.has_last_resort and any(r.last_resort for r in rules) else [False]
    learned = [False, True] if any(r.names for r in rules) else [False]
    for is_open, instant in _openings(network).items():
        for application, only in applications:
            for resort in resorts:
                said = application.name if application is not None and only is None else None
                options = Options(at=Instant(instant) if instant is not None else None, application=said, last_resort=resort)
                uses = frozenset("*") if resort else plan.last_resorts
                names, since = (application.names, application.known_from) if application is not None else (None, 1)
                moment = Moment(instant, is_open, names, since, uses)
                words = [f"while {_and(sorted(is_open))} {'is' if len(is_open) == 1 else 'are'} open"] if is_open else []
                words += [f"as {said}"] if said is not None else []
                words += ["with the uplink of last resort in use"] if resort else []
                for knows in learned:
                    also = ["once every name was asked for"] if knows else []
                    yield Circumstances(options, moment, ", ".join([*words, *also]), knows, only)


def _declared(network: Network) -> list[Application]:
    """The applications of which the network says which packets are of them, in its order."""
    return [a for a in network.applications.values() if a.destinations is not None or a.services is not None]


def _of_application(application: Application, sets: Sets) -> Set:
    """The packets that are of an application, whatever others they are of."""
    held = sets.space.possible
    if application.services is not None:
        spans = merge(service_span(s) for s in application.services)
        held = held & sets.space.of_condition(Condition("service", (("service", spans),)))
    if application.destinations is not None:
        to = merge(s for t in application.destinations for s in t.spans or ())
        masked = tuple(m for t in application.destinations for m in t.masked)
        held = held & sets.space.of_condition(Condition("to", (("destination", to), ("destination-bits", masked))))
    return held


def _openings(network: Network) -> dict[frozenset[str], int | None]:
    """Which windows of time can be open together, each with an instant at which they are; none of them, without a time."""
    windows = list(network.hours.values())
    found: dict[frozenset[str], int] = {}
    for monday in WEEKS if windows else ():
        for minute in range(7 * 24 * 60):
            now = monday + minute * 60
            found.setdefault(frozenset(h.name for h in windows if h.open_at(now)), now)
    # Where one of them is open at any time, there is no moment at which none is.
    usual: dict[frozenset[str], int | None] = {frozenset(): None} if frozenset() in found or not windows else {}
    return {**usual, **{some: now for some, now in found.items() if some}}


def learned_everywhere(plan: Plan) -> State:
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
