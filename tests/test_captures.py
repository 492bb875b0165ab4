"""Captures: what is written is read by another program without a complaint, and what is read comes back as questions."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import subprocess
from pathlib import Path

import pytest
from click.testing import CliRunner, Result
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.cli.main import main
from mossy_compass.exchange.captures import capture, packed, packets_of
from mossy_compass.lab.observed import flows_of
from mossy_compass.packet.packet import TCP_FLAGS, Packet, echo_request, icmp_error, later_fragment
from tests.test_associations import behind
from tests.test_associations import read as agreeing
from tests.test_tunnels import ROUTED
from tests.test_tunnels import load as tunnelled

from .conftest import DATA
from .effort import examples

FOUR, SIX = mc.parse_address("10.40.1.10"), mc.parse_address("2001:db8:40::10")
FAR, FAR6 = mc.parse_address("203.0.113.80"), mc.parse_address("2001:db8:80::80")
CASES = [
    ("kiosk-1", "almanac", "https", {}),
    ("lab-bench", "almanac", "ping", {}),
    ("lab-bench", "almanac", "udp/9", {}),
    ("almanac", "catalogue", "https", {"family": 6}),
    ("lab-bench", "almanac", "udp/53", {"size": 900}),
    ("tablet", "ledger", "ssh", {}),
    ("lab-bench", "almanac", "gre", {}),
    ("kiosk-1", "almanac", "https", {"ttl": 2}),
]


def journey_of(plan: mc.Plan, case: tuple[str, str, str, dict[str, int]]) -> mc.Journey:
    sender, target, service, options = case
    return mc.trace(plan, sender, target, service, **options)  # type: ignore[arg-type]


@pytest.mark.parametrize("case", CASES, ids=lambda c: " ".join(map(str, c)))
def test_what_is_written_is_read_again(demo: mc.Plan, case: tuple[str, str, str, dict[str, int]]) -> None:
    journey = journey_of(demo, case)
    read = packets_of(capture([journey]), "x.pcapng")
    assert read.others == 0
    assert read.packets[0][:3] == journey.there.packet[:3]
    passed = [leg.came_to(n) for leg in journey.every_leg for n, h in enumerate(leg.hops) if h.arriving is not None]
    wanted = {(p.source, p.destination, p.protocol, p.ttl, p.icmp, p.flags) for p in passed}
    found = {(p.source, p.destination, p.protocol, p.ttl, p.icmp, p.flags) for p in read.packets}
    assert wanted <= found


def tshark(file: Path, *arguments: str) -> str:
    """What tshark says of a capture."""
    if shutil.which("tshark") is None:
        if os.environ.get("MOSSY_NEEDS_TSHARK"):
            pytest.fail("tshark is not installed, and must be here")
        pytest.skip("tshark is not installed")
    checks = [w for p in ("ip", "tcp", "udp") for w in ("-o", f"{p}.check_checksum:TRUE")]
    done = subprocess.run(["tshark", "-r", str(file), *checks, *arguments], capture_output=True, text=True, check=True)
    return done.stdout


@pytest.mark.parametrize("case", CASES, ids=lambda c: " ".join(map(str, c)))
def test_another_program_reads_it_without_a_complaint(
    demo: mc.Plan, case: tuple[str, str, str, dict[str, int]], tmp_path: Path
) -> None:
    journey = journey_of(demo, case)
    file = tmp_path / "way.pcapng"
    file.write_bytes(capture([journey]))
    bad = " || ".join(f"{p}.checksum.status == 0" for p in ("ip", "tcp", "udp", "icmp", "icmpv6"))
    assert tshark(file, "-Y", f"_ws.malformed || {bad}") == ""
    fields = [
        "frame.interface_name",
        "ip.src",
        "ip.dst",
        "ip.ttl",
        "ip.proto",
        "tcp.srcport",
        "tcp.dstport",
        "udp.dstport",
        "ip.len",
    ]
    shown = tshark(file, "-T", "fields", *(w for f in fields for w in ("-e", f)), "-E", "occurrence=f").splitlines()
    assert len(shown) == len(packets_of(file.read_bytes(), "x").packets)
    first = dict(zip(fields, shown[0].split("\t"), strict=True))
    sent = journey.there.packet
    assert first["frame.interface_name"] == f"{journey.there.hops[0].device}/{journey.there.hops[0].leaving}"
    if sent.source.family == 4:
        assert (first["ip.src"], first["ip.dst"], first["ip.ttl"]) == (str(sent.source), str(sent.destination), str(sent.ttl))
        assert (first["ip.proto"], first["ip.len"]) == (str(sent.protocol), str(sent.size))
    if sent.protocol == 6:
        assert (first["tcp.srcport"], first["tcp.dstport"]) == (str(sent.from_port), str(sent.to_port))
    if sent.protocol == 17:
        assert first["udp.dstport"] == str(sent.to_port)
    comments = tshark(file, "-T", "fields", "-e", "frame.comment")
    assert journey.deciding.because.words.split(" (")[0].split(",")[0] in comments


addresses = st.sampled_from([(FOUR, FAR), (SIX, FAR6)])


@st.composite
def packets(draw: st.DrawFn) -> Packet:
    source, destination = draw(addresses)
    kind = draw(st.sampled_from(["tcp", "udp", "sctp", "ping", "gre", "error", "piece"]))
    ports = draw(st.integers(1, 65535)), draw(st.integers(1, 65535))
    ttl, size = draw(st.integers(1, 255)), draw(st.integers(80, 1500))
    tcp = Packet(6, source, destination, *ports, -1, draw(st.sampled_from(TCP_FLAGS)), ttl, size)
    if kind == "tcp":
        return tcp
    if kind in ("udp", "sctp"):
        return Packet(17 if kind == "udp" else 132, source, destination, *ports, ttl=ttl, size=size)
    if kind == "ping":
        return echo_request(source, destination, ports[0])._replace(ttl=ttl, size=size)
    if kind == "gre":
        return Packet(47, source, destination, ttl=ttl, size=size)
    if kind == "error":
        return icmp_error(tcp._replace(size=80), destination, "port-unreachable")
    return later_fragment(Packet(17, source, destination, *ports, ttl=ttl, size=size))


CARRIED = [
    ("gre", {}, "raw:ip:gre:ip:tcp"),
    ("ip-in-ip", {}, "raw:ip:ip:tcp"),
    ("vxlan", {}, "raw:ip:udp:vxlan:eth:ethertype:ip:tcp"),
    ("esp", {}, "raw:ip:esp"),
    ("gre", {"TO": "2001:db8:e::2", "BACK": "2001:db8:f::2"}, "raw:ipv6:gre:ip:tcp"),
    ("ip-in-ip", {"TO": "2001:db8:e::2", "BACK": "2001:db8:f::2"}, "raw:ipv6:ip:tcp"),
]


@pytest.mark.parametrize(("kind", "more", "protocols"), CARRIED)
def test_what_carries_packets_through_a_tunnel_is_captured_too(
    tmp_path: Path, kind: str, more: dict[str, str], protocols: str
) -> None:
    """RFC 2003, RFC 2784, RFC 7348, RFC 4303: as another program reads them, with the size that the model says."""
    journey = mc.trace(tunnelled(ROUTED, {"KIND": kind, "OTHER": kind}, more), "desk", "pot", "https")
    outer = journey.there.hops[1].outer
    assert outer is not None
    file = tmp_path / "x.pcapng"
    file.write_bytes(capture([journey]))
    assert tshark(file, "-Y", "_ws.malformed || ip.checksum.status == 0 || udp.checksum.status == 0") == ""
    rows = [r.split("\t") for r in tshark(file, "-T", "fields", *(w for f in ("frame.interface_name", "frame.protocols", "frame.len", "frame.time_epoch") for w in ("-e", f))).splitlines()]  # fmt: skip
    assert [r[0] for r in rows[:8]] == [
        "desk/nic",
        "gate/house",
        "gate/sister",
        "gate/fibre",
        "world/f",
        "world/g",
        "annex/up",
        "annex/home",
    ]
    assert {(r[1], int(r[2])) for r in rows[3:7]} == {(protocols, outer.packet.size)}
    assert {r[1] for r in (rows[2], rows[7])} == {"raw:ip:tcp"}
    times = [float(r[3]) for r in rows]
    assert times == sorted(times)


def test_pieces_and_errors_about_what_carries_are_captured(tmp_path: Path) -> None:
    file = tmp_path / "x.pcapng"
    narrow = tunnelled(ROUTED, {"MIDDLE": ", mtu: 1400"})
    file.write_bytes(capture([mc.trace(narrow, "desk", "pot", "ping", size=1400)]))
    assert "gate/fibre" in tshark(file, "-Y", "icmp.type == 3 && icmp.code == 4", "-T", "fields", "-e", "frame.interface_name")
    divided = tunnelled(ROUTED, {"MIDDLE": ", mtu: 1400", "SELECTORS": ", df: clear", "MIRRORED": ", df: clear"})
    file.write_bytes(capture([mc.trace(divided, "desk", "pot", "ping", size=1400)]))
    first = tshark(file, "-Y", "ip.flags.mf == 1", "-T", "fields", "-e", "frame.interface_name").split()
    later = tshark(file, "-Y", "ip.frag_offset > 0", "-T", "fields", "-e", "frame.interface_name").split()
    assert (first, later) == (["world/g", "annex/up"], ["annex/up"])
    # put together they are what was sent
    offset, size = tshark(file, "-Y", "ip.frag_offset > 0", "-T", "fields", "-e", "ip.frag_offset", "-e", "ip.len").split()
    assert int(offset) + int(size) == 1424
    flags = tshark(file, "-Y", "ip.proto == 47", "-T", "fields", "-e", "ip.flags.df", "-E", "occurrence=f").split()
    assert set(flags) == {"0"}


def test_an_exchange_of_keys_is_captured_before_what_waits_for_it(tmp_path: Path) -> None:
    file = tmp_path / "x.pcapng"
    file.write_bytes(
        capture(
            [
                mc.trace(
                    agreeing(behind().replace("[annex/up, world/g]", "{members: [annex/up, world/g], latency: 8}")),
                    "desk",
                    "pot",
                    "https",
                )
            ]
        )
    )
    ports = tshark(
        file, "-Y", "udp && !icmp", "-T", "fields", "-e", "frame.interface_name", "-e", "udp.dstport", "-e", "esp.spi"
    ).splitlines()
    times = [float(t) for t in tshark(file, "-T", "fields", "-e", "frame.time_epoch").split()]
    assert times == sorted(times)
    at_annex = [p.split("\t")[1:] for p in ports if p.startswith("annex/up")]
    assert at_annex[:5] == [["500", ""], ["500", ""], ["4500", ""], ["4500", ""], ["4500", "0x00000001"]]


@examples(80, 600)
@given(packets())
def test_packed_and_unpacked_a_packet_is_the_same(packet: Packet) -> None:
    data = packed(packet)
    (read,) = packets_of(_one(data), "x").packets
    assert read[:3] == packet[:3]
    assert (read.from_port, read.to_port, read.icmp, read.flags) == (packet.from_port, packet.to_port, packet.icmp, packet.flags)
    assert read.ttl == packet.ttl
    assert len(data) == max(packet.size, len(data))
    if packet.quoted is not None:
        assert read.quoted is not None
        assert read.quoted[:5] == packet.quoted[:5]


def _one(data: bytes, link: int = 101) -> bytes:
    """A pcap file of one packet."""
    head = b"\xd4\xc3\xb2\xa1\x02\x00\x04\x00" + bytes(8) + (65535).to_bytes(4, "little") + link.to_bytes(4, "little")
    return head + bytes(8) + len(data).to_bytes(4, "little") * 2 + data


def test_frames_of_several_link_types() -> None:
    data = packed(Packet(6, FOUR, FAR, 1, 2, -1, "SYN"))
    frames = {1: bytes(12) + b"\x08\x00" + data, 101: data, 113: bytes(16) + data, 276: bytes(20) + data, 0: bytes(4) + data}
    for link, frame in frames.items():
        (read,) = packets_of(_one(frame, link), "x").packets
        assert read.to_port == 2
    tagged = bytes(12) + b"\x81\x00\x00\x05\x08\x00" + data
    assert packets_of(_one(tagged, 1), "x").packets[0].to_port == 2
    assert packets_of(_one(bytes(12) + b"\x08\x06" + bytes(28), 1), "x").others == 1  # ARP


@examples(100, 600)
@given(st.data())
def test_a_damaged_capture_is_an_error_or_what_is_left_of_it(demo: mc.Plan, data: st.DataObject) -> None:
    whole = bytearray(capture([mc.trace(demo, "kiosk-1", "almanac", "https")]))
    if data.draw(st.booleans()):
        whole = whole[: data.draw(st.integers(0, len(whole)))]
    for _ in range(data.draw(st.integers(0, 4))):
        if whole:
            whole[data.draw(st.integers(0, len(whole) - 1))] = data.draw(st.integers(0, 255))
    with contextlib.suppress(mc.InputError):  # anything else would reach the user as a traceback
        flows_of(packets_of(bytes(whole), "x.pcapng").packets)


def test_flows_are_told_by_who_asked() -> None:
    syn = Packet(6, FOUR, FAR, 50000, 443, -1, "SYN")
    answer = Packet(6, FAR, FOUR, 443, 50000, -1, "SYN-ACK")
    ask, reply = Packet(17, FOUR, FAR, 50001, 53), Packet(17, FAR, FOUR, 53, 50001)
    found = flows_of([syn, answer, syn._replace(flags="ACK"), ask, reply, ask, echo_request(FOUR, FAR, 9)])
    assert [(str(f.source), f.service) for f in found] == [
        ("10.40.1.10", "tcp/443"),
        ("10.40.1.10", "udp/53"),
        ("10.40.1.10", "ping"),
    ]
    assert [f.packets for f in found] == [3, 3, 1]
    # Where the first packet was not observed, the answer says who asked all the same.
    assert [(str(f.source), f.service) for f in flows_of([answer])] == [("10.40.1.10", "tcp/443")]


def shown(*arguments: str) -> Result:
    return CliRunner().invoke(main, arguments)


def test_the_commands_write_and_ask(tmp_path: Path) -> None:
    file, out = str(DATA / "fernhollow.yaml"), tmp_path / "way.pcapng"
    done = shown("trace", file, "--from", "kiosk-1", "--to", "almanac", "--service", "https", "--capture", str(out))
    assert done.exit_code == 0
    assert out.read_bytes().startswith(b"\x0a\x0d\x0d\x0a")
    asked = shown("flows", file, str(out), "--format", "json")
    made = json.loads(asked.stdout)
    assert made["flows"][0]["service"] == "tcp/443"
    assert made["flows"][0]["passes"]
    assert made["flows"][0]["seen-as"] == "198.51.100.2:49152"
    assert "must end" not in done.stdout
    refused = shown("trace", file, "--from", "kiosk-1", "--to", "almanac", "--capture", str(tmp_path / "way.txt"))
    assert "written as .pcapng" in str(refused.exception)
    other = tmp_path / "notes.pcapng"
    other.write_text("my notes")
    kept = shown("trace", file, "--from", "kiosk-1", "--to", "almanac", "--capture", str(other))
    assert kept.exception is not None
    assert other.read_text() == "my notes"


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("source,destination\n", "names the columns"),
        ("source,destination,service,source\n", "each once"),
        ("source,destination,service\n1.2.3,203.0.113.80,https\n", "x.csv:2"),
        ("source,destination,service\n10.40.32.10,203.0.113.80\n", "2 cells"),
        ("source,destination,service\n10.40.32.10,203.0.113.80,nonsense\n", "x.csv:2"),
        ("source,destination,service,count\n10.40.32.10,203.0.113.80,https,-3\n", "no number"),
        ('source,destination,service\n"10.40.32.10,203.0.113.80,https\n', "x.csv:"),
        ("source,destination,service\n", "no flow in it"),
        ("", "names the columns"),
    ],
)
def test_tables_of_flows_are_read_strictly(text: str, says: str, tmp_path: Path) -> None:
    file = tmp_path / "x.csv"
    file.write_text(text)
    done = shown("flows", str(DATA / "fernhollow.yaml"), str(file))
    assert isinstance(done.exception, mc.InputError)
    assert says in str(done.exception)


def test_a_table_of_flows_is_asked(tmp_path: Path) -> None:
    file = tmp_path / "x.csv"
    file.write_text("source,destination,service,count\n10.40.32.10,203.0.113.80,https,40\n10.9.9.9,203.0.113.80,ping,1\n")
    done = shown("flows", str(DATA / "fernhollow.yaml"), str(file))
    assert done.exit_code == 1
    assert done.stdout.startswith("1 of 2 flows would pass (41 packets observed); 1 cannot be asked here:")
    assert "nobody here has 10.9.9.9" in done.stdout
