"""Where a run goes on that does not begin with the first bar, and what a run leaves for such a one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.rung.native.simd.text import TILE


@dataclass(frozen=True, slots=True)
class Checkpoint:
    """Where a run goes on: for each symbol how many of its bars lie before, and the state after them, shape (symbols,
    cells)."""

    bars: np.ndarray
    rows: np.ndarray


@dataclass(slots=True)
class CheckpointRecorder:
    """What a run of all bars leaves to be saved: the same as `Start`, for each symbol of a panel."""

    bars: np.ndarray
    rows: np.ndarray
    #: So many of the last bars lie behind a state that is kept, or a few more.
    tail: int

    @classmethod
    def of(cls, symbols: int, cells: int, tail: int) -> CheckpointRecorder:
        """An empty recorder for so many symbols."""
        return cls(np.zeros(symbols, dtype=np.int64), np.zeros((symbols, cells)), tail)

    def bars_before(self, bars: int) -> int:
        """After how many bars of so many the state is kept: a whole number of tiles, as lanes go on with."""
        return max(bars - self.tail, 0) // TILE * TILE

    def keep(self, k: int | np.ndarray, bars: int, rows: np.ndarray) -> None:
        """Takes the state of one symbol or of several after so many bars. Rows: shape (cells,) or (symbols, cells),
        float64."""
        self.bars[k], self.rows[k] = bars, rows
