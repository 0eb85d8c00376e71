"""The curve of an account: its value at the close of every bar, compared with buy and hold."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.trial.broker.account import Book
from oakladder.trial.clock import Clock


@dataclass(frozen=True, slots=True)
class Equity:
    """Values at the closes of the bars of ``times`` (their openings, int64 UTC seconds), float64.

    ``held`` is what the same money would be, put into all symbols in equal parts at their first opens and left there.
    ``positions`` counts the open ones at each close.
    """

    times: np.ndarray
    value: np.ndarray
    held: np.ndarray
    positions: np.ndarray
    start: float
    clock: Clock

    @property
    def peak(self) -> np.ndarray:
        """The highest value so far, the start included; float64. Shape (moments,)."""
        return np.maximum.accumulate(np.maximum(self.value, self.start)) if len(self.value) else self.value

    @property
    def under_water(self) -> np.ndarray:
        """How far below its highest value so far, as a ratio from 0 to -1; float64. Shape (moments,)."""
        return self.value / self.peak - 1


def equity_of(book: Book, first: int = 0) -> Equity:
    """The curve of an account from a place in the grid on."""
    grid, (money, positions, worth) = book.grid, book.curve
    curve = book.start + np.cumsum(money) + worth
    return Equity(
        grid.times[first:],
        curve[first:],
        book.start * grid.held[first:],
        np.cumsum(positions)[first:],
        book.start,
        grid.clock.since(first),
    )
