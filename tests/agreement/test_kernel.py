"""Route lookups and real packets agree with the operating system's own forwarding, on random networks.

Each network is built twice from the same random numbers: as a model of ours, and as namespaces joined by veth
pairs, a real router in each. Skipped, with the reason, where namespaces are not permitted.
"""

from __future__ import annotations

import os
import random
import socket
import struct
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pytest

import mossy_compass as mc
from mossy_compass.model.network import RouteAction
from mossy_compass.packet.address import Address
from tests.agreement import kernel
from tests.effort import seeds

REASON = kernel.why_not()
pytestmark = pytest.mark.skipif(bool(REASON), reason=REASON)
ROUTERS = 5


class Twin:
    """One random network in both worlds."""

    def __init__(self, seed: int, shared: bool) -> None:
        self.chance = chance = random.Random(seed)
        self.tag = f"m{os.getpid()}s{seed}"
        self.ports: dict[int, list[dict[str, Any]]] = {n: [] for n in range(ROUTERS)}
        self.routes: dict[int, list[dict[str, Any]]] = {n: [] for n in range(ROUTERS)}
        pairs = [(n, chance.randrange(n)) for n in range(1, ROUTERS)]
        pairs += [tuple(chance.sample(range(ROUTERS), 2)) for _ in range(3)]  # type: ignore[misc]
        for number, (a, b) in enumerate(pairs):
            length = chance.choice((24, 29, 30))
            for end, host in ((a, 1), (b, 2)):
                self.ports[end].append(
                    {
                        "name": f"e{number}",
                        "link": number,
                        "v4": f"10.64.{number}.{host}",
                        "v6": f"2001:db8:64:{number:x}::{host}",
                        "length": length,
                        "peer4": f"10.64.{number}.{3 - host}",
                        "peer6": f"2001:db8:64:{number:x}::{3 - host:x}",
                    }
                )
        self.links = pairs
        for router in range(ROUTERS):
            seen = set()
            for _ in range(14):
                six = chance.random() < 0.35
                length = (
                    chance.choice((0, 8, 12, 16, 20, 24, 25, 28, 32))
                    if not six
                    else chance.choice((0, 32, 40, 48, 56, 64, 96, 128))
                )
                prefix = self.prefix(length, six)
                metric = chance.choice((10, 20, 30)) + (1000 if six else 0)  # the kernel's own IPv6 routes have 256
                if (prefix, metric) in seen:
                    continue
                seen.add((prefix, metric))
                kind = chance.choices(("forward", "discard", "unreachable"), (8, 1, 1))[0]
                # several interfaces may lead to one neighbour; as ways of one route they still differ
                count = chance.choice((1, 1, 2, 3)) if shared else 1
                ways = chance.sample(self.ports[router], min(count, len(self.ports[router]))) if kind == "forward" else []
                self.routes[router].append({"prefix": prefix, "metric": metric, "kind": kind, "ways": ways, "six": six})

    def prefix(self, length: int, six: bool) -> str:
        value = self.address(six)
        if six and length > 64:  # the kernel refuses a way whose next hop such a route would cover
            value = Address(6, value.value | 1 << 80)
        bits = 128 if six else 32
        family = 6 if six else 4
        return str(mc.Prefix(family, value.value >> (bits - length) << (bits - length), length))

    def address(self, six: bool) -> Address:
        """A random address, most often near something that the network has."""
        chance = self.chance
        if six:
            base = (0x20010DB8 << 96) | (chance.choice((0x64, 0x65)) << 80) | (chance.randrange(12) << 64)
            return Address(6, base | chance.choice((0, 1, 2, 3, chance.getrandbits(64))))
        third = chance.randrange(12)
        return Address(
            4,
            (10 << 24)
            | (chance.choice((64, 64, 65, 80)) << 16)
            | (third << 8)
            | chance.choice((0, 1, 2, 3, chance.randrange(256))),
        )

    def model(self, six: bool = False) -> mc.Plan:
        b = mc.Builder("twin")
        for router in range(ROUTERS):
            ports: dict[str, Any] = {
                p["name"]: {"address": [f"{p['v4']}/{p['length']}", f"{p['v6']}/64"]} for p in self.ports[router]
            }
            ports["anchor"] = {"address": [f"10.99.0.{router}/32", f"2001:db8:99::{router + 1:x}/128"], "loopback": True}
            routes: list[dict[str, Any]] = []
            for r in self.routes[router]:
                if r["kind"] != "forward":
                    routes.append({"prefix": r["prefix"], "metric": r["metric"], "action": r["kind"]})
                for way in r["ways"]:
                    hop = way["peer6"] if r["six"] else way["peer4"]
                    routes.append({"prefix": r["prefix"], "metric": r["metric"], "next-hop": hop, "leaving": way["name"]})
            # this kernel takes the arriving interface's address for errors over IPv6, as RFC 4443 2.2 (d) allows
            settings = {"sends-unreachable": "yes", "sends-time-exceeded": "yes", "error-source": "arriving" if six else "leaving"}
            b.router(f"r{router}", routes=routes, keys={"settings": settings}, **ports)
        for number, (one, other) in enumerate(self.links):
            b.segment(f"l{number}", f"r{one}/e{number}", f"r{other}/e{number}")
        return mc.Plan(b.finish())

    def space(self, router: int) -> str:
        return f"{self.tag}r{router}"

    @contextmanager
    def real(self) -> Iterator[None]:
        names = [self.space(r) for r in range(ROUTERS)]
        try:
            for name in names:
                subprocess.run(["ip", "netns", "add", name], check=True, capture_output=True)
                ipv6 = {"ipv6/icmp/ratelimit": "0", "ipv6/conf/default/accept_dad": "0", "ipv6/conf/all/forwarding": "1"}
                quick = {
                    "ipv4/icmp_msgs_per_sec": "100000",
                    "ipv4/icmp_msgs_burst": "10000",
                    "ipv4/icmp_ratelimit": "0",
                    "ipv4/icmp_ratemask": "0",
                    "ipv4/conf/all/rp_filter": "0",
                    "ipv4/conf/default/rp_filter": "0",
                }
                kernel.sysctl(name, {"ipv4/ip_forward": "1", **quick, **ipv6})
            for number, (one, other) in enumerate(self.links):
                kernel.batch(
                    [f"link add {self.tag}a type veth peer name {self.tag}b"]
                    + [f"link set {self.tag}{x} netns {self.space(r)} name e{number}" for x, r in (("a", one), ("b", other))]
                )
            for router, name in enumerate(names):
                lines = [
                    "link set lo up",
                    f"addr add 10.99.0.{router}/32 dev lo",
                    f"addr add 2001:db8:99::{router + 1:x}/128 dev lo nodad",
                ]
                for p in self.ports[router]:
                    lines += [
                        f"link set {p['name']} up",
                        f"addr add {p['v4']}/{p['length']} dev {p['name']}",
                        f"addr add {p['v6']}/64 dev {p['name']} nodad",
                    ]
                kernel.batch(lines, name)
            for router, name in enumerate(names):
                kernel.batch([self.command(r) for r in self.routes[router]], name)
            yield
        finally:
            for name in names:
                subprocess.run(["ip", "netns", "del", name], capture_output=True)

    def command(self, r: dict[str, Any]) -> str:
        word = {"forward": "", "discard": "blackhole ", "unreachable": "unreachable "}[r["kind"]]
        family = "-6 " if r["six"] else ""
        ways = [f"via {w['peer6'] if r['six'] else w['peer4']} dev {w['name']} onlink" for w in r["ways"]]
        tail = ways[0] if len(ways) == 1 else " ".join(f"nexthop {w}" for w in ways)
        return f"{family}route add {word}{r['prefix']} metric {r['metric']} {tail}".replace("-6 ", "", 1)


def ours(plan: mc.Plan, router: int, address: Address) -> kernel.Found:
    route = plan.device(f"r{router}").table.lookup(address)
    if route is None:
        return kernel.Found("none", 0, frozenset())
    if route.action is RouteAction.LOCAL:
        return kernel.Found("local", route.prefix.length, frozenset())
    if route.action is not RouteAction.FORWARD:
        return kernel.Found(route.action.value, 0, frozenset())
    return kernel.Found(
        "forward", route.prefix.length, frozenset((h.interface, str(h.address) if h.address else None) for h in route.hops)
    )


@pytest.mark.parametrize("seed", seeds(0, 3, 12))
def test_lookups(seed: int) -> None:
    """600 destinations at each of 5 routers: kind of route, prefix length, and the whole set of equal ways."""
    twin = Twin(seed, shared=True)
    plan = twin.model()
    asked = 0
    with twin.real():
        for router in range(ROUTERS):
            asker = kernel.Asker(twin.space(router))
            for _ in range(600):
                address = twin.address(twin.chance.random() < 0.35)
                real = asker.ask(str(address))
                mine = ours(plan, router, address)
                if real.kind in ("broadcast", "anycast"):  # a subnet's own two ends, which the model leaves out
                    continue
                if real.kind in ("local", "discard", "unreachable", "none"):
                    assert mine.kind == real.kind, (seed, router, str(address), mine, real)
                else:
                    assert mine == real, (seed, router, str(address), mine, real)
                asked += 1
            asker.close()
    assert asked > 2500


def error_of(sock: socket.socket) -> tuple[int, int, str] | None:
    """ICMP type, code and the answering address, from a socket's error queue (Linux, ip(7))."""
    try:
        _, controls, _, _ = sock.recvmsg(512, 512, socket.MSG_ERRQUEUE)
    except BlockingIOError:
        return None
    for level, kind, data in controls:
        if (level, kind) in ((socket.IPPROTO_IP, IP_RECVERR), (socket.IPPROTO_IPV6, IPV6_RECVERR)):
            _, origin, icmp_type, code = struct.unpack_from("IBBB", data)
            if origin == 2:
                return icmp_type, code, socket.inet_ntoa(data[20:24])
            if origin == 3:
                return icmp_type, code, socket.inet_ntop(socket.AF_INET6, data[24:40])
    return None


IP_RECVERR, IPV6_RECVERR = 11, 25


def pairs(six: bool, *counts: int) -> list[Any]:
    """Seeds for one family."""
    return [pytest.param(six, p.values[0], marks=p.marks) for p in seeds(*counts)]


@pytest.mark.parametrize("six, seed", [*pairs(False, 20, 1, 8), *pairs(True, 30, 1, 6)])
def test_packets(six: bool, seed: int) -> None:
    """Real UDP packets to closed ports with small and large TTL: what comes back, and from which address."""
    twin = Twin(seed, shared=False)
    for router in range(ROUTERS):
        twin.routes[router] = [r for r in twin.routes[router] if r["six"] == six]
    # every router learns a way to every anchor, so that most answers find their way home
    for router in range(ROUTERS):
        for other in range(ROUTERS):
            if other != router:
                way = twin.chance.choice(twin.ports[router])
                prefix = f"2001:db8:99::{other + 1:x}/128" if six else f"10.99.0.{other}/32"
                twin.routes[router].append({"prefix": prefix, "metric": 5, "kind": "forward", "ways": [way], "six": six})
    plan = twin.model(six)
    probes = []
    for number in range(160):
        router = twin.chance.randrange(ROUTERS)
        own = [p["v6" if six else "v4"] for r in range(ROUTERS) for p in twin.ports[r]]
        own += [f"2001:db8:99::{r + 1:x}" if six else f"10.99.0.{r}" for r in range(ROUTERS)]
        third = twin.chance.randrange(12)
        nowhere = f"2001:db8:65:{third:x}::9" if six else f"10.80.{third}.9"
        target = twin.chance.choice(own) if twin.chance.random() < 0.7 else nowhere
        probes.append((router, target, twin.chance.choice((1, 2, 3, 64)), 40000 + number))
    wanted = {probe: mc.trace(plan, f"r{probe[0]}", probe[1], "udp/33434", ttl=probe[2], source_port=probe[3]) for probe in probes}
    wanted = {p: j for p, j in wanted.items() if j.there.cause != "neighbour.silent"}  # the kernel takes seconds for those
    compared = 0
    with twin.real():
        left = list(wanted)
        for _ in range(6):
            again = []
            for probe, refused, real in send_all(twin, left):
                journey = wanted[probe]
                told = journey.back.packet if journey.back is not None and journey.back.fate == "delivered" else None
                mine = (told.icmp >> 8, told.icmp & 255, str(told.source)) if told is not None and told.icmp >= 0 else None
                if refused:
                    assert journey.symptom in ("unreachable", "silence"), (seed, probe, refused, journey.cause)
                    assert len(journey.there.hops) == 1
                elif real is None and mine is not None:
                    again.append(probe)  # late, lost, or held back: one unreachable a second to each source
                    continue
                else:
                    assert mine == real, (seed, probe, mine, real, journey.cause, [h.device for h in journey.there.hops])
                compared += 1
            left = again
            if not left:
                break
    assert compared > 90
    assert all(wanted[p].there.cause.startswith("route") for p in left), [(p, wanted[p].cause) for p in left]
    assert len(left) < 20, [(p, wanted[p].cause) for p in left]


@pytest.mark.parametrize("seed", [40, 41, 42])
def test_errors_over_several_equal_ways_home(seed: int) -> None:
    """Whose address an ICMP error has where the way home is shared: that of the way which it takes (error-source: leaving).

    The kernel and the model need not take the same of the equal ways; each one's address must be that of an equal way.
    """
    twin = Twin(seed, shared=False)
    for router in range(ROUTERS):
        twin.routes[router] = [r for r in twin.routes[router] if not r["six"]]
        for other in range(ROUTERS):
            if other != router:
                ways = twin.chance.sample(twin.ports[router], min(2, len(twin.ports[router])))
                twin.routes[router].append(
                    {"prefix": f"10.99.0.{other}/32", "metric": 5, "kind": "forward", "ways": ways, "six": False}
                )
    plan = twin.model()
    probes, wanted = [], {}
    for number in range(120):
        router = twin.chance.randrange(ROUTERS)
        target = f"10.80.{twin.chance.randrange(12)}.9"
        probe = (router, target, twin.chance.choice((1, 2, 3)), 41000 + number)
        journey = mc.trace(plan, f"r{router}", target, "udp/33434", ttl=probe[2], source_port=probe[3], source=f"10.99.0.{router}")
        error = next((leg for leg in journey.legs if leg.parent == 0 and leg.way == "error"), None)
        if error is not None and journey.there.cause != "neighbour.silent":
            probes.append(probe)
            wanted[probe] = error
    compared = several = 0
    with twin.real():
        for probe, _, real in send_all(twin, probes, anchored=True):
            error = wanted[probe]
            here = int(error.hops[0].device[1:])
            address = {p["name"]: p["v4"] for p in twin.ports[here]}
            route = plan.device(error.hops[0].device).table.lookup(error.packet.destination)
            assert route is not None
            equal = {address[h.interface] for h in route.hops if h.interface in address}
            if error.hops[0].leaving in address:
                assert str(error.packet.source) == address[error.hops[0].leaving], (seed, probe)
            assert str(error.packet.source) in equal
            if real is not None:
                assert real[2] in equal, (seed, probe, real, equal)
                compared += 1
                several += len(equal) > 1
    assert compared > 10
    assert several > 5


Probe = tuple[int, str, int, int]


def send_all(twin: Twin, probes: list[Probe], anchored: bool = False) -> list[tuple[Probe, str, tuple[int, int, str] | None]]:
    """Send probes (router, target, TTL, source port) and gather what the sender is told, locally or by ICMP."""
    sent = []
    for router, target, ttl, port in probes:
        six = ":" in target
        with kernel.inside(twin.space(router)):
            sock = socket.socket(socket.AF_INET6 if six else socket.AF_INET, socket.SOCK_DGRAM)
        sock.setblocking(False)
        sock.setsockopt(*((socket.IPPROTO_IPV6, IPV6_RECVERR) if six else (socket.IPPROTO_IP, IP_RECVERR)), 1)
        sock.setsockopt(*((socket.IPPROTO_IPV6, socket.IPV6_UNICAST_HOPS) if six else (socket.IPPROTO_IP, socket.IP_TTL)), ttl)
        sock.bind((f"10.99.0.{router}" if anchored else "", port))
        refused = ""
        try:
            sock.sendto(b"x" * 8, (target, 33434))
        except OSError as fault:
            refused = os.strerror(fault.errno or 0)
        sent.append((sock, refused))
    time.sleep(1.1)
    out = []
    for probe, (sock, refused) in zip(probes, sent, strict=True):
        out.append((probe, refused, error_of(sock)))
        sock.close()
    return out
