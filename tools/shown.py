"""Write into the pages what their commands print now; run it when an output has changed, and read the difference.

What a page shows of an output it may cut short with a last line of three dots; as many lines are shown again.
"""

from __future__ import annotations

import re
import shlex
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
BLOCK = re.compile(r"(```(?:console|(?:yaml|csv|python) (\S+))\n)(.*?)(```)", re.DOTALL)


def printed(command: str, folder: Path) -> str:
    """What a command prints in a folder."""
    first, *words = shlex.split(command)
    if first == "mossy":
        run = [str(Path(sys.executable).with_name("mossy")), *words]
    else:
        run = [sys.executable, "-m", "pytest", "-p", "no:cacheprovider", "-c", "/dev/null", "--rootdir", ".", *words]
    done = subprocess.run(run, cwd=folder, capture_output=True, text=True)
    if done.returncode not in (0, 1) or "Traceback" in done.stderr:
        raise SystemExit(f"nothing more is written: {command} ends with {done.returncode}: {done.stderr.strip()[-300:]}")
    return done.stdout


def again(part: str, folder: Path) -> str:
    """A command with what it prints, as much of it as was shown before."""
    command, _, shown = part.partition("\n")
    now = printed(command, folder)
    if not shown.strip():
        return part
    if not shown.rstrip("\n").endswith("..."):
        return f"{command}\n{now}"
    count = len(shown.rstrip("\n").splitlines()) - 1
    return f"{command}\n{''.join(now.splitlines(keepends=True)[:count])}...\n"


def page(path: Path) -> bool:
    """Mend a page; whether anything in it was another."""
    text = path.read_text(encoding="utf-8")
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)

        def mended(found: re.Match[str]) -> str:
            """A block, with its commands run."""
            begin, name, block, end = found.groups()
            if name:
                (folder / name).write_text(block, encoding="utf-8")
                return found[0]
            head, *parts = re.split(r"^\$ ", block, flags=re.MULTILINE)
            return begin + head + "".join(f"$ {again(p, folder)}" for p in parts) + end

        now = BLOCK.sub(mended, text)
    if now != text:
        path.write_text(now, encoding="utf-8")
    return now != text


def main() -> None:
    """Every page with commands."""
    pages = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
    told = [p.name for p in pages if "```console" in p.read_text(encoding="utf-8") and page(p)]
    print(f"rewritten: {', '.join(told)}" if told else "nothing has changed")


if __name__ == "__main__":
    main()
