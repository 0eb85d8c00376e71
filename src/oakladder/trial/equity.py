"""The curve of an account: its value at the close of every bar, beside the same money simply held."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.trial.account import Book
from oakladder.trial.ledger import Taken

#: So many trades are reckoned together: few enough for the cache.
_TOGETHER = 2_000


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
    paid, got = book.paid[taken], book.got[taken]
    cash = np.bincount(entered, -side * units * paid - costs.of_fills(units, paid), size)
    out = side * units * got - costs.of_fills(units, got)
    cash += np.bincount(left[closed], out[closed], size)
    positions = np.cumsum(np.bincount(entered, minlength=size) - np.bincount(left[closed], minlength=size))
    value = np.zeros(size)
    for part in range(0, len(taken), _TOGETHER):
        some = slice(part, part + _TOGETHER)
        _add_held(value, (entered[some], left[some], (side * units)[some]), grid.closes, symbol[some])
    curve = book.start + np.cumsum(cash) + value
    held = book.start * grid.held
    return Equity(grid.times[first:], curve[first:], held[first:], positions[first:].astype(np.float64), book.start)


def _add_held(
    value: np.ndarray,
    trades: tuple[np.ndarray, np.ndarray, np.ndarray],
    closes: np.ndarray,
    symbol: np.ndarray,
) -> None:
    """Adds what some trades are worth at the closes of bars from the entry's up to the exit's."""
    entered, left, units = trades
    lengths = left - entered
    total = int(lengths.sum())
    begins = np.cumsum(lengths) - lengths
    at = np.arange(total) + np.repeat(entered - begins, lengths)
    place = at + np.repeat(symbol * closes.shape[1], lengths)
    value += np.bincount(at, np.repeat(units, lengths) * closes.ravel()[place], len(value))
