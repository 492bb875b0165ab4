"""Drills beside bare traces, and every failure beside a plan made from nothing for each of them.

Run with ``python benchmarks/lab.py``; ratios are of one run, and both sides must give the same answers.
"""

from __future__ import annotations

import itertools
import random
import sys
import time
from importlib.resources import files
from pathlib import Path

import mossy_compass as mc
from mossy_compass.files.drills import drill_of
from mossy_compass.lab.expect import every_flow
from mossy_compass.lab.faults import Fault, apply
from mossy_compass.lab.sweep import failures, sweep
from mossy_compass.model.network import Kind
from mossy_compass.walk.grid import Cell, cell_of
from mossy_compass.walk.trace import trace_one

sys.path.insert(0, str(Path(__file__).parent))
from scale import leaf_and_spine

EXPECTATIONS = 10_000


def drill() -> None:
    """A drill of many expectations on the demo network, and the same traces by themselves."""
    data = files("mossy_compass") / "data"
    network = mc.load(str(data / "fernhollow.yaml"))
    plan = mc.Plan(network)
    flows = list(itertools.islice(itertools.cycle(every_flow(network)), EXPECTATIONS))
    steps = [
        f"  - expect: {{from: {f.source}, to: {f.target}, service: {f.service}, cause: {c}, family: {f.options.family or 4}}}"
        for f, c in ((f, trace_one(plan, f.source, f.target, f.service, f.options).cause) for f in flows)
    ]
    text = "\n".join(["mossy-drill: 1", f"network: {data / 'fernhollow.yaml'}", "steps:", *steps]).encode()
    begun = time.perf_counter()
    read = drill_of(text, "many.drill.yaml", Path())
    held = time.perf_counter()
    report = mc.run_drill(read, time.perf_counter)
    drilled = time.perf_counter()
    assert report.ok, [r.step.words for r in report.results if not r.ok][:3]
    plan = mc.Plan(network)
    plan.stays = None  # each is walked anew
    for flow in flows:
        trace_one(plan, flow.source, flow.target, flow.service, flow.options)
    bare = time.perf_counter() - drilled
    print(f"{EXPECTATIONS} expectations on the demo: read {held - begun:.1f} s, run {drilled - held:.1f} s")
    print(f"the same traces by themselves {bare:.1f} s; run / bare {(drilled - held) / bare:.2f}")


def afresh(network: mc.Network, flows: list[mc.Flow], faults: tuple[Fault, ...]) -> list[Cell]:
    """What flows come to in a plan made from nothing."""
    plan = mc.Plan(apply(network, faults))
    return [cell_of(trace_one(plan, f.source, f.target, f.service, f.options), f.source, f.target, f.label) for f in flows]


def failing(routers: int, number: int) -> None:
    """Single link failures: what the sweep does, and a plan made from nothing for a sample of them."""
    network = mc.read_bytes(leaf_and_spine(routers).encode(), "scale.yaml").network
    assert network is not None
    chance = random.Random(routers)
    ends = [n for n, d in network.devices.items() if d.kind is Kind.ROUTER and n.startswith("leaf")]
    pairs = [chance.sample(ends, 2) for _ in range(100)]
    flows = [mc.Flow(one, other, "ping") for one, other in pairs]
    cases = failures(network, ["link"])
    some = chance.sample(cases, number)
    begun = time.perf_counter()
    found = sweep(network, flows, some)
    quick = time.perf_counter() - begun
    base = afresh(network, flows, ())
    begun = time.perf_counter()
    wanted = {faults: afresh(network, flows, faults) for faults in some}
    slow = time.perf_counter() - begun
    for case in found.cases:
        changed = {new.key: new for _, new in (*case.lost, *case.moved, *case.gained, *case.other)}
        for before, cell in zip(base, wanted[case.faults], strict=True):
            assert changed.get(cell.key, before).words == cell.words, (case.words, cell)
            assert changed.get(cell.key, before).path == cell.path, (case.words, cell)
    begun = time.perf_counter()
    sweep(network, flows, cases)
    every = time.perf_counter() - begun
    print(f"{routers} routers: {number} of {len(cases)} links, 100 flows: {quick:.1f} s, from nothing {slow:.1f} s", end="")
    print(f" ({slow / quick:.1f} times); all links {every:.1f} s")


if __name__ == "__main__":
    drill()
    for routers, number in ((30, 60), (100, 60), (300, 40)):
        failing(routers, number)
