"""What people would usually do about a packet's fate: the remedies of its cause that fit this packet, in this network.

A remedy that is in force already, or that something else on the way makes useless, helps nobody at night; so those are left
out, and where the reason behind a loss is known, its own remedies stand instead of the cause's.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from mossy_compass.plan.causes import CAUSES
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.reasons import Because, Did
from mossy_compass.walk.journey import Journey

BEHIND: dict[str, tuple[str, ...]] = {
    "root.in-clear": (
        "put a translation rule with becomes: exempt for the far end before the one that translated it",
        "or write the translated address into the selectors of both ends",
    ),
    "root.moved": (
        "let the application open a new conversation",
        "or setting flows-of-a-lost-uplink: cut, so that it learns of it at once",
    ),
    "root.stateless": (
        "permit the answers by a rule of their own, above the one that stopped them",
        "or keep sessions there: stateful",
    ),
    "root.not-inspected": ("name the protocol under 'stateful' too", "or permit the answers by a rule of their own"),
    "root.inspected-elsewhere": (
        "name the protocol under the 'stateful' of the interface that it arrives by",
        "or permit the answers by a rule of their own",
    ),
    "root.no-opening": ("let there and back pass the same device", "or permit the answers by a rule of their own"),
    "root.untranslated": (
        "widen the translation rule that 'why' names, or write one for this source",
        "or add a route back to the sender's subnet",
    ),
    "root.exempt": ("narrow that rule, so that one which translates is asked", "or add a route back to the sender's subnet"),
    "root.translated-nowhere": ("write a translation rule for what leaves there", "or add a route back to the sender's subnet"),
    "root.expected-no-more": ("announce the channel anew, and open it at once",),
    "root.by-hand": ("let both ends have keys: exchanged, or by-hand",),
    "root.unannounced": ("let that interface speak it too, passive if nobody is there", "or redistribute connected"),
    "root.stranded": ("give both an address of one subnet, with the same length of prefix", "or put the right cable there"),
    "root.strangers": ("add a route to that subnet there",),
    "root.parted": ("let there and back pass the same device: add a route there, or mend the one that leads the answer away",),
    "root.turned-back": ("add a route for the destination there, or mend the one that leads back",),
    "root.off-link": ("give both an address of one subnet, with the same length of prefix",),
    "root.unled": ("add a route to that address, or translate to one that is led there",),
    "root.out-again": ("add a route to the sender's subnet there",),
}
"""What to do about what lies behind a loss, by its code."""
LEARNED = (
    "let the sender ask a resolver whose answers pass that device",
    "or setting name-rules: resolved, so that the device asks for the name itself",
)
ASKED = ("give the name an address: under 'names', or in the records of a resolver that the device asks",)
INACTIVE = ("mend what keeps that route from being used", "or add another route for the destination")
UNKNOWN = "or setting unknown-session: filter there, with a rule for such packets"
_SETTING = re.compile(r"setting ([a-z-]+): ([a-z-]+)(?: or ([a-z-]+))?")


def remedies(journey: Journey) -> tuple[str, ...]:
    """What people usually do about it, most usual first; nothing where the packet was answered.

    Args:
        journey: with the plan that it was walked on.

    """
    if journey.answered:
        return ()
    found = tuple(_own(journey)) or CAUSES[journey.cause].remedies_for(journey.lost == "back")
    here = _device(journey)
    return tuple(r for r in found if here is None or not _is_so(here, r, journey))


def _device(journey: Journey) -> DevicePlan | None:
    """The device at which it was decided; None where no packet left, or the plan is not at hand."""
    plan = journey.plan
    return plan.device(journey.deciding.end) if plan is not None and journey.deciding.packet.protocol else None


def _behind(behind: Because) -> Iterator[str]:
    """The remedies that belong to what lies behind the cause; nothing where there are none of its own."""
    if behind.code in ("root.unheard", "root.down"):
        yield "bring that interface up"
    elif behind.code == "root.unlearned":
        yield from LEARNED if behind.named["learns"] else ASKED
    elif behind.code == "root.gone":
        yield "let it open anew"
        if behind.named["reason"].named["name"]:
            yield f"or raise {behind.named['reason'].named['name']} at {behind.named['reason'].named['device']}"
    elif behind.code in ("root.unread", "root.astray"):
        if not behind.named["helper"]:
            yield "write a service with expects: for what follows on this one"
        yield f"add helpers: [{behind.named['helper'] or 'THAT-SERVICE'}] to {behind.named['device']}"
    elif behind.code == "root.other-exit":
        yield f"setting session-exit: arrived at {behind.named['device']}, so that answers leave where their session was opened"
        yield "or add a route back to the sender's subnet"
    elif behind.code == "root.cut-off" or (behind.code == "root.inactive" and behind.named["origin"] == "connected"):
        yield "bring that interface up"
    elif behind.code == "root.inactive":
        yield from INACTIVE
    else:
        yield from BEHIND.get(behind.code, ())


def _own(journey: Journey) -> Iterator[str]:
    """The remedies that belong to more than the cause: to what lies behind it, or to what nearly matched."""
    behind = list(_behind(journey.behind)) if journey.behind is not None else []
    if behind:
        yield from behind
    elif journey.remark is not None and journey.remark.code == "note.as-opened":
        yield f"clear {journey.deciding.end}, so that the lists of now take effect, if these permit it"
        yield "or setting association-lists: as-written"
    elif journey.remark is not None and journey.remark.code == "note.lease":
        yield "see why it has no lease: mossy tables FILE DEVICE interfaces"
        yield "or give the interface an address"
    elif journey.because.code == "route.inactive":
        yield from INACTIVE
    elif journey.cause == "session.expired":
        yield "let the application send something more often, or open anew"
        yield f"or raise {journey.because.named['name']} at {journey.because.named['device']}"
    elif journey.cause == "session.none":
        # It was dropped before any list was asked, so no rule for answers would help.
        yield (
            "let there and back pass the same device"
            if journey.lost == "back"
            else "send the packet that opens the conversation first"
        )
        yield UNKNOWN
    elif journey.lost == "there" and journey.cause in ("filter.rule", "filter.end"):
        yield from _moved(journey)


def _moved(journey: Journey) -> Iterator[str]:
    """Where a permit for the packet stands below the rule that stopped it, that one is to be moved."""
    below: Because | None = next((b for b in journey.near if b.code == "near.below"), None)
    here = _device(journey)
    if below is not None and here is not None and journey.because.code == "rule":
        row = here.read_list(below.named["list"]).row(below.named["row"])
        if row is None or not any(c.key in ("from", "to", "service", "name") for c in row.conditions):
            return  # it permits whatever comes: above the other rule it would leave nothing to that
        yield f"move {below.named['list']} rule {below.named['row']} above rule {journey.because.named['row']}, if it is meant for this"
        yield "or check that the rule that stopped it is meant for this traffic"


def _was_translated(journey: Journey) -> bool:
    """Whether some device on the way gave a packet of it another address."""
    return any(r.did is Did.REWRITTEN for leg in journey.legs for h in leg.hops for r in h.rulings)


def _is_so(here: DevicePlan, remedy: str, journey: Journey) -> bool:
    """Whether a remedy is in force at a device already, or is about what did not happen."""
    if remedy.startswith("for a translated address") and not _was_translated(journey):
        return True
    found = _SETTING.search(remedy)
    if found is not None:
        return here.settings.values.get(found[1]) in found.groups()[1:]
    return remedy.endswith(("stateful", "'stateful'")) and journey.deciding.arrived.protocol in here.tracked
