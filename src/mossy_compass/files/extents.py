"""Where each piece of a YAML text begins and ends, so that a change touches its own characters and no others.

The tree of ``tree.py`` knows where things begin, for messages. This one also knows where they end and in which style they are
written, and nothing else: it is made of a text that was read without fault.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import yaml

_Loader: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


@dataclass(slots=True)
class Piece:
    """A piece of a text.

    Attributes:
        start, end: its characters; for what is written in lines, ``end`` is where its last value ends.
        value: text, a list of pieces, or a dict of the pieces of a mapping.
        flow: a list or mapping in brackets or braces.
        quoted: the quote of a text that has one; else empty.
        key: of a value in a mapping, the piece that is its key.

    """

    start: int
    end: int
    value: str | list[Piece] | dict[str, Piece]
    flow: bool = False
    quoted: str = ""
    key: Piece | None = None

    @property
    def items(self) -> list[Piece]:
        """The pieces of a list, or the values of a mapping, in their order."""
        if isinstance(self.value, dict):
            return list(self.value.values())
        return self.value if isinstance(self.value, list) else []

    @property
    def first(self) -> int:
        """Where it begins with its key, if it has one."""
        return self.key.start if self.key is not None else self.start


def pieces(text: str) -> Piece:
    """The pieces of a text that is one YAML document."""
    stack: list[Piece] = []
    keys: list[Piece | None] = []
    root: Piece | None = None
    for event in yaml.parse(text, Loader=_Loader):
        if isinstance(event, yaml.MappingEndEvent | yaml.SequenceEndEvent):
            done = stack.pop()
            keys.pop()
            done.end = _at(event.end_mark) if done.flow else max((p.end for p in done.items), default=done.start)
            _close(stack, keys, done)
            continue
        made = _made(event, text)
        if made is None:
            continue
        if root is None:
            root = made
        if isinstance(made.value, str):
            _close(stack, keys, made)
        else:
            stack.append(made)
            keys.append(None)
    assert root is not None
    return root


def _at(mark: Any) -> int:
    """The number of the character that a mark of the parser stands at."""
    return int(mark.index)


def _end_of_block(event: Any, text: str) -> int:
    """Where the last line of a block scalar ends. The parser's own mark stands behind the blank lines that follow, where the next
    part begins; they belong to the scalar only where it keeps them (``+``).
    """
    start, end = _at(event.start_mark), _at(event.end_mark)
    written = text[start:end]
    if "+" in written.splitlines()[0]:
        return end - 1 if written[-1:] in "\r\n" else end
    return start + len(written.rstrip())


def _made(event: Any, text: str) -> Piece | None:
    """The piece that an event begins; None for what is no piece."""
    if isinstance(event, yaml.ScalarEvent):
        quoted = event.style if event.style in ("'", '"') else ""
        end = _at(event.end_mark) if event.style not in ("|", ">") else _end_of_block(event, text)
        return Piece(_at(event.start_mark), end, event.value, quoted=quoted)
    if isinstance(event, yaml.MappingStartEvent | yaml.SequenceStartEvent):
        value: dict[str, Piece] | list[Piece] = {} if isinstance(event, yaml.MappingStartEvent) else []
        return Piece(_at(event.start_mark), _at(event.end_mark), value, flow=bool(event.flow_style))
    return None


def _close(stack: list[Piece], keys: list[Piece | None], piece: Piece) -> None:
    """Put a finished piece into what it belongs to: a list, or a mapping where it is a key or a value."""
    if not stack:
        return
    top = stack[-1]
    if isinstance(top.value, list):
        top.value.append(piece)
        return
    key = keys[-1]
    if key is None:
        keys[-1] = piece
        return
    keys[-1] = None
    assert isinstance(top.value, dict)
    assert isinstance(key.value, str)
    piece.key = key
    top.value.setdefault(key.value, piece)
