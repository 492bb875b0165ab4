"""The one place that writes: files whole or not at all, and the standard streams.

A file takes its name only when all of it is on the disk, so an interrupt or a full disk
leaves what was there before. What was read for an answer is never written over with it, and
a file that somebody else made is left alone. The standard output may be closed, full, or read
by somebody who has gone; each has its own end, and none of them is a traceback.
"""

from __future__ import annotations

import os
import stat
import sys
import tempfile
from collections.abc import Iterable
from enum import Enum
from pathlib import Path
from typing import Any

from mossy_compass.errors import InputError
from mossy_compass.safe import safe

HEAD = 4096
"""So many bytes of a file tell what it is."""


class FileKind(Enum):
    """What an output is, by what its first bytes hold: a file may be replaced by a newer one of its kind, and by nothing else.

    The value is what a person calls it, then the bytes that one of them begins with, or that stand near its beginning.
    """

    PNG = ("PNG picture", b"\x89PNG\r\n\x1a\n")
    PARQUET = ("Parquet table", b"PAR1")
    CAPTURE = ("pcapng capture", b"\x0a\x0d\x0d\x0a")
    SVG = ("SVG picture", b"<svg")
    LOG = ("log of RFC 5424", b">1 ")
    JUNIT = ("JUnit report", b"<testsuites")
    LISTS = ("data of RFC 8519", b"ietf-access-control-list:acls")
    GRID = ("saved grid", b'"mossy-grid"')
    NETWORK = ("network file", b"mossy-network:")
    DRILL = ("drill", b"mossy-drill:")
    CHANGE = ("change file", b"mossy-change:")

    @property
    def words(self) -> str:
        """What a person calls it."""
        return str(self.value[0])

    def fits(self, head: bytes) -> bool:
        """Whether a file that begins so is one of these. An empty file is anything: nothing is lost with it."""
        if self in (FileKind.PNG, FileKind.CAPTURE, FileKind.PARQUET):
            return not head or head.startswith(self.value[1])
        if self is FileKind.LOG:
            return not head or (head[:1] == b"<" and self.value[1] in head[:8])
        return not head or self.value[1] in head


class Once(Enum):
    """When a file that is there may be replaced."""

    ITS_KIND = "one of its kind"
    NEVER = "never"
    SAME = "only where it says the same already"
    ITSELF = "it is the input that shall be written"


def write_whole(path: Path, data: bytes, kind: FileKind, replace: Once = Once.ITS_KIND) -> None:
    """Write a whole file or nothing: into a temporary neighbour first, which then takes the name.

    A link stays a link, and what it leads to is written; a file that is there keeps its mode.

    Args:
        path: the file.
        data: all of it.
        kind: what it is, so that it takes the place of nothing else.
        replace: when a file that is there is replaced.

    Raises:
        InputError: it cannot be written, or must not; nothing is changed then.

    """
    try:
        target, mode = may_write(path, data, kind, replace)
        handle, name = tempfile.mkstemp(prefix=".mossy.", dir=target.parent)
    except (OSError, ValueError, RuntimeError) as fault:  # pathlib says RuntimeError of links that lead in a circle
        raise InputError(f"{path}: cannot be written: {reason(fault)}. Check the name and the folder.") from None
    try:
        with os.fdopen(handle, "wb") as stream:
            stream.write(data)
            stream.flush()
            os.fsync(stream.fileno())  # a full disk may show itself no earlier
        os.chmod(name, mode)
        os.replace(name, target)
    except OSError as fault:
        raise InputError(f"{path}: cannot be written: {reason(fault)}. Nothing was changed.") from None
    finally:
        Path(name).unlink(missing_ok=True)
    _WRITTEN.add(target)


_WRITTEN: set[Path] = set()
"""What this command has written, since one name for two outputs would lose one of them."""


def begin() -> None:
    """A command begins anew: what an earlier run wrote may be written again."""
    _WRITTEN.clear()


def may_write(path: Path, data: bytes, kind: FileKind, replace: Once = Once.ITS_KIND) -> tuple[Path, int]:
    """Whether a file may be written; gives where its links lead, and the mode that it shall have.

    Raises:
        InputError: something is there that is not to be replaced.
        OSError, ValueError, RuntimeError: the operating system does not allow it.

    """
    if not str(path).strip() or str(path) == ".":
        raise InputError("an output has an empty name. Name a file.")
    target = path.resolve()
    if target in _WRITTEN:
        raise InputError(f"{path}: two outputs have this name. Give each its own.")
    try:
        found = target.stat()
    except FileNotFoundError:
        mask = os.umask(0)
        os.umask(mask)
        return target, 0o666 & ~mask
    if stat.S_ISDIR(found.st_mode):
        raise InputError(f"{path}: this is a folder. Name a file in it.")
    if not stat.S_ISREG(found.st_mode):
        raise InputError(f"{path}: this is no plain file. Name one that is, or a new one.")
    if replace is Once.ITSELF:
        return target, stat.S_IMODE(found.st_mode)
    _refuse_input(path, target)
    if replace is Once.NEVER:
        raise InputError(f"{path}: exists already, and is left as it is. Choose another name.")
    _refuse_strangers(path, target, data, kind, replace)
    return target, stat.S_IMODE(found.st_mode)


def _refuse_input(path: Path, target: Path) -> None:
    """Refuse a file that was read for this answer, by whatever name."""
    from mossy_compass.files.opened import was_read

    if was_read(target):
        raise InputError(f"{path}: this is one of the files that were read, and is left as it is. Choose another name.")


def _refuse_strangers(path: Path, target: Path, data: bytes, kind: FileKind, replace: Once) -> None:
    """Refuse a file that holds something else than what is replaced by its like."""
    with target.open("rb") as stream:
        head = stream.read(len(data) + 1 if replace is Once.SAME else HEAD)
    if replace is Once.SAME and head not in (b"", data):
        raise InputError(f"{path}: exists already and says something else, so it is left as it is. Choose another name.")
    if not kind.fits(head):
        raise InputError(f"{path}: exists already and is no {kind.words}, so it is left as it is. Choose another name.")


def may_write_all(outputs: Iterable[tuple[Path, bytes, FileKind, Once]]) -> None:
    """Refuse several outputs before the first of them is written.

    Raises:
        InputError: one of them must not be written.

    """
    for path, data, kind, replace in outputs:
        try:
            may_write(path, data, kind, replace)
        except (OSError, ValueError, RuntimeError) as fault:
            raise InputError(f"{path}: cannot be written: {reason(fault)}. Check the name and the folder.") from None


def reason(fault: Exception) -> str:
    """What the operating system says, in lower case, without the name that stands before it already."""
    if isinstance(fault, RuntimeError):
        return "its symbolic links lead in a circle"
    return str(getattr(fault, "strerror", None) or fault).lower().rstrip(".")


def say(text: str, stream: Any = None) -> None:
    """Write text, made safe once more where it was made so before; a stream that cannot hold arrows gets plain ones."""
    stream = stream or sys.stdout
    text = safe(text)
    if stream is None:  # the program was started with its standard output closed
        raise InputError("the standard output is closed: there is nowhere to write to.")
    try:
        stream.write(text)
    except UnicodeEncodeError:
        stream.write(text.replace("→", "->").encode("ascii", "replace").decode())
    except BrokenPipeError:
        raise
    except OSError as fault:
        raise lost(fault) from None


def finish() -> None:
    """Push out what is still held back, so that a full disk is told of and not lost in silence.

    Raises:
        InputError: the standard output takes no more.

    """
    try:
        if sys.stdout is not None:
            sys.stdout.flush()
    except BrokenPipeError:
        raise
    except (OSError, ValueError) as fault:
        raise lost(fault) from None


def lost(fault: Exception) -> InputError:
    """What is said when the output could not be written; what is still held back of it is given up."""
    silence()
    return InputError(f"the standard output cannot be written: {reason(fault)}. Only a part of it may be there.")


def silence() -> None:
    """Keep the interpreter from trying again at its end, which would print a traceback."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
