"""Policy routes agree with the operating system's rules: selectors, several tables, tables that are left, discard and unreachable.

A rule of the kernel that looks a table up goes on to the next rule where that has no route or says throw; here that is an entry with one
table and ``none-available: next``, and a route that says ``leave-table``.
"""

from __future__ import annotations

import os
import random
import subprocess
from collections import Counter

import pytest

import mossy_compass as mc
from tests.agreement import kernel
from tests.effort import seeds

REASON = kernel.why_not()
pytestmark = pytest.mark.skipif(bool(REASON), reason=REASON)
PORTS = ("e0", "e1", "e2", "e3")
KINDS = {"forward": "", "leave-table": "throw", "unreachable": "unreachable", "discard": "blackhole"}
SERVICES = ((6, 80), (6, 443), (17, 53), (17, 80))


def _prefix(chance: random.Random) -> str:
    """A prefix among few addresses, so that many rows meet."""
    length = chance.choice((0, 14, 16, 18, 24, 32))
    value = (10 << 24) + (80 << 16) + (chance.randrange(4) << 14) + (chance.randrange(4) << 8) + chance.randrange(1, 4)
    value &= 0 if not length else (0xFFFFFFFF << (32 - length)) & 0xFFFFFFFF
    return f"{value >> 24}.{value >> 16 & 255}.{value >> 8 & 255}.{value & 255}/{length}"


def _address(chance: random.Random) -> str:
    """An address among them."""
    third = chance.randrange(4) * 64 + chance.randrange(4)
    return f"10.80.{third}.{chance.randrange(1, 5)}"


class Twin:
    """One router with random rules and tables, in both worlds."""

    def __init__(self, seed: int) -> None:
        self.chance = chance = random.Random(seed)
        self.space = f"m{os.getpid()}p{seed}"
        self.routes: list[tuple[str, str, str, str]] = []  # table, prefix, kind, port
        for table in ("main", "t1", "t2", "t3"):
            for prefix in {_prefix(chance) for _ in range(chance.randrange(2, 9))}:
                kind = chance.choice(("forward", "forward", "forward", "leave-table", "unreachable", "discard"))
                kind = "forward" if table == "main" and kind == "leave-table" else kind
                self.routes.append((table, prefix, kind, chance.choice(PORTS[1:])))
        used = sorted({t for t, *_ in self.routes} - {"main"})
        self.rules: list[tuple[str, dict[str, str], tuple[int, int] | None]] = []  # table, selectors
        for _ in range(chance.randrange(3, 12)):
            wanted: dict[str, str] = {}
            if chance.random() < 0.5:
                wanted["from"] = _prefix(chance)
            if chance.random() < 0.5:
                wanted["to"] = _prefix(chance)
            if chance.random() < 0.3:
                wanted["arriving"] = chance.choice(("e0", "e1"))
            service = chance.choice(SERVICES) if chance.random() < 0.4 else None
            self.rules.append((chance.choice(used), wanted, service))

    def model(self) -> mc.Plan:
        """Ours."""
        ports = [f"      {p}: 10.64.{n}.1/24" for n, p in enumerate(PORTS)]
        routes = []
        for table, prefix, kind, port in self.routes:
            way = f"next-hop: 10.64.{port[1]}.2" if kind == "forward" else f"action: {kind}"
            routes.append(f"      - {{prefix: {prefix}, {way}, table: {table}}}")
        entries = []
        for table, wanted, service in self.rules:
            said = [f"{k}: {v}" for k, v in wanted.items()]
            if service is not None:
                said.append(f"service: {'tcp' if service[0] == 6 else 'udp'}/{service[1]}")
            entries.append("      - {" + ", ".join([*said, f"candidates: [{{table: {table}}}]", "none-available: next"]) + "}")
        near = [f"  n{n}: {{kind: router, interfaces: {{a: 10.64.{n}.2/24}}}}" for n in range(4)]
        cables = [f"  c{n}: [gate/e{n}, n{n}/a{', src' if n == 0 else ''}]" for n in range(4)]
        text = "\n".join(
            ["mossy-network: 1", "devices:", "  gate:", "    kind: router", "    interfaces:", *ports, "    routes:", *routes,
             "    policy-routes:", *entries, *near, "  src: {kind: host, address: 10.64.0.9/24, gateway: 10.64.0.1}", "segments:", *cables]
        )  # fmt: skip
        found = mc.read_bytes(text.encode(), "twin.yaml")
        assert found.network is not None, found.problems
        return mc.Plan(found.network)

    def __enter__(self) -> kernel.Asker:
        subprocess.run(["ip", "netns", "add", self.space], check=True)
        lines = ["link set lo up"]
        for number, port in enumerate(PORTS):
            lines += [f"link add {port} type veth peer name p{number}", f"link set p{number} up"]
            lines += [f"addr add 10.64.{number}.1/24 dev {port}", f"link set {port} up"]
        kernel.batch(lines, self.space)
        kernel.sysctl(
            self.space, {"ipv4/ip_forward": "1", "ipv4/conf/all/rp_filter": "0", **{f"ipv4/conf/{p}/rp_filter": "0" for p in PORTS}}
        )
        lines = []
        for table, prefix, kind, port in self.routes:
            kernels = {"main": "main", "t1": "101", "t2": "102", "t3": "103"}[table]
            way = f"{prefix} via 10.64.{port[1]}.2 dev {port}" if kind == "forward" else f"{KINDS[kind]} {prefix}"
            lines.append(f"route add {way} table {kernels}")
        for place, (table, wanted, service) in enumerate(self.rules):
            said = [f"{'iif' if k == 'arriving' else k} {v}" for k, v in wanted.items()]
            if service is not None:
                said.append(f"ipproto {service[0]} dport {service[1]}")
            lines.append(f"rule add pref {100 + place} {' '.join(said)} lookup 10{table[1]}")
        kernel.batch(lines, self.space)
        return kernel.Asker(self.space)

    def __exit__(self, *_: object) -> None:
        subprocess.run(["ip", "netns", "del", self.space], check=True)


def ours(plan: mc.Plan, source: str, destination: str, service: tuple[int, int]) -> tuple[str, str]:
    """What the gate does with a packet: its kind of end, or the interface that it leaves by."""
    word = f"{'tcp' if service[0] == 6 else 'udp'}/{service[1]}"
    journey = mc.trace(plan, "src", destination, word, source=source, source_port=40000)
    hop = next(h for h in journey.there.hops if h.device == "gate")
    taken = next((r.hop for r in hop.rulings if r.hop is not None), None)
    if taken is not None:
        return "forward", taken.interface
    ends = {"route.none": "none", "route.discard": "discard", "route.unreachable": "unreachable"}
    return ends[journey.cause], ""


@pytest.mark.scaled
@pytest.mark.parametrize("seed", seeds(300, 6, 40))
def test_rules_and_tables(seed: int) -> None:
    """Random packets at a router with random rules: the same way, or the same end."""
    twin = Twin(seed)
    plan, met = twin.model(), Counter[str]()
    with twin as asker:
        try:
            for _ in range(250):
                source, destination = _address(twin.chance), _address(twin.chance)
                service = twin.chance.choice(SERVICES)
                real = asker.ask(destination, source, "e0", service)
                way = next(iter(real.ways))[0] if real.ways else ""
                mine = ours(plan, source, destination, service)
                assert mine == (real.kind, way), (seed, source, destination, service, twin.rules, twin.routes)
                met[real.kind] += 1
        finally:
            asker.close()
    assert sum(met.values()) == 250
