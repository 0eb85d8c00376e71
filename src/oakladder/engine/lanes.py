"""A job run on lanes: which symbols stand side by side, and the native code bound to their arrays."""

from __future__ import annotations

import ctypes
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.prepare import BoundCode, Job, pointers, start_rows
from oakladder.rung.native import compile as native
from oakladder.rung.native.lanes.text import TILE
from oakladder.rung.native.variant import fixed_array

#: Vectors are read from places that are whole multiples of this many bytes.
_ALIGNED = 64
#: With fewer symbols than this share of the lanes a group is not worth it: they are run one by one.
_LEAST_FILLED = 0.5


#: More bars than any symbol has.
_FOREVER = 1 << 40


@dataclass(frozen=True, slots=True)
class Groups:
    """Symbols side by side: numbers of symbols, shape (groups, lanes), and how many of a row are real (the rest repeats
    the first). ``alone`` are the symbols that are run one by one."""

    which: np.ndarray
    filled: np.ndarray
    alone: np.ndarray

    def __len__(self) -> int:
        return len(self.which)


def grouped(panel: Panel, lanes: int) -> Groups:
    """Puts symbols of about the same length, whose bars open at the same times, side by side.

    Symbols that leave out another number of earlier bars never share a group: their windows are in another phase.
    """
    sizes = panel.ends - panel.starts
    times: dict[int, int] = {}
    parts = panel.timeline.parts or ()
    same = np.array([times.setdefault(id(t), len(times)) for t in parts] or sizes, dtype=np.int64)
    skipped = panel.skipped if panel.skipped is not None else np.zeros(len(panel), dtype=np.int64)
    order = np.lexsort((same, -sizes, skipped))
    order = order[sizes[order] > 0]
    which: list[np.ndarray] = []
    filled: list[int] = []
    alone: list[np.ndarray] = [np.flatnonzero(sizes == 0)]
    for part in np.split(order, np.flatnonzero(np.diff(skipped[order])) + 1):
        for at in range(0, len(part), lanes):
            some = part[at : at + lanes]
            if len(some) < lanes * _LEAST_FILLED:
                alone.append(some)
                continue
            which.append(np.concatenate([some, np.repeat(some[:1], lanes - len(some))]))
            filled.append(len(some))
    made = np.array(which, dtype=np.int64).reshape(-1, lanes)
    return Groups(made, np.array(filled, dtype=np.int64), np.sort(np.concatenate(alone)))


class BoundLanes:
    """The code for lanes bound to a job's arrays; can be called from several threads for different groups."""

    def __init__(self, job: Job, outs: Sequence[np.ndarray], bound: BoundCode, code: native.LaneCode, groups: Groups):
        self._job, self._outs, self._code, self._groups = job, list(outs), code, groups
        self._columns, self._before = bound.columns, bound.before
        self._fixed = fixed_array(code, job.fixed)
        panel = job.panel
        self._starts = np.ascontiguousarray(panel.starts[groups.which])
        self._sizes = np.ascontiguousarray((panel.ends - panel.starts)[groups.which])
        real = np.arange(code.lanes)[None, :] < groups.filled[:, None]
        self._counts = np.ascontiguousarray(np.where(real, self._sizes, 0))
        self._shared = self._sharing()
        self._templates = start_rows(job)[groups.which[:, 0]] if panel.skipped is not None else None
        self._tables = [pointers(self._columns), pointers(job.steps), pointers(self._outs), pointers(self._before)]

    def bars(self, group: int) -> int:
        """How many bars the longest symbol of a group has."""
        return int(self._sizes[group, 0])

    def _sharing(self) -> np.ndarray:
        """For each group and longer timeframe, whether its bars end together in all lanes; int8."""
        job, width = self._job, 2 + len(self._columns)
        made = np.zeros((len(self._groups), len(job.steps)), dtype=np.int8)
        for k, marks in enumerate(job.steps):
            counts = self._before[k * width + 1] - self._before[k * width]
            for g, which in enumerate(self._groups.which):
                own = which[: self._groups.filled[g]]
                made[g, k] = bool((counts[own] == counts[own[0]]).all()) and _end_together(job.panel, own, marks)
        return made

    def __call__(self, machine: native.Machine, first: int, last: int) -> None:
        """Runs groups ``first`` up to ``last``."""
        self._run(machine, first, last, self._room(), 0, _FOREVER)

    def in_pieces(self, machine: native.Machine, group: int, bars: int) -> Iterator[int]:
        """Runs one group about so many bars at a time; tells how many bars of its longest symbol are done."""
        room, bars = self._room(), max(bars // TILE, 1) * TILE
        for at in range(0, self.bars(group), bars):
            self._run(machine, group, group + 1, room, at, at + bars)
            yield min(at + bars, self.bars(group))

    def _room(self) -> np.ndarray:
        """Memory for the state and the tiles of a group."""
        cells = len(self._job.layout.template) + self._code.tiles * TILE
        room = np.empty(cells * self._code.lanes + _ALIGNED // 8)
        return room[-(room.ctypes.data // 8) % (_ALIGNED // 8) :]

    def _run(self, machine: native.Machine, first: int, last: int, room: np.ndarray, at: int, end: int) -> None:
        layout = self._job.layout
        cells = len(layout.template)
        templates = layout.template if self._templates is None else self._templates[first:]
        machine.call(
            last - first,
            *(a[first:].ctypes.data for a in (self._starts, self._sizes, self._counts, self._groups.which)),
            self._shared[first:].ctypes.data,
            *(ctypes.addressof(table) for table in self._tables[:3]),
            self._fixed.ctypes.data,
            layout.table.ctypes.data,
            room.ctypes.data,
            templates.ctypes.data,
            0 if self._templates is None else cells,
            cells,
            ctypes.addressof(self._tables[3]),
            at,
            end,
        )


def _end_together(panel: Panel, symbols: np.ndarray, marks: np.ndarray) -> bool:
    """Whether the marks of some symbols are the same from their first bars on, as far as each goes."""
    parts, firsts, first = panel.timeline.parts, panel.timeline.firsts, int(symbols[0])
    if parts is not None and all(parts[k] is parts[first] for k in symbols.tolist()):
        return True
    if not (firsts[symbols] == firsts[first]).all():
        return False
    head = marks[panel.starts[first] : panel.ends[first]]
    each = (marks[panel.starts[k] : panel.ends[k]] for k in symbols[1:].tolist())
    return all(np.array_equal(own, head[: len(own)]) for own in each)
