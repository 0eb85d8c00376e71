"""Runs code of our own over rows of numbers: several runs of rows, each with a state of its own."""

from __future__ import annotations

import ctypes
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from oakladder.engine.prepare import pointers
from oakladder.rung.native import compile as native
from oakladder.rung.native.variant import Variant, fixed_array, make_variant
from oakladder.rung.plan.fixed import evaluate_fixed
from oakladder.rung.plan.inputs import BarColumn, FineColumn, Input
from oakladder.rung.plan.layout import StateLayout, lay_out
from oakladder.rung.plan.ops import Op, Plan
from oakladder.rung.plan.part import part_of
from oakladder.rung.reference import Runner

#: So many layouts of a code are remembered.
_MOST_LAID = 8


@dataclass(frozen=True, slots=True)
class RowCode:
    """Code that runs over rows, and the numbers that it gives for each."""

    plan: Plan
    variant: Variant
    results: tuple[Op, ...]
    #: How it was laid out for the settings of before: one trial after the other has the same.
    _laid: dict[tuple[float, ...], tuple[dict[Op, object], StateLayout]] = field(
        default_factory=dict, compare=False, repr=False
    )

    @classmethod
    def of(cls, plan: Plan, results: tuple[Op, ...]) -> RowCode:
        """Compiles a plan."""
        return cls(plan, make_variant(part_of(plan, results), results), results)

    def run(
        self,
        columns: Mapping[str, np.ndarray],
        offsets: np.ndarray,
        settings: Mapping[str, float],
        *,
        reference: bool = False,
    ) -> list[np.ndarray]:
        """The numbers for each row, float64. Run ``k`` has the rows ``offsets[k]`` up to ``offsets[k + 1]``.

        ``columns`` are those of the rows and those that are read at any place, by name.
        """
        variant = self.variant
        state = variant.state
        fixed, layout = self._laid_out(settings)
        rows = int(offsets[-1])
        outs = [np.empty(rows) for _ in variant.leaves]
        given: dict[Input | FineColumn, np.ndarray] = {
            what: np.ascontiguousarray(columns[what.name], dtype=np.float64)
            for what in variant.code.inputs
            if isinstance(what, BarColumn | FineColumn)
        }
        if reference:
            for first, last in zip(offsets[:-1].tolist(), offsets[1:].tolist(), strict=True):
                runner = Runner(variant.live, state, layout, fixed, variant.leaves)
                runner.run(layout.template.copy(), first, last, given, [], outs, commit=False)
        elif rows:
            starts, ends = np.ascontiguousarray(offsets[:-1]), np.ascontiguousarray(offsets[1:])
            tables = [pointers([given[what] for what in variant.code.inputs]), pointers([]), pointers(outs)]
            numbers, scratch = fixed_array(variant.code, fixed), layout.template.copy()
            variant.code.machine(thorough=True).call(
                len(starts),
                starts.ctypes.data,
                ends.ctypes.data,
                *(ctypes.addressof(table) for table in tables),
                numbers.ctypes.data,
                layout.table.ctypes.data,
                scratch.ctypes.data,
                0,
                layout.template.ctypes.data,
                len(layout.template),
                native.FRESH,
                ctypes.addressof(tables[1]),
            )
        made = dict(zip(variant.leaves, outs, strict=True))
        return [made[op] for op in self.results]

    def _laid_out(self, settings: Mapping[str, float]) -> tuple[dict[Op, object], StateLayout]:
        key = tuple(settings.values())
        known = self._laid.get(key)
        if known is None:
            variant = self.variant
            sizes = [cells.size for cells in variant.state.cells]
            wanted = [*variant.fixed, *sizes, *(op for op in variant.live.ops if op.fixed)]
            fixed = evaluate_fixed(wanted, dict(settings))
            known = fixed, lay_out(self.plan, variant.live, variant.state, fixed)
            if len(self._laid) >= _MOST_LAID:
                self._laid.clear()
            self._laid[key] = known
        return known
