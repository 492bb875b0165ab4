"""One flow while something fails and works again: before, at once, once probes have noticed, and afterwards, beside each other."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from typing import NamedTuple

from mossy_compass.errors import NotOpened, QuestionError
from mossy_compass.lab.conversation import Conversation, parse_then
from mossy_compass.lab.lab import Flow, Lab
from mossy_compass.model.network import Network
from mossy_compass.walk.grid import Cell, cell_of
from mossy_compass.walk.journey import Journey


class When(StrEnum):
    """When a flow is looked at."""

    BEFORE = "before"
    FAILED = "just failed"
    NOTICED = "once noticed"
    RESTORED = "just restored"
    REST = "at rest again"


class FlowMoment(NamedTuple):
    """A flow at one moment.

    Attributes:
        phase: when.
        at: milliseconds after what was opened before.
        journey: of a new flow.
        cell: the same in short.
        opened: of what was opened before, the first packet either way that is lost; None where both arrive.
        untried: why nothing could be sent within what was opened before; empty where it could.
        verdicts: of probes that changed since the moment before, in words.

    """

    phase: When
    at: int
    journey: Journey
    cell: Cell
    opened: Journey | None
    untried: str
    verdicts: tuple[str, ...]

    @property
    def goes_on(self) -> bool:
        """Whether what was opened before goes on."""
        return self.opened is None and not self.untried

    @property
    def exits(self) -> tuple[str, ...]:
        """The interfaces by which a new flow left devices, on the way there."""
        found = self.cell.exits
        return found[: found.index("/")] if "/" in found else found


class Moments(NamedTuple):
    """A flow while something fails and works again.

    Attributes:
        flow: which.
        failed: what fails.
        moments: in their order.

    """

    flow: Flow
    failed: tuple[str, ...]
    moments: tuple[FlowMoment, ...]

    def of(self, phase: When) -> FlowMoment | None:
        """The moment of a phase; None where nothing had to be waited for."""
        return next((m for m in self.moments if m.phase is phase), None)

    @property
    def settled(self) -> FlowMoment:
        """While it fails, once everything has noticed."""
        found = self.of(When.NOTICED) or self.of(When.FAILED)
        assert found is not None
        return found

    @property
    def ok(self) -> bool:
        """Whether new flows are answered before, once the failure is noticed, and at the end."""
        return all(m.cell.answered for m in (self.moments[0], self.settled, self.moments[-1]))


def through(network: Network, flow: Flow, failed: Sequence[str]) -> Moments:
    """Ask for a flow before, while and after something fails; and within what was opened before.

    Args:
        network: the network.
        flow: of one service.
        failed: what fails, all at once, as in drills.

    Raises:
        QuestionError: nothing of that name is there, or probes never come to rest.

    """
    lab = Lab(network)
    lab.settle()
    held, begun = lab.converse(flow), lab.state.now
    found = [_look(lab, When.BEFORE, held, flow, begun)]
    lab.verdicts = []
    for what in failed:
        lab.fail(what)
    found.append(_look(lab, When.FAILED, held, flow, begun))
    for working, noticed in ((False, When.NOTICED), (True, When.REST)):
        lab.verdicts = []
        if working:
            lab.restore()
            found.append(_look(lab, When.RESTORED, held, flow, begun))
        lab.settle()
        if lab.verdicts:
            found.append(_look(lab, noticed, held, flow, begun))
    return Moments(flow, tuple(failed), tuple(found))


def _look(lab: Lab, phase: When, held: Conversation, flow: Flow, begun: int) -> FlowMoment:
    """How a flow fares now."""
    journey = lab.test(flow)
    opened, untried = None, ""
    for words in ("data", "answer data"):
        try:
            with lab.state.unchanged():
                made = held.copied().next(parse_then(words, lab.network))
        except NotOpened:
            untried = "was not opened"
            break
        except QuestionError as fault:
            untried = str(fault)
            break
        opened = opened or next((e.journey for e in made if e.journey is not None and not e.ok), None)
    verdicts = tuple(f"{v.probe} {'up' if v.up else 'down'}" for v in lab.verdicts)
    cell = cell_of(journey, flow.source, flow.target, flow.label)
    return FlowMoment(phase, lab.state.now - begun, journey, cell, opened, untried, verdicts)
