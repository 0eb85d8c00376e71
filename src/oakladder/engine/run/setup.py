"""A program made ready for a panel: fixed values, state, inputs, and the native code bound to the arrays."""

from __future__ import annotations

import contextlib
import ctypes
import mmap
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from oakladder.bars.errors import DataProblem
from oakladder.bars.panel import Panel
from oakladder.bars.resample_index import begins, marks
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.run.checkpoint import Checkpoint, CheckpointRecorder
from oakladder.rung.native import compile as native
from oakladder.rung.native.compiled_kernel import CompiledKernel, fixed_array
from oakladder.rung.plan.inputs import (
    ADJUSTED_BY,
    BarBegins,
    BarColumn,
    Given,
    Input,
    IntrabarBound,
    IntrabarColumn,
    IsSymbol,
    OtherSymbol,
)
from oakladder.rung.plan.layout import StateLayout
from oakladder.rung.plan.ops import CHART_TIMEFRAME, LOG_ROWS, ROWS_A_BAR, Foreign, Log, Op
from oakladder.rung.plan.split import Split
from oakladder.rung.problems import RunProblem
from oakladder.rung.program import Program
from oakladder.rung.reference import Runner
from oakladder.tuning import TUNING


def is_large(panel: Panel) -> bool:
    """Whether so much is to be run that it pays to wait for the code that runs fastest."""
    return panel.size >= TUNING.thorough_bars


@dataclass(slots=True)
class RunSetup:
    """A program made ready for one panel: fixed values known, state sized, inputs found."""

    program: Program
    panel: Panel
    variant: CompiledKernel
    fixed: dict[Op, object]
    layout: StateLayout
    steps: list[np.ndarray]
    before: list[Panel | None]
    settings: Mapping[str, object]
    chart: Timeframe
    reference: bool
    #: Where it goes on, with the bars before left out or not looked at; None to begin with the first.
    start: Checkpoint | None = None
    #: Values that another run has worked out already, on every bar of the panel.
    given: Mapping[Op, np.ndarray] = field(default_factory=dict)
    #: Values of other symbols that were worked out for this job: when each of their bars was complete, and the value.
    foreign: dict[Op, tuple[np.ndarray, np.ndarray]] = field(default_factory=dict)

    @property
    def firsts(self) -> np.ndarray:
        """The first bar of each symbol that is run, int64. Shape (symbols,)."""
        if self.start is None:
            return self.panel.starts
        skipped = self.panel.skipped if self.panel.skipped is not None else 0
        return self.panel.starts + np.maximum(self.start.bars - skipped, 0)

    def empty_outs(self) -> list[np.ndarray]:
        """Arrays for all values of the run, shape (bars,), float64, or int8 for a flag, in the order of the kernel's
        leaves."""
        return [empty_out(op, self.panel.size) for op in self.variant.leaves]


def empty_out(op: Op, bars: int) -> np.ndarray:
    """An array for a value on so many bars. Shape (bars,), float64, or int8 for a flag; of a log shape (rows, width),
    float64."""
    if op.code == LOG_ROWS:
        assert isinstance(op.attr, Log)
        return _untouched(ROWS_A_BAR * bars, op.attr.width)
    return np.empty(bars, dtype=np.int8 if op.is_flag else np.float64)


def _untouched(rows: int, width: int) -> np.ndarray:
    """An array of numbers of which few are ever written: memory is only taken for those pages.

    Unlike `numpy.empty` it never asks for huge pages, of which a few rows here and there would each clear a whole one.
    """
    if not rows:
        return np.empty((0, width))
    room = mmap.mmap(-1, rows * width * 8, flags=mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS)
    with contextlib.suppress(OSError):  # a kernel without huge pages knows no such advice
        room.madvise(mmap.MADV_NOHUGEPAGE)
    return np.frombuffer(room).reshape(rows, width)


def prepare(
    program: Program,
    panel: Panel,
    settings: Mapping[str, object] | None,
    roots: list[Op],
    chart: Timeframe | None = None,
    reference: bool = False,
    start: Checkpoint | None = None,
    given: Mapping[Op, np.ndarray] | None = None,
    alone: bool = False,
) -> RunSetup:
    """Makes a program ready to work out some values on a panel. Raises `RunProblem` with a sentence for the user.

    ``start`` tells where it goes on; ``given`` are the values of `Program.split`, with which single bars may be looked at
    ``alone``. ``chart`` is the timeframe that the script itself runs on, where the panel has another symbol's longer bars.

    Each given value: shape (bars,), float64, or int8 for a flag.
    """
    settings = dict(settings or {})
    chart = chart or panel.timeframe
    split = program.split if given is not None else None
    adjusted = panel.adjustments is not None
    variant, fixed, layout = laid_out(program, settings, roots, chart, split, alone=alone, adjusted=adjusted)
    steps: list[np.ndarray] = []
    before: list[Panel | None] = []
    for domain in variant.live.domains[1:]:
        assert domain.timeframe is not None
        try:
            timeframe = Timeframe.parse(str(fixed[domain.timeframe]))
            steps.append(marks(panel.timeline, timeframe))
        except ValueError as error:
            raise RunProblem(str(error)) from None
        before.append(_earlier(panel, timeframe))
    return RunSetup(
        program, panel, variant, fixed, layout, steps, before, settings, chart, reference, start, given or {}
    )


def _earlier(panel: Panel, timeframe: Timeframe) -> Panel | None:
    """Longer bars from before a panel's first; none where it goes on from another, which has seen them."""
    if panel.background is None or panel.timeline.previous is not None:
        return None
    return panel.background.earlier(panel, timeframe)


def laid_out(
    program: Program,
    settings: Mapping[str, object],
    roots: list[Op],
    chart: Timeframe,
    split: Split | None = None,
    *,
    alone: bool = False,
    adjusted: bool = False,
) -> tuple[CompiledKernel, dict[Op, object], StateLayout]:
    """The code for some values, its fixed values and the size of its state. Raises `RunProblem`."""
    values = program.values_of(settings) | {CHART_TIMEFRAME: str(chart)}
    variant = program.variant(roots, split, alone=alone, adjusted=adjusted)
    fixed = program.fixed_values(variant, roots, values)
    return variant, fixed, program.layout(variant, fixed)


class BoundKernel:
    """The native code bound to a job's arrays; can be called from several threads for different symbols."""

    def __init__(self, job: RunSetup, outs: Sequence[np.ndarray], thorough: bool | None = None):
        self.job, self.outs = job, outs
        panel, code = job.panel, job.variant.code
        self._thorough = is_large(panel) if thorough is None else thorough
        panel.fetch(what.name for what in code.inputs if isinstance(what, BarColumn))
        self.columns = [input_column(job, what) for what in code.inputs]
        self._rows = start_rows(job) if panel.skipped is not None or job.start is not None else None
        self._fixed = fixed_array(job.variant.code, job.fixed)
        self.before = self._earlier()
        self._tables = [pointers(self.columns), pointers(job.steps), pointers(list(outs)), pointers(self.before)]

    def takes(self, job: RunSetup, outs: Sequence[np.ndarray]) -> bool:
        """Goes over to another job if it differs in nothing but fixed values that no input rests on. Arrays as
        `empty_out` makes them: shape (bars,), float64, or int8 for flags."""
        own, panel = self.job, job.panel
        if own.variant is not job.variant or own.panel is not panel:
            return False
        inputs = job.variant.code.inputs
        if len(job.variant.live.domains) > 1 or any(what.fixed for what in inputs):
            return False
        if panel.skipped is not None or job.start is not None or own.start is not None:
            return False
        if [id(out) for out in outs] != [id(out) for out in self.outs]:
            return False
        if [id(array) for array in job.given.values()] != [id(array) for array in own.given.values()]:
            return False
        self.job, self._fixed = job, fixed_array(job.variant.code, job.fixed)
        return True

    @cached_property
    def _machine(self) -> native.Machine:
        return self.job.variant.code.machine(thorough=self._thorough)

    def _earlier(self) -> list[np.ndarray]:
        """For each longer domain: first and last earlier bar of each symbol, then its columns."""
        panel, made = self.job.panel, []
        for earlier in self.job.before:
            if earlier is None:
                none = np.zeros(len(panel), dtype=np.int64)
                made += [none, none, *(np.zeros(1) for _ in self.columns)]
                continue
            first = panel.timeline.began
            last = np.array(
                [
                    earlier.offsets[k] + np.searchsorted(earlier.timeline.closes(k), first[k], "right")
                    for k in range(len(panel))
                ],
                dtype=np.int64,
            )
            made += [
                np.ascontiguousarray(earlier.starts),
                last,
                *(input_column(self.job, what, earlier) for what in self.job.variant.code.inputs),
            ]
        return made

    def __call__(self, first: int, last: int, state: np.ndarray | None = None, mode: int = native.FRESH) -> None:
        """Runs symbols ``first`` up to ``last``; with a state array (symbols, size) each has a separate row."""
        panel = self.job.panel
        if state is None and self._rows is not None:
            state, mode = self._rows[first:last], mode & ~native.FRESH
        starts = np.ascontiguousarray(self.job.firsts[first:last])
        ends = np.ascontiguousarray(panel.ends[first:last])
        self._run(first, starts, ends, state, mode)

    def from_bars(self, bars: np.ndarray) -> None:
        """Runs from each of some bars (int64, in order) to the end of its symbol, each time from the start state. Shape
        (starts,)."""
        offsets = self.job.panel.offsets
        ends = offsets[np.searchsorted(offsets, bars, "right")]
        self._run(0, np.ascontiguousarray(bars), ends, None, native.FRESH)

    def in_pieces(self, k: int, bars: int, keeping: CheckpointRecorder | None = None) -> Iterator[int]:
        """Runs one symbol so many bars at a time, with the same bits as in one go; yields how many are done.

        ``keeping`` receives the state some bars before the last.
        """
        panel, layout = self.job.panel, self.job.layout
        if self._rows is not None:
            state, mode = self._rows[k : k + 1], native.COMMIT
        else:
            state, mode = layout.template[None, :].copy(), native.COMMIT | native.FRESH
        start, end = int(self.job.firsts[k]), int(panel.ends[k])
        keep = start + keeping.bars_before(end - start) if keeping is not None else start
        if keeping is not None and keep == start:
            keeping.keep(k, 0, layout.template)
        at = start
        for last in sorted({*range(start + bars, end, bars), end, keep} - {start}):
            if last == end:
                mode &= ~native.COMMIT  # as a run in one go ends
            self._run(k, np.array([at]), np.array([last]), state, mode)
            mode &= ~native.FRESH
            if keeping is not None and last == keep:
                keeping.keep(k, keep - start, state[0])
            at = last
            yield last - start

    def _run(self, first: int, starts: np.ndarray, ends: np.ndarray, state: np.ndarray | None, mode: int) -> None:
        layout = self.job.layout
        size = len(layout.template)
        rows = state if state is not None else layout.template.copy()
        before = self.before
        table = self._tables[3]
        if before and first:
            width = 2 + len(self.columns)
            moved = [b[first:] if k % width < 2 else b for k, b in enumerate(before)]
            table = pointers(moved)
        self._machine.call(
            len(starts),
            starts.ctypes.data,
            ends.ctypes.data,
            ctypes.addressof(self._tables[0]),
            ctypes.addressof(self._tables[1]),
            ctypes.addressof(self._tables[2]),
            self._fixed.ctypes.data,
            layout.table.ctypes.data,
            rows.ctypes.data,
            size if state is not None else 0,
            layout.template.ctypes.data,
            size,
            mode,
            ctypes.addressof(table),
        )


def start_rows(job: RunSetup) -> np.ndarray:
    """The state of each symbol before its first bar, shape (symbols, size): what was saved, or counters that go on from
    the bars skipped. Float64."""
    if job.start is not None:
        return job.start.rows.copy()
    rows = np.tile(job.layout.template, (len(job.panel), 1))
    skipped = job.panel.skipped
    if skipped is not None:
        state, main = job.variant.state, job.variant.live.domains[0]
        rows[:, state.place(("bar", main))] = skipped
        for fold in state.folds:
            length = int(job.layout.table[state.fold_row(fold) + 1])
            rows[:, state.place(("phase", fold))] = length - 1 - skipped % length
    return rows


def input_column(job: RunSetup, what: Input | IntrabarColumn, panel: Panel | None = None) -> np.ndarray:
    """An input of the code on every bar of the job's panel, or of another panel of the same symbols; or a table. Shape
    (bars,), for a table (entries,); float64."""
    if isinstance(what, IntrabarColumn | IntrabarBound):
        if panel is not None or job.panel.minutes is None:
            return np.full((panel or job.panel).size if isinstance(what, IntrabarBound) else 1, -1.0)
        return (
            job.panel.minutes.bound(what.end) if isinstance(what, IntrabarBound) else job.panel.minutes.table(what.name)
        )
    panel = panel or job.panel
    match what:
        case BarColumn() if what == ADJUSTED_BY and panel.adjustments is None and not job.reference:
            return np.ones(1)  # the code does not read it
        case BarColumn():
            return panel.column(what.name)
        case IsSymbol():
            return panel.per_symbol(float(s == job.fixed[what.symbol]) for s in panel.symbols)
        case BarBegins():
            try:
                return begins(panel.timeline, Timeframe.parse(str(job.fixed[what.timeframe])))
            except ValueError as error:
                raise RunProblem(str(error)) from None
        case OtherSymbol():
            return _foreign_column(job, what.value, panel)
        case Given():
            return job.given[what.value]


def _foreign_column(job: RunSetup, value: Op, panel: Panel) -> np.ndarray:
    """A value of another symbol as of the last of its bars that was complete when each bar of the panel closed."""
    if value not in job.foreign:
        assert value.domain is not None and value.domain.foreign is not None
        job.foreign[value] = _foreign_values(job, value, value.domain.foreign)
    closes, values = job.foreign[value]
    made = np.full(panel.size, np.nan)
    if not len(values):
        return made
    for k in range(len(panel)):
        at = np.searchsorted(closes, panel.timeline.closes(k), "right") - 1
        part = values[at]
        made[panel.offsets[k] : panel.offsets[k + 1]] = np.where(at >= 0, part, np.nan)
    return made


def _foreign_values(job: RunSetup, value: Op, foreign: Foreign) -> tuple[np.ndarray, np.ndarray]:
    """When each bar of the other symbol was complete, and the value there."""
    symbol = str(job.fixed[foreign.symbol])
    timeframe = job.chart if foreign.timeframe is None else Timeframe.parse(str(job.fixed[foreign.timeframe]))
    panel = other_panel(job, symbol, timeframe)
    there = prepare(job.program, panel, job.settings, [value], job.chart, job.reference)
    outs = there.empty_outs()
    if job.reference:
        run_reference(there, outs)
    else:
        BoundKernel(there, outs)(0, len(panel))
    made = outs[0].astype(np.float64)
    if value.is_flag:
        made[made < 0] = np.nan
    return panel.timeline.closes(0), made


def other_panel(job: RunSetup, symbol: str, timeframe: Timeframe) -> Panel:
    """The bars of another symbol that a script reads. Raises `RunProblem`."""
    background = job.panel.background
    if background is None:
        raise RunProblem(f"The script reads {symbol}, and these bars come without other symbols.")
    try:
        panel = background.other(symbol, timeframe)
    except KeyError:
        raise RunProblem(f'The script reads "{symbol}", and the library has no such symbol.') from None
    except (DataProblem, ValueError) as error:
        raise RunProblem(f"The script reads {symbol}. {error}") from None
    panel.background = panel.background or background
    return panel


def pointers(arrays: Sequence[np.ndarray]) -> ctypes.Array[ctypes.c_void_p]:
    """A table of where arrays begin, as native code reads it. Any shape and dtype, in C order."""
    return (ctypes.c_void_p * max(len(arrays), 1))(*(a.ctypes.data for a in arrays))


def run_reference(job: RunSetup, outs: Sequence[np.ndarray]) -> None:
    """Runs every symbol of a job with the reference runner. Arrays as `empty_out` makes them: shape (bars,), float64,
    or int8 for flags."""
    variant, panel = job.variant, job.panel
    columns: dict[Input | IntrabarColumn, np.ndarray] = {what: input_column(job, what) for what in variant.code.inputs}
    rows = start_rows(job)
    for k in range(len(panel)):
        runner = Runner(variant.live, variant.state, job.layout, job.fixed, variant.leaves)
        before: list[tuple[Mapping[Input | IntrabarColumn, np.ndarray], int, int]] = []
        for earlier in job.before:
            if earlier is None:
                before.append(({}, 0, 0))
            else:
                first = int(panel.timeline.began[k])
                last = int(earlier.offsets[k] + np.searchsorted(earlier.timeline.closes(k), first, "right"))
                before.append(
                    (
                        {what: input_column(job, what, earlier) for what in variant.code.inputs},
                        int(earlier.starts[k]),
                        last,
                    )
                )
        runner.run(
            rows[k],
            int(panel.starts[k]),
            int(panel.ends[k]),
            columns,
            job.steps,
            outs,
            commit=False,
            before=before,
        )
