"""The index of long lists at its edges: wide, crowded and scattered rules, both families, and the addresses beside every end."""

from __future__ import annotations

import random
from collections.abc import Callable, Sequence

import pytest

from mossy_compass.marks import NOWHERE
from mossy_compass.model.network import AccessList, Rule, Verdict
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import V6_BASE, Address, Span, Spans, parse_block
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import Service
from mossy_compass.plan import index
from mossy_compass.plan.conditions import Reader
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.index import divided, first_of, places
from mossy_compass.plan.rows import Row
from mossy_compass.plan.table import list_table

Making = Callable[[random.Random, int], str]


def address_at(key: int) -> Address:
    """An address by its place on the line of both families."""
    return Address(4, key) if key < V6_BASE else Address(6, key - V6_BASE)


def term(text: str) -> Term:
    found = parse_block(text)
    return Term(found.text, found.spans, masked=found.masked)


def rows_of(made: Sequence[tuple[str, str, int]]) -> list[Row]:
    """Rules from sources to destinations for a port (0 for any); several blocks of a side are joined by spaces."""
    rules = [
        Rule(
            str(number),
            Verdict.PERMIT if number % 3 else Verdict.DENY,
            NOWHERE,
            sources=tuple(map(term, source.split())) or None,
            destinations=tuple(map(term, target.split())) or None,
            services=(Service(6, Span(port, port)),) if port else None,
        )
        for number, (source, target, port) in enumerate(made)
    ]
    return list(list_table(AccessList("l", tuple(rules), NOWHERE), Reader()).rows)


def from_the_top(rows: Sequence[Row], facts: Facts) -> Row | None:
    """The definition: the first row whose every condition holds."""
    return next((row for row in rows if all(c.holds(facts) for c in row.conditions)), None)


def edges(rows: Sequence[Row], field: str) -> list[int]:
    """Both ends of every run that some row wants of a field, and what lies beside them."""
    spans: list[Spans] = [values for row in rows for c in row.conditions for name, values in c.parts if name == field]
    return sorted({key + beside for some in spans for span in some for key in span for beside in (-1, 0, 1) if key + beside >= 0})


def host(chance: random.Random, number: int) -> str:
    return f"10.41.{number >> 8 & 255}.{number & 255}"


def small_net(chance: random.Random, number: int) -> str:
    return f"10.41.{chance.randrange(64)}.{16 * chance.randrange(16)}/28"


def same_net(chance: random.Random, number: int) -> str:
    return "10.41.7.0/24"


def nested(chance: random.Random, number: int) -> str:
    return f"10.40.0.0/{chance.randrange(14, 33)}"


def wide(chance: random.Random, number: int) -> str:
    return f"10.{chance.randrange(40, 48)}.0.0-10.48.{chance.randrange(256)}.0" if number % 4 else host(chance, number)


def scattered(chance: random.Random, number: int) -> str:
    return " ".join(f"10.41.{chance.randrange(256)}.{chance.randrange(256)}" for _ in range(chance.randrange(1, 13)))


def masked(chance: random.Random, number: int) -> str:
    return f"10.41.0.{number & 255}/0.0.255.0" if number % 5 == 0 else small_net(chance, number)


def six(chance: random.Random, number: int) -> str:
    return f"2001:db8:41::{number:x}" if number % 2 else f"2001:db8:41:{chance.randrange(8)}::/64"


def both(chance: random.Random, number: int) -> str:
    return f"{host(chance, number)} 2001:db8:41::{number & 255:x}"


def anybody(chance: random.Random, number: int) -> str:
    return "" if chance.random() < 0.7 else host(chance, number)


KINDS: dict[str, tuple[Making, Making]] = {
    "hosts": (host, host),
    "small nets": (small_net, small_net),
    "one crowded net": (same_net, host),
    "nets within nets": (nested, small_net),
    "wide ranges": (wide, wide),
    "scattered groups": (scattered, small_net),
    "wildcard masks": (masked, host),
    "IPv6": (six, six),
    "both families": (both, both),
    "mostly anybody": (anybody, host),
    "to a host from anybody": (lambda *_: "", host),
}


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("seed", range(2))
def test_the_first_row_is_found_at_every_edge(kind: str, seed: int) -> None:
    chance = random.Random(f"{kind} {seed}")
    source, target = KINDS[kind]
    rows = rows_of([(source(chance, n), target(chance, n), chance.choice((0, 22, 443, 443))) for n in range(560)])
    assert len(rows) >= index._LONG
    finders = [first_of(rows), *(divided(rows, places(rows, side)) for side in ("source", "destination"))]
    sources = chance.choices(edges(rows, "source") or [(10 << 24) + 1], k=60)
    targets = chance.choices(edges(rows, "destination"), k=60)
    # half of the packets go to where the very rule says that names their source, else few rules would ever be met
    for row in chance.choices(rows, k=60):
        ends = [
            next((v[-1].first for c in row.conditions for n, v in c.parts if n == side and v), 167_772_161)
            for side in ("source", "destination")
        ]
        sources.append(ends[0])
        targets.append(ends[1])
    met = 0
    for one, other in zip(sources, targets, strict=True):
        if (one < V6_BASE) != (other < V6_BASE):
            continue
        facts = Facts(Packet(6, address_at(one), address_at(other), 5000, chance.choice((22, 443))), "a")
        expected = from_the_top(rows, facts)
        met += expected is not None
        assert [first(facts) for first in finders] == [expected] * 3
    assert met >= 20, "too few packets meet a rule for this to say anything"


def test_what_is_wide_or_crowded_stands_nowhere() -> None:
    """Such rows would be tried by too many packets, one by one: they are asked together."""
    narrow = [(f"10.41.{n >> 8}.{n & 255}", "", 22) for n in range(600)]
    crowd = [("10.42.0.0/24", "", port) for port in range(1, 41)]
    broad = [("10.41.0.0/16", "", 80)]
    many = [(" ".join(f"10.43.{n}.1" for n in range(count)), "", 25) for count in (index._MOST_RUNS, index._MOST_RUNS + 1)]
    rows = rows_of([*narrow, *crowd, *broad, *many])
    stood = places(rows, "source")
    held = [number in stood.held for number in range(len(rows))]
    assert all(held[:600])
    assert sum(held[600:640]) == index._MOST_THERE
    assert held[640] is False, "a run over more places than a row may have"
    assert held[641:] == [True, False]
    assert max(map(len, stood.there)) <= index._MOST_THERE


def test_one_row_twice_decides_where_it_stands_first() -> None:
    rows = rows_of([(f"10.41.{n >> 8}.{n & 255}", "", 22) for n in range(600)])
    general, special = rows_of([("", "10.44.0.1", 0), ("10.45.0.1", "", 0)])
    table = [general, *rows, special, general]
    facts = Facts(
        Packet(6, address_at(parse_block("10.45.0.1").spans[0].first), address_at(parse_block("10.44.0.1").spans[0].first), 1, 2),
        "a",
    )
    assert first_of(table)(facts) is general
    assert first_of(table[1:])(facts) is special


def test_a_short_list_is_not_divided(monkeypatch: pytest.MonkeyPatch) -> None:
    called: list[int] = []

    def noted(rows: Sequence[Row], stood: index.Places) -> Callable[[Facts], Row | None]:
        """Note that a list is divided."""
        called.append(len(rows))
        return lambda facts: None

    monkeypatch.setattr(index, "divided", noted)
    rows = rows_of([(f"10.41.{n >> 8}.{n & 255}", "", 22) for n in range(index._LONG)])
    first_of(rows[:-1])
    assert not called
    first_of(rows)
    assert called == [index._LONG]
