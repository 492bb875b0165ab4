"""The mistakes that people make with lists: the tool's answer has the words that would have saved them."""

from __future__ import annotations

import importlib.util
import re
from pathlib import Path
from types import ModuleType

import pytest

ROOT = Path(__file__).resolve().parent.parent


def tool() -> ModuleType:
    spec = importlib.util.spec_from_file_location("mistakes", ROOT / "tools" / "mistakes.py")
    assert spec is not None
    assert spec.loader is not None
    made = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(made)
    return made


MISTAKES = tool()
CASES = MISTAKES.cases()


@pytest.mark.parametrize("case", CASES, ids=[c["n"] for c in CASES])
def test_the_answer_would_have_saved_the_day(case: dict[str, str]) -> None:
    text = "".join(MISTAKES.answer(case[key]) for key in ("ask", "also") if key in case)
    assert case["says"] in " ".join(text.split()), text


def test_every_mistake_is_there_once() -> None:
    assert [int(c["n"]) for c in CASES] == list(range(1, 109))
    assert all(re.match(r"(trace|check|grid|tables|change|seen|drill|slice) ", c["ask"]) for c in CASES)


def test_the_page_is_made_of_these_answers() -> None:
    assert MISTAKES.main(["--check"]) == 0, "run tools/mistakes.py"
