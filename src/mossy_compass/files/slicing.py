"""A part of a network as a file of its own: some devices, and of everything else what these name.

Hosts that go and are named by what stays become groups of the same name and the same addresses, so that no rule says anything else
than before.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import Any

import yaml

_UNUSED = ("services", "hours", "applications", "groups", "names")
"""Sections whose entries are left out where nothing names them. What is left out may have named others, so it is looked again."""


class _Plain(yaml.SafeDumper):
    """Writes every word as it stands: what a file says is words here, whatever they look like elsewhere."""

    yaml_implicit_resolvers: dict[str, Any] = {}  # noqa: RUF012 - it is how this library is told so


def sliced(text: str, keep: Collection[str], addresses: Mapping[str, tuple[str, ...]], heading: str) -> str:
    """The text of a smaller network file.

    Args:
        text: of a network file without faults.
        keep: the devices that stay.
        addresses: of every device and far host, for those that only rules name.
        heading: a line for its beginning.

    """
    document: dict[str, Any] = yaml.load(text, Loader=yaml.BaseLoader)
    devices = document.get("devices") or {}
    gone = [name for name, entry in devices.items() if name not in keep for name in (name, *(entry.get("hosts") or {}))]
    document["devices"] = {name: value for name, value in devices.items() if name in keep}
    document["segments"] = dict(_segments(document.get("segments") or {}, document["devices"]))
    lists = document.get("lists") or {}
    standing = _words({k: v for k, v in document.items() if k not in ("lists", "segments")})
    document["lists"] = {name: value for name, value in lists.items() if name in standing}
    groups = dict(document.get("groups") or {})
    document["groups"] = groups | {n: list(addresses[n]) for n in gone if n not in groups and addresses.get(n)}
    while _leave_out(document):
        pass
    document = {key: value for key, value in document.items() if value not in ({}, [], None)}
    body = yaml.dump(document, Dumper=_Plain, sort_keys=False, default_flow_style=None, width=98, allow_unicode=True)
    return f"# {heading}\n{body}"


def _segments(segments: Mapping[str, Any], devices: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
    """The cables that somebody is left on, with those alone."""
    for name, entry in segments.items():
        whole = entry if isinstance(entry, dict) else {"members": entry}
        members = whole.get("members") or []
        left = [m for m in ([members] if isinstance(members, str) else members) if str(m).split("/")[0] in devices]
        if left:
            yield name, left if not isinstance(entry, dict) else {**whole, "members": left}


def _leave_out(document: dict[str, Any]) -> bool:
    """Leave out what nothing names any more; True where something was."""
    before = sum(len(document.get(s) or {}) for s in _UNUSED)
    for section in _UNUSED:
        others = _words({k: v for k, v in document.items() if k != section})
        entries = document.get(section) or {}
        mine = {name: _words(value) for name, value in entries.items()}
        named = {name for name in entries if name in others or any(name in mine[o] for o in entries if o != name)}
        document[section] = {name: value for name, value in entries.items() if name in named}
    return sum(len(document[s]) for s in _UNUSED) < before


def _words(value: Any) -> set[str]:
    """Every word in a part of a document: what is said, and the names that belong to parts of it."""
    if isinstance(value, dict):
        return {str(k) for k in value}.union(*map(_words, value.values())) if value else set()
    if isinstance(value, list):
        return set().union(*map(_words, value)) if value else set()
    text = str(value)
    return {text, *text.replace(",", " ").split()}
