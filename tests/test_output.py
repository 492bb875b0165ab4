"""What is written, and where: whole files or none, text that steers nothing, streams that are closed, full or slow."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import os
import signal
import stat
import subprocess
import sys
import time
import xml.etree.ElementTree as ElementTree
from dataclasses import replace
from pathlib import Path

import pytest

import mossy_compass as mc
from mossy_compass.cli import output
from mossy_compass.exchange.csvtable import grid_csv
from mossy_compass.report.layout import SCREEN, place
from mossy_compass.safe import safe, safe_json
from mossy_compass.walk import grid as grids
from tests.conftest import DATA
from tests.test_cli import mossy

OLD, NEW = b'{"mossy-grid": 1, "cells": []}', b'{"mossy-grid": 1, "cells": [1]}'
HOSTILE = "a\x1b[31mred\x9b\u202e\u2066\x07$x_2$"


@pytest.fixture(autouse=True)
def _a_command_of_its_own() -> None:
    output.begin()


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "fern.yaml").write_bytes((DATA / "fernhollow.yaml").read_bytes())
    return tmp_path


def test_a_link_stays_a_link_and_a_mode_stays_a_mode(tmp_path: Path) -> None:
    real, link = tmp_path / "real.json", tmp_path / "link.json"
    real.write_bytes(OLD)
    real.chmod(0o640)
    link.symlink_to(real)
    output.write_whole(link, NEW, output.FileKind.GRID)
    assert link.is_symlink()
    assert real.read_bytes() == NEW
    assert stat.S_IMODE(real.stat().st_mode) == 0o640
    assert sorted(p.name for p in tmp_path.iterdir()) == ["link.json", "real.json"]


def test_a_new_file_gets_the_mode_that_new_files_get(tmp_path: Path) -> None:
    (tmp_path / "plain").write_bytes(b"")
    output.write_whole(tmp_path / "ours", b"x", output.FileKind.GRID)
    assert (tmp_path / "ours").stat().st_mode == (tmp_path / "plain").stat().st_mode


@pytest.mark.parametrize("fails", ["fsync", "replace", "chmod"])
def test_what_cannot_be_written_leaves_the_old_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, fails: str) -> None:
    def full(*arguments: object, **more: object) -> None:
        raise OSError(28, "No space left on device")

    path = tmp_path / "before.json"
    path.write_bytes(OLD)
    monkeypatch.setattr(os, fails, full)
    with pytest.raises(mc.InputError, match=r"no space left on device\. Nothing was changed"):
        output.write_whole(path, NEW, output.FileKind.GRID)
    assert path.read_bytes() == OLD
    assert [p.name for p in tmp_path.iterdir()] == ["before.json"]


def test_folders_pipes_and_long_names_are_refused(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    for name, words in (("", "folder"), ("pipe", "no plain file"), ("x" * 300, "too long"), ("a\0b", "cannot be written")):
        with pytest.raises(mc.InputError, match=words):
            output.write_whole(tmp_path / name, b"x", output.FileKind.GRID)


OUTPUTS = {
    "draw": ["draw", "fern.yaml", "{out}"],
    "grid --picture": ["grid", "fern.yaml", "--from", "kiosk-1", "--to", "ledger", "--picture", "{out}"],
    "flows --parquet": ["flows", "fern.yaml", "asked.csv", "--parquet", "{out}"],
    "grid --log": ["grid", "fern.yaml", "--from", "kiosk-1", "--to", "ledger", "--log", "{out}"],
    "grid --baseline": ["grid", "fern.yaml", "--from", "kiosk-1", "--to", "ledger", "--baseline", "{out}", "--renew"],
    "grid --as-drill": ["grid", "fern.yaml", "--from", "kiosk-1", "--to", "ledger", "--as-drill", "{out}"],
    "trace --capture": ["trace", "fern.yaml", "--from", "kiosk-1", "--to", "ledger", "--capture", "{out}"],
    "trace --log": ["trace", "fern.yaml", "--from", "kiosk-1", "--to", "ledger", "--log", "{out}"],
    "drill --junit": ["drill", "fern.drill.yaml", "--junit", "{out}"],
    "drill --picture": ["drill", "fern.drill.yaml", "--picture", "{out}"],
    "change --undo": ["change", "fern.yaml", "step.yaml", "--undo", "{out}"],
    "compare --picture": [
        "compare",
        "fern.yaml",
        "--change",
        "step.yaml",
        "--from",
        "kiosk-1",
        "--to",
        "ledger",
        "--picture",
        "{out}",
    ],
    "remedy --write": ["remedy", "fern.yaml", "--from", "tablet", "--to", "ledger", "--service", "tcp/8443", "--write", "{out}"],
    "lists-out --out": ["lists-out", "fern.yaml", "world-in", "--out", "{out}"],
    "demo --write": ["demo", "--write", "{out}"],
    "new": ["new", "{out}"],
    "slice": ["slice", "fern.yaml", "{out}", "--from", "kiosk-1", "--to", "ledger"],
}
"""Every command that writes a file, so that one more is seen to be missing here."""


@pytest.fixture
def inputs(folder: Path) -> Path:
    (folder / "fern.yaml").write_text((folder / "fern.yaml").read_text() + "# mine\n")
    drill = "mossy-drill: 1\nnetwork: fern.yaml\nsteps:\n  - expect: kiosk-1 reaches ledger for ticketing\n"
    (folder / "fern.drill.yaml").write_text(drill)
    (folder / "step.yaml").write_text("mossy-change: 1\nchanges:\n  - disable: lists/world-in/20\n")
    (folder / "asked.csv").write_text("source,destination,service\n10.40.32.10,10.40.48.20,ticketing\n")
    return folder


def _asked(command: str, out: str) -> list[str]:
    return [word.format(out=out) for word in OUTPUTS[command]]


@pytest.mark.parametrize("command", OUTPUTS)
def test_no_output_takes_the_place_of_an_input(inputs: Path, command: str) -> None:
    """By its name, a symbolic link or a hard link; nor of a file that somebody made by hand; and never under an empty name."""
    mine = "picture.png" if "picture" in command or command == "draw" else "notes.txt"
    end = "png"
    if "capture" in command:
        mine, end = "notes.pcapng", "pcapng"
    names = {"link": "soft", "hard": "hard", "folder": "dir", "loop": "loop"}
    names = {kind: f"{name}.{end}" for kind, name in names.items()} | {"mine": mine, "empty": ""}
    (inputs / names["link"]).symlink_to("fern.yaml")
    os.link(inputs / "fern.yaml", inputs / names["hard"])
    (inputs / mine).write_text("what I wrote\n")
    (inputs / names["folder"]).mkdir()
    (inputs / names["loop"]).symlink_to(names["loop"])
    before = {p.name: p.read_bytes() for p in inputs.iterdir() if p.is_file()}
    for name in names.values():
        done = mossy(inputs, *_asked(command, name))
        assert done.returncode == 2, (name, done.stdout[-300:], done.stderr)
        assert done.stderr.strip(), name
        assert "Traceback" not in done.stderr
    assert {p.name: p.read_bytes() for p in inputs.iterdir() if p.is_file()} == before


def test_every_option_that_names_an_output_is_tried_here() -> None:
    from click import Context

    from mossy_compass.cli.common import OUTPUT
    from mossy_compass.cli.main import HOMES, main

    found = set()
    for name in HOMES:
        command = main.get_command(Context(main), name)
        assert command is not None
        found |= {(name, p.opts[-1].removeprefix("--")) for p in command.params if p.type is OUTPUT}
    plain = {"draw": "picture", "slice": "part"}
    tried = {tuple(c.split(" --")) if " --" in c else (c, plain.get(c, "file")) for c in OUTPUTS}
    assert found - tried == {("grid", "log"), ("compare", "picture"), ("what-if", "picture")} - tried


def test_an_output_of_the_same_kind_is_renewed(inputs: Path) -> None:
    """Drawn, counted and kept again: what these commands made themselves they may make anew."""
    for command, out in (("draw", "a.png"), ("drill --junit", "a.xml"), ("lists-out --out", "a.json"), ("trace --log", "a.log")):
        for _ in range(2):
            assert mossy(inputs, *_asked(command, out)).returncode in (0, 1), command
    assert mossy(inputs, "demo", "--write", "mine.yaml").returncode == 0
    assert mossy(inputs, "demo", "--write", "mine.yaml").returncode == 0
    (inputs / "mine.yaml").write_text((inputs / "mine.yaml").read_text() + "# my own line\n")
    assert mossy(inputs, "demo", "--write", "mine.yaml").returncode == 2
    assert (inputs / "mine.yaml").read_text().endswith("# my own line\n")


def test_the_demo_is_written_with_its_drill_or_not_at_all(inputs: Path) -> None:
    (inputs / "d.drill.yaml").write_text("mine\n")
    assert mossy(inputs, "demo", "--write", "d.yaml").returncode == 2
    assert not (inputs / "d.yaml").exists()


def test_two_outputs_of_one_name(inputs: Path) -> None:
    done = mossy(inputs, *_asked("grid --picture", "a.png"), "--log", "a.png")
    assert done.returncode == 2
    assert "two outputs" in done.stderr


@pytest.mark.parametrize("after", [0.02, 0.1, 0.2, 0.35, 0.6, 1.0])
@pytest.mark.parametrize("jobs", ["1", "2"])
def test_an_interrupt_is_one_line(inputs: Path, after: float, jobs: str) -> None:
    """Whenever it comes once our own code runs: while importing, reading, computing, in worker processes, at the end."""
    (inputs / "other.drill.yaml").write_text((inputs / "fern.drill.yaml").read_text())
    code = "import signal, sys; from mossy_compass.cli.start import run; sys.stderr.write('begun\\n'); sys.stderr.flush(); run()"
    running = subprocess.Popen(
        [sys.executable, "-c", code, "drill", "fern.drill.yaml", "other.drill.yaml", "--jobs", jobs],
        cwd=inputs, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, start_new_session=True,
    )  # fmt: skip
    assert running.stderr is not None
    assert running.stderr.readline() == "begun\n"
    time.sleep(after)
    with contextlib.suppress(ProcessLookupError):
        os.killpg(running.pid, signal.SIGINT)
    _, said = running.communicate(timeout=30)
    assert (running.returncode, said.strip()) in ((130, "stopped."), (0, ""))  # a terminal shows ^C, and needs a new line


WRAPPED = """
import os, signal, sys, time, types
from mossy_compass.cli.start import run

def interrupted():
    try:
        os.kill(os.getpid(), signal.SIGINT)
        signal.pause()
    except KeyboardInterrupt as met:
        raise RuntimeError("error calling __set_name__") from met

def finalised():
    class Gone:
        def __del__(self):
            os.kill(os.getpid(), signal.SIGINT)
            [None for _ in range(100_000)]

    Gone()
    time.sleep(20)

def hooked():
    class Gone:
        def __del__(self):
            raise KeyboardInterrupt  # as one that was lost; the next comes while this is told

    hook = sys.unraisablehook
    start = sys.modules["mossy_compass.cli.start"]
    real = start._raise_later
    def as_it_is_told():
        if not start._heard:
            os.kill(os.getpid(), signal.SIGINT)
            [None for _ in range(100_000)]
        real()
    start._raise_later = as_it_is_told
    Gone()
    time.sleep(20)

def broken():
    raise RuntimeError("a bug")

sys.modules["mossy_compass.cli.main"] = types.SimpleNamespace(run=globals()[sys.argv[1]])
run()
"""


def test_an_interrupt_that_comes_out_as_something_else_is_one_line_and_a_bug_is_none(tmp_path: Path) -> None:
    for where in ("interrupted", "finalised", "hooked"):
        done = subprocess.run([sys.executable, "-c", WRAPPED, where], cwd=tmp_path, capture_output=True, text=True)
        assert (done.returncode, done.stdout, done.stderr) == (130, "", "stopped.\n"), where
    done = subprocess.run([sys.executable, "-c", WRAPPED, "broken"], cwd=tmp_path, capture_output=True, text=True)
    assert done.returncode == 1
    assert done.stderr.endswith("RuntimeError: a bug\n")


def test_little_memory_is_said_and_no_panic(inputs: Path) -> None:
    """Exact sets use no more address space than they need; without room for any, each list says so, and the rest is done."""
    for limit, words in ((900_000, "can be used"), (330_000, "more memory than is given")):
        run = f"ulimit -v {limit}; '{sys.executable}' -m mossy_compass check fern.yaml"
        done = subprocess.run(["bash", "-c", run], cwd=inputs, capture_output=True, text=True)
        assert (done.returncode, done.stderr) == (0, ""), done.stderr
        assert words in " ".join(done.stdout.split())
        assert ("more memory" in done.stdout) == (limit == 330_000)


def test_a_pipe_is_not_waited_for(folder: Path) -> None:
    os.mkfifo(folder / "pipe.yaml")
    done = mossy(folder, "check", "pipe.yaml")
    assert done.returncode == 2
    assert done.stderr.startswith("mossy: pipe.yaml: ")


@pytest.mark.parametrize(
    "arguments", [["check", "fern.yaml"], ["trace", "fern.yaml", "--from", "kiosk-1", "--to", "ledger"], ["demo"]]
)
def test_a_full_disk_is_told_of(folder: Path, arguments: list[str]) -> None:
    if not Path("/dev/full").exists():
        pytest.skip("this system has no /dev/full")
    with open("/dev/full", "w") as full:
        done = subprocess.run(
            [sys.executable, "-m", "mossy_compass", *arguments], cwd=folder, stdout=full, stderr=subprocess.PIPE, text=True
        )
    assert done.returncode == 2
    assert done.stderr.startswith("mossy: the standard output cannot be written: no space left on device")
    assert "Traceback" not in done.stderr


def test_a_reader_that_leaves_is_no_error(folder: Path) -> None:
    words = f"'{sys.executable}' -m mossy_compass schema network | head -n 1; exit ${{PIPESTATUS[0]}}"
    done = subprocess.run(["bash", "-c", words], cwd=folder, capture_output=True, text=True)
    assert done.stdout == "{\n"
    assert not done.stderr


def test_a_closed_standard_output_is_told_of(folder: Path) -> None:
    done = subprocess.run(
        ["bash", "-c", f"'{sys.executable}' -m mossy_compass check fern.yaml >&-"], cwd=folder, capture_output=True, text=True
    )
    assert done.returncode == 2
    assert "Traceback" not in done.stderr
    assert "standard output" in done.stderr


def test_text_that_would_steer_a_terminal_is_shown_by_its_numbers() -> None:
    shown = safe(HOSTILE)
    assert shown == "a\\x1b[31mred\\x9b\\u202e\\u2066\\x07$x_2$"
    assert json.loads(safe_json(json.dumps(HOSTILE, ensure_ascii=False))) == HOSTILE
    assert safe("tab\tand\nline, é, 木") == "tab\tand\nline, é, 木"


@pytest.mark.parametrize("form", ["text", "json", "sarif"])
def test_hostile_words_of_a_file_reach_no_terminal(folder: Path, form: str) -> None:
    (folder / "bad.yaml").write_text('mossy-network: 1\ndevices:\n  "r\\e[2J\\u202e": {kind: rooter}\n', encoding="utf-8")
    done = mossy(folder, "check", "bad.yaml", "--format", form)
    for stream in (done.stdout, done.stderr):
        assert not set(stream) & set("\x1b\u202e\x9b")


def test_a_title_with_dollars_and_escapes_is_drawn(folder: Path) -> None:
    text = (DATA / "starter.yaml").read_text().replace("title: Two rooms", 'title: "cost $5 {x}_$ \\e[1m & <b>"')
    (folder / "odd.yaml").write_text(text)
    done = mossy(folder, "draw", "odd.yaml", "odd.svg", "--from", "desk", "--to", "printer", "--service", "tcp/9100")
    assert done.returncode == 0, done.stderr
    drawn = ElementTree.parse(folder / "odd.svg")
    assert "cost $5 {x}_$ \\x1b[1m & <b>" in "".join(drawn.getroot().itertext())


@pytest.mark.parametrize("name", ["fernhollow", "grounds", "starter"])
def test_pictures_fit_on_a_screen(name: str) -> None:
    picture = place(mc.load(DATA / f"{name}.yaml"))
    assert picture.width <= SCREEN[0] + 24
    boxes = [b.rect for b in picture.boxes.values()]
    assert not any(a.overlaps(b) for n, a in enumerate(boxes) for b in boxes[n + 1 :])
    assert not any(label.rect.overlaps(box) for label in picture.labels for box in boxes)
    labels = [label.rect for label in picture.labels]
    assert not any(a.overlaps(b) for n, a in enumerate(labels) for b in labels[n + 1 :])


def test_far_hosts_stand_in_the_box_of_their_stand_in() -> None:
    network = mc.load(DATA / "grounds.yaml")
    picture = place(network)
    for device in network.devices.values():
        for far in device.far_hosts.values():
            assert picture.home[far.name] == device.name
            rect = picture.boxes[device.name].rect
            x, y = next((r.x, r.y) for r in picture.boxes[device.name].rows if r.device == far.name)
            assert abs(x - rect.x) * 2 <= rect.w
            assert abs(y - rect.y) * 2 <= rect.h


@pytest.mark.parametrize("text", ["[" * 100_000, '{"mossy-grid": 1, "cells": 5}', "\xff", "", "3"])
def test_a_foreign_baseline_is_refused_and_kept(folder: Path, text: str) -> None:
    path = folder / "before.json"
    path.write_text(text, encoding="latin-1")
    done = mossy(folder, "grid", "fern.yaml", "--from", "kiosk-1", "--to", "ledger", "--baseline", "before.json")
    assert done.returncode == 2
    assert done.stderr.startswith("mossy: before.json: ")
    assert path.read_text(encoding="latin-1") == text


def test_no_cell_of_the_table_is_a_formula(demo: mc.Plan) -> None:
    cell = grids.grid(demo, ["kiosk-1"], ["ledger"], ["ticketing"]).cells[0]
    for name in ("=1+1", "+x", "-x", "@x", "\tx"):
        made = grids.Grid((replace(cell, source=name),), ((cell.target, cell.service),))
        row = next(csv.DictReader(io.StringIO(grid_csv(made))))
        assert row["from"][0] not in "=+-@\t"
        assert name.strip() in row["from"]


def test_addresses_in_sarif_are_percent_encoded(folder: Path) -> None:
    (folder / "a b#%.yaml").write_text("mossy-network: 1\ndevices: {r: {kind: rooter}}\n")
    done = mossy(folder, "check", "a b#%.yaml", "--format", "sarif")
    found = json.loads(done.stdout)["runs"][0]["results"][0]["locations"][0]["physicalLocation"]["artifactLocation"]["uri"]
    assert found == "a%20b%23%25.yaml"


def test_every_member_of_a_service_has_its_headline(folder: Path) -> None:
    done = mossy(folder, "trace", "fern.yaml", "--from", "kiosk-1", "--to", "almanac", "--service", "domain")
    heads = [line for line in done.stdout.splitlines() if line.startswith("kiosk-1 → ")]
    assert [h.split(", ")[1].split(":")[0] for h in heads] == ["tcp/53", "udp/53"]
    mixed = mossy(folder, "trace", "fern.yaml", "--from", "catalogue", "--to", "almanac", "--service", "domain")
    assert mixed.returncode == 1


def test_the_package_runs_as_a_module(folder: Path) -> None:
    done = subprocess.run([sys.executable, "-m", "mossy_compass", "check", "fern.yaml"], cwd=folder, capture_output=True, text=True)
    assert done.returncode == 0
    assert done.stdout.startswith("fern.yaml: ")


def test_frames_have_the_rows_of_what_they_are_made_from(demo: mc.Plan) -> None:
    found = mc.grid(demo, ["kiosk-1", "tablet"], ["ledger"])
    made = mc.frame(found)
    assert len(made) == len(found.cells)
    assert list(made["cause"]) == [c.cause for c in found.cells]
    assert bool(made["answered"].iloc[0]) is found.cells[0].answered


def test_a_network_with_errors_gives_no_plan() -> None:
    with pytest.raises(mc.InputError, match="a Plan is made from a Network"):
        mc.Plan(mc.read_bytes(b"mossy-network: 1\ndevices: {r: {kind: rooter}}\n", "n.yaml").network)  # type: ignore[arg-type]


def test_a_misplaced_key_says_where_it_belongs(folder: Path) -> None:
    (folder / "g.yaml").write_text("mossy-network: 1\ndevices: {h: {kind: host, interfaces: {a: {gateway: 10.40.0.1}}}}\n")
    done = mossy(folder, "check", "g.yaml")
    assert "'gateway' is not a key of an interface of a device. It belongs to" in " ".join(done.stdout.split())


def test_errors_stand_before_warnings_whatever_their_places(folder: Path) -> None:
    (folder / "e.yaml").write_text(
        "mossy-network: 1\ndevices:\n  a: {kind: host, address: 10.40.0.1/24}\n  any: {kind: host, address: 10.40.0.2/24}\n"
    )
    shown = mossy(folder, "check", "e.yaml").stdout
    assert "warning: " in shown
    assert shown.index(": error: ") < shown.index(": warning: ")


@pytest.mark.parametrize(
    "asked, says",
    [
        (("kiosk-1", "ledger", 443), "the service is a text, not 443; write it in quotes, like 'tcp/443'."),
        (("kiosk-1", None, "ping"), "the target is a text, not None; write it in quotes, like '10.40.0.1'."),
        (("lab-desk", "fe80::1", "ping"), "lab-desk has no interface with IPv6"),
    ],
)
def test_questions_that_cannot_be_meant_name_what_is_wrong(demo: mc.Plan, asked: tuple[str, str, str], says: str) -> None:
    with pytest.raises(mc.QuestionError) as fault:
        mc.trace(demo, *asked)
    assert says in str(fault.value)


def test_a_name_of_a_file_steers_no_terminal(folder: Path) -> None:
    """Names of files are text of strangers too: whatever is said of them is made safe."""
    name = "a\x1b[31mred\x07.yaml"
    for arguments in (
        ["new", name],
        ["check", name],
        ["demo", "--write", f"w{name}"],
        ["trace", name, "--from", "desk", "--to", "printer"],
    ):
        done = mossy(folder, *arguments)
        assert "\x1b" not in done.stdout + done.stderr
        assert "\x07" not in done.stdout + done.stderr
    assert "\\x1b[31m" in mossy(folder, "check", name).stdout
