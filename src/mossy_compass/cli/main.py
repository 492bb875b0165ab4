"""The commands. What is heavy is imported inside the command that needs it, so that help is quick."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from mossy_compass.errors import InputError, MossyError, NetworkFileError

if TYPE_CHECKING:
    from mossy_compass.files.load import Reading
    from mossy_compass.model.network import Network

EXIT_NOT = 1
EXIT_INPUT = 2


def _data(name: str) -> Path:
    return Path(__file__).resolve().parent.parent / "data" / name


def _print(renderable: Any, *, error: bool = False) -> None:
    from mossy_compass.report.text import as_text, console

    screen = console(sys.stderr if error else sys.stdout)  # type: ignore[arg-type]
    if screen.is_terminal:
        screen.print(renderable)
        return
    text = as_text(renderable)
    stream = sys.stderr if error else sys.stdout
    try:
        stream.write(text)
    except UnicodeEncodeError:
        stream.write(text.replace("→", "->").encode("ascii", "replace").decode())


def _show_problems(reading: Reading, name: str, *, error: bool = False) -> None:
    from rich.console import Group
    from rich.text import Text

    from mossy_compass.report import text

    words = text.count_words(reading.problems)
    verdict = "cannot be used until the errors are mended" if reading.errors else "can be used"
    head = f"{name}: {words}; it {verdict}."
    _print(Group(Text(head), *[text.problem(p) for p in reading.problems]), error=error)


def _network(path: str) -> Network:
    """A network for a question. Errors are shown whole, then the command ends with 2."""
    from mossy_compass.files.load import read_file

    reading = read_file(path)
    if reading.network is None:
        _show_problems(reading, path, error=True)
        raise SystemExit(EXIT_INPUT)
    return reading.network


@click.group(context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(package_name="mossy-compass", prog_name="mossy")
def main() -> None:
    r"""Trace test packets through a modelled network, and read why each is delivered or dropped.

    Begin with `mossy demo`, or with `mossy new my.yaml` and `mossy trace my.yaml --from desk --to printer`.

    \b
    Exit codes: 0 the packet and its answer arrived (or the check found no error),
                1 it did not, 2 wrong input.
    """


@main.command()
@click.argument("file")
@click.option("--from", "sender", required=True, metavar="HOST", help="Device, device/interface, or far host that sends.")
@click.option("--to", "target", required=True, metavar="TARGET", help="Device, name, or address to reach.")
@click.option(
    "--service", default="ping", show_default=True, metavar="SERVICE", help="ping, protocol/port like tcp/443, or a service's name."
)
@click.option(
    "--source-port",
    type=click.IntRange(0, 65535),
    metavar="PORT",
    help="Source port, or identifier of a ping [default: 49152, or 1].",
)
@click.option("--source", metavar="ADDRESS", help="Source address, instead of the one that the sender would choose.")
@click.option("--ttl", type=click.IntRange(1, 255), default=64, show_default=True, help="Time to live in hops.")
@click.option("--family", type=click.Choice(["4", "6"]), help="Use the target's IPv4 or IPv6 address.")
@click.option("--details", is_flag=True, help="Every ruling of every stage, and every rule passed over with the reason.")
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", show_default=True, help="Form of the output."
)
def trace(
    file: str,
    sender: str,
    target: str,
    service: str,
    source_port: int | None,
    source: str | None,
    ttl: int,
    family: str | None,
    details: bool,
    form: str,
) -> None:
    r"""Send one test packet through the network in FILE, and its answer home.

    The first line is the answer; then a line or two for each hop there, then the way back.

    \b
    Example:
      mossy trace fernhollow.yaml --from kiosk-1 --to ledger --service tcp/8443

    \b
    Exit codes: 0 the packet and its answer arrived, 1 they did not, 2 wrong input.
    """
    from mossy_compass.plan.plan import Plan
    from mossy_compass.walk.trace import trace as run_trace

    network = _network(file)
    journey = run_trace(
        Plan(network),
        sender,
        target,
        service,
        from_port=source_port,
        source=source,
        ttl=ttl,
        family=int(family) if family else None,
    )
    if form == "json":
        import json

        click.echo(json.dumps(journey.to_dict(details), indent=2, ensure_ascii=False))
    else:
        from mossy_compass.report import text

        _print(text.journey(journey, details))
    raise SystemExit(0 if journey.answered else EXIT_NOT)


@main.command()
@click.argument("file")
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", show_default=True, help="Form of the output."
)
def check(file: str, form: str) -> None:
    r"""Read FILE and print every fault, with its place, what is allowed, and what to do.

    \b
    Example:
      mossy check my.yaml

    \b
    Exit codes: 0 no error (there may be warnings), 2 errors.
    """
    from mossy_compass.files.load import read_file

    reading = read_file(file)
    if form == "json":
        import json

        click.echo(
            json.dumps(
                {"mossy-findings": 1, "file": file, "findings": [_finding(p) for p in reading.problems]},
                indent=2,
                ensure_ascii=False,
            )
        )
    else:
        _show_problems(reading, file)
    raise SystemExit(EXIT_INPUT if reading.errors else 0)


def _finding(problem: Any) -> dict[str, Any]:
    return {
        "code": problem.code,
        "severity": problem.severity.value,
        "file": problem.mark.file,
        "line": problem.mark.line,
        "column": problem.mark.column,
        "message": problem.message,
        "remedy": problem.remedy,
        "also": [{"file": m.file, "line": m.line, "column": m.column, "message": w} for m, w in problem.also],
    }


@main.command()
@click.argument("file", type=click.Path(dir_okay=False))
def new(file: str) -> None:
    r"""Write a small commented network that works to FILE, to start from. An existing file is left alone.

    \b
    Example:
      mossy new my.yaml
    """
    _write(Path(file), _data("starter.yaml").read_bytes(), overwrite=False)
    click.echo(f"{file}: written. Try: mossy trace {file} --from desk --to printer --service tcp/9100")


def _write(path: Path, data: bytes, *, overwrite: bool = True) -> None:
    """Write a whole file or nothing: into a temporary neighbour first, which then takes the name."""
    import os
    import tempfile

    if path.is_dir():
        raise InputError(f"{path}: this is a folder. Name a file in it.")
    if path.exists() and not overwrite:
        raise InputError(f"{path}: exists already, and is left as it is. Choose another name.")
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    except OSError as fault:
        raise InputError(f"{path}: cannot be written: {(fault.strerror or str(fault)).lower()}. Check the folder.") from None
    try:
        with os.fdopen(handle, "wb") as stream:
            stream.write(data)
        mask = os.umask(0)
        os.umask(mask)
        os.chmod(name, 0o666 & ~mask)
        os.replace(name, path)
    except OSError as fault:
        Path(name).unlink(missing_ok=True)
        raise InputError(f"{path}: cannot be written: {(fault.strerror or str(fault)).lower()}.") from None


DEMO = (
    ("A kiosk sells a ticket: permitted by two lists on the way, and answered.", "kiosk-1", "ledger", "ticketing"),
    ("The same from a visitor's tablet: permits for two kiosks shut out their neighbour.", "tablet", "ledger", "ticketing"),
    ("A ping into the world goes out, and its answer dies at the perimeter.", "kiosk-1", "almanac.example", "ping"),
    ("The web works from the same place, which is why the ping puzzles people.", "kiosk-1", "almanac.example", "https"),
    ("One bench may log in to the press; the desk beside it meets the end of the list.", "lab-desk", "pressroom", "ssh"),
    ("Delivered is not served: the ledger does not listen on that port.", "lab-bench", "ledger", "tcp/80"),
    ("A sensor's question leaves untranslated; the provider has no route back.", "sensor-fern", "almanac.example", "ntp"),
    ("Strangers may read the seed catalogue, over IPv6 too.", "almanac", "seeds.example", "tcp/443"),
    ("An address that nobody has, between two routers that trust each other.", "lab-bench", "10.41.9.9", "ping"),
)


@main.command()
@click.option("--write", "target", type=click.Path(dir_okay=False), metavar="FILE", help="Also write the demo network to FILE.")
@click.option("--details", is_flag=True, help="Show each hop too.")
def demo(target: str | None, details: bool) -> None:
    r"""Show the demo network, Fernhollow Botanic Trust, and several test packets explained.

    \b
    Example:
      mossy demo --write fernhollow.yaml
    """
    from rich.console import Group
    from rich.padding import Padding
    from rich.text import Text

    from mossy_compass.files.load import read_bytes
    from mossy_compass.plan.plan import Plan
    from mossy_compass.report import text
    from mossy_compass.walk.trace import trace as run_trace

    data = _data("fernhollow.yaml").read_bytes()
    name = target or "fernhollow.yaml"
    reading = read_bytes(data, name)
    assert reading.network is not None
    plan = Plan(reading.network)
    if target:
        _write(Path(target), data)
    kinds: dict[str, list[str]] = {}
    for device in reading.network.devices.values():
        kinds.setdefault(device.kind.value, []).append(device.name)
    parts: list[Any] = [
        Text(f"{reading.network.title}: {len(DEMO)} test packets through the demo network, and why each fared so."),
        Padding(Text(f"{reading.network.about}"), (0, 0, 0, 2)),
    ]
    parts.append(
        Padding(
            text.rows_of([(kind + "s", ", ".join(names)) for kind, names in kinds.items()], ("dim", ""), (9, None)), (0, 0, 0, 2)
        )
    )
    parts.append(Text(""))
    for number, (title, sender, goal, service) in enumerate(DEMO, 1):
        parts.append(Text(f"{number}. {title}", style="bold"))
        journey = run_trace(plan, sender, goal, service)
        parts.append(Padding(text.journey(journey, details) if details else text.brief(journey), (0, 0, 1, 3)))
    if target:
        parts.append(
            Text(
                f"The network is in {target}. Go on with: mossy trace {target} --from kiosk-1 --to ledger --service tcp/22 --details"
            )
        )
    else:
        parts.append(
            Text(
                "Go on with: mossy demo --write fernhollow.yaml, then mossy trace fernhollow.yaml --from kiosk-1 --to ledger --service tcp/22 --details"
            )
        )
    _print(Group(*parts))


@main.command()
@click.argument("which", type=click.Choice(["network", "journey"]))
def schema(which: str) -> None:
    r"""Print the JSON Schema of network files (for editors) or of journeys (for programs).

    \b
    Example:
      mossy schema network > mossy-network.schema.json
    """
    click.echo(_data(f"{which}.schema.json").read_text(encoding="utf-8"), nl=False)


def run() -> None:
    """Entry point: every error of ours becomes a message and exit code 2; no traceback reaches a user."""
    try:
        main(standalone_mode=False)
    except click.exceptions.Abort:
        click.echo("stopped.", err=True)
        raise SystemExit(130) from None
    except click.ClickException as fault:
        fault.show()
        raise SystemExit(EXIT_INPUT) from None
    except click.exceptions.Exit as fault:
        raise SystemExit(fault.exit_code) from None
    except NetworkFileError as fault:
        click.echo(str(fault), err=True)
        raise SystemExit(EXIT_INPUT) from None
    except MossyError as fault:
        click.echo(f"mossy: {fault}", err=True)
        raise SystemExit(EXIT_INPUT) from None
    except BrokenPipeError:
        sys.stderr.close()
        raise SystemExit(141) from None
