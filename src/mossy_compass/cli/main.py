"""The command line. What is heavy is imported inside the command that needs it, so that help is quick.

Commands are listed with their one line of help without being imported. Whatever goes wrong
comes back to ``run``, the only place that turns an error into words and an exit code; so a
traceback is always a defect of ours, and never an answer.
"""

from __future__ import annotations

import contextlib
import importlib
import sys

import click

from mossy_compass.cli.common import CONTEXT, EXIT_INPUT
from mossy_compass.cli.output import begin, finish, lost, silence
from mossy_compass.errors import MossyError, NetworkFileError
from mossy_compass.files.opened import note_reads
from mossy_compass.marks import nearest

EXIT_STOPPED, EXIT_PIPE = 130, 141
"""As shells count the signals INT and PIPE."""

HOMES = {
    "demo": "files",
    "new": "files",
    "check": "files",
    "tables": "views",
    "trace": "packets",
    "grid": "views",
    "seen": "views",
    "flows": "observed",
    "change": "change",
    "drill": "drill",
    "compare": "lab",
    "what-if": "lab",
    "prove": "proving",
    "remedy": "remedying",
    "draw": "packets",
    "slice": "slicing",
    "lists-out": "lists",
    "lists-in": "lists",
    "schema": "files",
}
"""The module of each command, in the order of the help page; it is imported when the command is called."""


class Commands(click.Group):
    """A group that imports a command when it is asked for."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The names, in the order in which people work."""
        return list(HOMES)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        """A command by its name; None when there is none."""
        if name not in HOMES:
            near = nearest(name, HOMES)
            if near and not name.startswith("-"):
                raise click.UsageError(f"there is no command '{name}'. Did you mean {' or '.join(near)}?", ctx)
            return None
        found: click.Command = getattr(importlib.import_module(f"mossy_compass.cli.{HOMES[name]}"), name.replace("-", "_"))
        return found


@click.group(cls=Commands, context_settings=CONTEXT)
@click.version_option(package_name="mossy-compass", prog_name="mossy")
def main() -> None:
    """Trace test packets through a modelled network, and read why each is delivered or dropped.

    Begin with `mossy demo`, or with `mossy new my.yaml` and `mossy trace my.yaml --from desk --to printer`.

    \b
    Exit codes: 0 the packet and its answer arrived (or the check found no error),
                1 it did not, 2 wrong input.
    """


def run() -> None:
    """Entry point: every error of ours becomes a message and exit code 2; no traceback reaches a user."""
    try:
        code = _run()
        finish()
    except KeyboardInterrupt:
        _tell("stopped.")
        code = EXIT_STOPPED
    except BrokenPipeError:
        silence()
        code = EXIT_PIPE
    except MossyError as fault:
        _tell(f"mossy: {fault}")
        code = EXIT_INPUT
    except OSError as fault:  # files are handled where they are read and written: this was the help, on its way out
        _tell(f"mossy: {lost(fault)}")
        code = EXIT_INPUT
    raise SystemExit(code)


def _run() -> int:
    """Run the command that was asked for; gives its exit code."""
    try:
        begin()
        note_reads()
        main(standalone_mode=False)
    except (click.exceptions.Abort, KeyboardInterrupt):
        _tell("stopped.")
        return EXIT_STOPPED
    except click.ClickException as fault:
        _tell(f"{_usage(fault)}{fault.format_message()}")
    except click.exceptions.Exit as end:
        return end.exit_code
    except SystemExit as end:
        return end.code if isinstance(end.code, int) else 0
    except NetworkFileError as fault:
        from mossy_compass.cli.common import show_faults

        show_faults(fault)
    except MossyError as fault:
        _tell(f"mossy: {fault}")
    except MemoryError:
        _tell("mossy: there is not enough memory for this. Ask about a part of the network, or give it more room (ulimit -v).")
    except RecursionError:
        _tell("mossy: the input is nested too deeply. Is this the right file?")
    else:
        return 0
    return EXIT_INPUT


def _usage(fault: click.ClickException) -> str:
    """How the command is called, before what is wrong with the call."""
    context = getattr(fault, "ctx", None)
    return f"{context.get_usage()}\nTry '{context.command_path} --help' for help.\n\nError: " if context else "Error: "


def _tell(words: str) -> None:
    """One message on the error stream, if there is one."""
    from mossy_compass.safe import safe

    with contextlib.suppress(OSError, ValueError, AttributeError):
        sys.stderr.write(safe(words).rstrip() + "\n")
