"""The documentation is run: every command, every example file, every Python block, every generated table."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
import yaml

import mossy_compass as mc
from mossy_compass.files import keys, schema
from mossy_compass.model.codes import FINDINGS
from mossy_compass.plan.causes import CAUSES
from mossy_compass.plan.reasons import REASONS
from mossy_compass.routing.compute import Routing
from tests.conftest import DATA
from tests.test_cli import mossy

ROOT = Path(__file__).resolve().parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]


def blocks(path: Path, kind: str) -> list[str]:
    return re.findall(rf"```{kind}\n(.*?)```", path.read_text(encoding="utf-8"), re.DOTALL)


@pytest.mark.parametrize("path", [p for p in PAGES if blocks(p, "console")], ids=lambda p: p.name)
def test_commands_print_what_the_page_shows(path: Path, tmp_path: Path) -> None:
    """Commands run in their order in one folder; what is shown under one is how its output begins (``...``: and so on).

    A block whose first line names a file is that file, from there on.
    """
    for name, block in re.findall(
        r"```(?:console|(?:yaml|csv|python) (\S+))\n(.*?)```", path.read_text(encoding="utf-8"), re.DOTALL
    ):
        if name:
            (tmp_path / name).write_text(block, encoding="utf-8")
            continue
        for part in re.split(r"^\$ ", block, flags=re.MULTILINE)[1:]:
            command, _, shown = part.partition("\n")
            first, *words = shlex.split(command)
            done = mossy(tmp_path, *words) if first == "mossy" else pytested(tmp_path, *words)
            assert done.returncode in (0, 1), done.stderr
            if not shown.strip():
                continue
            begins = shown.rstrip("\n").removesuffix("...")
            assert done.stdout.startswith(begins), done.stdout[:600]
            assert shown.rstrip("\n").endswith("...") or done.stdout == shown


def pytested(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    """What pytest says in a folder of its own."""
    command = [sys.executable, "-m", "pytest", "-p", "no:cacheprovider", "-c", os.devnull, "--rootdir", ".", *words]
    return subprocess.run(command, cwd=folder, capture_output=True, text=True)


def merged(base: Any, more: Any) -> Any:
    if isinstance(base, dict) and isinstance(more, dict):
        return {**base, **{k: merged(base[k], v) if k in base else v for k, v in more.items()}}
    return more


EXAMPLES = blocks(ROOT / "docs" / "network-file.md", "yaml")


@pytest.mark.parametrize("number", range(len(EXAMPLES)))
def test_examples_of_the_network_file_are_read(number: int) -> None:
    base = yaml.load(EXAMPLES[0], yaml.BaseLoader)
    data = merged(base, yaml.load(EXAMPLES[number], yaml.BaseLoader))
    reading = mc.read_bytes(yaml.safe_dump(data).encode(), "docs.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    assert Routing(reading.network).settled()


def test_every_key_stands_in_an_example() -> None:
    """A key that is described and never shown is half described."""
    shown: set[str] = set()

    def walk(value: Any) -> None:
        if isinstance(value, dict):
            shown.update(value)
            for inner in value.values():
                walk(inner)
        elif isinstance(value, list):
            for inner in value:
                walk(inner)

    for example in EXAMPLES:
        walk(yaml.load(example, yaml.BaseLoader))
    parts = [v for v in vars(schema).values() if isinstance(v, type) and issubclass(v, keys.Part) and v is not keys.Part]
    known = {word for p in parts for word in p.known()}
    assert {"mossy-network", "filter", "ospf"} <= known
    assert known - shown <= {"rules", "silent", "metric", "type"}


def test_generated_tables_are_current() -> None:
    done = subprocess.run([sys.executable, str(ROOT / "tools" / "docs.py"), "--check"], capture_output=True, text=True)
    assert done.returncode == 0, done.stdout


def test_schemas_are_current() -> None:
    sys.path.insert(0, str(ROOT / "tools"))
    try:
        import schemas  # type: ignore[import-not-found]
    finally:
        sys.path.pop(0)
    assert (DATA / "network.schema.json").read_text() == schemas.as_text(schemas.network_schema())
    assert (DATA / "journey.schema.json").read_text() == schemas.as_text(schemas.journey_schema())


def test_the_network_schema_takes_the_shipped_networks() -> None:
    """Editors read YAML with types, so numbers and yes are what they make of them."""
    import json

    import jsonschema

    wanted = json.loads((DATA / "network.schema.json").read_text())
    for name in ("fernhollow", "grounds", "starter"):
        data = yaml.load((DATA / f"{name}.yaml").read_text(), yaml.SafeLoader)
        jsonschema.validate(data, wanted)
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({"mossy-network": 1, "devices": {"a": {"kind": "rooter"}}}, wanted)


EDIT = re.compile(
    r"in `(?P<file>[\w/]+\.py)`, (?:at the end|after `(?P<anchor>[^`]+)`):\n\n```python\n(?P<lines>.*?)```",
    re.DOTALL | re.IGNORECASE,
)
HOLDS = re.compile(r"It holds:\n\n```python\n(?P<script>.*?)```", re.DOTALL)


@pytest.mark.slow
def test_the_worked_examples_of_the_architecture_hold(tmp_path: Path) -> None:
    """The changes that the page shows are made in a copy of the package, in turn; what it says then is run there."""
    page = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
    shutil.copytree(Path(mc.__file__).parent, tmp_path / "mossy_compass", ignore=shutil.ignore_patterns("__pycache__"))
    steps = sorted([*EDIT.finditer(page), *HOLDS.finditer(page)], key=lambda m: m.start())
    assert sum("script" in m.groupdict() for m in steps) == 2
    assert len(steps) > 10
    for step in steps:
        if "script" in step.groupdict():
            done = subprocess.run([sys.executable, "-c", step["script"]], cwd=tmp_path, capture_output=True, text=True)
            assert done.returncode == 0, done.stderr
            continue
        path = tmp_path / "mossy_compass" / step["file"]
        lines = path.read_text().splitlines(keepends=True)
        anchor = step["anchor"]
        at = (
            len(lines) - 1
            if anchor is None
            else next(n for n, line in enumerate(lines) if line.startswith(anchor) or anchor in line)
        )
        path.write_text("".join([*lines[: at + 1], step["lines"], *lines[at + 1 :]]))


@pytest.mark.parametrize("path", [p for p in PAGES if blocks(p, "python") and p.name != "architecture.md"], ids=lambda p: p.name)
def test_python_blocks_run(path: Path, tmp_path: Path) -> None:
    for name in ("fernhollow.yaml", "fernhollow.drill.yaml"):
        (tmp_path / name).write_bytes((DATA / name).read_bytes())
    for block in blocks(path, "python"):
        subprocess.run([sys.executable, "-c", block], cwd=tmp_path, check=True, capture_output=True)


def test_links_lead_somewhere() -> None:
    for path in [*PAGES, ROOT / "CONTRIBUTING.md"]:
        for link in re.findall(r"\]\(([^)#]+)\)", path.read_text(encoding="utf-8")):
            if "://" not in link:
                assert (path.parent / link).exists(), f"{path.name}: {link}"


def test_every_finding_that_the_code_gives_is_in_the_table() -> None:
    used: set[str] = set()
    source = Path(mc.__file__).parent
    for path in source.rglob("*.py"):
        if path.name != "codes.py":
            used |= {
                c
                for c in re.findall(r'"([a-z0-9]+\.[a-z0-9-]+)"', path.read_text(encoding="utf-8"))
                if c in FINDINGS or c.split(".")[0] in {"yaml", "vlan", "segment", "lease", "rule", "idle", "list"}
            }
    used -= {c for c in used if c.endswith((".yaml", ".json"))} | set(REASONS)
    assert used - set(CAUSES) == set(FINDINGS) - set(CAUSES) - set(REASONS), used ^ set(FINDINGS)
