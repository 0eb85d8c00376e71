"""One new tick: the bar in progress of many symbols, on several timeframes, for several scripts."""

from __future__ import annotations

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import Timeframe
from oakladder.bars.timeline import Timeline
from oakladder.engine.stream.live import LiveRun
from oakladder.rung import compile_script
from oakladder.speed import TREND, Row, side_by_side
from oakladder.speed.compiling import script_of

SYMBOLS, HISTORY = 1000, 400
_TIMEFRAMES = ("1m", "5m", "15m", "1h", "1d", "1w")
_DIP = """rung 1
let lower = bollinger(close, 20, 2).lower
signal dip = low < lower and volume > 2 * sma(volume, 20)[1] bullish
column "{age(dip)}" fill good when age(dip) <= 3
"""


def _panels(timeframe: Timeframe) -> tuple[Panel, Panel]:
    """A history of many symbols, and one bar more of each."""
    rng = np.random.default_rng(3)
    calendar = Calendar()
    step = 60 * timeframe.count if timeframe.intraday else 86_400 * (7 if str(timeframe) == "1w" else 1)
    start = calendar.day_open(np.array([12_000], dtype=np.int64))[0]
    times = start + step * np.arange(HISTORY + 1, dtype=np.int64)
    close = 50 * np.exp(np.cumsum(rng.normal(0, 0.01, (SYMBOLS, HISTORY + 1)), axis=1))

    def panel(part: slice) -> Panel:
        c = np.ascontiguousarray(close[:, part])
        count = c.shape[1]
        flat = c.ravel()
        columns = {"open": flat, "high": flat * 1.01, "low": flat * 0.99, "close": flat, "volume": flat * 1000}
        offsets = np.arange(SYMBOLS + 1, dtype=np.int64) * count
        names = tuple(f"S{k}" for k in range(SYMBOLS))
        return Panel(names, Timeline(timeframe, (calendar,) * SYMBOLS, offsets, (times[part],) * SYMBOLS), columns)

    return panel(slice(0, HISTORY)), panel(slice(HISTORY, None))


def measure() -> list[Row]:
    """The time from a tick's prices to every script's values on every timeframe."""
    runs: list[tuple[LiveRun, Panel]] = []
    for text in (_DIP, script_of(40), TREND):
        program = compile_script(text)
        for name in _TIMEFRAMES:
            history, bar = _panels(Timeframe.parse(name))
            runs.append((LiveRun(program, history), bar))

    def tick() -> None:
        for live, bars in runs:
            live.peek(bars)

    taken = side_by_side({"tick": tick})["tick"]
    return [
        (
            f"one tick, {SYMBOLS:,} symbols × {len(_TIMEFRAMES)} timeframes × 3 scripts",
            f"{np.median(taken) * 1e3:.0f} ms",
            "",
            "≤ 15 ms",
        )
    ]
