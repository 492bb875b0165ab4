"""The tunnels of a device, as a table: between which ends, what goes in, who is at the other end, which lists stand there."""

from __future__ import annotations

from mossy_compass.model.network import Interface, Protects, Selector, Tunnel
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.stages.tunnel import other_end
from mossy_compass.report.tables import Rows

COLUMNS = ("tunnel", "ends", "what goes in", "other end", "lists")


def tunnels(plan: Plan, name: str) -> Rows:
    """The tunnels of a device.

    Args:
        plan: as things stand.
        name: of the device.

    """
    here = plan.device(name)
    found = [(i, i.tunnel) for i in here.device.interfaces.values() if i.tunnel is not None]
    if not found:
        return Rows("tunnels", f"{name} has no tunnels", COLUMNS, ())
    about = f"{len(found)} tunnel{'s' * (len(found) != 1)} of {name}"
    return Rows("tunnels", about, COLUMNS, tuple(_row(here, i, t) for i, t in found))


def _row(here: DevicePlan, port: Interface, tunnel: Tunnel) -> tuple[str, ...]:
    """A tunnel as cells."""
    own = here.address_on(tunnel.by, tunnel.to.family)
    ends = f"{tunnel.kind.value}\n{own or 'no address'} ({tunnel.by})\nto {tunnel.to}\nat most {port.mtu} bytes go in"
    return (port.name, ends, "\n".join(_goes_in(here, port, tunnel)), _other(here, port), "\n".join(_lists(here, port)))


def _goes_in(here: DevicePlan, port: Interface, tunnel: Tunnel) -> list[str]:
    """The selectors in their order, and the routes that lead there."""
    routes = [f"route {r.prefix}" for r in here.table if any(h.interface == port.name for h in r.hops) and r.origin != "local"]
    return [*(_selector(s, n) for n, s in enumerate(tunnel.selectors, 1)), *routes] or ["nothing leads there"]


def _selector(selector: Selector, number: int) -> str:
    """A selector as a line: whose packets to whom, and what is done with them."""
    ends = (", ".join(t.words for t in terms) if terms else "any" for terms in (selector.sources, selector.destinations))
    does = "" if selector.does is Protects.PROTECT else f": {selector.does.value}"
    return f"{number}: {' to '.join(ends)}{does}"


def _other(here: DevicePlan, port: Interface) -> str:
    """Whether it is up, and who names this end as theirs."""
    link = here.domains.link(here.name, port.name)
    found = other_end(here, port.name)
    who = "/".join(found) if found is not None else "no tunnel here names this end"
    return who if link.up else f"{who}\ndown: {link.why}"


def _lists(here: DevicePlan, port: Interface) -> list[str]:
    """The lists that stand at it, and whether what comes out meets them."""
    sees = here.settings.text("lists-see-inner")
    out = [
        f"{way}: {', '.join(names)}" for way, names in (("arriving", port.arriving_lists), ("leaving", port.leaving_lists)) if names
    ]
    if port.arriving_lists and sees == "no":
        out[0] += ", not asked"
    return [*(out or ["none"]), f"lists-see-inner: {sees}"]
