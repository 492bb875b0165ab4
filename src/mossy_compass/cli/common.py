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

from mossy_compass.cli.output import say, write_whole
from mossy_compass.errors import InputError

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from mossy_compass.marks import Problem
    from mossy_compass.model.network import Network

F = TypeVar("F", bound="Callable[..., Any]")
EXIT_NOT = 1
EXIT_INPUT = 2
CONTEXT = {"help_option_names": ["-h", "--help"], "max_content_width": 100}


def shipped(name: str) -> Path:
    """A file that comes with the package."""
    return Path(__file__).resolve().parent.parent / "data" / name


def form_option(*forms: str) -> Callable[[F], F]:
    """The option ``--format``; the first form is the default."""
    return click.option(
        "--format", "form", type=click.Choice(forms), default=forms[0], show_default=True, help="Form of the output."
    )


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

    from mossy_compass.report.safe import safe_json

    say(safe_json(json.dumps(data, indent=2, ensure_ascii=False)) + "\n")


def show_problems(problems: Sequence[Problem], name: str, *, error: bool = False) -> None:
    """A first line that is the answer, then each finding with its line and a caret: what must be mended comes first."""
    from rich.console import Group
    from rich.text import Text

    from mossy_compass.report import text

    refused = any(p.severity == "error" for p in problems)
    verdict = "cannot be used until the errors are mended" if refused else "can be used"
    head = f"{name}: {text.count_words(problems)}; the network {verdict}."
    first = sorted(problems, key=lambda p: p.severity != "error")  # stable: within each kind by place
    show(Group(Text(head), *[text.problem(p) for p in first]), error=error)


def read_network(path: str) -> Network:
    """A network for a question. Errors are shown whole, then the command ends with 2."""
    from mossy_compass.files.load import read_file

    reading = read_file(path)
    if reading.network is None:
        show_problems(reading.problems, path, error=True)
        raise SystemExit(EXIT_INPUT)
    return reading.network


__all__ = [
    "CONTEXT",
    "EXIT_INPUT",
    "EXIT_NOT",
    "form_option",
    "read_network",
    "say",
    "say_json",
    "shape_of",
    "shipped",
    "show",
    "show_problems",
    "write_whole",
]
