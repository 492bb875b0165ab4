"""YAML text to a tree of text scalars, each with its place. Nothing is guessed: ``10:20`` stays ``10:20``.

The parser's events are read in one pass with bounds on size, depth and number of nodes, so that no input
takes long. Duplicate keys, anchors, aliases and tags are refused.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import yaml

from mossy_compass.errors import NetworkFileError
from mossy_compass.marks import Mark, Problem, Problems, Severity

MOST_BYTES = 8 * 1024 * 1024
MOST_DEPTH = 16
MOST_NODES = 500_000

_Loader: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


@dataclass(slots=True)
class Node:
    """A piece of the document: text, list or mapping, where it stands, and where its key stands.

    Attributes:
        value: text, a dict of nodes, or a list of them.
        mark: where it begins.
        key: where its own key stands, for a complaint about the key.

    """

    value: str | list[Node] | dict[str, Node]
    mark: Mark
    key: Mark | None = None

    def child(self, step: str | int) -> Node | None:
        """The part under a key or index; None when there is none."""
        if isinstance(self.value, dict):
            return self.value.get(str(step))
        if isinstance(self.value, list) and isinstance(step, int) and 0 <= step < len(self.value):
            return self.value[step]
        return None

    def at(self, *path: str | int) -> Node:
        """The deepest part on a path; steps that lead nowhere are passed over."""
        node = self
        for step in path:
            found = node.child(step)
            if found is not None:
                node = found
        return node

    def copy(self) -> Node:
        """The same tree, to be cut without harm to this one."""
        if isinstance(self.value, dict):
            return Node({key: node.copy() for key, node in self.value.items()}, self.mark, self.key)
        if isinstance(self.value, list):
            return Node([node.copy() for node in self.value], self.mark, self.key)
        return self

    def cut(self, step: str | int) -> None:
        """Remove the part under a key or index."""
        if isinstance(self.value, dict):
            self.value.pop(str(step), None)
        elif isinstance(self.value, list) and isinstance(step, int):
            del self.value[step]

    def plain(self) -> Any:
        """The same as text, lists and dicts."""
        if isinstance(self.value, dict):
            return {key: node.plain() for key, node in self.value.items()}
        if isinstance(self.value, list):
            return [node.plain() for node in self.value]
        return self.value


def _refuse(code: str, mark: Mark, message: str, remedy: str, lines: Sequence[str] = ()) -> NetworkFileError:
    """Stop reading here, with one problem and the line that it is about."""
    source = lines[mark.line - 1] if 0 < mark.line <= len(lines) else None
    return NetworkFileError([Problem(code, Severity.ERROR, mark, message, remedy, source)])


def _too_deep(mark: Mark, lines: Sequence[str]) -> NetworkFileError:
    """Nesting that no network needs; it is refused before Python's own stack would end."""
    words = f"more than {MOST_DEPTH} levels of nesting."
    return _refuse("yaml.too-deep", mark, words, "Check the brackets and the indentation.", lines)


def decode(data: bytes, name: str, most: int = MOST_BYTES) -> str:
    """Bytes of a file as text.

    Args:
        data: the bytes.
        name: of the file.
        most: so many bytes are read at most.

    Raises:
        NetworkFileError: too large, or not UTF-8 text.

    """
    if len(data) > most:
        raise _refuse(
            "file.too-large",
            Mark(name, 0),
            f"the file has {len(data):,} bytes; at most {most:,} are read.",
            "Is this the right file?",
        )
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as fault:
        line = data[: fault.start].count(b"\n") + 1
        column = fault.start - (data.rfind(b"\n", 0, fault.start) + 1) + 1
        raise _refuse(
            "file.not-text",
            Mark(name, line, column),
            f"byte 0x{data[fault.start]:02x} is not UTF-8 text.",
            "A network file is a text file; save it as UTF-8.",
        ) from None
    return text


def read_tree(
    text: str,
    name: str,
    problems: Problems,
    begins: str = "'mossy new FILE' writes a small network to start from.",
    above: Callable[[Node], None] | None = None,
) -> Node:
    """Parse one YAML document into a tree.

    Args:
        text: the document.
        name: the file's name, as marks will cite it.
        problems: duplicate keys and empty values are noted here; reading goes on.
        begins: what to do about an empty file.
        above: takes what stands above a fault that ends the reading, to note in ``problems`` what is wrong there too.

    Raises:
        NetworkFileError: the text is no YAML, or uses what network files do not have.

    """
    reader = _Reader(name, text.splitlines(), problems)
    problems.lines[name] = reader.lines
    try:
        for event in yaml.parse(text, Loader=_Loader):
            reader.take(event)
    except yaml.YAMLError as fault:
        if "nesting depth" in str(fault):  # the parser's own bound comes first where brackets alone are nested
            place = getattr(fault, "problem_mark", None)
            mark = Mark(name, place.line + 1, place.column + 1) if place else Mark(name, 1)
            raise _too_deep(mark, reader.lines) from None
        end = _yaml_fault(fault, name, reader.lines)
        if above is not None and reader.root is not None and reader.root.value:
            reader.close()
            above(reader.root)
            raise NetworkFileError((*problems.in_order(), *end.problems)) from None
        raise end from None
    if reader.root is None:
        raise _refuse("file.empty", Mark(name, 1), "the file is empty.", begins)
    return reader.root


class _Reader:
    """Puts the parser's events together to a tree."""

    __slots__ = ("count", "keys", "lines", "name", "problems", "root", "stack")

    def __init__(self, name: str, lines: list[str], problems: Problems) -> None:
        self.name = name
        self.lines = lines
        self.problems = problems
        self.root: Node | None = None
        self.stack: list[Node] = []
        self.keys: list[tuple[str, Mark] | None] = []
        self.count = 0

    def close(self) -> None:
        """End a text that breaks off. An entry of a list that is not whole yet is left out, since it would be blamed for that."""
        for holder, part in zip(self.stack, self.stack[1:], strict=False):
            if isinstance(holder.value, list) and isinstance(part.value, dict):
                holder.value[:] = [n for n in holder.value if n is not part]
                return

    def take(self, event: Any) -> None:
        """One event: a scalar, or the beginning or end of a list or mapping."""
        if isinstance(event, yaml.MappingEndEvent | yaml.SequenceEndEvent):
            self.stack.pop()
            self.keys.pop()
            return
        start = event.start_mark
        mark = Mark(self.name, start.line + 1, start.column + 1) if start else Mark(self.name, 0)
        self.refuse_what_is_not_read(event, mark)
        if isinstance(event, yaml.ScalarEvent):
            self.room_for_one_more(mark)
            empty = event.style is None and event.value in ("~", "null", "Null", "NULL")
            self.put(Node("" if empty else event.value, mark))
        elif isinstance(event, yaml.MappingStartEvent | yaml.SequenceStartEvent):
            self.room_for_one_more(mark)
            if len(self.stack) >= MOST_DEPTH:
                raise _too_deep(mark, self.lines)
            node = Node({} if isinstance(event, yaml.MappingStartEvent) else [], mark)
            self.put(node)
            self.stack.append(node)
            self.keys.append(None)

    def refuse_what_is_not_read(self, event: Any, mark: Mark) -> None:
        """A second document, anchors and aliases, tags: a network file has none, so that it means what it shows."""
        if isinstance(event, yaml.DocumentStartEvent) and self.root is not None:
            words, remedy = "a second document begins here.", "A network file is one document; remove the '---'."
            raise _refuse("yaml.documents", mark, words, remedy, self.lines)
        if isinstance(event, yaml.AliasEvent) or getattr(event, "anchor", None):
            words = "anchors (&name) and aliases (*name) are not read in network files."
            remedy = "Name the shared part under groups:, services: or lists: and refer to it."
            raise _refuse("yaml.alias", mark, words, remedy, self.lines)
        tag = getattr(event, "tag", None)
        if tag and tag != "!":
            words = f"the tag {tag} is not read in network files."
            raise _refuse("yaml.tag", mark, words, "Remove it; every value is taken as text.", self.lines)

    def room_for_one_more(self, mark: Mark) -> None:
        """Bounded, so that no file takes long."""
        self.count += 1
        if self.count > MOST_NODES:
            words = f"the file has more than {MOST_NODES:,} values."
            raise _refuse("yaml.too-many", mark, words, "Divide the network.", self.lines)

    def put(self, node: Node) -> None:
        """A node into what it belongs to: the document, a list, or a mapping, where it is a key or a value."""
        if not self.stack:
            self.root = node
            return
        top = self.stack[-1]
        if isinstance(top.value, list):
            top.value.append(node)
            return
        if self.keys[-1] is not None:
            self.put_value(top, self.keys[-1], node)
            return
        if not isinstance(node.value, str):
            words = "a key is a plain word, not a list or a mapping."
            raise _refuse("yaml.key", node.mark, words, "Check the brackets and braces before it.", self.lines)
        self.keys[-1] = (node.value, node.mark)

    def put_value(self, mapping: Node, pending: tuple[str, Mark], node: Node) -> None:
        """The value of a key; the first of two equal keys stays."""
        assert isinstance(mapping.value, dict)
        self.keys[-1] = None
        key, key_mark = pending
        node.key = key_mark
        if key in mapping.value:
            first = mapping.value[key].key or mapping.value[key].mark
            words = f"'{key}' is written twice in the same mapping; the first is at line {first.line}."
            self.problems.add("yaml.duplicate-key", key_mark, words, "Rename one, or join the two.")
        elif node.value == "":
            words = f"nothing is written after '{key}:'."
            self.problems.add("yaml.empty-value", key_mark, words, "Give it a value, or remove the key.")
        else:
            mapping.value[key] = node


_SAY = (
    ("could not find expected ':'", "a ':' is missing after a key, or a line is indented too little"),
    ("found character '\\t'", "a tab is used for indentation; YAML takes spaces only"),
    (
        "found character that cannot start any token",
        "a character stands here that cannot begin a value; tabs and a leading @ or ` are such",
    ),
    ("did not find expected ',' or '}'", "a ',' or '}' is missing"),
    ("did not find expected ',' or ']'", "a ',' or ']' is missing"),
    ("did not find expected <document start>", "this line does not belong to anything above it; check its indentation"),
    ("did not find expected key", "this line is indented differently from its neighbours"),
    ("did not find expected '-' indicator", "this line is indented differently from its neighbours"),
    ("mapping values are not allowed", "a ':' stands where no key can be; check the indentation, or put the value in quotes"),
    ("found unexpected end of stream", "a quote is opened here and never closed"),
    ("control characters are not allowed", "a control character that no text has"),
)


def _yaml_fault(fault: yaml.YAMLError, name: str, lines: Sequence[str]) -> NetworkFileError:
    """What the YAML reader says, with its place, in words of ours."""
    problem = str(getattr(fault, "problem", None) or getattr(fault, "reason", None) or fault).split("\n")[0]
    place = getattr(fault, "problem_mark", None)
    if "end of stream" in problem:
        place = getattr(fault, "context_mark", None) or place
    mark = Mark(name, place.line + 1, place.column + 1) if place else Mark(name, 1)
    if mark.line > len(lines) and lines:
        mark = Mark(name, len(lines), len(lines[-1]) + 1)
    said = next((ours for theirs, ours in _SAY if theirs in problem), problem)
    return _refuse(
        "yaml.syntax", mark, f"this is not YAML: {said}.", "Mend this first; the file could not be read below it.", lines
    )
