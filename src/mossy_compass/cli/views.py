"""The commands that look at a whole network: its tables, and who may reach what.

A baseline is written the first time and compared afterwards, and never written over without
being asked: what was so before the change is what one needs most when the change has gone
wrong.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING

import click

from mossy_compass.cli.common import CONTEXT, EXIT_NOT, form_option, read_network, say, say_json, shape_of, show, write_whole
from mossy_compass.errors import InputError, QuestionError

if TYPE_CHECKING:
    from rich.console import RenderableType

    from mossy_compass.walk.grid import Changes, Grid

PARTS = ("interfaces", "routes", "neighbours", "rules", "settings")


@click.command(context_settings=CONTEXT, short_help="Show what a device knows: interfaces, routes, settings.")
@click.argument("file")
@click.argument("device", required=False)
@click.argument("part", nargs=-1, type=click.Choice(PARTS))
@click.option("--part", "parts", multiple=True, type=click.Choice(PARTS), help="The same as PART; may be given several times.")
@click.option(
    "--to", "address", metavar="ADDRESS", help="Only how DEVICE finds its route to ADDRESS: what wins, what loses, and why."
)
@form_option("text", "json")
def tables(file: str, device: str | None, part: tuple[str, ...], parts: tuple[str, ...], address: str | None, form: str) -> None:
    """Show what DEVICE knows: interfaces, routes, neighbours, translation and policy routes, and every setting in
    force with the order of its stages. Without DEVICE, the cabling. PART names one of these tables.

    \b
    Examples:
      mossy tables grounds.yaml
      mossy tables grounds.yaml north routes settings
      mossy tables grounds.yaml north --to 10.40.30.20
    """
    from rich.console import Group
    from rich.text import Text

    from mossy_compass.marks import hint
    from mossy_compass.packet.address import parse_address
    from mossy_compass.plan.plan import Plan
    from mossy_compass.report import tables as made
    from mossy_compass.report import text

    plan = Plan(read_network(file))
    parts = (*part, *parts)
    if device is None:
        if parts or address:
            raise InputError("--part and --to are about one device; name it after the file.")
        found = [made.cables(plan)]
    elif device not in plan.network.devices:
        raise QuestionError(f"there is no device '{device}'. {hint(device, plan.network.devices, 'devices')}")
    elif address is not None:
        found = [made.lookup(plan, device, parse_address(address))]
    else:
        found = made.of_device(plan, device, parts or made.PARTS)
    if form == "json":
        say_json({"mossy-tables": 1, "device": device, "tables": [t.to_dict() for t in found]})
        return
    blocks: list[RenderableType] = []
    for rows in found:
        blocks += [Text(f"{rows.about}:", style="bold"), text.table(rows.headings, rows.rows, len(rows.headings) - 1), Text("")]
    show(Group(*blocks[:-1]))


@click.command(context_settings=CONTEXT, short_help="Test who reaches what, and what changed.")
@click.argument("file")
@click.option(
    "--from", "sources", multiple=True, metavar="HOST", help="Who sends; every host when left out. May be given several times."
)
@click.option("--to", "targets", multiple=True, metavar="TARGET", help="Whom to reach; every host when left out.")
@click.option(
    "--service",
    "services",
    multiple=True,
    metavar="SERVICE",
    help="What to ask of each target; a ping and what it listens for when left out.",
)
@click.option(
    "--baseline",
    metavar="BASELINE",
    type=click.Path(dir_okay=False),
    help="Keep the grid in this file the first time; afterwards say what changed since.",
)
@click.option("--renew", is_flag=True, help="Say what changed, then keep the grid of now as the baseline.")
@click.option("--picture", metavar="PICTURE", type=click.Path(dir_okay=False), help="Draw it too, as PICTURE (.png or .svg).")
@form_option("text", "csv", "json")
def grid(
    file: str,
    sources: tuple[str, ...],
    targets: tuple[str, ...],
    services: tuple[str, ...],
    baseline: str | None,
    renew: bool,
    picture: str | None,
    form: str,
) -> None:
    """Test who reaches what: every source, every target, every service, with the cause wherever it fails.

    \b
    Examples:
      mossy grid fernhollow.yaml --from kiosk-1 --from tablet --to ledger
      mossy grid fernhollow.yaml --baseline before.json     (first time: kept)
      mossy grid fernhollow.yaml --baseline before.json     (later: what changed)

    \b
    Exit codes: 0 done, and nothing changed since the baseline,
                1 something changed, 2 wrong input.
    """
    from mossy_compass.cli.progress import track
    from mossy_compass.plan.plan import Plan
    from mossy_compass.walk import grid as grids

    if renew and baseline is None:
        raise InputError("--renew is about a baseline; add --baseline FILE.")
    shape = shape_of(picture) if picture else ""
    earlier = _earlier(Path(baseline)) if baseline else None
    network = read_network(file)
    tests = grids.questions_of(network, sources, targets, services)
    made = grids.gathered(track(grids.run(Plan(network), tests), len(tests), "tests"))
    if picture:
        from mossy_compass.report import drawing

        write_whole(Path(picture), drawing.render_grid(made, network.title or file, shape))
    if baseline and (earlier is None or renew):
        write_whole(Path(baseline), (json.dumps(made.to_dict(), indent=1, ensure_ascii=True) + "\n").encode())
    found = grids.compare(earlier, made) if earlier is not None else None
    _print_grid(made, found, form, file, baseline)
    raise SystemExit(EXIT_NOT if found else 0)


def _print_grid(made: Grid, found: Changes | None, form: str, file: str, baseline: str | None) -> None:
    """A grid in the form that was asked for; as text, what changed where there is something to compare with."""
    from mossy_compass.exchange.csvtable import grid_csv
    from mossy_compass.report import gridtext

    if form == "csv":
        say(grid_csv(made))
    elif form == "json":
        say_json(made.to_dict())
    elif found is not None and baseline:
        show(gridtext.changes(found, made, file, baseline))
    else:
        show(gridtext.whole(made, file))
        if baseline:
            say(f"Kept as the baseline in {baseline}; run the same again after a change.\n")


MOST_BASELINE = 64 * 1024 * 1024
"""Bytes of a baseline; more is no grid of ours."""


def _earlier(path: Path) -> Grid | None:
    """The grid that was kept; None the first time."""
    from mossy_compass.walk.grid import from_dict

    try:
        if not path.exists():
            return None
        if not path.is_file():
            raise InputError("it is no plain file.")
        with path.open("rb") as stream:
            data = stream.read(MOST_BASELINE)
        return from_dict(json.loads(data.decode("utf-8")))
    except (OSError, ValueError, RecursionError) as fault:
        words = str(fault).rstrip(".") if not isinstance(fault, RecursionError) else "it is nested too deeply"
        raise InputError(f"{path}: is no saved grid ({words}). Name another file, or remove it to begin anew.") from None
    except InputError as fault:
        raise InputError(f"{path}: {fault} Name another file, or remove it to begin anew.") from None
