"""The plain data that a journey becomes: what `to_dict` gives, and the published JSON Schema describes.

They are typed dictionaries and no classes: what is handed out can go straight into JSON,
and a type checker still knows each key. The schema is made from them by
``tools/schemas.py``.
"""

from __future__ import annotations

from typing import NotRequired

from typing_extensions import TypedDict


class MarkDict(TypedDict):
    """A place."""

    file: str
    line: int
    column: int


class BecauseDict(TypedDict):
    """What a ruling rests on."""

    kind: str
    words: str
    about: str
    place: MarkDict | None


PacketDict = TypedDict(
    "PacketDict",
    {
        "protocol": str,
        "source": str,
        "destination": str,
        "from-port": NotRequired[int],
        "to-port": NotRequired[int],
        "identifier": NotRequired[int],
        "icmp": NotRequired[str],
        "flags": NotRequired[str],
        "ttl": int,
        "quoted": NotRequired[str],
    },
)


class PassedOverDict(TypedDict):
    """A rule that did not match."""

    list: str
    rule: str
    verdict: str
    place: MarkDict
    condition: str
    reason: str


class RouteOverDict(TypedDict):
    """A route that was not taken."""

    route: str
    ways: list[str]
    reason: str
    place: MarkDict | None


RulingDict = TypedDict(
    "RulingDict",
    {
        "stage": str,
        "did": str,
        "saw": PacketDict,
        "gave": PacketDict,
        "because": BecauseDict,
        "note": str,
        "cause": str,
        "log": NotRequired[str],
        "passed-over": NotRequired[list[PassedOverDict]],
        "routes-passed-over": NotRequired[list[RouteOverDict]],
        "noted": NotRequired[list[BecauseDict]],
    },
)
SilentDict = TypedDict("SilentDict", {"stage": str, "because": BecauseDict | None, "passed-over": list[PassedOverDict]})
HopDict = TypedDict(
    "HopDict",
    {
        "device": str,
        "kind": str,
        "arriving": str | None,
        "leaving": str | None,
        "next-device": str | None,
        "segment": str | None,
        "bridges": list[str],
        "latency-ms": float,
        "outer": NotRequired["LegDict"],
        "exchange": NotRequired[list["LegDict"]],
        "pieces": NotRequired[list["LegDict"]],
        "error": NotRequired["LegDict"],
        "rulings": list[RulingDict],
        "silent": NotRequired[list[SilentDict]],
    },
)


class LegDict(TypedDict):
    """One way of one packet."""

    way: str
    fate: str
    cause: str
    because: BecauseDict
    note: str
    root: str
    packet: PacketDict
    arrived: PacketDict
    hops: list[HopDict]


HeldDict = TypedDict("HeldDict", {"device": str, "session": int, "phase": str, "ends-ms": int | None})
OverDict = TypedDict("OverDict", {"device": str, "session": int, "why": str, "at-ms": int})
ExchangeDict = TypedDict(
    "ExchangeDict",
    {
        "words": str,
        "at-ms": int | None,
        "fate": str | None,
        "cause": str | None,
        "seen-as": str,
        "sessions": list[HeldDict],
        "ended": list[OverDict],
    },
)


JourneyDict = TypedDict(
    "JourneyDict",
    {
        "mossy-journey": int,
        "from": str,
        "to": str,
        "to-device": str | None,
        "service": str,
        "fate": str,
        "cause": str,
        "because": BecauseDict,
        "note": str,
        "root": str,
        "decided-on": str,
        "symptom": str,
        "symptom-note": str,
        "seen-as": str,
        "although": list[BecauseDict],
        "nearest": list[str],
        "latency-ms": float,
        "lookup": "LookupDict | None",
        "onward": "JourneyDict | None",
        "legs": list[LegDict],
        "exchanges": NotRequired[list[ExchangeDict]],
    },
)


class LookupDict(TypedDict):
    """A lookup."""

    name: str
    resolver: str
    addresses: list[str]
    journey: JourneyDict
