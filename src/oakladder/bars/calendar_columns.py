"""What the exchange's calendar says of every bar, as columns."""

from __future__ import annotations

import numpy as np

from oakladder.bars.timeline import Timeline


def calendar_columns(timeline: Timeline) -> dict[str, np.ndarray]:
    """What the exchange's calendar says of every bar, as columns of float64.

    ``clock`` (minutes), ``weekday`` (1 Monday), ``day``, ``month``, ``year``, ``day_number`` (days since 1970),
    and ``extended`` (1 outside regular hours).

    Each has shape (bars,).
    """
    days = timeline.by_symbol(lambda c, times: c.days(times))
    dates = days.astype("datetime64[D]")
    months = dates.astype("datetime64[M]")
    outside = np.zeros(len(days))
    if timeline.timeframe.intraday:
        outside = timeline.by_symbol(lambda c, times: ~c.is_regular(times))
    made = {
        "clock": timeline.by_symbol(lambda c, times: c.minutes(times) % 1440),
        "weekday": (days + 3) % 7 + 1,
        "day": (dates - months).astype(np.int64) + 1,
        "month": months.astype(np.int64) % 12 + 1,
        "year": months.astype(np.int64) // 12 + 1970,
        "day_number": days,
        "extended": outside,
    }
    return {name: np.ascontiguousarray(values, dtype=np.float64) for name, values in made.items()}


def last_of_session(timeline: Timeline) -> np.ndarray:
    """1 on bars with whose close the regular session ends by the calendar, else 0; float64. Bars of a day and longer
    all end with a session. Shape (bars,)."""
    if not timeline.timeframe.intraday:
        return np.ones(timeline.size)
    ends = timeline.by_symbol(lambda c, times: c.day_close(c.days(times)))
    return (timeline.all_closes() == ends).astype(np.float64)


def close_clock(timeline: Timeline) -> np.ndarray:
    """The time of day at which each bar closes, in minutes from the midnight before its opening: 1440 and more for one
    that lasts into the next day; float64. Shape (bars,)."""
    opens = timeline.by_symbol(lambda c, times: c.minutes(times) % 1440)
    return np.ascontiguousarray(opens + (timeline.all_closes() - timeline.times) / 60, dtype=np.float64)
