"""From a network file, or the same data built in Python, to the frozen model; every fault in one pass.

Reading goes on after a fault as far as it makes sense: a faulty part is taken out, and the
rest is resolved, so that the tenth fault is told together with the first. A network comes
out only when there was no error at all.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from mossy_compass.errors import NetworkFileError, QuestionError
from mossy_compass.files import opened
from mossy_compass.files.context import context
from mossy_compass.files.references import Names, Thing
from mossy_compass.files.resolve import network as resolved
from mossy_compass.files.schema import NetworkIn
from mossy_compass.files.tree import Node, decode, read_tree
from mossy_compass.files.validate import shape_alone, validate
from mossy_compass.marks import Problem, Problems, Severity
from mossy_compass.model.check import check_network
from mossy_compass.model.goals import check_goals
from mossy_compass.model.network import Network
from mossy_compass.plan.check import check_orders, check_rules

MOST_READ = 64 * 1024 * 1024
"""Bytes of a file that are read at most; what is larger than its format allows is refused by its reader, with its true size."""


@dataclass(frozen=True)
class Reading:
    """What came of reading a network description.

    Attributes:
        network: the model; None when there is an error.
        problems: every finding, errors and warnings, by place.
        lines: the lines of each file, to show a finding's place.

    """

    network: Network | None
    problems: tuple[Problem, ...]
    lines: Mapping[str, list[str]] = field(default_factory=dict)

    @property
    def errors(self) -> tuple[Problem, ...]:
        """The findings that refuse the network."""
        return tuple(p for p in self.problems if p.severity == "error")


def read_file(path: str | Path) -> Reading:
    """Read a network file and check it.

    Args:
        path: the file. Marks cite it by its name as given.

    Raises:
        QuestionError: the file cannot be opened.

    """
    return read_bytes(plain_bytes(path), str(path))


def plain_bytes(path: str | Path, kind: str = "mossy-network", most: int = MOST_READ) -> bytes:
    """The bytes of a file that a person wrote.

    Args:
        path: the file.
        kind: its heading, for a remedy.
        most: so many bytes are read; more than whoever asks takes, so that it is told that there are too many.

    Raises:
        QuestionError: it cannot be opened, or is no plain file.

    """
    place = Path(path)
    try:
        if place.exists() and not (place.is_file() or place.is_dir()):
            raise QuestionError(f"{path}: is no plain file, and might be waited for without end. Write its text to a file first.")
        with place.open("rb") as stream:
            opened.read(stream.fileno())
            return stream.read(most)
    except OSError as fault:
        reason = fault.strerror or str(fault)
        remedy = "'mossy new FILE' writes a network to start from." if kind == "mossy-network" else f"It begins with '{kind}: 1'."
        raise QuestionError(f"{path}: cannot be read: {reason.lower()}. Check the name; {remedy}") from None
    except ValueError as fault:
        raise QuestionError(f"{path!r}: cannot be read: {fault}.") from None


def begins_as(data: bytes, heading: str) -> bool:
    """Whether a file begins as one of ours: its heading stands near its beginning as a key of its own line.

    What is named by somebody else's file is shown to nobody, not even as a faulty line, unless it is such a file.
    """
    return re.search(rb"(?:\A|[\r\n])[\s{\"'\xef\xbb\xbf]*" + heading.encode() + rb"[\"']?\s*:", data[:4096]) is not None


def read_bytes(data: bytes, name: str) -> Reading:
    """Read the bytes of a network file and check the network; ``name`` is what marks cite."""
    problems = Problems()
    try:
        tree = read_tree(decode(data, name), name, problems, above=lambda part: shape_alone(NetworkIn, part, problems))
    except NetworkFileError as fault:
        known = fault.problems if set(problems.found) <= set(fault.problems) else (*problems.in_order(), *fault.problems)
        return Reading(None, known)
    return read_node(tree, problems)


def read_node(tree: Node, problems: Problems) -> Reading:
    """Validate and resolve a tree, whatever it was made from."""
    live = tree.copy()
    hurt: list[Node] = []
    document = validate(tree, live, problems, hurt)
    whole = not problems.errors  # what was cut out would be missed by its neighbours, and they would be blamed
    network = resolved(context(document, live, tree, problems, hurt)) if document is not None else None
    if network is not None and whole:
        _unused(live, problems)
        check_network(network, problems)
        check_orders(network, problems)
        check_rules(network, problems)
    elif network is not None:
        check_goals(network, problems, certain=False)
    if problems.errors:
        network = None
    return Reading(network, tuple(problems.in_order()), problems.lines)


_WHAT = {
    "group": "group",
    "service": "service",
    "hours": "window of hours",
    "application": "application",
    "uplink": "group of uplinks",
    "probe": "probe",
}
"""Kinds of things that do nothing unless something names them, as they are called. (Lists have a finding of their own.)"""


def _unused(tree: Node, problems: Problems) -> None:
    """Things that nothing names. An application is named by its categories too."""
    names = Names(tree)
    used = names.used()
    for thing, path in names.declared(_WHAT):
        node = tree.at(*path)
        categories = node.child("category") if thing.kind == "application" else None
        others = [categories.value] if categories and isinstance(categories.value, str) else []
        others += [str(c.value) for c in categories.value] if categories and isinstance(categories.value, list) else []
        if thing not in used and not any(Thing("category", c) in used for c in others):
            words = f"{_WHAT[thing.kind]} '{thing.name}' is named nowhere."
            problems.add("idle.unused", node.key or node.mark, words, "Use it or remove it.", Severity.NOTE)


def load(path: str | Path) -> Network:
    """Read a network file.

    Raises:
        NetworkFileError: it has faults; ``problems`` holds all of them.
        QuestionError: it cannot be opened.

    """
    reading = read_file(path)
    if reading.network is None:
        raise NetworkFileError(reading.errors)
    return reading.network
