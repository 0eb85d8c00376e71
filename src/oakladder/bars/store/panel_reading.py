"""Many symbols read straight from their files into the columns of a panel."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np

from oakladder.bars.bars import regular_times, tidy
from oakladder.bars.end_to_end import ends_of
from oakladder.bars.panel import Panel
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.offsets import ColumnOffsets, FileOffsets
from oakladder.bars.timeframes import Timeframe
from oakladder.bars.timeline import Timeline

#: Times are shared by so many symbols at least, or read like prices.
_SHARING = 6


@dataclass(frozen=True, slots=True)
class BarFile:
    """The file of a symbol's stored bars, and where its columns lie in it."""

    symbol: str
    path: str
    place: ColumnOffsets
    calendar: Calendar


@dataclass(frozen=True, slots=True)
class _FileColumns:
    """Columns that are read from the files of many symbols when they are asked for."""

    files: Sequence[BarFile]
    places: FileOffsets
    #: Held while files are read.
    turn: threading.Lock
    #: How many bars of each symbol belong to the panel, and which ones of its file; None where all do.
    counts: list[int]
    kept: list[np.ndarray | None]

    def read(self, names: Sequence[str], skips: np.ndarray | None = None) -> list[np.ndarray]:
        firsts = [0] * len(self.files) if skips is None else skips.tolist()
        ends = ends_of([c - f for c, f in zip(self.counts, firsts, strict=True)]).tolist()
        made = [np.empty(ends[-1], dtype=np.int64 if n == "time" else np.float64) for n in names]
        # Two threads that both read hand the interpreter to and fro with every call, and take longer than one;
        # while one reads, the other can run what it has read.
        with self.turn:
            for k, (file, keep, first) in enumerate(zip(self.files, self.kept, firsts, strict=True)):
                parts = [m[ends[k] : ends[k + 1]] for m in made]
                if keep is None:
                    self._read(file, names, parts, first)
                elif first < len(keep):
                    begin = int(keep[first])
                    raw = [np.empty(int(keep[-1]) + 1 - begin) for _ in names]
                    self._read(file, names, raw, begin)
                    for whole, part in zip(raw, parts, strict=True):
                        np.take(whole, keep[first:] - begin, out=part, mode="clip")
        if all(f.place.clean for f in self.files):
            return made
        return [m if n == "time" else tidy(m) for n, m in zip(names, made, strict=True)]

    def _read(self, file: BarFile, names: Sequence[str], into: Sequence[np.ndarray], first: int) -> None:
        self.places.read_of(file.symbol, file.path, file.place, names, into, first)

    def times(self) -> np.ndarray:
        return self.read(["time"])[0]


def read_panel(
    files: Sequence[BarFile],
    base: Timeframe,
    extended: bool,
    places: FileOffsets,
    times_of: Callable[[BarFile], np.ndarray],
    turn: threading.Lock,
) -> Panel:
    """A panel whose columns are read when they are asked for.

    ``times_of`` gives the times of a file as the array that it shares with others; ``turn`` is held while files are
    read.
    """
    kept: list[np.ndarray | None] = [None] * len(files)
    counts = [f.place.count for f in files]
    parts: list[np.ndarray] | None = None
    # Times that hardly any symbols share are read like prices; regular hours are found by the times.
    by_hours = base.intraday and not extended
    if by_hours or len({f.place.clock for f in files}) <= max(len(files) // _SHARING, 1):
        parts = [times_of(f) for f in files]
    if parts is not None and by_hours:
        for k, file in enumerate(files):
            regular = regular_times(parts[k], file.calendar)
            if regular is not None:
                parts[k], kept[k] = regular
        counts = [len(p) for p in parts]
    source = _FileColumns(files, places, turn, counts, kept)
    timeline = Timeline(
        base,
        tuple(f.calendar for f in files),
        ends_of(counts),
        None if parts is None else tuple(parts),
        extended,
        names=() if parts is not None else tuple(f.place.clock for f in files),
    )
    if parts is None:
        timeline.read = partial(_FileColumns.times, source)
    return Panel(tuple(f.symbol for f in files), timeline, source=source)
