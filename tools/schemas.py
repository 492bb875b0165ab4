"""Write the JSON Schemas that the package ships. Run it after a change of the file format or the journey record."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter

from mossy_compass.files.change import ChangeIn
from mossy_compass.files.drillforms import DrillIn
from mossy_compass.files.schema import NetworkIn, settings_schema
from mossy_compass.report.drillrecord import ReportDict
from mossy_compass.walk.journey_types import JourneyDict

DATA = Path(__file__).resolve().parent.parent / "src" / "mossy_compass" / "data"


def network_schema() -> dict[str, Any]:
    """Schema of network files, for editors."""
    schema: dict[str, Any] = NetworkIn.json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "Mossy Compass network file, version 1"
    schema["$defs"]["DeviceIn"]["properties"]["settings"] |= settings_schema()
    return schema


def journey_schema() -> dict[str, Any]:
    """Schema of `mossy trace --format json` and of `Journey.to_dict()`."""
    schema = TypeAdapter(JourneyDict).json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "Mossy Compass journey, version 1"
    return schema


def drill_schema() -> dict[str, Any]:
    """Schema of drill files, for editors."""
    schema: dict[str, Any] = DrillIn.json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "Mossy Compass drill file, version 1"
    return schema


def change_schema() -> dict[str, Any]:
    """Schema of change files, for editors."""
    schema: dict[str, Any] = ChangeIn.json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "Mossy Compass change file, version 1"
    return schema


def report_schema() -> dict[str, Any]:
    """Schema of `mossy drill --format json`."""
    schema = TypeAdapter(ReportDict).json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "Mossy Compass report of a drill, version 1"
    return schema


def as_text(schema: dict[str, Any]) -> str:
    """The bytes that are shipped."""
    return json.dumps(schema, indent=1, ensure_ascii=False, sort_keys=True) + "\n"


if __name__ == "__main__":
    (DATA / "network.schema.json").write_text(as_text(network_schema()), encoding="utf-8")
    (DATA / "journey.schema.json").write_text(as_text(journey_schema()), encoding="utf-8")
    (DATA / "change.schema.json").write_text(as_text(change_schema()), encoding="utf-8")
    (DATA / "drill.schema.json").write_text(as_text(drill_schema()), encoding="utf-8")
    (DATA / "drill-report.schema.json").write_text(as_text(report_schema()), encoding="utf-8")
