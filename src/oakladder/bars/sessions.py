"""Sessions: when a market trades, in its own time zone, and where longer bars begin and end.

Times are whole seconds since 1970 in UTC. Days are counted from 1970-01-01 in the exchange's zone; a session that
begins on the evening before belongs to the day on which it ends.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from oakladder.bars.shared_times import remembered
from oakladder.bars.timeframes import BarUnit, Timeframe
from oakladder.bars.zones import DAY, TimeZone, zone_of

#: The bits of `Calendar.marks`.
BEGINS, COMPLETES, LATE = 1, 2, 4
#: Bars of a day are numbered in three parts of up to this many each.
_PART = 2048
#: Days between the first and the last of some bars that are looked at one by one, besides as many as there are bars.
_DENSE = 100_000


@dataclass(frozen=True, slots=True)
class Calendar:
    """The trading hours of a market. Minutes are counted from the midnight at which a day begins, in its zone; they
    are negative for a session that begins on the evening before.

    ``early`` and ``late`` bound the hours outside the regular session, together at most 24; a market that
    trades around the clock has a regular session of 0 to 1440. ``holidays`` are days counted from 1970-01-01;
    ``halves`` are days with the minute at which their regular session ends instead of ``end``.
    """

    zone: str = "UTC"
    start: int = 0
    end: int = 1440
    early: int = 0
    late: int = 1440
    weekend: bool = False
    holidays: frozenset[int] = frozenset()
    halves: frozenset[tuple[int, int]] = frozenset()

    @property
    def _zone(self) -> TimeZone:
        return zone_of(self.zone)

    @property
    def _turn(self) -> int:
        """The minute at which one day's trading gives way to the next."""
        first, last = min(self.early, self.start), max(self.late, self.end)
        return first if first < 0 else max(last - 1440, 0)

    def local(self, times: np.ndarray) -> np.ndarray:
        """Exchange clock times as seconds since 1970, shape as ``times``. Int64."""
        return self._zone.local(times)

    def utc(self, local: np.ndarray) -> np.ndarray:
        """UTC seconds of exchange clock times; a time that a clock change skips lands after it. Int64, shape as
        ``local``."""
        return self._zone.utc(local)

    def days(self, times: np.ndarray) -> np.ndarray:
        """The day to whose session each time belongs. Days since 1970, int64, shape as ``times`` (UTC seconds)."""
        return (self.local(times) - self._turn * 60) // DAY

    def minutes(self, times: np.ndarray) -> np.ndarray:
        """Minute of the day to whose session each time belongs. Int64, shape as ``times`` (UTC seconds)."""
        return self._split(times)[1]

    def _split(self, times: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        local = self.local(times)
        days = (local - self._turn * 60) // DAY
        return days, (local - days * DAY) // 60

    def shown(self, times: np.ndarray, timeframe: Timeframe) -> np.ndarray:
        """The displayed time of a bar: its opening on the exchange's clock, or the midnight of its day. Seconds since
        1970, int64, shape as ``times`` (UTC seconds)."""
        return self.local(times) if timeframe.intraday else self.days(times) * DAY

    def is_regular(self, times: np.ndarray) -> np.ndarray:
        """Whether times (UTC seconds, int64) are inside regular hours. Bool, shape as ``times``."""

        def work() -> np.ndarray:
            days, minutes = self._split(times)
            return (minutes >= self.start) & (minutes < self._ends(days))

        return remembered(times, ("regular", self), work)

    def _ends(self, days: np.ndarray) -> np.ndarray | int:
        """The minute at which the regular session of each day ends."""
        if not self.halves:
            return self.end
        half, end = _halves_of(self.halves)
        at = np.searchsorted(half, days)
        found = half[np.minimum(at, len(half) - 1)] == days
        return np.where(found, end[np.minimum(at, len(half) - 1)], self.end)

    def trades_on(self, days: np.ndarray) -> np.ndarray:
        """Whether the market is scheduled to trade on a day. Days since 1970, int64; bool, shape as ``days``."""
        open_ = np.ones(len(days), dtype=bool) if self.weekend else (days + 3) % 7 < 5
        if self.holidays:
            open_ &= ~np.isin(days, np.fromiter(self.holidays, dtype=np.int64))
        return open_

    def day_open(self, days: np.ndarray, extended: bool = False) -> np.ndarray:
        """When the sessions of days (since 1970, int64) open. UTC seconds, int64, shape as ``days``."""
        return self._zone.utc(days * DAY + (min(self.early, self.start) if extended else self.start) * 60)

    def day_close(self, days: np.ndarray, extended: bool = False) -> np.ndarray:
        """When the sessions of days (since 1970, int64) close, half days early. UTC seconds, int64, shape as ``days``."""
        end = max(self.late, self.end) if extended else self._ends(days)
        return self._zone.utc(days * DAY + end * 60, last=True)

    # --- periods ----------------------------------------------------------------------------------

    def periods(self, times: np.ndarray, timeframe: Timeframe) -> np.ndarray:
        """A number for each bar that says which bar of the timeframe it belongs to; it never falls. Int64, shape as
        ``times`` (UTC seconds, rising)."""
        days, minutes = self._split(times)
        match timeframe.span:
            case BarUnit.DAY:
                return days
            case BarUnit.WEEK:
                return (days + 3) // 7
            case BarUnit.MONTH:
                months: np.ndarray = days.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
                return months
        part, begin, _ = self._parts(days, minutes)
        made = days * (4 * _PART) + part * _PART + (minutes - begin) // timeframe.count
        odd = self._odd(days)
        if odd is not None:
            days, part, begin = days[odd], part[odd], begin[odd]
            since = times[odd] - self._zone.utc(days * DAY + begin * 60)
            made[odd] = days * (4 * _PART) + part * _PART + since // (60 * timeframe.count)
        return made

    def _parts(self, days: np.ndarray, minutes: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The part of the day (0 early, 1 regular, 2 late) with its first and its last minute."""
        ends = self._ends(days)
        part = np.where(minutes < self.start, 0, np.where(minutes < ends, 1, 2))
        first, last = min(self.early, self.start), max(self.late, self.end)
        if isinstance(ends, int):
            return part, np.array([first, self.start, ends])[part], np.array([self.start, ends, last])[part]
        return part, np.choose(part, [first, self.start, ends]), np.choose(part, [self.start, ends, last])

    def _odd(self, days: np.ndarray) -> np.ndarray | None:
        """Where bars lie on days on which the clocks change: there bars are cut by the time that passes, since the
        clock shows some times twice or never. None where there are no such days."""
        changes = self._zone.change_days
        if not len(changes) or not len(days):
            return None
        # The day of a session may be the one after the clock's.
        a, b = np.searchsorted(changes, (int(days.min()) - 1, int(days.max()) + 1))
        if a == b:
            return None
        near = changes[a:b]
        made = np.flatnonzero(np.isin(days, np.concatenate([near, near + 1]) if self._turn else near))
        return made if len(made) else None

    def opens(self, times: np.ndarray, timeframe: Timeframe) -> np.ndarray:
        """The stamp of the longer bar that begins with each bar: its nominal opening. UTC seconds, int64, shape as
        ``times``."""
        if not timeframe.intraday:
            return self.day_open(self.days(times))
        return self._bounds(times, timeframe)[0]

    def _bounds(self, times: np.ndarray, timeframe: Timeframe) -> tuple[np.ndarray, np.ndarray]:
        """Opening and close of the bar within the day that holds each time."""
        days, minutes = self._split(times)
        _, begin, end = self._parts(days, minutes)
        opens = begin + (minutes - begin) // timeframe.count * timeframe.count
        closes = np.minimum(opens + timeframe.count, end)
        made = self._zone.utc(days * DAY + opens * 60), self._zone.utc(days * DAY + closes * 60, last=True)
        odd = self._odd(days)
        if odd is not None:
            first = self._zone.utc(days[odd] * DAY + begin[odd] * 60)
            final = self._zone.utc(days[odd] * DAY + end[odd] * 60, last=True)
            length = 60 * timeframe.count
            made[0][odd] = first + (times[odd] - first) // length * length
            made[1][odd] = np.minimum(made[0][odd] + length, final)
        return made

    def closes(self, times: np.ndarray, timeframe: Timeframe, extended: bool = False) -> np.ndarray:
        """When the bar of that timeframe which holds each time is complete: by the schedule, not by what traded. UTC
        seconds, int64, shape as ``times``."""
        return remembered(
            times, ("closes", self, timeframe, extended), lambda: self._closes(times, timeframe, extended)
        )

    def _closes(self, times: np.ndarray, timeframe: Timeframe, extended: bool) -> np.ndarray:
        if timeframe.intraday:
            return self._bounds(times, timeframe)[1]
        days = self.days(times)
        if timeframe.span is BarUnit.WEEK:
            final = (days + 3) // 7 * 7 - 3 + 6
        elif timeframe.span is BarUnit.MONTH:
            following = days.astype("datetime64[D]").astype("datetime64[M]") + 1
            final = following.astype("datetime64[D]").astype(np.int64) - 1
        else:
            return self.day_close(days, extended)
        return self.day_close(self._last_session(final, days), extended)

    def _last_session(self, final: np.ndarray, earliest: np.ndarray) -> np.ndarray:
        """The last scheduled day at or before ``final``, but not before ``earliest``."""
        if not len(final):
            return final
        low, high = int(final.min()), int(final.max())
        if high - low < len(final) + _DENSE:  # every day between, once: far fewer than there are bars
            made, at = np.arange(low, high + 1), final - low
        else:
            made, at = np.unique(final, return_inverse=True)
        for _ in range(31):
            closed = ~self.trades_on(made)
            if not closed.any():
                break
            made[closed] -= 1
        return np.maximum(made[at], earliest)

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

        Times: UTC seconds, int64, rising; the shape is theirs.
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


@lru_cache(maxsize=64)
def _halves_of(halves: frozenset[tuple[int, int]]) -> tuple[np.ndarray, np.ndarray]:
    """Half days in order, and the minute at which each ends."""
    made = np.array(sorted(halves), dtype=np.int64)
    return made[:, 0], made[:, 1]
