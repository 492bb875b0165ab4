"""Who is meant by a word of a test, down to the address: what was named is what is tested.

A host by its name is tested where its sender would go; where it must never be reached, at every address that it has. An address,
a prefix, a group, a segment or a zone means the addresses that are in it, and no others that their hosts have beside. What cannot
be tested (nobody is there, no address was leased) is told, never left out in silence.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from mossy_compass.errors import AddressError, QuestionError
from mossy_compass.marks import hint
from mossy_compass.model.network import Interface, Kind, Network
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import Address, Block, from_key, parse_address, parse_block
from mossy_compass.walk.grid import fronts_of
from mossy_compass.walk.question import addresses_of, unleased


class FlowEnd(NamedTuple):
    """One end of test flows.

    Attributes:
        name: what the flow names: a host, or as the target an address.
        owner: the host whose end it is; the address itself where nobody has it.
        address: the one that is meant; None where the name says enough.
        family: the only one that is meant; None for whichever both ends have.

    """

    name: str
    owner: str
    address: Address | None = None
    family: int | None = None


class Meant(NamedTuple):
    """What a word comes to.

    Attributes:
        ends: what can be tested.
        left: what cannot, a few words each.

    """

    ends: tuple[FlowEnd, ...]
    left: tuple[str, ...] = ()


def meant(network: Network, word: str, sends: bool, never: bool = False) -> Meant:
    """The ends that a word stands for.

    Args:
        network: the network, with what is leased in place.
        word: as written.
        sends: who sends must be a host; who is sent to may be a name or an address too.
        never: the target must not be reached, at any of its addresses.

    Raises:
        QuestionError: nobody is meant.

    """
    if word.partition("/")[0] in network.devices or network.far_host(word) is not None:
        return _named(network, word, not sends and never)
    terms = _terms(network, word)
    if terms is not None:
        return _within(network, word, terms, sends, never)
    if not sends and (word in network.names or _asked_for(network, word)):
        return _each(word, network.names.get(word, ())) if never else Meant((FlowEnd(word, word),))
    known = [*network.devices, *network.groups, *network.segments, *_zones(network), *network.names]
    raise QuestionError(f"there is no '{word}' to {'send from' if sends else 'send to'}. {hint(word, known, 'names')}")


def _named(network: Network, word: str, never: bool) -> Meant:
    """A device or far host by its name."""
    if unleased(network, word):
        return Meant((), (f"{word} (no address is leased to it)",))
    if not never:
        return Meant((FlowEnd(word, word),))
    try:
        return _each(word, addresses_of(network, word))
    except QuestionError:  # it has no address at all: the test itself says so
        return Meant((FlowEnd(word, word),))


def _each(word: str, addresses: Sequence[Address]) -> Meant:
    """Every address of a name; the name alone where it has one of a family at most."""
    there = [a for a in addresses if not a.is_link_local]
    if _one_of_each(there):
        return Meant((FlowEnd(word, word),))
    return Meant(tuple(FlowEnd(str(a), word, a, a.family) for a in there))


def _one_of_each(addresses: Sequence[Address]) -> bool:
    """Whether there is one address of a family at most."""
    return len({a.family for a in addresses}) == len(addresses)


def _within(network: Network, word: str, terms: Sequence[Term], sends: bool, never: bool) -> Meant:
    """The modelled addresses among some.

    Raises:
        QuestionError: there is none.

    """
    owners = list(_owners(network))
    # Of what routes, nobody expects that it sends tests, or that it answers for what it does not offer.
    asked = [o for o in owners if not o.routes or (not sends and (never or network.devices[o.name].serves))]
    ends = [e for o in asked for e in _inside(o, terms, sends)]
    if not sends:
        ends += _translated(network, terms, {a for o in owners for a in o.addresses})
    ends = ends or list(_alone(terms, owners, sends))
    left = [f"{t.words} (no address is leased to it)" for t in terms if t.leased and not t.spans]
    if not ends and not left:
        raise QuestionError(f"no host of this network has an address in '{word}', so nobody would be tested.")
    if _block(word) is not None and _single(terms) is None:
        left.append(f"the rest of {word} (nobody is there)")
    return Meant(tuple(ends), tuple(left))


class _Owner(NamedTuple):
    """Somebody with addresses.

    Attributes:
        name: of the device or far host.
        addresses: that packets can be sent to.
        routes: it is no host.

    """

    name: str
    addresses: Sequence[Address]
    routes: bool


def _inside(owner: _Owner, terms: Sequence[Term], sends: bool) -> Iterator[FlowEnd]:
    """The ends of one owner that are meant: by its name where that says enough, else address by address."""
    inside = [a for a in owner.addresses if any(t.holds(a) for t in terms)]
    if inside and len(inside) == len(owner.addresses) and _one_of_each(inside):
        yield FlowEnd(owner.name, owner.name)
        return
    for address in inside:
        alone = sum(a.family == address.family for a in owner.addresses) == 1
        name = owner.name if sends or alone else str(address)
        yield FlowEnd(name, owner.name, None if alone else address, address.family)


def _alone(terms: Sequence[Term], owners: Sequence[_Owner], sends: bool) -> Iterator[FlowEnd]:
    """The one address that is named: of what routes, if it is to send; or whosesoever."""
    single = _single(terms)
    if single is None:
        return
    if sends:
        yield from (FlowEnd(o.name, o.name, single, single.family) for o in owners if single in o.addresses)
    else:
        yield FlowEnd(str(single), str(single), single, single.family)


def _owners(network: Network) -> Iterator[_Owner]:
    """Everybody; hosts first, for they are meant most often."""
    routing = []
    for device in network.devices.values():
        own = [a for a, _ in device.own_addresses() if not a.is_link_local]
        if device.kind is Kind.HOST:
            yield _Owner(device.name, own, False)
        else:
            routing.append(_Owner(device.name, own, True))
        yield from (_Owner(far.name, far.addresses, False) for far in device.far_hosts.values())
    yield from routing


def _translated(network: Network, terms: Sequence[Term], owned: set[Address]) -> Iterator[FlowEnd]:
    """Addresses that nobody has and that a destination rule sends on: whoever asks them is asking somebody inside."""
    for text in fronts_of(network):
        address = parse_address(text)
        if address not in owned and any(t.holds(address) for t in terms):
            yield FlowEnd(text, text, address, address.family)


def _single(terms: Sequence[Term]) -> Address | None:
    """The one address that is meant; None where it is more than one."""
    spans = [s for t in terms for s in t.spans or ()]
    if len(terms) != 1 or terms[0].members or terms[0].masked or len(spans) != 1 or spans[0].first != spans[0].last:
        return None
    return from_key(spans[0].first)


def _block(word: str) -> Block | None:
    """An address form; None for any other word."""
    try:
        return parse_block(word)
    except AddressError:
        return None


def _asked_for(network: Network, word: str) -> bool:
    """Whether a resolver knows a name."""
    return any(d.records and word in d.records for d in network.devices.values())


def _zones(network: Network) -> set[str]:
    """Every zone."""
    return {i.zone for d in network.devices.values() for i in d.interfaces.values() if i.zone}


def _terms(network: Network, word: str) -> tuple[Term, ...] | None:
    """The addresses that a word names: a group, a segment, a zone, an address form; None for any other."""
    if word in network.groups:
        return network.groups[word].terms
    ports = _ports_of(network, word)
    if ports is not None:
        return tuple(Term(word, (a.prefix.span,)) for p in ports for a in p.addresses if not a.address.is_link_local)
    if word == "local-networks":
        return (Term(word, network.local),)
    block = _block(word)
    return None if block is None else (Term(block.text, block.spans, masked=block.masked),)


def _ports_of(network: Network, word: str) -> list[Interface] | None:
    """The interfaces on a segment, or in a zone; None where the word is neither."""
    if word in network.segments:
        return [network.devices[d].interfaces[p] for d, p in network.segments[word].members]
    if word in _zones(network):
        return [i for d in network.devices.values() for i in d.interfaces.values() if i.zone == word]
    return None
