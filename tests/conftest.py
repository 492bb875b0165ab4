from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import settings

import mossy_compass as mc
from tests import reasons
from tests.effort import VARIABLE, at_length

# Local runs explore; a run that gates others is repeatable. No deadline: machines differ, and tests are not timed.
settings.register_profile("explore", deadline=None)
settings.register_profile("repeatable", deadline=None, derandomize=True)
settings.load_profile("repeatable" if os.environ.get("CI") else "explore")

DATA = Path(mc.__file__).parent / "data"

reasons.watch()


def pytest_configure(config: pytest.Config) -> None:
    if config.option.markexpr == "slow":
        os.environ[VARIABLE] = "yes"


@pytest.hookimpl(tryfirst=True)  # before tests are chosen by their marks
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        if at_length() and item.get_closest_marker("scaled"):
            item.add_marker("slow")


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--rewrite-golden", action="store_true", help="write the golden files anew; read the diff")


@pytest.fixture(scope="session")
def demo_text() -> bytes:
    return (DATA / "fernhollow.yaml").read_bytes()


@pytest.fixture(scope="session")
def demo(demo_text: bytes) -> mc.Plan:
    reading = mc.read_bytes(demo_text, "fernhollow.yaml")
    assert reading.network is not None
    return mc.Plan(reading.network)
