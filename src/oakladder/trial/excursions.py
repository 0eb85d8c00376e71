"""How far trades went against and for the trader while they were held."""

from __future__ import annotations

import numpy as np

from oakladder.rung.trade_log import Moment
from oakladder.rung.trade_words import Reason
from oakladder.trial.trades import Trades


def excursions(trades: Trades) -> tuple[np.ndarray, np.ndarray]:
    """The worst and the best that each trade was worth, as ratios of its entry price: worst at most 0, best at least 0.

    From the extremes of the bars at whose closes it was held, and of the bar on which it was left as far as they count:
    at the open only the exit price; inside at a stop that price alone (what is beyond it came later); inside at a target
    the exit price for it, and whatever the bar did against it; at the close all of the bar.
    """
    panel = trades.panel
    count = len(trades)
    if not count:
        return np.zeros(0), np.zeros(0)
    high, low = panel.column("high"), panel.column("low")
    ends = np.where(trades.closed, trades.left, panel.offsets[trades.symbol + 1])
    highs = _over(np.fmax, high, trades.entered, ends)
    lows = _over(np.fmin, low, trades.entered, ends)
    bar = np.where(trades.closed, trades.left, 0)
    at_close = trades.closed & (trades.moment == Moment.CLOSE)
    at_target = trades.closed & (trades.moment == Moment.INSIDE) & (trades.reason == Reason.TARGET.number)
    exits = np.where(trades.closed, trades.exit, trades.entry)
    is_long = trades.side > 0
    against, forward = np.where(is_long, lows, highs), np.where(is_long, highs, lows)
    against = _worse(against, exits, trades.side)
    forward = -_worse(-forward, -exits, trades.side)
    bar_against = np.where(is_long, low[bar], high[bar])
    bar_forward = np.where(is_long, high[bar], low[bar])
    against = np.where(at_close | at_target, _worse(against, bar_against, trades.side), against)
    forward = np.where(at_close, -_worse(-forward, -bar_forward, trades.side), forward)
    worst = trades.side * (_worse(against, trades.entry, trades.side) / trades.entry - 1)
    best = trades.side * (-_worse(-forward, -trades.entry, trades.side) / trades.entry - 1)
    return worst, best


def _worse(a: np.ndarray, b: np.ndarray, side: np.ndarray) -> np.ndarray:
    """The worse of two prices for a side: the lower for a long."""
    return np.where(side > 0, np.fmin(a, b), np.fmax(a, b))


def _over(how: np.ufunc, column: np.ndarray, first: np.ndarray, end: np.ndarray) -> np.ndarray:
    """Folds a column over ranges of bars, each from ``first`` up to ``end``; NaN over none."""
    padded = np.append(column, np.nan)
    pairs = np.column_stack([first, np.maximum(end, first + 1)]).ravel()
    made = how.reduceat(padded, pairs)[::2]
    return np.where(end > first, made, np.nan)
