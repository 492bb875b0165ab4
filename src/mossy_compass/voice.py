"""How the records of the core find their words.

The core makes no sentences and knows nobody above it. So that ``str(journey)`` can still be one, the package's root says here
who speaks for the records; the speaker is fetched when it is first needed.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import Any

_SPEAKER: list[Callable[[], Any]] = []


def speaks(fetch: Callable[[], Any]) -> None:
    """Say who speaks for the records.

    Args:
        fetch: gives the module whose functions are asked: because, headline, explain, journey_dict.

    """
    _SPEAKER[:] = [fetch]


@cache
def voice() -> Any:
    """The speaker's module."""
    return _SPEAKER[0]()
