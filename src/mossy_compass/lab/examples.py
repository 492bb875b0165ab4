"""Walks of examples: a packet that a set has is shown best where some host here sends it, and it comes where it is said to come."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.plan import Plan
from mossy_compass.proof.likely import Comes, Look
from mossy_compass.state.state import State
from mossy_compass.walk.journey import Leg, Way
from mossy_compass.walk.walk import Emission, follow

MOST_WALKS = 600
"""So many packets are walked for the examples of one report; the examples after that are shown without."""
MOST_WAYS = 4
"""Of equal ways a packet is sent over so many, the first everywhere, then the second, and so on."""


def walker(plan: Plan, earlier: Plan | None = None) -> Comes:
    """What tells whether some host sends a packet that comes where it is said to come.

    Args:
        plan: the network.
        earlier: the network before a change.

    """
    versions = {False: (plan, _senders(plan)), True: (earlier or plan, _senders(earlier or plan))}
    left = [MOST_WALKS]

    def comes(facts: Facts, looks: Sequence[Look]) -> bool | None:
        """Walk it: in one of the versions that are asked about it must come there, for what is before it may change too."""
        left[0] -= 1
        if left[0] < 0 or facts.relation not in (Relation.OPENING, Relation.NONE) or facts.packet.quoted is not None:
            return None  # what answers something needs what it answers
        return any(_shown(*versions[look.earlier], facts, look) for look in looks)

    return comes


def _senders(plan: Plan) -> dict[Address, str]:
    """The device that sends with an address: a host, or one that stands for hosts of the Internet."""
    devices = plan.network.devices.values()
    found = {a: d.name for d in devices for h in d.far_hosts.values() for a in h.addresses}
    return found | {a: d.name for d in devices for a, _ in d.own_addresses()}


def _shown(plan: Plan, senders: dict[Address, str], facts: Facts, look: Look) -> bool:
    """Whether one of the ways of a packet leads where a look wants it."""
    sender = senders.get(facts.packet.source)
    if sender is None:
        return False
    state = State()
    for name in getattr(facts.memory, "names", ()):
        for device in plan.network.devices:
            state.learn(device, name, (facts.packet.destination,))
    for way in range(MOST_WAYS):
        chosen: list[int] = []
        leg, _ = follow(plan, state, Emission(facts.packet, sender, Way.THERE), _script(way, chosen), facts.moment)
        if _crosses(leg, look) and _asked(leg, look):
            return True
        if not chosen or way + 1 >= max(chosen):
            break
    return False


def _crosses(leg: Leg, look: Look) -> bool:
    """Whether a packet comes to a device, and leaves it, by the interfaces that are looked for."""
    return not look.device or any(
        hop.device == look.device
        and (not look.came or hop.arriving in look.came)
        and (not look.goes or any(r.situation.leaving in look.goes for r in hop.rulings) or hop.leaving in look.goes)
        for hop in leg.every_hop
    )


def _asked(leg: Leg, look: Look) -> bool:
    """Whether one of the tables is asked, and one of the rows decides."""
    return not look.tables or any(
        (a.device, a.table) in look.tables and (not look.rows or a.row in look.rows) for a in leg.admissions()
    )


def _script(way: int, chosen: list[int]) -> Callable[[str, tuple[Any, ...], Packet], int]:
    """A choice of always the same one of equal ways; it notes how many there were."""

    def choose(device: str, hops: tuple[Any, ...], packet: Packet) -> int:
        """The one, or the last."""
        chosen.append(len(hops))
        return min(way, len(hops) - 1)

    return choose
