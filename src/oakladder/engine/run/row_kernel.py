"""Runs compiler-written code over rows of numbers: several runs of rows, each with its state."""

from __future__ import annotations

import ctypes
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from oakladder.engine.run.setup import pointers
from oakladder.rung.lower.internal_codegen import own_plan
from oakladder.rung.lower.writer import Writer
from oakladder.rung.native import compile as native
from oakladder.rung.native.compiled_kernel import CompiledKernel, fixed_array, make_kernel
from oakladder.rung.plan.fixed import evaluate_fixed
from oakladder.rung.plan.inputs import BarColumn, Input, IntrabarColumn
from oakladder.rung.plan.layout import StateLayout, lay_out
from oakladder.rung.plan.ops import Op, Plan, Table
from oakladder.rung.plan.part import part_of
from oakladder.rung.reference import Runner

#: So many layouts of a code are remembered, none of them with more cells.
_MOST_LAID, _MOST_CELLS = 8, 200_000


@dataclass(frozen=True, slots=True)
class _Laid:
    """A code laid out for some settings, and where that stands: one run after the other has the same."""

    fixed: dict[Op, object]
    layout: StateLayout
    numbers: np.ndarray
    #: Of the numbers, the table of sizes and the template.
    addresses: tuple[int, int, int]

    @classmethod
    def of(cls, code: RowKernel, settings: Mapping[str, float]) -> _Laid:
        variant = code.variant
        sizes = [cells.size for cells in variant.state.cells]
        wanted = [*variant.fixed, *sizes, *(op for op in variant.live.ops if op.fixed)]
        fixed = evaluate_fixed(wanted, dict(settings))
        layout = lay_out(code.plan, variant.live, variant.state, fixed)
        numbers = fixed_array(variant.code, fixed)
        return cls(fixed, layout, numbers, (numbers.ctypes.data, layout.table.ctypes.data, layout.template.ctypes.data))


@dataclass(frozen=True, slots=True)
class RowKernel:
    """Code that runs over rows, the numbers that it gives for each, and a table that it leaves behind."""

    plan: Plan
    variant: CompiledKernel
    results: tuple[Op, ...]
    table: Table | None
    _laid: dict[tuple[float, ...], _Laid] = field(default_factory=dict, compare=False, repr=False)

    @classmethod
    def of(cls, writer: Writer, results: tuple[str, ...], table: str | None = None) -> RowKernel:
        """Compiles what was written: ``results`` are the names of the numbers, ``table`` is that of the table."""
        roots = list(results)
        if table is not None:  # update the requested table
            writer.let(table, writer.cell(table, "0"))
            roots.append(table)
        plan, made = own_plan(writer, tuple(roots))
        kept = writer.tables[table] if table is not None else None
        return cls(plan, make_kernel(part_of(plan, made), made), made[: len(results)], kept)

    def run(
        self,
        columns: Mapping[str, np.ndarray],
        offsets: np.ndarray,
        settings: Mapping[str, float],
        *,
        reference: bool = False,
    ) -> tuple[list[np.ndarray], np.ndarray]:
        """The numbers for each row, float64, and the table as the last run left it; empty without one.

        Run ``k`` has the rows ``offsets[k]`` up to ``offsets[k + 1]``. ``columns`` are those of the rows and those that
        are read at any place, by name.

        Columns: shape (rows,), float64; offsets: shape (runs + 1,), int64; each result: shape (rows,).
        """
        variant, laid = self.variant, self._laid_out(settings)
        rows, layout = int(offsets[-1]), laid.layout
        outs = np.empty((len(variant.leaves), rows))
        given: dict[Input | IntrabarColumn, np.ndarray] = {
            what: np.ascontiguousarray(columns[what.name], dtype=np.float64)
            for what in variant.code.inputs
            if isinstance(what, BarColumn | IntrabarColumn)
        }
        scratch = layout.template.copy()
        if reference:
            for first, last in zip(offsets[:-1].tolist(), offsets[1:].tolist(), strict=True):
                scratch = layout.template.copy()
                runner = Runner(variant.live, variant.state, layout, laid.fixed, variant.leaves)
                runner.run(scratch, first, last, given, [], list(outs), commit=True)
        elif rows:
            edges = np.array([offsets[:-1], offsets[1:]], dtype=np.int64)
            starts, out = edges.ctypes.data, outs.ctypes.data
            tables = [
                pointers([given[what] for what in variant.code.inputs]),
                pointers([]),
                (ctypes.c_void_p * len(outs))(*range(out, out + outs.nbytes, 8 * rows)),
            ]
            numbers, table, template = laid.addresses
            variant.code.machine(thorough=True).call(
                len(offsets) - 1,
                starts,
                starts + 8 * (len(offsets) - 1),
                *(ctypes.addressof(table) for table in tables),
                numbers,
                table,
                scratch.ctypes.data,
                0,
                template,
                len(layout.template),
                native.FRESH,
                ctypes.addressof(tables[1]),
            )
        made = dict(zip(variant.leaves, outs, strict=True))
        return [made[op] for op in self.results], self._left(scratch, layout)

    def _left(self, state: np.ndarray, layout: StateLayout) -> np.ndarray:
        """What a run left in the table."""
        if self.table is None:
            return state[:0]
        first, size = layout.table[self.variant.state.cells_row(self.table) :][:2].tolist()
        return state[first : first + size]

    def _laid_out(self, settings: Mapping[str, float]) -> _Laid:
        key = tuple(settings.values())
        known = self._laid.get(key)
        if known is None:
            known = _Laid.of(self, settings)
            if len(known.layout.template) <= _MOST_CELLS:
                if len(self._laid) >= _MOST_LAID:
                    self._laid.clear()
                self._laid[key] = known
        return known
