"""As whom hosts are seen outside, as a table: what is lacking stands in the first line."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType
from rich.text import Text

from mossy_compass.lab.seen import SeenAs
from mossy_compass.report import text


def about(found: Sequence[SeenAs]) -> str:
    """The answer in a sentence: how many hosts are hidden, and which uplinks lack a rule for whom."""
    hosts = list(dict.fromkeys(s.host for s in found))
    if not hosts:
        return "no host has an address of one's own networks, so nobody is to be hidden"
    lacking: dict[str, list[str]] = {}
    for entry in found:
        if entry.lacking and entry.uplink:
            lacking.setdefault(f"{entry.device}/{entry.uplink}", []).append(entry.host)
    words = f"{len(hosts)} host{'s' * (len(hosts) != 1)}"
    if not lacking:
        return f"{words}: by every uplink whoever gets out is seen under an address that can be answered"
    parts = [
        f"{where} shows {text.some_of(names, 3)} under addresses that nobody can answer to" for where, names in lacking.items()
    ]
    return f"{words}: {'; '.join(parts)}"


def seen(found: Sequence[SeenAs]) -> RenderableType:
    """The answer, and a row for each host and uplink."""
    rows = [
        (
            f"{s.host} ({s.address})",
            f"{s.device}/{s.uplink}" if s.uplink else "-",
            "now" if s.now else "if it left there" if s.uplink else "",
            str(s.outer) if s.outer is not None else "-",
            s.note or (f"rule {s.rule}" if s.rule else "no rule matches") + (", and answers do not get back" if s.lacking else ""),
        )
        for s in found
    ]
    head = Text(f"{about(found)}{':' if rows else '.'}", style="bold")
    if not rows:
        return head
    return Group(head, text.table(("host", "uplink", "when", "seen as", "by"), rows, 4))


def seen_dict(found: Sequence[SeenAs]) -> dict[str, object]:
    """The same as plain data."""
    return {
        "mossy-seen": 1,
        "about": about(found),
        "hosts": [
            {
                "host": s.host,
                "address": str(s.address),
                "device": s.device,
                "uplink": s.uplink or None,
                "now": s.now,
                "seen-as": None if s.outer is None else str(s.outer),
                "rule": s.rule or None,
                "lacking": s.lacking,
                "note": s.note,
            }
            for s in found
        ],
    }
