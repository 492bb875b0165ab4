from __future__ import annotations

import ipaddress
import itertools
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mossy_compass.errors import AddressError
from mossy_compass.headers.spans import as_text, complement, intersect, merge
from mossy_compass.packet.address import (
    LAST_KEY,
    Address,
    Span,
    from_key,
    in_spans,
    parse_address,
    parse_block,
    parse_interface_address,
    parse_prefix,
)
from mossy_compass.packet.packet import Packet, answer_to, echo_request, icmp_error, refusal_of
from mossy_compass.packet.service import Service, parse_icmp, parse_port, parse_protocol, parse_service

v4 = st.integers(0, 2**32 - 1).map(lambda v: Address(4, v))
v6 = st.integers(0, 2**128 - 1).map(lambda v: Address(6, v))
addresses = v4 | v6


@given(addresses)
def test_text_and_back(address: Address) -> None:
    assert parse_address(str(address)) == address
    assert str(address) == str(ipaddress.ip_address(str(address)))
    assert from_key(address.key) == address


@given(addresses, st.integers(0, 128))
def test_prefixes_agree_with_the_standard_library(address: Address, length: int) -> None:
    length = min(length, 32 if address.family == 4 else 128)
    prefix = parse_prefix(f"{address}/{length}", host_bits="clear")
    network = ipaddress.ip_network(f"{address}/{length}", strict=False)
    assert str(prefix) == str(network)
    assert prefix.holds(address)
    assert prefix.span.last - prefix.span.first + 1 == network.num_addresses


@pytest.mark.parametrize(
    "text, normal, count",
    [
        ("192.0.2.7", "192.0.2.7", 1),
        ("192.0.2.0/24", "192.0.2.0/24", 256),
        ("192.0.2.0/255.255.255.0", "192.0.2.0/24", 256),
        ("192.0.2.0/0.0.0.255", "192.0.2.0/24", 256),
        ("192.0.2.10-192.0.2.19", "192.0.2.10-192.0.2.19", 10),
        ("10.40.0.1/0.0.254.0", "10.40.0.1 wildcard 0.0.254.0", 128),
        ("10.0.0.0/0.255.85.170", "10.0.0.0 wildcard 0.255.85.170", 65536),
        ("2001:db8::/32", "2001:db8::/32", 2**96),
        ("2001:0DB8::1", "2001:db8::1", 1),
        ("0.0.0.0/0", "0.0.0.0/0", 2**32),
    ],
)
def test_every_form_of_addresses_has_one_echo(text: str, normal: str, count: int) -> None:
    block = parse_block(text)
    assert block.text == normal
    listed = sum(last - first + 1 for first, last in block.spans)
    assert listed + sum(2 ** m.free.bit_count() for m in block.masked) == count


@given(v4, st.integers(0, 2**32 - 1).filter(lambda m: bin(m).count("1") <= 10 and m not in (0, 2**32 - 1)), v4)
def test_wildcard_masks_mean_what_they_say(base: Address, mask: int, probe: Address) -> None:
    inverse = mask ^ 0xFFFFFFFF
    if inverse & (inverse + 1) == 0:
        return  # a run of ones from the top is a netmask
    if base.value & mask:  # what stands where any value will do would be ignored without a word
        with pytest.raises(AddressError, match="counts for nothing"):
            parse_block(f"{base}/{Address(4, mask)}")
        base = Address(4, base.value & inverse)
    block = parse_block(f"{base}/{Address(4, mask)}")

    def held(key: int) -> bool:
        return in_spans(key, block.spans) or any(m.holds(key) for m in block.masked)

    assert held(probe.key) == ((probe.value ^ base.value) & inverse == 0)
    assert held(base.key)
    assert not held(base.key + (1 << 32))  # the IPv6 address of the same number
    assert len(block.spans) <= 16


@pytest.mark.parametrize(
    "text, says",
    [
        ("10.40.300.1", "300 is more than 255"),
        ("10.40.1", "has 3 parts"),
        ("10.40.1.2.3", "has 5 parts"),
        ("10.040.1.2", "octal"),
        ("10.40.1.0/33", "0 to 32"),
        ("10.40.1.5/24", "the subnet is 10.40.1.0/24"),
        ("10.40.1.9-10.40.1.1", "runs backwards"),
        ("10.40.1.1-2001:db8::1", "of one family"),
        ("10.40.1.1/255.255.255.255", "opposite ways"),
        ("10.40.1.0/255.0.255.0/8", "no prefix length"),
        ("2001:db8:::1", "not an IPv6 address"),
        ("fe80::1%eth0", "not an address"),
        ("rose", "not an address"),
        ("10.40.1.0/ten", "no prefix length"),
        ("١٠.40.1.1", "not an address"),
    ],
)
def test_what_is_no_address_says_why(text: str, says: str) -> None:
    with pytest.raises(AddressError, match=says):
        parse_block(text)


@pytest.mark.parametrize(
    "text, says", [("10.40.1.1", "no prefix length"), ("10.40.1.0/24", "network address"), ("10.40.1.255/24", "broadcast")]
)
def test_an_interface_has_a_host_address(text: str, says: str) -> None:
    with pytest.raises(AddressError, match=says):
        parse_interface_address(text)
    assert str(parse_interface_address("10.40.1.0/31")) == "10.40.1.0/31"  # RFC 3021


@pytest.mark.parametrize(
    "text, shown",
    [
        ("tcp/443", "tcp/443"),
        ("tcp/https", "tcp/443"),
        ("udp/5000-5010", "udp/5000-5010"),
        ("icmp/echo-request", "icmp/echo-request"),
        ("icmp/8/0", "icmp/echo-request"),
        ("icmp6/2", "icmp6/too-big"),
        ("ip-47", "gre"),
        ("tcp", "tcp"),
        ("ip-99", "ip-99"),
        ("icmp/3/1", "icmp/host-unreachable"),
    ],
)
def test_services(text: str, shown: str) -> None:
    assert str(parse_service(text)) == shown


@pytest.mark.parametrize("text", ["tcp/65536", "tcp/10-5", "any/80", "icmp/gossip", "gre/5", "256", "tpc/80", "tcp/", "icmp/8/256"])
def test_no_services(text: str) -> None:
    with pytest.raises(AddressError):
        parse_service(text)


def test_any_is_no_protocol_number() -> None:
    assert parse_protocol("any") is None
    assert parse_port("https") == Span(443, 443)
    assert parse_icmp("time-exceeded", 1) == Span(11 * 256, 11 * 256 + 255)
    assert Service(6, Span(80, 80)).covers(6, 80)
    assert not Service(6, Span(80, 80)).covers(17, 80)


spans = st.lists(st.tuples(st.integers(0, 300), st.integers(0, 40)), max_size=8).map(lambda ps: [Span(a, a + n) for a, n in ps])


@given(spans, spans, st.integers(0, 400))
def test_span_algebra(a: list[Span], b: list[Span], value: int) -> None:
    left, right = merge(a), merge(b)
    inside = any(f <= value <= last for f, last in a)
    assert in_spans(value, left) == inside
    assert in_spans(value, complement(left, 400)) == (not inside)
    assert in_spans(value, intersect(left, right)) == (inside and in_spans(value, right))
    assert all(x.last + 1 < y.first for x, y in itertools.pairwise(left))
    assert complement(complement(left, 400), 400) == left


def test_sets_in_words() -> None:
    assert (
        as_text(merge(s for t in ("10.40.0.0/24", "10.40.2.1", "10.40.3.1-10.40.3.3") for s in parse_block(t).spans))
        == "10.40.0.0/24, 10.40.2.1, 10.40.3.1-10.40.3.3"
    )
    assert as_text(tuple(Span(n * 10, n * 10) for n in range(6))) == "0.0.0.0, 0.0.0.10, 0.0.0.20, 0.0.0.30 and 2 more"
    assert complement((), 5) == (Span(0, 5),)
    assert complement((Span(0, LAST_KEY),)) == ()


A, B = parse_address("10.40.0.1"), parse_address("10.40.0.2")


def answer(packet: Packet) -> Packet:
    """Return the answer, which there must be."""
    given = answer_to(packet)
    assert given is not None
    return given


def refusal(packet: Packet) -> Packet:
    """Return the refusal, which there must be."""
    given = refusal_of(packet)
    assert given is not None
    return given


def test_answers() -> None:
    syn = Packet(6, A, B, 50000, 443, flags="SYN")
    assert answer(syn) == Packet(6, B, A, 443, 50000, flags="SYN-ACK")
    assert refusal(syn).flags == "RST"
    assert answer(echo_request(A, B, 7)).what() == "icmp/echo-reply"
    assert answer(echo_request(A, B, 7)).from_port == 7
    error = refusal(Packet(17, A, B, 50000, 53))
    assert error.what() == "icmp/port-unreachable"
    assert error.quoted == Packet(17, A, B, 50000, 53)
    six = icmp_error(
        Packet(17, parse_address("2001:db8::1"), parse_address("2001:db8::2")), parse_address("2001:db8::9"), "time-exceeded"
    )
    assert six.what() == "icmp6/time-exceeded"


def test_what_opens_a_session() -> None:
    assert Packet(6, A, B, flags="SYN").opening
    assert not Packet(6, A, B, flags="SYN-ACK").opening
    assert Packet(17, A, B).opening
    assert echo_request(A, B).opening
    assert not answer(echo_request(A, B)).opening


@pytest.mark.parametrize(
    "read, text, says",
    [
        (parse_interface_address, "10.40.1.1/0.0.0.255", "0.0.0.255 is a wildcard mask, not a netmask; write 10.40.1.1/24."),
        (parse_interface_address, "10.40.1.1/0.0.0.3", "write 10.40.1.1/30."),
        (parse_interface_address, "10.40.1.1/255.0.255.0", "is not a netmask"),
        (parse_block, "10.90.8.10/0.255.255.255", "what 10.90.8.10 says there counts for nothing; write 10.0.0.0/0.255.255.255"),
        (parse_service, "22", "write tcp/22 or udp/22; IP protocol 22 is ip-22."),
        (parse_block, "10.40.1.0 0.0.0.255", "is two: an address and its mask are joined by a slash; write 10.40.1.0/0.0.0.255."),
        (parse_prefix, "10.40.1.0/0.0.0.255", "write 10.40.1.0/24."),
    ],
)
def test_masks_the_wrong_way_round_are_told_the_right_form(read: Callable[[str], object], text: str, says: str) -> None:
    with pytest.raises(AddressError) as fault:
        read(text)
    assert says in str(fault.value)
