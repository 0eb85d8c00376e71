"""A library seen otherwise than it is stored: cut at a moment, or with minutes in progress. What all such views share."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Sequence

from oakladder.bars.bars import Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.store.background import furnished
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, Timeframe


class LibraryView(ABC):
    """Reads like `BarLibrary`, symbol by symbol. `_seen` makes the bars of one, which are remembered."""

    def __init__(self, library: BarLibrary):
        self._library = library
        self._cache: dict[tuple[str, Timeframe, bool], Bars] = {}

    @abstractmethod
    def _seen(self, symbol: str, timeframe: Timeframe, extended: bool) -> Bars:
        """The bars of a symbol as this view has them. Raises as `BarLibrary.bars` does."""

    @property
    def infos(self) -> dict[str, SymbolInfo]:
        """Every symbol, in the catalogue's order."""
        return self._library.infos

    def bars(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> Bars:
        """The bars of a symbol as this view has them. Raises as `BarLibrary.bars` does."""
        key = symbol, timeframe, extended
        if key not in self._cache:
            self._cache[key] = self._seen(symbol, timeframe, extended)
        return self._cache[key]

    def stored(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> int:
        """As `BarLibrary.stored`, of what this view has."""
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
        """As `BarLibrary.stored_panel`, of what this view has."""
        finest = [self.infos[s].finest if base.intraday else base for s in names]
        made = panel_of([self.bars(s, f, extended) for s, f in zip(names, finest, strict=True)], base)
        return furnished(made, self, self._library, extended)

    def panel(self, symbols: Iterable[str], timeframe: Timeframe, extended: bool = False) -> Panel:
        """Symbols at one timeframe as a panel, as `BarLibrary.panel`."""
        made = panel_of([self.bars(s, timeframe, extended) for s in symbols])
        return furnished(made, self, self._library, extended)
