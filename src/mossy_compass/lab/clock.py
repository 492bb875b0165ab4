"""Probes on the lab's clock: when each asks, what came of it, and when that changes its verdict.

A probe asks at every multiple of its time since the lab began. What fails, or is answered, is counted from one question to the next; the
verdict falls when the answer has come, or when it has not within its time. Where every outcome equals its verdict nothing happens
until something else does, so that a wait of years costs no more than what changes in it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from mossy_compass.errors import QuestionError
from mossy_compass.model.network import Probe
from mossy_compass.walk.weather import Key, ProbeOutcome, Quality

AtRest = tuple[frozenset[Key], Callable[[Key], Quality | None]]
"""Which probes are down once none changes any more, and what each measures then."""

MOST_EVENTS = 100_000
"""So many questions of probes are asked in one wait; more is told, and nothing of it is kept."""


@dataclass(slots=True)
class Status:
    """How a probe is.

    Attributes:
        up: its verdict.
        streak: so many outcomes in a row that speak against it.
        since: when the verdict fell, in milliseconds on the lab's clock.
        asked: when it asked last, of the questions that were counted; -1 for never.
        due: when the verdict changes, once what changes it is under way; None where nothing is.
        why: what the last failure was, in words.
        measured: the quality of its way, as it has measured that last; kept only where a group of uplinks chooses by it.

    """

    up: bool = True
    streak: int = 0
    since: int = 0
    asked: int = -1
    due: int | None = None
    why: str = ""
    measured: Quality | None = None


class VerdictChange(NamedTuple):
    """A probe's verdict that changed.

    Attributes:
        at: when, in milliseconds on the lab's clock.
        device, probe: whose, which.
        up: what it is now.
        why: what it failed by; empty where it is up.

    """

    at: int
    device: str
    probe: str
    up: bool
    why: str


@dataclass(slots=True)
class Watch:
    """Every probe of a network, on a clock.

    Attributes:
        statuses: of each, by device and name.
        choosing: the probes by whose measurements some group of uplinks chooses.

    """

    statuses: dict[Key, Status] = field(default_factory=dict)
    choosing: frozenset[Key] = frozenset()

    @property
    def measured(self) -> dict[Key, Quality]:
        """What was measured last, of the probes by which somebody chooses."""
        known = ((key, self.statuses[key].measured) for key in sorted(self.choosing) if key in self.statuses)
        return {key: found for key, found in known if found is not None}

    @property
    def down(self) -> frozenset[Key]:
        """The probes that are down."""
        return frozenset(key for key, status in self.statuses.items() if not status.up)

    def copied(self) -> Watch:
        """The same, which what follows does not change."""
        held = {k: Status(s.up, s.streak, s.since, s.asked, s.due, s.why, s.measured) for k, s in self.statuses.items()}
        return Watch(held, self.choosing)

    def fit(self, probes: Mapping[Key, Probe], at_rest: Callable[[], AtRest], now: int, choosing: frozenset[Key]) -> None:
        """Know the probes that are there, and forget those that are not; new ones have settled.

        Args:
            probes: every probe that is asked.
            at_rest: says which have settled as down, and what they measure then.
            now: the instant.
            choosing: those by whose measurements some group of uplinks chooses.

        """
        self.choosing = choosing
        for key in [k for k in self.statuses if k not in probes]:
            del self.statuses[key]
        fresh = [k for k in probes if k not in self.statuses]
        down, measures = at_rest() if fresh or any(self.statuses[k].measured is None for k in choosing) else (frozenset(), None)
        for key in fresh:
            self.statuses[key] = Status(up=key not in down, since=now)
        for key in choosing:
            if measures is not None and self.statuses[key].measured is None:
                self.statuses[key].measured = measures(key)

    def next_at(self, probes: Mapping[Key, Probe], outcome: Callable[[Key], ProbeOutcome], now: int) -> int | None:
        """When something happens next, after an instant; None where every probe is at rest."""
        at, key, _ = self._next(probes, outcome, now + 1)
        return at if key is not None else None

    def until(
        self,
        now: int,
        to: int,
        probes: Callable[[], Mapping[Key, Probe]],
        outcome: Callable[[Key], ProbeOutcome],
        advance: Callable[[int], None],
        changed: Callable[[], None],
    ) -> list[VerdictChange]:
        """Let probes ask until an instant; gives the verdicts that changed, in order.

        Args:
            now, to: instants on the lab's clock.
            probes: every probe that is asked.
            outcome: what comes of a probe's question as things stand.
            advance: lets the clock go on to an instant.
            changed: is called when verdicts have changed, so that the network is another.

        Raises:
            QuestionError: more happens than is worked through.

        """
        out: list[VerdictChange] = []
        # What was asked at this very instant was asked before whatever happened since.
        begun = now
        for _ in range(MOST_EVENTS):
            known = probes()
            at, key, falls = self._next(known, outcome, max(now, begun + 1))
            if key is None or at > to:
                return out
            advance(at)
            now = at
            status = self.statuses[key]
            if falls:
                out.append(self._falls(key, status, at))
                changed()
            else:
                came, before = outcome(key), status.measured
                self._asks(known[key], status, came, at)
                if key in self.choosing and came.quality is not None and came.quality != before:
                    status.measured = came.quality
                    changed()
        raise QuestionError(
            f"probes ask more than {MOST_EVENTS} times until then without coming to rest. Wait less, or mend the circle that check names."
        )

    def _next(self, probes: Mapping[Key, Probe], outcome: Callable[[Key], ProbeOutcome], now: int) -> tuple[int, Key | None, bool]:
        """The next thing that happens: when, to which probe, and whether a verdict falls. Verdicts come before questions of one instant."""
        found: tuple[int, bool, Key] | None = None
        for key, probe in probes.items():
            status = self.statuses[key]
            if status.due is not None:
                event = (status.due, False, key)
            elif outcome(key).ok is status.up and not status.streak and not self._finds(key, outcome(key)):
                continue  # what it would find is what it says
            else:
                after = max(now, status.asked + 1)
                event = (-(-after // probe.every) * probe.every, True, key)
            found = event if found is None or event < found else found
        return (found[0], found[2], not found[1]) if found is not None else (0, None, False)

    def _finds(self, key: Key, came: ProbeOutcome) -> bool:
        """Whether a question would measure something else than the one before, where somebody chooses by that."""
        return key in self.choosing and came.quality is not None and came.quality != self.statuses[key].measured

    def _asks(self, probe: Probe, status: Status, came: ProbeOutcome, at: int) -> None:
        """A question, and what it says against the verdict."""
        status.asked = at
        status.why = came.why or status.why
        if came.ok is status.up:
            status.streak = 0
            return
        status.streak += 1
        if status.streak >= (probe.down_after if status.up else probe.up_after):
            known = round(came.quality.latency_ms) if came.quality is not None else probe.reply_within
            status.due = at + min(known, probe.reply_within)

    def _falls(self, key: Key, status: Status, at: int) -> VerdictChange:
        """A verdict changes."""
        status.up, status.streak, status.since, status.due = not status.up, 0, at, None
        return VerdictChange(at, *key, status.up, "" if status.up else status.why)
