"""Drill files and intent tables: what must hold of a network, read with every fault at its place.

A drill names its network file, whose faults are shown as its own. Names within expectations are looked up when the file is read,
on the network that it begins with; what a change renames later is looked up when the step is done.
"""

from __future__ import annotations

import csv
import io
import itertools
from collections.abc import Callable, Container, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

from mossy_compass.errors import InputError, MossyError, NetworkFileError, QuestionError
from mossy_compass.files.change import StepIn, change_steps, read_change, renames
from mossy_compass.files.drillforms import LIVING, CompareIn, DrillIn, DrillStepIn, ExpectIn, IntentIn, RepeatIn, SendIn
from mossy_compass.files.hours import parse_moment
from mossy_compass.files.keys import Part
from mossy_compass.files.load import begins_as, plain_bytes, read_bytes
from mossy_compass.files.tree import Node, decode, read_tree
from mossy_compass.files.validate import read_part, shape_alone
from mossy_compass.lab.claims import claim_of
from mossy_compass.lab.conversation import parse_then
from mossy_compass.lab.drill import MOST_STEPS
from mossy_compass.lab.ends import meant
from mossy_compass.lab.expect import Expectation, Wanted, flows, short
from mossy_compass.lab.faults import meant as meant_fault
from mossy_compass.lab.faults import parse as parse_fault
from mossy_compass.lab.lab import Flow
from mossy_compass.lab.steps import (
    Always,
    BackTo,
    ChangeStep,
    Clear,
    Compare,
    Count,
    Drill,
    DrillStep,
    EditStep,
    ExpectFlows,
    Fail,
    InUse,
    Keep,
    Living,
    PutStep,
    Repeat,
    Restore,
    Say,
    Send,
    Settle,
    Version,
    Wait,
    Watched,
    Within,
    spread,
)
from mossy_compass.marks import Hint, Mark, Problem, Problems, Severity, hint
from mossy_compass.model.durations import duration_words, parse_duration
from mossy_compass.model.network import Network
from mossy_compass.packet.packet import DEFAULT_SIZE, DEFAULT_TTL
from mossy_compass.plan.causes import CAUSES
from mossy_compass.walk.question import Options, services_of

FORMAT = "1"
BEGINS = "A drill begins with 'mossy-drill: 1', and names its network: and its steps:."
OTHERS = {"mossy-network": "network", "mossy-change": "change"}


class Source(NamedTuple):
    """What a version of a network was read from.

    Attributes:
        text: of the file.
        path: that marks cite.

    """

    text: str
    path: str


class _DrillReader:
    """Reads the steps of one file.

    Attributes:
        network: what the drill begins with.
        problems: where faults go.
        folder: that other files are beside.
        kept: moments that were kept so far.
        talks: conversations that were begun so far.
        changed: a step before may have made other names.
        compared: moments that something is compared with.
        torn: some step could not be read at all, and might have kept a moment.

    """

    def __init__(self, network: Network, problems: Problems, folder: Path, document: DrillIn, text: str, name: str) -> None:
        self.network = network
        self.problems = problems
        self.folder = folder
        self.document = document
        self.text = text
        self.name = name
        self.kept: list[str] = []
        self.talks: list[str] = []
        self.changed = False
        self.compared: set[str] = set()
        self.torn = bool(problems.errors)

    def fault(self, mark: Mark, words: str, remedy: str | Hint = "") -> None:
        """Note a fault of the drill."""
        self.problems.add("drill.step", mark, words, remedy)

    def steps(self, entries: Iterable[DrillStepIn], node: Node) -> Iterator[DrillStep]:
        """The steps of a list."""
        for index, entry in enumerate(entries):
            place = node.child(index) or node
            if len(entry.said) != 1:
                said = f"; this one says {' and '.join(entry.said)}" if entry.said else ""
                self.fault(
                    place.mark, f"a step says exactly one of {', '.join(k for k in DrillStepIn.known() if k != 'about')}{said}."
                )
                continue
            verb = entry.said[0]
            inner = place.child(verb.replace("_", "-")) or place
            try:
                yield from _READ[verb](self, getattr(entry, verb), entry.about, inner)
            except NetworkFileError as fault:
                for problem in fault.problems:
                    self.problems.add("drill.change", inner.mark, f"{problem.mark}: {problem.message}", problem.remedy)
            except MossyError as fault:
                self.fault(inner.mark, str(fault))

    def options(self, at: str | None, application: str | None, **more: Any) -> Options:
        """Wishes about packets, with the defaults of the file."""
        at = at if at is not None else self.document.defaults.get("at")
        application = application if application is not None else self.document.defaults.get("application")
        made = Options(at=parse_moment(at) if at is not None else None, application=application, **more)
        made.check()
        return made

    def certain(self) -> bool:
        """Whether names can be looked up now: a change before this step may make others."""
        return not self.changed


def read_drill(path: str | Path, network: str | Path | None = None) -> Drill:
    """Read a drill file, or a CSV file of intents.

    Args:
        path: the file.
        network: the network file, for a CSV file; for a drill, instead of the one that it names.

    Raises:
        NetworkFileError: it has faults, or its network has; ``problems`` holds all of them.
        QuestionError: a file cannot be opened.

    """
    data = plain_bytes(path, "mossy-drill")
    if str(path).lower().endswith(".csv"):
        return of_csv(data, str(path), network)
    return drill_of(data, str(path), Path(path).parent, network)


def drill_of(data: bytes, name: str, folder: Path, network: str | Path | None = None) -> Drill:
    """The same of bytes; ``name`` is what marks cite, and other files are beside ``folder``."""
    problems = Problems()
    text = decode(data, name)
    tree = read_tree(text, name, problems, BEGINS, lambda part: shape_alone(DrillIn, part, problems))
    must = {"mossy-drill": FORMAT, "steps": [], "network": "-"}
    if network is not None:
        must["network"] = str(network)
    document = _document(tree, problems, must)
    if document.network == "-":
        raise NetworkFileError(tuple(p for p in problems.in_order() if p.severity == "error"))
    place = Path(network) if network is not None else folder / document.network
    source, found = _network(place, tree.at("network").mark, text.splitlines())
    reader = _DrillReader(found, problems, folder, document, text, name)
    return Drill(document.title or name, found, _steps(reader, document, tree), source, document.about, name)


def _document(tree: Node, problems: Problems, must: dict[str, Any]) -> DrillIn:
    """A document by its shape. Faulty steps are noted, and something harmless stands in for them, so that the others are read.

    Raises:
        NetworkFileError: it is no drill.

    """
    data = tree.plain()
    if isinstance(data, dict) and "mossy-drill" not in data:
        other = next((k for k in OTHERS if k in data), None)
        if other is not None:
            problems.add("file.other", tree.mark, f"this is a {OTHERS[other]} file, and no drill.", BEGINS)
            raise NetworkFileError(tuple(problems))
    document = read_part(DrillIn, tree, problems, must, BEGINS, "steps", {"restore": "all"})
    if document is None:
        raise NetworkFileError(tuple(p for p in problems.in_order() if p.severity == "error"))
    return document


def steps_of(data: bytes, name: str, network: Network) -> tuple[DrillStep, ...]:
    """The steps of a drill file for a network that is at hand already.

    Raises:
        NetworkFileError: the drill has faults.

    """
    problems = Problems()
    text = decode(data, name)
    tree = read_tree(text, name, problems, BEGINS, lambda part: shape_alone(DrillIn, part, problems))
    document = _document(tree, problems, {})
    return _steps(_DrillReader(network, problems, Path(name).parent, document, text, name), document, tree)


def _steps(reader: _DrillReader, document: DrillIn, tree: Node) -> tuple[DrillStep, ...]:
    """The steps of a document, every fault of them told at once."""
    steps = tuple(reader.steps(document.steps, tree.at("steps")))
    if not document.steps:
        reader.fault(
            tree.at("steps").mark, "there is no step, so nothing would be tested.", "Write one: - expect: HOST reaches HOST."
        )
    _in_time(reader, steps)
    if reader.problems.errors:
        raise NetworkFileError(tuple(p for p in reader.problems.in_order() if p.severity == "error"))
    return tuple(_compared(s, reader.compared) for s in steps)


def _in_time(reader: _DrillReader, steps: Sequence[DrillStep]) -> None:
    """No packet may be sent before one that was sent already: the sessions that it would meet do not exist yet."""
    latest: tuple[int, str] | None = None
    kept: dict[str, tuple[int, str] | None] = {}
    told: set[Mark] = set()
    for step in itertools.islice(spread(steps), MOST_STEPS):  # of more, running it says that they are too many
        if isinstance(step, Keep):
            kept[step.name] = latest
        elif isinstance(step, Wait) and latest is not None:
            latest = latest[0] + step.passes // 1000, step.words
        elif isinstance(step, BackTo):
            latest = kept.get(step.name)
        elif isinstance(step, Send | ExpectFlows):
            now = step.flow.options.now if isinstance(step, Send) else step.expectation.options.now
            if now is None:
                continue
            if latest is not None and now < latest[0] and step.mark not in told:
                told.add(step.mark)
                reader.fault(
                    step.mark,
                    f"its time lies before that of '{latest[1]}', which was done already.",
                    "Give it a later time, or go back to a moment that was kept before.",
                )
            if isinstance(step, Send) and (latest is None or now > latest[0]):
                latest = now, step.words


def _network(place: Path, mark: Mark, lines: Sequence[str] = ()) -> tuple[Source, Network]:
    """The network that a drill is about; its faults are shown as they are, but nothing of a file that is none."""
    data = plain_bytes(place)
    if not begins_as(data, "mossy-network"):
        words = f"{place} is no network file."
        source = lines[mark.line - 1] if 0 < mark.line <= len(lines) else None
        remedy = "Name one; it begins with 'mossy-network: 1'."
        raise NetworkFileError([Problem("drill.network", Severity.ERROR, mark, words, remedy, source)])
    reading = read_bytes(data, str(place))
    if reading.network is None:
        raise NetworkFileError(reading.errors)
    return Source(decode(data, str(place)), str(place)), reading.network


def _compared(step: DrillStep, names: set[str]) -> DrillStep:
    """A moment that something is compared with is kept with its flows."""
    if isinstance(step, Keep) and step.name in names:
        return Keep(step.words, step.about, step.mark, name=step.name, compared=True)
    if isinstance(step, Repeat):
        return Repeat(step.words, step.about, step.mark, tuple(_compared(s, names) for s in step.steps), step.times)
    return step


# --- steps -------------------------------------------------------------------------------------------------------


def _expect_read(reader: _DrillReader, entry: ExpectIn, about: str, node: Node) -> DrillStep | None:
    """An expectation that tests no flow: of what is proven, counted, or in use; None for one of flows."""
    if entry.always:
        claim = claim_of(entry.always)
        if reader.certain():
            claim.check(reader.network.devices)
            meant(reader.network, claim.source, True)
            meant(reader.network, claim.target, False)
            for service in (*claim.services, *claim.but):
                services_of(reader.network, service)
        return Always(f"always: {claim.words}", about, node.mark, claim=claim)
    if entry.counter is not None and entry.is_ is not None:
        words = f"{entry.counter} has decided {entry.is_} packets"
        return Count(words, about, node.mark, rule=entry.counter, count=int(entry.is_))
    if entry.probe is not None and entry.verdict is not None:
        device, _, probe = entry.probe.partition("/")
        _device(reader, device)
        words = f"probe {probe} of {device} is {entry.verdict}"
        return Watched(words, about, node.mark, device=device, probe=probe, up=entry.verdict == "up")
    if entry.uplinks is not None:
        device, _, group = entry.uplinks.partition("/")
        _device(reader, device)
        words = f"{entry.uplinks} leaves by {', '.join(entry.in_use)}"
        return InUse(words, about, node.mark, device=device, group=group, members=tuple(entry.in_use))
    for table in LIVING:
        device = getattr(entry, table)
        if device is not None and entry.is_ is not None:
            _device(reader, device)
            one = int(entry.is_) == 1
            words = f"{int(entry.is_)} {table.removesuffix('s') if one else table} live{'s' * one} at {device}"
            return Living(words, about, node.mark, device=device, table=table, count=int(entry.is_))
    return None


def _expect(reader: _DrillReader, entry: ExpectIn, about: str, node: Node) -> Iterator[DrillStep]:
    """An expectation; its names are looked up now, unless a change before it may have made them."""
    read = _expect_read(reader, entry, about, node)
    if read is not None:
        yield read
        return
    if entry.within:
        yield _expect_within(reader, entry, about, node)
        return
    source, target, services, reaches = entry.from_, entry.to, tuple(entry.service), entry.reaches
    if entry.that:
        source, target, services, reaches = short(entry.that)
    asked = (reaches, entry.fate, entry.symptom, entry.cause, entry.by, entry.exit, entry.seen_as, entry.logs)
    nothing = asked.count(None) == len(asked) and not entry.passes and not entry.avoids
    if entry.cause is not None and entry.cause not in CAUSES:
        reader.fault(node.mark, f"there is no cause '{entry.cause}'.", hint(entry.cause, CAUSES, "causes"))
    wanted = Wanted(
        reaches=True if nothing else reaches,
        fate=entry.fate,
        symptom=entry.symptom,
        cause=entry.cause,
        by=entry.by,
        passes=tuple(entry.passes),
        avoids=tuple(entry.avoids),
        exit=entry.exit,
        seen_as=entry.seen_as,
        logs=entry.logs,
        every_path=entry.every_path,
    )
    options = reader.options(
        entry.at,
        entry.application,
        last_resort=entry.last_resort,
        family=entry.family,
        size=entry.size,
        ttl=entry.ttl,
        source_port=entry.source_port,
    )
    words = (entry.that or _sentence(source, target, services, wanted)) + _circumstances(entry)
    made = Expectation(words, source, target, services, wanted, options, entry.sample, entry.seed, about, node.mark)
    if reader.certain():
        _parts_known(reader, made, node)
        flows(reader.network, made)
    yield ExpectFlows(words, about, node.mark, expectation=made)


def _parts_known(reader: _DrillReader, made: Expectation, node: Node) -> None:
    """Devices and rules that an expectation names must be there."""
    for name in (*made.wanted.passes, *made.wanted.avoids):
        if name not in reader.network.devices:
            reader.fault(node.mark, f"there is no device '{name}'.", hint(name, reader.network.devices, "devices"))
    for rule in (made.wanted.by, made.wanted.logs):
        if rule is None:
            continue
        name, _, row = rule.partition("/")
        lists = reader.network.lists
        if name not in lists:
            reader.fault(node.mark, f"there is no list '{name}'; write LIST/RULE.", hint(name, lists, "lists"))
        elif row not in (*(r.id for r in lists[name].rules), "end-of-list"):
            reader.fault(node.mark, f"list {name} has no rule '{row}'.", hint(row, [r.id for r in lists[name].rules], "rules"))


def _circumstances(entry: ExpectIn) -> str:
    """What is not as usual when it is tested, so that two expectations of one flow can be told apart."""
    parts = [f"{word} {value}" for word, value in (("at", entry.at), ("of", entry.application)) if value]
    parts += ["on the last-resort uplink"] if entry.last_resort else []
    parts += [f"IPv{entry.family}"] if entry.family else []
    parts += [f"{entry.size} bytes"] if entry.size != DEFAULT_SIZE else []
    parts += [f"TTL {entry.ttl}"] if entry.ttl != DEFAULT_TTL else []
    parts += [f"from port {entry.source_port}"] if entry.source_port is not None else []
    return f" ({', '.join(parts)})" if parts else ""


def _sentence(source: str, target: str, services: tuple[str, ...], wanted: Wanted) -> str:
    """An expectation that was written as a mapping, as a sentence."""
    what = f" for {', '.join(services)}" if services else ""
    parts = [{True: "answered", False: "does not arrive"}[wanted.reaches]] if wanted.reaches is not None else []
    parts += [
        f"{n} {v}" for n, v in (("fate", wanted.fate), ("symptom", wanted.symptom), ("cause", wanted.cause), ("by", wanted.by)) if v
    ]
    parts += [f"past {', '.join(wanted.passes)}"] if wanted.passes else []
    parts += [f"not past {', '.join(wanted.avoids)}"] if wanted.avoids else []
    parts += [f"out of {wanted.exit}"] if wanted.exit else []
    parts += [f"seen as {wanted.seen_as}"] if wanted.seen_as else []
    parts += [f"logged by {wanted.logs}"] if wanted.logs else []
    parts += ["by every way"] if wanted.every_path else []
    return f"{source} to {target}{what}: {', '.join(parts)}"


def _device(reader: _DrillReader, name: str) -> None:
    """Refuse a device that is not there."""
    if reader.certain() and name not in reader.network.devices:
        raise QuestionError(f"there is no device '{name}'. {hint(name, reader.network.devices, 'devices')}")


def _talk(reader: _DrillReader, name: str) -> None:
    """Refuse a conversation that no step before began."""
    if name not in reader.talks:
        raise QuestionError(f"no step before began a conversation '{name}'. {hint(name, reader.talks, 'conversations')}")


def _expect_within(reader: _DrillReader, entry: ExpectIn, about: str, node: Node) -> DrillStep:
    """An expectation of what would follow in a conversation."""
    _talk(reader, entry.within)
    if entry.cause is not None and entry.cause not in CAUSES:
        reader.fault(node.mark, f"there is no cause '{entry.cause}'.", hint(entry.cause, CAUSES, "causes"))
    then = parse_then(entry.next_ or "data", reader.network)
    if then.what is None:
        raise QuestionError(f"'{then.words}' sends nothing, so nothing can be expected of it. Write a step of its own.")
    wanted = Wanted(reaches=entry.reaches, fate=entry.fate, symptom=entry.symptom, cause=entry.cause)
    parts = [f"{k} {v}" for k, v in (("fate", entry.fate), ("cause", entry.cause), ("symptom", entry.symptom)) if v is not None]
    if entry.reaches is not None:
        parts.insert(0, "arrives" if entry.reaches else "does not arrive")
    return Within(
        f"{then.words} within {entry.within}: {', '.join(parts)}", about, node.mark, name=entry.within, then=then, wanted=wanted
    )


def _wait(reader: _DrillReader, entry: str, about: str, node: Node) -> Iterator[DrillStep]:
    """Time passes."""
    passed = parse_duration(entry)
    if not passed:
        raise QuestionError(f"'{entry}' is no time. Write it with its unit: 90 s, 5 min, 2 h 4 min.")
    yield Wait(f"wait {duration_words(passed)}", about, node.mark, passes=passed)


def _settle(reader: _DrillReader, entry: bool, about: str, node: Node) -> Iterator[DrillStep]:
    """Time passes until the probes are at rest."""
    if not entry:
        raise QuestionError("settle: no does nothing. Write settle: yes, or remove the step.")
    yield Settle("settle", about, node.mark)


def _clear(reader: _DrillReader, entry: str, about: str, node: Node) -> Iterator[DrillStep]:
    """The sessions of a device are cleared."""
    _device(reader, entry)
    yield Clear(f"clear the sessions of {entry}", about, node.mark, device=entry)


def _send(reader: _DrillReader, entry: SendIn, about: str, node: Node) -> Iterator[DrillStep]:
    """Packets that are sent; one host to another, or within a conversation."""
    if entry.within:
        _talk(reader, entry.within)
        said = f"announce {entry.announces}" if entry.announces else entry.next_ or "data"
        then = parse_then(said if entry.by == "asker" else f"answer {said}", reader.network)
        yield Say(f"{then.words} within {entry.within}", about, node.mark, name=entry.within, then=then)
        return
    if entry.as_:
        reader.talks.append(entry.as_)
    if reader.certain():
        meant(reader.network, entry.from_, True)
        meant(reader.network, entry.to, False)
        services_of(reader.network, entry.service)
    flow = Flow(
        entry.from_,
        entry.to,
        entry.service,
        reader.options(entry.at, entry.application, source_port=entry.source_port, family=entry.family),
    )
    times = f" {entry.count} times" if entry.count > 1 else ""
    words = f"send {entry.service} from {entry.from_} to {entry.to}{times}{f' as {entry.as_}' if entry.as_ else ''}"
    yield Send(words, about, node.mark, flow=flow, times=entry.count, called=entry.as_)


def _fail(reader: _DrillReader, entry: list[str], about: str, node: Node) -> Iterator[DrillStep]:
    """Things that fail."""
    if reader.certain():
        for what in entry:
            parse_fault(reader.network, what)
    yield Fail(f"fail {', '.join(entry)}", about, node.mark, tuple(entry))


def _restore(reader: _DrillReader, entry: list[str], about: str, node: Node) -> Iterator[DrillStep]:
    """Things that work again."""
    if entry == ["all"]:
        yield Restore("restore all", about, node.mark)
        return
    if reader.certain():
        try:
            for what in entry:
                meant_fault(reader.network, what, ())
        except QuestionError as error:
            raise QuestionError(f"{error} To restore whatever failed, write all.") from None
    yield Restore(f"restore {', '.join(entry)}", about, node.mark, tuple(entry))


def _put(reader: _DrillReader, entry: str, about: str, node: Node) -> Iterator[DrillStep]:
    """What is edited comes in force."""
    yield PutStep("put in force", about, node.mark)


def _edit(reader: _DrillReader, entry: Any, about: str, node: Node) -> Iterator[DrillStep]:
    """A change that is written only."""
    for step in _change(reader, entry, about, node):
        assert isinstance(step, ChangeStep)
        yield EditStep(f"edit{step.words.removeprefix('change')}", about, node.mark, make=step.make)


def _change(reader: _DrillReader, entry: Any, about: str, node: Node) -> Iterator[DrillStep]:
    """A change file, or its steps written here. What they come to is found out when the step is done."""
    if isinstance(entry, str):
        path = reader.folder / entry
        if not begins_as(plain_bytes(path, "mossy-change"), "mossy-change"):
            raise QuestionError(f"{path} is no change file. Name one; it begins with 'mossy-change: 1'.")

        def from_file(source: Source) -> Version:
            """The changed text, and its network."""
            made = read_change(path, source.text)
            return Version(*_read(source, made.text), made.renamed)

        words, make = f"change by {entry}", from_file
    else:
        read = _parts(reader, StepIn, entry, node)
        if len(read) != len(entry):
            return
        if not read or any(len(s.said) != 1 for s in read):
            raise QuestionError(f"each step of a change says exactly one of {', '.join(StepIn.known())}.")

        def from_steps(source: Source) -> Version:
            """The changed text, and its network."""
            return Version(*_read(source, change_steps(read, source.text)), renames(read))

        words, make = f"change: {'; '.join(_told(s) for s in read)}", from_steps
    reader.changed = True
    yield ChangeStep(words, about, node.mark, make=make)


P = TypeVar("P", bound=Part)


def _parts(reader: _DrillReader, kind: type[P], entries: Any, node: Node) -> list[P]:
    """The items of a list, each read at its place; faulty ones are noted, and left out."""
    if not isinstance(entries, list):
        raise QuestionError("a list is wanted here.")
    found = (
        read_part(kind, node.child(i) or node, reader.problems, {}, "Write its key, ':' and a value.") for i in range(len(entries))
    )
    return [part for part in found if part is not None]


def _told(step: StepIn) -> str:
    """A step of a change in a few words."""
    verb = step.said[0]
    value = getattr(step, verb)
    return f"{verb} {value if isinstance(value, str) else getattr(value, 'what', None) or getattr(value, 'into', '')}"


MOST_TOLD = 5
"""So many errors of a changed network are told with the step that made them."""


def _read(source: Source, text: str) -> tuple[Source, Network]:
    """A changed text as a network.

    Raises:
        InputError: it cannot be used any more.

    """
    reading = read_bytes(text.encode(), source.path)
    if reading.network is None:
        told = "; ".join(f"{p.mark}: {p.message}" for p in reading.errors[:MOST_TOLD])
        more = len(reading.errors) - MOST_TOLD
        raise InputError(f"after this change the network cannot be used: {told}{f' And {more} more.' if more > 0 else ''}")
    return Source(text, source.path), reading.network


def _keep(reader: _DrillReader, entry: str, about: str, node: Node) -> Iterator[DrillStep]:
    """A moment that is kept."""
    reader.kept.append(entry)
    yield Keep(f"keep as {entry}", about, node.mark, name=entry)


def _known(reader: _DrillReader, name: str, node: Node) -> None:
    """A moment must have been kept before."""
    if name not in reader.kept and not reader.torn:
        reader.fault(
            node.mark,
            f"nothing was kept as '{name}' before this step.",
            hint(name, reader.kept, "moments") if reader.kept else "Write keep: NAME above it.",
        )


def _back_to(reader: _DrillReader, entry: str, about: str, node: Node) -> Iterator[DrillStep]:
    """Back to a moment."""
    _known(reader, entry, node)
    yield BackTo(f"back to {entry}", about, node.mark, name=entry)


def _compare(reader: _DrillReader, entry: CompareIn, about: str, node: Node) -> Iterator[DrillStep]:
    """A comparison with a moment."""
    _known(reader, entry.with_, node)
    reader.compared.add(entry.with_)
    number = entry.changes
    what = f"{number} flow{'s end' if number != 1 else ' ends'} differently than" if number else "everything ends as"
    yield Compare(f"{what} when '{entry.with_}' was kept", about, node.mark, name=entry.with_, changes=entry.changes)


def _repeat(reader: _DrillReader, entry: RepeatIn, about: str, node: Node) -> Iterator[DrillStep]:
    """Steps, several times over. They nest as deep as a file may."""
    inner = node.child("steps") or node
    read = _parts(reader, DrillStepIn, entry.steps, inner)
    steps = tuple(reader.steps(read, inner)) if len(read) == len(entry.steps) else ()
    if not entry.steps:
        raise QuestionError("there is nothing to repeat. Write steps: below times:.")
    yield Repeat(f"repeat {entry.times} times", about, node.mark, steps, int(entry.times))


def _table(reader: _DrillReader, entry: list[IntentIn], about: str, node: Node) -> Iterator[DrillStep]:
    """A table of intents."""
    for index, line in enumerate(entry):
        place = node.child(index) or node
        yield from _intent(reader, line, place.mark)


def _intent(reader: _DrillReader, line: IntentIn, mark: Mark) -> Iterator[DrillStep]:
    """One line of a table, as an expectation."""
    wanted = Wanted(reaches=line.wanted)
    services = (line.service,) if line.service else ()
    words = _sentence(line.source, line.target, services, wanted)
    made = Expectation(words, line.source, line.target, services, wanted, reader.options(None, None), about=line.why, mark=mark)
    try:
        if reader.certain():
            flows(reader.network, made)
    except MossyError as fault:
        reader.fault(mark, str(fault))
        return
    yield ExpectFlows(words, line.why, mark, expectation=made)


def _table_file(reader: _DrillReader, entry: str, about: str, node: Node) -> Iterator[DrillStep]:
    """A table of intents in a CSV file."""
    path = reader.folder / entry
    for line, mark in _csv_lines(plain_bytes(path, "source,target,service,wanted,why"), str(path), reader.problems):
        yield from _intent(reader, line, mark)


_READ: dict[str, Callable[[_DrillReader, Any, str, Node], Iterator[DrillStep]]] = {
    "expect": _expect,
    "send": _send,
    "wait": _wait,
    "settle": _settle,
    "clear": _clear,
    "fail": _fail,
    "restore": _restore,
    "change": _change,
    "edit": _edit,
    "put": _put,
    "keep": _keep,
    "back_to": _back_to,
    "compare": _compare,
    "repeat": _repeat,
    "table": _table,
    "table_file": _table_file,
}
"""How each kind of step is read."""


# --- CSV -----------------------------------------------------------------------------------------------------------


COLUMNS = ("source", "target", "service", "wanted", "why")


def _lacking(held: Container[str], words: str) -> str:
    """The first of what every line needs that is not there, in some words; empty where all of it is."""
    return next((words.format(c) for c in ("source", "target", "wanted") if c not in held), "")


def _csv_lines(data: bytes, name: str, problems: Problems) -> Iterator[tuple[IntentIn, Mark]]:
    """The lines of a table of intents (RFC 4180), each fault at its line."""
    remedy = f"The first line names the columns: {', '.join(COLUMNS)}."
    first = data[:1000].lower().partition(b"\n")[0]
    lacking = next((column for column in ("source", "target", "wanted") if column.encode() not in first), "")
    if lacking:
        # A file that is no such table is shown to nobody: a drill of somebody else's may name anything.
        problems.add("drill.table", Mark(name, 1, 1), f"the column '{lacking}' is missing.", remedy)
        return
    text = decode(data, name)
    problems.lines[name] = text.splitlines()
    rows = csv.reader(io.StringIO(text, newline=""), strict=True)  # an open quote would swallow every line below it
    try:
        head = [h.strip().lower() for h in next(rows, [])]
        said = _misnamed(head)
        if said:
            problems.add("drill.table", Mark(name, 1, 1), f"{said}.", remedy)
            return
        for row in rows:
            mark = Mark(name, rows.line_num, 1)
            intent = _csv_line(head, row, mark, problems)
            if intent is not None:
                yield intent, mark
    except csv.Error as fault:
        said = "a quote that was opened is never closed" if "end of data" in str(fault) else f"this is no CSV: {fault}"
        problems.add("drill.table", Mark(name, rows.line_num, 1), f"{said}.", "Quotes stand around a whole cell (RFC 4180).")


def _misnamed(head: Sequence[str]) -> str:
    """What is wrong with the names of a table's columns; empty where nothing is."""
    for column in head:
        if column not in COLUMNS:
            return f"the column '{column}' is not known"
        if head.count(column) > 1:
            return f"the column '{column}' is there twice"
    return _lacking(head, "the column '{}' is missing")


def _csv_line(head: Sequence[str], row: Sequence[str], mark: Mark, problems: Problems) -> IntentIn | None:
    """A line of a table of intents; None for one that is empty, a comment, or faulty."""
    held = {column: value.strip() for column, value in zip(head, row, strict=False) if value.strip()}
    if not row or row[0].strip().startswith("#"):
        return None
    if len(row) > len(head):
        said = f"this line has {len(row)} cells, and the first names {len(head)} columns."
        problems.add("drill.table", mark, said, "Put a text with commas in quotes.")
        return None
    if not held:
        return None
    said = _lacking(held, "there is no {} in this line")
    if said:
        problems.add("drill.table", mark, f"{said}.", "Fill it in, or remove the line.")
        return None
    if held["wanted"].lower() not in ("yes", "no"):
        problems.add("drill.table", mark, f"wanted is '{held['wanted']}', and neither yes nor no.", "Write yes or no.")
        return None
    return IntentIn({**held, "wanted": held["wanted"].lower() == "yes"})


def of_csv(data: bytes, name: str, network: str | Path | None) -> Drill:
    """A CSV file of intents as a drill of its own."""
    if network is None:
        raise QuestionError(f"{name}: a table of intents does not name its network. Add --network FILE.")
    problems = Problems()
    source, found = _network(Path(network), Mark(name, 1, 1))
    document = DrillIn({"mossy-drill": FORMAT, "network": str(network), "steps": []})
    reader = _DrillReader(found, problems, Path(name).parent, document, "", name)
    steps = tuple(s for line, mark in _csv_lines(data, name, problems) for s in _intent(reader, line, mark))
    if not steps and not problems.errors:
        problems.add("drill.table", Mark(name, 1, 1), "there is no line in this table, so nothing would be tested.", "Write one.")
    if problems.errors:
        raise NetworkFileError(tuple(p for p in problems.in_order() if p.severity == "error"))
    return Drill(name, found, steps, source, "", name)
