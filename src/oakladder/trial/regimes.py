"""Trades of a trial by the market that they were entered in: its trend, its volatility, and the year; and how a year went from
any day on."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.trial.breakdowns import TradeGroup, grouped
from oakladder.trial.trial import Trial

#: Sessions of the average that tells a rising market, and of the volatility.
TREND, VOLATILITY = 200, 20
#: Seconds of a year.
_YEAR = 365.25 * 86_400
_UNKNOWN = "not known yet"
_TRENDS = (f"index above its {TREND}-day average", f"index below its {TREND}-day average", _UNKNOWN)
_THIRDS = ("calm third", "middle third", "volatile third", _UNKNOWN)


@dataclass(frozen=True, slots=True)
class Market:
    """The index of a trial's symbols, in equal parts from their first opens, at the close of each session: its places in the
    grid (int64), and its values (float64). Each: shape (sessions,)."""

    sessions: np.ndarray
    index: np.ndarray

    @classmethod
    def of(cls, trial: Trial) -> Market:
        grid = trial.ground.grid
        sessions = grid.clock.sessions
        return cls(sessions, grid.held[sessions])

    def trend(self) -> np.ndarray:
        """At each session's close: 0 where the index is above its average of `TREND` sessions, 1 where not, 2 where that is
        not known. Shape (sessions,), int64."""
        average = _rolling_mean(self.index, TREND)
        made = np.where(self.index > average, 0, 1)
        return np.where(np.isnan(average) | np.isnan(self.index), 2, made).astype(np.int64)

    def volatility(self) -> np.ndarray:
        """At each session's close: 0, 1 or 2 for the third of all sessions in which the deviation of the last `VOLATILITY`
        sessions' returns lies, 3 where that is not known. Shape (sessions,), int64."""
        made = np.full(len(self.index), 3, dtype=np.int64)
        if len(self.index) <= VOLATILITY:
            return made
        with np.errstate(divide="ignore", invalid="ignore"):
            returns = self.index[1:] / self.index[:-1] - 1
        windows = np.lib.stride_tricks.sliding_window_view(returns, VOLATILITY)
        deviation = windows.std(axis=1, ddof=1)
        known = np.isfinite(deviation)
        if known.any():
            edges = np.quantile(deviation[known], (1 / 3, 2 / 3))
            made[VOLATILITY:][known] = np.searchsorted(edges, deviation[known], "left")
        return made


def by_trend(trial: Trial) -> list[TradeGroup]:
    """By whether the index of the trial's symbols stood above its average at the last session's close before the entry."""
    return grouped(trial, _at_entries(trial, Market.trend, 2), lambda key: _TRENDS[key])


def by_volatility(trial: Trial) -> list[TradeGroup]:
    """By how much the index moved up to then, in thirds of all sessions."""
    return grouped(trial, _at_entries(trial, Market.volatility, 3), lambda key: _THIRDS[key])


def by_year(trial: Trial) -> list[TradeGroup]:
    """By the year of the entry."""
    panel, entered = trial.ground.panel, trial.trades.entered
    years = panel.column("year")[entered].astype(np.int64) if len(entered) else np.zeros(0, dtype=np.int64)
    return grouped(trial, years, str)


def _at_entries(trial: Trial, state, unknown: int) -> np.ndarray:  # type: ignore[no-untyped-def]
    """What the market was like as of the last session that had closed before the bar of each entry opened."""
    market, grid = Market.of(trial), trial.ground.grid
    states = state(market)
    closed = grid.clock.closes[market.sessions]
    begun = trial.ground.panel.times[trial.trades.entered]
    at = np.searchsorted(closed, begun, "right") - 1
    return np.where(at >= 0, np.append(states, unknown)[at], unknown).astype(np.int64)


def _rolling_mean(values: np.ndarray, length: int) -> np.ndarray:
    made = np.full(len(values), np.nan)
    if len(values) >= length:
        made[length - 1 :] = np.lib.stride_tricks.sliding_window_view(values, length).mean(axis=1)
    return made


def rolling_year(trial: Trial) -> tuple[np.ndarray, np.ndarray]:
    """What the account brought over the year up to each session's close, as a ratio: from the last close that is a year ago
    or more. The times (int64 UTC seconds) and the ratios, of the sessions that have a year behind them. Each: shape
    (sessions,)."""
    equity = trial.equity
    sessions = equity.clock.sessions
    closes, value = equity.clock.closes[sessions], equity.value[sessions]
    before = np.searchsorted(closes, closes - _YEAR, "right") - 1
    there = before >= 0
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = value[there] / value[before[there]] - 1
    sound = np.isfinite(ratio)
    return equity.times[sessions][there][sound], ratio[sound]
