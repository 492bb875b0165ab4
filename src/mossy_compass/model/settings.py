"""Every default of a device as a named setting: its values, what each kind of device has, and why.

A ruling that follows from a default cites the setting by its name, so nothing that decides is unwritten.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Generic, NamedTuple, TypeVar, overload

from mossy_compass.marks import Mark
from mossy_compass.model.durations import parse_duration


class Setting(NamedTuple):
    """One named default.

    Attributes:
        name: as written under ``settings:`` of a device.
        values: what it may be.
        router, firewall, host: the value when the file says nothing, by kind of device.
        why: one sentence on what it decides and why the default is so.
        measure: ``time`` or ``number``: beside its values it may be a duration with its units, or a whole number.

    """

    name: str
    values: tuple[str, ...]
    router: str
    firewall: str
    host: str
    why: str
    measure: str = ""

    def takes(self, value: str) -> bool:
        """Whether it may be so."""
        if value in self.values:
            return True
        if self.measure == "time":
            return (parse_duration(value) or 0) > 0
        return self.measure == "number" and value.isascii() and value.isdigit() and 0 < int(value) <= MOST_COUNTED

    @property
    def words(self) -> str:
        """What it may be, for people."""
        measured = {"": (), "time": ("a time like 2 h 4 min",), "number": (f"a number from 1 to {MOST_COUNTED}",)}[self.measure]
        return ", ".join((*measured, *self.values))


MOST_COUNTED = 100_000_000
"""The largest limit that may be written."""


class EndOfList(StrEnum):
    """Values of ``end-of-list``."""

    DENY = "deny"
    PERMIT = "permit"
    REJECT = "reject"


class EmptyList(StrEnum):
    """Values of ``empty-list``."""

    IGNORE = "ignore"
    PERMIT = "permit"
    DENY = "deny"


class SourceCheck(StrEnum):
    """Values of ``source-check`` (RFC 3704)."""

    OFF = "off"
    STRICT = "strict"
    LOOSE = "loose"


class Sharing(StrEnum):
    """Values of ``sharing``: the fields that the hash is made of."""

    FLOW = "flow"
    ENDS = "source-destination"
    SOURCE = "source"


class UnknownSession(StrEnum):
    """Values of ``unknown-session``."""

    BY_PROTOCOL = "by-protocol"
    PASS = "pass"
    FILTER = "filter"
    DROP = "drop"


class ErrorSource(StrEnum):
    """Values of ``error-source``."""

    LEAVING = "leaving"
    ARRIVING = "arriving"


T = TypeVar("T")
E = TypeVar("E", bound=StrEnum)


class InForce(Generic[T]):
    """A setting where it is written down, and its value at one device, of its own type.

    It is read when somebody asks for it first, and stands among the device's settings from then on.
    """

    def __init__(self, setting: Setting, read: Callable[[str], T]) -> None:
        self.setting, self.read = setting, read

    def __set_name__(self, owner: type, name: str) -> None:
        self.name = name

    @overload
    def __get__(self, settings: None, owner: type) -> InForce[T]: ...
    @overload
    def __get__(self, settings: Settings, owner: type) -> T: ...
    def __get__(self, settings: Settings | None, owner: type) -> InForce[T] | T:
        if settings is None:
            return self
        value = settings.__dict__[self.name] = self.read(settings.values[self.setting.name])
        return value


def _is(value: str, name: str, values: tuple[str, ...], router: str, firewall: str, host: str, why: str) -> InForce[bool]:
    """A setting of two values as a boolean, which is true for this one."""
    return InForce(Setting(name, values, router, firewall, host, why), value.__eq__)


def _one_of(values: type[E], name: str, router: str, firewall: str, host: str, why: str) -> InForce[E]:
    """A setting that is one of an enumeration."""
    return InForce(Setting(name, tuple(v.value for v in values), router, firewall, host, why), values)


def _text(name: str, values: tuple[str, ...], router: str, firewall: str, host: str, why: str, measure: str = "") -> InForce[str]:
    """A setting as it is written."""
    return InForce(Setting(name, values, router, firewall, host, why, measure), str)


def _lives(name: str, value: str, host: str, why: str) -> InForce[str]:
    """How long sessions live without a packet; ``never`` is what hosts do, which have no need to forget."""
    return _text(name, ("never",), value, value, host, why, "time")


@dataclass(frozen=True, repr=False)
class Settings:
    """The settings in force at one device: each of its own type, and as text by its name.

    A setting whose two values are yes and no, permit and deny, or the like, is a boolean.

    Attributes:
        values, marks: each by its written name; a setting without a mark has its default.
        kind: the kind of device, for the words of a default.

    """

    values: Mapping[str, str]
    kind: str
    marks: Mapping[str, Mark] = field(default_factory=dict, compare=False)

    forwarding = _is(
        "yes",
        "forwarding",
        ("yes", "no"),
        "yes",
        "yes",
        "no",
        "Whether packets for others are passed on; a general-purpose system does not unless told to (RFC 1122 3.1).",
    )
    end_of_list = _one_of(
        EndOfList,
        "end-of-list",
        "deny",
        "deny",
        "deny",
        "What happens to a packet that no rule of an attached list matched; a list says what may pass, so the rest may not.",
    )
    empty_list = _one_of(
        EmptyList,
        "empty-list",
        "ignore",
        "ignore",
        "ignore",
        "What an attached list without any rule does; it says nothing, so it counts for nothing, as if it were not attached. Whoever writes permit lets in by it.",
    )
    no_list_permits = _is(
        "permit",
        "no-list",
        ("permit", "deny"),
        "permit",
        "permit",
        "permit",
        "What happens where no list is attached to the interface in this direction; filtering begins when a list is attached.",
    )
    inbound = _is(
        "permit",
        "inbound",
        ("permit", "deny"),
        "permit",
        "deny",
        "permit",
        "What happens to a packet that comes in by an outside interface and that neither a session nor any rule of a list let pass; a firewall lets strangers start nothing.",
    )
    outbound = _is(
        "permit",
        "outbound",
        ("permit", "deny"),
        "permit",
        "permit",
        "permit",
        "The same for a packet that comes by an inside interface and leaves by an outside one; people inside may ask the world.",
    )
    through = _is(
        "permit",
        "through",
        ("permit", "deny"),
        "permit",
        "permit",
        "permit",
        "The same for a packet that passes from one inside interface to another, or between two outside ones; the zones of a house trust each other until a rule says otherwise.",
    )
    translation_opens = _is(
        "yes",
        "translation-opens",
        ("no", "yes"),
        "no",
        "no",
        "no",
        "Whether a destination rule also lets in what it sends on; where not, a rule of a list must permit it.",
    )
    lists_see_inner = _text(
        "lists-see-inner",
        ("yes", "no"),
        "yes",
        "yes",
        "yes",
        "Whether what comes out of a tunnel meets the lists for what arrives by the tunnel's interface; where not, whoever can send into the tunnel is past them.",
    )
    offers_hold = _is(
        "yes",
        "offers-hold",
        ("yes", "no"),
        "yes",
        "yes",
        "yes",
        "Whether what an interface does not offer stays closed although a list for the device itself permits it; a permit opens no service.",
    )
    unknown_session = _one_of(
        UnknownSession,
        "unknown-session",
        "by-protocol",
        "by-protocol",
        "by-protocol",
        "What becomes of a packet of an inspected protocol that can open no session and belongs to none: by-protocol drops TCP and has the lists asked about the rest (RFC 9293 section 3.5).",
    )
    logs_defaults = _is(
        "yes",
        "log-defaults",
        ("no", "yes"),
        "no",
        "no",
        "no",
        "Whether a log line is written where a default stops a packet and no rule did; most devices are silent there, which is why drops leave no trace.",
    )
    learns_names = _is(
        "learned",
        "name-rules",
        ("resolved", "learned"),
        "resolved",
        "resolved",
        "resolved",
        "How a rule that says `name` knows addresses: the device asks for the name itself, or it learns from the answers to lookups that pass through it.",
    )
    own_packets_filtered = _is(
        "filtered",
        "own-packets",
        ("pass", "filtered"),
        "pass",
        "pass",
        "pass",
        "Whether packets that the device makes itself are compared with the list of the interface that they leave by; a device trusts itself.",
    )
    to_self = _is(
        "permit",
        "to-self",
        ("permit", "deny"),
        "permit",
        "permit",
        "permit",
        "Whether packets addressed to the device itself are taken once the arriving list has let them in.",
    )
    from_self = _is(
        "permit", "from-self", ("permit", "deny"), "permit", "permit", "permit", "Whether the device may send packets of its own."
    )
    answers_ping = _is(
        "yes",
        "answers-ping",
        ("yes", "no"),
        "yes",
        "yes",
        "yes",
        "Whether an echo request to the device is answered (RFC 1122 3.2.2.6 asks every host to).",
    )
    refuses_closed_ports = _is(
        "refuse",
        "closed-port",
        ("refuse", "silent"),
        "refuse",
        "silent",
        "refuse",
        "What a sender gets for a port on which nothing listens: a refusal (RFC 9293 3.10.7, RFC 1122 4.1.3.1), or nothing, so that a firewall tells strangers nothing.",
    )
    sends_unreachable = _is(
        "yes",
        "sends-unreachable",
        ("yes", "no"),
        "yes",
        "yes",
        "yes",
        "Whether the device tells the sender, by ICMP, that it could not pass a packet on (RFC 1812 5.2.7).",
    )
    sends_time_exceeded = _is(
        "yes",
        "sends-time-exceeded",
        ("yes", "no"),
        "yes",
        "yes",
        "no",
        "Whether the device tells the sender, by ICMP, that the packet's TTL ran out (RFC 1812 5.2.7.3).",
    )
    error_source = _one_of(
        ErrorSource,
        "error-source",
        "leaving",
        "leaving",
        "leaving",
        "Whose address an ICMP error of the device has: that of the interface by which the error leaves (RFC 1812 4.3.2.4, RFC 4443 2.2), or of the one by which the packet that it is about arrived.",
    )
    rejects_with_reset = _is(
        "reset",
        "reject-answer",
        ("reset", "prohibited"),
        "prohibited",
        "reset",
        "reset",
        "What `reject` sends for TCP: a reset in the far end's name, or ICMP 'prohibited'; anything but TCP always gets ICMP.",
    )
    session_errors_pass = _is(
        "pass",
        "session-errors",
        ("pass", "filtered"),
        "pass",
        "pass",
        "pass",
        "Whether an ICMP error about a packet of a known session belongs to that session (RFC 5508 section 5, RFC 6146 section 3.5).",
    )
    keep_port = _text(
        "keep-port",
        ("yes", "no"),
        "yes",
        "yes",
        "yes",
        "Whether source translation keeps the source port while it is free (RFC 4787 4.2.1); else the lowest free port from 1024 is taken.",
    )
    mapping = _text(
        "mapping",
        ("endpoint-independent", "address-dependent", "per-flow"),
        "endpoint-independent",
        "endpoint-independent",
        "endpoint-independent",
        "Whether a translated source keeps its outer address and port for every destination (RFC 4787 4.1, REQ-1), for every port of one far address, or gets another for each flow.",
    )
    filtering = _text(
        "filtering",
        ("per-flow", "address-dependent", "endpoint-independent"),
        "per-flow",
        "per-flow",
        "per-flow",
        "Who may send to the outer end of a translated source: the far end of a flow alone, any port of a far address that it talks to, or anybody (RFC 4787 5, REQ-8).",
    )
    unsolicited_syn = _text(
        "unsolicited-syn",
        ("drop", "hold"),
        "drop",
        "drop",
        "drop",
        "What becomes of a TCP packet from outside that would open a conversation with an outer end, and that nobody asked for: silence, or it is held for 6 s, and its sender told that the port is unreachable unless the inner end opens the same conversation meanwhile (RFC 5382 REQ-4).",
    )
    session_phase = _text(
        "session-phase",
        ("strict", "loose"),
        "strict",
        "strict",
        "loose",
        "Whether a TCP packet of a known session must be one that its phase expects; strict drops data before the answer was seen, as where answers take another way.",
    )
    session_interfaces = _text(
        "session-interfaces",
        ("any", "same"),
        "any",
        "any",
        "any",
        "Whether packets of a known session may come by any interface, or must come by the one by which that direction came or went at first.",
    )
    session_exit = _text(
        "session-exit",
        ("routed", "arrived", "handed"),
        "routed",
        "routed",
        "routed",
        "Where answers of a session leave: as the routes say; by the interface that it was opened by, as the best route there says; or to the neighbour that handed the opening packet over. Where that is down, as the routes say.",
    )
    after_reset = _text(
        "after-reset",
        ("revive", "end"),
        "revive",
        "revive",
        "end",
        "What a reset does to a session: it lives on for time-out-closing, and a later packet revives it (RFC 7857 2.2), or it ends at once.",
    )
    time_out_open = _lives(
        "time-out-open",
        "2 h 4 min",
        "never",
        "How long an open TCP session lives without a packet (RFC 5382 REQ-5: at least 2 h 4 min).",
    )
    time_out_opening = _lives(
        "time-out-opening",
        "4 min",
        "never",
        "How long a TCP session lives whose answer nobody has acknowledged yet (RFC 5382 REQ-5: at least 4 min).",
    )
    time_out_closing = _text(
        "time-out-closing",
        ("at once",),
        "4 min",
        "4 min",
        "at once",
        "How long a TCP session lives after both ends closed it or one reset it (RFC 5382 REQ-5, RFC 7857 2.1 and 2.2); a host forgets it at once.",
        "time",
    )
    time_out_udp = _lives(
        "time-out-udp", "5 min", "never", "How long a session of UDP lives without a packet (RFC 4787 REQ-5: 5 min or more)."
    )
    time_out_icmp = _lives(
        "time-out-icmp", "60 s", "never", "How long a session of an ICMP query lives (RFC 5508 REQ-2: at least 60 s)."
    )
    time_out_other = _lives(
        "time-out-other",
        "5 min",
        "never",
        "How long sessions of other protocols live without a packet; no standard says, so as for UDP.",
    )
    announced_for = _text(
        "announced-for",
        (),
        "60 s",
        "60 s",
        "60 s",
        "How long a second channel that a helper read of may still be opened; no standard says.",
        "time",
    )
    association_for = _text(
        "association-for",
        ("never",),
        "8 h",
        "8 h",
        "8 h",
        "How long the association of a tunnel lives whose keys are exchanged (RFC 7296 section 2.8: each end says for itself, and the shorter one counts); the next packet makes a new one. Behind never it ends only when it is cleared.",
        "time",
    )
    association_lists = _text(
        "association-lists",
        ("as-opened", "as-written"),
        "as-opened",
        "as-opened",
        "as-opened",
        "Which lists of a tunnel's interface what comes out of it meets: those of when its association was made, or those of now; what is in use stays in use until somebody makes it new.",
    )
    path_mtu = _text(
        "path-mtu",
        ("learn", "ignore"),
        "learn",
        "learn",
        "learn",
        "Whether a tunnel remembers, for ten minutes, how long its outer packets may be from an error about one that was too long (RFC 1191 section 6.3), so that senders inside are told.",
    )
    tunnel_first_packet = _text(
        "tunnel-first-packet",
        ("wait", "lose"),
        "wait",
        "wait",
        "wait",
        "What becomes of a packet while the keys of its tunnel are exchanged: it waits and goes in afterwards, or is lost, and the next one goes in.",
    )
    after_rule_change = _text(
        "after-rule-change",
        ("keep", "judge", "clear"),
        "keep",
        "keep",
        "keep",
        "What a change of rules does to sessions that exist: they live on, or each is judged at its next packet by the rules of now, or all end at once.",
    )
    after_route_change = _text(
        "after-route-change",
        ("keep", "judge", "clear"),
        "keep",
        "keep",
        "keep",
        "The same of a change of routes: judged, a session ends whose opening packet would leave by another interface now.",
    )
    after_translation_change = _text(
        "after-translation-change",
        ("keep", "judge", "clear"),
        "keep",
        "keep",
        "keep",
        "The same of a change of translation rules or of the device's addresses: judged, a session ends whose ends would become others now.",
    )
    session_limit = _text(
        "session-limit",
        ("none",),
        "none",
        "none",
        "none",
        "How many sessions may live at once; further ones are refused, for a table has an end.",
        "number",
    )
    half_open_limit = _text(
        "half-open-limit",
        ("none",),
        "none",
        "none",
        "none",
        "How many TCP sessions may be half-open at once, so that a flood of opening packets does not fill the table.",
        "number",
    )
    history = _text(
        "history",
        (),
        "100",
        "100",
        "100",
        "How many sessions that are over a device remembers, so that a late packet can be told what it belonged to.",
        "number",
    )
    answers_translated = _is(
        "yes",
        "answers-translated",
        ("yes", "no"),
        "yes",
        "yes",
        "yes",
        "Whether the device answers, on an interface's own subnets, for the addresses that its translation rules send on or give to sources; else answers-for must name them.",
    )
    drops_untranslated = _is(
        "drop",
        "unmatched-translation",
        ("keep", "drop"),
        "keep",
        "keep",
        "keep",
        "What happens to a packet that leaves by an interface whose translation rules do not match it: it goes out as it is, or not at all.",
    )
    flows_of_a_lost_uplink = _text(
        "flows-of-a-lost-uplink",
        ("keep", "cut", "move"),
        "keep",
        "keep",
        "keep",
        "What becomes of a translated session whose packets leave by another interface by now: it goes on with the address of the one before, which that uplink mostly does not lead back; it ends at once, so that the next conversation has the right one; or it moves: it is translated anew, which a far end that looks at addresses takes for somebody else.",
    )
    switched_off_probe = _text(
        "switched-off-probe",
        ("down", "up"),
        "down",
        "down",
        "down",
        "How a probe counts that is not enabled, for what is bound to it: it has shown nothing, so nothing is known to work.",
    )
    answers_policy_routes = _text(
        "answers-policy-routes",
        ("no", "yes"),
        "no",
        "no",
        "no",
        "Whether answers of sessions meet policy routes too, as packets of their own; else they go as the route table says.",
    )
    classifier_deny = _text(
        "classifier-deny",
        ("next", "table"),
        "next",
        "next",
        "next",
        "What a policy route's list does with what it denies: the next entry is asked, or none any more, and the route table decides.",
    )
    policy_for_own = _is(
        "yes",
        "own-policy-routes",
        ("no", "yes"),
        "no",
        "no",
        "no",
        "Whether entries of policy-routes that name no arriving interface see the packets that the device makes itself: its tests, its lookups, its errors. Answers of its sessions never meet them.",
    )
    source_check = _one_of(
        SourceCheck,
        "source-check",
        "off",
        "off",
        "off",
        "Whether an arriving packet's source must have a route back, by the same interface (strict) or by any (loose) (RFC 3704).",
    )
    drops_own_source = _is(
        "drop",
        "own-source",
        ("drop", "accept"),
        "drop",
        "drop",
        "drop",
        "What happens to an IPv4 packet that arrives with an address of the device itself as its source: only a circle or a forger can send it. IPv6 packets are not looked at for that.",
    )
    sharing = _one_of(
        Sharing,
        "sharing",
        "flow",
        "source",
        "flow",
        "Which fields choose among equal routes: a flow's five, both addresses, or the source address alone, so that a host always leaves by the same uplink.",
    )
    asks_peer = _is(
        "peer",
        "interface-route",
        ("destination", "peer"),
        "destination",
        "destination",
        "destination",
        "Whom a route asks for that names an interface and no next hop: the destination itself on that segment, or the only other device there. A leased interface uses its lease's gateway.",
    )
    leased_default_route = _is(
        "yes",
        "leased-default-route",
        ("yes", "no"),
        "yes",
        "yes",
        "yes",
        "Whether a lease also installs a default route through the gateway that it names.",
    )

    def text(self, name: str) -> str:
        """The value of a setting as it is written."""
        return self.values[name]

    def mark(self, name: str) -> Mark | None:
        """Where a setting was written; None when its default is in force."""
        return self.marks.get(name)


SETTINGS: dict[str, Setting] = {one.setting.name: one.setting for one in vars(Settings).values() if isinstance(one, InForce)}
"""Every setting, by its written name."""
TIME_OUTS = ("time-out-open", "time-out-opening", "time-out-closing", "time-out-udp", "time-out-icmp", "time-out-other")


def default_of(name: str, kind: str) -> str:
    """The value of a setting when the file says nothing, for a kind of device."""
    setting = SETTINGS[name]
    return {"router": setting.router, "firewall": setting.firewall, "internet": setting.router}.get(kind, setting.host)


def settings_of(kind: str, written: Mapping[str, tuple[str, Mark]]) -> Settings:
    """The settings in force at a device of a kind, where ``written`` has values that the table allows."""
    value = {name: written[name][0] if name in written else default_of(name, kind) for name in SETTINGS}
    return Settings(value, kind, {name: mark for name, (_, mark) in written.items()})
