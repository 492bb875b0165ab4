"""A device's tables as rows: what text and JSON of `mossy tables` are both made of.

A row is made once, and shown as text or given as data; so the two cannot disagree. Values
that nobody wrote say where they come from, for the default that nobody knew is half of all
surprises.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from mossy_compass.marks import Mark
from mossy_compass.model.network import Becomes, Device, Interface, PolicyRoute, Rule, Segment, Translate
from mossy_compass.model.settings import SETTINGS
from mossy_compass.packet.address import Address, Spans, from_key
from mossy_compass.packet.service import protocol_name
from mossy_compass.plan.conditions import Reader, conditions_of
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.ids import TableKind
from mossy_compass.plan.order import SPECS
from mossy_compass.plan.places import KnownPlace, Where, every_place
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Did
from mossy_compass.plan.stages.lists import Otherwise, Place
from mossy_compass.plan.stages.translate import as_rule
from mossy_compass.plan.table import Table
from mossy_compass.report.words import candidate
from mossy_compass.routing.domains import Answer, Port
from mossy_compass.routing.table import Loser, Route


class Rows(NamedTuple):
    """One table: its name, a sentence about it, headings and rows of text.

    Attributes:
        name: key of the table in JSON.
        about: a sentence that is the table's heading.
        headings: of the columns.
        rows: cells as text, line feeds within a cell.
        data: the rows as plain data, where that is more than their cells.
        marks: where each row is written, for those tables of which it is told whether packets meet them.

    """

    name: str
    about: str
    headings: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    data: tuple[dict[str, object], ...] = ()
    marks: tuple[Mark | None, ...] = ()

    def to_dict(self) -> dict[str, object]:
        """The table as plain data."""
        rows = list(self.data) or [dict(zip(self.headings, r, strict=True)) for r in self.rows]
        return {"table": self.name, "about": self.about, "rows": rows}


def _count(number: int, word: str) -> str:
    """A number with its word, in the singular for one."""
    return f"{number} {word}{'s' * (number != 1)}"


def interfaces(plan: Plan, name: str) -> Rows:
    """Interfaces with their state, addresses, cable, lists and routing protocols."""
    device = plan.network.devices[name]
    rows = tuple(_interface_row(plan, device, port) for port in device.interfaces.values())
    down = sum(not plan.domains.link(name, port).up for port in device.interfaces)
    about = f"{_count(len(rows), 'interface')} of {name}" + (f", {down} down" if down else ", all up" if len(rows) > 1 else ", up")
    return Rows("interfaces", about, ("interface", "state", "addresses", "segment", "MTU", "more"), rows)


def _interface_row(plan: Plan, device: Device, port: Interface) -> tuple[str, ...]:
    """An interface as a row: addresses, state, segment, zone, lists, sizes in bytes."""
    link = plan.domains.link(device.name, port.name)
    domain = plan.domains.of(device.name, port.name)
    cable = plan.domains.segment_of(device.name, port.parent or port.name)
    where = domain.name if domain else cable.name if cable else "loopback" if port.loopback else "-"
    return (
        port.name + (f" ({port.zone})" if port.zone else ""),
        "up" if link.up else f"down: {link.why}",
        "\n".join(map(str, port.addresses)) or ("leased, none yet" if port.leased else "-"),
        where,
        str(port.mtu),
        "\n".join(_notes(plan, device, port)) or "-",
    )


def _notes(plan: Plan, device: Device, port: Interface) -> list[str]:
    """What else there is to say of an interface: purpose, lease, VLAN, lists, routing protocols."""
    here = (device.name, port.name)
    leases = plan.routing.leases
    out = [port.about] if port.about else []
    if port.tunnel is not None:
        out.append(f"{port.tunnel.kind.value} by {port.tunnel.by} to {port.tunnel.to}")
    if here in leases.held:
        out.append(f"leased from {'/'.join(leases.held[here].server)}")
    if here in leases.wanting:
        out.append(f"no lease: {leases.wanting[here]}")
    out += _vlan_words(port)
    if device.layer3 and not port.loopback:
        lists = (("arriving", port.arriving_lists), ("leaving", port.leaving_lists))
        out += [f"{way} list {', '.join(listed)}" for way, listed in lists if listed]
        out += ["outside"] if plan.device(device.name).is_outside(port.name) else []
    if port.ospf:
        out.append(f"OSPF area {port.ospf.area}, cost {port.ospf.cost}" + (", passive" if port.ospf.passive else ""))
    return [*out, f"RIP {port.rip}"] if port.rip else out


def _vlan_words(port: Interface) -> list[str]:
    """What a port of a switch carries, tagged and untagged."""
    out = []
    if port.parent:
        out.append(f"tag {port.vlan} on {port.parent}")
    elif port.vlan is not None:
        out.append(f"of VLAN {port.vlan}")
    if port.access_vlan is not None:
        out.append(f"untagged VLAN {port.access_vlan}")
    return [*out, f"tagged VLANs {', '.join(map(str, port.trunk_vlans))}"] if port.trunk_vlans else out


def _place(route: Route) -> str:
    """Where a route is written; empty for what nobody wrote."""
    return str(route.mark) if route.mark and route.mark.line else "computed"


def _ways(route: Route) -> str:
    """The ways of a route, one line each."""
    if not route.hops:
        return str(route.action)
    return "\n".join(h.words() for h in route.hops)


def routes(plan: Plan, name: str, table: str = "main") -> Rows:
    """The routes in use, then those that are not, each with the reason."""
    found = plan.device(name).table_named(table)
    rows: list[tuple[str, ...]] = [(str(r.prefix), r.origin, f"{r.preference}/{r.metric}", _ways(r), _place(r)) for r in found]
    losers = [*found.all_losers(), *found.inactive]
    rows += [_loser_row(entry) for entry in losers]
    about = f"{_count(len(found), 'route')} of {name} in use"
    about += f", {len(losers)} not" if losers else ""
    title = "routes" if table == "main" else f"routes of table {table}"
    about += " (preference/metric: lower wins)"
    marks = tuple(r.mark for r in [*found, *(entry.route for entry in losers)])
    return Rows(title, about, ("prefix", "origin", "rank", "way", "from, or why not"), tuple(rows), (), marks)


def _loser_row(entry: Loser) -> tuple[str, ...]:
    """A route that is not used, and why."""
    route = entry.route
    return (
        f"not: {route.prefix}",
        route.origin,
        f"{route.preference}/{route.metric}",
        _ways(route),
        f"{_place(route)}: {entry.words}",
    )


def lookup(plan: Plan, name: str, address: Address) -> Rows:
    """Every route that holds an address: the winner, then the losers with their reasons."""
    table = plan.device(name).table
    found = table.lookup(address)
    rows: list[tuple[str, ...]] = []
    if found is not None:
        rows.append(
            (str(found.prefix), found.origin, f"{found.preference}/{found.metric}", _ways(found), f"taken; {_place(found)}")
        )
    rows += [_loser_row(entry) for entry in table.losers(address)]
    taken = f"takes {found.words()}, {_ways(found).replace(chr(10), ' or ')}" if found else "has no route"
    return Rows(f"route to {address}", f"{name} {taken}", ("prefix", "origin", "rank", "way", "from, or why not"), tuple(rows))


def neighbours(plan: Plan, name: str) -> Rows:
    """Who answers on each interface's segment, and with whom routing protocols are spoken."""
    device = plan.network.devices[name]
    ospf, rip = plan.routing.settled()
    rows: list[tuple[str, ...]] = []
    for port in device.interfaces:
        spoken = {p: f"OSPF IPv{family}" for family, o in ospf.items() for p in o.neighbours.get((name, port), [])}
        spoken |= dict.fromkeys(rip.neighbours.get((name, port), []) if rip else [], "RIP")
        rows += _answering(plan, name, port, spoken)
    return Rows(
        "neighbours",
        f"on the segments of {name}, {_count(len(rows), 'neighbour')} answer",
        ("interface", "address", "who", "more"),
        tuple(rows),
    )


def _answering(plan: Plan, name: str, port: str, spoken: Mapping[Port, str]) -> Iterator[tuple[str, ...]]:
    """The others on an interface's segment, an address a row."""
    domain = plan.domains.of(name, port)
    if domain is None:
        return
    for address, answers in sorted(domain.owners.items()):
        twice = ["DUPLICATE: two answer for it"] if len(answers) > 1 else []
        for answer in answers:
            other = (answer.device, answer.interface)
            if other != (name, port) and _written(plan, answer, address):
                said = [spoken[other], *twice] if other in spoken else twice
                yield port, str(address), "/".join(other), ", ".join(said) or "-"
    others = [proxy for proxy in domain.proxies if proxy[0] != name]
    yield from ((port, "(further addresses)", "/".join(other), "answers for others") for other in others)


def _written(plan: Plan, answer: Answer, address: Address) -> bool:
    """False for a link-local address that an interface has without anybody having written it."""
    if not (address.family == 6 and address.is_link_local):
        return True
    interface = plan.network.devices[answer.device].interfaces[answer.interface]
    return any(a.address == address for a in interface.addresses)


def settings(plan: Plan, name: str) -> Rows:
    """Every named default with the value in force, where it comes from, and why it is so."""
    device = plan.network.devices[name]
    rows = []
    written = 0
    for setting in SETTINGS.values():
        value, mark = device.settings.text(setting.name), device.settings.mark(setting.name)
        written += mark is not None
        rows.append((setting.name, value, str(mark) if mark else f"default of {device.kind.words}", setting.why))
    names = ", ".join(sorted(protocol_name(p) for p in device.stateful)) or "none"
    place = str(device.stateful_mark) if device.stateful_mark else f"default of {device.kind.words}"
    rows.append(("stateful", names, place, "Protocols whose answers pass because of a session; a firewall inspects tcp and udp."))
    written += device.stateful_mark is not None
    for port in (p for p in device.interfaces.values() if p.inspects is not None):
        assert port.inspects is not None
        for way, found in (("arriving", port.inspects.arriving), ("leaving", port.inspects.leaving)):
            if found:
                words = f"Protocols whose answers pass, of sessions that are opened by what is {way} by {port.name}."
                names = ", ".join(sorted(map(protocol_name, found)))
                rows.append((f"stateful at {port.name} {way}", names, str(port.inspects.mark), words))
                written += 1
    about = f"{len(rows)} settings in force at {name}, {written} of them written in the file"
    return Rows("settings", about, ("setting", "value", "from", "what it decides"), tuple(rows))


def _link_words(segment: Segment) -> list[str]:
    """What is written of a segment's cable beyond its ends: times in milliseconds, loss in percent, MTU in bytes."""
    link = segment.link
    words = [f"{link.latency_ms:g} ms"] if link.latency_ms else []
    words += [f"jitter {link.jitter_ms:g} ms"] if link.jitter_ms else []
    words += [f"loss {link.loss_percent:g} %"] if link.loss_percent else []
    words += [f"MTU {link.mtu}"] if link.mtu else []
    return words + ([segment.about] if segment.about else [])


def cables(plan: Plan) -> Rows:
    """Which port goes to which: the cabling, to be read back."""
    rows = []
    for segment in plan.network.segments.values():
        words = _link_words(segment)
        members = []
        for device, port in segment.members:
            interface = plan.network.devices[device].interfaces[port]
            state = plan.domains.link(device, port)
            shown = " ".join([f"{device}/{port}", *map(str, interface.addresses)])
            members.append(shown + ("" if state.up else f" (down: {state.why})"))
        rows.append((segment.name, "cut" if segment.down else "up", "\n".join(members), ", ".join(words) or "-"))
    about = f"{_count(len(rows), 'segment')} join{'s' * (len(rows) == 1)} {_count(len(plan.network.devices), 'device')}"
    return Rows("cables", about, ("segment", "state", "who is on it", "more"), tuple(rows))


def order(plan: Plan, name: str) -> Rows:
    """The stages of a packet that arrives, and of one that the device makes, in their order."""
    here = plan.device(name)
    rows = []
    for stage in dict.fromkeys((*here.through, *here.origin)):
        places = [str(some.index(stage) + 1) if stage in some else "-" for some in (here.through, here.origin)]
        rows.append((*places, stage.value, SPECS[stage].meaning))
    mark = here.device.order_mark
    about = f"order of stages at {name}, {'written at ' + str(mark) if mark else 'the built-in one'}"
    return Rows("order", about, ("arriving", "own", "stage", "what happens"), tuple(rows))


def rules(plan: Plan, name: str) -> list[Rows]:
    """Translation rules and policy routes, in the order in which they are asked; nothing where there are none."""
    device = plan.network.devices[name]
    out = []
    if device.translate:
        rows = [
            (t.id, _condition_words(as_rule(t)) + (" (IPv6)" if t.family == 6 else ""), _becomes(t), str(t.mark))
            for t in device.translate
        ]
        about = f"{_count(len(rows), 'translation rule')} of {name}, of each kind the first match decides"
        marks = tuple(t.mark for t in device.translate)
        out.append(Rows("translate", about, ("id", "packets", "what they get", "from"), tuple(rows), (), marks))
    if device.policy_routes:
        entries = [(e.id, _entry_words(e), "\n".join(map(candidate, e.candidates)), str(e.mark)) for e in device.policy_routes]
        about = f"{_count(len(entries), 'policy route')} of {name}, asked before the route table"
        marks = tuple(e.rule.mark for e in device.policy_routes)
        out.append(Rows("policy-routes", about, ("id", "packets", "candidates in order", "from"), tuple(entries), (), marks))
    return out


def _becomes(entry: Translate) -> str:
    """What a translation rule makes of an address."""
    off = "disabled: " if entry.disabled else ""
    source = {
        Becomes.INTERFACE: "source becomes the leaving interface's address",
        Becomes.POOL: f"source becomes {_spans(entry.outer)}, with a port of its own",
        Becomes.PAIR: f"source becomes {_spans(entry.outer)}, and back: a fixed pair",
        Becomes.EXEMPT: "source stays as it is",
    }
    if entry.of_source:
        return off + source[entry.becomes or Becomes.INTERFACE]
    if entry.exempt:
        return f"{off}destination stays as it is"
    goal = "the device itself" if entry.redirects else " or ".join(map(str, entry.servers or (entry.goes_to,)))
    port = f", port {entry.to_port}{' and on' if entry.to_range else ''}" if entry.to_port is not None else ""
    also = f"; {source[entry.becomes]}" if entry.becomes is not None else ""
    return f"{off}destination becomes {goal}{port}{also}"


def _spans(spans: Spans) -> str:
    """Addresses in words: one, or the first and last of each run."""
    ends = [(from_key(s.first), from_key(s.last)) for s in spans]
    return ", ".join(str(a) if a == b else f"one of {a} to {b}" for a, b in ends)


def _entry_words(entry: PolicyRoute) -> str:
    """The packets that a policy route is about, and its candidates in order."""
    words = _condition_words(entry.rule)
    listed = [f"list {entry.classifier} permits"] if entry.classifier else []
    return ", ".join([*(["disabled"] if entry.disabled else []), *([words] if words != "every packet" else []), *listed]) or words


def _condition_words(rule: Rule) -> str:
    """What a row wants, in the order in which a reader checks it."""
    parts = []
    for condition in conditions_of(rule, Reader()):
        names = [protocol_name(int(w)) if condition.key == "protocol" else w for w in condition.wants]
        parts.append(f"{condition.key} {', '.join(names)}".rstrip())
    return "; ".join(parts) or "every packet"


def lists(plan: Plan, name: str, built_in: bool = False) -> list[Rows]:
    """What is examined for each interface, direction and crossing, in its order; and the rules of the lists that stand there.

    Args:
        plan: the network.
        name: of the device.
        built_in: show the device's own rules too.

    """
    here = plan.device(name)
    gates = here.device.gates
    rows: list[tuple[str, ...]] = []
    if gates.everywhere and not gates.everywhere_on:
        rows.append(("everywhere", "\n".join(gates.everywhere), "switched off: none of these is asked"))
    rows += _place_rows(here)
    about = f"what is examined at {name}, in this order; the first rule that matches decides"
    out = [Rows("lists", about, ("where", "lists in order", "when no rule decides"), tuple(rows))]
    tables = here.tables()
    out += [_list_rows(t, plan.network.lists[i.name].rules) for i, t in tables.items() if i.kind is TableKind.LIST]
    kinds = (TableKind.OFFERS, TableKind.BUILT_IN) if built_in else (TableKind.OFFERS,)
    return [*out, *(_table_rows(t) for i, t in tables.items() if t.rows and i.kind in kinds)]


def _end(otherwise: Otherwise) -> str:
    """What a place does when no rule decides, in a few words."""
    if otherwise.decision is None:
        return f"{otherwise.id}: passes" if otherwise.id else "passes"
    did = otherwise.decision.did
    return f"{otherwise.id}: {'passes' if did is Did.PERMITTED else did.value if did else 'passes'}"


def _consults(place: Place) -> str:
    """The lists of a place, one below the other; those of profiles with the profile's name."""
    lines = [c.table.name for c in place.consults if c.table.id.kind is not TableKind.BUILT_IN]
    for variant in place.variants:
        lines.append(f"profile {variant.name}: {', '.join(c.table.name for c in variant.consults)}")
    return "\n".join(lines) or "not set"


def _place_rows(here: DevicePlan) -> Iterator[tuple[str, ...]]:
    """What stands at each place of a device; pairs of zones alike are told once, and profiles with the place that they are of."""
    told: set[tuple[str, ...]] = set()
    for standing in every_place(here):
        outside = standing.where is Where.ARRIVING and here.is_outside(standing.came[0])
        row = (standing.words + " (outside)" * outside, _consults(standing.place), _placed_end(here, standing))
        if standing.where is not Where.PROFILE and row not in told:
            told.add(row)
            yield row


def _placed_end(here: DevicePlan, standing: KnownPlace) -> str:
    """What a place does when no rule decides; before the device itself, and what it says, a setting of its own may."""
    settings = {Where.TO_SELF: here.settings.to_self, Where.FROM_SELF: here.settings.from_self}
    if standing.where in settings and standing.place.silent:
        return f"{standing.where}: {'passes' if settings[standing.where] else 'dropped'}"
    return _end(standing.place.otherwise)


def _list_rows(table: Table, rules: Sequence[Rule]) -> Rows:
    """A list's rules as they are asked."""
    rows = tuple((r.id, _verdict(r), _condition_words(r), r.about or "-", str(r.mark)) for r in rules)
    count = _count(len(rules), "rule")
    about = f"list {table.name}, {count}" + (f": {table.about}" if table.about else "")
    marks = tuple(r.mark for r in rules)
    return Rows(f"list {table.name}", about.rstrip("."), ("id", "verdict", "packets", "what for", "from"), rows, (), marks)


def _verdict(rule: Rule) -> str:
    """A rule's verdict with its switches."""
    words = rule.verdict.value + (f" ({rule.answer})" if rule.answer else "")
    return ("disabled " if rule.disabled else "") + words + (f", log {rule.log}" if rule.log else "")


def _table_rows(table: Table) -> Rows:
    """Offers, or built-in rules."""
    rows = []
    for row in table.rows:
        words = "; ".join(f"{c.key} {', '.join(c.wants)}".rstrip() for c in row.conditions) or "everything else"
        words = "whatever else is asked" if row.id == "not-offered" else words
        state = "off" if row.disabled else row.verdict.value if row.verdict else "applies"
        rows.append((row.id, state, words, row.about or "-", str(row.mark) if row.mark.line else "built in"))
    marks = tuple(row.mark for row in table.rows)
    return Rows(str(table.id), table.name, ("id", "verdict", "packets", "what for", "from"), tuple(rows), (), marks)


MOST_RULES, MOST_ROUTES = 12, 15
"""So many rows of a list, or of routes, are in the overview of a device; the part by itself has them all."""
_OWN = ("connected", "local")


def overview(plan: Plan, name: str, file: str) -> list[Rows]:
    """What a device knows on two screens: what goes without saying is summed up, with the command that shows it."""
    device = plan.network.devices[name]
    out = [interfaces(plan, name)]
    if not device.layer3:
        return out
    more = f"mossy tables {file} {name}"
    for table in plan.routing.table_names(name):
        out.append(_fewer(routes(plan, name, table), MOST_ROUTES, f"{more} routes", lambda row: row[1] not in _OWN))
    out.append(neighbours(plan, name))
    places, *held = lists(plan, name)
    about = f"what is examined at {name}, places without a list last; the first rule that matches decides"
    out.append(places._replace(rows=tuple(_alike(places.rows)), about=about))
    out += [_fewer(rows, MOST_RULES, f"{more} lists") for rows in held]
    out += rules(plan, name)
    return [*out, *_settings_in_short(plan, name, more)]


def _fewer(rows: Rows, most: int, more: str, worth: Callable[[tuple[str, ...]], bool] = lambda row: True) -> Rows:
    """A table with what is worth telling of it, up to a number of rows; what is left out is said."""
    shown = tuple(row for row in rows.rows if worth(row))[:most]
    left = len(rows.rows) - len(shown)
    return rows._replace(rows=shown, about=f"{rows.about}; {left} more in '{more}'") if left else rows


def _alike(rows: Iterable[tuple[str, ...]]) -> Iterator[tuple[str, ...]]:
    """Places without a list that do the same, in one row; the others as they are, before them."""
    silent: dict[tuple[str, ...], list[str]] = {}
    for where, listed, end in rows:
        if listed == "not set":
            silent.setdefault((listed, end), []).append(where)
        else:
            yield where, listed, end
    for rest, places in silent.items():
        yield (", ".join(places), *rest)


def _settings_in_short(plan: Plan, name: str, more: str) -> list[Rows]:
    """The settings that are written, the others as name and value in a sentence, and the order of stages as one."""
    found, here = settings(plan, name), plan.device(name)
    written = tuple(row for row in found.rows if not row[2].startswith("default"))
    rest = ", ".join(f"{row[0]} {row[1]}" for row in found.rows if row[2].startswith("default"))
    stages = " > ".join(stage.value for stage in here.through)
    return [
        Rows("settings", f"{_count(len(written), 'setting')} of {name} written in the file", found.headings, written),
        Rows("defaults", f"at their default, with the reasons in '{more} settings': {rest}", ("", ""), ()),
        Rows("order", f"stages of a packet that arrives, in their order: {stages}", ("", ""), ()),
    ]


_WHY_NOT = {
    "idle.disabled": "disabled",
    "idle.unattached": "attached nowhere",
    "idle.no-stage": "its stage is left out",
    "rule.never": "no packet meets all of it",
    "rule.shadowed": "rows above take all",
    "policy.shadowed": "rows above take all",
    "translate.shadowed": "rows above take all",
    "rule.source-nowhere": "nobody has its source",
    "policy.source-nowhere": "nobody has its source",
    "translate.source-nowhere": "nobody has its source",
    "policy.never-arrives": "none arrives there",
    "translate.never-arrives": "none arrives there",
    "route.inactive": "it waits for what is not there",
}
"""Why nothing meets a row, by the code of the finding that says so; all others are found by following packets."""


def with_met(made: Rows, met: Mapping[Mark, bool | None], never: Mapping[Mark, str]) -> Rows:
    """A table with a column that says of each written row whether any packet meets it.

    Args:
        made: the table; one of rows that are not looked for stays as it is.
        met: whether packets meet what is written at a place; None where that is not known.
        never: the codes of findings that nothing meets something, by its place.

    """
    words = [_met(mark, met, never) for mark in made.marks]
    if not any(words):
        return made
    rows = tuple((*row[:-1], word or "-", row[-1]) for row, word in zip(made.rows, words, strict=True))
    return made._replace(headings=(*made.headings[:-1], "met by packets", made.headings[-1]), rows=rows)


def _met(mark: Mark | None, met: Mapping[Mark, bool | None], never: Mapping[Mark, str]) -> str:
    """Whether what is written at a place is met, in a few words; nothing for what was not looked for."""
    if mark is None:
        return ""
    if mark in never:
        return f"no: {_WHY_NOT.get(never[mark], 'none comes to it')}"
    return {True: "yes", False: "no: none comes to it", None: "not known"}[met[mark]] if mark in met else ""


PARTS = ("interfaces", "routes", "neighbours", "lists", "rules", "settings")


def of_device(plan: Plan, name: str, parts: tuple[str, ...] = PARTS, built_in: bool = False) -> list[Rows]:
    """The tables of a device that were asked for, in a fixed order. A switch has interfaces alone."""
    out = [interfaces(plan, name)] if "interfaces" in parts else []
    if not plan.network.devices[name].layer3:
        return out
    if "routes" in parts:
        out += [routes(plan, name, table) for table in plan.routing.table_names(name)]
    if "neighbours" in parts:
        out.append(neighbours(plan, name))
    if "lists" in parts:
        out += lists(plan, name, built_in)
    if "rules" in parts:
        out += rules(plan, name)
    if "settings" in parts:
        out += [settings(plan, name), order(plan, name)]
    return out
