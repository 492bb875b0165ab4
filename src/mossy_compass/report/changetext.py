"""A change of a network file as text: what changes in the file, for the tests, and for each rule; worst first."""

from __future__ import annotations

import difflib
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from rich.console import Group, RenderableType
from rich.text import Text

from mossy_compass.lab.differences import Unlike
from mossy_compass.lab.versions import Compared
from mossy_compass.marks import Problem
from mossy_compass.proof.effects import Effects, ListEffect, PlaceEffect, RowEffect, Turn
from mossy_compass.proof.findings import example
from mossy_compass.proof.likely import Witness
from mossy_compass.proof.ways import MAIN, MOST_ROUTES, WayEffect, Ways
from mossy_compass.report import versionstext
from mossy_compass.report.text import problem, table
from mossy_compass.routing.table import Route
from mossy_compass.walk.grid import Cell, Changes, cell_dict, differences

MOST_FINDINGS = 8
"""So many findings that a change brings are shown."""


def difference(before: str, after: str, name: str) -> list[str]:
    """The lines that change, with three around them, as tools that compare texts write them."""
    lines = difflib.unified_diff(before.splitlines(), after.splitlines(), name, f"{name} (changed)", lineterm="", n=2)
    out = list(lines)
    while out and not out[-1].strip():
        out.pop()
    return out


def head(
    name: str,
    by: str,
    found: Changes | None,
    tests: int,
    effects: Effects,
    written: bool,
    blind: Sequence[str] = (),
    everything: Compared | None = None,
) -> str:
    """The answer in a line: what the change does to everybody, what nobody knows of it, and whether it is in the file."""
    done = "it is written" if written else "nothing is written; --write does it"
    fares = "there was nothing to test" if found is None else _fares(found, tests, effects)
    fares = versionstext.head(everything) if everything is not None else fares
    return f"{name} with {by}: {fares}{_blind(blind)}; {done}."


def _blind(places: Sequence[str]) -> str:
    """What differs where no test looks, and what it does could not be worked out."""
    if not places:
        return ""
    more = f" and {len(places) - 2} more" if len(places) > 2 else ""
    return f"; NOT KNOWN what {', '.join(places[:2])}{more} {'does' if len(places) == 1 else 'do'}: no test that ends otherwise passes there"


def compared(
    name: str, by: str, found: Changes, tests: int, effects: Effects, apart: Sequence[Unlike] = (), blind: Sequence[str] = ()
) -> str:
    """The answer of a comparison in a line."""
    new = len(found.come) + len(found.gone)
    more = f", {new} test{'s are' if new > 1 else ' is'} in one of the two alone" if new else ""
    if blind:
        more += _blind(blind)
    elif apart and not found and not effects:
        more = f", though the versions differ in {len(apart)} place{'s' if len(apart) > 1 else ''}, where no test looks"
    return f"{name} compared with {by}: {_fares(found, tests, effects)}{more}."


def _fares(found: Changes, tests: int, effects: Effects) -> str:
    """How many tests end differently, and how."""
    opens = sum(new.answered and not old.answered for old, new in found.changed)
    closes = sum(old.answered and not new.answered for old, new in found.changed)
    counted = (
        (closes, "closes", "close"),
        (opens, "opens", "open"),
        (len(found.changed) - opens - closes, "has another reason", "have another reason"),
        (len(found.rerouted), "goes another way", "go another way"),
    )
    parts = [f"{count} {one if count == 1 else many}" for count, one, many in counted if count]
    if not parts:
        more = ["lists decide other packets"] if effects.filtering else []
        more += ["routes lead elsewhere"] if effects.ways else []
        return f"no test changes{', but ' if more else ''}{' and '.join(more)} ({tests} tests)"
    return f"of {tests} tests {', '.join(parts)}"


def whole(
    first: str,
    about: str,
    lines: Sequence[str] | None,
    found: Changes | None,
    effects: Effects,
    apart: Sequence[Unlike] = (),
    new: Sequence[Problem] = (),
    everything: Compared | None = None,
) -> RenderableType:
    """The answer, then what changes for tests or for all packets, in lists, and in the file: its lines, or the places that differ."""
    parts: list[RenderableType] = [Text(first, style="bold")]
    if about:
        parts.append(Text(f"  purpose  {about}", style="dim"))
    if found:
        parts += [Text(""), Text("For the tests, closed ones first:", style="bold"), cells(found)]
    parts += versionstext.parts(everything) if everything is not None else []
    parts += _exactly(effects, "For packets" if everything is None else "In lists")
    if lines is not None:
        parts += [Text(""), Text("In the file:", style="bold"), *map(_line, lines or ["  nothing"])]
    if apart:
        parts.append(_written_apart(apart))
    if new:
        parts += [Text(""), Text("What is found in the changed network, and was not before:", style="bold")]
        parts += [problem(p) for p in new[:MOST_FINDINGS]]
        if len(new) > MOST_FINDINGS:
            parts.append(Text(f"... and {len(new) - MOST_FINDINGS} more: mossy check says them."))
    return Group(*parts)


def _exactly(effects: Effects, what: str) -> list[RenderableType]:
    """What changes for packets, list by list and place by place."""
    title = f"{what}, exactly:" if effects.filtering else "No list decides other packets than before."
    lists = [part for effect in effects.lists for part in _effect(effect)]
    return [Text(""), Text(title, style="bold"), *lists, *_places(effects.places), *_ways(effects.ways)]


def _ways(ways: Ways) -> list[RenderableType]:
    """Where destinations are sent another way, device by device."""
    if ways.unknown:
        return [Text(""), Text(f"Routes are not compared: {_UNKNOWN[ways.unknown]}.")]
    if not ways:
        return []
    counts = Counter(e.device for e in ways.found)
    lost = {d for d, count in counts.items() if count > 2} - {e.device for e in ways.found if e.after is not None}
    alike: dict[tuple[str, str, str], list[WayEffect]] = {}
    for effect in ways.found:
        # A device that is cut off loses every route, each of its own way: that is one thing to tell.
        was = "whatever way" if effect.device in lost else _way(effect, effect.before)
        device = effect.device if effect.table == MAIN else f"{effect.device}, table {effect.table}"
        alike.setdefault((device, was, _way(effect, effect.after)), []).append(effect)
    rows = [(device, _destinations(some), was, now) for (device, was, now), some in list(alike.items())[:MOST_SHOWN]]
    heads = ("device", "destination", "before", "now")
    out: list[RenderableType] = [Text(""), Text("For routes:", style="bold"), table(heads, rows)]
    if len(alike) > MOST_SHOWN:
        out.append(Text(f"... and {len(alike) - MOST_SHOWN} more; --format json has them all", style="dim"))
    return out


_UNKNOWN = {
    "unsettled": "redistribution between protocols has no stable state in one of the versions",
    "many": f"the tables that differ have more than {MOST_ROUTES:,} rows",
}


def _destinations(some: Sequence[WayEffect]) -> str:
    """The first of some destinations that are sent alike, with the number of the rest."""
    first = some[0].prefix
    name = {4: "default", 6: "default6"}[first.family] if first.is_default else str(first)
    return name + (f" and {len(some) - 1} more" if len(some) > 1 else "")


def _way(effect: WayEffect, route: Route | None) -> str:
    """Where a route leads, in words; its prefix only where that is wider than the destination."""
    if route is None:
        return "no route"
    name = route.origin if route.prefix == effect.prefix else route.words()
    ways = [h.words() for h in route.hops[:MOST_NAMED]]
    ways += [f"{len(route.hops) - MOST_NAMED} ways more"] if len(route.hops) > MOST_NAMED else []
    return f"{name}, {' or '.join(ways) or route.action.value}"


def _written_apart(apart: Sequence[Unlike]) -> RenderableType:
    """Where two versions are written otherwise, whether a test notices or not."""
    rows = [(f"  {one.place}", one.what) for one in apart[:MOST_SHOWN]]
    if len(apart) > MOST_SHOWN:
        rows.append((f"  ... and {len(apart) - MOST_SHOWN} more; --format json has them all", ""))
    return Group(Text(""), Text("The versions differ in:", style="bold"), table(("  place in the file", "how"), rows))


def _line(line: str) -> Text:
    """A line of the difference in its colour."""
    style = {"+": "green", "-": "red", "@": "cyan"}.get(line[:1], "")
    return Text(line, style="bold" if line.startswith(("+++", "---")) else style, overflow="fold")


def cells(found: Changes) -> RenderableType:
    """The tests that change, those together that change alike: what closes first, then what opens, then the rest."""
    groups: dict[tuple[str, str, str], list[Cell]] = {}
    for old, new in sorted(found.changed, key=_rank):
        groups.setdefault((old.words, new.words, new.reason), []).append(new)
    for old, new in found.rerouted:
        what, was, now = differences(old, new)[0]
        groups.setdefault((old.words, new.words, f"{what}: {was}, now {now}"), []).append(new)
    rows = [(str(len(some)), was, now, f"{why}\n{_such(some)}") for (was, now, why), some in list(groups.items())[:MOST_SHOWN]]
    made: list[RenderableType] = [table(("tests", "before", "after", "by, and which"), rows, 3)]
    more = sum(map(len, groups.values())) - sum(len(some) for some in list(groups.values())[:MOST_SHOWN])
    if more > 0:
        made.append(Text(f"... and {more} more; --format json has them all", style="dim"))
    if found.come or found.gone:
        made.append(Text(f"{len(found.come)} tests are new, {len(found.gone)} are gone.", style="dim"))
    return Group(*made)


def _rank(pair: tuple[Cell, Cell]) -> int:
    """Closed before opened before the rest."""
    old, new = pair
    return 0 if old.answered and not new.answered else 1 if new.answered and not old.answered else 2


def _such(some: Sequence[Cell]) -> str:
    """The first tests of a group, with the number of the rest."""
    more = f", and {len(some) - MOST_NAMED} more" if len(some) > MOST_NAMED else ""
    return ", ".join(f"{c.source} → {c.target} {c.service}" for c in some[:MOST_NAMED]) + more


MOST_NAMED = 3
MOST_SHOWN = 20


def _effect(effect: ListEffect) -> list[RenderableType]:
    """What a change does to one list."""
    out: list[RenderableType] = [Text(f"list {effect.name}{_where(effect)}:")]
    if effect.unknown:
        return [*out, Text(f"  {effect.unknown}")]
    if effect.idle:
        return [*out, Text(f"  {_IDLE[effect.idle]}")]
    out += _turns(effect.turns, _CHOSEN if effect.chooses and not effect.devices else None)
    rows = [(_called(row), _shown(row.grew), _shown(row.shrank)) for row in effect.rows]
    if not effect.turns:
        out.append(Text("  no packet gets another verdict; other rules decide:"))
    return [
        *out,
        table(("  rule", "decides now, and did not", "decided, and does not now"), [("  " + a, b, c) for a, b, c in rows]),
    ]


_IDLE = {
    "taken": "it has no effect: the lists asked before it decide every packet that it would treat otherwise",
    "same": "no packet gets another verdict: what its rules leave to the lists after it, or to the end, fares as before",
}
"""Why nothing comes of other rules."""
_CHOSEN = {"permit": "chosen", "deny": "passed over", "reject": "passed over"}
"""What verdicts come to where a list says which packets a policy route is about."""


def _where(effect: ListEffect) -> str:
    """Where a list stands, or what it is for."""
    chooses = f"by which {', '.join(effect.chooses)} chooses ways" if effect.chooses else ""
    if not effect.devices:
        return f", {chooses or 'which stands nowhere'}"
    return f" at {', '.join(effect.devices)}" + (f", and {chooses}" if chooses else "")


def _called(row: RowEffect) -> str:
    """A rule by its id, with the one that it had; whether it is new or gone."""
    more = row.state or (f"was {row.was}" if row.was != row.row else "")
    return f"{row.row} ({more})" if more else row.row


def _turns(turns: Sequence[Turn], words: Mapping[str, str] | None = None) -> list[RenderableType]:
    """The verdicts that change, a line each, in other words where a verdict comes to something else."""
    words = words or {}
    pairs = [(words.get(t.before, t.before), words.get(t.after, t.after), t.witness) for t in turns]
    return [
        Text.assemble("  ", (f"{before} becomes {after}", "bold"), f", for example {example(witness)}")
        for before, after, witness in pairs
        if before != after
    ]


def _places(effects: Sequence[PlaceEffect]) -> list[RenderableType]:
    """What a change does where lists stand; places alike together, with the first one's example."""
    alike: dict[tuple[object, ...], list[PlaceEffect]] = {}
    for effect in effects:
        alike.setdefault((effect.device, effect.lists, effect.ends, effect.unknown, effect.verdicts), []).append(effect)
    out: list[RenderableType] = []
    for some in list(alike.values())[:MOST_SHOWN]:
        first = some[0]
        said = [f"{', '.join(names) or 'no list'}, else {end}" for names, end in zip(first.lists, first.ends, strict=True)]
        more = f" and {len(some) - MOST_NAMED} more places" if len(some) > MOST_NAMED else ""
        places = ", ".join(e.where for e in some[:MOST_NAMED]) + more
        out.append(Text(f"at {first.device}, {places}: {'; now '.join(dict.fromkeys(said))}"))
        out += [Text(f"  {first.unknown}")] if first.unknown else _turns(first.turns)
    if len(alike) > MOST_SHOWN:
        out.append(Text(f"... and {len(alike) - MOST_SHOWN} more; --format json has them all", style="dim"))
    return out


def _shown(witness: Witness | None) -> str:
    """An example, without the flag that every opening TCP packet has, to be short; a dash for none."""
    return example(witness).replace(" SYN", "") if witness is not None else "-"


def as_dict(
    first: str,
    about: str,
    lines: Sequence[str],
    changes: Changes | None,
    effects: Effects,
    apart: Sequence[Unlike] = (),
    blind: Sequence[str] = (),
    new: Sequence[Problem] = (),
    everything: Compared | None = None,
) -> dict[str, Any]:
    """The same as plain data."""
    changes = changes if changes is not None else Changes((), (), (), ())
    return {
        "mossy-changes": 1,
        "answer": first,
        "about": about,
        "file": list(lines),
        "differ": [one._asdict() for one in apart],
        "not-known": list(blind),
        "findings": [{"code": p.code, "severity": p.severity.value, "message": p.message, "place": p.mark.full()} for p in new],
        "tests": [{"before": cell_dict(old), "after": cell_dict(new)} for old, new in (*changes.changed, *changes.rerouted)],
        "new": [cell_dict(c) for c in changes.come],
        "gone": [cell_dict(c) for c in changes.gone],
        "rules": [_list_dict(effect) for effect in effects.lists],
        "places": [_place_dict(effect) for effect in effects.places],
        "routes": [
            {
                "device": e.device,
                "table": e.table,
                "destination": str(e.prefix),
                "before": _way(e, e.before),
                "after": _way(e, e.after),
            }
            for e in effects.ways.found
        ],
        "routes-unknown": effects.ways.unknown,
        "all-packets": versionstext.as_dict(everything) if everything is not None else None,
    }


def _list_dict(effect: ListEffect) -> dict[str, Any]:
    """What a change does to one list, as plain data."""
    rows = [
        {"rule": r.row, "was": r.was, "state": r.state, "decides-now": _data(r.grew), "decided-before": _data(r.shrank)}
        for r in effect.rows
    ]
    verdicts = _turned(effect.turns)
    return {
        "list": effect.name,
        "devices": list(effect.devices),
        "chooses": list(effect.chooses),
        "unknown": effect.unknown,
        "no-effect": effect.idle,
        "verdicts": verdicts,
        "rows": rows,
    }


def _place_dict(effect: PlaceEffect) -> dict[str, Any]:
    """What a change does to one place, as plain data."""
    return {
        "device": effect.device,
        "where": effect.where,
        "lists": {"before": list(effect.lists[0]), "after": list(effect.lists[1])},
        "otherwise": {"before": effect.ends[0], "after": effect.ends[1]},
        "unknown": effect.unknown,
        "verdicts": _turned(effect.turns),
    }


def _turned(turns: Sequence[Turn]) -> list[dict[str, Any]]:
    """The verdicts that change, as plain data."""
    return [{"before": t.before, "after": t.after, "example": _data(t.witness)} for t in turns]


def _data(witness: Witness | None) -> str | None:
    """An example packet; None for none."""
    return example(witness) if witness is not None else None
