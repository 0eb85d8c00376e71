"""Runs a program over a panel: prepares the fixed values, calls the native code, hands out named arrays."""

from __future__ import annotations

import ctypes
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field

import numpy as np

from oakladder.bars.series import Panel
from oakladder.bars.timeframes import Timeframe
from oakladder.rung import native
from oakladder.rung.plan import CHART_TIMEFRAME, Op, Output
from oakladder.rung.problems import RunProblem
from oakladder.rung.program import Program, Variant, fixed_array
from oakladder.rung.reference import Runner
from oakladder.rung.shells import read_at, read_colours
from oakladder.rung.state import Layout

#: About this many bars are handed to a worker at a time: enough to be worth it, few enough to cancel soon.
CHUNK_BARS = 200_000
#: From this many bars on, it pays to wait for the thoroughly compiled code.
THOROUGH_BARS = 1_000_000


class Cancelled(Exception):
    """A run was stopped by whoever started it."""


@dataclass(slots=True)
class Result:
    """What a program gave on a panel. Arrays are as long as the panel's bars laid end to end."""

    program: Program
    panel: Panel
    outputs: list[Output]
    arrays: dict[Op, np.ndarray]
    fixed: dict[Op, object]

    def number(self, op: Op) -> np.ndarray:
        """A number on every bar, float64 with NaN for none."""
        if op.is_flag:
            flags = self.flag(op)
            return np.where(flags < 0, np.nan, flags.astype(np.float64))
        if op in self.fixed:
            value = self.fixed[op]
            return np.full(len(self.panel.times), np.nan if value is None else float(value))  # type: ignore[arg-type]
        return self.arrays[op]

    def flag(self, op: Op) -> np.ndarray:
        """A flag on every bar, int8: 1 yes, 0 no, -1 none."""
        if op in self.fixed:
            value = self.fixed[op]
            return np.full(len(self.panel.times), -1 if value is None else int(bool(value)), dtype=np.int8)
        return self.arrays[op]

    def is_true(self, op: Op | None) -> np.ndarray:
        """Where a condition holds, bool; everywhere if there is none."""
        return np.ones(len(self.panel.times), dtype=bool) if op is None else self.flag(op) == 1

    def at(self, op: Op, bar: int) -> object:
        """Any value on one bar: float, bool, text, or None for none."""

        def leaf(part: Op) -> object:
            if part.code == "symbol":
                return self.panel.symbols[int(np.searchsorted(self.panel.offsets, bar, "right")) - 1]
            raw = self.arrays[part][bar]
            if part.is_flag:
                return None if raw < 0 else bool(raw)
            return None if raw != raw else float(raw)

        return read_at(op, leaf, self.fixed)

    def colours(self, op: Op, paint: Callable[[str], int]) -> np.ndarray:
        """A colour on every bar as 0xAARRGGBB, uint32."""
        return read_colours(op, lambda part: self.arrays[part], self.fixed, paint, len(self.panel.times))

    def output(self, what: str, name: str) -> Output:
        """An output by kind and name; raises `KeyError`."""
        for output in self.outputs:
            if (output.what, output.name) == (what, name):
                return output
        raise KeyError(f"no {what} `{name}`")


@dataclass(slots=True)
class Job:
    """A program made ready for one panel: fixed values known, state sized, inputs found."""

    program: Program
    panel: Panel
    roots: list[Op]
    variant: Variant
    fixed: dict[Op, object]
    layout: Layout
    steps: list[np.ndarray]
    before: list[Panel | None] = field(default_factory=list)

    def empty_outs(self) -> list[np.ndarray]:
        n = len(self.panel.times)
        return [np.empty(n, dtype=np.int8 if op.is_flag else np.float64) for op in self.variant.leaves]


def prepare(
    program: Program,
    panel: Panel,
    settings: Mapping[str, object] | None = None,
    outputs: Sequence[Output] | None = None,
    extra: Sequence[Op] = (),
) -> Job:
    """Makes a program ready for a panel. Raises `RunProblem` with a sentence for the user."""
    shown = program.outputs if outputs is None else list(outputs)
    roots = [op for output in shown for op in output.roles.values()] + list(extra)
    values = program.values_of(settings) | {CHART_TIMEFRAME: str(panel.timeframe)}
    variant = program.variant(roots)
    fixed = program.fixed_values(variant, roots, values)
    layout = program.layout(variant, fixed)
    steps: list[np.ndarray] = []
    before: list[Panel | None] = []
    for domain in variant.live.domains[1:]:
        assert domain.timeframe is not None
        try:
            timeframe = Timeframe.parse(str(fixed[domain.timeframe]))
            steps.append(panel.marks(timeframe))
        except ValueError as error:
            raise RunProblem(str(error)) from None
        before.append(panel.earlier.get(timeframe))
    return Job(program, panel, roots, variant, fixed, layout, steps, before)


def run(
    program: Program,
    panel: Panel,
    settings: Mapping[str, object] | None = None,
    *,
    outputs: Sequence[Output] | None = None,
    extra: Sequence[Op] = (),
    executor: Executor | None = None,
    cancelled: Callable[[], bool] | None = None,
    progress: Callable[[float], None] | None = None,
    reference: bool = False,
) -> Result:
    """Runs a program over every symbol of a panel.

    ``outputs`` limits the work to what they need (all by default); ``extra`` adds single values. With an
    executor the symbols are shared out. Raises `RunProblem` or `Cancelled`.
    """
    job = prepare(program, panel, settings, outputs, extra)
    outs = job.empty_outs()
    shown = program.outputs if outputs is None else list(outputs)
    done = Result(program, panel, shown, dict(zip(job.variant.leaves, outs, strict=True)), job.fixed)
    if reference:
        _run_reference(job, outs)
        return done
    chunks = _chunks(panel)
    call = Call(job, outs)
    finished = 0

    def work(chunk: tuple[int, int]) -> int:
        if cancelled is not None and cancelled():
            raise Cancelled
        call(*chunk)
        return chunk[1] - chunk[0]

    for count in executor.map(work, chunks) if executor is not None and len(chunks) > 1 else map(work, chunks):
        finished += count
        if progress is not None:
            progress(finished / max(len(panel), 1))
    return done


def _chunks(panel: Panel) -> list[tuple[int, int]]:
    """Ranges of symbols of about `CHUNK_BARS` bars each."""
    made: list[tuple[int, int]] = []
    first = 0
    while first < len(panel):
        limit = panel.offsets[first] + CHUNK_BARS
        last = max(int(np.searchsorted(panel.offsets, limit, "right")) - 1, first + 1)
        made.append((first, min(last, len(panel))))
        first = made[-1][1]
    return made


class Call:
    """The native code bound to a job's arrays; can be called from several threads for different symbols."""

    def __init__(self, job: Job, outs: Sequence[np.ndarray]):
        self.job, self.outs = job, outs
        panel, code = job.panel, job.variant.code
        self._machine = code.machine(thorough=len(panel.times) >= THOROUGH_BARS)
        self._columns = [input_column(job, name) for name in code.columns]
        self._fixed = fixed_array(job.variant, job.fixed)
        self._before = self._earlier()
        self._tables = [_pointers(self._columns), _pointers(job.steps), _pointers(list(outs)), _pointers(self._before)]

    def _earlier(self) -> list[np.ndarray]:
        """For each longer domain: first and last earlier bar of each symbol, then its columns."""
        panel, made = self.job.panel, []
        for earlier in self.job.before:
            if earlier is None:
                none = np.zeros(len(panel), dtype=np.int64)
                made += [none, none, *(np.zeros(1) for _ in self._columns)]
                continue
            first = np.array([panel.times[a] if b > a else 0 for a, b in zip(panel.starts, panel.ends, strict=True)])
            last = np.array(
                [
                    earlier.offsets[k] + np.searchsorted(_ends_of(earlier, k), first[k], "right")
                    for k in range(len(panel))
                ],
                dtype=np.int64,
            )
            made += [
                np.ascontiguousarray(earlier.starts),
                last,
                *(input_column(self.job, n, earlier) for n in self.job.variant.code.columns),
            ]
        return made

    def __call__(self, first: int, last: int, state: np.ndarray | None = None, mode: int = native.FRESH) -> None:
        """Runs symbols ``first`` up to ``last``; with a state array (symbols, size) each has a row of its own."""
        layout, panel = self.job.layout, self.job.panel
        size = len(layout.template)
        rows = state if state is not None else layout.template.copy()
        starts = np.ascontiguousarray(panel.starts[first:last])
        ends = np.ascontiguousarray(panel.ends[first:last])
        before = self._before
        table = self._tables[3]
        if before and first:
            width = 2 + len(self._columns)
            moved = [b[first:] if k % width < 2 else b for k, b in enumerate(before)]
            table = _pointers(moved)
        self._machine.call(
            last - first,
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


def input_column(job: Job, name: str, panel: Panel | None = None) -> np.ndarray:
    """An input of the code on every bar of the job's panel, or of another panel of the same symbols."""
    panel = panel or job.panel
    op = job.program.plan.named_inputs.get(name)
    if op is None:
        return panel.column(name)
    value = job.fixed[op]
    if name.startswith("is"):
        return panel.per_symbol([float(s == value) for s in panel.symbols])
    try:
        return panel.begins(Timeframe.parse(str(value)))
    except ValueError as error:
        raise RunProblem(str(error)) from None


def _ends_of(panel: Panel, k: int) -> np.ndarray:
    bars = panel.bars(k)
    return bars.calendar.closes(bars.times, panel.timeframe, panel.extended)


def _pointers(arrays: Sequence[np.ndarray]) -> ctypes.Array[ctypes.c_void_p]:
    return (ctypes.c_void_p * max(len(arrays), 1))(*(a.ctypes.data for a in arrays))


def _run_reference(job: Job, outs: Sequence[np.ndarray]) -> None:
    """The same with the reference runner."""
    variant, panel = job.variant, job.panel
    columns = {name: input_column(job, name) for name in variant.code.columns}
    for k in range(len(panel)):
        runner = Runner(variant.live, variant.state, job.layout, job.fixed, variant.leaves)
        before: list[tuple[Mapping[str, np.ndarray], int, int]] = []
        for earlier in job.before:
            if earlier is None:
                before.append(({}, 0, 0))
            else:
                first = int(panel.times[panel.starts[k]]) if panel.ends[k] > panel.starts[k] else 0
                last = int(earlier.offsets[k] + np.searchsorted(_ends_of(earlier, k), first, "right"))
                before.append(
                    ({n: input_column(job, n, earlier) for n in variant.code.columns}, int(earlier.starts[k]), last)
                )
        runner.run(
            job.layout.template.copy(),
            int(panel.starts[k]),
            int(panel.ends[k]),
            columns,
            job.steps,
            outs,
            commit=False,
            before=before,
        )
