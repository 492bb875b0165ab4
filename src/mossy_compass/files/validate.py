"""The shape of a document by its schema, every fault at its place.

pydantic's core gives all faults of a document at once, each with the way to it; the tree of
text knows the place of everything on that way. A faulty value is removed before resolving,
so that one fault is not told again as another.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, TypeVar

from pydantic_core import ValidationError

from mossy_compass.files import schema
from mossy_compass.files.keys import Part, ValueKind, of
from mossy_compass.files.schema import NetworkIn
from mossy_compass.files.trade import KEYS, key_for, value_for
from mossy_compass.files.tree import Node
from mossy_compass.marks import Hint, Problems, hint, nearest

_WANTED = {
    "string_type": "one plain value is wanted here, not a list or a mapping.",
    "list_type": "a list is wanted here, like [a, b].",
    "dict_type": "a mapping is wanted here: names, each with ':' and a value.",
    "model_type": "a mapping is wanted here: keys, each with ':' and a value.",
    "model_attributes_type": "a mapping is wanted here: keys, each with ':' and a value.",
}


def _part_at(loc: Iterable[str | int], root: type[Part] = NetworkIn) -> type[Part] | None:
    """The part that a path of the document leads to; None where it leads to something else."""
    kind: ValueKind | None = of(root)
    for step in loc:
        if kind is None:
            return None
        if kind.part is not None:
            entry = kind.part.named(str(step))
            kind = entry.kind if entry else None
        else:
            kind = kind.inner
    return kind.part if kind else None


def _real_path(data: Any, loc: Iterable[str | int]) -> list[str | int]:
    """The way to a value as it stands in the file; steps that only the validator knows are left out."""
    path: list[str | int] = []
    for step in loc:
        if isinstance(data, list) and isinstance(step, int) and step < len(data):
            data = data[step]
        elif isinstance(data, dict) and step in data:
            data = data[step]
        else:
            continue
        path.append(step)
    return path


_PARTS = [p for p in vars(schema).values() if isinstance(p, type) and issubclass(p, Part) and p is not Part]
"""Every part that a network file may have, to say where a misplaced key belongs."""


def _called(part: type[Part] | None) -> str:
    """What a part is called in a message: the first words of its own description."""
    return (part.__doc__ or "part").strip().split("\n")[0].split(".")[0].split(":")[0].lower() if part else "mapping"


def _say(error: Any, data: Any, path: list[str | int], root: type[Part] = NetworkIn) -> tuple[str, str, str | Hint]:
    """Code, message and remedy of one error of the validator."""
    kind, loc = error["type"], error["loc"]
    if kind == "extra_forbidden":
        part = _part_at(loc[:-1], root)
        keys = part.known() if part else []
        elsewhere = [_called(other) for other in _PARTS if root is NetworkIn and str(loc[-1]) in other.known()]
        where = f" It belongs to {', or to '.join(elsewhere[:3])}." if elsewhere else ""
        said = key_for(str(loc[-1]), keys)
        words = f"'{loc[-1]}' is not a key of {_called(part)}.{'' if said else where}"
        return "key.unknown", words, said or hint(str(loc[-1]), keys, "keys")
    if kind == "missing":
        part = _part_at(loc[:-1], root)
        return "key.missing", f"'{loc[-1]}' is missing from {_called(part)}.", f"Add {loc[-1]}: to it."
    if kind == "literal_error":
        allowed = [w.strip("'") for w in error["ctx"]["expected"].replace(" or ", ", ").split(", ")]
        others = f"is none of {', '.join(allowed)}" if len(allowed) > 1 else f"is not {allowed[0]}, and nothing else can stand here"
        return ("value.wrong", f"'{error['input']}' {others}.", _meant(error["input"], allowed))
    if kind == "ours":
        return "value.wrong", error["ctx"]["message"], ""
    if kind == "too_short":
        return "value.empty", "this list is empty, so nothing would ever be meant.", "Name at least one, or remove the key."
    if kind in _WANTED:
        listed = kind == "dict_type" and isinstance(error["input"], list)
        return "value.wrong", _WANTED[kind], "Here stands a list: write each of its items as NAME: {...} instead." if listed else ""
    if kind == "string_pattern_mismatch":
        return ("value.wrong", f"'{error['input']}' is not a name or number of at most 64 letters, digits, '.', '_' and '-'.", "")
    return "value.wrong", error["msg"][:1].lower() + error["msg"][1:] + ".", ""


def _meant(word: object, allowed: list[str]) -> str | Hint:
    """Which of a few words was meant, where that can be told."""
    if not isinstance(word, str):
        return ""
    return value_for(word, allowed) or (hint(word, allowed) if nearest(word, allowed) else "")


def _remove(data: Any, path: list[Any]) -> None:
    """Take a faulty value out, so that the rest can still be looked at and every fault is told in one pass."""
    for step in path[:-1]:
        data = data[step]
    del data[path[-1]]


OTHERS = {
    "mossy-drill": ("drill", "Run it: mossy drill FILE."),
    "mossy-change": ("change", "It is done to a network: mossy change NETWORK FILE."),
}
"""Other files of ours, by their heading: what they are called, and what is done with them."""


def validate(tree: Node, live: Node, problems: Problems, hurt: list[Node]) -> NetworkIn | None:
    """The document by its schema. What is faulty is reported, cut out (of ``live`` too), and the rest tried again.

    What something was cut out of is noted in ``hurt``: what it now lacks is not its author's fault.
    """
    data = tree.plain()
    if not isinstance(data, dict):
        words = "this is not a network file: a mapping is wanted."
        problems.add("file.shape", tree.mark, words, "It begins with 'mossy-network: 1'.")
        return None
    other = next((k for k in OTHERS if k in data), None) if "mossy-network" not in data else None
    if other is not None:
        problems.add("file.other", tree.mark, f"this is a {OTHERS[other][0]} file, and no network file.", OTHERS[other][1])
        return None
    _heading(tree, data, problems)
    wounds: set[int] = set()
    for _ in range(MOST_ROUNDS):
        try:
            return NetworkIn.read(data)
        except ValidationError as fault:
            cut = [_report(error, data, live, problems, wounds) for error in _own(fault.errors(include_url=False))]
            if [] in cut or problems.full:
                return None
            hurt += _cut_out(cut, data, live, wounds)
            data.setdefault("devices", {})
    return None


P = TypeVar("P", bound=Part)


def read_part(
    kind: type[P], tree: Node, problems: Problems, must: dict[str, Any], begins: str, steps: str = "", stand_in: Any = None
) -> P | None:
    """Another document than a network file, by its part; every fault is noted, and None given where there is one.

    Args:
        kind: what it is.
        tree: its text with places.
        problems: where faults go.
        must: keys that it has to have, with what stands in for them while the rest is looked at.
        begins: what to do where the heading is missing.
        steps: a key with a list; a faulty item of it is noted, and the rest is given all the same.
        stand_in: what is put into the place of such an item.

    """
    data = tree.plain()
    if not isinstance(data, dict):
        problems.add("file.shape", tree.mark, "a mapping is wanted here.", begins)
        return None
    for name, value in must.items():
        if name not in data:
            problems.add("key.missing", tree.mark, f"'{name}' is missing.", begins)
            data[name] = value
    for _ in range(MOST_ROUNDS):
        try:
            return kind.read(data)
        except ValidationError as fault:
            paths = [_noted(error, data, tree, problems, kind) for error in fault.errors(include_url=False)]
            if problems.full or not all(len(p) > 1 and p[0] == steps for p in paths):
                return None
            for _, index, *_ in paths:
                data[steps][index] = stand_in
    return None


def shape_alone(kind: type[Part], tree: Node, problems: Problems) -> None:
    """Note what is wrong with the shape of a document that breaks off; that something is missing may be of its end."""
    data = tree.plain()
    if not isinstance(data, dict):
        return
    try:
        kind.read(data)
    except ValidationError as fault:  # once is enough: what a second look would find follows from what was cut out after the first
        for error in fault.errors(include_url=False):
            if error["type"] != "missing":
                _noted(error, data, tree, problems, kind)


def _noted(error: Any, data: Any, tree: Node, problems: Problems, kind: type[Part]) -> list[str | int]:
    """Note one fault of a document; gives the path of what is faulty."""
    missing = error["type"] == "missing"
    path = _real_path(data, error["loc"][:-1] if missing else error["loc"])
    node = tree.at(*path)
    code, message, remedy = _say(error, data, path, kind)
    at_key = missing or error["type"] == "extra_forbidden"
    problems.add(code, (node.key if at_key and node.key else node.mark), message, remedy)
    return path


MOST_ROUNDS = 12
"""So often what is faulty is cut out and the rest tried again; a fault that hides another is rarely three deep."""


def _heading(tree: Node, data: dict[str, Any], problems: Problems) -> None:
    """The keys that every file has; what is missing is supplied, so that the rest is still looked at."""
    if "mossy-network" not in data:
        if not any("mossy-network" in KEYS.get(str(key), ()) for key in data):  # else it is answered where it stands
            problems.add("key.missing", tree.mark, "'mossy-network' is missing.", "A network file begins with 'mossy-network: 1'.")
    elif data["mossy-network"] != "1":
        words = f"version '{data['mossy-network']}' is not known."
        problems.add("file.version", tree.at("mossy-network").mark, words, "This release reads version 1.")
    data["mossy-network"] = "1"
    if "devices" not in data:
        words = "'devices' is missing: there is no device in this network."
        problems.add("key.missing", tree.mark, words, "Add devices: with at least one device.")
        data["devices"] = {}


def _own(errors: Sequence[Any]) -> list[Any]:
    """The faults without those that follow: a key is not missing that stands there under another tool's name."""
    meant = {
        (tuple(e["loc"][:-1]), key) for e in errors if e["type"] == "extra_forbidden" for key in KEYS.get(str(e["loc"][-1]), ())
    }
    return [e for e in errors if e["type"] != "missing" or (tuple(e["loc"][:-1]), e["loc"][-1]) not in meant]


def _report(error: Any, data: Any, live: Node, problems: Problems, wounds: set[int]) -> list[str | int]:
    """Note one fault, unless it is about a part that something was cut out of; gives the path of what is faulty."""
    missing = error["type"] == "missing"
    path = _real_path(data, error["loc"][:-1] if missing else error["loc"])
    node = live.at(*path)
    code, message, remedy = _say(error, data, path)
    at_key = missing or error["type"] == "extra_forbidden" or "[key]" in error["loc"]
    if id(node) not in wounds:
        problems.add(code, (node.key if at_key and node.key else node.mark), message, remedy)
    return path


def _cut_out(paths: list[list[str | int]], data: Any, live: Node, wounds: set[int]) -> list[Node]:
    """Remove what is faulty, the last of a list first; gives the parts that it was cut out of."""
    cut = {tuple(p): p for p in paths}
    out: list[Node] = []
    for path in sorted(cut.values(), key=lambda p: [(str(type(s)), s) for s in p], reverse=True):
        if any(tuple(path[:n]) in cut for n in range(1, len(path))):
            continue
        fresh = [live.at(*path[:n]) for n in range(2, len(path))]
        out += fresh
        wounds |= {id(node) for node in fresh}
        _remove(data, path)
        live.at(*path[:-1]).cut(path[-1])
    return out
