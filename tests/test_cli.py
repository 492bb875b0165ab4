"""The commands as a user runs them: first line, exit code, nothing half-written, no traceback."""

from __future__ import annotations

import contextlib
import io
import json
import os
import subprocess
import sys
from pathlib import Path

import jsonschema
import pytest

from tests.conftest import DATA

Run = subprocess.CompletedProcess[str]


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "fern.yaml").write_bytes((DATA / "fernhollow.yaml").read_bytes())
    return tmp_path


def mossy(folder: Path, *arguments: str, **environment: str) -> Run:
    """A command within this process, which saves the imports."""
    from mossy_compass.cli.main import run

    streams = [io.TextIOWrapper(io.BytesIO(), encoding="utf-8") for _ in range(2)]
    kept = sys.argv, Path.cwd(), dict(os.environ)
    sys.argv = ["mossy", *arguments]
    os.environ.update(environment)
    os.chdir(folder)
    try:
        with contextlib.redirect_stdout(streams[0]), contextlib.redirect_stderr(streams[1]):
            try:
                run()
            except SystemExit as end:
                code = end.code
    finally:
        sys.argv = kept[0]
        os.chdir(kept[1])
        os.environ.clear()
        os.environ.update(kept[2])
    for stream in streams:
        stream.flush()
    out, err = (stream.buffer.getvalue().decode() for stream in streams)
    assert isinstance(code, int)
    assert "Traceback" not in err
    return subprocess.CompletedProcess(arguments, code, out, err)


def process(folder: Path, *arguments: str, **environment: str) -> Run:
    """The same in a process of its own."""
    command = [sys.executable, "-c", "from mossy_compass.cli.main import run; run()", *arguments]
    done = subprocess.run(
        command, cwd=folder, capture_output=True, text=True, env={**os.environ, "PYTHONIOENCODING": "utf-8", **environment}
    )
    assert "Traceback" not in done.stderr
    return done


# arguments, exit code, how the first line begins, on stdout (or stderr)
CASES = [
    (["trace", "fern.yaml", "--from", "kiosk-1", "--to", "ledger", "--service", "ticketing"], 0, "kiosk-1 → ledger (10.40.48.20), tcp/8443: DELIVERED", ""),
    (["trace", "fern.yaml", "--from", "tablet", "--to", "ledger", "--service", "tcp/8443"], 1, "tablet → ledger (10.40.48.20), tcp/8443: DROPPED", ""),
    (["trace", "fern.yaml", "--from", "kiosk-9", "--to", "ledger"], 2, "", "mossy: there is no device 'kiosk-9'"),
    (["trace", "fern.yaml", "--from", "kiosk-1", "--to", "ledger", "--service", "tcp/http"], 0 + 1, "kiosk-1 → ledger (10.40.48.20), tcp/80", ""),
    (["trace", "none.yaml", "--from", "a", "--to", "b"], 2, "", "mossy: none.yaml: cannot be read"),
    (["trace", "fern.yaml", "--from", "kiosk-1"], 2, "", "Usage:"),
    (["trace", "fern.yaml", "--from", "kiosk-1", "--to", "ledger", "--ttl", "0"], 2, "", "Usage:"),
    (["check", "fern.yaml"], 0, "fern.yaml: 3 warnings", ""),
    (["check", "."], 2, "", "mossy: .: cannot be read"),
    (["schema", "network"], 0, "{", ""),
    (["draw", "fern.yaml", "x.bmp"], 2, "", "mossy: x.bmp: the name tells the form"),
    (["draw", "fern.yaml", "x.png", "--from", "kiosk-1"], 2, "", "mossy: a journey has both"),
    (["draw", "fern.yaml", "no/such/x.png"], 2, "", "mossy: no/such/x.png: cannot be written"),
    (["new", "fern.yaml"], 2, "", "mossy: fern.yaml: exists already"),
]  # fmt: skip


@pytest.mark.parametrize("arguments, code, out, err", CASES, ids=[" ".join(c[0]) for c in CASES])
def test_commands(folder: Path, arguments: list[str], code: int, out: str, err: str) -> None:
    done = mossy(folder, *arguments)
    assert done.returncode == code, done.stderr
    assert done.stdout.startswith(out), done.stdout
    assert done.stderr.startswith(err), done.stderr
    assert all(len(line) <= 100 for line in done.stdout.splitlines()) or arguments[0] == "schema"
    assert "\x1b" not in done.stdout


def test_trace_as_json(folder: Path) -> None:
    done = mossy(folder, "trace", "fern.yaml", "--from", "kiosk-1", "--to", "almanac", "--format", "json", "--details")
    data = json.loads(done.stdout)
    jsonschema.validate(data, json.loads((DATA / "journey.schema.json").read_text()))
    assert (data["cause"], data["symptom"], data["decided-on"]) == ("session.none", "silence", "back")


def test_new_gives_a_network_that_works(folder: Path) -> None:
    assert mossy(folder, "new", "my.yaml").returncode == 0
    assert mossy(folder, "check", "my.yaml").stdout.startswith("my.yaml: no findings; the network can be used.")
    done = mossy(folder, "trace", "my.yaml", "--from", "desk", "--to", "printer", "--service", "printing")
    assert done.returncode == 0


def test_check_of_a_faulty_file(folder: Path) -> None:
    text = (folder / "fern.yaml").read_text().replace("kind: router", "kind: rooter", 1).replace("from: lab,", "from: labb,", 1)
    (folder / "bad.yaml").write_text(text)
    done = mossy(folder, "check", "bad.yaml")
    assert done.returncode == 2
    assert done.stdout.startswith("bad.yaml: 2 errors; the network cannot be used until the errors are mended.")
    found = json.loads(mossy(folder, "check", "bad.yaml", "--format", "json").stdout)["findings"]
    assert [f["code"] for f in found] == ["name.unknown", "value.wrong"]
    traced = mossy(folder, "trace", "bad.yaml", "--from", "kiosk-1", "--to", "ledger")
    assert traced.returncode == 2
    assert not traced.stdout


def test_an_ascii_stream_gets_plain_arrows(folder: Path) -> None:
    done = process(folder, "trace", "fern.yaml", "--from", "kiosk-1", "--to", "ledger", PYTHONIOENCODING="ascii")
    assert done.stdout.startswith("kiosk-1 -> ledger")


def test_a_closed_pipe_is_no_traceback(folder: Path) -> None:
    script = f"{sys.executable} -c 'from mossy_compass.cli.main import run; run()' demo | head -n 1"
    done = subprocess.run(["bash", "-c", script], cwd=folder, capture_output=True, text=True)
    assert done.stdout.startswith("Fernhollow Botanic Trust: 6 test packets")
    assert "Traceback" not in done.stderr


def test_examples_run() -> None:
    for path in sorted((Path(__file__).parent.parent / "examples").glob("*.py")):
        subprocess.run([sys.executable, str(path)], check=True, capture_output=True)
