"""Scans over a large market on disk: thousands of symbols of days, hundreds of long series of minutes."""

from __future__ import annotations

import resource
import statistics
import tempfile
import threading
import time
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from oakladder.bars.bars import Bars
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.engine.columns.fill import ColumnRequest, fill
from oakladder.engine.run.context import RunContext
from oakladder.engine.scan.conditions import Condition, Group, Join, Rule, TriggerMode
from oakladder.engine.scan.run import run_scan
from oakladder.rung import Program, compile_script
from oakladder.rung.problems import Cancelled
from oakladder.speed import TREND, Row
from oakladder.tuning import TUNING
from oakladder.work import parallel

#: Max seconds to wait for code that is compiled in the background.
_COMPILING = 3.0
DAYS, MINUTES = (5000, 2520), (500, 100_000)
RULE = """rung 1
let mean = sma(close, 50)
signal over = close > mean
signal dip = low < lowest(low, 20)[1] and volume > 1.2 * sma(volume, 20)[1]
"""
#: The same with an exponential average and Wilder's: every bar of history matters to them.
KEPT = RULE.replace("sma(close, 50)", "ema(close, 50)").replace("low < lowest", "rsi(close, 14) < 45 and low < lowest")


def make_market(folder: Path, symbols: int, bars: int, timeframe: Timeframe, *, ragged: bool = False) -> BarLibrary:
    """A library of random walks, written file by file as an import would.

    In a ragged one every symbol begins on a different day and misses some days.
    """
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
        kept = rng.random(bars) > 0.003
        kept[: rng.integers(0, bars // 2)] = False
        there = kept if ragged else slice(None)
        library.write(Bars(name, timeframe, calendar, times[there], {n: v[there] for n, v in columns.items()}))
    library.add_symbols(infos)
    library.settle()
    time.sleep(TUNING.settled_seconds)  # as long as files must have stood still before they are packed
    library.pack()
    return BarLibrary(folder)


def _row(words: str, library: BarLibrary, condition: Condition, timeframe: Timeframe, reach: str) -> Row:
    """A scan that is run again; one on the library when it has just been opened and has been scanned on another day; and
    the first of all, for which code is compiled and states are saved."""
    with parallel(2) as pool:

        def scan(bars: BarLibrary) -> float:
            begin = time.perf_counter()
            run_scan(condition, bars, bars.infos, timeframe, context=RunContext(pool))
            return time.perf_counter() - begin

        first = scan(library)
        count = len(run_scan(condition, library, library.infos, timeframe, context=RunContext(pool)).found)
        time.sleep(_COMPILING)
        again = statistics.median(scan(library) for _ in range(5))
        opened = statistics.median(scan(BarLibrary(library.folder)) for _ in range(3))
    return (
        f"{words}: {count} found",
        f"just opened {opened:.2f} s",
        f"again {again:.2f}, the first of all {first:.2f}",
        reach,
    )


def _stopping(library: BarLibrary, condition: Condition, timeframe: Timeframe) -> Row:
    """How long a scan continues after its cancellation, at moments spread over its run; the longest."""
    waits = []
    for k in range(8):
        told = threading.Event()
        timer = threading.Timer(0.03 + 0.05 * k, told.set)
        with parallel(2) as pool:
            begin = time.perf_counter()
            timer.start()
            try:
                run_scan(condition, library, library.infos, timeframe, context=RunContext(pool, told.is_set))
            except Cancelled:
                waits.append(time.perf_counter() - begin - timer.interval)
            timer.cancel()
    return ("  the longest from stopping it to its end", f"{1000 * max(waits):.0f} ms", f"of {len(waits)}", "≤ 100 ms")


def _ladder(library: BarLibrary, programs: Sequence[Program]) -> Row:
    """All cells of a Ladder of 1,000 symbols and 12 columns, as the place asks for them."""
    symbols = list(library.infos)[:1000]
    frames = [ONE_DAY, Timeframe.parse("1w"), Timeframe.parse("1mo")]
    asked = [ColumnRequest(p, name, frame) for p in programs for name in ("over", "dip") for frame in frames]
    taken = []
    for _ in range(5):
        begin = time.perf_counter()
        fill(asked, library, symbols)
        taken.append(time.perf_counter() - begin)
    size = f"a Ladder of {len(symbols):,} symbols × {len(asked)} columns, every cell, one thread"
    return (size, f"{statistics.median(taken):.2f} s", f"first {taken[0]:.2f} s", "≤ 1 s")


def measure() -> list[Row]:
    """Rows for days and for minutes, the memory that they take, stopping, and the cells of a Ladder."""
    rule, kept, trend = compile_script(RULE), compile_script(KEPT), compile_script(TREND)
    week = Timeframe.parse("1w")

    def three(program: Program) -> Condition:
        lately = Rule(program, "dip", fresh=TriggerMode.WITHIN, bars=20)
        return Group(Join.ALL, (Rule(program, "over"), Rule(program, "over", week), lately))

    minutes = Group(
        Join.ALL, (Rule(rule, "over", ONE_MINUTE), Rule(trend, "go", ONE_MINUTE, fresh=TriggerMode.WITHIN, bars=400))
    )
    rows: list[Row] = []
    with tempfile.TemporaryDirectory() as folder:
        library = make_market(Path(folder), *DAYS, ONE_DAY)
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        size = f"{DAYS[0]:,} × {DAYS[1]:,} days, three conditions on two timeframes"
        rows.append(_row(size, library, three(rule), ONE_DAY, "≤ 0.3 s"))
        rows.append(_row("  with averages that never forget", library, three(kept), ONE_DAY, "≤ 0.4 s"))
        grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) * 1024
        read = 3 * 8 * DAYS[0] * DAYS[1]
        rows.append(("  memory they grew by, over the columns read", f"{grown / read:.2f} ×", "", "< 2 ×"))
        rows.append(_stopping(library, three(kept), ONE_DAY))
        rows.append(_ladder(library, (rule, kept)))
    with tempfile.TemporaryDirectory() as folder:
        library = make_market(Path(folder), *DAYS, ONE_DAY, ragged=True)
        size = f"{DAYS[0]:,} symbols with 1,260 to {DAYS[1]:,} separate days each"
        rows.append(_row(size, library, three(rule), ONE_DAY, "≤ 0.3 s"))
    with tempfile.TemporaryDirectory() as folder:
        library = make_market(Path(folder), *MINUTES, ONE_MINUTE)
        size = f"{MINUTES[0]:,} × {MINUTES[1]:,} minutes, two conditions"
        rows.append(_row(size, library, minutes, ONE_MINUTE, "≤ 0.7 s"))
        rows.append(_stopping(library, minutes, ONE_MINUTE))
    return rows
