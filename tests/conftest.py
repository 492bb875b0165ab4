from __future__ import annotations

from pathlib import Path

import pytest

import mossy_compass as mc

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
