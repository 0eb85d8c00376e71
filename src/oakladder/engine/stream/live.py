"""A program that goes on: state after the last bar is kept, new bars are added, a bar in progress is tried.

Running over history and then bar by bar gives the same bits as running over everything at once.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.execute import Result, roots_of
from oakladder.engine.run.setup import BoundKernel, prepare
from oakladder.rung.native.compile import COMMIT, FRESH
from oakladder.rung.plan.ops import Op, Output
from oakladder.rung.program import Program


class LiveRun:
    """The state of a program on each symbol of a panel."""

    def __init__(
        self,
        program: Program,
        history: Panel,
        settings: Mapping[str, object] | None = None,
        outputs: Sequence[Output] | None = None,
        extra: Sequence[Op] = (),
    ):
        self.program, self.settings = program, dict(settings or {})
        self._shown = program.outputs if outputs is None else list(outputs)
        self._roots = roots_of(self._shown, extra)
        self._background = history.background
        job = prepare(program, history, self.settings, self._roots)
        self.state = np.empty((len(history), len(job.layout.template)))
        self._last: tuple[int | None, ...] = (None,) * len(history)
        self.history = self._go(history, FRESH | COMMIT)
        self._remember(history)

    def _go(self, panel: Panel, mode: int) -> Result:
        panel.background = panel.background or self._background
        job = prepare(self.program, panel, self.settings, self._roots)
        outs = job.empty_outs()
        # Longer timeframes may end with the bar that is tried: they run on a copy. Without them the code
        # itself leaves no trace (registers are not stored back, cells are written again by the real bar).
        # Of several bars only the last leaves no trace.
        traces = len(job.variant.live.domains) > 1 or bool((np.diff(panel.offsets) > 1).any())
        traces = traces or any(slot.cold for slot in job.variant.live.slots)  # those are changed where they are
        rows = self.state.copy() if traces and not mode & COMMIT else self.state
        BoundKernel(job, outs)(0, len(panel), rows, mode)
        return Result(self.program, panel, self._shown, dict(zip(job.variant.leaves, outs, strict=True)), job.fixed)

    def _remember(self, panel: Panel) -> None:
        self._last = tuple(
            int(panel.times[b - 1]) if b > a else old
            for a, b, old in zip(panel.starts, panel.ends, self._last, strict=True)
        )

    def advance(self, bars: Panel) -> Result:
        """Runs over new, finished bars of the same symbols (any number of each) and keeps the state after them."""
        bars.timeline.previous = self._last
        made = self._go(bars, COMMIT)
        self._remember(bars)
        return made

    def peek(self, bars: Panel) -> Result:
        """What the bar in progress would give if it closed now; the state stays as it was."""
        bars.timeline.previous = self._last
        return self._go(bars, 0)
