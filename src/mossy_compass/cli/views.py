"""The commands that look at a whole network: its tables, and who may reach what.

A baseline is written the first time and compared afterwards, and never written over without
being asked: what was so before the change is what one needs most when the change has gone
wrong.
"""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import TYPE_CHECKING

import click

from mossy_compass.cli import complete
from mossy_compass.cli.common import (
    CONTEXT,
    EXIT_NOT,
    OUTPUT,
    FileKind,
    Once,
    form_option,
    log_options,
    moment_of,
    moment_options,
    read_network,
    say,
    say_json,
    shape_of,
    show,
    write_log,
    write_whole,
)
from mossy_compass.errors import InputError, QuestionError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import RenderableType

    from mossy_compass.plan.plan import Plan
    from mossy_compass.report.tables import Rows
    from mossy_compass.walk.grid import Changes, Grid
    from mossy_compass.walk.journey import Journey
    from mossy_compass.walk.question import Options

REMEMBERED = ("sessions", "mappings", "expectations", "probes", "uplinks", "tunnels")
PARTS = ("interfaces", "routes", "neighbours", "lists", "rules", "settings", *REMEMBERED)


@click.command(context_settings=CONTEXT, short_help="Show what a device knows: interfaces, routes, settings.")
@click.argument("file")
@click.argument("device", required=False, shell_complete=complete.devices)
@click.argument("part", nargs=-1, type=click.Choice(PARTS))
@click.option("--part", "parts", multiple=True, type=click.Choice(PARTS), help="The same as PART; may be given several times.")
@click.option(
    "--to", "address", metavar="ADDRESS", help="Only how DEVICE finds its route to ADDRESS: what wins, what loses, and why."
)
@click.option("--built-in", is_flag=True, help="Show the device's built-in rules among its lists too.")
@click.option(
    "--uses",
    metavar="NAME",
    shell_complete=complete.known,
    help="Only where NAME is used: a group, service, list, window, application, zone or host.",
)
@click.option("--drill", metavar="DRILL", help="With --uses: where this drill names it, too.")
@click.option(
    "--send",
    "sent",
    multiple=True,
    metavar="FLOW",
    help="For what it remembers: send this before, as 'HOST to HOST for SERVICE'. May be given several times.",
)
@click.option("--after", metavar="DRILL", help="For what it remembers: do the steps of this drill before.")
@click.option(
    "--all", "every", is_flag=True, help="Also say of each written row whether any packet meets it, of all that can be sent."
)
@form_option("text", "json")
def tables(
    file: str,
    device: str | None,
    part: tuple[str, ...],
    parts: tuple[str, ...],
    address: str | None,
    built_in: bool,
    uses: str | None,
    drill: str | None,
    sent: tuple[str, ...],
    after: str | None,
    every: bool,
    form: str,
) -> None:
    """Show what DEVICE knows: interfaces, routes, neighbours, what filters where, translation and policy routes, and
    every setting in force with the order of its stages. Without DEVICE, the cabling. PART names one of these tables.

    \b
    Examples:
      mossy tables grounds.yaml
      mossy tables grounds.yaml north routes settings
      mossy tables grounds.yaml north --to 10.40.30.20
      mossy tables fernhollow.yaml gate lists
      mossy tables fernhollow.yaml gate rules lists --all   (which rows no packet ever meets)
      mossy tables fernhollow.yaml --uses kiosks
      mossy tables fernhollow.yaml gate sessions mappings --send "kiosk-1 to almanac for https"
    """
    from rich.console import Group

    from mossy_compass.marks import hint
    from mossy_compass.packet.address import parse_address
    from mossy_compass.plan.plan import Plan
    from mossy_compass.report import tables as made
    from mossy_compass.walk.weather import in_weather

    plan = in_weather(Plan(read_network(file)))
    parts = (*part, *parts)
    memory = tuple(p for p in parts if p in REMEMBERED)
    _check_parts(device, parts, address, bool(sent or after), uses, drill)
    if uses is not None:
        found = [_used(file, uses, drill)]
    elif device is None:
        found = [made.cables(plan)]
    elif device not in plan.network.devices:
        raise QuestionError(f"there is no device '{device}'. {hint(device, plan.network.devices, 'devices')}")
    elif address is not None:
        found = [made.lookup(plan, device, parse_address(address))]
    elif form == "text" and not parts and not built_in and not every:
        found = made.overview(plan, device, file)
    else:
        found, plan = _remembered(file, plan, device, memory, sent, after) if memory else ([], plan)
        others = tuple(p for p in parts if p not in REMEMBERED)
        if others or not memory:
            found += made.of_device(plan, device, others or made.PARTS, built_in)
    if every:
        found = _with_met(file, plan, found)
    if form == "json":
        say_json({"mossy-tables": 1, "device": device, "tables": [t.to_dict() for t in found]})
        return
    show(Group(*_blocks(found)[:-1]))


def _check_parts(
    device: str | None, parts: Sequence[str], address: str | None, fills: bool, uses: str | None, drill: str | None
) -> None:
    """What is asked for must go together: the whole file, one device, what it remembers, or one route of it.

    Raises:
        InputError: it does not.

    """
    remembers = any(p in REMEMBERED for p in parts)
    if fills and not remembers:
        raise InputError(f"--send and --after fill tables that remember; name one after the device: {' or '.join(REMEMBERED)}.")
    if uses is not None and (device or parts or address):
        raise InputError("--uses is about the whole file; leave DEVICE and its parts out.")
    if uses is None and drill is not None:
        raise InputError("--drill goes with --uses: name what is looked for in it.")
    if device is None and (parts or address):
        raise InputError("--part and --to are about one device; name it after the file.")
    if address is not None and remembers:
        raise InputError("--to asks for one route alone; leave sessions and mappings out.")


def _with_met(file: str, plan: Plan, found: list[Rows]) -> list[Rows]:
    """Tables with a column that says whether packets meet their rows."""
    from mossy_compass.cli.progress import track
    from mossy_compass.files.load import read_file
    from mossy_compass.lab.findings import findings
    from mossy_compass.lab.unmet import NEVER, unmet
    from mossy_compass.report import tables as made

    if not any(t.marks for t in found):
        raise InputError("--all is about what packets meet: name a device, and if you like its lists, rules or routes.")
    reading = read_file(file)
    known = (*reading.problems, *findings(plan, reading.problems, reading.lines))
    met = unmet(plan, known, reading.lines, lambda cases: track(cases, len(cases), "moments", 1)).looked_for
    off = ("idle.disabled", "idle.unattached", "idle.no-stage")
    never = {p.mark: p.code for p in known if p.code in NEVER or p.code in off}
    return [made.with_met(t, met, never) for t in found]


def _remembered(
    file: str, plan: Plan, device: str, parts: tuple[str, ...], sent: tuple[str, ...], after: str | None
) -> tuple[list[Rows], Plan]:
    """What a device remembers after some packets, or a drill; and the network as it is then."""
    from mossy_compass.lab.lab import Flow, Lab
    from mossy_compass.report.remembered import of_memory
    from mossy_compass.walk.question import members_of

    if not sent and after is None and not set(parts) <= {"probes", "uplinks", "tunnels"}:
        raise InputError("nothing was sent, so nothing is remembered. Give --send 'HOST to HOST for SERVICE', or --after DRILL.")
    lab = Lab(plan.written)
    if after is not None:
        from mossy_compass.files.drills import Source, steps_of
        from mossy_compass.files.load import plain_bytes
        from mossy_compass.lab.drill import Run
        from mossy_compass.lab.steps import Drill

        steps = steps_of(plain_bytes(after, "mossy-drill"), after, plan.written)
        run = Run(Drill(after, plan.written, steps, Source(plain_bytes(file).decode("utf-8-sig"), file)))
        broken = [r for r in run.results() if r.broken]
        if broken:
            raise QuestionError(f"{after}: step {broken[0].number} cannot be done: {broken[0].said}")
        lab = run.lab
    for words in sent:
        found = _SENT.fullmatch(words.strip())
        if found is None:
            raise QuestionError(f"'{words}' is no flow. Write HOST to HOST for SERVICE, as in 'kiosk-1 to almanac for https'.")
        for member in members_of(plan.network, found[3] or "ping"):
            lab.send(Flow(found[1], found[2], member))
    made = list(of_memory(lab.state, device, parts))
    if "probes" in parts:
        from mossy_compass.report.probestext import probes

        made.append(probes(lab.plan, device, lab.watch.statuses, lab.state.now))
    if "uplinks" in parts:
        from mossy_compass.report.uplinkstext import uplinks

        made.append(uplinks(lab.plan, device))
    if "tunnels" in parts:
        from mossy_compass.report.tunnelstext import tunnels

        made.append(tunnels(lab.plan, device, lab.state))
    return made, lab.plan


_SENT = re.compile(r"(\S+) to (\S+)(?: for (\S+))?")


def _used(file: str, name: str, drill: str | None) -> Rows:
    """Where a name is used, in the network and in a drill; one that is nowhere, neither made nor used, is a slip of the pen."""
    from mossy_compass.files.load import plain_bytes
    from mossy_compass.files.references import Names, uses
    from mossy_compass.files.tree import decode, read_tree
    from mossy_compass.marks import Problems, hint
    from mossy_compass.report.tables import Rows

    names = Names(read_tree(decode(plain_bytes(file), file), file, Problems()))
    found = [(u.where, u.role, f"{file}:{u.line}") for u in uses(names, name)]
    if drill is not None:
        found += _used_by_drill(drill, name)
    if not found and name not in names.known():
        raise QuestionError(f"nothing here is called '{name}'. {hint(name, names.known(), 'names')}")
    places = f"{len(found)} place{'s' * (len(found) != 1)}"
    about = f"'{name}' is used at {places}" if found else f"'{name}' is used nowhere"
    return Rows("uses", about, ("where", "as", "from"), tuple(found))


def _used_by_drill(drill: str, name: str) -> list[tuple[str, str, str]]:
    """The steps of a drill that name something."""
    from mossy_compass.files.drills import read_drill
    from mossy_compass.lab.steps import named, numbered

    return [
        (f"step {number}: {step.words}", role, str(step.mark))
        for number, step in numbered(read_drill(drill).steps)
        for role in named(step, name)
    ]


def _blocks(found: Sequence[Rows]) -> list[RenderableType]:
    """Tables one below the other, each under its sentence; a table without rows is its sentence alone."""
    from rich.text import Text

    from mossy_compass.report import text

    blocks: list[RenderableType] = []
    for rows in found:
        blocks.append(Text(f"{rows.about}{':' if rows.rows else '.'}", style="bold"))
        if rows.rows:
            blocks.append(text.table(rows.headings, rows.rows, len(rows.headings) - 1))
        blocks.append(Text(""))
    return blocks


@click.command(context_settings=CONTEXT, short_help="Test who reaches what, and what changed.")
@click.argument("file")
@click.option(
    "--from",
    "sources",
    multiple=True,
    metavar="HOST",
    shell_complete=complete.senders,
    help="Who sends; every host when left out. May be given several times.",
)
@click.option(
    "--to",
    "targets",
    multiple=True,
    metavar="TARGET",
    shell_complete=complete.targets,
    help="Whom to reach; when left out every host, and every address that is sent on to one.",
)
@click.option(
    "--service",
    "services",
    multiple=True,
    metavar="SERVICE",
    shell_complete=complete.services,
    help="What to ask of each target; a ping and what it listens for when left out.",
)
@click.option(
    "--baseline",
    metavar="BASELINE",
    type=OUTPUT,
    help="Keep the grid in this file the first time; afterwards say what changed since.",
)
@click.option("--renew", is_flag=True, help="Say what changed, then keep the grid of now as the baseline.")
@click.option("--picture", metavar="PICTURE", type=OUTPUT, help="Draw it too, as PICTURE (.png or .svg).")
@click.option("--as-drill", "as_drill", metavar="DRILL", type=OUTPUT, help="Write today's answers as a drill to start from.")
@click.option("--counters", is_flag=True, help="Count what each rule and default decided; say which rules no test met.")
@click.option(
    "--decided-by",
    "decided",
    metavar="LIST/RULE",
    shell_complete=complete.rules,
    help="Only whose packets this rule decides, such as visitors-in/20.",
)
@click.option(
    "--all", "every", is_flag=True, help="Not the tests, but all packets: what gets from segment to segment, or --from and --to."
)
@moment_options
@log_options
@form_option("text", "csv", "json")
def grid(
    file: str,
    sources: tuple[str, ...],
    targets: tuple[str, ...],
    services: tuple[str, ...],
    baseline: str | None,
    renew: bool,
    picture: str | None,
    as_drill: str | None,
    counters: bool,
    decided: str | None,
    every: bool,
    at: str | None,
    last_resort: bool,
    log: str | None,
    log_from: str | None,
    log_to: str | None,
    form: str,
) -> None:
    """Test who reaches what: every source, every target, every service, with the cause wherever it fails.

    \b
    Examples:
      mossy grid fernhollow.yaml --from kiosk-1 --from tablet --to ledger
      mossy grid fernhollow.yaml --baseline before.json     (first time: kept)
      mossy grid fernhollow.yaml --baseline before.json     (later: what changed)
      mossy grid fernhollow.yaml --all                      (all packets, not tests)

    \b
    Exit codes: 0 done, and nothing changed since the baseline,
                1 something changed, 2 wrong input.
    """
    from mossy_compass.cli.progress import track
    from mossy_compass.plan.plan import Plan
    from mossy_compass.walk import grid as grids
    from mossy_compass.walk.weather import in_weather

    if every:
        with_tests = (services, baseline, renew, picture, as_drill, counters, decided, at, last_resort, log, form == "csv")
        _print_all(file, sources, targets, form, any(with_tests))
        raise SystemExit(0)
    shape = shape_of(picture) if picture else ""
    earlier = _baseline(baseline, renew)
    network = read_network(file)
    tests = grids.questions_of(network, sources, targets, services)
    plan = in_weather(Plan(network))
    options = moment_of(at, last_resort)
    if as_drill:
        _write_drill(plan, (sources, targets, services), options, at, file, as_drill)
        raise SystemExit(0)
    journeys: list[Journey] = []
    keep = journeys.append if any((counters, decided, log)) else None
    made = grids.gathered(track(grids.run(plan, tests, keep, options), len(tests), "tests"))
    if log:
        write_log(plan, journeys, log, (log_from, log_to), options, form)
    if counters or decided:
        _print_evidence(plan, journeys, decided, form)
        raise SystemExit(0)
    if picture:
        _draw_grid(made, network.title or file, picture, shape)
    if earlier is None or renew:
        _keep_baseline(made, baseline)
    found = grids.compare(earlier, made) if earlier is not None else None
    _print_grid(made, found, form, file, baseline)
    raise SystemExit(EXIT_NOT if found else 0)


def _write_drill(
    plan: Plan, asked: tuple[Sequence[str], Sequence[str], Sequence[str]], options: Options, at: str | None, file: str, out: str
) -> None:
    """Today's answers as a drill, in every family."""
    from mossy_compass.cli.progress import track
    from mossy_compass.files.asdrill import as_drill
    from mossy_compass.lab.expect import every_flow
    from mossy_compass.walk.grid import cell_of
    from mossy_compass.walk.trace import trace_one

    flows = every_flow(plan.network, *asked, options)
    tested = (
        (f, cell_of(trace_one(plan, f.source, f.target, f.service, f.options), f.source, f.target, f.label))
        for f in track(flows, len(flows), "tests")
    )
    text, number = as_drill(tested, file, out, at)
    write_whole(Path(out), text.encode(), FileKind.DRILL, Once.NEVER)
    say(f"{out}: written, with {number} expectations. Run it: mossy drill {out}\n")


def _print_evidence(plan: Plan, journeys: Sequence[Journey], decided: str | None, form: str) -> None:
    """What the tests met: counters of every rule, or whose packets one rule decides."""
    from rich.console import Group

    from mossy_compass.report import evidence
    from mossy_compass.walk.evidence import Counters

    if decided is not None:
        name, _, row = decided.partition("/")
        _known_rule(plan, name, row)
        found = [evidence.affected(journeys, name, row)]
    else:
        counted = Counters()
        for journey in journeys:
            counted.add(journey)
        found = evidence.counters(plan, counted)
    if form != "text":
        say_json({"mossy-tables": 1, "device": None, "tables": [t.to_dict() for t in found]})
        return
    show(Group(*_blocks(found)[:-1]))


def _known_rule(plan: Plan, name: str, row: str) -> None:
    """Refuse a rule that is not there, with those that are."""
    from mossy_compass.marks import hint

    if name not in plan.network.lists:
        raise QuestionError(f"there is no list '{name}'. {hint(name, plan.network.lists, 'lists')}")
    rules = [r.id for r in plan.network.lists[name].rules]
    if row not in rules:
        raise QuestionError(f"list {name} has no rule '{row}'. {hint(row, rules, 'rules')} Write LIST/RULE.")


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


def _print_all(file: str, sources: tuple[str, ...], targets: tuple[str, ...], form: str, more: bool) -> None:
    """What gets from where to where, of all that can be sent."""
    from mossy_compass.cli.progress import track
    from mossy_compass.lab.between import overview
    from mossy_compass.report import betweentext

    if more:
        raise click.UsageError(
            "--all asks about all packets, at every moment: it goes with --from, --to and --format text or json alone."
        )
    found = overview(read_network(file), sources, targets, lambda names: track(names, len(names), "sources"))
    if form == "json":
        say_json(betweentext.overview_dict(found))
    else:
        show(betweentext.overview(found, file))


def _baseline(baseline: str | None, renew: bool) -> Grid | None:
    """The grid that was kept, where there is one."""
    if renew and baseline is None:
        raise InputError("--renew is about a baseline; add --baseline FILE.")
    return _earlier(Path(baseline)) if baseline else None


def _keep_baseline(made: Grid, baseline: str | None) -> None:
    """Write a grid down, where it shall be kept."""
    if baseline:
        write_whole(Path(baseline), (json.dumps(made.to_dict(), indent=1, ensure_ascii=True) + "\n").encode(), FileKind.GRID)


def _draw_grid(made: Grid, title: str, picture: str, shape: str) -> None:
    """Draw a grid into a file."""
    from mossy_compass.report import drawing

    write_whole(Path(picture), drawing.render_grid(made, title, shape), FileKind[shape.upper()])


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


@click.command(context_settings=CONTEXT, short_help="Show under which address each host is seen outside, by uplink.")
@click.argument("file")
@click.option("--family", type=click.Choice(["4", "6"]), default="4", show_default=True, help="IPv4 or IPv6 addresses.")
@form_option("text", "json")
def seen(file: str, family: str, form: str) -> None:
    """Show under which address each host in FILE is seen outside: by the uplink that it leaves by now, and by the others of the same
    device as if it left there. What an uplink lacks stands in the first line.

    \b
    Example:
      mossy seen fernhollow.yaml

    \b
    Exit codes: 0 everybody who gets out can be answered, 1 not, 2 wrong input.
    """
    from mossy_compass.lab.seen import seen as look
    from mossy_compass.plan.plan import Plan
    from mossy_compass.report import seentext
    from mossy_compass.walk.weather import in_weather

    found = look(in_weather(Plan(read_network(file))), int(family))
    if form == "json":
        say_json(seentext.seen_dict(found))
    else:
        show(seentext.seen(found))
    raise SystemExit(EXIT_NOT if any(s.lacking and s.uplink for s in found) else 0)
