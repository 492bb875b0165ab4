"""The order of a device's stages, as data."""

from __future__ import annotations

from enum import StrEnum

from mossy_compass.model.network import Kind


class Stage(StrEnum):
    """One step of what a device does with a packet."""

    ARRIVE = "arrive"
    SESSION = "session"
    INGRESS = "arriving list"
    UNDO = "translate back"
    TO_SELF = "to self"
    FORWARDING = "forwarding"
    FROM_SELF = "from self"
    ROUTE = "route"
    TTL = "time to live"
    EGRESS = "leaving list"
    SOURCE = "translate source"
    SEND = "send"


MEANING: dict[Stage, str] = {
    Stage.ARRIVE: "the interface is up, and the source is plausible where that is checked",
    Stage.SESSION: "a packet of a known session takes the session's rewrite and passes over the lists",
    Stage.INGRESS: "the access list attached to the arriving interface",
    Stage.UNDO: "an answer to a translated packet gets its first addresses back",
    Stage.TO_SELF: "a packet for the device itself ends here: its services answer or not",
    Stage.FORWARDING: "forwarding is on",
    Stage.FROM_SELF: "packets that the device makes itself begin here",
    Stage.ROUTE: "longest prefix, then preference, then metric, then sharing",
    Stage.TTL: "the TTL is above 1; looked at once the route is known (RFC 1812 section 5.2.1.2)",
    Stage.EGRESS: "the access list attached to the leaving interface",
    Stage.SOURCE: "source translation; after the route, so that it knows the leaving interface",
    Stage.SEND: "who answers for the next hop on the segment; a stateful device notes the session",
}

_THROUGH = (
    Stage.ARRIVE,
    Stage.SESSION,
    Stage.INGRESS,
    Stage.UNDO,
    Stage.TO_SELF,
    Stage.FORWARDING,
    Stage.ROUTE,
    Stage.TTL,
    Stage.EGRESS,
    Stage.SOURCE,
    Stage.SEND,
)
_FROM = (Stage.FROM_SELF, Stage.TO_SELF, Stage.ROUTE, Stage.EGRESS, Stage.SOURCE, Stage.SEND)

THROUGH: dict[Kind, tuple[Stage, ...]] = {kind: _THROUGH for kind in Kind if kind is not Kind.SWITCH}
"""Stages of a packet that arrives, by kind of device."""
FROM: dict[Kind, tuple[Stage, ...]] = {kind: _FROM for kind in Kind if kind is not Kind.SWITCH}
"""Stages of a packet that the device makes itself."""
