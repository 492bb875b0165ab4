"""The devices that a flow's fate hangs on: those that its packets pass, and those without which it would fare otherwise."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

from mossy_compass.errors import QuestionError
from mossy_compass.lab.dependencies import Touching
from mossy_compass.model.network import Kind, Network
from mossy_compass.plan.plan import Plan
from mossy_compass.walk.journey import Journey, Leg
from mossy_compass.walk.weather import outcome, probes_of

Ask = Callable[[Plan], list[Journey]]
"""Asks the same question of a network: the journeys of all its packets."""


class Slice(NamedTuple):
    """A part of a network in which a flow fares as in the whole.

    Attributes:
        kept: the devices that it has.
        network: as it was read again.
        text: of its file.

    """

    kept: frozenset[str]
    network: Network
    text: str


def sliced_for(plan: Plan, ask: Ask, cut: Callable[[frozenset[str]], tuple[Network | None, str]]) -> Slice:
    """The least of some parts of a network in which a question has the same answer as in the whole.

    Args:
        plan: the whole network.
        ask: the question.
        cut: makes a network, with its text, of the devices that stay; None for one that cannot be read.

    Raises:
        QuestionError: no part of it gives the same answer.

    """
    whole = ask(plan)
    wanted = [_told(j) for j in whole]
    for kept in _tries(plan, whole):
        network, text = cut(kept)
        if network is not None and kept.issubset(network.devices):
            try:
                found = [_told(j) for j in ask(Plan(network))]
            except QuestionError:
                continue
            if found == wanted:
                return Slice(kept, network, text)
    raise QuestionError("no smaller network was found in which this flow fares as it does here.")


def _tries(plan: Plan, journeys: list[Journey]) -> Iterator[frozenset[str]]:
    """What may be kept, from the least on: the devices passed, those of every way that might have been taken, all but the other hosts."""
    network = plan.network
    passed = frozenset(_passed(plan, journeys))
    yield passed
    touching = Touching(plan)
    touched = frozenset().union(*(touching.of(j).devices for j in journeys))
    yield passed | (touched & frozenset(network.devices))
    rest = frozenset(n for n, d in network.devices.items() if d.kind is not Kind.HOST)
    yield passed | rest
    yield frozenset(network.devices)  # who is not there may be missed by whoever waits for it


def _passed(plan: Plan, journeys: list[Journey]) -> set[str]:
    """The devices of some journeys, of what their devices' probes send, and who gave them their addresses."""
    found = {name for j in journeys for leg in j.every_leg for name in _along(leg)}
    for journey in journeys:
        ends = (journey.target_owner or "", journey.target, journey.sender.partition("/")[0])
        far = [plan.network.far_host(name) for name in ends]
        found |= {*ends, *(held[0].name for held in far if held is not None)}
    for (device, name), _ in probes_of(plan):
        if device in found:
            found |= {n for leg in outcome(plan, (device, name)).journey.every_leg for n in _along(leg)}
    if plan.asks_names:  # rules by name know addresses from whoever has records
        found |= {d.name for d in plan.network.devices.values() if d.records}
    leased = {lease.server[0] for (holder, _), lease in plan.routing.leases.held.items() if holder in found}
    return (found | leased) & set(plan.network.devices)


def _along(leg: Leg) -> Iterator[str]:
    """The devices of a leg, with the switches between them."""
    for hop in leg.every_hop:
        yield hop.device
        yield from hop.bridges


def _told(journey: Journey) -> object:
    """What must be the same: every decision at every device, and the end. Numbers of equal ways and latencies are no part of it."""
    legs = [
        (
            leg.way,
            leg.fate,
            leg.cause,
            [(h.device, h.arriving, h.leaving, [(r.stage, str(r.table), r.row, r.did) for r in h.rulings]) for h in leg.every_hop],
        )
        for leg in journey.every_leg
    ]
    return journey.answered, journey.cause, journey.symptom, legs
