"""A part of a network: a flow fares in it as in the whole, by the same rows; nothing else that it says means anything else than before."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

import mossy_compass as mc
from mossy_compass.lab.slicing import _told, _tries
from mossy_compass.walk.trace import trace_each
from mossy_compass.walk.weather import in_weather
from tests.conftest import DATA
from tests.effort import at_length
from tests.test_associations import behind
from tests.test_cli import mossy

EXAMPLES = Path(__file__).parents[1] / "examples" / "mistakes"


def fares(path: Path, sender: str, target: str, service: str) -> object:
    return [_told(j) for j in trace_each(in_weather(mc.Plan(mc.load(path))), sender, target, service)]


@pytest.mark.scaled
@pytest.mark.parametrize(
    "path", [DATA / "fernhollow.yaml", DATA / "grounds.yaml", *(EXAMPLES / f"{n}.yaml" for n in ("ways", "tunnels", "uplinks", "names", "live"))], ids=lambda p: p.stem
)  # fmt: skip
def test_a_flow_fares_in_its_part_as_in_the_whole(path: Path, tmp_path: Path) -> None:
    network = mc.load(path)
    chance = random.Random(path.stem)
    hosts = [n for n, d in network.devices.items() if d.kind.value == "host"]
    (tmp_path / "whole.yaml").write_bytes(path.read_bytes())
    for number in range(6 if at_length() else 3):
        sender, target = chance.sample(hosts, 2)
        service = chance.choice(("https", "ping", "udp/53"))
        done = mossy(tmp_path, "slice", "whole.yaml", f"part-{number}.yaml", "--from", sender, "--to", target, "--service", service)
        assert done.returncode == 0, (sender, target, service, done.stderr)
        part = mc.load(tmp_path / f"part-{number}.yaml")
        assert set(part.devices) <= set(network.devices)
        assert fares(tmp_path / f"part-{number}.yaml", sender, target, service) == fares(path, sender, target, service)
        # whoever is left out and is still named is a group of the same addresses
        for name, group in part.groups.items():
            if name not in network.groups:
                own = {a.key for a, owners in network.owners().items() if name in owners}
                assert {s.first for t in group.terms for s in t.spans or ()} <= own


def test_each_part_that_is_tried_holds_whoever_was_passed() -> None:
    """First those alone, then with what they hang on, and at last everybody."""
    plan = in_weather(mc.Plan(mc.load(DATA / "fernhollow.yaml")))
    journeys = trace_each(plan, "kiosk-1", "sensor-fern", "https")
    tries = list(_tries(plan, journeys))
    assert tries[0] >= {hop.device for j in journeys for leg in j.every_leg for hop in leg.hops}
    assert all(tries[0] <= more for more in tries)
    assert len(tries[0]) < len(tries[1]) < len(tries[-1]) == len(plan.network.devices)


def test_what_is_left_out_and_what_is_not(tmp_path: Path) -> None:
    (tmp_path / "whole.yaml").write_bytes((DATA / "fernhollow.yaml").read_bytes())
    arguments = ("--from", "kiosk-1", "--to", "ledger", "--service", "ticketing")
    done = mossy(tmp_path, "slice", "whole.yaml", "part.yaml", *arguments)
    assert done.stdout.startswith("part.yaml: written, with 4 of 19 devices and 8 of 20 rules; kiosk-1 to ledger")
    part = mc.load(tmp_path / "part.yaml")
    assert list(part.devices) == ["canopy", "herb-gate", "kiosk-1", "ledger"]
    assert list(part.lists) == ["visitors-in", "herbarium-in"]
    assert {"kiosk-2", "lab-bench", "pressroom"} <= set(part.groups)
    shown = mossy(tmp_path, "slice", "whole.yaml", *arguments)
    assert shown.stdout.splitlines()[1] == "# It has 4 of 19 devices and 8 of 20 rules;"
    assert (tmp_path / "part.yaml").read_text() == "\n".join([shown.stdout.splitlines()[0], *shown.stdout.splitlines()[3:]]) + "\n"
    # a file that is there stays
    again = mossy(tmp_path, "slice", "whole.yaml", "part.yaml", *arguments)
    assert (again.returncode, again.stderr.startswith("mossy: part.yaml: exists already")) == (2, True)
    assert mossy(tmp_path, "slice", "whole.yaml", "--from", "nobody", "--to", "ledger").returncode == 2
    assert mossy(tmp_path, "slice", "none.yaml", "--from", "a", "--to", "b").returncode == 2


def test_a_tunnel_with_its_exchange_is_kept_whole(tmp_path: Path) -> None:
    (tmp_path / "whole.yaml").write_text(behind())
    done = mossy(tmp_path, "slice", "whole.yaml", "part.yaml", "--from", "desk", "--to", "pot", "--service", "https")
    assert done.returncode == 0
    assert set(mc.load(tmp_path / "part.yaml").devices) == {"desk", "gate", "box", "world", "annex", "pot"}


@pytest.mark.parametrize(
    ("name", "sender", "target", "kept"),
    [("names", "desk", "still", 4), ("moving", "till", "books", None), ("tunnels", "clerk", "north-store", 5)],
)
def test_no_more_is_kept_than_it_takes_and_no_less(tmp_path: Path, name: str, sender: str, target: str, kept: int | None) -> None:
    """Rules by name need whoever has the records; who is leased an address after others has another one without them."""
    whole = EXAMPLES / f"{name}.yaml"
    (tmp_path / "whole.yaml").write_bytes(whole.read_bytes())
    done = mossy(tmp_path, "slice", "whole.yaml", "part.yaml", "--from", sender, "--to", target, "--service", "https")
    assert done.returncode == 0, done.stderr
    part, network = mc.load(tmp_path / "part.yaml"), mc.load(whole)
    assert len(part.devices) == (kept or len(network.devices))
    assert fares(tmp_path / "part.yaml", sender, target, "https") == fares(whole, sender, target, "https")
