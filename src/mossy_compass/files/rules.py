"""Rules of access lists into the model.

A rule keeps both what was written and what it comes to: the words for the reader, the sets
for the engine. Combinations that no packet can meet are refused at their place, with the
contradiction named, instead of standing there without effect.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

from mossy_compass.errors import AddressError
from mossy_compass.files.context import Context, Path
from mossy_compass.files.names import services, term_list
from mossy_compass.files.schema import ConditionsIn, RuleIn
from mossy_compass.marks import Mark, Severity, hint
from mossy_compass.model.network import LAST_RESORT, AccessList, Rule, Verdict
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import V6_BASE
from mossy_compass.packet.service import ICMP, ICMP6, WITH_PORTS, Service, parse_icmp, protocol_name


def access_list(ctx: Context, name: str) -> AccessList:
    """A list with its rules."""
    return AccessList(name, tuple(_rules(ctx, name)), ctx.mark("lists", name), ctx.doc.lists[name].about)


def _rules(ctx: Context, name: str) -> Iterable[Rule]:
    """Rules in their order; one without an id is counted on in tens from the one before."""
    seen: dict[str, Mark] = {}
    number = 0
    highest = -1, ctx.mark("lists", name)
    for index, entry in enumerate(ctx.doc.lists[name].rules):
        path: Path = ("lists", name, "rules", index)
        mark = ctx.spot(*path)
        if entry.id is None:
            number = (number // 10 + 1) * 10
            ident = str(number)
        else:
            ident = entry.id
            number = int(ident) if ident.isdigit() else number
        plain = str(int(ident)) if ident.isdigit() else ident  # 010 and 10 are one number to whoever reads them
        if plain in seen:
            words = f"list '{name}' has two rules {ident}; the first is at line {seen[plain].line}."
            ctx.fault("rule.twice", mark, words, "Give one another id.")
        seen[plain] = mark
        if ident.isdigit() and int(ident) < highest[0]:
            number_above, mark_above = highest
            ctx.fault(
                "rule.out-of-order",
                mark,
                f"rule {ident} of '{name}' stands below rule {number_above}, and is asked after it: rules are asked as they are"
                " written, whatever their numbers.",
                "Move it up, or give it a higher number.",
                Severity.WARNING,
                [(mark_above, f"rule {number_above}")],
            )
        elif ident.isdigit():
            highest = int(ident), mark
        yield list_rule(ctx, ident, entry, path, mark)


def list_rule(ctx: Context, ident: str, entry: RuleIn, path: Path, mark: Mark) -> Rule:
    """One rule of a list.

    Args:
        ctx: the document.
        ident: the rule's id, given or counted.
        entry: as written.
        path: of the rule in the document.
        mark: where it begins.

    """
    verdict_mark = ctx.spot(*path, entry.verdict)
    rule = conditions(ctx, ident, entry, entry.verdict, entry.protocol, path, (mark, verdict_mark))
    log = {"no": "", "yes": "informational"}.get(entry.log, entry.log)
    return replace(rule, log=log, answer=entry.answer or "", translates=entry.translate, uplink=entry.uplink or "")


def conditions(
    ctx: Context, ident: str, entry: ConditionsIn, verdict: str, protocol: int | None, path: Path, marks: tuple[Mark, Mark]
) -> Rule:
    """What has the conditions of a rule: a rule of a list, or another row that asks about packets.

    Args:
        ctx: the document.
        ident: the row's id.
        entry: as written.
        verdict, protocol: what the row says of the packets that it matches, and of which protocol they are.
        path: of the row in the document.
        marks: of the row, and of the place where its protocol stands.

    """
    mark, verdict_mark = marks
    wanted, words = _services(ctx, entry, verdict, protocol, path, verdict_mark)
    if (entry.to_port or entry.from_port) and protocol is not None and protocol not in WITH_PORTS:
        said = f"{protocol_name(protocol)} has no ports."
        ctx.fault("rule.port", verdict_mark, said, "Use tcp or udp, or leave the ports out.")
    if entry.icmp is not None:
        wanted, words = _icmp(ctx, entry, verdict, protocol, path)
    rule = Rule(
        id=ident,
        verdict=Verdict(verdict),
        mark=mark,
        protocol=protocol,
        sources=term_list(ctx, entry.from_, (*path, "from")),
        destinations=term_list(ctx, entry.to, (*path, "to")),
        from_ports=None if entry.from_port is None else tuple(entry.from_port),
        services=wanted,
        service_words=words,
        opening=entry.opening,
        arriving=None if entry.arriving is None else tuple(entry.arriving),
        leaving=None if entry.leaving is None else tuple(entry.leaving),
        states=None if entry.state is None else tuple(entry.state),
        fragments=entry.fragments,
        hours=_known(ctx, entry.hours, "hours", (*path, "hours")),
        applications=_applications(ctx, entry.application, (*path, "application")),
        names=_host_names(ctx, entry.name, (*path, "name")),
        last_resort=_last_resort(ctx, entry.while_, (*path, "while")),
        disabled=entry.disabled,
        about=entry.about,
    )
    _contradictions(ctx, rule, path)
    return rule


def _last_resort(ctx: Context, word: str | None, path: Path) -> str:
    """The last resort that must be in use, as written; empty for none."""
    if word is None or word == LAST_RESORT[1:]:
        return word or ""
    known = [f"{g}{LAST_RESORT}" for d in ctx.doc.devices.values() for g, said in d.uplinks.items() if said.last_resort is not None]
    if word not in known:
        said = f"'{word}' names no last resort of a group of uplinks."
        ctx.fault("uplink.unknown", ctx.spot(*path), said, hint(word, ["last-resort", *known], "last resorts"))
    return word


def _known(ctx: Context, words: list[str] | None, section: str, path: Path) -> tuple[str, ...] | None:
    """Names of a section of the file; an unknown one is refused, for it would never hold."""
    for index, word in enumerate(words or ()):
        if word not in ctx.written(section):
            ctx.fault(
                "name.unknown",
                ctx.spot(*path, index),
                f"there is no '{word}' under {section}:.",
                hint(word, ctx.written(section), section),
            )
    return None if words is None else tuple(words)


def _applications(ctx: Context, words: list[str] | None, path: Path) -> tuple[str, ...] | None:
    """Applications or categories, of which the file must have each."""
    known = ctx.written("applications") | {c for a in ctx.doc.applications.values() for c in a.category}
    for index, word in enumerate(words or ()):
        if word not in known:
            said = f"there is no application or category '{word}' under applications:."
            ctx.fault("name.unknown", ctx.spot(*path, index), said, hint(word, known, "applications"))
    return None if words is None else tuple(words)


def _host_names(ctx: Context, words: list[str] | None, path: Path) -> tuple[str, ...] | None:
    """Host names that somebody in the network could resolve; one that nobody has is a slip of the pen."""
    known = ctx.host_names
    for index, word in enumerate(words or ()):
        if word not in known:
            said = f"no names: and no resolver's records have '{word}', so it will never have an address."
            ctx.fault("name.unknown", ctx.spot(*path, index), said, hint(word, known, "names"))
    return None if words is None else tuple(words)


def _services(
    ctx: Context, entry: ConditionsIn, verdict: str, protocol: int | None, path: Path, verdict_mark: Mark
) -> tuple[tuple[Service, ...] | None, str]:
    """The services of a row, and the words that say them; None where it has no such condition."""
    if entry.service is not None:
        words = ", ".join(entry.service)
        found = services(ctx, entry.service, (*path, "service"))
        if protocol is None or not found:
            return found, words
        fitting = tuple(s for s in found if s.protocol == protocol)
        if not fitting:
            _misfit(ctx, words, found, protocol, verdict, path, verdict_mark)
        return fitting, words
    if entry.to_port is not None:
        words = ", ".join(f"{s.first}" if s.first == s.last else f"{s.first}-{s.last}" for s in entry.to_port)
        protocols = WITH_PORTS if protocol is None else (protocol,)
        return tuple(Service(p, s) for p in protocols for s in entry.to_port), words
    return None, ""


def _icmp(
    ctx: Context, entry: ConditionsIn, verdict: str, protocol: int | None, path: Path
) -> tuple[tuple[Service, ...] | None, str]:
    """The ICMP kinds of a row, which needs a protocol that has them (RFC 792, RFC 4443)."""
    assert entry.icmp is not None
    if protocol not in (ICMP, ICMP6):
        said = f"icmp: needs a rule of icmp or icmp6, not of {protocol_name(protocol) if protocol is not None else 'any'}."
        ctx.fault("rule.icmp", ctx.spot(*path, "icmp"), said, f"Write {verdict}: icmp.")
        return None, ""
    found = []
    for index, word in enumerate(entry.icmp):
        try:
            found.append(Service(protocol, parse_icmp(word, protocol)))
        except AddressError as fault:
            ctx.fault("value.wrong", ctx.spot(*path, "icmp", index), str(fault))
    return tuple(found), ", ".join(entry.icmp)


def _misfit(
    ctx: Context, words: str, found: Sequence[Service], protocol: int, verdict: str, path: Path, verdict_mark: Mark
) -> None:
    """Services of other protocols than the rule's."""
    is_a = ", ".join(sorted({protocol_name(s.protocol) for s in found}))
    ctx.fault(
        "rule.service",
        ctx.spot(*path, "service"),
        f"service {words} is {is_a}, but the rule is for {protocol_name(protocol)}: it could never match.",
        f"Write {verdict}: {is_a.split(', ')[0]}, or {verdict}: any.",
        also=((verdict_mark, "the rule's protocol"),),
    )


def _port_contradictions(ctx: Context, rule: Rule, path: Path) -> None:
    """Ports that are asked of what has none."""
    ports = rule.from_ports or (rule.services and all(s.ports is not None for s in rule.services))
    if rule.fragments and ports:
        said = "later fragments have no ports and no ICMP kind (RFC 791 3.2), and this rule asks for one: it could never match."
        ctx.fault("rule.fragments", ctx.spot(*path, "fragments"), said, "Remove one of the two.")
    if rule.from_ports and rule.services and not any(s.protocol in WITH_PORTS for s in rule.services):
        said = f"from-port asks for a port, and {rule.service_words} has none: the rule could never match."
        ctx.fault("rule.port", ctx.spot(*path, "from-port"), said, "Remove one of the two.")


def _contradictions(ctx: Context, rule: Rule, path: Path) -> None:
    """Conditions that no packet meets together: written by mistake, and silently without effect."""
    _port_contradictions(ctx, rule, path)
    if rule.opening and rule.states is not None and "new" not in rule.states:
        said = f"opening asks for what opens a session, and state for {', '.join(rule.states)}: the rule could never match."
        ctx.fault("rule.state", ctx.spot(*path, "state"), said, "Remove one of the two.")
    source, destination = _families(rule.sources), _families(rule.destinations)
    if source and destination and not source & destination:
        said = f"from is IPv{min(source)} and to is IPv{min(destination)}: no packet has both."
        ctx.fault("rule.family", ctx.spot(*path, "to"), said, "Write a rule for each family.")
    for key, held in (("from", source), ("to", destination)):
        _icmp_family(ctx, rule, key, held, path)


def _icmp_family(ctx: Context, rule: Rule, key: str, held: set[int], path: Path) -> None:
    """A rule of one family's ICMP with the other family's addresses."""
    wanted = {ICMP: 4, ICMP6: 6}.get(rule.protocol or 0)
    if wanted and held and wanted not in held:
        name = protocol_name(rule.protocol or 0)
        said = f"the rule is for {name}, and {key} has only IPv{min(held)} addresses: it could never match."
        ctx.fault("rule.family", ctx.spot(*path, key), said, f"Write icmp{'6' if wanted == 4 else ''}, or IPv{wanted} addresses.")


def _families(terms: Iterable[Term] | None) -> set[int]:
    """The families of a condition's addresses; none where it may be both, or is not known yet."""
    out: set[int] = set()
    for term in terms or ():
        if term.spans is None or term.leased or any(m.leased for m in term.members):
            return set()
        out |= {4 if s.first < V6_BASE else 6 for s in term.spans} | {6 for s in term.spans if s.last >= V6_BASE}
        out |= {4} if term.masked else set()
    return out
