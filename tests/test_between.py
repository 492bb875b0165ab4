"""What gets from where to where, of all packets: what is said to arrive does, and of what is said not to, nothing does."""

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
from mossy_compass.lab import between
from mossy_compass.lab.between import Between, overview
from mossy_compass.lab.expect import arrives
from mossy_compass.walk.many import every_path
from tests.effort import examples
from tests.test_laws import networks
from tests.test_unmet import yard


def told(network: mc.Network, source: str = "a", target: str = "b") -> list[str]:
    """One pair, in words: ``!`` for all but, ``~`` for partly, ``@`` for at times."""
    row = overview(network, [source], [target]).rows[0]
    assert row.doubtful == ""
    return [("!" * row.all_but) + a.words + "~" * a.partly + "@" * a.at_times for a in row.arrives]


LATE = "hours: {late: {from: '22:00', until: '23:00'}}\n"


@pytest.mark.parametrize(
    ("network", "ends", "words"),
    [
        (yard(), ("a", "b"), ["everything"]),
        (yard("l: [{deny: any}]", "l"), ("a", "b"), []),
        (yard("l: [{permit: tcp, service: https}]", "l"), ("a", "b"), ["https"]),
        (yard("l: [{permit: tcp, service: https, to: store}]", "l"), ("a", "b"), ["https~"]),
        (yard("l: [{permit: tcp, service: https, from-port: 7}]", "l"), ("a", "store"), ["https~"]),
        (yard("l: [{permit: tcp, service: https, hours: late}]", "l", top=LATE), ("a", "b"), ["https@"]),
        (yard("l: [{permit: tcp, service: https, to: store, hours: late}]", "l", top=LATE), ("a", "b"), ["https~@"]),
        (yard("l: [{permit: any, hours: late}]", "l", top=LATE), ("a", "b"), ["everything@"]),
        (yard("l: [{deny: tcp, service: telnet}, {permit: any}]", "l"), ("a", "b"), ["!telnet"]),
        (yard("l: [{deny: tcp, service: telnet, hours: late}, {permit: any}]", "l", top=LATE), ("a", "b"), ["!telnet@"]),
        (yard("l: [{deny: gre}, {permit: any}]", "l"), ("a", "b"), ["!gre"]),
        (yard("l: [{permit: udp, service: udp/4001}]", "l"), ("a", "b"), ["other udp~"]),
        (yard("l: [{permit: any, from: '2001:db8:1::/64'}]", "l"), ("desk", "shelf"), []),
        (yard("l: [{permit: icmp6, icmp: echo-request}]", "l"), ("desk", "store"), ["ping~"]),
        (yard(gate="    translate: [{to: 10.40.9.9, service: https, goes-to: shelf}]"), ("till", "10.40.9.9"), []),
        (yard("l: [{permit: tcp, to: 10.40.9.9}]", "l", gate="    translate: [{to: 10.40.9.9, service: ssh, goes-to: shelf}]"), ("till", "shelf"), ["ssh~"]),
        (yard("l: [{deny: any, to: 10.40.1.1}, {permit: any}]", "l"), ("a", "gate"), ["everything~"]),
    ],
)  # fmt: skip
def test_what_arrives_is_told_by_name(network: mc.Network, ends: tuple[str, str], words: list[str]) -> None:
    if words == ["everything~"]:  # of a router that is named, one of its addresses is closed
        assert told(network, *ends) != ["everything"]
        return
    assert told(network, *ends) == words


def test_what_is_always_of_an_application_is_not_told_as_at_times() -> None:
    film = "applications: {film: {category: moving, known-from: 1, to: store, service: https}}\n"
    told_of = told(yard("l: [{permit: any, application: film}]", "l", top=film), "till", "store")
    assert "https" not in {w.strip("!~@") for w in told_of}  # it always arrives, and all else only if somebody says that it is film
    assert told_of
    assert all(w.startswith("!") for w in told_of)


def test_nobody_is_asked_about_itself_and_routers_by_name_alone() -> None:
    found = overview(yard())
    assert {(r.source, r.target) for r in found.rows} == {("a", "a"), ("a", "b"), ("b", "a"), ("b", "b")}
    alone = overview(yard(), ["desk"], ["desk", "till"])
    assert [(r.source, r.target) for r in alone.rows] == [("desk", "till")]
    shut = yard("l: [{deny: any, to: 10.40.1.1}, {permit: any}]", "l")
    assert told(shut, "a", "a") == ["everything"]  # its router, which is shut, is no host of it


@pytest.mark.parametrize(
    ("network", "ends", "words"),
    [
        (yard(), ("a", "b"), []),
        (yard("l: [{permit: tcp, service: https}]", "l"), ("a", "b"), []),  # what does not arrive is no question of answers
        (yard("l: [{deny: tcp}, {permit: any}]", "", "{arriving: l}"), ("a", "b"), ["https", "ssh"]),
        (yard("l: [{deny: tcp, from: shelf}, {permit: any}]", "", "{arriving: l}"), ("a", "b"), ["https~", "ssh"]),
        (yard("l: [{deny: tcp, to-port: 7000}, {permit: any}]", "", "{arriving: l}"), ("desk", "store"), ["https~"]),
        (yard("l: [{deny: tcp, hours: late}, {permit: any}]", "", "{arriving: l}", top=LATE), ("desk", "store"), ["https@"]),
        (yard("l: [{deny: any}]", "", "{arriving: l}"), ("desk", "store"), ["https", "ping"]),
        (yard("l: [{deny: any}]", "", "{arriving: l}"), ("b", "b"), []),  # nobody is asked about itself, and no router is between
    ],
)  # fmt: skip
def test_what_arrives_and_is_not_answered_is_told(network: mc.Network, ends: tuple[str, str], words: list[str]) -> None:
    row = overview(network, [ends[0]], [ends[1]]).rows[0]
    assert sorted(a.words + "~" * a.partly + "@" * a.at_times for a in row.unanswered) == words


FORK = """\
mossy-network: 1
lists: {shut: [{deny: any}], some: [{permit: tcp, service: ssh}], open: [{permit: any}]}
devices:
  near:
    kind: router
    interfaces:
      in: 10.40.1.1/24
      one: {address: 10.40.9.1/30, filter: {leaving: #ONE}}
      two: {address: 10.40.9.5/30, filter: {leaving: #TWO}}
    routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.9.2}, {prefix: 10.40.2.0/24, next-hop: 10.40.9.6}]
  far:
    kind: router
    interfaces: {one: 10.40.9.2/30, two: 10.40.9.6/30, out: 10.40.2.1/24}
    routes: [{prefix: 10.40.1.0/24, next-hop: 10.40.9.1}, {prefix: 10.40.1.0/24, next-hop: 10.40.9.5}]
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  store: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [ssh, https]}
segments: {a: [desk, near/in], one: [near/one, far/one], two: [near/two, far/two], b: [far/out, store]}
"""


@pytest.mark.parametrize(
    ("one", "two", "words"),
    [
        ("open", "open", ["everything"]),
        ("shut", "shut", []),
        ("shut", "open", ["everything/"]),
        ("open", "shut", ["everything/"]),
        ("some", "some", ["ssh"]),
        ("shut", "some", ["ssh/"]),
        ("some", "shut", ["ssh/"]),
    ],
)
def test_of_several_equal_ways_each_counts(one: str, two: str, words: list[str]) -> None:
    network = mc.read_bytes(FORK.replace("#ONE", one).replace("#TWO", two).encode(), "fork.yaml").network
    assert network is not None
    row = overview(network, ["a"], ["b"]).rows[0]
    assert ["!" * row.all_but + a.words + "/" * a.by_some_ways for a in row.arrives] == words
    assert not row.unanswered


def test_what_is_lost_by_some_ways_is_told_where_the_rest_arrives_by_all() -> None:
    text = (
        FORK.replace("#ONE", "open")
        .replace("#TWO", "rest")
        .replace("open: [", "rest: [{deny: tcp, service: ssh}, {permit: any}], open: [")
    )
    network = mc.read_bytes(text.encode(), "fork.yaml").network
    assert network is not None
    row = overview(network, ["a"], ["b"]).rows[0]
    assert (row.all_but, [(a.words, a.by_some_ways) for a in row.arrives]) == (True, [("ssh", True)])


def test_answers_that_are_too_many_to_walk_are_named(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(between, "MOST_WALKED", 0)
    found = overview(yard("l: [{deny: any}]", "", "{arriving: l}"), ["desk"], ["store"])
    assert not found.rows[0].unanswered
    assert found.left == ("whether desk is answered, since more than 0 kinds of packets come of it: name fewer",)


def test_the_command_says_the_answer_first(tmp_path: Path) -> None:
    file = tmp_path / "two.yaml"
    file.write_text(
        "mossy-network: 1\nlists: {l: [{permit: tcp, service: https}]}\ndevices:\n"
        "  a: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}\n"
        "  r: {kind: router, interfaces: {x: {address: 10.40.1.1/24, filter: {arriving: l}}, y: 10.40.2.1/24}}\n"
        "  b: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1}\n"
        "segments: {one: [a, r/x], two: [r/y, b]}\n"
    )
    said = CliRunner().invoke(main, ["grid", str(file), "--all"])
    head, _, rest = " ".join(said.output.split()).partition(" from to ")
    assert head == f"{file}: of 2 pairs 1 let everything through, 1 some packets, 0 none; of 1 some answers do not come home."
    assert rest.startswith(
        "what of all that can be sent gets there one two https two one everything; not answered: ping Opening packets"
    )
    data = json.loads(CliRunner().invoke(main, ["grid", str(file), "--all", "--format", "json"]).output)
    assert data["pairs"][0]["arrives"] == [{"what": "https", "partly": False, "at-times": False, "by-some-ways": False}]
    assert data["pairs"][1]["not-answered"] == [{"what": "ping", "partly": False, "at-times": False}]
    wrong = CliRunner().invoke(main, ["grid", str(file), "--all", "--counters"])
    assert wrong.exit_code == 2
    assert "--all asks about all packets" in wrong.output
    nobody = CliRunner().invoke(main, ["grid", str(file), "--all", "--from", "nowhere"])
    assert isinstance(nobody.exception, mc.QuestionError)
    assert "there is no 'nowhere' to send from" in str(nobody.exception)


def agrees(row: Between, journeys: list[mc.Journey]) -> bool:
    """Whether walks agree with a row, where it says all or nothing."""
    if not row.arrives:
        # what is sent to an address of the target may be sent on to somebody else
        return not any(arrives(j) and j.there.end == row.target for j in journeys)
    if [a.words for a in row.arrives] == ["everything"] and not row.arrives[0].at_times:
        return all(j.there.end == row.target for j in journeys if arrives(j)) and any(map(arrives, journeys))
    return True


@examples(3, 40)
@given(networks(), st.integers(0, 1000))
def test_walks_agree_with_what_is_said_of_all_packets(network: mc.Network, seed: int) -> None:
    chance = random.Random(seed)
    hosts = [d.name for d in network.devices.values() if d.kind.value == "host" and d.own_addresses()]
    if len(hosts) < 2:
        return
    source, target = chance.sample(hosts, 2)
    rows = overview(network, [source], [target]).rows
    plan = mc.Plan(network)
    for row in rows:
        for service in ("ping", "tcp/443", f"udp/{chance.randrange(1, 65536)}", "gre"):
            for address, _ in network.devices[target].own_addresses():
                port = chance.randrange(1, 65536) if service[0] in "tu" else None
                own = [a for a, _ in network.devices[source].own_addresses() if a.family == address.family and not a.is_link_local]
                if address.is_link_local or not own:
                    continue
                walks = every_path(plan, source, str(address), service, source=str(own[0]), source_port=port)
                assert agrees(row, [p.journey for p in walks.paths]), (service, address)
