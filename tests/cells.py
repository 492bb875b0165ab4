"""Packets drawn from sets by chance, for the laws about cells."""

from __future__ import annotations

import random

from mossy_compass.headers.sets import Set
from mossy_compass.packet.packet import DEFAULT_TTL
from mossy_compass.plan.facts import Facts
from mossy_compass.proof.space import Space


def drawn(space: Space, held: Set, chance: random.Random) -> Facts | None:
    """Some packet of a set, any as likely as seems good: bit by bit as chance has it, where the set has such packets."""
    space.tidy()
    held = held & space.possible
    if not held.satisfiable():
        return None
    universe = space._universe
    for name in (
        "protocol",
        "six",
        "fragment",
        "reset",
        "shows",
        "opens",
        "relation",
        "source",
        "destination",
        "slot",
        "from-port",
        "identifier",
        "size",
    ):
        for bit in universe._bits[name]:
            wish = held & (universe._yes[bit] if chance.random() < 0.5 else universe._no[bit])
            if wish.satisfiable():
                held = wish
    ttl = held & universe.between("ttl", DEFAULT_TTL, DEFAULT_TTL)
    return space.witness(ttl if ttl.satisfiable() else held)
