"""Findings that the description alone shows: what is written but has no effect, and what cannot be meant.

Each finding is about something that is written and does nothing, or does what its author
cannot have meant. None of them needs routes to be computed, so they come at once, also
while a file is edited.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Hashable, Iterable, Iterator
from dataclasses import replace

from mossy_compass.marks import Mark, Problems, Severity
from mossy_compass.model.goals import check_goals
from mossy_compass.model.network import AccessList, Device, Kind, Network, Rule, Translate, Verdict
from mossy_compass.model.settings import EmptyList, EndOfList
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import Address

WARN = Severity.WARNING
NOTE = Severity.NOTE


def check_network(network: Network, problems: Problems) -> None:
    """Add every finding about ``network`` to ``problems``."""
    _lists(network, problems)
    members = {m for s in network.segments.values() for m in s.members}
    for device in network.devices.values():
        _device(device, members, problems)
    check_goals(network, problems)
    _addresses(network, problems)
    _segments(network, problems)
    _same(network, problems)


def attached(network: Network) -> dict[str, list[tuple[str, str, str]]]:
    """For each list, where it stands: device, interface, ``arriving`` or ``leaving``.

    For what is no interface's: the device, a pair of zones, a profile, a front or nothing, and the kind of place.
    """
    out: dict[str, list[tuple[str, str, str]]] = {name: [] for name in network.lists}
    for device in network.devices.values():
        for names, where, way in standing_lists(device):
            for name in names:
                if name in out:
                    out[name].append((device.name, where, way))
    return out


def standing_lists(device: Device) -> Iterator[tuple[tuple[str, ...], str, str]]:
    """The lists of a device: their names, where, and the kind of place."""
    for interface in device.interfaces.values():
        yield interface.arriving_lists, interface.name, "arriving"
        yield interface.leaving_lists, interface.name, "leaving"
    gates = device.gates
    yield gates.everywhere, "", "everywhere"
    for crossing in gates.crossings:
        yield crossing.lists, crossing.words, "crossing"
    yield gates.to_self, "", "to-self"
    yield gates.from_self, "", "from-self"
    for profile in gates.profiles:
        yield profile.lists, profile.name, "profile"
    for rule in device.translate:
        yield rule.lists, rule.id, "front"


def place_words(device: str, where: str, way: str) -> str:
    """Where a list stands: ``gate/fibre arriving``, ``gate crossing house into world``, ``gate to-self``."""
    if way in ("arriving", "leaving"):
        return f"{device}/{where} {way}"
    return f"{device} {way}{' ' + where if where else ''}"


def classifying(network: Network) -> set[str]:
    """The lists that say which packets a policy route is about; they filter nothing there."""
    return {e.classifier for d in network.devices.values() for e in d.policy_routes if e.classifier}


def _lists(network: Network, problems: Problems) -> None:
    """Findings about lists: empty, attached nowhere, attached twice, alike, rules that no packet reaches."""
    used = classifying(network)
    for name, places in attached(network).items():
        entry = network.lists[name]
        if not places and name not in used:
            words = f"list '{name}' is attached nowhere: no packet is compared with it."
            remedy = f"Attach it: filter: {{arriving: {name}}} at an interface, or remove it."
            problems.add("idle.unattached", entry.mark, words, remedy, WARN)
        if places:
            _attached_list(network, entry, places, problems)
        for rule in entry.rules:
            if rule.disabled:
                words = f"rule {rule.id} of '{name}' is disabled and passed over."
                problems.add("idle.disabled", rule.mark, words, "", NOTE)


_EMPTY = {
    EmptyList.IGNORE: "nothing is compared with it there, as if it were not attached",
    EmptyList.PERMIT: "it lets everything pass there",
    EmptyList.DENY: "it lets nothing pass there",
}
"""What a list without a rule does, in words."""


def _attached_list(network: Network, entry: AccessList, places: list[tuple[str, str, str]], problems: Problems) -> None:
    """A list that is attached: without a rule, or with nothing but denies before an end that denies."""
    if not entry.rules:
        for value in dict.fromkeys(network.devices[p[0]].settings.empty_list for p in places):
            where = ", ".join(place_words(*p) for p in places if network.devices[p[0]].settings.empty_list is value)
            words = f"list '{entry.name}' has no rule, and is attached at {where}: {_EMPTY[value]} (empty-list: {value})."
            problems.add("list.empty", entry.mark, words, "Write its rules.", WARN)
    active = [r for r in entry.rules if not r.disabled]
    if active and all(r.verdict in (Verdict.DENY, Verdict.REJECT) for r in active):
        ends = {network.devices[d].settings.end_of_list for d, _, _ in places}
        if EndOfList.PERMIT not in ends and all(_is_last(network.devices[d], entry.name) for d, _, _ in places):
            words = f"list '{entry.name}' has only denies, and its end denies the rest: nothing passes."
            problems.add("list.only-denies", entry.mark, words, "Add {permit: any} at the end if the rest is meant to pass.", WARN)


def _is_last(device: Device, name: str) -> bool:
    """Whether no other list is asked after one, at any place of a device where it stands: what it leaves undecided is its end's then."""
    gates = device.gates
    if name in gates.everywhere and any(i.arriving_lists for i in device.interfaces.values()):
        return False
    if any(name in p.lists and p.mode == "before" for p in gates.profiles):
        return False
    if any(p.mode == "after" for p in gates.profiles) and name in _arriving(device):
        return False
    return all(names[-1] == name for names, _, _ in standing_lists(device) if name in names)


def _arriving(device: Device) -> set[str]:
    """The lists that what arrives meets, unless a profile says otherwise."""
    return {*device.gates.everywhere, *(n for i in device.interfaces.values() for n in i.arriving_lists)}


def _device(device: Device, members: set[tuple[str, str]], problems: Problems) -> None:
    """Findings about one device alone: what is written there and has no effect."""
    if device.kind is Kind.SWITCH:
        _switch(device, problems)
        return
    _cabling(device, members, problems)
    leased = any(i.leased for i in device.interfaces.values())
    if not leased:
        _gateway(device, problems)


def _gateway(device: Device, problems: Problems) -> None:
    """A host without a way out of its subnet: mostly forgotten, seldom meant."""
    away = any(r.origin == "gateway" or r.prefix.is_default for r in device.routes)
    if device.kind is Kind.HOST and not away:
        words = f"{device.name} has no gateway: it reaches its own subnet and nothing else."
        problems.add("host.no-gateway", device.mark, words, "Add gateway: ADDRESS.", WARN)


def inspecting(device: Device) -> list[Mark]:
    """Where a device's inspection is written; nothing where none is."""
    whole = [device.stateful_mark] if device.stateful and device.stateful_mark else []
    return whole + [p.inspects.mark for p in device.interfaces.values() if p.inspects is not None]


def _switch(device: Device, problems: Problems) -> None:
    """What is written at a device that only bridges, and has no effect there."""
    for port in device.interfaces.values():
        if port.arriving_lists or port.leaving_lists:
            mark = port.arriving_mark if port.arriving_lists else port.leaving_mark
            words = f"{device.name} is a switch and only bridges: no list is examined there."
            problems.add("switch.list", mark, words, "Attach the list to the router or firewall that the packets pass.")
    kinds = (
        ("translate", [t.mark for t in device.translate]),
        ("policy-routes", [e.mark for e in device.policy_routes]),
        ("stateful", inspecting(device)),
        ("routes", [r.mark for r in device.routes]),
    )
    for key, marks in kinds:
        for mark in marks[:1]:
            words = f"{device.name} is a switch and only bridges: {key} has no effect there."
            problems.add("switch.key", mark, words, "Write it at the router or firewall that the packets pass.", WARN)


def _cabling(device: Device, members: set[tuple[str, str]], problems: Problems) -> None:
    """Interfaces that nobody can be reached by."""
    used = members | {(device.name, i.parent) for i in device.interfaces.values() if i.parent}
    for interface in device.interfaces.values():
        virtual = interface.loopback or interface.vlan is not None or interface.tunnel is not None
        if (device.name, interface.name) not in used and not virtual and interface.addresses:
            words = f"{device.name}/{interface.name} is on no segment: nobody can be reached by it."
            remedy = f"Name {device.name}/{interface.name} in a segment."
            problems.add("interface.alone", interface.mark, words, remedy, WARN)
    if not device.interfaces:
        problems.add("device.alone", device.mark, f"{device.name} has no interface.", "Give it one.", WARN)
    elif not any((device.name, i.name) in members for i in device.interfaces.values()):
        words = f"{device.name} is connected to nothing."
        problems.add("device.alone", device.mark, words, "Name one of its interfaces in a segment.", WARN)


def _addresses(network: Network, problems: Problems) -> None:
    """Addresses given twice, networks given to hosts, subnets that overlap."""
    seen: dict[Address, list[tuple[str, str, Mark]]] = defaultdict(list)
    for device in network.devices.values():
        for interface in device.interfaces.values():
            for entry in interface.addresses:
                if not (entry.address.family == 6 and entry.address.is_link_local):
                    seen[entry.address].append((device.name, interface.name, interface.mark))
    for address, places in seen.items():
        if len(places) > 1:
            first, *others = places
            for name, port, mark in others:
                problems.add(
                    "address.duplicate",
                    mark,
                    f"{address} is at {first[0]}/{first[1]} and at {name}/{port}: nobody can say which of them answers.",
                    "Give one of them another address.",
                    WARN,
                    also=((first[2], "the other one"),),
                )


def _segments(network: Network, problems: Problems) -> None:
    """Cables with nothing at their ends, and links too narrow for IPv6 (RFC 8200 section 5)."""
    for segment in network.segments.values():
        if len(segment.members) < 2:
            words = (
                f"segment '{segment.name}' has {'one member alone' if segment.members else 'no member'}: nobody is reached by it."
            )
            problems.add("segment.empty", segment.mark, words, "Name what is plugged into it.", WARN)
    _narrow(network, problems)


def _narrow(network: Network, problems: Problems) -> None:
    """Links with IPv6 that carry less than every IPv6 link must: 1280 bytes, on the port and on its cable."""
    cables = {member: s for s in network.segments.values() for member in s.members}
    for device in network.devices.values():
        for port in device.interfaces.values():
            six = any(a.address.family == 6 for a in port.addresses)
            cable = cables.get((device.name, port.name))
            mtu = min(port.mtu, cable.link.mtu if cable and cable.link.mtu else port.mtu)
            if six and mtu < LEAST_MTU_6:
                words = f"{device.name}/{port.name} has IPv6 and an MTU of {mtu} bytes: IPv6 needs {LEAST_MTU_6} on every link."
                problems.add("interface.small-mtu", port.mark, words, f"Raise it to {LEAST_MTU_6}, or leave IPv6 out there.", WARN)


LEAST_MTU_6 = 1280
"""Bytes that every link with IPv6 carries undivided (RFC 8200 section 5)."""


Named = tuple[str, Hashable, Mark]
"""How a thing is called, what it says, and where."""


def _bare(rule: Rule) -> Hashable:
    """What a rule says, without what it is called and what for; its addresses by their words, which say the same."""
    words = (_words(rule.sources), _words(rule.destinations))
    return words, replace(rule, id="", about="", log="", sources=None, destinations=None)


def _bare_translation(rule: Translate) -> Hashable:
    """What a translation rule says, likewise."""
    words = (_words(rule.sources), _words(rule.destinations))
    return words, replace(rule, id="", about="", sources=None, destinations=None)


def _words(terms: tuple[Term, ...] | None) -> frozenset[str] | None:
    """What a condition or group names. The terms themselves may hold one another many times over."""
    return None if terms is None else frozenset(t.words for t in terms)


def _same(network: Network, problems: Problems) -> None:
    """Two things of one kind that say the same: most often one was meant to say something else."""
    kinds: list[tuple[str, list[Named]]] = [
        ("group", [(g.name, _words(g.terms), g.mark) for g in network.groups.values()]),
        ("service", [(s.name, frozenset(s.services), s.mark) for s in network.services.values()]),
        ("list", [(e.name, tuple(_bare(r) for r in e.rules), e.mark) for e in network.lists.values() if e.rules]),
    ]
    kinds += [
        ("rule", [(f"{r.id} of '{e.name}'", _bare(r), r.mark) for r in e.rules if not r.disabled]) for e in network.lists.values()
    ]
    for device in network.devices.values():
        kinds.append(("route", [(f"to {r.prefix} of {device.name}", replace(r, about=""), r.mark) for r in device.routes]))
        rules: list[Named] = [
            (f"{t.id} of {device.name}", _bare_translation(t), t.mark) for t in device.translate if not t.disabled
        ]
        kinds.append(("translation rule", rules))
    for kind, things in kinds:
        _twice(kind, things, problems)


def _twice(kind: str, things: Iterable[Named], problems: Problems) -> None:
    """Things of one kind of which one says what another one says."""
    seen: dict[Hashable, tuple[str, Mark]] = {}
    for name, value, mark in things:
        if value in seen:
            words = f"{kind} {name} says the same as {kind} {seen[value][0]}."
            also = ((seen[value][1], "the other one"),)
            problems.add("same.twice", mark, words, "Remove one of the two, or mend it.", NOTE, also=also)
        else:
            seen[value] = (name, mark)
