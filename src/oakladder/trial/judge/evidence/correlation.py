"""Sums of numbers over flags that are shifted round by every number of bars: a circular correlation, row by row.

Where a row has many flags, by one product of Fourier transforms; where it has few, flag by flag. Both give the same sums but
for the last digits.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.trial.judge.evidence.shifted_sums import BLOCK, add_turned

#: Up to so many flags a row cost less one by one than a transform: that of 5,000 numbers takes as long as to add so many
#: rows of 2,500.
_FEW = 200


@dataclass(frozen=True, slots=True)
class Flags:
    """Flags of some rows of one length: the row and the bar of each, by row and then by bar, int64."""

    rows: int
    row: np.ndarray
    bar: np.ndarray

    def before(self, size: int) -> Flags:
        """Those on the first ``size`` bars."""
        some = self.bar < size
        return self if some.all() else Flags(self.rows, self.row[some], self.bar[some])


def flags_of(flags: np.ndarray) -> Flags:
    """Flags (bool, shape (rows, bars)) by their places."""
    row, bar = np.nonzero(flags)
    return Flags(len(flags), row, bar)


class Correlation:
    """Sums over shifted flags of rows of ``size`` numbers each."""

    def __init__(self, size: int):
        self._size, self._length = size, 0
        self._transformed: np.ndarray | None = None
        self._added: np.ndarray | None = None
        #: What is the same for every shift.
        self.flat = 0.0

    def add(self, flags: Flags, numbers: np.ndarray) -> None:
        """Adds rows of numbers (float64, shape (rows, size)) with their flags."""
        if len(flags.row) <= _FEW * flags.rows:
            self._one_by_one(flags, numbers)
        else:
            self._all_at_once(flags, numbers)

    def _one_by_one(self, flags: Flags, numbers: np.ndarray) -> None:
        size = self._size
        doubled = np.empty((flags.rows, 2 * size + BLOCK))
        doubled[:, :size] = doubled[:, size : 2 * size] = numbers
        doubled[:, 2 * size :] = 0
        if self._added is None:
            self._added = np.zeros(size + BLOCK)
        ends = np.searchsorted(flags.row, np.arange(flags.rows), "right")
        add_turned(self._added, doubled, ends, np.ascontiguousarray(flags.bar), size)

    def _all_at_once(self, flags: Flags, numbers: np.ndarray) -> None:
        from scipy import fft  # takes longer to load than most of what is judged

        self._length = self._length or fft.next_fast_len(max(2 * self._size - 1, 1), real=True)
        padded = np.zeros((flags.rows, self._length))
        padded[flags.row, flags.bar] = 1.0
        shape = np.conj(fft.rfft(padded, axis=1))
        padded[:, : self._size] = numbers
        padded[:, self._size :] = 0
        product = np.einsum("ij,ij->j", shape, fft.rfft(padded, axis=1))
        self._transformed = product if self._transformed is None else self._transformed + product

    def turned(self) -> np.ndarray:
        """The sum for each shift: what is shifted beyond the last bar comes in at the first; float64, shape (size,)."""
        made = np.full(self._size, self.flat)
        if self._added is not None:
            made += self._added[: self._size]
        if self._transformed is not None:
            from scipy import fft

            straight = fft.irfft(self._transformed, self._length)
            made += straight[: self._size]
            made[1:] += straight[self._length - self._size + 1 :]
        return made
