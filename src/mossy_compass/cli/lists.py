"""The commands that take access lists out as open data, and in."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import click

from mossy_compass.cli.common import CONTEXT, OUTPUT, FileKind, read_network, say, say_json, write_whole
from mossy_compass.errors import InputError


@click.command("lists-out", context_settings=CONTEXT, short_help="Give access lists as open data (RFC 8519 in JSON).")
@click.argument("file")
@click.argument("names", nargs=-1, metavar="[LIST]...")
@click.option("--device", metavar="DEVICE", default="", help="Whose self is meant; also say where on it the lists are attached.")
@click.option("--out", "target", metavar="DATA", type=OUTPUT, help="Write DATA instead of printing it.")
def lists_out(file: str, names: tuple[str, ...], device: str, target: str | None) -> None:
    """Give the lists of the network in FILE, or those named, as data of RFC 8519 in the JSON of RFC 7951. What the
    standard has no word for is refused by name; what the data does not say is told on the error stream.

    \b
    Example:
      mossy lists-out fernhollow.yaml world-in --out world-in.json
    """
    from mossy_compass.exchange.acl import to_data

    made = to_data(read_network(file), names, device)
    if target:
        write_whole(Path(target), (json.dumps(made.json, indent=2) + "\n").encode(), FileKind.LISTS)
    else:
        say_json(made.json)
    if sys.stderr is not None:
        say("".join(f"note: {words}\n" for words in made.beside), sys.stderr)


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    """A JSON object; one that says the same name twice says two things, and readers differ about which (RFC 7493 section 2.3)."""
    out: dict[str, Any] = {}
    for key, value in pairs:
        if key in out:
            raise InputError(f"the name {key[:80]!r} is there twice in one object. Take one out.")
        out[key] = value
    return out


def _no_number(word: str) -> Any:
    """Infinity and what is not a number are no JSON (RFC 8259 section 6)."""
    raise InputError(f"{word} is no number of JSON. Write one.")


MOST_DATA = 16 * 1024 * 1024
"""Bytes of data that are read; more is no access list that a person keeps."""


@click.command("lists-in", context_settings=CONTEXT, short_help="Read open data (RFC 8519) as access lists.")
@click.argument("data", type=click.Path())
def lists_in(data: str) -> None:
    """Print the access lists in DATA (RFC 8519 in the JSON of RFC 7951) as they stand in a network file.

    \b
    Example:
      mossy lists-in world-in.json >> lists.yaml
    """
    from mossy_compass.exchange.acl import from_data
    from mossy_compass.files.edit import flow
    from mossy_compass.files.load import plain_bytes

    found_bytes = plain_bytes(data, "ietf-access-control-list")
    if len(found_bytes) > MOST_DATA:
        raise InputError(f"{data}: has {len(found_bytes):,} bytes, and at most {MOST_DATA:,} are read. Is this the right file?")
    try:
        held = json.loads(found_bytes.decode("utf-8-sig"), object_pairs_hook=_once, parse_constant=_no_number)
    except InputError as fault:
        raise InputError(f"{data}: {fault}") from None
    except (ValueError, RecursionError) as fault:
        raise InputError(f"{data}: this is no JSON ({str(fault)[:80]}). It is data of RFC 8519, as RFC 7951 writes it.") from None
    try:
        found = from_data(held)
    except InputError as fault:
        raise InputError(f"{data}: {fault}") from None
    lines = ["lists:"]
    for name, rules in found.lists.items():
        lines += [f"  {flow(name)}:", *(f"    - {flow(rule)}" for rule in rules)] if rules else [f"  {flow(name)}: []"]
    for port, ways in found.attached.items():
        lines.append(f"# interface {port}: filter: {flow(ways)}")
    say("\n".join(lines) + "\n")
