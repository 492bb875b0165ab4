"""The command that asks of observed flows whether they would pass."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from functools import partial
from pathlib import Path

import click

from mossy_compass.cli.common import (
    CONTEXT,
    EXIT_NOT,
    OUTPUT,
    FileKind,
    form_option,
    read_network,
    say,
    say_json,
    show,
    write_whole,
)
from mossy_compass.errors import InputError
from mossy_compass.lab.observed import Observed
from mossy_compass.model.network import Network

MOST_BYTES = 1 << 30
"""Bytes of a capture or a table; more are not read at once."""
COLUMNS = ("source", "destination", "service")
"""What a table of flows must have; count may be there too."""


@click.command(context_settings=CONTEXT, short_help="Ask of observed flows whether they would pass, by which rule, seen as whom.")
@click.argument("file")
@click.argument("observed", metavar="IN")
@click.option(
    "--parquet", metavar="TABLE", type=OUTPUT, help="Also write a row for each flow to TABLE, as Parquet (needs pyarrow)."
)
@form_option("text", "json", "csv")
def flows(file: str, observed: str, parquet: str | None, form: str) -> None:
    """Ask of the flows in IN whether they would pass the network in FILE, by which rule, and as whom they would be seen.

    IN is a capture (pcap or pcapng), or a CSV file with the columns source, destination, service, and count if it likes. Each flow is asked
    alone, as if there were no other; repeats are counted. Of many flows those that fare alike are asked together: a million take a minute.

    \b
    Examples:
      mossy flows fernhollow.yaml monday.pcapng
      mossy flows fernhollow.yaml asked.csv --format csv

    \b
    Exit codes: 0 every flow would pass, 1 not, 2 wrong input.
    """
    from mossy_compass.cli.progress import counter
    from mossy_compass.exchange.captures import packets_of
    from mossy_compass.files.load import plain_bytes
    from mossy_compass.lab.observed import MOST_FLOWS, fates, flows_of, in_person
    from mossy_compass.plan.plan import Plan
    from mossy_compass.report import flowstext
    from mossy_compass.walk.weather import in_weather

    plan = in_weather(Plan(read_network(file)))
    data = plain_bytes(observed, most=MOST_BYTES + 1)
    others = 0
    if observed.lower().endswith(".csv"):
        found = list(_of_csv(data, observed, plan.network))
    else:
        read = packets_of(data, observed)
        found, others = flows_of(read.packets), read.others
    if not found:
        raise InputError(f"{observed}: there is no flow in it, so nothing would be asked.")
    if len(found) > MOST_FLOWS:
        raise InputError(f"{observed}: more than {MOST_FLOWS} different flows are not asked at once. Cut it into parts.")
    with counter(len(found), "flows") as each:
        result = fates(plan, found, each)
    if parquet:
        from mossy_compass.exchange.parquet import table

        write_whole(Path(parquet), table([f.to_dict() for f in result]), FileKind.PARQUET)
    if form == "json":
        say_json(flowstext.flows_dict(result, others))
    elif form == "csv":
        from mossy_compass.exchange.csvtable import flows_csv

        say(flows_csv(result))
    else:
        show(flowstext.flows(result, others, lambda one: in_person(plan, one)))
    raise SystemExit(0 if all(f.passes for f in result) else EXIT_NOT)


def _of_csv(data: bytes, name: str, network: Network) -> Iterator[Observed]:
    """The flows of a table (RFC 4180), each fault with its line."""
    from mossy_compass.files.tree import decode
    from mossy_compass.lab.observed import observed

    made = partial(observed, network)
    reader = csv.reader(io.StringIO(decode(data, name, MOST_BYTES)), strict=True)
    try:
        head = [c.strip() for c in next(reader, [])]
        lacking = [c for c in COLUMNS if c not in head]
        if lacking or len(set(head)) != len(head):
            raise InputError(f"{name}:1: the first line names the columns {', '.join(COLUMNS)}, each once; count may be there too.")
        for cells in reader:
            if not cells:
                continue
            place = f"{name}:{reader.line_num}"
            if len(cells) != len(head):
                raise InputError(f"{place}: it has {len(cells)} cells, and the first line has {len(head)}.")
            row = dict(zip(head, (c.strip() for c in cells), strict=True))
            count = row.get("count") or "1"
            if not (count.isascii() and count.isdigit() and 0 < int(count) < 1 << 40):
                raise InputError(f"{place}: '{count}' is no number of packets.")
            try:
                yield from made(row["source"], row["destination"], row["service"], int(count))
            except InputError as fault:
                raise InputError(f"{place}: {fault}") from None
    except csv.Error as error:
        raise InputError(f"{name}:{reader.line_num}: {error}.") from None
