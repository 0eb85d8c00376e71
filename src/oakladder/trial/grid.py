"""The moments of a panel that all of its symbols share: their times, and the last close of each symbol at each."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.trial.clock import Clock
from oakladder.trial.exchange import factors_of


@dataclass(frozen=True)
class Grid:
    """``times`` are the openings of bars, int64; ``closes`` the last known close of each symbol at the close of each,
    float64, shape (symbols, times), NaN before its first. ``at`` is the place of each bar of the panel among the times.
    """

    times: np.ndarray
    closes: np.ndarray
    at: np.ndarray
    #: What 1 becomes that is put in equal parts into every symbol at its first open, and waits in cash before; at each
    #: close.
    held: np.ndarray
    panel: Panel
    #: What a unit of each symbol is worth for each of its price at each moment (`factors_of`), of which ``closes`` are; shape
    #: (symbols, moments), float64, or None where that is 1.
    factors: np.ndarray | None = None

    def in_currency(self, currency: str) -> Grid:
        """The grid of what units are worth, in a currency of the account's; empty for none. Raises `RunProblem` where an
        exchange rate is not known."""
        known = self._in_currencies
        if currency not in known:
            factors = factors_of(self.panel, self.clock.closes, currency)
            known[currency] = self if factors is None else self._worth(factors)
        return known[currency]

    def know(self, currency: str, factors: np.ndarray | None) -> None:
        """Takes what units are worth in a currency, where that was worked out elsewhere. Shape (symbols, moments), float64."""
        self._in_currencies[currency] = self if factors is None else self._worth(factors)

    @cached_property
    def _in_currencies(self) -> dict[str, Grid]:
        return {}

    def _worth(self, factors: np.ndarray) -> Grid:
        made = _with_held(self.panel, self.times, self.closes * factors, self.at, factors)
        return replace(made, factors=factors)

    def factor(self, bars: np.ndarray) -> np.ndarray | float:
        """What a unit is worth for each of its price on some bars of the panel (int64); float64 of that shape, or 1."""
        if self.factors is None:
            return 1.0
        symbol = np.searchsorted(self.panel.offsets, bars, "right") - 1
        return np.asarray(self.factors[symbol, self.at[bars]])

    @cached_property
    def columns(self) -> dict[str, np.ndarray]:
        """What the code of an account reads of the panel, float64: the ``closes`` of one symbol behind those of the
        other, the moment of each bar (``at``), when the moments close (``clock``, seconds), the price steps of the
        symbols (``ticks``) and their last bars (``ends``). Shapes in that order: (symbols * moments,), (bars,),
        (moments,), (symbols,) twice."""
        panel = self.panel
        made = {
            "closes": self.closes.ravel(),
            "at": self.at,
            "clock": self.clock.closes,
            "ticks": np.array(panel.steps),
            "ends": panel.offsets[1:] - 1,
        }
        return {name: values.astype(np.float64, copy=False) for name, values in made.items()}

    @cached_property
    def below_zero(self) -> np.ndarray:
        """Which symbols have a price of 0 or below (a spread, say): what is worth so much has no return in per cent. Shape
        (symbols,), bool."""
        made = np.zeros(len(self.panel), dtype=bool)
        there = np.flatnonzero(self.panel.timeline.sizes > 0)
        if len(there):
            lows = np.fmin.reduceat(self.panel.column("low"), self.panel.starts[there])
            closes = np.fmin.reduceat(self.panel.column("close"), self.panel.starts[there])
            made[there] = np.fmin(lows, closes) <= 0
        return made

    @cached_property
    def clock(self) -> Clock:
        """When its moments close, and which end a session."""
        return Clock.of(self.times, self.panel.timeline)

    def __len__(self) -> int:
        return len(self.times)


def grid_of(panel: Panel) -> Grid:
    """The grid of a panel; nothing is copied where all symbols have the same times and no close is missing."""
    symbols = len(panel)
    close = panel.column("close")
    if not panel.size:
        return Grid(
            np.zeros(0, dtype=np.int64),
            np.zeros((symbols, 0)),
            np.zeros(0, dtype=np.int64),
            np.zeros(0),
            panel,
        )
    parts = panel.timeline.each
    first = parts[0]
    if all(part is first or np.array_equal(part, first) for part in parts):
        closes = close.reshape(symbols, len(first))
        at = np.tile(np.arange(len(first)), symbols)
        return _with_held(panel, first, _filled(closes), at)
    times = np.unique(panel.times)
    at = np.searchsorted(times, panel.times)
    closes = np.full((symbols, len(times)), np.nan)
    symbol = np.repeat(np.arange(symbols), panel.timeline.sizes)
    closes[symbol, at] = close
    return _with_held(panel, times, _filled(closes), at)


def _with_held(
    panel: Panel, times: np.ndarray, closes: np.ndarray, at: np.ndarray, factors: np.ndarray | None = None
) -> Grid:
    """A grid with the growth of what is held. Times: shape (moments,), int64; closes and factors (symbols, moments), float64;
    at (bars,), int64."""
    opens = panel.column("open")
    if factors is not None:
        symbol = np.repeat(np.arange(len(panel)), panel.timeline.sizes)
        opens = opens * factors[symbol, at]
    there = np.flatnonzero(panel.timeline.sizes > 0)
    firsts = opens[panel.starts[there]]
    for k in np.flatnonzero(np.isnan(firsts)).tolist():  # the first open that is known
        own = opens[panel.starts[there[k]] : panel.ends[there[k]]]
        known = np.flatnonzero(~np.isnan(own))
        firsts[k] = own[known[0]] if len(known) else np.nan
    growth = np.zeros(len(times))
    for row, first in zip(there.tolist(), firsts.tolist(), strict=True):
        ratio = closes[row] / first if first == first and first else np.ones(len(times))
        growth += np.where(np.isnan(ratio), 1.0, ratio)
    made = Grid(times, closes, at, growth / max(len(there), 1), panel)
    return replace(made, held=np.full(len(times), np.nan)) if made.below_zero.any() else made


def _filled(closes: np.ndarray) -> np.ndarray:
    """Closes with missing ones filled from the last before them."""
    missing = np.isnan(closes)
    if not missing.any():
        return closes
    at = np.where(missing, 0, np.arange(closes.shape[1]))
    np.maximum.accumulate(at, axis=1, out=at)
    return np.take_along_axis(closes, at, axis=1)
