"""Address translation: destinations before the route is asked for, sources after it (RFC 2663, RFC 3022).

A session's own rewriting goes before any rule, so that an answer is put back and a further packet goes as the first did.
Rules are for packets that may open a session: what answers nothing that the device knows of is never translated anew.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from mossy_compass.headers.spans import intersect, merge
from mossy_compass.model.network import Becomes, Rule, Translate, Verdict
from mossy_compass.packet.address import FAMILIES, Span, from_key
from mossy_compass.packet.service import TCP
from mossy_compass.plan.actions import PASS, Action, Allocate, BeginAnew, EndSession, Half, Hold, Rewrite, Stop
from mossy_compass.plan.conditions import Condition, conditions_of
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.fields import FIELDS
from mossy_compass.plan.ids import CITES_NOTHING, DEFAULTS, TableId, TableKind, stage_table
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate, setting
from mossy_compass.plan.rows import StageRow
from mossy_compass.plan.stages.helpers import expected
from mossy_compass.plan.stages.step import Step, one_of
from mossy_compass.plan.table import Table


def as_rule(entry: Translate) -> Rule:
    """The conditions of a translation rule, as those of a list's rule."""
    return Rule(
        entry.id,
        Verdict.PERMIT,
        entry.mark,
        sources=entry.sources,
        destinations=entry.destinations,
        services=entry.services,
        service_words=entry.service_words,
        arriving=entry.arriving,
        leaving=entry.leaving,
        hours=entry.hours,
        disabled=entry.disabled,
        about=entry.about,
    )


def rules_table(here: DevicePlan, half: Half) -> Table:
    """The device's rules about sources, or about destinations, in their order; a fixed pair is a rule of both."""
    rows = []
    entries = here.device.translate
    if half is Half.SOURCE:  # what has matched where destinations are translated has decided about the source too
        entries = (*(t for t in entries if not t.of_source), *(t for t in entries if t.of_source))
    for entry in entries:
        found = _of_source(here, entry) if half is Half.SOURCE else _of_destination(here, entry)
        if found is None:
            continue
        rule, actions = found
        family = Condition("family", (("destination", (FAMILIES[entry.family],)),), (str(entry.family),))
        because = Because("translation", (entry.id, here.name), entry.mark, entry.about)
        if entry.switch is not None:
            because = Because("translation.switch", (*entry.switch, here.name), entry.mark, entry.about)
        conditions = (family, *rule)
        row = StageRow(
            entry.id, conditions, entry.mark, disabled=entry.disabled, about=entry.about, because=because, actions=actions
        )
        # A rule that decides is seen, though nothing comes of it.
        rows.append(replace(row, did=Did.KEPT) if actions == PASS else row)
    return Table(TableId(TableKind.TRANSLATE, half.value), rows, here.device.mark, f"translate of {here.name}")


Found = tuple[tuple[Condition, ...], tuple[Action, ...]]


def _of_source(here: DevicePlan, entry: Translate) -> Found | None:
    """What an entry asks of packets that leave, and what it comes to; None where it is about destinations alone."""
    if not entry.of_source:
        if entry.becomes is None:
            return None
        # It was asked where destinations are translated; its second half follows because that row matched.
        return (one_of("front", entry.id),), _allocated(entry)
    if entry.switch is not None:  # the rule has asked already, and only what it let pass is meant
        return (one_of("switched", entry.id),), _allocated(entry)
    return conditions_of(as_rule(entry), here.reader), _allocated(entry)


def _allocated(entry: Translate) -> tuple[Action, ...]:
    """What becomes of a source."""
    if entry.becomes is Becomes.EXEMPT:
        return PASS
    if entry.becomes is Becomes.PAIR:
        return (Rewrite(Half.SOURCE, shift=_shift(entry)),)
    return (Allocate(pool=entry.outer),)


def _shift(entry: Translate) -> int:
    """How far the partners of a fixed pair lie from their sources."""
    inner = intersect(merge(s for t in entry.sources or () for s in t.spans or ()), (FAMILIES[entry.family],))
    return entry.outer[0].first - inner[0].first if inner and entry.outer else 0


def _of_destination(here: DevicePlan, entry: Translate) -> Found | None:
    """What an entry asks of packets that arrive, and what it comes to; None where it is about sources alone."""
    if entry.of_source:
        if entry.becomes is not Becomes.PAIR:
            return None
        back = (Condition("to", (("destination", entry.outer),), tuple(f"{from_key(s.first)}" for s in entry.outer)),)
        ports = here.reader.interfaces(entry.leaving)
        by = (one_of("arriving", *ports),) if ports else ()
        return (*back, *by), (Rewrite(Half.DESTINATION, shift=-_shift(entry)),)
    conditions = conditions_of(as_rule(entry), here.reader)
    if entry.exempt:
        return conditions, PASS
    moved = _moved_by(entry)
    port = None if moved else entry.to_port
    if entry.redirects:
        return conditions, (Rewrite(Half.DESTINATION, None, port, port_shift=moved, own=True),)
    if entry.servers:
        return conditions, (Rewrite(Half.DESTINATION, None, port, port_shift=moved, servers=entry.servers),)
    return conditions, (Rewrite(Half.DESTINATION, entry.goes_to, port, port_shift=moved),)


def _moved_by(entry: Translate) -> int:
    """How far each port of a range is moved; 0 where all go to one port, or none is moved."""
    firsts = {s.ports.first for s in entry.services or () if s.ports is not None}
    ranged = any(s.ports is not None and s.ports.last > s.ports.first for s in entry.services or ())
    if entry.to_port is None or not entry.to_range or not ranged or len(firsts) != 1:
        return 0
    return entry.to_port - firsts.pop()


def _known(here: DevicePlan, half: Half) -> Table:
    """What is not for the rules: a packet of a session is rewritten as that one says, and what opens nothing stays as it is."""

    def tell(facts: Facts) -> tuple[Because, Because | None]:
        """Which session it is."""
        assert facts.session is not None
        inspected = facts.packet.protocol in here.tracked or facts.admitted
        if half is Half.SOURCE and FIELDS["strays"].read(facts):
            return Because("session.strays", (facts.session.number, here.name, facts.session.leaving or "")), None
        return Because("session.known" if inspected else "translation.undo", (facts.session.number, here.name)), None

    def strays(facts: Facts) -> tuple[Because, Because | None]:
        """The setting, and where the session left before."""
        assert facts.session is not None
        code = "note.moved" if value == "move" else "note.strays"
        note = Because(code, (facts.session.number, facts.session.leaving or "", facts.leaving or ""))
        return setting(here.settings, "flows-of-a-lost-uplink"), note

    value = here.settings.text("flows-of-a-lost-uplink")
    ends: tuple[Action, ...] = (EndSession(), Stop(Fate.DROPPED, "session.uplink")) if value == "cut" else (BeginAnew(),)
    strayed = StageRow(
        "strays",
        (one_of("strays", True),),
        actions=ends,
        did=Did.KEPT if value == "move" else None,
        tell=strays,
        cites=(DEFAULTS, "flows-of-a-lost-uplink"),
    )
    return Table(
        stage_table(f"known {half.value}"),
        [
            *([strayed] if half is Half.SOURCE and value != "keep" else []),
            StageRow("session", (one_of("session", True),), actions=(Rewrite(half),), tell=tell, cites=CITES_NOTHING),
            StageRow(
                "nothing-opened", (one_of("relation", *(set(Relation) - {Relation.OPENING, Relation.EXPECTED})),), actions=PASS
            ),
        ],
    )


HELD_FOR = 6000
"""How long a SYN that nobody asked for is held, in milliseconds (RFC 5382 REQ-4)."""
MAPPED = "(mapping)"
"""Stands for the row that translated a packet, where that was no written rule but the mapping whose outer end it was sent to."""


def _mapped(here: DevicePlan) -> Iterator[StageRow]:
    """What comes from outside to the outer end of a mapping, and belongs to no session (RFC 4787 section 5).

    It is let through to the inner end where ``filtering`` says so of its sender; else it ends here, before the device's own ports.
    """

    def tell(facts: Facts) -> tuple[Because, Because | None]:
        """Which mapping, and what is said of its senders."""
        assert facts.mapping is not None
        held = facts.mapping
        values = held.number, here.name, held.outer, held.outer_port, held.inner, here.settings.text("filtering")
        return Because("mapping", values, here.settings.mark("filtering")), None

    def announced(facts: Facts) -> tuple[Because, Because | None]:
        """Who waits there."""
        return expected(here, facts), None

    if here.device.helpers:
        opened = one_of("relation", Relation.EXPECTED), one_of("mapped", True)
        yield StageRow("expected", opened, actions=(Rewrite(Half.DESTINATION),), tell=announced, cites=CITES_NOTHING)
    to_it = one_of("mapped", True), one_of("opens", True)
    cites = (DEFAULTS, "filtering")
    yield StageRow("mapping", (*to_it, one_of("welcome", True)), actions=(Rewrite(Half.DESTINATION),), tell=tell, cites=cites)
    if here.settings.text("unsolicited-syn") == "hold":
        held = Hold(HELD_FOR), Stop(Fate.DROPPED, "nat.held")
        yield StageRow("held", (*to_it, one_of("conversation", TCP)), actions=held, tell=tell, cites=(DEFAULTS, "unsolicited-syn"))
    yield StageRow("filtered", to_it, actions=(Stop(Fate.DROPPED, "nat.filtered"),), tell=tell, cites=cites)


def destination(here: DevicePlan, port: str | None) -> Step | None:
    """Where packets go instead, by a rule of the arriving interface; or by their session, in both directions."""
    if port is None or not here.device.translate:
        return None
    known = here.once((Stage.TRANSLATE_DESTINATION, "known"), lambda: _known(here, Half.DESTINATION))
    mapped = here.once((Stage.TRANSLATE_DESTINATION, "mapped"), lambda: Table(stage_table("mapped"), list(_mapped(here))))
    return Step(Stage.TRANSLATE_DESTINATION, (), (known, mapped, here.translations[Half.DESTINATION]))


def source(here: DevicePlan, port: str | None) -> Step | None:
    """What sources become as they leave; or by their session. A device does not translate its own addresses."""
    if not here.device.translate:
        return None
    return Step(
        Stage.TRANSLATE_SOURCE, (), here.once((Stage.TRANSLATE_SOURCE, port is None), lambda: _source_tables(here, port is None))
    )


def _source_tables(here: DevicePlan, own_packet: bool) -> tuple[Table, ...]:
    """What is asked of sources, in order: the session, for a packet of the device itself whether it is its own, the rules."""
    own = [StageRow("own", (Condition("from", (("source", here.own_spans),)),), actions=PASS)] if own_packet else []
    table = here.translations[Half.SOURCE]
    first = (_known(here, Half.SOURCE), *([Table(stage_table("own"), own)] if own else []), table)
    hairpin = list(_hairpin(here))
    return (*first, *([Table(stage_table("hairpin"), hairpin)] if hairpin else []), _untranslated(here, table))


def _hairpin(here: DevicePlan) -> Iterator[StageRow]:
    """What asked for an outer address from inside, and was sent on to somebody inside (RFC 4787 REQ-9a, RFC 5382 REQ-8).

    The source rule of the interface whose address was asked applies, and gives that address: else the answer would go to the asker
    directly, who asked somebody else.
    """
    ports = [p for p in here.device.interfaces.values() if not p.loopback]
    for entry in here.device.translate:
        if not entry.of_source or entry.switch is not None or entry.becomes not in (Becomes.INTERFACE, Becomes.POOL):
            continue
        leaves = here.reader.interfaces(entry.leaving)
        inside = [p.name for p in ports if p.name not in leaves]
        fronts = [*(t.id for t in here.device.translate if _asks_for(here, t, entry, leaves)), MAPPED]
        if not inside or not leaves:
            continue
        outer = entry.outer or tuple(Span(a.address.key, a.address.key) for p in ports if p.name in leaves for a in p.addresses)
        asked = one_of("front", *fronts), one_of("leaving", *inside), one_of("arriving", *inside)
        about = conditions_of(replace(as_rule(entry), destinations=None, arriving=None, leaving=None), here.reader)
        family = Condition("family", (("source", (FAMILIES[entry.family],)),), (str(entry.family),))
        pool = intersect(merge(outer), (FAMILIES[entry.family],))
        if not pool:
            continue
        because = Because("translation.hairpin", (entry.id, here.name), entry.mark, entry.about)
        actions: tuple[Action, ...] = (Allocate(pool=pool),)
        cites = (TableId(TableKind.TRANSLATE, Half.SOURCE.value), entry.id)
        conditions = (family, *asked, *about)
        yield StageRow(f"hairpin {entry.id}", conditions, actions=actions, because=because, cites=cites, disabled=entry.disabled)


def _asks_for(here: DevicePlan, front: Translate, entry: Translate, leaves: frozenset[str]) -> bool:
    """Whether a destination rule is about an outer address of a source rule: one that the rule gives, or of an interface of it."""
    if front.of_source or front.exempt:
        return False
    own = merge(
        Span(a.address.key, a.address.key)
        for p in leaves
        if p in here.device.interfaces
        for a in here.device.interfaces[p].addresses
    )
    wanted = merge(s for t in front.destinations or () for s in (here.own_spans if t.spans is None else t.spans))
    return bool(intersect(wanted, merge((*own, *entry.outer))))


def _untranslated(here: DevicePlan, table: Table) -> Table:
    """What becomes of a packet that no source rule matched: where one was expected, and where it would leave as another's."""

    def unmatched(facts: Facts) -> tuple[Because, Because | None]:
        """The setting, with the rule that it missed by one condition."""
        near = table.near(facts, 1)
        values = (near[0].row.id, near[0].row.mark, near[0].misses) if near and len(near[0].misses) == 1 else ("", None, ())
        return setting(here.settings, "unmatched-translation"), Because("note.untranslated", values)

    drops = here.settings.drops_untranslated
    actions: tuple[Action, ...] = (Stop(Fate.DROPPED, "nat.none"),) if drops else PASS
    rows = []
    for family in (4, 6):
        ports = {port for port, of in _leaving_families(here.device.translate, here) if of == family}
        if ports:
            meant = one_of("leaving", *ports), Condition("family", (("source", (FAMILIES[family],)),), (str(family),))
            did = Did.DROPPED if drops else Did.KEPT
            rows.append(StageRow(f"unmatched {family}", meant, actions=actions, did=did, tell=unmatched, cites=(table.id, "")))
    # RFC 5382 REQ-1 and RFC 4787 REQ-1 say which mappings may be shared; an outer flow never may, since its answers would
    # have two places to go to. So of two flows whose destinations became one the second gets another port.
    because = setting(here.settings, "mapping")
    rows.append(
        StageRow("clash", (one_of("clashes", True),), actions=(Allocate(keeps=True),), because=because, cites=CITES_NOTHING)
    )
    return Table(stage_table("untranslated"), rows)


def _leaving_families(rules: Sequence[Translate], here: DevicePlan) -> set[tuple[str | None, int]]:
    """The interfaces whose source rules a packet of a family may be expected to match."""
    out: set[tuple[str | None, int]] = set()
    for entry in rules:
        if entry.of_source and not entry.disabled and entry.switch is None:
            out |= {(port, entry.family) for port in here.reader.interfaces(entry.leaving or here.device.interfaces)}
    return out
