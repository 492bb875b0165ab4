"""What changes by itself: probes, whose verdicts decide which routes and ways are in use.

A probe's packet is a packet of its device, walked over the network as it is at that instant; so its outcome is a function of the
network, of what failed, and of which probes are down. Without a clock, the verdicts are those that probes settle at when all were up
first; a circle of probes that never settle is told.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import partial
from typing import NamedTuple

from mossy_compass.model.network import Choosing, Device, Network, Probe, StaticRoute
from mossy_compass.packet.address import Address, Prefix
from mossy_compass.plan.plan import Plan
from mossy_compass.routing.local import by_member
from mossy_compass.state.state import State
from mossy_compass.walk.journey import Journey, Leg
from mossy_compass.walk.question import Question, ask, ask_by
from mossy_compass.walk.sent import sent

Key = tuple[str, str]
"""A probe: its device, and its name."""
MOST_ROUNDS = 200
"""So many rounds are gone until probes have settled, or go in a circle: more than a network has probes that depend on each other."""


MOST_CHOICES = 16
"""So often it is looked which uplink is best; choices that depend on one another are few."""


class Quality(NamedTuple):
    """What the cables of a way there and back do to a packet.

    Attributes:
        latency_ms: their times together, in milliseconds.
        jitter_ms: how far that may vary: an upper bound, for all may be late at once.
        loss_percent: how many of a hundred are lost on the way.

    """

    latency_ms: float
    jitter_ms: float
    loss_percent: float

    def of(self, what: str) -> float:
        """One of the three by its word: latency, jitter or loss."""
        return {"latency": self.latency_ms, "jitter": self.jitter_ms, "loss": self.loss_percent}[what]


class ProbeOutcome(NamedTuple):
    """What came of a probe's question.

    Attributes:
        ok: it was answered in time, and within the probe's limits.
        journey: of the question.
        quality: of its way; None where no answer came.
        why: what it fails by, in words; empty where it does not.

    """

    ok: bool
    journey: Journey
    quality: Quality | None
    why: str


class Weather(NamedTuple):
    """Which probes are down.

    Attributes:
        down: by device and name.
        circle: probes whose verdicts never come to rest; empty for none.
        period: so many rounds the circle takes.

    """

    down: frozenset[Key]
    circle: tuple[Key, ...] = ()
    period: int = 0


def probes_of(plan: Plan) -> list[tuple[Key, Probe]]:
    """Every probe that is asked, by device and name."""
    return [((d.name, p.name), p) for d in plan.network.devices.values() for p in d.probes.values() if p.enabled]


def outcome(plan: Plan, key: Key) -> ProbeOutcome:
    """What comes of a probe's question on a plan; its sessions do not stay.

    Args:
        plan: of the instant at which it is sent.
        key: the probe.

    """
    return plan.once(("probe", key), lambda: _asked(plan, key))


def _asked(plan: Plan, key: Key) -> ProbeOutcome:
    """The same, asked."""
    probe = plan.network.devices[key[0]].probes[key[1]]
    journey = sent(plan, question_of(plan, key), State())[0]
    if not journey.answered:
        return ProbeOutcome(False, journey, None, f"no answer: {journey.because.cited()}")
    found = quality(plan, (journey.there, *([journey.back] if journey.back is not None else [])))
    limits = (
        (found.latency_ms, float(probe.reply_within), "ms", "an answer takes {}, and {} is waited for"),
        (found.latency_ms, probe.latency_ms, "ms", "latency is {}, at most {} is allowed"),
        (found.jitter_ms, probe.jitter_ms, "ms", "jitter is {}, at most {} is allowed"),
        (found.loss_percent, probe.loss_percent, "%", "loss is {}, at most {} is allowed"),
    )
    why = [w.format(f"{has:g} {unit}", f"{most:g} {unit}") for has, most, unit, w in limits if most is not None and has > most]
    return ProbeOutcome(not why, journey, found, why[0] if why else "")


def question_of(plan: Plan, key: Key) -> Question:
    """A probe's question: by its interface to the gateway that routes name there, whatever they wait for; else as routes say."""
    device = plan.network.devices[key[0]]
    probe = device.probes[key[1]]
    if probe.by is None:
        return ask(plan, device.name, str(probe.target), probe.service)
    return ask_by(plan, device.name, probe.target, probe.service, probe.by, _gateway(plan, device, probe))


def _gateway(plan: Plan, device: Device, probe: Probe) -> Address | None:
    """Whom a probe's packets are handed to: the next hop of the best route that is written for its target by its interface.

    Without one, the next hop of a policy route there; None where the target is on the segment, and where nobody is named.
    """
    assert probe.by is not None
    subnets = [a.prefix for a in device.interfaces[probe.by].addresses]
    if _on_any(subnets, probe.target):
        return None
    routes = [r for r in device.routes if r.prefix.holds(probe.target)]
    leading = [r for r in routes if r.leaving in (None, probe.by) and _leads(r, probe.by, subnets)]
    if leading:
        return min(leading, key=lambda r: (-r.prefix.length, r.preference, r.metric)).next_hop
    for route in routes:  # one that names the interface alone: the lease's gateway, or the other end
        named = route.leaving is not None and probe.by in device.uplinks.get(route.leaving, (route.leaving,))
        if named and route.next_hop is None:
            hop, _ = by_member(device, plan.domains, route.leaving or "", probe.by, route)
            return hop.address if hop is not None else None
    candidates = (c.next_hop for e in device.policy_routes for c in e.candidates if c.next_hop is not None)
    return next((a for a in candidates if _on_any(subnets, a)), None)


def _on_any(subnets: Sequence[Prefix], address: Address) -> bool:
    """Whether an address is on one of some subnets."""
    return any(p.holds(address) for p in subnets)


def _leads(route: StaticRoute, by: str, subnets: Sequence[Prefix]) -> bool:
    """Whether a route's next hop is on an interface's segment; a link-local one is where the route names the interface."""
    hop = route.next_hop
    return hop is not None and (_on_any(subnets, hop) or (hop.is_link_local and route.leaving == by))


def quality(plan: Plan, legs: tuple[Leg, ...]) -> Quality:
    """What every cable on some ways does to a packet: times are added, what is left over is multiplied."""
    latency = jitter = 0.0
    left = 1.0
    for leg in legs:
        for hop, following in zip(leg.hops, leg.hops[1:], strict=False):
            if hop.outer is not None:
                found = quality(plan, (hop.outer,))
                latency, jitter, left = latency + found.latency_ms, jitter + found.jitter_ms, left * (1 - found.loss_percent / 100)
            if hop.outer is not None or hop.leaving is None or following.arriving is None:
                continue
            crossed = plan.domains.between((hop.device, hop.leaving), (following.device, following.arriving))
            for segment in crossed.segments:
                latency += segment.link.latency_ms
                jitter += segment.link.jitter_ms
                left *= 1 - segment.link.loss_percent / 100
    return Quality(round(latency, 6), round(jitter, 6), round(100 * (1 - left), 6))


def in_weather(plan: Plan) -> Plan:
    """A plan whose probes have settled; the plan itself where it has none, or where somebody has said which are down."""
    if not plan.has_probes or plan.network.down is not None:
        return plan
    return plan.once("weather", lambda: with_down(plan, settled(plan).down))


def with_down(plan: Plan, down: frozenset[Key]) -> Plan:
    """The same network where other probes are down."""
    return weathered(plan.written, down, plan, None, plan)


Measured = Mapping[Key, Quality]
"""What probes have measured last, of those by which some group of uplinks chooses."""


def choosing(network: Network) -> frozenset[Key]:
    """The probes by whose measurements some group of uplinks chooses the best."""
    groups = ((d, g) for d in network.devices.values() for g in d.groups.values() if g.choose is Choosing.BEST)
    names = ((d, d.member_probes.get((g.name, m), "")) for d, g in groups for m in g.members)
    return frozenset((d.name, name) for d, name in names if name in d.probes and d.probes[name].enabled)


def best_by(network: Network, measured: Measured) -> frozenset[tuple[str, str, str]]:
    """The best member of each group that is chosen by what probes have measured: device, group and member.

    Args:
        network: the network.
        measured: what its probes have measured; a member of which nothing was measured is not chosen.

    """
    return frozenset(_best(network, measured.get))


def weathered(
    network: Network, down: frozenset[Key], earlier: Plan | None = None, measured: Measured | None = None, near: Plan | None = None
) -> Plan:
    """The plan of a network some of whose probes are down, where the best uplinks are in use.

    Which one is best follows from what probes measure, which may depend on what is in use; where that goes in a circle, the last holds.

    Args:
        network: as written, or with something failed.
        down: the probes that are down.
        earlier: the plan of before something failed: hosts keep the addresses that they were leased then.
        measured: what probes have measured last; None: what they would measure now.
        near: a plan of the very same network in other weather; what does not hang on that is taken over.

    """
    if measured is not None:
        return Plan(replace(network, down=down, best=best_by(network, measured)), earlier, near)
    plan = Plan(replace(network, down=down, best=frozenset()), earlier, near)
    if not any(g.choose is Choosing.BEST for d in network.devices.values() for g in d.groups.values()):
        return plan
    for _ in range(MOST_CHOICES):
        best = frozenset(_best(plan.network, partial(_quality, plan)))
        if best == plan.network.best:
            break
        plan = Plan(replace(network, down=down, best=best), earlier, plan)
    return plan


def _quality(plan: Plan, key: Key) -> Quality | None:
    """What a probe would measure now."""
    return outcome(plan, key).quality


def _best(network: Network, measures: Callable[[Key], Quality | None]) -> Iterator[tuple[str, str, str]]:
    """The best member of each group that is chosen by what probes measure; the first of several that are alike."""
    for device in network.devices.values():
        for group in device.groups.values():
            if group.choose is not Choosing.BEST:
                continue
            measured: list[tuple[float, str]] = []
            for member in group.members:
                probe = device.probes.get(device.member_probes.get((group.name, member), ""))
                found = measures((device.name, probe.name)) if probe is not None and probe.enabled else None
                if found is not None:
                    measured.append((found.of(group.by), member))
            if measured:
                yield device.name, group.name, min(measured, key=lambda m: m[0])[1]


def settled(plan: Plan, start: frozenset[Key] = frozenset()) -> Weather:
    """Which probes are down once none changes any more; they are asked in rounds, all at once.

    Args:
        plan: the network; which probes are down by it does not matter.
        start: the probes that are down at first.

    """
    keys = [key for key, _ in probes_of(plan)]
    down, seen = start, [start]
    for _ in range(MOST_ROUNDS):
        now = with_down(plan, down)
        following = frozenset(key for key in keys if not outcome(now, key).ok)
        if following == down:
            return Weather(down)
        if following in seen:
            around = seen[seen.index(following) :]
            moving = tuple(sorted(frozenset.union(*around) - frozenset.intersection(*around)))
            return Weather(following, moving, len(around))
        seen.append(following)
        down = following
    return Weather(down, tuple(keys), MOST_ROUNDS)
