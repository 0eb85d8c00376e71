"""The fault suite: what is tried against the program on purpose. Each test tells its numbers, printed at the end."""

from __future__ import annotations

from collections.abc import Callable

import pytest


@pytest.fixture
def told(record_property: Callable[[str, object], None], request: pytest.FixtureRequest) -> Callable[[str], None]:
    """Takes a sentence with numbers for the end of the run."""
    return lambda sentence: record_property("faults", sentence)
