"""Appends live minutes to a library: corrections into the files, days once their sessions have ended, all of a batch at once.

New minutes go into the append log, which is folded into the bar files symbol by symbol when it pays. A minute that comes
again with other numbers is a correction, and takes the place of the first. The program that follows a feed holds one
`Appender`; nothing else writes the log.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

import numpy as np

from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.errors import NoBars
from oakladder.bars.resample import resample
from oakladder.bars.store.append_log import NOTHING, Batch, Tail, merged
from oakladder.bars.store.files import EARLIEST
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe

#: Corrections of minutes that are older than so many seconds of the market are refused.
MOST_AGE = 7 * 86_400
#: A symbol's rows are folded into its file once there are so many; of days the ones too old for a correction.
FOLD_MINUTES, FOLD_DAYS, KEPT_DAYS = 1000, 40, 10
#: A day counts as over so many seconds of the market after its session.
GRACE = 3


@dataclass(slots=True)
class Appended:
    """What a batch changed: the times of minutes that were not there, and of minutes that were corrected, by symbol; how many
    corrections came too late. Each array has shape (bars,), int64 UTC seconds."""

    new: dict[str, np.ndarray] = field(default_factory=dict)
    corrected: dict[str, np.ndarray] = field(default_factory=dict)
    refused: dict[str, int] = field(default_factory=dict)


class Appender:
    """Appends to one library. Every method may raise `DataProblem`; nothing is changed then, and it can be tried again."""

    def __init__(self, library: BarLibrary):
        self._library = library
        #: Of each symbol the days that have minutes and no daily bar yet.
        self._open_days: dict[str, set[int]] = {}
        #: When the first of them is over (UTC seconds), as far as that was worked out.
        self._due: dict[str, int] = {}
        self._is_begun = False

    def append(self, minutes: Mapping[str, Tail], sure: Mapping[str, int], now: int | None) -> Appended:
        """Takes minutes of known symbols, each oldest first; up to which one nothing is missing of a symbol; and the
        market's time (UTC seconds)."""
        library, made = self._library, Appended()
        with library.changing():
            if not self._is_begun:
                self._begin()
            library.take_in()
            rows: dict[tuple[str, Timeframe], Tail] = {}
            for symbol, tail in minutes.items():
                kept = self._minutes(symbol, tail, now, made)
                if len(kept):
                    rows[symbol, ONE_MINUTE] = kept
                for times in (some[symbol] for some in (made.new, made.corrected) if symbol in some):
                    days = library.infos[symbol].calendar.days(times)
                    self._open_days.setdefault(symbol, set()).update(days.tolist())
                    self._due.pop(symbol, None)
            over = self._over(now) if now is not None else {}
            for symbol, ended in over.items():
                rows[symbol, ONE_DAY] = self._daily(symbol, ended, rows.get((symbol, ONE_MINUTE), NOTHING))
            library.log.append(Batch({key: tail for key, tail in rows.items() if len(tail)}, sure, now))
            for symbol, ended in over.items():
                self._open_days[symbol] -= set(ended.tolist())
                self._due.pop(symbol, None)
            library.take_in()
        return made

    # --- minutes ------------------------------------------------------------------------------------

    def _minutes(self, symbol: str, tail: Tail, now: int | None, made: Appended) -> Tail:
        """The minutes that go into the log; early ones are written into the file."""
        last = self._last_in_file(symbol, ONE_MINUTE)
        if len(tail) and tail.times[0] <= last:
            stored = self._library.base(symbol, ONE_MINUTE)  # with what the log has: all of it is written
            end = int(stored.times[-1])
            changed = self._told_apart(symbol, tail.some(tail.times <= end), stored, now, made)
            if len(changed):
                self._library.write(self._bars(symbol, merged(Tail(stored.times, stored.columns), changed)))
            last, tail = end, tail.after(end)
        live = self._library.log.tail(symbol, ONE_MINUTE).after(last)
        return self._told_apart(symbol, tail, live, now, made)

    def _last_in_file(self, symbol: str, base: Timeframe) -> int:
        """The time of the last bar of a symbol's file, UTC seconds; a very early one for an empty file. One that has none
        gets an empty one, which the log follows."""
        last = self._library.last_stored(symbol, base)
        if last is None and not self._library.path(symbol, base).exists():
            self._library.write(self._bars(symbol, NOTHING, base))
        return EARLIEST if last is None else last

    def _told_apart(self, symbol: str, came: Tail, there: Bars | Tail, now: int | None, made: Appended) -> Tail:
        """The new minutes and the corrections among what came; notes which are which."""
        if not len(came):
            return came
        at = np.searchsorted(there.times, came.times)
        known = at < len(there)
        known[known] = there.times[at[known]] == came.times[known]
        same = known.copy()
        for name in COLUMNS:
            values = there[name][at[known]]
            same[known] &= (values == came[name][known]) | (np.isnan(values) & np.isnan(came[name][known]))
        late = known & ~same & (came.times < (now - MOST_AGE if now is not None else 0))
        corrected = known & ~same & ~late
        _add(made.new, symbol, came.times[~known])
        _add(made.corrected, symbol, came.times[corrected])
        if late.any():
            made.refused[symbol] = made.refused.get(symbol, 0) + int(np.count_nonzero(late))
        return came.some(~known | corrected)

    def _bars(self, symbol: str, tail: Tail, base: Timeframe = ONE_MINUTE) -> Bars:
        return Bars(symbol, base, self._library.infos[symbol].calendar, tail.times, dict(tail.columns))

    # --- days ---------------------------------------------------------------------------------------

    def _begin(self) -> None:
        """Finds the days that the last program has left open, and renames a damaged log."""
        wrong = self._library.log.settle()
        if wrong:
            self._library.notices.append(wrong)
        self._library.take_in()
        for symbol in self._library.log.names:
            if symbol in self._library.infos:
                self._open_days[symbol] = self._without_bar(symbol)
        self._is_begun = True

    def _without_bar(self, symbol: str) -> set[int]:
        """The days with regular minutes and after the last daily bar."""
        try:
            bars = self._library.base(symbol, ONE_MINUTE).regular()
        except NoBars:
            return set()
        days = np.unique(bars.calendar.days(bars.times))
        live = self._library.log.tail(symbol, ONE_DAY)
        last = int(live.times[-1]) if len(live) else self._last_in_file(symbol, ONE_DAY)
        return set(days[days > self._day(symbol, last)].tolist())

    def _day(self, symbol: str, time: int) -> int:
        return int(self._library.infos[symbol].calendar.days(np.array([time]))[0])

    def _over(self, now: int) -> dict[str, np.ndarray]:
        """Of each symbol the open days whose sessions are over; days with a bar in the file are open no more. Each
        has shape (days,), int64."""
        made = {}
        for symbol, days in self._open_days.items():
            if not days or now < self._due.get(symbol, now):
                continue
            calendar = self._library.infos[symbol].calendar
            open_days = np.array(sorted(days), dtype=np.int64)
            ends = calendar.closes(calendar.day_open(open_days), ONE_DAY) + GRACE
            self._due[symbol], over = int(ends[0]), open_days[ends <= now]
            if len(over):
                last = self._day(symbol, self._last_in_file(symbol, ONE_DAY))
                days -= set(over[over <= last].tolist())
                self._due.pop(symbol, None)
                if over[-1] > last:
                    made[symbol] = over[over > last]
        return made

    def _daily(self, symbol: str, days: np.ndarray, more: Tail) -> Tail:
        """The daily bars of some days, of their regular minutes. Days: shape (days,), int64."""
        stored = self._library.base(symbol, ONE_MINUTE)
        whole = merged(Tail(stored.times, stored.columns), more)
        keep = np.isin(stored.calendar.days(whole.times), days)
        bars = self._bars(symbol, whole.some(keep)).regular()
        daily = resample(bars, ONE_DAY)
        return Tail(daily.times, daily.columns)

    # --- folding ------------------------------------------------------------------------------------

    def fold(self, symbols: Iterable[str] | None = None, *, most: int | None = None, at_least: int = 1) -> int:
        """Folds the rows of symbols that have ``at_least`` so many minutes into their files, of at most so many symbols;
        gives of how many."""
        library, done = self._library, 0
        library.take_in()
        for symbol in sorted(library.log.names if symbols is None else symbols):
            if symbol not in library.infos:
                continue
            if len(library.log.tail(symbol, ONE_MINUTE)) >= at_least:
                with library.changing():
                    library.write(library.base(symbol, ONE_MINUTE))
                done += 1
            days = library.log.tail(symbol, ONE_DAY)
            if len(days) >= FOLD_DAYS:
                with library.changing():
                    stored = library.base(symbol, ONE_DAY)
                    library.write(stored.part(0, len(stored) - KEPT_DAYS))
            if most is not None and done >= most:
                break
        library.take_in()
        return done


def _add(known: dict[str, np.ndarray], symbol: str, times: np.ndarray) -> None:
    if len(times):
        known[symbol] = np.concatenate([known[symbol], times]) if symbol in known else times
