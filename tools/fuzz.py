"""Hostile network files: shipped ones, changed at random, must be refused with a place or be traced, and never bring us down.

    python tools/fuzz.py [--seconds 120] [--seed 1] [--case N]

Each case is made from the seed and its number alone, so ``--case N`` repeats it. A case is bad when anything but an error
of ours comes out, when it takes more than ten seconds, or when a question asked twice has two answers.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import random
import re
import sys
import time
import traceback
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import mossy_compass as mc
from mossy_compass.exchange.acl import from_data, to_data
from mossy_compass.exchange.captures import capture, packets_of
from mossy_compass.exchange.junit import junit
from mossy_compass.exchange.sarif import log
from mossy_compass.exchange.syslog import lines as lines_of
from mossy_compass.files.change import change
from mossy_compass.files.drills import drill_of, of_csv
from mossy_compass.files.edit import Editor, Patch
from mossy_compass.lab.conversation import parse_then
from mossy_compass.lab.faults import KNOWN
from mossy_compass.report.conversationtext import conversation
from mossy_compass.report.drillrecord import report_dict
from mossy_compass.report.drilltext import whole
from mossy_compass.report.text import as_text
from mossy_compass.safe import safe

DATA = Path(mc.__file__).parent / "data"
SLOW = 10.0
MISTAKES = sorted((Path(__file__).resolve().parent.parent / "examples" / "mistakes").glob("[fnor]*s.yaml"))
SOURCES = [*(DATA / f"{n}.yaml" for n in ("fernhollow", "grounds", "starter")), *MISTAKES]
"""Networks to begin with: the shipped ones, and those with the richest rules."""
WORD = re.compile(r"[A-Za-z0-9_.:/-]+")
VALUES = [
    "[]", "{}", "~", '""', "yes", "no", "0", "-1", "1e9", "99999999999999999999", "any", "self", "outside", "local-networks",
    "0.0.0.0/0", "::/0", "10.40.0.0/33", "10.40.0.0/0.255.0.255", "255.255.255.255", "224.0.0.5", "127.0.0.1", "fe80::1",
    "fe80::1/64", "2001:db8::/32", "::ffff:10.40.0.1", "10.40.0.1/32", "10.40.0.1/31", "203.0.113.80/24", "tcp/0", "tcp/65536",
    "udp/1-65535", "tcp/9-1", "icmp", "icmp6", "gre", "137", "0-65535", "&a [*a]", "*a", "!!python/object:os.system x", "<<: {}",
    '"\\e[2J"', '"\\u202e"', '"$x_2$"', "'=1+1'", "x" * 400, "router", "host", "firewall", "switch", "internet", "permit: any",
]  # fmt: skip
"""What takes the place of a word."""


def shape(word: str) -> str:
    """Digits and letters of a word as one of each, so that words of one kind look alike."""
    return re.sub(r"[a-z-]+", "a", re.sub(r"[0-9]+", "9", word.lower()))


def value(text: str, chance: random.Random) -> str:
    """Another value for one word: a hostile one, or a word from elsewhere in the file."""
    words = list(WORD.finditer(text))
    if not words:
        return text
    at = chance.choice(words)
    how = chance.random()
    alike = [w for w in words if shape(w[0]) == shape(at[0])] if how < 0.6 else words  # an address for an address, often valid
    new = chance.choice(VALUES) if how > 0.8 else chance.choice(alike)[0]
    return text[: at.start()] + new + text[at.end() :]


def lines(text: str, chance: random.Random) -> str:
    """A few lines dropped, doubled, moved or indented."""
    rows = text.split("\n")
    start = chance.randrange(len(rows))
    end = min(len(rows), start + chance.randint(1, 4))
    how = chance.choice(("drop", "double", "move", "indent"))
    part, rest = rows[start:end], rows[:start] + rows[end:]
    if how == "drop":
        return "\n".join(rest)
    if how == "double":
        return "\n".join(rows[:end] + part + rows[end:])
    if how == "indent":
        return "\n".join(rows[:start] + ["  " + p for p in part] + rows[end:])
    to = chance.randrange(len(rest) + 1)
    return "\n".join(rest[:to] + part + rest[to:])


def signs(text: str, chance: random.Random) -> str:
    """One character more, less or other."""
    at = chance.randrange(len(text) + 1)
    return (
        text[:at]
        + chance.choice(["", "[", "}", ":", "-", "\t", "#", '"', "\x00", "\x9b", "é", "\u2028", "%", "*"])
        + text[at + 1 :]
    )


WAYS: tuple[Callable[[str, random.Random], str], ...] = (value, value, value, lines, signs)


def made(seed: int, number: int) -> bytes:
    """The file of a case."""
    chance = random.Random(f"{seed}/{number}")
    text = chance.choice(SOURCES).read_text(encoding="utf-8")
    for _ in range(chance.choice((1, 1, 1, 2, 4))):
        text = chance.choice(WAYS)(text, chance)
    data = text.encode("utf-8", "surrogatepass")
    return data[: chance.randrange(len(data))] if chance.random() < 0.03 else data


def lists(network: mc.Network) -> None:
    """Every list out as open data, and in again; what cannot go is refused by name."""
    for name in network.lists:
        try:
            made_of = to_data(network, [name])
        except mc.MossyError:
            continue
        json.dumps(made_of.json)
        from_data(made_of.json)


def edits(data: bytes, chance: random.Random) -> None:
    """A few changes of the text, taken back: the first text must be there again."""
    text = data.decode("utf-8-sig")
    editor = Editor(text)
    undo: list[Patch] = []
    words = WORD.findall(text) or ["x"]
    for _ in range(4):
        path = chance.choice(("lists", "groups", "devices")) + "".join(
            f"/{chance.choice(words)}" for _ in range(chance.randint(1, 2))
        )
        call = chance.choice(("remove", "disable", "enable", "rename", "copy", "insert"))
        more = {"rename": ["fresh"], "copy": ["fresh"], "insert": [chance.choice(VALUES)]}.get(call, [])
        try:
            undo[:0] = getattr(editor, call)(path, *more)
        except mc.MossyError:
            continue
    with contextlib.suppress(mc.MossyError):
        mc.read_bytes(editor.text.encode("utf-8", "surrogatepass"), "edited.yaml")
    editor.patch(*undo)
    assert editor.text == text, "a change that cannot be taken back"


def talked(lab: mc.Lab, flow: mc.Flow, chance: random.Random) -> None:
    """A conversation with whatever comes to mind: each step is done, or refused with a word."""
    words = ("data", "answer data", "fin", "answer fin", "reset", "again", "late", "answer late", "wait 2 h", "wait 5 min", "dance")
    with contextlib.suppress(mc.MossyError):
        held = lab.converse(replace(flow, service=chance.choice(("ping", "tcp/443", "udp/53", "https"))))
        for _ in range(5):
            with contextlib.suppress(mc.MossyError):
                held.next(parse_then(chance.choice(words), lab.network))
        as_text(conversation(held))
        packets_of(capture([held.journey]), "fuzz.pcapng")


def shaken(network: mc.Network, chance: random.Random) -> None:
    """Something fails and works again; answers are those of before."""
    known = [f"{kind} {name}" for kind, names in KNOWN.items() for name in names(network)]
    hosts = [n for n, d in network.devices.items() if d.layer3]
    if not known or not hosts:
        return
    lab = mc.Lab(network)
    flow = mc.Flow(chance.choice(hosts), chance.choice(hosts), "ping")
    with contextlib.suppress(mc.MossyError):
        before = lab.test(flow)
        kept = lab.state.keep()
        lab.fail(chance.choice(known))
        with contextlib.suppress(mc.MossyError):
            lab.send(flow)
        lab.restore()
        talked(lab, flow, chance)
        lab.state.back_to(kept)
        assert lab.test(flow) == before, "restored, and another answer"


def use(data: bytes, chance: random.Random) -> str:
    """Do with a file what the commands do; returns what it came to."""
    try:
        reading = mc.read_bytes(data, "case.yaml")
    except mc.MossyError:
        return "refused"
    json.dumps(log(reading.problems, mc.__version__))
    for problem in reading.problems:
        safe(str(problem))
    if reading.network is None:
        assert any(p.severity is mc.Severity.ERROR for p in reading.problems), "no network, and no error that says why"
        return "refused"
    try:
        plan = mc.Plan(reading.network)
        mc.findings(plan, reading.problems, reading.lines)
        lists(reading.network)
        edits(data, chance)
    except mc.MossyError:
        return "not computed"
    shaken(reading.network, chance)
    names = list(reading.network.devices)
    for _ in range(4):
        source, target = chance.choice(names), chance.choice(names)
        service = chance.choice(("ping", "tcp/443", "udp/53", "gre"))
        try:
            options = {
                "at": chance.choice((None, 1_780_822_800)),
                "fragment": chance.random() < 0.2,
                "last_resort": chance.random() < 0.3,
            }
            first, again = (mc.trace(plan, source, target, service, **options) for _ in range(2))
            list(lines_of([first]))
        except mc.MossyError:
            continue
        assert first.to_dict() == again.to_dict(), f"{source} to {target}, {service}: two answers"
        assert first.explain(), "a journey without words"
    return "traced"


CHANGE = """mossy-change: 1
about: the tablet sells tickets
changes:
  - insert: {into: lists/visitors-in, value: {id: 15, permit: tcp, from: tablet, to: ledger, service: ticketing}, after: 10}
  - insert: {into: groups, name: fair, value: [tablet, kiosk-1]}
  - move: {what: lists/herbarium-in/40, before: 20}
  - rename: {what: groups/kiosks, to: sellers}
  - disable: lists/herbarium-in/30
  - replace: {what: devices/gate/offers/inside, with: {ping: any}}
"""
INTENTS = """source,target,service,wanted,why
kiosks,ledger,ticketing,yes,kiosks sell tickets
visitor-net,pressroom,,no,visitors stay out
lab,almanac,"https, ping",yes,
"""


def paper(seed: int, number: int) -> str:
    """A drill, a change file or a table of intents, changed at random, and used on the demo network."""
    chance = random.Random(f"{seed}/{number}/paper")
    kind = chance.choice(("drill", "drill", "change", "csv"))
    text = {"drill": (DATA / "fernhollow.drill.yaml").read_text(encoding="utf-8"), "change": CHANGE, "csv": INTENTS}[kind]
    for _ in range(chance.choice((1, 1, 1, 2, 4))):
        text = chance.choice(WAYS)(text, chance)
    data = text.encode("utf-8", "surrogatepass")
    network = (DATA / "fernhollow.yaml").read_text(encoding="utf-8")
    try:
        if kind == "change":
            found = change(data, "case.change.yaml", network)
            mc.read_bytes(found.text.encode(), "case.yaml")
            return "changed"
        if kind == "csv":
            drill = of_csv(data, "case.csv", DATA / "fernhollow.yaml")
        else:
            drill = drill_of(data, "case.drill.yaml", DATA)
        report = mc.run_drill(drill)
    except mc.MossyError as fault:
        safe(str(fault))
        return "paper refused"
    json.dumps(report_dict(report, True))
    junit([report])
    assert as_text(whole(report, True)), "a report without words"
    return "drilled" if report.ok else "drilled, not all held"


def main() -> int:
    """Run cases until the time is up; print the bad ones, and how to repeat them."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("--seconds", type=float, default=120.0)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--case", type=int, default=None, help="repeat this one")
    wanted = parser.parse_args()
    end, number, bad = time.monotonic() + wanted.seconds, wanted.case or 0, 0
    counts: dict[str, int] = {}
    while time.monotonic() < end and bad < 10:
        data, begun = made(wanted.seed, number), time.monotonic()
        try:
            came = paper(wanted.seed, number) if number % 4 == 3 else use(data, random.Random(f"{wanted.seed}/{number}/questions"))
        except Exception:
            came = "BAD"
            print(f"case {number} of seed {wanted.seed}:\n{traceback.format_exc(limit=-4)}")
        if time.monotonic() - begun > SLOW:
            came = "BAD"
            print(f"case {number} of seed {wanted.seed}: took {time.monotonic() - begun:.0f} seconds")
        counts[came] = counts.get(came, 0) + 1
        bad += came == "BAD"
        number += 1
        if wanted.case is not None:
            break
    print(f"{number} cases:", ", ".join(f"{n} {word}" for word, n in sorted(counts.items())))
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
