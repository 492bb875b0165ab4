"""Text that is safe to show: what comes from files must not steer a terminal, nor change the order of what is read.

There is no second way: whatever is printed, drawn or written as data for others goes through here. Only a person's own text is
given back byte for byte (``change --write`` and ``--undo``).
"""

from __future__ import annotations

import re

_UNSAFE = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f"  # C0 but tab and line feed, DEL, C1 (ECMA-48)
    "\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069"  # marks, embeddings, overrides and isolates (Unicode UAX 9)
    "\u2028\u2029\ufeff\ufff9-\ufffb\ud800-\udfff]"  # separators, anchors, lone surrogates
)


def safe(text: str) -> str:
    """The text with everything that steers a terminal or reorders text written as an escape, by its number."""
    return _UNSAFE.sub(lambda found: _escape(found[0], "\\x{:02x}", "\\u{:04x}"), text)


def safe_json(text: str) -> str:
    """JSON with the same characters as JSON's own escapes, so that it says the same to whoever reads it (RFC 8259 section 7)."""
    return _UNSAFE.sub(lambda found: _escape(found[0], "\\u{:04x}", "\\u{:04x}"), text)


def safe_xml(text: str) -> str:
    """Text for XML: the same escapes, and so are the two characters that XML 1.0 cannot hold besides (section 2.2)."""
    return safe(text).replace("\ufffe", "\\ufffe").replace("\uffff", "\\uffff")


def safe_line(text: str) -> str:
    """Text for one cell or line: its line breaks and tabs are escaped too."""
    return safe(text).replace("\n", "\\n").replace("\t", "\\t")


def _escape(character: str, short: str, long: str) -> str:
    """A character as the number that it has."""
    number = ord(character)
    return (short if number < 256 else long).format(number)
