"""Sessions and translations as values, there and back; places, findings and hints."""

from __future__ import annotations

from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.marks import MOST_ALIKE, MOST_PROBLEMS, Mark, Problems, Severity, hint, nearest
from mossy_compass.packet.flow import FiveTuple, flow_of, is_answer
from mossy_compass.packet.packet import Packet, answer_to, echo_request, icmp_error, refusal_of
from mossy_compass.plan.facts import Direction, Relation, Session
from mossy_compass.plan.keeping import FIRST_FREE_PORT, Keeping
from mossy_compass.state.rewrite import rewrite, with_source
from mossy_compass.state.state import State

IN, OUT, FAR, INSIDE_FAR = (mc.parse_address(a) for a in ("10.40.1.10", "198.51.100.2", "203.0.113.80", "10.40.9.9"))
FORTH, BACK = Direction.FORTH, Direction.BACK


def syn(port: int = 50000, source: mc.Address = IN) -> Packet:
    return Packet(6, source, FAR, port, 443, -1, "SYN")


PACKETS = [syn(), Packet(17, IN, FAR, 50000, 53), echo_request(IN, FAR, 7)]
KINDS = ["tcp", "udp", "ping"]


def opened(state: State, packet: Packet, port: int, device: str = "gate") -> tuple[Session, Packet]:
    """A session whose opening packet was translated to OUT and a port, and that packet as it left."""
    sent = with_source(packet, OUT, port)
    key = state.allocate(device, packet, OUT)
    assert key is not None
    given = key._replace(port=port, known=key.known and key.port == port)
    return state.open(device, packet, sent, "inside", "fibre", allocated=given), sent


def port_for(state: State, packet: Packet, address: mc.Address, keep: bool, shared: bool, device: str = "gate") -> int | None:
    """The port that a source gets."""
    found = state.allocate(device, packet, address, Keeping(keeps_port=keep, mapping=0 if shared else 2))
    return None if found is None else found.port


def recalled(state: State, packet: Packet, device: str = "gate") -> tuple[Session | None, Relation, Direction]:
    """What a device's memory says of a packet, without the rest."""
    return state.recall(device, packet)[:3]


@pytest.mark.parametrize("packet", PACKETS, ids=KINDS)
@pytest.mark.parametrize("port", [50000, 1024])
def test_an_answer_comes_back_to_the_inside(packet: Packet, port: int) -> None:
    """RFC 3022 2.2, RFC 5508 3.1: what was rewritten on the way out is put back on the way in."""
    state = State()
    session, sent = opened(state, packet, port)
    answer = answer_to(sent)
    assert answer is not None
    assert recalled(state, answer) == (session, Relation.ANSWERING, BACK)
    assert rewrite(answer, session, BACK) == answer_to(packet)
    assert state.recall("elsewhere", answer)[0] is None
    assert recalled(state, packet) == (session, Relation.CONTINUING, FORTH)


@pytest.mark.parametrize("packet", PACKETS, ids=KINDS)
def test_an_error_belongs_to_the_session_of_the_packet_that_it_quotes(packet: Packet) -> None:
    """RFC 5508 4.2, RFC 6146 3.5.2: the quoted packet is put back too, so that the sender knows it."""
    state = State()
    session, sent = opened(state, packet, 1024)
    for source in (FAR, mc.parse_address("192.0.2.1")):
        error = icmp_error(sent, source, "time-exceeded")
        assert recalled(state, error) == (session, Relation.RELATED, BACK)
        home = rewrite(error, session, BACK)
        assert (home.source, home.destination, home.quoted) == (source, IN, packet)


@pytest.mark.parametrize("packet", PACKETS, ids=KINDS)
def test_an_error_from_inside_tells_strangers_nothing_of_the_inside(packet: Packet) -> None:
    """RFC 5508 4.2.2: an error about an answer, from any inside device, goes out in the translated name, quoted packet too."""
    state = State()
    session, sent = opened(state, packet, 1024)
    answer = answer_to(packet)
    outside = answer_to(sent)
    assert answer is not None
    for source in (IN, mc.parse_address("10.40.1.1")):
        error = icmp_error(answer, source, "host-unreachable")
        assert recalled(state, error) == (session, Relation.RELATED, FORTH)
        gone = rewrite(error, session, FORTH)
        assert (gone.source, gone.destination, gone.quoted) == (OUT, FAR, outside)


def test_a_refusal_is_an_answer_of_its_session() -> None:
    state = State()
    session, sent = opened(state, syn(), 1024)
    reset = refusal_of(sent)
    assert reset is not None
    assert (reset.flags, state.recall("gate", reset)[0]) == ("RST", session)
    assert not is_answer(reset, sent)


@pytest.mark.parametrize(
    "packet, what",
    [
        (Packet(17, IN, FAR, 1, 2), "icmp/port-unreachable"),
        (Packet(132, IN, FAR, 1, 2), "icmp/port-unreachable"),
        (Packet(47, IN, FAR), "icmp/protocol-unreachable"),
        (Packet(47, mc.Address(6, 1 << 100), mc.Address(6, 2 << 100)), "icmp6/protocol-unreachable"),
        (echo_request(IN, FAR), None),
        (syn()._replace(flags="RST"), None),
    ],
)
def test_what_is_refused_is_refused_in_its_own_terms(packet: Packet, what: str | None) -> None:
    """RFC 1122 3.2.2.1: port unreachable is about ports; without them it is the protocol; nothing about resets and ICMP."""
    refused = refusal_of(packet)
    assert (refused.what() if refused else None) == what


def test_a_port_in_use_is_not_given_again() -> None:
    """RFC 4787 4.2.1, REQ-4: kept while free; the lowest free one of its parity else. Another address, protocol or device is another pool."""
    state = State()
    for number in range(3):
        packet = syn(50000, mc.Address(4, IN.value + number))
        port = port_for(state, packet, OUT, keep=True, shared=False)
        assert port == (50000 if number == 0 else FIRST_FREE_PORT + 2 * (number - 1))
        opened(state, packet, port)
    another = mc.parse_address("198.51.100.3")
    other = syn(50000, mc.Address(4, IN.value + 9))
    assert port_for(state, other, another, keep=True, shared=False) == 50000
    assert port_for(state, other._replace(protocol=17, flags=""), OUT, keep=True, shared=False) == 50000
    assert port_for(state, other, OUT, keep=True, shared=False, device="other") == 50000
    assert [s.number for s in state.sessions("gate")] == [1, 2, 3]


def test_one_port_for_all_destinations_where_the_mapping_says_so() -> None:
    """RFC 4787 4.1, REQ-1: an inner end keeps its outer port for other destinations; per flow, it gets another."""
    state = State()
    opened(state, syn(), 4444)
    elsewhere = syn()._replace(destination=mc.parse_address("203.0.113.81"))
    assert port_for(state, elsewhere, OUT, keep=True, shared=True) == 4444
    assert port_for(state, elsewhere, OUT, keep=False, shared=False) == FIRST_FREE_PORT


@pytest.mark.parametrize("shared", [True, False])
def test_two_inner_ends_never_have_one_outer_port(shared: bool) -> None:
    """RFC 4787 4.2.1: not for different destinations either, or the outer port would not say which of them is meant."""
    state = State()
    opened(state, syn(50000), 50000)
    other = syn(50000, mc.Address(4, IN.value + 1))._replace(destination=mc.parse_address("203.0.113.81"))
    assert port_for(state, other, OUT, keep=True, shared=shared) == FIRST_FREE_PORT


def test_all_ports_taken_is_none() -> None:
    state = State()
    for port in range(FIRST_FREE_PORT, 65536):
        opened(state, Packet(17, mc.Address(4, IN.value + port), FAR, port, 53), port)
    assert port_for(state, Packet(17, IN, FAR, 50000, 53), OUT, keep=True, shared=True) is None


def test_two_flows_of_a_protocol_without_ports_do_not_share_their_state() -> None:
    state = State()
    one, other = (Packet(47, mc.Address(4, IN.value + n), FAR) for n in (0, 1))
    opened(state, one, 0)
    assert state.taken("gate", flow_of(with_source(other, OUT, 0)))
    assert not state.taken("gate", flow_of(with_source(other._replace(destination=OUT), OUT, 0)))


@given(st.lists(st.tuples(st.integers(0, 5), st.integers(0, 3), st.sampled_from([6, 17, 1])), max_size=30))
def test_no_two_sessions_leave_alike_and_what_is_kept_comes_back(flows: list[tuple[int, int, int]]) -> None:
    """Whatever opens: outer flows differ, numbers count upwards, and going back gives what there was."""
    state = State()
    moments = []
    for host, port, protocol in flows:
        packet = Packet(
            protocol, mc.Address(4, IN.value + host), FAR, port, 80, 2048 if protocol == 1 else -1, "SYN" if protocol == 6 else ""
        )
        if state.recall("gate", packet)[0] is not None:
            continue
        moments.append((state.keep(), state.sessions("gate")))
        given_port = port_for(state, packet, OUT, keep=True, shared=True)
        assert given_port is not None
        opened(state, packet, given_port)
    sessions = state.sessions("gate")
    assert [s.number for s in sessions] == list(range(1, len(sessions) + 1))
    assert len({s.outer for s in sessions}) == len(sessions)
    for moment, before in reversed(moments):
        state.back_to(moment)
        assert state.sessions("gate") == before


@given(st.sampled_from(PACKETS), st.integers(0, 65535), st.sampled_from([FAR, INSIDE_FAR]), st.sampled_from([443, 53, 8443]))
def test_there_and_back_is_the_identity(packet: Packet, port: int, goal: mc.Address, goal_port: int) -> None:
    """Both halves at once: what was rewritten forth is put back, in the packet and in what an error quotes."""
    state = State()
    left = with_source(packet, OUT, port)._replace(destination=goal)
    if packet.icmp < 0:
        left = left._replace(to_port=goal_port)
    session = state.open("gate", packet, left, "inside", "fibre")
    assert rewrite(packet, session, FORTH) == left
    answer = answer_to(left)
    assert answer is not None
    assert rewrite(answer, session, BACK) == answer_to(packet)
    assert rewrite(icmp_error(left, goal, "host-unreachable"), session, BACK).quoted == packet
    inner_answer = answer_to(packet)
    assert inner_answer is not None
    assert rewrite(icmp_error(inner_answer, IN, "host-unreachable"), session, FORTH).quoted == answer


@pytest.mark.parametrize("question, kind", [(echo_request(IN, FAR, 7), 0), (Packet(1, IN, FAR, 7, 0, 13 << 8), 14)])
def test_replies_answer_their_own_kind_of_request(question: Packet, kind: int) -> None:
    """RFC 792: an echo reply answers an echo request, a timestamp reply a timestamp request."""
    answer = answer_to(question)
    assert answer is not None
    assert answer.icmp >> 8 == kind
    assert is_answer(answer, question)
    assert not is_answer(answer._replace(icmp=(14 - kind) << 8), question)
    assert not is_answer(answer._replace(source=OUT), question)


def test_a_request_is_no_answer_though_its_ends_are_those_of_one() -> None:
    state = State()
    session, sent = opened(state, echo_request(IN, FAR, 7), 7)
    asked_back = echo_request(FAR, OUT, 7)
    assert recalled(state, asked_back) == (None, Relation.OPENING, FORTH)
    assert recalled(state, syn()._replace(flags="ACK")) == (None, Relation.NONE, FORTH)
    assert session.translated
    assert sent.source == OUT


def test_type_128_asks_in_icmp6_alone() -> None:
    assert Packet(58, IN, FAR, icmp=128 << 8).opening
    assert not Packet(1, IN, FAR, icmp=128 << 8).opening


@given(st.integers(0, 65535), st.integers(0, 65535))
def test_a_flow_reversed_twice_is_itself(a: int, b: int) -> None:
    flow = FiveTuple(6, IN, a, FAR, b)
    assert flow.reverse().reverse() == flow
    answer = answer_to(Packet(6, IN, FAR, a, b))
    assert answer is not None
    assert flow_of(answer) == flow_of(Packet(6, IN, FAR, a, b)).reverse()


# --- places, findings, hints -------------------------------------------------------------------------------


def test_marks_show_what_they_know() -> None:
    assert (str(Mark("a.yaml", 3, 7)), Mark("a.yaml", 3, 7).full()) == ("a.yaml:3", "a.yaml:3:7")
    assert (str(Mark("a.yaml", 0)), Mark("a.yaml", 0).full()) == ("a.yaml", "a.yaml")


def test_findings_are_kept_once_in_the_order_of_their_places_and_in_bounds() -> None:
    problems = Problems({"a": ["one", "two"]})
    for line in (2, 1, 2):
        problems.add("x.y", Mark("a", line), "wrong", "Mend it.")
    assert [(p.mark.line, p.source) for p in problems] == [(1, "one"), (2, "two")]
    assert problems.in_order()[0].line() == "a:1:1: error: wrong Mend it. [x.y]"
    for line in range(MOST_PROBLEMS + 50):
        problems.add("x.z", Mark("a", line), "wrong")
    assert problems.full
    assert len(problems.found) == MOST_PROBLEMS + 1
    assert [p.code for p in problems.found].count("file.too-faulty") == 1


def test_no_crowd_of_findings_hides_one_that_weighs_more() -> None:
    problems = Problems()
    for line in range(MOST_PROBLEMS * 2):
        problems.add("x.note", Mark("a", line), "a note", severity=Severity.NOTE)
        problems.add("x.warning", Mark("a", line), "a warning", severity=Severity.WARNING)
    problems.add("y.warning", Mark("a", 9999), "another warning", severity=Severity.WARNING)
    problems.add("y.error", Mark("a", 9999), "an error")
    assert not problems.full
    assert [p.code for p in problems.errors] == ["y.error"]
    counts = Counter(p.code for p in problems)
    assert counts == {"x.note": MOST_ALIKE, "x.warning": MOST_ALIKE, "y.warning": 1, "y.error": 1, "file.too-faulty": 2}


def test_a_file_of_many_warnings_is_still_refused_for_its_one_error() -> None:
    """The error comes after more warnings than are ever told."""
    rules = "".join(f"    - {{id: {2000 - n}, permit: tcp, from: 10.40.{n >> 8}.{n & 255}}}\n" for n in range(1500))
    last = "devices:\n  r: {kind: router, interfaces: {a: {address: 10.40.0.1/24, filter: {arriving: nolist}}}}\n"
    reading = mc.read_bytes(f"mossy-network: 1\nlists:\n  l:\n{rules}{last}".encode(), "n.yaml")
    assert reading.network is None
    assert [p.code for p in reading.problems if p.severity is Severity.ERROR] == ["list.unknown"]


@pytest.mark.parametrize(
    "word, known, says",
    [
        ("kisok", ["kiosk", "ledger"], "Did you mean kiosk?"),
        ("kiosk-1", ["kiosk-2", "kiosk-3", "zzz"], "Did you mean kiosk-3 or kiosk-2?"),
        ("zebra", ["kiosk", "ledger"], "Known devices: kiosk, ledger."),
        ("zebra", [], "There are no devices yet."),
        ("zebra", [f"n{n}" for n in range(20)], "... (20 in all)."),
    ],
)
def test_hints_offer_the_nearest_names(word: str, known: list[str], says: str) -> None:
    assert says in str(hint(word, known, "devices"))
    assert str(hint(word, lambda: known, "devices")) == str(hint(word, known, "devices"))


def test_a_key_is_one_of_those_that_there_are() -> None:
    """Names may be hundreds; of keys all are told, as it is one of them that was meant."""
    keys = [f"n{n}" for n in range(37)]
    assert str(hint("zebra", keys, "keys")) == f"Known keys: {', '.join(sorted(keys))}."


def test_a_hint_is_made_when_it_is_read() -> None:
    asked = []
    made = hint("a", lambda: asked.append(1) or ["a"])  # type: ignore[func-returns-value]
    assert asked == []
    assert str(made)
    assert asked == [1]


def test_nearest_names_are_the_same_in_any_order() -> None:
    assert nearest("gaet", ["gate", "tablet"]) == nearest("gaet", ["tablet", "gate"])


def test_errors_say_what_they_suggest() -> None:
    fault = mc.QuestionError("there is no device 'gaet'.", ["gate"])
    assert str(fault) == "there is no device 'gaet'. Did you mean gate?"
    assert fault.suggestions == ("gate",)
    circle = mc.NotConverged("routing does not settle.", ["a speaks", "b speaks"])
    assert str(circle).splitlines() == ["routing does not settle.", "  a speaks", "  b speaks"]
