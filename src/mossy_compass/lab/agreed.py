"""What devices remember once every tunnel whose keys are exchanged was used from both its ends, as far as that works.

A packet that cannot make an association itself may go by one that the other end made; who asks about packets that must never get
somewhere has to ask about these too.
"""

from __future__ import annotations

from collections.abc import Iterator

from mossy_compass.headers.spans import intersect
from mossy_compass.packet.address import Address, Spans, from_key
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import UDP
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.stages.tunnel import selected_ends, tunnels_of
from mossy_compass.state.state import State
from mossy_compass.walk.associate import first_is_lost
from mossy_compass.walk.walk import agree

Wanted = tuple[DevicePlan, str, Packet]
"""A device, a tunnel of it, and a packet that may go in."""


def agree_everywhere(plan: Plan, state: State) -> None:
    """Let every exchange of keys be made that works, some time ago: of all that it needed the associations alone are left.

    Args:
        plan: the network.
        state: what devices remember; it is written.

    """
    then = State()
    for here, port, packet in _wanted(plan):
        agree(plan, then, here, port, packet)
    state.associations.take_over(then.associations)


def one_sided(plan: Plan) -> bool:
    """Whether some packet goes through a tunnel only once an association is there which it cannot make, or is lost while it does."""
    return plan.once("one-sided tunnels", lambda: _one_sided(plan))


def _one_sided(plan: Plan) -> bool:
    """The same, looked for."""
    wanted = list(_wanted(plan))
    state = State()
    for one in wanted:
        agree(plan, state, *one)
    for here, port, packet in wanted:
        held = state.associations.between(here.name, port, packet.source, packet.destination)
        if held is not None and (first_is_lost(here) is not None or agree(plan, State(), here, port, packet) is None):
            return True
    return False


def _wanted(plan: Plan) -> Iterator[Wanted]:
    """A packet for each two selectors of two tunnels that may be agreed on."""
    devices = [plan.device(name) for name, d in plan.network.devices.items() if d.layer3]
    exchanged = [(h, i.name, pair) for h in devices for i, t in tunnels_of(h) if t.exchanged for pair in selected_ends(h, t)]
    for here, port, (mine, far) in exchanged:
        for other, _, (theirs, ours) in exchanged:
            ends = _first(intersect(mine, ours)), _first(intersect(far, theirs))
            if other is not here and ends[0] is not None and ends[1] is not None:
                yield here, port, Packet(UDP, ends[0], ends[1], 0, 0)


def _first(spans: Spans) -> Address | None:
    """The first address of a set; None of none."""
    return from_key(spans[0].first) if spans else None
