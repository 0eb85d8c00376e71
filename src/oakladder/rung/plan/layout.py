"""The state row of a symbol before its first bar, as the runners read it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from oakladder.rung.plan.liveness import Live
from oakladder.rung.plan.ops import Op, Plan
from oakladder.rung.plan.sizes import sizes_of
from oakladder.rung.plan.state import StateMap


@dataclass(frozen=True, slots=True)
class StateLayout:
    """The state row before the first bar, the table of buffer offsets and sizes, and about how many operations a bar
    costs."""

    template: np.ndarray
    table: np.ndarray
    cost: float = 1.0


def lay_out(plan: Plan, live: Live, state: StateMap, fixed: Mapping[Op, object]) -> StateLayout:
    """Lays the state out for the given fixed values. Raises `RunProblem` where they make no sense together."""
    sizes = sizes_of(plan, live, state, fixed)
    template = np.full(sizes.cells, np.nan)
    template[: len(state.starts)] = state.starts
    for cells in state.cells:
        first, size = sizes.table[state.cells_row(cells) :][:2]
        template[first : first + size] = 0.0
    for fold in state.folds:
        template[state.place(("phase", fold))] = sizes.table[state.fold_row(fold) + 1] - 1
    return StateLayout(template, np.array(sizes.table or [0], dtype=np.int64), sizes.cost)
