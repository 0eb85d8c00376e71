"""Times of bars as people read them, on the exchange's clock."""

from __future__ import annotations

from datetime import UTC, datetime

import numpy as np

from oakladder.bars.bars import Bars
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import BarUnit, Timeframe


def bar_time(bars: Bars, bar: int) -> str:
    """When a bar opened, as the exchange's clock and calendar say."""
    return opening_words(bars.calendar, bars.timeframe, int(bars.times[bar]))


def opening_words(calendar: Calendar, timeframe: Timeframe, time: int) -> str:
    """The opening time of a bar (UTC seconds), as the exchange's clock and calendar say."""
    moment = np.datetime64(int(calendar.shown(np.array([time]), timeframe)[0]), "s").item()
    if timeframe.span is BarUnit.MONTH:
        return f"{moment:%b %Y}"
    return f"{moment:%a %d %b %Y %H:%M}" if timeframe.intraday else f"{moment:%a %d %b %Y}"


def moment_words(calendar: Calendar, moment: int) -> str:
    """A moment (UTC seconds) on the exchange's clock."""
    local = np.datetime64(int(calendar.local(np.array([moment]))[0]), "s").item()
    return f"{local:%a %d %b %Y %H:%M}"


def iso(time: int) -> str:
    """A time (UTC seconds) in ISO 8601, in UTC."""
    return datetime.fromtimestamp(int(time), UTC).isoformat()


def tick_words(tick: float) -> str:
    """The smallest step of a price without the zeros that say nothing."""
    return f"{tick:.8f}".rstrip("0").rstrip(".")
