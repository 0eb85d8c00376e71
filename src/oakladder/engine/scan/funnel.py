"""What each condition of a scan lets through: alone, and after those before it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from oakladder.engine.scan.condition_flags import joined
from oakladder.engine.scan.conditions import Condition, Group, Join


@dataclass(frozen=True, slots=True)
class Stage:
    """How many symbols one condition holds for, and how many are left with it and those before it."""

    alone: int
    after: int


def parts_of(condition: Condition) -> tuple[Join, tuple[Condition, ...]]:
    """The conditions that stand one below the other in a scan, and how they go together."""
    if isinstance(condition, Group):
        return condition.how, condition.parts
    return Join.ALL, (condition,)


def stages_of(how: Join, held: Sequence[np.ndarray]) -> list[Stage]:
    """The stages of some symbols, from whether each condition holds for each of them now. Each: shape (symbols,), bool."""
    return [
        Stage(int(np.count_nonzero(one)), int(np.count_nonzero(joined(how, held[: k + 1]))))
        for k, one in enumerate(held)
    ]


def summed(parts: Sequence[Sequence[Stage]]) -> tuple[Stage, ...]:
    """The stages of all symbols from those of parts of them."""
    return tuple(
        Stage(sum(s.alone for s in of), sum(s.after for s in of)) for of in zip(*(p for p in parts if p), strict=True)
    )
