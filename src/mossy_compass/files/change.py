"""Change files: what shall be different in a network file, step by step, on top of it.

A change file is checked like a network file, every fault at its place; then its steps are done one after the other on the
text. Either all of them can be done, or nothing is.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple

from mossy_compass.errors import InputError, NetworkFileError
from mossy_compass.files.edit import Editor, Patch, Written, flow, plain
from mossy_compass.files.extents import Piece, pieces
from mossy_compass.files.keys import Core, Part, ValueKind, key, listed, of, one_of, words
from mossy_compass.files.load import Reading, plain_bytes, read_bytes
from mossy_compass.files.tree import Node, decode, read_tree
from mossy_compass.files.validate import read_part, shape_alone
from mossy_compass.marks import Mark, Problem, Problems, Severity

BEGINS = "A change file begins with 'mossy-change: 1'."
PATH = words(300, 1)
NAME = words(64, 1, json={"type": ["string", "integer"]})
ANYTHING = ValueKind(lambda: _any(), dict)
WHERE = "Id or name of the neighbour that it shall stand {} of."


def _any() -> Core:
    """A value of any shape; what it means is found out when the changed file is read."""
    return {"type": "any"}


class InsertIn(Part):
    """An insertion. Something new is put into a list or mapping."""

    into: str = key(PATH, "A list, or a mapping: lists/visitors-in, groups, devices/gate/translate.")
    value: Any = key(ANYTHING, "The new rule, group or value, as it would stand in the file.")
    name: str = key(NAME, "Its name, where it is put into a mapping.", "")
    before: str = key(NAME, WHERE.format("in front"), "")
    after: str = key(NAME, WHERE.format("behind"), "")


class MoveIn(Part):
    """A move. Something gets another place in the same list."""

    what: str = key(PATH, "The rule, as lists/visitors-in/30.")
    before: str = key(NAME, WHERE.format("in front"), "")
    after: str = key(NAME, WHERE.format("behind"), "")


class CopyIn(Part):
    """A copy. The same again, under another id or name."""

    what: str = key(PATH, "The rule, group or other part.")
    as_: str = key(NAME, "Id or name of the copy.")
    before: str = key(NAME, WHERE.format("in front"), "")
    after: str = key(NAME, WHERE.format("behind"), "")


class ReplaceIn(Part):
    """A replacement. Another value stands where one stood."""

    what: str = key(PATH, "The rule, key or other part.")
    with_: Any = key(ANYTHING, "What shall stand there.")


class RenameIn(Part):
    """A renaming. Something gets another name, and what refers to it follows."""

    what: str = key(PATH, "The group, list, device or rule.")
    to: str = key(NAME, "Its new name; whatever refers to it follows.")


class StepIn(Part):
    """A step of a change. It says exactly one of its keys."""

    insert: InsertIn | None = key(of(InsertIn), "Put something new into a list or mapping.", None)
    move: MoveIn | None = key(of(MoveIn), "Give something another place in its list.", None)
    copy: CopyIn | None = key(of(CopyIn), "Write something once more, under another id or name.", None)
    disable: str | None = key(PATH, "Keep a rule, and pass it over.", None)
    enable: str | None = key(PATH, "Undo a disable.", None)
    replace: ReplaceIn | None = key(of(ReplaceIn), "Put another value in the place of one.", None)
    remove: str | None = key(PATH, "Take something out.", None)
    rename: RenameIn | None = key(of(RenameIn), "Give something another name; references follow.", None)

    @property
    def said(self) -> list[str]:
        """The keys that are said."""
        return [k for k in self.keys if getattr(self, k) is not None]


class ChangeIn(Part):
    """A change file."""

    mossy_change: str = key(one_of("1", json={"enum": [1, "1"]}), "Version of the format: 1.")
    about: str = key(words(1000), "Why, in a sentence.", "")
    changes: list[StepIn] = key(listed(of(StepIn)), "The steps, done in this order.")


class Brought(NamedTuple):
    """What a step brought in.

    Attributes:
        lines: lines of the network file that were not there before it.
        mark: the step.
        source: its own line in the change file.

    """

    lines: frozenset[str]
    mark: Mark
    source: str | None


class Change(NamedTuple):
    """What a change file comes to.

    Attributes:
        text: the network file's text after it.
        undo: patches that take it back, in their order.
        about: why, as its author says.
        lines: the lines that each step brought in, with the place of the step and its own line.
        renamed: what got another name: where it stands in the file, and the new name.

    """

    text: str
    undo: tuple[Patch, ...]
    about: str
    lines: tuple[Brought, ...] = ()
    renamed: tuple[tuple[str, str], ...] = ()

    def blamed(self, problems: Iterable[Problem]) -> list[Problem]:
        """The findings about the changed network, each at the step that brought in the line where it is."""
        return sorted((self._blame(p) for p in problems), key=lambda p: p.mark)

    def _blame(self, problem: Problem) -> Problem:
        """One of them; what no step brought in stays where it is."""
        if problem.source is None:
            return problem
        by = next((b for b in reversed(self.lines) if problem.source in b.lines), None)
        return (
            problem
            if by is None
            else replace(problem, mark=by.mark, source=by.source, also=(*problem.also, (problem.mark, "as it would stand")))
        )


def read_change(path: str | Path, network: str) -> Change:
    """Do what a change file says on the text of a network file.

    Args:
        path: the change file.
        network: text of the network file.

    Raises:
        NetworkFileError: the change file has faults, or a step cannot be done; nothing is changed then.
        QuestionError: it cannot be opened.

    """
    return change(plain_bytes(path, "mossy-change"), str(path), network)


def change(data: bytes, name: str, network: str) -> Change:
    """The same with the bytes of a change file; ``name`` is what faults cite."""
    problems = Problems()
    text = decode(data, name)
    tree = read_tree(text, name, problems, BEGINS, lambda part: shape_alone(ChangeIn, part, problems))
    document = read_part(ChangeIn, tree, problems, {"mossy-change": "1", "changes": []}, BEGINS)
    if document is None or problems.errors:
        raise NetworkFileError(tuple(p for p in problems.in_order() if p.severity == "error"))
    written = [_Source(text, p) for p in _steps(pieces(text))]
    editor, undo, brought = Editor(network), list[Patch](), list[Brought]()
    failed: list[Problem] = []
    torn: set[str] = set()  # what a step could not do is not told again of the steps that build on it
    for number, step in enumerate(document.changes):
        node, before = tree.at("changes", number), Counter(editor.text.splitlines())
        if len(step.said) == 1 and torn & _touches(step):
            torn |= _touches(step)
            continue
        fault = ""
        try:
            if len(step.said) != 1:
                fault = f"a step says exactly one of {', '.join(StepIn.known())}" + (
                    f"; this one says {' and '.join(step.said)}." if step.said else "."
                )
            else:
                undo[:0] = _DO[step.said[0]](editor, getattr(step, step.said[0]), written[number])
        except InputError as error:
            fault = str(error)
        problem = _problem(node, fault, text)
        if fault:
            failed.append(problem)
            torn |= _touches(step)
        brought.append(Brought(frozenset(Counter(editor.text.splitlines()) - before), node.mark, problem.source))
    if failed:
        raise NetworkFileError(failed)
    return Change(editor.text, tuple(undo), document.about, tuple(brought), renames(document.changes))


def renames(steps: Iterable[StepIn]) -> tuple[tuple[str, str], ...]:
    """What steps give another name to: where it stands in the file, and the new name."""
    return tuple((s.rename.what, s.rename.to) for s in steps if s.rename is not None)


def _touches(step: StepIn) -> set[str]:
    """The things that a step is about, by section and name, those too that it makes."""
    out = set()
    for verb in step.said:
        value = getattr(step, verb)
        path = value if isinstance(value, str) else getattr(value, "what", "") or getattr(value, "into", "")
        section, _, rest = path.partition("/")
        out.add(f"{section}/{rest.partition('/')[0]}")
        made = [getattr(value, key, "") for key in ("to", "as_", "name")]
        out |= {f"{section}/{name}" for name in made if name and rest.count("/") <= (verb == "insert")}
    return out


def change_steps(steps: Sequence[StepIn], network: str) -> str:
    """A network file's text after steps that were read elsewhere, as those of a drill.

    Raises:
        InputError: a step cannot be done; it is named.

    """
    editor = Editor(network)
    for number, step in enumerate(steps, 1):
        try:
            _DO[step.said[0]](editor, getattr(step, step.said[0]), _Source("", Piece(0, 0, "")))
        except InputError as fault:
            raise InputError(f"step {number} of the change: {fault}") from None
    return editor.text


def changed(data: bytes, name: str, path: str, network: bytes) -> tuple[Change, Reading]:
    """A changed network file, read: what the steps did, and what reading it gave. Marks cite the file as it would be."""
    text = decode(network, path)
    made = change(data, name, text)
    return made, read_bytes(made.text.encode(), path)


def as_change_file(about: str, steps: Iterable[Mapping[str, Any]]) -> str:
    """Steps that are plain data as the text of a change file, a step a line.

    Args:
        about: why.
        steps: each a mapping of its verb to what it says.

    """
    lines = [f"  - {flow(dict(step))}" for step in steps]
    return "\n".join(["mossy-change: 1", f"about: {flow(about)}", "changes:", *lines, ""])


def _problem(node: Node, words: str, text: str) -> Problem:
    """A step that cannot be done."""
    lines = text.splitlines()
    source = lines[node.mark.line - 1] if 0 < node.mark.line <= len(lines) else None
    return Problem("change.step", Severity.ERROR, node.mark, words, "", source)


def _steps(root: Piece) -> list[Piece]:
    """The pieces of the steps, so that a value is put in as its author wrote it."""
    held = root.value.get("changes") if isinstance(root.value, dict) else None
    return held.items if held is not None else []


class _Source(NamedTuple):
    """A step as its author wrote it.

    Attributes:
        text: of the whole change file.
        piece: the step.

    """

    text: str
    piece: Piece


Do = Callable[[Editor, Any, _Source], tuple[Patch, ...]]


def _as_written(step: _Source, verb: str, name: str, value: Any) -> Written | list[Written]:
    """A value as its author wrote it, where that stands on one line; of a list in lines each entry; else as data."""
    inner = step.piece.value.get(verb) if isinstance(step.piece.value, dict) else None
    piece = inner.value.get(name) if inner is not None and isinstance(inner.value, dict) else None
    if piece is None:
        return Written(flow(value))
    if isinstance(piece.value, list) and not piece.flow and all(isinstance(p.value, dict) for p in piece.value):
        return [_piece_as_written(step.text, p) for p in piece.value]
    return _piece_as_written(step.text, piece)


def _piece_as_written(source: str, piece: Piece) -> Written:
    """A piece of a text where it stands on one line; else as data."""
    text = source[piece.start : piece.end]
    one_line = "\n" not in text and (piece.flow or isinstance(piece.value, str))
    return Written(text if one_line else flow(plain(piece)))


_DO: dict[str, Do] = {
    "insert": lambda e, s, p: e.insert(
        s.into, _as_written(p, "insert", "value", s.value), name=s.name, before=s.before, after=s.after
    ),
    "move": lambda e, s, p: e.move(s.what, before=s.before, after=s.after),
    "copy": lambda e, s, p: e.copy(s.what, s.as_, before=s.before, after=s.after),
    "disable": lambda e, s, p: e.disable(s),
    "enable": lambda e, s, p: e.enable(s),
    "replace": lambda e, s, p: e.replace(s.what, _as_written(p, "replace", "with", s.with_)),
    "remove": lambda e, s, p: e.remove(s),
    "rename": lambda e, s, p: e.rename(s.what, s.to),
}
"""What each kind of step does to a text."""
