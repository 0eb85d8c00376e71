"""Other timeframes and going on: nothing is seen before it is complete, and history equals live, bit for bit."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import daily_bars, random_bars, values
from oakladder.bars.bars import Bars
from oakladder.bars.panels import panel_of
from oakladder.bars.resample import resample
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.run.execute import run
from oakladder.engine.stream.live import LiveRun
from oakladder.rung import RunProblem, compile_script

SCRIPT = """rung 1
setting span = 3 range 1..40
let w = sma(close, span) on 1w
let m = close on 1mo
let f = highest(high, span) on 1w forming
let r = rsi(close, 5) + stdev(close, span) + close[span]
keep n = 0
if close > w
    set n = n + 1
let c = (crosses_up(close, open) on 1w) and close > m
"""


def run_all(bars: Bars) -> dict[str, np.ndarray]:
    program = compile_script(SCRIPT)
    result = run(program, panel_of([bars]), {"span": 4}, outputs=[], extra=list(program.plan.values.values()))
    return {name: result.number(op) for name, op in program.plan.values.items()}


def test_cutting_the_data_at_any_bar_changes_nothing_before_it() -> None:
    bars = random_bars(11, 130)
    whole = run_all(bars)
    for end in range(1, len(bars)):
        cut = run_all(bars.part(0, end))
        for name in whole:
            np.testing.assert_array_equal(cut[name], whole[name][:end], err_msg=f"{name} at {end}")


def test_a_week_is_seen_from_its_last_bar_on() -> None:
    # 15,000 days after 1970-01-01 was a Monday minus three: the first bars are Wednesday to Friday.
    closes = np.arange(1.0, 14)
    bars = daily_bars(closes, first_day=15_000)
    weekday = (bars.calendar.days(bars.times) + 3) % 7
    made = values("let w = close on 1w\nlet f = close on 1w forming\nlet o = open on 1w forming", bars)
    seen, expected = np.nan, []
    for day, close in zip(weekday, closes, strict=True):
        seen = close if day == 4 else seen
        expected.append(seen)
    np.testing.assert_array_equal(made["w"], expected)
    np.testing.assert_array_equal(made["f"], closes)
    first = np.flatnonzero(weekday == 0)[0]
    assert (made["o"][first : first + 5] == closes[first]).all()


@pytest.mark.parametrize(
    "expression", ["sma(close, 3)", "rsi(close, 4)", "highest(high, 5) - lowest(low, 5)", "volume", "open", "bar"]
)
def test_a_longer_timeframe_has_the_values_of_its_own_chart(market: BarLibrary, expression: str) -> None:
    bars = market.bars("BRINE", ONE_DAY)
    week = Timeframe.parse("1w")
    weekly = resample(bars, week)
    own = values(f"let x = {expression}", weekly)["x"]
    seen = values(f"let x = ({expression}) on 1w", bars)["x"]
    ends = bars.calendar.closes(weekly.times, week)
    at = np.searchsorted(ends, bars.calendar.closes(bars.times, ONE_DAY), "right") - 1
    np.testing.assert_array_equal(seen, np.where(at >= 0, own[np.maximum(at, 0)], np.nan))


def test_minutes_know_the_days_before_their_first(market: BarLibrary) -> None:
    hour = Timeframe.parse("1h")
    panel = market.panel(["BRINE", "GULLW"], hour)
    made = values("let x = sma(close, 200) on 1d", panel)["x"]
    assert not np.isnan(made[panel.starts]).any()
    days = market.bars("GULLW", ONE_DAY)
    last = panel.bars(1)
    assert last.times[-1] > days.times[-1]
    assert made[-1] == pytest.approx(days["close"][-200:].mean(), rel=1e-12)


def test_a_shorter_timeframe_is_refused_in_words() -> None:
    program = compile_script("rung 1\nline close on 1h")
    with pytest.raises(RunProblem, match="shorter than the 1d"):
        run(program, panel_of([daily_bars([1, 2, 3])]))


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 1000), st.lists(st.integers(0, 9), min_size=1, max_size=12))
def test_history_then_bar_by_bar_is_all_at_once(seed: int, pieces: list[int]) -> None:
    program = compile_script(SCRIPT)
    extra = list(program.plan.values.values())
    series = [random_bars(seed, 90), random_bars(seed + 1, 90)]
    whole = run(program, panel_of(series), {"span": 4}, outputs=[], extra=extra)
    start = 90 - sum(pieces) if sum(pieces) < 90 else 1
    live = LiveRun(program, panel_of([b.part(0, start) for b in series]), {"span": 4}, [], extra)
    got = {op: [[live.history.number(op)[:start]], [live.history.number(op)[start:]]] for op in extra}
    at = start
    for size in pieces:
        end = min(at + size, 90)
        tried = live.peek(panel_of([b.part(at, min(at + 1, 90)) for b in series]))
        made = live.advance(panel_of([b.part(at, end) for b in series]))
        for op in extra:
            numbers = made.number(op)
            got[op][0].append(numbers[: end - at])
            got[op][1].append(numbers[end - at :])
            if end > at:
                assert tried.number(op)[0] == numbers[0] or np.isnan(numbers[0])
        at = end
    for op in extra:
        for k in (0, 1):
            expected = whole.number(op)[k * 90 : k * 90 + at]
            np.testing.assert_array_equal(np.concatenate(got[op][k]), expected)


def test_a_bar_in_progress_leaves_no_trace() -> None:
    program = compile_script(SCRIPT)
    extra = list(program.plan.values.values())
    bars = random_bars(4, 60, holes=False)
    live = LiveRun(program, panel_of([bars.part(0, 50)]), None, [], extra)
    before = live.state.copy()
    for price in (1.0, 500.0, 90.0):
        wild = {k: np.array([price]) for k in bars.columns}
        live.peek(panel_of([Bars(bars.symbol, bars.timeframe, bars.calendar, bars.times[50:51], wild)]))
    made = live.advance(panel_of([bars.part(50, 60)]))
    fresh = LiveRun(program, panel_of([bars]), None, [], extra)
    for op in extra:
        np.testing.assert_array_equal(made.number(op), fresh.history.number(op)[50:])
    assert before.shape == live.state.shape
