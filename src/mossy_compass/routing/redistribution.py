"""What a router tells its neighbours of routes of other origin: the values that redistribution is decided by.

These are values without behaviour, apart from OSPF and RIP, so that either can be told of
the other's routes without importing it.
"""

from __future__ import annotations

from typing import NamedTuple

from mossy_compass.packet.address import Prefix


class External(NamedTuple):
    """A route of other origin that a router announces in OSPF (RFC 2328 section 16.4).

    Attributes:
        router: who announces it.
        prefix: the destination.
        type: 1 or 2: whether the way to the announcing router is added to the metric.
        metric: that it is announced with.

    """

    router: str
    prefix: Prefix
    type: int
    metric: int


class Announced(NamedTuple):
    """A route of other origin that a router announces in RIP.

    Attributes:
        router: who announces it.
        prefix: the destination.
        metric: in hops, 1 to 15 (RFC 2453 section 3.6).

    """

    router: str
    prefix: Prefix
    metric: int
