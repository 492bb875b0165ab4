"""Claims about all packets that can be proven: what never reaches what, and what always does."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import NamedTuple

from mossy_compass.errors import QuestionError
from mossy_compass.marks import hint
from mossy_compass.walk.journey import Symptom

SEEN = (Symptom.REFUSED, Symptom.UNREACHABLE, Symptom.SILENCE)
"""What the sender of a packet that does not arrive may see."""


class Claim(NamedTuple):
    """What is to be proven: that a source never reaches a target, or that it always does.

    Attributes:
        source, target: a host, far host, group, segment, zone, prefix or address.
        services: by these; empty for any.
        but: by any but these.
        said: the claim in somebody's own words; empty for ours.
        never: it is not reached; else it is, and answers.
        passes: on a way that passes these devices, in this order.
        avoids: on a way that passes none of these.
        seen_as: with this source, with its port or without, as the far end sees it; empty for any.
        seeing: of what is never reached: what senders see of it, one of these; empty for anything.

    """

    source: str
    target: str
    services: tuple[str, ...] = ()
    but: tuple[str, ...] = ()
    said: str = ""
    never: bool = True
    passes: tuple[str, ...] = ()
    avoids: tuple[str, ...] = ()
    seen_as: str = ""
    seeing: tuple[Symptom, ...] = ()

    @property
    def words(self) -> str:
        """As people say it."""
        if self.said:
            return self.said
        parts = [f"{self.source} {'never ' * self.never}reaches {self.target}"]
        for how, names in (("for", self.services), ("except for", self.but), ("passing", self.passes)):
            parts += [f"{how} {' and '.join(names)}"] if names else []
        parts += [f"without passing {' and '.join(self.avoids)}"] if self.avoids else []
        parts += [f"seen as {self.seen_as}"] if self.seen_as else []
        return " ".join([*parts, *([f"seeing {' or '.join(self.seeing)}"] if self.seeing else [])])

    def check(self, devices: Iterable[str]) -> None:
        """Look whether the devices on its way are there.

        Args:
            devices: those of the network.

        Raises:
            QuestionError: one is not.

        """
        known = list(devices)
        for name in (*self.passes, *self.avoids):
            if name not in known:
                raise QuestionError(f"there is no device '{name}' to pass. {hint(name, known, 'devices')}")


_SOME = r"\S+?(?:(?:, ?| and )\S+?)*"
_CLAIM = re.compile(
    r"(?P<source>\S+) (?P<never>never )?reach(?:es)? (?P<target>\S+?)"
    rf"(?: (?P<how>for|except(?: for)?) (?P<services>{_SOME}))?"
    rf"(?: passing (?P<passes>{_SOME}))?(?: without passing (?P<avoids>{_SOME}))?(?: seen as (?P<seen>\S+?))?"
    r"(?: seeing (?P<seeing>\S+?(?: or \S+?)*))?\.?"
)


def claim_of(words: str) -> Claim:
    """A claim from its sentence.

    SOURCE reaches TARGET, or SOURCE never reaches TARGET; after it ``for`` or ``except`` with services, ``passing`` and ``without
    passing`` with devices, ``seen as`` with an address, and ``seeing`` with what the sender sees of what never arrives.

    Raises:
        QuestionError: it is none.

    """
    said = " ".join(words.split())
    found = _CLAIM.fullmatch(said)
    if found is None:
        raise QuestionError(
            f"'{words}' is no claim that can be proven. Write: SOURCE never reaches TARGET, or SOURCE reaches TARGET; after it 'for "
            "SERVICE' or 'except SERVICE', 'passing DEVICE', 'without passing DEVICE', 'seen as ADDRESS' or 'seeing refused', in this "
            "order."
        )
    never = found["never"] is not None
    if never and found["seen"]:
        raise QuestionError(f"'{words}': what never arrives is seen as nobody. Leave out 'seen as {found['seen']}', or 'never'.")
    seeing = _seeing(found, words)
    services, but = _each(found["services"]), (found["how"] or "").startswith("except")
    return Claim(
        found["source"],
        found["target"],
        () if but else services,
        services if but else (),
        said.rstrip("."),
        never,
        _each(found["passes"]),
        _each(found["avoids"]),
        found["seen"] or "",
        seeing,
    )


def _seeing(found: re.Match[str], words: str) -> tuple[Symptom, ...]:
    """What senders see, by a sentence; empty where it says nothing of that."""
    said = found["seeing"]
    if said is None:
        return ()
    if not found["never"]:
        raise QuestionError(f"'{words}': who reaches something sees its answer. Say 'never reaches', or leave out 'seeing {said}'.")
    if found["passes"] or found["avoids"]:
        raise QuestionError(
            f"'{words}': what arrives by another way is answered, so 'seeing {said}' cannot hold of it. Make two claims of it."
        )
    known = {s.value: s for s in SEEN}
    for word in said.split(" or "):
        if word not in known:
            raise QuestionError(
                f"'{words}': '{word}' is nothing that the sender of what never arrives can see. Write seeing {', '.join(SEEN[:-1])} or "
                f"{SEEN[-1]}, or two of them with 'or' between."
            )
    return tuple(known[word] for word in said.split(" or "))


def _each(names: str | None) -> tuple[str, ...]:
    """Names that stand one after the other."""
    return tuple(s for s in re.split(r",\s*|\s+and\s+", names or "") if s)
