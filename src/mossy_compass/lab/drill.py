"""A drill: steps on a lab, one after the other, and what came of each.

A step is a value. What a kind of step does is a function in one table, so that a new kind is a class and a line there. Time is an
argument: whoever wants to know how long a step took hands over a clock.
"""

from __future__ import annotations

import contextlib
import itertools
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any, NamedTuple

from mossy_compass.errors import InputError, MossyError, NotOpened, QuestionError
from mossy_compass.lab.clock import VerdictChange
from mossy_compass.lab.conversation import Exchange
from mossy_compass.lab.expect import Outcome, every_flow, flows, flows_on, judge, wrong_within
from mossy_compass.lab.faults import Fault
from mossy_compass.lab.lab import Flow, Lab
from mossy_compass.lab.steps import (
    Always,
    BackTo,
    ChangeStep,
    Clear,
    Compare,
    Count,
    Drill,
    DrillStep,
    EditStep,
    ExpectFlows,
    Fail,
    InUse,
    Keep,
    Living,
    PutStep,
    Restore,
    Say,
    Send,
    Settle,
    Version,
    Wait,
    Watched,
    Within,
    spread,
    steps_within,
)
from mossy_compass.marks import hint
from mossy_compass.model.durations import duration_words
from mossy_compass.model.network import Kind, Network
from mossy_compass.plan.facts import WHY_ENDED, Association, Ended, Relation
from mossy_compass.plan.ids import list_id
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Fate
from mossy_compass.routing.uplinks import in_use
from mossy_compass.walk.evidence import counted
from mossy_compass.walk.grid import Changes
from mossy_compass.walk.journey import Journey, Leg

MOST_STEPS = 100_000
"""So many steps are done, repetitions counted."""
DEFAULT_ROWS = ("end-of-list", "empty-list", "not-offered")
"""Rows that nobody wrote as a rule: they are not asked to be tested."""
MOST_GRID = 4000
"""So many flows are compared when a comparison names none: those of the grid; of a larger network, those of the drill."""


class Result(NamedTuple):
    """What came of a step.

    Attributes:
        number: of the step, from 1, repetitions counted.
        step: the step.
        ok: it could be done, and what was expected holds.
        tests: flows that were tested.
        failures: those that are not as they were wanted.
        chance: flows that do not arrive, and nothing was written to that end.
        said: a sentence on what was done, or why it could not be.
        changes: of a comparison.
        seconds: how long it took; 0 without a clock.
        broken: the step itself cannot be done: a name that is not there.
        left: what of an expectation could not be tested, a few words each.
        before, at: what the lab's clock said before it and after it, in milliseconds.
        verdicts: of probes, that changed in it.
        used: what each group of uplinks leaves by after it: ``DEVICE/GROUP``, and its members.
        lost: of what follows in a conversation, some was not delivered.
        unforced: for flows that are not as they were wanted, what is edited and not in force, a sentence each.

    """

    number: int
    step: DrillStep
    ok: bool
    tests: int = 0
    failures: tuple[Outcome, ...] = ()
    chance: tuple[Outcome, ...] = ()
    said: str = ""
    changes: Changes | None = None
    seconds: float = 0.0
    broken: bool = False
    left: tuple[str, ...] = ()
    before: int = 0
    at: int = 0
    verdicts: tuple[VerdictChange, ...] = ()
    used: tuple[tuple[str, str], ...] = ()
    lost: bool = False
    unforced: tuple[str, ...] = ()

    @property
    def beside(self) -> list[str]:
        """What is to be known of it though it holds, a sentence each: what holds by chance, and what was not tested."""
        chance = [f"by chance: {o.flow} does not arrive [{o.journey.cause}]; no rule decided it" for o in self.chance]
        return [*chance, *(f"not tested: {words}" for words in self.left)]

    @property
    def expects(self) -> bool:
        """Whether its step is one that can fail."""
        return self.step.expects


class Untested(NamedTuple):
    """What no step of a drill met.

    Attributes:
        rules: device, list, rule and place.
        devices: that no packet passed.
        services: host and service that nobody asked for.

    """

    rules: tuple[tuple[str, str, str, str], ...]
    devices: tuple[str, ...]
    services: tuple[tuple[str, str], ...]


class Report(NamedTuple):
    """What came of a drill.

    Attributes:
        drill: which.
        results: of its steps, as far as it was run.
        untested: what it did not meet.
        stopped: it was ended by a failure, as was asked for.
        edited: steps that edited what never came in force, in their words, each with its number.

    """

    drill: Drill
    results: tuple[Result, ...]
    untested: Untested
    stopped: bool = False
    edited: tuple[str, ...] = ()

    @property
    def ok(self) -> bool:
        """Whether everything holds, every step could be done, and anything was expected: nothing is proved by asking nothing."""
        return all(r.ok for r in self.results) and any(r.expects for r in self.results)

    @property
    def broken(self) -> bool:
        """Whether some step could not be done."""
        return any(r.broken for r in self.results)

    @property
    def expectations(self) -> list[Result]:
        """The steps that could have failed."""
        return [r for r in self.results if r.expects]


class Edited(NamedTuple):
    """What is written and not in force.

    Attributes:
        version: of the network.
        steps: that wrote it, in their words.

    """

    version: Version
    steps: tuple[str, ...]


MOST_TRIED = 3
"""For so many failing flows of a step it is tried what they would come to if what is written were in force."""


class Run:
    """A drill under way.

    Attributes:
        drill: which.
        lab: what its steps are done on.
        source: what the lab's network was read from.
        edited: what is written and not in force, with the steps that wrote it; None where everything is in force.

    """

    def __init__(self, drill: Drill, clock: Callable[[], float] | None = None) -> None:
        if steps_within(drill.steps) > MOST_STEPS:
            raise QuestionError(f"more than {MOST_STEPS} steps come of this drill. Repeat fewer times.")
        self.drill = drill
        self.lab = Lab(drill.network)
        self.source = drill.source
        self.edited: Edited | None = None
        self._sources: dict[str, tuple[Any, Edited | None]] = {}
        self._clock = clock or (lambda: 0.0)
        self._number = 0

    def results(self, only: str = "", fail_fast: bool = False) -> Iterator[Result]:
        """Do the steps.

        Args:
            only: of the expectations, test only those whose words, or whose purpose, hold this text; other steps are done.
            fail_fast: end with the first that fails.

        """
        for step in spread(self.drill.steps):
            if only and step.expects and only.lower() not in f"{step.words} {step.about}".lower():
                self._unseen(step)
                continue
            self._number += 1
            begun, before, self.lab.verdicts, self.lab.told_late = self._clock(), self.lab.state.now, [], []
            try:
                found = _DO[type(step)](self, step)
            except InputError as fault:
                found = Result(0, step, False, said=str(fault), broken=True)
            found = found._replace(number=self._number, seconds=self._clock() - begun)
            found = found._replace(before=before, at=self.lab.state.now, verdicts=tuple(self.lab.verdicts))
            if self.edited is not None and found.failures:
                found = found._replace(unforced=tuple(self._unforced(self.edited, found.failures)))
            with contextlib.suppress(MossyError):  # what keeps a network from being routed is for its own steps to say
                found = found._replace(used=_used(self.lab))
            yield found
            if fail_fast and not found.ok:
                return

    def _unseen(self, step: DrillStep) -> None:
        """An expectation that nobody wants to read is tested all the same: counters that follow count its packets."""
        if isinstance(step, ExpectFlows):
            with contextlib.suppress(InputError):
                _expect(self, step)

    def flat(self) -> Iterator[DrillStep]:
        """Every step, with repetitions spread out."""
        yield from spread(self.drill.steps)

    def keep(self, name: str, compared: bool) -> None:
        """Keep this moment."""
        self.lab.keep(name, self._compared_flows() if compared else None)
        self._sources[name] = self.source, self.edited

    def back_to(self, name: str) -> None:
        """Go back to a moment."""
        self.lab.back_to(name)
        self.source, self.edited = self._sources[name]

    def compare(self, name: str) -> tuple[Changes, int]:
        """How flows fare beside how they did then, and how many were tested."""
        tested = self._compared_flows()
        return self.lab.compare(name, tested), len(tested)

    def change(self, step: ChangeStep) -> tuple[str, ...]:
        """Another version of the network, in force at once, with everything that was edited before it; gives the steps of that."""
        waited = self.edited.steps if self.edited is not None else ()
        self.edit(step)
        self.put()
        return waited

    def edit(self, step: ChangeStep) -> None:
        """Something else is written, and not in force."""
        before = self.edited or Edited(Version(self.source, self.lab.network), ())
        if before.version.source is None:
            raise QuestionError(
                "this drill has no text of its network that could be changed. Give Drill its source, or read it from a file."
            )
        made = step.make(before.version.source)
        version = made._replace(renamed=(*before.version.renamed, *made.renamed))
        self.edited = Edited(version, (*before.steps, f"step {self._number}: {step.words}"))

    def put(self) -> None:
        """What is written comes in force."""
        assert self.edited is not None
        version, self.edited = self.edited.version, None
        self.source = version.source
        self.lab.change(version.network, version.renamed)

    def _unforced(self, edited: Edited, failures: Sequence[Outcome]) -> Iterator[str]:
        """Whether flows that are not as they were wanted would end otherwise if what is written were in force."""
        lab = Lab(edited.version.network)
        lab.faults, lab.watch = self.lab.faults, self.lab.watch.copied()
        steps = "; ".join(edited.steps)
        for outcome in failures[:MOST_TRIED]:
            with contextlib.suppress(MossyError):
                journey = lab.test(outcome.flow)
                if (journey.answered, journey.cause) != (outcome.journey.answered, outcome.journey.cause):
                    how = (
                        "answered"
                        if journey.answered
                        else f"{journey.deciding.fate.value} at {journey.deciding.end} [{journey.cause}]"
                    )
                    yield f"edited, and not in force ({steps}): with it, {outcome.flow} would be {how}"

    def _compared_flows(self) -> list[Flow]:
        """What a comparison tests: the grid of a network, or where that is large, what the drill expects something of."""
        network = self.lab.network
        try:
            tests = every_flow(network)
        except QuestionError:
            tests = []
        if tests and len(tests) <= MOST_GRID:
            return tests
        found = [f for s in spread(self.drill.steps) if isinstance(s, ExpectFlows) for f in flows(network, s.expectation)]
        if not found:
            raise QuestionError(
                f"there is nothing to compare: the network has more than {MOST_GRID} flows, and the drill expects something of none."
                " Write what must hold first."
            )
        return list(dict.fromkeys(found))

    def untested(self) -> Untested:
        """What no step met so far."""
        network = self.lab.network
        plan = self.lab.plan
        rules = tuple(
            (c.device, c.table, c.row, c.place)
            for c in counted(plan, self.lab.counters)
            if not c.hits and c.row not in DEFAULT_ROWS and not c.what.startswith("disabled")
        )
        devices = tuple(n for n in network.devices if n not in self.lab.passed and network.devices[n].layer3)
        services = tuple(s for s in _served(network) if not _was_asked(network, *s, self.lab.asked))
        return Untested(rules, devices, services)


def _served(network: Network) -> Iterable[tuple[str, str]]:
    """Every host, far ones too, with each service that it listens for."""
    found = [(d.name, s.words) for d in network.devices.values() for s in d.serves]
    found += [(f.name, s.words) for d in network.devices.values() for f in d.far_hosts.values() for s in f.serves]
    return dict.fromkeys(found)


def _was_asked(network: Network, host: str, word: str, asked: set[tuple[str, str]]) -> bool:
    """Whether some member of a service was asked of a host."""
    far = network.far_host(host)
    serves = far[1].serves if far else network.devices[host].serves
    held = [s.service for s in serves if s.words == word]
    return any((host, str(s)) in asked for s in held)


def _used(lab: Lab) -> tuple[tuple[str, str], ...]:
    """What each group of uplinks leaves by; nothing where the network has none."""
    if not any(d.groups for d in lab.network.devices.values()):
        return ()
    return lab.plan.once("uplinks in use", lambda: tuple(_uplinks(lab.plan)))


def _uplinks(plan: Plan) -> Iterator[tuple[str, str]]:
    """The same, one by one."""
    for device in plan.network.devices.values():
        for group in device.groups.values():
            yield f"{device.name}/{group.name}", ", ".join(in_use(device, plan.domains, group.name)) or "none"


def run_drill(drill: Drill, clock: Callable[[], float] | None = None, only: str = "", fail_fast: bool = False) -> Report:
    """Do a drill from its first step to its last.

    Args:
        drill: as ``files/drills.py`` reads it, or made in Python.
        clock: gives seconds; None: steps take none.
        only: text that the expectations to be tested hold.
        fail_fast: end with the first failure.

    """
    made = Run(drill, clock)
    results = tuple(made.results(only, fail_fast))
    edited = made.edited.steps if made.edited is not None else ()
    return Report(drill, results, made.untested(), fail_fast and bool(results) and not results[-1].ok, edited)


# --- what each kind of step does ---------------------------------------------------------------------------------


def _expect(run: Run, step: ExpectFlows) -> Result:
    """Test every flow of an expectation."""
    found = flows_on(run.lab.plan, step.expectation)
    tested = [judge(run.lab, step.expectation, f) for f in found.flows]
    if not tested:
        return Result(0, step, False, said="nothing of it can be tested, so it does not hold", left=found.left)
    failures = tuple(o for o in tested if o.wrong)
    said = f"a sample of {len(tested)}" if step.expectation.sample == len(tested) else ""
    return Result(0, step, not failures, len(tested), failures, tuple(o for o in tested if o.chance), said, left=found.left)


def _count(run: Run, step: Count) -> Result:
    """Read a counter."""
    device, _, rest = step.rule.partition("/")
    name, _, row = rest.partition("/")
    network = run.lab.network
    if device not in network.devices or name not in network.lists:
        raise QuestionError(f"'{step.rule}' is no DEVICE/LIST/RULE of this network.")
    if row not in ("end-of-list", "empty-list") and row not in [r.id for r in network.lists[name].rules]:
        raise QuestionError(f"list {name} has no rule '{row}'.")
    if list_id(name) not in run.lab.plan.device(device).tables():
        raise QuestionError(
            f"list {name} does not stand at {device}, so it decides nothing there. Attach it, or name another device."
        )
    found = run.lab.counters.of(device, list_id(name), row).packets
    said = "" if found == step.count else f"it should have decided {step.count} packets by now, and decided {found}"
    return Result(0, step, found == step.count, said=said)


def _send(run: Run, step: Send) -> Result:
    """Send packets; what becomes of them is told, and is nobody's failure."""
    said: dict[str, int] = {}
    for _ in range(step.times):
        held = run.lab.converse(step.flow)
        if step.called:
            run.lab.talks[step.called] = held
        words = _sent(held.first)
        said[words] = said.get(words, 0) + 1
    return Result(0, step, True, step.times, said="; ".join(f"{w} ({n} times)" if n > 1 else w for w, n in said.items()))


def _sent(journey: Journey) -> str:
    """What the sender saw, and of which session it is a further packet: with a port of one's own choice it may be no new flow."""
    known = [
        f"session {r.session} of {h.device}"
        for h in journey.there.hops
        for r in h.rulings[-1:]
        if r.relation is Relation.CONTINUING and r.session is not None and h.device != journey.there.hops[0].device
    ]
    leg = journey.deciding
    ended = "" if journey.answered else f" ({leg.fate.value} at {leg.end} [{journey.cause}])"
    return journey.symptom.value + ended + (f", as a further packet of {' and '.join(known)}" if known else "")


def _say(run: Run, step: Say) -> Result:
    """Something follows in a conversation; what becomes of it is told, and is nobody's failure."""
    made = run.lab.say(step.name, step.then)
    lost = any(e.journey is not None and not e.ok for e in made)
    return Result(0, step, True, said="; ".join(_said(e) for e in made), lost=lost)


def _said(exchange: Exchange) -> str:
    """What came of something that followed."""
    if exchange.journey is None:
        return exchange.words
    other = f", seen as {exchange.seen_as} by now" if exchange.seen_as else ""
    if exchange.ok:
        return f"{exchange.words}: delivered{other}"
    leg = exchange.journey.deciding
    return f"{exchange.words}: {leg.fate.value} at {leg.end} [{exchange.journey.cause}]{other}"


def _within(run: Run, step: Within) -> Result:
    """Try what would follow in a conversation; where nothing can, whatever is expected of it fails, and why it was not opened is shown."""
    try:
        exchange = run.lab.try_next(step.name, step.then)
    except NotOpened:
        first = run.lab.talk(step.name).first
        opened = f"nothing follows in '{step.name}': its first packet was not answered"
        return Result(0, step, False, 1, (Outcome(Flow(first.sender, first.target, first.what), first, (opened,)),))
    if exchange.journey is None:
        raise QuestionError(f"'{step.then.words}' sends nothing, so nothing can be expected of it.")
    first = run.lab.talk(step.name).first
    flow = Flow(first.sender, first.target, first.what)
    wrong = tuple(wrong_within(exchange.journey, step.wanted))
    return Result(0, step, not wrong, 1, (Outcome(flow, exchange.journey, wrong),) if wrong else ())


def _wait(run: Run, step: Wait) -> Result:
    """Time passes."""
    return _passed(run, step, lambda: run.lab.wait(step.passes))


def _passed(run: Run, step: DrillStep, passes: Callable[[], Sequence[Ended]]) -> Result:
    """Time passed: which probes changed their verdict meanwhile, and what ended."""
    begun, agreed, used = run.lab.state.now, _agreed(run), dict(_used(run.lab))
    ended = passes()
    told = [f"{_fell(v)} {duration_words(v.at - begun)} later{f' ({v.why})' if v.why else ''}" for v in run.lab.verdicts]
    told += [f"{group} leaves by {now}" for group, now in _used(run.lab) if used.get(group, now) != now]
    told += [f"{_told_late(leg)} {duration_words(at - begun)} later" for at, leg in run.lab.told_late]
    told += [f"association {a.number} of tunnel {a.tunnel} of {a.device} is over" for a in agreed if a not in _agreed(run)]
    more = _over(run, ended)
    return Result(0, step, True, said="; ".join([*told, *([more] if ended or not told else [])]))


def _agreed(run: Run) -> list[Association]:
    """Every association that there is."""
    held = run.lab.state.associations
    return [a for name in sorted(held.devices) for a in held.of(name)]


def _told_late(leg: Leg) -> str:
    """What became of an error about a packet that was held."""
    about = leg.packet.quoted
    assert about is not None
    whom = leg.end if leg.fate is Fate.DELIVERED else f"{about.source}, who does not hear it,"
    return f"{leg.hops[0].device} told {whom} that port {about.to_port} is unreachable"


def _fell(verdict: VerdictChange) -> str:
    """A verdict that changed."""
    return f"probe {verdict.probe} of {verdict.device} went {'up' if verdict.up else 'down'}"


def _settle(run: Run, step: Settle) -> Result:
    """Let the probes come to rest."""
    begun = run.lab.state.now
    made = _passed(run, step, run.lab.settle)
    took = duration_words(run.lab.state.now - begun)
    return made._replace(said=f"at rest after {took}; {made.said}" if run.lab.state.now > begun else "nothing was under way")


def _watched(run: Run, step: Watched) -> Result:
    """Read how a probe is."""
    device = run.lab.network.devices.get(step.device)
    probe = device.probes.get(step.probe) if device is not None else None
    if device is None or probe is None:
        known = sorted(f"{d.name}/{p}" for d in run.lab.network.devices.values() for p in d.probes)
        raise QuestionError(
            f"there is no probe '{step.device}/{step.probe}'. {hint(f'{step.device}/{step.probe}', known, 'probes')}"
        )
    down = run.lab.plan.network.probe_down(device, step.probe)
    status = run.lab.watch.statuses.get((step.device, step.probe))
    counted = f", with {status.streak} in a row against it" if status is not None and status.streak else ""
    said = "" if down is not step.up else f"it should be {'up' if step.up else 'down'}, and is {'down' if down else 'up'}{counted}"
    return Result(0, step, down is not step.up, said=said)


def _in_use(run: Run, step: InUse) -> Result:
    """Look which members of a group of uplinks are in use."""
    found = dict(_used(run.lab))
    name = f"{step.device}/{step.group}"
    if name not in found:
        raise QuestionError(f"there is no group of uplinks '{name}'. {hint(name, found, 'groups')}")
    members = run.lab.network.devices[step.device].uplinks[step.group]
    strangers = [m for m in step.members if m not in members and m != "none"]
    if strangers:
        raise QuestionError(f"{strangers[0]} is no member of {name}. {hint(strangers[0], members, 'members')}")
    used = found[name]
    ok = set(used.split(", ")) == set(step.members)
    return Result(0, step, ok, said="" if ok else f"it should leave by {', '.join(step.members)}, and leaves by {used}")


def _clear(run: Run, step: Clear) -> Result:
    """Clear the sessions of a device, and its associations."""
    held = run.lab.state.associations.of(step.device)
    said = _over(run, run.lab.clear(step.device))
    kept = [a for a in held if run.lab.state.associations.get(a.peer, a.number) is not None]
    if held:
        said += f"; {len(held)} association{'s' * (len(held) > 1)} ended"
    if kept:
        said += f", and {kept[0].peer} was not told: it goes on sending by association {kept[0].number}"
    return Result(0, step, True, said=said)


def _over(run: Run, ended: Sequence[Ended]) -> str:
    """How many sessions ended, and where; those of hosts are their own affair."""
    devices = run.lab.network.devices
    kinds = {n for n, d in devices.items() if d.kind in (Kind.HOST, Kind.INTERNET)}
    by_device = Counter(e.session.device for e in ended if e.session.device not in kinds)
    told = [f"{n} session{'s' * (n != 1)} of {d} ended" for d, n in sorted(by_device.items())]
    return "; ".join(told) or "no session ended"


def _living(run: Run, step: Living) -> Result:
    """Count what lives at a device."""
    if step.device not in run.lab.network.devices:
        raise QuestionError(f"there is no device '{step.device}'. {hint(step.device, run.lab.network.devices, 'devices')}")
    state = run.lab.state
    tables: dict[str, Callable[[str], Sequence[object]]] = {
        "sessions": state.sessions,
        "mappings": state.mappings,
        "expectations": state.expectations,
        "associations": state.associations.of,
    }
    found = len(tables[step.table](step.device))
    words = step.table if step.count != 1 else step.table.removesuffix("s")
    said = "" if found == step.count else f"{step.count} {words} should live at {step.device}, and {found} do{'es' * (found == 1)}"
    return Result(0, step, found == step.count, said=said)


_WRITTEN = frozenset(("rule", "built-in", "offer", "default", "setting", "session", "translation"))
"""Kinds of reasons that somebody wrote, or chose."""


def _by_chance(reasons: Sequence[tuple[str, Because, int]]) -> str:
    """That nothing was written to the end that was proven; empty where something was."""
    if not reasons or any(because.kind in _WRITTEN for _, because, _ in reasons):
        return ""
    device, because, _ = reasons[0]
    return f"; by chance: at {device}, {because.words}; no rule decided it"


def _always(run: Run, step: Always) -> Result:
    """Prove it, of the network as it is now."""
    from mossy_compass.lab.prove import prove  # only for drills that prove something: sets take a while to be loaded

    found = prove(run.lab.plan, step.claim)
    for journey in found.walked:
        run.lab.saw(journey)
    failures = tuple(
        Outcome(
            Flow(a.source, a.target, a.services[0] if a.services else a.journey.there.packet.what()),
            a.journey,
            tuple(f"{w}{f' {a.case}' if a.case else ''}" for w in a.wrong or ("it should never arrive, and does",)),
        )
        for a in found.against
    )
    chance = _by_chance(found.reasons) if step.claim.never else ""
    doubt = f"not known: {'; '.join(found.doubtful)}" if found.doubtful and not failures else ""
    said = doubt or f"whatever packet is sent: {found.kinds} kinds of packets told apart{chance}"
    return Result(
        0, step, found.holds is True, found.sources * found.targets, failures, said="" if failures else said, left=found.left
    )


def _fail(run: Run, step: Fail) -> Result:
    """Some things fail."""
    ended: list[Ended] = []
    for what in step.what:
        run.lab.fail(what)
        ended += run.lab.left_behind
    return Result(0, step, True, said=_left_behind(run, ended))


def _left_behind(run: Run, ended: Sequence[Ended]) -> str:
    """What became of sessions whose interface or address is gone; empty where there are none."""
    words = [(why, [e for e in ended if e.why == why]) for why in ("interface lost", "address lost")]
    told = [f"{_over(run, some)}: {WHY_ENDED[why]}" for why, some in words if some]
    return "; ".join(t for t in told if not t.startswith("no session"))


def _restore(run: Run, step: Restore) -> Result:
    """Some things work again."""
    gone: list[Fault] = []
    ended: list[Ended] = []
    for what in step.what or (None,):
        gone += sorted(run.lab.restore(what))
        ended += run.lab.left_behind
    again = "" if step.what else f"works again: {', '.join(map(str, gone)) or 'nothing had failed'}"
    return Result(0, step, True, said="; ".join(w for w in (again, _left_behind(run, ended)) if w))


def _change(run: Run, step: ChangeStep) -> Result:
    """Another version of the network."""
    waited = run.change(step)
    more = [f"with what was edited before ({'; '.join(waited)})"] if waited else []
    return Result(0, step, True, said="; ".join([*more, *_after_change(run)]))


def _after_change(run: Run) -> Iterator[str]:
    """What a change leaves behind: sessions that ended, and associations that hold other lists than those of now."""
    ended = _left_behind(run, run.lab.left_behind)
    if ended:
        yield ended
    for device, numbers in itertools.groupby(run.lab.outdated(), key=lambda a: a.device):
        told = [f"association {a.number} of tunnel {a.tunnel}" for a in numbers]
        hold = "hold its lists" if len(told) > 1 else "holds its lists"
        yield f"{', '.join(told)} of {device} {hold} as they were: clear {device}, and what is written now takes effect"


def _fare(number: int, verb: str) -> str:
    """So many flows do something."""
    return f"{number or 'no'} flow{'s' * (number != 1)} {verb}"


def _edit(run: Run, step: EditStep) -> Result:
    """Something else is written."""
    run.edit(step)
    return Result(0, step, True, said="written, and not in force")


def _put(run: Run, step: PutStep) -> Result:
    """What is written comes in force."""
    if run.edited is None:
        raise QuestionError("nothing is edited that is not in force already.")
    steps = run.edited.steps
    run.put()
    return Result(0, step, True, said="; ".join([*steps, *_after_change(run)]))


def _keep(run: Run, step: Keep) -> Result:
    """Keep this moment."""
    run.keep(step.name, step.compared)
    return Result(0, step, True)


def _back_to(run: Run, step: BackTo) -> Result:
    """Go back to a moment."""
    run.back_to(step.name)
    return Result(0, step, True)


def _compare(run: Run, step: Compare) -> Result:
    """Compare with a moment."""
    found, tested = run.compare(step.name)
    number = len(found.changed) + len(found.rerouted) + len(found.come) + len(found.gone)
    said = "" if number == step.changes else f"{_fare(step.changes, 'should end')} differently, and {number} do"
    return Result(0, step, number == step.changes, tested, said=said, changes=found)


_DO: dict[type[DrillStep], Callable[[Run, Any], Result]] = {
    ExpectFlows: _expect,
    Count: _count,
    Send: _send,
    Say: _say,
    Within: _within,
    Wait: _wait,
    Clear: _clear,
    Living: _living,
    Always: _always,
    Settle: _settle,
    Watched: _watched,
    InUse: _in_use,
    Fail: _fail,
    Restore: _restore,
    ChangeStep: _change,
    EditStep: _edit,
    PutStep: _put,
    Keep: _keep,
    BackTo: _back_to,
    Compare: _compare,
}
"""What each kind of step does; a repetition is spread out before."""
