"""Every reason has words, every code is given the values that it names, and nothing reads a sentence back."""

from __future__ import annotations

import ast
import re
import string
from pathlib import Path

import pytest

import mossy_compass as mc
from mossy_compass.plan.causes import CAUSES
from mossy_compass.plan.reasons import REASONS, Because
from mossy_compass.report.words import WORDS
from tests import reasons

ROOT = Path(mc.__file__).parent
CORE = ("plan", "state", "walk")
SOURCES = [p for part in CORE for p in sorted((ROOT / part).rglob("*.py"))]


def made() -> list[tuple[str, int, str, int | None]]:
    """Every ``Because("code", (values))`` in the source: file, line, code, and how many values where they are written out."""
    out = []
    for path in SOURCES:
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "Because" and node.args:
                codes = [c.value for c in ast.walk(node.args[0]) if isinstance(c, ast.Constant) and isinstance(c.value, str)]
                count = 0 if len(node.args) == 1 else None
                if len(node.args) > 1 and isinstance(node.args[1], ast.Tuple):
                    elements = node.args[1].elts
                    count = None if any(isinstance(e, ast.Starred) for e in elements) else len(elements)
                out += [(path.name, node.lineno, code, count) for code in codes if code in REASONS or "." in code]
    return out


def test_the_two_tables_have_the_same_codes() -> None:
    assert set(REASONS) == set(WORDS)
    for code, words in WORDS.items():
        if isinstance(words, str):
            wanted = {name for _, name, _, _ in string.Formatter().parse(words) if name}
            assert wanted <= set(REASONS[code].names), code


def test_every_value_has_its_type_and_no_type_is_without_a_value() -> None:
    assert {name for shape in REASONS.values() for name in shape.names} == set(reasons.TYPES)


@pytest.mark.parametrize(
    ("code", "values"),
    [
        ("rule", ("office-out",)),
        ("rule", ("office-out", 10)),
        ("note.end", (True, "deny", 1)),
        ("loop", (["a", "b"],)),
        ("note.note-that-is-not-there", ()),
        ("note.member", ((("from", 1),),)),
    ],
)
def test_a_reason_with_other_values_is_noticed(code: str, values: tuple[object, ...]) -> None:
    with pytest.raises((AssertionError, KeyError)):
        Because(code, values)


def test_every_reason_is_given_the_values_that_it_names() -> None:
    found = made()
    assert len(found) > 60
    for name, line, code, count in found:
        assert code in REASONS, f"{name}:{line}: {code}"
        assert count in (None, len(REASONS[code].names)), f"{name}:{line}: {code} has {count} values"


def test_no_code_is_without_use() -> None:
    text = "".join(p.read_text() for p in SOURCES)
    assert [code for code in REASONS if f'"{code}"' not in text.replace("REASONS", "")] == []


def test_the_core_makes_no_sentences() -> None:
    """No f-string with words in plan/, state/ and walk/, but in errors about wrong questions and findings about files."""
    allowed = {"question.py", "many.py", "grid.py", "check.py", "order.py", "findings.py"}
    for path in SOURCES:
        if path.name in allowed:
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.JoinedStr):
                words = "".join(v.value for v in node.values if isinstance(v, ast.Constant) and isinstance(v.value, str))
                assert len(re.findall(r"[a-z]+", words)) < 3, f"{path.name}:{node.lineno}: {words}"


@pytest.mark.parametrize("word", ["partition", "split", "startswith", "removeprefix", "endswith"])
def test_nothing_in_the_engine_parses_a_note_or_reason(word: str) -> None:
    for path in SOURCES:
        for line in path.read_text().splitlines():
            if f".{word}(" in line:
                assert not re.search(r"(note|words|why|because|remark)\b[^=]*\." + word, line), f"{path.name}: {line.strip()}"


def test_every_cause_that_is_given_is_in_the_table() -> None:
    given = set()
    for path in SOURCES:
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in ("Stop", "Deliver", "Stuck"):
                given |= {a.value for a in node.args if isinstance(a, ast.Constant) and isinstance(a.value, str) and "." in a.value}
    assert given <= set(CAUSES)
    assert len(given) > 25


def test_a_reason_without_a_place_is_equal_to_one_with() -> None:
    one, other = (Because("rule", ("l", "10"), mark) for mark in (None, mc.Mark("f", 3)))
    assert one == other
    assert hash(one) == hash(other)
    assert (one.words, one.cited(), other.cited()) == ("l rule 10", "l rule 10", "l rule 10 (f:3)")
