"""Sessions: when a market trades, in its own time zone, and where longer bars begin and end.

Times are whole seconds since 1970 in UTC; days are counted from 1970-01-01 in the exchange's zone.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo

import numpy as np

from .clockwork import remembered
from .timeframes import Span, Timeframe

DAY = 86_400
#: The bits of `Calendar.marks`.
BEGINS, COMPLETES, LATE = 1, 2, 4
_FIRST_YEAR, _LAST_YEAR = 1970, 2100


@lru_cache(maxsize=32)
def _offsets(zone: str) -> tuple[np.ndarray, np.ndarray]:
    """The moments at which a zone's offset from UTC changes, and the offset from each on, in seconds."""
    info = ZoneInfo(zone)

    def offset(t: int) -> int:
        moment = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(seconds=t)
        return int(moment.astimezone(info).utcoffset().total_seconds())  # type: ignore[union-attr]

    begin = int(datetime(_FIRST_YEAR, 1, 2, tzinfo=UTC).timestamp())
    end = int(datetime(_LAST_YEAR, 1, 1, tzinfo=UTC).timestamp())
    moments, values = [-(1 << 60)], [offset(begin)]
    step = 15 * DAY
    for t in range(begin, end, step):
        if offset(t + step) == values[-1]:
            continue
        low, high = t, t + step
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (middle, high) if offset(middle) == values[-1] else (low, middle)
        moments.append(high)
        values.append(offset(high))
    return np.array(moments, dtype=np.int64), np.array(values, dtype=np.int64)


@dataclass(frozen=True, slots=True)
class Calendar:
    """The trading hours of a market. Minutes of the day are in its zone.

    ``early`` and ``late`` bound the hours outside the regular session; a market that trades around the
    clock has a regular session of 0 to 1440. ``holidays`` are days counted from 1970-01-01.
    """

    zone: str = "UTC"
    start: int = 0
    end: int = 1440
    early: int = 0
    late: int = 1440
    weekend: bool = False
    holidays: frozenset[int] = frozenset()

    def local(self, times: np.ndarray) -> np.ndarray:
        """Exchange clock times as seconds since 1970, shape as ``times``."""
        moments, values = _offsets(self.zone)
        return times + values[np.searchsorted(moments, times, "right") - 1]

    def utc(self, local: np.ndarray) -> np.ndarray:
        """UTC seconds of exchange clock times; a time that a clock change skips lands after it."""
        moments, values = _offsets(self.zone)
        guess = local - values[np.searchsorted(moments, local - values[-1], "right") - 1]
        return local - values[np.searchsorted(moments, guess, "right") - 1]

    def days(self, times: np.ndarray) -> np.ndarray:
        return self.local(times) // DAY

    def minutes(self, times: np.ndarray) -> np.ndarray:
        """Minute of the exchange's day."""
        return self.local(times) % DAY // 60

    def is_regular(self, times: np.ndarray) -> np.ndarray:
        def work() -> np.ndarray:
            minutes = self.minutes(times)
            return (minutes >= self.start) & (minutes < self.end)

        return remembered(times, ("regular", self), work)

    def trades_on(self, days: np.ndarray) -> np.ndarray:
        """Whether the market is scheduled to trade on a day."""
        open_ = np.ones(len(days), dtype=bool) if self.weekend else (days + 3) % 7 < 5
        if self.holidays:
            open_ &= ~np.isin(days, np.fromiter(self.holidays, dtype=np.int64))
        return open_

    def day_open(self, days: np.ndarray, extended: bool = False) -> np.ndarray:
        return self.utc(days * DAY + (self.early if extended else self.start) * 60)

    def day_close(self, days: np.ndarray, extended: bool = False) -> np.ndarray:
        return self.utc(days * DAY + (self.late if extended else self.end) * 60)

    # --- periods ----------------------------------------------------------------------------------

    def periods(self, times: np.ndarray, timeframe: Timeframe) -> np.ndarray:
        """A number for each bar that says which bar of the timeframe it belongs to; it never falls."""
        local = self.local(times)
        days = local // DAY
        match timeframe.span:
            case Span.DAY:
                return days
            case Span.WEEK:
                return (days + 3) // 7
            case Span.MONTH:
                months: np.ndarray = days.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
                return months
        part, begin, _ = self._parts(local % DAY // 60)
        return days * 8192 + part * 2048 + (local % DAY // 60 - begin) // timeframe.count

    def _parts(self, minutes: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The part of the day (0 early, 1 regular, 2 late) with its first and its last minute."""
        part = np.where(minutes < self.start, 0, np.where(minutes < self.end, 1, 2))
        begin = np.array([min(self.early, self.start), self.start, self.end])[part]
        end = np.array([self.start, self.end, max(self.late, self.end)])[part]
        return part, begin, end

    def opens(self, times: np.ndarray, timeframe: Timeframe) -> np.ndarray:
        """The stamp of the longer bar that begins with each bar: its nominal opening."""
        local = self.local(times)
        if not timeframe.intraday:
            return self.day_open(local // DAY)
        minutes = local % DAY // 60
        _, begin, _ = self._parts(minutes)
        return self.utc(local // DAY * DAY + (begin + (minutes - begin) // timeframe.count * timeframe.count) * 60)

    def closes(self, times: np.ndarray, timeframe: Timeframe, extended: bool = False) -> np.ndarray:
        """When the bar of that timeframe which holds each time is complete: by the schedule, not by what traded."""
        return remembered(
            times, ("closes", self, timeframe, extended), lambda: self._closes(times, timeframe, extended)
        )

    def _closes(self, times: np.ndarray, timeframe: Timeframe, extended: bool) -> np.ndarray:
        local = self.local(times)
        days = local // DAY
        if timeframe.intraday:
            minutes = local % DAY // 60
            _, begin, end = self._parts(minutes)
            last = begin + ((minutes - begin) // timeframe.count + 1) * timeframe.count
            return self.utc(days * DAY + np.minimum(last, end) * 60)
        if timeframe.span is Span.WEEK:
            final = (days + 3) // 7 * 7 - 3 + 6
        elif timeframe.span is Span.MONTH:
            following = days.astype("datetime64[D]").astype("datetime64[M]") + 1
            final = following.astype("datetime64[D]").astype(np.int64) - 1
        else:
            return self.day_close(days, extended)
        return self.day_close(self._last_session(final, days), extended)

    def _last_session(self, final: np.ndarray, earliest: np.ndarray) -> np.ndarray:
        """The last scheduled day at or before ``final``, but not before ``earliest``."""
        if not len(final):
            return final
        low = int(final.min())
        # Every day between the first and the last, once: far fewer than there are bars.
        made = np.arange(low, int(final.max()) + 1)
        for _ in range(31):
            closed = ~self.trades_on(made)
            if not closed.any():
                break
            made[closed] -= 1
        return np.maximum(made[final - low], earliest)

    def marks(
        self,
        times: np.ndarray,
        base: Timeframe,
        longer: Timeframe,
        extended: bool = False,
        previous: int | None = None,
    ) -> np.ndarray:
        """For each bar of ``base``, what happens to the longer bar that it is part of, as bits in a uint8.

        1: the longer bar begins; 2: it is complete at this bar's close; 4: the longer bar before was left
        incomplete (its last bars are missing) and is complete now. ``previous`` is the time of the bar
        before the first, where there is one.
        """
        if previous is not None:
            return self._marks(times, base, longer, extended, previous)
        return remembered(
            times, ("marks", self, base, longer, extended), lambda: self._marks(times, base, longer, extended, None)
        )

    def _marks(
        self, times: np.ndarray, base: Timeframe, longer: Timeframe, extended: bool, previous: int | None
    ) -> np.ndarray:
        if base == longer or len(times) == 0:
            return np.full(len(times), BEGINS | COMPLETES, dtype=np.uint8)
        whole = times if previous is None else np.concatenate([[previous], times])
        periods = self.periods(whole, longer)
        begins = np.ones(len(whole), dtype=bool)
        begins[1:] = periods[1:] != periods[:-1]
        completes = self.closes(whole, base, extended) >= self.closes(whole, longer, extended)
        late = np.zeros(len(whole), dtype=bool)
        late[1:] = begins[1:] & ~completes[:-1]
        made = (begins * BEGINS + completes * COMPLETES + late * LATE).astype(np.uint8)
        return made if previous is None else made[1:]
