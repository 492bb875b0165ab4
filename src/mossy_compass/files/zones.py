"""What filters at a device beside its interfaces' lists, into the model: crossings, profiles, offers, built-in rules.

Every name must be known: a list, zone or rule that does not exist would filter nothing, unseen.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from mossy_compass.files.context import Context, Path
from mossy_compass.files.names import service, services, term_list
from mossy_compass.files.schema import ApplicationIn, DeviceIn
from mossy_compass.marks import hint
from mossy_compass.model.gates import Application, Crossing, Gates, Offer, Profile
from mossy_compass.model.network import LAST_RESORT, Interface, Kind
from mossy_compass.plan.builtin import BUILT_IN


def port_words(device: DeviceIn, interfaces: Iterable[str]) -> set[str]:
    """What ``arriving`` and ``leaving`` may name at a device: interfaces, zones, groups of uplinks."""
    return {*interfaces, *device.uplinks, *(i.zone for i in device.interfaces.values() if i.zone)}


def known_probe(ctx: Context, name: str, device: DeviceIn, word: str | None, path: Path, resorts: bool = True) -> None:
    """Note a probe that a device has not, or a group of uplinks that has no last resort there.

    Args:
        ctx: the document.
        name, device: whose.
        word: as ``while`` says it; None for nothing.
        path: where it stands.
        resorts: the last resort of a group may be named, too.

    """
    group, slash, _ = (word or "").rpartition(LAST_RESORT)
    if slash and resorts:
        if group not in device.uplinks or device.uplinks[group].last_resort is None:
            known = [f"{g}{LAST_RESORT}" for g, said in device.uplinks.items() if said.last_resort is not None]
            words = f"{name} has no group of uplinks '{group}' with a last resort."
            ctx.fault("uplink.unknown", ctx.spot(*path), words, hint(word or "", known, "last resorts"))
    elif word is not None and word not in device.probes:
        ctx.fault("probe.unknown", ctx.spot(*path), f"{name} has no probe '{word}'.", hint(word, device.probes, "probes"))


def known_lists(ctx: Context, names: Iterable[str] | None, path: Path) -> tuple[str, ...]:
    """Names of lists; unknown ones, and one that stands twice, are noted."""
    held = tuple(names or ())
    for index, name in enumerate(held):
        spot = ctx.spot(*path, index)
        if name not in ctx.written("lists"):
            ctx.fault("list.unknown", spot, f"there is no list '{name}'.", hint(name, ctx.written("lists"), "lists"))
        elif name in held[:index]:
            ctx.fault("list.twice", spot, f"list '{name}' stands here twice: the second is never asked.", "Remove one of the two.")
    return held


def application(ctx: Context, name: str, entry: ApplicationIn) -> Application:
    """An application with its categories and, where the file says, the flows that are of it."""
    path: Path = ("applications", name)
    for category in entry.category:
        if category in ctx.doc.applications:
            words = f"'{category}' is an application and a category of {name}: a rule that says it would be read two ways."
            ctx.fault("name.twice", ctx.mark(*path), words, "Choose another name.")
    wanted = None if entry.service is None else services(ctx, entry.service, (*path, "service"))
    goals = term_list(ctx, entry.to, (*path, "to"))
    if goals is not None and any(t.spans is None for t in goals):
        words = "self means another device at each list, so a flow cannot be of an application by it."
        ctx.fault("group.self", ctx.spot(*path, "to"), words, "Name the device.")
        goals = tuple(t for t in goals if t.spans is not None)
    return Application(name, tuple(entry.category), int(entry.known_from), goals, wanted, ctx.mark(*path), entry.about)


def gates(ctx: Context, name: str, entry: DeviceIn, interfaces: Mapping[str, Interface]) -> Gates:
    """Everything that filters at a device beside the lists of its interfaces."""
    base: Path = ("devices", name)
    everywhere = entry.everywhere
    return Gates(
        everywhere=known_lists(ctx, everywhere.lists, (*base, "everywhere", "lists")) if everywhere else (),
        everywhere_on=everywhere.enabled if everywhere else True,
        everywhere_mark=ctx.mark(*base, "everywhere"),
        crossings=tuple(_crossings(ctx, name, entry, interfaces)),
        to_self=known_lists(ctx, entry.to_self, (*base, "to-self")),
        to_self_mark=ctx.mark(*base, "to-self"),
        from_self=known_lists(ctx, entry.from_self, (*base, "from-self")),
        from_self_mark=ctx.mark(*base, "from-self"),
        offers=tuple(_offers(ctx, name, entry, interfaces)),
        offering=frozenset(entry.offers),
        profiles=tuple(_profiles(ctx, name, entry, interfaces)),
        built_in=_built_in(ctx, name, entry),
    )


def _crossings(ctx: Context, name: str, entry: DeviceIn, interfaces: Mapping[str, Interface]) -> Iterator[Crossing]:
    """The pairs of zones, each end of them known, and none of them of the device with itself."""
    known = {*port_words(entry, interfaces), "any", "self"}
    for index, crossing in enumerate(entry.crossings):
        path: Path = ("devices", name, "crossings", index)
        for key, word in (("from", crossing.from_), ("into", crossing.into)):
            if word not in known and word not in ctx.written("devices", name, "interfaces"):
                words = f"{name} has no zone, interface or group '{word}'."
                ctx.fault("interface.unknown", ctx.spot(*path, key), words, hint(word, known, "zones"))
        if crossing.from_ == "self":
            words = "what the device says itself is no crossing: nobody knows yet where it goes when from-self is asked."
            ctx.fault("crossing.self", ctx.spot(*path, "from"), words, "Write from-self: [LIST] at the device.")
        lists = known_lists(ctx, crossing.lists, (*path, "lists"))
        yield Crossing(crossing.from_, crossing.into, lists, ctx.spot(*path), crossing.about)


def _profiles(ctx: Context, name: str, entry: DeviceIn, interfaces: Mapping[str, Interface]) -> Iterator[Profile]:
    """The profiles, with who belongs to each."""
    known = port_words(entry, interfaces)
    for word, profile in entry.profiles.items():
        path: Path = ("devices", name, "profiles", word)
        for index, port in enumerate(profile.arriving or ()):
            ctx.unknown_port(name, port, ctx.spot(*path, "arriving", index), known)
        if profile.for_ is None and profile.arriving is None:
            words = f"profile '{word}' says neither for nor arriving: it would be everybody's."
            ctx.fault("profile.nobody", ctx.mark(*path), words, "Add for: [HOST], or attach its lists everywhere.")
        members = term_list(ctx, profile.for_, (*path, "for"))
        arriving = None if profile.arriving is None else tuple(profile.arriving)
        lists = known_lists(ctx, profile.lists, (*path, "lists"))
        yield Profile(word, members, arriving, profile.mode, lists, ctx.mark(*path), profile.about)


def _offers(ctx: Context, name: str, entry: DeviceIn, interfaces: Mapping[str, Interface]) -> Iterator[Offer]:
    """What the device answers on each interface, and who may ask; ``none`` alone for nobody."""
    for port, offered in entry.offers.items():
        ctx.unknown_port(name, port, ctx.mark("devices", name, "offers", port), interfaces)
        for word, sources in offered.items():
            path: Path = ("devices", name, "offers", port, word)
            found = () if word == "ping" else service(ctx, word, ctx.mark(*path))
            if "none" in sources:
                if len(sources) > 1:
                    ctx.fault("value.wrong", ctx.spot(*path), "none stands alone.", "Remove it, or remove the others.")
                continue
            yield Offer(port, word, found, term_list(ctx, sources, path), ctx.mark(*path))


def _built_in(ctx: Context, name: str, entry: DeviceIn) -> dict[str, bool]:
    """Which built-in rules are switched; each must be one that the kind of device has."""
    kind = Kind(entry.kind)
    known = {b.name for b in BUILT_IN.values() if kind in b.kinds}
    for word in entry.built_in:
        if word not in known:
            words = f"{kind.words} has no built-in rule '{word}'."
            remedy = hint(word, known, "built-in rules") if known else "Remove it: only a firewall has built-in rules."
            ctx.fault("gate.built-in", ctx.mark("devices", name, "built-in", word), words, remedy)
    return dict(entry.built_in)
