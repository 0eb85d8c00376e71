"""The minutes that bars are made of, so that what happened first within a bar need not be guessed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.bars.bars import Bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.panel import Panel
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.timeframes import Timeframe

ONE_MINUTE = Timeframe.parse("1m")
#: Prices that differ by less than this share of a tick are the same.
_SAME = 0.01


@dataclass(frozen=True, slots=True)
class KnownMinutes:
    """The minutes of a panel's bars: the tables of all of them, and where those of each bar begin and end."""

    first: np.ndarray
    last: np.ndarray
    tables: dict[str, np.ndarray]

    def bound(self, end: str) -> np.ndarray:
        """For each bar the place of its ``first`` or ``last`` minute in the tables, -1 without; float64. Shape (bars,)."""
        return self.first if end == "first" else self.last

    def table(self, name: str) -> np.ndarray:
        """Open, high or low of all minutes, float64; never empty. Shape (minutes,)."""
        return self.tables[name]

    @property
    def count(self) -> int:
        """How many bars have their minutes."""
        return int((self.first >= 0).sum())


def minutes_for(panel: Panel, library: BarSource) -> KnownMinutes:
    """The minutes of every bar of a panel that is made of those in the library, and of no others.

    Minutes whose open, extremes or close are not the bar's own are not used: they would contradict it.
    """
    firsts, lasts = np.full(panel.size, -1.0), np.full(panel.size, -1.0)
    parts: dict[str, list[np.ndarray]] = {"open": [], "high": [], "low": []}
    before = 0
    ticks = panel.steps
    for k, symbol in enumerate(panel.symbols):
        try:
            minutes = library.bars(symbol, ONE_MINUTE, panel.timeline.extended)
        except (KeyError, DataProblem, ValueError):
            continue
        start, end = int(panel.starts[k]), int(panel.ends[k])
        if not len(minutes) or end == start:
            continue
        first = np.searchsorted(minutes.times, panel.times[start:end], "left")
        last = np.searchsorted(minutes.times, panel.timeline.closes(k), "left") - 1
        fits = _fit(panel.bars(k), minutes, first, last, ticks[k])
        firsts[start:end] = np.where(fits, first + before, -1.0)
        lasts[start:end] = np.where(fits, last + before, -1.0)
        for name, part in parts.items():
            part.append(minutes[name])
        before += len(minutes)
    tables = {name: np.concatenate(part) if part else np.zeros(1) for name, part in parts.items()}
    return KnownMinutes(firsts, lasts, tables)


def _fit(bars: Bars, minutes: Bars, first: np.ndarray, last: np.ndarray, tick: float) -> np.ndarray:
    """Which bars are made of their minutes: the same open, extremes and close."""
    there = last >= first
    a, b = np.where(there, first, 0), np.where(there, last, 0)
    pairs = np.column_stack([a, b + 1]).ravel()
    high = np.fmax.reduceat(np.append(minutes["high"], np.nan), pairs)[::2]
    low = np.fmin.reduceat(np.append(minutes["low"], np.nan), pairs)[::2]
    made = {"open": minutes["open"][a], "high": high, "low": low, "close": minutes["close"][b]}
    for name, values in made.items():
        there = there & (np.abs(values - bars[name]) <= _SAME * tick)
    return np.asarray(there)
