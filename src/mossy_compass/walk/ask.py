"""From names and numbers to a test packet: who sends, to which address, which service."""

from __future__ import annotations

from dataclasses import dataclass

from mossy_compass.errors import AddressError, QuestionError
from mossy_compass.marks import hint, nearest
from mossy_compass.model.network import Device, FarHost, Network
from mossy_compass.packet.address import Address, parse_address
from mossy_compass.packet.packet import DEFAULT_SIZE, DEFAULT_TTL, FIRST_DYNAMIC_PORT, Packet, echo_request
from mossy_compass.packet.service import BUILT_IN_SERVICES, ICMP, ICMP6, TCP, WITH_PORTS, Service, parse_service
from mossy_compass.plan.plan import Plan
from mossy_compass.walk.journey import Because

LARGEST = 65535


@dataclass(frozen=True, slots=True)
class Question:
    """A test packet to be sent, resolved to addresses.

    Attributes:
        sender: name of the device or far host.
        device: the device that sends.
        target: what was asked for.
        packet: the packet; None when no packet could be made, and then ``stuck`` says why.

    """

    sender: str
    device: str
    target: str
    what: str
    packet: Packet | None
    stuck: tuple[str, Because, str] | None = None
    destination: Address | None = None


def _sender(network: Network, name: str) -> tuple[Device, FarHost | None]:
    device, _, port = name.partition("/")
    if device in network.devices:
        found = network.devices[device]
        if not found.layer3:
            raise QuestionError(f"{device} is a switch: it has no address to send from.")
        if port and port not in found.interfaces:
            raise QuestionError(f"{device} has no interface '{port}'.", nearest(port, found.interfaces))
        return found, None
    far = network.far_host(name)
    if far is not None:
        return far
    known = [n for n, d in network.devices.items() if d.layer3] + [f for d in network.devices.values() for f in d.far_hosts]
    raise QuestionError(f"there is no device '{name}' to send from. {hint(name, known, 'devices')}")


def addresses_of(network: Network, target: str) -> tuple[Address, ...]:
    """The addresses that a device, far host, name record or address text stands for.

    Raises:
        QuestionError: it is none of these.

    """
    device, _, port = target.partition("/")
    if device in network.devices:
        found = network.devices[device]
        if port and port not in found.interfaces:
            raise QuestionError(f"{device} has no interface '{port}'.", nearest(port, found.interfaces))
        own = [a for a, name in found.own_addresses() if not port or name == port]
        if not own:
            raise QuestionError(f"{target} has no address to send to.")
        return tuple(own)
    far = network.far_host(target)
    if far is not None:
        return far[1].addresses
    if target in network.names:
        return network.names[target]
    if not target.strip():
        raise QuestionError("the target is empty; name a device, a name or an address.")
    try:
        literal = parse_address(target)
        if literal.special:
            raise QuestionError(f"{target} is {literal.special}: a test packet goes to one device. Name a device or its address.")
        return (literal,)
    except AddressError:
        if (target[:1].isdigit() and target.replace(".", "").isdigit()) or ":" in target:
            raise
    return ()


def service_of(network: Network, text: str) -> Service | None:
    """The service that a test asks for; None for an echo request. A named service stands for its first member.

    Raises:
        QuestionError: no such service.

    """
    if text in ("ping", "echo", "icmp", "icmp6"):
        return None
    if text in network.services and network.services[text].services:
        return network.services[text].services[0]
    if text in BUILT_IN_SERVICES:
        return BUILT_IN_SERVICES[text][0]
    try:
        return parse_service(text)
    except AddressError as fault:
        if "/" in text:
            raise
        known = {*network.services, *BUILT_IN_SERVICES, "ping"}
        raise QuestionError(
            f"there is no service '{text}'. {hint(text, known, 'services')} Or write protocol/port, like tcp/443."
        ) from fault


def ask(
    plan: Plan,
    sender: str,
    target: str,
    service: str = "ping",
    *,
    from_port: int | None = None,
    source: str | None = None,
    ttl: int = DEFAULT_TTL,
    family: int | None = None,
    size: int = DEFAULT_SIZE,
    addresses: tuple[Address, ...] = (),
) -> Question:
    """Make the test packet that a question describes.

    Args:
        sender: device, ``device/interface`` for its address, or far host.
        target: device, ``device/interface``, far host, name, or address.
        service: ``tcp/443``, a service name, or ``ping``.
        from_port: source port, or the identifier of an echo request.
        source: source address, instead of the one that the sender would choose.
        ttl: time to live, 1 to 255.
        family: 4 or 6, to choose among the target's addresses.
        size: length of the whole packet in bytes.
        addresses: what the target's name was found to stand for, when a lookup has been made.

    Raises:
        QuestionError: the network has no such sender or service, or the numbers are out of range.

    """
    network = plan.network
    device, far = _sender(network, sender)
    if not 1 <= ttl <= 255:
        raise QuestionError(f"a TTL is 1 to 255, not {ttl}.")
    if from_port is not None and not 0 <= from_port <= 65535:
        raise QuestionError(f"a source port is 0 to 65535, not {from_port}.")
    if not 28 <= size <= LARGEST:
        raise QuestionError(f"a packet has 28 to {LARGEST} bytes, not {size}.")
    wanted = service_of(network, service)
    if wanted is not None and wanted.protocol in WITH_PORTS and wanted.ports is None:
        raise QuestionError(f"'{service}' needs a port; write one like {service}/443.")
    if (
        wanted is not None
        and wanted.ports is not None
        and wanted.ports.first != wanted.ports.last
        and wanted.protocol in WITH_PORTS
    ):
        wanted = Service(wanted.protocol, wanted.ports._replace(last=wanted.ports.first))
    what = str(wanted) if wanted else "ping"
    found = addresses or addresses_of(network, target)
    if not found:
        known = [*network.devices, *network.names, *(f for d in network.devices.values() for f in d.far_hosts)]
        because = Because("name", f"no record for '{target}', and {sender} has no resolver to ask")
        return Question(sender, device.name, target, what, None, ("name.unknown", because, str(hint(target, known, "names"))))
    here = plan.device(device.name)
    given = parse_address(source) if source else None
    families = (
        [family]
        if family
        else (
            [given.family]
            if given
            else ([4] if wanted and wanted.protocol == ICMP else [6] if wanted and wanted.protocol == ICMP6 else [])
        )
    )
    own_families = {a.family for a in (far.addresses if far else here.own)}
    usable = [a for a in found if (not families or a.family in families) and a.family in own_families] or [
        a for a in found if not families or a.family in families
    ]
    if not usable:
        raise QuestionError(f"{target} has no IPv{families[0]} address; it has {', '.join(map(str, found))}.")
    destination = usable[0]
    start: Address | None = given or (next((a for a in far.addresses if a.family == destination.family), None) if far else None)
    if start is None:
        _, _, port = sender.partition("/")
        start = here.source_for(port, destination.family) if port else _choose_source(plan, device.name, destination)
    if start is None:
        because = Because("device", f"{sender} has no IPv{destination.family} address", device.mark)
        wanting = [f"no lease for {d}/{i}: {why}" for (d, i), why in plan.routing.leases.wanting.items() if d == device.name]
        if wanting:
            return Question(sender, device.name, target, what, None, ("source.none", because, wanting[0]), destination)
        return Question(sender, device.name, target, what, None, ("source.none", because, ""), destination)
    if start.family != destination.family:
        raise QuestionError(f"source {start} and destination {destination} are of different families.")
    if wanted is None:
        packet = echo_request(start, destination, 1 if from_port is None else from_port, ttl)._replace(size=size)
    elif wanted.protocol in (ICMP, ICMP6):
        if wanted.protocol != (ICMP if destination.family == 4 else ICMP6):
            raise QuestionError(f"{wanted} does not go with {destination}.")
        packet = Packet(
            wanted.protocol,
            start,
            destination,
            1 if from_port is None else from_port,
            0,
            wanted.ports.first if wanted.ports else 8 << 8,
            ttl=ttl,
            size=size,
        )
    else:
        to_port = wanted.ports.first if wanted.ports else 0
        own_port = (FIRST_DYNAMIC_PORT if from_port is None else from_port) if wanted.protocol in WITH_PORTS else 0
        flags = "SYN" if wanted.protocol == TCP else ""
        packet = Packet(wanted.protocol, start, destination, own_port, to_port, -1, flags, ttl, size)
    return Question(sender, device.name, target, what, packet, None, destination)


def _choose_source(plan: Plan, device: str, destination: Address) -> Address | None:
    here = plan.device(device)
    route = here.table.lookup(destination)
    if route is not None and route.hops:
        hop = route.hops[0]
        return here.source_for(hop.interface, destination.family, hop.address or destination)
    for port in here.device.interfaces:
        found = here.source_for(port, destination.family)
        if found is not None:
            return found
    return None
