"""What all commands share: reading a network, printing, writing whole files, exit codes.

A command reads a network once, asks the library, and hands the record to the report; it
computes nothing itself. Exit codes are the same everywhere: 0 for yes, 1 for no, 2 for
input that cannot be used. Problems are shown on the error stream where the output itself is
data.
"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from mossy_compass.cli import complete
from mossy_compass.cli.output import FileKind, Once, say, write_whole
from mossy_compass.errors import InputError

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence

    from mossy_compass.errors import NetworkFileError
    from mossy_compass.lab.versions import Compared
    from mossy_compass.marks import Problem
    from mossy_compass.model.network import Network
    from mossy_compass.packet.address import Address
    from mossy_compass.plan.facts import Ended
    from mossy_compass.plan.plan import Plan
    from mossy_compass.walk.journey import Journey
    from mossy_compass.walk.question import Options

F = TypeVar("F", bound="Callable[..., Any]")
EXIT_NOT = 1
EXIT_INPUT = 2
CONTEXT = {"help_option_names": ["-h", "--help"], "max_content_width": 100}


class _Output(click.ParamType):  # type: ignore[type-arg]  # generic in the newest releases alone
    """The name of a file that is written. An empty one would be a wish that is not fulfilled, and nobody told."""

    name = "file"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """The name as it was given; refused where no file can have it."""
        if not str(value).strip():
            self.fail("an output has an empty name. Name a file.", param, ctx)
        if value != "-" and Path(value).is_dir():
            self.fail(f"{value}: this is a folder. Name a file in it.", param, ctx)
        return str(value)


OUTPUT = _Output()


def shipped(name: str) -> Path:
    """A file that comes with the package."""
    return Path(__file__).resolve().parent.parent / "data" / name


service_option = click.option(
    "--service",
    default="ping",
    show_default=True,
    metavar="SERVICE",
    shell_complete=complete.services,
    help="ping, protocol/port like tcp/443, or a service's name.",
)
"""What a command asks for that asks one question."""


def form_option(*forms: str) -> Callable[[F], F]:
    """The option ``--format``; the first form is the default."""
    return click.option(
        "--format", "form", type=click.Choice(forms), default=forms[0], show_default=True, help="Form of the output."
    )


def moment_options(command: F) -> F:
    """The options about the moment of a test."""
    command = click.option("--last-resort", is_flag=True, help="The uplink of last resort is in use, the others are down.")(command)
    return click.option(
        "--at", metavar="TIME", help="Time of the test, as 2026-05-04T10:30+02:00; UTC without an offset. Rules with hours need it."
    )(command)


FAILING = {"each-link": "link", "each-device": "device", "each-interface": "interface"}
"""What commands that try failures let fail, and the kind of fault that it is."""


def jobs_option(words: str) -> Callable[[F], F]:
    """In how many processes of this machine something is done."""
    return click.option("--jobs", type=click.IntRange(1, 64), default=1, show_default=True, help=words)


def scheduler_option(words: str) -> Callable[[F], F]:
    """By which scheduler something is done on other machines."""
    return click.option("--scheduler", metavar="ADDRESS", help=f"{words}, as tcp://10.40.48.9:8786.")


ALL_PACKETS = click.option(
    "--all",
    "every",
    is_flag=True,
    help="Compare not tests, but all packets, each from its sender to the answer. It may take minutes.",
)
"""The option of commands that compare two versions."""


def all_packets(
    plans: tuple[Plan, Plan], asked: tuple[Sequence[str], Sequence[str], Sequence[str]], timed: bool, errors: bool = False
) -> Compared:
    """Compare two versions for all packets, with a progress bar.

    Args:
        plans: the versions.
        asked: sources, targets and services that are meant; all where none is named.
        timed: a moment was said, which goes not with looking at every moment.
        errors: ICMP errors are followed home for every kind of packet.

    """
    from mossy_compass.cli.progress import track
    from mossy_compass.lab.versions import compare_all

    if timed:
        raise click.UsageError(
            "--all looks at every moment and circumstance that rules can tell apart: leave out --at and --last-resort."
        )
    return compare_all(*plans, *asked, watch=lambda names: track(names, len(names), "senders"), errors=errors)


def log_options(command: F) -> F:
    """The options about log lines."""
    command = click.option("--log-to", metavar="TARGET", help="Only lines about packets to this host or prefix.")(command)
    command = click.option("--log-from", metavar="HOST", help="Only lines about packets from this host or prefix.")(command)
    return click.option(
        "--log",
        metavar="LOGFILE",
        type=OUTPUT,
        help="Write the lines that devices would log (RFC 5424) to LOGFILE, or - for the output.",
    )(command)


def moment_of(at: str | None, last_resort: bool) -> Options:
    """The wishes about a test that come of its moment."""
    from mossy_compass.walk.question import Options

    if at is None:
        return Options(last_resort=last_resort)
    from mossy_compass.files.hours import parse_moment

    return Options(at=parse_moment(at), last_resort=last_resort)


def write_log(
    plan: Plan, journeys: Sequence[Journey], log: str, ends: tuple[str | None, str | None], options: Options, form: str
) -> None:
    """Write the log lines of journeys to a file, or to the standard output for ``-``."""
    write_logs(plan, [(0, journeys)], log, ends, options, form)


def write_logs(
    plan: Plan,
    passed: Iterable[tuple[int, Sequence[Journey | Ended]]],
    log: str,
    ends: tuple[str | None, str | None],
    options: Options,
    form: str,
) -> None:
    """The same of what happens one after the other: so many milliseconds after the first packet, journeys, or sessions that end."""
    if log == "-" and form != "text":
        raise InputError(f"--log - and --format {form} would write one into the other; name a file: --log FILE.")
    from mossy_compass.exchange import syslog
    from mossy_compass.files.hours import moment_text
    from mossy_compass.plan.facts import Ended
    from mossy_compass.safe import safe

    source, target = (_held(plan, word) for word in ends)
    found: list[str] = []
    for after, told in passed:
        at = moment_text(options.now + after // 1000) if options.now is not None else "-"
        found += syslog.lines([j for j in told if not isinstance(j, Ended)], at, source, target)
        found += syslog.ends(plan, [e for e in told if isinstance(e, Ended)], at, source, target)
    text = "".join(f"{safe(line)}\n" for line in found)
    if log == "-":
        say(text)
    else:
        write_whole(Path(log), text.encode(), FileKind.LOG)


def _held(plan: Plan, word: str | None) -> Callable[[Address], bool] | None:
    """Whether an address is a host's, or in a prefix; None where nothing is asked."""
    if word is None:
        return None
    from mossy_compass.errors import AddressError
    from mossy_compass.packet.address import in_spans, parse_block
    from mossy_compass.walk.question import addresses_of, unknown_target

    try:
        spans = parse_block(word).spans
        return lambda a: in_spans(a.key, spans)
    except AddressError:
        found = addresses_of(plan.network, word)
    if not found:
        raise InputError(f"there is no host '{word}'. {unknown_target(plan.network, word)}")
    return lambda a: a in found


def shape_of(picture: str) -> str:
    """The form of a picture, by the end of its name.

    Raises:
        InputError: it is none that is drawn.

    """
    shape = Path(picture).suffix.lower().lstrip(".")
    if shape not in ("png", "svg"):
        raise InputError(f"{picture}: the name tells the form, and '{shape or 'none'}' is none of png, svg. Write NAME.png.")
    return shape


def show(renderable: Any, *, error: bool = False) -> None:
    """Print for a terminal with its colours, or as plain text of 100 columns for anything else."""
    from mossy_compass.report.text import as_text, cleaned, console

    stream = sys.stderr if error else sys.stdout
    if stream is None or not stream.isatty():
        say(as_text(renderable), stream)
        return
    screen = console(stream)  # type: ignore[arg-type]
    screen.print(cleaned(screen, renderable), end="")


def say_json(data: Any) -> None:
    """Print plain data as JSON."""
    import json

    from mossy_compass.safe import safe_json

    say(safe_json(json.dumps(data, indent=2, ensure_ascii=False)) + "\n")


def show_problems(problems: Sequence[Problem], name: str, *, error: bool = False) -> None:
    """A first line that is the answer, then each finding with its line and a caret: what must be mended comes first."""
    from rich.console import Group
    from rich.text import Text

    from mossy_compass.model.codes import rank
    from mossy_compass.report import text

    refused = any(p.severity == "error" for p in problems)
    verdict = "cannot be used until the errors are mended" if refused else "can be used"
    head = f"{name}: {text.count_words(problems)}; the network {verdict}."
    first = sorted(problems, key=lambda p: rank(p.severity, p.code))  # stable: within each kind by place
    show(Group(Text(head), *[text.problem(p) for p in first]), error=error)


MOST_RULES_LOOKED_AT = 4000
"""Up to so many rules, the findings of two versions are compared; more take seconds, and ``mossy check`` says them."""


def new_findings(before: Plan, after: Plan) -> list[Problem]:
    """What is found in a version of a network, and not in the one before; an empty list where they are too large to look.

    Args:
        before, after: the versions.

    """
    from mossy_compass.lab.findings import findings
    from mossy_compass.model.codes import rank

    if sum(len(e.rules) for plan in (before, after) for e in plan.network.lists.values()) > MOST_RULES_LOOKED_AT:
        return []
    known = {(p.code, p.message) for p in findings(before)}
    found = [p for p in findings(after) if (p.code, p.message) not in known]
    return sorted(found, key=lambda p: rank(p.severity, p.code))


def show_faults(fault: NetworkFileError) -> None:
    """The faults of a file that a command cannot go on without, each with its line and a caret."""
    from rich.console import Group
    from rich.text import Text

    from mossy_compass.report import text

    files = ", ".join(dict.fromkeys(p.mark.file for p in fault.problems)) or "the file"
    head = f"{files}: {text.count_words(fault.problems)}; nothing was done."
    show(Group(Text(head), *[text.problem(p) for p in fault.problems]), error=True)


def read_network(path: str) -> Network:
    """A network for a question. Errors are shown whole, then the command ends with 2."""
    from mossy_compass.files.load import read_file

    reading = read_file(path)
    if reading.network is None:
        show_problems(reading.problems, path, error=True)
        raise SystemExit(EXIT_INPUT)
    return reading.network


__all__ = [
    "ALL_PACKETS",
    "CONTEXT",
    "EXIT_INPUT",
    "EXIT_NOT",
    "OUTPUT",
    "FileKind",
    "Once",
    "all_packets",
    "form_option",
    "log_options",
    "moment_of",
    "moment_options",
    "read_network",
    "say",
    "say_json",
    "shape_of",
    "shipped",
    "show",
    "show_faults",
    "show_problems",
    "write_log",
    "write_logs",
    "write_whole",
]
