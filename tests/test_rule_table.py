"""One rule, one packet, one expectation: what follows from the definition, written out by hand, in both families.

A packet is written as ``protocol source > destination``, ports after the last colon, then flags and facts.
"""

from __future__ import annotations

import re

import pytest

import mossy_compass as mc
from mossy_compass.packet.address import parse_address
from mossy_compass.packet.packet import Packet, later_fragment
from mossy_compass.packet.service import parse_icmp, parse_protocol
from mossy_compass.plan.facts import Facts, Moment, Recollection, Relation
from mossy_compass.plan.table import Table

FILE = """\
mossy-network: 1
hours: {day: {from: "08:00", until: "17:00"}, night: {from: "22:00", until: "06:00"}}
applications: {video: {category: [streaming]}, chat: {category: [social]}}
names: {one.example: [203.0.113.1, "2001:db8:3::1"], two.example: 203.0.113.2}
groups:
  desks: [10.40.1.10, 10.40.1.12]
  both: [desks, "2001:db8:1::/64"]
  deep: [both, 10.40.9.0/30]
services: {web: [tcp/80, tcp/443], mixed: [web, udp/53], pings: [icmp/echo-request, icmp6/echo-request]}
lists: {l: [RULE]}
devices:
  r:
    kind: router
    interfaces:
      a: {address: [10.40.1.1/24, "2001:db8:1::1/64"], zone: house, filter: {arriving: l}}
      b: {address: 10.40.2.1/24, zone: world, filter: {leaving: l}}
    uplinks: {up: [b]}
    settings: {name-rules: MODE}
  desk: {kind: host, address: [10.40.1.10/24, "2001:db8:1::10/64"], gateway: 10.40.1.1}
  far: {kind: host, address: 10.40.2.9/24, gateway: 10.40.2.1}
segments: {lan: [r/a, desk], wan: [r/b, far]}
"""

# rule, then packets: + is met, - is not
TABLE = """
permit: any
  + tcp 10.40.1.10:1 > 10.40.2.9:80 SYN
  + icmp6 2001:db8:1::10 > 2001:db8:2::1 echo-request
  + gre 10.40.1.10 > 10.40.2.9
  + tcp 10.40.1.10 > 10.40.2.9 fragment
permit: tcp
  + tcp 10.40.1.10:1 > 10.40.2.9:80 SYN
  + tcp 2001:db8:1::10:1 > 2001:db8:2::1:80 ACK
  + tcp 10.40.1.10 > 10.40.2.9 fragment
  - udp 10.40.1.10:1 > 10.40.2.9:80
  - icmp 10.40.1.10 > 10.40.2.9 echo-request
permit: 47
  + gre 10.40.1.10 > 10.40.2.9
  - esp 10.40.1.10 > 10.40.2.9
permit: any, from: 10.40.1.10
  + udp 10.40.1.10:1 > 10.40.2.9:80
  - udp 10.40.1.11:1 > 10.40.2.9:80
  - udp 2001:db8:1::10:1 > 2001:db8:2::1:80
permit: any, from: 10.40.1.0/30
  + udp 10.40.1.0:1 > 10.40.2.9:80
  + udp 10.40.1.3:1 > 10.40.2.9:80
  - udp 10.40.1.4:1 > 10.40.2.9:80
  - udp 10.40.0.255:1 > 10.40.2.9:80
permit: any, from: 10.40.1.0/255.255.255.252
  + udp 10.40.1.3:1 > 10.40.2.9:80
  - udp 10.40.1.4:1 > 10.40.2.9:80
permit: any, from: 10.40.0.1/0.0.255.0
  + udp 10.40.77.1:1 > 10.40.2.9:80
  - udp 10.40.77.2:1 > 10.40.2.9:80
  - udp 10.41.77.1:1 > 10.40.2.9:80
permit: any, from: 10.40.0.0/0.0.170.5
  + udp 10.40.130.4:1 > 10.40.2.9:80
  + udp 10.40.0.5:1 > 10.40.2.9:80
  - udp 10.40.1.4:1 > 10.40.2.9:80
  - udp 10.40.130.2:1 > 10.40.2.9:80
permit: any, from: 10.40.1.10-10.40.1.12
  + udp 10.40.1.10:1 > 10.40.2.9:80
  + udp 10.40.1.12:1 > 10.40.2.9:80
  - udp 10.40.1.13:1 > 10.40.2.9:80
  - udp 10.40.1.9:1 > 10.40.2.9:80
permit: any, from: "2001:db8:1::/64"
  + udp 2001:db8:1::10:1 > 2001:db8:2::1:80
  + udp 2001:db8:1:0:ffff:ffff:ffff:ffff:1 > 2001:db8:2::1:80
  - udp 2001:db8:1:1::1:1 > 2001:db8:2::1:80
  - udp 10.40.1.10:1 > 10.40.2.9:80
permit: any, to: "2001:db8:2::1-2001:db8:2::f"
  + udp 2001:db8:1::10:1 > 2001:db8:2::f:80
  - udp 2001:db8:1::10:1 > 2001:db8:2::10:80
permit: any, from: desks
  + udp 10.40.1.12:1 > 10.40.2.9:80
  - udp 10.40.1.11:1 > 10.40.2.9:80
permit: any, from: deep
  + udp 10.40.1.10:1 > 10.40.2.9:80
  + udp 10.40.9.3:1 > 10.40.2.9:80
  + udp 2001:db8:1::5:1 > 2001:db8:2::1:80
  - udp 10.40.9.4:1 > 10.40.2.9:80
permit: any, from: desk
  + udp 10.40.1.10:1 > 10.40.2.9:80
  + udp 2001:db8:1::10:1 > 2001:db8:2::1:80
  - udp 10.40.1.1:1 > 10.40.2.9:80
permit: any, from: lan
  + udp 10.40.1.200:1 > 10.40.2.9:80
  + udp 2001:db8:1::77:1 > 2001:db8:2::1:80
  - udp 10.40.2.200:1 > 10.40.2.9:80
permit: any, to: world
  + udp 10.40.1.10:1 > 10.40.2.9:80
  - udp 10.40.1.10:1 > 10.40.3.9:80
permit: any, to: self
  + udp 10.40.1.10:1 > 10.40.2.1:80
  + udp 2001:db8:1::10:1 > 2001:db8:1::1:80
  - udp 10.40.1.10:1 > 10.40.2.2:80
permit: any, to: local-networks
  + udp 10.40.1.10:1 > 192.168.7.7:80
  - udp 10.40.1.10:1 > 192.0.2.1:80
permit: any, to: outside
  + udp 10.40.1.10:1 > 192.0.2.1:80
  - udp 10.40.1.10:1 > 10.99.0.1:80
permit: any, to: one.example
  + udp 10.40.1.10:1 > 203.0.113.1:80
  + udp 2001:db8:1::10:1 > 2001:db8:3::1:80
  - udp 10.40.1.10:1 > 203.0.113.2:80
permit: any, from: [10.40.1.10, "2001:db8:1::10"], to: [10.40.2.0/24, "2001:db8:2::/64"]
  + udp 10.40.1.10:1 > 10.40.2.9:80
  + udp 2001:db8:1::10:1 > 2001:db8:2::1:80
  - udp 2001:db8:1::10:1 > 2001:db8:3::1:80
permit: tcp, to-port: 80
  + tcp 10.40.1.10:1 > 10.40.2.9:80 SYN
  - tcp 10.40.1.10:1 > 10.40.2.9:81 SYN
  - tcp 10.40.1.10:80 > 10.40.2.9:1 SYN
  - udp 10.40.1.10:1 > 10.40.2.9:80
  - tcp 10.40.1.10 > 10.40.2.9 fragment
permit: any, to-port: 80-90
  + tcp 10.40.1.10:1 > 10.40.2.9:80 SYN
  + udp 10.40.1.10:1 > 10.40.2.9:90
  - udp 10.40.1.10:1 > 10.40.2.9:91
  - icmp 10.40.1.10 > 10.40.2.9 echo-request
permit: tcp, to-port: [22, 8000-8010]
  + tcp 10.40.1.10:1 > 10.40.2.9:22 SYN
  + tcp 10.40.1.10:1 > 10.40.2.9:8005 SYN
  - tcp 10.40.1.10:1 > 10.40.2.9:23 SYN
permit: tcp, to-port: https
  + tcp 10.40.1.10:1 > 10.40.2.9:443 SYN
  - tcp 10.40.1.10:1 > 10.40.2.9:80 SYN
permit: udp, from-port: 53
  + udp 10.40.1.10:53 > 10.40.2.9:9
  - udp 10.40.1.10:54 > 10.40.2.9:53
  - udp 10.40.1.10 > 10.40.2.9 fragment
permit: any, from-port: 0-1023
  + sctp 10.40.1.10:5 > 10.40.2.9:9
  + tcp 2001:db8:1::10:1023 > 2001:db8:2::1:80 ACK
  - tcp 10.40.1.10:1024 > 10.40.2.9:9 SYN
  - gre 10.40.1.10 > 10.40.2.9
permit: tcp, service: web
  + tcp 10.40.1.10:1 > 10.40.2.9:443 SYN
  - tcp 10.40.1.10:1 > 10.40.2.9:22 SYN
permit: any, service: mixed
  + udp 10.40.1.10:1 > 10.40.2.9:53
  + tcp 10.40.1.10:1 > 10.40.2.9:80 SYN
  - tcp 10.40.1.10:1 > 10.40.2.9:53 SYN
permit: udp, service: mixed
  + udp 10.40.1.10:1 > 10.40.2.9:53
  - tcp 10.40.1.10:1 > 10.40.2.9:80 SYN
permit: any, service: pings
  + icmp 10.40.1.10 > 10.40.2.9 echo-request
  + icmp6 2001:db8:1::10 > 2001:db8:2::1 echo-request
  - icmp 10.40.1.10 > 10.40.2.9 echo-reply
permit: any, service: domain
  + udp 10.40.1.10:1 > 10.40.2.9:53
  + tcp 10.40.1.10:1 > 10.40.2.9:53 SYN
permit: icmp
  + icmp 10.40.1.10 > 10.40.2.9 time-exceeded
  + icmp 10.40.1.10 > 10.40.2.9 fragment
  - icmp6 2001:db8:1::10 > 2001:db8:2::1 echo-request
permit: icmp, icmp: echo-request
  + icmp 10.40.1.10 > 10.40.2.9 echo-request
  - icmp 10.40.1.10 > 10.40.2.9 echo-reply
  - icmp 10.40.1.10 > 10.40.2.9 fragment
permit: icmp, icmp: [unreachable, 11/1]
  + icmp 10.40.1.10 > 10.40.2.9 port-unreachable
  + icmp 10.40.1.10 > 10.40.2.9 11/1
  - icmp 10.40.1.10 > 10.40.2.9 11/0
permit: icmp6, icmp: too-big
  + icmp6 2001:db8:1::10 > 2001:db8:2::1 too-big
  - icmp6 2001:db8:1::10 > 2001:db8:2::1 unreachable
permit: tcp, opening: yes
  + tcp 10.40.1.10:1 > 10.40.2.9:80 SYN
  - tcp 10.40.1.10:1 > 10.40.2.9:80 ACK
  - tcp 10.40.1.10:1 > 10.40.2.9:80 SYN-ACK
permit: udp, opening: yes
  + udp 10.40.1.10:1 > 10.40.2.9:53
  - udp 10.40.1.10:1 > 10.40.2.9:53 answering
  - udp 10.40.1.10 > 10.40.2.9 fragment
permit: any, state: [new]
  + tcp 10.40.1.10:1 > 10.40.2.9:80 SYN
  - tcp 10.40.1.10:1 > 10.40.2.9:80 ACK continuing
permit: any, state: [continuing, answering, related]
  + tcp 10.40.1.10:1 > 10.40.2.9:80 ACK continuing
  + udp 10.40.1.10:1 > 10.40.2.9:80 answering
  + icmp 10.40.1.10 > 10.40.2.9 port-unreachable related
  - udp 10.40.1.10:1 > 10.40.2.9:80
  - tcp 10.40.1.10:1 > 10.40.2.9:80 ACK none
permit: any, state: none
  + tcp 10.40.1.10:1 > 10.40.2.9:80 ACK none
  - tcp 10.40.1.10:1 > 10.40.2.9:80 SYN
permit: any, fragments: yes
  + udp 10.40.1.10 > 10.40.2.9 fragment
  + gre 2001:db8:1::10 > 2001:db8:2::1 fragment
  - udp 10.40.1.10:1 > 10.40.2.9:80
permit: any, arriving: a
  + udp 10.40.1.10:1 > 10.40.2.9:80 arriving=a
  - udp 10.40.1.10:1 > 10.40.2.9:80 arriving=b
  - udp 10.40.1.10:1 > 10.40.2.9:80
permit: any, arriving: house
  + udp 10.40.1.10:1 > 10.40.2.9:80 arriving=a
  - udp 10.40.1.10:1 > 10.40.2.9:80 arriving=b
permit: any, arriving: [up, a]
  + udp 10.40.1.10:1 > 10.40.2.9:80 arriving=b
  + udp 2001:db8:1::10:1 > 2001:db8:2::1:80 arriving=a
  - udp 10.40.1.10:1 > 10.40.2.9:80 arriving=c
permit: any, hours: day
  + udp 10.40.1.10:1 > 10.40.2.9:80 open=day
  - udp 10.40.1.10:1 > 10.40.2.9:80 open=night
  - udp 10.40.1.10:1 > 10.40.2.9:80
permit: any, hours: [day, night]
  + udp 10.40.1.10:1 > 10.40.2.9:80 open=night
  + udp 2001:db8:1::10:1 > 2001:db8:2::1:80 open=day,night
  - udp 2001:db8:1::10:1 > 2001:db8:2::1:80
permit: any, application: video
  + udp 10.40.1.10:1 > 10.40.2.9:80 app=video,streaming
  - udp 10.40.1.10:1 > 10.40.2.9:80 app=chat,social
  - udp 10.40.1.10:1 > 10.40.2.9:80
  - udp 10.40.1.10:1 > 10.40.2.9:80 app=video,streaming later
permit: any, application: [streaming, chat]
  + udp 10.40.1.10:1 > 10.40.2.9:80 app=video,streaming
  + udp 2001:db8:1::10:1 > 2001:db8:2::1:80 app=chat,social
  - udp 10.40.1.10:1 > 10.40.2.9:80
permit: any, name: one.example
  + udp 10.40.1.10:1 > 203.0.113.1:80
  + udp 2001:db8:1::10:1 > 2001:db8:3::1:80
  - udp 10.40.1.10:1 > 203.0.113.2:80
permit: any, name: [one.example, two.example]
  + udp 10.40.1.10:1 > 203.0.113.2:80
  - udp 10.40.1.10:1 > 203.0.113.3:80
permit: any, name: one.example  # learned
  + udp 10.40.1.10:1 > 203.0.113.9:80 called=one.example
  - udp 10.40.1.10:1 > 203.0.113.1:80
  - udp 10.40.1.10:1 > 203.0.113.1:80 called=two.example
permit: any, while: last-resort
  + udp 10.40.1.10:1 > 10.40.2.9:80 last-resort
  - udp 10.40.1.10:1 > 10.40.2.9:80
permit: tcp, from: desks, to: world, service: web, state: [new], arriving: house, hours: day
  + tcp 10.40.1.10:1 > 10.40.2.9:443 SYN arriving=a open=day
  - tcp 10.40.1.10:1 > 10.40.2.9:443 SYN arriving=a open=night
  - tcp 10.40.1.10:1 > 10.40.2.9:443 SYN arriving=b open=day
  - tcp 10.40.1.11:1 > 10.40.2.9:443 SYN arriving=a open=day
  - tcp 10.40.1.10:1 > 10.40.3.9:443 SYN arriving=a open=day
  - tcp 10.40.1.10:1 > 10.40.2.9:22 SYN arriving=a open=day
  - tcp 10.40.1.10:1 > 10.40.2.9:443 ACK continuing arriving=a open=day
permit: any, disabled: yes
  - udp 10.40.1.10:1 > 10.40.2.9:80
"""


def cases() -> list[tuple[str, str, bool]]:
    out, rule = [], ""
    for line in TABLE.strip().splitlines():
        if line.startswith("  "):
            out.append((rule, line[4:], line[2] == "+"))
        else:
            rule = line
    return out


CASES = cases()
KINDS = {"new": "opening"}


def end(words: str) -> tuple[str, int]:
    found = re.fullmatch(r"(.+):(\d+)", words)
    return (found[1], int(found[2])) if found else (words, 0)


def facts_of(words: str) -> Facts:
    protocol_word, source_word, _, destination_word, *more = words.split()
    protocol = parse_protocol(protocol_word)
    assert protocol is not None
    with_ports = protocol in (6, 17, 132) and "fragment" not in more
    (source, from_port), (destination, to_port) = (end(w) if with_ports else (w, 0) for w in (source_word, destination_word))
    packet = Packet(protocol, parse_address(source), parse_address(destination), from_port, to_port)
    if protocol in (1, 58) and more[0] != "fragment":
        packet = packet._replace(icmp=parse_icmp(more[0], protocol).first)
    flags = next((m for m in more if m in ("SYN", "ACK", "SYN-ACK")), "")
    packet = packet._replace(flags=flags)
    if "fragment" in more:
        packet = later_fragment(packet)
    said = dict(m.split("=") for m in more if "=" in m)

    def names(key: str) -> frozenset[str]:
        return frozenset(said[key].split(",")) if key in said else frozenset()

    moment = Moment(
        None, names("open"), names("app") or None, 3 if "later" in more else 1, frozenset({"*"} if "last-resort" in more else ())
    )
    facts = Facts(packet, said.get("arriving"), Recollection(names("called")), said.get("leaving"), moment)
    relation = next((m for m in more if m in [r.value for r in Relation]), "opening" if packet.opening else "none")
    facts.relation = Relation(relation)
    return facts


def table_of(rule: str) -> Table:
    learned = rule.endswith("# learned")
    text = FILE.replace("RULE", f"{{{rule.removesuffix('  # learned')}}}").replace("MODE", "learned" if learned else "resolved")
    reading = mc.read_bytes(text.encode(), "t.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    return mc.Plan(reading.network).device("r").read_list("l")


@pytest.mark.parametrize("rule, words, met", CASES, ids=range(len(CASES)))
def test_a_rule_is_met_by_what_it_says(rule: str, words: str, met: bool) -> None:
    table, facts = table_of(rule), facts_of(words)
    found = table.first(facts)
    assert (found is not None) is met, rule
    misses = list(table.rows[0].misses(facts))
    assert bool(misses) is not met
    if not met:  # the first reason names what is really different
        assert misses[0].key in (*rule.replace(":", " ").split(), "protocol", "service", "disabled", "icmp")


def test_there_are_enough_cases_of_both_families_and_both_answers() -> None:
    assert len(CASES) >= 150
    assert sum("2001:db8" in words for _, words, _ in CASES) >= 25
    assert sum(met for _, _, met in CASES) >= 60
    assert sum(not met for _, _, met in CASES) >= 60
