"""What a ruling rests on, as values: a code, and the names, numbers and addresses that belong to it.

No sentence is made here, and none is ever parsed: ``report/words.py`` has the words of each code, and a test holds the
two tables together. A place (``mark``) is carried along and takes no part in equality.
"""

from __future__ import annotations

from enum import StrEnum
from typing import TYPE_CHECKING, Any, NamedTuple, cast

from mossy_compass.marks import Mark
from mossy_compass.model.settings import Settings
from mossy_compass.voice import voice

if TYPE_CHECKING:
    from typing import TypedDict

    from mossy_compass.marks import Hint
    from mossy_compass.model.network import Candidate, Device
    from mossy_compass.packet.address import Address, InterfaceAddress, Prefix
    from mossy_compass.packet.packet import Channel, Packet
    from mossy_compass.plan.conditions import Miss
    from mossy_compass.plan.facts import Direction, Phase, Relation
    from mossy_compass.plan.ids import TableId
    from mossy_compass.routing.domains import LinkState
    from mossy_compass.routing.table import NextHop

    class Values(TypedDict, total=False):
        """What belongs to reasons, by name; which of these a code has is said by ``REASONS``.

        A name has one type, whatever the code, so a checker of types knows what is read of a reason; the tests hold every reason
        that is made while they run against this table. It is not made when the program runs, whose start it would take longer.
        """

        action: str
        address: Address
        ago: int
        allocated: bool
        answer: bool
        arriving: str
        back_to: str
        before: str
        began: int
        behind: str
        beside: tuple[tuple[str, Address], ...]
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
        held: InterfaceAddress | None
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
        onto: str
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
        protocol_name: str
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


class Fate(StrEnum):
    """How a leg ended."""

    DELIVERED = "delivered"
    REFUSED = "refused"
    REJECTED = "rejected"
    DROPPED = "dropped"
    EXPIRED = "expired"
    LOOPED = "looped"


class Did(StrEnum):
    """What a stage did with a packet."""

    PERMITTED = "permitted"
    KNOWN = "known session"
    ROUTED = "routed"
    STEERED = "steered"
    NOTED = "noted"
    HANDED_ON = "handed on"
    CLASSIFIED = "classified"
    FELL_THROUGH = "fell through"
    REWRITTEN = "rewritten"
    KEPT = "kept"
    EXPECTS = "expects"
    ASSOCIATED = "associated"
    SENT = "sent"
    DELIVERED = "delivered"
    REFUSED = "refused"
    REJECTED = "rejected"
    DROPPED = "dropped"
    EXPIRED = "expired"


class Shape(NamedTuple):
    """What belongs to a code of the table below.

    Attributes:
        kind: the word under which people and programs sort reasons.
        names: of the values, in their order.

    """

    kind: str
    names: tuple[str, ...]


def _shape(kind: str, names: str = "") -> Shape:
    """A line of the table of reasons."""
    return Shape(kind, tuple(names.split()))


REASONS: dict[str, Shape] = {
    # what decides
    "rule": _shape("rule", "list row"),
    "offer": _shape("offer", "device port word"),
    "offer.none": _shape("offer", "device port offered"),
    "rule.built-in": _shape("built-in", "row device"),
    "list.end": _shape("default", "list"),
    "list.empty": _shape("default", "list value"),
    "setting": _shape("setting", "name value kind"),
    "default": _shape("default", "name value kind"),
    "session": _shape("session", "number device table row own"),
    "session.known": _shape("session", "number device"),
    "session.expected": _shape("session", "number device helper inner inner_port protocol"),
    "helper": _shape("session", "name device"),
    "session.kept": _shape("session", "device protocols"),
    "session.judged": _shape("session", "number device what"),
    "session.gone": _shape("session", "number device why ago name value"),
    "mapping": _shape("translation", "number device outer outer_port inner value"),
    "translation": _shape("translation", "row device"),
    "translation.hairpin": _shape("translation", "row device"),
    "translation.switch": _shape("translation", "name row device"),
    "session.strays": _shape("session", "number device left"),
    "translation.undo": _shape("translation", "number device"),
    "policy": _shape("rule", "row device"),
    "route": _shape("route", "origin prefix"),
    "neighbour": _shape("neighbour", "leaving device"),
    "neighbour.silent": _shape("neighbour", "address device"),
    "interface.down": _shape("interface", "device port why"),
    "cable.mtu": _shape("interface", "cable mtu"),
    "interface.mtu": _shape("interface", "device port mtu"),
    "service": _shape("service", "name words"),
    "waits": _shape("service", "name protocol to_port"),
    "service.closed": _shape("service", "name packet served"),
    "ping.answered": _shape("setting", "name value kind"),
    "ping.ignored": _shape("setting", "name value kind"),
    "address.own": _shape("device", "name address"),
    "address.link-local": _shape("address", "key address"),
    "address.special": _shape("address", "key address what"),
    "ttl": _shape("device", "device"),
    "loop": _shape("route", "path"),
    "walk.limit": _shape("note", "number what"),
    "route.none": _shape("device", "device destination"),
    "route.inactive": _shape("route", "device destination origin prefix why"),
    "policy.unavailable": _shape("rule", "row device"),
    "rule.uplink": _shape("rule", "list row"),
    "policy.discard": _shape("rule", "row device"),
    "policy.ended": _shape("rule", "row device route"),
    "selector": _shape("rule", "row name device"),
    "tunnel": _shape("device", "name device"),
    "tunnel.end": _shape("device", "name device"),
    "tunnel.none": _shape("device", "device packet known"),
    "tunnel.recursion": _shape("device", "name device"),
    "tunnel.selector": _shape("device", "name device"),
    "tunnel.path-mtu": _shape("interface", "name device mtu"),
    "tunnel.clear": _shape("rule", "row name device"),
    "exchange.taken": _shape("device", "name device"),
    "exchange.proposals": _shape("device", "device ours other theirs"),
    "exchange.selectors": _shape("device", "name device source destination"),
    "association.made": _shape("device", "number name other to to_port"),
    "association.none": _shape("device", "name device source destination"),
    "association.unknown": _shape("device", "number name device other"),
    "association.by-hand": _shape("device", "name device other_name other"),
    "unasked": _shape("device", "name"),
    "fragment": _shape("device", "name"),
    "answer.elsewhere": _shape("device", "name address"),
    "answer.other": _shape("device", "packet question"),
    "name.none": _shape("name", "target sender"),
    "name.no-resolver": _shape("name", "sender target knowing"),
    "name.no-record": _shape("name", "resolver target"),
    "address.none": _shape("device", "sender family"),
    "address.unleased": _shape("device", "target"),
    "host.off": _shape("device", "name"),
    # what else there is to say
    "note.member": _shape("note", "members"),
    "note.list": _shape("note", "list where device port"),
    "note.no-list": _shape("note", "where device port"),
    "note.end": _shape("note", "examined value lists_asked"),
    "note.no-rule": _shape("note", "device origin into"),
    "note.profile": _shape("note", "profile more"),
    "note.other-names": _shape("note", "address names"),
    "note.application-later": _shape("note", "rows number more"),
    "note.recalled": _shape("note", "session device number names"),
    "note.built-in": _shape("note", "switched"),
    "note.front": _shape("note", "row"),
    "note.source.own": _shape("note", "source device"),
    "note.source.route": _shape("note", "source leaving arriving"),
    "note.source.none": _shape("note", "source"),
    "note.for-another": _shape("note", "destination device"),
    "note.link-local": _shape("note"),
    "note.special": _shape("note"),
    "note.session": _shape("note", "relation protocol"),
    "note.no-session": _shape("note", "flags device"),
    "note.judged": _shape("note", "reason"),
    "note.interface": _shape("note", "number device port wanted"),
    "note.phase": _shape("note", "number device phase flags direction"),
    "note.holders": _shape("note", "holders number"),
    "note.closed-port": _shape("note", "value"),
    "note.heard": _shape("note", "told told_on opener"),
    "note.not-heard": _shape("note", "why told heard_from"),
    "note.rewrite": _shape("note", "half packet_before packet_after allocated"),
    "note.untranslated": _shape("note", "row mark misses"),
    "note.no-address": _shape("note", "leaving family"),
    "note.ports-taken": _shape("note", "address"),
    "note.clash": _shape("note", "protocol source destination"),
    "note.steered": _shape("note", "steered_by passed"),
    "note.way": _shape("note", "hop member count method others"),
    "note.action": _shape("note", "action"),
    "note.subnet-end": _shape("note", "destination"),
    "note.route-not-used": _shape("note", "origin prefix"),
    "note.known-routes": _shape("note", "prefixes left_out"),
    "note.nobody": _shape("note", "segment address owner"),
    "note.mtu-between": _shape("note", "size mtu port"),
    "note.mtu": _shape("note", "size mtu port"),
    "note.sent": _shape("note", "device port address proxy claimants switches"),
    "note.candidate": _shape("note", "passed"),
    "note.entered": _shape("note", "name"),
    "note.bypass": _shape("note", "name"),
    "note.divided": _shape("note", "size mtu"),
    "note.tunnelled": _shape("note", "kind to"),
    "note.as-opened": _shape("note", "number name began none"),
    "note.strays": _shape("note", "number before now"),
    "note.moved": _shape("note", "number before now"),
    "root.moved": _shape("note", "device number before now"),
    "note.exit-down": _shape("note", "number port"),
    "note.exit-unknown": _shape("note", "number port"),
    "note.no-candidate": _shape("note", "passed"),
    "note.loop": _shape("note", "routes device"),
    "note.not-asked": _shape("note", "packet source"),
    "note.lease": _shape("note", "device port why"),
    "note.known-names": _shape("note", "hint"),
    # what lies behind a reason
    "root.not-inspected": _shape("note", "protocol protocols"),
    "root.inspected-elsewhere": _shape("note", "protocol arriving leaving places"),
    "root.other-exit": _shape("note", "device number came left"),
    "root.unread": _shape("note", "device helper"),
    "root.astray": _shape("note", "device helper told"),
    "root.expected-no-more": _shape("note", "device why value"),
    "root.no-opening": _shape("note", "device protocol"),
    "root.unlearned": _shape("note", "list row names device learns"),
    "root.gone": _shape("note", "reason"),
    "root.in-clear": _shape("note", "device source_before source_now selector"),
    "root.stateless": _shape("note", "device"),
    "root.untranslated": _shape("note", "source device"),
    "root.exempt": _shape("note", "source device row"),
    "root.translated-nowhere": _shape("note", "source device uplink unswitched"),
    "root.out-again": _shape("note", "device port destination"),
    "root.inactive": _shape("note", "device taken_origin taken origin prefix why"),
    "root.cut-off": _shape("note", "device prefix why"),
    "root.down": _shape("note", "device port why"),
    "root.stranded": _shape("note", "owner address segment device port held"),
    "root.by-hand": _shape("note", "name device"),
    "root.unannounced": _shape("note", "device port prefix protocol_name"),
    "root.unheard": _shape("note", "device port why"),
    "root.strangers": _shape("note", "device destination"),
    "root.parted": _shape("note", "device onto taken_origin taken"),
    "root.turned-back": _shape("note", "device back_to taken_origin taken"),
    "root.off-link": _shape("note", "device held owner address segment"),
    "root.unled": _shape("note", "address device row"),
    "told.filtering-off": _shape("idle", "device lists rules"),
    "told.unlogged": _shape("note", "list row"),
    "told.no-time": _shape("note", "list row hours"),
    "told.fault": _shape("note", "message remedy code"),
    "told.on-link": _shape("note", "device destination port peer"),
    "told.wrong-side": _shape("note", "list device port way whose behind instead"),
    "told.passed-candidate": _shape("note", "row device passed left_by"),
    "told.as-opened": _shape("note", "device number name none"),
    "told.default-kept": _shape("note", "device protocol_name"),
    "told.leases": _shape("note", "device port segment"),
    "told.down": _shape("note", "device port why"),
    "told.default-lost": _shape("note", "device origin prefix why"),
    "told.sent-on": _shape("note", "row device address"),
    "told.beside": _shape("note", "beside"),
    "told.path-mtu": _shape("note", "device name mtu setting"),
    "told.path-mtu-lost": _shape("note", "device name where reason"),
    "told.inactive": _shape("note", "device taken_origin taken origin prefix why"),
    # the rules that nearly permitted it
    "near": _shape("note", "list row misses packet"),
    "near.translation": _shape("note", "row device misses packet"),
    "near.below": _shape("note", "list row"),
    "near.built-in": _shape("note", "row device"),
    "told.before-translation": _shape("note", "row device address to_port protocol"),
    # what the sender sees, in more words
    "said.packet": _shape("note", "packet"),
    "said.onward": _shape("note", "device symptom"),
    "said.lost": _shape("note", "answer end reason"),
    "said.own-system": _shape("note", "device"),
    "said.later": _shape("note", "number"),
    "said.not-sent": _shape("note"),
    # what is written and has no effect
    "although.duplicate": _shape("duplicate", "name address"),
    "although.rule": _shape("idle", "list row verdict idle"),
    "although.end": _shape("idle", "list idle"),
    "although.unlearned": _shape("idle", "list row names device learns"),
}
"""Every code with its kind and the names of its values."""


class Because(NamedTuple):
    """What a ruling rests on, or a remark beside it.

    Attributes:
        code: a key of ``REASONS``.
        values: what belongs to it, in the order of ``REASONS[code].names``; its types are those of ``Values``.
        mark: where it is written; None for a default or something computed.
        about: the author's own purpose text.

    """

    code: str
    values: tuple[Any, ...] = ()
    mark: Mark | None = None
    about: str = ""

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Because) and self[:2] == other[:2] and self[3] == other[3]

    def __hash__(self) -> int:
        return hash((self[0], self[1], self[3]))

    @property
    def kind(self) -> str:
        """rule, built-in, offer, default, setting, session, translation, route, neighbour, service, interface, device, name, address, idle, duplicate."""
        return REASONS[self.code].kind

    @property
    def named(self) -> Values:
        """The values by their names."""
        return cast("Values", dict(zip(REASONS[self.code].names, self.values, strict=True)))

    @property
    def words(self) -> str:
        """It in a few words, as ``visitors-in rule 10``."""
        return str(voice().because(self))

    def cited(self) -> str:
        """The words with the place: ``visitors-in rule 10 (file:line)``."""
        return f"{self.words} ({self.mark})" if self.mark and self.mark.line else self.words

    def __str__(self) -> str:
        return self.cited()


def setting(settings: Settings, name: str) -> Because:
    """A setting's value as a reason."""
    mark = settings.mark(name)
    return Because("setting" if mark else "default", (name, settings.text(name), settings.kind), mark)


def down(device: Device, port: str, link: LinkState) -> Because:
    """A port that is down as a reason, with why it is."""
    return Because("interface.down", (device.name, port, link.why), link.mark or device.interfaces[port].mark)
