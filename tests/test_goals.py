"""The same address is checked alike wherever it stands: a table of places times a table of faults."""

from __future__ import annotations

import pytest

import mossy_compass as mc
from mossy_compass.model.goals import CHECKS, Sort, goals
from mossy_compass.proof.findings import findings

TEXT = """\
mossy-network: 1
devices:
  edge:
    kind: router
    interfaces:
      in: 10.40.1.1/24
      six: "2001:db8:1::1/64"
      out: 203.0.113.2/24
    leases: {in: {range: 10.40.1.100-10.40.1.110, gateway: LEASE_GATEWAY, resolvers: [LEASE_RESOLVER]}}
    resolvers: [RESOLVER]
    routes:
      - {prefix: 10.41.0.0/16, next-hop: NEXT_HOP}
    policy-routes:
      - {from: 10.40.1.0/24, candidates: [CANDIDATE]}
    translate:
      - {to: self, service: tcp/80, goes-to: {address: GOES_TO, port: PORT}}
  desk: {kind: host, address: 10.40.1.10/24, gateway: GATEWAY, serves: [http]}
  lookup: {kind: host, address: 10.40.1.53/24, gateway: 10.40.1.1, records: {a.example: 203.0.113.80}}
  far: {kind: internet, interfaces: {out: 203.0.113.1/24}, hosts: {almanac: {address: 198.51.100.80}}}
segments: {in: [edge/in, desk, lookup], out: [edge/out, far/out], six: [edge/six]}
"""
GOOD = {
    "LEASE_GATEWAY": "10.40.1.1", "LEASE_RESOLVER": "10.40.1.53", "RESOLVER": "10.40.1.53", "NEXT_HOP": "203.0.113.1",
    "CANDIDATE": "203.0.113.1", "GOES_TO": "10.40.1.10", "GATEWAY": "10.40.1.1", "PORT": "80",
}  # fmt: skip
SORTS = {
    "GATEWAY": Sort.GATEWAY, "NEXT_HOP": Sort.NEXT_HOP, "CANDIDATE": Sort.CANDIDATE, "LEASE_GATEWAY": Sort.LEASE_GATEWAY,
    "LEASE_RESOLVER": Sort.LEASE_RESOLVER, "RESOLVER": Sort.RESOLVER, "GOES_TO": Sort.GOES_TO,
}  # fmt: skip
HOPS = ("GATEWAY", "NEXT_HOP", "CANDIDATE", "LEASE_GATEWAY")


def found(**more: str) -> dict[str, tuple[int, str]]:
    """Each finding with its line, once the words of the file are filled in."""
    text = TEXT
    for word, value in sorted({**GOOD, **more}.items(), key=lambda p: -len(p[0])):
        text = text.replace(word, f'"{value}"')
    reading = mc.read_bytes(text.encode(), "g.yaml")
    problems = list(reading.problems)
    if reading.network is not None:
        problems += findings(mc.Plan(reading.network), reading.problems, reading.lines)
    return {p.code: (p.mark.line, p.message) for p in problems}


def line_of(place: str) -> int:
    return next(
        n
        for n, line in enumerate(TEXT.splitlines(), 1)
        if place
        in line.replace("LEASE_GATEWAY", "" if place == "GATEWAY" else "LEASE_GATEWAY").replace(
            "LEASE_RESOLVER", "" if place == "RESOLVER" else "LEASE_RESOLVER"
        )
    )


def test_every_sort_of_place_is_in_the_file_and_it_is_clean() -> None:
    assert not {c for c in found() if c.startswith(("address.", "host.", "route."))}, found()
    text = TEXT
    for word, value in sorted(GOOD.items(), key=lambda p: -len(p[0])):
        text = text.replace(word, value)
    network = mc.read_bytes(text.encode(), "g.yaml").network
    assert network is not None
    assert {g.sort for d in network.devices.values() for g in goals(d)} == set(Sort) == set(SORTS.values())


CODES = {
    ("NEXT_HOP", "special"): "route.next-hop-special", ("GATEWAY", "self"): "route.self", ("NEXT_HOP", "self"): "route.self",
    ("GATEWAY", "elsewhere"): "host.gateway-elsewhere", ("NEXT_HOP", "elsewhere"): "route.next-hop-elsewhere",
    ("GATEWAY", "silent"): "host.gateway-silent", ("NEXT_HOP", "silent"): "route.next-hop-silent",
}  # fmt: skip
FAULTS = [
    *((place, fault, value) for place in SORTS for fault, value in (
        ("special", "224.0.0.5"), ("special", "127.0.0.1"), ("special", "0.0.0.0"), ("special", "255.255.255.255"), ("special", "ff02::1"),
        ("subnet-end", "10.40.1.0"), ("subnet-end", "10.40.1.255"),
    ) if not (place == "NEXT_HOP" and ":" in value)),
    *((place, "elsewhere", "10.40.77.1") for place in HOPS),
    *((place, "silent", "10.40.1.77") for place in SORTS),
    ("GATEWAY", "self", "10.40.1.10"), ("NEXT_HOP", "self", "203.0.113.2"), ("CANDIDATE", "self", "203.0.113.2"),
    ("CANDIDATE", "link-local", "fe80::1"), ("RESOLVER", "link-local", "fe80::1"), ("GOES_TO", "link-local", "fe80::1"),
    ("RESOLVER", "unserved", "10.40.1.10"), ("LEASE_RESOLVER", "unserved", "10.40.1.10"), ("GOES_TO", "unserved", "10.40.1.53"),
]  # fmt: skip


@pytest.mark.parametrize("place, fault, value", FAULTS)
def test_a_fault_is_found_at_every_sort_of_place(place: str, fault: str, value: str) -> None:
    problems = found(**{place: value})
    code = CODES.get((place, fault), f"address.{fault}")
    assert code in problems, problems
    assert problems[code][0] == line_of(place)
    assert value in problems[code][1]


def test_a_goal_of_the_other_family_and_port_0() -> None:
    six = TEXT.replace("to: self", "to: 203.0.113.2")
    for word, value in sorted({**GOOD, "GOES_TO": "2001:db8:1::9"}.items(), key=lambda p: -len(p[0])):
        six = six.replace(word, f'"{value}"')
    assert "address.family" in {p.code for p in mc.read_bytes(six.encode(), "g.yaml").problems}
    assert "translate.port" in found(PORT="0")
    assert "address.unserved" in found(PORT="8081")


def test_each_check_is_met_here() -> None:
    tried = {CODES.get((p, f), f"address.{f}") for p, f, _ in FAULTS} | {"address.family"}
    assert {c.code for c in CHECKS} <= tried | {f"address.{f}" for _, f, _ in FAULTS}
