"""Access lists as RFC 8519 data in RFC 7951 JSON: valid, and the same after a way out and in."""

from __future__ import annotations

import itertools
import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import given, settings

import mossy_compass as mc
from mossy_compass.errors import InputError
from mossy_compass.exchange.acl import from_data, prefixes, to_data
from mossy_compass.files.edit import flow
from mossy_compass.marks import NOWHERE
from mossy_compass.model.network import AccessList, Network
from mossy_compass.packet.address import LAST_KEY
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.conditions import Reader
from mossy_compass.plan.facts import Facts
from mossy_compass.plan.table import list_table
from tests.test_rows import OWN, lists, packet

# The tree of RFC 8519 section 4.1, as far as IP is concerned: names, types, choices (RFC 7951 section 4 and 6).
NUMBER = {"type": "integer", "minimum": 0, "maximum": 65535}
BYTE = {"type": "integer", "minimum": 0, "maximum": 255}
PORT = {
    "oneOf": [
        {
            "required": ["lower-port", "upper-port"],
            "properties": {"lower-port": NUMBER, "upper-port": NUMBER},
            "additionalProperties": False,
        },
        {
            "required": ["port"],
            "properties": {"operator": {"enum": ["lte", "gte", "eq", "neq"]}, "port": NUMBER},
            "additionalProperties": False,
        },
    ]
}
L4 = {"type": "object", "properties": {"source-port": PORT, "destination-port": PORT}, "additionalProperties": False}


def l3(family: int) -> dict[str, Any]:
    text = {"type": "string", "pattern": r"^[0-9.]+/\d+$" if family == 4 else r"^[0-9a-f:]+/\d+$"}
    names = {f"{side}-ipv{family}-network": text for side in ("source", "destination")}
    return {"type": "object", "properties": {"protocol": BYTE, **names}, "additionalProperties": False}


MATCHES = {
    "type": "object",
    "properties": {
        "ipv4": l3(4),
        "ipv6": l3(6),
        "tcp": L4,
        "udp": L4,
        "icmp": {"type": "object", "properties": {"type": BYTE, "code": BYTE}, "additionalProperties": False},
        "ingress-interface": {"type": "string"},
        "egress-interface": {"type": "string"},
    },
    "additionalProperties": False,
    "allOf": [
        {"not": {"required": ["ipv4", "ipv6"]}},
        {"not": {"required": ["tcp", "udp"]}},
        {"not": {"required": ["tcp", "icmp"]}},
    ],
}
ACE = {
    "type": "object",
    "required": ["name", "actions"],
    "properties": {
        "name": {"type": "string", "minLength": 1, "maxLength": 64},
        "matches": MATCHES,
        "actions": {
            "type": "object",
            "required": ["forwarding"],
            "properties": {"forwarding": {"enum": ["accept", "drop", "reject"]}, "logging": {"enum": ["log-syslog", "log-none"]}},
            "additionalProperties": False,
        },
    },
    "additionalProperties": False,
}
SETS = {
    "type": "object",
    "required": ["acl-sets"],
    "properties": {
        "acl-sets": {
            "type": "object",
            "properties": {"acl-set": {"type": "array", "items": {"type": "object", "required": ["name"]}}},
        }
    },
}
SCHEMA = {
    "type": "object",
    "required": ["ietf-access-control-list:acls"],
    "additionalProperties": False,
    "properties": {
        "ietf-access-control-list:acls": {
            "type": "object",
            "additionalProperties": False,
            "properties": {
                "acl": {
                    "type": "array",
                    "items": {
                        "type": "object",
                        "required": ["name"],
                        "properties": {
                            "name": {"type": "string", "minLength": 1, "maxLength": 64},
                            "type": {"enum": ["ipv4-acl-type", "ipv6-acl-type", "mixed-eth-ipv4-ipv6-acl-type"]},
                            "aces": {
                                "type": "object",
                                "properties": {"ace": {"type": "array", "items": ACE}},
                                "additionalProperties": False,
                            },
                        },
                        "additionalProperties": False,
                    },
                },
                "attachment-points": {
                    "type": "object",
                    "properties": {
                        "interface": {
                            "type": "array",
                            "items": {
                                "type": "object",
                                "required": ["interface-id"],
                                "properties": {"interface-id": {"type": "string"}, "ingress": SETS, "egress": SETS},
                                "additionalProperties": False,
                            },
                        }
                    },
                },
            },
        }
    },
}
VALIDATOR = jsonschema.Draft202012Validator(SCHEMA)


def network(held: dict[str, AccessList]) -> Network:
    return Network("", NOWHERE, {}, {}, held)


def acls(*found: dict[str, Any]) -> dict[str, Any]:
    return {"ietf-access-control-list:acls": {"acl": list(found)}}


def acl(name: str, *aces: dict[str, Any], kind: str = "ipv4-acl-type") -> dict[str, Any]:
    return {"name": name, "type": kind, "aces": {"ace": list(aces)}}


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
    VALIDATOR.validate(data)
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


@settings(max_examples=80)
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
    VALIDATOR.validate(data)
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
    VALIDATOR.validate(made.json)
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
        (acls(acl("l", ace("1", "accept", ipv4={"protocol": 17}, tcp={}))), "exclude one another"),
        (acls(acl("l", ace("1", "accept", tcp={"flags": "syn"}))), "no word for 'flags'"),
        (acls(acl("l", ace("1", "accept", tcp={"source-port": {"lower-port": 5}}))), "lower-port and upper-port"),
        (acls(acl("l", ace("1", "accept", tcp={"source-port": {"lower-port": 5, "upper-port": 4}}))), "runs backwards"),
        (acls(acl("l", ace("1", "accept", tcp={"source-port": {"port": 70000}}))), "from 0 to 65535"),
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
    VALIDATOR.validate(made.json)
    assert list(from_data(made.json).lists) == names
    with pytest.raises(InputError, match="no word for"):
        to_data(loaded)
