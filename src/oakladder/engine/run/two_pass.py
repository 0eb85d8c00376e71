"""Trades of a market in two runs: what no position touches on lanes, then what follows from orders and positions."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.buffers import BufferStore, RunBuffers
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.run.execute import Result, execute
from oakladder.engine.run.malloc_tuning import keep_freed_memory
from oakladder.engine.run.setup import BoundKernel, is_large, prepare
from oakladder.rung.plan.inputs import ADJUSTED_BY, BarColumn
from oakladder.rung.plan.ops import Op
from oakladder.rung.program import Program
from oakladder.tuning import TUNING

T = TypeVar("T")
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
    context: RunContext = PLAIN,
    sooner: Callable[[TwoPassRun, Mapping[Op, np.ndarray]], T | None] | None = None,
) -> Iterator[tuple[int, T]]:
    """What is read of the results of parts of a panel, in order, each with the number of its first symbol. Nothing of a
    result may be kept: the next part is written over it. Raises `RunProblem` or `Cancelled`.

    ``sooner`` is asked first whether it can skip the second pass.

    Each value that ``sooner`` is given: shape (bars of the part,), float64, or int8 for a flag.
    """
    keep_freed_memory()
    assert program.split is not None
    adjusted = panel.adjustments is not None
    first = program.variant(list(program.split.values), adjusted=adjusted)
    second = program.variant(roots, program.split, adjusted=adjusted)
    inputs = [what for v in (first, second) for what in v.code.inputs if isinstance(what, BarColumn)]
    names = {i.name: None for i in inputs if i != ADJUSTED_BY or adjusted}
    panel.fetch(names)
    for name in names:  # parts have the columns that are there
        panel.column(name)

    cache = context.signal_cache
    buffers = cache.buffers if cache is not None else BufferStore()
    shares = cache.shares(program, panel) if cache is not None else [program.split.values]

    def work(part: tuple[int, int]) -> T:
        context.check()
        its = panel if part == (0, len(panel)) else panel.among(*part)
        here = replace(context, executor=None, progress=None, thorough=True, buffers=buffers.mine)
        runs = TwoPassRun(program, its, settings, here, buffers.mine)
        given: dict[Op, np.ndarray] = {}
        for k, values in enumerate(shares):
            found = cache.known(program, panel, part, k, settings) if cache is not None else None
            if found is None:
                found = runs.first(values)
                if cache is not None:
                    cache.seen(program, panel, part, k, settings, found)
            given |= found
        made = sooner(runs, given) if sooner is not None else None
        return made if made is not None else read(runs.second(roots, given))

    parts = _parts(panel)
    for part, made in zip(parts, context.map(work, parts), strict=True):
        yield part[0], made
        context.report(int(panel.offsets[part[1]]) / max(panel.size, 1))


def _parts(panel: Panel) -> list[tuple[int, int]]:
    """Ranges of symbols of about as many bars as go together."""
    made, first = [], 0
    while first < len(panel):
        last = int(np.searchsorted(panel.offsets, panel.offsets[first] + TUNING.two_pass_bars, "right")) - 1
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
    context: RunContext
    buffers: RunBuffers

    def first(self, values: Sequence[Op]) -> dict[Op, np.ndarray]:
        """Values that no position touches. Each: shape (bars,), float64, or int8 for a flag."""
        if not values:
            return {}
        job = prepare(self.program, self.panel, self.settings, list(values))
        made = self.buffers.arrays(job)
        execute(job, made, self.context)
        return dict(zip(job.variant.leaves, made, strict=True))

    def second(self, roots: list[Op], given: Mapping[Op, np.ndarray]) -> Result:
        """What follows from orders and positions. Each given value: shape (bars,), float64, or int8 for a flag."""
        job = prepare(self.program, self.panel, self.settings, roots, given=given)
        outs = self.buffers.arrays(job)
        self.buffers.bound(job, outs)(0, len(self.panel))
        made = Result(self.program, self.panel, [], dict(zip(job.variant.leaves, outs, strict=True)), job.fixed)
        made.pieces = self.panel.starts[:1]
        return made

    def alone(self, roots: list[Op], given: Mapping[Op, np.ndarray]) -> Callable[[np.ndarray], Result]:
        """A function that computes what follows from an entry on each of some bars (int64, in order), without later
        orders; as long as nothing but flags changes. What it gives is written over by the next run. Each given value:
        shape (bars,), float64, or int8 for a flag."""
        own = {op: values if op.is_flag else values.copy() for op, values in given.items()}
        job = prepare(self.program, self.panel, self.settings, roots, given=own, alone=True)
        outs = self.buffers.arrays(job)
        code = BoundKernel(job, outs, thorough=True)

        def follow(bars: np.ndarray) -> Result:
            code.from_bars(bars)
            made = Result(self.program, self.panel, [], dict(zip(job.variant.leaves, outs, strict=True)), job.fixed)
            made.pieces = bars[:1]
            return made

        return follow
