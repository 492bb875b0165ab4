"""The tunnels of a device, as a table: between which ends, what goes in, who is at the other end, which lists stand there."""

from __future__ import annotations

from collections.abc import Sequence

from mossy_compass.headers.spans import as_text
from mossy_compass.model.network import Interface, Protects, Selector, Tunnel
from mossy_compass.packet.address import EVERYTHING, Spans
from mossy_compass.plan.asopened import outdated
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Association
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.stages.tunnel import other_end
from mossy_compass.report.remembered import life
from mossy_compass.report.tables import Rows
from mossy_compass.state.state import State

COLUMNS = ("tunnel", "ends", "what goes in", "other end", "lists")


def tunnels(plan: Plan, name: str, state: State | None = None) -> Rows:
    """The tunnels of a device.

    Args:
        plan: as things stand.
        name: of the device.
        state: what devices remember; None for nothing.

    """
    here = plan.device(name)
    found = [(i, i.tunnel) for i in here.device.interfaces.values() if i.tunnel is not None]
    if not found:
        return Rows("tunnels", f"{name} has no tunnels", COLUMNS, ())
    about = f"{len(found)} tunnel{'s' * (len(found) != 1)} of {name}"
    return Rows("tunnels", about, COLUMNS, tuple(_row(here, i, t, state or State()) for i, t in found))


def _row(here: DevicePlan, port: Interface, tunnel: Tunnel, state: State) -> tuple[str, ...]:
    """A tunnel as cells."""
    own = here.address_on(tunnel.by, tunnel.to.family)
    ends = f"{tunnel.kind.value}\n{own or 'no address'} ({tunnel.by})\nto {tunnel.to}\nat most {port.mtu} bytes go in"
    learned = state.path_mtu(here.name, port.name)
    if learned is not None:
        ends += f"\nof its way learned: {learned}"
    if tunnel.divides:
        ends += "\nits packets may be divided"
    held = [a for a in state.associations.of(here.name) if a.tunnel == port.name]
    if tunnel.exchanged:
        ends += "\n" + ": ".join(("keys exchanged", *([", ".join(tunnel.proposals)] if tunnel.proposals else [])))
    agreed = [_agreed(a, state.now) for a in held] or ["no association yet"] * tunnel.exchanged
    lists = "\n".join(_lists(here, port, held))
    return (port.name, ends, "\n".join([*_goes_in(here, port, tunnel), *agreed]), _other(here, port), lists)


def _agreed(held: Association, now: int) -> str:
    """An association as lines: between whom, how old, and how its packets go."""
    within = f", within udp/{held.to_port} to {held.to}" if held.to_port else ""
    return f"association {held.number}: {end_words(held.mine)} to {end_words(held.far)}, {life(held.began, held.ends, now)}{within}"


def _goes_in(here: DevicePlan, port: Interface, tunnel: Tunnel) -> list[str]:
    """The selectors in their order, and the routes that lead there."""
    routes = [f"route {r.prefix}" for r in here.table if any(h.interface == port.name for h in r.hops) and r.origin != "local"]
    return [*(_selector(s, n) for n, s in enumerate(tunnel.selectors, 1)), *routes] or ["nothing leads there"]


def _selector(selector: Selector, number: int) -> str:
    """A selector as a line: whose packets to whom, and what is done with them."""
    ends = (", ".join(t.words for t in terms) if terms else "any" for terms in (selector.sources, selector.destinations))
    does = "" if selector.does is Protects.PROTECT else f": {selector.does.value}"
    return f"{number}: {' to '.join(ends)}{does}"


def end_words(spans: Spans) -> str:
    """What may be at an end of a tunnel: addresses, or any."""
    return "any" if spans == EVERYTHING else as_text(spans)


def _other(here: DevicePlan, port: Interface) -> str:
    """Whether it is up, and who names this end as theirs."""
    link = here.domains.link(here.name, port.name)
    found = other_end(here, port.name)
    who = "/".join(found) if found is not None else "no tunnel here names this end"
    return who if link.up else f"{who}\ndown: {link.why}"


def _lists(here: DevicePlan, port: Interface, held: Sequence[Association]) -> list[str]:
    """The lists that stand at it, whether what comes out meets them, and which associations hold others."""
    sees = here.settings.text("lists-see-inner")
    out = [
        f"{way}: {', '.join(names)}" for way, names in (("arriving", port.arriving_lists), ("leaving", port.leaving_lists)) if names
    ]
    if port.arriving_lists and sees == "no":
        out[0] += ", not asked"
    old = [f"association {a.number} holds them as they were, until it is cleared" for a in held if outdated(here, a)]
    return [*(out or ["none"]), f"lists-see-inner: {sees}", *old]
