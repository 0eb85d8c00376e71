"""The trend example over a large panel, beside a hand-written fused loop, polars and pandas."""

from __future__ import annotations

import contextlib
import statistics
from collections.abc import Callable

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.bars.resample_index import marks as marks_of
from oakladder.bars.sessions import Calendar
from oakladder.bars.shared_times import shared
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.bars.timeline import Timeline
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.execute import run
from oakladder.rung import Program, compile_script
from oakladder.rung.native.compile import simd_width_here
from oakladder.speed import TREND, Row, loops, ratio, side_by_side
from oakladder.work import parallel

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


def _checked(what: str, program: Program, panel: Panel, theirs: Callable[[], tuple[np.ndarray, np.ndarray]]) -> None:
    """Compares signals with those of a hand-written loop: sums that drift may differ on a bar in a million."""
    result = run(program, panel)
    for name, other in zip(("go", "fade"), theirs(), strict=True):
        mine = result.is_true(result.output("signal", name).roles["value"])
        wrong = int((mine != (other == 1)).sum())
        if wrong > len(other) * 1e-6:
            raise AssertionError(f"{what}, {name}: {wrong} bars differ from the hand-written loop")


def measure(symbols: int) -> list[Row]:
    """Rows of the table; our results are compared with the hand-written loops first."""
    panel = make_panel(symbols)
    program = compile_script(TREND)
    width = simd_width_here()
    ours = lambda: run(program, panel, context=RunContext(lanes=width))  # noqa: E731
    theirs, eight = loops.trend(panel), loops.trend_of_eight(panel)
    _checked("trend", program, panel, theirs)
    whole = part_of(panel, symbols // 8 * 8)
    _checked("trend of eight", program, whole, loops.trend_of_eight(whole))
    closes = panel.columns["close"]
    threads = contextlib.ExitStack()
    pool = threads.enter_context(parallel(2))
    quick = side_by_side(
        {
            "ours": ours,
            "alone": lambda: run(program, panel, context=RunContext(lanes=0)),
            "loop": theirs,
            "eight": eight,
            "copy": closes.copy,
            "two": lambda: run(program, panel, context=RunContext(pool, lanes=width)),
        }
    )
    slow = side_by_side(
        {"ours": lambda: run(program, panel, context=RunContext(pool, lanes=width)), "polars": _polars_run(panel)}, 3
    )
    some = min(symbols, 500)  # enough for the thoroughly compiled code, few enough to wait for
    part = make_panel(some)
    few = side_by_side(
        {"ours": lambda: run(program, part, context=RunContext(lanes=width)), "pandas": _pandas_run(part, some)}, 3
    )
    size = f"{symbols:,} × {BARS:,}"
    rows = [
        _time(f"trend example, {size} bars, one core, {width} symbols side by side", quick["ours"], panel.size),
        _row("against a loop written by hand for numba", quick, "loop", "≥ 2 ×"),
        _row("against one for eight symbols at a time", quick, "eight", ""),
        _row("against one symbol after the other", quick, "alone", ""),
        _row("against a copy of the closes in memory, as fast as this can be", quick, "copy", ""),
        _row("two threads: their time against one", quick, "two", ""),
        _row("against polars rolling … over, two threads against all of its", slow, "polars", "≥ 30 ×"),
        _row(f"against pandas, symbol by symbol ({some} symbols)", few, "pandas", "≥ 150 ×"),
    ]
    threads.close()
    for what, script, by_hand in (
        ("averages that never forget", loops.WAVES, loops.waves),
        ("if, for and keep", loops.STAIRS, loops.stairs),
    ):
        rows += _beside(what, compile_script(script), part_of(panel, min(symbols, 2000)), by_hand)
    return rows


def _beside(
    what: str, program: Program, panel: Panel, by_hand: Callable[[Panel], Callable[[], tuple[np.ndarray, np.ndarray]]]
) -> list[Row]:
    width, theirs = simd_width_here(), by_hand(panel)
    _checked(what, program, panel, theirs)
    taken = side_by_side(
        {
            "ours": lambda: run(program, panel, context=RunContext(lanes=width)),
            "alone": lambda: run(program, panel, context=RunContext(lanes=0, thorough=True)),
            "loop": theirs,
        },
        7,
    )
    return [
        _time(f"{what}, {len(panel):,} × {BARS:,} bars, one core", taken["ours"], panel.size),
        _row("against a loop written by hand for numba", taken, "loop", "≥ 1.5 ×"),
        _row("against one symbol after the other", taken, "alone", ""),
    ]


def part_of(panel: Panel, symbols: int) -> Panel:
    """The first symbols of a panel."""
    return make_panel(symbols) if symbols != len(panel) else panel


def _time(words: str, seconds: list[float], bars: int) -> Row:
    taken = statistics.median(seconds)
    return words, f"{taken * 1e3:.0f} ms", f"{taken / bars * 1e9:.1f} ns a bar", ""


def _row(words: str, taken: dict[str, list[float]], name: str, reach: str) -> Row:
    return (
        f"  {words}",
        f"{ratio(taken, name, 'ours'):.2f} ×",
        f"{statistics.median(taken[name]) * 1e3:.0f} ms",
        reach,
    )
