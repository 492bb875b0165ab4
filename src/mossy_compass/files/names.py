"""Names into what they stand for: addresses, groups, services, rules."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from mossy_compass.errors import AddressError
from mossy_compass.files.schema import NetworkIn, RuleIn
from mossy_compass.files.tree import Node
from mossy_compass.headers.spans import complement, merge
from mossy_compass.marks import Mark, Problems, hint
from mossy_compass.model.network import Group, Rule, Term, Verdict
from mossy_compass.packet.address import EVERYTHING, PRIVATE_SPANS, Address, Span, Spans, parse_block
from mossy_compass.packet.service import (
    BUILT_IN_SERVICES,
    ICMP,
    ICMP6,
    TCP,
    UDP,
    WITH_PORTS,
    Service,
    parse_icmp,
    parse_service,
    protocol_name,
)

MOST_NESTED = 16
"""Groups within groups: so deep nobody means it, and what walks them is bounded."""
BUILT_IN_GROUPS = ("any", "self", "local-networks", "outside")


class Names:
    """A document of the right shape, and what the names in it stand for."""

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
