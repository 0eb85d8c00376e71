"""Live prices: a tick through scripts and timeframes, messages of a feed, final minutes up to alerts."""

from __future__ import annotations

import shutil
import tempfile
import time
from pathlib import Path

import numpy as np

from oakladder.alerts.alert import ScriptCopy, of_signal
from oakladder.alerts.evaluator import AlertEvaluator
from oakladder.alerts.store import AlertStore, JudgedUntil, new_id
from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.panel import Panel
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_MINUTE, Timeframe
from oakladder.bars.timeline import Timeline
from oakladder.engine.stream.live import LiveRun
from oakladder.feeds.follower import Follower, Minute
from oakladder.feeds.messages import Bar, ServerHello, encoded, from_server, moment
from oakladder.feeds.recorder import News, Recorder
from oakladder.rung import compile_script
from oakladder.speed import TREND, Row, side_by_side
from oakladder.speed.compiling import script_of

SYMBOLS, HISTORY = 1000, 400
#: Alerts that look at every symbol, the scripts that they share, and minutes that come.
ALERTS, SCRIPTS, ROUNDS = 200, 10, 6
_LEVEL = """rung 1
setting level = 20 range 1..1000
signal go = close > level and close > sma(close, {})
"""
#: A moment of the market, on a whole minute.
_BEGIN = 1_782_900_000
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


def _tick() -> Row:
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
    return (
        f"one tick, {SYMBOLS:,} symbols × {len(_TIMEFRAMES)} timeframes × 3 scripts",
        f"{np.median(taken) * 1e3:.0f} ms",
        "",
        "≤ 15 ms",
    )


def _messages() -> Row:
    """How many messages a second are decoded, followed and collected, on one core."""
    follower, recorder = Follower(), Recorder(_library(Path(tempfile.mkdtemp()), 10), lambda _: None, lambda _: None)
    follower.connected()
    follower.take(ServerHello(1, "speed", moment(_BEGIN)))
    frames = [
        encoded(Bar(f"S{k}", seq, moment(_BEGIN), 10.0, 11.0, 9.0, 10.0 + seq % 9 / 10, float(seq), False))
        for seq in range(1, 21)
        for k in range(SYMBOLS)
    ]
    begun = time.perf_counter()
    for frame in frames:
        made = follower.take(from_server(frame))
        if made.forming is not None:
            recorder.forming(made.forming)
    rate = len(frames) / (time.perf_counter() - begun)
    return (f"updates of {SYMBOLS:,} symbols decoded and followed, a second", f"{rate:,.0f}", "", "≥ 20,000")


def _alerts() -> list[Row]:
    """The time from the final minutes of many symbols to the rows of many alerts, in the library and in the log."""
    folder = Path(tempfile.mkdtemp())
    try:
        library = _library(folder, SYMBOLS)
        store, names = AlertStore(folder / "alerts.sqlite"), list(library.infos)
        for k in range(ALERTS):
            copy = ScriptCopy(f"rule{k % SCRIPTS}.rung", _LEVEL.format(k % SCRIPTS + 5))
            made = of_signal(
                new_id(),
                f"alert {k}",
                copy,
                "go",
                ONE_MINUTE,
                list_name="all",
                created=_BEGIN,
                extended=True,
                settings={"level": 20.0 + k},
            )
            store.add(made, JudgedUntil(_BEGIN))
        evaluator = AlertEvaluator(library, store, lambda _: names)
        news: list[News] = []
        recorder = Recorder(library, news.append, lambda _: None)
        evaluator.connected()
        follower = Follower()
        follower.now = _BEGIN
        written, judged = [], []
        for k in range(ROUNDS):
            follower.now = _BEGIN + 60 * (k + 1)
            for name in names:
                recorder.final(Minute(name, _BEGIN + 60 * k, 10.0, 11.0, 9.0, 10.0 + k % 3, 5.0))
            recorder.market_time(follower.now)
            recorder.pause(follower)
            begun = time.perf_counter()
            recorder.write()
            written.append(time.perf_counter() - begun)
            evaluator.look(news.pop())
            judged.append(time.perf_counter() - begun)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    return [
        (f"final minutes of {SYMBOLS:,} symbols into the library", f"{np.median(written[1:]) * 1e3:.0f} ms", "", ""),
        (
            f"… and judged by {ALERTS} alerts",
            f"{np.median(judged[1:]) * 1e3:.0f} ms, {max(judged[1:]) * 1e3:.0f} ms at most",
            "",
            "≤ 100 ms",
        ),
    ]


def _library(folder: Path, symbols: int) -> BarLibrary:
    """A library with some minutes of symbols before the live ones."""
    library, calendar = BarLibrary(folder), Calendar()
    library.add_symbols([SymbolInfo(f"S{k}", f"S{k}", "", "share", 0.01, calendar) for k in range(symbols)])
    times = _BEGIN - 60 * np.arange(HISTORY, 0, -1, dtype=np.int64)
    columns = dict.fromkeys(COLUMNS, np.full(HISTORY, 10.0))
    for k in range(symbols):
        library.write(Bars(f"S{k}", ONE_MINUTE, calendar, times, columns))
    library.settle()
    return library


def measure() -> list[Row]:
    """Ticks, messages, and final minutes up to alerts."""
    return [_tick(), _messages(), *_alerts()]
