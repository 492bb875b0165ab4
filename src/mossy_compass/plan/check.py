"""Whether each device's order of stages, and what stands in its stages, can be used: asked when a network is read.

A condition that cannot be known where it stands would never hold, and its rule would be
there in vain. So the needs of every row are compared with what the stages before it give,
and the row and the stage are both named.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from mossy_compass.headers.spans import as_text, merge
from mossy_compass.marks import Mark, Problems, Severity, hint
from mossy_compass.model.check import inspecting, place_words, standing_lists
from mossy_compass.model.network import LAST_RESORT, AccessList, Device, Interface, Kind, Network, Protects, Rule, Tunnel
from mossy_compass.model.outside import OutsideKnown, outside_of
from mossy_compass.model.settings import EmptyList
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import EVERYTHING, Address, Spans
from mossy_compass.packet.service import protocol_name
from mossy_compass.packet.wrapping import Wrapping
from mossy_compass.plan.conditions import Reader, conditions_of
from mossy_compass.plan.device import port_names
from mossy_compass.plan.fields import FIELDS
from mossy_compass.plan.order import SPECS, Stage, faults, given_before, orders
from mossy_compass.plan.stages.routes import BEFORE_ROUTES
from mossy_compass.plan.stages.translate import as_rule


class CheckedList(NamedTuple):
    """A row where it stands: in which stage, as part of what.

    Attributes:
        stage: the stage that asks it.
        rule: its conditions.
        words: what it is called.
        own: written at the device itself, where names were looked at when it was read; a list is read without a device.

    """

    stage: Stage
    rule: Rule
    words: str
    own: bool = False


def check_orders(network: Network, problems: Problems) -> None:
    """Refuse orders that cannot be used, and rows that ask for what their stage cannot know yet."""
    for device in network.devices.values():
        if device.order is not None:
            mark = device.order_mark or device.mark
            found = list(faults(device.order, device.settings.forwarding))
            for fault in found:
                problems.add("order.stage", mark, f"{device.name}: {fault.message}", fault.remedy)
            if found:
                continue
            _left_out(device, problems, mark)
        if device.layer3:
            _rows(network, device, problems)
            _idle_switches(network, device, problems)
            _idle_uplinks(network, device, problems)
            _idle_resorts(network, device, problems)
            _tunnels(network, device, problems)
            _idle_helpers(device, problems)


def _idle_helpers(device: Device, problems: Problems) -> None:
    """Helpers of a device that keeps no sessions of what they read: it never knows to whom a packet belongs that announces."""
    kept = set(device.stateful)
    for port in device.interfaces.values():
        kept |= port.inspects.arriving | port.inspects.leaving if port.inspects is not None else set()
    for helper in device.helpers:
        if device.translate or any(s.protocol in kept for s in helper.services):
            continue
        words = (
            f"{device.name} keeps no sessions of {', '.join(map(str, helper.services))}, so its helper {helper.name} reads nothing."
        )
        remedy = f"Remove the helper, or add {protocol_name(helper.services[0].protocol)} to stateful."
        problems.add("helper.idle", helper.mark, words, remedy, Severity.WARNING)


def check_rules(network: Network, problems: Problems) -> None:
    """Rules that name interfaces which are not there, and what lets strangers in; what needs exact sets is in ``findings.py``."""
    for device in network.devices.values():
        if device.layer3:
            _named_ports(network, device, problems)
        if device.kind is Kind.FIREWALL:
            _open_outside(network, device, problems)


def _named_ports(network: Network, device: Device, problems: Problems) -> None:
    """Interfaces that a rule names and the device where it stands does not have: the rule could never match there."""
    known = port_names(device)
    for standing in (s for s in _standing(network, device) if not s.own):
        for key, names in (("arriving", standing.rule.arriving), ("leaving", standing.rule.leaving)):
            unknown = [n for n in names or () if n not in known]
            if names and len(unknown) == len(names):
                words = f"{standing.words} is for what is {key} by {', '.join(unknown)}, and {device.name} has no such interface: it can never match."
                problems.add("rule.interface", standing.rule.mark, words, hint(unknown[0], known, "interfaces"))
            elif unknown:
                words = f"{standing.words} names {', '.join(unknown)}, and {device.name} has no such interface."
                problems.add("rule.interface", standing.rule.mark, words, hint(unknown[0], known, "interfaces"), Severity.WARNING)


def _and(names: Sequence[str]) -> str:
    """``fibre is``, ``fibre and radio are``."""
    return f"{' and '.join(names)} {'is' if len(names) == 1 else 'are'}"


def _lists_met(device: Device, port: Interface) -> list[str]:
    """The lists that are asked about what comes by an interface."""
    gates = device.gates
    crossings = (c for c in gates.crossings if c.origin in ("any", port.name, port.zone))
    return [*port.arriving_lists, *(gates.everywhere if gates.everywhere_on else ()), *(n for c in crossings for n in c.lists)]


def _but(device: Device, port: Interface) -> str:
    """What strangers can start although no list is asked about whatever comes by an interface."""
    gates = device.gates
    more = []
    if gates.to_self:
        more.append(f"what {' and '.join(gates.to_self)} permits to {device.name} itself")
    if any(o.interface == port.name for o in gates.offers):
        more.append(f"what {device.name} offers there")
    named = [p for p in gates.profiles if p.arriving is None or port.name in p.arriving]
    if named:
        more.append(f"what profile {named[0].name} permits")
    return f" but {', or '.join(more)}" if more else ""


def _open_outside(network: Network, device: Device, problems: Problems) -> None:
    """A firewall's interface to what is not its own, by which strangers come in without meeting a rule."""
    outside = outside_of(network, device)
    faces = [device.interfaces[name] for name in outside.ports]
    if outside.known is OutsideKnown.ROUTES or (outside.known is OutsideKnown.ADDRESSES and len(faces) > 1):
        words = f"{device.name} does not say which of its interfaces are outside; {_and(outside.ports)} taken to be, since {outside.known}."
        problems.add("firewall.outside", device.mark, words, "Write outside: yes at those that face strangers.", Severity.NOTE)
    settings = device.settings
    for port in faces:
        met = [network.lists[n] for n in _lists_met(device, port) if n in network.lists]
        empty = met and not any(entry.rules for entry in met) and settings.empty_list
        if empty is EmptyList.PERMIT:
            words = f"list '{met[0].name}' is attached to what arrives by {device.name}/{port.name}, which faces strangers, has no rule, and lets in whatever they send (empty-list: permit)."
            problems.add("firewall.open", port.mark, words, "Write its rules, or leave empty-list: permit out.", Severity.WARNING)
            continue
        if (met and empty is not EmptyList.IGNORE) or not settings.no_list_permits:
            continue
        where = (
            f"no list{' with a rule' * bool(met)} is attached to what arrives by {device.name}/{port.name}, which faces strangers"
        )
        if settings.inbound:
            remedy = "Attach one: filter: {arriving: NAME}, or set inbound: deny."
            problems.add("firewall.open", port.mark, f"{where}: whatever they send is let in.", remedy, Severity.WARNING)
        elif settings.mark("inbound") is None:
            words = f"{where}: they can start nothing{_but(device, port)} (inbound: deny, the default of a firewall)."
            problems.add(
                "firewall.closed", port.mark, words, "Attach a list that permits what they may, or leave it so.", Severity.NOTE
            )


def _left_out(device: Device, problems: Problems, mark: Mark) -> None:
    """What is written for a stage that the order leaves out has no effect."""
    order, _ = orders(device.kind, device.order)
    for stage, marks in _written_for(device).items():
        if stage not in order and marks:
            words = f"{device.name}: the order has no stage '{stage}', so what is written for it has no effect."
            also = tuple((m, "written here") for m in marks[:3])
            problems.add("idle.no-stage", mark, words, f"Add '{stage}' to the order.", Severity.WARNING, also)


def _written_for(device: Device) -> dict[Stage, list[Mark]]:
    """What is written for a device, or holds by default, that a stage must ask to give it its effect."""
    ports = device.interfaces.values()
    return {
        Stage.INSPECTION: inspecting(device),
        Stage.FORWARDING: [] if device.settings.forwarding else [device.settings.mark("forwarding") or device.mark],
        Stage.ARRIVING_LIST: [i.arriving_mark for i in ports if i.arriving_lists],
        Stage.LEAVING_LIST: [i.leaving_mark for i in ports if i.leaving_lists],
        Stage.CROSSING: [c.mark for c in device.gates.crossings if c.into != "self"],
        Stage.TO_SELF_LIST: [device.gates.to_self_mark] if device.gates.to_self else [o.mark for o in device.gates.offers],
        Stage.FRONT_LIST: [t.mark for t in device.translate if t.lists],
        Stage.TRANSLATE_SOURCE: [t.mark for t in device.translate if t.of_source],
        Stage.TRANSLATE_DESTINATION: [t.mark for t in device.translate if not t.of_source],
        Stage.HELPERS: [h.mark for h in device.helpers],
        Stage.POLICY_ROUTE: [*(e.mark for e in device.policy_routes), *_exit(device)],
    }


def _exit(device: Device) -> list[Mark]:
    """Where the setting that says where answers leave is written, if it is otherwise than routes say."""
    mark = device.settings.mark("session-exit")
    return [mark] if mark is not None and device.settings.text("session-exit") != "routed" else []


def _rows(network: Network, device: Device, problems: Problems) -> None:
    """Rows of a device that ask for a fact which their stage cannot know in this device's order."""
    order, origin = orders(device.kind, device.order)
    known = {stage: given_before(order, stage) for stage in order}
    known |= {stage: given_before(origin, stage) for stage in origin if stage not in known}
    # A long list may stand at many places, and its rules ask for the same everywhere. The rules are kept with their fields,
    # so that none of another place gets the number of one that is gone.
    asked: dict[int, tuple[Rule, set[str]]] = {}
    for standing in _standing(network, device):
        if standing.stage not in known:
            continue
        rule = standing.rule
        if id(rule) not in asked:
            asked[id(rule)] = rule, {f for c in conditions_of(rule, Reader()) for f in c.fields}
        lacking = _needs(standing.stage, asked[id(rule)][1]) - known[standing.stage]
        if lacking:
            _too_early(device, standing, "leaving" in lacking, problems)


def _idle_uplinks(network: Network, device: Device, problems: Problems) -> None:
    """Rules that pick an uplink which the device has not, or in lists that are asked there only when the way is chosen already."""
    useful: dict[str, bool] = {}
    for names, _, way in standing_lists(device):
        for name in names:
            useful[name] = useful.get(name, False) or way in BEFORE_ROUTES
    known = {*device.interfaces, *device.uplinks}
    for name, of_use in useful.items():
        for rule in network.lists[name].rules if name in network.lists else ():
            if not rule.uplink or rule.disabled:
                continue
            if rule.uplink not in known:
                words = f"rule {rule.id} of '{name}' says uplink {rule.uplink}, and {device.name}, where it stands, has none of that name."
                problems.add("rule.uplink", rule.mark, words, hint(rule.uplink, known, "uplinks"))
            elif not of_use:
                words = (
                    f"rule {rule.id} of '{name}' says uplink {rule.uplink}, and at {device.name} the list is asked only when the way is "
                    "chosen already: it has no effect there."
                )
                remedy = "Attach the list to what arrives, or remove uplink."
                problems.add("rule.idle-uplink", rule.mark, words, remedy, Severity.WARNING)


def _tunnels(network: Network, device: Device, problems: Problems) -> None:
    """Tunnels whose other end says something else, or is nobody's; and selectors that an own order never asks."""
    seen: dict[tuple[Address, str, Wrapping], str] = {}
    for interface in device.interfaces.values():
        tunnel = interface.tunnel
        if tunnel is None:
            continue
        if tunnel.selectors and device.order is not None and Stage.TUNNEL not in device.order:
            words = f"{device.name} has its own order of stages, which leaves out 'tunnel': the selectors of {interface.name} are never asked."
            problems.add("tunnel.order", device.order_mark or device.mark, words, "Add tunnel after translate source.")
        first = seen.setdefault((tunnel.to, tunnel.by, tunnel.kind), interface.name)
        if first != interface.name:
            words = f"tunnels {first} and {interface.name} of {device.name} have the same ends and kind: everything comes out of {first}."
            problems.add(
                "tunnel.twice", tunnel.mark, words, "Remove one, or give it another kind or another end.", Severity.WARNING
            )
        _too_fine(device, interface, tunnel, problems)
        owner = network.owner_of(tunnel.to)
        if owner is None:
            words = f"nobody here has {tunnel.to}, the other end of tunnel {interface.name} of {device.name}."
            problems.add("tunnel.nobody", tunnel.mark, words, "Draw the other end, or mend the address.", Severity.WARNING)
        elif owner in network.devices and not (tunnel.exchanged and _is_hidden(network, tunnel.to)):
            why = _unlike(network, device, interface, tunnel, network.devices[owner])
            if why:
                problems.add("tunnel.unlike", tunnel.mark, why, "Let both ends say the same, each from its side.", Severity.WARNING)


MOST_FINE = 4
"""So many selectors of single hosts are taken for what is meant; of more, somebody filters with them."""


def _too_fine(device: Device, interface: Interface, tunnel: Tunnel, problems: Problems) -> None:
    """Selectors of single hosts: each is an association of its own (RFC 4301 section 4.4.1.2), and they filter without a word."""
    protected = [s for s in tunnel.selectors if s.does is Protects.PROTECT]
    fine = [s for s in protected if any(s.first == s.last for end in (s.sources, s.destinations) for s in _held(end))]
    if len(fine) == len(protected) > MOST_FINE:
        words = (
            f"tunnel {interface.name} of {device.name} has {len(fine)} selectors of single hosts, which makes {len(fine)} associations; what is "
            "in none of them stays outside the tunnel, without any counter or log."
        )
        remedy = f"Let one selector be about both networks, and filter with a list at {interface.name}."
        problems.add("tunnel.fine", tunnel.mark, words, remedy, Severity.NOTE)


def _tunnels_of(device: Device) -> list[Tunnel]:
    """The tunnels of a device."""
    return [i.tunnel for i in device.interfaces.values() if i.tunnel is not None]


def _is_hidden(network: Network, address: Address) -> bool:
    """Whether an address stands for others: whoever has it translates, and ends no tunnel itself."""
    owner = network.devices.get(network.owner_of(address) or "")
    return owner is not None and bool(owner.translate) and not _tunnels_of(owner)


def _unlike(network: Network, device: Device, interface: Interface, tunnel: Tunnel, other: Device) -> str:
    """What the two ends of a tunnel say otherwise; empty where they fit."""
    mine = device.addresses_at(tunnel.by)
    called = f"tunnel {interface.name} of {device.name}"
    ends = [i for i in other.interfaces.values() if i.tunnel is not None and i.tunnel.to in mine]
    if not ends and tunnel.exchanged and any(t.exchanged and _is_hidden(network, t.to) for t in _tunnels_of(other)):
        return ""  # it is translated between them, and an exchange of keys gets through that (RFC 7296 section 2.23)
    if not ends:
        return f"{called} is to {tunnel.to}, and {other.name} has no tunnel to {', '.join(map(str, mine)) or 'it'}."
    end = next((e for e in ends if e.tunnel is not None and e.tunnel.kind is tunnel.kind), ends[0])
    twin, named = end.tunnel, f"{other.name}/{end.name}"
    assert twin is not None
    unlike = _said_unlike(called, tunnel, named, twin)
    if unlike:
        return unlike
    theirs = other.addresses_at(twin.by)
    if tunnel.to not in theirs:
        return (
            f"{called} is to {tunnel.to}, and {named} sends by {twin.by}, which has {', '.join(map(str, theirs)) or 'no address'}."
        )
    return _selectors_unlike(called, tunnel, named, twin)


def _said_unlike(called: str, tunnel: Tunnel, other: str, twin: Tunnel) -> str:
    """What two ends that mean each other say otherwise of themselves: their kind, their keys, what they propose; empty for nothing."""
    if twin.kind is not tunnel.kind:
        return f"{called} says kind {tunnel.kind.value}, and its other end {other} says {twin.kind.value}."
    if twin.exchanged is not tunnel.exchanged:
        said = ["exchanged" if t.exchanged else "by-hand" for t in (tunnel, twin)]
        return f"{called} has keys: {said[0]}, and its other end {other} {said[1]}."
    if tunnel.proposals and twin.proposals and not set(tunnel.proposals) & set(twin.proposals):
        ours, others = (", ".join(t.proposals) for t in (tunnel, twin))
        return f"{called} proposes {ours}, and its other end {other} {others}: they have none in common."
    return ""


def _selectors_unlike(called: str, tunnel: Tunnel, other: str, twin: Tunnel) -> str:
    """The first selector that is not mirrored at the other end; empty for none."""
    ours, theirs = (
        [(_held(s.sources), _held(s.destinations)) for s in t.selectors if s.does is Protects.PROTECT] for t in (tunnel, twin)
    )
    for number, (mine, far) in enumerate(ours, 1):
        if (far, mine) not in theirs:
            said = "has no selectors" if not theirs else f"has none that protects {as_text(far)} to {as_text(mine)}"
            return f"{called} protects {as_text(mine)} to {as_text(far)} (selector {number}), and {other} {said}: its answers come in the clear, or not."
    return ""


def _held(terms: tuple[Term, ...] | None) -> Spans:
    """The addresses of one end of a selector."""
    return EVERYTHING if terms is None else merge(s for t in terms for s in t.spans or ())


def _idle_resorts(network: Network, device: Device, problems: Problems) -> None:
    """Rules for a last resort that a device has not where they stand, or that do not say which of several they mean."""
    having = [g.name for g in device.groups.values() if g.last_resort]
    for name in dict.fromkeys(n for names, _, _ in standing_lists(device) for n in names):
        for rule in network.lists[name].rules if name in network.lists else ():
            if not rule.last_resort or rule.disabled:
                continue
            group = rule.last_resort.rpartition(LAST_RESORT)[0]
            if group and group not in having:
                words = f"rule {rule.id} of '{name}' is for {rule.last_resort}, and {device.name}, where it stands, has no such last resort: it never applies there."
                remedy = hint(rule.last_resort, [f"{g}{LAST_RESORT}" for g in having], "last resorts")
                problems.add("rule.last-resort", rule.mark, words, remedy, Severity.WARNING)
            elif not group and len(having) > 1:
                words = f"rule {rule.id} of '{name}' is for last-resort, and {device.name}, where it stands, has several: {', '.join(having)}."
                problems.add("rule.last-resort", rule.mark, words, f"Write while: {having[0]}{LAST_RESORT}.")


def _idle_switches(network: Network, device: Device, problems: Problems) -> None:
    """Rules with a switch in lists that stand only where no packet comes by on its way through, or too late."""
    order, _ = orders(device.kind, device.order)
    if Stage.TRANSLATE_SOURCE not in order:
        return
    before = set(order[: order.index(Stage.TRANSLATE_SOURCE)]) - {Stage.TO_SELF_LIST}
    useful: dict[str, bool] = {}
    for names, where, way in standing_lists(device):
        stage = STAGE_OF[way] if way != "crossing" or not where.endswith(" into self") else Stage.TO_SELF_LIST
        for name in names:
            useful[name] = useful.get(name, False) or stage in before
    for entry in device.policy_routes:
        useful.setdefault(entry.classifier or "", False)
    for name in (n for n, of_use in useful.items() if not of_use and n in network.lists):
        for rule in network.lists[name].rules:
            if rule.translates and not rule.disabled:
                words = (
                    f"rule {rule.id} of '{name}' says translate, and at {device.name} the list stands only where no packet passes "
                    "before its source is translated: the switch has no effect there."
                )
                remedy = "Attach the list where packets pass through, or remove translate."
                problems.add("translate.idle-switch", rule.mark, words, remedy, Severity.WARNING)


def _too_early(device: Device, standing: CheckedList, leaving: bool, problems: Problems) -> None:
    """A row asks for the leaving interface, or for the device's sessions, before anybody knows that."""
    wanted = "the interface that packets leave by" if leaving else "what packets are to the device's sessions"
    words = f"{device.name}: {standing.words} asks for {wanted}, which is not known yet at the stage '{standing.stage}'."
    giver = "route" if leaving else "recall"
    remedy = f"Put that stage after '{giver}' in the order." if device.order else "Ask for arriving, or attach it to what leaves."
    problems.add("rule.too-early", standing.rule.mark, words, remedy)


def _needs(stage: Stage, fields: Iterable[str]) -> set[str]:
    """The facts that a row needs beside those of its stage: the stage that gives each has them."""
    needs = {name for name in fields if FIELDS[name].given_by and name in SPECS[Stage(FIELDS[name].given_by)].gives}
    if stage is Stage.TRANSLATE_SOURCE:  # it becomes the address of the interface that it leaves by
        needs.add("leaving")
    return needs


STAGE_OF = {
    "arriving": Stage.ARRIVING_LIST,
    "leaving": Stage.LEAVING_LIST,
    "everywhere": Stage.ARRIVING_LIST,
    "profile": Stage.ARRIVING_LIST,
    "crossing": Stage.CROSSING,
    "to-self": Stage.TO_SELF_LIST,
    "from-self": Stage.FROM_SELF,
    "front": Stage.FRONT_LIST,
}
"""The stage that asks the lists of each kind of place."""


def _standing(network: Network, device: Device) -> Iterator[CheckedList]:
    """Every row of a device with the stage that it stands in."""
    for names, where, way in standing_lists(device):
        stage = STAGE_OF[way] if way != "crossing" or not where.endswith(" into self") else Stage.TO_SELF_LIST
        for name in names:
            if name in network.lists:
                yield from _of_list(stage, network.lists[name], f" ({place_words(device.name, where, way)})")
    for entry in device.translate:
        stage = Stage.TRANSLATE_SOURCE if entry.of_source else Stage.TRANSLATE_DESTINATION
        yield CheckedList(stage, as_rule(entry), f"translation rule {entry.id}", own=True)
    for policy in device.policy_routes:
        yield CheckedList(Stage.POLICY_ROUTE, policy.rule, f"policy route {policy.id}", own=True)
        if policy.classifier in network.lists:
            yield from _of_list(Stage.POLICY_ROUTE, network.lists[policy.classifier or ""], f" (policy route {policy.id})")


def _of_list(stage: Stage, source: AccessList, where: str) -> Iterable[CheckedList]:
    """The rules of a list as rows of a stage."""
    return (CheckedList(stage, rule, f"rule {rule.id} of list {source.name}{where}") for rule in source.rules)
