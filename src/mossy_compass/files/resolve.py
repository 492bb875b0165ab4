"""A document of the right shape into the model of the whole network."""

from __future__ import annotations

from mossy_compass.files.devices import Devices
from mossy_compass.files.names import BUILT_IN_GROUPS
from mossy_compass.model.network import AccessList, Network, ServiceGroup
from mossy_compass.packet.service import BUILT_IN_SERVICES


class Resolver(Devices):
    """Turns a document of the right shape into the model."""

    def network(self) -> Network:
        doc = self.doc
        groups = {n: self.group(n) for n in doc.groups}
        services = {
            n: ServiceGroup(n, self.services(s.members, ("services", n, "members")), self.mark("services", n), s.about)
            for n, s in doc.services.items()
        }
        for name in doc.services:
            if name in BUILT_IN_SERVICES:
                self.problems.add(
                    "service.built-in",
                    self.mark("services", name),
                    f"'{name}' is the name of a well-known service ({', '.join(map(str, BUILT_IN_SERVICES[name]))}); here it would mean something else.",
                    "Choose another name.",
                )
        for name in doc.groups:
            if name in BUILT_IN_GROUPS:
                self.problems.add(
                    "group.built-in", self.mark("groups", name), f"'{name}' is a built-in group.", "Choose another name."
                )
            for section, things in (("devices", doc.devices), ("names", doc.names)):
                if name in things:
                    self.problems.add(
                        "name.twice",
                        self.mark("groups", name),
                        f"'{name}' is also one of the {section}; a rule that says it would be read two ways.",
                        "Choose another name.",
                        also=((self.mark(section, name), "the other one"),),
                    )
        lists = {n: AccessList(n, tuple(self.rules(n)), self.mark("lists", n), entry.about) for n, entry in doc.lists.items()}
        devices = {n: self.device(n, d) for n, d in doc.devices.items()}
        segments = self.segments(devices)
        return Network(
            doc.title,
            self.tree.mark,
            devices,
            segments,
            lists,
            groups,
            services,
            {n: tuple(a) for n, a in doc.names.items()},
            self.local,
            doc.about,
        )
