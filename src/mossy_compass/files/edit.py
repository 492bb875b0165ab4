"""Changes of a network file's text that leave everything else as it is: comments, order of keys, the way it is written.

An ``Editor`` holds a text. Each call changes it, and gives the ``Patch`` that takes the change back, byte for byte. What is
meant is said by a path: ``lists/visitors-in/20`` is a rule by its id, ``groups/kiosks`` a group, ``devices/gate/settings/inbound``
a key. Whether the result makes sense as a network is for the reader of network files to say.

A text can be written in more ways than anybody thinks of, so each change is made twice: in the characters, and in the data that
they mean. The changed text is read again, and where it does not mean the changed data it is put back as it was, with an error.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

import yaml

from mossy_compass.errors import InputError
from mossy_compass.files.extents import Piece, pieces
from mossy_compass.files.references import OF_DEVICES, SECTIONS, Mention, Names, Thing, renamed
from mossy_compass.marks import hint

_CARRIERS = ("rules", "members", "lists")
"""Keys that a path may leave out: ``lists/visitors-in/20`` is a rule of its ``rules``."""


_ENDS = ("\n", "\r", "\x85", "\u2028", "\u2029")
"""What ends a line for a reader of YAML 1.1 (section 4.2)."""
_BREAK = re.compile("\r\n|[\n\r\x85\u2028\u2029]")
_LAST_BREAK = re.compile("(?:\r\n|[\n\r\x85\u2028\u2029])$")
LEAD = 40
"""So many characters before a patch must be what they were."""


class Patch(NamedTuple):
    """Characters in the place of others.

    Attributes:
        start: where.
        old: what stands there; nothing is done where something else does.
        new: what shall stand there.
        lead: some characters that stand right before; nothing is done where others do. Empty where that is not asked.

    """

    start: int
    old: str
    new: str
    lead: str = ""


class TextPlace(NamedTuple):
    """What a path leads to.

    Attributes:
        holder: the list or mapping that it is in.
        piece: itself.
        number: of it within its holder.
        path: the keys and numbers that lead there.

    """

    holder: Piece
    piece: Piece
    number: int
    path: tuple[str | int, ...]


class Editor:
    """A network file's text, to be changed piece by piece.

    Every method that changes it gives the patches that take the change back, to be handed to ``patch`` in their order.

    Attributes:
        text: as it is now.

    """

    def __init__(self, text: str) -> None:
        self.text = text
        self._root: Piece | None = None

    @property
    def root(self) -> Piece:
        """The pieces of the text as it is now."""
        if self._root is None:
            self._root = pieces(self.text)
        return self._root

    # --- the changes

    def insert(self, into: str, value: object, *, name: str = "", before: str = "", after: str = "") -> tuple[Patch, ...]:
        """Put something new into a list or a mapping; at its end, unless a neighbour is named.

        A list or mapping that is not there yet is made, where what it belongs to is there: a first group makes ``groups``.

        Args:
            into: path of a list of rules, of a list of words, or of a mapping.
            value: a text as it shall be written, or data.
            name: its key, for a mapping.
            before, after: id or name of a neighbour.

        Raises:
            InputError: there is no such place, or the name is taken.

        """
        above, key = self._lacking(into) if not before and not after else (None, "")
        if above is not None:
            parent, path = above
            goal = self._data()
            _at(goal, path)[key] = {name: _texts(value)} if name else [_texts(value)]
            first = self._first(parent, key, name, value)
            return self._made(goal, into, self._put(self._insertion(parent, len(parent.items), first, into)))
        holder, path = self._holder(into)
        text = value if isinstance(value, Written) else Written(flow(value))
        if isinstance(holder.value, dict):
            if not name:
                raise InputError(f"{into} is a mapping: say name, under which the new part stands.")
            if name in holder.value:
                raise InputError(f"{into} has '{name}' already. Use replace, or another name.")
            text = Written(f"{flow(name)}:{self._spread(value, None if holder.flow else self._column(holder))}")
        number = self._beside(holder, path, before, after)
        goal = self._data()
        _add(_at(goal, path), number, name, _texts(value))
        return self._made(goal, into, self._put(self._insertion(holder, number, text, into)))

    def remove(self, what: str) -> tuple[Patch, ...]:
        """Take something out, with the comment lines right above it.

        Raises:
            InputError: there is no such thing.

        """
        place = self.find(what)
        goal = self._data()
        del _at(goal, place.path[:-1])[place.path[-1]]
        return self._made(goal, what, self._put(self._removal(place)))

    def replace(self, what: str, value: object) -> tuple[Patch, ...]:
        """Another value in the place of one.

        Raises:
            InputError: there is no such thing.

        """
        place = self.find(what)
        piece = place.piece
        text = str(value) if isinstance(value, Written) else flow(value)
        goal = self._data()
        _at(goal, place.path[:-1])[place.path[-1]] = _texts(value)
        return self._made(goal, what, self._put(Patch(piece.start, self.text[piece.start : piece.end], text)))

    def move(self, what: str, *, before: str = "", after: str = "") -> tuple[Patch, ...]:
        """Another place within the same list; what is said of it goes along.

        Raises:
            InputError: there is no such thing, or no neighbour is named.

        """
        if not before and not after:
            raise InputError(f"move {what}: say before or after which neighbour.")
        place = self.find(what)
        neighbour = self._number(place.holder, place.path[:-1], before or after)
        if neighbour == place.number:
            raise InputError(f"move {what}: it cannot stand beside itself.")
        goal = neighbour + bool(after and not before)
        if goal in (place.number, place.number + 1):
            return ()
        data = self._data()
        _move(_at(data, place.path[:-1]), place.number, goal)
        removal = self._removal(place)
        carried = Written(self._carried(place))
        undo = self._put(removal)
        holder, _ = self._holder("/".join(map(str, self._spoken(place.path[:-1]))))
        goal -= goal > place.number
        try:
            again = self._put(self._insertion(holder, goal, carried, what, whole=not holder.flow))
        except InputError:
            self._put(undo)
            raise
        return self._made(data, what, again, undo)

    def copy(self, what: str, new: str, *, before: str = "", after: str = "") -> tuple[Patch, ...]:
        """The same again under another id or name; right after the old one, unless a neighbour is named.

        Raises:
            InputError: there is no such thing, or the new name is taken.

        """
        place = self.find(what)
        into = "/".join(map(str, self._spoken(place.path[:-1])))
        if isinstance(place.holder.value, dict):
            text = Written(self.text[place.piece.start : place.piece.end])
            if not place.piece.flow and not isinstance(place.piece.value, str):
                text = Written(flow(plain(place.piece)))
            return self.insert(into, text, name=new, before=before, after=after)
        if self._numbered(place.holder, new) is not None:
            raise InputError(f"{into} has '{new}' already. Choose another id.")
        text = Written(self._with_id(place.piece, new))
        meant = _at(self._data(), place.path)
        if not _same(_texts(text), {**({} if "id" in meant else {"id": new}), **meant, "id": new}):
            raise InputError(f"{what} is written in a way that is not copied. Nothing was changed; do it by hand.")
        old = self._names(place.holder)[place.number]
        return self.insert(into, text, before=before, after=after or ("" if before else old))

    def disable(self, what: str) -> tuple[Patch, ...]:
        """Keep something, and pass it over.

        Raises:
            InputError: there is no such thing, it cannot be disabled, or it is already.

        """
        piece = self._mapping(what)
        written = piece.value["disabled"] if isinstance(piece.value, dict) and "disabled" in piece.value else None
        if written is not None and written.value in ("yes", "true"):
            raise InputError(f"{what} is disabled already.")
        goal = self._data()
        _at(goal, self.find(what).path)["disabled"] = "yes"
        if written is not None:
            return self._made(goal, what, self._put(Patch(written.start, self.text[written.start : written.end], "yes")))
        return self._made(goal, what, self._put(self._insertion(piece, len(piece.items), Written("disabled: yes"), what)))

    def enable(self, what: str) -> tuple[Patch, ...]:
        """Take ``disabled`` away.

        Raises:
            InputError: there is no such thing, or it is not disabled.

        """
        piece = self._mapping(what)
        written = piece.value.get("disabled") if isinstance(piece.value, dict) else None
        if written is None or written.value not in ("yes", "true"):
            raise InputError(f"{what} is not disabled.")
        number = [*piece.value].index("disabled")
        goal = self._data()
        del _at(goal, self.find(what).path)["disabled"]
        return self._made(goal, what, self._put(self._removal(TextPlace(piece, written, number, ()))))

    def rename(self, what: str, new: str) -> tuple[Patch, ...]:
        """Another name or id; whatever refers to it follows.

        Raises:
            InputError: there is no such thing, the name is taken, or what it is has no name.

        """
        names = Names(self.root)
        section, _, zone = what.partition("/")
        if section == "zones":
            return self._rename_all(names, Thing("zone", zone), list(names.of_zone(zone)), what, new)
        place = self.find(what)
        spoken = self._spoken(place.path)
        if isinstance(place.holder.value, list):
            return self._rename_item(place, what, new)
        if new in place.holder.value:
            raise InputError(f"{'/'.join(map(str, spoken[:-1]))} has '{new}' already. Choose another name.")
        kinds = {key: kind for kind, key in (SECTIONS if len(spoken) == 2 else OF_DEVICES).items()}
        kind = kinds.get(str(spoken[-2]), "") if len(spoken) in (2, 4) else ""
        device = str(spoken[1]) if kind in ("interface", "uplink", "probe") else ""
        assert place.piece.key is not None
        return self._rename_all(names, Thing(kind, str(spoken[-1]), device), [place.piece.key], what, new)

    def _rename_all(self, names: Names, thing: Thing, written: list[Piece], what: str, new: str) -> tuple[Patch, ...]:
        """Another name where something is written, and in every word that names it."""
        if not written:
            raise InputError(f"there is no {what}. Name what is there.")
        words = {p.start: (p, new) for p in written}
        for mention in names.mentions:
            found = names.names(mention)
            if thing not in found:
                continue
            if mention.refers == "port" and len(found) > 1:
                self._refuse_shared(mention, found, what)
            said = words.get(mention.at.start, (mention.at, mention.word))[
                1
            ]  # a host's member of a segment may be named twice over
            words[mention.at.start] = (mention.at, renamed(mention._replace(word=said), thing, new))
        goal = _renamed(self.root, {start: word for start, (_, word) in words.items()})
        undo = []
        for start, (piece, word) in sorted(words.items(), reverse=True):
            old = self.text[start : piece.end]
            undo.append(self._put(Patch(start, old, f"{piece.quoted}{word}{piece.quoted}")))
        return self._made(goal, what, *reversed(undo))

    def _refuse_shared(self, mention: Mention, found: Sequence[Thing], what: str) -> None:
        """Refuse to rename an interface that a list names which stands at other devices too, with interfaces of that name."""
        others = ", ".join(sorted({t.device for t in found if t.device}))
        raise InputError(
            f"{what} is named by list {mention.path[1]}, which stands at {others}, each with an interface of that name. "
            "Copy the list first, so that each device has its own."
        )

    def patch(self, *patches: Patch) -> None:
        """Put characters in the place of others, as an earlier change gave them.

        Raises:
            InputError: something else stands there by now.

        """
        for one in patches:
            self._put(one)

    def _data(self) -> Any:
        """What the text means, to be changed beside it."""
        return plain(self.root)

    def _made(self, goal: Any, what: str, *undo: Patch) -> tuple[Patch, ...]:
        """The patches that take a change back, once the text is seen to mean what it was to mean.

        Raises:
            InputError: it does not; it is as it was then.

        """
        try:
            fits = _same(plain(self.root), goal)
        except (yaml.YAMLError, AssertionError):
            fits = False
        if fits:
            return undo
        self.patch(*undo)
        raise InputError(
            f"{what} stands in a text that is written in a way that is not edited here. Nothing was changed; do it by hand."
        )

    # --- where things are

    def find(self, what: str) -> TextPlace:
        """What a path leads to.

        Raises:
            InputError: it leads nowhere; the message has what is there instead.

        """
        steps = [s for s in what.split("/") if s]
        if not steps:
            raise InputError("a path is wanted, like lists/visitors-in/20.")
        holder, piece, number = self.root, self.root, 0
        path: list[str | int] = []
        depth = 0
        while depth < len(steps):
            holder = piece
            step, taken = self._whole_name(holder, steps[depth:])
            found = self._number(holder, tuple(path), step, "/".join(steps[:depth]) or "the file", carry=True)
            if isinstance(holder.value, dict) and step not in holder.value:
                carrier = next(c for c in _CARRIERS if c in holder.value)
                path.append(carrier)
                holder = holder.value[carrier]
            number, piece = found, holder.items[found]
            path.append(step if isinstance(holder.value, dict) else found)
            depth += taken
        return TextPlace(holder, piece, number, tuple(path))

    def _whole_name(self, holder: Piece, steps: Sequence[str]) -> tuple[str, int]:
        """The name that the first steps of a path make up, and how many they are: a prefix or a service among the entries has a slash."""
        entries = holder
        if isinstance(holder.value, dict):
            entries = next((holder.value[c] for c in _CARRIERS if c in holder.value), holder)
        texts = (
            {piece.value for piece in entries.items if isinstance(piece.value, str)} if isinstance(entries.value, list) else set()
        )
        whole = next((n for n in range(len(steps), 1, -1) if "/".join(steps[:n]) in texts), 1)
        return "/".join(steps[:whole]), whole

    def _holder(self, into: str) -> tuple[Piece, tuple[str | int, ...]]:
        """The list or mapping that something is put into."""
        place = self.find(into)
        piece, path = place.piece, place.path
        if isinstance(piece.value, dict):
            carrier = next((c for c in _CARRIERS if c in piece.value and len(path) <= 4), None)
            if carrier is not None and isinstance(piece.value[carrier].value, list):
                return piece.value[carrier], (*path, carrier)
        if isinstance(piece.value, str):
            raise InputError(f"{into} is one value, and nothing can be put into it. Replace it by a list.")
        return piece, path

    def _lacking(self, into: str) -> tuple[tuple[Piece, tuple[str | int, ...]] | None, str]:
        """The mapping that a part would belong to with its path, and its key there, when the part is not there yet; else None."""
        *above, key = [s for s in into.split("/") if s] or [""]
        if not key:
            return None, ""
        place = self.find("/".join(above)) if above else TextPlace(self.root, self.root, 0, ())
        parent = place.piece
        if not isinstance(parent.value, dict) or key in parent.value or not parent.items:
            return None, ""
        # what a carrier holds is spoken of without it: lists/visitors-in/20 is a rule, and no part that lacks
        carried = bool(above) and (above[0] == "lists" or any(c in parent.value for c in _CARRIERS))
        return (None, "") if carried else ((parent, place.path), key)

    def _first(self, parent: Piece, key: str, name: str, value: object) -> Written:
        """A part that was not there, with the first thing in it."""
        if parent.flow:
            return Written(f"{flow(key)}: " + (f"{{{flow(name)}:{self._spread(value, None)}}}" if name else f"[{flow(value)}]"))
        column = self._column(parent)
        if not name:
            return Written(f"{flow(key)}:\n{' ' * (column + 2)}- {flow(value)}")
        return Written(f"{flow(key)}:\n{' ' * (column + 2)}{flow(name)}:{self._spread(value, column + 2)}")

    def _column(self, holder: Piece) -> int:
        """How far the keys of a mapping stand from the edge."""
        return holder.items[0].first - self._line(holder.items[0].first) if holder.items else 0

    def _spread(self, value: object, column: int | None) -> str:
        """A value behind its colon: several rules stand on a line each where there is room, so that each has a place of its own."""
        if column is None or not isinstance(value, list) or not value or not all(isinstance(v, dict | Written) for v in value):
            return f" {flow(value)}"
        return "".join(f"\n{' ' * (column + 2)}- {flow(entry)}" for entry in value)

    def _number(self, holder: Piece, path: tuple[str | int, ...], name: str, where: str = "", carry: bool = False) -> int:
        """The number of what has an id, a name or a key in a list or mapping."""
        if isinstance(holder.value, str):
            raise InputError(f"{where or '/'.join(map(str, path))} is one value: nothing is in it.")
        found = self._numbered(holder, name)
        if found is None and carry and isinstance(holder.value, dict):
            holder = next((holder.value[c] for c in _CARRIERS if c in holder.value), holder)
            found = self._numbered(holder, name)
        if found is None:
            words = where or "/".join(map(str, self._spoken(path)))
            raise InputError(f"{words} has no '{name}'. {hint(name, self._names(holder), 'entries')}")
        return found

    def _numbered(self, holder: Piece, name: str) -> int | None:
        """The same; None where there is none."""
        names = self._names(holder)
        return names.index(name) if name in names else None

    def _names(self, holder: Piece) -> list[str]:
        """What the parts of a list or mapping are called: keys, ids given or counted in tens, or texts."""
        if isinstance(holder.value, dict):
            return list(holder.value)
        out, number = [], 0
        for piece in holder.items:
            ident = piece.value.get("id") if isinstance(piece.value, dict) else None
            if isinstance(piece.value, str):
                out.append(piece.value)
            elif ident is not None and isinstance(ident.value, str):
                out.append(ident.value)
                number = int(ident.value) if ident.value.isdigit() else number
            else:
                number = (number // 10 + 1) * 10
                out.append(str(number))
        return out

    def _spoken(self, path: Sequence[str | int]) -> list[str | int]:
        """A path as people say it: carriers left out, numbers as ids."""
        out: list[str | int] = []
        piece = self.root
        for step in path:
            if isinstance(piece.value, list) and isinstance(step, int):
                out.append(self._names(piece)[step])
                piece = piece.value[step]
                continue
            assert isinstance(piece.value, dict)
            piece = piece.value[str(step)]
            if step not in _CARRIERS or len(out) < 2:
                out.append(step)
        return out

    def _mapping(self, what: str) -> Piece:
        """A rule, or whatever else may be disabled."""
        place = self.find(what)
        if not isinstance(place.piece.value, dict) or not isinstance(place.holder.value, list):
            raise InputError(f"{what} cannot be disabled; a rule of a list, a translation or a policy route can.")
        return place.piece

    def _beside(self, holder: Piece, path: tuple[str | int, ...], before: str, after: str) -> int:
        """The number that something new gets."""
        if before and after:
            raise InputError("say before or after, not both.")
        if before:
            return self._number(holder, path, before)
        return self._number(holder, path, after) + 1 if after else len(holder.items)

    # --- characters

    def _put(self, patch: Patch) -> Patch:
        """Change the text; gives the patch that takes it back."""
        end = patch.start + len(patch.old)
        if self.text[patch.start : end] != patch.old or not self.text[: patch.start].endswith(patch.lead):
            line = self.text.count("\n", 0, patch.start) + 1
            raise InputError(f"line {line} is not what it was when the change was made. Nothing was changed.")
        self.text = self.text[: patch.start] + patch.new + self.text[end:]
        self._root = None
        return Patch(patch.start, patch.new, patch.old, self.text[max(0, patch.start - LEAD) : patch.start])

    def _line(self, at: int) -> int:
        """Where the line of a character begins."""
        return max(self.text.rfind(end, 0, at) for end in _ENDS) + 1

    def _line_end(self, at: int) -> int:
        """Where the next line begins."""
        found = _BREAK.search(self.text, at)
        return found.end() if found else len(self.text)

    @property
    def _newline(self) -> str:
        """How the lines of this text end: as the first of them does."""
        found = _BREAK.search(self.text)
        return found[0] if found else "\n"

    def _extent(self, place: TextPlace) -> tuple[int, int]:
        """The lines of a piece that is written in lines, with the comment lines right above it."""
        start = self._line(place.piece.first)
        lead = self.text[start : place.piece.first].strip()
        if lead not in ("", "-"):
            raise InputError("what is written behind something else on one line is not moved; put it on a line of its own.")
        column = _margin(self.text, start)
        floor = place.holder.items[place.number - 1].end if place.number else place.holder.first
        while start > floor:
            above = self._line(start - len(_LAST_BREAK.search(self.text, max(0, start - 2), start)[0]))  # type: ignore[index]
            line = self.text[above:start]
            if above <= floor or not line.strip().startswith("#") or _margin(line, 0) != column:
                break
            start = above
        return start, self._line_end(place.piece.end)

    def _removal(self, place: TextPlace) -> Patch:
        """What to take out so that a piece is gone."""
        holder, piece, number = place.holder, place.piece, place.number
        items = holder.items
        if not holder.flow and len(items) > 1:
            start, end = self._extent(place)
            return Patch(start, self.text[start:end], "")
        if not holder.flow:  # the last one: an empty list or mapping must be written as such
            start, end = self._extent(place)
            holding = "[]" if isinstance(holder.value, list) else "{}"
            if holder.key is None:
                raise InputError("this is the only part of what it stands in. Remove that instead.")
            at = self.text.index(":", holder.key.end) + 1
            ends = self._newline if _BREAK.search(self.text, max(at, end - 2), end) else ""
            return Patch(at, self.text[at:end], f" {holding}{self._beside_key(at)}{ends}")
        if number + 1 < len(items):
            return Patch(piece.first, self.text[piece.first : items[number + 1].first], "")
        start = items[number - 1].end if number else piece.first
        return Patch(start, self.text[start : piece.end], "")

    def _beside_key(self, at: int) -> str:
        """What stands behind a key on its line, as a comment; it stays where the value below goes."""
        found = _BREAK.search(self.text, at)
        rest = self.text[at : found.start() if found else len(self.text)]
        return rest if rest.strip().startswith("#") else ""

    def _carried(self, place: TextPlace) -> str:
        """The characters of a piece that is moved: its lines, or its text."""
        if place.holder.flow:
            return self.text[place.piece.first : place.piece.end]
        start, end = self._extent(place)
        return self.text[start:end] if self.text[end - 1 : end] in _ENDS else self.text[start:end] + self._newline

    def _insertion(self, holder: Piece, number: int, text: Written, where: str, whole: bool = False) -> Patch:
        """What to put in so that a piece gets a number.

        Args:
            holder: the list or mapping.
            number: that it gets.
            text: what is put in.
            where: for messages.
            whole: the text has its lines already.

        """
        items = holder.items
        if holder.flow:
            if not items:
                at = holder.start + 1
                return Patch(at, self.text[at : holder.end - 1], str(text))
            if number < len(items):
                return Patch(items[number].first, "", f"{text}, ")
            return Patch(items[-1].end, "", f", {text}")
        mark = "- " if isinstance(holder.value, list) else ""
        start = self._line(items[0].first)
        column = items[0].first - start if not mark else self.text[start : items[0].first].rfind("-")
        if column < 0:
            raise InputError(f"{where}: this list is written in a way that is not edited; put each entry on a line of its own.")
        ends = self._newline
        line = str(text) if whole else f"{' ' * column}{mark}{text}\n".replace("\n", ends)
        if number < len(items):
            at = self._extent(TextPlace(holder, items[number], number, ()))[0]
            return Patch(at, "", line)
        at = self._line_end(items[-1].end)
        before = "" if self.text[at - 1 : at] in (*_ENDS, "") else ends
        return Patch(at, "", before + (line if not before else line.removesuffix(ends)))

    def _with_id(self, piece: Piece, new: str) -> str:
        """A rule's text with another id; written on one line."""
        if not isinstance(piece.value, dict):
            raise InputError("only rules, and what else has an id, are copied.")
        text = self.text[piece.start : piece.end] if piece.flow else flow(plain(piece))
        made = pieces(text)
        assert isinstance(made.value, dict)
        ident = made.value.get("id")
        if ident is None:
            return f"{{id: {flow(new)}, {text[1:].lstrip()}"
        return text[: ident.start] + flow(new) + text[ident.end :]

    def _rename_item(self, place: TextPlace, what: str, new: str) -> tuple[Patch, ...]:
        """Another id for a rule."""
        if self._numbered(place.holder, new) is not None:
            raise InputError(f"{what}: '{new}' is there already. Choose another id.")
        if not isinstance(place.piece.value, dict):
            raise InputError(f"{what} has no name of its own; rename what it refers to.")
        ident = place.piece.value.get("id")
        goal = self._data()
        rule = _at(goal, place.path)
        if ident is None:
            _add(rule, 0, "id", new)
            return self._made(goal, what, self._put(self._insertion(place.piece, 0, Written(f"id: {flow(new)}"), what)))
        rule["id"] = new
        return self._made(goal, what, self._put(Patch(ident.start, self.text[ident.start : ident.end], flow(new))))


class Written(str):
    """A text that is YAML already, to be put in as it is."""

    __slots__ = ()


def plain(piece: Piece) -> Any:
    """A piece as text, lists and dicts."""
    if isinstance(piece.value, dict):
        return {key: plain(inner) for key, inner in piece.value.items()}
    return [plain(inner) for inner in piece.value] if isinstance(piece.value, list) else piece.value


Data = Any
"""What a text means: texts, lists and dicts, whose order counts, since that of profiles and settings is seen by people."""


def _at(data: Data, path: Sequence[str | int]) -> Data:
    """The part of data on a path."""
    for step in path:
        data = data[step]
    return data


def _add(holder: Data, number: int, name: str, value: Data) -> None:
    """Put something into a list or mapping so that it gets a number."""
    if isinstance(holder, list):
        holder.insert(number, value)
        return
    after = list(holder.items())[number:]
    for key, _ in after:
        del holder[key]
    holder[name] = value
    holder.update(after)


def _move(holder: Data, number: int, goal: int) -> None:
    """Give an item of a list or mapping the place before what stands at ``goal``."""
    goal -= goal > number
    if isinstance(holder, list):
        holder.insert(goal, holder.pop(number))
        return
    items = list(holder.items())
    items.insert(goal, items.pop(number))
    holder.clear()
    holder.update(items)


def _texts(value: object) -> Data:
    """A value as a text would give it back: texts, lists and dicts."""
    if isinstance(value, Written):
        return plain(pieces(f"- {value}\n"))[0]
    if isinstance(value, Mapping):
        return {str(_texts(k)): _texts(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_texts(v) for v in value]
    return ("yes" if value else "no") if isinstance(value, bool) else str(value)


def _renamed(piece: Piece, words: Mapping[int, str]) -> Data:
    """What a text means with other words at some places."""
    if isinstance(piece.value, dict):
        held = piece.value.items()
        return {words.get(p.key.start, key) if p.key is not None else key: _renamed(p, words) for key, p in held}
    if isinstance(piece.value, list):
        return [_renamed(p, words) for p in piece.value]
    return words.get(piece.start, piece.value)


def _same(one: Data, other: Data) -> bool:
    """Whether two data are equal, the order of keys included."""
    if isinstance(one, dict) and isinstance(other, dict):
        return list(one) == list(other) and all(_same(one[k], other[k]) for k in one)
    if isinstance(one, list) and isinstance(other, list):
        return len(one) == len(other) and all(map(_same, one, other))
    return bool(one == other)


def _margin(text: str, start: int) -> int:
    """How many blanks stand at the beginning of a line."""
    at = start
    while text[at : at + 1] == " ":
        at += 1
    return at - start


_PLAIN = re.compile(r"[A-Za-z0-9./_(][A-Za-z0-9./_ ()+%*=;'-]*(:[A-Za-z0-9/._-]+)?")


def flow(value: object) -> str:
    """Data as YAML on one line; texts are quoted where a reader could take them for something else.

    Raises:
        InputError: it holds what no network file does.

    """
    if isinstance(value, Written):
        return str(value)
    if isinstance(value, Mapping):
        return "{" + ", ".join(f"{flow(k)}: {flow(v)}" for k, v in value.items()) + "}"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(map(flow, value)) + "]"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return str(value) if isinstance(value, int | float) else _text(str(value))


def _text(text: str) -> str:
    """A text as YAML, in quotes where a reader could take it for something else.

    Raises:
        InputError: it holds what no network file does.

    """
    if not text.replace("\n", "").isprintable():
        raise InputError("a value has a control character, or another that is not printed. Write plain text on one line.")
    if _PLAIN.fullmatch(text) and text == text.strip() and text not in ("~", "null", "Null", "NULL"):
        return text
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n") + '"'
