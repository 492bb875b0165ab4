"""Mossy Compass: trace test packets through a modelled network, and read why each is delivered or dropped.

Example:
    >>> import mossy_compass as mc
    >>> plan = mc.Plan(mc.load("network.yaml"))
    >>> journey = mc.trace(plan, "desk", "press", "tcp/9100")
    >>> journey.fate, journey.cause

"""

from mossy_compass.errors import (
    AddressError,
    InputError,
    MossyError,
    NetworkFileError,
    NotConverged,
    QuestionError,
    Unsupported,
)
from mossy_compass.files.builder import Builder
from mossy_compass.files.load import Reading, load, read_bytes, read_file
from mossy_compass.marks import Mark, Problem, Severity
from mossy_compass.model.network import Device, Interface, Network
from mossy_compass.packet.address import Address, Prefix, parse_address, parse_prefix
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.plan import Plan
from mossy_compass.walk.causes import CAUSES, Cause
from mossy_compass.walk.journey import Because, Fate, Hop, Journey, Leg, Ruling, Symptom
from mossy_compass.walk.trace import ask, trace, trace_question

__version__ = "0.1.0"

__all__ = [
    "CAUSES",
    "Address",
    "AddressError",
    "Because",
    "Builder",
    "Cause",
    "Device",
    "Fate",
    "Hop",
    "InputError",
    "Interface",
    "Journey",
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
    "Unsupported",
    "ask",
    "load",
    "parse_address",
    "parse_prefix",
    "read_bytes",
    "read_file",
    "trace",
    "trace_question",
]
