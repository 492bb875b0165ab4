"""The commands that send test packets, and the picture of a network.

A named service is asked member by member, since a service that works by half is the kind of
fault that takes longest to find. Every way and many flows are further questions about the
same packet, so they are options of ``trace`` and no commands of their own.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from mossy_compass.cli import complete
from mossy_compass.cli.common import (
    CONTEXT,
    EXIT_NOT,
    OUTPUT,
    FileKind,
    form_option,
    log_options,
    moment_of,
    moment_options,
    read_network,
    say,
    say_json,
    service_option,
    shape_of,
    show,
    write_log,
    write_logs,
    write_whole,
)
from mossy_compass.errors import InputError, QuestionError

if TYPE_CHECKING:
    from mossy_compass.lab.conversation import Conversation
    from mossy_compass.plan.facts import Ended
    from mossy_compass.plan.plan import Plan
    from mossy_compass.walk.journey import Journey
    from mossy_compass.walk.question import Options


@click.command(context_settings=CONTEXT, short_help="Send one test packet and explain what happened to it.")
@click.argument("file")
@click.option(
    "--from", "sender", metavar="HOST", shell_complete=complete.senders, help="Device, device/interface, or far host that sends."
)
@click.option("--to", "target", metavar="TARGET", shell_complete=complete.targets, help="Device, name, or address to reach.")
@click.option(
    "--own",
    metavar="WHAT",
    help="Instead of --from and --to: what a device sends by itself, 'probe DEVICE/NAME' for a probe's question, 'tunnel DEVICE/NAME' for the exchange of its keys.",
)
@service_option
@click.option(
    "--source-port",
    type=click.IntRange(0, 65535),
    metavar="PORT",
    help="Source port, or identifier of a ping [default: 49152, or 1].",
)
@click.option("--source", metavar="ADDRESS", help="Source address, instead of the one that the sender would choose.")
@click.option("--ttl", type=click.IntRange(1, 255), default=64, show_default=True, help="Time to live in hops.")
@click.option("--family", type=click.Choice(["4", "6"]), help="Use the target's IPv4 or IPv6 address.")
@click.option("--size", type=click.IntRange(28, 65535), default=64, show_default=True, help="Length of the packet in bytes.")
@click.option("--application", metavar="NAME", help="The flow is of this application; else applications: in the file says.")
@click.option("--fragment", is_flag=True, help="Send a fragment other than the first: it has no ports.")
@moment_options
@click.option("--details", is_flag=True, help="Every ruling of every stage, and every rule and route passed over with the reason.")
@click.option("--every-path", is_flag=True, help="Follow every combination of equal routes, and say whether their fates differ.")
@click.option(
    "--count", "flows", type=click.IntRange(1, 100_000), metavar="NUMBER", help="Send NUMBER flows, and count them by equal route."
)
@click.option(
    "--then",
    "followed",
    multiple=True,
    metavar="WHAT",
    help="What follows: data, fin, reset, again or late, each also after the word answer; 'wait 5 min'; 'clear DEVICE'. May be given several times.",
)
@click.option(
    "--fail",
    "fails",
    multiple=True,
    metavar="WHAT",
    help="Show the flow before, while and after this fails, beside each other, such as 'link fibre'; may be given several times.",
)
@click.option(
    "--capture", "captured", metavar="CAPTURE", type=OUTPUT, help="Write every packet at every interface to CAPTURE (.pcapng)."
)
@log_options
@form_option("text", "json")
def trace(
    file: str,
    sender: str | None,
    target: str | None,
    own: str | None,
    service: str,
    source_port: int | None,
    source: str | None,
    ttl: int,
    family: str | None,
    size: int,
    application: str | None,
    fragment: bool,
    at: str | None,
    last_resort: bool,
    details: bool,
    every_path: bool,
    flows: int | None,
    followed: tuple[str, ...],
    fails: tuple[str, ...],
    captured: str | None,
    log: str | None,
    log_from: str | None,
    log_to: str | None,
    form: str,
) -> None:
    """Send one test packet through the network in FILE, and its answer home.

    The first line is the answer; then a line or two for each hop there, then the way back.
    With --then it is the answer of the first packet that failed.

    \b
    Examples:
      mossy trace fernhollow.yaml --from kiosk-1 --to ledger --service tcp/8443
      mossy trace fernhollow.yaml --from kiosk-1 --to almanac --service https --then data --then "wait 3 h" --then "answer data"

    \b
    Exit codes: 0 the packet and its answer arrived (by every path, for every
                flow, for every member of the service), 1 not, 2 wrong input.
    """
    from mossy_compass.plan.plan import Plan
    from mossy_compass.walk.question import Options
    from mossy_compass.walk.weather import in_weather

    plan = in_weather(Plan(read_network(file)))
    many = every_path or flows is not None
    if own is not None:
        _check_own(many or bool(followed or fails), (sender, target, captured, log))
        raise SystemExit(0 if _own(plan, own, details, form) else EXIT_NOT)
    sender, target = _ends(sender, target)
    moment = moment_of(at, last_resort)
    options: dict[str, Any] = {
        "source_port": source_port,
        "source": source,
        "ttl": ttl,
        "family": int(family) if family else None,
        "size": size,
    }
    options |= {"at": moment.at, "last_resort": last_resort, "application": application, "fragment": fragment}
    if every_path and flows is not None:
        raise InputError("--every-path and --count answer different questions; give one of them.")
    if followed and many:
        raise InputError("--then is about one conversation; give it without --every-path and --count.")
    if captured is not None:
        _check_capture(captured, many)
    if fails and (many or followed or log or captured is not None):
        raise InputError("--fail is about one flow; give it without --every-path, --count, --then, --log and --capture.")
    asked = sender, target, service
    wishes = Options(**options)
    written = _Written(captured, log, (log_from, log_to), moment)
    if fails:
        answered = _through(plan, asked, wishes, fails, details, form)
    elif followed:
        answered = _talked(plan, asked, wishes, followed, written, details, form)
    elif many:
        answered = _many(plan, asked, options, flows, form)
    else:
        answered = _sent(plan, asked, wishes, written, details, form)
    raise SystemExit(0 if answered else EXIT_NOT)


class _Written(NamedTuple):
    """What is written of packets beside what is shown.

    Attributes:
        captured: the file for every packet; None for none.
        log, ends: the file for log lines, and from whom to whom they are sent; None for none.
        moment: when the packets are sent.

    """

    captured: str | None
    log: str | None
    ends: tuple[str | None, str | None]
    moment: Options


def _sent(plan: Plan, asked: tuple[str, str, str], wishes: Options, written: _Written, details: bool, form: str) -> bool:
    """Send one packet, for each member of a service, and show what becomes of it; gives whether all are answered."""
    from mossy_compass.walk.trace import trace_each

    journeys = trace_each(plan, *asked, wishes)
    if written.log:
        write_log(plan, journeys, written.log, written.ends, written.moment, form)
    if written.captured is not None:
        _write_capture(written.captured, journeys, form)
    _print_journeys(journeys, details, form)
    return all(j.answered for j in journeys)


def _talked(
    plan: Plan, asked: tuple[str, str, str], wishes: Options, followed: tuple[str, ...], written: _Written, details: bool, form: str
) -> bool:
    """Send a packet and what follows, and show what becomes of all of it; gives whether none fails."""
    held, left = _converse(plan, asked, wishes, followed)
    if written.log:
        write_logs(plan, _logged(held), written.log, written.ends, written.moment, form)
    _print_conversation(held, left, details, form, written.captured)
    return held.failed is None


def _check_own(more: bool, others: tuple[str | None, ...]) -> None:
    """What a device sends by itself is said by nothing else.

    Raises:
        InputError: something else is said too.

    """
    if more or any(v is not None for v in others):
        raise InputError(
            "--own says who sends what; leave --from, --to, --then, --fail, --every-path, --count, --capture and --log out."
        )


def _ends(sender: str | None, target: str | None) -> tuple[str, str]:
    """Who sends, and to whom; that one of them is missing is told as the library of options tells it."""
    if sender is None or target is None:
        missing = "--from" if sender is None else "--to"
        raise click.UsageError(
            f"Missing option '{missing}'. A packet has a sender and a target; --own shows what a device sends by itself."
        )
    return sender, target


def _own(plan: Plan, what: str, details: bool, form: str) -> bool:
    """Show what a device sends by itself: a probe's question, or the exchange of a tunnel's keys. Gives whether it was answered."""
    from mossy_compass.marks import hint
    from mossy_compass.walk.weather import outcome, probes_of

    kind, _, name = what.strip().partition(" ")
    if kind == "probe":
        known = {f"{d}/{p}": (d, p) for (d, p), _ in probes_of(plan)}
        if name.strip() not in known:
            raise QuestionError(f"there is no probe '{name.strip()}' that is asked. {hint(name.strip(), known, 'probes')}")
        found = outcome(plan, known[name.strip()])
        _print_journeys([found.journey], details, form)
        if form == "text" and not found.ok and found.journey.answered:
            say(f"The probe fails all the same: {found.why}.\n")
        return found.ok
    if kind == "tunnel":
        return _exchanges(plan, name.strip(), details, form)
    raise QuestionError(f"'{what}' is nothing that a device sends by itself. Write 'probe DEVICE/NAME' or 'tunnel DEVICE/NAME'.")


def _exchanges(plan: Plan, name: str, details: bool, form: str) -> bool:
    """Show the exchange of a tunnel's keys, once for each of its selectors. Gives whether all were agreed on."""
    from rich.console import Group
    from rich.text import Text

    from mossy_compass.marks import hint
    from mossy_compass.report.owntext import exchange, exchange_dict
    from mossy_compass.state.state import State
    from mossy_compass.walk.walk import agreements

    ports = {
        f"{d.name}/{i.name}": (d.name, i)
        for d in plan.network.devices.values()
        for i in d.interfaces.values()
        if i.tunnel is not None
    }
    if name not in ports:
        raise QuestionError(f"there is no tunnel '{name}'. {hint(name, ports, 'tunnels')}")
    device, port = ports[name]
    if port.tunnel is not None and not port.tunnel.exchanged:
        raise QuestionError(
            f"tunnel {name} has its keys by hand: nothing is exchanged. Ask for a packet that goes through it: --from and --to."
        )
    found = agreements(plan, State(), device, port.name)
    if form == "json":
        told = [exchange_dict(device, port.name, one, plan if details else None) for one in found]
        say_json(told[0] if len(told) == 1 else told)
    else:
        blocks = [part for one in found for part in (exchange(device, port.name, one, details, plan), Text(""))]
        show(Group(*blocks[:-1]))
    return bool(found) and all(one.agreed.held is not None and one.lost is None for one in found)


def _print_journeys(journeys: list[Journey], details: bool, form: str) -> None:
    """One journey; or those of every member of a named service, the first lines of all before the ways of any."""
    if form == "json":
        say_json(journeys[0].to_dict(details) if len(journeys) == 1 else [j.to_dict(details) for j in journeys])
        return
    from rich.console import Group
    from rich.text import Text

    from mossy_compass.report import text

    if len(journeys) == 1:
        show(text.journey(journeys[0], details))
        return
    good = sum(j.answered for j in journeys)
    head = f"{good} of {len(journeys)} members of the service are answered:"
    blocks = [part for j in journeys for part in (text.journey(j, details), Text(""))]
    show(Group(Text(head, style="bold"), *blocks[:-1]))


def _converse(
    plan: Plan, question: tuple[str, str, str], options: Options, followed: tuple[str, ...]
) -> tuple[Conversation, list[str]]:
    """A conversation: the first packet, and what follows until something fails; with the words of what was not sent any more."""
    from mossy_compass.lab.conversation import parse_then
    from mossy_compass.lab.lab import Flow, Lab

    sender, target, service = question
    member = _one_member(plan, service, "a conversation")
    then = [parse_then(text, plan.network) for text in followed]
    lab = Lab(plan.network)
    held = lab.converse(Flow(sender, target, member, options), apart=False)
    unsent = list(then)
    while unsent and held.failed is None:
        held.next(unsent.pop(0))
    return held, [t.words for t in unsent]


def _one_member(plan: Plan, service: str, what: str) -> str:
    """The one member of a service.

    Raises:
        QuestionError: it has several.

    """
    from mossy_compass.walk.question import members_of

    members = members_of(plan.network, service)
    if len(members) > 1:
        raise QuestionError(f"'{service}' has {len(members)} members, and {what} is of one: --service {members[0]}, for example.")
    return members[0]


def _through(
    plan: Plan, question: tuple[str, str, str], options: Options, fails: tuple[str, ...], details: bool, form: str
) -> bool:
    """A flow before, while and after something fails; whether it survives that."""
    from mossy_compass.lab.lab import Flow
    from mossy_compass.lab.moments import through
    from mossy_compass.report import momentstext

    sender, target, service = question
    flow = Flow(sender, target, _one_member(plan, service, "what is shown while something fails"), options)
    found = through(plan.network, flow, fails)
    if form == "json":
        say_json(momentstext.moments_dict(found, details))
    else:
        show(momentstext.moments(found))
    return found.ok


def _alone(journey: Journey) -> Journey:
    """A journey without the legs of the first packet, which it begins with."""
    return journey if journey.later is None else replace(journey, legs=(journey.later,), later=None)


def _logged(held: Conversation) -> Iterator[tuple[int, list[Journey | Ended]]]:
    """What devices would log of a conversation: its packets, and the ends of its sessions, by milliseconds after the first packet."""
    yield 0, [held.first]
    for exchange in held.exchanges:
        if exchange.journey is not None:
            yield exchange.at, [_alone(exchange.journey)]
        for over in exchange.ended:
            yield over.at - held.begun, [over]


def _print_conversation(held: Conversation, left: list[str], details: bool, form: str, captured: str | None) -> None:
    """A conversation as it is shown, and as a capture where one is wanted."""
    from mossy_compass.report import conversationtext

    if captured is not None:
        later = [_alone(e.journey) for e in held.exchanges if e.journey is not None]
        _write_capture(captured, [held.first, *later], form)
    if form == "json":
        say_json(conversationtext.conversation_dict(held, left, details))
    else:
        show(conversationtext.conversation(held, left, details))


def _check_capture(captured: str, many: bool) -> None:
    """Refuse a capture that cannot be written, before anything is asked."""
    if many:
        raise InputError("--capture is of one journey; give it without --every-path and --count.")
    if not captured.lower().endswith(".pcapng"):
        raise InputError(f"'{captured}': a capture is written as .pcapng. Name it so.")


def _write_capture(captured: str, journeys: Sequence[Journey], form: str) -> None:
    """Write journeys as a capture, and say so where text is shown."""
    from mossy_compass.exchange.captures import capture

    now = journeys[0].moment.now
    write_whole(Path(captured), capture(journeys, float(now or 0)), FileKind.CAPTURE)
    if form == "text":
        say(f"{captured}: written; one interface of it for each that a packet passed.\n")


def _many(plan: Plan, question: tuple[str, str, str], options: dict[str, Any], count: int | None, form: str) -> bool:
    """Every path of a question, or many of its flows; True when all are answered."""
    from mossy_compass.cli.progress import track
    from mossy_compass.report import manytext
    from mossy_compass.walk import many

    if count is not None:
        flows = many.flows(plan, *question, count, each=lambda ports: track(ports, count, "flows"), **options)
        if form == "json":
            say_json(manytext.flows_dict(flows, question))
        else:
            show(manytext.flows(flows, question))
        return all(fate == "answered" for fate, _, _ in flows.outcomes)
    paths = many.every_path(plan, *question, **options)
    if form == "json":
        say_json(manytext.paths_dict(paths, question))
    else:
        show(manytext.paths(paths, question))
    return all(p.journey.answered for p in paths.paths)


MOST_BOXES = 160
BOXES_WITH_BAR = 60
"""Boxes of a picture, and from how many on making it takes long enough for a bar."""


@click.command(context_settings=CONTEXT, short_help="Draw a network, and a test packet's way.")
@click.argument("file")
@click.argument("picture", type=OUTPUT)
@click.option("--from", "sender", metavar="HOST", shell_complete=complete.senders, help="Draw a journey too: who sends.")
@click.option("--to", "target", metavar="TARGET", shell_complete=complete.targets, help="... and to whom.")
@click.option(
    "--service", default="ping", show_default=True, metavar="SERVICE", shell_complete=complete.services, help="... and what."
)
@click.option("--around", metavar="DEVICE", shell_complete=complete.devices, help="Draw only what is near this device.")
@click.option("--within", type=click.IntRange(1, 50), default=2, show_default=True, help="How many segments away is near.")
def draw(file: str, picture: str, sender: str | None, target: str | None, service: str, around: str | None, within: int) -> None:
    """Draw the network in FILE as PICTURE (.png or .svg), with the path of a journey where one is asked for.

    \b
    Example:
      mossy draw fernhollow.yaml way.png --from kiosk-1 --to ledger --service https
    """
    form = shape_of(picture)
    if (sender is None) != (target is None):
        raise InputError("a journey has both --from and --to; give both, or neither.")
    from mossy_compass.cli.progress import track
    from mossy_compass.marks import hint
    from mossy_compass.plan.plan import Plan
    from mossy_compass.report import drawing, layout
    from mossy_compass.walk.trace import trace as run_trace
    from mossy_compass.walk.weather import in_weather

    plan = in_weather(Plan(read_network(file)))
    network = plan.network  # with the leased addresses in place
    if around is not None and around not in network.devices:
        raise QuestionError(f"there is no device '{around}' to draw. {hint(around, network.devices, 'devices')}")
    only = layout.around(network, around, within) if around else None
    journey = run_trace(plan, sender, target, service) if sender and target else None
    count = layout.count(network, only)
    if count > MOST_BOXES:
        raise InputError(
            f"{count} devices and segments are too many for one legible picture (at most {MOST_BOXES}). "
            "Draw a part: --around DEVICE --within 2."
        )
    slow = count > BOXES_WITH_BAR
    made = layout.place(network, only, lambda roots: track(roots, len(roots), "arrangements", 2 if slow else len(roots) + 1))
    write_whole(Path(picture), drawing.render(made, network.title or file, form, journey), FileKind[form.upper()])
    words = f"{len(network.devices) if only is None else len(only)} devices" + (f" around {around}" if around else "")
    say(f"{picture}: {words} drawn.\n")
