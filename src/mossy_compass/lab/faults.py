"""What can fail in a network, and the network that is left.

A fault is a value: a kind and a name. A network with faults is a network like any other, so that nothing else needs to know of
them; taking the fault away gives the first network again, the very same.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, NamedTuple, TypeVar

from mossy_compass.errors import QuestionError
from mossy_compass.marks import hint
from mossy_compass.model.network import Device, Kind, Network, PortState

T = TypeVar("T")


class Fault(NamedTuple):
    """Something that fails.

    Attributes:
        kind: link, interface, device, host, service, name or lease; or quality, which fails only in part.
        name: of it; ``DEVICE/INTERFACE``, ``HOST/SERVICE`` where it belongs to something, ``SEGMENT/latency 80 ms`` of a quality.

    """

    kind: str
    name: str

    @property
    def segment(self) -> str:
        """Of a quality: whose it is."""
        return self.name.partition("/")[0]

    def __str__(self) -> str:
        return f"{self.kind} {self.name.replace('/', ' ', 1) if self.kind == QUALITY else self.name}"


QUALITY = "quality"
"""The kind of what goes on working, and worse."""
_MEASURES = {"latency": "latency_ms", "jitter": "jitter_ms", "loss": "loss_percent"}
"""What a cable's quality is told by, and the attribute of its segment that has it."""


def _links(network: Network) -> Iterator[str]:
    """Segments: cables, and whatever is bridged."""
    yield from network.segments


def _interfaces(network: Network) -> Iterator[str]:
    """Interfaces, loopbacks too."""
    yield from (f"{d.name}/{i}" for d in network.devices.values() for i in d.interfaces)


def _devices(network: Network) -> Iterator[str]:
    """Routers, firewalls, switches, stand-ins for the Internet."""
    yield from (d.name for d in network.devices.values() if d.kind is not Kind.HOST)


def _hosts(network: Network) -> Iterator[str]:
    """Hosts, far ones too."""
    for device in network.devices.values():
        if device.kind is Kind.HOST:
            yield device.name
        yield from device.far_hosts


def _services(network: Network) -> Iterator[str]:
    """What somebody listens for."""
    for device in network.devices.values():
        yield from dict.fromkeys(f"{device.name}/{s.words}" for s in device.serves)
        for far in device.far_hosts.values():
            yield from dict.fromkeys(f"{far.name}/{s.words}" for s in far.serves)


def _names(network: Network) -> Iterator[str]:
    """Host names that somebody knows the address of."""
    yield from dict.fromkeys([*network.names, *(n for d in network.devices.values() for n in d.records or {})])


def _leases(network: Network) -> Iterator[str]:
    """Address-lease services."""
    yield from (f"{d.name}/{p.interface}" for d in network.devices.values() for p in d.leases)


_SECTIONS = {
    "devices": ("device", "host", "interface", "service", "lease"),
    "segments": ("link", QUALITY),
    "names": ("name",),
    "hosts": ("host", "service"),
    "interfaces": ("interface", "lease"),
    "records": ("name",),
}
"""The kinds of faults whose names are those of a section of the file, or begin with them."""


def together(faults: Iterable[Fault]) -> str:
    """Faults that come together, in words: as ``link fibre and device gate``."""
    return " and ".join(map(str, faults))


def called(fault: Fault, what: str, name: str) -> Fault:
    """A fault after something was given another name.

    Args:
        fault: as it was named before.
        what: where the renamed thing stood in the file: ``devices/gate``, ``devices/gate/interfaces/fibre``, ``segments/office``.
        name: its new name.

    """
    *path, old = what.split("/")
    section = path[-1] if path else ""
    if fault.kind not in _SECTIONS.get(section, ()):
        return fault
    if section == "interfaces":
        return fault._replace(name=f"{path[1]}/{name}") if fault.name == f"{path[1]}/{old}" else fault
    head, slash, rest = fault.name.partition("/")
    return fault._replace(name=f"{name}{slash}{rest}") if head == old else fault


KNOWN: dict[str, Callable[[Network], Iterator[str]]] = {
    "link": _links,
    "interface": _interfaces,
    "device": _devices,
    "host": _hosts,
    "service": _services,
    "name": _names,
    "lease": _leases,
}
"""What there is of each kind, by its name."""


def parse(network: Network, text: str) -> Fault:
    """Read ``link fibre``, ``interface gate/fibre``, ``service ledger/ticketing``; a name alone will do where it means one thing.

    Raises:
        QuestionError: there is no such thing, or several of that name.

    """
    words = text.split()
    if words and words[0] == QUALITY:
        return _quality(network, words)
    if len(words) == 1:
        found = [Fault(kind, words[0]) for kind, known in KNOWN.items() if words[0] in set(known(network))]
        if len(found) == 1:
            return found[0]
        if found:
            raise QuestionError(f"'{text}' may be {' or '.join(map(str, found))}. Say which.")
        every = [n for known in KNOWN.values() for n in known(network)]
        raise QuestionError(f"there is nothing called '{text}' that could fail. {hint(text, every, 'names')}")
    if len(words) != 2 or words[0] not in KNOWN:
        raise QuestionError(
            f"'{text}' is nothing that fails. Write {', '.join(KNOWN)}, and a name, like link fibre; or quality fibre latency 80 ms."
        )
    kind, name = words
    known_names = list(KNOWN[kind](network))
    if name not in known_names:
        raise QuestionError(f"there is no {kind} '{name}'. {hint(name, known_names, f'{kind}s')}")
    return Fault(kind, name)


def _quality(network: Network, words: Sequence[str]) -> Fault:
    """A cable that is worse than it is written, like ``quality fibre latency 80 ms loss 2 %``.

    Raises:
        QuestionError: there is no such cable, or it is not said how it is.

    """
    name = words[1] if len(words) > 1 else ""
    if name not in network.segments:
        raise QuestionError(f"there is no link '{name}'. {hint(name, network.segments, 'links')}")
    found: dict[str, float] = {}
    rest = list(words[2:])
    while rest:
        what, said, rest = rest[0], [w for w in rest[1:3] if w not in _MEASURES], rest[1:]
        rest = rest[len(said) :]
        value = _number("".join(said), "%" if what == "loss" else "ms") if what in _MEASURES else None
        if value is None or (what == "loss" and value > 100):
            raise QuestionError(
                f"'{' '.join(words)}': {what} {' '.join(said)} is no quality. Write latency 80 ms, jitter 5 ms or loss 2 %."
            )
        found[what] = value
    if not found:
        raise QuestionError(
            f"'{' '.join(words)}' does not say how it is. Write quality {name} latency 80 ms, with jitter 5 ms or loss 2 %."
        )
    told = ", ".join(f"{what} {found[what]:g} {'%' if what == 'loss' else 'ms'}" for what in _MEASURES if what in found)
    return Fault(QUALITY, f"{name}/{told}")


def _number(text: str, unit: str) -> float | None:
    """A number that is not negative, with its unit; None where it is none."""
    try:
        value = float(text.removesuffix(unit))
    except ValueError:
        return None
    return value if text.endswith(unit) and 0 <= value < math.inf else None


def meant(network: Network, text: str, faults: Iterable[Fault]) -> Fault:
    """What shall work again: as for ``parse``, and of a quality the cable alone will do.

    Raises:
        QuestionError: there is no such thing, or several of that name.

    """
    words = text.split()
    if len(words) != 2 or words[0] != QUALITY or words[1] not in network.segments:
        return parse(network, text)
    return next((f for f in faults if (f.kind, f.segment) == (QUALITY, words[1])), Fault(QUALITY, words[1]))


def there(network: Network, fault: Fault) -> bool:
    """Whether what a fault is about is in a network."""
    if fault.kind == QUALITY:
        return fault.segment in network.segments
    return fault.name in set(KNOWN[fault.kind](network))


def apply(network: Network, faults: Iterable[Fault]) -> Network:
    """A network in which some things have failed; the network itself where none has."""
    for fault in sorted(set(faults)):
        network = _APPLY[fault.kind](network, fault.name)
    return network


def _with_device(network: Network, device: Device) -> Network:
    """A network with another version of a device."""
    return replace(network, devices={**network.devices, device.name: device})


def _down(device: Device, ports: Iterable[str]) -> Device:
    """A device some of whose interfaces are disabled."""
    off = set(ports)
    held = {n: replace(i, state=PortState.DISABLED) if n in off else i for n, i in device.interfaces.items()}
    return replace(device, interfaces=held)


def _cut_link(network: Network, name: str) -> Network:
    """A segment that nobody is heard on."""
    return replace(network, segments={**network.segments, name: replace(network.segments[name], down=True)})


def _cut_interface(network: Network, name: str) -> Network:
    """An interface that is off."""
    device, _, port = name.partition("/")
    return _with_device(network, _down(network.devices[device], [port]))


def _cut_device(network: Network, name: str) -> Network:
    """A device that is off: none of its interfaces is up."""
    device = network.devices[name]
    return _with_device(network, _down(device, device.interfaces))


def _cut_host(network: Network, name: str) -> Network:
    """A host that is off: it sends nothing, and answers nothing."""
    if name in network.devices:
        return _cut_device(network, name)
    found = network.far_host(name)
    assert found is not None
    device, far = found
    return _with_device(network, replace(device, far_hosts={**device.far_hosts, name: replace(far, off=True)}))


def _cut_service(network: Network, name: str) -> Network:
    """A service that nobody listens for any more."""
    host, _, word = name.partition("/")
    if host in network.devices:
        device = network.devices[host]
        return _with_device(network, replace(device, serves=tuple(s for s in device.serves if s.words != word)))
    found = network.far_host(host)
    assert found is not None
    device, far = found
    left = replace(far, serves=tuple(s for s in far.serves if s.words != word))
    return _with_device(network, replace(device, far_hosts={**device.far_hosts, host: left}))


def _cut_name(network: Network, name: str) -> Network:
    """A name that stands for nothing any more: whoever asks is told that there is no such record."""
    devices = {
        n: replace(d, records=_without(d.records, name)) if d.records and name in d.records else d
        for n, d in network.devices.items()
    }
    return replace(network, names={**network.names, name: ()}, devices=devices)


def _cut_lease(network: Network, name: str) -> Network:
    """An address-lease service that gives nothing any more."""
    device, _, port = name.partition("/")
    found = network.devices[device]
    return _with_device(network, replace(found, leases=tuple(p for p in found.leases if p.interface != port)))


def _without(held: Mapping[str, T], name: str) -> dict[str, T]:
    """A mapping without one of its keys."""
    return {n: v for n, v in held.items() if n != name}


def _worse(network: Network, name: str) -> Network:
    """A cable that is worse than it is written."""
    segment, _, told = name.partition("/")
    values: dict[str, Any] = {_MEASURES[w[0]]: float(w[1]) for w in (part.split() for part in told.split(", "))}
    held = network.segments[segment]
    return replace(network, segments={**network.segments, segment: replace(held, link=replace(held.link, **values))})


_APPLY: dict[str, Callable[[Network, str], Network]] = {
    "link": _cut_link,
    "interface": _cut_interface,
    "device": _cut_device,
    "host": _cut_host,
    "service": _cut_service,
    "name": _cut_name,
    "lease": _cut_lease,
    QUALITY: _worse,
}
