"""Translation in full: what sources become, where destinations go, there and back, as the standards ask."""

from __future__ import annotations

from pathlib import Path

import pytest

import mossy_compass as mc
from mossy_compass.walk.journey import Journey
from mossy_compass.walk.question import Options

HALL = """\
mossy-network: 1
devices:
  gate:
    kind: firewall
    stateful: [tcp, udp, icmp]
    settings: {inbound: permit#SETTINGS}
    interfaces:
      in: {address: 10.41.1.1/24, outside: no}
      dmz: {address: 10.41.2.1/24, outside: no}
      out: {address: [198.51.100.2/24, "2001:db8:9::2/64"], outside: yes}
    serves: [ssh]
    translate:
#RULES
  ann: {kind: host, address: [10.41.1.10/24, "2001:db8:1::10/64"], gateway: [10.41.1.1]}
  amy: {kind: host, address: 10.41.1.11/24, gateway: 10.41.1.1, serves: [tcp/8080]}
  shop: {kind: host, address: 10.41.2.20/24, gateway: 10.41.2.1, serves: [https, tcp/8001, tcp/8002]}
  till: {kind: host, address: 10.41.2.21/24, gateway: 10.41.2.1, serves: [https]}
  ben: {kind: host, address: 198.51.100.9/24, gateway: 198.51.100.2, serves: [https, ssh]}
  bea: {kind: host, address: 198.51.100.10/24, gateway: 198.51.100.2, serves: [https]}
segments: {x: [gate/in, ann, amy], y: [gate/dmz, shop, till], z: [gate/out, ben, bea]}
"""


def hall(*rules: str, settings: str = "") -> mc.Plan:
    text = HALL.replace("#RULES", "\n".join(f"      - {r}" for r in rules)).replace("#SETTINGS", settings and f", {settings}")
    found = mc.read_bytes(text.encode(), "hall.yaml")
    assert found.network is not None, found.problems
    return mc.Plan(found.network)


def left(journey: Journey) -> tuple[str, int]:
    """Source address and port as the far end saw them."""
    seen = journey.there.arrived
    return str(seen.source), seen.from_port


def came(journey: Journey) -> tuple[str, int]:
    """Destination address and port as the far end saw them."""
    seen = journey.there.arrived
    return str(seen.destination), seen.to_port


SOURCES = [
    ("{leaving: out}", ("198.51.100.2", 49152)),
    ("{leaving: out, becomes: interface}", ("198.51.100.2", 49152)),
    ("{leaving: out, becomes: 198.51.100.7}", ("198.51.100.7", 49152)),
    ("{leaving: out, becomes: {pool: [198.51.100.16/30]}}", ("198.51.100.18", 49152)),  # 10 modulo 4 members: the third
    ("{leaving: out, source: ann, becomes: {pair: 198.51.100.7}}", ("198.51.100.7", 49152)),
    ("{leaving: out, source: 10.41.1.0/28, becomes: {pair: 198.51.100.32/28}}", ("198.51.100.42", 49152)),
    ("{leaving: out, becomes: exempt}", ("10.41.1.10", 49152)),
    ("{leaving: out, source: amy}", ("10.41.1.10", 49152)),  # none matches
    ("{leaving: out, to: bea}", ("10.41.1.10", 49152)),
    ("{leaving: out, service: ssh}", ("10.41.1.10", 49152)),
    ("{leaving: dmz}", ("10.41.1.10", 49152)),
    ("{leaving: out, disabled: yes}", ("10.41.1.10", 49152)),
]


@pytest.mark.parametrize(("rule", "seen"), SOURCES, ids=[r for r, _ in SOURCES])
def test_what_sources_become(rule: str, seen: tuple[str, int]) -> None:
    journey = mc.trace(hall(rule), "ann", "ben", "https")
    assert left(journey) == seen
    # ben has no way to an inner address but by the gate, which knows the session: there and back is whole either way.
    assert journey.answered, journey
    assert journey.back is not None
    assert str(journey.back.arrived.destination) == "10.41.1.10"


def test_rules_are_asked_in_their_order() -> None:
    rules = ["{id: branch, leaving: out, to: bea, becomes: exempt}", "{id: rest, leaving: out}"]
    assert left(mc.trace(hall(*rules), "ann", "bea", "https"))[0] == "10.41.1.10"
    assert left(mc.trace(hall(*rules), "ann", "ben", "https"))[0] == "198.51.100.2"
    assert left(mc.trace(hall(*rules[::-1]), "ann", "bea", "https"))[0] == "198.51.100.2"


def test_a_pair_works_both_ways_and_a_pool_does_not() -> None:
    pair = hall("{leaving: out, source: amy, becomes: {pair: 198.51.100.7}}")
    journey = mc.trace(pair, "ben", "198.51.100.7", "tcp/8080")
    assert journey.answered
    assert came(journey) == ("10.41.1.11", 8080)
    assert journey.back is not None
    assert str(journey.back.arrived.source) == "198.51.100.7"
    prefix = hall("{leaving: out, source: 10.41.1.0/28, becomes: {pair: 198.51.100.32/28}}")
    assert came(mc.trace(prefix, "ben", "198.51.100.43", "tcp/8080")) == ("10.41.1.11", 8080)
    pool = hall("{leaving: out, source: amy, becomes: {pool: [198.51.100.7]}}")
    assert not mc.trace(pool, "ben", "198.51.100.7", "tcp/8080").answered


def test_a_source_has_one_address_of_a_pool_for_good() -> None:
    """RFC 4787 REQ-2: paired."""
    plan = hall("{leaving: out, becomes: {pool: [198.51.100.16/30, 198.51.100.40-198.51.100.42]}}")
    seen = {
        host: {left(mc.trace(plan, host, far, "https", source_port=port))[0] for far in ("ben", "bea") for port in (1, 2, 50000)}
        for host in ("ann", "amy", "shop")
    }
    assert all(len(addresses) == 1 for addresses in seen.values())
    assert len(set.union(*seen.values())) > 1


DESTINATIONS = [
    ("{arriving: out, to: self, service: tcp/443, goes-to: shop}", "198.51.100.2", "tcp/443", ("10.41.2.20", 443)),
    ("{arriving: out, to: 198.51.100.5, goes-to: shop}", "198.51.100.5", "tcp/443", ("10.41.2.20", 443)),
    (
        "{arriving: out, to: self, service: tcp/81, goes-to: {address: shop, port: 443}}",
        "198.51.100.2",
        "tcp/81",
        ("10.41.2.20", 443),
    ),
    (
        "{arriving: out, to: self, service: tcp/9001-9002, goes-to: {address: shop, port: 8001-8002}}",
        "198.51.100.2",
        "tcp/9002",
        ("10.41.2.20", 8002),
    ),
    ("{arriving: out, to: 198.51.100.5, service: tcp/22, goes-to: self}", "198.51.100.5", "tcp/22", ("198.51.100.2", 22)),
    (
        "{arriving: out, to: any, service: tcp/8022, goes-to: {address: self, port: 22}}",
        "10.41.2.20",
        "tcp/8022",
        ("198.51.100.2", 22),
    ),
]


@pytest.mark.parametrize(("rule", "target", "service", "where"), DESTINATIONS, ids=[r for r, *_ in DESTINATIONS])
def test_where_destinations_go(rule: str, target: str, service: str, where: tuple[str, int]) -> None:
    journey = mc.trace(hall(rule), "ben", target, service)
    assert came(journey) == where
    assert journey.answered, journey
    assert journey.back is not None
    assert str(journey.back.arrived.source) == target


def test_several_servers_share_by_source() -> None:
    plan = hall("{arriving: out, to: 198.51.100.5, service: https, goes-to: [shop, till]}")
    met = {}
    for host in ("ben", "bea"):
        found = {came(mc.trace(plan, host, "198.51.100.5", "https", source_port=p))[0] for p in range(49152, 49172)}
        assert len(found) == 1  # a client always meets the same one
        met[host] = found.pop()
    assert set(met.values()) <= {"10.41.2.20", "10.41.2.21"}
    many = [mc.trace(plan, "ben", "198.51.100.5", "https", source=f"198.51.100.{n}") for n in range(20, 60)]
    assert {came(j)[0] for j in many} == {"10.41.2.20", "10.41.2.21"}


def test_what_is_exempt_stays_and_no_rule_below_is_asked() -> None:
    rules = [
        "{arriving: out, source: bea, goes-to: exempt}",
        "{arriving: out, to: self, service: ssh, goes-to: {address: shop, port: 443}}",
    ]
    assert came(mc.trace(hall(*rules), "bea", "198.51.100.2", "ssh"))[0] == "198.51.100.2"
    assert came(mc.trace(hall(*rules), "ben", "198.51.100.2", "ssh"))[0] == "10.41.2.20"


def test_both_ends_at_once() -> None:
    """One rule: where it goes, and as whom; the second half follows because the first one matched."""
    rule = "{arriving: in, to: 198.51.100.5, service: https, goes-to: shop, becomes: 10.41.2.99}"
    journey = mc.trace(hall(rule), "ann", "198.51.100.5", "https")
    assert journey.answered
    assert (left(journey)[0], came(journey)[0]) == ("10.41.2.99", "10.41.2.20")
    assert left(mc.trace(hall(rule), "ann", "shop", "https"))[0] == "10.41.1.10"
    # What matched as it arrived has decided, whatever other rules say of the source, above it or below.
    other = "{leaving: dmz, source: ann, becomes: 10.41.2.98}"
    for rules in ((rule, other), (other, rule)):
        assert left(mc.trace(hall(*rules), "ann", "198.51.100.5", "https"))[0] == "10.41.2.99"
        assert left(mc.trace(hall(*rules), "ann", "shop", "https"))[0] == "10.41.2.98"


@pytest.mark.parametrize(("asker", "server"), [("ann", "shop"), ("shop", "till")])
def test_a_hairpin_gives_the_outer_address(asker: str, server: str) -> None:
    """RFC 4787 REQ-9a, RFC 5382 REQ-8: also where both are on one segment, or the answer would go to the asker directly."""
    rules = ["{leaving: out}", f"{{to: 198.51.100.2, service: https, goes-to: {server}}}"]
    journey = mc.trace(hall(*rules), asker, "198.51.100.2", "https")
    assert journey.answered, journey
    assert left(journey)[0] == "198.51.100.2"
    # Nobody who asks for the server itself is touched.
    assert mc.trace(hall(*rules), "ann", server, "https").seen_as.startswith("10.41.1.10")


def test_without_a_source_rule_for_that_address_there_is_no_hairpin() -> None:
    rules = ["{leaving: out, source: amy}", "{to: 198.51.100.2, service: https, goes-to: shop}"]
    assert left(mc.trace(hall(*rules), "ann", "198.51.100.2", "https"))[0] == "10.41.1.10"


@pytest.mark.parametrize(
    ("setting", "who", "open"),
    [
        ("per-flow", ["ben"], []),
        ("address-dependent", ["ben", "bea"], ["ben"]),
        ("endpoint-independent", ["ben", "bea"], ["ben", "bea"]),
    ],
)
def test_who_may_use_an_outer_end(setting: str, who: list[str], open: list[str]) -> None:
    """RFC 4787 section 5, REQ-8."""
    plan = hall("{leaving: out}", settings=f"filtering: {setting}")
    lab = mc.Lab(plan.network)
    first = lab.send(mc.Flow("amy", "ben", "https"))
    port = left(first)[1]
    for far in who:
        journey = lab.test(mc.Flow(far, "198.51.100.2", f"tcp/{port}"))
        if far in open:
            assert str(journey.there.arrived.destination) == "10.41.1.11"
            assert journey.cause == "service.closed"  # amy listens elsewhere, and yet she was asked
        else:
            assert journey.cause == "nat.filtered"
            assert f"mapping 1 of gate (198.51.100.2:{port} for 10.41.1.11)" in str(journey)


def test_an_unsolicited_syn_is_held_or_dropped() -> None:
    """RFC 5382 REQ-4: nothing is said for 6 s; then port unreachable, unless the same conversation was opened from inside."""
    for value, inside, told in (("drop", False, []), ("hold", False, [6000]), ("hold", True, [])):
        lab = mc.Lab(hall("{leaving: out}", settings=f"unsolicited-syn: {value}").network)
        port = left(lab.send(mc.Flow("amy", "ben", "https")))[1]
        before = lab.state.now
        asked = lab.send(mc.Flow("bea", "198.51.100.2", f"tcp/{port}", Options(source_port=443)))
        assert (asked.cause, asked.symptom) == (f"nat.{'held' if value == 'hold' else 'filtered'}", mc.Symptom.SILENCE)
        lab.send(mc.Flow("bea", "198.51.100.2", f"tcp/{port}", Options(source_port=443)))  # a second time changes nothing
        if inside:
            opened = lab.send(mc.Flow("amy", "bea", "tcp/443", Options(source_port=lab.state.sessions("gate")[0].inner.from_port)))
            assert left(opened)[1] == port
        lab.wait(5999)
        assert lab.told_late == []
        kept = lab.state.keep()
        lab.wait(1)
        lab.wait(60_000)
        assert [at - before for at, _ in lab.told_late] == told
        for _, leg in lab.told_late:
            assert (leg.end, leg.packet.icmp >> 8, leg.fate) == ("bea", 3, mc.Fate.DELIVERED)
        lab.told_late.clear()
        lab.state.back_to(kept)
        lab.wait(1)
        assert [at - before for at, _ in lab.told_late] == told


def test_forwarded_ports_and_those_of_the_device_are_given_to_nobody() -> None:
    plan = hall("{leaving: out}", "{arriving: out, to: self, service: tcp/50000, goes-to: {address: shop, port: 443}}")
    assert left(mc.trace(plan, "ann", "ben", "https", source_port=50000))[1] != 50000
    assert left(mc.trace(plan, "ann", "ben", "https", source_port=22))[1] != 22
    assert left(mc.trace(plan, "ann", "ben", "https", source_port=50001))[1] == 50001


@pytest.mark.parametrize(("value", "answered"), [("yes", True), ("no", False)])
def test_answering_for_translated_addresses_is_a_setting(value: str, answered: bool) -> None:
    for rule, ask in (
        ("{leaving: out, becomes: 198.51.100.7}", ("ann", "ben")),
        ("{arriving: out, to: 198.51.100.5, goes-to: shop}", ("ben", "198.51.100.5")),
    ):
        journey = mc.trace(hall(rule, settings=f"answers-translated: {value}"), *ask, "https")
        assert journey.answered is answered
        if not answered:
            assert journey.cause == "neighbour.silent"


def test_an_error_tells_the_sender_of_its_own_packet() -> None:
    """RFC 5508 REQ-4: what it quotes is put back into the sender's terms, for pools, pairs and forwards."""
    for rule in (
        "{leaving: out, becomes: {pool: [198.51.100.16/30]}}",
        "{leaving: out, source: ann, becomes: {pair: 198.51.100.7}}",
    ):
        journey = mc.trace(hall(rule), "ann", "ben", "udp/9")
        assert journey.symptom == "refused"
        assert journey.back is not None
        assert journey.back.arrived.quoted is not None
        assert str(journey.back.arrived.quoted.source) == "10.41.1.10"


WRONG = [
    ("{leaving: out, becomes: {pair: 198.51.100.7}}", "one run of sources"),
    (
        "{leaving: out, source: 10.41.1.0/24, becomes: {pair: 198.51.100.32/28}}",
        "the source is 256 addresses, and its partners are 16",
    ),
    ("{leaving: out, source: ann, becomes: {pair: 198.51.100.0/24, pool: [198.51.100.9]}}", "becomes one thing"),
    ("{leaving: out, becomes: {}}", "say address, pool or pair"),
    ("{leaving: out, becomes: 198.51.100.0/28}", "is 16 addresses"),
    ("{leaving: out, becomes: {pool: [10.0.0.0/8]}}", "is more than"),
    ("{leaving: out, becomes: {pool: [198.51.100.9, 2001:db8::9]}}", "both families"),
    ("{leaving: out, becomes: nowhere-known}", "nowhere-known"),
    ("{arriving: out, to: self, goes-to: exempt, becomes: interface}", "stays as it is"),
    ("{arriving: out, to: self, goes-to: [self, shop]}", "stands alone"),
    ("{arriving: out, to: self, goes-to: [shop, 2001:db8::9]}", "both families"),
    ("{arriving: out, to: self, service: tcp/80-82, goes-to: {address: shop, port: 90-91}}", "as many as the service has"),
    ("{arriving: out, to: self, leaving: out, goes-to: shop}", "not known yet"),
    ("{leaving: out, becomes: 198.51.100.7, family: both}", "a rule for each family"),
    ("{leaving: out, family: 5}", "none of 4, 6, both"),
    ("{leaving: out, hours: never-said}", "no window 'never-said'"),
    ("{arriving: out, to: self, goes-to: shop, becomes: exempt}", "needs no word"),
]


@pytest.mark.parametrize(("rule", "says"), WRONG, ids=[r for r, _ in WRONG])
def test_rules_that_cannot_be_meant_are_refused_at_their_place(rule: str, says: str) -> None:
    text = HALL.replace("#RULES", f"      - {rule}").replace("#SETTINGS", "")
    found = mc.read_bytes(text.encode(), "hall.yaml")
    assert found.network is None
    assert any(says in f"{p.message} {p.remedy}" for p in found.problems), found.problems


@pytest.mark.parametrize(
    ("family", "four", "six"),
    [("", True, False), (", family: 4", True, False), (", family: 6", False, True), (", family: both", True, True)],
)
def test_a_rule_is_about_the_families_that_it_says(family: str, four: bool, six: bool) -> None:
    text = HALL.replace("#RULES", f"      - {{leaving: out{family}}}").replace("#SETTINGS", "")
    text = text.replace("in: {address: 10.41.1.1/24", 'in: {address: [10.41.1.1/24, "2001:db8:1::1/64"]')
    text = text.replace("gateway: [10.41.1.1]", 'gateway: [10.41.1.1, "2001:db8:1::1"]')
    text = text.replace(
        "ben: {kind: host, address: 198.51.100.9/24, gateway: 198.51.100.2,",
        'ben: {kind: host, address: [198.51.100.9/24, "2001:db8:9::9/64"], gateway: [198.51.100.2, "2001:db8:9::2"],',
    )
    found = mc.read_bytes(text.encode(), "hall.yaml")
    assert found.network is not None, found.problems
    plan = mc.Plan(found.network)
    assert (left(mc.trace(plan, "ann", "ben", "https", family=4))[0] == "198.51.100.2") is four
    assert (left(mc.trace(plan, "ann", "ben", "https", family=6))[0] == "2001:db8:9::2") is six


def test_hours_say_when_a_rule_translates(tmp_path: Path) -> None:
    text = HALL.replace("#RULES", "      - {leaving: out, hours: [day]}").replace("#SETTINGS", "")
    text += 'hours: {day: {from: "08:00", until: "18:00", zone: UTC}}\n'
    (tmp_path / "hall.yaml").write_text(text)
    plan = mc.Plan(mc.load(str(tmp_path / "hall.yaml")))
    from mossy_compass.files.hours import parse_moment

    for time, seen in (("10:00", "198.51.100.2"), ("20:00", "10.41.1.10")):
        assert left(mc.trace(plan, "ann", "ben", "https", at=parse_moment(f"2026-05-04T{time}Z")))[0] == seen
