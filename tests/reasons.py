"""Every reason that is made while the tests run is held against the types of its values."""

from __future__ import annotations

import ast
import inspect
import types
from typing import Any, get_args, get_origin

from mossy_compass.marks import Hint, Mark
from mossy_compass.model.network import Candidate
from mossy_compass.packet.address import Address, InterfaceAddress, Prefix
from mossy_compass.packet.packet import Channel, Packet
from mossy_compass.plan import reasons
from mossy_compass.plan.conditions import Miss
from mossy_compass.plan.facts import Direction, Phase, Relation
from mossy_compass.plan.ids import TableId
from mossy_compass.plan.reasons import REASONS, Because
from mossy_compass.routing.table import NextHop

NAMES = (
    Because,
    Hint,
    Candidate,
    Address,
    InterfaceAddress,
    Prefix,
    Channel,
    Packet,
    Mark,
    Miss,
    Direction,
    Phase,
    Relation,
    TableId,
    NextHop,
)
"""What the table of types names."""


def written() -> dict[str, Any]:
    """The types of values by their names, from the text: the program itself does not make that table."""
    tree = ast.parse(inspect.getsource(reasons))
    table = next(node for node in ast.walk(tree) if isinstance(node, ast.ClassDef) and node.name == "Values")
    known = {cls.__name__: cls for cls in NAMES}
    entries = [node for node in table.body if isinstance(node, ast.AnnAssign)]
    return {ast.unparse(node.target): eval(ast.unparse(node.annotation), known) for node in entries}


TYPES = written()
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
