"""When the bars of a curve close and which of them end a session: what its metrics need of the calendar, worked out once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.bars.timeline import Timeline
from oakladder.bars.zones import DAY


@dataclass(frozen=True, slots=True)
class Clock:
    """``closes`` are the closes of bars (int64 UTC seconds), ``sessions`` the places of the last bar of each session."""

    closes: np.ndarray
    sessions: np.ndarray

    @classmethod
    def of(cls, times: np.ndarray, timeline: Timeline) -> Clock:
        """The clock of bars that open at some times, by the calendar of the first symbol of a panel that has bars.
        Shape (moments,), int64 UTC seconds."""
        if not len(times):
            return cls(times, np.zeros(0, dtype=np.int64))
        calendar = timeline.calendars[int(np.argmax(timeline.sizes > 0))]
        lasting = Timeline(timeline.timeframe, (calendar,), np.array([0, len(times)]), (times,), timeline.extended)
        if not timeline.timeframe.intraday:
            return cls(lasting.closes(0), np.arange(len(times)))
        days = calendar.days(times)
        return cls(lasting.closes(0), np.flatnonzero(np.append(days[1:] != days[:-1], True)))

    def since(self, first: int) -> Clock:
        """The clock of the bars from a place on."""
        if not first:
            return self
        return Clock(self.closes[first:], self.sessions[self.sessions >= first] - first)

    @property
    def days(self) -> float:
        """The days from the first close to the last."""
        return float(self.closes[-1] - self.closes[0]) / DAY if len(self.closes) else 0.0
