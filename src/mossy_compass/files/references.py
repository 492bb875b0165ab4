"""Which words of a document name what: the one table behind renaming, where-used, and what is named nowhere.

The table is the schema itself: each key says which sort of word it holds (``refers``), and a law of the tests sees that every
key which may name something does. Here is what each sort may name, in the order in which it is looked for, as ``names.py``
looks for it; so a word under ``from`` that a group and a segment have means the group.

Documents are read as trees of either make: with places (``tree.py``) or with characters (``spans.py``).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from mossy_compass.files.keys import ValueKind, of
from mossy_compass.files.schema import NetworkIn
from mossy_compass.model.network import LAST_RESORT

Path = tuple[str | int, ...]
SECTIONS = {
    "group": "groups",
    "service": "services",
    "list": "lists",
    "device": "devices",
    "segment": "segments",
    "hours": "hours",
    "application": "applications",
    "name": "names",
}
"""Kinds of things that have a section of their own, and its key."""
OF_DEVICES = {"interface": "interfaces", "uplink": "uplinks", "far-host": "hosts", "probe": "probes"}
"""Kinds of things that are written under a device, and their key there."""


class Thing(NamedTuple):
    """What has a name.

    Attributes:
        kind: group, service, list, device, interface, uplink, zone, far-host, name, segment, hours, application, category, table.
        name: its name.
        device: whose it is, for an interface, an uplink, a zone as a device's rules say it, and a route table.

    """

    kind: str
    name: str
    device: str = ""


class Mention(NamedTuple):
    """A word, or key, that names something.

    Attributes:
        word: as it is written.
        refers: which sort of word it is.
        at: its piece of the tree; for a key of a tree with places, the place.
        path: keys and numbers that lead to it.

    """

    word: str
    refers: str
    at: Any
    path: Path

    @property
    def device(self) -> str:
        """Under which device it stands; empty elsewhere."""
        return str(self.path[1]) if self.path[:1] == ("devices",) and len(self.path) > 1 else ""


class Names:
    """What has a name in a document, and what each word of it names.

    Attributes:
        root: the document.
        mentions: every word that may name something, in the order of the document.

    """

    def __init__(self, root: Any) -> None:
        self.root = root
        self.mentions = tuple(_mentions(root, of(NetworkIn), ()))
        self._sections = {kind: set(_mapping(_at(root, section))) for kind, section in SECTIONS.items()}
        devices = _mapping(_at(root, "devices"))
        self._of_device = {name: _held(entry) for name, entry in devices.items()}
        self._far = {n for d in self._of_device.values() for n in d["far-host"]}
        self._categories = {
            c for a in _mapping(_at(root, "applications")).values() for c in _texts(_at(a, "category"))
        } - self._sections["application"]
        self._records = {n for d in devices.values() for n in _mapping(_at(d, "records"))}
        self._standing: dict[str, set[str]] = {}
        for mention in self.mentions:
            if mention.refers == "list" and mention.device:
                self._standing.setdefault(mention.word, set()).add(mention.device)

    def names(self, mention: Mention) -> tuple[Thing, ...]:
        """What a word names: mostly one thing; in a list that stands at several devices, an interface of each."""
        return tuple(_RESOLVE[mention.refers](self, mention))

    def used(self) -> dict[Thing, list[Mention]]:
        """Every thing that is named somewhere, with the words that name it."""
        out: dict[Thing, list[Mention]] = {}
        for mention in self.mentions:
            for thing in self.names(mention):
                out.setdefault(thing, []).append(mention)
        return out

    def declared(self, kinds: Iterable[str]) -> Iterator[tuple[Thing, Path]]:
        """Every thing of some kinds, with the path where it is written."""
        for kind in kinds:
            if kind in SECTIONS:
                yield from ((Thing(kind, n), (SECTIONS[kind], n)) for n in _mapping(_at(self.root, SECTIONS[kind])))
                continue
            key = OF_DEVICES[kind]
            for device, entry in _mapping(_at(self.root, "devices")).items():
                yield from ((Thing(kind, n, device), ("devices", device, key, n)) for n in _mapping(_at(entry, key)))

    def of_zone(self, zone: str) -> Iterator[Any]:
        """The words that put an interface into a zone."""
        for device in _mapping(_at(self.root, "devices")).values():
            for port in _mapping(_at(device, "interfaces")).values():
                said = _at(port, "zone")
                if said is not None and said.value == zone:
                    yield said

    def called(self, name: str) -> list[Thing]:
        """Everything that has a name, of whatever kind."""
        out = [Thing(kind, name) for kind, names in self._sections.items() if name in names]
        out += [Thing("far-host", name)] * (name in self._far) + [Thing("category", name)] * (name in self._categories)
        for device, held in self._of_device.items():
            out += [Thing(kind, name, device) for kind in ("interface", "uplink", "table", "probe") if name in held[kind]]
        if any(name in held["zone"] for held in self._of_device.values()):
            out.append(Thing("zone", name))
        return out

    def known(self) -> set[str]:
        """Every name."""
        own = {n for held in self._of_device.values() for names in held.values() for n in names}
        return own.union(self._categories, *self._sections.values())

    # --- what each sort of word may name

    def _address(self, mention: Mention) -> Iterator[Thing]:
        word = mention.word
        for kind, names in (
            ("group", self._sections["group"]),
            ("device", self._sections["device"]),
            ("far-host", self._far),
            ("name", self._sections["name"]),
            ("segment", self._sections["segment"]),
        ):
            if word in names:
                yield Thing(kind, word)
                return
        if any(word in held["zone"] for held in self._of_device.values()):
            yield Thing("zone", word)

    def _port(self, mention: Mention) -> Iterator[Thing]:
        """An interface before a group of uplinks before a zone, of the device; in a list, of every device where it stands."""
        devices: Iterable[str] = [mention.device]
        if mention.path[0] == "lists":
            devices = sorted(self._standing.get(str(mention.path[1]), ()))
        for device in devices:
            held = self._of_device.get(device, {})
            for kind in ("interface", "uplink", "zone"):
                if mention.word in held.get(kind, ()):
                    yield Thing(kind, mention.word, "" if kind == "zone" else device)
                    break

    def _member(self, mention: Mention) -> Iterator[Thing]:
        """A member of a segment: a device, and its interface where one is named."""
        device, slash, port = mention.word.partition("/")
        if device in self._sections["device"]:
            yield Thing("device", device)
            if slash and port in self._of_device[device]["interface"]:
                yield Thing("interface", port, device)

    def _while(self, mention: Mention) -> Iterator[Thing]:
        """A probe of the device, or a group of uplinks of which the last resort is meant; in a list, of every device where it stands."""
        group, slash, _ = mention.word.rpartition(LAST_RESORT)
        if not slash:
            yield from self._of_its_device("probe")(mention)
        elif mention.path[0] == "lists":
            for device in sorted(self._standing.get(str(mention.path[1]), ())):
                if group in self._of_device.get(device, {}).get("uplink", ()):
                    yield Thing("uplink", group, device)
        elif group in self._of_device.get(mention.device, {}).get("uplink", ()):
            yield Thing("uplink", group, mention.device)

    def _application(self, mention: Mention) -> Iterator[Thing]:
        if mention.word in self._sections["application"]:
            yield Thing("application", mention.word)
        elif mention.word in self._categories:
            yield Thing("category", mention.word)

    def _of_its_device(self, kind: str) -> Callable[[Mention], Iterator[Thing]]:
        def found(mention: Mention) -> Iterator[Thing]:
            if mention.word in self._of_device.get(mention.device, {}).get(kind, ()):
                yield Thing(kind, mention.word, mention.device)

        return found

    def _of_section(self, kind: str) -> Callable[[Mention], Iterator[Thing]]:
        def found(mention: Mention) -> Iterator[Thing]:
            if mention.word in self._sections[kind]:
                yield Thing(kind, mention.word)

        return found


_RESOLVE: Mapping[str, Callable[[Names, Mention], Iterator[Thing]]] = {
    "address": Names._address,
    "port": Names._port,
    "member": Names._member,
    "application": Names._application,
    "service": lambda names, m: names._of_section("service")(m),
    "list": lambda names, m: names._of_section("list")(m),
    "hours": lambda names, m: names._of_section("hours")(m),
    "name": lambda names, m: names._of_section("name")(m),
    "interface": lambda names, m: names._of_its_device("interface")(m),
    "table": lambda names, m: names._of_its_device("table")(m),
    "while": Names._while,
}
"""What each sort of word may name."""


def renamed(mention: Mention, thing: Thing, new: str) -> str:
    """A word once what it names is called otherwise; of ``device/interface`` the half that is meant."""
    if mention.refers == "while" and thing.kind == "uplink":
        return f"{new}{LAST_RESORT}"
    if mention.refers != "member":
        return new
    device, slash, port = mention.word.partition("/")
    return f"{new}{slash}{port}" if thing.kind == "device" else f"{device}/{new}"


# --- the walk ----------------------------------------------------------------------------------------------------


def _mentions(node: Any, kind: ValueKind, path: Path) -> Iterator[Mention]:
    """The words of a part of a document that name something, by its kind. What is not as the schema says is passed over."""
    value = node.value
    if isinstance(value, str):
        yield from _of_word(node, value, kind, path)
    elif isinstance(value, list):
        if kind.part is not None and kind.part.short:  # a list that stands for the whole part
            short = kind.part.named(kind.part.short)
            kind = short.kind if short is not None else kind
            path = (*path, "") if short is None else path
        for number, inner in enumerate(value):
            yield from _mentions(inner, kind.inner or kind, (*path, number))
    else:
        yield from _of_mapping(value, kind, path)


def _of_word(node: Any, word: str, kind: ValueKind, path: Path) -> Iterator[Mention]:
    """A single value: a word, or one that stands for a list of it, or for a whole part."""
    while kind.part is not None or kind.inner is not None:
        if kind.part is not None:
            short = kind.part.named(kind.part.short) if kind.part.short else None
            if short is None:
                return
            kind = short.kind
        elif kind.inner is not None:
            kind = kind.inner
    if kind.refers:
        yield Mention(word, kind.refers, node, path)


def _of_mapping(value: Mapping[str, Any], kind: ValueKind, path: Path) -> Iterator[Mention]:
    """The values of a mapping, and its keys where those name something."""
    if kind.part is None and kind.names is None and kind.inner is not None:  # one part that stands for a list of it
        kind = kind.inner
    for word, inner in value.items():
        if kind.part is not None:
            entry = kind.part.named(word)
            if entry is not None:
                yield from _mentions(inner, entry.kind, (*path, word))
        elif kind.inner is not None:
            if kind.names is not None and kind.names.refers:
                yield Mention(word, kind.names.refers, inner.key, (*path, word))
            yield from _mentions(inner, kind.inner, (*path, word))


def _at(node: Any, key: str) -> Any:
    """The part under a key; None where there is none."""
    return node.value.get(key) if node is not None and isinstance(node.value, dict) else None


def _mapping(node: Any) -> Mapping[str, Any]:
    """The parts of a mapping by their keys; nothing where there is none."""
    return node.value if node is not None and isinstance(node.value, dict) else {}


def _texts(node: Any) -> list[str]:
    """The texts of a list, or the one that stands for it."""
    if node is None:
        return []
    if isinstance(node.value, str):
        return [node.value]
    return [p.value for p in node.value if isinstance(p.value, str)] if isinstance(node.value, list) else []


def _held(device: Any) -> dict[str, set[str]]:
    """What has a name at a device."""
    ports = _mapping(_at(device, "interfaces"))
    routes = _at(device, "routes")
    tables = {
        str(t.value)
        for r in (routes.value if routes is not None and isinstance(routes.value, list) else ())
        if (t := _at(r, "table"))
    }
    return {
        "interface": {*ports, *_texts(_at(device, "ports")), *({"nic"} if _at(device, "address") or _at(device, "leased") else ())},
        "uplink": set(_mapping(_at(device, "uplinks"))),
        "far-host": set(_mapping(_at(device, "hosts"))),
        "probe": set(_mapping(_at(device, "probes"))),
        "zone": {str(z.value) for p in ports.values() if (z := _at(p, "zone")) is not None},
        "table": tables,
    }


# --- where a name is used ----------------------------------------------------------------------------------------


class Use(NamedTuple):
    """Where a name is used.

    Attributes:
        where: the rule, device or other part, in words.
        role: the key, or what it is there.
        path: keys and numbers.
        line: of the file; 0 where that is not known.

    """

    where: str
    role: str
    path: Path
    line: int


def uses(names: Names, name: str) -> list[Use]:
    """Every place that names something, straight or through groups and services that hold it."""
    used, out = names.used(), list[Use]()
    waiting: list[tuple[Thing, str]] = [(thing, "") for thing in names.called(name)]
    seen = {thing for thing, _ in waiting}
    while waiting:
        thing, through = waiting.pop(0)
        for mention in used.get(thing, ()):
            where, role = _words(names.root, mention)
            out.append(Use(where, f"{role}{through}", mention.path, _line(mention)))
            holder = {"groups": "group", "services": "service"}.get(str(mention.path[0]))
            outer = Thing(holder, str(mention.path[1])) if holder else thing
            if outer not in seen:
                seen.add(outer)
                waiting.append((outer, f" (through {outer.kind} {outer.name})"))
    return list(dict.fromkeys(out))


def _line(mention: Mention) -> int:
    """The line of a mention, in a tree with places."""
    mark = getattr(mention.at, "mark", mention.at)
    return int(getattr(mark, "line", 0))


def _ident(root: Any, path: Path) -> str:
    """What an entry of a list of rules is called: its id, or its number in tens."""
    node = root
    for step in path[:-1]:
        node = node.value[step]
    number = 0
    for entry in node.value[: int(path[-1]) + 1]:
        said = _at(entry, "id")
        ident = str(said.value) if said is not None else ""
        number = int(ident) if ident.isdigit() else number if ident else (number // 10 + 1) * 10
        name = ident or str(number)
    return name


def _words(root: Any, mention: Mention) -> tuple[str, str]:
    """Where a mention stands, and as what, in words."""
    section, name, *rest = mention.path
    if section == "lists":
        at = next(n for n, step in enumerate(mention.path) if isinstance(step, int))
        return f"list {name} rule {_ident(root, mention.path[: at + 1])}", _last_key(mention.path)
    if section == "devices":
        return _words_of_device(root, mention, str(name), rest)
    role = {"groups": "member", "services": "member", "segments": "member"}.get(str(section), "flows")
    return f"{str(section).removesuffix('s')} {name}", role


def _last_key(path: Path) -> str:
    """The last key of a path."""
    return next(str(step) for step in reversed(path) if isinstance(step, str))


def _words_of_device(root: Any, mention: Mention, device: str, rest: list[str | int]) -> tuple[str, str]:
    """The same within a device."""
    part, *inner = rest
    key = _last_key(mention.path)
    if part == "interfaces":
        place = f"{device}/{inner[0]}"
        return (f"{place} {inner[2]}", "list") if inner[1:2] == ["filter"] else (place, key)
    if part in ("everywhere", "to-self", "from-self"):
        return f"{device} {part}", "list"
    if part in ("translate", "policy-routes", "routes", "crossings") and inner:
        return _words_of_row(root, mention, device, str(part), key)
    if part == "profiles":
        return f"profile {inner[0]} of {device}", {"lists": "list", "for": "member"}.get(key, key)
    if part == "offers":
        return f"offer {inner[1]} of {device}/{inner[0]}" if inner[1:] else f"offers of {device}/{inner[0]}", "service or source"
    if part == "uplinks":
        return f"group of uplinks {inner[0]} of {device}", "member"
    if part == "leases":
        return f"lease service of {device}", "interface"
    if part == "hosts":
        return f"far host {inner[0]}", "serves"
    return f"device {device}", str(part)


def _words_of_row(root: Any, mention: Mention, device: str, part: str, key: str) -> tuple[str, str]:
    """The same within a row of a device: a translation rule, a policy route, a route, a crossing."""
    row = mention.path[:4]
    node = root
    for step in row:
        node = node.value[step]
    if part == "translate":
        return f"translation rule {_ident(root, row)} of {device}", "list" if key == "lists" else key
    if part == "policy-routes":
        role = "list (it chooses, and filters nothing)" if key == "list" else key
        return f"policy route {_ident(root, row)} of {device}", role
    if part == "routes":
        return f"route to {_at(node, 'prefix').value} of {device}", key
    ends = " into ".join(str(_at(node, end).value) for end in ("from", "into"))
    return f"crossing {ends} of {device}", "list" if key == "lists" else "zone"
