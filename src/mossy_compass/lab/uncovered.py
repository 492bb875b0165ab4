"""What differs between two versions, was not worked out exactly, and is noticed by no test: an answer of "nothing" would be a lie.

Lists, places and routes are compared exactly (``proof/effects.py``). Translation rules, policy routes and the settings of a device
are felt by packets alone; where no test that ends otherwise passes the device, nobody knows what the difference does.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from mossy_compass.lab.differences import unlike
from mossy_compass.plan.actions import Consult, Half
from mossy_compass.plan.device import DevicePlan
from mossy_compass.plan.ids import POLICY_ROUTES
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.rows import Row
from mossy_compass.plan.table import Table
from mossy_compass.walk.grid import Changes

_FELT = ("settings", "stateful", "order", "built-in", "offers", "serves", "resolvers")
"""Keys of a device that packets feel, and that no table of rows is compared for."""


def uncovered(before: Plan, after: Plan, found: Changes | None) -> tuple[str, ...]:
    """The places of a file whose difference was not worked out, and that no test notices.

    Args:
        before, after: the versions.
        found: how tests differ; None where there was nothing to test.

    """
    tested = _passed(found) if found is not None else set()
    names = [n for n in after.network.devices if n in before.network.devices and n not in tested]
    places = [place for n in names for place in _unlike_tables(before.device(n), after.device(n))]
    for one in unlike(before.network, after.network):
        section, _, rest = one.place.partition("/")
        name, _, key = rest.partition("/")
        if section == "devices" and name in names and key.partition("/")[0] in _FELT:
            places.append(one.place)
    return tuple(dict.fromkeys(places))


def _passed(found: Changes) -> set[str]:
    """The devices that some test passes which ends otherwise, or that one version has alone."""
    pairs = (cell for pair in (*found.changed, *found.rerouted) for cell in pair)
    return {device for cell in (*pairs, *found.come, *found.gone) for device in cell.path}


def _unlike_tables(before: DevicePlan, after: DevicePlan) -> Iterator[str]:
    """The tables of translation and of policy routes that say otherwise; groups that they name are looked into."""
    if not (before.device.layer3 and after.device.layer3):
        return
    for half in Half:
        was, now = _said(before.translations[half]), _said(after.translations[half])
        if was != now:
            apart = {row[0] for row in set(was) ^ set(now)}
            switches = {t.id: t.switch for d in (before.device, after.device) for t in d.translate if t.switch is not None}
            if apart and apart <= set(switches):  # a switch is written at its rule
                yield from sorted(f"lists/{switches[id][0]}/rules/{switches[id][1]}" for id in apart)
            else:
                yield f"devices/{after.name}/translate"
    one, other = (here.tables().get(POLICY_ROUTES) for here in (before, after))
    if _said(one) != _said(other):
        yield f"devices/{after.name}/policy-routes"


def _said(table: Table | None) -> tuple[Any, ...]:
    """What a table's rows are about and do, without their words."""
    return tuple((r.id, _meant(r), tuple(_done(r.actions)), r.disabled) for r in table.rows) if table is not None else ()


def _meant(row: Row) -> tuple[Any, ...]:
    """What a row is about: the sets of its conditions, whatever their members are called."""
    return tuple((c.key, c.parts) for c in row.conditions)


def _done(actions: Iterable[Any]) -> Iterator[Any]:
    """Actions as values: a list that is asked by what its rules say."""
    for action in actions:
        if isinstance(action, Consult) and isinstance(action.table, Table):
            yield tuple((r.verdict, _meant(r), r.disabled) for r in action.table.rows)
        else:
            yield action
