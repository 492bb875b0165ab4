"""What a shell offers when somebody presses the key for completion: names of the network that the line is about.

A file that cannot be read offers nothing; a message in the middle of a line that is being typed would help nobody.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import click

    from mossy_compass.model.network import Network

Complete = Any
"""As click wants it: takes context, parameter and what is typed so far; gives words."""


def _names(pick: Callable[[Network], Iterable[str]]) -> Complete:
    """Completion by some names of the network in FILE."""

    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
        """The names that begin as typed."""
        from mossy_compass.errors import MossyError
        from mossy_compass.files.load import read_file

        # An option that waits for its value keeps the rest of the line from being sorted into parameters.
        file = ctx.params.get("file") or ctx.params.get("old") or next(iter(ctx.args), None)
        try:
            network = read_file(file).network if file else None
        except MossyError:
            network = None
        return sorted({n for n in pick(network) if n.startswith(incomplete)}) if network is not None else []

    return complete


def _targets(network: Network) -> Iterable[str]:
    """Everything that a packet may be sent to by a name."""
    from mossy_compass.walk.question import ends

    return [*ends(network), *(n for d in network.devices.values() for n in d.records or {})]


def _services(network: Network) -> Iterable[str]:
    """Services by name: the file's, those that every network knows, and a ping."""
    from mossy_compass.packet.service import BUILT_IN_SERVICES

    return [*network.services, *BUILT_IN_SERVICES, "ping"]


def _senders(network: Network) -> Iterable[str]:
    """Who can send."""
    return [n for n in _targets(network) if n in network.devices or network.far_host(n)]


senders = _names(_senders)
targets = _names(_targets)
services = _names(_services)
devices = _names(lambda network: network.devices)
rules = _names(lambda network: [f"{e.name}/{r.id}" for e in network.lists.values() for r in e.rules])
known = _names(
    lambda network: [*network.groups, *network.services, *network.lists, *network.hours, *network.applications, *network.devices]
)
