"""The steps of a drill as values: what each kind of step says, before anything is done.

What a kind of step does is in ``drill.py``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from mossy_compass.lab.claims import Claim
from mossy_compass.lab.conversation import Then
from mossy_compass.lab.expect import Expectation, Wanted
from mossy_compass.lab.lab import Flow
from mossy_compass.marks import NOWHERE, Mark
from mossy_compass.model.network import Network


@dataclass(frozen=True)
class DrillStep:
    """Base of all steps.

    Attributes:
        words: as people read it.
        about: why.
        mark: where it is written.

    """

    words: str
    about: str = ""
    mark: Mark = field(default=NOWHERE, compare=False)

    @property
    def expects(self) -> bool:
        """Whether it is one that can fail: an expectation, a count, a comparison."""
        return isinstance(self, ExpectFlows | Always | Count | Compare | Within | Living | Watched | InUse)


@dataclass(frozen=True)
class ExpectFlows(DrillStep):
    """Something must hold."""

    expectation: Expectation = field(kw_only=True)


@dataclass(frozen=True)
class Count(DrillStep):
    """A rule must have decided so many packets by now; ``count`` is the number, ``rule`` is ``DEVICE/LIST/RULE``."""

    rule: str = field(kw_only=True)
    count: int = field(kw_only=True)


@dataclass(frozen=True)
class Send(DrillStep):
    """Packets are sent, and their sessions stay; what follows may be sent within it by the name that it is ``called``."""

    flow: Flow = field(kw_only=True)
    times: int = 1
    called: str = ""


@dataclass(frozen=True)
class Say(DrillStep):
    """Something follows in a conversation: ``name`` is that of the sending that began it."""

    name: str = field(kw_only=True)
    then: Then = field(kw_only=True)


@dataclass(frozen=True)
class Within(DrillStep):
    """What would follow in a conversation must fare as it is wanted; nothing of it stays."""

    name: str = field(kw_only=True)
    then: Then = field(kw_only=True)
    wanted: Wanted = field(kw_only=True)


@dataclass(frozen=True)
class Wait(DrillStep):
    """So many milliseconds pass."""

    passes: int = field(kw_only=True)


@dataclass(frozen=True)
class Clear(DrillStep):
    """The sessions of a device are cleared, and their mappings with them."""

    device: str = field(kw_only=True)


@dataclass(frozen=True)
class Living(DrillStep):
    """So many sessions, mappings or expectations must live at a device by now; ``table`` says of which."""

    device: str = field(kw_only=True)
    table: str = field(kw_only=True)
    count: int = field(kw_only=True)


@dataclass(frozen=True)
class Always(DrillStep):
    """Something never reaches something else, whatever packet is sent: it is proven."""

    claim: Claim = field(kw_only=True)


@dataclass(frozen=True)
class Settle(DrillStep):
    """Time passes until no probe's verdict changes any more."""


@dataclass(frozen=True)
class Watched(DrillStep):
    """A probe must have a verdict by now."""

    device: str = field(kw_only=True)
    probe: str = field(kw_only=True)
    up: bool = field(kw_only=True)


@dataclass(frozen=True)
class InUse(DrillStep):
    """A group of uplinks must leave by some members, and by no others."""

    device: str = field(kw_only=True)
    group: str = field(kw_only=True)
    members: tuple[str, ...] = field(kw_only=True)


@dataclass(frozen=True)
class Fail(DrillStep):
    """Some things fail."""

    what: tuple[str, ...] = ()


@dataclass(frozen=True)
class Restore(DrillStep):
    """Some things work again; everything, when none is named."""

    what: tuple[str, ...] = ()


class Version(NamedTuple):
    """Another version of a network.

    Attributes:
        source: what it was read from, for further changes.
        network: as read.
        renamed: what got another name, as (where it stood in the file, its new name).

    """

    source: Any
    network: Network
    renamed: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class ChangeStep(DrillStep):
    """Another version of the network: ``make`` takes what the version now was read from, and gives the new one."""

    make: Callable[[Any], Version] = field(kw_only=True, compare=False)


@dataclass(frozen=True)
class EditStep(ChangeStep):
    """What is written is another from here on; what is in force stays as it is until it is put there."""


@dataclass(frozen=True)
class PutStep(DrillStep):
    """What is written comes in force."""


@dataclass(frozen=True)
class Keep(DrillStep):
    """Keep this moment; ``compared``: some later step compares with it."""

    name: str = field(kw_only=True)
    compared: bool = False


@dataclass(frozen=True)
class BackTo(DrillStep):
    """Go back to a moment that was kept."""

    name: str = field(kw_only=True)


@dataclass(frozen=True)
class Compare(DrillStep):
    """So many flows, no more and no fewer, end differently than when a moment was kept."""

    name: str = field(kw_only=True)
    changes: int = 0


@dataclass(frozen=True)
class Repeat(DrillStep):
    """Steps, several times over."""

    steps: tuple[DrillStep, ...] = ()
    times: int = 1


def spread(steps: Sequence[DrillStep]) -> Iterator[DrillStep]:
    """Steps with their repetitions spread out."""
    for step in steps:
        if not isinstance(step, Repeat):
            yield step
            continue
        for _ in range(step.times):
            yield from spread(step.steps)


def numbered(steps: Sequence[DrillStep], before: str = "") -> Iterator[tuple[str, DrillStep]]:
    """Steps with their numbers; those of a repetition as 3.1, 3.2."""
    for number, step in enumerate(steps, 1):
        yield f"{before}{number}", step
        if isinstance(step, Repeat):
            yield from numbered(step.steps, f"{before}{number}.")


def named(step: DrillStep, name: str) -> Iterator[str]:
    """As what a step names something: the keys, as a drill writes them."""
    if isinstance(step, ExpectFlows):
        wanted = step.expectation.wanted
        held: dict[str, Iterable[str | None]] = {
            "from": (step.expectation.source,),
            "to": (step.expectation.target,),
            "service": step.expectation.services,
            "passes": wanted.passes,
            "avoids": wanted.avoids,
            "by": (wanted.by, *(wanted.by or "").split("/")[:1]),
            "logs": (wanted.logs, *(wanted.logs or "").split("/")[:1]),
            "exit": (wanted.exit or "").split("/"),
            "of": (step.expectation.options.application,),
        }
    elif isinstance(step, Send):
        held = {"from": (step.flow.source,), "to": (step.flow.target,), "service": (step.flow.service,)}
    elif isinstance(step, Clear | Living):
        held = {"clear" if isinstance(step, Clear) else step.table: (step.device,)}
    elif isinstance(step, Watched):
        held = {"probe": (step.device, step.probe)}
    elif isinstance(step, InUse):
        held = {"uplinks": (step.device, step.group, *step.members)}
    elif isinstance(step, Fail | Restore):
        held = {
            "fail" if isinstance(step, Fail) else "restore": (w for said in step.what for w in (*said.split(), *said.split("/")))
        }
    elif isinstance(step, Count):
        held = {"count": step.rule.split("/")}
    else:
        held = {}
    yield from (role for role, words in held.items() if name in words)


@dataclass(frozen=True)
class Drill:
    """A drill.

    Attributes:
        title, about: for people.
        network: what it begins with.
        source: what that was read from, for changes.
        steps: in order.
        name: of its file.

    """

    title: str
    network: Network
    steps: tuple[DrillStep, ...]
    source: Any = None
    about: str = ""
    name: str = ""


def steps_within(steps: Sequence[DrillStep]) -> int:
    """How many steps there are when repetitions are spread out."""
    return sum(step.times * steps_within(step.steps) if isinstance(step, Repeat) else 1 for step in steps)
