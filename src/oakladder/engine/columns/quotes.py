"""The last price of every symbol, and how it has changed since the bar before."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from oakladder.bars.store.as_of import BarSource
from oakladder.engine.bar_selection import DAYS
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.universe.bars import UniverseView
from oakladder.engine.universe.map import UniverseTask, map_universe

Quote = tuple[float, float]


def quotes(library: BarSource, symbols: Iterable[str], *, context: RunContext = PLAIN) -> dict[str, Quote]:
    """The last daily close and its change as a ratio (none without a previous day), for every symbol that has one."""
    work = UniverseTask([DAYS], _last_two, lambda stored: {DAYS: np.full(len(stored.symbols), 2)})
    done = map_universe(library, symbols, work, context=context)
    return {symbol: quote for some in done.made for symbol, quote in some.items()}


def _last_two(view: UniverseView) -> dict[str, Quote]:
    panel = view.panel(DAYS)
    closes = panel.column("close")
    made = {}
    for symbol, start, end in zip(panel.symbols, panel.starts.tolist(), panel.ends.tolist(), strict=True):
        before = float(closes[end - 2]) if end - start > 1 else 0.0
        made[symbol] = float(closes[end - 1]), closes[end - 1] / before - 1 if before else float("nan")
    return made
