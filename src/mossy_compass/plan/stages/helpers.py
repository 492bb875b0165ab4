"""Helpers: what a conversation tells of a second channel is read, so that the channel may be opened (RFC 2663 section 2.9).

Some applications wait for a second channel on a port that they choose as they go, and tell the other end by their first one (RFC 959
section 3.2 for file transfer). A device that filters or translates cannot know of it unless it reads that. Each helper is switched
on by itself (RFC 4787 REQ-10), and believes a sender about its own address alone: else it could open a way to somebody else.
"""

from __future__ import annotations

from collections.abc import Iterator

from mossy_compass.model.network import Helper
from mossy_compass.plan.actions import PASS, Decision, Expect
from mossy_compass.plan.alike import Term
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Direction, Facts, Relation
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did
from mossy_compass.plan.stages.step import Step


def heard(here: DevicePlan, port: str | None) -> Step | None:
    """The helpers of a device that are switched on."""
    if not here.device.helpers:
        return None
    return Step(Stage.HELPERS, (), here.once(Stage.HELPERS, lambda: (Announcements(here),)))


class Announcements:
    """The helpers of a device, in their order: the first that reads a conversation says what becomes of what is told in it."""

    def __init__(self, here: DevicePlan) -> None:
        self._here = here

    def decide(self, facts: Facts) -> Decision | None:
        """What is expected of now on; nothing of a packet that announces nothing, or that no helper reads."""
        told = facts.packet.announces
        if told is None or facts.session is None or facts.relation not in (Relation.CONTINUING, Relation.ANSWERING):
            return None
        flow = facts.session.inner
        helper = next((h for h in self._here.device.helpers if h.reads(flow.protocol, flow.to_port)), None)
        if helper is None:
            return None
        because = Because("helper", (helper.name, self._here.name), helper.mark)
        why = _not_believed(helper, facts)
        if why:
            return Decision(Did.KEPT, because, PASS, Because("note.not-heard", (why, told, facts.came.source)))
        return Decision(Did.EXPECTS, because, (Expect(helper.name),))

    def alike(self, facts: Facts) -> Iterator[Term]:
        """Every packet: those that sets are about announce nothing, for what a payload tells is no field."""
        return iter(())


def _not_believed(helper: Helper, facts: Facts) -> str:
    """Why an announcement is not believed; empty where it is.

    ``who``: that end may not make it; ``whose``: it names another's address; ``over``: another kind of channel.
    """
    told = facts.packet.announces
    assert told is not None
    may = helper.expects.asker if facts.direction is Direction.FORTH else helper.expects.answerer
    if not may:
        return "who"
    if told.address != facts.came.source:
        return "whose"
    return "" if helper.allows(told.protocol, told.port) else "over"


def expected(here: DevicePlan, facts: Facts) -> Because:
    """That a packet opens a channel which was announced."""
    found = facts.expected
    assert found is not None  # the relation says so
    mark = next((h.mark for h in here.device.helpers if h.name == found.helper), None)
    values = found.session, here.name, found.helper, found.inner, found.inner_port, found.protocol
    return Because("session.expected", values, mark)
