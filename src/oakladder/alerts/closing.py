"""Which bars are closed: once their last minute is final, a later one has come, or a little of the market's time has passed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE
from oakladder.engine.bar_selection import BarSelection

#: Seconds of the market after its end at which a bar is closed whatever has come, and that others are waited for then.
GRACE = WAIT = 3
#: Seconds of the machine after which a gap holds up no bar any more.
GAP_PATIENCE = 5.0
_MINUTE = 60


class SymbolTimes:
    """Up to when the minutes of symbols are complete."""

    def __init__(self) -> None:
        self._complete: dict[str, int] = {}
        self._held: set[str] = set()
        self._now = 0

    def update(
        self, last: Mapping[str, int], latest: Mapping[str, int], lacking: Mapping[str, float], now: int, clock: float
    ) -> None:
        """Takes in what came: each symbol's ``last`` final minute and the ``latest`` in any state (UTC seconds);
        ``lacking`` are those with a gap and since when (the machine's monotonic seconds, as ``clock``)."""
        self._now = now
        self._held = {s for s, since in lacking.items() if clock - since < GAP_PATIENCE}
        for symbol in {*last, *latest} - self._held:
            ends = [self._complete.get(symbol, 0), latest.get(symbol, 0)]
            self._complete[symbol] = max(*ends, last[symbol] + _MINUTE if symbol in last else 0)

    def upto(self, symbol: str) -> int:
        """Bars of a symbol that end at this time or before are closed. UTC seconds."""
        known = self._complete.get(symbol, 0)
        return known if symbol in self._held else max(known, self._now - GRACE)

    def with_others(self, symbol: str, others: Sequence[str]) -> int:
        """The same for bars on which other symbols are read too: those are waited for, but not for long."""
        made = self.upto(symbol)
        if others:
            made = min(made, max(min(map(self.upto, others)), self._now - GRACE - WAIT))
        return made


@dataclass(slots=True)
class OpenBars:
    """The bars of a timeframe that have minutes and are not closed yet, by when they end: of each symbol."""

    frame: BarSelection
    _ends: dict[str, set[int]] = field(default_factory=dict)

    def add(self, symbol: str, ends: Iterable[int]) -> None:
        """Takes in the ends of bars of which minutes came (see `ends_of`)."""
        self._ends.setdefault(symbol, set()).update(ends)

    def closed(self, symbol: str, upto: int, *, now: int) -> list[int]:
        """The ends of bars that are closed by now, in order; they are open no more. Days and longer are made of the
        minutes a little after their end."""
        if not self.frame.timeframe.intraday:
            upto = min(upto, now - GRACE)
        ends = self._ends.get(symbol)
        made = sorted(end for end in ends if end <= upto) if ends else []
        if made and ends is not None:
            ends.difference_update(made)
        return made

    def is_open(self, symbol: str) -> bool:
        """Whether a symbol has open bars."""
        return bool(self._ends.get(symbol))


def ends_of(frame: BarSelection, calendar: Calendar, minutes: np.ndarray) -> list[int]:
    """The ends of the bars that hold minutes. Shape (minutes,), int64 UTC seconds."""
    if not frame.extended:
        minutes = minutes[calendar.is_regular(minutes)]
    return np.unique(calendar.closes(minutes, frame.timeframe, frame.extended)).tolist() if len(minutes) else []


def market_time(library: BarLibrary) -> int:
    """The market's time as far as it is known: what the last feed said, or the end of the last bar. UTC seconds."""
    library.take_in()
    made = library.log.now() or 0
    for symbol in library.infos:
        for base, length in ((ONE_MINUTE, _MINUTE), (ONE_DAY, 0)):
            if library.path(symbol, base).exists():
                last = library.last_stored(symbol, base)
                if last is not None:
                    made = max(made, last + length)
    return made
