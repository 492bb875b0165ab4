"""Which files were read for an answer, so that no output takes the place of one of them.

They are noted by device and inode, so that a hard or symbolic link is the same file. Nothing is noted unless somebody asks for
it: a program of somebody's own that reads networks pays nothing, and keeps no state here.
"""

from __future__ import annotations

import os
from contextvars import ContextVar
from pathlib import Path

Identity = tuple[int, int]
_NOTED: ContextVar[set[Identity] | None] = ContextVar("files that were read", default=None)


def note_reads() -> set[Identity]:
    """From now on note which files are read; gives the set that they are noted in."""
    noted: set[Identity] = set()
    _NOTED.set(noted)
    return noted


def read(handle: int) -> None:
    """Note that a file is read; ``handle`` is its number among the open ones."""
    noted = _NOTED.get()
    if noted is not None:
        found = os.fstat(handle)
        noted.add((found.st_dev, found.st_ino))


def read_elsewhere(identities: set[Identity]) -> None:
    """Note what another process read for this one."""
    noted = _NOTED.get()
    if noted is not None:
        noted |= identities


def was_read(path: Path) -> bool:
    """Whether a file was read since ``note_reads``, by this name or another."""
    noted = _NOTED.get()
    found = path.stat()
    return noted is not None and (found.st_dev, found.st_ino) in noted
