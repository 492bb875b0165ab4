"""The moments and circumstances that rules can tell apart: windows of time, applications, uplinks of last resort, names."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from mossy_compass.errors import QuestionError
from mossy_compass.headers.sets import Set
from mossy_compass.headers.spans import merge
from mossy_compass.lab.agreed import agree_everywhere, one_sided
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
        agreed: every tunnel whose keys are exchanged was used before from the end that can begin.
        only: the packets that it is about: of this application, as the network says which packets are of one; empty for those of
            none; None for all packets, since a test may say of any of them what it is of.

    """

    options: Options
    moment: Moment
    words: str
    learned: bool = False
    only: str | None = None
    agreed: bool = False

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
    return [case for (case,) in every_case_of((plan,))]


def every_case_of(plans: Sequence[Plan]) -> list[tuple[Circumstances, ...]]:
    """The same for several versions of a network: what holds for each of them at the same moment, in the same circumstances.

    Raises:
        QuestionError: there are more than are looked at.

    """
    cases = list(_cases(plans))
    if len(cases) > MOST_CASES:
        raise QuestionError(
            f"{len(cases)} combinations of windows of time, applications and last resorts come of this network, and at most "
            f"{MOST_CASES} are looked at. Name fewer windows or applications."
        )
    return cases


def _cases(plans: Sequence[Plan]) -> Iterator[tuple[Circumstances, ...]]:
    """The same, one by one."""
    rules = [r for plan in plans for listed in plan.network.lists.values() for r in listed.rules]
    resorts = [False, True] if any(r.last_resort for r in rules) and not all(p.has_last_resort for p in plans) else [False]
    learned = [False, True] if any(r.names for r in rules) else [False]
    told_apart = list(_applications(plans)) if any(r.applications for r in rules) else [("", (None,) * len(plans))]
    agreed = [False, True] if any(map(one_sided, plans)) else [False]
    for is_open, instant in _openings([p.network for p in plans]).items():
        for said, only in told_apart:
            for resort, knows, up in itertools.product(resorts, learned, agreed):
                yield tuple(
                    _case(plan, (open_there, instant), (said, of), resort, (knows, up))
                    for plan, open_there, of in zip(plans, is_open, only, strict=True)
                )


def _case(
    plan: Plan,
    when: tuple[frozenset[str], int | None],
    application: tuple[str, str | None],
    resort: bool,
    before: tuple[bool, bool],
) -> Circumstances:
    """One of them, of one network: at a time, of an application that is said or that follows from the packets."""
    (is_open, now), (said, only), (learned, agreed) = when, application, before
    found = plan.network.applications.get(said or only or "")
    resort = resort and not plan.has_last_resort
    options = Options(
        at=Instant(now) if now is not None else None, application=said if found and said else None, last_resort=resort
    )
    names, since = (found.names, found.known_from) if found is not None else (None, 1)
    moment = Moment(now, is_open, names, since, frozenset("*") if resort else plan.last_resorts)
    words = [f"while {_and(sorted(is_open))} {'is' if len(is_open) == 1 else 'are'} open"] if is_open else []
    words += [f"as {said}"] if said else []
    words += ["with the uplink of last resort in use"] if resort else []
    words += ["once every name was asked for"] if learned else []
    words += ["once the tunnels are agreed on"] if agreed else []
    return Circumstances(options, moment, ", ".join(words), learned, only, agreed)


def _applications(plans: Sequence[Plan]) -> Iterator[tuple[str, tuple[str | None, ...]]]:
    """What a flow may be of: what follows from its packets, in each network; then what somebody says, in all of them."""
    known = [[a.name for a in _declared(plan.network)] for plan in plans]
    follows: list[list[str | None]] = [["", *names] if names else [None] for names in known]
    declared = [_declared(plan.network) for plan in plans]
    apart = any(d != declared[0] for d in declared)
    yield from (("", only) for only in (itertools.product(*follows) if apart else zip(*follows, strict=True)))
    yield from ((name, (None,) * len(plans)) for name in dict.fromkeys(n for plan in plans for n in plan.network.applications))


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


def _openings(networks: Sequence[Network]) -> dict[tuple[frozenset[str], ...], int | None]:
    """Which windows of time can be open together, each with an instant at which they are; none of them, without a time."""
    windows = [list(network.hours.values()) for network in networks]
    found: dict[tuple[frozenset[str], ...], int] = {}
    for monday in WEEKS if any(windows) else ():
        for minute in range(7 * 24 * 60):
            now = monday + minute * 60
            found.setdefault(tuple(frozenset(h.name for h in some if h.open_at(now)) for some in windows), now)
    # Where one of them is open at any time, there is no moment at which none is.
    none = (frozenset[str](),) * len(networks)
    usual: dict[tuple[frozenset[str], ...], int | None] = {none: None} if none in found or not found else {}
    return {**usual, **{some: now for some, now in found.items() if some != none}}


class Memories:
    """What devices remember in circumstances; what is written to one is to be undone."""

    def __init__(self, plan: Plan) -> None:
        self._plan = plan
        self._made: dict[tuple[bool, bool], State] = {}

    def of(self, case: Circumstances) -> State:
        """The state of a case; a new one where nothing was remembered before."""
        key = case.learned, case.agreed
        if not any(key):
            return State()
        if key not in self._made:
            state = self._made[key] = State()
            if case.learned:
                _learn(self._plan, state)
            if case.agreed:
                agree_everywhere(self._plan, state)
        return self._made[key]


def _learn(plan: Plan, state: State) -> None:
    """Let every name be asked for everywhere."""
    network = plan.network
    names = [*network.names.items(), *((n, a) for d in network.devices.values() for n, a in (d.records or {}).items())]
    for name, addresses in names:
        for device in network.devices:
            state.learn(device, name, addresses)


def _and(words: Iterable[str]) -> str:
    """Words with ``and`` between them."""
    return " and ".join(words)
