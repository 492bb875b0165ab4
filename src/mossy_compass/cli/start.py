"""Where the command begins: before anything else is imported, an interrupt gets one line to end with.

Importing what a command needs takes longer than many commands themselves, so an interrupt mostly meets an import. This file
imports only what Python has loaded already. The first interrupt ends the work; later ones are not heard, since the program is
on its way out, and neither is one while the interpreter itself ends.
"""

from __future__ import annotations

import _thread
import signal
import sys
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


def _first(number: int, frame: FrameType | None) -> None:
    """The first interrupt; those after it are not heard."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _heard.append(number)
    raise KeyboardInterrupt


_default_hook = sys.unraisablehook


def _unraisable(found: Any) -> None:
    """An interrupt that met a finaliser, from which nothing can be raised: it is raised again where it can."""
    if found.exc_type is KeyboardInterrupt:
        signal.signal(signal.SIGINT, _first)
        _thread.interrupt_main()
    else:
        _default_hook(found)


def _stopped() -> None:
    """Say so, if there is anybody to say it to."""
    try:
        sys.stderr.write("stopped.\n")
    except (OSError, ValueError, AttributeError):
        return
