"""Every default of a device as a named setting: its values, what each kind of device has, and why.

A ruling that follows from a default cites the setting by its name, so nothing that decides is unwritten.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

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


def _lives(name: str, value: str, host: str, why: str) -> Setting:
    """How long sessions live without a packet; ``never`` is what hosts do, which have no need to forget."""
    return Setting(name, ("never",), value, value, host, why, "time")


SETTINGS: dict[str, Setting] = {
    s.name: s
    for s in (
        Setting(
            "forwarding",
            ("yes", "no"),
            "yes",
            "yes",
            "no",
            "Whether packets for others are passed on; a general-purpose system does not unless told to (RFC 1122 3.1).",
        ),
        Setting(
            "end-of-list",
            ("deny", "permit", "reject"),
            "deny",
            "deny",
            "deny",
            "What happens to a packet that no rule of an attached list matched; a list says what may pass, so the rest may not.",
        ),
        Setting(
            "empty-list",
            ("ignore", "permit", "deny"),
            "ignore",
            "ignore",
            "ignore",
            "What an attached list without any rule does; it says nothing, so it counts for nothing, as if it were not attached. Whoever writes permit lets in by it.",
        ),
        Setting(
            "no-list",
            ("permit", "deny"),
            "permit",
            "permit",
            "permit",
            "What happens where no list is attached to the interface in this direction; filtering begins when a list is attached.",
        ),
        Setting(
            "inbound",
            ("permit", "deny"),
            "permit",
            "deny",
            "permit",
            "What happens to a packet that comes in by an outside interface and that neither a session nor any rule of a list let pass; a firewall lets strangers start nothing.",
        ),
        Setting(
            "outbound",
            ("permit", "deny"),
            "permit",
            "permit",
            "permit",
            "The same for a packet that comes by an inside interface and leaves by an outside one; people inside may ask the world.",
        ),
        Setting(
            "through",
            ("permit", "deny"),
            "permit",
            "permit",
            "permit",
            "The same for a packet that passes from one inside interface to another, or between two outside ones; the zones of a house trust each other until a rule says otherwise.",
        ),
        Setting(
            "translation-opens",
            ("no", "yes"),
            "no",
            "no",
            "no",
            "Whether a destination rule also lets in what it sends on; where not, a rule of a list must permit it.",
        ),
        Setting(
            "lists-see-inner",
            ("yes", "no"),
            "yes",
            "yes",
            "yes",
            "Whether what comes out of a tunnel meets the lists for what arrives by the tunnel's interface; where not, whoever can send into the tunnel is past them.",
        ),
        Setting(
            "offers-hold",
            ("yes", "no"),
            "yes",
            "yes",
            "yes",
            "Whether what an interface does not offer stays closed although a list for the device itself permits it; a permit opens no service.",
        ),
        Setting(
            "unknown-session",
            ("by-protocol", "pass", "filter", "drop"),
            "by-protocol",
            "by-protocol",
            "by-protocol",
            "What becomes of a packet of an inspected protocol that can open no session and belongs to none: by-protocol drops TCP and has the lists asked about the rest (RFC 9293 section 3.5).",
        ),
        Setting(
            "log-defaults",
            ("no", "yes"),
            "no",
            "no",
            "no",
            "Whether a log line is written where a default stops a packet and no rule did; most devices are silent there, which is why drops leave no trace.",
        ),
        Setting(
            "name-rules",
            ("resolved", "learned"),
            "resolved",
            "resolved",
            "resolved",
            "How a rule that says `name` knows addresses: the device asks for the name itself, or it learns from the answers to lookups that pass through it.",
        ),
        Setting(
            "own-packets",
            ("pass", "filtered"),
            "pass",
            "pass",
            "pass",
            "Whether packets that the device makes itself are compared with the list of the interface that they leave by; a device trusts itself.",
        ),
        Setting(
            "to-self",
            ("permit", "deny"),
            "permit",
            "permit",
            "permit",
            "Whether packets addressed to the device itself are taken once the arriving list has let them in.",
        ),
        Setting("from-self", ("permit", "deny"), "permit", "permit", "permit", "Whether the device may send packets of its own."),
        Setting(
            "answers-ping",
            ("yes", "no"),
            "yes",
            "yes",
            "yes",
            "Whether an echo request to the device is answered (RFC 1122 3.2.2.6 asks every host to).",
        ),
        Setting(
            "closed-port",
            ("refuse", "silent"),
            "refuse",
            "silent",
            "refuse",
            "What a sender gets for a port on which nothing listens: a refusal (RFC 9293 3.10.7, RFC 1122 4.1.3.1), or nothing, so that a firewall tells strangers nothing.",
        ),
        Setting(
            "sends-unreachable",
            ("yes", "no"),
            "yes",
            "yes",
            "yes",
            "Whether the device tells the sender, by ICMP, that it could not pass a packet on (RFC 1812 5.2.7).",
        ),
        Setting(
            "sends-time-exceeded",
            ("yes", "no"),
            "yes",
            "yes",
            "no",
            "Whether the device tells the sender, by ICMP, that the packet's TTL ran out (RFC 1812 5.2.7.3).",
        ),
        Setting(
            "error-source",
            ("leaving", "arriving"),
            "leaving",
            "leaving",
            "leaving",
            "Whose address an ICMP error of the device has: that of the interface by which the error leaves (RFC 1812 4.3.2.4, RFC 4443 2.2), or of the one by which the packet that it is about arrived.",
        ),
        Setting(
            "reject-answer",
            ("reset", "prohibited"),
            "prohibited",
            "reset",
            "reset",
            "What `reject` sends for TCP: a reset in the far end's name, or ICMP 'prohibited'; anything but TCP always gets ICMP.",
        ),
        Setting(
            "session-errors",
            ("pass", "filtered"),
            "pass",
            "pass",
            "pass",
            "Whether an ICMP error about a packet of a known session belongs to that session (RFC 5508 section 5, RFC 6146 section 3.5).",
        ),
        Setting(
            "keep-port",
            ("yes", "no"),
            "yes",
            "yes",
            "yes",
            "Whether source translation keeps the source port while it is free (RFC 4787 4.2.1); else the lowest free port from 1024 is taken.",
        ),
        Setting(
            "mapping",
            ("endpoint-independent", "address-dependent", "per-flow"),
            "endpoint-independent",
            "endpoint-independent",
            "endpoint-independent",
            "Whether a translated source keeps its outer address and port for every destination (RFC 4787 4.1, REQ-1), for every port of one far address, or gets another for each flow.",
        ),
        Setting(
            "filtering",
            ("per-flow", "address-dependent", "endpoint-independent"),
            "per-flow",
            "per-flow",
            "per-flow",
            "Who may send to the outer end of a translated source: the far end of a flow alone, any port of a far address that it talks to, or anybody (RFC 4787 5, REQ-8).",
        ),
        Setting(
            "unsolicited-syn",
            ("drop", "hold"),
            "drop",
            "drop",
            "drop",
            "What becomes of a TCP packet from outside that would open a conversation with an outer end, and that nobody asked for: silence, or it is held for 6 s, and its sender told that the port is unreachable unless the inner end opens the same conversation meanwhile (RFC 5382 REQ-4).",
        ),
        Setting(
            "session-phase",
            ("strict", "loose"),
            "strict",
            "strict",
            "loose",
            "Whether a TCP packet of a known session must be one that its phase expects; strict drops data before the answer was seen, as where answers take another way.",
        ),
        Setting(
            "session-interfaces",
            ("any", "same"),
            "any",
            "any",
            "any",
            "Whether packets of a known session may come by any interface, or must come by the one by which that direction came or went at first.",
        ),
        Setting(
            "session-exit",
            ("routed", "arrived", "handed"),
            "routed",
            "routed",
            "routed",
            "Where answers of a session leave: as the routes say; by the interface that it was opened by, as the best route there says; or to the neighbour that handed the opening packet over. Where that is down, as the routes say.",
        ),
        Setting(
            "after-reset",
            ("revive", "end"),
            "revive",
            "revive",
            "end",
            "What a reset does to a session: it lives on for time-out-closing, and a later packet revives it (RFC 7857 2.2), or it ends at once.",
        ),
        _lives(
            "time-out-open",
            "2 h 4 min",
            "never",
            "How long an open TCP session lives without a packet (RFC 5382 REQ-5: at least 2 h 4 min).",
        ),
        _lives(
            "time-out-opening",
            "4 min",
            "never",
            "How long a TCP session lives whose answer nobody has acknowledged yet (RFC 5382 REQ-5: at least 4 min).",
        ),
        Setting(
            "time-out-closing",
            ("at once",),
            "4 min",
            "4 min",
            "at once",
            "How long a TCP session lives after both ends closed it or one reset it (RFC 5382 REQ-5, RFC 7857 2.1 and 2.2); a host forgets it at once.",
            "time",
        ),
        _lives(
            "time-out-udp", "5 min", "never", "How long a session of UDP lives without a packet (RFC 4787 REQ-5: 5 min or more)."
        ),
        _lives("time-out-icmp", "60 s", "never", "How long a session of an ICMP query lives (RFC 5508 REQ-2: at least 60 s)."),
        _lives(
            "time-out-other",
            "5 min",
            "never",
            "How long sessions of other protocols live without a packet; no standard says, so as for UDP.",
        ),
        Setting(
            "announced-for",
            (),
            "60 s",
            "60 s",
            "60 s",
            "How long a second channel that a helper read of may still be opened; no standard says.",
            "time",
        ),
        Setting(
            "association-for",
            ("never",),
            "8 h",
            "8 h",
            "8 h",
            "How long the association of a tunnel lives whose keys are exchanged (RFC 7296 section 2.8: each end says for itself, and the shorter one counts); the next packet makes a new one. Behind never it ends only when it is cleared.",
            "time",
        ),
        Setting(
            "association-lists",
            ("as-opened", "as-written"),
            "as-opened",
            "as-opened",
            "as-opened",
            "Which lists of a tunnel's interface what comes out of it meets: those of when its association was made, or those of now; what is in use stays in use until somebody makes it new.",
        ),
        Setting(
            "path-mtu",
            ("learn", "ignore"),
            "learn",
            "learn",
            "learn",
            "Whether a tunnel remembers, for ten minutes, how long its outer packets may be from an error about one that was too long (RFC 1191 section 6.3), so that senders inside are told.",
        ),
        Setting(
            "tunnel-first-packet",
            ("wait", "lose"),
            "wait",
            "wait",
            "wait",
            "What becomes of a packet while the keys of its tunnel are exchanged: it waits and goes in afterwards, or is lost, and the next one goes in.",
        ),
        Setting(
            "after-rule-change",
            ("keep", "judge", "clear"),
            "keep",
            "keep",
            "keep",
            "What a change of rules does to sessions that exist: they live on, or each is judged at its next packet by the rules of now, or all end at once.",
        ),
        Setting(
            "after-route-change",
            ("keep", "judge", "clear"),
            "keep",
            "keep",
            "keep",
            "The same of a change of routes: judged, a session ends whose opening packet would leave by another interface now.",
        ),
        Setting(
            "after-translation-change",
            ("keep", "judge", "clear"),
            "keep",
            "keep",
            "keep",
            "The same of a change of translation rules or of the device's addresses: judged, a session ends whose ends would become others now.",
        ),
        Setting(
            "session-limit",
            ("none",),
            "none",
            "none",
            "none",
            "How many sessions may live at once; further ones are refused, for a table has an end.",
            "number",
        ),
        Setting(
            "half-open-limit",
            ("none",),
            "none",
            "none",
            "none",
            "How many TCP sessions may be half-open at once, so that a flood of opening packets does not fill the table.",
            "number",
        ),
        Setting(
            "history",
            (),
            "100",
            "100",
            "100",
            "How many sessions that are over a device remembers, so that a late packet can be told what it belonged to.",
            "number",
        ),
        Setting(
            "answers-translated",
            ("yes", "no"),
            "yes",
            "yes",
            "yes",
            "Whether the device answers, on an interface's own subnets, for the addresses that its translation rules send on or give to sources; else answers-for must name them.",
        ),
        Setting(
            "unmatched-translation",
            ("keep", "drop"),
            "keep",
            "keep",
            "keep",
            "What happens to a packet that leaves by an interface whose translation rules do not match it: it goes out as it is, or not at all.",
        ),
        Setting(
            "flows-of-a-lost-uplink",
            ("keep", "cut", "move"),
            "keep",
            "keep",
            "keep",
            "What becomes of a translated session whose packets leave by another interface by now: it goes on with the address of the one before, which that uplink mostly does not lead back; it ends at once, so that the next conversation has the right one; or it moves: it is translated anew, which a far end that looks at addresses takes for somebody else.",
        ),
        Setting(
            "switched-off-probe",
            ("down", "up"),
            "down",
            "down",
            "down",
            "How a probe counts that is not enabled, for what is bound to it: it has shown nothing, so nothing is known to work.",
        ),
        Setting(
            "answers-policy-routes",
            ("no", "yes"),
            "no",
            "no",
            "no",
            "Whether answers of sessions meet policy routes too, as packets of their own; else they go as the route table says.",
        ),
        Setting(
            "classifier-deny",
            ("next", "table"),
            "next",
            "next",
            "next",
            "What a policy route's list does with what it denies: the next entry is asked, or none any more, and the route table decides.",
        ),
        Setting(
            "own-policy-routes",
            ("no", "yes"),
            "no",
            "no",
            "no",
            "Whether entries of policy-routes that name no arriving interface see the packets that the device makes itself: its tests, its lookups, its errors. Answers of its sessions never meet them.",
        ),
        Setting(
            "source-check",
            ("off", "strict", "loose"),
            "off",
            "off",
            "off",
            "Whether an arriving packet's source must have a route back, by the same interface (strict) or by any (loose) (RFC 3704).",
        ),
        Setting(
            "own-source",
            ("drop", "accept"),
            "drop",
            "drop",
            "drop",
            "What happens to an IPv4 packet that arrives with an address of the device itself as its source: only a circle or a forger can send it. IPv6 packets are not looked at for that.",
        ),
        Setting(
            "sharing",
            ("flow", "source-destination", "source"),
            "flow",
            "source",
            "flow",
            "Which fields choose among equal routes: a flow's five, both addresses, or the source address alone, so that a host always leaves by the same uplink.",
        ),
        Setting(
            "interface-route",
            ("destination", "peer"),
            "destination",
            "destination",
            "destination",
            "Whom a route asks for that names an interface and no next hop: the destination itself on that segment, or the only other device there. A leased interface uses its lease's gateway.",
        ),
        Setting(
            "leased-default-route",
            ("yes", "no"),
            "yes",
            "yes",
            "yes",
            "Whether a lease also installs a default route through the gateway that it names.",
        ),
    )
}


def default_of(name: str, kind: str) -> str:
    """The value of a setting when the file says nothing, for a kind of device."""
    setting = SETTINGS[name]
    return {"router": setting.router, "firewall": setting.firewall, "internet": setting.router}.get(kind, setting.host)


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


TIME_OUTS = ("time-out-open", "time-out-opening", "time-out-closing", "time-out-udp", "time-out-icmp", "time-out-other")


@dataclass(frozen=True, repr=False)
class Settings:
    """The settings in force at one device: read once, each of its own type.

    A setting whose two values are yes and no, permit and deny, or the like, is a boolean that is true for what lets more
    happen; its docstring line says which. ``text`` and ``mark`` give any of them by its written name.

    Attributes:
        forwarding: packets for others are passed on.
        end_of_list: what the end of an attached list does.
        empty_list: what a list without any rule does where it is attached.
        no_list_permits: what happens where no list is attached.
        inbound, outbound, through: what no rule let pass is permitted, by where it comes from and goes to.
        translation_opens: what a destination rule sends on is let in from outside.
        offers_hold: a list for the device itself permits nothing that is not offered.
        unknown_session: what becomes of a packet that an inspected protocol cannot open with and no session knows.
        logs_defaults: a default that stops a packet is logged.
        learns_names: names in rules are known from lookups that passed, instead of being asked for.
        own_packets_filtered: the device's own packets are compared with the leaving list.
        to_self, from_self: packets to the device, and of the device, are permitted.
        answers_ping: echo requests are answered.
        refuses_closed_ports: a closed port refuses, instead of saying nothing.
        sends_unreachable, sends_time_exceeded: those ICMP errors are sent.
        error_source: whose address an ICMP error has.
        rejects_with_reset: a rejected TCP packet gets a reset, instead of ICMP.
        session_errors_pass: an ICMP error belongs to the session of the packet that it quotes.
        answers_translated: the device answers on its segments for addresses that it translates.
        drops_untranslated: what no translation rule matches does not leave.
        policy_for_own: policy routes see the device's own packets too.
        source_check: the reverse-path check.
        drops_own_source: an IPv4 packet that arrives with an own address as its source is dropped.
        sharing: what the choice among equal ways depends on.
        asks_peer: a route by an interface alone asks for the one other device there.
        leased_default_route: a lease installs a default route.
        values, marks: each by its written name; a setting without a mark has its default.
        kind: the kind of device, for the words of a default.

    """

    forwarding: bool
    end_of_list: EndOfList
    empty_list: EmptyList
    no_list_permits: bool
    inbound: bool
    outbound: bool
    through: bool
    translation_opens: bool
    offers_hold: bool
    unknown_session: UnknownSession
    logs_defaults: bool
    learns_names: bool
    own_packets_filtered: bool
    to_self: bool
    from_self: bool
    answers_ping: bool
    refuses_closed_ports: bool
    sends_unreachable: bool
    sends_time_exceeded: bool
    error_source: ErrorSource
    rejects_with_reset: bool
    session_errors_pass: bool
    answers_translated: bool
    drops_untranslated: bool
    policy_for_own: bool
    source_check: SourceCheck
    drops_own_source: bool
    sharing: Sharing
    asks_peer: bool
    leased_default_route: bool
    values: Mapping[str, str]
    kind: str
    marks: Mapping[str, Mark] = field(default_factory=dict, compare=False)

    def text(self, name: str) -> str:
        """The value of a setting as it is written."""
        return self.values[name]

    def mark(self, name: str) -> Mark | None:
        """Where a setting was written; None when its default is in force."""
        return self.marks.get(name)


def settings_of(kind: str, written: Mapping[str, tuple[str, Mark]]) -> Settings:
    """The settings in force at a device of a kind, where ``written`` has values that the table allows."""
    value = {name: written[name][0] if name in written else default_of(name, kind) for name in SETTINGS}
    return Settings(
        forwarding=value["forwarding"] == "yes",
        end_of_list=EndOfList(value["end-of-list"]),
        empty_list=EmptyList(value["empty-list"]),
        no_list_permits=value["no-list"] == "permit",
        inbound=value["inbound"] == "permit",
        outbound=value["outbound"] == "permit",
        through=value["through"] == "permit",
        translation_opens=value["translation-opens"] == "yes",
        offers_hold=value["offers-hold"] == "yes",
        unknown_session=UnknownSession(value["unknown-session"]),
        logs_defaults=value["log-defaults"] == "yes",
        learns_names=value["name-rules"] == "learned",
        own_packets_filtered=value["own-packets"] == "filtered",
        to_self=value["to-self"] == "permit",
        from_self=value["from-self"] == "permit",
        answers_ping=value["answers-ping"] == "yes",
        refuses_closed_ports=value["closed-port"] == "refuse",
        sends_unreachable=value["sends-unreachable"] == "yes",
        sends_time_exceeded=value["sends-time-exceeded"] == "yes",
        error_source=ErrorSource(value["error-source"]),
        rejects_with_reset=value["reject-answer"] == "reset",
        session_errors_pass=value["session-errors"] == "pass",
        answers_translated=value["answers-translated"] == "yes",
        drops_untranslated=value["unmatched-translation"] == "drop",
        policy_for_own=value["own-policy-routes"] == "yes",
        source_check=SourceCheck(value["source-check"]),
        drops_own_source=value["own-source"] == "drop",
        sharing=Sharing(value["sharing"]),
        asks_peer=value["interface-route"] == "peer",
        leased_default_route=value["leased-default-route"] == "yes",
        values=value,
        kind=kind,
        marks={name: mark for name, (_, mark) in written.items()},
    )
