"""How much a law is tried: a little by default, so that a run is over in minutes, and at length under ``-m slow``."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import Any, TypeVar

import pytest
from hypothesis import settings

F = TypeVar("F", bound=Callable[..., Any])
VARIABLE = "MOSSY_LONG_TESTS"
"""Set by ``conftest.py`` where ``-m slow`` is asked for, so that worker processes know it too."""


def at_length() -> bool:
    """Whether laws are tried at length."""
    return bool(os.environ.get(VARIABLE))


def examples(short: int, long: int, **more: Any) -> Callable[[F], F]:
    """So many examples of a law; the test then is one of the slow ones as well, with two thirds of the long number: CI has its minutes."""

    def decorate(test: F) -> F:
        made: F = pytest.mark.scaled(
            settings(max_examples=max(short, long * 2 // 3) if at_length() else short, deadline=None, **more)(test)
        )
        return made

    return decorate


def seeds(first: int, short: int, long: int) -> list[Any]:
    """Seeds of one test: a few by default, and all of them among the slow ones."""
    return [pytest.param(first + n, marks=() if n < short else pytest.mark.slow) for n in range(long)]
