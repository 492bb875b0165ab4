"""Sessions and mappings on a clock: phases, time-outs, who keeps what alive, ports, limits; and a small independent model."""

from __future__ import annotations

import itertools
import pickle

import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

import mossy_compass as mc
from mossy_compass.model.durations import duration_words, parse_duration
from mossy_compass.packet.flow import flow_from, flow_of, key_from, key_of, reversed_key
from mossy_compass.packet.packet import Packet, answer_to, echo_request
from mossy_compass.plan.facts import WHY_ENDED, Direction, Phase, Relation
from mossy_compass.plan.keeping import LAST_PORT, Keeping, lives
from mossy_compass.report.words import ENDED
from mossy_compass.state.entry import Ports
from mossy_compass.state.phases import OF_TCP, TABLE, Shows
from mossy_compass.state.rewrite import with_source
from mossy_compass.state.state import State

IN, OUT, FAR, OTHER = (mc.parse_address(a) for a in ("10.40.1.10", "198.51.100.2", "203.0.113.80", "203.0.113.81"))
FORTH, BACK = Direction.FORTH, Direction.BACK
MIN = 60_000
LIVES = {
    "time-out-open": 124 * MIN,
    "time-out-opening": 4 * MIN,
    "time-out-closing": 4 * MIN,
    "time-out-udp": 5 * MIN,
    "time-out-icmp": MIN,
    "time-out-other": 5 * MIN,
}
KEEPING = Keeping(lives=LIVES)


def tcp(flags: str, port: int = 50000) -> Packet:
    return Packet(6, IN, FAR, port, 443, -1, flags)


def turned(packet: Packet, flags: str = "") -> Packet:
    """What comes back along a flow."""
    return packet._replace(
        source=packet.destination, destination=packet.source, from_port=packet.to_port, to_port=packet.from_port, flags=flags
    )


def udp(port: int = 50000, far: mc.Address = FAR) -> Packet:
    return Packet(17, IN, far, port, 53)


def hidden(state: State, packet: Packet, keeping: Keeping = KEEPING) -> Packet:
    """Open a session with a translated source; gives the packet as it left."""
    found = state.allocate("gate", packet, OUT, keeping)
    assert found is not None
    left = with_source(packet, OUT, found.port)
    state.open("gate", packet, left, "in", "out", keeping=keeping, allocated=found)
    return left


# --- durations ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "milliseconds"),
    [
        ("500 ms", 500),
        ("3 s", 3000),
        ("2 h 4 min", 124 * MIN),
        ("1 d", 86_400_000),
        ("4min", 4 * MIN),
        ("60", None),  # nobody knows its unit
        ("4 min 2 h", None),  # the longer unit first
        ("1 h 1 h", None),
        ("-3 s", None),
        ("3 weeks", None),
        ("", None),
        ("99999 d", None),
        ("1.5 h", None),
        ("٣ s", None),
    ],
)
def test_durations_have_units(text: str, milliseconds: int | None) -> None:
    assert parse_duration(text) == milliseconds


@pytest.mark.parametrize(
    ("milliseconds", "words"), [(0, "0 s"), (7_440_000, "2 h 4 min"), (90_061_001, "1 d 1 h"), (61_500, "1 min 1 s")]
)
def test_durations_are_told_in_two_units(milliseconds: int, words: str) -> None:
    assert duration_words(milliseconds) == words


# --- flows as numbers --------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "packet",
    [tcp("SYN"), udp(), echo_request(IN, FAR, 7), Packet(47, IN, FAR), Packet(17, mc.Address(6, 1 << 100), mc.Address(6, 5), 1, 2)],
    ids=["tcp", "udp", "ping", "gre", "six"],
)
def test_a_flow_and_its_number_are_one(packet: Packet) -> None:
    key = key_of(packet)
    assert flow_from(key) == flow_of(packet)
    assert key_from(flow_of(packet)) == key
    assert reversed_key(reversed_key(key)) == key
    answer = answer_to(packet)
    assert answer is not None
    assert reversed_key(key) == key_of(answer)


def test_asks_and_answers_of_icmp_are_two_flows() -> None:
    ask = echo_request(IN, FAR, 7)
    answer = answer_to(ask)
    assert answer is not None
    assert key_of(echo_request(FAR, IN, 7)) != key_of(answer)


# --- phases ------------------------------------------------------------------------------------------------------


def test_every_combination_has_a_row() -> None:
    assert set(TABLE) == set(itertools.product(OF_TCP, Direction, Shows))
    assert all(step.phase in OF_TCP for step in TABLE.values())
    for phase in OF_TCP:
        assert lives(6, phase) in LIVES


def test_a_reset_is_believed_wherever_it_comes() -> None:
    """RFC 7857 section 2.2."""
    assert {TABLE[p, d, Shows.RESET].phase for p in OF_TCP for d in Direction} == {Phase.RESET}


def test_only_a_bare_syn_begins_anew_and_only_after_the_end() -> None:
    """RFC 6146 section 3.5.2.2."""
    anew = {key for key, step in TABLE.items() if step.anew}
    assert anew == set(itertools.product((Phase.CLOSING, Phase.RESET), Direction, (Shows.SYN,)))


CONVERSATIONS = [
    ("a handshake", [(FORTH, "SYN", "opening"), (BACK, "SYN-ACK", "answered"), (FORTH, "ACK", "open"), (BACK, "ACK", "open")]),
    ("both at once (RFC 5382 REQ-2)", [(FORTH, "SYN", "opening"), (BACK, "SYN", "crossed"), (FORTH, "SYN-ACK", "open")]),
    (
        "closed by who opened it",
        [
            (FORTH, "SYN", "opening"),
            (BACK, "SYN-ACK", "answered"),
            (FORTH, "ACK", "open"),
            (FORTH, "FIN", "half-closed by who opened it"),
            (BACK, "ACK", "half-closed by who opened it"),
            (BACK, "FIN", "closing"),
            (FORTH, "ACK", "closing"),
        ],
    ),
    (
        "closed by who answered",
        [
            (FORTH, "SYN", "opening"),
            (BACK, "SYN-ACK", "answered"),
            (FORTH, "ACK", "open"),
            (BACK, "FIN", "half-closed by who answered"),
            (BACK, "FIN", "half-closed by who answered"),
            (FORTH, "FIN", "closing"),
        ],
    ),
    ("refused", [(FORTH, "SYN", "opening"), (BACK, "RST", "reset")]),
    ("revived", [(FORTH, "SYN", "opening"), (BACK, "SYN-ACK", "answered"), (BACK, "RST", "reset"), (FORTH, "ACK", "open")]),
]


@pytest.mark.parametrize(("name", "packets"), CONVERSATIONS, ids=[n for n, _ in CONVERSATIONS])
def test_conversations_go_through_their_phases(name: str, packets: list[tuple[Direction, str, str]]) -> None:
    state = State()
    state.open("gate", tcp("SYN"), tcp("SYN"), "in", "out", keeping=KEEPING)
    for direction, flags, phase in packets:
        packet = tcp(flags) if direction is FORTH else turned(tcp(""), flags)
        if flags != "SYN" or direction is BACK:
            assert state.recall("gate", packet).fits, flags
            assert state.recall("gate", packet).direction is direction
            state.touch("gate", packet, direction, KEEPING)
        (session,) = state.sessions("gate")
        assert session.phase.value == phase


@pytest.mark.parametrize(
    ("before", "direction", "flags"),
    [
        ([], FORTH, "ACK"),  # data, and nobody has answered here
        ([], BACK, "ACK"),
        ([(BACK, "SYN-ACK")], BACK, "ACK"),  # data of who answers, before anybody acknowledged it
        ([(BACK, "SYN-ACK"), (FORTH, "ACK")], BACK, "SYN"),
        ([(BACK, "SYN-ACK"), (FORTH, "ACK")], FORTH, "SYN-ACK"),
        ([(FORTH, "FIN"), (BACK, "FIN")], BACK, "SYN-ACK"),
    ],
)
def test_what_a_phase_does_not_expect_does_not_fit(before: list[tuple[Direction, str]], direction: Direction, flags: str) -> None:
    state = State()
    state.open("gate", tcp("SYN"), tcp("SYN"), "in", "out", keeping=KEEPING)
    for way, shown in before:
        state.touch("gate", tcp(shown) if way is FORTH else turned(tcp(""), shown), way, KEEPING)
    packet = tcp(flags) if direction is FORTH else turned(tcp(""), flags)
    found = state.recall("gate", packet)
    assert found.session is not None
    assert not found.fits


def test_the_next_conversation_may_have_the_ends_of_one_that_is_over() -> None:
    state = State()
    state.open("gate", tcp("SYN"), tcp("SYN"), "in", "out", keeping=KEEPING)
    state.touch("gate", turned(tcp(""), "RST"), BACK, KEEPING)
    assert state.recall("gate", tcp("SYN")).relation is Relation.OPENING
    again = state.open("gate", tcp("SYN"), tcp("SYN"), "in", "out", keeping=KEEPING)
    assert (again.number, again.phase) == (2, Phase.OPENING)
    assert [(e.session.number, e.why) for e in state.ended("gate")] == [(1, "replaced")]
    assert [s.number for s in state.sessions("gate")] == [2]


def test_the_ways_to_end_have_words() -> None:
    assert set(ENDED) == set(WHY_ENDED)


# --- the clock ---------------------------------------------------------------------------------------------------


def after(packets: list[tuple[Direction, str]], keeping: Keeping = KEEPING) -> State:
    """A state where these packets of a TCP conversation passed, at its beginning."""
    state = State()
    state.open("gate", tcp("SYN"), tcp("SYN"), "in", "out", keeping=keeping)
    for direction, flags in packets:
        state.touch("gate", tcp(flags) if direction is FORTH else turned(tcp(""), flags), direction, keeping)
    return state


OPENED = [(BACK, "SYN-ACK"), (FORTH, "ACK")]


@pytest.mark.parametrize(
    ("packets", "lived"),
    [
        ([], 4 * MIN),  # RFC 5382 REQ-5
        ([(BACK, "SYN-ACK")], 4 * MIN),  # answered, and still short-lived
        (OPENED, 124 * MIN),
        ([*OPENED, (FORTH, "FIN")], 124 * MIN),  # half-closed keeps the time of an open one
        ([*OPENED, (FORTH, "FIN"), (BACK, "FIN")], 4 * MIN),
        ([*OPENED, (BACK, "RST")], 4 * MIN),  # RFC 7857 section 2.2
        ([*OPENED, (BACK, "RST"), (FORTH, "ACK")], 124 * MIN),  # revived
    ],
)
def test_a_session_lives_exactly_as_long_as_its_phase_says(packets: list[tuple[Direction, str]], lived: int) -> None:
    state = after(packets)
    assert state.advance(lived - 1) == []
    assert len(state.sessions("gate")) == 1
    (ended,) = state.advance(lived)
    assert (ended.at, ended.why) == (lived, "expired")
    assert state.sessions("gate") == []
    assert state.counts("gate") == (0, 0)


def test_what_would_have_belonged_to_it_is_told_so() -> None:
    state = after(OPENED)
    state.advance(200 * MIN)
    for packet in (tcp("ACK"), turned(tcp(""), "ACK")):
        found = state.recall("gate", packet)
        assert found.session is None
        assert found.gone is not None
        assert (found.gone.why, found.gone.at, state.now - found.gone.at) == ("expired", 124 * MIN, 76 * MIN)


def test_a_device_may_end_a_session_at_its_reset() -> None:
    keeping = KEEPING._replace(revives=False)
    state = after([*OPENED, (BACK, "RST")], keeping)
    assert state.sessions("gate") == []
    assert [e.why for e in state.ended("gate")] == ["reset"]


def test_history_has_its_length() -> None:
    keeping = KEEPING._replace(history=3)
    state = State()
    for port in range(10):
        state.open("gate", udp(port), udp(port), "in", "out", keeping=keeping)
    state.advance(5 * MIN)
    assert [e.session.inner.from_port for e in state.ended("gate")] == [7, 8, 9]


def test_what_ends_together_ends_in_the_order_of_devices_and_numbers() -> None:
    state = State()
    for device, port in (("b", 1), ("a", 1), ("a", 2)):
        state.open(device, udp(port), udp(port), "in", "out", keeping=KEEPING)
    assert [(e.session.device, e.session.number) for e in state.advance(5 * MIN)] == [("a", 1), ("a", 2), ("b", 1)]


def test_an_earlier_instant_changes_nothing() -> None:
    state = after(OPENED)
    state.advance(10)
    before = pickle.dumps(state.__getstate__())
    assert state.advance(5) == []
    assert pickle.dumps(state.__getstate__()) == before


def test_the_first_date_says_when_the_clock_began() -> None:
    state = State()
    state.open("gate", udp(), udp(), "in", "out", keeping=KEEPING)
    assert state.date(1_800_000_000_000) == []  # not thirty years later
    assert len(state.date(1_800_000_000_000 + 5 * MIN)) == 1


# --- mappings ----------------------------------------------------------------------------------------------------


def test_from_outside_nobody_holds_a_port_for_ever() -> None:
    """RFC 4787 REQ-6, RFC 7857 section 7: packets from outside lengthen neither mapping nor, beyond it, session."""
    state = State()
    left = hidden(state, udp())
    state.advance(4 * MIN)
    state.touch("gate", turned(left), BACK, KEEPING)
    (session,), (mapping,) = state.sessions("gate"), state.mappings("gate")
    assert (session.ends, mapping.ends) == (5 * MIN, 5 * MIN)
    state.touch("gate", udp(), FORTH, KEEPING)
    (session,), (mapping,) = state.sessions("gate"), state.mappings("gate")
    assert (session.ends, mapping.ends) == (9 * MIN, 9 * MIN)


def test_a_reset_lengthens_nothing() -> None:
    """RFC 7857 section 7."""
    state = after(OPENED)
    state.advance(123 * MIN)
    state.touch("gate", tcp("RST"), FORTH, KEEPING)
    assert [s.ends for s in state.sessions("gate")] == [124 * MIN]


def test_a_mapping_once_made_is_not_changed_by_later_flows() -> None:
    """RFC 4787 REQ-1 and REQ-11."""
    state = State()
    first = hidden(state, udp())
    hidden(state, udp(50001)._replace(source=mc.Address(4, IN.value + 1)))
    second = hidden(state, udp(far=OTHER))
    assert (first.source, first.from_port) == (second.source, second.from_port)
    (mapping, _) = state.mappings("gate")
    assert (mapping.sessions, mapping.outer_port) == (2, first.from_port)


@pytest.mark.parametrize(("kind", "same_port", "same_address"), [(0, True, True), (1, False, True), (2, False, False)])
def test_mappings_are_shared_as_far_as_the_setting_says(kind: int, same_port: bool, same_address: bool) -> None:
    """RFC 4787 section 4.1: for any far end, for one far address, for one far end."""
    keeping = KEEPING._replace(mapping=kind)
    state = State()
    first = hidden(state, udp(), keeping)
    elsewhere = hidden(state, udp(far=OTHER), keeping)
    other_port = hidden(state, udp()._replace(to_port=123), keeping)
    assert (elsewhere.from_port == first.from_port) is same_port
    assert (other_port.from_port == first.from_port) is same_address


def test_range_and_parity_are_kept_and_the_other_parity_comes_last() -> None:
    """RFC 4787 REQ-3a and REQ-4."""
    state = State()
    others = [mc.Address(4, IN.value + n) for n in range(1, 6)]
    given = [hidden(state, udp(600)._replace(source=a)).from_port for a in others]
    assert given == [600, 2, 4, 6, 8]
    given = [hidden(state, udp(50001)._replace(source=a)).from_port for a in others]
    assert given == [50001, 1025, 1027, 1029, 1031]
    ports = Ports()
    for port in range(1024, LAST_PORT + 1, 2):
        ports.take(port)
    assert ports.next_free(0, 1024, LAST_PORT) is None
    assert ports.next_free(1, 1024, LAST_PORT) == 1025


def test_reserved_ports_are_not_given() -> None:
    found = State().allocate("gate", udp(50000), OUT, KEEPING, reserved={50000, 1024})
    assert found is not None
    assert found.port == 1026


def test_a_full_pool_gives_nothing_and_gives_again_what_ended() -> None:
    state = State()
    for number, port in enumerate(range(1024, LAST_PORT + 1)):
        packet = Packet(17, mc.Address(4, IN.value + number), FAR, port, 53)
        state.open(
            "gate",
            packet,
            with_source(packet, OUT, port),
            "in",
            "out",
            keeping=KEEPING,
            allocated=state.allocate("gate", packet, OUT),
        )
    late = udp()._replace(source=mc.Address(4, IN.value - 1))
    assert state.allocate("gate", late, OUT, KEEPING) is None
    (one,) = [s for s in state.sessions("gate") if s.inner.from_port == 2000]
    state.close("gate", one, "cleared")
    found = state.allocate("gate", late, OUT, KEEPING)
    assert found is not None
    assert found.port == 2000


# --- a small independent model -----------------------------------------------------------------------------------


class Model(RuleBasedStateMachine):
    """Packets of either side in any order, and time: a state and a list of dictionaries agree on what lives, and until when."""

    def __init__(self) -> None:
        super().__init__()
        self.state = State()
        self.now = 0
        self.model: list[dict[str, object]] = []
        self.sent = 0

    @initialize()
    def begin(self) -> None:
        self.moment: tuple[int, bytes, int, list[dict[str, object]]] | None = None

    @rule(host=st.integers(0, 2), port=st.sampled_from([5000, 5001]), far=st.sampled_from([FAR, OTHER]))
    def sends(self, host: int, port: int, far: mc.Address) -> None:
        """A datagram from inside."""
        packet = Packet(17, mc.Address(4, IN.value + host), far, port, 53)
        found = self.state.recall("gate", packet)
        mine = next((m for m in self.model if m["inner"] == (host, port) and m["far"] == far), None)
        assert (found.session is not None) == (mine is not None)
        if mine is not None:
            self.state.touch("gate", packet, FORTH, KEEPING)
            mine["ends"] = self.now + 5 * MIN
        else:
            left = hidden(self.state, packet)
            same = {m["outer"] for m in self.model if m["inner"] == (host, port)}
            others = {m["outer"] for m in self.model if m["inner"] != (host, port)}
            assert left.from_port not in others
            assert not same or left.from_port in same
            mine = {"inner": (host, port), "far": far, "outer": left.from_port, "ends": self.now + 5 * MIN}
            self.model.append(mine)
        for other in self.model:  # the mapping lives as long as its latest refreshing packet says
            if other["inner"] == (host, port):
                other["mapping"] = mine["ends"]

    @rule(host=st.integers(0, 2), far=st.sampled_from([FAR, OTHER]), data=st.data())
    def answers(self, host: int, far: mc.Address, data: st.DataObject) -> None:
        """A datagram from outside, to an outer port that somebody has, or to another."""
        outer = data.draw(st.sampled_from(sorted({int(str(m["outer"])) for m in self.model} | {7000})))
        packet = Packet(17, far, OUT, 53, outer)
        mine = next((m for m in self.model if m["outer"] == outer and m["far"] == far), None)
        found = self.state.recall("gate", packet)
        assert (found.session is not None) == (mine is not None)
        if mine is None:
            known = any(m["outer"] == outer for m in self.model)
            assert (found.mapping is not None) == known
            return
        self.state.touch("gate", packet, BACK, KEEPING)
        mine["ends"] = min(self.now + 5 * MIN, int(str(mine["mapping"])))

    @rule(wait=st.sampled_from([1, MIN, 4 * MIN, 5 * MIN - 1, 5 * MIN]))
    def waits(self, wait: int) -> None:
        self.now += wait
        over = {(str(m["inner"]), m["far"]) for m in self.model if int(str(m["ends"])) <= self.now}
        ended = self.state.advance(self.now)
        assert len(ended) == len(over)
        self.model = [m for m in self.model if int(str(m["ends"])) > self.now]

    @rule()
    def clears(self) -> None:
        assert len(self.state.clear("gate")) == len(self.model)
        self.model = []

    @rule()
    def keeps(self) -> None:
        if self.moment is None:
            self.moment = (self.state.keep(), pickle.dumps(self.state.__getstate__()), self.now, [dict(m) for m in self.model])

    @rule()
    def goes_back(self) -> None:
        """Undo gives byte-equal state."""
        if self.moment is not None:
            kept, was, self.now, self.model = self.moment
            self.state.back_to(kept)
            self.state.let_go()
            self.moment = None
            assert pickle.dumps(self.state.__getstate__()) == was

    @invariant()
    def agree(self) -> None:
        seen = {
            (s.inner.source.value - IN.value, s.inner.from_port, s.inner.destination, s.outer.from_port, s.ends)
            for s in self.state.sessions("gate")
        }
        assert seen == {(*m["inner"], m["far"], m["outer"], m["ends"]) for m in self.model}  # type: ignore[misc]
        flows = self.state.flows("gate")
        assert len(flows) == len(set(flows)) == 2 * len(self.model)
        assert {m.outer_port for m in self.state.mappings("gate")} == {m["outer"] for m in self.model}


class TestModel(Model.TestCase):  # type: ignore[misc,valid-type]
    settings = settings(max_examples=12, stateful_step_count=50, deadline=None, suppress_health_check=list(HealthCheck))


@pytest.mark.slow
def test_twenty_thousand_steps_agree() -> None:
    from hypothesis.stateful import run_state_machine_as_test

    many = settings(max_examples=200, stateful_step_count=100, deadline=None, suppress_health_check=list(HealthCheck))
    run_state_machine_as_test(Model, settings=many)
