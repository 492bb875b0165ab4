"""Long lists: time to compile, time a packet, memory at its peak, and exact findings beside raw decision diagrams.

Run with ``python benchmarks/gates.py``; ratios are of one run, the rows of a table interleaved where they are compared.
"""

from __future__ import annotations

import random
import resource
import subprocess
import sys
import time
import tracemalloc
from collections.abc import Callable
from dataclasses import replace
from statistics import median

import mossy_compass as mc
from mossy_compass.marks import NOWHERE
from mossy_compass.model.network import AccessList, Rule, Verdict
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import Address, Span, parse_block
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import TCP, UDP, Service
from mossy_compass.plan.conditions import Reader
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.rows import Row
from mossy_compass.plan.table import list_table
from mossy_compass.proof.exact import effective, examine
from mossy_compass.proof.space import Space

SIZES = (10, 100, 1000, 2000, 10_000)


def term(text: str) -> Term:
    """One entry of an address condition."""
    found = parse_block(text)
    return Term(found.text, found.spans, masked=found.masked)


def host(chance: random.Random) -> str:
    """Some address of 10.40.0.0/13."""
    return f"10.{chance.randrange(40, 48)}.{chance.randrange(256)}.{chance.randrange(1, 255)}"


def usual(count: int, seed: int = 7) -> AccessList:
    """Rules as people write them: hosts and small nets, one service, a few wide ones."""
    chance = random.Random(seed)

    def ends() -> tuple[Term, ...]:
        kind = chance.random()
        address = host(chance)
        if kind < 0.7:
            return (term(address),)
        net = address.rpartition(".")[0]
        return (term(f"{net}.0/24"),) if kind < 0.98 else (term(f"{net.rpartition('.')[0]}.{16 * chance.randrange(16)}.0/20"),)

    rules = []
    for number in range(count):
        protocol = chance.choice((TCP, TCP, TCP, UDP))
        port = chance.choice((22, 25, 53, 80, 443, 8080, 8443, chance.randrange(1, 65535)))
        rules.append(
            Rule(
                str(number),
                chance.choice((Verdict.PERMIT, Verdict.PERMIT, Verdict.DENY)),
                NOWHERE,
                protocol,
                ends() if chance.random() < 0.99 else None,
                ends() if chance.random() < 0.97 else None,
                services=(Service(protocol, Span(port, port)),),
            )
        )
    return AccessList("usual", tuple(rules), NOWHERE)


def packets(source: AccessList, count: int = 2000) -> list[Facts]:
    """Half of them meet some rule, half are anything; mixed."""
    chance = random.Random(3)
    out = []
    for number in range(count):
        rule = chance.choice(source.rules)
        service = (rule.services or (Service(TCP, Span(80, 80)),))[0]
        port = service.ports.first if service.ports else 80
        ends = [
            Address(4, terms[0].spans[0].first)
            if terms and terms[0].spans and number % 2
            else Address(4, parse_block(host(chance)).spans[0].first)
            for terms in (rule.sources, rule.destinations)
        ]
        out.append(Facts(Packet(service.protocol, ends[0], ends[1], 50000, port, flags="SYN"), "a"))
    return out


def speed() -> None:
    """Microseconds a packet by the length of the list, the lengths interleaved."""
    tables, asked, compiled = {}, {}, {}
    for size in SIZES:
        source = usual(size)
        start = time.perf_counter()
        table = list_table(source, Reader())
        table.first(packets(source, 1)[0])
        compiled[size] = time.perf_counter() - start
        tables[size], asked[size] = table, packets(source)
    times: dict[int, list[float]] = {size: [] for size in SIZES}
    for _ in range(9):
        for size in SIZES:
            first = tables[size].first
            start = time.perf_counter()
            for facts in asked[size]:
                first(facts)
            times[size].append((time.perf_counter() - start) / len(asked[size]) * 1e6)
    base = median(times[10])
    print("rules   compile s   us a packet   times 10 rules   times 2,000 rules")
    for size in SIZES:
        mid = median(times[size])
        print(f"{size:>6} {compiled[size]:>10.3f} {mid:>12.2f} {mid / base:>15.2f} {mid / median(times[2000]):>17.2f}")


NETWORK = b"""
mossy-network: 1
lists: {usual: [{permit: tcp}]}
devices:
  r: {kind: router, interfaces: {one: {address: 10.41.1.1/24, filter: {arriving: usual}}, two: {address: 10.41.2.1/24}}}
  a: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  b: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1, serves: [https]}
segments: {one: [r/one, a], two: [r/two, b]}
"""


def whole_traces() -> None:
    """Milliseconds for a whole trace, from names to record, through a list that stops the packet at its end."""
    plans = {}
    for size in SIZES:
        network = mc.read_bytes(NETWORK, "n.yaml").network
        assert network is not None
        plans[size] = mc.Plan(replace(network, lists={"usual": usual(size)}))
        mc.trace(plans[size], "a", "b", "https")
    times: dict[int, list[float]] = {size: [] for size in SIZES}
    for _ in range(200):
        for size in SIZES:
            start = time.perf_counter()
            mc.trace(plans[size], "a", "b", "https")
            times[size].append((time.perf_counter() - start) * 1000)
    print("\nrules   ms a whole trace   times 10 rules")
    for size in SIZES:
        print(f"{size:>6} {median(times[size]):>17.2f} {median(times[size]) / median(times[10]):>16.2f}")


def raw(rows: tuple[Row, ...]) -> None:
    """The same sets and unions with the diagrams alone: each row's set, what is left of it, the union so far."""
    space = Space(rows)
    seen = space.possible & ~space.possible
    rest = space.possible
    for row in rows:
        mine = space.of_row(row)
        left = mine & ~seen
        left.satisfiable()
        seen = seen | mine
    for row in reversed(rows):
        mine = space.of_row(row)
        rest = rest & ~mine


def exact() -> None:
    """Exact findings beside raw unions."""
    print("\nrules   raw diagrams s   effective sets s   all findings s   findings / raw   MiB at the peak")
    for size in (100, 1000, 10_000):
        rows = list_table(usual(size), Reader()).rows
        spent: dict[str, list[float]] = {"raw": [], "effective": [], "all": []}
        runs: list[tuple[str, Callable[[], object]]] = [
            ("raw", lambda rows=rows: raw(rows)),  # type: ignore[misc]
            ("effective", lambda rows=rows: effective(Space(rows), rows)),  # type: ignore[misc]
            ("all", lambda rows=rows: examine(rows)),  # type: ignore[misc]
        ]
        for _ in range(1 if size > 1000 else 3):
            for name, call in runs:
                start = time.perf_counter()
                call()
                spent[name].append(time.perf_counter() - start)
        one, two, three = (median(spent[n]) for n in ("raw", "effective", "all"))
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(f"{size:>6} {one:>15.2f} {two:>18.2f} {three:>16.2f} {three / one:>16.2f} {peak:>17.0f}")


def awkward(kind: str, count: int = 10_000) -> AccessList:
    """Long lists of one kind each."""
    chance = random.Random(5)
    groups = [(Term(f"g{n}", tuple(sorted(parse_block(host(chance)).spans[0] for _ in range(100)))),) for n in range(100)]
    rules = []
    for number in range(count):
        sources: tuple[Term, ...] | None = (term(host(chance)),)
        destinations: tuple[Term, ...] | None = (term(host(chance)),)
        port = chance.randrange(1, 65535)
        services: tuple[Service, ...] = (Service(TCP, Span(port, port)),)
        if kind == "three protocols":
            services = tuple(Service(p, Span(port, port)) for p in (TCP, UDP, 132))
        elif kind == "groups":
            sources, destinations = chance.choice(groups), chance.choice(groups)
        elif kind == "wildcards":
            free = chance.getrandbits(24) & 0x00AAF0F0 | 0x00010100
            sources = (term(f"{Address(4, (10 << 24 | chance.getrandbits(24)) & ~free)}/{Address(4, free)}"),)
        elif kind == "5 % any" and chance.random() < 0.05:
            sources = None
        if kind == "5 % any" and chance.random() < 0.05:
            destinations = None
        rules.append(Rule(str(number), Verdict.PERMIT, NOWHERE, None, sources, destinations, services=services))
    return AccessList(kind, tuple(rules), NOWHERE)


KINDS = ("hosts and ports", "three protocols", "groups", "wildcards", "5 % any")


def memory() -> None:
    """The peak of a compiled list of 10,000 rules, each kind in a process of its own, without what the rules themselves take."""
    print("\nlist of 10,000 rules   MiB at the peak of compiling")
    for kind in KINDS:
        done = subprocess.run([sys.executable, __file__, "memory", kind], capture_output=True, text=True, check=True)
        before, after = map(float, done.stdout.split())
        print(f"{kind:<22} {after - before:>26.0f}")


def measured(kind: str) -> None:
    """Prints the peak before and after compiling."""
    source = awkward(kind)
    facts = packets(source, 1)[0]
    tracemalloc.start()
    before = tracemalloc.get_traced_memory()[0]
    table = list_table(source, Reader())
    table.first(facts)
    print(before / 2**20, tracemalloc.get_traced_memory()[1] / 2**20)


if __name__ == "__main__":
    if sys.argv[1:2] == ["memory"]:
        measured(sys.argv[2])
    else:
        speed()
        whole_traces()
        exact()
        memory()
