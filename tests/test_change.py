"""Change files: what they do to a text, what they leave alone, and how every change is taken back."""

from __future__ import annotations

import random
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.errors import InputError, NetworkFileError
from mossy_compass.files.change import change
from mossy_compass.files.edit import Editor, Patch, flow
from mossy_compass.files.extents import pieces
from tests.conftest import DATA
from tests.effort import examples

TEXT = """\
# a house
mossy-network: 1
groups:
  tills: [till, 10.40.1.11]   # the two of them
  all:
    - tills
    - "10.40.2.0/24"
lists:
  in:
    about: who may come in
    rules:
      # buying
      - {id: 10, permit: tcp, from: tills, service: web}  # tickets
      - {permit: icmp}
      # and nobody else
      - id: 30
        deny: any      # silent
        about: the rest about tills
      - {id: 40, deny: udp}
  short: [{permit: tcp}, {id: last, deny: any}]
services: {web: [tcp/80, tcp/443]}
devices:
  r:
    kind: router
    interfaces:
      a: {address: 10.40.1.1/24, zone: house, filter: {arriving: in}}
      b: 10.40.2.1/24
    translate:
      - {id: out, source: tills, leaving: b}
  till: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
segments: {a: [r/a, till], b: [r/b]}
"""


def edited(*calls: tuple[str, tuple[object, ...], dict[str, str]]) -> str:
    """A text after some calls; taking them all back must give the first one."""
    editor = Editor(TEXT)
    undo: list[Patch] = []
    for name, arguments, more in calls:
        undo[:0] = getattr(editor, name)(*arguments, **more)
    text = editor.text
    assert yaml.safe_load(text) is not None
    editor.patch(*undo)
    assert editor.text == TEXT
    return text


def lines(text: str) -> list[str]:
    """What is new, and what is gone, line by line."""
    old, new = TEXT.splitlines(), text.splitlines()
    return [f"+{x.strip()}" for x in new if x not in old] + [f"-{x.strip()}" for x in old if x not in new]


CASES = [
    (("insert", ("lists/in", {"id": 15, "deny": "tcp", "from": ["till", "10.40.1.11"]}), {"after": "10"}), ["+- {id: 15, deny: tcp, from: [till, 10.40.1.11]}"]),
    (("insert", ("lists/in", {"permit": "any"}), {}), ["+- {permit: any}"]),
    (("insert", ("groups", ["till"]), {"name": "few"}), ["+few: [till]"]),
    (("insert", ("groups/tills", "10.40.1.12"), {}), ["+tills: [till, 10.40.1.11, 10.40.1.12]   # the two of them", "-tills: [till, 10.40.1.11]   # the two of them"]),
    (("insert", ("groups/all", "2001:db8::/32"), {"before": "tills"}), ['+- "2001:db8::/32"']),
    (("insert", ("lists/short", {"id": "x", "note": "any"}), {"before": "last"}), ["+short: [{permit: tcp}, {id: x, note: any}, {id: last, deny: any}]", "-short: [{permit: tcp}, {id: last, deny: any}]"]),
    (("insert", ("names", ["10.40.9.9"]), {"name": "far"}), ["+names:", "+far: [10.40.9.9]"]),
    (("insert", ("hours", [{"days": "mon"}, {"days": "tue"}]), {"name": "open"}), ["+hours:", "+open:", "+- {days: mon}", "+- {days: tue}"]),
    (("insert", ("devices/r/routes", {"prefix": "default", "next-hop": "10.40.1.9"}), {}), ["+routes:", "+- {prefix: default, next-hop: 10.40.1.9}"]),
    (("insert", ("devices/till/settings", "no"), {"name": "answers-ping"}), ["+till: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1, settings: {answers-ping: no}}", "-till: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}"]),
    (("insert", ("lists", [{"permit": "any"}, {"deny": "tcp"}]), {"name": "new"}), ["+new:", "+- {permit: any}", "+- {deny: tcp}"]),
    (("remove", ("lists/in/10",), {}), ["-# buying", "-- {id: 10, permit: tcp, from: tills, service: web}  # tickets"]),
    (("remove", ("lists/in/30",), {}), ["-# and nobody else", "-- id: 30", "-deny: any      # silent", "-about: the rest about tills"]),
    (("remove", ("devices/r/translate/out",), {}), ["+translate: []", "-translate:", "-- {id: out, source: tills, leaving: b}"]),
    (("disable", ("lists/in/20",), {}), ["+- {permit: icmp, disabled: yes}", "-- {permit: icmp}"]),
    (("disable", ("lists/in/30",), {}), ["+disabled: yes"]),
    (("replace", ("lists/in/40", {"id": 40, "reject": "udp"}), {}), ["+- {id: 40, reject: udp}", "-- {id: 40, deny: udp}"]),
    (("replace", ("devices/r/interfaces/b", "10.40.3.1/24"), {}), ["+b: 10.40.3.1/24", "-b: 10.40.2.1/24"]),
    # names that have a slash themselves
    (("remove", ("groups/all/10.40.2.0/24",), {}), ['-- "10.40.2.0/24"']),
    (("replace", ("services/web/tcp/443", "tcp/8443"), {}), ["+services: {web: [tcp/80, tcp/8443]}", "-services: {web: [tcp/80, tcp/443]}"]),
    (("copy", ("lists/in/10", "11"), {}), ["+- {id: 11, permit: tcp, from: tills, service: web}"]),
    (("copy", ("lists/in/30", "31"), {"before": "10"}), ["+- {id: 31, deny: any, about: the rest about tills}"]),
    (("copy", ("groups/tills", "desks"), {}), ["+desks: [till, 10.40.1.11]"]),
    (("rename", ("lists/in", "house-in"), {}), ["+house-in:", "+a: {address: 10.40.1.1/24, zone: house, filter: {arriving: house-in}}", "-in:", "-a: {address: 10.40.1.1/24, zone: house, filter: {arriving: in}}"]),
    (("rename", ("lists/in/10", "5"), {}), ["+- {id: 5, permit: tcp, from: tills, service: web}  # tickets", "-- {id: 10, permit: tcp, from: tills, service: web}  # tickets"]),
    (("rename", ("services/web", "pages"), {}), ["+- {id: 10, permit: tcp, from: tills, service: pages}  # tickets", "+services: {pages: [tcp/80, tcp/443]}", "-- {id: 10, permit: tcp, from: tills, service: web}  # tickets", "-services: {web: [tcp/80, tcp/443]}"]),
]  # fmt: skip


@pytest.mark.parametrize("call, expected", CASES, ids=[f"{c[0][0]}-{n}" for n, c in enumerate(CASES)])
def test_a_change_touches_its_own_lines_and_can_be_taken_back(
    call: tuple[str, tuple[object, ...], dict[str, str]], expected: list[str]
) -> None:
    assert sorted(lines(edited(call))) == sorted(expected)


def test_the_longest_name_with_a_slash_is_meant() -> None:
    editor = Editor(TEXT.replace("[till, 10.40.1.11]", "[10.40.1.0, 10.40.1.0/24, 10.40.1.0/25]"))
    editor.remove("groups/tills/10.40.1.0/24")
    assert "tills: [10.40.1.0, 10.40.1.0/25]" in editor.text
    editor.remove("groups/tills/10.40.1.0")
    assert "tills: [10.40.1.0/25]" in editor.text
    with pytest.raises(InputError, match="has no"):
        editor.remove("groups/tills/10.40.1.0/26")


def test_a_rename_follows_references_and_nothing_that_looks_alike() -> None:
    text = edited(("rename", ("groups/tills", "kiosks"), {}))
    assert text.count("kiosks") == 4
    assert "the rest about tills" in text
    assert edited(("rename", ("devices/till", "counter"), {})).count("counter") == 3
    assert "a: [east/a" not in edited(("rename", ("devices/r/interfaces/a", "east"), {}))
    assert "a: [r/east, till]" in edited(("rename", ("devices/r/interfaces/a", "east"), {}))


def test_moved_rules_take_their_comments_along() -> None:
    text = edited(("move", ("lists/in/30",), {"before": "10"}))
    assert text.index("# and nobody else") < text.index("id: 30") < text.index("# buying") < text.index("id: 10")
    editor = Editor(TEXT)
    editor.move("lists/in/30", before="10")
    editor.move("lists/in/30", after="10")
    assert editor.text.count("- {permit: icmp}") == 1
    flat = edited(("move", ("lists/short/last",), {"before": "10"}))
    assert "short: [{id: last, deny: any}, {permit: tcp}]" in flat


def test_there_and_back_in_words_gives_the_first_text() -> None:
    for there, back in (
        (("disable", "lists/in/20"), ("enable", "lists/in/20")),
        (("disable", "lists/in/30"), ("enable", "lists/in/30")),
        (("rename", "groups/tills", "kiosks"), ("rename", "groups/kiosks", "tills")),
        (("copy", "lists/in/40", "41"), ("remove", "lists/in/41")),
    ):
        editor = Editor(TEXT)
        for name, *arguments in (there, back):
            getattr(editor, name)(*arguments)
        assert editor.text == TEXT, there


@pytest.mark.parametrize(
    "call, says",
    [
        (("remove", "lists/on/10"), "lists has no 'on'. Known entries: in, short."),
        (("remove", "lists/in/15"), "lists/in has no '15'"),
        (("remove", ""), "a path is wanted"),
        (("remove", "mossy-network/x"), "one value: nothing is in it"),
        (("enable", "lists/in/10"), "is not disabled"),
        (("disable", "groups/tills"), "cannot be disabled"),
        (("disable", "lists/in"), "cannot be disabled"),
        (("insert", "groups", ["x"]), "say name"),
        (("insert", "lists/on", ["x"]), "lists has no 'on'"),
        (("insert", "devices/s/routes", ["x"]), "devices has no 's'"),
        (("insert", "devices/r/kind", "x"), "one value"),
        (("copy", "lists/in/10", "40"), "has '40' already"),
        (("copy", "groups/tills", "all"), "has 'all' already"),
        (("rename", "groups/tills", "all"), "has 'all' already"),
        (("rename", "groups/tills/till", "x"), "has no name of its own"),
        (("move", "lists/in/10"), "before or after"),
    ],
)
def test_what_cannot_be_done_is_said_and_changes_nothing(call: tuple[str, ...], says: str) -> None:
    editor = Editor(TEXT)
    with pytest.raises(InputError) as fault:
        getattr(editor, call[0])(*call[1:])
    assert says in str(fault.value)
    assert editor.text == TEXT


def test_a_patch_that_no_longer_fits_is_refused() -> None:
    editor = Editor(TEXT)
    undo = editor.remove("lists/in/10")
    other = Editor(TEXT.replace("# a house", "# another house"))
    with pytest.raises(InputError, match="not what it was"):
        other.patch(*undo)


SHIPPED = [(DATA / name).read_text(encoding="utf-8") for name in ("fernhollow.yaml", "grounds.yaml", "starter.yaml")]


@examples(5, 180)
@given(st.sampled_from([TEXT, *SHIPPED]), st.integers(0, 10_000))
def test_random_changes_and_their_inverses_give_the_first_bytes_back(text: str, seed: int) -> None:
    """Comments and the order of keys stay in between: every line that no change touched is still there, in its order."""
    chance = random.Random(seed)
    editor = Editor(text)
    undo: list[Patch] = []
    for _ in range(6):
        call = some_call(editor, chance)
        try:
            undo[:0] = call()
        except InputError:
            continue
        assert yaml.safe_load(editor.text) is not None
        assert [x for x in editor.text.splitlines() if x.startswith("# ")] == [x for x in text.splitlines() if x.startswith("# ")]
    editor.patch(*undo)
    assert editor.text == text


def some_call(editor: Editor, chance: random.Random):  # type: ignore[no-untyped-def]
    data = yaml.load(editor.text, yaml.BaseLoader)
    lists = data.get("lists") or {}
    if not lists:
        name = chance.choice(list(data["devices"]))
        return lambda: editor.rename(f"devices/{name}", f"{name}-{chance.randrange(9)}")
    name = chance.choice(list(lists))
    holder = editor.find(f"lists/{name}").piece
    rules = holder.value["rules"] if isinstance(holder.value, dict) else holder
    ids = editor._names(rules)
    one, other = chance.choice(ids or ["10"]), chance.choice(ids or ["10"])
    path = f"lists/{name}/{one}"
    new = str(chance.randrange(1000, 9999))
    return chance.choice(
        [
            lambda: editor.remove(path),
            lambda: editor.disable(path),
            lambda: editor.enable(path),
            lambda: editor.move(path, before=other),
            lambda: editor.move(path, after=other),
            lambda: editor.copy(path, new, after=other),
            lambda: editor.insert(f"lists/{name}", {"id": new, "permit": "any"}, before=other),
            lambda: editor.replace(path, {"id": one, "deny": "any", "about": "a new one: with care"}),
            lambda: editor.rename(f"lists/{name}", f"{name}x"),
            lambda: editor.insert(f"made-{new}", [{"id": new}, {"id": one}], name=f"part-{one}"),
            lambda: editor.insert(f"devices/{chance.choice(list(data['devices']))}/made", {"id": new}),
            lambda: editor.rename(path, new),
        ]
    )


@given(
    st.recursive(
        st.text(st.characters(min_codepoint=32, max_codepoint=0x2FF), max_size=8),
        lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text("abc-", min_size=1, max_size=4), inner, max_size=3),
        max_leaves=8,
    )
)
def test_data_written_on_one_line_is_read_back(value: object) -> None:
    if not str(value).replace("\\x", "").isprintable() or any(c in repr(value) for c in ("\\x", "\\u")):
        return
    assert yaml.load(f"x: {flow(value)}", yaml.BaseLoader) == {"x": value}


def test_pieces_know_their_characters() -> None:
    """With letters of more than one byte before them too."""
    text = "# ä€𝄞\n" + TEXT
    root = pieces(text)

    def walk(piece) -> None:  # type: ignore[no-untyped-def]
        if isinstance(piece.value, str):
            written = text[piece.start : piece.end].strip("\"'")
            assert written == piece.value
        for inner in piece.items:
            walk(inner)

    walk(root)


RULES = (
    "{{id: {0}, permit: tcp, about: 'one: line'}}",
    "{{id: {0}, permit: tcp,\n        about: over two}}",
    "id: {0}\n      permit: tcp\n      about: |\n        text: with a colon\n\n        # no comment\n",
    "id: {0}\n      permit: tcp\n      about: >-\n        folded\n        text",
    "id: {0}\n      about: |+\n        kept\n\n\n      permit: tcp",
    "permit: tcp\n      about: plain over\n        two lines   # c\n      id: {0}",
    "id: {0}\n      permit: tcp\n      about: 'quoted\n        over lines'",
    "id: {0}   # here: and there\n      permit: tcp\n      from:\n        - a\n        - b",
    "id: {0}\n      permit: tcp\n      from:\n      - a\n      # between\n      - b",
)
"""How one rule may be written. In every one of them the list goes on at the same depth."""


@st.composite
def written_texts(draw: st.DrawFn) -> str:
    """A network file's text with lists, their rules written in every way that somebody might write them."""
    lists = []
    for name in ("first", "second", "third")[: draw(st.integers(1, 3))]:
        rules = draw(st.lists(st.sampled_from(RULES), min_size=1, max_size=4))
        gaps = draw(
            st.lists(st.sampled_from(["", "", "\n", "    # a comment: with a colon\n", "\n\n# far left\n"]), min_size=4, max_size=4)
        )
        body = "".join(f"{gap}    - {rule.format(n * 10)}\n" for n, (rule, gap) in enumerate(zip(rules, gaps, strict=False), 1))
        lists.append(f"  {name}:{draw(st.sampled_from(['', '   # why: because']))}\n{body}")
    last = draw(st.sampled_from(["", "groups: {g: [a, b]}\n", "about: |\n  the end\n\n", "# only a comment"]))
    text = "mossy-network: 1\nlists:\n" + "".join(lists) + last
    if draw(st.booleans()):
        text = text.removesuffix("\n")
    return text.replace("\n", draw(st.sampled_from(["\n", "\r\n"])))


def meant(data: dict[str, Any], verb: str, name: str, number: int, other: int) -> None:
    """What a step means, done on plain data by other code than the editor's."""
    rules = data["lists"][name]
    if verb == "insert last":
        rules.append({"id": "new", "deny": "any"})
    elif verb == "insert before":
        rules.insert(number, {"id": "new", "deny": "any"})
    elif verb == "remove":
        del rules[number]
    elif verb == "disable":
        rules[number]["disabled"] = "yes"
    elif verb == "replace":
        rules[number] = {"id": "new", "deny": "any"}
    elif verb == "move":
        rule = rules.pop(number)
        rules.insert(other - (other > number), rule)
    elif verb == "rename":
        rules[number]["id"] = "new"
    elif verb == "copy":
        rules.insert(number + 1, {**rules[number], "id": "new"})


VERBS = {
    "insert last": lambda e, n, a, b: e.insert(f"lists/{n}", {"id": "new", "deny": "any"}),
    "insert before": lambda e, n, a, b: e.insert(f"lists/{n}", {"id": "new", "deny": "any"}, before=a),
    "remove": lambda e, n, a, b: e.remove(f"lists/{n}/{a}"),
    "disable": lambda e, n, a, b: e.disable(f"lists/{n}/{a}"),
    "replace": lambda e, n, a, b: e.replace(f"lists/{n}/{a}", {"id": "new", "deny": "any"}),
    "move": lambda e, n, a, b: e.move(f"lists/{n}/{a}", before=b),
    "rename": lambda e, n, a, b: e.rename(f"lists/{n}/{a}", "new"),
    "copy": lambda e, n, a, b: e.copy(f"lists/{n}/{a}", "new"),
}


@examples(30, 450)
@given(written_texts(), st.sampled_from(sorted(VERBS)), st.data())
def test_a_step_means_in_the_text_what_it_means_in_the_data(text: str, verb: str, data: st.DataObject) -> None:
    """However the text is written, a step does what it says, there and nowhere else, or is refused and does nothing."""
    before = yaml.load(text, yaml.BaseLoader)
    name = data.draw(st.sampled_from(sorted(before["lists"])))
    rules = before["lists"][name]
    number, other = (data.draw(st.integers(0, len(rules) - 1)) for _ in range(2))
    editor = Editor(text)
    try:
        undo = VERBS[verb](editor, name, rules[number]["id"], rules[other]["id"])
    except InputError:
        assert verb in ("move", "replace") or "not edited" in text
        assert editor.text == text
        return
    meant(before, verb, name, number, other)
    assert yaml.load(editor.text, yaml.BaseLoader) == before
    assert ("\r" in text) == ("\r" in editor.text), "line ends stay as they are"
    assert ("\r" not in text) or "\n" not in editor.text.replace("\r\n", "")
    editor.patch(*undo)
    assert editor.text == text


@pytest.mark.parametrize(
    "text, says", [("lists:\n  a: &x [{permit: any}]\n", ""), ("lists:\n  a:\n  -  # c\n    permit: any\n", "")]
)
def test_unusual_texts_are_changed_rightly_or_not_at_all(text: str, says: str) -> None:
    editor = Editor(text)
    try:
        editor.insert("lists/a", {"deny": "any"})
    except InputError:
        assert editor.text == text
        return
    assert yaml.load(editor.text, yaml.BaseLoader) == {"lists": {"a": [{"permit": "any"}, {"deny": "any"}]}}


# --- change files -----------------------------------------------------------------------------------------------

FILE = """\
mossy-change: 1
about: desks too
changes:
  - insert: {into: lists/in, value: {id: 15, permit: tcp, from: [10.40.1.12], service: web}, after: 10}
  - disable: lists/in/20
  - rename: {what: groups/tills, to: kiosks}
  - replace: {what: lists/in/40, with: {id: 40, reject: udp}}
  - move: {what: lists/in/40, before: 10}
"""


def test_a_change_file_is_done_step_by_step() -> None:
    made = change(FILE.encode(), "c.yaml", TEXT)
    reading = mc.read_bytes(made.text.encode(), "n.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    rules = reading.network.lists["in"].rules
    assert [(r.id, r.verdict.value, r.disabled) for r in rules] == [
        ("40", "reject", False),
        ("10", "permit", False),
        ("15", "permit", False),
        ("20", "permit", True),
        ("30", "deny", False),
    ]
    editor = Editor(made.text)
    editor.patch(*made.undo)
    assert editor.text == TEXT


@pytest.mark.parametrize(
    "old, new, line, says",
    [
        ("disable: lists/in/20", "disable: lists/in/21", 5, "lists/in has no '21'"),
        ("disable: lists/in/20", "disabel: lists/in/20", 5, "'disabel' is not a key of a step of a change"),
        ("disable: lists/in/20", "disable: lists/in/20\n    enable: lists/in/20", 5, "this one says disable and enable"),
        ("mossy-change: 1", "mossy-change: 2", 1, "'2' is not 1"),
        ("mossy-change: 1\n", "", 1, "'mossy-change' is missing"),
        (", to: kiosks", "", 6, "'to' is missing"),
        ("after: 10}", "after: 10, before: 20}", 4, "before or after, not both"),
        ("groups/tills", "groups/tilts", 6, "Did you mean tills?"),
    ],
)
def test_a_faulty_change_file_is_told_at_its_place(old: str, new: str, line: int, says: str) -> None:
    with pytest.raises(NetworkFileError) as fault:
        change(FILE.replace(old, new).encode(), "c.yaml", TEXT)
    assert fault.value.problems[0].mark.line == line
    assert says in str(fault.value)


def test_the_faults_of_a_change_file_come_all_at_once() -> None:
    text = FILE.replace("disable:", "disabel:").replace(", to: kiosks", "")
    with pytest.raises(NetworkFileError) as fault:
        change(text.encode(), "c.yaml", TEXT)
    assert len(fault.value.problems) == 2


def test_shipped_files_are_whole_after_edits(tmp_path: Path) -> None:
    editor = Editor(SHIPPED[0])
    editor.insert(
        "lists/visitors-in", {"id": 15, "permit": "tcp", "from": "tablet", "to": "ledger", "service": "ticketing"}, after="10"
    )
    editor.rename("devices/tablet", "slate")
    reading = mc.read_bytes(editor.text.encode(), "n.yaml")
    assert reading.network is not None
    assert mc.trace(reading.network, "slate", "ledger", "ticketing").cause != "filter.rule"
