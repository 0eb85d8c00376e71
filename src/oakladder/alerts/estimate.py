"""How often an alert would have told over the last year: a warning before one is switched on that tells all day."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from oakladder.alerts.alert import Alert, Once
from oakladder.bars.store.library import BarLibrary
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.scan.run import held_lately
from oakladder.rung.texts import count_words

#: Above so many times a day something else is proposed.
OFTEN = 20
_YEAR = 365
_DAY = 86_400


@dataclass(frozen=True, slots=True)
class Estimate:
    """How often an alert would have told on the days of the last year: in all, on the median day, on the worst one, and on
    how many days."""

    times: int
    median: float
    worst: int
    days: int
    skipped: int = 0
    forming: bool = False

    @property
    def is_often(self) -> bool:
        """Whether it is more than people read."""
        return self.median > OFTEN or self.worst > 10 * OFTEN

    def words(self) -> str:
        """The estimate as a sentence."""
        if not self.days:
            return "There are no bars of the last year, so nothing can be said of how often it tells."
        median = f"{self.median:g}"
        made = (
            f"Over the last year ({count_words(self.days, 'day')}) it would have told {count_words(self.times, 'time')}: "
            f"{median} on the median day, {self.worst:,} on the worst."
        )
        if self.forming:
            made += " While bars form it may tell more often."
        if self.is_often:
            made += (
                " That is more than most people read: let the rule tell where it begins, with starts(…), choose a longer "
                "timeframe, or tell once a day."
            )
        return made


def estimate(
    alert: Alert, library: BarLibrary, list_symbols: Callable[[str], Sequence[str]], context: RunContext = PLAIN
) -> Estimate:
    """How often an alert would have told. Raises `AlertProblem`, `ScriptError`, `RunProblem`, `Cancelled`."""
    symbols = [alert.symbol] if alert.symbol else list(list_symbols(alert.saved.list_name))
    condition, frame = alert.condition(list_symbols), alert.frame
    bars = _YEAR if not frame.timeframe.intraday else _YEAR * (1440 // frame.timeframe.count)
    (held,), skipped = held_lately([condition], library, symbols, frame, bars, context=context)
    last = max((int(one.times[-1]) for one in held if len(one.times)), default=0)
    told: Counter[int] = Counter()
    days: set[int] = set()
    for one in held:
        calendar = library.infos[one.symbol].calendar
        recent = one.times > last - _YEAR * _DAY
        on = calendar.days(one.times[recent])
        days.update(on.tolist())
        hits = on[one.held[recent]]
        told.update(np.unique(hits).tolist() if alert.once is Once.DAY else hits.tolist())
    counts = np.array([told.get(day, 0) for day in sorted(days)], dtype=np.int64)
    if alert.once is Once.EVER:
        counts = (
            np.minimum(counts.cumsum(), 1) - np.minimum(np.concatenate([[0], counts.cumsum()[:-1]]), 1)
            if len(counts)
            else counts
        )
    median = float(np.median(counts)) if len(counts) else 0.0
    worst = int(counts.max(initial=0))
    return Estimate(int(counts.sum()), median, worst, len(days), len(skipped), alert.forming)
