"""The curve of an account: its value at the close of every bar, beside the same money simply held."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.trial.account import Book
from oakladder.trial.ledger import Taken


@dataclass(frozen=True, slots=True)
class Equity:
    """Values at the closes of the bars of ``times`` (their openings, int64 UTC seconds), float64.

    ``held`` is what the same money would be, put into all symbols in equal parts at their first opens and left there.
    ``positions`` counts those that are held at each close.
    """

    times: np.ndarray
    value: np.ndarray
    held: np.ndarray
    positions: np.ndarray
    start: float

    @property
    def under_water(self) -> np.ndarray:
        """How far below its highest value so far, the start included, as a ratio from 0 to -1; float64."""
        peak = np.maximum.accumulate(np.maximum(self.value, self.start)) if len(self.value) else self.value
        return self.value / peak - 1


def equity_of(book: Book, first: int = 0) -> Equity:
    """The curve of an account from a place in the grid on."""
    trades, grid = book.trades, book.grid
    taken = np.flatnonzero(book.taken == Taken.YES)
    size = len(grid)
    side, units, symbol = trades.side[taken], book.units[taken], trades.symbol[taken]
    entered = grid.at[trades.entered[taken]] if len(taken) else taken
    closed = trades.closed[taken]
    left = np.where(closed, grid.at[np.maximum(trades.left[taken], 0)] if len(taken) else taken, size)
    costs = book.account.costs

    def fee(price: np.ndarray) -> np.ndarray:
        return costs.fixed + costs.per_unit * units + costs.ratio * units * price

    paid, got = book.paid[taken], book.got[taken]
    cash = np.bincount(entered, -side * units * paid - fee(paid), size)
    out = side * units * got - fee(got)
    cash += np.bincount(left[closed], out[closed], size)
    # Held at the closes of bars from the entry's up to the exit's.
    lengths = left - entered
    total = int(lengths.sum())
    which = np.repeat(np.arange(len(taken)), lengths)
    at = np.arange(total) - np.repeat(np.cumsum(lengths) - lengths, lengths) + np.repeat(entered, lengths)
    value = np.bincount(at, (side * units)[which] * grid.closes[symbol[which], at], size)
    positions = np.bincount(at, minlength=size)
    curve = book.start + np.cumsum(cash) + value
    return Equity(grid.times[first:], curve[first:], _held(book)[first:], positions[first:], book.start)


def _held(book: Book) -> np.ndarray:
    """The same money simply held: in each symbol from its first open on, in cash before."""
    panel, grid = book.trades.panel, book.grid
    there = panel.timeline.sizes > 0
    count = int(there.sum())
    if not count or not len(grid):
        return np.full(len(grid), book.start)
    opens = panel.column("open")
    made = np.zeros(len(grid))
    for k in np.flatnonzero(there).tolist():
        first, last = int(panel.starts[k]), int(panel.ends[k])
        known = np.flatnonzero(~np.isnan(opens[first:last]))
        growth = grid.closes[k] / opens[first + known[0]] if len(known) else np.ones(len(grid))
        made += np.where(np.isnan(growth), 1.0, growth)
    return book.start / count * made
