"""What each stage of a device does. A stage adds its ruling, and either lets the packet go on or ends the leg."""

from __future__ import annotations

from collections.abc import Callable

from mossy_compass.plan.order import Stage
from mossy_compass.walk.arrival import arrive, forwarding, from_self, time_to_live, to_self
from mossy_compass.walk.filters import egress, ingress, session
from mossy_compass.walk.forward import route, send
from mossy_compass.walk.passage import End, Passage
from mossy_compass.walk.translation import source_translation, undo_translation

STAGES: dict[Stage, Callable[[Passage], End | None]] = {
    Stage.ARRIVE: arrive,
    Stage.SESSION: session,
    Stage.INGRESS: ingress,
    Stage.UNDO: undo_translation,
    Stage.TO_SELF: to_self,
    Stage.FORWARDING: forwarding,
    Stage.FROM_SELF: from_self,
    Stage.TTL: time_to_live,
    Stage.ROUTE: route,
    Stage.EGRESS: egress,
    Stage.SOURCE: source_translation,
    Stage.SEND: send,
}
