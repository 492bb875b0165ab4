"""What rulings cite tables by: a kind and a name, as values. Nobody takes a text apart to learn which table is meant."""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple


class TableKind(StrEnum):
    """The kinds of tables that a device asks."""

    NONE = ""
    LIST = "list"
    TRANSLATE = "translate"
    POLICY_ROUTES = "policy-routes"
    OFFERS = "offers"
    BUILT_IN = "built-in"
    DEFAULT = "default"
    ROUTE = "route"
    STAGE = "stage"


class TableId(NamedTuple):
    """A table of a device.

    Attributes:
        kind: what sort of table.
        name: of the list, of the half of translations, of the interface or place of offers and built-in rules, of the route
            table, or of the stage whose own table it is.
        as_of: which of the former versions that associations still hold; 0 for the list as it is.

    """

    kind: TableKind
    name: str = ""
    as_of: int = 0

    def __str__(self) -> str:
        """As records and views write it: ``list visitors-in``."""
        if self.kind is TableKind.STAGE:
            return self.name
        return f"{self.kind.value} {self.name}" if self.name else self.kind.value

    def __bool__(self) -> bool:
        return self.kind is not TableKind.NONE


NO_TABLE = TableId(TableKind.NONE)
"""Stands where nothing was asked that has rows."""
DEFAULTS = TableId(TableKind.DEFAULT)
"""The rows that decide when no rule does, each named after its setting."""
POLICY_ROUTES = TableId(TableKind.POLICY_ROUTES)
MAIN_ROUTES = TableId(TableKind.ROUTE, "main")
CITES_NOTHING = (NO_TABLE, "")
"""What a row cites that stands for a setting or a look-up."""


def list_id(name: str) -> TableId:
    """The id of an access list."""
    return TableId(TableKind.LIST, name)


def stage_table(name: str) -> TableId:
    """The id of a stage's own table."""
    return TableId(TableKind.STAGE, name)
