"""What came of drills as JUnit XML, for whatever shows test results: a suite a drill, a case an expectation, with times.

The schema that is kept to is the one that readers of such files check with (``junit-10.xsd``): times have three decimals, and only
suites count what was skipped. All cases of a suite are handed over together, since the library counts them anew each time.
"""

from __future__ import annotations

from collections.abc import Iterable

from junitparser import Error, Failure, JUnitXml, TestCase, TestSuite

from mossy_compass.lab.drill import Report, Result
from mossy_compass.safe import safe_line, safe_xml

DECIMALS = 3


def junit(reports: Iterable[Report]) -> bytes:
    """The XML of some reports, as UTF-8."""
    xml = JUnitXml("mossy drill")
    for report in reports:
        suite = TestSuite(_line(report.drill.name or report.drill.title))
        suite.add_testcases([_case(r, report) for r in report.results if r.expects or not r.ok])
        suite.time = round(sum(r.seconds for r in report.results), DECIMALS)
        xml.append(suite)  # type: ignore[no-untyped-call]
    suites = list(xml)
    for count in ("tests", "failures", "errors"):
        setattr(xml, count, sum(getattr(s, count) for s in suites))
    xml.time = round(sum(s.time for s in suites), DECIMALS)
    found: bytes = xml.tostring()  # type: ignore[no-untyped-call]
    return found


def _case(result: Result, report: Report) -> TestCase:
    """One expectation, or a step that cannot be done."""
    name = f"{result.number} {result.step.words}"
    case = TestCase(_line(name), _line(report.drill.name or report.drill.title), round(result.seconds, DECIMALS))
    if result.beside:
        case.system_out = safe_xml("\n".join(result.beside))
    if result.ok:
        return case
    texts = [f"{'; '.join(o.wrong)}\n{o.journey}" for o in result.failures]
    first = result.failures[0].wrong[0] if result.failures else result.said or "it does not hold"
    about = [f'why it is wanted: "{result.step.about}"'] if result.step.about else []
    place = [f"written at {result.step.mark}"] if result.step.mark.line else []
    kind = Error if result.broken else Failure
    outcome = kind(_line(first), "mossy")
    outcome.text = safe_xml("\n\n".join([*about, *place, result.said, *texts]).strip())
    case.result = [outcome]
    return case


def _line(text: str) -> str:
    """Text for an attribute, which has no lines."""
    return safe_xml(safe_line(text))
