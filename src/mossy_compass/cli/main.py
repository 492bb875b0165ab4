"""The command line. What is heavy is imported inside the command that needs it, so that help is quick."""

from __future__ import annotations

import sys

import click

from mossy_compass.cli.common import CONTEXT, EXIT_INPUT
from mossy_compass.cli.files import check, demo, new, schema
from mossy_compass.cli.packets import draw, trace
from mossy_compass.cli.views import grid, tables
from mossy_compass.errors import MossyError, NetworkFileError


@click.group(context_settings=CONTEXT)
@click.version_option(package_name="mossy-compass", prog_name="mossy")
def main() -> None:
    r"""Trace test packets through a modelled network, and read why each is delivered or dropped.

    Begin with `mossy demo`, or with `mossy new my.yaml` and `mossy trace my.yaml --from desk --to printer`.

    \b
    Exit codes: 0 the packet and its answer arrived (or the check found no error),
                1 it did not, 2 wrong input.
    """


for command in (demo, new, check, tables, trace, grid, draw, schema):
    main.add_command(command)


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
