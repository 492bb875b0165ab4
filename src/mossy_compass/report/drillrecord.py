"""What came of a drill as plain data, as ``drill-report.schema.json`` describes it."""

from __future__ import annotations

from typing import NotRequired

from typing_extensions import TypedDict

from mossy_compass.lab.drill import Report, Result
from mossy_compass.lab.expect import Outcome
from mossy_compass.report.sentences import headline
from mossy_compass.walk.journey_types import JourneyDict

FORMAT = 1

FlowDict = TypedDict(
    "FlowDict",
    {
        "from": str,
        "to": str,
        "service": str,
        "family": int | None,
        "wrong": list[str],
        "headline": str,
        "journey": NotRequired[JourneyDict],
    },
)
StepDict = TypedDict(
    "StepDict",
    {
        "number": int,
        "step": str,
        "words": str,
        "about": str,
        "place": str,
        "ok": bool,
        "expects": bool,
        "flows": int,
        "seconds": float,
        "said": str,
        "failures": list[FlowDict],
        "by-chance": list[FlowDict],
        "not-tested": list[str],
        "not-in-force": list[str],
    },
)


class UntestedDict(TypedDict):
    """What no step met."""

    rules: list[list[str]]
    devices: list[str]
    services: list[list[str]]


ReportDict = TypedDict(
    "ReportDict",
    {
        "mossy-drill-report": int,
        "drill": str,
        "title": str,
        "ok": bool,
        "steps": list[StepDict],
        "untested": UntestedDict,
        "not-in-force": list[str],
    },
)


def report_dict(report: Report, details: bool = False) -> ReportDict:
    """A report as plain data; with ``details`` the whole journey of each flow that fails."""
    found = report.untested
    return {
        "mossy-drill-report": FORMAT,
        "drill": report.drill.name,
        "title": report.drill.title,
        "ok": report.ok,
        "steps": [_step(r, details) for r in report.results],
        "untested": {
            "rules": [list(r) for r in found.rules],
            "devices": list(found.devices),
            "services": [list(s) for s in found.services],
        },
        "not-in-force": list(report.edited),
    }


def _step(result: Result, details: bool) -> StepDict:
    """A step as plain data."""
    return {
        "number": result.number,
        "step": type(result.step).__name__.lower(),
        "words": result.step.words,
        "about": result.step.about,
        "place": str(result.step.mark) if result.step.mark.line else "",
        "ok": result.ok,
        "expects": result.expects,
        "flows": result.tests,
        "seconds": round(result.seconds, 6),
        "said": result.said,
        "failures": [_flow(o, details) for o in result.failures],
        "by-chance": [_flow(o, details) for o in result.chance],
        "not-tested": list(result.left),
        "not-in-force": list(result.unforced),
    }


def _flow(outcome: Outcome, details: bool) -> FlowDict:
    """A flow as plain data."""
    flow = outcome.flow
    out: FlowDict = {
        "from": flow.source,
        "to": flow.target,
        "service": flow.service,
        "family": flow.options.family,
        "wrong": list(outcome.wrong),
        "headline": headline(outcome.journey),
    }
    if details:
        out["journey"] = outcome.journey.to_dict()
    return out
