"""Going on bar by bar over minutes: sessions, gaps, early and late hours, longer timeframes; the same bits as at once."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import ONE_MINUTE, Timeframe
from oakladder.engine.run.execute import run
from oakladder.engine.stream.live import LiveRun
from oakladder.rung import compile_script

SCRIPT = """rung 1
let hour_begins = new(1h)
let quarter_begins = new(15m)
let day_begins = new(1d)
let week_begins = new(1w)
let session = session_bar
let average_price = vwap()
let hour_close = close on 1h
let half_high = highest(high, 3) on 30m forming
let day_low = low on 1d forming
let before = previous_close(1d)
let range_top = opening_range(15).high
let middle = median(close, 7)
let strength = rsi(close, 5) + close[9]
let outside = extended
let of_day = clock + weekday
keep seen = 0
if hour_begins
    set seen = seen + 1
"""
PROGRAM = compile_script(SCRIPT)
VALUES = list(PROGRAM.plan.values.values())
MARKETS = {
    "include extended hours": Calendar("WET", 540, 630, 510, 660),
    "around the clock": Calendar("WET", weekend=True),
    "over midnight": Calendar("WET", -120, 60, -180, 90, weekend=True),
    "with a half day": Calendar("WET", 540, 630, 540, 630, halves=frozenset([(20_541, 570)])),
}


def minutes(calendar: Calendar, seed: int, *, first_day: int = 20_540, days: int = 3) -> Bars:
    """Some days of minutes with gaps, on the days around a change of clocks."""
    rng = np.random.default_rng(seed)
    day = np.arange(first_day, first_day + days)
    spans = zip(calendar.day_open(day, True).tolist(), calendar.day_close(day, True).tolist(), strict=True)
    step = 60 if calendar.late - calendar.early < 600 else 60 * 17
    times = np.concatenate([np.arange(a, b, step) for a, b in spans])
    times = np.unique(times[rng.random(len(times)) < 0.8])
    close = 100 + np.cumsum(np.round(rng.normal(0, 0.2, len(times)), 2))
    columns = {"open": close - 0.1, "high": close + 0.3, "low": close - 0.4, "close": close, "volume": close * 0 + 5}
    for name in COLUMNS:
        columns[name] = np.where(rng.random(len(times)) < 0.02, np.nan, columns[name])
    return Bars("T", ONE_MINUTE, calendar, times, columns, True)


def part(bars: list[Bars], start: int, end: int) -> Panel:
    return panel_of([b.part(min(start, len(b)), min(end, len(b))) for b in bars])


@pytest.mark.parametrize("market", sorted(MARKETS))
@settings(max_examples=12, deadline=None)
@given(st.integers(0, 1000), st.lists(st.integers(1, 40), min_size=1, max_size=8), st.integers(1, 4))
def test_minute_by_minute_is_all_at_once(market: str, seed: int, pieces: list[int], tries: int) -> None:
    calendar = MARKETS[market]
    series = [minutes(calendar, seed), minutes(calendar, seed + 1)]
    shortest = min(map(len, series))
    start = max(shortest - sum(pieces), 1)
    whole = run(PROGRAM, panel_of(series), outputs=[], extra=VALUES)
    live = LiveRun(PROGRAM, part(series, 0, start), None, [], VALUES)
    at = start
    for size in pieces:
        end = min(at + size, shortest)
        if end == at:
            break
        ahead = min(at + tries, shortest)
        tried = live.peek(part(series, at, ahead))  # several bars in progress at once
        made = live.advance(part(series, at, end))
        for op in VALUES:
            for k in (0, 1):
                first = int(whole.panel.offsets[k])
                expected = whole.number(op)[first + at : first + end]
                got = made.number(op)[made.panel.offsets[k] : made.panel.offsets[k + 1]]
                np.testing.assert_array_equal(got, expected)
                peeked = tried.number(op)[tried.panel.offsets[k] : tried.panel.offsets[k + 1]]
                np.testing.assert_array_equal(peeked, whole.number(op)[first + at : first + ahead])
        at = end


def test_an_hour_begins_once_an_hour() -> None:
    calendar = Calendar("UTC", weekend=True)
    times = np.arange(0, 6 * 3600, 60, dtype=np.int64) + 86_400 * 20_000
    x = np.arange(len(times), dtype=float)
    bars = Bars("T", ONE_MINUTE, calendar, times, dict.fromkeys(COLUMNS, x))
    program = compile_script("rung 1\nsignal begins = new(1h)")
    live = LiveRun(program, panel_of([bars.part(0, 30)]))
    flags = [live.history.flag(program.signals[0].roles["value"])]
    for at in range(30, len(bars)):
        flags.append(live.advance(panel_of([bars.part(at, at + 1)])).flag(program.signals[0].roles["value"]))
    assert np.flatnonzero(np.concatenate(flags) == 1).tolist() == list(range(0, 360, 60))
    assert Timeframe.parse("1h").count == 60
