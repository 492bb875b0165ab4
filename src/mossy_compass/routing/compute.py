"""All route tables of a network, computed when they are first asked for."""

from __future__ import annotations

from mossy_compass.model.network import Network
from mossy_compass.routing import local
from mossy_compass.routing.domains import Domains
from mossy_compass.routing.table import RouteTable


class Routing:
    """Forwarding knowledge of a whole network.

    Attributes:
        domains: who hears whom.

    """

    def __init__(self, network: Network) -> None:
        self.network = network
        self.domains = Domains(network)
        self._tables: dict[str, RouteTable] = {}

    def table(self, device: str) -> RouteTable:
        """The main table of a device."""
        if device not in self._tables:
            table = RouteTable()
            entry = self.network.devices[device]
            local.connected(entry, self.domains, table)
            local.static(entry, self.domains, table)
            self._tables[device] = table
        return self._tables[device]
