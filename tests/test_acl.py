"""Access lists as RFC 8519 data in RFC 7951 JSON: valid, and the same after a way out and in."""

from __future__ import annotations

import itertools
import json
import re
import sys
from dataclasses import fields, replace
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from yangson import DataModel
from yangson.enumerations import ContentType

import mossy_compass as mc
from mossy_compass.errors import InputError
from mossy_compass.exchange.acl import SAYABLE, from_data, prefixes, to_data
from mossy_compass.files.edit import flow
from mossy_compass.marks import NOWHERE
from mossy_compass.model.network import AccessList, Network
from mossy_compass.packet.address import LAST_KEY, V6_BASE
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.conditions import Reader
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.table import list_table
from tests.effort import examples
from tests.test_cli import mossy
from tests.test_rows import OWN, lists, packet

MODULES = Path(sys.prefix) / "share" / "yang" / "modules"
LIBRARY: dict[str, Any] = {
    "ietf-yang-library:modules-state": {
        "module-set-id": "1",
        "module": [
            {
                "name": name,
                "revision": revision,
                "namespace": space,
                "conformance-type": kind,
                **({"feature": list(features)} if features else {}),
            }
            for name, revision, space, kind, features in (
                (
                    "ietf-access-control-list", "2019-03-04", "urn:ietf:params:xml:ns:yang:ietf-access-control-list", "implement",
                    (
                        *("match-on-eth", "match-on-ipv4", "match-on-ipv6", "match-on-tcp", "match-on-udp", "match-on-icmp", "eth"),
                        *("ipv4", "ipv6", "mixed-ipv4-ipv6", "mixed-eth-ipv4", "mixed-eth-ipv6", "mixed-eth-ipv4-ipv6"),
                        *("interface-attachment", "interface-acl-aggregate", "egress-interface", "ingress-interface"),
                    ),
                ),
                ("ietf-interfaces", "2018-02-20", "urn:ietf:params:xml:ns:yang:ietf-interfaces", "implement", ()),
                ("iana-if-type", "", "urn:ietf:params:xml:ns:yang:iana-if-type", "implement", ()),
                ("ietf-packet-fields", "2019-03-04", "urn:ietf:params:xml:ns:yang:ietf-packet-fields", "import", ()),
                ("ietf-ethertypes", "2019-03-04", "urn:ietf:params:xml:ns:yang:ietf-ethertypes", "import", ()),
                ("ietf-inet-types", "", "urn:ietf:params:xml:ns:yang:ietf-inet-types", "import", ()),
                ("ietf-yang-types", "", "urn:ietf:params:xml:ns:yang:ietf-yang-types", "import", ()),
            )
        ],
    }
}  # fmt: skip
"""What a device would say that it knows: the modules of the standard with every feature that is about IP (RFC 7895)."""


@cache
def model() -> DataModel:
    """The modules as their authors published them."""
    for module in LIBRARY["ietf-yang-library:modules-state"]["module"]:
        if not module["revision"]:  # those that are revised often: the revision that is at hand
            (path,) = MODULES.rglob(f"{module['name']}.yang")
            found = re.search(r'revision "?(\d{4}-\d\d-\d\d)', path.read_text())
            assert found is not None
            module["revision"] = found[1]
    return DataModel(json.dumps(LIBRARY), tuple(map(str, (MODULES / "ietf", MODULES / "iana"))))


def validate(data: dict[str, Any]) -> None:
    """Refuse what is no instance of the modules. Interfaces that are named are there, as they are on a device (RFC 8343)."""
    text = json.dumps(data)
    named = set(re.findall(r'"(?:interface-id|ingress-interface|egress-interface)": "([^"]*)"', text))
    ports = [{"name": n, "type": "iana-if-type:ethernetCsmacd"} for n in sorted(named)]
    model().from_raw({**data, "ietf-interfaces:interfaces": {"interface": ports}}).validate(ctype=ContentType.config)


def network(held: dict[str, AccessList]) -> Network:
    return Network("", NOWHERE, {}, {}, held)


def acls(*found: dict[str, Any]) -> dict[str, Any]:
    return {"ietf-access-control-list:acls": {"acl": list(found)}}


def acl(name: str, *aces: dict[str, Any], kind: str = "ipv4-acl-type") -> dict[str, Any]:
    return {"name": name, "type": kind, "aces": {"ace": list(aces)}}


def attached(name: str, *points: dict[str, Any]) -> dict[str, Any]:
    return {"ietf-access-control-list:acls": {"acl": [acl(name)], "attachment-points": {"interface": list(points)}}}


def ace(name: str, forwarding: str, **matches: Any) -> dict[str, Any]:
    return {"name": name, "matches": matches, "actions": {"forwarding": forwarding}}


# What the examples of the standard say (RFC 8519 sections 4.3 and 4.4): one prefix to another, ranges and operators of ports.
EXAMPLES = [
    acls(acl("sample-ipv4-acl", ace("rule1", "drop", ipv4={"protocol": 6, "destination-ipv4-network": "198.51.100.0/24", "source-ipv4-network": "192.0.2.0/24"}))),
    acls(acl("sample-port-acl", ace("rule1", "accept", ipv4={"protocol": 6}, tcp={"source-port": {"lower-port": 16384, "upper-port": 65535}}))),
    acls(acl("sample-port-acl", ace("rule1", "accept", ipv4={"protocol": 6}, tcp={"source-port": {"lower-port": 16384, "upper-port": 16387}, "destination-port": {"operator": "eq", "port": 21}}))),
    acls(acl("sample-icmp-acl", ace("rule1", "accept", ipv4={"protocol": 1}, icmp={"type": 8, "code": 0}))),
    acls(acl("sample-ipv6-acl", ace("rule1", "reject", ipv6={"protocol": 17, "destination-ipv6-network": "2001:db8::/32"}, udp={"destination-port": {"operator": "eq", "port": 53}}), kind="ipv6-acl-type")),
]  # fmt: skip


def read(data: Any) -> Network:
    found = from_data(data)
    lines = ["mossy-network: 1", "lists:"]
    for name, rules in found.lists.items():
        lines += [f"  {name}:", *(f"    - {flow(r)}" for r in rules)] if rules else [f"  {name}: []"]
    lines += ["devices: {r: {kind: router, interfaces: {a: 10.40.0.1/24}}}"]
    reading = mc.read_bytes("\n".join(lines).encode(), "l.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    return reading.network


@pytest.mark.parametrize("data", EXAMPLES, ids=range(len(EXAMPLES)))
def test_examples_of_the_standard_come_back_equal(data: dict[str, Any]) -> None:
    validate(data)
    assert to_data(read(data)).json == data


@pytest.mark.parametrize(
    "port, wanted",
    [
        ({"operator": "lte", "port": 1023}, [(0, 1023)]),
        ({"operator": "gte", "port": 49152}, [(49152, 65535)]),
        ({"operator": "neq", "port": 22}, [(0, 21), (23, 65535)]),
        ({"operator": "neq", "port": 0}, [(1, 65535)]),
        ({"port": 80}, [(80, 80)]),
    ],
)
def test_operators_are_ranges_here(port: dict[str, Any], wanted: list[tuple[int, int]]) -> None:
    data = acls(acl("p", ace("1", "accept", ipv4={"protocol": 6}, tcp={"destination-port": port})))
    (rule,) = read(data).lists["p"].rules
    assert [tuple(s.ports) for s in rule.services or () if s.ports] == wanted


@examples(25, 150)
@given(lists, packet())
def test_random_lists_mean_the_same_after_a_way_out_and_in(source: AccessList, packet: Packet) -> None:
    """Rules that the standard has no word for are left out here; each of them alone is refused by name below."""
    kept = []
    for rule in source.rules:
        try:
            to_data(
                network(
                    {
                        "l": AccessList(
                            "l", (replace(rule, sources=own(rule.sources), destinations=own(rule.destinations)),), NOWHERE
                        )
                    }
                )
            )
        except InputError:
            continue
        kept.append(replace(rule, sources=own(rule.sources), destinations=own(rule.destinations)))
    held = AccessList("l", tuple(replace(r, id=str(n)) for n, r in enumerate(kept)), NOWHERE)
    data = to_data(network({"l": held})).json
    validate(data)
    data = json.loads(json.dumps(data))
    again = read(data).lists["l"]
    assert to_data(network({"l": again})).json == data
    facts = Facts(packet, "a")
    facts.leaving = "b"
    one, other = (list_table(entry, Reader()).first(facts) for entry in (held, again))
    assert (one.verdict if one else None) == (other.verdict if other else None)
    if one is not None and other is not None:
        assert other.id.split(".")[0] == one.id


def own(terms: Any) -> Any:
    """Addresses without self, which needs a device."""
    return None if terms is None else tuple(replace(t, spans=OWN) if t.spans is None else t for t in terms)


def test_a_run_of_addresses_is_the_fewest_prefixes() -> None:
    for first, last in ((0, 0), (1, 6), (0, (1 << 32) - 1), (5, (1 << 32) + 3), (0, LAST_KEY)):
        found = list(prefixes(first, last))
        assert found[0].span.first == first
        assert found[-1].span.last == last
        assert all(a.span.last + 1 == b.span.first for a, b in itertools.pairwise(found))
    assert [str(p) for p in prefixes(0x0A280001, 0x0A280006)] == ["10.40.0.1/32", "10.40.0.2/31", "10.40.0.4/31", "10.40.0.6/32"]


FILE = """\
mossy-network: 1
hours: {night: {from: "22:00", until: "06:00"}}
applications: {video: {}}
names: {almanac.example: 203.0.113.80}
lists:
  l: [RULE]
devices:
  gate: {kind: router, interfaces: {a: {address: 10.40.0.1/24, filter: {arriving: l}}}}
segments: {a: [gate/a]}
"""


@pytest.mark.parametrize(
    "rule, word",
    [
        ("{note: any}", "the verdict note"),
        ("{hand-on: any}", "the verdict hand-on"),
        ("{reject: tcp, answer: reset}", "answer"),
        ("{permit: tcp, log: alert}", "log: alert"),
        ("{permit: tcp, disabled: yes}", "disabled"),
        ("{permit: tcp, opening: yes}", "opening"),
        ("{permit: tcp, state: [new]}", "state"),
        ("{permit: tcp, fragments: yes}", "fragments"),
        ("{permit: tcp, hours: night}", "hours"),
        ("{permit: tcp, application: video}", "application"),
        ("{permit: tcp, name: almanac.example}", "name"),
        ("{permit: tcp, while: last-resort}", "while"),
        ("{permit: any, from-port: 53}", "from-port of any protocol"),
        ("{permit: sctp, to-port: 80}", "ports of sctp"),
        ("{permit: any, from: 10.0.0.0/0.170.85.5}", "a wildcard mask"),
    ],
)
def test_what_the_standard_has_no_word_for_is_refused_by_name(rule: str, word: str) -> None:
    loaded = mc.read_bytes(FILE.replace("RULE", rule).encode(), "n.yaml").network
    assert loaded is not None
    with pytest.raises(InputError, match="rule 10 of list l") as fault:
        to_data(loaded)
    assert f"no word for {word}" in str(fault.value)


def test_self_needs_a_device_and_attachment_comes_with_it() -> None:
    loaded = mc.read_bytes(FILE.replace("RULE", "{permit: tcp, to: self, about: us}").encode(), "n.yaml").network
    assert loaded is not None
    with pytest.raises(InputError, match="self means a device"):
        to_data(loaded)
    made = to_data(loaded, device="gate")
    validate(made.json)
    held = made.json["ietf-access-control-list:acls"]
    assert held["acl"][0]["aces"]["ace"][0]["matches"]["ipv4"]["destination-ipv4-network"] == "10.40.0.1/32"
    assert held["attachment-points"]["interface"] == [{"interface-id": "a", "ingress": {"acl-sets": {"acl-set": [{"name": "l"}]}}}]
    assert from_data(made.json).attached == {"a": {"arriving": ["l"]}}
    assert any("purpose of 1 rule" in words for words in made.beside)
    with pytest.raises(InputError, match="no list 'k'"):
        to_data(loaded, ["k"])
    with pytest.raises(InputError, match="no device 'gat'"):
        to_data(loaded, device="gat")


GOOD = EXAMPLES[0]


@pytest.mark.parametrize(
    "data, says",
    [
        ([], "is no object"),
        ({}, "begins with 'ietf-access-control-list:acls'"),
        ({**GOOD, "more": 1}, "holds nothing else"),
        (acls({"name": "l", "type": "eth-acl-type"}), "no word for the type 'eth-acl-type'"),
        (acls({"name": "a list"}), "is called 'a list'"),
        (acls(acl("l", ace("1", "accept", eth={}))), "no word for 'eth'"),
        (acls(acl("l", ace("1", "accept", ipv4={"dscp": 8}))), "no word for 'dscp'"),
        (acls(acl("l", ace("1", "accept", ipv4={}, ipv6={}))), "match nothing"),
        (acls(acl("l", ace("1", "accept", ipv6={}))), "matches nothing"),
        (acls(acl("l", ace("1", "accept", ipv4={"protocol": 58}))), "not the ICMP of that family"),
        (acls(acl("l", ace("1", "accept", ipv6={"protocol": 1}), kind="ipv6-acl-type")), "not the ICMP of that family"),
        (acls(acl("l", ace("1", "accept", icmp={"type": 8}), kind="mixed-eth-ipv4-ipv6-acl-type")), "of which family"),
        (acls(acl("l", ace("1", "accept", ipv4={"protocol": True}))), "no whole number"),
        (acls(acl("l", ace("1", "accept", ipv4={"protocol": "6"}))), "no whole number"),
        (acls(acl("l", ace("1", "accept", ipv4={"protocol": 6.0}))), "no whole number"),
        (acls(acl("l", ace("1", "accept", icmp={"type": "8"}))), "no whole number"),
        (acls(acl("l", ace("1", "accept", icmp={"type": 8, "code": 256}))), "no whole number"),
        (acls(acl("l", ace("1", "accept", tcp={"source-port": {"port": True}}))), "no whole number"),
        (acls(acl("l", ace("1", "accept", ipv4={"source-ipv4-network": "default"}))), "no prefix"),
        (acls(acl("l", ace("1", "accept", ipv4={"source-ipv4-network": 10}))), "no prefix"),
        (acls(acl("l" * 65)), "at most 64"),
        (acls(acl("l\nx: 1")), "is called"),
        (acls(acl("l", ace("1\x1b[31m", "accept"))), "is called"),
        (acls(acl("l", ace("1", "accept", **{"ingress-interface": "a\n- {permit: any}"}))), "is called"),
        (acls(acl("l", ace("1", "accept", **{"ingress-interface": 7}))), "is called"),
        (attached("l", {"interface-id": "a\ngroups:"}), "is called"),
        (attached("l", {"interface-id": "a"}, {"interface-id": "a"}), "is there twice"),
        (
            attached("l", {"interface-id": "a", "ingress": {"acl-sets": {"acl-set": [{"name": "l"}, {"name": "l"}]}}}),
            "is there twice",
        ),
        (attached("l", {"interface-id": "a", "ingress": {"acl-sets": {"acl-set": [{"name": "k"}]}}}), "there is no acl 'k'"),
        (acls(acl("l", ace("1", "accept", ipv4={"protocol": 17}, tcp={}))), "exclude one another"),
        (acls(acl("l", ace("1", "accept", tcp={"flags": "syn"}))), "no word for 'flags'"),
        (acls(acl("l", ace("1", "accept", tcp={"source-port": {"lower-port": 5}}))), "lower-port and upper-port"),
        (acls(acl("l", ace("1", "accept", tcp={"source-port": {"lower-port": 5, "upper-port": 4}}))), "runs backwards"),
        (acls(acl("l", ace("1", "accept", tcp={"source-port": {"port": 70000}}))), "0 to 65535"),
        (acls(acl("l", ace("1", "mirror"))), "must be accept, drop or reject"),
        (acls(acl("l", ace("1", "accept"), ace("1", "drop"))), "is there twice"),
        (acls(acl("l"), acl("l")), "is there twice"),
        (acls(acl("l", ace("1", "accept", ipv4={"source-ipv4-network": "2001:db8::/32"}))), "which is no IPv4"),
        (acls(acl("l", ace("1", "accept", ipv4={"source-ipv4-network": "10.0.0"}))), "source-ipv4-network"),
        (acls(acl("l", ace("1", "accept", icmp={"code": 1}))), "without its type"),
        ({"ietf-access-control-list:acls": {"acl": ["x"]}}, "is no object"),
    ],
)
def test_data_that_a_network_file_has_no_word_for_is_refused_by_name(data: object, says: str) -> None:
    with pytest.raises(InputError) as fault:
        from_data(data)
    assert says in str(fault.value)


def test_a_family_alone_is_kept() -> None:
    data = acls(acl("l", ace("1", "accept", ipv4={}), ace("2", "drop", ipv6={"protocol": 6}), kind="mixed-eth-ipv4-ipv6-acl-type"))
    assert to_data(read(data)).json == data


def test_shipped_lists_go_out_valid(tmp_path: Path) -> None:
    loaded = mc.load(Path(mc.__file__).parent / "data" / "fernhollow.yaml")
    names = [n for n in loaded.lists if n != "house-to-world"]  # it asks for an application
    made = to_data(loaded, names, "gate")
    validate(made.json)
    assert list(from_data(made.json).lists) == names
    with pytest.raises(InputError, match="no word for"):
        to_data(loaded)


@pytest.mark.parametrize("kind, wanted", [("ipv4-acl-type", 4), ("ipv6-acl-type", 6)])
def test_a_list_of_one_family_is_about_no_other(kind: str, wanted: int) -> None:
    """An entry that names no family is of its list's; without that, a packet of the other would be let in."""
    entries = (ace("1", "accept", tcp={"destination-port": {"operator": "eq", "port": 443}}), ace("2", "accept"))
    for rule in read(acls(acl("l", *entries, kind=kind))).lists["l"].rules:
        assert {4 if s.first < V6_BASE else 6 for t in rule.sources or () for s in t.spans or ()} == {wanted}
    (rule,) = read(acls(acl("l", ace("1", "accept", icmp={"type": 1}), kind=kind))).lists["l"].rules
    assert rule.protocol == {4: 1, 6: 58}[wanted]


def test_what_is_added_to_rules_later_is_refused_until_it_is_known() -> None:
    """Every attribute of a rule goes out, or is refused by name when it says something; none is dropped in silence."""
    loaded = mc.read_bytes(FILE.replace("RULE", "{permit: tcp}").encode(), "n.yaml").network
    assert loaded is not None
    (rule,) = loaded.lists["l"].rules
    said: dict[str, Any] = {"bool": True, "str": "x", "tuple": ("x",)}
    for name in {f.name for f in fields(rule)} - SAYABLE:
        value = said["tuple" if getattr(rule, name) is None else type(getattr(rule, name)).__name__]
        changed = replace(loaded, lists={"l": replace(loaded.lists["l"], rules=(replace(rule, **{name: value}),))})
        with pytest.raises(InputError, match="has no word for"):
            to_data(changed)


ZONES = """\
mossy-network: 1
lists:
  l:
    - {id: 10, permit: tcp, arriving: house}
    - {id: "10.1", permit: udp}
devices:
  gate:
    kind: firewall
    interfaces:
      a: {address: 10.40.0.1/24, zone: house}
      b: {address: 10.40.1.1/24, zone: house}
      c: {address: 10.40.2.1/24, zone: shed}
    to-self: l
segments: {a: [gate/a], b: [gate/b], c: [gate/c]}
"""


def test_a_zone_is_no_interface() -> None:
    loaded = mc.read_bytes(ZONES.encode(), "n.yaml").network
    assert loaded is not None
    with pytest.raises(InputError, match="'house' is a zone"):
        to_data(loaded)
    made = to_data(loaded, device="gate")
    validate(made.json)
    entries = made.json["ietf-access-control-list:acls"]["acl"][0]["aces"]["ace"]
    assert [(e["name"], e.get("matches", {}).get("ingress-interface")) for e in entries] == [
        ("10-1", "a"), ("10-2", "b"), ("10-3", "a"), ("10-4", "b"), ("10.1.1", None), ("10.1.2", None),
    ]  # fmt: skip
    assert any("to-self of gate has no place in it" in words for words in made.beside)


def test_hostile_data_is_one_line(tmp_path: Path) -> None:
    cases = {
        '{"a": 1, "a": 2}': "twice in one object",
        '{"a": NaN}': "no number of JSON",
        '{"a": 1e999': "no JSON",
        "[" * 100_000: "no JSON",
        '{"a": ' + "1" * 5000 + "}": "no JSON",
        " " * (16 * 1024 * 1024 + 1): "bytes, and at most",
    }
    for text, words in cases.items():
        (tmp_path / "d.json").write_text(text)
        done = mossy(tmp_path, "lists-in", "d.json")
        assert (done.returncode, done.stdout) == (2, "")
        assert words in done.stderr, (words, done.stderr)
        assert len(done.stderr.splitlines()) == 1
