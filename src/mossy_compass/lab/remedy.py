"""What would give a flow the end that is wanted: single changes, each tried, with everything else that it changes.

A proposal is a few steps of a change file, made from where and why the packet ended. Who reads and writes files does them; nothing is
told that was not walked afterwards.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import NamedTuple

from mossy_compass.errors import MossyError, QuestionError, TooLarge
from mossy_compass.lab.examples import walker
from mossy_compass.lab.expect import arrives, families
from mossy_compass.lab.findings import findings
from mossy_compass.lab.lab import Flow
from mossy_compass.lab.proposals import proposals
from mossy_compass.lab.rooted import Step
from mossy_compass.lab.uncovered import uncovered
from mossy_compass.lab.versions import CLOSES, OPENS, Compared, compare_all
from mossy_compass.marks import Problem
from mossy_compass.model.network import Network
from mossy_compass.plan.plan import Plan
from mossy_compass.proof.effects import Effects, effects
from mossy_compass.state.state import State
from mossy_compass.walk.grid import Cell, Changes, Grid, cell_of, compare, gathered
from mossy_compass.walk.journey import Journey
from mossy_compass.walk.many import paths
from mossy_compass.walk.question import services_of
from mossy_compass.walk.trace import trace_one
from mossy_compass.walk.weather import in_weather

Make = Callable[[Sequence[Step]], Network | None]
"""Does steps on a network's text; None where they cannot be done, or give a network with errors."""
MOST_DEEP = 4
"""So many lists in a row are opened together; more is no single remedy any more."""
MOST_TRIED = 80
MOST_TOLD = 8
MOST_STAYS = 400
"""So many stays of packets at devices are looked at for each sender, when a remedy is followed for all packets."""
MOST_RULES = 20_000
"""In a network of more rules it is not looked what is found in the changed one: that would take longer than somebody waits."""


class Remedy(NamedTuple):
    """Something that helps: it was tried.

    Attributes:
        words: what is done, one for each part.
        steps: of the change.
        journey: of the flow afterwards.
        changes: how the tests of a grid differ, without the flow itself.
        effects: what else it does to packets, exactly.
        tests: how many were tested.
        unknown: what of it no test looks at, and was not worked out exactly.
        new: what is found in the changed network, and was not before.
        radius: which packets end otherwise, of all that anybody can send; None where that could not be worked out.
        why_not: why it could not; empty where it could.

    """

    words: tuple[str, ...]
    steps: tuple[Step, ...]
    journey: Journey
    changes: Changes
    effects: Effects
    tests: int
    unknown: tuple[str, ...]
    new: tuple[Problem, ...] = ()
    radius: Compared | None = None
    why_not: str = ""

    @property
    def others(self) -> int:
        """How many other tests end differently or go another way."""
        return sum(map(len, (self.changes.changed, self.changes.rerouted, self.changes.come, self.changes.gone)))

    @property
    def followed(self) -> bool:
        """Whether it is known of all packets what becomes of them."""
        return self.radius is not None and not self.radius.left

    @property
    def wide(self) -> tuple[bool, int, int]:
        """How much opens or closes by it: whether that is not wholly known, for how many pairs, and how many services of these."""
        if self.radius is None:
            return True, 0, 0
        turned = [t for t in self.radius.turned if t.kind in (CLOSES, OPENS)]
        pairs = {pair for t in turned for pair in t.pairs}
        services = sum(MUCH if which.all_but else len(which.services) for t in turned for which in t.which)
        return not self.followed, len(pairs), services


MUCH = 1_000
"""All services but some count as so many."""


class Remedies(NamedTuple):
    """What helps, smallest first.

    Attributes:
        flow: which.
        wanted: whether it is to be answered, or not to arrive.
        before: its journey as things are.
        found: what helps.
        tried: how many proposals were tried.
        more: how many that help are not among these.
        farthest: where nothing helps, what took the packet or its answer farthest, in words, with its journey; None where nothing did.

    """

    flow: Flow
    wanted: bool
    before: Journey
    found: tuple[Remedy, ...]
    tried: int
    more: int
    farthest: tuple[tuple[str, ...], Journey] | None = None

    @property
    def so_already(self) -> bool:
        """Whether nothing has to be done."""
        return fits(self.before, self.wanted)


def fits(journey: Journey, wanted: bool) -> bool:
    """Whether a journey ends as it is wanted: answered, or not arrived."""
    return journey.answered if wanted else not arrives(journey)


def remedies(network: Network, flow: Flow, wanted: bool, make: Make, tests: Sequence[Flow]) -> Remedies:
    """Look for changes after which a flow ends as it is wanted.

    Args:
        network: the network.
        flow: which; of one service.
        wanted: whether it is to be answered, or not to arrive.
        make: does steps on the network's text.
        tests: flows that tell what else changes.

    Raises:
        QuestionError: there is no such sender, target or service.

    """
    plan = in_weather(Plan(network))
    before = _ask(plan, flow, wanted)
    if fits(before, wanted):
        return Remedies(flow, wanted, before, (), 0, 0)
    search = _Attempts(flow, wanted, make)
    search.run(plan, before)
    old = _grid(plan, tests)
    found = [_weighed(plan, old, flow, tests, *h) for h in _least(search.helping)]
    found.sort(key=lambda r: (len(r.unknown), r.others, _turns(r.effects), len(r.words)))
    sender = next((h.device for h in before.there.hops), "")
    plans = {id(h.steps): h.plan for h in search.helping}
    told = [_followed(r, plan, plans[id(r.steps)], sender) for r in found[:MOST_TOLD]]
    told.sort(key=lambda r: (not r.followed and len(r.unknown), r.wide, r.others, _turns(r.effects), len(r.words)))
    if told and sum(len(entry.rules) for entry in network.lists.values()) <= MOST_RULES:
        known = {(p.code, p.message) for p in findings(plan)}
        told = [r._replace(new=tuple(p for p in findings(plans[id(r.steps)]) if (p.code, p.message) not in known)) for r in told]
    farthest = search.farthest(before) if wanted and not told else None
    return Remedies(flow, wanted, before, tuple(told), search.tried, len(found) - len(told), farthest)


class _Attempts:
    """Changes that were tried for a flow.

    Attributes:
        helping: after which it ends as it is wanted.
        moved: after which it ends elsewhere than before, and not as it is wanted.
        tried: how many were tried.

    """

    def __init__(self, flow: Flow, wanted: bool, make: Make) -> None:
        self.flow, self.wanted, self.make = flow, wanted, make
        self.helping: list[_Tried] = []
        self.moved: list[_Tried] = []
        self.tried = 0

    def run(self, plan: Plan, before: Journey) -> None:
        """Try what could help, and what could help further where something about this flow alone has moved it."""
        queue = [_Tried((), (), plan, before)]
        seen: set[str] = set()
        while queue:
            last = queue.pop(0)
            for proposal in proposals(last.plan, last.journey, self.wanted):
                done = (*last.steps, *proposal.steps)
                if (last.words and not proposal.narrow) or repr(done) in seen:
                    continue
                if self.tried >= MOST_TRIED:
                    return
                seen.add(repr(done))
                found = self._try((*last.words, proposal.words), done)
                if found is not None and _moved(last.journey, found.journey):
                    self.moved.append(found)
                    queue += [found] if proposal.narrow and len(found.words) < MOST_DEEP else []

    def _try(self, words: tuple[str, ...], steps: tuple[Step, ...]) -> _Tried | None:
        """What comes of a change that does not help; None of one that does, or cannot be made."""
        self.tried += 1
        changed = _made(self.make, steps)
        after = _asked(changed, self.flow, self.wanted) if changed is not None else None
        if changed is None or after is None:
            return None
        found = _Tried(words, steps, changed, after)
        if fits(after, self.wanted):
            self.helping.append(found)
            return None
        return found

    def farthest(self, before: Journey) -> tuple[tuple[str, ...], Journey] | None:
        """The change with which the packet, or its answer, came farthest; None where none took it anywhere else than where it ends now."""
        found = max(self.moved, key=lambda m: (_came(m.journey), -len(m.words)), default=None)
        return (found.words, found.journey) if found is not None and _came(found.journey) >= _came(before) else None


def _came(journey: Journey) -> tuple[int, int]:
    """How far a packet came, and its answer, in devices."""
    return len(journey.there.hops), len(journey.back.hops) if journey.back is not None else 0


class _Tried(NamedTuple):
    """A change that was tried: in words, its steps, the network with it, and the flow's journey there."""

    words: tuple[str, ...]
    steps: tuple[Step, ...]
    plan: Plan
    journey: Journey


def _least(helping: Sequence[_Tried]) -> list[_Tried]:
    """Those of which no part could be left out, each once."""
    parts = [frozenset(h.words) for h in helping]
    return [h for n, h in enumerate(helping) if parts[n] not in parts[:n] and not any(other < parts[n] for other in parts)]


def _ask(plan: Plan, flow: Flow, wanted: bool) -> Journey:
    """The journey of a flow: of all equal ways one that does not end as wanted, where there is one.

    What is not to arrive must not do so in either family.
    """
    first: Journey | None = None
    for one in [flow] if wanted else families(plan.network, flow):
        for path in paths(plan, one.source, one.target, one.service, one.options, State()).paths:
            if not fits(path.journey, wanted):
                return path.journey
            first = first or path.journey
    assert first is not None
    return first


def _asked(plan: Plan, flow: Flow, wanted: bool) -> Journey | None:
    """The same in a changed network; None where it cannot be asked there."""
    try:
        return _ask(plan, flow, wanted)
    except MossyError:
        return None


def _tested(plan: Plan, flow: Flow) -> Cell | None:
    """A test of a grid; None where it cannot be asked."""
    try:
        journey = trace_one(plan, flow.source, flow.target, flow.service, flow.options)
    except MossyError:
        return None
    return cell_of(journey, flow.source, flow.target, flow.label)


def _made(make: Make, steps: Sequence[Step]) -> Plan | None:
    """The plan of a changed network; None where there is none."""
    network = make(steps)
    return in_weather(Plan(network)) if network is not None else None


def _moved(before: Journey, after: Journey) -> bool:
    """Whether a packet, or its answer, came further than before, or was stopped by something else; or another one is left to be closed."""
    one, other = (
        (j.lost, j.deciding.end, j.deciding.cause, j.because, j.there.packet.destination, tuple(h.device for h in j.there.hops))
        for j in (before, after)
    )
    return one != other


def _grid(plan: Plan, tests: Sequence[Flow]) -> Grid:
    """What tests come to."""
    return gathered(cell for f in tests for cell in [_tested(plan, f)] if cell is not None)


def _weighed(
    plan: Plan,
    old: Grid,
    flow: Flow,
    tests: Sequence[Flow],
    words: tuple[str, ...],
    steps: tuple[Step, ...],
    after: Plan,
    journey: Journey,
) -> Remedy:
    """A remedy with everything else that it changes."""
    mine = (flow.source, flow.target)
    changes = compare(old, _grid(after, tests))
    same = {c.key for _, c in changes.changed if c.key[:2] == mine and _asks(plan.network, c.service, flow.service)}
    others = replace(changes, changed=tuple(pair for pair in changes.changed if pair[1].key not in same))
    return Remedy(
        words, steps, journey, others, effects(plan, after, walker(after, plan)), len(tests), uncovered(plan, after, changes)
    )


def _followed(remedy: Remedy, before: Plan, after: Plan, sender: str) -> Remedy:
    """A remedy with what it does to all packets; those of the flow's own sender come first, should they be too many."""
    try:
        radius = compare_all(before, after, watch=lambda names: sorted(names, key=lambda n: n != sender), most_stays=MOST_STAYS)
        return remedy._replace(radius=radius)
    except (QuestionError, TooLarge) as error:
        return remedy._replace(why_not=str(error))


def _asks(network: Network, label: str, service: str) -> bool:
    """Whether a test's label is of a service, by whatever name."""
    word = label.partition(" ")[0]
    return services_of(network, word) == services_of(network, service)


def _turns(found: Effects) -> int:
    """How many pairs of verdicts turn, and ways that change, beside one."""
    return sum(len(e.turns) for e in found.lists) + sum(len(p.turns) for p in found.places) + len(found.ways.found)
