"""Routing processes of a device into the model.

A process names the areas, networks and redistribution of a device. What its interfaces say
of it is checked against it both ways: an interface in a process that the device does not
have is as void as a process without interfaces.
"""

from __future__ import annotations

from collections.abc import Mapping

from mossy_compass.files.context import Context
from mossy_compass.files.schema import DeviceIn, OspfIn
from mossy_compass.marks import Severity
from mossy_compass.model.network import Interface, OspfProcess, RipProcess


def ospf(ctx: Context, name: str, device: DeviceIn, interfaces: Mapping[str, Interface]) -> OspfProcess | None:
    """The OSPF process; it runs where an interface speaks OSPF, settings or none."""
    speaks = any(i.ospf for i in interfaces.values())
    if device.ospf is None:
        return OspfProcess(ctx.mark("devices", name), {}, {}) if speaks else None
    mark = ctx.mark("devices", name, "ospf")
    if not speaks:
        words = f"{name} has OSPF settings, but none of its interfaces speaks OSPF: they have no effect."
        ctx.fault("idle.not-enabled", mark, words, "Write ospf: AREA at an interface.", Severity.WARNING)
    entry = device.ospf
    first = entry.default_route
    default = (first.type, first.metric, first.always) if first else None
    given: dict[str, tuple[int, int]] = {o: (e.type, e.metric) for o, e in entry.redistribute.items()}
    return OspfProcess(mark, _areas(ctx, name, entry), given, default, entry.preference)


def _areas(ctx: Context, name: str, entry: OspfIn) -> dict[int, str]:
    """The kinds of areas by number (RFC 2328 section 3.6: the backbone is never a stub)."""
    areas: dict[int, str] = {}
    for word, kind in entry.areas.items():
        mark = ctx.mark("devices", name, "ospf", "areas", word)
        if not (word.isascii() and word.isdigit() and len(word) <= 10 and int(word) < 1 << 32):
            ctx.fault("value.wrong", mark, f"'{word}' is not an area number.", "Write a number.")
        elif int(word) == 0 and kind != "normal":
            ctx.fault("ospf.backbone", mark, "area 0 is the backbone and cannot be a stub.", "Remove it.")
        else:
            areas[int(word)] = kind
    return areas


def rip(ctx: Context, name: str, device: DeviceIn, interfaces: Mapping[str, Interface]) -> RipProcess | None:
    """The RIP process; it runs where an interface speaks RIP, settings or none."""
    speaks = any(i.rip for i in interfaces.values())
    if device.rip is None:
        return RipProcess(ctx.mark("devices", name), {}) if speaks else None
    mark = ctx.mark("devices", name, "rip")
    if not speaks:
        words = f"{name} has RIP settings, but none of its interfaces speaks RIP: they have no effect."
        ctx.fault("idle.not-enabled", mark, words, "Write rip: active at an interface.", Severity.WARNING)
    entry = device.rip
    given: dict[str, int] = dict(entry.redistribute.items())
    return RipProcess(mark, given, entry.default_route, entry.preference)
