"""The library as it was known at a moment: later bars are not there, the bar in progress is made of what had traded."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from oakladder.bars.bars import Bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.resample import resample
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.library_view import LibraryView
from oakladder.bars.store.live_edge import LiveEdge
from oakladder.bars.timeframes import ONE_DAY, Timeframe


class LibraryAsOf(LibraryView):
    """A library cut at a moment (UTC seconds). Reads like `BarLibrary`, and never gives anything later."""

    def __init__(self, library: BarLibrary, moment: int):
        super().__init__(library)
        self.moment = moment

    def _seen(self, symbol: str, timeframe: Timeframe, extended: bool) -> Bars:
        """Bars that were complete by the moment, and the one in progress."""
        if timeframe.order > ONE_DAY.order:
            return resample(self.bars(symbol, ONE_DAY), timeframe)
        whole = self._library.bars(symbol, timeframe, extended)
        closes = whole.calendar.closes(whole.times, timeframe, whole.extended)
        done = int(np.searchsorted(closes, self.moment, "right"))
        made = whole.part(0, done)
        if done < len(whole) and whole.times[done] < self.moment:
            forming = self._forming(symbol, timeframe, extended, int(whole.times[done]))
            if forming is not None:
                columns = {name: np.append(values, forming[name]) for name, values in made.columns.items()}
                times = np.append(made.times, whole.times[done])
                made = replace(made, times=times, columns=columns)
        return made

    def _forming(self, symbol: str, timeframe: Timeframe, extended: bool, start: int) -> Bars | None:
        """The bar in progress since ``start``, from the complete minutes; None without any."""
        try:
            finest = self.infos[symbol].finest
            minutes = self._library.bars(symbol, finest, extended and timeframe.intraday)
        except DataProblem:
            return None
        first, last = np.searchsorted(minutes.times, (start, self.moment - 60 * finest.count + 1))
        if last <= first:
            return None
        return resample(minutes.part(int(first), int(last)), timeframe).part(0, 1)


BarSource = BarLibrary | LibraryAsOf | LiveEdge
