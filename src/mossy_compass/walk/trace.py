"""From a question to a journey: the lookup where a name needs one, the packet's way, and whatever comes of it.

A name is looked up over the network first when its sender asks a resolver: the resolver's
own fate is then the answer to why a name did not resolve. Then the packet is walked, then
whatever was sent because of it, and the verdict is formed from the legs.
"""

from __future__ import annotations

from dataclasses import replace

from mossy_compass.marks import hint
from mossy_compass.model.network import Network
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import DEFAULT_SIZE, DEFAULT_TTL
from mossy_compass.plan.balance import Choose
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because
from mossy_compass.state.state import State
from mossy_compass.walk.journey import Journey, Lookup, Symptom
from mossy_compass.walk.question import (
    Dated,
    Instant,
    Options,
    Question,
    Stuck,
    addresses_of,
    ask,
    check_target,
    members_of,
    unleased,
)
from mossy_compass.walk.sent import sent, stuck_at
from mossy_compass.walk.weather import in_weather


def trace_question(
    plan: Plan, question: Question, state: State | None = None, choose: Choose | None = None
) -> tuple[Journey, State]:
    """Send a test packet and whatever comes of it.

    Args:
        plan: the network.
        question: as ``ask`` makes it.
        state: what devices remember of earlier packets; it is changed. None: nothing is remembered.
        choose: how equal ways are chosen; None: by the hash.

    Returns:
        The journey, and the state with what it left behind.

    """
    return sent(in_weather(plan), question, state if state is not None else State(), choose, 0)


def trace(
    plan: Plan | Network,
    sender: str,
    target: str,
    service: str = "ping",
    *,
    source_port: int | None = None,
    source: str | None = None,
    ttl: int = DEFAULT_TTL,
    family: int | None = None,
    size: int = DEFAULT_SIZE,
    at: Dated | Instant | None = None,
    application: str | None = None,
    last_resort: bool = False,
    fragment: bool = False,
    choose: Choose | None = None,
) -> Journey:
    """Send one test packet, and its answer home.

    A target that is a name, which only a resolver knows, is looked up first: that is a journey of its own. A named
    service of several members is tested member by member; the first that is not answered is what you get, else the first.

    Args:
        plan: a compiled plan, or a network, which is then compiled for this one packet.
        sender: device, ``device/interface`` for its address, or far host.
        target: device, ``device/interface``, far host, name, or address.
        service: ``tcp/443``, a service name, or ``ping``.
        source_port: source port, or the identifier of an echo request.
        source: source address, instead of the one that the sender would choose.
        ttl: time to live in hops, 1 to 255.
        family: 4 or 6, to choose among the target's addresses.
        size: length of the whole packet in bytes.
        at: the time of the test, a datetime with its time zone; where it is left out, no window of time is open.
        application: what application the flow is of; else the file's table says.
        last_resort: the uplink of last resort is in use.
        fragment: send a fragment other than the first, which has no ports.
        choose: takes a device, its equal ways and the packet, and gives the number of the way to take; None lets the
            hash decide.

    Raises:
        QuestionError: the network has no such sender, target or service, or the numbers are out of range.

    """
    ready = plan if isinstance(plan, Plan) else Plan(plan)
    options = Options(source_port, source, ttl, family, size, at, application, last_resort, fragment)
    first: Journey | None = None
    for member in members_of(ready.network, service) if isinstance(service, str) else (service,):
        journey = trace_one(ready, sender, target, member, options, choose)
        if not journey.answered:
            return journey
        first = first or journey
    assert first is not None
    return first


def trace_each(plan: Plan, sender: str, target: str, service: str = "ping", options: Options | None = None) -> list[Journey]:
    """The journeys of every member of a named service, in their order; one journey for anything else.

    Args:
        plan: the network.
        sender, target: as for ``trace``.
        service: each member of it is asked.
        options: further wishes.

    """
    return [trace_one(plan, sender, target, member, options or Options()) for member in members_of(plan.network, service)]


def trace_one(
    plan: Plan, sender: str, target: str, service: str, options: Options, choose: Choose | None = None, state: State | None = None
) -> Journey:
    """One test packet, as ``trace_whole`` sends it; its journey alone."""
    return trace_whole(plan, sender, target, service, options, choose, state)[1]


def trace_whole(
    plan: Plan, sender: str, target: str, service: str, options: Options, choose: Choose | None = None, state: State | None = None
) -> tuple[Question | None, Journey]:
    """One test packet: a lookup first, where the target is a name that only a resolver knows.

    Args:
        plan: the network.
        sender, target, service: as for ``trace``.
        options: further wishes.
        choose: how equal ways are chosen, in the look-up too.
        state: what devices remember of earlier packets; it is changed. None: nothing is remembered. Where the test has a time,
            it is that time there from now on.

    Returns:
        The question, or None where no packet could be made; and the journey.

    """
    plan = in_weather(plan)
    state = state if state is not None else State()
    lookup = _look_up(plan, sender, target, options, state, choose)
    found: tuple[Address, ...] = ()
    if lookup is not None:
        asked, found = lookup
        if not found:
            return None, _not_found(plan, sender, target, service, asked)
    question = ask(plan, sender, target, service, options, addresses=found, choose=choose)
    if question.moment.now is not None:
        state.date(question.moment.now * 1000)
    journey = trace_question(plan, question, state, choose)[0]
    asked_for = question if question.packet is not None else None
    return asked_for, journey if lookup is None else replace(journey, lookup=lookup[0])


def _look_up(
    plan: Plan, sender: str, target: str, options: Options, state: State, choose: Choose | None
) -> tuple[Lookup, tuple[Address, ...]] | None:
    """Ask the sender's resolvers in their order, by UDP (RFC 1035 section 4.2.1), until one answers. None: no need."""
    device = plan.network.devices.get(sender.partition("/")[0]) if isinstance(sender, str) else None
    if device is None or not device.resolvers or unleased(plan.network, target) or addresses_of(plan.network, target):
        return None
    check_target(plan.network, target)
    lookup: Lookup | None = None
    for resolver in device.resolvers:
        question = ask(plan, sender, str(resolver), "udp/53", at=options.at, last_resort=options.last_resort, choose=choose)
        journey, _ = trace_question(plan, question, state, choose)
        found = _answered(plan, journey, target, options.family)
        lookup = Lookup(target, str(resolver), tuple(map(str, found)), journey)
        if journey.answered:
            for hop in journey.back.hops if journey.back and found else ():
                state.learn(hop.device, target, found)  # whoever passed the answer on may remember what the name stands for
            return lookup, found
    return None if lookup is None else (lookup, ())


def _answered(plan: Plan, journey: Journey, target: str, family: int | None) -> tuple[Address, ...]:
    """The addresses that a resolver gives, of the family that is asked for; none where it could not be asked."""
    records = plan.network.devices[journey.there.end].records if journey.answered else None
    return tuple(a for a in (records or {}).get(target, ()) if family in (None, a.family))


def _not_found(plan: Plan, sender: str, target: str, service: str, lookup: Lookup) -> Journey:
    """The journey of a packet that was never sent, since its name has no address."""
    asked = lookup.journey
    if asked.answered:
        resolver = plan.network.devices[asked.there.end]
        because = Because("name.no-record", (resolver.name, target), resolver.mark)
        known = Because("note.known-names", (hint(target, resolver.records or {}, "records"),))
        stuck = Stuck("name.unknown", because, known)
    else:
        stuck = Stuck(asked.cause, asked.because, asked.remark)
    question = Question(sender, sender.partition("/")[0], target, service, None, stuck)
    journey = stuck_at(plan, question)
    return replace(journey, lookup=lookup, lost="lookup", symptom=Symptom.NAME_NOT_FOUND, behind=asked.behind)
