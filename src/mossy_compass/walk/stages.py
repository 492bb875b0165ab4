"""What each stage of a device does. A stage adds its ruling, and either lets the packet go on or ends the leg."""

from __future__ import annotations

import zlib
from collections.abc import Callable
from dataclasses import dataclass, field, replace

from mossy_compass.marks import Mark
from mossy_compass.model.network import RouteAction, Verdict
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, TCP, protocol_name
from mossy_compass.plan.match import ListTable
from mossy_compass.plan.order import Stage
from mossy_compass.plan.plan import DevicePlan, Plan
from mossy_compass.routing.domains import Domain
from mossy_compass.routing.table import Hop, Route, RouteTable
from mossy_compass.state.sessions import Session, SessionTable, flow_of, rewrite_source, undo
from mossy_compass.walk.journey import Because, Fate, Ruling

ECHO_REQUESTS = (8 << 8, 128 << 8)


@dataclass(frozen=True, slots=True)
class End:
    """The end of a leg.

    Attributes:
        reply: what is sent back: ``answer``, ``refusal``, ``reset``, an ICMP error's kind, or nothing.
        root: what lies behind the reason: why an answer met a list at all.
        replier: the device that sends it, where it is not the last one of the leg.

    """

    fate: Fate
    cause: str
    because: Because
    note: str = ""
    reply: str = ""
    replier: str = ""
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
    choose: Callable[[str, tuple[Hop, ...]], int | None] | None = None
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


def arrive(p: Passage) -> End | None:
    """A source that is this device itself; reverse-path check of the source (RFC 3704) where it is on."""
    if p.packet.source in p.here.own and p.arriving is not None and p.here.setting("own-source")[0] == "drop":
        return p.end(
            Stage.ARRIVE,
            "dropped",
            End(
                Fate.DROPPED,
                "source.own",
                setting_because(p.here, "own-source"),
                f"source {p.packet.source} is {p.here.name} itself: it has been sent round in a circle, or forged",
            ),
        )
    value, _ = p.here.setting("source-check")
    if value == "off" or p.arriving is None:
        return None
    route = p.here.table.lookup(p.packet.source)
    if route is None or (value == "strict" and p.arriving not in {h.interface for h in route.hops}):
        way = (
            f"its route leaves by {route.hops[0].interface if route.hops else 'nowhere'}, not by {p.arriving}"
            if route
            else "no route leads there"
        )
        return p.end(
            Stage.ARRIVE,
            "dropped",
            End(
                Fate.DROPPED,
                "source.check",
                setting_because(p.here, "source-check"),
                f"source {p.packet.source} is not plausible: {way}",
            ),
        )
    return None


def session(p: Passage) -> End | None:
    """Part of a known session? Then its rewrite is used and the lists are passed over."""
    if not p.here.tracked:
        return None
    flow = flow_of(p.packet)
    protocol = flow.protocol
    if p.packet.is_error and p.here.setting("session-errors")[0] == "filtered":
        return None
    found = p.sessions.answering(p.here.name, flow)
    if found is not None and found.tracked:
        saw = p.packet
        p.packet = undo(p.packet, found)
        p.session = found
        what = "the error is about its packet" if saw.is_error else "it is the answer"
        rewrite = (
            f"; destination {saw.destination} becomes {p.packet.destination}" if saw.destination != p.packet.destination else ""
        )
        p.rule(
            Stage.SESSION,
            "known session",
            Because("session", f"session {found.number} of {p.here.name}, opened under {found.opened_by}"),
            f"{what}; the lists are passed over{rewrite}",
            saw=saw,
        )
        return None
    onward = p.sessions.continuing(p.here.name, flow)
    if onward is not None and onward.tracked:
        p.session = onward
        p.rule(
            Stage.SESSION,
            "known session",
            Because("session", f"session {onward.number} of {p.here.name}"),
            "a further packet of it; the lists are passed over",
        )
        return None
    if protocol == TCP and TCP in p.here.tracked and not p.packet.opening and not p.packet.is_error:
        because = Because("session", f"{p.here.name} keeps sessions of tcp", p.here.device.stateful_mark)
        return p.end(
            Stage.SESSION,
            "dropped",
            End(
                Fate.DROPPED,
                "session.none",
                because,
                f"this {p.packet.flags or 'TCP'} packet belongs to no session there: the opening packet did not pass {p.here.name}",
            ),
        )
    return None


def _stateless_note(p: Passage) -> str:
    names = ", ".join(sorted(protocol_name(n) for n in p.here.tracked))
    if p.packet.is_error:
        return ""
    name = protocol_name(p.packet.protocol)
    if p.here.tracked and p.packet.protocol not in p.here.tracked:
        return f"{name} is not inspected there (stateful: {names}), so the answer has no session"
    if p.here.tracked:
        return f"{p.here.name} saw no opening packet of this {name} flow, so the answer has no session"
    return f"{p.here.name} keeps no sessions, so answers need a rule of their own"


def _filter(p: Passage, stage: Stage, way: str) -> End | None:
    interface = p.arriving if way == "arriving" else p.leaving
    if p.session is not None:
        return None
    if way == "leaving" and p.arriving is None and p.here.setting("own-packets")[0] == "pass":
        return None
    table = p.here.list_at(interface, way)
    where = f"{way} at {p.here.name}/{interface}"
    if table is None:
        if p.here.setting("no-list")[0] == "permit":
            return None
        return _deny(p, stage, End(Fate.DROPPED, "filter.none", setting_because(p.here, "no-list"), f"no list is attached {where}"))
    name = table.source.name
    if not table.rules:
        value, mark = p.here.setting("empty-list")
        because = Because("default", f"list {name} is empty, empty-list: {value}", mark or table.source.mark)
        if value == "permit":
            p.rule(stage, "permitted", because, f"list {name}, {where}, has no rule", table=table)
            return None
        return _deny(p, stage, End(Fate.DROPPED, "filter.empty", because), table)
    found = table.first(p.packet, p.arriving, p.leaving)
    if found is None:
        value, mark = p.here.setting("end-of-list")
        examined = len(table.rules)
        because = Because("default", f"the end of list {name}", table.source.mark)
        note = (
            f"none of its {examined} rules matched, and end-of-list is {value}"
            if examined > 1
            else f"its one rule did not match, and end-of-list is {value}"
        )
        if value == "permit":
            p.rule(stage, "permitted", because, note, table=table)
            p.opened_by = f"the end of list {name}"
            return None
        fate = Fate.REJECTED if value == "reject" else Fate.DROPPED
        return _deny(p, stage, End(fate, "filter.end", because, note, _reject(p) if fate is Fate.REJECTED else ""), table)
    rule = found.rule
    because = Because("rule", f"{name} rule {rule.id}", rule.mark, rule.about)
    member = found.member(p.packet)
    if rule.verdict is Verdict.PERMIT:
        p.rule(stage, "permitted", because, member, table=table)
        p.opened_by = f"{name} rule {rule.id}"
        return None
    if rule.verdict is Verdict.REJECT:
        return _deny(p, stage, End(Fate.REJECTED, "filter.rule", because, member, _reject(p)), table)
    return _deny(p, stage, End(Fate.DROPPED, "filter.rule", because, member), table)


def _deny(p: Passage, stage: Stage, end: End, table: ListTable | None = None) -> End:
    """A list's no. For an answer, the want of a session is the true cause where the device keeps any."""
    if p.answering and not p.packet.is_error:
        why = _stateless_note(p)
        end = replace(end, cause="session.none" if p.here.tracked else end.cause, root=why)
    return p.end(stage, "rejected" if end.fate is Fate.REJECTED else "dropped", end, table)


def _reject(p: Passage) -> str:
    if p.packet.is_error or p.packet.flags == "RST":
        return ""
    return "reset" if p.packet.protocol == TCP and p.here.setting("reject-answer")[0] == "reset" else "prohibited"


def ingress(p: Passage) -> End | None:
    """The list attached to the arriving interface."""
    return _filter(p, Stage.INGRESS, "arriving")


def undo_translation(p: Passage) -> End | None:
    """An answer to a translated packet of a protocol without sessions gets its first addresses back."""
    if p.session is not None:
        return None
    found = p.sessions.answering(p.here.name, flow_of(p.packet))
    if found is not None and found.translated:
        saw = p.packet
        p.packet = undo(p.packet, found)
        if p.packet != saw:
            p.rule(
                Stage.UNDO,
                "rewritten",
                Because("translation", f"undo of translation {found.number} of {p.here.name}"),
                f"destination {saw.destination} becomes {p.packet.destination}",
                saw=saw,
            )
    return None


def to_self(p: Passage) -> End | None:
    """A packet for an address of the device itself ends here."""
    own = p.here.own.get(p.packet.destination)
    if own is None:
        return None
    packet = p.packet
    name = own.far.name if own.far else p.here.name
    if p.here.setting("to-self")[0] == "deny":
        return p.end(Stage.TO_SELF, "dropped", End(Fate.DROPPED, "self.closed", setting_because(p.here, "to-self")))
    if p.answering:
        return p.end(
            Stage.TO_SELF,
            "delivered",
            End(Fate.DELIVERED, "answer.arrived", Because("device", f"{name} bears {packet.destination}")),
        )
    if packet.icmp in ECHO_REQUESTS:
        because = setting_because(p.here, "answers-ping")
        if p.here.setting("answers-ping")[0] == "yes":
            return p.end(
                Stage.TO_SELF,
                "delivered",
                End(
                    Fate.DELIVERED,
                    "echo.answered",
                    Because(because.kind, f"{name} answers pings ({because.words})", because.mark),
                    "",
                    "answer",
                ),
            )
        return p.end(
            Stage.TO_SELF,
            "delivered",
            End(Fate.DELIVERED, "echo.ignored", Because(because.kind, f"{name} ignores pings ({because.words})", because.mark)),
        )
    for served in p.here.serves(own):
        if served.service.covers(packet.protocol, packet.slot):
            because = Because("service", f"{name} serves {served.words}", served.mark)
            return p.end(Stage.TO_SELF, "delivered", End(Fate.DELIVERED, "service.open", because, "", "answer"))
    value, mark = p.here.setting("closed-port")
    listens = ", ".join(dict.fromkeys(s.words for s in p.here.serves(own))) or "nothing"
    because = Because(
        "service",
        f"{name} does not listen on {packet.what()}; it serves {listens}",
        mark or (own.far.mark if own.far else p.here.device.mark),
    )
    if value == "refuse" and not (own.far and own.far.silent):
        return p.end(Stage.TO_SELF, "refused", End(Fate.REFUSED, "service.closed", because, "", "refusal"))
    return p.end(
        Stage.TO_SELF, "dropped", End(Fate.DROPPED, "service.silent", because, f"closed-port: {value}" if not own.far else "")
    )


def forwarding(p: Passage) -> End | None:
    """Forwarding is on."""
    if p.here.setting("forwarding")[0] == "no":
        note = f"the packet is for {p.packet.destination}, which is not {p.here.name}"
        return p.end(Stage.FORWARDING, "dropped", End(Fate.DROPPED, "forwarding.off", setting_because(p.here, "forwarding"), note))
    return None


def time_to_live(p: Passage) -> End | None:
    """The TTL is above 1 (RFC 1812 5.3.1), looked at once the route is known (5.2.1.2): no route is told before."""
    if p.packet.ttl <= 1:
        reply = "time-exceeded" if p.here.setting("sends-time-exceeded")[0] == "yes" else ""
        p.leaving = None
        return p.end(
            Stage.TTL,
            "expired",
            End(Fate.EXPIRED, "ttl.expired", Because("device", f"the TTL ran out at {p.here.name}"), "", reply),
        )
    p.packet = p.packet._replace(ttl=p.packet.ttl - 1)
    return None


def from_self(p: Passage) -> End | None:
    """The device's own packets begin here."""
    if p.here.setting("from-self")[0] == "deny":
        return p.end(Stage.FROM_SELF, "dropped", End(Fate.DROPPED, "self.mute", setting_because(p.here, "from-self")))
    return None


SHARING_FIELDS = {
    "source": ("source",),
    "source-destination": ("source", "destination"),
    "flow": ("protocol", "source", "from_port", "destination", "to_port"),
}


def share(packet: Packet, method: str, count: int, device: str) -> int:
    """Which of ``count`` equal members a packet takes at a device.

    The device's name and the stated fields are joined by ``|``; the CRC-32 of that text, modulo the count, is the
    member, counted from 0. So the same packet takes the same member on every machine and in every release of this
    format, and two devices in a row do not choose alike.
    """
    text = "|".join([device, *(str(getattr(packet, name)) for name in SHARING_FIELDS[method])])
    return zlib.crc32(text.encode()) % count


def route(p: Passage) -> End | None:
    """Longest prefix, then preference, then metric, then sharing."""
    destination = p.packet.destination
    found = p.here.table.lookup(destination)
    unreachable = "net-unreachable" if p.here.setting("sends-unreachable")[0] == "yes" else ""
    if found is None:
        cause, because, note = _no_route(p, destination)
        return p.end(Stage.ROUTE, "dropped", End(Fate.DROPPED, cause, because, note, unreachable), routes=p.here.table)
    because = Because("route", found.words() + (f" {found.detail}" if found.detail else ""), found.mark)
    if found.action is not RouteAction.FORWARD:
        silent = found.action is RouteAction.DISCARD
        return p.end(
            Stage.ROUTE,
            "dropped",
            End(
                Fate.DROPPED,
                "route.discard" if silent else "route.unreachable",
                because,
                f"the route says {found.action}",
                "" if silent else unreachable.replace("net", "host"),
            ),
            routes=p.here.table,
        )
    hop, note = pick(p, found)
    p.leaving, p.next_hop = hop.interface, hop.address
    if found.origin == "connected" and not p.packet.is_error and destination in (_network(found, destination), _broadcast(found)):
        return p.end(
            Stage.ROUTE,
            "dropped",
            End(
                Fate.DROPPED,
                "neighbour.silent",
                because,
                f"{destination} is the subnet's own or broadcast address, which no host bears",
            ),
        )
    p.rule(Stage.ROUTE, "routed", because, hop.words() + (f"; {note}" if note else ""), routes=p.here.table)
    return None


def _no_route(p: Passage, destination: Address) -> tuple[str, Because, str]:
    """Why there is no route: a port that is down, a route that waits for something, or none at all."""
    here, table = p.here, p.here.table
    losers = table.losers(destination)
    for loser in losers:
        for hop in loser.route.hops:
            port = _down_port(p, hop)
            if port is not None:
                interface = here.device.interfaces[port]
                state = p.plan.domains.link(here.name, port)
                words = f"{here.name}/{port} is down: {state.why}"
                return "interface.down", Because("interface", words, interface.mark), f"so its {loser.route.words()} is not used"
    if losers:
        route = losers[0].route
        words = f"{here.name} has no route to {destination}: its {route.words()} is {losers[0].why}"
        return "route.none", Because("route", words, route.mark or here.device.mark), ""
    routes = [str(r.prefix) for r in table if r.origin != "local"]
    note = f"it knows {', '.join(routes[:3])}" + (f" and {len(routes) - 3} more" if len(routes) > 3 else "")
    because = Because("device", f"{here.name} has no route to {destination}", here.device.mark)
    return "route.none", because, note if routes else "its route table is empty"


def _down_port(p: Passage, hop: Hop) -> str | None:
    """The interface that a way out needs, when that is down."""
    for interface in p.here.device.interfaces.values():
        named = interface.name == hop.interface
        behind = hop.address is not None and any(a.prefix.holds(hop.address) for a in interface.addresses)
        if (named or behind) and not p.plan.domains.link(p.here.name, interface.name).up:
            return interface.name
    return None


def _network(found: Route, destination: Address) -> Address | None:
    return Address(4, found.prefix.value) if destination.family == 4 and found.prefix.length < 31 else None


def _broadcast(found: Route) -> Address | None:
    prefix = found.prefix
    return Address(4, prefix.span.last) if prefix.family == 4 and prefix.length < 31 else None


def _at(mark: Mark | None) -> str:
    return f" ({mark})" if mark and mark.line else ""


def pick(p: Passage, found: Route) -> tuple[Hop, str]:
    """The member of an equal-cost route that this packet takes, and why."""
    if len(found.hops) == 1:
        return found.hops[0], ""
    method = p.here.setting("sharing")[0]
    number = p.choose(p.here.name, found.hops) if p.choose else None
    why = "chosen for this walk"
    if number is None:
        number = share(p.packet, method, len(found.hops), p.here.name)
        why = f"sharing by {method}"
    others = ", ".join(h.words() for n, h in enumerate(found.hops) if n != number)
    return found.hops[number], f"member {number + 1} of {len(found.hops)}, {why}; also {others}"


def egress(p: Passage) -> End | None:
    """The list attached to the leaving interface."""
    return _filter(p, Stage.EGRESS, "leaving")


def source_translation(p: Passage) -> End | None:
    """Many to one: the leaving interface's address, with a port of its own (RFC 3022 section 2.2)."""
    if p.session is not None:
        if p.session.translated and flow_of(p.packet) == p.session.inner:
            saw, outer = p.packet, p.session.outer
            p.packet = rewrite_source(p.packet, outer.source, outer.from_port)
            p.rule(
                Stage.SOURCE,
                "rewritten",
                Because("session", f"session {p.session.number} of {p.here.name}"),
                f"source {saw.source} becomes {outer.source}",
                saw=saw,
            )
        return None
    table = p.here.translations
    if table is None or p.packet.is_error or p.leaving is None:
        return None
    if not any(c.rule.leaving and p.leaving in c.rule.leaving and not c.rule.disabled for c in table.rules):
        return None
    flow = flow_of(p.packet)
    if p.sessions.answering(p.here.name, flow_of(p.came)) is not None:
        return None
    if p.arriving is None and p.packet.source in p.here.own:
        return None
    found = table.first(p.packet, p.arriving, p.leaving)
    if found is None:
        near = table.near_misses(p.packet, p.arriving, p.leaving)
        note = (
            f"goes out untranslated: translation rule {near[0].id} ({near[0].mark}) misses by {near[0].miss.field}: {near[0].miss.words}"
            if near
            else "goes out untranslated: no translation rule matches"
        )
        if p.here.setting("unmatched-translation")[0] == "drop":
            return p.end(
                Stage.SOURCE,
                "dropped",
                End(Fate.DROPPED, "translation.none", setting_because(p.here, "unmatched-translation"), note),
                table,
            )
        p.rule(Stage.SOURCE, "kept", setting_because(p.here, "unmatched-translation"), note, table=table)
        return None
    address = p.here.source_for(p.leaving, p.packet.source.family)
    because = Because("translation", f"translation rule {found.rule.id} of {p.here.name}", found.rule.mark, found.rule.about)
    if address is None:
        return p.end(
            Stage.SOURCE,
            "dropped",
            End(Fate.DROPPED, "source.none", because, f"{p.leaving} has no IPv{p.packet.source.family} address to translate to"),
            table,
        )
    known = p.sessions.continuing(p.here.name, flow_of(p.came))
    port = (
        known.outer.from_port
        if known
        else p.sessions.free_port(p.here.name, flow, address, p.here.setting("keep-port")[0] == "yes")
    )
    if port is None:
        return p.end(
            Stage.SOURCE, "dropped", End(Fate.DROPPED, "translation.exhausted", because, f"all ports of {address} are taken"), table
        )
    saw = p.packet
    if p.packet.protocol not in (TCP, 17, 132, ICMP, ICMP6):
        port = p.packet.from_port
    p.packet = rewrite_source(p.packet, address, port)
    kind = "identifier" if saw.icmp >= 0 else "port"
    ports = f", {kind} {saw.from_port} kept" if port == saw.from_port else f", {kind} {saw.from_port} becomes {port}"
    p.rule(Stage.SOURCE, "rewritten", because, f"source {saw.source} becomes {address}{ports}", saw=saw, table=table)
    return None


def send(p: Passage) -> End | None:
    """Find who answers for the next hop on the segment, and whether the packet fits (RFC 1191: it is sent undivided).

    A stateful device notes the session.
    """
    assert p.leaving is not None
    link = p.plan.domains.link(p.here.name, p.leaving)
    if not link.up:
        return p.end(
            Stage.SEND,
            "dropped",
            End(
                Fate.DROPPED,
                "interface.down",
                Because("interface", f"{p.here.name}/{p.leaving} is down", p.here.device.interfaces[p.leaving].mark),
                link.why,
                _unreachable(p),
            ),
        )
    domain = p.plan.domains.of(p.here.name, p.leaving)
    target = p.next_hop or p.packet.destination
    answers = [a for a in p.plan.domains.answers(domain, target) if a.device != p.here.name] if domain else []
    if not answers or domain is None:
        segment = p.plan.domains.segment_of(p.here.name, p.leaving)
        where = f"on segment {domain.name}" if domain else "there"
        note = f"nobody {where} answers for {target}"
        owner = p.plan.owner(target)
        if owner is not None:
            note += f"; {owner} bears that address, but is not reached there"
        return p.end(
            Stage.SEND,
            "dropped",
            End(
                Fate.DROPPED,
                "neighbour.silent",
                Because("neighbour", f"{target} does not answer {p.here.name}", segment.mark if segment else None),
                note,
                _unreachable(p),
            ),
        )
    chosen = answers[0]
    cables = p.plan.domains.cables((p.here.name, p.leaving), (chosen.device, chosen.interface))
    mtu = min([p.here.device.interfaces[p.leaving].mtu, *(c.link.mtu for c in cables if c.link.mtu)])
    if p.packet.size > mtu:
        mark = next((c.mark for c in cables if c.link.mtu == mtu), p.here.device.interfaces[p.leaving].mark)
        note = f"the packet has {p.packet.size} bytes, at most {mtu} bytes go out by {p.leaving}, and it may not be divided"
        because = Because("interface", f"the MTU of {p.here.name}/{p.leaving} is {mtu} bytes", mark)
        reply = "too-big" if p.here.setting("sends-unreachable")[0] == "yes" else ""
        return p.end(Stage.SEND, "dropped", End(Fate.DROPPED, "mtu.exceeded", because, note, reply))
    p.latency_ms = sum(c.link.latency_ms for c in cables)
    p.next_device, p.next_interface, p.domain = chosen.device, chosen.interface, domain
    note = f"{chosen.device}/{chosen.interface} answers for {target}" + (" as proxy" if chosen.why == "proxy" else "")
    if len(answers) > 1:
        note += f"; so {'does' if len(answers) == 2 else 'do'} {', '.join(f'{a.device}/{a.interface}' for a in answers[1:])}: which of them gets it is chance"
    if domain.switches:
        note += (
            f"; {', '.join(domain.switches)} only bridge{'s' if len(domain.switches) == 1 else ''} it: no list is examined there"
        )
    p.rule(Stage.SEND, "sent", Because("neighbour", f"{p.leaving} to {chosen.device}"), note)
    _remember(p)
    return None


def _unreachable(p: Passage) -> str:
    return "host-unreachable" if p.here.setting("sends-unreachable")[0] == "yes" else ""


def _remember(p: Passage) -> None:
    """Note a session for a tracked protocol, and a translation for any."""
    if p.session is not None or p.packet.is_error or p.answering:
        return
    inner, outer = flow_of(p.came), flow_of(p.packet)
    tracked = p.packet.protocol in p.here.tracked
    if not tracked and inner == outer:
        return
    if p.sessions.continuing(p.here.name, inner) is not None:
        return
    number = p.sessions.next_number(p.here.name)
    assert p.leaving is not None
    by = p.opened_by or ("its own packet" if p.arriving is None else "no list")
    p.sessions = p.sessions.having(Session(number, p.here.name, inner, outer, p.arriving, p.leaving, tracked, by))


STAGES: dict[Stage, Callable[[Passage], End | None]] = {
    Stage.ARRIVE: arrive,
    Stage.SESSION: session,
    Stage.INGRESS: ingress,
    Stage.UNDO: undo_translation,
    Stage.TO_SELF: to_self,
    Stage.FORWARDING: forwarding,
    Stage.FROM_SELF: from_self,
    Stage.TTL: time_to_live,
    Stage.ROUTE: route,
    Stage.EGRESS: egress,
    Stage.SOURCE: source_translation,
    Stage.SEND: send,
}
