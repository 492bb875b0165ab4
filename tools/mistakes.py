"""Write docs/mistakes.md: each common mistake with what the tool says of it, taken from examples/mistakes. --check: is it current?"""

from __future__ import annotations

import contextlib
import io
import os
import shlex
import sys
from functools import cache
from pathlib import Path
from typing import Any

import yaml

ROOT = Path(__file__).resolve().parent.parent
FOLDER = ROOT / "examples" / "mistakes"
PAGE = ROOT / "docs" / "mistakes.md"
HEAD = """\
# Mistakes with lists, translation, sessions, ways and tunnels, and what the tool says of them

Each of these has cost somebody an evening. The networks are small and stand in [examples/mistakes](../examples/mistakes); a
test runs every command here and looks for the words that would have saved the day. This page is made by `tools/mistakes.py`.
"""
AROUND = 7
"""So many lines of an answer are shown: its first ones, or those around the words that matter."""


def cases() -> list[dict[str, str]]:
    """The mistakes, as examples/mistakes/cases.yaml has them."""
    found: list[dict[str, str]] = yaml.load((FOLDER / "cases.yaml").read_text(encoding="utf-8"), yaml.BaseLoader)
    return found


@cache
def answer(ask: str) -> str:
    """What the tool prints when it is asked so, in the folder of the examples."""
    from mossy_compass.cli.main import run

    said, code = io.StringIO(), None
    before, arguments = Path.cwd(), sys.argv
    os.chdir(FOLDER)
    sys.argv = ["mossy", *shlex.split(ask)]
    try:
        with contextlib.redirect_stdout(said), contextlib.redirect_stderr(said):
            run()
    except SystemExit as end:
        code = end.code
    finally:
        os.chdir(before)
        sys.argv = arguments
    assert code in (0, 1, 2), said.getvalue()
    return said.getvalue()


def shown(text: str, says: str) -> list[str]:
    """The first line of an answer, and the lines around the words that matter."""
    lines = text.rstrip("\n").splitlines()
    words = says.split()[0]
    hits = [n for n in range(len(lines)) if says in " ".join(" ".join(lines[n : n + 4]).split())]
    at = max((n for n in hits if words in lines[n]), default=0)
    if at < AROUND - 2:
        return lines[:AROUND]
    return [lines[0], "...", *lines[at : at + AROUND - 2]]


def page() -> str:
    """The whole page."""
    out = [HEAD]
    for case in cases():
        out.append(f"## {case['n']}. {case['what']}\n")
        for ask in [case[k] for k in ("ask", "also") if k in case]:
            text = answer(ask)
            out.append("\n".join(["```text", f"$ mossy {ask}", *shown(text, case["says"]), "```", ""]))
    return "\n".join(out).rstrip("\n") + "\n"


def main(arguments: Any) -> int:
    """Write the page, or say whether it is stale."""
    made = page()
    if "--check" in arguments:
        return int(PAGE.read_text(encoding="utf-8") != made)
    PAGE.write_text(made, encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
