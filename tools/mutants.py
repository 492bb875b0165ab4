"""Try mistakes that were made by hand, one at a time, in a copy: which does no test notice? Not a part of `.ci/run`.

Each is a line as somebody might have written it wrongly. The tests nearest to it run first, to the first failure; what they let pass
meets the whole suite. What is known is kept in the folder that is named, so that a run can be taken up again.

    python tools/mutants.py FOLDER [NUMBER ...]
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).resolve().parent.parent


class Mutant(NamedTuple):
    """A mistake.

    Attributes:
        what: in words.
        file: below ``src/mossy_compass``.
        right: the text as it is, which stands there once.
        wrong: what is put in its place.
        near: the test files that are run first.

    """

    what: str
    file: str
    right: str
    wrong: str
    near: tuple[str, ...]


MUTANTS = (
    Mutant(
        "everywhere lists after the interface's",
        "plan/stages/lists.py",
        "names = (*(gates.everywhere if gates.everywhere_on else ()), *interface.arriving_lists)",
        "names = (*interface.arriving_lists, *(gates.everywhere if gates.everywhere_on else ()))",
        ("test_order_matters", "test_bounds"),
    ),
    Mutant(
        "profile 'after' swapped with 'before'",
        "plan/stages/lists.py",
        '"before": (*own, *common), "after": (*common, *own)',
        '"before": (*common, *own), "after": (*own, *common)',
        ("test_order_matters", "test_bounds"),
    ),
    Mutant(
        "two outside interfaces judged inbound instead of through",
        "plan/stages/crossings.py",
        "    if from_outside != to_outside:\n",
        '    if from_outside:\n        return "inbound"\n    if from_outside != to_outside:\n',
        ("test_order_matters", "test_bounds"),
    ),
    Mutant(
        "windows of time tried on five days only",
        "proof/space.py",
        "for day in range(7)",
        "for day in range(5)",
        ("test_order_matters", "test_bounds"),
    ),
    Mutant(
        "rest not reduced while looking for redundant rules",
        "proof/exact.py",
        "                found.add(number)\n        rest = {other: held & ~mine for other, held in rest.items()}",
        "                found.add(number)\n        rest = dict(rest)",
        ("test_order_matters", "test_bounds"),
    ),
    Mutant(
        "time to live after the leaving lists",
        "plan/order.py",
        "    Stage.TTL,\n    Stage.CROSSING,\n    Stage.LEAVING_LIST,\n    Stage.TRANSLATE_SOURCE,",
        "    Stage.CROSSING,\n    Stage.LEAVING_LIST,\n    Stage.TTL,\n    Stage.TRANSLATE_SOURCE,",
        ("test_order_matters", "test_steering"),
    ),
    Mutant(
        "the decision of a subnet's end cached for its neighbours",
        "plan/stages/routes.py",
        'if found.origin == "connected" and self._is_end(facts, found):',
        'if found.origin == "connected" and found.prefix not in self._known and self._is_end(facts, found):',
        ("test_order_matters", "test_bounds"),
    ),
    Mutant(
        "a profile that judges an answer by its own source",
        "plan/fields.py",
        "facts.packet.source if session is None or facts.direction is Direction.FORTH else session.inner.source",
        "facts.packet.source",
        ("test_order_matters", "test_bounds"),
    ),
    Mutant(
        "a promised lease given again",
        "routing/leases.py",
        "{*domain.owners, *promised}",
        "{*domain.owners}",
        ("test_order_matters", "test_bounds"),
    ),
    Mutant(
        "cells of a kept moment reused although sessions began since",
        "lab/lab.py",
        " or self._sent != kept.sent:",
        ":",
        ("test_order_matters", "test_bounds"),
    ),
    Mutant(
        "a flow that is its own reverse taken for a question again",
        "state/state.py",
        "number % 2 == 0 and found.outer.reverse() == flow",
        "number % 2 == 0 and found.outer == flow and number > 8",
        ("test_bounds", "test_state"),
    ),
    Mutant(
        "a device's own packets open no session",
        "plan/stages/routes.py",
        "self._remembers = own or bool(here.device.translate)",
        "self._remembers = bool(here.device.translate)",
        ("test_order_matters", "test_bounds"),
    ),
    Mutant(
        "a refusal by itself is no answer",
        "plan/stages/own.py",
        "return (OpenSession(leaves=False), stop) if own_packet else (stop,)",
        "return (OpenSession(leaves=False), stop) if own_packet and refused == 'answer.unasked' else (stop,)",
        ("test_bounds", "test_journeys"),
    ),
    Mutant(
        "whatever passes is said to let a session in",
        "plan/stages/translate.py",
        '(Stop(Fate.DROPPED, "nat.none"),) if drops else PASS',
        '(Stop(Fate.DROPPED, "nat.none"),) if drops else (PASS[0]._replace(lets_in=True),)',
        ("test_order_matters", "test_steering", "test_state"),
    ),
    Mutant(
        "a rule that sends on leaves no trace of itself",
        "walk/execute.py",
        "        facts.front = decision.row\n",
        "",
        ("test_order_matters", "test_gates"),
    ),
)


def survives(copy: Path, tests: list[str]) -> bool:
    """Whether every one of some tests passes in the copy."""
    command = [sys.executable, "-m", "pytest", "-x", "-p", "no:cacheprovider", *tests]
    env = {**os.environ, "PYTHONPATH": str(copy / "src")}
    return subprocess.run(command, cwd=copy, env=env, capture_output=True, check=False).returncode == 0


def tried(mutant: Mutant, copy: Path) -> str:
    """What became of a mutant: by which tests it was noticed, or that it was not."""
    file = copy / "src" / "mossy_compass" / mutant.file
    text = file.read_text(encoding="utf-8")
    if text.count(mutant.right) != 1:
        return "its text is not there once: write it anew"
    file.write_text(text.replace(mutant.right, mutant.wrong), encoding="utf-8")
    try:
        near = [f"tests/{name}.py" for name in mutant.near if (copy / "tests" / f"{name}.py").exists()]
        if near and not survives(copy, near):
            return "noticed by " + ", ".join(mutant.near)
        return "SURVIVES" if survives(copy, []) else "noticed by the whole suite"
    finally:
        file.write_text(text, encoding="utf-8")


def main(arguments: list[str]) -> int:
    """Try them, or those whose numbers are named."""
    folder = Path(arguments[0])
    folder.mkdir(parents=True, exist_ok=True)
    known_file, copy = folder / "known.json", folder / "copy"
    known: dict[str, str] = json.loads(known_file.read_text()) if known_file.exists() else {}
    shutil.rmtree(copy, ignore_errors=True)
    copy.mkdir()
    listed = subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True, check=True).stdout.split("\n")
    for name in filter(None, listed):
        (copy / name).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy2(ROOT / name, copy / name)
    if not survives(copy, []):
        print("the tests fail in an unchanged copy, so nothing can be learned from them: mend that first")
        return 2
    chosen = [MUTANTS[int(n) - 1] for n in arguments[1:]] or [m for m in MUTANTS if m.what not in known]
    for mutant in chosen:
        known[mutant.what] = tried(mutant, copy)
        known_file.write_text(json.dumps(known, indent=1))
        print(f"{mutant.what}: {known[mutant.what]}", flush=True)
    left = [what for what, said in known.items() if not said.startswith("noticed")]
    print(f"{len(known)} tried, {len(left)} not noticed")
    return 1 if left else 0


if __name__ == "__main__":
    raise SystemExit(main(sys.argv[1:]))
