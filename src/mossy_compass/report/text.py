"""Journeys, findings and tables as text for a terminal of 100 columns. Nothing depends on colour.

Everything is made as rich's renderables and wrapped at 100 columns unless the terminal says
otherwise. The first line is the answer. What follows is in the order in which it is asked
for at night: why, what nearly fitted, what to do, and then the way.
"""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.segment import Segment, Segments
from rich.table import Table
from rich.text import Text

from mossy_compass.marks import Problem, Severity
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.ids import TableKind
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Did, Fate
from mossy_compass.report import bothways, sentences
from mossy_compass.safe import safe
from mossy_compass.walk.journey import Hop, Journey, Leg, Ruling

if TYPE_CHECKING:
    from mossy_compass.walk.retold import StageTold

WIDTH = 100
_FATE_STYLE = {"DELIVERED": "bold green", "REFUSED": "bold yellow", "IGNORED": "bold yellow", "UNANSWERED": "bold yellow"}
_BAD = "bold red"


def _headline(journey: Journey) -> Text:
    """The first line: the answer."""
    text = Text(sentences.headline(journey))
    words = {*sentences.WORDS.values(), "ANSWER", "IGNORED", "UNANSWERED"}
    for word in words:
        text.highlight_regex(rf"\b{word}\b", _FATE_STYLE.get(word, _BAD))
    text.highlight_regex(r"\[[a-z.]+\]$", "cyan")
    return text


def _dim(text: str) -> Text:
    """Text of less weight, for what is read second."""
    return Text(text, style="dim")


def rows_of(rows: Iterable[Sequence[str | Text]], styles: Sequence[str], widths: Sequence[int | None]) -> Table:
    """A table without lines whose last column wraps in its own space.

    Args:
        rows: cells as text.
        styles: of each column.
        widths: of each column, in characters; the last one takes the rest.

    """
    table = Table.grid(padding=(0, 1))
    for style, width in zip(styles, widths, strict=True):
        table.add_column(style=style, width=width, overflow="fold", no_wrap=False)
    for row in rows:
        table.add_row(*[cell if isinstance(cell, Text) else Text(cell) for cell in row])
    return table


def _hops(leg: Leg) -> Table:
    """A leg, a line or two for each hop."""
    device_width = min(22, max((len(h.device) for h in leg.every_hop), default=4))
    port_width = min(24, max((len(sentences.hop_ports(h, leg)) for h in leg.every_hop), default=4))
    rows = list(_lines(leg, ""))
    return rows_of(rows, ("", "", "", ""), (max(2, *(len(r[0]) for r in rows)), device_width, port_width, None))


def _lines(leg: Leg, before: str) -> Iterator[tuple[str, Text, str, Text]]:
    """The lines of a leg's hops; those of an outer packet follow on the hop that sent it, and are counted within its number."""
    for number, hop in enumerate(leg.hops, 1):
        last = number == len(leg.hops)
        words = Text(sentences.hop_words(hop, leg, last))
        if last and leg.fate not in (Fate.DELIVERED,):
            words.highlight_regex(r"\b(DROPPED|REJECTED|EXPIRED|LOOPED|LOST)\b", _BAD)
        yield f"{before}{number}", Text(hop.device, style="bold"), sentences.hop_ports(hop, leg), words
        if hop.outer is not None:
            yield "", Text(""), "", _dim(sentences.within_title(hop.outer))
            yield from _lines(hop.outer, f"{before}{number}.")


def journey(record: Journey, details: bool = False) -> RenderableType:
    """A journey: the answer, the lines that belong to it, and each leg's hops."""
    return Group(head(record), *ways(record, details))


def some_of(names: Sequence[str], most: int) -> str:
    """The first of some names, and how many more there are."""
    more = len(names) - most
    return ", ".join(names[:most]) + (f" and {more} more" if more > 0 else "")


def head(record: Journey) -> RenderableType:
    """The answer, and the lines that belong to it."""
    parts: list[RenderableType] = [_headline(record)]
    extra = sentences.extras(record)
    if extra:
        parts.append(Padding(rows_of([(label, words) for label, words in extra], ("dim", ""), (8, None)), (0, 0, 0, 2)))
    return Group(*parts)


def ways(record: Journey, details: bool = False) -> Iterator[RenderableType]:
    """Each leg's hops, those of a lookup first where that failed."""
    asked = record.lookup.journey if record.lookup else None
    if asked is not None and (details or not asked.answered):
        yield from _legs(asked, details, "lookup ")
    found = bothways.apart(record)
    if found is not None:
        yield Padding(Text("both ways, which are not the same", style="bold"), (0, 0, 0, 2))
        yield Padding(rows_of(list(bothways.lines(found)), ("dim", ""), (5, None)), (0, 0, 0, 2))
    yield from _legs(record, details)
    if record.onward is not None:
        yield from _legs(record.onward, details, "onward ")


def way(leg: Leg, plan: Plan | None) -> RenderableType:
    """The hops of a leg that stands by itself; with the plan every ruling."""
    if plan is None:
        return Padding(_hops(leg), (0, 0, 0, 2))
    return Group(*_details_of(leg, plan, ""))


def _legs(record: Journey, details: bool, before: str = "") -> Iterator[RenderableType]:
    """The way there and back, or with details every leg and every ruling."""
    every = (*record.legs, *([record.later] if record.later else []))
    for leg in every if details else record.homeward:
        if leg.packet.protocol == 0:  # no packet left
            continue
        yield Padding(Text(before + sentences.leg_title(leg), style="bold"), (0, 0, 0, 2))
        if details:
            yield from _details_of(leg, record.plan, "")
        else:
            yield Padding(_hops(leg), (0, 0, 0, 2))


def _details_of(leg: Leg, plan: Plan | None, before: str) -> Iterator[RenderableType]:
    """A leg's hops with every ruling; those of an outer packet follow on the hop that sent it."""
    for number, hop in enumerate(leg.hops, 1):
        yield Padding(_hop_details(f"{before}{number}", hop, leg, plan, number), (0, 0, 0, 4))
        for part in hop.within:
            yield Padding(_dim(sentences.within_title(part)), (0, 0, 0, 4))
            yield from _details_of(part, plan, f"{before}{number}.")


def brief(record: Journey) -> RenderableType:
    """The answer, its lines, and the devices passed, in a line for each way."""
    parts: list[RenderableType] = [_headline(record)]
    rows = [(label, words) for label, words in sentences.extras(record) if label in ("why", "nearest", "seen as")]
    for record_of, before in ((record, ""), (record.onward, "onward ")):
        for leg in record_of.homeward if record_of is not None else ():
            if leg.hops and leg.packet.protocol:
                rows.append((before + leg.way.value, sentences.path_line(leg)))
    parts.append(Padding(rows_of(rows, ("dim", ""), (8, None)), (0, 0, 0, 2)))
    return Group(*parts)


def _hop_details(shown: str, hop: Hop, leg: Leg, plan: Plan | None, number: int) -> RenderableType:
    """A hop with every ruling of it."""
    title = Text.assemble((f"{shown} {hop.device}", "bold"), f" ({hop.kind})  {sentences.hop_ports(hop, leg)}")
    if hop.segment and hop.next_device:
        title.append(f"  on {hop.segment} to {hop.next_device}", style="dim")
    rows: list[tuple[str | Text, str | Text]] = []
    known = leg.came_to(number - 1)  # the line of the leg shows the packet as it was sent
    for told in _told(plan, hop, known):
        if told.ruling is None:
            rows += _silent_rows(told)
        else:
            rows += _ruling_rows(told.ruling, hop.device, plan, known)
            known = told.ruling.gave
            rows += [("", _dim(words)) for words in _passed_over(told)]
    label = max([16, *(len(str(name)) for name, _ in rows)])
    return Group(title, Padding(rows_of(rows, ("", ""), (label, None)), (0, 0, 0, 2)))


def _seen(ruling: Ruling, known: Packet | None) -> list[tuple[str | Text, str | Text]]:
    """The packet that a stage saw, where that is not what is shown above it already."""
    if known is not None and ruling.saw == known:
        return []
    if known is not None and ruling.saw == known._replace(ttl=ruling.saw.ttl):
        return [("", _dim(f"TTL {ruling.saw.ttl} by now"))]
    return [("", _dim(f"saw {ruling.saw}, TTL {ruling.saw.ttl}"))]


def _ruling_rows(ruling: Ruling, device: str, plan: Plan | None, known: Packet | None) -> list[tuple[str | Text, str | Text]]:
    """A ruling, the packet where it changed, and the rows and routes that were passed over, each with its reason."""
    bad = bool(ruling.cause) and ruling.did is not Did.DELIVERED
    words = Text.assemble((ruling.did, _BAD if bad else "bold"), f": {ruling.because.cited()}")
    if ruling.because.about:
        words.append(f' "{ruling.because.about}"')
    if ruling.note:
        words.append(f"; {ruling.note}")
    if ruling.cause:
        words.append(f" [{ruling.cause}]", style="cyan")
    rows: list[tuple[str | Text, str | Text]] = [(ruling.stage, words), *_seen(ruling, known)]
    if ruling.gave != ruling.saw:
        rows.append(("", _dim(f"gave {ruling.gave}")))
    for lost in plan.routes_passed_over(device, ruling) if plan is not None else ():
        place = f" ({lost.route.mark})" if lost.route.mark else ""
        ways = ", ".join(h.words() for h in lost.route.hops)
        rows.append(("", _dim(f"not taken: {lost.route.words()}{place} {ways}: {lost.words}")))
    rows += [("", _dim(f"{m.did.value} by {m.because.cited()}")) for m in ruling.admissions(device) if not m.decides]
    return rows


def _told(plan: Plan | None, hop: Hop, came: Packet) -> Iterator[StageTold]:
    """The stages of a stay, with what they passed over; without a plan the rulings alone."""
    from mossy_compass.walk.retold import StageTold, stages_told  # only where details are asked for

    if plan is None:
        yield from (StageTold(str(r.stage), r, ()) for r in hop.rulings)
    else:
        yield from stages_told(plan, hop, came)


def _silent_rows(told: StageTold) -> list[tuple[str | Text, str | Text]]:
    """A stage that let the packet pass without a ruling: by which setting, or because no row of its tables is about it."""
    words = f"let pass by {told.end.cited()}" if told.end is not None else "no row of it is about this packet"
    return [(told.stage, _dim(words)), *(("", _dim(line)) for line in _passed_over(told))]


def _passed_over(told: StageTold) -> list[str]:
    """The rows beside the one that decided, a line each; of another table than that of the ruling its name is said."""
    out = []
    for asked in told.asked:
        mine = told.ruling is not None and told.ruling.table == asked.table.id
        of = "" if mine else f" of {asked.table.name}"
        for over in asked.over:
            place = f" ({over.row.mark})" if over.row.mark.line else ""
            verdict = f" {over.verdict}" if over.row.verdict is not None else ""
            row = "entry" if asked.table.id.kind is TableKind.POLICY_ROUTES else "rule"
            out.append(f"passed over {row} {over.id}{of}{verdict}{place}: {over.miss.key}: {over.words}")
    return out


_SEVERITY_STYLE = {Severity.ERROR: "bold red", Severity.WARNING: "bold yellow", Severity.NOTE: "bold cyan"}


def problem(entry: Problem) -> RenderableType:
    """A finding with its line and a caret under the place."""
    head = Text.assemble(f"{entry.mark.full()}: ", (str(entry.severity), _SEVERITY_STYLE[entry.severity]), f": {entry.message}")
    if entry.remedy:
        head.append(f" {entry.remedy}")
    head.append(f" [{entry.code}]", style="cyan")
    parts: list[RenderableType] = [head]
    if entry.source is not None:
        source = entry.source.expandtabs(1)
        start = 0
        column = min(entry.mark.column, len(source) + 1)
        room = WIDTH - 8
        if len(source) > room:
            start = max(0, min(column - room // 2, len(source) - room))
            source = (
                ("…" if start else "")
                + source[start + bool(start) : start + room - 1]
                + ("…" if start + room < len(entry.source) else "")
            )
        number = str(entry.mark.line)
        parts.append(Text(f"{number:>5} | {source}", style="dim"))
        parts.append(Text(f"{'':>5} | {' ' * (column - 1 - start)}^", style="dim"))
    for mark, words in entry.also:
        parts.append(Text(f"        {mark.full()}: {words}", style="dim"))
    return Group(*parts)


def count_words(problems: Sequence[Problem]) -> str:
    """``2 errors, 1 warning``."""
    parts = []
    for severity in Severity:
        count = sum(1 for p in problems if p.severity is severity)
        if count:
            parts.append(f"{count} {severity.value}{'s' * (count != 1)}")
    return ", ".join(parts) or "no findings"


def console(stream: io.TextIOBase | None = None, width: int | None = None) -> Console:
    """A console at most 100 columns wide; without colour where NO_COLOR asks for that or no terminal listens."""
    made = Console(file=stream, highlight=False, soft_wrap=False, emoji=False, markup=False)  # type: ignore[arg-type]
    if width is None:
        width = min(made.width, WIDTH) if made.is_terminal else WIDTH
    made.width = max(width, 40)
    return made


def as_text(renderable: RenderableType, width: int = WIDTH) -> str:
    """What a console without colour would show, with no trailing blanks."""
    stream = io.StringIO()
    made = Console(file=stream, highlight=False, width=width, no_color=True, emoji=False, markup=False, force_terminal=False)
    made.print(renderable)
    return safe("\n".join(line.rstrip() for line in stream.getvalue().split("\n")).rstrip("\n") + "\n")


def cleaned(screen: Console, renderable: RenderableType) -> Segments:
    """What a terminal is to show, with nothing in its text that would steer the terminal."""
    segments = screen.render(renderable, screen.options)
    return Segments(s if s.control else Segment(safe(s.text), s.style) for s in segments)


def table(headers: Sequence[str], rows: Iterable[Sequence[str]], wide: int | None = None) -> Table:
    """A plain table: headings, aligned columns, no lines; the column ``wide`` takes what room there is."""
    made = Table(box=None, padding=(0, 2, 0, 0), pad_edge=False, header_style="bold", show_edge=False)
    for number, header in enumerate(headers):
        made.add_column(header, overflow="fold", ratio=1 if number == wide else None)
    for row in rows:
        made.add_row(*[Text(cell) for cell in row])
    return made
