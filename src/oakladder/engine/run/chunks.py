"""A job cut into pieces, each done in some tens of milliseconds, between which stopping takes effect."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

import numpy as np

from oakladder.engine.run.buffers import RunBuffers
from oakladder.engine.run.checkpoint import CheckpointRecorder
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.setup import BoundKernel, RunSetup, is_large
from oakladder.engine.run.simd_groups import BoundSimdKernel, group_symbols
from oakladder.rung.native import compile as native
from oakladder.tuning import TUNING


class Chunk(NamedTuple):
    """Some of the work: symbols, or groups that run ``side_by_side``, from ``first`` up to ``last``."""

    first: int
    last: int
    side_by_side: bool = False


def _bars_at_a_time(job: RunSetup) -> int:
    return int(min(max(TUNING.chunk_operations / max(job.layout.cost, 1), 16), TUNING.chunk_bars))


class ChunkedRun:
    """A job cut into pieces. ``starts`` are the first bars of what was run in one call, once all are done."""

    def __init__(
        self,
        job: RunSetup,
        outs: Sequence[np.ndarray],
        context: RunContext,
        keeping: CheckpointRecorder | None = None,
    ):
        thorough, lanes = context.thorough, context.lanes
        self._job, self._keeping, self._asked = job, keeping, (thorough, lanes)
        self._bars = _bars_at_a_time(job)
        self._starts: list[np.ndarray] = []
        panel = job.panel
        large = thorough or is_large(panel)
        width = lanes if lanes is not None else native.simd_width_here() if large else 0
        begun = job.start.bars if job.start is not None else None
        groups = group_symbols(panel, width, begun) if width > 1 and len(panel) > 1 else None
        if groups is not None and lanes is None and 2 * groups.bars < panel.size:
            groups = None  # hardly any symbols fit together: no code is made for those few
        code = job.variant.lanes(width) if groups is not None else None
        machine = None if code is None else code.machine() if lanes is not None else code.ready()
        # While SIMD code is compiled in the background, the scalar code runs.
        self._bound = BoundKernel(job, outs, large and (code is None or machine is not None))
        self._groups = groups if code is not None else None
        if code is None or groups is None:
            self.pieces = [Chunk(a, b) for a, b in self._chunks()]
            return
        self._lanes = BoundSimdKernel(job, outs, self._bound, code, groups)
        self._code, self._machine = code, machine
        self.pieces = [Chunk(a, b, side_by_side=True) for a, b in self._group_chunks()]
        self.pieces += [Chunk(k, k + 1) for k in groups.alone.tolist()]

    @classmethod
    def of(cls, job: RunSetup, outs: Sequence[np.ndarray], context: RunContext, buffers: RunBuffers) -> ChunkedRun:
        """The chunks of a run in some buffers; reused from the previous run if they are the same. Arrays as `empty_out`
        makes them: shape (bars,), float64, or int8 for flags."""
        known = buffers.facts.get(id(job.variant))
        if not isinstance(known, ChunkedRun) or not known._takes(job, outs, (context.thorough, context.lanes)):
            known = buffers.facts[id(job.variant)] = cls(job, outs, context)
        return known

    def _takes(self, job: RunSetup, outs: Sequence[np.ndarray], asked: tuple[bool, int | None]) -> bool:
        """Goes over to a job that differs in nothing but fixed values that the cut does not rest on."""
        waits = self._groups is not None and self._machine is None  # for code for lanes that may be there by now
        if waits or self._asked != asked or self._bars != _bars_at_a_time(job) or not self._bound.takes(job, outs):
            return False
        if self._groups is not None:
            self._lanes.goes_over_to(job)
        self._job, self._starts = job, []
        return True

    def do(self, piece: Chunk) -> Iterator[int]:
        """Runs a chunk, and yields how many more bars are done each time that it could be cancelled."""
        return (self._side_by_side if piece.side_by_side else self._symbols)(piece.first, piece.last)

    @property
    def starts(self) -> np.ndarray:
        """The first bars of what was run in one call, int64. Shape (calls,)."""
        return np.sort(np.concatenate(self._starts)) if self._starts else np.zeros(0, dtype=np.int64)

    # --- one by one -------------------------------------------------------------------------------

    def _chunks(self) -> Iterator[tuple[int, int]]:
        """Ranges of symbols of about so many bars each."""
        panel, first = self._job.panel, 0
        while first < len(panel):
            limit = panel.offsets[first] + self._bars
            last = max(int(np.searchsorted(panel.offsets, limit, "right")) - 1, first + 1)
            yield first, min(last, len(panel))
            first = min(last, len(panel))

    def _symbols(self, first: int, last: int) -> Iterator[int]:
        offsets = self._job.panel.offsets
        if last - first == 1:
            yield from self._one(first)
        elif self._keeping is not None:
            yield from self._each(range(first, last))
        else:
            self._bound(first, last)
            self._starts.append(offsets[first : first + 1])
            yield int(offsets[last] - offsets[first])

    def _each(self, symbols: Iterable[int]) -> Iterator[int]:
        """Runs symbols one after the other."""
        for k in symbols:
            yield from self._one(k)

    def _one(self, k: int) -> Iterator[int]:
        """Runs a symbol separately."""
        start, end = int(self._job.panel.offsets[k]), int(self._job.panel.offsets[k + 1])
        if end - start <= self._bars and self._keeping is None:
            self._bound(k, k + 1)
            self._starts.append(np.array([start]))
            yield end - start
            return
        done = 0
        for so_far in self._bound.in_pieces(k, self._bars, self._keeping):
            yield so_far - done
            done = so_far
        self._starts.append(np.arange(start, end, self._bars))

    # --- side by side -----------------------------------------------------------------------------

    def _group_chunks(self) -> Iterator[tuple[int, int]]:
        """Ranges of groups of about so many bars each."""
        done = np.cumsum(self._lanes.bars)
        first = 0
        while first < len(done):
            limit = (done[first - 1] if first else 0) + self._bars
            last = max(int(np.searchsorted(done, limit, "right")), first + 1)
            yield first, last
            first = last

    def _side_by_side(self, first: int, last: int) -> Iterator[int]:
        groups, machine = self._groups, self._machine or self._code.ready()
        assert groups is not None
        self._machine = machine
        if machine is None:
            for k in range(first, last):
                yield from self._each(groups.which[k][groups.real[k]].tolist())
        elif last - first == 1:
            done, bars, longest = 0, int(self._lanes.bars[first]), int(self._lanes.longest[first])
            for so_far in self._lanes.in_pieces(machine, first, self._bars // self._code.lanes, self._keeping):
                told, done = done, bars * so_far // longest
                yield done - told
        else:
            self._lanes(machine, first, last, self._keeping)
            yield int(self._lanes.bars[first:last].sum())
