"""Where two versions of a network are written otherwise: every key of a file, told at its place, in the file's own words."""

from __future__ import annotations

import dataclasses
import json

import pytest

import mossy_compass as mc
from mossy_compass.lab.differences import WORDS_ONLY, key_of, unlike
from mossy_compass.model import gates as gates_module
from mossy_compass.model import network as network_module
from tests.conftest import DATA
from tests.effort import at_length

RICH = """
mossy-network: 1
title: A house with everything
local: [10.44.0.0/16]
names:
  news.example: 203.0.113.7
hours:
  daytime: {days: [mon, tue], from: "08:00", until: "18:00", zone: Europe/Berlin}
applications:
  films: {category: [leisure], known-from: 4, to: news.example, service: tcp/443}
services:
  surf: [tcp/80, tcp/443]
groups:
  staff: [desk, 10.44.2.50-10.44.2.60]
lists:
  out-list:
    about: what may leave
    rules:
      - {id: 10, permit: tcp, from: staff, service: surf, hours: daytime, log: yes, about: work}
      - {id: 20, deny: any, application: leisure}
      - {id: 30, permit: udp, to: news.example, to-port: 53, from-port: 1024-65535}
      - {id: 40, permit: tcp, state: answering}
      - {id: 50, reject: tcp, answer: reset, arriving: lan, opening: yes}
      - {id: 60, deny: any, fragments: yes}
      - {id: 70, deny: any, while: last-resort}
      - {id: 80, note: icmp, icmp: echo-request, log: notice}
      - {id: 90, permit: any, disabled: yes}
  in-list: [{permit: tcp, service: surf}]
devices:
  edge:
    kind: firewall
    about: the way out
    zone: cellar
    interfaces:
      wan: {address: 198.51.100.2/30, zone: out, outside: yes, filter: {arriving: in-list}, mtu: 1492, ospf: {area: 0, cost: 20}}
      lan: {address: [10.44.2.1/24, "2001:db8:44:2::1/64"], zone: office, answers-for: [10.44.2.200]}
      guest: {address: 10.44.3.1/24, zone: guest, rip: passive, filter: {leaving: out-list}}
      stub: {address: 10.44.9.1/32, loopback: yes}
      tag: {address: 10.44.8.1/24, parent: lan, vlan: 8}
    uplinks: {world: [wan]}
    stateful: [tcp, udp]
    ospf: {preference: 105, default-route: {metric: 5}}
    rip: {preference: 121, default-route: yes}
    resolvers: 198.51.100.1
    routes:
      - {prefix: default, next-hop: 198.51.100.1, preference: 5}
      - {prefix: 10.45.0.0/16, action: discard}
    translate:
      - {id: hide, source: staff, leaving: wan, becomes: interface}
      - {id: shop, to: self, service: https, arriving: wan, goes-to: {address: desk, port: 8443}, lists: in-list}
    policy-routes:
      - {id: 10, from: staff, candidates: [198.51.100.1, {discard: yes}]}
    everywhere: {lists: in-list, enabled: no}
    crossings:
      - {from: guest, into: out, lists: out-list}
    to-self: in-list
    from-self: out-list
    offers:
      lan: {ssh: desk, ping: any}
    profiles:
      night: {for: staff, mode: before, lists: out-list}
    built-in: {own-lookups: no}
    leases:
      guest: {range: 10.44.3.100-10.44.3.120, resolvers: 198.51.100.1}
    settings: {end-of-list: reject, answers-ping: no}
  desk: {kind: host, address: 10.44.2.50/24, gateway: 10.44.2.1, serves: [ssh, tcp/8443]}
  phone: {kind: host, leased: yes}
  bridge: {kind: switch, interfaces: {p1: {untagged: 5}, p2: {tagged: [5, 6]}}}
  net:
    kind: internet
    interfaces: {a: {address: 198.51.100.1/30, ospf: 0, mtu: 1492}}
    records: {video.example: 203.0.113.9}
    hosts:
      news: {address: 203.0.113.7, serves: [https]}
segments:
  wan: [edge/wan, net/a]
  office-net: {members: [edge/lan, desk, bridge/p1], latency: 2, loss: 1}
  guests-net: {members: [edge/guest, phone, bridge/p2], state: up}
"""

EDITS = [
    # what is for people alone
    ("title: A house", "title: The house", {}),
    ("about: what may leave", "about: what leaves", {}),
    ("about: work}", "about: play}", {}),
    ("about: the way out", "about: a way out", {}),
    # names of the whole file
    ("local: [10.44.0.0/16]", "local: [10.40.0.0/13]", {"local": "1 gone, 1 new"}),
    ("news.example: 203.0.113.7", "news.example: 203.0.113.8", {"names/news.example": "1 gone, 1 new"}),
    ("days: [mon, tue]", "days: [mon]", {"hours/daytime/days": "otherwise"}),
    ('from: "08:00"', 'from: "09:00"', {"hours/daytime/from": "480, now 540"}),
    ("Europe/Berlin", "Europe/Rome", {"hours/daytime/zone": "Europe/Berlin, now Europe/Rome"}),
    ("known-from: 4", "known-from: 3", {"applications/films/known-from": "4, now 3"}),
    ("category: [leisure]", "category: [leisure, fun]", {"applications/films/category": "1 new"}),
    ("surf: [tcp/80, tcp/443]", "surf: [tcp/80, tcp/8443]", {"services/surf/members": "1 gone, 1 new"}),
    ("staff: [desk, ", "staff: [phone, ", {"groups/staff/members": "1 gone, 1 new"}),
    # rules
    ("{id: 10, permit: tcp,", "{id: 10, deny: tcp,", {"lists/out-list/rules/10": "permit, now deny"}),
    ("from: staff, service: surf", "service: surf", {"lists/out-list/rules/10/from": "gone"}),
    ("from: staff, service: surf", "from: desk, service: surf", {"lists/out-list/rules/10/from": "1 gone, 1 new"}),
    (", hours: daytime", "", {"lists/out-list/rules/10/hours": "gone"}),
    (", log: yes", "", {"lists/out-list/rules/10/log": "informational, now nothing"}),
    ("application: leisure", "application: films", {"lists/out-list/rules/20/application": "1 gone, 1 new"}),
    ("to-port: 53", "to-port: 123", {"lists/out-list/rules/30/service": "53, now 123"}),
    (", from-port: 1024-65535", "", {"lists/out-list/rules/30/from-port": "gone"}),
    ("state: answering", "state: related", {"lists/out-list/rules/40/state": "1 gone, 1 new"}),
    ("answer: reset", "answer: host-unreachable", {"lists/out-list/rules/50/answer": "reset, now host-unreachable"}),
    (", opening: yes", "", {"lists/out-list/rules/50/opening": "yes, now no"}),
    ("arriving: lan", "arriving: guest", {"lists/out-list/rules/50/arriving": "1 gone, 1 new"}),
    ("fragments: yes", "fragments: no", {"lists/out-list/rules/60/fragments": "yes, now no"}),
    (", while: last-resort", "", {"lists/out-list/rules/70/while": "last-resort, now nothing"}),
    ("icmp: echo-request", "icmp: echo-reply", {"lists/out-list/rules/80/service": "echo-request, now echo-reply"}),
    (", disabled: yes", "", {"lists/out-list/rules/90/disabled": "yes, now no"}),
    ("{id: 60, deny: any, fragments: yes}", "{id: 65, deny: any, fragments: yes}", {"lists/out-list/rules": "1 gone, 1 new"}),
    # a device
    ("zone: office,", "zone: rooms,", {"devices/edge/interfaces/lan/zone": "office, now rooms"}),
    ("outside: yes", "outside: no", {"devices/edge/interfaces/wan/outside": "yes, now no"}),
    (
        "filter: {arriving: in-list}",
        "filter: {leaving: in-list}",
        {"devices/edge/interfaces/wan/filter/arriving": "1 gone", "devices/edge/interfaces/wan/filter/leaving": "1 new"},
    ),
    ("cost: 20", "cost: 30", {"devices/edge/interfaces/wan/ospf/cost": "20, now 30"}),
    ("lan: {address: [10.44.2.1/24,", "lan: {address: [10.44.2.2/24,", {"devices/edge/interfaces/lan/address": "1 gone, 1 new"}),
    ("answers-for: [10.44.2.200]", "answers-for: [10.44.2.201]", {"devices/edge/interfaces/lan/answers-for": "1 gone, 1 new"}),
    ("rip: passive", "rip: active", {"devices/edge/interfaces/guest/rip": "passive, now active"}),
    ("vlan: 8", "vlan: 9", {"devices/edge/interfaces/tag/vlan": "8, now 9"}),
    ("uplinks: {world: [wan]}", "uplinks: {sky: [wan]}", {"devices/edge/uplinks/world": "gone", "devices/edge/uplinks/sky": "new"}),
    ("stateful: [tcp, udp]", "stateful: [tcp]", {"devices/edge/stateful": "otherwise"}),
    ("preference: 105", "preference: 106", {"devices/edge/ospf/preference": "105, now 106"}),
    ("preference: 121", "preference: 122", {"devices/edge/rip/preference": "121, now 122"}),
    ("resolvers: 198.51.100.1\n    routes", "routes", {"devices/edge/resolvers": "1 gone"}),
    ("preference: 5}", "preference: 6}", {"devices/edge/routes": "1 gone, 1 new"}),
    ("id: hide, source: staff", "id: hide, source: desk", {"devices/edge/translate/hide/source": "1 gone, 1 new"}),
    ("port: 8443}", "port: 443}", {"devices/edge/translate/shop/to-port": "8443, now 443"}),
    ("arriving: wan, goes-to", "goes-to", {"devices/edge/translate/shop/arriving": "gone"}),
    ("[198.51.100.1, {discard: yes}]", "[198.51.100.1]", {"devices/edge/policy-routes/10/candidates": "1 gone"}),
    ("enabled: no", "enabled: yes", {"devices/edge/everywhere/enabled": "no, now yes"}),
    ("into: out, lists: out-list", "into: out, lists: in-list", {"devices/edge/crossings": "1 gone, 1 new"}),
    ("to-self: in-list", "to-self: [in-list, out-list]", {"devices/edge/to-self": "1 new"}),
    ("from-self: out-list", "from-self: in-list", {"devices/edge/from-self": "1 gone, 1 new"}),
    ("lan: {ssh: desk,", "lan: {ssh: any,", {"devices/edge/offers": "1 gone, 1 new"}),
    ("mode: before", "mode: after", {"devices/edge/profiles/night/mode": "before, now after"}),
    ("night: {for: staff", "night: {for: desk", {"devices/edge/profiles/night/for": "1 gone, 1 new"}),
    ("built-in: {own-lookups: no}", "built-in: {}", {"devices/edge/built-in/own-lookups": "gone"}),
    ("range: 10.44.3.100-10.44.3.120", "range: 10.44.3.100-10.44.3.121", {"devices/edge/leases": "1 gone, 1 new"}),
    ("end-of-list: reject", "end-of-list: deny", {"devices/edge/settings/end-of-list": "reject, now deny"}),
    ("answers-ping: no", "answers-ping: yes", {"devices/edge/settings/answers-ping": "no, now yes"}),
    # other devices, and cables
    ("serves: [ssh, tcp/8443]", "serves: [ssh]", {"devices/desk/serves": "1 gone"}),
    ("untagged: 5", "untagged: 6", {"devices/bridge/interfaces/p1/untagged": "5, now 6"}),
    ("tagged: [5, 6]}", "tagged: [5]}", {"devices/bridge/interfaces/p2/tagged": "1 gone"}),
    (
        "video.example: 203.0.113.9",
        "film.example: 203.0.113.9",
        {"devices/net/records/video.example": "gone", "devices/net/records/film.example": "new"},
    ),
    ("serves: [https]}", "serves: [ssh]}", {"devices/net/hosts/news/serves": "1 gone, 1 new"}),
    ("members: [edge/lan, desk,", "members: [desk, edge/lan,", {"segments/office-net/members": "in another order"}),
    ("latency: 2", "latency: 3", {"segments/office-net/latency": "2.0, now 3.0"}),
    ("loss: 1", "loss: 0", {"segments/office-net/loss": "1.0, now 0.0"}),
    ("state: up", "state: down", {"segments/guests-net/state": "no, now yes"}),
]


def network_of(text: str) -> mc.Network:
    found = mc.read_bytes(text.encode(), "house.yaml")
    assert found.network is not None, [p.line() for p in found.problems]
    return found.network


@pytest.mark.parametrize(("old", "new", "told"), EDITS, ids=[f"{e[0]} | {e[1]}" for e in EDITS])
def test_every_key_that_changes_is_told_at_its_place(old: str, new: str, told: dict[str, str]) -> None:
    assert RICH.count(old) == 1, "the edit must be about one place"
    before, after = network_of(RICH), network_of(RICH.replace(old, new))
    assert dict(unlike(before, after)) == told
    assert unlike(after, before) or not told
    assert not unlike(after, after)


# what differs as written


@pytest.mark.parametrize(
    ("old", "new", "differs"),
    [
        (
            "prefix: 10.47.0.0/16, action: discard",
            "prefix: 10.46.0.0/16, action: discard",
            [("devices/canopy/routes", "1 gone, 1 new")],
        ),
        (
            "    stateful: [tcp, udp]\n",
            "    settings: {end-of-list: permit}\n",
            [("devices/gate/settings/end-of-list", "deny, now permit")],
        ),
        ("title: Fernhollow", "title: Ferny", []),
        ("about: the perimeter", "about: the fence", []),
        ("names:\n", "names:\n  other.example: 203.0.113.9\n", [("names/other.example", "new")]),
        (
            "{id: 20, deny: any, to: local-networks",
            "{id: 20, permit: any, to: local-networks",
            [("lists/visitors-in/rules/20", "deny, now permit")],
        ),
    ],
)
def test_what_is_written_otherwise_is_told_by_its_place(old: str, new: str, differs: list[tuple[str, str]]) -> None:
    text = (DATA / "fernhollow.yaml").read_text()
    changed = mc.read_bytes(text.replace(old, new, 1).encode(), "n.yaml").network
    before = mc.read_bytes(text.encode(), "n.yaml").network
    assert before is not None
    assert changed is not None
    assert [tuple(one) for one in unlike(before, changed)] == differs


def test_places_are_told_in_the_words_of_the_file() -> None:
    keys: set[str] = set()

    def gather(schema: object) -> None:
        """The keys that the schema of network files has anywhere."""
        if isinstance(schema, dict):
            keys.update(schema.get("properties", {}))
        for part in schema.values() if isinstance(schema, dict) else schema if isinstance(schema, list) else ():
            gather(part)

    gather(json.loads((DATA / "network.schema.json").read_text()))
    kinds = [
        k for m in (network_module, gates_module) for k in vars(m).values() if isinstance(k, type) and dataclasses.is_dataclass(k)
    ]
    inside = {
        "Settings",
        "Term",
        "Serves",
        "StaticRoute",
        "Offer",
        "LeasePool",
        "Candidate",
    }  # entries that are counted, not opened
    asked = [(k, f.name) for k in kinds if k.__name__ not in inside for f in dataclasses.fields(k) if f.compare]
    assert len(asked) > 100
    unknown = [(k.__name__, n) for k, n in asked if n not in WORDS_ONLY for w in key_of(k, n).split("/") if w and w not in keys]
    assert unknown == [("FarHost", "off")]  # what only the lab can switch off


def test_what_a_group_holds_is_told_once() -> None:
    text = (DATA / "fernhollow.yaml").read_text()
    before = mc.read_bytes(text.encode(), "n.yaml").network
    after = mc.read_bytes(text.replace("kiosks: [", "kiosks: [tablet, ").encode(), "n.yaml").network
    assert before is not None
    assert after is not None
    assert unlike(before, after) == [("groups/kiosks/members", "1 new")]


@pytest.mark.scaled
@pytest.mark.parametrize("name", ["fernhollow", "grounds"])
def test_no_line_that_counts_can_go_without_being_told(name: str) -> None:
    """Each line (by default every third) taken out by itself, where the file is still whole: its place is told, unless it holds words alone."""
    lines = (DATA / f"{name}.yaml").read_text().splitlines()
    before = mc.read_bytes("\n".join(lines).encode(), "n.yaml").network
    assert before is not None
    told = 0
    for number, line in enumerate(lines):
        if number % 3 and not at_length():
            continue
        after = mc.read_bytes("\n".join(lines[:number] + lines[number + 1 :]).encode(), "n.yaml").network
        if after is None or not line.strip() or line.strip().startswith("#"):
            continue
        same = line.strip().startswith(("about:", "title:")) or after == before
        assert bool(unlike(before, after)) is not same, line
        told += not same
    assert told > 10
