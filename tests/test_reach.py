"""Proofs that something is always reached: what holds, no walk contradicts; what does not, a walk shows; what would be a lie is tried."""

from __future__ import annotations

import json
import random
from pathlib import Path

import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.cli.main import main
from mossy_compass.files.drills import read_drill
from mossy_compass.lab.claims import Claim, claim_of
from mossy_compass.lab.drill import run_drill
from mossy_compass.lab.proofs import Proof
from mossy_compass.lab.prove import prove
from mossy_compass.model.network import Kind
from mossy_compass.walk.many import every_path
from tests.effort import examples
from tests.test_laws import networks

YARD = """\
mossy-network: 1
#TOP
devices:
  desk: {kind: host, address: [10.40.1.10/24, "2001:db8:1::10/64"], gateway: [10.40.1.1, "2001:db8:1::1"]}
  till: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
  gate:
    kind: router
    stateful: #STATEFUL
    interfaces:
      in: {address: [10.40.1.1/24, "2001:db8:1::1/64"]#IN}
      out: {address: [10.40.2.1/24, "2001:db8:2::1/64"]#OUT}
#GATE
  store: {kind: host, address: [10.40.2.10/24, "2001:db8:2::10/64"], gateway: [10.40.2.1, "2001:db8:2::1"], serves: [https]}
  shelf: {kind: host, address: 10.40.2.11/24, gateway: 10.40.2.1, serves: [https, ssh]}
  quiet: {kind: host, address: 10.40.2.12/24, gateway: 10.40.2.1}
segments: {a: [desk, till, gate/in], b: [gate/out, store, shelf, quiet]}
"""


def yard(lists: str = "", arriving: str = "", back: str = "", gate: str = "", top: str = "", stateful: str = "[]") -> mc.Network:
    """The yard with lists by name, and those that stand where packets arrive from the desk and from the store."""
    text = YARD.replace("#TOP", (f"lists: {{{lists}}}\n" if lists else "") + top).replace("#GATE", gate)
    text = text.replace("#IN", f", filter: {{arriving: {arriving}}}" if arriving else "")
    text = text.replace("#OUT", f", filter: {{arriving: {back}}}" if back else "").replace("#STATEFUL", stateful)
    found = mc.read_bytes(text.encode(), "yard.yaml")
    assert found.network is not None, found.problems
    return found.network


def asked(network: mc.Network, words: str = "desk reaches store for https") -> Proof:
    return prove(network, claim_of(words))


# --- what would make a yes a lie ----------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("network", "words", "target", "cause"),
    [
        # the answer is lost, of some source ports alone, of one family alone, by a list on the way back
        (yard("b: [{permit: tcp, service: tcp/1024-65535}]", back="b"), "desk reaches store for https", "10.40.2.10", "filter.end"),
        (yard("b: [{deny: tcp, service: tcp/49152}, {permit: any}]", back="b"), "desk reaches store for https", "10.40.2.10", "filter.rule"),
        (yard("b: [{deny: any, from: '2001:db8:2::/64'}, {permit: any}]", back="b"), "desk reaches store for https", "2001:db8:2::10", "filter.rule"),
        (yard("b: [{permit: tcp, from-port: 22}]", back="b"), "desk reaches shelf for https", "10.40.2.11", "filter.end"),
        # some of those who ask are refused
        (yard("l: [{deny: tcp, from: till}, {permit: any}]", "l"), "a reaches shelf for https", "10.40.2.11", "filter.rule"),
        (yard("l: [{deny: tcp, from-port: 7}, {permit: any}]", "l"), "desk reaches store for https", "10.40.2.10", "filter.rule"),
        # some of what is asked is
        (yard("l: [{permit: tcp, service: https}]", "l"), "desk reaches shelf", "10.40.2.11", "filter.end"),
        (yard(), "desk reaches store for tcp/443-444", "10.40.2.10", "service.closed"),
        (yard(), "desk reaches b for https", "10.40.2.12", "service.closed"),
        # it depends on the moment
        (
            yard("l: [{permit: any, hours: day}]", "l", top="hours: {day: {from: '08:00', until: '18:00'}}\n"),
            "desk reaches store for https", "10.40.2.10", "filter.end",
        ),
        (
            yard("l: [{deny: any, hours: night}, {permit: any}]", "l", top="hours: {night: {days: [sun], from: '23:58', until: '23:59'}}\n"),
            "desk reaches store for https", "10.40.2.10", "filter.rule",
        ),
        # on what is asked for, which is known after the first packets
        (
            yard("l: [{deny: any, application: film}, {permit: any}]", "l", top="applications: {film: {category: moving, known-from: 3}}\n", stateful="[tcp, udp, icmp]"),
            "desk reaches store for https", "10.40.2.10", "session.recalled",
        ),
        # somebody else answers
        (
            yard(gate="    translate: [{to: 10.40.2.10, service: https, goes-to: shelf}]", stateful="[tcp, udp, icmp]"),
            "desk reaches store for https", "10.40.2.10", "service.open",
        ),
    ],
)  # fmt: skip
def test_one_packet_that_is_lost_is_found_and_walked(network: mc.Network, words: str, target: str, cause: str) -> None:
    found = asked(network, words)
    assert found.holds is False
    assert target in {a.target for a in found.against}
    one = next(a for a in found.against if a.target == target)
    assert one.journey.cause == cause
    assert one.wrong


@pytest.mark.parametrize(
    ("network", "words"),
    [
        (yard(), "desk reaches store"),
        (yard(), "a reaches b for ping"),
        (yard("l: [{permit: tcp, service: https}]", "l"), "a reaches store"),
        (yard("l: [{permit: tcp, service: https}], b: [{permit: tcp, from-port: 443}]", "l", "b"), "a reaches store"),
        (yard("l: [{permit: any}], b: [{deny: any}]", "l", "b", stateful="[tcp, udp, icmp]"), "a reaches store"),
        (yard("b: [{permit: tcp, to: 10.40.1.0/24, service: tcp/1024-65535}, {permit: any}]", back="b"), "till reaches shelf"),
        (
            yard("l: [{permit: any, hours: day}, {permit: any, hours: night}]", "l",
                 top="hours: {day: {from: '08:00', until: '18:00'}, night: {from: '18:00', until: '08:00'}}\n"),
            "desk reaches store for https",
        ),
        (yard(gate="    translate: [{source: 10.40.1.0/24, leaving: out, becomes: interface}]"), "till reaches shelf"),
        (yard(gate="    translate: [{to: 10.40.9.9, service: tcp/8443, goes-to: {address: store, port: 443}}]"), "till reaches 10.40.9.9 for tcp/8443"),
        (yard(gate="    translate: [{to: 10.40.9.9, goes-to: shelf}]"), "till reaches 10.40.9.9 for ssh and https and ping"),
        (yard(), "desk reaches shelf except ssh"),
        (yard(), "desk reaches shelf passing gate"),
        (yard(), "desk reaches shelf for ping seen as 10.40.1.10"),
        (yard(), "desk reaches till for ping without passing gate"),
    ],
)  # fmt: skip
def test_what_is_answered_whatever_is_sent_holds(network: mc.Network, words: str) -> None:
    found = asked(network, words)
    assert found.holds is True, (found.against, found.doubtful, found.left)
    assert found.kinds > 0
    assert found.walked


def test_a_source_port_is_named_where_others_fare_otherwise() -> None:
    some = asked(yard("l: [{deny: tcp, from-port: 7}, {permit: any}]", "l")).against[0]
    assert some.port == some.journey.there.packet.from_port == 7
    every = asked(yard("l: [{deny: any}]", "l")).against[0]
    assert (every.port, every.journey.there.packet.from_port) == (-1, 49152)


def test_when_it_is_lost_is_told_unless_it_always_is() -> None:
    top = "hours: {day: {from: '08:00', until: '18:00'}, late: {from: '20:00', until: '22:00'}}\n"
    rules = "l: [{permit: any, hours: day}, {permit: any, hours: late}]"
    assert [a.case for a in asked(yard(rules, "l", top=top)).against if a.target == "10.40.2.10"] == [
        "outside every window of time"
    ]
    at_day = "l: [{deny: any, hours: day}, {permit: any}]"
    assert {a.case for a in asked(yard(at_day, "l", top=top)).against} == {"while day is open"}
    never = "l: [{deny: any}, {permit: any, hours: day}, {permit: any, hours: late}]"
    assert {a.case for a in asked(yard(never, "l", top=top)).against} == {""}
    twice = "l: [{permit: any, hours: late}]"
    assert {a.case for a in asked(yard(twice, "l", top=top)).against} == {
        "outside every window of time, and 1 more of 3 moments and circumstances"
    }


def test_what_is_of_an_application_is_told_apart_from_what_is_not() -> None:
    """One service of a target is film, and another is not: neither stands for both."""
    film = "applications: {film: {category: moving, known-from: 1, to: shelf, service: https}}\n"
    shut = yard("l: [{deny: any, application: film}, {permit: any}]", "l", top=film)
    lost = asked(shut, "till reaches shelf").against
    assert [(a.services, a.case) for a in lost] == [(("https",), "")]
    assert asked(yard("l: [{permit: any, application: film}]", "l", top=film), "till reaches shelf for https").holds is True


def test_every_equal_way_must_be_good() -> None:
    text = """\
mossy-network: 1
lists: {shut: [{permit: tcp, service: https}, {deny: any}]}
devices:
  a: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  r:
    kind: router
    interfaces: {lan: 10.40.1.1/24, one: 10.40.9.1/30, two: 10.40.9.5/30}
    routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.9.2}, {prefix: 10.40.2.0/24, next-hop: 10.40.9.6}]
  s:
    kind: router
    interfaces: {lan: 10.40.2.1/24, one: 10.40.9.2/30, two: {address: 10.40.9.6/30, filter: {arriving: shut}}}
    routes: [{prefix: 10.40.1.0/24, next-hop: 10.40.9.1}]
  b: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https, ssh]}
segments: {x: [a, r/lan], y: [r/one, s/one], z: [r/two, s/two], w: [s/lan, b]}
"""
    reading = mc.read_bytes(text.encode(), "two.yaml")
    network = reading.network
    assert network is not None, reading.problems
    assert asked(network, "a reaches b for https").holds is True
    lost = asked(network, "a reaches b for ssh").against
    assert [(a.target, a.journey.cause) for a in lost] == [("10.40.2.10", "filter.rule")]
    assert asked(network, "a reaches b for https passing s").holds is True
    assert asked(network, "b reaches a for ping").holds is False  # its answer may come by the way that is shut


DIAMOND = """\
mossy-network: 1
devices:
  a: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  r:
    kind: router
    interfaces: {lan: 10.40.1.1/24, one: 10.40.9.1/30, two: 10.40.9.5/30}
    routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.9.2}, {prefix: 10.40.2.0/24, next-hop: 10.40.9.6}]
  x: {kind: router, interfaces: {up: 10.40.9.2/30, down: 10.40.9.9/30}, routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.9.10}, {prefix: 10.40.1.0/24, next-hop: 10.40.9.1}]}
  y: {kind: router, interfaces: {up: 10.40.9.6/30, down: 10.40.9.13/30}, routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.9.14}, {prefix: 10.40.1.0/24, next-hop: 10.40.9.5}]}
  s:
    kind: router
    interfaces: {lan: 10.40.2.1/24, one: 10.40.9.10/30, two: 10.40.9.14/30}
    routes: [{prefix: 10.40.1.0/24, next-hop: 10.40.9.9}]
  b: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https, ssh]}
segments: {g: [a, r/lan], h: [r/one, x/up], i: [r/two, y/up], j: [x/down, s/one], k: [y/down, s/two], l: [s/lan, b]}
"""


@pytest.mark.parametrize(
    ("words", "holds"),
    [
        ("a never reaches b without passing x", False),
        ("a never reaches b without passing y", False),
        ("a never reaches b without passing s", True),
        ("a never reaches b passing x without passing y", False),
        ("a never reaches b passing x and y", True),
        ("a reaches b passing s", True),
        ("a reaches b passing x", False),
        ("a reaches b without passing y", False),
    ],
)
def test_of_two_equal_ways_each_counts(words: str, holds: bool) -> None:
    network = mc.read_bytes(DIAMOND.encode(), "diamond.yaml").network
    assert network is not None
    assert asked(network, words).holds is holds


def test_what_is_asked_onward_leaves_the_answer_open() -> None:
    onward = "    serves: [tcp/8081]\n    translate: [{arriving: in, to: shelf, service: https, goes-to: {address: self, port: 8081, onward: yes}}]"
    found = asked(yard(gate=onward), "till reaches shelf for https")
    assert found.holds is None
    assert "asks onward in its own name" in found.doubtful[0]


def test_what_cannot_be_asked_is_no_yes() -> None:
    with pytest.raises(mc.QuestionError, match=r"quiet \(it listens for nothing: name a service"):
        asked(yard(), "desk reaches quiet")
    with pytest.raises(mc.QuestionError, match="listens for nothing else"):
        asked(yard(), "desk reaches store except https")
    some = asked(yard(), "desk reaches b")
    assert some.holds is None
    assert any("quiet" in left for left in some.left)
    six = "  six: {kind: host, address: '2001:db8:2::12/64', gateway: '2001:db8:2::1', serves: [https]}"
    text = YARD.replace("#TOP", "").replace("#GATE", six).replace("#IN", "").replace("#OUT", "").replace("#STATEFUL", "[]")
    network = mc.read_bytes(text.replace("shelf, quiet]", "shelf, quiet, six]").encode(), "six.yaml").network
    assert network is not None
    apart = asked(network, "a reaches six")
    assert apart.holds is None
    assert apart.left == ("till to six (no address of one family)",)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ("desk reaches store passing shelf", "there is no device 'bridge'"),
        ("desk reaches nobody", "there is no 'nobody'"),
        ("desk reaches store for nothing", "nothing"),
        ("desk never reaches store seen as 10.40.1.1", "what never arrives is seen as nobody"),
        ("desk sometimes reaches store", "is no claim"),
    ],
)
def test_what_cannot_be_meant_is_told(words: str, said: str) -> None:
    with pytest.raises(mc.QuestionError, match=said):
        asked(yard(), words.replace("shelf", "bridge"))


@pytest.mark.parametrize(
    ("words", "holds"),
    [
        ("desk reaches store passing gate", True),
        ("desk reaches store passing shelf", False),
        ("desk reaches store without passing gate", False),
        ("desk reaches till for ping passing gate", False),
        ("desk never reaches store without passing gate", True),
        ("desk never reaches store passing gate", False),
        ("desk never reaches till without passing gate", False),
        ("desk never reaches till passing gate", True),
        ("desk never reaches shelf passing store", True),
        ("desk reaches store seen as 10.40.1.10", False),  # not at its other address
        ("till reaches store seen as 10.40.1.11", True),
        ("till reaches store seen as 10.40.1.1", False),
    ],
)
def test_claims_about_the_way(words: str, holds: bool) -> None:
    assert asked(yard(), words).holds is holds


def test_switches_on_the_way_are_passed_too() -> None:
    text = """\
mossy-network: 1
devices:
  a: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  b: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1, serves: [https]}
  bridge: {kind: switch, interfaces: {one: {}, two: {}}}
segments: {x: [a, bridge/one], y: [bridge/two, b]}
"""
    found = mc.read_bytes(text.encode(), "s.yaml")
    assert found.network is not None, found.problems
    assert asked(found.network, "a reaches b passing bridge").holds is True
    assert asked(found.network, "a never reaches b without passing bridge").holds is True
    assert asked(found.network, "a never reaches b passing bridge").holds is False


def test_claims_are_read_as_people_write_them() -> None:
    claim = claim_of(
        "staff reach  store for https, ssh and ping passing gate, wall without passing radio and fibre seen as 198.51.100.2."
    )
    assert claim[:4] == ("staff", "store", ("https", "ssh", "ping"), ())
    assert (claim.never, claim.passes, claim.avoids, claim.seen_as) == (False, ("gate", "wall"), ("radio", "fibre"), "198.51.100.2")
    assert claim._replace(said="").words == (
        "staff reaches store for https and ssh and ping passing gate and wall without passing radio and fibre seen as 198.51.100.2"
    )
    assert claim_of("a never reaches b except for ssh").but == ("ssh",)


def test_the_command_says_the_answer_first(tmp_path: Path) -> None:
    file = tmp_path / "yard.yaml"
    file.write_text(YARD.replace("#TOP", "").replace("#GATE", "").replace("#IN", "").replace("#OUT", "").replace("#STATEFUL", "[]"))
    good = CliRunner().invoke(main, ["prove", str(file), "desk reaches store"])
    assert good.output.startswith("desk reaches store: YES, every packet of it is answered.")
    assert good.exit_code == 0
    bad = CliRunner().invoke(main, ["prove", str(file), "desk reaches store for ssh", "--format", "json"])
    assert bad.exit_code == 1
    told = json.loads(bad.output)[0]
    assert told["holds"] is False
    assert told["against"][0]["wrong"] == ["it should be answered, and is not"]


def test_drills_prove_it_of_the_network_as_it_is(tmp_path: Path) -> None:
    (tmp_path / "yard.yaml").write_text(
        YARD.replace("#TOP", "lists: {l: [{id: 10, permit: tcp, service: https}]}").replace("#GATE", "").replace("#OUT", "")
        .replace("#IN", ", filter: {arriving: l}").replace("#STATEFUL", "[]")
    )  # fmt: skip
    (tmp_path / "d.yaml").write_text(
        "mossy-drill: 1\nnetwork: yard.yaml\nsteps:\n"
        "  - expect: {always: a reaches store}\n  - change: [{disable: lists/l/10}]\n  - expect: {always: a reaches store}\n"
    )
    report = run_drill(read_drill(tmp_path / "d.yaml"))
    assert [r.ok for r in report.results] == [True, True, False]
    assert "it should be answered, and is not" in report.results[2].failures[0].wrong[0]
    assert not any("https" in str(what) and "store" in str(what) for what in report.untested.services)


# --- laws ---------------------------------------------------------------------------------------------------------


@examples(8, 60)
@given(networks(), st.integers(0, 1000))
def test_what_is_proven_of_a_network_no_walk_contradicts(network: mc.Network, seed: int) -> None:
    chance = random.Random(seed)
    hosts = [d.name for d in network.devices.values() if d.kind is Kind.HOST and d.own_addresses()]
    if len(hosts) < 2:
        return
    source, target = chance.sample(hosts, 2)
    service = chance.choice(("tcp/443", "udp/53", "ping", "tcp/22"))
    found = prove(network, Claim(source, target, (service,), never=False))
    plan, lost = mc.Plan(network), []
    for address in {str(a) for a, _ in network.devices[target].own_addresses() if not a.is_link_local}:
        family = 6 if ":" in address else 4
        mine = [str(a) for a, _ in network.devices[source].own_addresses() if a.family == family and not a.is_link_local]
        for own in mine:
            for port in (49152, chance.randrange(1, 65536), 7):
                walks = every_path(plan, source, address, service, source=own, source_port=port)
                lost += [address for p in walks.paths if not p.journey.answered]
    if found.holds:
        assert not lost
    if found.against:
        assert all(a.wrong for a in found.against)
    assert set(lost) <= {a.target for a in found.against} or found.holds is None
