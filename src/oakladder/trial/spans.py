"""Which part of history a trial looks at: from and to a date, and the last part that stays sealed."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.engine.sealed import OPEN, SealedDays
from oakladder.rung.problems import RunProblem

#: The last part of history that is sealed.
SEALED_SHARE = 0.2
#: What is said of a rule that became what it is after the sealed part had been seen.
TUNED = "tuned on known data"
TUNED_WORDS = "Tuned on known data: the rule became what it is after the sealed part had been seen, so that part proves nothing for it."


#: The first and the last day of the bars of symbols that have some, since 1970.
Days = Mapping[str, tuple[int, int]]


def days_of(panel: Panel) -> Days:
    """The first and the last day of each symbol of a panel that has bars."""
    made = {}
    for symbol, calendar, times in zip(panel.symbols, panel.calendars, panel.timeline.each, strict=True):
        if len(times):
            first, last = calendar.days(times[[0, -1]]).tolist()
            made[symbol] = first, last
    return made


def first_sealed_day(days: Days) -> int | None:
    """The day on which the last fifth between the first and the last day of some symbols begins; None without bars."""
    if not days:
        return None
    first, last = min(d[0] for d in days.values()), max(d[1] for d in days.values())
    return first + math.ceil((1 - SEALED_SHARE) * (last - first))


def seal_of(panel: Panel) -> SealedDays:
    """The seal of a list that is judged for the first time: one day for all symbols of its panel."""
    days = days_of(panel)
    day = first_sealed_day(days)
    return OPEN if day is None else SealedDays(dict.fromkeys(days, day))


def before(panel: Panel, time: int) -> Panel:
    """The bars of a panel that open before a time; the same panel where all do."""
    if not panel.size or int(panel.times.max()) < time:
        return panel
    return first_bars(panel, np.array([int(np.searchsorted(t, time)) for t in panel.timeline.each], dtype=np.int64))


def first_bars(panel: Panel, counts: np.ndarray) -> Panel:
    """The first so many bars of each symbol of a panel; the same panel where that is all. Counts: shape (symbols,),
    int64."""
    if np.array_equal(counts, panel.timeline.sizes):
        return panel
    made = panel_of([panel.bars(k).part(0, count) for k, count in enumerate(counts.tolist())], panel.timeframe)
    made.ticks, made.contracts, made.background = panel.ticks, panel.contracts, panel.background
    return made


@dataclass(frozen=True, slots=True)
class Span:
    """A part of history in UTC seconds: entries decided from ``first`` on, bars before ``last``; None for all of it.
    Nothing of what is sealed.

    What happened before ``first`` is run too, so that averages and positions are as they were.
    """

    first: int | None = None
    last: int | None = None
    seal: SealedDays = OPEN

    def truncate(self, panel: Panel) -> Panel:
        """The bars that may be looked at."""
        cut = before(panel, self.last) if self.last is not None else panel
        return first_bars(cut, self.seal.opened(cut))

    def seal_time(self, panel: Panel) -> int | None:
        """From when on the history of a panel's symbols is sealed, UTC seconds; None where all of it is open."""
        there = SealedDays({s: d for s, d in self.seal.days.items() if s in panel.symbols})
        return there.time if there.hides_now(panel).any() else None

    def check(self, panel: Panel, cut: Panel) -> None:
        """Raises `RunProblem` where the bars of a panel, ``cut`` by this span, leave none that count."""
        if cut.size and (self.first is None or int(cut.times.max()) >= self.first):
            return
        if not panel.size:
            raise RunProblem("These symbols have no bars.")
        first, last = int(panel.times.min()), int(panel.times.max())
        what = f"run from {_day(first)} to {_day(last)}"
        seal = self.seal_time(panel)
        if seal is not None and (self.last is None or self.last > seal) and (self.first is None or self.first <= last):
            if not self.seal.opened(panel).any():
                raise RunProblem(
                    f"All {panel.timeframe} bars lie in the sealed part of history: they {what}, and from {_day(seal)} on "
                    "history is sealed. Choose a longer timeframe, or break the seal (in the notebook, or with --broken-seal)."
                )
            raise RunProblem(
                f"No bar of this span lies before the sealed part. The bars {what}, sealed from {_day(seal)} on. "
                "Choose an earlier span, or break the seal (in the notebook, or with --broken-seal)."
            )
        raise RunProblem(f"There are no bars in this span. The bars {what}. Choose dates within it.")


def _day(time: int) -> str:
    return f"{datetime.fromtimestamp(time, UTC):%Y-%m-%d}"
