"""One table of references: renaming, where-used, unknown names, and what is named nowhere agree about every word of a file."""

from __future__ import annotations

import random
from collections import Counter
from pathlib import Path

import pytest

import mossy_compass as mc
from mossy_compass.files import schema
from mossy_compass.files.edit import Editor
from mossy_compass.files.extents import pieces
from mossy_compass.files.keys import Part, ValueKind, parts_of, word_of
from mossy_compass.files.references import OF_DEVICES, SECTIONS, Mention, Names, Thing, uses
from mossy_compass.files.schema import NetworkIn
from mossy_compass.files.tree import read_tree
from mossy_compass.marks import Problems
from tests.conftest import DATA
from tests.effort import at_length
from tests.test_cli import mossy

EVERYTHING = """\
mossy-network: 1
names: {almanac.example: 203.0.113.80}
hours: {night: {from: "22:00", until: "06:00"}}
applications: {film: {category: [moving], to: [almanac.example, few], service: [pages]}, song: {category: moving}}
groups:
  few: [inner, desk]
  inner: [10.40.1.0/28, almanac]
  goal: [10.40.2.10]
services:
  pages: [web-only, tcp/8080]
  web-only: [tcp/80]
  film-desk: {members: [tcp/554], expects: {announced-by: either, over: [pages]}}
lists:
  in:
    - {id: 10, permit: tcp, from: [few, left], to: [press, far], service: pages, hours: night, arriving: a}
    - {id: 20, permit: any, application: [film, moving], name: almanac.example, arriving: [left-zone]}
    - {id: 30, permit: any, from: right-zone, uplink: ways}
  out: {about: what leaves, rules: [{permit: any, leaving: [ways]}]}
  classes: [{permit: tcp, to: goal}]
  first: {rules: [{note: any}]}
  own: [{permit: any}, {deny: any, while: far/last-resort}]
devices:
  gate:
    kind: firewall
    interfaces:
      a: {address: 10.40.1.1/24, zone: left-zone, filter: {arriving: [first, in], leaving: out}}
      b: {address: 10.40.2.1/24, zone: right-zone}
      c: {address: 203.0.113.2/24, outside: yes, filter: {leaving: own}}
      b.7: {parent: b, vlan: 7, address: 10.40.7.1/24}
      burrow: {tunnel: {to: almanac, by: c, kind: esp, while: watch, selectors: [{from: desk, to: [goal]}]}}
    probes: {watch: {target: press, service: pages, by: b}, other: almanac}
    uplinks: {ways: [b, {leaving: c, while: watch}], far: {members: b, last-resort: {leaving: c, while: other}}}
    leases: {a: 10.40.1.100-10.40.1.120}
    routes:
      - {prefix: default, next-hop: 203.0.113.1, leaving: c}
      - {prefix: 10.40.9.0/24, leaving: ways, while: other}
      - {prefix: 10.40.8.0/24, leaving: ways, while: far/last-resort}
      - {prefix: default, next-hop: 10.40.2.9, table: side}
    everywhere: own
    to-self: own
    from-self: [own]
    crossings:
      - {from: left-zone, into: c, lists: own}
      - {from: ways, into: self, lists: [own]}
    offers: {a: {pages: [few, desk], ping: any}}
    profiles: {guests: {for: [few], arriving: [a, right-zone], lists: in}}
    translate:
      - {id: press, source: press, leaving: c, becomes: {pair: goal}, hours: [night]}
      - {id: some, source: [desk], leaving: c, becomes: {pool: [few]}}
      - {id: away, source: [few], service: pages, leaving: ways, becomes: interface}
      - {id: front, to: self, service: tcp/80, arriving: c, goes-to: {address: goal, port: 8080}, lists: [own]}
    policy-routes:
      - {list: classes, arriving: a, from: desk, candidates: [{leaving: b, next-hop: 10.40.2.9, while: watch}, {table: side}, {uplink: ways}]}
    serves: [pages]
    helpers: [film-desk]
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  press: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [pages, ssh]}
  world: {kind: internet, interfaces: {c: 203.0.113.1/24}, hosts: {almanac: {address: 203.0.113.80, serves: pages}}}
segments:
  left: [gate/a, desk]
  far: {members: [gate/c, world/c]}
  right: [gate/b, press]
"""
"""Every sort of word, at every kind of place where it may stand."""

FILES = {
    "everything": EVERYTHING,
    **{p.stem: p.read_text(encoding="utf-8") for p in sorted(DATA.glob("*.yaml")) if "drill" not in p.name},
    **{p.stem: p.read_text(encoding="utf-8") for p in sorted((Path(__file__).parent.parent / "examples").rglob("*.yaml"))[:40]},
}
FILES = {name: text for name, text in FILES.items() if mc.read_bytes(text.encode(), "n.yaml").network is not None}


def problems(text: str) -> Counter[str]:
    return Counter(p.code for p in mc.read_bytes(text.encode(), "n.yaml").problems)


def faults(text: str) -> list[str]:
    return [p.line() for p in mc.read_bytes(text.encode(), "n.yaml").errors]


def test_the_file_of_everything_is_whole() -> None:
    assert faults(EVERYTHING) == []
    refers = {m.refers for m in Names(pieces(EVERYTHING)).mentions}
    assert refers == set(schema_words())


def schema_words() -> dict[str, list[str]]:
    """Each sort of word with the keys that hold it; words that name nothing under an empty sort."""
    out: dict[str, list[str]] = {}

    def look(kind: ValueKind, part: type[Part], key: str) -> None:
        if kind.core is schema.WORD.core:
            out.setdefault(kind.refers, []).append(f"{part.__name__}.{key}")
        for inner in (kind.inner, kind.names):
            if inner is not None:
                look(inner, part, key)
        if kind.names is not None and kind.names.refers:
            out.setdefault(kind.names.refers, []).append(f"{part.__name__}.{key}")

    for part in dict.fromkeys(parts_of(NetworkIn)):
        for name, entry in part.keys.items():
            look(entry.kind, part, word_of(name))
    names_nothing = out.pop("")
    assert set(names_nothing) == {
        "ConditionsIn.icmp", "RuleIn.icmp", "PolicyRouteIn.icmp", "OspfIn.areas", "DeviceIn.stateful", "DeviceIn.built-in",
        "DeviceIn.order", "DeviceIn.settings", "StatefulIn.arriving", "StatefulIn.leaving",
    } - {"ConditionsIn.icmp"}, "every other word may name something, and the schema must say what"  # fmt: skip
    return out


def test_every_word_of_the_schema_says_what_it_names() -> None:
    assert set(schema_words()) == {
        "address", "service", "list", "port", "interface", "member", "table", "while", "hours", "application", "name",
    }  # fmt: skip


MENTIONS = [
    (m.refers, "/".join(map(str, m.path)), n)
    for n, m in enumerate(Names(pieces(EVERYTHING)).mentions)
    if Names(pieces(EVERYTHING)).names(m)
]


@pytest.mark.parametrize("refers, path, number", MENTIONS, ids=[f"{r}-{p}" for r, p, _ in MENTIONS])
def test_a_word_that_names_nothing_is_an_error_at_its_place(refers: str, path: str, number: int) -> None:
    """Wherever it stands: nothing becomes empty, or everything, because a name is misspelt."""
    mention: Mention = Names(pieces(EVERYTHING)).mentions[number]
    text = EVERYTHING[: mention.at.start] + "nosuch" + EVERYTHING[mention.at.end :]
    line = EVERYTHING.count("\n", 0, mention.at.start) + 1
    found = [p for p in mc.read_bytes(text.encode(), "n.yaml").errors if "nosuch" in p.message]
    assert found, "nothing is said of it"
    assert line in {p.mark.line for p in found}


def every_thing(text: str) -> list[tuple[Thing, str]]:
    """Everything that has a name, with the path by which a change names it."""
    names = Names(pieces(text))
    out = [(thing, "/".join(map(str, path))) for thing, path in names.declared((*SECTIONS, *OF_DEVICES))]
    return out + [(t, f"zones/{t.name}") for word in sorted(names.known()) for t in names.called(word) if t.kind == "zone"]


@pytest.mark.scaled
@pytest.mark.parametrize("name", FILES)
def test_a_rename_reaches_every_word_and_no_other(name: str) -> None:
    """The file means the same under the new name, nothing dangles, and the way back gives the same bytes."""
    text = FILES[name]
    before = problems(text)
    things = every_thing(text)
    chosen = things if at_length() else random.Random(name).sample(things, min(4, len(things)))
    for thing, path in chosen:
        editor = Editor(text)
        editor.rename(path, "quite-new")
        after = editor.text
        assert faults(after) == [], (path, faults(after))
        assert problems(after) == before, path
        named = {u.path for u in uses(Names(pieces(text)), thing.name) if "through" not in u.role}
        assert len(named) >= sum(thing in Names(pieces(text)).names(m) for m in Names(pieces(text)).mentions)
        Editor.rename(editor, path.rpartition("/")[0] + "/quite-new", thing.name)
        assert editor.text == text, path


def test_a_rename_touches_its_half_of_a_member() -> None:
    text = "mossy-network: 1\ndevices: {r: {kind: router, interfaces: {r: 10.40.1.1/24}}}\nsegments: {s: [r/r]}\n"
    editor = Editor(text)
    editor.rename("devices/r/interfaces/r", "east")
    assert "s: [r/east]" in editor.text
    editor.rename("devices/r", "north")
    assert "s: [north/east]" in editor.text


def test_an_interface_that_a_shared_list_names_is_not_renamed() -> None:
    text = (
        "mossy-network: 1\nlists: {l: [{permit: any, arriving: a}]}\ndevices:\n"
        "  r: {kind: router, interfaces: {a: {address: 10.40.1.1/24, filter: {arriving: l}}}}\n"
        "  s: {kind: router, interfaces: {a: {address: 10.40.1.2/24, filter: {arriving: l}}}}\nsegments: {t: [r/a, s/a]}\n"
    )
    editor = Editor(text)
    with pytest.raises(mc.InputError, match="Copy the list first"):
        editor.rename("devices/r/interfaces/a", "east")
    assert editor.text == text


@pytest.mark.parametrize("name", FILES)
def test_what_check_calls_unused_can_be_removed(name: str) -> None:
    """One after the other until nothing is unused any more; the file stays without errors at each step."""
    text = FILES[name]
    for _ in range(60):
        reading = mc.read_bytes(text.encode(), "n.yaml")
        idle = [p for p in reading.problems if p.code in ("idle.unused", "idle.unattached")]
        if not idle:
            return
        word = idle[0].message.split("'")[1]
        names = Names(read_tree(text, "n.yaml", Problems()))
        thing, path = next(
            (t, p)
            for t, p in names.declared((*SECTIONS, *OF_DEVICES))
            if t.name == word and t.kind in idle[0].message.replace("window of ", "").replace("group of uplinks", "uplink")
        )
        assert thing not in names.used() or idle[0].code == "idle.unattached"
        editor = Editor(text)
        editor.remove("/".join(map(str, path)))
        assert faults(editor.text) == [], path
        text = editor.text
    raise AssertionError("there is always one more")


def test_nothing_that_is_named_is_called_unused() -> None:
    """Every thing of the file of everything is named somewhere; each is unused once its last mention is gone."""
    assert not {"idle.unused"} & set(problems(EVERYTHING))
    lone = "mossy-network: 1\ngroups: {g: [10.40.1.1]}\nservices: {s: [tcp/80]}\nhours: {h: {from: '08:00', until: '09:00'}}\n"
    lone += "applications: {p: {category: c}}\ndevices: {r: {kind: router, interfaces: {a: 10.40.1.1/24, b: 10.40.2.1/24}, uplinks: {u: [a, b]}}}\n"
    found = [p.message for p in mc.read_bytes(lone.encode(), "n.yaml").problems if p.code == "idle.unused"]
    assert sorted(found) == [
        "application 'p' is named nowhere.", "group 'g' is named nowhere.", "group of uplinks 'u' is named nowhere.",
        "service 's' is named nowhere.", "window of hours 'h' is named nowhere.",
    ]  # fmt: skip


def test_where_a_name_is_used(tmp_path: Path) -> None:
    (tmp_path / "e.yaml").write_text(EVERYTHING)
    drill = "mossy-drill: 1\nnetwork: e.yaml\nsteps:\n  - repeat: {times: 2, steps: [{expect: desk reaches press for pages}]}\n  - fail: link left\n"
    (tmp_path / "e.drill.yaml").write_text(drill)
    for name, wanted in {
        "goal": ["list classes rule 10", "translation rule front of gate"],
        "web-only": ["service pages", "(through service pages)"],
        "inner": ["group few", "(through group few)", "offer pages of gate/a"],
        "ways": ["route to 10.40.9.0/24 of gate", "crossing ways into self of gate", "list out rule 10"],
        "side": ["policy route 10 of gate"],
        "classes": ["it chooses, and filters nothing"],
        "left": ["list in rule 10", "step 2: fail link left"],
        "desk": ["profile guests of gate", "step 1.1: desk reaches press for pages"],
    }.items():
        done = mossy(tmp_path, "tables", "e.yaml", "--uses", name, "--drill", "e.drill.yaml")
        assert done.returncode == 0, done.stderr
        for words in wanted:
            assert words in " ".join(done.stdout.split()), (name, words, done.stdout)
    done = mossy(tmp_path, "tables", "e.yaml", "--uses", "gaol")
    assert done.returncode == 2
    assert "Did you mean goal" in done.stderr
