"""How a device keeps sessions and mappings: what its settings say of it, as the state asks for it."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from types import MappingProxyType
from typing import NamedTuple

from mossy_compass.model.durations import parse_duration
from mossy_compass.model.settings import TIME_OUTS, Settings
from mossy_compass.packet.service import ICMP, ICMP6, TCP, UDP
from mossy_compass.plan.facts import Phase

AS_WRITTEN = {"endpoint-independent": 0, "address-dependent": 1, "per-flow": 2}
"""How much of the far end counts (RFC 4787 sections 4.1 and 5): nothing, its address, its port too."""


LAST_PORT = 65535
FIRST_FREE_PORT = 1024
"""A mapping's port is looked for on the same side of this as the source's own is (RFC 4787 section 4.2.2, REQ-3)."""


class Lives(StrEnum):
    """The settings that say how long a session lives after a packet, by phase and protocol."""

    OPENING = "time-out-opening"
    OPEN = "time-out-open"
    CLOSING = "time-out-closing"
    UDP = "time-out-udp"
    ICMP = "time-out-icmp"
    OTHER = "time-out-other"


class Keeping(NamedTuple):
    """How a device keeps sessions and mappings.

    Attributes:
        lives: how long a session lives without a packet, in milliseconds, by the setting that says so; None for never.
        strict: a packet must be one that its session's phase expects.
        remembers_neighbour: a session keeps who handed its opening packet over.
        same_interfaces: a packet must come by the interface by which its session's direction came or went at first.
        revives: a session outlives a reset; else it ends at once.
        closes_at_once: a session ends when both ends have closed it.
        history: so many ended sessions are remembered.
        session_limit, half_open_limit: so many may live, and be half-open; None for no limit.
        mapping, filtering: how much of the far end counts, where a mapping is shared, and where its outer end is used.
        keeps_port: the source's own port, while it is free.
        announced: how long a second channel that was announced may be opened, in milliseconds.

    """

    lives: Mapping[str, int | None] = MappingProxyType(dict.fromkeys(TIME_OUTS))
    strict: bool = False
    remembers_neighbour: bool = False
    same_interfaces: bool = False
    revives: bool = True
    closes_at_once: bool = False
    history: int = 100
    session_limit: int | None = None
    half_open_limit: int | None = None
    mapping: int = 0
    filtering: int = 2
    keeps_port: bool = True
    announced: int = 60_000


def keeping_of(settings: Settings) -> Keeping:
    """How sessions are kept, by a device's settings."""
    text = settings.text
    limits = [None if text(n) == "none" else int(text(n)) for n in ("session-limit", "half-open-limit")]
    return Keeping(
        lives={name: 0 if text(name) == "at once" else parse_duration(text(name)) for name in TIME_OUTS},  # never is none
        strict=text("session-phase") == "strict",
        remembers_neighbour=text("session-exit") != "routed",
        same_interfaces=text("session-interfaces") == "same",
        revives=text("after-reset") == "revive",
        closes_at_once=text("time-out-closing") == "at once",
        history=int(text("history")),
        session_limit=limits[0],
        half_open_limit=limits[1],
        mapping=AS_WRITTEN[text("mapping")],
        filtering=AS_WRITTEN[text("filtering")],
        keeps_port=text("keep-port") == "yes",
        announced=parse_duration(text("announced-for")) or 0,
    )


HALF_OPEN = (Phase.OPENING, Phase.ANSWERED, Phase.CROSSED)
"""What counts as half-open: nobody has acknowledged an answer yet."""
_LIVES = {
    **dict.fromkeys(HALF_OPEN, Lives.OPENING),
    **dict.fromkeys((Phase.OPEN, Phase.HALF_FORTH, Phase.HALF_BACK), Lives.OPEN),
    **dict.fromkeys((Phase.CLOSING, Phase.RESET), Lives.CLOSING),
}


def lives(protocol: int, phase: Phase) -> Lives:
    """Which setting says how long a session lives after a packet."""
    if protocol == TCP:
        return _LIVES[phase]
    if protocol in (ICMP, ICMP6):
        return Lives.ICMP
    return Lives.UDP if protocol == UDP else Lives.OTHER
