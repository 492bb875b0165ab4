"""What decides beside an interface's lists: windows of time, applications, crossings, profiles, what a device offers.

Everything here is as written; what it comes to at a device is compiled in ``plan/``. Nothing here knows a clock: an
instant is a number of seconds, and what the clock on the wall says then is told by a function that the file's reader made.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from mossy_compass.marks import NOWHERE, Mark
from mossy_compass.model.terms import Term
from mossy_compass.packet.service import Service

DAY = 24 * 60
"""Minutes of a day."""
DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
"""Names of days as files write them, Monday first (ISO 8601)."""
SEVERITIES = ("emergency", "alert", "critical", "error", "warning", "notice", "informational", "debug")
"""Severities of a log line by their number, 0 to 7 (RFC 5424 section 6.2.1)."""


def _mark() -> Any:
    """A field for a place, which takes no part in equality."""
    return field(default=NOWHERE, compare=False)


class Wall(NamedTuple):
    """What a clock on the wall says.

    Attributes:
        day: of the week, 0 for Monday.
        minute: of the day, 0 to 1439.

    """

    day: int
    minute: int


@dataclass(frozen=True)
class Hours:
    """A named window of time: open on some days, from one minute on, until another, by the clocks of one zone.

    It opens at ``start`` and is open up to, but not at, ``end``. Where ``end`` is not after ``start`` it runs past
    midnight, and belongs to the day on which it opens. When clocks are set forward, minutes that no clock shows are never
    open; when they are set back, the hour that comes twice is open twice: the clock on the wall alone decides.

    Attributes:
        name: as rules say it.
        zone: IANA name of the time zone.
        days: numbers of the days, 0 for Monday.
        start, end: minutes of the day, 0 to 1440.
        wall: takes an instant (seconds since 1970, UTC) and gives what the clocks of the zone say.
        mark, about: where it is written, and what for.

    """

    name: str
    zone: str
    days: frozenset[int]
    start: int
    end: int
    wall: Callable[[int], Wall] = field(compare=False)
    mark: Mark = _mark()  # noqa: RUF009 - a field, as dataclasses make them
    about: str = ""

    def open_on(self, day: int, minute: int) -> bool:
        """Whether it is open when clocks of its zone show this."""
        if self.start < self.end:
            return day in self.days and self.start <= minute < self.end
        late = day in self.days and minute >= self.start
        early = (day - 1) % 7 in self.days and minute < self.end
        return late or early

    def open_at(self, now: int) -> bool:
        """Whether it is open at an instant, in seconds since 1970, UTC."""
        return self.open_on(*self.wall(now))

    @property
    def words(self) -> str:
        """As ``mon, tue 08:00-17:00 Europe/Vienna``."""
        days = "every day" if len(self.days) == 7 else ", ".join(DAYS[d] for d in sorted(self.days))
        return f"{days} {clock(self.start)}-{clock(self.end)} {self.zone}"


def clock(minute: int) -> str:
    """A minute of the day as ``08:30``."""
    return f"{minute // 60:02}:{minute % 60:02}"


@dataclass(frozen=True)
class Application:
    """An application that flows may be of.

    Attributes:
        name: as rules say it.
        categories: what else rules may call it by.
        known_from: number of the packet from which on a device knows it; 1 is the opening packet, 2 the first answer.
        destinations, services: flows that are of it, when a test does not say; both None where only a test can say.

    """

    name: str
    categories: tuple[str, ...] = ()
    known_from: int = 1
    destinations: tuple[Term, ...] | None = None
    services: tuple[Service, ...] | None = None
    mark: Mark = _mark()  # noqa: RUF009
    about: str = ""

    @property
    def names(self) -> frozenset[str]:
        """Its name and its categories: what a rule may ask for."""
        return frozenset((self.name, *self.categories))


@dataclass(frozen=True)
class Crossing:
    """Lists for what passes from one zone into another.

    Attributes:
        origin, into: a zone, an interface, a group of uplinks; ``any``; or ``self`` for the device itself.
        lists: names, in the order in which they are asked.

    """

    origin: str
    into: str
    lists: tuple[str, ...]
    mark: Mark = _mark()  # noqa: RUF009
    about: str = ""

    @property
    def words(self) -> str:
        """As ``house into world``."""
        return f"{self.origin} into {self.into}"


@dataclass(frozen=True)
class Offer:
    """A service that a device itself answers on an interface, and who may ask.

    Attributes:
        interface: the one that packets for the device come by.
        word: the service as written.
        services: what it stands for; empty for a ping.
        sources: who may ask; None for everybody; empty for nobody.

    """

    interface: str
    word: str
    services: tuple[Service, ...]
    sources: tuple[Term, ...] | None
    mark: Mark = _mark()  # noqa: RUF009


@dataclass(frozen=True)
class Profile:
    """Lists for chosen hosts, beside or in place of the lists that everybody's packets meet on arrival.

    Attributes:
        name: ours to print.
        members: addresses of who opens the flow; None for everybody.
        arriving: interfaces that the flow's packets come by, so that a VLAN may have a profile; None for any.
        mode: ``instead``, ``before`` or ``after`` the common lists.
        lists: names, in order.

    """

    name: str
    members: tuple[Term, ...] | None
    arriving: tuple[str, ...] | None
    mode: str
    lists: tuple[str, ...]
    mark: Mark = _mark()  # noqa: RUF009
    about: str = ""


@dataclass(frozen=True)
class Gates:
    """Everything that filters at a device beside the lists of its interfaces.

    Attributes:
        everywhere: lists for whatever arrives, by whichever interface.
        everywhere_on: whether they are in force.
        everywhere_mark: where they are written.
        crossings: in order; the first pair that a packet is of decides which lists it meets.
        to_self, from_self: lists for packets to the device, and of the device.
        offers: what the device answers, by interface; an interface that is named answers nothing else.
        offering: the interfaces that have an entry, an empty one too.
        profiles: in order; the first that a packet belongs to.
        built_in: built-in rules that were switched, by their name: on or off.

    """

    everywhere: tuple[str, ...] = ()
    everywhere_on: bool = True
    everywhere_mark: Mark = _mark()  # noqa: RUF009
    crossings: tuple[Crossing, ...] = ()
    to_self: tuple[str, ...] = ()
    to_self_mark: Mark = _mark()  # noqa: RUF009
    from_self: tuple[str, ...] = ()
    from_self_mark: Mark = _mark()  # noqa: RUF009
    offers: tuple[Offer, ...] = ()
    offering: frozenset[str] = frozenset()
    profiles: tuple[Profile, ...] = ()
    built_in: Mapping[str, bool] = field(default_factory=dict)
