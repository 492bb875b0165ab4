"""Tunnels agree with the operating system's VXLAN: what goes in, how long the outer packets are, and what does not arrive.

The kernel that runs here may lack other kinds of tunnels; those are held to their RFCs by tables of cases (``tests/test_tunnels.py``).
"""

from __future__ import annotations

import os
import random
import socket
import subprocess
from collections.abc import Iterator
from contextlib import ExitStack

import pytest

import mossy_compass as mc
from tests.agreement import kernel

REASON = kernel.why_not()


def _no_vxlan() -> str:
    """Why the kernel makes no VXLAN; empty where it does."""
    if REASON:
        return REASON
    name = f"m{os.getpid()}v"
    subprocess.run(["ip", "netns", "add", name], check=True)
    done = subprocess.run(
        ["ip", "-n", name, "link", "add", "v", "type", "vxlan", "id", "1", "dstport", "4789"], capture_output=True
    )
    subprocess.run(["ip", "netns", "del", name], check=True)
    return "the kernel has no VXLAN" if done.returncode else ""


NO_VXLAN = _no_vxlan()
pytestmark = pytest.mark.skipif(bool(NO_VXLAN), reason=NO_VXLAN)
IP_MTU_DISCOVER, IP_PMTUDISC_DO, ETH_P_IP = 10, 2, 0x0800

TWIN = """\
mossy-network: 1
devices:
  one:
    kind: router
    interfaces:
      up: 192.0.2.2/30
      vx: {address: 10.47.0.1/30, tunnel: {to: 198.51.100.2, by: up, kind: vxlan}}
    routes: [{prefix: default, next-hop: 192.0.2.1}]
  mid: {kind: router, interfaces: {a: 192.0.2.1/30, b: 198.51.100.1/30}, routes: [#MIDDLE]}
  two:
    kind: router
    interfaces:
      up: 198.51.100.2/30
      vx: {address: 10.47.0.2/30, tunnel: {to: 192.0.2.2, by: up, kind: vxlan}}
    routes: [{prefix: default, next-hop: 198.51.100.1}]
segments: {left: [one/up, mid/a], right: [mid/b, two/up]}
"""


class Three:
    """Two ends of a tunnel, and a router between them, in namespaces."""

    def __init__(self, stack: ExitStack) -> None:
        self.names = {n: f"m{os.getpid()}{n}" for n in ("one", "mid", "two")}
        for name in self.names.values():
            subprocess.run(["ip", "netns", "add", name], check=True)
            stack.callback(subprocess.run, ["ip", "netns", "del", name], check=False)
        one, mid, two = self.names.values()
        kernel.batch(
            [
                f"link add e0 netns {one} type veth peer name w0 netns {mid}",
                f"link add e0 netns {two} type veth peer name w1 netns {mid}",
            ]
        )
        ends = (
            (one, "192.0.2.2", "192.0.2.1", "198.51.100.2", "10.47.0.1"),
            (two, "198.51.100.2", "198.51.100.1", "192.0.2.2", "10.47.0.2"),
        )
        for name, own, hop, peer, inner in ends:
            kernel.batch(
                [
                    "link set lo up", f"addr add {own}/30 dev e0", "link set e0 up", f"route add default via {hop}",
                    f"link add vx type vxlan id 7 local {own} remote {peer} dstport 4789 dev e0", f"addr add {inner}/30 dev vx", "link set vx up",
                ],
                name,
            )  # fmt: skip
        kernel.batch(["addr add 192.0.2.1/30 dev w0", "addr add 198.51.100.1/30 dev w1", "link set w0 up", "link set w1 up"], mid)
        kernel.sysctl(mid, {"ipv4/ip_forward": "1"})
        with kernel.inside(two):
            self.target = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            self.target.bind(("10.47.0.2", 4000))
            self.target.settimeout(2)
        with kernel.inside(mid):
            self.wire = socket.socket(socket.AF_PACKET, socket.SOCK_DGRAM, socket.htons(ETH_P_IP))
            self.wire.bind(("w0", ETH_P_IP))
            self.wire.settimeout(3)  # what is too large is refused at once, so nobody waits for nothing
        with kernel.inside(one):
            self.sender = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            self.sender.setsockopt(socket.IPPROTO_IP, IP_MTU_DISCOVER, IP_PMTUDISC_DO)
        for made in (self.target, self.wire, self.sender):
            stack.callback(made.close)

    def send(self, size: int) -> tuple[bool, tuple[int, int] | None]:
        """An inner packet of so many bytes: whether it arrives, and the length and destination port of the outer one."""
        try:
            self.sender.sendto(bytes(size - 28), ("10.47.0.2", 4000))
        except OSError:
            return False, None
        seen = None
        try:
            while seen is None:
                data = self.wire.recv(4096)
                length, protocol = int.from_bytes(data[2:4], "big"), data[9]
                inner = data[50:]  # after the headers of IP, UDP, VXLAN and the frame: neighbours are asked for in the same way
                if (
                    protocol == 17
                    and data[12:16] == bytes((192, 0, 2, 2))
                    and inner[9:10] == b"\x11"
                    and inner[16:20] == bytes((10, 47, 0, 2))
                ):
                    seen = length, int.from_bytes(data[22:24], "big")
            self.target.recv(4096)
        except TimeoutError:
            return False, seen
        return True, seen

    def blackhole(self, on: bool) -> None:
        """Let the router between throw away what is for the second end, or not."""
        kernel.batch([f"route {'add' if on else 'del'} blackhole 198.51.100.2/32"], self.names["mid"])


@pytest.fixture(scope="module")
def three() -> Iterator[Three]:
    with ExitStack() as stack:
        yield Three(stack)


def test_sizes_agree(three: Three) -> None:
    network = mc.read_bytes(TWIN.replace("#MIDDLE", "").encode(), "t.yaml").network
    assert network is not None
    plan, chance = mc.Plan(network), random.Random(5)
    assert any(three.send(100)[0] for _ in range(5))  # neighbours are found
    for size in (64, 1449, 1450, 1451, 1500, *(chance.randrange(64, 1500) for _ in range(40))):
        arrives, seen = three.send(size)
        journey = mc.trace(plan, "one", "10.47.0.2", "udp/4000", size=size)
        outer = journey.there.hops[0].outer
        assert (journey.cause == "mtu.exceeded") == (not arrives and seen is None), size
        assert (outer is None) == (seen is None), size
        if seen is not None and outer is not None:
            assert (outer.packet.size, outer.packet.to_port) == seen


def test_what_is_thrown_away_between_does_not_arrive(three: Three) -> None:
    lost = mc.read_bytes(TWIN.replace("#MIDDLE", "{prefix: 198.51.100.2/32, action: discard}").encode(), "t.yaml").network
    assert lost is not None
    assert any(three.send(100)[0] for _ in range(5))  # neighbours are found
    three.blackhole(True)
    try:
        arrives, seen = three.send(200)
    finally:
        three.blackhole(False)
    journey = mc.trace(lost, "one", "10.47.0.2", "udp/4000", size=200)
    assert not arrives
    assert seen is not None
    assert (journey.cause, journey.deciding.end) == ("route.discard", "mid")
    assert three.send(200)[0]
