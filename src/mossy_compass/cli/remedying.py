"""The command that looks for changes after which a flow ends as it is wanted."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from mossy_compass.cli import complete
from mossy_compass.cli.common import (
    CONTEXT,
    EXIT_INPUT,
    EXIT_NOT,
    OUTPUT,
    FileKind,
    Once,
    form_option,
    moment_of,
    moment_options,
    say,
    say_json,
    show,
    show_problems,
    write_whole,
)
from mossy_compass.errors import InputError, MossyError, QuestionError

if TYPE_CHECKING:
    from mossy_compass.lab.remedy import Make, Remedies
    from mossy_compass.model.network import Network


@click.command(context_settings=CONTEXT, short_help="Find the smallest change after which a flow is answered, or does not arrive.")
@click.argument("file")
@click.option("--from", "sender", required=True, metavar="HOST", shell_complete=complete.senders, help="Who sends.")
@click.option("--to", "target", required=True, metavar="TARGET", shell_complete=complete.targets, help="Whom to reach.")
@click.option(
    "--service", default="ping", show_default=True, metavar="SERVICE", shell_complete=complete.services, help="What to ask."
)
@click.option("--family", type=click.Choice(["4", "6"]), help="Use the target's IPv4 or IPv6 address.")
@click.option(
    "--wanted", type=click.Choice(["reaches", "never-reaches"]), default="reaches", show_default=True, help="How it shall end."
)
@click.option("--write", metavar="CHANGE", type=OUTPUT, help="Write a remedy as the change file CHANGE; FILE stays as it is.")
@click.option("--number", type=click.IntRange(1), default=1, show_default=True, help="Which of them to write.")
@moment_options
@form_option("text", "json")
def remedy(
    file: str,
    sender: str,
    target: str,
    service: str,
    family: str | None,
    wanted: str,
    write: str | None,
    number: int,
    at: str | None,
    last_resort: bool,
    form: str,
) -> None:
    """Find changes of FILE after which a flow is answered, or does not arrive: a rule for it alone, a rule enabled, disabled or
    moved, a group joined, sessions kept, a route, a mask, an interface enabled, a translation. Each was tried, and is shown with
    everything else that it changes: what opens and closes, of all packets, and the verdicts of lists exactly.

    \b
    Examples:
      mossy remedy fernhollow.yaml --from tablet --to ledger --service tcp/8443
      mossy remedy fernhollow.yaml --from kiosk-1 --to ledger --service tcp/8443 --wanted never-reaches
      mossy remedy fernhollow.yaml --from tablet --to ledger --service tcp/8443 --write sale.yaml

    \b
    Exit codes: 0 something helps, or nothing has to be done, 1 nothing was found, 2 wrong input.
    """
    from mossy_compass.files.load import plain_bytes, read_bytes
    from mossy_compass.lab.expect import every_flow
    from mossy_compass.lab.lab import Flow
    from mossy_compass.lab.remedy import remedies
    from mossy_compass.report import remedytext
    from mossy_compass.walk.question import Options, members_of

    data = plain_bytes(file)
    reading = read_bytes(data, file)
    if reading.network is None:
        show_problems(reading.problems, file, error=True)
        raise SystemExit(EXIT_INPUT)
    network = reading.network
    members = members_of(network, service)
    if len(members) > 1:
        raise QuestionError(
            f"'{service}' has {len(members)} members, and a remedy is for one: --service {members[0]}, for example."
        )
    moment = moment_of(at, last_resort)
    options = Options(at=moment.at, last_resort=last_resort, family=int(family) if family else None)
    flow = Flow(sender, target, members[0], options)
    found = remedies(network, flow, wanted == "reaches", maker(data, file), _tests(network, every_flow, moment))
    if form == "json":
        say_json(remedytext.remedies_dict(found))
    else:
        show(remedytext.remedies(found))
    if write is not None and found.found:
        _write(found, number, write, file, form)
    raise SystemExit(0 if found.found or found.so_already else EXIT_NOT)


MOST_TESTS = 1_000
"""So many tests say which remedies are followed for all packets, and what else one changes that cannot be followed whole."""


def _tests(network: Network, every_flow: Any, moment: Any) -> list[Any]:
    """The tests that tell what else changes; of very many, evenly spread ones."""
    try:
        flows = every_flow(network, (), (), (), moment)
    except QuestionError:
        return []
    return list(flows[:: max(1, len(flows) // MOST_TESTS)])


def maker(data: bytes, file: str) -> Make:
    """What does steps on the file's text."""
    from mossy_compass.files.change import as_change_file, changed

    def make(steps: Sequence[Any]) -> Network | None:
        """The changed network; None where the steps cannot be done, or it has errors."""
        try:
            _, reading = changed(as_change_file("tried", steps).encode(), "remedy", file, data)
        except MossyError:
            return None
        return reading.network

    return make


def _write(found: Remedies, number: int, write: str, file: str, form: str) -> None:
    """Write one of them as a change file."""
    from mossy_compass.files.change import as_change_file

    if number > len(found.found):
        raise InputError(f"there are {len(found.found)} remedies, and no number {number}.")
    chosen = found.found[number - 1]
    what = "is answered" if found.wanted else "does not arrive"
    about = f"so that {found.flow.source} to {found.flow.target}, {found.flow.service} {what}"
    write_whole(Path(write), as_change_file(about, chosen.steps).encode(), FileKind.CHANGE, Once.NEVER)
    if form == "text":
        say(f"\n{write}: written. Look at it: mossy change {file} {write}\n")
