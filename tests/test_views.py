"""Grids, tables, paths and flows as a user meets them; text, CSV and JSON tell the same."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import pytest

import mossy_compass as mc
from mossy_compass.report import drawing, gridtext, tables, text
from mossy_compass.walk import grid as grids
from tests.conftest import DATA
from tests.test_cli import mossy


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    for name in ("fernhollow", "grounds"):
        (tmp_path / f"{name}.yaml").write_bytes((DATA / f"{name}.yaml").read_bytes())
    return tmp_path


@pytest.fixture(scope="module")
def grounds() -> mc.Plan:
    return mc.Plan(mc.load(DATA / "grounds.yaml"))


@pytest.fixture(scope="module")
def whole(demo: mc.Plan) -> grids.Grid:
    return grids.grid(demo)


def test_every_cell_is_a_journey_of_its_own(demo: mc.Plan, whole: grids.Grid) -> None:
    for cell in whole.cells[::7]:
        journey = mc.trace(demo, cell.source, cell.target, cell.service)
        assert (cell.answered, cell.cause, cell.symptom) == (journey.answered, journey.cause, journey.symptom)
        assert journey.because.words in cell.because  # the same culprit, wherever a test is told of
        assert journey.culprit.words in cell.because
        assert journey.culprit.words in str(journey)
    assert len(whole.cells) == 321
    assert {c.source for c in whole.cells} == set(grids.ends_of(demo.network))


def test_text_csv_and_json_have_the_same_cells(whole: grids.Grid) -> None:
    from mossy_compass.exchange.csvtable import grid_csv

    rows = list(csv.DictReader(io.StringIO(grid_csv(whole))))
    plain = whole.to_dict()["cells"]
    assert [(r["from"], r["to"], r["service"], r["cause"], r["path"]) for r in rows] == [
        (c["from"], c["to"], c["service"], c["cause"], " > ".join(c["path"])) for c in plain
    ]
    shown = text.as_text(gridtext.whole(whole, "f"))
    good = sum(c.answered for c in whole.cells)
    assert shown.startswith(f"f: {good} of 321 tests are answered, {321 - good} are not.")
    assert max(map(len, shown.splitlines())) <= 100
    lines = shown.split("Why not", maxsplit=1)[0].splitlines()
    assert sum(line.split().count("yes") for line in lines) == good
    for words in {c.words for c in whole.cells}:
        assert sum(line.split().count(words) for line in lines) == sum(c.words == words for c in whole.cells)


def test_a_grid_comes_back_from_its_data(whole: grids.Grid) -> None:
    again = grids.from_dict(json.loads(json.dumps(whole.to_dict())))
    assert again.cells == whole.cells
    assert not grids.compare(again, whole)


@pytest.mark.parametrize(
    "data", [[], {}, {"mossy-grid": 2, "cells": []}, {"mossy-grid": 1, "cells": [{}]}, {"mossy-grid": 1, "cells": [3]}]
)
def test_what_is_no_grid_is_refused(data: object) -> None:
    with pytest.raises(mc.InputError, match="no saved grid"):
        grids.from_dict(data)


def test_changes_put_what_closed_and_opened_first(demo_text: bytes, whole: grids.Grid) -> None:
    edited = demo_text.replace(b"stateful: [tcp, udp]\n", b"stateful: [tcp, udp, icmp]\n").replace(
        b"{id: 20, permit: tcp, from: kiosks, to: ledger", b"{id: 20, permit: tcp, from: kiosk-1, to: ledger"
    )
    network = mc.read_bytes(edited, "edited.yaml").network
    assert network is not None
    found = grids.compare(whole, grids.grid(mc.Plan(network)))
    kinds = [(a.answered, b.answered) for a, b in found.changed]
    assert kinds == sorted(kinds, key=lambda k: k[0] == k[1])
    assert [(a.source, a.target, a.service) for a, b in found.changed if a.answered and not b.answered] == [
        ("kiosk-2", "ledger", "ticketing")
    ]
    assert found.come == found.gone == ()


def test_another_path_is_a_change_of_its_own(grounds: mc.Plan) -> None:
    before = grids.grid(grounds, ["apple-press"], ["pond-gauge"])
    slower = (
        (DATA / "grounds.yaml")
        .read_text()
        .replace("edge: {address: 10.40.0.2/30, ospf: {area: 0, cost: 10", "edge: {address: 10.40.0.2/30, ospf: {area: 0, cost: 90")
    )
    network = mc.read_bytes(slower.encode(), "g.yaml").network
    assert network is not None
    found = grids.compare(before, grids.grid(mc.Plan(network), ["apple-press"], ["pond-gauge"]))
    assert not found.changed
    assert all(b.path == ("apple-press", "orchard", "north", "south", "quarry", "pond-gauge") for _, b in found.rerouted)


def test_baseline_is_kept_then_compared_then_renewed(folder: Path) -> None:
    ask = ("grid", "fernhollow.yaml", "--from", "tablet", "--to", "ledger", "--baseline", "b.json")
    first = mossy(folder, *ask)
    assert first.returncode == 0
    assert first.stdout.startswith("fernhollow.yaml: 0 of 4 tests are answered, 4 are not.")
    assert "Kept as the baseline in b.json" in first.stdout
    assert mossy(folder, *ask).stdout == "fernhollow.yaml: nothing changed since b.json: 4 tests end as they did.\n"
    file = folder / "fernhollow.yaml"
    file.write_text(file.read_text().replace("kiosks: [kiosk-1, kiosk-2]", "kiosks: [kiosk-1, kiosk-2, tablet]"))
    changed = mossy(folder, *ask, "--renew")
    assert changed.returncode == 1
    assert changed.stdout.startswith("fernhollow.yaml: 1 of 4 tests changed since b.json: 0 no longer answered, 1 newly answered")
    assert mossy(folder, *ask).returncode == 0


@pytest.mark.parametrize(
    "arguments, says",
    [
        (["grid", "fernhollow.yaml", "--renew"], "--renew is about a baseline"),
        (["grid", "fernhollow.yaml", "--picture", "x.txt"], "is none of png, svg"),
        (["grid", "fernhollow.yaml", "--baseline", "fernhollow.yaml"], "is no saved grid"),
        (["grid", "fernhollow.yaml", "--from", "nobody"], "there is no device 'nobody'"),
        (["tables", "fernhollow.yaml", "gaet"], "Did you mean gate"),
        (["tables", "fernhollow.yaml", "--to", "10.40.0.1"], "are about one device"),
        (["tables", "fernhollow.yaml", "gate", "--to", "10.40.0"], "has 3 parts"),
        (["trace", "fernhollow.yaml", "--from", "kiosk-1", "--to", "ledger", "--every-path", "--count", "9"], "give one of them"),
    ],
)
def test_wrong_questions(folder: Path, arguments: list[str], says: str) -> None:
    done = mossy(folder, *arguments)
    assert done.returncode == 2
    assert says in done.stderr
    assert done.stdout == ""


@pytest.mark.parametrize(
    "arguments, says",
    [
        (["tables", "grounds.yaml"], "14 segments join 14 devices:"),
        (["tables", "grounds.yaml", "north", "--part", "routes"], "13 routes of north in use (preference/metric: lower wins):"),
        (
            ["tables", "grounds.yaml", "edge", "--to", "10.40.30.20"],
            "edge takes ospf external 1 route 10.40.30.0/24, by south to 10.40.0.6:",
        ),
        (["tables", "grounds.yaml", "shed"], "5 interfaces of shed, all up:"),
        (
            ["tables", "fernhollow.yaml", "gate", "--part", "settings"],
            "61 settings in force at gate, 1 of them written in the file:",
        ),
        (
            ["trace", "grounds.yaml", "--from", "pond-gauge", "--to", "apple-press", "--every-path"],
            "pond-gauge → apple-press, ping: 4 paths, there and back, and every one ends alike: ANSWERED",
        ),
        (
            ["trace", "grounds.yaml", "--from", "pond-gauge", "--to", "apple-press", "--count", "50"],
            "pond-gauge → apple-press, ping: of 50 flows 50 ANSWERED [echo.answered]",
        ),
        (["check", "grounds.yaml"], "grounds.yaml: no findings; the network can be used."),
    ],
)
def test_first_lines_are_answers_and_fit(folder: Path, arguments: list[str], says: str) -> None:
    done = mossy(folder, *arguments)
    assert done.returncode == 0, done.stderr
    assert done.stdout.startswith(says), done.stdout
    assert max(map(len, done.stdout.splitlines())) <= 100
    if arguments[0] != "check":
        assert json.loads(mossy(folder, *arguments, "--format", "json").stdout)


def test_sarif_from_the_command_line(folder: Path) -> None:
    done = mossy(folder, "check", "fernhollow.yaml", "--format", "sarif")
    assert [r["ruleId"] for r in json.loads(done.stdout)["runs"][0]["results"]] == [
        "rule.partly-covered",
        "rule.partly-covered",
        "idle.unattached",
        "subnet.no-way-back",
        "subnet.no-way-back",
        "session.not-inspected",
        "session.not-inspected",
    ]


def test_tables_as_rows(grounds: mc.Plan) -> None:
    found = {t.name: t for t in tables.of_device(grounds, "meadow-house")}
    assert list(found) == ["interfaces", "routes", "neighbours", "lists", "settings", "order"]
    assert ("meadow", "10.40.1.1", "north/meadow", "OSPF IPv4") in found["neighbours"].rows
    assert len(found["routes"].rows) == len(grounds.device("meadow-house").table)
    cut = (DATA / "grounds.yaml").read_text().replace("fibre: {members: [edge/fibre,", "fibre: {state: down, members: [edge/fibre,")
    network = mc.read_bytes(cut.encode(), "g").network
    assert network is not None
    down = mc.Plan(network)
    shown = {r[0]: r[1] for r in tables.interfaces(down, "edge").rows}
    assert shown["fibre (world)"] == "down: segment fibre is cut"
    out = [r for r in tables.routes(down, "edge").rows if r[0] == "not: 0.0.0.0/0"]
    assert "inactive: fibre, which next hop 198.51.100.1 is behind, is down (segment fibre is cut)" in out[0][-1]


@pytest.mark.parametrize("form", ["png", "svg"])
def test_the_picture_of_a_grid_is_the_same_each_time(whole: grids.Grid, form: str) -> None:
    once = drawing.render_grid(whole, "t", form)
    assert once == drawing.render_grid(whole, "t", form)
    if form == "svg":
        for words in {c.words for c in whole.cells}:
            assert words.encode() in once
