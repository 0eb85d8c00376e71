"""The rules that the engine is measured with, as a careful programmer would write them for numba: one fused loop each."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.bars.resample_index import marks
from oakladder.bars.timeframes import Timeframe

#: Exponential averages, whose state is kept from bar to bar.
WAVES = """rung 1
title "Waves"
let fast = ema(close, 12)
let slow = ema(close, 26)
let heat = rsi(close, 14)
let swing = atr(14)
signal go = crosses_up(fast, slow) and heat < 70 and close > slow + swing
signal fade = crosses_down(fast, slow) and heat > 30
"""
#: Conditions, a loop, and values that are kept.
STAIRS = """rung 1
title "Stairs"
keep best = none
keep since = 0
keep step = 0
if close > best or not known(best)
    set best = close
    set since = 0
else
    set since = since + 1
    if since > 20
        set best = close
        set step = step + 1
        set since = 0
fresh above = 0
for k in 1..5
    if close > close[k]
        set above = above + 1
signal go = above >= 4 and since < 3
signal fade = above <= 1 and since > 10
"""
_WEEK = Timeframe.parse("1w")
Loop = Callable[[], tuple[np.ndarray, np.ndarray]]


def _bound(panel: Panel, compiled: Callable[..., None], *given: Any) -> Loop:
    """The loop on a panel: two signals, a byte for each bar."""

    def work() -> tuple[np.ndarray, np.ndarray]:
        go, fade = np.empty(panel.size, np.int8), np.empty(panel.size, np.int8)
        compiled(*given, panel.starts, panel.ends, go, fade)
        return go, fade

    return work


def trend(panel: Panel) -> Loop:
    """The trend example with running sums."""
    import numba

    @numba.njit(cache=False)
    def loop(close, marks, fast, slow, starts, ends, go, fade):  # type: ignore[no-untyped-def]
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

    return _bound(panel, loop, panel.columns["close"], marks(panel.timeline, _WEEK), 9, 20)


def trend_of_eight(panel: Panel) -> Loop:
    """The same for eight symbols at a time, which a compiler can put on vectors; for symbols of the same times."""
    import numba

    @numba.njit(cache=False)
    def loop(close, marks, fast, slow, starts, ends, go, fade):  # type: ignore[no-untyped-def]
        sums, week_sum = np.zeros((3, 8)), np.zeros(8)
        ring, week_close, week_mean = np.zeros((30, 8)), np.zeros(8), np.zeros(8)
        f, m, pf, ps, c = np.zeros(8), np.zeros(8), np.zeros(8), np.zeros(8), np.zeros(8)
        lengths = np.array([fast, slow, 200])
        for g in range(0, len(starts) - 7, 8):
            sums[:], week_sum[:], ring[:] = 0.0, 0.0, 0.0
            week_close[:], week_mean[:], pf[:], ps[:] = np.nan, np.nan, np.nan, np.nan
            weeks = 0
            for k in range(ends[g] - starts[g]):
                for l in range(8):  # noqa: E741
                    c[l] = close[starts[g + l] + k]
                for n in range(3):
                    length = lengths[n]
                    for l in range(8):  # noqa: E741
                        sums[n, l] += c[l]
                    if k >= length:
                        for l in range(8):  # noqa: E741
                            sums[n, l] -= close[starts[g + l] + k - length]
                if marks[starts[g] + k] & 2:
                    at = weeks % 30
                    weeks += 1
                    for l in range(8):  # noqa: E741
                        week_sum[l] += c[l] - ring[at, l]
                        ring[at, l] = c[l]
                        week_close[l] = c[l]
                        week_mean[l] = week_sum[l] / 30 if weeks >= 30 else np.nan
                for l in range(8):  # noqa: E741
                    f[l] = sums[0, l] / fast if k >= fast - 1 else np.nan
                    m[l] = sums[1, l] / slow if k >= slow - 1 else np.nan
                    long = sums[2, l] / 200 if k >= 199 else np.nan
                    strong = (c[l] > long) & (week_close[l] > week_mean[l])
                    go[starts[g + l] + k] = (f[l] > m[l]) & (pf[l] <= ps[l]) & strong
                    fade[starts[g + l] + k] = (f[l] < m[l]) & (pf[l] >= ps[l])
                    pf[l], ps[l] = f[l], m[l]

    return _bound(panel, loop, panel.columns["close"], marks(panel.timeline, _WEEK), 9, 20)


def waves(panel: Panel) -> Loop:
    """`WAVES`, every average begun with the plain one of its first values."""
    import numba

    @numba.njit(cache=False)
    def loop(close, high, low, starts, ends, go, fade):  # type: ignore[no-untyped-def]
        for s in range(len(starts)):
            a, b = starts[s], ends[s]
            fast = slow = up = down = swing = np.nan
            sum_f = sum_s = sum_u = sum_d = sum_r = 0.0
            before = pf = ps = np.nan
            for i in range(a, b):
                c, k = close[i], i - a
                if k < 12:
                    sum_f += c
                    if k == 11:
                        fast = sum_f / 12
                else:
                    fast += 2 / 13 * (c - fast)
                if k < 26:
                    sum_s += c
                    if k == 25:
                        slow = sum_s / 26
                else:
                    slow += 2 / 27 * (c - slow)
                if k > 0:
                    move = c - before
                    gain, loss = max(move, 0.0), max(-move, 0.0)
                    if k <= 14:
                        sum_u += gain
                        sum_d += loss
                        if k == 14:
                            up, down = sum_u / 14, sum_d / 14
                    else:
                        up += 1 / 14 * (gain - up)
                        down += 1 / 14 * (loss - down)
                reach = max(high[i], before) - min(low[i], before) if k > 0 else high[i] - low[i]
                if k < 14:
                    sum_r += reach
                    if k == 13:
                        swing = sum_r / 14
                else:
                    swing += 1 / 14 * (reach - swing)
                heat = 100 * up / (up + down)
                go[i] = fast > slow and pf <= ps and heat < 70 and c > slow + swing
                fade[i] = fast < slow and pf >= ps and heat > 30
                before, pf, ps = c, fast, slow

    return _bound(panel, loop, *(panel.columns[name] for name in ("close", "high", "low")))


def stairs(panel: Panel) -> Loop:
    """`STAIRS`."""
    import numba

    @numba.njit(cache=False)
    def loop(close, starts, ends, go, fade):  # type: ignore[no-untyped-def]
        for s in range(len(starts)):
            a, b = starts[s], ends[s]
            best, since, step = -np.inf, 0, 0
            for i in range(a, b):
                c = close[i]
                if c > best:
                    best, since = c, 0
                else:
                    since += 1
                    if since > 20:
                        best, since = c, 0
                        step += 1
                above = 0
                for k in range(1, min(5, i - a) + 1):
                    if c > close[i - k]:
                        above += 1
                go[i] = above >= 4 and since < 3
                fade[i] = above <= 1 and since > 10

    return _bound(panel, loop, panel.columns["close"])
