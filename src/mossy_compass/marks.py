"""Places in files, and faults that point at them.

A mark is a file, a line and a column, counted from 1. It takes no part in comparing: a rule
that moved down by a line is the same rule, and two networks that say the same are equal
wherever it stands.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple


class Mark(NamedTuple):
    """A place in a text: file name, line and column, both counted from 1. Line 0: no place is known.

    Attributes:
        file: name as it was given; empty for what is in no file.
        line, column: counted from 1; 0 where there is no place.

    """

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


MOST_PROBLEMS = 1000
"""So many errors are told; a file with more is not a network file with faults, but something else."""
MOST_ALIKE = 200
"""So many warnings, or notes, of one code are told."""


@dataclass(slots=True)
class Problems:
    """Collects findings, and knows the lines of the files that they point into.

    Attributes:
        lines: of each file.
        found: what was found, each finding once; of very many the first, and one that says so.

    """

    lines: dict[str, list[str]] = field(default_factory=dict)
    found: list[Problem] = field(default_factory=list)
    _seen: set[tuple[str, Mark, str]] = field(default_factory=set)
    _counts: Counter[str] = field(default_factory=Counter)

    @property
    def full(self) -> bool:
        """True when no more errors are taken."""
        return self._counts[Severity.ERROR] > MOST_PROBLEMS

    def add(
        self,
        code: str,
        mark: Mark,
        message: str,
        remedy: str | Hint = "",
        severity: Severity = Severity.ERROR,
        also: Iterable[tuple[Mark, str]] = (),
    ) -> None:
        """Note one finding, with the source line when the file is known."""
        # Errors are counted together, and what is no error by its code: a thousand notes must not hide one error or warning.
        kind, most = (code, MOST_ALIKE) if severity is not Severity.ERROR else (Severity.ERROR.value, MOST_PROBLEMS)
        key = (code, mark, message)
        if self._counts[kind] > most or key in self._seen:
            return
        self._seen.add(key)
        self._counts[kind] += 1
        known = self.lines.get(mark.file, [])
        source = known[mark.line - 1] if 0 < mark.line <= len(known) else None
        # The one that is too many is not told itself: it is the place where somebody may go on reading.
        if self._counts[kind] <= most:
            self.found.append(Problem(code, severity, mark, message, str(remedy), source, tuple(also)))
            return
        like = "errors" if severity is Severity.ERROR else f"findings of this kind ({code})"
        words = f"there are more than {most:,} {like}; the others are not listed."
        self.found.append(Problem("file.too-faulty", severity, mark, words, "Mend these first.", source))

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
    """The known words most like ``word``, nearest first; empty when none is near.

    Args:
        word: what was written.
        known: what could have been meant.
        count: how many to give at most.

    """
    import difflib  # only where something is misspelt

    return difflib.get_close_matches(word, sorted(set(known))[:5000], n=count, cutoff=0.6)


MOST_KEYS, MOST_NAMES = 50, 12
"""So many words are listed where none is like the one that is written: all keys of a mapping, for it is one of these that was meant."""


class Hint:
    """A sentence that offers the nearest known words, or lists the few that there are. It is made when it is read."""

    __slots__ = ("_kind", "_known", "_word")

    def __init__(self, word: str, known: Iterable[str] | Callable[[], Iterable[str]], kind: str = "") -> None:
        self._word = word
        self._known = known
        self._kind = kind

    def __str__(self) -> str:
        words = sorted(set(self._known() if callable(self._known) else self._known))
        close = nearest(self._word, words)
        if close:
            return f"Did you mean {' or '.join(close)}?"
        if not words:
            return f"There are no {self._kind} yet." if self._kind else ""
        most = MOST_KEYS if self._kind == "keys" else MOST_NAMES
        shown = ", ".join(words[:most]) + (f", ... ({len(words)} in all)" if len(words) > most else "")
        return f"Known{' ' + self._kind if self._kind else ''}: {shown}."


def unknown(kind: str, word: str, known: Iterable[str]) -> str:
    """That there is nothing of a kind with a name, and what there is."""
    return f"there is no {kind} '{word}'. {hint(word, known, f'{kind}s')}"


def hint(word: str, known: Iterable[str] | Callable[[], Iterable[str]], kind: str = "") -> Hint:
    """The words like ``word`` among the known ones, or the known ones where none is like it.

    Args:
        word: what was written.
        known: what could have been meant.
        kind: what those are called, in the plural.

    """
    return Hint(word, known, kind)
