"""The stages that rewrite addresses, and undo it."""

from __future__ import annotations

from mossy_compass.packet.service import ICMP, ICMP6, TCP
from mossy_compass.plan.order import Stage
from mossy_compass.state.sessions import flow_of, rewrite_source, undo
from mossy_compass.walk.journey import Because, Fate
from mossy_compass.walk.passage import End, Passage, setting_because


def undo_translation(p: Passage) -> End | None:
    """An answer to a translated packet of a protocol without sessions gets its first addresses back."""
    if p.session is not None:
        return None
    found = p.sessions.answering(p.here.name, flow_of(p.packet))
    if found is not None and found.translated:
        saw = p.packet
        p.packet = undo(p.packet, found)
        if p.packet != saw:
            p.rule(
                Stage.UNDO,
                "rewritten",
                Because("translation", f"undo of translation {found.number} of {p.here.name}"),
                f"destination {saw.destination} becomes {p.packet.destination}",
                saw=saw,
            )
    return None


def source_translation(p: Passage) -> End | None:
    """Many to one: the leaving interface's address, with a port of its own (RFC 3022 section 2.2)."""
    if p.session is not None:
        if p.session.translated and flow_of(p.packet) == p.session.inner:
            saw, outer = p.packet, p.session.outer
            p.packet = rewrite_source(p.packet, outer.source, outer.from_port)
            p.rule(
                Stage.SOURCE,
                "rewritten",
                Because("session", f"session {p.session.number} of {p.here.name}"),
                f"source {saw.source} becomes {outer.source}",
                saw=saw,
            )
        return None
    table = p.here.translations
    if table is None or p.packet.is_error or p.leaving is None:
        return None
    if not any(c.rule.leaving and p.leaving in c.rule.leaving and not c.rule.disabled for c in table.rules):
        return None
    flow = flow_of(p.packet)
    if p.sessions.answering(p.here.name, flow_of(p.came)) is not None:
        return None
    if p.arriving is None and p.packet.source in p.here.own:
        return None
    found = table.first(p.packet, p.arriving, p.leaving)
    if found is None:
        near = table.near_misses(p.packet, p.arriving, p.leaving)
        note = (
            f"goes out untranslated: translation rule {near[0].id} ({near[0].mark}) misses by {near[0].miss.field}: {near[0].miss.words}"
            if near
            else "goes out untranslated: no translation rule matches"
        )
        if p.here.setting("unmatched-translation")[0] == "drop":
            return p.end(
                Stage.SOURCE,
                "dropped",
                End(Fate.DROPPED, "translation.none", setting_because(p.here, "unmatched-translation"), note),
                table,
            )
        p.rule(Stage.SOURCE, "kept", setting_because(p.here, "unmatched-translation"), note, table=table)
        return None
    address = p.here.source_for(p.leaving, p.packet.source.family)
    because = Because("translation", f"translation rule {found.rule.id} of {p.here.name}", found.rule.mark, found.rule.about)
    if address is None:
        return p.end(
            Stage.SOURCE,
            "dropped",
            End(Fate.DROPPED, "source.none", because, f"{p.leaving} has no IPv{p.packet.source.family} address to translate to"),
            table,
        )
    known = p.sessions.continuing(p.here.name, flow_of(p.came))
    port = (
        known.outer.from_port
        if known
        else p.sessions.free_port(p.here.name, flow, address, p.here.setting("keep-port")[0] == "yes")
    )
    if port is None:
        return p.end(
            Stage.SOURCE, "dropped", End(Fate.DROPPED, "translation.exhausted", because, f"all ports of {address} are taken"), table
        )
    saw = p.packet
    if p.packet.protocol not in (TCP, 17, 132, ICMP, ICMP6):
        port = p.packet.from_port
    p.packet = rewrite_source(p.packet, address, port)
    kind = "identifier" if saw.icmp >= 0 else "port"
    ports = f", {kind} {saw.from_port} kept" if port == saw.from_port else f", {kind} {saw.from_port} becomes {port}"
    p.rule(Stage.SOURCE, "rewritten", because, f"source {saw.source} becomes {address}{ports}", saw=saw, table=table)
    return None
