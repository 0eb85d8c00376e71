"""The bars of some symbols of a market: what is stored of them, and a view of as many as are needed."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.bars.panels import resample_panel
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.tail_view import tail_view
from oakladder.bars.timeframes import BarUnit
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.execute import Result, run
from oakladder.engine.stream.checkpoint_store import CheckpointStore, SavedValues
from oakladder.rung.plan.ops import Op
from oakladder.rung.program import Program

#: For each timeframe so many of the last bars of each symbol (int64), or None for all of them.
Wanted = Mapping[BarSelection, "np.ndarray | None"]


@dataclass(slots=True)
class StoredBars:
    """The stored bars of some symbols. Every panel holds the symbols in the same order."""

    library: BarSource
    symbols: list[str]
    #: Whether enough bars are visited in all for optimised code to pay.
    thorough: bool = False
    #: Asked often while programs run, so that stopping takes effect soon.
    cancelled: Callable[[], bool] | None = None
    #: Where values that never forget go on, if they may.
    states: CheckpointStore | None = None
    _panels: dict[BarSelection, Panel] = field(default_factory=dict)

    def panel(self, base: BarSelection) -> Panel:
        """All stored bars; no column of them is read yet."""
        if base not in self._panels:
            self._panels[base] = self.library.stored_panel(self.symbols, base.timeframe, base.extended)
        return self._panels[base]

    def counts(self, frame: BarSelection) -> np.ndarray:
        """How many stored bars each symbol has from which those of a timeframe are made. Shape (symbols,), int64."""
        return self.panel(frame.base).timeline.sizes

    def at_most(self, frame: BarSelection) -> int:
        """From how many stored bars one bar of a timeframe is made at most, by the calendar."""
        if frame.timeframe.intraday:
            return frame.timeframe.count
        weekend = any(c.weekend for c in self.panel(frame.base).calendars)
        days = {BarUnit.DAY: 1, BarUnit.WEEK: 7 if weekend else 5, BarUnit.MONTH: 31 if weekend else 23}
        return days[frame.timeframe.span]

    def since(self, frame: BarSelection, other: BarSelection, bars: int) -> np.ndarray:
        """How many stored bars of a timeframe there are since the last so many stored bars of another began.

        As of the last that was complete then: one more.

        Shape (symbols,), int64.
        """
        if frame.base == other.base:
            return np.full(len(self.symbols), bars)
        there, here = self.panel(frame.base).timeline.each, self.panel(other.base).timeline.each
        made = np.empty(len(self.symbols), dtype=np.int64)
        for k, (theirs, own) in enumerate(zip(there, here, strict=True)):
            made[k] = len(theirs) - np.searchsorted(theirs, own[max(len(own) - bars, 0)]) + 1
        return made

    def needed(self, values: SavedValues, bars: np.ndarray) -> np.ndarray | None:
        """How many of the last bars of each symbol must be there, so that values are as on all of them on the last
        ``bars``; None where that takes all of them. Shape (symbols,), int64; so is the result."""
        assert self.states is not None  # who asks brings them: see `Work`
        return self.states.needed(values, bars, self.symbols, self.panel(values.frame.base).versions)

    def run(self, values: SavedValues, panel: Panel) -> Result:
        """Values on some of these bars: all of them, or so many of the last as `needed` has asked for."""
        start = keeping = versions = None
        if self.states is not None:
            versions = self.panel(values.frame.base).versions
            if panel.skipped is not None:
                start = self.states.start(values, self.symbols, versions)
            elif self.thorough:
                keeping = self.states.keeping(values, self.symbols, versions)
        made = run(
            values.program,
            panel,
            values.settings,
            outputs=[],
            extra=values.ops,
            context=RunContext(thorough=self.thorough, cancelled=self.cancelled),
            start=start,
            keeping=keeping,
        )
        if self.states is not None and keeping is not None and versions is not None:
            self.states.keep(values, keeping, panel, versions)
        return made

    def some(self, symbols: list[str]) -> StoredBars:
        """The same of some of the symbols."""
        return StoredBars(self.library, symbols, self.thorough, self.cancelled)


class UniverseView:
    """Bars of some symbols: all that are stored, or on each timeframe so many of the last ones.

    The first longer bar may have lost a part of its bars, so one more is kept than requested. A value that needs
    the bars left out must not be asked for.
    """

    def __init__(self, stored: StoredBars, wanted: Wanted | None = None):
        self.stored, self.symbols = stored, stored.symbols
        self._wanted = {f: n + 1 for f, n in (wanted or {}).items() if n is not None}
        #: Bars skipped of a stored timeframe, and of the timeframe that longer ones are made of.
        self._cuts, self._longer_cuts = _cuts(stored, wanted or {})
        self._short: dict[tuple[BarSelection, bool], Panel] = {}
        self._panels: dict[BarSelection, Panel] = {}
        self._results: dict[Hashable, Result] = {}

    @property
    def is_shortened(self) -> bool:
        """Whether bars were left out."""
        return bool(self._cuts or self._longer_cuts)

    def all_of(self, symbols: list[str]) -> UniverseView:
        """A view of all the bars of some of its symbols."""
        return UniverseView(self.stored.some(symbols))

    def panel(self, frame: BarSelection) -> Panel:
        """The bars on a timeframe, without what was left out."""
        if frame not in self._panels:
            self._panels[frame] = self._made(frame)
        return self._panels[frame]

    def _made(self, frame: BarSelection) -> Panel:
        base = frame.base
        if frame == base:
            return self._shortened(base, self._cuts, longer=False)
        made = resample_panel(self._shortened(base, self._longer_cuts, longer=True), frame.timeframe)
        return resample_panel(self.stored.panel(base), frame.timeframe) if self._lacks(frame, made) else made

    def _shortened(self, base: BarSelection, cuts: Mapping[BarSelection, np.ndarray], *, longer: bool) -> Panel:
        """Stored bars without the skipped ones; the same for all longer timeframes."""
        whole = self.stored.panel(base)
        if base not in cuts:
            return whole
        if (base, longer) not in self._short:
            self._short[base, longer] = tail_view(whole, cuts[base])
        return self._short[base, longer]

    def _lacks(self, frame: BarSelection, made: Panel) -> bool:
        """Whether fewer longer bars came of the bars that were left than are wanted: a market may trade on days
        that its calendar does not know."""
        wanted = self._wanted.get(frame)
        if made.skipped is None or wanted is None:
            return False
        return bool(((made.skipped > 0) & (made.timeline.sizes < wanted)).any())

    def run(self, program: Program, frame: BarSelection, settings: Mapping[str, object], ops: list[Op]) -> Result:
        """What a program gives for some values on these bars; the same is not run twice."""
        values = SavedValues(program, frame, settings, ops)
        if values.name not in self._results:
            self._results[values.name] = self.stored.run(values, self.panel(frame))
        return self._results[values.name]


def _cuts(stored: StoredBars, wanted: Wanted) -> tuple[dict[BarSelection, np.ndarray], dict[BarSelection, np.ndarray]]:
    """How many stored bars of each symbol are not needed: of the stored timeframes, and of what longer ones are
    made of."""
    cuts, longer_cuts = {}, {}
    for base in dict.fromkeys(f.base for f in wanted):
        own, counts = wanted.get(base), stored.counts(base)
        longer = [
            None if n is None else stored.at_most(f) * (n + 1)
            for f, n in wanted.items()
            if f.base == base and f != base
        ]
        if own is not None:
            cuts[base] = np.maximum(counts - own, 0)
        known = [n for n in longer if n is not None]
        if not known or len(known) < len(longer):
            continue
        needed = np.maximum.reduce(known)
        # Where all is read anyway, the longer bars are made of that unless they need much less.
        if own is not None or base not in wanted or 2 * needed.mean() < counts.mean():
            longer_cuts[base] = np.maximum(counts - needed, 0)
    return cuts, longer_cuts


def aligned(panel: Panel, base: Panel) -> list[tuple[int, int]]:
    """Runs of symbols whose bars lie in the same way to each other in two panels of the same symbols."""
    ends = (b for timeline in (panel.timeline, base.timeline) for _, b in timeline.alike())
    return list(pairwise(sorted({0, *ends})))
