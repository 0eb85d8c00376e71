"""Where new hours, days, months and years begin among bars: computed in the background, as a million bars take a while."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

import numpy as np

from oakladder.bars.bars import Bars


@dataclass(frozen=True, slots=True)
class TimeMarks:
    """``steps`` are the bars on which something begins, in order, and how their time is written, from coarse to fine;
    ``local`` the times of bars as their market's clock shows them (seconds), ``days`` their days since 1970."""

    steps: tuple[tuple[np.ndarray, str], ...]
    local: np.ndarray
    days: np.ndarray


#: The last that were found: a chart asks again for the same bars with every change of its script.
_RECENT: deque[tuple[Bars, TimeMarks]] = deque(maxlen=2)


def time_marks(bars: Bars) -> TimeMarks:
    """The marks of some bars. Safe to be called from any thread."""
    found = next((marks for known, marks in tuple(_RECENT) if known is bars), None)
    if found is None:
        found = _marks_of(bars)
        _RECENT.append((bars, found))
    return found


def _marks_of(bars: Bars) -> TimeMarks:
    local = bars.calendar.shown(bars.times, bars.timeframe)
    days = bars.calendar.days(bars.times)
    months = days.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
    kinds = [
        (months // 12, "%Y"),
        (months // 3, "%b %y"),
        (months, "%b %y"),
        ((days + 3) // 7, "%d %b"),
        (days, "%d %b"),
    ]
    if bars.timeframe.intraday:
        kinds += [(local // (3600 * h), "%H:%M") for h in (3, 1)] + [(local // (60 * m), "%H:%M") for m in (15, 5)]
    steps = tuple((np.flatnonzero(values[1:] != values[:-1]) + 1, form) for values, form in kinds)
    return TimeMarks(steps, local, days)
