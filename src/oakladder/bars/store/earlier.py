"""Longer bars from before a panel's first bar: a chart of minutes with years of days behind it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.resample import fits
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import Timeframe


class EarlierBars(dict[Timeframe, Panel]):
    """Longer bars from before a panel's first bar, read when a script asks for them."""

    def __init__(
        self,
        bars: Callable[[str, Timeframe], Bars],
        calendar: Callable[[str], Calendar],
        symbols: list[str],
        base: Timeframe,
    ):
        """``bars`` reads a symbol's bars and may raise `DataProblem`; ``calendar`` knows its calendar."""
        super().__init__()
        self._bars, self._calendar, self._symbols, self._base = bars, calendar, symbols, base

    def get(self, timeframe: Timeframe, default: object = None) -> Panel | None:  # type: ignore[override]
        """The panel of a longer timeframe, or None where the chart's own bars reach back as far."""
        if timeframe.intraday or not self._base.intraday or not fits(self._base, timeframe):
            return None
        if timeframe not in self:
            self[timeframe] = panel_of([self._known(s, timeframe) for s in self._symbols])
        return self[timeframe]

    def _known(self, symbol: str, timeframe: Timeframe) -> Bars:
        """A symbol's longer bars; none where the library has only its minutes."""
        try:
            return self._bars(symbol, timeframe)
        except DataProblem:
            none = np.zeros(0)
            times = np.zeros(0, dtype=np.int64)
            calendar = self._calendar(symbol)
            return Bars(symbol, timeframe, calendar, times, dict.fromkeys(COLUMNS, none))
