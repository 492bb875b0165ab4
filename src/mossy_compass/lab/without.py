"""Claims about all packets, proven as things are and again without each thing that can fail."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from itertools import groupby
from typing import NamedTuple

from mossy_compass.errors import NotConverged, QuestionError, TooLarge
from mossy_compass.lab.claims import Claim
from mossy_compass.lab.faults import Fault, apply, together
from mossy_compass.lab.proofs import Proof, Watched
from mossy_compass.lab.prove import prove
from mossy_compass.model.network import Network
from mossy_compass.plan.plan import Plan
from mossy_compass.walk.weather import in_weather

Asked = tuple[int, tuple[Fault, ...]]
"""The number of a claim, and what has failed; nothing for as things are."""
Each = Callable[[Iterable[Asked]], Iterable[Asked]]


class AfterFailure(NamedTuple):
    """A claim while some things have failed.

    Attributes:
        number: of the claim.
        faults: that come together; empty for as things are.
        proof: what came of it; None where nothing could be asked.
        error: why not; empty where it could.

    """

    number: int
    faults: tuple[Fault, ...]
    proof: Proof | None
    error: str = ""

    @property
    def holds(self) -> bool | None:
        """Whether it holds; None where that is not known."""
        return self.proof.holds if self.proof is not None else None

    @property
    def words(self) -> str:
        """What has failed, as ``link fibre and device gate``."""
        return together(self.faults)


class Withstood(NamedTuple):
    """A claim with what becomes of it when things fail.

    Attributes:
        now: as things are.
        without: what came of it without each; nothing where it does not hold even now.

    """

    now: Proof
    without: tuple[AfterFailure, ...]

    @property
    def holds(self) -> bool | None:
        """Whether it holds now and whatever fails of what was tried; None where that is not known."""
        every = [self.now.holds, *(t.holds for t in self.without)]
        return False if False in every else None if None in every else True


def asked_of(claims: Sequence[Claim], cases: Sequence[tuple[Fault, ...]]) -> list[Asked]:
    """Every claim without each of some things.

    Args:
        claims: what is to hold.
        cases: failures that come together, as ``sweep.failures`` gives them; an empty one for as things are.

    """
    return [(number, faults) for faults in cases for number in range(len(claims))]


def standing(now: Iterable[AfterFailure]) -> set[int]:
    """The numbers of the claims of which it is worth trying what becomes of them: not those that do not hold even now."""
    return {t.number for t in now if t.holds is not False}


def prove_each(
    network: Network, claims: Sequence[Claim], asked: Sequence[Asked], each: Each = iter, watch: Watched = iter
) -> list[AfterFailure]:
    """Prove claims as things are, or while some have failed; what comes of it can be sent between processes.

    Args:
        network: as it is while nothing has failed.
        claims: what is to hold.
        asked: which of them to prove, and what has failed then.
        each: goes through them, for whoever shows how far it is.
        watch: the same for the sources of each.

    Raises:
        QuestionError, TooLarge: as ``prove``, while nothing has failed.

    """
    whole = Plan(network)
    found: list[AfterFailure] = []
    for faults, some in groupby(each(asked), key=lambda a: a[1]):
        plan = in_weather(Plan(apply(network, faults), whole) if faults else whole)
        found += [_tried(plan, claims[number], number, faults, watch) for number, _ in some]
    return found


def _tried(plan: Plan, claim: Claim, number: int, faults: tuple[Fault, ...], watch: Watched) -> AfterFailure:
    """What comes of a claim. What cannot be asked while nothing has failed is an error of who asks."""
    try:
        found = prove(plan, claim, watch)
    except (QuestionError, NotConverged, TooLarge) as fault:
        if not faults:
            raise
        return AfterFailure(number, faults, None, str(fault).split("\n")[0])
    against = tuple(a._replace(journey=a.journey.by_itself()) for a in found.against)
    return AfterFailure(number, faults, found._replace(against=against, walked=()))


def withstood(claims: Sequence[Claim], now: Iterable[AfterFailure], then: Iterable[AfterFailure]) -> list[Withstood]:
    """What came of each claim, put together from parts in any order; failures by their names, single ones first.

    Args:
        claims: what was to hold.
        now: what came of them as things are.
        then: what came of them without something.

    """
    proofs = {t.number: t.proof for t in now}
    after = sorted(then, key=lambda t: (len(t.faults), t.words))
    out = []
    for number in range(len(claims)):
        proof = proofs[number]
        assert proof is not None  # what could not be asked was an error
        out.append(Withstood(proof, tuple(t for t in after if t.number == number)))
    return out
