"""Work in parts, in several processes or by a scheduler, comes to the same as in one."""

from __future__ import annotations

import re
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import distributed
import pytest
from click.testing import CliRunner

import mossy_compass as mc
from mossy_compass.cli import spread as spreading
from mossy_compass.cli.main import main
from mossy_compass.cli.spread import spread

DEMO = str(Path(mc.__file__).parent / "data" / "fernhollow.yaml")
ASKED = ["what-if", DEMO, "--fail", "each-link", "--from", "kiosk-1", "--from", "sensor-fern"]


def said(*more: str) -> str:
    done = CliRunner().invoke(main, [*ASKED, *more])
    assert done.exit_code == 1, (done.output, done.exception)
    return done.output


def refused(*more: str) -> str:
    done = CliRunner().invoke(main, [*ASKED, *more])
    assert isinstance(done.exception, mc.MossyError), done.output
    return str(done.exception)


def fails(items: object) -> object:
    raise RuntimeError("no such module")


@pytest.fixture(scope="module")
def cluster() -> Iterator[Any]:
    with distributed.LocalCluster(n_workers=1, threads_per_worker=2, processes=False, dashboard_address=":0") as made:
        yield made


def test_several_processes_come_to_the_same() -> None:
    assert said("--jobs", "2") == said()


def test_a_scheduler_comes_to_the_same(cluster: Any) -> None:
    assert said("--scheduler", cluster.scheduler_address) == said()


PROVED = ["prove", DEMO, "kiosks never reach ledger except ticketing", "kiosks reach ledger for ticketing", "--fail", "each-device"]


def proven(claims: list[str], form: list[str], scheduler: str) -> str:
    """What is said of claims, which is the same in one process, in two, and by a scheduler."""
    outputs = []
    for more in ([], ["--jobs", "2"], ["--scheduler", scheduler]):
        done = CliRunner().invoke(main, [*claims, *form, *more])
        assert done.exit_code == 1, (done.output, done.exception)
        outputs.append(done.output)
    assert outputs == outputs[:1] * 3
    return outputs[0]


@pytest.mark.slow
@pytest.mark.parametrize("form", [[], ["--format", "json"]])
def test_claims_are_proven_in_parts_as_in_one(cluster: Any, form: list[str]) -> None:
    """Whole texts, and data with the journeys of what speaks against them."""
    assert "kiosk-1" in proven(PROVED, form, cluster.scheduler_address)


def test_claims_of_a_small_network_are_proven_in_parts(cluster: Any, tmp_path: Path) -> None:
    (tmp_path / "n.yaml").write_text(NAMED)
    claims = ["prove", str(tmp_path / "n.yaml"), "ann never reaches store", "ann reaches names for domain", "--fail", "each-device"]
    for form in ([], ["--format", "json"]):
        assert "names" in proven(claims, form, cluster.scheduler_address)


NAMED = """\
mossy-network: 1
names: {shop.example: [10.40.2.10]}
lists: {l: [{deny: tcp, to-port: 443}, {permit: any}]}
devices:
  r: {kind: router, interfaces: {x: {address: 10.40.1.1/24, filter: {arriving: l}}, y: 10.40.2.1/24}}
  ann: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1, resolvers: [10.40.2.53]}
  names: {kind: host, address: 10.40.2.53/24, gateway: 10.40.2.1, serves: [domain], records: {other.example: [10.40.2.10]}}
  store: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https]}
segments: {one: [ann, r/x], two: [r/y, store, names]}
"""


def test_a_scheduler_that_is_named_is_asked() -> None:
    """For one claim as well: whoever names it does not want the work done here."""
    for asked in (PROVED[:3], PROVED[:4], ["drill", DEMO.replace(".yaml", ".drill.yaml")]):
        done = CliRunner().invoke(main, [*asked, "--scheduler", "nonsense"])
        assert isinstance(done.exception, mc.InputError), done.output


def test_drills_are_run_elsewhere_as_here(cluster: Any, tmp_path: Path) -> None:
    """Those that change the network and prove something; and a failure whose name was looked up on the way."""
    (tmp_path / "n.yaml").write_text(NAMED)
    failing = tmp_path / "named.drill.yaml"
    failing.write_text(
        "mossy-drill: 1\nnetwork: n.yaml\nsteps:\n"
        "  - {expect: {from: ann, to: other.example, service: https, reaches: yes}}\n"
        "  - {expect: {always: ann never reaches store for ssh}}\n"
    )
    drills = [str(failing), DEMO.replace(".yaml", ".drill.yaml")]
    outputs = []
    for more in ([], ["--jobs", "2"], ["--scheduler", cluster.scheduler_address]):
        done = CliRunner().invoke(main, ["drill", *drills, "--details", *more])
        assert done.exit_code == 1, (done.output, done.exception)
        outputs.append(re.sub(r"\d+ (ms|s)\b", "", done.output))
    assert "other.example asked at 10.40.2.53" in outputs[0]
    assert outputs == outputs[:1] * 3


def test_each_item_is_in_one_part(cluster: Any) -> None:
    for scheduler in (None, cluster.scheduler_address):
        for count in (1, 2, 7, 300):
            found = spread(sorted, list(range(count)), 2, scheduler, "numbers") if scheduler or count < 8 else [list(range(count))]
            assert sorted(n for part in found for n in part) == list(range(count))


def test_what_goes_wrong_far_away_is_told(cluster: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(spreading, "PATIENCE", 1)
    assert "is no address of a scheduler" in refused("--scheduler", "nonsense")
    assert "no scheduler answers at tcp://127.0.0.1:1" in refused("--scheduler", "tcp://127.0.0.1:1")
    with distributed.LocalCluster(n_workers=0, processes=False, dashboard_address=":0") as idle:
        assert "has no workers" in refused("--scheduler", idle.scheduler_address)
    with pytest.raises(mc.InputError, match="failed: RuntimeError: no such module"):
        spread(fails, [1], 1, cluster.scheduler_address, "numbers")
    monkeypatch.setitem(sys.modules, "distributed", None)
    assert "pip install 'mossy-compass[dask]'" in refused("--scheduler", "tcp://127.0.0.1:1")
