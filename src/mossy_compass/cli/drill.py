"""The command that runs drills: what a network must do, written down and tested."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from mossy_compass.cli.common import (
    CONTEXT,
    EXIT_INPUT,
    EXIT_NOT,
    OUTPUT,
    FileKind,
    form_option,
    jobs_option,
    say,
    say_json,
    scheduler_option,
    shape_of,
    show,
    show_faults,
    write_whole,
)
from mossy_compass.cli.output import begin
from mossy_compass.errors import InputError, MossyError, NetworkFileError

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from mossy_compass.files.opened import Identity
    from mossy_compass.lab.drill import Report
    from mossy_compass.lab.expect import Outcome
    from mossy_compass.lab.steps import Drill, Version
    from mossy_compass.marks import Problem

T = TypeVar("T")


@click.command(context_settings=CONTEXT, short_help="Test what a network must do, as a drill file says.")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--network", metavar="NETWORK", help="Test this network file, instead of the one that a drill names; for CSV tables.")
@click.option("--only", default="", metavar="TEXT", help="Test only expectations whose words, or purpose, hold TEXT.")
@click.option("--fail-fast", is_flag=True, help="End each drill with its first failure.")
@jobs_option("Run so many drill files at once.")
@scheduler_option("Run them on the workers of this Dask scheduler")
@click.option(
    "--details", is_flag=True, help="Show every step, the whole way of each flow that fails, and everything that was never tested."
)
@click.option("--junit", metavar="XMLFILE", type=OUTPUT, help="Write the results as JUnit XML, too.")
@click.option("--picture", metavar="PICTURE", type=OUTPUT, help="Draw the drill over its time, as PICTURE (.png or .svg).")
@click.option("--watch", is_flag=True, help="Run again whenever one of the files changes, until you stop it.")
@form_option("text", "json")
def drill(
    files: tuple[str, ...],
    network: str | None,
    only: str,
    fail_fast: bool,
    jobs: int,
    scheduler: str | None,
    details: bool,
    junit: str | None,
    picture: str | None,
    watch: bool,
    form: str,
) -> None:
    """Run the drills in FILE...: what must hold of a network, step by step, with what fails and changes in between.
    A FILE may also be a CSV table of intents (source, target, service, wanted, why), with --network.

    \b
    Examples:
      mossy drill fernhollow.drill.yaml
      mossy drill intents.csv --network fernhollow.yaml --junit results.xml

    \b
    Exit codes: 0 everything holds, 1 something does not,
                2 a file cannot be used, or a step cannot be done.
    """
    if picture:
        shape_of(picture)  # a name without a form is refused before anything is run
    if picture and len(files) > 1:
        raise InputError("--picture draws one drill; name one file.")
    if watch:
        if form != "text":
            raise InputError("--watch shows text on a terminal; leave --format out.")
        _watch(files, lambda: _run(files, network, only, fail_fast, (jobs, scheduler), details, junit, form, picture))
        return
    raise SystemExit(_run(files, network, only, fail_fast, (jobs, scheduler), details, junit, form, picture))


def _run(
    files: Sequence[str],
    network: str | None,
    only: str,
    fail_fast: bool,
    where: tuple[int, str | None],
    details: bool,
    junit: str | None,
    form: str,
    picture: str | None,
) -> int:
    """Run every drill once, in so many processes or by a scheduler, and tell what came of it; gives the exit code."""
    asked = [(file, network, only, fail_fast) for file in files]
    jobs, scheduler = where
    if scheduler is not None:
        reports = _away(asked, scheduler)
    else:
        reports = _many(asked, jobs) if jobs > 1 and len(files) > 1 else [_one(*a) for a in asked]
    if junit:
        from mossy_compass.exchange.junit import junit as as_junit

        write_whole(Path(junit), as_junit(reports), FileKind.JUNIT)
    if picture:
        from mossy_compass.report import drawing

        title, shape = reports[0].drill.title or files[0], shape_of(picture)
        write_whole(Path(picture), drawing.render_timeline(reports[0], title, shape), FileKind[shape.upper()])
    _tell(reports, details, form)
    if any(report.broken for report in reports):
        return EXIT_INPUT
    return 0 if all(report.ok for report in reports) else EXIT_NOT


def _one(file: str, network: str | None, only: str, fail_fast: bool) -> Report:
    """One drill, with a bar of its steps on a terminal."""
    from mossy_compass.files.drills import read_drill

    return _report(file, read_drill(file, network), only, fail_fast)


def _report(file: str, read: Drill, only: str, fail_fast: bool) -> Report:
    """What comes of a drill that was read."""
    from mossy_compass.cli.progress import track
    from mossy_compass.lab.drill import Report, Run

    made = Run(read, time.perf_counter)
    results = tuple(track(made.results(only, fail_fast), len(made.drill.steps), "steps"))
    if only and not any(r.expects for r in results):
        raise InputError(f"{file}: no expectation holds the text '{only}', so nothing would be tested.")
    edited = made.edited.steps if made.edited is not None else ()
    return Report(made.drill, results, made.untested(), fail_fast and bool(results) and not results[-1].ok, edited)


def _away(asked: Sequence[tuple[str, str | None, str, bool]], scheduler: str) -> list[Report]:
    """Several drills, on other machines: they are read here, as nobody else may have the files."""
    from mossy_compass.cli.spread import spread
    from mossy_compass.files.drills import read_drill

    items = [(number, file, read_drill(file, network), only, fast) for number, (file, network, only, fast) in enumerate(asked)]
    found = [pair for part in spread(_reports, items, 1, scheduler, "drills") for pair in part]
    return [report for _, report in sorted(found, key=lambda pair: pair[0])]


def _reports(items: Sequence[tuple[int, str, Drill, str, bool]]) -> list[tuple[int, Report]]:
    """What comes of drills that were read elsewhere, each with its number."""
    return [(number, _bare(_report(file, read, only, fast))) for number, file, read, only, fast in items]


def _many(asked: Sequence[tuple[str, str | None, str, bool]], jobs: int) -> list[Report]:
    """Several drills, each in a process of its own; told in the order in which they were named."""
    from concurrent.futures import ProcessPoolExecutor
    from multiprocessing import active_children, get_context

    from mossy_compass.files.opened import read_elsewhere

    with ProcessPoolExecutor(min(jobs, len(asked)), mp_context=get_context("spawn")) as pool:
        try:
            found = list(_unheard(lambda: pool.map(_packed, asked)))
        except KeyboardInterrupt:
            for child in active_children():  # they do not hear it, and would be waited for
                child.terminate()
            raise
    reports: list[Report] = []
    for report, problems, words, reads in found:
        read_elsewhere(reads)
        if problems:
            raise NetworkFileError(problems)
        if report is None:
            raise InputError(words)
        reports.append(report)
    return reports


def _unheard(start: Callable[[], T]) -> T:
    """Start processes that take no notice of an interrupt: it reaches the whole group, and one of it is to answer.

    What is ignored when a process begins stays ignored in it, so that it is silent from its first moment.
    """
    import signal
    from threading import current_thread, main_thread

    if current_thread() is not main_thread():  # only there may a signal be set
        return start()
    before = signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        return start()
    finally:
        signal.signal(signal.SIGINT, before)


def _packed(asked: tuple[str, str | None, str, bool]) -> tuple[Report | None, tuple[Problem, ...], str, set[Identity]]:
    """One drill in a process of its own, or what is wrong with it, and which files it read."""
    from mossy_compass.files.opened import note_reads

    reads = note_reads()
    try:
        return _bare(_one(*asked)), (), "", reads
    except NetworkFileError as fault:
        return None, fault.problems, "", reads
    except MossyError as fault:
        return None, (), str(fault), reads


def _bare(report: Report) -> Report:
    """What came of a drill without what cannot travel between processes: plans, ways to make networks."""
    from dataclasses import replace

    from mossy_compass.lab.steps import ChangeStep

    def bare(outcome: Outcome) -> Outcome:
        """An outcome without its plan, and with what only the plan could tell."""
        return outcome._replace(journey=outcome.journey.by_itself())

    results = tuple(
        r._replace(
            step=replace(r.step, make=_nothing) if isinstance(r.step, ChangeStep) else r.step,
            failures=tuple(map(bare, r.failures)),
            chance=tuple(map(bare, r.chance)),
        )
        for r in report.results
    )
    return report._replace(results=results, drill=replace(report.drill, steps=(), source=None))


def _nothing(source: Any) -> Version:
    """Stands for a change that was done in another process."""
    raise AssertionError("this change was done elsewhere")


def _tell(reports: Sequence[Report], details: bool, form: str) -> None:
    """What came of the drills, in the form that was asked for."""
    if form == "json":
        from mossy_compass.report.drillrecord import report_dict

        found = [report_dict(r, details) for r in reports]
        say_json(found[0] if len(found) == 1 else found)
        return
    from rich.console import Group
    from rich.text import Text

    from mossy_compass.report import drilltext

    parts = [part for report in sorted(reports, key=lambda r: r.ok) for part in (drilltext.whole(report, details), Text(""))]
    show(Group(*parts[:-1]))


def _watch(files: Sequence[str], again: Callable[[], int]) -> None:
    """Run, wait until a file beside the drills changes, and run again."""
    from watchfiles import watch

    folders = sorted({str(Path(f).resolve().parent) for f in files})

    def told() -> None:
        """Run once; a faulty file is shown, and waited for to be mended."""
        begin()
        try:
            again()
        except NetworkFileError as fault:
            show_faults(fault)
        except MossyError as fault:
            say(f"mossy: {fault}\n")
        say("\nWaiting for a file to change; stop with Ctrl-C.\n")

    told()
    for changes in watch(*folders, raise_interrupt=True):
        if any(path.endswith((".yaml", ".yml", ".csv")) for _, path in changes):
            say(f"\n{'=' * 60}\n")
            told()
