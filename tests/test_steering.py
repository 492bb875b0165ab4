"""Policy routes, destination translation, and a device's own order of stages: one small network, one packet a case."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.model.network import Kind
from mossy_compass.plan.order import FROM, OBLIGATORY, SPECS, THROUGH, Stage, faults, given_before, orders
from tests.effort import examples

# desk and shop behind gate, far and near behind up; two lines between gate and up
BASE = """\
mossy-network: 1
lists:
  world-in: [{id: 10, permit: tcp, to: LISTED}, {id: 20, permit: icmp}]
  rich: [{deny: any, to: far}, {permit: any, from: desk}]
devices:
  gate:
    kind: firewall
    interfaces:
      inside: {address: [10.40.1.1/24, "2001:db8:1::1/64"], zone: house}
      fibre: {address: [198.51.100.2/29, "2001:db8:f::2/64"], zone: world, filter: {FIBRE}}
      radio: {address: 203.0.113.2/30STATE}
    routes:
      - {prefix: default, next-hop: 198.51.100.1}
      - {prefix: default6, next-hop: "2001:db8:f::1"}
      - {prefix: default, next-hop: 203.0.113.1, table: side}
    translate: [TRANSLATE]
    policy-routes: [POLICY]
    settings: {SETTING}
    ORDER
  up: {kind: router, interfaces: {a: [198.51.100.1/29, "2001:db8:f::1/64"], b: 203.0.113.1/30, c: [192.0.2.1/24, "2001:db8:c::1/64"]},
    routes: [{prefix: "2001:db8:1::/64", next-hop: "2001:db8:f::2"}]}
  desk: {kind: host, address: [10.40.1.10/24, "2001:db8:1::10/64"], gateway: [10.40.1.1, "2001:db8:1::1"], serves: [ssh]}
  shop: {kind: host, address: [10.40.1.20/24, "2001:db8:1::20/64"], gateway: [10.40.1.1, "2001:db8:1::1"], serves: [http, domain]}
  far: {kind: host, address: [192.0.2.10/24, "2001:db8:c::10/64"], gateway: [192.0.2.1, "2001:db8:c::1"], serves: [https]}
  near: {kind: host, address: 192.0.2.11/24, gateway: 192.0.2.1, serves: [https]}
segments:
  lan: [desk, shop, gate/inside]
  fibre: [gate/fibre, up/a]
  radio: [gate/radio, up/b]
  far: [far, near, up/c]
"""
OUT = "{id: out, source: house, leaving: [fibre, radio]}"


def text(**parts: str) -> str:
    """Strangers are let in here, where no list says otherwise: these tests are about ways and addresses."""
    filled = {"LISTED": "shop", "FIBRE": "", "STATE": "", "TRANSLATE": OUT, "POLICY": "", "SETTING": "", "ORDER": "", **parts}
    filled["SETTING"] = f"inbound: permit, {filled['SETTING']}".rstrip(", ")
    made = BASE
    for key, value in filled.items():
        made = made.replace(f"{{{key}}}", f"{{{value}}}").replace(f"[{key}]", f"[{value}]").replace(key, value)
    return made


def build(**parts: str) -> mc.Plan:
    reading = mc.read_bytes(text(**parts).encode(), "s.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    return mc.Plan(reading.network)


def way(journey: mc.Journey) -> str | None:
    """The interface by which it left gate on the way there."""
    return next((h.leaving for h in journey.there.hops if h.device == "gate"), None)


def did(journey: mc.Journey) -> dict[str, str]:
    """What each stage of gate did on the way there."""
    return {r.stage: r.did for h in journey.there.hops if h.device == "gate" for r in h.rulings}


# --- policy routes -----------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "policy, state, sender, target, left_by, stage_did",
    [
        # conditions as lists have them; what does not match takes the table
        ("{from: desk, candidates: [203.0.113.1]}", "", "desk", "near", "radio", "steered"),
        ("{from: desk, candidates: [203.0.113.1]}", "", "shop", "near", "fibre", None),
        ("{protocol: udp, candidates: [203.0.113.1]}", "", "desk", "near", "fibre", None),
        ("{service: https, to: near, candidates: [203.0.113.1]}", "", "desk", "near", "radio", "steered"),
        # a list classifies: its deny goes on to the next entry, its permit applies this one, its end goes on too
        ("{list: rich, candidates: [203.0.113.1]}", "", "desk", "far", "fibre", "noted"),
        ("{list: rich, candidates: [203.0.113.1]}", "", "desk", "near", "radio", "steered"),
        ("{list: rich, candidates: [203.0.113.1]}", "", "shop", "near", "fibre", None),
        ("{list: rich, candidates: [198.51.100.1]}, {candidates: [203.0.113.1]}", "", "desk", "far", "radio", "steered"),
        # where packets arrive; elsewhere it is not asked
        ("{arriving: inside, candidates: [203.0.113.1]}", "", "desk", "near", "radio", "steered"),
        ("{arriving: house, candidates: [203.0.113.1]}", "", "desk", "near", "radio", "steered"),
        ("{arriving: fibre, candidates: [203.0.113.1]}", "", "desk", "near", "fibre", None),
        # candidates in order: down, silent, of the other family, then the next
        ("{candidates: [203.0.113.1, 198.51.100.1]}", ", state: disabled", "desk", "near", "fibre", "steered"),
        ("{candidates: [198.51.100.5, 203.0.113.1]}", "", "desk", "near", "radio", "steered"),
        ('{candidates: ["2001:db8:f::1", 203.0.113.1]}', "", "desk", "near", "radio", "steered"),
        ("{candidates: [10.99.0.1, 203.0.113.1]}", "", "desk", "near", "radio", "steered"),
        # none is there: the table decides
        ("{candidates: [198.51.100.5]}", "", "desk", "near", "fibre", "fell through"),
        ("{candidates: [203.0.113.1]}", ", state: disabled", "desk", "near", "fibre", "fell through"),
        # a named table
        ("{candidates: [{table: side}]}", "", "desk", "near", "radio", "steered"),
        ("{candidates: [{table: side}, 198.51.100.1]}", ", state: disabled", "desk", "near", "fibre", "steered"),
        # an interface alone asks for the destination itself there, which nobody answers for
        ("{candidates: [{leaving: radio}]}", "", "desk", "near", "fibre", "fell through"),
        ("{candidates: [{leaving: radio, next-hop: 203.0.113.1}]}", "", "desk", "near", "radio", "steered"),
        # disabled: kept, passed over
        ("{candidates: [203.0.113.1], disabled: yes}", "", "desk", "near", "fibre", None),
        # the first entry that applies decides, though none of its candidates is there
        ("{candidates: [198.51.100.5]}, {candidates: [203.0.113.1]}", "", "desk", "near", "fibre", "fell through"),
    ],
)  # fmt: skip
def test_policy_routes(policy: str, state: str, sender: str, target: str, left_by: str, stage_did: str | None) -> None:
    journey = mc.trace(build(POLICY=policy, STATE=state), sender, target, "https")
    assert journey.answered
    assert way(journey) == left_by
    assert did(journey).get("policy route") == stage_did
    assert ("route" in did(journey)) == (stage_did != "steered")


def test_a_discarding_candidate_drops_by_the_entrys_name() -> None:
    journey = mc.trace(
        build(POLICY="{id: no-mail, to: near, candidates: [{discard: yes}], about: none of it}"), "desk", "near", "https"
    )
    assert (journey.cause, journey.symptom, journey.because.words) == (
        "route.discard",
        "silence",
        "policy route no-mail of gate says discard",
    )
    assert journey.because.about == "none of it"


def test_an_unavailable_candidate_says_why_it_was_passed_over() -> None:
    shown = mc.trace(
        build(POLICY="{candidates: [203.0.113.1, 198.51.100.5, 10.9.9.9]}", STATE=", state: disabled"), "desk", "near", "https"
    ).explain(True)
    flat = " ".join(shown.split())
    assert "next hop 203.0.113.1 is not available: its interface is down" in flat
    assert "next hop 198.51.100.5 is not available: nobody answers for it" in flat
    assert "next hop 10.9.9.9 is not available: it is on no connected subnet" in flat
    assert "so the route table decides" in flat


def test_answers_pass_over_policy_routes() -> None:
    """far asks shop through the fibre; an entry for all that comes from inside would send the answer by the radio."""
    plan = build(
        POLICY="{arriving: inside, candidates: [203.0.113.1]}",
        TRANSLATE="{id: web, arriving: fibre, to: self, service: http, goes-to: shop}",
    )
    journey = mc.trace(plan, "far", "198.51.100.2", "http")
    assert journey.answered
    assert [h.leaving for h in journey.back.hops if h.device == "gate"] == ["fibre"]  # type: ignore[union-attr]


def test_own_packets_see_policy_routes_where_the_setting_says_so() -> None:
    policy = "{candidates: [203.0.113.1]}"
    assert way(mc.trace(build(POLICY=policy), "gate", "near", "https")) == "fibre"
    assert way(mc.trace(build(POLICY=policy, SETTING="own-policy-routes: yes"), "gate", "near", "https")) == "radio"


# --- destination translation -------------------------------------------------------------------------------

WEB = "{id: web, arriving: fibre, to: self, service: tcp/8080, goes-to: {address: shop, port: 80}}"
WHOLE = "{id: whole, arriving: fibre, to: 198.51.100.3, goes-to: desk}"


def test_a_port_of_the_firewall_goes_to_an_inside_host_and_its_answer_comes_home() -> None:
    journey = mc.trace(build(TRANSLATE=WEB), "far", "198.51.100.2", "tcp/8080")
    assert journey.answered
    assert journey.there.end == "shop"
    assert str(journey.there.arrived) == "tcp 192.0.2.10:49152 > 10.40.1.20:80 SYN"
    assert journey.back is not None
    assert str(journey.back.packet) == "tcp 10.40.1.20:80 > 192.0.2.10:49152 SYN-ACK"
    assert str(journey.back.arrived) == "tcp 198.51.100.2:8080 > 192.0.2.10:49152 SYN-ACK"
    assert mc.trace(build(TRANSLATE=WEB), "far", "198.51.100.2", "tcp/8081").cause == "service.silent"


@pytest.mark.parametrize("service", ["ssh", "ping"])
def test_a_whole_address_is_answered_for_on_its_segment(service: str) -> None:
    """198.51.100.3 is nobody's interface: the firewall answers for it, since it sends elsewhere what goes there."""
    journey = mc.trace(build(TRANSLATE=WHOLE), "far", "198.51.100.3", service)
    assert journey.answered
    assert journey.there.end == "desk"
    assert mc.trace(build(TRANSLATE=""), "far", "198.51.100.3", service).cause == "neighbour.silent"
    disabled = WHOLE.replace("goes-to", "disabled: yes, goes-to")
    assert mc.trace(build(TRANSLATE=disabled), "far", "198.51.100.3", service).cause == "neighbour.silent"


@pytest.mark.parametrize(
    "order, listed, fate",
    [
        # the built-in order: the list sees the address that was written on the packet
        ("", "198.51.100.2", "delivered"),
        ("", "shop", "dropped"),
        # its own order: translated first, so the list sees the inside host
        ("order: [arrive, recall, inspection, translate destination, arriving list, to self, forwarding, route, time to live, translate source, send]", "shop", "delivered"),
        ("order: [arrive, recall, inspection, translate destination, arriving list, to self, forwarding, route, time to live, translate source, send]", "198.51.100.2", "dropped"),
    ],
)  # fmt: skip
def test_the_list_sees_the_address_that_the_order_says(order: str, listed: str, fate: str) -> None:
    plan = build(TRANSLATE=WEB, FIBRE="arriving: world-in", LISTED=listed, ORDER=order)
    journey = mc.trace(plan, "far", "198.51.100.2", "tcp/8080")
    assert journey.there.fate == fate
    assert journey.answered == (fate == "delivered")


def test_an_error_from_inside_does_not_tell_the_inside_address() -> None:
    """RFC 5508 4.2.2: shop refuses udp; what far is told comes from the address that far asked, and quotes what far sent."""
    rule = "{id: all, arriving: fibre, to: 198.51.100.3, goes-to: shop}"
    journey = mc.trace(build(TRANSLATE=rule), "far", "198.51.100.3", "udp/99")
    assert (journey.cause, journey.symptom) == ("service.closed", "refused")
    assert journey.back is not None
    home = journey.back.arrived
    assert str(home.source) == "198.51.100.3"
    assert home.quoted is not None
    assert home.quoted._replace(ttl=64) == journey.there.packet
    seen = [str(r.gave) for h in journey.back.hops for r in h.rulings if h.device in ("up", "far")]
    assert not any("10.40." in words for words in seen)


def test_a_rule_of_one_family_does_not_touch_the_other() -> None:
    plan = build(TRANSLATE=OUT)
    assert mc.trace(plan, "desk", "far", "https", family=4).seen_as == "198.51.100.2:49152"
    assert mc.trace(plan, "desk", "far", "https", family=6).seen_as == "[2001:db8:1::10]:49152"
    six = build(TRANSLATE='{id: out, source: "2001:db8:1::/64", leaving: fibre}')
    assert mc.trace(six, "desk", "far", "https", family=6).seen_as == "[2001:db8:f::2]:49152"
    alone = mc.trace(six, "desk", "far", "https", family=4)
    assert (alone.seen_as, alone.cause) == ("10.40.1.10:49152", "route.none")


def test_two_flows_without_ports_to_one_far_end_do_not_share_a_tuple() -> None:
    """Two inside hosts send GRE to one peer: the answers could not be told apart, so the second is told no."""
    plan = build(TRANSLATE=OUT)
    first, state = mc.trace_question(plan, mc.ask(plan, "desk", "far", "gre"))
    second, state = mc.trace_question(plan, mc.ask(plan, "shop", "far", "gre"), state)
    assert first.there.end == "far"
    assert (second.cause, second.there.end) == ("nat.clash", "gate")
    assert len(state.sessions("gate")) == 1
    elsewhere, _ = mc.trace_question(plan, mc.ask(plan, "shop", "near", "gre"), state)
    assert elsewhere.there.end == "near"


def test_two_public_addresses_of_one_host_give_the_second_flow_another_port() -> None:
    """far:49152 asks both; inside, the two flows would look alike, so the later one's port is changed and put back."""
    rules = "{id: one, to: 198.51.100.3, goes-to: shop}, {id: two, to: 198.51.100.4, goes-to: shop}"
    plan = build(TRANSLATE=rules)
    first, state = mc.trace_question(plan, mc.ask(plan, "far", "198.51.100.3", "http"))
    second, state = mc.trace_question(plan, mc.ask(plan, "far", "198.51.100.4", "http"), state)
    assert first.answered
    assert second.answered
    assert first.there.arrived.from_port == 49152
    assert second.there.arrived.from_port != 49152
    assert str(second.back.arrived.source) == "198.51.100.4"  # type: ignore[union-attr]


def test_one_outer_port_for_all_destinations_or_one_a_flow() -> None:
    for mapping, same in (("endpoint-independent", True), ("per-flow", False)):
        plan = build(TRANSLATE=OUT, SETTING=f"mapping: {mapping}, keep-port: no")
        first, state = mc.trace_question(plan, mc.ask(plan, "desk", "far", "https"))
        second, _ = mc.trace_question(plan, mc.ask(plan, "desk", "near", "https"), state)
        assert (first.seen_as == second.seen_as) == same


def test_a_reset_in_the_servers_name_is_not_translated_again() -> None:
    plan = build(TRANSLATE=WEB, FIBRE="arriving: world-in", LISTED="shop", SETTING="end-of-list: reject")
    journey = mc.trace(plan, "far", "198.51.100.2", "tcp/8080")
    assert (journey.there.fate, journey.symptom) == ("rejected", "refused")
    assert str(journey.back.arrived) == "tcp 198.51.100.2:8080 > 192.0.2.10:49152 RST"  # type: ignore[union-attr]


@pytest.mark.parametrize(
    "rule, code",
    [
        ("{becomes: interface, goes-to: shop, leaving: fibre, to: self}", "translate.kind"),
        ("{source: house}", "key.missing"),
        ("{goes-to: shop, arriving: fibre}", "key.missing"),
        ("{goes-to: shop, to: self, leaving: fibre}", "translate.kind"),
        ("{goes-to: 10.40.1.0/24, to: self}", "translate.goal"),
        ("{goes-to: nowhere, to: self}", "name.unknown"),
        ("{goes-to: {address: shop, port: 80}, to: self}", "translate.port"),
        ("{goes-to: {address: shop, port: 80-90}, to: self, service: http}", "translate.port"),
        ("{goes-to: shop, to: self, arriving: attic}", "interface.unknown"),
        ("{goes-to: shop, to: self, arriving: []}", "value.empty"),
    ],
)
def test_faulty_translations_are_refused(rule: str, code: str) -> None:
    reading = mc.read_bytes(text(TRANSLATE=rule).encode(), "s.yaml")
    assert reading.network is None
    assert code in [p.code for p in reading.errors]


@pytest.mark.parametrize(
    "entry, code",
    [
        ("{candidates: []}", "value.empty"),
        ("{from: desk}", "key.missing"),
        ("{candidates: [{discard: yes, table: side}]}", "policy.candidate"),
        ("{candidates: [{table: upside}]}", "table.unknown"),
        ("{candidates: [{leaving: attic}]}", "interface.unknown"),
        ("{list: poor, candidates: [203.0.113.1]}", "list.unknown"),
        ("{leaving: fibre, candidates: [203.0.113.1]}", "rule.too-early"),
        ("{id: 1, candidates: [203.0.113.1]}, {id: 1, candidates: [203.0.113.1]}", "rule.twice"),
    ],
)
def test_faulty_policy_routes_are_refused(entry: str, code: str) -> None:
    reading = mc.read_bytes(text(POLICY=entry).encode(), "s.yaml")
    assert reading.network is None
    assert code in [p.code for p in reading.errors]


# --- orders ------------------------------------------------------------------------------------------------

IN_ORDER = ", ".join(s.value for s in THROUGH)


def test_the_built_in_order_written_out_changes_nothing() -> None:
    plain, written = build(), build(ORDER=f"order: [{IN_ORDER}]")
    for service in ("ping", "https", "tcp/22"):
        one, other = (mc.trace(p, "desk", "far", service).to_dict(details=True) for p in (plain, written))
        assert one["fate"] == other["fate"]
        assert [h["device"] for leg in one["legs"] for h in leg["hops"]] == [
            h["device"] for leg in other["legs"] for h in leg["hops"]
        ]


@pytest.mark.parametrize(
    "change, says",
    [
        (lambda o: [s for s in o if s != "route"], "the order has no stage 'route'"),
        (lambda o: [s for s in o if s != "recall"], "the order has no stage 'recall'"),
        (lambda o: [s for s in o if s != "time to live"], "no stage 'time to live', and the device forwards"),
        (lambda o: [*o, "route"], "stage 'route' stands twice"),
        (lambda o: [*o[:-1], "sned"], "'sned' is no stage"),
        (lambda o: ["translate source", *[s for s in o if s != "translate source"]], "stage 'translate source' needs the session"),
        (lambda o: ["leaving list", *[s for s in o if s != "leaving list"]], "stage 'leaving list' needs the leaving"),
        (lambda o: [*[s for s in o if s != "translate destination"], "translate destination"], "stands after 'send'"),
        (lambda o: [*[s for s in o if s not in ("policy route", "send")], "policy route", "send"], "'policy route' has no effect after 'route'"),
    ],
)  # fmt: skip
def test_orders_that_cannot_be_used_say_why(change: Any, says: str) -> None:
    order = change([s.value for s in THROUGH])
    reading = mc.read_bytes(text(ORDER=f"order: [{', '.join(order)}]").encode(), "s.yaml")
    assert reading.network is None
    assert any(says in p.message for p in reading.errors), [p.message for p in reading.errors]
    assert {p.code for p in reading.errors} == {"order.stage"}


def test_source_translation_before_the_route_names_row_and_stage() -> None:
    order = [s for s in IN_ORDER.split(", ") if s != "translate source"]
    order.insert(order.index("route"), "translate source")
    reading = mc.read_bytes(text(ORDER=f"order: [{', '.join(order)}]").encode(), "s.yaml")
    fault = next(p for p in reading.errors if p.code == "rule.too-early")
    assert "translation rule out" in fault.message
    assert "at the stage 'translate source'" in fault.message


def test_a_rule_that_asks_for_the_leaving_interface_too_early_is_refused() -> None:
    made = text(FIBRE="arriving: world-in").replace("{id: 20, permit: icmp}", "{id: 20, permit: icmp, leaving: inside}")
    reading = mc.read_bytes(made.encode(), "s.yaml")
    fault = next(p for p in reading.errors if p.code == "rule.too-early")
    assert "rule 20 of list world-in (gate/fibre arriving)" in fault.message
    assert "'arriving list'" in fault.message
    assert mc.read_bytes(made.replace("arriving: world-in", "leaving: world-in").encode(), "s.yaml").network is not None


def test_what_is_written_for_a_stage_that_is_left_out_is_idle() -> None:
    order = [s for s in IN_ORDER.split(", ") if s not in ("arriving list", "policy route", "translate source")]
    made = text(ORDER=f"order: [{', '.join(order)}]", FIBRE="arriving: world-in", POLICY="{candidates: [203.0.113.1]}")
    reading = mc.read_bytes(made.encode(), "s.yaml")
    assert reading.network is not None
    assert [p.code for p in reading.problems].count("idle.no-stage") == 3
    journey = mc.trace(reading.network, "desk", "far", "https")
    assert did(journey).get("policy route") is None
    assert "translate source" not in did(journey)


@pytest.mark.parametrize(
    "without, forwarding, says",
    [
        ((), "no", []),
        (("time to live",), "no", []),
        (("forwarding",), "no", ["idle.no-stage"]),  # nothing asks, so it forwards
        (("forwarding",), "yes", []),
        (("forwarding", "time to live"), "no", ["order.stage"]),
        (("forwarding", "time to live"), "yes", ["order.stage"]),
        (("time to live",), "yes", ["order.stage"]),
    ],
)
def test_a_device_that_forwards_counts_hops_down(without: tuple[str, ...], forwarding: str, says: list[str]) -> None:
    order = ", ".join(s.value for s in THROUGH if s.value not in without)
    made = f"""mossy-network: 1
devices:
  r: {{kind: router, interfaces: {{a: 10.40.1.1/24}}, order: [{order}], settings: {{forwarding: '{forwarding}'}}}}
  pc: {{kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}}
segments: {{a: [r/a, pc]}}
"""
    assert [p.code for p in mc.read_bytes(made.encode(), "r.yaml").problems if p.code in ("order.stage", "idle.no-stage")] == says


@st.composite
def near_orders(draw: st.DrawFn) -> tuple[str, ...]:
    """The built-in order with a few stages moved, and some left out: mostly orders that are accepted, or nearly so."""
    order = [s.value for s in THROUGH]
    for _ in range(draw(st.integers(0, 3))):
        order.insert(draw(st.integers(0, len(order) - 1)), order.pop(draw(st.integers(0, len(order) - 1))))
    without = draw(st.sets(st.sampled_from([s.value for s in THROUGH if s not in (*OBLIGATORY, Stage.TTL)]), max_size=3))
    return tuple(s for s in order if s not in without)


@given(near_orders().filter(lambda names: not list(faults(names))))
def test_an_accepted_order_leaves_no_stage_void(names: tuple[str, ...]) -> None:
    """Whatever order is accepted: every need is given before, nothing stands after the end or after what voids it."""
    stages = [Stage(n) for n in names]
    assert set(OBLIGATORY) <= set(stages)
    assert stages[-1] is Stage.SEND
    for number, stage in enumerate(stages):
        assert set(SPECS[stage].needs) <= given_before(stages, stage)
        assert not set(SPECS[stage].before) & set(stages[:number])
    through, own = orders(Kind.ROUTER, names)
    assert through == tuple(stages)
    assert own == tuple(s for s in FROM if s in stages or s is Stage.FROM_SELF)


@examples(40, 120)
@given(near_orders().filter(lambda names: not list(faults(names))))
def test_any_accepted_order_carries_packets(order: tuple[str, ...]) -> None:
    reading = mc.read_bytes(text(TRANSLATE="", ORDER=f"order: [{', '.join(order)}]").encode(), "s.yaml")
    assert reading.network is not None
    journey = mc.trace(reading.network, "desk", "far", "https", family=6)
    assert journey.cause in mc.CAUSES
    assert journey.answered


def test_a_discard_after_other_candidates_says_why_those_were_passed_over() -> None:
    policy = "{id: last, to: near, candidates: [203.0.113.1, {discard: yes}]}"
    journey = mc.trace(build(POLICY=policy, STATE=", state: disabled"), "desk", "near", "https")
    assert journey.cause == "route.discard"
    assert "next hop 203.0.113.1 is not available: its interface is down" in " ".join(journey.explain().split())
    assert mc.trace(build(POLICY=policy, STATE=""), "desk", "near", "https").answered


def test_an_unknown_interface_of_a_policy_route_is_told_once() -> None:
    text = b"""mossy-network: 1
devices:
  r: {kind: router, interfaces: {a: 10.40.0.1/24}, policy-routes: [{arriving: aa, candidates: [10.40.0.9]}]}
segments: {x: [r/a]}
"""
    assert [p.code for p in mc.read_bytes(text, "n.yaml").problems if "aa" in p.message] == ["interface.unknown"]
