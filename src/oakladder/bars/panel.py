"""Panels: the bars of many symbols at one timeframe, laid end to end."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.end_to_end import end_to_end, ends_of, without
from oakladder.bars.resample import fits, shared_groups
from oakladder.bars.sessions import BEGINS, COMPLETES, Calendar
from oakladder.bars.shared_times import remembered, remembered_by_name, shared
from oakladder.bars.timeframes import Timeframe


@dataclass(slots=True)
class Panel:
    """Many symbols at one timeframe, their columns laid end to end.

    Symbol ``k`` has the bars ``offsets[k]`` up to ``offsets[k + 1]``; a chart is a panel of one.
    ``earlier`` may hold, for longer timeframes, panels of the same symbols whose bars before the first bar
    of this one are known (a chart of minutes with years of days behind it).
    """

    symbols: tuple[str, ...]
    timeframe: Timeframe
    calendars: tuple[Calendar, ...]
    offsets: np.ndarray
    #: The times of each symbol, as arrays that symbols share; None where hardly any do and they are read as a column.
    _clocks: tuple[np.ndarray, ...] | None
    columns: dict[str, np.ndarray] = field(default_factory=dict)
    extended: bool = False
    earlier: dict[Timeframe, Panel] = field(default_factory=dict)
    #: The time of the bar before each symbol's first, where this panel goes on from another.
    previous: tuple[int | None, ...] | None = None
    #: The smallest price step of each symbol; 0.01 where nothing is said.
    ticks: tuple[float, ...] | None = None
    #: Finds the bars of another symbol, as a panel of one: raises `KeyError` or `DataProblem`.
    others: Callable[[str, Timeframe], Panel] | None = None
    #: Makes some of the five columns (and ``time``) when they are asked for, without the first so many bars of each
    #: symbol.
    maker: Callable[[Sequence[str], np.ndarray | None], list[np.ndarray]] | None = None
    #: For each symbol, how many bars before its first there are that were not read; None where none were left out.
    skipped: np.ndarray | None = None
    #: The panel with the skipped bars.
    whole: Panel | None = None
    #: Names of the symbols' times where they are ragged and whole: equal names, equal times.
    time_names: tuple[str, ...] = ()
    _times: np.ndarray | None = None
    _marks: dict[Timeframe, np.ndarray] = field(default_factory=dict)

    @property
    def times(self) -> np.ndarray:
        """The time of every bar, end to end; laid out when it is first asked for."""
        if self._times is None and self._clocks is not None:
            self._times = end_to_end(list(self._clocks)) if self._clocks else np.zeros(0, dtype=np.int64)
        elif self._times is None:
            assert self.maker is not None
            self._times = self.maker(["time"], None)[0]
        return self._times

    @property
    def is_ragged(self) -> bool:
        """Whether symbols have times of their own each: then everything is worked out for all of them in one go."""
        return self._clocks is None

    @property
    def clocks(self) -> tuple[np.ndarray, ...]:
        """The times of each symbol."""
        if self._clocks is not None:
            return self._clocks
        times = self.times
        return tuple(times[a:b] for a, b in zip(self.starts.tolist(), self.ends.tolist(), strict=True))

    def time(self, k: int, bar: int) -> int:
        """The time of a bar of symbol ``k``; ``bar`` counts through all symbols."""
        return int(self.times[bar] if self._clocks is None else self._clocks[k][bar - self.offsets[k]])

    @property
    def size(self) -> int:
        """How many bars all symbols have together."""
        return int(self.offsets[-1])

    @property
    def starts(self) -> np.ndarray:
        return self.offsets[:-1]

    @property
    def ends(self) -> np.ndarray:
        return self.offsets[1:]

    def __len__(self) -> int:
        return len(self.symbols)

    def column(self, name: str) -> np.ndarray:
        """A column of the bars, or something that follows from their times; float64, worked out once.

        Times: ``clock`` (minutes), ``weekday`` (1 Monday), ``day``, ``month``, ``year``, ``day_number`` (days
        since 1970), all on the exchange's calendar; ``extended`` (1 outside regular hours); ``tick_size``.
        """
        if name not in self.columns and name in COLUMNS:
            self.fetch([name])
        elif name not in self.columns:
            self._add_time_columns()
        return self.columns[name]

    def fetch(self, names: Iterable[str]) -> None:
        """Makes several of the five columns ready in one go, which is quicker where they are read from files."""
        missing = [n for n in names if n in COLUMNS and n not in self.columns]
        if not missing or self.maker is None:
            return
        if self._clocks is None and self._times is None:
            *made, self._times = self.maker([*missing, "time"], None)
        else:
            made = self.maker(missing, None)
        self.columns.update(zip(missing, made, strict=True))

    def after(self, skips: np.ndarray) -> Panel:
        """The panel without the first ``skips[k]`` bars of each symbol; columns are read from there on only."""
        if not skips.any():
            return self
        made = Panel(
            self.symbols,
            self.timeframe,
            self.calendars,
            ends_of((np.diff(self.offsets) - skips).tolist()),
            None if self._clocks is None else _clocks_after(self._clocks, skips),
            extended=self.extended,
            ticks=self.ticks,
            others=self.others,
            skipped=skips if self.skipped is None else self.skipped + skips,
            whole=self.whole or self,
        )

        def maker(names: Sequence[str], more: np.ndarray | None) -> list[np.ndarray]:
            assert more is None  # what was cut is cut again as it stands, below
            known = any(self._times is not None if n == "time" else n in self.columns for n in names)
            if self.maker is not None and self.skipped is None and not known:
                return self.maker(names, skips)
            return [without(self.times if n == "time" else self.column(n), self.offsets, skips) for n in names]

        made.maker = maker
        return made

    def closes(self, k: int) -> np.ndarray:
        """When each bar of a symbol is complete."""
        return self.calendars[k].closes(self.clocks[k], self.timeframe, self.extended)

    def all_closes(self) -> np.ndarray:
        """When each bar of every symbol is complete, end to end."""
        return self._each(lambda c, times: c.closes(times, self.timeframe, self.extended))

    def alike(self) -> list[tuple[int, int]]:
        """Runs of symbols, first up to last, that share their times and calendar: worked out once for all of them."""
        pairs = [(id(a), id(b)) for a, b in zip(self.clocks, self.calendars, strict=True)]
        cuts = [k for k in range(1, len(pairs)) if pairs[k] != pairs[k - 1]]
        return list(pairwise([0, *cuts, len(pairs)])) if pairs else []

    def _add_time_columns(self) -> None:
        days = self._each(lambda c, times: c.days(times))
        dates = days.astype("datetime64[D]")
        months = dates.astype("datetime64[M]")
        made = {
            "clock": self._each(lambda c, times: c.minutes(times) % 1440),
            "weekday": (days + 3) % 7 + 1,
            "day": (dates - months).astype(np.int64) + 1,
            "month": months.astype(np.int64) % 12 + 1,
            "year": months.astype(np.int64) // 12 + 1970,
            "day_number": days,
            "extended": self._each(lambda c, times: ~c.is_regular(times))
            if self.timeframe.intraday
            else np.zeros(len(days)),
            "tick_size": self.per_symbol(list(self.ticks or (0.01,) * len(self))),
        }
        self.columns.update({name: np.ascontiguousarray(values, dtype=np.float64) for name, values in made.items()})

    def _each(self, how: Callable[[Calendar, np.ndarray], np.ndarray]) -> np.ndarray:
        """Applies something to the times of each symbol by its calendar; once for all that share both."""
        if self.is_ragged:
            return self._by_calendar(self.times, self.offsets, how)
        done: dict[tuple[int, int], np.ndarray] = {}
        parts = []
        for k, calendar in enumerate(self.calendars):
            times = self.clocks[k]
            key = (id(calendar), id(times))
            if key not in done:
                done[key] = how(calendar, times)
            parts.append(done[key])
        return end_to_end(parts) if parts else np.zeros(0, dtype=np.int64)

    def _by_calendar(
        self, times: np.ndarray, offsets: np.ndarray, how: Callable[[Calendar, np.ndarray], np.ndarray]
    ) -> np.ndarray:
        """Applies something to times of all symbols, laid end to end as ``offsets`` say, calendar by calendar."""
        cuts = [k for k in range(1, len(self)) if self.calendars[k] is not self.calendars[k - 1]]
        runs = pairwise([0, *cuts, len(self)])
        return end_to_end([how(self.calendars[a], times[offsets[a] : offsets[b]]) for a, b in runs])

    def groups(self, timeframe: Timeframe) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """First and last bar of each longer bar of every symbol, the longer bars' times, and where each symbol's begin."""
        periods = self._each(lambda c, times: c.periods(times, timeframe))
        begins = np.ones(len(periods), dtype=bool)
        begins[1:] = periods[1:] != periods[:-1]
        begins[self.starts[self.starts < len(begins)]] = True
        first = np.flatnonzero(begins)
        last = np.append(first[1:], len(periods)) - 1
        offsets = np.searchsorted(first, self.offsets).astype(np.int64)
        times = self._by_calendar(self.times[first], offsets, lambda c, t: c.opens(t, timeframe))
        return first, last, times, offsets

    def count_longer(self, timeframe: Timeframe) -> np.ndarray:
        """How many longer bars each symbol's bars make, int64."""
        if not self.is_ragged:
            groups = [shared_groups(t, c, timeframe) for t, c in zip(self.clocks, self.calendars, strict=True)]
            return np.array([len(first) for first, _, _ in groups], dtype=np.int64)
        return self._by_name(("longer", timeframe), [1] * len(self), lambda: np.diff(self.groups(timeframe)[3]))

    def _by_name(self, what: Hashable, sizes: list[int], work: Callable[[], np.ndarray]) -> np.ndarray:
        """A fact about the times of a ragged panel, remembered where those have names."""
        if not self.time_names:
            return work()
        keys = [(name, calendar, what) for name, calendar in zip(self.time_names, self.calendars, strict=True)]
        return remembered_by_name(keys, sizes, work)

    def per_symbol(self, values: list[float]) -> np.ndarray:
        """A number for each symbol, repeated on each of its bars."""
        return np.repeat(np.array(values, dtype=np.float64), np.diff(self.offsets))

    def begins(self, timeframe: Timeframe) -> np.ndarray:
        """1 on bars with which a bar of the timeframe begins, else 0; float64. All do if it is no longer than theirs."""
        if timeframe.order <= self.timeframe.order:
            return np.ones(len(self.times))
        periods = self._each(lambda c, times: c.periods(times, timeframe))
        made = np.ones(len(periods))
        made[1:] = periods[1:] != periods[:-1]
        made[self.starts[self.starts < len(made)]] = 1.0
        for k, before in enumerate(self.previous or ()):  # where this panel goes on from another
            if before is not None and self.ends[k] > self.starts[k]:
                period = self.calendars[k].periods(np.array([before]), timeframe)[0]
                made[self.starts[k]] = float(periods[self.starts[k]] != period)
        return made

    def bars(self, k: int) -> Bars:
        """One symbol of the panel, without a copy."""
        part = slice(int(self.offsets[k]), int(self.offsets[k + 1]))
        return Bars(
            self.symbols[k],
            self.timeframe,
            self.calendars[k],
            self.clocks[k],
            {name: self.column(name)[part] for name in COLUMNS},
            self.extended,
        )

    def marks(self, timeframe: Timeframe) -> np.ndarray:
        """`Calendar.marks` for the whole panel; worked out once. Raises `ValueError` if the timeframe does not fit."""
        if timeframe not in self._marks:
            if timeframe.order < self.timeframe.order:
                raise ValueError(
                    f"The script asks for {timeframe}, which is shorter than the {self.timeframe} it runs on. "
                    f"Run it on {timeframe} or less."
                )
            if not fits(self.timeframe, timeframe):
                raise ValueError(
                    f"The script asks for {timeframe}, and {timeframe} bars cannot be made of {self.timeframe} bars."
                )
            if self.is_ragged and self.previous is None:
                self._marks[timeframe] = self._ragged_marks(timeframe)
                return self._marks[timeframe]
            previous = self.previous or (None,) * len(self)
            parts = [
                c.marks(self.clocks[k], self.timeframe, timeframe, self.extended, p)
                for k, (c, p) in enumerate(zip(self.calendars, previous, strict=True))
            ]
            self._marks[timeframe] = end_to_end(parts) if parts else np.zeros(0, dtype=np.uint8)
        return self._marks[timeframe]

    def _ragged_marks(self, timeframe: Timeframe) -> np.ndarray:
        """The marks of all symbols in one go: what the bar before left open does not reach into the next symbol."""

        def work() -> np.ndarray:
            made = self._each(lambda c, times: c.marks(times, self.timeframe, timeframe, self.extended))
            starts = self.starts[self.starts < len(made)]
            made[starts] = (made[starts] & COMPLETES) | BEGINS
            return made

        what = ("marks", self.timeframe, timeframe, self.extended)
        return self._by_name(what, np.diff(self.offsets).tolist(), work)


def _clocks_after(clocks: tuple[np.ndarray, ...], skips: np.ndarray) -> tuple[np.ndarray, ...]:
    """Shared times without their first bars, shared again."""
    made: list[np.ndarray] = []
    for k, (clock, skip) in enumerate(zip(clocks, skips.tolist(), strict=True)):
        if k and clock is clocks[k - 1] and skip == skips[k - 1]:
            made.append(made[-1])
        else:
            made.append(remembered(clock, ("after", skip), lambda c=clock, s=skip: shared(c[s:].copy())))  # type: ignore[misc]
    return tuple(made)
