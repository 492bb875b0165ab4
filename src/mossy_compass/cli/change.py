"""The command that tries a change file on a network file, and writes it when asked.

What the change does is worked out on both networks as a whole; the file is written only when the changed network has no
error, and then as a whole.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from mossy_compass.cli import complete
from mossy_compass.cli.common import (
    ALL_PACKETS,
    CONTEXT,
    EXIT_INPUT,
    EXIT_NOT,
    OUTPUT,
    FileKind,
    Once,
    all_packets,
    form_option,
    moment_of,
    moment_options,
    new_findings,
    say_json,
    show,
    show_problems,
    write_whole,
)
from mossy_compass.errors import InputError, QuestionError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from mossy_compass.files.change import Change
    from mossy_compass.lab.lab import Flow
    from mossy_compass.model.network import Network
    from mossy_compass.plan.plan import Plan
    from mossy_compass.walk.grid import Grid
    from mossy_compass.walk.question import Options


@click.command(context_settings=CONTEXT, short_help="Try a change: what it does to the file and to packets.")
@click.argument("file")
@click.argument("change_file", metavar="CHANGE")
@click.option("--write", is_flag=True, help="Write the changed network to FILE, if it has no error.")
@click.option("--undo", metavar="UNDO", type=OUTPUT, help="Also keep the text of FILE as it was, as UNDO.")
@click.option(
    "--from",
    "sources",
    multiple=True,
    metavar="HOST",
    shell_complete=complete.senders,
    help="Test only packets of this host; every host when left out.",
)
@click.option(
    "--to",
    "targets",
    multiple=True,
    metavar="TARGET",
    shell_complete=complete.targets,
    help="... only to this target; when left out every host, and every address that is sent on.",
)
@click.option(
    "--service", "services", multiple=True, metavar="SERVICE", shell_complete=complete.services, help="... only this service."
)
@moment_options
@ALL_PACKETS
@form_option("text", "json")
def change(
    file: str,
    change_file: str,
    write: bool,
    undo: str | None,
    sources: tuple[str, ...],
    targets: tuple[str, ...],
    services: tuple[str, ...],
    at: str | None,
    last_resort: bool,
    every: bool,
    form: str,
) -> None:
    """Do the steps of CHANGE on the network in FILE, and show what is different: in the text, for every test, for each
    rule and place of lists exactly, with an example packet, and for routes. Comments and order of FILE are kept. With --all
    not tests are compared, but every packet that somebody can send, from its sender to the answer.

    \b
    Example:
      mossy change fernhollow.yaml tablet.yaml
      mossy change fernhollow.yaml tablet.yaml --all
      mossy change fernhollow.yaml tablet.yaml --write --undo before.yaml

    \b
    Exit codes: 0 the change can be done (and is written, with --write),
                1 the same, and of something that differs nobody knows
                what it does: no test looks there, or with --all not
                all packets could be compared, 2 it cannot be done.
    """
    from mossy_compass.files.load import plain_bytes
    from mossy_compass.files.tree import decode
    from mossy_compass.lab.examples import walker
    from mossy_compass.lab.uncovered import uncovered
    from mossy_compass.plan.plan import Plan
    from mossy_compass.proof.effects import effects
    from mossy_compass.report import changetext
    from mossy_compass.walk.weather import in_weather

    data = plain_bytes(file)
    text = decode(data, file)
    made, networks = _made(file, data, text, change_file)
    plans = in_weather(Plan(networks[0])), in_weather(Plan(networks[1]))
    options = moment_of(at, last_resort)
    everything = all_packets(plans, (sources, targets, services), at is not None or last_resort) if every else None
    asked = [None if every else _asked(plan, (sources, targets, services), options) for plan in plans]
    grids = [_tested(plan, asked[n], plans[1 - n], asked[1 - n]) for n, plan in enumerate(plans)]
    found = effects(*plans, walker(plans[1], plans[0]))
    if undo:
        write_whole(Path(undo), data, FileKind.NETWORK, Once.NEVER)
    if write:
        _put_into(file, data, made.text)
    from mossy_compass.walk.grid import compare

    one, other = grids
    changes = compare(one, other) if one is not None and other is not None else None
    tests = len(other.cells) if other is not None else 0
    blind = () if every else uncovered(*plans, changes)
    new = new_findings(*plans)
    first = changetext.head(file, change_file, changes, tests, found, write, blind, everything)
    lines = changetext.difference(text, made.text, file)
    if form == "json":
        say_json(changetext.as_dict(first, made.about, lines, changes, found, (), blind, new, everything))
    else:
        show(changetext.whole(first, made.about, lines, changes, found, (), new, everything))
    raise SystemExit(EXIT_NOT if blind or (everything is not None and everything.left) else 0)


def _made(file: str, data: bytes, text: str, change_file: str) -> tuple[Change, tuple[Network, Network]]:
    """A change that was done on a text, and the network before and after it; what is wrong with either is shown, and ends the command."""
    from mossy_compass.files.change import read_change
    from mossy_compass.files.load import read_bytes

    before = read_bytes(data, file)
    if before.network is None:
        show_problems(before.problems, file, error=True)
        raise SystemExit(EXIT_INPUT)
    made = read_change(change_file, text)
    after = read_bytes(made.text.encode(), file)
    if after.network is None:
        show_problems(made.blamed(after.problems), f"{file} with {change_file}", error=True)
        raise SystemExit(EXIT_INPUT)
    return made, (before.network, after.network)


def _put_into(file: str, data: bytes, text: str) -> None:
    """Write a changed text into its file, unless somebody else has changed that since it was read."""
    from mossy_compass.files.load import plain_bytes

    if plain_bytes(file) != data:
        raise InputError(f"{file}: was changed by somebody else in the meantime. Nothing was written; try the change again.")
    mark = b"\xef\xbb\xbf" if data.startswith(b"\xef\xbb\xbf") else b""
    write_whole(Path(file), mark + text.encode(), FileKind.NETWORK, Once.ITSELF)


def _asked(plan: Plan, asked: tuple[Sequence[str], Sequence[str], Sequence[str]], options: Options) -> list[Flow] | None:
    """Every test of a network; None where there is nobody to test."""
    from mossy_compass.lab.expect import every_flow

    try:
        return every_flow(plan.network, *asked, options)
    except QuestionError:
        if any(asked):
            raise
        return None


def _tested(plan: Plan, mine: list[Flow] | None, other: Plan, theirs: list[Flow] | None) -> Grid | None:
    """What the tests of a version come to, and those of the other version that it can be asked; None where there are none."""
    from mossy_compass.cli.progress import track
    from mossy_compass.lab.expect import flows_beside
    from mossy_compass.walk.grid import cell_of, gathered
    from mossy_compass.walk.trace import trace_one

    if mine is None:
        return None
    flows = flows_beside(plan.network, mine, other.network, theirs or [])
    cells = (cell_of(trace_one(plan, f.source, f.target, f.service, f.options), f.source, f.target, f.label) for f in flows)
    return gathered(track(cells, len(flows), "tests"))
