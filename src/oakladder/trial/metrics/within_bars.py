"""How far the value of an account fell within bars, by the worst prices of what it held."""

from __future__ import annotations

import numpy as np

from oakladder.rung.trade_log import Moment
from oakladder.rung.trade_words import Reason
from oakladder.trial.broker.account import Book
from oakladder.trial.broker.ledger import Taken
from oakladder.trial.metrics.equity import Equity

#: So many bars of trades are laid out at once.
_AT_ONCE = 2_000_000


def falls_within_bars(book: Book, equity: Equity, first: int) -> tuple[float, float]:
    """The largest fall from a previous peak of closes, as a ratio and in money, where each bar counts with the price that
    was worst for what was held on it: the low for a long, the high for a short, as if those of all symbols came at once.

    A trade's last bar counts as for its excursion (`excursions`): its exit price where it left at the open or a stop, and
    the worst of the bar where it left at a target or the close. ``equity`` begins at a place of the grid, ``first``.
    """
    value = equity.value
    if not len(value):
        return 0.0, 0.0
    lowest = value - _missing(book)[first:]
    before = np.append(equity.start, equity.peak[:-1])
    closes = equity.peak - value
    fall = max(float((1 - lowest / before).max()), float((closes / equity.peak).max()), 0.0)
    return fall, max(float((before - lowest).max()), float(closes.max()), 0.0)


def _missing(book: Book) -> np.ndarray:
    """What all that is held was worth less at the worst price of each bar than at its close, or its exit, float64. Shape
    (moments,)."""
    trades, panel = book.trades, book.trades.panel
    made = np.zeros(len(book.grid))
    taken = np.flatnonzero((book.taken == Taken.YES) & (book.units > 0))
    if not len(taken):
        return made
    ends = np.where(trades.closed[taken], trades.left[taken], panel.offsets[trades.symbol[taken] + 1])
    close = panel.column("close")
    counts = ends - trades.entered[taken]
    for part in _parts(counts):
        which, held = taken[part], counts[part]
        owner = np.repeat(which, held)
        bars = np.arange(len(owner)) - np.repeat(np.cumsum(held) - held, held) + trades.entered[owner]
        _add(made, book, owner, bars, close[bars])
    last = taken[trades.closed[taken]]
    target = (trades.moment[last] == Moment.INSIDE) & (trades.reason[last] == Reason.TARGET.number)
    last = last[target | (trades.moment[last] == Moment.CLOSE)]
    _add(made, book, last, trades.left[last], trades.exit[last])
    return made


def _add(made: np.ndarray, book: Book, owner: np.ndarray, bars: np.ndarray, price: np.ndarray) -> None:
    """Adds by how much some bars' worst prices lie beyond a price, times what their trades held. ``owner``: the trade of
    each bar, int64; ``price`` float64. Each: shape (bars,); ``made``: shape (moments,), float64."""
    if not len(owner):
        return
    panel, sides = book.trades.panel, {int(rule.side) for rule in book.trades.rules}
    beyond = price - panel.column("low")[bars] if 1 in sides else 0.0
    if -1 in sides:
        is_long = book.trades.side[owner] > 0 if len(sides) > 1 else False
        beyond = np.where(is_long, beyond, panel.column("high")[bars] - price)
    weights = np.fmax(beyond, 0.0) * book.units[owner] * book.grid.factor(bars)  # 0 where a price is not known
    made += np.bincount(book.grid.at[bars], weights, len(made))


def _parts(counts: np.ndarray) -> list[slice]:
    """Runs of trades with at most `_AT_ONCE` bars together, or one alone. Counts: shape (trades,), int64."""
    ends = np.cumsum(counts)
    made, start = [], 0
    while start < len(counts):
        base = int(ends[start - 1]) if start else 0
        stop = max(int(np.searchsorted(ends, base + _AT_ONCE, "right")), start + 1)
        made.append(slice(start, stop))
        start = stop
    return made
