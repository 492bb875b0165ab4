"""A flow before, while and after something fails, beside each other: what is said in the first line is what the moments show."""

from __future__ import annotations

from pathlib import Path

import pytest

import mossy_compass as mc
from mossy_compass.lab.lab import Flow, Lab
from mossy_compass.lab.moments import When, through
from mossy_compass.report.momentstext import head, moments, moments_dict
from mossy_compass.report.text import as_text
from tests.conftest import DATA
from tests.test_cli import mossy

JOBS = Path(__file__).parents[1] / "examples" / "jobs"
ALL = ["before", "just failed", "once noticed", "just restored", "at rest again"]
UNSEEN = ["before", "just failed", "just restored"]


def network(name: str) -> mc.Network:
    return mc.load(DATA / "fernhollow.yaml" if name == "demo" else JOBS / f"{name}.yaml")


CASES = [
    # Only what lies beyond the fibre fails: lost until the probe notices.
    ("two-ways-out", ("clerk", "weather", "https"), ["link north"], "survives link north: lost for", ALL, [True, False, True, True, True]),
    # The dish is what the sheds have first: the candidate is gone at once.
    ("two-ways-out", ("mower", "weather", "https"), ["link dish"], "survives link dish: answered at once by gate/fibre", UNSEEN, [True, True, True]),
    ("two-ways-out", ("clerk", "weather", "https"), ["link dish"], "is not touched by link dish", UNSEEN, [True, True, True]),
    ("two-ways-out", ("clerk", "weather", "https"), ["link fibre", "link dish"], "does not survive link fibre and link dish", ALL, [True, False, False, True, True]),
    ("two-ways-out", ("clerk", "weather", "https"), ["host weather"], "does not survive host weather", ALL, [True, False, False, True, True]),
    ("two-ways-out", ("clerk", "weather", "ssh"), ["link fibre"], "not answered even before link fibre fails", ALL, [False] * 5),
    ("reading-room", ("reader", "catalogue", "https"), ["device door"], "does not survive device door", UNSEEN, [True, False, True]),
    ("demo", ("kiosk-1", "almanac", "https"), ["link glass"], "survives link glass: lost for", ALL, [True, False, True, True, True]),
]  # fmt: skip


@pytest.mark.parametrize(("name", "ends", "fails", "says", "phases", "answered"), CASES)
def test_a_flow_through_a_failure(
    name: str, ends: tuple[str, str, str], fails: list[str], says: str, phases: list[str], answered: list[bool]
) -> None:
    found = through(network(name), Flow(*ends), fails)
    assert says in head(found)
    assert [m.phase.value for m in found.moments] == phases
    assert [m.cell.answered for m in found.moments] == answered
    assert found.ok is (("survives" in says and "not" not in says) or "not touched" in says)
    said = as_text(moments(found))
    assert max(len(line) for line in said.split("\n")) <= 100
    data = moments_dict(found)
    assert [m["answered"] for m in data["moments"]] == answered
    times = [m["milliseconds"] for m in data["moments"]]
    assert times == sorted(times)


def test_each_moment_is_that_of_a_drill_done_step_by_step() -> None:
    plan, flow = network("two-ways-out"), Flow("clerk", "weather", "https")
    lab, seen = Lab(plan), []
    lab.settle()
    lab.converse(flow)
    seen.append(lab.test(flow))
    lab.fail("link north")
    seen.append(lab.test(flow))
    lab.settle()
    seen.append(lab.test(flow))
    lab.restore()
    seen.append(lab.test(flow))
    lab.settle()
    seen.append(lab.test(flow))
    found = through(plan, flow, ["link north"])
    assert [m.journey.to_dict() for m in found.moments] == [j.to_dict() for j in seen]
    assert (found.moments[2].verdicts, found.moments[3].verdicts, found.moments[4].verdicts) == (
        ("beyond down",),
        (),
        ("beyond up",),
    )


def test_what_was_open_is_lost_with_its_way_and_comes_back_with_it() -> None:
    found = through(network("demo"), Flow("kiosk-1", "almanac", "https"), ["link fibre"])
    assert [m.goes_on for m in found.moments] == [True, False, False, True, True]
    assert "What was open is lost when it fails, and goes on when it works again." in head(found)
    untouched = through(network("two-ways-out"), Flow("clerk", "weather", "https"), ["link sheds"])
    assert "What was open goes on all the while." in head(untouched)
    closed = through(network("two-ways-out"), Flow("clerk", "weather", "ssh"), ["link sheds"])
    assert not any(m.goes_on for m in closed.moments)
    assert "What was open" not in head(closed)


def test_what_ends_with_its_device_does_not_come_back() -> None:
    """A firewall that fails forgets its sessions."""
    text = (JOBS / "long-page.yaml").read_text()
    network = mc.read_bytes(text.encode(), "n.yaml").network
    assert network is not None
    found = through(network, Flow("clerk", "almanac", "https"), ["device gate"])
    assert [m.cell.answered for m in found.moments] == [True, False, True]
    assert found.moments[-1].goes_on is not ("does not come back" in head(found))


@pytest.mark.parametrize(
    ("more", "says"),
    [
        (["--fail", "link nowhere"], "nowhere"),
        (["--fail", "link north", "--fail", "link north"], "has failed already"),
        (["--fail", "link north", "--then", "data"], "--fail is about one flow"),
        (["--fail", "link north", "--count", "3"], "--fail is about one flow"),
        (["--fail", "link north", "--service", "domain"], "is of one"),
    ],
)
def test_what_cannot_be_asked_is_refused(tmp_path: Path, more: list[str], says: str) -> None:
    (tmp_path / "n.yaml").write_text((JOBS / "two-ways-out.yaml").read_text())
    done = mossy(tmp_path, "trace", "n.yaml", "--from", "clerk", "--to", "weather", *more)
    assert done.returncode == 2
    assert says in done.stderr


def test_returncodes_say_whether_it_survives(tmp_path: Path) -> None:
    (tmp_path / "n.yaml").write_text((JOBS / "two-ways-out.yaml").read_text())
    ask = ["trace", "n.yaml", "--from", "clerk", "--to", "weather", "--service", "https"]
    assert mossy(tmp_path, *ask, "--fail", "link north").returncode == 0
    assert mossy(tmp_path, *ask, "--fail", "host weather").returncode == 1
    assert When.NOTICED.value in mossy(tmp_path, *ask, "--fail", "link north").stdout


def test_a_ping_through_a_tunnel_reads_well() -> None:
    """No port to cut off, and a device that wraps what it forwards stands there once."""
    said = as_text(moments(through(network("demo"), Flow("lab-bench", "moor-store", "ping"), ["link glass"]))).split("\n")
    (seen,) = (line for line in said if line.startswith("seen as"))
    assert seen.split()[2:] == ["10.40.40.20", "-", *["10.40.40.20"] * 3]
    first = [line[13:26].strip() for line in said[said.index(next(x for x in said if x.startswith("way"))) :]][:6]
    assert first == ["lab-bench", "canopy", "gate", "upstream", "moor-gate", "moor-store"]
