"""Bars of one symbol."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from oakladder.bars.adjustments import Adjustments
from oakladder.bars.sessions import Calendar
from oakladder.bars.shared_times import remembered, shared
from oakladder.bars.timeframes import Timeframe

PRICES = ("open", "high", "low", "close")
COLUMNS = (*PRICES, "volume")


#: Larger numbers than this in data are no prices; they become none.
ABSURD = 1e18


@dataclass(frozen=True, slots=True)
class Bars:
    """The bars of one symbol at one timeframe, oldest first.

    ``times`` are opening times in UTC seconds, int64, strictly rising; the columns are float64 of the same
    length with NaN for none.
    """

    symbol: str
    timeframe: Timeframe
    calendar: Calendar
    times: np.ndarray
    columns: Mapping[str, np.ndarray]
    extended: bool = False
    #: What its prices were adjusted by; None where they are real ones.
    adjustments: Adjustments | None = None

    def __len__(self) -> int:
        return len(self.times)

    def __getitem__(self, name: str) -> np.ndarray:
        return self.columns[name]

    def part(self, start: int, end: int) -> Bars:
        """Bars ``start`` up to but not including ``end``."""
        columns = {k: v[start:end] for k, v in self.columns.items()}
        return replace(self, times=self.times[start:end], columns=columns)

    def adjusted(self, adjustments: Adjustments | None) -> Bars:
        """Bars of real prices as adjusted ones; the volume stays."""
        if adjustments is None:
            return self
        factor = adjustments.on_days(self.calendar.days(self.times))
        columns = {n: v * factor if n in PRICES else v for n, v in self.columns.items()}
        return replace(self, columns=columns, adjustments=adjustments)

    def regular(self) -> Bars:
        """The bars inside regular hours."""
        if not self.timeframe.intraday:
            return self
        kept = regular_times(self.times, self.calendar)
        if kept is None:
            return replace(self, extended=False)
        times, keep = kept
        return replace(self, times=times, columns={k: v[keep] for k, v in self.columns.items()}, extended=False)


def regular_times(times: np.ndarray, calendar: Calendar) -> tuple[np.ndarray, np.ndarray] | None:
    """The times inside regular hours and where they are; None where all of them are. Times: shape (bars,), int64 UTC
    seconds; places: shape (regular bars,), int64 indices."""

    def work() -> tuple[np.ndarray, np.ndarray] | None:
        # What is remembered of an array must not hold the array itself, or it would never go.
        keep = calendar.is_regular(times)
        return None if keep.all() else (shared(times[keep]), np.flatnonzero(keep))

    return remembered(times, ("kept", calendar), work)


def is_tidy(array: np.ndarray) -> bool:
    """Whether no number of a column is infinite or of an absurd size. Shape (bars,), float64."""
    return not len(array) or bool(
        np.fmax.reduce(array, initial=-ABSURD / 2) < ABSURD and np.fmin.reduce(array, initial=ABSURD / 2) > -ABSURD
    )


def tidy(values: np.ndarray) -> np.ndarray:
    """A column as contiguous float64 with infinities and absurd sizes made none. Any real dtype in, shape (bars,); the
    same shape out."""
    array = np.ascontiguousarray(values, dtype=np.float64)
    if is_tidy(array):
        return array
    with np.errstate(invalid="ignore"):
        return np.where(np.abs(array) >= ABSURD, np.nan, array)
