"""The trend example over a large panel, beside a hand-written fused loop, polars and pandas."""

from __future__ import annotations

import statistics
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from oakladder.bars.longer import marks as marks_of
from oakladder.bars.panel import Panel
from oakladder.bars.sessions import Calendar
from oakladder.bars.shared_times import shared
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.bars.timeline import Timeline
from oakladder.engine.run import run
from oakladder.rung import compile_script
from oakladder.speed import TREND, Row, ratio, side_by_side

BARS = 2520
_WEEK = Timeframe.parse("1w")


def make_panel(symbols: int, bars: int = BARS) -> Panel:
    """A panel of random walks on one calendar."""
    rng = np.random.default_rng(7)
    calendar = Calendar()
    days = np.arange(12_000, 12_000 + bars * 2, dtype=np.int64)
    times = calendar.day_open(days[calendar.trades_on(days)][:bars])
    close = 50 * np.exp(np.cumsum(rng.normal(0, 0.015, (symbols, bars)), axis=1)).ravel()
    open_ = close * np.exp(rng.normal(0, 0.005, len(close)))
    columns = {
        "open": open_,
        "high": np.maximum(open_, close) * 1.004,
        "low": np.minimum(open_, close) * 0.996,
        "close": close,
        "volume": np.floor(rng.uniform(1e3, 1e6, len(close))),
    }
    panel = Panel(
        tuple(f"S{k}" for k in range(symbols)),
        Timeline(
            ONE_DAY, (calendar,) * symbols, np.arange(symbols + 1, dtype=np.int64) * bars, (shared(times),) * symbols
        ),
        columns,
    )
    marks_of(panel.timeline, _WEEK)
    return panel


def hand_written() -> Callable[..., None]:
    """The same rule as one loop over plain arrays, as a careful programmer would write it for numba."""
    import numba

    @numba.njit(cache=False)
    def loop(close, marks, starts, ends, fast, slow, go, fade):  # type: ignore[no-untyped-def]
        for s in range(len(starts)):
            a, b = starts[s], ends[s]
            sum_f = sum_s = sum_l = sum_w = 0.0
            ring = np.zeros(30)
            weeks = 0
            week_close = week_mean = np.nan
            pf = ps = np.nan
            for i in range(a, b):
                c, k = close[i], i - a
                sum_f += c
                sum_s += c
                sum_l += c
                if k >= fast:
                    sum_f -= close[i - fast]
                if k >= slow:
                    sum_s -= close[i - slow]
                if k >= 200:
                    sum_l -= close[i - 200]
                if marks[i] & 2:
                    at = weeks % 30
                    sum_w += c - ring[at]
                    ring[at] = c
                    weeks += 1
                    week_close = c
                    if weeks >= 30:
                        week_mean = sum_w / 30
                f = sum_f / fast if k >= fast - 1 else np.nan
                m = sum_s / slow if k >= slow - 1 else np.nan
                long = sum_l / 200 if k >= 199 else np.nan
                strong = c > long and week_close > week_mean
                go[i] = f > m and pf <= ps and strong
                fade[i] = f < m and pf >= ps
                pf, ps = f, m

    return loop


def _numba_run(panel: Panel) -> Callable[[], tuple[np.ndarray, np.ndarray]]:
    loop = hand_written()
    n = panel.size
    marks = marks_of(panel.timeline, _WEEK)

    def work() -> tuple[np.ndarray, np.ndarray]:
        go, fade = np.empty(n, np.int8), np.empty(n, np.int8)
        loop(panel.columns["close"], marks, panel.starts, panel.ends, 9, 20, go, fade)
        return go, fade

    return work


def _polars_run(panel: Panel) -> Callable[[], object]:
    import polars as pl

    sizes = np.diff(panel.offsets)
    frame = pl.DataFrame(
        {
            "symbol": np.repeat(np.arange(len(panel)), sizes),
            "close": panel.columns["close"],
            "ends": (marks_of(panel.timeline, _WEEK) & 2) > 0,
        }
    )

    def work() -> object:
        mean = lambda n: pl.col("close").rolling_mean(n).over("symbol")  # noqa: E731
        weekly = (
            frame.with_row_index()
            .filter(pl.col("ends"))
            .with_columns((pl.col("close") > pl.col("close").rolling_mean(30).over("symbol")).alias("up"))
            .select("index", "up")
        )
        joined = (
            frame.with_row_index()
            .join(weekly, on="index", how="left")
            .with_columns(
                mean(9).alias("f"),
                mean(20).alias("s"),
                mean(200).alias("l"),
                pl.col("up").forward_fill().over("symbol"),
            )
        )
        before = joined.with_columns(
            pl.col("f").shift(1).over("symbol").alias("pf"), pl.col("s").shift(1).over("symbol").alias("ps")
        )
        return before.select(
            (
                (pl.col("f") > pl.col("s"))
                & (pl.col("pf") <= pl.col("ps"))
                & (pl.col("close") > pl.col("l"))
                & pl.col("up")
            ).alias("go"),
            ((pl.col("f") < pl.col("s")) & (pl.col("pf") >= pl.col("ps"))).alias("fade"),
        )

    return work


def _pandas_run(panel: Panel, symbols: int) -> Callable[[], object]:
    import pandas as pd

    close, marks = panel.columns["close"], marks_of(panel.timeline, _WEEK)

    def work() -> object:
        made = []
        for k in range(symbols):
            part = slice(int(panel.offsets[k]), int(panel.offsets[k + 1]))
            c = pd.Series(close[part])
            f, s, long = c.rolling(9).mean(), c.rolling(20).mean(), c.rolling(200).mean()
            week = c[(marks[part] & 2) > 0]
            up = (week > week.rolling(30).mean()).reindex(c.index).ffill().fillna(False).astype(bool)
            made.append(((f > s) & (f.shift() <= s.shift()) & (c > long) & up, (f < s) & (f.shift() >= s.shift())))
        return made

    return work


def measure(symbols: int) -> list[Row]:
    """Rows of the table; the results of our run and of the hand-written loop are compared first."""
    panel = make_panel(symbols)
    program = compile_script(TREND)
    ours = lambda: run(program, panel)  # noqa: E731
    theirs = _numba_run(panel)
    result, (go, fade) = ours(), theirs()
    for name, other in (("go", go), ("fade", fade)):
        mine = result.is_true(result.output("signal", name).roles["value"])
        wrong = int((mine != (other == 1)).sum())
        if wrong > len(other) * 1e-6:
            raise AssertionError(f"{name}: {wrong} bars differ from the hand-written loop")
    closes = panel.columns["close"]
    pool = ThreadPoolExecutor(2)
    quick = side_by_side(
        {
            "ours": ours,
            "loop": theirs,
            "copy": closes.copy,
            "two": lambda: run(program, panel, executor=pool),
        }
    )
    slow = side_by_side({"ours": ours, "polars": _polars_run(panel)}, 3)
    pool.shutdown()
    some = min(symbols, 500)  # enough for the thoroughly compiled code, few enough to wait for
    part = make_panel(some)
    few = side_by_side({"ours": lambda: run(program, part), "pandas": _pandas_run(part, some)}, 3)
    bars = panel.size
    size = f"{symbols:,} × {BARS:,}"
    taken_by_us = statistics.median(quick["ours"])

    def row(words: str, taken: dict[str, list[float]], name: str, reach: str) -> Row:
        return (
            f"  {words}",
            f"{ratio(taken, name, 'ours'):.2f} ×",
            f"{statistics.median(taken[name]) * 1e3:.0f} ms",
            reach,
        )

    return [
        (
            f"trend example, {size} bars, one core",
            f"{taken_by_us * 1e3:.0f} ms",
            f"{taken_by_us / bars * 1e9:.1f} ns a bar",
            "",
        ),
        row("against a hand-written numba loop", quick, "loop", "≥ 0.8 ×"),
        row("against polars rolling … over (all its threads)", slow, "polars", "≥ 15 ×"),
        row(f"against pandas, symbol by symbol ({some} symbols)", few, "pandas", "≥ 50 ×"),
        row("against a copy of the closes in memory", quick, "copy", ""),
        row("two threads: their time against one", quick, "two", ""),
    ]
