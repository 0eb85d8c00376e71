"""Panels made of series, and of panels of shorter bars."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from oakladder.bars.bars import COLUMNS, Bars, tidy
from oakladder.bars.end_to_end import end_to_end, ends_of, without
from oakladder.bars.panel import Panel
from oakladder.bars.resample import MERGES, fits, shared_groups
from oakladder.bars.timeframes import ONE_DAY, Timeframe


def panel_of(series: Sequence[Bars]) -> Panel:
    """Several series of one timeframe, end to end; nothing is copied before it is asked for, a single one never."""
    offsets = ends_of([len(b) for b in series])

    def columns(names: Sequence[str], skips: np.ndarray | None) -> list[np.ndarray]:
        made = [tidy(end_to_end([b[name] for b in series])) for name in names]
        return made if skips is None else [without(m, offsets, skips) for m in made]

    return Panel(
        tuple(b.symbol for b in series),
        series[0].timeframe if series else ONE_DAY,
        tuple(b.calendar for b in series),
        offsets,
        tuple(b.times for b in series),
        {} if series else {name: np.zeros(0) for name in COLUMNS},
        bool(series) and series[0].extended,
        maker=columns,
    )


def resample_panel(panel: Panel, timeframe: Timeframe) -> Panel:
    """A panel in longer bars, all symbols at once. Raises `ValueError` if that cannot be done.

    Where the first bars of the panel were skipped, the first longer bar may be made of a part of its bars only.
    """
    if not fits(panel.timeframe, timeframe):
        raise ValueError(f"{timeframe} bars cannot be made of {panel.timeframe} bars.")
    if not len(panel):
        return Panel((), timeframe, (), panel.offsets, (), {name: np.zeros(0) for name in COLUMNS})
    clocks: tuple[np.ndarray, ...] | None = None
    times: np.ndarray | None = None
    if panel.is_ragged:
        first, last, times, offsets = panel.groups(timeframe)
    else:
        first, last, clocks = _shared_groups(panel, timeframe)
        offsets = ends_of([len(c) for c in clocks])

    def merged(names: Sequence[str], skips: np.ndarray | None) -> list[np.ndarray]:
        panel.fetch(names)
        made = [MERGES[name](panel.column(name), first, last) for name in names]
        return made if skips is None else [without(m, offsets, skips) for m in made]

    skipped = None
    if panel.whole is not None:
        skipped = panel.whole.count_longer(timeframe) - np.diff(offsets)
    return Panel(
        panel.symbols,
        timeframe,
        panel.calendars,
        offsets,
        clocks,
        extended=panel.extended and timeframe.intraday,
        others=panel.others,
        ticks=panel.ticks,
        maker=merged,
        skipped=skipped,
        _times=times,
    )


def _shared_groups(panel: Panel, timeframe: Timeframe) -> tuple[np.ndarray, np.ndarray, tuple[np.ndarray, ...]]:
    """First and last bar of each longer bar, and the longer bars' times; worked out once for symbols that are alike."""
    firsts, lasts, clocks = [], [], []
    for a, b in panel.alike():
        first, last, clock = shared_groups(panel.clocks[a], panel.calendars[a], timeframe)
        firsts.append((panel.offsets[a:b, None] + first).ravel())
        lasts.append((panel.offsets[a:b, None] + last).ravel())
        clocks += [clock] * (b - a)
    return end_to_end(firsts), end_to_end(lasts), tuple(clocks)
