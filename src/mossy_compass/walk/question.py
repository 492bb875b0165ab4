"""From names and numbers to a test packet: who sends, to which address, which service.

A question is checked before a packet is made: who sends it, which of several addresses is
meant, of which family, and from which source. What cannot be meant is an error here, with
the names that exist; what can be meant and fails is a journey.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple, Protocol

from mossy_compass.errors import AddressError, QuestionError
from mossy_compass.marks import Hint, hint, nearest
from mossy_compass.model.gates import Application
from mossy_compass.model.network import Device, FarHost, Network, link_locals
from mossy_compass.packet.address import Address, parse_address
from mossy_compass.packet.packet import DEFAULT_SIZE, DEFAULT_TTL, FIRST_DYNAMIC_PORT, Packet, echo_request, later_fragment
from mossy_compass.packet.service import BUILT_IN_SERVICES, ICMP, ICMP6, TCP, WITH_PORTS, Service, parse_service
from mossy_compass.plan.balance import Choose
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import SOME_TIME, Moment
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because
from mossy_compass.plan.replies import own_source

LARGEST = 65535
FIRST_MOMENT, LAST_MOMENT = 0, 7_258_118_399
"""Seconds since 1970 that a test may be at: until the end of 2199."""
PINGS = ("ping", "echo", "icmp", "icmp6")
"""Words for an echo request of the target's family."""


class Stuck(NamedTuple):
    """Why no packet could be made: a code from the table of causes, what it rests on, and a remark.

    Attributes:
        cause: code from the table of causes.
        because: the reason as values.
        remark: what else should be known; None for nothing.

    """

    cause: str
    because: Because
    remark: Because | None = None


class Question(NamedTuple):
    """A test packet to be sent, resolved to addresses.

    Attributes:
        sender: name of the device or far host.
        device: the device that sends.
        target: what was asked for.
        what: the service.
        packet: the packet; None when no packet could be made, and then ``stuck`` says why.
        destination: the address; None when the target has none.
        leaving: the interface that it must leave by: for a link-local destination; None: the routes say.
        moment: what holds for the whole test.
        next_hop: whom it is handed to, where it must leave by an interface; None for the destination itself.

    """

    sender: str
    device: str
    target: str
    what: str
    packet: Packet | None
    stuck: Stuck | None = None
    destination: Address | None = None
    leaving: str | None = None
    moment: Moment = SOME_TIME
    next_hop: Address | None = None


class Instant(int):
    """Seconds since 1970, UTC, as the core counts time. A bare number is none: nobody knows what it counts, and from when."""

    __slots__ = ()


class Dated(Protocol):
    """A ``datetime`` with its time zone, by what is asked of it; the core has no calendar of its own."""

    @property
    def tzinfo(self) -> object:
        """The zone; None where it has none."""

    def timestamp(self) -> float:
        """Seconds since 1970, UTC."""


def instant(when: Dated | Instant) -> Instant:
    """A time as the core counts it.

    Raises:
        QuestionError: it is no datetime, or has no time zone.

    """
    if isinstance(when, Instant):
        return when
    if not hasattr(when, "timestamp") or getattr(when, "tzinfo", None) is None:
        form = "datetime(2026, 5, 4, 10, 30, tzinfo=timezone.utc)"
        raise QuestionError(f"a time is a datetime with its time zone, like {form}, not {when!r}.")
    return Instant(when.timestamp())


@dataclass(frozen=True, slots=True)
class Options:
    """What may be said of a test packet beside its ends and its service.

    Attributes:
        source_port: source port, or the identifier of an echo request; None: a usual one.
        source: source address, instead of the one that the sender would choose.
        ttl: time to live in hops, 1 to 255.
        family: 4 or 6, to choose among the target's addresses.
        size: length of the whole packet in bytes, 28 to 65535.
        at: the time of the test, a datetime with its time zone, kept as an instant; None: no time is given, and no window of
            time is open.
        application: what application the flow is of, by its name; None: the file's table says.
        last_resort: the uplink of last resort is in use.
        fragment: send a fragment other than the first.

    """

    source_port: int | None = None
    source: str | None = None
    ttl: int = DEFAULT_TTL
    family: int | None = None
    size: int = DEFAULT_SIZE
    at: Dated | Instant | None = None
    application: str | None = None
    last_resort: bool = False
    fragment: bool = False

    def __post_init__(self) -> None:
        if self.at is not None:
            object.__setattr__(self, "at", instant(self.at))

    @property
    def now(self) -> Instant | None:
        """The time of the test, as the core counts it."""
        return self.at if isinstance(self.at, Instant) else None

    def check(self) -> None:
        """Refuse what no packet has.

        Raises:
            QuestionError: a number is out of range.

        """
        if not 1 <= self.ttl <= 255:
            raise QuestionError(f"a TTL is 1 to 255, not {self.ttl}.")
        if self.source_port is not None and not 0 <= self.source_port <= LARGEST:
            raise QuestionError(f"a source port is 0 to 65535, not {self.source_port}.")
        if not 28 <= self.size <= LARGEST:
            raise QuestionError(f"a packet has 28 to {LARGEST} bytes, not {self.size}.")
        if self.now is not None and not FIRST_MOMENT <= self.now <= LAST_MOMENT:
            raise QuestionError("the time of a test lies in the years 1970 to 2199.")
        if self.family not in (None, 4, 6):
            raise QuestionError(f"a family of addresses is 4 or 6, not {self.family}.")


USUAL = Options()
"""What is asked for where nothing is said."""


def ends(network: Network) -> list[str]:
    """Every name that can send or be sent to: devices, far hosts, name records."""
    far = [f for d in network.devices.values() for f in d.far_hosts]
    return [*(n for n, d in network.devices.items() if d.layer3), *far, *network.names]


def sender_of(network: Network, name: str) -> tuple[Device, FarHost | None]:
    """The device that sends under a name, with the far host that it stands for.

    Raises:
        QuestionError: nobody can send under that name.

    """
    device, _, port = name.partition("/")
    if device in network.devices:
        found = network.devices[device]
        if not found.layer3:
            raise QuestionError(f"{device} is a switch: it has no address to send from. Name a device with an address.")
        _known_port(found, port)
        return found, None
    far = network.far_host(name)
    if far is not None:
        return far
    _with_port(network, name)
    owner = _owner(network, name)
    if owner:
        raise QuestionError(
            f"{name} is an address of {owner}: name {owner} as the sender, and the address as its source if it has several."
        )
    known = [n for n in ends(network) if n not in network.names]
    raise QuestionError(f"there is no device '{name}' to send from. {hint(name, known, 'senders')}")


def _owner(network: Network, word: str) -> str:
    """Who has an address; empty for what is no address, or nobody's."""
    try:
        return network.owner_of(parse_address(word)) or ""
    except AddressError:
        return ""


def _known_port(device: Device, port: str) -> None:
    """An interface that the device has, or an error that names those that it has."""
    if port and port not in device.interfaces:
        known = f"Its interfaces are: {', '.join(device.interfaces) or 'none'}."
        raise QuestionError(f"{device.name} has no interface '{port}'. {known}", nearest(port, device.interfaces))


def addresses_of(network: Network, target: str) -> tuple[Address, ...]:
    """The addresses that a device, far host, name record or address text stands for; empty when it is none of these.

    Raises:
        QuestionError: it has no address, or one that no test packet goes to.

    """
    device, _, port = target.partition("/")
    if device in network.devices:
        found = network.devices[device]
        _known_port(found, port)
        own = [a for a, name in found.own_addresses() if not port or name == port]
        if not own:
            raise QuestionError(f"{target} has no address to send to. Give it one, or name another target.")
        return tuple(sorted(own, key=lambda a: a.is_link_local))
    far = network.far_host(target)
    if far is not None:
        return far[1].addresses
    if target in network.names:
        return network.names[target]
    _with_port(network, target)
    return _literal(target)


def _literal(target: str) -> tuple[Address, ...]:
    """The address that a target is written as; None for a name."""
    if not target.strip():
        raise QuestionError("the target is empty; name a device, a name or an address.")
    try:
        literal = parse_address(target)
    except AddressError:
        if (target[:1].isdigit() and target.replace(".", "").isdigit()) or ":" in target:
            raise
        return ()
    if literal.special:
        raise QuestionError(f"{target} is {literal.special}: a test packet goes to one device. Name a device or its address.")
    return (literal,)


_NEAR = 0.85
"""So like must a word be to a known name that a slip of the pen is likelier than a name that a resolver is to be asked for."""


def check_target(network: Network, target: str) -> None:
    """Refuse a target that is known to be something else than one address, or all but spelt as a known name.

    A lookup of it would only say that nobody has such a name, which is true and no help.

    Raises:
        QuestionError: it is a group, a segment, a zone, a service or a list; or nearly a known name.

    """
    if any(target in (d.records or {}) for d in network.devices.values()):
        return
    zones = {i.zone for d in network.devices.values() for i in d.interfaces.values()}
    kinds = {
        "a group": network.groups,
        "a segment": network.segments,
        "a zone": zones,
        "a service": network.services,
        "an access list": network.lists,
    }
    kind = next((k for k, names in kinds.items() if target in names), "")
    if kind:
        raise QuestionError(f"'{target}' is {kind}, and a test packet goes to one address. Name a device, a name or an address.")
    from difflib import SequenceMatcher  # only where a name is not known

    known = [*ends(network), *(n for d in network.devices.values() for n in d.records or {})]
    near = [n for n in nearest(target, known) if SequenceMatcher(None, target, n).ratio() >= _NEAR]
    if near:
        raise QuestionError(f"there is no target '{target}'.", tuple(near))


def _with_port(network: Network, word: str) -> None:
    """Refuse ``booker:8443`` and ``r1:eth0`` with the way in which they are written here.

    Raises:
        QuestionError: it is one of these.

    """
    name, colon, tail = word.partition(":")
    if not colon or name not in {*ends(network), *network.devices}:
        return
    if name in network.devices and tail in network.devices[name].interfaces:
        raise QuestionError(f"'{word}' is written {name}/{tail} here.")
    remedy = f"write {name} alone, and tcp/{tail} or udp/{tail} as the service." if tail.isdigit() else f"write {name} alone."
    raise QuestionError(f"'{word}' is two things: {remedy}")


def unknown_target(network: Network, target: str) -> Hint:
    """The names that a target may have been meant to be. Groups and segments are told of too, since people try them."""
    known = {*ends(network), *network.devices, *network.groups, *network.segments}
    return hint(target, known, "targets")


def services_of(network: Network, text: str) -> tuple[Service | None, ...]:
    """The services that a test asks for, each by itself; None stands for an echo request.

    Raises:
        QuestionError: no such service.

    """
    if text in PINGS:
        return (None,)
    if text in network.services and network.services[text].services:
        return network.services[text].services
    if text in BUILT_IN_SERVICES:
        return BUILT_IN_SERVICES[text]
    if text.strip().isdigit():
        raise QuestionError(
            f"'{text}' alone may be a port or a protocol. Write tcp/{text} or udp/{text}, or ip-{text} for the protocol."
        )
    try:
        return (parse_service(text),)
    except AddressError as fault:
        if "/" in text:
            raise
        known = {*network.services, *BUILT_IN_SERVICES, "ping"}
        words = hint(text, known, "services")
        raise QuestionError(f"there is no service '{text}'. {words} Or write protocol/port, like tcp/443.") from fault


def members_of(network: Network, service: str) -> tuple[str, ...]:
    """What a named service is tested as: one text for each member, ``tcp/80`` and ``tcp/443`` for ``web``."""
    found = services_of(network, service)
    if len(found) < 2:
        return (service,)
    return tuple(dict.fromkeys(str(first_port(s)) if s else "ping" for s in found))


def first_port(service: Service) -> Service:
    """A range of ports is tested at its first."""
    if service.ports is None or service.protocol not in WITH_PORTS:
        return service
    return Service(service.protocol, service.ports._replace(last=service.ports.first))


def ask(
    plan: Plan,
    sender: str,
    target: str,
    service: str = "ping",
    options: Options | None = None,
    *,
    addresses: tuple[Address, ...] = (),
    choose: Choose | None = None,
    **more: object,
) -> Question:
    """Make the test packet that a question describes.

    Args:
        plan: the network.
        sender: device, ``device/interface`` for its address, or far host.
        target: device, ``device/interface``, far host, name, or address.
        service: ``tcp/443``, a service name (its first member), or ``ping``.
        options: further wishes; or give them by name: source_port, source, ttl, family, size.
        addresses: what the target's name was found to stand for, when a lookup has been made.
        choose: how equal ways are chosen, as the packet's source may depend on its way.

    Raises:
        QuestionError: the network has no such sender, target or service, or the numbers are out of range.

    """
    wishes = replace(options or Options(), **more) if more else options or USUAL  # type: ignore[arg-type]
    _texts(sender, target, service)
    network = plan.network
    # Sweeps ask for the same few senders, targets and services thousands of times; what is wrong is not kept, and told each time.
    device, far = plan.once(("sender", sender), lambda: sender_of(network, sender))
    if wishes is not USUAL:
        wishes.check()
    wanted, what = plan.once(("service", service), lambda: _named_service(network, service))
    if far is not None and far.off:
        return Question(sender, device.name, target, what, None, Stuck("interface.down", Because("host.off", (sender,), far.mark)))
    if not addresses and plan.once(("unleased", target), lambda: unleased(network, target)):
        return _unreachable(plan, device.name, sender, target, what)
    found = addresses or plan.once(("target", target), lambda: addresses_of(network, target))
    if not found:
        return _nameless(network, device, sender, target, what)
    here = plan.device(device.name)
    destination = _destination(here, far, found, wanted, wishes, target)
    leaving = _segment_of(here, sender, destination)
    source = _source(plan, here, far, sender, destination, wishes, wanted, choose)
    if source is None:
        return _homeless(plan, device, sender, target, what, destination)
    if source.family != destination.family:
        raise QuestionError(f"source {source} and destination {destination} are of different families.")
    packet = _packet(source, destination, wanted, wishes)
    moment = moment_for(plan, packet, wishes)
    if wishes.fragment:
        packet = later_fragment(packet)
    return Question(sender, device.name, target, what, packet, None, destination, leaving, moment)


def ask_by(plan: Plan, device: str, target: Address, service: str, port: str, next_hop: Address | None) -> Question:
    """A question of a device itself that leaves by an interface, to a neighbour there, whatever its routes say.

    Args:
        plan: the network.
        device: who asks.
        target: whom.
        service: as for ``ask``.
        port: the interface.
        next_hop: the neighbour; None for the target itself.

    """
    wanted, what = _named_service(plan.network, service)
    source = plan.device(device).source_for(port, target.family, target)
    if source is None:
        mark = plan.network.devices[device].interfaces[port].mark
        stuck = Stuck("source.none", Because("address.none", (f"{device}/{port}", target.family), mark))
        return Question(device, device, str(target), what, None, stuck, target)
    packet = _packet(source, target, wanted, USUAL)
    return Question(device, device, str(target), what, packet, None, target, port, moment_for(plan, packet, USUAL), next_hop)


def _named_service(network: Network, service: str) -> tuple[Service | None, str]:
    """What is asked for, and what it is called."""
    wanted = _wanted(network, service)
    return wanted, str(wanted) if wanted else "ping"


def moment_for(plan: Plan, packet: Packet, wishes: Options) -> Moment:
    """What holds for the whole test: which windows are open, and of which application the flow is, and which last resorts are in use.

    Raises:
        QuestionError: it is said that a last resort is in use, and the network says itself when one is.

    """
    network = plan.network
    if wishes.last_resort and plan.has_last_resort:
        raise QuestionError(
            "which last resort is in use follows from the groups of uplinks here. "
            "Let what they need fail instead, and test then: a drill has fail: steps, and 'mossy what-if' tries every failure."
        )
    resorts = frozenset("*") if wishes.last_resort else plan.last_resorts
    now = wishes.now
    if now is None and not network.applications and wishes.application is None and not resorts:
        return SOME_TIME
    is_open = frozenset(h.name for h in network.hours.values() if h.open_at(now)) if now is not None else frozenset[str]()
    found = _application(network, packet, wishes.application)
    if found is None:
        return Moment(now, is_open, None, 1, resorts)
    return Moment(now, is_open, found.names, found.known_from, resorts)


def later_moment(network: Network, moment: Moment, seconds: int) -> Moment:
    """A moment after some time: other windows may be open by then. Without a time there is none later.

    Args:
        network: whose windows they are.
        moment: of the first packet.
        seconds: that have passed.

    """
    if moment.now is None or not seconds:
        return moment
    now = moment.now + seconds
    return moment._replace(now=now, open=frozenset(h.name for h in network.hours.values() if h.open_at(now)))


def _application(network: Network, packet: Packet, name: str | None) -> Application | None:
    """The application of a flow: as the test says, else the first of the file that the opening packet is of.

    Raises:
        QuestionError: the file has no such application.

    """
    if name is not None:
        if name not in network.applications:
            raise QuestionError(f"there is no application '{name}'. {hint(name, network.applications, 'applications')}")
        return network.applications[name]
    return next((a for a in network.applications.values() if _is_of(a, packet)), None)


def _is_of(application: Application, packet: Packet) -> bool:
    """Whether the table says that a flow which opens so is of an application."""
    if application.destinations is None and application.services is None:
        return False
    there = application.destinations is None or any(t.holds(packet.destination) for t in application.destinations)
    return there and (application.services is None or any(s.covers(packet.protocol, packet.slot) for s in application.services))


def _texts(sender: object, target: object, service: object) -> None:
    """Refuse what is no text, as a port number in the place of a service."""
    for word, value in (("sender", sender), ("target", target), ("service", service)):
        if not isinstance(value, str):
            example = "tcp/443" if word == "service" else "10.40.0.1" if word == "target" else "desk"
            raise QuestionError(f"the {word} is a text, not {value!r}; write it in quotes, like '{example}'.")


def _wanted(network: Network, service: str) -> Service | None:
    """The first member of a service, at its first port; None for an echo request."""
    wanted = services_of(network, service)[0]
    if wanted is not None and wanted.protocol in WITH_PORTS and wanted.ports is None:
        raise QuestionError(f"'{service}' needs a port; write one like {service}/443.")
    return first_port(wanted) if wanted else None


def _segment_of(here: DevicePlan, sender: str, destination: Address) -> str | None:
    """By which interface a packet to an IPv6 link-local address leaves: the sender's own, or the only one there is."""
    if destination.family == 4 or not destination.is_link_local:
        return None
    _, _, port = sender.partition("/")
    ports = [port] if port else [i.name for i in here.device.interfaces.values() if link_locals(here.name, i)]
    if not ports:
        raise QuestionError(f"{destination} is an IPv6 address, and {here.name} has no interface with IPv6. Give one an address.")
    if len(ports) != 1:
        known = ", ".join(f"{here.name}/{p}" for p in ports)
        raise QuestionError(
            f"{destination} means a neighbour on one segment, and {here.name} is on several. Say by which interface: {known}."
        )
    return ports[0]


def _nameless(network: Network, device: Device, sender: str, target: str, what: str) -> Question:
    """A target that is no name of the network: a slip of the pen, unless the sender could ask a resolver for it."""
    if not device.resolvers and target not in network.names:
        knowing = [n for n, d in network.devices.items() if target in (d.records or {})]
        if not knowing:
            raise QuestionError(f"there is no target '{target}'. {unknown_target(network, target)}")
        because = Because("name.no-resolver", (sender, target, " and ".join(knowing)), device.mark)
        return Question(sender, device.name, target, what, None, Stuck("name.unknown", because))
    stuck = Stuck("name.unknown", Because("name.none", (target, sender)))
    return Question(sender, device.name, target, what, None, stuck)


def unleased(network: Network, target: str) -> bool:
    """Whether a target is a device that waits for an address to be leased, and has none."""
    device = network.devices.get(target.partition("/")[0])
    if device is None or device.own_addresses():
        return False
    return any(i.leased for i in device.interfaces.values())


def _unreachable(plan: Plan, device: str, sender: str, target: str, what: str) -> Question:
    """The question to a target that has no address: it ends before a packet is made."""
    name = target.partition("/")[0]
    wanting = [(port, why) for (held, port), why in plan.routing.leases.wanting.items() if held == name]
    remark = Because("note.lease", (name, *wanting[0])) if wanting else None
    stuck = Stuck("target.none", Because("address.unleased", (name,), plan.network.devices[name].mark), remark)
    return Question(sender, device, target, what, None, stuck)


def _homeless(plan: Plan, device: Device, sender: str, target: str, what: str, destination: Address) -> Question:
    """The question of a sender that has no address of the family: it ends before a packet is made."""
    wanting = [(port, why) for (name, port), why in plan.routing.leases.wanting.items() if name == device.name]
    remark = Because("note.lease", (device.name, *wanting[0])) if wanting else None
    stuck = Stuck("source.none", Because("address.none", (sender, destination.family), device.mark), remark)
    return Question(sender, device.name, target, what, None, stuck, destination)


def _destination(
    here: DevicePlan, far: FarHost | None, found: Sequence[Address], wanted: Service | None, wishes: Options, target: str
) -> Address:
    """Which of the target's addresses: of the family that is asked for, and that the sender has, where there is a choice."""
    family = wishes.family or _family(wanted, wishes)
    usable = [a for a in found if family in (None, a.family)]
    if not usable:
        raise QuestionError(f"{target} has no IPv{family} address; it has {', '.join(map(str, found))}.")
    own = {a.family for a in (far.addresses if far else here.own)}
    return next((a for a in usable if a.family in own), usable[0])


def _family(wanted: Service | None, wishes: Options) -> int | None:
    """The family that a question is about without saying so; None where either will do."""
    if wishes.source is not None:
        return parse_address(wishes.source).family
    return {ICMP: 4, ICMP6: 6}.get(wanted.protocol) if wanted else None


def _source(
    plan: Plan,
    here: DevicePlan,
    far: FarHost | None,
    sender: str,
    destination: Address,
    wishes: Options,
    wanted: Service | None,
    choose: Choose | None,
) -> Address | None:
    """The address that a packet leaves with: as asked for, or as the device would choose (RFC 6724 section 5)."""
    if wishes.source:
        return parse_address(wishes.source)
    if far is not None:
        return next((a for a in far.addresses if a.family == destination.family), None)
    _, _, port = sender.partition("/")
    port = _segment_of(here, sender, destination) or port
    if port:
        return here.source_for(port, destination.family, destination if destination.is_link_local else None)
    usual = plan.once(("source", sender, destination), lambda: _by_one_way(here, destination))
    if usual is not None:
        return usual
    unsourced = _packet(Address(destination.family, 0), destination, wanted, wishes)
    found = own_source(here, unsourced, choose, moment_for(plan, unsourced, wishes))
    if found is not None or here.table.lookup(destination) is not None:
        return found
    sources = (here.source_for(name, destination.family, destination) for name in here.device.interfaces)
    return next((a for a in sources if a is not None), None)


def _by_one_way(here: DevicePlan, destination: Address) -> Address | None:
    """The source of packets to a destination to which one way leads: nothing else of them decides it. None where it may."""
    if here.settings.policy_for_own and here.device.policy_routes:
        return None
    route = here.table.lookup(destination)
    one = route is not None and len(route.hops) == 1
    return own_source(here, Packet(0, Address(destination.family, 0), destination)) if one else None


def _packet(source: Address, destination: Address, wanted: Service | None, wishes: Options) -> Packet:
    """The opening packet of a question."""
    port, ttl, size = wishes.source_port, wishes.ttl, wishes.size
    if wanted is None:
        return echo_request(source, destination, 1 if port is None else port, ttl)._replace(size=size)
    if wanted.protocol in (ICMP, ICMP6):
        return _icmp_packet(source, destination, wanted, wishes)
    if wanted.protocol not in WITH_PORTS:
        return Packet(wanted.protocol, source, destination, ttl=ttl, size=size)
    to_port = wanted.ports.first if wanted.ports else 0
    flags = "SYN" if wanted.protocol == TCP else ""
    return Packet(wanted.protocol, source, destination, FIRST_DYNAMIC_PORT if port is None else port, to_port, -1, flags, ttl, size)


def _icmp_packet(source: Address, destination: Address, wanted: Service, wishes: Options) -> Packet:
    """A packet of an ICMP kind; an echo request where none is said."""
    if wanted.protocol != (ICMP if destination.family == 4 else ICMP6):
        raise QuestionError(f"{wanted} does not go with {destination}. Ask for ping, which is of the target's family.")
    kind = wanted.ports.first if wanted.ports else (8 if wanted.protocol == ICMP else 128) << 8
    identifier = 1 if wishes.source_port is None else wishes.source_port
    return Packet(wanted.protocol, source, destination, identifier, 0, kind, ttl=wishes.ttl, size=wishes.size)
