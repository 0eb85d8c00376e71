"""Many symbols read straight from their files into the columns of a panel."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence

import numpy as np

from oakladder.bars.bars import regular_times, tidy
from oakladder.bars.end_to_end import ends_of
from oakladder.bars.panel import Panel
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.offsets import ColumnOffsets
from oakladder.bars.timeframes import Timeframe

#: Times are shared by so many symbols at least, or read like prices.
_SHARING = 6


def read_panel(
    names: Sequence[str],
    base: Timeframe,
    extended: bool,
    calendars: tuple[Calendar, ...],
    places: Sequence[ColumnOffsets],
    clock: Callable[[int], np.ndarray],
    read: Callable[[int, Sequence[str], Sequence[np.ndarray], int], None],
    turn: threading.Lock,
) -> Panel:
    """A panel whose columns are read when they are asked for.

    ``clock`` gives the times of the symbol of a number, ``read`` reads columns of one into arrays from a bar on, and
    ``turn`` is held while files are read.
    """
    kept: list[np.ndarray | None] = [None] * len(names)
    counts = [p.count for p in places]
    clocks: list[np.ndarray] | None = None
    # Times that hardly any symbols share are read like prices; regular hours are found by the times.
    by_hours = base.intraday and not extended
    if by_hours or len({p.clock for p in places}) <= max(len(places) // _SHARING, 1):
        clocks = [clock(k) for k in range(len(names))]
    if clocks is not None and by_hours:
        for k, calendar in enumerate(calendars):
            regular = regular_times(clocks[k], calendar)
            if regular is not None:
                clocks[k], kept[k] = regular
        counts = [len(c) for c in clocks]
    clean = all(p.clean for p in places)

    def columns(wanted: Sequence[str], skips: np.ndarray | None) -> list[np.ndarray]:
        firsts = [0] * len(names) if skips is None else skips.tolist()
        ends = ends_of([c - f for c, f in zip(counts, firsts, strict=True)]).tolist()
        made = [np.empty(ends[-1], dtype=np.int64 if n == "time" else np.float64) for n in wanted]
        # Two threads that both read hand the interpreter to and fro with every call, and take longer than one;
        # while one reads, the other can run what it has read.
        with turn:
            for k, (keep, first) in enumerate(zip(kept, firsts, strict=True)):
                parts = [m[ends[k] : ends[k + 1]] for m in made]
                if keep is None:
                    read(k, wanted, parts, first)
                elif first < len(keep):
                    begin = int(keep[first])
                    raw = [np.empty(int(keep[-1]) + 1 - begin) for _ in wanted]
                    read(k, wanted, raw, begin)
                    for whole, part in zip(raw, parts, strict=True):
                        np.take(whole, keep[first:] - begin, out=part, mode="clip")
        return made if clean else [m if n == "time" else tidy(m) for n, m in zip(wanted, made, strict=True)]

    return Panel(
        tuple(names),
        base,
        calendars,
        ends_of(counts),
        None if clocks is None else tuple(clocks),
        extended=extended,
        maker=columns,
        time_names=() if clocks is not None else tuple(p.clock for p in places),
    )
