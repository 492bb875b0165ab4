"""Tests done twice, the second time on the devices that the first time compiled: what stays they keep must change nothing.

It is a plug-in: ``pytest -p tests.twice tests/test_sessions.py`` fails where a kept stay says anything else than a new one.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from contextlib import contextmanager

import pytest

import mossy_compass as mc
from mossy_compass.plan.room import Room

ONCE = {"tmp_path", "tmp_path_factory", "capsys", "monkeypatch"}
"""What a test that asks for these leaves behind may be in the way of itself."""


@contextmanager
def reusing(plans: dict[int, mc.Plan]) -> Iterator[None]:
    """Each plan has the devices, with all that they keep, of the one that was made at the same time before, where the network is the same.

    Args:
        plans: that were made before, by their turns; those of now are added.

    """
    made = itertools.count()
    begun = mc.Plan.__init__

    def again(self: mc.Plan, network: mc.Network, earlier: mc.Plan | None = None, near: mc.Plan | None = None) -> None:
        begun(self, network, earlier, near)
        before = plans.setdefault(next(made), self)
        if before is self:
            self.stays = Room()
            self.stays.eager = True
            self._devices = {}
        elif before.network == self.network:
            self.stays, self._devices = before.stays, before._devices

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(mc.Plan, "__init__", again)
        yield


@pytest.hookimpl(tryfirst=True)
def pytest_pyfunc_call(pyfuncitem: pytest.Function) -> bool | None:
    """Call a test twice."""
    names = pyfuncitem._fixtureinfo.argnames
    if ONCE & set(names):
        return None
    plans: dict[int, mc.Plan] = {}
    for _ in range(2):
        with reusing(plans):
            pyfuncitem.obj(**{name: pyfuncitem.funcargs[name] for name in names})
    return True
