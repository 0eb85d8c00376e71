"""A job run on lanes: which symbols stand side by side, and the native code bound to their arrays."""

from __future__ import annotations

import ctypes
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.checkpoint import CheckpointRecorder
from oakladder.engine.run.setup import BoundKernel, RunSetup, pointers, start_rows
from oakladder.rung.native import compile as native
from oakladder.rung.native.compiled_kernel import fixed_array
from oakladder.rung.native.simd.text import TILE

#: Vectors are read from places that are whole multiples of this many bytes.
_ALIGNED = 64
#: With fewer symbols than this share of the lanes a group is not worth it: they are run one by one.
_LEAST_FILLED = 0.5
#: More bars than any symbol has.
_FOREVER = 1 << 40


@dataclass(frozen=True, slots=True)
class SimdGroups:
    """Symbols side by side: numbers of symbols, shape (groups, lanes), the longest first, and which of them are real
    (the others repeat the first to fill a row up). ``alone`` are the symbols that are run one by one. ``times`` tells
    for each symbol which times it shares with others, ``bars`` how many bars there are in groups."""

    which: np.ndarray
    real: np.ndarray
    alone: np.ndarray
    times: np.ndarray
    bars: int

    def __len__(self) -> int:
        return len(self.which)


def group_symbols(panel: Panel, lanes: int, begun: np.ndarray | None = None) -> SimdGroups:
    """Puts symbols of about the same length, whose bars open at the same times, side by side.

    Symbols that leave out another number of earlier bars, or go on after another number (``begun``), never share a
    group: their windows are in another phase.

    ``begun``: shape (symbols,), int64.
    """
    if panel.skipped is not None or begun is not None:
        return _grouped(panel, lanes, begun)
    facts, key = panel.timeline.facts, ("groups", lanes)
    if key not in facts:  # one variant of a rule after the other runs over the same bars
        facts[key] = _grouped(panel, lanes, None)
    return facts[key]  # type: ignore[return-value]


def _grouped(panel: Panel, lanes: int, begun: np.ndarray | None) -> SimdGroups:
    sizes, parts = panel.timeline.sizes, panel.timeline.parts
    times = np.arange(len(panel)) if parts is None else np.fromiter(map(id, parts), dtype=np.int64, count=len(parts))
    skipped = panel.skipped if panel.skipped is not None else np.zeros(len(panel), dtype=np.int64)
    phases, longest = (skipped, sizes) if begun is None else (begun, sizes + skipped)
    order = np.lexsort((times, -longest, phases))
    order = order[sizes[order] > 0]
    ends = np.flatnonzero(np.diff(phases[order], append=-1)) + 1
    counts = np.diff(ends, prepend=0)
    enough = counts >= lanes * _LEAST_FILLED
    rows: list[np.ndarray] = []
    alone: list[np.ndarray] = [np.flatnonzero(sizes == 0), order[~np.repeat(enough, counts)]]
    for end, count in zip(ends[enough].tolist(), counts[enough].tolist(), strict=True):
        part = order[end - count : end]
        over = len(part) % lanes
        if over < lanes * _LEAST_FILLED:
            alone.append(part[len(part) - over :])
            part = part[: len(part) - over]
        else:
            part = np.concatenate([part, np.repeat(part[-over], lanes - over)])
        rows.append(part.reshape(-1, lanes))
    which = np.concatenate(rows) if rows else np.zeros((0, lanes), dtype=np.int64)
    real = np.ones(which.shape, dtype=bool)
    real[:, 1:] = which[:, 1:] != which[:, :1]
    bars = int(np.where(real, sizes[which], 0).sum())
    return SimdGroups(np.ascontiguousarray(which), real, np.sort(np.concatenate(alone)), times, bars)


class BoundSimdKernel:
    """The code for lanes bound to a job's arrays; can be called from several threads for different groups."""

    def __init__(
        self, job: RunSetup, outs: Sequence[np.ndarray], bound: BoundKernel, code: native.SimdCode, groups: SimdGroups
    ):
        self._job, self._outs, self._code, self._groups = job, list(outs), code, groups
        self._columns, self._before = bound.columns, bound.before
        self._fixed = fixed_array(code, job.fixed)
        panel = job.panel
        self._starts, self._sizes = panel.starts[groups.which], panel.timeline.sizes[groups.which]
        #: How many bars the symbols of each group have together.
        self.bars = np.where(groups.real, self._sizes, 0).sum(axis=1)
        self._begun = np.zeros(len(groups), dtype=np.int64)
        self._templates, self._stride = job.layout.template, 0
        if job.start is not None:  # bars are counted from each symbol's first, whether it is there or not
            left_out = panel.skipped[groups.which] if panel.skipped is not None else 0
            self._starts, self._sizes = self._starts - left_out, self._sizes + left_out
            self._begun = job.start.bars[groups.which[:, 0]]
            self._templates = np.ascontiguousarray(start_rows(job)[groups.which].transpose(0, 2, 1))
        elif panel.skipped is not None:
            self._templates = start_rows(job)[groups.which[:, 0]]
        if self._templates is not job.layout.template:
            self._stride = int(np.prod(self._templates.shape[1:]))
        self._counts = np.where(groups.real, self._sizes, 0)
        #: The bars of the longest symbol of each group.
        self.longest = self._sizes[:, 0]
        self._shared = self._sharing()
        self._tables = [pointers(self._columns), pointers(job.steps), pointers(self._outs), pointers(self._before)]

    def goes_over_to(self, job: RunSetup) -> None:
        """Takes over another job that its bound code has gone over to."""
        self._job, self._fixed, self._templates = job, fixed_array(self._code, job.fixed), job.layout.template

    def _sharing(self) -> np.ndarray:
        """For each group and longer timeframe, whether its bars end together in all lanes; int8."""
        job, width, groups = self._job, 2 + len(self._columns), self._groups
        made = np.zeros((len(groups), len(job.steps)), dtype=np.int8)
        for k, marks in enumerate(job.steps):
            counts, times = (values[groups.which] for values in (self._earlier_bars(k * width), groups.times))
            as_many = (counts == counts[:, :1]).all(axis=1)
            made[:, k] = as_many & (times == times[:, :1]).all(axis=1)
            for g in np.flatnonzero(as_many & (made[:, k] == 0)).tolist():
                made[g, k] = _end_together(job.panel, groups.which[g], marks)
        return made

    def _earlier_bars(self, k: int) -> np.ndarray:
        """How many longer bars there are of each symbol from before its first bar."""
        return self._before[k + 1] - self._before[k]

    def __call__(
        self, machine: native.Machine, first: int, last: int, keeping: CheckpointRecorder | None = None
    ) -> None:
        """Runs groups ``first`` up to ``last``. ``keeping`` receives the state some bars before the last."""
        if keeping is not None:
            for group in range(first, last):
                for _ in self.in_pieces(machine, group, _FOREVER, keeping):
                    pass
            return
        begun, room = self._begun[first:last], self._room()
        for a, b in pairwise([0, *(np.flatnonzero(np.diff(begun)) + 1).tolist(), last - first]):
            self._run(machine, first + a, first + b, room, int(begun[a]), _FOREVER, fresh=True)

    def in_pieces(
        self, machine: native.Machine, group: int, bars: int, keeping: CheckpointRecorder | None = None
    ) -> Iterator[int]:
        """Runs one group about so many bars at a time; yields how many bars of its longest symbol are done."""
        room, bars = self._room(), max(bars // TILE, 1) * TILE
        which, longest = self._groups.which[group], int(self.longest[group])
        state = room[: self._code.lanes * len(self._job.layout.template)].reshape(-1, self._code.lanes)
        start, keep = int(self._begun[group]), 0
        if keeping is not None:
            keep = keeping.bars_before(int(self._sizes[group].min()))
            if keep == 0:
                keeping.keep(which, 0, self._job.layout.template)
        at = start
        for end in sorted({*range(start + bars, longest, bars), longest, keep} - {start, 0}):
            to = _FOREVER if end == longest else end
            self._run(machine, group, group + 1, room, at, to, fresh=at == start)
            if keeping is not None and end == keep:
                keeping.keep(which, keep, state.T)
            at = end
            yield end

    def _room(self) -> np.ndarray:
        """Memory for the state and the tiles of a group."""
        cells = len(self._job.layout.template) + self._code.tiles * TILE
        room = np.empty(cells * self._code.lanes + _ALIGNED // 8)
        return room[-(room.ctypes.data // 8) % (_ALIGNED // 8) :]

    def _run(
        self, machine: native.Machine, first: int, last: int, room: np.ndarray, at: int, end: int, *, fresh: bool
    ) -> None:
        """Runs bars ``at`` up to ``end`` of groups; ``fresh`` ones begin from their templates, one that is not goes on."""
        layout = self._job.layout
        cells = len(layout.template)
        stride = self._stride if fresh else 0
        templates = self._templates[first:] if stride else layout.template
        machine.call(
            last - first,
            *(a[first:].ctypes.data for a in (self._starts, self._sizes, self._counts, self._groups.which)),
            self._shared[first:].ctypes.data,
            *(ctypes.addressof(table) for table in self._tables[:3]),
            self._fixed.ctypes.data,
            layout.table.ctypes.data,
            room.ctypes.data,
            templates.ctypes.data,
            stride,
            cells,
            ctypes.addressof(self._tables[3]),
            at,
            end,
        )


def _end_together(panel: Panel, symbols: np.ndarray, marks: np.ndarray) -> bool:
    """Whether the marks of some symbols are the same from their first bars on, as far as each goes."""
    firsts, first = panel.timeline.firsts, int(symbols[0])
    if not (firsts[symbols] == firsts[first]).all():
        return False
    head = marks[panel.starts[first] : panel.ends[first]]
    each = (marks[panel.starts[k] : panel.ends[k]] for k in symbols[1:].tolist())
    return all(np.array_equal(own, head[: len(own)]) for own in each)
