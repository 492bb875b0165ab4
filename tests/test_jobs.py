"""Whole jobs, one for each kind of work: each drill holds, and with one fault in its network it fails, with the fault on the first screen."""

from __future__ import annotations

import contextlib
import shutil
from pathlib import Path

import pytest
from click.testing import CliRunner

from mossy_compass.cli.main import main

JOBS = Path(__file__).parents[1] / "examples" / "jobs"
SCREEN = 30
"""Lines of a screen."""
KINDS = {
    "new-wing": "addresses, VLANs, leases, names",
    "two-ways-out": "routing, probes, policy routes, uplinks that fail",
    "reading-room": "access lists, a change, and back",
    "seed-shop": "translation, both ways and from inside",
    "long-page": "sessions over time",
    "sister-house": "a tunnel and its filter",
}

# job, what is written, what is written instead, what the first screen says
FAULTS = [
    ("new-wing", "p3: {untagged: 20}", "p3: {untagged: 30}", "press"),
    ("new-wing", "up: {tagged: [10, 20]}", "up: {tagged: [10]}", "20"),
    ("new-wing", "resolvers: [10.40.1.53]", "resolvers: [10.40.1.54]", "10.40.1.54"),
    ("new-wing", "range: 10.40.10.100-10.40.10.120", "range: 10.40.10.110-10.40.10.120", "10.40.10.110"),
    ("new-wing", "address: 10.40.20.10/24, gateway: 10.40.20.1", "address: 10.40.20.10/24, gateway: 10.40.20.2", "10.40.20.2"),
    ("two-ways-out", "while: beyond}\n      - {prefix: default, next-hop: 203.0.113.1, pref", "metric: 1}\n      - {prefix: default, next-hop: 203.0.113.1, pref", "10  clerk reaches weather for https"),
    ("two-ways-out", "{target: 192.0.2.80, by: fibre,", "{target: 198.51.100.1, by: fibre,", "beyond"),
    ("two-ways-out", ", preference: 10}", ", preference: 1}", "it should leave by gate/fibre"),
    ("two-ways-out", "      - {id: by-dish, source: local-networks, leaving: dish}\n", "", "mower"),
    ("two-ways-out", "        from: sheds\n", "        from: 10.40.3.0/24\n", "mower reaches weather for https"),
    ("reading-room", "service: https, about: readers", "service: http, about: readers", "readers-in rule 10"),
    ("reading-room", "filter: {arriving: readers-in}", "filter: {leaving: readers-in}", "readers"),
    ("reading-room", "{id: 40, deny: any, log: yes,", "{id: 40, deny: any,", "readers-in/40"),
    ("reading-room", "shelves: [catalogue, archive]", "shelves: [catalogue]", "archive"),
    ("reading-room", "from: clerk, to: archive", "from: readers, to: archive", "reader never reaches archive for ssh"),
    ("seed-shop", "goes-to: {address: shop, port: 8443}}\n      - {id: shop", "goes-to: {address: shop, port: 8444}}\n      - {id: shop", "tcp/8444"),
    ("seed-shop", "to: 198.51.100.2, service: https, about", "to: 10.40.2.20, service: https, about", "world-in"),
    ("seed-shop", "becomes: {pair: 198.51.100.30}", "becomes: {pair: 198.51.100.31}", "198.51.100.31"),
    ("seed-shop", "from: 192.0.2.80, ", "", "guest"),
    ("long-page", "service: [https, ssh]", "service: [ssh]", "out"),
    ("long-page", "stateful: [tcp, udp]", "stateful: [udp]", "tcp"),
    ("sister-house", ", leaving: sister}", ", leaving: fibre, next-hop: 198.51.100.1}", "clerk reaches sister for https"),
    ("sister-house", "filter: {arriving: from-sister}", "filter: {}", "sister"),
    ("sister-house", "tunnel: {to: 203.0.113.2, by: fibre}", "tunnel: {to: 203.0.113.6, by: fibre}", "203.0.113.6"),
    ("sister-house", "permit: gre, from: 203.0.113.2", "permit: gre, from: 203.0.113.1", "world-in"),
]  # fmt: skip


def ran(folder: Path, *words: str) -> tuple[int, str]:
    """A command in a folder: exit code and output."""
    with contextlib.chdir(folder):
        done = CliRunner().invoke(main, list(words))
    assert "Traceback" not in done.output
    return done.exit_code, done.output


def drilled(job: str, folder: Path, old: str = "", new: str = "") -> tuple[int, str]:
    """A job's drill in a folder, with something else written in its network: exit code and output."""
    for path in (JOBS / f"{job}.yaml", JOBS / f"{job}.drill.yaml"):
        shutil.copy(path, folder)
    network = folder / f"{job}.yaml"
    text = network.read_text()
    assert text.count(old) == 1 or not old, f"{job}: {old}"
    network.write_text(text.replace(old, new) if old else text)
    return ran(folder, "drill", f"{job}.drill.yaml")


def test_every_job_is_tried() -> None:
    assert {p.name.split(".")[0] for p in JOBS.iterdir()} == set(KINDS) == {f[0] for f in FAULTS}


@pytest.mark.parametrize("job", KINDS)
def test_a_job_as_it_is_written_is_done(job: str, tmp_path: Path) -> None:
    code, said = drilled(job, tmp_path)
    assert (code, said.split("\n")[0].split(": ")[1].split(" (")[0][:3]) == (0, "all"), said
    assert ran(tmp_path, "check", f"{job}.yaml")[0] == 0


@pytest.mark.parametrize(("job", "old", "new", "says"), FAULTS, ids=[f"{f[0]} {n}" for n, f in enumerate(FAULTS)])
def test_a_fault_is_found_and_named(job: str, old: str, new: str, says: str, tmp_path: Path) -> None:
    code, said = drilled(job, tmp_path, old, new)
    assert code == (2 if "BROKEN" in said else 1), said
    fails = [n for n, line in enumerate(said.split("\n")) if line.startswith(("FAILS", "BROKEN"))]
    assert fails, said
    assert says in "\n".join(said.split("\n")[fails[0] : fails[0] + SCREEN]), said
