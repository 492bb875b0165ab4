"""Findings that have siblings: the same fault in lists, translation and policy routes; the root before what follows from it."""

from __future__ import annotations

import pytest

import mossy_compass as mc
from mossy_compass.model.codes import FINDINGS, ROOTS, rank
from mossy_compass.proof.findings import findings

EDGE = """\
mossy-network: 1
groups: {nested: [phone], crew: [nested, desk]}
LISTS
devices:
  edge:
    kind: firewall
    interfaces:
      in: {address: 10.40.1.1/24FILTER}
      lab: 10.40.2.1/24
      one: {address: 203.0.113.2/24, outside: yes}
      two: {address: 198.51.100.2/24, outside: yes}
    leases: {in: 10.40.1.100-10.40.1.110}
    routes: [{prefix: default, next-hop: 203.0.113.1}]
    MORE
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  phone: {kind: host, leased: yes}
  bench: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [ssh]}
  far: {kind: internet, interfaces: {one: 203.0.113.1/24, two: 198.51.100.1/24}, hosts: {almanac: {address: 192.0.2.80}}}
segments: {in: [edge/in, desk, phone], lab: [edge/lab, bench], one: [edge/one, far/one], two: [edge/two, far/two]}
"""
BOTH = "translate: [{id: a, source: 10.40.0.0/16, leaving: one}, {id: b, source: 10.40.2.0/24, leaving: two}]"


def found(more: str = "", filters: str = "", lists: str = "") -> list[mc.Problem]:
    text = EDGE.replace("MORE", more).replace("FILTER", filters).replace("LISTS", lists)
    reading = mc.read_bytes(text.encode(), "e.yaml")
    assert reading.network is not None, [p.line() for p in reading.errors]
    return [*reading.problems, *findings(mc.Plan(reading.network), reading.problems, reading.lines)]


def steer(source: str, way: str) -> str:
    return f"{BOTH}\n    policy-routes: [{{{source}candidates: [{way}]}}]"


# A fixed pair has two halves, each of which others may take all of.
FIXED = "{source: bench, leaving: one, becomes: {pair: 203.0.113.7}}"
ALL_OUT, TO_SEVEN = "{source: 10.40.0.0/16, leaving: one}", "{to: 203.0.113.7, goes-to: desk}"
LIST = "lists: {l: [{permit: tcp, RULE}, {deny: any}]}"
CASES = [
    ("translate.source-nowhere", "translate: [{source: 10.40.77.0/24, leaving: one}]", "", ""),
    ("policy.source-nowhere", "policy-routes: [{from: 10.40.77.0/24, candidates: [203.0.113.1]}]", "", ""),
    ("rule.source-nowhere", "", ", filter: {arriving: l}", LIST.replace("RULE", "from: 10.40.77.0/24")),
    ("policy.untranslated", steer("from: 10.40.1.0/24, ", "198.51.100.1"), "", ""),
    ("policy.untranslated", steer("from: 10.40.1.0/24, ", "{leaving: two}"), "", ""),
    ("policy.untranslated", BOTH.replace("leaving: two", "leaving: one") + "\n    policy-routes: [{service: ssh, candidates: [{leaving: two}]}]", "", ""),
    # what never applies: shadowed, by rules that are wider, and for an interface where nothing of it arrives
    ("translate.shadowed", "translate: [{source: 10.40.0.0/16, leaving: one}, {source: 10.40.2.0/24, leaving: one}]", "", ""),
    ("translate.shadowed", "translate: [{to: self, service: tcp/80, goes-to: desk}, {to: 203.0.113.2, service: tcp/80, goes-to: bench}]", "", ""),
    ("translate.shadowed", f"translate: [{TO_SEVEN}, {ALL_OUT}, {FIXED}]", "", ""),
    ("translate.one-way", f"translate: [{ALL_OUT}, {FIXED}]", "", ""),
    ("translate.one-way", f"translate: [{TO_SEVEN}, {FIXED}]", "", ""),
    ("policy.shadowed", "policy-routes: [{from: 10.40.1.0/24, candidates: [203.0.113.1]}, {from: desk, service: ssh, candidates: [198.51.100.1]}]", "", ""),
    ("policy.shadowed", "policy-routes: [{from: 10.40.1.0/24, candidates: [203.0.113.1]}, {from: desk, list: l, candidates: [198.51.100.1]}]", "", LIST.replace("RULE", "from: desk")),
    ("policy.never-arrives", "policy-routes: [{from: desk, arriving: lab, candidates: [203.0.113.1]}]", "", ""),
    ("translate.never-arrives", "translate: [{source: bench, arriving: in, to: self, service: tcp/80, goes-to: desk}]", "", ""),
    ("lease.named", "", ", filter: {arriving: l}", LIST.replace("RULE", "from: crew")),
    ("lease.named", "translate: [{source: crew, leaving: one}]", "", ""),
    ("lease.named", "policy-routes: [{from: crew, candidates: [203.0.113.1]}]", "", ""),
    ("lease.named", "profiles: {p: {for: crew, lists: l}}", "", LIST.replace("RULE", "from: desk")),
    ("lease.named", "offers: {in: {ping: [crew]}}", "", ""),
    ("list.wrong-side", "", ", filter: {leaving: l}", LIST.replace("RULE", "to: bench")),
    ("list.wrong-side", "", ", filter: {leaving: l}", LIST.replace("RULE", "from: desk")),
    ("list.wrong-side", "", ", filter: {arriving: l}", LIST.replace("RULE", "from: bench")),
    ("list.wrong-side", "", ", filter: {arriving: l}", LIST.replace("RULE", "to: desk").replace(", {deny: any}", "")),
]  # fmt: skip


@pytest.mark.parametrize("code, more, filters, lists", CASES)
def test_a_finding_has_its_siblings(code: str, more: str, filters: str, lists: str) -> None:
    assert code in {p.code for p in found(more, filters, lists)}


CLEAN = [
    ("policy.untranslated", steer("from: 10.40.2.0/24, ", "198.51.100.1"), "", ""),
    ("policy.untranslated", steer("from: 10.40.1.0/24, ", "203.0.113.1"), "", ""),
    ("policy.untranslated", steer("from: 10.40.1.0/24, ", "{leaving: lab}"), "", ""),
    ("translate.source-nowhere", "translate: [{source: crew, leaving: one}]", "", ""),
    # another interface, another order, one that is off, one whose list takes a part, the other half
    ("translate.shadowed", "translate: [{source: 10.40.0.0/16, leaving: one}, {source: 10.40.2.0/24, leaving: two}]", "", ""),
    ("translate.shadowed", "translate: [{source: 10.40.2.0/24, leaving: one}, {source: 10.40.0.0/16, leaving: one}]", "", ""),
    (
        "translate.shadowed",
        "translate: [{source: 10.40.0.0/16, leaving: one, disabled: yes}, {source: 10.40.2.0/24, leaving: one}]",
        "",
        "",
    ),
    ("translate.shadowed", "translate: [{source: 10.40.0.0/16, leaving: one}, {to: self, service: tcp/80, goes-to: desk}]", "", ""),
    ("translate.shadowed", f"translate: [{ALL_OUT}, {FIXED}]", "", ""),
    ("translate.shadowed", f"translate: [{TO_SEVEN}, {FIXED}]", "", ""),
    ("translate.one-way", f"translate: [{TO_SEVEN}, {ALL_OUT}, {FIXED}]", "", ""),
    ("translate.one-way", f"translate: [{FIXED}, {TO_SEVEN}, {ALL_OUT}]", "", ""),
    ("translate.source-nowhere", f"translate: [{FIXED.replace('bench', '10.40.77.1')}]", "", ""),
    (
        "policy.shadowed",
        "policy-routes: [{from: 10.40.1.0/24, list: l, candidates: [203.0.113.1]}, {from: desk, candidates: [198.51.100.1]}]",
        "",
        LIST.replace("RULE", "from: desk"),
    ),
    (
        "policy.shadowed",
        "policy-routes: [{from: desk, arriving: in, candidates: [203.0.113.1]}, {from: desk, candidates: [198.51.100.1]}]",
        "",
        "",
    ),
    ("policy.never-arrives", "policy-routes: [{from: desk, arriving: [lab, in], candidates: [203.0.113.1]}]", "", ""),
    ("policy.never-arrives", "policy-routes: [{from: almanac, arriving: lab, candidates: [203.0.113.1]}]", "", ""),
    ("list.wrong-side", "", ", filter: {arriving: l}", LIST.replace("RULE", "to: bench")),
    ("list.wrong-side", "", ", filter: {leaving: l}", LIST.replace("RULE", "to: desk")),
    ("list.wrong-side", "", ", filter: {leaving: l}", LIST.replace("RULE", "to: almanac")),
    ("list.wrong-side", "", ", filter: {arriving: l}", "lists: {l: [{permit: any}]}"),
]


@pytest.mark.parametrize("code, more, filters, lists", CLEAN)
def test_what_is_right_is_not_told(code: str, more: str, filters: str, lists: str) -> None:
    assert code not in {p.code for p in found(more, filters, lists)}


TRUNK = """\
mossy-network: 1
devices:
  hall:
    kind: switch
    interfaces: {up: {tagged: [10, 20]}, a: {untagged: 10}, b: {untagged: 20}}
  attic:
    kind: switch
    interfaces: {down: {tagged: [CARRIED]}, c: {untagged: 10}, d: {untagged: 20}}
  ann: {kind: host, address: 10.40.1.10/24}
  ben: {kind: host, address: 10.40.2.10/MASK}
  cat: {kind: host, address: 10.40.1.11/24}
  dan: {kind: host, address: 10.40.2.11/24}
  eve: {kind: host, address: 10.40.2.12/24}
segments: {trunk: [hall/up, attic/down], a: [hall/a, ann], b: [hall/b, ben], c: [attic/c, cat], d: [attic/d, dan, eve]}
"""


def trunk(carried: str, mask: str = "24") -> list[mc.Problem]:
    reading = mc.read_bytes(TRUNK.replace("CARRIED", carried).replace("MASK", mask).encode(), "t.yaml")
    assert reading.network is not None
    both = [*reading.problems, *findings(mc.Plan(reading.network), reading.problems, reading.lines)]
    return sorted(both, key=lambda p: rank(p.severity, p.code))


def test_a_vlan_that_one_end_does_not_carry_is_told_first_with_its_port() -> None:
    assert "vlan.not-carried" not in {p.code for p in trunk("10, 20")}
    found = trunk("10")
    assert (found[0].code, found[0].mark.line) == ("vlan.not-carried", 8)
    assert "attic/down does not carry VLAN 20" in found[0].message


def test_a_wrong_mask_is_told_first_at_the_port_that_has_it() -> None:
    """Two neighbours agree with each other, and one with neither: that one is at fault, wherever it stands in the file."""
    found = trunk("10, 20", mask="16")
    assert (found[0].code, found[0].mark.line) == ("segment.mask", 10)
    assert found[0].message.startswith("ben/nic has 10.40.2.10/16")
    assert {p.code for p in found[1:]} >= {"subnet.overlap"}


OSPF = """\
mossy-network: 1
devices:
  r: {kind: router, interfaces: {a: {address: 10.40.1.1/24, ospf: 0}, b: {address: 10.40.2.1/24, ospf: 0}}}
  s: {kind: router, interfaces: {a: {address: 10.40.1.2/24}, c: {address: 10.40.3.1/24, ospf: 0}}}
  t: {kind: router, interfaces: {c: {address: 10.40.3.2/24, ospf: 0}}}
segments: {a: [r/a, s/a], b: [r/b], c: [s/c, t/c]}
"""


@pytest.mark.parametrize(
    "old, new, told",
    [
        ("", "", True),
        ("10.40.1.2/24}", "10.40.1.2/24, ospf: 0}", False),
        ("10.40.1.1/24, ospf: 0", "10.40.1.1/24, ospf: {passive: yes}", False),
    ],
)
def test_ospf_at_one_end(old: str, new: str, told: bool) -> None:
    reading = mc.read_bytes(OSPF.replace(old, new).encode() if old else OSPF.encode(), "o.yaml")
    assert reading.network is not None
    codes = {p.code: p for p in findings(mc.Plan(reading.network), reading.problems, reading.lines)}
    assert ("ospf.one-end" in codes) is told
    if told:
        assert codes["ospf.one-end"].mark.line == 4


def test_roots_are_findings() -> None:
    assert set(ROOTS) <= set(FINDINGS)
