"""What no packet meets: nothing of it is met by any walk, and what is met by one packet alone is not called so."""

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
from mossy_compass.lab import unmet as looking
from mossy_compass.lab.circumstances import every_case
from mossy_compass.lab.findings import findings
from mossy_compass.lab.unmet import Unmet, unmet
from mossy_compass.plan.reasons import Because, Did
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
    interfaces:
      in: {address: [10.40.1.1/24, "2001:db8:1::1/64"]#IN}
      out: {address: [10.40.2.1/24, "2001:db8:2::1/64"]#OUT}
#GATE
  store: {kind: host, address: [10.40.2.10/24, "2001:db8:2::10/64"], gateway: [10.40.2.1, "2001:db8:2::1"], serves: [https]}
  shelf: {kind: host, address: 10.40.2.11/24, gateway: 10.40.2.1, serves: [https, ssh]}
segments: {a: [desk, till, gate/in], b: [gate/out, store, shelf]}
"""


def yard(lists: str = "", arriving: str = "", out: str = "", gate: str = "", top: str = "") -> mc.Network:
    text = YARD.replace("#TOP", (f"lists: {{{lists}}}\n" if lists else "") + top).replace("#GATE", gate)
    text = text.replace("#IN", f", filter: {{arriving: {arriving}}}" if arriving else "").replace(
        "#OUT", f", filter: {out}" if out else ""
    )
    found = mc.read_bytes(text.encode(), "yard.yaml")
    assert found.network is not None, found.problems
    return found.network


def looked(network: mc.Network) -> Unmet:
    return unmet(mc.Plan(network))


def named(found: Unmet) -> list[str]:
    return [p.message.partition(" is met by no packet")[0].partition(" (at ")[0] for p in found.found]


@pytest.mark.parametrize(
    ("network", "names", "why"),
    [
        # nobody sends such packets
        (yard("l: [{id: 10, deny: tcp, from: 10.40.9.0/24}, {id: 20, permit: any}]", "l"), ["l rule 10"], "no device here has an address that its source means"),
        # somebody does, and not there
        (yard("l: [{id: 10, deny: tcp, from: desk, to: till}, {id: 20, permit: any}]", "l"), ["l rule 10"], "does not come to gate; it goes desk > till"),
        (yard("l: [{id: 10, permit: tcp, from: store}, {id: 20, permit: any}]", "l"), ["l rule 10"], "comes to gate by out, not by in, and there it meets connected route"),
        (yard("l: [{id: 10, permit: tcp, from: store, to: desk, to-port: 22}, {id: 20, permit: any}]", "l"), ["l rule 10"], "tcp 10.40.2.10:49152 > 10.40.1.10:22 SYN comes to gate by out, not by in,"),
        (yard("l: [{id: 10, permit: tcp, to: till, from: till}, {id: 20, permit: any}]", "", "{leaving: l}"), ["l rule 10"], "does not come to gate"),
        (yard("l: [{id: 10, permit: tcp, to: desk, from: store}, {id: 20, permit: any}]", "", "{leaving: l}"), ["l rule 10"], "comes to gate by out, and leaves by in, not by out, and there it meets connected route"),
        # it comes there, and another takes it
        (yard("l: [{id: 10, permit: tcp, from: desk}, {id: 20, permit: tcp, to-port: 22, from: desk}, {id: 30, deny: any}]", "l"), ["l rule 20"], "it meets l rule 10"),
        (yard("l: [{id: 10, deny: any}], o: [{id: 10, permit: tcp, from: desk}]", "l", "{leaving: o}"), ["o rule 10"], "it meets l rule 10"),
        # what is routed, steered and translated
        (yard(gate="    routes: [{prefix: 10.40.1.0/24, next-hop: 10.40.2.11}]"), ["the static route to 10.40.1.0/24 of gate"], "connected route 10.40.1.0/24 is in force there, which is better"),
        (yard(gate="    translate: [{id: a, source: 10.40.7.0/24, leaving: out}]"), ["translation a of gate"], "no device here has an address"),
        (yard(gate="    translate: [{id: a, source: 10.40.1.0/24, leaving: out}, {id: b, source: desk, leaving: out, becomes: exempt}]"), ["translation b of gate"], "it meets translation rule a"),
        (yard(gate="    policy-routes: [{id: p, to: till, arriving: in, candidates: [10.40.2.11]}]"), ["policy route p of gate"], "does not come to gate; it goes desk > till, and is refused there: till does not listen"),
    ],
)  # fmt: skip
def test_what_nothing_meets_is_told_with_a_packet_that_it_is_about(network: mc.Network, names: list[str], why: str) -> None:
    found = looked(network)
    assert named(found) == names
    assert why in found.found[0].message
    assert found.written - found.met == len(names)
    assert found.left == ()


@pytest.mark.parametrize(
    "network",
    [
        yard("l: [{id: 10, permit: tcp, service: https, from: till}, {id: 20, permit: any}]", "l"),
        # by an answer alone, of one port alone
        yard("l: [{id: 10, permit: tcp, from-port: 22, to: 10.40.1.0/24, service: tcp/50000}, {id: 20, permit: any}]", "", "{arriving: l}"),
        # by an error alone: nobody listens there
        yard("l: [{id: 10, permit: icmp, icmp: port-unreachable, from: store}, {id: 20, permit: any}]", "", "{arriving: l}"),
        # by one family alone
        yard("l: [{id: 10, permit: icmp6, icmp: echo-request}, {id: 20, permit: any}]", "l"),
        # in one window, of one application, on the last of two lists
        yard("l: [{id: 10, deny: any, hours: late}, {id: 20, permit: any}]", "l", top="hours: {late: {days: [sun], from: '23:58', until: '23:59'}}\n"),
        yard(
            "l: [{id: 10, deny: any, application: film}, {id: 20, permit: any}]", "l",
            top="applications: {film: {category: moving, known-from: 3}}\n",
        ),
        yard("l: [{id: 10, deny: udp}], m: [{id: 10, permit: tcp, to-port: 22}, {id: 20, permit: any}]", "", "{leaving: [l, m]}"),
    ],
)  # fmt: skip
def test_what_one_packet_meets_is_met(network: mc.Network) -> None:
    assert named(looked(network)) == []


def test_what_stands_before_the_world_is_told_of_somebody_there() -> None:
    """Who could come by the interface says most: the inner hosts, who never do, say nothing of the list or rule there."""
    text = """
mossy-network: 1
lists: {in: [{id: 10, permit: tcp, to: 10.40.1.10, service: https}]}
devices:
  gate:
    kind: firewall
    interfaces: {house: {address: 10.40.1.1/24}, world: {address: 198.51.100.2/30, outside: yes, filter: {arriving: in}}}
    routes: [{prefix: default, next-hop: 198.51.100.1}]
    translate: [{id: shop, arriving: world, to: self, service: https, goes-to: 10.40.1.10}]
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1, serves: [https]}
  carrier: {kind: internet, interfaces: {gate: 198.51.100.1/30}, hosts: {press: {address: 203.0.113.20}}}
segments: {a: [gate/house, desk], b: [gate/world, carrier/gate]}
"""
    network = mc.read_bytes(text.encode(), "shop.yaml").network
    assert network is not None
    listed, forwarded = (p.message.partition("send: ")[2] for p in looked(network).found)
    assert listed.startswith(
        "tcp 203.0.113.20:49152 > 10.40.1.10:443 SYN does not come to gate; it goes carrier, and is dropped there: carrier has no route to"
    )
    assert forwarded == (
        "tcp 203.0.113.20:49152 > 198.51.100.2:443 SYN comes to gate by world, and there it meets the end of list in (shop.yaml:3)."
    )


def test_so_many_packets_are_walked_to_say_why(monkeypatch: pytest.MonkeyPatch) -> None:
    """In a large network there are very many that would do; the first that says something is told."""
    monkeypatch.setattr(looking, "MOST_TRIED", 1)
    network = yard("l: [{id: 10, permit: tcp, to: [desk, store], from: till}, {id: 20, permit: any}]", "", "{arriving: l}")
    (found,) = looked(network).found
    assert "SYN does not come to gate; it goes till > desk" in found.message
    monkeypatch.setattr(looking, "MOST_TRIED", 60)
    (found,) = looked(network).found
    assert "comes to gate by in, not by out, and there it meets connected route" in found.message


ONLY = "l: [{id: 10, deny: tcp, from: g}, {id: 20, permit: any}]"
TWO_WAYS = "    policy-routes: [{id: p, to: store, arriving: in, candidates: [10.40.2.11, 10.40.2.10]}]"
WAITS = (
    TWO_WAYS.replace("[10.40.2.11,", "[{next-hop: 10.40.2.11, while: there},") + "\n    probes: {there: {target: shelf, by: out}}"
)


@pytest.mark.parametrize(
    ("network", "found"),
    [
        # candidates: behind one that waits for nothing; behind one that waits for a probe it is for when that fails
        (yard(gate=TWO_WAYS), ["candidate 2 of policy route p of gate"]),
        (yard(gate=WAITS), []),
        (yard(gate=TWO_WAYS.replace("to: store", "to: till")), ["policy route p of gate"]),
        # offers: of what nobody can ask for, of what somebody does
        (yard(gate="    offers: {in: {ssh: [10.40.9.0/24], ping: any}}"), ["the offer of ssh by gate/in"]),
        (yard(gate="    offers: {in: {ssh: [10.40.1.11], ping: any}}"), []),
        # groups, services, windows and applications that nothing names but what is never met
        (yard(ONLY, "l", top="groups: {g: [10.40.9.9]}\n"), ["l rule 10", "group g"]),
        (yard(ONLY, "l", top="groups: {g: [h], h: [10.40.9.9]}\n"), ["l rule 10", "group g", "group h"]),
        (yard(ONLY + ", m: [{note: tcp, from: g}, {permit: any}]", "l", "{arriving: m}", top="groups: {g: [10.40.9.9]}\n"), ["l rule 10"]),
        (yard(ONLY.replace("from: g", "from: till, service: w"), "l", top="services: {w: [tcp/7]}\n"), []),
        (yard(ONLY, "l", top="groups: {g: [10.40.9.9]}\n", gate="    offers: {in: {ssh: [g], ping: any}}"), ["l rule 10", "the offer of ssh by gate/in"]),
        (yard("m: [{permit: tcp, service: w}]", top="services: {w: [tcp/7]}\n"), ["service w"]),
        (yard(ONLY.replace("from: g", "from: 10.40.9.9, hours: late"), "l", top="hours: {late: {from: '22:00', until: '23:00'}}\n"), ["l rule 10", "window late"]),
        (yard(gate="    translate: [{id: a, source: g, leaving: out}]", top="groups: {g: [10.40.9.9]}\n"), ["translation a of gate", "group g"]),
    ],
)  # fmt: skip
def test_whatever_is_written_is_looked_for(network: mc.Network, found: list[str]) -> None:
    assert [n.partition(" is named by nothing")[0] for n in named(looked(network))] == found


def test_a_selector_that_nobody_meets_is_told() -> None:
    text = (
        "mossy-network: 1\ndevices:\n"
        "  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}\n"
        "  a:\n    kind: router\n    interfaces:\n      in: 10.40.1.1/24\n      up: 198.51.100.1/24\n"
        "      t: {tunnel: {to: 198.51.100.2, by: up, kind: esp, selectors: [{from: 10.40.1.0/24, to: 10.44.0.0/16}, {from: 10.40.7.0/24, to: 10.45.0.0/16}]}}\n"
        "    routes: [{prefix: default, next-hop: 198.51.100.2}]\n"
        "  b:\n    kind: router\n    interfaces:\n      in: 10.44.1.1/24\n      up: 198.51.100.2/24\n"
        "      t: {tunnel: {to: 198.51.100.1, by: up, kind: esp, selectors: [{from: 10.44.0.0/16, to: 10.40.1.0/24}]}}\n"
        "    routes: [{prefix: default, next-hop: 198.51.100.1}]\n"
        "  store: {kind: host, address: 10.44.1.10/24, gateway: 10.44.1.1, serves: [https]}\n"
        "segments: {x: [desk, a/in], m: [a/up, b/up], y: [b/in, store]}\n"
    )
    network = mc.read_bytes(text.encode(), "two.yaml").network
    assert network is not None
    assert named(looked(network)) == ["selector 2 of a/t"]


def test_rules_are_met_by_what_packets_have_become() -> None:
    lists = "o: [{id: 10, permit: tcp, to: store}, {id: 20, permit: tcp, to: 10.40.9.9}, {id: 30, permit: any}]"
    sent_on = "    translate: [{id: t, to: 10.40.9.9, goes-to: store}]"
    assert named(looked(yard(lists, "", "{leaving: o}", sent_on))) == ["o rule 20"]
    assert named(looked(yard(lists, "o", "", sent_on))) == []


BEHIND = """\
mossy-network: 1
lists: {w: [{id: 10, permit: tcp, from: 198.51.100.7, to-port: 22}]}
devices:
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  gate:
    kind: router
    interfaces: {in: 10.40.1.1/24, out: 10.40.9.1/30}
    routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.9.2}]
    translate: [{source: desk, leaving: out, becomes: 198.51.100.7}]
  wall:
    kind: router
    interfaces: {in: {address: 10.40.9.2/30, filter: {arriving: w}}, out: 10.40.2.1/24}
    routes: [{prefix: 198.51.100.0/24, next-hop: 10.40.9.1}]
  store: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1}
segments: {a: [desk, gate/in], m: [gate/out, wall/in], b: [wall/out, store]}
"""


def test_everything_is_followed_and_not_only_what_is_likely(monkeypatch: pytest.MonkeyPatch) -> None:
    """The same is found without the packets that are tried first: by answers, by errors, by what packets become."""
    monkeypatch.setattr(looking._Meetings, "_try", lambda self, written: None)
    kept = "    translate: [{leaving: out, becomes: 10.40.2.99}]"
    answer = "l: [{id: 10, permit: tcp, state: [answering], from-port: 22, from: shelf, service: tcp/50000}]"
    error = "l: [{id: 10, permit: icmp, state: [related], from: store}]"
    behind = mc.read_bytes(BEHIND.encode(), "behind.yaml").network
    assert behind is not None
    for network in (yard(answer, "", "{arriving: l}", kept), yard(error, "", "{arriving: l}", kept), behind):
        plan = mc.Plan(network)
        rule = [w for w in looking._written(plan) if w.code == "idle.rule"]  # alone, so that nothing is followed for another's sake
        search = looking._Meetings(plan, rule, every_case(plan))
        search.run(iter, 16)
        assert search.open == []


def test_a_list_at_two_places_is_met_at_either() -> None:
    both = "l: [{id: 10, permit: tcp, from: shelf, to: desk}, {id: 20, permit: any}]"
    assert named(looked(yard(both, "l"))) == ["l rule 10"]
    assert named(looked(yard(both, "l", "{arriving: l}"))) == []


def test_what_is_found_otherwise_is_not_told_twice_and_counts_as_unmet() -> None:
    network = yard("l: [{id: 10, permit: tcp}, {id: 20, permit: tcp, from: desk}, {id: 30, permit: any}]", "l")
    plan = mc.Plan(network)
    found = unmet(plan, findings(plan))
    assert found.found == ()
    assert (found.written, found.met) == (3, 2)


def test_what_is_written_to_be_unmet_is_told_whatever_else_was_looked_at(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(looking, "MOST_FOLLOWED", 3)
    two = "    routes: [{prefix: 10.40.8.0/24, next-hop: 10.40.2.10}, {prefix: 10.40.8.0/24, next-hop: 10.40.2.11, preference: 9}]"
    found = looked(yard("l: [{id: 10, deny: any}], o: [{id: 10, permit: tcp, from: desk}]", "l", "{leaving: o}", two))
    assert named(found) == ["the static route to 10.40.8.0/24 of gate"]
    assert [p.message.partition(": ")[2][:24] for p in found.found] == ["static route 10.40.8.0/2"]  # the other one is in force
    assert "o rule 10 (at gate/out leaving)" in found.unknown


def test_equal_routes_are_met_each(tmp_path: Path) -> None:
    text = """\
mossy-network: 1
devices:
  a: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  r:
    kind: router
    interfaces: {lan: 10.40.1.1/24, one: 10.40.9.1/30, two: 10.40.9.5/30}
    routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.9.2}, {prefix: 10.40.2.0/24, next-hop: 10.40.9.6}, {prefix: 10.40.2.0/24, next-hop: 10.40.9.6, preference: 9}]
  s:
    kind: router
    interfaces: {lan: 10.40.2.1/24, one: 10.40.9.2/30, two: 10.40.9.6/30}
    routes: [{prefix: 10.40.1.0/24, next-hop: 10.40.9.1}]
  b: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1}
segments: {x: [a, r/lan], y: [r/one, s/one], z: [r/two, s/two], w: [s/lan, b]}
"""
    network = mc.read_bytes(text.encode(), "two.yaml").network
    assert network is not None
    assert named(looked(network)) == ["the static route to 10.40.2.0/24 of r"]  # the one of higher preference


def test_why_something_is_never_met_is_said_where_it_is_written() -> None:
    off = yard("l: [{id: 10, deny: udp}, {id: 20, permit: any}]", gate="    everywhere: {lists: [l], enabled: no}")
    assert all("it stands where nothing is asked (enabled: no)" in p.message for p in looked(off).found)
    assert len(looked(off).found) == 2
    # of a list that stands elsewhere there too, that is not the reason
    lists = "n: [{id: 10, permit: any}], l: [{id: 10, deny: any}], o: [{id: 10, permit: tcp, from: desk}]"
    both = yard(lists, "l", "{leaving: o}", gate="    everywhere: {lists: [n], enabled: no}")
    said = {p.message.partition(" ")[0]: "nothing is asked" in p.message for p in looked(both).found if "rule 10" in p.message}
    assert (said["n"], said["o"]) == (True, False)
    two = "    routes: [{prefix: 10.40.8.0/24, next-hop: 10.40.2.10}, {prefix: 10.40.8.0/24, next-hop: 10.40.2.11, preference: 9}]"
    assert [p.message.partition(": ")[2].partition(" is in force")[0] for p in looked(yard(gate=two)).found] == [
        "static route 10.40.8.0/24"
    ]


def test_rules_by_name_and_by_application_are_met_once_those_are_known() -> None:
    names = (
        "names: {door.example: 10.40.2.11}\napplications: {film: {category: moving, known-from: 3, to: shelf, service: https}}\n"
    )
    rules = "l: [{id: 10, deny: tcp, application: film}, {id: 20, permit: tcp, name: door.example}, {id: 30, deny: any}]"
    kept = "    stateful: [tcp]\n    settings: {name-rules: learned}"
    assert named(looked(yard(rules, "l", gate=kept, top=names))) == []


def test_what_was_not_looked_at_leaves_it_unknown(monkeypatch: pytest.MonkeyPatch) -> None:
    network = yard("l: [{id: 10, deny: any}], o: [{id: 10, permit: tcp, from: desk}]", "l", "{leaving: o}")
    monkeypatch.setattr(looking, "MOST_FOLLOWED", 3)
    found = looked(network)
    assert found.found == ()
    assert found.unknown == ("o rule 10 (at gate/out leaving)",)
    assert "more than 3 stays" in found.left[0]


def test_the_command_tells_them_beside_the_other_findings(tmp_path: Path) -> None:
    file = tmp_path / "yard.yaml"
    file.write_text(
        YARD.replace("#TOP", "lists: {l: [{id: 10, deny: tcp, from: desk, to: till}, {id: 20, permit: any}]}").replace("#GATE", "")
        .replace("#IN", ", filter: {arriving: l}").replace("#OUT", "")
    )  # fmt: skip
    plain = CliRunner().invoke(main, ["check", str(file)])
    assert "idle.rule" not in plain.output
    told = CliRunner().invoke(main, ["check", str(file), "--all"])
    assert told.exit_code == 0
    assert "l rule 10 (at gate/in arriving) is met by no packet that anybody here can send" in " ".join(told.output.split())
    assert "1 of 2 rules" in told.output
    data = json.loads(CliRunner().invoke(main, ["check", str(file), "--all", "--format", "json"]).output)
    assert [f["code"] for f in data["findings"] if f["code"].startswith("idle")] == ["idle.rule"]


def _computed(because: Because) -> bool:
    """Whether it is a route that nobody wrote, or that there is none."""
    return because.code.startswith("route") and (because.code != "route" or because.named["origin"] != "static")


@examples(6, 40)
@given(networks(), st.integers(0, 1000))
def test_nothing_that_is_called_unmet_is_met_by_any_walk(network: mc.Network, seed: int) -> None:
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(looking, "MOST_FOLLOWED", 1500)
        patched.setattr(looking, "MOST_ANSWERED", 60)
        found, plan, chance = unmet(mc.Plan(network)), mc.Plan(network), random.Random(seed)
    assert not (found.left and found.found)
    # In these networks what is written in one call has one place, so that a rule is told from a route by what it is.
    unmet_at = {(p.code.partition(".")[2], p.mark) for p in found.found if p.code != "idle.candidate"}
    hosts = [d.name for d in network.devices.values() if d.own_addresses()]
    for _ in range(30 if unmet_at and len(hosts) > 1 else 0):
        source, target = chance.sample(hosts, 2)
        service = chance.choice(("ping", "tcp/443", "tcp/22", "udp/53", f"udp/{chance.randrange(1, 65536)}", "gre"))
        try:
            walks = every_path(
                plan, source, target, service, source_port=chance.randrange(1, 65536) if service[0] in "tu" else None
            )
        except mc.QuestionError:
            continue
        for path in walks.paths:
            rulings = [r for leg in path.journey.every_leg for h in leg.every_hop for r in h.rulings if r.did is not Did.NOTED]
            met = {(r.because.code.partition(".")[0], r.because.mark) for r in rulings if not _computed(r.because)}
            assert not met & unmet_at


def test_tables_say_of_each_row_whether_packets_meet_it(tmp_path: Path) -> None:
    file = tmp_path / "yard.yaml"
    rules = "l: [{id: 10, deny: tcp, from: 10.40.9.9}, {id: 15, deny: tcp, from: till, disabled: yes}, {id: 20, permit: any}], "
    rules += "m: [{id: 10, permit: any}, {id: 20, deny: udp}]"
    routes = "    routes: [{prefix: 10.40.1.0/24, next-hop: 10.40.2.11}, {prefix: 10.50.0.0/16, next-hop: 10.40.2.11}]"
    text = YARD.replace("#TOP", f"lists: {{{rules}}}").replace("#GATE", routes).replace("#IN", ", filter: {arriving: l}")
    file.write_text(text.replace("#OUT", ", filter: {leaving: m}"))
    said = CliRunner().invoke(main, ["tables", str(file), "gate", "lists", "routes", "--all", "--format", "json"])
    assert said.exit_code == 0, said.output
    found = {t["table"]: t["rows"] for t in json.loads(said.output)["tables"]}
    assert [r["met by packets"] for r in found["list l"]] == ["no: nobody has its source", "no: disabled", "yes"]
    assert [r["met by packets"] for r in found["list m"]] == ["yes", "no: rows above take all"]
    by_prefix = {r["prefix"]: r["met by packets"] for r in found["routes"]}
    assert by_prefix["10.50.0.0/16"] == "yes"  # somebody may send there, whoever is there
    assert by_prefix["not: 10.40.1.0/24"] == "no: none comes to it"
    assert by_prefix["10.40.2.0/24"] == "-"  # nobody wrote it
    wrong = CliRunner().invoke(main, ["tables", str(file), "gate", "settings", "--all"])
    assert wrong.exit_code == 2 or wrong.exception is not None
