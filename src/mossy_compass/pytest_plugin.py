"""Drills as tests of pytest: every ``*.drill.yaml`` is collected, each of its expectations is a test.

Nothing heavy is imported until a drill is collected, or the fixture ``lab`` is asked for. A drill's steps follow one another, so
it is run as a whole, once in each process that has one of its tests; a test then tells what came of its own step.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

if TYPE_CHECKING:
    from mossy_compass.lab.drill import Report, Result
    from mossy_compass.lab.lab import Lab


class Unheld(Exception):
    """A step of a drill that does not hold, or cannot be done."""


def pytest_collect_file(file_path: Path, parent: pytest.Collector) -> pytest.Collector | None:
    """Collect drill files."""
    if file_path.name.endswith((".drill.yaml", ".drill.yml")):
        return DrillFile.from_parent(parent, path=file_path)
    return None


class DrillFile(pytest.File):
    """A drill file."""

    _report: Report | None = None

    def collect(self) -> Iterator[pytest.Item]:
        """A test for each expectation, and one for all other steps."""
        from mossy_compass.errors import MossyError
        from mossy_compass.files.drills import read_drill

        try:
            drill = read_drill(self.path)
        except MossyError as fault:
            raise self.CollectError(str(fault)) from None
        from mossy_compass.lab.drill import Run

        for number, step in enumerate(Run(drill).flat(), 1):
            if step.expects:
                yield DrillItem.from_parent(self, name=f"{number} {step.words}", number=number)
        yield DrillItem.from_parent(self, name="every step can be done", number=0)

    def report(self) -> Report:
        """What came of the drill; it is run when the first test asks."""
        if self._report is None:
            from time import perf_counter

            from mossy_compass.files.drills import read_drill
            from mossy_compass.lab.drill import run_drill

            self._report = run_drill(read_drill(self.path), perf_counter)
        return self._report


class DrillItem(pytest.Item):
    """One expectation of a drill; number 0 is for all steps that expect nothing."""

    def __init__(self, *, number: int, **more: Any) -> None:
        super().__init__(**more)
        self.number = number

    def runtest(self) -> None:
        """Fail where the step does not hold."""
        assert isinstance(self.parent, DrillFile)
        results = self.parent.report().results
        mine = [r for r in results if r.number == self.number] if self.number else [r for r in results if not r.expects]
        for words in (w for result in mine for w in result.beside):
            self.add_report_section("call", "mossy", f"{words}\n")
            self.user_properties.append(("mossy", words))
        wrong = [r for r in mine if not r.ok]
        if wrong:
            raise Unheld("\n".join(map(_words, wrong)))

    def repr_failure(self, excinfo: pytest.ExceptionInfo[BaseException], style: Any = None) -> Any:
        """The journey, and no traceback of ours."""
        if isinstance(excinfo.value, Unheld):
            return str(excinfo.value)
        return super().repr_failure(excinfo, style)

    def reportinfo(self) -> tuple[Path, int | None, str]:
        """Where it is written."""
        return self.path, None, self.name


def _words(result: Result) -> str:
    """A step that does not hold, as the command line shows it."""
    from rich.console import Group

    from mossy_compass.report.drilltext import step
    from mossy_compass.report.text import as_text

    return as_text(Group(*step(result, False)))


@pytest.fixture
def lab(request: pytest.FixtureRequest) -> Callable[[str | Path], Lab]:
    """Takes the name of a network file, beside the test's own file, and gives a lab of it."""
    from mossy_compass.files.load import load
    from mossy_compass.lab.lab import Lab

    def made(path: str | Path) -> Lab:
        """A lab of a network file."""
        return Lab(load(request.path.parent / path))

    return made
