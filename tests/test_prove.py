"""Proofs that something is never reached: what holds, no walk contradicts; what does not, a walk shows; and what would be a lie is tried."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest
from click.testing import CliRunner
from hypothesis import HealthCheck, given

import mossy_compass as mc
from mossy_compass.cli.main import main
from mossy_compass.files.drills import read_drill
from mossy_compass.lab import never as proving
from mossy_compass.lab.cells import flood
from mossy_compass.lab.claims import Claim
from mossy_compass.lab.drill import run_drill
from mossy_compass.lab.ends import FlowEnd
from mossy_compass.lab.proofs import Proof
from mossy_compass.lab.prove import prove
from mossy_compass.model.network import Kind
from mossy_compass.report import provetext
from tests.conftest import DATA
from tests.effort import examples
from tests.test_laws import networks

HOUSE = """\
mossy-network: 1
#TOP
devices:
  desk: {kind: host, address: [10.40.1.10/24, "2001:db8:1::10/64"], gateway: [10.40.1.1, "2001:db8:1::1"]}
  till: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
  gate:
    kind: router
    interfaces:
      in: {address: [10.40.1.1/24, "2001:db8:1::1/64"], filter: {arriving: inward}}
      out: {address: [10.40.2.1/24, "2001:db8:2::1/64"]}
#GATE
  store: {kind: host, address: [10.40.2.10/24, "2001:db8:2::10/64"], gateway: [10.40.2.1, "2001:db8:2::1"], serves: [https]}
  shelf: {kind: host, address: 10.40.2.11/24, gateway: 10.40.2.1, serves: [https, ssh]}
lists:
  inward: [#RULES]
segments: {a: [desk, till, gate/in], b: [gate/out, store, shelf]}
"""


def house(rules: str, top: str = "", gate: str = "") -> mc.Network:
    text = HOUSE.replace("#RULES", rules).replace("#TOP", top).replace("#GATE", gate)
    found = mc.read_bytes(text.encode(), "house.yaml")
    assert found.network is not None, found.problems
    return found.network


def asked(network: mc.Network, source: str = "desk", target: str = "store", *services: str, but: tuple[str, ...] = ()) -> Proof:
    return prove(network, Claim(source, target, services, but))


# --- what lets something through, and what of it is named --------------------------------------------------------


@pytest.mark.parametrize(
    ("rules", "top", "gate", "services", "when"),
    [
        ("{permit: tcp, service: https}", "", "", ["https"], ""),
        ("{permit: udp, service: udp/5683}", "", "", [], ""),
        ("{permit: tcp, from-port: 1234}", "", "", ["https"], ""),
        ("{permit: icmp, icmp: timestamp-request}", "", "", [], ""),
        ("{permit: gre}", "", "", [], ""),
        ("{deny: tcp, to: 10.40.2.10}, {permit: tcp, service: https, to: 10.40.2.0/24}, {permit: tcp, service: ssh}", "", "", ["ssh"], ""),
        ("{permit: tcp, service: https, hours: late}", "hours: {late: {from: '22:00', until: '06:00'}}", "", ["https"], "while late is open"),
        (
            "{permit: tcp, service: https, hours: late, application: film}",
            "hours: {late: {days: [sun], from: '22:00', until: '22:01'}}\napplications: {film: {category: moving, known-from: 1}}",
            "",
            ["https"],
            "while late is open, as film",
        ),
        ("{permit: tcp, service: https, name: store.example}", "names: {store.example: 10.40.2.10}", "", ["https"], ""),
        ("{permit: tcp, service: https, to: 10.40.9.9}", "", "    translate: [{to: 10.40.9.9, service: https, goes-to: store}]", ["https"], ""),
        ("{permit: tcp, service: https, to: '2001:db8:2::10'}", "", "", ["https"], ""),
    ],
)  # fmt: skip
def test_one_hole_is_found_and_walked(rules: str, top: str, gate: str, services: list[str], when: str) -> None:
    found = asked(house(rules, top, gate))
    assert found.holds is False
    one = found.against[0]
    assert one.journey.there.end == "store"
    assert one.case == when
    assert set(services) <= set(one.services)
    assert (one.more or set(one.services) == set(services)) is True


@pytest.mark.parametrize(
    ("rules", "top", "gate"),
    [
        ("{deny: any}", "", ""),
        ("{permit: any, to: shelf}", "", ""),
        ("{deny: tcp}, {deny: udp}, {permit: tcp}", "", ""),
        ("{permit: tcp, service: https, disabled: yes}", "", ""),
        ("{permit: tcp, state: continuing}", "", ""),
        ("{permit: tcp, service: https, to: 10.40.9.9}", "", "    translate: [{to: 10.40.9.9, service: https, goes-to: shelf}]"),
        ("{permit: any}", "", "    settings: {forwarding: no}"),
        ("{permit: any, from: till}", "", ""),
    ],
)
def test_without_a_hole_it_holds_and_says_what_stopped_everything(rules: str, top: str, gate: str) -> None:
    found = asked(house(rules, top, gate))
    assert found.holds is True
    assert found.reasons
    assert found.against == ()
    assert found.doubtful == ()


def test_a_name_is_of_one_address_and_not_of_those_beside_it() -> None:
    """Sets of several targets: what a rule by name lets through is told of the named one alone, whichever comes first."""
    top = "names: {door.example: 10.40.2.NUMBER}"
    for number, name in ((10, "store"), (11, "shelf")):
        rules = "{permit: tcp, service: https, name: door.example}"
        for learned in ("", "    settings: {name-rules: learned}"):
            found = asked(house(rules, top.replace("NUMBER", str(number)), learned), "till", "b")
            assert {a.target for a in found.against} == {f"10.40.2.{number}"}, name
            assert found.doubtful == ()
            assert asked(house(rules, top.replace("NUMBER", str(21 - number)), learned), "till", name).holds is True


def test_packets_that_are_of_an_application_are_of_no_other_and_never_of_none() -> None:
    """What the network says is film is never let through as what nobody knows; what it says nothing of may be anything."""
    film = "applications: {film: {category: moving, known-from: 1, to: store, service: https}}"
    shut = "{deny: any, application: film}, {permit: tcp, service: https}"
    assert asked(house(shut, film), "till", "store").holds is True
    assert asked(house(shut, film), "till", "shelf").against[0].case == ""
    said = "applications: {film: {category: moving, known-from: 1}}"
    assert asked(house(shut, said), "till", "store").holds is False


def test_for_and_except_divide_what_is_asked() -> None:
    network = house("{permit: tcp, service: [https, ssh]}")
    assert asked(network, "desk", "store", "telnet").holds is True
    assert asked(network, "desk", "store", "https").holds is False
    assert asked(network, but=("https",)).holds is False
    assert asked(network, but=("https",)).against[0].services == ("ssh",)
    assert asked(network, but=("https", "ssh")).holds is True
    assert asked(network, "desk", "store", "tcp/1-100").against[0].services == ("ssh",)


def test_every_end_of_a_segment_is_asked_and_what_stands_where_is_told() -> None:
    found = asked(house("{permit: tcp, from: till, to: shelf, service: ssh}"), "a", "b")
    assert {(a.source, a.target) for a in found.against} == {("till", "10.40.2.11")}
    assert (found.sources, found.targets) == (2, 5)


def test_who_is_source_and_target_alike_is_asked_about_the_others() -> None:
    """Each within a group to every other of it: nobody is left out for being on both sides, and none is asked about itself."""
    within = asked(house("{deny: any}"), "b", "b")
    assert {(a.source, a.target) for a in within.against if a.target.startswith("10.")} >= {
        ("store", "10.40.2.11"),
        ("shelf", "10.40.2.10"),
    }
    assert not {("store", "10.40.2.10"), ("shelf", "10.40.2.11")} & {(a.source, a.target) for a in within.against}


def test_what_is_watched_is_the_work_and_not_its_beginning(monkeypatch: pytest.MonkeyPatch) -> None:
    """A progress bar that is full before anything is done tells nothing."""
    done: list[str] = []
    real = flood

    def flooded(plan: mc.Plan, sets: object, device: str, *more: object, **names: object) -> object:
        done.append(device)
        return real(plan, sets, device, *more, **names)  # type: ignore[arg-type]

    begun: list[int] = []

    def watch(ends: list[FlowEnd]) -> Iterator[FlowEnd]:
        for end in ends:
            begun.append(len(done))
            yield end

    monkeypatch.setattr(proving, "flood", flooded)
    prove(house("{deny: any}"), Claim("a", "store"), watch)
    assert begun == sorted(set(begun))
    assert set(done) == {"desk", "till"}


def test_packets_that_open_nothing_are_told_beside_and_are_no_hole() -> None:
    """A list that lets answers pass by their flags lets strays pass as well."""
    found = asked(house("{permit: tcp, state: none}"))
    assert found.holds is True
    assert found.stray.startswith("tcp ")


def test_every_one_of_several_equal_ways_is_followed() -> None:
    """The hash would take one of them; a hole on the other is a hole."""
    text = """\
mossy-network: 1
devices:
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  hall:
    kind: router
    interfaces: {lan: 10.40.1.1/24, a: 10.40.2.1/30, b: 10.40.3.1/30}
    routes: [{prefix: 10.40.9.0/24, next-hop: 10.40.2.2}, {prefix: 10.40.9.0/24, next-hop: 10.40.3.2}]
  one: {kind: router, interfaces: {in: {address: 10.40.2.2/30, filter: {arriving: #ONE}}, out: 10.40.9.1/24}}
  two: {kind: router, interfaces: {in: {address: 10.40.3.2/30, filter: {arriving: #TWO}}, out: 10.40.9.2/24}}
  store: {kind: host, address: 10.40.9.10/24, gateway: 10.40.9.1, serves: [https]}
lists: {shut: [{deny: any}], ajar: [{permit: tcp, service: https}]}
segments: {x: [desk, hall/lan], p: [hall/a, one/in], q: [hall/b, two/in], y: [one/out, two/out, store]}
"""
    # where the packet leaves by either way, and where it has come by it
    leaving = text.replace("a: 10.40.2.1/30", "a: {address: 10.40.2.1/30, filter: {leaving: #ONE}}")
    leaving = leaving.replace("b: 10.40.3.1/30", "b: {address: 10.40.3.1/30, filter: {leaving: #TWO}}")
    leaving = leaving.replace(", filter: {arriving: #ONE}", "").replace(", filter: {arriving: #TWO}", "")
    for ring in (text, leaving):
        for one, two, holds in (("shut", "shut", True), ("shut", "ajar", False), ("ajar", "shut", False)):
            found = mc.read_bytes(ring.replace("#ONE", one).replace("#TWO", two).encode(), "ring.yaml")
            assert found.network is not None
            assert asked(found.network).holds is holds, (one, two)


def test_what_cannot_be_asked_is_never_a_yes() -> None:
    network = house("{deny: any}")
    for source, target in (("desk", "desk"), ("nobody", "store"), ("desk", "nowhere")):
        with pytest.raises(mc.QuestionError):
            asked(network, source, target)


# --- against walks -----------------------------------------------------------------------------------------------

TRIED = ("ping", "https", "udp/53", "tcp/22", "tcp/80", "gre", "udp/5000")


def arrives(network: mc.Network, source: str, target: str) -> list[mc.Journey]:
    """What walks say of a few packets, over every equal way."""
    out = []
    plan = mc.Plan(network)
    for service in TRIED:
        for family in (4, 6):
            try:
                ways = mc.every_path(plan, source, target, service, family=family)
            except mc.QuestionError:
                continue
            out += [
                p.journey
                for p in ways.paths
                if p.journey.there.end == target and p.journey.there.fate in (mc.Fate.DELIVERED, mc.Fate.REFUSED)
            ]
    return out


@examples(2, 20, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(networks())
def test_no_walk_contradicts_a_proof(network: mc.Network) -> None:
    hosts = [n for n, d in network.devices.items() if d.kind is Kind.HOST]
    for target in hosts[1:]:
        found = asked(network, hosts[0], target)
        assert not found.doubtful
        walked = arrives(network, hosts[0], target)
        if found.holds:
            assert walked == []
        for one in found.against:
            assert one.journey.there.end == target


@pytest.mark.parametrize(
    ("source", "target", "but", "holds"),
    [
        ("kiosks", "ledger", ("ticketing",), True),
        ("kiosks", "ledger", (), False),
        ("visitors", "glasshouses", (), None),
        ("almanac", "kiosk-1", (), True),
    ],
)
def test_of_the_demo(source: str, target: str, but: tuple[str, ...], holds: bool | None) -> None:
    network = mc.load(DATA / "fernhollow.yaml")
    found = asked(network, source, target, but=but)
    assert holds is None or found.holds is holds
    assert found.doubtful == ()


# --- the command -------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("claim", "code", "says"),
    [
        ("desk never reaches store except https", 0, "YES, whatever packet is sent"),
        ("desk never reach store", 1, "NO. desk reaches 10.40.2.10"),
        ("desk never reaches store for ssh, telnet and domain", 0, "YES"),
        ("desk sometimes reaches store", 2, "is no claim that can be proven"),
        ("desk never reaches", 2, "is no claim"),
        ("desk never reaches store for nonsense", 2, "nonsense"),
        ("desk never reaches attic", 2, "there is no 'attic'"),
    ],
)
def test_the_command_answers_first_and_ends_with_its_code(tmp_path: Path, claim: str, code: int, says: str) -> None:
    file = tmp_path / "n.yaml"
    file.write_text(HOUSE.replace("#RULES", "{permit: tcp, service: https}").replace("#TOP", "").replace("#GATE", ""))
    done = CliRunner().invoke(main, ["prove", str(file), claim])
    refused = isinstance(done.exception, mc.QuestionError)
    assert says in " ".join((str(done.exception) if refused else done.output).split())
    assert refused is (code == 2)
    assert refused or done.exit_code == code
    if code < 2:
        data = json.loads(CliRunner().invoke(main, ["prove", str(file), claim, "--format", "json"]).output)
        assert data[0]["holds"] is (code == 0)
        assert data[0]["claim"] == claim


@pytest.mark.parametrize(
    ("rules", "told"),
    [
        ("{permit: any}", ["desk to 10.40.2.10: https", "desk to 10.40.2.10: ping", "desk to 10.40.2.10: other services, where nobody listens"]),
        ("{permit: tcp, service: [ssh, telnet]}", ["desk to 10.40.2.10: ssh, telnet, where nobody listens"]),
        ("{permit: tcp, service: [ssh, udp/5683]}", ["desk to 10.40.2.10: ssh, where nobody listens"]),
        ("{permit: udp, service: udp/5683}", ["desk to 10.40.2.10: other services, where nobody listens"]),
    ],
)  # fmt: skip
def test_where_nobody_listens_one_line_tells_it(rules: str, told: list[str]) -> None:
    found = asked(house(rules), "desk", "10.40.2.10")
    assert [words for name, words in provetext._rows(found) if " to 10." in words and name in ("by", "")] == told


DRILL = """
mossy-drill: 1
network: rooms.yaml
steps:
"""
ROOMS = """
mossy-network: 1
lists: {in: [{id: 10, permit: tcp, from: ann, service: https}, {id: 20, deny: any}]}
devices:
  gate:
    kind: router
    interfaces: {a: {address: 10.41.1.1/24, filter: {arriving: in}}, b: 10.41.2.1/24, c: 10.41.3.1/24}
    probes: {up: {target: 10.41.3.10, by: c, every: 1 s, reply-within: 500 ms, down-after: 2, up-after: 1}}
    routes: [{prefix: 10.41.9.0/24, next-hop: 10.41.3.10, while: up}]
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  amy: {kind: host, address: 10.41.1.11/24, gateway: 10.41.1.1}
  bob: {kind: host, address: 10.41.2.10/24, gateway: 10.41.2.1, serves: [https]}
  side: {kind: router, interfaces: {c: 10.41.3.10/24, d: 10.41.9.1/24}, routes: [{prefix: default, next-hop: 10.41.3.1}]}
  cat: {kind: host, address: 10.41.9.10/24, gateway: 10.41.9.1, serves: [https]}
segments: {x: [gate/a, ann, amy], y: [gate/b, bob], z: [gate/c, side/c], w: [side/d, cat]}
"""


@pytest.mark.parametrize(
    ("steps", "holds"),
    [
        ("- expect: {always: amy never reaches bob}", [True]),
        ("- expect: {always: ann never reaches bob}", [False]),
        ("- expect: {always: ann never reaches bob except https}", [True]),
        ("- expect: {always: ann never reaches bob for https}", [False]),
        ("- change: [{disable: lists/in/10}]\n  - expect: {always: ann never reaches bob}", [True]),
        ("- change: [{disable: lists/in/20}]\n  - expect: {always: amy never reaches bob}", [True]),  # the end denies
        ("- edit: [{disable: lists/in/10}]\n  - expect: {always: ann never reaches bob}", [False]),  # it is not in force
        ("- fail: link y\n  - expect: {always: ann never reaches bob}", [True]),
        # What a probe says counts as it is: the route is there until the probe has noticed, and again once it answers.
        ("- expect: {always: ann never reaches cat}", [False]),
        ("- fail: device side\n  - settle: yes\n  - restore: all\n  - expect: {always: ann never reaches cat}", [True]),
        (
            "- fail: device side\n  - settle: yes\n  - restore: all\n  - settle: yes\n  - expect: {always: ann never reaches cat}",
            [False],
        ),
    ],
)
def test_a_drill_proves_of_the_network_as_it_is(tmp_path: Path, steps: str, holds: list[bool]) -> None:
    (tmp_path / "rooms.yaml").write_text(ROOMS)
    (tmp_path / "d.drill.yaml").write_text(f"{DRILL}  {steps}\n")
    report = run_drill(read_drill(tmp_path / "d.drill.yaml"))
    assert not report.broken
    found = [r for r in report.results if r.expects]
    assert [r.ok for r in found] == holds
    for result in found:
        assert bool(result.failures) is not result.ok
        assert all(o.journey.there.fate.value in ("delivered", "refused") for o in result.failures)


def test_what_is_proven_by_chance_says_so(tmp_path: Path) -> None:
    (tmp_path / "rooms.yaml").write_text(ROOMS.replace(", filter: {arriving: in}", "").replace("lists: {in:", "lists: {spare:"))
    (tmp_path / "d.drill.yaml").write_text(f"{DRILL}  - fail: link y\n  - expect: {{always: ann never reaches bob}}\n")
    report = run_drill(read_drill(tmp_path / "d.drill.yaml"))
    assert "by chance" in report.results[1].said
    (tmp_path / "rooms.yaml").write_text(ROOMS)
    (tmp_path / "d.drill.yaml").write_text(f"{DRILL}  - expect: {{always: amy never reaches bob}}\n")
    assert "by chance" not in run_drill(read_drill(tmp_path / "d.drill.yaml")).results[0].said


@pytest.mark.parametrize("wrong", ["amy greets bob", "amy never reaches nobody-2", "amy never reaches bob for gopherd"])
def test_a_claim_of_a_drill_that_cannot_be_meant_is_told_before_anything_is_run(tmp_path: Path, wrong: str) -> None:
    (tmp_path / "rooms.yaml").write_text(ROOMS)
    (tmp_path / "d.drill.yaml").write_text(f"{DRILL}  - expect: {{always: {wrong}}}\n")
    with pytest.raises(mc.InputError, match=r"d\.drill\.yaml:5"):
        read_drill(tmp_path / "d.drill.yaml")
