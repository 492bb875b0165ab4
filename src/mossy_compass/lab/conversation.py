"""A conversation: a first packet with its answer, and what either side sends afterwards, on a clock.

What is sent next is what the hosts would send: who has closed sends no more data, who was reset says nothing. Each packet is walked
by itself, with whatever the devices remember of those before it; the journey of each tells its fate.
"""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping
from dataclasses import replace
from enum import StrEnum
from typing import NamedTuple

from mossy_compass.errors import AddressError, NotOpened, QuestionError
from mossy_compass.marks import hint
from mossy_compass.model.durations import duration_words, parse_duration
from mossy_compass.model.network import Kind, Network
from mossy_compass.packet.packet import FIRST_DYNAMIC_PORT, Channel, Packet, answer_to
from mossy_compass.packet.service import BUILT_IN_SERVICES, FTP, TCP, WITH_PORTS, parse_service, protocol_name
from mossy_compass.plan.facts import Ended, Expected, Session
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Because, Did, Fate
from mossy_compass.state.state import State
from mossy_compass.walk.journey import Journey, Leg, Symptom, Way
from mossy_compass.walk.question import Options, Question, ask, later_moment
from mossy_compass.walk.trace import trace_question, trace_whole
from mossy_compass.walk.verdict import blame, journey_of
from mossy_compass.walk.walk import Emission, follow, part


class Utterance(StrEnum):
    """What a side sends next."""

    DATA = "data"
    FIN = "fin"
    RESET = "reset"
    AGAIN = "again"
    LATE = "late"
    ACKNOWLEDGES = "acknowledges"
    ANNOUNCE = "announce"
    OPEN = "open"


class Side(StrEnum):
    """Who sends: who sent the first packet, or who answered it."""

    ASKER = "asker"
    ANSWERER = "answerer"


class Then(NamedTuple):
    """What happens next in a conversation.

    Attributes:
        words: as people say it.
        what: what is sent; None where time passes, or something is cleared.
        by: who sends it.
        wait: so many milliseconds pass.
        clear: the device whose sessions are cleared; empty for none.
        tells: of an announcement, the protocol and the port of the second channel.

    """

    words: str
    what: Utterance | None = None
    by: Side = Side.ASKER
    wait: int = 0
    clear: str = ""
    tells: tuple[int, int] | None = None


class Told(NamedTuple):
    """What became of an announcement on its way.

    Attributes:
        told: as it was sent.
        arrived: as it arrived; None where it did not.
        read_by: devices that read it, with what they expect.
        astray: devices that translated its sender and not what it tells.
        refused_by: devices whose helper read it, and does not believe it.
        passed: every device on its way.

    """

    told: Channel
    arrived: Channel | None
    read_by: tuple[tuple[str, Expected], ...]
    astray: tuple[str, ...]
    refused_by: tuple[str, ...]
    passed: tuple[str, ...]


class Exchange(NamedTuple):
    """One thing that happened, and what came of it.

    Attributes:
        words: what, as ``data of desk``.
        at: when, in milliseconds after the first packet.
        journey: of the packet; None where none was sent.
        sessions: that the packet belongs to after it passed, at devices that are no hosts.
        ended: sessions that ended by it, at devices that are no hosts.
        seen_as: as whom the far end sees the asker by now, where that is another end than the first packet had: to the far end it is
            somebody else. Empty where it is the same.
        told: of an announcement, what became of it.

    """

    words: str
    at: int
    journey: Journey | None
    sessions: tuple[Session, ...] = ()
    ended: tuple[Ended, ...] = ()
    seen_as: str = ""
    told: Told | None = None

    @property
    def ok(self) -> bool:
        """Whether it is what people hoped for: a packet arrived, or nothing was sent."""
        return self.journey is None or self.journey.answered


SENT = {w.value: w for w in (Utterance.DATA, Utterance.FIN, Utterance.RESET, Utterance.AGAIN, Utterance.LATE, Utterance.OPEN)}


def parse_then(text: str, network: Network) -> Then:
    """What happens next, from its words.

    Args:
        text: ``data``, ``fin``, ``reset``, ``again``, ``late``, ``announce tcp/PORT``, ``open``, each also after ``answer``;
            ``wait 5 min``; ``clear DEVICE``.
        network: whose devices may be cleared.

    Raises:
        QuestionError: it is none of these.

    """
    words = text.split()
    first, rest = (words[0] if words else ""), " ".join(words[1:])
    if first == "wait":
        passed = parse_duration(rest)
        if not passed:
            raise QuestionError(f"'{text}': a wait has a time with its unit. Write wait 90 s, or wait 2 h 4 min.")
        return Then(f"wait {duration_words(passed)}", wait=passed)
    if first == "clear":
        if rest not in network.devices:
            raise QuestionError(f"'{text}': there is no device '{rest}'. {hint(rest, network.devices, 'devices')}")
        return Then(f"clear {rest}", clear=rest)
    by = Side.ANSWERER if first == "answer" else Side.ASKER
    said = rest if by is Side.ANSWERER else text.strip()
    verb, _, channel = said.partition(" ")
    if verb == Utterance.ANNOUNCE:
        return Then(text.strip(), Utterance.ANNOUNCE, by, tells=_channel(text, channel.strip(), network))
    if said not in SENT:
        raise QuestionError(
            f"'{text}' is nothing that can follow. Write data, fin, reset, again, late, announce tcp/PORT or open, each also after "
            "the word answer; wait with a time; or clear with a device."
        )
    return Then(text.strip(), SENT[said], by)


def _channel(text: str, words: str, network: Network) -> tuple[int, int]:
    """The protocol and the port of a second channel, from its words.

    Raises:
        QuestionError: it is no port of a protocol that has ports.

    """
    try:
        found = parse_service(words)
    except AddressError:
        found = None
    if found is None or found.protocol not in WITH_PORTS or found.ports is None or found.ports.first != found.ports.last:
        raise QuestionError(f"'{text}': an announcement names one port, as announce tcp/40021.")
    return found.protocol, found.ports.first


class Conversation:
    """A first packet with its answer, and what followed.

    Attributes:
        first: the journey of the first packet and its answer.
        exchanges: what followed, in order.
        question: what was asked first; None where no packet could be made.

    """

    def __init__(
        self,
        plan: Callable[[], Plan],
        state: State,
        names: tuple[str, str, str],
        options: Options,
        passes: Callable[[int], list[Ended]] | None = None,
    ) -> None:
        """Send the first packet.

        Args:
            plan: gives the network as it is by then.
            state: what devices remember; it is changed.
            names: sender, target and service, as for ``trace``.
            options: further wishes.
            passes: lets the clock go on to an instant, and gives what ended; None: nothing happens meanwhile but that.

        Raises:
            QuestionError: the network has no such sender, target or service.

        """
        self._plan, self._state = plan, state
        self._passes = passes or state.advance
        self.question, self.first = trace_whole(plan(), *names, options, None, state)
        self.exchanges: list[Exchange] = []
        self._options = options
        self._told_of: dict[Side, Told] = {}
        self._begun = state.now
        self._closed: set[Side] = set()
        self._reset = False
        self._sent = {Side.ASKER: 1, Side.ANSWERER: 1}
        back = self.first.back
        self._answer = back.packet if back is not None and back.way is Way.BACK else None
        self._called = {Side.ASKER: self.first.sender, Side.ANSWERER: self.first.target_owner or self.first.there.end}
        self._names = {Side.ASKER: self.first.there.hops[0].device, Side.ANSWERER: self.first.there.end}

    @property
    def begun(self) -> int:
        """When it began, in milliseconds on the state's clock."""
        return self._begun

    @property
    def failed(self) -> Exchange | Journey | None:
        """The first thing that did not go as people hoped; None where all did."""
        if not self.first.answered:
            return self.first
        return next((e for e in self.exchanges if not e.ok), None)

    @property
    def journey(self) -> Journey:
        """The journey of the first packet that failed; where none did, of the last one."""
        if not self.first.answered:
            return self.first
        sent = [e for e in self.exchanges if e.journey is not None]
        chosen = next((e for e in sent if not e.ok), sent[-1] if sent else None)
        return chosen.journey if chosen is not None and chosen.journey is not None else self.first

    def copied(self) -> Conversation:
        """The same, which what follows does not change."""
        made = copy.copy(self)
        made.exchanges, made._closed, made._sent = list(self.exchanges), set(self._closed), dict(self._sent)
        made._told_of = dict(self._told_of)
        return made

    def renamed(self, names: Mapping[str, str]) -> None:
        """The hosts of it have other names from now on.

        Args:
            names: new names by old ones.

        """
        self._names = {side: names.get(name, name) for side, name in self._names.items()}
        self._called = {side: names.get(name, name) for side, name in self._called.items()}
        if self.question is not None:
            self.question = self.question._replace(device=names.get(self.question.device, self.question.device))
        legs = tuple(_under(leg, names) for leg in self.first.legs)
        back = next((new for old, new in zip(self.first.legs, legs, strict=True) if old is self.first.back), self.first.back)
        self.first = replace(self.first, legs=legs, back=back)

    def next(self, then: Then) -> tuple[Exchange, ...]:
        """Let something happen. After a handshake the asker acknowledges the answer before anything else is sent.

        Raises:
            QuestionError: no host would send that now.

        """
        made: list[Exchange] = []
        if then.what is None:
            made.append(self._waited(then))
        else:
            self._check(then, then.what)
            tcp = self.first.there.packet.protocol == TCP
            if tcp and self._sent[Side.ASKER] == 1 and then.what is not Utterance.AGAIN and self._answer is not None:
                made.append(self._say(Then("", Utterance.ACKNOWLEDGES), Utterance.ACKNOWLEDGES))
            if all(e.ok for e in made):
                made.append(self._say(then, then.what))
        self.exchanges += made
        return tuple(made)

    def _waited(self, then: Then) -> Exchange:
        """Time passes, or somebody clears the sessions of a device."""
        if then.clear:
            for held in self._state.associations.of(then.clear):
                part(self._plan(), self._state, held)
            ended = self._state.clear(then.clear)
        else:
            ended = self._passes(self._state.now + then.wait)
        return Exchange(then.words, self._state.now - self._begun, None, (), self._told(ended))

    def _check(self, then: Then, what: Utterance) -> None:
        """Whether the hosts would send that now.

        Raises:
            QuestionError: they would not.

        """
        if self.question is None:
            raise QuestionError(f"'{then.words}': no packet was sent, so nothing follows it.")
        tcp = self.first.there.packet.protocol == TCP
        name = self._called[then.by]
        if what in (Utterance.FIN, Utterance.RESET) and not tcp:
            raise QuestionError(f"'{then.words}': only tcp has that; {self.first.what} has neither opening nor end.")
        if then.by is Side.ANSWERER and what is Utterance.AGAIN:
            raise QuestionError(f"'{then.words}': the first packet is the asker's. Write again.")
        if what is Utterance.AGAIN:
            return
        if self._answer is None or not self.first.answered:
            leg = self.first.deciding
            ended = f"{leg.fate.value} at {leg.end} [{self.first.cause}]"
            raise NotOpened(f"'{then.words}': the first packet was not answered ({ended}), so nothing follows it but again.")
        if what is Utterance.LATE:
            return
        if what is Utterance.OPEN:
            self._check_open(then)
            return
        if self._reset:
            raise QuestionError(
                f"'{then.words}': the conversation was reset. Write late for a packet that was still under way, or again."
            )
        if then.by in self._closed:
            raise QuestionError(f"'{then.words}': {name} has closed its half. Write late for a packet that was still under way.")

    def _check_open(self, then: Then) -> None:
        """Whether a side knows where it could open a second channel.

        Raises:
            QuestionError: nobody told it.

        """
        told = self._told_of.get(_OTHER[then.by])
        if told is not None and told.arrived is not None:
            return
        other = self._called[_OTHER[then.by]]
        first = "announce tcp/PORT" if then.by is Side.ANSWERER else "answer announce tcp/PORT"
        instead = ""
        if then.by in self._told_of:
            instead = f" What {self._called[then.by]} announced is opened by the other end: write {_OPENED_BY[_OTHER[then.by]]}."
        raise QuestionError(f"'{then.words}': {other} has announced no second channel. Write {first} before it.{instead}")

    def _open(self, then: Then) -> Exchange:
        """A side opens the second channel that the other one announced: a flow of its own, to where it was told."""
        plan, state = self._plan(), self._state
        told = self._told_of[_OTHER[then.by]]
        assert told.arrived is not None
        assert self.question is not None
        channel = told.arrived
        name, at = self._names[then.by], state.now - self._begun
        over = {id(e): e for e in self._over()}
        mine = self.first.there.packet if then.by is Side.ASKER else self._answer
        assert mine is not None
        options = replace(
            self._options, source=str(mine.source), family=None, source_port=FIRST_DYNAMIC_PORT + 1 + len(self.exchanges)
        )
        service = f"{protocol_name(channel.protocol)}/{channel.port}"
        question = ask(plan, name, str(channel.address), service, options)
        question = question._replace(moment=later_moment(plan.network, question.moment, at // 1000))
        journey = trace_question(plan, question, state)[0]
        words = f"{self._called[then.by]} opens {service} to {channel.address}"
        journey = replace(
            journey, sender=self._called[then.by], within=f"the second channel that {self._called[_OTHER[then.by]]} announced"
        )
        if not journey.answered and journey.behind is None:
            journey = replace(journey, behind=self._lost(plan, told, journey, self._names[_OTHER[then.by]]))
        gone = [e for e in self._over() if id(e) not in over]
        return Exchange(words, at, journey, self._belongs(journey.there), self._told(gone))

    def _lost(self, plan: Plan, told: Told, journey: Journey, announcer: str) -> Because | None:
        """What lies behind the loss of a second channel: a device that did not read of it, or does not expect it any more."""
        if told.astray and told.astray[0] not in told.refused_by:
            return Because("root.astray", (told.astray[0], self._helper(plan.network), told.arrived))
        name = journey.deciding.end
        if journey.lost != "there" or name not in told.passed or name == announcer or self._is_host(name):
            return None
        held = next((e for device, e in told.read_by if device == name), None)
        if name in told.refused_by:
            return Because("root.expected-no-more", (name, "kind", ""))
        if held is None:
            return Because("root.unread", (name, self._helper(plan.network)))
        if self._state.now >= held.ends:
            settings = plan.device(name).settings
            return Because("root.expected-no-more", (name, "over", settings.text("announced-for")), settings.mark("announced-for"))
        if held not in self._state.expectations(name):
            return Because("root.expected-no-more", (name, "once", ""))
        return Because("root.expected-no-more", (name, "other", str(held.opener)))

    def _helper(self, network: Network) -> str:
        """The service that a helper would have to be for, to read this conversation; empty where none is written."""
        packet = self.first.there.packet
        named = {n: g.services for n, g in network.services.items() if g.expects is not None}
        named[FTP] = BUILT_IN_SERVICES[FTP]
        return next((n for n, some in named.items() if any(s.covers(packet.protocol, packet.slot) for s in some)), "")

    def _announced(self, packet: Packet, leg: Leg) -> Told:
        """What became of an announcement on its way."""
        told = packet.announces
        assert told is not None
        comes = [leg.came_to(n) for n in range(len(leg.hops))] + [leg.arrived]
        astray = tuple(
            hop.device
            for hop, came, left in zip(leg.hops, comes[:-1], comes[1:], strict=True)
            if came.source != left.source and came.announces == left.announces
        )
        read_at = [h.device for h in leg.hops if any(r.did is Did.EXPECTS for r in h.rulings)]
        # What it expects is what it noted last.
        read = tuple((name, self._state.expectations(name)[-1]) for name in read_at if leg.fate is Fate.DELIVERED)
        arrived = leg.arrived.announces if leg.fate is Fate.DELIVERED else None
        refused = tuple(h.device for h in leg.hops for r in h.rulings if r.did is Did.KEPT and r.because.code == "helper")
        return Told(told, arrived, read, astray, refused, tuple(h.device for h in leg.hops))

    def _wait_for(self, then: Then, packet: Packet) -> None:
        """The host that announces a second channel waits for it, whoever comes."""
        told, now = packet.announces, self._state.now
        assert told is not None
        ends = told.protocol, None, told.address, told.port, told.address, told.port
        self._state.expect(self._names[then.by], Expected(0, "", 0, *ends, 0, now, now + WAITS_FOR))

    def _say(self, then: Then, what: Utterance) -> Exchange:
        """A side sends a packet."""
        if what is Utterance.OPEN:
            return self._open(then)
        plan, state = self._plan(), self._state
        question = self._question(plan)
        asks = then.by is Side.ASKER
        there = self.first.there
        packet = there.packet if asks else self._answer
        assert packet is not None
        packet = packet._replace(flags=self._flags(what, packet), ttl=there.packet.ttl)
        told = None
        if then.tells is not None:
            packet = packet._replace(announces=Channel(then.tells[0], packet.source, then.tells[1]))
            self._wait_for(then, packet)
        over = {id(e): e for e in self._over()}  # each is kept here, so that no other may have its id meanwhile
        name = self._names[then.by]
        words = f"{_SAYS[what]} of {self._called[then.by]}"
        if packet.announces is not None:
            words = f"{self._called[then.by]} announces {packet.announces}"
        at = state.now - self._begun
        within = f"{words} ({duration_words(at)} after the first packet)" if at else words
        if what is Utterance.AGAIN:
            journey = replace(trace_question(plan, question, state)[0], within=within, lookup=self.first.lookup)
            self._begin_anew(journey)
            leg = journey.there
        else:
            self._sent[then.by] += 1
            emission = Emission(packet, name, Way.LATER, None, question.leaving if asks else None, 2 * self._sent[then.by] - asks)
            leg, home = self._walked(plan, emission, then.by)
            journey = replace(
                journey_of(plan, question, self.first.legs, leg), within=within, later=leg, lookup=self.first.lookup, said=None
            )
            if home is not None and not journey.answered:
                journey = replace(journey, symptom=home)
            self._note(then.by, what, leg)
            if packet.announces is not None:
                told = self._told_of[then.by] = self._announced(packet, leg)
        gone = [e for e in self._over() if id(e) not in over]
        return Exchange(words, at, journey, self._belongs(leg), self._told(gone), self._another_end(leg) if asks else "", told)

    def _another_end(self, leg: Leg) -> str:
        """As whom the far end sees the asker by now, where that is another end than the first packet had."""
        before, now = self.first.there.arrived, leg.arrived
        if leg.fate is not Fate.DELIVERED or (before.source, before.from_port) == (now.source, now.from_port):
            return ""
        address = f"[{now.source}]" if now.source.family == 6 else str(now.source)
        return f"{address}:{now.from_port}" if now.protocol in WITH_PORTS else str(now.source)

    def _question(self, plan: Plan) -> Question:
        """The first question at the time that it is by now: other windows of time may be open."""
        assert self.question is not None
        moment = later_moment(plan.network, self.question.moment, (self._state.now - self._begun) // 1000)
        return self.question._replace(moment=moment)

    def _walked(self, plan: Plan, emission: Emission, by: Side) -> tuple[Leg, Symptom | None]:
        """A packet, and what is sent home about it where it is lost: that is how its sender learns of it."""
        question = self._question(plan)
        leg, reply = follow(plan, self._state, emission, None, question.moment)
        if by is Side.ANSWERER:
            leg = blame(plan, question, self.first.there, leg)
        leg = self._at_the_right_end(leg, by)
        if leg.fate is Fate.DELIVERED or reply is None:
            return leg, None
        home = follow(plan, self._state, reply, None, question.moment)[0]
        if home.end != self._names[by] or home.fate is not Fate.DELIVERED:
            return leg, None
        return leg, Symptom.REFUSED if home.way is Way.BACK else Symptom.UNREACHABLE

    def _begin_anew(self, journey: Journey) -> None:
        """The first packet was sent again: what follows belongs to what it opened."""
        self._closed.clear()
        self._reset = False
        self._sent = {Side.ASKER: 1, Side.ANSWERER: 1}
        if journey.back is not None and journey.back.way is Way.BACK:
            self._answer = journey.back.packet

    def _flags(self, what: Utterance, packet: Packet) -> str:
        """What a packet of TCP shows."""
        if packet.protocol != TCP:
            return ""
        return {Utterance.FIN: "FIN", Utterance.RESET: "RST"}.get(what, "ACK")

    def _note(self, by: Side, what: Utterance, leg: Leg) -> None:
        """What the hosts know from now on."""
        if what is Utterance.FIN:
            self._closed.add(by)
        elif what is Utterance.RESET:
            self._reset = True
        if by is Side.ASKER and leg.fate is Fate.DELIVERED:
            # Whoever answers, answers to where it was asked from last: behind a translation that may be another end by now.
            answer = answer_to(leg.arrived._replace(flags=""))
            if answer is not None:
                self._answer = answer._replace(flags="")

    def _at_the_right_end(self, leg: Leg, by: Side) -> Leg:
        """A packet that another host took did not arrive."""
        wanted = self._names[Side.ANSWERER if by is Side.ASKER else Side.ASKER]
        if leg.fate is not Fate.DELIVERED or leg.end == wanted:
            return leg
        because = Because("answer.elsewhere", (leg.end, leg.arrived.destination))
        return leg._replace(fate=Fate.DROPPED, cause="answer.unasked", because=because)

    def _belongs(self, leg: Leg) -> tuple[Session, ...]:
        """The sessions that a packet belongs to after it passed, device by device."""
        found = []
        for number, hop in enumerate(leg.hops):
            if not self._is_host(hop.device):
                session = self._state.recall(hop.device, leg.came_to(number)).session
                found += [session] if session is not None else []
        return tuple(found)

    def _over(self) -> list[Ended]:
        """Every session that is over, as far as histories go back: they are short, and what lives may be very much."""
        return [e for device in self._state.devices() for e in self._state.ended(device)]

    def _told(self, ended: list[Ended]) -> tuple[Ended, ...]:
        """The ends that people ask about: those at devices that are no hosts."""
        return tuple(e for e in ended if not self._is_host(e.session.device))

    def _is_host(self, name: str) -> bool:
        """Whether a device is a host, whose sessions are its own affair."""
        device = self._plan().network.devices.get(name)
        return device is None or device.kind in (Kind.HOST, Kind.INTERNET)


def _under(leg: Leg, names: Mapping[str, str]) -> Leg:
    """A leg whose devices have other names."""
    hops = (
        h._replace(device=names.get(h.device, h.device), next_device=names.get(h.next_device or "", h.next_device))
        for h in leg.hops
    )
    return leg._replace(hops=tuple(hops))


_SAYS = {
    Utterance.DATA: "data",
    Utterance.FIN: "a FIN",
    Utterance.RESET: "a reset",
    Utterance.AGAIN: "the first packet again",
    Utterance.LATE: "late data",
    Utterance.ACKNOWLEDGES: "the acknowledgement",
    Utterance.ANNOUNCE: "an announcement",
}
_OTHER = {Side.ASKER: Side.ANSWERER, Side.ANSWERER: Side.ASKER}
_OPENED_BY = {Side.ASKER: "open", Side.ANSWERER: "answer open"}
WAITS_FOR = 365 * 24 * 3600 * 1000
"""How long a host waits for a channel that it announced, in milliseconds: it has no need to give up, and devices between do."""
