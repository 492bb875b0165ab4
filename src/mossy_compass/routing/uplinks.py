"""Which members of a group of uplinks can serve as things stand, and in which order they are taken.

A member serves while its interface is up and the probe that it is bound to is; whether it has an address, or a route, is asked for
each destination. The last resort serves only while no member does.
"""

from __future__ import annotations

from mossy_compass.model.network import LAST_RESORT, Choosing, Device
from mossy_compass.routing.domains import Domains


def idle(device: Device, domains: Domains, group: str, member: str) -> str:
    """Why a member of a group cannot serve, in words; empty where it can.

    Args:
        device: whose group it is.
        domains: who hears whom.
        group, member: their names.

    """
    link = domains.link(device.name, member)
    if not link.up:
        return f"{member} is down ({link.why})"
    probe = device.member_probes.get((group, member), "")
    return f"{member}: {probe_words(device, probe)}" if probe and domains.network.probe_down(device, probe) else ""


def probe_words(device: Device, probe: str) -> str:
    """That a probe is down, in words."""
    off = probe in device.probes and not device.probes[probe].enabled
    return f"probe {probe} is {'switched off, and counts as down' if off else 'down'}"


def serving(device: Device, domains: Domains, group: str) -> tuple[str, ...]:
    """The members of a group that can serve, the one to be taken first; the last resort alone where none can.

    Args:
        device: whose group it is.
        domains: who hears whom.
        group: its name.

    """
    found = device.groups[group]
    able = tuple(m for m in found.members if not idle(device, domains, group, m))
    if not able and found.last_resort and not idle(device, domains, group, found.last_resort):
        return (found.last_resort,)
    best = domains.network.best_of(device.name, group) if found.choose is Choosing.BEST else None
    return tuple(sorted(able, key=lambda m: m != best)) if best in able else able


def in_use(device: Device, domains: Domains, group: str) -> tuple[str, ...]:
    """The members that new flows leave by: all that can serve where they are shared, else the first of these.

    Args:
        device: whose group it is.
        domains: who hears whom.
        group: its name.

    """
    able = serving(device, domains, group)
    return able if device.groups[group].choose is Choosing.SHARE else able[:1]


def on_last_resort(device: Device, domains: Domains, group: str) -> bool:
    """Whether the last resort of a group is in use: no member can serve, and it can."""
    last = device.groups[group].last_resort if group in device.groups else ""
    return bool(last) and serving(device, domains, group) == (last,)


def waits(device: Device, domains: Domains, word: str) -> str:
    """Why what is bound to a probe, or to a last resort, is not to be used, in words; empty where it is.

    Args:
        device: whose it is.
        domains: who hears whom.
        word: as ``while`` says it; empty for nothing.

    """
    group, slash, _ = word.rpartition(LAST_RESORT)
    if slash:
        return "" if on_last_resort(device, domains, group) else f"the last resort of {group} is not in use"
    return probe_words(device, word) if word and domains.network.probe_down(device, word) else ""
