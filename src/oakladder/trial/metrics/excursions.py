"""How far trades went against and for the trader while they were held."""

from __future__ import annotations

import numpy as np

from oakladder.rung.trade_log import Moment
from oakladder.rung.trade_words import Reason
from oakladder.trial.broker.trades import Trades


def excursions(trades: Trades) -> tuple[np.ndarray, np.ndarray]:
    """The worst and the best that each trade was worth, as ratios of its entry price: worst at most 0, best at least 0.

    From the extremes of the bars at whose closes it was held, and of the bar on which it was left as far as they count:
    at the open only the exit price; inside the bar's open, which came before, and at a stop that price alone (what is
    beyond it came later), at a target the exit price for it, and whatever the bar did against it; at the close all of the
    bar.

    Each: shape (trades,), float64.
    """
    if not len(trades):
        return np.zeros(0), np.zeros(0)
    panel, closed, side = trades.panel, trades.closed, trades.side
    against = np.where(closed, trades.against, trades.entry)
    forward = np.where(closed, trades.best, trades.entry)
    exits = np.where(closed, trades.exit, trades.entry)
    against, forward = _worse(against, exits, side), _better(forward, exits, side)
    inside = np.flatnonzero(closed & (trades.moment == Moment.INSIDE) & (trades.left > trades.entered))
    opens = panel.column("open")[trades.left[inside]]
    against[inside] = _worse(against[inside], opens, side[inside])
    forward[inside] = _better(forward[inside], opens, side[inside])
    at_close = closed & (trades.moment == Moment.CLOSE)
    at_target = closed & (trades.moment == Moment.INSIDE) & (trades.reason == Reason.TARGET.number)
    bad, good = _of_bars(trades, at_close | at_target)
    against = np.where(at_close | at_target, _worse(against, bad, side), against)
    forward = np.where(at_close, _better(forward, good, side), forward)
    open_ = np.flatnonzero(~closed)
    if len(open_):
        pairs = np.column_stack([trades.entered[open_], panel.offsets[trades.symbol[open_] + 1]]).ravel()
        high = np.fmax.reduceat(np.append(panel.column("high"), np.nan), pairs)[::2]
        low = np.fmin.reduceat(np.append(panel.column("low"), np.nan), pairs)[::2]
        is_long = side[open_] > 0
        against[open_] = _worse(against[open_], np.where(is_long, low, high), side[open_])
        forward[open_] = _better(forward[open_], np.where(is_long, high, low), side[open_])
    with np.errstate(divide="ignore", invalid="ignore"):
        worst = side * (_worse(against, trades.entry, side) / trades.entry - 1)
        best = side * (_better(forward, trades.entry, side) / trades.entry - 1)
    return worst, best


def _of_bars(trades: Trades, which: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The worst and the best price for the trader on the bars on which some trades were left; NaN for the others."""
    bad, good = np.full(len(trades), np.nan), np.full(len(trades), np.nan)
    bars, is_long = trades.left[which], trades.side[which] > 0
    low, high = trades.panel.column("low")[bars], trades.panel.column("high")[bars]
    bad[which], good[which] = np.where(is_long, low, high), np.where(is_long, high, low)
    return bad, good


def _better(a: np.ndarray, b: np.ndarray, side: np.ndarray) -> np.ndarray:
    """The better of two prices for a side: the higher for a long."""
    return np.where(side > 0, np.fmax(a, b), np.fmin(a, b))


def _worse(a: np.ndarray, b: np.ndarray, side: np.ndarray) -> np.ndarray:
    """The worse of two prices for a side: the lower for a long."""
    return np.where(side > 0, np.fmin(a, b), np.fmax(a, b))
