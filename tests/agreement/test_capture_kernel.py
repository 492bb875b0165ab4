"""What the operating system really sends, captured by other programs, comes back as the questions that it was."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import struct
import subprocess
import time
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path

import pytest

from mossy_compass.exchange.captures import packets_of
from mossy_compass.lab.observed import flows_of
from mossy_compass.packet.service import protocol_name
from tests.agreement import kernel

REASON = kernel.why_not()
pytestmark = pytest.mark.skipif(bool(REASON), reason=REASON)
PROGRAMS = {"tcpdump": ["tcpdump", "-q", "-U", "--immediate-mode", "-i", "v", "-w"], "dumpcap": ["dumpcap", "-q", "-i", "v", "-w"]}
PORT = 8443


@pytest.fixture
def ends() -> Iterator[tuple[str, str]]:
    """Two namespaces with one cable between them."""
    near, far = f"m{os.getpid()}a", f"m{os.getpid()}b"
    with ExitStack() as stack:
        for name in (near, far):
            subprocess.run(["ip", "netns", "add", name], check=True)
            stack.callback(subprocess.run, ["ip", "netns", "del", name], check=False)
        subprocess.run(["ip", "-n", near, "link", "add", "v", "type", "veth", "peer", "name", "v", "netns", far], check=True)
        for number, name in enumerate((near, far), 1):
            lines = [f"address add 10.40.1.{number}/24 dev v", f"address add 2001:db8:1::{number}/64 dev v nodad"]
            kernel.batch([*lines, "link set v up", "link set lo up"], name)
        yield near, far


def talk(near: str, far: str, family: int) -> None:
    """A connection with a line each way, and a datagram."""
    there = "10.40.1.2" if family == 4 else "2001:db8:1::2"
    kind = socket.AF_INET if family == 4 else socket.AF_INET6
    with kernel.inside(far):
        listening = socket.create_server((there, PORT), family=kind)
    with kernel.inside(near):
        asking = socket.socket(kind)
        asking.settimeout(5)
        asking.bind((there[:-1] + "1", 50_000 + family))
        asking.connect((there, PORT))
        heard = listening.accept()[0]
        heard.settimeout(5)
        asking.sendall(b"seeds\n")
        assert heard.recv(64) == b"seeds\n"
        heard.sendall(b"roots\n")
        assert asking.recv(64) == b"roots\n"
        asking.close()
        heard.close()
        listening.close()
        with socket.socket(kind, socket.SOCK_DGRAM) as told:
            told.sendto(b"leaf", (there, 5683))
        for number in (1, 2):
            _ping(there, family, number)


def _ping(there: str, family: int, number: int) -> None:
    """An echo request with its answer (RFC 792, RFC 4443); of ICMPv6 the kernel reckons the checksum."""
    kind, protocol, asks, answers = (
        (socket.AF_INET, socket.IPPROTO_ICMP, 8, 0) if family == 4 else (socket.AF_INET6, socket.IPPROTO_ICMPV6, 128, 129)
    )
    body = struct.pack("!HH4s", 4711, number, b"moss")
    total = sum(struct.unpack("!5H", struct.pack("!BB", asks, 0) + body))
    check = ~((total & 0xFFFF) + (total >> 16)) & 0xFFFF if family == 4 else 0
    with socket.socket(kind, socket.SOCK_RAW, protocol) as asking:
        asking.settimeout(5)
        asking.sendto(struct.pack("!BBH", asks, 0, check) + body, (there, 0))
        while True:
            heard = asking.recv(200)
            if heard[20 if family == 4 else 0] == answers:
                return


@pytest.mark.parametrize("program", list(PROGRAMS))
def test_what_was_sent_comes_back_as_questions(ends: tuple[str, str], program: str, tmp_path: Path) -> None:
    near, far = ends
    command = PROGRAMS[program]
    if shutil.which(command[0]) is None:
        pytest.skip(f"{command[0]} is not installed")
    file = tmp_path / "seen.pcap"
    running = subprocess.Popen(
        ["ip", "netns", "exec", near, *command, str(file)], stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL
    )
    try:
        until = time.monotonic() + 10
        while (not file.exists() or not file.stat().st_size) and time.monotonic() < until:
            time.sleep(0.05)
        time.sleep(0.3)
        for family in (4, 6):
            talk(near, far, family)
        time.sleep(1.2)  # what the kernel has noted is handed over within a second
    finally:
        running.send_signal(signal.SIGINT)
        running.wait(10)
    read = packets_of(file.read_bytes(), file.name)
    found = {
        (str(f.source), str(f.destination), protocol_name(f.protocol), f.port)
        for f in flows_of(read.packets)
        if not f.destination.special and not f.source.is_link_local
    }
    for one, two in (("10.40.1.1", "10.40.1.2"), ("2001:db8:1::1", "2001:db8:1::2")):
        assert (one, two, "tcp", PORT) in found
        assert (one, two, "udp", 5683) in found
        assert any(f[:3] == (one, two, "icmp" if "." in one else "icmp6") for f in found)
    assert len(found) <= 8  # and the neighbours' own questions of IPv6: nothing is made up, no answer is a question
    assert all(f[3] in (PORT, 5683) or f[2].startswith("icmp") for f in found)
