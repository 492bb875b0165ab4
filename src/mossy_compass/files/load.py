"""From a network file, or the same data built in Python, to the frozen model; every fault in one pass."""

from __future__ import annotations

import types
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Annotated, Any, Union, get_args, get_origin

from pydantic import ValidationError

from mossy_compass.errors import AddressError, NetworkFileError, QuestionError
from mossy_compass.files.schema import DeviceIn, InterfaceIn, NetworkIn, Part, RuleIn
from mossy_compass.files.tree import Node, decode, read_tree
from mossy_compass.headers.spans import complement, merge
from mossy_compass.marks import Hint, Mark, Problem, Problems, Severity, hint
from mossy_compass.model.check import check_network
from mossy_compass.model.network import (
    AccessList,
    Device,
    FarHost,
    Group,
    Interface,
    Kind,
    LeasePool,
    Link,
    Network,
    OspfPort,
    OspfProcess,
    PortState,
    RipProcess,
    RouteAction,
    Rule,
    Segment,
    Serves,
    ServiceGroup,
    StaticRoute,
    Term,
    Translate,
    Verdict,
)
from mossy_compass.model.settings import SETTINGS
from mossy_compass.packet.address import EVERYTHING, PRIVATE_SPANS, Address, Prefix, Span, Spans, from_key, parse_block
from mossy_compass.packet.service import (
    BUILT_IN_SERVICES,
    ICMP,
    ICMP6,
    TCP,
    UDP,
    WITH_PORTS,
    Service,
    parse_icmp,
    parse_protocol,
    parse_service,
    protocol_name,
)

MOST_NESTED = 16
"""Groups within groups: so deep nobody means it, and what walks them is bounded."""
BUILT_IN_GROUPS = ("any", "self", "local-networks", "outside")


@dataclass(frozen=True)
class Reading:
    """What came of reading a network description.

    Attributes:
        network: the model; None when there is an error.
        problems: every finding, errors and warnings, by place.
        lines: the lines of each file, to show a finding's place.

    """

    network: Network | None
    problems: tuple[Problem, ...]
    lines: Mapping[str, list[str]] = field(default_factory=dict)

    @property
    def errors(self) -> tuple[Problem, ...]:
        """The findings that refuse the network."""
        return tuple(p for p in self.problems if p.severity == "error")


def read_file(path: str | Path) -> Reading:
    """Read a network file and check it.

    Args:
        path: the file. Marks cite it by its name as given.

    Raises:
        QuestionError: the file cannot be opened.

    """
    place = Path(path)
    try:
        with place.open("rb") as stream:
            data = stream.read(64 * 1024 * 1024)
    except OSError as fault:
        reason = fault.strerror or str(fault)
        raise QuestionError(
            f"{path}: cannot be read: {reason.lower()}. Check the name; 'mossy new FILE' writes a network to start from."
        ) from None
    except ValueError as fault:
        raise QuestionError(f"{path!r}: cannot be read: {fault}.") from None
    return read_bytes(data, str(path))


def read_bytes(data: bytes, name: str) -> Reading:
    """Read the bytes of a network file and check the network; ``name`` is what marks cite."""
    problems = Problems()
    try:
        tree = read_tree(decode(data, name), name, problems)
    except NetworkFileError as fault:
        return Reading(None, (*problems.in_order(), *fault.problems))
    return read_node(tree, problems)


def read_node(tree: Node, problems: Problems) -> Reading:
    """Validate and resolve a tree, whatever it was made from."""
    live = tree.copy()
    hurt: list[Node] = []
    document = _validate(tree, live, problems, hurt)
    whole = not problems.errors  # what was cut out would be missed by its neighbours, and they would be blamed
    network = _Resolver(document, live, tree, problems, hurt).network() if document is not None else None
    if network is not None and whole:
        check_network(network, problems)
    if problems.errors:
        network = None
    return Reading(network, tuple(problems.in_order()), problems.lines)


def load(path: str | Path) -> Network:
    """Read a network file.

    Raises:
        NetworkFileError: it has faults; ``problems`` holds all of them.
        QuestionError: it cannot be opened.

    """
    reading = read_file(path)
    if reading.network is None:
        raise NetworkFileError(reading.errors)
    return reading.network


# --- shape -------------------------------------------------------------------------------------------------

_WANTED = {
    "string_type": "one plain value is wanted here, not a list or a mapping.",
    "list_type": "a list is wanted here, like [a, b].",
    "dict_type": "a mapping is wanted here: names, each with ':' and a value.",
    "model_type": "a mapping is wanted here: keys, each with ':' and a value.",
    "model_attributes_type": "a mapping is wanted here: keys, each with ':' and a value.",
}


def _strip(annotation: Any) -> Iterable[Any]:
    origin = get_origin(annotation)
    if origin is Annotated:
        yield from _strip(get_args(annotation)[0])
    elif origin in (Union, types.UnionType):
        for part in get_args(annotation):
            yield from _strip(part)
    else:
        yield annotation


def _descend(annotation: Any, step: str | int) -> Any:
    for part in _strip(annotation):
        if isinstance(part, type) and issubclass(part, Part):
            for field in part.model_fields.values():
                if field.alias == step:
                    return field.annotation
        elif get_origin(part) is dict:
            return get_args(part)[1]
        elif get_origin(part) is list:
            return get_args(part)[0]
    return None


def _part_at(loc: Iterable[str | int]) -> type[Part] | None:
    annotation: Any = NetworkIn
    for step in loc:
        annotation = _descend(annotation, step)
    return next((p for p in _strip(annotation) if isinstance(p, type) and issubclass(p, Part)), None)


def _real_path(data: Any, loc: Iterable[str | int]) -> list[str | int]:
    path: list[str | int] = []
    for step in loc:
        if isinstance(data, list) and isinstance(step, int) and step < len(data):
            data = data[step]
        elif isinstance(data, dict) and step in data:
            data = data[step]
        else:
            continue
        path.append(step)
    return path


def _called(part: type[Part] | None) -> str:
    return (part.__doc__ or "part").strip().split("\n")[0].split(".")[0].lower() if part else "mapping"


def _say(error: Any, data: Any, path: list[str | int]) -> tuple[str, str, str | Hint]:
    kind, loc = error["type"], error["loc"]
    if kind == "extra_forbidden":
        part = _part_at(loc[:-1])
        keys = [f.alias or n for n, f in part.model_fields.items()] if part else []
        return "key.unknown", f"'{loc[-1]}' is not a key of {_called(part)}.", hint(str(loc[-1]), keys, "keys")
    if kind == "missing":
        part = _part_at(loc[:-1])
        return "key.missing", f"'{loc[-1]}' is missing from {_called(part)}.", f"Add {loc[-1]}: to it."
    if kind == "literal_error":
        allowed = [w.strip("'") for w in error["ctx"]["expected"].replace(" or ", ", ").split(", ")]
        return (
            "value.wrong",
            f"'{error['input']}' is none of {', '.join(allowed)}.",
            hint(str(error["input"]), allowed) if isinstance(error["input"], str) else "",
        )
    if kind == "ours":
        return "value.wrong", error["ctx"]["message"], ""
    if kind in _WANTED:
        return "value.wrong", _WANTED[kind], ""
    if kind == "string_pattern_mismatch":
        return ("value.wrong", f"'{error['input']}' is not a name or number of at most 32 letters, digits, '.', '_' and '-'.", "")
    return "value.wrong", error["msg"][:1].lower() + error["msg"][1:] + ".", ""


def _remove(data: Any, path: list[Any]) -> None:
    for step in path[:-1]:
        data = data[step]
    del data[path[-1]]


def _validate(tree: Node, live: Node, problems: Problems, hurt: list[Node]) -> NetworkIn | None:
    """The document by its schema. What is faulty is reported, cut out (of ``live`` too), and the rest tried again.

    What something was cut out of is noted in ``hurt``: what it now lacks is not its author's fault.
    """
    data = tree.plain()
    if not isinstance(data, dict):
        problems.add(
            "file.shape", tree.mark, "this is not a network file: a mapping is wanted.", "It begins with 'mossy-network: 1'."
        )
        return None
    if "mossy-network" not in data:
        problems.add("key.missing", tree.mark, "'mossy-network' is missing.", "A network file begins with 'mossy-network: 1'.")
        data["mossy-network"] = "1"
    elif data["mossy-network"] != "1":
        problems.add(
            "file.version",
            tree.at("mossy-network").mark,
            f"version '{data['mossy-network']}' is not known.",
            "This release reads version 1.",
        )
        data["mossy-network"] = "1"
    if "devices" not in data:
        problems.add(
            "key.missing",
            tree.mark,
            "'devices' is missing: there is no device in this network.",
            "Add devices: with at least one device.",
        )
        data["devices"] = {}
    wounds: set[int] = set()
    for _ in range(12):
        try:
            return NetworkIn.model_validate(data)
        except ValidationError as fault:
            cut: dict[tuple[str | int, ...], list[str | int]] = {}
            for error in fault.errors(include_url=False):
                path = _real_path(data, error["loc"])
                if error["type"] == "missing":
                    path = _real_path(data, error["loc"][:-1])
                node = live.at(*path)
                code, message, remedy = _say(error, data, path)
                at_key = error["type"] in ("extra_forbidden", "missing") or "[key]" in error["loc"]
                if id(node) not in wounds:
                    problems.add(code, (node.key if at_key and node.key else node.mark), message, remedy)
                cut[tuple(path)] = path
            if () in cut or problems.full:
                return None
            for path in sorted(cut.values(), key=lambda p: [(str(type(s)), s) for s in p], reverse=True):
                if not any(tuple(path[:n]) in cut for n in range(1, len(path))):
                    fresh = [live.at(*path[:n]) for n in range(2, len(path))]
                    hurt += fresh
                    wounds |= {id(node) for node in fresh}
                    _remove(data, path)
                    live.at(*path[:-1]).cut(path[-1])
    return None


# --- meaning -----------------------------------------------------------------------------------------------


class _Resolver:
    """Turns a document of the right shape into the model: names into what they stand for."""

    def __init__(self, document: NetworkIn, live: Node, tree: Node, problems: Problems, hurt: Iterable[Node]) -> None:
        self.doc = document
        wounds = {id(h) for h in hurt}
        self.hurt = {n for n in document.devices if id(live.at("devices", n)) in wounds}
        self.tree = live
        self.problems = problems
        self.raw: Any = tree.plain()
        self.terms: dict[str, Term] = {}
        self._services: dict[str, tuple[Service, ...]] = {}
        self._written: dict[tuple[str, ...], set[str]] = {}
        self._far_terms = {n: h for d in document.devices.values() for n, h in d.hosts.items()}
        self.far: set[str] = set(document.devices)
        self.local: Spans = merge(s for b in document.local for s in b.spans) if document.local else PRIVATE_SPANS

    def written(self, *path: str) -> set[str]:
        """Names that are written under a path, faulty ones too, so that one fault is not reported twice."""
        if path not in self._written:
            self._written[path] = self._keys(*path)
        return self._written[path]

    def _keys(self, *path: str) -> set[str]:
        data = self.raw
        for step in path:
            data = data.get(step, {}) if isinstance(data, dict) else {}
        return {str(k) for k in data} if isinstance(data, dict) else set()

    def mark(self, *path: str | int) -> Mark:
        node = self.tree.at(*path)
        return node.key or node.mark

    def spot(self, *path: str | int) -> Mark:
        return self.tree.at(*path).mark

    # names

    def services(self, words: Iterable[str], path: tuple[str | int, ...], seen: tuple[str, ...] = ()) -> tuple[Service, ...]:
        found = [s for i, w in enumerate(words) for s in self.service(w, self.spot(*path, i), seen)]
        return tuple(dict.fromkeys(found))

    def service(self, word: str, mark: Mark, seen: tuple[str, ...] = ()) -> tuple[Service, ...]:
        """What one word of a service condition stands for."""
        if word in self._services:
            return self._services[word]
        if word in self.doc.services:
            if word in seen:
                self.problems.add("service.circle", mark, f"service '{word}' contains itself.", "Remove it from its own members.")
            elif len(seen) == MOST_NESTED:
                self.too_deep("service", mark)
            else:
                members = self.doc.services[word].members
                self._services[word] = self.services(members, ("services", word, "members"), (*seen, word))
                return self._services[word]
        elif word in BUILT_IN_SERVICES:
            return BUILT_IN_SERVICES[word]
        elif word not in self.written("services"):
            try:
                return (parse_service(word),)
            except AddressError as fault:
                if "/" in word or word.isdigit():
                    self.problems.add("value.wrong", mark, str(fault), "A service is protocol/port, like tcp/443, or a name.")
                else:
                    known = hint(word, lambda: self.written("services") | set(BUILT_IN_SERVICES), "services")
                    self.problems.add("service.unknown", mark, f"there is no service '{word}'.", known)
        return ()

    def too_deep(self, kind: str, mark: Mark) -> None:
        """Complain of groups within groups within groups."""
        words = f"this {kind} is nested more than {MOST_NESTED} deep."
        self.problems.add("group.too-deep", mark, words, f"Name the members of the {kind}s straight.")

    def term(self, word: str, mark: Mark, seen: tuple[str, ...] = ()) -> Term | None:
        """What one word of an address condition stands for."""
        if word == "any":
            return Term("any", EVERYTHING)
        if word == "self":
            return Term("self", None)
        if word == "local-networks":
            return Term(word, self.local)
        if word == "outside":
            return Term(word, complement(self.local))
        if word in self.terms:
            return self.terms[word]
        if word in self.doc.groups:
            if word in seen:
                self.problems.add("group.circle", mark, f"group '{word}' contains itself.", "Remove it from its own members.")
                return None
            if len(seen) == MOST_NESTED:
                self.too_deep("group", mark)
                return None
            members = []
            for index, member in enumerate(self.doc.groups[word].members):
                found = self.term(member, self.spot("groups", word, "members", index), (*seen, word))
                if found is not None and found.spans is None:
                    self.problems.add(
                        "group.self",
                        self.spot("groups", word, "members", index),
                        "self cannot be a member of a group: it means another device in each list.",
                        "Name it in the rule.",
                    )
                elif found is not None:
                    members.append(found)
            made = Term(word, merge(s for m in members for s in m.spans or ()), tuple(members))
            self.terms[word] = made
            return made
        if word in self.doc.names:
            return Term(word, merge(Span(a.key, a.key) for a in self.doc.names[word]))
        if word in self._far_terms:
            return Term(word, merge(Span(a.key, a.key) for a in self._far_terms[word].address))
        if word in self.doc.devices:
            spans = merge(Span(a.key, a.key) for a in self.addresses_of(word))
            if word in self.hurt and not spans:
                return None
            asked = self.doc.devices[word]
            if asked.leased or any(i.leased for i in asked.interfaces.values()):
                return Term(word, spans, (), word)
            if not spans:
                self.problems.add(
                    "device.no-address",
                    mark,
                    f"device '{word}' has no address to compare with.",
                    "Give it one, or name an address.",
                )
                return None
            return Term(word, spans)
        if any(word in self.written(section) for section in ("groups", "names", "devices")):
            return None
        try:
            block = parse_block(word)
        except AddressError as fault:
            if (word[0].isdigit() and not any(c.isalpha() for c in word)) or ":" in word:
                self.problems.add("value.wrong", mark, str(fault), "")
            else:
                sections = ("groups", "names", "devices")
                known = hint(word, lambda: set(BUILT_IN_GROUPS).union(*map(self.written, sections)), "names")
                self.problems.add("name.unknown", mark, f"'{word}' is no group, device, name or address.", known)
            return None
        return Term(block.text, block.spans)

    def addresses_of(self, name: str) -> list[Address]:
        device = self.doc.devices[name]
        found = [a.address for a in device.address or []]
        return found + [a.address for i in device.interfaces.values() for a in i.address]

    def term_list(self, words: Iterable[str] | None, path: tuple[str | int, ...]) -> tuple[Term, ...] | None:
        if words is None:
            return None
        found = (self.term(w, self.spot(*path, i)) for i, w in enumerate(words))
        return tuple(t for t in found if t is not None)

    # parts

    def network(self) -> Network:
        doc = self.doc
        groups = {n: self.group(n) for n in doc.groups}
        services = {
            n: ServiceGroup(n, self.services(s.members, ("services", n, "members")), self.mark("services", n), s.about)
            for n, s in doc.services.items()
        }
        for name in doc.services:
            if name in BUILT_IN_SERVICES:
                self.problems.add(
                    "service.built-in",
                    self.mark("services", name),
                    f"'{name}' is the name of a well-known service ({', '.join(map(str, BUILT_IN_SERVICES[name]))}); here it would mean something else.",
                    "Choose another name.",
                )
        for name in doc.groups:
            if name in BUILT_IN_GROUPS:
                self.problems.add(
                    "group.built-in", self.mark("groups", name), f"'{name}' is a built-in group.", "Choose another name."
                )
            for section, things in (("devices", doc.devices), ("names", doc.names)):
                if name in things:
                    self.problems.add(
                        "name.twice",
                        self.mark("groups", name),
                        f"'{name}' is also one of the {section}; a rule that says it would be read two ways.",
                        "Choose another name.",
                        also=((self.mark(section, name), "the other one"),),
                    )
        lists = {n: AccessList(n, tuple(self.rules(n)), self.mark("lists", n), entry.about) for n, entry in doc.lists.items()}
        devices = {n: self.device(n, d) for n, d in doc.devices.items()}
        segments = self.segments(devices)
        return Network(
            doc.title,
            self.tree.mark,
            devices,
            segments,
            lists,
            groups,
            services,
            {n: tuple(a) for n, a in doc.names.items()},
            self.local,
            doc.about,
        )

    def group(self, name: str) -> Group:
        term = self.term(name, self.mark("groups", name))
        entry = self.doc.groups[name]
        if not entry.members:
            self.problems.add(
                "group.empty",
                self.mark("groups", name),
                f"group '{name}' has no member; a rule that names it matches nothing.",
                "Give it members.",
            )
        return Group(name, term.members if term else (), self.mark("groups", name), entry.about)

    def rules(self, name: str) -> Iterable[Rule]:
        seen: dict[str, Mark] = {}
        number = 0
        for index, rule in enumerate(self.doc.lists[name].rules):
            path: tuple[str | int, ...] = ("lists", name, "rules", index)
            mark = self.spot(*path)
            if rule.id is None:
                number = (number // 10 + 1) * 10
                ident = str(number)
            else:
                ident = rule.id
                number = int(ident) if ident.isdigit() else number
            if ident in seen:
                self.problems.add(
                    "rule.twice",
                    mark,
                    f"list '{name}' has two rules {ident}; the first is at line {seen[ident].line}.",
                    "Give one another id.",
                )
            seen[ident] = mark
            yield self.rule(name, ident, rule, path, mark)

    def rule(self, name: str, ident: str, rule: RuleIn, path: tuple[str | int, ...], mark: Mark) -> Rule:
        protocol = rule.protocol
        services: tuple[Service, ...] | None = None
        words = ""
        verdict_mark = self.spot(*path, rule.verdict)
        if rule.service:
            words = ", ".join(rule.service)
            services = self.services(rule.service, (*path, "service"))
            if protocol is not None and services:
                fitting = tuple(s for s in services if s.protocol == protocol)
                if not fitting:
                    is_a = ", ".join(sorted({protocol_name(s.protocol) for s in services}))
                    self.problems.add(
                        "rule.service",
                        self.spot(*path, "service"),
                        f"service {words} is {is_a}, but the rule is for {protocol_name(protocol)}: it could never match.",
                        f"Write {rule.verdict}: {is_a.split(', ')[0]}, or {rule.verdict}: any.",
                        also=((verdict_mark, "the rule's protocol"),),
                    )
                services = fitting
        elif rule.to_port:
            words = ", ".join(f"{s.first}" if s.first == s.last else f"{s.first}-{s.last}" for s in rule.to_port)
            if protocol is None:
                services = tuple(Service(p, s) for p in (TCP, UDP) for s in rule.to_port)
            else:
                services = tuple(Service(protocol, s) for s in rule.to_port)
        if (rule.to_port or rule.from_port) and protocol is not None and protocol not in WITH_PORTS:
            self.problems.add(
                "rule.port", verdict_mark, f"{protocol_name(protocol)} has no ports.", "Use tcp or udp, or leave the ports out."
            )
        if rule.icmp:
            if protocol not in (ICMP, ICMP6):
                self.problems.add(
                    "rule.icmp",
                    self.spot(*path, "icmp"),
                    f"icmp: needs a rule of icmp or icmp6, not of {protocol_name(protocol) if protocol is not None else 'any'}.",
                    f"Write {rule.verdict}: icmp.",
                )
            else:
                found = []
                for index, word in enumerate(rule.icmp):
                    try:
                        found.append(Service(protocol, parse_icmp(word, protocol)))
                    except AddressError as fault:
                        self.problems.add("value.wrong", self.spot(*path, "icmp", index), str(fault))
                services, words = tuple(found), ", ".join(rule.icmp)
        return Rule(
            id=ident,
            verdict=Verdict(rule.verdict),
            mark=mark,
            protocol=protocol,
            sources=self.term_list(rule.from_, (*path, "from")),
            destinations=self.term_list(rule.to, (*path, "to")),
            from_ports=tuple(rule.from_port) if rule.from_port else None,
            services=services,
            service_words=words,
            opening=rule.opening,
            arriving=tuple(rule.arriving) if rule.arriving else None,
            leaving=tuple(rule.leaving) if rule.leaving else None,
            disabled=rule.disabled,
            log=rule.log,
            about=rule.about,
        )

    def device(self, name: str, device: DeviceIn) -> Device:
        base = ("devices", name)
        kind = Kind(device.kind)
        interfaces = {n: self.interface(name, n, i, device) for n, i in device.interfaces.items()}
        for index, port in enumerate(device.ports):
            interfaces.setdefault(port, Interface(port, self.spot(*base, "ports", index)))
        if device.ports and kind is not Kind.SWITCH:
            self.problems.add(
                "device.kind", self.mark(*base, "ports"), f"ports: is for a switch; a {kind} has interfaces.", "Write interfaces:."
            )
        routes: list[StaticRoute] = []
        if device.address is not None or device.leased:
            mark = self.mark(*base, "address" if device.address is not None else "leased")
            if kind is not Kind.HOST:
                self.problems.add(
                    "device.kind",
                    mark,
                    f"a {kind} has interfaces, and each has its address.",
                    "Write interfaces: {NAME: ADDRESS/LENGTH}.",
                )
            elif interfaces:
                self.problems.add("device.kind", mark, "a host has either address: or interfaces:, not both.", "Remove one.")
            interfaces.setdefault("nic", Interface("nic", mark, tuple(device.address or ()), leased=device.leased))
        for index, address in enumerate(device.gateway or []):
            mark = self.spot(*base, "gateway", index)
            if kind is not Kind.HOST:
                self.problems.add(
                    "device.kind",
                    self.mark(*base, "gateway"),
                    f"a {kind} has routes:, not a gateway.",
                    "Write routes: [{prefix: default, next-hop: ADDRESS}].",
                )
            routes.append(StaticRoute(Prefix(address.family, 0, 0), mark, address, origin="gateway"))
        for index, route in enumerate(device.routes):
            path = (*base, "routes", index)
            mark = self.spot(*path)
            if (
                route.leaving is not None
                and route.leaving not in interfaces
                and route.leaving not in self.written(*base, "interfaces") | self.written(*base, "uplinks")
            ):
                self.problems.add(
                    "interface.unknown",
                    self.spot(*path, "leaving"),
                    f"{name} has no interface '{route.leaving}'.",
                    hint(route.leaving, {*interfaces, *device.uplinks}, "interfaces"),
                )
            if route.next_hop is not None and route.leaving in device.uplinks:
                self.problems.add(
                    "route.group",
                    mark,
                    f"a route by the group {route.leaving} has no next-hop: each member has its own.",
                    "Remove next-hop, or write a route for each member.",
                )
            if route.action != "forward" and (route.next_hop or route.leaving):
                self.problems.add(
                    "route.action",
                    mark,
                    f"a route that says {route.action} goes nowhere: its next-hop and leaving have no effect.",
                    "Remove them, or remove the action.",
                )
            if route.action == "forward" and route.next_hop is None and route.leaving is None:
                self.problems.add("route.nowhere", mark, "the route says neither next-hop nor leaving.", "Add next-hop: ADDRESS.")
            prefix = route.prefix
            if route.next_hop and route.next_hop.family != prefix.family:
                if str(self.tree.at(*path, "prefix").value) == "default":
                    prefix = Prefix(route.next_hop.family, 0, 0)
                else:
                    self.problems.add(
                        "route.family",
                        self.spot(*path, "next-hop"),
                        f"{route.next_hop} is IPv{route.next_hop.family}, the prefix {prefix} is IPv{prefix.family}.",
                        "Use a next hop of the same family.",
                    )
            routes.append(
                StaticRoute(
                    prefix,
                    mark,
                    route.next_hop,
                    route.leaving,
                    route.preference,
                    route.metric,
                    route.table,
                    RouteAction(route.action),
                    route.about,
                )
            )
        settings = self.settings(name, device)
        stateful, stateful_mark = self.stateful(name, device, kind)
        return Device(
            name=name,
            kind=kind,
            mark=self.mark(*base),
            interfaces=interfaces,
            routes=tuple(routes),
            stateful=stateful,
            stateful_mark=stateful_mark,
            translate=tuple(self.translates(name, device, interfaces)),
            serves=self.serves(device.serves, (*base, "serves")),
            settings=settings,
            about=device.about,
            zone=device.zone,
            far_hosts=self.far_hosts(name, device, kind),
            records={n: tuple(a) for n, a in device.records.items()} if device.records is not None else None,
            resolvers=tuple(device.resolvers),
            resolver_mark=self.mark(*base, "resolvers") if device.resolvers else None,
            uplinks=self.uplinks(name, device, interfaces),
            ospf=self.ospf(name, device, interfaces),
            rip=self.rip(name, device, interfaces),
            leases=tuple(self.leases(name, device, interfaces)),
        )

    def far_hosts(self, name: str, device: DeviceIn, kind: Kind) -> dict[str, FarHost]:
        if device.hosts and kind is not Kind.INTERNET:
            self.problems.add(
                "device.kind",
                self.mark("devices", name, "hosts"),
                f"hosts: is for a device of kind internet, and {name} is a {kind}.",
                "Write the hosts as devices of their own.",
            )
        out = {}
        for word, entry in device.hosts.items():
            path = ("devices", name, "hosts", word)
            mark = self.mark(*path)
            if word in self.far:
                self.problems.add("name.twice", mark, f"'{word}' is also a device, or another far host.", "Choose another name.")
            self.far.add(word)
            out[word] = FarHost(word, tuple(entry.address), self.serves(entry.serves, (*path, "serves")), mark, entry.silent)
        return out

    def uplinks(self, name: str, device: DeviceIn, interfaces: Mapping[str, Interface]) -> dict[str, tuple[str, ...]]:
        for group, members in device.uplinks.items():
            if group in interfaces:
                self.problems.add(
                    "name.twice",
                    self.mark("devices", name, "uplinks", group),
                    f"'{group}' is both a group and an interface of {name}.",
                    "Choose another name.",
                )
            for index, member in enumerate(members):
                self.known_port(name, member, self.spot("devices", name, "uplinks", group, index), interfaces)
        return {group: tuple(m for m in members if m in interfaces) for group, members in device.uplinks.items()}

    def known_port(self, device: str, port: str, mark: Mark, interfaces: Mapping[str, Interface]) -> None:
        """Complain where a device has no such interface, faulty or not."""
        if port not in interfaces and port not in self.written("devices", device, "interfaces"):
            self.problems.add(
                "interface.unknown", mark, f"{device} has no interface '{port}'.", hint(port, interfaces, "interfaces")
            )

    def ospf(self, name: str, device: DeviceIn, interfaces: Mapping[str, Interface]) -> OspfProcess | None:
        speaks = any(i.ospf for i in interfaces.values())
        if device.ospf is None:
            return OspfProcess(self.mark("devices", name), {}, {}) if speaks else None
        entry, base = device.ospf, ("devices", name, "ospf")
        areas: dict[int, str] = {}
        for word, kind in entry.areas.items():
            if not (word.isascii() and word.isdigit() and int(word) < 1 << 32):
                self.problems.add(
                    "value.wrong", self.mark(*base, "areas", word), f"'{word}' is not an area number.", "Write a number."
                )
            elif int(word) == 0 and kind != "normal":
                self.problems.add(
                    "ospf.backbone", self.mark(*base, "areas", word), "area 0 is the backbone and cannot be a stub.", "Remove it."
                )
            else:
                areas[int(word)] = kind
        if not speaks:
            self.problems.add(
                "idle.not-enabled",
                self.mark(*base),
                f"{name} has OSPF settings, but none of its interfaces speaks OSPF: they have no effect.",
                "Write ospf: AREA at an interface.",
                Severity.WARNING,
            )
        first = entry.default_route
        default = (first.type, first.metric, first.always) if first else None
        given: dict[str, tuple[int, int]] = {o: (e.type, e.metric) for o, e in entry.redistribute.items()}
        return OspfProcess(self.mark(*base), areas, given, default, entry.preference)

    def rip(self, name: str, device: DeviceIn, interfaces: Mapping[str, Interface]) -> RipProcess | None:
        speaks = any(i.rip for i in interfaces.values())
        if device.rip is None:
            return RipProcess(self.mark("devices", name), {}) if speaks else None
        if not speaks:
            self.problems.add(
                "idle.not-enabled",
                self.mark("devices", name, "rip"),
                f"{name} has RIP settings, but none of its interfaces speaks RIP: they have no effect.",
                "Write rip: active at an interface.",
                Severity.WARNING,
            )
        entry = device.rip
        given: dict[str, int] = dict(entry.redistribute.items())
        return RipProcess(self.mark("devices", name, "rip"), given, entry.default_route, entry.preference)

    def leases(self, name: str, device: DeviceIn, interfaces: Mapping[str, Interface]) -> Iterable[LeasePool]:
        for port, entry in device.leases.items():
            mark = self.mark("devices", name, "leases", port)
            self.known_port(name, port, mark, interfaces)
            if len(entry.range.spans) != 1 or port not in interfaces:
                continue
            first, last = (from_key(k) for k in entry.range.spans[0])
            bearer = next((a for a in interfaces[port].addresses if a.prefix.holds(first) and a.prefix.holds(last)), None)
            if bearer is None:
                self.problems.add(
                    "lease.range",
                    self.spot("devices", name, "leases", port, "range"),
                    f"the range {entry.range.text} is not within a subnet of {name}/{port}.",
                    "Give addresses of the interface's own subnet.",
                )
                continue
            yield LeasePool(port, first, last, entry.gateway or bearer.address, tuple(entry.resolvers), mark)

    def serves(self, words: Iterable[str], path: tuple[str | int, ...]) -> tuple[Serves, ...]:
        marked = [(word, self.spot(*path, index)) for index, word in enumerate(words)]
        return tuple(Serves(service, word, mark) for word, mark in marked for service in self.service(word, mark))

    def settings(self, name: str, device: DeviceIn) -> dict[str, tuple[str, Mark]]:
        out: dict[str, tuple[str, Mark]] = {}
        for key, value in device.settings.items():
            mark = self.mark("devices", name, "settings", key)
            if key not in SETTINGS:
                self.problems.add("setting.unknown", mark, f"there is no setting '{key}'.", hint(key, SETTINGS, "settings"))
            elif value not in SETTINGS[key].values:
                self.problems.add(
                    "value.wrong",
                    self.spot("devices", name, "settings", key),
                    f"'{value}' is not a value of {key}.",
                    hint(value, SETTINGS[key].values, "values"),
                )
            else:
                out[key] = (value, mark)
        return out

    def stateful(self, name: str, device: DeviceIn, kind: Kind) -> tuple[frozenset[int], Mark | None]:
        if device.stateful is None:
            return (frozenset((TCP, UDP)) if kind is Kind.FIREWALL else frozenset()), None
        out: set[int] = set()
        for index, word in enumerate(device.stateful):
            mark = self.spot("devices", name, "stateful", index)
            if word == "none":
                if len(device.stateful) > 1:
                    self.problems.add("value.wrong", mark, "none stands alone.", "Remove it, or remove the others.")
                continue
            try:
                protocol = parse_protocol(word)
            except AddressError as fault:
                self.problems.add("value.wrong", mark, str(fault))
                continue
            out |= {ICMP, TCP, UDP, ICMP6} if protocol is None else {protocol}
        return frozenset(out), self.mark("devices", name, "stateful")

    def vlan_faults(self, path: tuple[str, ...], name: str, entry: InterfaceIn, device: DeviceIn) -> None:
        mark = self.mark(*path)
        if entry.parent is not None:
            if entry.parent not in device.interfaces:
                self.known_port(
                    path[1], entry.parent, self.spot(*path, "parent"), {n: Interface(n, mark) for n in device.interfaces}
                )
            elif device.interfaces[entry.parent].parent is not None or entry.parent == name:
                self.problems.add(
                    "vlan.parent",
                    mark,
                    f"{entry.parent} is no physical port: a sub-interface has a port as its parent.",
                    "Name the port.",
                )
            if entry.vlan is None:
                self.problems.add("vlan.tag", mark, f"sub-interface {name} has no vlan.", "Add vlan: NUMBER.")
        if (entry.untagged is not None or entry.tagged) and (entry.address or entry.leased):
            self.problems.add(
                "vlan.member",
                mark,
                f"{name} is a member of a VLAN, so it has no address of its own.",
                f"Give the address to an interface with vlan: {entry.untagged or entry.tagged[0]}.",
            )
        if entry.loopback and (entry.parent or entry.vlan or entry.untagged or entry.tagged or entry.leased):
            self.problems.add(
                "loopback.port", mark, f"{name} is a loopback: it is on no segment and in no VLAN.", "Remove one of the two."
            )
        if device.kind == "switch" and (entry.address or entry.leased):
            self.problems.add(
                "switch.address",
                mark,
                "a switch here only bridges and has no address.",
                "Make it a router with VLAN interfaces, or leave the address out.",
            )

    def interface(self, device: str, name: str, entry: InterfaceIn, whole: DeviceIn) -> Interface:
        self.vlan_faults(("devices", device, "interfaces", name), name, entry, whole)
        path = ("devices", device, "interfaces", name)
        marks: dict[str, Mark] = {}
        for way in ("arriving", "leaving"):
            wanted = getattr(entry.filter, way)
            marks[way] = self.spot(*path, "filter", way)
            if wanted is not None and wanted not in self.doc.lists and wanted not in self.written("lists"):
                self.problems.add(
                    "list.unknown", marks[way], f"there is no list '{wanted}'.", hint(wanted, self.written("lists"), "lists")
                )
        return Interface(
            name=name,
            mark=self.mark(*path),
            addresses=tuple(entry.address),
            zone=entry.zone,
            about=entry.about,
            state=PortState(entry.state),
            mtu=entry.mtu,
            arriving_list=entry.filter.arriving,
            leaving_list=entry.filter.leaving,
            arriving_mark=marks["arriving"],
            leaving_mark=marks["leaving"],
            parent=entry.parent,
            vlan=entry.vlan,
            access_vlan=entry.untagged,
            trunk_vlans=tuple(entry.tagged),
            loopback=entry.loopback,
            answers_for=merge(s for b in entry.answers_for for s in b.spans),
            leased=entry.leased,
            ospf=OspfPort(
                entry.ospf.area,
                entry.ospf.cost,
                entry.ospf.passive,
                entry.ospf.network == "point-to-point",
                self.mark(*path, "ospf"),
            )
            if entry.ospf
            else None,
            rip=entry.rip,
        )

    def translates(self, name: str, device: DeviceIn, interfaces: Mapping[str, Interface]) -> Iterable[Translate]:
        for index, entry in enumerate(device.translate):
            path = ("devices", name, "translate", index)
            if entry.leaving not in interfaces and entry.leaving not in self.written("devices", name, "interfaces"):
                self.problems.add(
                    "interface.unknown",
                    self.spot(*path, "leaving"),
                    f"{name} has no interface '{entry.leaving}'.",
                    hint(entry.leaving, interfaces, "interfaces"),
                )
            yield Translate(
                id=entry.id or str((index + 1) * 10),
                leaving=entry.leaving,
                mark=self.spot(*path),
                sources=self.term_list(entry.source, (*path, "source")),
                destinations=self.term_list(entry.to, (*path, "to")),
                disabled=entry.disabled,
                about=entry.about,
            )

    def segments(self, devices: Mapping[str, Device]) -> dict[str, Segment]:
        taken: dict[tuple[str, str], Mark] = {}
        out: dict[str, Segment] = {}
        for name, entry in self.doc.segments.items():
            members: list[tuple[str, str]] = []
            marks: list[Mark] = []
            for index, word in enumerate(entry.members):
                mark = self.spot("segments", name, "members", index)
                member = self.member(word, mark, devices)
                if member is None:
                    continue
                if member in taken:
                    self.problems.add(
                        "segment.twice",
                        mark,
                        f"{'/'.join(member)} is already on a segment, at line {taken[member].line}.",
                        "A port has one cable; remove one of the two.",
                    )
                    continue
                taken[member] = mark
                members.append(member)
                marks.append(mark)
            out[name] = Segment(
                name,
                tuple(members),
                self.mark("segments", name),
                Link(entry.latency, entry.jitter, entry.loss, entry.mtu),
                about=entry.about,
                down=entry.state == "down",
                member_marks=tuple(marks),
            )
        return out

    def member(self, word: str, mark: Mark, devices: Mapping[str, Device]) -> tuple[str, str] | None:
        name, slash, port = word.partition("/")
        if name not in devices:
            if name not in self.written("devices"):
                self.problems.add(
                    "device.unknown", mark, f"there is no device '{name}'.", hint(name, self.written("devices"), "devices")
                )
            return None
        interfaces = devices[name].interfaces
        if not slash:
            if len(interfaces) == 1:
                return name, next(iter(interfaces))
            if name in self.hurt:
                return None
            self.problems.add(
                "interface.which",
                mark,
                f"{name} has {len(interfaces)} interfaces.",
                f"Say which: {name}/{next(iter(interfaces), 'INTERFACE')}.",
            )
            return None
        if port not in interfaces:
            if port not in self.written("devices", name, "interfaces"):
                self.problems.add(
                    "interface.unknown", mark, f"{name} has no interface '{port}'.", hint(port, interfaces, "interfaces")
                )
            return None
        return name, port
