"""Names into what they stand for: addresses and services.

A word of an address condition is looked for in this order, everywhere: built-in groups, groups, devices, far hosts, name
records, segments, zones, and last as an address form.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

from mossy_compass.errors import AddressError
from mossy_compass.files.context import Context, Path
from mossy_compass.files.schema import ServicesIn
from mossy_compass.headers.spans import complement, merge
from mossy_compass.marks import Mark, hint
from mossy_compass.model.network import Helper
from mossy_compass.model.terms import Expects, Group, Term
from mossy_compass.packet.address import EVERYTHING, Address, Span, parse_block
from mossy_compass.packet.service import (
    BUILT_IN_SERVICES,
    FTP,
    FTP_OVER,
    ICMP,
    ICMP6,
    TCP,
    UDP,
    WITH_PORTS,
    Service,
    parse_protocol,
    parse_service,
)

MOST_NESTED = 16
"""Groups within groups: so deep nobody means it, and what walks them is bounded."""
BUILT_IN_GROUPS = ("any", "self", "local-networks", "outside")
SECTIONS = ("groups", "devices", "names", "segments")


def services(ctx: Context, words: Iterable[str], path: Path, seen: tuple[str, ...] = ()) -> tuple[Service, ...]:
    """What the words of a service condition stand for, each service once.

    Args:
        ctx: the document.
        words: as written.
        path: where they stand.
        seen: names that are being followed, to find circles.

    """
    found = [s for i, w in enumerate(words) for s in service(ctx, w, ctx.spot(*path, i), seen)]
    return tuple(dict.fromkeys(found))


PING = (
    "A ping is icmp/echo-request, in IPv6 icmp6/echo-request. Nobody listens for it: whoever has an address answers, "
    "unless the setting answers-ping says no."
)
"""What is to be done about the word that tests know and rules do not."""


def service(ctx: Context, word: str, mark: Mark, seen: tuple[str, ...] = ()) -> tuple[Service, ...]:
    """What one word of a service condition stands for; nothing where it is faulty, and that is noted."""
    if word in ctx.named_services:
        return ctx.named_services[word]
    if word in ctx.doc.services:
        return _named_service(ctx, word, mark, seen)
    if word in BUILT_IN_SERVICES:
        return BUILT_IN_SERVICES[word]
    if word in ctx.written("services"):
        return ()
    try:
        return (parse_service(word),)
    except AddressError as fault:
        if "/" in word or word.isdigit():
            ctx.fault("value.wrong", mark, str(fault), "A service is protocol/port, like tcp/443, or a name.")
        else:
            known = hint(word, lambda: ctx.written("services") | set(BUILT_IN_SERVICES), "services")
            ctx.fault("service.unknown", mark, f"there is no service '{word}'.", PING if word == "ping" else known)
    return ()


def _named_service(ctx: Context, word: str, mark: Mark, seen: tuple[str, ...]) -> tuple[Service, ...]:
    """The members of a named service, names within names followed; a circle is refused with its way."""
    if word in seen:
        ctx.fault("service.circle", mark, f"service '{word}' contains itself.", "Remove it from its own members.")
        return ()
    if len(seen) == MOST_NESTED:
        _too_deep(ctx, "service", mark)
        return ()
    members = ctx.doc.services[word].members
    ctx.named_services[word] = services(ctx, members, ("services", word, "members"), (*seen, word))
    return ctx.named_services[word]


def expected(ctx: Context, name: str, entry: ServicesIn) -> Expects | None:
    """What the conversations of a named service tell of a second channel; None where they tell nothing."""
    if entry.expects is None:
        return None
    by = entry.expects.announced_by
    over = services(ctx, entry.expects.over, ("services", name, "expects", "over"))
    for found in over:
        if found.protocol not in WITH_PORTS:
            mark = ctx.mark("services", name, "expects", "over")
            words = f"{found} has no ports: nobody can tell the other end where to open a channel of it."
            ctx.fault("service.expects", mark, words, "Write a protocol with ports, as udp/40000-40100.")
    return Expects(by != "answerer", by != "asker", over)


def helper(ctx: Context, word: str, mark: Mark) -> Helper | None:
    """What a word of a device's helpers stands for; None where it is faulty, and that is noted."""
    if word == FTP:
        return Helper(word, BUILT_IN_SERVICES[FTP], Expects(True, True, FTP_OVER), mark)
    entry = ctx.doc.services.get(word)
    wants = entry is not None and entry.expects is not None
    if not wants and (entry is not None or word in BUILT_IN_SERVICES or word not in ctx.written("services")):
        able = {FTP, *(n for n, s in ctx.doc.services.items() if s.expects is not None)}
        known = word in BUILT_IN_SERVICES or entry is not None
        words = (
            f"service '{word}' tells of no second channel." if known else f"there is no service '{word}' that a helper could read."
        )
        remedy = f"A helper reads {', '.join(sorted(able))}; a service of your own says expects: for that."
        ctx.fault("helper.unknown", mark, words, remedy)
    if entry is None or entry.expects is None:
        return None
    found = expected(ctx, word, entry)
    return None if found is None else Helper(word, service(ctx, word, mark), found, mark)


def _too_deep(ctx: Context, kind: str, mark: Mark) -> None:
    """Names within names to a depth that no person writes: a circle, or a file made to hurt."""
    words = f"this {kind} is nested more than {MOST_NESTED} deep."
    ctx.fault("group.too-deep", mark, words, f"Name the members of the {kind}s straight.")


def _hosts(word: str, addresses: Iterable[Address]) -> Term:
    """The term for a name with these addresses, each of them one host."""
    return Term(word, merge(Span(a.key, a.key) for a in addresses))


def term(ctx: Context, word: str, mark: Mark, seen: tuple[str, ...] = ()) -> Term | None:
    """What one word of an address condition stands for; None where it is faulty, and that is noted.

    Args:
        ctx: the document.
        word: as written.
        mark: where it stands.
        seen: groups that are being followed, to find circles.

    """
    built_in = _built_in(ctx, word)
    if built_in is not None:
        return built_in
    if word in ctx.terms:
        return ctx.terms[word]
    for known, make in _MAKERS:
        if known(ctx, word):
            return make(ctx, word, mark, seen)
    if any(word in ctx.written(section) for section in SECTIONS):
        return None
    return _address_form(ctx, word, mark)


def _built_in(ctx: Context, word: str) -> Term | None:
    """``any``, ``self``, ``local-networks``, ``outside``: words that always mean something; None for every other."""
    if word == "any":
        return Term("any", EVERYTHING)
    if word == "self":
        return Term("self", None)
    if word == "local-networks":
        return Term(word, ctx.local)
    return Term(word, complement(ctx.local)) if word == "outside" else None


def _group_term(ctx: Context, word: str, mark: Mark, seen: tuple[str, ...]) -> Term | None:
    """A group with its members, which keep their own names so that a trace can say which one holds a packet."""
    if word in seen:
        ctx.fault("group.circle", mark, f"group '{word}' contains itself.", "Remove it from its own members.")
        return None
    if len(seen) == MOST_NESTED:
        _too_deep(ctx, "group", mark)
        return None
    members = list(_members(ctx, word, seen))
    masked = tuple(dict.fromkeys(m for t in members for m in t.masked))
    made = Term(word, merge(s for m in members for s in m.spans or ()), tuple(members), masked=masked)
    ctx.terms[word] = made
    return made


def _members(ctx: Context, word: str, seen: tuple[str, ...]) -> Iterator[Term]:
    """What the members of a group stand for."""
    for index, member in enumerate(ctx.doc.groups[word].members):
        spot = ctx.spot("groups", word, "members", index)
        found = term(ctx, member, spot, (*seen, word))
        if found is not None and found.spans is None:
            words = "self cannot be a member of a group: it means another device in each list."
            ctx.fault("group.self", spot, words, "Name it in the rule.")
        elif found is not None:
            yield found


def _device_term(ctx: Context, word: str, mark: Mark, seen: tuple[str, ...]) -> Term | None:
    """A device stands for all its addresses; one that is leased is filled in when the leases are known."""
    found = _hosts(word, ctx.addresses_of(word))
    asked = ctx.doc.devices[word]
    if word in ctx.hurt and not found.spans:
        return None
    if asked.leased or any(i.leased for i in asked.interfaces.values()):
        return Term(word, found.spans, (), word)
    if not found.spans:
        words = f"device '{word}' has no address to compare with."
        ctx.fault("device.no-address", mark, words, "Give it one, or name an address.")
        return None
    return found


def _segment_term(ctx: Context, word: str, mark: Mark, seen: tuple[str, ...]) -> Term | None:
    """A segment stands for the subnets on it."""
    return _subnets(ctx, word, "segment", mark, [p.span for p in ctx.subnets_on(word)])


def _zone_term(ctx: Context, word: str, mark: Mark, seen: tuple[str, ...]) -> Term | None:
    """A zone stands for the subnets of all interfaces that are in it."""
    return _subnets(ctx, word, "zone", mark, [a.prefix.span for a in ctx.zones[word] if not a.address.is_link_local])


def _subnets(ctx: Context, word: str, kind: str, mark: Mark, spans: list[Span]) -> Term | None:
    """Subnets as a term; a name without any is a fault, for a condition must not become empty unseen."""
    if not spans:
        words = f"{kind} '{word}' has no subnet to compare with."
        ctx.fault("device.no-address", mark, words, "Give its interfaces addresses, or name an address.")
        return None
    return Term(word, merge(spans))


_Maker = Callable[[Context, str, Mark, tuple[str, ...]], Term | None]
_MAKERS: tuple[tuple[Callable[[Context, str], bool], _Maker], ...] = (
    (lambda ctx, w: w in ctx.doc.groups, _group_term),
    (lambda ctx, w: w in ctx.doc.devices, _device_term),
    (lambda ctx, w: w in ctx.far_hosts, lambda ctx, w, mark, seen: _hosts(w, ctx.far_hosts[w].address)),
    (lambda ctx, w: w in ctx.doc.names, lambda ctx, w, mark, seen: _hosts(w, ctx.doc.names[w])),
    (lambda ctx, w: w in ctx.doc.segments, _segment_term),
    (lambda ctx, w: w in ctx.zones, _zone_term),
)
"""Kinds of names in the order in which a word is looked for."""


def _address_form(ctx: Context, word: str, mark: Mark) -> Term | None:
    """An address, a prefix, a range, or an address with a wildcard mask."""
    try:
        block = parse_block(word)
    except AddressError as fault:
        if (word[0].isdigit() and not any(c.isalpha() for c in word)) or ":" in word:
            ctx.fault("value.wrong", mark, str(fault), "")
        else:
            known = hint(word, lambda: set(BUILT_IN_GROUPS).union(ctx.zones, ctx.far_hosts, *map(ctx.written, SECTIONS)), "names")
            words = f"'{word}' is no group, device, name, segment, zone or address."
            ctx.fault("name.unknown", mark, words, known)
        return None
    return Term(block.text, block.spans, masked=block.masked)


def term_list(ctx: Context, words: Iterable[str] | None, path: Path) -> tuple[Term, ...] | None:
    """The terms of an address condition; None where there is no condition."""
    if words is None:
        return None
    found = (term(ctx, w, ctx.spot(*path, i)) for i, w in enumerate(words))
    return tuple(t for t in found if t is not None)


def inspected_protocols(ctx: Context, words: Sequence[str], path: Path) -> frozenset[int]:
    """Protocols that are inspected; ``any`` stands for those that have sessions of their own kind, ``none`` for no protocol."""
    out: set[int] = set()
    for index, word in enumerate(words):
        mark = ctx.spot(*path, index)
        if word == "none":
            if len(words) > 1:
                ctx.fault("value.wrong", mark, "none stands alone.", "Remove it, or remove the others.")
            continue
        try:
            protocol = parse_protocol(word)
        except AddressError as fault:
            ctx.fault("value.wrong", mark, str(fault))
            continue
        out |= {ICMP, TCP, UDP, ICMP6} if protocol is None else {protocol}
    return frozenset(out)


def group(ctx: Context, name: str) -> Group:
    """A group of addresses."""
    mark = ctx.mark("groups", name)
    found = term(ctx, name, mark)
    entry = ctx.doc.groups[name]
    if not entry.members:
        ctx.fault("group.empty", mark, f"group '{name}' has no member; a rule that names it matches nothing.", "Give it members.")
    return Group(name, found.members if found else (), mark, entry.about)
