"""The library as it was known at a moment: later bars are not there, the bar in progress is made of what had traded."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np

from oakladder.bars.bars import Bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.resample import resample
from oakladder.bars.store.background import furnished
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.live_edge import LiveEdge
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, Timeframe


class LibraryAsOf:
    """A library cut at a moment (UTC seconds). Reads like `BarLibrary`, and never gives anything later."""

    def __init__(self, library: BarLibrary, moment: int):
        self._library, self.moment = library, moment
        self._cache: dict[tuple[str, Timeframe, bool], Bars] = {}

    @property
    def infos(self) -> dict[str, SymbolInfo]:
        """Every symbol, in the catalogue's order."""
        return self._library.infos

    def bars(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> Bars:
        """Bars that were complete by the moment, and the one in progress. Raises as `BarLibrary.bars` does."""
        key = (symbol, timeframe, extended)
        if key not in self._cache:
            self._cache[key] = self._cut(symbol, timeframe, extended)
        return self._cache[key]

    def _cut(self, symbol: str, timeframe: Timeframe, extended: bool) -> Bars:
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

    def stored(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> int:
        """As `BarLibrary.stored`, of what was there by the moment."""
        if timeframe.intraday:
            self._library.stored(symbol, timeframe, extended)
            return len(self.bars(symbol, self.infos[symbol].finest, extended))
        return len(self.bars(symbol, ONE_DAY))

    def at_hand(self, symbols: Sequence[str], timeframe: Timeframe, extended: bool = False) -> dict[str, int]:
        """As `BarLibrary.at_hand`, symbol by symbol."""
        return {}

    def settle(self) -> None:
        """As `BarLibrary.settle`."""
        self._library.settle()

    def stored_panel(self, names: list[str], base: Timeframe, extended: bool) -> Panel:
        """As `BarLibrary.stored_panel`, cut at the moment."""
        finest = [self.infos[s].finest if base.intraday else base for s in names]
        made = panel_of([self.bars(s, f, extended) for s, f in zip(names, finest, strict=True)], base)
        return furnished(made, self, self._library, extended)

    def panel(self, symbols: Iterable[str], timeframe: Timeframe, extended: bool = False) -> Panel:
        """Symbols at one timeframe as a panel, as `BarLibrary.panel`."""
        names = list(symbols)
        made = panel_of([self.bars(s, timeframe, extended) for s in names])
        return furnished(made, self, self._library, extended)


BarSource = BarLibrary | LibraryAsOf | LiveEdge
