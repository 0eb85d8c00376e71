"""Values by their order in a window: against sorting, in both runners, tried and kept."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import random_bars, values
from oakladder.bars.bars import Bars
from oakladder.bars.panels import panel_of
from oakladder.engine.stream.live import LiveRun
from oakladder.rung import compile_script


def ranked(x: np.ndarray, n: int, k: int) -> np.ndarray:
    made = np.full(len(x), np.nan)
    for i in range(n - 1, len(x)):
        window = np.sort(x[i - n + 1 : i + 1])
        made[i] = window[k - 1] if not np.isnan(window).any() else np.nan
    return made


def rank_of(x: np.ndarray, n: int) -> np.ndarray:
    made = np.full(len(x), np.nan)
    for i in range(n - 1, len(x)):
        window = x[i - n + 1 : i + 1]
        made[i] = (window < x[i]).sum() if not np.isnan(window).any() else np.nan
    return made


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10_000), st.integers(1, 25), st.integers(1, 25), st.booleans())
def test_a_place_in_the_window_is_the_one_of_the_sorted_window(seed: int, n: int, k: int, holes: bool) -> None:
    bars = random_bars(seed, 90, holes=holes)
    k = min(k, n)
    text = f"let a = ranked(close - 100, {n}, {k})\nlet b = rank_of(close - 100, {n})"
    x = bars["close"] - 100
    for reference in (False, True):
        made = values(text, bars, reference=reference)
        np.testing.assert_array_equal(made["a"], ranked(x, n, k))
        np.testing.assert_array_equal(made["b"], rank_of(x, n))


@pytest.mark.parametrize("n", [1, 2, 7, 440])
def test_long_windows_and_ties(n: int) -> None:
    rng = np.random.default_rng(n)
    close = np.round(rng.normal(0, 2, 1500)) + 50.0
    from helpers import daily_bars

    made = values(f"let a = median(close, {n})\nlet b = percent_rank(close, {max(n, 2)})", daily_bars(close))
    expected = [np.nan] * (n - 1) + [float(np.median(close[i - n + 1 : i + 1])) for i in range(n - 1, len(close))]
    np.testing.assert_array_equal(made["a"], expected)
    np.testing.assert_array_equal(made["b"], 100 * rank_of(close, max(n, 2)) / (max(n, 2) - 1))


def test_both_zeros_are_one_value() -> None:
    from helpers import daily_bars

    close = np.array([0.0, -0.0, 0.0, -0.0, 1.0, -1.0, -0.0, 0.0])
    made = values("let a = ranked(close, 3, 2)", daily_bars(close))["a"]
    assert not np.signbit(made[2:4]).any()


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 1000), st.integers(1, 12))
def test_a_bar_that_is_tried_leaves_the_window_as_it_was(seed: int, n: int) -> None:
    program = compile_script(
        f"rung 1\nlet a = ranked(close, {n}, {(n + 1) // 2})\nlet b = rank_of(close, {n})\n"
        f"let c = median(close, {n}) on 1w forming\nlet d = ranked(high, {n}, 1) on 1w"
    )
    extra = list(program.plan.values.values())
    bars = random_bars(seed, 60)
    live = LiveRun(program, panel_of([bars.part(0, 30)]), None, [], extra)
    whole = LiveRun(program, panel_of([bars]), None, [], extra).history
    for at in range(30, 60):
        for price in (1.0, 500.0):
            wild = {name: np.array([price]) for name in bars.columns}
            live.peek(panel_of([Bars(bars.symbol, bars.timeframe, bars.calendar, bars.times[at : at + 1], wild)]))
        tried = live.peek(panel_of([bars.part(at, at + 1)]))
        made = live.advance(panel_of([bars.part(at, at + 1)]))
        for op in extra:
            np.testing.assert_array_equal(made.number(op), whole.number(op)[at : at + 1])
            np.testing.assert_array_equal(tried.number(op), made.number(op))
