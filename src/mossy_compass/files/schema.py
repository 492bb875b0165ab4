"""The shape of a network file, as pydantic models: which keys there are, and what each may hold.

Names that refer to other parts stay text here; ``load`` resolves them. Every scalar arrives as text.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Annotated, Any, ClassVar, Literal, Self, TypeVar

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    PlainValidator,
    StringConstraints,
    WithJsonSchema,
    model_validator,
)
from pydantic_core import PydanticCustomError

from mossy_compass.errors import AddressError
from mossy_compass.model.settings import SETTINGS
from mossy_compass.packet.address import (
    Address,
    Block,
    InterfaceAddress,
    Prefix,
    Span,
    parse_address,
    parse_block,
    parse_interface_address,
    parse_prefix,
)
from mossy_compass.packet.service import parse_port, parse_protocol

T = TypeVar("T")


def _fault(message: str) -> PydanticCustomError:
    return PydanticCustomError("ours", "{message}", {"message": message})


def _text(parse: Callable[[str], T], example: str) -> Callable[[object], T]:
    def check(value: object) -> T:
        if not isinstance(value, str):
            raise _fault(f"one plain value is wanted here, like {example}.")
        try:
            return parse(value)
        except AddressError as fault:
            raise _fault(str(fault)) from None

    return check


def _number(low: float, high: float, unit: str = "", whole: bool = True) -> Callable[[object], float]:
    def check(value: object) -> float:
        text = str(value).strip()
        if unit and text.endswith(unit):
            text = text[: -len(unit)].strip()
        pattern = r"-?\d{1,12}" if whole else r"-?\d{1,9}(\.\d{1,6})?"
        if isinstance(value, str) and re.fullmatch(pattern, text, re.ASCII):
            number = int(text) if whole else float(text)
            if low <= number <= high:
                return number
        kind = "a whole number" if whole else "a number"
        raise _fault(
            f"'{value}' is not {kind} from {low:g} to {high:g}{f' ({unit})' if unit else ''}."
            if isinstance(value, str)
            else f"{kind} from {low:g} to {high:g} is wanted here."
        )

    return check


def _yes_no(value: object) -> bool:
    if value in ("yes", "true"):
        return True
    if value in ("no", "false"):
        return False
    raise _fault(f"'{value}' is neither yes nor no." if isinstance(value, str) else "yes or no is wanted here.")


def _name(value: object) -> str:
    if not isinstance(value, str) or not re.fullmatch(r"[A-Za-z0-9](?:[A-Za-z0-9._-]{0,62})", value):
        raise _fault(
            f"'{value}' is not a name: names begin with a letter or digit and hold letters, digits, '.', '_' and '-', at most 63."
        )
    return value


def _port_name(value: object) -> str:
    if not isinstance(value, str) or not re.fullmatch(r"[A-Za-z0-9](?:[A-Za-z0-9._:-]{0,62})", value):
        raise _fault(f"'{value}' is not an interface name: letters, digits, '.', '_', ':' and '-', at most 63.")
    return value


def _many(value: object) -> object:
    return value if isinstance(value, list) else [value]


def _string(*examples: str) -> WithJsonSchema:
    return WithJsonSchema({"type": "string", "examples": list(examples)})


AddressText = Annotated[Address, PlainValidator(_text(parse_address, "192.0.2.10")), _string("192.0.2.10", "2001:db8::10")]
InterfaceText = Annotated[InterfaceAddress, PlainValidator(_text(parse_interface_address, "192.0.2.1/24")), _string("192.0.2.1/24")]
PrefixText = Annotated[Prefix, PlainValidator(_text(parse_prefix, "192.0.2.0/24")), _string("192.0.2.0/24", "default")]


def _runs(text: str) -> Block:
    block = parse_block(text)
    if block.masked:
        raise AddressError(
            f"'{text}': this wildcard mask falls apart into very many ranges, which cannot stand here; write prefixes."
        )
    return block


RunsText = Annotated[Block, PlainValidator(_text(_runs, "192.0.2.0/24")), _string("192.0.2.0/24", "192.0.2.10-192.0.2.20")]
PortText = Annotated[
    Span,
    PlainValidator(_text(parse_port, "443")),
    WithJsonSchema({"type": ["string", "integer"], "examples": [443, "8000-8010", "https"]}),
]
ProtocolText = Annotated[int | None, PlainValidator(_text(parse_protocol, "tcp")), _string("any", "tcp", "udp", "icmp", "icmp6")]
YesNo = Annotated[bool, PlainValidator(_yes_no), WithJsonSchema({"anyOf": [{"type": "boolean"}, {"enum": ["yes", "no"]}]})]
Name = Annotated[str, PlainValidator(_name), WithJsonSchema({"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$"})]
PortName = Annotated[
    str, PlainValidator(_port_name), WithJsonSchema({"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._:-]*$"})
]
Words = Annotated[str, StringConstraints(strip_whitespace=True, max_length=1000)]
Reference = Annotated[
    str, StringConstraints(strip_whitespace=True, min_length=1, max_length=200), WithJsonSchema({"type": ["string", "integer"]})
]


def whole(low: int, high: int) -> Any:
    """A whole number in a range, written as text."""
    return PlainValidator(_number(low, high))


def quantity(low: float, high: float, unit: str) -> Any:
    """A number with an optional unit."""
    return PlainValidator(_number(low, high, unit, whole=False))


def number_schema(low: float, high: float) -> WithJsonSchema:
    """The JSON Schema of a number."""
    return WithJsonSchema({"type": ["integer", "string"], "minimum": low, "maximum": high})


class _ItemOrList:
    """In the JSON Schema, one item may stand for the list of it alone."""

    @classmethod
    def __get_pydantic_json_schema__(cls, core: Any, handler: Any) -> Any:
        inner = handler(core)
        return {"anyOf": [inner["items"], inner]} if "items" in inner else inner


Many = BeforeValidator(_many)


def _alias(name: str) -> str:
    return name.rstrip("_").replace("_", "-")


class Part(BaseModel):
    """Base of all parts: unknown keys are refused, and keys use hyphens."""

    model_config = ConfigDict(extra="forbid", alias_generator=_alias, frozen=True, defer_build=True)
    short: ClassVar[str] = ""

    @model_validator(mode="before")
    @classmethod
    def _widen(cls, value: object) -> object:
        """A short form (the value of one key alone) becomes the mapping that it stands for."""
        if not cls.short or isinstance(value, dict):
            return value
        return {cls.short: value}

    @classmethod
    def __get_pydantic_json_schema__(cls, core: Any, handler: Any) -> Any:
        whole_form = handler(core)
        if not cls.short:
            return whole_form
        alone = handler.resolve_ref_schema(whole_form)["properties"][cls.short]
        return {"anyOf": [whole_form, {k: v for k, v in alone.items() if k not in ("title", "description", "default")}]}


Some = Field(min_length=1)
"""A list that says what is wanted: an empty one would want nothing, and is refused."""
Words1 = Annotated[list[Reference], Many, _ItemOrList, Some]
Ports1 = Annotated[list[PortText], Many, _ItemOrList, Some]
Ident = Annotated[
    str, StringConstraints(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,31}$"), WithJsonSchema({"type": ["string", "integer"]})
]


class ConditionsIn(Part):
    """Which packets a row is about. A condition that is left out is not asked."""

    from_: Words1 | None = Field(
        None,
        description="Sources: any, self, local-networks, outside, a group, device, far host, name, segment, zone, or an address form.",
    )
    to: Words1 | None = Field(None, description="Destinations, in the same forms.")
    from_port: Ports1 | None = Field(None, description="Source ports.")
    to_port: Ports1 | None = Field(None, description="Destination ports; or use service.")
    service: Words1 | None = Field(None, description="Services: a name under services:, a well-known name, or protocol/port.")
    icmp: Words1 | None = Field(None, description="ICMP kinds, for a rule of icmp or icmp6.")
    opening: YesNo = Field(False, description="Only packets that open a session.")
    arriving: Words1 | None = Field(
        None, description="Only packets that arrive by these interfaces; a zone or a group of uplinks stands for its interfaces."
    )
    leaving: Words1 | None = Field(
        None, description="Only packets that leave by these interfaces; asked after the route, so not in an arriving list."
    )
    disabled: YesNo = Field(False, description="Keep the rule, but pass it over.")
    about: Words = Field("", description="What the rule is for.")

    @model_validator(mode="after")
    def _one_of_ports(self) -> Self:
        if self.service and self.to_port:
            raise _fault("a rule has service or to-port, not both.")
        return self


class RuleIn(ConditionsIn):
    """One rule of an access list. Exactly one of permit, deny, reject, note says what it does."""

    id: Ident | None = Field(None, description="Number or name within the list; counted in tens when left out.")
    permit: ProtocolText = Field(-1, description="Let packets of this protocol pass.")
    deny: ProtocolText = Field(-1, description="Drop them silently.")
    reject: ProtocolText = Field(-1, description="Drop them and answer the sender no.")
    note: ProtocolText = Field(-1, description="Take note of them and go on with the next rule.")
    log: YesNo = Field(False, description="Log each match.")

    @model_validator(mode="after")
    def _one_verdict(self) -> RuleIn:
        said = [v for v in ("permit", "deny", "reject", "note") if getattr(self, v) != -1]
        if len(said) != 1:
            raise _fault(
                "a rule says exactly one of permit, deny, reject, note"
                + (f"; this one says {' and '.join(said)}." if said else ", followed by a protocol or any.")
            )
        return self

    @property
    def verdict(self) -> str:
        """permit, deny, reject or note."""
        return next(v for v in ("permit", "deny", "reject", "note") if getattr(self, v) != -1)

    @property
    def protocol(self) -> int | None:
        """The protocol after the verdict."""
        value: int | None = getattr(self, self.verdict)
        return value


class ListIn(Part):
    """An access list."""

    short: ClassVar[str] = "rules"

    rules: list[RuleIn] = Field(default_factory=list, description="The rules, first match decides.")
    about: Words = Field("", description="What the list is for.")


class GroupIn(Part):
    """A group of addresses."""

    short: ClassVar[str] = "members"

    members: Annotated[list[Reference], Many, _ItemOrList] = Field(
        description="Addresses, prefixes, ranges, devices, names, other groups."
    )
    about: Words = Field("", description="What it stands for.")


class ServicesIn(Part):
    """A named set of services."""

    short: ClassVar[str] = "members"

    members: Annotated[list[Reference], Many, _ItemOrList] = Field(description="protocol/port, or names of other services.")
    about: Words = Field("", description="What it stands for.")


class FilterIn(Part):
    """Access lists attached to an interface."""

    arriving: Reference | None = Field(None, description="List for packets that arrive by this interface.")
    leaving: Reference | None = Field(None, description="List for packets that leave by this interface.")


class OspfPortIn(Part):
    """OSPF on an interface."""

    short: ClassVar[str] = "area"

    area: Annotated[int, whole(0, 4294967295), number_schema(0, 4294967295)] = Field(
        0, description="Area number; 0 is the backbone."
    )
    cost: Annotated[int, whole(1, 65535), number_schema(1, 65535)] = Field(
        10, description="Cost of leaving by this interface; the least total wins."
    )
    passive: YesNo = Field(False, description="Announce the subnet, seek no neighbour.")
    network: Literal["broadcast", "point-to-point"] = Field(
        "broadcast", description="broadcast: the segment may have many routers; point-to-point: two. Both ends must agree."
    )


class InterfaceIn(Part):
    """An interface of a device."""

    short: ClassVar[str] = "address"

    address: Annotated[list[InterfaceText], Many, _ItemOrList] = Field(
        default_factory=list, description="Address with prefix length; a list for several."
    )
    zone: Name = Field("", description="Role of the interface, such as inside or outside.", validate_default=False)
    about: Words = Field("", description="Free text shown beside the interface.")
    state: Literal["up", "disabled", "not-connected", "far-end-down"] = Field("up", description="State of the port.")
    mtu: Annotated[int, whole(68, 65535), number_schema(68, 65535)] = Field(1500, description="Largest packet in bytes.")
    filter: FilterIn = Field(default_factory=FilterIn.model_construct, description="Attached access lists.")
    loopback: YesNo = Field(False, description="Always up and on no segment; a stable address, or a stand-in for a network.")
    parent: Reference | None = Field(None, description="For a sub-interface: the port whose tagged frames it takes; with vlan.")
    vlan: Annotated[int, whole(1, 4094), number_schema(1, 4094)] | None = Field(
        None, description="VLAN number. With parent: the tag of this sub-interface. Alone: the address of that VLAN's member ports."
    )
    untagged: Annotated[int, whole(1, 4094), number_schema(1, 4094)] | None = Field(
        None, description="This port is a member of a VLAN: frames without a tag belong to it."
    )
    tagged: Annotated[list[Annotated[int, whole(1, 4094), number_schema(1, 4094)]], Many, _ItemOrList] = Field(
        default_factory=list, description="VLANs whose frames this port carries with a tag."
    )
    leased: YesNo = Field(False, description="The address comes from an address-lease service on the segment.")
    answers_for: Annotated[list[RunsText], Many, _ItemOrList] = Field(
        default_factory=list, description="Further addresses for which it answers on its segment."
    )
    ospf: OspfPortIn | None = Field(None, description="Speak OSPF here: an area number, or a mapping.")
    rip: Literal["active", "passive"] | None = Field(
        None, description="Speak RIP version 2 here; passive: announce the subnet, hear nobody."
    )


class RouteIn(Part):
    """A static route."""

    prefix: PrefixText = Field(description="Destination prefix; default (IPv4) or default6 (IPv6).")
    next_hop: AddressText | None = Field(None, description="Address of the next router.")
    leaving: Reference | None = Field(None, description="Interface, or group of uplinks, that it leaves by.")
    table: Name = Field("main", description="Name of the route table; main is the one that forwarding asks.")
    preference: Annotated[int, whole(1, 255), number_schema(1, 255)] = Field(
        1, description="Lower wins among routes to the same prefix."
    )
    metric: Annotated[int, whole(0, 4294967295), number_schema(0, 4294967295)] = Field(
        0, description="Lower wins among routes of the same preference."
    )
    action: Literal["forward", "discard", "unreachable"] = Field(
        "forward", description="Pass on, drop silently, or drop and answer unreachable."
    )
    about: Words = Field("", description="What it is for.")


class GoesToIn(Part):
    """Where packets go instead of their destination."""

    short: ClassVar[str] = "address"

    address: Reference = Field(description="A device, a name, or an address.")
    port: PortText | None = Field(None, description="Another port; the packet's own when left out.")


class TranslateIn(Part):
    """A translation: what a source becomes as packets leave, or where a destination goes as they arrive."""

    id: Name | None = Field(None, description="Name of the rule; counted in tens when left out.")
    source: Words1 | None = Field(None, description="Whose packets; everybody's when left out.")
    to: Words1 | None = Field(None, description="Only packets to these destinations; self for the device's own addresses.")
    service: Words1 | None = Field(None, description="Only these services.")
    arriving: Words1 | None = Field(None, description="Only packets that arrive by these interfaces.")
    leaving: Words1 | None = Field(
        None, description="Only packets that leave by these interfaces; must be given for becomes, and goes with that alone."
    )
    becomes: Literal["interface"] | None = Field(
        None, description="The new source: the leaving interface's address, with a port of its own. So when goes-to is left out."
    )
    goes_to: GoesToIn | None = Field(None, description="The new destination: an address, or a mapping with a port.")
    disabled: YesNo = Field(False, description="Keep the rule, but pass it over.")
    about: Words = Field("", description="What it is for.")


class CandidateIn(Part):
    """One way of a policy route."""

    short: ClassVar[str] = "next-hop"

    next_hop: AddressText | None = Field(None, description="Address of a router on a connected subnet.")
    leaving: Reference | None = Field(None, description="An interface; alone, or to say where the next hop is.")
    table: Reference | None = Field(None, description="A route table of this device, which is then asked.")
    discard: YesNo = Field(False, description="yes: drop the packet silently.")


class PolicyRouteIn(ConditionsIn):
    """A policy route: an entry that is asked before the route table."""

    id: Ident | None = Field(None, description="Number or name of the entry; counted in tens when left out.")
    protocol: ProtocolText = Field(None, description="Only packets of this protocol.")
    list_: Reference | None = Field(
        None, description="An access list that says which packets: its permits apply this entry, its denies go on."
    )
    candidates: Annotated[list[CandidateIn], Many, _ItemOrList, Some] = Field(
        description="Ways in order: the first whose interface is up and whose next hop answers is taken, else the main table."
    )


class ExternalIn(Part):
    """How foreign routes are announced in OSPF."""

    short: ClassVar[str] = "metric"

    metric: Annotated[int, whole(0, 16777214), number_schema(0, 16777214)] = Field(
        20, description="Metric that they are announced with."
    )
    type: Annotated[int, whole(1, 2), number_schema(1, 2)] = Field(
        2, description="1: the way to the announcing router is added; 2: it is not, the metric alone decides."
    )


class OspfDefaultIn(ExternalIn):
    """A default route announced in OSPF."""

    short: ClassVar[str] = ""

    always: YesNo = Field(False, description="Announce it even without a default route of one's own.")


class OspfIn(Part):
    """OSPF settings of a device."""

    areas: dict[str, Literal["normal", "stub", "totally-stub"]] = Field(
        default_factory=dict, description="Kinds of areas by number: stub takes no external routes, totally-stub only a default."
    )
    redistribute: dict[Literal["connected", "static", "rip"], ExternalIn] = Field(
        default_factory=dict, description="Which routes of other origin are announced, and how."
    )
    default_route: OspfDefaultIn | None = Field(None, description="Announce a default route.")
    preference: Annotated[int, whole(1, 255), number_schema(1, 255)] = Field(
        110, description="Preference of routes learned by OSPF."
    )


class RipIn(Part):
    """RIP settings of a device."""

    redistribute: dict[Literal["connected", "static", "ospf"], Annotated[int, whole(1, 15), number_schema(1, 15)]] = Field(
        default_factory=dict, description="Which routes of other origin are announced, each with its metric in hops."
    )
    default_route: YesNo = Field(False, description="Announce a default route, with metric 1.")
    preference: Annotated[int, whole(1, 255), number_schema(1, 255)] = Field(
        120, description="Preference of routes learned by RIP."
    )


class FarHostIn(Part):
    """A host of the stand-in Internet."""

    short: ClassVar[str] = "address"

    address: Annotated[list[AddressText], Many, _ItemOrList] = Field(description="Its addresses, without prefix length.")
    serves: Annotated[list[Reference], Many, _ItemOrList] = Field(default_factory=list, description="Services that it listens for.")
    silent: YesNo = Field(False, description="Say nothing for a closed port, instead of refusing.")


class LeaseIn(Part):
    """An address-lease service on an interface."""

    short: ClassVar[str] = "range"

    range: RunsText = Field(description="Addresses that are given out, lowest first.")
    gateway: AddressText | None = Field(None, description="Gateway that clients are told of; the interface's own when left out.")
    resolvers: Annotated[list[AddressText], Many, _ItemOrList] = Field(
        default_factory=list, description="Resolvers that clients are told of."
    )


class DeviceIn(Part):
    """A router, firewall, host, switch, or stand-in for the Internet."""

    kind: Literal["router", "firewall", "host", "switch", "internet"] = Field(description="What the device is.")
    about: Words = Field("", description="What the device is for.")
    zone: Name = Field("", description="Where it stands; only shown.", validate_default=False)
    address: Annotated[list[InterfaceText], Many, _ItemOrList] | None = Field(
        None, description="For a host with one interface, named nic: its address."
    )
    gateway: Annotated[list[AddressText], Many, _ItemOrList] | None = Field(
        None, description="For a host: where it sends what is not on its own subnet."
    )
    leased: YesNo = Field(False, description="For a host with one interface, named nic: its address is leased.")
    interfaces: dict[PortName, InterfaceIn] = Field(
        default_factory=dict, description="Interfaces by name; an address alone may stand for the whole."
    )
    ports: Annotated[list[PortName], Many, _ItemOrList] = Field(
        default_factory=list,
        description="For a switch: names of ports that need no keys of their own; members of VLAN 1, untagged.",
    )
    uplinks: dict[Name, Annotated[list[Reference], Many, _ItemOrList]] = Field(
        default_factory=dict, description="Groups of interfaces that serve as one way out; a route's leaving may name one."
    )
    resolvers: Annotated[list[AddressText], Many, _ItemOrList] = Field(
        default_factory=list, description="Resolvers that this device asks for the addresses of names, in this order."
    )
    records: dict[Name, Annotated[list[AddressText], Many, _ItemOrList]] | None = Field(
        None, description="This device is a resolver, and knows these names."
    )
    leases: dict[PortName, LeaseIn] = Field(
        default_factory=dict, description="Address-lease services, by the interface whose segment they serve."
    )
    hosts: dict[Name, FarHostIn] = Field(
        default_factory=dict, description="For an internet device: the far hosts that it stands for; an address alone will do."
    )
    ospf: OspfIn | None = Field(None, description="OSPF settings beyond those of the interfaces.")
    rip: RipIn | None = Field(None, description="RIP settings beyond those of the interfaces.")
    routes: list[RouteIn] = Field(default_factory=list, description="Static routes.")
    stateful: Annotated[list[Reference], Many, _ItemOrList] | None = Field(
        None,
        description="Protocols whose answers pass because of a session; none for no protocol. A firewall has tcp and udp when this is left out.",
    )
    translate: list[TranslateIn] = Field(
        default_factory=list, description="Translation rules: of sources, and of destinations; of each the first match decides."
    )
    policy_routes: list[PolicyRouteIn] = Field(
        default_factory=list, description="Entries that choose a way of their own for the packets that they match, in order."
    )
    order: list[Reference] | None = Field(
        None, description="The device's own order of stages for packets that arrive; the built-in one when left out."
    )
    serves: Annotated[list[Reference], Many, _ItemOrList] = Field(default_factory=list, description="Services that it listens for.")
    settings: dict[str, str] = Field(default_factory=dict, description="Named defaults to change.")


class SegmentIn(Part):
    """A cable, radio cell or bridged network."""

    short: ClassVar[str] = "members"

    members: Annotated[list[Reference], Many, _ItemOrList] = Field(
        description="device/interface, or the name alone of a host with one interface."
    )
    about: Words = Field("", description="What it is.")
    state: Literal["up", "down"] = Field("up", description="down: the cable is cut; every port on it loses its link.")
    latency: Annotated[float, quantity(0, 100000, "ms"), number_schema(0, 100000)] = Field(
        0.0, description="Time from end to end, in ms."
    )
    jitter: Annotated[float, quantity(0, 100000, "ms"), number_schema(0, 100000)] = Field(
        0.0, description="How much that varies, in ms."
    )
    loss: Annotated[float, quantity(0, 100, "%"), number_schema(0, 100)] = Field(0.0, description="Packets lost, in per cent.")
    mtu: Annotated[int, whole(68, 65535), number_schema(68, 65535)] | None = Field(
        None, description="Largest packet that the cable or tunnel carries, in bytes, where that is less than the interfaces say."
    )


class NetworkIn(Part):
    """A network file."""

    mossy_network: Annotated[Literal["1"], WithJsonSchema({"enum": [1, "1"]})] = Field(description="Version of the format: 1.")
    title: Words = Field("", description="Name of the network.")
    about: Words = Field("", description="What it shows.")
    local: list[RunsText] = Field(
        default_factory=list, description="What the built-in group local-networks holds; the private ranges when left out."
    )
    names: dict[Name, Annotated[list[AddressText], Many, _ItemOrList]] = Field(
        default_factory=dict, description="Host names with their addresses."
    )
    groups: dict[Name, GroupIn] = Field(default_factory=dict, description="Address groups.")
    services: dict[Name, ServicesIn] = Field(default_factory=dict, description="Named services.")
    lists: dict[Name, ListIn] = Field(default_factory=dict, description="Access lists.")
    devices: dict[Name, DeviceIn] = Field(description="Devices by name.")
    segments: dict[Name, SegmentIn] = Field(default_factory=dict, description="Segments by name.")


def settings_schema() -> dict[str, Any]:
    """JSON Schema of the settings mapping."""
    return {
        "type": "object",
        "additionalProperties": False,
        "properties": {s.name: {"enum": list(s.values), "description": s.why} for s in SETTINGS.values()},
    }
