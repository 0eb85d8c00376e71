"""Days on which a market did not trade, recognised from bars where that is plain: the same date year after year, or no
bar of any of several symbols."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from oakladder.bars.calendar_words import ClosedDays
from oakladder.bars.errors import DataProblem
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.edit_metadata import Change, edit_symbols
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe

#: So many years must have a date without bars, and no year one with bars.
_YEARS = 3
#: A day counts as closed if at least so many symbols lack it, and none has a bar on it.
_SYMBOLS = 5
#: A session that ends so many minutes early for all of them is a half day.
_EARLY = 60


def missing_days(days: np.ndarray, calendar: Calendar) -> np.ndarray:
    """The scheduled days between the first and the last of some days (rising) that are not among them. Days since 1970,
    int64: shape (days,) in, shape (missing days,) out."""
    if len(days) < 2:
        return np.zeros(0, dtype=np.int64)
    every = np.arange(days[0], days[-1] + 1, dtype=np.int64)
    return np.setdiff1d(every[calendar.trades_on(every)], days)


def closed_every_year(days: np.ndarray, calendar: Calendar) -> frozenset[int]:
    """The missing days whose date was missed in every year in which the market would have traded on it. Days since
    1970: shape (days,), int64."""
    missing = missing_days(days, calendar)
    if not len(missing):
        return frozenset()
    every = np.arange(days[0], days[-1] + 1, dtype=np.int64)
    scheduled = every[calendar.trades_on(every)]
    dates = _dates_of(scheduled)
    was_missing = np.isin(scheduled, missing)
    made: set[int] = set()
    for date in np.unique(_dates_of(missing)).tolist():
        here = dates == date
        if here.sum() >= _YEARS and was_missing[here].all():
            made.update(scheduled[here].tolist())
    return frozenset(made)


def _dates_of(days: np.ndarray) -> np.ndarray:
    """Month and day as one number."""
    dates = days.astype("datetime64[D]")
    months = dates.astype("datetime64[M]")
    return (months.astype(np.int64) % 12) * 40 + (dates - months).astype(np.int64)


def closed_for_all(days_of: Sequence[np.ndarray], calendar: Calendar) -> frozenset[int]:
    """The scheduled days on which none of several symbols has a bar, though all of them had begun and none had ended.
    Each: shape (days,), int64 days since 1970."""
    spans = [d for d in days_of if len(d) > 1]
    if len(spans) < _SYMBOLS:
        return frozenset()
    first, last = max(int(d[0]) for d in spans), min(int(d[-1]) for d in spans)
    traded = np.unique(np.concatenate(spans))
    inside = traded[(traded >= first) & (traded <= last)]
    return frozenset(missing_days(inside, calendar).tolist()) if len(inside) > 1 else frozenset()


def ended_early(times_of: Sequence[np.ndarray], calendar: Calendar, step: int) -> frozenset[tuple[int, int]]:
    """The days on which the last regular bar of every one of several symbols came long before the session's end, with
    the minute at which that bar ended; ``step`` is the length of the bars in minutes. Each: shape (bars,), int64 UTC
    seconds."""
    if len(times_of) < _SYMBOLS:
        return frozenset()
    last: dict[int, list[int]] = {}
    for times in times_of:
        days, minutes = calendar.days(times), calendar.minutes(times)
        regular = (minutes >= calendar.start) & (minutes < calendar.end)
        days, minutes = days[regular], minutes[regular]
        ends = np.flatnonzero(np.append(days[1:] != days[:-1], True)) if len(days) else days
        for day, minute in zip(days[ends].tolist(), minutes[ends].tolist(), strict=True):
            last.setdefault(day, []).append(minute + step)
    usual = calendar.end
    return frozenset(
        (day, max(found))
        for day, found in last.items()
        if len(found) >= _SYMBOLS and calendar.start < max(found) <= usual - _EARLY
    )


def recognise(library: BarLibrary, symbols: Iterable[str]) -> dict[str, int]:
    """Enters the closed days that are plain from the bars of symbols with a calendar in common; gives for each symbol
    how many it knows more now. What a user has said of their calendars by hand stays."""
    together: dict[Calendar, list[str]] = {}
    for symbol in symbols:
        info = library.infos.get(symbol)
        if info is not None and "calendar" not in info.by_hand:
            together.setdefault(info.calendar, []).append(symbol)
    told: dict[str, int] = {}
    for calendar, names in together.items():
        holidays = closed_for_all([_days(library, s, calendar) for s in names], calendar)
        minutes = [_minutes(library, s) for s in names]
        step = max((library.infos[s].step for s in names), default=1)
        halves = ended_early([m for m in minutes if len(m)], calendar, step)
        more = ClosedDays(calendar.holidays | holidays, calendar.halves | halves)
        new = len(more.holidays) + len(more.halves) - len(calendar.holidays) - len(calendar.halves)
        if new:
            edit_symbols(library, names, Change(closed=more), by_hand=False)
            told |= dict.fromkeys(names, new)
    return told


def _days(library: BarLibrary, symbol: str, calendar: Calendar) -> np.ndarray:
    """The days on which a symbol has bars of any kind."""
    found = [calendar.days(library.base(symbol, base).times) for base in _bases(library, symbol)]
    return np.unique(np.concatenate(found)) if found else np.zeros(0, dtype=np.int64)


def _minutes(library: BarLibrary, symbol: str) -> np.ndarray:
    if ONE_MINUTE not in _bases(library, symbol):
        return np.zeros(0, dtype=np.int64)
    return library.base(symbol, ONE_MINUTE).times


def _bases(library: BarLibrary, symbol: str) -> list[Timeframe]:
    made = []
    for base in (ONE_DAY, ONE_MINUTE):
        try:
            if library.path(symbol, base).exists() and len(library.base(symbol, base)):
                made.append(base)
        except DataProblem:
            continue
    return made
