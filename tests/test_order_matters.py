"""What comes first, what is asked of which packet, and what may be used again: each case goes wrong if two things change places."""

from __future__ import annotations

import pytest

import mossy_compass as mc
from mossy_compass.lab.faults import apply
from mossy_compass.lab.lab import Flow, Lab
from mossy_compass.plan.order import SPECS
from mossy_compass.walk.question import Options
from tests.conftest import DATA
from tests.test_gates import build

CASES: list[tuple[str, dict[str, str], str, str]] = [
    # everywhere comes before the interface's own, whichever of the two is wider
    ("everywhere denies", {"GATES": "everywhere: [one]", "LAN": "arriving: two", "ONE": "{deny: tcp}", "TWO": "{permit: any}"}, "filter.rule", "one rule 10"),
    ("everywhere permits", {"GATES": "everywhere: [one]", "LAN": "arriving: two", "ONE": "{permit: tcp}", "TWO": "{deny: any}"}, "service.open", "one rule 10"),
    # a profile's lists stand before the interface's, after them, or instead of them
    ("before, permits", {"GATES": "profiles: {p: {for: [desk], mode: before, lists: [two]}}", "LAN": "arriving: one", "ONE": "{deny: tcp}", "TWO": "{permit: tcp}"}, "service.open", "two rule 10"),
    ("before, denies", {"GATES": "profiles: {p: {for: [desk], mode: before, lists: [two]}}", "LAN": "arriving: one", "ONE": "{permit: tcp}", "TWO": "{deny: tcp}"}, "filter.rule", "two rule 10"),
    ("after, permits", {"GATES": "profiles: {p: {for: [desk], mode: after, lists: [two]}}", "LAN": "arriving: one", "ONE": "{deny: tcp}", "TWO": "{permit: tcp}"}, "filter.rule", "one rule 10"),
    ("after, denies", {"GATES": "profiles: {p: {for: [desk], mode: after, lists: [two]}}", "LAN": "arriving: one", "ONE": "{permit: tcp}", "TWO": "{deny: tcp}"}, "service.open", "one rule 10"),
    ("instead", {"GATES": "profiles: {p: {for: [desk], lists: [two]}}", "LAN": "arriving: one", "ONE": "{deny: tcp}", "TWO": "{permit: tcp}"}, "service.open", "two rule 10"),
    ("everywhere, then a profile", {"GATES": "everywhere: [one]\n    profiles: {p: {for: [desk], mode: after, lists: [two]}}", "ONE": "{deny: tcp}", "TWO": "{permit: tcp}"}, "filter.rule", "one rule 10"),
]  # fmt: skip


@pytest.mark.parametrize("what, parts, cause, says", CASES, ids=[c[0] for c in CASES])
def test_the_list_that_comes_first_decides(what: str, parts: dict[str, str], cause: str, says: str) -> None:
    journey = mc.trace(build(**parts), "desk", "guest", "http")
    assert journey.cause == cause, str(journey)
    assert says in journey.explain()


ANSWERS: list[tuple[str, str, str]] = [
    # whose profile an answer meets is a matter of who opened the flow, not of who sends the answer
    ("[clerk]", "{permit: tcp, to: almanac}", "filter.end"),  # the answer is of the clerk's flow, and is not to almanac
    ("[clerk]", "{permit: tcp}", "service.open"),
    ("[almanac]", "{deny: tcp}", "service.open"),  # almanac opened nothing
    ("[desk]", "{deny: tcp}", "service.open"),
]


@pytest.mark.parametrize("members, rules, cause", ANSWERS)
def test_an_answer_meets_the_profile_of_who_asked(members: str, rules: str, cause: str) -> None:
    translate = "{id: out, source: clerk, leaving: out, becomes: interface}"
    plan = build(KIND="router", TRANSLATE=translate, TWO=rules, GATES=f"profiles: {{p: {{for: {members}, lists: [two]}}}}")
    journey = mc.trace(plan, "clerk", "almanac", "https")
    assert journey.answered is (cause == "service.open"), str(journey)
    if not journey.answered:
        assert journey.lost == "back"
        assert journey.back is not None
        assert journey.back.because.code == "list.end"


TWO_OUTSIDE = """mossy-network: 1
devices:
  gate:
    kind: firewall
    interfaces:
      in: 10.40.1.1/24
      one: {address: 198.51.100.1/24, outside: yes}
      two: {address: 203.0.113.1/24, outside: yes}
    settings: {SETTINGS}
  a: {kind: host, address: 198.51.100.10/24, gateway: 198.51.100.1}
  b: {kind: host, address: 203.0.113.10/24, gateway: 203.0.113.1, serves: [http]}
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1, serves: [http]}
segments: {x: [gate/one, a], y: [gate/two, b], z: [gate/in, desk]}
"""


@pytest.mark.parametrize(
    "settings, sender, target, cause",
    [
        ("through: permit, inbound: deny, outbound: deny", "a", "b", "service.open"),
        ("through: deny, inbound: permit, outbound: permit", "a", "b", "filter.through"),
        ("through: permit, inbound: deny, outbound: permit", "a", "desk", "filter.inbound"),
        ("through: permit, inbound: permit, outbound: deny", "desk", "b", "filter.outbound"),
    ],
)
def test_between_two_outside_interfaces_it_is_through(settings: str, sender: str, target: str, cause: str) -> None:
    network = mc.read_bytes(TWO_OUTSIDE.replace("SETTINGS", settings).encode(), "n.yaml").network
    assert network is not None
    assert mc.trace(mc.Plan(network), sender, target, "http").cause == cause


def codes(rules: str, hours: str = "{}") -> list[tuple[str, int]]:
    """What check says of one list: codes, and the lines of the rules."""
    text = f"""mossy-network: 1
hours: {hours}
lists:
  l:
{rules}
devices:
  r: {{kind: router, interfaces: {{a: {{address: 10.40.1.1/24, filter: {{arriving: l}}}}}}}}
  pc: {{kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}}
segments: {{a: [r/a, pc]}}
"""
    reading = mc.read_bytes(text.encode(), "n.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    found = [*reading.problems, *mc.findings(mc.Plan(reading.network))]
    return [(p.code, p.mark.line - 4) for p in found if p.code in ("rule.shadowed", "rule.redundant", "rule.never")]


WEEK = "{w: {days: [mon, tue, wed, thu, fri], from: '00:00', until: '24:00', zone: UTC}, sat: {days: [sat], from: '00:00', until: '24:00', zone: UTC}, sun: {days: [sun], from: '00:00', until: '24:00', zone: UTC}}"  # fmt: skip


@pytest.mark.parametrize(
    "rules, found",
    [
        (["{deny: tcp, hours: sat}", "{permit: any}"], []),
        (["{deny: tcp, hours: sun}", "{permit: any}"], []),
        (["{deny: tcp, hours: w}", "{deny: tcp, hours: sat}", "{permit: tcp}"], []),  # sundays are left
        (
            ["{deny: tcp, hours: w}", "{deny: tcp, hours: sat}", "{deny: tcp, hours: sun}", "{permit: tcp}"],
            [],
        ),  # without a time none is open
        (["{deny: tcp, hours: w}", "{permit: tcp, hours: w}"], [("rule.shadowed", 2)]),
    ],
)
def test_a_week_has_seven_days(rules: list[str], found: list[tuple[str, int]]) -> None:
    assert codes("\n".join(f"    - {r}" for r in rules), WEEK) == found


@pytest.mark.parametrize(
    "rules, found",
    [
        # without rule 1 its packets meet rule 2, which says the same
        (["{deny: tcp, service: http}", "{deny: tcp}", "{permit: any}"], [("rule.redundant", 1)]),
        # without rule 1 they meet rule 2, which does not, though rule 3 behind it would
        (["{permit: tcp, service: http}", "{deny: tcp}", "{permit: any}"], []),
        (["{deny: tcp, service: http}", "{permit: tcp}", "{deny: udp}", "{permit: any}"], [("rule.redundant", 2)]),
        (["{permit: tcp, service: http}", "{permit: tcp}", "{permit: udp}"], [("rule.redundant", 1)]),
    ],
)
def test_a_rule_is_redundant_by_what_comes_next_after_it(rules: list[str], found: list[tuple[str, int]]) -> None:
    assert codes("\n".join(f"    - {r}" for r in rules)) == found


@pytest.mark.parametrize("place", [{"OUT": "leaving: one"}, {"GATES": "crossings: [{from: house, into: world, lists: [one]}]"}])
def test_hops_are_counted_before_the_lists_of_the_way_out(place: dict[str, str]) -> None:
    """RFC 1812 section 5.2.1.2: the TTL is looked at once the route is known; what has no hop left is not filtered on its way out."""
    plan = build(ONE="{deny: tcp}", **place)
    assert mc.trace(plan, "clerk", "almanac", "https", ttl=1).cause == "ttl.expired"
    assert mc.trace(plan, "clerk", "almanac", "https", ttl=2).cause == "filter.rule"


def test_the_end_of_a_subnet_says_nothing_of_its_neighbours() -> None:
    for order in (["10.40.2.255", "guest", "10.40.2.0"], ["guest", "10.40.2.0", "10.40.2.255"]):
        plan = build(KIND="router")
        found = {target: mc.trace(plan, "clerk", target, "http") for target in order}
        assert {t: j.cause for t, j in found.items()} == {
            "guest": "service.open",
            "10.40.2.0": "neighbour.silent",
            "10.40.2.255": "neighbour.silent",
        }
        for end in ("10.40.2.255", "10.40.2.0"):
            last = found[end].there.hops[-1].rulings[-1]
            assert last.stage == "route", "nobody is asked for it on the segment"
            assert last.remark is not None
            assert (last.remark.code, str(last.remark.named["destination"])) == ("note.subnet-end", end)


@pytest.mark.parametrize("network", ["fernhollow", "grounds"])
def test_what_a_step_asks_is_known_by_then(network: str) -> None:
    """A fact that is asked before a stage has given it would be void, and so would be every row that asks for it."""
    plan = mc.Plan(mc.load(DATA / f"{network}.yaml"))
    given_by_stages = {fact for spec in SPECS.values() for fact in spec.gives}
    for name, device in plan.network.devices.items():
        here = plan.device(name)
        for port in (None, *device.interfaces) if device.layer3 else ():
            known: set[str] = set()
            for step in here.steps(port):
                asked = {f for f in step.needs if f in given_by_stages}
                assert asked <= known | set(step.gives), (name, port, step.stage, asked - known)
                known |= set(step.gives)
            # a stage that can do nothing at a device makes no step, so what it gives stays as it was: nothing was let in
            assert {"session", "relation"} <= known


LEASES = """mossy-network: 1
devices:
  r: {kind: router, interfaces: {a: 10.40.1.1/24}, leases: {a: {range: 10.40.1.100-10.40.1.100}}}
  one: {kind: host, leased: yes}
  two: {kind: host, leased: yes}
  sw: {kind: switch, interfaces: {p1: {}, p2: {}, p3: {}}}
segments: {a: [r/a, sw/p1], b: [sw/p2, one], c: [sw/p3, two]}
"""


def test_a_promised_address_is_not_given_to_another() -> None:
    """RFC 2131 section 4.4.5: who has a lease keeps it, though its cable is out."""
    network = mc.read_bytes(LEASES.encode(), "n.yaml").network
    assert network is not None
    whole = mc.Plan(network)
    held = {device: str(lease.address.address) for (device, _), lease in whole.routing.leases.held.items()}
    assert held == {"one": "10.40.1.100"}
    lab = Lab(network)
    fault = lab.fail("link b")
    assert {d for d, _ in lab.plan.routing.leases.held} == {"one"}
    assert {d for d, _ in mc.Plan(apply(network, frozenset({fault}))).routing.leases.held} == {"two"}, "nothing was promised before"


def test_a_session_that_began_since_is_seen_by_a_comparison() -> None:
    network = mc.read_bytes(TWO_OUTSIDE.replace("SETTINGS", "inbound: deny").encode(), "n.yaml").network
    assert network is not None
    lab = Lab(network)
    home = Flow("a", "desk", "udp/50000", Options(source_port=123))
    assert not lab.test(home).answered
    kept = lab.keep("before", [home])
    assert home in kept.needs, "else everything is tested again, and this says nothing"
    lab.send(Flow("desk", "a", "udp/123", Options(source_port=50000)))  # the way back is open now
    lab.fail("link y")  # which touches neither
    assert lab.test(home).there.end == "desk"
    assert len(lab.compare("before", [home]).changed) == 1


def test_what_passes_untranslated_was_not_let_in_by_the_translation() -> None:
    """A session is opened under the rule that permits it, or under none; a translation that did not match permits nothing."""
    for parts, opened in (({}, ("", "")), ({"LAN": "arriving: one", "ONE": "{permit: tcp}"}, ("list one", "10"))):
        plan = build(TRANSLATE="{id: out, source: desk, leaving: out, becomes: interface}", **parts)
        lab = Lab(plan.network)
        lab.send(Flow("clerk", "almanac", "https"))
        assert [(str(s.opened_by[0]), s.opened_by[1]) for s in lab.state.sessions("gate")] == [opened]
