"""From a device's order to the steps that an executor runs, one tuple for each arriving interface.

This is the only place that knows which module compiles which stage.
"""

from __future__ import annotations

from collections.abc import Callable

from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.order import Stage
from mossy_compass.plan.stages import arrive, crossings, helpers, lists, own, routes, sessions, translate, tunnel
from mossy_compass.plan.stages.step import Step

COMPILERS: dict[Stage, Callable[[DevicePlan, str | None], Step | None]] = {
    Stage.ARRIVE: arrive.arrive,
    Stage.RECALL: sessions.recall,
    Stage.INSPECTION: sessions.inspection,
    Stage.ARRIVING_LIST: lists.arriving,
    Stage.TRANSLATE_DESTINATION: translate.destination,
    Stage.FRONT_LIST: crossings.front,
    Stage.FROM_SELF: crossings.from_self,
    Stage.TO_SELF_LIST: crossings.to_self,
    Stage.TO_SELF: own.to_self,
    Stage.FORWARDING: arrive.forwarding,
    Stage.POLICY_ROUTE: routes.policy,
    Stage.ROUTE: routes.route,
    Stage.TTL: arrive.time_to_live,
    Stage.CROSSING: crossings.crossing,
    Stage.LEAVING_LIST: lists.leaving,
    Stage.TRANSLATE_SOURCE: translate.source,
    Stage.HELPERS: helpers.heard,
    Stage.TUNNEL: tunnel.entering,
    Stage.SEND: routes.send,
}


def steps(here: DevicePlan, port: str | None) -> tuple[Step, ...]:
    """The steps for packets that come by an interface (None: that the device makes); idle stages are left out."""
    compiled = (COMPILERS[stage](here, port) for stage in (here.origin if port is None else here.through))
    return tuple(step for step in compiled if step is not None)
