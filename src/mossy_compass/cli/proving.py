"""The command that proves what never happens, and what always does."""

from __future__ import annotations

import click

from mossy_compass.cli.common import CONTEXT, EXIT_NOT, form_option, read_network, say_json, show


@click.command(context_settings=CONTEXT, short_help="Prove that hosts never reach others, or always do, whatever packet is sent.")
@click.argument("file")
@click.argument("claims", metavar="CLAIM...", nargs=-1, required=True)
@form_option("text", "json")
def prove(file: str, claims: tuple[str, ...], form: str) -> None:
    """Prove that SOURCE never reaches TARGET in the network in FILE, or always does and is answered: not for the tests that
    somebody thought of, but for every packet that its sources can send. Against a claim stands a packet that was walked.

    A CLAIM is a sentence: SOURCE never reaches TARGET, or SOURCE reaches TARGET. After it, in this order, if you like:
    'for SERVICE' or 'except SERVICE', 'passing DEVICE', 'without passing DEVICE', 'seen as ADDRESS'. Each end is a host,
    group, segment, zone, prefix or address.

    \b
    Examples:
      mossy prove fernhollow.yaml "kiosks never reach ledger except ticketing"
      mossy prove fernhollow.yaml "visitor-net never reaches 10.40.0.0/16 for ssh and telnet"
      mossy prove fernhollow.yaml "kiosks reach ledger for ticketing passing herb-gate"

    \b
    Exit codes: 0 every claim holds, 1 one does not or is not known, 2 wrong input.
    """
    from rich.console import Group
    from rich.text import Text

    from mossy_compass.cli.progress import track
    from mossy_compass.lab.claims import claim_of
    from mossy_compass.lab.prove import prove as proven
    from mossy_compass.report import provetext

    network = read_network(file)
    asked = [claim_of(words) for words in claims]
    found = [proven(network, claim, lambda ends: track(ends, len(ends), "sources")) for claim in asked]
    if form == "json":
        say_json([provetext.proof_dict(f) for f in found])
    else:
        parts = [part for f in found for part in (provetext.proof(f), Text(""))]
        show(Group(*parts[:-1]))
    raise SystemExit(0 if all(f.holds for f in found) else EXIT_NOT)
