"""Bars of one symbol, and panels of many."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from oakladder.bars.sessions import BEGINS, COMPLETES, Calendar
from oakladder.bars.shared_times import remembered, remembered_by_name, shared
from oakladder.bars.timeframes import ONE_DAY, Timeframe

COLUMNS = ("open", "high", "low", "close", "volume")
#: Larger numbers than this in data are no prices; they become none.
ABSURD = 1e18


@dataclass(frozen=True, slots=True)
class Bars:
    """The bars of one symbol at one timeframe, oldest first.

    ``times`` are opening times in UTC seconds, int64, strictly rising; the columns are float64 of the same
    length with NaN for none.
    """

    symbol: str
    timeframe: Timeframe
    calendar: Calendar
    times: np.ndarray
    columns: Mapping[str, np.ndarray]
    extended: bool = False

    def __len__(self) -> int:
        return len(self.times)

    def __getitem__(self, name: str) -> np.ndarray:
        return self.columns[name]

    def part(self, start: int, end: int) -> Bars:
        """Bars ``start`` up to but not including ``end``."""
        return Bars(
            self.symbol,
            self.timeframe,
            self.calendar,
            self.times[start:end],
            {k: v[start:end] for k, v in self.columns.items()},
            self.extended,
        )

    def regular(self) -> Bars:
        """The bars inside regular hours."""
        if not self.timeframe.intraday:
            return self
        kept = regular_times(self.times, self.calendar)
        if kept is None:
            return Bars(self.symbol, self.timeframe, self.calendar, self.times, self.columns)
        times, keep = kept
        return Bars(self.symbol, self.timeframe, self.calendar, times, {k: v[keep] for k, v in self.columns.items()})


def regular_times(times: np.ndarray, calendar: Calendar) -> tuple[np.ndarray, np.ndarray] | None:
    """The times inside regular hours and where they are; None where all of them are."""

    def work() -> tuple[np.ndarray, np.ndarray] | None:
        # What is remembered of an array must not hold the array itself, or it would never go.
        keep = calendar.is_regular(times)
        return None if keep.all() else (shared(times[keep]), np.flatnonzero(keep))

    return remembered(times, ("kept", calendar), work)


def is_tidy(array: np.ndarray) -> bool:
    """Whether no number of a column is infinite or of an absurd size."""
    return not len(array) or bool(
        np.fmax.reduce(array, initial=-ABSURD / 2) < ABSURD and np.fmin.reduce(array, initial=ABSURD / 2) > -ABSURD
    )


def tidy(values: np.ndarray) -> np.ndarray:
    """A column as contiguous float64 with infinities and absurd sizes made none."""
    array = np.ascontiguousarray(values, dtype=np.float64)
    if is_tidy(array):
        return array
    with np.errstate(invalid="ignore"):
        return np.where(np.abs(array) >= ABSURD, np.nan, array)


def resample(bars: Bars, timeframe: Timeframe) -> Bars:
    """The same series in longer bars, cut from each session's start. Raises `ValueError` if that cannot be done."""
    if timeframe == bars.timeframe:
        return bars
    if not fits(bars.timeframe, timeframe):
        raise ValueError(f"{timeframe} bars cannot be made of {bars.timeframe} bars.")
    if len(bars) == 0:
        return Bars(bars.symbol, timeframe, bars.calendar, bars.times, bars.columns, bars.extended)
    first, last, times = shared_groups(bars.times, bars.calendar, timeframe)
    columns = {name: merge(bars[name], first, last) for name, merge in MERGES.items()}
    return Bars(bars.symbol, timeframe, bars.calendar, times, columns, bars.extended and timeframe.intraday)


def _groups(times: np.ndarray, calendar: Calendar, timeframe: Timeframe) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """First and last bar of each longer bar, and the longer bars' times."""
    if not len(times):
        none = np.zeros(0, dtype=np.int64)
        return none, none, times
    periods = calendar.periods(times, timeframe)
    first = np.concatenate([[0], np.flatnonzero(periods[1:] != periods[:-1]) + 1])
    last = np.concatenate([first[1:], [len(times)]]) - 1
    return first, last, shared(calendar.opens(times[first], timeframe))


def _first_known(x: np.ndarray, first: np.ndarray, last: np.ndarray) -> np.ndarray:
    made = x[first].copy()
    for k in np.flatnonzero(np.isnan(made)):
        part = x[first[k] : last[k] + 1]
        known = part[~np.isnan(part)]
        made[k] = known[0] if len(known) else np.nan
    return made


def _last_known(x: np.ndarray, first: np.ndarray, last: np.ndarray) -> np.ndarray:
    made = x[last].copy()
    for k in np.flatnonzero(np.isnan(made)):
        part = x[first[k] : last[k] + 1]
        known = part[~np.isnan(part)]
        made[k] = known[-1] if len(known) else np.nan
    return made


def _known_sum(x: np.ndarray, first: np.ndarray, _: np.ndarray) -> np.ndarray:
    lost = np.isnan(x)
    if not lost.any():
        return np.add.reduceat(x, first)
    sums = np.add.reduceat(np.where(lost, 0.0, x), first)
    known = np.add.reduceat(~lost, first)
    return np.where(known > 0, sums, np.nan)


#: Column → how a longer bar's value comes from its bars, given the first and last of each.
MERGES: dict[str, Callable[[np.ndarray, np.ndarray, np.ndarray], np.ndarray]] = {
    "open": _first_known,
    "high": lambda x, first, _: np.fmax.reduceat(x, first),
    "low": lambda x, first, _: np.fmin.reduceat(x, first),
    "close": _last_known,
    "volume": _known_sum,
}


def fits(base: Timeframe, longer: Timeframe) -> bool:
    """Whether bars of one timeframe can be put together from those of another."""
    if longer.order < base.order:
        return False
    return not (base.intraday and longer.intraday) or longer.count % base.count == 0


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
            self._times = _end_to_end(list(self._clocks)) if self._clocks else np.zeros(0, dtype=np.int64)
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
        return _end_to_end(parts) if parts else np.zeros(0, dtype=np.int64)

    def _by_calendar(
        self, times: np.ndarray, offsets: np.ndarray, how: Callable[[Calendar, np.ndarray], np.ndarray]
    ) -> np.ndarray:
        """Applies something to times of all symbols, laid end to end as ``offsets`` say, calendar by calendar."""
        cuts = [k for k in range(1, len(self)) if self.calendars[k] is not self.calendars[k - 1]]
        runs = pairwise([0, *cuts, len(self)])
        return _end_to_end([how(self.calendars[a], times[offsets[a] : offsets[b]]) for a, b in runs])

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
            self._marks[timeframe] = _end_to_end(parts) if parts else np.zeros(0, dtype=np.uint8)
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


def panel_of(series: Sequence[Bars]) -> Panel:
    """Several series of one timeframe, end to end; nothing is copied before it is asked for, a single one never."""
    offsets = ends_of([len(b) for b in series])

    def columns(names: Sequence[str], skips: np.ndarray | None) -> list[np.ndarray]:
        made = [tidy(_end_to_end([b[name] for b in series])) for name in names]
        return made if skips is None else [without(m, offsets, skips) for m in made]

    return Panel(
        tuple(b.symbol for b in series),
        series[0].timeframe if series else ONE_DAY,
        tuple(b.calendar for b in series),
        offsets,
        tuple(b.times for b in series),
        {} if series else {name: np.zeros(0) for name in COLUMNS},
        bool(series) and series[0].extended,
        maker=columns,
    )


def resample_panel(panel: Panel, timeframe: Timeframe) -> Panel:
    """A panel in longer bars, all symbols at once. Raises `ValueError` if that cannot be done.

    Where the first bars of the panel were skipped, the first longer bar may be made of a part of its bars only.
    """
    if not fits(panel.timeframe, timeframe):
        raise ValueError(f"{timeframe} bars cannot be made of {panel.timeframe} bars.")
    if not len(panel):
        return Panel((), timeframe, (), panel.offsets, (), {name: np.zeros(0) for name in COLUMNS})
    clocks: tuple[np.ndarray, ...] | None = None
    times: np.ndarray | None = None
    if panel.is_ragged:
        first, last, times, offsets = panel.groups(timeframe)
    else:
        first, last, clocks = _shared_groups(panel, timeframe)
        offsets = ends_of([len(c) for c in clocks])

    def merged(names: Sequence[str], skips: np.ndarray | None) -> list[np.ndarray]:
        panel.fetch(names)
        made = [MERGES[name](panel.column(name), first, last) for name in names]
        return made if skips is None else [without(m, offsets, skips) for m in made]

    skipped = None
    if panel.whole is not None:
        skipped = panel.whole.count_longer(timeframe) - np.diff(offsets)
    return Panel(
        panel.symbols,
        timeframe,
        panel.calendars,
        offsets,
        clocks,
        extended=panel.extended and timeframe.intraday,
        others=panel.others,
        ticks=panel.ticks,
        maker=merged,
        skipped=skipped,
        _times=times,
    )


def _shared_groups(panel: Panel, timeframe: Timeframe) -> tuple[np.ndarray, np.ndarray, tuple[np.ndarray, ...]]:
    """First and last bar of each longer bar, and the longer bars' times; worked out once for symbols that are alike."""
    firsts, lasts, clocks = [], [], []
    for a, b in panel.alike():
        first, last, clock = shared_groups(panel.clocks[a], panel.calendars[a], timeframe)
        firsts.append((panel.offsets[a:b, None] + first).ravel())
        lasts.append((panel.offsets[a:b, None] + last).ravel())
        clocks += [clock] * (b - a)
    return _end_to_end(firsts), _end_to_end(lasts), tuple(clocks)


def shared_groups(
    times: np.ndarray, calendar: Calendar, timeframe: Timeframe
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """First and last bar of each longer bar, and the longer bars' times; remembered where the times are shared."""
    return remembered(times, ("groups", calendar, timeframe), lambda: _groups(times, calendar, timeframe))


def without(values: np.ndarray, offsets: np.ndarray, skips: np.ndarray) -> np.ndarray:
    """Values on every bar of a panel with these offsets, without the first ``skips[k]`` bars of each symbol."""
    sizes, parts = np.diff(offsets), []
    changes = np.flatnonzero((np.diff(sizes) != 0) | (np.diff(skips) != 0)) + 1
    for a, b in pairwise([0, *changes.tolist(), len(sizes)]):
        block = values[offsets[a] : offsets[b]].reshape(b - a, int(sizes[a]))
        parts.append(block[:, int(skips[a]) :].ravel())
    return _end_to_end(parts)


def ends_of(sizes: Sequence[int]) -> np.ndarray:
    """Where each of several parts of these sizes begins when they are laid end to end, and the end of the last."""
    return np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)


def _end_to_end(parts: list[np.ndarray]) -> np.ndarray:
    """Arrays laid end to end; a single one is not copied."""
    return parts[0] if len(parts) == 1 else np.concatenate(parts)
