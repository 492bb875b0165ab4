"""Where two versions of a network are written otherwise: so that a difference which no test notices is not passed over."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from mossy_compass.model.gates import Profile
from mossy_compass.model.network import Network, Probe, Translate, Tunnel
from mossy_compass.model.settings import Settings
from mossy_compass.model.terms import ServiceGroup, Term

KEYS = {
    "verdict": "",
    "sources": "from",
    "destinations": "to",
    "from_ports": "from-port",
    "services": "service",
    "service_words": "service",
    "states": "state",
    "applications": "application",
    "names": "name",
    "last_resort": "while",
    "terms": "members",
    "categories": "category",
    "start": "from",
    "end": "until",
    "addresses": "address",
    "point_to_point": "network",
    "arriving_lists": "filter/arriving",
    "leaving_lists": "filter/leaving",
    "originate_default": "default-route",
    "far_hosts": "hosts",
    "otherwise": "none-available",
    "member_probes": "uplinks",
    "member_hops": "uplinks",
    "groups": "uplinks",
    "best": "",
    "down_after": "down-after",
    "translates": "translate",
    "switch": "translate",
    "inspects": "stateful",
    "of_source": "becomes",
    "outer": "becomes",
    "servers": "goes-to",
    "redirects": "goes-to",
    "exempt": "goes-to",
    "to_range": "goes-to/port",
    "classifier": "list",
    "rule": "",
    "family": "",
    "origin": "",
    "latency_ms": "latency",
    "jitter_ms": "jitter",
    "loss_percent": "loss",
    "down": "state",
    "everywhere_on": "everywhere/enabled",
    "offering": "offers",
    "access_vlan": "untagged",
    "trunk_vlans": "tagged",
    "gates": "",
    "link": "",
}
"""What the file calls a part, where that is not the model's word; empty for a part that the file has no key for."""
OWN_KEYS = {
    (Network, "services"): "services",
    (Network, "groups"): "groups",
    (Network, "names"): "names",
    (Network, "applications"): "applications",
    (ServiceGroup, "services"): "members",
    (Translate, "sources"): "source",
    (Profile, "members"): "for",
    (Probe, "words"): "target",
    (Tunnel, "words"): "to",
    (Tunnel, "probe"): "while",
    (Tunnel, "exchanged"): "keys",
    (Tunnel, "divides"): "df",
}
"""The same, where one kind of part has another word than the rest."""
WORDS_ONLY = ("title", "about")


class Unlike(NamedTuple):
    """One difference.

    Attributes:
        place: the keys of the file that lead there, joined by slashes.
        what: how it differs.

    """

    place: str
    what: str


def unlike(before: Network, after: Network) -> list[Unlike]:
    """Every place where two versions differ in what packets could feel; titles and purposes are left out.

    Args:
        before, after: the versions.

    """
    found = (Unlike("/".join(p for p in path if p), what) for path, what in _apart((), before, after))
    return list(dict.fromkeys(found))


Path = tuple[str, ...]


def _apart(path: Path, before: Any, after: Any) -> Iterator[tuple[Path, str]]:
    """The differences of two values at one place."""
    if before == after or isinstance(before, Term):  # an entry of the same words: what it stands for is told at its own place
        return
    if isinstance(before, Settings) and isinstance(after, Settings):
        before, after = before.values, after.values
    if isinstance(before, Mapping) and isinstance(after, Mapping):
        yield from _mapped(path, before, after)
    elif dataclasses.is_dataclass(before) and type(before) is type(after):
        for name in _parts(before):
            yield from _apart((*path, key_of(type(before), name)), getattr(before, name), getattr(after, name))
    elif isinstance(before, tuple) and isinstance(after, tuple) and not hasattr(before, "_fields"):
        yield from _listed(path, before, after)
    else:
        yield path, _turned(before, after)


def _mapped(path: Path, before: Mapping[Any, Any], after: Mapping[Any, Any]) -> Iterator[tuple[Path, str]]:
    """The differences of two mappings, name by name."""
    for name in dict.fromkeys([*before, *after]):
        here = (*path, str(name))
        if name not in after:
            yield here, "gone"
        elif name not in before:
            yield here, "new"
        else:
            yield from _apart(here, before[name], after[name])
    if list(before) != list(after) and set(before) == set(after):
        yield path, "in another order"


def _parts(part: Any) -> Iterator[str]:
    """The fields that make a part what it is; services only where no words say them."""
    worded = getattr(part, "service_words", "")
    for field in dataclasses.fields(part):
        if field.compare and field.name not in WORDS_ONLY and not (worded and field.name == "services"):
            yield field.name


def key_of(kind: type, field: str) -> str:
    """The key of the file for a field of the model."""
    return OWN_KEYS.get((kind, field), KEYS.get(field, field.replace("_", "-")))


def _name(entry: Any) -> Any:
    """What tells an entry of a list from others: its number or name, or its words; None without any."""
    if isinstance(entry, Term):
        return entry.words
    return getattr(entry, "id", None) or getattr(entry, "name", None)


def _listed(path: Path, before: tuple[Any, ...], after: tuple[Any, ...]) -> Iterator[tuple[Path, str]]:
    """The differences of two lists: entry by entry where as many have the same names, else how many are new or gone."""
    # The switch of a rule is told at the rule.
    before, after = (tuple(e for e in side if getattr(e, "switch", None) is None) for side in (before, after))
    if before == after:
        return
    names, others = [[_name(entry) for entry in side] for side in (before, after)]
    if names == others and all(names):
        for name, one, other in zip(names, before, after, strict=True):
            yield from _apart((*path, str(name)), one, other)
        return
    # Rules are told apart by their numbers, members by their words; what has neither (routes, offers) is compared whole.
    one, other = (names, others) if all([*names, *others]) else (before, after)
    said = [f"{count} {word}" for count, word in ((_missing(one, other), "gone"), (_missing(other, one), "new")) if count]
    yield path, ", ".join(said) or "in another order"


def _missing(here: Sequence[Any], there: Sequence[Any]) -> int:
    """How many entries of one list are not in another."""
    return sum(entry not in there for entry in here)


def _turned(before: Any, after: Any) -> str:
    """One value and the other, where both are a word or a number."""
    if all(isinstance(v, str | int | float) for v in (before, after)):
        return f"{_said(before)}, now {_said(after)}"
    return "new" if before is None else "gone" if after is None else "otherwise"


def _said(value: str | float) -> str:
    """A value as a file has it."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    return str(value) or "nothing"
