"""How the shape of a document is written down: parts with keys, each key with what its value may be.

Validation itself is pydantic's core (``pydantic_core``), which reports every fault at once with its path. Its model classes
are left out on purpose: making two dozen of them costs more time than reading a network file, at every start of the
command line. A part here is a plain class; its validator is made when the first document is read, and the JSON Schema
when somebody asks for it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from typing import Any, ClassVar, NamedTuple, Self, TypeVar

from pydantic_core import PydanticCustomError, SchemaValidator

from mossy_compass.model.durations import parse_duration

T = TypeVar("T")
Core = dict[str, Any]
"""A schema of pydantic's core, as data."""
Json = dict[str, Any]
"""A piece of JSON Schema (draft 2020-12)."""


class ValueKind(NamedTuple):
    """What a value may be.

    Attributes:
        core: makes the core's schema; called once the first document is read.
        json: makes the piece of JSON Schema, for the parts that it names to be defined beside it.
        part: the part that it is, or is made of; None for plain values.
        inner: for a list or a mapping, what its items are.
        refers: for a word that names another part of the document, which sort of word it is (``files/references.py``).
        names: for a mapping, what its keys are.

    """

    core: Callable[[], Core]
    json: Callable[[], Json]
    part: type[Part] | None = None
    inner: ValueKind | None = None
    refers: str = ""
    names: ValueKind | None = None


class DocumentKey(NamedTuple):
    """One key of a part.

    Attributes:
        kind: what its value may be.
        description: for editors and documents.
        default: its value when it is left out; ``MUST`` when it may not be. A function makes a new one each time.

    """

    kind: ValueKind
    description: str
    default: Any

    @property
    def required(self) -> bool:
        """True when it must be given."""
        return self.default is MUST

    @property
    def when_left_out(self) -> Any:
        """The value that it has when it is left out."""
        return self.default() if callable(self.default) else self.default


MUST: Any = object()
"""Stands for a default where there is none."""


def key(kind: ValueKind, description: str, default: Any = MUST) -> Any:
    """A key of a part; the attribute's annotation says of which type its value is."""
    return DocumentKey(kind, description, default)


def fault(message: str) -> PydanticCustomError:
    """A fault in our own words."""
    return PydanticCustomError("ours", "{message}", {"message": message})


class Part:
    """Base of all parts: keys that are not known are refused, and keys use hyphens.

    Attributes:
        short: the key whose value alone may stand for the whole part.
        keys: the keys by the names of their attributes, those of base classes first.

    """

    short: ClassVar[str] = ""
    keys: ClassVar[dict[str, DocumentKey]] = {}
    _validator: ClassVar[SchemaValidator | None] = None

    def __init_subclass__(cls) -> None:
        own = {name: value for name, value in vars(cls).items() if isinstance(value, DocumentKey)}
        cls.keys = {**cls.keys, **own}
        cls._validator = None

    def __init__(self, values: Mapping[str, Any]) -> None:
        for name, entry in self.keys.items():
            written = word_of(name)
            self.__dict__[name] = values[written] if written in values else entry.when_left_out  # noqa: SIM401 - made only when needed

    def check(self) -> None:
        """Refuse values that do not go together; the fault is raised as ``fault(...)``."""

    @classmethod
    def known(cls) -> list[str]:
        """The keys as they are written."""
        return [word_of(name) for name in cls.keys]

    @classmethod
    def named(cls, word: str) -> DocumentKey | None:
        """A key as it is written; None where the part has no such key."""
        return next((k for n, k in cls.keys.items() if word_of(n) == word), None)

    @classmethod
    def _made(cls, values: Mapping[str, Any]) -> Self:
        """Take values as read and give the part; what was left out gets the default of its key."""
        made = cls(values)
        made.check()
        return made

    @classmethod
    def core(cls) -> Core:
        """The core's schema: a mapping of the keys, or the value of the short form, made into the part."""
        fields = {
            word_of(n): {"type": "typed-dict-field", "schema": k.kind.core(), "required": k.required} for n, k in cls.keys.items()
        }
        shape: Core = {"type": "typed-dict", "fields": fields, "extra_behavior": "forbid", "total": False}
        if cls.short:
            shape = {"type": "function-before", "function": {"type": "no-info", "function": cls._widen}, "schema": shape}
        return {"type": "function-after", "function": {"type": "no-info", "function": cls._made}, "schema": shape}

    @classmethod
    def _widen(cls, value: object) -> object:
        """The short form of a part, where it has one, as the mapping that it stands for."""
        return value if isinstance(value, dict) else {cls.short: value}

    @classmethod
    def read(cls, data: object) -> Self:
        """A part from plain data.

        Raises:
            pydantic_core.ValidationError: with every fault and its path.

        """
        if cls._validator is None:
            cls._validator = SchemaValidator(cls.core())
        found: Self = cls._validator.validate_python(data)
        return found

    @classmethod
    def json_schema(cls) -> Json:
        """The JSON Schema of the whole, with every part that it is made of under ``$defs``."""
        parts = dict(sorted({p.__name__: p for p in parts_of(cls)}.items()))
        return {**cls._json(), "$defs": {name: part._json() for name, part in parts.items() if part is not cls}}

    @classmethod
    def _json(cls) -> Json:
        """The part as a JSON Schema, for editors that complete and check while one writes."""
        properties = {}
        for name, entry in cls.keys.items():
            piece = {**entry.kind.json(), "description": entry.description}
            value = None if entry.required or callable(entry.default) else entry.default
            properties[word_of(name)] = piece if value in (None, "", -1) else {**piece, "default": value}
        made: Json = {
            "title": cls.__name__,
            "description": (cls.__doc__ or "").strip(),
            "type": "object",
            "properties": properties,
            "additionalProperties": False,
        }
        required = [word_of(n) for n, k in cls.keys.items() if k.required]
        return {**made, "required": required} if required else made


def word_of(name: str) -> str:
    """The key that an attribute is written as: ``from_port`` is ``from-port``, ``from_`` is ``from``."""
    return name.rstrip("_").replace("_", "-")


def parts_of(part: type[Part]) -> Iterator[type[Part]]:
    """A part and all parts that its keys are made of."""
    yield part
    for entry in part.keys.values():
        kind: ValueKind | None = entry.kind
        while kind is not None:
            if kind.part is not None:
                yield from parts_of(kind.part)
            kind = kind.inner


# --- kinds of values ---------------------------------------------------------------------------------------------


def of(part: type[Part]) -> ValueKind:
    """A part, or the value that is its short form."""

    def json() -> Json:
        """The JSON Schema of what may be written here."""
        reference = {"$ref": f"#/$defs/{part.__name__}"}
        if not part.short:
            return reference
        alone = part.named(part.short)
        assert alone is not None
        return {"anyOf": [reference, alone.kind.json()]}

    return ValueKind(part.core, json, part)


def text(parse: Callable[[str], T], *examples: str, json: Json | None = None) -> ValueKind:
    """A text that a function of ours reads; what it raises as ``ValueError`` is the fault."""

    def check(value: object) -> T:
        """The value as the program wants it; raises where it is none, with words for the user."""
        if not isinstance(value, str):
            raise fault(f"one plain value is wanted here, like {examples[0]}.")
        try:
            return parse(value)
        except ValueError as wrong:
            raise fault(str(wrong)) from None

    return _plain(check, json or {"type": "string", "examples": list(examples)})


def _plain(check: Callable[[object], object], json: Json) -> ValueKind:
    """A kind whose check works on the text itself, with the schema that editors are shown."""
    core: Core = {"type": "function-plain", "function": {"type": "no-info", "function": check}}
    return ValueKind(lambda: core, lambda: json)


def words(most: int, least: int = 0, pattern: str | None = None, json: Json | None = None) -> ValueKind:
    """Free text of at most so many characters, without blanks around it.

    Args:
        most, least: numbers of characters.
        pattern: a regular expression that all of it must match.
        json: what the schema says beyond that.

    """
    core: Core = {"type": "str", "strip_whitespace": True, "max_length": most}
    if least:
        core["min_length"] = least
    if pattern:
        core["pattern"] = pattern
    return ValueKind(lambda: core, lambda: json or {"type": "string", "maxLength": most})


def one_of(*values: str, json: Json | None = None) -> ValueKind:
    """One of some words."""
    core: Core = {"type": "literal", "expected": list(values)}
    return ValueKind(lambda: core, lambda: json or {"enum": list(values)})


def some(kind: ValueKind, least: int = 0) -> ValueKind:
    """A list; one item may stand for the list of it alone."""

    def core() -> Core:
        """The validator of pydantic's core for this kind."""
        made: Core = {"type": "list", "items_schema": kind.core()}
        if least:
            made["min_length"] = least
        return {"type": "function-before", "function": {"type": "no-info", "function": _listed}, "schema": made}

    def json() -> Json:
        """The JSON Schema of what may be written here."""
        made: Json = {"type": "array", "items": kind.json()}
        return {"anyOf": [kind.json(), {**made, "minItems": least} if least else made]}

    return ValueKind(core, json, inner=kind)


def listed(kind: ValueKind) -> ValueKind:
    """A list, and nothing that stands for one."""
    return ValueKind(
        lambda: {"type": "list", "items_schema": kind.core()}, lambda: {"type": "array", "items": kind.json()}, inner=kind
    )


def by_name(names: ValueKind, kind: ValueKind) -> ValueKind:
    """A mapping of names to values."""

    def core() -> Core:
        """The validator of pydantic's core for this kind."""
        return {"type": "dict", "keys_schema": names.core(), "values_schema": kind.core()}

    def json() -> Json:
        """The JSON Schema of what may be written here."""
        known = names.json()
        limits = {"propertyNames": known} if "pattern" in known or "enum" in known else {}
        return {"type": "object", "additionalProperties": kind.json(), **limits}

    return ValueKind(core, json, inner=kind, names=names)


def _listed(value: object) -> object:
    """One value where several may stand is a list of one; an empty list is refused, since it would mean nothing."""
    return value if isinstance(value, list) else [value]


def _duration(written: str) -> int:
    """Milliseconds of a time with its units."""
    found = parse_duration(written)
    if not found:
        raise ValueError(f"'{written}' is no time above nothing with its unit: write 500 ms, 5 s or 2 h 4 min, at most ten years.")
    return found


def number(low: float, high: float, unit: str = "", whole: bool = True) -> ValueKind:
    """A number in a range, written as text, with its unit if it likes.

    Args:
        low, high: the range, both included.
        unit: as it may be written behind the number, like ``ms``.
        whole: no fractions.

    """
    kind = f"a {'whole ' if whole else ''}number from {low:g} to {high:g}"

    def check(value: object) -> float:
        """The value as the program wants it; raises where it is none, with words for the user."""
        if not isinstance(value, str):
            raise fault(f"{kind} is wanted here.")
        found = _read_number(value.strip().removesuffix(unit).strip(), whole)
        if found is None or not low <= found <= high:
            raise fault(f"'{value}' is not {kind}{f' ({unit})' if unit else ''}.")
        return found

    return _plain(check, {"type": ["integer", "string"], "minimum": low, "maximum": high})


def _read_number(written: str, whole: bool) -> float | None:
    """A plain decimal number of bounded length; None for anything else."""
    pattern = r"-?\d{1,12}" if whole else r"-?\d{1,9}(\.\d{1,6})?"
    if not re.fullmatch(pattern, written, re.ASCII):
        return None
    return int(written) if whole else float(written)


def _yes_no(value: object) -> bool:
    """YAML's own ``yes`` and ``no`` in all their spellings are text here, so that a place is kept; these two are taken."""
    if value in ("yes", "true"):
        return True
    if value in ("no", "false"):
        return False
    raise fault(f"'{value}' is neither yes nor no." if isinstance(value, str) else "yes or no is wanted here.")


DURATION = text(_duration, "5 s", "500 ms")
YES_NO = _plain(_yes_no, {"anyOf": [{"type": "boolean"}, {"enum": ["yes", "no"]}]})
