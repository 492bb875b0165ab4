"""Every default of a device as a named setting: its values, what each kind of device has, and why.

A ruling that follows from a default cites the setting by its name, so nothing that decides is unwritten.
"""

from __future__ import annotations

from typing import NamedTuple


class Setting(NamedTuple):
    """One named default.

    Attributes:
        name: as written under ``settings:`` of a device.
        values: what it may be.
        router, firewall, host: the value when the file says nothing, by kind of device.
        why: one sentence on what it decides and why the default is so.

    """

    name: str
    values: tuple[str, ...]
    router: str
    firewall: str
    host: str
    why: str


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
            ("permit", "deny"),
            "permit",
            "permit",
            "permit",
            "What an attached list without any rule does; it says nothing, so it hinders nothing.",
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
            "Whose address an ICMP error of the device bears: that of the interface by which the error leaves (RFC 1812 4.3.2.4, RFC 4443 2.2), or of the one by which the packet that it is about arrived.",
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
            "unmatched-translation",
            ("keep", "drop"),
            "keep",
            "keep",
            "keep",
            "What happens to a packet that leaves by an interface whose translation rules do not match it: it goes out as it is, or not at all.",
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
