"""What could help where something lies behind a loss: changes to try at the place of that, and not where the packet was dropped.

Each is a few steps of a change file, as those of ``proposals.py``; whether it helps is for whoever tries it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from mossy_compass.model.network import Device, Interface, PortState
from mossy_compass.packet.address import Address
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because
from mossy_compass.walk.journey import Journey

Step = Mapping[str, Any]
"""A step of a change file, as plain data."""


class Proposal(NamedTuple):
    """Something that could help.

    Attributes:
        words: what is done.
        steps: the same as steps of a change file.
        narrow: it is about this flow alone, and may be joined with others of its kind.

    """

    words: str
    steps: tuple[Step, ...]
    narrow: bool = False


def of_root(plan: Plan, journey: Journey) -> Iterator[Proposal]:
    """What could help at the place of what lies behind a loss, or of what is noted beside it.

    Args:
        plan: the network.
        journey: the packet that was lost, and why.

    """
    if journey.behind is not None:
        yield from _behind(plan, journey.behind)
    for told in journey.told if journey.cause == "route.none" else ():
        if told.code == "told.default-kept":
            device, protocol = told.named["device"], told.named["protocol_name"].lower()
            yield from _announcing(plan.network.devices[device], protocol)


def _behind(plan: Plan, behind: Because) -> Iterator[Proposal]:
    """By the code of what lies behind it."""
    named, devices = behind.named, plan.network.devices
    if behind.code == "root.stranded" and named["device"]:
        length = _length(devices[named["owner"]], named["address"])
        yield from _longer(devices[named["device"]], named["port"], str(named["held"]), length)
    elif behind.code == "root.off-link":
        length = _length(devices[named["owner"]], named["address"])
        device = devices[named["device"]]
        port = next(p.name for p in device.interfaces.values() if named["held"] in p.addresses)
        yield from _longer(device, port, str(named["held"]), length)
    elif behind.code == "root.unannounced":
        yield from _speaking(devices[named["device"]], named["port"], named["protocol_name"].lower())
    elif behind.code == "root.exempt":
        yield from _before_exemption(plan, named["device"], named["row"], named["source"])
    elif behind.code == "root.unled":
        what = f"devices/{named['device']}/translate/{named['row']}/becomes"
        words = f"let translation rule {named['row']} of {named['device']} give the leaving interface's address"
        yield put(words, what, "interface")
    elif behind.code in ("root.inactive", "root.cut-off", "root.unheard", "root.down"):
        yield from _up_again(plan, devices[named["device"]])


def _length(device: Device, address: Address) -> int:
    """The length of prefix that a device has one of its addresses with."""
    return next(a.length for p in device.interfaces.values() for a in p.addresses if a.address == address)


def _longer(device: Device, port: str, held: str, length: int) -> Iterator[Proposal]:
    """An address with another length of prefix, wherever the file has it."""
    old = held.rpartition("/")[0]
    new, words = f"{old}/{length}", f"the address of {device.name}/{port}: {old}/{length}, instead of {held}"
    interface = device.interfaces[port]
    places = [f"devices/{device.name}/interfaces/{port}/address/{held}", f"devices/{device.name}/interfaces/{port}/address"]
    if len(device.interfaces) == 1:
        places += [f"devices/{device.name}/address/{held}", f"devices/{device.name}/address"]
    if interface == Interface(interface.name, interface.mark, interface.addresses):  # written as an address alone
        places += [f"devices/{device.name}/interfaces/{port}/{held}", f"devices/{device.name}/interfaces/{port}"]
    for place in places:
        if len(interface.addresses) == 1 or place.endswith(held):  # the others stay
            yield put(words, place, new)


def _speaking(device: Device, port: str, protocol: str) -> Iterator[Proposal]:
    """A subnet that a router leaves out of a protocol that it speaks: its interface speaks it too, to nobody."""
    into = f"devices/{device.name}/interfaces/{port}"
    value: Any = "passive"
    if protocol == "ospf":
        area = next((p.ospf.area for p in device.interfaces.values() if p.ospf is not None and not p.ospf.passive), 0)
        value = {"area": area, "passive": True}
    words = f"let {device.name}/{port} speak {protocol.upper()} too, passive"
    yield Proposal(words, ({"insert": {"into": into, "name": protocol, "value": value}},), True)
    alone = device.interfaces[port].addresses
    if len(alone) == 1:
        yield Proposal(words, ({"replace": {"what": into, "with": {"address": str(alone[0]), protocol: value}}},), True)


def _announcing(device: Device, protocol: str) -> Iterator[Proposal]:
    """A default route that a router keeps to itself."""
    value: Any = {} if protocol == "ospf" else True
    words = f"let {device.name} announce its default route by {protocol.upper()}"
    into = f"devices/{device.name}"
    process = device.ospf if protocol == "ospf" else device.rip
    if process is None:
        yield Proposal(words, ({"insert": {"into": into, "name": protocol, "value": {"default-route": value}}},), True)
    else:
        yield Proposal(words, ({"insert": {"into": f"{into}/{protocol}", "name": "default-route", "value": value}},), True)


def _before_exemption(plan: Plan, device: str, row: str, source: Address) -> Iterator[Proposal]:
    """A rule that exempts what should be hidden: off, or with one that translates the source before it."""
    what = f"devices/{device}/translate"
    yield Proposal(f"disable translation rule {row} of {device}", ({"disable": f"{what}/{row}"},))
    rule = next((t for t in plan.network.devices[device].translate if t.id == row), None)
    if rule is not None and rule.leaving:
        value = {"source": str(source), "leaving": list(rule.leaving), "becomes": "interface"}
        words = f"translate {source} at {device}, above translation rule {row}"
        yield Proposal(words, ({"insert": {"into": what, "value": value, "before": row}},), True)


def _up_again(plan: Plan, device: Device) -> Iterator[Proposal]:
    """The interfaces that are disabled at a router, or at the other end of its cables."""
    yield from enabling(plan, [(device.name, port) for port in device.interfaces])


def enabling(plan: Plan, ports: Sequence[tuple[str, str]], more: Sequence[tuple[str, str]] = ()) -> Iterator[Proposal]:
    """Those of some interfaces that are disabled, or of the others on their cables.

    Args:
        plan: the network.
        ports: device and interface of each.
        more: further ones, alone.

    """
    cables = (plan.domains.segment_of(*port) for port in ports)
    beside = (member for cable in cables if cable is not None for member in cable.members)
    for name, port in dict.fromkeys((*ports, *beside, *more)):
        if plan.network.devices[name].interfaces[port].state is PortState.DISABLED:
            yield put(f"enable {name}/{port}", f"devices/{name}/interfaces/{port}/state", "up")


def put(words: str, what: str, value: str) -> Proposal:
    """Another value in the place of one.

    Args:
        words: what is done.
        what: the place in the file.
        value: what stands there then.

    """
    return Proposal(words, ({"replace": {"what": what, "with": value}},), True)
