"""The order of a device's stages, as data, and what makes an order one that can be used.

A stage says which facts it needs and which it gives. An order is refused when a fact is needed before it is given, so
that no condition is ever silently void; a device's own order is checked when the file is read.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from enum import StrEnum
from typing import NamedTuple

from mossy_compass.model.network import Kind


class Stage(StrEnum):
    """One step of what a device does with a packet."""

    ARRIVE = "arrive"
    RECALL = "recall"
    INSPECTION = "inspection"
    ARRIVING_LIST = "arriving list"
    TRANSLATE_DESTINATION = "translate destination"
    FRONT_LIST = "front list"
    FROM_SELF = "from self"
    TO_SELF_LIST = "to-self list"
    TO_SELF = "to self"
    FORWARDING = "forwarding"
    POLICY_ROUTE = "policy route"
    ROUTE = "route"
    TTL = "time to live"
    CROSSING = "crossing"
    LEAVING_LIST = "leaving list"
    TRANSLATE_SOURCE = "translate source"
    HELPERS = "helpers"
    TUNNEL = "tunnel"
    SEND = "send"


class Spec(NamedTuple):
    """What an order must know of a stage.

    Attributes:
        meaning: for the documents.
        needs: facts that it always reads; its rows may need more.
        gives: facts that are known after it.
        before: stages that it must come before, since it would have no effect after them.

    """

    meaning: str
    needs: tuple[str, ...] = ()
    gives: tuple[str, ...] = ()
    before: tuple[Stage, ...] = ()


SPECS: dict[Stage, Spec] = {
    Stage.ARRIVE: Spec("the source is one that a packet may have, and plausible where that is checked", (), (), (Stage.TO_SELF,)),
    Stage.RECALL: Spec(
        "the session that the packet, as it came, belongs to, and what it is to it; nothing is rewritten here",
        (),
        ("session", "relation", "opens"),
    ),
    Stage.INSPECTION: Spec(
        "packets of known sessions of inspected protocols pass over the filters that follow", ("relation",), ("admitted",)
    ),
    Stage.ARRIVING_LIST: Spec("the lists for whatever arrives, then those of the arriving interface; or those of a profile"),
    Stage.TRANSLATE_DESTINATION: Spec(
        "a destination rule, or the destination half of the packet's session",
        ("session", "relation"),
        (),
        (Stage.TO_SELF, Stage.POLICY_ROUTE, Stage.ROUTE),
    ),
    Stage.FRONT_LIST: Spec("the lists of the destination rule that sent the packet on"),
    Stage.TO_SELF_LIST: Spec(
        "for a packet to the device: crossings into self, to-self lists, what is offered on the interface, built-in rules",
        ("relation",),
        (),
        (Stage.TO_SELF,),
    ),
    Stage.FROM_SELF: Spec("whether the device may send packets of its own: from-self lists, built-in rules", ("relation",)),
    Stage.TO_SELF: Spec("a packet for the device itself ends here: its services answer or not", ("session", "relation", "opens")),
    Stage.FORWARDING: Spec("forwarding is on, and neither end is link-local"),
    Stage.POLICY_ROUTE: Spec("entries that choose a way of their own for what they match", (), (), (Stage.ROUTE,)),
    Stage.ROUTE: Spec("longest prefix, then preference, then metric, then sharing", (), ("leaving",)),
    Stage.TTL: Spec("the TTL is above 1; looked at once the route is known (RFC 1812 section 5.2.1.2)"),
    Stage.CROSSING: Spec("the lists for this pair of zones, or the default for inbound, outbound, through", ("leaving",)),
    Stage.LEAVING_LIST: Spec("the lists attached to the leaving interface", ("leaving",)),
    Stage.TRANSLATE_SOURCE: Spec("a source rule, or the source half of the packet's session", ("session", "relation")),
    Stage.HELPERS: Spec(
        "what a conversation tells of a second channel, which is then expected; the address in it is translated like its sender's",
        ("session", "relation", "leaving"),
    ),
    Stage.TUNNEL: Spec("the selectors of tunnels: what they protect goes into one, whatever its route", ("leaving",)),
    Stage.SEND: Spec("who answers for the next hop on the segment; what is to be remembered is noted", ("leaving", "relation")),
}

OBLIGATORY = (Stage.ARRIVE, Stage.RECALL, Stage.TO_SELF, Stage.ROUTE, Stage.SEND)
"""Without one of these a packet would have no fate, or a device no memory."""
FILTERS = (Stage.ARRIVING_LIST, Stage.FRONT_LIST, Stage.TO_SELF_LIST, Stage.CROSSING, Stage.LEAVING_LIST)

THROUGH: tuple[Stage, ...] = (
    Stage.ARRIVE,
    Stage.RECALL,
    Stage.INSPECTION,
    Stage.ARRIVING_LIST,
    Stage.TRANSLATE_DESTINATION,
    Stage.FRONT_LIST,
    Stage.TO_SELF_LIST,
    Stage.TO_SELF,
    Stage.FORWARDING,
    Stage.POLICY_ROUTE,
    Stage.ROUTE,
    Stage.TTL,
    Stage.CROSSING,
    Stage.LEAVING_LIST,
    Stage.TRANSLATE_SOURCE,
    Stage.HELPERS,
    Stage.TUNNEL,
    Stage.SEND,
)
"""Stages of a packet that arrives, unless the device has its own order."""
FROM: tuple[Stage, ...] = (
    Stage.RECALL,
    Stage.INSPECTION,
    Stage.FROM_SELF,
    Stage.TO_SELF,
    Stage.POLICY_ROUTE,
    Stage.ROUTE,
    Stage.CROSSING,
    Stage.LEAVING_LIST,
    Stage.TRANSLATE_SOURCE,
    Stage.TUNNEL,
    Stage.SEND,
)
"""Stages of a packet that the device makes itself."""
OWN_ALONE = (Stage.FROM_SELF,)


def orders(kind: Kind, own: tuple[str, ...] | None = None) -> tuple[tuple[Stage, ...], tuple[Stage, ...]]:
    """The stages of a packet that arrives at a device, and of one that it makes.

    A stage that a device's own order leaves out is left out for its own packets too.
    """
    if kind is Kind.SWITCH:
        return (), ()
    if own is None:
        return THROUGH, FROM
    through = tuple(Stage(name) for name in own)
    return through, tuple(s for s in FROM if s in through or s in OWN_ALONE)


class OrderFault(NamedTuple):
    """Why an order cannot be used; ``stage`` is the place to point at, by its number in the order.

    Attributes:
        stage: number in the order, from 0, to point at; -1 for the order as a whole.
        message: what is wrong.
        remedy: what to do about it.

    """

    stage: int
    message: str
    remedy: str


def faults(names: tuple[str, ...], forwards: bool = True) -> Iterator[OrderFault]:
    """Everything that is wrong with an order, but for what the rows of its stages need.

    Args:
        names: the stages, as they are written.
        forwards: whether the device passes on what is for others; without the stage ``forwarding`` nothing asks, so it does.

    """
    known = {s.value for s in Stage if s not in OWN_ALONE}
    for number, name in enumerate(names):
        if name not in known:
            stages = ", ".join(s.value for s in THROUGH)
            yield OrderFault(number, f"'{name}' is no stage of a packet that arrives.", f"Stages are: {stages}.")
        elif name in names[:number]:
            yield OrderFault(number, f"stage '{name}' stands twice in the order.", "Remove one of the two.")
    order = [Stage(n) for n in dict.fromkeys(names) if n in known]
    missing = [s for s in OBLIGATORY if s not in order]
    for stage in missing:
        yield OrderFault(-1, f"the order has no stage '{stage}', without which a packet has no fate.", f"Add {stage}.")
    if Stage.TTL not in order and (forwards or Stage.FORWARDING not in order):
        words = (
            f"the order has no stage '{Stage.TTL}', and the device forwards: a packet that is routed in a circle would have no end"
        )
        yield OrderFault(-1, f"{words} (RFC 1812 section 5.3.1).", f"Add {Stage.TTL}.")
    if not missing:
        for number, stage in enumerate(order):
            yield from _misplaced(order, number, stage)
        yield from _nothing_to_pass_over(order)


def _misplaced(order: list[Stage], number: int, stage: Stage) -> Iterator[OrderFault]:
    """A stage that needs what is not known yet, or that could have no effect where it stands."""
    given = given_before(order, stage)
    for need in SPECS[stage].needs:
        if need not in given:
            giver = next(s for s, spec in SPECS.items() if need in spec.gives)
            yield OrderFault(number, f"stage '{stage}' needs the {need}, which is not known there.", f"Put it after '{giver}'.")
    for later in SPECS[stage].before:
        if later in order[:number]:
            yield OrderFault(number, f"stage '{stage}' has no effect after '{later}'.", f"Put it before '{later}'.")
    if Stage.SEND in order[:number]:
        words = f"stage '{stage}' stands after 'send', which ends a packet's stay: it would never be asked."
        yield OrderFault(number, words, "Put it before 'send'.")


def _nothing_to_pass_over(order: list[Stage]) -> Iterator[OrderFault]:
    """Inspection lets packets pass over later lists; where none is left it would be void."""
    lists = [n for n, s in enumerate(order) if s in FILTERS]
    if lists and Stage.INSPECTION in order and order.index(Stage.INSPECTION) > lists[-1]:
        words = "stage 'inspection' stands after every list: there is nothing left to pass over."
        yield OrderFault(order.index(Stage.INSPECTION), words, "Put it before a list.")


def given_before(order: Iterable[Stage], stage: Stage) -> set[str]:
    """The facts that are known when a stage of an order is asked."""
    out: set[str] = set()
    for earlier in order:
        if earlier is stage:
            break
        out |= set(SPECS[earlier].gives)
    return out
