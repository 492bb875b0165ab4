"""Counters, rules that were never hit, who a rule affects, and where a name is used: as rows, for text and JSON alike."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from mossy_compass.model.check import place_words, standing_lists
from mossy_compass.model.network import Device, Network, Rule, Term
from mossy_compass.plan.plan import Plan
from mossy_compass.report.tables import Rows
from mossy_compass.walk.evidence import Counters, counted, decided_by
from mossy_compass.walk.journey import Journey


def counters(plan: Plan, found: Counters) -> list[Rows]:
    """What was met and how often; what never was; and the tests that no written rule decided."""
    every = counted(plan, found)
    hit = [c for c in every if c.hits]
    never = [c for c in every if not c.hits]
    met = tuple((c.device, c.table, c.row, c.what, str(c.hits), c.unit, c.place or "-") for c in hit)
    idle = tuple((c.device, c.table, c.row, c.what, c.place or "-") for c in never)
    tests = f"{found.tests} test{'s' * (found.tests != 1)}"
    out = [
        Rows(
            "counters",
            f"{len(hit)} rules and defaults were met by {tests}",
            ("device", "list", "rule", "verdict", "hits", "unit", "from"),
            met,
        ),
        Rows("never-hit", f"{len(never)} rules were met by no test", ("device", "list", "rule", "verdict", "from"), idle),
    ]
    free = tuple(found.undecided)
    if free:
        words = f"{len(free)} of {tests} met no rule of a list: routes, services and defaults alone decided"
        out.append(Rows("no-rule", words, ("from", "to", "service", "the sender sees"), free))
    return out


def affected(journeys: Iterable[Journey], name: str, row: str) -> Rows:
    """Whose packets a rule decides: hosts, services and directions among what was tested."""
    rows = tuple((j.sender, j.target, j.what, way, did.value, j.symptom.value) for j, way, did in decided_by(journeys, name, row))
    about = f"{name} rule {row} decides on {len(rows)} of the tested flows"
    return Rows("decided-by", about, ("from", "to", "service", "way", "it was", "the sender sees"), rows)


# --- where a name is used ------------------------------------------------------------------------------------------


def uses(network: Network, name: str) -> Rows:
    """Every place that names a group, service, list, window, application, zone, host or interface."""
    rows = tuple(dict.fromkeys(_uses(network, name)))
    about = f"'{name}' is used at {len(rows)} place{'s' * (len(rows) != 1)}" if rows else f"'{name}' is used nowhere"
    return Rows("uses", about, ("where", "as", "from"), rows)


def _uses(network: Network, name: str) -> Iterator[tuple[str, str, str]]:
    """The places one after the other: what names it, under which key, and where that is written."""
    for source in network.lists.values():
        for rule in source.rules:
            yield from ((f"list {source.name} rule {rule.id}", key, str(rule.mark)) for key in _keys(rule, name))
    for group in network.groups.values():
        if _any_names(group.terms, name):
            yield f"group {group.name}", "member", str(group.mark)
    for application in network.applications.values():
        if _any_names(application.destinations, name) or name in application.categories:
            yield f"application {application.name}", "flows", str(application.mark)
    for device in network.devices.values():
        for used in (_standing_uses, _steering_uses, _gate_uses):
            yield from used(device, name)


def _any_names(terms: Iterable[Term] | None, name: str) -> bool:
    """Whether some entry of an address condition is that name."""
    return any(_names(term, name) for term in terms or ())


def _standing_uses(device: Device, name: str) -> Iterator[tuple[str, str, str]]:
    """Where a list of that name stands at a device, and what it serves under it."""
    for lists, where, way in standing_lists(device):
        if name in lists:
            mark = device.interfaces[where].arriving_mark if way == "arriving" else device.mark
            yield place_words(device.name, where, way), "list", str(mark)
    for served in (*device.serves, *(s for f in device.far_hosts.values() for s in f.serves)):
        if served.words == name:
            yield f"device {device.name}", "serves", str(served.mark)


def _steering_uses(device: Device, name: str) -> Iterator[tuple[str, str, str]]:
    """Policy routes and translation rules of a device that name something."""
    for policy in device.policy_routes:
        yield from ((f"policy route {policy.id} of {device.name}", key, str(policy.mark)) for key in _keys(policy.rule, name))
        if policy.classifier == name:
            yield f"policy route {policy.id} of {device.name}", "list (it chooses, and filters nothing)", str(policy.mark)
    for entry in device.translate:
        words = [*entry.service_words.split(", "), *(entry.arriving or ()), *(entry.leaving or ())]
        if _any_names(entry.sources, name) or _any_names(entry.destinations, name) or name in words:
            yield f"translation rule {entry.id} of {device.name}", "condition", str(entry.mark)


def _gate_uses(device: Device, name: str) -> Iterator[tuple[str, str, str]]:
    """Profiles, crossings and offers of a device that name something."""
    for profile in device.gates.profiles:
        if _any_names(profile.members, name) or name in (profile.arriving or ()):
            yield f"profile {profile.name} of {device.name}", "member", str(profile.mark)
    for crossing in device.gates.crossings:
        if name in (crossing.origin, crossing.into):
            yield f"crossing {crossing.words} of {device.name}", "zone", str(crossing.mark)
    for offer in device.gates.offers:
        if offer.word == name or _any_names(offer.sources, name):
            yield f"offer {offer.word} of {device.name}/{offer.interface}", "service or source", str(offer.mark)


def _keys(rule: Rule, name: str) -> Iterator[str]:
    """The keys of a rule that name something."""
    for key, terms in (("from", rule.sources), ("to", rule.destinations)):
        if _any_names(terms, name):
            yield key
    words: Sequence[tuple[str, Iterable[str] | None]] = (
        ("service", rule.service_words.split(", ")),
        ("hours", rule.hours),
        ("application", rule.applications),
        ("name", rule.names),
        ("arriving", rule.arriving),
        ("leaving", rule.leaving),
    )
    yield from (key for key, said in words if said is not None and name in said)


def _names(term: Term, name: str) -> bool:
    """Whether an entry is this name, or a group that holds it somewhere."""
    return term.words == name or any(_names(m, name) for m in term.members)
