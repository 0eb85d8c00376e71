"""Which bars of a symbol there are: over which spans, where they have holes, and how its price went lately."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from oakladder.bars.bars import Bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.time_words import bar_time
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE
from oakladder.intake.closed_days import missing_days
from oakladder.rung.texts import count_words

#: Number of last closes returned.
LATELY = 90


@dataclass(frozen=True, slots=True)
class Span:
    """So many bars from one day to another (days since 1970), with the scheduled days that lack bars as runs
    (first and last day). ``words`` say it."""

    count: int
    first: int
    last: int
    holes: tuple[tuple[int, int], ...]
    words: str


@dataclass(frozen=True, slots=True)
class Coverage:
    """The spans of a symbol's days and minutes, where it has any; its last closes; and what cannot be read."""

    days: Span | None = None
    minutes: Span | None = None
    closes: np.ndarray = field(default_factory=lambda: np.zeros(0))
    last: str = ""
    trouble: str = ""

    def words(self) -> str:
        """Everything in lines."""
        lines = [self.trouble, *(span.words for span in (self.days, self.minutes) if span is not None)]
        return "\n".join(line for line in lines if line) or "no bars yet"


def coverage_of(library: BarLibrary, info: SymbolInfo) -> Coverage:
    """Looks at the files of a symbol; nothing is made that is not there."""
    spans: dict[str, Span] = {}
    closes, last, trouble = np.zeros(0), "", ""
    for base in (ONE_MINUTE, ONE_DAY):
        if not library.path(info.symbol, base).exists():
            continue
        try:
            bars = library.base(info.symbol, base)
            if not len(bars):
                continue
            spans[str(base)] = _span(bars, f"bars of {info.finest}" if base == ONE_MINUTE else "days")
            if base == ONE_DAY or not len(closes):
                closes = np.array(bars["close"][-LATELY:])
        except (DataProblem, KeyError) as error:
            trouble = str(error).strip("'\"")
        else:
            last = max(last, _iso_day(bars))
    days, minutes = spans.get(str(ONE_DAY)), spans.get(str(ONE_MINUTE))
    return Coverage(days, minutes, closes, last, trouble)


def _span(bars: Bars, what: str) -> Span:
    every = bars.calendar.days(bars.times)
    days = every[np.append(True, every[1:] != every[:-1])]  # they rise
    missing = missing_days(days, bars.calendar)
    breaks = np.flatnonzero(np.diff(missing) > 4) + 1  # over a weekend it is one hole
    holes = tuple((int(run[0]), int(run[-1])) for run in np.split(missing, breaks) if len(run))
    words = f"{len(bars):,} {what}, {_day(bars, 0)} to {_day(bars, len(bars) - 1)}"
    if len(missing):
        words += f"; {count_words(len(missing), 'session')} without a bar, first {np.datetime64(int(missing[0]), 'D')}"
    return Span(len(bars), int(days[0]), int(days[-1]), holes, words)


def _day(bars: Bars, bar: int) -> str:
    return bar_time(bars, bar)[4:15]


def _iso_day(bars: Bars) -> str:
    return str(np.datetime64(int(bars.calendar.days(bars.times[-1:])[0]), "D"))
