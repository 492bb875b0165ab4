"""What conditions name: addresses and services, alone or in groups, as they are written."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

from mossy_compass.marks import Mark
from mossy_compass.packet.address import Address, Masked, Spans, in_spans
from mossy_compass.packet.service import Service


class Shown:
    """Base of the parts of a model: shown by kind and name, since a whole network would fill pages."""

    def __repr__(self) -> str:
        name = getattr(self, "name", getattr(self, "id", getattr(self, "words", "")))
        return f"<{type(self).__name__} {name}>" if name else f"<{type(self).__name__}>"


@dataclass(frozen=True, repr=False)
class Term(Shown):
    """One entry of an address condition or group.

    Attributes:
        words: how it was named (a group's name, a device, ``any``) or its normal form.
        spans: the addresses; None for ``self``, which depends on the device that asks.
        members: for a group, its entries.
        leased: name of a device whose address comes by a lease: the addresses are filled in when that is known.
        masked: addresses that are kept as a mask, beside ``spans``.

    """

    words: str
    spans: Spans | None
    members: tuple[Term, ...] = ()
    leased: str = ""
    masked: tuple[Masked, ...] = ()

    def holds(self, address: Address) -> bool:
        """True when the address is one of the term's; never for ``self``, which only a device can tell."""
        return in_spans(address.key, self.spans or ()) or any(m.holds(address.key) for m in self.masked)


@dataclass(frozen=True, repr=False)
class Group(Shown):
    """A named set of addresses.

    Attributes:
        name: ours to print, never an address.
        terms: its members as written, groups within groups kept.
        mark: where it is written.
        about: what it is for, in the author's words.

    """

    name: str
    terms: tuple[Term, ...]
    mark: Mark = field(compare=False)
    about: str = ""


class Expects(NamedTuple):
    """What the first channel of a service tells of a second one.

    Attributes:
        asker, answerer: whether that end may tell where it waits; the other end opens the second channel.
        over: what the second channel may be.

    """

    asker: bool
    answerer: bool
    over: tuple[Service, ...]


@dataclass(frozen=True, repr=False)
class ServiceGroup(Shown):
    """A named set of services.

    Attributes:
        name: as rules say it.
        services: its members, names within names resolved.
        mark: where it is written.
        about: what it is for.
        expects: the second channel that its conversations tell of; None for none.

    """

    name: str
    services: tuple[Service, ...]
    mark: Mark = field(compare=False)
    about: str = ""
    expects: Expects | None = None
