"""What is known: the whole library, or in a replay the library as of a moment."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.bars.errors import DataProblem
from oakladder.bars.store.append_log import Tail
from oakladder.bars.store.as_of import BarSource, LibraryAsOf
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.live_edge import LiveEdge
from oakladder.bars.timeframes import Timeframe


class ReplayController(QObject):
    """Holds the source of bars. ``changed`` tells another one, ``told`` a sentence for the user."""

    changed = pyqtSignal()
    told = pyqtSignal(str)

    def __init__(self, library: BarLibrary, parent: QObject | None = None):
        super().__init__(parent)
        self._library = library
        self.source: BarSource = library
        self._live: BarSource = library

    @property
    def moment(self) -> int | None:
        """The moment of the replay (UTC seconds); None outside a replay."""
        return self.source.moment if isinstance(self.source, LibraryAsOf) else None

    def stand_at(self, moment: int | None) -> None:
        """Shows everything as it was known at a moment, or (None) as it is known now."""
        self.source = self._live if moment is None else LibraryAsOf(self._library, moment)
        self.changed.emit()

    def show_live(self, forming: Mapping[str, Tail]) -> None:
        """What is known now holds these minutes in progress, from the next look on; a replay stays where it is."""
        self._live = LiveEdge(self._library, forming) if forming else self._library
        if self.moment is None:
            self.source = self._live

    def step(self, symbol: str, frame: Timeframe, extended: bool, by: int) -> bool:
        """Moves a replay by bars of a symbol; False at either end of the bars."""
        if self.moment is None:
            return False
        try:
            bars = self._library.bars(symbol, frame, extended)
        except DataProblem as error:
            self.told.emit(str(error))
            return False
        closes = bars.calendar.closes(bars.times, frame, bars.extended)
        side: Literal["left", "right"] = "right" if by > 0 else "left"
        at = int(np.searchsorted(closes, self.moment, side)) + (by - 1 if by > 0 else by)
        if not 0 <= at < len(closes):
            self.told.emit("The replay has reached the last bar." if by > 0 else "There are no earlier bars.")
            return False
        self.stand_at(int(closes[at]))
        return True
