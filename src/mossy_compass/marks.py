"""Places in files, and faults that point at them."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple


class Mark(NamedTuple):
    """A place in a text: file name, line and column, both counted from 1. Line 0: no place is known."""

    file: str
    line: int
    column: int = 1

    def __str__(self) -> str:
        return f"{self.file}:{self.line}" if self.line else self.file

    def full(self) -> str:
        """The place with its column, as ``file:line:column``."""
        return f"{self.file}:{self.line}:{self.column}" if self.line else self.file


NOWHERE = Mark("(built in)", 0, 0)


class Severity(StrEnum):
    """How bad a finding is: an error refuses the network, a warning does not, a note only tells."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"


@dataclass(frozen=True, slots=True)
class Problem:
    """One finding about a network description.

    Attributes:
        code: stable name of the kind of finding, for example ``name.unknown``.
        severity: error, warning or note.
        mark: where it is.
        message: what is wrong and what would come of it.
        remedy: what to do about it.
        source: the line of the file, if known.
        also: further places that take part, each with a few words.

    """

    code: str
    severity: Severity
    mark: Mark
    message: str
    remedy: str = ""
    source: str | None = None
    also: tuple[tuple[Mark, str], ...] = ()

    def line(self) -> str:
        """One line: place, severity, message, remedy and code."""
        tail = f" {self.remedy}" if self.remedy else ""
        return f"{self.mark.full()}: {self.severity}: {self.message}{tail} [{self.code}]"


@dataclass(slots=True)
class Problems:
    """Collects findings, and knows the lines of the files that they point into."""

    lines: dict[str, list[str]] = field(default_factory=dict)
    found: list[Problem] = field(default_factory=list)

    def add(
        self,
        code: str,
        mark: Mark,
        message: str,
        remedy: str = "",
        severity: Severity = Severity.ERROR,
        also: Iterable[tuple[Mark, str]] = (),
    ) -> None:
        """Note one finding, with the source line when the file is known."""
        known = self.lines.get(mark.file, [])
        source = known[mark.line - 1] if 0 < mark.line <= len(known) else None
        problem = Problem(code, severity, mark, message, remedy, source, tuple(also))
        if problem not in self.found:
            self.found.append(problem)

    def __iter__(self) -> Iterator[Problem]:
        return iter(self.in_order())

    def in_order(self) -> list[Problem]:
        """All findings by place."""
        return sorted(self.found, key=lambda p: (p.mark, p.code, p.message))

    @property
    def errors(self) -> list[Problem]:
        """Those that refuse the network, by place."""
        return [p for p in self.in_order() if p.severity is Severity.ERROR]


def nearest(word: str, known: Iterable[str], count: int = 2) -> list[str]:
    """The known words most like ``word``, nearest first; empty when none is near."""
    return difflib.get_close_matches(word, sorted(set(known))[:5000], n=count, cutoff=0.6)


def hint(word: str, known: Iterable[str], kind: str = "") -> str:
    """A sentence that offers the nearest known words, or lists the few that there are."""
    words = sorted(set(known))
    close = nearest(word, words)
    if close:
        return f"Did you mean {' or '.join(close)}?"
    if not words:
        return f"There is no {kind} yet." if kind else ""
    shown = ", ".join(words[:12]) + (f", ... ({len(words)} in all)" if len(words) > 12 else "")
    return f"Known{' ' + kind if kind else ''}: {shown}."
