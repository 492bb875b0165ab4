"""How loading, routing, memory and tracing grow with the network: leaf-and-spine with OSPF and equal ways.

Run `python benchmarks/scale.py`; each size runs in a process of its own, so that memory is its own too. The last
lines give the exponent of the growth from the smallest to the largest size: 1 is linear, 2 is quadratic.
"""

from __future__ import annotations

import argparse
import json
import math
import resource
import subprocess
import sys
import time

SIZES = (100, 300, 1000)


def leaf_and_spine(routers: int, spines: int = 2) -> str:
    """A network file: every leaf has a cable to every spine, a subnet of its own, and the first and last a host."""
    leaves = routers - spines
    devices, segments = [], []
    for s in range(spines):
        ports = [f"      p{n}: {{address: {link(s, n, 1)}/30, ospf: {{cost: 10, network: point-to-point}}}}" for n in range(leaves)]
        devices += [f"  spine-{s}:", "    kind: router", "    interfaces:", *ports]
    for n in range(leaves):
        devices += [f"  leaf-{n}:", "    kind: router", "    interfaces:"]
        for s in range(spines):
            devices.append(f"      u{s}: {{address: {link(s, n, 2)}/30, ospf: {{cost: 10, network: point-to-point}}}}")
            segments.append(f"  c{s}-{n}: [spine-{s}/p{n}, leaf-{n}/u{s}]")
        devices.append(f"      lan: {{address: 10.{44 + n // 256}.{n % 256}.1/24, ospf: {{passive: yes}}}}")
        members = [f"leaf-{n}/lan"]
        if n in (0, leaves - 1):
            lan = f"10.{44 + n // 256}.{n % 256}"
            devices.append(f"  host-{n}: {{kind: host, address: {lan}.10/24, gateway: {lan}.1}}")
            members.append(f"host-{n}")
        segments.append(f"  lan-{n}: [{', '.join(members)}]")
    return "\n".join(["mossy-network: 1", "devices:", *devices, "segments:", *segments]) + "\n"


def link(spine: int, leaf: int, end: int) -> str:
    """The address of one end of a cable."""
    return f"10.{40 + spine}.{leaf // 64}.{leaf % 64 * 4 + end}"


def measure(routers: int) -> dict[str, float]:
    """Load, compute every table, and trace across, in this process."""
    import mossy_compass as mc

    data = leaf_and_spine(routers).encode()
    start = time.perf_counter()
    network = mc.read_bytes(data, "scale.yaml").network
    assert network is not None
    loaded = time.perf_counter()
    plan = mc.Plan(network)
    routes = sum(len(plan.device(name).table) for name in network.devices)
    routed = time.perf_counter()
    ends = [n for n in network.devices if n.startswith("host")]
    mc.trace(plan, *ends)
    rounds = 300
    before = time.perf_counter()
    for number in range(rounds):
        assert mc.trace(plan, ends[0], ends[1], "ping", source_port=number).answered
    traced = time.perf_counter()
    return {
        "routers": routers,
        "links": len(network.segments),
        "lines": data.count(b"\n"),
        "routes": routes,
        "load s": loaded - start,
        "route s": routed - loaded,
        "memory MiB": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024,
        "trace ms": (traced - before) / rounds * 1000,
    }


def main() -> None:
    """Measure each size, print a row for each, then the exponents."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--one", type=int, help="measure this size alone, and print JSON")
    wanted = parser.parse_args()
    if wanted.one:
        print(json.dumps(measure(wanted.one)))
        return
    rows = []
    for size in SIZES:
        done = subprocess.run([sys.executable, __file__, "--one", str(size)], check=True, capture_output=True, text=True)
        rows.append(json.loads(done.stdout))
        if len(rows) == 1:
            print("  ".join(f"{k:>10}" for k in rows[0]))
        print("  ".join(f"{v:>10.2f}" if isinstance(v, float) else f"{v:>10}" for v in rows[-1].values()))
    first, last = rows[0], rows[-1]
    steps = math.log(last["routers"] / first["routers"])
    for key in ("load s", "route s", "memory MiB", "trace ms"):
        print(f"{key} grows with the number of routers to the power of {math.log(last[key] / first[key]) / steps:.2f}")


if __name__ == "__main__":
    main()
