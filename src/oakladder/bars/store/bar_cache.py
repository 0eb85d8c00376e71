"""Bars of single symbols that were read or resampled, kept in memory up to a number of bytes."""

from __future__ import annotations

import threading
from collections import OrderedDict

from oakladder.bars.bars import Bars
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.tuning import TUNING

#: Symbol, timeframe, and whether hours outside the session are among the bars.
Key = tuple[str, Timeframe, bool]


class BarCache:
    """The bars that were asked for last. Safe to be used from several threads."""

    def __init__(self, most_bytes: int | None = None) -> None:
        self._most_bytes = most_bytes
        self._lock = threading.Lock()
        self._bars: OrderedDict[Key, Bars] = OrderedDict()
        self._bytes = 0

    def get(self, key: Key) -> Bars | None:
        with self._lock:
            return self._bars.get(key)

    def put(self, key: Key, bars: Bars) -> None:
        """Keeps bars; the oldest give way."""
        with self._lock:
            if key not in self._bars:
                self._bars[key] = bars
                self._bytes += _bytes_of(bars)
            most = TUNING.bar_cache_bytes if self._most_bytes is None else self._most_bytes
            while self._bytes > most and len(self._bars) > 1:
                self._bytes -= _bytes_of(self._bars.popitem(last=False)[1])

    def forget(self, symbol: str) -> None:
        """Drops the bars of a symbol: they have changed."""
        with self._lock:
            for key in [key for key in self._bars if key[0] == symbol]:
                self._bytes -= _bytes_of(self._bars.pop(key))

    def clear(self) -> None:
        with self._lock:
            self._bars.clear()
            self._bytes = 0

    def stored(self) -> set[tuple[str, Timeframe]]:
        """The symbols of which stored bars are kept, with their timeframe."""
        with self._lock:
            return {(symbol, frame) for symbol, frame, _ in self._bars if frame in (ONE_MINUTE, ONE_DAY)}


def _bytes_of(bars: Bars) -> int:
    """The bytes of the columns; times are shared."""
    return sum(v.nbytes for v in bars.columns.values())
