"""Which part of history a trial looks at: from and to a date, and the last part that stays sealed."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.rung.problems import RunProblem

#: The last part of history that is sealed.
SEALED_SHARE = 0.2


def sealed_from(panel: Panel) -> int | None:
    """The time from which on a panel's history is sealed: its last fifth; None where there are no bars."""
    if not panel.size:
        return None
    first, last = int(panel.times.min()), int(panel.times.max())
    return int(first + (1 - SEALED_SHARE) * (last - first))


def before(panel: Panel, time: int) -> Panel:
    """The bars of a panel that open before a time; the same panel where all do."""
    if not panel.size or int(panel.times.max()) < time:
        return panel
    series = []
    for k in range(len(panel)):
        bars = panel.bars(k)
        series.append(bars.part(0, int(np.searchsorted(bars.times, time, "left"))))
    made = panel_of(series, panel.timeframe)
    made.ticks, made.background = panel.ticks, panel.background
    return made


@dataclass(frozen=True, slots=True)
class Span:
    """A part of history in UTC seconds: entries decided from ``first`` on, bars before ``last``; None for all of it.

    What happened before ``first`` is run too, so that averages and positions are as they were.
    """

    first: int | None = None
    last: int | None = None
    sealed: bool = True

    def open(self) -> Span:
        """The same with the seal broken."""
        return replace(self, sealed=False)

    def truncate(self, panel: Panel) -> tuple[Panel, int | None]:
        """The bars that may be looked at, and from when on the rest is sealed, if it is."""
        seal = sealed_from(panel) if self.sealed else None
        ends = [t for t in (self.last, seal) if t is not None]
        return (before(panel, min(ends)) if ends else panel), seal

    def check(self, panel: Panel, cut: Panel, seal: int | None) -> None:
        """Raises `RunProblem` where the bars of a panel, ``cut`` by this span, leave none that count."""
        if cut.size and (self.first is None or int(cut.times.max()) >= self.first):
            return
        if not panel.size:
            raise RunProblem("These symbols have no bars.")
        first, last = int(panel.times.min()), int(panel.times.max())
        what = f"The bars run from {_day(first)} to {_day(last)}"
        if seal is not None and (self.last is None or self.last > seal) and (self.first is None or self.first <= last):
            raise RunProblem(
                f"No bar of this span lies before the sealed part. {what}, sealed from {_day(seal)} on. "
                "Choose an earlier span, or break the seal (--broken-seal)."
            )
        raise RunProblem(f"There are no bars in this span. {what}. Choose dates within it.")


def _day(time: int) -> str:
    return f"{datetime.fromtimestamp(time, UTC):%Y-%m-%d}"
