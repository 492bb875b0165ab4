"""The words of every reason: one entry for each code of ``plan/reasons.py``.

Plain templates name the values of their code; where a plural or a choice is needed there is a function. This is the only
place where what the engine knows becomes a sentence, and nothing reads one back.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from mossy_compass.headers.spans import as_text
from mossy_compass.model.durations import duration_words
from mossy_compass.model.network import LAST_RESORT, Candidate, Kind
from mossy_compass.packet.address import Prefix
from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import WITH_PORTS, protocol_name
from mossy_compass.plan.conditions import Condition, Miss
from mossy_compass.plan.facts import Direction, Relation
from mossy_compass.plan.ids import TableId, TableKind
from mossy_compass.plan.reasons import Because

if TYPE_CHECKING:
    from mossy_compass.plan.reasons import Values


def because(reason: Because) -> str:
    """A reason in a few words."""
    template = WORDS[reason.code]
    return template.format(**reason.named) if isinstance(template, str) else template(reason.named)


def _default(v: Values) -> str:
    """A setting that nobody wrote."""
    return f"{v['name']}: {v['value']}, the default of {Kind(v['kind']).words}"


def opened_by(table: TableId, row: str, own: bool) -> str:
    """What let the opening packet of a session pass."""
    if own:
        return "its own packet"
    name = table.name if table.kind is TableKind.LIST else str(table)
    if not table:
        return "no list"
    if table.kind is TableKind.OFFERS:
        return f"what it offers on {table.name}: {row}"
    if table.kind in (TableKind.BUILT_IN, TableKind.DEFAULT):
        return f"built-in rule {row}" if table.kind is TableKind.BUILT_IN else f"{row}: permit"
    return f"the end of list {name}" if row == "end-of-list" else f"{name} rule {row}" if row else f"list {name}, which is empty"


def _session(v: Values) -> str:
    """A session with what let its first packet pass."""
    return f"session {v['number']} of {v['device']}, opened under {opened_by(v['table'], v['row'], v['own'])}"


def route(origin: str, prefix: Prefix) -> str:
    """``static route 10.40.0.0/13``, or ``default route (static)``."""
    return f"default route ({origin})" if prefix.is_default else f"{origin} route {prefix}"


def _ping(v: Values) -> str:
    """Whether a device answers pings, and by what."""
    verb = "answers" if v["value"] == "yes" else "ignores"
    kind = f", the default of {Kind(v['kind']).words}" if v["kind"] else ""
    return f"{v['name']} {verb} pings (answers-ping: {v['value']}{kind})"


def _closed(v: Values) -> str:
    """Nothing listens, and what listens instead."""
    return f"{v['name']} does not listen on {v['packet'].what()}; it serves {', '.join(v['served']) or 'nothing'}"


def _list_names(protocols: Sequence[int]) -> str:
    """Names of protocols, in a row."""
    return ", ".join(sorted(protocol_name(p) for p in protocols))


def _members(v: Values) -> str:
    """The way through groups to the member that holds an address."""
    return ", ".join(f"{key} {name} ({', '.join(rest)})" for key, name, *rest in v["members"])


def _end(v: Values) -> str:
    """The end of a list, which denies what nothing before it permitted."""
    value, examined = v["value"], v["examined"]
    if v["lists_asked"] > 1:
        return f"none of the {examined} rules of {v['lists_asked']} lists matched, and end-of-list is {value}"
    if examined == 1:
        return f"its one rule did not match, and end-of-list is {value}"
    return f"none of its {examined} rules matched, and end-of-list is {value}"


def relation(value: Relation) -> str:
    """What a packet is to its session."""
    return {
        Relation.CONTINUING: "a further packet of it",
        Relation.ANSWERING: "it is the answer",
        Relation.RELATED: "the error is about its packet",
    }.get(value, value.value)


def _expected(v: Values) -> str:
    """A second channel that was announced."""
    channel = f"{protocol_name(v['protocol'])} {_at_end(v['inner'], v['inner_port'])}"
    return f"the announcement of {channel} in session {v['number']} of {v['device']}, which its helper {v['helper']} read"


def _at_end(address: object, port: int) -> str:
    """An address with a port."""
    return f"[{address}]:{port}" if ":" in str(address) else f"{address}:{port}"


def _heard(v: Values) -> str:
    """What is expected by now, and what the other end is told."""
    same = v["told"] == v["told_on"]
    return f"expects {v['opener']} to open {v['told']}" + ("" if same else f", and tells it {v['told_on']} instead")


def _unread(v: Values) -> str:
    """Why a device did not read an announcement."""
    return (
        f"its helpers do not name {v['helper']}" if v["helper"] else "no service is written that expects: what follows on this one"
    )


def _no_more(v: Values) -> str:
    """Why a device does not expect what was announced, though it read of it."""
    return {
        "over": f"{v['device']} expects what is announced for {v['value']} (announced-for), and that is over",
        "once": f"{v['device']} let it be opened once, as it was announced",
        "other": f"{v['device']} expects it of {v['value']} alone",
        "kind": f"{v['device']} read the announcement, and does not believe it",
    }[v["why"]]


def _not_heard(v: Values) -> str:
    """Why an announcement is not believed."""
    why = {
        "who": "this end may announce nothing in it",
        "whose": f"it is not the address of its sender, {v['heard_from']}",
        "over": "a second channel of it is none of that kind",
    }
    return f"the helper does not expect {v['told']}, which is announced: {why[v['why']]}"


def _session_note(v: Values) -> str:
    """What was remembered of a packet."""
    return f"{relation(v['relation'])}; the lists are passed over"


def _no_session(v: Values) -> str:
    """Why an answer has no session that it could belong to."""
    if v["flags"] == "fragment":
        return "a later fragment carries no ports, so nobody can tell which session it belongs to"
    return f"this {v['flags'] or 'TCP'} packet belongs to no session there: the opening packet did not pass {v['device']}"


def _rewrite(v: Values) -> str:
    """What became of an address and a port."""
    half, before, after = v["half"], v["packet_before"], v["packet_after"]
    if half == "source":
        words = f"source {before.source} becomes {after.source}" if before.source != after.source else f"source {before.source}"
        return words + _port_words("identifier" if before.icmp >= 0 else "port", before.from_port, after.from_port, v["allocated"])
    same = before.destination == after.destination
    words = f"destination {before.destination}{' stays' if same else f' becomes {after.destination}'}"
    return words + _port_words("port", before.to_port, after.to_port, False)


def _port_words(kind: str, before: int, after: int, told: bool) -> str:
    """What became of a port, when that must be told."""
    if before == after:
        return f", {kind} {before} kept" if told else ""
    return f", {kind} {before} becomes {after}"


def _untranslated(v: Values) -> str:
    """A packet that no translation rule matched, and which rule nearly did."""
    if not v["row"]:
        return "goes out untranslated: no translation rule matches"
    key, words = miss_words(v["misses"][0])
    place = f" ({v['mark']})" if v["mark"] and v["mark"].line else ""
    if key == "disabled":
        return f"goes out untranslated: translation rule {v['row']}{place} is disabled"
    return f"goes out untranslated: translation rule {v['row']}{place} misses by {key}: {words}"


def _way(v: Values) -> str:
    """Which of the equal ways was taken, and by what."""
    hop = v["hop"]
    if v["count"] == 1:
        return hop.words()
    why = f"sharing by {v['method']}" if v["method"] else "chosen for this walk"
    others = ", ".join(h.words() for h in v["others"])
    return f"{hop.words()}; member {v['member']} of {v['count']}, {why}; also {others}"


def _no_tunnel(v: Values) -> str:
    """That an outer packet fits no tunnel of a device, with those that there are."""
    known = "; ".join(f"{name} ({kind}) is between {own} and {to}" for name, kind, own, to in v["known"])
    return f"no tunnel of {v['device']} takes {v['packet']}: {known}"


def candidate(entry: Candidate) -> str:
    """A policy route's candidate, as it was written."""
    if entry.discard:
        return "discard"
    if entry.table:
        return f"table {entry.table}"
    if entry.uplink:
        return f"uplink {entry.uplink}"
    parts = [f"next hop {entry.next_hop}"] if entry.next_hop else []
    return " ".join([*parts, *([f"by {entry.leaving}"] if entry.leaving else [])])


_PASSED = {
    "down": "its interface is down",
    "silent": "nobody answers for it",
    "not connected": "it is on no connected subnet",
    "no route": "it has no route there",
    "leaves": "its route leaves the table",
    "probe": "its probe is down",
    "waits": "the last resort that it waits for is not in use",
    "family": "it is of the other family",
}


def _passed(passed: Sequence[tuple[Candidate, str]]) -> str:
    """Candidates that could not be taken, each with its reason."""
    return "; ".join(f"{candidate(c)} is not available: {_PASSED[why]}" for c, why in passed)


def _steered(v: Values) -> str:
    """A way that was chosen by a policy route, not by the route table."""
    way, passed = v["steered_by"], v["passed"]
    return because(way) + (f"; {_passed(passed)}" if passed else "")


def _no_candidate(v: Values) -> str:
    """A policy route none of whose candidates can be taken."""
    return (
        f"no candidate is available ({_passed(v['passed'])}), so the route table decides"
        if v["passed"]
        else "the route table decides"
    )


def _known_routes(v: Values) -> str:
    """The routes that come nearest, where none leads to an address."""
    if not v["prefixes"]:
        return "its route table is empty"
    more = f" and {v['left_out']} more" if v["left_out"] else ""
    return f"it knows {', '.join(map(str, v['prefixes']))}{more}"


def _nobody(v: Values) -> str:
    """Nobody answers for a next hop, and why that is."""
    where = f"on segment {v['segment']}" if v["segment"] else "there"
    owner = f"; {v['owner']} has that address, but is not reached there" if v["owner"] else ""
    return f"nobody {where} answers for {v['address']}{owner}"


def _sent(v: Values) -> str:
    """Who got the packet, and over which segment."""
    words = f"{v['device']}/{v['port']} answers for {v['address']}" + (" as proxy" if v["proxy"] else "")
    others, switches = ["/".join(o) for o in v["claimants"]], v["switches"]
    if others:
        words += f"; so {'does' if len(others) == 1 else 'do'} {', '.join(others)}: nobody can say which of them gets it"
    if switches:
        bridges = f"bridge{'s' if len(switches) == 1 else ''}"
        words += f"; {', '.join(switches)} only {bridges} it: no list is examined there"
    return words


def _loop_note(v: Values) -> str:
    """Where the circle closes."""
    return "; ".join(f"{device}: {reason.cited()}" for device, reason in v["routes"]) + f"; the TTL runs out at {v['device']}"


def _route_inactive(v: Values) -> str:
    """Why a route is not used."""
    return f"{v['device']} has no route to {v['destination']}: its {route(v['origin'], v['prefix'])} is {v['why']}"


def _taken(v: Values) -> str:
    """A route that was taken, where that is the matter and not how it is known."""
    return "default route" if v["taken"].is_default else route(v["taken_origin"], v["taken"])


def _stood_in(v: Values) -> str:
    """A route that was taken only because another is inactive."""
    return f"{v['device']} takes its {_taken(v)}, since its {route(v['origin'], v['prefix'])} is inactive: {v['why']}"


def _no_opening(v: Values) -> str:
    """Why a packet opens nothing."""
    return f"{v['device']} saw no opening packet of this {protocol_name(v['protocol'])} flow, so the answer has no session"


def _not_inspected(v: Values) -> str:
    """A protocol that a device does not keep sessions of."""
    name = protocol_name(v["protocol"])
    return f"{name} is not inspected there (stateful: {_list_names(v['protocols'])}), so the answer has no session"


def _inspected_elsewhere(v: Values) -> str:
    """A protocol of which sessions are kept where other interfaces open them."""
    way = f"arrives by {v['arriving']}" + (f" and leaves by {v['leaving']}" if v["leaving"] else "")
    name = protocol_name(v["protocol"])
    return f"{name} that {way} is not inspected (stateful: {', '.join(v['places'])}), so the answer has no session"


def _wrong(v: Values) -> str:
    """What stands between a packet and a row that nearly matched."""
    misses = [miss_words(m, v["packet"]) for m in v["misses"]]
    if [key for key, _ in misses] == ["disabled"]:
        return "but it is disabled"
    keys = " and ".join(key for key, _ in misses)
    return f"if its {keys} matched: " + "; and ".join(words for _, words in misses)


def _near(v: Values) -> str:
    """The rules that nearly matched, and what stood in the way."""
    return f"{v['list']} rule {v['row']}{{place}} would permit it, {_wrong(v)}"


def _near_translation(v: Values) -> str:
    """The translation rule that nearly matched, and what stood in the way."""
    return f"translation rule {v['row']} of {v['device']}{{place}} would send it on, {_wrong(v)}"


def packet_kind(packet: Packet) -> str:
    """What a packet that came home is."""
    if packet.flags:
        return {"SYN-ACK": "a SYN-ACK", "RST": "a reset"}.get(packet.flags, packet.flags)
    what = packet.what()
    if what in ("icmp/echo-reply", "icmp6/echo-reply"):
        return "an echo reply"
    return f"ICMP {what.partition('/')[2]}" if packet.icmp >= 0 else "an answer"


def _lost(v: Values) -> str:
    """Where and how a packet was lost, when that is told of another leg."""
    what = "refusal" if v["answer"] else "error message"
    return f"the {what} is lost on its way home at {v['end']}: {v['reason'].cited()}"


def _nowhere(v: Values) -> str:
    """Which uplink lacks the rule, where that can be told."""
    words = f"private source {v['source']} was translated nowhere"
    if v["unswitched"]:
        return f"{words}: {v['unswitched']} let it pass at {v['device']}, and does not say translate"
    return f"{words}: {v['device']} has no rule for what leaves by {v['uplink']}" if v["uplink"] else words


def idle(where: tuple[str, ...]) -> str:
    """Why a list was not examined: attached nowhere, or the wrong way round."""
    if not where:
        return "is attached nowhere"
    device, interface, way = where
    sees, passes = ("leaves", "arrives") if way == "leaving" else ("arrives", "leaves")
    return f"is attached to what {sees} by {device}/{interface}, and this packet {passes} there"


def _other(v: Values) -> str:
    """Another leg of the same journey, in half a sentence."""
    answer, question = v["packet"], v["question"]
    if answer.source != question.destination:
        return f"the answer comes from {answer.source}, and the question went to {question.destination}"
    return f"the answer ({answer}) is not the reverse of the question ({question})"


def _no_rule(v: Values) -> str:
    """Between which interfaces no rule decided."""
    into = f" and leaves by {v['into']}" if v["into"] else " for the device itself"
    return f"no rule decided about what comes by {v['origin']}{into}"


def _profile(v: Values) -> str:
    """Whose lists were asked, and what else there is to say."""
    return f"lists of profile {v['profile']}" + (f"; {because(v['more'])}" if v["more"] else "")


def _application_later(v: Values) -> str:
    """Rules that could not decide yet."""
    rows = ", ".join(f"{name} rule {row}" for name, row in v["rows"])
    words = f"{rows} could not decide: the application is known from packet {v['number']} on"
    return words + (f"; {because(v['more'])}" if v["more"] else "")


def _recalled(v: Values) -> str:
    """Why a session that was let in ends."""
    names = "/".join(v["names"])
    return f"packet {v['number']} shows that the flow is {names}; session {v['session']} of {v['device']} is judged again, and ends"


def _built_in_rows(v: Values) -> str:
    """The built-in rules that did not let a packet pass."""
    rows = ", ".join(name if on else f"{name} (off)" for name, on in v["switched"])
    return f"the built-in rules did not match: {rows}"


def _unlearned(v: Values) -> str:
    """A rule by name that has no address to compare with."""
    names = ", ".join(v["names"])
    how = "no lookup of it has passed there" if v["learns"] else "neither names: nor a resolver of it knows it"
    return f"{v['list']} rule {v['row']} waits for an address of {names}, and {v['device']} knows none: {how}"


def _unlearned_deny(v: Values) -> str:
    """A deny by name that stopped nothing."""
    return f"{_unlearned(v)}, so it stopped nothing"


def _before_translation(v: Values) -> str:
    """A destination rule that comes after the list that stopped a packet."""
    address = v["address"] if v["address"].family == 4 else f"[{v['address']}]"
    becomes = f"{address}:{v['to_port']}" if v["protocol"] in WITH_PORTS else str(v["address"])
    return f"translation rule {v['row']} of {v['device']} would turn it into {becomes}; this list is asked before that, so it must permit the address as it comes"


def _on_link(v: Values) -> str:
    """A route without a next hop, whose destination nobody on the segment has."""
    more = "" if v["peer"] else ", or say interface-route: peer"
    return f"the route names no next hop, so {v['device']} asks for {v['destination']} itself by {v['port']}: name one{more}"


_PASSES = {"arriving": "arrives", "leaving": "leaves"}


def _wrong_side(v: Values) -> str:
    """A list that stands where what its rules are about does not pass."""
    instead = ", or to ".join(f"what {_PASSES[way]} by {port}" for way, port in v["instead"])
    place = f"list {v['list']} is attached to what {_PASSES[v['way']]} by {v['device']}/{v['port']}"
    return f"{place}, and the {v['whose']} of its rules live behind {v['behind']}: was it meant for {instead}?"


def _passed_candidate(v: Values) -> str:
    """A policy route whose first choice was not to be had."""
    went = f"so it left {v['left_by'].words()}" if v["left_by"] is not None else "so the route table decided"
    return f"policy route {v['row']} of {v['device']}: {_passed(v['passed'])}, {went}"


ENDED = {
    "expired": "expired",
    "closed": "was closed by both ends",
    "reset": "was reset",
    "cleared": "was cleared",
    "recalled": "was ended by a rule that was asked again",
    "replaced": "was replaced by another with the same ends",
    "interface lost": "ended, as its interface is gone,",
    "address lost": "ended, as one of its addresses is gone,",
    "moved": "moved to another uplink",
}
"""How a session ended, in a sentence about it."""


def _gone(v: Values) -> str:
    """The session that a packet would have belonged to."""
    ago = f"{duration_words(v['ago'])} ago" if v["ago"] else "just now"
    lived = f" ({v['name']}: {v['value']})" if v["name"] else ""
    return f"session {v['number']} of {v['device']} {ENDED[v['why']]} {ago}{lived}"


def _phase(v: Values) -> str:
    """What came, and what the session is."""
    what = {"SYN": "a SYN", "SYN-ACK": "a SYN-ACK", "ACK": "data", "FIN": "a FIN", "RST": "a reset"}.get(v["flags"], v["flags"])
    whose = "who opened it" if v["direction"] is Direction.FORTH else "who answers it"
    expects = {"opening": "no answer to its SYN has passed", "answered": "nobody has acknowledged the SYN-ACK"}
    seen = expects.get(v["phase"].value, f"it is {v['phase'].value}")
    return f"session {v['number']} of {v['device']} does not expect {what} from {whose} now: {seen}"


def _holders(v: Values) -> str:
    """Who holds the places of a full table."""
    return f"{v['number']} are taken, most by {', '.join(f'{a} ({n})' for a, n in v['holders'])}"


WORDS: dict[str, str | Callable[[Values], str]] = {
    "rule": "{list} rule {row}",
    "rule.built-in": "built-in rule {row} of {device}",
    "offer": "{device} offers {word} on {port}",
    "offer.none": lambda v: f"{v['device']} offers {', '.join(v['offered']) or 'nothing'} on {v['port']}",
    "fragment": "{name} waits for the first fragment",
    "list.end": "the end of list {list}",
    "list.empty": "list {list} is empty, empty-list: {value}",
    "setting": "{name}: {value}",
    "default": _default,
    "session": _session,
    "session.known": "session {number} of {device}",
    "session.expected": _expected,
    "helper": "helper {name} of {device}",
    "session.kept": lambda v: f"{v['device']} keeps sessions of {_list_names(v['protocols'])}",
    "session.judged": lambda v: f"session {v['number']} of {v['device']}, judged again after a change of its {v['what']}, ends",
    "session.gone": _gone,
    "mapping": "mapping {number} of {device} ({outer}:{outer_port} for {inner}), filtering: {value}",
    "translation": "translation rule {row} of {device}",
    "translation.hairpin": "translation rule {row} of {device}, since its outer address was asked from inside",
    "translation.switch": "the switch translate of rule {row} of '{name}' at {device}",
    "session.strays": "session {number} of {device}, which left by {left} before, and has the address of that",
    "translation.undo": "undo of translation {number} of {device}",
    "policy": "policy route {row} of {device}",
    "policy.unavailable": "policy route {row} of {device} says drop where no candidate is available",
    "rule.uplink": "the uplink of rule {row} of '{list}'",
    "policy.discard": "policy route {row} of {device} says discard",
    "policy.ended": lambda v: f"policy route {v['row']} of {v['device']} asked a table whose {because(v['route'])} decides",
    "route": lambda v: route(v["origin"], v["prefix"]),
    "route.none": "{device} has no route to {destination}",
    "route.inactive": _route_inactive,
    "neighbour": "{leaving} to {device}",
    "neighbour.silent": "{address} does not answer {device}",
    "interface.down": "{device}/{port} is down: {why}",
    "cable.mtu": "the cable {cable} takes at most {mtu} bytes",
    "interface.mtu": "the MTU of {device}/{port} is {mtu} bytes",
    "service": "{name} serves {words}",
    "waits": lambda v: f"{v['name']} waits on {protocol_name(v['protocol'])}/{v['to_port']}, as it announced",
    "service.closed": _closed,
    "ping.answered": _ping,
    "ping.ignored": _ping,
    "address.own": "{name} has {address}",
    "address.link-local": "{key} {address} is link-local",
    "address.special": "{key} {address} is {what}",
    "ttl": "the TTL ran out at {device}",
    "loop": lambda v: f"{' > '.join(v['path'])} in a circle",
    "walk.limit": "no end after {number} {what}: broken off",
    "selector": "selector {row} of tunnel {name} of {device}",
    "tunnel": "tunnel {name} of {device}",
    "tunnel.end": "tunnel {name} of {device} ends there",
    "tunnel.none": _no_tunnel,
    "tunnel.recursion": "the outer packets of tunnel {name} of {device} would go into that tunnel again, and so on without end",
    "tunnel.selector": "what came through tunnel {name} of {device} is not between the ends that its selectors protect",
    "exchange.taken": "tunnel {name} of {device} exchanges keys with it",
    "exchange.proposals": lambda v: (
        f"{v['device']} and {v['other']} have no proposal in common: {', '.join(v['ours'])} there, {', '.join(v['theirs'])} here"
    ),
    "exchange.selectors": "tunnel {name} of {device} protects nothing between {destination}, which is its own end, and {source}",
    "association.made": lambda v: (
        f"association {v['number']} of tunnel {v['name']} is made with {v['other']} ({v['to']}, keys exchanged"
        f"{', within UDP as an address is translated between them' if v['to_port'] else ''})"
    ),
    "association.none": "no selector of tunnel {name} of {device} protects {source} to {destination}, so there is no association for it",
    "association.unknown": "{other} has no association {number}, by which {device} sends into tunnel {name}",
    "association.by-hand": "tunnel {name} of {device} has its keys by hand, and its other end {other_name} of {other} exchanges them",
    "tunnel.path-mtu": "tunnel {name} of {device} has learned that at most {mtu} bytes go in",
    "tunnel.clear": "selector {row} of tunnel {name} of {device} protects this, and it came in the clear",
    "unasked": "{name} asked nothing that this answers",
    "answer.elsewhere": "the answer ended at {name}, which has {address} too",
    "answer.other": _other,
    "name.none": "no record for '{target}', and {sender} has no resolver to ask",
    "name.no-resolver": "{sender} asks no resolver, so it cannot find {target}, which {knowing} knows",
    "name.no-record": "{resolver} has no record for '{target}'",
    "address.none": "{sender} has no IPv{family} address",
    "host.off": "{name} is off",
    "address.unleased": "{target} has no address yet, and nobody can send to it",
    "note.member": _members,
    "note.list": "list {list}, {where} at {device}/{port}, has no rule",
    "note.no-rule": _no_rule,
    "note.profile": _profile,
    "note.other-names": lambda v: (
        f"{v['address']} is also {', '.join(v['names'])}: the rule is about the address, so about those too"
    ),
    "note.application-later": _application_later,
    "note.recalled": _recalled,
    "note.built-in": _built_in_rows,
    "note.front": "translation rule {row} sent it on",
    "note.no-list": "no list is attached {where} at {device}/{port}",
    "note.end": _end,
    "note.source.own": "source {source} is {device} itself: it has been sent round in a circle, or forged",
    "note.source.route": "source {source} is not plausible: its route leaves by {leaving}, not by {arriving}",
    "note.source.none": "source {source} is not plausible: no route leads there",
    "note.for-another": "the packet is for {destination}, which is not {device}",
    "note.link-local": "it means something on its own segment alone, and no router passes it on",
    "note.special": "no single host can have it, so nobody could be answered",
    "note.session": _session_note,
    "note.no-session": _no_session,
    "note.judged": lambda v: f"its opening packet would meet {because(v['reason'])} now",
    "note.phase": _phase,
    "note.interface": "session {number} of {device} has its packets by {wanted}, and this one came by {port}",
    "note.holders": _holders,
    "note.closed-port": "closed-port: {value}",
    "note.rewrite": _rewrite,
    "note.heard": _heard,
    "note.not-heard": _not_heard,
    "note.untranslated": _untranslated,
    "note.no-address": "{leaving} has no IPv{family} address to translate to",
    "note.ports-taken": "all ports of {address} are taken",
    "note.clash": "another flow from {source} to {destination} with the same ports is under way there",
    "note.way": _way,
    "note.steered": _steered,
    "note.action": "the route says {action}",
    "note.subnet-end": "{destination} is the subnet's own or broadcast address, which no host has",
    "note.route-not-used": lambda v: f"so its {route(v['origin'], v['prefix'])} is not used",
    "note.known-routes": _known_routes,
    "note.nobody": _nobody,
    "note.mtu-between": "the packet has {size} bytes, and a switch that cannot send it on drops it and tells nobody",
    "note.mtu": "the packet has {size} bytes, at most {mtu} bytes go out by {port}, and it may not be divided",
    "note.sent": _sent,
    "note.candidate": lambda v: _passed(v["passed"]),
    "note.entered": "leads into tunnel {name}",
    "note.bypass": "goes past tunnel {name}, as its selector says",
    "note.as-opened": lambda v: (
        f"as {'no list stood there' if v['none'] else 'it was'} when association {v['number']} of tunnel {v['name']} was made"
    ),
    "note.divided": "{size} bytes go on in pieces of at most {mtu}",
    "note.tunnelled": "goes on within {kind} to {to}",
    "root.moved": "session {number} of {device} moved from {before} to {now}, so that the far end sees another address (flows-of-a-lost-uplink: move)",
    "note.moved": "session {number} left by {before} before, and moves to {now}: it is translated anew",
    "note.strays": "session {number} left by {before} before, with an address of that, and would leave by {now}",
    "note.exit-down": "{port}, by which session {number} was opened, is down, so routes decide",
    "note.exit-unknown": "nothing leads back by {port}, by which session {number} was opened, so routes decide",
    "note.no-candidate": _no_candidate,
    "note.loop": _loop_note,
    "note.not-asked": lambda v: f"{packet_kind(v['packet'])} from {v['source']} that belongs to no conversation there",
    "note.lease": "no lease for {device}/{port}: {why}",
    "note.known-names": "{hint}",
    "root.not-inspected": _not_inspected,
    "root.inspected-elsewhere": _inspected_elsewhere,
    "root.no-opening": _no_opening,
    "root.unread": lambda v: f"{v['device']} did not read the announcement: {_unread(v)}",
    "root.astray": lambda v: f"{v['device']} translated who announced {v['told']}, and not what it told: {_unread(v)}",
    "root.expected-no-more": _no_more,
    "root.other-exit": "session {number} of {device} was opened by {came}, and its answer left there by {left}",
    "root.unlearned": _unlearned,
    "root.in-clear": lambda v: (
        f"{v['device']} translated source {v['source_before']} to {v['source_now']} before {because(v['selector'])} was asked, so it goes out in the clear"
    ),
    "root.gone": lambda v: f"it belonged to a session: {because(v['reason'])}",
    "root.stateless": "{device} keeps no sessions, so answers need a rule of their own",
    "root.exempt": "private source {source} left {device} as it is, by translation rule {row} (becomes: exempt)",
    "root.untranslated": "private source {source} left {device} untranslated",
    "root.translated-nowhere": _nowhere,
    "root.out-again": "{device} sends the answer back out of {port}, by which it came in: it has no route to {destination} but the default",
    "root.inactive": _stood_in,
    "root.down": "{device}/{port} is down: {why}",
    "root.stranded": lambda v: (
        f"{v['owner']} has {v['address']} on segment {v['segment']}, and {v['device']}/{v['port']} there has {v['held']}"
        if v["device"]
        else f"no router is on segment {v['segment']}, where {v['owner']} has {v['address']}"
    ),
    "root.by-hand": "tunnel {name} of {device} has its keys by hand, and exchanges none",
    "root.unannounced": "{device} speaks {protocol_name}, and does not announce {prefix} of {port} by it",
    "root.unheard": "{device} hears no router, and is heard by none, as {port} is down: {why}",
    "root.strangers": "{device} has no route to {destination} but the default, which leads to strangers",
    "root.parted": lambda v: (
        f"{v['device']} leads it to {v['onto']} by its {_taken(v)}, and the packet there came without {v['onto']}"
    ),
    "root.turned-back": lambda v: f"{v['device']} leads it back to {v['back_to']} by its {_taken(v)}",
    "root.off-link": "{owner} has {address} on the same segment {segment}, but {device} has {held} and asks its gateway",
    "root.unled": "no route leads {address}, which translation rule {row} gives, to {device}",
    "root.cut-off": "{prefix} is cut off, since the connected route of {device} is inactive: {why}",
    "told.filtering-off": lambda v: (
        f"{', '.join(v['lists'])} with {v['rules']} rules stand everywhere on {v['device']}, and are switched off"
    ),
    "told.unlogged": lambda v: (
        f"nothing is logged of this: {'the end of list ' + v['list'] if v['row'] == 'end-of-list' else v['list'] + ' rule ' + v['row']} has no log"
    ),
    "near.built-in": "built-in rule {row} of {device} would permit it, and is switched off (built-in: {row}: no)",
    "told.before-translation": _before_translation,
    "told.fault": "{message} {remedy} [{code}]",
    "told.on-link": _on_link,
    "told.wrong-side": _wrong_side,
    "told.passed-candidate": _passed_candidate,
    "told.no-time": "{list} rule {row} is for {hours}, and no time was given: say when, with --at",
    "told.as-opened": lambda v: (
        f"it met {'no list, as none stood there' if v['none'] else 'the lists as they were'} when association {v['number']} of tunnel {v['name']} "
        f"was made: clear {v['device']}, and what is written now takes effect"
    ),
    "told.default-kept": "{device} has a default route, and does not announce it by {protocol_name} (default-route)",
    "told.leases": "{device} leases addresses by {port}, on segment {segment}",
    "told.down": "{device}/{port} is down: {why}",
    "told.default-lost": lambda v: (
        f"{v['device']} would announce a default route, and its {route(v['origin'], v['prefix'])} is inactive: {v['why']}"
    ),
    "told.sent-on": "translation rule {row} of {device} sends it to {address}",
    "told.beside": lambda v: f"on that segment {' and '.join(f'{name} has {address}' for name, address in v['beside'])}",
    "told.path-mtu": lambda v: (
        f"{v['device']} is told so, and remembers for 10 min that at most {v['mtu']} bytes go into tunnel {v['name']}: the next sender learns of it"
        if v["setting"] == "learn"
        else f"{v['device']} is told so, and takes no notice for tunnel {v['name']} (path-mtu: {v['setting']})"
    ),
    "told.path-mtu-lost": "the error that would tell {device} so of tunnel {name} is lost at {where}: {reason}. So nobody learns of it",
    "told.inactive": _stood_in,
    "near": _near,
    "near.translation": _near_translation,
    "near.below": "{list} rule {row}{{place}} further down would permit it",
    "said.packet": lambda v: f"{packet_kind(v['packet'])} from {v['packet'].source}",
    "said.onward": "{device}, which asked onward in its own name, sees {symptom}",
    "said.lost": _lost,
    "said.own-system": "{device}'s own system says so",
    "said.later": "the first packets are answered, and nothing after packet {number}",
    "said.not-sent": "no packet left",
    "although.unlearned": _unlearned_deny,
    "although.duplicate": "{name} has {address} too: it was given twice",
    "although.rule": lambda v: f"list {v['list']} rule {v['row']} would {v['verdict']} it: {v['list']} {idle(v['idle'])}",
    "although.end": lambda v: f"the end of list {v['list']} would deny it: {v['list']} {idle(v['idle'])}",
}
"""A template or a function for each code."""


def spoken(reason: Because) -> str:
    """The words of a reason whose words hold their own place: ``visitors-in rule 10 (file:line) would permit it``."""
    place = f" ({reason.mark})" if reason.mark and reason.mark.line else ""
    return because(reason).replace("{place}", place)


# --- why a row was passed over -----------------------------------------------------------------------------------


def miss_words(miss: Miss, packet: Packet | None = None) -> tuple[str, str]:
    """The key of an unmet condition, and what it wants beside what the packet has."""
    if miss.key == "list":
        name, rule = miss.has
        return "list", f"rule {rule} of list {name} refuses it" if rule else f"no rule of list {name} permits it"
    if miss.condition is None:
        return "disabled", "the rule is disabled"
    made = MISS_WORDS.get(miss.key, _plain_miss)
    return miss.key, made(miss.condition, miss.has, packet)


def _plain_miss(condition: Condition, has: Any, packet: Packet | None) -> str:
    """A condition that has no words of its own."""
    return f"wants {', '.join(condition.wants)}, the packet has {has}"


def _protocol_miss(condition: Condition, has: int, packet: Packet | None) -> str:
    """Another protocol; the number above the port's bits is the packet's."""
    return f"wants {protocol_name(int(condition.wants[0]))}, the packet is {protocol_name(has >> 17)}"


def _service_miss(condition: Condition, has: int, packet: Packet | None) -> str:
    """Another service of the same protocol, or of another."""
    shown = packet.what() if packet else protocol_name(has >> 17)
    return f"wants {', '.join(condition.wants)}, the packet is {shown}"


def _address_miss(condition: Condition, has: int, packet: Packet | None) -> str:
    """An address outside of what was wanted; the wanted ones by the names that were written."""
    from mossy_compass.packet.address import from_key

    words = ", ".join(condition.wants)
    terms = condition.terms
    if len(terms) == 1 and terms[0].spans and terms[0].words[0].isalpha() and terms[0].words not in BUILT_IN_WORDS:
        words = f"{words} ({as_text(terms[0].spans, 2)})"
    return f"{from_key(has)} is not in {words}"


def _port_miss(condition: Condition, has: int, packet: Packet | None) -> str:
    """Another source port, or a packet that has none."""
    return f"wants {', '.join(condition.wants)}, the packet has {has if has >= 0 else 'no ports'}"


def _opening_miss(condition: Condition, has: object, packet: Packet | None) -> str:
    """A packet that opens nothing."""
    return "wants a packet that opens a session, this one does not"


def _state_miss(condition: Condition, has: Relation, packet: Packet | None) -> str:
    """Another relation to the device's sessions."""
    shown = {"opening": "new", "expected": "related"}.get(str(has), str(has))
    return f"wants {', '.join(condition.wants)}, this packet is {shown}"


def _fragments_miss(condition: Condition, has: object, packet: Packet | None) -> str:
    """A whole packet, or a first fragment."""
    return "wants later fragments, this packet has its ports"


def _hours_miss(condition: Condition, has: frozenset[str], packet: Packet | None) -> str:
    """No window is open."""
    return f"wants {', '.join(condition.wants)} to be open, and it is not"


def _application_miss(condition: Condition, has: frozenset[str], packet: Packet | None) -> str:
    """Another application, or one that is not known yet."""
    return f"wants {', '.join(condition.wants)}, the flow is {'/'.join(sorted(has)) if has else 'of no application that is known by now'}"


def _name_miss(condition: Condition, has: object, packet: Packet | None) -> str:
    """The device knows the destination by no such name."""
    wanted = ", ".join(condition.wants)
    if not any(values for _, values in condition.parts):
        return f"no address of {wanted} is known there yet"
    return f"{packet.destination if packet else 'the destination'} is not known there as {wanted}"


def _while_miss(condition: Condition, has: object, packet: Packet | None) -> str:
    """The usual uplinks are up."""
    group = condition.wants[0].rpartition(LAST_RESORT)[0]
    return f"is in force only while the uplink of last resort{f' of {group}' if group else ''} is in use, and it is not"


def _arriving_miss(condition: Condition, has: str | None, packet: Packet | None) -> str:
    """Another interface, or a packet of the device's own."""
    return f"wants {', '.join(condition.wants)}, it arrived by {has or 'no interface: the device made it'}"


def _leaving_miss(condition: Condition, has: str | None, packet: Packet | None) -> str:
    """Another interface, or one that is not known yet."""
    return f"wants {', '.join(condition.wants)}, it leaves by {has or 'an interface not yet known at this stage'}"


def _family_miss(condition: Condition, has: int, packet: Packet | None) -> str:
    """IPv4 where IPv6 was wanted, or the other way round."""
    return f"is for IPv{condition.wants[0]}, the packet is IPv{4 if has < 1 << 32 else 6}"


BUILT_IN_WORDS = ("any", "outside")
"""Built-in groups whose addresses nobody wants to read: all there are, but a few ranges."""
MISS_WORDS: dict[str, Callable[[Condition, Any, Packet | None], str]] = {
    "protocol": _protocol_miss,
    "service": _service_miss,
    "icmp": _service_miss,
    "from": _address_miss,
    "to": _address_miss,
    "from-port": _port_miss,
    "opening": _opening_miss,
    "state": _state_miss,
    "fragments": _fragments_miss,
    "hours": _hours_miss,
    "application": _application_miss,
    "name": _name_miss,
    "while": _while_miss,
    "arriving": _arriving_miss,
    "leaving": _leaving_miss,
    "family": _family_miss,
}
"""How each key's miss is told; a new condition without an entry here is told plainly."""
