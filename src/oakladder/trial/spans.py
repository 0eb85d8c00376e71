"""Which part of history a trial looks at: from and to a date, and the last part that stays sealed."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of

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

    def cut(self, panel: Panel) -> tuple[Panel, int | None]:
        """The bars that may be looked at, and from when on the rest is sealed, if it is."""
        seal = sealed_from(panel) if self.sealed else None
        ends = [t for t in (self.last, seal) if t is not None]
        return (before(panel, min(ends)) if ends else panel), seal
