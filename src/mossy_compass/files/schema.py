"""The shape of a network file: which keys there are, and what each may hold.

Names that refer to other parts stay text here; ``resolve`` finds out what they mean. Every scalar arrives as text.
"""

from __future__ import annotations

import re
from typing import ClassVar

from mossy_compass.errors import AddressError
from mossy_compass.files.keys import (
    DURATION,
    YES_NO,
    Json,
    Part,
    by_name,
    fault,
    key,
    listed,
    number,
    of,
    one_of,
    some,
    text,
    words,
)
from mossy_compass.model.gates import DAY, DAYS, SEVERITIES
from mossy_compass.model.settings import MOST_COUNTED, SETTINGS, Setting
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
from mossy_compass.packet.packet import REJECT_ANSWERS
from mossy_compass.packet.service import parse_port, parse_protocol

STATES = ("new", "continuing", "answering", "related", "none")


def _name(value: str) -> str:
    """A name without what would break a line or look like another thing: no spaces at its ends, no slash, no quotes."""
    if not re.fullmatch(r"[A-Za-z0-9](?:[A-Za-z0-9._-]{0,63})", value):
        raise AddressError(
            f"'{value}' is not a name: names begin with a letter or digit and hold letters, digits, '.', '_' and '-', at most 64."
        )
    return value


def _port_name(value: str) -> str:
    """The name of an interface, which stands after a slash in segments."""
    if not re.fullmatch(r"[A-Za-z0-9](?:[A-Za-z0-9._:-]{0,63})", value):
        raise AddressError(f"'{value}' is not an interface name: letters, digits, '.', '_', ':' and '-', at most 64.")
    return value


def _clock(value: str) -> int:
    """A time of day as minutes, ``08:30`` or ``24:00``."""
    found = re.fullmatch(r"(\d{1,2}):(\d{2})", value, re.ASCII)
    minutes = int(found[1]) * 60 + int(found[2]) if found and int(found[2]) < 60 else -1
    if not 0 <= minutes <= DAY:
        raise AddressError(f"'{value}' is no time of day; write hours and minutes, as 08:30, up to 24:00.")
    return minutes


def _runs(value: str) -> Block:
    """Numbers and ranges, as ``80`` or ``8000-8100``."""
    block = parse_block(value)
    if block.masked:
        raise AddressError(
            f"'{value}': this wildcard mask falls apart into very many ranges, which cannot stand here; write prefixes."
        )
    return block


ADDRESS = text(parse_address, "192.0.2.10", "2001:db8::10")
INTERFACE_ADDRESS = text(parse_interface_address, "192.0.2.1/24")
PREFIX = text(parse_prefix, "192.0.2.0/24", "default")
RUNS = text(_runs, "192.0.2.0/24", "192.0.2.10-192.0.2.20")
PORT = text(parse_port, "443", json={"type": ["string", "integer"], "examples": [443, "8000-8010", "https"]})
PROTOCOL = text(parse_protocol, "tcp", "any", "udp", "icmp", "icmp6")
NAME = text(_name, "gate", json={"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$"})
PORT_NAME = text(_port_name, "inside", json={"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._:-]*$"})
CLOCK = text(_clock, "08:00", "24:00")
WORDS = words(1000)
WORD = words(200, 1, json={"type": ["string", "integer"]})
"""A word that names no other part of the document."""
# Words that do, each with what they may name; ``files/references.py`` says in which order that is looked for.
AN_ADDRESS = WORD._replace(refers="address")
A_SERVICE = WORD._replace(refers="service")
A_LIST = WORD._replace(refers="list")
A_PORT = WORD._replace(refers="port")
AN_INTERFACE = WORD._replace(refers="interface")
A_MEMBER = WORD._replace(refers="member")
A_TABLE = WORD._replace(refers="table")
WHILE = WORD._replace(refers="while")
A_WINDOW = WORD._replace(refers="hours")
AN_APPLICATION = WORD._replace(refers="application")
A_HOST_NAME = WORD._replace(refers="name")
IDENT = words(64, pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$", json={"type": ["string", "integer"]})
ADDRESSES = some(AN_ADDRESS, 1)
"""What a condition asks for. An empty list would hold for no packet, and is refused; so it is for the others below."""
SERVED, LISTS, ARRIVALS = some(A_SERVICE, 1), some(A_LIST, 1), some(A_PORT, 1)
WORDED = some(WORD, 1)
PORTS = some(PORT, 1)


class ConditionsIn(Part):
    """The conditions of a row: which packets it is about. A condition that is left out is not asked."""

    from_: list[str] | None = key(
        ADDRESSES,
        "Sources: any, self, local-networks, outside, a group, device, far host, name, segment, zone, or an address form.",
        None,
    )
    to: list[str] | None = key(ADDRESSES, "Destinations, in the same forms.", None)
    from_port: list[Span] | None = key(PORTS, "Source ports.", None)
    to_port: list[Span] | None = key(PORTS, "Destination ports; or use service.", None)
    service: list[str] | None = key(SERVED, "Services: a name under services:, a well-known name, or protocol/port.", None)
    icmp: list[str] | None = key(WORDED, "ICMP kinds, for a rule of icmp or icmp6.", None)
    opening: bool = key(YES_NO, "Only packets that open a session.", False)
    state: list[str] | None = key(
        some(one_of(*STATES), 1),
        "What the packet is to the device's sessions; none: it belongs to no session and opens none.",
        None,
    )
    fragments: bool = key(YES_NO, "Only fragments other than the first; they have no ports.", False)
    hours: list[str] | None = key(some(A_WINDOW, 1), "Only while one of these windows under hours: is open.", None)
    application: list[str] | None = key(
        some(AN_APPLICATION, 1), "Only flows of these applications or categories under applications:, once that is known.", None
    )
    name: list[str] | None = key(
        some(A_HOST_NAME, 1),
        "Only to addresses that the device knows by one of these host names; see the setting name-rules.",
        None,
    )
    while_: str | None = key(
        WHILE, "last-resort: only while the uplink of last resort is in use; GROUP/last-resort for one group of several.", None
    )
    arriving: list[str] | None = key(
        ARRIVALS, "Only packets that arrive by these interfaces; a zone or a group of uplinks stands for its interfaces.", None
    )
    leaving: list[str] | None = key(
        ARRIVALS, "Only packets that leave by these interfaces; asked after the route, so not in an arriving list.", None
    )
    disabled: bool = key(YES_NO, "Keep the rule, but pass it over.", False)
    about: str = key(WORDS, "What the rule is for.", "")

    def check(self) -> None:
        """Refuse keys that do not go together."""
        if self.service and self.to_port:
            raise fault("a rule has service or to-port, not both.")


VERDICTS = ("permit", "deny", "reject", "note", "hand-on")


def word_attribute(word: str) -> str:
    """The attribute of a key: ``hand-on`` is ``hand_on``."""
    return word.replace("-", "_")


class RuleIn(ConditionsIn):
    """One rule of an access list. Exactly one of permit, deny, reject, note, hand-on says what it does."""

    id: str | None = key(IDENT, "Number or name within the list; counted in tens when left out.", None)
    permit: int | None = key(PROTOCOL, "Let packets of this protocol pass.", -1)
    deny: int | None = key(PROTOCOL, "Drop them silently.", -1)
    reject: int | None = key(PROTOCOL, "Drop them and answer the sender no.", -1)
    note: int | None = key(PROTOCOL, "Take note of them and go on with the next rule.", -1)
    hand_on: int | None = key(PROTOCOL, "Leave this list undecided: the next list at the same place is asked.", -1)
    answer: str | None = key(
        one_of(*REJECT_ANSWERS),
        "For reject: what is sent; a reset is for TCP, anything else gets ICMP. Else as the setting says.",
        None,
    )
    uplink: str | None = key(
        A_PORT,
        "For permit: what this rule lets pass leaves by this interface, or by this group of uplinks, before any policy route.",
        None,
    )
    translate: bool = key(
        YES_NO, "For permit: what this rule lets pass leaves with the leaving interface's address as its source.", False
    )
    log: str = key(
        one_of("yes", "no", *SEVERITIES, json={"anyOf": [{"type": "boolean"}, {"enum": ["yes", "no", *SEVERITIES]}]}),
        "Log each match: no, yes (which is informational), or a severity (RFC 5424).",
        "no",
    )

    def check(self) -> None:
        """Refuse keys that do not go together."""
        super().check()
        said = [v for v in VERDICTS if getattr(self, word_attribute(v)) != -1]
        if self.answer is not None and said == ["permit"]:
            raise fault("answer: is what a reject sends, and this rule says permit.")
        if self.answer is not None and said and said != ["reject"]:
            raise fault(f"answer: is what a reject sends, and this rule says {said[0]}: write reject, or remove answer.")
        if self.translate and said and said != ["permit"]:
            raise fault(f"translate: is for what a rule permits, and this rule says {said[0]}: write permit, or remove translate.")
        if self.uplink and said and said != ["permit"]:
            raise fault(f"uplink: is for what a rule permits, and this rule says {said[0]}: write permit, or remove uplink.")
        if len(said) != 1:
            raise fault(
                "a rule says exactly one of permit, deny, reject, note, hand-on"
                + (f"; this one says {' and '.join(said)}." if said else ", followed by a protocol or any.")
            )

    @property
    def verdict(self) -> str:
        """permit, deny, reject, note or hand-on."""
        return next(v for v in VERDICTS if getattr(self, word_attribute(v)) != -1)

    @property
    def protocol(self) -> int | None:
        """The protocol after the verdict."""
        value: int | None = getattr(self, word_attribute(self.verdict))
        return value


class ListIn(Part):
    """An access list."""

    short: ClassVar[str] = "rules"

    rules: list[RuleIn] = key(listed(of(RuleIn)), "The rules, first match decides.", list)
    about: str = key(WORDS, "What the list is for.", "")


class GroupIn(Part):
    """A group of addresses."""

    short: ClassVar[str] = "members"

    members: list[str] = key(some(AN_ADDRESS), "Addresses, prefixes, ranges, devices, names, other groups.")
    about: str = key(WORDS, "What it stands for.", "")


class ExpectsIn(Part):
    """What the conversations of a service tell of a second channel."""

    short: ClassVar[str] = "over"

    announced_by: str = key(
        one_of("asker", "answerer", "either"), "Who tells the other end where it waits; the other end opens the channel.", "either"
    )
    over: list[str] = key(some(A_SERVICE), "What the second channel may be: protocol/port, or protocol/range.")


class ServicesIn(Part):
    """A named set of services."""

    short: ClassVar[str] = "members"

    members: list[str] = key(some(A_SERVICE), "protocol/port, or names of other services.")
    expects: ExpectsIn | None = key(
        of(ExpectsIn), "Its conversations tell of a second channel; a device whose helpers name the service lets that pass.", None
    )
    about: str = key(WORDS, "What it stands for.", "")


class FilterIn(Part):
    """Access lists attached to an interface."""

    arriving: list[str] | None = key(LISTS, "List for packets that arrive by this interface; several are asked in order.", None)
    leaving: list[str] | None = key(LISTS, "List for packets that leave by this interface, likewise.", None)


class HoursIn(Part):
    """A window of time."""

    days: list[str] = key(some(one_of(*DAYS), 1), "Days on which it opens; every day when left out.", lambda: list(DAYS))
    from_: int = key(CLOCK, "Opens at this time of day, as the clocks of the zone show it.")
    until: int = key(CLOCK, "Closes at this time; earlier than from: it runs past midnight.")
    zone: str = key(words(64, 1), "Time zone by its IANA name.", "UTC")
    about: str = key(WORDS, "What it is for.", "")


class ApplicationIn(Part):
    """An application that flows may be of."""

    category: list[str] = key(some(NAME), "Categories that rules may name too.", list)
    known_from: int = key(number(1, 100), "Number of the packet from which on devices know it; 1 opens the flow, 2 answers.", 1)
    to: list[str] | None = key(ADDRESSES, "Flows to these destinations are of it.", None)
    service: list[str] | None = key(SERVED, "Flows of these services are of it.", None)
    about: str = key(WORDS, "What it is.", "")


class EverywhereIn(Part):
    """Lists for whatever arrives at a device."""

    short: ClassVar[str] = "lists"

    lists: list[str] = key(LISTS, "Lists in order; they are asked before the interface's own.")
    enabled: bool = key(YES_NO, "no: they are kept, and not asked.", True)


class CrossingIn(Part):
    """Lists for what passes from one zone into another."""

    from_: str = key(A_PORT, "A zone, an interface, a group of uplinks, or any.")
    into: str = key(A_PORT, "The same; or self, for packets to the device.")
    lists: list[str] = key(LISTS, "Lists in order.")
    about: str = key(WORDS, "What it is for.", "")


class ProfileIn(Part):
    """Lists for chosen hosts."""

    for_: list[str] | None = key(ADDRESSES, "Who opens the flow; everybody when left out.", None)
    arriving: list[str] | None = key(ARRIVALS, "Only what arrives by these interfaces, so that a VLAN may have a profile.", None)
    mode: str = key(one_of("instead", "before", "after"), "How its lists go with the common ones.", "instead")
    lists: list[str] = key(LISTS, "Lists in order.")
    about: str = key(WORDS, "What it is for.", "")


class OspfPortIn(Part):
    """OSPF on an interface."""

    short: ClassVar[str] = "area"

    area: int = key(number(0, 4294967295), "Area number; 0 is the backbone.", 0)
    cost: int = key(number(1, 65535), "Cost of leaving by this interface; the least total wins.", 10)
    passive: bool = key(YES_NO, "Announce the subnet, seek no neighbour.", False)
    network: str = key(
        one_of("broadcast", "point-to-point"),
        "broadcast: the segment may have many routers; point-to-point: two. Both ends must agree.",
        "broadcast",
    )


class StatefulIn(Part):
    """Protocols whose answers pass because of a session, at an interface."""

    arriving: list[str] | None = key(WORDED, "Of sessions that are opened by what arrives by this interface.", None)
    leaving: list[str] | None = key(WORDED, "Of sessions that are opened by what leaves by this interface.", None)


class SelectorIn(Part):
    """Which packets belong into a tunnel, whatever their route."""

    does: str = key(
        one_of("protect", "bypass", "discard"),
        "Into the tunnel, past it, or not at all. The first that a packet meets decides.",
        "protect",
    )
    from_: list[str] | None = key(ADDRESSES, "The own end, as packets leave; any when left out.", None)
    to: list[str] | None = key(ADDRESSES, "The far end; any when left out.", None)


class TunnelIn(Part):
    """What makes an interface a tunnel."""

    to: str = key(AN_ADDRESS, "The other end: an address, or a host with one. Its tunnel must name this one's.")
    by: str = key(AN_INTERFACE, "The interface whose address is this end. Routes say by which way the outer packets leave.")
    kind: str = key(
        one_of("ip-in-ip", "gre", "vxlan", "esp"),
        "What is put around a packet: IP (RFC 2003), GRE (RFC 2784), VXLAN (RFC 7348), or ESP with AES-GCM (RFC 4303).",
        "gre",
    )
    keys_: str = key(
        one_of("by-hand", "exchanged"),
        "Of ESP: both ends have its keys, or exchange them (RFC 7296) when the first packet wants to go in, which makes an association.",
        "by-hand",
    )
    proposals: list[str] = key(
        some(NAME),
        "What the two ends may agree on when they exchange keys, each a word of yours: they need one in common. Anything when left out.",
        list,
    )
    df: str = key(
        one_of("copy", "set", "clear"),
        "Whether its outer packets may be divided: as the packets inside, which here may not, never, or always (RFC 4301 section 8.1).",
        "copy",
    )
    selectors: list[SelectorIn] = key(
        some(of(SelectorIn)),
        "What goes into it beside what routes lead there, asked where a packet leaves by the interface in by.",
        list,
    )
    while_: str | None = key(WHILE, "It is up only while this probe of the device is.", None)


class InterfaceIn(Part):
    """An interface of a device."""

    short: ClassVar[str] = "address"

    address: list[InterfaceAddress] = key(some(INTERFACE_ADDRESS), "Address with prefix length; a list for several.", list)
    zone: str = key(NAME, "Role of the interface, such as inside or outside.", "")
    about: str = key(WORDS, "Free text shown beside the interface.", "")
    state: str = key(one_of("up", "disabled", "not-connected", "far-end-down"), "State of the port.", "up")
    mtu: int | None = key(
        number(68, 65535),
        "Largest packet in bytes: 1500 when left out, and of a tunnel what its outer packets have room for.",
        None,
    )
    tunnel: TunnelIn | None = key(
        of(TunnelIn), "It is the end of a tunnel: it has no cable, and its packets travel within others.", None
    )
    filter: FilterIn = key(of(FilterIn), "Attached access lists.", lambda: FilterIn({}))
    stateful: StatefulIn | None = key(
        of(StatefulIn),
        "Protocols whose answers pass because of a session, by where it is opened, beside those that the device names.",
        None,
    )
    loopback: bool = key(YES_NO, "Always up and on no segment; a stable address, or a stand-in for a network.", False)
    parent: str | None = key(AN_INTERFACE, "For a sub-interface: the port whose tagged frames it takes; with vlan.", None)
    vlan: int | None = key(
        number(1, 4094),
        "VLAN number. With parent: the tag of this sub-interface. Alone: the address of that VLAN's member ports.",
        None,
    )
    untagged: int | None = key(number(1, 4094), "This port is a member of a VLAN: frames without a tag belong to it.", None)
    tagged: list[int] = key(some(number(1, 4094)), "VLANs whose frames this port carries with a tag.", list)
    leased: bool = key(YES_NO, "The address comes from an address-lease service on the segment.", False)
    answers_for: list[Block] = key(some(RUNS), "Further addresses for which it answers on its segment.", list)
    outside: bool | None = key(
        YES_NO, "It faces what is not one's own. Where no interface of a firewall says so, those without a local address do.", None
    )
    ospf: OspfPortIn | None = key(of(OspfPortIn), "Speak OSPF here: an area number, or a mapping.", None)
    rip: str | None = key(one_of("active", "passive"), "Speak RIP version 2 here; passive: announce the subnet, hear nobody.", None)


class RouteIn(Part):
    """A static route."""

    prefix: Prefix = key(PREFIX, "Destination prefix; default (IPv4) or default6 (IPv6).")
    next_hop: Address | None = key(ADDRESS, "Address of the next router.", None)
    leaving: str | None = key(A_PORT, "Interface, or group of uplinks, that it leaves by.", None)
    table: str = key(NAME, "Name of the route table; main is the one that forwarding asks.", "main")
    preference: int = key(number(1, 255), "Lower wins among routes to the same prefix.", 1)
    metric: int = key(number(0, 4294967295), "Lower wins among routes of the same preference.", 0)
    action: str = key(
        one_of("forward", "discard", "unreachable", "leave-table"),
        "Pass on, drop silently, or drop and answer unreachable; leave-table, in a named table: what asked the table goes on.",
        "forward",
    )
    while_: str | None = key(WHILE, "Only while this probe of the device is up, or GROUP/last-resort is in use.", None)
    about: str = key(WORDS, "What it is for.", "")


class GoesToIn(Part):
    """Where packets go instead of their destination."""

    short: ClassVar[str] = "address"

    address: list[str] = key(
        ADDRESSES,
        "A device, a name, or an address; several share the packets by source address. self: the device itself; exempt: they stay.",
    )
    port: Span | None = key(PORT, "Another port, or as many as the service has; the packet's own when left out.", None)
    onward: bool = key(
        YES_NO, "For self: the device takes what is sent to it, and asks the same of whom it was meant for, in its own name.", False
    )


class BecomesIn(Part):
    """What a source becomes."""

    short: ClassVar[str] = "address"

    address: str | None = key(
        AN_ADDRESS, "interface: the leaving interface's address; exempt: it stays; or an address. With a port of its own.", None
    )
    pool: list[str] | None = key(ADDRESSES, "One of these addresses, always the same for a source; with a port of its own.", None)
    pair: str | None = key(
        AN_ADDRESS, "The partner of a fixed pair, both ways: an address, or a prefix as long as the source's. Ports stay.", None
    )

    def check(self) -> None:
        """Refuse more than one of them, and none."""
        said = [k for k in ("address", "pool", "pair") if getattr(self, k) is not None]
        if len(said) != 1:
            raise fault("a source becomes one thing: an address, pool, or pair." if said else "say address, pool or pair.")


class TranslateIn(Part):
    """A translation: what a source becomes as packets leave, or where a destination goes as they arrive."""

    id: str | None = key(NAME, "Name of the rule; counted in tens when left out.", None)
    source: list[str] | None = key(ADDRESSES, "Whose packets; everybody's when left out.", None)
    to: list[str] | None = key(ADDRESSES, "Only packets to these destinations; self for the device's own addresses.", None)
    service: list[str] | None = key(SERVED, "Only these services.", None)
    arriving: list[str] | None = key(ARRIVALS, "Only packets that arrive by these interfaces.", None)
    leaving: list[str] | None = key(
        ARRIVALS, "Only packets that leave by these interfaces; must be given for becomes, and goes with that alone.", None
    )
    hours: list[str] | None = key(some(A_WINDOW, 1), "Only while one of these windows under hours: is open.", None)
    family: str | None = key(
        one_of("4", "6", "both", json={"enum": [4, 6, "4", "6", "both"]}),
        "4, 6, or both; that of the addresses that it names when left out, or 4.",
        None,
    )
    becomes: BecomesIn | None = key(
        of(BecomesIn), "The new source: interface, an address, a pool, a pair, or exempt; interface when goes-to is left out.", None
    )
    goes_to: GoesToIn | None = key(
        of(GoesToIn), "The new destination: an address, several, self, exempt, or a mapping with a port.", None
    )
    lists: list[str] | None = key(LISTS, "For goes-to: lists that its packets meet, with their new destination.", None)
    disabled: bool = key(YES_NO, "Keep the rule, but pass it over.", False)
    about: str = key(WORDS, "What it is for.", "")


class ProbeIn(Part):
    """A test that a device repeats by itself."""

    short: ClassVar[str] = "target"

    target: str = key(AN_ADDRESS, "Who is asked: an address, a host, a far host, or a name with one address.")
    service: str = key(A_SERVICE, "ping, or protocol and port: tcp/443.", "ping")
    by: str | None = key(
        AN_INTERFACE, "The interface that its packets leave by, to the gateway that routes name there; else as routes say.", None
    )
    every: int = key(DURATION, "How often it asks: 5 s.", 5000)
    reply_within: int = key(DURATION, "How long an answer may take.", 1000)
    down_after: int = key(number(1, 1000), "So many failures in a row, and it is down.", 3)
    up_after: int = key(number(1, 1000), "So many answers in a row, and it is up again.", 3)
    latency: float | None = key(number(0, 100000, "ms", whole=False), "The most that the way there and back may take.", None)
    jitter: float | None = key(number(0, 100000, "ms", whole=False), "The most that this may vary.", None)
    loss: float | None = key(number(0, 100, "%", whole=False), "The most that may be lost there and back.", None)
    enabled: bool = key(YES_NO, "no: it asks nothing, and counts as the setting switched-off-probe says.", True)
    about: str = key(WORDS, "What it watches.", "")


class MemberIn(Part):
    """A member of a group of uplinks."""

    short: ClassVar[str] = "leaving"

    leaving: str = key(AN_INTERFACE, "The interface.")
    next_hop: list[Address] = key(
        some(ADDRESS), "Whom it hands to, for routes that name no next hop; one of each family. Else as interface-route says.", list
    )
    while_: str | None = key(WHILE, "Only while this probe of the device is up.", None)


class UplinksIn(Part):
    """A group of uplinks; a list of members stands for the whole of it."""

    short: ClassVar[str] = "members"

    members: list[MemberIn] = key(some(of(MemberIn)), "The interfaces that serve as one way out.")
    choose: str = key(
        one_of("share", "first", "best"),
        "Which of those that can serve is taken: flows are shared among them, the first one, or the best by its probe.",
        "share",
    )
    by: str | None = key(one_of("latency", "jitter", "loss"), "What the best one is found by, as its probe measures it.", None)
    last_resort: MemberIn | None = key(of(MemberIn), "A further interface, used only while no member can serve.", None)


class CandidateIn(Part):
    """One way of a policy route."""

    short: ClassVar[str] = "next-hop"

    next_hop: Address | None = key(ADDRESS, "Address of a router on a connected subnet.", None)
    leaving: str | None = key(AN_INTERFACE, "An interface; alone, or to say where the next hop is.", None)
    table: str | None = key(A_TABLE, "A route table of this device, which is then asked.", None)
    discard: bool = key(YES_NO, "yes: drop the packet silently.", False)
    uplink: str | None = key(
        A_PORT,
        "An interface, or a group of uplinks: by the best route that leaves there, whatever better one leaves elsewhere.",
        None,
    )
    while_: str | None = key(WHILE, "Only while this probe of the device is up, or GROUP/last-resort is in use.", None)


class PolicyRouteIn(ConditionsIn):
    """A policy route: an entry that is asked before the route table."""

    id: str | None = key(IDENT, "Number or name of the entry; counted in tens when left out.", None)
    protocol: int | None = key(PROTOCOL, "Only packets of this protocol.", None)
    list_: str | None = key(A_LIST, "An access list that says which packets: its permits apply this entry, its denies go on.", None)
    candidates: list[CandidateIn] = key(
        some(of(CandidateIn), 1), "Ways in order: the first whose interface is up and whose next hop answers is taken."
    )
    none_available: str = key(
        one_of("table", "next", "drop"),
        "What follows where none of them is to be had: the route table decides, the next entry is asked, or the packet is dropped.",
        "table",
    )


class ExternalIn(Part):
    """How foreign routes are announced in OSPF."""

    short: ClassVar[str] = "metric"

    metric: int = key(number(0, 16777214), "Metric that they are announced with.", 20)
    type: int = key(number(1, 2), "1: the way to the announcing router is added; 2: it is not, the metric alone decides.", 2)


class OspfDefaultIn(ExternalIn):
    """A default route announced in OSPF."""

    short: ClassVar[str] = ""

    always: bool = key(YES_NO, "Announce it even without a default route of one's own.", False)


class OspfIn(Part):
    """OSPF settings of a device."""

    areas: dict[str, str] = key(
        by_name(WORD, one_of("normal", "stub", "totally-stub")),
        "Kinds of areas by number: stub takes no external routes, totally-stub only a default.",
        dict,
    )
    redistribute: dict[str, ExternalIn] = key(
        by_name(one_of("connected", "static", "rip"), of(ExternalIn)), "Which routes of other origin are announced, and how.", dict
    )
    default_route: OspfDefaultIn | None = key(of(OspfDefaultIn), "Announce a default route.", None)
    preference: int = key(number(1, 255), "Preference of routes learned by OSPF.", 110)


class RipIn(Part):
    """RIP settings of a device."""

    redistribute: dict[str, int] = key(
        by_name(one_of("connected", "static", "ospf"), number(1, 15)),
        "Which routes of other origin are announced, each with its metric in hops.",
        dict,
    )
    default_route: bool = key(YES_NO, "Announce a default route, with metric 1.", False)
    preference: int = key(number(1, 255), "Preference of routes learned by RIP.", 120)


class FarHostIn(Part):
    """A host of the stand-in Internet."""

    short: ClassVar[str] = "address"

    address: list[Address] = key(some(ADDRESS), "Its addresses, without prefix length.")
    serves: list[str] = key(some(A_SERVICE), "Services that it listens for.", list)
    silent: bool = key(YES_NO, "Say nothing for a closed port, instead of refusing.", False)


class LeaseIn(Part):
    """An address-lease service on an interface."""

    short: ClassVar[str] = "range"

    range: Block = key(RUNS, "Addresses that are given out, lowest first.")
    gateway: Address | None = key(ADDRESS, "Gateway that clients are told of; the interface's own when left out.", None)
    resolvers: list[Address] = key(some(ADDRESS), "Resolvers that clients are told of.", list)


class DeviceIn(Part):
    """A device. A router, firewall, host, switch, or stand-in for the Internet."""

    kind: str = key(one_of("router", "firewall", "host", "switch", "internet"), "What the device is.")
    about: str = key(WORDS, "What the device is for.", "")
    zone: str = key(NAME, "Where it stands; only shown.", "")
    address: list[InterfaceAddress] | None = key(
        some(INTERFACE_ADDRESS), "For a host with one interface, named nic: its address.", None
    )
    gateway: list[Address] | None = key(some(ADDRESS), "For a host: where it sends what is not on its own subnet.", None)
    leased: bool = key(YES_NO, "For a host with one interface, named nic: its address is leased.", False)
    interfaces: dict[str, InterfaceIn] = key(
        by_name(PORT_NAME, of(InterfaceIn)), "Interfaces by name; an address alone may stand for the whole.", dict
    )
    ports: list[str] = key(
        some(PORT_NAME), "For a switch: names of ports that need no keys of their own; members of VLAN 1, untagged.", list
    )
    probes: dict[str, ProbeIn] = key(
        by_name(NAME, of(ProbeIn)),
        "Tests that it repeats by itself; a target alone will do. Routes and ways are bound to one by while.",
        dict,
    )
    uplinks: dict[str, UplinksIn] = key(
        by_name(NAME, of(UplinksIn)), "Groups of interfaces that serve as one way out; a route's leaving may name one.", dict
    )
    resolvers: list[Address] = key(
        some(ADDRESS), "Resolvers that this device asks for the addresses of names, in this order.", list
    )
    records: dict[str, list[Address]] | None = key(
        by_name(NAME, some(ADDRESS)), "This device is a resolver, and knows these names.", None
    )
    leases: dict[str, LeaseIn] = key(
        by_name(PORT_NAME._replace(refers="interface"), of(LeaseIn)),
        "Address-lease services, by the interface whose segment they serve.",
        dict,
    )
    hosts: dict[str, FarHostIn] = key(
        by_name(NAME, of(FarHostIn)), "For an internet device: the far hosts that it stands for; an address alone will do.", dict
    )
    ospf: OspfIn | None = key(of(OspfIn), "OSPF settings beyond those of the interfaces.", None)
    rip: RipIn | None = key(of(RipIn), "RIP settings beyond those of the interfaces.", None)
    routes: list[RouteIn] = key(listed(of(RouteIn)), "Static routes.", list)
    stateful: list[str] | None = key(
        some(WORD),
        "Protocols whose answers pass because of a session; none for no protocol. A firewall has tcp and udp when neither this nor an interface says anything.",
        None,
    )
    helpers: list[str] = key(
        some(A_SERVICE),
        "Services whose second channels it reads of, lets pass, and translates: ftp, or one of services: that expects.",
        list,
    )
    translate: list[TranslateIn] = key(
        listed(of(TranslateIn)), "Translation rules: of sources, and of destinations; of each the first match decides.", list
    )
    policy_routes: list[PolicyRouteIn] = key(
        listed(of(PolicyRouteIn)), "Entries that choose a way of their own for the packets that they match, in order.", list
    )
    everywhere: EverywhereIn | None = key(of(EverywhereIn), "Lists for whatever arrives, by whichever interface.", None)
    crossings: list[CrossingIn] = key(
        listed(of(CrossingIn)), "Lists for pairs of zones, in order: the first pair that a packet belongs to.", list
    )
    to_self: list[str] | None = key(LISTS, "Lists for packets to the device itself.", None)
    from_self: list[str] | None = key(LISTS, "Lists for packets that the device makes itself.", None)
    offers: dict[str, dict[str, list[str]]] = key(
        by_name(PORT_NAME._replace(refers="interface"), by_name(A_SERVICE, ADDRESSES)),
        "What the device answers, by interface: services, each with who may ask; none for nobody. It answers nothing else there.",
        dict,
    )
    profiles: dict[str, ProfileIn] = key(
        by_name(NAME, of(ProfileIn)),
        "Lists for chosen hosts or VLANs, in order: the first that a packet's opener belongs to.",
        dict,
    )
    built_in: dict[str, bool] = key(by_name(WORD, YES_NO), "Built-in rules to switch on or off, by name.", dict)
    order: list[str] | None = key(
        listed(WORD), "The device's own order of stages for packets that arrive; the built-in one when left out.", None
    )
    serves: list[str] = key(some(A_SERVICE), "Services that it listens for.", list)
    settings: dict[str, str] = key(by_name(WORD, WORD), "Named defaults to change.", dict)


class SegmentIn(Part):
    """A cable, radio cell or bridged network."""

    short: ClassVar[str] = "members"

    members: list[str] = key(some(A_MEMBER), "device/interface, or the name alone of a host with one interface.")
    about: str = key(WORDS, "What it is.", "")
    state: str = key(one_of("up", "down"), "down: the cable is cut; every port on it loses its link.", "up")
    latency: float = key(number(0, 100000, "ms", whole=False), "Time from end to end, in ms.", 0.0)
    jitter: float = key(number(0, 100000, "ms", whole=False), "How much that varies, in ms.", 0.0)
    loss: float = key(number(0, 100, "%", whole=False), "Packets lost, in per cent.", 0.0)
    mtu: int | None = key(
        number(68, 65535),
        "Largest packet that the cable or tunnel carries, in bytes, where that is less than the interfaces say.",
        None,
    )


class NetworkIn(Part):
    """A network file."""

    mossy_network: str = key(one_of("1", json={"enum": [1, "1"]}), "Version of the format: 1.")
    title: str = key(WORDS, "Name of the network.", "")
    about: str = key(WORDS, "What it shows.", "")
    local: list[Block] = key(listed(RUNS), "What the built-in group local-networks holds; the private ranges when left out.", list)
    hours: dict[str, HoursIn] = key(by_name(NAME, of(HoursIn)), "Windows of time.", dict)
    applications: dict[str, ApplicationIn] = key(by_name(NAME, of(ApplicationIn)), "Applications that flows may be of.", dict)
    names: dict[str, list[Address]] = key(by_name(NAME, some(ADDRESS)), "Host names with their addresses.", dict)
    groups: dict[str, GroupIn] = key(by_name(NAME, of(GroupIn)), "Address groups.", dict)
    services: dict[str, ServicesIn] = key(by_name(NAME, of(ServicesIn)), "Named services.", dict)
    lists: dict[str, ListIn] = key(by_name(NAME, of(ListIn)), "Access lists.", dict)
    devices: dict[str, DeviceIn] = key(by_name(NAME, of(DeviceIn)), "Devices by name.")
    segments: dict[str, SegmentIn] = key(by_name(NAME, of(SegmentIn)), "Segments by name.", dict)


def settings_schema() -> Json:
    """JSON Schema of the settings mapping."""
    return {
        "type": "object",
        "additionalProperties": False,
        "properties": {s.name: {**_setting_values(s), "description": s.why} for s in SETTINGS.values()},
    }


def _setting_values(setting: Setting) -> Json:
    """What a setting may be."""
    measured: dict[str, list[Json]] = {
        "": [],
        "time": [{"type": "string", "pattern": r"^\s*(\d+\s*(d|h|min|s|ms)\s*)+$"}],
        "number": [{"type": "integer", "minimum": 1, "maximum": MOST_COUNTED}],
    }
    words: list[Json] = [{"enum": list(setting.values)}] if setting.values else []
    both = [*words, *measured[setting.measure]]
    return both[0] if len(both) == 1 else {"anyOf": both}
