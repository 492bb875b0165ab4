"""Words of the trade that are no keys here, each with the key that says it, or how it is said.

People who come from other tools type what they know. The nearest name by its letters helps against slips of the pen; against a
word that is right elsewhere only its meaning does.
"""

from __future__ import annotations

from collections.abc import Iterable

KEYS: dict[str, tuple[str, ...]] = {
    "acl": ("lists",),
    "acls": ("lists",),
    "access-list": ("lists", "filter"),
    "access-lists": ("lists", "filter"),
    "filters": ("filter", "lists"),
    "in": ("arriving",),
    "inbound": ("arriving",),
    "ingress": ("arriving",),
    "out": ("leaving",),
    "outbound": ("leaving",),
    "egress": ("leaving",),
    "interface": ("leaving", "interfaces", "arriving"),
    "port": ("interfaces", "to-port", "service"),
    "nat": ("translate",),
    "snat": ("translate", "becomes"),
    "dnat": ("translate", "goes-to"),
    "port-forward": ("translate", "goes-to"),
    "gw": ("gateway", "next-hop"),
    "gateway": ("next-hop",),
    "default-gateway": ("gateway", "routes"),
    "via": ("next-hop",),
    "nexthop": ("next-hop",),
    "dev": ("leaving",),
    "distance": ("preference",),
    "admin-distance": ("preference",),
    "administrative-distance": ("preference",),
    "priority": ("preference",),
    "cost": ("metric",),
    "destination": ("to", "prefix"),
    "dest": ("to", "prefix"),
    "dst": ("to", "prefix"),
    "to": ("prefix", "goes-to"),
    "version": ("mossy-network",),
    "format": ("mossy-network",),
    "network": ("prefix", "address"),
    "subnet": ("prefix", "address"),
    "source": ("from",),
    "src": ("from",),
    "from": ("source",),
    "sport": ("from-port",),
    "source-port": ("from-port",),
    "dport": ("to-port", "service"),
    "destination-port": ("to-port", "service"),
    "services": ("service", "serves"),
    "listens": ("serves",),
    "allow": ("permit",),
    "accept": ("permit",),
    "pass": ("permit",),
    "drop": ("deny",),
    "block": ("deny",),
    "refuse": ("reject",),
    "description": ("about",),
    "desc": ("about",),
    "comment": ("about",),
    "remark": ("about",),
    "note": ("about",),
    "ip": ("address",),
    "ipv4": ("address",),
    "ipv6": ("address",),
    "addr": ("address",),
    "addresses": ("address",),
    "vlans": ("tagged",),
    "vlan": ("untagged", "vlan"),
    "access-vlan": ("untagged",),
    "native-vlan": ("untagged",),
    "trunk": ("tagged",),
    "allowed-vlans": ("tagged",),
    "dns": ("resolvers", "names"),
    "nameserver": ("resolvers",),
    "nameservers": ("resolvers",),
    "dhcp": ("leased", "leases"),
    "dhcp-pool": ("leases",),
    "links": ("segments",),
    "cables": ("segments",),
    "hosts": ("devices",),
    "routers": ("devices",),
    "nodes": ("devices",),
    "objects": ("groups",),
    "time": ("hours",),
    "schedule": ("hours",),
    "schedules": ("hours",),
    "static-routes": ("routes",),
    "route": ("routes",),
    "pbr": ("policy-routes",),
    "zones": ("crossings", "zone"),
    "policies": ("crossings", "lists"),
    "inspect": ("stateful",),
    "inspection": ("stateful",),
    "type": ("kind", "icmp"),
    "status": ("state",),
    "enabled": ("disabled", "state"),
    "shutdown": ("state",),
    "action": ("permit",),
}
"""Keys as other people write them, with ours in the order in which they are offered."""
SAID: dict[str, str] = {
    "netmask": "The length stands behind the address: 10.40.1.1/24.",
    "mask": "The length stands behind the address: 10.40.1.1/24.",
    "prefix-length": "The length stands behind the address: 10.40.1.1/24.",
    "hostname": "The key above it is the name.",
    "name": "The key above it is the name.",
    "vlan": "A VLAN is a port's: interfaces: {PORT: {untagged: 10}}, or {vlan: 10, address: ...} for the VLAN's own address.",
    "protocol": "The protocol stands behind the verdict: permit: tcp.",
    "proto": "The protocol stands behind the verdict: permit: tcp.",
    "seq": "Its number is its id.",
    "sequence": "Its number is its id.",
    "number": "Its number is its id.",
}
"""What has no key of its own here: how it is said."""
VALUES: dict[str, str] = {
    "server": "host",
    "pc": "host",
    "client": "host",
    "workstation": "host",
    "laptop": "host",
    "fw": "firewall",
    "l3-switch": "router",
    "l2-switch": "switch",
    "bridge": "switch",
    "cloud": "internet",
    "isp": "internet",
    "provider": "internet",
    "wan": "internet",
    "blackhole": "discard",
    "null": "discard",
    "accept": "permit",
    "allow": "permit",
    "drop": "deny",
    "block": "deny",
    "shutdown": "disabled",
    "down": "disabled",
    "enabled": "up",
}
"""Values likewise."""


def key_for(word: str, known: Iterable[str]) -> str:
    """How a part says what another tool's key says, as a sentence; empty where this table does not know.

    Args:
        word: the key as it is written.
        known: the keys of the part.

    """
    plain, keys = word.lower().replace("_", "-"), set(known)
    ours = next((k for k in KEYS.get(plain, ()) if k in keys), "")
    if ours and ours != word:
        return f"Here it is called {ours}."
    return SAID.get(plain, "")


def value_for(word: str, known: Iterable[str]) -> str:
    """Likewise of a value."""
    ours = VALUES.get(word.lower(), "")
    return f"Here it is called {ours}." if ours in set(known) else ""
