"""Whole journeys of sets: packets of one set fare alike, there and back; together the sets are everything, and none twice."""

from __future__ import annotations

import contextlib
import itertools
import random
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.errors import TooLarge
from mossy_compass.headers.sets import Set
from mossy_compass.lab import whole as whole_module
from mossy_compass.lab.forms import Sets, holding, room, sent_by
from mossy_compass.lab.proofs import packets_of
from mossy_compass.lab.whole import KnownStay, Spot, Walker, wholes
from mossy_compass.packet.address import Address, Span, parse_address
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import Service
from mossy_compass.plan.conditions import Condition
from mossy_compass.plan.facts import Moment, Relation
from mossy_compass.plan.plan import Plan
from mossy_compass.state.state import State
from mossy_compass.walk.journey import Journey, Way
from mossy_compass.walk.many import by_every_choice
from mossy_compass.walk.question import Question
from mossy_compass.walk.sent import sent
from tests.cells import drawn
from tests.conftest import DATA
from tests.effort import at_length, examples
from tests.test_laws import networks

EXAMPLES = [
    Path(__file__).parents[1] / f"examples/mistakes/{n}.yaml" for n in ("office", "open-office", "firewall", "rules", "names")
]


def question_of(plan: Plan, sender: str, packet: Packet) -> Question:
    return Question(sender, sender, str(packet.destination), packet.what(), packet, None, packet.destination)


def told(journey: Journey, errors: bool = False) -> object:
    """What must be the same for all packets of a set: every decision at every device there and back, and how it ended.

    The way home of an error is a part of it where that is asked for, and then what the sender sees is too.
    """
    legs = [
        (
            leg.way,
            leg.fate,
            leg.cause,
            [(h.device, h.leaving, [(r.stage, r.table, r.row, r.cause) for r in h.rulings]) for h in leg.hops],
        )
        for leg in (journey.there, journey.back, journey.later)
        if leg is not None and (errors or (leg.way is not Way.ERROR and leg.packet.quoted is None))
    ]
    return legs, journey.answered, journey.cause, journey.symptom if errors else ""


def everything(sets: Sets, plan: Plan, name: str, targets: list[Address]) -> Set:
    held = sent_by(sets.space, [a.key for a, _ in plan.network.devices[name].own_addresses() if not a.is_link_local])
    held = held & sets.space.of_condition(Condition("relation", (("relation", frozenset((Relation.OPENING,))),)))
    spans = tuple(Span(a.key, a.key) for a in targets)
    return held & sets.space.of_condition(Condition("to", (("destination", spans),)))


def fares_alike(
    plan: Plan, sets: Sets, name: str, held: Set, chance: random.Random, draws: int, moment: Moment, errors: bool = False
) -> int:
    """Divide what a host sends into sets, and walk packets that are drawn from them; gives how many sets there were."""
    left, count = held, 0

    def ask(packet: Packet) -> Question:
        return question_of(plan, name, packet)._replace(moment=moment)

    for whole in wholes(plan, sets, held, ask, State(), lambda facts: facts.packet, errors):
        count += 1
        assert whole.held.satisfiable()
        assert not (whole.held & ~left).satisfiable()
        left = left & ~whole.held
        for _ in range(draws):
            facts = drawn(sets.space, whole.held, chance)
            assert facts is not None
            found, _ = by_every_choice(lambda choose, p=facts.packet: sent(plan, ask(p), State(), choose)[0])  # type: ignore[misc]
            one, other = ([told(j, errors) for j in some] for some in ([j for _, j in found], whole.journeys))
            assert one == other, (name, whole.packet, facts.packet)
    assert not left.satisfiable()
    return count


def hosts(plan: Plan) -> list[str]:
    return [n for n, d in plan.network.devices.items() if d.kind.value == "host" and d.own_addresses()]


@pytest.mark.scaled
@pytest.mark.parametrize("path", [DATA / "fernhollow.yaml", DATA / "grounds.yaml", *EXAMPLES], ids=lambda p: p.stem)
def test_packets_of_a_set_fare_alike_there_and_back(path: Path) -> None:
    plan, chance, sets = mc.Plan(mc.load(path)), random.Random(5), Sets(room(64))
    names = hosts(plan)
    for number in range(4 if at_length() else 2):
        name, other = chance.choice(names), chance.choice(names)
        targets = [a for a, _ in plan.network.devices[other].own_addresses() if not a.is_link_local]
        if other != name:
            assert fares_alike(plan, sets, name, everything(sets, plan, name, targets), chance, 2, Moment(), bool(number % 2)) > 0


def reused_or_not(plan: Plan, pairs: list[tuple[str, str]], moments: list[Moment], strays: bool = False) -> int:
    """What is known of earlier packets' stays changes nothing of what is found of later ones, of other hosts at other moments; gives how often it was."""
    sets = Sets(room(64))
    found: dict[bool, list[tuple[Packet, Set, bool, tuple[str, ...], int]]] = {True: [], False: []}
    taken = []
    real = Walker._known

    def noted(self: Walker, spot: Spot, now: Packet) -> KnownStay | None:
        known = real(self, spot, now)
        taken.append(known is not None)
        return known

    for reuses in (True, False):
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(Walker, "reuses", reuses)
            patch.setattr(whole_module, "MOST_STAYS", 600)
            patch.setattr(Walker, "_known", noted)
            for (name, other), moment in itertools.product(pairs, moments):
                targets = [a for a, _ in plan.network.devices[other].own_addresses() if not a.is_link_local]
                held = everything(sets, plan, name, targets)
                if strays:
                    mine = [a.key for a, _ in plan.network.devices[name].own_addresses() if not a.is_link_local]
                    held = sent_by(sets.space, mine) & sets.to(targets) & sets.strays

                def ask(packet: Packet, name: str = name, moment: Moment = moment) -> Question:
                    return question_of(plan, name, packet)._replace(moment=moment)

                kinds = wholes(plan, sets, held, ask, State(), lambda facts: facts.packet, errors=True)
                with contextlib.suppress(TooLarge):
                    for w in itertools.islice(kinds, 25):
                        found[reuses].append((w.packet, w.held, w.of_case, w.doubts, w.stays))
    assert len(found[True]) == len(found[False])
    for one, two in zip(found[True], found[False], strict=True):
        assert (one[0], *one[2:]) == (two[0], *two[2:])
        assert not ((one[1] & ~two[1]) | (two[1] & ~one[1])).satisfiable(), (one[0], two[0])
    return sum(taken)


@pytest.mark.scaled
@pytest.mark.parametrize("path", [DATA / "fernhollow.yaml", DATA / "grounds.yaml", *EXAMPLES], ids=lambda p: p.stem)
def test_a_stay_that_is_known_is_what_it_would_be_anew(path: Path) -> None:
    plan, chance = mc.Plan(mc.load(path)), random.Random(3)
    names = hosts(plan)
    pairs = [p for p in ((a, b) for a in names for b in names) if p[0] != p[1]]
    pairs = chance.sample(pairs, min(len(pairs), 8 if at_length() else 5))
    opened = frozenset(plan.network.hours)
    reused_or_not(plan, pairs, [Moment(), Moment(open=opened)] if opened else [Moment()])
    reused_or_not(plan, pairs[:2], [Moment()], strays=True)


@examples(4, 9)
@given(networks())
def test_a_stay_that_is_known_is_what_it_would_be_anew_in_any_network(network: mc.Network) -> None:
    plan = mc.Plan(network)
    names = hosts(plan)
    reused_or_not(plan, [(a, b) for a in names for b in names if a != b][:4], [Moment()])


CIRCLE = """
mossy-network: 1
devices:
  one: {kind: router, interfaces: {lan: 10.40.1.1/24, a: 10.40.8.1/30, b: 10.40.9.1/30}, routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.9.2}, {prefix: 10.40.3.0/24, next-hop: 10.40.8.2}]}
  two: {kind: router, interfaces: {a: 10.40.8.2/30, c: 10.40.7.1/30}, routes: [{prefix: 10.40.0.0/16, next-hop: 10.40.7.2}]}
  three: {kind: router, interfaces: {b: 10.40.9.2/30, c: 10.40.7.2/30, srv: 10.40.2.1/24}, routes: [{prefix: 10.40.1.0/24, next-hop: 10.40.7.1}, {prefix: 10.40.3.0/24, next-hop: 10.40.7.1}]}
  ann: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  eve: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
  shop: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https]}
segments: {lan: [one/lan, ann, eve], a: [one/a, two/a], b: [one/b, three/b], c: [two/c, three/c], srv: [three/srv, shop]}
"""


FORWARDED = """
mossy-network: 1
lists:
  in: [{id: 10, permit: any}]
  out: [{id: 10, deny: any, from: 192.0.2.102}, {id: 20, permit: any}]
  back: [{id: 10, permit: udp, state: new}, {id: 20, permit: tcp, state: none}, {id: 30, permit: icmp, icmp: echo-reply}, {id: 40, permit: icmp, from: 10.40.3.10}]
devices:
  gate:
    kind: firewall
    interfaces: {wan: {address: 192.0.2.1/24, outside: yes, filter: {arriving: in}}, lan: {address: 10.40.1.1/24, filter: {arriving: in}}}
    routes: [{prefix: 10.40.0.0/16, next-hop: 10.40.1.2}, {prefix: default, next-hop: 192.0.2.9}]
    translate:
      - {arriving: wan, to: self, service: tcp/8443, goes-to: {address: 10.40.2.10, port: 443}}
      - {arriving: wan, to: self, service: [tcp/9443, udp/53, icmp], goes-to: 10.40.3.10}
      - {source: 10.40.2.0/24, leaving: wan, becomes: 192.0.2.101}
      - {source: 10.40.3.0/24, leaving: wan, becomes: 192.0.2.102}
  inner: {kind: router, interfaces: {up: 10.40.1.2/24, a: {address: 10.40.2.1/24, filter: {arriving: back}}, b: {address: 10.40.3.1/24, filter: {arriving: back}}},
          routes: [{prefix: default, next-hop: 10.40.1.1}]}
  up: {kind: router, interfaces: {wan: {address: 192.0.2.9/24, filter: {arriving: out}}, far: 198.51.100.1/24}}
  far: {kind: host, address: 198.51.100.10/24, gateway: 198.51.100.1, serves: [https]}
  near: {kind: host, address: 198.51.100.11/24, gateway: 198.51.100.1}
  s1: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https]}
  s2: {kind: host, address: 10.40.3.10/24, gateway: 10.40.3.1, serves: [https, tcp/9443, udp/53]}
segments: {wan: [gate/wan, up/wan], lan: [gate/lan, inner/up], a: [inner/a, s1], b: [inner/b, s2], far: [up/far, far, near]}
"""


def test_what_a_translation_made_one_value_tells_packets_apart() -> None:
    reading = mc.read_bytes(FORWARDED.encode(), "n.yaml")
    assert reading.network is not None, [str(p) for p in reading.problems]
    plan = mc.Plan(reading.network)
    pairs = [
        ("far", "gate"),
        ("near", "gate"),
        ("s1", "far"),
        ("s2", "far"),
        ("s2", "near"),
        ("s1", "s2"),
        ("s2", "s1"),
        ("far", "near"),
    ]
    assert reused_or_not(plan, pairs, [Moment()]) > 20


APART = """
mossy-network: 1
hours: {day: {days: [mon], from: "08:00", until: "18:00", zone: UTC}}
lists:
  ports: [{id: 10, permit: tcp, from-port: 1-1000}, {id: 20, permit: any}]
  names: [{id: 10, deny: udp, service: udp/53}, {id: 20, permit: any}]
  mail: [{id: 10, deny: tcp, service: tcp/25, hours: day}, {id: 20, permit: any}]
devices:
  one: {kind: router, interfaces: {lan: {address: 10.40.1.1/24, filter: {arriving: ports}}, up: 10.40.8.1/24}, routes: [{prefix: default, next-hop: 10.40.8.2}]}
  two: {kind: router, interfaces: {up: {address: 10.40.8.2/24, filter: {arriving: names}}, a: 10.40.7.1/24, b: 10.40.6.1/24},
        routes: [{prefix: 10.40.1.0/24, next-hop: 10.40.8.1}, {prefix: 10.40.2.0/24, next-hop: 10.40.7.2}, {prefix: 10.40.2.0/24, next-hop: 10.40.6.2}]}
  left: {kind: router, interfaces: {a: 10.40.7.2/24, srv: 10.40.2.1/24}, routes: [{prefix: default, next-hop: 10.40.7.1}]}
  right: {kind: router, interfaces: {b: {address: 10.40.6.2/24, filter: {arriving: mail}}, srv: 10.40.2.2/24}, routes: [{prefix: default, next-hop: 10.40.6.1}]}
  ann: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  bob: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
  shop: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https, smtp, udp/53]}
segments: {lan: [one/lan, ann, bob], up: [one/up, two/up], a: [two/a, left/a], b: [two/b, right/b], srv: [left/srv, right/srv, shop]}
"""


def test_what_is_known_of_one_device_is_asked_with_what_others_ask() -> None:
    """Source ports at one device, services at the next, two equal ways after it with a list in one: every kind is a kind of its own."""
    reading = mc.read_bytes(APART.encode(), "n.yaml")
    assert reading.network is not None, [str(p) for p in reading.problems]
    plan = mc.Plan(reading.network)
    assert (
        reused_or_not(plan, [("ann", "shop"), ("bob", "shop"), ("shop", "ann")], [Moment(), Moment(open=frozenset({"day"}))]) > 20
    )


def test_what_goes_round_in_a_circle_ends_as_ever() -> None:
    """Answers go round between two routers until their TTL ends, which is one value for all; what is sent has any."""
    plan = mc.Plan(mc.read_bytes(CIRCLE.encode(), "n.yaml").network)  # type: ignore[arg-type]
    assert reused_or_not(plan, [("ann", "shop"), ("eve", "shop"), ("ann", "eve")], [Moment()]) > 20


@examples(3, 18)
@given(networks(), st.integers(0, 1000), st.booleans())
def test_packets_of_a_set_fare_alike_in_any_network(network: mc.Network, seed: int, errors: bool) -> None:
    plan, chance, sets = mc.Plan(network), random.Random(seed), Sets(room())
    names = hosts(plan)
    if len(names) < 2:
        return
    name, other = chance.sample(names, 2)
    targets = [a for a, _ in plan.network.devices[other].own_addresses() if not a.is_link_local]
    fares_alike(plan, sets, name, everything(sets, plan, name, targets), chance, 3, Moment(), errors)


CHAIN = """\
mossy-network: 1
#TOP
devices:
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  till: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
#DESKS
  gate:
    kind: router
    interfaces:
      in: {address: 10.40.1.1/24, filter: {#IN}}
      out: {address: 10.40.9.1/30, filter: {#OUT}}
    routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.9.2}, {prefix: 198.51.100.0/24, next-hop: 10.40.9.2}]
#GATE
  wall:
    kind: router
    interfaces:
      in: {address: 10.40.9.2/30, filter: {#WALL}}
      out: 10.40.2.1/24
    routes: [{prefix: 10.40.1.0/24, next-hop: 10.40.9.1}, {prefix: 198.51.100.0/24, next-hop: 10.40.9.1}]
#WIDE
  store: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https, tcp/9003, udp/53]}
  shelf: {kind: host, address: 10.40.2.11/24, gateway: 10.40.2.1, serves: [https, ssh]}
segments: {a: [desk, till, gate/in#SEAT], m: [gate/out, wall/in], b: [wall/out, store, shelf]}
"""


def chain(top: str = "", **parts: str) -> Plan:
    """Two routers one behind the other, with what is written at each."""
    text = CHAIN.replace("#TOP", top)
    for hook in ("IN", "OUT", "GATE", "WALL", "WIDE", "DESKS", "SEAT"):
        text = text.replace("#" + hook, parts.get(hook.lower(), ""))
    found = mc.read_bytes(text.encode(), "chain.yaml")
    assert found.network is not None, found.problems
    return Plan(found.network)


def tcp(to: str, port: int = 443, from_port: int = 49152, source: str = "10.40.1.10") -> Packet:
    return Packet(6, parse_address(source), parse_address(to), from_port, port, -1, "SYN")


def asks(to: str, kind: int, source: str = "10.40.1.10") -> Packet:
    return Packet(1, parse_address(source), parse_address(to), 1, 0, kind << 8)


STATEFUL = "    stateful: [tcp, udp, icmp]"
HIDE = "    translate: [{leaving: out, becomes: 198.51.100.7}]"


@pytest.mark.parametrize(
    ("plan", "packets"),
    [
        # the answer is judged by what was sent: its ports, its ends, its kind
        (chain("lists: {b: [{deny: tcp, service: tcp/7}, {permit: any}]}", out="arriving: b"), [tcp("10.40.2.10", 443, 7), tcp("10.40.2.10", 443, 8)]),
        (chain("lists: {b: [{deny: tcp, from-port: 9003}, {permit: any}]}", out="arriving: b"), [tcp("10.40.2.10", 9003), tcp("10.40.2.10", 443)]),
        (chain("lists: {b: [{deny: any, from: shelf, to: till}, {permit: any}]}", out="arriving: b"), [tcp(t, source=s) for t in ("10.40.2.10", "10.40.2.11") for s in ("10.40.1.10", "10.40.1.11")]),
        (chain("lists: {b: [{permit: icmp, icmp: echo-reply}]}", out="arriving: b"), [asks("10.40.2.10", 8), asks("10.40.2.10", 13)]),
        (chain("lists: {b: [{permit: icmp, icmp: timestamp-reply}]}", out="arriving: b"), [asks("10.40.2.10", 8), asks("10.40.2.10", 13)]),
        (chain("lists: {b: [{permit: tcp}]}", out="arriving: b"), [tcp("10.40.2.10"), asks("10.40.2.10", 8)]),
        # judged again once the application is known
        (
            chain("lists: {l: [{deny: tcp, application: film, from-port: 7}, {permit: any}]}\napplications: {film: {known-from: 3, to: store}}", **{"in": "arriving: l"}, gate=STATEFUL),
            [tcp("10.40.2.10", 443, 7), tcp("10.40.2.10", 443, 8), tcp("10.40.2.11", 443, 7)],
        ),
        (
            chain("lists: {l: [{deny: tcp, application: film, from: till}, {permit: any}]}\napplications: {film: {known-from: 3}}", wall="arriving: l", wide=STATEFUL.replace("    s", "    s")),
            [tcp("10.40.2.10"), tcp("10.40.2.10", source="10.40.1.11")],
        ),
        # what a rule gives is one value, also for who had it before
        (chain("lists: {w: [{permit: any, from: till}]}", wall="arriving: w", gate="    translate: [{leaving: out, becomes: 10.40.1.10}]"), [tcp("10.40.2.10"), tcp("10.40.2.10", source="10.40.1.11")]),
        (chain("lists: {w: [{deny: any, to: shelf}, {permit: any}]}", wall="arriving: w", gate="    translate: [{to: 10.40.2.0/24, goes-to: store}]"), [tcp("10.40.2.10"), tcp("10.40.2.11")]),
        # ports that are kept, given, moved along
        (chain("lists: {w: [{deny: tcp, from-port: 8080}, {permit: any}]}", wall="arriving: w", gate=HIDE[:-1] + ", {arriving: out, to: 198.51.100.7, service: tcp/8080, goes-to: desk}]"), [tcp("10.40.2.10", 443, 8080), tcp("10.40.2.10", 443, 8081)]),
        (chain("lists: {w: [{deny: tcp, from-port: 1-1023}, {permit: any}]}", wall="arriving: w", gate=HIDE + "\n    settings: {keep-port: no}"), [tcp("10.40.2.10", 443, p) for p in (7, 1023, 1024, 49152)]),
        (chain(gate="    translate: [{arriving: in, to: 10.40.8.8, service: tcp/8000-8010, goes-to: {address: store, port: 9000-9010}}]"), [tcp("10.40.8.8", p) for p in (8002, 8003, 8004, 8011)]),
        (chain(gate="    translate: [{arriving: in, to: 10.40.8.8, service: tcp/8443, goes-to: {address: store, port: 443}}]"), [tcp("10.40.8.8", p) for p in (443, 8443)]),
        # the answer to what is hidden comes back to each
        (chain("lists: {b: [{permit: tcp, to: desk}]}", out="", **{"in": "leaving: b"}, gate=HIDE), [tcp("10.40.2.10"), tcp("10.40.2.10", source="10.40.1.11")]),
        # twice past one device, once as oneself and once as another
        (
            chain(
                gate=STATEFUL + "\n    policy-routes: [{from: 10.40.1.0/24, arriving: in, candidates: [10.40.9.2]}]",
                wide="    translate: [{source: 10.40.1.0/24, leaving: in, becomes: 10.40.1.10}]\n    policy-routes: [{from: 10.40.1.0/24, to: 10.40.1.0/24, arriving: in, candidates: [10.40.9.1]}]",
            ),
            [tcp("10.40.1.11", 443), tcp("10.40.1.1", 443, source="10.40.1.11")],
        ),
    ],
)  # fmt: skip
def test_packets_that_fare_differently_are_in_different_sets(plan: Plan, packets: list[Packet], sets: Sets) -> None:
    """Hand-made neighbours: each is told what its own walk says, whichever of them stands for a set."""
    for source in {p.source for p in packets}:
        name = next(n for n, d in plan.network.devices.items() if source in {a for a, _ in d.own_addresses()})
        mine = [p for p in packets if p.source == source]
        held = everything(sets, plan, name, list({p.destination: None for p in mine}))
        held = held & ~packets_of(sets, (Service(58),))

        def ask(packet: Packet, name: str = name) -> Question:
            """With what it is an application of."""
            port = packet.from_port if packet.protocol == 6 else None
            made = mc.ask(plan, name, str(packet.destination), packet.what(), source_port=port)
            return made._replace(packet=packet)

        found = list(wholes(plan, sets, held, ask, State(), lambda facts: facts.packet))
        for packet in mine:
            its = [w for w in found if holding(sets.space, w.held, packet, Relation.OPENING)]
            assert len(its) == 1
            walks, _ = by_every_choice(lambda choose, p=packet: sent(plan, ask(p), State(), choose)[0])  # type: ignore[misc]
            assert [told(j) for j in its[0].journeys] == [told(j) for _, j in walks], (packet, its[0].packet)


FORK = """\
mossy-network: 1
lists: {one: [#ONE], two: [#TWO]}
devices:
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  till: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
  gate:
    kind: router
    interfaces: {in: 10.40.1.1/24, up: 10.40.8.1/30, down: 10.40.9.1/30}
    routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.8.2}, {prefix: 10.40.2.0/24, next-hop: 10.40.9.2}]
  high:
    kind: router
    interfaces: {gate: {address: 10.40.8.2/30, filter: {arriving: one}}, store: 10.40.2.1/24}
    routes: [{prefix: default, next-hop: 10.40.8.1}]
  low:
    kind: router
    interfaces: {gate: {address: 10.40.9.2/30, filter: {arriving: two}}, store: 10.40.2.2/24}
    routes: [{prefix: default, next-hop: 10.40.9.1}]
  store: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https, ssh]}
segments: {a: [desk, till, gate/in], u: [gate/up, high/gate], d: [gate/down, low/gate], s: [high/store, low/store, store]}
"""


def fork(one: str, two: str) -> mc.Network:
    """Two equal ways, with a list at each."""
    network = mc.read_bytes(FORK.replace("#ONE", one).replace("#TWO", two).encode(), "fork.yaml").network
    assert network is not None
    return network


def test_a_stay_that_chose_a_way_is_known_by_no_other() -> None:
    high = "{reject: tcp, service: ssh}, {deny: tcp, service: tcp/7}, {permit: any}"
    plan = mc.Plan(fork(high, "{deny: udp}, {deny: tcp, from-port: 7}, {permit: any}"))
    assert reused_or_not(plan, [("desk", "store"), ("till", "store"), ("store", "desk")], [Moment()]) > 10
    sets = Sets(room(64))
    held = everything(sets, plan, "desk", [parse_address("10.40.2.10")])
    assert fares_alike(plan, sets, "desk", held, random.Random(2), 4, Moment(), errors=True) > 3


LOFT = """\
  loft:
    kind: router
    interfaces: {floor: {address: [10.40.1.20/24, 10.40.1.21/24, 10.40.7.7/24]}}
    routes: [{prefix: default, next-hop: 10.40.1.1}]"""
REJECTS = "w: [{reject: tcp, service: tcp/7}, {reject: udp, answer: host-prohibited}, {deny: any, service: ssh}, {permit: any}]"
TO_LOFT = "{prefix: 10.40.7.0/24, next-hop: 10.40.1.20}"
BLOCK = "    translate: [{source: 10.40.1.0/24, leaving: out, becomes: {pair: 198.51.100.0/24}}]"


def with_loft(lists: str = "", **parts: str) -> Plan:
    """The same, with a router that sends from three addresses, and a wall that rejects."""
    lists = f"lists: {{{REJECTS}{', ' if lists else ''}{lists}}}"
    loft = LOFT.replace("}}\n", ", filter: {arriving: c}}}\n") if "c: [" in lists else LOFT
    return chain(lists, wall="arriving: w", desks=loft, seat=", loft/floor", **parts)


@pytest.mark.parametrize(
    ("plan", "destinations"),
    [
        (with_loft(), ["10.40.2.10"]),
        # a list on their way, about who they are for, whose they are, what they are, and what they are about
        (with_loft("b: [{deny: icmp, to: 10.40.1.21}, {permit: any}]", out="arriving: b"), ["10.40.2.10"]),
        (with_loft("b: [{deny: icmp, from: 10.40.9.2}, {permit: any}]", out="arriving: b"), ["10.40.2.10", "10.40.2.99"]),
        (with_loft("b: [{deny: icmp, icmp: port-unreachable, to: 10.40.1.20}, {permit: any}]", out="arriving: b"), ["10.40.2.10"]),
        (with_loft("b: [{deny: udp}, {deny: tcp}, {permit: any}]", out="arriving: b"), ["10.40.2.10"]),
        (with_loft("b: [{deny: any, from-port: 7}, {deny: any, service: tcp/443}, {permit: any}]", out="arriving: b"), ["10.40.2.10"]),
        (with_loft("b: [{deny: icmp, state: related}, {permit: any}]", out="arriving: b", gate=STATEFUL), ["10.40.2.10"]),
        (with_loft("b: [{permit: any, state: related}]", out="arriving: b", gate=STATEFUL), ["10.40.2.10"]),
        # translated on its way, by one address for all, by one for each, at the other end, at both
        (with_loft("b: [{deny: icmp, to: 10.40.1.21}, {permit: any}]", **{"in": "leaving: b"}, gate=HIDE), ["10.40.2.10"]),
        (with_loft("b: [{deny: icmp, to: 10.40.1.21}, {permit: any}]", **{"in": "leaving: b"}, gate=BLOCK), ["10.40.2.10"]),
        (with_loft("b: [{deny: icmp, from: 10.40.9.2}, {permit: any}]", **{"in": "leaving: b"}, gate="    translate: [{arriving: in, to: 10.40.8.8, goes-to: store}]"), ["10.40.8.8", "10.40.2.10"]),
        (with_loft("b: [{deny: icmp, from: 10.40.8.9}, {permit: any}]", **{"in": "leaving: b"}, gate="    translate: [{arriving: in, to: 10.40.8.8/31, goes-to: store}]"), ["10.40.8.8", "10.40.8.9", "10.40.2.10"]),
        (with_loft("b: [{deny: icmp, from: 10.40.8.8}, {permit: any}]", **{"in": "leaving: b"}, gate="    translate: [{arriving: in, to: 10.40.8.8, goes-to: store}, {leaving: out, becomes: 198.51.100.7}]"), ["10.40.8.8", "10.40.2.10"]),
        (with_loft("b: [{deny: icmp, to: 10.40.1.20}, {permit: any}]", **{"in": "leaving: b"}, gate=HIDE + "\n    settings: {keep-port: no}"), ["10.40.2.10"]),
        # judged by who they are from once the translation is undone: of the far end's other name, or of who sent them
        (with_loft("c: [{deny: icmp, from: 10.40.8.9}, {permit: any}]", gate="    translate: [{arriving: in, to: 10.40.8.8/31, goes-to: store}]"), ["10.40.8.8", "10.40.8.9", "10.40.2.10"]),
        (with_loft("c: [{deny: icmp, from: 10.40.9.2}, {permit: any}]", gate=HIDE), ["10.40.2.10", "10.40.2.11"]),
        # hidden behind an address that one of them has already
        (with_loft("b: [{deny: icmp, to: 10.40.1.20}, {permit: any}]", **{"in": "leaving: b"}, gate="    translate: [{leaving: out, becomes: 10.40.1.20}]"), ["10.40.2.10"]),
        # nobody knows the way home to one of them
        (with_loft(gate="    policy-routes: [{to: 10.40.7.0/24, candidates: [10.40.1.20]}]"), ["10.40.2.10", "10.40.2.99"]),
        # told by the target itself, of what it does not listen for, by any of its addresses
        (chain("lists: {b: [{deny: icmp, from: 10.40.2.1}, {permit: any}]}", out="arriving: b", desks=LOFT, seat=", loft/floor"), ["10.40.9.2", "10.40.2.1"]),
        (chain("lists: {b: [{deny: icmp, from: shelf, to: 10.40.1.21}, {permit: any}]}", out="arriving: b", desks=LOFT, seat=", loft/floor"), ["10.40.2.10", "10.40.2.11"]),
    ],
)  # fmt: skip
def test_errors_about_packets_of_a_set_come_to_one_end(plan: Plan, destinations: list[str], sets: Sets) -> None:
    """Every packet that is drawn is told what its own walk says, the error about it too; and not all are told alike."""
    some = packets_of(
        sets, [Service(6, Span(7, 7)), Service(6, Span(22, 22)), Service(17, Span(53, 60)), Service(17, Span(7, 7)), Service(1)]
    )
    held = everything(sets, plan, "loft", [parse_address(a) for a in destinations]) & some
    fares_alike(plan, sets, "loft", held, random.Random(4), 4, Moment(), errors=True)


def test_what_is_known_of_errors_serves_those_about_other_packets() -> None:
    """Errors by one way are judged where they go by who they are for, and not by what they quote."""
    lists = "b: [{deny: icmp, to: 10.40.1.21}, {deny: icmp, icmp: port-unreachable, to: till}, {permit: any}]"
    plan = with_loft(lists, out="arriving: b", wide="    settings: {error-source: arriving}")
    assert reused_or_not(plan, [("loft", "store"), ("desk", "store"), ("till", "store"), ("till", "shelf")], [Moment()]) > 20


@pytest.fixture(scope="module")
def sets() -> Sets:
    return Sets(room(64))
