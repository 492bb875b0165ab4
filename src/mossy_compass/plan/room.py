"""Bounded room for what an executor keeps of packets' stays, so that an equal packet need not be asked about again.

What is kept, and what it hangs on, is the executor's to say. A stay is kept when it is met for the second time: in a table of everybody to
everybody hardly any is, and then nothing is kept any more.
"""

from __future__ import annotations

from collections.abc import Hashable
from typing import Any

MOST_KEPT = 16_384
"""So many stays are remembered of all devices together, those that are kept at two to three kilobytes each; then it begins anew."""
WORTH = 4
"""Of so many stays that were remembered, one at least must have been met again."""
NEW = object()
"""What nobody has asked for before."""


class Room:
    """What was kept, by what it hangs on.

    Attributes:
        most: so many are remembered; 0 for none any more.
        again: how often something was there since it was begun.
        eager: a stay is kept when it is met first.
        open: whether anything is still taken in.

    """

    __slots__ = ("_held", "again", "eager", "most", "open")

    def __init__(self, most: int = MOST_KEPT) -> None:
        self.most = most
        self.again = 0
        self.eager = False
        self.open = True
        self._held: dict[Hashable, Any] = {}

    def __len__(self) -> int:
        return len(self._held)

    def get(self, key: Hashable) -> Any:
        """What was kept; None for what was met before and should be kept now, ``NEW`` for what is not to be kept."""
        held = self._held
        if not self.open:
            return held.get(key) or NEW
        size = len(held)
        if size >= self.most:
            self._begin_anew()
            if not self.open:
                return NEW
            size = 0
        found = held.setdefault(key, None)
        if len(held) != size:
            return None if self.eager else NEW
        self.again += 1
        return found

    def keep(self, key: Hashable, what: Any) -> None:
        """Keep something that was asked for just now."""
        self._held[key] = what

    def close(self) -> None:
        """Take in nothing more: what is there serves on."""
        self.open = False

    def _begin_anew(self) -> None:
        """Forget everything; for good, where hardly anything was ever met again."""
        self._held.clear()
        if self.again * WORTH < self.most:
            self.most = 0
            self.close()
        self.again = 0
