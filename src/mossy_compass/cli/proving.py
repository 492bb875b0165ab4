"""The command that proves what never happens, and what always does."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

import click

from mossy_compass.cli.common import (
    CONTEXT,
    EXIT_NOT,
    FAILING,
    form_option,
    jobs_option,
    read_network,
    say_json,
    scheduler_option,
    show,
)

if TYPE_CHECKING:
    from mossy_compass.lab.claims import Claim
    from mossy_compass.lab.without import AfterFailure, Asked
    from mossy_compass.model.network import Network


@click.command(context_settings=CONTEXT, short_help="Prove that hosts never reach others, or always do, whatever packet is sent.")
@click.argument("file")
@click.argument("claims", metavar="CLAIM...", nargs=-1, required=True)
@click.option(
    "--fail",
    "kinds",
    multiple=True,
    type=click.Choice(list(FAILING)),
    help="Prove each claim without each of these as well; may be given several times.",
)
@click.option("--pairs", is_flag=True, help="With --fail: without every two of them together as well.")
@jobs_option("Prove in so many processes.")
@scheduler_option("Prove on the workers of this Dask scheduler")
@form_option("text", "json")
def prove(
    file: str, claims: tuple[str, ...], kinds: tuple[str, ...], pairs: bool, jobs: int, scheduler: str | None, form: str
) -> None:
    """Prove that SOURCE never reaches TARGET in the network in FILE, or always does and is answered: not for the tests that
    somebody thought of, but for every packet that its sources can send. Against a claim stands a packet that was walked.

    A CLAIM is a sentence: SOURCE never reaches TARGET, or SOURCE reaches TARGET. After it, in this order, if you like:
    'for SERVICE' or 'except SERVICE', 'passing DEVICE', 'without passing DEVICE', 'seen as ADDRESS', 'seeing refused',
    'seeing unreachable' or 'seeing silence'. Each end is a host, group, segment, zone, prefix or address.

    \b
    Examples:
      mossy prove fernhollow.yaml "kiosks never reach ledger except ticketing"
      mossy prove fernhollow.yaml "visitor-net never reaches 10.40.0.0/16 for ssh and telnet"
      mossy prove fernhollow.yaml "kiosks never reach ledger except ticketing seeing silence"
      mossy prove fernhollow.yaml "kiosks reach ledger for ticketing passing herb-gate"
      mossy prove fernhollow.yaml "kiosks never reach ledger except ticketing" --fail each-link --fail each-device

    \b
    Exit codes: 0 every claim holds, 1 one does not or is not known, 2 wrong input.
    """
    from rich.console import Group
    from rich.text import Text

    from mossy_compass.lab.claims import claim_of
    from mossy_compass.lab.sweep import failures
    from mossy_compass.lab.without import asked_of, standing, withstood
    from mossy_compass.report import provetext, withouttext

    if pairs and not kinds:
        raise click.UsageError("--pairs is about what fails: say what, with --fail.")
    network = read_network(file)
    wanted = [claim_of(words) for words in claims]
    cases = failures(network, [FAILING[k] for k in dict.fromkeys(kinds)], pairs) if kinds else []
    now = _tried(network, wanted, asked_of(wanted, [()]), jobs, scheduler)
    asked = [a for a in asked_of(wanted, cases) if a[0] in standing(now)]
    then = _tried(network, wanted, asked, jobs, scheduler) if asked else []
    found = withstood(wanted, now, then)
    if form == "json":
        say_json([withouttext.as_dict(f) if kinds else provetext.proof_dict(f.now) for f in found])
    else:
        parts = [part for f in found for part in (withouttext.whole(f) if kinds else provetext.proof(f.now), Text(""))]
        show(Group(*parts[:-1]))
    raise SystemExit(0 if all(f.holds for f in found) else EXIT_NOT)


def _tried(network: Network, claims: list[Claim], asked: list[Asked], jobs: int, scheduler: str | None) -> list[AfterFailure]:
    """Every claim in every case, with a bar on a terminal; in parts where that was asked for."""
    from mossy_compass.cli.progress import track
    from mossy_compass.lab.without import prove_each

    if scheduler is not None or (jobs > 1 and len(asked) > 1):
        from mossy_compass.cli.spread import spread

        parts = spread(partial(prove_each, network, claims), asked, jobs, scheduler, "proofs")
        return [tried for part in parts for tried in part]
    if len(asked) > len(claims):  # one bar at a time
        return prove_each(network, claims, asked, lambda some: track(some, len(asked), "proofs"))
    return prove_each(network, claims, asked, watch=lambda ends: track(ends, len(ends), "sources"))
