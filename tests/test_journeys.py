"""Test packets through the demo network whose fate, cause and deciding rule were worked out by hand, there and back.

The hand-worked reason stands beside each case. `decided` is the text of the ruling that decides; where it is a
rule or a list, the line that it is cited at is checked to hold the id or name.
"""

from __future__ import annotations

import json
from collections.abc import Iterator

import jsonschema
import pytest

import mossy_compass as mc
from mossy_compass.plan.conditions import Miss
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.rows import Row
from mossy_compass.report import sentences, text
from tests.conftest import DATA

# sender, target, service, options, fate, lost on, cause, decided by, symptom, path there, path back
CASES: list[tuple[str, str, str, dict[str, object], str, str, str, str, str, str, str]] = [
    # visitors-in 10 names the kiosks, herbarium-in 20 too; ledger serves ticketing
    ("kiosk-1", "ledger", "ticketing", {}, "delivered", "there", "service.open", "ledger serves ticketing", "answered", "kiosk-1 canopy herb-gate ledger", "ledger herb-gate canopy kiosk-1"),
    # not in kiosks, so visitors-in 20: 10.40.48.20 is in 10.0.0.0/8
    ("tablet", "ledger", "ticketing", {}, "dropped", "there", "filter.rule", "visitors-in rule 20", "silence", "tablet canopy", ""),
    # right host, wrong port: rule 10 wants 8443, so rule 20
    ("kiosk-1", "ledger", "tcp/22", {}, "dropped", "there", "filter.rule", "visitors-in rule 20", "silence", "kiosk-1 canopy", ""),
    # udp to the ticketing port: rule 10 is for tcp
    ("kiosk-1", "ledger", "udp/8443", {}, "dropped", "there", "filter.rule", "visitors-in rule 20", "silence", "kiosk-1 canopy", ""),
    # visitors-in 30 lets it out, gate translates; icmp is not in gate's stateful list, so the reply meets world-in's end
    ("kiosk-1", "almanac.example", "ping", {}, "dropped", "back", "session.none", "the end of list world-in", "silence", "kiosk-1 canopy gate upstream almanac", "almanac upstream gate"),
    # tcp is inspected at gate
    ("kiosk-1", "almanac.example", "https", {}, "delivered", "there", "service.open", "almanac serves https", "answered", "kiosk-1 canopy gate upstream almanac", "almanac upstream gate canopy kiosk-1"),
    # udp is inspected at gate
    ("lab-bench", "almanac", "domain", {}, "delivered", "there", "service.open", "almanac serves domain", "answered", "lab-bench canopy gate upstream almanac", "almanac upstream gate canopy lab-bench"),
    # closed at the far end; the reset comes back through the session
    ("lab-bench", "almanac", "tcp/81", {}, "refused", "there", "service.closed", "almanac does not listen on tcp/81; it serves https, ntp, domain", "refused", "lab-bench canopy gate upstream almanac", "almanac upstream gate canopy lab-bench"),
    # closed over udp: port unreachable quotes the translated packet, and belongs to its session
    ("lab-bench", "almanac", "udp/81", {}, "refused", "there", "service.closed", "almanac does not listen on udp/81; it serves https, ntp, domain", "refused", "lab-bench canopy gate upstream almanac", "almanac upstream gate canopy lab-bench"),
    # herbarium-in 40 is for lab-bench alone; lab-desk falls through to the end
    ("lab-desk", "pressroom", "ssh", {}, "dropped", "there", "filter.end", "the end of list herbarium-in", "silence", "lab-desk canopy herb-gate", ""),
    ("lab-bench", "pressroom", "ssh", {}, "delivered", "there", "service.open", "pressroom serves ssh", "answered", "lab-bench canopy herb-gate pressroom", "pressroom herb-gate canopy lab-bench"),
    # herbarium-in 10 lets web through, but ledger has no tcp/80
    ("lab-bench", "ledger", "tcp/80", {}, "refused", "there", "service.closed", "ledger does not listen on tcp/80; it serves ticketing, tcp/443, readings", "refused", "lab-bench canopy herb-gate ledger", "ledger herb-gate canopy lab-bench"),
    # herb-gate inspects icmp, herbarium-in 50 permits the request
    ("lab-desk", "ledger", "ping", {}, "delivered", "there", "echo.answered", "ledger answers pings (answers-ping: yes, the default of a host)", "answered", "lab-desk canopy herb-gate ledger", "ledger herb-gate canopy lab-desk"),
    # the servers' side of herb-gate has no list: out is free, and the answer has a session
    ("ledger", "lab-bench", "ssh", {}, "delivered", "there", "service.open", "lab-bench serves ssh", "answered", "ledger herb-gate canopy lab-bench", "lab-bench canopy herb-gate ledger"),
    # group glasshouses (10.40.16.0/22) holds both sensors
    ("sensor-orchid", "ledger", "readings", {}, "delivered", "there", "service.open", "ledger serves readings", "answered", "sensor-orchid glen canopy herb-gate ledger", "ledger herb-gate canopy glen sensor-orchid"),
    # the glasshouses are not in house-networks: untranslated, and upstream knows no private addresses
    ("sensor-fern", "almanac", "ntp", {}, "dropped", "back", "route.none", "upstream has no route to 10.40.16.20", "silence", "sensor-fern glen canopy gate upstream almanac", "almanac upstream"),
    # world-in 10 permits the catalogue to everybody
    ("almanac", "seeds.example", "https", {}, "delivered", "there", "service.open", "catalogue serves web", "answered", "almanac upstream gate catalogue", "catalogue gate upstream almanac"),
    ("almanac", "seeds.example", "https", {"family": 6}, "delivered", "there", "service.open", "catalogue serves web", "answered", "almanac upstream gate catalogue", "catalogue gate upstream almanac"),
    # ... and nothing else there
    ("almanac", "catalogue", "ssh", {}, "dropped", "there", "filter.end", "the end of list world-in", "silence", "almanac upstream gate", ""),
    # upstream has no route to private addresses and says so
    ("almanac", "10.40.48.20", "https", {}, "dropped", "there", "route.none", "upstream has no route to 10.40.48.20", "unreachable", "almanac upstream", "upstream almanac"),
    # seeds-in 10 rejects with a reset (a firewall's reject-answer)
    ("catalogue", "ledger", "https", {}, "rejected", "there", "filter.rule", "seeds-in rule 10", "refused", "catalogue gate", "gate catalogue"),
    # ... and udp with ICMP prohibited
    ("catalogue", "ledger", "readings", {}, "rejected", "there", "filter.rule", "seeds-in rule 10", "unreachable", "catalogue gate", "gate catalogue"),
    # 10.41.9.9 is in gate's 10.40.0.0/13 and in canopy's default: a circle
    ("lab-bench", "10.41.9.9", "ping", {}, "looped", "there", "loop", "gate > canopy > gate in a circle", "unreachable", "lab-bench canopy gate canopy", "gate canopy lab-bench"),
    # canopy's discard route is longer than its default
    ("lab-bench", "10.47.1.1", "ping", {}, "dropped", "there", "route.discard", "static route 10.47.0.0/16", "silence", "lab-bench canopy", ""),
    # nobody has .99 on the segment; the sender itself finds that out
    ("lab-bench", "10.40.40.99", "ping", {}, "dropped", "there", "neighbour.silent", "10.40.40.99 does not answer lab-bench", "unreachable", "lab-bench", ""),
    # visitors-in 20 comes before any neighbour is asked
    ("kiosk-2", "10.40.16.99", "ping", {}, "dropped", "there", "filter.rule", "visitors-in rule 20", "silence", "kiosk-2 canopy", ""),
    ("lab-bench", "10.40.16.99", "ping", {}, "dropped", "there", "neighbour.silent", "10.40.16.99 does not answer glen", "unreachable", "lab-bench canopy glen", "glen canopy lab-bench"),
    # TTL 2: canopy takes it to 1, gate may not pass it on
    ("lab-bench", "almanac", "https", {"ttl": 2}, "expired", "there", "ttl.expired", "the TTL ran out at gate", "unreachable", "lab-bench canopy gate", "gate canopy lab-bench"),
    # a firewall says nothing for its own closed ports
    ("lab-bench", "gate", "tcp/443", {}, "dropped", "there", "self.not-offered", "gate offers ping, ssh (to lab-bench) on inside", "silence", "lab-bench canopy gate", ""),
    # a router refuses for its own closed ports
    ("lab-bench", "canopy/lab", "tcp/23", {}, "refused", "there", "service.closed", "canopy does not listen on tcp/23; it serves nothing", "refused", "lab-bench canopy", "canopy lab-bench"),
    # visitors have IPv6 to the world without translation; tcp is inspected at gate
    ("kiosk-1", "almanac", "https", {"family": 6}, "delivered", "there", "service.open", "almanac serves https", "answered", "kiosk-1 canopy gate upstream almanac", "almanac upstream gate canopy kiosk-1"),
    # icmp6 is not inspected at gate
    ("kiosk-1", "almanac", "ping", {"family": 6}, "dropped", "back", "session.none", "the end of list world-in", "silence", "kiosk-1 canopy gate upstream almanac", "almanac upstream gate"),
    # gate's own ping: a session is not kept for icmp, so its own answer meets world-in too
    ("gate", "almanac", "ping", {}, "dropped", "back", "session.none", "the end of list world-in", "silence", "gate upstream almanac", "almanac upstream gate"),
    ("gate", "almanac", "https", {}, "delivered", "there", "service.open", "almanac serves https", "answered", "gate upstream almanac", "almanac upstream gate"),
    # link-local addresses stay on their segment
    ("kiosk-1", "fe80::9", "ping", {}, "dropped", "there", "neighbour.silent", "fe80::9 does not answer kiosk-1", "unreachable", "kiosk-1", ""),
    ("lab-bench", "169.254.7.7", "ping", {}, "dropped", "there", "address.link-local", "destination 169.254.7.7 is link-local", "silence", "lab-bench canopy", ""),
]  # fmt: skip
IDS = [f"{c[0]}-{c[1]}-{c[2]}-{n}" for n, c in enumerate(CASES)]


@pytest.mark.parametrize("case", CASES, ids=IDS)
def test_worked_by_hand(
    demo: mc.Plan, demo_text: bytes, case: tuple[str, str, str, dict[str, object], str, str, str, str, str, str, str]
) -> None:
    sender, target, service, options, fate, lost, cause, decided, symptom, there, back = case
    journey = mc.trace(demo, sender, target, service, **options)  # type: ignore[arg-type]
    assert (journey.fate, journey.lost, journey.cause, journey.because.words, journey.symptom) == (
        fate,
        lost,
        cause,
        decided,
        symptom,
    )
    assert [h.device for h in journey.there.hops] == there.split()
    assert [h.device for h in journey.back.hops] == back.split() if journey.back else back == ""
    line = sentences.headline(journey)
    assert line.startswith(f"{sender} → ")
    assert f"[{cause}]" in line
    assert decided in line
    if not journey.answered:
        assert f"{sender} sees {symptom}" in line
    mark = journey.because.mark
    if mark is not None and mark.line and journey.because.kind in ("rule", "default"):
        source = demo_text.decode().splitlines()[mark.line - 1]
        name = decided.split()[-1]
        assert name in source, f"{mark} does not show {name}: {source}"


@pytest.mark.parametrize("case", CASES, ids=IDS)
def test_text_and_json_tell_the_same(demo: mc.Plan, case: tuple[object, ...]) -> None:
    journey = mc.trace(demo, case[0], case[1], case[2], **case[3])  # type: ignore[arg-type]
    data = json.loads(json.dumps(journey.to_dict(details=True)))
    jsonschema.validate(data, json.loads((DATA / "journey.schema.json").read_text()))
    shown = " ".join(text.as_text(text.journey(journey, details=True), width=10_000).split())
    assert data["because"]["words"] in shown
    for leg in data["legs"]:
        for hop in leg["hops"]:
            for ruling in hop["rulings"]:
                if leg["packet"]["protocol"] == "ip-0":
                    continue
                assert f"{ruling['did']}: {ruling['because']['words']}" in shown
                assert " ".join(ruling["note"].split()) in shown
                for over in ruling.get("passed-over", []):
                    head, line = f"passed over rule {over['rule']}", f": {over['condition']}: {over['reason']}"
                    assert any(part.partition(line)[1] for part in shown.split(head)[1:])


def test_a_journey_looks_at_few_rules_of_a_long_list(monkeypatch: pytest.MonkeyPatch) -> None:
    """What is told of a packet comes from the index: no rule is gone through that has nothing to do with it."""
    rules = "\n".join(f"    - {{{'deny' if n % 3 else 'permit'}: tcp, from: 10.42.{n >> 8}.{n & 255}}}" for n in range(3000))
    network = mc.read_bytes(
        f"""mossy-network: 1
lists:
  long:
{rules}
    - {{note: icmp}}
devices:
  r: {{kind: router, interfaces: {{one: {{address: 10.41.1.1/24, filter: {{arriving: long}}}}, two: {{address: 10.41.2.1/24}}}}}}
  a: {{kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}}
  b: {{kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1, serves: [https]}}
segments: {{one: [r/one, a], two: [r/two, b]}}
""".encode(),
        "n.yaml",
    ).network
    assert network is not None
    plan = mc.Plan(network)
    looked: list[str] = []
    misses = Row.misses

    def counted(row: Row, facts: Facts) -> Iterator[Miss]:
        """Note that a rule is gone through."""
        looked.append(row.id)
        return misses(row, facts)

    monkeypatch.setattr(Row, "misses", counted)
    journey = mc.trace(plan, "a", "b", "https")
    assert journey.cause == "filter.end"
    assert journey.nearest
    assert len(looked) < 20, looked[:30]


def test_seen_as(demo: mc.Plan) -> None:
    assert mc.trace(demo, "kiosk-1", "almanac", "https", source_port=50000).seen_as == "198.51.100.2:50000"
    assert mc.trace(demo, "kiosk-1", "almanac", "https", family=6).seen_as == "[2001:db8:40:32::10]:49152"
    assert mc.trace(demo, "sensor-fern", "almanac", "ntp").root == "private source 10.40.16.20 left gate untranslated"


def test_an_unattached_list_is_told_of_where_it_would_have_mattered(demo: mc.Plan) -> None:
    journey = mc.trace(demo, "kiosk-1", "seeds.example", "https")
    assert journey.answered
    assert [b.words for b in journey.although] == ["list spring-sale rule 10 would deny it: spring-sale is attached nowhere"]
    assert (
        "although",
        "list spring-sale rule 10 would deny it: spring-sale is attached nowhere (fernhollow.yaml:75)",
    ) in sentences.extras(journey)
    assert mc.trace(demo, "kiosk-1", "almanac", "https").although == ()


@pytest.mark.parametrize(("rule", "told"), [("from: b, service: https", True), ("from: b, service: ssh", False)])
def test_the_end_of_an_unattached_list_is_told_of_where_a_rule_is_about_nearly_such_packets(rule: str, told: bool) -> None:
    """A list that names others for the same service was meant to stop this one; one about another matter was not."""
    text = (
        "mossy-network: 1\nlists:\n  idle: [{permit: tcp, %s}]\ndevices:\n"
        "  r: {kind: router, interfaces: {one: {address: 10.41.1.1/24}, two: {address: 10.41.2.1/24}}}\n"
        "  a: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}\n"
        "  b: {kind: host, address: 10.41.1.11/24, gateway: 10.41.1.1}\n"
        "  c: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1, serves: [https]}\n"
        "segments: {one: [r/one, a, b], two: [r/two, c]}\n"
    )
    network = mc.read_bytes((text % rule).encode(), "n.yaml").network
    assert network is not None
    journey = mc.trace(mc.Plan(network), "a", "c", "https")
    assert journey.answered
    words = ["the end of list idle would deny it: idle is attached nowhere"] if told else []
    assert [b.words for b in journey.although] == words


def test_a_list_that_is_attached_the_wrong_way_round_is_told_of(demo_text: bytes) -> None:
    """herbarium-in on what leaves by herb-gate/house: the packet is not compared with it, and the answer has a session."""
    turned = demo_text.replace(b"filter: {arriving: herbarium-in}", b"filter: {leaving: herbarium-in}")
    turned = turned.replace(b"      - {id: 40, permit: tcp, from: lab-bench,", b"      - {id: 40, deny: tcp, from: lab,")
    network = mc.read_bytes(turned, "f.yaml").network
    assert network is not None
    journey = mc.trace(network, "lab-desk", "pressroom", "ssh")
    assert journey.answered
    assert [b.words for b in journey.although] == [
        "list herbarium-in rule 40 would deny it: herbarium-in is attached to what leaves by herb-gate/house, and this packet arrives there"
    ]


def test_although_never_names_what_decided(demo_text: bytes) -> None:
    """visitors-in turned round drops the answer: it is not idle, and nothing is said although of it."""
    turned = demo_text.replace(b"filter: {arriving: visitors-in}", b"filter: {leaving: visitors-in}")
    network = mc.read_bytes(turned, "f.yaml").network
    assert network is not None
    journey = mc.trace(network, "tablet", "lab-bench", "ssh")
    assert (journey.there.fate, journey.lost, journey.cause) == ("delivered", "back", "filter.rule")
    assert journey.although == ()


def test_a_target_that_is_no_name_is_a_wrong_question(demo: mc.Plan) -> None:
    with pytest.raises(mc.QuestionError, match=r"no target 'legder'\. Did you mean ledger"):
        mc.trace(demo, "lab-bench", "legder")
    with pytest.raises(mc.QuestionError, match=r"tcp/22 or udp/22, or ip-22"):
        mc.trace(demo, "lab-bench", "ledger", "22")
    with pytest.raises(mc.QuestionError, match=r"the service is a text, not 443"):
        mc.trace(demo, "lab-bench", "ledger", 443)  # type: ignore[arg-type]


def test_an_address_that_was_given_twice_is_told_of(demo_text: bytes) -> None:
    twice = demo_text.replace(b"address: 10.40.48.20/24", b"address: 10.40.48.1/24")
    network = mc.read_bytes(twice, "f.yaml").network
    assert network is not None
    journey = mc.trace(network, "kiosk-1", "ledger", "ticketing")
    assert (journey.cause, journey.there.end) == ("service.silent", "herb-gate")
    assert "although ledger has 10.40.48.1 too: it was given twice (f.yaml:181)" in sentences.headline(journey)


def test_a_port_that_is_down_is_the_cause_and_not_the_route_that_went_with_it(demo_text: bytes) -> None:
    cut = demo_text.replace(b"trunk: [canopy/up, gate/inside]", b"trunk: {members: [canopy/up, gate/inside], state: down}")
    network = mc.read_bytes(cut, "f.yaml").network
    assert network is not None
    journey = mc.trace(network, "lab-bench", "almanac", "https")
    assert (journey.cause, journey.because.words) == ("interface.down", "canopy/up is down: segment trunk is cut")
    assert journey.note == "so its default route (static) is not used"


def test_nearest_rule_names_the_one_condition(demo: mc.Plan) -> None:
    journey = mc.trace(demo, "lab-desk", "pressroom", "ssh")
    assert journey.nearest[0].endswith("would permit it, if its from matched: 10.40.40.21 is not in lab-bench (10.40.40.20)")


def test_rules_passed_over_each_say_what_failed_first(demo: mc.Plan) -> None:
    ruling = mc.trace(demo, "lab-desk", "pressroom", "ssh").there.hops[-1].rulings[-1]
    assert [(over.id, over.miss.key) for over in demo.passed_over("herb-gate", ruling)] == [
        ("10", "service"),
        ("20", "from"),
        ("30", "protocol"),
        ("40", "from"),
        ("50", "protocol"),
    ]


def test_member_of_a_group_is_named(demo: mc.Plan) -> None:
    hop = mc.trace(demo, "kiosk-1", "ledger", "ticketing").there.hops[1]
    assert next(r.note for r in hop.rulings if r.stage == "arriving list") == "from kiosks (kiosk-1)"


def test_the_same_question_gives_the_same_bytes(demo: mc.Plan) -> None:
    first = json.dumps(mc.trace(demo, "kiosk-1", "almanac", "https").to_dict(True))
    again = mc.Plan(demo.network)
    assert json.dumps(mc.trace(again, "kiosk-1", "almanac", "https").to_dict(True)) == first


@pytest.mark.parametrize(
    "arguments, says",
    [
        (("nobody", "ledger"), "there is no device 'nobody'"),
        (("kiosk-3", "ledger"), "Did you mean kiosk-"),
        (("kiosk-1", "ledger", "tcp"), "needs a port"),
        (("kiosk-1", "ledger", "tickets"), "Did you mean ticketing"),
        (("kiosk-1", "10.40.300.1"), "300 is more than 255"),
        (("kiosk-1", "224.0.0.5"), "is a multicast address"),
        (("kiosk-1", "ff02::1"), "is a multicast address"),
        (("kiosk-1", "255.255.255.255"), "is the broadcast address"),
        (("kiosk-1", "127.0.0.1"), "is a loopback address"),
        (("kiosk-1", "::1"), "is a loopback address"),
        (("kiosk-1", "0.0.0.0"), "is the unspecified address"),
        (("kiosk-1", ""), "the target is empty"),
        (("kiosk-1/wlan", "ledger"), "has no interface 'wlan'"),
        (("kiosk-1", "canopy/roof"), "has no interface 'roof'"),
        (("kiosk-1", "ledger", "tcp/99999"), "ports are 0 to 65535"),
    ],
)
def test_wrong_questions(demo: mc.Plan, arguments: tuple[str, ...], says: str) -> None:
    with pytest.raises(mc.InputError, match=says.replace("(", r"\(")):
        mc.trace(demo, *arguments)
