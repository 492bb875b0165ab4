"""Every cause of a fate: one stable code, a sentence, and the usual remedies. Code, docs and tests read this table.

A cause says why in a word that stays the same, whatever the sentence around it becomes.
Remedies are what people in the trade usually do then, in the order in which they would try
it; those that fit only one direction of the loss say so.
"""

from __future__ import annotations

from typing import NamedTuple


class Cause(NamedTuple):
    """A cause.

    Attributes:
        code: stable dotted name.
        sentence: what it means.
        remedies: what people do about it, most usual first.
        back: the same where it was the answer that was lost; empty where that makes no difference.

    """

    code: str
    sentence: str
    remedies: tuple[str, ...] = ()
    back: tuple[str, ...] = ()

    def remedies_for(self, answer: bool) -> tuple[str, ...]:
        """The remedies for a packet that was lost on its way there, or for an answer that was lost on its way back."""
        return self.back if answer and self.back else self.remedies


CAUSES: dict[str, Cause] = {
    c.code: c
    for c in (
        Cause("service.open", "The destination listens for the service and takes the packet."),
        Cause(
            "service.closed",
            "The packet arrived, and the destination does not listen on that port.",
            ("start the service, or name it under 'serves'", "check the port that was asked for"),
        ),
        Cause(
            "service.silent",
            "The packet arrived, and the destination ignores what it does not listen for.",
            ("start the service, or name it under 'serves'", "the setting closed-port: refuse makes it say so"),
        ),
        Cause("echo.answered", "The destination answers echo requests."),
        Cause(
            "echo.ignored", "The packet arrived, and the destination does not answer echo requests.", ("setting answers-ping: yes",)
        ),
        Cause("session.part", "The packet is part of a conversation that the destination took before."),
        Cause(
            "answer.unasked",
            "The packet answers something that this device did not ask, so nobody there waits for it.",
            ("let there and back pass the same translating device", "look for an address that was given twice"),
        ),
        Cause(
            "answer.elsewhere",
            "The answer ended at another device than the one that asked.",
            ("give one of the two another address", "compare who answers for the address on each segment"),
        ),
        Cause(
            "answer.other",
            "The answer got to the sender, and is not the reverse of what it sent: it comes from another address or port.",
            ("let the answer pass the device that translated the question", "look for a translation that catches answers too"),
        ),
        Cause(
            "nat.clash",
            "Another session's packets already leave with the same ends, so the answers could not be told apart.",
            ("wait for that session to end, or clear it", "give one of the two a translated address of its own"),
        ),
        Cause(
            "source.martian",
            "The packet's source is no address that a single host can have (RFC 1812 section 5.3.7).",
            ("look for what forges it", "give the sender an address"),
        ),
        Cause("answer.arrived", "The answer is back at the sender."),
        Cause(
            "filter.rule",
            "A rule of an access list forbids it.",
            ("put a narrower permit above that rule", "check that the rule is meant for this traffic"),
            ("permit the answers by a rule of their own, above that one", "or keep sessions there: stateful"),
        ),
        Cause(
            "filter.end",
            "No rule of an attached list matched, and the list's end denies.",
            ("add a permit for it", "see the nearest rule: often one condition is too narrow"),
            ("permit the answers by a rule of their own", "or keep sessions there: stateful"),
        ),
        Cause(
            "filter.empty",
            "An attached list has no rule, and the setting empty-list denies.",
            ("write its rules", "setting empty-list: permit"),
        ),
        Cause(
            "filter.none",
            "No list is attached there, and the setting no-list denies.",
            ("attach a list that permits it", "setting no-list: permit"),
        ),
        Cause(
            "filter.inbound",
            "It comes from outside, neither a session nor a rule let it in, and the setting inbound denies.",
            ("permit it by a rule of a list at the outside interface, or of a crossing", "setting inbound: permit"),
            ("keep sessions of its protocol there: stateful", "or permit the answers by a rule of their own"),
        ),
        Cause(
            "filter.outbound",
            "It goes outside, no rule let it, and the setting outbound denies.",
            ("permit it by a rule", "setting outbound: permit"),
        ),
        Cause(
            "filter.through",
            "It passes from one zone into another, no rule let it, and the setting through denies.",
            ("write a crossing for this pair of zones", "setting through: permit"),
            ("keep sessions of its protocol there: stateful", "or write a crossing for the way back"),
        ),
        Cause(
            "name.unlearned",
            "A rule by name would permit it, and the device knows no address of that name yet.",
            ("let the sender ask a resolver whose answers pass that device", "setting name-rules: resolved"),
        ),
        Cause(
            "session.recalled",
            "The session was judged again, by its application or after a change, and what is so now forbids it.",
            ("permit it above the rule that is named", "expect a start that works and then stops: the first packets had to pass"),
        ),
        Cause(
            "self.not-offered",
            "The device does not offer this service on that interface, or not to this source.",
            ("name it under offers", "ask from an address that may"),
        ),
        Cause(
            "fragment.part",
            "A later fragment arrived; nothing is answered before the first one is there.",
            ("send the whole packet",),
        ),
        Cause(
            "session.none",
            "It answers a packet of which this device keeps no session, so it is judged like a stranger's.",
            (
                "name the protocol under 'stateful'",
                "permit the answers by a rule of their own",
                "let there and back pass the same device",
            ),
        ),
        Cause(
            "route.none",
            "The device has no route to the destination.",
            ("add a route, or a default route",),
            ("add a route back to the sender's subnet", "or translate the sender's address before it gets there"),
        ),
        Cause(
            "route.discard",
            "The best route says discard, or the policy route that the packet met.",
            ("remove that route, or add a longer prefix", "for a policy route, see why the candidates before it were passed over"),
        ),
        Cause(
            "route.unavailable",
            "A policy route says to drop what none of its candidates can take, and none is to be had.",
            ("see why each candidate was passed over", "or none-available: table there, so that the route table decides"),
        ),
        Cause("route.unreachable", "The best route says unreachable.", ("remove that route, or add a longer prefix",)),
        Cause(
            "forwarding.off",
            "The packet is for somebody else, and the device does not forward.",
            ("setting forwarding: yes", "send it to a router instead: check the sender's gateway"),
        ),
        Cause(
            "address.link-local",
            "An end of the packet is a link-local address, which no router passes on (RFC 3927 2.7, RFC 4291 2.5.6).",
            ("use an address that is valid beyond the segment",),
        ),
        Cause(
            "neighbour.silent",
            "Nobody on the segment answers for the next hop.",
            ("check the next hop's address and its cable", "for a translated address: somebody must answer for it"),
        ),
        Cause(
            "mtu.exceeded",
            "The packet is larger than the way out takes, and may not be divided.",
            ("send smaller packets", "raise the MTU of that interface or cable"),
        ),
        Cause("interface.down", "The interface that the packet needs is down.", ("bring the interface up",)),
        Cause(
            "source.none",
            "The sender has no address of the packet's family on the way out.",
            ("give the interface an address", "ask for the other family"),
        ),
        Cause(
            "target.none",
            "The target has no address, so nothing can be sent to it.",
            ("see why it has no lease: mossy tables FILE DEVICE interfaces", "give the interface an address"),
        ),
        Cause(
            "source.check",
            "The source has no plausible route back, and the device checks that.",
            ("setting source-check: loose or off", "add the route back"),
        ),
        Cause(
            "source.own",
            "The packet arrived with an address of this very device as its source.",
            ("compare the routes of the devices on the way: one of them sends it back", "setting own-source: accept"),
        ),
        Cause("self.closed", "The device takes no packets for itself.", ("setting to-self: permit",)),
        Cause("self.mute", "The device may not send packets of its own.", ("setting from-self: permit",)),
        Cause("ttl.expired", "The time to live ran out on the way.", ("send with a larger TTL",)),
        Cause(
            "loop",
            "The packet came to the same place twice: the devices route it in a circle.",
            ("compare the routes of the devices named for this destination",),
        ),
        Cause(
            "walk.limit",
            "What came of the packet had no end within the bounds of the walk, so it was broken off; its fate is not known.",
            ("trace one packet of it alone, and look who answers whom", "report it: no network should come to this"),
        ),
        Cause(
            "session.expired",
            "The packet belonged to a session that nothing refreshed for as long as it lives, so it belongs to nothing now.",
            ("let the application send something more often", "raise the time-out that is named there", "let it open anew"),
        ),
        Cause(
            "session.ended",
            "The packet belonged to a session that is over: closed, reset, cleared or replaced.",
            ("let it open anew", "see who ended it: mossy tables FILE DEVICE sessions"),
        ),
        Cause(
            "session.phase",
            "The packet belongs to a session, and its flags are not what that expects by now, as where answers take another way.",
            ("let there and back pass the same device", "setting session-phase: loose"),
        ),
        Cause(
            "session.uplink",
            "A translated session would leave by another uplink than before, and the device ends it then.",
            ("let the application open a new conversation", "or setting flows-of-a-lost-uplink: keep"),
        ),
        Cause("tunnel.end", "The outer packet of a tunnel came to the tunnel's end, and what it carried goes on from there."),
        Cause(
            "tunnel.mismatch",
            "An outer packet came to a device none of whose tunnels is of that kind between those two ends; or, where keys are exchanged, the two ends do not agree.",
            (
                "let both ends name each other's address, and say the same of kind, proposals and selectors",
                "look whether the outer source was translated on the way",
            ),
        ),
        Cause(
            "tunnel.recursion",
            "The outer packets of a tunnel would be led into the same tunnel again.",
            ("give the other end's address a route that does not lead into the tunnel",),
        ),
        Cause(
            "tunnel.selector",
            "What comes through a tunnel, or is led into one, is not between the ends that its selectors protect (RFC 4301 section 5.2).",
            ("let the selectors of both ends mirror each other",),
        ),
        Cause(
            "tunnel.clear",
            "What a selector protects came in the clear, past its tunnel (RFC 4301 section 5.2).",
            ("let the sender's side protect it too", "look whether the sender's side translated the source first"),
        ),
        Cause("exchange.taken", "A tunnel's end took what asked it to exchange keys, and answers."),
        Cause(
            "tunnel.first-packet",
            "The packet came while the keys of its tunnel were exchanged, and tunnel-first-packet says lose: the next one goes in.",
            ("send it again", "setting tunnel-first-packet: wait"),
        ),
        Cause(
            "tunnel.unknown",
            "What came out of a tunnel belongs to no association of the device there: it was cleared at that end, or its keys are others.",
            ("clear it at the other end too", "let both ends have keys: exchanged, or by-hand"),
        ),
        Cause("tunnel.discard", "A selector of a tunnel says discard.", ("change the selector, or put another one before it",)),
        Cause(
            "session.interface",
            "The packet belongs to a session, and comes by another interface than that.",
            ("lead both directions over the same interfaces", "setting session-interfaces: any"),
        ),
        Cause(
            "session.full",
            "As many sessions live there as session-limit allows, so no further one begins.",
            ("find who holds them", "raise session-limit, or shorten the time-outs"),
        ),
        Cause(
            "session.half-open",
            "As many TCP sessions wait for their handshake as half-open-limit allows, so no further one begins.",
            ("find who opens them", "raise half-open-limit, or shorten time-out-opening"),
        ),
        Cause(
            "nat.held",
            "It is held: nobody asked for it, and its sender is told so after 6 s (setting unsolicited-syn).",
            ("open it from the inner end meanwhile", "forward the port by a rule with goes-to"),
        ),
        Cause(
            "nat.filtered",
            "It came to the outer end of a mapping, from somebody to whom `filtering` does not open that.",
            ("forward the port by a rule with goes-to", "setting filtering: address-dependent, or endpoint-independent"),
        ),
        Cause(
            "nat.none",
            "No translation rule matched, and the setting unmatched-translation drops.",
            ("widen the translation rule", "setting unmatched-translation: keep"),
        ),
        Cause("nat.exhausted", "Every port of the translated address is taken.", ("wait for sessions to end", "add an address")),
        Cause(
            "name.unknown",
            "The name has no address.",
            ("add it to the resolver's records, or under 'names'", "test by address, to tell lookup from filtering"),
        ),
    )
}
