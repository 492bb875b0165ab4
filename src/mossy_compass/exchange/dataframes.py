"""Tables for analysis: grids, flows and route tables as pandas DataFrames. The one file that knows pandas.

pandas is an extra: without it everything else works, and what asks for a frame is told how
to install it. A frame has a row for each test, flow or route, and no index of its own, so
that it can be filtered and joined like any other.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from mossy_compass.errors import InputError, Unsupported
from mossy_compass.plan.plan import Plan
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
    made: pd.DataFrame = _pandas().DataFrame(_rows(thing))
    return made


def flow_frame(plan: Plan, flows: pd.DataFrame) -> pd.DataFrame:
    """Ask of a table of flows whether they would pass, each alone.

    Args:
        plan: the network.
        flows: with the columns ``source``, ``destination`` (addresses) and ``service`` (a name, or such as ``tcp/443``), and
            ``count`` if you like. Of a service of several members there is a row for each.

    Returns:
        A row for each flow: whether it passes, its cause, where and by what it is decided, the rules that let it through, as whom it is
        seen, and by which uplink it leaves.

    Raises:
        Unsupported: pandas is not installed.
        InputError: a column is lacking, or a row is no flow.

    """
    from mossy_compass.lab.observed import Observed, fates, observed  # a frame of a grid does not wait for it

    pandas = _pandas()
    lacking = [c for c in ("source", "destination", "service") if c not in flows.columns]
    if lacking:
        raise InputError(f"the table lacks the columns {', '.join(lacking)}: give source, destination and service.")
    counts = flows["count"] if "count" in flows.columns else [1] * len(flows)
    found: list[Observed] = []
    rows = zip(flows["source"], flows["destination"], flows["service"], counts, strict=True)
    for number, (source, destination, service, count) in enumerate(rows):
        try:
            found += observed(plan.network, str(source), str(destination), str(service), int(count))
        except (InputError, ValueError) as fault:
            raise InputError(f"row {number} of the table: {fault}") from None
    made: pd.DataFrame = pandas.DataFrame([one.to_dict() for one in fates(plan, found)])
    return made


def _pandas() -> Any:
    """The library, or an error that says how to get it."""
    try:
        import pandas
    except ImportError:
        raise Unsupported("pandas is not installed. Install it: pip install 'mossy-compass[pandas]'.") from None
    return pandas


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
