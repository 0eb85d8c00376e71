"""Runs a program over a panel and hands out named arrays."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.checkpoint import Checkpoint, CheckpointRecorder
from oakladder.engine.run.chunks import Chunk, ChunkedRun
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.run.setup import RunSetup, prepare, run_reference
from oakladder.rung.plan.deferred_values import read_at, read_colours
from oakladder.rung.plan.ops import Op, Output
from oakladder.rung.problems import Cancelled
from oakladder.rung.program import Program


@dataclass(slots=True)
class Result:
    """What a program gave on a panel. Arrays are as long as the panel's bars laid end to end."""

    program: Program
    panel: Panel
    outputs: list[Output]
    arrays: dict[Op, np.ndarray]
    fixed: dict[Op, object]
    #: Returns True once reading values of the result is cancelled.
    cancelled: Callable[[], bool] | None = None
    #: The first bars of what was run in one call, int64: rows of a log are counted from there.
    pieces: np.ndarray = field(default_factory=lambda: np.zeros(0, dtype=np.int64))

    def go_on(self) -> None:
        """Raises `Cancelled` once reading is cancelled."""
        if self.cancelled is not None and self.cancelled():
            raise Cancelled

    def number(self, op: Op) -> np.ndarray:
        """A number on every bar, float64 with NaN for none. Shape (bars,)."""
        if op.is_flag:
            flags = self.flag(op)
            return np.where(flags < 0, np.nan, flags.astype(np.float64))
        if op in self.fixed:
            value = self.fixed[op]
            return np.full(self.panel.size, np.nan if value is None else float(value))  # type: ignore[arg-type]
        return self.arrays[op]

    def flag(self, op: Op) -> np.ndarray:
        """A flag on every bar, int8: 1 yes, 0 no, -1 none. Shape (bars,)."""
        if op in self.fixed:
            value = self.fixed[op]
            return np.full(self.panel.size, -1 if value is None else int(bool(value)), dtype=np.int8)
        return self.arrays[op]

    def is_true(self, op: Op | None) -> np.ndarray:
        """Where a condition holds, bool; True everywhere without a condition. Shape (bars,)."""
        return np.ones(self.panel.size, dtype=bool) if op is None else self.flag(op) == 1

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
        """A colour on every bar as 0xAARRGGBB, uint32. Shape (bars,)."""
        return read_colours(op, lambda part: self.arrays[part], self.fixed, paint, self.panel.size)

    def output(self, what: str, name: str) -> Output:
        """An output by kind and name; raises `KeyError`."""
        for output in self.outputs:
            if (output.what, output.name) == (what, name):
                return output
        raise KeyError(f"no {what} `{name}`")


def roots_of(outputs: Sequence[Output], extra: Sequence[Op] = ()) -> list[Op]:
    """Every value that some outputs are made of."""
    return [op for output in outputs for op in output.roles.values()] + list(extra)


def run(
    program: Program,
    panel: Panel,
    settings: Mapping[str, object] | None = None,
    *,
    outputs: Sequence[Output] | None = None,
    extra: Sequence[Op] = (),
    context: RunContext = PLAIN,
    reference: bool = False,
    start: Checkpoint | None = None,
    keeping: CheckpointRecorder | None = None,
) -> Result:
    """Runs a program over every symbol of a panel. The bits are the same in every context.

    ``outputs`` limits the work to what they need (all by default); ``extra`` adds single values. ``reference`` runs the
    plain interpreter. ``start`` tells where it goes on: before that nothing is worked out. ``keeping`` takes what is held
    some bars before the last. Raises `RunProblem` or `Cancelled`.
    """
    shown = program.outputs if outputs is None else list(outputs)
    job = prepare(program, panel, settings, roots_of(shown, extra), reference=reference, start=start)
    outs = job.empty_outs() if context.buffers is None else context.buffers.arrays(job)
    if start is not None:
        _nothing_before(job, outs)
    done = Result(program, panel, shown, dict(zip(job.variant.leaves, outs, strict=True)), job.fixed)
    if reference:
        done.pieces = panel.starts
        run_reference(job, outs)
        return done
    done.pieces = execute(job, outs, context, keeping)
    return done


def execute(
    job: RunSetup, outs: Sequence[np.ndarray], context: RunContext = PLAIN, keeping: CheckpointRecorder | None = None
) -> np.ndarray:
    """Runs a job natively and writes its values into arrays; gives the first bars of what was run in one call.

    The rest as in `run`. Raises `Cancelled`.

    Arrays as `empty_out` makes them: shape (bars,), float64, or int8 for flags; gives shape (calls,), int64.
    """
    panel = job.panel
    if context.buffers is None or keeping is not None:
        cut = ChunkedRun(job, outs, context, keeping)
    else:
        cut = ChunkedRun.of(job, outs, context, context.buffers)
    finished, telling = 0, threading.Lock()

    def work(piece: Chunk) -> None:
        nonlocal finished
        context.check()
        for more in cut.do(piece):
            with telling:
                finished += more
                context.report(finished / max(panel.size, 1))
            context.check()

    pieces = cut.pieces
    for _ in context.map(work, pieces) if len(pieces) > 1 else map(work, pieces):
        pass
    return cut.starts


def _nothing_before(job: RunSetup, outs: Sequence[np.ndarray]) -> None:
    """There are no values on the bars before a run goes on."""
    for first, begun in zip(job.panel.starts.tolist(), job.firsts.tolist(), strict=True):
        for out in outs:
            out[first:begun] = -1 if out.dtype == np.int8 else np.nan
