"""Addresses, prefixes and ranges as plain integers that carry their family.

Text is parsed at the edge; inside, an address is a pair of family and integer, and a set of addresses is a
tuple of spans over one number line: all of IPv4 first, all of IPv6 after it. The accepted forms follow
RFC 4632 (prefix length), RFC 4291 and RFC 5952 (IPv6 text), and the netmask and wildcard-mask forms that
access lists have always used.
"""

from __future__ import annotations

import ipaddress
import re
from typing import NamedTuple

from mossy_compass.errors import AddressError

V6_BASE = 1 << 32
"""Where IPv6 begins on the number line that holds both families."""
LAST_KEY = V6_BASE + (1 << 128) - 1
BITS = {4: 32, 6: 128}
_MOST_SPANS = 16
"""A wildcard mask that falls apart into more runs than this is kept as a mask: its members are never listed."""


class Address(NamedTuple):
    """One IPv4 or IPv6 address.

    Attributes:
        family: 4 or 6.
        value: the address as an unsigned integer.

    """

    family: int
    value: int

    def __str__(self) -> str:
        if self.family == 4:
            v = self.value
            return f"{v >> 24}.{v >> 16 & 255}.{v >> 8 & 255}.{v & 255}"
        return str(ipaddress.IPv6Address(self.value))

    @property
    def key(self) -> int:
        """Place on the number line of both families."""
        return self.value if self.family == 4 else self.value + V6_BASE

    @property
    def is_link_local(self) -> bool:
        """True in 169.254.0.0/16 (RFC 3927) and fe80::/10 (RFC 4291)."""
        return self.value >> 16 == 0xA9FE if self.family == 4 else self.value >> 118 == 0x3FA

    @property
    def special(self) -> str:
        """Why no single far device can have this address (RFC 1122 3.2.1.3, RFC 4291 2.4); empty for most."""
        if not self.value:
            return "the unspecified address"
        for family, first, last, words in _SPECIAL:
            if family == self.family and first <= self.value <= last:
                return words
        return ""

    @property
    def is_private(self) -> bool:
        """True for addresses that mean nothing on the public Internet (RFC 1918, RFC 4193)."""
        return in_spans(self.key, PRIVATE_SPANS)


_LOOPBACK = "a loopback address, which means the sender itself"
_MULTICAST = "a multicast address"
_SPECIAL = (
    (4, 127 << 24, (128 << 24) - 1, _LOOPBACK),
    (4, 224 << 24, (240 << 24) - 1, _MULTICAST),
    (4, 0xFFFFFFFF, 0xFFFFFFFF, "the broadcast address of whatever segment it is sent on"),
    (6, 1, 1, _LOOPBACK),
    (6, 255 << 120, (1 << 128) - 1, _MULTICAST),
)
"""Runs of addresses that name no single host: family, first, last, and what they are."""


class Span(NamedTuple):
    """A run of integers, both ends included.

    Attributes:
        first: the lowest member.
        last: the highest; a span is never empty.

    """

    first: int
    last: int


Spans = tuple[Span, ...]


class Masked(NamedTuple):
    """The IPv4 addresses that agree with ``base`` in every bit that is not set in ``free``: an awkward wildcard mask.

    Attributes:
        base: the fixed bits, as an integer; 0 where ``free`` is set.
        free: bits that may have any value.

    """

    base: int
    free: int

    def holds(self, key: int) -> bool:
        """True for a key of the number line whose IPv4 address is meant. IPv6 keys have higher bits, so none is."""
        return key & ~self.free == self.base


class Prefix(NamedTuple):
    """An address block: family, network address as an integer, and length in bits.

    Attributes:
        family: 4 or 6.
        value: the network address as an integer, host bits zero.
        length: in bits, 0 to 32 or 128.

    """

    family: int
    value: int
    length: int

    def __str__(self) -> str:
        return f"{Address(self.family, self.value)}/{self.length}"

    @property
    def span(self) -> Span:
        """The block on the number line of both families."""
        base = 0 if self.family == 4 else V6_BASE
        return Span(base + self.value, base + self.value + (1 << (BITS[self.family] - self.length)) - 1)

    @property
    def is_default(self) -> bool:
        """True for 0.0.0.0/0 and ::/0."""
        return self.length == 0

    def holds(self, address: Address) -> bool:
        """True when the address is in this block."""
        shift = BITS[self.family] - self.length
        return address.family == self.family and address.value >> shift == self.value >> shift

    def covers(self, other: Prefix) -> bool:
        """True when every address of ``other`` is in this block."""
        return other.length >= self.length and self.holds(Address(other.family, other.value))

    def overlaps(self, other: Prefix) -> bool:
        """True when the two blocks share an address."""
        return self.covers(other) or other.covers(self)


class InterfaceAddress(NamedTuple):
    """An address on an interface with the prefix length of its subnet.

    Attributes:
        address: the interface's own.
        length: of its subnet's prefix, in bits.

    """

    address: Address
    length: int

    def __str__(self) -> str:
        return f"{self.address}/{self.length}"

    @property
    def prefix(self) -> Prefix:
        """The connected subnet."""
        return prefix_of(self.address, self.length)


class Block(NamedTuple):
    """A set of addresses as a rule or a group names it.

    Attributes:
        text: the one normal form that is echoed, whatever form was typed.
        spans: sorted, disjoint runs on the number line of both families.
        masked: what is kept as a mask instead, since it would be very many runs.

    """

    text: str
    spans: Spans
    masked: tuple[Masked, ...] = ()


def prefix_of(address: Address, length: int) -> Prefix:
    """The block of ``length`` bits that holds ``address``."""
    host_bits = BITS[address.family] - length
    return Prefix(address.family, address.value >> host_bits << host_bits, length)


def in_spans(key: int, spans: Spans) -> bool:
    """True when ``key`` lies in one of the spans."""
    return any(first <= key <= last for first, last in spans)


def from_key(key: int) -> Address:
    """The address at a place of the number line of both families."""
    return Address(4, key) if key < V6_BASE else Address(6, key - V6_BASE)


_FOUR = re.compile(r"[0-9]{1,3}(?:\.[0-9]{1,3}){3}")


def parse_address(text: str) -> Address:
    """Read one IPv4 or IPv6 address.

    Raises:
        AddressError: the text is not an address; the message says what is wrong with it.

    """
    text = text.strip()
    if _FOUR.fullmatch(text):
        parts = text.split(".")
        for part in parts:
            if int(part) > 255:
                raise AddressError(f"'{text}' is not an address: {part} is more than 255.")
            if len(part) > 1 and part[0] == "0":
                raise AddressError(f"'{text}' is not an address: write {int(part)} and not {part} (it could be read as octal).")
        a, b, c, d = map(int, parts)
        return Address(4, a << 24 | b << 16 | c << 8 | d)
    if ":" in text and "%" not in text:
        try:
            return Address(6, int(ipaddress.IPv6Address(text)))
        except ValueError as fault:
            raise AddressError(f"'{text}' is not an IPv6 address: {_say(fault)}.") from None
    if re.fullmatch(r"[0-9.]+", text):
        count = len([p for p in text.split(".") if p])
        raise AddressError(
            f"'{text}' is not an address: it has {count} part{'s' * (count != 1)}, an IPv4 address has 4, like 192.0.2.10."
        )
    two = text.split()
    if len(two) == 2 and all(_FOUR.fullmatch(part) for part in two):
        raise AddressError(f"'{text}' is two: an address and its mask are joined by a slash; write {two[0]}/{two[1]}.")
    raise AddressError(f"'{text}' is not an address; write one like 192.0.2.10 or 2001:db8::10.")


def _say(fault: Exception) -> str:
    """The reason in an address library's message, without its quotation of the text."""
    return str(fault).split(" in ")[0].rstrip(".").lower()


def parse_prefix(text: str, *, host_bits: str = "refuse") -> Prefix:
    """Read ``address/length``, ``address/netmask``, ``default``, or a bare address as a block of one.

    Args:
        text: what was written. ``default`` alone means 0.0.0.0/0; ``default6`` means ::/0.
        host_bits: ``refuse`` or ``clear`` what stands behind the prefix length.

    Raises:
        AddressError: not a prefix, or it has host bits where they are refused.

    """
    text = text.strip()
    if text == "default":
        return Prefix(4, 0, 0)
    if text == "default6":
        return Prefix(6, 0, 0)
    head, slash, tail = text.partition("/")
    address = parse_address(head)
    length = _length(tail, address, text) if slash else BITS[address.family]
    prefix = prefix_of(address, length)
    if prefix.value != address.value and host_bits == "refuse":
        raise AddressError(f"'{text}' has host bits set; the subnet is {prefix}.")
    return prefix


def parse_interface_address(text: str) -> InterfaceAddress:
    """Read ``address/length`` or ``address/netmask`` where the address is one end's own.

    Raises:
        AddressError: not an address with a length, or the subnet's network or broadcast address.

    """
    text = text.strip()
    head, slash, tail = text.partition("/")
    address = parse_address(head)
    if not slash:
        raise AddressError(f"'{text}' has no prefix length; write one like {address}/{24 if address.family == 4 else 64}.")
    length = _length(tail, address, text)
    prefix = prefix_of(address, length)
    if address.special and "loopback" not in address.special:
        raise AddressError(f"'{text}' is {address.special}, not one that an interface can have.")
    if address.family == 4 and length < 31:
        if address.value == prefix.value:
            raise AddressError(f"'{text}' is the network address of {prefix}, not one that an interface can have.")
        if address.value == prefix.span.last:
            raise AddressError(f"'{text}' is the broadcast address of {prefix}, not one that an interface can have.")
    return InterfaceAddress(address, length)


def _length(tail: str, address: Address, text: str) -> int:
    """The part after the slash: a length in bits, or a mask of ones and then zeros (RFC 4632 section 5.1)."""
    bits = BITS[address.family]
    if tail.isascii() and tail.isdigit() and len(tail) <= 3:
        if int(tail) > bits:
            raise AddressError(f"'{text}' is not a prefix: an IPv{address.family} prefix length is 0 to {bits}.")
        return int(tail)
    if address.family == 4 and _FOUR.fullmatch(tail):
        mask = parse_address(tail).value
        inverse = mask ^ 0xFFFFFFFF
        if inverse & (inverse + 1) == 0:
            return 32 - inverse.bit_length()
        if mask & (mask + 1) == 0:  # the wildcard mask that some rules are written with: here it would mean the reverse
            raise AddressError(f"'{text}': {tail} is a wildcard mask, not a netmask; write {address}/{32 - mask.bit_length()}.")
        raise AddressError(f"'{text}': {tail} is not a netmask; a netmask is a run of ones, like 255.255.255.0.")
    raise AddressError(
        f"'{text}' is not a prefix: '{tail}' is no prefix length; write one like {address}/{24 if bits == 32 else 64}."
    )


def parse_block(text: str) -> Block:
    """Read any form that a rule or a group may use for addresses.

    Accepted: host, ``address/length``, ``address/netmask``, ``address/wildcard-mask`` (ones where any value
    will do), ``first-last``. One form is echoed: a host, a prefix, or a range.

    Raises:
        AddressError: none of these.

    """
    text = text.strip()
    head, slash, tail = text.partition("/")
    if not slash and "-" in text:
        low, _, high = text.partition("-")
        first, last = parse_address(low), parse_address(high)
        if first.family != last.family:
            raise AddressError(f"'{text}': both ends of a range are of one family.")
        if first.value > last.value:
            raise AddressError(f"'{text}': the range runs backwards; write {last}-{first}.")
        return Block(f"{first}-{last}", (Span(first.key, last.key),))
    if slash and _FOUR.fullmatch(tail) and _FOUR.fullmatch(head):
        return _masked(text, parse_address(head), parse_address(tail).value)
    prefix = parse_prefix(text)
    if prefix.length == BITS[prefix.family]:
        return Block(str(Address(prefix.family, prefix.value)), (prefix.span,))
    return Block(str(prefix), (prefix.span,))


def _masked(text: str, address: Address, mask: int) -> Block:
    """An address with a wildcard mask: a bit that is set in the mask is not compared."""
    inverse = mask ^ 0xFFFFFFFF
    if mask in (0, 0xFFFFFFFF):
        raise AddressError(
            f"'{text}' may mean one host or everything, for a netmask and a wildcard mask read it opposite ways; "
            f"write {address} or any."
        )
    if inverse & (inverse + 1) == 0:
        prefix = parse_prefix(text)
        return Block(str(prefix), (prefix.span,))
    base = address.value & inverse
    if base != address.value:
        raise AddressError(
            f"'{text}': a bit that is set in a wildcard mask may have any value, so what {address} says there counts for nothing; "
            f"write {Address(4, base)}/{Address(4, mask)} if that is meant, or {address} for the one host."
        )
    low = (~mask & (mask + 1)).bit_length() - 1
    free = [bit for bit in range(32) if mask >> bit & 1 and bit >= low]
    words = f"{Address(4, base)} wildcard {Address(4, mask)}"
    if 1 << len(free) > _MOST_SPANS:
        return Block(words, (), (Masked(base, mask),))
    spans = []
    for number in range(1 << len(free)):
        start = base
        for index, bit in enumerate(free):
            if number >> index & 1:
                start |= 1 << bit
        spans.append(Span(start, start + (1 << low) - 1))
    spans.sort()
    if len(spans) == 1:
        prefix = Prefix(4, spans[0].first, 32 - low)
        return Block(str(prefix), (prefix.span,))
    return Block(words, tuple(spans))


EVERYTHING: Spans = (Span(0, LAST_KEY),)
FAMILIES: dict[int, Span] = {4: Span(0, V6_BASE - 1), 6: Span(V6_BASE, LAST_KEY)}
"""The addresses of each family, on the line of both."""
LINK_LOCAL: Spans = tuple(parse_prefix(p).span for p in ("169.254.0.0/16", "fe80::/10"))
"""The addresses of one segment alone (RFC 3927, RFC 4291 section 2.5.6)."""
PRIVATE_TEXTS = ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "fc00::/7")
PRIVATE_SPANS: Spans = tuple(sorted(parse_prefix(t).span for t in PRIVATE_TEXTS))
