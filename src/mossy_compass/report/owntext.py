"""Packets of a device's own that it sends without being asked: a probe's question, and the exchange of a tunnel's keys."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from mossy_compass.model.durations import duration_words
from mossy_compass.plan.plan import Plan
from mossy_compass.report import sentences, text
from mossy_compass.report.record import leg_dict
from mossy_compass.report.tunnelstext import end_words
from mossy_compass.walk.walk import Tried


def exchange(device: str, tunnel: str, found: Tried, details: bool, plan: Plan) -> RenderableType:
    """Whether two ends of a tunnel agree, and the ways of the packets by which they did.

    Args:
        device, tunnel: who asked, and for which tunnel.
        found: what came of it.
        details: every ruling.
        plan: the network.

    """
    return Group(Text(headline(device, tunnel, found), style="bold"), *_ways(found, details, plan))


def headline(device: str, tunnel: str, found: Tried) -> str:
    """The answer in a sentence."""
    held, lost = found.agreed.held, found.agreed.lost
    if held is None:
        assert lost is not None
        where = f" at {lost.outer.end}" if lost.outer is not None else ""
        return f"tunnel {tunnel} of {device}: NOT AGREED{where}: {lost.because.cited()} [{lost.cause}]"
    lives = "for ever" if held.ends is None else f"for {duration_words(held.ends - held.began)}"
    within = f", within udp/{held.to_port}, for an address is translated between them" if held.to_port else ""
    carrier = found.lost
    way = "back" if len(found.outer) > 1 else "there"
    carried = "what carries packets gets there and back"
    if carrier is not None:
        carried = f"BUT what carries packets is LOST on the way {way} at {carrier.end}: {carrier.because.cited()} [{carrier.cause}]"
    between = f"{end_words(held.mine)} to {end_words(held.far)}"
    return f"tunnel {tunnel} of {device}: AGREED with {held.peer} ({held.to}){within}: {between}, {lives}; {carried}"


def _ways(found: Tried, details: bool, plan: Plan) -> Iterator[RenderableType]:
    """The ways of the packets of an exchange."""
    for leg in (*found.agreed.legs, *found.outer):
        yield Padding(Text(sentences.leg_title(leg), style="bold"), (0, 0, 0, 2))
        yield text.way(leg, plan if details else None)


def exchange_dict(device: str, tunnel: str, found: Tried, plan: Plan | None) -> dict[str, object]:
    """The same as plain data.

    Args:
        device, tunnel, found: as for ``exchange``.
        plan: for the details; None for none.

    """
    held, lost = found.agreed.held, found.agreed.lost
    return {
        "mossy-exchange": 1,
        "device": device,
        "tunnel": tunnel,
        "agreed": held is not None,
        "headline": headline(device, tunnel, found),
        "carries": held is not None and found.lost is None,
        "cause": lost.cause if lost is not None else found.lost.cause if found.lost is not None else None,
        "peer": None if held is None else {"device": held.peer, "tunnel": held.peer_tunnel, "address": str(held.to)},
        "legs": [leg_dict(leg, plan) for leg in (*found.agreed.legs, *found.outer)],
    }
