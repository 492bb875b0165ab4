"""The one place that writes: files whole or not at all, and the standard streams.

A file takes its name only when all of it is on the disk, so an interrupt or a full disk
leaves what was there before. The standard output may be closed, full, or read by somebody
who has gone; each has its own end, and none of them is a traceback.
"""

from __future__ import annotations

import os
import stat
import sys
import tempfile
from pathlib import Path
from typing import Any

from mossy_compass.errors import InputError


def write_whole(path: Path, data: bytes, *, overwrite: bool = True) -> None:
    """Write a whole file or nothing: into a temporary neighbour first, which then takes the name.

    A link stays a link, and what it leads to is written; a file that is there keeps its mode.

    Raises:
        InputError: it cannot be written; nothing is changed then.

    """
    try:
        target = path.resolve()
        mode = _mode_of(path, target, overwrite)
        handle, name = tempfile.mkstemp(prefix=".mossy.", dir=target.parent)
    except (OSError, ValueError) as fault:
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


def _mode_of(path: Path, target: Path, overwrite: bool) -> int:
    """The mode that a file shall have: its own, or what new files get here."""
    try:
        found = target.stat()
    except FileNotFoundError:
        mask = os.umask(0)
        os.umask(mask)
        return 0o666 & ~mask
    if stat.S_ISDIR(found.st_mode):
        raise InputError(f"{path}: this is a folder. Name a file in it.")
    if not stat.S_ISREG(found.st_mode):
        raise InputError(f"{path}: this is no plain file. Name one that is, or a new one.")
    if not overwrite:
        raise InputError(f"{path}: exists already, and is left as it is. Choose another name.")
    return stat.S_IMODE(found.st_mode)


def reason(fault: Exception) -> str:
    """What the operating system says, in lower case."""
    return str(getattr(fault, "strerror", None) or fault).lower().rstrip(".")


def say(text: str, stream: Any = None) -> None:
    """Write text; a stream that cannot hold arrows gets plain ones."""
    stream = stream or sys.stdout
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
