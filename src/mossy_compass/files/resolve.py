"""A document of the right shape into the model of the whole network.

The order matters once: what rules refer to comes before the rules. Everything else may
refer forwards and backwards, as people write it. Places of values go into the model as
marks, which take no part in equality.
"""

from __future__ import annotations

from mossy_compass.files.context import Context
from mossy_compass.files.devices import device
from mossy_compass.files.hours import hours
from mossy_compass.files.names import BUILT_IN_GROUPS, expected, group, services
from mossy_compass.files.ports import segments
from mossy_compass.files.rules import access_list
from mossy_compass.files.steering import with_switches
from mossy_compass.files.zones import application
from mossy_compass.model.network import Network
from mossy_compass.model.terms import ServiceGroup
from mossy_compass.packet.service import BUILT_IN_SERVICES


def network(ctx: Context) -> Network:
    """The model; every fault is noted in the context's problems."""
    doc = ctx.doc
    groups = {n: group(ctx, n) for n in doc.groups}
    named = {
        n: ServiceGroup(
            n, services(ctx, s.members, ("services", n, "members")), ctx.mark("services", n), s.about, expected(ctx, n, s)
        )
        for n, s in doc.services.items()
    }
    _name_faults(ctx)
    windows = {n: hours(ctx, n, h) for n, h in doc.hours.items()}
    applications = {n: application(ctx, n, a) for n, a in doc.applications.items()}
    lists = {n: access_list(ctx, n) for n in doc.lists}
    devices = {n: with_switches(device(ctx, n, d), lists) for n, d in doc.devices.items()}
    return Network(
        doc.title,
        ctx.live.mark,
        devices,
        segments(ctx, devices),
        lists,
        groups,
        named,
        {n: tuple(a) for n, a in doc.names.items()},
        ctx.local,
        doc.about,
        windows,
        applications,
    )


def _name_faults(ctx: Context) -> None:
    """Names that would be read two ways."""
    for name in ctx.doc.services:
        if name in BUILT_IN_SERVICES:
            known = ", ".join(map(str, BUILT_IN_SERVICES[name]))
            words = f"'{name}' is the name of a well-known service ({known}); here it would mean something else."
            ctx.fault("service.built-in", ctx.mark("services", name), words, "Choose another name.")
    for section in ("groups", "devices", "names", "segments"):
        for name in set(BUILT_IN_GROUPS) & set(getattr(ctx.doc, section)):
            words = f"'{name}' is a built-in group; a rule that says it would not mean this."
            ctx.fault("group.built-in", ctx.mark(section, name), words, "Choose another name.")
    for section in ("devices", "names"):
        for name in ctx.doc.groups:
            if name in getattr(ctx.doc, section):
                words = f"'{name}' is also one of the {section}; a rule that says it would be read two ways."
                also = ((ctx.mark(section, name), "the other one"),)
                ctx.fault("name.twice", ctx.mark("groups", name), words, "Choose another name.", also=also)
    _records(ctx)


def _records(ctx: Context) -> None:
    """Name records that are called like a device, and say something else."""
    for name, addresses in ctx.doc.names.items():
        if name in ctx.doc.devices and set(addresses) != set(ctx.addresses_of(name)):
            words = f"the name record '{name}' is also a device, which has other addresses: they would be taken for one another."
            also = ((ctx.mark("devices", name), "the device"),)
            ctx.fault("name.twice", ctx.mark("names", name), words, "Choose another name.", also=also)
