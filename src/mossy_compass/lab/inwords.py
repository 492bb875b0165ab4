"""Sets of packets in words: by the names of their services, and by whom they go to."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from mossy_compass.headers.sets import Set
from mossy_compass.lab.forms import Sets
from mossy_compass.lab.proofs import packets_of, services_in
from mossy_compass.model.network import Network
from mossy_compass.packet.service import BUILT_IN_SERVICES, ICMP, ICMP6, PROTOCOL_NAMES, WITH_PORTS, Service

_WITH_MORE = (*WITH_PORTS, ICMP, ICMP6)


class Arrives(NamedTuple):
    """Packets of a service, or all packets.

    Attributes:
        words: the service, or the protocol of what has no name; ``everything`` for all packets.
        partly: of some of the hosts or source ports only.
        at_times: in some moments and circumstances only.
        by_some_ways: of several equal ways some only do so.

    """

    words: str
    partly: bool
    at_times: bool
    by_some_ways: bool = False


def by_service(
    network: Network, sets: Sets, asked: Set, ever: Set, always: Set, listens: Iterable[str], forked: Set | None = None
) -> Iterator[Arrives]:
    """Packets by the names of their services, what somebody listens for first; what has no name, by its protocol.

    Args:
        network: whose names.
        sets: where services become sets.
        asked: all packets that are spoken of.
        ever, always: those of them that are named: at some moments, and at every moment.
        listens: names that come first.
        forked: those of them that are named by some of several equal ways only; None where there are none.

    """
    rest, forked = ever, sets.nothing if forked is None else forked
    by_name = [(w, services_in(network, w)) for w in dict.fromkeys((*listens, *network.services, *BUILT_IN_SERVICES, "ping"))]
    by_name += [(f"other {name}" if p in _WITH_MORE else name, (Service(p),)) for p, name in PROTOCOL_NAMES.items()]
    by_name.append(("other protocols", tuple(Service(p) for p in range(256) if p not in PROTOCOL_NAMES)))
    for word, services in by_name:
        of = packets_of(sets, services)
        if (rest & of).satisfiable():
            partly, at_times = (asked & of & ~ever).satisfiable(), (ever & of & ~always & ~forked).satisfiable()
            yield Arrives(word, bool(partly), bool(at_times), bool((of & ever & forked).satisfiable()))
            rest = rest & ~of


def by_protocol(sets: Sets, asked: Set, mine: Set) -> Iterator[Arrives]:
    """Packets by their protocols alone.

    Args:
        sets: where services become sets.
        asked: all packets that are spoken of.
        mine: those of them that are named.

    """
    known = [(name, (Service(p),)) for p, name in PROTOCOL_NAMES.items()]
    for name, services in (*known, ("other protocols", tuple(Service(p) for p in range(256) if p not in PROTOCOL_NAMES))):
        of = packets_of(sets, services)
        if (mine & of).satisfiable():
            yield Arrives(name, bool((asked & of & ~mine).satisfiable()), False)


def shortest(
    network: Network, sets: Sets, asked: Set, ever: Set, always: Set, listens: Iterable[str], forked: Set | None = None
) -> tuple[tuple[Arrives, ...], bool]:
    """Packets by name, or where that is shorter, what of all that are spoken of is none of them.

    Args:
        network, sets, asked, ever, always, listens, forked: as for ``by_service``.

    Returns:
        The names, and whether they are those of the others.

    """
    if not ever.satisfiable():
        return (), False
    forked = sets.nothing if forked is None else forked & ever
    never_always = not (asked & always).satisfiable()
    one_kind = not forked.satisfiable() or not (asked & ~forked).satisfiable()
    if not (asked & ~ever).satisfiable() and one_kind and (never_always or not (asked & ~always).satisfiable()):
        return (Arrives("everything", False, never_always, bool(forked.satisfiable())),), False
    words = tuple(listens)
    there = tuple(by_service(network, sets, asked, ever, always, words, forked))
    lost = tuple(by_service(network, sets, asked, (asked & ~always) | forked, asked & ~ever, words, forked & always))
    return (lost, True) if len(lost) < len(there) or not (asked & ~ever).satisfiable() else (there, False)
