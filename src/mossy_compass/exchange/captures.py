"""Captures: journeys as pcapng, and the packets of pcap and pcapng files. This file alone knows dpkt.

A captured packet is raw IP: the model knows no link-layer addresses, and invented ones would be taken for real. Headers are whole, with
right checksums; what fills a packet up to its size is zeros.
"""

from __future__ import annotations

import io
import struct
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any, NamedTuple

import dpkt
from dpkt import crc32c, pcap, pcapng

from mossy_compass.errors import InputError
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, TCP, UDP, WITH_PORTS
from mossy_compass.packet.wrapping import VXLAN_PORT
from mossy_compass.plan.plan import Plan
from mossy_compass.walk.journey import Hop, Journey, Leg, Way

RAW = 101
"""Link type of packets that begin with their IP header."""
QUOTED = {4: 548, 6: 1232}
"""So many bytes of a packet an error quotes at most (RFC 1812 section 4.3.2.3, RFC 4443 section 3.1)."""
MOST_BYTES = 1 << 30
"""A larger capture is refused, for all of it is held while it is read."""
_FLAGS = {"SYN": 0x02, "SYN-ACK": 0x12, "ACK": 0x10, "FIN": 0x11, "RST": 0x04, "": 0x10}
_OFFSET = 185
"""Where a later fragment stands, in units of eight bytes: after the first 1480."""
_EXTENSIONS = (0, 43, 60)
"""IPv6 headers that may stand before the one that counts: hop by hop, routing, destination options (RFC 8200 section 4.1)."""


# --- written -----------------------------------------------------------------------------------------------------


class _Seen(NamedTuple):
    """A packet as it passed an interface.

    Attributes:
        port: device and interface.
        packet: as it was there.
        at: time after the first one, in milliseconds.
        comment: what the device did with it.
        inside: what it carries through a tunnel; None for nothing.
        divides: it may be divided on its way, and how long it was at first, in bytes; 0 where it may not.

    """

    port: str
    packet: Packet
    at: float
    comment: str
    inside: Packet | None = None
    divides: int = 0


def capture(journeys: Sequence[Journey], begun: float = 0.0) -> bytes:
    """Journeys as a pcapng file: every packet before and after each device, one interface of the file for each of the network.

    Args:
        journeys: in the order in which they were sent.
        begun: when, in seconds since 1970, UTC.

    """
    seen = [s for journey in journeys for s in _passed(journey)]
    ports = list(dict.fromkeys(s.port for s in seen))
    out = io.BytesIO()
    blocks = [pcapng.InterfaceDescriptionBlockLE(snaplen=0, linktype=RAW) for _ in ports]
    for block, port in zip(blocks, ports, strict=True):
        block.opts = [_option(pcapng.PCAPNG_OPT_IF_NAME, port), _option(pcapng.PCAPNG_OPT_ENDOFOPT)]
    _section(out, blocks)
    for entry in seen:
        data = packed(entry.packet, entry.inside, entry.divides)
        instant = round((begun * 1000 + entry.at) * 1000)
        block = pcapng.EnhancedPacketBlockLE(
            iface_id=ports.index(entry.port),
            ts_high=instant >> 32,
            ts_low=instant & 0xFFFFFFFF,
            caplen=len(data),
            pkt_len=len(data),
            pkt_data=data,
        )
        block.opts = [_option(pcapng.PCAPNG_OPT_COMMENT, entry.comment), _option(pcapng.PCAPNG_OPT_ENDOFOPT)]
        out.write(bytes(block))
    return out.getvalue()


def _section(out: io.BytesIO, blocks: Iterable[Any]) -> None:
    """The head of a file: byte order, and its interfaces."""
    out.write(bytes(pcapng.SectionHeaderBlockLE()))
    for block in blocks:
        out.write(bytes(block))


def _option(code: int, text: str = "") -> Any:
    """An option of a block."""
    return pcapng.PcapngOptionLE(code=code, data=text.encode())


def _passed(journey: Journey) -> Iterator[_Seen]:
    """Every packet of a journey at every interface that it passed, in the order of time."""
    time = 0.0
    for leg in journey.every_leg:
        if not leg.packet.protocol and not leg.packet.destination.value:
            continue  # no packet left
        yield from _along(journey.plan, leg, time)
        time += _takes(leg) + sum(_takes(part) for hop in leg.hops for part in hop.exchange)


def _along(plan: Plan | None, leg: Leg, begun: float, inside: Packet | None = None, whole: int = 0) -> Iterator[_Seen]:
    """The packets of a leg at every interface, with those that carried it through tunnels.

    Args:
        plan: the network; None where it is not at hand.
        leg: the way.
        begun: when it set out, in milliseconds.
        inside: what it carries.
        whole: how long it is before it is divided, in bytes; 0 where it may not be.

    """
    time, divides = begun, whole
    for number, hop in enumerate(leg.hops):
        words = _comment(hop, leg, number == len(leg.hops) - 1)
        came = leg.came_to(number)
        if hop.arriving is not None:
            yield _Seen(f"{hop.device}/{hop.arriving}", came, time, words, inside, divides)
        left = hop.rulings[-1].gave if hop.rulings else came
        for part in hop.exchange:  # it waits while keys are exchanged
            yield from _along(plan, part, time)
            time += _takes(part)
        if hop.leaving is not None and (hop.next_device is not None or hop.outer is not None):
            yield _Seen(f"{hop.device}/{hop.leaving}", left, time, words, inside, divides)
        carriers = [] if hop.outer is None else [hop.outer, *hop.outer.pieces]
        for carrier in carriers:  # where the exchange itself was lost, that is all that set out
            at_first = carriers[0].packet.size if _may_be_divided(plan, hop, carriers) else 0
            yield from _along(plan, carrier, time, left if carrier.way is Way.OUTER else None, at_first)
        if hop.error is not None and hop.outer is not None:
            yield from _along(plan, hop.error, time + _takes(hop.outer))
        time += hop.latency_ms


def _may_be_divided(plan: Plan | None, hop: Hop, carriers: Sequence[Leg]) -> bool:
    """Whether what carries packets from a device on may be divided: it was, or its tunnel says so."""
    tunnel = plan.network.devices[hop.device].interfaces[hop.leaving or ""].tunnel if plan is not None else None
    return len(carriers) > 1 or carriers[0].packet.fragment or (tunnel is not None and tunnel.divides)


def _takes(leg: Leg) -> float:
    """How long a packet was on its way, in milliseconds."""
    return sum(hop.latency_ms for hop in leg.hops)


def _comment(hop: Hop, leg: Leg, last: bool) -> str:
    """What a device did with a packet, by which rulings."""
    rulings = "; ".join(f"{r.did.value}: {r.because.cited()}" for r in hop.rulings)
    end = f" [{leg.cause}]" if last else ""
    return f"{hop.device}: {rulings}{end}"


def packed(packet: Packet, inside: Packet | None = None, divides: int = 0) -> bytes:
    """A packet as it is on a wire, from its IP header on.

    Args:
        packet: any.
        inside: what it carries through a tunnel, as it went in; None for nothing.
        divides: it may be divided, and was as long as this at first, in bytes; 0 where it may not.

    """
    if inside is not None and not packet.fragment:
        return _carrier(packet, inside, divides)
    inner = _transport(packet)
    head = 20 if packet.source.family == 4 else 48 if packet.fragment else 40
    fill = max(0, packet.size - head - len(bytes(inner)))
    if fill and packet.quoted is None:
        inner = _transport(packet, fill)
    source, destination = _address(packet.source), _address(packet.destination)
    if packet.source.family == 6:
        return bytes(_six(packet, inner, source, destination))
    made = dpkt.ip.IP(src=source, dst=destination, p=packet.protocol, ttl=packet.ttl, data=inner)
    if packet.fragment:
        made.id, made.offset = 1, max(divides - packet.size, 0) or _OFFSET * 8
    else:
        made.df = int(not divides)  # packets are sent undivided (RFC 1191), but for what carries some tunnels
        made.mf = int(divides > packet.size)
    made.len = 20 + len(bytes(inner))
    return bytes(made)


def _carrier(packet: Packet, inside: Packet, divides: int) -> bytes:
    """A packet with another within, as far as that can be read: what ESP carries is encrypted, and zeros here."""
    held = packed(inside)
    kind = struct.pack("!H", 0x0800 if inside.source.family == 4 else 0x86DD)  # the EtherType of IP (IEEE 802)
    if packet.protocol == UDP and packet.to_port == VXLAN_PORT:  # RFC 7348 section 5: flags, network 0, and a frame
        held = struct.pack("!II", 0x08000000, 0) + bytes(12) + kind + held
    elif packet.protocol in (UDP, _ESP):  # RFC 4303 section 2: an index that is not 0, a number, and what nobody can read
        held = struct.pack("!II", 1, 1)
    elif packet.protocol == _GRE:
        held = struct.pack("!H", 0) + kind + held  # RFC 2784 section 2
    room = packet.size - (20 if packet.source.family == 4 else 40)
    udp = 8 if packet.protocol == UDP else 0
    held = (held + bytes(max(0, room - udp - len(held))))[: max(0, room - udp)]
    data: Any = dpkt.udp.UDP(sport=packet.from_port, dport=packet.to_port, ulen=8 + len(held), data=held) if udp else held
    source, destination = _address(packet.source), _address(packet.destination)
    if packet.source.family == 6:
        return bytes(
            dpkt.ip6.IP6(src=source, dst=destination, nxt=packet.protocol, hlim=packet.ttl, plen=udp + len(held), data=data)
        )
    made = dpkt.ip.IP(src=source, dst=destination, p=packet.protocol, ttl=packet.ttl, data=data)
    made.df, made.mf, made.len = int(not divides), int(divides > packet.size), 20 + udp + len(held)
    return bytes(made)


_GRE, _ESP = 47, 50
"""Protocol numbers (RFC 2784, RFC 4303)."""


def _six(packet: Packet, inner: Any, source: bytes, destination: bytes) -> Any:
    """An IPv6 packet; a later fragment has its header between (RFC 8200 section 4.5)."""
    data, following = inner, packet.protocol
    if packet.fragment:
        data = struct.pack("!BBHI", packet.protocol, 0, _OFFSET << 3, 1) + bytes(inner)
        following = 44
    elif isinstance(inner, dpkt.icmp6.ICMP6):
        data = _with_checksum(inner, source, destination)
    return dpkt.ip6.IP6(src=source, dst=destination, nxt=following, hlim=packet.ttl, plen=len(bytes(data)), data=data)


def _with_checksum(inner: Any, source: bytes, destination: bytes) -> bytes:
    """An ICMPv6 message with its checksum, which counts the addresses too (RFC 4443 section 2.3)."""
    inner.sum = 0
    plain = bytes(inner)
    pseudo = source + destination + struct.pack("!II", len(plain), ICMP6)
    total: int = dpkt.in_cksum(pseudo + plain)
    return plain[:2] + struct.pack("!H", total) + plain[4:]


def _transport(packet: Packet, fill: int = 0) -> Any:
    """What stands after the IP header."""
    rest = bytes(fill)
    if packet.fragment:
        return bytes(8) + rest
    if packet.protocol == TCP:
        # Sequence numbers are not of the model; acknowledged is what was sent. What opens or ends carries no data, so options that say
        # nothing fill it up (RFC 9293 section 3.2), as far as they go.
        fillers = min(40, len(rest) // 4 * 4) if packet.flags in ("SYN", "SYN-ACK", "RST", "FIN") else 0
        rest = rest[fillers:]
        return dpkt.tcp.TCP(
            sport=packet.from_port,
            dport=packet.to_port,
            seq=1,
            ack=1 if packet.flags not in ("SYN", "RST") else 0,
            flags=_FLAGS[packet.flags],
            win=65535,
            off=5 + fillers // 4,
            opts=bytes([1]) * fillers,
            data=rest,
        )
    if packet.protocol == UDP:
        return dpkt.udp.UDP(sport=packet.from_port, dport=packet.to_port, ulen=8 + fill, data=rest)
    if packet.protocol in WITH_PORTS:
        plain = struct.pack("!HHII", packet.from_port, packet.to_port, 0, 0) + rest
        return plain[:8] + struct.pack("!I", crc32c.cksum(plain)) + plain[12:]  # RFC 9260 appendix A
    if packet.protocol in (ICMP, ICMP6):
        return _icmp(packet, rest)
    return rest


def _icmp(packet: Packet, rest: bytes) -> Any:
    """A message of ICMP or ICMPv6: a query with its identifier, or an error with what it quotes."""
    kind, code = packet.icmp >> 8, packet.icmp & 0xFF
    if packet.quoted is not None:
        body = bytes(4) + packed(packet.quoted)[: QUOTED[packet.source.family]]
    else:
        body = struct.pack("!HH", packet.from_port & 0xFFFF, 1) + rest
    module = dpkt.icmp.ICMP if packet.protocol == ICMP else dpkt.icmp6.ICMP6
    return module(type=kind, code=code, data=body)


def _address(address: Address) -> bytes:
    """An address as its bytes."""
    return address.value.to_bytes(4 if address.family == 4 else 16, "big")


# --- read --------------------------------------------------------------------------------------------------------


class Read(NamedTuple):
    """What a capture holds.

    Attributes:
        packets: those of IP, in order.
        others: how many are none, or cannot be read.

    """

    packets: list[Packet]
    others: int


def packets_of(data: bytes, name: str) -> Read:
    """The packets of a pcap or pcapng file.

    Args:
        data: the file.
        name: that faults cite.

    Raises:
        InputError: it is neither, is cut off in its head, or its link type is not known.

    """
    if len(data) > MOST_BYTES:
        raise InputError(f"{name}: more than {MOST_BYTES >> 20} MiB are not read at once. Cut it into parts.")
    try:
        reader: Any = pcap.UniversalReader(io.BytesIO(data))
        link = reader.datalink()
    except (ValueError, dpkt.Error, struct.error, KeyError, IndexError) as error:
        raise InputError(
            f"{name}: this is no capture that can be read ({error or 'it is cut off'}). Give a pcap or pcapng file, or CSV."
        ) from None
    if link not in _LINKS:
        raise InputError(
            f"{name}: its link type {link} is not known. Known are Ethernet, raw IP, and what the kernel's `any` gives."
        )
    found: list[Packet] = []
    others = 0
    try:
        for _, frame in reader:
            packet = _packet(_LINKS[link](bytes(frame)))
            if packet is None:
                others += 1
            else:
                found.append(packet)
    except (ValueError, dpkt.Error, struct.error, IndexError, OverflowError, MemoryError):
        others += 1  # it is cut off here: what stands before is whole
    return Read(found, others)


def _ethernet(frame: bytes) -> bytes:
    """What an Ethernet frame carries, tags passed over."""
    place = 12
    while frame[place : place + 2] in (b"\x81\x00", b"\x88\xa8"):
        place += 4
    return frame[place + 2 :] if frame[place : place + 2] in (b"\x08\x00", b"\x86\xdd") else b""


_LINKS: dict[int, Callable[[bytes], bytes]] = {
    1: _ethernet,
    0: lambda f: f[4:],
    12: lambda f: f,
    14: lambda f: f,
    RAW: lambda f: f,
    113: lambda f: f[16:],
    276: lambda f: f[20:],
}
"""How the IP packet is found in a frame, by link type."""


def _packet(data: bytes) -> Packet | None:
    """The packet of some bytes, as far as they are headers; None where they are none of IP."""
    if len(data) < 20:
        return None
    version = data[0] >> 4
    if version == 4:
        head = (data[0] & 0xF) * 4
        if head < 20 or len(data) < head:
            return None
        ends = Address(4, int.from_bytes(data[12:16], "big")), Address(4, int.from_bytes(data[16:20], "big"))
        size, ttl, protocol = int.from_bytes(data[2:4], "big"), data[8], data[9]
        piece = bool(int.from_bytes(data[6:8], "big") & 0x1FFF)
        return _of(protocol, ends, data[head:], ttl, size, piece)
    if version != 6 or len(data) < 40:
        return None
    ends = Address(6, int.from_bytes(data[8:24], "big")), Address(6, int.from_bytes(data[24:40], "big"))
    size, protocol, ttl, place, piece = 40 + int.from_bytes(data[4:6], "big"), data[6], data[7], 40, False
    while protocol in (*_EXTENSIONS, 44) and len(data) >= place + 8:
        following, length = data[place], 8 if protocol == 44 else 8 * (data[place + 1] + 1)
        piece = piece or (protocol == 44 and bool(int.from_bytes(data[place + 2 : place + 4], "big") >> 3))
        protocol, place = following, place + length
    return _of(protocol, ends, data[place:], ttl, size, piece)


def _of(protocol: int, ends: tuple[Address, Address], rest: bytes, ttl: int, size: int, piece: bool) -> Packet | None:
    """A packet from what stands after its IP header; None where that is cut off before its ports."""
    more: dict[str, Any] = {"ttl": ttl, "size": size}
    if piece:
        return Packet(protocol, *ends, -1, -1, -1, **more)
    if protocol in WITH_PORTS:
        if len(rest) < (14 if protocol == TCP else 4):
            return None
        ports = struct.unpack("!HH", rest[:4])
        flags = _shown(rest[13]) if protocol == TCP else ""
        return Packet(protocol, ends[0], ends[1], ports[0], ports[1], -1, flags, ttl, size)
    if protocol in (ICMP, ICMP6):
        if len(rest) < 8:
            return None
        quoted = _packet(rest[8:]) if _is_error(protocol, rest[0]) else None
        return Packet(
            protocol,
            *ends,
            int.from_bytes(rest[4:6], "big") if quoted is None else 0,
            0,
            rest[0] << 8 | rest[1],
            **more,
            quoted=quoted,
        )
    return Packet(protocol, *ends, **more)


def _is_error(protocol: int, kind: int) -> bool:
    """Whether a type of ICMP quotes a packet."""
    return kind in (3, 4, 5, 11, 12) if protocol == ICMP else kind < 128


def _shown(flags: int) -> str:
    """What the flags of a TCP packet show."""
    if flags & 0x04:
        return "RST"
    if flags & 0x02:
        return "SYN-ACK" if flags & 0x10 else "SYN"
    return "FIN" if flags & 0x01 else "ACK"
