"""Panels: the bars of many symbols at one timeframe, laid end to end."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from oakladder.bars.adjustments import Adjustments, any_of
from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.calendar_columns import calendar_columns, close_clock, last_of_session
from oakladder.bars.contract import Contract
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import Timeframe
from oakladder.bars.timeline import Timeline

#: Held while a panel's mapping of columns is replaced. One for all panels: a panel is sent to other processes.
_ADDING = threading.Lock()
#: The smallest price step of a symbol of which nothing else is known.
USUAL_TICK = 0.01


def tick_count(tick: float) -> float:
    """How many ticks make 1.0, where that is a whole number; else NaN."""
    count = round(1 / tick)
    return float(count) if count and abs(count * tick - 1) < 1e-9 else float("nan")


class ColumnSource(Protocol):
    """Where the columns of a panel come from when they are asked for."""

    def read(self, names: Sequence[str], skips: np.ndarray | None = None) -> list[np.ndarray]:
        """Some of the five columns (float64) and ``time`` (int64), end to end, without the first ``skips[k]`` bars of
        each symbol. Raises what reading raises. Skips: shape (symbols,), int64; each column has shape (bars,)."""


class Background(Protocol):
    """What the bars of a panel do not hold, and a script may ask for."""

    def other(self, symbol: str, timeframe: Timeframe) -> Panel:
        """The bars of another symbol, as a panel of one. Raises `KeyError` or `DataProblem`."""

    def earlier(self, panel: Panel, timeframe: Timeframe) -> Panel | None:
        """Longer bars of the panel's symbols that reach back before its first (a chart of minutes with years of days
        behind it); None where its own bars reach back as far."""


class Minutes(Protocol):
    """The minutes that bars are made of."""

    def bound(self, end: str) -> np.ndarray:
        """For each bar the place of its ``first`` or ``last`` minute in the tables, -1 without; float64. Shape (bars,)."""

    def table(self, name: str) -> np.ndarray:
        """Open, high or low of all minutes, float64. Shape (minutes,)."""


@dataclass(slots=True)
class Panel:
    """Many symbols at one timeframe, their columns laid end to end as their timeline says; a chart is a panel of one."""

    symbols: tuple[str, ...]
    timeline: Timeline
    #: Not to be changed where they are: see `_add`.
    columns: Mapping[str, np.ndarray] = field(default_factory=dict)
    source: ColumnSource | None = None
    background: Background | None = None
    #: The smallest price step of each symbol, and what one unit of it is.
    ticks: tuple[float, ...] | None = None
    contracts: tuple[Contract, ...] | None = None
    #: What the prices of each symbol were adjusted by; None where all are real ones.
    adjustments: tuple[Adjustments | None, ...] | None = None
    #: For each symbol, how many bars before its first there are that were left out; None where none were.
    skipped: np.ndarray | None = None
    #: The panel with the bars that were left out.
    whole: Panel | None = None
    #: What tells that the stored bars of each symbol are as they were, shape (symbols, 4); None where nothing does.
    versions: np.ndarray | None = None
    #: The minutes that its bars are made of, where they were looked up.
    minutes: Minutes | None = None

    def __len__(self) -> int:
        return len(self.symbols)

    @property
    def timeframe(self) -> Timeframe:
        return self.timeline.timeframe

    @property
    def calendars(self) -> tuple[Calendar, ...]:
        return self.timeline.calendars

    @property
    def times(self) -> np.ndarray:
        """The time of every bar, end to end, int64 UTC seconds. Shape (bars,)."""
        return self.timeline.times

    @property
    def offsets(self) -> np.ndarray:
        """Symbol ``k`` has the bars ``offsets[k]`` up to ``offsets[k + 1]``. Shape (symbols + 1,), int64."""
        return self.timeline.offsets

    @property
    def starts(self) -> np.ndarray:
        """The first bar of each symbol. Shape (symbols,), int64."""
        return self.timeline.offsets[:-1]

    @property
    def ends(self) -> np.ndarray:
        """The bar after the last one of each symbol. Shape (symbols,), int64."""
        return self.timeline.offsets[1:]

    @property
    def size(self) -> int:
        """How many bars all symbols have together."""
        return self.timeline.size

    @property
    def steps(self) -> tuple[float, ...]:
        """The smallest price step of each symbol, the usual one where nothing is known."""
        return self.ticks or (USUAL_TICK,) * len(self)

    def column(self, name: str) -> np.ndarray:
        """A column of the bars, one of `calendar_columns`, ``last_of_session``, ``tick_size``, or ``adjusted_by``, the
        factor that made adjusted prices of real ones; float64, worked out once. Shape (bars,)."""
        known = self.columns.get(name)
        if known is not None:
            return known
        if name in COLUMNS:
            self.fetch([name])
        elif name == "last_of_session":
            self._add({name: last_of_session(self.timeline)})
        elif name == "tick_size":
            self._add({name: self.per_symbol(self.steps)})
        elif name == "tick_count":
            self._add({name: self.per_symbol(map(tick_count, self.steps))})
        elif name == "adjusted_by":
            self._add({name: self._factors()})
        elif name == "close_clock":
            self._add({name: close_clock(self.timeline)})
        else:
            self._add(calendar_columns(self.timeline))
        return self.columns[name]

    def _factors(self) -> np.ndarray:
        made = np.ones(self.size)
        for k, adjustments in enumerate(self.adjustments or ()):
            if adjustments is not None:
                days = self.calendars[k].days(self.timeline.each[k])
                made[self.offsets[k] : self.offsets[k + 1]] = adjustments.on_days(days)
        return made

    def _add(self, made: Mapping[str, np.ndarray]) -> None:
        """Adds columns. Several threads read a panel, so its mapping of columns is never changed, only replaced; what
        another thread has added meanwhile stays."""
        with _ADDING:
            self.columns = {**made, **self.columns}

    def fetch(self, names: Iterable[str]) -> None:
        """Makes several of the five columns ready in one go, which is quicker where they are read from files."""
        missing = [n for n in names if n in COLUMNS and n not in self.columns]
        if not missing or self.source is None:
            return
        if self.timeline.is_unread:
            *made, times = self.source.read([*missing, "time"])
            self.timeline.take(times)
        else:
            made = self.source.read(missing)
        self._add(dict(zip(missing, made, strict=True)))

    def adjusted_on(self, bars: np.ndarray) -> np.ndarray | float:
        """The factor that made the adjusted prices of some bars (int64) of real ones; float64 of that shape, or 1."""
        return 1.0 if self.adjustments is None else self.column("adjusted_by")[bars]

    def ticks_on(self, symbols: np.ndarray, bars: np.ndarray) -> np.ndarray:
        """The price step of some bars, by the numbers of their symbols. Each int64, shape (bars,); float64 of that shape."""
        return np.asarray(np.array(self.steps)[symbols] * self.adjusted_on(bars))

    def per_symbol(self, values: Iterable[float]) -> np.ndarray:
        """A number for each symbol, repeated on each of its bars; float64. Shape (bars,)."""
        return np.repeat(np.array(list(values), dtype=np.float64), self.timeline.sizes)

    def among(self, first: int, last: int) -> Panel:
        """Symbols ``first`` up to ``last`` as a separate panel, with the columns loaded so far; nothing is copied."""
        part = slice(int(self.offsets[first]), int(self.offsets[last]))
        return Panel(
            self.symbols[first:last],
            self.timeline.among(first, last),
            {name: values[part] for name, values in self.columns.items()},
            background=self.background,
            ticks=None if self.ticks is None else self.ticks[first:last],
            contracts=None if self.contracts is None else self.contracts[first:last],
            adjustments=None if self.adjustments is None else any_of(self.adjustments[first:last]),
        )

    def bars(self, k: int) -> Bars:
        """One symbol of the panel, without a copy."""
        part = slice(int(self.offsets[k]), int(self.offsets[k + 1]))
        return Bars(
            self.symbols[k],
            self.timeframe,
            self.calendars[k],
            self.timeline.each[k],
            {name: self.column(name)[part] for name in COLUMNS},
            self.timeline.extended,
            None if self.adjustments is None else self.adjustments[k],
        )
