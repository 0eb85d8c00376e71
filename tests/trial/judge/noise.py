"""Markets without any edge, each with a rule that trades in it: what a test of skill must not call skill."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from helpers import daily_bars
from oakladder.bars.bars import Bars
from oakladder.bars.panels import panel_of
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import Timeframe
from oakladder.trial.trial import TrialData, trial_data_of

#: The bars of a session within the day, half an hour each.
_BARS_A_DAY = 13


@dataclass(frozen=True, slots=True)
class Noise:
    """A kind of noise: its market by the seed, and a rule with a trade and the signal ``go``."""

    name: str
    market: Callable[[int], TrialData]
    rule: str


def correlated(rng: np.random.Generator, symbols: int, count: int, correlation: float) -> np.ndarray:
    """Returns of one bar (normal, 1 %), shape (symbols, count)."""
    common = rng.normal(0, 0.01, count)
    own = rng.normal(0, 0.01, (symbols, count))
    return np.sqrt(correlation) * common + np.sqrt(1 - correlation) * own


def clustered(rng: np.random.Generator, count: int) -> np.ndarray:
    """Volatilities that stay low or high (1 % and 3 %) for some forty bars on average. Shape (count,)."""
    turns = rng.random(count) < 1 / 40
    return np.where(np.cumsum(turns) % 2, 0.03, 0.01)


def daily(returns: np.ndarray, volume: np.ndarray) -> TrialData:
    """Daily bars that open at the close before; returns and volume have shape (symbols, bars)."""
    return trial_data_of(panel_of([_bars(r, v, f"S{k}") for k, (r, v) in enumerate(zip(returns, volume, strict=True))]))


def _prices(returns: np.ndarray) -> dict[str, np.ndarray]:
    close = 100 * np.exp(np.cumsum(returns - returns.var() / 2))
    open_ = np.append(100.0, close[:-1])
    return {"open": open_, "high": np.maximum(open_, close), "low": np.minimum(open_, close), "close": close}


def _bars(returns: np.ndarray, volume: np.ndarray, symbol: str) -> Bars:
    columns = _prices(returns)
    return daily_bars(columns["close"], symbol, **columns, volume=volume)


def within_the_day(returns: np.ndarray, volume: np.ndarray) -> TrialData:
    """Bars of half an hour, thirteen a session."""
    calendar = Calendar("UTC", 570, 960, 570, 960)
    count = returns.shape[1] // _BARS_A_DAY
    days = np.arange(15_000, 15_000 + 2 * count + 10, dtype=np.int64)
    opens = calendar.day_open(days[calendar.trades_on(days)][:count])
    times = (opens[:, None] + 1800 * np.arange(_BARS_A_DAY)).ravel()
    bars = [
        Bars(f"S{k}", Timeframe.parse("30m"), calendar, times, {**_prices(r), "volume": v})
        for k, (r, v) in enumerate(zip(returns, volume, strict=True))
    ]
    return trial_data_of(panel_of(bars))


def _volume(rng: np.random.Generator, symbols: int, count: int, *, common: bool = False) -> np.ndarray:
    """Volumes that know nothing of prices: 1 to 1,000, alike for all symbols where they are ``common``."""
    made = rng.uniform(0, 1000, (1 if common else symbols, count))
    return np.broadcast_to(made, (symbols, count)).copy()


def _independent(seed: int) -> TrialData:
    rng = np.random.default_rng(seed)
    return daily(correlated(rng, 12, 750, 0.0), _volume(rng, 12, 750))


def _correlated(seed: int) -> TrialData:
    rng = np.random.default_rng(seed)
    return daily(correlated(rng, 12, 750, 0.5), _volume(rng, 12, 750, common=True))


def _regimes(seed: int) -> TrialData:
    rng = np.random.default_rng(seed)
    volatility = clustered(rng, 1500)
    return daily((rng.normal(0, 1, 1500) * volatility)[None, :], _volume(rng, 1, 1500))


def _both(seed: int) -> TrialData:
    rng = np.random.default_rng(seed)
    return daily(correlated(rng, 12, 1000, 0.5) * clustered(rng, 1000) / 0.01, _volume(rng, 12, 1000))


def _few(seed: int) -> TrialData:
    rng = np.random.default_rng(seed)
    return daily(correlated(rng, 2, 750, 0.3), _volume(rng, 2, 750))


def _overlapping(seed: int) -> TrialData:
    rng = np.random.default_rng(seed)
    return daily(correlated(rng, 12, 1000, 0.5), _volume(rng, 12, 1000))


def _sessions(seed: int) -> TrialData:
    rng = np.random.default_rng(seed)
    count = 160 * _BARS_A_DAY
    hours = np.tile(np.linspace(1.5, 0.7, _BARS_A_DAY), 160)  # the first hour moves more than the last
    return within_the_day(correlated(rng, 6, count, 0.4) * 0.3 * hours, _volume(rng, 6, count))


_OFTEN = "rung 1\nsignal go = volume > 950 bullish\ntrade ride long\n    enter when go\n    at most 5 bars\n"
_HIGH = (
    "rung 1\nlet wide = sma(abs(close / close[1] - 1), 10)\nsignal go = wide > 1.3 * sma(wide, 100) and volume > 600 bullish\n"
    "trade ride long\n    enter when go\n    at most 5 bars\n"
)
_LONG = "rung 1\nsignal go = volume > 960 bullish\ntrade ride long\n    enter when go\n    at most 20 bars\n"
_DAY = (
    "rung 1\nsignal go = volume > 930 bullish\ntrade ride long\n    enter when go\n    at most 4 bars\n"
    "    flat at session end\n"
)

KINDS = (
    Noise("independent symbols", _independent, _OFTEN),
    Noise("correlated symbols, the same bars", _correlated, _OFTEN),
    Noise("clustered volatility, entries when it is high", _regimes, _HIGH),
    Noise("both together", _both, _HIGH),
    Noise("few symbols", _few, _OFTEN),
    Noise("overlapping entries", _overlapping, _LONG),
    Noise("sessions within the day", _sessions, _DAY),
)
