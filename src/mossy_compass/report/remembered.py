"""What a device remembers, as tables: sessions and mappings that live, and sessions that are over."""

from __future__ import annotations

from collections.abc import Iterator

from mossy_compass.model.durations import duration_words
from mossy_compass.packet.flow import FiveTuple
from mossy_compass.packet.service import ICMP, ICMP6, WITH_PORTS, protocol_name
from mossy_compass.plan.facts import NOBODY, Ended, Mapped, Phase, Session
from mossy_compass.plan.ids import TableKind
from mossy_compass.report.tables import Rows
from mossy_compass.report.words import ENDED
from mossy_compass.state.state import State


def of_memory(state: State, device: str, parts: tuple[str, ...]) -> Iterator[Rows]:
    """The tables that were asked for.

    Args:
        state: what devices remember.
        device: whose.
        parts: sessions, mappings, expectations, or several of them.

    """
    if "sessions" in parts:
        yield sessions(state, device)
        if state.ended(device):
            yield ended(state, device)
    if "mappings" in parts:
        yield mappings(state, device)
    if "expectations" in parts:
        yield expectations(state, device)


def sessions(state: State, device: str) -> Rows:
    """The sessions that live at a device, oldest first."""
    held = state.sessions(device)
    half = state.counts(device)[1]
    about = (
        f"{len(held)} session{'s live' if len(held) != 1 else ' lives'} at {device}{f', {half} of them half-open' if half else ''}"
    )
    rows = tuple(
        (
            f"{s.number} {protocol_name(s.inner.protocol)}",
            _flows(s),
            f"{_phase(s)}\n{life(s.began, s.ends, state.now)}",
            f"{_opened(s)}\n{s.packets} packet{'s' * (s.packets != 1)}, {s.size} bytes",
        )
        for s in held
    )
    return Rows(
        "sessions", about, ("session", "flow", "phase, and age", "opened under"), rows, tuple(_data(s, state.now) for s in held)
    )


def _phase(session: Session) -> str:
    """How far a session is; one of ICMP has no phases."""
    return session.phase.value if session.phase is not Phase.NONE else "no phases"


def ended(state: State, device: str) -> Rows:
    """The sessions of a device that are over, the latest first."""
    held = state.ended(device)[::-1]
    what = "1 session of {} is over" if len(held) == 1 else f"{len(held)} sessions of {{}} are over"
    about = f"{what.format(device)}, as far as its history goes back"
    rows = tuple(
        (
            f"{e.session.number} {protocol_name(e.session.inner.protocol)}",
            _flows(e.session),
            f"{ENDED[e.why]}, {_ago(e, state.now)}",
        )
        for e in held
    )
    data = tuple({**_data(e.session, state.now), "why": e.why, "ended-ago-ms": state.now - e.at} for e in held)
    return Rows("ended", about, ("session", "flow", "how it ended, and when"), rows, data)


def mappings(state: State, device: str) -> Rows:
    """The outer ends that inner ends have at a device, oldest first."""
    held = state.mappings(device)
    waiting = {e.mapping for e in state.expectations(device)}  # each holds its mapping, as a session does
    have = {m.number: m.sessions - (m.number in waiting) for m in held}
    about = f"{len(held)} mapping{'s live' if len(held) != 1 else ' lives'} at {device}"
    rows = tuple(
        (
            f"{m.number} {protocol_name(m.protocol)}",
            f"{_end(m.protocol, m.inner, m.inner_port)}\nis {_end(m.protocol, m.outer, m.outer_port)}",
            f"{_far(m)}\n{life(m.began, m.ends, state.now)}",
            f"{m.row}\n{have[m.number]} session{'s' * (have[m.number] != 1)}{', 1 expected' if m.number in waiting else ''}",
        )
        for m in held
    )
    data = tuple(
        {
            "mapping": m.number,
            "protocol": protocol_name(m.protocol),
            "inner": {"address": str(m.inner), "port": m.inner_port},
            "outer": {"address": str(m.outer), "port": m.outer_port},
            "far": None if m.far is None else {"address": str(m.far), "port": m.far_port or None},
            "rule": m.row,
            "sessions": have[m.number],
            **_times(m.began, m.ends, state.now),
        }
        for m in held
    )
    return Rows("mappings", about, ("mapping", "inner end, and what it is outside", "for whom, and age", "rule"), rows, data)


def expectations(state: State, device: str) -> Rows:
    """The second channels that may be opened through a device, oldest first."""
    held = state.expectations(device)
    about = f"{device} expects {len(held)} second channel{'s' * (len(held) != 1)}"
    rows = tuple(
        (
            f"{e.number} {protocol_name(e.protocol)}",
            f"{_end(e.protocol, e.address, e.port)}{f'{chr(10)}is {_end(e.protocol, e.inner, e.inner_port)}' if e.translated else ''}",
            f"{e.opener or 'anybody'}\n{life(e.began, e.ends, state.now)}",
            f"helper {e.helper}\nsession {e.session}" if e.helper else "announced by itself",
        )
        for e in held
    )
    data = tuple(
        {
            "expectation": e.number,
            "protocol": protocol_name(e.protocol),
            "at": {"address": str(e.address), "port": e.port},
            "inner": {"address": str(e.inner), "port": e.inner_port},
            "opener": None if e.opener is None else str(e.opener),
            "helper": e.helper or None,
            "session": e.session or None,
            "mapping": e.mapping or None,
            **_times(e.began, e.ends, state.now),
        }
        for e in held
    )
    return Rows("expectations", about, ("channel", "to be opened to", "by whom, and age", "read by"), rows, data)


def _data(session: Session, now: int) -> dict[str, object]:
    """A session as plain data; of ICMP, ports are the identifier."""
    table, row = session.opened_by
    return {
        "session": session.number,
        "protocol": protocol_name(session.inner.protocol),
        "before": _flow_data(session.inner),
        "after": _flow_data(session.outer),
        "arriving": session.arriving,
        "leaving": session.leaving,
        "phase": session.phase.value,
        "opened-under": None if session.opened_by == NOBODY else {"table": str(table), "row": row},
        "mapping": session.mapping or None,
        "packets": session.packets,
        "bytes": session.size,
        **_times(session.began, session.ends, now),
    }


def _flow_data(flow: FiveTuple) -> dict[str, object]:
    """Both ends of a flow as plain data."""
    source, destination = str(flow.source), str(flow.destination)
    return {"source": source, "from-port": flow.from_port, "destination": destination, "to-port": flow.to_port}


def _times(began: int, ends: int | None, now: int) -> dict[str, object]:
    """How old something is, and how long it lives without a packet: None for ever."""
    return {"age-ms": now - began, "rest-ms": None if ends is None else max(0, ends - now)}


def _flows(session: Session) -> str:
    """Both ends as the opening packet came, and below it as it left, where that is another."""
    before, after = _flow(session.inner), _flow(session.outer)
    return before if before == after else f"{before}\nas {after}"


def _flow(flow: FiveTuple) -> str:
    """Both ends of a flow."""
    ask = f" id {flow.from_port}" if flow.protocol in (ICMP, ICMP6) else ""
    return f"{_end(flow.protocol, flow.source, flow.from_port, bare=bool(ask))} > {_end(flow.protocol, flow.destination, flow.to_port, bare=bool(ask))}{ask}"


def _end(protocol: int, address: object, port: int, bare: bool = False) -> str:
    """An end: address and port, or identifier; the address alone where a protocol has neither."""
    if protocol in (ICMP, ICMP6):
        return str(address) if bare else f"{address} id {port}"
    if protocol not in WITH_PORTS:
        return str(address)
    return f"[{address}]:{port}" if ":" in str(address) else f"{address}:{port}"


def life(began: int, ends: int | None, now: int) -> str:
    """How old something is, and how long it lives without a packet."""
    rest = "never ends" if ends is None else f"{duration_words(max(0, ends - now))} left"
    return f"{duration_words(now - began)} old, {rest}"


def _ago(over: Ended, now: int) -> str:
    """When a session ended."""
    return f"{duration_words(now - over.at)} ago" if now > over.at else "just now"


def _opened(session: Session) -> str:
    """The row that let the session's first packet pass."""
    if session.opened_by == NOBODY:
        return "no rule"
    table, row = session.opened_by
    return f"{table.name} rule {row}" if table.kind is TableKind.LIST else f"{table.name} {row}"


def _far(mapping: Mapped) -> str:
    """The far end that a mapping is for."""
    if mapping.far is None:
        return "any far end"
    return _end(mapping.protocol, mapping.far, mapping.far_port) if mapping.far_port else f"any port of {mapping.far}"
