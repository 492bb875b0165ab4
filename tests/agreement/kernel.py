"""Routers in network namespaces, and their forwarding asked over netlink: the operating system as the judge.

A lookup is one RTM_GETROUTE message with the flag that asks for the matched route itself, all next hops included.
"""

from __future__ import annotations

import ctypes
import errno
import os
import shutil
import socket
import struct
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

RTM_GETROUTE, NLM_F_REQUEST, NLMSG_ERROR = 26, 1, 2
RTM_F_FIB_MATCH = 0x2000
RTA_DST, RTA_SRC, RTA_IIF, RTA_OIF, RTA_GATEWAY, RTA_MULTIPATH, RTA_VIA = 1, 2, 3, 4, 5, 9, 18
RTA_IP_PROTO, RTA_SPORT, RTA_DPORT = 27, 28, 29
KINDS = {1: "forward", 2: "local", 3: "broadcast", 4: "anycast", 6: "discard", 7: "unreachable"}
ERRORS = {errno.ENETUNREACH: "none", errno.EINVAL: "discard", errno.EHOSTUNREACH: "unreachable"}


def why_not() -> str:
    """Why namespaces cannot be had here; empty when they can."""
    if os.geteuid() != 0:
        return "network namespaces need root"
    if shutil.which("ip") is None:
        return "network namespaces need iproute2"
    name = f"mossy-try-{os.getpid()}"
    if subprocess.run(["ip", "netns", "add", name], capture_output=True).returncode:
        return "network namespaces are not permitted here"
    subprocess.run(["ip", "netns", "del", name], check=True)
    return ""


def batch(lines: Sequence[str], namespace: str | None = None) -> None:
    """Run many ip commands at once."""
    command = ["ip", *(["-n", namespace] if namespace else []), "-batch", "-"]
    done = subprocess.run(command, input="\n".join(lines) + "\n", text=True, capture_output=True)
    assert done.returncode == 0, f"{namespace}: {done.stderr}\n" + "\n".join(lines)


@contextmanager
def inside(namespace: str) -> Iterator[None]:
    """This thread within a namespace; a socket that is made there stays there."""
    libc = ctypes.CDLL(None, use_errno=True)
    with open("/proc/self/ns/net") as home, open(f"/var/run/netns/{namespace}") as there:
        if libc.setns(there.fileno(), 0x40000000):
            raise OSError(ctypes.get_errno(), "setns")
        try:
            yield
        finally:
            libc.setns(home.fileno(), 0x40000000)


@dataclass(frozen=True)
class Found:
    """What the kernel would do: its kind of route, and every way out (interface, gateway)."""

    kind: str
    length: int
    ways: frozenset[tuple[str, str | None]]


class Asker:
    """A netlink socket in one namespace."""

    def __init__(self, namespace: str) -> None:
        with inside(namespace):
            self.socket = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, 0)
            self.socket.bind((0, 0))
            self.names = dict(socket.if_nameindex())
        self.count = 0

    def close(self) -> None:
        self.socket.close()

    def ask(self, address: str, source: str = "", arriving: str = "", service: tuple[int, int] | None = None) -> Found:
        """Look one destination up; for a packet that passes through, with its source, its interface, and protocol and port."""
        family = socket.AF_INET6 if ":" in address else socket.AF_INET
        packed = socket.inet_pton(family, address)
        self.count += 1
        attribute = struct.pack("HH", 4 + len(packed), RTA_DST) + packed
        if source:
            attribute += struct.pack("HH", 4 + len(packed), RTA_SRC) + socket.inet_pton(family, source)
        if arriving:
            number = next(n for n, name in self.names.items() if name == arriving)
            attribute += struct.pack("HHI", 8, RTA_IIF, number)
        if service is not None:
            attribute += struct.pack("HHB3x", 5, RTA_IP_PROTO, service[0])
            attribute += struct.pack("HH", 6, RTA_SPORT) + struct.pack("!H2x", 40000)
            attribute += struct.pack("HH", 6, RTA_DPORT) + struct.pack("!H2x", service[1])
        lengths = len(packed) * 8, len(packed) * 8 if source else 0
        body = struct.pack("BBBBBBBBI", family, *lengths, 0, 0, 0, 0, 0, RTM_F_FIB_MATCH) + attribute
        self.socket.send(struct.pack("IHHII", 16 + len(body), RTM_GETROUTE, NLM_F_REQUEST, self.count, 0) + body)
        data = self.socket.recv(65536)
        _, kind, _, _, _ = struct.unpack_from("IHHII", data)
        if kind == NLMSG_ERROR:
            code = -struct.unpack_from("i", data, 16)[0]
            return Found(ERRORS[code], 0, frozenset())
        length, route_type = data[17], data[23]
        ways: list[tuple[str, str | None]] = []
        single: dict[str, object] = {}
        for attribute_type, value in attributes(data[28:]):
            if attribute_type == RTA_OIF:
                single["oif"] = struct.unpack("I", value)[0]
            elif attribute_type == RTA_GATEWAY:
                single["gateway"] = socket.inet_ntop(family, value)
            elif attribute_type == RTA_MULTIPATH:
                while value:
                    size, _, _, index = struct.unpack_from("HBBi", value)
                    inner = dict(attributes(value[8:size]))
                    gateway = socket.inet_ntop(family, inner[RTA_GATEWAY]) if RTA_GATEWAY in inner else None
                    ways.append((self.names[index], gateway))
                    value = value[(size + 3) & ~3 :]
        if not ways and "oif" in single:
            ways = [(self.names[int(str(single["oif"]))], str(single["gateway"]) if "gateway" in single else None)]
        return Found(KINDS[route_type], length, frozenset(ways))


def attributes(data: bytes) -> Iterator[tuple[int, bytes]]:
    """The attributes of a netlink message."""
    while len(data) >= 4:
        size, kind = struct.unpack_from("HH", data)
        yield kind & 0x3FFF, data[4:size]
        data = data[(size + 3) & ~3 :]


def sysctl(namespace: str, settings: dict[str, str]) -> None:
    """Write kernel settings of a namespace."""
    with inside(namespace):
        for name, value in settings.items():
            path = Path("/proc/sys/net") / name
            if path.exists():
                path.write_text(value)
