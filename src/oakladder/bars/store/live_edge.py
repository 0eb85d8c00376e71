"""The library with the minutes in progress after its last ones: what is true now, before a bar has closed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.errors import NoBars
from oakladder.bars.resample import resample
from oakladder.bars.store.append_log import Tail
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.library_view import LibraryView
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe


class LiveEdge(LibraryView):
    """Reads like `BarLibrary`; the last bar of a symbol with a minute in progress holds that minute.

    ``forming`` are those minutes by symbol, at real prices, each a `Tail` of one bar; one that is final by now is passed
    over.
    """

    def __init__(self, library: BarLibrary, forming: Mapping[str, Tail]):
        super().__init__(library)
        self._forming = forming

    def bars(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> Bars:
        """The bars, with the one in progress as the last. Raises as `BarLibrary.bars` does."""
        if symbol not in self._forming:  # which others may change meanwhile
            return self._library.bars(symbol, timeframe, extended)
        return super().bars(symbol, timeframe, extended)

    def _seen(self, symbol: str, timeframe: Timeframe, extended: bool) -> Bars:
        if timeframe.order > ONE_DAY.order:
            return resample(self.bars(symbol, ONE_DAY), timeframe)
        whole, calendar = self._library.bars(symbol, timeframe, extended), self.infos[symbol].calendar
        tail = self._forming[symbol]
        inside = extended and timeframe.intraday
        if not inside and not bool(calendar.is_regular(tail.times)[0]):
            return whole
        first = int(calendar.opens(tail.times, timeframe)[0])
        minutes = self._minutes(symbol, inside)
        if len(minutes) and minutes.times[-1] >= tail.times[0]:
            return whole  # it is final by now
        own = Bars(symbol, ONE_MINUTE, calendar, tail.times, dict(tail.columns), minutes.extended)
        own = own.adjusted(self.infos[symbol].adjustments)
        begun = minutes.part(
            int(np.searchsorted(minutes.times, first)), int(np.searchsorted(minutes.times, tail.times[0]))
        )
        columns = {name: np.concatenate([begun[name], own[name]]) for name in COLUMNS}
        made = resample(replace(begun, times=np.concatenate([begun.times, own.times]), columns=columns), timeframe)
        done = whole.part(0, int(np.searchsorted(whole.times, made.times[0])))
        if len(done) < len(whole) and not timeframe.intraday:
            return whole  # the day has a daily bar already
        columns = {name: np.concatenate([done[name], made[name]]) for name in COLUMNS}
        return replace(whole, times=np.concatenate([done.times, made.times]), columns=columns)

    def _minutes(self, symbol: str, extended: bool) -> Bars:
        try:
            return self._library.bars(symbol, self.infos[symbol].finest, extended)
        except NoBars:
            nothing = dict.fromkeys(COLUMNS, np.zeros(0))
            return Bars(symbol, ONE_MINUTE, self.infos[symbol].calendar, np.zeros(0, dtype=np.int64), nothing, extended)

    def stored(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> int:
        """As `BarLibrary.stored`, with the minute in progress."""
        if symbol not in self._forming:
            return self._library.stored(symbol, timeframe, extended)
        return super().stored(symbol, timeframe, extended)

    def at_hand(self, symbols: Sequence[str], timeframe: Timeframe, extended: bool = False) -> dict[str, int]:
        """As `BarLibrary.at_hand`, of the symbols without a minute in progress."""
        return self._library.at_hand([s for s in symbols if s not in self._forming], timeframe, extended)
