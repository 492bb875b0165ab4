"""A grid of 200 hosts to 200 hosts, beside a walk of each of its tests.

Run with ``python benchmarks/grids.py``. Each side has a process of its own, from reading the file on, and both must give the same cells.
"""

from __future__ import annotations

import hashlib
import json
import resource
import subprocess
import sys
import time
from pathlib import Path

import mossy_compass as mc
from mossy_compass.walk.grid import cell_of, gathered, questions_of, run
from mossy_compass.walk.question import Options
from mossy_compass.walk.trace import trace_one

sys.path.insert(0, str(Path(__file__).parent))
from campus import campus

ROOMS, HOSTS = 20, 200
SHARES = {"a tenth of the hosts is named in rules": 10, "every host may be named in rules": 1}


def measured(by_walks: bool, named: int) -> None:
    """One side: how long it took, in seconds, its memory in MiB, and what the cells are, as a digest."""
    begun = time.perf_counter()
    network = mc.read_bytes(campus(ROOMS, HOSTS, named=named).encode(), "campus.yaml").network
    assert network is not None
    hosts = [name for name, device in network.devices.items() if device.kind.value == "host"]
    tests, plan = questions_of(network, hosts, hosts, ["https"]), mc.Plan(network)
    if by_walks:
        plan.stays = None  # each is walked anew
        cells = gathered(cell_of(trace_one(plan, *test, Options()), *test) for test in tests)
    else:
        cells = gathered(run(plan, tests))
    took = time.perf_counter() - begun
    digest = hashlib.sha256(json.dumps(cells.to_dict()).encode()).hexdigest()
    print(json.dumps([took, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, len(tests), digest]))


def main() -> None:
    """Both sides of both networks."""
    if len(sys.argv) > 1:
        measured(sys.argv[1] == "walks", int(sys.argv[2]))
        return
    for words, named in SHARES.items():
        command = [sys.executable, __file__]
        walks, grid = (
            json.loads(subprocess.run([*command, side, str(named)], check=True, capture_output=True, text=True).stdout)
            for side in ("walks", "grid")
        )
        assert walks[2:] == grid[2:], words
        print(
            f"{words}: {walks[2]} tests; each walked {walks[0]:.1f} s, {walks[1]:.0f} MiB; as a grid {grid[0]:.1f} s, {grid[1]:.0f} MiB"
        )
        print(f"  {walks[0] / grid[0]:.1f} times faster, {grid[1] / walks[1]:.2f} times the memory")


if __name__ == "__main__":
    main()
