"""Trades of a market in two runs: what no position touches on lanes, then what follows from orders and positions."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from typing import TypeVar

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.buffers import BufferStore, RunBuffers
from oakladder.engine.run.execute import Result, execute
from oakladder.engine.run.malloc_tuning import keep_freed_memory
from oakladder.engine.run.setup import BoundKernel, is_large, prepare
from oakladder.engine.run.signal_cache import SignalCache
from oakladder.rung.plan.inputs import BarColumn
from oakladder.rung.plan.ops import Op
from oakladder.rung.problems import Cancelled
from oakladder.rung.program import Program

T = TypeVar("T")
#: About so many bars go through both runs together: what the first has worked out is still at hand for the second.
PART_BARS = 600_000
#: With fewer symbols the first run has nothing to put side by side.
LEAST_SYMBOLS = 8


def two_pass_pays(program: Program, panel: Panel, thorough: bool) -> bool:
    """Whether two runs are quicker than one."""
    large = thorough or is_large(panel)
    plain = panel.skipped is None and panel.minutes is None and panel.timeline.previous is None
    return large and plain and len(panel) >= LEAST_SYMBOLS and program.split is not None


def two_pass_parts(
    program: Program,
    panel: Panel,
    settings: Mapping[str, object] | None,
    roots: list[Op],
    read: Callable[[Result], T],
    *,
    executor: Executor | None = None,
    cancelled: Callable[[], bool] | None = None,
    progress: Callable[[float], None] | None = None,
    lanes: int | None = None,
    kept: SignalCache | None = None,
    sooner: Callable[[TwoPassRun, Mapping[Op, np.ndarray]], T | None] | None = None,
) -> Iterator[tuple[int, T]]:
    """What is read of the results of parts of a panel, in order, each with the number of its first symbol. Nothing of a
    result may be kept: the next part is written over it. Raises `RunProblem` or `Cancelled`.

    ``sooner`` is asked first whether it can skip the second pass.

    Each value that ``sooner`` is given: shape (bars of the part,), float64, or int8 for a flag.
    """
    keep_freed_memory()
    assert program.split is not None
    first = program.variant(list(program.split.values))
    second = program.variant(roots, program.split)
    names = {what.name: None for v in (first, second) for what in v.code.inputs if isinstance(what, BarColumn)}
    panel.fetch(names)
    for name in names:  # parts have the columns that are there
        panel.column(name)

    buffers = kept.buffers if kept is not None else BufferStore()
    shares = kept.shares(program, panel) if kept is not None else [program.split.values]

    def work(part: tuple[int, int]) -> T:
        if cancelled is not None and cancelled():
            raise Cancelled
        runs = TwoPassRun(
            program, panel if part == (0, len(panel)) else panel.among(*part), settings, cancelled, buffers.mine
        )
        given: dict[Op, np.ndarray] = {}
        for k, values in enumerate(shares):
            found = kept.known(program, panel, part, k, settings) if kept is not None else None
            if found is None:
                found = runs.first(values, lanes)
                if kept is not None:
                    kept.seen(program, panel, part, k, settings, found)
            given |= found
        made = sooner(runs, given) if sooner is not None else None
        return made if made is not None else read(runs.second(roots, given))

    parts = _parts(panel)
    for part, made in zip(parts, executor.map(work, parts) if executor else map(work, parts), strict=True):
        yield part[0], made
        if progress is not None:
            progress(int(panel.offsets[part[1]]) / max(panel.size, 1))


def _parts(panel: Panel) -> list[tuple[int, int]]:
    """Ranges of symbols of about as many bars as go together."""
    made, first = [], 0
    while first < len(panel):
        last = int(np.searchsorted(panel.offsets, panel.offsets[first] + PART_BARS, "right")) - 1
        last = min(max(last, first + LEAST_SYMBOLS), len(panel))
        last = len(panel) if len(panel) - last < LEAST_SYMBOLS else last
        made.append((first, last))
        first = last
    return made


@dataclass(frozen=True, slots=True)
class TwoPassRun:
    """Both runs over a part of a panel."""

    program: Program
    panel: Panel
    settings: Mapping[str, object] | None
    cancelled: Callable[[], bool] | None
    room: RunBuffers

    def first(self, values: Sequence[Op], lanes: int | None) -> dict[Op, np.ndarray]:
        """Values that no position touches. Each: shape (bars,), float64, or int8 for a flag."""
        if not values:
            return {}
        job = prepare(self.program, self.panel, self.settings, list(values))
        made = self.room.arrays(job)
        execute(job, made, cancelled=self.cancelled, thorough=True, lanes=lanes, room=self.room)
        return dict(zip(job.variant.leaves, made, strict=True))

    def second(self, roots: list[Op], given: Mapping[Op, np.ndarray]) -> Result:
        """What follows from orders and positions. Each given value: shape (bars,), float64, or int8 for a flag."""
        job = prepare(self.program, self.panel, self.settings, roots, given=given)
        outs = self.room.arrays(job)
        self.room.bound(job, outs)(0, len(self.panel))
        made = Result(self.program, self.panel, [], dict(zip(job.variant.leaves, outs, strict=True)), job.fixed)
        made.pieces = self.panel.starts[:1]
        return made

    def alone(self, roots: list[Op], given: Mapping[Op, np.ndarray]) -> Callable[[np.ndarray], Result]:
        """A function that computes what follows from an entry on each of some bars (int64, in order), without later
        orders; as long as nothing but flags changes. What it gives is written over by the next run. Each given value:
        shape (bars,), float64, or int8 for a flag."""
        own = {op: values if op.is_flag else values.copy() for op, values in given.items()}
        job = prepare(self.program, self.panel, self.settings, roots, given=own, alone=True)
        outs = self.room.arrays(job)
        code = BoundKernel(job, outs, thorough=True)

        def follow(bars: np.ndarray) -> Result:
            code.from_bars(bars)
            made = Result(self.program, self.panel, [], dict(zip(job.variant.leaves, outs, strict=True)), job.fixed)
            made.pieces = bars[:1]
            return made

        return follow
