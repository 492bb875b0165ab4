"""Golden journeys and outputs of the demo network. `pytest --rewrite-golden` writes them anew; read the diff."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from click.testing import CliRunner

import mossy_compass as mc
from mossy_compass.cli.main import main
from mossy_compass.report import text
from tests.conftest import DATA

GOLDEN = Path(__file__).parent / "golden"
JOURNEYS = [
    ("kiosk-1", "ledger", "ticketing"),
    ("tablet", "ledger", "ticketing"),
    ("kiosk-1", "almanac.example", "ping"),
    ("kiosk-1", "almanac.example", "https"),
    ("sensor-fern", "almanac.example", "ntp"),
    ("catalogue", "ledger", "https"),
    ("lab-bench", "10.41.9.9", "ping"),
]


def agree(name: str, got: str, request: pytest.FixtureRequest) -> None:
    path = GOLDEN / name
    if request.config.getoption("--rewrite-golden"):
        path.write_text(got, encoding="utf-8")
    assert got == path.read_text(encoding="utf-8")


@pytest.mark.parametrize("sender, target, service", JOURNEYS)
def test_journeys(demo: mc.Plan, request: pytest.FixtureRequest, sender: str, target: str, service: str) -> None:
    journey = mc.trace(demo, sender, target, service)
    name = f"{sender}-{target}-{service}"
    agree(f"{name}.json", json.dumps(journey.to_dict(details=True), indent=1, ensure_ascii=False) + "\n", request)
    agree(f"{name}.txt", text.as_text(text.journey(journey, details=True)), request)


def test_demo(request: pytest.FixtureRequest) -> None:
    result = CliRunner().invoke(main, ["demo"])
    assert result.exit_code == 0
    assert max(map(len, result.output.splitlines())) <= 100
    agree("demo.txt", result.output, request)


def test_no_findings_but_the_intended_in_the_demo(demo_text: bytes) -> None:
    assert [p.code for p in mc.read_bytes(demo_text, "f").problems] == ["idle.unattached"]
    assert mc.read_bytes((DATA / "starter.yaml").read_bytes(), "s").problems == ()


VIEWS = {
    "tables-cables": ["tables", "grounds.yaml"],
    "tables-meadow-house": ["tables", "grounds.yaml", "meadow-house"],
    "tables-lookup": ["tables", "grounds.yaml", "edge", "--to", "203.0.113.80"],
    "grid": [
        "grid",
        "fernhollow.yaml",
        "--from",
        "kiosk-1",
        "--from",
        "tablet",
        "--from",
        "lab-bench",
        "--to",
        "ledger",
        "--to",
        "almanac",
    ],
    "every-path": ["trace", "grounds.yaml", "--from", "pond-gauge", "--to", "apple-press", "--every-path"],
    "flows": ["trace", "grounds.yaml", "--from", "clerk", "--to", "almanac", "--count", "100"],
    "lookup": ["trace", "grounds.yaml", "--from", "stroller", "--to", "almanac.example", "--service", "https"],
    "check": ["check", "fernhollow.yaml"],
}


@pytest.mark.parametrize("name", VIEWS)
def test_views(name: str, request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for shipped in ("fernhollow", "grounds"):
        (tmp_path / f"{shipped}.yaml").write_bytes((DATA / f"{shipped}.yaml").read_bytes())
    monkeypatch.chdir(tmp_path)
    result = CliRunner().invoke(main, VIEWS[name])
    assert result.exit_code == 0, result.output
    agree(f"{name}.txt", result.output, request)
