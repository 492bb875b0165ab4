"""The probes of a device, as a table: what each asks, how it is, and what is bound to it."""

from __future__ import annotations

from mossy_compass.lab.clock import Status
from mossy_compass.model.durations import duration_words
from mossy_compass.model.network import Device, Probe
from mossy_compass.plan.plan import Plan
from mossy_compass.report.tables import Rows
from mossy_compass.walk.weather import outcome


def probes(plan: Plan, name: str, statuses: dict[tuple[str, str], Status], now: int) -> Rows:
    """The probes of a device.

    Args:
        plan: as things stand.
        name: of the device.
        statuses: how each probe is.
        now: the instant on the lab's clock, in milliseconds.

    """
    device = plan.network.devices[name]
    rows = tuple(_row(plan, device, p, statuses.get((name, p.name)), now) for p in device.probes.values())
    down = [p.name for p in device.probes.values() if plan.network.probe_down(device, p.name)]
    about = f"{len(rows)} probe{'s' * (len(rows) != 1)} of {name}" + (
        f": {', '.join(down)} down" if down else ", none of them down"
    )
    if not rows:
        about = f"{name} has no probes"
    return Rows("probes", about, ("probe", "asks", "how it is", "bound to it"), rows)


def _row(plan: Plan, device: Device, probe: Probe, status: Status | None, now: int) -> tuple[str, ...]:
    """A probe as four cells."""
    by = f" by {probe.by}" if probe.by else ""
    asks = f"{probe.words} for {probe.service}{by}\nevery {duration_words(probe.every)}, answer within {duration_words(probe.reply_within)}"
    return (
        probe.name,
        asks + _limits(probe),
        _how(plan, device, probe, status, now),
        "\n".join(bound_to(device, probe.name)) or "nothing",
    )


def _limits(probe: Probe) -> str:
    """The limits of a probe, on a line of their own; empty for none."""
    wanted = (("latency", probe.latency_ms, "ms"), ("jitter", probe.jitter_ms, "ms"), ("loss", probe.loss_percent, "%"))
    words = [f"{name} at most {most:g} {unit}" for name, most, unit in wanted if most is not None]
    return f"\n{', '.join(words)}" if words else ""


def _how(plan: Plan, device: Device, probe: Probe, status: Status | None, now: int) -> str:
    """Whether a probe is up, since when, and what it finds at this instant."""
    if not probe.enabled or status is None:
        return f"switched off, counts as {device.settings.text('switched-off-probe')}"
    found = outcome(plan, (device.name, probe.name))
    since = (
        f"since {duration_words(now - status.since)}"
        if now > status.since
        else "since the beginning"
        if not status.since
        else "just now"
    )
    if status.up:
        counted = f"still up: {status.streak} of {probe.down_after} failures" if status.streak else f"up {since}"
    else:
        counted = f"still down: {status.streak} of {probe.up_after} answers" if status.streak else f"down {since}"
    took = f"answered in {found.quality.latency_ms:g} ms" if found.ok and found.quality is not None else found.why
    return f"{counted}\nnow: {took}"


def bound_to(device: Device, name: str) -> list[str]:
    """What of a device is used only while a probe is up."""
    found = [
        f"{'default route' if r.prefix.is_default else f'route to {r.prefix}'} ({r.mark})" for r in device.routes if r.probe == name
    ]
    found += [f"policy route {e.id} ({c.mark})" for e in device.policy_routes for c in e.candidates if c.probe == name]
    return found + [f"{member} of {group}" for (group, member), probe in device.member_probes.items() if probe == name]
