"""A million live sessions beside a plain dict keyed by the same flows: memory, look-ups, openings, expiry.

Run with ``python benchmarks/sessions.py [NUMBER]``; ratios are of one run.
"""

from __future__ import annotations

import gc
import resource
import statistics
import subprocess
import sys
import time
from collections.abc import Callable

from mossy_compass.packet.address import Address
from mossy_compass.packet.flow import flow_of
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.keeping import Keeping
from mossy_compass.state.rewrite import with_source
from mossy_compass.state.state import State

NUMBER = 1_000_000
BLOCK = 1000
LIVES = dict.fromkeys(
    ("time-out-open", "time-out-opening", "time-out-closing", "time-out-udp", "time-out-icmp", "time-out-other"), 300_000
)
KEEPING = Keeping(lives=LIVES, mapping=2)
INSIDE, OUTSIDE, FAR = 10 << 24, 198 << 24 | 51 << 16 | 100 << 8, 203 << 24 | 113 << 8


def packet(number: int) -> Packet:
    """One of many datagrams: hosts with a few ports each, to a few servers."""
    return Packet(17, Address(4, INSIDE + number // 16), Address(4, FAR + number % 200), 20_000 + number % 16, 443)


def used() -> int:
    """Memory that the process has, in bytes."""
    with open("/proc/self/statm", encoding="ascii") as file:
        return int(file.read().split()[1]) * resource.getpagesize()


def timed(work: Callable[[int], object], number: int) -> tuple[float, list[float]]:
    """How long work took for each number, all together and block by block, in seconds."""
    blocks = []
    begun = time.perf_counter()
    for first in range(0, number, BLOCK):
        at = time.perf_counter()
        for n in range(first, min(first + BLOCK, number)):
            work(n)
        blocks.append(time.perf_counter() - at)
    return time.perf_counter() - begun, blocks


def growth(blocks: list[float]) -> float:
    """The median of the last twenty blocks beside that of the first twenty."""
    return statistics.median(blocks[-20:]) / statistics.median(blocks[:20])


def many(translated: bool, number: int) -> None:
    """Open, look up and expire so many sessions."""
    gc.collect()
    state = State()
    before = used()

    def open_one(n: int) -> None:
        """A session, with an outer end where it is translated."""
        came = packet(n)
        if not translated:
            state.open("gate", came, came, "in", "out", keeping=KEEPING)
            return
        address = Address(4, OUTSIDE + n // 60_000)
        found = state.allocate("gate", came, address, KEEPING)
        assert found is not None
        state.open("gate", came, with_source(came, address, found.port), "in", "out", keeping=KEEPING, allocated=found)

    opened, blocks = timed(open_one, number)
    memory = (used() - before) / number
    plain: dict[object, int] = {}

    def note(n: int) -> None:
        """A plain dict keyed by the same flows."""
        plain[flow_of(packet(n))] = n

    plain_time, plain_blocks = timed(note, number)
    plain_look, _ = timed(lambda n: plain[flow_of(packet(n))], number)
    looked, _ = timed(lambda n: state.recall("gate", packet(n)), number)
    begun = time.perf_counter()
    ended = len(state.advance(300_000))
    expired = time.perf_counter() - begun
    assert ended == number
    what = "translated" if translated else "untranslated"
    print(f"{number} sessions, {what}: {memory:.0f} bytes each, opened in {opened:.1f} s (a plain dict {plain_time:.1f} s)")
    print(
        f"  look-ups {looked / plain_look:.2f} times those of the dict; all expired in {expired:.1f} s, {expired / plain_time:.2f} times its building"
    )
    print(
        f"  last 20 blocks / first 20: {growth(blocks):.2f} (the dict {growth(plain_blocks):.2f}); worst block {max(blocks) * 1000:.0f} ms"
    )


if __name__ == "__main__":
    wanted = int(sys.argv[1]) if len(sys.argv) > 1 else NUMBER
    if len(sys.argv) > 2:
        many(sys.argv[2] == "translated", wanted)
    else:  # each in a process of its own: what one has freed is not to hide what the other needs
        for kind in ("untranslated", "translated"):
            subprocess.run([sys.executable, __file__, str(wanted), kind], check=True)
