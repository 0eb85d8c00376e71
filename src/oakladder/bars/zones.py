"""Time zones as arrays: from UTC to a zone's clock and back, and on which days the clocks change."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache
from zoneinfo import ZoneInfo

import numpy as np

DAY = 86_400
#: Directories of zones with leap seconds, and of second copies of the others.
_OTHER_CLOCKS = ("right", "posix", "posixrules")
_FIRST_YEAR, _LAST_YEAR = 1970, 2100


@dataclass(frozen=True, slots=True, eq=False)
class TimeZone:
    """The moments (UTC seconds) at which a zone's offset from UTC changes, and the offset from each on, in seconds."""

    moments: np.ndarray
    offsets: np.ndarray
    #: Clock times from which on each offset counts, for the first and for the last of two moments that show the same.
    _first: np.ndarray
    _last: np.ndarray
    #: The days of the zone's clock on which it changes, counted from 1970-01-01.
    change_days: np.ndarray

    def local(self, times: np.ndarray) -> np.ndarray:
        """What the clock shows, as seconds since 1970, shape as ``times`` (UTC seconds). Int64."""
        return times + self.offsets[np.searchsorted(self.moments, times, "right") - 1]

    def utc(self, local: np.ndarray, *, last: bool = False) -> np.ndarray:
        """The moments at which the clock shows given times: the first or the last of two; a time that a change skips
        lands after it. Int64, shape as ``local``."""
        from_on = self._last if last else self._first
        return local - self.offsets[np.searchsorted(from_on, local, "right") - 1]


@lru_cache(maxsize=64)
def is_zone(name: str) -> bool:
    """Whether there is a zone of that name; to look one up is much quicker than to list them all."""
    if name.partition("/")[0] in _OTHER_CLOCKS:
        return False
    try:
        ZoneInfo(name)
    except (KeyError, ValueError, OSError):
        return False
    return True


@lru_cache(maxsize=64)
def zone_of(name: str) -> TimeZone:
    """A zone by its name. Raises `ZoneInfoNotFoundError` (a `KeyError`) for an unknown one."""
    info = ZoneInfo(name)

    def offset(t: int) -> int:
        return int(datetime.fromtimestamp(t, info).utcoffset().total_seconds())  # type: ignore[union-attr]

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
            if high - low > 1800:
                middle -= middle % 900  # nearly all changes are at whole quarters of an hour
            elif high % 900 == 0 and offset(high - 1) == values[-1]:
                break
            low, high = (middle, high) if offset(middle) == values[-1] else (low, middle)
        moments.append(high)
        values.append(offset(high))
    at, offsets = np.array(moments, dtype=np.int64), np.array(values, dtype=np.int64)
    before = np.concatenate([offsets[:1], offsets[:-1]])
    first, last = at + np.maximum(before, offsets), at + offsets
    days = {*((at + before)[1:] // DAY).tolist(), *((at + offsets)[1:] // DAY).tolist()}
    changes = np.array(sorted(days), dtype=np.int64)  # `numpy.unique` would load masked arrays for it, at each start
    return TimeZone(at, offsets, first, last, changes)
