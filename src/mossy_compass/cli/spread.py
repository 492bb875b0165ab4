"""Work in parts: here, in several processes, or on several machines by Dask's scheduler. Nothing of the scheduling is our own."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor, as_completed
from multiprocessing import active_children, get_context
from typing import Any, TypeVar

from mossy_compass.cli.progress import counter
from mossy_compass.errors import InputError, MossyError, Unsupported

T = TypeVar("T")
R = TypeVar("R")
PARTS_EACH = 4
"""So many parts for each process or thread: one that is slow then keeps nobody waiting for long. Each part begins from nothing, so that
more of them are more work."""
PATIENCE = 10
"""Seconds until a scheduler that does not answer is given up."""


def spread(work: Callable[[Sequence[T]], R], items: Sequence[T], jobs: int, scheduler: str | None, words: str) -> list[R]:
    """Do something for many items, part by part; what comes of each part, in no order that means anything.

    Args:
        work: takes some items; a function of a module, with what it needs, that can be sent elsewhere.
        items: all of them.
        jobs: how many processes; 1 for none beside this one.
        scheduler: address of a Dask scheduler, as ``tcp://10.40.48.9:8786``; None for this machine.
        words: what the items are, for the progress bar.

    Raises:
        InputError: no scheduler answers at the address.
        Unsupported: the library for it is not installed.

    """
    out = []
    with counter(len(items), words) as each:
        done = 0
        for count, found in _away(work, items, scheduler) if scheduler is not None else _beside(work, items, jobs):
            out.append(found)
            done += count
            each(done)
    return out


def _parts(items: Sequence[T], hands: int) -> list[Sequence[T]]:
    """Items in parts, for so many who work at the same time."""
    count = min(len(items), max(1, hands) * PARTS_EACH)
    return [items[n::count] for n in range(count)]


def _beside(work: Callable[[Sequence[T]], R], items: Sequence[T], jobs: int) -> Iterator[tuple[int, R]]:
    """In processes of this machine: of how many items, and what came of them."""
    parts = _parts(items, jobs)
    with ProcessPoolExecutor(min(jobs, len(parts)), mp_context=get_context("spawn")) as pool:
        asked = {pool.submit(work, part): len(part) for part in parts}
        try:
            yield from ((asked[one], one.result()) for one in as_completed(asked))
        except KeyboardInterrupt:
            for child in active_children():  # whatever they do, nobody waits for it any more
                child.terminate()
            raise


def _away(work: Callable[[Sequence[T]], R], items: Sequence[T], scheduler: str) -> Iterator[tuple[int, R]]:
    """On the workers of a scheduler: of how many items, and what came of them."""
    try:
        import distributed
    except ImportError:
        raise Unsupported("Dask is not installed. Install it: pip install 'mossy-compass[dask]'.") from None
    if not re.fullmatch(r"(\w+://)?.+:\d+|inproc://.+", scheduler):
        raise InputError(f"'{scheduler}' is no address of a scheduler. Write its host and port, as tcp://10.40.48.9:8786.")
    try:
        client: Any = distributed.Client(scheduler, timeout=PATIENCE)
    except (OSError, ValueError) as fault:
        raise InputError(
            f"no scheduler answers at {scheduler}: {fault or 'nothing came back'}. Start one: dask scheduler."
        ) from None
    with client:
        try:
            client.wait_for_workers(1, timeout=PATIENCE)
        except TimeoutError:
            raise InputError(f"the scheduler at {scheduler} has no workers. Start some: dask worker {scheduler}.") from None
        parts = _parts(items, sum(client.nthreads().values()))
        futures = client.map(work, parts, pure=False)
        asked = {one.key: len(part) for one, part in zip(futures, parts, strict=True)}
        for one in distributed.as_completed(futures):
            try:
                found: R = one.result()
            except MossyError:
                raise
            except Exception as fault:
                words = f"{type(fault).__name__}: {fault}".split("\n", 1)[0]
                raise InputError(
                    f"a worker of {scheduler} failed: {words}. All of them need mossy-compass as it is here."
                ) from None
            yield asked[one.key], found
