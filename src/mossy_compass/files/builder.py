"""Build a network in Python, without YAML. Same keys, same checks; marks cite the Python lines.

A builder makes the same tree of text that the YAML reader makes, so there is one validation
and one set of messages. The place of each value is the line of Python that gave it, found
by looking at the caller once for each call.
"""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from pathlib import PurePath
from typing import Any

from mossy_compass.errors import NetworkFileError
from mossy_compass.files.load import read_node
from mossy_compass.files.tree import Node
from mossy_compass.marks import Mark, Problems
from mossy_compass.model.network import Network


class Builder:
    """Collects the parts of a network; ``finish`` checks them and gives the model.

    Keyword arguments are the keys of the network file with ``_`` for ``-`` (``from_`` for ``from``). Values are
    texts, numbers, booleans, lists and mappings.

    Example:
        >>> b = Builder("Two rooms")
        >>> b.router("corridor", east="10.40.1.1/24", west="10.40.2.1/24")
        >>> b.host("desk", "10.40.1.10/24", gateway="10.40.1.1")
        >>> b.host("press", "10.40.2.10/24", gateway="10.40.2.1", serves=["tcp/9100"])
        >>> b.segment("east", "desk", "corridor/east")
        >>> b.segment("west", "press", "corridor/west")
        >>> network = b.finish()

    """

    def __init__(self, title: str = "", **top: Any) -> None:
        mark = _caller()
        self._root: dict[str, Node] = {"mossy-network": Node("1", mark), "title": Node(title, mark)}
        self._problems = Problems()
        for key, value in top.items():
            self._root[_key(key)] = _node(value, mark)

    def __repr__(self) -> str:
        held = {n: len(p.value) for n, p in self._root.items() if isinstance(p.value, dict)}
        parts = ", ".join(f"{count} {name}" for name, count in held.items()) or "nothing yet"
        return f"<Builder of {self._root['title'].value or 'a network'}: {parts}>"

    def _add(self, section: str, name: str, value: Any, mark: Mark) -> None:
        """Put a part into the tree of text, as if it had been read from a file; its place is the line of the caller."""
        part = self._root.setdefault(section, Node({}, mark))
        assert isinstance(part.value, dict)
        if name in part.value:
            self._problems.add("builder.twice", mark, f"'{name}' is already one of the {section}.", "Choose another name.")
            return
        part.value[name] = Node(_node(value, mark).value, mark, mark)

    def router(
        self, name: str, /, *, routes: Sequence[Mapping[str, Any]] = (), keys: Mapping[str, Any] | None = None, **interfaces: Any
    ) -> None:
        """Add a router: each further keyword is an interface, with its address or a mapping of its keys.

        Args:
            name: name of the device.
            routes: static routes, each a mapping.
            keys: further keys of the device, as in the file.

        """
        self._device("router", name, routes, keys, interfaces)

    def firewall(
        self, name: str, /, *, routes: Sequence[Mapping[str, Any]] = (), keys: Mapping[str, Any] | None = None, **interfaces: Any
    ) -> None:
        """Add a firewall; the arguments are those of ``router``."""
        self._device("firewall", name, routes, keys, interfaces)

    def _device(
        self,
        kind: str,
        name: str,
        routes: Sequence[Mapping[str, Any]],
        keys: Mapping[str, Any] | None,
        interfaces: Mapping[str, Any],
    ) -> None:
        """Add a device of a kind with its routes and further keys."""
        entry: dict[str, Any] = {"kind": kind, "interfaces": {k.rstrip("_"): v for k, v in interfaces.items()}, **(keys or {})}
        if routes:
            entry["routes"] = list(routes)
        self._add("devices", name, entry, _caller(3))

    def host(self, name: str, address: str | Sequence[str], /, **keys: Any) -> None:
        """Add a host with one interface."""
        self._add("devices", name, {"kind": "host", "address": address, **{_key(k): v for k, v in keys.items()}}, _caller())

    def device(self, name: str, /, **keys: Any) -> None:
        """Add a device of any kind; the keywords are the keys of the file."""
        self._add("devices", name, {_key(k): v for k, v in keys.items()}, _caller())

    def segment(self, name: str, /, *members: str, **keys: Any) -> None:
        """Join interfaces: ``device/interface``, or the name of a host with one interface."""
        self._add("segments", name, {"members": list(members), **{_key(k): v for k, v in keys.items()}}, _caller())

    def access_list(self, name: str, /, *rules: Mapping[str, Any]) -> None:
        """Add an access list. A rule is a mapping with the file's keys."""
        self._add("lists", name, list(rules), _caller())

    def group(self, name: str, /, *members: str) -> None:
        """Add an address group."""
        self._add("groups", name, list(members), _caller())

    def service(self, name: str, /, *members: str) -> None:
        """Add a named service."""
        self._add("services", name, list(members), _caller())

    def name(self, name: str, /, *addresses: str) -> None:
        """Add a name record."""
        self._add("names", name, list(addresses), _caller())

    def finish(self) -> Network:
        """Check everything and give the model.

        Raises:
            NetworkFileError: with every fault that was found, each marked with the Python line that wrote it.

        """
        reading = read_node(Node(self._root, _caller()), self._problems)
        if reading.network is None:
            raise NetworkFileError(reading.errors)
        return reading.network


def _key(word: str) -> str:
    """The key as it is written in a file: ``from_port`` is ``from-port``, and ``from_`` is ``from``."""
    return word.rstrip("_").replace("_", "-")


def _caller(depth: int = 2) -> Mark:
    """Where the call came from, so that an error points at the user's own line and not at this file."""
    frame = sys._getframe(depth)
    return Mark(PurePath(frame.f_code.co_filename).name, frame.f_lineno, 1)


def _node(value: Any, mark: Mark) -> Node:
    """A Python value as the text that a file would hold, each piece with the caller's place."""
    if isinstance(value, Mapping):
        return Node({str(k): Node(_node(v, mark).value, mark, mark) for k, v in value.items()}, mark)
    if isinstance(value, list | tuple):
        return Node([_node(v, mark) for v in value], mark)
    if isinstance(value, bool):
        return Node("yes" if value else "no", mark)
    return Node(str(value), mark)
