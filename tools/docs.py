"""Write the tables in docs/ that follow from the code: keys, settings, causes, findings. Run it after a change of those."""

from __future__ import annotations

import re
import sys
from collections.abc import Callable
from pathlib import Path

from mossy_compass.files import change, drills, schema
from mossy_compass.files.keys import DocumentKey, Part, word_of
from mossy_compass.model.codes import FINDINGS
from mossy_compass.model.settings import SETTINGS
from mossy_compass.plan.causes import CAUSES
from mossy_compass.plan.conditions import CONDITIONS
from mossy_compass.plan.fields import FIELDS
from mossy_compass.plan.order import FROM, SPECS, THROUGH

ROOT = Path(__file__).resolve().parent.parent
DOCS = ROOT / "docs"


def row(*cells: str) -> str:
    """A line of a Markdown table."""
    return "| " + " | ".join(c.replace("|", "\\|") for c in cells) + " |"


def default_of(entry: DocumentKey) -> str:
    """What a key is when it is left out, in a word."""
    if entry.required:
        return "must be given"
    value = entry.when_left_out
    if value is None or value in ("", -1, [], {}) or isinstance(value, Part):
        return "-"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return f"`{value}`"


def keys(name: str) -> list[str]:
    """The keys of one part."""
    part: type[Part] = next(getattr(m, name) for m in (schema, drills, change) if hasattr(m, name))
    out = [row("key", "when left out", "what it says"), row("---", "---", "---")]
    return out + [row(f"`{word_of(name)}`", default_of(k), f"{k.description}{allowed(k)}") for name, k in part.keys.items()]


def allowed(entry: DocumentKey) -> str:
    """The words that a key takes, where they are few and its description does not say them."""
    made = entry.kind.json()
    words = [str(w) for part in (made, *made.get("anyOf", [])) for w in part.get("enum", []) if isinstance(w, str)]
    lacking = len(words) > 1 and not {"yes", "no"} & set(words) and not all(w in entry.description for w in words)
    return f" One of {', '.join(words)}." if lacking else ""


def settings() -> list[str]:
    """The named defaults."""
    out = [row("setting", "values", "router", "firewall", "host", "what it decides"), row(*["---"] * 6)]
    for s in SETTINGS.values():
        out.append(row(f"`{s.name}`", s.words, s.router, s.firewall, s.host, s.why))
    return out


def causes() -> list[str]:
    """Every cause of a fate."""
    out = [row("cause", "what it means", "what people usually do"), row(*["---"] * 3)]
    out += [row(f"`{c.code}`", c.sentence, "; ".join(c.remedies) or "-") for c in CAUSES.values()]
    return out


def stages() -> list[str]:
    """The built-in order of a device's stages, with what each needs and gives."""
    out = [row("stage", "what happens", "needs", "gives", "arriving packet", "own packet"), row(*["---"] * 6)]
    for stage in dict.fromkeys((*THROUGH, *FROM)):
        spec = SPECS[stage]
        places = [str(o.index(stage) + 1) if stage in o else "-" for o in (THROUGH, FROM)]
        out.append(row(stage.value, spec.meaning, ", ".join(spec.needs) or "-", ", ".join(spec.gives) or "-", *places))
    return out


def conditions() -> list[str]:
    """Every key that a rule may ask by, with the fields that it comes to."""
    out = [row("key", "met when", "fields"), row(*["---"] * 3)]
    out += [row(f"`{k.name}`", k.meaning, ", ".join(k.fields)) for k in CONDITIONS.values()]
    return out


def fields() -> list[str]:
    """Every fact that sets are about."""
    out = [row("field", "what it is", "sets of", "known after"), row(*["---"] * 4)]
    out += [row(f.name, f.meaning, f.kind.value, f.given_by or "arrival") for f in FIELDS.values()]
    return out


def findings() -> list[str]:
    """Every code that `mossy check` may give."""
    return [row("code", "what it means"), row("---", "---"), *(row(f"`{code}`", words) for code, words in FINDINGS.items())]


TABLES: dict[str, Callable[[], list[str]]] = {
    "settings": settings,
    "causes": causes,
    "stages": stages,
    "findings": findings,
    "conditions": conditions,
    "fields": fields,
}


def filled(text: str) -> str:
    """A page with its tables written anew."""

    def replace(found: re.Match[str]) -> str:
        kind, _, argument = found[1].partition(" ")
        made = keys(argument) if kind == "keys" else TABLES[kind]()
        return f"<!-- {found[1]} -->\n" + "\n".join(made) + "\n<!-- end -->"

    return re.sub(
        r"<!-- ((?:keys|settings|causes|stages|findings|conditions|fields)[^>]*?) -->\n.*?<!-- end -->",
        replace,
        text,
        flags=re.DOTALL,
    )


def main() -> int:
    """Rewrite, or with --check only say which page is stale."""
    stale = []
    for path in sorted(DOCS.glob("*.md")):
        text = path.read_text(encoding="utf-8")
        made = filled(text)
        if made != text:
            stale.append(path.name)
            if "--check" not in sys.argv:
                path.write_text(made, encoding="utf-8")
    print("rewritten:" if "--check" not in sys.argv else "stale:", ", ".join(stale) or "none")
    return 1 if stale and "--check" in sys.argv else 0


if __name__ == "__main__":
    sys.exit(main())
