"""Every reason that is made while the tests run is held against the types of its values."""

from __future__ import annotations

import types
from typing import Any, get_args, get_origin, get_type_hints

from mossy_compass.marks import Hint
from mossy_compass.model.network import Candidate
from mossy_compass.packet.address import Address, InterfaceAddress, Prefix
from mossy_compass.packet.packet import Channel, Packet
from mossy_compass.plan.conditions import Miss
from mossy_compass.plan.facts import Direction, Phase, Relation
from mossy_compass.plan.ids import TableId
from mossy_compass.plan.reasons import REASONS, Because, Values
from mossy_compass.routing.table import NextHop

NAMES = (Hint, Candidate, Address, InterfaceAddress, Prefix, Channel, Packet, Miss, Direction, Phase, Relation, TableId, NextHop)
"""What the program names in its types without importing it."""
TYPES = get_type_hints(Values, localns={cls.__name__: cls for cls in NAMES})
MADE: set[tuple[Any, ...]] = set()
"""Codes with the types of values that were held against the table already."""


def fits(value: Any, hint: Any) -> bool:
    """Whether a value is of a type: a class, one or None, or a tuple of some."""
    parts = get_args(hint)
    if get_origin(hint) is types.UnionType:
        return any(fits(value, part) for part in parts)
    if get_origin(hint) is not tuple:
        return isinstance(value, hint) and (hint is not int or not isinstance(value, bool))
    if not isinstance(value, tuple):
        return False
    if len(parts) == 2 and parts[1] is Ellipsis:
        return all(fits(entry, parts[0]) for entry in value)
    return len(value) == len(parts) and all(map(fits, value, parts))


def shape(value: Any) -> Any:
    """The type of a value, with those of what is in it."""
    return frozenset(map(shape, value)) if type(value) is tuple else type(value)


def watch() -> None:
    """From now on a reason with other values than its code has is an error where it is made."""
    make = Because.__new__

    def checked(cls: type[Because], code: str, values: tuple[Any, ...] = (), *more: Any, **named: Any) -> Because:
        key = (code, *map(shape, values))
        if key not in MADE:
            names = REASONS[code].names
            assert len(names) == len(values), f"{code}: {names}, and {values}"
            for name, value in zip(names, values, strict=True):
                assert fits(value, TYPES[name]), f"{code}: {name} is {TYPES[name]}, and not {value!r}"
            MADE.add(key)
        return make(cls, code, values, *more, **named)

    Because.__new__ = checked  # type: ignore[method-assign, assignment]
