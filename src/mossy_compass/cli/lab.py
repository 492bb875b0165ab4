"""The commands that ask what becomes of a network: compared with another version of it, or with something failed."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from mossy_compass.cli import complete
from mossy_compass.cli.common import (
    ALL_PACKETS,
    CONTEXT,
    EXIT_INPUT,
    EXIT_NOT,
    FAILING,
    OUTPUT,
    FileKind,
    all_packets,
    form_option,
    jobs_option,
    moment_of,
    moment_options,
    read_network,
    say,
    say_json,
    scheduler_option,
    shape_of,
    show,
    show_problems,
    write_whole,
)
from mossy_compass.errors import InputError, QuestionError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from mossy_compass.lab.differences import Unlike
    from mossy_compass.lab.lab import Flow
    from mossy_compass.model.network import Network
    from mossy_compass.plan.plan import Plan
    from mossy_compass.walk.grid import Changes, Grid
    from mossy_compass.walk.question import Options

FLOW_OPTIONS = (
    click.option("--drill", metavar="DRILL", help="Test the flows of this drill; without it every host, target and service."),
    click.option(
        "--from",
        "sources",
        multiple=True,
        metavar="HOST",
        shell_complete=complete.senders,
        help="Test only packets of this host; may be given several times.",
    ),
    click.option(
        "--to", "targets", multiple=True, metavar="TARGET", shell_complete=complete.targets, help="... only to this target."
    ),
    click.option(
        "--service", "services", multiple=True, metavar="SERVICE", shell_complete=complete.services, help="... only this service."
    ),
)


def flow_options(command: Any) -> Any:
    """The options that say which flows are tested."""
    for option in reversed(FLOW_OPTIONS):
        command = option(command)
    return command


def flows_of(
    network: Network, drill: str | None, asked: tuple[Sequence[str], Sequence[str], Sequence[str]], options: Options
) -> list[Flow]:
    """The flows that are tested: those of a drill, or of the grid."""
    from dataclasses import replace

    from mossy_compass.lab.expect import every_flow

    if drill is None:
        return every_flow(network, *asked, options)
    if any(asked):
        raise InputError("--drill says which flows are tested; leave --from, --to and --service out.")
    from mossy_compass.files.drills import read_drill
    from mossy_compass.lab.expect import flows
    from mossy_compass.lab.steps import DrillStep, ExpectFlows, Repeat

    def expected(steps: Sequence[DrillStep]) -> list[Flow]:
        """The flows of every expectation, those within repetitions once."""
        out = []
        for step in steps:
            if isinstance(step, Repeat):
                out += expected(step.steps)
            elif isinstance(step, ExpectFlows):
                out += flows(network, step.expectation)
        return out

    found = [
        replace(f, options=replace(f.options, at=options.at)) if options.at is not None else f
        for f in expected(read_drill(drill).steps)
    ]
    if not found:
        raise InputError(f"{drill}: nothing is expected of any flow, so nothing would be tested.")
    return list(dict.fromkeys(found))


@click.command(context_settings=CONTEXT, short_help="Compare two versions of a network, or one with a change or failures.")
@click.argument("old")
@click.argument("new", required=False)
@click.option("--change", "change_file", metavar="CHANGE", help="NEW is OLD with the steps of this change file.")
@click.option(
    "--fail",
    "fails",
    multiple=True,
    metavar="WHAT",
    help="NEW is OLD without this, such as 'link fibre'; may be given several times.",
)
@flow_options
@moment_options
@click.option(
    "--picture", metavar="PICTURE", type=OUTPUT, help="Draw the tests that end differently in NEW, as PICTURE (.png or .svg)."
)
@ALL_PACKETS
@click.option(
    "--errors",
    is_flag=True,
    help="With --all: follow the ICMP errors about every kind of packet home, which may take twice as long.",
)
@form_option("text", "json", "csv")
def compare(
    old: str,
    new: str | None,
    change_file: str | None,
    fails: tuple[str, ...],
    drill: str | None,
    sources: tuple[str, ...],
    targets: tuple[str, ...],
    services: tuple[str, ...],
    at: str | None,
    last_resort: bool,
    picture: str | None,
    every: bool,
    errors: bool,
    form: str,
) -> None:
    """Say for every test whether it ends otherwise in NEW than in OLD, worst first; for lists exactly which packets meet
    another verdict; for routes which destinations go another way; and where the versions are written otherwise. What no
    test notices is shown all the same. With --all not tests are compared, but every packet that somebody can send in both,
    from its sender to the answer.

    \b
    Examples:
      mossy compare before.yaml after.yaml
      mossy compare before.yaml after.yaml --all
      mossy compare fernhollow.yaml --fail 'link herb-link'
      mossy compare fernhollow.yaml --change tablet.yaml --format csv

    \b
    Exit codes: 0 nothing ends differently, 1 something does, or differs
                where no test looks (translation, policy routes, settings),
                or could not be compared, 2 wrong input.
    """
    from mossy_compass.lab.differences import unlike
    from mossy_compass.plan.plan import Plan
    from mossy_compass.walk.weather import in_weather

    if every and (drill or picture or form == "csv"):
        raise click.UsageError(
            "--all compares all packets, not tests: it goes with --from, --to, --service and --format text or json."
        )
    if errors and not every:
        raise click.UsageError("--errors is about all packets: say --all as well. Tests tell what their senders see in any case.")
    shape = shape_of(picture) if picture else ""
    before = read_network(old)
    after, by = _other(old, before, new, change_file, fails)
    whole = in_weather(Plan(before))
    plans = whole, in_weather(Plan(after, whole if fails else None))
    versions = Versions((old, by), plans, () if fails else unlike(before, after), bool(fails))
    asked = sources, targets, services
    if every:
        raise SystemExit(_compared_all(versions, asked, at is not None or last_resort, errors, form))
    raise SystemExit(_compared_tests(versions, drill, asked, moment_of(at, last_resort), (picture, shape), form))


class Versions(NamedTuple):
    """Two versions that are compared.

    Attributes:
        names: what they are called.
        plans: the same, compiled.
        apart: where they are written otherwise.
        failing: the later one is the earlier without what fails.

    """

    names: tuple[str, str]
    plans: tuple[Plan, Plan]
    apart: Sequence[Unlike]
    failing: bool


def _compared_tests(
    versions: Versions,
    drill: str | None,
    wanted: tuple[Sequence[str], Sequence[str], Sequence[str]],
    options: Options,
    picture: tuple[str | None, str],
    form: str,
) -> int:
    """Compare tests and show which of them end otherwise; gives the exit code."""
    from mossy_compass.cli.common import new_findings
    from mossy_compass.exchange.csvtable import changes_csv
    from mossy_compass.lab.examples import walker
    from mossy_compass.lab.expect import flows_beside
    from mossy_compass.lab.uncovered import uncovered
    from mossy_compass.proof.effects import effects
    from mossy_compass.report import changetext
    from mossy_compass.walk.grid import compare as compared

    names, plans, apart, failing = versions
    asked = [flows_of(p.network, drill, wanted, options) for p in plans]
    if drill is None:
        asked = [flows_beside(p.network, asked[n], plans[1 - n].network, asked[1 - n]) for n, p in enumerate(plans)]
    one, other = (_tested(p, flows) for p, flows in zip(plans, asked, strict=True))
    found, rules = compared(one, other), effects(*plans, walker(plans[1], plans[0]))
    blind = () if failing else uncovered(*plans, found)
    more = [] if failing else new_findings(*plans)
    first = changetext.compared(*names, found, len(other.cells), rules, apart, blind)
    if picture[0]:
        _draw(picture[0], picture[1], f"{plans[0].network.title or names[0]} compared with {names[1]}", other, found)
    if form == "csv":
        say(changes_csv(found))
    elif form == "json":
        say_json(changetext.as_dict(first, "", [], found, rules, apart, blind, more))
    else:
        show(changetext.whole(first, "", None, found, rules, apart, more))
    return EXIT_NOT if found or rules or blind else 0


def _draw(picture: str, shape: str, title: str, grid: Grid, changes: Changes) -> None:
    """Draw a grid with what ends differently in it."""
    from mossy_compass.report import drawing

    write_whole(Path(picture), drawing.render_grid(grid, title, shape, changes), FileKind[shape.upper()])


def _compared_all(
    versions: Versions, asked: tuple[Sequence[str], Sequence[str], Sequence[str]], timed: bool, errors: bool, form: str
) -> int:
    """Compare all packets and show what ends otherwise; gives the exit code."""
    from mossy_compass.cli.common import new_findings
    from mossy_compass.lab.examples import walker
    from mossy_compass.proof.effects import effects
    from mossy_compass.report import changetext, versionstext

    names, plans, apart, _ = versions
    found, rules = all_packets(plans, asked, timed, errors), effects(*plans, walker(plans[1], plans[0]))
    first = f"{names[0]} compared with {names[1]}: {versionstext.head(found)}."
    more = [] if not apart else new_findings(*plans)
    if form == "json":
        say_json(changetext.as_dict(first, "", [], None, rules, apart, (), more, found))
    else:
        show(changetext.whole(first, "", None, None, rules, apart, more, found))
    return EXIT_NOT if found.turned or found.told_home or found.left or rules else 0


def _other(old: str, before: Network, new: str | None, change_file: str | None, fails: Sequence[str]) -> tuple[Network, str]:
    """The network that OLD is compared with, and what it is called."""
    said = [new is not None, change_file is not None, bool(fails)]
    if sum(said) != 1:
        raise InputError("name a second network, or --change CHANGE, or --fail WHAT: one of them.")
    if new is not None:
        return read_network(new), new
    if fails:
        from mossy_compass.lab.faults import apply, parse

        found = [parse(before, what) for what in fails]
        return apply(before, found), f"itself without {', '.join(map(str, found))}"
    from mossy_compass.files.change import read_change
    from mossy_compass.files.load import plain_bytes, read_bytes
    from mossy_compass.files.tree import decode

    assert change_file is not None
    made = read_change(change_file, decode(plain_bytes(old), old))
    reading = read_bytes(made.text.encode(), old)
    if reading.network is None:
        show_problems(made.blamed(reading.problems), f"{old} with {change_file}", error=True)
        raise SystemExit(EXIT_INPUT)
    return reading.network, change_file


def _tested(plan: Plan, flows: Sequence[Flow]) -> Grid:
    """How flows end; one whose ends are not in this version is left out, and told as new or gone."""
    from mossy_compass.cli.progress import track
    from mossy_compass.walk.grid import cell_of, gathered
    from mossy_compass.walk.trace import trace_one

    cells = []
    for flow in track(flows, len(flows), "tests"):
        try:
            journey = trace_one(plan, flow.source, flow.target, flow.service, flow.options)
        except QuestionError:
            if _has(plan.network, flow.source) and _has(plan.network, flow.target):
                raise  # it is the question that cannot be asked, in either version: that is no version's doing
            continue
        cells.append(cell_of(journey, flow.source, flow.target, flow.label))
    return gathered(cells)


def _has(network: Network, end: str) -> bool:
    """Whether a version has a host, far host or name; what is none of these is an address, which every version has."""
    from mossy_compass.walk.question import ends

    return end.partition("/")[0] in {*ends(network), *network.devices} or end[:1].isdigit() or ":" in end


@click.command("what-if", context_settings=CONTEXT, short_help="Try every failure: what is lost, what goes another way.")
@click.argument("file")
@click.option(
    "--fail",
    "kinds",
    multiple=True,
    type=click.Choice(list(FAILING)),
    default=("each-link",),
    show_default=True,
    help="What fails, one after the other; may be given several times.",
)
@click.option("--pairs", is_flag=True, help="Try every two of them together as well.")
@flow_options
@moment_options
@jobs_option("Try failures in so many processes.")
@scheduler_option("Try them on the workers of this Dask scheduler")
@click.option("--details", is_flag=True, help="Show every flow that is lost.")
@click.option("--picture", metavar="PICTURE", type=OUTPUT, help="Draw what each failure costs, as PICTURE (.png or .svg).")
@form_option("text", "json")
def what_if(
    file: str,
    kinds: tuple[str, ...],
    pairs: bool,
    drill: str | None,
    sources: tuple[str, ...],
    targets: tuple[str, ...],
    services: tuple[str, ...],
    at: str | None,
    last_resort: bool,
    jobs: int,
    scheduler: str | None,
    details: bool,
    picture: str | None,
    form: str,
) -> None:
    """Try every failure of a kind on the network in FILE: which flows do not survive it, which go another way, and
    what everything hangs on; worst first.

    \b
    Examples:
      mossy what-if fernhollow.yaml --fail each-link --fail each-device
      mossy what-if grounds.yaml --from stroller --to almanac --pairs --jobs 4

    \b
    Exit codes: 0 no failure costs a flow that is answered,
                1 some do, or no flow is answered even now, 2 wrong input.
    """
    from mossy_compass.cli.progress import track
    from mossy_compass.lab.sweep import failures, joined, sweep
    from mossy_compass.report import whatiftext

    shape = shape_of(picture) if picture else ""
    network = read_network(file)
    flows = flows_of(network, drill, (sources, targets, services), moment_of(at, last_resort))
    cases = failures(network, [FAILING[k] for k in dict.fromkeys(kinds)], pairs)
    if scheduler is not None or jobs > 1:
        from mossy_compass.cli.spread import spread

        found = joined(spread(partial(sweep, network, flows), cases, jobs, scheduler, "failures"))
    else:
        found = sweep(network, flows, cases, lambda some: track(some, len(cases), "failures"))
    if picture:
        from mossy_compass.report import drawing

        write_whole(Path(picture), drawing.render_sweep(found, network.title or file, shape), FileKind[shape.upper()])
    if form == "json":
        say_json(whatiftext.as_dict(found, file))
    else:
        show(whatiftext.whole(found, file, details))
    raise SystemExit(EXIT_NOT if not found.answered or any(c.lost or c.error for c in found.cases) else 0)
