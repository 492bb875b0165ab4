"""The same sweep of failures by one worker of Dask's scheduler and by two, of one thread each, on this machine.

Run `python benchmarks/spread.py`. The workers are started beforehand; what is measured is from the question to the whole answer, with the
work sent there and the results sent back. Both answers must be equal.
"""

from __future__ import annotations

import argparse
import time
from functools import partial
from pathlib import Path

import mossy_compass as mc
from mossy_compass.cli.spread import spread
from mossy_compass.lab.expect import every_flow
from mossy_compass.lab.sweep import Sweep, failures, joined, sweep

DEMO = Path(mc.__file__).parent / "data" / "fernhollow.yaml"
KINDS = ("link", "device")


def main() -> None:
    """Measure both, one after the other and again, as the machine's speed swings."""
    import distributed

    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=2)
    wanted = parser.parse_args()
    network = mc.load(DEMO)
    flows = every_flow(network)
    cases = failures(network, KINDS, True)
    print(f"{len(cases)} failures, alone and in pairs; {len(flows)} flows")
    for number in range(wanted.rounds):
        seconds, answers = {}, []
        for workers in (1, 2) if number % 2 == 0 else (2, 1):
            with distributed.LocalCluster(n_workers=workers, threads_per_worker=1, dashboard_address=":0") as made:
                warm(made.scheduler_address, workers)
                begun = time.perf_counter()
                answers.append(joined(spread(partial(sweep, network, flows), cases, 1, made.scheduler_address, "failures")))
                seconds[workers] = time.perf_counter() - begun
        assert said(answers[0]) == said(answers[1])
        print(f"one worker {seconds[1]:6.1f} s  two {seconds[2]:6.1f} s  {seconds[1] / seconds[2]:.2f} times faster", flush=True)


def warm(address: str, workers: int) -> None:
    """Let every worker load the library first."""
    import distributed

    with distributed.Client(address) as client:
        client.wait_for_workers(workers)
        client.run(__import__, "mossy_compass.lab.sweep")


def said(found: Sweep) -> list[tuple[object, ...]]:
    """What a sweep comes to."""
    return [(c.words, c.lost, c.gained, c.moved, c.other, c.error) for c in found.cases]


if __name__ == "__main__":
    main()
