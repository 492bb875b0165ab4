"""What a drill file may say: its keys with their kinds, of which the schema is made too."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, ClassVar

from mossy_compass.files.change import StepIn
from mossy_compass.files.keys import YES_NO, Part, ValueKind, by_name, fault, key, listed, number, of, one_of, some, words
from mossy_compass.packet.packet import DEFAULT_SIZE, DEFAULT_TTL
from mossy_compass.plan.reasons import Fate
from mossy_compass.walk.journey import Symptom

NAME = words(200, 1)


TEXT = words(1000)


SENTENCE = words(500, 1)


CHANGES = ValueKind(
    lambda: {"type": "any"},
    lambda: {"anyOf": [{"type": "string"}, {"type": "array", "items": {"$ref": "#/$defs/StepIn"}}]},
    inner=of(StepIn),
)
"""A change file, or steps, each of which is read at its place."""


LIVING = ("sessions", "mappings", "expectations", "associations")
"""What devices remember, and drills count."""


class ExpectIn(Part):
    """An expectation. It says what must hold of some flows."""

    short: ClassVar[str] = "that"

    that: str = key(
        SENTENCE, "SOURCE reaches TARGET for SERVICE, or SOURCE never reaches TARGET; each may be a group, segment or zone.", ""
    )
    always: str = key(
        SENTENCE,
        "SOURCE never reaches TARGET, or SOURCE reaches TARGET, with for or except SERVICE and passing or without passing DEVICE after "
        "it, or seeing refused, unreachable or silence after never: proven for every packet that the sources can send.",
        "",
    )
    from_: str = key(NAME, "Who sends: a host, a group, a segment, a zone, a prefix.", "")
    to: str = key(NAME, "Whom it is sent to: the same, a name, an address.", "")
    service: list[str] = key(some(NAME, 1), "What is asked for; what the target listens for when left out.", list)
    reaches: bool | None = key(YES_NO, "yes: it is answered. no: it does not even arrive.", None)
    fate: str | None = key(one_of(*(f.value for f in Fate)), "How it ends.", None)
    symptom: str | None = key(one_of(*(s.value for s in Symptom)), "What the sender sees.", None)
    cause: str | None = key(NAME, "Code of the cause, such as filter.end.", None)
    by: str | None = key(NAME, "LIST/RULE that has a part in it.", None)
    passes: list[str] = key(some(NAME, 1), "Devices that it passes, in this order.", list)
    avoids: list[str] = key(some(NAME, 1), "Devices that it does not pass.", list)
    exit: str | None = key(NAME, "DEVICE/INTERFACE that it leaves by.", None)
    seen_as: str | None = key(NAME, "Source address that the far end sees, with or without its port.", None)
    logs: str | None = key(NAME, "LIST/RULE that writes a log line of it.", None)
    every_path: bool = key(YES_NO, "All of it must hold for every combination of equal ways.", False)
    counter: str | None = key(NAME, "DEVICE/LIST/RULE whose counter is read instead of testing a flow; with is.", None)
    sessions: str | None = key(NAME, "DEVICE whose living sessions are counted instead; with is.", None)
    probe: str | None = key(NAME, "DEVICE/PROBE whose verdict is read instead; with verdict.", None)
    verdict: str | None = key(one_of("up", "down"), "What that probe must be by now.", None)
    uplinks: str | None = key(NAME, "DEVICE/GROUP of uplinks that is looked at instead; with in-use.", None)
    in_use: list[str] = key(some(NAME, 1), "The members that new flows must leave by; none where no member can serve.", list)
    mappings: str | None = key(NAME, "DEVICE whose living mappings are counted instead; with is.", None)
    expectations: str | None = key(NAME, "DEVICE whose expected second channels are counted instead; with is.", None)
    associations: str | None = key(NAME, "DEVICE whose associations of tunnels are counted instead; with is.", None)
    is_: int | None = key(
        number(0, 1_000_000_000), "What is counted: packets, sessions, mappings, expectations or associations.", None
    )
    within: str = key(NAME, "Name of a conversation: what would follow in it is tried, and nothing of it stays.", "")
    next_: str = key(NAME, "What would follow: data, fin, reset, again, late or open, each also after the word answer.", "")
    at: str | None = key(NAME, "Time of the test, as 2026-05-04T10:30+02:00.", None)
    application: str | None = key(NAME, "The flow is of this application.", None)
    last_resort: bool = key(YES_NO, "The uplink of last resort is in use.", False)
    family: int | None = key(number(4, 6), "4 or 6; both where both ends have both, when left out.", None)
    size: int = key(number(28, 65535), "Length of the packet in bytes.", DEFAULT_SIZE)
    ttl: int = key(number(1, 255), "Time to live in hops.", DEFAULT_TTL)
    source_port: int | None = key(number(0, 65535), "Source port.", None)
    sample: int = key(number(0, 20_000), "Test only so many of the flows, chosen by seed.", 0)
    seed: int = key(number(0, 1_000_000), "For the sample.", 1)

    def check(self) -> None:
        """Refuse keys that do not go together."""
        if self.always:
            self._check_always()
            return
        counts = [k for k in ("counter", *LIVING) if getattr(self, k) is not None]
        flow = any((self.from_, self.to, self.service, self.reaches is not None))
        self._check_read(counts, flow)
        if self.within:
            self._check_within()
            return
        if self.next_:
            raise fault("next: says what follows in a conversation: say within: NAME too.")
        if self.that and flow:
            raise fault("the sentence says from, to, service and reaches already: leave these keys out.")
        if not any((counts, self.probe, self.uplinks, self.that, self.from_ and self.to)):
            raise fault("an expectation says from and to, or a sentence: SOURCE reaches TARGET for SERVICE.")

    def _check_always(self) -> None:
        """Refuse whatever is said beside a claim."""
        usual = ("always", "size", "ttl", "sample", "seed")  # these have a value of their own when nothing is said
        said = (getattr(self, k) for k in self.keys if k not in usual)
        if any(value is not None and value is not False and value not in ("", []) for value in said):
            raise fault("always: says all of a claim: write what else is expected as a step of its own.")

    def _check_read(self, counts: Sequence[str], flow: bool) -> None:
        """Refuse what does not go with reading something that is there.

        Args:
            counts: keys of what is counted.
            flow: a flow is said too.

        """
        tests = bool(self.that or self.from_ or self.to or self.within)
        if len(counts) > 1:
            raise fault(f"{' and '.join(counts)} are counted each in a step of its own.")
        if bool(counts) != (self.is_ is not None):
            raise fault("what is counted and is go together: counter: DEVICE/LIST/RULE, or sessions: DEVICE, and is: NUMBER.")
        if (self.probe is None) != (self.verdict is None):
            raise fault("probe and verdict go together: probe: DEVICE/PROBE, and verdict: up or down.")
        if self.probe is not None and (counts or tests):
            raise fault("probe: reads how a probe is, and tests no flow: write two steps.")
        if (self.uplinks is None) != (not self.in_use):
            raise fault("uplinks and in-use go together: uplinks: DEVICE/GROUP, and in-use: MEMBER, or none.")
        if self.uplinks is not None and (counts or self.probe or tests):
            raise fault("uplinks: reads what is in use, and tests no flow: write two steps.")
        if counts and (tests or flow):
            raise fault(f"{counts[0]}: reads what is there, and tests no flow: write two steps.")

    def _check_within(self) -> None:
        """Refuse what cannot be expected of a packet within a conversation."""
        if self.that or self.from_ or self.to or self.service:
            raise fault("within: names a conversation, whose ends are known: leave from, to and service out.")
        others = (self.by, self.exit, self.seen_as, self.logs)
        if self.passes or self.avoids or self.every_path or any(o is not None for o in others):
            if self.by == "answerer":
                raise fault(f"who sends it is part of next: write next: answer {self.next_ or 'data'}.")
            raise fault("of what follows in a conversation reaches, fate, cause and symptom can be expected.")
        if all(v is None for v in (self.reaches, self.fate, self.cause, self.symptom)):
            self.reaches = True


class SendIn(Part):
    """A sending. Its packets leave their sessions behind."""

    from_: str = key(NAME, "Who sends.", "")
    to: str = key(NAME, "To whom.", "")
    service: str = key(NAME, "What.", "ping")
    count: int = key(number(1, 10_000), "How many flows.", 1)
    at: str | None = key(NAME, "Time of the test.", None)
    application: str | None = key(NAME, "The flow is of this application.", None)
    source_port: int | None = key(number(0, 65535), "Source port.", None)
    family: int | None = key(number(4, 6), "4 or 6, to choose among the target's addresses.", None)
    as_: str = key(NAME, "Name of the conversation that it begins.", "")
    within: str = key(NAME, "Name of a conversation that it follows in, instead of from and to.", "")
    next_: str = key(NAME, "What follows in it: data, fin, reset, again, late or open, each also after the word answer.", "")
    announces: str = key(NAME, "What follows in it is the announcement of a second channel: tcp/40021.", "")
    by: str = key(one_of("asker", "answerer"), "Who sends what follows: asker or answerer.", "asker")

    def check(self) -> None:
        """Refuse keys that do not go together."""
        if self.within and (self.from_ or self.to or self.as_ or self.count != 1):
            raise fault("what follows in a conversation says within and next: leave from, to, as and count out.")
        if (self.next_ or self.announces) and not self.within:
            raise fault("next: and announces: say what follows in a conversation: say within: NAME too.")
        if self.next_ and self.announces:
            raise fault("announces: is what follows: leave next out.")
        if not self.within and not (self.from_ and self.to):
            raise fault("a sending says from and to; or within, for what follows in a conversation.")
        if self.as_ and self.count != 1:
            raise fault("a conversation is one flow: leave count out, or as.")


class CompareIn(Part):
    """A comparison. It is made with a moment that was kept."""

    short: ClassVar[str] = "with"

    with_: str = key(NAME, "Name of the moment.")
    changes: int = key(number(0, 1_000_000), "So many flows end differently, no more and no fewer.", 0)


class IntentIn(Part):
    """A line of an intent table."""

    source: str = key(NAME, "Who sends.")
    target: str = key(NAME, "To whom.")
    service: str = key(NAME, "What; what the target listens for when left out.", "")
    wanted: bool = key(YES_NO, "yes: it is answered. no: it does not arrive.")
    why: str = key(TEXT, "Why.", "")


def _nested() -> Any:
    """Steps within a repetition: the part is made below, and refers to itself."""
    return {"type": "any"}


class RepeatIn(Part):
    """A repetition. Its steps are done several times over."""

    times: int = key(number(1, 10_000), "How often.")
    steps: list[Any] = key(listed(ValueKind(_nested, lambda: {"$ref": "#/$defs/DrillStepIn"})), "What is repeated.")


class DrillStepIn(Part):
    """A step of a drill. It says exactly one of its keys, beside about."""

    expect: ExpectIn | None = key(of(ExpectIn), "Something must hold: a sentence, or a mapping.", None)
    send: SendIn | None = key(of(SendIn), "Send packets; their sessions stay.", None)
    wait: str | None = key(NAME, "Time passes, as 5 min or 2 h 4 min.", None)
    settle: bool | None = key(YES_NO, "yes: time passes until no probe's verdict changes any more.", None)
    clear: str | None = key(
        NAME, "The sessions of a device are cleared, their mappings with them, and the associations of its tunnels.", None
    )
    fail: list[str] | None = key(
        some(NAME, 1),
        "Things fail: link NAME, interface DEVICE/PORT, device, host, service HOST/WORD, name, lease DEVICE/PORT. Or a cable gets worse: "
        "quality NAME latency 80 ms, with jitter 5 ms, loss 2 %.",
        None,
    )
    restore: list[str] | None = key(some(NAME, 1), "Things work again; all for everything.", None)
    change: Any = key(CHANGES, "A change file, or its steps, written and in force at once.", None)
    edit: Any = key(CHANGES, "The same, written only: it is in force when it is put there.", None)
    put: str | None = key(one_of("all"), "all: whatever is edited comes in force.", None)
    keep: str | None = key(NAME, "Keep this moment under a name.", None)
    back_to: str | None = key(NAME, "Go back to a moment.", None)
    compare: CompareIn | None = key(of(CompareIn), "Compare with a moment: nothing ends differently, or so many flows.", None)
    repeat: RepeatIn | None = key(of(RepeatIn), "Do steps several times.", None)
    table: list[IntentIn] | None = key(listed(of(IntentIn)), "A table of intents, a line an expectation.", None)
    table_file: str | None = key(NAME, "The same in a CSV file: source, target, service, wanted, why.", None)
    about: str = key(TEXT, "Why.", "")

    @property
    def said(self) -> list[str]:
        """The keys that are said."""
        return [k for k in self.keys if k != "about" and getattr(self, k) is not None]


class DrillIn(Part):
    """A drill file."""

    mossy_drill: str = key(one_of("1", json={"enum": [1, "1"]}), "Version of the format: 1.")
    network: str = key(NAME, "The network file, beside this one.")
    title: str = key(TEXT, "Name of the drill.", "")
    about: str = key(TEXT, "What it is for.", "")
    defaults: dict[str, str] = key(
        by_name(one_of("at", "application"), NAME), "Wishes about every flow that does not say otherwise: at, application.", dict
    )
    steps: list[DrillStepIn] = key(listed(of(DrillStepIn)), "The steps, done in this order.")
