from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import settings

import mossy_compass as mc

# Local runs explore; a run that gates others is repeatable. No deadline: machines differ, and tests are not timed.
settings.register_profile("explore", deadline=None)
settings.register_profile("repeatable", deadline=None, derandomize=True)
settings.load_profile("repeatable" if os.environ.get("CI") else "explore")

DATA = Path(mc.__file__).parent / "data"


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
