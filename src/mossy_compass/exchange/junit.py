"""What came of drills as JUnit XML, for whatever shows test results: a suite a drill, a case an expectation, with times."""

from __future__ import annotations

from collections.abc import Iterable

from junitparser import Error, Failure, JUnitXml, TestCase, TestSuite

from mossy_compass.lab.drill import Report, Result


def junit(reports: Iterable[Report]) -> bytes:
    """The XML of some reports, as UTF-8."""
    xml = JUnitXml("mossy drill")
    for report in reports:
        suite = TestSuite(_clean(report.drill.name or report.drill.title))
        for result in report.results:
            if result.expects or not result.ok:
                suite.add_testcase(_case(result, report))
        suite.time = round(sum(r.seconds for r in report.results), 6)
        xml.add_testsuite(suite)
    found: bytes = xml.tostring()  # type: ignore[no-untyped-call]
    return found


def _case(result: Result, report: Report) -> TestCase:
    """One expectation, or a step that cannot be done."""
    case = TestCase(
        _clean(f"{result.number} {result.step.words}"), _clean(report.drill.name or report.drill.title), round(result.seconds, 6)
    )
    if result.ok:
        return case
    texts = [f"{'; '.join(o.wrong)}\n{o.journey}" for o in result.failures]
    first = result.failures[0].wrong[0] if result.failures else result.said or "it does not hold"
    about = [f'why it is wanted: "{result.step.about}"'] if result.step.about else []
    place = [f"written at {result.step.mark}"] if result.step.mark.line else []
    body = _clean("\n\n".join([*about, *place, result.said, *texts]).strip())
    kind = Error if result.broken else Failure
    outcome = kind(_clean(first), "mossy")
    outcome.text = body
    case.result = [outcome]
    return case


def _clean(text: str) -> str:
    """Text without what XML 1.0 cannot hold (section 2.2)."""
    return "".join(
        c if c in "\t\n\r" or 0x20 <= ord(c) <= 0xD7FF or 0xE000 <= ord(c) <= 0xFFFD or ord(c) >= 0x10000 else "?" for c in text
    )
