"""Access lists as open data: the model of RFC 8519 (ietf-access-control-list) in the JSON of RFC 7951, in and out.

What one side has no word for is refused by its name, so that nothing is lost in silence. A rule of ours that names several
addresses or services becomes several entries, numbered after it; what it means stays the same. What the standard leaves to the
device, as the fate of a packet that no entry matches, and words that mean nothing to packets, are told beside the data.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import fields
from itertools import product
from typing import Any, NamedTuple

from mossy_compass.errors import AddressError, InputError
from mossy_compass.model.network import AccessList, Network, Rule, Verdict
from mossy_compass.model.terms import Term
from mossy_compass.packet.address import BITS, EVERYTHING, V6_BASE, Prefix, Span, Spans, parse_prefix
from mossy_compass.packet.service import ICMP, ICMP6, TCP, UDP, WITH_PORTS, Service, protocol_name
from mossy_compass.plan.plan import Plan

MODULE = "ietf-access-control-list"
FORWARDING = {Verdict.PERMIT: "accept", Verdict.DENY: "drop", Verdict.REJECT: "reject"}
TYPES = {4: "ipv4-acl-type", 6: "ipv6-acl-type"}
MIXED = "mixed-eth-ipv4-ipv6-acl-type"
MOST_ENTRIES = 5000
"""A rule that would become more entries than this is refused: it would be unreadable."""
_ANY = "any"
SCTP = 132
MOST_NAME = 64
"""Characters of a name, in the standard and here."""
SAYABLE = frozenset(
    [
        *("id", "mark", "verdict", "protocol", "sources", "destinations", "from_ports", "services"),
        *("service_words", "arriving", "leaving", "log", "about"),
    ]
)
"""What a rule may say and still go out. Whatever else it says is refused by name, what is added to rules later too."""


class Leaf(NamedTuple):
    """A number of a header that both sides can ask for: one leaf there, a condition with one or several values here.

    Attributes:
        attribute: of a rule; its values are a tuple of numbers.
        name: of the leaf, in the containers of both families.
        key: in a network file.
        most: the greatest value.

    """

    attribute: str
    name: str
    key: str
    most: int


LEAVES: tuple[Leaf, ...] = ()
"""A condition on a further number of the header goes out and comes in by a line here; without one it is refused by its name."""
_KEYS = {"states": "state", "applications": "application", "names": "name", "last_resort": "while"}
"""How a network file calls an attribute of a rule, where that is not its own name."""
Json = dict[str, Any]


class Data(NamedTuple):
    """Lists as data.

    Attributes:
        json: the instance, as RFC 7951 writes it.
        beside: what the data does not say, sentence by sentence.

    """

    json: Json
    beside: tuple[str, ...]


class _Entry(NamedTuple):
    """The matches of one entry, before it has a name.

    Attributes:
        family: 4, 6, or 0 for either.
        matches: as the standard names them.

    """

    family: int
    matches: Json


# --- out ---------------------------------------------------------------------------------------------------------


def to_data(network: Network, names: Sequence[str] = (), device: str = "") -> Data:
    """Lists as RFC 8519 data.

    Args:
        network: the network.
        names: the lists; all of them, or all of the device's, when empty.
        device: whose ``self`` is meant, and whose interfaces the lists are attached to; empty for none.

    Raises:
        InputError: a rule says what the standard has no word for, or there is no such list or device.

    """
    wanted = list(names) or list(network.lists)
    unknown = next((name for name in wanted if name not in network.lists), None)
    if unknown is not None:
        raise InputError(f"there is no list '{unknown}'. Known lists: {', '.join(network.lists) or 'none'}.")
    if device and device not in network.devices:
        raise InputError(f"there is no device '{device}'. Known devices: {', '.join(network.devices)}.")
    plan = Plan(network)
    network = plan.network  # with the addresses that are leased in it
    own = plan.device(device).own_spans if device and network.devices[device].layer3 else None
    acls = [_acl(network.lists[name], _Sides(network, device, own)) for name in wanted]
    held: Json = {"acl": acls}
    points = _points(network, device, set(wanted)) if device else []
    if points:
        held["attachment-points"] = {"interface": points}
    return Data({f"{MODULE}:acls": held}, tuple(_beside(network, device, wanted, bool(points))))


class _Sides(NamedTuple):
    """Where lists go out for: what words of places mean there.

    Attributes:
        network: the network.
        device: whose; empty for none.
        own: its addresses, for ``self``.

    """

    network: Network
    device: str
    own: Spans | None

    def ports(self, words: Sequence[str] | None, where: str) -> Sequence[str | None]:
        """Interfaces that a rule names; a zone or a group of uplinks is no interface, and stands for those of the device.

        Raises:
            InputError: it stands for none, or no device is named.

        """
        return list(dict.fromkeys(port for word in words or () for port in self._port(word, where))) or [None]

    def _port(self, word: str, where: str) -> Sequence[str]:
        """The interfaces that one word stands for."""
        devices = self.network.devices.values()
        if not self.device:
            if any(word in d.uplinks or word in (i.zone for i in d.interfaces.values()) for d in devices):
                raise InputError(
                    f"{where}: '{word}' is a zone or a group of uplinks, and no interface. Name a device with --device."
                )
            return [word]
        here = self.network.devices[self.device]
        if word in here.interfaces:
            return [word]
        found = list(here.uplinks.get(word, ())) or [i.name for i in here.interfaces.values() if i.zone == word]
        if not found:
            raise InputError(f"{where}: {self.device} has no interface '{word}', and none in a zone of that name.")
        return found


def _beside(network: Network, device: str, names: Sequence[str], attached: bool) -> Iterator[str]:
    """What the data does not say."""
    elsewhere = _elsewhere(network, device, names) if device else []
    if elsewhere:
        yield f"The standard attaches lists to interfaces alone; {', '.join(elsewhere)} of {device} has no place in it."
    yield "What happens to a packet that no entry matches is left to the device (here: the setting end-of-list)."
    if not attached:
        yield "Where the lists are attached is not part of it; name a device for that."
    about = sum(bool(r.about) for n in names for r in network.lists[n].rules)
    if about:
        yield f"The purpose of {about} rule{'s' * (about != 1)} (about) has no place in RFC 8519."
    sides = _Sides(network, device, ())
    spread = sum(len(list(_entries(r, sides, ""))) > 1 for n in names for r in network.lists[n].rules if _plain(r))
    if spread:
        yield f"{spread} rule{'s' * (spread != 1)} with several addresses, services or families became several entries each."


def _plain(rule: Rule) -> bool:
    """Whether a rule can be counted without knowing a device."""
    return not any(t.spans is None for t in (*(rule.sources or ()), *(rule.destinations or ())))


def _elsewhere(network: Network, device: str, names: Sequence[str]) -> list[str]:
    """Where else than at interfaces the lists stand on a device."""
    here = network.devices[device]
    gates = here.gates
    asked = {
        "everywhere": gates.everywhere,
        "to-self": gates.to_self,
        "from-self": gates.from_self,
        "crossings": tuple(n for c in gates.crossings for n in c.lists),
        "profiles": tuple(n for p in gates.profiles for n in p.lists),
        "policy-routes": tuple(e.classifier for e in here.policy_routes if e.classifier),
        "translate": tuple(n for t in here.translate for n in t.lists),
    }
    return [place for place, lists in asked.items() if set(lists) & set(names)]


def _acl(source: AccessList, sides: _Sides) -> Json:
    """One list."""
    aces: list[Json] = []
    families: set[int] = set()
    taken = {rule.id for rule in source.rules}
    for rule in source.rules:
        where = f"rule {rule.id} of list {source.name} ({rule.mark})"
        _refuse(rule, where)
        entries = list(_entries(rule, sides, where))
        for entry, name in zip(entries, _entry_names(rule.id, len(entries), taken, where), strict=True):
            families.add(entry.family)
            actions: Json = {"forwarding": FORWARDING[rule.verdict]}
            if rule.log:
                actions["logging"] = "log-syslog"
            aces.append({"name": name, **({"matches": entry.matches} if entry.matches else {}), "actions": actions})
    kind = TYPES[families.pop()] if len(families) == 1 and families <= {4, 6} else MIXED
    return {"name": source.name, "type": kind, "aces": {"ace": aces}}


def _entry_names(ident: str, count: int, taken: set[str], where: str) -> list[str]:
    """Names for the entries that a rule becomes: its own, or numbered after it, and none that another rule has.

    Raises:
        InputError: there are none that are short enough and free.

    """
    if count < 2:
        return [ident] * count
    for sign in (".", "-", "_"):
        names = [f"{ident}{sign}{number}" for number in range(1, count + 1)]
        if len(names[-1]) <= MOST_NAME and taken.isdisjoint(names):
            taken |= set(names)
            return names
    raise InputError(f"{where}: it becomes {count} entries, and no names of at most {MOST_NAME} characters are free. Rename it.")


def _sctp_ports(rule: Rule) -> bool:
    """Whether a rule asks for ports of SCTP."""
    asked = any(s.protocol == SCTP and s.ports for s in rule.services or ())
    return asked or bool(rule.from_ports and rule.protocol == SCTP)


def _refuse(rule: Rule, where: str) -> None:
    """Name the first thing in a rule that the standard has no word for.

    Raises:
        InputError: there is one.

    """
    sayable = SAYABLE | {leaf.attribute for leaf in LEAVES}
    said = {
        f"the verdict {rule.verdict}": rule.verdict not in FORWARDING,
        **{_KEYS.get(f.name, f.name): bool(getattr(rule, f.name)) for f in fields(rule) if f.name not in sayable},
        f"log: {rule.log}": rule.log not in ("", "informational"),
        "an address that is leased, and not known": any(t.leased and not t.spans for t in _all_terms(rule)),
        "from-port of any protocol (which sctp has too)": rule.from_ports is not None and rule.protocol is None,
        "ports of sctp": _sctp_ports(rule),
        "a wildcard mask that is no run of addresses": any(t.masked for t in (*(rule.sources or ()), *(rule.destinations or ()))),
    }
    for word, there in said.items():
        if there:
            raise InputError(f"{where}: RFC 8519 has no word for {word}. Take the rule out of the list, or write it otherwise.")


def _all_terms(rule: Rule) -> Iterator[Term]:
    """The words of a rule's addresses, members of groups included."""
    waiting = [*(rule.sources or ()), *(rule.destinations or ())]
    while waiting:
        term = waiting.pop()
        yield term
        waiting += term.members


def _fits(service: Service | None, family: int) -> bool:
    """Whether packets of a family can be of a service: each has its own ICMP."""
    return service is None or {ICMP: 4, ICMP6: 6}.get(service.protocol, family) == family


def _matches(family: int, source: Prefix | None, destination: Prefix | None, service: Service | None, port: Span | None) -> Json:
    """The headers that an entry is about."""
    return _l3(family, source, destination, service) | (_l4(service, port) if service is not None else {})


def _entries(rule: Rule, sides: _Sides, where: str) -> Iterator[_Entry]:
    """A rule as entries, one for each pair of prefixes, each service, each family and each interface."""
    sources, destinations = _prefixes(rule.sources, sides.own, where), _prefixes(rule.destinations, sides.own, where)
    services = _services_of(rule)
    ports = rule.from_ports or (None,)
    numbers = [dict(p for p in pairs if p is not None) for pairs in product(*(_values(rule, leaf) for leaf in LEAVES))]
    families = (4, 6) if services != [None] or sources or destinations or any(numbers) else (0,)
    ways = list(product(sides.ports(rule.arriving, where), sides.ports(rule.leaving, where), numbers))
    count = 0
    for family in families:
        ends = list(product(_of_family(sources, family), _of_family(destinations, family)))
        fitting = [s for s in services if _fits(s, family)]
        count += len(ends) * len(fitting) * len(ports) * len(ways)
        if count > MOST_ENTRIES:
            raise InputError(f"{where}: it would become more than {MOST_ENTRIES} entries. Divide the rule.")
        for (source, destination), service in product(ends, fitting):
            for port, (came, left, more) in product(ports, ways):
                by = {"egress-interface": left, "ingress-interface": came}
                named = {key: name for key, name in by.items() if name}
                matches = _matches(family, source, destination, service, port)
                if more:
                    matches[f"ipv{family}"] |= more
                yield _Entry(family, matches | named)


def _values(rule: Rule, leaf: Leaf) -> Sequence[tuple[str, int] | None]:
    """The values that a rule asks of a leaf, each with the leaf's name; one None where it does not ask."""
    asked = getattr(rule, leaf.attribute)
    return [(leaf.name, value) for value in asked] if asked is not None else [None]


def _services_of(rule: Rule) -> Sequence[Service | None]:
    """The services that a rule is about; one None where it is about all."""
    if rule.services is not None:
        return rule.services
    return [Service(rule.protocol)] if rule.protocol is not None else [None]


def _of_family(held: Sequence[Prefix] | None, family: int) -> Sequence[Prefix | None]:
    """The prefixes of a family; one None where there is no condition."""
    return [p for p in held if p.family == family] if held is not None else [None]


def _prefixes(terms: tuple[Term, ...] | None, own: Spans | None, where: str) -> list[Prefix] | None:
    """Addresses as prefixes; None for any."""
    if terms is None or any(t.words == _ANY for t in terms):
        return None
    out: list[Prefix] = []
    for term in terms:
        spans = own if term.spans is None else term.spans
        if spans is None:
            raise InputError(f"{where}: self means a device, and none is named. Name one.")
        out += [p for first, last in spans for p in prefixes(first, last)]
    return list(dict.fromkeys(out))


def prefixes(first: int, last: int) -> Iterator[Prefix]:
    """A run of addresses as the fewest prefixes that are it."""
    while first <= last:
        family = 4 if first < V6_BASE else 6
        base, end = (0, V6_BASE - 1) if family == 4 else (V6_BASE, EVERYTHING[0].last)
        low = first - base
        size = low & -low or 1 << BITS[family]
        while first + size - 1 > min(last, end):
            size >>= 1
        yield Prefix(family, low, BITS[family] - size.bit_length() + 1)
        first += size


def _l3(family: int, source: Prefix | None, destination: Prefix | None, service: Service | None) -> Json:
    """What an entry says of addresses and protocol."""
    if family == 0:
        return {}
    held: Json = {"protocol": service.protocol} if service is not None else {}
    for side, prefix in (("destination", destination), ("source", source)):
        if prefix is not None and not prefix.is_default:  # all of a family is what the family's own container says
            held[f"{side}-ipv{family}-network"] = _prefix_text(prefix)
    return {f"ipv{family}": held}


def _prefix_text(prefix: Prefix) -> str:
    """A prefix with its length, as RFC 6991 wants it."""
    return {4: "0.0.0.0/0", 6: "::/0"}[prefix.family] if prefix.is_default else str(prefix)


def _l4(service: Service, port: Any) -> Json:
    """What an entry says of ports or ICMP kinds."""
    if service.protocol in (ICMP, ICMP6):
        if service.ports is None:
            return {}
        held: Json = {"type": service.ports.first >> 8}
        if service.ports.first == service.ports.last:
            held["code"] = service.ports.first & 255
        return {"icmp": held}
    if service.protocol not in WITH_PORTS:
        return {}
    found: Json = {}
    if port is not None:
        found["source-port"] = _port(port)
    if service.ports is not None:
        found["destination-port"] = _port(service.ports)
    return {protocol_name(service.protocol): found} if found else {}


def _port(span: Any) -> Json:
    """A run of ports: one, or a range."""
    if span.first == span.last:
        return {"operator": "eq", "port": span.first}
    return {"lower-port": span.first, "upper-port": span.last}


def _points(network: Network, device: str, wanted: set[str]) -> list[Json]:
    """Where the lists are attached, by the interfaces of one device."""
    out = []
    for port in network.devices[device].interfaces.values():
        point: Json = {"interface-id": port.name}
        for way, names in (("ingress", port.arriving_lists), ("egress", port.leaving_lists)):
            held = [n for n in names if n in wanted]
            if held:
                point[way] = {"acl-sets": {"acl-set": [{"name": n} for n in held]}}
        if len(point) > 1:
            out.append(point)
    return out


# --- in ----------------------------------------------------------------------------------------------------------


class Lists(NamedTuple):
    """Lists that were read from data, as they would stand in a network file.

    Attributes:
        lists: rules by the name of their list, each a mapping of keys.
        attached: for each interface, the lists that arrive and leave there.

    """

    lists: dict[str, list[dict[str, Any]]]
    attached: dict[str, dict[str, list[str]]]


def from_data(data: object) -> Lists:
    """Lists of RFC 8519 data, as they would stand in a network file.

    Raises:
        InputError: it is no such data, or says what a network file has no word for; the message names the entry.

    """
    top = _mapping(data, "the data")
    acls = top.get(f"{MODULE}:acls", top.get("acls"))
    if acls is None or len(top) != 1:
        raise InputError(f"this is no access list of RFC 8519: it begins with '{MODULE}:acls' and holds nothing else.")
    held = _mapping(acls, "acls")
    _only(held, ("acl", "attachment-points"), "acls")
    lists: dict[str, list[dict[str, Any]]] = {}
    for acl in _sequence(held.get("acl", []), "acl"):
        name, rules = _read_acl(_mapping(acl, "an acl"))
        if name in lists:
            raise InputError(f"acl {name} is there twice. Give one another name.")
        lists[name] = rules
    points = _mapping(held.get("attachment-points", {}), "attachment-points")
    _only(points, ("interface",), "attachment-points")
    attached: dict[str, dict[str, list[str]]] = {}
    for point in _sequence(points.get("interface", []), "interface"):
        port, ways = _read_point(_mapping(point, "an interface"), lists)
        if port in attached:
            raise InputError(f"interface {port} is there twice. Join the two.")
        attached[port] = ways
    return Lists(lists, attached)


def _mapping(value: object, what: str) -> Mapping[str, Any]:
    """A JSON object."""
    if not isinstance(value, dict):
        raise InputError(f"{what} is no object of names and values, as RFC 7951 has it.")
    return {str(k).removeprefix(f"{MODULE}:") if what != "the data" else str(k): v for k, v in value.items()}


def _sequence(value: object, what: str) -> list[Any]:
    """A JSON array."""
    if not isinstance(value, list):
        raise InputError(f"{what} is no list, as RFC 7951 has it.")
    return value


def _only(held: Mapping[str, Any], known: Iterable[str], where: str) -> None:
    """Refuse what a network file has no word for, by its name."""
    for key in held:
        if key not in known:
            raise InputError(f"{where}: a network file has no word for '{key}'. Take it out, or say it otherwise.")


_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]*")
_PORT_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._:-]*")


def _named(held: Mapping[str, Any], what: str, key: str = "name", pattern: re.Pattern[str] = _NAME) -> str:
    """The name of an acl, ace or interface, which must be one of ours too."""
    name = held.get(key)
    if not isinstance(name, str) or not pattern.fullmatch(name) or len(name) > MOST_NAME:
        shown = f"called {str(name)[:80]!r}" if key in held else f"without its {key}"
        signs = "'.', '_', ':' and '-'" if pattern is _PORT_NAME else "'.', '_' and '-'"
        raise InputError(f"{what} is {shown}: names here are letters, digits, {signs}, at most {MOST_NAME}. Rename it.")
    return name


def _number(value: object, most: int, what: str) -> int:
    """A whole number; True and 8.0 are none in JSON's sense either (RFC 7951 section 6.1)."""
    if type(value) is not int or not 0 <= value <= most:
        raise InputError(f"{what} is {str(value)[:80]!r}, and no whole number from 0 to {most}.")
    return value


def _read_acl(acl: Mapping[str, Any]) -> tuple[str, list[dict[str, Any]]]:
    """One list with its rules."""
    name = _named(acl, "an acl")
    _only(acl, ("name", "type", "aces"), f"acl {name}")
    kind = str(acl.get("type", MIXED)).removeprefix(f"{MODULE}:")
    if kind not in (*TYPES.values(), MIXED):
        raise InputError(f"acl {name}: a network file has no word for the type '{kind}', which is about more than IP.")
    aces = _mapping(acl.get("aces", {}), f"acl {name}: aces")
    _only(aces, ("ace",), f"acl {name}: aces")
    rules: list[dict[str, Any]] = []
    for ace in _sequence(aces.get("ace", []), f"acl {name}: ace"):
        rules.append(_read_ace(_mapping(ace, f"acl {name}: an ace"), name, FAMILY_OF.get(kind)))
    seen: set[str] = set()
    for rule in rules:
        if rule["id"] in seen:
            raise InputError(f"acl {name}: ace {rule['id']} is there twice. Give one another name.")
        seen.add(rule["id"])
    return name, rules


FAMILY_OF = {kind: family for family, kind in TYPES.items()}


def _read_ace(ace: Mapping[str, Any], acl: str, of_type: int | None) -> dict[str, Any]:
    """One entry as a rule; a list whose type is of one family is about no other."""
    ident = _named(ace, f"acl {acl}: an ace")
    where = f"acl {acl}, ace {ident}"
    _only(ace, ("name", "matches", "actions"), where)
    actions = _mapping(ace.get("actions", {}), f"{where}: actions")
    _only(actions, ("forwarding", "logging"), f"{where}: actions")
    words = {word: verdict for verdict, word in FORWARDING.items()}
    forwarding = str(actions.get("forwarding", "")).removeprefix(f"{MODULE}:")
    if forwarding not in words:
        raise InputError(f"{where}: the action is {forwarding or 'missing'}; it must be accept, drop or reject.")
    matches = _mapping(ace.get("matches", {}), f"{where}: matches")
    _only(matches, ("ipv4", "ipv6", "tcp", "udp", "icmp", "ingress-interface", "egress-interface"), f"{where}: matches")
    rule: dict[str, Any] = {"id": ident}
    protocol, more = _read_matches(matches, where, of_type)
    rule[words[forwarding].value] = protocol
    rule |= more
    logging = str(actions.get("logging", "log-none")).removeprefix(f"{MODULE}:")
    if logging not in ("log-none", "log-syslog"):
        raise InputError(f"{where}: a network file has no word for the logging '{logging}'.")
    return rule | ({"log": "yes"} if logging == "log-syslog" else {})


def _family(matches: Mapping[str, Any], of_type: int | None, where: str) -> int | None:
    """The family that an entry is about: what it says, else the type of its list; None for both."""
    said = [f for f in (4, 6) if f"ipv{f}" in matches]
    if len(said) > 1:
        raise InputError(f"{where}: ipv4 and ipv6 together match nothing. Write an entry for each.")
    if said and of_type not in (None, said[0]):
        raise InputError(f"{where}: ipv{said[0]} in a list of {TYPES[of_type or 4]} matches nothing. Correct one of the two.")
    return said[0] if said else of_type


def _read_matches(matches: Mapping[str, Any], where: str, of_type: int | None) -> tuple[str, dict[str, Any]]:
    """What an entry asks: its protocol, and the keys of a rule."""
    out: dict[str, Any] = {}
    family = _family(matches, of_type, where)
    protocol: int | None = None
    if family is not None and f"ipv{family}" in matches:
        protocol = _read_l3(_mapping(matches[f"ipv{family}"], f"{where}: ipv{family}"), family, out, where)
    for word, number in (("tcp", TCP), ("udp", UDP), ("icmp", ICMP6 if family == 6 else ICMP)):
        if word in matches:
            if protocol is not None and protocol != number:
                raise InputError(f"{where}: {word} and protocol {protocol} exclude one another.")
            protocol = number
            _read_l4(word, _mapping(matches[word], f"{where}: {word}"), out, where)
    if family is None and "icmp" in matches:
        raise InputError(f"{where}: icmp of which family? Each has kinds of its own. Say ipv4 or ipv6 too.")
    if (family, protocol) in ((4, ICMP6), (6, ICMP)):
        raise InputError(
            f"{where}: protocol {protocol} in IPv{family} is not the ICMP of that family, and a network file has no word for it."
        )
    if family is not None and "from" not in out and "to" not in out and protocol not in (ICMP, ICMP6):
        out["from"] = _prefix_text(Prefix(family, 0, 0))  # the family alone is asked for
    for key, ours in (("ingress-interface", "arriving"), ("egress-interface", "leaving")):
        if key in matches:
            out[ours] = [_named(matches, f"{where}: an interface", key, _PORT_NAME)]
    return (protocol_name(protocol) if protocol is not None else "any"), out


def _read_l3(held: Mapping[str, Any], family: int, out: dict[str, Any], where: str) -> int | None:
    """Addresses of an entry; gives its protocol."""
    ends = {f"source-ipv{family}-network": "from", f"destination-ipv{family}-network": "to"}
    leaves = {leaf.name: leaf for leaf in LEAVES}
    _only(held, ("protocol", *ends, *leaves), f"{where}: ipv{family}")
    out |= {leaf.key: [_number(held[n], leaf.most, f"{where}: {n}")] for n, leaf in leaves.items() if n in held}
    out |= {ours: _read_prefix(held[key], family, f"{where}: {key}") for key, ours in ends.items() if key in held}
    return _number(held["protocol"], 255, f"{where}: protocol") if "protocol" in held else None


def _read_prefix(value: object, family: int, where: str) -> str:
    """A prefix of an entry, of the family that it is for."""
    if not isinstance(value, str) or "/" not in value:  # we have further words for prefixes, and the standard has not
        raise InputError(f"{where} is {str(value)[:80]!r}, and no prefix like 192.0.2.0/24.")
    try:
        prefix = parse_prefix(value)
    except AddressError as fault:
        raise InputError(f"{where}: {fault}") from None
    if prefix.family != family:
        raise InputError(f"{where} is {value}, which is no IPv{family}.")
    return _prefix_text(prefix)


def _read_l4(word: str, held: Mapping[str, Any], out: dict[str, Any], where: str) -> None:
    """Ports, or an ICMP kind, of an entry."""
    if word == "icmp":
        _only(held, ("type", "code"), f"{where}: icmp")
        if "type" in held:
            code = f"/{_number(held['code'], 255, f'{where}: code')}" if "code" in held else ""
            out["icmp"] = [f"{_number(held['type'], 255, f'{where}: type')}{code}"]
        elif "code" in held:
            raise InputError(f"{where}: an ICMP code without its type means nothing.")
        return
    _only(held, ("source-port", "destination-port"), f"{where}: {word}")
    for key, ours in (("source-port", "from-port"), ("destination-port", "to-port")):
        if key in held:
            out[ours] = _read_port(_mapping(held[key], f"{where}: {key}"), f"{where}: {key}")


def _read_port(held: Mapping[str, Any], where: str) -> list[str]:
    """A port, or a range, as the standard says it: by its ends, or by an operator."""
    _only(held, ("lower-port", "upper-port", "operator", "port"), where)
    numbers = {k: v for k, v in held.items() if k != "operator"}
    for key, value in numbers.items():
        _number(value, 65535, f"{where}: {key}")
    if set(held) == {"lower-port", "upper-port"}:
        low, high = held["lower-port"], held["upper-port"]
        if low > high:
            raise InputError(f"{where}: the range runs backwards.")
        return [_range(low, high)]
    operator, port = str(held.get("operator", "eq")), int(held.get("port", -1))
    ranges: dict[str, list[tuple[int, int]]] = {
        "eq": [(port, port)],
        "lte": [(0, port)],
        "gte": [(port, 65535)],
        "neq": [(0, port - 1), (port + 1, 65535)],
    }
    if port < 0 or operator not in ranges or "lower-port" in held or "upper-port" in held:
        raise InputError(f"{where}: it must have lower-port and upper-port, or operator (eq, neq, lte, gte) and port.")
    return [_range(low, high) for low, high in ranges[operator] if low <= high]


def _range(low: int, high: int) -> str:
    """A range of ports as it is written here."""
    return f"{low}-{high}" if low != high else f"{low}"


def _read_point(point: Mapping[str, Any], lists: Mapping[str, Any]) -> tuple[str, dict[str, list[str]]]:
    """Which lists stand at an interface."""
    name = _named(point, "an interface", "interface-id", _PORT_NAME)
    where = f"interface {name}"
    _only(point, ("interface-id", "ingress", "egress"), where)
    out: dict[str, list[str]] = {}
    for key, way in (("ingress", "arriving"), ("egress", "leaving")):
        if key in point:
            sets = _mapping(_mapping(point[key], f"{where}: {key}").get("acl-sets", {}), f"{where}: acl-sets")
            held = [_mapping(s, f"{where}: acl-set") for s in _sequence(sets.get("acl-set", []), f"{where}: acl-set")]
            names = [_named(s, f"{where}: an acl-set") for s in held]
            for number, listed in enumerate(names):
                if listed not in lists:
                    raise InputError(f"{where}: there is no acl '{listed}'.")
                if listed in names[:number]:
                    raise InputError(f"{where}: acl {listed} is there twice. Take one out.")
            out[way] = names
    return name, out
