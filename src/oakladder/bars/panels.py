"""Panels made of series, and of panels of shorter bars."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from oakladder.bars.adjustments import any_of
from oakladder.bars.bars import COLUMNS, Bars, tidy
from oakladder.bars.concatenation import end_to_end, ends_of, without
from oakladder.bars.panel import Panel
from oakladder.bars.resample import MERGES, fits
from oakladder.bars.resample_index import count_longer, groups
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.bars.timeline import Timeline


def panel_of(series: Sequence[Bars], timeframe: Timeframe | None = None) -> Panel:
    """Several series of one timeframe, end to end; columns are copied on first use, those of a single series never.

    ``timeframe`` is what the panel passes for, where it is not that of the series.
    """
    timeline = Timeline(
        timeframe or (series[0].timeframe if series else ONE_DAY),
        tuple(b.calendar for b in series),
        ends_of([len(b) for b in series]),
        tuple(b.times for b in series),
        bool(series) and series[0].extended,
    )
    symbols = tuple(b.symbol for b in series)
    if not series:
        return Panel(symbols, timeline, _no_columns())
    source = _SeriesColumns(tuple(series), timeline.offsets)
    return Panel(symbols, timeline, source=source, adjustments=any_of([b.adjustments for b in series]))


def _no_columns() -> dict[str, np.ndarray]:
    return {name: np.zeros(0) for name in COLUMNS}


@dataclass(frozen=True, slots=True)
class _SeriesColumns:
    """The columns of several series, end to end."""

    series: tuple[Bars, ...]
    offsets: np.ndarray

    def read(self, names: Sequence[str], skips: np.ndarray | None = None) -> list[np.ndarray]:
        made = [tidy(end_to_end([b[name] for b in self.series])) for name in names]
        return made if skips is None else [without(m, self.offsets, skips) for m in made]


def resample_panel(panel: Panel, timeframe: Timeframe) -> Panel:
    """A panel in longer bars, all symbols at once. Raises `ValueError` if that cannot be done.

    Where the first bars of the panel were left out, the first longer bar may be made of a part of its bars only.
    """
    if not fits(panel.timeframe, timeframe):
        raise ValueError(f"{timeframe} bars cannot be made of {panel.timeframe} bars.")
    if not len(panel):
        return Panel((), Timeline(timeframe, (), panel.offsets, ()), _no_columns())
    first, last, timeline = groups(panel.timeline, timeframe)
    skipped = None
    if panel.whole is not None:
        skipped = count_longer(panel.whole.timeline, timeframe) - timeline.sizes
    return Panel(
        panel.symbols,
        timeline,
        source=_LongerColumns(panel, first, last, timeline.offsets),
        background=panel.background,
        ticks=panel.ticks,
        contracts=panel.contracts,
        adjustments=panel.adjustments,
        skipped=skipped,
    )


@dataclass(frozen=True, slots=True)
class _LongerColumns:
    """The columns of longer bars, each made of the bars ``first`` to ``last`` of a panel."""

    panel: Panel
    first: np.ndarray
    last: np.ndarray
    offsets: np.ndarray

    def read(self, names: Sequence[str], skips: np.ndarray | None = None) -> list[np.ndarray]:
        self.panel.fetch(names)
        made = [MERGES[name](self.panel.column(name), self.first, self.last) for name in names]
        return made if skips is None else [without(m, self.offsets, skips) for m in made]
