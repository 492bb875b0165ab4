"""What is asked of all packets, in a network of a size that people have: 98 devices, OSPF, 20 lists of 50 rules, translation at the edge.

Run `python benchmarks/campus.py`, or with `--routers 1000` for one that is larger. Each kind of question runs in a process of its own, so
that memory is its own too; seconds stand beside those of a calibration loop of the same run.
"""

from __future__ import annotations

import argparse
import json
import random
import resource
import subprocess
import sys
import time
from collections.abc import Callable
from typing import Any

CORES = 2
LISTS, RULES = 20, 50
SEED = 4


def campus(
    rooms: int, hosts: int, rules: int = RULES, changed: bool = False, seed: int = SEED, named: int = 1, routes: int = 0
) -> str:
    """A network file: two cores, a router a room with a list of its own for what its people send, and a firewall to the world.

    Args:
        rooms: how many routers have a room; each has a cable to both cores.
        hosts: how many hosts stand in the rooms, one after the other.
        rules: of each list.
        changed: one rule of the first list is another one.
        seed: of the rules.
        routes: so many subnets lie behind the first host of each room, by static routes that the room announces.
        named: rules are about every so-manieth host: 1 for all of them, 10 where they are about a tenth, the servers.

    """
    chance = random.Random(seed)
    segments: list[str] = []
    cores: list[list[str]] = [[] for _ in range(CORES)]
    devices: list[str] = []
    for n in range(rooms):
        ports = [f"      room: {{address: {room(n)}.1/24, ospf: {{passive: yes}}, filter: {{arriving: people-{n % LISTS}}}}}"]
        for core in range(CORES):
            ends = [
                f"10.{44 + core}.{n // 64}.{n % 64 * 4 + end}/30, ospf: {{cost: {10 + core}, network: point-to-point}}"
                for end in (1, 2)
            ]
            cores[core].append(f"      r{n}: {{address: {ends[0]}}}")
            ports.append(f"      up-{core}: {{address: {ends[1]}}}")
            segments.append(f"  cable-{core}-{n}: [core-{core}/r{n}, room-{n}/up-{core}]")
        devices += [f"  room-{n}:", "    kind: router", "    interfaces:", *ports]
        behind = [f"{{prefix: 172.{16 + n // 256}.{n % 256}.{k * 8}/29, next-hop: {host(n, rooms)}}}" for k in range(routes)]
        if behind:
            devices += [f"    routes: [{', '.join(behind)}]", "    ospf: {redistribute: {static: {metric: 20}}}"]
    for n in range(hosts):
        place = n % rooms
        listens = ", serves: [https, ssh, domain]" if n % 4 == 0 else ""
        devices.append(f"  host-{n}: {{kind: host, address: {host(n, rooms)}/24, gateway: {room(place)}.1{listens}}}")
    for n in range(rooms):
        segments.append(f"  room-{n}: [{', '.join([f'room-{n}/room', *(f'host-{h}' for h in range(n, hosts, rooms))])}]")
    for core in range(CORES):
        ports = [*cores[core], f"      edge: {{address: 10.46.0.{core * 4 + 1}/30, ospf: {{network: point-to-point}}}}"]
        devices += [f"  core-{core}:", "    kind: router", "    interfaces:", *ports]
        segments.append(f"  cable-{core}-edge: [core-{core}/edge, edge/core-{core}]")
    inner = [f"      core-{c}: {{address: 10.46.0.{c * 4 + 2}/30, ospf: {{network: point-to-point}}}}" for c in range(CORES)]
    devices += ["  edge:", "    kind: firewall", "    interfaces:", *inner, "      world: {address: 198.51.100.2/30, outside: yes}"]
    devices += ["    routes: [{prefix: default, next-hop: 198.51.100.1}]", "    ospf: {default-route: {metric: 1}}"]
    devices += [
        "    translate:",
        "      - {source: 10.40.0.0/13, to: outside, leaving: world, becomes: interface}",
        f"      - {{arriving: world, to: self, service: https, goes-to: {host(0, rooms)}}}",
    ]
    devices += ["  world:", "    kind: internet", "    interfaces: {uplink: 198.51.100.1/30}"]
    devices += ["    hosts: {almanac: {address: 203.0.113.80, serves: [https, domain]}}"]
    segments.append("  uplink: [edge/world, world/uplink]")
    lists = [
        f"  people-{n}: [{', '.join(rule(chance, k, rooms, hosts, k == rules - 1, named) for k in range(rules))}]"
        for n in range(LISTS)
    ]
    if changed:
        lists[0] = (
            lists[0].replace("{id: 10, permit", "{id: 10, deny", 1)
            if "{id: 10, permit" in lists[0]
            else lists[0].replace("{id: 10, deny", "{id: 10, permit", 1)
        )
    return "\n".join(["mossy-network: 1", "lists:", *lists, "devices:", *devices, "segments:", *segments]) + "\n"


def room(number: int) -> str:
    """The first three parts of a room's addresses."""
    return f"10.{40 + number // 256}.{number % 256}"


def host(number: int, rooms: int) -> str:
    """The address of a host."""
    return f"{room(number % rooms)}.{10 + number // rooms}"


def rule(chance: random.Random, number: int, rooms: int, hosts: int, last: bool, named: int) -> str:
    """A rule as people write them: a host or a room, one service, a few wide ones; the last lets everything go."""
    if last:
        return f"{{id: {number * 10 + 10}, permit: any}}"
    to = host(chance.randrange(0, hosts, named), rooms) if chance.random() < 0.7 else f"{room(chance.randrange(rooms))}.0/24"
    service = chance.choice(("tcp, service: ssh", "tcp, service: https", "udp, service: domain", "tcp, to-port: 8000-8080", "any"))
    return f"{{id: {number * 10 + 10}, {chance.choice(('permit', 'deny'))}: {service}, to: {to}}}"


NAMES = (
    CALIBRATION := "calibration: a million entries",
    READ := "read and route",
    REACHES := "who reaches what (grid --all)",
    NEVER := "is never reached (prove)",
    UNMET := "nobody meets it (check --all)",
    CHANGED := "a changed rule (compare --all)",
)
"""What is measured."""


def calibration() -> str:
    """A loop that has nothing to do with networks."""
    found = {n * 7919 % 1_000_003: n for n in range(1_000_000)}
    return f"{sum(found.get(n, 0) & 1 for n in range(1_000_000))} odd ones"


def questions(rooms: int, hosts: int, rules: int, routes: int) -> dict[str, Callable[[], Any]]:
    """What is measured, by name."""
    import mossy_compass as mc
    from mossy_compass.lab.between import overview
    from mossy_compass.lab.claims import claim_of
    from mossy_compass.lab.prove import prove
    from mossy_compass.lab.unmet import unmet
    from mossy_compass.lab.versions import compare_all

    def plan(changed: bool = False) -> mc.Plan:
        """The network, compiled, with every table of routes."""
        network = mc.read_bytes(campus(rooms, hosts, rules, changed, routes=routes).encode(), "campus.yaml").network
        assert network is not None
        made = mc.Plan(network)
        for name in network.devices:
            made.device(name)
        return made

    return {
        CALIBRATION: calibration,
        READ: plan,
        REACHES: lambda: f"{overview(plan()).kinds} kinds",
        NEVER: lambda: f"{prove(plan(), claim_of('room-1 never reaches host-0 for ssh')).kinds} kinds",
        UNMET: lambda: f"{unmet(plan()).kinds} kinds",
        CHANGED: lambda: f"{compare_all(plan(), plan(True)).kinds} kinds",
    }


def main() -> None:
    """Measure each question in its own process."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--routers", type=int, default=22, help="how many routers, two of them cores")
    parser.add_argument("--hosts", type=int, default=74)
    parser.add_argument("--rules", type=int, default=RULES, help="of each list")
    parser.add_argument("--routes", type=int, default=0, help="more routes of each room, at most 32")
    parser.add_argument("--only", help="a part of the name of what is measured")
    parser.add_argument("--one", help="measure this alone, here, and print JSON")
    wanted = parser.parse_args()
    rooms = wanted.routers - CORES
    if wanted.one:
        asked = questions(rooms, wanted.hosts, wanted.rules, wanted.routes)[wanted.one]
        begun = time.perf_counter()
        said = asked()
        seconds, peak = time.perf_counter() - begun, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
        print(json.dumps([seconds, peak, said if isinstance(said, str) else ""]))
        return
    print(f"{wanted.routers + wanted.hosts + 2} devices, {LISTS} lists of {wanted.rules} rules, {wanted.routes} more routes a room")
    for name in NAMES:
        if wanted.only and wanted.only not in name:
            continue
        size = [
            "--routers",
            str(wanted.routers),
            "--hosts",
            str(wanted.hosts),
            "--rules",
            str(wanted.rules),
            "--routes",
            str(wanted.routes),
        ]
        command = [sys.executable, __file__, *size, "--one", name]
        seconds, peak, said = json.loads(subprocess.run(command, check=True, capture_output=True, text=True).stdout)
        print(f"{name:<32} {seconds:7.1f} s  {peak:5} MiB  {said}", flush=True)


if __name__ == "__main__":
    main()
