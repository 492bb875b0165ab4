"""What probes cost: a plan when one of them falls, hours of asking, and coming to rest where nothing moves.

Run `python benchmarks/weather.py`. All figures are ratios of one run: to a plan from nothing, and to a trace over the same network.
"""

from __future__ import annotations

import time
from collections.abc import Callable

from scale import leaf_and_spine

import mossy_compass as mc
from mossy_compass.walk.weather import weathered

ROUTERS = 300


def timed(work: Callable[[], object], rounds: int) -> float:
    """Seconds that something takes, the best of some rounds."""
    best = float("inf")
    for _ in range(rounds):
        start = time.perf_counter()
        work()
        best = min(best, time.perf_counter() - start)
    return best


def probed(routers: int) -> mc.Network:
    """A leaf-and-spine network whose first leaf asks over both of its ways, and has a route that waits for each."""
    text = leaf_and_spine(routers)
    target = "10.40.0.6"  # the second leaf, by its first cable
    probes = "    probes:\n" + "".join(
        f"      by-{n}: {{target: {target if n == 0 else '10.41.0.6'}, by: u{n}, every: 5 s}}\n" for n in (0, 1)
    )
    routes = (
        "    routes:\n      - {prefix: 203.0.113.0/24, next-hop: 10.40.0.1, while: by-0}\n"
        "      - {prefix: 203.0.113.0/24, next-hop: 10.41.0.1, metric: 5, while: by-1}\n"
    )
    text = text.replace("  leaf-0:\n    kind: router\n", f"  leaf-0:\n    kind: router\n{probes}{routes}", 1)
    network = mc.read_bytes(text.encode(), "weather.yaml").network
    assert network is not None
    return network


def one_probe_falls() -> None:
    """A plan after one probe fell: from nothing, and from the one before."""
    network = probed(ROUTERS)
    ends = [n for n in network.devices if n.startswith("host")]
    before = weathered(network, frozenset())
    mc.trace(before, *ends)
    down = frozenset((("leaf-0", "by-0"),))

    def anew() -> object:
        """From nothing."""
        return mc.trace(weathered(network, down), *ends)

    def taken_over() -> object:
        """From the plan before."""
        return mc.trace(weathered(network, down, None, None, before), *ends)

    assert str(anew()) == str(taken_over())
    whole, part = timed(anew, 3), timed(taken_over, 20)
    print(
        f"one probe falls, {ROUTERS} routers: {whole * 1000:.1f} ms anew, {part * 1000:.2f} ms taken over: {whole / part:.0f} times faster"
    )


def house(count: int) -> mc.Network:
    """A gate with so many probes of hosts behind one router."""
    hosts = "".join(f"  h{n}: {{kind: host, address: 10.44.1.{n + 10}/24, gateway: 10.44.1.1}}\n" for n in range(count))
    probes = "".join(f"      p{n}: {{target: h{n}, every: {n % 7 + 2} s}}\n" for n in range(count))
    text = (
        "mossy-network: 1\ndevices:\n"
        "  gate:\n    kind: router\n    interfaces: {up: 192.0.2.1/30}\n    routes: [{prefix: default, next-hop: 192.0.2.2}]\n"
        f"    probes:\n{probes}"
        "  far: {kind: router, interfaces: {up: 192.0.2.2/30, lan: 10.44.1.1/24}}\n"
        f"{hosts}segments:\n  up: [gate/up, far/up]\n  lan: [far/lan, {', '.join(f'h{n}' for n in range(count))}]\n"
    )
    network = mc.read_bytes(text.encode(), "house.yaml").network
    assert network is not None
    return network


def hours_of_asking() -> None:
    """Eight hours of ten probes, of which one target is switched off and on again; and forty probes that are at rest."""
    network = house(10)
    plan = mc.Plan(network)
    mc.trace(plan, "gate", "h3")
    trace = timed(lambda: mc.trace(plan, "gate", "h3"), 300)
    lab = mc.Lab(network)
    _ = lab.plan

    def hours() -> None:
        """A working day in which nothing happens."""
        lab.wait(8 * 3600 * 1000)

    hours()
    print(f"8 h of 10 probes: {timed(hours, 5) / trace:.1f} traces' time")
    network = house(40)
    lab = mc.Lab(network)
    plan = mc.Plan(network)
    trace = timed(lambda: mc.trace(plan, "gate", "h3"), 300)
    lab.settle()
    print(f"settle with 40 probes at rest: {timed(lab.settle, 20) / trace:.1f} traces' time")


if __name__ == "__main__":
    one_probe_falls()
    hours_of_asking()
