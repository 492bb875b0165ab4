"""Try mistakes that nobody chose: a seeded sample of the mutants that cosmic-ray makes of the core. Not a part of `.ci/run`.

The tests that run the mutated line come first, the shortest before the others, to the first failure; what they let pass meets the
whole suite. Which tests those are is written down once, in the copy that the mutants are made in. What is known is kept in the
folder that is named, so that a run can be taken up again. It needs `pip install cosmic-ray pytest-cov`.

    python tools/sampled_mutants.py FOLDER [--count 100] [--seed 1]
"""

from __future__ import annotations

import argparse
import ast
import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from cosmic_ray.ast import get_ast_from_path
from cosmic_ray.mutating import mutate_code
from cosmic_ray.plugins import get_operator, operator_names
from coverage import CoverageData

ROOT = Path(__file__).resolve().parent.parent
PARTS = ("plan", "state", "walk", "headers", "lab", "proof")
LONGEST, LONGEST_NEAR = 900, 300
"""Seconds after which tests that do not end have noticed, since they ended before: of the whole suite, and of those that run a line."""
LEFT_OUT = ("Number", "Break", "Decorator", "Variable")
"""Kinds that are seldom a mistake anybody makes here: other numbers (most are bounds and widths), loops, decorators, named variables."""


class Mutant(NamedTuple):
    """A mistake.

    Attributes:
        file: below ``src/mossy_compass``.
        operator, occurrence: of cosmic-ray.
        line: where it is.

    """

    file: str
    operator: str
    occurrence: int
    line: int

    @property
    def name(self) -> str:
        """For the notes."""
        return f"{self.file}:{self.line} {self.operator.removeprefix('core/')} {self.occurrence}"


def _annotated(text: str) -> set[int]:
    """Lines on which an annotation stands: what is changed there changes nothing that runs."""
    found: set[int] = set()
    for node in ast.walk(ast.parse(text)):
        notes = (
            [node.returns]
            if isinstance(node, ast.FunctionDef)
            else [node.annotation]
            if isinstance(node, ast.arg | ast.AnnAssign)
            else []
        )
        for note in notes:
            if note is not None:
                found |= set(range(note.lineno, (note.end_lineno or note.lineno) + 1))
    return found


def _places(copy: Path) -> Iterator[tuple[tuple[str, object], Mutant]]:
    """Every mutant with the place that it changes."""
    names = [n for n in operator_names() if not any(word in n for word in LEFT_OUT)]
    for part in PARTS:
        for path in sorted((copy / "src/mossy_compass" / part).rglob("*.py")):
            tree, file = get_ast_from_path(path), str(path.relative_to(copy / "src/mossy_compass"))
            barred = _annotated(path.read_text(encoding="utf-8"))
            for name in names:
                operator, occurrence = get_operator(name)(), -1
                for node in _nodes(tree):
                    for start, _ in operator.mutation_positions(node):
                        occurrence += 1
                        if start[0] not in barred:
                            yield (file, start), Mutant(file, name, occurrence, start[0])


def _nodes(node: object) -> Iterator[object]:
    """The nodes of a tree in the order in which cosmic-ray visits them."""
    yield node
    for child in getattr(node, "children", ()):
        yield from _nodes(child)


def sample(copy: Path, count: int, seed: int) -> list[Mutant]:
    """Mutants of the copy at different places, each place as likely as any other; the work goes on there when ours has changed."""
    by_place: dict[tuple[str, object], list[Mutant]] = {}
    for place, mutant in _places(copy):
        by_place.setdefault(place, []).append(mutant)
    chance = random.Random(seed)
    return [chance.choice(by_place[place]) for place in chance.sample(sorted(by_place, key=str), count)]


def _run(copy: Path, arguments: list[str], longest: int) -> bool:
    """Whether some tests pass in the copy."""
    env = {**os.environ, "PYTHONPATH": str(copy / "src")}
    command = [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", *arguments]
    # Workers of a run that is ended must end with it, so they are one group.
    process = subprocess.Popen(
        command, cwd=copy, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
    )
    try:
        return process.wait(longest) == 0
    except subprocess.TimeoutExpired:
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        return False


def _watched(copy: Path) -> dict[str, float]:
    """Run every test once, with a note of the lines that it runs; gives how long each took, in seconds, by its name."""
    if not (copy / ".coverage").exists():
        noted = ["--cov", "src/mossy_compass", "--cov-context", "test", "--cov-report", "", "--durations", "0", "-vv"]
        env = {**os.environ, "PYTHONPATH": str(copy / "src"), "CI": "true"}
        done = subprocess.run(
            [sys.executable, "-m", "pytest", "-p", "no:cacheprovider", *noted], cwd=copy, env=env, stdout=subprocess.PIPE, text=True
        )
        (copy / "durations.txt").write_text(done.stdout)
    found = re.finditer(r"^([\d.]+)s call +(\S.*?)$", (copy / "durations.txt").read_text(), re.MULTILINE)
    return {m[2]: float(m[1]) for m in found}


def _near(copy: Path, mutant: Mutant, took: dict[str, float]) -> list[str]:
    """The tests that run the mutated line, the shortest first, for most mistakes are gross."""
    data = CoverageData(str(copy / ".coverage"))
    data.read()
    by_line = data.contexts_by_lineno(str(copy / "src/mossy_compass" / mutant.file))
    found = {name.rpartition("|")[0] for name in by_line.get(mutant.line, ())} - {""}
    return sorted(found, key=lambda name: took.get(name, 0.0))


def tried(mutant: Mutant, copy: Path, near: list[str], whole: bool) -> str:
    """What became of a mutant."""
    file = copy / "src/mossy_compass" / mutant.file
    text = file.read_text(encoding="utf-8")
    changed = mutate_code(text, get_operator(mutant.operator)(), mutant.occurrence)
    if changed is None or changed == text:
        return "noticed: there is nothing to change"
    file.write_text(changed, encoding="utf-8")
    try:
        (copy / "near.txt").write_text("\n".join(near))
        if near and not _run(copy, ["@near.txt", *(["-n0"] if len(near) < 200 else [])], LONGEST_NEAR):
            return "noticed by the tests that run it"
        if not whole:
            return "passes the tests that run it"
        return "SURVIVES" if _run(copy, [], LONGEST) else "noticed by the whole suite"
    finally:
        file.write_text(text, encoding="utf-8")


def main() -> int:
    """Try a sample."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--count", type=int, default=100)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--lines-alone", action="store_true", help="leave the whole suite for a later run")
    options = parser.parse_args()
    folder: Path = options.folder.resolve()
    folder.mkdir(parents=True, exist_ok=True)
    notes, copy = folder / "known.json", folder / "copy"
    known: dict[str, str] = json.loads(notes.read_text()) if notes.exists() else {}
    if not copy.exists():
        copy.mkdir()
        listed = subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True, check=True).stdout.split("\n")
        for name in filter(None, listed):
            (copy / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(ROOT / name, copy / name)
    took = _watched(copy)
    for mutant in sample(copy, options.count, options.seed):
        if mutant.name not in known or (known[mutant.name].startswith("passes") and not options.lines_alone):
            known[mutant.name] = tried(mutant, copy, _near(copy, mutant, took), not options.lines_alone)
            notes.write_text(json.dumps(known, indent=1))
        print(f"{mutant.name}: {known[mutant.name]}", flush=True)
    left = [name for name, said in known.items() if not said.startswith("noticed")]
    print(f"{len(known)} tried, {len(left)} not noticed")
    return 1 if left else 0


if __name__ == "__main__":
    raise SystemExit(main())
