"""Sets of integers as sorted, disjoint runs.

Ports, addresses of both families and services all become integers on a line, so one
representation serves every condition: sorted runs that neither overlap nor touch. Two sets
are equal exactly when their runs are, which tests and caches rely on.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable

from mossy_compass.packet.address import LAST_KEY, Prefix, Span, Spans, from_key

_FEW = 8
"""One set is looked up in another, and not gone through beside it, where it has so many times fewer runs."""


def merge(spans: Iterable[Span]) -> Spans:
    """The same set with its runs sorted, and joined where they touch or overlap."""
    out: list[Span] = []
    for span in sorted(spans):
        if out and span.first <= out[-1].last + 1:
            if span.last > out[-1].last:
                out[-1] = Span(out[-1].first, span.last)
        else:
            out.append(span)
    return tuple(out)


def complement(spans: Spans, last: int = LAST_KEY) -> Spans:
    """Everything from 0 to ``last`` that is not in ``spans``."""
    out: list[Span] = []
    start = 0
    for span in merge(spans):
        if span.first > start:
            out.append(Span(start, span.first - 1))
        start = span.last + 1
    if start <= last:
        out.append(Span(start, last))
    return tuple(out)


def intersect(a: Spans, b: Spans) -> Spans:
    """What is in both sets; both sorted and disjoint."""
    if len(a) > len(b):
        a, b = b, a
    out: list[Span] = []
    if len(a) * _FEW < len(b):  # a few runs are looked up among very many
        for span in a:
            place = max(bisect_left(b, (span.first,)) - 1, 0)
            while place < len(b) and b[place].first <= span.last:
                first, last = max(span.first, b[place].first), min(span.last, b[place].last)
                if first <= last:
                    out.append(Span(first, last))
                place += 1
        return tuple(out)
    i = j = 0
    while i < len(a) and j < len(b):
        first, last = max(a[i].first, b[j].first), min(a[i].last, b[j].last)
        if first <= last:
            out.append(Span(first, last))
        if a[i].last < b[j].last:
            i += 1
        else:
            j += 1
    return tuple(out)


def as_text(spans: Spans, most: int = 4) -> str:
    """A set of addresses in words: prefixes where a run is one, ranges elsewhere."""
    parts = []
    for first, last in spans[:most]:
        low, high = from_key(first), from_key(last)
        size = last - first + 1
        if size == 1:
            parts.append(str(low))
        elif low.family == high.family and size & (size - 1) == 0 and low.value % size == 0:
            parts.append(str(Prefix(low.family, low.value, (32 if low.family == 4 else 128) - size.bit_length() + 1)))
        else:
            parts.append(f"{low}-{high}")
    more = f" and {len(spans) - most} more" if len(spans) > most else ""
    return ", ".join(parts) + more
