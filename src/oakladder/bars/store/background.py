"""What a library adds to the bars of a panel: price steps, other symbols, and longer bars from before its first."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.resample import fits
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import Timeframe


class BarReader(Protocol):
    """Reads the bars of any symbol, as `BarLibrary` does."""

    @property
    def infos(self) -> Mapping[str, SymbolInfo]: ...

    def bars(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> Bars: ...

    def panel(self, symbols: Iterable[str], timeframe: Timeframe, extended: bool = False) -> Panel: ...


@dataclass(slots=True)
class LibraryBackground:
    """The background of panels that are read from a library."""

    #: Gives the bars of other symbols.
    reader: BarReader
    #: Gives longer bars from before a panel's first: what lies there was known at any moment of the panel.
    before: BarReader
    extended: bool
    _earlier: dict[tuple[tuple[str, ...], Timeframe], Panel] = field(default_factory=dict)

    def other(self, symbol: str, timeframe: Timeframe) -> Panel:
        """The bars of another symbol, as a panel of one. Raises `KeyError` or `DataProblem`."""
        return self.reader.panel([symbol], timeframe, self.extended)

    def earlier(self, panel: Panel, timeframe: Timeframe) -> Panel | None:
        """Longer bars of the panel's symbols; None where the panel's own bars reach back as far."""
        if timeframe.intraday or not panel.timeframe.intraday or not fits(panel.timeframe, timeframe):
            return None
        key = panel.symbols, timeframe
        if key not in self._earlier:
            self._earlier[key] = panel_of([self._known(s, timeframe) for s in panel.symbols])
        return self._earlier[key]

    def _known(self, symbol: str, timeframe: Timeframe) -> Bars:
        """A symbol's longer bars; none where the library has only its minutes."""
        try:
            return self.before.bars(symbol, timeframe)
        except DataProblem:
            nothing = dict.fromkeys(COLUMNS, np.zeros(0))
            return Bars(symbol, timeframe, self.before.infos[symbol].calendar, np.zeros(0, dtype=np.int64), nothing)


def furnished(panel: Panel, reader: BarReader, before: BarReader, extended: bool) -> Panel:
    """The panel, with what the library knows besides its bars."""
    panel.ticks = tuple(reader.infos[s].tick for s in panel.symbols)
    panel.contracts = tuple(reader.infos[s].contract for s in panel.symbols)
    panel.background = LibraryBackground(reader, before, extended)
    return panel
