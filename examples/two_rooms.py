"""Build a small network in Python, without any file, and ask why one packet passes and another does not."""

from __future__ import annotations

import mossy_compass as mc


def build() -> mc.Network:
    """A desk, a guest and a press, with a router between the rooms."""
    b = mc.Builder("Two rooms")
    b.service("printing", "tcp/9100")
    b.access_list(
        "office-out",
        {"permit": "tcp", "from": "desk", "to": "press", "service": "printing", "about": "the desk may print"},
        {"permit": "icmp", "icmp": "echo-request"},
    )
    b.router("corridor", office={"address": "10.40.1.1/24", "filter": {"arriving": "office-out"}}, print_room="10.40.2.1/24")
    b.host("desk", "10.40.1.10/24", gateway="10.40.1.1")
    b.host("guest", "10.40.1.50/24", gateway="10.40.1.1")
    b.host("press", "10.40.2.10/24", gateway="10.40.2.1", serves=["printing"])
    b.segment("office", "desk", "guest", "corridor/office")
    b.segment("print-room", "press", "corridor/print_room")
    return b.finish()


def main() -> None:
    """Two test packets, and what they tell."""
    plan = mc.Plan(build())
    for sender in ("desk", "guest"):
        journey = mc.trace(plan, sender, "press", "printing")
        print(f"{sender} prints: {journey.fate}, cause {journey.cause}, by {journey.because.cited()}")
        print(f"  the sender sees: {journey.symptom}")
        print(f"  passed: {' > '.join(hop.device for hop in journey.there.hops)}")
        last = journey.there.hops[-1]
        for ruling in last.rulings:
            for over in plan.passed_over(last.device, ruling):
                print(f"  rule {over.id} was passed over: {over.words}")


if __name__ == "__main__":
    main()
