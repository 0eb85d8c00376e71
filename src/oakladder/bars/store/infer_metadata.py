"""What can be said of a symbol by its bars alone: where a lost catalogue is made again."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from pathlib import Path

import numpy as np
import pyarrow as pa

from oakladder.bars.sessions import Calendar
from oakladder.bars.store import files
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.zones import DAY


def infer_info(symbol: str, paths: Iterable[Path]) -> SymbolInfo:
    """Infers a symbol's metadata from its bars alone."""
    close = times = np.zeros(0)
    for path in paths:
        with contextlib.suppress(OSError, pa.ArrowException, KeyError, ValueError):
            layout = files.layout_of(str(path))
            if layout.count:
                at = dict(zip(files.NAMES, layout.offsets, strict=True))
                close = np.fromfile(path, dtype=np.float64, count=layout.count, offset=at["close"])
                times = np.fromfile(path, dtype=np.int64, count=layout.count, offset=at["time"])
                break
    return SymbolInfo(symbol, symbol, "Found again", "share", tick_of(close), calendar_of(times))


def tick_of(prices: np.ndarray) -> float:
    """The smallest step that all prices are multiples of, among the usual ones. Shape (prices,), float64."""
    some = prices[~np.isnan(prices)][-2000:]
    for decimals in range(7):
        if (np.abs(some - np.round(some, decimals)) < 1e-9 * np.maximum(np.abs(some), 1)).all():
            return float(10.0**-decimals) if decimals != 0 else 1.0
    return 1e-6


def calendar_of(times: np.ndarray) -> Calendar:
    """A calendar in UTC that holds all the bars: around the clock, at weekends only where they trade. Times: shape
    (bars,), int64 UTC seconds."""
    weekdays = (times // DAY + 3) % 7
    return Calendar(weekend=bool(len(times) and (weekdays >= 5).mean() > 0.02))
