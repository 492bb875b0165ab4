"""A drill over its time, as rows of bars and dots: what is drawn is what happened."""

from __future__ import annotations

import itertools
from pathlib import Path

import pytest
from click.testing import CliRunner

from mossy_compass.cli.main import main
from mossy_compass.files.drills import read_drill
from mossy_compass.lab.drill import Report, run_drill
from mossy_compass.report import drawing
from mossy_compass.report.timeline import MOST_ROWS, Painted, Timeline, timeline
from tests.conftest import DATA


@pytest.fixture(scope="module")
def report() -> Report:
    return run_drill(read_drill(str(DATA / "fernhollow.drill.yaml"), None))


@pytest.fixture(scope="module")
def made(report: Report) -> Timeline:
    return timeline(report)


def test_every_step_is_there_in_its_order(report: Report, made: Timeline) -> None:
    assert [n for _, n in made.numbers] == [r.number for r in report.results]
    assert [x for x, _ in made.numbers] == sorted(x for x, _ in made.numbers)
    assert sum(
        len(r.dots) for r in made.rows if any(d.kind in (Painted.HOLDS, Painted.BARRED, Painted.FAILS) for d in r.dots)
    ) == len(report.expectations)
    assert [words for _, words in made.clock] == ["4 s", "7 s", "12 s 8 ms"]
    assert all(0 <= b.start <= b.end <= made.end for r in made.rows for b in r.bars)


def test_bars_last_as_long_as_what_they_are_about(report: Report, made: Timeline) -> None:
    rows = {r.label: r for r in made.rows}
    at = {n: x for x, n in made.numbers}
    fails = next(r.number for r in report.results if r.step.words == "fail link glass")
    restored = next(r.number for r in report.results if r.step.words == "restore link glass")
    (fault,) = rows["link glass"].bars
    assert (fault.start, fault.end) == (at[fails], at[restored])
    # the probe is late: it falls after the failure, and rises after the restoration; the uplink follows it at once
    verdicts = rows["probe gate/fibre-carries"].bars
    assert [b.kind for b in verdicts] == [Painted.UP, Painted.DOWN, Painted.UP]
    assert verdicts[0].start == 0
    assert verdicts[-1].end == made.end
    assert fault.start < verdicts[1].start
    assert fault.end < verdicts[2].start
    used = rows["uplinks gate/ways-out"].bars
    assert [b.words for b in used] == ["fibre", "radio", "fibre"]
    assert [b.start for b in used[1:]] == [b.start for b in verdicts[1:]]
    assert all(one.end == other.start for bars in (verdicts, used) for one, other in itertools.pairwise(bars))


def test_dots_say_what_became_of_each(made: Timeline) -> None:
    rows = {r.label: [d.kind for d in r.dots] for r in made.rows}
    assert rows["kiosk-1 to almanac for https"] == [Painted.HOLDS, Painted.HOLDS, Painted.BARRED, Painted.HOLDS, Painted.HOLDS]
    assert rows["conversation page"] == [Painted.PASSES, Painted.LOST, Painted.PASSES]
    assert rows["conversation page, expected"] == [Painted.HOLDS, Painted.BARRED]
    assert rows["tablet to ledger"] == [Painted.BARRED]


def test_what_fails_is_red_and_what_stays_failed_lasts_to_the_end(tmp_path: Path) -> None:
    (tmp_path / "f.yaml").write_bytes((DATA / "fernhollow.yaml").read_bytes())
    steps = "  - fail: link trunk\n  - expect: kiosk-1 reaches almanac for https\n"
    (tmp_path / "d.yaml").write_text(f"mossy-drill: 1\nnetwork: f.yaml\nsteps:\n{steps}")
    made = timeline(run_drill(read_drill(str(tmp_path / "d.yaml"), None)))
    rows = {r.label: r for r in made.rows}
    assert rows["link trunk"].bars[0].end == made.end
    assert [d.kind for d in rows["kiosk-1 to almanac for https"].dots] == [Painted.FAILS]
    assert made.clock == []  # no time passed


def test_more_than_fits_is_counted(tmp_path: Path) -> None:
    (tmp_path / "f.yaml").write_bytes((DATA / "fernhollow.yaml").read_bytes())
    steps = "".join(f"  - expect: kiosk-1 never reaches ledger for tcp/{n}\n" for n in range(100, 145))
    (tmp_path / "d.yaml").write_text(f"mossy-drill: 1\nnetwork: f.yaml\nsteps:\n{steps}")
    made = timeline(run_drill(read_drill(str(tmp_path / "d.yaml"), None)))
    assert (len(made.rows), made.left) == (MOST_ROWS, 45 + 1 - MOST_ROWS)


def test_the_picture_fits_a_screen_and_is_the_same_each_time(report: Report, tmp_path: Path) -> None:
    once, again = (drawing.render_timeline(report, "t", "png") for _ in range(2))
    assert once == again
    wide, high = (int.from_bytes(once[n : n + 4], "big") for n in (16, 20))
    assert (wide, high) <= (1280, 800)
    assert high <= 800
    svg = drawing.render_timeline(report, "t", "svg")
    assert b"probe gate/fibre-carries" in svg
    done = CliRunner().invoke(main, ["drill", str(DATA / "fernhollow.drill.yaml"), "--picture", str(tmp_path / "x.png")])
    assert done.exit_code == 0
    assert (tmp_path / "x.png").read_bytes()[:4] == b"\x89PNG"
    two = CliRunner().invoke(main, ["drill", "a.yaml", "b.yaml", "--picture", str(tmp_path / "y.png")])
    assert "--picture draws one drill" in str(two.exception)
