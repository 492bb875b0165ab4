"""All exceptions of Mossy Compass, in one tree.

::

    MossyError                  catch this to catch everything
    ├── InputError              the fault is in what was handed in
    │   ├── AddressError        a text that is no address, prefix, range or port
    │   ├── NetworkFileError    the network description has faults; carries all of them
    │   └── QuestionError       the question names something that the network does not have
    │       └── NotOpened       nothing follows in a conversation whose first packet was not answered
    ├── TooLarge                exact sets that need more memory than they are given
    ├── NotConverged            routing has no stable state; carries the cycle
    └── Unsupported             the input is understood, but this release does not do it

A packet that is dropped is a result, never an exception.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from mossy_compass.marks import Problem


class MossyError(Exception):
    """The root of the tree."""


class TooLarge(MossyError):
    """The exact sets of a list need more memory than they are given; nothing is said of it rather than something wrong."""


class InputError(MossyError):
    """What was handed in is wrong; the message says where, what, and what to do."""


class AddressError(InputError, ValueError):
    """A text that is not an address, a prefix, a range, a protocol or a port."""


class NetworkFileError(InputError):
    """A network description has faults.

    Attributes:
        problems: every fault that was found, in the order of their places.

    """

    def __init__(self, problems: Sequence[Problem]) -> None:
        self.problems: tuple[Problem, ...] = tuple(problems)
        super().__init__("\n".join(p.line() for p in self.problems))


class QuestionError(InputError):
    """A question about something that the network does not have.

    Attributes:
        suggestions: the nearest names that would have been known, nearest first.

    """

    def __init__(self, message: str, suggestions: Sequence[str] = ()) -> None:
        self.suggestions = tuple(suggestions)
        hint = f" Did you mean {' or '.join(self.suggestions)}?" if self.suggestions else ""
        super().__init__(message + hint)


class NotOpened(QuestionError):
    """What is to follow in a conversation whose first packet was not answered, so that nothing follows it."""


class NotConverged(MossyError):
    """Routing does not settle: the same states come round again.

    Attributes:
        cycle: what changes from round to round, one sentence for each change.

    """

    def __init__(self, message: str, cycle: Sequence[str] = ()) -> None:
        self.cycle = tuple(cycle)
        super().__init__(message + "".join(f"\n  {line}" for line in self.cycle))


class Unsupported(MossyError):
    """The request is understood but is not done by this release."""
