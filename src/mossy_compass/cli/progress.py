"""A progress bar for work that takes a while: on a terminal, on the error stream, and nowhere else.

Bars are for people who wait. Where the error stream is a file or a pipe nobody does, and a
bar would only be found later among the messages.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable, Iterator
from typing import TypeVar

T = TypeVar("T")
LEAST = 200
"""Work of fewer steps is over before anybody has read a bar."""


def track(steps: Iterable[T], total: int, words: str, least: int = LEAST) -> Iterator[T]:
    """The steps again, with a bar that counts them while they are taken; none where there are few."""
    if total < least or sys.stderr is None or not sys.stderr.isatty():
        yield from steps
        return
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        yield from bar.track(steps, total=total, description=words)
