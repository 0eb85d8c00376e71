"""Longer bars of shorter ones, cut from each session's start."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from oakladder.bars.bars import Bars
from oakladder.bars.sessions import Calendar
from oakladder.bars.shared_times import remembered, shared
from oakladder.bars.timeframes import Timeframe


def resample(bars: Bars, timeframe: Timeframe) -> Bars:
    """The same series in longer bars, cut from each session's start. Raises `ValueError` if that cannot be done."""
    if timeframe == bars.timeframe:
        return bars
    if not fits(bars.timeframe, timeframe):
        raise ValueError(f"{timeframe} bars cannot be made of {bars.timeframe} bars.")
    if len(bars) == 0:
        return replace(bars, timeframe=timeframe)
    first, last, times = shared_groups(bars.times, bars.calendar, timeframe)
    columns = {name: merge(bars[name], first, last) for name, merge in MERGES.items()}
    extended = bars.extended and timeframe.intraday
    return replace(bars, timeframe=timeframe, times=times, columns=columns, extended=extended)


def _groups(times: np.ndarray, calendar: Calendar, timeframe: Timeframe) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """First and last bar of each longer bar, and the longer bars' times."""
    if not len(times):
        none = np.zeros(0, dtype=np.int64)
        return none, none, times
    periods = calendar.periods(times, timeframe)
    first = np.concatenate([[0], np.flatnonzero(periods[1:] != periods[:-1]) + 1])
    last = np.concatenate([first[1:], [len(times)]]) - 1
    return first, last, shared(calendar.opens(times[first], timeframe))


def _first_known(x: np.ndarray, first: np.ndarray, last: np.ndarray) -> np.ndarray:
    made = x[first].copy()
    for k in np.flatnonzero(np.isnan(made)):
        part = x[first[k] : last[k] + 1]
        known = part[~np.isnan(part)]
        made[k] = known[0] if len(known) else np.nan
    return made


def _last_known(x: np.ndarray, first: np.ndarray, last: np.ndarray) -> np.ndarray:
    made = x[last].copy()
    for k in np.flatnonzero(np.isnan(made)):
        part = x[first[k] : last[k] + 1]
        known = part[~np.isnan(part)]
        made[k] = known[-1] if len(known) else np.nan
    return made


def _known_sum(x: np.ndarray, first: np.ndarray, _: np.ndarray) -> np.ndarray:
    lost = np.isnan(x)
    if not lost.any():
        return np.add.reduceat(x, first)
    sums = np.add.reduceat(np.where(lost, 0.0, x), first)
    known = np.add.reduceat(~lost, first)
    return np.where(known > 0, sums, np.nan)


#: Column → how a longer bar's value comes from its bars, given the first and last of each.
MERGES: dict[str, Callable[[np.ndarray, np.ndarray, np.ndarray], np.ndarray]] = {
    "open": _first_known,
    "high": lambda x, first, _: np.fmax.reduceat(x, first),
    "low": lambda x, first, _: np.fmin.reduceat(x, first),
    "close": _last_known,
    "volume": _known_sum,
}


def fits(base: Timeframe, longer: Timeframe) -> bool:
    """Whether bars of one timeframe can be put together from those of another."""
    if longer.order < base.order:
        return False
    return not (base.intraday and longer.intraday) or longer.count % base.count == 0


def shared_groups(
    times: np.ndarray, calendar: Calendar, timeframe: Timeframe
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """First and last bar of each longer bar, and the longer bars' times; remembered where the times are shared. Times:
    shape (bars,), int64; gives three of shape (longer bars,), int64."""
    return remembered(times, ("groups", calendar, timeframe), lambda: _groups(times, calendar, timeframe))
