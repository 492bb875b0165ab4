"""Which words of a network file refer to what: so that a rename reaches all of them, and nothing that only looks alike.

A word under ``from`` may be a group, a device, a name, a segment or a zone; it refers to the first of these that there is, as
``names.py`` looks for them. A name that two kinds of things have is refused when a file is read, so a word has one meaning.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from mossy_compass.files.spans import Piece

Path = tuple[str, ...]
ADDRESSES = ("from", "to", "source", "for", "goes-to", "address")
"""Keys whose words are addresses: groups, devices, far hosts, names, segments, zones."""
PORTS = ("arriving", "leaving")
LISTS = ("arriving", "leaving", "lists", "to-self", "from-self", "everywhere", "list")


def references(root: Piece, section: str, device: str, name: str) -> Iterator[tuple[Piece, Path]]:
    """Every word, or key, that refers to something by its name.

    Args:
        root: the pieces of a file.
        section: what it is: groups, services, lists, devices, names, segments, hours, applications; or, of a device,
            interfaces, uplinks, hosts.
        device: whose interface it is; else empty.
        name: as it is called.

    """
    for piece, path in _words(root, ()):
        if _refers(path, section, device) and _says(piece, path, section, device, name):
            yield piece, path


def _words(piece: Piece, path: Path) -> Iterator[tuple[Piece, Path]]:
    """Every text of a file with the way to it; numbers of lists are left out. Keys have ``:`` at the end of their way."""
    if isinstance(piece.value, str):
        yield piece, path
    elif isinstance(piece.value, list):
        for inner in piece.value:
            yield from _words(inner, path)
    else:
        for key, inner in piece.value.items():
            if inner.key is not None:
                yield inner.key, (*path, ":")
            yield from _words(inner, (*path, key))


def _says(piece: Piece, path: Path, section: str, device: str, name: str) -> bool:
    """Whether a word is the name, or in a segment the name with an interface or of one."""
    said = str(piece.value)
    if path[:1] == ("segments",):
        host, _, port = said.partition("/")
        return host == name if section == "devices" else (host, port) == (device, name)
    return said == name


def _refers(path: Path, section: str, device: str) -> bool:
    """Whether words on a path may be names of a section."""
    if path[-1:] == ("about",) or path[-1:] == ("title",):
        return False
    last = next((p for p in reversed(path) if p != ":"), "")
    key = path[-1] == ":"
    if section in ("interfaces", "uplinks"):
        return _refers_to_port(path, device, last, key)
    if section in _SECTIONS:
        return _SECTIONS[section](path, last, key)
    if section == "devices" and path[:1] == ("segments",):
        return not key and last != "about"
    return not key and (_addressed(path, last) or (section == "names" and last == "name"))


def _addressed(path: Path, last: str) -> bool:
    """Whether words on a path are addresses of some form, or what stands for them."""
    return last in ADDRESSES or (path[:1] == ("groups",) and last != "about") or "offers" in path


def _refers_to_port(path: Path, device: str, last: str, key: bool) -> bool:
    """Whether words may be interfaces of a device: within it, or as members of a segment."""
    mine = path[:2] == ("devices", device) and "filter" not in path
    inside = last in (*PORTS, "into", "parent", "from", "uplinks", "leases", "offers") or path[2:3] in (("uplinks",), ("leases",))
    return (mine and inside) or (path[:1] == ("segments",) and not key and last != "about")


def _refers_to_list(path: Path, last: str, key: bool) -> bool:
    """Whether words may be lists: where they stand."""
    return last in LISTS and path[:1] == ("devices",) and (last not in PORTS or "filter" in path) and not key


def _refers_to_service(path: Path, last: str, key: bool) -> bool:
    """Whether words may be services: in rules, in what is served, in other services, and as what is offered."""
    offered = key and "offers" in path and len(path) == 5
    return offered or (not key and (last in ("service", "serves") or path[:1] == ("services",)))


_SECTIONS: dict[str, Callable[[Path, str, bool], bool]] = {
    "lists": _refers_to_list,
    "services": _refers_to_service,
    "hours": lambda path, last, key: last == "hours" and len(path) > 1,
    "applications": lambda path, last, key: last == "application",
}
"""Where words may be names of a section: by the path, its last word, and whether that is a key."""
