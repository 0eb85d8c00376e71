"""The data of a trial from a library: the bars of some symbols, without symbols that have no bars."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Sequence

from oakladder.bars.errors import DataProblem
from oakladder.bars.panel import Panel
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.store.offsets import Unreadable
from oakladder.engine.bar_selection import DAYS, BarSelection
from oakladder.engine.sealed import OPEN, SealedDays
from oakladder.engine.universe.map import SkippedSymbol, with_bars
from oakladder.rung.problems import RunProblem
from oakladder.trial.broker.intrabar import minutes_for
from oakladder.trial.spans import Days, Span, days_of
from oakladder.trial.trial import TrialData, trial_data_of

#: So many grounds are kept: of the plain rule, of a timeframe and a list beside it.
_MOST_GROUNDS = 4


def trial_data_in(
    library: BarSource, symbols: Sequence[str], frame: BarSelection, span: Span = Span(), *, finer: bool = False
) -> tuple[TrialData, list[SkippedSymbol]]:
    """The bars of some symbols, and the symbols that were left out with their reasons.

    Raises `RunProblem` where none is left.
    """
    there, skipped = with_bars(library, list(dict.fromkeys(symbols)), [frame])
    while there:
        try:
            panel = library.panel(there, frame.timeframe, frame.extended)
            sealed = _sealed_whole(panel, span)
            if sealed:
                skipped += [SkippedSymbol(s, f"all its {frame.timeframe} bars are sealed") for s in sealed]
                there = [s for s in there if s not in sealed]
                continue
            made = trial_data_of(panel, span)
        except Unreadable as error:  # one that cannot be read spoils nothing for the others
            skipped.append(SkippedSymbol(error.symbol, str(error)))
            there = [s for s in there if s != error.symbol]
            continue
        if finer:
            made.panel.minutes = minutes_for(made.panel, library)
        return made, skipped
    reasons = f" {skipped[0].symbol}: {skipped[0].reason}" if skipped else ""
    raise RunProblem(
        f"None of the symbols has {frame.timeframe} bars.{reasons}"
        if symbols
        else "The list is empty. Add symbols to it."
    )


def days_in(library: BarSource, symbols: Sequence[str]) -> Days:
    """The first and the last day of those of some symbols that have bars."""
    found: dict[str, tuple[int, int]] = {}
    there, skipped = with_bars(library, list(dict.fromkeys(symbols)), [DAYS])
    while there:
        try:
            panel = library.panel(there, DAYS.timeframe)
            panel.fetch(("close",))
            found |= days_of(panel)
            break
        except Unreadable as error:
            there = [s for s in there if s != error.symbol]
    for one in skipped:  # it may have bars within the day alone
        with contextlib.suppress(KeyError, DataProblem, ValueError):
            finest = library.infos[one.symbol].finest
            found |= days_of(library.panel([one.symbol], finest))
    return found


def _sealed_whole(panel: Panel, span: Span) -> frozenset[str]:
    """The symbols of which every bar is sealed; none where that is so of all of them."""
    if not span.seal.days:
        return frozenset()
    opened = span.seal.opened(panel)
    shut = (opened == 0) & (panel.timeline.sizes > 0)
    return frozenset(s for s, is_shut in zip(panel.symbols, shut.tolist(), strict=True) if is_shut and opened.any())


class TrialDataSource:
    """Grounds of one source of bars that were made, for several threads. Where the bars change, another takes its place:
    what is still being read then goes into this one, which nobody asks any more.
    """

    def __init__(self, source: BarSource):
        self.source = source
        self._made: dict[tuple[object, ...], tuple[TrialData, tuple[SkippedSymbol, ...]]] = {}
        self._lock = threading.Lock()

    def of(
        self, symbols: Sequence[str], frame: BarSelection, finer: bool, seal: SealedDays = OPEN
    ) -> tuple[TrialData, tuple[SkippedSymbol, ...]]:
        """The ground of some symbols without what is sealed, and what was left out. Raises `RunProblem` where nothing is
        left."""
        key = (tuple(symbols), frame, finer, tuple(seal.days.items()))
        with self._lock:
            known = self._made.get(key)
        if known is None:
            ground, skipped = trial_data_in(self.source, symbols, frame, Span(seal=seal), finer=finer)
            known = ground, tuple(skipped)
            with self._lock:
                self._made[key] = known
                while len(self._made) > _MOST_GROUNDS:
                    self._made.pop(next(iter(self._made)))
        return known
