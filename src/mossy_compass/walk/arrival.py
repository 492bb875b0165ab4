"""The stages of a packet that has just come, or is made here: plausible, for the device itself, allowed on."""

from __future__ import annotations

from mossy_compass.plan.order import Stage
from mossy_compass.walk.journey import Because, Fate
from mossy_compass.walk.passage import End, Passage, setting_because

ECHO_REQUESTS = (8 << 8, 128 << 8)


def arrive(p: Passage) -> End | None:
    """A source that is this device itself; reverse-path check of the source (RFC 3704) where it is on."""
    own = p.packet.source.family == 4 and p.arriving is not None and p.packet.source in p.here.own
    if own and p.here.setting("own-source")[0] == "drop":
        return p.end(
            Stage.ARRIVE,
            "dropped",
            End(
                Fate.DROPPED,
                "source.own",
                setting_because(p.here, "own-source"),
                f"source {p.packet.source} is {p.here.name} itself: it has been sent round in a circle, or forged",
            ),
        )
    value, _ = p.here.setting("source-check")
    if value == "off" or p.arriving is None:
        return None
    route = p.here.table.lookup(p.packet.source)
    if route is None or (value == "strict" and p.arriving not in {h.interface for h in route.hops}):
        way = (
            f"its route leaves by {route.hops[0].interface if route.hops else 'nowhere'}, not by {p.arriving}"
            if route
            else "no route leads there"
        )
        return p.end(
            Stage.ARRIVE,
            "dropped",
            End(
                Fate.DROPPED,
                "source.check",
                setting_because(p.here, "source-check"),
                f"source {p.packet.source} is not plausible: {way}",
            ),
        )
    return None


def to_self(p: Passage) -> End | None:
    """A packet for an address of the device itself ends here."""
    own = p.here.own.get(p.packet.destination)
    if own is None:
        return None
    packet = p.packet
    name = own.far.name if own.far else p.here.name
    if p.here.setting("to-self")[0] == "deny":
        return p.end(Stage.TO_SELF, "dropped", End(Fate.DROPPED, "self.closed", setting_because(p.here, "to-self")))
    if p.answering:
        return p.end(
            Stage.TO_SELF,
            "delivered",
            End(Fate.DELIVERED, "answer.arrived", Because("device", f"{name} bears {packet.destination}")),
        )
    if packet.icmp in ECHO_REQUESTS:
        because = setting_because(p.here, "answers-ping")
        if p.here.setting("answers-ping")[0] == "yes":
            return p.end(
                Stage.TO_SELF,
                "delivered",
                End(
                    Fate.DELIVERED,
                    "echo.answered",
                    Because(because.kind, f"{name} answers pings ({because.words})", because.mark),
                    "",
                    "answer",
                ),
            )
        return p.end(
            Stage.TO_SELF,
            "delivered",
            End(Fate.DELIVERED, "echo.ignored", Because(because.kind, f"{name} ignores pings ({because.words})", because.mark)),
        )
    for served in p.here.serves(own):
        if served.service.covers(packet.protocol, packet.slot):
            because = Because("service", f"{name} serves {served.words}", served.mark)
            return p.end(Stage.TO_SELF, "delivered", End(Fate.DELIVERED, "service.open", because, "", "answer"))
    value, mark = p.here.setting("closed-port")
    listens = ", ".join(dict.fromkeys(s.words for s in p.here.serves(own))) or "nothing"
    because = Because(
        "service",
        f"{name} does not listen on {packet.what()}; it serves {listens}",
        mark or (own.far.mark if own.far else p.here.device.mark),
    )
    if value == "refuse" and not (own.far and own.far.silent):
        return p.end(Stage.TO_SELF, "refused", End(Fate.REFUSED, "service.closed", because, "", "refusal"))
    return p.end(
        Stage.TO_SELF, "dropped", End(Fate.DROPPED, "service.silent", because, f"closed-port: {value}" if not own.far else "")
    )


def forwarding(p: Passage) -> End | None:
    """Forwarding is on."""
    if p.here.setting("forwarding")[0] == "no":
        note = f"the packet is for {p.packet.destination}, which is not {p.here.name}"
        return p.end(Stage.FORWARDING, "dropped", End(Fate.DROPPED, "forwarding.off", setting_because(p.here, "forwarding"), note))
    for key, address in (("source", p.packet.source), ("destination", p.packet.destination)):
        if address.is_link_local:
            because = Because("address", f"{key} {address} is link-local")
            note = "it means something on its own segment alone, and no router passes it on"
            return p.end(Stage.FORWARDING, "dropped", End(Fate.DROPPED, "address.link-local", because, note))
    return None


def time_to_live(p: Passage) -> End | None:
    """The TTL is above 1 (RFC 1812 5.3.1), looked at once the route is known (5.2.1.2): no route is told before."""
    if p.packet.ttl <= 1:
        reply = "time-exceeded" if p.here.setting("sends-time-exceeded")[0] == "yes" else ""
        p.leaving = None
        return p.end(
            Stage.TTL,
            "expired",
            End(Fate.EXPIRED, "ttl.expired", Because("device", f"the TTL ran out at {p.here.name}"), "", reply),
        )
    p.packet = p.packet._replace(ttl=p.packet.ttl - 1)
    return None


def from_self(p: Passage) -> End | None:
    """The device's own packets begin here."""
    if p.here.setting("from-self")[0] == "deny":
        return p.end(Stage.FROM_SELF, "dropped", End(Fate.DROPPED, "self.mute", setting_because(p.here, "from-self")))
    return None
