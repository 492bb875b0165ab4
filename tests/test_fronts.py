"""Addresses that are sent on to somebody inside: what the world knows is tested wherever tests are made without being named."""

from __future__ import annotations

from pathlib import Path

import pytest

import mossy_compass as mc
from mossy_compass.files.drills import drill_of
from mossy_compass.lab.drill import run_drill
from mossy_compass.lab.expect import every_flow
from mossy_compass.walk.grid import fronts_of
from tests.test_cli import mossy

SHOP = """\
mossy-network: 1
local: [10.41.0.0/16]
devices:
  gate:
    kind: firewall
    interfaces:
      out: {address: 198.51.100.2/24, zone: world, outside: yes}
      in: {address: 10.41.1.1/24, zone: house}
    routes: [{prefix: default, next-hop: 198.51.100.1}]
    settings: {translation-opens: yes}
    translate:
      - {id: web, arriving: world, to: self, service: https, goes-to: 10.41.1.20}
      - {id: away, leaving: world, becomes: interface}
  shop: {kind: host, address: 10.41.1.20/24, gateway: 10.41.1.1, serves: [https, ssh]}
  desk: {kind: host, address: 10.41.1.10/24, gateway: 10.41.1.1}
  isp: {kind: router, interfaces: {a: 198.51.100.1/24, b: 203.0.113.1/24}}
  ann: {kind: host, address: 203.0.113.9/24, gateway: 203.0.113.1}
segments: {x: [gate/out, isp/a], y: [gate/in, shop, desk], z: [isp/b, ann]}
"""
WEB = "      - {id: web, arriving: world, to: self, service: https, goes-to: 10.41.1.20}\n"


def network_of(text: str) -> mc.Network:
    network = mc.read_bytes(text.encode(), "shop.yaml").network
    assert network is not None
    return network


@pytest.mark.parametrize(
    ("rule", "found"),
    [
        ("to: self, service: https", {"198.51.100.2": ["tcp/443"]}),
        ("to: 198.51.100.9, service: [https, udp/5000-5010]", {"198.51.100.9": ["tcp/443", "udp/5000"]}),
        ("to: 198.51.100.9", {"198.51.100.9": ["ping"]}),
        ("to: 198.51.100.16/28, service: https", {"198.51.100.17": ["tcp/443"]}),
        ("to: any, service: https", {}),
        ("to: 0.0.0.0/0, service: https", {}),
        ("to: self, service: https, disabled: yes", {}),
    ],
)
def test_which_addresses_are_sent_on(rule: str, found: dict[str, list[str]]) -> None:
    assert fronts_of(network_of(SHOP.replace("to: self, service: https", rule))) == found


def test_a_grid_asks_the_public_address_too() -> None:
    flows = [str(f) for f in every_flow(network_of(SHOP))]
    assert "ann to 198.51.100.2, tcp/443" in flows
    assert "ann to 198.51.100.2, ping" in flows


@pytest.mark.parametrize("command", ["change", "compare"])
def test_the_only_public_service_does_not_close_or_open_unseen(tmp_path: Path, command: str) -> None:
    for name, text in (("shop.yaml", SHOP), ("shut.yaml", SHOP.replace(WEB, ""))):
        (tmp_path / name).write_text(text)
    (tmp_path / "shut.change.yaml").write_text("mossy-change: 1\nchanges:\n  - remove: devices/gate/translate/web\n")
    if command == "compare":
        said = (mossy(tmp_path, "compare", "shop.yaml", "shut.yaml"), mossy(tmp_path, "compare", "shut.yaml", "shop.yaml"))
        assert "1 closes" in said[0].stdout.splitlines()[0]
        assert "1 opens" in said[1].stdout.splitlines()[0]
        assert "ann → 198.51.100.2 tcp/443" in said[0].stdout
        return
    assert "1 closes" in mossy(tmp_path, "change", "shop.yaml", "shut.change.yaml").stdout.splitlines()[0]


def test_a_host_that_another_answers_for_is_not_reached(tmp_path: Path) -> None:
    """Whoever names the firewall means the firewall; whoever names its address means whatever answers there."""
    (tmp_path / "shop.yaml").write_text(SHOP)

    def held(words: str) -> bool:
        text = f"mossy-drill: 1\nnetwork: shop.yaml\nsteps: [{{expect: {words}}}]\n"
        return run_drill(drill_of(text.encode(), "x.drill.yaml", tmp_path)).ok

    assert held("ann reaches 198.51.100.2 for https")
    assert not held("ann reaches gate/out for https")
    assert not held("ann never reaches 198.51.100.2")  # for a ping it holds; what is sent on belongs to it
    assert held("ann never reaches 198.51.100.2 for ssh")
