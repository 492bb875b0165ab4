"""Devices that keep sessions and see one direction of a pair only, by the routes of both ends.

A device that sees nothing but the answers has no session for them: TCP fails there (``session.none``), though every list permits
it. No test finds that unless it happens to open in the right direction. Here routes alone are asked, with every equally good way:
what lists stop is another question. Where a device on the way translates sources, or steers by policy routes, answers do not
follow the routes to the sender, and nothing is claimed.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from mossy_compass.errors import NotConverged
from mossy_compass.model.network import Device, Kind
from mossy_compass.model.settings import UnknownSession
from mossy_compass.packet.address import Address
from mossy_compass.packet.service import TCP
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.stages.tunnel import other_end
from mossy_compass.routing.table import NextHop

MOST_PAIRS = 2_500
"""So many pairs of subnets are looked at, each both ways; of a network with more, the first ones by name."""


class OneWay(NamedTuple):
    """A device that sees packets from one end to another, and not, or not always, those back.

    Attributes:
        device: which; it keeps sessions of TCP.
        asker, answerer: hosts: it sees what the answerer sends to the asker.
        other: a device that the packets of the asker cross instead.
        lost: what belongs to no session is lost there; and ``strict``, what its session does not expect.
        always: it never sees what the asker sends; else equally good ways share, and it may see one direction alone.
        more: further pairs of subnets for which that is so.

    """

    device: str
    asker: str
    answerer: str
    other: str
    always: bool
    more: int = 0
    lost: bool = True
    strict: bool = True


def one_way(plan: Plan) -> tuple[OneWay, ...]:
    """Every inspecting device that sees one direction of some pair of subnets only; one pair is named for each.

    Args:
        plan: the network.

    """
    inspecting = [d.name for d in plan.network.devices.values() if _inspects(d)]
    if not inspecting:
        return ()
    ends = list(_ends(plan))
    pairs = [(one, other) for one in ends for other in ends if one is not other][:MOST_PAIRS]
    found: dict[tuple[str, bool], OneWay] = {}
    for asker, answerer in pairs:
        forth, back = _ways(plan, asker, answerer), _ways(plan, answerer, asker)
        if forth is None or back is None:
            continue
        for name in inspecting:
            held = _split(name, (asker, answerer), forth, back)
            if held is not None:
                key = (name, held.always)
                device = plan.network.devices[name]
                held = held._replace(lost=_loses(device), strict=_strict(device))
                found[key] = found[key]._replace(more=found[key].more + 1) if key in found else held
    # Who never sees one direction is told; that others' pairs are shared by chance too is the lesser news of the same device.
    return tuple(f for f in found.values() if f.always or (f.device, True) not in found)


class _End(NamedTuple):
    """A host that stands for its subnet.

    Attributes:
        host: its name.
        address: of it.

    """

    host: str
    address: Address


class _Ways(NamedTuple):
    """Where routes may lead what one end sends to another.

    Attributes:
        nexts: for each device on some way, the devices that come next.
        first, last: both ends.

    """

    nexts: dict[str, frozenset[str]]
    first: str
    last: str

    def always(self, name: str) -> bool:
        """Whether every way crosses a device."""
        waiting, seen = [self.first], {self.first, name}
        while waiting:
            here = waiting.pop()
            if here == self.last:
                return False
            fresh = self.nexts.get(here, frozenset()) - seen
            seen |= fresh
            waiting += fresh
        return True


def _split(name: str, ends: tuple[_End, _End], forth: _Ways, back: _Ways) -> OneWay | None:
    """What a device sees of a pair, where that is not both directions or none."""
    asker, answerer = ends
    if name not in back.nexts or name in (asker.host, answerer.host):
        return None
    if name in forth.nexts and forth.always(name) and back.always(name):
        return None
    between = [n for n in forth.nexts if n not in (asker.host, answerer.host, name)]
    # On every way of one direction and none of the other, the device that is crossed instead is the one to name.
    other = next((n for n in between if n not in back.nexts), next(iter(between), ""))
    if name not in forth.nexts:
        return OneWay(name, asker.host, answerer.host, other, back.always(name))
    return OneWay(name, asker.host, answerer.host, other, False)


def _inspects_tcp(device: Device) -> bool:
    """Whether it keeps sessions of TCP for packets that come or go by any interface."""
    sides = (p.inspects for p in device.interfaces.values() if p.inspects is not None)
    return TCP in device.stateful or any(TCP in i.arriving | i.leaving for i in sides)


def _inspects(device: Device) -> bool:
    """Whether a device loses packets of TCP of which it sees one direction alone."""
    return device.layer3 and _inspects_tcp(device) and (_loses(device) or _strict(device))


def _loses(device: Device) -> bool:
    """Whether what belongs to no session is lost; filtered ones pass where a list permits them."""
    return device.settings.unknown_session in (UnknownSession.BY_PROTOCOL, UnknownSession.DROP)


def _strict(device: Device) -> bool:
    """Whether data of a session whose answer was not seen is lost."""
    return device.settings.text("session-phase") == "strict"


def _ends(plan: Plan) -> Iterator[_End]:
    """One host for each subnet that has any, by name of the host."""
    told = set()
    for device in sorted(plan.network.devices.values(), key=lambda d: d.name):
        for port in device.interfaces.values() if device.kind is Kind.HOST else ():
            for held in port.addresses:
                if held.prefix not in told and plan.owners(held.address) == (device.name,):
                    told.add(held.prefix)
                    yield _End(device.name, held.address)


def _ways(plan: Plan, start: _End, goal: _End) -> _Ways | None:
    """The devices that equally good routes may lead through from one end to another; None where that cannot be told by routes."""
    if start.address.family != goal.address.family:
        return None
    nexts: dict[str, frozenset[str]] = {}
    waiting = [start.host]
    while waiting:
        name = waiting.pop()
        if name in nexts:
            continue
        if name == goal.host:
            nexts[name] = frozenset()
            continue
        device = plan.network.devices.get(name)
        if (
            device is None
            or not device.layer3
            or device.translate
            or device.policy_routes
            or (nexts and not device.settings.forwarding)
        ):
            return None
        following = _following(plan, name, goal)
        if not following:
            return None  # some way ends there: whatever is wrong, it is something else
        nexts[name] = following
        waiting += following
    return _Ways(nexts, start.host, goal.host)


def _following(plan: Plan, name: str, goal: _End) -> frozenset[str]:
    """The devices to which the best routes of a device lead next; nothing where some of them lead nowhere."""
    try:
        route = plan.device(name).table.lookup(goal.address)
    except NotConverged:
        return frozenset()
    if route is None or not route.hops:
        return frozenset()
    found = [_next(plan, name, hop, goal) for hop in route.hops]
    return frozenset(n for n in found if n is not None) if all(found) else frozenset()


def _next(plan: Plan, name: str, hop: NextHop, goal: _End) -> str | None:
    """Who gets what leaves by a way: the next hop, whoever is at the other end of a tunnel, or the goal itself on the segment."""
    if hop.address is not None:
        return plan.owner(hop.address)
    if not hop.tunnel:
        return goal.host
    end = other_end(plan.device(name), hop.interface)
    return end[0] if end is not None else None
