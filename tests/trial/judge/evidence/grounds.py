"""Markets to judge signals on: pure chance, and chance with an edge planted into it."""

from __future__ import annotations

import numpy as np

from helpers import daily_bars
from oakladder.bars.bars import Bars
from oakladder.bars.panels import panel_of
from oakladder.trial.trial import TrialData, trial_data_of


def walk(rng: np.random.Generator, count: int, symbol: str = "TEST", edge: float = 0.0, lasting: int = 5) -> Bars:
    """A random walk whose volumes are above 950 on 5 % of days at random; after each of those days the price drifts by
    ``edge`` for so many days."""
    volume = rng.uniform(0, 1000, count)
    drift = np.zeros(count + lasting + 1)
    for day in np.flatnonzero(volume > 950):
        drift[day + 1 : day + 1 + lasting] += edge
    steps = np.exp(rng.normal(0, 0.01, count) + drift[:count])
    close = 100 * np.cumprod(steps)
    open_ = np.concatenate([[100.0], close[:-1]])
    high, low = np.maximum(open_, close), np.minimum(open_, close)
    return daily_bars(close, symbol, open=open_, high=high, low=low, volume=volume)


def walks(seed: int, symbols: int, count: int, edge: float = 0.0) -> TrialData:
    """Several independent walks."""
    rng = np.random.default_rng(seed)
    return trial_data_of(panel_of([walk(rng, count, f"S{k}", edge) for k in range(symbols)]))
