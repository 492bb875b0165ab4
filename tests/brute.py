"""Small networks drawn by chance, and every packet of them: so few addresses and ports matter there that all can be walked.

What sets say of all packets is judged by these walks, which know nothing of sets.
"""

from __future__ import annotations

import itertools
import random
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from typing import NamedTuple

import mossy_compass as mc
from mossy_compass.packet.address import Address, parse_address
from mossy_compass.packet.packet import FIRST_DYNAMIC_PORT, Packet
from mossy_compass.packet.service import ICMP, ICMP6, TCP, UDP
from mossy_compass.plan.plan import Plan
from mossy_compass.state.state import State
from mossy_compass.walk.journey import Journey
from mossy_compass.walk.many import by_every_choice
from mossy_compass.walk.question import Question
from mossy_compass.walk.sent import sent

GRE = 47
PORTS = (22, 53, 443, 4000)
"""Every port that is written in these networks; and what is sent besides has none of them."""
UNWRITTEN = 7777
FROM_PORTS = (FIRST_DYNAMIC_PORT, 4000, 443, 53, 22)
ADDRESSES = (
    "10.40.1.0/24",
    "10.40.1.10",
    "10.40.2.0/24",
    "10.40.2.10",
    "10.40.2.11",
    "10.40.3.0/24",
    "10.40.1.10/31",
    "203.0.113.80",
)
"""Terms of rules: whatever is drawn of them tells apart only addresses that are sent to or from."""
NOBODYS = (
    "10.40.1.99",
    "10.40.2.99",
    "10.40.3.99",
    "198.51.100.5",
    "203.0.113.99",
    "192.0.2.9",
    "10.44.0.1",
    "10.40.0.9",
    "10.40.1.0",
    "10.40.1.255",
)
"""Addresses that no device has: one of each subnet, its ends, one of what is translated, and of elsewhere."""


HOURS = {"noon": "{from: '11:00', until: '13:00'}", "late": "{days: [sat, sun], from: '22:00', until: '23:00'}"}
TIMES = tuple(datetime(2026, 3, day, hour, 30, tzinfo=UTC) for day, hour in ((6, 12), (7, 12), (7, 22), (6, 22)))
"""A friday and a saturday, in and outside of each window; without a time no window is open."""


def _rule(chance: random.Random, number: int, timed: bool) -> str:
    """A rule of a list."""
    parts = [
        f"id: {number}",
        chance.choice(("permit", "permit", "deny")) + f": {chance.choice(('any', 'tcp', 'udp', 'icmp', 'tcp'))}",
    ]
    protocol = parts[1].partition(": ")[2]
    if protocol in ("tcp", "udp"):
        port = chance.choice(("", "", "to-port: 443", "to-port: 22", "to-port: 53", "to-port: 22-443", "from-port: 4000"))
        parts += [port] if port else []
    for side in ("from", "to"):
        if chance.random() < 0.45:
            parts.append(f"{side}: {chance.choice(ADDRESSES)}")
    if chance.random() < 0.08:
        parts.append("disabled: yes")
    if timed and chance.random() < 0.4:
        parts.append(f"hours: {chance.choice(tuple(HOURS))}")
    return "{" + ", ".join(parts) + "}"


def _translations(chance: random.Random) -> list[str]:
    """Translation rules of the gate."""
    some = [
        "{id: out, source: 10.40.0.0/16, to: outside, leaving: uplink, becomes: interface}",
        "{id: desk-out, source: 10.40.1.10, leaving: uplink, becomes: {pair: 198.51.100.5}}",
        "{id: as-is, source: 10.40.1.0/24, to: 203.0.113.80, leaving: uplink, becomes: exempt}",
        "{id: door, arriving: uplink, to: self, service: tcp/443, goes-to: 10.40.2.10}",
        "{id: side-door, to: self, service: tcp/4000, goes-to: {address: 10.40.2.10, port: 22}}",
        "{id: all, arriving: uplink, to: 198.51.100.5, goes-to: 10.40.2.11}",
        "{id: to-store, to: 10.40.2.99, goes-to: 10.40.2.10}",
    ]
    chosen = [s for s in some if chance.random() < 0.35]
    chance.shuffle(chosen)
    return chosen


def network_text(seed: int, timed: bool = False) -> str:
    """A network file by chance: a gate with three rooms and an uplink, a second router behind one of them, lists, translation, policy.

    Args:
        seed: of the chance.
        timed: some rules hold in windows of time, and the second router is reached by two equal ways.

    """
    chance = random.Random(seed)
    names = [f"l{n}" for n in range(chance.randint(1, 3))]
    lists = [f"  {n}: [{', '.join(_rule(chance, 10 * (m + 1), timed) for m in range(chance.randint(1, 4)))}]" for n in names]

    def filters() -> str:
        """Lists at an interface."""
        ways = [
            f"{w}: [{', '.join(chance.sample(names, min(len(names), chance.randint(1, 2))))}]"
            for w in ("arriving", "leaving")
            if chance.random() < 0.3
        ]
        return f", filter: {{{', '.join(ways)}}}" if ways else ""

    def one_of(*lines: str) -> list[str]:
        """One line, now and then."""
        return [chance.choice(lines).format(l=chance.choice(names))] if chance.random() < 0.3 else []

    kind = chance.choice(("router", "firewall"))
    gate = [
        f"  gate:\n    kind: {kind}\n    interfaces:",
        f"      staff: {{address: 10.40.1.1/24, zone: staff{filters()}}}",
        f"      rack: {{address: 10.40.2.1/24, zone: rack{filters()}}}",
        f"      uplink: {{address: 198.51.100.2/29, zone: world, outside: yes{filters()}}}",
        f"      inner: {{address: 10.40.9.1/30, zone: staff{filters()}}}",
    ]
    routes = ["{prefix: default, next-hop: 198.51.100.1}", "{prefix: 10.40.3.0/24, next-hop: 10.40.9.2}"]
    if timed:
        gate.append(f"      inner-2: {{address: 10.40.9.5/30, zone: staff{filters()}}}")
        routes.append("{prefix: 10.40.3.0/24, next-hop: 10.40.9.6}")
    routes += ["{prefix: 10.40.2.11/32, action: discard}"] if chance.random() < 0.1 else []
    routes += ["{prefix: 203.0.113.80/32, next-hop: 10.40.9.2}"] if chance.random() < 0.1 else []
    routes += ["{prefix: default, next-hop: 10.40.9.2, metric: 9}"] if chance.random() < 0.2 else []
    gate.append(f"    routes: [{', '.join(routes)}]")
    rules = _translations(chance)
    gate += [f"    translate: [{', '.join(rules)}]"] if rules else []
    gate += one_of(
        "    everywhere: {{lists: [{l}]}}",
        "    to-self: [{l}]",
        "    from-self: [{l}]",
        "    offers: {{staff: {{ping: any, ssh: [10.40.1.10]}}}}",
    )
    gate += one_of(
        "    crossings: [{{from: staff, into: rack, lists: [{l}]}}]",
        "    crossings: [{{from: world, into: any, lists: [{l}]}}, {{from: any, into: self, lists: [{l}]}}]",
        "    profiles: {{some: {{for: [10.40.1.10], arriving: staff, mode: instead, lists: [{l}]}}}}",
    )
    gate += one_of(
        "    policy-routes: [{{id: 1, arriving: staff, list: {l}, candidates: [10.40.9.2]}}]",
        "    policy-routes: [{{id: 1, from: 10.40.1.10, candidates: [{{discard: yes}}]}}, {{id: 2, protocol: tcp, candidates: [10.40.9.2]}}]",
    )
    gate += ["    stateful: none"] if chance.random() < 0.15 else ["    stateful: any"] if chance.random() < 0.2 else []
    gate += ["    serves: [ssh, tcp/4000]"] if chance.random() < 0.3 else []
    settings = [
        s
        for s in (
            "filtering: endpoint-independent",
            "session-exit: handed",
            "own-policy-routes: yes",
            "answers-policy-routes: yes",
            "unsolicited-syn: drop",
        )
        if chance.random() < 0.08
    ]
    gate += [f"    settings: {{{', '.join(settings)}}}"] if settings else []
    second = [
        f"  second:\n    kind: {chance.choice(('router', 'firewall'))}\n    interfaces:",
        f"      up: {{address: 10.40.9.2/30, zone: staff{filters()}}}",
        f"      guests: {{address: 10.40.3.1/24, zone: guests{filters()}}}",
        *(["      up-2: {address: 10.40.9.6/30, zone: staff" + filters() + "}"] if timed else []),
        "    routes: [{prefix: default, next-hop: 10.40.9.1}" + ", {prefix: default, next-hop: 10.40.9.5}" * timed + "]",
    ]
    return "\n".join(
        [
            f"mossy-network: 1\ntitle: number {seed}",
            *([f"hours: {{{', '.join(f'{n}: {h}' for n, h in HOURS.items())}}}"] if timed else []),
            "lists:",
            *lists,
            "devices:",
            *gate,
            *second,
            "  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1, serves: [ssh]}",
            "  stool: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}",
            "  store: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [ssh, https]}",
            "  shelf: {kind: host, address: 10.40.2.11/24, gateway: 10.40.2.1, serves: [udp/53]}",
            "  guest: {kind: host, address: 10.40.3.10/24, gateway: 10.40.3.1}",
            "  world:\n    kind: internet\n    interfaces: {uplink: 198.51.100.1/29}\n    hosts: {almanac: {address: 203.0.113.80, serves: [https, udp/53]}}",
            "    routes: [{prefix: 10.40.0.0/16, next-hop: 198.51.100.2}]",
            "segments:",
            "  staff-room: [gate/staff, desk, stool]\n  rack-room: [gate/rack, store, shelf]\n  uplink: [gate/uplink, world/uplink]",
            *(["  between-2: [gate/inner-2, second/up-2]"] if timed else []),
            "  between: [gate/inner, second/up]\n  guest-room: [second/guests, guest]",
        ]
    )


class Sent(NamedTuple):
    """A packet with what became of it.

    Attributes:
        sender: the device that sent it.
        packet: as it was sent.
        journeys: one for each combination of equal ways.

    """

    sender: str
    packet: Packet
    journeys: tuple[Journey, ...]


def addresses(network: mc.Network, name: str) -> list[Address]:
    """The addresses of a device, and of the far hosts for which it stands."""
    device = network.devices[name]
    far = [a for end in device.far_hosts.values() for a in end.addresses]
    return list(dict.fromkeys(a for a in (*(a for a, _ in device.own_addresses()), *far) if not a.is_link_local))


def packets(network: mc.Network, senders: Iterable[str] | None = None) -> Iterator[tuple[str, Packet]]:
    """Every packet that can be told from another in such a network, by who sends it."""
    everybodys = [a for name in network.devices for a in addresses(network, name)]
    targets = list(dict.fromkeys((*everybodys, *(parse_address(a) for a in (*NOBODYS, "203.0.113.80")))))
    for name in network.devices if senders is None else senders:
        for source, target in itertools.product(addresses(network, name), targets):
            if source == target or source.family != target.family:
                continue
            ping, kind = (ICMP6, 128) if source.family == 6 else (ICMP, 8)
            yield name, Packet(ping, source, target, icmp=kind * 256)
            yield name, Packet(GRE, source, target)
            for protocol, to_port, from_port in itertools.product((TCP, UDP), (*PORTS, UNWRITTEN), FROM_PORTS):
                flags = "SYN" if protocol == TCP else ""
                yield name, Packet(protocol, source, target, from_port, to_port, flags=flags)


def walked(plan: Plan, senders: Iterable[str] | None = None, at: datetime | None = None) -> Iterator[Sent]:
    """Every packet, walked alone while nothing is remembered of another."""
    state = State()
    moment = mc.ask(plan, "desk", "store", "ping", at=at).moment
    for name, packet in packets(plan.network, senders):
        question = Question(name, name, str(packet.destination), packet.what(), packet, None, packet.destination, None, moment)

        def by(choose: object, question: Question = question) -> Journey:
            """The journey by some choices among equal ways."""
            with state.unchanged():
                return sent(plan, question, state, choose)[0]  # type: ignore[arg-type]

        yield Sent(name, packet, tuple(j for _, j in by_every_choice(by)[0]))
