"""A network with what changes in it: faults, sessions, counters. Values in, values out; nothing here asks a clock.

A lab computes a plan once for each set of faults and each version of the network, and keeps it, so that what is restored is
what was there before. Its state has a journal: a moment is kept and gone back to at the cost of what happened since.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import partial
from types import MappingProxyType
from typing import NamedTuple

from mossy_compass.errors import QuestionError
from mossy_compass.lab.clock import AtRest, VerdictChange, Watch
from mossy_compass.lab.conversation import Conversation, Exchange, Then
from mossy_compass.lab.dependencies import Touched, Touching, certain
from mossy_compass.lab.faults import QUALITY, Fault, apply, called, meant, parse, there
from mossy_compass.marks import hint
from mossy_compass.model.network import Device, Network, Tunnel
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import icmp_error
from mossy_compass.plan.asopened import outdated
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Association, Ended, Session
from mossy_compass.plan.ids import TableKind
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Fate
from mossy_compass.state.state import State
from mossy_compass.walk.evidence import Counters, Tally, tally_of
from mossy_compass.walk.grid import Cell, Changes, Grid, cell_of, compare, gathered
from mossy_compass.walk.journey import Journey, Leg, Way
from mossy_compass.walk.question import USUAL, Options
from mossy_compass.walk.trace import trace_one
from mossy_compass.walk.walk import Emission, follow, part
from mossy_compass.walk.weather import best_by, choosing, outcome, probes_of, settled, weathered

FIRST_SENT_PORT = 40_000
"""Source ports of what is sent and leaves its sessions behind, so that no later test is taken for a part of it."""
MOST_PLANS = 64
"""So many plans are kept; the oldest goes first."""
MOST_KNOWN = 50_000
"""So many journeys of tests are kept; then it begins anew."""
MOST_SETTLING = 10_000
"""So many questions of probes are waited for until they come to rest."""


_SAID = {
    "source": "from {}",
    "source_port": "source port {}",
    "application": "as {}",
    "size": "{} bytes",
    "ttl": "TTL {}",
    "fragment": "a later fragment",
    "last_resort": "on the last resort",
    "now": "at {}",
}
"""How what was said of a packet beside its family is told, by the attribute of ``Options``."""


AFTER = {"rules": "after-rule-change", "routes": "after-route-change", "translation": "after-translation-change"}
"""The settings that say what a change of something does to sessions that exist."""


def _differs(before: Plan, after: Plan, was: str, name: str) -> Iterator[str]:
    """What of a device that concerns its sessions is another than before: its rules, its routes, its translation."""
    old, new = before.device(was), after.device(name)
    if _filters(old) != _filters(new):
        yield "rules"
    if list(old.table) != list(new.table) or old.device.policy_routes != new.device.policy_routes:
        yield "routes"
    if old.device.translate != new.device.translate or old.own_spans != new.own_spans:
        yield "translation"


def _filters(here: DevicePlan) -> tuple[object, ...]:
    """Everything that says what passes at a device: lists, where they stand, what it offers, what is so when nothing is said."""
    tables = [(t.id, t.rows) for t in here.tables().values() if t.id.kind not in (TableKind.TRANSLATE, TableKind.POLICY_ROUTES)]
    places = [(i.name, i.arriving_lists, i.leaving_lists, i.outside, i.inspects) for i in here.device.interfaces.values()]
    values = {n: v for n, v in here.settings.values.items() if n not in AFTER.values()}
    return tables, places, here.device.gates, here.device.stateful, values


def _tunnel_of(device: Device, port: str) -> Tunnel | None:
    """The tunnel that an interface is, as written; None where it is none, or not there."""
    interface = device.interfaces.get(port)
    return interface.tunnel if interface is not None else None


def _passed_by(ports: set[str], session: Session) -> bool:
    """Whether a session came or went by one of some interfaces."""
    return session.arriving in ports or session.leaving in ports


def _has_end(addresses: set[Address], session: Session) -> bool:
    """Whether one of some addresses is an end of a session, as its packets came or as they left."""
    ends = (session.inner.source, session.inner.destination, session.outer.source, session.outer.destination)
    return any(a in addresses for a in ends)


class Kept(NamedTuple):
    """A moment that was kept.

    Attributes:
        network, faults: what was written, and what had failed.
        moment: of the state.
        sent: packets sent so far.
        met: what was counted, passed and asked for until then.
        talks: conversations, as far as they were.
        cells: what the flows of a comparison came to then; None where none were asked for.
        needs: what each of these depends on; empty where that cannot be told.
        watch: how every probe was.

    """

    network: Network
    faults: frozenset[Fault]
    moment: int
    sent: int
    met: tuple[Counters, frozenset[str], frozenset[tuple[str, str]]]
    talks: dict[str, Conversation]
    cells: dict[Flow, Cell] | None
    needs: dict[Flow, Touched]
    watch: Watch


@dataclass(frozen=True)
class Flow:
    """A test flow.

    Attributes:
        source, target, service: as for ``trace``; the service is one member.
        options: further wishes.

    """

    source: str
    target: str
    service: str
    options: Options = field(default_factory=Options)

    @property
    def label(self) -> str:
        """The service with all that was said of the packet: what tells one flow of a pair of hosts from another."""
        said = self.options
        words = f"{self.service} IPv{said.family}" if said.family else self.service
        more = [w.format(getattr(said, n)) for n, w in _SAID.items() if getattr(said, n) != getattr(USUAL, n)]
        return f"{words} ({', '.join(more)})" if more else words

    def __str__(self) -> str:
        return f"{self.source} to {self.target}, {self.label}"


class LeftTraces(NamedTuple):
    """What a journey adds to a lab's counters.

    Attributes:
        tally: the rows that it met.
        passed: devices that some packet of it passed.
        asked: hosts, each with the service that it was asked for.

    """

    tally: Tally
    passed: frozenset[str]
    asked: frozenset[tuple[str, str]]


class WalkedBefore:
    """Journeys of tests, as long as nothing happens that they hang on.

    Attributes:
        plan: of which they are.
        journeys: by their flows.
        left: what they add to counters, by their flows.
        mark: stands in the journal of the state that they were walked with.

    """

    __slots__ = ("journeys", "left", "mark", "plan")

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.journeys: dict[Flow, Journey] = {}
        self.left: dict[Flow, LeftTraces] = {}
        self.mark: Callable[[], None] = lambda: None


class Lab:
    """A network in motion.

    Attributes:
        network: as written by now.
        faults: what has failed by now.
        state: what devices remember of what was sent.
        counters: of everything that was sent and tested.
        passed: devices that some packet passed.
        asked: hosts that a packet was sent to, or arrived at, with the service that it asked for.
        talks: conversations that have a name.
        watch: how every probe is.
        verdicts: of probes, that changed since somebody asked last.
        told_late: what became of the errors about packets that were held, since somebody asked last, with when they were sent.
        left_behind: sessions that ended with the latest failure, restoration or change, for their interface or address is gone.

    """

    def __init__(self, network: Network) -> None:
        self.network = network
        self.faults: frozenset[Fault] = frozenset()
        self.state = State()
        self.counters = Counters()
        self.passed: set[str] = set()
        self.asked: set[tuple[str, str]] = set()
        self.talks: dict[str, Conversation] = {}
        self.watch = Watch()
        self.verdicts: list[VerdictChange] = []
        self.told_late: list[tuple[int, Leg]] = []
        self.left_behind: tuple[Ended, ...] = ()
        self._sent = 0
        self._known: WalkedBefore | None = None
        self._kept: dict[str, Kept] = {}
        self._plans: dict[tuple[object, ...], tuple[Network, Plan]] = {}
        if any(d.probes for d in network.devices.values()):
            self._look()

    def __repr__(self) -> str:
        failed = ", ".join(sorted(map(str, self.faults))) or "nothing"
        return f"<Lab of {self.network.title or 'a network'}: {failed} has failed, {self._sent} flows were sent>"

    @property
    def plan(self) -> Plan:
        """The network as it is now, compiled; the same plan for the same network and faults."""
        best = best_by(self.network, self.watch.measured) if self.watch.choosing else None
        key = (id(self.network), self.faults, self.watch.down, best)
        found = self._plans.get(key)
        if found is None or found[0] is not self.network:
            if len(self._plans) >= MOST_PLANS:
                self._plans.pop(next(iter(self._plans)))
            found = self._plans[key] = self.network, self._compiled()
        return found[1]

    def _compiled(self) -> Plan:
        """A plan made anew; leases of before something failed are kept."""
        down = self.watch.down
        if not self.faults:
            return (
                weathered(self.network, down, None, self.watch.measured, self._near())
                if self.watch.statuses
                else Plan(self.network)
            )
        kept, self.faults = self.faults, frozenset()
        try:
            whole = self.plan
        finally:
            self.faults = kept
        left = apply(self.network, kept)
        return weathered(left, down, whole, self.watch.measured, self._near()) if self.watch.statuses else Plan(left, whole)

    def _near(self) -> Plan | None:
        """A plan of the same network with the same failures in other weather; None where none is kept."""
        plans = ((key, held) for key, (network, held) in reversed(self._plans.items()) if network is self.network)
        return next((held for key, held in plans if key[1] == self.faults), None)

    # probes

    def _look(self) -> None:
        """Know the probes of the network as it is; what is new has settled, as if all others stayed as they are."""
        probes = {(d.name, p.name): p for d in self.network.devices.values() for p in d.probes.values() if p.enabled}
        self.watch.fit(probes, self._at_rest, self.state.now, choosing(self.network))

    def _at_rest(self) -> AtRest:
        """How probes are once none changes any more, with what has failed."""
        plan = Plan(apply(self.network, self.faults))
        down = settled(plan).down
        return down, lambda key: outcome(weathered(plan.written, down), key).quality

    def _pass(self, to: int) -> list[Ended]:
        """Let the clock go on to an instant, with whatever probes find until then."""
        ended: list[Ended] = []
        earlier = self.plan if self.watch.statuses and self.state.devices() else None

        def changed() -> None:
            """What devices do with their sessions when what is in use changes."""
            nonlocal earlier
            for name in self.state.devices() if earlier is not None else ():
                assert earlier is not None
                self._changed(name, name, self.network, earlier)
            earlier = self.plan if self.state.devices() else None

        if self.watch.statuses:
            self.verdicts += self.watch.until(
                self.state.now,
                to,
                lambda: dict(probes_of(self.plan)),
                lambda key: outcome(self.plan, key),
                lambda at: ended.extend(self.state.advance(at)),
                changed,
            )
        ended += self.state.advance(to)
        for held in self.state.over_held():
            error = icmp_error(held.packet, held.packet.destination, "port-unreachable")
            self.told_late.append((held.ends, follow(self.plan, self.state, Emission(error, held.device, Way.ERROR), None)[0]))
        return ended

    def settle(self) -> list[Ended]:
        """Let time pass until no probe's verdict changes any more.

        Raises:
            QuestionError: they never come to rest.

        """
        ended: list[Ended] = []
        for _ in range(MOST_SETTLING):
            at = self.watch.next_at(dict(probes_of(self.plan)), partial(outcome, self.plan), self.state.now)
            if at is None:
                return ended
            ended += self._pass(at)
        raise QuestionError("the probes do not come to rest: their verdicts change one another. 'mossy check' names the circle.")

    # packets

    def test(self, flow: Flow) -> Journey:
        """What becomes of a new flow, as things stand; nothing of it is remembered.

        Raises:
            QuestionError: the network has no such sender, target or service.

        """
        journey = self._tried(flow)
        known = self._known.left if self._known is not None and flow.options.now is None else {}
        if flow not in known:
            known[flow] = self._left_by(journey)
        self._count(known[flow])
        return journey

    def _tried(self, flow: Flow) -> Journey:
        """The journey of a flow of which nothing stays. One that was walked already, since when nothing has happened, is not walked again."""
        if flow.options.now is not None:
            return self._walked(flow)
        known = self._known
        if known is None or known.plan is not self.plan or not self.state.is_at(known.mark) or len(known.journeys) > MOST_KNOWN:
            self._forget()
            known = self._known = WalkedBefore(self.plan)
            self.state.put_mark(known.mark)
        found = known.journeys.get(flow)
        if found is None:
            found = known.journeys[flow] = self._walked(flow)
        return found

    def _forget(self) -> None:
        """Nothing of what was walked is told again."""
        if self._known is not None:
            self._known = None
            self.state.let_go()

    def _walked(self, flow: Flow) -> Journey:
        """The journey of a flow, walked; where it is for later, the lab goes on to then, and comes back."""
        watch, verdicts = self.watch, list(self.verdicts)
        with self.state.unchanged():
            if watch.statuses:
                self.watch = watch.copied()
            try:
                self._until(flow)
                return self._traced(flow)
            finally:
                self.watch, self.verdicts = watch, verdicts

    def _until(self, flow: Flow) -> None:
        """Let the clock go on to the time that a flow is for, where it says one and the clock has a date."""
        if self.watch.statuses and flow.options.now is not None and self.state.epoch is not None:
            self._pass(max(self.state.now, flow.options.now * 1000 - self.state.epoch))

    def _traced(self, flow: Flow) -> Journey:
        """The journey of a flow, as things stand."""
        return trace_one(self.plan, flow.source, flow.target, flow.service, flow.options, None, self.state)

    def send(self, flow: Flow) -> Journey:
        """Send a packet of a new flow, whose sessions stay.

        Raises:
            QuestionError: the network has no such sender, target or service.

        """
        options = flow.options
        if options.source_port is None:  # of a ping it is the identifier; each is a flow of its own, and no later test continues it
            options = replace(options, source_port=FIRST_SENT_PORT + self._sent % 9000)
        self._forget()  # or everything that is sent from now on would be noted in a journal
        self._until(flow)
        journey = trace_one(self.plan, flow.source, flow.target, flow.service, options, None, self.state)
        self._sent += 1
        self.saw(journey)
        return journey

    def converse(self, flow: Flow, apart: bool = True) -> Conversation:
        """Send the first packet of a conversation, whose sessions stay; ``next`` sends what follows.

        Args:
            flow: of the first packet.
            apart: with a port of its own, so that no later test is taken for a part of it; else that of a test.

        Raises:
            QuestionError: the network has no such sender, target or service.

        """
        options = flow.options
        if apart and options.source_port is None:
            options = replace(options, source_port=FIRST_SENT_PORT + self._sent % 9000)
        made = Conversation(lambda: self.plan, self.state, (flow.source, flow.target, flow.service), options, self._pass)
        self._sent += 1
        self.saw(made.first)
        return made

    def talk(self, name: str) -> Conversation:
        """A conversation by its name.

        Raises:
            QuestionError: none has that name.

        """
        if name not in self.talks:
            raise QuestionError(f"there is no conversation '{name}'. {hint(name, self.talks, 'conversations')}")
        return self.talks[name]

    def say(self, name: str, then: Then) -> tuple[Exchange, ...]:
        """Something follows in a conversation that has a name.

        Raises:
            QuestionError: none has that name, or no host would send that now.

        """
        self._sent += 1
        made = self.talk(name).next(then)
        for exchange in made:
            if exchange.journey is not None:
                self.saw(exchange.journey)
        return made

    def try_next(self, name: str, then: Then) -> Exchange:
        """What would become of something that follows in a conversation; nothing of it stays.

        Raises:
            QuestionError: none has that name, or no host would send that now.

        """
        with self.state.unchanged():
            return self.talk(name).copied().next(then)[-1]

    def wait(self, milliseconds: int) -> list[Ended]:
        """Let time pass; gives what ended by it, the earliest first."""
        self._sent += 1  # something happened since whatever was kept
        return self._pass(self.state.now + milliseconds)

    def clear(self, device: str) -> list[Ended]:
        """Clear the sessions of a device, and with them their mappings, and the associations of its tunnels; gives the sessions.

        Raises:
            QuestionError: there is no such device.

        """
        if device not in self.network.devices:
            raise QuestionError(f"there is no device '{device}'. {hint(device, self.network.devices, 'devices')}")
        self._sent += 1
        for held in self.state.associations.of(device):
            part(self.plan, self.state, held)
        return self.state.clear(device)

    def outdated(self) -> list[Association]:
        """The associations whose lists are others than those that are written now, by device."""
        held = (a for name in sorted(self.state.associations.devices) for a in self.state.associations.of(name))
        return [a for a in held if a.device in self.network.devices and outdated(self.plan.device(a.device), a)]

    def saw(self, journey: Journey) -> None:
        """Count what a journey met, and note where it came."""
        self._count(self._left_by(journey))

    def _count(self, left: LeftTraces) -> None:
        """Count what a journey met, and note where it came."""
        self.counters.count(left.tally)
        self.passed |= left.passed
        self.asked |= left.asked

    def _left_by(self, journey: Journey) -> LeftTraces:
        """What a journey adds to the counters."""
        legs = (*journey.legs, *journey.whole)
        asked: set[tuple[str, str]] = set()
        if journey.target_owner:
            asked.add((journey.target_owner, journey.there.packet.what()))
        if journey.there.fate in (Fate.DELIVERED, Fate.REFUSED):
            arrived = journey.there.arrived.what()
            ends = journey.there.end, journey.target_owner, *self.plan.owners(journey.there.arrived.destination)
            asked.update((name, arrived) for name in ends if name)
        return LeftTraces(tally_of(journey), frozenset(h.device for leg in legs for h in leg.every_hop), frozenset(asked))

    def grid(self, flows: Iterable[Flow]) -> Grid:
        """What many flows come to, as cells of a grid. They are not counted: a grid expects nothing of them."""
        return gathered(cell_of(self._tried(f), f.source, f.target, f.label) for f in flows)

    # what fails and changes

    def fail(self, what: str | Fault) -> Fault:
        """Something fails.

        Raises:
            QuestionError: there is no such thing, or it has failed already.

        """
        fault = what if isinstance(what, Fault) else parse(self.network, what)
        if fault in self.faults:
            raise QuestionError(f"{fault} has failed already.")
        earlier = self._earlier()
        if fault.kind == QUALITY:  # a cable has one quality at a time
            self.faults = frozenset(f for f in self.faults if (f.kind, f.segment) != (QUALITY, fault.segment))
        self.faults |= {fault}
        self._leave_behind(earlier)
        return fault

    def _earlier(self) -> Plan | None:
        """The plan before something happens, where devices remember anything; a plan costs more than a change."""
        return self.plan if self.state.devices() else None

    def _leave_behind(self, earlier: Plan | None, called_now: Mapping[str, str] = MappingProxyType({})) -> None:
        """End the sessions whose interface is not there any more, or one of whose ends was an address that the device has no more.

        Args:
            earlier: the plan before; None where nobody remembers anything.
            called_now: devices that have another name now.

        """
        ended: list[Ended] = []
        for name in self.state.devices() if earlier is not None else ():
            was = next((old for old, new in called_now.items() if new == name), name)
            assert earlier is not None
            old, new = earlier.network.devices.get(was), self.plan.network.devices.get(name)
            if old is None or new is None:
                continue
            for held in self.state.associations.of(name):
                if _tunnel_of(old, held.tunnel) != _tunnel_of(new, held.tunnel):
                    part(self.plan, self.state, held)
            ports = set(old.interfaces) - set(new.interfaces)
            if ports:
                ended += self.state.clear(name, partial(_passed_by, ports), "interface lost")
            addresses = {a for a, _ in old.own_addresses()} - {a for a, _ in new.own_addresses()}
            if addresses:
                ended += self.state.clear(name, partial(_has_end, addresses), "address lost")
        self.left_behind = tuple(ended)

    def restore(self, what: str | Fault | None = None) -> frozenset[Fault]:
        """Something works again; everything, when nothing is named. Gives what was restored.

        Raises:
            QuestionError: it has not failed.

        """
        if what is None:
            earlier = self._earlier()
            gone, self.faults = self.faults, frozenset()
            self._leave_behind(earlier)
            return gone
        fault = what if isinstance(what, Fault) else meant(self.network, what, self.faults)
        if fault not in self.faults:
            failed = ", ".join(map(str, sorted(self.faults))) or "nothing"
            raise QuestionError(f"{fault} has not failed; {failed} has.")
        earlier = self._earlier()
        self.faults -= {fault}
        self._leave_behind(earlier)
        return frozenset((fault,))

    def change(self, network: Network, renamed: Iterable[tuple[str, str]] = ()) -> None:
        """Another version of the network, read and checked elsewhere; what had failed stays so, where it is still there.

        What becomes of sessions that exist is for each device's ``after-...-change`` to say; a plan is compiled for the new version
        when it is asked.

        Args:
            network: the new version.
            renamed: what got another name, as (where it stood in the file, its new name), in order; it stays failed.

        """
        remembering, earlier = self.state.devices(), self._earlier()
        before, self.left_behind = self.network, ()
        self.network = network
        self._look()
        renamed = tuple(renamed)
        for what, name in renamed:
            self.faults = frozenset(called(f, what, name) for f in self.faults)
        self.faults = frozenset(f for f in self.faults if there(network, f))
        if earlier is None:
            return
        called_now = {
            what.removeprefix("devices/"): name for what, name in renamed if what.startswith("devices/") and what.count("/") == 1
        }
        for held in self.talks.values():
            held.renamed(called_now)
        for name in remembering:
            now = called_now.get(name, name)
            if now != name:
                self.state.rename(name, now)
        self._leave_behind(earlier, called_now)
        for name in remembering:
            self._changed(name, called_now.get(name, name), before, earlier)

    def _changed(self, was: str, name: str, before: Network, earlier: Plan) -> None:
        """Let a device, which may have had another name, do with its sessions what it does after a change of what concerns them."""
        old, new = before.devices.get(was), self.network.devices.get(name)
        if new is None or old is None:
            for held in self.state.associations.of(name):
                self.state.associations.end(name, held.number)
            self.state.clear(name)  # whoever it was, it is not there any more
            return
        if {new.settings.text(s) for s in AFTER.values()} == {"keep"}:
            return
        wanted = {what: new.settings.text(AFTER[what]) for what in _differs(earlier, self.plan, was, name)}
        if "clear" in wanted.values():
            self.state.clear(name)
        self.state.doubt(name, [what for what, does in wanted.items() if does == "judge"])

    # moments

    def keep(self, name: str, flows: Iterable[Flow] | None = None) -> Kept:
        """Keep this moment under a name, with what some flows come to now, to be compared with later.

        Args:
            name: for ``back_to`` and ``compare``.
            flows: None for none.

        """
        cells: dict[Flow, Cell] | None = None
        needs: dict[Flow, Touched] = {}
        if flows is not None:
            cells, sure, touching = {}, certain(self.network), Touching(self.plan)
            for flow in flows:
                journey = self._tried(flow)
                cells[flow] = cell_of(journey, flow.source, flow.target, flow.label)
                if sure:
                    needs[flow] = touching.of(journey)
        self._kept[name] = Kept(
            self.network, self.faults, self.state.keep(), self._sent, self._met(), self._talks(), cells, needs, self.watch.copied()
        )
        return self._kept[name]

    def _talks(self) -> dict[str, Conversation]:
        """The conversations as far as they are, apart from what is still to come."""
        return {name: held.copied() for name, held in self.talks.items()}

    def _met(self) -> tuple[Counters, frozenset[str], frozenset[tuple[str, str]]]:
        """What was counted, passed and asked for so far, apart from what is still to come."""
        return self.counters.copied(), frozenset(self.passed), frozenset(self.asked)

    def back_to(self, name: str) -> None:
        """Everything as it was when a moment was kept: network, faults, sessions, counters.

        Raises:
            QuestionError: nothing was kept under that name.

        """
        kept = self.kept(name)
        self.network, self.faults, self._sent = kept.network, kept.faults, kept.sent
        self.state.back_to(kept.moment)
        self.watch = kept.watch.copied()
        self.talks = {name: held.copied() for name, held in kept.talks.items()}
        counters, passed, asked = kept.met
        self.counters, self.passed, self.asked = counters.copied(), set(passed), set(asked)
        # what was kept later is gone with what happened since
        self._kept = {n: k for n, k in self._kept.items() if k.moment <= kept.moment}

    def kept(self, name: str) -> Kept:
        """A moment that was kept.

        Raises:
            QuestionError: nothing was kept under that name.

        """
        if name not in self._kept:
            raise QuestionError(f"nothing was kept as '{name}'. {hint(name, self._kept, 'names')}")
        return self._kept[name]

    def compare(self, name: str, flows: Iterable[Flow]) -> Changes:
        """How flows fare now, beside how they did when a moment was kept.

        Raises:
            QuestionError: nothing was kept under that name, or without flows.

        """
        kept = self.kept(name)
        if kept.cells is None:
            raise QuestionError(f"no flows were tested when '{name}' was kept, so there is nothing to compare with.")
        same = self._untouched(kept)
        now = [kept.cells[f] if f in same else cell_of(self._tried(f), f.source, f.target, f.label) for f in flows]
        return compare(gathered(kept.cells.values()), gathered(now))

    def _untouched(self, kept: Kept) -> frozenset[Flow]:
        """Flows that fare as they did when a moment was kept, since nothing that happened after it can touch them.

        This can be told only where things failed since, and nothing else: no change, nothing restored, no session begun.
        """
        if self.watch.down != kept.watch.down:
            return frozenset()
        if self.network is not kept.network or not kept.faults <= self.faults or self._sent != kept.sent:
            return frozenset()
        since = self.faults - kept.faults
        return frozenset(f for f, need in kept.needs.items() if not any(need.by(self.network, fault) for fault in since))
