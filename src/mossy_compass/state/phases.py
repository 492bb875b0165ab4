"""How far a session is, and what each packet makes of it: one table, of which every combination has a row.

TCP is watched from the middle (RFC 6146 section 3.5.2.2, RFC 5382, RFC 7857): without sequence numbers, by flags alone. A session that
was answered and not acknowledged is still short-lived, or a flood of opening packets would hold a table for hours.
"""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple

from mossy_compass.packet.packet import Packet
from mossy_compass.packet.service import ICMP, ICMP6, TCP
from mossy_compass.plan.facts import Direction, Phase

P, FORTH, BACK = Phase, Direction.FORTH, Direction.BACK


class Shows(StrEnum):
    """What a packet of TCP shows."""

    SYN = "SYN"
    SYN_ACK = "SYN-ACK"
    DATA = "ACK"
    FIN = "FIN"
    RESET = "RST"


class PhaseStep(NamedTuple):
    """What a packet makes of a session.

    Attributes:
        phase: the one that follows.
        fits: a packet like this is expected in the phase that it meets; where it does not, a strict device drops it.
        anew: it opens another conversation with the ends of one that is over, which it replaces.

    """

    phase: Phase
    fits: bool = True
    anew: bool = False


_BOTH = (FORTH, BACK)
_ANY = tuple(Shows)
_ROWS: tuple[tuple[tuple[Phase, ...], tuple[Direction, ...], tuple[Shows, ...], PhaseStep], ...] = (
    # The first row that fits decides. A reset is believed wherever it comes (RFC 7857 section 2.2).
    (tuple(P), _BOTH, (Shows.RESET,), PhaseStep(P.RESET)),
    # After both ends have closed, or one has reset, a bare SYN begins anew (RFC 6146 section 3.5.2.2).
    ((P.CLOSING, P.RESET), _BOTH, (Shows.SYN,), PhaseStep(P.OPENING, anew=True)),
    # opening: the asker's SYN was seen.
    ((P.OPENING,), (FORTH,), (Shows.SYN,), PhaseStep(P.OPENING)),
    ((P.OPENING,), (BACK,), (Shows.SYN_ACK,), PhaseStep(P.ANSWERED)),
    ((P.OPENING,), (BACK,), (Shows.SYN,), PhaseStep(P.CROSSED)),  # both ends ask at once (RFC 5382 REQ-2)
    ((P.OPENING,), _BOTH, _ANY, PhaseStep(P.OPEN, fits=False)),  # the answer went another way, if there was one
    # answered: the SYN-ACK was seen, and nobody has acknowledged it yet.
    ((P.ANSWERED,), (FORTH,), (Shows.SYN,), PhaseStep(P.ANSWERED)),
    ((P.ANSWERED,), (BACK,), (Shows.SYN_ACK,), PhaseStep(P.ANSWERED)),
    ((P.ANSWERED,), (FORTH,), (Shows.DATA,), PhaseStep(P.OPEN)),
    ((P.ANSWERED,), (FORTH,), (Shows.FIN,), PhaseStep(P.HALF_FORTH)),
    ((P.ANSWERED,), (BACK,), (Shows.FIN,), PhaseStep(P.HALF_BACK, fits=False)),
    ((P.ANSWERED,), _BOTH, _ANY, PhaseStep(P.OPEN, fits=False)),
    # crossed: a SYN from each end; each is acknowledged by the other.
    ((P.CROSSED,), _BOTH, (Shows.SYN,), PhaseStep(P.CROSSED)),
    ((P.CROSSED,), _BOTH, (Shows.SYN_ACK, Shows.DATA), PhaseStep(P.OPEN)),
    ((P.CROSSED,), (FORTH,), (Shows.FIN,), PhaseStep(P.HALF_FORTH)),
    ((P.CROSSED,), (BACK,), (Shows.FIN,), PhaseStep(P.HALF_BACK)),
    # open: repeated openings change nothing (RFC 9293 section 3.10.7.4 has them acknowledged).
    ((P.OPEN,), (FORTH,), (Shows.FIN,), PhaseStep(P.HALF_FORTH)),
    ((P.OPEN,), (BACK,), (Shows.FIN,), PhaseStep(P.HALF_BACK)),
    ((P.OPEN,), (FORTH,), (Shows.SYN_ACK,), PhaseStep(P.OPEN, fits=False)),
    ((P.OPEN,), (BACK,), (Shows.SYN,), PhaseStep(P.OPEN, fits=False)),
    ((P.OPEN,), _BOTH, _ANY, PhaseStep(P.OPEN)),
    # half-closed: one end has said that it sends no more; the other may, for as long as it likes.
    ((P.HALF_FORTH,), (BACK,), (Shows.FIN,), PhaseStep(P.CLOSING)),
    ((P.HALF_BACK,), (FORTH,), (Shows.FIN,), PhaseStep(P.CLOSING)),
    ((P.HALF_FORTH,), _BOTH, (Shows.SYN, Shows.SYN_ACK), PhaseStep(P.HALF_FORTH, fits=False)),
    ((P.HALF_BACK,), _BOTH, (Shows.SYN, Shows.SYN_ACK), PhaseStep(P.HALF_BACK, fits=False)),
    ((P.HALF_FORTH,), _BOTH, _ANY, PhaseStep(P.HALF_FORTH)),
    ((P.HALF_BACK,), _BOTH, _ANY, PhaseStep(P.HALF_BACK)),
    # closing: what was under way still passes.
    ((P.CLOSING,), _BOTH, (Shows.SYN_ACK,), PhaseStep(P.CLOSING, fits=False)),
    ((P.CLOSING,), _BOTH, _ANY, PhaseStep(P.CLOSING)),
    # reset: whoever goes on did not believe it (RFC 7857 section 2.2).
    ((P.RESET,), _BOTH, (Shows.SYN_ACK,), PhaseStep(P.RESET, fits=False)),
    ((P.RESET,), _BOTH, _ANY, PhaseStep(P.OPEN)),
)

OF_TCP = (P.OPENING, P.ANSWERED, P.CROSSED, P.OPEN, P.HALF_FORTH, P.HALF_BACK, P.CLOSING, P.RESET)
"""The phases of TCP; the others are of datagrams, and of ICMP, which has none."""
TABLE: dict[tuple[Phase, Direction, str], PhaseStep] = {
    (phase, direction, shows): next(
        s for phases, ways, kinds, s in _ROWS if phase in phases and direction in ways and shows in kinds
    )
    for phase in OF_TCP
    for direction in _BOTH
    for shows in Shows
}
"""What each packet makes of each phase."""

_DATAGRAMS = {
    (phase, way): PhaseStep(P.REPLIED if way is BACK and phase is not P.NONE else phase)
    for phase in (P.ASKED, P.REPLIED, P.NONE)
    for way in _BOTH
}
"""The same of what has no phases of its own: whether anything came back."""


def first_phase(packet: Packet) -> Phase:
    """The phase of a session that a packet opens."""
    if packet.protocol == TCP:
        return P.OPENING
    return P.NONE if packet.protocol in (ICMP, ICMP6) else P.ASKED


def next_step(phase: Phase, direction: Direction, packet: Packet) -> PhaseStep:
    """What a packet makes of a session, by what it shows.

    Args:
        phase: of the session.
        direction: of the packet.
        packet: no error; those change nothing.

    """
    if packet.protocol == TCP:
        return TABLE[phase, direction, packet.flags or Shows.DATA]  # a member of Shows is its own word
    return _DATAGRAMS[phase, direction]
