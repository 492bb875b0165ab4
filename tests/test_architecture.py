"""The parts import one another in one direction only; the core touches nothing outside itself."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import networkx as nx
import pytest

import mossy_compass

ROOT = Path(mossy_compass.__file__).parent

PACKET = {"packet"}
HEADERS = PACKET | {"headers"}
MODEL = HEADERS | {"model"}
ROUTING = MODEL | {"routing"}
PLAN = ROUTING | {"plan"}
STATE = PACKET | {"state", "plan"}
WALK = PLAN | STATE | {"walk"}
PROOF = PLAN | STATE | {"proof"}
LAB = WALK | PROOF | {"lab"}
OUTER = LAB
ALLOWED: dict[str, set[str]] = {
    "packet": PACKET,
    "headers": HEADERS,
    "model": MODEL,
    "routing": ROUTING,
    "plan": PLAN,
    "state": STATE,
    "walk": WALK,
    "proof": PROOF,
    "lab": LAB,
    "files": OUTER | {"files"},
    "exchange": OUTER | {"exchange"},
    "report": OUTER | {"report"},
    "cli": OUTER | {"files", "exchange", "report", "cli"},
}
CORE = ("packet", "headers", "model", "routing", "plan", "state", "walk", "proof", "lab")
EVERYWHERE = {"errors", "marks", "safe", "voice"}
OF_PLAN_IN_STATE = {"facts", "actions", "ids", "keeping"}
BARRED_IN_CORE = {
    "argparse",
    "click",
    "rich",
    "yaml",
    "pydantic",
    "matplotlib",
    "networkx",
    "time",
    "random",
    "datetime",
    "os",
    "sys",
    "pathlib",
    "io",
    "socket",
    "subprocess",
    "logging",
}
ONLY_IN = {
    "yaml": {"files"},
    "pydantic": set(),  # its core alone is used: making its model classes takes longer than reading a file
    "pydantic_core": {"files"},
    "click": {"cli"},
    "rich": {"report", "cli"},
    "matplotlib": {"report"},
    "networkx": set(),  # a judge in the tests
    "numpy": {"routing", "report", "headers", "lab"},
    "pandas": {"exchange"},
    "pyarrow": {"exchange"},
    "distributed": {"cli"},
    "oxidd": {"headers"},
    "junitparser": {"exchange"},
    "watchfiles": {"cli"},
    "zoneinfo": {"files"},
    "scipy": {"routing", "report"},
}
FILES = sorted(ROOT.rglob("*.py"))


def imports(tree: ast.AST) -> list[tuple[int, str]]:
    found = []
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            found += [(node.lineno, alias.name) for alias in node.names]
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"relative import at line {node.lineno}"
            found.append((node.lineno, node.module or ""))
            if node.module == "mossy_compass":
                found += [(node.lineno, f"mossy_compass.{a.name}") for a in node.names]
    return found


@pytest.mark.parametrize("path", FILES, ids=lambda p: str(p.relative_to(ROOT)))
def test_imports_go_one_way(path: Path) -> None:
    relative = path.relative_to(ROOT)
    if len(relative.parts) == 1:
        return
    part = relative.parts[0]
    for line, name in imports(ast.parse(path.read_text())):
        head, *rest = name.split(".")
        if head == "mossy_compass":
            assert rest, f"{relative}:{line} imports the whole package"
            assert rest[0] in ALLOWED[part] | EVERYWHERE, f"{relative}:{line}: {part} may not import {rest[0]}"
            if part == "state" and rest[0] == "plan":
                assert rest[1] in OF_PLAN_IN_STATE, f"{relative}:{line}: state may import of plan only {OF_PLAN_IN_STATE}"
        else:
            if part in CORE and (str(relative), head) != ("headers/sets.py", "os"):  # a variable of the library that it knows
                assert head not in BARRED_IN_CORE, f"{relative}:{line}: the core may not import {head}"
            assert part in ONLY_IN.get(head, {part}), f"{relative}:{line}: {head} belongs in {ONLY_IN.get(head)}"


def dotted(path: Path) -> str:
    parts = path.relative_to(ROOT.parent).with_suffix("").parts
    return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)


def test_no_file_imports_itself_in_a_circle() -> None:
    """Within a part as well, and under TYPE_CHECKING too: what is in a circle can only be read as a whole."""
    known = {dotted(p) for p in FILES}
    graph: nx.DiGraph[str] = nx.DiGraph()
    for path in FILES:
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ImportFrom) and node.module:
                for alias in node.names:
                    whole = f"{node.module}.{alias.name}"
                    graph.add_edge(dotted(path), whole if whole in known else node.module)
    circles = [sorted(c) for c in nx.strongly_connected_components(graph) if len(c) > 1]
    assert circles == []


def test_only_those_who_fetch_late_name_a_module_in_a_text() -> None:
    """An import by name is an import: the table above would not see it."""
    allowed = {"__init__.py", "cli/main.py"}
    for path in FILES:
        relative = str(path.relative_to(ROOT))
        tree = ast.parse(path.read_text())
        docstrings = {id(n.value) for n in ast.walk(tree) if isinstance(n, ast.Expr)}
        for node in ast.walk(tree):
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in docstrings:
                assert relative in allowed or "mossy_compass." not in node.value, f"{relative}:{node.lineno}"


@pytest.mark.parametrize("path", [p for p in FILES if p.relative_to(ROOT).parts[0] in CORE], ids=lambda p: str(p.relative_to(ROOT)))
def test_the_core_prints_and_opens_nothing(path: Path) -> None:
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
            assert node.func.id not in ("print", "open", "input", "exec", "eval"), f"{path}:{node.lineno}"


def test_one_name_stands_for_one_thing() -> None:
    seen: dict[str, str] = {}
    for path in FILES:
        for node in ast.parse(path.read_text()).body:
            if isinstance(node, ast.ClassDef):
                assert node.name not in seen, f"{path}:{node.lineno}: {node.name} is also in {seen.get(node.name)}"
                seen[node.name] = str(path)


def test_a_record_of_many_values_is_made_by_their_names() -> None:
    """Many values in a row: an exchange of two would be seen by nobody. (A journey sees to it itself.)"""
    for path in FILES:
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in ("Ruling", "Hop", "Leg"):
                assert len(node.args) in (0, 7), f"{path}:{node.lineno}"  # a ruling's seven parts are of different types


def test_every_part_is_in_the_table() -> None:
    parts = {p.relative_to(ROOT).parts[0] for p in FILES if len(p.relative_to(ROOT).parts) > 1}
    assert parts <= set(ALLOWED)


def test_a_barred_import_would_be_found() -> None:
    tree = ast.parse("def f():\n    if TYPE_CHECKING:\n        import yaml\n    from mossy_compass import cli\n")
    assert {n for _, n in imports(tree)} >= {"yaml", "mossy_compass.cli"}


def test_public_names() -> None:
    assert len(mossy_compass.__all__) <= 40
    assert len(set(mossy_compass.__all__)) == len(mossy_compass.__all__)
    assert {n for names in mossy_compass._HOMES.values() for n in names} == set(mossy_compass.__all__)
    with pytest.raises(AttributeError):
        mossy_compass.nothing_of_ours  # noqa: B018
    for name in mossy_compass.__all__:
        assert getattr(mossy_compass, name) is not None


@pytest.mark.parametrize("arguments", [["--help"], ["trace", "--help"], ["--version"]])
def test_help_starts_without_anything_heavy(arguments: list[str]) -> None:
    script = (
        "import sys\nfrom mossy_compass.cli.main import run\n"
        f"sys.argv = ['mossy', *{arguments!r}]\n"
        "try:\n    run()\nexcept SystemExit as end:\n    assert not end.code, end.code\n"
        "heavy = {'numpy', 'pandas', 'matplotlib', 'networkx', 'scipy', 'pydantic', 'yaml'} & set(sys.modules)\n"
        "assert not heavy, heavy\n"
    )
    subprocess.run([sys.executable, "-c", script], check=True, capture_output=True)


def test_error_tree_is_drawn_whole() -> None:
    from mossy_compass import errors

    drawn = errors.__doc__ or ""
    for name, thing in vars(errors).items():
        if isinstance(thing, type) and issubclass(thing, Exception) and thing.__module__ == errors.__name__:
            assert name in drawn
            assert issubclass(thing, errors.MossyError)
