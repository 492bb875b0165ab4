"""Sessions and translations as values; places, findings and hints."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.marks import MOST_PROBLEMS, Mark, Problems, hint, nearest
from mossy_compass.packet.packet import Packet, answer_to, echo_request, icmp_error, refusal_of
from mossy_compass.state.sessions import FIRST_FREE_PORT, Flow, Session, SessionTable, flow_of, rewrite_source, undo

IN, OUT, FAR = (mc.parse_address(a) for a in ("10.40.1.10", "198.51.100.2", "203.0.113.80"))


def opened(packet: Packet, port: int, number: int = 1, device: str = "gate", tracked: bool = True) -> tuple[Session, Packet]:
    """A session whose opening packet was translated to OUT and a port, and that packet as it left."""
    sent = rewrite_source(packet, OUT, port)
    return Session(number, device, flow_of(packet), flow_of(sent), "inside", "fibre", tracked, "a test"), sent


def syn(port: int = 50000) -> Packet:
    return Packet(6, IN, FAR, port, 443, -1, "SYN")


PACKETS = [syn(), Packet(17, IN, FAR, 50000, 53), echo_request(IN, FAR, 7)]


@pytest.mark.parametrize("packet", PACKETS, ids=["tcp", "udp", "ping"])
@pytest.mark.parametrize("port", [50000, 1024])
def test_an_answer_comes_back_to_the_inside(packet: Packet, port: int) -> None:
    """RFC 3022 2.2, RFC 5508 3.1: what was rewritten on the way out is put back on the way in."""
    session, sent = opened(packet, port)
    table = SessionTable().having(session)
    answer = answer_to(sent)
    found = table.answering("gate", flow_of(answer))
    assert found is session
    home = undo(answer, found)
    assert home == answer_to(packet)
    assert table.answering("elsewhere", flow_of(answer)) is None
    assert table.continuing("gate", flow_of(packet)) is session


@pytest.mark.parametrize("packet", PACKETS, ids=["tcp", "udp", "ping"])
def test_an_error_belongs_to_the_session_of_the_packet_that_it_quotes(packet: Packet) -> None:
    """RFC 5508 4.2, RFC 6146 3.5.2: the quoted packet is put back too, so that the sender knows it."""
    session, sent = opened(packet, 1024)
    table = SessionTable().having(session)
    for source in (FAR, mc.parse_address("192.0.2.1")):
        error = icmp_error(sent, source, "time-exceeded")
        found = table.answering("gate", flow_of(error))
        assert found is session
        home = undo(error, found)
        assert (home.source, home.destination, home.quoted) == (source, IN, packet)


def test_a_refusal_is_an_answer_of_its_session() -> None:
    session, sent = opened(syn(), 1024)
    table = SessionTable().having(session)
    reset = refusal_of(sent)
    assert (reset.flags, table.answering("gate", flow_of(reset))) == ("RST", session)
    unreachable = refusal_of(opened(PACKETS[1], 1024)[1])
    assert unreachable.what() == "icmp/port-unreachable"


def test_a_port_in_use_is_not_given_again() -> None:
    """RFC 4787 4.2.1: kept while free; the lowest free one else. Another address, protocol or device is another pool."""
    table = SessionTable()
    for number in range(3):
        flow = Flow(6, mc.Address(4, IN.value + number), 50000, FAR, 443)
        port = table.free_port("gate", flow, OUT, keep=True)
        assert port == (50000 if number == 0 else FIRST_FREE_PORT + number - 1)
        packet = Packet(6, flow.source, FAR, 50000, 443, -1, "SYN")
        table = table.having(opened(packet, port or 0, number + 1)[0])
    flow = flow_of(syn())
    assert table.free_port("gate", flow, mc.parse_address("198.51.100.3"), keep=True) == 50000
    assert table.free_port("gate", flow._replace(protocol=17), OUT, keep=True) == 50000
    assert table.free_port("other", flow, OUT, keep=True) == 50000
    assert [s.number for s in table.of("gate")] == [1, 2, 3]
    assert table.next_number("gate") == 4


def test_all_ports_taken_is_none() -> None:
    answers = {
        ("gate", Flow(17, FAR, 53, OUT, port)): opened(Packet(17, IN, FAR, port, 53), port, port)[0] for port in range(1024, 65536)
    }
    table = SessionTable(answers, {})
    assert table.free_port("gate", flow_of(PACKETS[1]), OUT, keep=True) is None


@given(st.integers(0, 65535), st.integers(0, 65535))
def test_a_flow_reversed_twice_is_itself(a: int, b: int) -> None:
    flow = Flow(6, IN, a, FAR, b)
    assert flow.reverse().reverse() == flow
    assert flow_of(answer_to(Packet(6, IN, FAR, a, b))) == flow_of(Packet(6, IN, FAR, a, b)).reverse()


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
