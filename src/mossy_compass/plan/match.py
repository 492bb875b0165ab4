"""The one meaning of a rule. The index that decides and the reasons for rules passed over are made of it."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

from mossy_compass.headers.spans import as_text, merge
from mossy_compass.marks import Mark
from mossy_compass.model.network import AccessList, Rule, Term, Translate, Verdict
from mossy_compass.packet.address import V6_BASE, Address, Span, Spans, in_spans
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import protocol_name


class Box(NamedTuple):
    """A product of sets, one for each field; None allows everything. A rule is one box or several.

    ``slots`` are destination ports, or ``type * 256 + code`` for ICMP; a box with slots has one protocol.
    """

    protocol: int | None
    sources: Spans | None
    destinations: Spans | None
    from_ports: Spans | None
    slots: Spans | None


class Miss(NamedTuple):
    """The first condition of a rule that a packet does not meet.

    Attributes:
        field: the rule's key: disabled, protocol, from, to, from-port, service, icmp, opening, arriving, leaving.
        words: what the rule wants and what the packet has.

    """

    field: str
    words: str


class PassedOver(NamedTuple):
    """A rule that was examined and did not match, with its first unmet condition."""

    id: str
    verdict: str
    mark: Mark
    miss: Miss


def spans_of(terms: Sequence[Term] | None, own: Spans) -> Spans | None:
    """The addresses of a condition, with ``self`` filled in."""
    if terms is None or any(t.words == "any" for t in terms):
        return None
    return merge(s for t in terms for s in (own if t.spans is None else t.spans))


def boxes_of(rule: Rule, own: Spans) -> tuple[Box, ...]:
    """The sets of packets that a rule's addresses, protocol and ports describe."""
    sources = spans_of(rule.sources, own)
    destinations = spans_of(rule.destinations, own)
    from_ports = merge(rule.from_ports) if rule.from_ports else None
    if rule.services is None:
        if from_ports and rule.protocol is None:
            return tuple(Box(p, sources, destinations, from_ports, None) for p in (6, 17))
        return (Box(rule.protocol, sources, destinations, from_ports, None),)
    by_protocol: dict[int, list[Span] | None] = {}
    for service in rule.services:
        if service.ports is None:
            by_protocol[service.protocol] = None
        else:
            held = by_protocol.setdefault(service.protocol, [])
            if held is not None:
                held.append(service.ports)
    return tuple(Box(p, sources, destinations, from_ports, None if s is None else merge(s)) for p, s in by_protocol.items())


def _words(terms: Sequence[Term] | None) -> str:
    return ", ".join(t.words for t in terms or ()) or "any"


class Compiled(NamedTuple):
    """A rule with its boxes."""

    rule: Rule
    boxes: tuple[Box, ...]

    def misses(self, packet: Packet, arriving: str | None, leaving: str | None) -> Iterator[Miss]:
        """Every condition that the packet does not meet, in the order in which a reader checks them."""
        rule, box = self.rule, self.boxes[0] if self.boxes else None
        if rule.disabled:
            yield Miss("disabled", "the rule is disabled")
        if rule.protocol is not None and packet.protocol != rule.protocol:
            yield Miss("protocol", f"wants {protocol_name(rule.protocol)}, the packet is {protocol_name(packet.protocol)}")
        if box is None:
            yield Miss("service", f"service {rule.service_words or 'of this rule'} is empty")
            return
        if box.sources is not None and not in_spans(packet.source.key, box.sources):
            yield Miss("from", _outside(packet.source, rule.sources))
        if box.destinations is not None and not in_spans(packet.destination.key, box.destinations):
            yield Miss("to", _outside(packet.destination, rule.destinations))
        if box.from_ports is not None and (
            packet.protocol not in {b.protocol for b in self.boxes} or not in_spans(packet.from_port, box.from_ports)
        ):
            yield Miss("from-port", f"wants {_ports(box.from_ports)}, the packet has {packet.from_port}")
        if rule.services is not None and not any(
            packet.protocol == b.protocol and (b.slots is None or in_spans(packet.slot, b.slots)) for b in self.boxes
        ):
            key = "icmp" if packet.icmp >= 0 and rule.protocol in (1, 58) else "service"
            yield Miss(key, f"wants {rule.service_words}, the packet is {packet.what()}")
        if rule.opening and not packet.opening:
            yield Miss("opening", "wants a packet that opens a session, this one does not")
        if rule.arriving is not None and arriving not in rule.arriving:
            yield Miss(
                "arriving", f"wants {', '.join(rule.arriving)}, it arrived by {arriving or 'no interface: the device made it'}"
            )
        if rule.leaving is not None and leaving not in rule.leaving:
            yield Miss(
                "leaving", f"wants {', '.join(rule.leaving)}, it leaves by {leaving or 'an interface not yet known at this stage'}"
            )

    def member(self, packet: Packet) -> str:
        """Which members of the rule's groups hold the packet, as ``from kiosks (10.40.32.10)``; may be empty."""
        parts = []
        for key, terms, address in (("from", self.rule.sources, packet.source), ("to", self.rule.destinations, packet.destination)):
            for term in terms or ():
                if term.members and in_spans(address.key, term.spans or ()):
                    parts.append(f"{key} {term.words} ({_path(term, address)})")
                    break
        return ", ".join(parts)


def _path(term: Term, address: Address) -> str:
    for member in term.members:
        if in_spans(address.key, member.spans or ()):
            return f"{member.words}, {_path(member, address)}" if member.members else member.words
    return term.words


def _outside(address: Address, terms: Sequence[Term] | None) -> str:
    words = _words(terms)
    shown = words
    if terms and len(terms) == 1 and terms[0].spans is not None and terms[0].words[0].isalpha():
        shown = f"{words} ({as_text(terms[0].spans, 2)})"
    return f"{address} is not in {shown}"


def _ports(spans: Spans) -> str:
    return ", ".join(str(a) if a == b else f"{a}-{b}" for a, b in spans)


class _Index:
    """Sets of rows by the value of each field that any row asks about; AND, and the lowest bit is the answer."""

    __slots__ = ("_arriving", "_destination", "_from_port", "_leaving", "_opening", "_owner", "_protocol", "_slot", "_source")

    def __init__(self, rules: Sequence[Compiled]) -> None:
        rows: list[tuple[Compiled, Box]] = [(c, b) for c in rules for b in c.boxes]
        everything = (1 << len(rows)) - 1
        self._owner = [c for c, _ in rows]
        by_protocol = [everything & sum(1 << n for n, (_, b) in enumerate(rows) if b.protocol is None)] * 256
        for number, (_, box) in enumerate(rows):
            if box.protocol is not None:
                by_protocol[box.protocol] |= 1 << number
        self._protocol = by_protocol
        self._source = _cuts([b.sources for _, b in rows])
        self._destination = _cuts([b.destinations for _, b in rows])
        self._from_port = _cuts([b.from_ports for _, b in rows])
        self._slot = _cuts([b.slots for _, b in rows])
        self._opening = (
            sum(1 << n for n, (c, _) in enumerate(rows) if not c.rule.opening) if any(c.rule.opening for c in rules) else None
        )
        self._arriving = _by_name([c.rule.arriving for c, _ in rows])
        self._leaving = _by_name([c.rule.leaving for c, _ in rows])

    def first(self, packet: Packet, arriving: str | None, leaving: str | None) -> Compiled | None:
        # The hottest lines of a trace: no helper is called, and it stops as soon as no row is left.
        rows = self._protocol[packet[0]]
        if rows and (cuts := self._source) is not None:
            family, value = packet[1]
            rows &= cuts[1][bisect_right(cuts[0], value if family == 4 else value + V6_BASE) - 1]
        if rows and (cuts := self._destination) is not None:
            family, value = packet[2]
            rows &= cuts[1][bisect_right(cuts[0], value if family == 4 else value + V6_BASE) - 1]
        if rows and (cuts := self._slot) is not None:
            icmp = packet[5]
            rows &= cuts[1][bisect_right(cuts[0], packet[4] if icmp < 0 else icmp) - 1]
        if not rows:
            return None
        if (cuts := self._from_port) is not None:
            rows &= cuts[1][bisect_right(cuts[0], packet[3]) - 1]
        if self._opening is not None and not packet.opening:
            rows &= self._opening
        if (names := self._arriving) is not None:
            rows &= names.get(arriving, names[None])
        if (names := self._leaving) is not None:
            rows &= names.get(leaving, names[None])
        return self._owner[(rows & -rows).bit_length() - 1] if rows else None


def _cuts(rows: Sequence[Spans | None]) -> tuple[list[int], list[int]] | None:
    if all(r is None for r in rows):
        return None
    everywhere = 0
    flips: dict[int, int] = {0: 0}
    for number, spans in enumerate(rows):
        bit = 1 << number
        if spans is None:
            everywhere |= bit
            continue
        for first, last in spans:
            flips[first] = flips.get(first, 0) ^ bit
            flips[last + 1] = flips.get(last + 1, 0) ^ bit
    starts = sorted(flips)
    masks = []
    mask = everywhere
    for start in starts:
        mask ^= flips[start]
        masks.append(mask)
    return starts, masks


def _by_name(rows: Sequence[tuple[str, ...] | None]) -> dict[str | None, int] | None:
    if all(r is None for r in rows):
        return None
    free = sum(1 << n for n, r in enumerate(rows) if r is None)
    out: dict[str | None, int] = {None: free}
    for number, names in enumerate(rows):
        for name in names or ():
            out[name] = out.get(name, free) | 1 << number
    return out


class ListTable:
    """An access list as one device reads it: first match decides.

    Attributes:
        source: the list as written.
        rules: its rules with their sets.
        first: asked with a packet and the names of its arriving and leaving interface, it gives the rule that
            decides, or None when no rule matches. Disabled and `note` rules never decide.

    """

    __slots__ = ("first", "rules", "source")

    def __init__(self, source: AccessList, own: Spans) -> None:
        self.source = source
        self.rules = tuple(Compiled(r, boxes_of(r, own)) for r in source.rules)
        self.first: Callable[[Packet, str | None, str | None], Compiled | None] = self._first_of_all

    def _first_of_all(self, packet: Packet, arriving: str | None, leaving: str | None) -> Compiled | None:
        """Make the index when the first packet comes; later ones ask it straight."""
        deciding = [c for c in self.rules if not c.rule.disabled and c.rule.verdict is not Verdict.NOTE]
        self.first = _Index(deciding).first
        return self.first(packet, arriving, leaving)

    def passed_over(self, packet: Packet, arriving: str | None, leaving: str | None) -> tuple[PassedOver, ...]:
        """The rules above the one that decides (all of them when none does) that do not match, with the reason."""
        winner = self.first(packet, arriving, leaving)
        out = []
        for compiled in self.rules:
            if compiled is winner:
                break
            miss = next(compiled.misses(packet, arriving, leaving), None)
            if miss is not None:
                out.append(PassedOver(compiled.rule.id, compiled.rule.verdict.value, compiled.rule.mark, miss))
        return tuple(out)

    def noted(self, packet: Packet, arriving: str | None, leaving: str | None) -> tuple[Compiled, ...]:
        """The `note` rules that matched on the way to the decision."""
        winner = self.first(packet, arriving, leaving)
        out = []
        for compiled in self.rules:
            if compiled is winner:
                break
            if compiled.rule.verdict is Verdict.NOTE and next(compiled.misses(packet, arriving, leaving), None) is None:
                out.append(compiled)
        return tuple(out)

    def near_misses(self, packet: Packet, arriving: str | None, leaving: str | None) -> tuple[PassedOver, ...]:
        """The permits that fail by one condition alone: most often one of them was meant to match. Wrong ends come before wrong services."""
        out = []
        for compiled in self.rules:
            if compiled.rule.verdict is Verdict.PERMIT:
                misses = list(compiled.misses(packet, arriving, leaving))
                if len(misses) == 1:
                    out.append(PassedOver(compiled.rule.id, "permit", compiled.rule.mark, misses[0]))
        return tuple(sorted(out, key=lambda n: n.miss.field not in ("from", "to", "disabled")))


def translation_list(rules: Sequence[Translate], device: str, mark: Mark) -> AccessList:
    """Translation rules as a list of permits, so that they are matched by the same meaning."""
    return AccessList(
        f"translate of {device}",
        tuple(
            Rule(
                t.id,
                Verdict.PERMIT,
                t.mark,
                sources=t.sources,
                destinations=t.destinations,
                leaving=(t.leaving,),
                disabled=t.disabled,
                about=t.about,
            )
            for t in rules
        ),
        mark,
    )
