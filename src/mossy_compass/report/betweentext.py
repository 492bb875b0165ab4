"""What gets from where to where, as text of 100 columns and as plain data."""

from __future__ import annotations

from rich.console import Group, RenderableType
from rich.text import Text

from mossy_compass.lab.between import Between, Overview
from mossy_compass.lab.inwords import Arrives
from mossy_compass.report.text import some_of, table

MOST_NAMED = 6


def overview(found: Overview, name: str) -> RenderableType:
    """The answer in a line, then pair by pair."""
    made = table(["from", "to", "what of all that can be sent gets there"], [])
    for row in found.rows:
        made.add_row(Text(row.source), Text(row.target), _cell(row))
    cases = f", at {found.cases} moments and circumstances" if found.cases > 1 else ""
    tail = (
        f"Opening packets of every protocol, port and source port, from the hosts' own addresses to hosts, 64 bytes long, over every equal "
        f"way{cases}. Of what the target listens for it was asked too whether it is answered, from source ports of 1024 and above. Routers are asked about by name, with --to."
    )
    left = [Text(f"Not looked at: {words}.") for words in found.left]
    return Group(Text(head(found, name), style="bold"), made, Text(tail, style="dim"), *left)


def head(found: Overview, name: str) -> str:
    """The answer."""
    closed = sum(not r.arrives for r in found.rows)
    open_ = sum(_open(r) for r in found.rows)
    return (
        f"{name}: of {len(found.rows)} pairs {open_} let everything through, {len(found.rows) - open_ - closed} some packets, "
        f"{closed} none{_lost_answers(found)}."
    )


def _lost_answers(found: Overview) -> str:
    """What is said of pairs whose answers do not come home, in the first line."""
    lost = sum(bool(r.unanswered) for r in found.rows)
    return f"; of {lost} some answers do not come home" if lost else ""


def _open(row: Between) -> bool:
    """Whether everything gets there, always."""
    return any(a.words == "everything" and not a.at_times and not a.by_some_ways for a in row.arrives)


def _cell(row: Between) -> Text:
    """What gets there."""
    if not row.arrives:
        return Text("nothing", style="dim")
    words = some_of([_words(a) for a in row.arrives], MOST_NAMED)
    words = f"everything but {words}" if row.all_but else words
    lost = ", ".join(_words(a) for a in row.unanswered)
    words += f"; not answered: {lost}" if lost else ""
    return Text(words + (f" (in doubt: {row.doubtful})" if row.doubtful else ""))


def _words(one: Arrives) -> str:
    """A service, and whether it is partly or at times."""
    how = [
        w for w, so in (("partly", one.partly), ("at times", one.at_times), ("by some of the equal ways", one.by_some_ways)) if so
    ]
    return f"{one.words} ({', '.join(how)})" if how else one.words


def overview_dict(found: Overview) -> dict[str, object]:
    """The same as plain data."""
    return {
        "pairs": [
            {
                "source": r.source,
                "target": r.target,
                "all-but": r.all_but,
                "arrives": [
                    {"what": a.words, "partly": a.partly, "at-times": a.at_times, "by-some-ways": a.by_some_ways} for a in r.arrives
                ],
                "doubtful": r.doubtful or None,
                "not-answered": [{"what": a.words, "partly": a.partly, "at-times": a.at_times} for a in r.unanswered],
            }
            for r in found.rows
        ],
        "cases": found.cases,
        "kinds": found.kinds,
        "not-asked": list(found.left),
    }
