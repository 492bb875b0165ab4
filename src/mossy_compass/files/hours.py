"""Windows of time into the model, and times as people write them into instants.

Time zones are those of the IANA database, which the system has or the package ``tzdata`` brings along. Only here, at the
door, is a calendar used: the core counts seconds.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cache
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError, available_timezones

from mossy_compass.errors import InputError
from mossy_compass.files.context import Context
from mossy_compass.files.schema import HoursIn
from mossy_compass.marks import hint
from mossy_compass.model.gates import DAYS, Hours, Wall
from mossy_compass.walk.question import Instant, instant


@dataclass(frozen=True)
class Clock:
    """The clocks of a time zone: takes an instant and gives what they show."""

    zone: str

    def __call__(self, now: int) -> Wall:
        """What clocks of the zone show at an instant, in seconds since 1970, UTC."""
        shown = datetime.fromtimestamp(now, _zone(self.zone))
        return Wall(shown.weekday(), shown.hour * 60 + shown.minute)


_NO_ZONES = ("localtime", "posixrules", "Factory", "right/", "posix/")
"""What lies beside the zones on a system: its own time, a stand-in for none, and the same zones with leap seconds or without.
With them the same file would mean something else on another machine."""


@cache
def _zone(name: str) -> ZoneInfo:
    """A time zone by its name; what is no name of one gives an error of the standard library."""
    if name.startswith(_NO_ZONES):
        raise ZoneInfoNotFoundError(name)
    return ZoneInfo(name)


def hours(ctx: Context, name: str, entry: HoursIn) -> Hours:
    """A window of time; a zone that there is not, and a window that never opens, are refused."""
    path = ("hours", name)
    zone = entry.zone
    try:
        _zone(zone)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        known = hint(zone, lambda: {z for z in available_timezones() if not z.startswith(_NO_ZONES)}, "time zones")
        ctx.fault("hours.zone", ctx.spot(*path, "zone"), f"there is no time zone '{zone}'.", known)
        zone = "UTC"
    if entry.from_ == entry.until or entry.from_ == 24 * 60:
        words = f"'{name}' closes as it opens, so it would never be open."
        ctx.fault("hours.never", ctx.mark(*path), words, "For the whole day write from: 00:00, until: 24:00.")
    days = frozenset(DAYS.index(d) for d in entry.days)
    return Hours(name, zone, days, entry.from_, entry.until, Clock(zone), ctx.mark(*path), entry.about)


def parse_moment(text: str) -> Instant:
    """A time as an instant: ``2026-05-04 10:30``, with or without an offset like ``+02:00``; UTC without one.

    Raises:
        InputError: it is no time.

    """
    try:
        found = datetime.fromisoformat(text.strip())
    except ValueError:
        raise InputError(
            f"'{text}' is no time; write one like 2026-05-04T10:30+02:00 (RFC 3339), or without offset for UTC."
        ) from None
    if found.tzinfo is None:
        found = found.replace(tzinfo=UTC)
    return instant(found)


def moment_text(now: int) -> str:
    """An instant as RFC 3339 has it, in UTC."""
    return datetime.fromtimestamp(now, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
