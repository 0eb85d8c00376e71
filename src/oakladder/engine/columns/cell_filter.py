"""What a line of the filter row asks of the cells of a column."""

from __future__ import annotations

import re
from collections.abc import Callable

import numpy as np

from oakladder.engine.columns.cells import Cell

_COMPARISON = re.compile(r"(>=|<=|>|<|=)\s*(-?[0-9]*\.?[0-9]+)\s*(%?)")


Test = Callable[[Cell | None], bool]


def filter_of(text: str) -> Test:
    """What a line of the filter row asks of a cell.

    ``true``, ``not true``, ``fired`` (true on the last bar, not long before it), comparisons such as ``>= 5``;
    anything else is looked for in the text. An unreadable cell fits nothing.
    """
    words = text.strip().lower()
    if not words:
        return lambda cell: True
    if words in ("true", "is true", "yes"):
        return lambda cell: cell is not None and cell.holds is True
    if words in ("not true", "not", "no"):
        return lambda cell: cell is not None and cell.holds is False
    if words in ("fired", "fired today", "new"):
        return lambda cell: cell is not None and cell.age == 0
    found = _COMPARISON.fullmatch(words.replace("≥", ">=").replace("≤", "<="))
    if found is not None:
        relation, number = found[1], float(found[2]) / (100 if found[3] else 1)
        return lambda cell: cell is not None and _compares(cell.order, relation, number)
    return lambda cell: cell is not None and words in cell.text.lower()


def _compares(value: float, relation: str, number: float) -> bool:
    if value != value:
        return False
    return {
        ">=": value >= number,
        "<=": value <= number,
        ">": value > number,
        "<": value < number,
        "=": bool(np.isclose(value, number)),
    }[relation]


def at_least(text: str) -> int | None:
    """How many timeframes of a group must agree, for ``3 of`` or ``on at least 3``; None for any other text."""
    found = re.fullmatch(r"(?:on )?(?:at least )?(\d+)(?: of(?: these)?| timeframes)?", text.strip().lower())
    plain = found is not None and not text.strip().isdigit()
    return int(found[1]) if found is not None and plain else None
