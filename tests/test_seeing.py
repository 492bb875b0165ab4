"""What senders see of what they never reach: proven of every packet, with the way home of the errors about it."""

from __future__ import annotations

import itertools
from pathlib import Path

import pytest
from click.testing import CliRunner
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.cli.main import main
from mossy_compass.errors import QuestionError
from mossy_compass.lab.claims import SEEN, Claim, claim_of
from mossy_compass.lab.prove import prove
from mossy_compass.model.network import Kind
from mossy_compass.walk.journey import Symptom
from tests.effort import examples
from tests.test_laws import networks
from tests.test_prove import HOUSE
from tests.test_prove import house as two_rooms
from tests.test_whole import fork

QUIET = "    settings: {sends-unreachable: no}"
LOST = "{deny: icmp}, {permit: any}"
OWN = "    from-self: home"
FILMS = "hours: {late: {days: [sun], from: '18:00', until: '22:00'}}"
RESETS = "{reject: any, answer: reset}"


def house(rules: str = "{permit: any}", gate: str = "", home: str = "", top: str = "") -> mc.Network:
    """Two rooms and a gate between them; ``home`` is asked of what the gate sends itself."""
    rules += f"]\n  home: [{home}" if home else ""
    return two_rooms(rules, top, f"{gate}{OWN if home else ''}")


@pytest.mark.parametrize(
    ("network", "claim", "seen"),
    [
        (house("{deny: any}"), "desk never reaches store", {"silence"}),
        (house("{reject: any}"), "desk never reaches store", {"unreachable"}),
        (house(RESETS), "desk never reaches store for https", {"refused"}),
        (house(RESETS), "desk never reaches store", {"refused", "unreachable"}),
        (house(RESETS), "desk never reaches store for udp/53", {"unreachable"}),
        # some are told otherwise: a port, a source port, one of two senders, one of two families, at some time
        (house("{deny: tcp, service: tcp/7}, {reject: any}"), "desk never reaches store", {"silence", "unreachable"}),
        (house("{deny: tcp, service: tcp/7}, {reject: any}"), "desk never reaches store except tcp/7", {"unreachable"}),
        (house("{deny: tcp, from-port: 7}, {reject: any}"), "desk never reaches store for https", {"silence", "unreachable"}),
        (house("{deny: any, from: till}, {reject: any}"), "a never reaches store", {"silence", "unreachable"}),
        (house("{deny: any, from: till}, {reject: any}"), "desk never reaches store", {"unreachable"}),
        (house("{reject: any, from: 10.40.0.0/16}, {deny: any}"), "desk never reaches store", {"silence", "unreachable"}),
        (house("{reject: any, from: 10.40.0.0/16}, {deny: any}"), "till never reaches store", {"unreachable"}),
        (house("{deny: any, hours: late}, {reject: any}", top=FILMS), "desk never reaches store", {"silence", "unreachable"}),
        # what is told is lost on its way home: all of it, of one, of some kinds
        (house("{reject: any}", home=LOST), "till never reaches store", {"silence"}),
        (house("{reject: any}", home=LOST), "desk never reaches store", {"silence", "unreachable"}),  # no ICMPv6
        (house(RESETS, home=LOST), "till never reaches store", {"refused", "silence"}),
        (house("{reject: any}", home="{deny: any, to: till}, {permit: any}"), "a never reaches store", {"silence", "unreachable"}),
        (house("{deny: tcp}, {reject: udp, answer: port-unreachable}, {reject: any}", home="{deny: icmp, icmp: port-unreachable}, {permit: any}"), "till never reaches store", {"silence", "unreachable"}),
        # nobody has the address, or the way
        (house(), "desk never reaches 10.40.2.99", {"unreachable"}),
        (house(gate=QUIET), "desk never reaches 10.40.2.99", {"silence"}),
        (house(), "till never reaches 10.40.5.5", {"unreachable"}),
        (house(gate="    routes: [{prefix: 10.40.5.0/24, action: discard}]"), "till never reaches 10.40.5.5", {"silence"}),
        (house(gate="    routes: [{prefix: 10.40.5.0/24, action: unreachable}]"), "till never reaches 10.40.5.5", {"unreachable"}),
        # on the same segment nobody stands between
        (house(), "till never reaches 10.40.1.99", {"unreachable"}),
    ],
)  # fmt: skip
def test_exactly_what_senders_see_holds(network: mc.Network, claim: str, seen: set[str]) -> None:
    """A claim holds where it names all that senders see, and where it leaves out one of that it does not, with a packet that shows it."""
    for number in range(1, len(SEEN) + 1):
        for some in itertools.combinations(SEEN, number):
            words = f"{claim} seeing {' or '.join(some)}"
            found = prove(network, claim_of(words))
            assert found.holds is (seen <= set(some)), words
            if not found.holds:
                assert {one.journey.symptom.value for one in found.against} == seen - set(some), words
                assert all(not one.journey.answered for one in found.against)


def test_what_arrives_is_told_before_what_is_seen() -> None:
    found = prove(house("{permit: tcp}, {deny: any}"), claim_of("desk never reaches store seeing silence"))
    assert found.holds is False
    assert found.against[0].journey.answered
    assert not found.against[0].wrong


@pytest.mark.parametrize(("verdict", "holds"), [("reject", True), ("deny", False)])
def test_every_one_of_several_equal_ways_counts(verdict: str, holds: bool) -> None:
    network = fork("{reject: any}", f"{{{verdict}: any}}")
    assert prove(network, claim_of("desk never reaches store seeing unreachable")).holds is holds


@examples(2, 20, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(networks(), st.sampled_from(SEEN))
def test_no_walk_contradicts_what_is_proven_of_senders(network: mc.Network, seen: Symptom) -> None:
    hosts = [n for n, d in network.devices.items() if d.kind is Kind.HOST]
    for target in hosts[1:]:
        found = prove(network, Claim(hosts[0], target, seeing=(seen,)))
        for service, family, port in itertools.product(("ping", "https", "udp/53", "tcp/22", "gre"), (4, 6), (1025, 50000)):
            try:
                ways = mc.every_path(mc.Plan(network), hosts[0], target, service, family=family, source_port=port)
            except mc.QuestionError:
                continue
            sees = {p.journey.symptom for p in ways.paths}
            assert found.holds is not True or sees == {seen}, (target, service, family, port)
        assert all(one.journey.symptom is not seen for one in found.against if one.wrong)


@pytest.mark.parametrize(
    ("words", "says"),
    [
        ("desk reaches store seeing silence", "who reaches something sees its answer"),
        ("desk never reaches store seeing nothing", "'nothing' is nothing that the sender"),
        ("desk never reaches store seeing answered", "'answered' is nothing that the sender"),
        ("desk never reaches store seeing silence or", "is no claim that can be proven"),
        ("desk never reaches store without passing gate seeing silence", "Make two claims of it"),
        ("desk never reaches store seeing silence for https", "is no claim that can be proven"),
    ],
)
def test_what_nobody_can_see_is_no_claim(words: str, says: str) -> None:
    with pytest.raises(QuestionError, match=says):
        claim_of(words)


def test_a_claim_is_said_as_it_is_read() -> None:
    claim = claim_of("desk never  reaches store except for ssh seeing refused or unreachable.")
    assert claim.seeing == (Symptom.REFUSED, Symptom.UNREACHABLE)
    assert claim_of(claim._replace(said="").words)._replace(said="") == claim._replace(said="")


def test_the_command_says_what_is_seen_and_why(tmp_path: Path) -> None:
    file = tmp_path / "house.yaml"
    text = HOUSE.replace("#RULES", f"{{id: 1, reject: any}}]\n  home: [{LOST}")
    file.write_text(text.replace("#TOP", "").replace("#GATE", OWN))
    found = CliRunner().invoke(main, ["prove", str(file), "till never reaches store seeing silence"])
    assert "YES, whatever packet is sent; whoever sends one that opens something sees silence." in " ".join(found.output.split())
    assert found.exit_code == 0
    found = CliRunner().invoke(main, ["prove", str(file), "till never reaches store for https seeing unreachable"])
    said = " ".join(found.output.split())
    assert "NO. till does not reach 10.40.2.10, but it sees silence." in said
    assert "sees till to 10.40.2.10: silence for https: inward rule 1" in said
    assert "what was sent home about it is lost: home rule" in said
    assert found.exit_code == 1
