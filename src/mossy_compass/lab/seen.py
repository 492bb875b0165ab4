"""As whom each host is seen outside, by each uplink that it may leave by; and what an uplink lacks.

A host's way out is walked once, to find the device where it leaves one's own networks. The other uplinks of that device are then asked as
if the packet left there: a translation that is written for one of two uplinks only is found before the other one is needed.
"""

from __future__ import annotations

from typing import NamedTuple

from mossy_compass.model.network import Device, Kind, Network
from mossy_compass.packet.address import Address, in_spans
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import TCP
from mossy_compass.plan.actions import Allocate, Half, Pass, Rewrite, Stop
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.order import FILTERS
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.rows import Row
from mossy_compass.proof.hidden import comes_back
from mossy_compass.walk.execute import address_of_pool
from mossy_compass.walk.journey import Hop, Journey
from mossy_compass.walk.question import Options
from mossy_compass.walk.trace import trace_one

SERVICE = "tcp/443"
"""What hosts ask the world for here; rules that are about other services are not seen by this."""
USUAL_FAR = {4: Address(4, (203 << 24) + (113 << 8) + 80), 6: Address(6, (0x20010DB8 << 96) + (0xFFFF << 80) + 0x80)}
"""Whom they ask where the network has no far host: addresses for documents (RFC 5737, RFC 3849), which nobody has."""


class SeenAs(NamedTuple):
    """As whom a host is seen by an uplink.

    Attributes:
        host, address: who sends.
        device, uplink: by which interface it leaves.
        outer: the source as the world sees it; None where nothing is known to leave there.
        rule: id of the translation rule; empty where none matched.
        now: it leaves by this uplink today.
        lacking: it leaves with an address that nobody out there can answer to.
        note: why nothing left, where that is so.

    """

    host: str
    address: Address
    device: str
    uplink: str
    outer: Address | None
    rule: str = ""
    now: bool = False
    lacking: bool = False
    note: str = ""


def seen(plan: Plan, family: int = 4) -> list[SeenAs]:
    """As whom every host is seen outside, uplink by uplink, those that it does not use now as if it did.

    Args:
        plan: the network.
        family: 4 or 6.

    """
    far = _far(plan.network, family)
    out: list[SeenAs] = []
    for device in plan.network.devices.values():
        address = _address(device, family) if device.kind is Kind.HOST else None
        if address is None or not in_spans(address.key, plan.network.local):
            continue
        journey = trace_one(plan, device.name, str(far), SERVICE, Options(family=family))
        out += _of_host(plan, device.name, address, far, journey)
    return out


def _of_host(plan: Plan, host: str, address: Address, far: Address, journey: Journey) -> list[SeenAs]:
    """As whom a host is seen by the uplinks of the device where it leaves."""
    edge = next((h for h in journey.there.hops if h.leaving and _leads_out(plan, h)), None)
    if edge is None or edge.leaving is None:
        end = journey.there.end
        return [SeenAs(host, address, end, "", None, note=f"does not get out: {journey.cause} at {end}")]
    here = plan.device(edge.device)
    others = [p for p in sorted(here.outside) if p != edge.leaving and _has(here, p, address.family)]
    source = next((r.saw for r in edge.rulings), journey.there.packet).source
    found = [
        _by(plan, here, host, source, far, edge.arriving, p, p == edge.leaving)._replace(address=address)
        for p in (edge.leaving, *others)
    ]
    if journey.answered:  # whatever the address is, the world knows a way back to it
        found[0] = found[0]._replace(lacking=False)
    elif journey.lost == "back":
        words = f"the answer is lost at {journey.deciding.end}: {journey.cause}"
        found[0] = found[0]._replace(lacking=True, note=f"rule {found[0].rule}, and {words}" if found[0].rule else words)
    return found


def _leads_out(plan: Plan, hop: Hop) -> bool:
    """Whether a device sends a packet out of one's own networks: by an outside interface, or to what stands for the world."""
    following = plan.network.devices.get(hop.next_device or "")
    world = following is not None and following.kind is Kind.INTERNET
    return world or (hop.leaving is not None and plan.device(hop.device).is_outside(hop.leaving))


def _by(
    plan: Plan, here: DevicePlan, host: str, source: Address, far: Address, arriving: str | None, uplink: str, now: bool
) -> SeenAs:
    """As whom a source is seen by one uplink of a device."""
    facts = Facts(Packet(TCP, source, far, 49152, 443, flags="SYN"), arriving, None, uplink, device=here.name)
    facts.relation = Relation.OPENING
    facts.switched = _switched_by(here, facts)
    row = here.translations[Half.SOURCE].first(facts) if here.device.translate else None
    outer = _outer(here, row, source, uplink)
    foreign = [a.address for a in here.device.interfaces[uplink].addresses if a.address.family == source.family]
    public = bool(foreign) and not any(in_spans(a.key, plan.network.local) for a in foreign)
    led = outer is None or outer in here.own or outer == source or comes_back(plan, here, uplink, outer)
    lacking = outer is None or (public and outer.is_private) or not led
    note = f"{uplink} has no address to give" if outer is None else ""
    return SeenAs(host, source, here.name, uplink, outer, row.id if row is not None else "", now, lacking, note)


def _switched_by(here: DevicePlan, facts: Facts) -> str:
    """The rule with a switch that would let a packet pass by an uplink; empty for none, and where it would not pass."""
    found = ""
    for step in here.steps(facts.arriving):
        about = step.stage in FILTERS and (step.about is None or step.about(facts))
        decision = step.decide(facts) if about else None
        if decision is None:
            continue
        if isinstance(decision.actions[-1], Stop):
            return ""
        if any(isinstance(a, Pass) and a.translates for a in decision.actions):
            found = f"{decision.table.name} {decision.row}"
    return found


def _outer(here: DevicePlan, row: Row | None, source: Address, uplink: str) -> Address | None:
    """What a translation row makes of a source as it leaves by an uplink."""
    for action in row.actions if row is not None else ():
        if isinstance(action, Allocate):
            return address_of_pool(action.pool, source) if action.pool else here.source_for(uplink, source.family)
        if isinstance(action, Rewrite):
            return Address(source.family, source.value + action.shift)
    return source


def _far(network: Network, family: int) -> Address:
    """Whom hosts ask: a far host's address, or one that stands for any."""
    held = (a for d in network.devices.values() for f in d.far_hosts.values() for a in f.addresses if a.family == family)
    return next(held, USUAL_FAR[family])


def _address(device: Device, family: int) -> Address | None:
    """A host's first address of a family that means something beyond its segment."""
    held = (a.address for p in device.interfaces.values() for a in p.addresses)
    return next((a for a in held if a.family == family and not a.is_link_local), None)


def _has(here: DevicePlan, port: str, family: int) -> bool:
    """Whether an interface has an address of a family."""
    return any(a.address.family == family for a in here.device.interfaces[port].addresses)
