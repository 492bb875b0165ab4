"""The device's own rules: what a kind of device lets pass for itself without anybody having written it.

They can be switched off by name (``built-in: {own-pings: no}``) and not removed; they stand after the written lists and
before the default. Nothing shows them unless it is asked for, but a ruling that follows from one always names it.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from mossy_compass.headers.spans import complement
from mossy_compass.model.network import Kind, Verdict
from mossy_compass.packet.service import BUILT_IN_SERVICES, ICMP, ICMP6, TCP, Service, icmp_span, parse_port
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Relation
from mossy_compass.plan.fields import service_span
from mossy_compass.plan.ids import TableId, TableKind
from mossy_compass.plan.reasons import Because
from mossy_compass.plan.rows import Row
from mossy_compass.plan.table import Table

TO_SELF, FROM_SELF = "to-self", "from-self"


class BuiltIn(NamedTuple):
    """One of a device's own rules.

    Attributes:
        name: by which it is switched and cited.
        place: ``to-self`` or ``from-self``.
        kinds: the kinds of devices that have it.
        on: whether it is in force when the file says nothing.
        conditions: takes the device's plan and gives what it wants.
        about: what it is for.

    """

    name: str
    place: str
    kinds: tuple[Kind, ...]
    on: bool
    conditions: Callable[[DevicePlan], tuple[Condition, ...]]
    about: str


def _services(*services: Service) -> Condition:
    """A condition on services."""
    return Condition("service", (("service", tuple(sorted(service_span(s) for s in services))),), tuple(map(str, services)))


def _outside(here: DevicePlan) -> Condition:
    """Destinations that are not one's own."""
    return Condition("to", (("destination", complement(here.local)),), ("outside",))


_PING = _services(Service(ICMP, icmp_span((8, None))), Service(ICMP6, icmp_span((128, None))))
_ASKED = Condition("state", (("relation", frozenset((Relation.ANSWERING, Relation.RELATED))),), ("answering", "related"))
_ERROR = Condition("error", (("error", frozenset((True,))),), ("ICMP errors",))
_FIREWALL = (Kind.FIREWALL,)
BUILT_IN: dict[str, BuiltIn] = {
    b.name: b
    for b in (
        BuiltIn(
            "own-answers",
            TO_SELF,
            _FIREWALL,
            True,
            lambda here: (_ASKED,),
            "answers to what the device itself asked, and errors about it",
        ),
        BuiltIn(
            "own-errors", FROM_SELF, _FIREWALL, True, lambda here: (_ERROR,), "ICMP errors about what it stops or cannot pass on"
        ),
        BuiltIn(
            "own-lookups",
            FROM_SELF,
            _FIREWALL,
            True,
            lambda here: (_services(*BUILT_IN_SERVICES["domain"]),),
            "the device may ask resolvers for names",
        ),
        BuiltIn(
            "own-time", FROM_SELF, _FIREWALL, True, lambda here: (_services(*BUILT_IN_SERVICES["ntp"]),), "it may ask for the time"
        ),
        BuiltIn("own-pings", FROM_SELF, _FIREWALL, True, lambda here: (_PING,), "it may ping, which is how uplinks are watched"),
        BuiltIn(
            "own-updates",
            FROM_SELF,
            _FIREWALL,
            False,
            lambda here: (_services(Service(TCP, parse_port("443"))), _outside(here)),
            "it may fetch updates, from outside addresses alone; off unless switched on",
        ),
    )
}
"""Every built-in rule by its name."""


def built_in_table(here: DevicePlan, place: str) -> Table:
    """The built-in rules of a device at a place; those that are switched off are there, and disabled."""
    rows = [
        Row(
            b.name,
            b.conditions(here),
            verdict=Verdict.PERMIT,
            disabled=not here.device.gates.built_in.get(b.name, b.on),
            about=b.about,
            because=Because("rule.built-in", (b.name, here.name), None, b.about),
            built_in=True,
        )
        for b in BUILT_IN.values()
        if b.place == place and here.device.kind in b.kinds
    ]
    return Table(TableId(TableKind.BUILT_IN, place), rows, name=f"built-in {place} {here.name}")
