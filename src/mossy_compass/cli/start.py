"""Where the command begins: before anything else is imported, an interrupt gets one line to end with.

Importing what a command needs takes longer than many commands themselves, so an interrupt mostly meets an import. This file
imports only what Python has loaded already. The first interrupt ends the work; later ones are not heard, since the program is
on its way out, and neither is one while the interpreter itself ends.
"""

from __future__ import annotations

import _thread
import signal
import sys
import time
from types import FrameType
from typing import Any

EXIT_STOPPED = 130
"""As shells count the signal INT."""


def run() -> None:
    """Entry point of ``mossy``."""
    code: object = EXIT_STOPPED
    try:
        if signal.getsignal(signal.SIGINT) is signal.default_int_handler:  # where it is ignored, as behind nohup, it stays so
            signal.signal(signal.SIGINT, _first)
            sys.unraisablehook = _unraisable
        from mossy_compass.cli.main import run as run_command

        run_command()
    except SystemExit as end:
        code = end.code
    except BaseException as met:
        # An interrupt may come out as something else: what runs while a class is made is wrapped in a RuntimeError.
        if not _heard and not isinstance(met, KeyboardInterrupt):
            raise
        _stopped()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    raise SystemExit(code)


_heard: list[int] = []
"""The interrupt, once there was one."""

_lost: list[bool] = []
"""That it met a place from which nothing can be raised, and is wanted again."""

AGAIN_AFTER = 0.005
"""Seconds until an interrupt that was lost in a finaliser is raised anew: by then the finaliser has mostly ended."""


def _first(number: int, frame: FrameType | None) -> None:
    """The first interrupt; those after it are not heard, unless the first one was lost."""
    if _heard and not _lost:
        return
    _heard.append(number)
    _lost.clear()
    while frame is not None:
        if frame.f_code is _unraisable.__code__:  # raised in here it would be lost once more, with a traceback
            _raise_later()
            return
        frame = frame.f_back
    raise KeyboardInterrupt


_default_hook = sys.unraisablehook


def _unraisable(found: Any) -> None:
    """An interrupt that met a finaliser, from which nothing can be raised: it is raised again once that has ended."""
    if found.exc_type is KeyboardInterrupt:
        _raise_later()
    else:
        _default_hook(found)


def _raise_later() -> None:
    # From a thread, since an interrupt that is asked for right here is raised before this function has returned.
    _thread.start_new_thread(_again, (_thread.get_ident(),))


def _again(main: int) -> None:
    time.sleep(AGAIN_AFTER)
    _lost.append(True)
    if hasattr(signal, "pthread_kill"):
        signal.pthread_kill(main, signal.SIGINT)  # ends a wait, too
    else:
        _thread.interrupt_main()


def _stopped() -> None:
    """Say so, if there is anybody to say it to."""
    try:
        sys.stderr.write("stopped.\n")
    except (OSError, ValueError, AttributeError):
        return
