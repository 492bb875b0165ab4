"""Associations of tunnels, as both their ends remember them: each may forget it without the other."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial

from mossy_compass.packet.address import Address
from mossy_compass.plan.facts import Association

Note = Callable[[Callable[[], None]], None]
"""Takes what undoes something that was just written."""


class Associations:
    """What devices remember of their tunnels.

    Attributes:
        made: so many were ever made; their numbers are never given twice.

    Args:
        note: of the journal.

    """

    __slots__ = ("_held", "_mtus", "_note", "made")

    def __init__(self, note: Note) -> None:
        self._note = note
        self._held: dict[str, dict[int, Association]] = {}
        self.made = 0
        self._mtus: dict[tuple[str, str], tuple[int, int]] = {}

    @property
    def mtus(self) -> dict[tuple[str, str], tuple[int, int]]:
        """What tunnels have learned of their ways: the longest packet that goes in, in bytes, and until when that holds."""
        return dict(sorted(self._mtus.items()))

    def path_mtu(self, device: str, tunnel: str, now: int) -> int | None:
        """The longest packet that goes into a tunnel, in bytes, as far as that was learned; None where nothing was, or too long ago."""
        mtu, until = self._mtus.get((device, tunnel), (0, 0))
        return mtu if until > now else None

    def learn(self, device: str, tunnel: str, mtu: int, until: int) -> None:
        """An error about an outer packet told how long such may be.

        Args:
            device, tunnel: whose.
            mtu: the longest packet that goes in, in bytes.
            until: an instant, in milliseconds.

        """
        before = self._mtus.get((device, tunnel))
        self._mtus[device, tunnel] = mtu, until
        if before is None:
            self._note(partial(self._mtus.__delitem__, (device, tunnel)))
        else:
            self._note(partial(self._mtus.__setitem__, (device, tunnel), before))

    def __bool__(self) -> bool:
        return any(self._held.values())

    @property
    def devices(self) -> set[str]:
        """Who remembers any."""
        return {name for name, held in self._held.items() if held}

    def of(self, device: str) -> list[Association]:
        """Those of a device, oldest first."""
        return sorted(self._held.get(device, {}).values())

    def get(self, device: str, number: int) -> Association | None:
        """One by its number; None where the device has it no more."""
        return self._held.get(device, {}).get(number)

    def between(self, device: str, tunnel: str, mine: Address, far: Address) -> Association | None:
        """The newest of a tunnel by which packets go between two addresses.

        Args:
            device, tunnel: whose.
            mine: the address at this end.
            far: that at the other.

        """
        found = (a for a in reversed(self.of(device)) if a.tunnel == tunnel and a.holds(mine, far))
        return next(found, None)

    def make(self, one: Association, other: Association) -> Association:
        """Both ends have agreed; gives the first one's view, with its number."""
        self.made += 1
        self._note(partial(setattr, self, "made", self.made - 1))
        for view in (one, other):
            self._put(view._replace(number=self.made))
        return one._replace(number=self.made)

    def take_over(self, other: Associations) -> None:
        """Have what others have agreed on elsewhere, and nothing that was remembered on the way there.

        Args:
            other: of another state, of the same network.

        """
        for held in other._held.values():
            for view in held.values():
                self._put(view)
        self._note(partial(setattr, self, "made", self.made))
        self.made = max(self.made, other.made)

    def seen_as(self, held: Association, to: Address, to_port: int) -> Association:
        """The other end comes from another address or port by now, and is sent to there (RFC 7296 section 2.23)."""
        if (held.to, held.to_port) == (to, to_port):
            return held
        self._put(held._replace(to=to, to_port=to_port))
        return held._replace(to=to, to_port=to_port)

    def end(self, device: str, number: int) -> Association | None:
        """A device forgets one; what it was, None where it had none of that number."""
        held = self._held.get(device, {})
        gone = held.pop(number, None)
        if gone is not None:
            self._note(partial(held.__setitem__, number, gone))
        return gone

    def over(self, now: int) -> Iterator[Association]:
        """Forget those whose time is over; gives them."""
        for name, held in self._held.items():
            for number in [n for n, a in held.items() if a.ends is not None and a.ends <= now]:
                gone = self.end(name, number)
                assert gone is not None
                yield gone

    def rename(self, device: str, name: str) -> None:
        """A device has another name."""
        for (owner, tunnel), learned in list(self._mtus.items()):
            if owner == device:
                self.learn(name, tunnel, *learned)
        for held in [a for of in self._held.values() for a in of.values() if device in (a.device, a.peer)]:
            self.end(held.device, held.number)
            mine, theirs = (name if n == device else n for n in (held.device, held.peer))
            self._put(held._replace(device=mine, peer=theirs))

    def _put(self, view: Association) -> None:
        """Write an end's view; one of that number that was there before is gone."""
        held = self._held.setdefault(view.device, {})
        before = held.get(view.number)
        held[view.number] = view
        if before is None:
            self._note(partial(held.__delitem__, view.number))
        else:
            self._note(partial(held.__setitem__, view.number, before))
