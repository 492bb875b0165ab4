"""Tables for analysis: grids, flows and route tables as pandas DataFrames. The one file that knows pandas.

pandas is an extra: without it everything else works, and what asks for a frame is told how
to install it. A frame has a row for each test, flow or route, and no index of its own, so
that it can be filtered and joined like any other.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from mossy_compass.errors import Unsupported
from mossy_compass.routing.table import Route, RouteTable
from mossy_compass.walk.grid import Grid
from mossy_compass.walk.many import Flows

if TYPE_CHECKING:
    import pandas as pd


def frame(thing: Grid | Flows | RouteTable) -> pd.DataFrame:
    """A grid (a row a test), flows (a row a member of each shared route), or a route table (a row a route) as a DataFrame.

    Args:
        thing: what ``grid``, ``flows`` or ``plan.device(NAME).table`` gives.

    Raises:
        Unsupported: pandas is not installed, or the thing has no rows.

    """
    try:
        import pandas
    except ImportError:
        raise Unsupported("pandas is not installed. Install it: pip install 'mossy-compass[pandas]'.") from None
    return pandas.DataFrame(_rows(thing))


def _rows(thing: Grid | Flows | RouteTable) -> list[dict[str, Any]]:
    """The columns' names, and a row of plain values for each thing that the frame is about."""
    if isinstance(thing, Grid):
        return [{**cell, "path": " > ".join(cell["path"])} for cell in thing.to_dict()["cells"]]
    if isinstance(thing, Flows):
        return [
            {"device": s.device, "on the way": s.way, "way": hop.words(), "flows": count}
            for s in thing.shares
            for hop, count in s.counts
        ]
    if isinstance(thing, RouteTable):
        return [_route(r) for r in thing]
    raise Unsupported(f"{type(thing).__name__} is no table. Give a grid, flows, or a route table.")


def _route(route: Route) -> dict[str, Any]:
    """A row of a route table."""
    return {
        "prefix": str(route.prefix),
        "origin": route.origin,
        "preference": route.preference,
        "metric": route.metric,
        "ways": ", ".join(h.words() for h in route.hops) or route.action.value,
        "place": str(route.mark) if route.mark and route.mark.line else "",
    }
