"""Translation rules, policy routes and orders of stages into the model.

These rows have the conditions of a list's rule, read by the same function, so that a
condition means the same everywhere. An order of stages is taken as names here; whether it
can be used is for ``plan/order.py`` to say.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

from mossy_compass.files.context import Context, Path
from mossy_compass.files.names import services, term, term_list
from mossy_compass.files.rules import conditions
from mossy_compass.files.schema import BecomesIn, CandidateIn, DeviceIn, PolicyRouteIn, TranslateIn
from mossy_compass.files.zones import known_lists, known_probe, port_words
from mossy_compass.headers.spans import intersect, merge
from mossy_compass.marks import Mark, hint
from mossy_compass.model.check import standing_lists
from mossy_compass.model.network import AccessList, Becomes, Candidate, Device, NoneAvailable, PolicyRoute, Translate
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import FAMILIES, V6_BASE, Address, Spans, from_key
from mossy_compass.packet.service import TCP, UDP, WITH_PORTS, Service


def _ports(ctx: Context, name: str, words: Iterable[str] | None, path: Path, known: Collection[str]) -> tuple[str, ...] | None:
    """The interfaces that a row is limited to, each of them known: an unknown name would make the row void unseen."""
    if words is None:
        return None
    for index, word in enumerate(words):
        ctx.unknown_port(name, word, ctx.spot(*path, index), known)
    return tuple(words)


def _portless(wanted: Sequence[Service] | None) -> bool:
    """Whether a rule is about packets without ports, too."""
    return wanted is None or any(s.protocol not in WITH_PORTS for s in wanted)


def translations(ctx: Context, name: str, device: DeviceIn, interfaces: Collection[str]) -> Iterator[Translate]:
    """The translation rules of a device."""
    known = port_words(device, interfaces)
    for index, entry in enumerate(device.translate):
        path: Path = ("devices", name, "translate", index)
        _kind_faults(ctx, entry, path)
        sources = term_list(ctx, entry.source, (*path, "source"))
        destinations = term_list(ctx, entry.to, (*path, "to"))
        goals = _goals(ctx, entry, path)
        becomes, outer = _becomes(ctx, entry, sources, path)
        wanted = services(ctx, entry.service, (*path, "service")) if entry.service is not None else None
        port = entry.goes_to.port if entry.goes_to is not None else None
        if port is not None:
            _port_faults(ctx, entry, _portless(wanted), wanted, path)
        _hours_faults(ctx, entry, path)
        said = tuple(entry.goes_to.address) if entry.goes_to is not None else ()
        meant = goals[0].family if goals else _family(sources, destinations, _as_terms(outer))
        made = Translate(
            id=entry.id or str((index + 1) * 10),
            mark=ctx.spot(*path),
            family=4 if entry.family == "both" else int(entry.family or meant),
            of_source=entry.goes_to is None,
            becomes=becomes,
            outer=outer,
            goes_to=goals[0] if goals else None,
            servers=goals if len(goals) > 1 else (),
            redirects=said == ("self",),
            onward=entry.goes_to is not None and entry.goes_to.onward,
            exempt=said == ("exempt",),
            hours=tuple(entry.hours) if entry.hours is not None else None,
            to_port=port.first if port is not None else None,
            to_range=port is not None and port.first != port.last,
            arriving=_ports(ctx, name, entry.arriving, (*path, "arriving"), known),
            leaving=_ports(ctx, name, entry.leaving, (*path, "leaving"), known),
            sources=sources,
            destinations=destinations,
            services=wanted,
            service_words=", ".join(entry.service or ()),
            lists=tuple(entry.lists or ()),
            disabled=entry.disabled,
            about=entry.about,
        )
        yield made
        if entry.family == "both":  # one rule in the file, and a row for each family
            if outer or goals:
                words = "addresses are of one family each, and this rule names some."
                ctx.fault("translate.family", ctx.spot(*path, "family"), words, "Write a rule for each family.")
            yield replace(made, family=6)


def _hours_faults(ctx: Context, entry: TranslateIn, path: Path) -> None:
    """A window of time that nobody has written."""
    for index, word in enumerate(entry.hours or ()):
        if word not in ctx.doc.hours:
            spot = ctx.spot(*path, "hours", index)
            ctx.fault("name.unknown", spot, f"there is no window '{word}' under hours.", hint(word, ctx.doc.hours, "windows"))


def _kind_faults(ctx: Context, entry: TranslateIn, path: Path) -> None:
    """A rule is about sources or about destinations, and each kind has conditions that it cannot do without."""
    if entry.goes_to is None and entry.leaving is None:
        words = "'leaving' is missing from a rule about sources."
        ctx.fault("key.missing", ctx.spot(*path), words, "Add leaving: INTERFACE, or goes-to for a rule about destinations.")
    if entry.goes_to is not None and entry.leaving is not None:
        words = "where a packet leaves is not known yet when its destination is translated."
        ctx.fault("translate.kind", ctx.spot(*path, "leaving"), words, "Say arriving instead.")
    known_lists(ctx, entry.lists, (*path, "lists"))
    if entry.lists and entry.goes_to is None:
        words = "lists: filter what a destination rule sends on, and this rule is about sources."
        ctx.fault("translate.kind", ctx.spot(*path, "lists"), words, "Attach the lists to an interface or a crossing.")
    if entry.goes_to is not None and entry.to is None and entry.goes_to.address != ["exempt"]:
        words = "'to' is missing from a rule about destinations: every packet would be sent elsewhere."
        ctx.fault("key.missing", ctx.spot(*path), words, "Add to: ADDRESS, self for the device's own addresses, or any.")


def _port_faults(ctx: Context, entry: TranslateIn, portless: bool, wanted: Sequence[Service] | None, path: Path) -> None:
    """Ports of a translation that its protocol cannot have, or that say nothing without another key."""
    assert entry.goes_to is not None
    port = entry.goes_to.port
    if port is not None and port.first != port.last:
        spot = ctx.spot(*path, "goes-to", "port")
        lengths = {s.ports.last - s.ports.first for s in wanted or () if s.ports is not None}
        if lengths != {port.last - port.first}:
            words = f"the packets go to one port, or to as many as the service has, and {port.first}-{port.last} are {port.last - port.first + 1}."
            ctx.fault("translate.port", spot, words, "Name one, or a range as long as the service's.")
    if port is not None and port.first == 0:
        spot = ctx.spot(*path, "goes-to", "port")
        ctx.fault(
            "translate.port",
            spot,
            "port 0 is nobody's: it stands for no port (RFC 6335 section 6).",
            "Name the port that is served.",
        )
    if portless:
        words = "a new port needs services that have ports; without service: this rule is about every protocol."
        ctx.fault("translate.port", ctx.spot(*path), words, "Add service: tcp/PORT, or leave the new port out.")


def _goals(ctx: Context, entry: TranslateIn, path: Path) -> tuple[Address, ...]:
    """The addresses that packets go to; none for the device itself, and where they stay."""
    if entry.goes_to is None:
        return ()
    spot = ctx.spot(*path, "goes-to")
    said = entry.goes_to.address
    alone = [w for w in said if w in ("self", "exempt")]
    if alone and len(said) > 1:
        ctx.fault("translate.goal", spot, f"'{alone[0]}' stands alone.", "Remove it, or remove the addresses.")
        return ()
    if said == ["exempt"] and (entry.goes_to.port is not None or entry.becomes is not None or entry.lists):
        ctx.fault("translate.goal", spot, "what is exempt stays as it is.", "Leave port, becomes and lists out.")
    _onward_faults(ctx, entry, path)
    if alone:
        return ()
    found = [_goal(ctx, entry, word, spot, path) for word in said]
    goals = tuple(a for a in found if a is not None)
    families = {a.family for a in goals}
    if len(families) > 1:
        ctx.fault("translate.goal", spot, "the addresses are of both families.", "Write a rule for each.")
        return goals[:1]
    return goals


def _onward_faults(ctx: Context, entry: TranslateIn, path: Path) -> None:
    """Only the device itself can ask onward, and only what has ports."""
    assert entry.goes_to is not None
    if not entry.goes_to.onward:
        return
    spot = ctx.spot(*path, "goes-to", "onward")
    if entry.goes_to.address != ["self"]:
        ctx.fault(
            "translate.goal", spot, "onward: is for what goes to the device itself.", "Say address: self, or leave onward out."
        )
    wanted = services(ctx, entry.service, (*path, "service")) if entry.service is not None else ()
    if not wanted or any(s.protocol not in (TCP, UDP) for s in wanted):
        words = "onward: asks the same service of somebody else, so the rule says which: tcp or udp with ports."
        ctx.fault("translate.port", spot, words, "Add service: tcp/PORT.")


def _goal(ctx: Context, entry: TranslateIn, word: str, spot: Mark, path: Path) -> Address | None:
    """One address that packets go to."""
    address, colon, port = word.rpartition(":")
    if colon and port.isdigit() and address and ":" not in address:
        words = f"'{word}' is an address with a port, which are two values here."
        ctx.fault("translate.goal", spot, words, f"Write goes-to: {{address: {address}, port: {port}}}.")
        return None
    found = term(ctx, word, spot)
    if found is None:
        return None
    spans = found.spans or ()
    hosts = [from_key(s.first) for s in spans if s.first == s.last]
    family = _family(None, term_list(ctx, entry.to, (*path, "to"))) if entry.to else 4
    fitting = [a for a in hosts if a.family == family] or hosts
    if len(hosts) != len(spans) or len(fitting) != 1:
        words = f"'{word}' is not one address: packets go to one host."
        ctx.fault("translate.goal", spot, words, "Name a host, or its address; several as a list of addresses.")
        return None
    return fitting[0]


MOST_POOLED = 1 << 20
"""So many addresses a pool may have: a /12 of IPv4."""


def _becomes(ctx: Context, entry: TranslateIn, sources: tuple[Term, ...] | None, path: Path) -> tuple[Becomes | None, Spans]:
    """What a source becomes, with the addresses of a pool or the partners."""
    said = entry.becomes
    if said is None:
        return (Becomes.INTERFACE if entry.goes_to is None else None), ()
    if said.address in ("interface", "exempt"):
        if said.address == "exempt" and entry.goes_to is not None:
            ctx.fault("translate.kind", ctx.spot(*path, "becomes"), "a source that stays needs no word here.", "Leave becomes out.")
        return Becomes(said.address), ()
    spot = ctx.spot(*path, "becomes")
    outer = _outer(ctx, said, path)
    if outer and said.pair is not None:
        _pair_faults(ctx, entry, sources, outer, spot)
    elif outer:
        _pool_faults(ctx, said, outer, spot)
    return Becomes.POOL if said.pair is None else Becomes.PAIR, outer


def _outer(ctx: Context, said: BecomesIn, path: Path) -> Spans:
    """The addresses of a pool, or the partners; none where they are faulty, and that is noted."""
    words = said.pool or [said.pair or said.address or ""]
    found = term_list(ctx, words, (*path, "becomes", "pool") if said.pool else (*path, "becomes")) or ()
    outer = merge(s for t in found for s in t.spans or ())
    spot = ctx.spot(*path, "becomes")
    if not outer and len(found) == len(words):
        ctx.fault("translate.pool", spot, "these words name no address.", "Name addresses, prefixes or ranges.")
    if len({s.first >= V6_BASE for s in outer}) > 1:
        ctx.fault("translate.pool", spot, "the addresses are of both families.", "Write a rule for each.")
    return outer


def _pool_faults(ctx: Context, said: BecomesIn, outer: Spans, spot: Mark) -> None:
    """A pool has a size that can be used, and one address is one."""
    size = sum(s.last - s.first + 1 for s in outer)
    if said.address is not None and size != 1:
        remedy = "Write {pool: ...}, or {pair: ...} for fixed partners."
        ctx.fault("translate.pool", spot, f"'{said.address}' is {size} addresses.", remedy)
    if size > MOST_POOLED:
        ctx.fault("translate.pool", spot, f"a pool of {size} addresses is more than {MOST_POOLED}.", "Name a shorter prefix of it.")


def _pair_faults(ctx: Context, entry: TranslateIn, sources: tuple[Term, ...] | None, outer: Spans, spot: Mark) -> None:
    """A fixed pair has one run of sources and one of partners, as long as each other."""
    family = FAMILIES[6 if outer[0].first >= V6_BASE else 4]  # a host may have addresses of both
    inner = intersect(merge(s for t in sources or () for s in t.spans or ()), (family,))
    if entry.goes_to is not None:
        ctx.fault("translate.kind", spot, "a pair works both ways by itself.", "Leave goes-to out.")
    elif len(sources or ()) < len(entry.source or ()):
        return  # a source is faulty, and that is told already
    elif len(inner) != 1 or len(outer) != 1:
        ctx.fault(
            "translate.pair",
            spot,
            "a pair has one run of sources and one of partners.",
            "Say source: ADDRESS or PREFIX, and pair: one as long.",
        )
    elif inner[0].last - inner[0].first != outer[0].last - outer[0].first:
        one, other = (s.last - s.first + 1 for s in (inner[0], outer[0]))
        ctx.fault("translate.pair", spot, f"the source is {one} addresses, and its partners are {other}.", "Make both as long.")


def with_switches(device: Device, lists: Mapping[str, AccessList]) -> Device:
    """A device with a translation rule for each switch of a rule that may let packets pass on there.

    They follow the rules that are written as such, and each is about what its own rule let pass: a packet that another rule
    permits stays as it is, whatever stands below.

    Args:
        device: as written.
        lists: the access lists of the network.

    """
    names = (n for names, _, way in standing_lists(device) if way not in ("to-self", "from-self") for n in names)
    switches = tuple(
        Translate(
            id=f"{name} {rule.id}",
            mark=rule.mark,
            family=_family(rule.sources, rule.destinations),
            sources=rule.sources,
            destinations=rule.destinations,
            services=rule.services,
            service_words=rule.service_words,
            switch=(name, rule.id),
            disabled=rule.disabled,
            about=rule.about,
        )
        for name in dict.fromkeys(names)
        if name in lists
        for rule in lists[name].rules
        if rule.translates
    )
    return replace(device, translate=(*device.translate, *switches)) if switches else device


def _as_terms(spans: Spans) -> tuple[Term, ...] | None:
    """Addresses as what a condition is made of."""
    return (Term("outer", spans),) if spans else None


def _family(*conditions: tuple[Term, ...] | None) -> int:
    """The family of a rule: 6 where it names IPv6 addresses and no IPv4 ones, else 4. ``any`` names neither."""
    spans = [s for terms in conditions for t in terms or () if t.words != "any" for s in t.spans or ()]
    return 6 if spans and all(s.first >= V6_BASE for s in spans) else 4


def policy_routes(ctx: Context, name: str, device: DeviceIn, interfaces: Collection[str]) -> Iterator[PolicyRoute]:
    """The policy routes of a device, in their order."""
    known = port_words(device, interfaces)
    seen: dict[str, Mark] = {}
    for index, entry in enumerate(device.policy_routes):
        path: Path = ("devices", name, "policy-routes", index)
        mark = ctx.spot(*path)
        ident = entry.id or str((index + 1) * 10)
        if ident in seen:
            words = f"{name} has two policy routes {ident}; the first is at line {seen[ident].line}."
            ctx.fault("rule.twice", mark, words, "Give one another id.")
        seen[ident] = mark
        _policy_faults(ctx, entry, path)
        _ports(ctx, name, entry.arriving, (*path, "arriving"), known)
        candidates = tuple(
            _candidate(ctx, name, device, interfaces, c, (*path, "candidates", n)) for n, c in enumerate(entry.candidates)
        )
        rule = conditions(ctx, ident, entry, "permit", entry.protocol, path, (mark, mark))
        otherwise = NoneAvailable(entry.none_available)
        yield PolicyRoute(ident, mark, rule, candidates, entry.list_, otherwise, entry.disabled, entry.about)


def _policy_faults(ctx: Context, entry: PolicyRouteIn, path: Path) -> None:
    """What in a policy route contradicts itself."""
    if entry.leaving is not None:
        words = "a policy route decides by where packets leave, so it cannot ask for that."
        ctx.fault("rule.too-early", ctx.spot(*path, "leaving"), words, "Remove it.")
    if entry.list_ is not None and entry.list_ not in ctx.written("lists"):
        known = hint(entry.list_, ctx.written("lists"), "lists")
        ctx.fault("list.unknown", ctx.spot(*path, "list"), f"there is no list '{entry.list_}'.", known)


def _candidate(ctx: Context, name: str, device: DeviceIn, interfaces: Collection[str], entry: CandidateIn, path: Path) -> Candidate:
    """One way that an entry may send packets: a next hop, an interface, a named table, or nowhere."""
    mark = ctx.spot(*path)
    said = [
        entry.next_hop is not None or entry.leaving is not None,
        entry.table is not None,
        entry.discard,
        entry.uplink is not None,
    ]
    if sum(said) != 1:
        words = "a candidate says next-hop, leaving or both; or uplink; or table; or discard."
        ctx.fault("policy.candidate", mark, words, "Write one way an entry.")
    if entry.leaving is not None:
        ctx.unknown_port(name, entry.leaving, ctx.spot(*path, "leaving"), interfaces)
    known_probe(ctx, name, device, entry.while_, (*path, "while"))
    if entry.uplink is not None:
        ctx.unknown_port(name, entry.uplink, ctx.spot(*path, "uplink"), {*interfaces, *device.uplinks})
    tables = {r.table for r in device.routes} | {"main"}
    if entry.table is not None and entry.table not in tables:
        known = hint(entry.table, tables, "tables")
        ctx.fault("table.unknown", ctx.spot(*path, "table"), f"{name} has no route table '{entry.table}'.", known)
    return Candidate(mark, entry.next_hop, entry.leaving, entry.table, entry.discard, entry.uplink, entry.while_ or "")
