"""How the records of the core find their words.

The core makes no sentences and imports nothing of ``report/``. So that ``str(journey)`` can still be one, the package's
root installs here, as a name that is looked up when it is first needed, whoever speaks for the records.
"""

from __future__ import annotations

import importlib
from functools import cache
from typing import Any

SPEAKER = "mossy_compass.report.voice"
"""The module whose functions are asked: because, headline, explain, journey_dict."""


@cache
def voice() -> Any:
    """The speaker's module."""
    return importlib.import_module(SPEAKER)
