"""The command line. What is heavy is imported inside the command that needs it, so that help is quick."""

from __future__ import annotations

import importlib
import sys

import click

from mossy_compass.cli.common import CONTEXT, EXIT_INPUT
from mossy_compass.errors import MossyError, NetworkFileError

HOMES = {
    "demo": "files",
    "new": "files",
    "check": "files",
    "tables": "views",
    "trace": "packets",
    "grid": "views",
    "draw": "packets",
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
            return None
        found: click.Command = getattr(importlib.import_module(f"mossy_compass.cli.{HOMES[name]}"), name)
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
        main(standalone_mode=False)
    except click.exceptions.Abort:
        click.echo("stopped.", err=True)
        raise SystemExit(130) from None
    except click.ClickException as fault:
        fault.show()
        raise SystemExit(EXIT_INPUT) from None
    except click.exceptions.Exit as fault:
        raise SystemExit(fault.exit_code) from None
    except NetworkFileError as fault:
        click.echo(str(fault), err=True)
        raise SystemExit(EXIT_INPUT) from None
    except MossyError as fault:
        click.echo(f"mossy: {fault}", err=True)
        raise SystemExit(EXIT_INPUT) from None
    except BrokenPipeError:
        sys.stderr.close()
        raise SystemExit(141) from None
