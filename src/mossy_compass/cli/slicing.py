"""The command that writes the part of a network that a flow's fate hangs on."""

from __future__ import annotations

from pathlib import Path

import click

from mossy_compass.cli import complete
from mossy_compass.cli.common import CONTEXT, OUTPUT, FileKind, read_network, say, service_option, write_whole
from mossy_compass.cli.output import Once


@click.command("slice", context_settings=CONTEXT, short_help="Write the part of a network that a flow's fate hangs on.")
@click.argument("file")
@click.argument("part", type=OUTPUT, required=False)
@click.option(
    "--from", "sender", required=True, metavar="HOST", shell_complete=complete.senders, help="Device or far host that sends."
)
@click.option(
    "--to", "target", required=True, metavar="TARGET", shell_complete=complete.targets, help="Device, name, or address to reach."
)
@service_option
def cut(file: str, part: str | None, sender: str, target: str, service: str) -> None:
    """Write to PART the devices of FILE that a flow passes, and of everything else what these name: the few moving parts
    in which it fares as in the whole network, by the same rules, there and back. That is tried before PART is written.
    Without PART it is shown.

    \b
    Example:
      mossy slice fernhollow.yaml little.yaml --from kiosk-1 --to ledger --service ticketing
    """
    from mossy_compass.files.load import plain_bytes, read_bytes
    from mossy_compass.files.slicing import sliced
    from mossy_compass.lab.slicing import sliced_for
    from mossy_compass.model.network import Network
    from mossy_compass.plan.plan import Plan
    from mossy_compass.walk.journey import Journey
    from mossy_compass.walk.trace import trace_each
    from mossy_compass.walk.weather import in_weather

    network = read_network(file)
    text = plain_bytes(file).decode("utf-8-sig")
    addresses = {d.name: tuple(str(a) for a, _ in d.own_addresses()) for d in network.devices.values()}
    addresses |= {h.name: tuple(map(str, h.addresses)) for d in network.devices.values() for h in d.far_hosts.values()}
    heading = f"Cut out of {Path(file).name}: what {sender} to {target} for {service} hangs on."

    def made(kept: frozenset[str]) -> tuple[Network | None, str]:
        """A smaller network, and its text."""
        smaller = sliced(text, kept, addresses, heading)
        return read_bytes(smaller.encode(), part or file).network, smaller

    def ask(plan: Plan) -> list[Journey]:
        """The same question of any network."""
        return trace_each(in_weather(plan), sender, target, service)

    found = sliced_for(in_weather(Plan(network)), ask, made)
    rules = sum(len(e.rules) for e in network.lists.values())
    left = sum(len(e.rules) for e in found.network.lists.values())
    held = f"{len(found.network.devices)} of {len(network.devices)} devices and {left} of {rules} rules"
    alike = f"{sender} to {target} for {service} fares there as in {Path(file).name}, by the same rows"
    if part is None:
        say(found.text.replace("\n", f"\n# It has {held};\n# {alike}.\n", 1))
        return
    write_whole(Path(part), found.text.encode(), FileKind.NETWORK, Once.NEVER)
    say(f"{part}: written, with {held}; {alike}.\n")


slice = cut  # the name by which the command is looked for
