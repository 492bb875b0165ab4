"""What could help a packet that does not end as it is wanted: changes to try, made from where and why it ended.

Each is a few steps of a change file. Whether it helps is for whoever tries it (``remedy.py``).
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from mossy_compass.lab.rooted import Proposal, enabling, of_root, put
from mossy_compass.model.network import Kind, Rule, Verdict
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, WITH_PORTS, protocol_name
from mossy_compass.plan.conditions import Miss
from mossy_compass.plan.facts import Facts, Recollection
from mossy_compass.plan.ids import TableKind
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Did
from mossy_compass.walk.journey import Hop, Journey, Leg, Ruling
from mossy_compass.walk.question import services_of

MISLED = ("root.strangers", "root.turned-back", "root.parted", "root.inactive", "root.out-again")
"""What lies behind a loss that another route may mend."""


def proposals(plan: Plan, journey: Journey, wanted: bool) -> Iterator[Proposal]:
    """What could help, from where and why a packet ended; or from what let it pass, where it is not to arrive."""
    if not wanted:
        yield from _closing(plan, journey)
        return
    yield from of_root(plan, journey)
    leg = journey.deciding
    hop = leg.hops[-1]
    ruling = next((r for r in reversed(hop.rulings) if r.cause), None)
    if ruling is None:  # a packet that goes in a circle is stopped by no stage
        seen = hop.rulings[-1].saw.destination if hop.rulings else leg.packet.destination
        yield from (*_routing(plan, leg, seen), *_enabling(plan, leg, seen)) if leg.cause == "loop" else ()
        return
    back = journey.lost == "back"
    if ruling.cause.startswith("filter") and ruling.table.kind is TableKind.LIST:
        yield from _opening(plan, hop, ruling, back)
    if back and plan.network.devices[hop.device].layer3:
        yield from _inspecting(plan, hop.device, ruling.saw)
    if ruling.cause in ("filter.default", "filter.inbound", "session.none") or (
        ruling.cause.startswith("filter") and ruling.table.kind is not TableKind.LIST
    ):
        yield from _attaching(plan, hop, ruling, back)
    if ruling.cause.startswith(("route.", "policy.")) or (journey.behind is not None and journey.behind.code in MISLED):
        yield from _routing(plan, leg, ruling.saw.destination)
    if ruling.cause == "neighbour.silent":
        yield from _by_another(plan, hop.device, ruling.saw.destination)
    if ruling.cause.startswith(("route.", "neighbour.silent", "interface.down")):
        yield from _enabling(plan, leg, ruling.saw.destination)
    yield from _sending_on(plan, hop, journey.near)
    if back:
        yield from _hiding(plan, journey)


def _opening(plan: Plan, hop: Hop, ruling: Ruling, back: bool) -> Iterator[Proposal]:
    """A list that stops a packet: a permit for it alone; what is nearly one; what stands in the way."""
    name, facts = ruling.table.name, _facts(hop, ruling)
    yield _alone(plan, ruling, "permit", back)
    rules, at = _place(plan, ruling)
    written = {r.id: (n, r) for n, r in enumerate(rules)}
    for row in plan.device(hop.device).read_list(name).rows:
        number, rule = written.get(row.id, (0, None))
        if rule is None or rule.verdict is not Verdict.PERMIT:
            continue
        missed = list(row.misses(facts))
        if not missed and number > at:
            step = {"move": {"what": f"lists/{name}/{row.id}", "before": rules[at].id}}
            yield Proposal(f"move rule {row.id} of list {name} above rule {rules[at].id}", (step,))
        if len(missed) == 1 and number < at:
            yield from _widening(plan, name, rule, missed[0], ruling.saw)
    yield from _disabling(plan, ruling)
    yield from _narrowing(plan, ruling)


def _place(plan: Plan, ruling: Ruling) -> tuple[Sequence[Rule], int]:
    """The rules of the list that ruled, and the place of the one that did; behind the last for the end of the list."""
    rules = plan.network.lists[ruling.table.name].rules
    return rules, next((n for n, r in enumerate(rules) if r.id == ruling.row), len(rules))


def _alone(plan: Plan, ruling: Ruling, verdict: str, back: bool) -> Proposal:
    """A rule for a packet alone, in front of the one that ruled."""
    name, (rules, at) = ruling.table.name, _place(plan, ruling)
    value = _value(plan, verdict, ruling.saw, back, _free(rules, at))
    where: dict[str, Any] = {"before": rules[at].id} if at < len(rules) else {}
    place = f"above rule {rules[at].id}" if at < len(rules) else "at its end"
    step = {"insert": {"into": f"lists/{name}", "value": value, **where}}
    return Proposal(f"{verdict} it in list {name}, {place}: {_flow(value)}", (step,), True)


def _disabling(plan: Plan, ruling: Ruling) -> Iterator[Proposal]:
    """The rule that ruled is disabled; nothing for the end of a list."""
    name, (rules, at) = ruling.table.name, _place(plan, ruling)
    if at < len(rules):
        yield Proposal(f"disable rule {rules[at].id} of list {name}", ({"disable": f"lists/{name}/{rules[at].id}"},))


def _narrowing(plan: Plan, ruling: Ruling) -> Iterator[Proposal]:
    """The rule that ruled could be about less: without the entry that the packet is met by, or that without a member."""
    name, (rules, at) = ruling.table.name, _place(plan, ruling)
    if at == len(rules):
        return
    rule, packet = rules[at], ruling.saw
    within = f"lists/{name}/{rule.id}"
    for key, terms, address in (("from", rule.sources, packet.source), ("to", rule.destinations, packet.destination)):
        for term in terms or ():
            if not term.holds(address):
                continue
            if len(terms or ()) > 1:
                words = f"take {term.words} out of {key} of rule {rule.id} of list {name}"
                yield Proposal(words, ({"remove": f"{within}/{key}/{term.words}"},))
            yield from _leaving(plan, term, address)
    words_of = rule.service_words.split(", ")
    for word in words_of if len(words_of) > 1 else ():
        if any(s is not None and s.covers(packet.protocol, packet.slot) for s in services_of(plan.network, word)):
            yield Proposal(
                f"take {word} out of service of rule {rule.id} of list {name}", ({"remove": f"{within}/service/{word}"},)
            )


def _leaving(plan: Plan, term: Term, address: Address) -> Iterator[Proposal]:
    """A group without the member that an address belongs to, and the groups within it."""
    group = plan.network.groups.get(term.words)
    for member in group.terms if group is not None else ():
        if member.holds(address):
            if group is not None and len(group.terms) > 1:
                words = f"take {member.words} out of group {term.words}"
                yield Proposal(words, ({"remove": f"groups/{term.words}/{member.words}"},))
            yield from _leaving(plan, member, address)


def _widening(plan: Plan, name: str, rule: Rule, miss: Miss, packet: Packet) -> Iterator[Proposal]:
    """A permit that one condition keeps from being met: who is missing joins the group that it names."""
    if miss.key == "disabled":
        yield Proposal(f"enable rule {rule.id} of list {name}", ({"enable": f"lists/{name}/{rule.id}"},))
    if miss.key not in ("from", "to"):
        return
    terms = rule.sources if miss.key == "from" else rule.destinations
    address = packet.source if miss.key == "from" else packet.destination
    for term in terms or ():
        if term.words in plan.network.groups:
            who = _called(plan, address)
            step = {"insert": {"into": f"groups/{term.words}", "value": who}}
            yield Proposal(f"put {who} into group {term.words}, which rule {rule.id} of list {name} permits", (step,))


def _inspecting(plan: Plan, device: str, answer: Packet) -> Iterator[Proposal]:
    """A device that stops an answer: it could keep sessions of the protocol."""
    tracked = plan.device(device).tracked
    if answer.protocol in tracked:
        return
    word = protocol_name(answer.protocol)
    words = f"keep sessions of {word} at {device}, so that answers pass"
    into = f"devices/{device}"
    every = [*(protocol_name(p) for p in sorted(tracked)), word]
    # As it is written: a list, nothing, or one word.
    yield Proposal(words, ({"insert": {"into": f"{into}/stateful", "value": word}},), True)
    yield Proposal(words, ({"insert": {"into": into, "name": "stateful", "value": every}},), True)
    yield Proposal(words, ({"replace": {"what": f"{into}/stateful", "with": every}},), True)


def _attaching(plan: Plan, hop: Hop, ruling: Ruling, back: bool) -> Iterator[Proposal]:
    """A default that stops a packet where no list lets it in: a list for it alone."""
    arriving = hop.arriving
    if arriving is None or plan.network.devices[hop.device].interfaces[arriving].arriving_lists:
        return
    outside = plan.device(hop.device).is_outside(arriving)
    yield _attached(plan, hop, _value(plan, "permit", ruling.saw, back, 10), not outside)


def _attached(plan: Plan, hop: Hop, value: dict[str, Any], rest: bool) -> Proposal:
    """A new list with one rule at the interface where a packet arrives; ``rest``: everything else goes on as before."""
    name = next(n for n in (f"added-{k}" for k in range(1, 1000)) if n not in plan.network.lists)
    steps = (
        {"insert": {"into": "lists", "name": name, "value": [value, *([{"id": 20, "permit": "any"}] if rest else [])]}},
        {"insert": {"into": f"devices/{hop.device}/interfaces/{hop.arriving}", "name": "filter", "value": {"arriving": name}}},
    )
    verb = "denies" if "deny" in value else "permits"
    words = f"attach a list to what arrives by {hop.device}/{hop.arriving} that {verb} it: {_flow(value)}"
    return Proposal(words, steps, True)


def _routing(plan: Plan, leg: Leg, destination: Address) -> Iterator[Proposal]:
    """A device that knows no way: a route to the subnet by a neighbour that does."""
    goal = next(
        (
            a.prefix
            for d in plan.network.devices.values()
            for i in d.interfaces.values()
            for a in i.addresses
            if a.prefix.holds(destination)
        ),
        None,
    )
    if goal is None:
        return
    for device in dict.fromkeys(h.device for h in leg.hops):
        here = plan.network.devices[device]
        if not here.layer3 or here.kind is Kind.INTERNET:  # nobody asks strangers for a route
            continue
        for port in here.interfaces.values():
            domain = plan.domains.of(device, port.name)
            for other, address in _neighbours(plan, device, domain, destination.family):
                words = f"a route at {device}: {goal} by {other} ({address})"
                value = {"prefix": str(goal), "next-hop": str(address)}
                into = f"devices/{device}"
                if here.routes:
                    yield Proposal(words, ({"insert": {"into": f"{into}/routes", "value": value}},), True)
                else:
                    yield Proposal(words, ({"insert": {"into": into, "name": "routes", "value": [value]}},), True)


def _by_another(plan: Plan, device: str, destination: Address) -> Iterator[Proposal]:
    """A next hop or gateway that nobody answers for: another one, of each router and firewall beside the device."""
    here = plan.network.devices[device]
    found = plan.device(device).table.lookup(destination)
    if found is None:
        return
    # Routes have no ids: they are known by their place, as the entries of any list.
    entries = list(dict.fromkeys(r.mark for r in here.routes if r.origin == "static"))
    for hop, port in itertools.product(found.hops, here.interfaces):
        silent = hop.via or hop.address
        for other, address in _neighbours(plan, device, plan.domains.of(device, port), destination.family) if silent else ():
            if found.origin == "gateway":
                words = f"the gateway of {device}: {address} of {other}, instead of {silent}"
                # As it is written: one of several, or the only one.
                for place in (f"gateway/{silent}", "gateway"):
                    yield put(words, f"devices/{device}/{place}", str(address))
            elif hop.mark in entries:
                words = f"the next hop of the {found.words()} of {device}: {address} of {other}, instead of {silent}"
                yield put(words, f"devices/{device}/routes/{10 * entries.index(hop.mark) + 10}/next-hop", str(address))


def _enabling(plan: Plan, leg: Leg, destination: Address) -> Iterator[Proposal]:
    """Interfaces that are disabled: of those whom the packet came to, their neighbours' on the same cable, and where it goes."""
    devices = {h.device: plan.network.devices[h.device] for h in leg.hops}
    ports = [(d.name, p.name) for d in devices.values() for p in d.interfaces.values()]
    every = ((d.name, p) for d in plan.network.devices.values() for p in d.interfaces.values())
    there = [(name, p.name) for name, p in every if any(a.prefix.holds(destination) for a in p.addresses)]
    yield from enabling(plan, ports, there)


def _neighbours(plan: Plan, device: str, domain: Any, family: int) -> Iterator[tuple[str, Address]]:
    """Routers and firewalls on a segment, with their addresses there."""
    for other in plan.network.devices.values():
        if other.name == device or not other.layer3 or other.kind is Kind.HOST:
            continue
        for port in other.interfaces.values():
            if domain is not None and plan.domains.of(other.name, port.name) == domain:
                yield from (
                    (other.name, a.address) for a in port.addresses if a.address.family == family and not a.address.is_link_local
                )


def _hiding(plan: Plan, journey: Journey) -> Iterator[Proposal]:
    """An answer that is lost outside: its source could be translated where it leaves one's own networks."""
    source = journey.there.packet.source
    for hop in journey.there.hops:
        here = plan.network.devices[hop.device]
        if hop.leaving is None or not here.layer3 or hop.arriving is None or not plan.device(hop.device).is_outside(hop.leaving):
            continue
        value = {"source": _called(plan, source), "leaving": hop.leaving}
        words = f"translate {value['source']} at {hop.device} as it leaves by {hop.leaving}"
        into = f"devices/{hop.device}"
        if here.translate:
            yield Proposal(words, ({"insert": {"into": f"{into}/translate", "value": value}},), True)
        else:
            yield Proposal(words, ({"insert": {"into": into, "name": "translate", "value": [value]}},), True)


def _sending_on(plan: Plan, hop: Hop, near: Sequence[Because]) -> Iterator[Proposal]:
    """What a device took for itself: the destination rule that nearly sent it on could be about it, too."""
    for because in near:
        if because.code != "near.translation":
            continue
        device, row, packet = because.named["device"], because.named["row"], because.named["packet"]
        what = f"devices/{device}/translate/{row}"
        if [m.key for m in because.named["misses"]] == ["disabled"]:
            yield Proposal(f"enable translation rule {row} of {device}", ({"enable": what},))
            continue
        rule = next((t for t in plan.network.devices[device].translate if not t.of_source and t.id == row), None)
        if rule is None or rule.goes_to is None:
            continue
        goal = _called(plan, rule.goes_to)
        port = rule.to_port if rule.to_port is not None and not rule.to_range else None
        value: dict[str, Any] = {"source": _called(plan, packet.source), "to": str(packet.destination)}
        if hop.arriving is not None:
            value["arriving"] = hop.arriving
        if packet.protocol in WITH_PORTS:
            value["service"] = f"{protocol_name(packet.protocol)}/{packet.to_port}"
        value["goes-to"] = goal if port is None else {"address": goal, "port": port}
        step = {"insert": {"into": f"devices/{device}/translate", "value": value, "before": row}}
        yield Proposal(f"send it on at {device}, above translation rule {row}: {_flow(value)}", (step,), True)


def _closing(plan: Plan, journey: Journey) -> Iterator[Proposal]:
    """Every list that let a packet pass: a deny for it alone, or the permit disabled; a list for it alone where none is asked."""
    for hop in journey.there.hops:
        here = plan.network.devices[hop.device]
        passes = hop.arriving is not None and here.layer3 and here.kind in (Kind.ROUTER, Kind.FIREWALL)
        if (
            passes
            and not here.interfaces[hop.arriving or ""].arriving_lists
            and not plan.device(hop.device).is_outside(hop.arriving or "")
        ):
            yield _attached(
                plan, hop, _value(plan, "deny", hop.rulings[0].saw if hop.rulings else journey.there.packet, False, 10), True
            )
        for ruling in hop.rulings:
            if ruling.table.kind is not TableKind.LIST or ruling.did is not Did.PERMITTED:
                continue
            yield _alone(plan, ruling, "deny", False)
            yield from _disabling(plan, ruling)
            yield from _narrowing(plan, ruling)


def _facts(hop: Hop, ruling: Ruling) -> Facts:
    """What a list was asked with."""
    at = ruling.situation
    facts = Facts(ruling.saw, hop.arriving, Recollection(at.known.names), at.leaving, device=hop.device)
    facts.relation = at.relation
    return facts


def _value(plan: Plan, verdict: str, packet: Packet, back: bool, ident: str | int) -> dict[str, Any]:
    """A rule for a packet alone."""
    word = protocol_name(packet.protocol)
    value: dict[str, Any] = {
        "id": ident,
        verdict: word,
        "from": _called(plan, packet.source),
        "to": _called(plan, packet.destination),
    }
    if packet.protocol in WITH_PORTS and not packet.fragment:
        if back:
            value |= {"from-port": packet.from_port, "state": ["answering"]}
        else:
            value["service"] = f"{word}/{packet.to_port}"
    elif packet.protocol in (ICMP, ICMP6) and packet.icmp >= 0:
        value["icmp"] = [packet.what().partition("/")[2]]
    return value


def _called(plan: Plan, address: Address) -> str:
    """A host by its name, where that means this address alone; else the address."""
    owners = [d for d in plan.network.devices.values() if address in [a for a, _ in d.own_addresses()]]
    far = [h.name for d in plan.network.devices.values() for h in d.far_hosts.values() if h.addresses == (address,)]
    if len(far) == 1 and not owners:
        return far[0]
    if len(owners) == 1 and owners[0].kind is Kind.HOST:
        held = [a for a, _ in owners[0].own_addresses() if a.family == address.family and not a.is_link_local]
        if held == [address]:
            return owners[0].name
    return str(address)


def _free(rules: Sequence[Rule], at: int) -> str | int:
    """A number for a rule that stands in front of another: between its neighbours, where there is one; else a name."""
    numbers = [int(r.id) if r.id.isdigit() else None for r in rules]
    last = numbers[at - 1] if at else 0
    following = numbers[at] if at < len(rules) else None
    taken = {r.id for r in rules}
    if at == len(rules):
        top = max((n for n in numbers if n is not None), default=0)
        return top + 10
    if last is not None and following is not None and following - last > 1:
        return (last + following) // 2
    return next(n for n in (f"added-{k}" for k in range(1, 10_000)) if n not in taken)


def _flow(value: Mapping[str, Any]) -> str:
    """A rule as people write it."""
    return "{" + ", ".join(f"{k}: {_written(v)}" for k, v in value.items()) + "}"


def _written(value: Any) -> str:
    """A value as people write it."""
    if isinstance(value, dict):
        return _flow(value)
    return f"[{', '.join(map(str, value))}]" if isinstance(value, list) else str(value)
