"""A progress bar for work that takes a while: on a terminal, on the error stream, and nowhere else.

Bars are for people who wait. Where the error stream is a file or a pipe nobody does, and a
bar would only be found later among the messages.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, TypeVar

if TYPE_CHECKING:
    from rich.progress import Progress

T = TypeVar("T")
LEAST = 200
"""Work of fewer steps is over before anybody has read a bar."""


def _bar() -> Progress:
    """A bar on the standard error stream that goes when it is done."""
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
    return Progress(*columns, console=Console(stderr=True), transient=True)


def track(steps: Iterable[T], total: int, words: str, least: int = LEAST) -> Iterator[T]:
    """The steps again, with a bar that counts them while they are taken; none where there are few."""
    if total < least or sys.stderr is None or not sys.stderr.isatty():
        yield from steps
        return
    with _bar() as bar:
        yield from bar.track(steps, total=total, description=words)


@contextmanager
def counter(total: int, words: str, least: int = LEAST) -> Iterator[Callable[[int], object]]:
    """A bar that is told how far things are; none where there is little to do.

    Args:
        total: of how many.
        words: what they are.
        least: of so few nothing is shown.

    """
    if total < least or sys.stderr is None or not sys.stderr.isatty():
        yield bool
        return
    with _bar() as bar:
        task = bar.add_task(words, total=total)
        yield lambda so_far: bar.update(task, completed=so_far)
