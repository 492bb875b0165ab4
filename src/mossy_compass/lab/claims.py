"""Claims that can be proven: what never reaches what."""

from __future__ import annotations

import re
from typing import NamedTuple

from mossy_compass.errors import QuestionError


class Claim(NamedTuple):
    """What is to be proven: that a source never reaches a target.

    Attributes:
        source, target: a host, far host, group, segment, zone, prefix or address.
        services: by these; empty for any.
        but: by any but these.
        said: the claim in somebody's own words; empty for ours.

    """

    source: str
    target: str
    services: tuple[str, ...] = ()
    but: tuple[str, ...] = ()
    said: str = ""

    @property
    def words(self) -> str:
        """As people say it."""
        if self.said:
            return self.said
        by = f" for {' and '.join(self.services)}" if self.services else ""
        but = f" except for {' and '.join(self.but)}" if self.but else ""
        return f"{self.source} never reaches {self.target}{by}{but}"


_CLAIM = re.compile(
    r"(?P<source>\S+) never reach(?:es)? (?P<target>\S+?)"
    r"(?: (?P<how>for|except(?: for)?) (?P<services>\S+?(?:(?:, ?| and )\S+?)*))?\.?"
)


def claim_of(words: str) -> Claim:
    """A claim from its sentence: SOURCE never reaches TARGET, with for or except and services after it.

    Raises:
        QuestionError: it is none.

    """
    found = _CLAIM.fullmatch(" ".join(words.split()))
    if found is None:
        raise QuestionError(
            f"'{words}' is no claim that can be proven. Write: SOURCE never reaches TARGET, or SOURCE never reaches TARGET for "
            "SERVICE, or ... except SERVICE. That something does reach is for 'mossy trace' and drills."
        )
    services = tuple(s for s in re.split(r",\s*|\s+and\s+", found["services"] or "") if s)
    but = (found["how"] or "").startswith("except")
    said = " ".join(words.split()).rstrip(".")
    return Claim(found["source"], found["target"], () if but else services, services if but else (), said)
