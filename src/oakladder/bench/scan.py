"""Scans over a large market on disk: thousands of symbols of days, hundreds of long series of minutes."""

from __future__ import annotations

import resource
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

from oakladder.bars.library import BarLibrary, SymbolInfo
from oakladder.bars.series import Bars
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.engine.screen import Condition, Fresh, Group, Join, Rule, screen
from oakladder.rung import compile_script

from . import TREND, Row

DAYS, MINUTES = (5000, 2520), (500, 100_000)
_RULE = """rung 1
let mean = sma(close, 50)
signal over = close > mean
signal dip = low < lowest(low, 20)[1] and volume > 1.2 * sma(volume, 20)[1]
"""


def make_market(folder: Path, symbols: int, bars: int, timeframe: Timeframe) -> BarLibrary:
    """A library of random walks, written file by file as an import would."""
    calendar = Calendar(start=540, end=930) if timeframe.intraday else Calendar()
    library = BarLibrary(folder)
    if timeframe.intraday:
        days = np.arange(12_000, 12_000 + bars // 390 * 2 + 20, dtype=np.int64)
        opens = calendar.day_open(days[calendar.trades_on(days)])
        times = (opens[:, None] + 60 * np.arange(390, dtype=np.int64)).ravel()[:bars]
    else:
        days = np.arange(12_000, 12_000 + bars * 2, dtype=np.int64)
        times = calendar.day_open(days[calendar.trades_on(days)][:bars])
    rng = np.random.default_rng(11)
    infos = []
    for k in range(symbols):
        close = 50 * np.exp(np.cumsum(rng.normal(0, 0.012, bars)))
        open_ = np.concatenate([close[:1], close[:-1]])
        columns = {
            "open": open_,
            "high": np.maximum(open_, close) * 1.004,
            "low": np.minimum(open_, close) * 0.996,
            "close": close,
            "volume": np.floor(rng.uniform(1e3, 1e6, bars)),
        }
        name = f"S{k:04d}"
        infos.append(SymbolInfo(name, name, "Made", "share", 0.01, calendar))
        library._infos = {name: infos[-1]}
        library.write(Bars(name, timeframe, calendar, times, columns))
    library.add_symbols(infos)
    library.settle()
    return BarLibrary(folder)


def _row(words: str, library: BarLibrary, condition: Condition, timeframe: Timeframe, reach: str) -> Row:
    """A scan on a library that has just been opened: nothing is read yet but by the operating system."""
    with ThreadPoolExecutor(2) as pool:
        begin = time.perf_counter()
        first = screen(condition, library, library.infos, timeframe, executor=pool)
        cold = time.perf_counter() - begin
        begin = time.perf_counter()
        screen(condition, library, library.infos, timeframe, executor=pool)
        again = time.perf_counter() - begin
    words = f"{words}: {len(first.found)} found"
    return (words, f"{cold:.2f} s", f"again {again:.2f} s", reach)


def measure() -> list[Row]:
    """Rows for days and for minutes, and the most memory that this process has held."""
    rule, trend = compile_script(_RULE), compile_script(TREND)
    week = Timeframe.parse("1w")
    days = Group(
        Join.ALL,
        (Rule(rule, "over"), Rule(rule, "over", week), Rule(rule, "dip", fresh=Fresh.WITHIN, bars=20)),
    )
    minutes = Group(
        Join.ALL, (Rule(rule, "over", ONE_MINUTE), Rule(trend, "go", ONE_MINUTE, fresh=Fresh.WITHIN, bars=400))
    )
    rows: list[Row] = []
    with tempfile.TemporaryDirectory() as folder:
        library = make_market(Path(folder), *DAYS, ONE_DAY)
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        size = f"{DAYS[0]:,} × {DAYS[1]:,} days, three conditions on two timeframes"
        rows.append(_row(size, library, days, ONE_DAY, "≤ 0.5 s"))
        grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) * 1024
        read = 5 * 8 * DAYS[0] * DAYS[1]
        rows.append(("  memory it grew by, over the columns read", f"{grown / read:.2f} ×", "", "< 2 ×"))
    with tempfile.TemporaryDirectory() as folder:
        library = make_market(Path(folder), *MINUTES, ONE_MINUTE)
        size = f"{MINUTES[0]:,} × {MINUTES[1]:,} minutes, two conditions"
        rows.append(_row(size, library, minutes, ONE_MINUTE, "≤ 1.5 s"))
    return rows
