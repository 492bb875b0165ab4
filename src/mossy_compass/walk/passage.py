"""A packet's stay at one device, and how a stage ends it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import Packet
from mossy_compass.plan.match import ListTable
from mossy_compass.plan.order import Stage
from mossy_compass.plan.plan import DevicePlan, Plan
from mossy_compass.routing.domains import Domain
from mossy_compass.routing.table import Hop, RouteTable
from mossy_compass.state.sessions import Session, SessionTable
from mossy_compass.walk.journey import Because, Fate, Ruling


@dataclass(frozen=True, slots=True)
class End:
    """The end of a leg.

    Attributes:
        reply: what is sent back: ``answer``, ``refusal``, ``reset``, an ICMP error's kind, or nothing.
        root: what lies behind the reason: why an answer met a list at all.
        replier: the device that sends it and the interface that the packet came by, where that is not the last hop.

    """

    fate: Fate
    cause: str
    because: Because
    note: str = ""
    reply: str = ""
    replier: tuple[str, str | None] | None = None
    root: str = ""


@dataclass(slots=True)
class Passage:
    """A packet's stay at one device: what the stages read and write."""

    plan: Plan
    here: DevicePlan
    sessions: SessionTable
    packet: Packet
    arriving: str | None
    answering: bool
    came: Packet = field(init=False)
    leaving: str | None = None
    next_hop: Address | None = None
    next_device: str | None = None
    next_interface: str | None = None
    latency_ms: float = 0.0
    domain: Domain | None = None
    session: Session | None = None
    opened_by: str = ""
    choose: Callable[[str, tuple[Hop, ...], Packet], int | None] | None = None
    rulings: list[Ruling] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.came = self.packet

    def rule(
        self,
        stage: Stage,
        did: str,
        because: Because,
        note: str = "",
        saw: Packet | None = None,
        table: ListTable | None = None,
        cause: str = "",
        routes: RouteTable | None = None,
    ) -> None:
        """Note what a stage did."""
        asked = (table, self.arriving, self.leaving, routes)
        self.rulings.append(Ruling(stage.value, did, saw or self.packet, self.packet, because, note, cause, *asked))

    def end(self, stage: Stage, did: str, end: End, table: ListTable | None = None, routes: RouteTable | None = None) -> End:
        """Note that a stage ended the leg."""
        self.rule(stage, did, end.because, end.note, table=table, cause=end.cause, routes=routes)
        return end


def setting_because(here: DevicePlan, name: str) -> Because:
    """A setting's value as a reason."""
    value, mark = here.setting(name)
    return Because(
        "setting" if mark else "default", f"{name}: {value}" + ("" if mark else f", the default of {here.device.kind.words}"), mark
    )
