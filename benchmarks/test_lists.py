"""First match in a list of 200 rules, and one whole trace, beside what an engineer would write in an afternoon.

The plain version holds `ipaddress` networks made beforehand and goes through the rules from the top. Run with
`pytest benchmarks --benchmark-only`; the ratio of the two rows is what docs/benchmarks.md states.
"""

from __future__ import annotations

import ipaddress
import random
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

import mossy_compass as mc
from mossy_compass.model.network import AccessList, Rule, Verdict
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import Span, parse_prefix
from mossy_compass.packet.service import Service
from mossy_compass.plan.conditions import Reader
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.table import Table, list_table

NOWHERE = mc.Mark("bench", 1)


@dataclass(frozen=True)
class PlainRule:
    """A rule as an afternoon's work has it; None allows everything, as a rule of a list must be able to."""

    permit: bool
    protocol: int | None
    source: ipaddress.IPv4Network | None
    destination: ipaddress.IPv4Network | None
    ports: tuple[int, int] | None


@dataclass(frozen=True)
class PlainPacket:
    """A packet of the same afternoon."""

    protocol: int
    source: ipaddress.IPv4Address
    destination: ipaddress.IPv4Address
    port: int


def made(count: int) -> tuple[list[PlainRule], Table]:
    """The same random rules twice."""
    chance = random.Random(7)
    plain, ours = [], []
    for number in range(count):
        source = f"10.40.{chance.randrange(256)}.0/24"
        destination = f"10.41.{chance.randrange(256)}.{chance.randrange(0, 256, 16)}/28"
        protocol, port = chance.choice((6, 17)), chance.randrange(1, 1024)
        plain.append(
            PlainRule(number % 2 == 0, protocol, ipaddress.IPv4Network(source), ipaddress.IPv4Network(destination), (port, port))
        )
        terms = [(Term(p, (parse_prefix(p).span,)),) for p in (source, destination)]
        service = (Service(protocol, Span(port, port)),)
        verdict = Verdict.PERMIT if number % 2 == 0 else Verdict.DENY
        ours.append(Rule(str(number), verdict, NOWHERE, protocol, terms[0], terms[1], services=service))
    return plain, list_table(AccessList("bench", tuple(ours), NOWHERE), Reader())


def plain_first(rules: list[PlainRule], packet: PlainPacket) -> int | None:
    """The afternoon's version."""
    for number, rule in enumerate(rules):
        if rule.protocol is not None and packet.protocol != rule.protocol:
            continue
        if rule.source is not None and packet.source not in rule.source:
            continue
        if rule.destination is not None and packet.destination not in rule.destination:
            continue
        if rule.ports is not None and not rule.ports[0] <= packet.port <= rule.ports[1]:
            continue
        return number
    return None


def probes(rules: list[PlainRule]) -> list[tuple[int, str, str, int]]:
    """Half the packets match some rule, half match none."""
    chance = random.Random(11)
    out = []
    for number in range(200):
        rule = chance.choice(rules)
        assert rule.protocol
        assert rule.source
        assert rule.destination
        assert rule.ports
        port = rule.ports[0] if number % 2 else 65000
        out.append((rule.protocol, str(rule.source[9]), str(rule.destination[3]), port))
    return out


def both(count: int) -> tuple[Callable[[], list[int | None]], Callable[[], list[Any]]]:
    """The two matchers over the same 200 packets, checked to agree."""
    plain, table = made(count)
    asked = probes(plain)
    simple = [PlainPacket(p, ipaddress.IPv4Address(s), ipaddress.IPv4Address(d), n) for p, s, d, n in asked]
    packets = [mc.Packet(p, mc.parse_address(s), mc.parse_address(d), 49152, n) for p, s, d, n in asked]
    for one, other in zip(simple, packets, strict=True):
        found = table.first(Facts(other, None))
        assert (found.id if found else None) == (None if (n := plain_first(plain, one)) is None else str(n))
    return lambda: [plain_first(plain, p) for p in simple], lambda: [table.first(Facts(p, None)) for p in packets]


@pytest.mark.parametrize("rules", [200, 2000])
@pytest.mark.parametrize("who", ["plain", "ours"])
def test_first_match(benchmark: Any, rules: int, who: str) -> None:
    """200 packets a round."""
    benchmark.group = f"first match in a list of {rules} rules, 200 packets"
    plain, ours = both(rules)
    benchmark(plain if who == "plain" else ours)


def test_longest_path(benchmark: Any) -> None:
    """A trace over the demo's longest path, there and back, question to record."""
    benchmark.group = "one trace, there and back"
    data = (Path(mc.__file__).parent / "data" / "fernhollow.yaml").read_bytes()
    network = mc.read_bytes(data, "fernhollow.yaml").network
    assert network is not None
    plan = mc.Plan(network)
    journey = benchmark(mc.trace, plan, "sensor-fern", "ledger", "readings")
    assert journey.answered
