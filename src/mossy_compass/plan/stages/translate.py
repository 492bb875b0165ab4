"""Address translation: destinations before the route is asked for, sources after it (RFC 2663, RFC 3022).

A session's own rewriting goes before any rule, so that an answer is put back and a further packet goes as the first did.
Rules are for packets that may open a session: what answers nothing that the device knows of is never translated anew.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from mossy_compass.model.network import Rule, Translate, Verdict
from mossy_compass.packet.address import LAST_KEY, V6_BASE, Span
from mossy_compass.packet.flow import flow_of
from mossy_compass.plan.actions import PASS, Action, Allocate, Decision, Half, Rewrite, Stop
from mossy_compass.plan.conditions import Condition, conditions_of
from mossy_compass.plan.facts import Facts, Relation
from mossy_compass.plan.order import Stage
from mossy_compass.plan.reasons import Because, Did, Fate, setting
from mossy_compass.plan.rows import Row
from mossy_compass.plan.stages.step import Step
from mossy_compass.plan.table import Table

if TYPE_CHECKING:
    from mossy_compass.plan.plan import DevicePlan

_FAMILY = {4: Span(0, V6_BASE - 1), 6: Span(V6_BASE, LAST_KEY)}


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
        disabled=entry.disabled,
        about=entry.about,
    )


def rules_table(here: DevicePlan, half: Half) -> Table:
    """The device's rules about sources, or about destinations."""
    rows = []
    for entry in here.device.translate:
        if entry.becomes_interface is not (half is Half.SOURCE):
            continue
        family = Condition("family", (("destination", (_FAMILY[entry.family],)),), (str(entry.family),))
        new: Action = Allocate() if half is Half.SOURCE else Rewrite(half, entry.goes_to, entry.to_port)
        conditions = (family, *conditions_of(as_rule(entry), here.reader))
        rows.append(Row(entry.id, conditions, entry.mark, actions=(new,), disabled=entry.disabled, about=entry.about))
    return Table(f"translate {half}", rows, here.device.mark, f"translate of {here.name}")


def _by_session(here: DevicePlan, facts: Facts, half: Half) -> Decision | None:
    """The session's own half; an executor makes no ruling where it changes nothing."""
    session = facts.session
    if session is None or not session.translated:
        return None
    inspected = facts.packet.protocol in here.tracked or facts.admitted
    code = "session.known" if inspected else "translation.undo"
    return Decision(Did.REWRITTEN, Because(code, (session.number, here.name)), (Rewrite(half),))


def destination(here: DevicePlan, port: str | None) -> Step | None:
    """Where packets go instead, by a rule of the arriving interface; or by their session, in both directions."""
    if port is None or not here.device.translate:
        return None
    table = here.translations[Half.DESTINATION]

    def decide(facts: Facts) -> Decision | None:
        """The session's own rewriting first; then the rules, for what opens something."""
        if facts.session is not None:
            return _by_session(here, facts, Half.DESTINATION)
        if facts.relation is not Relation.OPENING:
            return None
        row = table.first(facts)
        return None if row is None else _by_rule(here, table, row)

    return Step(Stage.TRANSLATE_DESTINATION, None, decide)


def _by_rule(here: DevicePlan, table: Table, row: Row) -> Decision:
    """The rewriting that a rule asks for."""
    because = Because("translation", (row.id, here.name), row.mark, row.about)
    return Decision(Did.REWRITTEN, because, row.actions, None, table.id, row.id)


def source(here: DevicePlan, port: str | None) -> Step | None:
    """What sources become as they leave; or by their session. A device does not translate its own addresses."""
    if not here.device.translate:
        return None
    table = here.translations[Half.SOURCE]
    wanted = _leaving_families(here.device.translate, here)

    def decide(facts: Facts) -> Decision | None:
        """The session's own rewriting first; then the rules, for what opens something."""
        if facts.session is not None:
            return _by_session(here, facts, Half.SOURCE)
        own = facts.arriving is None and facts.packet.source in here.own
        if facts.relation is not Relation.OPENING or own:
            return None
        row = table.first(facts)
        if row is not None:
            return _by_rule(here, table, row)
        if (facts.leaving, facts.packet.source.family) in wanted:
            return _unmatched(here, table, facts)
        return _same_outside(here, facts)

    return Step(Stage.TRANSLATE_SOURCE, None, decide)


def _leaving_families(rules: Sequence[Translate], here: DevicePlan) -> set[tuple[str | None, int]]:
    """The interfaces whose source rules a packet of a family may be expected to match."""
    out: set[tuple[str | None, int]] = set()
    for entry in rules:
        if entry.becomes_interface and not entry.disabled:
            names = entry.leaving or tuple(here.device.interfaces)
            out |= {(port, entry.family) for name in names for port in here.reader.ports.get(name, (name,))}
    return out


def _unmatched(here: DevicePlan, table: Table, facts: Facts) -> Decision:
    """No rule matched where rules exist: pass untranslated or drop, as the device's setting says."""
    near = table.near(facts, 1)
    values = (near[0].row.id, near[0].row.mark, near[0].misses) if near and len(near[0].misses) == 1 else ("", None, ())
    note = Because("note.untranslated", values)
    because = setting(here.settings, "unmatched-translation")
    if here.settings.drops_untranslated:
        return Decision(Did.DROPPED, because, (Stop(Fate.DROPPED, "nat.none"),), note, table.id)
    return Decision(Did.KEPT, because, PASS, note, table.id)


def _same_outside(here: DevicePlan, facts: Facts) -> Decision | None:
    """Two flows that would look alike outside, after their destinations were translated: the second gets another port.

    RFC 5382 REQ-1 and RFC 4787 REQ-1 say which mappings may be shared; an outer flow never may, since its answers would
    have two places to go to.
    """
    if facts.packet == facts.came or facts.memory is None or not facts.memory.taken(here.name, flow_of(facts.packet)):
        return None
    because = setting(here.settings, "mapping")
    return Decision(Did.REWRITTEN, because, (Allocate(facts.packet.source),))
