"""The groups of uplinks of a device, as a table: how each member is, and how much of what is new goes by it."""

from __future__ import annotations

from mossy_compass.model.network import Choosing, Device, GroupOfUplinks
from mossy_compass.plan.plan import Plan
from mossy_compass.report.tables import Rows
from mossy_compass.routing.uplinks import idle, in_use, on_last_resort
from mossy_compass.walk.weather import outcome


def uplinks(plan: Plan, name: str) -> Rows:
    """The groups of a device.

    Args:
        plan: as things stand.
        name: of the device.

    """
    device = plan.network.devices[name]
    rows = [row for group in device.groups.values() for row in _rows(plan, device, group)]
    if not rows:
        return Rows("uplinks", f"{name} has no groups of uplinks", ("group", "member", "how it is", "new flows"), ())
    said = [_state(plan, device, g) for g in device.groups.values()]
    return Rows("uplinks", f"uplinks of {name}: {'; '.join(said)}", ("group", "member", "how it is", "new flows"), tuple(rows))


def _state(plan: Plan, device: Device, group: GroupOfUplinks) -> str:
    """A group in a few words: what is in use of it."""
    able = in_use(device, plan.domains, group.name)
    if not able:
        return f"{group.name}: no member can serve"
    last = " (its last resort)" if on_last_resort(device, plan.domains, group.name) else ""
    return f"{group.name} by {' and '.join(able)}{last}"


def _rows(plan: Plan, device: Device, group: GroupOfUplinks) -> list[tuple[str, ...]]:
    """A line for each member, and one for the last resort."""
    how = {Choosing.SHARE: "flows are shared", Choosing.FIRST: "the first that can serve", Choosing.BEST: f"the best by {group.by}"}
    used = in_use(device, plan.domains, group.name)
    called = f"{group.name}\n({how[group.choose]})"
    out: list[tuple[str, ...]] = []
    for number, member in enumerate(device.uplinks[group.name]):
        share = (f"1 of {len(used)}" if len(used) > 1 else "all") if member in used else "none"
        out.append((called if not number else "", member, _how(plan, device, group, member, member in used), share))
    return out


def _how(plan: Plan, device: Device, group: GroupOfUplinks, member: str, used: bool) -> str:
    """Whether a member can serve, whether it does, and what its probe finds."""
    why = idle(device, plan.domains, group.name, member)
    last = member == group.last_resort
    if why:
        said = f"cannot serve: {why.removeprefix(f'{member}: ')}"
    elif used:
        said = "in use, as the last resort" if last else "in use"
    else:
        said = "the last resort: used only while no member can serve" if last else "ready, not in use"
    probe = device.probes.get(device.member_probes.get((group.name, member), ""))
    if probe is None or not probe.enabled:
        return said
    found = outcome(plan, (device.name, probe.name))
    quality = found.quality
    measured = (
        f"latency {quality.latency_ms:g} ms, jitter {quality.jitter_ms:g} ms, loss {quality.loss_percent:g} %"
        if quality is not None
        else found.why
    )
    return f"{said}\nprobe {probe.name}: {measured}"
