"""What all commands share: reading a network, printing, writing whole files, exit codes."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

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


def show(renderable: Any, *, error: bool = False) -> None:
    """Print for a terminal with its colours, or as plain text of 100 columns for anything else."""
    from mossy_compass.report.text import as_text, console

    stream = sys.stderr if error else sys.stdout
    screen = console(stream)  # type: ignore[arg-type]
    if screen.is_terminal:
        screen.print(renderable)
        return
    say(as_text(renderable), stream)


def say(text: str, stream: Any = None) -> None:
    """Write text; a stream that cannot hold arrows gets plain ones."""
    stream = stream or sys.stdout
    try:
        stream.write(text)
    except UnicodeEncodeError:
        stream.write(text.replace("→", "->").encode("ascii", "replace").decode())


def say_json(data: Any) -> None:
    """Print plain data as JSON."""
    import json

    say(json.dumps(data, indent=2, ensure_ascii=False) + "\n")


def show_problems(problems: Sequence[Problem], name: str, *, error: bool = False) -> None:
    """A first line that is the answer, then each finding with its line and a caret."""
    from rich.console import Group
    from rich.text import Text

    from mossy_compass.report import text

    refused = any(p.severity == "error" for p in problems)
    verdict = "cannot be used until the errors are mended" if refused else "can be used"
    head = f"{name}: {text.count_words(problems)}; the network {verdict}."
    show(Group(Text(head), *[text.problem(p) for p in problems]), error=error)


def read_network(path: str) -> Network:
    """A network for a question. Errors are shown whole, then the command ends with 2."""
    from mossy_compass.files.load import read_file

    reading = read_file(path)
    if reading.network is None:
        show_problems(reading.problems, path, error=True)
        raise SystemExit(EXIT_INPUT)
    return reading.network


def write_whole(path: Path, data: bytes, *, overwrite: bool = True) -> None:
    """Write a whole file or nothing: into a temporary neighbour first, which then takes the name."""
    import os
    import tempfile

    if path.is_dir():
        raise InputError(f"{path}: this is a folder. Name a file in it.")
    if path.exists() and not overwrite:
        raise InputError(f"{path}: exists already, and is left as it is. Choose another name.")
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    except OSError as fault:
        raise InputError(f"{path}: cannot be written: {(fault.strerror or str(fault)).lower()}. Check the folder.") from None
    try:
        with os.fdopen(handle, "wb") as stream:
            stream.write(data)
        mask = os.umask(0)
        os.umask(mask)
        os.chmod(name, 0o666 & ~mask)
        os.replace(name, path)
    except OSError as fault:
        Path(name).unlink(missing_ok=True)
        raise InputError(f"{path}: cannot be written: {(fault.strerror or str(fault)).lower()}.") from None
