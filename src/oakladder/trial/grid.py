"""The moments of a panel that all of its symbols share: their times, and the last close of each symbol at each."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.bars.panel import Panel


@dataclass(frozen=True, slots=True)
class Grid:
    """``times`` are the openings of bars, int64; ``closes`` the last known close of each symbol at the close of each,
    float64, shape (symbols, times), NaN before its first. ``at`` is the place of each bar of the panel among the times.
    """

    times: np.ndarray
    closes: np.ndarray
    at: np.ndarray

    def __len__(self) -> int:
        return len(self.times)


def grid_of(panel: Panel) -> Grid:
    """The grid of a panel; nothing is copied where all symbols have the same times and no close is missing."""
    symbols = len(panel)
    close = panel.column("close")
    if not panel.size:
        return Grid(np.zeros(0, dtype=np.int64), np.zeros((symbols, 0)), np.zeros(0, dtype=np.int64))
    parts = panel.timeline.each
    first = parts[0]
    if all(part is first or np.array_equal(part, first) for part in parts):
        closes = close.reshape(symbols, len(first))
        at = np.tile(np.arange(len(first)), symbols)
        return Grid(first, _filled(closes), at)
    times = np.unique(panel.times)
    at = np.searchsorted(times, panel.times)
    closes = np.full((symbols, len(times)), np.nan)
    symbol = np.repeat(np.arange(symbols), panel.timeline.sizes)
    closes[symbol, at] = close
    return Grid(times, _filled(closes), at)


def _filled(closes: np.ndarray) -> np.ndarray:
    """Closes with those that are missing as the last before them."""
    missing = np.isnan(closes)
    if not missing.any():
        return closes
    at = np.where(missing, 0, np.arange(closes.shape[1]))
    np.maximum.accumulate(at, axis=1, out=at)
    return np.take_along_axis(closes, at, axis=1)
