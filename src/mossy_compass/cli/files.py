"""The commands about files: the demo, a new file, its check, and the schemas.

None of these sends a packet. ``check`` computes the routes too, since much of what is wrong
with a network shows only in what its parts come to together; its exit code is 1 for errors
alone, so that warnings do not stop a pipeline.
"""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from mossy_compass.cli.common import (
    CONTEXT,
    EXIT_INPUT,
    OUTPUT,
    FileKind,
    Once,
    form_option,
    say,
    say_json,
    shipped,
    show,
    show_problems,
    write_whole,
)
from mossy_compass.cli.output import may_write_all

if TYPE_CHECKING:
    from collections.abc import Mapping

    from rich.console import RenderableType
    from rich.text import Text

    from mossy_compass.marks import Problem
    from mossy_compass.model.network import Network
    from mossy_compass.plan.plan import Plan


@click.command(context_settings=CONTEXT, short_help="Read a network file and print every fault and finding.")
@click.argument("file")
@click.option("--all", "every", is_flag=True, help="Also tell what no packet ever meets, of all that every device can send.")
@form_option("text", "json", "sarif")
def check(file: str, form: str, every: bool) -> None:
    """Read FILE and print every fault, with its place, what is allowed, and what to do.

    Faults of the file come first. When there are none, the network is computed, and what its addresses, cables
    and routes come to together is checked too.

    With --all, everything that every device can send is followed, and what is written (rules, translations, ways, offers,
    selectors, groups) is told that nothing of it ever meets. That takes longer.

    \b
    Examples:
      mossy check my.yaml
      mossy check my.yaml --all

    \b
    Exit codes: 0 no error (there may be warnings), 2 errors.
    """
    from mossy_compass.files.load import read_file

    reading = read_file(file)
    problems, said = reading.problems, ""
    if reading.network is not None:
        from mossy_compass.lab.findings import findings
        from mossy_compass.plan.plan import Plan

        plan = Plan(reading.network)
        more = findings(plan, problems, reading.lines)
        problems = (*problems, *more)
        if every:
            problems, said = _with_unmet(plan, problems, reading.lines)
        problems = tuple(sorted(problems, key=lambda p: (p.mark, p.code, p.message)))
    if form == "json":
        say_json({"mossy-findings": 1, "file": file, "findings": [_finding(p) for p in problems]})
    elif form == "sarif":
        from importlib.metadata import version

        from mossy_compass.exchange.sarif import log

        say_json(log(problems, version("mossy-compass")))
    else:
        show_problems(problems, file)
        if said:
            show(said)
    raise SystemExit(EXIT_INPUT if any(p.severity == "error" for p in problems) else 0)


def _with_unmet(plan: Plan, problems: tuple[Problem, ...], lines: Mapping[str, list[str]]) -> tuple[tuple[Problem, ...], str]:
    """The findings, with those about what no packet meets; and what was looked at."""
    from mossy_compass.cli.progress import track
    from mossy_compass.errors import QuestionError, TooLarge
    from mossy_compass.lab.unmet import unmet

    try:
        found = unmet(plan, problems, lines, lambda cases: track(cases, len(cases), "moments", 1))
    except (QuestionError, TooLarge) as error:
        return problems, f"What no packet meets is not known: {error}"
    cases = f", at {found.cases} moments and circumstances" if found.cases > 1 else ""
    said = (
        f"{found.met} of {found.written} rules, translations, policy routes and their candidates, offers, selectors and static routes are met by "
        f"packets that {found.sources} devices "
        f"can send, or by their answers{cases}; as everything works, from the devices' own addresses."
    )
    if found.unknown:
        said += f" Not known of {', '.join(found.unknown)}: not everything was looked at ({'; '.join(found.left)})."
    return (*problems, *found.found), said


def _finding(problem: Any) -> dict[str, Any]:
    """One problem as plain data, for JSON: code, severity, place, words, and the places that it is also about."""
    return {
        "code": problem.code,
        "severity": problem.severity.value,
        "file": problem.mark.file,
        "line": problem.mark.line,
        "column": problem.mark.column,
        "message": problem.message,
        "remedy": problem.remedy,
        "also": [{"file": m.file, "line": m.line, "column": m.column, "message": w} for m, w in problem.also],
    }


_STARTS = {
    "two-rooms": ("starter.yaml", "--from desk --to printer --service tcp/9100"),
    "fernhollow": ("fernhollow.yaml", "--from kiosk-1 --to ledger --service ticketing"),
    "grounds": ("grounds.yaml", "--from stroller --to almanac.example --service https"),
}


@click.command(context_settings=CONTEXT, short_help="Write a commented network file to start from.")
@click.argument("file", type=OUTPUT)
@click.option(
    "--like",
    type=click.Choice(["two-rooms", "fernhollow", "grounds"]),
    default="two-rooms",
    show_default=True,
    help="Which: a small one, the demo with its lists, or the demo's grounds with OSPF, VLANs and leases.",
)
def new(file: str, like: str) -> None:
    """Write a commented network that works to FILE, to start from. An existing file is left alone.

    \b
    Example:
      mossy new my.yaml
    """
    name, ends = _STARTS[like]
    write_whole(Path(file), shipped(name).read_bytes(), FileKind.NETWORK, Once.NEVER)
    say(f"{file}: written. Try: mossy trace {file} {ends}\n")


SUNDAY = datetime(2026, 6, 7, 9, 0, tzinfo=UTC)
"""11:00 in Vienna on a Sunday: visitors are there."""
DEMO: tuple[tuple[str, str, str, str, datetime | None], ...] = (
    ("A kiosk sells a ticket: permitted by two lists on the way, and answered.", "kiosk-1", "ledger", "ticketing", None),
    ("The same from a visitor's tablet: permits for two kiosks shut out their neighbour.", "tablet", "ledger", "ticketing", None),
    ("A ping into the world goes out, and its answer dies at the perimeter.", "kiosk-1", "almanac.example", "ping", None),
    ("A sensor's question leaves untranslated; the provider has no route back.", "sensor-fern", "almanac.example", "ntp", None),
    ("The sister garden's records come through a tunnel.", "lab-bench", "moor-store", "https", None),
    (
        "On a Sunday a film starts and stops: its third packet shows what it is, and the session ends.",
        "lab-bench",
        "almanac.example",
        "https",
        SUNDAY,
    ),
)
"""The least that shows each thing: a permit, a deny, an answer that is lost, translation, a tunnel, and what a session outlives."""


@click.command(context_settings=CONTEXT, short_help="Show the demo network and its test packets, explained.")
@click.option(
    "--write", "target", type=OUTPUT, metavar="FILE", help="Also write the demo network to FILE, and its drill beside it."
)
@click.option("--details", is_flag=True, help="Show each hop too.")
@click.option("--drill", "drilled", is_flag=True, help="Play its drill instead: a working day, step by step.")
def demo(target: str | None, details: bool, drilled: bool) -> None:
    """Show the demo network, Fernhollow Botanic Trust, and a few test packets explained; or a working day there.

    \b
    Examples:
      mossy demo
      mossy demo --drill
      mossy demo --write fernhollow.yaml
    """
    from rich.console import Group
    from rich.padding import Padding
    from rich.text import Text

    from mossy_compass.files.load import read_bytes
    from mossy_compass.plan.plan import Plan
    from mossy_compass.report import text
    from mossy_compass.walk.trace import trace as run_trace

    data = shipped("fernhollow.yaml").read_bytes()
    name = target or "fernhollow.yaml"
    reading = read_bytes(data, name)
    assert reading.network is not None
    plan = Plan(reading.network)
    if target:
        _write_demo(Path(target), data)
    if drilled:
        show(Group(_demo_drill(reading.network, data, name), Text(""), _go_on(target)))
        return
    kinds: dict[str, list[str]] = {}
    for device in reading.network.devices.values():
        kinds.setdefault(device.kind.value, []).append(device.name)
    parts: list[Any] = [
        Text(f"{reading.network.title}: {len(DEMO)} test packets through the demo network, and why each fared so."),
        Padding(Text(f"{reading.network.about}"), (0, 0, 0, 2)),
    ]
    parts.append(
        Padding(
            text.rows_of(
                [(f"{kind}es" if kind.endswith("ch") else f"{kind}s", ", ".join(names)) for kind, names in kinds.items()],
                ("dim", ""),
                (9, None),
            ),
            (0, 0, 0, 2),
        )
    )
    parts.append(Text(""))
    for number, (title, sender, goal, service, at) in enumerate(DEMO, 1):
        parts.append(Text(f"{number}. {title}", style="bold"))
        journey = run_trace(plan, sender, goal, service, at=at)
        parts.append(Padding(text.journey(journey, details) if details else text.brief(journey), (0, 0, 1, 3)))
    show(Group(*parts, *_whole_demo(reading.network, data, name, len(DEMO), reading.problems), _go_on(target)))


def _whole_demo(network: Network, data: bytes, name: str, count: int, problems: tuple[Problem, ...]) -> list[Any]:
    """What is asked about all packets at once, and about what would help: in ten lines."""
    from rich.padding import Padding
    from rich.text import Text

    from mossy_compass.cli.remedying import maker
    from mossy_compass.lab.claims import claim_of
    from mossy_compass.lab.expect import every_flow
    from mossy_compass.lab.lab import Flow
    from mossy_compass.lab.prove import prove
    from mossy_compass.lab.remedy import remedies
    from mossy_compass.report import provetext, remedytext

    found = remedies(network, Flow("tablet", "ledger", "tcp/8443"), True, maker(data, name), every_flow(network))
    proof = prove(network, claim_of("kiosks never reach ledger except ticketing"))
    return [
        Text(f"{count + 1}. What would let the tablet sell tickets, and what else would it change?", style="bold"),
        Padding(remedytext.brief(found), (0, 0, 1, 3)),
        Text(f"{count + 2}. Can a kiosk ever do anything else at the ledger? Not only the tests: every packet.", style="bold"),
        Padding(Text(provetext.head(proof)), (0, 0, 1, 3)),
        Text(
            f"{count + 3}. What is written there, and has no effect? (mossy check --all follows every packet to find it.)",
            style="bold",
        ),
        *[Padding(Text(f"{p.mark}: {p.message}"), (0, 0, 1, 3)) for p in problems if p.code.startswith("idle.")],
    ]


def _go_on(target: str | None) -> Text:
    """What to do next."""
    from rich.text import Text

    then = "--from kiosk-1 --to ledger --service tcp/22 --details"
    if target:
        drill = _drill_beside(Path(target))
        return Text(f"The network is in {target}, its drill in {drill}. Go on with: mossy trace {target} {then}")
    return Text(
        f"A working day there: mossy demo --drill. On your own: mossy demo --write fernhollow.yaml, mossy trace fernhollow.yaml {then}"
    )


def _write_demo(target: Path, data: bytes) -> None:
    """The demo network, and its drill beside it, which names the network as it was written; both or neither."""
    from mossy_compass.files.edit import flow

    drill = shipped("fernhollow.drill.yaml").read_text(encoding="utf-8")
    steps = drill.replace("network: fernhollow.yaml", f"network: {flow(target.name)}").encode()
    outputs = ((target, data, FileKind.NETWORK, Once.SAME), (_drill_beside(target), steps, FileKind.DRILL, Once.SAME))
    may_write_all(outputs)
    for output in outputs:
        write_whole(*output)


def _drill_beside(network: Path) -> Path:
    """The drill that is written beside a network: ``garden.drill.yaml`` for ``garden.yaml``."""
    return network.with_name(f"{network.stem}.drill.yaml")


def _demo_drill(network: Network, data: bytes, name: str) -> RenderableType:
    """What the demo network must do, tested."""
    from mossy_compass.files.drills import Source, steps_of
    from mossy_compass.lab.drill import run_drill
    from mossy_compass.lab.steps import Drill
    from mossy_compass.report import drilltext

    file = shipped("fernhollow.drill.yaml")
    steps = steps_of(file.read_bytes(), file.name, network)
    report = run_drill(Drill("", network, steps, Source(data.decode(), name), "", _drill_beside(Path(name)).name))
    return drilltext.whole(report)


@click.command(context_settings=CONTEXT, short_help="Print a JSON Schema: of files, or of results.")
@click.argument("which", type=click.Choice(["network", "change", "drill", "journey", "drill-report"]))
def schema(which: str) -> None:
    """Print a JSON Schema: of network files, change files and drills (for editors), of journeys and reports of drills (for programs).

    \b
    Example:
      mossy schema network > mossy-network.schema.json
    """
    say(shipped(f"{which}.schema.json").read_text(encoding="utf-8"))
