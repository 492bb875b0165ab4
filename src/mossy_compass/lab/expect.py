"""What must hold of test flows, and whether it does.

*Reaches* means answered: the sender received the answer to what it sent. *Never reaches* means more than unanswered: the packet
does not arrive at all, for one that arrives and whose answer is lost has been let in. A flow that never reaches because of
something that nobody wrote to that end (a cable, a missing route, a silent neighbour) holds by chance, and is told apart; whoever
names the cause knows it, and is not told.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

from mossy_compass.errors import QuestionError
from mossy_compass.lab.ends import FlowEnd, meant
from mossy_compass.lab.lab import Flow, Lab
from mossy_compass.marks import NOWHERE, Mark
from mossy_compass.model.network import Network, name_hash
from mossy_compass.packet.address import Address
from mossy_compass.plan.ids import TableId, TableKind
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Fate
from mossy_compass.walk.grid import ends_of, fronts_of, questions_of, services_at
from mossy_compass.walk.journey import Journey, Leg
from mossy_compass.walk.many import MOST_PATHS, paths
from mossy_compass.walk.question import Options, addresses_of, members_of

MOST_FLOWS = 20_000
"""So many flows may come of one expectation; more are asked for with ``sample``."""
MEANT = (
    "filter.",
    "self.",
    "session.",
    "name.unlearned",
    "route.discard",
    "route.unreachable",
    "nat.none",
    "source.check",
    "forwarding.off",
)
"""Causes that somebody wrote, or chose, so that a packet does not arrive; all others are chance."""
ARRIVED = (Fate.DELIVERED, Fate.REFUSED)
SHORT = re.compile(r"(?P<source>\S+) (?:(?P<never>never |cannot )?(?:reaches|reach)) (?P<target>\S+?)(?: for (?P<services>.+))?")


@dataclass(frozen=True)
class Wanted:
    """What is wanted of each flow. What is None is not asked.

    Attributes:
        reaches: answered; False: it must not even arrive.
        fate, symptom, cause: of the journey.
        by: ``LIST/RULE`` that has a part in it, on the way that decides.
        passes: devices that it passes, in this order, others between them or not.
        avoids: devices that it must not pass.
        exit: ``DEVICE/INTERFACE`` that it leaves by.
        seen_as: source that the far end sees; with or without port.
        logs: ``LIST/RULE`` that writes a log line of it.
        every_path: all of it must hold for every combination of equal ways.

    """

    reaches: bool | None = None
    fate: str | None = None
    symptom: str | None = None
    cause: str | None = None
    by: str | None = None
    passes: tuple[str, ...] = ()
    avoids: tuple[str, ...] = ()
    exit: str | None = None
    seen_as: str | None = None
    logs: str | None = None
    every_path: bool = False


@dataclass(frozen=True)
class Expectation:
    """A sentence that must hold, over every member of its ends.

    Attributes:
        words: as people read it.
        source, target: a host, a group, a segment, a zone; the target may be a name or an address.
        services: what is asked for; empty: what the target listens for, and a ping where it must not be reached.
        wanted: of each flow.
        options: further wishes about the packets.
        sample: so many flows are tested, chosen by ``seed``; 0 for all.
        about: why, in the author's words.
        mark: where it is written.

    """

    words: str
    source: str
    target: str
    services: tuple[str, ...]
    wanted: Wanted
    options: Options = field(default_factory=Options)
    sample: int = 0
    seed: int = 1
    about: str = ""
    mark: Mark = field(default=NOWHERE, compare=False)


class Outcome(NamedTuple):
    """What became of one flow of an expectation.

    Attributes:
        flow: which.
        journey: of it; with every way, the first that failed, else the first.
        wrong: what is not as it was wanted, a sentence each; empty where it holds.
        chance: it does not arrive, and nothing was written to that end.

    """

    flow: Flow
    journey: Journey
    wrong: tuple[str, ...]
    chance: bool = False


def short(words: str) -> tuple[str, str, tuple[str, ...], bool]:
    """Read ``kiosks never reach ledger for ssh and telnet``: source, target, services, whether it must reach.

    Raises:
        QuestionError: it is no such sentence.

    """
    found = SHORT.fullmatch(" ".join(words.split()))
    if found is None:
        raise QuestionError(
            f"'{words}' is no expectation. Write: SOURCE reaches TARGET for SERVICE, or SOURCE never reaches TARGET."
        )
    services = tuple(s for s in re.split(r",\s*|\s+and\s+|\s+", found["services"] or "") if s)
    return found["source"], found["target"], services, found["never"] is None


# --- who is meant ------------------------------------------------------------------------------------------------


class ExpectedFlows(NamedTuple):
    """What an expectation comes to.

    Attributes:
        flows: what is tested.
        left: what cannot be tested, a few words each.

    """

    flows: list[Flow]
    left: tuple[str, ...] = ()


def flows(network: Network, expectation: Expectation) -> list[Flow]:
    """Every flow of an expectation; the arguments and errors are those of ``flows_of``."""
    return flows_of(network, expectation).flows


def flows_on(plan: Plan, expectation: Expectation) -> ExpectedFlows:
    """The same on a plan, which knows those of an expectation that asks the same by other words."""
    asked = replace(expectation, words="", about="")
    return plan.once(("flows of", asked), lambda: flows_of(plan.network, expectation))


def flows_of(network: Network, expectation: Expectation) -> ExpectedFlows:
    """Every flow of an expectation: each pair of ends, each member of each service, each family that both ends have.

    Args:
        network: the network, with what is leased in place.
        expectation: what must hold.

    Raises:
        QuestionError: nobody is meant, there is no such service, or there are too many.

    """
    never = expectation.wanted.reaches is False
    sources, targets = meant(network, expectation.source, True), meant(network, expectation.target, False, never)
    left = [*sources.left, *targets.left]
    out: list[Flow] = []
    for target in targets.ends:
        words = expectation.services or _asked_at(network, target, expectation)
        asked = dict.fromkeys(m for s in words for m in members_of(network, s))
        for source in sources.ends:
            if source.owner != target.owner:
                lack = _apart(network, source, target, expectation)
                left += [f"{source.name} to {target.name} ({lack})"] if lack else []
                out += [] if lack else _between(network, source, target, asked, expectation.options)
        if len(out) > MOST_FLOWS and not expectation.sample:
            raise QuestionError(f"more than {MOST_FLOWS} flows come of this. Say sample: COUNT, or name fewer.")
    if not out and not left:
        raise QuestionError(f"'{expectation.source}' and '{expectation.target}' are the same host, so nothing would be tested.")
    return ExpectedFlows(_sampled(out, expectation.sample, expectation.seed), tuple(dict.fromkeys(left)))


def _apart(network: Network, source: FlowEnd, target: FlowEnd, expectation: Expectation) -> str:
    """Why nothing can be sent between two ends; empty where something can, or where that is what is expected."""
    family = expectation.options.family
    mine, theirs = (set(_held(network, end)) for end in (source, target))
    if not mine or not theirs or expectation.options.source is not None or expectation.wanted.cause == "source.none":
        return ""
    both = mine & theirs
    if family is not None:
        return "" if family in both else f"one of them has no IPv{family} address"
    return "" if both else "they have no address of one family"


def _held(network: Network, end: FlowEnd) -> Iterator[int]:
    """The families of an end that are meant; none where only a resolver knows them."""
    return (a.family for a in _addresses(network, end.name) if end.family in (None, a.family))


def _between(network: Network, source: FlowEnd, target: FlowEnd, services: Iterable[str], wishes: Options) -> Iterator[Flow]:
    """The flows between two ends, in the families that are meant."""
    if source.address is not None and wishes.source is None:
        wishes = replace(wishes, source=str(source.address))
    for service in services:
        yield from families(network, Flow(source.name, target.name, service, wishes), source.family or target.family)


def _sampled(held: list[Flow], count: int, seed: int) -> list[Flow]:
    """Some of the flows, by a stated function of seed and number, so that they are the same on every machine; 0 for all."""
    if not count or count >= len(held):
        return held
    order = sorted(range(len(held)), key=lambda n: name_hash(f"{seed}/{n}"))
    return [held[n] for n in sorted(order[:count])]


def _asked_at(network: Network, target: FlowEnd, expectation: Expectation) -> Sequence[str]:
    """What is asked for where nothing is said: what its owner listens for, and what is sent on from the address itself."""
    found = _usual(network, target.owner, expectation)
    sent_on = fronts_of(network).get(target.name, []) if target.name != target.owner else []
    return list(dict.fromkeys((*found, *sent_on)))


def _usual(network: Network, target: str, expectation: Expectation) -> Sequence[str]:
    """What is asked for where nothing is said: what the target listens for; and a ping, where it must not be reached at all."""
    found = services_at(network, target if target[:1].isdigit() or ":" in target else target.partition("/")[0])
    if expectation.wanted.reaches is False or len(found) == 1:
        return found
    return found[1:]


def every_flow(
    network: Network,
    sources: Sequence[str] = (),
    targets: Sequence[str] = (),
    services: Sequence[str] = (),
    options: Options | None = None,
) -> list[Flow]:
    """Every test of a grid as a flow, in each family that both of its ends have: what is compared must not miss one of them.

    Args:
        network: the network.
        sources, targets, services: as for ``questions_of``.
        options: further wishes.

    Raises:
        QuestionError: there is nobody to test, or too many.

    """
    wishes = options or Options()
    return [f for q in questions_of(network, sources, targets, services) for f in families(network, Flow(*q, wishes))]


def flows_beside(network: Network, mine: Sequence[Flow], other: Network, theirs: Sequence[Flow]) -> list[Flow]:
    """The flows of one version of a network with those of the other version that its own do not have, and that it can be asked.

    An address that is sent on in one version alone is nobody's in the other: what becomes of it there is the whole question.

    Args:
        network, mine: one version, with its flows.
        other, theirs: the other.

    """
    fronts, known = fronts_of(other), set(mine)
    ends = {*ends_of(network), *network.devices}
    return [*mine, *(f for f in theirs if f.target in fronts and f.source in ends and f not in known)]


def families(network: Network, flow: Flow, only: int | None = None) -> Iterator[Flow]:
    """A flow for each family that both of its ends have; the one flow, where that is one, is said, or cannot be known.

    Args:
        network: the network.
        flow: in whichever family.
        only: the family that is meant, where not all are.

    """
    mine, theirs = ({a.family for a in _addresses(network, end)} for end in (flow.source, flow.target))
    both = sorted(mine & theirs)
    if len(both) < 2 or flow.options.family is not None or flow.options.source is not None or flow.service in ("icmp", "icmp6"):
        yield flow
        return
    for family in both if only is None else (only,):
        yield replace(flow, options=replace(flow.options, family=family))


def _addresses(network: Network, end: str) -> Sequence[Address]:
    """The addresses of an end; none where only a resolver knows them, or it has none yet."""
    try:
        return addresses_of(network, end)
    except QuestionError:
        return ()


# --- whether it holds --------------------------------------------------------------------------------------------


def judge(lab: Lab, expectation: Expectation, flow: Flow) -> Outcome:
    """What becomes of a flow, and what of it is not as it was wanted.

    Raises:
        QuestionError: the question cannot be meant.

    """
    wanted = expectation.wanted
    journeys, left_out = _journeys(lab, flow, wanted.every_path)
    first: Outcome | None = None
    for journey in journeys:
        wrong = tuple(wrong_with(journey, wanted))
        if wrong:
            return Outcome(flow, journey, wrong)
        chance = wanted.reaches is False and wanted.cause is None and not journey.cause.startswith(MEANT)
        first = first or Outcome(flow, journey, (), chance)
    assert first is not None
    return first._replace(wrong=(left_out,)) if left_out else first


def wrong_within(journey: Journey, wanted: Wanted) -> Iterator[str]:
    """What of a later packet of a conversation is not as it was wanted.

    Args:
        journey: of the packet.
        wanted: whether it reaches, its fate, its cause, what its sender sees.

    """
    leg = journey.later or journey.deciding
    arrives = journey.answered
    if wanted.reaches is not None and wanted.reaches is not arrives:
        yield "it should arrive, and does not" if wanted.reaches else "it should not arrive, and does"
    yield from _ends_otherwise(wanted, leg.fate.value, journey.symptom.value, leg.cause)


def _ends_otherwise(wanted: Wanted, fate: str, symptom: str, cause: str) -> Iterator[str]:
    """What of fate, symptom and cause is not as it was wanted."""
    for name, value, found in (("fate", wanted.fate, fate), ("symptom", wanted.symptom, symptom), ("cause", wanted.cause, cause)):
        if value is not None and value != found:
            yield f"the {name} should be {value}, and is {found}"


def _journeys(lab: Lab, flow: Flow, every: bool) -> tuple[list[Journey], str]:
    """The journey of a flow, or those of every combination of equal ways; and what is left out, where there are too many."""
    if not every:
        return [lab.test(flow)], ""
    found = paths(lab.plan, flow.source, flow.target, flow.service, flow.options, lab.state)
    for path in found.paths:
        lab.saw(path.journey)
    # An expectation of every way is not met by those that there was time for.
    left_out = "" if found.whole else f"there are more than {MOST_PATHS} combinations of equal ways, and the rest was not tested"
    return [path.journey for path in found.paths], left_out


def wrong_with(journey: Journey, wanted: Wanted) -> Iterator[str]:
    """What is not as it was wanted."""
    if wanted.reaches is True and not journey.answered:
        yield "it should be answered, and is not"
    if wanted.reaches is True and journey.answered:
        yield from _answered_by_another(journey)
    if wanted.reaches is not None:
        yield from _given_twice(journey)
    if wanted.reaches is False and arrives(journey):
        yield "it should not arrive, and does" + ("" if journey.answered else ", though no answer comes back")
    yield from _ends_otherwise(wanted, journey.fate.value, journey.symptom.value, journey.cause)
    yield from _way_wrong(journey, wanted)
    yield from _rows_wrong(journey, wanted)


def arrives(journey: Journey) -> bool:
    """Whether a packet gets to somebody who takes or refuses it, answered or not."""
    return _forth(journey)[-1].fate in ARRIVED


def _given_twice(journey: Journey) -> Iterator[str]:
    """An address that several devices have: which of them was tested nobody can say, so nothing is known of the one that was meant."""
    owners = journey.plan.owners(journey.there.packet.destination) if journey.plan is not None else ()
    if len(owners) > 1:
        yield f"{journey.there.packet.destination} was given to {' and '.join(owners)}, and nobody can say which of them is asked"


def _answered_by_another(journey: Journey) -> Iterator[str]:
    """A host that was named and is not who answered: a translation sent its packets to somebody else."""
    plan = journey.plan
    name = journey.target.partition("/")[0]
    if plan is None or (name not in plan.network.devices and plan.network.far_host(name) is None):
        return
    far = plan.network.far_host(name)
    end = far[0].name if far is not None else name
    ends = {journey.there.end, journey.onward.there.end if journey.onward is not None else journey.there.end}
    if end not in ends:
        yield f"it should reach {name}, and {journey.there.end} answers in its place"


def _way_wrong(journey: Journey, wanted: Wanted) -> Iterator[str]:
    """What is not as it was wanted of the way there, and of what the far end sees."""
    path = [name for leg in _forth(journey) for name in passed_on(leg)]
    if wanted.passes and not in_order(wanted.passes, path):
        yield f"it should pass {', '.join(wanted.passes)}, and goes {' > '.join(path)}"
    yield from _avoided_wrong(journey, wanted)
    yield from _exit_wrong(journey, wanted)
    seen = (journey.seen_as, journey.seen_as.rpartition(":")[0].strip("[]"))  # with its port, or without
    if wanted.seen_as is not None and wanted.seen_as not in seen:
        yield f"it should be seen as {wanted.seen_as}, and is seen as {journey.seen_as or 'nothing'}"


def _forth(journey: Journey) -> list[Leg]:
    """The way there, and that of what was asked onward."""
    return [journey.there, *(_forth(journey.onward) if journey.onward is not None else [])]


def passed_on(leg: Leg) -> list[str]:
    """The devices of a way in order, with the switches between them."""
    return [name for hop in leg.every_hop for name in (hop.device, *hop.bridges)]


def _avoided_wrong(journey: Journey, wanted: Wanted) -> Iterator[str]:
    """What was to be avoided and was not, on the way there or back; a packet that gets nowhere has avoided nothing."""
    if not wanted.avoids:
        return
    onward = [(leg, ", onward") for leg in (journey.onward.whole if journey.onward is not None else ())]
    for leg, way in ((journey.there, ""), (journey.back, ", on its way back"), *onward):
        path = passed_on(leg) if leg is not None else []
        yield from (f"it should not pass {name}, and goes {' > '.join(path)}{way}" for name in wanted.avoids if name in path)
    ends_told = wanted.reaches is not None or wanted.fate or wanted.symptom or wanted.cause
    if _forth(journey)[-1].fate not in ARRIVED and not ends_told:
        yield f"it should not pass {', '.join(wanted.avoids)}, and does not arrive at all, so that says nothing"


def _exit_wrong(journey: Journey, wanted: Wanted) -> Iterator[str]:
    """Where it leaves, if that is not as it was wanted. What is stopped before somebody takes it has not left."""
    exits = [f"{h.device}/{h.leaving}" for leg in _forth(journey) for h in leg.every_hop if h.leaving and h.next_device is not None]
    if wanted.exit is not None and wanted.exit not in exits:
        yield f"it should leave by {wanted.exit}, and leaves by {', '.join(exits) or 'nothing'}"


class _Met(NamedTuple):
    """A row that a packet met.

    Attributes:
        name: as LIST/RULE.
        logged: the severity of its line; empty for none.
        decides: the stage ended by it.
        of_list: it is a rule of a list.

    """

    name: str
    logged: str
    decides: bool
    of_list: bool


def _met(journey: Journey) -> list[_Met]:
    """Every row that had a part in what became of packets."""
    met = [m for leg in journey.whole for m in leg.admissions() if m.row]
    return [_Met(f"{_spoken(m.table)}/{m.row}", m.logged, m.decides, m.table.kind is TableKind.LIST) for m in met]


def _spoken(table: TableId) -> str:
    """A table as drills name it: a list by its name alone."""
    return table.name if table.kind is TableKind.LIST else str(table)


def _rows_wrong(journey: Journey, wanted: Wanted) -> Iterator[str]:
    """Rules that should have had a part, and had none."""
    met = _met(journey) if wanted.by is not None or wanted.logs is not None else []
    if wanted.by is not None and wanted.by not in [row.name for row in met if row.decides]:
        said = ", ".join(dict.fromkeys(row.name for row in met if row.of_list and row.decides)) or "no rule of a list"
        yield f"{wanted.by} should decide, and it met {said}"
    if wanted.logs is not None and wanted.logs not in [row.name for row in met if row.logged]:
        yield f"{wanted.logs} should log it, and does not"


def in_order(wanted: Sequence[str], path: Sequence[str]) -> bool:
    """Whether some devices are passed in an order, with others between them or not."""
    rest = iter(path)
    return all(name in rest for name in wanted)
