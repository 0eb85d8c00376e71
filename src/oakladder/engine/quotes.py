"""The last price of every symbol, and how it has changed since the bar before."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np

from oakladder.bars.store.as_of import BarSource
from oakladder.bars.timeframes import ONE_DAY
from oakladder.engine.market import MarketPart, parts, survey

Quote = tuple[float, float]


def quotes(
    library: BarSource, symbols: Iterable[str], *, cancelled: Callable[[], bool] | None = None
) -> dict[str, Quote]:
    """The last daily close and its change as a ratio (none where there is no day before), for every symbol that has one."""
    done = survey(parts(library, symbols, 2500), _last_two, cancelled=cancelled)
    return {symbol: quote for some in done for symbol, quote in some.items()}


def _last_two(part: MarketPart) -> dict[str, Quote]:
    part.need([(ONE_DAY, False)])
    if not part.symbols:
        return {}
    part.shorten({(ONE_DAY, False): np.full(len(part.symbols), 2)})
    panel = part.panel(ONE_DAY)
    closes = panel.column("close")
    made = {}
    for symbol, start, end in zip(panel.symbols, panel.starts.tolist(), panel.ends.tolist(), strict=True):
        before = float(closes[end - 2]) if end - start > 1 else 0.0
        made[symbol] = float(closes[end - 1]), closes[end - 1] / before - 1 if before else float("nan")
    return made
