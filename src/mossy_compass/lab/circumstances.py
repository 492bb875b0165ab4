"""The moments and circumstances that rules can tell apart: windows of time, applications, uplinks of last resort, names."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from mossy_compass.errors import QuestionError
from mossy_compass.model.gates import Application
from mossy_compass.model.network import Network
from mossy_compass.plan.facts import Moment
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

    """

    options: Options
    moment: Moment
    words: str
    learned: bool = False


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
