"""Mossy Compass: trace test packets through a modelled network, and read why each is delivered or dropped.

Example:
    >>> import mossy_compass as mc
    >>> plan = mc.Plan(mc.load("network.yaml"))
    >>> journey = mc.trace(plan, "desk", "press", "tcp/9100")
    >>> journey.fate, journey.cause

"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING

from mossy_compass.voice import speaks

if TYPE_CHECKING:
    from mossy_compass.errors import AddressError, InputError, MossyError, NetworkFileError, NotConverged, QuestionError
    from mossy_compass.exchange.dataframes import frame
    from mossy_compass.files.builder import Builder
    from mossy_compass.files.drills import read_drill
    from mossy_compass.files.load import Reading, load, read_bytes, read_file
    from mossy_compass.lab.drill import run_drill
    from mossy_compass.lab.findings import findings
    from mossy_compass.lab.lab import Flow, Lab
    from mossy_compass.marks import Mark, Problem, Severity
    from mossy_compass.model.network import Network
    from mossy_compass.packet.address import Address, Prefix, parse_address, parse_prefix
    from mossy_compass.packet.packet import Packet
    from mossy_compass.plan.causes import CAUSES
    from mossy_compass.plan.plan import Plan
    from mossy_compass.plan.reasons import Fate
    from mossy_compass.walk.grid import compare, grid
    from mossy_compass.walk.journey import Hop, Journey, Leg, Ruling, Symptom
    from mossy_compass.walk.many import every_path
    from mossy_compass.walk.question import ask
    from mossy_compass.walk.trace import trace, trace_question

speaks(lambda: importlib.import_module("mossy_compass.report.voice"))

__version__ = "0.1.0"

_HOMES = {
    "mossy_compass.errors": ("AddressError", "InputError", "MossyError", "NetworkFileError", "NotConverged", "QuestionError"),
    "mossy_compass.files.builder": ("Builder",),
    "mossy_compass.files.drills": ("read_drill",),
    "mossy_compass.lab.drill": ("run_drill",),
    "mossy_compass.lab.lab": ("Flow", "Lab"),
    "mossy_compass.files.load": ("Reading", "load", "read_bytes", "read_file"),
    "mossy_compass.marks": ("Mark", "Problem", "Severity"),
    "mossy_compass.model.network": ("Network",),
    "mossy_compass.packet.address": ("Address", "Prefix", "parse_address", "parse_prefix"),
    "mossy_compass.packet.packet": ("Packet",),
    "mossy_compass.plan.plan": ("Plan",),
    "mossy_compass.plan.causes": ("CAUSES",),
    "mossy_compass.plan.reasons": ("Fate",),
    "mossy_compass.walk.journey": ("Hop", "Journey", "Leg", "Ruling", "Symptom"),
    "mossy_compass.lab.findings": ("findings",),
    "mossy_compass.walk.question": ("ask",),
    "mossy_compass.walk.grid": ("compare", "grid"),
    "mossy_compass.exchange.dataframes": ("frame",),
    "mossy_compass.walk.many": ("every_path",),
    "mossy_compass.walk.trace": ("trace", "trace_question"),
}
"""Where each public name lives. They are imported when first used, so that `mossy --help` is quick."""


def __getattr__(name: str) -> object:
    for module, names in _HOMES.items():
        if name in names:
            found: object = getattr(importlib.import_module(module), name)
            globals()[name] = found
            return found
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted(__all__)


__all__ = [
    "CAUSES",
    "Address",
    "AddressError",
    "Builder",
    "Fate",
    "Flow",
    "Hop",
    "InputError",
    "Journey",
    "Lab",
    "Leg",
    "Mark",
    "MossyError",
    "Network",
    "NetworkFileError",
    "NotConverged",
    "Packet",
    "Plan",
    "Prefix",
    "Problem",
    "QuestionError",
    "Reading",
    "Ruling",
    "Severity",
    "Symptom",
    "ask",
    "compare",
    "every_path",
    "findings",
    "frame",
    "grid",
    "load",
    "parse_address",
    "parse_prefix",
    "read_bytes",
    "read_drill",
    "read_file",
    "run_drill",
    "trace",
    "trace_question",
]
