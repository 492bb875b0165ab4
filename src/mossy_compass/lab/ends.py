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
from mossy_compass.packet.address import Address, from_key, parse_block
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
    if all(sum(a.family == family for a in there) < 2 for family in (4, 6)):
        return Meant((FlowEnd(word, word),))
    return Meant(tuple(FlowEnd(str(a), word, a, a.family) for a in there))


def _within(network: Network, word: str, terms: Sequence[Term], sends: bool, never: bool) -> Meant:
    """The modelled addresses among some.

    Raises:
        QuestionError: there is none.

    """
    ends = [
        e for owner, addresses, routes in _owners(network) for e in _inside(network, owner, addresses, routes, terms, sends, never)
    ]
    single = _single(terms)
    if not sends:
        ends += _translated(network, terms, {e.address for e in ends} | {a for _, some, _ in _owners(network) for a in some})
    elif single is not None and not ends:  # whoever names the address of what routes means it
        ends += [FlowEnd(o, o, single, single.family) for o, some, routes in _owners(network) if routes and single in some]
    left = [f"{t.words} (no address is leased to it)" for t in terms if t.leased and not t.spans]
    if not ends and single is not None and not sends:
        return Meant((FlowEnd(str(single), str(single), single, single.family),))
    if not ends and not left:
        raise QuestionError(f"no host of this network has an address in '{word}', so nobody would be tested.")
    if _is_block(word) and single is None:
        left.append(f"the rest of {word} (nobody is there)")
    return Meant(tuple(ends), tuple(left))


def _inside(
    network: Network, owner: str, addresses: Sequence[Address], routes: bool, terms: Sequence[Term], sends: bool, never: bool
) -> Iterator[FlowEnd]:
    """The ends of one owner that are meant: by its name where that says enough, else address by address."""
    inside = [a for a in addresses if any(t.holds(a) for t in terms)]
    # Of what routes, nobody expects that it sends tests, or that it answers for what it does not offer.
    if not inside or (routes and (sends or not (never or network.devices[owner].serves))):
        return
    if inside == list(addresses) and all(sum(a.family == f for a in inside) < 2 for f in (4, 6)):
        yield FlowEnd(owner, owner)
        return
    for address in inside:
        alone = sum(a.family == address.family for a in addresses) == 1
        yield FlowEnd(owner if sends or alone else str(address), owner, None if alone else address, address.family)


def _owners(network: Network) -> Iterator[tuple[str, list[Address], bool]]:
    """Everybody with the addresses that packets can be sent to, and whether it routes; hosts first, for they are meant most often."""
    routing: list[tuple[str, list[Address], bool]] = []
    for device in network.devices.values():
        own = [a for a, _ in device.own_addresses() if not a.is_link_local]
        if device.kind is Kind.HOST:
            yield device.name, own, False
        elif own:
            routing.append((device.name, own, True))
        for far in device.far_hosts.values():
            yield far.name, list(far.addresses), False
    yield from routing


def _translated(network: Network, terms: Sequence[Term], known: set[Address | None]) -> Iterator[FlowEnd]:
    """Addresses that nobody has and that a destination rule sends on: whoever asks them is asking somebody inside."""
    for device in network.devices.values():
        for rule in device.translate:
            for term in rule.destinations or () if not rule.becomes_interface and not rule.disabled else ():
                for first, last in term.spans or ():
                    address = from_key(first)
                    if first == last and address not in known and any(t.holds(address) for t in terms):
                        known.add(address)
                        yield FlowEnd(str(address), str(address), address, address.family)


def _single(terms: Sequence[Term]) -> Address | None:
    """The one address that is meant; None where it is more than one."""
    spans = [s for t in terms for s in t.spans or ()]
    if len(terms) != 1 or terms[0].members or terms[0].masked or len(spans) != 1 or spans[0].first != spans[0].last:
        return None
    return from_key(spans[0].first)


def _is_block(word: str) -> bool:
    """Whether a word is an address form."""
    try:
        parse_block(word)
    except AddressError:
        return False
    return True


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
    try:
        block = parse_block(word)
    except AddressError:
        return None
    return (Term(block.text, block.spans, masked=block.masked),)


def _ports_of(network: Network, word: str) -> list[Interface] | None:
    """The interfaces on a segment, or in a zone; None where the word is neither."""
    if word in network.segments:
        return [network.devices[d].interfaces[p] for d, p in network.segments[word].members]
    if word in _zones(network):
        return [i for d in network.devices.values() for i in d.interfaces.values() if i.zone == word]
    return None
