"""Nothing comes in from outside without something that let it in, and the ruling names which."""

from __future__ import annotations

from collections import Counter

import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.lab.conversation import parse_then
from mossy_compass.lab.expect import every_flow
from mossy_compass.model.network import Kind
from mossy_compass.plan.reasons import Did
from tests.conftest import DATA
from tests.effort import examples
from tests.test_laws import networks
from tests.test_second_channels import ACTIVE, FRONT, IN, OUT, PASSIVE, house, talk

LETS_IN = {
    "session": "the reverse of a session",
    "session.known": "a session that it belongs to",
    "session.expected": "what was announced",
    "rule": "a rule of a list",
    "rule.built-in": "a rule that the device brings along",
    "offer": "what the device offers there",
    "setting": "a setting",
    "default": "a setting that nobody wrote",
    "list.end": "the end of a list, by a setting",
    "list.empty": "an empty list, by a setting",
}
"""What may let a packet in, by the code of the reason."""


def let_in(plan: mc.Plan, legs: list[mc.Leg]) -> Counter[str]:
    """By what every packet was let in that passed a firewall inward; fails where one has no reason that is named."""
    found: Counter[str] = Counter()
    for leg in legs:
        for number, hop in enumerate(leg.hops):
            here = plan.device(hop.device)
            inward = here.device.kind is Kind.FIREWALL and hop.arriving is not None and here.is_outside(hop.arriving)
            passed = hop.next_device is not None or (number == len(leg.hops) - 1 and leg.fate is mc.Fate.DELIVERED)
            if not inward or not passed or here.settings.inbound:
                continue
            to_itself = hop.next_device is None
            if to_itself or here.is_outside(str(hop.leaving)):
                continue  # the device's own services, and what passes by, have settings of their own
            reasons = [r for r in hop.rulings if r.did in (Did.KNOWN, Did.PERMITTED)]
            assert reasons, (str(leg), hop.device)
            for ruling in reasons:
                assert ruling.because.code in LETS_IN, ruling.because
                assert ruling.because.words
            found[reasons[0].because.code] += 1
    return found


@pytest.mark.parametrize("name", ["fernhollow", "grounds", "starter"])
def test_of_every_flow_of_a_shipped_network(name: str) -> None:
    plan = mc.Plan(mc.load(DATA / f"{name}.yaml"))
    found: Counter[str] = Counter()
    for flow in every_flow(plan.network)[:1200]:
        journey = mc.trace(plan, flow.source, flow.target, flow.service)
        found += let_in(plan, list(journey.every_leg))
    assert name != "fernhollow" or {"session", "rule"} <= set(found)


@examples(20, 60, suppress_health_check=[HealthCheck.too_slow])
@given(networks(), st.sampled_from(["ping", "https", "udp/53"]), st.sampled_from([4, 6]))
def test_in_any_network(network: mc.Network, service: str, family: int) -> None:
    plan = mc.Plan(network)
    hosts = [n for n, d in network.devices.items() if d.kind is Kind.HOST]
    for sender in hosts:
        for target in hosts:
            try:
                journey = mc.trace(plan, sender, target, service, family=family)
            except mc.QuestionError:
                continue
            let_in(plan, list(journey.every_leg))


@pytest.mark.parametrize(
    ("then", "flow", "translate", "wanted"),
    [
        (ACTIVE, OUT, "", "session.expected"),
        (ACTIVE, OUT, "{leaving: outside}", "session.expected"),
        (PASSIVE, IN, FRONT, "session.expected"),
        (("data", "answer data", "fin", "answer fin"), OUT, "", "session"),
        (("data",), IN, FRONT, "rule"),
    ],
)
def test_of_what_follows_in_a_conversation(then: tuple[str, ...], flow: tuple[str, str, str], translate: str, wanted: str) -> None:
    lab = house(translate=translate)
    held = talk(lab, flow=flow)
    legs = list(held.first.every_leg)
    for words in then:
        held.next(parse_then(words, lab.network))
        made = held.exchanges[-1].journey
        assert made is not None
        legs += made.every_leg
    found = let_in(lab.plan, legs)
    assert found[wanted], found


def test_errors_about_a_session_are_let_in_by_it() -> None:
    """RFC 5508 section 5: what it quotes says to whom it belongs."""
    lab = house(translate="{leaving: outside}", outward=", {id: 9, permit: udp}")
    refused = lab.send(mc.Flow("inner", "depot", "udp/9"))
    assert refused.fate is mc.Fate.REFUSED
    assert let_in(lab.plan, list(refused.every_leg)) == {"session": 1}
