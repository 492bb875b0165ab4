"""Findings as SARIF 2.1.0 (OASIS), for editors and code hosts that show such.

Every code that we have is told as a rule, whether found or not, so that viewers can group
by it. Addresses of files are relative and percent-encoded (RFC 3986); columns count
characters from 1 as the standard says.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any
from urllib.parse import quote

from mossy_compass.marks import Mark, Problem, Severity
from mossy_compass.model.codes import FINDINGS

_LEVEL = {Severity.ERROR: "error", Severity.WARNING: "warning", Severity.NOTE: "note"}


def log(problems: Iterable[Problem], version: str) -> dict[str, Any]:
    """A SARIF log with one run (sections 3.13 and 3.14 of the standard)."""
    found = list(problems)
    codes = sorted({p.code for p in found})
    rules = [{"id": code, "shortDescription": {"text": FINDINGS[code]}} for code in codes]
    return {
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [
            {
                "tool": {"driver": {"name": "Mossy Compass", "version": version, "rules": rules}},
                "columnKind": "unicodeCodePoints",
                "results": [_result(p, codes.index(p.code)) for p in found],
            }
        ],
    }


def _result(problem: Problem, index: int) -> dict[str, Any]:
    """One problem as a result of SARIF 2.1.0 (section 3.27), with its rule by number."""
    out: dict[str, Any] = {
        "ruleId": problem.code,
        "ruleIndex": index,
        "level": _LEVEL[problem.severity],
        "message": {"text": f"{problem.message} {problem.remedy}".strip()},
        "locations": [_location(problem.mark)],
    }
    if problem.also:
        out["relatedLocations"] = [
            {"id": n, **_location(mark), "message": {"text": words}} for n, (mark, words) in enumerate(problem.also)
        ]
    return out


def _location(mark: Mark) -> dict[str, Any]:
    """A place as a physical location (section 3.29); a problem of the whole file has no region."""
    place: dict[str, Any] = {"artifactLocation": {"uri": quote(mark.file.replace("\\", "/"), safe="/.-_~")}}
    if mark.line:
        place["region"] = {"startLine": mark.line, "startColumn": max(1, mark.column)}
    return {"physicalLocation": place}
