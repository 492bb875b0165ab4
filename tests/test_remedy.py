"""Remedies: each gives the wanted end when it is written and traced, and what else it is said to change is what changes."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from rich.console import Console

import mossy_compass as mc
from mossy_compass.cli.remedying import maker
from mossy_compass.files.change import as_change_file, changed
from mossy_compass.lab import remedy as looking
from mossy_compass.lab.expect import every_flow
from mossy_compass.lab.lab import Flow
from mossy_compass.lab.remedy import remedies
from mossy_compass.lab.versions import Compared, compare_all
from mossy_compass.report import remedytext, versionstext
from mossy_compass.walk.grid import cell_of
from mossy_compass.walk.many import every_path
from mossy_compass.walk.trace import trace_one
from mossy_compass.walk.weather import in_weather
from tests.conftest import DATA
from tests.effort import at_length
from tests.test_advice import BASE, IN, ONE, edited, listed
from tests.test_advice import HOUSE as HOUSE_PORT
from tests.test_cli import mossy
from tests.test_true_causes import NURSERY, SCHOOL, STAFF

JOBS = Path(__file__).parents[1] / "examples" / "jobs"
HIDE = "    translate: [{id: hide, source: local-networks, leaving: one}]\n"
ASK = ["--from", "ann", "--to"]


def asked(folder: Path, text: str, *words: str) -> dict[str, Any]:
    """What the command finds."""
    (folder / "n.yaml").write_text(text)
    done = mossy(folder, "remedy", "n.yaml", *words, "--format", "json")
    assert done.returncode in (0, 1), done.stderr
    found: dict[str, Any] = json.loads(done.stdout)
    assert done.returncode == (0 if found["remedies"] or found["already"] else 1)
    return found


# what is wrong with the base; who asks whom for what, and what is wanted; the remedies in their order, a few words each
CASES = [
    # A list that has no rule for it: a permit at its end, a group's name is not offered where none is named.
    (edited(BASE, [listed(HOUSE_PORT, "arriving: in")]), ["bench", "telnet"], ["permit it in list in, at its end: {id: 30, permit: tcp, from: ann, to: bench, service: tcp/23}"]),
    # A deny in the way, with a permit below it.
    (
        edited(BASE, [listed(HOUSE_PORT, "arriving: in"), (IN, "in: [{id: 10, deny: tcp, service: ssh}, {id: 20, permit: any}]")]),
        ["bench", "ssh"],
        ["permit it in list in, above rule 10: {id: 5", "disable rule 10 of list in", "move rule 20 of list in above rule 10"],
    ),
    # A permit that is disabled.
    (
        edited(BASE, [listed(HOUSE_PORT, "arriving: in"), (IN, "in: [{id: 10, permit: tcp, service: ssh, disabled: yes}]")]),
        ["bench", "ssh"],
        ["permit it in list in, at its end", "enable rule 10 of list in"],
    ),
    # No room between two numbers: it gets a name.
    (
        edited(BASE, [listed(HOUSE_PORT, "arriving: in"), (IN, "in: [{id: 9, permit: udp}, {id: 10, deny: any}]")]),
        ["bench", "ssh"],
        ["permit it in list in, above rule 10: {id: added-1"],
    ),
    # Nobody hides the source.
    (BASE.replace(HIDE, ""), ["press", "https"], ["translate ann at gate as it leaves by one"]),
    # An answer that no session lets back.
    (BASE.replace("stateful: [tcp, udp, icmp]", "stateful: [tcp, udp]"), ["press", "ping"], ["keep sessions of icmp at gate"]),
    # A service that is not served is for its host to mend.
    (BASE, ["bench", "smtp"], []),
]  # fmt: skip


@pytest.mark.parametrize(("text", "ends", "wanted"), CASES)
def test_what_helps(tmp_path: Path, text: str, ends: list[str], wanted: list[str]) -> None:
    found = asked(tmp_path, text, *ASK, ends[0], "--service", ends[1])
    told = ["; and ".join(r["words"]) for r in found["remedies"]]
    assert sorted(t[: len(w)] for t, w in zip(sorted(told), sorted(wanted), strict=True)) == sorted(wanted), told


CLOSING = [
    (edited(BASE, [listed(HOUSE_PORT, "arriving: in")]), ["bench", "https"], ["deny it in list in, above rule 10", "disable rule 10 of list in"]),
    (BASE, ["bench", "ssh"], ["attach a list to what arrives by gate/house that denies it"]),
    (edited(BASE, [listed(ONE, "arriving: strangers")]), ["press", "https"], ["attach a list to what arrives by gate/house that denies it"]),
]  # fmt: skip


NARROW = """\
mossy-network: 1
groups: {staff: [clerks, ann], clerks: [bob, 10.40.1.12], alone: [ann]}
lists:
  l: [RULES]
devices:
  r: {kind: router, interfaces: {x: {address: 10.40.1.1/24, filter: {arriving: l}}, y: 10.40.2.1/24}}
  ann: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  bob: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
  c: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https, ssh]}
segments: {one: [ann, bob, r/x], two: [r/y, c]}
"""


@pytest.mark.parametrize(
    ("rules", "who", "wanted", "words"),
    [
        # a group that is left, or one within it; an entry of several; none of one alone, which would mean anybody
        ("{id: 10, permit: tcp, from: staff, to: c}", "ann", "never-reaches", ["take ann out of group staff"]),
        ("{id: 10, permit: tcp, from: staff, to: c}", "bob", "never-reaches", ["take bob out of group clerks", "take clerks out of group staff"]),
        ("{id: 10, permit: tcp, from: alone, to: c}", "ann", "never-reaches", []),
        ("{id: 10, permit: tcp, from: [ann, bob], to: c}", "ann", "never-reaches", ["take ann out of from of rule 10 of list l"]),
        ("{id: 10, permit: tcp, from: ann, to: [c, 10.40.2.11], service: [https, ssh]}", "ann", "never-reaches", ["take c out of to of rule 10 of list l", "take ssh out of service of rule 10 of list l"]),
        ("{id: 10, permit: tcp, from: [ann, staff]}", "ann", "never-reaches", []),  # each alone leaves the other
        # what stands in the way
        ("{id: 10, deny: tcp, from: staff}, {id: 20, permit: any}", "ann", "reaches", ["take ann out of group staff"]),
        ("{id: 10, deny: tcp, service: [https, ssh]}, {id: 20, permit: any}", "bob", "reaches", ["take ssh out of service of rule 10 of list l"]),
    ],
)  # fmt: skip
def test_a_rule_is_narrowed_by_what_it_names(tmp_path: Path, rules: str, who: str, wanted: str, words: list[str]) -> None:
    found = asked(tmp_path, NARROW.replace("RULES", rules), "--from", who, "--to", "c", "--service", "ssh", "--wanted", wanted)
    told = ["; and ".join(r["words"]) for r in found["remedies"]]
    assert sorted(t for t in told if t.startswith("take ")) == words


@pytest.mark.parametrize(("text", "ends", "wanted"), CLOSING)
def test_what_closes(tmp_path: Path, text: str, ends: list[str], wanted: list[str]) -> None:
    found = asked(tmp_path, text, *ASK, ends[0], "--service", ends[1], "--wanted", "never-reaches")
    told = ["; and ".join(r["words"]) for r in found["remedies"]]
    assert [any(t.startswith(w) for t in told) for w in wanted] == [True] * len(wanted), told


LANE = """\
mossy-network: 1
devices:
  ann: {kind: host, address: [10.40.1.10/24, "2001:db8:1::10/64"], gateway: [10.40.1.1, "2001:db8:1::1"]}
  west:
    kind: router
    interfaces: {a: {address: [10.40.1.1/24, "2001:db8:1::1/64"]}, b: {address: [10.40.9.1/29, "2001:db8:9::1/64"], state: up}}
    routes: [{prefix: 10.44.0.0/16, action: discard}, {prefix: 10.40.2.0/24, next-hop: 10.40.9.2}, {prefix: "2001:db8:2::/64", next-hop: "2001:db8:9::2"}]
  east:
    kind: router
    interfaces: {b: {address: [10.40.9.2/29, "2001:db8:9::2/64"], state: up}, c: {address: [10.40.2.1/24, "2001:db8:2::1/64"]}}
    routes: [{prefix: default, next-hop: 10.40.9.1}, {prefix: default6, next-hop: "2001:db8:9::1"}]
  store: {kind: host, address: [10.40.2.10/24, "2001:db8:2::10/64"], gateway: [10.40.2.1, "2001:db8:2::1"], serves: [https]}
  till: {kind: host, address: 10.40.2.11/24, gateway: 10.40.2.1, serves: [https]}
segments: {near: [ann, west/a], between: [west/b, east/b], far: [east/c, store, till]}
"""


@pytest.mark.parametrize(
    ("was", "now", "target", "words", "line"),
    [
        # a gateway that nobody has: the only one, or one of two, of either family, at either end
        ("gateway: 10.40.2.1, serves", "gateway: 10.40.2.7, serves", "till", ["the gateway of till: 10.40.2.1 of east, instead of 10.40.2.7"], "gateway: 10.40.2.1, serves"),
        ("gateway: [10.40.2.1,", "gateway: [10.40.2.7,", "10.40.2.10", ["the gateway of store: 10.40.2.1 of east, instead of 10.40.2.7"], 'gateway: [10.40.2.1, "2001:db8:2::1"]'),
        ('"2001:db8:2::1"], serves', '"2001:db8:2::7"], serves', "2001:db8:2::10", ["the gateway of store: 2001:db8:2::1 of east, instead of 2001:db8:2::7"], 'gateway: [10.40.2.1, "2001:db8:2::1"]'),
        ("gateway: [10.40.1.1,", "gateway: [10.40.1.7,", "till", ["the gateway of ann: 10.40.1.1 of west, instead of 10.40.1.7"], 'gateway: [10.40.1.1, "2001:db8:1::1"]'),
        # a next hop that nobody has: of the second route, of the way back, of the default route
        ("next-hop: 10.40.9.2}", "next-hop: 10.40.9.5}", "till", ["the next hop of the static route 10.40.2.0/24 of west: 10.40.9.2 of east, instead of 10.40.9.5"], "{prefix: 10.40.2.0/24, next-hop: 10.40.9.2}"),
        ("next-hop: 10.40.9.1}", "next-hop: 10.40.9.5}", "till", ["the next hop of the default route (static) of east: 10.40.9.1 of west, instead of 10.40.9.5"], "{prefix: default, next-hop: 10.40.9.1}"),
        ('next-hop: "2001:db8:9::2"', 'next-hop: "2001:db8:9::5"', "2001:db8:2::10", ["the next hop of the static route 2001:db8:2::/64 of west: 2001:db8:9::2 of east, instead of 2001:db8:9::5"], 'next-hop: "2001:db8:9::2"'),
        # an interface that is disabled: where the packet is, at the other end of its cable; and where it goes round since then
        ('b: {address: [10.40.9.1/29, "2001:db8:9::1/64"], state: up}', 'b: {address: [10.40.9.1/29, "2001:db8:9::1/64"], state: disabled}', "till", ["enable west/b"], 'b: {address: [10.40.9.1/29, "2001:db8:9::1/64"], state: up}'),
        ('b: {address: [10.40.9.2/29, "2001:db8:9::2/64"], state: up}', 'b: {address: [10.40.9.2/29, "2001:db8:9::2/64"], state: disabled}', "till", ["enable east/b"], 'b: {address: [10.40.9.2/29, "2001:db8:9::2/64"], state: up}'),
        ('c: {address: [10.40.2.1/24, "2001:db8:2::1/64"]}', 'c: {address: [10.40.2.1/24, "2001:db8:2::1/64"], state: disabled}', "till", ["enable east/c"], 'c: {address: [10.40.2.1/24, "2001:db8:2::1/64"], state: up}'),
        # what is unplugged somebody must plug in; who is not there does not answer
        ('b: {address: [10.40.9.1/29, "2001:db8:9::1/64"], state: up}', 'b: {address: [10.40.9.1/29, "2001:db8:9::1/64"], state: not-connected}', "till", [], ""),
        ("#", "#", "10.40.2.12", [], ""),
    ],
)  # fmt: skip
def test_a_way_that_is_lost_is_found(tmp_path: Path, was: str, now: str, target: str, words: list[str], line: str) -> None:
    assert was == "#" or LANE.count(was) == 1
    text = LANE.replace(was, now)
    found = asked(tmp_path, text, *ASK, target, "--service", "https")
    told = [w for r in found["remedies"] for w in r["words"] if w.startswith(("the ", "enable "))]
    assert told == words
    if line:  # and what is written beside it stays
        number = str([r["words"] == words for r in found["remedies"]].index(True) + 1)
        done = mossy(tmp_path, "remedy", "n.yaml", *ASK, target, "--service", "https", "--number", number, "--write", "c.yaml")
        assert done.returncode == 0, done.stderr
        assert mossy(tmp_path, "change", "n.yaml", "c.yaml", "--write").returncode in (0, 1)
        mended = (tmp_path / "n.yaml").read_text()
        assert line in mended
        assert len(mended.splitlines()) == len(text.splitlines())
        assert mossy(tmp_path, "trace", "n.yaml", *ASK, target, "--service", "https").returncode == 0


FRONT = """\
mossy-network: 1
lists:
  keepers: [{permit: tcp, service: ssh}]
  outer: [{permit: tcp, to: 198.51.100.2}]
devices:
  gate:
    kind: firewall
    interfaces:
      house: 10.40.1.1/24
      shop: 10.40.5.1/24
      fibre: {address: 198.51.100.2/29, outside: yes, filter: {arriving: outer}}
    to-self: keepers
    routes: [{prefix: default, next-hop: 198.51.100.1}]
    translate:
      - {id: web, arriving: fibre, to: self, service: https, goes-to: {address: stand, port: 8443}}
  world: {kind: internet, interfaces: {a: 198.51.100.1/29}, hosts: {buyer: 203.0.113.9}}
  ann: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  stand: {kind: host, address: 10.40.5.10/24, gateway: 10.40.5.1, serves: [tcp/8443]}
segments: {house: [ann, gate/house], shop: [stand, gate/shop], fibre: [gate/fibre, world/a]}
"""


@pytest.mark.parametrize("listens", ["    to-self: keepers\n", ""])
@pytest.mark.parametrize(
    ("was", "now", "who", "service", "near", "line"),
    [
        ("#", "#", "ann", "https", "arriving", "{source: ann, to: 198.51.100.2, arriving: house, service: tcp/443, goes-to: {address: stand, port: 8443}}"),
        ("service: https,", "service: http,", "buyer", "https", "service", "{source: buyer, to: 198.51.100.2, arriving: fibre, service: tcp/443, goes-to: {address: stand, port: 8443}}"),
        ("port: 8443}}", "port: 8443}, disabled: yes}", "buyer", "https", "disabled", "service: https, goes-to: {address: stand, port: 8443}}"),
        ("goes-to: {address: stand, port: 8443}", "goes-to: exempt", "ann", "https", "arriving", ""),
        # two conditions are missing: it was not meant
        ("#", "#", "ann", "tcp/8443", "", ""),
    ],
)  # fmt: skip
def test_what_a_device_took_for_itself_is_sent_on(
    tmp_path: Path, listens: str, was: str, now: str, who: str, service: str, near: str, line: str
) -> None:
    assert was == "#" or FRONT.count(was) == 1
    text = FRONT.replace("    to-self: keepers\n", listens).replace(was, now)
    ends = ["--from", who, "--to", "198.51.100.2", "--service", service]
    (tmp_path / "n.yaml").write_text(text)
    said = " ".join(mossy(tmp_path, "trace", "n.yaml", *ends).stdout.split())
    wanted = {"": "", "disabled": "but it is disabled"}.get(near, f"if its {near} matched")
    assert (wanted in said, "translation rule web of gate" in said) == (True, bool(near)), said
    found = asked(tmp_path, text, *ends)
    told = [w for r in found["remedies"] for w in r["words"] if "translation rule web" in w]
    assert bool(told) is bool(line)
    if line:
        done = mossy(tmp_path, "remedy", "n.yaml", *ends, "--write", "c.yaml")
        assert done.returncode == 0, done.stderr
        assert mossy(tmp_path, "change", "n.yaml", "c.yaml", "--write").returncode in (0, 1)
        assert line in (tmp_path / "n.yaml").read_text()
        assert mossy(tmp_path, "trace", "n.yaml", *ends).returncode == 0


HOUSE_28 = "house: {address: 10.40.1.1/24", "house: {address: 10.40.1.1/28"
HIDES = "{id: out, source: 10.40.0.0/16, to: outside, leaving: fibre, becomes: interface}"
LAB = "lab: {address: 10.40.40.1/24,"
DEMO = (DATA / "fernhollow.yaml").read_text()


@pytest.mark.parametrize(
    ("text", "was", "now", "flow", "words", "line"),
    [
        # a mask, at a router and at a host, of one address or of several
        (NURSERY, *HOUSE_28, "ledger probe-1 ping", "the address of wall/house: 10.40.1.1/24, instead of 10.40.1.1/28", "house: {address: 10.40.1.1/24, zone: house}"),
        (DEMO, "[10.40.32.10/24,", "[10.40.32.10/28,", "kiosk-1 tablet ping", "the address of kiosk-1/nic: 10.40.32.10/24, instead of 10.40.32.10/28", "address: [10.40.32.10/24,"),
        (DEMO, "ferns: {address: 10.40.16.1/24}", "ferns: 10.40.16.1/28", "sensor-orchid sensor-fern ping", "the address of glen/ferns: 10.40.16.1/24, instead of 10.40.16.1/28", "ferns: 10.40.16.1/24"),
        # what a protocol leaves out
        (SCHOOL, STAFF, STAFF.replace(", ospf: {area: 0, passive: yes}", ""), "teacher namer ping", "let arch/staff speak OSPF too, passive", STAFF[:-1]),
        (SCHOOL, "ospf: {default-route: {metric: 5}}", "ospf: {}", "pupil herbal https", "let hill announce its default route by OSPF", "ospf: {default-route: {}}"),
        # translation
        (NURSERY, HIDES, HIDES.replace("interface}", "exempt}"), "ledger resolver-x ping", "translate 10.40.1.20 at wall, above translation rule out", "source: 10.40.1.20, leaving: [fibre]"),
        (NURSERY, HIDES, HIDES.replace("interface}", "198.51.100.77}"), "ledger resolver-x ping", "let translation rule out of wall give the leaving interface's address", HIDES),
        # another way
        (DEMO, LAB, LAB + " state: disabled,", "sensor-fern lab-bench ping", "enable canopy/lab", LAB + " state: up,"),
        (DEMO, "      - {prefix: 10.40.16.0/22, next-hop: 10.40.0.6, about: glasshouses}\n", "", "sensor-fern lab-bench tcp/22", "a route at canopy: 10.40.16.0/24 by glen (10.40.0.6)", "{prefix: 10.40.16.0/24, next-hop: 10.40.0.6}"),
    ],
)  # fmt: skip
def test_what_lies_behind_a_loss_is_mended_where_it_is(
    tmp_path: Path, text: str, was: str, now: str, flow: str, words: str, line: str
) -> None:
    assert text.count(was) == 1
    source, target, service = flow.split()
    ends = ["--from", source, "--to", target, "--service", service]
    found = asked(tmp_path, text.replace(was, now), *ends)
    number = [r["words"] for r in found["remedies"]].index([words]) + 1
    done = mossy(tmp_path, "remedy", "n.yaml", *ends, "--number", str(number), "--write", "c.yaml")
    assert done.returncode == 0, done.stderr
    assert mossy(tmp_path, "change", "n.yaml", "c.yaml", "--write").returncode in (0, 1)
    assert line in (tmp_path / "n.yaml").read_text()
    assert mossy(tmp_path, "trace", "n.yaml", *ends).returncode == 0


def test_nothing_is_mended_that_is_so_already(tmp_path: Path) -> None:
    found = asked(tmp_path, BASE, *ASK, "bench", "--service", "ssh")
    assert found["already"]
    assert not found["remedies"]
    found = asked(tmp_path, BASE, *ASK, "bench", "--service", "smtp", "--wanted", "never-reaches")
    assert not found["already"], "it is refused by bench itself, and so it arrives"


def test_what_is_found_in_the_changed_network_is_told(tmp_path: Path) -> None:
    """A rule that names a host whose address is leased: another lease, and it misses it."""
    text = (JOBS / "new-wing.yaml").read_text()
    words = ["--from", "tablet", "--to", "catalogue", "--service", "https", "--wanted", "never-reaches"]
    (remedy,) = asked(tmp_path, text, *words)["remedies"]
    assert [f["code"] for f in remedy["findings"]] == ["lease.named"]
    (remedy,) = asked(tmp_path, text, "--from", "desk", *words[2:])["remedies"]
    assert not remedy["findings"]


def questions() -> list[tuple[str, str, str, str, bool]]:
    """Networks with pairs of their devices, some services, and how it shall end, by chance."""
    chance, out = random.Random(11), []
    files = [DATA / "fernhollow.yaml", *sorted(JOBS.glob("*[a-z].yaml"))]
    for path in (f for f in files if ".drill" not in f.name):
        network = mc.load(path)
        hosts = [n for n, d in network.devices.items() if d.kind.value == "host" and d.own_addresses()]
        targets = [*hosts, *(h.name for d in network.devices.values() for h in d.far_hosts.values())]
        for _ in range(3 if at_length() else 1):
            one, other = chance.choice(hosts), chance.choice(targets)
            if one != other:
                out.append((str(path), one, other, chance.choice(("ssh", "https", "ping", "tcp/23")), chance.random() < 0.6))
    return out


@pytest.mark.scaled
@pytest.mark.parametrize(("path", "one", "other", "service", "reaches"), questions())
def test_each_remedy_does_what_it_says_and_nothing_else(
    tmp_path: Path, path: str, one: str, other: str, service: str, reaches: bool
) -> None:
    """By another way than the command's own: the steps are done on the text, and every test is walked in both versions."""
    text = Path(path).read_text()
    wanted = "reaches" if reaches else "never-reaches"
    found = asked(tmp_path, text, "--from", one, "--to", other, "--service", service, "--wanted", wanted)
    before = in_weather(mc.Plan(mc.load(path)))
    flows = every_flow(before.network)
    for remedy in found["remedies"]:
        _, reading = changed(as_change_file("x", remedy["changes"]).encode(), "c", "n.yaml", text.encode())
        assert reading.network is not None
        after = in_weather(mc.Plan(reading.network))
        for way in every_path(after, one, other, service).paths:
            assert way.journey.answered is reaches or not reaches
            assert reaches or way.journey.there.fate.value not in ("delivered", "refused"), remedy["words"]
        apart, turning = set(), set()
        for f in flows:
            cells = [
                cell_of(trace_one(p, f.source, f.target, f.service, f.options), f.source, f.target, f.label)
                for p in (before, after)
            ]
            if (cells[0].words, cells[0].fate, cells[0].where, cells[0].symptom) != (
                cells[1].words,
                cells[1].fate,
                cells[1].where,
                cells[1].symptom,
            ):
                apart.add(cells[0].key)
            if cells[0].answered != cells[1].answered:
                turning.add(cells[0].key)
        radius = remedy["all-packets"]
        if not radius["not-known"]:  # whatever opens or closes is named there, of all packets and not of tests alone
            turned = [t for t in radius["turned"] if t["what"] in ("opens", "closes")]
            pairs = {(a, b) for t in turned for w in t["which"] for a in w["sources"] for b in w["targets"]}
            assert {key[:2] for key in turning} <= pairs, remedy["words"]
        told = {(c["after"]["from"], c["after"]["to"], c["after"]["service"]) for c in remedy["changed"]}
        assert {k for k in apart if k[:2] != (one, other)} <= told, remedy["words"]
        assert remedy["others"] >= len({k for k in apart if k[:2] != (one, other)})


YARD = """\
mossy-network: 1
groups: {clerks: [bob]}
lists:
  in: [{id: 10, permit: tcp, from: clerks, service: [https, ssh]}, {id: 20, permit: icmp}]
devices:
  r: {kind: router, stateful: any, interfaces: {x: {address: 10.40.1.1/24, filter: {arriving: in}}, y: 10.40.2.1/24}}
  ann: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  bob: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
  store: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https, ssh]}
segments: {one: [ann, bob, r/x], two: [r/y, store]}
"""


def turned(remedy: dict[str, Any]) -> set[tuple[str, str, str, str]]:
    """What opens or closes: how, from whom, to whom, and for what."""
    return {
        (t["what"], source, target, ("all but " if w["all-but"] else "") + ",".join(s["what"] for s in w["services"]))
        for t in remedy["all-packets"]["turned"]
        if t["what"] in ("opens", "closes")
        for w in t["which"]
        for source in w["sources"]
        for target in w["targets"]
    }


def test_a_remedy_tells_what_it_does_to_every_packet(tmp_path: Path) -> None:
    found = asked(tmp_path, YARD, *ASK, "store", "--service", "https")
    by_words = {r["words"][0]: r for r in found["remedies"]}
    alone, joined = sorted(by_words, reverse=True)
    assert joined.startswith("permit it in list in")
    assert alone == "put ann into group clerks, which rule 10 of list in permits"
    assert turned(by_words[joined]) == {("opens", "ann", "store", "https")}
    # The group is about ssh too, which no test of this flow says.
    assert turned(by_words[alone]) == {("opens", "ann", "store", "https,ssh")}
    assert [r["words"][0] for r in found["remedies"]] == [joined, alone]
    assert {r["all-packets"]["not-known"] == [] for r in found["remedies"]} == {True}
    words = " ".join(mossy(tmp_path, "remedy", "n.yaml", *ASK, "store", "--service", "https").stdout.split())
    assert "all packets opens ann → store: https, nothing else opens or closes" in words
    assert "all packets opens ann → store: https, ssh, nothing else opens or closes" in words
    assert " tests " not in words.partition("1 permit it")[2]


def test_answers_that_a_remedy_loses_are_told(tmp_path: Path) -> None:
    """A router that keeps no sessions: what denies ann's packets denies her answers to the same port."""
    text = YARD.replace("stateful: any, ", "stateful: none, ").replace("filter: {arriving: in}", "zone: room")
    text = text.replace("gateway: 10.40.1.1}\n  bob", "gateway: 10.40.1.1, serves: [ssh]}\n  bob")
    found = asked(tmp_path, text, *ASK, "store", "--service", "https", "--wanted", "never-reaches")
    (remedy,) = found["remedies"]
    assert turned(remedy) == {("closes", "ann", "store", "https"), ("closes", "store", "ann", "ssh")}
    (answers,) = [
        w["services"]
        for t in remedy["all-packets"]["turned"]
        for w in t["which"]
        if w["sources"] == ["store"] and t["what"] == "closes"
    ]
    assert answers == [{"what": "ssh", "partly": True}], "from source port 443 alone"


def test_the_one_that_closes_least_comes_first(tmp_path: Path) -> None:
    """A router that keeps no sessions loses answers by a list near the sender; one further on that keeps them does not."""
    found = asked(
        tmp_path,
        (DATA / "fernhollow.yaml").read_text(),
        "--from",
        "lab-bench",
        "--to",
        "moor-store",
        "--service",
        "https",
        "--wanted",
        "never-reaches",
    )
    closed = [{t[1:3] for t in turned(r)} for r in found["remedies"]]
    places = [r["words"][0].partition(" arrives by ")[2].partition(" ")[0] for r in found["remedies"]]
    assert places == ["gate/inside", "moor-gate/home", "canopy/lab"]
    assert closed == [{("lab-bench", "moor-store")}] * 2 + [{("lab-bench", "moor-store"), ("moor-store", "lab-bench")}]


def test_what_is_too_much_to_follow_is_said_and_tests_tell_the_rest(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    network = mc.read_bytes(YARD.encode(), "n.yaml").network
    assert network is not None
    flow, make = Flow("ann", "store", "tcp/443"), maker(YARD.encode(), "n.yaml")
    orders: list[list[str]] = []
    whole = compare_all

    def noted(before: mc.Plan, after: mc.Plan, watch: Callable[[list[str]], list[str]], most_stays: int) -> Compared:
        """The same, with the order in which senders come."""
        orders.append(watch(["r", "store", "ann", "bob"]))
        return whole(before, after, watch=watch, most_stays=most_stays)

    monkeypatch.setattr(looking, "compare_all", noted)
    monkeypatch.setattr(looking, "MOST_STAYS", 3)
    found = remedies(network, flow, True, make, every_flow(network))
    assert orders == [["ann", "r", "store", "bob"]] * 2
    assert [(r.followed, r.wide[0]) for r in found.found] == [(False, True)] * 2
    console = Console(width=100)
    with console.capture() as said:
        console.print(remedytext.remedies(found))
    words = " ".join(said.get().split())
    assert "and there is more that could not be followed here tests none of" in words


def test_what_opens_and_closes_nothing_is_said_so() -> None:
    assert versionstext.in_line(Compared((), 3, 1, 1, ())) == "nothing opens or closes"
    assert versionstext.in_line(Compared((), 3, 1, 1, ("some",))) == "and there is more that could not be followed here"


def test_where_nothing_helps_it_says_what_stopped_it_last(tmp_path: Path) -> None:
    found = asked(tmp_path, YARD, *ASK, "store", "--service", "telnet")
    assert not found["remedies"]
    words, then = found["farthest"]["words"], found["farthest"]["then"]
    assert len(words) == 1
    assert words[0].startswith("permit it in list in, at its end")
    assert then["cause"] == "service.closed"
    said = " ".join(mossy(tmp_path, "remedy", "n.yaml", *ASK, "store", "--service", "telnet").stdout.split())
    assert said.partition("farthest it came with this: ")[2].startswith(words[0])
    assert "store does not listen on tcp/23" in said
    # What stops it then may stand in the same device.
    discards = YARD.replace("y: 10.40.2.1/24}", "y: 10.40.2.1/24}, routes: [{prefix: 10.40.2.10/32, action: discard}]")
    last = asked(tmp_path, discards, *ASK, "store", "--service", "https")["farthest"]
    assert (len(last["words"]), last["then"]["cause"]) == (1, "route.discard")
    # Nothing took it farther, or it is not to come far at all, or something helps.
    for more in (["bob"], ["--wanted", "never-reaches"]):
        text = YARD.replace("serves: [https, ssh]", "serves: [https]") if more == ["bob"] else YARD
        who = (
            ["--from", "bob", "--to", "store", "--service", "ssh"]
            if more == ["bob"]
            else [*ASK, "store", "--service", "ping", *more]
        )
        assert asked(tmp_path, text, *who)["farthest"] is None
    assert asked(tmp_path, YARD, *ASK, "store", "--service", "https")["farthest"] is None


def test_a_flow_over_equal_ways_is_closed_on_all_of_them(tmp_path: Path) -> None:
    """A router before the fork helps, and one of the two after it alone does not."""
    text = """
mossy-network: 1
devices:
  fork: {kind: router, interfaces: {a: {address: 10.41.1.1/24}, b: {address: 10.41.2.1/24}, c: {address: 10.41.3.1/24}},
         routes: [{prefix: 10.41.4.0/24, next-hop: 10.41.2.2}, {prefix: 10.41.4.0/24, next-hop: 10.41.3.2}]}
  left: {kind: router, interfaces: {b: {address: 10.41.2.2/24}, d: {address: 10.41.4.1/24}}, routes: [{prefix: 0.0.0.0/0, next-hop: 10.41.2.1}]}
  right: {kind: router, interfaces: {c: {address: 10.41.3.2/24}, d: {address: 10.41.4.2/24}}, routes: [{prefix: 0.0.0.0/0, next-hop: 10.41.3.1}]}
  ann: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  bob: {kind: host, address: 10.41.4.10/24, gateway: 10.41.4.1, serves: [ssh]}
segments: {h: [fork/a, ann], x: [fork/b, left/b], y: [fork/c, right/c], z: [left/d, right/d, bob]}
"""
    found = asked(tmp_path, text, *ASK, "bob", "--service", "ssh", "--wanted", "never-reaches")
    told = [r["words"] for r in found["remedies"]]
    assert any(len(words) == 1 and "fork/a" in words[0] for words in told)
    assert all(len(words) == 2 for words in told if "fork/a" not in words[0]), told


def test_a_flow_is_closed_in_both_families(tmp_path: Path) -> None:
    text = """
mossy-network: 1
devices:
  gate: {kind: router, interfaces: {a: {address: [10.41.1.1/24, "2001:db8:1::1/64"]}, b: {address: [10.41.2.1/24, "2001:db8:2::1/64"]}}}
  ann: {kind: host, address: [10.41.1.10/24, "2001:db8:1::10/64"], gateway: [10.41.1.1, "2001:db8:1::1"]}
  core: {kind: router, interfaces: {b: {address: [10.41.2.10/24, "2001:db8:2::10/64"]}}, serves: [ssh],
         routes: [{prefix: 0.0.0.0/0, next-hop: 10.41.2.1}, {prefix: "::/0", next-hop: "2001:db8:2::1"}]}
segments: {h: [gate/a, ann], x: [gate/b, core/b]}
"""
    found = asked(tmp_path, text, *ASK, "core", "--service", "ssh", "--wanted", "never-reaches")
    assert found["remedies"]
    for remedy in found["remedies"]:
        (tmp_path / "c.yaml").write_text(as_change_file("x", remedy["changes"]))
        assert mossy(tmp_path, "change", "n.yaml", "c.yaml", "--write").returncode in (0, 1)
        for family in ("4", "6"):
            assert mossy(tmp_path, "trace", "n.yaml", *ASK, "core", "--service", "ssh", "--family", family).returncode == 1
        (tmp_path / "n.yaml").write_text(text)


def test_a_remedy_is_written_as_a_change_that_can_be_done(tmp_path: Path) -> None:
    (tmp_path / "n.yaml").write_text(edited(BASE, [listed(HOUSE_PORT, "arriving: in")]))
    ask = ["remedy", "n.yaml", *ASK, "bench", "--service", "telnet"]
    assert mossy(tmp_path, *ask, "--write", "c.yaml").returncode == 0
    assert mossy(tmp_path, "change", "n.yaml", "c.yaml", "--write").returncode == 0
    assert mossy(tmp_path, "trace", "n.yaml", *ASK, "bench", "--service", "telnet").returncode == 0
    assert mossy(tmp_path, *ask).returncode == 0  # so already


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["--from", "nobody", "--to", "bench"], "nobody"),
        ([*ASK, "bench", "--service", "gopherd"], "gopherd"),
        ([*ASK, "bench", "--service", "domain"], "is for one"),
        ([*ASK, "bench", "--service", "telnet", "--write", "c.yaml", "--number", "9"], "no number 9"),
        ([*ASK, "bench", "--service", "telnet", "--write", "n.yaml"], "n.yaml"),
    ],
)
def test_what_cannot_be_asked_is_refused(tmp_path: Path, words: list[str], says: str) -> None:
    text = edited(BASE, [listed(HOUSE_PORT, "arriving: in")])
    (tmp_path / "n.yaml").write_text(text)
    done = mossy(tmp_path, "remedy", "n.yaml", *words)
    assert done.returncode == 2
    assert says in done.stderr
    assert (tmp_path / "n.yaml").read_text() == text
