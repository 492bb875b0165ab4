"""Many observed flows: asked together, kind by kind, beside each of them walked, in one run.

Run with ``python benchmarks/flows.py``. The flows go from everybody of the demo to everybody and to nobody, by any port.
"""

from __future__ import annotations

import random
import resource
import time
from pathlib import Path

import mossy_compass as mc
from mossy_compass.lab import observed
from mossy_compass.lab.observed import Observed, fates
from mossy_compass.packet.address import Address
from mossy_compass.packet.service import TCP, UDP
from mossy_compass.plan.plan import Plan
from mossy_compass.walk.weather import in_weather

COUNTS = (10_000, 100_000, 1_000_000)
WALKED = 10_000
"""So many are walked one by one, as the baseline."""


def drawn(plan: Plan, count: int) -> list[Observed]:
    """Flows between hosts of the demo, and to addresses beside them."""
    chance = random.Random(1)
    own = [a for d in plan.network.devices.values() for a, _ in d.own_addresses() if a.family == 4]
    out = []
    for _ in range(count):
        destination = chance.choice(own)
        if chance.random() < 0.5:
            destination = Address(4, destination.value ^ chance.randrange(1, 255))
        port = chance.choice([443, 22, 53, chance.randrange(1, 65536)])
        out.append(Observed(chance.choice([TCP, UDP]), chance.choice(own), destination, port))
    return out


def timed(plan: Plan, flows: list[Observed], many: int) -> float:
    """Seconds that it takes."""
    observed.MANY = many
    begun = time.perf_counter()
    fates(plan, flows)
    return time.perf_counter() - begun


def main() -> None:
    """Print a table."""
    plan = in_weather(Plan(mc.load(Path(mc.__file__).parent / "data" / "fernhollow.yaml")))
    each = timed(plan, drawn(plan, WALKED), 1 << 40) / WALKED
    print(f"one by one: {each * 1e3:.2f} ms a flow")
    for count in COUNTS:
        together = timed(plan, drawn(plan, count), 1)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
        print(
            f"{count:>9,} flows together: {together:6.1f} s, {count * each / together:5.1f} times as fast, {peak} MiB at the peak"
        )


if __name__ == "__main__":
    main()
