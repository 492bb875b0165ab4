"""The types of what belongs to a reason, by the names that ``plan/reasons.py`` gives its values.

A name has one type, whatever the code: so a checker of types knows what is read of a reason, and the tests hold every reason
that is made while they run against this table. Nothing is imported for it when the program runs.
"""

from __future__ import annotations

from typing import TypedDict

from mossy_compass.marks import Hint, Mark
from mossy_compass.model.network import Candidate
from mossy_compass.packet.address import Address, Prefix
from mossy_compass.packet.packet import Channel, Packet
from mossy_compass.plan.conditions import Miss
from mossy_compass.plan.facts import Direction, Phase, Relation
from mossy_compass.plan.ids import TableId
from mossy_compass.plan.reasons import Because
from mossy_compass.routing.table import NextHop


class Values(TypedDict, total=False):
    """What a reason rests on; which of these a code has is said by ``REASONS``."""

    action: str
    address: Address
    ago: int
    allocated: bool
    answer: bool
    arriving: str
    before: str
    began: int
    behind: str
    cable: str
    came: str
    claimants: tuple[tuple[str, str], ...]
    code: str
    count: int
    destination: Address
    device: str
    direction: Direction
    end: str
    examined: int
    family: int
    flags: str
    half: str
    heard_from: Address
    helper: str
    hint: Hint
    holders: tuple[tuple[str, int], ...]
    hop: NextHop
    hours: str
    idle: tuple[str, ...]
    inner: Address
    inner_port: int
    instead: tuple[tuple[str, str], ...]
    into: str | None
    key: str
    kind: str
    knowing: str
    known: tuple[tuple[str, str, Address, Address], ...]
    learns: bool
    leaving: str
    left: str
    left_by: NextHop | None
    left_out: int
    list: str
    lists: tuple[str, ...]
    lists_asked: int
    mark: Mark | None
    member: int
    members: tuple[tuple[str, ...], ...]
    message: str
    method: str
    misses: tuple[Miss, ...]
    more: Because | None
    mtu: int
    name: str
    names: tuple[str, ...]
    none: bool
    now: str
    number: int
    offered: tuple[str, ...]
    opener: Address
    origin: str
    other: str
    other_name: str
    others: tuple[NextHop, ...]
    ours: tuple[str, ...]
    outer: Address
    outer_port: int
    own: bool
    owner: str
    packet: Packet
    packet_after: Packet
    packet_before: Packet
    passed: tuple[tuple[Candidate, str], ...]
    path: tuple[str, ...]
    peer: bool
    phase: Phase
    places: tuple[str, ...]
    port: str
    prefix: Prefix
    prefixes: tuple[Prefix, ...]
    profile: str
    protocol: int
    protocols: tuple[int, ...]
    proxy: bool
    question: Packet
    reason: Because
    relation: Relation
    remedy: str
    resolver: str
    route: Because
    routes: tuple[tuple[str, Because], ...]
    row: str
    rows: tuple[tuple[str, str], ...]
    rules: int
    segment: str
    selector: Because
    sender: str
    served: tuple[str, ...]
    session: int
    setting: str
    size: int
    source: Address
    source_before: Address
    source_now: Address
    steered_by: Because
    switched: tuple[tuple[str, bool], ...]
    switches: tuple[str, ...]
    symptom: str
    table: TableId
    taken: Prefix
    taken_origin: str
    target: str
    theirs: tuple[str, ...]
    to: Address
    to_port: int
    told: Channel
    told_on: Channel
    uplink: str
    unswitched: str
    value: str
    verdict: str
    wanted: str
    way: str
    what: str
    where: str
    whose: str
    why: str
    word: str
    words: str
