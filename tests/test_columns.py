"""Very many flows at once fare as each of them does when it is walked alone."""

from __future__ import annotations

import random
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.cli.main import main
from mossy_compass.exchange.dataframes import flow_frame
from mossy_compass.lab import observed
from mossy_compass.lab.columns import Crowd, names_addresses, outside_ports
from mossy_compass.lab.forms import Sets, exactly, holding, room
from mossy_compass.lab.observed import Observed, fates, in_person
from mossy_compass.packet.address import Address
from mossy_compass.packet.packet import FIRST_DYNAMIC_PORT, Packet, echo_request
from mossy_compass.plan.facts import Relation
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Did
from mossy_compass.state.state import State
from mossy_compass.walk.journey import Journey
from mossy_compass.walk.question import ask
from mossy_compass.walk.sent import sent
from mossy_compass.walk.weather import in_weather
from tests.effort import examples
from tests.test_laws import networks

DATA = Path(mc.__file__).parent / "data"


def senders_of(plan: Plan) -> dict[Address, str]:
    """Everybody who sends, by address."""
    own = {a: d.name for d in plan.network.devices.values() for a, _ in d.own_addresses() if not a.is_link_local}
    return own | {a: h.name for d in plan.network.devices.values() for h in d.far_hosts.values() for a in h.addresses}


def drawn(plan: Plan, chance: random.Random, count: int) -> tuple[list[Packet], list[str]]:
    """Packets that open something, between hosts and to nobody; of any protocol and port."""
    known = senders_of(plan)
    packets: list[Packet] = []
    senders = []
    while len(packets) < count:
        source = chance.choice(list(known))
        others = [a for a in known if a.family == source.family and a != source]
        destination = chance.choice(others)
        if chance.random() < 0.25:
            destination = Address(destination.family, destination.value ^ chance.randrange(256))
        if destination.special or destination == source:
            continue
        port, asked = chance.choice([FIRST_DYNAMIC_PORT, chance.randrange(1, 65536)]), chance.choice([22, 53, 80, 443, 8443])
        protocol = chance.choice([6, 6, 17, 17, 1, 47])
        if protocol == 1:
            packet = echo_request(source, destination, port)
        elif protocol == 47:
            packet = Packet(47, source, destination)
        else:
            packet = Packet(protocol, source, destination, port, asked, -1, "SYN" if protocol == 6 else "")
        packets.append(packet)
        senders.append(known[source])
    return packets, senders


def told(journey: Journey) -> object:
    """What columns say of a flow, beside whom it is seen as and by what it was let through."""
    because = journey.because
    values = None if names_addresses(because) else because.values
    return journey.answered, journey.fate, journey.cause, journey.lost, journey.deciding.end, because.code, because.mark, values


def agree(plan: Plan, packets: list[Packet], senders: list[str]) -> Crowd:
    crowd, outside = Crowd(plan, packets, senders), outside_ports(plan)
    for row, fate in enumerate(crowd.fates()):
        journey = sent(plan, crowd._question(row), State())[0]
        assert told(fate.like) == told(journey), packets[row]
        assert fate.seen_as == journey.seen_as, packets[row]
        hops = journey.there.hops
        assert fate.permits == tuple(r.because for hop in hops for r in hop.rulings if r.did is Did.PERMITTED), packets[row]
        ways = [f"{hop.device}/{hop.leaving}" for hop in hops]
        assert fate.leaving == next((way for way in reversed(ways) if way in outside), ""), packets[row]
    return crowd


@pytest.mark.parametrize("name", ["fernhollow.yaml", "grounds.yaml", "starter.yaml"])
def test_the_demo_in_columns_is_as_it_is_walked(name: str) -> None:
    network = mc.read_bytes((DATA / name).read_bytes(), name).network
    assert network is not None
    plan = in_weather(Plan(network))
    crowd = agree(plan, *drawn(plan, random.Random(3), 400))
    assert crowd.kinds > 10


@examples(2, 50)
@given(networks(), st.integers(0, 1000))
def test_any_network_in_columns_is_as_it_is_walked(network: mc.Network, seed: int) -> None:
    plan = Plan(network)
    agree(plan, *drawn(plan, random.Random(seed), 120))


FORKED = """\
mossy-network: 1
devices:
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  a:
    kind: router
    interfaces: {in: 10.40.1.1/24, x: 10.40.9.1/30, y: 10.40.9.5/30}
    routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.9.2}, {prefix: 10.40.2.0/24, next-hop: 10.40.9.6}]
  b:
    kind: firewall
    stateful: [tcp, udp]
    interfaces: {in: {address: 10.40.9.2/30, filter: {arriving: only-web}}, out: 10.40.2.1/24}
    routes: [{prefix: 10.40.1.0/24, next-hop: 10.40.9.1}]
    translate: [{leaving: out}]
  c:
    kind: router
    interfaces: {in: 10.40.9.6/30, out: 10.40.2.2/24}
    routes: [{prefix: 10.40.1.0/24, next-hop: 10.40.9.5}]
  store: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https, ssh]}
  shelf: {kind: host, address: 10.40.2.11/24, gateway: 10.40.2.2, serves: [https, ssh]}
lists: {only-web: [{permit: tcp, service: https}, {permit: udp}]}
segments: {l: [desk, a/in], x: [a/x, b/in], y: [a/y, c/in], r: [b/out, c/out, store, shelf]}
"""


def test_each_flow_takes_its_own_of_equal_ways() -> None:
    network = mc.read_bytes(FORKED.encode(), "forked.yaml").network
    assert network is not None
    plan = Plan(network)
    source = mc.parse_address("10.40.1.10")
    packets = [
        Packet(6, source, mc.parse_address(to), port, asked, -1, "SYN")
        for to in ("10.40.2.10", "10.40.2.11")
        for port in range(50_000, 50_060)
        for asked in (22, 443)
    ]
    crowd = agree(plan, packets, ["desk"] * len(packets))
    assert len({fate.seen_as.partition(":")[0] for fate in crowd.fates()}) == 3  # not at all, as itself, and translated
    assert crowd.kinds < 40


BEHIND = """\
mossy-network: 1
lists: {w: [{permit: tcp, from: 198.51.100.7, service: https}, {permit: tcp, from: 198.51.100.8, service: ssh}]}
devices:
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  till: {kind: host, address: 10.40.1.11/24, gateway: 10.40.1.1}
  gate:
    kind: router
    interfaces: {in: 10.40.1.1/24, out: 10.40.9.1/30}
    routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.9.2}]
    translate: [{source: desk, leaving: out, becomes: 198.51.100.7}, {source: till, leaving: out, becomes: 198.51.100.8}]
#ONWARD
  wall:
    kind: router
    interfaces: {in: {address: 10.40.9.2/30, filter: {arriving: w}}, out: 10.40.2.1/24}
    routes: [{prefix: 198.51.100.0/24, next-hop: 10.40.9.1}]
  store: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https, ssh]}
segments: {a: [desk, till, gate/in], m: [gate/out, wall/in], b: [wall/out, store]}
"""


def test_what_two_translations_give_is_told_apart_behind_them() -> None:
    network = mc.read_bytes(BEHIND.encode(), "behind.yaml").network
    assert network is not None
    pairs = [(sender, port) for sender in ("desk", "till") for port in (443, 22)]
    own = {"desk": mc.parse_address("10.40.1.10"), "till": mc.parse_address("10.40.1.11")}
    packets = [Packet(6, own[s], mc.parse_address("10.40.2.10"), FIRST_DYNAMIC_PORT, port, -1, "SYN") for s, port in pairs]
    crowd = agree(Plan(network), packets, [s for s, _ in pairs])
    assert [fate.like.answered for fate in crowd.fates()] == [True, False, False, True]
    assert [fate.seen_as for fate in crowd.fates()] == ["198.51.100.7:49152", "", "", "198.51.100.8:49152"]


def test_what_a_device_asks_onward_is_walked_flow_by_flow(monkeypatch: pytest.MonkeyPatch) -> None:
    onward = "    translate: [{to: 10.40.2.0/24, arriving: in, service: https, goes-to: {address: self, port: 8081, onward: yes}}]\n    serves: [tcp/8081]"
    text = BEHIND.replace("#ONWARD", onward).replace(
        "    translate: [{source: desk, leaving: out, becomes: 198.51.100.7}, {source: till, leaving: out, becomes: 198.51.100.8}]\n",
        "",
    )
    reading = mc.read_bytes(text.encode(), "behind.yaml")
    assert reading.network is not None, reading.problems
    plan = Plan(reading.network)
    assert plan.asks_onward
    flows = [Observed(6, mc.parse_address("10.40.1.10"), mc.parse_address(to), 443) for to in ("10.40.2.10", "10.40.2.77")]
    monkeypatch.setattr(observed, "MANY", 1)
    assert all(f.own for f in fates(plan, flows))


def test_columns_are_asked_what_single_packets_are() -> None:
    network = mc.read_bytes((DATA / "fernhollow.yaml").read_bytes(), "f").network
    assert network is not None
    plan = Plan(network)
    packets, senders = drawn(plan, random.Random(5), 60)
    crowd = Crowd(plan, packets, senders)
    list(crowd.fates())
    cells = [known.cell for kinds in crowd.known.values() for known in kinds][::12]
    rows = np.arange(len(packets))[::-1]
    for cell in cells:
        found = crowd.sets.space.among(cell, crowd.columns, rows)
        assert [bool(f) for f in found] == [holding(crowd.sets.space, cell, packets[row], Relation.OPENING) for row in rows]


def test_the_set_of_one_packet_holds_it_and_no_other() -> None:
    space = Sets(room(1)).space
    packet = Packet(6, Address(4, 1), Address(4, 2), 7, 8, -1, "SYN")
    held = exactly(space, packet, Relation.OPENING)
    assert holding(space, held, packet, Relation.OPENING)
    for other in (
        packet._replace(from_port=9),
        packet._replace(to_port=9),
        packet._replace(source=Address(4, 3)),
        packet._replace(ttl=63),
    ):
        assert not holding(space, held, other, Relation.OPENING)


# observed flows


def observed_flows(plan: Plan, count: int) -> list[Observed]:
    packets, _ = drawn(plan, random.Random(8), count)
    return [Observed(p.protocol, p.source, p.destination, -1 if p.icmp >= 0 or p.protocol == 47 else p.to_port) for p in packets]


def test_many_observed_flows_are_told_as_few_are(monkeypatch: pytest.MonkeyPatch) -> None:
    network = mc.read_bytes((DATA / "fernhollow.yaml").read_bytes(), "f").network
    assert network is not None
    plan = in_weather(Plan(network))
    flows = [*observed_flows(plan, 250), Observed(6, mc.parse_address("10.9.9.9"), mc.parse_address("203.0.113.80"), 443)]
    for flow in flows[:-1]:
        made = ask(plan, plan.owner(flow.source) or "", str(flow.destination), flow.service, source=str(flow.source))
        assert made.packet == flow.packet
    alone = fates(plan, flows)
    monkeypatch.setattr(observed, "MANY", 1)
    so_far: list[int] = []
    together = fates(plan, flows, so_far.append)
    assert so_far == sorted(so_far)
    assert so_far[-1] == len(flows)
    assert sum(not one.own for one in together) >= len(flows) - 4  # some are for nobody, as a broadcast is
    for one, other in zip(alone, together, strict=True):
        mine, theirs = one.to_dict(), other.to_dict()
        if not theirs["because"]:  # it would name another flow's address
            mine["because"] = ""
        assert mine == theirs
        assert in_person(plan, other).to_dict() == one.to_dict()


def test_flows_of_declared_applications_are_asked_at_their_own_moment(monkeypatch: pytest.MonkeyPatch) -> None:
    text = FORKED.replace(
        "lists: {only-web: [",
        "applications: {books: {category: still, to: [10.40.2.10], known-from: 1}}\nlists: {only-web: [{deny: tcp, application: books}, ",
    )
    network = mc.read_bytes(text.encode(), "forked.yaml").network
    assert network is not None
    plan = Plan(network)
    flows = [Observed(6, mc.parse_address("10.40.1.10"), mc.parse_address(f"10.40.2.{n}"), p) for n in (10, 11) for p in (22, 443)]
    alone = fates(plan, flows)
    monkeypatch.setattr(observed, "MANY", 1)
    assert [f.to_dict() for f in fates(plan, flows)] == [f.to_dict() for f in alone]


def test_a_table_goes_in_and_a_table_comes_out(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file, out = tmp_path / "asked.csv", tmp_path / "out.parquet"
    rows = ["source,destination,service,count"]
    rows += [f"10.40.32.10,10.40.{n}.{m},{s},1" for n in (16, 40, 48) for m in range(1, 80) for s in ("https", "ping")]
    file.write_text("\n".join(rows) + "\n")
    monkeypatch.setattr(observed, "MANY", 100)
    said = CliRunner().invoke(main, ["flows", str(DATA / "fernhollow.yaml"), str(file), "--parquet", str(out)])
    assert said.exit_code == 1
    words = " ".join(said.output.split())
    assert "of 474 flows would pass (474 packets observed): flows fate by where the first of them" in words
    assert "do not visitors-in rule 20 canopy 10.40.32.10 > 10.40.16.1 tcp/443" in words
    pandas = pytest.importorskip("pandas")
    frame = pandas.read_parquet(out)
    assert len(frame) == 474
    assert set(frame["service"]) == {"tcp/443", "ping"}
    csv = CliRunner().invoke(main, ["flows", str(DATA / "fernhollow.yaml"), str(file), "--format", "csv"]).output
    assert csv.splitlines()[0] == ",".join(frame.columns)
    assert len(csv.splitlines()) == 475
    plan = Plan(mc.load(DATA / "fernhollow.yaml"))
    given = pandas.DataFrame(
        {"source": ["10.40.32.10", "10.9.9.9"], "destination": ["10.40.48.20"] * 2, "service": ["ticketing", "https"]}
    )
    found = flow_frame(plan, given)
    assert list(found["passes"]) == [True, False]
    assert list(found["permitted-by"]) == ["visitors-in rule 10; herbarium-in rule 20", ""]
    assert list(found["because"])[1] == "nobody here has 10.9.9.9"
    with pytest.raises(mc.InputError, match="lacks the columns service"):
        flow_frame(plan, given.drop(columns="service"))
    with pytest.raises(mc.InputError, match="row 0"):
        flow_frame(plan, given.assign(service="nonsense"))


def test_what_is_too_large_is_refused_and_not_read_in_part(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from mossy_compass.cli import observed as command
    from mossy_compass.exchange import captures

    monkeypatch.setattr(command, "MOST_BYTES", 50)
    monkeypatch.setattr(captures, "MOST_BYTES", 50)
    table, capture = tmp_path / "asked.csv", tmp_path / "day.pcapng"
    table.write_text("source,destination,service\n10.40.32.10,10.40.48.20,https\n")
    said = CliRunner().invoke(main, ["flows", str(DATA / "fernhollow.yaml"), str(table)])
    assert "at most 50 are read" in str(said.exception)
    capture.write_bytes(b"\x0a\x0d\x0d\x0a" + bytes(100))
    said = CliRunner().invoke(main, ["flows", str(DATA / "fernhollow.yaml"), str(capture)])
    assert "not read at once" in str(said.exception)
